//! Solids: what lies inside each other, light rays that leave through rough boundaries, cameras inside, white furnaces of rough
//! glass and of media.

use crate::common::*;
use glam::Vec3;
use scene::*;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tracer::{Render, own_pool};
use tuning::{K, Tuning};

/// Clear matter that only absorbs: what is left of red, green and blue light after a metre.
pub fn absorbing(ior: f32, left: Vec3) -> Material {
    Material {
        metallic: 0.0,
        roughness: 0.0,
        transmission: 1.0,
        solid: true,
        ior,
        attenuation_colour: left,
        attenuation_distance: 1.0,
        ..Material::default()
    }
}

fn object(set: &mut Set, name: &str, add: impl FnOnce(&mut Set)) {
    let from = set.scene.world.triangles.len();
    add(set);
    set.scene.objects.push(name.into());
    let object = set.scene.objects.len() as u32 - 1;
    set.scene.world.triangles[from..].iter_mut().for_each(|t| t.object = object);
}

fn colour(set: Set, t: Tuning) -> Vec3 {
    let mean = run(&set.stage(), describe(t, None), 2).plate().mean();
    mean.iter().map(|c| Vec3::from_array(*c)).sum::<Vec3>() / mean.len() as f32
}

fn all_bounces(size: u32, samples: u32) -> Tuning {
    tuning((size, size), samples)
        .with(K::DepthTotal, 64)
        .with(K::DepthDiffuse, 64)
        .with(K::DepthReflection, 64)
        .with(K::DepthTransmission, 64)
        .with(K::DepthVolume, 64)
        .with(K::DepthTransparent, 64)
}

/// exp(−Σ σ d) through solids inside each other that bend nothing (Beer and Lambert): each way through a place counts what
/// fills it, the inner one, and behind the inner one the outer one again. From outside and from a camera within, whatever
/// the order in which they stand in the scene.
#[test]
fn every_solid_absorbs_where_it_fills_the_space() {
    let (outer, inner) = (Vec3::new(0.5, 0.8, 0.9), Vec3::new(0.9, 0.3, 0.6));
    let power = |c: Vec3, d: f32| Vec3::new(c.x.powf(d), c.y.powf(d), c.z.powf(d));
    for turned in [false, true] {
        // Camera at z; outer solid from −2 to 2, inner from −0.5 to 1.
        for (z, through) in
            [(5.0, [2.5, 1.5]), (1.5, [2.0, 1.5]), (0.25, [1.5, 0.75]), (-1.0, [1.0, 0.0]), (-3.0, [0.0, 0.0])]
        {
            let mut set = Set::default();
            let o = set.material(absorbing(1.0, outer));
            let i = set.material(absorbing(1.0, inner));
            let add = |set: &mut Set, which: bool| {
                if which {
                    object(set, "outer", |set| set.cuboid(Vec3::splat(-2.0), Vec3::splat(2.0), o));
                } else {
                    object(set, "inner", |set| set.cuboid(Vec3::new(-1.0, -1.0, -0.5), Vec3::splat(1.0), i));
                }
            };
            add(&mut set, turned);
            add(&mut set, !turned);
            let mut camera = facing(0.1);
            camera.to_world.w_axis.z = z;
            set.scene.cameras.push(camera);
            set.environment = Some(Environment::uniform([1.0; 3]));
            let got = colour(set, all_bounces(8, 4));
            let expected = power(outer, through[0]) * power(inner, through[1]);
            assert!(
                (got - expected).abs().max_element() < 2e-3,
                "camera at {z}, turned {turned}: {got}, not {expected}"
            );
        }
    }
}

/// Solids of the same index inside each other: no light is mirrored at the boundary between them. From a pane of index n that
/// absorbs, with all bounces inside it, under a sky of 1 (Hecht, *Optics*: a stack without interference) come
/// F + (1−F)² A (1 + F A) / (1 − F² A²), A = exp(−Σ σ d).
#[test]
fn boundaries_between_equal_indices_mirror_nothing() {
    let (outer, inner) = (Vec3::new(0.5, 0.8, 0.9), Vec3::new(0.9, 0.3, 0.6));
    let mut set = Set::default();
    let o = set.material(absorbing(1.5, outer));
    // However rough a boundary between equal matter is, it bends nothing.
    let i = set.material(Material { roughness: 0.4, ..absorbing(1.5, inner) });
    object(&mut set, "outer", |set| set.cuboid(Vec3::new(-50.0, -50.0, -0.5), Vec3::new(50.0, 50.0, 0.5), o));
    object(&mut set, "inner", |set| set.cuboid(Vec3::new(-20.0, -20.0, -0.2), Vec3::new(20.0, 20.0, 0.2), i));
    set.scene.cameras.push(facing(0.1));
    set.environment = Some(Environment::uniform([1.0; 3]));
    let got = colour(set, all_bounces(16, 256));
    for c in 0..3 {
        let a = outer[c].powf(0.6) * inner[c].powf(0.4);
        let f = 0.04;
        let expected = f + (1.0 - f) * (1.0 - f) * a * (1.0 + f * a) / (1.0 - f * f * a * a);
        assert!((got[c] - expected).abs() < 4e-3, "{got}, not {expected}");
    }
}

