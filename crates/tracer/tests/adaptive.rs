//! Adaptive rounds: what they leave out must not be seen, and how they are judged.

mod common;

use common::*;
use glam::Vec3;
use picture::View;
use scene::*;
use tracer::*;
use tuning::{K, Tuning};

/// A wall of radiance 0.8 behind a veil that one in 2 000 rays meets, whose radiance makes up a fifth of the light: what a
/// stopping rule that trusts quiet blocks would lose (methods: −9 % without the floor of the superblock).
fn rare() -> Set {
    let mut set = Set::default();
    let shining = |radiance: f32, alpha: f32| Material {
        emission: Vec3::splat(radiance),
        alpha: Alpha::Blend,
        base_alpha: alpha,
        ..Material::matte(Vec3::ZERO)
    };
    let chance = 1.0 / 2000.0;
    let veil = set.material(shining(0.2 / chance, chance));
    let wall = set.material(shining(0.8, 1.0));
    set.quad(Vec3::new(-2.0, -2.0, 1.0), Vec3::X * 4.0, Vec3::Y * 4.0, veil);
    set.quad(Vec3::new(-2.0, -2.0, 0.0), Vec3::X * 4.0, Vec3::Y * 4.0, wall);
    set.scene.cameras.push(facing(1.0));
    set
}

fn adaptive(size: (u32, u32), least: u32, most: u32, threshold: f64) -> Tuning {
    tuning(size, most)
        .with(K::SamplingAdaptive, true)
        .with(K::SamplingLeast, least)
        .with(K::SamplingThreshold, threshold)
}

/// Mean light of adaptive sampling against what all samples would show: below 3 % is lost where a fifth of the light comes in
/// one of 2 000 samples. The mean over seeds, so that chance does not decide.
#[test]
fn stopping_hardly_loses_rare_light() {
    let stage = rare().stage();
    let (mut sum, seeds) = (0.0, 12);
    for seed in 0..seeds {
        let t = adaptive((160, 160), 32, 4096, 0.25).with(K::ViewExposure, -2.0).with(K::SamplingSeed, seed);
        let render = run(&stage, describe(t, None), 2);
        let report = render.report();
        assert!(report.samples_per_pixel < 2000.0, "nothing was stopped: {}", report.samples_per_pixel);
        sum += average(&render.plate().mean().iter().map(|c| c[1] as f64).collect::<Vec<_>>());
    }
    let truth = 0.8 * (1.0 - 1.0 / 2000.0) + 0.2;
    let bias = sum / seeds as f64 / truth - 1.0;
    assert!(bias.abs() < 0.03, "{bias}");
}

/// Effort multiplies counts and divides the threshold's square; a block that was clean at one effort is cleaner at more.
#[test]
fn effort_multiplies_samples() {
    let t = adaptive((64, 64), 8, 100, 0.02);
    let limits = Limits::of(&t.clone().with(K::SamplingEffort, 4.0));
    assert_eq!((limits.least, limits.most), (16, 200));
    near(limits.threshold, 0.01, 1e-9, "threshold");
    let most = run(&rare().stage(), describe(t.with(K::SamplingAdaptive, false).with(K::SamplingEffort, 0.5), None), 2);
    assert_eq!(most.report().samples_per_pixel, 50.0);
}

/// A lamp over a floor that is dark on one side.
fn two_tones() -> Set {
    let mut set = Set::default();
    let bright = set.material(Material::matte(Vec3::splat(0.9)));
    let dark = set.material(Material::matte(Vec3::splat(0.009)));
    let lamp = set.material(Material { emission: Vec3::splat(1.5), ..Material::matte(Vec3::ZERO) });
    set.quad(Vec3::new(-2.0, 0.0, -1.0), Vec3::Z * 2.0, Vec3::X * 2.0, bright);
    set.quad(Vec3::new(0.0, 0.0, -1.0), Vec3::Z * 2.0, Vec3::X * 2.0, dark);
    set.quad(Vec3::new(-1.0, 1.5, -1.0), Vec3::X * 2.0, Vec3::Z * 2.0, lamp);
    let mut camera = looking(Vec3::new(0.0, 1.2, 0.001), Vec3::ZERO, 1.0);
    camera.projection = Projection::Orthographic { half_height: 0.8 };
    set.scene.cameras.push(camera);
    set
}

/// Judged relative to the light, a dark floor needs as many samples as a bright one under the same lamp, but for the floor
/// under its mean; judged as displayed it needs fewer; judged as delivered, behind the denoiser, both need fewer still.
#[test]
fn each_judging_stops_where_it_should() {
    let stage = two_tones().stage();
    let counts = |judge: &str, denoise: &str| {
        let t = adaptive((128, 64), 2, 4096, 0.003).with(K::SamplingJudge, judge).with(K::CleanupDenoise, denoise);
        let plate = run(&stage, describe(t.with(K::DepthTotal, 1), None), 2).plate();
        let mean = plate.mean();
        let side = |from: u32| {
            let pixels = (0..64).flat_map(|y| (from..from + 48).map(move |x| (y * 128 + x) as usize));
            let over = |f: &dyn Fn(usize) -> f64| average(&pixels.clone().map(f).collect::<Vec<_>>());
            (over(&|i| plate.samples[i] as f64), over(&|i| mean[i][1] as f64))
        };
        // The camera looks down with its right to the positive: the bright floor is at the left.
        (side(8), side(72))
    };
    let (displayed, relative) = (counts("displayed", "none"), counts("relative", "none"));
    let delivered = counts("delivered", "quick");
    let (bright, dark) = displayed;
    assert!(dark.0 < 0.6 * bright.0, "{displayed:?}");
    // The floor under the mean, 0.01 · 0.18, spares the dark some: noise falls with the power 0.5 to 0.75 of the samples.
    let share = |m: f64| m / (m + 0.0018);
    let spared = share(dark.1) / share(bright.1);
    let ratio = relative.1.0 / relative.0.0;
    assert!(ratio > 0.9 * spared.powi(2) && ratio < 1.1 * spared.powf(1.0 / 0.75), "{ratio}, {spared}");
    assert!(delivered.0.0 < 0.5 * bright.0, "{delivered:?} {displayed:?}");
}

/// Judged after the denoiser, a region still holds what the whole frame holds there: a superblock is denoised by itself.
#[test]
fn a_region_judged_as_delivered_is_its_crop() {
    let stage = two_tones().stage();
    let region = picture::Region { x: 37, y: 9, width: 50, height: 40 };
    let t = adaptive((128, 64), 8, 512, 0.01).with(K::SamplingJudge, "delivered").with(K::CleanupDenoise, "quick");
    let whole = run(&stage, describe(t.clone(), None), 2).plate().crop(region);
    let part = run(&stage, describe(t, Some(region)), 2).plate();
    assert!(whole.a == part.a && whole.samples == part.samples);
    assert!(part.samples.iter().any(|n| *n < 512), "some of it has settled");
    let view = View::PLAIN;
    assert!(part.mean().iter().all(|c| view.display(*c)[0] > 0.0));
}
