//! Differences between two pictures of one size.
//!
//! RMSE and relative MSE on linear values; PSNR and SSIM on display values. SSIM: Wang, Bovik, Sheikh and Simoncelli
//! (2004): Gaussian window of σ 1.5 cut at 3.5 σ, K1 = 0.01, K2 = 0.03, mean over channels and over the pixels whose
//! window lies inside the picture. FLIP: see [`crate::flip`].

use crate::{Rgb, View, flip::flip, srgb_decode};
use fault::{Code, Fault};
use serde::Serialize;
use ts_rs::TS;

#[derive(Debug, Clone, Copy, PartialEq, Serialize, TS)]
pub struct Metrics {
    /// Root mean square error of the linear values.
    pub rmse: f64,
    /// mean((x − r)² / (r² + 0.01)), linear.
    pub relative_mse: f64,
    /// Decibels on display values 0…1; none for equal pictures, whose PSNR is infinite.
    pub psnr: Option<f64>,
    /// Structural similarity on display values; none if a side is shorter than the window of 11 pixels.
    pub ssim: Option<f64>,
    /// Mean FLIP of the display values, 0 (alike) to 1.
    pub flip: f64,
}

/// Compares `x` with the reference `r`; both of `size`, row by row, linear.
pub fn compare(x: &[Rgb], r: &[Rgb], size: (usize, usize), view: &View) -> Result<Metrics, Fault> {
    if x.len() != r.len() || x.len() != size.0 * size.1 || x.is_empty() {
        return Err(Fault::new(
            Code::Contradiction,
            format!("{} pixels cannot be compared with {}", x.len(), r.len()),
            "pictures",
            "compare pictures of one size",
        ));
    }
    let n = (x.len() * 3) as f64;
    let pairs = || x.iter().flatten().zip(r.iter().flatten()).map(|(a, b)| (*a as f64, *b as f64));
    let mse = pairs().map(|(a, b)| (a - b) * (a - b)).sum::<f64>() / n;
    let relative_mse = pairs().map(|(a, b)| (a - b) * (a - b) / (b * b + 0.01)).sum::<f64>() / n;
    let shown = |p: &[Rgb]| -> Vec<[f64; 3]> { p.iter().map(|c| view.display(*c).map(f64::from)).collect() };
    let (dx, dr) = (shown(x), shown(r));
    let display_mse = dx.iter().flatten().zip(dr.iter().flatten()).map(|(a, b)| (a - b) * (a - b)).sum::<f64>() / n;
    Ok(Metrics {
        rmse: mse.sqrt(),
        relative_mse,
        psnr: (display_mse > 0.0).then(|| -10.0 * display_mse.log10()),
        ssim: ssim(&dx, &dr, size),
        flip: {
            let light = |p: &[Rgb]| -> Vec<Rgb> { p.iter().map(|c| view.display(*c).map(srgb_decode)).collect() };
            flip(&light(x), &light(r), size)
        },
    })
}

const HALF_WINDOW: usize = 5;

