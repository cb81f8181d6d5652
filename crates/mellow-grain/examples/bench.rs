//! Speed on the three demo scenes: `./run bench`. Medians of several runs; quote ratios from one run, machines are noisy.

use scene::{Environment, read_glb};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Instant;
use tracer::{Description, Render, Stage, VERSION, cores, deliver, own_pool};
use tuning::{K, Tuning};

const RUNS: usize = 3;

fn median(mut v: Vec<f64>) -> f64 {
    v.sort_by(f64::total_cmp);
    v[v.len() / 2]
}

fn main() {
    let sky = Arc::new(Environment::read(&demo::tarnfell_dusk(), "sky").expect("our own sky"));
    println!("threads: {}", cores());
    println!(
        "{:<14} {:>9} {:>8} {:>8} {:>10} {:>11} {:>10} {:>12} {:>9}",
        "scene", "triangles", "load s", "build s", "Mrays/s", "ksamples/s", "2 on 1 thr", "first look s", "denoise s"
    );
    for (name, glb, exposure) in [
        ("eyepiece desk", demo::eyepiece_desk(), 3.0),
        ("dome hall", demo::dome_hall(), 4.0),
        ("lens cabinet", demo::lens_cabinet(), 1.0),
    ] {
        let clock = Instant::now();
        let scene = Arc::new(read_glb(&glb, name).expect("our own scene"));
        let load = clock.elapsed().as_secs_f64();
        let stage = Arc::new(Stage::new(scene.clone(), Some(sky.clone())));
        let tuning = Tuning::default()
            .with(K::FrameWidth, 320)
            .with(K::FrameHeight, 200)
            .with(K::SamplingAdaptive, false)
            .with(K::SamplingLeast, 2)
            .with(K::SamplingMost, 6)
            .with(K::ViewExposure, exposure);
        let describe = |tuning: Tuning| Description {
            scene: scene.hash.clone(),
            environment: Some(sky.hash.clone()),
            camera: scene.cameras[0].name.clone(),
            region: None,
            tuning,
            edits: Default::default(),
            version: VERSION.into(),
        };
        // Rays and samples a second.
        let run = |threads: usize| {
            let pool = Arc::new(own_pool(threads).expect("threads"));
            let mut render = Render::new(stage.clone(), describe(tuning.clone()), pool, false).expect("a render");
            while render.step(&AtomicBool::new(false)) {}
            let r = render.report();
            let rays: u64 = r.rays.iter().map(|k| k.rays).sum();
            (rays as f64 / r.seconds / 1e6, r.samples as f64 / r.seconds / 1e3)
        };
        let all: Vec<(f64, f64)> = (0..RUNS).map(|_| run(cores())).collect();
        let one: Vec<f64> = (0..RUNS).map(|_| run(1).1).collect();
        let samples = median(all.iter().map(|r| r.1).collect());
        // The first look at 960×540, 8×8 pixels a sample, and the denoiser at 1280×720.
        let look = median(
            (0..RUNS)
                .map(|_| {
                    let big = tuning.clone().with(K::FrameWidth, 960).with(K::FrameHeight, 540);
                    let pool = Arc::new(own_pool(cores()).expect("threads"));
                    let clock = Instant::now();
                    let mut render = Render::new(stage.clone(), describe(big), pool, true).expect("a render");
                    render.step(&AtomicBool::new(false));
                    clock.elapsed().as_secs_f64()
                })
                .collect(),
        );
        let big = describe(
            tuning
                .clone()
                .with(K::FrameWidth, 1280)
                .with(K::FrameHeight, 720)
                .with(K::SamplingMost, 2)
                .with(K::CleanupDenoise, "quick"),
        );
        let pool = Arc::new(own_pool(cores()).expect("threads"));
        let mut render = Render::new(stage.clone(), big.clone(), pool.clone(), false).expect("a render");
        while render.step(&AtomicBool::new(false)) {}
        let plate = render.plate();
        let clock = Instant::now();
        std::hint::black_box(pool.install(|| deliver::delivered(&plate, &big)));
        println!(
            "{:<14} {:>9} {:>8.3} {:>8.3} {:>10.2} {:>11.1} {:>10.2} {:>12.3} {:>9.2}",
            name,
            scene.triangles_seen(),
            load,
            stage.times.structure,
            median(all.iter().map(|r| r.0).collect()),
            samples,
            samples / median(one),
            look,
            clock.elapsed().as_secs_f64()
        );
    }
}
