//! *Colour only*: non-local means (Buades, Coll and Morel 2005) for pictures without guides, with the level of noise by
//! brightness from a [`Profile`]. Patches are compared on an even scale, light is averaged as it is. Where there are two halves
//! each is weighted by the other one (Rousselle, Knaus and Zwicker 2012), so that energy is kept. O(pixels × window).

use super::profile::{Profile, even};
use super::wide::{fading, wide};
use crate::Rgb;
use rayon::prelude::*;

/// Reach of the window and of a patch, pixels to each side.
const WINDOW: usize = 7;
const PATCH: usize = 2;
/// Rows that are worked on at once.
const BAND: usize = 32;
/// Fall-off beyond the distance that noise explains, in its variances.
const BANDWIDTH: f32 = 0.4;

/// Filters a picture with weights that another one of its size steers, or itself, whose noise is so many times the profile's.
pub(super) fn filtered(picture: &[Rgb], steer: &[Rgb], w: usize, profile: &Profile, times: f32) -> Vec<Rgb> {
    let h = picture.len() / w;
    let tops: Vec<usize> = (0..h).step_by(BAND).collect();
    tops.into_par_iter().flat_map_iter(|top| band(picture, steer, (w, h), top, profile, times)).collect()
}

wide! {
fn band(picture: &[Rgb], steer: &[Rgb], size: (usize, usize), top: usize, profile: &Profile, times: f32) -> Vec<Rgb> {
    let (w, h) = size;
    const MARGIN: usize = WINDOW + PATCH;
    let stride = w + 2 * MARGIN;
    let (rows, high) = (BAND.min(h - top), BAND.min(h - top) + 2 * MARGIN);
    // Borders repeat.
    let place = |x: usize, y: usize| {
        let (x, y) = (x.saturating_sub(MARGIN).min(w - 1), (top + y).saturating_sub(MARGIN).min(h - 1));
        y * w + x
    };
    let planes = |of: &[Rgb], f: fn(f32) -> f32| -> [Vec<f32>; 3] {
        [0, 1, 2].map(|c| (0..high * stride).map(|i| f(of[place(i % stride, i / stride)][c])).collect())
    };
    let seen = planes(steer, even);
    let light = planes(picture, |x| x);
    let variance: Vec<f32> = (0..high * stride)
        .map(|i| {
            let y = 0.2126 * seen[0][i] + 0.7152 * seen[1][i] + 0.0722 * seen[2][i];
            // The level is that of luminance; a channel by itself is noisier by about the root of 1 / Σ weights².
            let level = 1.33 * times * profile.level(y);
            level * level + 1e-12
        })
        .collect();
    let mut sums = [0, 1, 2].map(|_| vec![0.0f32; rows * w]);
    let mut total = vec![0.0f32; rows * w];
    let (wide, patches) = (w + 2 * PATCH, rows + 2 * PATCH);
    let mut distance = vec![0.0f32; patches * wide];
    let mut column = vec![0.0f32; wide];
    let mut weight = vec![0.0f32; w];
    const PER: f32 = 1.0 / (3 * (2 * PATCH + 1) * (2 * PATCH + 1)) as f32;
    for dy in 0..=2 * WINDOW {
        for dx in 0..=2 * WINDOW {
            for y in 0..patches {
                let (p, q) = ((y + WINDOW) * stride + WINDOW, (y + dy) * stride + dx);
                let to = &mut distance[y * wide..][..wide];
                let [r, g, b] = &seen;
                let (rp, rq) = (&r[p..p + wide], &r[q..q + wide]);
                let (gp, gq) = (&g[p..p + wide], &g[q..q + wide]);
                let (bp, bq) = (&b[p..p + wide], &b[q..q + wide]);
                // Noise of both: a bright pixel that takes dark ones to be like it must be like them too, or its light is lost.
                let (vp, vq) = (&variance[p..p + wide], &variance[q..q + wide]);
                for x in 0..wide {
                    let (dr, dg, db) = (rp[x] - rq[x], gp[x] - gq[x], bp[x] - bq[x]);
                    to[x] = (dr * dr + dg * dg + db * db) / (vp[x] + vq[x]);
                }
            }
            for y in 0..rows {
                column.fill(0.0);
                for k in 0..=2 * PATCH {
                    let from = &distance[(y + k) * wide..][..wide];
                    column.iter_mut().zip(from).for_each(|(c, d)| *c += d);
                }
                let here = dx == WINDOW && dy == WINDOW;
                for x in 0..w {
                    let d: f32 = column[x..x + 2 * PATCH + 1].iter().sum::<f32>() * PER;
                    // Noise alone makes a distance of 1.
                    let far = (d - 1.0).max(0.0) * (1.0 / (BANDWIDTH * BANDWIDTH));
                    weight[x] = if here { 1.0 } else { fading(far) };
                }
                let from = (y + dy + PATCH) * stride + dx + PATCH;
                for (sum, light) in sums.iter_mut().zip(&light) {
                    let (sum, light) = (&mut sum[y * w..][..w], &light[from..from + w]);
                    for x in 0..w {
                        sum[x] += weight[x] * light[x];
                    }
                }
                total[y * w..][..w].iter_mut().zip(&weight).for_each(|(t, k)| *t += k);
            }
        }
    }
    (0..rows * w).map(|i| std::array::from_fn(|c| sums[c][i] / total[i])).collect()
}
}
