//! What the superblocks of a final will take, from those that a test has seen.
//!
//! For every block the count is expected at which the actual rule stops on the actual ladder. Where some superblocks have gone
//! on and others have few samples, the short ones are corrected by how far the long ones were misjudged when they were as short:
//! a ratio estimate in phases (Cochran, Sampling Techniques, ch. 12), in which those count most that looked alike (a kernel
//! regression, Nadaraya 1964 and Watson 1964): rare light is behind some surfaces and not behind others. The one that was
//! misjudged most counts as the next one does: of few from a skewed distribution the mean is the better for it (the
//! once-Winsorized mean, Rivest 1994).

use crate::forecast::judging_denoiser;
use picture::{Region, reduce::gain};
use rayon::prelude::*;
use std::collections::BTreeMap;
use tracer::{
    BlockCount, Description, Fall, Growth, LOOKS, Limits, OnTheWay, SUPERBLOCK, SavedCounts, Shown, Stops, Variance,
    film_frame_of, level, shown, superblocks, variances_at,
};
use tuning::{K, Tuning};

/// Half of the 95 % interval for each doubling of the samples that is still to come, where nothing corrects it.
const UNSURE: f64 = 0.12;
/// The same for each doubling that a test lacks to the first look of a pilot: a sketch knows little of its grain.
const SKETCHY: f64 = 0.35;

/// The same for a test that was judged anew: how its grain has fallen on the way is that of the other judging.
const ANEW: f64 = 0.25;

/// How much more the variance per sample grows a doubling after a clean-up than before it (natural logarithm), by the quick, the
/// careful and the colour-only denoiser (this one as the quick one, not measured): where there is less noise they take less away.
const SLOWER: [f64; 3] = [0.2, 0.5, 0.2];

/// Superblocks whose expected counts differ by this factor's logarithm are still alike.
const ALIKE: f64 = 0.3;
/// How much those count that are not.
const UNALIKE: f64 = 0.05;

/// What one superblock of a test says of the final: sums over its blocks. Samples count both halves.
#[derive(Debug, Clone, Copy, Default)]
struct Square {
    /// Pixels that have samples.
    pixels: f64,
    /// Samples that the test has taken.
    taken: f64,
    /// Processor seconds of a sample, averaged over the samples that the final is expected to take.
    seconds_per_sample: f64,
    /// Samples that the final is expected to take.
    expected: f64,
    /// The same, 0 where it was not asked, and if noise falls faster or more slowly than it did so far.
    spanned: f64,
    expected_fast: f64,
    expected_slow: f64,
    /// The part of `expected` in blocks whose end is extrapolated: it lies beyond the samples of the test, or the test does not know
    /// the noise on the way under the present judging.
    extrapolated: f64,
    /// What would have been expected of the same blocks at each of [`LOOKS`]; none where they were not there.
    expected_at: [Option<f64>; LOOKS.len()],
    /// Samples per half of its longest blocks.
    longest: u32,
    /// Some block has neither converged nor taken the most samples.
    unfinished: bool,
    /// Pixels in blocks that are expected to converge.
    settled: f64,
    /// Expected squares of the noise, times pixels.
    squares: f64,
    /// Correction of `expected`, from superblocks that looked alike and have more samples.
    ratio: f64,
}

/// How far the test has taken a superblock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Reached {
    /// To one of [`LOOKS`], by its number.
    Look(usize),
    /// Beyond them, or to its end.
    Further,
}

impl Square {
    fn reached(&self) -> Reached {
        match LOOKS.iter().position(|n| self.longest <= *n) {
            Some(look) if self.unfinished => Reached::Look(look),
            _ => Reached::Further,
        }
    }
}

