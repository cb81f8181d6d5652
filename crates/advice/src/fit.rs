//! Fit to a budget: the tuning that leaves the least grain, as it is judged, within the minutes that there are.
//!
//! First what is free of charge: bounces that nobody sees, splits that a short trial has found better, adaptive sampling. Then
//! the threshold, by bisection on the forecast, with as many samples at the most as nearly all blocks need; or, where that leaves
//! more grain, as many samples for all blocks as the minutes pay for.

use crate::forecast::{Turned, forecast_turned};
use crate::outlook::with_samples;
use crate::prices::id;
use crate::{Advice, Forecast, Machine, Measured, advise, forecast};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use tracer::ladder;
use ts_rs::TS;
use tuning::{Denoiser, K, Tuning, Value};

/// Share of the budget that is aimed at: what is foretold is not certain.
const AIM: f64 = 0.96;
/// A threshold that differs so little from the shot's own one is not worth a change, where the minutes reach that.
const ALIKE: f64 = 0.03;
/// What a way out asks for beyond what it takes, so that a fit, which searches and rounds, gets there.
const ROOM: f64 = 1.02;
/// Finest and coarsest threshold that is looked at.
const THRESHOLDS: (f64, f64) = (0.0005, 0.5);
/// Grain that is as little as another, and little more.
const AS_LITTLE: f64 = 1.005;
const LITTLE_MORE: f64 = 1.05;
/// Most samples a pixel that are proposed.
const MOST: u32 = 16_384;
/// Key of the row that makes the frame smaller, and the smallest one in percent of its sides.
const SIZE: &str = "frame.size";
const SMALLEST: u32 = 20;
/// Key of the row that brings a denoiser.
const DENOISE: &str = "cleanup.denoise";
/// Points of the curve.
const POINTS: usize = 25;
/// Superblocks that are asked while searching; what is found is forecast from all of them.
const ASKED: usize = 128;
/// How far the search may be off all superblocks, relative, and how often it is put right before all are asked.
const OFF: f64 = 0.01;
const TRIES: usize = 3;

/// One change that the fit proposes.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct FitRow {
    pub key: String,
    pub title: String,
    pub why: String,
    #[ts(type = "Record<string, number | boolean | string>")]
    pub changes: BTreeMap<String, serde_json::Value>,
    /// It is part of the result.
    pub taken: bool,
    /// Seconds of the final and its grain with the row less those without it: of rows that are taken with those above it, so that
    /// they add up; of others with all that are taken.
    pub seconds: f64,
    pub grain: f64,
    /// What the picture loses, in steps of 255 in 99 % of the blocks.
    pub loss: Option<f64>,
    /// Seconds of samples that are there and that the final could not use with the row.
    pub lost: f64,
}

impl FitRow {
    /// It makes more useless of what is there than it saves.
    pub fn costs_more(&self) -> bool {
        self.lost > 0.5 && self.lost > -self.seconds
    }
}

/// Minutes against grain.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, TS)]
pub struct CurvePoint {
    pub threshold: f64,
    pub seconds: f64,
    pub low: f64,
    pub high: f64,
    pub grain: f64,
}

/// Something that would bring the shot's own threshold within reach.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct WayOut {
    pub title: String,
    /// Seconds of the final; none where samples that are judged anew must tell.
    pub seconds: Option<f64>,
    /// Seconds of budget that it takes.
    pub budget: f64,
    #[ts(type = "Record<string, number | boolean | string>")]
    pub changes: BTreeMap<String, serde_json::Value>,
}

#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct Fit {
    pub budget: f64,
    pub rows: Vec<FitRow>,
    /// As it is now, and with the rows that are taken.
    pub now: Forecast,
    pub then: Forecast,
    pub threshold: f64,
    /// It ends within the budget.
    pub fits: bool,
    /// Where it does not, or only with a coarser threshold than now.
    pub ways_out: Vec<WayOut>,
    /// At the tuning with the rows taken, over thresholds.
    pub curve: Vec<CurvePoint>,
    #[ts(type = "Record<string, number | boolean | string>")]
    pub changes: BTreeMap<String, serde_json::Value>,
}

