//! Renders that go on from other renders, hold a time, or are pilots.

mod common;

use common::*;
use glam::Vec3;
use picture::{Plate, Region};
use scene::*;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Instant;
use tracer::*;
use tuning::{K, Tuning};

/// A lamp near a wall over a floor: grain is uneven.
fn stage() -> Arc<Stage> {
    let mut set = Set::default();
    let lamp = set.material(Material { emission: Vec3::splat(60.0), ..Material::matte(Vec3::ZERO) });
    let floor = set.material(Material::matte(Vec3::new(0.6, 0.5, 0.4)));
    let mirror = set.material(Material { roughness: 0.3, base: Vec3::splat(0.9), ..Material::default() });
    set.quad(Vec3::new(-3.0, 0.0, -3.0), Vec3::Z * 6.0, Vec3::X * 6.0, floor);
    set.quad(Vec3::new(-3.0, 0.0, -1.2), Vec3::X * 6.0, Vec3::Y * 3.0, floor);
    set.quad(Vec3::new(-0.4, 1.6, -1.0), Vec3::X * 0.15, Vec3::Z * 0.15, lamp);
    set.sphere(Vec3::new(0.7, 0.5, 0.0), 0.5, mirror);
    set.environment = Some(Environment::uniform([0.02, 0.03, 0.05]));
    set.scene.cameras.push(looking(Vec3::new(0.0, 1.4, 3.4), Vec3::new(0.0, 0.5, 0.0), 45.0));
    set.stage()
}

fn tuned(most: u32, threshold: f64) -> Tuning {
    tuning((160, 96), most)
        .with(K::SamplingAdaptive, true)
        .with(K::SamplingLeast, 8)
        .with(K::SamplingThreshold, threshold)
}

fn fresh(stage: &Arc<Stage>, t: &Tuning, region: Option<Region>) -> Render {
    Render::new(stage.clone(), describe(t.clone(), region), Arc::new(own_pool(2).unwrap()), false).unwrap()
}

fn finish(mut render: Render) -> Render {
    while render.step(&AtomicBool::new(false)) {}
    render
}

fn samples(p: &Plate) -> u64 {
    p.samples.iter().map(|n| *n as u64).sum()
}

fn same_bits(a: &Plate, b: &Plate) -> bool {
    let bits = |p: &[[f32; 3]]| -> Vec<[u32; 3]> { p.iter().map(|c| c.map(f32::to_bits)).collect() };
    a.samples == b.samples && bits(&a.a) == bits(&b.a) && bits(&a.b) == bits(&b.b)
}

#[test]
fn what_a_region_test_has_rendered_is_not_rendered_again() {
    let stage = stage();
    let t = tuned(64, 0.02);
    let whole = finish(fresh(&stage, &t, None)).plate();
    // Superblocks that the region only touches are rendered whole, since their blocks decide together.
    let region = Region { x: 40, y: 20, width: 70, height: 50 };
    let part = finish(fresh(&stage, &t, Some(region)));
    let mut last = fresh(&stage, &t, None);
    let taken = last.take_in(part.description(), &part.save()).unwrap();
    assert_eq!(taken, part.film().samples(), "all of it is of use");
    assert_eq!(last.take_in(part.description(), &part.save()).unwrap(), 0, "and only once");
    // Time as well, and not the time that others took from that render.
    let of = |r: &Render| r.report().processor_seconds / r.threads() as f64;
    let mut disturbed = part.save();
    disturbed.counts.seconds *= 5.0;
    let mut again = fresh(&stage, &t, None);
    again.take_in(part.description(), &disturbed).unwrap();
    assert!((again.seconds() - of(&part)).abs() < 1e-9 && again.seconds() == last.seconds(), "{}", again.seconds());
    // Of a coarse frame only what is better than that is taken, and rays are counted for no more than that.
    let coarse = finish(fresh(&stage, &t.clone().with(K::SamplingMost, 16), None));
    let more = last.take_in(coarse.description(), &coarse.save()).unwrap();
    assert!(more > 0 && more < coarse.film().samples(), "{more} of {}", coarse.film().samples());
    assert!((last.seconds() - of(&last)).abs() < 1e-9, "{} for {}", last.seconds(), of(&last));
    let last = finish(last);
    let report = last.report();
    let camera = report.rays.iter().find(|r| r.kind == RayKind::Camera).unwrap().rays;
    assert!(camera.abs_diff(report.samples) < 10, "a camera ray a sample: {camera} for {}", report.samples);
    assert!(same_bits(&last.plate(), &whole), "and the frame is that of an undisturbed render");
    // Another seed is another picture.
    let other = part.description().clone();
    let strange = Description { tuning: other.tuning.clone().with(K::SamplingSeed, 7), ..other.clone() };
    assert!(!strange.same_samples(&other));
    let finer =
        Description { tuning: other.tuning.clone().with(K::SamplingThreshold, 0.5), region: None, ..other.clone() };
    assert!(finer.same_samples(&other), "limits and region leave samples as they are");
    let bare = Description { tuning: other.tuning.clone().with(K::DeliveryParts, false), ..other.clone() };
    assert!(
        !bare.same_samples(&other) && fresh(&stage, &bare.tuning, None).take_in(&other, &part.save()).unwrap() == 0
    );
}

