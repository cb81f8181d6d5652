//! What knobs cost and buy: the seconds of the final that a knob's next coarser step would save with the rest equal, and
//! what that step would lose. Prices do not add up: each holds while all others stay.
//!
//! Counts and thresholds come from the forecast with the step taken; where the test has gone as far as the final, blocks remember
//! where they would have ended, and the step is counted. Depths come from the depth ledger: the time of the
//! deepest bounce, and its light. Splits come from the time that their rays take, less what
//! adaptive sampling spends on the noise of fewer rays; what they buy is known after a pilot. A knob without a price has none that
//! can be computed without rendering.

use crate::forecast::split_effect;
use crate::{Machine, Measured, forecast};
use picture::noise::Loss;
use serde::Serialize;
use tracer::{DepthKind, SplitKind, previous};
use ts_rs::TS;
use tuning::{Denoiser, K, KNOBS, Tuning, Value};

#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct Price {
    pub knob: &'static str,
    /// The next coarser step.
    pub step: Value,
    /// Seconds of the final that it would save.
    pub seconds: f64,
    /// Half of their 95 % interval, where they are the difference of what is saved and of what is spent for it.
    pub unsure: Option<f64>,
    /// Grain of the final now and after the step, as shares of the display range, where grain is what it loses.
    pub grain: Option<(f64, f64)>,
    /// What the picture would lose, where that is its look.
    pub look: Option<Loss>,
    /// How the figures came about.
    pub from: Basis,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Basis {
    /// Counted in the test.
    Measured,
    /// Extrapolated from it.
    Extrapolated,
}

/// The knob of a depth limit.
pub(crate) fn depth_knob(kind: DepthKind) -> K {
    match kind {
        DepthKind::All => K::DepthTotal,
        DepthKind::Diffuse => K::DepthDiffuse,
        DepthKind::Reflection => K::DepthReflection,
        DepthKind::Transmission => K::DepthTransmission,
        DepthKind::Volume => K::DepthVolume,
    }
}

pub(crate) fn split_knob(kind: SplitKind) -> K {
    match kind {
        SplitKind::Direct => K::SplitDirect,
        SplitKind::Diffuse => K::SplitDiffuse,
        SplitKind::Reflection => K::SplitReflection,
        SplitKind::Transmission => K::SplitTransmission,
    }
}

pub(crate) fn id(k: K) -> &'static str {
    KNOBS[k as usize].id
}

/// Two significant digits.
fn round(x: f64) -> f64 {
    let unit = 10f64.powf(x.log10().floor() - 1.0);
    // Twice, so that 0.014 does not come out as 0.014000000000000002.
    ((x / unit).round() * unit * 1e6).round() / 1e6
}

/// Prices of the knobs of a final at `tuning` as far as the test tells them.
pub fn prices(test: Measured, tuning: &Tuning, machine: &Machine) -> Vec<Price> {
    let Some(now) = forecast(test, tuning, None, machine) else { return Vec::new() };
    let mut out = Vec::new();
    // Two forecasts; what the step does to the grain is told where `known` says that it is.
    let step_of = |knob: K, step: Value, known: bool| {
        let changed = [(id(knob).to_string(), serde_json::json!(step))].into();
        let then = forecast(test, &tuning.changed(&changed).ok()?, None, machine)?;
        let grain = known.then_some((now.grain, then.grain));
        let from = if now.counted && then.counted { Basis::Measured } else { Basis::Extrapolated };
        let seconds = now.seconds - then.seconds;
        Some(Price { knob: id(knob), step, seconds, unsure: None, grain, look: None, from })
    };
    let mut stepped = |knob: K, step: Value| out.extend(step_of(knob, step, knob != K::CleanupDenoise));
    let adaptive = tuning.switch(K::SamplingAdaptive);
    let (least, most) = (tuning.whole(K::SamplingLeast), tuning.whole(K::SamplingMost));
    if adaptive {
        stepped(K::SamplingThreshold, Value::Real(round(tuning.real(K::SamplingThreshold) * 2f64.sqrt()).min(1.0)));
        if least > 2 {
            stepped(K::SamplingLeast, Value::Whole(previous(least).max(2)));
        }
    }
    if previous(most) >= least.max(2) {
        stepped(K::SamplingMost, Value::Whole(previous(most)));
    }
    stepped(K::SamplingEffort, Value::Real(round(tuning.real(K::SamplingEffort) / 2f64.sqrt()).max(0.1)));
    let oversize = tuning.real(K::FrameOversize);
    if oversize > 1.0 {
        stepped(K::FrameOversize, Value::Real((oversize - 0.25).max(1.0)));
    }
    if tuning.choice::<Denoiser>() != Denoiser::None {
        stepped(K::CleanupDenoise, Value::Name("none".into()));
    }
    let report = test.report;
    for table in &report.ledgers.depth {
        let limit = tuning.whole(depth_knob(table.kind));
        let Some(at) = table.rows.iter().position(|r| r.bounces == limit) else { continue };
        // What the first bounce of a kind brings is not told apart from the rest, so the step to none has no loss.
        let look = if at > 0 { Some(table.rows[at - 1].loss) } else { None };
        if limit > 0 && look.is_some() {
            out.push(Price {
                knob: id(depth_knob(table.kind)),
                step: Value::Whole(limit - 1),
                seconds: now.sampling * table.rows[at].time,
                unsure: None,
                grain: None,
                look,
                from: Basis::Measured,
            });
        }
    }
    for row in report.ledgers.splits.iter().filter(|r| r.split > 1 && r.split == tuning.whole(split_knob(r.kind))) {
        // Fewer rays leave more variance, for which adaptive sampling takes more samples: what they save is spent again, all of it or
        // more, and the sign of the difference is known no better than the variance.
        let next = tuning.clone().with(split_knob(row.kind), row.split - 1);
        let effect = split_effect(test, &next, &[]);
        let price = step_of(split_knob(row.kind), Value::Whole(row.split - 1), effect.tried);
        out.extend(price.map(|p| Price { unsure: Some(effect.unsure * (now.sampling - p.seconds)), ..p }));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_are_round() {
        assert_eq!([0.014142, 0.0283, 0.71].map(round), [0.014, 0.028, 0.71]);
    }
}
