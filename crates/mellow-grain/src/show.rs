//! The commands that only print.

use fault::Fault;
use picture::{View, against, files, metrics};
use std::io::Write;
use std::path::Path;
use tuning::KNOBS;

/// Prints to standard output; a closed pipe ends quietly.
fn print(text: &str) -> Result<(), Fault> {
    match writeln!(std::io::stdout(), "{text}") {
        Err(e) if e.kind() != std::io::ErrorKind::BrokenPipe => Err(Fault::io("standard output", &e)),
        _ => Ok(()),
    }
}

pub fn knobs(json: bool) -> Result<(), Fault> {
    if json {
        return print(&serde_json::to_string_pretty(KNOBS).unwrap_or_default());
    }
    for k in KNOBS {
        let unit = if k.unit.is_empty() { String::new() } else { format!(" {}", k.unit) };
        print(&format!("{:<24} {}{unit} ({})\n    {}", k.id, k.default, k.range(), k.help))?;
    }
    Ok(())
}

pub fn compare(a: &Path, b: &Path, json: bool) -> Result<(), Fault> {
    let (pa, pb) = (files::read_picture(a)?, files::read_picture(b)?);
    if (pa.width, pa.height) != (pb.width, pb.height) {
        return Err(Fault::new(
            fault::Code::Contradiction,
            format!("{}×{} pixels cannot be compared with {}×{}", pa.width, pa.height, pb.width, pb.height),
            b.display().to_string(),
            "compare pictures of one size",
        ));
    }
    let m = metrics::compare(&pa.pixels, &pb.pixels, (pa.width, pa.height), &View::PLAIN)?;
    let light = against::brightness(&pa.pixels, &pb.pixels, pa.width);
    if json {
        let mut all = serde_json::json!(m);
        if let (Some(all), serde_json::Value::Object(light)) = (all.as_object_mut(), serde_json::json!(light)) {
            all.extend(light);
        }
        return print(&serde_json::to_string_pretty(&all).unwrap_or_default());
    }
    let or = |x: Option<f64>, none: &str, unit: &str| x.map_or(none.to_string(), |v| format!("{v:.4}{unit}"));
    print(&format!(
        "RMSE          {:.6}\nrelative MSE  {:.6}\nPSNR          {}\nSSIM          {}\nFLIP          {:.4}\nbrightness    {}",
        m.rmse,
        m.relative_mse,
        or(m.psnr, "infinite (equal on display)", " dB"),
        or(m.ssim, "not defined below 11×11 pixels", ""),
        m.flip,
        light.words,
    ))
}
