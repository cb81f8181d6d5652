//! Grain: the visible noise of a picture as a number, from the difference of two independent halves.
//!
//! For the halves a and b of a pixel, their mean m and a view D, half the displayed difference |D(a) − D(b)| / 2 is an unbiased
//! estimate (up to a factor) of the standard error of D(m) where noise is even. Where it is made by rare bright light it is too
//! small: both halves may be clipped to white, and the curve shrinks what lies high. There the mean's distance from the darker half,
//! D(m) − D(min(a, b)), is right: the darker half has not met the light, as most pixels have not. Which of the two a block gets
//! is told by the kurtosis of its differences: 3 for Gaussian noise, tens for single bright samples.
//! One pixel's value has one degree of freedom and says little, so blocks are pooled: G_B = max over c of
//! sqrt(mean over B of g²). Against true errors (`./run bench causes noise`): 0.9 to 1.1 in the mean of scenes; of light so rare that
//! neither half has met it no estimate can know, and what is told is a lower bound.

use crate::denoise::{CleanUp, clean_halves};
use crate::{Plate, Region, Rgb, View, luminance, rendered};
use serde::{Deserialize, Serialize};
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

    /// What a pixel's halves tell of its noise. Halves judged as delivered must have been denoised before.
    pub fn difference(&self, a: Rgb, b: Rgb) -> Difference {
        match self.measure {
            Measure::Displayed | Measure::Delivered => {
                let (da, db) = (self.view.display(a), self.view.display(b));
                let even: Rgb = std::array::from_fn(|c| 0.5 * (da[c] - db[c]));
                if self.cleans() {
                    // A clean-up spreads bright samples over many pixels: what differs after it is even, or the clean-up's own.
                    return Difference::from(even);
                }
                let shown = self.view.display(std::array::from_fn(|c| 0.5 * (a[c] + b[c])));
                Difference {
                    even,
                    from_darker: std::array::from_fn(|c| shown[c] - da[c].min(db[c])),
                    light: luminance(a) - luminance(b),
                }
            }
            Measure::Relative => {
                let floor = 0.01 * 0.18 * (-self.view.exposure).exp2() as f32;
                let of = |c: usize| 0.5 * (a[c] - b[c]) / (0.5 * (a[c] + b[c]).abs() + floor);
                Difference::from(std::array::from_fn(of))
            }
        }
    }
}

/// What the halves of one pixel tell of its noise, by channel.
#[derive(Debug, Clone, Copy)]
pub struct Difference {
    /// Half the difference.
    pub even: Rgb,
    /// The mean's distance from the darker half.
    pub from_darker: Rgb,
    /// The difference of the halves' luminance, linear: tells even noise from rare bright light.
    pub light: f32,
}

impl From<Rgb> for Difference {
    /// Half a difference alone.
    fn from(even: Rgb) -> Difference {
        Difference { even, from_darker: even, light: 0.0 }
    }
}

/// The kurtosis of a population of which n values have one of k (Joanes and Gill 1998): few values cannot show a large one.
fn of_population(k: f64, n: f64) -> f64 {
    if n > 3.0 { (n - 1.0) / ((n - 2.0) * (n - 3.0)) * ((n + 1.0) * k - 3.0 * (n - 1.0)) + 3.0 } else { 3.0 }
}

/// Kurtosis up to which noise counts as even, and from which on as rare bright light; between them both estimates are mixed.
const EVEN: f64 = 4.0;
const RARE: f64 = 30.0;

/// Sums over the pixels of a block.
#[derive(Debug, Clone, Copy, Default)]
pub struct BlockSum {
    even: [f64; 3],
    from_darker: [f64; 3],
    /// Second and fourth powers of the differences of light, and of how many pixels.
    light: [f64; 2],
    lights: u32,
    pixels: u32,
}

impl BlockSum {
    pub fn add(&mut self, d: Difference) {
        for c in 0..3 {
            self.even[c] += (d.even[c] as f64).powi(2);
            self.from_darker[c] += (d.from_darker[c] as f64).powi(2);
        }
        let square = (d.light as f64).powi(2);
        self.light[0] += square;
        self.light[1] += square * square;
        self.lights += 1;
        self.pixels += 1;
    }

