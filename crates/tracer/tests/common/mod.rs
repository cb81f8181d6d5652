//! Small scenes made in memory.
#![allow(dead_code)]

use glam::Vec3;
use picture::{Region, luminance};
use scene::*;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tracer::*;
use tuning::{K, Tuning};

#[derive(Default)]
pub struct Set {
    pub scene: Scene,
    pub environment: Option<Environment>,
}

impl Set {
    pub fn material(&mut self, m: Material) -> u32 {
        self.scene.materials.push(m);
        self.scene.materials.len() as u32 - 1
    }

    pub fn triangle(&mut self, p: [Vec3; 3], normals: Option<[Vec3; 3]>, material: u32) {
        let s = &mut self.scene.world;
        let base = s.positions.len() as u32;
        let face = (p[1] - p[0]).cross(p[2] - p[0]).normalize();
        s.positions.extend(p);
        s.normals.extend(normals.unwrap_or([face; 3]));
        s.triangles.push(Triangle { vertices: [base, base + 1, base + 2], material, object: 0 });
    }

    /// A parallelogram from a corner along two edges; its normal is a × b.
    pub fn quad(&mut self, corner: Vec3, a: Vec3, b: Vec3, material: u32) {
        self.triangle([corner, corner + a, corner + a + b], None, material);
        self.triangle([corner, corner + a + b, corner + b], None, material);
    }

    /// All six faces, normals outwards.
    pub fn cuboid(&mut self, lo: Vec3, hi: Vec3, material: u32) {
        let d = hi - lo;
        let (x, y, z) = (Vec3::X * d.x, Vec3::Y * d.y, Vec3::Z * d.z);
        self.quad(lo, y, x, material);
        self.quad(lo + z, x, y, material);
        self.quad(lo, z, y, material);
        self.quad(lo + x, y, z, material);
        self.quad(lo, x, z, material);
        self.quad(lo + y, z, x, material);
    }

    pub fn sphere(&mut self, centre: Vec3, radius: f32, material: u32) {
        let (n, m) = (48, 24);
        let at = |i: usize, j: usize| {
            let (a, b) = (i as f32 / n as f32 * std::f32::consts::TAU, j as f32 / m as f32 * std::f32::consts::PI);
            Vec3::new(b.sin() * a.cos(), b.cos(), b.sin() * a.sin())
        };
        for j in 0..m {
            for i in 0..n {
                let [a, b, c, d] = [at(i, j), at(i + 1, j), at(i + 1, j + 1), at(i, j + 1)];
                for t in [[a, b, c], [a, c, d]] {
                    let p = t.map(|v| centre + v * radius);
                    if (p[1] - p[0]).cross(p[2] - p[0]).length() > 1e-9 {
                        self.triangle(p, Some(t), material);
                    }
                }
            }
        }
    }

    pub fn stage(self) -> Arc<Stage> {
        Arc::new(Stage::new(Arc::new(self.scene), self.environment.map(Arc::new)))
    }
}

/// A closed room of emission 1 and an albedo, seen from inside.
pub fn furnace(albedo: f32) -> Set {
    let mut set = Set::default();
    let m = set.material(Material { emission: Vec3::ONE, ..Material::matte(Vec3::splat(albedo)) });
    set.cuboid(Vec3::splat(-1.0), Vec3::splat(1.0), m);
    set.scene.cameras.push(looking(Vec3::new(0.3, 0.2, 0.5), Vec3::new(-1.0, 0.1, -0.4), 60.0));
    set
}

pub fn looking(from: Vec3, at: Vec3, degrees: f32) -> Camera {
    Camera::looking("Test", from, at, degrees.to_radians())
}

pub fn tuning(size: (u32, u32), samples: u32) -> Tuning {
    Tuning::default()
        .with(K::FrameWidth, size.0)
        .with(K::FrameHeight, size.1)
        .with(K::SamplingAdaptive, false)
        .with(K::SamplingLeast, 2)
        .with(K::SamplingMost, samples)
        .with(K::FrameFilter, "box")
        .with(K::FrameFilterRadius, 0.5)
}

pub fn describe(tuning: Tuning, region: Option<Region>) -> Description {
    Description { region, ..Description::new("", None, "Test", tuning) }
}

pub fn run(stage: &Arc<Stage>, d: Description, threads: usize) -> Render {
    let pool = Arc::new(own_pool(threads).unwrap());
    let mut render = Render::new(stage.clone(), d, pool, false).unwrap();
    while render.step(&AtomicBool::new(false)) {}
    render
}

pub fn edited(tuning: Tuning, edits: ShotEdits) -> Description {
    Description { edits, ..describe(tuning, None) }
}

/// Luminance of every pixel.
pub fn pixels(stage: &Arc<Stage>, d: Description) -> Vec<f64> {
    run(stage, d, 2).plate().mean().iter().map(|c| luminance(*c) as f64).collect()
}

pub fn average(v: &[f64]) -> f64 {
    v.iter().sum::<f64>() / v.len() as f64
}

/// A straight camera that sees a square of the plane z = 0 from the front, without perspective.
pub fn facing(half_height: f32) -> Camera {
    let mut camera = looking(Vec3::new(0.0, 0.0, 5.0), Vec3::ZERO, 1.0);
    camera.projection = Projection::Orthographic { half_height };
    camera
}

/// Mean luminance of the rendered frame.
pub fn mean(stage: &Arc<Stage>, t: Tuning) -> f64 {
    average(&pixels(stage, describe(t, None)))
}

#[track_caller]
pub fn near(got: f64, expected: f64, relative: f64, what: &str) {
    assert!((got / expected - 1.0).abs() < relative, "{what}: {got} instead of {expected}");
}
