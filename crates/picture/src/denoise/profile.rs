//! The noise of a picture by brightness: from the difference of its halves or, where it came without, measured where it is flat.
//!
//! Levels are standard deviations from the median of the diagonal details of a wavelet (Donoho and Johnstone 1994, with the
//! four coefficients of Daubechies), on a scale on which the eye's steps are about even. Flat squares are those whose spread
//! is nearly what those details explain.

use crate::{Region, Rgb, luminance};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use ts_rs::TS;

/// Side of the squares that are looked at.
const SQUARE: u32 = 16;
/// Ranges of brightness, and squares that each may show.
const RANGES: usize = 8;
const EACH: usize = 3;
/// Share of its spread that a square of noise keeps at least in means of 2×2 pixels: half, less four standard errors.
const PATTERN: f32 = 0.35;
/// Pixels of a range of brightness whose halves are enough to tell its noise.
const MANY: usize = 256;
/// Side in pixels of the means whose spread is told.
pub const SCALES: [u32; 3] = [1, 2, 4];

/// A flat square and what it tells.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct Area {
    pub region: Region,
    /// Mean, on the even scale.
    pub brightness: f32,
    /// Noise level on that scale, as its finest details tell it.
    pub level: f32,
    /// The same of the difference of the halves, where there are any: what is noise there beyond doubt.
    pub known: Option<f32>,
    /// Spread of the means of 1, 2 and 4 pixels a side. For independent noise each is half the one before.
    pub by_scale: [f32; 3],
    /// The artist has struck it out.
    pub struck: bool,
}

/// Noise level by brightness, with the areas that told it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, TS)]
pub struct Profile {
    pub areas: Vec<Area>,
    /// Brightness and level, both on the even scale, from dark to bright; never empty.
    pub curve: Vec<(f32, f32)>,
}

/// A scale on which the eye's steps are about even: the display curve, without its upper end.
pub fn even(x: f32) -> f32 {
    if x <= 1.0 { crate::srgb_encode(x.max(0.0)) } else { 1.0 + 0.44 * x.ln() }
}

/// Standard deviation of Gaussian noise in a picture, from the median of the diagonal details of a wavelet.
pub fn noise_level(values: &[f32], w: usize, h: usize) -> f32 {
    // Daubechies' high pass of four coefficients.
    const HIGH: [f32; 4] = [-0.482_962_9, 0.836_516_3, -0.224_143_86, -0.129_409_52];
    let mut details: Vec<f32> = Vec::with_capacity(w * h / 4);
    for y in (0..h.saturating_sub(3)).step_by(2) {
        for x in (0..w.saturating_sub(3)).step_by(2) {
            let row = |dy: usize| (0..4).map(|dx| HIGH[dx] * values[(y + dy) * w + x + dx]).sum::<f32>();
            details.push((0..4).map(|dy| HIGH[dy] * row(dy)).sum::<f32>().abs());
        }
    }
    // The median of |x| of a Gaussian is 0.6745 standard deviations.
    if details.is_empty() { 0.0 } else { median(&mut details) / 0.674_489_75 }
}

fn median(values: &mut [f32]) -> f32 {
    *values.select_nth_unstable_by(values.len() / 2, f32::total_cmp).1
}

/// Standard deviation of Gaussian noise about 0. From the mean of |x|, which rare bright samples hardly move (Geary 1935).
fn deviation(noise: &mut [f32]) -> f32 {
    let sum: f64 = noise.iter().map(|n| n.abs() as f64).sum();
    (sum / noise.len() as f64 * std::f64::consts::FRAC_PI_2.sqrt()) as f32
}

/// What the artist says about flat areas: regions of the frame.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Hints {
    /// Areas that touch these are not flat.
    pub struck: Vec<Region>,
    /// These are, whatever they look like.
    pub pointed: Vec<Region>,
}

