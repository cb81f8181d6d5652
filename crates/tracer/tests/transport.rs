//! Light transport against closed forms. Sources stand beside each check.

mod common;

use common::*;
use glam::Vec3;
use scene::*;
use std::f64::consts::PI;
use tuning::K;

/// A closed space of emission E and albedo ρ has radiance E(1−ρ^(k+1))/(1−ρ) after k bounces and E/(1−ρ) in the end:
/// the geometric series, e.g. Pharr, Jakob and Humphreys (4th ed.), on the Neumann series.
#[test]
fn closed_furnace_is_a_geometric_series() {
    for albedo in [0.2f64, 0.5, 0.8] {
        let stage = furnace(albedo as f32).stage();
        for bounces in [0u32, 1, 2, 5] {
            let t = tuning((16, 16), 128).with(K::DepthTotal, bounces).with(K::RouletteFrom, 100);
            let expected = (1.0 - albedo.powi(bounces as i32 + 1)) / (1.0 - albedo);
            near(mean(&stage, t), expected, 0.01, &format!("albedo {albedo}, {bounces} bounces"));
        }
        let t = tuning((16, 16), 512).with(K::DepthTotal, 128).with(K::DepthDiffuse, 128).with(K::RouletteFrom, 3);
        near(mean(&stage, t), 1.0 / (1.0 - albedo), 0.01, &format!("albedo {albedo}, all bounces with roulette"));
    }
}

/// Irradiance under the centre of a uniform disc of radius r at height h: πL r²/(r²+h²) (Howell, *A Catalog of Radiation
/// Heat Transfer Configuration Factors*, B-12; from memory).
#[test]
fn disc_light_gives_its_configuration_factor() {
    for (radius, height) in [(0.5f64, 1.0f64), (1.0, 0.5)] {
        let (albedo, radiance, sides) = (0.6f64, 3.0f64, 256);
        let mut set = Set::default();
        let light = set.material(Material { emission: Vec3::splat(radiance as f32), ..Material::matte(Vec3::ZERO) });
        let floor = set.material(Material::matte(Vec3::splat(albedo as f32)));
        let rim = |k: usize| {
            let a = k as f32 / sides as f32 * std::f32::consts::TAU;
            Vec3::new(radius as f32 * a.cos(), height as f32, radius as f32 * a.sin())
        };
        for k in 0..sides {
            set.triangle([Vec3::Y * height as f32, rim(k), rim(k + 1)], None, light);
        }
        set.quad(Vec3::new(-9.0, 0.0, -9.0), Vec3::Z * 18.0, Vec3::X * 18.0, floor);
        set.scene.cameras.push(looking(Vec3::new(5.0, 0.3, 0.0), Vec3::ZERO, 0.2));
        let t = tuning((8, 8), 512).with(K::DepthTotal, 1);
        let irradiance = PI * radiance * radius * radius / (radius * radius + height * height);
        near(mean(&set.stage(), t), albedo / PI * irradiance, 0.01, &format!("radius {radius}, height {height}"));
    }
}

/// View factors between faces of a cube: opposite 0.1998, adjacent 0.2000 (Howell's catalogue, C-11 and C-14; from memory).
/// A white face lit by another of radiance 1 sends their view factor back.
#[test]
fn cube_faces_see_a_fifth_of_each_other() {
    for (opposite, expected) in [(true, 0.1998), (false, 0.2000)] {
        let mut set = Set::default();
        let light = set.material(Material { emission: Vec3::ONE, ..Material::matte(Vec3::ZERO) });
        let white = set.material(Material::matte(Vec3::ONE));
        set.quad(Vec3::new(-0.5, 0.0, -0.5), Vec3::Z, Vec3::X, white);
        if opposite {
            set.quad(Vec3::new(-0.5, 1.0, -0.5), Vec3::X, Vec3::Z, light);
        } else {
            set.quad(Vec3::new(-0.5, 0.0, -0.5), Vec3::X, Vec3::Y, light);
        }
        let mut camera = looking(Vec3::new(0.0, 0.9, 0.0), Vec3::ZERO, 1.0);
        camera.projection = Projection::Orthographic { half_height: 0.5 };
        set.scene.cameras.push(camera);
        let t = tuning((32, 32), 512).with(K::DepthTotal, 1);
        near(mean(&set.stage(), t), expected, 0.005, if opposite { "opposite" } else { "adjacent" });
    }
}

