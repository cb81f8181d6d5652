//! The quick guided denoiser: an edge-avoiding à-trous wavelet (Dammertz, Sewtz, Hanika and Lensch 2010) steered by
//! albedo, normal, depth and by the variance that the two halves show, which is carried through the levels
//! (after Schied et al. 2017). Light is divided by the first hit's albedo before and multiplied after, so that
//! texture is not filtered. O(pixels × 25 × levels).

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
/// Weights below e^−FAINT count as nothing.
const FAINT: f32 = 12.0;
/// Albedo below this is not divided out: dark surfaces would blow up their noise.
const ALBEDO_FLOOR: f32 = 0.04;

/// The first picture steers the weights; others are carried along with the same weights.
#[derive(Clone, Copy)]
struct Pixel<const N: usize> {
    light: [Rgb; N],
    variance: f32,
}

/// The delivered picture: the plate's mean, denoised, `blend` of the way from noisy (0) to denoised (1).
pub fn quick(plate: &Plate, blend: f32) -> Vec<Rgb> {
    let noisy = plate.mean();
    let [done] = filtered(plate, [&noisy], blend);
    done
}

/// Both halves denoised alike, with the weights of their mean: their difference is the grain that is left.
pub fn quick_halves(plate: &Plate, blend: f32) -> (Vec<Rgb>, Vec<Rgb>) {
    let mean = plate.mean();
    let [_, a, b] = filtered(plate, [&mean, &plate.a, &plate.b], blend);
    (a, b)
}

fn filtered<const N: usize>(plate: &Plate, pictures: [&[Rgb]; N], blend: f32) -> [Vec<Rgb>; N] {
    let (w, h) = (plate.region.width as usize, plate.region.height as usize);
    let albedo: Vec<Rgb> = plate.albedo.iter().map(|a| a.map(|c| c.max(ALBEDO_FLOOR))).collect();
    let guides = guides(plate);
    let mut now: Vec<Pixel<N>> = (0..w * h)
        .into_par_iter()
        .map(|i| Pixel {
            light: pictures.map(|p| std::array::from_fn(|c| p[i][c] / albedo[i][c])),
            variance: local_variance(plate, &guides, &albedo, i, w, h),
        })
        .collect();
    let slope = depth_slopes(&plate.depth, w, h);
    for level in 0..LEVELS {
        now = wavelet(&guides, &now, &slope, w, h, 1 << level);
    }
    let blended = |k: usize, i: usize| -> Rgb {
        let noisy = pictures[k][i];
        std::array::from_fn(|c| noisy[c] + blend * (now[i].light[k][c] * albedo[i][c] - noisy[c]))
    };
    std::array::from_fn(|k| (0..w * h).map(|i| blended(k, i)).collect())
}

/// Variance of the demodulated mean's luminance, pooled over 5×5 pixels because one difference has one degree of freedom.
fn local_variance(plate: &Plate, guides: &[Guide], albedo: &[Rgb], i: usize, w: usize, h: usize) -> f32 {
    let (x, y) = (i % w, i / w);
    let (mut sum, mut weights) = (0.0f32, 0.0f32);
    for qy in y.saturating_sub(2)..(y + 3).min(h) {
        for qx in x.saturating_sub(2)..(x + 3).min(w) {
            let q = qy * w + qx;
            let d: Rgb = std::array::from_fn(|c| 0.5 * (plate.a[q][c] - plate.b[q][c]) / albedo[q][c]);
            let far = unlike(&guides[i], &guides[q]);
            if far > FAINT {
                continue;
            }
            let k = (-far).exp();
            sum += k * luminance(d).powi(2);
            weights += k;
        }
    }
    sum / weights.max(1e-6)
}

/// Guides of a pixel, ready to be compared.
#[derive(Clone, Copy)]
struct Guide {
    albedo: Rgb,
    /// Unit length, or zero where nothing was met.
    normal: Rgb,
    depth: f32,
}

fn guides(plate: &Plate) -> Vec<Guide> {
    (0..plate.region.area())
        .into_par_iter()
        .map(|i| {
            let n = plate.normal[i];
            let length = (n[0] * n[0] + n[1] * n[1] + n[2] * n[2]).sqrt();
            let normal = if length > 1e-3 { n.map(|c| c / length) } else { [0.0; 3] };
            Guide { albedo: plate.albedo[i], normal, depth: plate.depth[i] }
        })
        .collect()
}

/// How unlike the guides of two pixels are, without depth: the exponent of their weight. Two pixels that meet nothing have
/// zero normals and are alike; one that does and one that does not are not.
fn unlike(p: &Guide, q: &Guide) -> f32 {
    let square = |a: Rgb, b: Rgb| (a[0] - b[0]).powi(2) + (a[1] - b[1]).powi(2) + (a[2] - b[2]).powi(2);
    // For unit normals half the squared distance is 1 − cosine.
    NORMAL_SHARPNESS * 0.5 * square(p.normal, q.normal)
        + square(p.albedo, q.albedo) / (2.0 * SIGMA_ALBEDO * SIGMA_ALBEDO)
}

/// The smaller of the forward and backward depth differences: how depth changes along the surface itself.
fn depth_slopes(depth: &[f32], w: usize, h: usize) -> Vec<f32> {
    (0..w * h)
        .map(|i| {
            let (x, y) = (i % w, i / w);
            let d = |x: usize, y: usize| depth[y * w + x];
            let along = |lo: f32, hi: f32| (depth[i] - lo).abs().min((hi - depth[i]).abs());
            let sx = along(d(x.saturating_sub(1), y), d((x + 1).min(w - 1), y));
            let sy = along(d(x, y.saturating_sub(1)), d(x, (y + 1).min(h - 1)));
            sx.max(sy)
        })
        .collect()
}

