//! Forecasts against finals: `./run bench forecast`. Scenes: the three of the demo, six for denoisers, and openly licensed
//! objects from registry packages, fixed by hash (see `open_scenes.py`), where their folder is given. For three sizes and three
//! thresholds, such that finals take one to four minutes, pilots with other seeds that take a twentieth of the final's time each
//! foretell it. `quick` takes one size and threshold of each scene, `regions` compares forecasts from parts of frames with those from
//! all. With a folder in `KEEP` what the finals took is put there, and finals that are there are not rendered again: to try other
//! pilots, whose samples then tell more than their times, for processors are not always as fast.
//!
//! A final's time is told three times: by the clock; with its processor seconds divided by as many workers as the pilot had, which
//! leaves out how busy the machine was meanwhile; and as if the pilot had run at the pace at which the final rendered the same
//! blocks, which also leaves out how fast the processors were: pilots take seconds, and on shared machines seconds differ.

#[path = "subjects/mod.rs"]
mod subjects;

use advice::{Machine, Measured, forecast};
use picture::Region;
use serde::{Deserialize, Serialize};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use subjects::{Subject, demo_subjects, describe, open_subjects, rendered, trial_subjects};
use tracer::{Description, PilotRun, Render, RenderReport, SavedCounts, cores, own_pool, superblocks};
use tuning::{K, Tuning};

const SIZES: [(u32, u32); 3] = [(480, 300), (720, 450), (320, 200)];
/// Seconds that finals are to take, from coarse to fine: their thresholds follow from them.
const TIMES: [f64; 3] = [80.0, 120.0, 180.0];
/// Share of the final's time that a pilot gets, as in the workshop.
const PILOT: f64 = 0.05;

/// Pilots of each final: where light is rare they say different things.
const PILOTS: u32 = 3;

struct Row {
    error: f64,
    by_clock: f64,
    at_pace: f64,
    samples: f64,
    inside: bool,
    share: f64,
}

/// A final of about so many seconds, and pilots of a twentieth of what it takes.
fn measure(s: &Subject, t: &Tuning, seconds: f64) -> Vec<Row> {
    let then = last(s, t, seconds);
    let t = t.clone().with(K::SamplingThreshold, then.threshold);
    (1..=PILOTS).map(|seed| foretold(s, &t.clone().with(K::SamplingSeed, 100 + seed), &then)).collect()
}

/// What a final took.
#[derive(Serialize, Deserialize)]
struct Final {
    threshold: f64,
    report: RenderReport,
    counts: SavedCounts,
}

/// Rendered, or as it was put away.
fn last(s: &Subject, t: &Tuning, seconds: f64) -> Final {
    let (width, height) = describe(s, t).frame();
    let name = format!("{} {width}x{height} {seconds} s.json", s.name);
    let kept = std::env::var_os("KEEP").map(|folder| Path::new(&folder).join(name));
    if let Some(text) = kept.as_ref().and_then(|path| std::fs::read_to_string(path).ok()) {
        return serde_json::from_str(&text).expect("a final that was put away");
    }
    let t = timed(s, t, seconds);
    let render = rendered(s, &t);
    let threshold = t.real(K::SamplingThreshold);
    let took = Final { threshold, report: render.report(), counts: render.counts() };
    if let Some(path) = kept {
        std::fs::write(path, serde_json::to_string(&took).expect("JSON")).expect("a folder for finals");
    }
    took
}

/// With the threshold with which sampling is to take so many seconds, by a small picture of 64 samples; in four figures.
fn timed(s: &Subject, t: &Tuning, seconds: f64) -> Tuning {
    let small = t.clone().with(K::FrameWidth, 88).with(K::FrameHeight, 55);
    let render = rendered(s, &subjects::fixed(&small, 64));
    let (description, counts, report) = (render.description(), render.counts(), render.report());
    let test = || Measured { description, counts: &counts, report: &report, pilot: None, others: 0.0, also: &[] };
    let at = |log: f64| t.clone().with(K::SamplingThreshold, (1e4 * log.exp()).round() / 1e4);
    let (mut low, mut high) = (1e-3f64.ln(), 0.0);
    for _ in 0..16 {
        let middle = 0.5 * (low + high);
        let takes = forecast(test(), &at(middle), None, &Machine::default()).expect("a forecast").sampling;
        if takes > seconds { low = middle } else { high = middle }
    }
    at(high)
}

