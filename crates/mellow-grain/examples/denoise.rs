//! Denoisers on the three demo scenes and on six that nothing was tuned on: `./run bench denoise`.
//!
//! Error is mean((x − r)² / (r² + 0.01)) at the exposure that brings the mean to middle grey. The reference of a render is the
//! mean of all others of its scene, rendered with other seeds; its own variance is taken off. Renders are kept in
//! `target/plates` and used again: empty that folder to render anew.

use picture::denoise::{CleanUp, Method, Split, clean, clean_halves, risk};
use picture::{Plate, Region, Rgb, View};
use scene::{Environment, read_glb};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Instant;
use tracer::{Description, Render, Stage, cores, own_pool};
use tuning::{K, Tuning};

const SIZE: (u32, u32) = (160, 96);
/// Samples a pixel whose renders are each other's references; so many seeds, or as `SEEDS` says. `SCENE` is part of a name.
const OWN: u32 = 64;
const SEEDS: u32 = 16;
const METHODS: [Method; 3] = [Method::Quick, Method::Careful, Method::Colour];
/// Side of the squares in which nothing may get worse.
const SQUARE: u32 = 32;

struct Subject {
    name: &'static str,
    stage: Arc<Stage>,
    exposure: f64,
}

fn subjects() -> Vec<Subject> {
    let sky = Arc::new(Environment::read(&demo::tarnfell_dusk(), "sky").expect("our own sky"));
    let mut all = vec![
        ("eyepiece desk", demo::eyepiece_desk()),
        ("dome hall", demo::dome_hall()),
        ("lens cabinet", demo::lens_cabinet()),
    ];
    let own = all.len();
    all.extend(demo::denoiser_trials());
    let subject = |(i, (name, glb)): (usize, (&'static str, Vec<u8>))| {
        let scene = Arc::new(read_glb(&glb, name).expect("our own scene"));
        let stage = Arc::new(Stage::new(scene, (i < own).then(|| sky.clone())));
        let mut s = Subject { name, stage, exposure: 0.0 };
        let mean = rendered(&s, 16, 999).mean();
        let log: f64 = mean.iter().map(|c| (picture::luminance(*c).max(1e-5) as f64).ln()).sum::<f64>();
        s.exposure = (0.18 / (log / mean.len() as f64).exp()).log2();
        s
    };
    let only = std::env::var("SCENE").unwrap_or_default();
    all.into_iter().enumerate().filter(|(_, (name, _))| name.contains(&only)).map(subject).collect()
}

fn rendered(s: &Subject, samples: u32, seed: u32) -> Plate {
    let folder = Path::new("target/plates");
    let file = folder.join(format!("{}-{samples}-{seed}", &s.stage.scene.hash[..16]));
    if let Some(plate) = kept(&file) {
        return plate;
    }
    let tuning = Tuning::default()
        .with(K::FrameWidth, SIZE.0)
        .with(K::FrameHeight, SIZE.1)
        .with(K::SamplingAdaptive, false)
        .with(K::SamplingLeast, 2)
        .with(K::SamplingMost, samples)
        .with(K::SamplingSeed, seed)
        .with(K::DeliveryParts, false);
    let sky = s.stage.environment.as_ref().map(|e| e.hash.as_str());
    let d = Description::new(&s.stage.scene.hash, sky, &s.stage.scene.cameras[0].name, tuning);
    let pool = Arc::new(own_pool(cores()).expect("threads"));
    let mut render = Render::new(s.stage.clone(), d, pool, false).expect("a render");
    while render.step(&AtomicBool::new(false)) {}
    let plate = render.plate();
    std::fs::create_dir_all(folder).expect("a folder");
    std::fs::write(&file, bytes(&plate)).expect("a file");
    plate
}

/// Halves, split halves and guides as raw floats.
fn bytes(p: &Plate) -> Vec<u8> {
    let split = p.split.as_ref().expect("films split");
    let [d, s] = [&split.diffuse, &split.specular];
    let colours = [&p.a, &p.b, &d[0], &d[1], &s[0], &s[1], &p.albedo, &p.normal];
    let colours = colours.into_iter().flatten().flatten();
    colours.chain(&p.depth).flat_map(|v| v.to_le_bytes()).collect()
}

fn kept(file: &PathBuf) -> Option<Plate> {
    let n = (SIZE.0 * SIZE.1) as usize;
    let floats: Vec<f32> =
        std::fs::read(file).ok()?.chunks_exact(4).map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]])).collect();
    if floats.len() != 25 * n {
        return None;
    }
    let colour =
        |k: usize| -> Vec<Rgb> { floats[3 * k * n..][..3 * n].chunks_exact(3).map(|c| [c[0], c[1], c[2]]).collect() };
    Some(Plate {
        frame: SIZE,
        region: Region::whole(SIZE.0, SIZE.1),
        a: colour(0),
        b: colour(1),
        samples: vec![0; n],
        coverage: vec![1.0; n],
        albedo: colour(6),
        normal: colour(7),
        depth: floats[24 * n..].to_vec(),
        split: Some(Split { diffuse: [colour(2), colour(3)], specular: [colour(4), colour(5)] }),
        layers: Vec::new(),
    })
}

