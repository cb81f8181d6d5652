//! Whatever the knobs say: what is foretold is finite, lies in its interval, and can be done.

#[path = "../../tracer/tests/common/mod.rs"]
mod common;

use advice::{Forecast, Machine, Measured, Wanted, advise, fit, forecast, prices};
use common::*;
use std::sync::Arc;
use tracer::{Description, Stage};
use tuning::{K, Tuning};

#[track_caller]
fn sound(f: &Forecast, what: &str) {
    let causes: f64 = f.causes.iter().map(|c| c.seconds).sum();
    near(causes, f.seconds, 1e-9, what);
    assert!(f.causes.iter().all(|c| c.seconds >= 0.0) && f.seconds.is_finite(), "{what}: {f:?}");
    assert!(f.low > 0.0 && f.low <= f.seconds && f.seconds <= f.high && f.high.is_finite(), "{what}: {f:?}");
    assert!(f.grain >= 0.0 && (0.0..=1.0 + 1e-9).contains(&f.settled) && f.memory > 0.0, "{what}: {f:?}");
}

#[test]
fn any_tuning_is_foretold_from_any_test() {
    let mut set = room();
    set.scene.objects = vec!["everything".into()];
    let stage = set.stage();
    let machine = Machine::default();
    let mut dice = Dice(3);
    let (mut foretold, mut priced) = (0, 0);
    for _ in 0..40 {
        let t = dice.tuning();
        let d = describe(t.clone(), None);
        if d.check().is_err() {
            continue;
        }
        let render = run(&stage, d.clone(), 2);
        let (counts, report) = (render.counts(), render.report());
        let test = Measured { description: &d, counts: &counts, report: &report, pilot: None, others: 0.0, also: &[] };
        for wanted in [t.clone(), dice.tuning(), dice.tuning()] {
            let what =
                format!("{:?} from {:?}", wanted.differences(&Tuning::default()), t.differences(&Tuning::default()));
            let f = forecast(test, &wanted, None, &machine).expect("the test has samples");
            sound(&f, &what);
            let limits = tracer::Limits::of(&wanted);
            let (least, most) = (2.0 * limits.least.min(limits.most) as f64, 2.0 * limits.most as f64);
            let samples = f.samples_per_pixel;
            assert!(samples > 0.99 * least.min(most) && samples < 1.01 * most, "{what}: {samples}, {least} to {most}");
            foretold += 1;
        }
        // Every price is that of a step which the tuning takes, and has an interval where noise decides it.
        for p in prices(test, &t, &machine) {
            assert!(p.seconds.is_finite() && p.unsure.is_none_or(|u| u >= 0.0 && u.is_finite()), "{p:?}");
            let noise_decides = p.knob.starts_with("split.") && t.switch(K::SamplingAdaptive);
            assert!(noise_decides || p.unsure.unwrap_or(0.0) == 0.0, "{p:?}");
            let next = t.changed(&[(p.knob.to_string(), serde_json::json!(p.step))].into()).expect("a step");
            assert_ne!(next, t, "{p:?}");
            priced += 1;
        }
        for a in advise(test, &t, &machine) {
            assert!(a.effect.equal.is_finite() && a.effect.equal <= 1.0, "{a:?}");
            t.changed(&a.changes).unwrap_or_else(|e| panic!("{a:?}: {e}"));
        }
        let seconds = forecast(test, &t, None, &machine).unwrap().seconds;
        for budget in [0.1 * seconds, seconds, 10.0 * seconds] {
            let f = fit(test, &t, &machine, budget, &Wanted::default()).expect("a fit");
            sound(&f.then, "fitted");
            let next = t.changed(&f.changes).expect("a fit can be taken");
            let then = forecast(test, &next, None, &machine).unwrap();
            near(then.seconds, f.then.seconds, 1e-6, "what a fit promises is what the bill says of it");
            assert!(!f.fits || f.then.seconds <= budget * 1.001, "{} of {budget}", f.then.seconds);
        }
    }
    assert!(foretold > 90 && priced > 200, "{foretold} {priced}");
}

/// Whatever the scene, the minutes and the tuning, a fit is never both slower and noisier than the shot as it is: of light that comes
/// rarely, few samples tell the grain of a block badly, and thresholds end blocks by chance.
#[test]
fn a_fit_is_never_both_slower_and_noisier() {
    let scene = |glb: Vec<u8>| Arc::new(Stage::new(Arc::new(scene::read_glb(&glb, "scene").unwrap()), None));
    let stages = [room().stage(), scene(demo::lens_cabinet()), scene(demo::denoiser_trials().pop().unwrap().1)];
    let mut dice = Dice(11);
    let mut even = 0;
    for stage in &stages {
        for _ in 0..4 {
            let t = tuning((96, 64), dice.whole(12, 48)).with(K::SamplingAdaptive, true).with(K::SamplingLeast, 8);
            let t = t.with(K::SamplingThreshold, 0.004 + 0.02 * dice.unit()).with(K::DeliveryParts, true);
            let camera = &stage.scene.cameras[0].name;
            let d = Description::new(&stage.scene.hash, None, camera, t.clone());
            let render = run(stage, d.clone(), 2);
            let (counts, report) = (render.counts(), render.report());
            let test =
                Measured { description: &d, counts: &counts, report: &report, pilot: None, others: 0.0, also: &[] };
            let shot = t.with(K::SamplingMost, 256);
            let now = forecast(test, &shot, None, &Machine::default()).unwrap();
            for times in [0.3, 0.9, 1.1, 1.3, 2.0, 6.0] {
                let f = fit(test, &shot, &Machine::default(), times * now.seconds, &Wanted::default()).unwrap();
                let (longer, noisier) = (f.then.seconds / f.now.seconds, f.then.grain / f.now.grain);
                assert!(longer < 1.01 || noisier < 1.01, "{times}: {longer} times the time, {noisier} times the grain");
                even += f.rows.iter().any(|r| r.why.contains("minutes pay for")) as usize;
            }
        }
    }
    assert!(even > 0, "some are better off with as many samples for all");
}
