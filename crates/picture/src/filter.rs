//! Pixel filters, and sampling them.
//!
//! Sources: box, triangle, Gaussian and Lanczos as in any text on reconstruction; Blackman–Harris: Harris (1978), the
//! minimum 4-term window; Mitchell and Netravali (1988) with B = C = 1/3. Samples are placed by the filter itself
//! (Ernst, Stamminger and Greiner, "Filter Importance Sampling", 2006), so that pixels stay independent of each other.

use crate::Rgb;
use serde::Serialize;
use std::f64::consts::PI;
use ts_rs::TS;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Filter {
    Box,
    Triangle,
    Gaussian,
    BlackmanHarris,
    MitchellNetravali,
    Lanczos,
}

impl Filter {
    /// The value at `x`, in units of the filter's own natural radius (see [`Filter::radius`]).
    /// Mitchell–Netravali and Lanczos integrate to 1 as they stand, the others up to a factor.
    pub fn at(self, x: f64) -> f64 {
        let x = x.abs();
        if x > self.radius() {
            return 0.0;
        }
        match self {
            Filter::Box => 1.0,
            Filter::Triangle => 1.0 - x,
            // Standard deviation of a third of the radius, lowered to reach 0 at its end.
            Filter::Gaussian => (-4.5 * x * x).exp() - (-4.5f64).exp(),
            Filter::BlackmanHarris => {
                let t = PI * (x + 1.0);
                0.35875 - 0.48829 * t.cos() + 0.14128 * (2.0 * t).cos() - 0.01168 * (3.0 * t).cos()
            }
            Filter::MitchellNetravali => {
                if x < 1.0 {
                    (7.0 * x * x * x - 12.0 * x * x + 16.0 / 3.0) / 6.0
                } else {
                    (-7.0 / 3.0 * x * x * x + 12.0 * x * x - 20.0 * x + 32.0 / 3.0) / 6.0
                }
            }
            Filter::Lanczos => {
                let sinc = |t: f64| if t == 0.0 { 1.0 } else { (PI * t).sin() / (PI * t) };
                sinc(x) * sinc(x / 3.0)
            }
        }
    }

    /// Parts of the filter are below zero.
    pub fn has_negative_lobes(self) -> bool {
        matches!(self, Filter::MitchellNetravali | Filter::Lanczos)
    }

    /// The natural radius: where the published formula ends.
    pub fn radius(self) -> f64 {
        match self {
            Filter::MitchellNetravali => 2.0,
            Filter::Lanczos => 3.0,
            _ => 1.0,
        }
    }
}

/// Draws offsets from a pixel's centre with the density of a filter's absolute value, by a tabulated inverse of its
/// cumulative distribution; the error of the table (1/4096 of the mass) is far below a pixel. Offsets where the filter is
/// negative are marked: such samples count negatively.
#[derive(Debug, Clone)]
pub struct FilterSampler {
    filter: Filter,
    /// Natural units a pixel.
    scale: f64,
    inverse: Vec<f32>,
}

impl FilterSampler {
    pub fn new(filter: Filter, radius: f64) -> Self {
        const STEPS: usize = 16384;
        const ENTRIES: usize = 4096;
        let mut cumulative = vec![0.0f64; STEPS + 1];
        for i in 0..STEPS {
            let x = (i as f64 + 0.5) / STEPS as f64 * 2.0 - 1.0;
            cumulative[i + 1] = cumulative[i] + filter.at(x * filter.radius()).abs();
        }
        let total = cumulative[STEPS];
        let mut at = 0;
        let inverse = (0..=ENTRIES)
            .map(|k| {
                let want = k as f64 / ENTRIES as f64 * total;
                while at + 1 < STEPS && cumulative[at + 1] < want {
                    at += 1;
                }
                let step = cumulative[at + 1] - cumulative[at];
                let within = if step > 0.0 { ((want - cumulative[at]) / step).clamp(0.0, 1.0) } else { 0.0 };
                (((at as f64 + within) / STEPS as f64 * 2.0 - 1.0) * radius) as f32
            })
            .collect();
        FilterSampler { filter, scale: filter.radius() / radius, inverse }
    }