/// What is wanted.
#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct Wanted {
    /// Seconds that there are; the shot's own budget without.
    pub seconds: Option<f64>,
    /// Or the threshold that is wanted, whatever it takes.
    pub threshold: Option<f64>,
    /// Or a proof that is clean enough: its threshold is that of its blocks, 95 % of them.
    #[ts(as = "Option<i32>")]
    pub proof: Option<i64>,
    /// Rows that are not to be taken, by key.
    #[serde(default)]
    #[ts(type = "string[]", optional)]
    pub without: Vec<String>,
    /// Rows that are taken although they make more useless of what is there than they save.
    #[serde(default)]
    #[ts(type = "string[]", optional)]
    pub insist: Vec<String>,
    /// The frame may become smaller where its own threshold is out of reach.
    #[serde(default)]
    #[ts(type = "boolean", optional)]
    pub smaller: bool,
    /// A denoiser may be used where there is none.
    #[serde(default)]
    #[ts(type = "boolean", optional)]
    pub denoise: bool,
}

/// A test, what turns it, and the machine.
struct Bench<'a> {
    test: Measured<'a>,
    machine: &'a Machine,
    /// Most samples are not to be changed.
    keep_most: bool,
    /// Share of the superblocks that searches ask, and by how much longer all of them say that a final takes.
    asked: f64,
    ratio: f64,
}

impl Bench<'_> {
    /// From all superblocks.
    fn forecast(&self, tuning: &Tuning, rows: &[&Advice]) -> Option<Forecast> {
        self.forecast_by(tuning, rows, 1.0)
    }

    fn forecast_by(&self, tuning: &Tuning, rows: &[&Advice], asked: f64) -> Option<Forecast> {
        // What adaptive sampling saves and ended bounces leave out the forecast computes itself.
        let turning = rows.iter().filter(|a| a.key == "splits" || a.key.starts_with("source"));
        let (mut turned, mut variance) = (Turned { asked, ..Turned::default() }, 1.0);
        for a in turning {
            (turned.time, variance) = (turned.time * a.effect.time, variance * a.effect.variance);
        }
        let known = rows.iter().flat_map(|a| a.changes.keys().map(String::as_str)).collect();
        forecast_turned(self.test, tuning, None, self.machine, &Turned { variance, known, ..turned })
    }

    /// From a few superblocks, as all would say it.
    fn search(&self, tuning: &Tuning, rows: &[&Advice]) -> Option<Forecast> {
        let f = self.forecast_by(tuning, rows, self.asked)?;
        let by = self.ratio;
        Some(Forecast { seconds: by * f.seconds, low: by * f.low, high: by * f.high, ..f })
    }

    /// Puts the search right by what all superblocks say of a tuning; true if it was off.
    fn put_right(&mut self, tuning: &Tuning, rows: &[&Advice], all: &Forecast) -> bool {
        let Some(few) = self.search(tuning, rows).filter(|f| self.asked < 1.0 && f.seconds > 0.0) else { return false };
        let off = all.seconds / few.seconds;
        self.ratio *= off;
        (off - 1.0).abs() > OFF
    }

    /// With as few samples at the most as let all but one in 200 of the blocks settle that ever would, and leave little more
    /// grain where some never do.
    fn with_enough(&self, tuning: &Tuning, rows: &[&Advice]) -> Option<(Tuning, Forecast)> {
        let with_most = |n: u32| tuning.clone().with(K::SamplingMost, n);
        if self.keep_most {
            return Some((tuning.clone(), self.search(tuning, rows)?));
        }
        let all = self.search(&with_most(MOST), rows)?;
        let does = |f: &Forecast| f.settled >= 0.995 * all.settled && f.grain <= LITTLE_MORE * all.grain;
        let least = tuning.whole(K::SamplingLeast).max(16);
        let counts: Vec<u32> = ladder(MOST / 2).into_iter().map(|n| 2 * n).filter(|n| *n >= least).collect();
        let (mut low, mut high) = (0, counts.len());
        let mut enough = None;
        while low < high {
            let middle = (low + high) / 2;
            let t = with_most(counts[middle]);
            match self.search(&t, rows).filter(does) {
                Some(f) => (high, enough) = (middle, Some((t, f))),
                None => low = middle + 1,
            }
        }
        Some(enough.unwrap_or_else(|| (with_most(MOST), all.clone())))
    }
}

fn with(t: &Tuning, changes: &BTreeMap<String, serde_json::Value>) -> Option<Tuning> {
    t.changed(changes).ok()
}

fn one(k: K, v: impl Into<serde_json::Value>) -> BTreeMap<String, serde_json::Value> {
    [(id(k).to_string(), v.into())].into()
}

