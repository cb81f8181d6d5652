//! The forecast against what then really happened, in samples, which do not depend on the machine's mood.

use advice::{Forecast, Machine, Measured, Trust, Wanted, denoised, fit, fit_denoised, forecast};
use picture::Region;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tracer::{Description, PilotRun, Render, RenderReport, SavedCounts, SplitKind, Stage, own_pool};
use tuning::{K, Tuning};

fn stage() -> Arc<Stage> {
    let scene = scene::read_glb(&demo::lens_cabinet(), "cabinet").unwrap();
    let sky = scene::Environment::read(&demo::tarnfell_dusk(), "sky").unwrap();
    Arc::new(Stage::new(Arc::new(scene), Some(Arc::new(sky))))
}

fn run(stage: &Arc<Stage>, tuning: &Tuning, region: Option<Region>) -> Render {
    let d = Description { region, ..Description::new("", None, "Front", tuning.clone()) };
    let mut render = Render::new(stage.clone(), d, Arc::new(own_pool(2).unwrap()), false).unwrap();
    while render.step(&AtomicBool::new(false)) {}
    render
}

fn tuned(most: u32, threshold: f64) -> Tuning {
    Tuning::default()
        .with(K::FrameWidth, 128)
        .with(K::FrameHeight, 96)
        .with(K::SamplingLeast, 8)
        .with(K::SamplingMost, most)
        .with(K::SamplingThreshold, threshold)
        .with(K::SplitDirect, 1)
        // The view by which the demo judges this scene.
        .with(K::ViewExposure, 1.0)
}

/// What a render has measured.
struct Tested {
    description: Description,
    counts: SavedCounts,
    report: RenderReport,
}

impl Tested {
    fn of(render: &Render) -> Tested {
        Tested { description: render.description().clone(), counts: render.counts(), report: render.report() }
    }

    /// The same as it would be judged at another tuning.
    fn judged_as(render: &Render, tuning: &Tuning) -> Tested {
        let description = render.description().judged_as(tuning);
        let counts = render.judged_by(&description.judging(), usize::MAX);
        Tested { description, counts, ..Tested::of(render) }
    }

    fn measured(&self) -> Measured<'_> {
        Measured {
            description: &self.description,
            counts: &self.counts,
            report: &self.report,
            pilot: None,
            others: 0.0,
            also: &[],
        }
    }

    fn forecast(&self, tuning: &Tuning) -> Forecast {
        forecast(self.measured(), tuning, None, &Machine::default()).unwrap()
    }
}

/// Whether the interval holds, in samples, which the machine's mood does not change.
fn holds(f: &Forecast, samples_per_pixel: f64) -> bool {
    let (low, high) = ((f.low - f.seconds) / f.sampling, (f.high - f.seconds) / f.sampling);
    (low..=high).contains(&(samples_per_pixel / f.samples_per_pixel - 1.0))
}

#[test]
fn a_pilot_foretells_the_samples_of_the_final_and_a_short_test_its_interval() {
    let stage = stage();
    let short = Tested::of(&run(&stage, &tuned(16, 0.05), None));
    for (most, threshold) in [(256, 0.05), (128, 0.10), (64, 0.02)] {
        let wanted = tuned(most, threshold);
        let d = Description::new("", None, "Front", wanted.clone());
        let mut render = Render::new(stage.clone(), d, Arc::new(own_pool(2).unwrap()), false).unwrap();
        // Half of the superblocks, however busy the machine is.
        let mut pilot = PilotRun::new(&mut render, 1e6);
        while pilot.step(&mut render, &AtomicBool::new(false)) && pilot.deep() <= 6 {}
        let f = Tested::of(&render).forecast(&wanted);
        let actual = run(&stage, &wanted, None).report();
        let error = f.samples_per_pixel / actual.samples_per_pixel - 1.0;
        let told = |f: &Forecast| format!("{} foretold, {}", f.samples_per_pixel, actual.samples_per_pixel);
        assert!(error.abs() < 0.12, "pilot at {most}, {threshold}: {}", told(&f));
        assert!(f.needs_test.is_empty() && f.low < f.seconds && f.seconds < f.high);
        let sum: f64 = f.causes.iter().map(|c| c.seconds).sum();
        assert!((sum - f.seconds).abs() < 1e-9);

        // Few samples everywhere.
        let f = short.forecast(&wanted);
        assert!(f.measured && holds(&f, actual.samples_per_pixel), "test at {most}, {threshold}: {}", told(&f));
    }
}