fn ssim(x: &[[f64; 3]], y: &[[f64; 3]], (width, height): (usize, usize)) -> Option<f64> {
    if width <= 2 * HALF_WINDOW || height <= 2 * HALF_WINDOW {
        return None;
    }
    let weights: Vec<f64> =
        (0..=2 * HALF_WINDOW).map(|i| (-0.5 * ((i as f64 - HALF_WINDOW as f64) / 1.5).powi(2)).exp()).collect();
    let total: f64 = weights.iter().sum();
    let weights: Vec<f64> = weights.iter().map(|w| w / total).collect();
    let (inner_width, inner_height) = (width - 2 * HALF_WINDOW, height - 2 * HALF_WINDOW);
    // Windowed means where the window lies inside the picture.
    let blur = |f: &dyn Fn(usize) -> f64| -> Vec<f64> {
        let mut across = vec![0.0; inner_width * height];
        for row in 0..height {
            for i in 0..inner_width {
                across[row * inner_width + i] =
                    weights.iter().enumerate().map(|(k, w)| w * f(row * width + i + k)).sum();
            }
        }
        (0..inner_width * inner_height)
            .map(|i| weights.iter().enumerate().map(|(k, w)| w * across[i + k * inner_width]).sum())
            .collect()
    };
    let (c1, c2) = (0.01f64.powi(2), 0.03f64.powi(2));
    let mut sum = 0.0;
    for c in 0..3 {
        let mx = blur(&|i| x[i][c]);
        let my = blur(&|i| y[i][c]);
        let xx = blur(&|i| x[i][c] * x[i][c]);
        let yy = blur(&|i| y[i][c] * y[i][c]);
        let xy = blur(&|i| x[i][c] * y[i][c]);
        for i in 0..mx.len() {
            let (a, b) = (mx[i], my[i]);
            let (va, vb, vab) = (xx[i] - a * a, yy[i] - b * b, xy[i] - a * b);
            sum += (2.0 * a * b + c1) * (2.0 * vab + c2) / ((a * a + b * b + c1) * (va + vb + c2));
        }
    }
    Some(sum / (3 * inner_width * inner_height) as f64)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A ramp with hashed noise, the same as the script that made the frozen values.
    fn field(salt: u64) -> Vec<Rgb> {
        let noise = |i: u64| {
            let mut x = (i * 2_654_435_761 + salt * 40_503) & 0xffff_ffff;
            x ^= x >> 15;
            x = (x * 2_246_822_519) & 0xffff_ffff;
            x ^= x >> 13;
            (x & 0xffff) as f64 / 65536.0
        };
        (0..24 * 32u64)
            .map(|p| {
                let ramp = (p % 32) as f64 / 32.0;
                [0, 1, 2].map(|c| (0.2 + 0.6 * ramp + 0.2 * (noise(3 * p + c) - 0.5)) as f32)
            })
            .collect()
    }

    /// Frozen from scikit-image 0.26.0 on the same arrays: `peak_signal_noise_ratio(data_range=1)` and
    /// `structural_similarity(data_range=1, gaussian_weights=True, sigma=1.5, use_sample_covariance=False)` on display
    /// values; RMSE and relative MSE by NumPy on linear ones.
    #[test]
    fn agrees_with_scikit_image() {
        let m = compare(&field(1), &field(2), (32, 24), &View::PLAIN).unwrap();
        assert!((m.rmse - 0.079_174_699).abs() < 1e-7, "{m:?}");
        assert!((m.relative_mse - 0.041_798_834).abs() < 1e-6, "{m:?}");
        assert!((m.psnr.unwrap() - 24.636_516).abs() < 1e-3, "{m:?}");
        assert!((m.ssim.unwrap() - 0.362_694_968).abs() < 1e-5, "{m:?}");
        let same = compare(&field(1), &field(1), (32, 24), &View::PLAIN).unwrap();
        assert_eq!((same.rmse, same.psnr), (0.0, None));
        assert!((same.ssim.unwrap() - 1.0).abs() < 1e-12);
        assert!(compare(&field(1), &field(2), (31, 24), &View::PLAIN).is_err());
    }

    /// Frozen from the authors' reference package, flip-evaluator 1.7 (`evaluate(…, "LDR")` at its default distance), on the
    /// same arrays; the package computes in single precision.
    #[test]
    fn agrees_with_the_authors_flip() {
        let noisy = compare(&field(1), &field(2), (32, 24), &View::PLAIN).unwrap();
        assert!((noisy.flip - 0.131_162_986).abs() < 2e-5, "{noisy:?}");
        let edge = |at: usize| -> Vec<Rgb> {
            (0..24 * 32).map(|i| if i % 32 < at { [0.05, 0.1, 0.3] } else { [0.8, 0.5, 0.1] }).collect()
        };
        let map = crate::flip::flip_map(&edge(19), &edge(16), (32, 24));
        let mean = map.iter().sum::<f64>() / map.len() as f64;
        assert!((mean - 0.255_292_922).abs() < 2e-5, "{mean}");
        for (x, expected) in [(15, 0.797_467), (17, 0.947_047), (25, 0.104_820)] {
            assert!((map[12 * 32 + x] - expected).abs() < 1e-4, "{x}: {}", map[12 * 32 + x]);
        }
        assert_eq!(compare(&field(1), &field(1), (32, 24), &View::PLAIN).unwrap().flip, 0.0);
    }
}