/// The threshold at a share of the way from the finest to the coarsest, in equal ratios. Logarithms and back end a rounding error
/// beside the limits, which the knob would refuse.
fn threshold_at(part: f64) -> f64 {
    (THRESHOLDS.0.ln() * (1.0 - part) + THRESHOLDS.1.ln() * part).exp().clamp(THRESHOLDS.0, THRESHOLDS.1)
}

/// Three significant digits, towards the coarser side: a hundredth of the threshold is about a fiftieth of the time.
fn rounded(t: f64) -> f64 {
    let unit = 10f64.powf(t.log10().floor() - 2.0);
    (((t / unit).ceil() * unit) * 1e6).round() / 1e6
}

/// The lowest threshold whose forecast stays within `seconds`; none if not even the coarsest does. Where most samples keep all
/// of them within, the highest one that leaves as little grain as any.
fn threshold_for(bench: &Bench, t: &Tuning, rows: &[&Advice], seconds: f64) -> Option<f64> {
    let at = |x: f64| Some(bench.with_enough(&t.clone().with(K::SamplingThreshold, x), rows)?.1);
    if at(THRESHOLDS.1)?.seconds > seconds {
        return None;
    }
    let finest = at(THRESHOLDS.0)?;
    let limited = finest.seconds <= seconds;
    let (mut low, mut high) = (THRESHOLDS.0.ln(), THRESHOLDS.1.ln());
    for _ in 0..12 {
        let middle = 0.5 * (low + high);
        let f = at(middle.exp())?;
        let finer = if limited { f.grain <= AS_LITTLE * finest.grain } else { f.seconds > seconds };
        if finer { low = middle } else { high = middle }
    }
    Some(if limited { low } else { high }.exp().max(THRESHOLDS.0))
}

/// With as many samples at the most as `seconds` pay for at the threshold as it is; none if not even the fewest.
fn evenly(bench: &Bench, t: &Tuning, rows: &[&Advice], seconds: f64) -> Option<(Tuning, Forecast)> {
    let at = |half: u32| {
        let t = t.clone().with(K::SamplingMost, 2 * half);
        bench.search(&t, rows).map(|f| (t, f)).filter(|(_, f)| f.seconds <= seconds)
    };
    let (mut low, mut high) = (t.whole(K::SamplingLeast).max(16).div_ceil(2), MOST / 2 + 1);
    at(low)?;
    while high - low > 1 {
        let middle = (low + high) / 2;
        if at(middle).is_some() { low = middle } else { high = middle }
    }
    at(low)
}

/// The frame in the same shape by a share of its sides.
fn sized(t: &Tuning, share: f64) -> Tuning {
    let side = |k: K| (t.whole(k) as f64 * share).round().max(1.0) as u32;
    t.clone().with(K::FrameWidth, side(K::FrameWidth)).with(K::FrameHeight, side(K::FrameHeight))
}

/// The largest frame that reaches the threshold of `t` within `seconds`, in steps of a hundredth; none below [`SMALLEST`].
fn size_for(bench: &Bench, t: &Tuning, rows: &[&Advice], seconds: f64) -> Option<Tuning> {
    let frame = |percent: u32| sized(t, 0.01 * percent as f64);
    let fits = |percent: u32| bench.with_enough(&frame(percent), rows).is_some_and(|(_, f)| f.seconds <= seconds);
    let (mut low, mut high) = (SMALLEST, 100);
    if !fits(low) {
        return None;
    }
    while high - low > 1 {
        let middle = (low + high) / 2;
        if fits(middle) { low = middle } else { high = middle }
    }
    Some(frame(low))
}

/// A row before it has its price.
struct Offer<'a> {
    row: FitRow,
    advice: Option<&'a Advice>,
}

