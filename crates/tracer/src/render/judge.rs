//! Grain of a superblock's blocks at the end of a round, and the decision which of them go on.

use super::{Render, SavedCounts, Scope};
use crate::film::{GUIDE_SAMPLES, Pixel, Tile};
use crate::pilot::spread;
use crate::pool::thread_time;
use crate::rounds::{BlockCount, decide, judge_anew, previous};
use picture::Plate;
use picture::denoise::{Method, Split, clean_halves};
use picture::grain::{BlockHalves, Judging};
use picture::reduce::{Weights, resampled};
use rayon::prelude::*;
use std::collections::HashSet;

impl Render {
    /// Whether blocks are judged when they have reached `n` samples per half. The careful denoiser takes as long as several
    /// samples: it is left out where nothing is decided, as under a plan.
    pub(super) fn judges(&self, n: u32) -> bool {
        let s = &self.settings;
        if !s.judging.cleans() || s.judging.clean.denoises() != Some(Method::Careful) || n >= s.limits.most {
            return true;
        }
        if matches!(self.scope, Scope::Plan(_)) {
            return false;
        }
        if s.limits.adaptive { n >= previous(s.limits.least) } else { n.is_power_of_two() }
    }

    /// Judges the blocks of a tile; processor seconds that this took.
    pub(super) fn judge_tile(&self, i: usize, n: u32) -> f64 {
        let began = thread_time();
        let s = &self.settings;
        let mut tile = self.film.tile(i);
        if !tile.blocks.iter().any(|b| b.is_due(n)) {
            return 0.0;
        }
        let grains = self.block_grains(&tile, &s.judging, |b| b.is_due(n));
        for (b, grain) in tile.blocks.iter_mut().zip(grains).filter(|(b, _)| b.is_due(n)) {
            b.grain = grain as f32;
        }
        let pixels = tile.all_block_pixels(s.block);
        decide(&mut tile.blocks, &pixels, n, &s.limits);
        1e-9 * (thread_time() - began) as f64
    }

    /// What the blocks would show under another judging in blocks of the same size, each at the samples that it has; of at most
    /// so many superblocks, spread over the area: the others count as not rendered. Runs in the caller's thread pool.
    pub fn judged_by(&self, judging: &Judging, squares: usize) -> SavedCounts {
        let mut counts = SavedCounts { anew: true, ..self.counts() };
        let has_samples = |i: &usize| counts.tiles[*i].1.iter().any(|b| b.n > 0);
        let chosen: HashSet<usize> = spread(&self.squares()).into_iter().filter(has_samples).take(squares).collect();
        counts.tiles.par_iter_mut().enumerate().for_each(|(i, (spent, blocks))| {
            if !chosen.contains(&i) {
                *spent = 0;
                blocks.fill(BlockCount::new(false));
                return;
            }
            let tile = self.film.tile(i).clone();
            *blocks = self.tile_judged_by(&tile, judging);
        });
        counts
    }

    /// Blocks of a superblock of this render, judged anew.
    pub(super) fn tile_judged_by(&self, tile: &Tile, judging: &Judging) -> Vec<BlockCount> {
        let mut blocks = tile.blocks.clone();
        let grains = self.block_grains(tile, judging, |b| b.n > 0);
        judge_anew(&mut blocks, &tile.all_block_pixels(self.settings.block), |k| grains[k] as f32);
        blocks
    }

    /// Grain of the blocks of a superblock, of those that are asked for at least.
    fn block_grains(&self, tile: &Tile, judging: &Judging, asked: impl Fn(&BlockCount) -> bool) -> Vec<f64> {
        let (s, layout) = (&self.settings, &self.film.layout);
        let tail = tile.tail(layout);
        let mut blocks = vec![BlockHalves::default(); tile.blocks.len()];
        if self.reduction() != (1.0, 1.0) || judging.cleans() {
            return self.grains_delivered(tile, &tail, judging, blocks);
        }
        for (k, b) in tile.blocks.iter().enumerate().filter(|(_, b)| asked(b)) {
            let [x0, x1, y0, y1] = tile.block_range(k, s.block);
            for y in y0..y1 {
                for x in x0..x1 {
                    let i = (y * tile.bounds.width + x) as usize;
                    let half = |h| tile.mean(layout, &tail, i, h, b.n);
                    blocks[k].add(half(0), half(1));
                }
            }
        }
        BlockHalves::grains(&blocks, judging, tile.columns as usize, 1)
    }

