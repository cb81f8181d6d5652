//! Advice on scenes for which the right advice is known beforehand.

#[path = "../../tracer/tests/common/mod.rs"]
mod common;

use advice::{Advice, Machine, Measured, Pilot, Sampled, advise, forecast, pilot_tuning};
use common::*;
use glam::Vec3;
use scene::*;
use std::sync::Arc;
use tracer::{Description, Render, Stage};
use tuning::{K, Tuning, Value};

fn advice_on(render: &Render, d: &Description) -> Vec<Advice> {
    let (counts, report) = (render.counts(), render.report());
    advise(
        Measured { description: d, counts: &counts, report: &report, pilot: None, others: 0.0, also: &[] },
        &d.tuning,
        &Machine::default(),
    )
}

fn rendered(stage: &Arc<Stage>, d: &Description) -> Render {
    run(stage, d.clone(), 2)
}

/// The largest difference of two pictures of a scene, in steps of the display's 255.
fn steps(a: &Render, b: &Render) -> f64 {
    let view = a.description().view();
    let shown = |r: &Render| r.plate().mean().into_iter().flat_map(|c| view.display(c)).collect::<Vec<f32>>();
    shown(a).iter().zip(&shown(b)).fold(0.0, |most, (a, b)| most.max(255.0 * (a - b).abs() as f64))
}

/// Radiance after k bounces in a closed furnace is E(1−ρ^(k+1))/(1−ρ), the geometric series (Neumann expansion; see
/// `transport.rs`), so the smallest depth that nobody sees the end of follows from the view alone.
#[test]
fn the_smallest_harmless_depth_of_a_furnace_is_that_of_its_series() {
    for (albedo, exposure) in [(0.5f64, -2.0), (0.3, -1.0)] {
        let stage = furnace(albedo as f32).stage();
        let most = 14u32;
        let t = tuning((32, 32), 256).with(K::DepthTotal, most).with(K::DepthDiffuse, most).with(K::RouletteFrom, 100);
        let t = t.with(K::SplitDirect, 1).with(K::ViewExposure, exposure).with(K::DeliveryParts, true);
        let d = describe(t, None);
        let after = |k: u32| (1.0 - albedo.powi(k as i32 + 1)) / (1.0 - albedo);
        let shown = |k: u32| d.view().display([after(k) as f32; 3])[1] as f64;
        let loss = |k: u32| 255.0 * (shown(60) - shown(k));
        let expected = (0..most).find(|k| loss(*k) <= 0.5).unwrap();
        // Far enough from half a step on both sides for a render to tell.
        assert!(loss(expected) < 0.42 && loss(expected - 1) > 0.6, "{} {}", loss(expected), loss(expected - 1));
        let deep = rendered(&stage, &d);
        let rows = advice_on(&deep, &d);
        let row = rows.iter().find(|a| a.key == "depth.total").expect("a line on the depth");
        assert_eq!(row.changes["depth.total"], expected);
        near(row.look.unwrap().most, loss(expected), 0.1, "loss");
        assert!(row.effect.time < 0.9 && row.effect.variance == 1.0, "{:?}", row.effect);
        // And taking the advice does no more than it says.
        let next = Description { tuning: d.tuning.changed(&row.changes).unwrap(), ..d.clone() };
        let shallow = rendered(&stage, &next);
        assert!(steps(&deep, &shallow) < 1.0, "{}", steps(&deep, &shallow));
        // Nothing is left to say then, though one bounce less would again lose less than half a step of what is left.
        assert!(!advice_on(&shallow, &next).iter().any(|a| a.key == "depth.total"), "advice on advice");
    }
}

fn lamp(name: &str, x: f32, strength: f32) -> AddedLight {
    AddedLight {
        name: name.into(),
        shape: Shape::Disc { radius: 0.5 },
        position: [x, 0.3, 1.2],
        towards: [x, 0.0, 0.0],
        radiance: [strength; 3],
        seen: false,
        edit: LightEdit::default(),
    }
}

