//! FLIP: how different two display pictures look when one flickers between them (Andersson, Nilsson, Akenine-Möller, Oskarsson,
//! Åström and Fairchild 2020, "FLIP: A Difference Evaluator for Alternating Images", the variant for low dynamic range).
//!
//! Colour: both pictures go to an opponent space, are blurred as the eye does at the given distance, and compared by the HyAB
//! distance in Hunt-adjusted L*a*b*. Features: edges and points of the lightness. The feature difference raises the colour
//! difference. O(pixels × filter radius); all filters are separable sums of Gaussians.

use crate::Rgb;
use rayon::prelude::*;

/// Pixels a degree of the visual field: a 0.7 m wide screen of 3840 pixels seen from 0.7 m, the authors' default.
const PIXELS_A_DEGREE: f64 = 0.7 * 3840.0 / 0.7 * std::f64::consts::PI / 180.0;
const COLOUR_POWER: f64 = 0.7;
const FEATURE_POWER: f64 = 0.5;
/// Share of the largest colour distance that is mapped to `KNEE_TO`.
const KNEE_AT: f64 = 0.4;
const KNEE_TO: f64 = 0.95;
/// Width of the features that the eye looks for, degrees.
const FEATURE_WIDTH: f64 = 0.082;

/// Linear sRGB to XYZ, the authors' fractions.
const TO_XYZ: [[f64; 3]; 3] = [
    [10135552.0 / 24577794.0, 8788810.0 / 24577794.0, 4435075.0 / 24577794.0],
    [2613072.0 / 12288897.0, 8788810.0 / 12288897.0, 887015.0 / 12288897.0],
    [1425312.0 / 73733382.0, 8788810.0 / 73733382.0, 70074185.0 / 73733382.0],
];

type Triple = [f64; 3];

fn times(m: &[[f64; 3]; 3], v: Triple) -> Triple {
    std::array::from_fn(|i| m[i][0] * v[0] + m[i][1] * v[1] + m[i][2] * v[2])
}

/// Inverse of a 3×3 matrix by cofactors.
fn inverse(m: &[[f64; 3]; 3]) -> [[f64; 3]; 3] {
    let c = |i: usize, j: usize| {
        let (a, b) = ((i + 1) % 3, (i + 2) % 3);
        let (p, q) = ((j + 1) % 3, (j + 2) % 3);
        m[a][p] * m[b][q] - m[a][q] * m[b][p]
    };
    let determinant: f64 = (0..3).map(|j| m[0][j] * c(0, j)).sum();
    std::array::from_fn(|i| std::array::from_fn(|j| c(j, i) / determinant))
}

struct Spaces {
    white: Triple,
    from_xyz: [[f64; 3]; 3],
}

impl Spaces {
    fn new() -> Self {
        Spaces { white: times(&TO_XYZ, [1.0; 3]), from_xyz: inverse(&TO_XYZ) }
    }

    fn opponent(&self, linear: Triple) -> Triple {
        let xyz = times(&TO_XYZ, linear);
        let [x, y, z] = std::array::from_fn(|i| xyz[i] / self.white[i]);
        [116.0 * y - 16.0, 500.0 * (x - y), 200.0 * (y - z)]
    }

    fn linear(&self, [l, cx, cz]: Triple) -> Triple {
        let y = (l + 16.0) / 116.0;
        let xyz = [(y + cx / 500.0) * self.white[0], y * self.white[1], (y - cz / 200.0) * self.white[2]];
        times(&self.from_xyz, xyz).map(|v| v.clamp(0.0, 1.0))
    }

    /// L*a*b* with the Hunt effect: colour counts less in the dark.
    fn adjusted_lab(&self, linear: Triple) -> Triple {
        let xyz = times(&TO_XYZ, linear);
        let f: Triple = std::array::from_fn(|i| {
            let t = xyz[i] / self.white[i];
            const D: f64 = 6.0 / 29.0;
            if t > D * D * D { t.cbrt() } else { t / (3.0 * D * D) + 4.0 / 29.0 }
        });
        let lightness = 116.0 * f[1] - 16.0;
        [lightness, 0.01 * lightness * 500.0 * (f[0] - f[1]), 0.01 * lightness * 200.0 * (f[1] - f[2])]
    }
}

fn hyab(a: Triple, b: Triple) -> f64 {
    (a[0] - b[0]).abs() + ((a[1] - b[1]).powi(2) + (a[2] - b[2]).powi(2)).sqrt()
}

/// A plane filtered by one kernel along rows and another along columns; the border is repeated.
fn filtered(plane: &[f64], (w, h): (usize, usize), across: &[f64], down: &[f64]) -> Vec<f64> {
    let r = across.len() / 2;
    let mut rows = vec![0.0; w * h];
    rows.par_chunks_mut(w).zip(plane.par_chunks(w)).for_each(|(to, from)| {
        for (x, v) in to.iter_mut().enumerate() {
            *v = across.iter().enumerate().map(|(k, c)| c * from[(x + k).saturating_sub(r).min(w - 1)]).sum();
        }
    });
    let mut out = vec![0.0; w * h];
    out.par_chunks_mut(w).enumerate().for_each(|(y, to)| {
        for (k, c) in down.iter().enumerate() {
            let from = &rows[(y + k).saturating_sub(r).min(h - 1) * w..][..w];
            to.iter_mut().zip(from).for_each(|(t, f)| *t += c * f);
        }
    });
    out
}

