//! A sample depends on nothing but the description: regions, threads and interruptions leave every bit as it is.

mod common;

use common::*;
use glam::Vec3;
use picture::{Plate, Region};
use scene::*;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tracer::*;
use tuning::{K, Tuning};

/// A lamp over a floor with a glass ball, a mirror and a dark corner: uneven on purpose.
fn stage() -> Arc<Stage> {
    let mut set = Set::default();
    let lamp = set.material(Material { emission: Vec3::splat(40.0), ..Material::matte(Vec3::ZERO) });
    let floor = set.material(Material::matte(Vec3::new(0.6, 0.5, 0.4)));
    let glass =
        set.material(Material { metallic: 0.0, roughness: 0.0, transmission: 1.0, solid: true, ..Material::default() });
    let mirror = set.material(Material { roughness: 0.2, base: Vec3::splat(0.9), ..Material::default() });
    set.quad(Vec3::new(-3.0, 0.0, -3.0), Vec3::Z * 6.0, Vec3::X * 6.0, floor);
    set.quad(Vec3::new(-0.1, 2.0, -0.1), Vec3::X * 0.2, Vec3::Z * 0.2, lamp);
    set.sphere(Vec3::new(-0.6, 0.5, 0.0), 0.5, glass);
    set.sphere(Vec3::new(0.6, 0.5, -0.3), 0.5, mirror);
    set.environment = Some(Environment::uniform([0.02, 0.03, 0.05]));
    set.scene.cameras.push(looking(Vec3::new(0.0, 1.4, 3.4), Vec3::new(0.0, 0.5, 0.0), 45.0));
    set.stage()
}

fn uneven(adaptive: bool, block: &str) -> Tuning {
    tuning((150, 100), 48)
        .with(K::SamplingAdaptive, adaptive)
        .with(K::SamplingLeast, 8)
        .with(K::SamplingThreshold, 0.03)
        .with(K::SamplingBlock, block)
        .with(K::FrameFilter, "blackman_harris")
        .with(K::FrameFilterRadius, 1.5)
}

#[test]
fn a_region_is_the_crop_of_the_frame_bit_for_bit() {
    let stage = stage();
    for (adaptive, block) in [(false, "8"), (true, "8"), (true, "4"), (true, "32")] {
        let whole = run(&stage, describe(uneven(adaptive, block), None), 2).plate();
        if adaptive {
            let (least, most) = (whole.samples.iter().min(), whole.samples.iter().max());
            assert!(least < most, "the scene must make counts uneven: {least:?} to {most:?}");
        }
        for region in [
            Region { x: 37, y: 21, width: 50, height: 41 },
            Region { x: 149, y: 99, width: 1, height: 1 },
            Region { x: 0, y: 0, width: 150, height: 33 },
        ] {
            let part = run(&stage, describe(uneven(adaptive, block), Some(region)), 1).plate();
            assert_same(&part, &whole.crop(region));
        }
    }
}

/// Signed filters, parts, lens, haze and tail fill leave it so; and a stopped render goes on with all of them.
#[test]
fn a_region_with_everything_on_is_the_crop_and_goes_on() {
    let stage = stage();
    let t = uneven(true, "8")
        .with(K::FrameFilter, "lanczos")
        .with(K::FrameFilterRadius, 2.0)
        .with(K::FrameAperture, 40.0)
        .with(K::FrameFocus, 3.0)
        .with(K::HazeDensity, 0.05)
        .with(K::PathsFill, true)
        .with(K::SplitDiffuse, 2)
        .with(K::DeliveryParts, true);
    let whole = run(&stage, describe(t.clone(), None), 2).plate();
    assert!(whole.layers.iter().any(|l| l.0 == "tail.G" && l.1.iter().any(|v| *v > 0.0)));
    let region = Region { x: 37, y: 21, width: 50, height: 41 };
    let d = describe(t, Some(region));
    let pool = Arc::new(own_pool(2).unwrap());
    let mut render = Render::new(stage.clone(), d.clone(), pool.clone(), false).unwrap();
    for _ in 0..5 {
        render.step(&AtomicBool::new(false));
    }
    assert!(!render.done());
    let mut resumed = Render::resume(stage, d, pool, &render.save()).unwrap();
    while resumed.step(&AtomicBool::new(false)) {}
    assert_same(&resumed.plate(), &whole.crop(region));
}