/// Under a coarser threshold, more least or fewer most samples a final takes the same samples up to where its blocks end, which they
/// remember: what is foretold comes, to the sample. After fixed counts other blocks have gone on, which the floor knows.
#[test]
fn what_would_have_ended_sooner_is_known_to_the_sample() {
    let stage = stage();
    let small = |t: Tuning| t.with(K::FrameWidth, 96).with(K::FrameHeight, 64);
    let of = |most: u32, threshold: f64| small(tuned(most, threshold));
    let test = Tested::of(&run(&stage, &of(128, 0.07), None));
    let fixed = Tested::of(&run(&stage, &of(128, 0.07).with(K::SamplingAdaptive, false), None));
    for wanted in [of(128, 0.1), of(128, 0.16), of(96, 0.12).with(K::SamplingLeast, 16)] {
        let came = run(&stage, &wanted, None).report().samples_per_pixel;
        let told = |test: &Tested| test.forecast(&wanted).samples_per_pixel;
        assert!((told(&test) / came - 1.0).abs() < 1e-9, "{} foretold, {came} came", told(&test));
        assert!(test.forecast(&wanted).counted);
        assert!((told(&fixed) / came - 1.0).abs() < 0.02, "{} foretold by fixed counts, {came} came", told(&fixed));
        assert!(came < 0.95 * test.report.samples_per_pixel, "{came} of {}", test.report.samples_per_pixel);
    }
    // What lies beyond the samples is extrapolated, and says so.
    assert!(!test.forecast(&of(128, 0.04)).counted && !fixed.forecast(&of(256, 0.05)).counted);
}

#[test]
fn what_is_extrapolated_or_unknown_is_said() {
    let stage = stage();
    let region = Region { x: 40, y: 30, width: 40, height: 30 };
    let part = Tested::of(&run(&stage, &tuned(16, 0.05), Some(region)));
    let of = |t: &Tuning| part.forecast(t);
    let same = of(&tuned(64, 0.05));
    // Four superblocks that the region touches are rendered whole.
    assert!(!same.measured && (same.seen - 4096.0 / 12288.0).abs() < 1e-9);
    let wide = |f: &Forecast| f.high / f.seconds;
    let seen = Tested::of(&run(&stage, &tuned(16, 0.05), None)).forecast(&tuned(64, 0.05));
    assert!(wide(&same) > wide(&seen), "a region is less sure than the frame");
    // Another denoiser leaves another grain, where grain is judged after it.
    let denoised = |t: Tuning| of(&t.with(K::CleanupDenoise, "quick")).needs_test;
    assert_eq!(denoised(tuned(64, 0.05)), ["cleanup.denoise"]);
    // What fewer bounces save is known from the ledger, what more would take is not.
    let depth = |n: u32| of(&tuned(64, 0.05).with(K::DepthTotal, n));
    assert_eq!(depth(60).needs_test, ["depth.total"]);
    assert!(depth(3).needs_test.is_empty() && depth(3).sampling < 0.9 * same.sampling);
    // Twice the pixels, twice the sampling; uniform sampling takes the most everywhere.
    let twice = of(&tuned(64, 0.05).with(K::FrameHeight, 192));
    assert!((twice.causes[2].seconds / same.causes[2].seconds - 2.0).abs() < 1e-6);
    assert_eq!(of(&tuned(64, 0.05).with(K::SamplingAdaptive, false)).samples_per_pixel, 64.0);
    // Where other work took half of the processors it may go on or not: the final takes as long as alone, or twice that.
    let mut report = part.report.clone();
    report.seconds = report.processor_seconds + report.judging_seconds;
    let with = |others: f64| {
        let test = Measured { report: &report, others, ..part.measured() };
        forecast(test, &tuned(64, 0.05), None, &Machine::default()).unwrap()
    };
    let (beside, waited) = (with(0.5), with(0.0));
    assert!((waited.sampling / beside.sampling - 2.0).abs() < 0.02, "{beside:?}");
    assert!((beside.beside / waited.seconds - 1.0).abs() < 0.02 && waited.beside == waited.seconds, "{beside:?}");
    // The processor time is the same, whoever else takes the processors.
    assert!((beside.processor / waited.processor - 1.0).abs() < 0.02, "{beside:?} {waited:?}");
    assert!(beside.high > beside.beside && beside.low < beside.seconds, "{beside:?}");
}

