//! Grain: the visible noise of a picture as a number, from the difference of two independent halves.
//!
//! For the halves a and b of a pixel and a view D, the displayed grain of channel c is |D_c(a) − D_c(b)| / 2,
//! an unbiased estimate (up to a factor) of the standard error of the displayed mean. One pixel's value has one
//! degree of freedom and says little, so blocks are pooled: G_B = max over c of sqrt(mean over B of g²).

use crate::{Plate, Rgb, View};

/// Sum of squared displayed grain over the pixels of a block.
#[derive(Debug, Clone, Copy, Default)]
pub struct BlockSum {
    squares: [f64; 3],
    pixels: u32,
}

impl BlockSum {
    /// Adds one pixel by its halves' display values.
    pub fn add(&mut self, da: Rgb, db: Rgb) {
        for c in 0..3 {
            let g = 0.5 * (da[c] - db[c]) as f64;
            self.squares[c] += g * g;
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
    /// Pixels of the region in each block.
    pub pixels: Vec<u32>,
}

impl BlockMap {
    pub fn of(plate: &Plate, view: &View, block: u32) -> BlockMap {
        let r = plate.region;
        let first = (r.x / block, r.y / block);
        let columns = (r.right() - 1) / block - first.0 + 1;
        let rows = (r.bottom() - 1) / block - first.1 + 1;
        let mut sums = vec![BlockSum::default(); (columns * rows) as usize];
        for i in 0..r.area() {
            let (x, y) = (r.x + i as u32 % r.width, r.y + i as u32 / r.width);
            let j = (y / block - first.1) * columns + (x / block - first.0);
            sums[j as usize].add(view.display(plate.a[i]), view.display(plate.b[i]));
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

    /// Grain of the block that holds a pixel of the frame.
    pub fn at(&self, x: u32, y: u32) -> f64 {
        self.grain[((y / self.block - self.first.1) * self.columns + (x / self.block - self.first.0)) as usize]
    }

    /// Root mean square over all pixels, and the worst block.
    pub fn summary(&self) -> (f64, f64) {
        let pixels: u64 = self.pixels.iter().map(|p| *p as u64).sum();
        let sum: f64 = self.grain.iter().zip(&self.pixels).map(|(g, p)| g * g * *p as f64).sum();
        let worst = self.grain.iter().copied().fold(0.0, f64::max);
        ((sum / pixels.max(1) as f64).sqrt(), worst)
    }
}