/// Prices one after another, each with the rows above it taken, so that they add up from `tuning` to `then`; what is refused as
/// if it came on top of that.
fn priced(
    bench: &Bench,
    tuning: &Tuning,
    now: &Forecast,
    then: (&Tuning, &Forecast),
    offers: Vec<Offer>,
) -> Option<Vec<FitRow>> {
    let all: Vec<&Advice> = offers.iter().filter(|o| o.row.taken).filter_map(|o| o.advice).collect();
    let (mut at, mut on, mut before) = (tuning.clone(), Vec::new(), now.clone());
    let mut rows = Vec::new();
    for Offer { mut row, advice } in offers {
        let (from, to) = if row.taken {
            at = with(&at, &row.changes)?;
            on.extend(advice);
            // With the last of them it is what was found.
            let after =
                if at == *then.0 && on.len() == all.len() { then.1.clone() } else { bench.forecast(&at, &on)? };
            (std::mem::replace(&mut before, after.clone()), after)
        } else {
            let with_it: Vec<&Advice> = all.iter().copied().chain(advice).collect();
            (then.1.clone(), bench.forecast(&with(then.0, &row.changes)?, &with_it)?)
        };
        (row.seconds, row.grain) = (to.seconds - from.seconds, to.grain - from.grain);
        rows.push(row);
    }
    Some(rows)
}

/// What a search has found, forecast from all superblocks.
struct Found {
    /// The frame made smaller, where that is wanted and needed.
    small: Option<Tuning>,
    /// Threshold and most samples to offer, also where they are refused.
    offered: f64,
    enough: u32,
    then: Tuning,
    last: Forecast,
    /// As many samples for all blocks as the minutes pay for.
    is_even: bool,
}

/// Looks for size, threshold and most samples within `seconds`; `base` is the tuning with the rows that are taken already.
fn find(bench: &Bench, base: &Tuning, taken: &[&Advice], seconds: f64, wanted: &Wanted) -> Option<Found> {
    let refused = |key: &str| wanted.without.iter().any(|w| w == key);
    let own = base.real(K::SamplingThreshold);
    let far = wanted.threshold.is_none() && bench.with_enough(base, taken)?.1.seconds > AIM * seconds;
    let small = if wanted.smaller && far { size_for(bench, base, taken, AIM * seconds) } else { None };
    let shrunk = small.as_ref().filter(|_| !refused(SIZE));
    let offered = match (wanted.threshold, shrunk) {
        (Some(t), _) => t,
        (None, Some(_)) => own,
        (None, None) => {
            let finest = threshold_for(bench, base, taken, AIM * seconds).map_or(THRESHOLDS.1, rounded);
            if !far && (finest / own - 1.0).abs() < ALIKE { own } else { finest }
        }
    };
    let reached = if refused(id(K::SamplingThreshold)) { own } else { offered };
    let then = shrunk.unwrap_or(base).clone().with(K::SamplingThreshold, reached);
    // Also told where it is refused.
    let (with_enough, _) = Bench { keep_most: false, ..*bench }.with_enough(&then, taken)?;
    let enough = with_enough.whole(K::SamplingMost);
    let then = if bench.keep_most { then } else { with_enough };
    // Where few samples tell the grain of blocks badly, a threshold that the minutes reach ends many of them by chance: then as many
    // samples for all leave less.
    let free_to_choose = wanted.threshold.is_none() && shrunk.is_none() && !bench.keep_most && reached != own;
    let even = if free_to_choose { evenly(bench, base, taken, AIM * seconds) } else { None };
    let by_threshold = bench.search(&then, taken)?.grain;
    let forecast = |t: &Tuning| bench.forecast(t, taken);
    Some(match even.filter(|(_, f)| LITTLE_MORE * f.grain < by_threshold) {
        Some((then, _)) => {
            let (enough, last) = (then.whole(K::SamplingMost), forecast(&then)?);
            Found { small, offered: own, enough, then, last, is_even: true }
        }
        None => {
            let last = forecast(&then)?;
            Found { small, offered, enough, then, last, is_even: false }
        }
    })
}

