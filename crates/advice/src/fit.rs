//! Fit to a budget: the tuning that leaves the least grain, as it is judged, within the minutes that there are.
//!
//! First what is free of charge: bounces that nobody sees, splits that a short trial has found better, adaptive sampling. Then
//! the threshold, by bisection on the forecast, with as many samples at the most as nearly all blocks need.

use crate::forecast::forecast_turned;
use crate::prices::id;
use crate::{Advice, Effect, Forecast, Machine, Measured, advise, forecast};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use tracer::ladder;
use ts_rs::TS;
use tuning::{K, Tuning, Value};

/// Share of the budget that is aimed at: what is foretold is not certain.
const AIM: f64 = 0.96;
/// Finest and coarsest threshold that is looked at.
const THRESHOLDS: (f64, f64) = (0.0005, 0.5);
/// Most samples a pixel that are proposed.
const MOST: u32 = 16_384;
/// Key of the row that makes the frame smaller, and the smallest one in percent of its sides.
const SIZE: &str = "frame.size";
const SMALLEST: u32 = 20;
/// Key of the row that brings a denoiser.
const DENOISE: &str = "cleanup.denoise";
/// Points of the curve.
const POINTS: usize = 25;

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
    /// Seconds of the final and its grain with the row less those without it, the other rows as they are.
    pub seconds: f64,
    pub grain: f64,
    /// What the picture loses, in steps of 255 in 99 % of the blocks.
    pub loss: Option<f64>,
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

/// Something that would bring the budget within reach.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct WayOut {
    pub title: String,
    pub seconds: f64,
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
}

impl Bench<'_> {
    fn forecast(&self, tuning: &Tuning, rows: &[&Advice]) -> Option<Forecast> {
        let turn = |a: Effect, b: &&Advice| Effect {
            time: a.time * b.effect.time,
            variance: a.variance * b.effect.variance,
            ..a
        };
        let even = Effect { time: 1.0, variance: 1.0, equal: 1.0 };
        // What adaptive sampling saves and ended bounces leave out the forecast computes itself.
        let turned: Vec<&&Advice> = rows.iter().filter(|a| a.key == "splits" || a.key.starts_with("source")).collect();
        let effect = turned.iter().fold(even, |e, a| turn(e, a));
        let known: Vec<&str> = rows.iter().flat_map(|a| a.changes.keys().map(String::as_str)).collect();
        forecast_turned(self.test, tuning, None, self.machine, (effect.time, effect.variance), &known)
    }
}

fn with(t: &Tuning, changes: &BTreeMap<String, serde_json::Value>) -> Option<Tuning> {
    t.changed(changes).ok()
}

fn one(k: K, v: impl Into<serde_json::Value>) -> BTreeMap<String, serde_json::Value> {
    [(id(k).to_string(), v.into())].into()
}

/// Two significant digits, towards the coarser side.
fn rounded(t: f64) -> f64 {
    let unit = 10f64.powf(t.log10().floor() - 1.0);
    (((t / unit).ceil() * unit) * 1e6).round() / 1e6
}

/// The lowest threshold whose forecast stays within `seconds`; none if not even the coarsest does.
fn threshold_for(bench: &Bench, t: &Tuning, rows: &[&Advice], seconds: f64) -> Option<f64> {
    let takes = |x: f64| bench.forecast(&t.clone().with(K::SamplingThreshold, x), rows).map(|f| f.seconds);
    if takes(THRESHOLDS.1)? > seconds {
        return None;
    }
    let (mut low, mut high) = (THRESHOLDS.0.ln(), THRESHOLDS.1.ln());
    for _ in 0..14 {
        let middle = 0.5 * (low + high);
        if takes(middle.exp())? > seconds { low = middle } else { high = middle }
    }
    Some(high.exp().max(THRESHOLDS.0))
}

/// The frame in the same shape by a share of its sides.
fn sized(t: &Tuning, share: f64) -> Tuning {
    let side = |k: K| (t.whole(k) as f64 * share).round().max(1.0) as u32;
    t.clone().with(K::FrameWidth, side(K::FrameWidth)).with(K::FrameHeight, side(K::FrameHeight))
}