/// Means over the pixels that a test has seen, as a final would have them.
#[derive(Debug, Clone)]
pub(crate) struct Outlook {
    pub samples_per_pixel: f64,
    /// Processor seconds a pixel of the rendered frame.
    pub load: f64,
    /// Root mean square grain, and the share of pixels in blocks that settle.
    pub grain: f64,
    pub settled: f64,
    /// Pixels of the first test that have samples.
    pub first_pixels: f64,
    /// Share of the frame that any of the tests has seen, and what each has of it.
    pub seen: f64,
    pub shares: Vec<f64>,
    /// Half of the 95 % interval of the load, from superblocks that were not seen and from short ones, relative.
    pub scatter: f64,
    /// Load if grain fell with the square root of the count from now on, and if it kept growing, relative.
    pub least: f64,
    pub most: f64,
    /// Samples per half of the longest blocks of the first test.
    pub longest: u32,
    /// Share of the samples in blocks that end among those that the test has taken: they are counted, not extrapolated.
    pub counted: f64,
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

/// A test, and what a sample at the tuning in question takes and shows in units of one of its own.
pub(crate) struct Source<'a> {
    pub d: &'a Description,
    pub counts: &'a SavedCounts,
    pub time: f64,
    pub variance: f64,
    /// Share of its superblocks that are asked, chosen by their places alone; they stand for the others. 1 asks all.
    pub asked: f64,
}

/// A superblock's value in the additive recurrence of two dimensions, 0…1: places where it is small lie evenly over the frame
/// (Roberts 2018, as pilots choose theirs), and are the same in all tests of a frame.
fn turn_of(bounds: &Region) -> f64 {
    const STEPS: [f64; 2] = [0.754_877_666_246_693, 0.569_840_290_998_053];
    let [x, y] = [bounds.x, bounds.y].map(|at| (at / SUPERBLOCK) as f64);
    (0.5 + STEPS[0] * x + STEPS[1] * y).fract()
}

/// Superblocks that tell how far off the fall of grain may be; of more than these a few stand for all.
const SPANNED: usize = 512;

/// Superblocks of a test that have samples.
pub(crate) fn with_samples(counts: &SavedCounts) -> usize {
    counts.tiles.iter().filter(|(_, blocks)| blocks.iter().any(|b| b.n > 0)).count()
}

/// A superblock in the final's own frame.
struct Placed {
    source: usize,
    bounds: Region,
    square: Square,
}

impl Square {
    /// The same where it stands for so many times the pixels.
    fn times(self, by: f64) -> Square {
        Square {
            pixels: self.pixels * by,
            taken: self.taken * by,
            expected: self.expected * by,
            spanned: self.spanned * by,
            expected_fast: self.expected_fast * by,
            expected_slow: self.expected_slow * by,
            extrapolated: self.extrapolated * by,
            expected_at: self.expected_at.map(|s| s.map(|s| s * by)),
            settled: self.settled * by,
            squares: self.squares * by,
            ..self
        }
    }
}

/// Superblocks of a test as a final would have them, in the test's own frame.
#[derive(Default)]
struct Told {
    squares: Vec<(Region, Square)>,
    /// For how many times their pixels they stand.
    each_for: f64,
    /// The longest count of the test's blocks.
    longest: u32,
}

/// The superblocks of a test that are asked, and how far they are.
struct Asked<'a> {
    tiles: Vec<(Region, &'a (u64, Vec<BlockCount>))>,
    /// The longest count of the blocks of each.
    lengths: Vec<u32>,
}

impl Asked<'_> {
    fn of<'a>(s: &Source<'a>) -> Asked<'a> {
        let all = superblocks(s.d.film_area(), s.d.film_frame()).zip(&s.counts.tiles);
        let tiles: Vec<_> = all.filter(|(bounds, _)| turn_of(bounds) < s.asked).collect();
        let length = |(_, (_, blocks)): &(Region, &(u64, Vec<BlockCount>))| blocks.iter().map(|b| b.n).max();
        let lengths = tiles.par_iter().map(|t| length(t).unwrap_or(0)).collect();
        Asked { tiles, lengths }
    }

    /// Which of [`LOOKS`] matter: some superblock of any test has come no further, and some have.
    fn looks(all: &[Asked]) -> [bool; LOOKS.len()] {
        let any = |f: &dyn Fn(u32) -> bool| all.iter().flat_map(|a| &a.lengths).any(|n| f(*n));
        LOOKS.map(|look| any(&|n| n > 0 && n <= look) && any(&|n| n > LOOKS[0]))
    }
}

