//! Advice that follows from the ledgers: what to change, why, and what it should bring.
//!
//! Splits: a render's time for a given variance goes with (C_0 + Σ C_p n_p)(V_0 + Σ V_p / n_p), where C_0 and V_0 are cost
//! and variance of the camera sample itself, C_p and V_p those of one ray of a part within it. The best counts are
//! n_p = √(V_p C_0 / (C_p V_0)) (Neyman 1934; Bolin and Meyer 1997), found among powers of two. Costs and variances come from
//! a [`Pilot`]'s trials, and only what was rendered is told.

use crate::forecast::CHARGED;
use crate::prices::{depth_knob, id, split_knob};
use crate::{Forecast, Machine, Measured, Pilot, forecast};
use picture::noise::{LIGHT, Loss, NoiseLedger};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use tracer::{DepthKind, Ledgers, SPLIT_KINDS, SplitKind};
use ts_rs::TS;
use tuning::{K, Tuning, Value};

/// Half a step of the display's 255: what nobody sees.
const UNSEEN: f64 = 0.5;
/// Advice that brings less is not worth a line.
const WORTH: f64 = 0.01;
/// Half interval of the time of deep bounces, relative.
const BOUNCES: f64 = 0.3;

/// What a change should do to a render, or did, against the render without it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
pub struct Effect {
    /// Processor time for each camera sample.
    pub time: f64,
    /// Square of the grain at equal samples.
    pub variance: f64,
    /// Time at equal grain: their product.
    pub equal: f64,
    /// Half of its 95 % interval.
    #[serde(default)]
    pub unsure: f64,
}

impl Effect {
    /// From the half interval of the variance: times are counted in rays.
    pub fn new(time: f64, variance: f64, unsure: f64) -> Effect {
        Effect { time, variance, equal: time * variance, unsure: time * unsure }
    }

    /// The same for the whole picture and all of its samples, where a short trial has told it and a camera sample takes `time`: what it
    /// measured, how much of a change carries over, and how well few samples are spread, which depends on their number.
    pub(crate) fn carried_over(&self, time: f64) -> Effect {
        const CARRIES: f64 = 0.3;
        const CHANCE: f64 = 0.08;
        let unsure = self.variance_unsure().hypot(CHANCE * self.variance).hypot(CARRIES * (self.variance - 1.0));
        Effect::new(time, self.variance, unsure)
    }

    /// Half of the 95 % interval of the variance.
    pub(crate) fn variance_unsure(&self) -> f64 {
        self.unsure / self.time.max(1e-12)
    }

    /// Whether it surely saves time.
    pub fn pays(&self) -> bool {
        self.equal + self.unsure < 1.0
    }