/// More rays at the first hit: what they take is known from the ledger, what they bring only roughly, and the interval says so.
#[test]
fn splits_are_foretold_without_a_trial() {
    let stage = stage();
    let test = Tested::of(&run(&stage, &tuned(64, 0.05), None));
    let of = |t: &Tuning| test.forecast(t);
    let even = |split: u32| tuned(16, 0.05).with(K::SamplingAdaptive, false).with(K::SplitDirect, split);
    let foretold = of(&even(4)).sampling / of(&even(1)).sampling;
    let row = test.report.ledgers.splits.iter().find(|s| s.kind == SplitKind::Direct).unwrap();
    assert!((foretold / (1.0 + 3.0 * row.time) - 1.0).abs() < 0.01, "{foretold} foretold, {row:?}");
    // In truth too all that is added is the first hit's own light rays. What they take by the clock is the benchmarks' matter.
    let rays = |split: u32| {
        let table = run(&stage, &even(split), None).report().ledgers.depth.swap_remove(0);
        table.rows.iter().map(|r| r.rays as f64).collect::<Vec<_>>()
    };
    let (one, four) = (rays(1), rays(4));
    let alike = |n: usize| (four[n] / one[n] - 1.0).abs() < 0.01;
    assert!(four[1] > 1.5 * one[1] && alike(0) && (2..6).all(alike), "{one:?} {four:?}");
    // Where all pixels take the most, noise takes no time: four rays are as surely foretold as one.
    let wide = |f: &Forecast| (f.high - f.seconds) / f.sampling;
    assert!((wide(&of(&even(4))) / wide(&of(&even(1))) - 1.0).abs() < 1e-6);
    let wanted = tuned(256, 0.05).with(K::SplitDirect, 4);
    let (one, four) = (of(&tuned(256, 0.05)), of(&wanted));
    assert!(four.needs_test.is_empty() && four.samples_per_pixel < one.samples_per_pixel);
    let actual = run(&stage, &wanted, None).report().samples_per_pixel;
    assert!(holds(&four, actual), "{} foretold, {actual} came", four.samples_per_pixel);
}

