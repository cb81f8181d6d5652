//! *Quick guided*: an edge-avoiding à-trous wavelet (Dammertz, Sewtz, Hanika and Lensch 2010) steered by albedo, normal,
//! depth and by the noise that the two halves show, which is carried through the levels (after Schied et al. 2017). Each half
//! gets its weights from the other one (Rousselle, Knaus and Zwicker 2012).
//! Light is divided by the guides' albedo before and multiplied after, so that texture is not filtered.
//! O(pixels × 25 × levels), in rows of lanes.

use super::field::{Field, L, lanes};
use super::wide::{fading, wide};
use crate::{Plate, Rgb, luminance};
use rayon::prelude::*;

/// Levels of the wavelet; the footprint reaches 2·(2^LEVELS − 1) pixels to each side.
const LEVELS: u32 = 5;
/// Accepted difference of luminance in standard errors.
const SIGMA_LIGHT: f32 = 3.0;
const SIGMA_ALBEDO: f32 = 0.08;
const SIGMA_DEPTH: f32 = 0.02;
/// Fall-off with 1 − cosine of the angle between normals; about the 48th power of the cosine.
const NORMAL_SHARPNESS: f32 = 48.0;
/// Albedo below this is not divided out: dark surfaces would blow up their noise.
pub(super) const ALBEDO_FLOOR: f32 = 0.04;

/// Planes of the guides: albedo and normal, scaled so that squared distances are exponents, then depth and its slope.
const DEPTH: usize = 6;
const SLOPE: usize = 7;
const GUIDES: usize = 8;

/// Planes of what is filtered: light of both pictures, the standard deviation of their noise, and the luminance of each.
const DEVIATION: usize = 6;
const LEVEL: usize = 7;
const PLANES: usize = 9;

/// Filters two pictures of a plate's region, each with weights from the other one: what a pixel gives to its neighbours must not
/// depend on its own noise, or bright samples are held to be strange and their light is lost. `halves` show the noise.
pub(super) fn filtered(plate: &Plate, halves: [&[Rgb]; 2], pictures: [&[Rgb]; 2]) -> [Vec<Rgb>; 2] {
    let (w, h) = (plate.region.width as usize, plate.region.height as usize);
    let divisor = |i: usize| plate.albedo[i].map(|c| c.max(ALBEDO_FLOOR));
    let guides = guides(plate, w, h);
    let errors = Field::of(w, h, 1, 0.0, |i, out| {
        let by = divisor(i);
        let d: Rgb = std::array::from_fn(|c| (halves[0][i][c] - halves[1][i][c]) / by[c]);
        // Of a half: their difference has twice that.
        out[0] = 0.5 * luminance(d).powi(2);
    });
    let variance = pooled(&guides, &errors);
    let mut now = Field::of(w, h, PLANES, 0.0, |i, out| {
        let by = divisor(i);
        for (k, p) in pictures.iter().enumerate() {
            let light: Rgb = std::array::from_fn(|c| p[i][c] / by[c]);
            out[3 * k..3 * k + 3].copy_from_slice(&light);
            out[LEVEL + k] = luminance(light);
        }
        out[DEVIATION] = variance.get(i % w, i / w, 0).sqrt();
    });
    for level in 0..LEVELS {
        now = wavelet(&guides, &now, 1 << level);
    }
    let light = |k: usize, i: usize| -> Rgb {
        let by = divisor(i);
        std::array::from_fn(|c| now.get(i % w, i / w, 3 * k + c) * by[c])
    };
    std::array::from_fn(|k| (0..w * h).into_par_iter().map(|i| light(k, i)).collect())
}

fn guides(plate: &Plate, w: usize, h: usize) -> Field {
    let (for_albedo, for_normal) = (0.5f32.sqrt() / SIGMA_ALBEDO, (0.5 * NORMAL_SHARPNESS).sqrt());
    let depth = |x: usize, y: usize| plate.depth[y * w + x];
    // Padding is like nothing.
    Field::of(w, h, GUIDES, 1e6, |i, out| {
        let n = plate.normal[i];
        let length = (n[0] * n[0] + n[1] * n[1] + n[2] * n[2]).sqrt();
        let scale = if length > 1e-3 { for_normal / length } else { 0.0 };
        for c in 0..3 {
            out[c] = plate.albedo[i][c] * for_albedo;
            // For unit normals half the squared distance is 1 − cosine.
            out[3 + c] = n[c] * scale;
        }
        out[DEPTH] = plate.depth[i];
        // The smaller of the forward and backward differences: how depth changes along the surface itself.
        let (x, y) = (i % w, i / w);
        let along = |lo: f32, hi: f32| (plate.depth[i] - lo).abs().min((hi - plate.depth[i]).abs());
        let across = along(depth(x.saturating_sub(1), y), depth((x + 1).min(w - 1), y));
        let down = along(depth(x, y.saturating_sub(1)), depth(x, (y + 1).min(h - 1)));
        out[SLOPE] = across.max(down);
    })
}

