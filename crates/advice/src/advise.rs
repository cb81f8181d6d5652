//! Advice that follows from the ledgers: what to change, why, and what it should bring.
//!
//! Splits: a render's time for a given variance goes with (C_0 + Σ C_p n_p)(V_0 + Σ V_p / n_p), where C_0 and V_0 are cost
//! and variance of the camera sample itself, C_p and V_p those of one ray of a part within it. The best counts are
//! n_p = √(V_p C_0 / (C_p V_0)) (Neyman 1934; Bolin and Meyer 1997); here they are found among whole numbers up to 16.
//! V_p needs a test with two rays or more. It is the variance of independent rays, while ours are spread evenly, so what
//! several rays promise is an upper bound; it is held to what the noise ledger ascribes to the part.

use crate::prices::{depth_knob, id, split_knob};
use crate::{Forecast, Machine, Measured, forecast};
use picture::noise::{LIGHT, Loss, NoiseLedger, NoiseRow};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use tracer::{DepthKind, Ledgers, RenderReport, SplitKind};
use ts_rs::TS;
use tuning::{K, Tuning, Value};

/// Most rays of a split that are advised.
const MOST: u32 = 16;
/// Half a step of the display's 255: what nobody sees.
const UNSEEN: f64 = 0.5;
/// Advice that brings less is not worth a line.
const WORTH: f64 = 0.01;

/// What a change should do to a render, or did, against the render without it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
pub struct Effect {
    /// Processor time for each camera sample.
    pub time: f64,
    /// Square of the grain at equal samples.
    pub variance: f64,
    /// Time at equal grain: their product.
    pub equal: f64,
}

impl Effect {
    fn new(time: f64, variance: f64) -> Effect {
        Effect { time, variance, equal: time * variance }
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

#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct Advised {
    pub rows: Vec<Advice>,
    /// Splits of which nothing is known before a test with two rays each.
    pub unknown: Vec<SplitKind>,
}

/// Advice on a shot at `tuning` from a test. `pilot` is a test of the same picture with two rays of each kind or more, if there
/// is one: it tells how splits pay.
pub fn advise(test: Measured, pilot: Option<&RenderReport>, tuning: &Tuning, machine: &Machine) -> Advised {
    let report = test.report;
    let mut rows = Vec::new();
    let mut unknown = Vec::new();
    let told = pilot.unwrap_or(report);
    if let Some(noise) = &told.noise {
        let splits = Splits::of(&told.ledgers, noise);
        unknown = splits.unknown.clone();
        rows.extend(split_rows(&splits, tuning));
    }
    if let Some(noise) = &report.noise {
        rows.extend(light_rows(&report.ledgers, noise));
    }
    rows.extend(report.ledgers.depth.iter().filter_map(|t| depth_row(t, tuning)));
    rows.extend(adaptive_row(test, tuning, machine));
    rows.sort_by(|a, b| a.effect.equal.total_cmp(&b.effect.equal));
    Advised { rows, unknown }
}

fn one(k: K, v: Value) -> BTreeMap<String, serde_json::Value> {
    [(id(k).to_string(), serde_json::json!(v))].into()
}

fn percent(x: f64) -> String {
    let x = 100.0 * x;
    if x.abs() < 0.95 { format!("{x:.1} %") } else { format!("{x:.0} %") }
}

/// Costs and variances of the camera sample and of single rays of each split.
#[derive(Debug, Clone)]
struct Splits {
    camera: (f64, f64),
    rays: Vec<(SplitKind, u32, f64, f64)>,
    unknown: Vec<SplitKind>,
}

/// Share of the grain's square that the parts of a split have.
fn share_of(kind: SplitKind, parts: &[NoiseRow]) -> f64 {
    let own = |name: &str| match kind {
        SplitKind::Direct => name.ends_with("_direct") && !name.starts_with("volume"),
        SplitKind::Diffuse => name.starts_with("diffuse"),
        SplitKind::Reflection => name.starts_with("reflection"),
        SplitKind::Transmission => name.starts_with("transmission"),
    };
    parts.iter().filter(|r| own(&r.name)).map(|r| r.share).sum::<f64>().clamp(0.0, 1.0)
}

impl Splits {
    fn of(ledgers: &Ledgers, noise: &NoiseLedger) -> Splits {
        let all = noise.per_sample.max(1e-30);
        let mut out = Splits { camera: (0.0, 1.0), rays: Vec::new(), unknown: Vec::new() };
        let mut fixed = 1.0;
        for row in &ledgers.splits {
            match row.within {
                Some(within) if row.time > 0.0 => {
                    let s = row.split as f64;
                    let bound = share_of(row.kind, &noise.parts);
                    out.rays.push((row.kind, row.split, row.time / s, (within / all).min(s * bound)));
                    fixed -= row.time;
                }
                _ => out.unknown.push(row.kind),
            }
        }
        // What the rays take of the variance at their present counts; a fiftieth always stays with the camera.
        let taken: f64 = out.rays.iter().map(|r| r.3 / r.1 as f64).sum();
        if taken > 0.98 {
            out.rays.iter_mut().for_each(|r| r.3 *= 0.98 / taken);
        }
        let taken: f64 = out.rays.iter().map(|r| r.3 / r.1 as f64).sum();
        out.camera = (fixed.max(1e-3), 1.0 - taken);
        out
    }

