//! Grain: the visible noise of a picture as a number, from the difference of two independent halves.
//!
//! For the halves a and b of a pixel, their mean m and a view D, half the displayed difference |D(a) − D(b)| / 2 is an unbiased
//! estimate (up to a factor) of the standard error of D(m) where noise is even. Where it is made by rare bright light it is too
//! small: both halves may be clipped to white, and the curve shrinks what lies high. There two bounds are taken, with d = min(a, b)
//! the darker half, which has not met the light, as most pixels have not:
//!
//! - x² with x = D(m) − D(d): the error of the pixels that have met it, as if the others were right. A lower bound.
//! - (x − u)² with u = D(d + L) − D(d), L the mean of a − d over the block: as if the light fell evenly on the block, so that pixels
//!   that have not met it lack it. An upper bound. Taken as x² − 2xu′ + uu′ with u and u′ from different halves, u′ beside x from
//!   the darker one: so no sample is multiplied by itself, which would add its own variance.
//!
//! What is told lies a quarter of the way from the lower to the upper bound, chosen on scenes of our own and checked on others
//! (docs/methods.md). Whether a block has rare light is told by the kurtosis of its differences: 3 for Gaussian noise, tens for
//! single bright samples.
//! One pixel's value has one degree of freedom and says little, so blocks are pooled: G_B = max over c of
//! sqrt(mean over B of g²). Of light so rare that neither half of any pixel has met it no estimate can know.

use crate::denoise::{CleanUp, clean_halves};
use crate::{Plate, Region, Rgb, View, luminance, rendered};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use ts_rs::TS;

/// By which difference of the halves grain is judged.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Measure {
    /// Of their display values.
    Displayed,
    /// Of their display values after the clean-up, where there is any.
    #[default]
    Delivered,
    /// Of their radiance, relative to its mean with a floor at a hundredth of middle grey.
    Relative,
}

/// How the grain of a render is judged; frozen in its description.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Judging {
    pub view: View,
    pub measure: Measure,
    /// What becomes of the picture before it is delivered.
    pub clean: CleanUp,
    /// Side of a block in pixels.
    pub block: u32,
}

impl Judging {
    /// As displayed in a view, in blocks of 8×8.
    pub fn displayed(view: View) -> Judging {
        Judging { view, measure: Measure::Displayed, clean: CleanUp::NONE, block: 8 }
    }

    /// As delivered after a clean-up, through a view, in blocks of 8×8.
    pub fn delivered(view: View, clean: CleanUp) -> Judging {
        Judging { measure: Measure::Delivered, clean, ..Judging::displayed(view) }
    }

    /// Grain is that of the cleaned halves.
    pub fn cleans(&self) -> bool {
        self.measure == Measure::Delivered && self.clean.acts()
    }

    /// Both give the same grain: what neither looks at may differ.
    pub fn alike(&self, other: &Judging) -> bool {
        self.key() == other.key()
    }

    /// All that the grain depends on.
    pub fn key(&self) -> (View, u32, bool, Option<CleanUp>) {
        (self.view, self.block, self.measure == Measure::Relative, self.cleans().then_some(self.clean))
    }

    /// Half the difference of a pixel's halves, as it is judged. Halves judged as delivered must have been denoised before.
    fn half_difference(&self, a: Rgb, b: Rgb) -> Rgb {
        match self.measure {
            Measure::Displayed | Measure::Delivered => {
                let (da, db) = (self.view.display(a), self.view.display(b));
                std::array::from_fn(|c| 0.5 * (da[c] - db[c]))
            }
            Measure::Relative => {
                let floor = 0.01 * 0.18 * (-self.view.exposure).exp2() as f32;
                std::array::from_fn(|c| 0.5 * (a[c] - b[c]) / (0.5 * (a[c] + b[c]).abs() + floor))
            }
        }
    }

    /// Rare bright light is looked for: where it is clipped by the display, and where no clean-up has spread it over many pixels
    /// (what differs after that is even, or the clean-up's own).
    fn tells_rare_light(&self) -> bool {
        self.measure != Measure::Relative && !self.cleans()
    }
}