/// A lamp, a point light, a sun and a sky behind a rough pane of glass that absorbs next to nothing, against the same pane of clear
/// glass: a millimetre takes 2 ‰, on slanted ways a little more.
#[test]
fn light_rays_that_leave_rough_glass_are_in_the_open() {
    for kind in ["point", "sun", "sky", "lamp"] {
        let look = |left: f32| {
            let mut set = Set::default();
            let mut glass = absorbing(1.5, Vec3::splat(left));
            (glass.roughness, glass.attenuation_distance) = (0.5, 0.001);
            let m = set.material(glass);
            set.cuboid(Vec3::new(-3.0, -3.0, 0.0), Vec3::new(3.0, 3.0, 0.001), m);
            let light = |kind| Light {
                name: "light".into(),
                kind,
                intensity: Vec3::splat(5.0),
                position: Vec3::new(0.1, 0.0, -2.0),
                direction: Vec3::new(0.1, 0.2, 1.0).normalize(),
            };
            match kind {
                "point" => set.scene.lights.push(light(LightKind::Point)),
                "sun" => set.scene.lights.push(light(LightKind::Directional)),
                "sky" => set.environment = Some(Environment::uniform([1.0; 3])),
                _ => {
                    let lamp = set.material(Material { emission: Vec3::splat(5.0), ..Material::matte(Vec3::ZERO) });
                    set.quad(Vec3::new(-0.3, -0.3, -2.0), Vec3::X * 0.6, Vec3::Y * 0.6, lamp);
                }
            }
            set.scene.cameras.push(facing(0.05));
            mean(&set.stage(), all_bounces(12, 1024))
        };
        let (clear, tinted) = (look(1.0), look(0.998));
        let share = tinted / clear;
        assert!(clear > 0.01 && (0.985..1.0).contains(&share), "{kind}: {tinted} of {clear}");
    }
}

/// A closed white furnace: whatever absorbs nothing looks like the sky, as solid glass of any roughness and index, with milk
/// inside, of even and of unequal densities, in haze.
#[test]
fn white_solids_look_like_the_sky() {
    let milk = |scattering: [f32; 3]| Some(Medium { scattering, absorption: [0.0; 3], forward: 0.3 });
    let cases: Vec<(f32, f32, Option<Medium>, f32)> = vec![
        (1.5, 0.0, None, 0.0),
        (1.5, 0.1, None, 0.0),
        (1.5, 0.35, None, 0.0),
        (1.5, 0.7, None, 0.0),
        (1.5, 1.0, None, 0.0),
        (1.1, 0.3, None, 0.0),
        (2.4, 0.8, None, 0.0),
        (1.0, 0.3, None, 0.0),
        (1.5, 0.3, None, 0.5),
        (1.0, 0.0, milk([4.0; 3]), 0.0),
        (1.0, 0.0, milk([0.2, 0.8, 3.0]), 0.0),
        (1.3, 0.0, milk([1.0, 3.0, 6.0]), 0.0),
        (1.3, 0.4, milk([3.0; 3]), 0.3),
    ];
    for (ior, roughness, medium, haze) in cases {
        let mut set = Set::default();
        let m = set.material(Material { roughness, name: "glass".into(), ..absorbing(ior, Vec3::ONE) });
        set.sphere(Vec3::ZERO, 1.0, m);
        set.scene.cameras.push(facing(0.9));
        set.environment = Some(Environment::uniform([1.0; 3]));
        let mut edits = ShotEdits::default();
        edits.media.extend(medium.map(|m| ("glass".to_string(), m)));
        let mut t = all_bounces(24, 256).with(K::DepthVolume, 128).with(K::DepthTotal, 128);
        if haze > 0.0 {
            t = t.with(K::HazeDensity, haze).with(K::HazeBrightness, 1.0);
        }
        let mut render = Render::new(set.stage(), edited(t, edits), Arc::new(own_pool(2).unwrap()), false).unwrap();
        while render.step(&AtomicBool::new(false)) {}
        let plate = render.plate();
        let what = format!("index {ior}, roughness {roughness}, {medium:?}, haze {haze}");
        for c in 0..3 {
            let n = plate.a.len() as f64;
            let pixel = |i: usize| 0.5 * (plate.a[i][c] + plate.b[i][c]) as f64;
            let mean = (0..plate.a.len()).map(pixel).sum::<f64>() / n;
            let most = (0..plate.a.len()).map(pixel).fold(0.0, f64::max);
            let error =
                ((0..plate.a.len()).map(|i| (0.5 * (plate.a[i][c] - plate.b[i][c]) as f64).powi(2)).sum::<f64>())
                    .sqrt()
                    / n;
            assert!((mean - 1.0).abs() < 0.006 + 4.0 * error && error < 0.01, "{what}, channel {c}: {mean} ± {error}");
            // No sample is far brighter than all there is to see.
            assert!(most < 1.5, "{what}, channel {c}: a pixel of {most}");
        }
    }
}