/// Samples do not depend on what is made of them: under another view or clean-up they are taken over, and each block is judged as
/// if it had been so all along.
#[test]
fn samples_are_of_use_under_another_view_and_clean_up() {
    let stage = stage();
    let t = tuned(64, 0.02);
    let other = t.clone().with(K::ViewExposure, -1.0).with(K::CleanupDenoise, "quick").with(K::CleanupLive, 8u32);
    // With fixed counts nothing is left to render.
    let fixed = |t: &Tuning| t.clone().with(K::SamplingAdaptive, false).with(K::SamplingMost, 16);
    let there = finish(fresh(&stage, &fixed(&t), None));
    let mut taking = fresh(&stage, &fixed(&other), None);
    assert!(taking.description().same_samples(there.description()));
    assert_eq!(taking.take_in(there.description(), &there.save()).unwrap(), there.film().samples());
    let taken = finish(taking);
    assert_eq!(taken.film().samples(), there.film().samples());
    let straight = finish(fresh(&stage, &fixed(&other), None));
    assert!(same_bits(&taken.plate(), &straight.plate()));
    let grain = |r: &Render| r.report().grain;
    assert!(grain(&taken) == grain(&straight) && grain(&taken) < 0.8 * grain(&there));
    // With adaptive sampling blocks end where they do without, but for those that had gone further already.
    let there = finish(fresh(&stage, &t, None));
    let mut taking = fresh(&stage, &other, None);
    assert!(taking.take_in(there.description(), &there.save()).unwrap() > 0);
    let (taken, straight) = (finish(taking).plate(), finish(fresh(&stage, &other, None)).plate());
    let had = there.plate().samples;
    assert!((0..had.len()).all(|i| taken.samples[i] >= had[i]));
    let more = (0..had.len()).filter(|i| taken.samples[*i] > straight.samples[*i].max(had[*i])).count();
    assert!((more as f64) < 0.1 * had.len() as f64, "{more} of {} pixels have got more than both", had.len());
    let worst = |p: &Plate| p.block_grain(&describe(other.clone(), None).judging()).summary().1;
    assert!(worst(&taken) < 1.2 * worst(&straight).max(0.02), "{} {}", worst(&taken), worst(&straight));
}

#[test]
fn a_pilot_sees_squares_all_over_and_its_samples_count() {
    let stage = stage();
    // 256 × 160 has 40 superblocks: eight of them are looked at in any case.
    let t = tuned(128, 0.02).with(K::FrameWidth, 256).with(K::FrameHeight, 160).with(K::SamplingLeast, 16);
    let mut render = fresh(&stage, &t, None);
    let mut pilot = PilotRun::new(&mut render, 0.01);
    while pilot.step(&mut render, &AtomicBool::new(false)) {}
    let plate = render.plate();
    let seen = plate.samples.iter().filter(|n| **n > 0).count() as f64 / plate.samples.len() as f64;
    assert!(render.has_gaps() && (0.19..0.21).contains(&seen), "{seen}");
    let further = plate.samples.iter().filter(|n| **n > 16).count();
    assert!(further > 0 && further < plate.samples.len() / 2, "some go on to their end");
    let pool = Arc::new(own_pool(2).unwrap());
    let last = finish(Render::go_on(stage.clone(), describe(t.clone(), None), pool, &render.save()).unwrap());
    // A pilot decides nothing otherwise than the final does.
    let straight = finish(fresh(&stage, &t, None));
    assert!(same_bits(&last.plate(), &straight.plate()));
    assert!(samples(&last.plate()) > samples(&plate));
    // With all the time in the world it is the final, through all its phases.
    let mut all = fresh(&stage, &t, None);
    let mut pilot = PilotRun::new(&mut all, 1e6);
    while pilot.step(&mut all, &AtomicBool::new(false)) {}
    assert!(!all.has_gaps() && pilot.deep() == 40 && same_bits(&all.plate(), &straight.plate()));
}

