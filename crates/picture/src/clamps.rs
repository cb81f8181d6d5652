//! What a clamp would tame and take, from the halves of the parts alone.
//!
//! Where grain is made by single bright samples, half the difference of a part's halves at a pixel is one sample divided by
//! the number of all samples there. A clamp brings that sample down to its limit: the difference and the light shrink by what
//! is above it. An estimate: two bright samples in one pixel look like one brighter one.

use crate::grain::BlockMap;
use crate::{Plate, Region, View, luminance};
use rayon::prelude::*;
use serde::Serialize;
use ts_rs::TS;

/// Steps of the limits that are tried, and how many of them.
const STEP: f64 = std::f64::consts::SQRT_2;
const TRIED: i32 = 30;
/// A clamp that takes more of the light is no cure.
const MOST_LOST: f64 = 0.05;
/// Side of a block.
const BLOCK: u32 = 8;

/// The highest limit of one knob that tames the worst block.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct ClampAdvice {
    pub knob: &'static str,
    /// Radiance.
    pub limit: f64,
    /// Grain of the worst block without and with it, and where it lies.
    pub worst: [f64; 2],
    pub region: Region,
    /// Share of all light that it takes away.
    pub lost: f64,
}

const KNOBS: [(&str, &[&str]); 5] = [
    ("clamp.direct", &["diffuse_direct", "reflection_direct", "transmission_direct", "volume_direct"]),
    ("clamp.diffuse", &["diffuse_bounced"]),
    ("clamp.reflection", &["reflection_bounced"]),
    ("clamp.transmission", &["transmission_bounced"]),
    ("clamp.volume", &["volume_bounced"]),
];

/// Clamps that bring the worst block down to where 99 % of the blocks are, or to the threshold; what takes least first.
///
/// Only one block in a hundred is above that, so that a limit is looked for among these, from the highest down, and tried on the
/// whole picture when they agree: O(pixels × (parts + 2)), in parallel by blocks.
pub fn suggested(plate: &Plate, view: &View, threshold: f64) -> Vec<ClampAdvice> {
    let r = plate.region;
    let shown = |y: f64| view.display([y as f32; 3])[0] as f64;
    // Noise of a pixel with so much taken off its halves, the brighter one by a signed amount.
    let noise = |i: usize, taken: f64| -> f64 {
        let (a, b, t) = (luminance(plate.a[i]) as f64, luminance(plate.b[i]) as f64, 2.0 * taken);
        0.5 * (shown(a - t.max(0.0)) - shown(b + t.min(0.0)))
    };
    let map = BlockMap::grid(r, BLOCK).of_rendered(r, &plate.samples);
    let places: Vec<Region> = (0..map.pixels.len()).filter_map(|k| map.place(k).shared(r)).collect();
    let pixels = |block: Region| {
        let row = move |y: u32| (block.x..block.right()).map(move |x| ((y - r.y) * r.width + (x - r.x)) as usize);
        (block.y..block.bottom()).flat_map(row)
    };
    let in_block = |block: Region, taken: &dyn Fn(usize) -> f64| {
        let squares: f64 = pixels(block).map(|i| noise(i, taken(i)).powi(2)).sum();
        (squares / block.area() as f64).sqrt()
    };
    let before: Vec<f64> = places.par_iter().map(|p| in_block(*p, &|_| 0.0)).collect();
    // Blocks that were not rendered are neither clean nor noisy.
    let known = before.iter().zip(&map.pixels).filter(|(_, pixels)| **pixels > 0);
    let mut sorted: Vec<f64> = known.map(|(noise, _)| *noise).collect();
    sorted.sort_by(f64::total_cmp);
    let Some(&worst) = sorted.last() else { return Vec::new() };
    let goal = threshold.max(sorted[(sorted.len() - 1) * 99 / 100]);
    if worst <= goal {
        return Vec::new();
    }
    let region = before.iter().position(|g| *g == worst).map_or(r, |k| places[k]);
    let noisy: Vec<Region> = places.iter().zip(&before).filter(|(_, g)| **g > goal).map(|(p, _)| *p).collect();
    let light: f64 = plate.a.iter().zip(&plate.b).map(|(a, b)| 0.5 * (luminance(*a) + luminance(*b)) as f64).sum();
    let advice = |(knob, parts): &(&'static str, &[&str])| {
        let layers: Vec<&Vec<f32>> = parts
            .iter()
            .filter_map(|p| plate.layers.iter().find(|(n, _)| n.strip_suffix(".grain") == Some(p)).map(|(_, v)| v))
            .collect();
        let sample = |v: f32, i: usize| v.abs() as f64 * plate.samples[i] as f64;
        let top = layers.iter().flat_map(|l| l.iter().enumerate().map(|(i, v)| sample(*v, i))).fold(0.0, f64::max);
        (1..=TRIED).find_map(|k| {
            let limit = top * STEP.powi(-k);
            // What is above the limit, in the unit of differences, with the sign of the half that holds it.
            let above = |i: usize| -> f64 {
                let of = |l: &&Vec<f32>| (sample(l[i], i) - limit).max(0.0).copysign(l[i] as f64);
                layers.iter().map(of).sum::<f64>() / plate.samples[i].max(1) as f64
            };
            if noisy.iter().any(|p| in_block(*p, &above) > goal) {
                return None;
            }
            let of = |p: &Region| (in_block(*p, &above), pixels(*p).map(|i| above(i).abs()).sum::<f64>());
            let blocks: Vec<(f64, f64)> = places.par_iter().map(of).collect();
            let after = blocks.iter().fold(0.0f64, |most, b| most.max(b.0));
            let lost = blocks.iter().map(|b| b.1).sum::<f64>() / light.max(1e-30);
            (after <= goal).then(|| ClampAdvice { knob, limit: rounded(limit), worst: [worst, after], region, lost })
        })
    };
    let mut all: Vec<ClampAdvice> = KNOBS.par_iter().filter_map(advice).filter(|a| a.lost <= MOST_LOST).collect();
    all.sort_by(|a, b| a.lost.total_cmp(&b.lost));
    all
}

