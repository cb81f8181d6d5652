//! Adaptive rounds: when a block of pixels has had enough samples.
//!
//! Counts per half follow one global ladder, 2^k and 3·2^(k−1), whatever least and most are, so that renders can be
//! continued and reused. A block is settled at a step if its grain is at or below the threshold, and the grain of the
//! step before, scaled to the present count, was too. Stopping on the samples that are kept is biased: a block that
//! happened to miss a rare bright event looks quiet. So the variance per sample of each block has a floor, most of the mean
//! of its 32×32 superblock. Nothing outside the superblock matters, which keeps a region equal to its part of the frame.

use crate::description::Limits;
use serde::{Deserialize, Serialize};

/// Share of the mean variance of its superblock that a block has at the least. Higher ones lose less light and cost more samples
/// beside noisy neighbours; at half the mean a scene of glass lost 0.3 % of its light.
const FLOOR: f64 = 0.9;

/// Steps of the ladder up to `most`, which is the last one: samples per half.
pub fn ladder(most: u32) -> Vec<u32> {
    let pairs =
        (0..u32::BITS).map(|k| 1u32 << k).flat_map(|power| [Some(power), (power >= 2).then_some(power / 2 * 3)]);
    pairs.flatten().take_while(|n| *n < most).chain([most]).collect()
}

/// The step of the ladder before `n`; at least 1.
pub fn previous(n: u32) -> u32 {
    let power = 1 << n.max(1).ilog2();
    [power / 2 * 3, power, power / 4 * 3, power / 2].into_iter().find(|k| (1..n).contains(k)).unwrap_or(1)
}

/// What is known about one block.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct BlockCount {
    /// Samples per half.
    pub n: u32,
    /// Processor time that it has taken, nanoseconds.
    #[serde(default)]
    pub spent: u64,
    /// Goes on with the next round.
    pub running: bool,
    /// Grain at or below the threshold.
    pub settled: bool,
    /// Grain now, without the floor; negative before it is known.
    pub grain: f32,
    /// Grain with the floor when it was judged last, and the count then; the count is 0 before that.
    pub before: (f32, u32),
    /// The grain with the floor of the judgement before that, scaled to the same count; negative before there were two.
    #[serde(default = "unknown")]
    pub(crate) scaled: f32,
    /// Grain without the floor at half the count (two steps before); negative before it is known.
    pub at_half: f32,
    /// The same one step before, on its way there.
    pub(crate) one_before: f32,
    pub(crate) last: f32,
    /// Grain without the floor at each of [`LOOKS`]; negative where it has not been.
    #[serde(default = "nowhere")]
    pub looks: [f32; LOOKS.len()],
    /// Thresholds at which it would have settled at the last steps of the ladder, the last one first; see [`level_of`]. 0 where it
    /// was not judged.
    #[serde(default)]
    levels: [u16; WALK],
}

/// Steps of the ladder that a block remembers: 64 times the count.
const WALK: usize = 12;

/// A threshold in parts of an octave.
pub fn level(threshold: f64) -> f64 {
    4096.0 * (threshold.log2() + 14.0)
}

/// The same rounded to 0.02 %, as blocks remember it; 0 is none.
fn level_of(threshold: f64) -> u16 {
    level(threshold).round().clamp(1.0, u16::MAX as f64) as u16
}

/// What a block's own way up the ladder tells of its end under another threshold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OnTheWay {
    /// It remembers no step.
    Unknown,
    Ended(u32),
    /// It would have gone further than it has.
    Further,
}

/// Steps of the ladder, in samples per half, whose grain is remembered: what blocks say of themselves there is compared with what
/// they turned out to be.
pub const LOOKS: [u32; 2] = [8, 32];

fn unknown() -> f32 {
    -1.0
}

fn nowhere() -> [f32; LOOKS.len()] {
    [unknown(); LOOKS.len()]
}

impl BlockCount {
    pub(crate) fn new(running: bool) -> Self {
        BlockCount {
            n: 0,
            spent: 0,
            running,
            settled: false,
            grain: -1.0,
            before: (-1.0, 0),
            scaled: unknown(),
            at_half: -1.0,
            one_before: -1.0,
            last: -1.0,
            looks: nowhere(),
            levels: [0; WALK],
        }
    }
}