/// The kurtosis of a population of which n values have one of k (Joanes and Gill 1998): few values cannot show a large one.
fn of_population(k: f64, n: f64) -> f64 {
    if n > 3.0 { (n - 1.0) / ((n - 2.0) * (n - 3.0)) * ((n + 1.0) * k - 3.0 * (n - 1.0)) + 3.0 } else { 3.0 }
}

/// Kurtosis up to which noise counts as even, and from which on as rare bright light; between them both estimates are mixed.
const EVEN: f64 = 4.0;
const RARE: f64 = 30.0;

/// How far from the lower to the upper bound of rare light's noise.
const MISSING: f64 = 0.25;

/// How the light of some pixels differs between the halves.
#[derive(Debug, Clone, Copy, Default)]
struct Light {
    /// Sums of the second and fourth powers of the differences of luminance.
    powers: [f64; 2],
    /// Sums of what each half has above the darker one, by channel.
    above: [[f64; 3]; 2],
    pixels: u32,
}

impl Light {
    fn add(&mut self, halves: &[Rgb; 2]) {
        let square = ((luminance(halves[0]) - luminance(halves[1])) as f64).powi(2);
        self.powers[0] += square;
        self.powers[1] += square * square;
        let dark = darker(halves);
        for (above, half) in self.above.iter_mut().zip(halves) {
            (0..3).for_each(|c| above[c] += (half[c] - dark[c]) as f64);
        }
        self.pixels += 1;
    }

    fn join(&mut self, other: &Light) {
        for (to, from) in self.powers.iter_mut().zip(&other.powers) {
            *to += from;
        }
        for (to, from) in self.above.iter_mut().flatten().zip(other.above.iter().flatten()) {
            *to += from;
        }
        self.pixels += other.pixels;
    }

    /// From 0 where noise is even to 1 where it is rare bright light.
    fn rare(&self) -> f64 {
        let n = self.pixels as f64;
        // Not a number where nothing differs.
        let kurtosis = of_population(self.powers[1] * n / (self.powers[0] * self.powers[0]), n);
        if kurtosis > EVEN { ((kurtosis / EVEN).ln() / (RARE / EVEN).ln()).min(1.0) } else { 0.0 }
    }

    /// L of each half.
    fn mean(&self) -> [Rgb; 2] {
        self.above.map(|half| half.map(|v| (v / self.pixels as f64) as f32))
    }
}

fn darker([a, b]: &[Rgb; 2]) -> Rgb {
    std::array::from_fn(|c| a[c].min(b[c]))
}

/// The halves of a block's pixels.
#[derive(Debug, Clone, Default)]
pub struct BlockHalves(Vec<[Rgb; 2]>);

impl BlockHalves {
    pub fn add(&mut self, a: Rgb, b: Rgb) {
        self.0.push([a, b]);
    }

    fn light(&self) -> Light {
        let mut light = Light::default();
        self.0.iter().for_each(|halves| light.add(halves));
        light
    }

    /// G_B of each block, a share of the display range. Groups of `side` × `side` blocks, of `columns` a row, tell together how rare
    /// bright light is and how much of it there is: where a frame is rendered larger, a block has few delivered pixels, and so many
    /// blocks cover one block of the delivered frame.
    pub fn grains(blocks: &[BlockHalves], judging: &Judging, columns: usize, side: usize) -> Vec<f64> {
        if !judging.tells_rare_light() {
            return blocks.iter().map(|b| worst_channel(b.even(judging), b.0.len())).collect();
        }
        let lights: Vec<Light> = blocks.iter().map(BlockHalves::light).collect();
        let group = |k: usize| (k / columns / side, k % columns / side);
        let mut pooled: BTreeMap<(usize, usize), Light> = BTreeMap::new();
        if side > 1 {
            lights.iter().enumerate().for_each(|(k, light)| pooled.entry(group(k)).or_default().join(light));
        }
        let of = |(k, b): (usize, &BlockHalves)| {
            let light = if side > 1 { &pooled[&group(k)] } else { &lights[k] };
            let (even, rare) = (b.even(judging), light.rare());
            if rare == 0.0 {
                return worst_channel(even, b.0.len());
            }
            let bright = b.bright(judging, light);
            worst_channel(std::array::from_fn(|c| even[c] + rare * (bright[c] - even[c])), b.0.len())
        };
        blocks.iter().enumerate().map(of).collect()
    }

