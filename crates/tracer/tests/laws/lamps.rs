//! Lamps: as much light arrives however many light rays are sent, whatever lies between, whatever shape the lamp has.

use crate::common::{self, *};
use glam::Vec3;
use scene::*;
use std::f64::consts::PI;
use tuning::{K, Tuning};

const ALBEDO: f64 = 0.5;

/// Seen obliquely from the side.
fn floor() -> Set {
    common::floor(ALBEDO, Vec3::new(0.3, 0.2, 0.0))
}

fn lamp_material(radiance: f32) -> Material {
    Material { emission: Vec3::splat(radiance), ..Material::matte(Vec3::ZERO) }
}

fn one_bounce(samples: u32) -> Tuning {
    tuning((12, 12), samples).with(K::DepthTotal, 1)
}

/// Irradiance at the origin of the floor.
fn irradiance(set: Set, t: Tuning, edits: ShotEdits) -> f64 {
    average(&pixels(&set.stage(), edited(t, edits))) * PI / ALBEDO
}

/// A ball of n × n/2 facets about a point.
fn ball(set: &mut Set, centre: Vec3, radius: f32, n: usize, material: u32) {
    let at = |i: usize, j: usize| {
        let (a, b) =
            (i as f32 / n as f32 * 2.0 * std::f32::consts::PI, j as f32 / n as f32 * 2.0 * std::f32::consts::PI);
        centre + radius * Vec3::new(b.sin() * a.cos(), b.cos(), b.sin() * a.sin())
    };
    for j in 0..n / 2 {
        for i in 0..n {
            let [a, b, c, d] = [at(i, j), at(i + 1, j), at(i + 1, j + 1), at(i, j + 1)];
            if j > 0 {
                set.triangle([a, b, c], None, material);
            }
            if j + 1 < n / 2 {
                set.triangle([a, c, d], None, material);
            }
        }
    }
}

/// πL(r/d)², the irradiance that a ball of even radiance sends to a surface that faces it, at distance d of its middle
/// (Howell, *A Catalog of Radiation Heat Transfer Configuration Factors*, B-12; from memory). A ball of facets has a smaller
/// outline: that of a disc of n corners, about.
#[test]
fn a_bulb_shines_as_much_however_many_light_rays_are_sent() {
    for (facets, radius) in [(48, 0.02f32), (64, 0.6), (128, 0.1), (128, 0.5)] {
        let corner = 2.0 * PI / facets as f64;
        let outline = corner.sin() / corner;
        let expected = PI * 5.0 * (radius as f64).powi(2) * outline;
        for rays in [1, 2, 5, 16] {
            let mut set = floor();
            // It shines outwards only, so that most of it sends nothing to a point.
            let m = set.material(Material { double_sided: false, ..lamp_material(5.0) });
            ball(&mut set, Vec3::Y, radius, facets, m);
            let got = irradiance(set, one_bounce(512 / rays).with(K::SplitDirect, rays), ShotEdits::default());
            near(
                got,
                expected,
                0.012 + 2.0 / (facets * facets) as f64,
                &format!("{facets} facets, {radius} m, {rays} rays"),
            );
        }
    }
}

/// What lies between lamp and floor and stops nothing: a sheet of alpha 0, a cut-out mask, an open volume; or half of it.
#[test]
fn a_lamp_shines_through_sheets_of_any_size() {
    let sheets = [
        (1.0, Material { alpha: Alpha::Blend, base_alpha: 0.0, ..Material::matte(Vec3::ONE) }),
        (0.5, Material { alpha: Alpha::Blend, base_alpha: 0.5, ..Material::matte(Vec3::ZERO) }),
        (1.0, Material { alpha: Alpha::Mask(0.5), base_alpha: 0.4, ..Material::matte(Vec3::ONE) }),
        (
            1.0,
            Material { transmission: 1.0, solid: true, ior: 1.0, roughness: 0.0, metallic: 0.0, ..Material::default() },
        ),
    ];
    for size in [0.3f32, 6.0, 70.0, 3000.0] {
        for (share, sheet) in &sheets {
            let mut set = floor();
            let lamp = set.material(lamp_material(3.0));
            let m = set.material(sheet.clone());
            set.quad(Vec3::new(-0.1, 1.0, -0.1), Vec3::X * 0.2, Vec3::Z * 0.2, lamp);
            let (lo, hi) = (Vec3::new(-size, 0.4, -size), Vec3::new(size, 0.5, size));
            if sheet.solid {
                set.cuboid(lo, hi, m);
            } else {
                set.quad(lo, Vec3::X * 2.0 * size, Vec3::Z * 2.0 * size, m);
            }
            // Four corner factors of a parallel rectangle (Howell B-3; from memory).
            let (x, y) = (0.1f64, 0.1f64);
            let (p, q) = ((1.0 + x * x).sqrt(), (1.0 + y * y).sqrt());
            let factor = 4.0 * (x / p * (y / p).atan() + y / q * (x / q).atan()) / (2.0 * PI);
            let got = irradiance(set, one_bounce(128), ShotEdits::default());
            near(got, PI * 3.0 * factor * share, 0.01, &format!("sheet of {size} m that lets {share} pass"));
        }
    }
}