/// A test without a denoiser keeps both halves: they say what a final with one will need, without another render.
#[test]
fn a_test_judged_anew_foretells_a_final_that_is_cleaned_up() {
    let stage = stage();
    let render = run(&stage, &tuned(64, 0.05), None);
    let plain = Tested::of(&render);
    for method in ["quick", "careful"] {
        let wanted = tuned(256, 0.04).with(K::CleanupDenoise, method);
        let test = Tested::judged_as(&render, &wanted);
        let f = test.forecast(&wanted);
        let came = run(&stage, &wanted, None).report();
        // Its end is estimated, also where it lies among the samples.
        assert!(f.needs_test.is_empty() && f.measured && !f.counted);
        let told = format!("{method}: {} foretold, {} came", f.samples_per_pixel, came.samples_per_pixel);
        let noisy = plain.forecast(&tuned(256, 0.04)).samples_per_pixel;
        assert!(f.samples_per_pixel < 0.9 * noisy, "{told}, {noisy} without");
        assert!(holds(&f, came.samples_per_pixel), "{told}");
        // Of a few superblocks it says less surely the same.
        let few = Tested { counts: render.judged_by(&test.description.judging(), 6), ..test };
        let part = few.forecast(&wanted);
        let surer = |f: &Forecast| (f.high - f.low) / f.seconds;
        assert!(!part.measured && surer(&part) > surer(&f), "{method}: {} and {}", surer(&part), surer(&f));
        assert!(part.low < f.seconds && f.seconds < part.high, "{method}: {} s, of all {} s", part.seconds, f.seconds);
        assert!((f.grain / came.grain - 1.0).abs() < 0.15, "{method}: grain {} foretold, {} came", f.grain, came.grain);
    }
    // A fit that may use a denoiser leaves less grain in the same time, and says what the denoiser has to do with that.
    let (now, machine) = (tuned(64, 0.05), Machine::default());
    let cleaned = Tested::judged_as(&render, &denoised(&now).unwrap());
    let seconds = 2.0 * plain.forecast(&now).seconds;
    let to = |without: Vec<String>| {
        let wanted = Wanted { denoise: true, without, ..Wanted::default() };
        fit_denoised(plain.measured(), cleaned.measured(), &now, &machine, seconds, &wanted).unwrap()
    };
    let (with, without) = (to(vec![]), to(vec!["cleanup.denoise".into()]));
    let row = |f: &advice::Fit| f.rows.iter().find(|r| r.key == "cleanup.denoise").unwrap().clone();
    assert!(with.fits && without.fits && with.then.grain < 0.9 * without.then.grain);
    assert!(row(&with).taken && row(&with).grain < 0.0 && with.changes["cleanup.denoise"] == "quick");
    assert!(!row(&without).taken && !without.changes.contains_key("cleanup.denoise"));
    assert!(adds_up(&with) && adds_up(&without));
}

/// Prices of the rows that are taken lead from what is to what would be.
fn adds_up(f: &advice::Fit) -> bool {
    let taken = || f.rows.iter().filter(|r| r.taken);
    let (seconds, grain) = (taken().map(|r| r.seconds).sum::<f64>(), taken().map(|r| r.grain).sum::<f64>());
    let near = |a: f64, b: f64| (a - b).abs() < 1e-6;
    taken().count() > 0 && near(seconds, f.then.seconds - f.now.seconds) && near(grain, f.then.grain - f.now.grain)
}

