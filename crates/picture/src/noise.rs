//! The noise ledger: who causes the grain of a picture.
//!
//! With d the half-difference of the picture and d_p that of a part or light, weighed by the slope of the judging view so that
//! grain counts as it is displayed: share_p = Σ d_p·d / Σ d². Shares of all parts add up to 1, since the parts add up to the
//! picture, and so do those of all lights. A share can be negative: parts that share one random choice are anticorrelated,
//! and adding up their variances would mislead. If p were free of noise, (2 Σ d_p·d − Σ d_p²) / Σ d² of the variance would go.

use crate::grain::BlockMap;
use crate::{Plate, Region, Rgb, View, luminance, rendered};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use ts_rs::TS;

/// Displayed grain of a part or light alone, by block; none if the plate does not keep it.
pub fn part_grain(plate: &Plate, view: &View, name: &str, block: u32) -> Option<BlockMap> {
    let halves = plate.layers.iter().find(|(n, _)| n.strip_suffix(".grain") == Some(name)).map(|(_, v)| v)?;
    let shown = (0..plate.region.area()).map(|i| {
        let (slope, ..) = slope(plate, view, i);
        [(slope * halves[i] as f64) as f32; 3]
    });
    Some(BlockMap::from_differences(plate.region, block, shown).of_rendered(plate.region, &plate.samples))
}

/// Slope of the view between a pixel's halves, the luminance of their mean, and half their difference.
fn slope(plate: &Plate, view: &View, i: usize) -> (f64, f64, f64) {
    let (a, b) = (luminance(plate.a[i]), luminance(plate.b[i]));
    let (m, d) = (0.5 * (a + b), 0.5 * (a - b));
    let h = d.abs().max(1e-3 * m.abs()).max(1e-6);
    let shown = |y: f32| view.display([y; 3])[0];
    (((shown(m + h) - shown(m - h)) / (2.0 * h)) as f64, m as f64, d as f64)
}

/// What would change on the display if something were missing, in steps of 255.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, TS)]
pub struct Loss {
    pub mean: f64,
    /// 99 % of the picture loses no more than this.
    pub most: f64,
    pub worst: f64,
}

impl Loss {
    /// From losses of blocks with their numbers of pixels.
    pub fn of(mut blocks: Vec<(f64, u64)>) -> Loss {
        let pixels: u64 = blocks.iter().map(|b| b.1).sum();
        blocks.sort_by(|a, b| a.0.total_cmp(&b.0));
        let mean = blocks.iter().map(|(l, p)| l * *p as f64).sum::<f64>() / pixels.max(1) as f64;
        let mut below = 0;
        let most = blocks.iter().find(|(_, p)| {
            below += p;
            below as f64 >= 0.99 * pixels as f64
        });
        Loss { mean, most: most.map_or(0.0, |b| b.0), worst: blocks.last().map_or(0.0, |b| b.0) }
    }