/// How much longer a sample took in one render than in another, in the blocks that both have, weighed by the other's samples.
fn pace(of: &SavedCounts, against: &SavedCounts) -> f64 {
    let blocks = |c: &SavedCounts| c.tiles.iter().flat_map(|(_, blocks)| blocks.clone()).collect::<Vec<_>>();
    let both = blocks(of).into_iter().zip(blocks(against)).filter_map(|(a, b)| Some((a.each(1.0)?, b.each(1.0)?, b.n)));
    let (a, b) = both.fold((0.0, 0.0), |(x, y), (a, b, n)| (x + a * n as f64, y + b * n as f64));
    a / b
}

fn foretold(s: &Subject, t: &Tuning, of: &Final) -> Row {
    let then = &of.report;
    let d = describe(s, t);
    let pool = Arc::new(own_pool(cores()).expect("threads"));
    let never = AtomicBool::new(false);
    let mut render = Render::new(s.stage.clone(), d.clone(), pool, false).expect("a render");
    let mut pilot = PilotRun::new(&mut render, PILOT * then.seconds);
    while pilot.step(&mut render, &never) {}
    let (counts, report) = (render.counts(), render.report());
    let machine = Machine::default();
    let test = Measured { description: &d, counts: &counts, report: &report, pilot: None, others: 0.0, also: &[] };
    let f = forecast(test, t, None, &machine).expect("a forecast");
    let workers = report.processor_seconds / report.seconds;
    let actual = (then.processor_seconds + then.judging_seconds) / workers;
    let (low, high) = (f.low - (f.seconds - f.sampling), f.high - (f.seconds - f.sampling));
    let row = Row {
        error: f.sampling / actual - 1.0,
        by_clock: f.sampling / then.seconds - 1.0,
        at_pace: f.sampling * pace(&of.counts, &counts) / actual - 1.0,
        samples: f.samples_per_pixel / then.samples_per_pixel - 1.0,
        inside: low <= actual && actual <= high,
        share: report.seconds / then.seconds,
    };
    println!(
        "{:<26} {:>4}×{:<4} {:>6.2} % {:>7.1} s {:>7.1} s {:>+5.0} % ({:>+4.0} % by the clock, {:>+4.0} % at the final's pace, {:>+4.0} % samples) ±{:>3.0} % {} pilot {:>3.0} %, saw {:>3.0} %",
        s.name,
        d.frame().0,
        d.frame().1,
        100.0 * t.real(K::SamplingThreshold),
        f.sampling,
        actual,
        100.0 * row.error,
        100.0 * row.by_clock,
        100.0 * row.at_pace,
        100.0 * row.samples,
        50.0 * (high - low) / f.sampling,
        if row.inside { "inside" } else { "OUTSIDE" },
        100.0 * row.share,
        100.0 * f.seen,
    );
    row
}

/// Displayed variance per sample over the counts, in units of that at 16 samples: how far from the square-root law.
fn slopes(subjects: &[Subject]) {
    for s in subjects {
        let report = subjects::rendered(s, &subjects::fixed(&s.tuning, 512)).report();
        let at = |m: &tracer::Moment| m.grain * m.grain * m.samples_per_pixel;
        let unit = report.history.iter().find(|m| m.samples_per_pixel >= 16.0).map_or(1.0, at);
        let told = report.history.iter().filter(|m| (m.samples_per_pixel as u32).is_power_of_two());
        let told: Vec<String> = told.map(|m| format!("{:.0}: {:.2}", m.samples_per_pixel, at(m) / unit)).collect();
        println!("{:<26} {}", s.name, told.join("  "));
    }
}