    /// Time and variance of a camera sample with so many rays of each kind.
    fn at(&self, counts: &[u32]) -> (f64, f64) {
        let each = || self.rays.iter().zip(counts);
        let time = self.camera.0 + each().map(|((_, _, c, _), n)| c * *n as f64).sum::<f64>();
        let variance = self.camera.1 + each().map(|((.., v), n)| v / *n as f64).sum::<f64>();
        (time, variance)
    }

    /// The counts of the least time for a variance.
    fn best(&self) -> Vec<u32> {
        let mut best = (f64::INFINITY, Vec::new());
        let kinds = self.rays.len() as u32;
        for code in 0..MOST.pow(kinds) {
            let counts: Vec<u32> = (0..kinds).map(|k| code / MOST.pow(k) % MOST + 1).collect();
            let (time, variance) = self.at(&counts);
            // On a flat optimum the fewest rays.
            if time * variance < best.0 * (1.0 - 1e-6) {
                best = (time * variance, counts);
            }
        }
        best.1
    }
}

fn split_name(kind: SplitKind) -> &'static str {
    match kind {
        SplitKind::Direct => "light rays",
        SplitKind::Diffuse => "diffuse rays",
        SplitKind::Reflection => "reflection rays",
        SplitKind::Transmission => "transmission rays",
    }
}

fn split_rows(splits: &Splits, tuning: &Tuning) -> Vec<Advice> {
    if splits.rays.is_empty() {
        return Vec::new();
    }
    let now: Vec<u32> = splits.rays.iter().map(|r| tuning.whole(split_knob(r.0))).collect();
    let effect = |counts: &[u32]| {
        let ((t, v), (t0, v0)) = (splits.at(counts), splits.at(&now));
        Effect::new(t / t0, v / v0)
    };
    let row = |key: String, title: String, why: String, counts: &[u32]| {
        let changes = splits.rays.iter().zip(counts).zip(&now).filter(|((_, n), now)| n != now);
        Advice {
            key,
            title,
            why,
            changes: changes.map(|((r, n), _)| (id(split_knob(r.0)).to_string(), serde_json::json!(n))).collect(),
            lights_off: Vec::new(),
            effect: effect(counts),
            look: None,
        }
    };
    let best = splits.best();
    let mut out = Vec::new();
    let changed: Vec<usize> = (0..now.len()).filter(|k| best[*k] != now[*k]).collect();
    if !changed.is_empty() && effect(&best).equal < 1.0 - WORTH {
        let words = changed.iter().map(|k| format!("{} {} → {}", split_name(splits.rays[*k].0), now[*k], best[*k]));
        let why = format!(
            "the camera's own way takes {} of the time and {} of the grain's square; the rest is better divided",
            percent(splits.camera.0 / splits.at(&now).0),
            percent(splits.camera.1 / splits.at(&now).1)
        );
        out.push(row("splits".into(), words.collect::<Vec<_>>().join(", "), why, &best));
    }
    // One part alone, where it is cheaper to sample at the source than with more camera samples.
    for k in changed.iter().copied().filter(|k| changed.len() > 1 && best[*k] > now[*k]) {
        let alone: Vec<u32> = (0..now.len()).map(|j| if j == k { best[j] } else { now[j] }).collect();
        let (kind, _, cost, variance) = splits.rays[k];
        if effect(&alone).equal < 1.0 - WORTH {
            let (time, all) = splits.at(&now);
            let why = format!(
                "one of its rays takes {} of a camera sample's time, and the rays cause {} of the grain's square: more of \
                 them at the source are cheaper than more camera samples",
                percent(cost / time),
                percent(variance / now[k] as f64 / all)
            );
            let title = format!("{} {} → {}", split_name(kind), now[k], best[k]);
            out.push(row(format!("source {}", split_name(kind)), title, why, &alone));
        }
    }
    out
}

fn depth_row(table: &tracer::DepthTable, tuning: &Tuning) -> Option<Advice> {
    let knob = depth_knob(table.kind);
    let limit = tuning.whole(knob);
    let at = table.rows.iter().position(|r| r.loss.most <= UNSEEN)?;
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
        effect: Effect::new(1.0 - time, 1.0),
        look: Some(loss),
    })
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
            effect: Effect::new(1.0, 1.0 - r.gain.clamp(0.0, 1.0)),
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
        effect: Effect { time: 1.0, variance: 1.0, equal: 1.0 - saved },
        look: None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Against Neyman's formula n = √(V C_0 / (C V_0)).
    #[test]
    fn the_best_split_is_neymans() {
        for (cost, variance) in [(0.1, 0.8), (0.02, 0.5), (0.5, 0.3)] {
            let splits = Splits {
                camera: (1.0 - cost, 1.0 - variance),
                rays: vec![(SplitKind::Direct, 1, cost, variance)],
                unknown: Vec::new(),
            };
            let exact = (variance * splits.camera.0 / (cost * splits.camera.1)).sqrt();
            let best = splits.best()[0] as f64;
            let at = |n: f64| (splits.camera.0 + cost * n) * (splits.camera.1 + variance / n);
            assert!((best - exact).abs() < 1.0 || best == 1.0 || best == MOST as f64, "{best} {exact}");
            assert!(at(best) <= at(exact.floor().max(1.0)).min(at(exact.ceil())) + 1e-12);
        }
    }
}
