//! `mellow-grain render`: one picture from a scene file, without server or data folder.

use clap::Args;
use fault::{Code, Fault};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use picture::Region;
use scene::{Environment, ImportReport, ShotEdits, load};
use serde::Serialize;
use std::borrow::Cow;
use std::io::IsTerminal;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Instant;
use tracer::deliver::{Delivered, Delivery, FileKind};
use tracer::{Description, Render, RenderReport, Stage, VERSION, cores, own_pool};
use tuning::{K, Tuning};

#[derive(Args)]
pub struct Options {
    /// The scene: glTF 2.0 (.glb or .gltf) or OBJ.
    scene: PathBuf,
    /// Camera by name; the first one without.
    #[arg(long)]
    camera: Option<String>,
    /// Light from all around: Radiance HDR or OpenEXR.
    #[arg(long)]
    environment: Option<PathBuf>,
    /// Size of the frame, e.g. 1280x720.
    #[arg(long)]
    size: Option<String>,
    /// Only this part of the frame: X,Y,WIDTH,HEIGHT in pixels.
    #[arg(long)]
    region: Option<String>,
    /// Knob values as one JSON object.
    #[arg(long)]
    tuning: Option<PathBuf>,
    /// One knob, e.g. sampling.most=64; wins over --tuning and --size.
    #[arg(long = "set", value_name = "ID=VALUE")]
    set: Vec<String>,
    /// A .cube table for the view of display files and of judging.
    #[arg(long)]
    table: Option<PathBuf>,
    /// Shot edits (lights, media, camera move) as JSON.
    #[arg(long)]
    edits: Option<PathBuf>,
    /// Focus on what lies at this pixel of the frame: X,Y; wins over frame.focus.
    #[arg(long, value_name = "X,Y")]
    focus_at: Option<String>,
    /// Threads that render; all processors without.
    #[arg(long)]
    threads: Option<usize>,
    /// File to write, .exr, .png or .tif; may be given more than once.
    #[arg(long)]
    out: Vec<PathBuf>,
    /// Report to write as JSON.
    #[arg(long)]
    report: Option<PathBuf>,
}

#[derive(Serialize)]
struct PhaseTime {
    phase: tracer::Phase,
    seconds: f64,
}

#[derive(Serialize)]
struct Report<'a> {
    phases: Vec<PhaseTime>,
    #[serde(flatten)]
    render: RenderReport,
    camera: &'a str,
    frame: (u32, u32),
    region: Option<Region>,
    import: &'a ImportReport,
    tuning: &'a Tuning,
    version: &'a str,
}

fn numbers<const N: usize>(text: &str, separator: char, option: &str, example: &str) -> Result<[u32; N], Fault> {
    let list: Option<Vec<u32>> = text.split(separator).map(|p| p.trim().parse().ok()).collect();
    list.and_then(|l| l.try_into().ok()).ok_or_else(|| {
        Fault::new(Code::NotANumber, format!("\"{text}\" cannot be read"), option, format!("write it like {example}"))
    })
}

fn tuning_of(o: &Options) -> Result<Tuning, Fault> {
    let mut t = match &o.tuning {
        Some(file) => {
            let (text, place) = text_of(file)?;
            Tuning::from_json(&text, &place)?
        }
        None => Tuning::default(),
    };
    if let Some(size) = &o.size {
        let [w, h] = numbers::<2>(size, 'x', "--size", "1280x720")?;
        t.set("frame.width", &w.into()).map_err(|f| f.within("--size"))?;
        t.set("frame.height", &h.into()).map_err(|f| f.within("--size"))?;
    }
    for assignment in &o.set {
        t.set_text(assignment).map_err(|f| f.within("--set"))?;
    }
    if let Some(file) = &o.table {
        let (text, place) = text_of(file)?;
        let id = picture::cube::keep(picture::cube::Cube::read(&text, &place)?);
        t.set("view.table", &id.into())?;
        t.set("view.transform", &"table".into())?;
    }
    t.check()?;
    Ok(t)
}

fn text_of(file: &std::path::Path) -> Result<(String, String), Fault> {
    let place = file.display().to_string();
    let text = std::fs::read_to_string(file).map_err(|e| Fault::io(place.clone(), &e))?;
    Ok((text, place))
}

