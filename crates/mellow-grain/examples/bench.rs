//! Speed of whole renders: `./run bench`. Medians of several runs; quote ratios from one run, machines are noisy.
//! `scenes` (the three demo scenes), `samples` (what a sample of theirs costs), `growth` (with pixels, samples and lights); all without
//! a word.

use glam::Vec3;
use scene::{Environment, Light, LightKind, Material, Mesh, Scene, Triangle, read_glb};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Instant;
use tracer::{Description, Render, Stage, cores, deliver, own_pool};
use tuning::{K, Tuning};

const RUNS: usize = 5;

fn median(mut v: Vec<f64>) -> f64 {
    v.sort_by(f64::total_cmp);
    v[v.len() / 2]
}

fn describe(stage: &Stage, tuning: Tuning) -> Description {
    let sky = stage.environment.as_ref().map(|e| e.hash.as_str());
    Description::new(&stage.scene.hash, sky, &stage.scene.cameras[0].name, tuning)
}

fn sized(width: u32, height: u32, samples: u32) -> Tuning {
    Tuning::default()
        .with(K::FrameWidth, width)
        .with(K::FrameHeight, height)
        .with(K::SamplingAdaptive, false)
        .with(K::SamplingLeast, 2)
        .with(K::SamplingMost, samples)
}

fn rendered(stage: &Arc<Stage>, tuning: &Tuning, threads: usize) -> Render {
    let pool = Arc::new(own_pool(threads).expect("threads"));
    let mut render = Render::new(stage.clone(), describe(stage, tuning.clone()), pool, false).expect("a render");
    while render.step(&AtomicBool::new(false)) {}
    render
}

