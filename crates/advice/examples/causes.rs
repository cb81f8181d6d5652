//! What the ledgers, adaptive sampling and the advice are worth: `./run bench causes`. One of `cost`, `noise`, `adaptive`, `bias`,
//! `prices`, `advice` alone by that word. Scenes: the three of the demo, and openly licensed objects from registry packages, fixed by
//! hash (see `open_scenes.py`), where their folder is given.

#[path = "subjects/mod.rs"]
mod subjects;

use advice::{Advice, Machine, Measured, Pilot, Sampled, Trials, advise, pilot_tuning, prices, time_ratio};
use std::path::Path;
use subjects::{
    Subject, demo_subjects, describe, fixed, lamp_subjects, median, open_subjects, rendered, rendered_as,
    trial_subjects,
};
use tracer::{Plan, Render, SUPERBLOCK, Scope};
use tuning::{K, Tuning};

/// What adaptive sampling does is measured in frames as they are delivered, since blocks of small ones hold a bit of
/// everything; in so many of their superblocks, spread evenly, and in those that hold the worst blocks of the frame.
const LARGE: (u32, u32) = (720, 450);
const SQUARES: usize = 14;
const WORST: usize = 8;
/// Samples a pixel at the most.
const MOST: u32 = 16_384;
/// Adaptive sampling goes to the noise of about so many samples: where a picture can be read, and where it begins to be clean. Noise
/// that reaches over much of the display is as large in all blocks, since it ends at black and white.
const NOISES: [u32; 2] = [64, 256];

/// Noise as it is told against the true error on the display, over seeds: root mean squares over all blocks of what the halves of
/// one render say, by half their displayed difference and as it is told, and of the error against all other samples together.
fn noise(subjects: &[Subject]) {
    const SEEDS: u32 = 6;
    const COUNTS: [u32; 3] = [32, 64, 256];
    println!(
        "\nnoise told ÷ true displayed error, {SEEDS} seeds: by half the difference of the displayed halves, and as it is told"
    );
    for s in subjects {
        let judging = describe(s, &s.tuning).judging();
        let (view, block) = (judging.view, judging.block as usize);
        let plates: Vec<(u32, picture::Plate)> = COUNTS
            .iter()
            .flat_map(|n| (0..SEEDS).map(move |seed| (*n, seed)))
            .map(|(n, seed)| (n, rendered(s, &fixed(&s.tuning, n).with(K::SamplingSeed, 100 * n + seed)).plate()))
            .collect();
        let width = plates[0].1.region.width as usize;
        let pixels = plates[0].1.a.len();
        let all: f64 = plates.iter().map(|p| p.0 as f64).sum();
        let mut sums = vec![[0.0f64; 3]; pixels];
        for (n, p) in &plates {
            for (sum, m) in sums.iter_mut().zip(p.mean()) {
                (0..3).for_each(|c| sum[c] += *n as f64 * m[c] as f64);
            }
        }
        print!("{:<26}", s.name);
        for count in COUNTS {
            // Of every block the squares of the true error by channel, and of both estimates, summed over the seeds.
            let columns = width.div_ceil(block);
            let mut truth = vec![[0.0f64; 3]; columns * (pixels / width).div_ceil(block)];
            let mut told = vec![[0.0f64; 2]; truth.len()];
            for (n, p) in plates.iter().filter(|p| p.0 == count) {
                let (mean, own) = (p.mean(), *n as f64);
                // The others are not exact: their share of the error is taken off, where it is a straight sum.
                let exact = 1.0 / (1.0 + own / (all - own));
                let mut halves = vec![[0.0f64; 3]; truth.len()];
                for i in 0..pixels {
                    let others: [f32; 3] =
                        std::array::from_fn(|c| ((sums[i][c] - own * mean[i][c] as f64) / (all - own)) as f32);
                    let [t, m, a, b] = [others, mean[i], p.a[i], p.b[i]].map(|v| view.display(v));
                    let at = i / width / block * columns + i % width / block;
                    for c in 0..3 {
                        truth[at][c] += exact * ((m[c] - t[c]) as f64).powi(2);
                        halves[at][c] += (0.5 * (a[c] - b[c]) as f64).powi(2);
                    }
                }
                let map = p.block_grain(&judging);
                for (k, (told, halves)) in told.iter_mut().zip(&halves).enumerate() {
                    told[0] += halves.iter().copied().fold(0.0, f64::max);
                    told[1] += map.grain[k].powi(2) * map.pixels[k] as f64;
                }
            }
            // A block's noise is that of its worst channel.
            let truth: Vec<f64> = truth.iter().map(|t| t.iter().copied().fold(0.0, f64::max)).collect();
            let ratio = |k: usize| (told.iter().map(|t| t[k]).sum::<f64>() / truth.iter().sum::<f64>()).sqrt();
            print!(" | {count:>3}: {:.2} → {:.2}", ratio(0), ratio(1));
        }
        println!();
    }
}