    /// Of a block's mean light that would be `less` without something.
    pub fn steps(view: &View, whole: Rgb, less: Rgb) -> f64 {
        let (a, b) = (view.display(whole), view.display(less));
        (0..3).map(|c| 255.0 * (a[c] - b[c]).abs() as f64).fold(0.0, f64::max)
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct NoiseRow {
    /// A part, or a light group as "light …".
    pub name: String,
    /// Share of the grain's square.
    pub share: f64,
    /// Share of the grain's square that would go if it were free of noise.
    pub gain: f64,
    /// Share of the light.
    pub light: f64,
    /// What the picture would lose without it.
    pub loss: Loss,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct NoiseLedger {
    pub region: Region,
    /// Root mean square displayed grain of the luminance.
    pub grain: f64,
    /// Displayed variance of one camera sample: mean over the pixels.
    pub per_sample: f64,
    /// What pays most first.
    pub parts: Vec<NoiseRow>,
    pub lights: Vec<NoiseRow>,
}

/// Side of the squares in which losses are judged, and variances compared.
const SQUARE: u32 = 8;

/// Displayed variance of one camera sample, summed over each square of a plate.
pub fn sample_variances(plate: &Plate, view: &View) -> Vec<f64> {
    let (width, known) = (plate.region.width, rendered(&plate.samples));
    let columns = width.div_ceil(SQUARE);
    let mut out = vec![0.0; (columns * plate.region.height.div_ceil(SQUARE)) as usize];
    for i in (0..plate.region.area()).filter(|i| known(*i)) {
        let (x, y) = (i as u32 % width, i as u32 / width);
        let (slope, _, d) = slope(plate, view, i);
        out[(y / SQUARE * columns + x / SQUARE) as usize] += slope * slope * d * d * plate.samples[i] as f64;
    }
    out
}

/// How many times `before` in sum `after` is, and half of the 95 % interval: what belongs together stands in the same place of both
/// (the ratio estimator and its variance, Cochran, Sampling Techniques, 1977, section 6.3).
pub fn ratio_of_sums(before: &[f64], after: &[f64]) -> (f64, f64) {
    let sum: f64 = before.iter().sum();
    let ratio = after.iter().sum::<f64>() / sum.max(1e-30);
    let n = before.len() as f64;
    let square: f64 = before.iter().zip(after).map(|(b, a)| (a - ratio * b).powi(2)).sum();
    (ratio, 1.96 * (square * n / (n - 1.0).max(1.0)).sqrt() / sum.max(1e-30))
}

/// What a light group's layers are called.
pub const LIGHT: &str = "light ";

impl NoiseLedger {
    /// Of a part of a plate; none if the plate keeps no parts or nothing of the part was rendered.
    pub fn of(plate: &Plate, view: &View, region: Region) -> Option<NoiseLedger> {
        let region = plate.region.shared(region)?;
        let names: Vec<&str> = plate.layers.iter().filter_map(|(n, _)| n.strip_suffix(".grain")).collect();
        if names.is_empty() {
            return None;
        }
        let layer = |name: String| plate.layers.iter().find(|(n, _)| *n == name).map(|(_, v)| v.as_slice());
        let own = plate.region;
        // Places in the region and in the plate, of what was rendered.
        let known = rendered(&plate.samples);
        let places: Vec<(usize, usize)> = (region.y..region.bottom())
            .flat_map(|y| (region.x..region.right()).map(move |x| (x, y)))
            .map(|(x, y)| ((y - own.y) * own.width + (x - own.x)) as usize)
            .enumerate()
            .filter(|(_, i)| known(*i))
            .collect();
        if places.is_empty() {
            return None;
        }
        // Luminance of the mean, its half-difference, and the slope of the view between the halves.
        let mut weighed = Vec::with_capacity(places.len());
        let (mut square, mut per_sample, mut light) = (0.0f64, 0.0f64, 0.0f64);
        for (_, i) in &places {
            let (slope, m, d) = slope(plate, view, *i);
            weighed.push(slope * slope);
            let v = slope * slope * d * d;
            square += v;
            per_sample += v * plate.samples[*i] as f64;
            light += m;
        }
        let columns = region.width.div_ceil(SQUARE);
        let square_of =
            |k: usize| (k as u32 / region.width / SQUARE * columns + k as u32 % region.width / SQUARE) as usize;
        let squares = (columns * region.height.div_ceil(SQUARE)) as usize;
        let mut whole = vec![([0.0f64; 3], 0u64); squares];
        for (k, i) in &places {
            let s = &mut whole[square_of(*k)];
            (0..3).for_each(|c| s.0[c] += 0.5 * (plate.a[*i][c] + plate.b[*i][c]) as f64);
            s.1 += 1;
        }
        let row = |name: &str| {
            let halves = layer(format!("{name}.grain"))?;
            let [r, g, b] = ["R", "G", "B"].map(|c| layer(format!("{name}.{c}")));
            let (r, g, b) = (r?, g?, b?);
            let (mut cross, mut alone, mut brings) = (0.0f64, 0.0f64, 0.0f64);
            let mut parts = vec![[0.0f64; 3]; squares];
            for ((k, i), weight) in places.iter().zip(&weighed) {
                let d = 0.5 * (luminance(plate.a[*i]) - luminance(plate.b[*i])) as f64;
                let dp = halves[*i] as f64;
                cross += weight * dp * d;
                alone += weight * dp * dp;
                let rgb = [r[*i], g[*i], b[*i]];
                brings += luminance(rgb) as f64;
                let s = &mut parts[square_of(*k)];
                (0..3).for_each(|c| s[c] += rgb[c] as f64);
            }
            let losses = whole.iter().zip(&parts).filter(|((_, n), _)| *n > 0).map(|((all, n), part)| {
                let mean = |v: f64| (v / *n as f64) as f32;
                let less = std::array::from_fn(|c| mean(all[c] - part[c]));
                (Loss::steps(view, all.map(mean), less), *n)
            });
            let of = |x: f64, all: f64| if all > 0.0 { x / all } else { 0.0 };
            Some(NoiseRow {
                name: name.to_string(),
                share: of(cross, square),
                gain: of(2.0 * cross - alone, square),
                light: of(brings, light),
                loss: Loss::of(losses.collect()),
            })
        };
        let rows = |lights: bool| {
            let mut rows: Vec<NoiseRow> =
                names.par_iter().filter(|n| n.starts_with(LIGHT) == lights).filter_map(|n| row(n)).collect();
            rows.sort_by(|a, b| b.gain.total_cmp(&a.gain));
            rows
        };
        let n = places.len() as f64;
        Some(NoiseLedger {
            region,
            grain: (square / n).sqrt(),
            per_sample: per_sample / n,
            parts: rows(false),
            lights: rows(true),
        })
    }
}
