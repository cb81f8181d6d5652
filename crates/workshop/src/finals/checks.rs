//! What is looked at before a final starts.

use super::work::there;
use super::{NewFinal, series};
use crate::{AdviceState, Workshop};
use advice::{FILMS, Forecast, spoken};
use fault::Fault;
use scene::Handling;
use serde::Serialize;
use store::Policy;
use tracer::{Description, Limits, clean_up_of, free_memory};
use ts_rs::TS;
use tuning::K;

/// Sources of samples that are named.
const NAMED: usize = 3;

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
        match self.names(shot, new, &frames, self.0.store.next_final()?) {
            Ok(names) => {
                let ends = match names.bases.as_slice() {
                    [first, .., last] => format!("{first} … {last}"),
                    [only] => only.clone(),
                    [] => String::new(),
                };
                let why = if names.evaded { "; the names are taken, so they go on counting" } else { "" };
                out.push(line("names", !names.evaded, format!("{ends}{why}")));
            }
            Err(f) => out.push(line("names", false, format!("{}; {}", f.what, f.remedy))),
        }
        if new.policy == Policy::Time {
            // What comes after sampling, and two samples of every pixel.
            let after = self.usual_reserve(&own) + self.machine().start;
            let each = known_each(&self.frame_forecasts(shot, &frames)?);
            let least = after + each.unwrap_or(0.0) * 2.0;
            if least > row.budget {
                let what =
                    if after > 0.5 * least { "clean-up, mattes and files" } else { "two samples of every pixel" };
                let state = format!(
                    "not to be done in {}: it takes about {}, most of it for {what}",
                    spoken(row.budget),
                    spoken(least)
                );
                out.push(line("budget", false, state));
            }
        }
        let overlays = self.overlays_on(shot)?;
        if !overlays.is_empty() {
            let names: Vec<&str> = overlays.iter().map(|(n, _)| n.as_str()).collect();
            out.push(line("drafts", true, format!("for tests only, ignored: {}", names.join(", "))));
        }
        let denoiser = clean_up_of(t).denoises().map_or("none", |m| m.name());
        out.push(line("denoiser", true, denoiser));
        out.extend(self.findings(shot, &own)?);
        let limits = Limits::of(t);
        let known = self.frame_forecasts(shot, &frames)?;
        let blind = known.iter().filter(|f| f.is_none()).count();
        let known: Vec<Forecast> = known.into_iter().flatten().collect();
        if blind > 0 {
            let which =
                if frames.len() > 1 { format!("{blind} of {} frames are ", frames.len()) } else { String::new() };
            out.push(line("forecast", false, format!("{which}not forecast: run a pilot at each camera to know")));
        }
        let worst = |of: fn(&Forecast) -> f64| known.iter().map(of).fold(0.0, f64::max);
        if let Some(first) = known.first() {
            // Frames of a series have cameras of their own.
            let sources = match (frames.as_slice(), &new.plan) {
                ([(d, _)], None) => self.sources(shot, d, None)?,
                _ => Vec::new(),
            };
            let (names, saved) = there(&sources, self.pool().current_num_threads());
            let (budget, longest) = (row.budget, (worst(|f| f.seconds) - saved).max(0.0));
            // If other programs go on as they did while it was tested.
            let beside = (worst(|f| f.beside) - saved).max(0.0);
            let crowded = beside > 1.1 * longest && new.policy == Policy::Cleanness;
            let fits = new.policy == Policy::Time || longest.max(if crowded { beside } else { 0.0 }) <= budget;
            let total: f64 = known.iter().map(|f| if new.policy == Policy::Time { budget } else { f.seconds }).sum();
            let state = if frames.len() > 1 {
                let each = if fits { String::new() } else { format!(", the longest frame {}", spoken(longest)) };
                format!(
                    "forecast {} for {} frames{each}, budget {} a frame",
                    spoken(total),
                    known.len(),
                    spoken(budget)
                )
            } else {
                let less = if saved < 0.5 { String::new() } else { format!(" to come, {} are there", spoken(saved)) };
                let end = if fits && longest > budget { "it ends after the budget of" } else { "budget" };
                format!("forecast {}{less}, {end} {}", spoken(longest), spoken(budget))
            };
            let crowd = if crowded {
                format!("; {} if other programs take as much as while it was tested", spoken(beside))
            } else {
                String::new()
            };
            out.push(line("time", fits, state + &crowd));
            if !names.is_empty() {
                let more = match names.len().saturating_sub(NAMED) {
                    0 => String::new(),
                    n => format!(" and {n} more"),
                };
                let named = names[..names.len().min(NAMED)].join(", ");
                out.push(line("samples", true, format!("of {named}{more}: not rendered again")));
            }
            let settled = known.iter().map(|f| f.settled).fold(1.0, f64::min);
            out.push(if longest > budget && new.policy == Policy::Time {
                // As many samples as the time is for; noise falls with the root of their number.
                let share =
                    (budget + saved - self.usual_reserve(&own) - self.machine().start).max(0.0) / first.sampling;
                let (samples, noise) = (share * first.samples_per_pixel, first.grain / share.clamp(1e-6, 1.0).sqrt());
                let state = format!(
                    "about {samples:.0} samples a pixel in that time: noise about {:.1} %, the threshold is {:.2} %",
                    100.0 * noise.min(1.0),
                    100.0 * limits.threshold
                );
                line("cleanness", false, state)
            } else {
                let state = format!(
                    "{:.0} % of the picture is expected to reach {:.2} % within {} samples",
                    100.0 * settled,
                    100.0 * limits.threshold,
                    2 * limits.most
                );
                line("cleanness", 1.0 - settled < 0.02, state)
            });
            if !first.needs_test.is_empty() {
                let changed = first.needs_test.join(", ");
                out.push(line("pilot", false, format!("needed, for these changed since the test: {changed}")));
            }
            let memory = worst(|f| f.memory);
            if let Some(free) = free_memory() {
                out.push(line(
                    "memory",
                    memory < 0.8 * free,
                    format!("{} needed, {} free", gigabytes(memory), gigabytes(free)),
                ));
            }
            let files = frames.len() as f64 * worst(|f| f.files.iter().map(|x| x.bytes).sum());
            // The latest film and the one that takes its place.
            let state_bytes = 2.0 * memory / FILMS;
            if let Some(free) = free_disk(self.0.store.root()) {
                let state = format!(
                    "{} of files and {} of working state, {} free",
                    gigabytes(files),
                    gigabytes(state_bytes),
                    gigabytes(free)
                );
                out.push(line("disk", files + state_bytes < 0.9 * free, state));
            }
        }
        if t.whole(K::SamplingLeast) < 16 && limits.adaptive {
            out.push(line("least samples", false, "below 16 a pixel rare light can be missed"));
        }
        Ok(out)
    }

    /// What the import could not take over as it stood in the file, and advice that nobody has answered.
    fn findings(&self, shot: i64, own: &Description) -> Result<Vec<Check>, Fault> {
        let mut out = Vec::new();
        let scene = self.import_report(&own.scene)?;
        let lost: Vec<&str> =
            scene.entries.iter().filter(|e| e.handling == Handling::Ignored).map(|e| e.feature.as_str()).collect();
        if !lost.is_empty() {
            out.push(line("scene", false, format!("not taken over from its file: {}", lost.join(", "))));
        }
        let best = self.best_forecast(shot, &own.tuning)?;
        if let Some((proof, name)) = best.and_then(|b| b.advised) {
            let lines = self.advice(proof).map(|a| a.lines).unwrap_or_default();
            let open: Vec<&str> =
                lines.iter().filter(|l| l.state == AdviceState::New).map(|l| l.advice.title.as_str()).collect();
            if !open.is_empty() {
                out.push(line("advice", false, format!("open since {name}: {}", open.join("; "))));
            }
        }
        Ok(out)
    }
}

/// Seconds of one sample of every pixel, by the slowest frame that is forecast.
fn known_each(forecasts: &[Option<Forecast>]) -> Option<f64> {
    let each = |f: &Forecast| f.sampling / f.samples_per_pixel.max(1.0);
    forecasts.iter().flatten().map(each).max_by(f64::total_cmp)
}

/// Bytes that are free on the disk of a folder.
pub(crate) fn free_disk(folder: &std::path::Path) -> Option<f64> {
    use std::os::unix::ffi::OsStrExt;
    let path = std::ffi::CString::new(folder.as_os_str().as_bytes()).ok()?;
    // SAFETY: a plain system call that writes into the local struct only.
    let (code, s) = unsafe {
        let mut s: libc::statvfs = std::mem::zeroed();
        (libc::statvfs(path.as_ptr(), &mut s), s)
    };
    (code == 0).then_some(s.f_bavail as f64 * s.f_frsize as f64)
}
