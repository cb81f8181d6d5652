//! The forecast of a final from the block statistics of a test or a pilot.
//!
//! Time of sampling is the sum of pixels × expected samples × measured processor time per sample, divided by threads × measured
//! efficiency; judging, clean-up, files and the start come on top. The interval joins what was not seen of the frame, grain that
//! falls more slowly than the square root of the count, how forecasts of this machine have held, and, above, that other work may go
//! on as it did during the test.
//! A region was not drawn at random, and the rest of the frame may take far more or less: a pilot is better.

use crate::Pilot;
use crate::costs::split_of;
use crate::outlook::{Source, outlook};
use crate::prices::{id, split_knob};
use picture::denoise::Method;
use picture::{Region, footprint};
use serde::{Deserialize, Serialize};
use tracer::{
    DepthKind, Description, LIMITS, Limits, MATTE_RAYS, MOST_PARTS_PIXELS, RayCount, RayKind, RenderReport,
    SavedCounts, clean_up_of, film_frame_of, ladder,
};
use ts_rs::TS;
use tuning::{Judge, K, Tuning};

/// What is known about this machine apart from the test: seconds a pixel, and seconds to get a scene ready.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Machine {
    pub start: f64,
    /// Of the quick, the careful and the colour-only denoiser.
    pub denoise_per_pixel: [f64; 3],
    /// Of one channel of a file, packed.
    pub write_per_channel: f64,
    pub mattes_per_pixel: f64,
    /// Bytes a pixel of each kind of file, in the order of [`FILES`]: of all channels, or of one where a kind holds passes.
    pub file_bytes: [f64; FILES.len()],
    pub trust: Trust,
}

/// How forecasts of this machine have held.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Trust {
    /// By how much sampling took longer than was foretold, in the middle.
    pub factor: f64,
    /// Half the width of the 95 % interval that comes from the machine alone, relative.
    pub spread: f64,
    pub finals: usize,
}

impl Trust {
    /// From finals that have ended: the sampling time of each divided by what was foretold. Shrunk towards no correction and a
    /// standard deviation of 8 %, as if five finals had said so (two threads of shared machines differ by about as much).
    pub fn from(ratios: &[f64]) -> Trust {
        const PRIOR: (f64, f64) = (5.0, 0.08);
        let logs: Vec<f64> = ratios.iter().map(|r| r.clamp(0.2, 5.0).ln()).collect();
        let n = logs.len() as f64;
        let mean = logs.iter().sum::<f64>() / (n + PRIOR.0);
        let squares: f64 = logs.iter().map(|l| (l - mean).powi(2)).sum();
        let deviation = ((PRIOR.0 * PRIOR.1 * PRIOR.1 + squares) / (PRIOR.0 + n)).sqrt();
        Trust { factor: mean.exp(), spread: 2.0 * deviation, finals: logs.len() }
    }
}

impl Default for Machine {
    /// Before anything was measured: typical of a two-core machine.
    fn default() -> Self {
        Machine {
            start: 1.0,
            denoise_per_pixel: [8e-7, 4e-5, 4e-6],
            write_per_channel: 4e-8,
            mattes_per_pixel: 4e-5,
            // From finals of the demo: noise hardly shrinks, many passes are even.
            file_bytes: [5.2, 2.2, 6.0, 1.95, 0.93, 12.0],
            trust: Trust::from(&[]),
        }
    }
}

impl Machine {
    /// Seconds of what comes after sampling, for so many delivered pixels: clean-up, mattes and files.
    pub fn after_sampling(&self, t: &Tuning, pixels: f64) -> f64 {
        let denoise = clean_up_of(t).denoises().map_or(0.0, |m| self.denoise_per_pixel[m as usize]);
        let mattes = if t.switch(K::DeliveryMattes) { self.mattes_per_pixel } else { 0.0 };
        pixels * (denoise + mattes) + self.writing(t, pixels)
    }

    /// Seconds of writing all files.
    pub fn writing(&self, t: &Tuning, pixels: f64) -> f64 {
        pixels * self.write_per_channel * channels_written(t, pixels)
    }