/// The superblocks of a test as a final at `tuning` would have them.
fn squares_of(s: &Source, asked: &Asked, looks: [bool; LOOKS.len()], tuning: &Tuning) -> Option<Told> {
    let Source { d, counts, .. } = s;
    let limits = Limits::of(tuning);
    let side = d.judging().block;
    // Grain counts delivered pixels: another oversize reduces another number of samples into each.
    let scale = s.variance.sqrt() * gain(tuning.real(K::FrameOversize)) / gain(d.tuning.real(K::FrameOversize));
    let tiles = &asked.tiles;
    let longest = *asked.lengths.iter().max()?;
    let spanned = s.asked * (SPANNED as f64 / tiles.len() as f64).min(1.0);
    // Those that are ahead know more of what comes.
    let ahead =
        |blocks: &[BlockCount]| Growth::of(blocks.iter().filter(|b| 2 * b.n > longest.min(LOOKS[1])).map(|b| (b, 1)));
    // Added in one order, whoever has computed them.
    let shown: Vec<Growth> = tiles.par_iter().map(|(_, (_, blocks))| ahead(blocks)).collect();
    let growth = shown.into_iter().fold(Growth::default(), Growth::with).mean();
    let beyond = judging_denoiser(&d.tuning).filter(|_| counts.anew).map_or(0.0, |m| SLOWER[m as usize]);
    let fall = Fall { growth, beyond };
    let slow = Fall { growth: (1.6 * growth).max(growth + 0.05), beyond: 1.6 * beyond };
    let fast = Fall { growth: (0.4 * growth).min(growth - 0.05), beyond: 0.4 * beyond };
    let own = Limits::of(&d.tuning);
    let [stops, fast, slow] = [fall, fast, slow].map(|fall| fall.stops(limits.most, limits.threshold));
    let level = level(limits.threshold);
    let rule = Rule { limits, level, looks, fall, stops, slow, fast, scale, anew: counts.anew, own };
    let squares = tiles.par_iter().map(|(bounds, (spent, blocks))| {
        let square = rule.square(*spent, blocks, &areas(*bounds, blocks.len(), side), turn_of(bounds) < spanned);
        (*bounds, Square { seconds_per_sample: s.time * square.seconds_per_sample, ..square })
    });
    let squares: Vec<_> = squares.filter(|(_, s)| s.pixels > 0.0).collect();
    let each_for = match s.asked < 1.0 {
        true => with_samples(counts) as f64 / squares.len().max(1) as f64,
        false => 1.0,
    };
    Some(Told { squares, each_for, longest })
}

/// The superblocks of several tests in the final's frame, each place once: of tests of that very frame the one that has seen most of
/// a superblock, and if they have seen as much the one with more samples; elsewhere the first test, whatever its size.
fn merged(sources: &[Told], sizes: &[(u32, u32)], frame: (u32, u32)) -> Vec<Placed> {
    let mut best: BTreeMap<(u32, u32), Placed> = BTreeMap::new();
    for (source, told) in sources.iter().enumerate().filter(|(k, _)| sizes[*k] == frame) {
        for (bounds, square) in &told.squares {
            let better = best.get(&(bounds.y, bounds.x)).is_none_or(|had| {
                let (pixels, taken) = (square.pixels / had.square.pixels, square.taken / had.square.taken.max(1.0));
                pixels > 1.02 || (pixels > 0.98 && taken > 1.0)
            });
            if better {
                best.insert((bounds.y, bounds.x), Placed { source, bounds: *bounds, square: *square });
            }
        }
    }
    let mut all: Vec<Placed> = best.into_values().collect();
    if sizes[0] != frame {
        // How much of the frame a place of the other one is, in each direction.
        let times = [frame.0 as f64 / sizes[0].0 as f64, frame.1 as f64 / sizes[0].1 as f64];
        let on = |r: &Region| {
            let [x, y] = [(r.x, r.right()), (r.y, r.bottom())].map(|(a, b)| (a as f64, b as f64));
            [x.0 * times[0], y.0 * times[1], x.1 * times[0], y.1 * times[1]]
        };
        let rest = sources[0].squares.iter().filter_map(|(bounds, square)| {
            let [x0, y0, x1, y1] = on(bounds);
            let covered = |p: &Placed| {
                let b = p.bounds;
                let width = x1.min(b.right() as f64) - x0.max(b.x as f64);
                let height = y1.min(b.bottom() as f64) - y0.max(b.y as f64);
                width.max(0.0) * height.max(0.0) * p.square.pixels / b.area() as f64
            };
            let left = 1.0 - all.iter().map(covered).sum::<f64>() / ((x1 - x0) * (y1 - y0));
            let round = |x: f64| x.round() as u32;
            let (x, y) = (round(x0), round(y0));
            let bounds = Region { x, y, width: round(x1).max(x + 1) - x, height: round(y1).max(y + 1) - y };
            (left > 0.01).then(|| Placed { source: 0, bounds, square: square.times(left * times[0] * times[1]) })
        });
        let rest: Vec<Placed> = rest.collect();
        all.extend(rest);
    }
    all
}