    /// Share of the time that it saves at best.
    pub fn at_best(&self) -> f64 {
        (1.0 - self.equal + self.unsure).clamp(0.0, 1.0)
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct Advice {
    /// Tells rows apart.
    pub key: String,
    pub title: String,
    pub why: String,
    /// Knobs to change.
    #[ts(type = "Record<string, number | boolean | string>")]
    pub changes: BTreeMap<String, serde_json::Value>,
    /// Lights to switch off.
    pub lights_off: Vec<String>,
    pub effect: Effect,
    /// What the picture loses.
    pub look: Option<Loss>,
}

/// Advice on a shot at `tuning` from a test, what pays most first and nothing that may not pay at all. Without a pilot nothing is known
/// of splits and roulette.
pub fn advise(test: Measured, tuning: &Tuning, machine: &Machine) -> Vec<Advice> {
    let report = test.report;
    let mut rows = Vec::new();
    if let Some(pilot) = test.pilot {
        rows.extend(split_rows(pilot, tuning));
        rows.extend(roulette_row(pilot, tuning));
    }
    if let Some(noise) = &report.noise {
        rows.extend(light_rows(&report.ledgers, noise));
    }
    rows.extend(report.ledgers.depth.iter().filter_map(|t| depth_row(t, tuning)));
    rows.extend(adaptive_row(test, tuning, machine));
    rows.retain(|a| a.effect.pays());
    rows.sort_by(|a, b| a.effect.equal.total_cmp(&b.effect.equal));
    rows
}

fn one(k: K, v: Value) -> BTreeMap<String, serde_json::Value> {
    [(id(k).to_string(), serde_json::json!(v))].into()
}

fn percent(x: f64) -> String {
    let x = 100.0 * x;
    // Else what is nearly nothing may have a sign.
    let x = if x.abs() < 0.05 { 0.0 } else { x };
    if x.abs() < 0.95 { format!("{x:.1} %") } else { format!("{x:.0} %") }
}

fn split_name(kind: SplitKind) -> &'static str {
    match kind {
        SplitKind::Direct => "light rays",
        SplitKind::Diffuse => "diffuse rays",
        SplitKind::Reflection => "reflection rays",
        SplitKind::Transmission => "transmission rays",
    }
}

/// A knob of a pilot's trial, turned: "light rays 2 → 8".
pub fn turned(knob: &str, from: &Tuning, to: &Value) -> String {
    let now = from.to_map().get(knob).map_or(String::new(), |v| v.to_string());
    let kind = SPLIT_KINDS.into_iter().find(|k| id(split_knob(*k)) == knob);
    format!("{} {now} → {to}", kind.map_or("roulette from", split_name))
}

fn split_rows(pilot: &Pilot, tuning: &Tuning) -> Vec<Advice> {
    let row = |key: String, counts: Vec<(SplitKind, u32, u32)>, effect: Effect, why: String| Advice {
        key,
        title: counts.iter().map(|(k, a, b)| format!("{} {a} → {b}", split_name(*k))).collect::<Vec<_>>().join(", "),
        why,
        changes: counts.iter().map(|(k, _, n)| (id(split_knob(*k)).to_string(), serde_json::json!(n))).collect(),
        lights_off: Vec::new(),
        effect,
        look: None,
    };
    if !pilot.holds_for(tuning) {
        return Vec::new();
    }
    let of = |kind| pilot.trials(split_knob(kind)).map(move |t| (kind, t));
    let trials: Vec<_> = SPLIT_KINDS.into_iter().flat_map(of).collect();
    let mut out = Vec::new();
    if let Some((counts, effect)) = &pilot.together {
        let counts: Vec<_> = trials
            .iter()
            .filter_map(|(k, t)| Some((*k, t.from, *counts.get(id(split_knob(*k)))?)))
            .filter(|(_, from, to)| from != to)
            .collect::<std::collections::BTreeSet<_>>()
            .into_iter()
            .collect();
        let why = format!(
            "rendered for a moment: a camera sample takes {:.2} times as long and leaves {} of its variance",
            effect.time,
            percent(effect.variance)
        );
        out.push(row("splits".into(), counts, *effect, why));
    }
    // One part alone, where it is cheaper to sample at the source than with more camera samples, or the other way round.
    for (kind, t) in trials {
        let one = t.to.abs_diff(t.from) == 1;
        let rays = if one { "one such ray".to_string() } else { format!("{} such rays", t.to.abs_diff(t.from)) };
        let s = if one { "s" } else { "" };
        let why = if t.to > t.from {
            format!(
                "rendered for a moment: {rays} more take{s} {} of a camera sample's time and remove{s} {} of its variance, \
                 so sampling this part at the source is cheaper than more camera samples",
                percent(t.effect.time - 1.0),
                percent(1.0 - t.effect.variance)
            )
        } else {
            format!(
                "rendered for a moment: {rays} fewer save{s} {} of a camera sample's time and add{s} {} to its variance, \
                 so more camera samples are cheaper than so many of them",
                percent(1.0 - t.effect.time),
                percent(t.effect.variance - 1.0)
            )
        };
        let key = format!("source {}", split_name(kind));
        out.push(row(key, vec![(kind, t.from, t.to)], t.effect, why));
    }
    out.retain(|a| a.effect.pays());
    // Of several counts of one kind the best.
    out.sort_by(|a, b| a.key.cmp(&b.key).then(a.effect.equal.total_cmp(&b.effect.equal)));
    out.dedup_by(|a, b| a.key == b.key);
    out
}

fn roulette_row(pilot: &Pilot, tuning: &Tuning) -> Option<Advice> {
    let now = tuning.whole(K::RouletteFrom);
    let tried = pilot.trials(K::RouletteFrom).filter(|t| t.from == now);
    let t = tried.min_by(|a, b| a.effect.equal.total_cmp(&b.effect.equal))?;
    let effect = t.effect;
    let change = |x: f64| format!("{} {}", percent((x - 1.0).abs()), if x < 1.0 { "less" } else { "more" });
    Some(Advice {
        key: "roulette".into(),
        title: format!("roulette from {} → {}", t.from, t.to),
        why: format!(
            "a short trial: weak paths ended {} take {} time and bring {} variance",
            if t.to < t.from { "earlier" } else { "later" },
            change(effect.time),
            change(effect.variance)
        ),
        changes: one(K::RouletteFrom, Value::Whole(t.to)),
        lights_off: Vec::new(),
        effect,
        look: None,
    })
}

fn depth_row(table: &tracer::DepthTable, tuning: &Tuning) -> Option<Advice> {
    let knob = depth_knob(table.kind);
    let limit = tuning.whole(knob);
    // What the limit itself cuts counts too: advice on advice would otherwise go on for ever, each time by what nobody sees.
    let cut = beyond_the_limit(table);
    let at = table.rows.iter().position(|r| r.loss.most + cut <= UNSEEN)?;
    let enough = table.rows[at].bounces;
    let beyond: Vec<_> = table.rows[at + 1..].iter().filter(|r| r.bounces <= limit).collect();
    let time: f64 = beyond.iter().map(|r| r.time).sum();
    if enough >= limit || time < 0.5 * WORTH {
        return None;
    }
    let light: f64 = beyond.iter().map(|r| r.light).sum();
    let name = match table.kind {
        DepthKind::All => "all bounces",
        DepthKind::Diffuse => "diffuse bounces",
        DepthKind::Reflection => "reflection bounces",
        DepthKind::Transmission => "transmission bounces",
        DepthKind::Volume => "volume bounces",
    };
    let loss = table.rows[at].loss;
    Some(Advice {
        key: id(knob).into(),
        title: format!("{name} {limit} → {enough}"),
        why: format!(
            "beyond {enough} they bring {} of the light and take {} of the time; 99 % of the picture would lose at most \
             {:.2} of 255 steps, the worst spot {:.1}",
            percent(light),
            percent(time),
            loss.most,
            loss.worst
        ),
        changes: one(knob, Value::Whole(enough)),
        lights_off: Vec::new(),
        effect: Effect { unsure: BOUNCES * time, ..Effect::new(1.0 - time, 1.0, 0.0) },
        look: Some(loss),
    })
}

/// What the limit of a table cuts, in steps of the display: each bounce beyond is taken to bring as much less than the one before as
/// the last one within does (the geometric series of a closed space).
fn beyond_the_limit(table: &tracer::DepthTable) -> f64 {
    let [.., before, last] = &table.rows[..] else { return 0.0 };
    let falls = (last.light / before.light.max(1e-12)).clamp(0.0, 0.95);
    // Ending before the last bounce loses what it brings.
    before.loss.most * falls / (1.0 - falls)
}

fn light_rows(ledgers: &Ledgers, noise: &NoiseLedger) -> Vec<Advice> {
    // The only light of a scene is never superfluous.
    if noise.lights.len() < 2 {
        return Vec::new();
    }
    let idle = noise.lights.iter().filter(|r| r.loss.most <= UNSEEN && r.loss.worst <= 2.0 * UNSEEN);
    idle.filter_map(|r| {
        let name = r.name.strip_prefix(LIGHT)?;
        let cost = ledgers.lights.iter().find(|l| l.name == name)?;
        let (rays, can) = (cost.rays, cost.own.is_some());
        let gain = r.gain.clamp(0.0, 1.0);
        Some(Advice {
            key: format!("light {name}"),
            title: format!("{name} off"),
            why: format!(
                "it brings {} of the light, gets {} of the light rays and causes {} of the grain's square; without it no \
                 spot would change by more than {:.2} of 255 steps{}",
                percent(r.light),
                percent(rays),
                percent(r.share),
                r.loss.worst,
                if can { "" } else { "; it is a shining object: change it in the scene file" }
            ),
            changes: BTreeMap::new(),
            lights_off: if can { vec![name.to_string()] } else { Vec::new() },
            effect: Effect::new(1.0, 1.0 - gain, CHARGED * gain),
            look: Some(r.loss),
        })
    })
    .collect()
}

/// What adaptive sampling would save where it is off.
fn adaptive_row(test: Measured, tuning: &Tuning, machine: &Machine) -> Option<Advice> {
    if tuning.switch(K::SamplingAdaptive) {
        return None;
    }
    let then = forecast(test, &tuning.clone().with(K::SamplingAdaptive, true), None, machine)?;
    let now = forecast(test, tuning, None, machine)?;
    let time = |f: &Forecast| f.sampling;
    let saved = 1.0 - time(&then) / time(&now).max(1e-12);
    (saved > WORTH).then(|| Advice {
        key: "adaptive".into(),
        title: "adaptive sampling on".into(),
        why: format!(
            "{} of the picture is expected to be at or below {} before the most samples are reached",
            percent(then.settled),
            percent(tracer::Limits::of(tuning).threshold)
        ),
        changes: one(K::SamplingAdaptive, Value::Switch(true)),
        lights_off: Vec::new(),
        // What has stopped is clean by the threshold: no visible grain is added.
        effect: Effect {
            time: 1.0,
            variance: 1.0,
            equal: 1.0 - saved,
            unsure: (1.0 - saved) * 0.5 * (then.high - then.low) / then.seconds,
        },
        look: None,
    })
}