/// Fits a tuning to `seconds`, or to the threshold that is wanted.
pub fn fit(test: Measured, tuning: &Tuning, machine: &Machine, seconds: f64, wanted: &Wanted) -> Option<Fit> {
    let refused = |key: &str| wanted.without.iter().any(|w| w == key);
    let asked = (ASKED as f64 / with_samples(test.counts).max(1) as f64).min(1.0);
    let mut bench = Bench { test, machine, keep_most: refused(id(K::SamplingMost)), asked, ratio: 1.0 };
    let now = bench.forecast(tuning, &[])?;
    bench.put_right(tuning, &[], &now);
    let mut free: Vec<Advice> = advise(test, tuning, machine);
    free.retain(|a| a.key == "splits" || a.key == id(K::DepthTotal) || a.key == "adaptive");
    let taken: Vec<&Advice> = free.iter().filter(|a| !refused(&a.key)).collect();
    let mut base = tuning.clone();
    for a in &taken {
        base = with(&base, &a.changes)?;
    }
    let own = tuning.real(K::SamplingThreshold);
    let mut found = find(&bench, &base, &taken, seconds, wanted)?;
    for left in (0..TRIES).rev() {
        if !bench.put_right(&found.then, &taken, &found.last) {
            break;
        }
        if left == 0 {
            // It does not come to rest: all are asked.
            (bench.asked, bench.ratio) = (1.0, 1.0);
        }
        found = find(&bench, &base, &taken, seconds, wanted)?;
    }
    let Found { small, offered, enough, then, last, is_even } = found;

    let row = |key: &str, title: String, why: &str, changes| FitRow {
        key: key.into(),
        title,
        why: why.into(),
        changes,
        taken: !refused(key),
        seconds: 0.0,
        grain: 0.0,
        loss: None,
        lost: 0.0,
    };
    let mut offers: Vec<Offer> = Vec::new();
    for a in &free {
        let row = row(&a.key, a.title.clone(), &a.why, a.changes.clone());
        offers.push(Offer { row: FitRow { loss: a.look.as_ref().map(|l| l.most), ..row }, advice: Some(a) });
    }
    let mut offer = |key: &str, title: String, why: &str, changes| {
        offers.push(Offer { row: row(key, title, why, changes), advice: None });
    };
    if let Some(small) = &small {
        let size = |t: &Tuning| (t.whole(K::FrameWidth), t.whole(K::FrameHeight));
        let ((w, h), (sw, sh)) = (size(tuning), size(small));
        let why = format!("the largest that reaches {:.2} % in the minutes", 100.0 * own);
        let mut changes = one(K::FrameWidth, sw);
        changes.extend(one(K::FrameHeight, sh));
        offer(SIZE, format!("size {w} × {h} → {sw} × {sh} px"), &why, changes);
    }
    if offered != own {
        let title = format!("threshold {:.2} % → {:.2} %", 100.0 * own, 100.0 * offered);
        let why = if wanted.threshold.is_some() { "as it is wanted" } else { "the finest that the minutes reach" };
        offer(id(K::SamplingThreshold), title, why, one(K::SamplingThreshold, offered));
    }
    let most = tuning.whole(K::SamplingMost);
    if enough != most {
        let why = match is_even {
            true => "as many as the minutes pay for; a threshold that they reach would leave more grain",
            false => "as many as nearly all blocks need for the threshold",
        };
        offer(id(K::SamplingMost), format!("most samples {most} → {enough}"), why, one(K::SamplingMost, enough));
    }
    let rows = priced(&bench, tuning, &now, (&then, &last), offers)?;

    let fits = last.seconds <= seconds;
    let mut changes = BTreeMap::new();
    for r in rows.iter().filter(|r| r.taken) {
        changes.extend(r.changes.clone());
    }
    let poor = !fits || is_even || then.real(K::SamplingThreshold) > 1.02 * own;
    let ways_out = if poor {
        ways_out(&bench, &then.clone().with(K::SamplingThreshold, own), &taken, seconds)?
    } else {
        Vec::new()
    };
    let curve = (0..POINTS).into_par_iter().filter_map(|i| {
        let x = threshold_at(i as f64 / (POINTS - 1) as f64);
        let f = bench.search(&then.clone().with(K::SamplingThreshold, x).with(K::SamplingMost, MOST), &taken)?;
        Some(CurvePoint { threshold: x, seconds: f.seconds, low: f.low, high: f.high, grain: f.grain })
    });
    let curve = curve.collect();
    Some(Fit {
        budget: seconds,
        rows,
        now,
        threshold: then.real(K::SamplingThreshold),
        then: last,
        fits,
        ways_out,
        curve,
        changes,
    })
}

/// A tuning with the quick denoiser, whole and for all parts, judged as delivered; none where there is a denoiser.
pub fn denoised(tuning: &Tuning) -> Option<Tuning> {
    const WHOLE: &[K] = &[K::CleanupBlend, K::CleanupDiffuse, K::CleanupSpecular, K::CleanupRest];
    let with = tuning.clone().taking(WHOLE, &Tuning::default());
    (tuning.choice::<Denoiser>() == Denoiser::None)
        .then(|| with.with(K::CleanupDenoise, "quick").with(K::SamplingJudge, "delivered"))
}

