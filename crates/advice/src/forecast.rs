//! The forecast of a final from the block statistics of a test.
//!
//! For every block the count is expected at which the actual rule stops on the actual ladder; the time is the sum of
//! pixels × samples × measured processor time per sample, divided by threads × measured efficiency, plus fixed phases.
//! Grain that falls more slowly than the square root of the count (clipped or rare light) is measured on the test and
//! extrapolated, fading; the interval reaches from no further growth to a longer one.
//! A test of a region stands for the rest of the frame, and the interval says so: superblocks are treated as a random
//! sample of the frame, which a region is not, so the sampling error is doubled.

use picture::{Region, footprint, reduce::gain};
use serde::{Deserialize, Serialize};
use tracer::{
    Description, Limits, RayCount, RayKind, RenderReport, SavedCounts, clean_up_of, expected_samples,
    floored_variances, grain_at, growth, superblocks,
};
use ts_rs::TS;
use tuning::{K, Tuning};

/// What is known about this machine apart from the test: seconds a pixel, and seconds to get a scene ready.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Machine {
    pub start: f64,
    /// Of the quick, the careful and the colour-only denoiser.
    pub denoise_per_pixel: [f64; 3],
    pub write_per_pixel: f64,
}

impl Default for Machine {
    /// Before anything was measured: typical of a two-core machine.
    fn default() -> Self {
        Machine { start: 1.0, denoise_per_pixel: [8e-7, 1.5e-5, 4e-6], write_per_pixel: 1.2e-6 }
    }
}

/// A test on which a forecast rests.
#[derive(Debug, Clone, Copy)]
pub struct Measured<'a> {
    pub description: &'a Description,
    pub counts: &'a SavedCounts,
    pub report: &'a RenderReport,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum CauseKind {
    /// Loading, structure, light tables.
    Start,
    Camera,
    Direct,
    Diffuse,
    Reflection,
    Transmission,
    Volume,
    CleanUp,
    Files,
}

#[derive(Debug, Clone, Copy, PartialEq, Serialize, TS)]
pub struct Cause {
    pub kind: CauseKind,
    pub seconds: f64,
}

#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct Forecast {
    /// Seconds of render time of the whole final, and the interval in which it should end.
    pub seconds: f64,
    pub low: f64,
    pub high: f64,
    pub causes: Vec<Cause>,
    pub samples_per_pixel: f64,
    /// Seconds of it that go into sampling.
    pub sampling: f64,
    /// Root mean square grain that is expected, as the judging counts it, and share of the blocks expected to settle.
    pub grain: f64,
    pub settled: f64,
    /// Share of the final's frame that the test has seen.
    pub seen: f64,
    /// The test had the final's own frame, all of it.
    pub measured: bool,
    /// Knobs that differ from the test in a way whose effect cannot be computed: a new test is needed to know it.
    pub needs_test: Vec<&'static str>,
}

/// Knobs whose effect the forecast computes; a change of any other needs a new test.
const COMPUTED: &[K] = &[
    K::FrameWidth,
    K::FrameHeight,
    K::FrameOversize,
    K::FrameTransparent,
    K::SamplingAdaptive,
    K::SamplingLeast,
    K::SamplingMost,
    K::SamplingThreshold,
    K::SamplingEffort,
    K::SamplingFirstPass,
    K::SamplingSeed,
    K::CleanupDenoise,
    K::CleanupBlend,
    K::DeliveryParts,
    K::DeliveryPartsLarge,
];

impl Forecast {
    /// Seconds alone, with their interval.
    pub fn brief(&self) -> Brief {
        Brief { seconds: self.seconds, low: self.low, high: self.high }
    }
}

/// Seconds of a forecast and the interval in which it should end.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
pub struct Brief {
    pub seconds: f64,
    pub low: f64,
    pub high: f64,
}

