//! Maps for the eye: grain against the threshold, and counts of samples, as colours with a legend.
//!
//! The grain ramp goes through slate blues below the threshold, steps visibly at it, and on through straw to rust. Its
//! luminance falls, steps up and falls again, so that it also reads in grey and for colour-blind eyes.

use crate::grain::{BlockMap, Measure};
use crate::{Region, rendered};
use rayon::prelude::*;
use serde::Serialize;
use std::collections::BTreeMap;
use ts_rs::TS;

/// Octaves of grain shown below and above the threshold.
const BELOW: f64 = 3.0;
const ABOVE: f64 = 3.0;

const BLUES: [[f32; 3]; 3] = [[238.0, 241.0, 244.0], [150.0, 172.0, 190.0], [54.0, 86.0, 107.0]];
const WARM: [[f32; 3]; 3] = [[240.0, 207.0, 120.0], [208.0, 128.0, 48.0], [120.0, 44.0, 26.0]];
/// From few samples to many.
const COUNTS: [[f32; 3]; 4] = [[244.0, 243.0, 240.0], [176.0, 184.0, 188.0], [96.0, 116.0, 132.0], [24.0, 36.0, 48.0]];

fn along(stops: &[[f32; 3]], t: f64) -> [u8; 3] {
    let x = t.clamp(0.0, 1.0) as f32 * (stops.len() - 1) as f32;
    let i = (x as usize).min(stops.len() - 2);
    std::array::from_fn(|c| (stops[i][c] + (stops[i + 1][c] - stops[i][c]) * (x - i as f32) + 0.5) as u8)
}

/// Colour of a grain at a threshold.
pub fn grain_colour(grain: f64, threshold: f64) -> [u8; 3] {
    let octaves = (grain.max(1e-9) / threshold).log2();
    if octaves <= 0.0 { along(&BLUES, 1.0 + octaves / BELOW) } else { along(&WARM, octaves / ABOVE) }
}

/// The grain map of a region: one colour a block; blocks above the threshold that got `most` samples are hatched.
pub fn grain_map(map: &BlockMap, r: Region, samples: &[u32], threshold: f64, most: u32) -> Vec<[u8; 3]> {
    let colours: Vec<[u8; 3]> = map.grain.iter().map(|grain| grain_colour(*grain, threshold)).collect();
    let pixel = |i: usize| {
        let (x, y) = (r.x + i as u32 % r.width, r.y + i as u32 / r.width);
        let block = map.block_at(x, y);
        let capped = map.grain[block] > threshold && samples[i] >= most;
        if capped && (x + y) % 6 < 2 { colours[block].map(|c| (c as f32 * 0.55) as u8) } else { colours[block] }
    };
    (0..r.area()).into_par_iter().map(pixel).collect()
}

/// Two hues for a signed difference on neutral grey: slate where it is below zero, rust where above.
const LESS: [f32; 3] = [30.0, 92.0, 130.0];
const MORE: [f32; 3] = [190.0, 84.0, 24.0];

/// Colour of a signed difference, −1…1 after amplification.
pub fn signed_colour(difference: f64) -> [u8; 3] {
    const GREY: [f32; 3] = [128.0; 3];
    let to = if difference < 0.0 { LESS } else { MORE };
    // The square root brings small differences out.
    let t = difference.abs().min(1.0).sqrt() as f32;
    std::array::from_fn(|c| (GREY[c] + (to[c] - GREY[c]) * t + 0.5) as u8)
}

/// The map of sample counts, logarithmic between the least and the most present; places without any have the first colour.
pub fn sample_map(samples: &[u32]) -> Vec<[u8; 3]> {
    let (low, high) = sample_range(samples);
    let span = (high as f64 / low as f64).ln().max(1e-9);
    let colour = |n: u32| along(&COUNTS, (n.max(1) as f64 / low as f64).ln() / span);
    // Neighbours have the same counts, mostly.
    let row = |row: &[u32]| {
        let mut last = (0, colour(0));
        let mut pixel = |n: &u32| {
            if *n != last.0 {
                last = (*n, colour(*n));
            }
            last.1
        };
        row.iter().map(&mut pixel).collect::<Vec<_>>()
    };
    samples.par_chunks(4096).map(row).collect::<Vec<_>>().concat()
}

fn sample_range(samples: &[u32]) -> (u32, u32) {
    let low = samples.iter().copied().filter(|n| *n > 0).min().unwrap_or(1);
    (low, samples.iter().copied().max().unwrap_or(1).max(low))
}

/// One colour of a legend, from the lowest value up.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct Swatch {
    /// Grain as a share of the display range, or samples.
    pub value: f64,
    pub colour: [u8; 3],
    /// Share of the pixels that were rendered from this value up to the next.
    pub share: f64,
}