/// Time with parts kept against time without, in turn.
fn cost(subjects: &[Subject]) {
    println!("\nkeeping parts and lights: time of a sample against none kept, medians of 5 pairs; bytes a pixel");
    for s in subjects {
        let t = fixed(&s.tuning, 64);
        let pairs = (0..5).map(|_| {
            let of = |parts: bool| {
                let r = rendered(s, &t.clone().with(K::DeliveryParts, parts));
                (r.report().processor_seconds, r.bytes_per_pixel())
            };
            let ((with, bytes), (without, _)) = (of(true), of(false));
            (with / without, bytes)
        });
        let pairs: Vec<_> = pairs.collect();
        let ratio = median(pairs.iter().map(|p| p.0).collect());
        println!("{:<26} {:+.1} % {:>6} B", s.name, 100.0 * (ratio - 1.0), pairs[0].1);
    }
}

/// Renders of several seeds.
struct Seeds {
    /// Errors of blocks, their spread over the seeds on the display: the largest of all, which is too large by what the seeds
    /// leave unknown, and the more so the more blocks are nearly as bad; the worst block, and the worst hundredth of them,
    /// chosen by one half of the seeds and measured by the other.
    worst: [f64; 3],
    /// Errors of the blocks of the spread superblocks.
    errors: Vec<f64>,
    /// Processor seconds of a sample, and samples a pixel of the spread superblocks.
    each: f64,
    samples: f64,
}

fn large(s: &Subject) -> Tuning {
    s.tuning.clone().with(K::FrameWidth, LARGE.0).with(K::FrameHeight, LARGE.1)
}

/// Some superblocks of a large frame.
fn in_squares(s: &Subject, tuning: &Tuning, squares: &[usize]) -> Render {
    rendered_as(s, tuning, |render| render.only(Scope::Squares(squares.iter().copied().collect())))
}

/// Superblocks all over a large frame.
fn scattered(s: &Subject, tuning: &Tuning) -> Render {
    in_squares(s, tuning, &spread())
}

fn spread() -> Vec<usize> {
    let all = LARGE.0.div_ceil(SUPERBLOCK) * LARGE.1.div_ceil(SUPERBLOCK);
    // The golden ratio's multiples are spread evenly.
    (0..SQUARES).map(|i| (((i as f64 + 0.5) * 0.618_033_988_749_895).fract() * all as f64) as usize).collect()
}

/// The superblock of a pixel of a large frame.
fn square_of(x: u32, y: u32) -> usize {
    (y / SUPERBLOCK * LARGE.0.div_ceil(SUPERBLOCK) + x / SUPERBLOCK) as usize
}

/// Superblocks with the worst blocks of a large frame, by a short render of all of it with a seed of its own.
fn with_the_worst(s: &Subject, large: &Tuning) -> Vec<usize> {
    let tuning = fixed(large, 16).with(K::SamplingSeed, 99);
    let map = rendered(s, &tuning).plate().block_grain(&describe(s, &tuning).judging());
    let mut blocks: Vec<usize> = (0..map.grain.len()).collect();
    blocks.sort_by(|a, b| map.grain[*b].total_cmp(&map.grain[*a]));
    let mut squares: Vec<usize> = Vec::new();
    for place in blocks.into_iter().map(|k| map.place(k)) {
        let square = square_of(place.x, place.y);
        if !squares.contains(&square) {
            squares.push(square);
        }
    }
    squares.truncate(WORST);
    squares
}