    /// Lets groups of `side` × `side` blocks, of `columns` a row, tell together how rare bright light is: where a frame is rendered larger,
    /// a block has few delivered pixels, and so many blocks cover one block of the delivered frame.
    pub fn pool_light(sums: &mut [BlockSum], columns: usize, side: usize) {
        let group = |k: usize| (k / columns / side, k % columns / side);
        let mut pooled: std::collections::BTreeMap<(usize, usize), ([f64; 2], u32)> = Default::default();
        for (k, s) in sums.iter().enumerate() {
            let (light, lights) = pooled.entry(group(k)).or_default();
            (0..2).for_each(|p| light[p] += s.light[p]);
            *lights += s.lights;
        }
        for (k, s) in sums.iter_mut().enumerate() {
            (s.light, s.lights) = pooled[&group(k)];
        }
    }

    /// G_B, a share of the display range.
    pub fn grain(&self) -> f64 {
        let n = self.pixels.max(1) as f64;
        // Not a number where nothing differs.
        let lights = self.lights.max(1) as f64;
        let kurtosis = of_population(self.light[1] * lights / (self.light[0] * self.light[0]), lights);
        let rare = if kurtosis > EVEN { ((kurtosis / EVEN).ln() / (RARE / EVEN).ln()).min(1.0) } else { 0.0 };
        let of = |c: usize| self.even[c] + rare * (self.from_darker[c] - self.even[c]);
        let worst = (0..3).map(of).fold(0.0, f64::max);
        (worst / n).sqrt()
    }
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
        let differences = a.iter().zip(b).map(|(a, b)| judging.difference(*a, *b));
        BlockMap::from_differences(plate.region, judging.block, differences).of_rendered(plate.region, &plate.samples)
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

    /// From half-differences of a region's pixels, row by row.
    pub fn from_differences(
        r: Region,
        block: u32,
        differences: impl Iterator<Item = impl Into<Difference>>,
    ) -> BlockMap {
        let first = (r.x / block, r.y / block);
        let columns = (r.right() - 1) / block - first.0 + 1;
        let rows = (r.bottom() - 1) / block - first.1 + 1;
        let mut sums = vec![BlockSum::default(); (columns * rows) as usize];
        for (i, difference) in differences.enumerate() {
            let (x, y) = (r.x + i as u32 % r.width, r.y + i as u32 / r.width);
            sums[((y / block - first.1) * columns + (x / block - first.0)) as usize].add(difference.into());
        }
        BlockMap {
            block,
            first,
            columns,
            rows,
            grain: sums.iter().map(BlockSum::grain).collect(),
            pixels: sums.iter().map(|s| s.pixels).collect(),
        }
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

    /// Grain of the block that holds a pixel of the frame.
    pub fn at(&self, x: u32, y: u32) -> f64 {
        self.grain[self.block_at(x, y)]
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

    /// Told over true displayed error of blocks of 64 pixels whose halves have n samples each, drawn by `draw` from two even numbers.
    fn told(n: u32, draw: impl Fn(f64, f64) -> f64, truth: f64) -> f64 {
        let judging = Judging::displayed(View::PLAIN);
        let (mut told, mut error) = (0.0, 0.0);
        let shown = |v: f64| View::PLAIN.display([v as f32; 3])[0] as f64;
        let mut k = 1;
        for _ in 0..400 {
            let mut sum = BlockSum::default();
            for _ in 0..64 {
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
                sum.add(judging.difference([a as f32; 3], [b as f32; 3]));
                error += (shown(0.5 * (a + b)) - shown(truth)).powi(2) / 64.0;
            }
            told += sum.grain().powi(2);
        }
        (told / error).sqrt()
    }

    /// Even noise, and light that one sample in a thousand brings, so bright that the display clips it. By hand for the latter: a
    /// pixel of 32 samples has met it with p = 0.032; its mean is white, its darker half shows D(0.05) = 0.247. So what is told is
    /// 0.753 √p, and the error √((D(0.11) − 0.247)² (1 − p) + (1 − D(0.11))² p): 0.82 of it. Half the difference would tell half of
    /// that.
    #[test]
    fn noise_is_told_as_large_as_it_is() {
        let normal = |u: f64, v: f64| (-2.0 * u.ln()).sqrt() * (std::f64::consts::TAU * v).cos();
        let even = told(16, |u, v| 0.3 + 0.2 * normal(u, v), 0.3);
        assert!((even - 1.0).abs() < 0.06, "{even}");
        let rare = told(16, |u, _| if u < 0.001 { 60.0 } else { 0.05 }, 0.109_95);
        assert!((rare - 0.82).abs() < 0.08, "{rare}");
    }
}
