//! How the displayed grain of a block falls with the count: as measured over the last doubling, pooled; the departure from the
//! square root fades with further doublings.
//!
//! Taking every half as log-normal behind the view was tried and dropped: a block's error is that of few bright pixels among
//! many even ones, and its grain was overestimated several times.

use crate::rounds::{BlockCount, Variance, ladder};
use std::f64::consts::LN_2;
use std::sync::LazyLock;

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

/// Growth that blocks have shown over their last doubling: the mean over the blocks, since a few with rare light would otherwise
/// speak for all.
#[derive(Debug, Clone, Copy, Default)]
pub struct Growth {
    sum: f64,
    weights: f64,
}

impl Growth {
    pub fn of<'a>(blocks: impl Iterator<Item = (&'a BlockCount, u64)>) -> Growth {
        let mut all = Growth::default();
        for (b, pixels) in blocks {
            // Both steps must be on the ladder: the last one may not be.
            let on = b.n.is_power_of_two() || (b.n % 3 == 0 && (b.n / 3).is_power_of_two());
            if b.at_half > 0.0 && b.grain > 0.0 && on && b.judged() == b.n {
                let ratio = 2.0 * (b.grain as f64 / b.at_half as f64).powi(2);
                all.sum += pixels as f64 * ratio.ln().clamp(-1.5, 1.5);
                all.weights += pixels as f64;
            }
        }
        all
    }

    pub fn with(self, o: Growth) -> Growth {
        Growth { sum: self.sum + o.sum, weights: self.weights + o.weights }
    }

    /// 0 where nothing is known.
    pub fn mean(self) -> f64 {
        if self.weights > 0.0 { (self.sum / self.weights).clamp(-0.35, 0.7) } else { 0.0 }
    }
}

impl Fall {
    /// From the blocks of a render with their weights.
    pub fn of<'a>(blocks: impl Iterator<Item = (&'a BlockCount, u64)>) -> Fall {
        Fall { growth: Growth::of(blocks).mean(), beyond: 0.0 }
    }

    /// The logarithm by which the variance per sample is expected to grow over some doublings; `faded` is [`FADE`] to their power.
    fn grown(&self, octaves: f64, faded: f64) -> f64 {
        if octaves <= 0.0 {
            self.growth * octaves
        } else {
            (self.growth + self.beyond) * FADE * (1.0 - faded) / (1.0 - FADE)
        }
    }

    /// By how much grain is expected to change between two counts.
    pub fn between(&self, from: f64, to: f64) -> f64 {
        let octaves = (to / from).log2();
        (from / to * self.grown(octaves, FADE.powf(octaves)).exp()).sqrt()
    }

    /// The grain that is expected at `to` samples where a block showed `grain` at `from`.
    pub fn grain_at(&self, grain: f64, from: f64, to: f64) -> f64 {
        grain * self.between(from, to)
    }

    /// Where blocks are expected to stop under such limits.
    pub fn stops(self, most: u32, threshold: f64) -> Stops {
        let mut steps: Vec<Step> = ladder(most).into_iter().map(Step::of).collect();
        steps.pop();
        Stops { fall: self, most, threshold: threshold.ln(), steps }
    }
}

/// The counts at which the rule is expected to stop blocks under one threshold and most samples. Forecasts ask for every block of a
/// frame, many times: what does not depend on the block is computed once.
#[derive(Debug, Clone)]
pub struct Stops {
    fall: Fall,
    most: u32,
    /// Its natural logarithm.
    threshold: f64,
    /// Of the ladder before the last one.
    steps: Vec<Step>,
}

#[derive(Debug, Clone, Copy)]
struct Step {
    n: u32,
    octaves: f64,
    /// [`FADE`] to their power.
    faded: f64,
}

impl Step {
    fn of(n: u32) -> Step {
        let octaves = (n as f64).log2();
        Step { n, octaves, faded: FADE.powf(octaves) }
    }
}