fn over_seeds(s: &Subject, tuning: &Tuning, with: &[usize], seeds: u32) -> Seeds {
    let view = describe(s, tuning).view();
    let (columns, pixels) = (LARGE.0.div_ceil(8) as usize, (LARGE.0 * LARGE.1) as usize);
    let spread = spread();
    let squares = [&spread, with].concat();
    let is_spread = |x: u32, y: u32| spread.contains(&square_of(x, y));
    // Of both halves of the seeds.
    let mut sums = vec![[[[0.0f64; 2]; 3]; 2]; pixels];
    let mut seen = vec![false; pixels];
    let (mut each, mut samples) = (0.0, 0.0);
    for seed in 0..seeds {
        let render = in_squares(s, &tuning.clone().with(K::SamplingSeed, 100 + seed), &squares);
        let (report, plate) = (render.report(), render.plate());
        each += report.processor_seconds / report.samples as f64 / seeds as f64;
        seen.iter_mut().zip(&plate.samples).for_each(|(seen, n)| *seen = *n > 0);
        let of_spread = (0..pixels as u32).filter(|i| is_spread(i % LARGE.0, i / LARGE.0));
        let counts: Vec<f64> = of_spread.map(|i| plate.samples[i as usize] as f64).collect();
        samples += counts.iter().sum::<f64>() / counts.len() as f64 / seeds as f64;
        for ((sum, colour), _) in sums.iter_mut().zip(plate.mean()).zip(&seen).filter(|(_, seen)| **seen) {
            for (sum, v) in sum[seed as usize % 2].iter_mut().zip(view.display(colour)) {
                *sum = [sum[0] + v as f64, sum[1] + (v as f64).powi(2)];
            }
        }
    }
    let count = columns * LARGE.1.div_ceil(8) as usize;
    let block_of = |i: usize| i / LARGE.0 as usize / 8 * columns + i % LARGE.0 as usize / 8;
    // Mean variance of the pixels of each block over some seeds, of the worst channel; none where nothing was rendered.
    let variances = |halves: &[usize], only: &dyn Fn(usize) -> bool| -> Vec<f64> {
        let n: u32 = halves.iter().map(|h| (seeds + 1 - *h as u32) / 2).sum();
        let mut blocks = vec![([0.0f64; 3], 0.0f64); count];
        for (i, sums) in sums.iter().enumerate().filter(|(i, _)| seen[*i] && only(*i)) {
            let block = &mut blocks[block_of(i)];
            for (c, variance) in block.0.iter_mut().enumerate() {
                let [sum, squares] = [0, 1].map(|k| halves.iter().map(|h| sums[*h][c][k]).sum::<f64>());
                *variance += (squares - sum * sum / n as f64) / (n - 1) as f64;
            }
            block.1 += 1.0;
        }
        blocks.iter().filter(|b| b.1 > 0.0).map(|(v, n)| v.iter().copied().fold(0.0, f64::max) / n).collect()
    };
    let all = |_: usize| true;
    let largest = variances(&[0, 1], &all).into_iter().fold(0.0, f64::max);
    let halves = [variances(&[0], &all), variances(&[1], &all)];
    let spread = |i: usize| is_spread(i as u32 % LARGE.0, i as u32 / LARGE.0);
    let errors = variances(&[0, 1], &spread).into_iter().map(f64::sqrt).collect();
    // Variance by one half of the blocks that are worst by the other.
    let across = |share: usize| -> f64 {
        let of = |by: &[f64], measured: &[f64]| {
            let mut order: Vec<usize> = (0..by.len()).collect();
            order.sort_by(|a, b| by[*b].total_cmp(&by[*a]));
            order.truncate((by.len() / share).max(1));
            order.iter().map(|k| measured[*k]).sum::<f64>() / order.len() as f64
        };
        0.5 * (of(&halves[0], &halves[1]) + of(&halves[1], &halves[0]))
    };
    Seeds { worst: [largest, across(usize::MAX), across(100)].map(f64::sqrt), errors, each, samples }
}

