//! How the displayed grain of a block falls with the count: as measured over the last doubling, pooled; the departure from the
//! square root fades with further doublings.
//!
//! Taking every half as log-normal behind the view was tried and dropped: a block's error is that of few bright pixels among
//! many even ones, and its grain was overestimated several times.

use crate::rounds::{BlockCount, steps};

/// The growth fades by this factor with each doubling; from test renders, which lie between 0.4 and 1.
const FADE: f64 = 0.65;
/// Scatter of a block's estimate of its own grain, as a natural logarithm: about 15 % for 64 pixels, and a third of that where the
/// floor, which the superblock tells, stands for it (over seeds, 720×450: 9 to 20 and 3 to 7 % in *lens cabinet*).
const SCATTER: f64 = 0.15;
const FLOOR_SCATTER: f64 = 0.05;

/// How grain falls in one render.
#[derive(Debug, Clone, Copy)]
pub struct Fall {
    /// Growth of the displayed variance per sample, as a natural logarithm per doubling of the count: 0 where the error falls
    /// with the square root of the count; above 0 where halves of few samples are clipped by the display or rare light has
    /// not been met yet; below 0 where points that are spread better than random ones help.
    pub growth: f64,
    /// What comes to it beyond the samples that are there.
    pub beyond: f64,
}

impl Fall {
    /// From the blocks of a render with their weights: the mean over the blocks, since a few with rare light would otherwise
    /// speak for all.
    pub fn of<'a>(blocks: impl Iterator<Item = (&'a BlockCount, u64)>) -> Fall {
        let (mut sum, mut weights) = (0.0, 0.0);
        for (b, pixels) in blocks {
            // Both steps must be on the ladder: the last one may not be.
            let on = b.n.is_power_of_two() || (b.n % 3 == 0 && (b.n / 3).is_power_of_two());
            if b.at_half > 0.0 && b.grain > 0.0 && on && b.judged() == b.n {
                let ratio = 2.0 * (b.grain as f64 / b.at_half as f64).powi(2);
                sum += pixels as f64 * ratio.ln().clamp(-1.5, 1.5);
                weights += pixels as f64;
            }
        }
        Fall { growth: if weights > 0.0 { (sum / weights).clamp(-0.35, 0.7) } else { 0.0 }, beyond: 0.0 }
    }

    /// The logarithm by which the variance per sample is expected to grow between two counts.
    fn grown(&self, from: f64, to: f64) -> f64 {
        let octaves = (to / from).log2();
        if octaves <= 0.0 {
            self.growth * octaves
        } else {
            (self.growth + self.beyond) * FADE * (1.0 - FADE.powf(octaves)) / (1.0 - FADE)
        }
    }

    /// The grain that is expected at `to` samples where a block showed `grain` at `from`.
    pub fn grain_at(&self, grain: f64, from: f64, to: f64) -> f64 {
        grain * (from / to * self.grown(from, to).exp()).sqrt()
    }

    /// The count per half at which the rule is expected to stop a block that showed `grain`, its own or the floor of its superblock,
    /// at `n` samples per half: averaged over the scatter of the estimate, on the actual ladder.
    pub fn expected_samples(&self, (grain, floored): (f64, bool), n: u32, limits: [u32; 2], threshold: f64) -> f64 {
        let [least, most] = limits;
        let scatter = if floored { FLOOR_SCATTER } else { SCATTER };
        let (mut alive, mut expected) = (1.0, 0.0);
        // Counts that even the least growth leaves four scatters above the threshold are passed over.
        let endless = (self.growth + self.beyond) * FADE / (1.0 - FADE);
        let far = (n as f64 * (grain / threshold).powi(2) * (endless.min(0.0) - 8.0 * scatter).exp()) as u32;
        for k in steps(most) {
            if k == most || alive < 1e-4 {
                break;
            }
            if k >= least && (k <= n || k >= far) {
                // Both conditions scatter nearly independently about the same expected value.
                let at = self.grain_at(grain, n as f64, k as f64);
                let pass = normal_below((threshold / at.max(1e-12)).ln() / scatter).powi(2);
                expected += alive * pass * k as f64;
                alive *= 1.0 - pass;
            }
        }
        expected + alive * most as f64
    }
}

/// The normal distribution function, by the logistic approximation of Bowling et al. (2009); error below 2·10⁻⁴.
fn normal_below(z: f64) -> f64 {
    1.0 / (1.0 + (-(0.07056 * z.powi(3) + 1.5976 * z)).exp())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Without scatter the ideal count is n·(G/t)²; the rule stops at or somewhat above it.
    #[test]
    fn expected_count_follows_the_square_law() {
        let even = Fall { growth: 0.0, beyond: 0.0 };
        let of = |grain, most, threshold| even.expected_samples((grain, false), 16, [8, most], threshold);
        let e = of(0.04, 4096, 0.01);
        assert!(e > 256.0 && e < 256.0 * 1.6, "{e}");
        assert_eq!(of(1.0, 64, 0.001).round(), 64.0);
        assert_eq!(of(1e-6, 64, 0.01).round(), 8.0);
        // The floor scatters less, so fewer steps of the ladder are passed by chance.
        let floored = even.expected_samples((0.04, true), 16, [8, 4096], 0.01);
        assert!(floored >= 256.0 && floored < e, "{floored} {e}");
        // What comes beyond the samples that are there leaves alone what they have shown.
        let slower = Fall { beyond: 0.3, ..even };
        assert!(slower.grain_at(0.04, 16.0, 256.0) > 1.1 * even.grain_at(0.04, 16.0, 256.0));
        assert_eq!(slower.grain_at(0.04, 16.0, 8.0), even.grain_at(0.04, 16.0, 8.0));
    }
}
