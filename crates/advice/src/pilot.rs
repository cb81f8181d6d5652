//! A pilot of trials: short renders of one area that differ in one knob each, on the same random numbers otherwise, so that
//! their differences tell more than their noise. What splits and roulette do to time and variance is measured, not
//! guessed: the variance within a camera sample could also be read off two rays of one sample, but ours are spread evenly
//! over all samples, and that estimate promised gains that did not come.

use crate::advise::Effect;
use crate::costs::split_of;
use crate::prices::{id, split_knob};
use picture::noise::{ratio_of_sums, sample_variances};
use picture::{Plate, View};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use tracer::{RayKind, RenderReport, SplitKind};
use tuning::{K, Tuning, Value};

/// Most rays of a split that are advised.
const MOST: u32 = 16;
/// Samples a pixel of each render.
pub const PILOT_SAMPLES: u32 = 32;

/// What one render tells of a camera sample's time and variance.
pub struct Sampled {
    pub report: RenderReport,
    /// Displayed variance of a camera sample, summed over each square.
    squares: Vec<f64>,
}

impl Sampled {
    pub fn of(report: RenderReport, plate: &Plate, view: &View) -> Sampled {
        Sampled { report, squares: sample_variances(plate, view) }
    }

    /// What another render of the same area took and left against this one.
    pub fn against(&self, then: &Sampled) -> Effect {
        let (variance, unsure) = ratio_of_sums(&self.squares, &then.squares);
        Effect::new(time_ratio(&self.report, &then.report), variance, unsure)
    }
}

/// One knob turned.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Trial {
    pub knob: String,
    pub from: u32,
    pub to: u32,
    /// Against the render without the change.
    pub effect: Effect,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Pilot {
    pub trials: Vec<Trial>,
    /// Several splits at once, as the trials suggest them, rendered too: counts by knob, and what they did.
    pub together: Option<(BTreeMap<String, u32>, Effect)>,
}

/// The fixed counts under which all of a pilot renders.
pub fn pilot_tuning(t: &Tuning) -> Tuning {
    let t = t.clone().with(K::SamplingAdaptive, false).with(K::SamplingEffort, 1.0).with(K::DeliveryParts, true);
    t.with(K::SamplingLeast, 2u32).with(K::SamplingMost, PILOT_SAMPLES)
}

/// How many times the rays a trial takes: its result holds up to there, and another pilot goes on from there. Powers of two are what a
/// digital sequence in base 2 spreads best (Niederreiter 1992): four light rays are nearly always cheaper than three for the same grain.
const TIMES: u32 = 4;

/// Trials that may pay, what they take and what they can bring.
pub struct Trials {
    pub list: Vec<(&'static str, Value)>,
    /// Seconds of all renders together.
    pub seconds: f64,
    /// Seconds that the final would be shorter by if all came out at its best.
    pub wins: f64,
}

impl Trials {
    pub fn renders(&self) -> usize {
        // As it is, each trial, and several splits at once.
        self.list.len() + 2
    }

    pub fn pays(&self) -> bool {
        !self.list.is_empty() && self.seconds < self.wins
    }