    /// An offset in pixels for a uniform `u` in 0…1, and whether the filter is negative there.
    pub fn offset(&self, u: f32) -> (f32, bool) {
        let t = u * (self.inverse.len() - 1) as f32;
        let i = (t as usize).min(self.inverse.len() - 2);
        let (lo, hi) = (self.inverse[i], self.inverse[i + 1]);
        let x = lo + (hi - lo) * (t - i as f32);
        (x, self.filter.has_negative_lobes() && self.filter.at(x as f64 * self.scale) < 0.0)
    }
}

/// What a filter of some radius does to a picture.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, TS)]
pub struct Character {
    /// Samples for the same grain, against a filter without negative lobes.
    pub price: f64,
    /// Contrast that is left of stripes so many pixels wide, two, one and a half of one: the last one can only be false.
    pub contrast: [f64; 3],
}

/// Side of a chart, pixels, and samples of it a pixel and direction.
pub const CHART: usize = 96;
const FINE: usize = 8;

/// A star of thin rays and some lines as a filter shows them: linear, row by row.
pub fn chart(filter: Filter, radius: f64) -> Vec<Rgb> {
    let margin = radius.ceil() as usize;
    let side = (CHART + 2 * margin) * FINE;
    let shape = |i: usize| -> f32 {
        let at = |k: usize| (k as f64 + 0.5) / FINE as f64 - margin as f64 - 0.5 * CHART as f64;
        let (x, y) = (at(i % side), at(i / side));
        let ray = (y.atan2(x) * 18.0 / PI).floor().rem_euclid(2.0) < 1.0;
        let inside = x.hypot(y) < 0.36 * CHART as f64;
        let line = (x + 0.22 * y + 0.42 * CHART as f64).abs() < 0.4 || (y + 0.1 * x - 0.43 * CHART as f64).abs() < 0.4;
        if inside && ray || !inside && line { 0.02 } else { 0.8 }
    };
    let reach = (radius * FINE as f64).ceil() as isize;
    let kernel: Vec<f32> =
        (-reach..reach).map(|k| filter.at((k as f64 + 0.5) / FINE as f64 / radius * filter.radius()) as f32).collect();
    let total: f32 = kernel.iter().sum();
    // Along rows, then along columns.
    let centre = |pixel: usize| ((pixel + margin) * FINE + FINE / 2) as isize;
    let rows: Vec<f32> = (0..side * CHART)
        .map(|i| {
            let (x, y) = (centre(i % CHART), i / CHART);
            let sum = |(k, w): (usize, &f32)| w * shape(y * side + (x - reach + k as isize) as usize);
            kernel.iter().enumerate().map(sum).sum::<f32>() / total
        })
        .collect();
    (0..CHART * CHART)
        .map(|i| {
            let (x, y) = (i % CHART, centre(i / CHART));
            let sum = |(k, w): (usize, &f32)| w * rows[(y - reach + k as isize) as usize * CHART + x];
            [kernel.iter().enumerate().map(sum).sum::<f32>() / total; 3]
        })
        .collect()
}