/// How unlike albedo and normal of two runs of pixels are: the exponents of their weights. Two pixels that meet nothing have
/// zero normals and are alike; one that does and one that does not are not.
#[inline(always)]
fn unlike(guides: &Field, p: [usize; 2], q: [usize; 2]) -> [f32; L] {
    let mut far = [0.0f32; L];
    for c in 0..6 {
        let (a, b) = (lanes(guides.row(p[1], c), p[0]), lanes(guides.row(q[1], c), q[0]));
        for l in 0..L {
            let d = a[l] - b[l];
            far[l] += d * d;
        }
    }
    far
}

/// Squared errors pooled over 5×5 pixels that are alike, because one difference has one degree of freedom.
fn pooled(guides: &Field, errors: &Field) -> Field {
    errors.filtered(1, |x, y, out| out(0, pooled_run(guides, errors, x, y)))
}

wide! {
    fn pooled_run(guides: &Field, errors: &Field, x: usize, y: usize) -> [f32; L] {
        let (mut sum, mut weights) = ([0.0f32; L], [1e-6f32; L]);
        for qy in y.saturating_sub(2)..(y + 3).min(errors.h) {
            for qx in x - 2..x + 3 {
                let far = unlike(guides, [x, y], [qx, qy]);
                let e = lanes(errors.row(qy, 0), qx);
                for l in 0..L {
                    let k = fading(far[l]);
                    sum[l] += k * e[l];
                    weights[l] += k;
                }
            }
        }
        for l in 0..L {
            sum[l] /= weights[l];
        }
        sum
    }
}

fn wavelet(guides: &Field, from: &Field, step: usize) -> Field {
    from.filtered(PLANES, |x, y, out| {
        let done = wavelet_run(guides, from, step, x, y);
        for (k, [r, g, b]) in done.light.iter().enumerate() {
            [r, g, b].into_iter().enumerate().for_each(|(c, v)| out(3 * k + c, *v));
            out(LEVEL + k, std::array::from_fn(|l| luminance([r[l], g[l], b[l]])));
        }
        out(DEVIATION, done.deviation);
    })
}

struct Run {
    light: [[[f32; L]; 3]; 2],
    deviation: [f32; L],
}

wide! {
    fn wavelet_run(guides: &Field, from: &Field, step: usize, x: usize, y: usize) -> Run {
        const KERNEL: [f32; 5] = [1.0 / 16.0, 1.0 / 4.0, 3.0 / 8.0, 1.0 / 4.0, 1.0 / 16.0];
        let own: [&[f32; L]; 6] = std::array::from_fn(|c| lanes(guides.row(y, c), x));
        let depth = lanes(guides.row(y, DEPTH), x);
        let slope = lanes(guides.row(y, SLOPE), x);
        let lit: [&[f32; L]; 2] = std::array::from_fn(|k| lanes(from.row(y, LEVEL + k), x));
        let deviation = lanes(from.row(y, DEVIATION), x);
        let mut per_depth = [0.0f32; L];
        for l in 0..L {
            per_depth[l] = 1.0 / (step as f32 * slope[l] * 2.0 + SIGMA_DEPTH * depth[l] + 1e-6);
        }
        let (mut light, mut errors, mut total) = ([[[0.0f32; L]; 3]; 2], [[0.0f32; L]; 2], [[0.0f32; L]; 2]);
        for (ky, kernel_y) in KERNEL.iter().enumerate() {
            let qy = y as isize + (ky as isize - 2) * step as isize;
            if qy < 0 || qy >= from.h as isize {
                continue;
            }
            for (kx, kernel_x) in KERNEL.iter().enumerate() {
                let there = [x + kx * step - 2 * step, qy as usize];
                let g: [&[f32; L]; 6] = std::array::from_fn(|c| lanes(guides.row(there[1], c), there[0]));
                let d = lanes(guides.row(there[1], DEPTH), there[0]);
                let q: [&[f32; L]; PLANES] = std::array::from_fn(|c| lanes(from.row(there[1], c), there[0]));
                let kernel = kernel_x * kernel_y;
                // One pass over the run: everything that a tap does to a pixel.
                for l in 0..L {
                    let apart = |c: usize| (own[c][l] - g[c][l]) * (own[c][l] - g[c][l]);
                    let surface = apart(0) + apart(1) + apart(2) + apart(3) + apart(4) + apart(5);
                    let far = surface + (depth[l] - d[l]).abs() * per_depth[l];
                    // Noise of both pixels: what one gives away the other takes.
                    let s = q[DEVIATION][l];
                    let per_light = 1.0 / (0.5 * SIGMA_LIGHT * (deviation[l] + s) + 1e-6);
                    for k in 0..2 {
                        let other = LEVEL + 1 - k;
                        let weight = kernel * fading(far + (q[other][l] - lit[1 - k][l]).abs() * per_light);
                        for c in 0..3 {
                            light[k][c][l] += weight * q[3 * k + c][l];
                        }
                        errors[k][l] += (weight * s) * (weight * s);
                        total[k][l] += weight;
                    }
                }
            }
        }
        let mut deviation = [0.0f32; L];
        for l in 0..L {
            let mut variance = 0.0;
            for k in 0..2 {
                // The pixel itself always counts, so the total is never nothing except beyond the borders.
                let by = 1.0 / total[k][l].max(1e-30);
                light[k].iter_mut().for_each(|sum| sum[l] *= by);
                variance += 0.5 * errors[k][l] * by * by;
            }
            deviation[l] = variance.sqrt();
        }
        Run { light, deviation }
    }
}