pub fn run(o: &Options) -> Result<(), Fault> {
    // Everything that can be refused is refused before work begins.
    for out in &o.out {
        FileKind::of(out)?;
    }
    let tuning = tuning_of(o)?;
    let region = match &o.region {
        Some(text) => {
            let [x, y, width, height] = numbers::<4>(text, ',', "--region", "100,50,320,200")?;
            Some(Region { x, y, width, height })
        }
        None => None,
    };
    let edits = match &o.edits {
        Some(file) => {
            let (text, place) = text_of(file)?;
            ShotEdits::from_json(&text, &place)?
        }
        None => ShotEdits::default(),
    };
    let focus_at = o.focus_at.as_ref().map(|text| numbers::<2>(text, ',', "--focus-at", "480,270")).transpose()?;
    let threads = o.threads.unwrap_or_else(cores);
    if threads == 0 || threads > 1024 {
        return Err(Fault::new(Code::OutOfRange, format!("{threads} threads"), "--threads", "give 1 to 1024"));
    }
    let bar = ProgressBar::with_draw_target(
        Some(1000),
        if std::io::stderr().is_terminal() { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() },
    );
    if let Ok(style) = ProgressStyle::with_template("{msg:>10} {wide_bar} {percent:>3} % {elapsed}") {
        bar.set_style(style);
    }
    let mut phases = Vec::new();
    let mut clock = Instant::now();
    let mut phase = |phase: tracer::Phase, phases: &mut Vec<PhaseTime>| {
        phases.push(PhaseTime { phase, seconds: clock.elapsed().as_secs_f64() });
        clock = Instant::now();
    };

    bar.set_message("loading");
    let scene = Arc::new(load(&o.scene)?);
    let environment = match &o.environment {
        Some(file) => {
            let place = file.display().to_string();
            let bytes = std::fs::read(file).map_err(|e| Fault::io(place.clone(), &e))?;
            Some(Arc::new(Environment::read(&bytes, &place)?))
        }
        None => None,
    };
    let camera = scene.camera(o.camera.as_deref()).map_err(|f| f.within(&o.scene.display().to_string()))?.name.clone();
    for e in scene.report.entries.iter().filter(|e| e.handling != scene::Handling::Read) {
        eprintln!(
            "{}: {:?}: {}{}",
            o.scene.display(),
            e.handling,
            e.feature,
            if e.note.is_empty() { String::new() } else { format!(" ({})", e.note) }
        );
    }
    if environment.as_ref().is_some_and(|e| e.eight_bit) {
        eprintln!("environment: stored with 8 bits, highlights are clipped and reflections come out dull");
    }
    let sky = environment.as_ref().map(|e| e.hash.as_str());
    let mut description = Description { region, edits, ..Description::new(&scene.hash, sky, &camera, tuning) };
    description.check()?;
    description.edits.check(&scene).map_err(|f| match &o.edits {
        Some(file) => f.within(&file.display().to_string()),
        None => f,
    })?;
    phase(tracer::Phase::Loading, &mut phases);

    bar.set_message("preparing");
    let stage = Arc::new(Stage::new(scene.clone(), environment));
    phases.push(PhaseTime { phase: tracer::Phase::Structure, seconds: stage.times.structure });
    phases.push(PhaseTime { phase: tracer::Phase::Lights, seconds: stage.times.tables });
    phase(tracer::Phase::Sampling, &mut Vec::new());

    if let Some([x, y]) = focus_at {
        let (w, h) = description.frame();
        let at = ((x as f32 + 0.5) / w as f32, (y as f32 + 0.5) / h as f32);
        let distance = stage.focus_at(scene.camera(Some(&camera))?, (w, h), at).ok_or_else(|| {
            let remedy = "choose a pixel of the frame where an object is seen";
            Fault::new(Code::NotFound, format!("nothing is seen at pixel {x}, {y}"), "--focus-at", remedy)
        })?;
        description.tuning.set("frame.focus", &distance.into())?;
        eprintln!("focus at {distance:.3} m");
    }

    bar.set_message("sampling");
    let mut render = Render::new(stage, description.clone(), Arc::new(own_pool(threads)?), false)?;
    let never = AtomicBool::new(false);
    while render.step(&never) {
        bar.set_position((render.progress().share * 1000.0) as u64);
    }
    phase(tracer::Phase::Sampling, &mut phases);

    bar.set_message("denoise");
    let plate = render.plate();
    let delivered = Delivered::of(&plate, &description);
    phase(tracer::Phase::Denoise, &mut phases);

    bar.set_message("writing");
    let mattes = description.tuning.switch(K::DeliveryMattes).then(|| render.mattes());
    let delivery = Delivery { plate: Cow::Borrowed(&plate), delivered: &delivered, description: &description, mattes };
    for out in &o.out {
        for note in delivery.write(out)?.notes {
            eprintln!("{}: {note}", out.display());
        }
    }
    phase(tracer::Phase::Writing, &mut phases);
    bar.finish_and_clear();

    let report = Report {
        phases,
        render: render.report(),
        camera: &camera,
        frame: description.frame(),
        region,
        import: &scene.report,
        tuning: &description.tuning,
        version: VERSION,
    };
    if let Some(file) = &o.report {
        let text = serde_json::to_vec_pretty(&report).map_err(|e| Fault::internal(e.to_string(), "report"))?;
        picture::files::write_whole(file, |out| {
            use std::io::Write;
            out.write_all(&text).map_err(|e| Fault::io(file.display().to_string(), &e))
        })?;
    }
    summary(&report);
    Ok(())
}

fn summary(r: &Report) {
    let area = r.region.unwrap_or(Region::whole(r.frame.0, r.frame.1));
    let rays: u64 = r.render.rays.iter().map(|k| k.rays).sum();
    eprintln!(
        "camera \"{}\", {}×{} px: {:.1} s on {} threads, {:.1} samples a pixel, {:.2} million rays/s",
        r.camera,
        area.width,
        area.height,
        r.render.seconds,
        r.render.threads,
        r.render.samples_per_pixel,
        rays as f64 / r.render.seconds.max(1e-9) / 1e6
    );
    eprintln!(
        "grain {:.2} % of the display range, worst block {:.2} %; {:.0} % settled, {:.0} % capped",
        r.render.grain * 100.0,
        r.render.worst_block * 100.0,
        r.render.settled * 100.0,
        r.render.capped * 100.0
    );
}