fn demo_scenes() -> [(&'static str, Vec<u8>); 3] {
    [("eyepiece desk", demo::eyepiece_desk()), ("dome hall", demo::dome_hall()), ("lens cabinet", demo::lens_cabinet())]
}

fn scenes() {
    let sky = Arc::new(Environment::read(&demo::tarnfell_dusk(), "sky").expect("our own sky"));
    println!("threads: {}; 320×200 at 6 samples a pixel; medians of {RUNS}", cores());
    println!(
        "{:<14} {:>9} {:>8} {:>8} {:>9} {:>11} {:>10} {:>9} {:>12} {:>9}",
        "scene",
        "triangles",
        "load s",
        "build s",
        "Mrays/s",
        "ksamples/s",
        "2 on 1 thr",
        "B a pixel",
        "first look s",
        "denoise s"
    );
    for (name, glb) in demo_scenes() {
        let clock = Instant::now();
        let scene = Arc::new(read_glb(&glb, name).expect("our own scene"));
        let load = clock.elapsed().as_secs_f64();
        let stage = Arc::new(Stage::new(scene.clone(), Some(sky.clone())));
        let tuning = sized(320, 200, 6);
        let mut runs = [Vec::new(), Vec::new(), Vec::new()];
        for _ in 0..RUNS {
            // Turn by turn, so that a noisy machine disturbs both alike.
            let (all, one) = (rendered(&stage, &tuning, cores()).report(), rendered(&stage, &tuning, 1).report());
            let rays: u64 = all.rays.iter().map(|k| k.rays).sum();
            runs[0].push(rays as f64 / all.seconds / 1e6);
            runs[1].push(all.samples as f64 / all.seconds / 1e3);
            runs[2].push(one.seconds / all.seconds);
        }
        let [mrays, samples, threads] = runs.map(median);
        // The first look at 960×540, 8×8 pixels a sample, and the denoiser at 1280×720.
        let look = median(
            (0..RUNS)
                .map(|_| {
                    let pool = Arc::new(own_pool(cores()).expect("threads"));
                    let clock = Instant::now();
                    let description = describe(&stage, sized(960, 540, 6));
                    let mut render = Render::new(stage.clone(), description, pool, true).expect("a render");
                    render.step(&AtomicBool::new(false));
                    clock.elapsed().as_secs_f64()
                })
                .collect(),
        );
        let big = sized(1280, 720, 2).with(K::CleanupDenoise, "quick");
        let render = rendered(&stage, &big, cores());
        let plate = render.plate();
        let pool = own_pool(cores()).expect("threads");
        let clock = Instant::now();
        std::hint::black_box(pool.install(|| deliver::Delivered::of(&plate, &describe(&stage, big))));
        println!(
            "{:<14} {:>9} {:>8.3} {:>8.3} {:>9.2} {:>11.1} {:>10.2} {:>9} {:>12.3} {:>9.2}",
            name,
            scene.triangles_seen(),
            load,
            stage.times.structure + stage.times.tables,
            mrays,
            samples,
            threads,
            render.bytes_per_pixel(),
            look,
            clock.elapsed().as_secs_f64()
        );
    }
}

/// A floor with posts that throw shadows, under so many lamps, ten of which matter.
fn lamps(count: usize) -> Arc<Stage> {
    let mut world = Mesh::default();
    let mut quad = |corner: Vec3, a: Vec3, b: Vec3| {
        let first = world.positions.len() as u32;
        world.positions.extend([corner, corner + a, corner + a + b, corner + b]);
        world.normals.extend([a.cross(b).normalize(); 4]);
        let triangle = |k: u32| Triangle { vertices: [first, first + k, first + k + 1], material: 0, object: 0 };
        world.triangles.extend([triangle(1), triangle(2)]);
    };
    quad(Vec3::new(-50.0, 0.0, -50.0), Vec3::Z * 100.0, Vec3::X * 100.0);
    for i in 0..9 {
        let p = Vec3::new(0.6 * (i % 3) as f32 - 0.7, 0.0, 0.6 * (i / 3) as f32 - 0.5);
        let (x, y, z) = (Vec3::X * 0.1, Vec3::Y * 0.6, Vec3::Z * 0.1);
        quad(p, y, x);
        quad(p + z, x, y);
        quad(p, z, y);
        quad(p + x, y, z);
        quad(p + y, z, x);
    }
    let place = |i: usize| {
        if i < 10 {
            return Vec3::new(0.4 * (i % 5) as f32 - 0.8, 1.0 + 0.1 * i as f32, 0.5 * (i / 5) as f32);
        }
        let (a, r) = (i as f32 * 2.399_963, 25.0 + 20.0 * i as f32 / count as f32);
        Vec3::new(r * a.cos(), 0.3 + 2.0 * i as f32 / count as f32, r * a.sin())
    };
    let lights = (0..count)
        .map(|i| Light {
            name: format!("lamp {i}"),
            kind: LightKind::Point,
            intensity: Vec3::ONE,
            position: place(i),
            direction: Vec3::NEG_Y,
        })
        .collect();
    let camera = scene::Camera::looking("Test", Vec3::new(0.0, 0.95, 0.01), Vec3::ZERO, 1.7);
    let scene = Scene {
        world,
        lights,
        materials: vec![Material::matte(Vec3::splat(0.6))],
        cameras: vec![camera],
        ..Scene::default()
    };
    Arc::new(Stage::new(Arc::new(scene), None))
}

fn growth() {
    let sky = Arc::new(Environment::read(&demo::tarnfell_dusk(), "sky").expect("our own sky"));
    let scene = Arc::new(read_glb(&demo::lens_cabinet(), "cabinet").expect("our own scene"));
    let stage = Arc::new(Stage::new(scene, Some(sky)));
    let row = |what: String, r: &tracer::RenderReport| {
        println!("{what:<34} {:>8.2} s {:>9.1} ksamples/s", r.seconds, r.samples as f64 / r.seconds / 1e3);
    };
    println!("\nlens cabinet, growth with pixels and samples");
    for (width, height, samples) in
        [(160, 100, 6), (320, 200, 6), (640, 400, 6), (1280, 800, 6), (160, 100, 24), (160, 100, 96)]
    {
        let r = rendered(&stage, &sized(width, height, samples), cores()).report();
        row(format!("{width}×{height} px, {samples} samples"), &r);
    }
    println!("\na floor under lamps of which ten matter; noise and noise at equal time against the ten");
    let mut ten = 0.0;
    for count in [1, 10, 100, 1_000, 10_000] {
        let stage = lamps(count);
        let render = rendered(&stage, &sized(320, 200, 64).with(K::DepthTotal, 1), cores());
        let (r, plate) = (render.report(), render.plate());
        let difference: f64 = plate.a.iter().zip(&plate.b).map(|(a, b)| (a[1] - b[1]).powi(2) as f64).sum();
        let noise = (difference / plate.a.len() as f64).sqrt();
        // Noise falls with the root of the time.
        let timed = noise * r.seconds.sqrt();
        if count == 10 {
            ten = timed;
        }
        row(format!("{count} lamps"), &r);
        if ten > 0.0 {
            println!("{:<34} noise {noise:.4}, at equal time {:.2} ×", "", timed / ten);
        }
    }
}

/// What a camera sample costs the processors and brings: for comparing two builds run by run. The least time of several runs,
/// since other programs can only add to it.
fn samples() {
    const RUNS: usize = 5;
    let sky = Arc::new(Environment::read(&demo::tarnfell_dusk(), "sky").expect("our own sky"));
    println!("threads: {}; 320×200 at 16 samples a pixel, least of {RUNS} runs", cores());
    println!(
        "{:<14} {:>11} {:>12} {:>9} {:>10} {:>8} {:>8}",
        "scene", "ksamples/s", "µs a sample", "rays", "Mrays/s", "mean", "noise"
    );
    for (name, glb) in demo_scenes() {
        let stage = Arc::new(Stage::new(Arc::new(read_glb(&glb, name).expect("our own scene")), Some(sky.clone())));
        let renders = (0..RUNS).map(|_| rendered(&stage, &sized(320, 200, 16), cores()));
        let runs: Vec<_> = renders.map(|render| (render.report(), render.plate())).collect();
        let least = |f: fn(&tracer::RenderReport) -> f64| runs.iter().map(|r| f(&r.0)).fold(f64::MAX, f64::min);
        let (wall, processor) = (least(|r| r.seconds), least(|r| r.processor_seconds));
        let (r, plate) = &runs[0];
        let rays: u64 = r.rays.iter().map(|k| k.rays).sum();
        // As displays show light, so that a few bright samples do not decide.
        let shown = |c: &[f32; 3]| (c[1] / (1.0 + c[1])) as f64;
        let pixels = plate.a.len() as f64;
        let noise: f64 = plate.a.iter().zip(&plate.b).map(|(a, b)| (shown(a) - shown(b)).powi(2)).sum();
        let mean: f64 = plate.a.iter().zip(&plate.b).map(|(a, b)| (shown(a) + shown(b)) / 2.0).sum();
        println!(
            "{:<14} {:>11.1} {:>12.3} {:>9.2} {:>10.2} {:>8.5} {:>8.5}",
            name,
            r.samples as f64 / wall / 1e3,
            processor / r.samples as f64 * 1e6,
            rays as f64 / r.samples as f64,
            rays as f64 / processor / 1e6,
            mean / pixels,
            (noise / pixels).sqrt()
        );
    }
    large(&sky);
}

/// Samples a second where a frame has so many blocks that a slice of time gets to a hundredth of them.
fn large(sky: &Arc<Environment>) {
    const SECONDS: f64 = 10.0;
    let (name, glb) = &demo_scenes()[1];
    let stage = Arc::new(Stage::new(Arc::new(read_glb(glb, name).expect("our own scene")), Some(sky.clone())));
    println!("{name}, {SECONDS} s at 16 samples a pixel:");
    for (width, height) in [(720, 450), (1920, 1080), (3840, 2160)] {
        let pool = Arc::new(own_pool(cores()).expect("threads"));
        let tuning = sized(width, height, 16);
        let mut render = Render::new(stage.clone(), describe(&stage, tuning), pool, false).expect("a render");
        let begun = Instant::now();
        while begun.elapsed().as_secs_f64() < SECONDS && render.step(&AtomicBool::new(false)) {}
        let samples = render.film().samples() as f64;
        println!("{width:>6} × {height:<6} {:>8.1} ksamples/s", samples / begun.elapsed().as_secs_f64() / 1e3);
    }
}

fn main() {
    let word = std::env::args().nth(1).unwrap_or_default();
    if matches!(&*word, "" | "scenes") {
        scenes();
    }
    if matches!(&*word, "" | "samples") {
        samples();
    }
    if matches!(&*word, "" | "growth") {
        growth();
    }
}
