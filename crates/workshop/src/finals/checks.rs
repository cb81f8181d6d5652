//! What is looked at before a final starts.

use super::{NewFinal, Policy, series};
use crate::Workshop;
use advice::spoken;
use fault::Fault;
use serde::Serialize;
use tracer::{Limits, clean_up_of};
use ts_rs::TS;
use tuning::K;

/// One line of the check.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Check {
    pub what: &'static str,
    pub state: String,
    /// Nothing to think about.
    pub fine: bool,
}

fn line(what: &'static str, fine: bool, state: impl Into<String>) -> Check {
    Check { what, fine, state: state.into() }
}

fn gigabytes(bytes: f64) -> String {
    if bytes < 1e9 { format!("{:.0} MB", bytes / 1e6) } else { format!("{:.1} GB", bytes / 1e9) }
}

impl Workshop {
    /// Everything that makes a final come out otherwise than meant, looked at before it starts.
    pub fn check_final(&self, shot: i64, new: &NewFinal) -> Result<Vec<Check>, Fault> {
        let row = self.0.store.shot(shot)?;
        let own = self.description(shot, None)?;
        let frames = series::frames(&own, new)?;
        let t = &own.tuning;
        let mut out = Vec::new();
        let cameras: Vec<&str> =
            if new.cameras.is_empty() { vec![&own.camera] } else { new.cameras.iter().map(String::as_str).collect() };
        out.push(line("camera", true, cameras.join(if new.series.is_some() { " → " } else { ", " })));
        let (w, h) = own.frame();
        let (fw, fh) = own.film_frame();
        let rendered = if (w, h) == (fw, fh) { String::new() } else { format!(", rendered at {fw} × {fh}") };
        out.push(line("size", true, format!("{w} × {h} px{rendered}, the whole frame")));
        if new.series.is_some() {
            out.push(line("frames", true, format!("{} frames, each to the budget", frames.len())));
        }
        let overlays = self.overlays_on(shot)?;
        if !overlays.is_empty() {
            let names: Vec<&str> = overlays.iter().map(|(n, _)| n.as_str()).collect();
            out.push(line("drafts", true, format!("for tests only, ignored: {}", names.join(", "))));
        }
        let denoiser = clean_up_of(t).denoises().map_or("none", |m| m.name());
        out.push(line("denoiser", true, denoiser));
        let forecast = self.best_forecast(shot, t)?;
        let limits = Limits::of(t);
        match &forecast {
            Some((f, ..)) => {
                let budget = row.budget;
                let fits = f.seconds <= budget || new.policy == Policy::Time;
                let open = 1.0 - f.settled;
                out.push(line("time", fits, format!("forecast {}, budget {}", spoken(f.seconds), spoken(budget))));
                out.push(line(
                    "cleanness",
                    open < 0.02,
                    format!(
                        "{:.0} % of the picture is expected to reach {:.2} % within {} samples",
                        100.0 * f.settled,
                        100.0 * limits.threshold,
                        2 * limits.most
                    ),
                ));
                let known = f.needs_test.is_empty();
                if !known {
                    out.push(line(
                        "forecast",
                        false,
                        format!("a pilot is needed: {} changed", f.needs_test.join(", ")),
                    ));
                }
                if let Some(free) = free_memory() {
                    let fine = f.memory < 0.8 * free;
                    out.push(line("memory", fine, format!("{} needed, {} free", gigabytes(f.memory), gigabytes(free))));
                }
                let files: f64 = f.files.iter().map(|x| x.bytes).sum();
                let film = f.memory;
                if let Some(free) = free_disk(self.0.store.root()) {
                    let needed = files * frames.len() as f64 + 2.0 * film;
                    let state = format!(
                        "{} of files and {} of working state, {} free",
                        gigabytes(files * frames.len() as f64),
                        gigabytes(2.0 * film),
                        gigabytes(free)
                    );
                    out.push(line("disk", needed < 0.9 * free, state));
                }
            }
            None => out.push(line("time", false, "not forecast: run a pilot to know")),
        }
        if t.whole(K::SamplingLeast) < 16 && limits.adaptive {
            out.push(line("least samples", false, "below 16 a pixel rare light can be missed"));
        }
        Ok(out)
    }
}

/// Bytes of memory that can be had without swapping; none where the system does not say.
fn free_memory() -> Option<f64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text.lines().find(|l| l.starts_with("MemAvailable:"))?;
    line.split_whitespace().nth(1)?.parse::<f64>().ok().map(|kb| 1024.0 * kb)
}

/// Bytes that are free on the disk of a folder.
fn free_disk(folder: &std::path::Path) -> Option<f64> {
    use std::os::unix::ffi::OsStrExt;
    let path = std::ffi::CString::new(folder.as_os_str().as_bytes()).ok()?;
    // SAFETY: a plain system call that writes into the local struct only.
    let (code, s) = unsafe {
        let mut s: libc::statvfs = std::mem::zeroed();
        (libc::statvfs(path.as_ptr(), &mut s), s)
    };
    (code == 0).then_some(s.f_bavail as f64 * s.f_frsize as f64)
}
