//! What belongs together agrees: parts and picture, splits, limits, instances, sizes, cut-outs.

mod common;

use common::*;
use glam::{Affine3A, Quat, Vec3};
use picture::Plate;
use scene::*;
use std::sync::Arc;
use tracer::*;
use tuning::{K, Tuning};

fn small(samples: u32) -> Tuning {
    tuning((32, 24), samples)
}

fn plate(stage: &Arc<Stage>, t: Tuning) -> Plate {
    run(stage, describe(t, None), 2).plate()
}

fn total(plate: &Plate) -> [f64; 3] {
    let m = plate.mean();
    [0, 1, 2].map(|c| m.iter().map(|p| p[c] as f64).sum::<f64>() / m.len() as f64)
}

#[track_caller]
fn same_mean(a: &Plate, b: &Plate, relative: f64, what: &str) {
    let (a, b) = (total(a), total(b));
    (0..3).for_each(|c| near(a[c], b[c], relative, what));
}

/// The parts add up to the picture in every pixel, and so do the light groups.
#[test]
fn parts_and_lights_add_up_to_the_picture() {
    let mut set = room();
    set.scene.objects = vec!["everything".into()];
    let stage = set.stage();
    for (filter, samples) in [("box", 32), ("mitchell_netravali", 48), ("lanczos", 8)] {
        let t = small(samples).with(K::DeliveryParts, true).with(K::HazeDensity, 0.05).with(K::FrameFilter, filter);
        let plate = plate(&stage, t.with(K::FrameFilterRadius, 1.5));
        let mean = plate.mean();
        for parts in [true, false] {
            for (c, channel) in ["R", "G", "B"].iter().enumerate() {
                let layers: Vec<&Vec<f32>> = (plate.layers.iter())
                    .filter(|(name, _)| {
                        let (own, last) = name.rsplit_once('.').expect("a channel");
                        last == *channel && (own.starts_with("light ") != parts) && own != "first_albedo"
                    })
                    .map(|l| &l.1)
                    .collect();
                assert!(layers.len() >= 2);
                for (i, p) in mean.iter().enumerate() {
                    let sum: f32 = layers.iter().map(|l| l[i]).sum();
                    assert!((sum - p[c]).abs() < 2e-4 * (1.0 + p[c].abs()), "{filter}, pixel {i}: {sum} and {}", p[c]);
                }
            }
        }
    }
}

/// More rays at the first hit, roulette and lights with rays of their own are other ways to the same mean.
#[test]
fn splits_and_roulette_keep_the_mean() {
    let stage = room().stage();
    let plain = run(&stage, describe(small(1024).with(K::SplitDirect, 1), None), 2);
    let base = plain.plate();
    let splits = small(256)
        .with(K::SplitDirect, 3)
        .with(K::SplitDiffuse, 2)
        .with(K::SplitReflection, 4)
        .with(K::SplitTransmission, 3);
    let split = run(&stage, describe(splits, None), 2);
    same_mean(&split.plate(), &base, 0.01, "splits");
    let first =
        |r: &Render, kind: RayKind| r.report().rays.iter().find(|r| r.kind == kind).map_or(0.0, |r| r.first_per_sample);
    for (kind, factor) in [(RayKind::Direct, 3.0), (RayKind::Diffuse, 2.0), (RayKind::Reflection, 4.0)] {
        near(first(&split, kind) / first(&plain, kind), factor, 0.02, "rays a sample as the report states them");
    }
    same_mean(&plate(&stage, small(1024).with(K::RouletteFrom, 1)), &base, 0.01, "early roulette");
    let edit = LightEdit { split: 4, ..LightEdit::default() };
    let edits = ShotEdits { lights: [("environment".to_string(), edit)].into(), ..ShotEdits::default() };
    let own = run(&stage, edited(small(512), edits), 2).plate();
    same_mean(&own, &base, 0.01, "an environment with rays of its own");
}

/// Means of renders with different seeds scatter as their own halves say: over 24 seeds the spread of the mean is the error
/// that the halves promise (a ratio of two variance estimates with 24 degrees of freedom stays within 0.45 … 2.2).
#[test]
fn seeds_differ_as_their_errors_say() {
    let stage = room().stage();
    let runs: Vec<(f64, f64)> = (0..24)
        .map(|seed| {
            let p = plate(&stage, tuning((16, 12), 16).with(K::SamplingSeed, seed + 10));
            let n = p.a.len() as f64;
            let half = |h: &[[f32; 3]]| h.iter().map(|c| c[1] as f64).sum::<f64>() / n;
            let (a, b) = (half(&p.a), half(&p.b));
            (0.5 * (a + b), (0.5 * (a - b)).powi(2))
        })
        .collect();
    let n = runs.len() as f64;
    let mean = runs.iter().map(|r| r.0).sum::<f64>() / n;
    let found = runs.iter().map(|r| (r.0 - mean).powi(2)).sum::<f64>() / (n - 1.0);
    let promised = runs.iter().map(|r| r.1).sum::<f64>() / n;
    assert!((0.45..2.2).contains(&(found / promised)), "variance {found}, promised {promised}");
}