/// The outlook for a final at `tuning` from the counts of tests, the first of which tells of what no other has seen better; from
/// the superblocks alone that touch `wanted`, a part of the frame that is rendered, if that is given; none without samples.
pub(crate) fn outlook(sources: &[Source], tuning: &Tuning, wanted: Option<Region>) -> Option<Outlook> {
    let limits = Limits::of(tuning);
    let frame = film_frame_of(tuning);
    let sizes: Vec<(u32, u32)> = sources.iter().map(|s| s.d.film_frame()).collect();
    let asked: Vec<Asked> = sources.iter().map(Asked::of).collect();
    let looks = Asked::looks(&asked);
    let told = |k: usize| squares_of(&sources[k], &asked[k], looks, tuning);
    let mut apart = vec![told(0)?];
    apart.extend((1..sources.len()).map(|k| told(k).unwrap_or_default()));
    let first_pixels = apart[0].each_for * apart[0].squares.iter().map(|(_, s)| s.pixels).sum::<f64>();
    let mut placed = merged(&apart, &sizes, frame);
    placed.iter_mut().for_each(|p| p.square = p.square.times(apart[p.source].each_for));
    placed.retain(|p| wanted.is_none_or(|w| w.shared(p.bounds).is_some()));
    let squares: Vec<Square> = placed.iter().map(|p| p.square).collect();
    let pixels: f64 = squares.iter().map(|s| s.pixels).sum();
    if pixels == 0.0 {
        return None;
    }
    let frame_pixels = match wanted {
        // Superblocks that reach beyond it have been seen with it.
        Some(_) => pixels,
        None => frame.0 as f64 * frame.1 as f64,
    };
    let from = |k: usize| placed.iter().filter(|p| p.source == k).map(|p| p.square.pixels).sum::<f64>();
    let shares: Vec<f64> = (0..sources.len()).map(|k| from(k) / frame_pixels).collect();
    let anew = sources.iter().zip(&shares).any(|(s, share)| s.counts.anew && *share > 0.0);
    let that = |reached: Reached| squares.iter().filter(|s| s.reached() == reached).copied().collect::<Vec<_>>();
    let (long, mut middle, mut short) = (that(Reached::Further), that(Reached::Look(1)), that(Reached::Look(0)));
    // What ended before the second look says nothing of what was open at it.
    let deep: Vec<Square> = long.iter().filter(|s| s.longest > LOOKS[1]).copied().collect();
    let second = correct(&deep, &mut middle, 1);
    let first = correct(&[&long[..], &middle].concat(), &mut short, 0);
    let squares: Vec<&Square> = long.iter().chain(&middle).chain(&short).collect();
    // Nothing corrects the few samples of a plain test: the further it is from the end, the less sure.
    let taken: f64 = squares.iter().map(|s| s.taken).sum();
    let ahead: f64 = squares.iter().map(|s| s.expected.max(s.taken)).sum();
    let enough = 2.0 * LOOKS[0] as f64 * pixels;
    let sketchy = SKETCHY * (enough / taken).log2().max(0.0);
    let far_off = UNSURE * (ahead / taken.max(enough)).log2().max(0.0);
    // Long ones that were cut off, or that a finer threshold sends on, are extrapolated themselves.
    let of = |f: fn(&Square) -> f64| long.iter().map(f).sum::<f64>();
    let cut_off = (of(|s| s.expected.max(s.taken)) / of(|s| s.taken).max(1.0)).log2().max(0.0);
    let corrected = (first.is_some() || short.is_empty()) && (second.is_some() || middle.is_empty());
    let far_off = match limits.adaptive {
        false => 0.0,
        true if corrected && long.len() < squares.len() => SKETCHY * cut_off,
        true => sketchy + far_off,
    };
    let load = |s: &Square| s.seconds_per_sample * s.expected * s.ratio;
    let total: f64 = squares.iter().map(|s| load(s)).sum();
    let mean = total / pixels;
    // Scatter of the load between superblocks, as if they were drawn at random from the frame. One says nothing of the scatter:
    // then as much as the load itself. Neighbours are more alike than the rest of the frame: at least a fifth.
    let free = squares.len().saturating_sub(1);
    let squared: f64 = squares.iter().map(|s| (load(s) / s.pixels - mean).powi(2)).sum();
    let variance = if free > 0 { squared / free as f64 } else { mean * mean }.max((0.2 * mean).powi(2));
    let unseen = (1.0 - pixels / frame_pixels).clamp(0.0, 1.0);
    let drawn = (variance * unseen / squares.len() as f64).sqrt() / mean.max(1e-18);
    let weighed = |f: fn(&Square) -> f64| squares.iter().map(|s| s.seconds_per_sample * f(s)).sum::<f64>();
    let share = |squares: &[Square]| squares.iter().map(load).sum::<f64>() / total.max(1e-18);
    let (few, some) = (share(&short), share(&middle));
    let misjudged =
        |error: Option<f64>, known: usize, share: f64| student(known.saturating_sub(1)) * error.unwrap_or(0.0) * share;
    Some(Outlook {
        samples_per_pixel: squares.iter().map(|s| s.expected * s.ratio).sum::<f64>() / pixels,
        load: mean,
        grain: (squares.iter().map(|s| s.squares).sum::<f64>() / pixels).sqrt(),
        settled: squares.iter().map(|s| s.settled).sum::<f64>() / pixels,
        first_pixels,
        seen: (pixels / frame_pixels).min(1.0),
        shares,
        scatter: (student(free) * drawn)
            .hypot(if anew && limits.adaptive { ANEW } else { 0.0 })
            .hypot(misjudged(first, long.len() + middle.len(), few))
            // What corrects the middle ones corrects the short ones with them.
            .hypot(misjudged(second, deep.len(), some + few))
            .hypot(far_off),
        least: weighed(|s| s.expected_fast) / weighed(|s| s.spanned).max(1e-18),
        most: weighed(|s| s.expected_slow) / weighed(|s| s.spanned).max(1e-18),
        longest: apart[0].longest,
        counted: 1.0 - weighed(|s| s.extrapolated) / weighed(|s| s.expected).max(1e-18),
    })
}