#[test]
fn held_time_ends_on_time_spends_it_where_grain_is_worst_and_replays_bit_for_bit() {
    let stage = stage();
    let t = tuned(64, 0.02);
    let mut render = fresh(&stage, &t, None);
    let mut hold = Hold::new(&mut render);
    let left = |from: Instant, seconds: f64| seconds - from.elapsed().as_secs_f64();
    let began = Instant::now();
    while hold.step(&mut render, left(began, 4.0), &AtomicBool::new(false)) {}
    // Tiles in work are finished, while other tests take their share of the processors: that may come on top.
    assert!((4.0..5.5).contains(&began.elapsed().as_secs_f64()), "{:?}", began.elapsed());
    assert!(!render.has_gaps() && hold.decisions.len() > 2, "{:?}", hold.decisions);
    let plate = render.plate();
    let (least, most) = (plate.samples.iter().min().unwrap(), plate.samples.iter().max().unwrap());
    assert!(*most >= 3 * *least, "{least} to {most}");
    // Against as many samples spread evenly: the worst blocks are better.
    let even = (samples(&plate) / plate.samples.len() as u64) as u32;
    let uniform = finish(fresh(&stage, &t.clone().with(K::SamplingAdaptive, false).with(K::SamplingMost, even), None));
    let worst = |p: &Plate| p.block_grain(&render.description().judging()).summary().1;
    assert!(worst(&plate) < 0.9 * worst(&uniform.plate()), "{} {}", worst(&plate), worst(&uniform.plate()));
    let mut again = fresh(&stage, &t, None);
    again.follow(render.plan()).unwrap();
    assert!(same_bits(&finish(again).plate(), &plate));
    let part = fresh(&stage, &t, Some(Region { x: 64, y: 32, width: 24, height: 16 }));
    assert!(fresh(&stage, &t, None).follow(part.plan()).is_err(), "a plan of another frame is refused");
    // From a checkpoint in the middle it goes on to the same end of time.
    let mut first = fresh(&stage, &t, None);
    let mut hold = Hold::new(&mut first);
    let began = Instant::now();
    while left(began, 1.0) > 0.0 && hold.step(&mut first, left(began, 2.0), &AtomicBool::new(false)) {}
    let pool = Arc::new(own_pool(2).unwrap());
    let mut second = Render::resume(stage.clone(), describe(t, None), pool, &first.save()).unwrap();
    hold.again(&mut second);
    while hold.step(&mut second, left(began, 2.0), &AtomicBool::new(false)) {}
    assert!(samples(&second.plate()) > samples(&first.plate()) && hold.decisions.len() > 1);
}

#[test]
fn a_top_up_goes_on_in_its_spot_alone() {
    let stage = stage();
    let render = finish(fresh(&stage, &tuned(64, 0.05), None));
    let before = render.plate();
    let pool = Arc::new(own_pool(2).unwrap());
    let d = render.description().clone();
    let mut more = Render::resume(stage, d, pool, &render.save()).unwrap();
    let spot = Region { x: 64, y: 32, width: 24, height: 16 };
    more.set_limits(Limits { threshold: 0.01, most: 256, ..more.limits() });
    more.only(Scope::Region(spot));
    let after = finish(more).plate();
    for (i, (a, b)) in before.samples.iter().zip(&after.samples).enumerate() {
        let (x, y) = (i as u32 % 160, i as u32 / 160);
        let inside = x >= spot.x && x < spot.right() && y >= spot.y && y < spot.bottom();
        assert!(if inside { b > a } else { b == a }, "pixel {x}, {y}: {a} and then {b}");
    }
}

/// Judged anew from its halves, a render shows what it would have shown under the other judging all along.
#[test]
fn a_render_can_be_judged_anew() {
    let stage = stage();
    // Fixed counts: the samples do not depend on the judging.
    let t = tuned(12, 0.02).with(K::SamplingAdaptive, false);
    let plain = finish(fresh(&stage, &t, None));
    let grain = |c: &SavedCounts| -> Vec<u32> {
        c.tiles.iter().flat_map(|(_, blocks)| blocks).map(|b| b.grain.to_bits()).collect()
    };
    for other in [
        t.clone().with(K::CleanupDenoise, "quick"),
        t.clone().with(K::CleanupDenoise, "careful").with(K::CleanupBlend, 0.5),
        t.clone().with(K::ViewExposure, 1.0).with(K::SamplingJudge, "relative"),
    ] {
        let there = finish(fresh(&stage, &other, None));
        let judging = plain.description().judged_as(&other).judging();
        let anew = plain.judged_by(&judging, usize::MAX);
        assert!(grain(&anew) == grain(&there.counts()) && grain(&anew) != grain(&plain.counts()));
        // Of a few superblocks the same, of the others nothing.
        let few = plain.judged_by(&judging, 3);
        let known: Vec<_> = few.tiles.iter().zip(&anew.tiles).filter(|(t, _)| t.1[0].n > 0).collect();
        assert!(known.len() == 3 && known.iter().all(|(few, all)| few == all));
    }
}