/// A lamp whose surface is there for a share of the light sends that share.
#[test]
fn a_see_through_lamp_sends_the_share_that_is_there() {
    for (alpha, share) in [
        (Alpha::Blend, 0.5f32),
        (Alpha::Blend, 0.02),
        (Alpha::Blend, 0.0),
        (Alpha::Mask(0.5), 0.4),
        (Alpha::Mask(0.5), 0.6),
        (Alpha::Opaque, 0.3),
    ] {
        let mut set = floor();
        let lamp = set.material(Material { alpha, base_alpha: share, ..lamp_material(4.0) });
        set.quad(Vec3::new(-0.5, 2.0, -0.5), Vec3::X, Vec3::Z, lamp);
        let there = match alpha {
            Alpha::Blend => share as f64,
            Alpha::Mask(cutoff) => (share >= cutoff) as u32 as f64,
            Alpha::Opaque => 1.0,
        };
        let x = 0.25f64;
        let p = (1.0 + x * x).sqrt();
        let whole = PI * 4.0 * 4.0 * (2.0 * (x / p) * (x / p).atan()) / (2.0 * PI);
        let got = irradiance(set, one_bounce(256), ShotEdits::default());
        assert!((got - whole * there).abs() < 0.015 * whole, "{alpha:?} {share}: {got} of {}", whole * there);
    }
}

/// A sun sends its irradiance whatever its angle; to the floor with the cosine of its height.
#[test]
fn a_sun_of_any_angle_sends_its_irradiance() {
    for angle in [0.0f32, 1e-4, 0.001, 0.01, 0.02, 0.03, 0.05, 0.1, 0.53, 5.0] {
        for direction in [Vec3::NEG_Y, Vec3::new(0.6, -0.8, 0.0), Vec3::new(0.1, -0.3, 0.93)] {
            let mut set = floor();
            set.scene.lights.push(Light {
                name: "sun".into(),
                kind: LightKind::Directional,
                intensity: Vec3::splat(7.0),
                position: Vec3::ZERO,
                direction: direction.normalize(),
            });
            let mut edits = ShotEdits::default();
            edits.lights.insert("sun".into(), LightEdit { angle, ..LightEdit::default() });
            let got = irradiance(set, one_bounce(16), edits);
            near(got, 7.0 * -direction.normalize().y as f64, 0.004, &format!("{angle}° from {direction}"));
        }
    }
}

/// A floor under a sky of 1, directly and in a mirror, with the sky lighting, mirrored and seen or not.
#[test]
fn a_floor_in_a_mirror_looks_as_it_does_directly() {
    for (light, reflection) in [(true, true), (true, false), (false, true), (false, false)] {
        for depth in 2..=4 {
            let look = |mirror: bool| {
                let mut set = Set::default();
                let floor = set.material(Material {
                    metallic: 0.0,
                    roughness: 0.15,
                    base: Vec3::new(0.02, 0.1, 0.9),
                    transmission: 0.5,
                    ..Material::default()
                });
                let chrome = set.material(Material { roughness: 0.0, ..Material::default() });
                set.quad(Vec3::new(-40.0, 0.0, -40.0), Vec3::Z * 80.0, Vec3::X * 80.0, floor);
                // The camera looks down on the origin at 45°, or up at a mirror above it that shows the same from the same side.
                let (from, to) = if mirror {
                    set.quad(Vec3::new(0.99, 1.0, -0.01), Vec3::X * 0.02, Vec3::Z * 0.02, chrome);
                    (Vec3::new(2.0, 0.0, 0.0) + Vec3::new(-0.02, 0.02, 0.0), Vec3::new(1.0, 1.0, 0.0))
                } else {
                    (Vec3::new(1.0, 1.0, 0.0), Vec3::ZERO)
                };
                set.scene.cameras.push(looking(from, to, 0.1));
                set.environment = Some(Environment::uniform([1.0; 3]));
                let t = tuning((12, 12), 512)
                    .with(K::DepthTotal, depth + mirror as u32)
                    .with(K::DepthReflection, depth + mirror as u32)
                    .with(K::EnvironmentLight, light)
                    .with(K::EnvironmentReflection, reflection);
                mean(&set.stage(), t)
            };
            let (straight, mirrored) = (look(false), look(true));
            println!("{light} {reflection} {depth}: {straight} {mirrored}");
            let what = format!("light {light}, reflection {reflection}, {depth} bounces");
            assert!((straight - mirrored).abs() < 0.02 * straight + 1e-9, "{what}: {straight} {mirrored}");
        }
    }
}

/// Clamps hold whatever is told of a sample, also the light that fills the tail: in a closed bright room with few bounces, the light of
/// a sample is its direct and emitted light and at most the limit of bounced light.
#[test]
fn clamps_hold_the_tail_as_well() {
    let room = || {
        let mut set = furnace(0.9);
        set.scene.materials[0].emission = Vec3::splat(0.5);
        set
    };
    let filled = |limit: f64| {
        let t = tuning((12, 12), 64).with(K::DepthTotal, 4).with(K::PathsFill, true).with(K::ClampDiffuse, limit);
        average(&pixels(&room().stage(), describe(t, None)))
    };
    // Without a clamp the tail brings all light: E / (1 − ρ). Emission and one bounce are 0.5 and 0.45.
    near(filled(0.0), 5.0, 0.03, "no clamp");
    for limit in [1.0, 0.2] {
        let got = filled(limit);
        assert!(got < 0.95 + 1.001 * limit && got > 0.9 + 0.5 * limit, "limit {limit}: {got}");
    }
}