    fn file_sizes(&self, t: &Tuning, pixels: f64) -> Vec<FileSize> {
        [K::DeliveryDisplay, K::DeliveryLinear]
            .into_iter()
            .filter_map(|k| {
                let kind = t.name(k);
                let each = self.file_bytes[FILES.iter().position(|f| *f == kind)?];
                Some(FileSize { kind: kind.into(), bytes: each * channels(t, kind, pixels) * pixels })
            })
            .collect()
    }
}

/// Kinds of files as the knobs name them.
pub const FILES: [&str; 6] = ["png_16", "png_8", "tiff_16", "exr_float", "exr_half", "tiff_float"];

/// Channels that a kind of file holds in units of its bytes a pixel: OpenEXR files hold passes, others the picture alone.
pub fn channels(t: &Tuning, kind: &str, pixels: f64) -> f64 {
    if !kind.starts_with("exr") {
        return 1.0;
    }
    // Picture, noisy picture, guides, grain and samples; about eight parts and lights with their grain, and what belongs to them.
    let kept = t.switch(K::DeliveryParts) && (t.switch(K::DeliveryPartsLarge) || pixels <= MOST_PARTS_PIXELS as f64);
    let parts = if kept { 45.0 } else { 0.0 };
    let mattes = if t.switch(K::DeliveryMattes) { 24.0 } else { 0.0 };
    16.0 + parts + mattes
}

/// What writing all files takes, in channels of an OpenEXR file: a picture through the view takes as long as twenty (measured at
/// 1920 × 1080).
pub fn channels_written(t: &Tuning, pixels: f64) -> f64 {
    const PICTURE: f64 = 20.0;
    let of = |k: K| match t.name(k) {
        "none" => 0.0,
        kind if kind.starts_with("exr") => channels(t, kind, pixels),
        _ => PICTURE,
    };
    of(K::DeliveryDisplay) + of(K::DeliveryLinear)
}

/// A test on which a forecast rests, and trials of its splits and roulette where there were some.
#[derive(Debug, Clone, Copy)]
pub struct Measured<'a> {
    pub description: &'a Description,
    pub counts: &'a SavedCounts,
    pub report: &'a RenderReport,
    pub pilot: Option<&'a Pilot>,
    /// Share of the processors that other programs took meanwhile.
    pub others: f64,
    /// Other tests and finals of the same scene and camera: their superblocks count where they have seen more.
    pub also: &'a [Measured<'a>],
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
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

#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
pub struct Cause {
    pub kind: CauseKind,
    pub seconds: f64,
}