/// Squared relative errors by pixel against a reference whose variance by pixel and channel is known.
fn errors(x: &[Rgb], reference: &[([f64; 3], [f64; 3])], scale: f64) -> Vec<f64> {
    x.iter()
        .zip(reference)
        .map(|(x, (r, v))| {
            (0..3)
                .map(|c| {
                    let (x, r, v) = (x[c] as f64 * scale, r[c] * scale, v[c] * scale * scale);
                    ((x - r).powi(2) - v) / (r * r + 0.01) / 3.0
                })
                .sum()
        })
        .collect()
}

fn squares(errors: &[f64]) -> Vec<f64> {
    let columns = SIZE.0 / SQUARE;
    let mut sums = vec![0.0; (columns * SIZE.1 / SQUARE) as usize];
    for (i, e) in errors.iter().enumerate() {
        let (x, y) = (i as u32 % SIZE.0 / SQUARE, i as u32 / SIZE.0 / SQUARE);
        sums[(y * columns + x) as usize] += e / (SQUARE * SQUARE) as f64;
    }
    sums
}

fn quality(subjects: &[Subject]) {
    let own = std::env::var("SEEDS").ok().and_then(|n| n.parse().ok()).unwrap_or(SEEDS);
    println!(
        "\nrelative MSE ×1000 (how many times less than noisy; worst 32×32 square against noisy over all seeds; light gained)"
    );
    print!("{:<20} {:>5} {:>9}", "scene", "spp", "noisy");
    METHODS.iter().for_each(|m| print!(" {:>32}", m.name()));
    println!();
    let mut gains: Vec<Vec<f64>> = vec![Vec::new(); METHODS.len()];
    for s in subjects {
        let scale = s.exposure.exp2();
        let pictures: Vec<Vec<Rgb>> = (0..own).map(|seed| rendered(s, OWN, seed).mean()).collect();
        let n = (SIZE.0 * SIZE.1) as usize;
        let mut sums = vec![([0.0f64; 3], [0.0f64; 3]); n];
        for p in &pictures {
            for ((sum, squares), v) in sums.iter_mut().zip(p) {
                (0..3).for_each(|c| {
                    sum[c] += v[c] as f64;
                    squares[c] += (v[c] as f64).powi(2);
                });
            }
        }
        // Without one of them, where it is judged itself.
        let reference = |less: Option<&Vec<Rgb>>| -> Vec<([f64; 3], [f64; 3])> {
            let count = (pictures.len() - less.is_some() as usize) as f64;
            (0..n)
                .map(|i| {
                    let out = |c: usize| less.map_or(0.0, |p| p[i][c] as f64);
                    let mean: [f64; 3] = std::array::from_fn(|c| (sums[i].0[c] - out(c)) / count);
                    let spread = std::array::from_fn(|c| {
                        let squares = sums[i].1[c] - out(c).powi(2) - count * mean[c] * mean[c];
                        squares.max(0.0) / (count - 1.0) / count
                    });
                    (mean, spread)
                })
                .collect()
        };
        let all = reference(None);
        for (samples, seeds) in [(16, 2), (OWN, own), (256, 1)] {
            let mut light = [0.0f64; METHODS.len() + 1];
            let mut blocks = vec![vec![0.0f64; ((SIZE.0 / SQUARE) * (SIZE.1 / SQUARE)) as usize]; METHODS.len() + 1];
            for seed in 0..seeds {
                let among = samples == OWN;
                let plate = rendered(s, samples, if among { seed } else { 1000 + seed });
                let against = if among { &reference(Some(&pictures[seed as usize])) } else { &all };
                let mut add = |k: usize, x: &[Rgb]| {
                    light[k] += x.iter().map(|c| picture::luminance(*c) as f64).sum::<f64>();
                    blocks[k]
                        .iter_mut()
                        .zip(squares(&errors(x, against, scale)))
                        .for_each(|(b, e)| *b += e / seeds as f64);
                };
                add(0, &plate.mean());
                for (k, method) in METHODS.into_iter().enumerate() {
                    add(k + 1, &clean(&plate, &CleanUp::with(method, 1.0)));
                }
            }
            let mean = |b: &[f64]| b.iter().sum::<f64>() / b.len() as f64;
            print!("{:<20} {:>5} {:>9.2}", s.name, samples, 1000.0 * mean(&blocks[0]));
            for k in 0..METHODS.len() {
                let gain = mean(&blocks[0]) / mean(&blocks[k + 1]);
                let worst = blocks[k + 1].iter().zip(&blocks[0]).map(|(d, n)| d / n).fold(0.0, f64::max);
                let gained = 100.0 * (light[k + 1] / light[0] - 1.0);
                print!(" {:>9.2} ({:>4.1}× {:>5.2} {:>+5.1} %)", 1000.0 * mean(&blocks[k + 1]), gain, worst, gained);
                if samples == OWN {
                    gains[k].push(gain);
                }
            }
            println!();
        }
    }
    for (method, mut gains) in METHODS.into_iter().zip(gains) {
        gains.sort_by(f64::total_cmp);
        println!("{} at 64 spp: median {:.1} ×, least {:.1} ×", method.name(), gains[gains.len() / 2], gains[0]);
    }
}

