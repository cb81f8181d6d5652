//! What the superblocks of a final will take, from those that a test has seen.
//!
//! For every block the count is expected at which the actual rule stops on the actual ladder. Where some superblocks have gone
//! on and others have few samples, the short ones are corrected by how far the long ones were misjudged when they were as short:
//! a ratio estimate in two phases (Cochran, Sampling Techniques, ch. 12), in which those count most that looked alike (a kernel
//! regression, Nadaraya 1964 and Watson 1964): rare light is behind some surfaces and not behind others.

use picture::{Region, reduce::gain};
use tracer::{
    BlockCount, Description, EARLY, Fall, Limits, SavedCounts, early_variances, floored_variances, superblocks,
};
use tuning::{K, Tuning};

/// Half of the 95 % interval for each doubling of the samples that is still to come, where nothing corrects it.
const UNSURE: f64 = 0.12;
/// The same for each doubling that a test lacks to the first look of a pilot: a sketch knows little of its grain.
const SKETCHY: f64 = 0.35;

/// The same for a test that was judged anew: how its grain has fallen on the way is that of the other judging.
const ANEW: f64 = 0.25;

/// Superblocks whose expected counts differ by this factor's logarithm are still alike.
const ALIKE: f64 = 0.3;
/// How much those count that are not.
const UNALIKE: f64 = 0.05;

/// Sums over the blocks of one superblock.
#[derive(Debug, Clone, Copy, Default)]
struct Square {
    /// Pixels that have samples, and samples that they have.
    pixels: f64,
    taken: f64,
    /// Processor seconds of a sample.
    each: f64,
    /// Samples that are wanted; if grain fell with the square root of the count at once, and if it went on growing for longer.
    wanted: f64,
    fewest: f64,
    dearest: f64,
    /// Samples that the same blocks would have been expected to take when they had [`EARLY`].
    early: Option<f64>,
    settled: f64,
    squares: f64,
    /// By how much more is wanted than its few samples say.
    ratio: f64,
}

/// Means over the pixels that a test has seen, as a final would have them.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Outlook {
    pub samples_per_pixel: f64,
    /// Processor seconds a pixel of the rendered frame.
    pub load: f64,
    /// Root mean square grain, and the share of pixels in blocks that settle.
    pub grain: f64,
    pub settled: f64,
    /// Pixels that have samples.
    pub pixels: f64,
    /// Half of the 95 % interval of the load, from superblocks that were not seen and from short ones, relative.
    pub scatter: f64,
    /// Load if grain fell with the square root of the count from now on, and if it kept growing, relative.
    pub least: f64,
    pub most: f64,
    /// Samples per half of the longest blocks.
    pub longest: u32,
}

/// Blocks of a superblock with their pixels.
fn areas(bounds: Region, blocks: usize, side: u32) -> Vec<u32> {
    let columns = bounds.width.div_ceil(side);
    let area = |i: u32| {
        let (bx, by) = (bounds.x + i % columns * side, bounds.y + i / columns * side);
        side.min(bounds.right() - bx) * side.min(bounds.bottom() - by)
    };
    (0..blocks as u32).map(area).collect()
}