/// Name of the layer of what clamps took when a plate was rendered: luminance a sample, in the picture's own unit.
pub const CLAMPED: &str = "clamped.Y";

/// What clamps took when a plate was rendered, as a share of what there would be.
#[derive(Debug, Clone)]
pub struct Taken {
    /// Of the whole picture.
    pub share: f64,
    /// Of each block.
    pub blocks: BlockMap,
    /// Where it is most.
    pub region: Region,
}

impl Taken {
    /// None where no clamp held any light.
    pub fn of(plate: &Plate) -> Option<Taken> {
        let (_, taken) = plate.layers.iter().find(|(name, _)| name == CLAMPED)?;
        let r = plate.region;
        let left: Vec<f32> = plate.mean().iter().map(|c| luminance(*c).max(0.0)).collect();
        // Mean squares of roots are means.
        let roots = |v: &[f32]| BlockMap::from_differences(r, BLOCK, v.iter().map(|v| [v.sqrt(); 3]));
        let (held, seen) = (roots(taken), roots(&left));
        let share = |t: f64, l: f64| if t > 0.0 { t / (t + l) } else { 0.0 };
        let grain: Vec<f64> = held.grain.iter().zip(&seen.grain).map(|(t, l)| share(t * t, l * l)).collect();
        let sum = |v: &[f32]| v.iter().map(|v| *v as f64).sum::<f64>();
        let most = (0..grain.len()).max_by(|a, b| grain[*a].total_cmp(&grain[*b])).filter(|k| grain[*k] > 0.0)?;
        let blocks = BlockMap { grain, ..held };
        let region = blocks.place(most).shared(r).unwrap_or(r);
        Some(Taken { share: share(sum(taken), sum(&left)), blocks, region })
    }
}