    /// Sum of the squares of even noise, by channel.
    fn even(&self, judging: &Judging) -> [f64; 3] {
        let mut sum = [0.0; 3];
        for [a, b] in &self.0 {
            let d = judging.half_difference(*a, *b);
            (0..3).for_each(|c| sum[c] += (d[c] as f64).powi(2));
        }
        sum
    }

    /// Sum of the squares of noise by rare bright light, by channel.
    fn bright(&self, judging: &Judging, light: &Light) -> [f64; 3] {
        let [mut met, mut lacking] = [[0.0; 3]; 2];
        let mean = light.mean();
        let view = &judging.view;
        for halves in &self.0 {
            let [a, b] = halves;
            let dark = darker(halves);
            let base = view.display(dark);
            let shown = view.display(std::array::from_fn(|c| 0.5 * (a[c] + b[c])));
            let with = mean.map(|l| view.display(std::array::from_fn(|c| dark[c] + l[c])));
            for c in 0..3 {
                let x = (shown[c] - base[c]) as f64;
                let u = with.map(|w| (w[c] - base[c]) as f64);
                met[c] += x * x;
                lacking[c] += u[0] * u[1] - 2.0 * x * u[(a[c] > b[c]) as usize];
            }
        }
        std::array::from_fn(|c| (met[c] + MISSING * lacking[c]).max(0.0))
    }
}

/// From sums of squares over so many pixels.
fn worst_channel(squares: [f64; 3], pixels: usize) -> f64 {
    (squares.into_iter().fold(0.0, f64::max) / pixels.max(1) as f64).sqrt()
}

/// Block grain over a region; blocks lie on the frame's fixed grid.
#[derive(Debug, Clone)]
pub struct BlockMap {
    pub block: u32,
    /// First block column and row of the frame that is held.
    pub first: (u32, u32),
    pub columns: u32,
    pub rows: u32,
    /// Grain, row by row.
    pub grain: Vec<f64>,
    /// Pixels of the region in each block; none in blocks that were not rendered.
    pub pixels: Vec<u32>,
}

impl BlockMap {
    pub fn of(plate: &Plate, judging: &Judging) -> BlockMap {
        let cleaned = judging.cleans().then(|| clean_halves(plate, &judging.clean));
        let halves = cleaned.as_ref().map_or([&plate.a[..], &plate.b], |[a, b]| [a, b]);
        BlockMap::of_halves(plate, halves, judging)
    }

    /// Of halves that were cleaned up already, where the judging asks for that.
    pub fn of_halves(plate: &Plate, [a, b]: [&[Rgb]; 2], judging: &Judging) -> BlockMap {
        let (r, grid) = (plate.region, BlockMap::grid(plate.region, judging.block));
        // Row by row of blocks, each for itself.
        let row = |row: u32| {
            let mut blocks = vec![BlockHalves::default(); grid.columns as usize];
            let top = (grid.first.1 + row) * grid.block;
            for y in top.max(r.y)..(top + grid.block).min(r.bottom()) {
                let from = (y - r.y) as usize * r.width as usize;
                for x in r.x..r.right() {
                    let i = from + (x - r.x) as usize;
                    blocks[(x / grid.block - grid.first.0) as usize].add(a[i], b[i]);
                }
            }
            BlockHalves::grains(&blocks, judging, grid.columns as usize, 1)
        };
        let grain = (0..grid.rows).into_par_iter().flat_map_iter(row).collect();
        BlockMap { grain, ..grid }.of_rendered(r, &plate.samples)
    }