impl BlockCount {
    /// Processor seconds of a sample, in a block of so many pixels; none where it was not measured.
    pub fn each(&self, pixels: f64) -> Option<f64> {
        (self.spent > 0 && self.n > 0).then(|| self.spent as f64 * 1e-9 / (2.0 * self.n as f64 * pixels))
    }

    /// Samples per half when the grain was judged last: sampling may have been interrupted since.
    pub fn judged(&self) -> u32 {
        if self.before.1 > 0 { self.before.1 } else { self.n }
    }

    /// Grain at the present count, from when it was judged last: noise falls with the root of the count. None before that.
    pub(crate) fn grain_now(&self) -> Option<f64> {
        (self.n > 0 && self.grain >= 0.0).then(|| self.grain as f64 * (self.judged() as f64 / self.n as f64).sqrt())
    }

    /// Where it would have ended on its way under a threshold of that level ([`level`]) and so many samples at the least, as far as it
    /// remembers: at the first of the steps at which it was judged that lets it settle.
    pub fn on_the_way(&self, least: u32, level: f64) -> OnTheWay {
        let (mut n, mut out) = (self.judged(), OnTheWay::Unknown);
        for known in self.levels {
            if known > 0 {
                if n >= least && known as f64 <= level {
                    out = OnTheWay::Ended(n);
                } else if out == OnTheWay::Unknown {
                    out = OnTheWay::Further;
                }
            }
            n = previous(n);
        }
        out
    }

    /// It is to be judged at the step `n`: it may have been judged there before, in a render that goes on from an earlier one.
    pub(crate) fn is_due(&self, n: u32) -> bool {
        self.running && self.n == n && self.before.1 != n
    }

    /// Shows `grain`, with the floor of its superblock `floored`, at its count by another judging. How grain fell on the way there
    /// is taken to have been the same.
    fn judged_anew(&mut self, grain: f32, floored: f32) {
        let ratio = |new: f32, old: f32| if old > 0.0 { new / old } else { 0.0 };
        let by = ratio(grain, self.grain);
        let (known, scaled) = match self.judged() == self.n {
            true => (by, ratio(floored, self.before.0)),
            false => (0.0, 0.0),
        };
        let looks = self.looks.iter_mut().map(|v| (v, by));
        for (v, by) in looks.chain([(&mut self.at_half, known), (&mut self.scaled, scaled)]) {
            *v = if *v > 0.0 && by > 0.0 { *v * by } else { unknown() };
        }
        (self.grain, self.before, self.settled) = (grain, (floored, self.n), false);
        (self.one_before, self.last) = (unknown(), unknown());
        self.levels = [0; WALK];
    }

    /// Takes the block up again under limits that may be others than those that stopped it.
    pub(crate) fn reopen(&mut self, limits: &Limits) {
        let Limits { adaptive, least, most, threshold } = *limits;
        self.settled = self.n >= least
            && self.before.1 == self.n
            && self.before.0 as f64 <= threshold
            && (0.0..=threshold).contains(&(self.scaled as f64));
        self.running = self.n < most && !(adaptive && self.settled);
    }
}

/// Displayed variance per sample of a block.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Variance {
    pub each: f64,
    /// It is the floor, which the whole superblock tells.
    pub floored: bool,
}

impl Variance {
    /// The grain of so many samples per half.
    pub fn grain(&self, n: u32) -> f64 {
        (self.each / n as f64).sqrt()
    }

    /// So many times as much.
    pub fn times(self, by: f64) -> Variance {
        Variance { each: self.each * by, ..self }
    }
}

/// A block that has samples, as those read it who foretell its end.
#[derive(Debug, Clone, Copy)]
pub struct Shown<'a> {
    /// Its place in the superblock.
    pub k: usize,
    pub block: &'a BlockCount,
    pub pixels: f64,
    pub variance: Variance,
    /// Processor seconds of a sample; the mean of the superblock where its own were not measured.
    pub each: f64,
}