/// Adaptive against uniform sampling: time at an equal worst block of the frame, at an equal worst hundredth of the blocks, and
/// at an equal largest error as measured, which speaks against adaptive sampling: of many equal blocks the largest is the one
/// that is known worst, and uniform sampling has few blocks to choose it from.
fn adaptive(subjects: &[Subject], noises: &[u32], seeds: u32) {
    println!(
        "\nadaptive against uniform sampling, {SQUARES} superblocks of {}×{} and {WORST} with its worst blocks, {seeds} seeds: uniform samples with as good a worst block; share of the time (with as good a worst hundredth; with as small a largest error as measured); the share that perfect knowledge of each block would leave",
        LARGE.0, LARGE.1
    );
    for (s, noise) in subjects.iter().flat_map(|s| noises.iter().map(move |n| (s, *n))) {
        let large = large(s);
        let threshold = scattered(s, &fixed(&large, noise)).report().grain;
        let with = with_the_worst(s, &large);
        let own = large.clone().with(K::SamplingThreshold, threshold).with(K::SamplingMost, MOST);
        let ours = over_seeds(s, &own, &with, seeds);
        let goals = ours.worst;
        let (mut needs, mut perfect) = ([f64::NAN; 3], f64::NAN);
        let (mut before, mut each): (Option<Seeds>, _) = (None, 0.0);
        let told = |what: &str, r: &Seeds| {
            let [largest, worst, hundredth] = r.worst.map(|e| 100.0 * e);
            eprintln!(
                "    {what} {:.1} spp of {:.2} µs: worst block {worst:.3} %, hundredth {hundredth:.3} %, largest {largest:.3} %",
                r.samples,
                1e6 * r.each
            );
        };
        told("adaptive", &ours);
        // From where uniform sampling would be the better one; three times the samples are enough to tell a gain.
        for n in (-1..=4).map(|k| (ours.samples * 1.3f64.powi(k)) as u32) {
            let now = over_seeds(s, &fixed(&large, n), &with, seeds);
            told("uniform", &now);
            each = now.each;
            for (k, need) in needs.iter_mut().enumerate() {
                let (e, goal) = (now.worst[k], goals[k]);
                if need.is_nan() && e <= goal {
                    // Between two counts on a straight line of logarithms.
                    *need = before.as_ref().map_or(n as f64, |then| {
                        let x = (then.worst[k] / goal).ln() / (then.worst[k] / e).ln();
                        then.samples * (now.samples / then.samples).powf(x)
                    });
                }
            }
            // Every block with as many samples as it needs for the error of the worst hundredth, by how errors fall here.
            if let Some(then) = &before {
                let fall = (now.worst[2] / then.worst[2]).ln() / (then.samples / now.samples).ln();
                let needed = now.errors.iter().map(|e| (e / now.worst[2]).powf(1.0 / fall));
                perfect = 100.0 * needed.sum::<f64>() / now.errors.len() as f64;
                eprintln!("    errors fall with the {fall:.2}th power, perfect knowledge leaves {perfect:.0} %");
            }
            before = Some(now);
            if needs.iter().all(|n| !n.is_nan()) {
                break;
            }
        }
        let last = before.map_or(0.0, |r| r.samples);
        let share = |n: f64| {
            let of = |n: f64| 100.0 * ours.samples * ours.each / (n * each);
            if n.is_nan() { format!("below {:.0} %", of(last)) } else { format!("{:.0} %", of(n)) }
        };
        println!(
            "{:<26} threshold {:.2} %, worst block {:.2} %: {:>5.0} spp, uniform {:>5.0} → {} ({}; {}) of the time, at best {perfect:.0} %",
            s.name,
            100.0 * threshold,
            100.0 * goals[1],
            ours.samples,
            needs[1],
            share(needs[1]),
            share(needs[2]),
            share(needs[0]),
        );
    }
}