impl Stops {
    /// Samples per half at which a block is expected to stop that showed such a variance at `n`, and takes `least` at the least:
    /// averaged over the scatter of the estimate, on the actual ladder.
    pub fn expected(&self, variance: Variance, n: u32, least: u32) -> f64 {
        let scatter = if variance.floored { FLOOR_SCATTER } else { SCATTER };
        let from = match self.steps.binary_search_by_key(&n, |s| s.n) {
            Ok(k) => self.steps[k],
            Err(_) => Step::of(n),
        };
        let shown = variance.each.max(1e-24).ln();
        let (mut alive, mut expected) = (1.0, 0.0);
        // Nobody passes who is expected four scatters above it, nor before the step where that could end if grain fell fastest.
        let fastest = ((self.fall.growth + self.fall.beyond) * FADE / (1.0 - FADE)).min(0.0);
        let may = (shown + fastest - 2.0 * (self.threshold + 4.0 * scatter)) / LN_2;
        let may = if least > n { may } else { f64::NEG_INFINITY };
        for step in &self.steps[self.steps.partition_point(|s| s.n < least || s.octaves < may)..] {
            let grown = self.fall.grown(step.octaves - from.octaves, step.faded / from.faded);
            let below = self.threshold - 0.5 * (shown + grown - step.octaves * LN_2);
            if below < -4.0 * scatter {
                continue;
            }
            // Both conditions scatter nearly independently about the same expected value.
            let pass = normal_below(below / scatter).powi(2);
            expected += alive * pass * step.n as f64;
            alive *= 1.0 - pass;
            if alive < 1e-4 {
                break;
            }
        }
        expected + alive * self.most as f64
    }
}

/// The normal distribution function, by the logistic approximation of Bowling et al. (2009); error below 2·10⁻⁴. Tabulated, since
/// forecasts ask for it millions of times.
fn normal_below(z: f64) -> f64 {
    const STEPS: f64 = 256.0;
    const END: f64 = 5.0;
    static TABLE: LazyLock<Vec<f64>> = LazyLock::new(|| {
        let at = |i: usize| i as f64 / STEPS - END;
        (0..=(2.0 * END * STEPS) as usize + 1)
            .map(|i| 1.0 / (1.0 + (-(0.07056 * at(i).powi(3) + 1.5976 * at(i))).exp()))
            .collect()
    });
    let x = (z.clamp(-END, END) + END) * STEPS;
    let (i, part) = (x as usize, x.fract());
    TABLE[i] + part * (TABLE[i + 1] - TABLE[i])
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(grain: f64, n: u32, floored: bool) -> Variance {
        Variance { each: grain * grain * n as f64, floored }
    }

    /// Without scatter the ideal count is n·(G/t)²; the rule stops at or somewhat above it.
    #[test]
    fn expected_count_follows_the_square_law() {
        let even = Fall { growth: 0.0, beyond: 0.0 };
        let of = |grain, most, threshold| even.stops(most, threshold).expected(shown(grain, 16, false), 16, 8);
        let e = of(0.04, 4096, 0.01);
        assert!(e > 256.0 && e < 256.0 * 1.6, "{e}");
        assert_eq!(of(1.0, 64, 0.001).round(), 64.0);
        assert_eq!(of(1e-6, 64, 0.01).round(), 8.0);
        // The floor scatters less, so fewer steps of the ladder are passed by chance.
        let floored = even.stops(4096, 0.01).expected(shown(0.04, 16, true), 16, 8);
        assert!(floored >= 256.0 && floored < e, "{floored} {e}");
        // What comes beyond the samples that are there leaves alone what they have shown.
        let slower = Fall { beyond: 0.3, ..even };
        assert!(slower.grain_at(0.04, 16.0, 256.0) > 1.1 * even.grain_at(0.04, 16.0, 256.0));
        assert_eq!(slower.grain_at(0.04, 16.0, 8.0), even.grain_at(0.04, 16.0, 8.0));
    }

    /// The expectation against blocks that are drawn and walk up the ladder: each step's estimate scatters by itself about the grain
    /// that is expected there, and two in a row must be at or below the threshold.
    #[test]
    fn expected_count_is_the_mean_of_blocks_that_walk_up_the_ladder() {
        let fall = Fall { growth: 0.25, beyond: 0.1 };
        let (n, least, most) = (12, 16, 1536);
        // A generator of the linear congruential kind (Knuth, TAOCP 2, 3.3.4), and the sum of twelve uniform numbers less six.
        let mut state = 1u64;
        let mut uniform = || {
            state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
            (state >> 11) as f64 / (1u64 << 53) as f64
        };
        for (grain, floored) in [(0.02, false), (0.05, false), (0.05, true), (0.2, false)] {
            let scatter = if floored { FLOOR_SCATTER } else { SCATTER };
            let mut walk = || {
                let mut stop = most;
                for k in ladder(most).into_iter().filter(|k| *k >= least) {
                    let at = fall.grain_at(grain, n as f64, k as f64);
                    let mut below = || at * (scatter * ((0..12).map(|_| uniform()).sum::<f64>() - 6.0)).exp() <= 0.015;
                    if below() & below() {
                        stop = k;
                        break;
                    }
                }
                stop as f64
            };
            let mean = (0..20_000).map(|_| walk()).sum::<f64>() / 20_000.0;
            let told = fall.stops(most, 0.015).expected(shown(grain, n, floored), n, least);
            assert!((told / mean - 1.0).abs() < 0.01, "{grain} {floored}: {told} foretold, {mean} walked");
        }
    }
}