/// Which part of the frame a test has seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Seen {
    All,
    /// Superblocks all over the frame: a pilot.
    Scattered,
    Region,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct FileSize {
    /// Ending of its name.
    pub kind: String,
    pub bytes: f64,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct Forecast {
    /// Seconds of render time of the whole final, and the interval in which it should end.
    pub seconds: f64,
    pub low: f64,
    pub high: f64,
    pub causes: Vec<Cause>,
    pub samples_per_pixel: f64,
    /// Seconds of it that go into sampling, and the processor time of that, all threads together: the clock takes longer where other
    /// programs take processors, this does not.
    pub sampling: f64,
    #[serde(default)]
    pub processor: f64,
    /// Seconds of the whole final where other work goes on taking the processors as it did during the test.
    #[serde(default)]
    pub beside: f64,
    /// Root mean square grain that is expected, as the judging counts it, and share of the blocks expected to settle.
    pub grain: f64,
    pub settled: f64,
    /// Share of the final's frame that was seen, and how much of it the test and each of the others tell.
    pub seen: f64,
    #[serde(default)]
    pub shares: Vec<f64>,
    /// Where its pixels lie.
    pub basis: Seen,
    /// It was the final's own frame, all of it.
    pub measured: bool,
    /// And took all of its samples, but for one in a hundred: they are counted, not extrapolated from its grain.
    #[serde(default)]
    pub counted: bool,
    /// Bytes of memory that the film takes at most, with what puts it away and delivers it; scene and program come on top.
    pub memory: f64,
    /// Bytes of the files.
    pub files: Vec<FileSize>,
    /// Finals of this machine whose outcome corrects the forecast and its interval.
    pub history: usize,
    pub factor: f64,
    /// Knobs that differ from the test in a way whose effect cannot be computed: a new test is needed to know it.
    pub needs_test: Vec<String>,
}

/// How far off, relative, the forecast of a final may be whose careful clean-up no test has been judged after: in *Lens cabinet* by 0.0 to
/// 1.1, over thresholds of 3 to 6 %.
const UNSEEN_CAREFUL: f64 = 1.2;

/// Knobs whose effect the forecast computes; a change of any other needs a new test.
const COMPUTED: &[K] = &[
    K::FrameWidth,
    K::FrameHeight,
    K::FrameOversize,
    K::FrameTransparent,
    K::SamplingSeed,
    K::DeliveryAim,
    K::DeliveryDpi,
    K::DeliveryParts,
    K::DeliveryPartsLarge,
    K::DeliveryDisplay,
    K::DeliveryLinear,
    K::DeliveryPacking,
    K::DeliveryPasses,
    K::DeliveryMattes,
];

impl Forecast {
    /// Seconds alone, with their interval.
    pub fn brief(&self) -> Brief {
        Brief { seconds: self.seconds, low: self.low, high: self.high, factor: self.factor }
    }

    /// The same where a final of the very same picture has shown what it takes, by the clock: as sure as the machine is even. Where
    /// other programs took processors meanwhile it may take as little as its own processor time.
    pub fn as_it_came(self, came: &Spent, machine: &Machine) -> Forecast {
        let each = came.sampling / self.sampling.max(1e-9);
        let seconds = |c: &Cause| match c.kind {
            CauseKind::Start => came.start,
            CauseKind::CleanUp => came.clean_up,
            CauseKind::Files => came.files,
            _ => c.seconds * each,
        };
        let causes: Vec<Cause> = self.causes.iter().map(|c| Cause { kind: c.kind, seconds: seconds(c) }).collect();
        let seconds: f64 = causes.iter().map(|c| c.seconds).sum();
        let spread = machine.trust.spread;
        Forecast {
            seconds,
            low: seconds - came.sampling + (came.processor / came.threads).min(came.sampling) / (1.0 + spread),
            high: seconds + came.sampling * spread,
            causes,
            sampling: came.sampling,
            processor: came.processor,
            beside: seconds,
            measured: true,
            counted: true,
            // Nothing is foretold that the machine's history would have to correct.
            history: 0,
            factor: 1.0,
            ..self
        }
    }

    /// The forecast of a frame between two that were forecast at the same tuning, by its share of the way to the other.
    /// Nothing was seen of it: the interval holds those of both.
    pub fn between(&self, other: &Forecast, share: f64) -> Forecast {
        let mix = |a: f64, b: f64| a + share.clamp(0.0, 1.0) * (b - a);
        let both = |f: fn(&Forecast) -> f64| mix(f(self), f(other));
        let seconds = |k: CauseKind| {
            let of = |f: &Forecast| f.causes.iter().filter(|c| c.kind == k).map(|c| c.seconds).sum();
            mix(of(self), of(other))
        };
        let mut needs_test = self.needs_test.clone();
        needs_test.extend(other.needs_test.iter().filter(|id| !self.needs_test.contains(id)).cloned());
        Forecast {
            seconds: both(|f| f.seconds),
            low: self.low.min(other.low),
            high: self.high.max(other.high),
            causes: self.causes.iter().map(|c| Cause { kind: c.kind, seconds: seconds(c.kind) }).collect(),
            samples_per_pixel: both(|f| f.samples_per_pixel),
            sampling: both(|f| f.sampling),
            processor: both(|f| f.processor),
            beside: both(|f| f.beside),
            grain: both(|f| f.grain),
            settled: both(|f| f.settled),
            seen: self.seen.min(other.seen),
            measured: false,
            memory: self.memory.max(other.memory),
            needs_test,
            ..self.clone()
        }
    }
}

/// Seconds that a final took: its start and checkpoints, sampling, clean-up, files.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Spent {
    pub start: f64,
    pub sampling: f64,
    /// Processor time of its sampling, all threads together.
    pub processor: f64,
    pub threads: f64,
    pub clean_up: f64,
    pub files: f64,
}

/// Seconds of a forecast and the interval in which it should end.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
pub struct Brief {
    pub seconds: f64,
    pub low: f64,
    pub high: f64,
    /// The correction by the machine's history that is in it.
    #[serde(default = "uncorrected")]
    pub factor: f64,
}