/// How much of the light stopping loses: mean of adaptive against that of the same seed with the counts of the next one's, which
/// know nothing of its samples and so lose nothing, but are nearly the same samples; with its standard error.
fn bias(subjects: &[Subject], seeds: u32) {
    println!(
        "\nlight lost by stopping, {}×{}: mean of adaptive against the same seeds with one another's counts, {seeds} seeds, with its standard error",
        LARGE.0, LARGE.1
    );
    for s in subjects {
        let large = large(s);
        let threshold = scattered(s, &fixed(&large, 64)).report().grain;
        let t = large.clone().with(K::SamplingThreshold, threshold).with(K::SamplingMost, 256);
        let of = |seed: u32| t.clone().with(K::SamplingSeed, 100 + seed);
        let light = |r: &Render| r.plate().mean().iter().map(|c| picture::luminance(*c) as f64).sum::<f64>();
        let own: Vec<(f64, Plan)> = (0..seeds)
            .map(|seed| {
                let render = rendered(s, &of(seed));
                (light(&render), render.plan())
            })
            .collect();
        let others: Vec<f64> = (0..seeds)
            .map(|seed| {
                let plan = own[(seed as usize + 1) % own.len()].1.clone();
                light(&rendered_as(s, &of(seed), |render| render.follow(plan).expect("a plan of this frame")))
            })
            .collect();
        let level = others.iter().sum::<f64>() / seeds as f64;
        let lost: Vec<f64> = own.iter().zip(&others).map(|(a, b)| 100.0 * (a.0 - b) / level).collect();
        let mean = lost.iter().sum::<f64>() / seeds as f64;
        let spread = lost.iter().map(|l| (l - mean).powi(2)).sum::<f64>() / (seeds - 1) as f64;
        println!("{:<26} {mean:+.3} % ± {:.3}", s.name, (spread / seeds as f64).sqrt());
    }
}

/// Prices against renders of the step itself: share of the sampling time that it saves, of knobs whose ids contain a word. Splits
/// with their intervals, and with trials, too; what they come to is the mean of several seeds, for another count of rays is another
/// pattern of noise, and small frames end by chance some percent sooner or later.
fn step_prices(subjects: &[Subject], of: &str) {
    println!(
        "\nprices: share of the sampling time that the step saves, foretold and as rendered (rays of each kind times what they cost; \
         splits by the clock), and of splits foretold by trials"
    );
    for s in subjects {
        let t = s.tuning.clone().with(K::DepthTotal, 6).with(K::SplitDirect, 3);
        let noise = rendered(s, &fixed(&t, 64)).report().grain;
        let t = t.with(K::SamplingThreshold, noise).with(K::SamplingMost, 256);
        let render = rendered(s, &t);
        let (report, counts) = (render.report(), render.counts());
        let d = describe(s, &t);
        let machine = Machine::default();
        let test = Measured { description: &d, counts: &counts, report: &report, pilot: None, others: 0.0, also: &[] };
        let whole = advice::forecast(test, &t, None, &machine).expect("a forecast").sampling;
        let pilot = trial_renders(s, &t);
        let with_trials = prices(Measured { pilot: Some(&pilot), ..test }, &t, &machine);
        for p in prices(test, &t, &machine).into_iter().filter(|p| p.knob.contains(of)) {
            let next = t.changed(&[(p.knob.to_string(), serde_json::json!(p.step))].into()).expect("a step");
            let then = rendered(s, &next).report();
            let split = p.knob.starts_with("split");
            // Rays of each kind times what they cost: clocks are too coarse for a few percent. But rays of one kind do not all cost
            // the same, and those of a split are at the first hit.
            let each = if split { by_the_clock(s, &t, &next) } else { time_ratio(&report, &then) };
            let samples = |t: &Tuning| {
                let of = |seed: u32| rendered(s, &t.clone().with(K::SamplingSeed, seed)).report().samples as f64;
                (1..=8).map(of).sum::<f64>()
            };
            let more = if split { samples(&next) / samples(&t) } else { then.samples as f64 / report.samples as f64 };
            let saved = 1.0 - each * more;
            let share = |seconds: f64| 100.0 * seconds / whole;
            let told = |p: &advice::Price| match p.unsure {
                Some(unsure) => format!("{:>6.1} ± {:.1} %", share(p.seconds), share(unsure)),
                None => format!("{:>6.1} %", share(p.seconds)),
            };
            let tried = with_trials.iter().find(|q| q.knob == p.knob && split).map(told).unwrap_or_default();
            println!("{:<26} {:<20} {} {:>6.1} % {tried}", s.name, p.knob, told(&p), 100.0 * saved);
        }
    }
}

/// Time of a sample under one tuning in units of one under another: median of renders in turn.
fn by_the_clock(s: &Subject, before: &Tuning, after: &Tuning) -> f64 {
    let each = |t: &Tuning| {
        let r = rendered(s, &fixed(t, 24)).report();
        r.processor_seconds / r.samples as f64
    };
    median((0..11).map(|_| each(after) / each(before)).collect())
}