/// Blurs of the contrast sensitivity: (weight, spread) of the Gaussians for lightness, red–green and blue–yellow.
const SENSITIVITY: [&[(f64, f64)]; 3] = [&[(1.0, 0.0047)], &[(1.0, 0.0053)], &[(34.1, 0.04), (13.5, 0.025)]];

fn blurred(plane: &[f64], size: (usize, usize), gaussians: &[(f64, f64)]) -> Vec<f64> {
    use std::f64::consts::PI;
    const WIDEST: f64 = 0.04;
    let radius = (3.0 * (WIDEST / (2.0 * PI * PI)).sqrt() * PIXELS_A_DEGREE).ceil() as i32;
    let kernels: Vec<(f64, Vec<f64>)> = gaussians
        .iter()
        .map(|(a, b)| {
            let at = |i: i32| (-(PI * i as f64 / PIXELS_A_DEGREE).powi(2) / b).exp();
            (a * (PI / b).sqrt(), (-radius..=radius).map(at).collect())
        })
        .collect();
    let total: f64 = kernels.iter().map(|(a, k)| a * k.iter().sum::<f64>().powi(2)).sum();
    let mut out = vec![0.0; plane.len()];
    for (a, k) in &kernels {
        for (o, v) in out.iter_mut().zip(filtered(plane, size, k, k)) {
            *o += a / total * v;
        }
    }
    out
}

/// Strength of edges and of points of a lightness plane.
fn features(plane: &[f64], size: (usize, usize)) -> (Vec<f64>, Vec<f64>) {
    let sd = 0.5 * FEATURE_WIDTH * PIXELS_A_DEGREE;
    let radius = (3.0 * sd).ceil() as i32;
    let gauss: Vec<f64> = (-radius..=radius).map(|i| (-0.5 * (i as f64 / sd).powi(2)).exp()).collect();
    let sum: f64 = gauss.iter().sum();
    let smooth: Vec<f64> = gauss.iter().map(|g| g / sum).collect();
    // Positive and negative weights are brought to a sum of 1 each.
    let signed = |shape: &dyn Fn(f64) -> f64| -> Vec<f64> {
        let raw: Vec<f64> = (-radius..=radius).zip(&gauss).map(|(i, g)| shape(i as f64) * g).collect();
        let plus: f64 = raw.iter().filter(|v| **v > 0.0).sum();
        let minus: f64 = -raw.iter().filter(|v| **v < 0.0).sum::<f64>();
        raw.iter().map(|v| if *v > 0.0 { v / plus } else { v / minus }).collect()
    };
    let strength = |kernel: &[f64]| -> Vec<f64> {
        let x = filtered(plane, size, kernel, &smooth);
        let y = filtered(plane, size, &smooth, kernel);
        x.iter().zip(&y).map(|(x, y)| x.hypot(*y)).collect()
    };
    (strength(&signed(&|x| -x)), strength(&signed(&|x| (x / sd).powi(2) - 1.0)))
}

/// FLIP of every pixel, 0 (alike) to 1; both pictures hold linear values of a display, 0…1.
pub fn flip_map(x: &[Rgb], r: &[Rgb], size: (usize, usize)) -> Vec<f64> {
    let spaces = Spaces::new();
    let opponent = |p: &[Rgb]| -> [Vec<f64>; 3] {
        let all: Vec<Triple> = p.par_iter().map(|c| spaces.opponent(c.map(|v| (v as f64).clamp(0.0, 1.0)))).collect();
        std::array::from_fn(|c| all.iter().map(|t| t[c]).collect())
    };
    let (ox, or) = (opponent(x), opponent(r));
    let seen = |o: &[Vec<f64>; 3]| -> Vec<Triple> {
        let planes: [Vec<f64>; 3] = std::array::from_fn(|c| blurred(&o[c], size, SENSITIVITY[c]));
        (0..x.len())
            .into_par_iter()
            .map(|i| spaces.adjusted_lab(spaces.linear([planes[0][i], planes[1][i], planes[2][i]])))
            .collect()
    };
    let (sx, sr) = (seen(&ox), seen(&or));
    let largest = hyab(spaces.adjusted_lab([0.0, 1.0, 0.0]), spaces.adjusted_lab([0.0, 0.0, 1.0])).powf(COLOUR_POWER);
    let knee = KNEE_AT * largest;
    let lightness = |o: &[Vec<f64>; 3]| -> Vec<f64> { o[0].iter().map(|y| (y + 16.0) / 116.0).collect() };
    let (ex, px) = features(&lightness(&ox), size);
    let (er, pr) = features(&lightness(&or), size);
    (0..x.len())
        .into_par_iter()
        .map(|i| {
            let d = hyab(sx[i], sr[i]).powf(COLOUR_POWER);
            let colour =
                if d < knee { KNEE_TO / knee * d } else { KNEE_TO + (d - knee) / (largest - knee) * (1.0 - KNEE_TO) };
            let feature = (ex[i] - er[i]).abs().max((px[i] - pr[i]).abs()) / std::f64::consts::SQRT_2;
            colour.powf(1.0 - feature.powf(FEATURE_POWER))
        })
        .collect()
}

/// Mean of [`flip_map`].
pub fn flip(x: &[Rgb], r: &[Rgb], size: (usize, usize)) -> f64 {
    flip_map(x, r, size).iter().sum::<f64>() / x.len().max(1) as f64
}