impl Profile {
    /// Of the mean of two halves, which are the same where a picture came without. Finds flat areas by itself, and heeds hints.
    /// Levels are those of the mean: what the halves tell of all pixels, else what the finest details of those areas tell.
    pub fn of([a, b]: [&[Rgb]; 2], r: Region, hints: &Hints) -> Profile {
        let Hints { struck, pointed } = hints;
        let (w, h) = (r.width, r.height);
        let [ya, yb] = [a, b].map(|half| half.par_iter().map(|c| luminance(*c)).collect::<Vec<f32>>());
        let pairs = || ya.par_iter().zip(&yb);
        let light: Vec<f32> = pairs().map(|(a, b)| even(0.5 * (a + b))).collect();
        let noise: Option<Vec<f32>> = (a != b).then(|| pairs().map(|(a, b)| 0.5 * (even(*a) - even(*b))).collect());
        let cut = |of: &[f32], to: Region| Region::whole(w, h).cut(of, to);
        let look = |s: Region| {
            let known = noise.as_ref().map(|n| noise_level(&cut(n, s), s.width as usize, s.height as usize));
            Area { known, ..area_of(&cut(&light, s), s) }
        };
        let squares: Vec<Region> = (0..h / SQUARE)
            .flat_map(|y| {
                (0..w / SQUARE).map(move |x| Region { x: x * SQUARE, y: y * SQUARE, width: SQUARE, height: SQUARE })
            })
            .collect();
        // Flatness: how much of a square's spread its finest details explain, and how fast means of more pixels calm down.
        let mut looked: Vec<(f32, f32, Area)> = squares
            .into_par_iter()
            .map(|s| {
                let area = look(s);
                let spread = area.by_scale[0].max(1e-6);
                (spread / area.level.max(1e-6), area.by_scale[1] / spread, area)
            })
            .collect();
        // Noise that is alike in neighbouring pixels has less of the finest details and calms down later: the flattest
        // squares of the picture set the measure.
        // Means of four independent pixels keep half of the spread; what calms down faster alternates: a fine pattern.
        looked.retain(|l| l.1 >= PATTERN);
        looked.sort_by(|a, b| a.1.total_cmp(&b.1));
        let calming = looked.get(looked.len() / 20).map_or(0.5, |l| l.1);
        looked.retain(|l| l.1 <= 1.25 * calming);
        looked.sort_by(|a, b| a.0.total_cmp(&b.0));
        let usual = looked.get(looked.len() / 20).map_or(1.0, |l| l.0);
        looked.retain(|l| l.0 <= 1.5 * usual);
        // Of those the calmest: texture only adds.
        looked.sort_by(|a, b| a.2.by_scale[0].total_cmp(&b.2.by_scale[0]));
        let mut areas: Vec<Area> = Vec::new();
        let mut taken = [0usize; RANGES];
        for (_, _, mut area) in looked {
            let range = ((area.brightness * RANGES as f32) as usize).min(RANGES - 1);
            if taken[range] >= EACH {
                continue;
            }
            taken[range] += 1;
            area.struck = struck.iter().any(|s| s.shared(moved(area.region, r)).is_some());
            areas.push(area);
        }
        areas.extend(pointed.iter().filter_map(|p| {
            let own = Region { x: p.x.checked_sub(r.x)?, y: p.y.checked_sub(r.y)?, ..*p };
            let own = own.shared(Region::whole(w, h)).filter(|o| o.width >= 8 && o.height >= 8)?;
            Some(look(own))
        }));
        areas.sort_by(|a, b| a.brightness.total_cmp(&b.brightness));
        areas.iter_mut().for_each(|a| a.region = moved(a.region, r));
        let counted = areas.iter().filter(|a| !a.struck).map(|a| (a.brightness, a.level));
        let mut curve = match noise {
            Some(noise) => by_range(light.into_iter().zip(noise), MANY, deviation),
            None if counted.clone().next().is_none() => vec![(0.5, noise_level(&light, w as usize, h as usize))],
            None => by_range(counted, 1, median),
        };
        if curve.is_empty() {
            curve.push((0.5, 0.0));
        }
        Profile { areas, curve }
    }

    /// Level at a brightness, both on the even scale.
    pub fn level(&self, brightness: f32) -> f32 {
        let after = self.curve.partition_point(|(b, _)| *b < brightness);
        match (after.checked_sub(1).map(|i| self.curve[i]), self.curve.get(after).copied()) {
            (Some((b0, l0)), Some((b1, l1))) => l0 + (l1 - l0) * (brightness - b0) / (b1 - b0).max(1e-6),
            (Some((_, l)), None) | (None, Some((_, l))) => l,
            (None, None) => 0.0,
        }
    }

    /// Level at a linear value, linear.
    pub fn linear_level(&self, value: f32) -> f32 {
        let (at, step) = (even(value), 0.01 * value.abs().max(0.01));
        // The slope of the even scale brings it back.
        let slope = (even(value + step) - even(value - step)) / (2.0 * step);
        self.level(at) / slope.max(1e-3)
    }
}

/// One point for each range of brightness that has so many values at least: their mean brightness and what they tell together.
fn by_range(
    points: impl Iterator<Item = (f32, f32)>,
    least: usize,
    together: fn(&mut [f32]) -> f32,
) -> Vec<(f32, f32)> {
    let mut ranges = vec![(0.0f64, Vec::new()); RANGES];
    for (brightness, value) in points {
        let (sum, values) = &mut ranges[((brightness * RANGES as f32) as usize).min(RANGES - 1)];
        *sum += brightness as f64;
        values.push(value);
    }
    let told = ranges.into_iter().filter(|(_, values)| values.len() >= least);
    told.map(|(sum, mut values)| ((sum / values.len() as f64) as f32, together(&mut values))).collect()
}

fn moved(own: Region, by: Region) -> Region {
    Region { x: own.x + by.x, y: own.y + by.y, ..own }
}

/// What a square tells about a plane through it.
fn area_of(values: &[f32], region: Region) -> Area {
    let (w, h) = (region.width as usize, region.height as usize);
    let n = values.len() as f32;
    let brightness = values.iter().sum::<f32>() / n;
    // The least-squares plane over a grid: slopes by themselves, for x and y are independent on it.
    let centred = |i: usize| ((i % w) as f32 - 0.5 * (w - 1) as f32, (i / w) as f32 - 0.5 * (h - 1) as f32);
    let (mut sx, mut sy, mut xx, mut yy) = (0.0f32, 0.0f32, 1e-9f32, 1e-9f32);
    for (i, v) in values.iter().enumerate() {
        let (x, y) = centred(i);
        (sx, sy, xx, yy) = (sx + x * v, sy + y * v, xx + x * x, yy + y * y);
    }
    let flat: Vec<f32> = (0..values.len())
        .map(|i| {
            let (x, y) = centred(i);
            values[i] - brightness - x * sx / xx - y * sy / yy
        })
        .collect();
    let by_scale = SCALES.map(|s| {
        let s = s as usize;
        let means: Vec<f32> = (0..h / s)
            .flat_map(|by| (0..w / s).map(move |bx| (bx, by)))
            .map(|(bx, by)| {
                let sum: f32 = (0..s * s).map(|k| flat[(by * s + k / s) * w + bx * s + k % s]).sum();
                sum / (s * s) as f32
            })
            .collect();
        (means.iter().map(|m| m * m).sum::<f32>() / means.len().max(1) as f32).sqrt()
    });
    let level = noise_level(values, w, h);
    Area { region, brightness, level, known: None, by_scale, struck: false }
}
