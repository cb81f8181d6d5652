//! Media against closed forms. Sources stand beside each check.

mod common;

use common::*;
use glam::Vec3;
use scene::*;
use std::f64::consts::PI;
use tuning::{K, Tuning};

/// A closed box of a medium without a surface of its own.
fn fog(lo: Vec3, hi: Vec3, medium: Medium) -> (Set, ShotEdits) {
    let mut set = Set::default();
    let m = set.material(Material {
        name: "fog".into(),
        metallic: 0.0,
        roughness: 0.0,
        ior: 1.0,
        transmission: 1.0,
        solid: true,
        ..Material::default()
    });
    set.cuboid(lo, hi, m);
    (set, ShotEdits { media: [("fog".to_string(), medium)].into(), ..ShotEdits::default() })
}

fn medium(scattering: f32, absorption: f32, forward: f32) -> Medium {
    Medium { scattering: [scattering; 3], absorption: [absorption; 3], forward }
}

fn thin_view(samples: u32) -> Tuning {
    tuning((4, 4), samples)
}

/// Law of Beer and Lambert: what comes straight through fades by exp(−(σs + σa) d), whatever scatters in between.
#[test]
fn a_medium_lets_straight_light_through_by_its_extinction() {
    let (mut set, edits) = fog(Vec3::new(-5.0, -5.0, -0.8), Vec3::new(5.0, 5.0, 0.0), medium(0.7, 0.5, 0.0));
    let light = set.material(Material { emission: Vec3::splat(10.0), ..Material::matte(Vec3::ZERO) });
    set.quad(Vec3::new(-5.0, -5.0, -2.0), Vec3::X * 10.0, Vec3::Y * 10.0, light);
    set.scene.cameras.push(looking(Vec3::new(0.0, 0.0, 3.0), Vec3::ZERO, 0.1));
    let t = thin_view(4096).with(K::DepthVolume, 0);
    near(average(&pixels(&set.stage(), edited(t, edits))), 10.0 * (-1.2f64 * 0.8).exp(), 0.01, "0.8 m");
}

/// Single scattering of a point light in an even medium: L = ∫ σs p(θ) I e^(−σ(t + d)) / d² dt along the view (Chandrasekhar
/// 1950, *Radiative Transfer*), with the phase function of Henyey and Greenstein (1941), integrated here in small steps.
#[test]
fn single_scattering_is_the_integral_along_the_view() {
    for (off, forward, density) in [(0.5f64, 0.0f64, 0.3f64), (0.05, 0.6, 0.3), (1.5, -0.4, 1.0)] {
        let brightness = 0.8;
        let (near_side, far_side) = (-4.0f64, 4.0f64);
        let (mut set, edits) = fog(
            Vec3::new(-6.0, -6.0, near_side as f32),
            Vec3::new(6.0, 6.0, far_side as f32),
            medium((density * brightness) as f32, (density * (1.0 - brightness)) as f32, forward as f32),
        );
        set.scene.lights.push(Light {
            name: "lamp".into(),
            kind: LightKind::Point,
            intensity: Vec3::splat(20.0),
            position: Vec3::new(off as f32, 0.0, 0.7),
            direction: Vec3::NEG_Y,
        });
        set.scene.cameras.push(looking(Vec3::new(0.0, 0.0, 8.0), Vec3::ZERO, 0.02));
        let t = thin_view(8192).with(K::DepthVolume, 1);
        let got = average(&pixels(&set.stage(), edited(t, edits)));
        let steps = 200_000;
        let dt = (far_side - near_side) / steps as f64;
        let expected: f64 = (0..steps)
            .map(|i| {
                let s = (i as f64 + 0.5) * dt;
                let z = far_side - s;
                let (dx, dz) = (off, 0.7 - z);
                let d2 = dx * dx + dz * dz;
                // The light travels from the lamp to the point, then along the view towards the camera (+z).
                let cos = -dz / d2.sqrt();
                let g = forward;
                let phase = (1.0 - g * g) / (4.0 * PI * (1.0 + g * g - 2.0 * g * cos).powf(1.5));
                density * brightness * phase * 20.0 * (-density * (s + d2.sqrt())).exp() / d2 * dt
            })
            .sum();
        near(got, expected, 0.01, &format!("lamp {off} m beside the view, g = {forward}, {density}/m"));
    }
}

/// White furnace: a medium that absorbs nothing cannot be seen in an even environment, however thick, if light may wander on.
#[test]
fn a_white_medium_vanishes_in_an_even_environment() {
    for (density, forward) in [(0.5, 0.0), (3.0, 0.5)] {
        let (mut set, edits) = fog(Vec3::splat(-1.0), Vec3::splat(1.0), medium(density, 0.0, forward));
        set.environment = Some(Environment::uniform([1.0; 3]));
        set.scene.cameras.push(looking(Vec3::new(0.0, 0.0, 6.0), Vec3::ZERO, 15.0));
        let t = tuning((8, 8), 512).with(K::DepthVolume, 128).with(K::DepthTotal, 128).with(K::RouletteFrom, 128);
        near(average(&pixels(&set.stage(), edited(t, edits))), 1.0, 0.01, &format!("{density}/m, g = {forward}"));
    }
}

/// Haze around the whole scene is the same medium: it dims what lies behind by its extinction, and its glow has a part of its
/// own.
#[test]
fn haze_dims_and_glows() {
    let mut set = Set::default();
    let light = set.material(Material { emission: Vec3::splat(10.0), ..Material::matte(Vec3::ZERO) });
    set.quad(Vec3::new(-5.0, -5.0, 0.0), Vec3::X * 10.0, Vec3::Y * 10.0, light);
    set.scene.cameras.push(looking(Vec3::new(0.0, 0.0, 4.0), Vec3::ZERO, 0.1));
    let stage = set.stage();
    let t = |depth: u32| {
        thin_view(2048)
            .with(K::HazeDensity, 0.25)
            .with(K::HazeBrightness, 0.5)
            .with(K::DepthVolume, depth)
            .with(K::DeliveryParts, true)
    };
    near(mean(&stage, t(0)), 10.0 * (-1.0f64).exp(), 0.005, "4 m of haze");
    let plate = run(&stage, describe(t(1), None), 2).plate();
    let part = |name: &str| {
        let layer = plate.layers.iter().find(|l| l.0 == format!("{name}.G")).unwrap_or_else(|| panic!("no {name}"));
        layer.1.iter().map(|v| *v as f64).sum::<f64>() / layer.1.len() as f64
    };
    near(part("emission"), 10.0 * (-1.0f64).exp(), 0.02, "the light itself");
    assert!(part("volume_direct") > 0.1 && part("volume_bounced") == 0.0);
}