    /// Leaves out blocks of which nothing was rendered: a pilot has many.
    pub fn of_rendered(mut self, r: Region, samples: &[u32]) -> BlockMap {
        let known = rendered(samples);
        let mut seen = vec![0; self.pixels.len()];
        for i in (0..r.area()).filter(|i| known(*i)) {
            seen[self.block_at(r.x + i as u32 % r.width, r.y + i as u32 / r.width)] += 1;
        }
        self.pixels = seen;
        self
    }

    /// Blocks of a region of which nothing is known yet.
    pub fn grid(r: Region, block: u32) -> BlockMap {
        let first = (r.x / block, r.y / block);
        let columns = (r.right() - 1) / block - first.0 + 1;
        let rows = (r.bottom() - 1) / block - first.1 + 1;
        let blocks = (columns * rows) as usize;
        BlockMap { block, first, columns, rows, grain: vec![0.0; blocks], pixels: vec![0; blocks] }
    }

    /// From half-differences of a region's pixels, row by row.
    pub fn from_differences(r: Region, block: u32, differences: impl Iterator<Item = Rgb>) -> BlockMap {
        let mut map = BlockMap::grid(r, block);
        let mut sums = vec![[0.0; 3]; map.pixels.len()];
        for (i, difference) in differences.enumerate() {
            let k = map.block_at(r.x + i as u32 % r.width, r.y + i as u32 / r.width);
            (0..3).for_each(|c| sums[k][c] += (difference[c] as f64).powi(2));
            map.pixels[k] += 1;
        }
        map.grain = sums.iter().zip(&map.pixels).map(|(sum, n)| worst_channel(*sum, *n as usize)).collect();
        map
    }

    /// Pixels of the frame that block `k` stands for; at borders it may reach beyond what was rendered.
    pub fn place(&self, k: usize) -> Region {
        let (x, y) = (self.first.0 + k as u32 % self.columns, self.first.1 + k as u32 / self.columns);
        Region { x: x * self.block, y: y * self.block, width: self.block, height: self.block }
    }

    /// Place of the block that holds a pixel of the frame.
    pub fn block_at(&self, x: u32, y: u32) -> usize {
        ((y / self.block - self.first.1) * self.columns + (x / self.block - self.first.0)) as usize
    }

    /// The block in a column and a row of the frame's grid, if it is held.
    pub fn find(&self, column: u32, row: u32) -> Option<usize> {
        let (x, y) = (column.checked_sub(self.first.0)?, row.checked_sub(self.first.1)?);
        (x < self.columns && y < self.rows).then(|| (y * self.columns + x) as usize)
    }

    /// Grain of the block that holds a pixel of the frame.
    pub fn at(&self, x: u32, y: u32) -> f64 {
        self.grain[self.block_at(x, y)]
    }

    /// Values of blocks as values of a region's pixels.
    pub fn spread<T: Copy + Send + Sync>(&self, values: &[T], r: Region) -> Vec<T> {
        let row = |y: u32| (r.x..r.right()).map(move |x| values[self.block_at(x, y)]);
        (r.y..r.bottom()).into_par_iter().flat_map_iter(row).collect()
    }