/// Legend with histogram of the grain map.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct GrainLegend {
    pub threshold: f64,
    pub measure: Measure,
    pub swatches: Vec<Swatch>,
    /// Root mean square over what was rendered of the region, and the worst block.
    pub grain: f64,
    pub worst_block: f64,
    /// Share of pixels in blocks at or below the threshold, and in blocks that got the most samples without reaching it.
    pub below: f64,
    pub capped: f64,
}

pub fn grain_legend(
    map: &BlockMap,
    measure: Measure,
    r: Region,
    samples: &[u32],
    threshold: f64,
    most: u32,
) -> GrainLegend {
    let steps = 4;
    let count = ((BELOW + ABOVE) as i32) * steps;
    let mut swatches: Vec<Swatch> = (0..count)
        .map(|i| {
            let octave = (i as f64 + 0.5) / steps as f64 - BELOW;
            let value = threshold * (i as f64 / steps as f64 - BELOW).exp2();
            Swatch { value, colour: grain_colour(threshold * octave.exp2(), threshold), share: 0.0 }
        })
        .collect();
    let counts = rendered(samples);
    // Pixels of each block, and those among them that got the most samples.
    let mut seen = vec![(0usize, 0usize); map.grain.len()];
    for (i, samples) in samples.iter().enumerate().filter(|(i, _)| counts(*i)) {
        let of = &mut seen[map.block_at(r.x + i as u32 % r.width, r.y + i as u32 / r.width)];
        *of = (of.0 + 1, of.1 + (*samples >= most) as usize);
    }
    let pixels = seen.iter().map(|s| s.0).sum::<usize>().max(1);
    let (mut below, mut capped) = (0, 0);
    for (grain, (all, most)) in map.grain.iter().zip(seen).filter(|(_, seen)| seen.0 > 0) {
        let octave = (grain.max(1e-9) / threshold).log2();
        let k = (((octave + BELOW) * steps as f64).floor() as i32).clamp(0, count - 1);
        swatches[k as usize].share += all as f64 / pixels as f64;
        if *grain <= threshold {
            below += all;
        } else {
            capped += most;
        }
    }
    let (grain, worst_block) = map.summary();
    let of = |n: usize| n as f64 / pixels as f64;
    GrainLegend { threshold, measure, swatches, grain, worst_block, below: of(below), capped: of(capped) }
}