/// The outlook for a final at `tuning` from a test's counts, from the superblocks that touch `wanted` if that is given; none
/// without samples. `frame_pixels` are those of the rendered frame; a sample has `variance` times that of the test's.
pub(crate) fn outlook(
    d: &Description,
    counts: &SavedCounts,
    tuning: &Tuning,
    wanted: Option<Region>,
    frame_pixels: f64,
    variance: f64,
) -> Option<Outlook> {
    let limits = Limits::of(tuning);
    let side = d.judging().block;
    // Grain counts delivered pixels: another oversize reduces another number of samples into each.
    let scale = variance.sqrt() * gain(tuning.real(K::FrameOversize)) / gain(d.tuning.real(K::FrameOversize));
    let blocks = || counts.tiles.iter().flat_map(|(_, blocks)| blocks);
    let longest = blocks().map(|b| b.n).max()?;
    // Those that are ahead know more of what comes.
    let ahead = blocks().filter(|b| 2 * b.n > longest.min(4 * EARLY));
    let fall = Fall::of(ahead.map(|b| (b, 1)));
    let growth = fall.growth;
    let slow = Fall { growth: (1.6 * growth).max(growth + 0.05) };
    let fast = Fall { growth: (0.4 * growth).min(growth - 0.05) };
    let own = Limits::of(&d.tuning);
    let rule_of_test = (own.adaptive && own.least == limits.least && !counts.anew).then_some(own.threshold * scale);
    let rule = Rule { limits, fall, slow, fast, scale, rule_of_test };
    let squares: Vec<Square> = superblocks(d.film_area(), d.film_frame())
        .zip(&counts.tiles)
        .filter(|(bounds, _)| wanted.is_none_or(|w| w.shared(*bounds).is_some()))
        .map(|(bounds, (spent, blocks))| rule.square(*spent, blocks, &areas(bounds, blocks.len(), side)))
        .filter(|s| s.pixels > 0.0)
        .collect();
    let pixels: f64 = squares.iter().map(|s| s.pixels).sum();
    if pixels == 0.0 {
        return None;
    }
    let far = |s: &Square| s.early.is_some() && s.taken > 1.01 * 2.0 * EARLY as f64 * s.pixels;
    let (long, mut short): (Vec<Square>, Vec<Square>) = squares.into_iter().partition(far);
    let misjudged = correct(&long, &mut short);
    let squares: Vec<&Square> = long.iter().chain(&short).collect();
    // Nothing corrects the few samples of a plain test: the further it is from the end, the less sure.
    let taken: f64 = squares.iter().map(|s| s.taken).sum();
    let ahead: f64 = squares.iter().map(|s| s.wanted.max(s.taken)).sum();
    let enough = 2.0 * EARLY as f64 * pixels;
    let sketchy = SKETCHY * (enough / taken).log2().max(0.0);
    let far_off = UNSURE * (ahead / taken.max(enough)).log2().max(0.0);
    // Long ones that were cut off, or that a finer threshold sends on, are extrapolated themselves.
    let of = |f: fn(&Square) -> f64| long.iter().map(f).sum::<f64>();
    let cut_off = (of(|s| s.wanted.max(s.taken)) / of(|s| s.taken).max(1.0)).log2().max(0.0);
    let far_off = match (limits.adaptive, misjudged) {
        (false, _) => 0.0,
        (_, None) => sketchy + far_off,
        (_, Some(_)) => SKETCHY * cut_off,
    };
    let load = |s: &Square| s.each * s.wanted * s.ratio;
    let total: f64 = squares.iter().map(|s| load(s)).sum();
    let mean = total / pixels;
    // Scatter of the load between superblocks, as if they were drawn at random from the frame. One says nothing of the scatter:
    // then as much as the load itself. Neighbours are more alike than the rest of the frame: at least a fifth.
    let free = squares.len().saturating_sub(1);
    let squared: f64 = squares.iter().map(|s| (load(s) / s.pixels - mean).powi(2)).sum();
    let variance = if free > 0 { squared / free as f64 } else { mean * mean }.max((0.2 * mean).powi(2));
    let unseen = (1.0 - pixels / frame_pixels).clamp(0.0, 1.0);
    let drawn = (variance * unseen / squares.len() as f64).sqrt() / mean.max(1e-18);
    let weighed = |f: fn(&Square) -> f64| squares.iter().map(|s| s.each * f(s)).sum::<f64>();
    let share_short = short.iter().map(load).sum::<f64>() / total.max(1e-18);
    Some(Outlook {
        samples_per_pixel: squares.iter().map(|s| s.wanted * s.ratio).sum::<f64>() / pixels,
        load: mean,
        grain: (squares.iter().map(|s| s.squares).sum::<f64>() / pixels).sqrt(),
        settled: squares.iter().map(|s| s.settled).sum::<f64>() / pixels,
        pixels,
        scatter: (student(free) * drawn)
            .hypot(if counts.anew && limits.adaptive { ANEW } else { 0.0 })
            .hypot(student(long.len().saturating_sub(1)) * misjudged.unwrap_or(0.0) * share_short)
            .hypot(far_off),
        least: weighed(|s| s.fewest) / weighed(|s| s.wanted).max(1e-18),
        most: weighed(|s| s.dearest) / weighed(|s| s.wanted).max(1e-18),
        longest,
    })
}

/// Corrects short superblocks by those that were as short and have gone on, and tells the standard error of their sum, relative;
/// none where there are too few. Pilots choose those that go on with chances that go with their load; each speaks for the short ones
/// as much as it was likely to be one of them, and the more the more alike they looked.
fn correct(long: &[Square], short: &mut [Square]) -> Option<f64> {
    if short.is_empty() || long.len() < 3 {
        return None;
    }
    let early = |s: &Square| s.early.unwrap_or(s.wanted).max(1.0);
    let load = |s: &Square| s.each * early(s);
    let total: f64 = long.iter().chain(&*short).map(load).sum();
    let left_out = |s: &Square, draws: f64| (1.0 - load(s) / total).powf(draws);
    // So many draws with replacement are expected to choose as many as were chosen.
    let (mut few, mut many) = (0.0, 1e4);
    for _ in 0..50 {
        let draws = 0.5 * (few + many);
        let chosen: f64 = long.iter().chain(&*short).map(|s| 1.0 - left_out(s, draws)).sum();
        if chosen < long.len() as f64 { few = draws } else { many = draws }
    }
    let looked = |s: &Square| (early(s) / s.pixels).ln();
    let pairs: Vec<(f64, f64, f64)> =
        long.iter().map(|s| (left_out(s, few).max(0.02), looked(s), s.wanted / early(s))).collect();
    let weights = |at: f64| -> Vec<f64> {
        let alike = |x: f64| (-0.5 * ((at - x) / ALIKE).powi(2)).exp() + UNALIKE;
        pairs.iter().map(|(w, x, _)| w * alike(*x)).collect()
    };
    // What each long one adds to the sum of the short ones for each unit of its ratio.
    let mut moved = vec![0.0; pairs.len()];
    for s in short.iter_mut() {
        let w = weights(looked(s));
        let all: f64 = w.iter().sum();
        s.ratio = w.iter().zip(&pairs).map(|(w, (_, _, r))| w * r).sum::<f64>() / all;
        moved.iter_mut().zip(&w).for_each(|(m, w)| *m += s.each * s.wanted * w / all);
    }
    // By how much each misses what the others say of it.
    let missed = |k: usize| {
        let mut w = weights(pairs[k].1);
        w[k] = 0.0;
        pairs[k].2 - w.iter().zip(&pairs).map(|(w, (_, _, r))| w * r).sum::<f64>() / w.iter().sum::<f64>()
    };
    let squared: f64 = moved.iter().enumerate().map(|(k, m)| (m * missed(k)).powi(2)).sum();
    let sum: f64 = short.iter().map(|s| s.each * s.wanted * s.ratio).sum();
    Some(squared.sqrt() / sum.max(1e-18))
}

