//! Adaptive rounds: when a block of pixels has had enough samples.
//!
//! Counts per half follow one global ladder, 2^k and 3·2^(k−1), whatever least and most are, so that renders can be
//! continued and reused. A block is settled at a step if its grain is at or below the threshold, and the grain of the
//! step before, scaled to the present count, was too. Stopping on the samples that are kept is biased: a block that
//! happened to miss a rare bright event looks quiet. So the variance per sample of each block has a floor of half the mean
//! of its 32×32 superblock. Nothing outside the superblock matters, which keeps a region equal to its part of the frame.

use serde::{Deserialize, Serialize};

/// Steps of the ladder up to `most`, which is the last one: samples per half.
pub fn ladder(most: u32) -> Vec<u32> {
    let mut steps = Vec::new();
    let mut power = 1u32;
    while power < most {
        steps.push(power);
        let between = power / 2 * 3;
        if power >= 2 && between < most {
            steps.push(between);
        }
        power = power.saturating_mul(2);
    }
    steps.push(most);
    steps
}

/// What is known about one block.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct BlockCount {
    /// Samples per half.
    pub n: u32,
    /// Goes on with the next round.
    pub running: bool,
    /// Grain at or below the threshold.
    pub settled: bool,
    /// Grain now, without the floor; negative before it is known.
    pub grain: f32,
    /// Grain with the floor at the step before, and its count.
    pub before: (f32, u32),
    /// Grain without the floor at half the count (two steps before); negative before it is known.
    pub at_half: f32,
    /// The same one step before, on its way there.
    pub(crate) one_before: f32,
    pub(crate) last: f32,
}

impl BlockCount {
    pub(crate) fn new(running: bool) -> Self {
        BlockCount {
            n: 0,
            running,
            settled: false,
            grain: -1.0,
            before: (f32::INFINITY, 0),
            at_half: -1.0,
            one_before: -1.0,
            last: -1.0,
        }
    }
}

impl BlockCount {
    /// Takes the block up again under limits that may be others than those that stopped it.
    pub(crate) fn reopen(&mut self, least: u32, most: u32, threshold: f64, adaptive: bool) {
        let steps = ladder(self.n.max(1));
        let previous = steps.iter().rev().nth(1).copied().unwrap_or(1);
        let scaled = self.one_before as f64 * (previous as f64 / self.n.max(1) as f64).sqrt();
        self.settled = self.n >= least
            && self.grain >= 0.0
            && self.before.1 == self.n
            && self.before.0 as f64 <= threshold
            && self.one_before >= 0.0
            && scaled <= threshold;
        self.running = self.n < most && !(adaptive && self.settled);
    }
}

/// Variance per sample of each block of a superblock, at least half the mean of all of them; `pixels` weighs the blocks.
/// Blocks without samples count as nothing.
pub fn floored_variances(blocks: &[BlockCount], pixels: &[u32]) -> Vec<f64> {
    let variance = |b: &BlockCount| (b.grain as f64).powi(2) * b.n as f64;
    let total: u32 = pixels.iter().sum();
    let mean = blocks.iter().zip(pixels).map(|(b, p)| variance(b) * *p as f64).sum::<f64>() / total.max(1) as f64;
    blocks.iter().map(|b| variance(b).max(0.5 * mean)).collect()
}

/// Decides for all blocks of a superblock after they have reached `n` samples per half.
pub(crate) fn decide(
    blocks: &mut [BlockCount],
    pixels: &[u32],
    n: u32,
    least: u32,
    most: u32,
    threshold: f64,
    adaptive: bool,
) {
    let variances = floored_variances(blocks, pixels);
    // Blocks that are ahead, in a render that goes on from an earlier one, have their turn later.
    for (b, variance) in blocks.iter_mut().zip(variances).filter(|(b, _)| b.running && b.n == n) {
        let floored = (variance / n as f64).sqrt();
        if n >= least {
            let scaled = b.before.0 as f64 * (b.before.1 as f64 / n as f64).sqrt();
            b.settled = floored <= threshold && scaled <= threshold;
            b.running = n < most && !(adaptive && b.settled);
        }
        b.before = (floored as f32, n);
        (b.at_half, b.one_before, b.last) = (b.one_before, b.last, b.grain);
    }
}