/// Corrects superblocks that have got to a step of [`LOOKS`] by those that have been there and gone on, and tells the standard error
/// of their sum, relative; none where there are too few. The more alike two looked, the more one says of the other; which ones a
/// pilot chose goes with how they looked alone, so that the choice needs no weights of its own.
fn correct(known: &[Square], open: &mut [Square], look: usize) -> Option<f64> {
    if open.is_empty() || known.len() < 2 {
        return None;
    }
    let then = |s: &Square| s.expected_at[look].unwrap_or(s.expected).max(1.0);
    let looked = |s: &Square| (then(s) / s.pixels).ln();
    let mut known: Vec<(f64, f64)> = known.iter().map(|s| (looked(s), s.expected * s.ratio / then(s))).collect();
    let mut ratios: Vec<f64> = known.iter().map(|(_, r)| *r).collect();
    ratios.sort_by(f64::total_cmp);
    if let [.., next, _] = ratios[1..] {
        known.iter_mut().for_each(|(_, r)| *r = r.min(next));
    }
    let weights = |at: f64| -> Vec<f64> {
        known.iter().map(|(x, _)| (-0.5 * ((at - x) / ALIKE).powi(2)).exp() + UNALIKE).collect()
    };
    let all = |w: &[f64]| w.iter().sum::<f64>();
    let said = |w: &[f64]| w.iter().zip(&known).map(|(w, (_, r))| w * r).sum::<f64>() / all(w);
    // What each known one adds to the sum of the open ones for each unit of its ratio.
    let mut moved = vec![0.0; known.len()];
    for s in open.iter_mut() {
        let w = weights(looked(s));
        s.ratio = said(&w);
        let weight = all(&w);
        moved.iter_mut().zip(&w).for_each(|(m, w)| *m += s.seconds_per_sample * s.expected * w / weight);
    }
    // By how much each misses what the others say of it.
    let missed = |k: usize| {
        let mut w = weights(known[k].0);
        w[k] = 0.0;
        known[k].1 - said(&w)
    };
    let squared: f64 = moved.iter().enumerate().map(|(k, m)| (m * missed(k)).powi(2)).sum();
    let total: f64 = open.iter().map(|s| s.seconds_per_sample * s.expected * s.ratio).sum();
    Some(squared.sqrt() / total.max(1e-18))
}

