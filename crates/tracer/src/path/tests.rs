//! Joining light rays and scattered rays against either of them alone.

use super::*;
use crate::description::Description;
use crate::lights::Lights;
use scene::{AddedLight, Camera, LightEdit, Material, Mesh, Scene, Shape, ShotEdits, Triangle};
use std::sync::Arc;
use tuning::{K, Tuning};

/// A glossy floor under a rectangle of light.
fn stage(roughness: f32) -> Stage {
    let positions = [[-9.0, -9.0], [-9.0, 9.0], [9.0, 9.0], [9.0, -9.0]].map(|[x, z]| Vec3::new(x, 0.0, z)).to_vec();
    let triangle = |vertices| Triangle { vertices, material: 0, object: 0 };
    let world = Mesh {
        normals: vec![Vec3::Y; 4],
        positions,
        triangles: vec![triangle([0, 1, 2]), triangle([0, 2, 3])],
        ..Mesh::default()
    };
    let material = Material { roughness, metallic: 0.0, base: Vec3::splat(0.3), ..Material::default() };
    let camera = Camera::looking("Test", Vec3::new(0.0, 1.0, 2.0), Vec3::ZERO, 0.3);
    Stage::new(Arc::new(Scene { world, materials: vec![material], cameras: vec![camera], ..Scene::default() }), None)
}

fn edits(size: f32) -> ShotEdits {
    let light = AddedLight {
        name: "lamp".into(),
        shape: Shape::Rectangle { width: size, height: size },
        position: [0.0, 1.0, -2.0],
        towards: [0.0; 3],
        radiance: [1.0; 3],
        seen: false,
        edit: LightEdit::default(),
    };
    ShotEdits { added: vec![light], ..ShotEdits::default() }
}

/// Mean and variance of samples with a strategy: both, light rays alone, scattered rays alone.
fn estimate(stage: &Stage, size: f32, strategy: usize) -> (f64, f64) {
    let mut edits = edits(size);
    // A light whose shadow is not quite whole can only be met by light rays.
    if strategy == 1 {
        edits.added[0].edit.shadow_strength = Some(0.999_999);
    }
    let tuning = Tuning::default()
        .with(K::FrameWidth, 16)
        .with(K::FrameHeight, 16)
        .with(K::DepthTotal, 1)
        .with(K::FrameFilter, "box")
        .with(K::FrameFilterRadius, 0.5);
    let description = Description { edits: edits.clone(), ..Description::new("", None, "Test", tuning) };
    let mut settings = Settings::of(&description).unwrap();
    if strategy == 2 {
        settings.split_direct = 0;
    }
    let arrangement = Arrangement::new(stage, &settings, &edits).unwrap();
    let view = ViewRays::still(&stage.scene.cameras[0], settings.frame);
    let filter = FilterSampler::new(settings.filter, settings.filter_radius);
    let tracer = Tracer {
        stage,
        settings: &settings,
        arrangement: &arrangement,
        view: &view,
        filter: &filter,
        inside: Some(Interior::default()),
    };
    let mut tally = Tally::default();
    let (mut sum, mut square, n) = (0.0, 0.0, 256 * 256);
    for pixel in 0..256 {
        for i in 0..256 {
            let (s, _) = tracer.sample(pixel % 16, pixel / 16, 0, i, &mut tally);
            let y = luminance(s.radiance().to_array()) as f64;
            sum += y;
            square += y * y;
        }
    }
    let mean = sum / n as f64;
    (mean, square / n as f64 - mean * mean)
}

/// Multiple importance sampling (Veach 1997, chapter 9): the same mean as either strategy alone, and never much more
/// variance than the better one, while each alone is bad somewhere.
#[test]
fn joined_strategies_agree_and_vary_less() {
    let mut worst = [0.0f64; 2];
    for (roughness, size) in [(0.15, 3.0), (0.15, 0.2), (0.5, 1.0), (0.5, 0.1)] {
        let stage = stage(roughness);
        let [both, lights, scattering] = [0, 1, 2].map(|s| estimate(&stage, size, s));
        let what = format!("roughness {roughness}, a light of {size} m: {both:?}, {lights:?}, {scattering:?}");
        for alone in [lights, scattering] {
            // Within four standard errors of 65 536 samples.
            let error = ((both.1 + alone.1) / 65_536.0).sqrt();
            assert!((both.0 - alone.0).abs() < 4.0 * error + 1e-4 * both.0, "{what}");
        }
        assert!(both.1 < 1.3 * lights.1.min(scattering.1), "{what}");
        worst = [worst[0].max(lights.1 / both.1), worst[1].max(scattering.1 / both.1)];
    }
    assert!(worst[0] > 2.0 && worst[1] > 10.0, "{worst:?}");
}

/// The chances with which lights are chosen add up to 1 among environment, suns and lamps.
#[test]
fn the_first_choice_is_a_distribution() {
    let mut scene = Scene::default();
    for (i, kind) in
        [scene::LightKind::Directional, scene::LightKind::Point, scene::LightKind::Point].iter().enumerate()
    {
        scene.lights.push(scene::Light {
            name: i.to_string(),
            kind: *kind,
            intensity: Vec3::splat(1.0 + i as f32),
            position: Vec3::new(i as f32, 2.0, 0.0),
            direction: Vec3::NEG_Y,
        });
    }
    let by = Settings::of(&Description::new("", None, "", Tuning::default())).unwrap();
    let sky = Arc::new(scene::Environment::uniform([0.5; 3]));
    let cache = crate::lights::SkyCache::new();
    let lights = Lights::new(&scene, Some((&sky, &cache)), by.environment, &ShotEdits::default(), by.shadow);
    let r = Receiver { position: Vec3::ZERO, normal: Some(Vec3::Y), both_sides: false };
    let odds = lights.odds(&r);
    let all = [Which::Sky, Which::Sun(0), Which::Placed(0), Which::Placed(1)];
    let sum: f32 = all.iter().map(|w| lights.chance(&odds, &r, *w)).sum();
    assert!((sum - 1.0).abs() < 1e-5, "{sum}");
    let mut counts = [0; 4];
    for i in 0..10_000 {
        let (which, chance) = lights.choose(&odds, &r, (i as f32 + 0.5) / 10_000.0).unwrap();
        assert_eq!(chance, lights.chance(&odds, &r, which));
        counts[all.iter().position(|w| *w == which).unwrap()] += 1;
    }
    for (which, count) in all.iter().zip(counts) {
        assert!((count as f32 / 10_000.0 - lights.chance(&odds, &r, *which)).abs() < 1e-3);
    }
    // Facing away no lamp is chosen, and the chance to say so is zero, not undefined.
    let away = Receiver { normal: Some(Vec3::NEG_Y), ..r };
    let odds = lights.odds(&away);
    assert_eq!(all.map(|w| lights.chance(&odds, &away, w)), [1.0, 0.0, 0.0, 0.0]);
}
