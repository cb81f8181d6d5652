//! Reducing a picture for thumbnails, with the Mitchell–Netravali filter stretched to the step between new pixels.

use crate::{Rgb, filter::Filter};

/// The picture (width × height, row by row) reduced to `to` pixels; sizes of at least 1.
pub fn reduced(pixels: &[Rgb], (width, height): (usize, usize), to: (usize, usize)) -> Vec<Rgb> {
    let across = lines(pixels, width, height, to.0);
    // The first pass leaves the picture transposed, so the second brings it back.
    lines(&across, height, to.0, to.1)
}

/// Resamples each of `count` rows from `length` to `to` pixels and returns them as columns.
fn lines(pixels: &[Rgb], length: usize, count: usize, to: usize) -> Vec<Rgb> {
    let step = length as f64 / to as f64;
    let stretch = step.max(1.0);
    let mut out = vec![[0.0; 3]; to * count];
    for i in 0..to {
        let centre = (i as f64 + 0.5) * step;
        let first = (centre - 2.0 * stretch).floor().max(0.0) as usize;
        let last = ((centre + 2.0 * stretch).ceil() as usize).min(length);
        let weights: Vec<f32> =
            (first..last).map(|j| Filter::MitchellNetravali.at((j as f64 + 0.5 - centre) / stretch) as f32).collect();
        let total: f32 = weights.iter().sum();
        for row in 0..count {
            let mut sum = [0.0f32; 3];
            for (w, p) in weights.iter().zip(&pixels[row * length + first..row * length + last]) {
                for c in 0..3 {
                    sum[c] += w * p[c];
                }
            }
            out[i * count + row] = sum.map(|s| s / total);
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
}