/// A thousand instances of one mesh are the same picture as a thousand copies, and cost one mesh.
#[test]
fn instances_are_copies_that_cost_one_mesh() {
    let grid = |i: usize| {
        let (x, z) = ((i % 32) as f32 - 16.0, (i / 32) as f32 - 16.0);
        let turn = Quat::from_rotation_y(i as f32) * Quat::from_rotation_x(0.3);
        let size = Vec3::new(0.2, 0.3 + 0.01 * (i % 7) as f32, if i.is_multiple_of(2) { 0.2 } else { -0.2 });
        Affine3A::from_scale_rotation_translation(size, turn, Vec3::new(x, 0.2, z) * 0.5)
    };
    let build = |instanced: bool| {
        let mut set = Set::default();
        let m = set.material(Material { metallic: 0.0, roughness: 0.3, base: Vec3::splat(0.7), ..Material::default() });
        let shine = set.material(Material { emission: Vec3::splat(3.0), ..Material::matte(Vec3::ZERO) });
        let mut one = Set::default();
        one.sphere(Vec3::ZERO, 1.0, m);
        one.quad(Vec3::new(-0.3, 1.2, -0.3), Vec3::Z * 0.6, Vec3::X * 0.6, shine);
        let mesh = one.scene.world;
        for i in 0..1000 {
            let place = grid(i);
            if instanced {
                set.scene.instances.push(Instance { mesh: 0, to_world: place, object: 0 });
                continue;
            }
            let flip = place.matrix3.determinant() < 0.0;
            for t in &mesh.triangles {
                let mut p = mesh.corners(t).map(|v| place.transform_point3(v));
                let mut n = mesh
                    .corner_normals(t)
                    .map(|n| (glam::Mat3::from(place.matrix3).inverse().transpose() * n).normalize());
                if flip {
                    p.swap(1, 2);
                    n.swap(1, 2);
                }
                set.triangle(p, Some(n), t.material);
            }
        }
        if instanced {
            set.scene.shared.push(mesh);
        }
        set.environment = Some(Environment::uniform([0.3; 3]));
        set.scene.cameras.push(looking(Vec3::new(0.0, 3.0, 6.0), Vec3::ZERO, 40.0));
        set.stage()
    };
    let (instances, copies) = (build(true), build(false));
    assert!(instances.world.bytes() * 40 < copies.world.bytes());
    let t = tuning((48, 32), 256).with(K::DepthTotal, 3);
    let (a, b) = (plate(&instances, t.clone()), plate(&copies, t));
    same_mean(&a, &b, 0.005, "instances and copies");
    // And pixel by pixel, within the noise of both.
    let worst = a.mean().iter().zip(b.mean()).map(|(a, b)| (a[1] - b[1]).abs()).fold(0.0f32, f32::max);
    assert!(worst < 0.15, "{worst}");
}

/// The same scene in millimetres and in kilometres: no light leaks, no black specks.
#[test]
fn scenes_of_any_size_look_alike() {
    let scaled = |scale: f32, offset: f32| {
        let mut set = room();
        let w = &mut set.scene.world;
        w.positions.iter_mut().for_each(|p| *p = *p * scale + Vec3::splat(offset * scale));
        set.scene.materials[2].attenuation_distance *= scale;
        let camera = &mut set.scene.cameras[0];
        let at = camera.to_world.w_axis.truncate() * scale + Vec3::splat(offset * scale);
        camera.to_world.w_axis = at.extend(1.0);
        set.stage()
    };
    let base = plate(&scaled(1.0, 0.0), small(512));
    for (scale, offset, relative) in [(1e-3, 0.0, 0.004), (1e4, 0.0, 0.004), (1.0, 300.0, 0.01)] {
        let other = plate(&scaled(scale, offset), small(512));
        same_mean(&other, &base, relative, &format!("scale {scale}, {offset} from the origin"));
    }
}