/// The largest frame that reaches the threshold of `t` within `seconds`, in steps of a hundredth; none below [`SMALLEST`].
fn size_for(bench: &Bench, t: &Tuning, rows: &[&Advice], seconds: f64) -> Option<Tuning> {
    let frame = |percent: u32| sized(t, 0.01 * percent as f64);
    let fits = |percent: u32| bench.forecast(&frame(percent), rows).is_some_and(|f| f.seconds <= seconds);
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

/// With as few samples at the most as let all but one in 200 of the blocks settle that ever would.
fn with_enough(bench: &Bench, t: &Tuning, rows: &[&Advice]) -> Option<Tuning> {
    let with_most = |n: u32| t.clone().with(K::SamplingMost, n);
    let all = bench.forecast(&with_most(MOST), rows)?.settled;
    let least = t.whole(K::SamplingLeast).max(16);
    let enough = ladder(MOST / 2)
        .into_iter()
        .map(|n| 2 * n)
        .filter(|n| *n >= least)
        .find(|n| bench.forecast(&with_most(*n), rows).is_some_and(|f| f.settled >= 0.995 * all));
    Some(with_most(enough.unwrap_or(MOST)))
}

/// Fits a tuning to `seconds`, or to the threshold that is wanted.
pub fn fit(test: Measured, tuning: &Tuning, machine: &Machine, seconds: f64, wanted: &Wanted) -> Option<Fit> {
    let (threshold, without) = (wanted.threshold, &wanted.without);
    let bench = Bench { test, machine };
    let now = bench.forecast(tuning, &[])?;
    let mut free: Vec<Advice> = advise(test, tuning, machine);
    free.retain(|a| a.key == "splits" || a.key == id(K::DepthTotal) || a.key == "adaptive");
    let taken: Vec<&Advice> = free.iter().filter(|a| !without.contains(&a.key)).collect();
    let mut base = tuning.clone();
    for a in &taken {
        base = with(&base, &a.changes)?;
    }
    let own = tuning.real(K::SamplingThreshold);
    let refused = |k: K| without.iter().any(|w| w == id(k));
    // As many samples as are ever needed, then as few as do nearly as well.
    let mut open = if refused(K::SamplingMost) { base.clone() } else { base.clone().with(K::SamplingMost, MOST) };
    let mut reached = match threshold {
        Some(t) => Some(t),
        None if refused(K::SamplingThreshold) => Some(own),
        None => threshold_for(&bench, &open, &taken, AIM * seconds),
    };
    // Also where the threshold is kept on purpose.
    let far = threshold.is_none() && bench.forecast(&open, &taken)?.seconds > AIM * seconds;
    let small = if wanted.smaller && far { size_for(&bench, &open, &taken, AIM * seconds) } else { None };
    let refused_size = without.iter().any(|w| w == SIZE);
    if let Some(small) = small.as_ref().filter(|_| !refused_size) {
        (open, reached) = (small.clone(), Some(own));
    }
    let aim = reached.map_or(THRESHOLDS.1, rounded);
    let mut then = open.with(K::SamplingThreshold, aim);
    if !refused(K::SamplingMost) {
        then = with_enough(&bench, &then, &taken)?;
    }
    let last = bench.forecast(&then, &taken)?;

    let mut rows: Vec<FitRow> = Vec::new();
    for a in &free {
        let used = taken.iter().any(|t| t.key == a.key);
        // With the row against without it.
        let others: Vec<&Advice> = taken.iter().copied().filter(|t| t.key != a.key).collect();
        let back: BTreeMap<_, _> = a
            .changes
            .keys()
            .filter_map(|k| Some((k.clone(), serde_json::json!(tuning.to_map().get(k.as_str())?))))
            .collect();
        let bare = bench.forecast(&with(&then, &back)?, &others)?;
        let mut all = others.clone();
        all.push(a);
        let full = bench.forecast(&with(&then, &a.changes)?, &all)?;
        rows.push(FitRow {
            key: a.key.clone(),
            title: a.title.clone(),
            why: a.why.clone(),
            changes: a.changes.clone(),
            taken: used,
            seconds: full.seconds - bare.seconds,
            grain: full.grain - bare.grain,
            loss: a.look.as_ref().map(|l| l.most),
        });
    }
    let mut knob = |k: K, title: String, why: &str| {
        let (was, is) = (tuning.to_map()[id(k)], then.to_map()[id(k)]);
        if was == is && !refused(k) {
            return Some(());
        }
        let value = if refused(k) { serde_json::json!(was) } else { serde_json::json!(is) };
        let bare = bench.forecast(&with(&then, &one(k, serde_json::json!(was)))?, &taken)?;
        rows.push(FitRow {
            key: id(k).into(),
            title,
            why: why.into(),
            changes: one(k, value),
            taken: !refused(k),
            seconds: last.seconds - bare.seconds,
            grain: last.grain - bare.grain,
            loss: None,
        });
        Some(())
    };
    let percent = |x: f64| format!("{:.2} %", 100.0 * x);
    knob(
        K::SamplingThreshold,
        format!("threshold {} → {}", percent(own), percent(then.real(K::SamplingThreshold))),
        if threshold.is_some() { "as it is wanted" } else { "the finest that the minutes reach" },
    )?;
    knob(
        K::SamplingMost,
        format!("most samples {} → {}", tuning.whole(K::SamplingMost), then.whole(K::SamplingMost)),
        "as many as nearly all blocks need for that",
    )?;

    if let Some(small) = &small {
        let size = |t: &Tuning| (t.whole(K::FrameWidth), t.whole(K::FrameHeight));
        let ((w, h), (sw, sh)) = (size(tuning), size(small));
        let bare = bench.forecast(&then.clone().with(K::FrameWidth, w).with(K::FrameHeight, h), &taken)?;
        let full = bench.forecast(&then.clone().with(K::FrameWidth, sw).with(K::FrameHeight, sh), &taken)?;
        let mut changes = one(K::FrameWidth, sw);
        changes.extend(one(K::FrameHeight, sh));
        rows.push(FitRow {
            key: SIZE.into(),
            title: format!("size {w} × {h} → {sw} × {sh} px"),
            why: format!("the largest that reaches {:.2} % in the minutes", 100.0 * own),
            changes,
            taken: !refused_size,
            seconds: full.seconds - bare.seconds,
            grain: full.grain - bare.grain,
            loss: None,
        });
    }
    let fits = last.seconds <= seconds;
    let mut changes = BTreeMap::new();
    for r in rows.iter().filter(|r| r.taken) {
        changes.extend(r.changes.clone());
    }
    let poor = !fits || then.real(K::SamplingThreshold) > 1.02 * own;
    let ways_out = if poor {
        let fine = then.clone().with(K::SamplingThreshold, own);
        // What a coarser threshold needs is not enough for it.
        let fine = if refused(K::SamplingMost) { fine } else { with_enough(&bench, &fine, &taken)? };
        ways_out(&bench, &fine, &taken, seconds)
    } else {
        Vec::new()
    };
    let curve = (0..POINTS).filter_map(|i| {
        let part = i as f64 / (POINTS - 1) as f64;
        let x = (THRESHOLDS.0.ln() * (1.0 - part) + THRESHOLDS.1.ln() * part).exp();
        let f = bench.forecast(&then.clone().with(K::SamplingThreshold, x).with(K::SamplingMost, MOST), &taken)?;
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
    (tuning.name(K::CleanupDenoise) == "none")
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
    let now = plain.now.clone();
    let mut out = if refused { plain } else { Fit { now, ..fit(cleaned, &with_it, machine, seconds, wanted)? } };
    let on = forecast(cleaned, &with(&with_it, &out.changes)?, None, machine)?;
    let off = forecast(test, &with(tuning, &out.changes)?, None, machine)?;
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
    };
    out.rows.push(row);
    Some(out)
}

/// What would bring the shot's own threshold, as it is in `fine`, within the budget.
fn ways_out(bench: &Bench, fine: &Tuning, rows: &[&Advice], seconds: f64) -> Vec<WayOut> {
    let own = fine.real(K::SamplingThreshold);
    let mut sampling = one(K::SamplingThreshold, own);
    sampling.extend(one(K::SamplingMost, fine.whole(K::SamplingMost)));
    let mut out = Vec::new();
    if let Some(f) = bench.forecast(fine, rows) {
        // Only the margin was too small for it.
        if f.seconds <= seconds {
            return out;
        }
        let title = format!("{} more for a threshold of {:.2} %", spoken(f.seconds - seconds), 100.0 * own);
        out.push(WayOut { title, seconds: f.seconds, changes: sampling.clone() });
    }
    if let Some(small) = size_for(bench, fine, rows, seconds)
        && let Some(f) = bench.forecast(&small, rows)
    {
        let (w, h) = (small.whole(K::FrameWidth), small.whole(K::FrameHeight));
        let title = format!("{w} × {h} px instead, at {:.2} %", 100.0 * own);
        let mut changes = one(K::FrameWidth, w);
        changes.extend(one(K::FrameHeight, h));
        changes.extend(sampling);
        out.push(WayOut { title, seconds: f.seconds, changes });
    }
    if fine.name(K::CleanupDenoise) == "none"
        && let Some(f) = bench.forecast(&fine.clone().with(K::CleanupDenoise, "quick"), rows)
    {
        let title = "a denoiser, judged as delivered: allow it to see how much coarser sampling may be".into();
        let quick = one(K::CleanupDenoise, serde_json::json!(Value::Name("quick".into())));
        out.push(WayOut { title, seconds: f.seconds, changes: quick });
    }
    out
}

/// `40 s`, `12 min 05 s`: for sentences.
pub fn spoken(seconds: f64) -> String {
    let s = seconds.max(0.0).round() as u64;
    if s < 60 { format!("{s} s") } else { format!("{} min {:02} s", s / 60, s % 60) }
}