/// The renders of a pilot of trials.
fn trial_renders(s: &Subject, t: &Tuning) -> Pilot {
    let under = pilot_tuning(t);
    let sampled = |t: &Tuning| {
        let r = rendered(s, t);
        Sampled::of(r.report(), &r.plate(), &r.description().view())
    };
    let base = sampled(&under);
    let of = |changes| sampled(&under.changed(&changes).expect("a trial"));
    let tried: Vec<_> = Trials::of(&base.report, &under, 0.0, f64::INFINITY)
        .list
        .into_iter()
        .map(|(knob, to)| (knob, to.clone(), of([(knob.to_string(), serde_json::json!(to))].into())))
        .collect();
    let mut pilot = Pilot::of(&base, &under, &tried).expect("parts are kept");
    if let Some(counts) = pilot.candidate() {
        let then = of(counts.iter().map(|(k, n)| (k.to_string(), serde_json::json!(n))).collect());
        pilot.confirm(&counts, &base, &then);
    }
    pilot
}

/// How far the variances that a pilot's trials tell hold for other seeds and for twice the samples, and how much they scatter by seed
/// there: what an interval must hold beyond what one pair of renders tells of itself.
fn trials_hold(subjects: &[Subject]) {
    println!(
        "\nvariance of a camera sample after a trial, as it was told with its interval, and at 64 samples by four other seeds, with their scatter"
    );
    let (mut off, mut scatter) = (Vec::new(), Vec::new());
    for s in subjects {
        let pilot = trial_renders(s, &s.tuning);
        let under = fixed(&pilot_tuning(&s.tuning), 64);
        let each = |t: &Tuning| -> Vec<f64> {
            let of = |seed: u32| {
                rendered(s, &t.clone().with(K::SamplingSeed, seed)).report().noise.expect("parts").per_sample
            };
            (21..25).map(of).collect()
        };
        let base = each(&under);
        for t in &pilot.trials {
            let then = each(&under.changed(&[(t.knob.clone(), serde_json::json!(t.to))].into()).expect("a trial"));
            let ratios: Vec<f64> = then.iter().zip(&base).map(|(a, b)| a / b).collect();
            let mean = ratios.iter().sum::<f64>() / ratios.len() as f64;
            let spread = (ratios.iter().map(|r| (r / mean - 1.0).powi(2)).sum::<f64>() / 3.0).sqrt();
            let told = t.effect.variance;
            let unsure = t.effect.unsure / t.effect.time;
            off.push(((mean - told).abs() / unsure, (mean / told).ln()));
            scatter.push(spread);
            println!(
                "{:<20} {:<20} {:>2} → {:>2} {told:.3} ± {unsure:.3}; {mean:.3} ± {spread:.3}",
                s.name, t.knob, t.from, t.to
            );
        }
    }
    let square = |v: &mut dyn Iterator<Item = f64>| v.map(|x| x * x).sum::<f64>();
    let n = off.len() as f64;
    println!(
        "{} trials: {:.0} % inside; off by {:.3}, scatter by seed {:.3} (root mean squares)",
        off.len(),
        100.0 * off.iter().filter(|o| o.0 <= 1.0).count() as f64 / n,
        (square(&mut off.iter().map(|o| o.1)) / n).sqrt(),
        (square(&mut scatter.iter().copied()) / n).sqrt()
    );
}