/// A closed furnace with the tail filled shines as brightly as with all bounces (geometric series), whatever the limit.
#[test]
fn tail_fill_completes_the_furnace() {
    for (albedo, bounces) in [(0.5f32, 3u32), (0.8, 6)] {
        let stage = furnace(albedo).stage();
        let t =
            tuning((32, 32), 128).with(K::DepthTotal, bounces).with(K::DepthDiffuse, 128).with(K::RouletteFrom, 128);
        let whole = 1.0 / (1.0 - albedo as f64);
        let cut = mean(&stage, t.clone());
        assert!(cut < 0.95 * whole, "the limit takes light away: {cut}");
        near(mean(&stage, t.with(K::PathsFill, true)), whole, 0.01, &format!("albedo {albedo} after {bounces}"));
    }
}

/// Caustics off takes light away and clamps take away no more than they say; softening keeps it.
#[test]
fn look_changes_take_light_and_say_so() {
    let stage = room().stage();
    let base = total(&plate(&stage, small(512)));
    let off = total(&plate(&stage, small(512).with(K::CausticsReflected, false).with(K::CausticsRefracted, false)));
    assert!(off[1] < 0.98 * base[1]);
    let soft = total(&plate(&stage, small(512).with(K::PathsSoften, 0.3)));
    near(soft[1], base[1], 0.03, "softened caustics");
    let clamped = run(&stage, describe(small(512).with(K::ClampDiffuse, 0.2).with(K::ClampReflection, 0.2), None), 2);
    let (kept, lost) = (total(&clamped.plate()), clamped.report().clamped);
    let luminance = |c: [f64; 3]| 0.2126 * c[0] + 0.7152 * c[1] + 0.0722 * c[2];
    assert!(lost > 0.01, "{lost}");
    near(luminance(kept) / (1.0 - lost), luminance(base), 0.01, "what is left and what was taken");
}

/// A see-through surface is its share of the surface and its share of what lies behind; a cut-out is either; shadows pass
/// through both likewise.
#[test]
fn alpha_blends_and_cuts() {
    let build = |alpha: Alpha, base_alpha: f32| {
        let mut set = Set::default();
        let sheet = set.material(Material { alpha, base_alpha, ..Material::matte(Vec3::ZERO) });
        let wall = set.material(Material::matte(Vec3::ONE));
        set.quad(Vec3::new(-9.0, -9.0, 1.0), Vec3::X * 18.0, Vec3::Y * 18.0, sheet);
        set.quad(Vec3::new(-9.0, -9.0, 0.0), Vec3::X * 18.0, Vec3::Y * 18.0, wall);
        set.scene.lights.push(Light {
            name: "sun".into(),
            kind: LightKind::Directional,
            intensity: Vec3::splat(std::f32::consts::PI),
            position: Vec3::ZERO,
            direction: Vec3::NEG_Z,
        });
        set.scene.cameras.push(looking(Vec3::new(0.0, 0.0, 3.0), Vec3::ZERO, 1.0));
        mean(&set.stage(), tuning((8, 8), 512).with(K::DepthTotal, 1))
    };
    // Light passes the sheet twice: to the wall and back to the camera.
    near(build(Alpha::Blend, 0.3), 0.7 * 0.7, 0.01, "blend");
    near(build(Alpha::Mask(0.5), 0.4), 1.0, 1e-4, "cut away");
    assert_eq!(build(Alpha::Mask(0.5), 0.6), 0.0);
    assert_eq!(build(Alpha::Opaque, 0.3), 0.0);
}

/// Ids and first-surface guides of the first surface, whatever lies in front of the light.
#[test]
fn guides_and_ids_name_what_is_seen() {
    let mut set = room();
    set.scene.objects = vec!["floor".into(), "ball".into()];
    let from = set.scene.world.triangles.len() - 2 * 48 * 23;
    set.scene.world.triangles[from..].iter_mut().for_each(|t| t.object = 1);
    let p = plate(&set.stage(), small(16).with(K::DeliveryParts, true));
    let layer = |name: &str| &p.layers.iter().find(|l| l.0 == name).expect(name).1;
    // The glossy ball stands right of the middle.
    let ball = 11 * 32 + 20;
    assert_eq!((layer("object.id")[ball], layer("material.id")[ball]), (2.0, 4.0));
    let position = Vec3::new(layer("position.X")[ball], layer("position.Y")[ball], layer("position.Z")[ball]);
    near((position - Vec3::new(0.6, 0.5, -0.3)).length() as f64, 0.5, 0.02, "on the ball");
    let corner = 23 * 32;
    assert_eq!((layer("object.id")[corner], layer("material.id")[corner]), (1.0, 2.0));
    near(layer("position.Y")[corner] as f64 + 1.0, 1.0, 1e-3, "on the floor");
}