    /// What is worth trying on a scene: four times the rays of every kind that occurs, half of them and one less, which is the step
    /// that prices tell, and roulette from half and twice the bounce. A trial that takes `each` seconds and could save less of a final
    /// of `whole` seconds is left out.
    pub fn of(report: &RenderReport, tuning: &Tuning, each: f64, whole: f64) -> Trials {
        let all = possible(report, tuning);
        let kept: Vec<_> = all.into_iter().filter(|(_, _, most)| most * whole > each).collect();
        let mut best: BTreeMap<&str, f64> = BTreeMap::new();
        kept.iter().for_each(|(knob, _, most)| {
            let so_far = best.entry(knob).or_default();
            *so_far = so_far.max(*most);
        });
        let left: f64 = best.values().map(|most| 1.0 - most).product();
        let list: Vec<_> = kept.into_iter().map(|(knob, to, _)| (knob, to)).collect();
        let mut plan = Trials { list, seconds: 0.0, wins: whole * (1.0 - left) };
        plan.seconds = each * plan.renders() as f64;
        plan
    }
}

/// All trials, with the share of the time at the same grain that each could save at best: fewer rays all of the time that goes into
/// them; more rays their share of the variance, of which the noise ledger may tell less than half; earlier roulette the time of
/// the bounces that it ends, later roulette the variance of what is not lit directly.
fn possible(report: &RenderReport, tuning: &Tuning) -> Vec<(&'static str, Value, f64)> {
    /// A part causes up to so many times the variance that the ledger charges to it.
    const CHARGED_AT_MOST: f64 = 2.4;
    let parts = || report.noise.iter().flat_map(|n| &n.parts);
    let caused = |which: &dyn Fn(Option<SplitKind>) -> bool| {
        let share: f64 = parts().filter(|p| which(split_of(&p.name))).map(|p| p.share.max(0.0)).sum();
        if report.noise.is_some() { (CHARGED_AT_MOST * share).min(1.0) } else { 1.0 }
    };
    let mut out = Vec::new();
    for row in &report.ledgers.splits {
        let (knob, now) = (id(split_knob(row.kind)), tuning.whole(split_knob(row.kind)));
        let at = |n: u32| n as f64 / now as f64;
        if row.time > 0.005 && now <= MOST / 2 {
            let more = (TIMES * now).min(MOST);
            let time = 1.0 + row.time * (at(more) - 1.0);
            let variance = 1.0 - caused(&|kind| kind == Some(row.kind)) * (1.0 - 1.0 / at(more));
            out.push((knob, Value::Whole(more), 1.0 - time * variance));
        }
        let fewer: BTreeSet<u32> = [now / 2, now.saturating_sub(1)].into();
        let fewer = fewer.into_iter().filter(|n| *n > 0);
        out.extend(fewer.map(|n| (knob, Value::Whole(n), row.time * (1.0 - at(n)))));
    }
    let roulette = tuning.whole(K::RouletteFrom);
    let depth = report.ledgers.depth.first().filter(|t| t.rows.len() > roulette as usize);
    if let Some(table) = depth {
        let beyond = table.rows.iter().filter(|r| r.bounces > roulette / 2);
        let earlier = (roulette / 2, beyond.map(|r| r.time).sum::<f64>());
        let later = (2 * roulette, caused(&|kind| kind != Some(SplitKind::Direct)));
        let turned = [earlier, later].into_iter().filter(|(r, _)| *r > 0);
        out.extend(turned.map(|(r, most)| (id(K::RouletteFrom), Value::Whole(r), most)));
    }
    out
}

/// Time of a camera sample under `now` in units of one under `base`, from the rays of each kind and what such rays cost in
/// `base`: counts are exact, while clocks of short renders are disturbed by whatever else runs.
pub fn time_ratio(base: &RenderReport, now: &RenderReport) -> f64 {
    let each = |kind: RayKind, r: &RenderReport| r.rays.iter().find(|x| x.kind == kind).map_or(0.0, |x| x.per_sample);
    let all: f64 = base.rays.iter().map(|r| r.share).sum();
    let paid = base.rays.iter().filter(|r| r.per_sample > 0.0);
    paid.map(|r| r.share * each(r.kind, now) / r.per_sample).sum::<f64>() / all.max(1e-12)
}

impl Pilot {
    /// From a render at [`pilot_tuning`] and one for each trial of a [`Trials`].
    pub fn of(base: &Sampled, tuning: &Tuning, tried: &[(&'static str, Value, Sampled)]) -> Option<Pilot> {
        let values = tuning.to_map();
        let trials = tried.iter().map(|(knob, to, then)| {
            let (Some(Value::Whole(from)), Value::Whole(to)) = (values.get(knob), to) else { return None };
            let e = base.against(then);
            // What more rays add is what the split took before.
            let split = base.report.ledgers.splits.iter().find(|s| id(split_knob(s.kind)) == *knob);
            let time = split.map_or(e.time, |s| 1.0 + s.time * (*to as f64 / *from as f64 - 1.0));
            Some(Trial { knob: knob.to_string(), from: *from, to: *to, effect: e.carried_over(time) })
        });
        Some(Pilot { trials: trials.collect::<Option<_>>()?, together: None })
    }

    /// Splits that the trials suggest together, if they change more than one: they want to be rendered, since what short trials
    /// promise one by one is not to be had all at once.
    pub fn candidate(&self) -> Option<BTreeMap<&'static str, u32>> {
        let splits = self.splits();
        let best = splits.best();
        let changed = splits.rays.iter().filter(|r| best[id(split_knob(r.kind))] != r.from).count();
        (changed > 1).then_some(best)
    }

    /// Takes in the render of the candidate.
    pub fn confirm(&mut self, counts: &BTreeMap<&'static str, u32>, base: &Sampled, then: &Sampled) {
        let e = base.against(then);
        let counts = counts.iter().map(|(k, n)| (k.to_string(), *n)).collect();
        self.together = Some((counts, e.carried_over(e.time)));
    }

    pub(crate) fn trials(&self, knob: K) -> impl Iterator<Item = &Trial> {
        self.trials.iter().filter(move |t| t.knob == id(knob))
    }

    /// Costs and variances of single rays, as the splits' trials tell them.
    pub(crate) fn splits(&self) -> Splits {
        let kinds = [SplitKind::Direct, SplitKind::Diffuse, SplitKind::Reflection, SplitKind::Transmission];
        let rays = kinds.into_iter().filter_map(|kind| {
            let t = self.trials(split_knob(kind)).next()?;
            let (from, to) = (t.from as f64, t.to as f64);
            let cost = (t.effect.time - 1.0) / (to - from);
            let variance = ((1.0 - t.effect.variance) / (1.0 / from - 1.0 / to)).max(0.0);
            Some(Rays { kind, from: t.from, most: t.to, cost, variance })
        });
        let mut rays: Vec<Rays> = rays.collect();
        // What is left with the camera is at least a tenth: short trials promise a little too much.
        let taken: f64 = rays.iter().map(|r| r.variance / r.from as f64).sum();
        rays.iter_mut().for_each(|r| r.variance *= (0.9 / taken.max(1e-12)).min(1.0));
        Splits { rays }
    }

    /// Whether a tuning has the splits from which the trials were made.
    pub fn holds_for(&self, tuning: &Tuning) -> bool {
        self.trials.iter().all(|t| tuning.to_map().get(t.knob.as_str()).is_some_and(|v| **v == Value::Whole(t.from)))
    }

    /// How the square of the grain would change from one number of rays to another, with half of its interval: as a trial of just
    /// that came out, else by what the trials tell of single rays.
    pub(crate) fn variance_at(&self, kind: SplitKind, from: u32, to: u32) -> Option<(f64, f64)> {
        if let Some(t) = self.trials(split_knob(kind)).find(|t| (t.from, t.to) == (from, to)) {
            return Some((t.effect.variance, t.effect.variance_unsure()));
        }
        let splits = self.splits();
        let now: BTreeMap<&str, u32> = [(id(split_knob(kind)), from)].into();
        let then: BTreeMap<&str, u32> = [(id(split_knob(kind)), to)].into();
        let told = Effect::new(1.0, splits.at(&then).1 / splits.at(&now).1, 0.0).carried_over(1.0);
        splits.rays.iter().any(|r| r.kind == kind).then(|| (told.variance, told.variance_unsure()))
    }
}

/// Rays of one kind within a camera sample, in units of the pilot's camera sample.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Rays {
    pub kind: SplitKind,
    /// As many as the pilot began with, and as many as were tried: nothing is said of more.
    pub from: u32,
    pub most: u32,
    pub cost: f64,
    pub variance: f64,
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Splits {
    pub rays: Vec<Rays>,
}

impl Splits {
    /// Time and variance of a camera sample with so many rays of each kind: the pilot's where nothing is said.
    pub fn at(&self, counts: &BTreeMap<&str, u32>) -> (f64, f64) {
        let (mut time, mut variance) = (1.0, 1.0);
        for r in &self.rays {
            let n = *counts.get(id(split_knob(r.kind))).unwrap_or(&r.from) as f64;
            time += r.cost * (n - r.from as f64);
            variance -= r.variance * (1.0 / r.from as f64 - 1.0 / n);
        }
        // What the rays take can never be all of it.
        (time.max(0.05), variance.max(0.05))
    }