/// The same fit where a denoiser may be used: `cleaned` is the test as it is judged at the [`denoised`] tuning.
pub fn fit_denoised(
    test: Measured,
    cleaned: Measured,
    tuning: &Tuning,
    machine: &Machine,
    seconds: f64,
    wanted: &Wanted,
) -> Option<Fit> {
    let plain = fit(test, tuning, machine, seconds, wanted)?;
    let with_it = denoised(tuning)?;
    let refused = wanted.without.iter().any(|w| w == DENOISE);
    // Before the other rows where it is taken, on top of them where it is not.
    let (mut out, off, on) = if refused {
        let off = forecast(test, &with(tuning, &plain.changes)?, None, machine)?;
        let on = forecast(cleaned, &with(&with_it, &plain.changes)?, None, machine)?;
        (plain, off, on)
    } else {
        let out = fit(cleaned, &with_it, machine, seconds, wanted)?;
        let on = out.now.clone();
        (Fit { now: plain.now.clone(), ..out }, plain.now, on)
    };
    let values = with_it.to_map();
    let differences = tuning.differences(&with_it);
    let changes: BTreeMap<_, _> =
        differences.iter().map(|d| (d.id.to_string(), serde_json::json!(values[d.id]))).collect();
    if !refused {
        out.changes.extend(changes.clone());
    }
    let row = FitRow {
        key: DENOISE.into(),
        title: "quick denoiser, judged as delivered".into(),
        why: "judged from the test's own halves; look at what it takes from prints and texture".into(),
        changes,
        taken: !refused,
        seconds: on.seconds - off.seconds,
        grain: on.grain - off.grain,
        loss: None,
        lost: 0.0,
    };
    out.rows.insert(0, row);
    Some(out)
}

/// What would bring the shot's own threshold, as it is in `fine`, within the budget.
fn ways_out(bench: &Bench, fine: &Tuning, rows: &[&Advice], seconds: f64) -> Option<Vec<WayOut>> {
    let own = fine.real(K::SamplingThreshold);
    let sampling = |t: &Tuning| {
        let mut changes = one(K::SamplingThreshold, own);
        changes.extend(one(K::SamplingMost, t.whole(K::SamplingMost)));
        changes
    };
    let (whole, _) = bench.with_enough(fine, rows)?;
    let f = bench.forecast(&whole, rows)?;
    let budget = ROOM * f.seconds / AIM;
    if budget <= seconds {
        return Some(Vec::new());
    }
    let title = format!("{} more for a threshold of {:.2} %", spoken(budget - seconds), 100.0 * own);
    let mut out = vec![WayOut { title, seconds: Some(f.seconds), budget, changes: sampling(&whole) }];
    if let Some(small) = size_for(bench, fine, rows, AIM * seconds)
        && let Some((small, _)) = bench.with_enough(&small, rows)
        && let Some(f) = bench.forecast(&small, rows)
    {
        let (w, h) = (small.whole(K::FrameWidth), small.whole(K::FrameHeight));
        let title = format!("{w} × {h} px instead, at {:.2} %", 100.0 * own);
        let mut changes = one(K::FrameWidth, w);
        changes.extend(one(K::FrameHeight, h));
        changes.extend(sampling(&small));
        out.push(WayOut { title, seconds: Some(f.seconds), budget: seconds, changes });
    }
    if fine.choice::<Denoiser>() == Denoiser::None {
        let title = "a denoiser, judged as delivered: allow it to see how much coarser sampling may be".into();
        let quick = one(K::CleanupDenoise, serde_json::json!(Value::Name("quick".into())));
        out.push(WayOut { title, seconds: None, budget: seconds, changes: quick });
    }
    Some(out)
}

/// `40 s`, `12 min 05 s`: for sentences.
pub fn spoken(seconds: f64) -> String {
    let s = seconds.max(0.0).round() as u64;
    if s < 60 { format!("{s} s") } else { format!("{} min {:02} s", s / 60, s % 60) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_threshold_of_the_curve_is_one_that_the_knob_takes() {
        for i in 0..=1000 {
            let x = threshold_at(i as f64 / 1000.0);
            let mut t = Tuning::default();
            assert!(t.set("sampling.threshold", &serde_json::json!(x)).is_ok(), "{x:e}");
            assert!((0.0..=1.0).contains(&x));
        }
        assert!((threshold_at(0.0) / THRESHOLDS.0 - 1.0).abs() < 1e-12 && threshold_at(1.0) == THRESHOLDS.1);
    }
}