/// Legend with histogram of the sample map.
pub fn sample_legend(samples: &[u32]) -> Vec<Swatch> {
    let (low, high) = sample_range(samples);
    let span = (high as f64 / low as f64).ln();
    let count = if high > low { 12 } else { 1 };
    let mut out: Vec<Swatch> = (0..count)
        .map(|i| {
            let value = low as f64 * (span * i as f64 / count as f64).exp();
            Swatch { value, colour: along(&COUNTS, (i as f64 + 0.5) / count as f64), share: 0.0 }
        })
        .collect();
    let mut known: BTreeMap<u32, usize> = BTreeMap::new();
    for n in samples.chunk_by(|a, b| a == b).filter(|run| run[0] > 0) {
        *known.entry(n[0]).or_default() += n.len();
    }
    let all = known.values().sum::<usize>() as f64;
    for (n, pixels) in known {
        let t = if high > low { (n as f64 / low as f64).ln() / span } else { 0.0 };
        let k = ((t * count as f64) as usize).min(count - 1);
        out[k].share += pixels as f64 / all;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn grey(c: [u8; 3]) -> f64 {
        0.2126 * c[0] as f64 + 0.7152 * c[1] as f64 + 0.0722 * c[2] as f64
    }

    #[test]
    fn the_ramp_steps_at_the_threshold_even_in_grey() {
        let (below, above) = (grain_colour(0.0099, 0.01), grain_colour(0.0101, 0.01));
        assert!(grey(above) - grey(below) > 100.0);
        assert!(grey(grain_colour(0.002, 0.01)) > grey(below));
        assert!(grey(grain_colour(0.08, 0.01)) < grey(above));
    }

    /// Half of a frame of four blocks was rendered, as in a pilot: two blocks, one of them twice the threshold.
    #[test]
    fn legends_count_what_was_rendered() {
        let region = Region { x: 0, y: 0, width: 32, height: 8 };
        let column = |i: usize| i % 32 / 8;
        let counts: Vec<u32> = (0..256).map(|i| [64, 0, 16, 0][column(i)]).collect();
        let map = BlockMap::from_differences(region, 8, (0..256).map(|i| [[0.005, 0.0, 0.02, 0.0][column(i)]; 3]));
        let legend =
            grain_legend(&map.clone().of_rendered(region, &counts), Measure::Displayed, region, &counts, 0.01, 16);
        let near = |a: f64, b: f64| (a - b).abs() < 1e-6;
        assert!(near(legend.grain, (0.5f64 * (0.005f64.powi(2) + 0.02f64.powi(2))).sqrt()), "{}", legend.grain);
        assert!(near(legend.below, 0.5) && near(legend.capped, 0.5) && near(legend.worst_block, 0.02), "{legend:?}");
        assert!(near(legend.swatches.iter().map(|s| s.share).sum(), 1.0));
        let samples = sample_legend(&counts);
        assert!(near(samples[0].value, 16.0) && near(samples[0].share, 0.5), "{samples:?}");
        // A picture from elsewhere has no samples at all.
        assert_eq!(map.clone().of_rendered(region, &[0; 256]).pixels, [64; 4]);
        let all = grain_legend(&map, Measure::Displayed, region, &[0; 256], 0.01, 16);
        assert!(near(all.below, 0.75), "{}", all.below);
    }

    /// Maps and legends go by blocks and by runs of equal counts: over random regions, blocks and counts they are what looking at every
    /// pixel by itself gives.
    #[test]
    fn maps_and_legends_say_what_each_pixel_says() {
        let mut state = 1u32;
        let mut dice = |most: u32| {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (state >> 8) % most
        };
        for round in 0..200 {
            let r = Region { x: dice(70), y: dice(50), width: 1 + dice(60), height: 1 + dice(40) };
            let (threshold, most) = (0.001 * (1 + dice(40)) as f64, 2 + dice(64));
            let counts: Vec<u32> = (0..r.area()).map(|_| [0, 2, 16, 64][dice(4) as usize]).collect();
            // Now and then long runs of equal counts, or none at all.
            let counts = match round % 3 {
                0 => counts,
                1 => counts.iter().enumerate().map(|(i, _)| counts[i / 37 * 37]).collect(),
                _ => vec![0; counts.len()],
            };
            let mut map = BlockMap::grid(r, [4, 8, 16][dice(3) as usize]);
            map.grain.iter_mut().for_each(|g| *g = 0.0001 * dice(2000) as f64);
            let map = map.of_rendered(r, &counts);
            let at = |i: usize| (r.x + i as u32 % r.width, r.y + i as u32 / r.width);
            let grain = |i: usize| map.at(at(i).0, at(i).1);
            for (i, colour) in grain_map(&map, r, &counts, threshold, most).into_iter().enumerate() {
                let plain = grain_colour(grain(i), threshold);
                let hatched = grain(i) > threshold && counts[i] >= most && (at(i).0 + at(i).1) % 6 < 2;
                let dark = plain.map(|c| (c as f32 * 0.55) as u8);
                assert_eq!(colour, if hatched { dark } else { plain }, "{round}: {:?}", at(i));
            }
            let known: Vec<usize> = (0..r.area()).filter(|i| rendered(&counts)(*i)).collect();
            let share =
                |f: &dyn Fn(usize) -> bool| known.iter().filter(|i| f(**i)).count() as f64 / known.len().max(1) as f64;
            let near = |a: f64, b: f64| assert!((a - b).abs() < 1e-9, "{round}: {a} for {b}");
            let legend = grain_legend(&map, Measure::Displayed, r, &counts, threshold, most);
            near(legend.below, share(&|i| grain(i) <= threshold));
            near(legend.capped, share(&|i| grain(i) > threshold && counts[i] >= most));
            let upto = legend.swatches[1..].iter().map(|s| s.value).chain([f64::INFINITY]);
            let mut from = 0.0;
            for (swatch, upto) in legend.swatches.iter().zip(upto) {
                // A grain on the border of two swatches may count to either by rounding.
                let sure = |g: f64| g > from * (1.0 + 1e-9) && g < upto * (1.0 - 1e-9);
                let may = |g: f64| g >= from * (1.0 - 1e-9) && g <= upto * (1.0 + 1e-9);
                assert!(swatch.share > share(&|i| sure(grain(i))) - 1e-9, "{round}: {swatch:?}");
                assert!(swatch.share < share(&|i| may(grain(i))) + 1e-9, "{round}: {swatch:?}");
                from = upto;
            }
            let samples = sample_legend(&counts);
            let sampled = counts.iter().any(|n| *n > 0);
            near(samples.iter().map(|s| s.share).sum(), sampled as u32 as f64);
            let colours = sample_map(&counts);
            let alone: Vec<[u8; 3]> = counts
                .iter()
                .map(|n| {
                    let (low, high) = sample_range(&counts);
                    along(&COUNTS, ((*n).max(1) as f64 / low as f64).ln() / (high as f64 / low as f64).ln().max(1e-9))
                })
                .collect();
            assert!(colours == alone, "{round}");
        }
    }
}