/// The blocks of a superblock that have samples; `spent` nanoseconds went into all of them.
pub fn shown<'a>(spent: u64, blocks: &'a [BlockCount], pixels: &'a [u32]) -> impl Iterator<Item = Shown<'a>> {
    let taken: f64 = blocks.iter().zip(pixels).map(|(b, p)| 2.0 * b.n as f64 * *p as f64).sum();
    let mean = spent as f64 * 1e-9 / taken.max(1.0);
    let own = blocks.iter().map(|b| (b.grain as f64).powi(2) * b.judged() as f64).collect();
    let all = blocks.iter().zip(pixels).zip(floored(own, pixels)).enumerate();
    all.filter(|(_, ((b, _), _))| b.n > 0 && b.grain >= 0.0).map(move |(k, ((block, pixels), variance))| {
        let pixels = *pixels as f64;
        Shown { k, block, pixels, variance, each: block.each(pixels).unwrap_or(mean) }
    })
}

/// Variance per sample of each block as the blocks looked at a step of [`LOOKS`]; what had settled before stood as it does now.
/// None if one of them has not got so far.
pub fn variances_at(look: usize, blocks: &[BlockCount], pixels: &[u32]) -> Option<Vec<Variance>> {
    let then = |b: &BlockCount| match b.looks[look] {
        grain if grain >= 0.0 => Some((grain as f64).powi(2) * LOOKS[look] as f64),
        _ => (b.settled && b.n < LOOKS[look]).then(|| (b.grain as f64).powi(2) * b.judged() as f64),
    };
    Some(floored(blocks.iter().map(then).collect::<Option<_>>()?, pixels))
}

/// Each at least [`FLOOR`] of the mean of all of them; `pixels` weighs the blocks. Blocks without samples count as nothing.
fn floored(own: Vec<f64>, pixels: &[u32]) -> Vec<Variance> {
    let total: u32 = pixels.iter().sum();
    let mean = own.iter().zip(pixels).map(|(v, p)| v * *p as f64).sum::<f64>() / total.max(1) as f64;
    own.into_iter().map(|v| Variance { each: v.max(FLOOR * mean), floored: v < FLOOR * mean }).collect()
}

/// Judges all blocks of a superblock that have samples anew, each at its count, from their grain by another judging.
pub(crate) fn judge_anew(blocks: &mut [BlockCount], pixels: &[u32], grain: impl Fn(usize) -> f32) {
    // Blocks without samples count as nothing.
    let of = |(k, b): (usize, &BlockCount)| if b.n > 0 { (grain(k) as f64).powi(2) * b.n as f64 } else { 0.0 };
    let variances = floored(blocks.iter().enumerate().map(of).collect(), pixels);
    for ((k, b), variance) in blocks.iter_mut().enumerate().zip(variances).filter(|((_, b), _)| b.n > 0) {
        b.judged_anew(grain(k), variance.grain(b.n) as f32);
    }
}

