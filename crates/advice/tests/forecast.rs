//! The forecast against what then really happened, in samples, which do not depend on the machine's mood.

use advice::{Machine, Measured, forecast};
use picture::Region;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tracer::{Description, Render, Stage, own_pool};
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

#[test]
fn a_short_test_of_the_frame_foretells_the_samples_of_the_final() {
    let stage = stage();
    let short = run(&stage, &tuned(16, 0.05), None);
    let (counts, report) = (short.save().counts, short.report());
    for (most, threshold) in [(256, 0.05), (128, 0.10), (64, 0.02)] {
        let wanted = tuned(most, threshold);
        let measured = Measured { description: short.description(), counts: &counts, report: &report };
        let f = forecast(measured, &wanted, None, &Machine::default()).unwrap();
        let actual = run(&stage, &wanted, None).report();
        let error = f.samples_per_pixel / actual.samples_per_pixel - 1.0;
        assert!(
            error.abs() < 0.12,
            "at {most}, {threshold}: {} foretold, {} taken",
            f.samples_per_pixel,
            actual.samples_per_pixel
        );
        assert!(f.measured && f.needs_test.is_empty() && f.low < f.seconds && f.seconds < f.high);
        let sum: f64 = f.causes.iter().map(|c| c.seconds).sum();
        assert!((sum - f.seconds).abs() < 1e-9);
    }
}

#[test]
fn what_is_extrapolated_or_unknown_is_said() {
    let stage = stage();
    let region = Region { x: 40, y: 30, width: 40, height: 30 };
    let part = run(&stage, &tuned(16, 0.05), Some(region));
    let (counts, report) = (part.save().counts, part.report());
    let measured = Measured { description: part.description(), counts: &counts, report: &report };
    let of = |t: &Tuning| forecast(measured, t, None, &Machine::default()).unwrap();
    let same = of(&tuned(64, 0.05));
    assert!(!same.measured && (same.seen - 1200.0 / 12288.0).abs() < 1e-9);
    let wide = |f: &advice::Forecast| (f.high - f.low) / f.seconds;
    let whole = run(&stage, &tuned(16, 0.05), None);
    let (counts, report) = (whole.save().counts, whole.report());
    let seen = forecast(
        Measured { description: whole.description(), counts: &counts, report: &report },
        &tuned(64, 0.05),
        None,
        &Machine::default(),
    )
    .unwrap();
    assert!(wide(&same) > wide(&seen), "a region is less sure than the frame");
    assert_eq!(of(&tuned(64, 0.05).with(K::DepthTotal, 3)).needs_test, ["depth.total"]);
    // Twice the pixels, twice the sampling; uniform sampling takes the most everywhere.
    let twice = of(&tuned(64, 0.05).with(K::FrameHeight, 192));
    assert!((twice.causes[2].seconds / same.causes[2].seconds - 2.0).abs() < 1e-6);
    assert_eq!(of(&tuned(64, 0.05).with(K::SamplingAdaptive, false)).samples_per_pixel, 64.0);
}
