//! Grain: the visible noise of a picture as a number, from the difference of two independent halves.
//!
//! For the halves a and b of a pixel and a view D, the displayed grain of channel c is |D_c(a) − D_c(b)| / 2,
//! an unbiased estimate (up to a factor) of the standard error of the displayed mean. One pixel's value has one
//! degree of freedom and says little, so blocks are pooled: G_B = max over c of sqrt(mean over B of g²).

use crate::denoise::{CleanUp, clean_halves};
use crate::{Plate, Region, Rgb, View, rendered};
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

    /// Grain is that of the cleaned halves.
    pub fn cleans(&self) -> bool {
        self.measure == Measure::Delivered && self.clean.acts()
    }

    /// Both give the same grain: what neither looks at may differ.
    pub fn alike(&self, other: &Judging) -> bool {
        let relative = |j: &Judging| j.measure == Measure::Relative;
        let clean = |j: &Judging| j.cleans().then_some(j.clean);
        (self.view, self.block) == (other.view, other.block)
            && relative(self) == relative(other)
            && clean(self) == clean(other)
    }

    /// Half the difference of a pixel's halves, by channel. Halves judged as delivered must have been denoised before.
    pub fn difference(&self, a: Rgb, b: Rgb) -> Rgb {
        match self.measure {
            Measure::Displayed | Measure::Delivered => {
                let (a, b) = (self.view.display(a), self.view.display(b));
                std::array::from_fn(|c| 0.5 * (a[c] - b[c]))
            }
            Measure::Relative => {
                let floor = 0.01 * 0.18 * (-self.view.exposure).exp2() as f32;
                std::array::from_fn(|c| 0.5 * (a[c] - b[c]) / (0.5 * (a[c] + b[c]).abs() + floor))
            }
        }
    }
}

/// Sum of squared grain over the pixels of a block.
#[derive(Debug, Clone, Copy, Default)]
pub struct BlockSum {
    squares: [f64; 3],
    pixels: u32,
}

impl BlockSum {
    /// Adds one pixel by [`Judging::difference`].
    pub fn add(&mut self, difference: Rgb) {
        for (sum, g) in self.squares.iter_mut().zip(difference) {
            *sum += (g as f64).powi(2);
        }
        self.pixels += 1;
    }

    /// G_B, a share of the display range.
    pub fn grain(&self) -> f64 {
        let worst = self.squares.iter().copied().fold(0.0, f64::max);
        (worst / self.pixels.max(1) as f64).sqrt()
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
        let (r, block) = (plate.region, judging.block);
        let cleaned = judging.cleans().then(|| clean_halves(plate, &judging.clean));
        let [a, b] = cleaned.as_ref().map_or([&plate.a, &plate.b], |[a, b]| [a, b]);
        BlockMap::from_differences(r, block, (0..r.area()).map(|i| judging.difference(a[i], b[i])))
            .of_rendered(plate.region, &plate.samples)
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
    pub fn from_differences(r: Region, block: u32, differences: impl Iterator<Item = Rgb>) -> BlockMap {
        let first = (r.x / block, r.y / block);
        let columns = (r.right() - 1) / block - first.0 + 1;
        let rows = (r.bottom() - 1) / block - first.1 + 1;
        let mut sums = vec![BlockSum::default(); (columns * rows) as usize];
        for (i, difference) in differences.enumerate() {
            let (x, y) = (r.x + i as u32 % r.width, r.y + i as u32 / r.width);
            sums[((y / block - first.1) * columns + (x / block - first.0)) as usize].add(difference);
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
        let worst = self.grain.iter().copied().fold(0.0, f64::max);
        ((sum / pixels.max(1) as f64).sqrt(), worst)
    }
}