/// Two leading digits.
fn rounded(x: f64) -> f64 {
    let unit = 10f64.powf(x.log10().floor() - 1.0);
    (x / unit).floor() * unit
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::denoise::tests::even_plate;

    /// One sample of 100 among 64 in one pixel, light 1 elsewhere with little noise: some limit below 100 tames it and takes
    /// nearly (100 − limit) / 64 of the light, and a part without noise is not blamed.
    #[test]
    fn one_bright_sample_is_found_and_priced() {
        let mut p = even_plate((64, 64), 0.01);
        let n = p.a.len();
        p.samples = vec![64; n];
        let spot = 20 * 64 + 20;
        // In half A of 32 samples.
        let extra = 100.0 / 32.0;
        p.a[spot] = p.a[spot].map(|c| c + extra);
        let mut grain = vec![0.0f32; n];
        grain[spot] = 0.5 * extra;
        p.layers = vec![("diffuse_bounced.grain".into(), grain), ("reflection_bounced.grain".into(), vec![0.0; n])];
        let view = View { exposure: -3.0, ..View::PLAIN };
        let found = suggested(&p, &view, 0.001);
        assert_eq!(found.iter().map(|f| f.knob).collect::<Vec<_>>(), ["clamp.diffuse"]);
        let f = &found[0];
        assert!(f.limit < 100.0 && f.limit > 0.1 && f.worst[1] < 0.2 * f.worst[0], "{f:?}");
        assert_eq!((f.region.x, f.region.y), (16, 16));
        let light: f64 = p.mean().iter().map(|c| luminance(*c) as f64).sum();
        let expected = (100.0 - f.limit) / 64.0 / light;
        assert!((f.lost / expected - 1.0).abs() < 0.05, "{} against {expected}", f.lost);
    }

    /// A pilot of which a sixteenth was rendered, half of that noisy: the suggestion is that for these blocks alone, as if the rest were
    /// not there.
    #[test]
    fn blocks_that_were_not_rendered_are_not_clean() {
        let plate = |size: u32, rendered: &dyn Fn(usize) -> bool| {
            let mut p = even_plate((size, size), 0.01);
            let n = p.a.len();
            p.samples = (0..n).map(|i| if rendered(i) { 64 } else { 0 }).collect();
            let mut grain = vec![0.0f32; n];
            for i in (0..n).filter(|i| rendered(*i)) {
                // A bright sample in one pixel of every block, brighter in one block.
                let (x, y) = (i % size as usize, i / size as usize);
                if (x % 8, y % 8) == (4, 4) {
                    let extra = if (x, y) == (4, 4) { 100.0 } else { 60.0 } / 32.0;
                    p.a[i] = p.a[i].map(|c| c + extra);
                    grain[i] = 0.5 * extra;
                }
            }
            p.layers = vec![("diffuse_bounced.grain".into(), grain)];
            p
        };
        let view = View { exposure: -3.0, ..View::PLAIN };
        let whole = suggested(&plate(64, &|_| true), &view, 0.001);
        let pilot = suggested(&plate(256, &|i| i % 256 < 64 && i / 256 < 64), &view, 0.001);
        assert!(!whole.is_empty() && whole.len() == pilot.len(), "{whole:?} {pilot:?}");
        assert_eq!(whole[0].limit, pilot[0].limit);
        (0..2).for_each(|k| assert!((whole[0].worst[k] / pilot[0].worst[k] - 1.0).abs() < 0.02, "{whole:?} {pilot:?}"));
    }

    /// A clamp that took three quarters of the light of one block among 64 whose light is 1: the share is 3 of 67.
    #[test]
    fn what_clamps_took_is_told_by_place() {
        let mut p = even_plate((64, 64), 0.0);
        let light = luminance(p.a[0]);
        assert!(Taken::of(&p).is_none());
        let held = |i: usize| (i % 64 / 8, i / 64 / 8) == (5, 2);
        let taken = |i: usize| if held(i) { 3.0 * light } else { 0.0 };
        p.layers = vec![(CLAMPED.into(), (0..p.a.len()).map(taken).collect())];
        let t = Taken::of(&p).unwrap();
        assert_eq!(t.region, Region { x: 40, y: 16, width: 8, height: 8 });
        assert!((t.share - 3.0 / 67.0).abs() < 1e-6 && (t.blocks.at(41, 17) - 0.75).abs() < 1e-6, "{t:?}");
        assert_eq!(t.blocks.at(8, 8), 0.0);
        p.layers[0].1.fill(0.0);
        assert!(Taken::of(&p).is_none(), "clamps that held nothing took nothing");
    }
}