/// Half the width of the 95 % interval of a mean in standard errors, by degrees of freedom (Student 1908; any table).
fn student(free: usize) -> f64 {
    const T: [f64; 10] = [12.71, 4.30, 3.18, 2.78, 2.57, 2.45, 2.36, 2.31, 2.26, 2.23];
    T.get(free.max(1) - 1).copied().unwrap_or(2.0)
}

struct Rule {
    limits: Limits,
    fall: Fall,
    /// If grain fell more slowly, and faster.
    slow: Fall,
    fast: Fall,
    scale: f64,
    /// Threshold by which the test has stopped blocks, in what is wanted now; none where it did not.
    rule_of_test: Option<f64>,
}

impl Rule {
    /// Samples per half at which a block stops that shows `grain` at `n` and has not stopped before.
    fn stop(&self, grain: f64, n: u32, fall: &Fall) -> f64 {
        let l = &self.limits;
        if !l.adaptive {
            return l.most as f64;
        }
        if grain <= l.threshold && n >= l.least {
            return fall.expected_samples(grain, n, [l.least, l.most], l.threshold).min(n as f64);
        }
        let least = l.least.max(n + 1).min(l.most);
        fall.expected_samples(grain, n, [least, l.most], l.threshold)
    }

    /// The same for a block as it stands: where the test followed the same rule, it says itself where it stopped.
    fn stop_of(&self, b: &BlockCount, grain: f64, fall: &Fall) -> f64 {
        let l = &self.limits;
        let as_fine = self.rule_of_test.is_some_and(|t| l.threshold <= 1.001 * t);
        let same = as_fine && self.rule_of_test.is_some_and(|t| l.threshold >= 0.999 * t);
        // A pilot stops nothing before its first look is over.
        let looked = b.n == EARLY && b.n > l.least;
        if l.adaptive && as_fine && b.n >= l.least && b.n < l.most && !(looked && b.settled) {
            if b.settled && (same || grain <= l.threshold) {
                return b.n as f64;
            }
            return fall.expected_samples(grain, b.judged(), [b.n + 1, l.most], l.threshold);
        }
        self.stop(grain, b.judged(), fall)
    }

    fn square(&self, spent: u64, blocks: &[BlockCount], areas: &[u32]) -> Square {
        let mut s = Square { ratio: 1.0, ..Square::default() };
        let variances = floored_variances(blocks, areas);
        let early = early_variances(blocks, areas);
        let mut before = 0.0;
        for (k, (b, area)) in blocks.iter().zip(areas).enumerate() {
            let p = *area as f64;
            if b.n == 0 || b.grain < 0.0 {
                continue;
            }
            let judged = b.judged();
            let floored = (variances[k] / judged as f64).sqrt() * self.scale;
            s.taken += p * 2.0 * b.n as f64;
            s.pixels += p;
            let n = self.stop_of(b, floored, &self.fall);
            s.wanted += p * 2.0 * n;
            s.fewest += p * 2.0 * self.stop_of(b, floored, &self.fast);
            s.dearest += p * 2.0 * self.stop_of(b, floored, &self.slow);
            if let Some(early) = &early {
                let then = (early[k] / EARLY as f64).sqrt() * self.scale;
                before += p * 2.0 * self.stop(then, EARLY, &self.fall);
            }
            let then = self.fall.grain_at(floored, judged as f64, n);
            s.settled += if then <= self.limits.threshold { p } else { 0.0 };
            let left = self.fall.grain_at(b.grain as f64 * self.scale, judged as f64, n);
            s.squares += p * left.powi(2);
        }
        s.each = spent as f64 * 1e-9 / s.taken.max(1.0);
        s.early = early.map(|_| before);
        s
    }
}