/// One lamp in ten thousand parts of the light cannot be seen on 255 steps; one in three hundred can.
#[test]
fn a_light_that_adds_nothing_is_named_and_one_that_is_seen_is_not() {
    let mut set = Set::default();
    let white = set.material(Material::matte(Vec3::splat(0.7)));
    set.quad(Vec3::new(-4.0, -4.0, 0.0), Vec3::X * 8.0, Vec3::Y * 8.0, white);
    set.scene.cameras.push(facing(1.0));
    let added = vec![lamp("key", 0.4, 3.0), lamp("faint", -0.3, 3e-4), lamp("weak", -0.4, 0.03)];
    let t = tuning((64, 64), 32).with(K::DeliveryParts, true);
    let d = edited(t, ShotEdits { added, ..ShotEdits::default() });
    let stage = set.stage();
    let with = rendered(&stage, &d);
    let rows = advice_on(&with, &d);
    let off: Vec<&str> = rows.iter().flat_map(|a| a.lights_off.iter().map(String::as_str)).collect();
    assert_eq!(off, ["faint"], "{rows:?}");
    let mut dark = d.clone();
    dark.edits.light_mut("faint").on = false;
    assert_eq!(dark.edits.added.iter().filter(|l| l.edit.on).count(), 2, "it is switched off where it is added");
    let loss = rows.iter().find(|a| a.key == "light faint").unwrap().look.unwrap();
    assert!(loss.worst < 0.5, "{loss:?}");
    // Grain aside, which the means of the frames have none of, nothing changes.
    near(mean_of(&rendered(&stage, &dark)), mean_of(&with), 0.004, "without it");
}

fn mean_of(r: &Render) -> f64 {
    average(&r.plate().mean().iter().map(|c| picture::luminance(*c) as f64).collect::<Vec<_>>())
}

/// Half of the frame shines evenly and has no noise, the other half never gets clean: with adaptive sampling the one takes the
/// least samples and the other the most.
#[test]
fn adaptive_sampling_is_advised_where_half_of_the_frame_needs_nothing() {
    let mut set = Set::default();
    let white = set.material(Material::matte(Vec3::splat(0.7)));
    let even = set.material(Material { emission: Vec3::splat(0.2), ..Material::matte(Vec3::ZERO) });
    set.quad(Vec3::new(-1.0, -1.0, 0.0), Vec3::X, Vec3::Y * 2.0, even);
    set.quad(Vec3::new(0.0, -1.0, 0.0), Vec3::X, Vec3::Y * 2.0, white);
    set.scene.cameras.push(facing(1.0));
    let t = tuning((64, 64), 64).with(K::SamplingLeast, 16).with(K::SamplingThreshold, 0.0005);
    let d = edited(t, ShotEdits { added: vec![lamp("key", 0.4, 3.0)], ..ShotEdits::default() });
    let stage = set.stage();
    let render = rendered(&stage, &d);
    let rows = advice_on(&render, &d);
    let row = rows.iter().find(|a| a.key == "adaptive").expect("a line on adaptive sampling");
    let next: Tuning = d.tuning.changed(&row.changes).unwrap();
    assert!(next.switch(K::SamplingAdaptive) && row.effect.equal < 0.95, "{:?}", row.effect);
    let (counts, report) = (render.counts(), render.report());
    let test = Measured { description: &d, counts: &counts, report: &report, pilot: None, others: 0.0, also: &[] };
    let f = forecast(test, &next, None, &Machine::default()).unwrap();
    near(f.samples_per_pixel, 0.5 * 16.0 + 0.5 * 64.0, 0.01, "samples foretold");
    let came = rendered(&stage, &Description { tuning: next, ..d.clone() }).report();
    near(came.samples_per_pixel, 40.0, 0.01, "samples as they came");
    near(came.settled, 0.5, 0.01, "clean");
}