/// Whether the halves know where the quick denoiser errs less than the careful one: mean square error as displayed, in units of the
/// noise of a half, as it is and as the halves tell it.
fn choice(subjects: &[Subject]) {
    println!("\nmean square error by that of a noisy half, true and told by the halves: quick; careful");
    for s in subjects {
        let view = View { exposure: s.exposure, ..View::PLAIN };
        let pictures: Vec<Vec<Rgb>> = (0..SEEDS).map(|seed| rendered(s, OWN, seed).mean()).collect();
        let mean = |i: usize, c: usize| pictures.iter().map(|p| p[i][c]).sum::<f32>() / SEEDS as f32;
        let truth: Vec<Rgb> =
            (0..pictures[0].len()).map(|i| view.display(std::array::from_fn(|c| mean(i, c)))).collect();
        for samples in [4, 12, 32, 128] {
            let plate = rendered(s, samples, 2000);
            let squared = |x: Rgb, y: Rgb| (0..3).map(|c| (x[c] - y[c]).powi(2) as f64).sum::<f64>() / 3.0;
            let is = |half: &[Rgb]| half.iter().zip(&truth).map(|(x, t)| squared(view.display(*x), *t)).sum::<f64>();
            let mut told = Vec::new();
            for method in [Method::Quick, Method::Careful] {
                let done = clean_halves(&plate, &CleanUp::with(method, 1.0));
                let [error, noise] = risk([&plate.a, &plate.b], [&done[0], &done[1]], &view);
                let by = (is(&plate.a) + is(&plate.b)).max(1e-12);
                told.push(((is(&done[0]) + is(&done[1])) / by, error / noise));
            }
            println!(
                "{:<20} {samples:>4} {:>7.3} {:>7.3}; {:>7.3} {:>7.3}",
                s.name, told[0].0, told[0].1, told[1].0, told[1].1
            );
        }
    }
}

/// Seconds at 1280×720, medians of 5: the small picture side by side, so that there is something to do everywhere.
fn speed(s: &Subject) {
    let small = rendered(s, 16, 1000);
    let (w, h) = (1280u32, 720u32);
    let from = |i: u32| ((i / w % SIZE.1) * SIZE.0 + i % w % SIZE.0) as usize;
    fn spread<T: Copy>(of: &[T], n: u32, from: &dyn Fn(u32) -> usize) -> Vec<T> {
        (0..n).map(|i| of[from(i)]).collect()
    }
    let n = w * h;
    let colours = |of: &[Rgb]| spread(of, n, &from);
    let split = small.split.as_ref().expect("films split");
    let plate = Plate {
        frame: (w, h),
        region: Region::whole(w, h),
        a: colours(&small.a),
        b: colours(&small.b),
        samples: vec![0; n as usize],
        coverage: vec![1.0; n as usize],
        albedo: colours(&small.albedo),
        normal: colours(&small.normal),
        depth: spread(&small.depth, n, &from),
        split: Some(split.each(|v| colours(v))),
        layers: Vec::new(),
    };
    let pool = own_pool(cores()).expect("threads");
    for method in METHODS {
        let runs = if method == Method::Careful { 3 } else { 7 };
        let mut times: Vec<f64> = (0..runs)
            .map(|_| {
                let clock = Instant::now();
                std::hint::black_box(pool.install(|| clean(&plate, &CleanUp::with(method, 1.0))));
                clock.elapsed().as_secs_f64()
            })
            .collect();
        times.sort_by(f64::total_cmp);
        println!("{:<8} {:.2} s at {w}×{h}, least {:.2} s", method.name(), times[runs / 2], times[0]);
    }
}

fn main() {
    let word = std::env::args().nth(1).unwrap_or_default();
    let subjects = subjects();
    let want = |w: &str| word.is_empty() || word == w;
    if want("speed") {
        speed(&subjects[0]);
    }
    if want("choice") {
        choice(&subjects);
    }
    if want("quality") {
        quality(&subjects);
    }
}