    /// Root mean square over all pixels that were rendered, and the worst block.
    pub fn summary(&self) -> (f64, f64) {
        let pixels: u64 = self.pixels.iter().map(|p| *p as u64).sum();
        let sum: f64 = self.grain.iter().zip(&self.pixels).map(|(g, p)| g * g * *p as f64).sum();
        let known = self.grain.iter().zip(&self.pixels).filter(|(_, pixels)| **pixels > 0);
        let worst = known.map(|(grain, _)| *grain).fold(0.0, f64::max);
        ((sum / pixels.max(1) as f64).sqrt(), worst)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn even(i: u32) -> f64 {
        (crate::mixed(i) as f64 + 0.5) / (u32::MAX as f64 + 1.0)
    }

    /// Told over true displayed error of blocks of so many pixels whose halves have n samples each, drawn by `draw` from two even
    /// numbers.
    fn told(pixels: usize, n: u32, draw: impl Fn(f64, f64) -> f64, truth: f64) -> f64 {
        let judging = Judging::displayed(View::PLAIN);
        let (mut told, mut error) = (0.0, 0.0);
        let shown = |v: f64| View::PLAIN.display([v as f32; 3])[0] as f64;
        let mut k = 1;
        for _ in 0..25_600 / pixels {
            let mut block = BlockHalves::default();
            for _ in 0..pixels {
                let half = |k: &mut u32| {
                    (0..n)
                        .map(|_| {
                            *k += 2;
                            draw(even(*k), even(*k + 1))
                        })
                        .sum::<f64>()
                        / n as f64
                };
                let (a, b) = (half(&mut k), half(&mut k));
                block.add([a as f32; 3], [b as f32; 3]);
                error += (shown(0.5 * (a + b)) - shown(truth)).powi(2) / pixels as f64;
            }
            told += BlockHalves::grains(&[block], &judging, 1, 1)[0].powi(2);
        }
        (told / error).sqrt()
    }

    /// Even noise, and light that one sample in a thousand brings, so bright that the display clips it. By hand for the latter: a
    /// pixel of 32 samples has met it with p = 0.032; its mean is white, its darker half shows D(0.05) = 0.247. So the lower bound is
    /// 0.753 √p, and the error √((D(0.11) − 0.247)² (1 − p) + (1 − D(0.11))² p), to which the upper bound comes in large blocks: the
    /// lower bound is 0.82 of it, and √(¾ · 0.82² + ¼) = 0.87 is told. Half the difference would tell half of that.
    #[test]
    fn noise_is_told_as_large_as_it_is() {
        let normal = |u: f64, v: f64| (-2.0 * u.ln()).sqrt() * (std::f64::consts::TAU * v).cos();
        let even = told(64, 16, |u, v| 0.3 + 0.2 * normal(u, v), 0.3);
        assert!((even - 1.0).abs() < 0.06, "{even}");
        let rare = told(1024, 16, |u, _| if u < 0.001 { 60.0 } else { 0.05 }, 0.109_95);
        assert!((rare - 0.87).abs() < 0.04, "{rare}");
    }

    /// Light of any brightness on any ground, met by any share of the samples: what is told is never much too large. It is right
    /// where every pixel meets the light about once, or where it brings no more than a fifth of what the ground does and a block meets
    /// it three times; of rarer or brighter light it is a lower bound. Nearly white pictures, which show hardly any noise, are left out.
    #[test]
    fn noise_is_told_over_a_wide_range() {
        let normal = |u: f64, v: f64| (-2.0 * u.ln()).sqrt() * (std::f64::consts::TAU * v).cos();
        let (mut right, mut below) = (0, 0);
        for seed in 0..60u32 {
            let dice = |k: u32| even(seed * 16 + k + 7_000_000);
            let between = |k: u32, lo: f64, hi: f64| lo * (hi / lo).powf(dice(k));
            let (ground, n) = (between(0, 0.003, 0.5), [2u32, 8, 32][(dice(1) * 3.0) as usize]);
            let pixels = [64, 256][(dice(2) * 2.0) as usize];
            let (share, bright) = (between(3, 1e-4, 0.5), ground * between(4, 1.0, 3000.0));
            let spread = ground * 0.5 * dice(5);
            let mean = ground + share * bright;
            if mean > 0.6 {
                continue;
            }
            let draw = |u: f64, v: f64| match u < share {
                true => ground + bright,
                false => ground + spread * normal((u - share) / (1.0 - share), v),
            };
            let (ratio, each) = (told(pixels, n, draw, mean), 2.0 * n as f64 * share);
            let met = each * pixels as f64;
            let known = each >= 1.0 || mean < 1.2 * ground && met >= 3.0;
            // Of light that not even every block has met nothing is known.
            let least = if known { 0.85 } else { 0.3 * f64::from(met >= 3.0) };
            let what =
                format!("{ratio} of {ground} + {share} × {bright}, spread {spread}, {n} samples, {pixels} pixels");
            assert!(ratio < 1.1 && ratio > least, "{what}");
            *if known { &mut right } else { &mut below } += 1;
        }
        assert!(right > 15 && below > 15, "{right} and {below}");
    }
}