/// How the displayed variance per sample grows with the count, as a natural logarithm per doubling, pooled over blocks that
/// are weighed by their pixels. It is 0 where the error falls with the square root of the count. It is above 0 where halves
/// with few samples are clipped by the display or have not met rare bright light yet: there the grain falls more slowly.
pub fn growth<'a>(blocks: impl Iterator<Item = (&'a BlockCount, u64)>) -> f64 {
    let (mut now, mut half) = (0.0f64, 0.0f64);
    for (b, pixels) in blocks {
        // Both steps must be on the ladder: the last one may not be.
        if b.at_half >= 0.0
            && b.grain >= 0.0
            && (b.n.is_power_of_two() || (b.n % 3 == 0 && (b.n / 3).is_power_of_two()))
        {
            now += (b.grain as f64).powi(2) * pixels as f64;
            half += 0.5 * (b.at_half as f64).powi(2) * pixels as f64;
        }
    }
    if half > 0.0 && now > 0.0 { (now / half).ln().clamp(0.0, 0.7) } else { 0.0 }
}

/// The growth fades by this factor with each doubling; from test renders, which lie between 0.4 and 1.
const FADE: f64 = 0.65;

/// The logarithm by which the variance per sample is expected to have grown between two counts.
fn grown(growth: f64, from: f64, to: f64) -> f64 {
    let octaves = (to / from).log2();
    if octaves <= 0.0 { growth * octaves } else { growth * FADE * (1.0 - FADE.powf(octaves)) / (1.0 - FADE) }
}

/// The grain that is expected at `to` samples where `grain` was measured at `from`.
pub fn grain_at(grain: f64, from: f64, to: f64, growth: f64) -> f64 {
    grain * (from / to * grown(growth, from, to).exp()).sqrt()
}

/// The count per half at which the rule is expected to stop a block whose grain was measured as `grain` at `n` samples per
/// half (with the floor of its superblock): averaged over the scatter of the estimate (about 15 % for 64 pixels), on the
/// actual ladder.
pub fn expected_samples(grain: f64, n: u32, growth: f64, least: u32, most: u32, threshold: f64) -> f64 {
    const SCATTER: f64 = 0.15;
    let (mut alive, mut expected) = (1.0, 0.0);
    for k in ladder(most) {
        if k == most {
            break;
        }
        if k >= least {
            // Both conditions scatter nearly independently about the same expected value.
            let at = grain_at(grain, n as f64, k as f64, growth);
            let pass = normal_below((threshold / at.max(1e-12)).ln() / SCATTER).powi(2);
            expected += alive * pass * k as f64;
            alive *= 1.0 - pass;
        }
    }
    expected + alive * most as f64
}

/// The normal distribution function, by the logistic approximation of Bowling et al. (2009); error below 2·10⁻⁴.
fn normal_below(z: f64) -> f64 {
    1.0 / (1.0 + (-(0.07056 * z.powi(3) + 1.5976 * z)).exp())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_ladder_is_global() {
        assert_eq!(ladder(16), [1, 2, 3, 4, 6, 8, 12, 16]);
        assert_eq!(ladder(13), [1, 2, 3, 4, 6, 8, 12, 13]);
        let long = ladder(4096);
        assert!(ladder(100)[..11].iter().all(|k| long.contains(k)), "only the last step may be off the ladder");
    }

    fn block(grain: f32, n: u32) -> BlockCount {
        BlockCount { n, grain, before: (grain * 1.2, n / 2), ..BlockCount::new(true) }
    }

    #[test]
    fn a_block_settles_only_when_two_steps_agree_and_its_neighbours_are_not_much_worse() {
        let run = |mut b: Vec<BlockCount>| {
            decide(&mut b, &[64, 64], 16, 8, 64, 0.01, true);
            b
        };
        assert!(run(vec![block(0.005, 16), block(0.005, 16)]).iter().all(|b| b.settled && !b.running));
        let mut jumpy = block(0.005, 16);
        jumpy.before = (0.02, 12);
        assert!(!run(vec![jumpy, block(0.005, 16)])[0].settled, "the step before was above");
        let beside_noise = run(vec![block(0.001, 16), block(0.05, 16)]);
        assert!(!beside_noise[0].settled, "the superblock's floor keeps it running");
        let mut at_most = vec![block(0.05, 64), block(0.05, 64)];
        decide(&mut at_most, &[64, 64], 64, 8, 64, 0.01, true);
        assert!(at_most.iter().all(|b| !b.running && !b.settled));
    }

    /// Without scatter the ideal count is n·(G/t)²; the rule stops at or somewhat above it.
    #[test]
    fn expected_count_follows_the_square_law() {
        let e = expected_samples(0.04, 16, 0.0, 8, 4096, 0.01);
        assert!(e > 256.0 && e < 256.0 * 1.6, "{e}");
        assert_eq!(expected_samples(1.0, 16, 0.0, 8, 64, 0.001).round(), 64.0);
        assert_eq!(expected_samples(1e-6, 16, 0.0, 8, 64, 0.01).round(), 8.0);
    }
}