#[test]
fn one_thread_and_two_give_the_same_bits() {
    let stage = stage();
    let one = run(&stage, describe(uneven(true, "8"), None), 1);
    let two = run(&stage, describe(uneven(true, "8"), None), 2);
    assert_same(&one.plate(), &two.plate());
    let rays = |r: &Render| r.report().rays.iter().map(|k| k.rays).collect::<Vec<_>>();
    assert_eq!(rays(&one), rays(&two));
}

#[test]
fn a_stopped_saved_and_resumed_render_ends_like_an_undisturbed_one() {
    let stage = stage();
    let d = describe(uneven(true, "8"), Some(Region { x: 10, y: 5, width: 120, height: 90 }));
    let undisturbed = run(&stage, d.clone(), 2);
    let pool = Arc::new(own_pool(2).unwrap());
    let mut render = Render::new(stage.clone(), d.clone(), pool.clone(), true).unwrap();
    for _ in 0..9 {
        render.step(&AtomicBool::new(false));
    }
    // A flag that is set already ends the step at once and must not lose or repeat anything.
    render.step(&AtomicBool::new(true));
    assert!(!render.done());
    let saved = render.save();
    let json = serde_json::to_string(&saved.counts).unwrap();
    let saved = SavedRender { counts: serde_json::from_str(&json).unwrap(), ..saved };
    let mut resumed = Render::resume(stage, d, pool, &saved).unwrap();
    while resumed.step(&AtomicBool::new(false)) {}
    assert_same(&resumed.plate(), &undisturbed.plate());
    let light = |r: &Render| -> Vec<f64> {
        r.report().ledgers.depth.iter().flat_map(|t| &t.rows).flat_map(|row| [row.light, row.loss.worst]).collect()
    };
    let (one, other) = (light(&resumed), light(&undisturbed));
    assert!(one.len() > 10 && one.iter().zip(&other).all(|(a, b)| (a - b).abs() < 1e-4), "{one:?} {other:?}");
}

/// Reduced to its own size, a region of an oversize frame holds what the whole frame holds there, and the light is the same.
#[test]
fn a_region_of_an_oversize_frame_is_its_crop_bit_for_bit() {
    let stage = stage();
    let region = Region { x: 37, y: 21, width: 40, height: 30 };
    for times in [1.5, 2.0, 0.5] {
        let t = uneven(true, "8").with(K::FrameOversize, times);
        let whole = run(&stage, describe(t.clone(), None), 2).plate();
        assert_eq!((whole.frame, whole.region.area()), ((150, 100), 15_000));
        let part = run(&stage, describe(t, Some(region)), 2).plate();
        assert_same(&part, &whole.crop(region));
        let plain = run(&stage, describe(uneven(true, "8"), None), 2).plate();
        let total = |p: &Plate| p.mean().iter().map(|c| c[1] as f64).sum::<f64>();
        near(total(&whole), total(&plain), 0.04, "the light of an oversize frame");
    }
}

/// The rounds judge delivered pixels: what they say agrees with the grain of the delivered plate.
#[test]
fn grain_of_an_oversize_frame_counts_delivered_pixels() {
    let stage = stage();
    let t = uneven(false, "8").with(K::SamplingMost, 16).with(K::FrameOversize, 2.0);
    let render = run(&stage, describe(t, None), 2);
    let d = render.description();
    let (delivered, _) = render.plate().block_grain(&d.judging()).summary();
    let judged = render.report().grain;
    // Superblocks are judged by themselves, which counts a little too much at their borders.
    assert!(judged > 0.97 * delivered && judged < 1.12 * delivered, "{judged} against {delivered}");
}