    /// Film pixels to a delivered one, along and down. What is rendered smaller is judged as it is.
    fn reduction(&self) -> (f64, f64) {
        let (film, delivered) = (self.settings.frame, self.settings.delivered.0);
        ((film.0 as f64 / delivered.0 as f64).max(1.0), (film.1 as f64 / delivered.1 as f64).max(1.0))
    }

    /// Grain of delivered pixels: both halves are denoised, where grain is judged after that, and reduced, where the render is
    /// oversize. Pixels beyond the superblock are left out, so that nothing outside it matters; at its border that counts up
    /// to a tenth too much.
    fn grains_delivered(
        &self,
        tile: &Tile,
        tail: &[f32; 3],
        judging: &Judging,
        mut blocks: Vec<BlockHalves>,
    ) -> Vec<f64> {
        let s = &self.settings;
        let t = tile.bounds;
        let step = self.reduction();
        // By the same rounding, else a pixel at a border belongs to no superblock or to two.
        let centre = |i: u32, step: f64| ((i as f64 + 0.5) * step) as u32;
        let first = |edge: u32, step: f64| {
            let about = (edge as f64 / step - 0.5).ceil().max(0.0) as u32;
            (about.saturating_sub(1)..).find(|i| centre(*i, step) >= edge).expect("centres grow")
        };
        let (xs, ys) = (first(t.x, step.0)..first(t.right(), step.0), first(t.y, step.1)..first(t.bottom(), step.1));
        // A strip at the frame's edge can be so narrow that no delivered pixel has its centre there.
        if xs.is_empty() || ys.is_empty() {
            return vec![0.0; blocks.len()];
        }
        let mut halves: [Vec<picture::Rgb>; 2] = [0, 1].map(|h| {
            let mean = |i: usize| {
                let (x, y) = (t.x + i as u32 % t.width, t.y + i as u32 / t.width);
                tile.mean(&self.film.layout, tail, i, h, tile.block_of(x, y, s.block).n.max(1))
            };
            (0..t.area()).map(mean).collect::<Vec<picture::Rgb>>()
        });
        if judging.cleans() {
            let split = self.film.layout.split_halves(tile, tail, s.block, &halves);
            halves = clean_halves(&plate(tile, s.block, halves, split), &judging.clean);
        }
        let [a, b] = if step != (1.0, 1.0) {
            let across = Weights::tent(step.0, t.x..t.right(), xs.clone());
            let down = Weights::tent(step.1, t.y..t.bottom(), ys.clone());
            halves.map(|all| resampled(&all, t.width as usize, &across, &down))
        } else {
            halves
        };
        let block = |i: u32, step: f64, from: u32| (centre(i, step) - from) / s.block;
        for (i, (a, b)) in a.iter().zip(&b).enumerate() {
            let (x, y) = (xs.start + i as u32 % xs.len() as u32, ys.start + i as u32 / xs.len() as u32);
            let k = block(y, step.1, t.y) * tile.columns + block(x, step.0, t.x);
            blocks[k as usize].add(*a, *b);
        }
        let side = step.0.max(step.1).ceil() as usize;
        BlockHalves::grains(&blocks, judging, tile.columns as usize, side)
    }
}

/// A superblock by itself, with its guides, for the denoiser.
fn plate(tile: &Tile, block: u32, [a, b]: [Vec<picture::Rgb>; 2], split: Split) -> Plate {
    let t = tile.bounds;
    let guide = |f: fn(&Pixel) -> [f32; 3]| -> Vec<picture::Rgb> {
        let of = |i: usize| {
            let (x, y) = (t.x + i as u32 % t.width, t.y + i as u32 / t.width);
            let n = 2 * tile.block_of(x, y, block).n.clamp(1, GUIDE_SAMPLES);
            f(&tile.pixels[i]).map(|v| v / n as f32)
        };
        (0..t.area()).map(of).collect()
    };
    Plate {
        frame: (t.right(), t.bottom()),
        region: t,
        a,
        b,
        samples: vec![0; t.area()],
        coverage: vec![0.0; t.area()],
        albedo: guide(|p| p.albedo),
        normal: guide(|p| p.normal),
        depth: guide(|p| [p.depth; 3]).iter().map(|d| d[0]).collect(),
        split: Some(split),
        layers: Vec::new(),
    }
}