fn uncorrected() -> f64 {
    1.0
}

/// Forecast of the whole frame at `tuning`, or of a region of it; none if the test has not got far enough to say anything.
pub fn forecast(test: Measured, tuning: &Tuning, region: Option<Region>, machine: &Machine) -> Option<Forecast> {
    forecast_turned(test, tuning, region, machine, &Turned::default())
}

/// What is known beside the test.
pub(crate) struct Turned<'a> {
    /// What trials have told that changed knobs do to the time of a sample and to its variance, and the ids of the knobs.
    pub time: f64,
    pub variance: f64,
    pub known: Vec<&'a str>,
    /// Share of the test's superblocks that are asked: few for searches.
    pub asked: f64,
}

impl Default for Turned<'_> {
    fn default() -> Self {
        Turned { time: 1.0, variance: 1.0, known: Vec::new(), asked: 1.0 }
    }
}

/// [`forecast`] with what is known beside the test.
pub(crate) fn forecast_turned(
    test: Measured,
    tuning: &Tuning,
    region: Option<Region>,
    machine: &Machine,
    turned: &Turned,
) -> Option<Forecast> {
    let d = test.description;
    let frame = (tuning.whole(K::FrameWidth), tuning.whole(K::FrameHeight));
    // Where a test has seen the wanted region, the superblocks there tell most.
    let size = film_frame_of(tuning);
    let tests: Vec<(usize, Known)> = std::iter::once(test)
        .chain(test.also.iter().copied())
        .map(|t| Known::of(t, tuning, &turned.known))
        .enumerate()
        .filter(|(k, t)| *k == 0 || (t.needs_test.is_empty() && t.test.description.film_frame() == size))
        .collect();
    let first = &tests[0].1;
    let sources: Vec<Source> = tests
        .iter()
        .map(|(_, t)| Source {
            d: t.test.description,
            counts: t.test.counts,
            time: turned.time * t.split.time * t.shorter.unwrap_or(1.0),
            variance: turned.variance * t.split.variance,
            asked: turned.asked,
        })
        .collect();
    let has_seen = |r: Region| sources.iter().any(|s| frame == s.d.frame() && r.shared(s.d.area()) == Some(r));
    let wanted = region.filter(|r| has_seen(*r)).map(|r| footprint(r, frame, size));
    let film = |t: &Tuning, pixels: f64| pixels * t.real(K::FrameOversize).powi(2);
    let o = outlook(&sources, tuning, wanted)?;
    if test.report.seconds <= 0.0 {
        return None;
    }
    let frame_pixels = region.map_or(frame.0 as f64 * frame.1 as f64, |r| r.area() as f64);
    // What is rendered of them.
    let film_pixels = film(tuning, frame_pixels);
    let report = test.report;
    let paid = report.processor_seconds + report.judging_seconds;
    let busy = (paid / (report.seconds * report.threads as f64)).clamp(0.3, 1.0);
    // What others took is there again when they have ended.
    let efficiency = (busy / (1.0 - test.others).max(0.1)).clamp(busy, 1.0);
    let workers = report.threads as f64 * efficiency;
    let judged = rounds(0.65 * o.samples_per_pixel, tuning);
    let judging = film_pixels
        * judged
        * match test.counts.anew {
            // Nobody has measured it: each round takes what the denoiser does.
            true => judging_denoiser(tuning).map_or(0.0, |m| machine.denoise_per_pixel[m as usize]),
            false => report.judging_seconds / o.first_pixels / workers / rounds(o.longest as f64, &d.tuning),
        };
    let sampling = o.load * film_pixels / workers + judging;
    // How much was seen of the final's own frame, and of one of another size.
    let same = |t: &Tuning| frame == (t.whole(K::FrameWidth), t.whole(K::FrameHeight)) && film_frame_of(t) == size;
    let other_size = if same(&d.tuning) { 0.0 } else { o.shares[0] / o.seen };
    let seen = o.seen;
    let whole = sources.iter().zip(&o.shares).any(|(s, share)| s.d.region.is_none() && *share > 0.0);
    let basis = match (seen > 0.999, whole) {
        (true, _) => Seen::All,
        (false, true) => Seen::Scattered,
        (false, false) => Seen::Region,
    };
    let scale = 0.1 * other_size;
    let scatter = if basis == Seen::Region { o.scatter.hypot(REST * (1.0 - seen)) } else { o.scatter };
    let spread = machine.trust.spread.hypot(scatter).hypot(scale).hypot(first.split.unsure);
    // What the careful denoiser leaves does not fall with the root of the samples, and how it does was not seen.
    let unseen = match test.counts.anew && judging_denoiser(tuning) == Some(Method::Careful) {
        true => UNSEEN_CAREFUL,
        false => 0.0,
    };
    // Times are factors off: half as long is as far as twice as long.
    let below = spread.hypot(1.0 / o.least.max(1e-3) - 1.0).hypot(unseen);
    let above = spread.hypot(o.most - 1.0).hypot(unseen).hypot(efficiency / busy - 1.0);

    let method = clean_up_of(tuning).denoises();
    let denoise = method.map_or(0.0, |m| machine.denoise_per_pixel[m as usize] * frame_pixels);
    let sampling = sampling * machine.trust.factor;
    let mut causes = vec![Cause { kind: CauseKind::Start, seconds: machine.start }];
    causes.extend(report.rays.iter().map(|r| Cause { kind: cause_of(r), seconds: sampling * r.share }));
    causes.push(Cause { kind: CauseKind::CleanUp, seconds: denoise });
    // Mattes are camera rays alone.
    let camera = report.rays.iter().find(|r| r.kind == RayKind::Camera).map_or(0.0, |r| r.share);
    let each_ray = camera * report.processor_seconds / report.samples.max(1) as f64 / workers;
    let mattes = if tuning.switch(K::DeliveryMattes) { each_ray * MATTE_RAYS * frame_pixels } else { 0.0 };
    causes.push(Cause { kind: CauseKind::Files, seconds: machine.writing(tuning, frame_pixels) + mattes });
    let seconds: f64 = causes.iter().map(|c| c.seconds).sum();
    let mut shares = vec![0.0; 1 + test.also.len()];
    tests.iter().zip(&o.shares).for_each(|((k, _), share)| shares[*k] = *share);
    let alike = tests.iter().all(|(_, t)| t.split.knobs.is_empty());
    let measured = other_size == 0.0 && basis == Seen::All && alike;
    Some(Forecast {
        seconds,
        low: seconds - sampling + sampling / (1.0 + below),
        high: seconds + sampling * above,
        causes,
        sampling,
        processor: sampling * workers,
        beside: seconds - sampling + sampling * efficiency / busy,
        grain: o.grain,
        samples_per_pixel: o.samples_per_pixel,
        settled: o.settled,
        seen,
        shares,
        basis,
        measured,
        counted: measured && o.counted > 0.99,
        memory: FILMS * report.bytes_per_pixel as f64 * film_pixels,
        files: machine.file_sizes(tuning, frame_pixels),
        history: machine.trust.finals,
        factor: machine.trust.factor,
        needs_test: first.needs_test.clone(),
    })
}