/// What regions say of the whole frame, against what all of it says after the same samples: 40 regions of 15 to 33 % of the sides.
fn regions(subjects: &[Subject]) {
    println!(
        "forecasts from regions against those from whole tests: 95 % within so many times, and intervals that hold"
    );
    let frame = (240u32, 150u32);
    for s in subjects {
        let t = s.tuning.clone().with(K::FrameWidth, frame.0).with(K::FrameHeight, frame.1);
        let render = rendered(s, &subjects::fixed(&t, 32));
        let (whole, counts, report) = (render.description().clone(), render.counts(), render.report());
        let wanted = t.with(K::SamplingThreshold, 0.7 * report.grain).with(K::SamplingMost, 4096);
        let told = |description: &Description, counts: &SavedCounts| {
            let test = Measured { description, counts, report: &report, pilot: None, others: 0.0, also: &[] };
            forecast(test, &wanted, None, &Machine::default()).expect("a forecast")
        };
        let actual = told(&whole, &counts).seconds;
        let bounds: Vec<Region> = superblocks(whole.film_area(), whole.film_frame()).collect();
        let (mut squared, mut inside) = (0.0, 0);
        for k in 0..40 {
            // The plastic number's multiples are spread evenly over a square.
            let [u, v] = [0.754_877_666, 0.569_840_291].map(|a: f64| (a * (k as f64 + 0.5)).fract());
            let share = 0.15 + 0.02 * (k % 10) as f64;
            let side = |n: u32| (share * n as f64) as u32;
            let (width, height) = (side(frame.0), side(frame.1));
            let at = |u: f64, room: u32| (u * room as f64) as u32;
            let region = Region { x: at(u, frame.0 - width), y: at(v, frame.1 - height), width, height };
            let d = Description { region: Some(region), ..whole.clone() };
            let seen: Vec<Region> = superblocks(d.film_area(), d.film_frame()).collect();
            let tiles = bounds.iter().zip(&counts.tiles).filter(|(b, _)| seen.contains(b)).map(|(_, t)| t.clone());
            let f = told(&d, &SavedCounts { tiles: tiles.collect(), ..counts.clone() });
            squared += (f.seconds / actual).ln().powi(2) / 40.0;
            inside += (f.low <= actual && actual <= f.high) as u32;
        }
        println!("{:<26} {:.2} times, {:.0} %", s.name, (2.0 * f64::sqrt(squared)).exp(), inside as f64 / 0.4);
    }
}

fn main() {
    let mut words = std::env::args().skip(1);
    let (word, folder) = (words.next().unwrap_or_default(), words.next());
    let mut subjects = demo_subjects();
    subjects.extend(trial_subjects());
    if let Some(folder) = folder {
        subjects.extend(open_subjects(Path::new(&folder)));
    }
    let quick = word == "quick";
    let only = std::env::var("SCENE").unwrap_or_default();
    subjects.retain(|s| {
        word.is_empty() || quick || ["slopes", "regions"].contains(&word.as_str()) || s.name.contains(&word)
    });
    if word == "slopes" {
        return slopes(&subjects);
    }
    if word == "regions" {
        return regions(&subjects);
    }
    println!("sampling of finals: scene, frame, threshold, foretold by a pilot, actual, error");
    let mut rows = Vec::new();
    for (i, s) in subjects.iter().enumerate().filter(|(_, s)| s.name.contains(&only)) {
        let sized = |size: (u32, u32)| s.tuning.clone().with(K::FrameWidth, size.0).with(K::FrameHeight, size.1);
        for (j, size) in SIZES.into_iter().enumerate() {
            for (k, seconds) in TIMES.into_iter().enumerate() {
                // The short edition takes another size and threshold with each scene, and each threshold with each size.
                if quick && (j != i % 3 || k != (i + i / 3) % 3) {
                    continue;
                }
                let t = sized(size).with(K::SamplingMost, 1024).with(K::CleanupDenoise, "none");
                rows.extend(measure(s, &t, seconds));
            }
        }
    }
    let sorted = |f: fn(&Row) -> f64| {
        let mut v: Vec<f64> = rows.iter().map(|r| f(r).abs()).collect();
        v.sort_by(f64::total_cmp);
        v
    };
    let told = |name: &str, v: Vec<f64>| {
        let at = |q: f64| 100.0 * v[((v.len() as f64 * q) as usize).min(v.len() - 1)];
        println!("{name}: median {:.1} %, 90th percentile {:.1} %, worst {:.1} %", at(0.5), at(0.9), at(1.0));
    };
    println!();
    told("error of the time", sorted(|r| r.error));
    told("error by the clock", sorted(|r| r.by_clock));
    told("error at the final's pace", sorted(|r| r.at_pace));
    told("error of the samples", sorted(|r| r.samples));
    let inside = rows.iter().filter(|r| r.inside).count();
    println!("{} forecasts, {:.0} % inside the interval", rows.len(), 100.0 * inside as f64 / rows.len() as f64);
    told("time of the pilot", sorted(|r| r.share));
}