/// What a running test shows of grain and samples is read from the counts: it is what the developed film tells, for regions and frames
/// that are rendered larger too. On many threads a film develops to the same bits.
#[test]
fn the_blocks_of_a_film_tell_what_its_plate_does() {
    let stage = stage();
    let region = Some(Region { x: 37, y: 21, width: 77, height: 50 });
    let sizes = [1.0, 2.0, 1.3, 0.5, 0.7];
    for (region, oversize) in sizes.into_iter().flat_map(|times| [(None, times), (region, times)]) {
        let t = uneven(true, "8").with(K::FrameOversize, oversize);
        let render = run(&stage, describe(t, region), 2);
        let (film, plate) = (render.film(), render.plate());
        let block = render.description().judging().block;
        let (map, samples) = film.known_blocks(block, plate.region);
        let whole = plate.block_grain(&render.description().judging());
        assert_eq!(
            (map.first, map.columns, map.rows, &map.pixels),
            (whole.first, whole.columns, whole.rows, &whole.pixels)
        );
        let (mut off, mut counts, mut apart, mut all) = (Vec::new(), Vec::new(), 0.0, 0.0);
        for (k, grain) in whole.grain.iter().enumerate() {
            // Blocks that the region cuts are judged whole.
            let place = map.place(k);
            if place.shared(plate.region) != Some(place) {
                continue;
            }
            off.push((map.grain[k] - grain).abs() / grain.max(1e-4));
            (apart, all) = (apart + (map.grain[k] - grain).abs(), all + grain);
            let inside: Vec<u32> = plate.region.cut(&plate.samples, place);
            let mean = inside.iter().map(|n| *n as f64).sum::<f64>() / inside.len() as f64;
            counts.push((samples[k] as f64 / mean - 1.0).abs());
        }
        off.sort_by(f64::total_cmp);
        counts.sort_by(f64::total_cmp);
        let median = off.len() / 2;
        if oversize == 1.0 {
            assert!(off[off.len() - 1] < 1e-4 && counts[counts.len() - 1] == 0.0, "{off:?} {counts:?}");
        } else {
            // A block of the film has other borders than one that is delivered, and is judged by itself; where fewer pixels are rendered
            // than delivered, those between them show less grain than what was judged.
            let (told, shown) = (map.summary().0, whole.summary().0);
            assert!(oversize < 1.0 || (told / shown - 1.0).abs() < 0.06, "{oversize}: {told} for {shown}");
            // Blocks of 8 film pixels under blocks of 10.4 tell their places less sharply.
            assert!(oversize != 2.0 || apart < 0.3 * all, "{oversize}: {apart} of {all}");
            assert!(counts[median] < 0.06, "{oversize}: {}", counts[median]);
        }
        // One pixel alone is told as among all.
        for (x, y) in [(37, 21), (60, 40), (113, 70)] {
            let (one, n) = film.known_blocks(block, Region { x, y, width: 1, height: 1 });
            assert_eq!((one.at(x, y), n[0]), (map.at(x, y), samples[map.block_at(x, y)]), "{oversize}: {x}, {y}");
        }
        let pool = own_pool(3).unwrap();
        assert_same(&pool.install(|| film.plate()), &plate);
    }
}

/// Rendered at half its size a frame is judged like one of that size, whatever cleans it up.
#[test]
fn a_frame_rendered_smaller_is_judged_as_it_is_rendered() {
    let stage = stage();
    for method in ["none", "quick", "careful"] {
        let t = uneven(true, "8").with(K::CleanupDenoise, method).with(K::SamplingJudge, "delivered");
        let of = |times: u32, oversize: f64| {
            let t = t.clone().with(K::FrameWidth, 75 * times).with(K::FrameHeight, 50 * times);
            run(&stage, describe(t.with(K::FrameOversize, oversize), None), 2)
        };
        let (small, half) = (of(1, 1.0).counts(), of(2, 0.5).counts());
        let blocks = |c: &SavedCounts| c.tiles.iter().flat_map(|t| t.1.clone()).collect::<Vec<_>>();
        let (small, half) = (blocks(&small), blocks(&half));
        assert!(small.len() == half.len() && small.iter().filter(|b| b.grain > 0.0).count() > 30, "{method}");
        for (a, b) in small.iter().zip(&half) {
            assert_eq!((a.n, a.grain.to_bits(), a.settled), (b.n, b.grain.to_bits(), b.settled), "{method}");
        }
    }
}

