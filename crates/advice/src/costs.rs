//! What the rows of a noise ledger cost: seconds of a render's sampling.

use picture::noise::{LIGHT, NoiseLedger};
use std::collections::BTreeMap;
use tracer::{RenderReport, SplitKind};

/// The rays at the first hit that bring a part's light.
pub(crate) fn split_of(part: &str) -> Option<SplitKind> {
    match part {
        "diffuse_bounced" => Some(SplitKind::Diffuse),
        "reflection_bounced" => Some(SplitKind::Reflection),
        "transmission_bounced" => Some(SplitKind::Transmission),
        _ => (part.ends_with("_direct") && !part.starts_with("volume")).then_some(SplitKind::Direct),
    }
}

/// Seconds by row. A part's bounced light costs what follows its rays. Light rays serve all kinds at once: their time is
/// divided by the light that each direct part brings, and among lights by their rays. What the camera sees straight costs
/// nothing of its own and has no entry.
pub fn noise_costs(report: &RenderReport, noise: Option<&NoiseLedger>) -> BTreeMap<String, f64> {
    let ledgers = &report.ledgers;
    let split = |kind: SplitKind| ledgers.splits.iter().find(|s| s.kind == kind).map_or(0.0, |s| s.time);
    let Some(noise) = noise else { return BTreeMap::new() };
    let direct = |name: &str| split_of(name) == Some(SplitKind::Direct);
    let lit: f64 = noise.parts.iter().filter(|r| direct(&r.name)).map(|r| r.light).sum();
    let part = |name: &str, light: f64| match split_of(name) {
        Some(SplitKind::Direct) => (lit > 0.0).then(|| split(SplitKind::Direct) * light / lit),
        Some(kind) => Some(split(kind)),
        None => (name == "volume_bounced").then_some(ledgers.volume),
    };
    let parts = noise.parts.iter().filter_map(|r| Some((r.name.clone(), part(&r.name, r.light)?)));
    let lights = ledgers.lights.iter().map(|l| (format!("{LIGHT}{}", l.name), split(SplitKind::Direct) * l.rays));
    parts.chain(lights).map(|(name, share)| (name, share * report.seconds)).collect()
}