/// Decides for all blocks of a superblock after they have reached `n` samples per half.
pub(crate) fn decide(blocks: &mut [BlockCount], pixels: &[u32], n: u32, limits: &Limits) {
    let Limits { adaptive, least, most, threshold } = *limits;
    // Grain has just been judged where blocks are at `n`.
    let count = |b: &BlockCount| if b.is_due(n) { n } else { b.judged() };
    let variances = floored(blocks.iter().map(|b| (b.grain as f64).powi(2) * count(b) as f64).collect(), pixels);
    // Blocks that are ahead, in a render that goes on from an earlier one, have their turn later.
    for (b, variance) in blocks.iter_mut().zip(variances).filter(|(b, _)| b.is_due(n)) {
        let floored = variance.grain(n);
        if b.before.1 > 0 {
            b.scaled = (b.before.0 as f64 * (b.before.1 as f64 / n as f64).sqrt()) as f32;
        }
        if n >= least {
            b.settled = floored as f32 as f64 <= threshold && (0.0..=threshold).contains(&(b.scaled as f64));
            b.running = n < most && !(adaptive && b.settled);
        }
        if let Some(look) = LOOKS.iter().position(|step| *step == n) {
            b.looks[look] = b.grain;
        }
        let steps = ladder(n).len() - ladder(b.before.1.max(1)).len();
        b.levels.rotate_right(steps.min(WALK));
        b.levels[..steps.min(WALK)].fill(0);
        b.levels[0] = if b.scaled >= 0.0 { level_of(floored.max(b.scaled as f64)) } else { u16::MAX };
        (b.at_half, b.one_before) = match b.before.1 {
            // Steps between the powers of two may be left out, and the first ones.
            half if 2 * half == n && n > 2 => (b.last, -1.0),
            step if step == previous(n) => (b.one_before, b.last),
            _ => (-1.0, -1.0),
        };
        (b.before, b.last) = ((floored as f32, n), b.grain);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn limits(threshold: f64) -> Limits {
        Limits { adaptive: true, least: 8, most: 64, threshold }
    }

    #[test]
    fn the_ladder_is_global() {
        assert_eq!(ladder(16), [1, 2, 3, 4, 6, 8, 12, 16]);
        assert_eq!(ladder(13), [1, 2, 3, 4, 6, 8, 12, 13]);
        let long = ladder(4096);
        assert!(ladder(100)[..11].iter().all(|k| long.contains(k)), "only the last step may be off the ladder");
        assert!(long.windows(2).all(|w| previous(w[1]) == w[0]) && previous(1) == 1 && previous(100) == 96);
    }

    fn block(grain: f32, n: u32) -> BlockCount {
        BlockCount { n, grain, before: (grain * 1.2, n / 2), ..BlockCount::new(true) }
    }

    #[test]
    fn a_block_settles_only_when_two_steps_agree_and_its_neighbours_are_not_much_worse() {
        let run = |mut b: Vec<BlockCount>| {
            decide(&mut b, &[64, 64], 16, &limits(0.01));
            b
        };
        assert!(run(vec![block(0.005, 16), block(0.005, 16)]).iter().all(|b| b.settled && !b.running));
        let mut jumpy = block(0.005, 16);
        jumpy.before = (0.02, 12);
        assert!(!run(vec![jumpy, block(0.005, 16)])[0].settled, "the step before was above");
        let beside_noise = run(vec![block(0.001, 16), block(0.05, 16)]);
        assert!(!beside_noise[0].settled, "the superblock's floor keeps it running");
        let mut at_most = vec![block(0.05, 64), block(0.05, 64)];
        decide(&mut at_most, &[64, 64], 64, &limits(0.01));
        assert!(at_most.iter().all(|b| !b.running && !b.settled));
    }

    #[test]
    fn what_blocks_said_at_each_look_is_remembered() {
        let mut blocks = vec![BlockCount::new(true); 2];
        let areas = [192, 64];
        // The first is quiet and settles at 8; the second is noisy and goes on.
        let bring = |blocks: &mut Vec<BlockCount>, n: u32| {
            for (b, grain) in blocks.iter_mut().zip([0.01, 0.095 * (8.0 / n as f32).sqrt()]).filter(|(b, _)| b.running)
            {
                (b.n, b.grain) = (n, grain);
            }
            decide(blocks, &areas, n, &limits(0.05));
        };
        [4, 6, 8].into_iter().for_each(|n| bring(&mut blocks, n));
        assert!(blocks[0].settled && blocks[1].running);
        assert_eq!(variances_at(1, &blocks, &areas), None, "nobody knows yet");
        [12, 16, 24, 32].into_iter().for_each(|n| bring(&mut blocks, n));
        assert_eq!((blocks[0].n, blocks[0].looks[1], blocks[1].n), (8, -1.0, 32));
        // Variance per sample: 8 · 0.01² and 8 · 0.095² at both looks, and the floor is a share of their mean.
        for look in 0..LOOKS.len() {
            let v = variances_at(look, &blocks, &areas).unwrap();
            assert!(v[0].floored && !v[1].floored);
            let v: Vec<f64> = v.iter().map(|v| v.each).collect();
            let (quiet, noisy) = (8.0 * 0.01f64.powi(2), 8.0 * 0.095f64.powi(2));
            assert!(
                (v[0] - FLOOR * (0.75 * quiet + 0.25 * noisy)).abs() < 1e-6 && (v[1] - noisy).abs() < 1e-6,
                "{v:?}"
            );
        }
    }
}