fn wavelet<const N: usize>(
    guides: &[Guide],
    from: &[Pixel<N>],
    slope: &[f32],
    w: usize,
    h: usize,
    step: usize,
) -> Vec<Pixel<N>> {
    const KERNEL: [f32; 5] = [1.0 / 16.0, 1.0 / 4.0, 3.0 / 8.0, 1.0 / 4.0, 1.0 / 16.0];
    (0..w * h)
        .into_par_iter()
        .map(|i| {
            let (x, y) = (i % w, i / w);
            let here = from[i];
            let y0 = luminance(here.light[0]);
            let guide = &guides[i];
            let per_light = 1.0 / (SIGMA_LIGHT * here.variance.sqrt() + 1e-6);
            let per_depth = 1.0 / (step as f32 * slope[i] * 2.0 + SIGMA_DEPTH * guide.depth + 1e-6);
            let (mut light, mut variance, mut total) = ([[0.0f32; 3]; N], 0.0f32, 0.0f32);
            for (ky, kernel_y) in KERNEL.iter().enumerate() {
                let qy = y as isize + (ky as isize - 2) * step as isize;
                if qy < 0 || qy >= h as isize {
                    continue;
                }
                for (kx, kernel_x) in KERNEL.iter().enumerate() {
                    let qx = x as isize + (kx as isize - 2) * step as isize;
                    if qx < 0 || qx >= w as isize {
                        continue;
                    }
                    let q = qy as usize * w + qx as usize;
                    let other = from[q];
                    let k = if q == i {
                        kernel_x * kernel_y
                    } else {
                        let far = unlike(guide, &guides[q])
                            + (guide.depth - guides[q].depth).abs() * per_depth
                            + (luminance(other.light[0]) - y0).abs() * per_light;
                        if far > FAINT {
                            continue;
                        }
                        kernel_x * kernel_y * (-far).exp()
                    };
                    for (sum, l) in light.iter_mut().zip(&other.light) {
                        *sum = std::array::from_fn(|c| sum[c] + k * l[c]);
                    }
                    variance += k * k * other.variance;
                    total += k;
                }
            }
            Pixel { light: light.map(|l| l.map(|c| c / total)), variance: variance / (total * total) }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Region;

    /// A deterministic stand-in for noise: uniform −1…1 from an integer hash.
    fn hash_noise(i: u32) -> f32 {
        let mut x = i.wrapping_mul(0x9E37_79B9) ^ 0x85EB_CA6B;
        x = (x ^ (x >> 16)).wrapping_mul(0x7FEB_352D);
        x = (x ^ (x >> 15)).wrapping_mul(0x846C_A68B);
        (x ^ (x >> 16)) as f32 / u32::MAX as f32 * 2.0 - 1.0
    }

    /// Left half albedo 0.2, right half 0.8, even light 1 with given noise in both halves.
    fn two_fields(noise: f32) -> Plate {
        let (w, h) = (64u32, 48u32);
        let n = (w * h) as usize;
        let albedo: Vec<Rgb> = (0..n).map(|i| [if i as u32 % w < 32 { 0.2 } else { 0.8 }; 3]).collect();
        let half = |salt: u32| -> Vec<Rgb> {
            (0..n).map(|i| albedo[i].map(|a| a * (1.0 + noise * hash_noise(i as u32 * 2 + salt)))).collect()
        };
        Plate {
            frame: (w, h),
            region: Region::whole(w, h),
            a: half(0),
            b: half(1),
            samples: vec![16; n],
            coverage: vec![1.0; n],
            normal: vec![[0.0, 0.0, 1.0]; n],
            depth: vec![2.0; n],
            layers: Vec::new(),
            albedo,
        }
    }

    fn mse(p: &[Rgb], plate: &Plate) -> f64 {
        p.iter().zip(&plate.albedo).map(|(x, r)| (x[1] - r[1]) as f64).map(|d| d * d).sum::<f64>() / p.len() as f64
    }

    #[test]
    fn noise_goes_the_edge_stays_and_a_clean_picture_is_left_alone() {
        let noisy = two_fields(0.3);
        let done = quick(&noisy, 1.0);
        assert!(mse(&done, &noisy) < mse(&noisy.mean(), &noisy) / 20.0);
        let (left, right) = (done[24 * 64 + 31][1], done[24 * 64 + 32][1]);
        assert!((left - 0.2).abs() < 0.02 && (right - 0.8).abs() < 0.08, "{left} {right}");
        assert_eq!(quick(&noisy, 0.0), noisy.mean());
        // Halves denoised alike have the denoised picture as their mean, and little grain is left between them.
        let (a, b) = quick_halves(&noisy, 1.0);
        let left: f64 = a.iter().zip(&b).map(|(a, b)| ((a[1] - b[1]) as f64).powi(2)).sum();
        let had: f64 = noisy.a.iter().zip(&noisy.b).map(|(a, b)| ((a[1] - b[1]) as f64).powi(2)).sum();
        assert!(left > 0.0 && left < had / 20.0, "{left} of {had}");
        assert!(done.iter().zip(a.iter().zip(&b)).all(|(d, (a, b))| (d[1] - 0.5 * (a[1] + b[1])).abs() < 1e-4));

        let clean = two_fields(0.0);
        let half_a_step = 0.5 / 255.0;
        for (x, r) in quick(&clean, 1.0).iter().zip(&clean.albedo) {
            assert!((x[0] - r[0]).abs() < half_a_step);
        }
    }
}