/// Forecast of the whole frame at `tuning`, or of a region of it; none if the test has not got far enough to say anything.
pub fn forecast(test: Measured, tuning: &Tuning, region: Option<Region>, machine: &Machine) -> Option<Forecast> {
    let d = test.description;
    let area = d.film_area();
    let Limits { adaptive, least, most, threshold } = Limits::of(tuning);
    let block = d.judging().block;
    // Grain counts delivered pixels: another oversize reduces another number of samples into each.
    let oversize = gain(tuning.real(K::FrameOversize)) / gain(d.tuning.real(K::FrameOversize));
    // Processor seconds a pixel of each superblock that the test has seen.
    let mut loads: Vec<(f64, f64)> = Vec::new();
    let growth = growth(test.counts.tiles.iter().flat_map(|(_, blocks)| blocks.iter().map(|b| (b, 1))));
    let (mut pixels, mut samples, mut settled, mut grain) = (0.0f64, 0.0f64, 0.0f64, 0.0f64);
    // Samples if grain fell with the square root of the count at once, and if it went on growing for longer.
    let (mut fewest, mut dearest) = (0.0f64, 0.0f64);
    // Where the test has seen the wanted region, its own superblocks there tell most.
    let wanted = region
        .filter(|_| (tuning.whole(K::FrameWidth), tuning.whole(K::FrameHeight)) == d.frame())
        .filter(|r| r.shared(d.area()) == Some(*r))
        .map(|r| footprint(r, d.frame(), d.film_frame()));
    for (bounds, (spent, blocks)) in superblocks(area, d.film_frame()).zip(&test.counts.tiles) {
        if wanted.is_some_and(|w| w.shared(bounds).is_none()) {
            continue;
        }
        let columns = bounds.width.div_ceil(block);
        let areas: Vec<u32> = (0..blocks.len() as u32)
            .map(|i| {
                let (bx, by) = (bounds.x + i % columns * block, bounds.y + i / columns * block);
                block.min(bounds.right() - bx) * block.min(bounds.bottom() - by)
            })
            .collect();
        let variances = floored_variances(blocks, &areas);
        let (mut taken, mut wanted, mut inside) = (0.0f64, 0.0f64, 0.0f64);
        for ((b, area), variance) in blocks.iter().zip(&areas).zip(variances) {
            let p = *area as f64;
            if b.n == 0 || b.grain < 0.0 {
                continue;
            }
            taken += p * 2.0 * b.n as f64;
            let floored = (variance / b.n as f64).sqrt() * oversize;
            let stop = |growth: f64| {
                if adaptive { expected_samples(floored, b.n, growth, least, most, threshold) } else { most as f64 }
            };
            let n = stop(growth);
            fewest += p * 2.0 * stop(0.0);
            dearest += p * 2.0 * stop(1.6 * growth);
            let then = grain_at(floored, b.n as f64, n, growth);
            settled += if then <= threshold { p } else { 0.0 };
            grain += p * grain_at(b.grain as f64 * oversize, b.n as f64, n, growth).powi(2);
            wanted += p * 2.0 * n;
            inside += p;
        }
        if taken > 0.0 {
            loads.push((*spent as f64 * 1e-9 / taken * wanted, inside));
            pixels += inside;
            samples += wanted;
        }
    }
    if pixels == 0.0 || test.report.seconds <= 0.0 {
        return None;
    }
    let frame = (tuning.whole(K::FrameWidth), tuning.whole(K::FrameHeight));
    let frame_pixels = region.map_or(frame.0 as f64 * frame.1 as f64, |r| r.area() as f64);
    // What is rendered of them.
    let film_pixels = frame_pixels * tuning.real(K::FrameOversize).powi(2);
    let efficiency =
        (test.report.processor_seconds / (test.report.seconds * test.report.threads as f64)).clamp(0.3, 1.0);
    let workers = test.report.threads as f64 * efficiency;
    let processor: f64 = loads.iter().map(|l| l.0).sum();
    let sampling = processor / pixels * film_pixels / workers;
    let same_oversize = tuning.real(K::FrameOversize) == d.tuning.real(K::FrameOversize);
    let same_frame = frame == d.frame() && same_oversize;
    let seen = match wanted {
        Some(_) => 1.0,
        None => (d.area().area() as f64 / (d.frame().0 as f64 * d.frame().1 as f64)).min(1.0),
    };

    // Scatter of the load between superblocks, as if they were drawn at random from the frame.
    let mean = processor / pixels;
    let free = loads.len().saturating_sub(1);
    let squares = loads.iter().map(|(l, p)| (l / p.max(1.0) - mean).powi(2)).sum::<f64>();
    // One superblock says nothing of the scatter: then as much as the load itself. Neighbours are more alike than the rest
    // of the frame: at least a fifth.
    let variance = if free > 0 { squares / free as f64 } else { mean * mean }.max((0.2 * mean).powi(2));
    let unseen = (1.0 - seen).max(0.0);
    let drawn = (variance * unseen / loads.len() as f64).sqrt() / mean.max(1e-18);
    let scale = if same_frame { 0.0 } else { 0.1 };
    let spread = (0.1f64.powi(2) + (student(free) * drawn).powi(2) + f64::powi(scale, 2)).sqrt();
    let below = (spread.powi(2) + (1.0 - fewest / samples).powi(2)).sqrt().min(0.95);
    let above = (spread.powi(2) + (dearest / samples - 1.0).powi(2)).sqrt();

    let denoise = clean_up_of(tuning).denoises().map_or(0.0, |m| machine.denoise_per_pixel[m as usize] * frame_pixels);
    let mut causes = vec![Cause { kind: CauseKind::Start, seconds: machine.start }];
    causes.extend(test.report.rays.iter().map(|r| Cause { kind: cause_of(r), seconds: sampling * r.share }));
    causes.push(Cause { kind: CauseKind::CleanUp, seconds: denoise });
    causes.push(Cause { kind: CauseKind::Files, seconds: machine.write_per_pixel * frame_pixels });
    let seconds: f64 = causes.iter().map(|c| c.seconds).sum();
    Some(Forecast {
        seconds,
        low: seconds - sampling * below,
        high: seconds + sampling * above,
        causes,
        sampling,
        grain: (grain / pixels).sqrt(),
        samples_per_pixel: samples / pixels,
        settled: settled / pixels,
        seen,
        measured: same_frame && seen == 1.0,
        needs_test: d
            .tuning
            .differences(tuning)
            .into_iter()
            .map(|difference| difference.id)
            .filter(|id| !COMPUTED.iter().any(|k| tuning::KNOBS[*k as usize].id == *id))
            .collect(),
    })
}

/// Half the width of the 95 % interval of a mean in standard errors, by degrees of freedom (Student 1908; any table).
fn student(free: usize) -> f64 {
    const T: [f64; 10] = [12.71, 4.30, 3.18, 2.78, 2.57, 2.45, 2.36, 2.31, 2.26, 2.23];
    T.get(free.max(1) - 1).copied().unwrap_or(2.0)
}

fn cause_of(r: &RayCount) -> CauseKind {
    match r.kind {
        RayKind::Camera => CauseKind::Camera,
        RayKind::Direct => CauseKind::Direct,
        RayKind::Diffuse => CauseKind::Diffuse,
        RayKind::Reflection => CauseKind::Reflection,
        RayKind::Transmission => CauseKind::Transmission,
        RayKind::Volume => CauseKind::Volume,
    }
}