impl Filter {
    /// Character at a radius in pixels.
    ///
    /// Contrast is the filter's Fourier transform at the stripes' frequency. Samples drawn by |f| and weighed by its sign have a
    /// mean of ∫f / ∫|f|, here in both directions, and an error in proportion to its reciprocal: the price is its square.
    pub fn character(self, radius: f64) -> Character {
        const STEPS: usize = 4000;
        let natural = self.radius();
        let (mut sum, mut size, mut waves) = (0.0, 0.0, [0.0; 3]);
        for i in 0..STEPS {
            let x = ((i as f64 + 0.5) / STEPS as f64 * 2.0 - 1.0) * natural;
            let f = self.at(x);
            (sum, size) = (sum + f, size + f.abs());
            let pixels = x * radius / natural;
            for (wave, stripe) in waves.iter_mut().zip([2.0, 1.0, 0.5]) {
                // A wave is two stripes.
                *wave += f * (PI / stripe * pixels).cos();
            }
        }
        Character { price: (size / sum).powi(4), contrast: waves.map(|w: f64| w / sum) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn integral(f: impl Fn(f64) -> f64, radius: f64) -> f64 {
        let n = 200_000;
        (0..n).map(|i| f((i as f64 + 0.5) / n as f64 * 2.0 * radius - radius)).sum::<f64>() * 2.0 * radius / n as f64
    }

    /// Mitchell and Netravali (1988): k(0) = 8/9, k(1) = 1/18, k(1.5) = −5/144, partition of unity.
    #[test]
    fn mitchell_has_its_published_values() {
        let k = |x| Filter::MitchellNetravali.at(x);
        assert!((k(0.0) - 8.0 / 9.0).abs() < 1e-12);
        assert!((k(1.0) - 1.0 / 18.0).abs() < 1e-12);
        assert!((k(1.5) + 5.0 / 144.0).abs() < 1e-12);
        assert!((integral(k, 2.0) - 1.0).abs() < 1e-6);
    }

    /// Lanczos with three lobes integrates to 0.9970 (numerical value, from memory); Harris (1978): the window's mean is a0.
    #[test]
    fn lanczos_and_blackman_harris_integrals() {
        assert!((integral(|x| Filter::Lanczos.at(x), 3.0) - 0.9970).abs() < 2e-4);
        assert!((integral(|x| Filter::BlackmanHarris.at(x), 1.0) - 2.0 * 0.35875).abs() < 1e-6);
        assert!((Filter::BlackmanHarris.at(0.0) - 1.0).abs() < 1e-9);
    }

    /// Drawn offsets must have the filter's own variance: box r²/3, triangle r²/6, the others by integration.
    #[test]
    fn sampling_follows_the_filter() {
        for filter in [Filter::Box, Filter::Triangle, Filter::Gaussian, Filter::BlackmanHarris] {
            let radius = 1.5;
            let sampler = FilterSampler::new(filter, radius);
            let n = 100_000;
            let drawn =
                (0..n).map(|i| (sampler.offset((i as f32 + 0.5) / n as f32).0 as f64).powi(2)).sum::<f64>() / n as f64;
            let mass = integral(|x| filter.at(x), 1.0);
            let expected = integral(|x| x * x * filter.at(x), 1.0) / mass * radius * radius;
            assert!((drawn - expected).abs() < 2e-3 * expected, "{filter:?}: {drawn} against {expected}");
            assert!(sampler.offset(0.0).0 >= -1.5 && sampler.offset(1.0).0 <= 1.5);
        }
        let box_variance = integral(|x| x * x * Filter::Box.at(x), 1.0) / 2.0;
        assert!((box_variance - 1.0 / 3.0).abs() < 1e-9);
    }

    /// Signed draws of filters with negative lobes reproduce the filter's own moments.
    #[test]
    fn signed_sampling_follows_filters_with_negative_lobes() {
        for filter in [Filter::MitchellNetravali, Filter::Lanczos] {
            let sampler = FilterSampler::new(filter, filter.radius());
            let n = 200_000;
            let (mut mass, mut moment) = (0.0, 0.0);
            for i in 0..n {
                let (x, negative) = sampler.offset((i as f32 + 0.5) / n as f32);
                let sign = if negative { -1.0 } else { 1.0 };
                mass += sign;
                moment += sign * (x as f64).cos();
            }
            let expected =
                integral(|x| x.cos() * filter.at(x), filter.radius()) / integral(|x| filter.at(x), filter.radius());
            assert!((moment / mass - expected).abs() < 2e-3, "{filter:?}: {} against {expected}", moment / mass);
        }
    }

    /// Common practice: Mitchell–Netravali costs about 1.3 times and Lanczos about 3.4 times the samples. The transform of a box
    /// of width w is sin(πνw)/(πνw), any text on signals.
    #[test]
    fn prices_and_contrasts_are_known_ones() {
        let price = |f: Filter| f.character(f.radius()).price;
        assert!((price(Filter::MitchellNetravali) - 1.3).abs() < 0.05, "{}", price(Filter::MitchellNetravali));
        assert!((price(Filter::Lanczos) - 3.4).abs() < 0.1, "{}", price(Filter::Lanczos));
        assert_eq!(price(Filter::BlackmanHarris), 1.0);
        let [two, one, half] = Filter::Box.character(0.5).contrast;
        let sinc = |x: f64| (PI * x).sin() / (PI * x);
        assert!((two - sinc(0.25)).abs() < 1e-4 && (one - sinc(0.5)).abs() < 1e-4 && (half - sinc(1.0)).abs() < 1e-4);
        // Sharpening lifts stripes of one pixel, a wide smooth filter drowns them.
        assert!(Filter::Lanczos.character(3.0).contrast[1] > Filter::BlackmanHarris.character(1.5).contrast[1]);
    }
}