/// Half the width of the 95 % interval of a mean in standard errors, by degrees of freedom (Student 1908; any table).
fn student(free: usize) -> f64 {
    const T: [f64; 10] = [12.71, 4.30, 3.18, 2.78, 2.57, 2.45, 2.36, 2.31, 2.26, 2.23];
    T.get(free.max(1) - 1).copied().unwrap_or(2.0)
}

struct Rule {
    limits: Limits,
    /// Its threshold as blocks remember thresholds.
    level: f64,
    /// Which of [`LOOKS`] are asked.
    looks: [bool; LOOKS.len()],
    fall: Fall,
    stops: Stops,
    /// If grain fell more slowly, and faster.
    slow: Stops,
    fast: Stops,
    scale: f64,
    /// Blocks are judged otherwise than when the test stopped them by its own limits.
    anew: bool,
    own: Limits,
}

impl Rule {
    /// Samples per half at which a block stops that shows such a variance at `n` and has not stopped before.
    fn stop(&self, variance: Variance, n: u32, stops: &Stops) -> f64 {
        let l = &self.limits;
        if !l.adaptive {
            return l.most as f64;
        }
        if variance.grain(n) <= l.threshold && n >= l.least {
            return stops.expected(variance, n, l.least).min(n as f64);
        }
        stops.expected(variance, n, l.least.max(n + 1))
    }

    /// The same for a block as it stands. Where a sample has another variance, it ends in proportion: its own end is known better than
    /// what is expected of its last variance, and by that alone more rays could look dearer in samples.
    fn stop_of(&self, b: &BlockCount, way: OnTheWay, variance: Variance, stops: &Stops) -> f64 {
        let (l, own) = (&self.limits, &self.own);
        // A pilot stops nothing before its first look is over.
        let looked = b.n == LOOKS[0] && b.n > own.least;
        let stopped = own.adaptive && b.settled && b.n >= own.least;
        if !l.adaptive || self.anew || (stopped && looked) {
            return self.stop(variance, b.judged(), stops);
        }
        let shown = variance.times(self.scale.powi(-2));
        let alike = self.stop_alike(b, way, shown, stops, stopped);
        if self.scale == 1.0 {
            return alike;
        }
        let told = |v: Variance| stops.expected(v, b.judged(), l.least);
        (alike * told(variance) / told(shown)).max(l.least as f64).min(l.most as f64)
    }

    /// The same where a sample has the variance that the test has shown: by the grain that the block showed on its way.
    fn stop_alike(&self, b: &BlockCount, way: OnTheWay, shown: Variance, stops: &Stops, stopped: bool) -> f64 {
        let (l, own) = (&self.limits, &self.own);
        if stopped && (l.threshold / own.threshold - 1.0).abs() < 0.001 && l.least == own.least {
            return b.n.min(l.most) as f64;
        }
        // The same samples tell where it would have ended, if it is not beyond them.
        match way {
            OnTheWay::Unknown => self.stop(shown, b.judged(), stops),
            OnTheWay::Ended(n) => n.min(l.most) as f64,
            OnTheWay::Further => stops.expected(shown, b.judged(), l.least.max(b.judged() + 1)),
        }
    }