/// A matte wall before one lamp, seen without any bounce: all noise is in the choice of a point on the lamp, so that with half the
/// light rays the variance of a camera sample is twice as much, and adaptive sampling takes twice the samples. What is saved is half
/// of what light rays take, and less than nothing in all: prices say so before a trial and, more surely, after it.
#[test]
fn half_the_light_rays_before_a_lamp_ask_for_twice_the_samples() {
    let mut set = Set::default();
    let white = set.material(Material::matte(Vec3::splat(0.7)));
    set.quad(Vec3::new(-1.0, -1.0, 0.0), Vec3::X * 2.0, Vec3::Y * 2.0, white);
    // Beside the frame a screen with as many holes as cells, so that neighbouring points of the lamp tell nothing of each other.
    let dark = set.material(Material::matte(Vec3::ZERO));
    let cell = 0.02;
    for (y, z) in (0..160).flat_map(|y| (0..80).map(move |z| (y, z))).filter(|(y, z)| (y + z) % 2 == 0) {
        let corner = Vec3::new(0.8, cell * (y as f32 - 80.0), cell * z as f32);
        set.quad(corner, Vec3::Y * cell, Vec3::Z * cell, dark);
    }
    set.scene.cameras.push(facing(0.5));
    let lamp = AddedLight { position: [1.6, 0.0, 0.8], towards: [0.0; 3], ..lamp("key", 0.0, 6.0) };
    let stage = set.stage();
    let t = tuning((64, 64), 4096).with(K::SamplingAdaptive, true).with(K::SamplingLeast, 8).with(K::DepthTotal, 1);
    let t = t.with(K::SamplingThreshold, 0.012).with(K::SplitDirect, 2).with(K::DeliveryParts, true);
    let d = edited(t, ShotEdits { added: vec![lamp], ..ShotEdits::default() });
    let render = rendered(&stage, &d);
    let (counts, report) = (render.counts(), render.report());
    let test = Measured { description: &d, counts: &counts, report: &report, pilot: None, others: 0.0, also: &[] };
    let machine = Machine::default();
    let next = d.tuning.clone().with(K::SplitDirect, 1);
    let [now, foretold] = [&d.tuning, &next].map(|t| forecast(test, t, None, &machine).unwrap());
    let then = rendered(&stage, &Description { tuning: next.clone(), ..d.clone() }).report();
    let more = foretold.samples_per_pixel / now.samples_per_pixel;
    near(then.samples_per_pixel / report.samples_per_pixel, 2.0, 0.1, "samples that came");
    near(more, 2.0, 0.1, "samples foretold");
    // Half of the light rays, counted, and twice the rest.
    let each = advice::time_ratio(&report, &then);
    near(foretold.sampling / now.sampling, each * more, 0.02, "time foretold");
    let under = pilot_tuning(&d.tuning);
    let of = |t: Tuning| {
        let r = rendered(&stage, &Description { tuning: t, ..d.clone() });
        Sampled::of(r.report(), &r.plate(), &d.view())
    };
    let fewer = of(under.clone().with(K::SplitDirect, 1));
    let pilot = Pilot::of(&of(under.clone()), &under, &[("split.direct", Value::Whole(1), fewer)]).unwrap();
    let price = |pilot: Option<&Pilot>| {
        let prices = advice::prices(Measured { pilot, ..test }, &d.tuning, &machine);
        prices.into_iter().find(|p| p.knob == "split.direct").unwrap()
    };
    let came = now.sampling * (1.0 - each * then.samples as f64 / report.samples as f64);
    let (charged, tried) = (price(None), price(Some(&pilot)));
    assert!(came < -0.1 * now.sampling, "{came}");
    for p in [&charged, &tried] {
        assert!((p.seconds - came).abs() < p.unsure.unwrap(), "{p:?}, {came} came");
    }
    near(charged.seconds / came, 1.0, 0.15, "price");
    assert!(charged.grain.is_none() && tried.grain.is_some());
    assert!(charged.unsure.unwrap() > tried.unsure.unwrap(), "{charged:?} {tried:?}");
}

/// Squares of very different brightness, each with an error of its own in both renders and a part that both share: the true ratio
/// lies within the interval in 95 of 100 cases.
#[test]
fn the_interval_of_a_ratio_holds_what_it_says() {
    let mut dice = Dice(7);
    let mut between = |least: f64, most: f64| least + (most - least) * dice.unit();
    let (mut inside, all) = (0, 4000);
    for _ in 0..all {
        let truth = between(0.4, 2.5);
        let (mut before, mut after) = (Vec::new(), Vec::new());
        for _ in 0..250 {
            let level = 10f64.powf(between(-1.5, 0.0)) * between(0.5, 1.5);
            before.push(level * between(0.7, 1.3));
            after.push(truth * level * between(0.7, 1.3));
        }
        let (ratio, unsure) = picture::noise::ratio_of_sums(&before, &after);
        inside += ((ratio - truth).abs() <= unsure) as usize;
    }
    let share = inside as f64 / all as f64;
    assert!((0.93..0.97).contains(&share), "{share}");
}
