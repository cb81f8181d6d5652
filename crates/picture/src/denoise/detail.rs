//! Detail lost: where a denoiser took away more than noise.
//!
//! With halves a and b of a pixel and the same halves denoised alike, what was taken away is x = (a − a′)·s and
//! y = (b − b′)·s, where s is the slope of the display at the denoised mean: on the display itself noise would move the mean of
//! a bent curve, and that is no detail. Noise of the halves is independent, so the mean of x·y is the squared detail that was
//! removed. Against chance stands the ratio of the mean of ((x + y)/2)² to that of ((x − y)/2)², which for noise alone
//! follows F(64, 64) over the 64 pixels of a block: one in a thousand exceeds 2.20.

use crate::grain::BlockMap;
use crate::{Region, Rgb, View, luminance};
use rayon::prelude::*;

/// Side of a block.
pub const BLOCK: u32 = 8;
/// 99.9 % point of F(64, 64).
const CHANCE: f64 = 2.20;

/// Detail lost by block of the frame's grid.
#[derive(Debug, Clone)]
pub struct DetailMap {
    /// Root of the mean squared detail, share of the display range; 0 where chance may explain it.
    pub lost: BlockMap,
    /// Root mean square of the noise of the mean of both halves, block by block.
    pub noise: Vec<f64>,
}

impl DetailMap {
    /// Of halves and denoised halves of a region.
    pub fn of(r: Region, view: &View, halves: [&[Rgb]; 2], denoised: [&[Rgb]; 2]) -> DetailMap {
        let slopes: Vec<f64> = (0..r.area())
            .into_par_iter()
            .map(|i| {
                let m = 0.5 * (luminance(denoised[0][i]) + luminance(denoised[1][i])).max(0.0);
                let h = 0.01 * m + 1e-5;
                let shown = |y: f32| view.display([y; 3])[0];
                ((shown(m + h) - shown((m - h).max(0.0))) / (m + h - (m - h).max(0.0))) as f64
            })
            .collect();
        let light = |of: &[Rgb], i: usize| slopes[i] * luminance(of[i]) as f64;
        let taken = |i: usize, k: usize| light(halves[k], i) - light(denoised[k], i);
        let squares =
            |of: &dyn Fn(usize) -> f64| BlockMap::from_differences(r, BLOCK, (0..r.area()).map(|i| [of(i) as f32; 3]));
        let ((common, apart), noise) = rayon::join(
            || {
                rayon::join(
                    || squares(&|i| 0.5 * (taken(i, 0) + taken(i, 1))),
                    || squares(&|i| 0.5 * (taken(i, 0) - taken(i, 1))),
                )
            },
            || squares(&|i| 0.5 * (light(halves[0], i) - light(halves[1], i))).grain,
        );
        let lost = common.grain.iter().zip(&apart.grain).map(|(c, a)| {
            let (c, a) = (c * c, a * a);
            if c > CHANCE * a { (c - a).sqrt() } else { 0.0 }
        });
        DetailMap { lost: BlockMap { grain: lost.collect(), ..common }, noise }
    }
}