    /// The counts of the least time for a variance, by Neyman's allocation among powers of two and what there is.
    pub fn best(&self) -> BTreeMap<&'static str, u32> {
        let mut all: Vec<BTreeMap<&str, u32>> = vec![BTreeMap::new()];
        for r in &self.rays {
            let counts = || (1..=r.most).filter(|n| n.is_power_of_two() || *n == r.from);
            let with = |so_far: &BTreeMap<&'static str, u32>, n: u32| {
                let mut counts = so_far.clone();
                counts.insert(id(split_knob(r.kind)), n);
                counts
            };
            all = all.iter().flat_map(|so_far| counts().map(|n| with(so_far, n))).collect();
        }
        let equal = |counts: &BTreeMap<&str, u32>| {
            let (time, variance) = self.at(counts);
            time * variance
        };
        // On a flat optimum the fewest rays, which come first.
        all.into_iter().min_by(|a, b| equal(a).total_cmp(&equal(b))).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Against Neyman's formula n = √(V C_0 / (C V_0)).
    #[test]
    fn the_best_split_is_neymans() {
        for (cost, variance) in [(0.1, 0.8), (0.02, 0.5), (0.5, 0.3)] {
            let kind = SplitKind::Direct;
            let splits = Splits { rays: vec![Rays { kind, from: 1, most: 16, cost, variance }] };
            let exact = (variance * (1.0 - cost) / (cost * (1.0 - variance))).sqrt();
            let best = splits.best()["split.direct"] as f64;
            // One of the powers of two on both sides of it.
            assert!((0.5..=2.0).contains(&(best / exact)) || best == 1.0, "{best} {exact}");
            let at = |n: f64| (1.0 - cost + cost * n) * (1.0 - variance + variance / n);
            let around = 2f64.powi(exact.log2().floor() as i32).max(1.0);
            assert!(at(best) <= at(around).min(at(2.0 * around)) + 1e-12);
        }
    }
}
