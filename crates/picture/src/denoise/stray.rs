//! Stray pixels: single pixels that one half shows far outside the robust spread of their neighbourhood while the other half,
//! an independent picture of the same place, does not. Detail stands in both halves and is left alone.

use crate::{Plate, Rgb, luminance};
use rayon::prelude::*;
use serde::Serialize;
use ts_rs::TS;

/// What removing stray pixels touches.
#[derive(Debug, Clone, Default, PartialEq, Serialize, TS)]
pub struct Strays {
    /// Places in the region, row by row, and by what factor half A and half B are dimmed there.
    #[serde(skip)]
    pub found: Vec<(usize, [f32; 2])>,
    pub pixels: usize,
    /// Share of the region's light that is taken away.
    pub energy: f64,
}

/// Spreads above the neighbourhood's median at which a pixel is stray, by strength 0…1.
fn limit(strength: f32) -> f32 {
    // From very rare to barely unusual.
    3.0 * (64.0f32 / 3.0).powf(1.0 - strength.clamp(0.0, 1.0))
}

impl Strays {
    pub fn of(plate: &Plate, strength: f32) -> Strays {
        if strength <= 0.0 {
            return Strays::default();
        }
        let halves = [&plate.a, &plate.b];
        let found = found([&plate.a, &plate.b], plate.region.width as usize, limit(strength));
        let light = |half: usize, i: usize| luminance(halves[half][i]) as f64;
        let all: f64 = (0..plate.a.len()).map(|i| light(0, i) + light(1, i)).sum();
        let taken = |(i, by): &(usize, [f32; 2])| (0..2).map(|k| light(k, *i) * (1.0 - by[k]) as f64).sum::<f64>();
        let energy = if all > 0.0 { found.iter().map(taken).sum::<f64>() / all } else { 0.0 };
        Strays { pixels: found.len(), energy, found }
    }

    /// The plate with its stray pixels brought down to the edge of the usual.
    pub fn removed(&self, mut plate: Plate) -> Plate {
        let dim = |halves: [&mut Vec<Rgb>; 2]| {
            for (half, pixels) in halves.into_iter().enumerate() {
                self.found.iter().for_each(|(i, by)| pixels[*i] = pixels[*i].map(|c| c * by[half]));
            }
        };
        dim([&mut plate.a, &mut plate.b]);
        if let Some(split) = &mut plate.split {
            for [a, b] in [&mut split.diffuse, &mut split.specular] {
                dim([a, b]);
            }
        }
        plate
    }
}

/// Places of stray pixels, and by what factors their halves come down to the edge of the usual: so many spreads above the
/// median of their neighbourhood.
pub(super) fn found(halves: [&[Rgb]; 2], w: usize, limit: f32) -> Vec<(usize, [f32; 2])> {
    let h = halves[0].len() / w;
    let light = halves.map(|half| half.iter().map(|c| luminance(*c)).collect::<Vec<f32>>());
    let look = |i: usize| -> Option<(usize, [f32; 2])> {
        // Most pixels are alike in both halves; a stray one is not.
        let (a, b) = (light[0][i], light[1][i]);
        if a.max(b) <= 2.0 * a.min(b) {
            return None;
        }
        let (x, y) = (i % w, i / w);
        let xs = x.saturating_sub(2)..(x + 3).min(w);
        let ys = y.saturating_sub(2)..(y + 3).min(h);
        let bounds = [0, 1].map(|half: usize| {
            let near = ys.clone().flat_map(|qy| xs.clone().map(move |qx| qy * w + qx)).filter(|q| *q != i);
            let mut near: Vec<f32> = near.map(|q| light[half][q]).collect();
            let middle = median(&mut near);
            near.iter_mut().for_each(|v| *v = (*v - middle).abs());
            // 1.4826 × the median distance is a standard deviation where noise is Gaussian.
            middle + limit * (1.4826 * median(&mut near) + 0.02 * middle.abs() + 1e-6)
        });
        let dimmed: [f32; 2] = std::array::from_fn(|half| {
            let own = light[half][i];
            let alone = own > bounds[half] && light[1 - half][i] <= bounds[1 - half];
            if alone { bounds[half] / own } else { 1.0 }
        });
        (dimmed != [1.0; 2]).then_some((i, dimmed))
    };
    (0..w * h).into_par_iter().filter_map(look).collect()
}

fn median(values: &mut [f32]) -> f32 {
    let middle = values.len() / 2;
    *values.select_nth_unstable_by(middle, f32::total_cmp).1
}