#[test]
fn a_render_that_goes_on_gives_what_one_render_would_have_given() {
    let stage = stage();
    let pool = Arc::new(own_pool(2).unwrap());
    let on = |first: Tuning, then: Tuning, stop_after: usize| {
        let mut render = Render::new(stage.clone(), describe(first, None), pool.clone(), false).unwrap();
        (0..stop_after).for_each(|_| {
            render.step(&AtomicBool::new(false));
        });
        let saved = render.save();
        let mut further = Render::go_on(stage.clone(), describe(then, None), pool.clone(), &saved).unwrap();
        while further.step(&AtomicBool::new(false)) {}
        further.plate()
    };
    let fixed = |most: u32| uneven(false, "8").with(K::SamplingLeast, 2).with(K::SamplingMost, most);
    let straight = run(&stage, describe(fixed(48), None), 2).plate();
    // From its end, from an end that is not on the ladder, and from the middle of a round.
    assert_same(&on(fixed(16), fixed(48), 1000), &straight);
    assert_same(&on(fixed(26), fixed(48), 1000), &straight);
    assert_same(&on(fixed(48), fixed(48), 3), &straight);
    // With a finer threshold blocks that had settled go on, each from its own count; samples at equal counts are equal.
    let adaptive = |t: f64| uneven(true, "8").with(K::SamplingThreshold, t).with(K::SamplingMost, 64);
    let further = on(adaptive(0.06), adaptive(0.03), 1000);
    let straight = run(&stage, describe(adaptive(0.03), None), 2).plate();
    let alike = further.samples.iter().zip(&straight.samples).filter(|(a, b)| a == b).count();
    assert!(alike as f64 > 0.8 * straight.samples.len() as f64, "{alike}");
    for i in (0..further.samples.len()).filter(|i| further.samples[*i] == straight.samples[*i]) {
        assert_eq!(further.a[i].map(f32::to_bits), straight.a[i].map(f32::to_bits));
    }
    let sum = |p: &Plate| p.samples.iter().map(|n| *n as u64).sum::<u64>();
    assert!(sum(&further) > sum(&on(adaptive(0.06), adaptive(0.06), 1000)));
}

#[test]
fn another_seed_is_another_grain_of_the_same_picture() {
    let stage = stage();
    let t = |seed: u32| tuning((48, 32), 256).with(K::SamplingSeed, seed);
    let (a, b) = (run(&stage, describe(t(1), None), 2).plate(), run(&stage, describe(t(2), None), 2).plate());
    assert_ne!(a.mean(), b.mean());
    let total = |p: &Plate| p.mean().iter().map(|c| c[1] as f64).sum::<f64>();
    near(total(&a), total(&b), 0.02, "means of two seeds");
}

#[test]
fn what_cannot_be_rendered_is_refused_before_it_is_tried() {
    let stage = stage();
    let pool = Arc::new(own_pool(1).unwrap());
    let refuse =
        |d: Description| Render::new(stage.clone(), d, pool.clone(), false).err().expect("a fault").to_string();
    let outside = Region { x: 140, y: 0, width: 20, height: 10 };
    insta::assert_snapshot!(
        [
            refuse(describe(uneven(true, "8"), Some(outside))),
            refuse(describe(uneven(true, "8"), Some(Region { x: u32::MAX, y: 0, width: 2, height: 1 }))),
            refuse(describe(uneven(true, "8").with(K::SamplingLeast, 64), None)),
            refuse(describe(tuning((16384, 16384), 16), None)),
            refuse(Description { camera: "Nobody".into(), ..describe(uneven(true, "8"), None) }),
        ]
        .join("\n")
    );
    // A hundred million pixels with parts and lights take some 60 GB, twice while they are put away.
    if free_memory().is_some_and(|free| free < 60e9) {
        let huge = tuning((10_000, 10_000), 16).with(K::DeliveryParts, true).with(K::DeliveryPartsLarge, true);
        let fault = refuse(describe(huge, None));
        assert!(fault.contains("GB of memory") && fault.contains("GB are free"), "{fault}");
    }
}
