//! Small scenes made in memory.
#![allow(dead_code)]

use glam::Vec3;
use picture::{Plate, Region, luminance};
use scene::*;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tracer::*;
use tuning::{K, KNOBS, Kind, Scale, Tuning};

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

/// A wide matte floor at y = 0, seen at the origin only.
pub fn floor(albedo: f64, eye: Vec3) -> Set {
    let mut set = Set::default();
    let m = set.material(Material::matte(Vec3::splat(albedo as f32)));
    set.quad(Vec3::new(-50.0, 0.0, -50.0), Vec3::Z * 100.0, Vec3::X * 100.0, m);
    set.scene.cameras.push(looking(eye, Vec3::ZERO, 0.1));
    set
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

/// Every bit of what was rendered.
#[track_caller]
pub fn assert_same(a: &Plate, b: &Plate) {
    let bits = |p: &[[f32; 3]]| -> Vec<[u32; 3]> { p.iter().map(|c| c.map(f32::to_bits)).collect() };
    assert_eq!(a.region, b.region);
    assert_eq!(a.samples, b.samples);
    assert!(bits(&a.a) == bits(&b.a) && bits(&a.b) == bits(&b.b), "halves differ");
    assert!(bits(&a.albedo) == bits(&b.albedo) && bits(&a.normal) == bits(&b.normal), "guides differ");
    assert!(a.depth == b.depth && a.coverage == b.coverage);
    assert_eq!(a.layers.len(), b.layers.len());
    for ((name, x), (_, y)) in a.layers.iter().zip(&b.layers) {
        assert!(x.iter().zip(y).all(|(x, y)| x.to_bits() == y.to_bits()), "layer {name} differs");
    }
}

/// A lamp over a floor with glass, a glossy ball and haze.
pub fn room() -> Set {
    let mut set = Set::default();
    let lamp = set.material(Material { emission: Vec3::splat(30.0), ..Material::matte(Vec3::ZERO) });
    let floor = set.material(Material { metallic: 0.0, roughness: 0.4, base: Vec3::splat(0.6), ..Material::default() });
    let glass = set.material(Material {
        metallic: 0.0,
        roughness: 0.1,
        transmission: 1.0,
        solid: true,
        attenuation_colour: Vec3::new(0.5, 0.8, 0.6),
        attenuation_distance: 0.5,
        ..Material::default()
    });
    let glossy = set.material(Material { roughness: 0.3, base: Vec3::new(0.9, 0.7, 0.4), ..Material::default() });
    set.quad(Vec3::new(-3.0, 0.0, -3.0), Vec3::Z * 6.0, Vec3::X * 6.0, floor);
    set.quad(Vec3::new(-0.4, 2.0, -0.4), Vec3::X * 0.8, Vec3::Z * 0.8, lamp);
    set.sphere(Vec3::new(-0.6, 0.5, 0.0), 0.5, glass);
    set.sphere(Vec3::new(0.6, 0.5, -0.3), 0.5, glossy);
    set.environment = Some(Environment::uniform([0.2, 0.3, 0.5]));
    set.scene.cameras.push(looking(Vec3::new(0.0, 1.4, 3.4), Vec3::new(0.0, 0.5, 0.0), 45.0));
    set
}

/// Random numbers that are the same each time (Steele, Lea and Flood 2014: SplitMix64).
pub struct Dice(pub u64);

impl Dice {
    /// Between 0 and 1.
    pub fn unit(&mut self) -> f64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let z = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (z ^ (z >> 31)) as f64 / u64::MAX as f64
    }

    pub fn whole(&mut self, least: u32, most: u32) -> u32 {
        least + (self.unit() * (most - least) as f64).round() as u32
    }

    /// A value that a knob may have: its ends more often than chance would have them.
    fn value(&mut self, kind: Kind, scale: Scale) -> serde_json::Value {
        let at = [0.0, 1.0, self.unit(), self.unit(), self.unit()][self.whole(0, 4) as usize];
        let between = |least: f64, most: f64| match scale {
            Scale::Logarithmic => least + (at * (most - least).ln_1p()).exp_m1(),
            Scale::Linear => least + at * (most - least),
        };
        match kind {
            Kind::Whole { least, most } => serde_json::json!(between(least.into(), most.into()).round() as u32),
            Kind::Real { least, most } => serde_json::json!(between(least, most).clamp(least, most)),
            Kind::Switch => serde_json::json!(self.unit() < 0.5),
            Kind::Choice { names } => serde_json::json!(names[self.whole(0, names.len() as u32 - 1) as usize]),
        }
    }

    /// A third of the knobs turned, but for those that would only make it long.
    pub fn tuning(&mut self) -> Tuning {
        let mut t = Tuning::default();
        for k in KNOBS.iter().filter(|k| k.id != "view.table") {
            if self.unit() < 0.33 {
                let value = self.value(k.kind, k.scale);
                t.set(k.id, &value).unwrap_or_else(|e| panic!("{}: {value}: {e}", k.id));
            }
        }
        for split in [K::SplitDirect, K::SplitDiffuse, K::SplitReflection, K::SplitTransmission] {
            t = t.with(split, self.whole(1, 3));
        }
        let (least, most) = (self.whole(2, 6), self.whole(6, 12));
        let t = t.with(K::SamplingLeast, least).with(K::SamplingMost, most).with(K::SamplingEffort, 1.0);
        let t = t.with(K::SamplingThreshold, 0.02 + 0.1 * self.unit());
        t.with(K::FrameWidth, self.whole(1, 70)).with(K::FrameHeight, self.whole(1, 50))
    }
}