/// A frame of 2688 × 1792 pixels that is the same 96 superblocks 49 times over: what a fit finds there from a few of them it finds
/// from all of the small frame, and what it says holds for all.
#[test]
fn a_fit_on_a_large_frame_is_that_of_all_its_superblocks() {
    const TIMES: u32 = 7;
    let small = tuned(12, 0.05).with(K::FrameWidth, 384).with(K::FrameHeight, 256);
    let large = small.clone().with(K::FrameWidth, 384 * TIMES).with(K::FrameHeight, 256 * TIMES);
    let test = Tested::of(&run(&stage(), &small, None));
    let (columns, rows) = (12, 8);
    let (all, copies) = ((columns * rows * TIMES * TIMES) as usize, (TIMES * TIMES) as f64);
    let wide = |i: usize| (i as u32 / (columns * TIMES) % rows * columns + i as u32 % columns) as usize;
    let tiles = (0..all).map(|i| test.counts.tiles[wide(i)].clone()).collect();
    let counts = SavedCounts { tiles, ..test.counts.clone() };
    let report = RenderReport {
        seconds: copies * test.report.seconds,
        processor_seconds: copies * test.report.processor_seconds,
        judging_seconds: copies * test.report.judging_seconds,
        samples: TIMES as u64 * TIMES as u64 * test.report.samples,
        ..test.report.clone()
    };
    let description = Description::new("", None, "Front", large.clone());
    let copied = Measured { description: &description, counts: &counts, report: &report, ..test.measured() };
    let machine = Machine { start: 0.0, ..Machine::default() };
    let now = |t: &Tuning| t.clone().with(K::SamplingThreshold, 0.09);
    let seconds = forecast(copied, &now(&large), None, &machine).unwrap().seconds;
    let plain = forecast(test.measured(), &now(&small), None, &machine).unwrap().seconds;
    assert!((seconds / plain / copies - 1.0).abs() < 1e-3, "{seconds} {plain}");
    for times in [0.85, 2.0, 8.0] {
        let wanted = Wanted::default();
        let by_few = fit(copied, &now(&large), &machine, times * seconds, &wanted).unwrap();
        let by_all = fit(test.measured(), &now(&small), &machine, times * plain, &wanted).unwrap();
        assert!((by_few.threshold / by_all.threshold - 1.0).abs() < 0.03, "{} {}", by_few.threshold, by_all.threshold);
        // Most samples go in steps of a third: one step more or less is a few hundredths of the time, and is worth it or not.
        let longer = by_few.then.seconds / by_all.then.seconds / copies;
        let grainier = by_few.then.grain / by_all.then.grain;
        assert!((longer - 1.0).abs() < 0.08, "{times}: {longer} {by_few:?}");
        assert!((longer * grainier.powi(2) - 1.0).abs() < 0.03, "{times}: {longer} {grainier} {by_few:?}");
        assert!(by_few.fits && adds_up(&by_few) && by_few.then.seen == 1.0, "{times}: {by_few:?}");
        for (a, b) in by_few.curve.iter().zip(&by_all.curve) {
            assert!((a.seconds / b.seconds / copies - 1.0).abs() < 0.05, "{times}: {a:?} {b:?}");
        }
    }
}

/// The history of a machine: forecasts that came out a fifth too low are corrected, the more the more of them there are.
#[test]
fn finals_correct_later_forecasts() {
    let none = Trust::from(&[]);
    assert_eq!((none.factor, none.finals), (1.0, 0));
    let few = Trust::from(&[1.2, 1.2]);
    let many = Trust::from(&[1.2; 20]);
    assert!(few.factor > 1.03 && few.factor < many.factor && many.factor < 1.2, "{few:?} {many:?}");
    assert!(many.spread < none.spread && Trust::from(&[0.7, 1.4, 0.8, 1.3]).spread > none.spread);
}