/// Lambert's law with the units of KHR_lights_punctual: ρ I cosθ/(π d²) for candela, ρ E cosθ/π for lux.
#[test]
fn punctual_lights_follow_lambert() {
    for (kind, angle) in [(LightKind::Point, 0.0f32), (LightKind::Point, 50.0), (LightKind::Directional, 30.0)] {
        let mut set = Set::default();
        let floor = set.material(Material::matte(Vec3::splat(0.7)));
        set.quad(Vec3::new(-9.0, 0.0, -9.0), Vec3::Z * 18.0, Vec3::X * 18.0, floor);
        let a = angle.to_radians();
        let position = Vec3::new(a.sin(), a.cos(), 0.0) * 2.0;
        set.scene.lights.push(Light {
            name: "light".into(),
            kind,
            intensity: Vec3::splat(5.0),
            position,
            direction: -position.normalize(),
        });
        set.scene.cameras.push(looking(Vec3::new(0.0, 3.0, 3.0), Vec3::ZERO, 0.05));
        let falloff = if kind == LightKind::Point { 4.0 } else { 1.0 };
        let expected = 0.7 * 5.0 * (angle as f64).to_radians().cos() / (PI * falloff);
        near(mean(&set.stage(), tuning((4, 4), 16)), expected, 0.002, &format!("{kind:?} at {angle}°"));
    }
}

/// Law of Beer and Lambert: a slab of index 1 that leaves `c` of the light after 1 m leaves c^d after d metres.
#[test]
fn absorption_is_exponential() {
    let mut set = Set::default();
    let slab = set.material(Material {
        base: Vec3::ONE,
        metallic: 0.0,
        roughness: 0.0,
        ior: 1.0,
        transmission: 1.0,
        solid: true,
        attenuation_colour: Vec3::splat(0.25),
        attenuation_distance: 1.0,
        ..Material::default()
    });
    set.cuboid(Vec3::new(-9.0, -9.0, -0.7), Vec3::new(9.0, 9.0, 0.0), slab);
    set.environment = Some(Environment::uniform([1.0; 3]));
    set.scene.cameras.push(looking(Vec3::new(0.0, 0.0, 3.0), Vec3::ZERO, 0.1));
    near(mean(&set.stage(), tuning((4, 4), 64)), 0.25f64.powf(0.7), 0.002, "0.7 m");
}

/// White furnace: clear glass and white rough metal cannot be told from an even environment.
#[test]
fn lossless_objects_vanish_in_an_even_environment() {
    let glass = |roughness| Material {
        base: Vec3::ONE,
        metallic: 0.0,
        roughness,
        transmission: 1.0,
        solid: true,
        ..Material::default()
    };
    let metal = Material { base: Vec3::ONE, metallic: 1.0, roughness: 0.6, ..Material::default() };
    let thin = Material { solid: false, ..glass(0.0) };
    for (m, tolerance, what) in
        [(glass(0.0), 0.01, "clear glass"), (thin, 0.005, "thin sheet"), (metal, 0.015, "rough white metal")]
    {
        let mut set = Set::default();
        let m = set.material(m);
        set.sphere(Vec3::ZERO, 1.0, m);
        set.environment = Some(Environment::uniform([1.0; 3]));
        set.scene.cameras.push(looking(Vec3::new(0.0, 0.0, 4.0), Vec3::ZERO, 20.0));
        let t = tuning((24, 24), 128)
            .with(K::DepthTotal, 128)
            .with(K::DepthTransmission, 128)
            .with(K::DepthReflection, 128)
            .with(K::RouletteFrom, 128);
        near(mean(&set.stage(), t), 1.0, tolerance, what);
    }
}
