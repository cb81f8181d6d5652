//! Scenes on which benchmarks measure.
#![allow(dead_code, reason = "every benchmark uses some of it")]

use glam::Vec3;
use scene::{Camera, Environment, Material, Scene, Triangle, read_glb};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tracer::{Description, Render, Stage, cores, own_pool};
use tuning::{K, Tuning};

const SIZE: (u32, u32) = (88, 55);

pub struct Subject {
    pub name: String,
    pub stage: Arc<Stage>,
    pub tuning: Tuning,
}

pub fn demo_subjects() -> Vec<Subject> {
    let sky = Arc::new(Environment::read(&demo::tarnfell_dusk(), "sky").expect("our own sky"));
    let scenes = [
        ("eyepiece desk", demo::eyepiece_desk()),
        ("dome hall", demo::dome_hall()),
        ("lens cabinet", demo::lens_cabinet()),
    ];
    let subject = |(name, glb): (&str, Vec<u8>)| {
        let scene = Arc::new(read_glb(&glb, name).expect("our own scene"));
        let stage = Arc::new(Stage::new(scene, Some(sky.clone())));
        exposed(Subject { name: name.into(), stage, tuning: sized() })
    };
    scenes.into_iter().map(subject).collect()
}

/// The scenes on which denoisers are tried.
pub fn trial_subjects() -> Vec<Subject> {
    let subject = |(name, glb): (&str, Vec<u8>)| {
        let scene = Arc::new(read_glb(&glb, name).expect("our own scene"));
        exposed(Subject { name: name.into(), stage: Arc::new(Stage::new(scene, None)), tuning: sized() })
    };
    demo::denoiser_trials().into_iter().map(subject).collect()
}

/// Small lamps near surfaces: their light on the surfaces is rare and bright.
pub fn lamp_subjects() -> Vec<Subject> {
    let subject = |(name, gap, roughness): (&str, f32, f32)| {
        let mut scene = Scene::default();
        scene.materials.push(Material {
            roughness,
            metallic: 0.0,
            base: Vec3::splat(0.6),
            double_sided: true,
            ..Material::default()
        });
        scene.materials.push(Material { emission: Vec3::splat(400.0), ..Material::matte(Vec3::ZERO) });
        let mut quad = |corner: Vec3, a: Vec3, b: Vec3, material: u32| {
            let world = &mut scene.world;
            let first = world.positions.len() as u32;
            world.positions.extend([corner, corner + a, corner + a + b, corner + b]);
            world.normals.extend([a.cross(b).normalize(); 4]);
            let triangle = |k: u32| Triangle { vertices: [first, first + k, first + k + 1], material, object: 0 };
            world.triangles.extend([triangle(1), triangle(2)]);
        };
        quad(Vec3::new(-2.0, 0.0, -1.0), Vec3::Z * 4.0, Vec3::X * 4.0, 0);
        quad(Vec3::new(-2.0, 0.0, -1.0), Vec3::X * 4.0, Vec3::Y * 3.0, 0);
        quad(Vec3::new(-0.5, 0.0, 0.2), Vec3::X * 0.4, Vec3::Y * 0.6, 0);
        for x in [-0.8f32, 0.1, 0.9] {
            quad(Vec3::new(x, 0.4, -1.0 + gap), Vec3::X * 0.05, Vec3::Y * 0.05, 1);
        }
        scene.cameras.push(Camera::looking("Bench", Vec3::new(0.3, 1.1, 3.0), Vec3::new(0.0, 0.5, -0.6), 0.8));
        exposed(Subject { name: name.into(), stage: Arc::new(Stage::new(Arc::new(scene), None)), tuning: sized() })
    };
    [("lamps 4 cm from a wall", 0.04, 0.5), ("lamps 1 cm from gloss", 0.01, 0.2)].into_iter().map(subject).collect()
}