/// Advice from a test of 32 samples and a pilot: time at equal grain, foretold and as it came.
fn follow_advice(subjects: &[Subject]) {
    println!("\nadvice on the default tuning: time at equal grain, foretold and as it came");
    let (mut came, mut lines) = (Vec::new(), (0, 0, 0));
    for s in subjects {
        let t = fixed(&s.tuning, 32);
        let render = rendered(s, &t);
        let (report, counts) = (render.report(), render.counts());
        let d = describe(s, &t);
        let test = Measured { description: &d, counts: &counts, report: &report, pilot: None, others: 0.0, also: &[] };
        let (mut next, mut foretold, mut titles) = (t.clone(), 1.0, Vec::new());
        // Other seeds than the pilot's; the quicker of two runs each, taken in turn, for others only disturb.
        let came_of = |next: &Tuning| {
            let mut sums = [(f64::INFINITY, 0.0f64); 2];
            for seed in [11, 12] {
                for (sum, tuning) in sums.iter_mut().zip([&t, next]) {
                    let r = rendered(s, &tuning.clone().with(K::SamplingSeed, seed)).report();
                    let time = r.processor_seconds / r.samples as f64;
                    *sum = (sum.0.min(time), sum.1 + r.noise.expect("parts").per_sample);
                }
            }
            let [before, after] = sums.map(|(time, variance)| time * variance);
            after / before
        };
        // A second pilot goes on where the first one ended.
        for round in 0..2 {
            let pilot = trial_renders(s, &next);
            if std::env::var_os("TRIALS").is_some() {
                let told = |t: &advice::Trial| {
                    format!("{} {} → {}: {:.2} × {:.2}", t.knob, t.from, t.to, t.effect.time, t.effect.variance)
                };
                let one_by_one = pilot.trials.iter().map(told).collect::<Vec<_>>().join("; ");
                println!("    time × variance: {one_by_one}; together {:?}", pilot.together);
            }
            let rows = advise(Measured { pilot: Some(&pilot), ..test }, &next, &Machine::default());
            for a in rows.iter().filter(|a| round == 0 && !a.changes.is_empty() && a.key != "adaptive") {
                let (e, as_it_came) = (a.effect, came_of(&t.changed(&a.changes).expect("a change")));
                let inside = (as_it_came - e.equal).abs() <= e.unsure;
                lines = (lines.0 + 1, lines.1 + inside as usize, lines.2 + (as_it_came < 1.0) as usize);
                let change = |x: f64| 100.0 * (x - 1.0);
                println!(
                    "    {:<44} {:+.1} ± {:.1} % foretold, {:+.1} % came",
                    a.title,
                    change(e.equal),
                    100.0 * e.unsure,
                    change(as_it_came)
                );
            }
            // Of several lines on splits the best one; adaptive sampling is compared by itself.
            let splits = |a: &&Advice| a.key == "splits" || a.key.starts_with("source");
            let best = rows.iter().filter(splits).min_by(|a, b| a.effect.equal.total_cmp(&b.effect.equal));
            let used: Vec<&Advice> = rows
                .iter()
                .filter(|a| !a.changes.is_empty() && a.key != "adaptive" && (!splits(a) || Some(*a) == best))
                .collect();
            for a in &used {
                next = next.changed(&a.changes).expect("a change");
                foretold *= a.effect.equal;
                titles.push(a.title.clone());
            }
            if pilot.holds_for(&next) {
                break;
            }
        }
        let ratio = came_of(&next);
        came.push(ratio);
        println!(
            "{:<26} {:+.0} % foretold, {:+.0} % came: {}",
            s.name,
            100.0 * (foretold - 1.0),
            100.0 * (ratio - 1.0),
            if titles.is_empty() { "nothing to change".into() } else { titles.join("; ") }
        );
    }
    let (all, inside, paid) = lines;
    println!(
        "median {:+.0} %; of {all} lines {inside} inside their interval, {paid} saved time",
        100.0 * (median(came) - 1.0)
    );
}

fn main() {
    let mut words = std::env::args().skip(1);
    let (word, folder) = (words.next().unwrap_or_default(), words.next());
    let mut subjects = demo_subjects();
    if let Some(folder) = folder {
        subjects.extend(open_subjects(Path::new(&folder)));
    }
    let want = |w: &str| word.is_empty() || word == "causes" || word == w;
    if want("cost") {
        cost(&subjects);
    }
    if want("noise") {
        noise(&subjects);
        noise(&lamp_subjects());
    }
    // Against long renders: the demo's scenes alone, or one of them.
    let only = std::env::var("SCENE").unwrap_or_default();
    let number = |name: &str| std::env::var(name).ok().and_then(|n| n.parse().ok());
    let seeds = number("SEEDS").unwrap_or(24);
    let noises = number("NOISE").map_or(NOISES.to_vec(), |n| vec![n]);
    let mut demo = demo_subjects();
    demo.retain(|s| s.name.contains(&only));
    if want("adaptive") {
        adaptive(&demo, &noises, seeds);
    }
    if want("bias") {
        bias(&demo, seeds);
    }
    if want("prices") {
        step_prices(&subjects, &std::env::var("KNOB").unwrap_or_default());
    }
    if want("trials") {
        trials_hold(&subjects);
        trials_hold(&trial_subjects());
    }
    if want("advice") {
        follow_advice(&subjects);
    }
}
