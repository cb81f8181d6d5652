//! Between grids: reducing for thumbnails and for the delivery of an oversize render, and enlarging drafts.
//!
//! Thumbnails use the Mitchell–Netravali filter stretched to the step between new pixels. Delivery uses the tent stretched
//! alike: it has no negative lobes, so that light stays positive and the two halves of a film stay honest.

use crate::{Rgb, filter::Filter};
use std::ops::Range;

/// The picture (width × height, row by row) reduced to `to` pixels; sizes of at least 1.
pub fn reduced(pixels: &[Rgb], (width, height): (usize, usize), to: (usize, usize)) -> Vec<Rgb> {
    let axis = |from: usize, to: usize| {
        Weights::new(Filter::MitchellNetravali, from as f64 / to as f64, 0..from as u32, 0..to as u32)
    };
    resampled(pixels, width, &axis(width, to.0), &axis(height, to.1))
}

/// Weights of old pixels in each new one, along one axis.
#[derive(Debug, Clone)]
pub struct Weights(Vec<(usize, Vec<f32>)>);

impl Weights {
    /// The tent filter: `step` old pixels a new one, of the old ones those in `held`, for the new ones in `wanted`. A new
    /// pixel's weights do not depend on which others are wanted, as long as its [`reach`] is held.
    pub fn tent(step: f64, held: Range<u32>, wanted: Range<u32>) -> Weights {
        Weights::new(Filter::Triangle, step, held, wanted)
    }

    fn new(filter: Filter, step: f64, held: Range<u32>, wanted: Range<u32>) -> Weights {
        let stretch = step.max(1.0);
        let all = wanted.map(|i| {
            let centre = (i as f64 + 0.5) * step;
            let reach = filter.radius() * stretch;
            let first = ((centre - reach).floor().max(0.0) as u32).clamp(held.start, held.end - 1);
            let last = ((centre + reach).ceil() as u32).clamp(first + 1, held.end);
            let raw: Vec<f64> = (first..last).map(|j| filter.at((j as f64 + 0.5 - centre) / stretch)).collect();
            let total: f64 = raw.iter().sum();
            let even = 1.0 / raw.len() as f64;
            let weights = raw.iter().map(|w| if total != 0.0 { w / total } else { even } as f32).collect();
            ((first - held.start) as usize, weights)
        });
        Weights(all.collect())
    }

    /// First old pixel and weights of a new one.
    pub fn of(&self, i: usize) -> (usize, &[f32]) {
        (self.0[i].0, &self.0[i].1)
    }

    pub fn len(&self) -> usize {
        self.0.len()
    }

    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// Old pixels that the tent of the new pixels `wanted` needs, inside a grid of `length`.
pub fn reach(step: f64, wanted: Range<u32>, length: u32) -> Range<u32> {
    let stretch = step.max(1.0);
    let first = ((wanted.start as f64 + 0.5) * step - stretch).floor().max(0.0) as u32;
    let last = ((wanted.end as f64 - 0.5) * step + stretch).ceil() as u32;
    first.min(length - 1)..last.min(length)
}

/// By how much the tent lowers the grain of independent pixels when `step` old ones a side become one.
pub fn gain(step: f64) -> f64 {
    if step <= 1.0 {
        return 1.0;
    }
    // The mean over the ways in which the grids can lie.
    let ways = 16u32;
    let weights = Weights::tent(step, 0..(step * 64.0) as u32, 16..16 + ways);
    let squares: f64 = weights.0.iter().map(|(_, w)| w.iter().map(|x| (*x as f64).powi(2)).sum::<f64>()).sum();
    squares / ways as f64
}

/// Numbers that can be weighed and added.
pub trait Weighable: Copy + Default {
    fn add(&mut self, weight: f32, other: Self);
}

impl Weighable for f32 {
    fn add(&mut self, weight: f32, other: f32) {
        *self += weight * other;
    }
}

impl Weighable for Rgb {
    fn add(&mut self, weight: f32, other: Rgb) {
        (0..3).for_each(|c| self[c] += weight * other[c]);
    }
}

/// A picture of rows of `width` pixels on another grid.
pub fn resampled<T: Weighable>(pixels: &[T], width: usize, across: &Weights, down: &Weights) -> Vec<T> {
    let rows = pixels.len() / width.max(1);
    let mut narrow = vec![T::default(); across.len() * rows];
    for (row, to) in pixels.chunks_exact(width).zip(narrow.chunks_exact_mut(across.len())) {
        for (sum, (first, weights)) in to.iter_mut().zip(&across.0) {
            weights.iter().zip(&row[*first..]).for_each(|(w, p)| sum.add(*w, *p));
        }
    }
    let mut out = vec![T::default(); across.len() * down.len()];
    for ((first, weights), to) in down.0.iter().zip(out.chunks_exact_mut(across.len())) {
        for (w, row) in weights.iter().zip(narrow.chunks_exact(across.len()).skip(*first)) {
            to.iter_mut().zip(row).for_each(|(sum, p)| sum.add(*w, *p));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flat_picture_stays_flat_and_a_ramp_keeps_its_direction() {
        let flat = vec![[0.25, 0.5, 1.0]; 37 * 23];
        for p in reduced(&flat, (37, 23), (9, 5)) {
            assert!((p[1] - 0.5).abs() < 1e-5);
        }
        let ramp: Vec<Rgb> = (0..40 * 20).map(|i| [(i % 40) as f32, (i / 40) as f32, 0.0]).collect();
        let small = reduced(&ramp, (40, 20), (10, 5));
        assert!((small[5][0] - 21.5).abs() < 0.5 && (small[20][1] - 9.5).abs() < 0.5);
    }

    /// The tent keeps a ramp's values, gives a region what the whole has there, and lowers white noise as it says.
    #[test]
    fn the_tent_keeps_ramps_and_regions() {
        for step in [1.5, 2.0, 0.5] {
            let whole = Weights::tent(step, 0..96, 0..(96.0 / step) as u32);
            let line: Vec<f32> = (0..96).map(|i| i as f32 + 0.5).collect();
            let out = resampled(&line, 96, &whole, &Weights::tent(1.0, 0..1, 0..1));
            let middle = out.len() / 2;
            assert!((out[middle] - (middle as f32 + 0.5) * step as f32).abs() < 1e-3 * step as f32 + 0.13, "{step}");
            let wanted = 10..20;
            let held = reach(step, wanted.clone(), 96);
            let part = Weights::tent(step, held.clone(), wanted);
            let cut = &line[held.start as usize..held.end as usize];
            assert_eq!(resampled(cut, cut.len(), &part, &Weights::tent(1.0, 0..1, 0..1)), out[10..20]);
        }
        // Two old pixels a side, tent over four: weights 1 3 3 1 of 8, squares 20/64 a side.
        assert!((gain(2.0) - 20.0 / 64.0).abs() < 1e-6 && gain(1.0) == 1.0);
    }
}