/// A test, and what can be computed of a tuning from it.
struct Known<'a> {
    test: Measured<'a>,
    split: SplitEffect,
    /// Share of the sampling time that another depth leaves.
    shorter: Option<f64>,
    /// Knobs whose effect cannot be computed.
    needs_test: Vec<String>,
}

impl<'a> Known<'a> {
    /// `known` are knobs whose effect trials have told.
    fn of(test: Measured<'a>, tuning: &Tuning, known: &[&str]) -> Known<'a> {
        let own = &test.description.tuning;
        let split = split_effect(test, tuning, known);
        let shorter = depth_time(test.report, own, tuning);
        // Judged before the clean-up, grain does not depend on it; judged after it, another clean-up leaves another grain.
        let plain = [own, tuning].iter().all(|t| t.choice::<Judge>() != Judge::Delivered);
        let computed = |id: &str| {
            (id.starts_with("cleanup.") && plain)
                || COMPUTED.iter().chain(LIMITS).any(|k| crate::prices::id(*k) == id)
                || (id == DEPTH && shorter.is_some())
                || split.knobs.contains(&id)
                || known.contains(&id)
        };
        let differ = own.differences(tuning).into_iter().map(|x| x.id);
        let needs_test = differ.filter(|id| !computed(id)).map(str::to_string).collect();
        Known { test, split, shorter, needs_test }
    }
}

/// What other numbers of rays at the first hit do to the time of a camera sample and to its variance.
pub(crate) struct SplitEffect {
    time: f64,
    variance: f64,
    /// Half of the 95 % interval of what the variance makes of the time, relative: nothing where all pixels take the most.
    pub unsure: f64,
    /// Trials have told all of it.
    pub tried: bool,
    knobs: Vec<&'static str>,
}

/// Half interval of a change of the variance, relative, as the noise ledger foretells it (trials on nine scenes, where parts have a
/// tenth of the noise or more: 0.3 to 2.4 times their share, the geometric mean is 1.0).
pub(crate) const CHARGED: f64 = 0.6;

/// Time goes with the rays, whose share was measured. Of the variance trials tell how much lies within a camera sample; where
/// there were none, what the noise ledger charges to these parts.
pub(crate) fn split_effect(test: Measured, tuning: &Tuning, known: &[&str]) -> SplitEffect {
    let mut out = SplitEffect { time: 1.0, variance: 1.0, unsure: 0.0, tried: true, knobs: Vec::new() };
    let Some(noise) = &test.report.noise else { return out };
    for row in &test.report.ledgers.splits {
        let knob = split_knob(row.kind);
        let to = tuning.whole(knob);
        if to == row.split || known.contains(&id(knob)) {
            continue;
        }
        let (from, then) = (row.split as f64, to as f64);
        out.time += row.time * (then / from - 1.0);
        let share: f64 = noise.parts.iter().filter(|p| split_of(&p.name) == Some(row.kind)).map(|p| p.share).sum();
        let (change, unsure) = match test.pilot.and_then(|p| p.variance_at(row.kind, row.split, to)) {
            Some((v, unsure)) => (v - 1.0, unsure),
            None => {
                out.tried = false;
                let change = share.clamp(0.0, 1.0) * (from / then - 1.0);
                (change, CHARGED * change.abs())
            }
        };
        out.variance *= 1.0 + change;
        if tuning.switch(K::SamplingAdaptive) {
            out.unsure = out.unsure.hypot(unsure / (1.0 + change));
        }
        out.knobs.push(id(knob));
    }
    out
}

/// Half of the 95 % interval for the rest of a frame of which a region was seen: it takes a third to three times as much a pixel
/// (560 regions of 15 to 33 % of the sides in fourteen scenes: root mean square of the logarithm 0.54).
const REST: f64 = 2.0;

/// Films that are in memory at most: while one is put away its channels stand beside it, while it is delivered the picture with all
/// passes. Measured as 0.96 kB a pixel where the film takes 356 bytes, and 1.15 with the careful denoiser or mattes.
pub const FILMS: f64 = 3.25;
const DEPTH: &str = "depth.total";

/// The denoiser after which blocks are judged.
pub(crate) fn judging_denoiser(t: &Tuning) -> Option<Method> {
    clean_up_of(t).denoises().filter(|_| t.choice::<Judge>() == Judge::Delivered)
}

/// Judged rounds on the way to `n` samples per half, about. The careful denoiser judges where something is decided alone.
fn rounds(n: f64, t: &Tuning) -> f64 {
    let limits = Limits::of(t);
    let from = if judging_denoiser(t) == Some(Method::Careful) { limits.least } else { 1 };
    let n = (n.max(1.0) as u32).min(limits.most).max(2);
    ladder(n).into_iter().filter(|k| *k >= from.min(n)).count() as f64
}

/// Share of the sampling time that is left when the total depth ends sooner than in the test; none where it does not.
fn depth_time(report: &RenderReport, then: &Tuning, now: &Tuning) -> Option<f64> {
    let (was, limit) = (then.whole(K::DepthTotal), now.whole(K::DepthTotal));
    let total = report.ledgers.depth.iter().find(|t| t.kind == DepthKind::All)?;
    (limit <= was && limit > 0)
        .then(|| 1.0 - total.rows.iter().filter(|r| r.bounces > limit).map(|r| r.time).sum::<f64>())
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