#[test]
fn a_fit_spends_the_budget_on_the_finest_threshold_and_says_what_helps_where_it_cannot() {
    let stage = stage();
    let test = Tested::of(&run(&stage, &tuned(32, 0.05), None));
    let measured = test.measured();
    // The shot's own threshold.
    const OWN: f64 = 0.09;
    let now = tuned(64, OWN);
    let machine = Machine::default();
    let to = |seconds: f64, wanted: Wanted| fit(measured, &now, &machine, seconds, &wanted).unwrap();
    let all = |seconds: f64| to(seconds, Wanted::default());
    let whole = forecast(measured, &now, None, &machine).unwrap().seconds;
    let (small, large) = (all(0.7 * whole), all(8.0 * whole));
    assert!(small.fits && large.fits && large.threshold < small.threshold && large.then.grain < small.then.grain);
    assert!(large.then.seconds > 0.75 * 8.0 * whole && large.then.seconds <= 8.0 * whole, "{}", large.then.seconds);
    // The changes are what was forecast: applied to the tuning they give it again.
    let taken = now.changed(&large.changes).unwrap();
    let again = forecast(measured, &taken, None, &machine).unwrap().seconds;
    assert!((again / large.then.seconds - 1.0).abs() < 1e-6, "{again} {}", large.then.seconds);
    // A row that is refused stays as it is.
    let kept = to(8.0 * whole, Wanted { without: vec!["sampling.most".into()], ..Wanted::default() });
    assert!(!kept.changes.contains_key("sampling.most") && kept.then.seconds < large.then.seconds);
    // No finer than 64 samples can make it, though the minutes would reach any.
    let finest = now.clone().with(K::SamplingThreshold, 0.0005);
    let finest = forecast(measured, &finest, None, &machine).unwrap().grain;
    assert!(kept.threshold > 0.001 && kept.then.grain < 1.01 * finest, "{} {}", kept.threshold, kept.then.grain);
    // Where most blocks never settle they are not left with the least samples.
    let endless = to(1e5 * whole, Wanted::default()).then;
    assert!(endless.settled < 0.5 && endless.samples_per_pixel > 1024.0, "{endless:?}");
    // It still says what it would be, and what that would cost on top.
    let row = kept.rows.iter().find(|r| r.key == "sampling.most").unwrap();
    let with_it = now.changed(&kept.changes).unwrap().changed(&row.changes).unwrap();
    let with_it = forecast(measured, &with_it, None, &machine).unwrap();
    assert!(!row.taken && row.seconds > 0.0, "{row:?}");
    assert!((with_it.seconds - kept.then.seconds - row.seconds).abs() < 1e-6, "{row:?} {}", with_it.seconds);
    assert!([&small, &large, &kept].into_iter().all(adds_up));
    // The curve falls, and the threshold that it was asked for comes back.
    assert!(large.curve.windows(2).all(|w| w[1].seconds <= w[0].seconds && w[1].grain >= 0.999 * w[0].grain));
    let asked = to(whole, Wanted { threshold: Some(0.03), ..Wanted::default() });
    assert!((asked.threshold - 0.03).abs() < 1e-9 && asked.then.seconds > whole);
    // A coarser one that is wanted though there is time for the own one: nothing is out of reach.
    let coarse = to(100.0 * whole, Wanted { threshold: Some(0.1), ..Wanted::default() });
    assert!(coarse.ways_out.is_empty() && coarse.threshold == 0.1, "{:?}", coarse.ways_out);
    let never = all(machine.start + 0.01);
    assert!(!never.fits && !never.ways_out.is_empty());
    // What would bring the own threshold within reach does: as many blocks settle as ever would.
    let out = &small.ways_out[0];
    let there = now.changed(&small.changes).unwrap().changed(&out.changes).unwrap();
    let f = forecast(measured, &there, None, &machine).unwrap();
    let ever = forecast(measured, &there.clone().with(K::SamplingMost, 16_384u32), None, &machine).unwrap();
    // With the budget that it names the fit finds it; with less a coarser one, or it keeps it and leaves more blocks unsettled.
    let less = all(0.9 * out.budget);
    assert!(all(out.budget).threshold <= OWN, "{out:?}");
    assert!(less.threshold > 1.02 * OWN || less.then.settled < 0.9 * f.settled, "{out:?} {less:?}");
    assert!(
        (f.seconds / out.seconds.unwrap() - 1.0).abs() < 1e-6 && there.real(K::SamplingThreshold) == OWN,
        "{out:?}"
    );
    assert!(f.settled > 0.99 * ever.settled, "{} of {}", f.settled, ever.settled);
    // Where the frame may shrink, the threshold stays and the size goes down as far as it must, but no further.
    let shrunk = to(0.7 * whole, Wanted { smaller: true, ..Wanted::default() });
    let (width, height) =
        (shrunk.changes["frame.width"].as_u64().unwrap(), shrunk.changes["frame.height"].as_u64().unwrap());
    assert!(adds_up(&shrunk));
    assert!(shrunk.fits && shrunk.threshold <= 1.02 * OWN && (width as f64 / height as f64 - 4.0 / 3.0).abs() < 0.02);
    assert!(shrunk.then.seconds > 0.6 * whole, "{} of {whole}", shrunk.then.seconds);
    let kept = Wanted { smaller: true, without: vec!["sampling.threshold".into()], ..Wanted::default() };
    assert!(to(0.7 * whole, kept).fits, "also where the threshold is kept on purpose");
    let refused = Wanted { smaller: true, without: vec!["frame.size".into()], ..Wanted::default() };
    let refused = to(0.7 * whole, refused);
    assert!(refused.then == small.then && refused.rows.iter().any(|r| r.key == "frame.size" && !r.taken));
}