/// An object of a registry package on a matte floor, in an environment of another.
pub fn open_subjects(folder: &Path) -> Vec<Subject> {
    let pairs = [
        ("button", "apartment"),
        ("hand", "hall"),
        ("touchpad", "night"),
        ("trigger", "forest"),
        ("thumbstick", "workshop"),
        ("squeeze", "warehouse"),
    ];
    let read = |name: String| {
        let path = folder.join(name);
        std::fs::read(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display()))
    };
    let subject = |(object, surroundings): (&str, &str)| {
        let scene = read_glb(&read(format!("{object}.glb")), object).expect("a scene");
        let name = format!("{surroundings}.exr");
        let sky = Arc::new(Environment::read(&read(name.clone()), &name).expect("an environment"));
        let stage = Arc::new(Stage::new(Arc::new(on_a_floor(scene)), Some(sky)));
        exposed(Subject { name: format!("{object} in {surroundings}"), stage, tuning: sized() })
    };
    pairs.into_iter().map(subject).collect()
}

fn on_a_floor(mut scene: Scene) -> Scene {
    let (lo, hi) = scene.bounds();
    let (centre, size) = (0.5 * (lo + hi), (hi - lo).max_element());
    let material = scene.materials.len() as u32;
    scene.materials.push(Material::matte(Vec3::splat(0.5)));
    let world = &mut scene.world;
    let first = world.positions.len() as u32;
    let at = |x: f32, z: f32| Vec3::new(centre.x + x * 4.0 * size, lo.y - 0.002 * size, centre.z + z * 4.0 * size);
    world.positions.extend([at(-1.0, -1.0), at(-1.0, 1.0), at(1.0, 1.0), at(1.0, -1.0)]);
    world.normals.extend([Vec3::Y; 4]);
    for uvs in &mut world.uvs {
        if !uvs.is_empty() {
            uvs.extend([glam::Vec2::ZERO; 4]);
        }
    }
    if !world.tangents.is_empty() {
        world.tangents.extend([Vec3::X.extend(1.0); 4]);
    }
    if !world.colours.is_empty() {
        world.colours.extend([glam::Vec4::ONE; 4]);
    }
    let triangle = |a: u32, b: u32| Triangle { vertices: [first, first + a, first + b], material, object: 0 };
    world.triangles.extend([triangle(1, 2), triangle(2, 3)]);
    let from = centre + Vec3::new(0.9, 0.8, 1.2) * size;
    scene.cameras.insert(0, Camera::looking("Bench", from, centre, 0.75));
    scene
}

fn sized() -> Tuning {
    Tuning::default().with(K::FrameWidth, SIZE.0).with(K::FrameHeight, SIZE.1).with(K::ViewTransform, "shoulder")
}

/// With the exposure that brings the mean to middle grey, as an artist would set it.
fn exposed(mut s: Subject) -> Subject {
    let probe = fixed(&s.tuning, 8).with(K::FrameWidth, 60).with(K::FrameHeight, 38);
    let mean = rendered(&s, &probe).plate().mean();
    let log: f64 = mean.iter().map(|c| (picture::luminance(*c).max(1e-5) as f64).ln()).sum::<f64>() / mean.len() as f64;
    s.tuning = s.tuning.with(K::ViewExposure, ((0.18 / log.exp()).log2()).clamp(-20.0, 20.0));
    s
}

pub fn fixed(t: &Tuning, samples: u32) -> Tuning {
    t.clone().with(K::SamplingAdaptive, false).with(K::SamplingLeast, 2).with(K::SamplingMost, samples)
}

pub fn describe(s: &Subject, tuning: &Tuning) -> Description {
    let sky = s.stage.environment.as_ref().map(|e| e.hash.as_str());
    Description::new(&s.stage.scene.hash, sky, &s.stage.scene.cameras[0].name, tuning.clone())
}

pub fn rendered(s: &Subject, tuning: &Tuning) -> Render {
    rendered_as(s, tuning, |_| ())
}

/// The same, in a part or after a plan that `prepare` lays down.
pub fn rendered_as(s: &Subject, tuning: &Tuning, prepare: impl FnOnce(&mut Render)) -> Render {
    let pool = Arc::new(own_pool(cores()).expect("threads"));
    let mut render = Render::new(s.stage.clone(), describe(s, tuning), pool, false).expect("a render");
    prepare(&mut render);
    while render.step(&AtomicBool::new(false)) {}
    render
}

pub fn median(mut v: Vec<f64>) -> f64 {
    v.sort_by(f64::total_cmp);
    v[v.len() / 2]
}