    /// `spanned`: it is asked what would come if grain fell otherwise.
    fn square(&self, spent: u64, blocks: &[BlockCount], areas: &[u32], spanned: bool) -> Square {
        let mut s = Square { ratio: 1.0, ..Square::default() };
        let looks: [_; LOOKS.len()] =
            std::array::from_fn(|look| self.looks[look].then(|| variances_at(look, blocks, areas)).flatten());
        let mut seen = [0.0; LOOKS.len()];
        let mut load = 0.0;
        for Shown { k, block: b, pixels: p, variance, each } in shown(spent, blocks, areas) {
            let as_wanted = |v: Variance| v.times(self.scale.powi(2));
            let variance = as_wanted(variance);
            s.taken += p * 2.0 * b.n as f64;
            s.pixels += p;
            s.longest = s.longest.max(b.n);
            s.unfinished |= b.n < self.own.most && !(self.own.adaptive && b.settled && b.n >= self.own.least);
            let way = b.on_the_way(self.limits.least, self.level);
            let n = self.stop_of(b, way, variance, &self.stops);
            s.expected += p * 2.0 * n;
            let counted = n <= b.n as f64 && !self.anew && way != OnTheWay::Unknown;
            s.extrapolated += if counted { 0.0 } else { p * 2.0 * n };
            // Blocks that go on for long take longer for each sample too: both come from what is behind them.
            load += p * 2.0 * n * each;
            if spanned {
                s.spanned += p * 2.0 * n;
                s.expected_fast += p * 2.0 * self.stop_of(b, way, variance, &self.fast);
                s.expected_slow += p * 2.0 * self.stop_of(b, way, variance, &self.slow);
            }
            for ((seen, at), variances) in seen.iter_mut().zip(LOOKS).zip(&looks) {
                let Some(variances) = variances else { continue };
                // What had settled before has ended there.
                let then = as_wanted(variances[k]);
                *seen += p * 2.0 * if b.n < at { n } else { self.stop(then, at, &self.stops) };
            }
            let judged = b.judged();
            let change = self.fall.between(judged as f64, n);
            s.settled += if variance.grain(judged) * change <= self.limits.threshold { p } else { 0.0 };
            s.squares += p * (b.grain as f64 * self.scale * change).powi(2);
        }
        s.seconds_per_sample = load / s.expected.max(1e-9);
        s.expected_at = std::array::from_fn(|look| looks[look].is_some().then_some(seen[look]));
        s
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A superblock of one pixel of which `early` samples were expected at the looks, and now `expected`.
    fn square(early: f64, expected: f64) -> Square {
        Square {
            pixels: 1.0,
            seconds_per_sample: 1.0,
            expected_at: [Some(early); 2],
            expected,
            ratio: 1.0,
            ..Square::default()
        }
    }

    #[test]
    fn short_superblocks_are_corrected_by_long_ones_that_looked_alike() {
        // Where it looked quiet it was; where it looked noisy four times as much is wanted.
        let quiet = [20.0, 21.0, 22.0, 19.0, 20.0, 21.0].map(|n| square(n, n));
        let noisy = [200.0, 210.0, 220.0, 190.0, 205.0, 215.0].map(|n| square(n, 4.0 * n));
        let mut short = vec![square(20.0, 20.0), square(208.0, 208.0)];
        let error = correct(&[quiet, noisy].concat(), &mut short, 0).unwrap();
        assert!((short[0].ratio - 1.0).abs() < 0.2 && (short[1].ratio - 4.0).abs() < 0.2, "{short:?}");
        // Each says of the others nearly what they are.
        assert!(error < 0.05, "{error}");
        // However many have gone on.
        let again = correct(&[quiet[..2].to_vec(), [noisy; 4].concat()].concat(), &mut short, 1).unwrap();
        assert!(again < 0.02 && (short[1].ratio - 4.0).abs() < 0.05, "{again} {short:?}");
        assert_eq!(correct(&quiet[..1], &mut short, 0), None, "one says nothing of its scatter");
    }

    #[test]
    fn one_that_was_misjudged_most_does_not_speak_for_all() {
        let mut short = vec![square(100.0, 100.0); 12];
        let with = |odd: f64| [100.0, 110.0, 120.0, 90.0, 130.0, odd].map(|n| square(100.0, n));
        let error = correct(&with(900.0), &mut short, 0).unwrap();
        // The odd one counts as 1.3: (1 + 1.1 + 1.2 + 0.9 + 1.3 + 1.3) / 6.
        assert!((short[0].ratio - 6.8 / 6.0).abs() < 1e-9 && error < 0.1, "{error} {short:?}");
        // Of two it cannot be told which is the odd one: the mean, and an interval that reaches both.
        let error = correct(&[100.0, 900.0].map(|n| square(100.0, n)), &mut short, 0).unwrap();
        assert!((short[0].ratio - 5.0).abs() < 1e-9 && student(1) * error > 0.8, "{error} {short:?}");
    }

    #[test]
    fn superblocks_are_told_apart_by_how_far_they_got() {
        let at = |longest: u32, unfinished: bool| Square { longest, unfinished, ..Square::default() }.reached();
        assert_eq!([at(8, true), at(12, true), at(32, true)], [Reached::Look(0), Reached::Look(1), Reached::Look(1)]);
        assert_eq!([at(48, true), at(8, false), at(32, false)], [Reached::Further; 3]);
    }
}
