//! What the ledgers, adaptive sampling and the advice are worth: `./run bench causes`. One of `cost`, `adaptive`, `bias`,
//! `prices`, `advice` alone by that word. Scenes: the three of the demo, and openly licensed objects from registry packages, fixed by
//! hash (see `open_scenes.py`), where their folder is given.

use advice::{Advice, Machine, Measured, Pilot, advise, pilot_tuning, prices, time_ratio, trials};
use glam::Vec3;
use scene::{Camera, Environment, Material, Scene, Triangle, read_glb};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tracer::{Description, Render, SavedCounts, Stage, cores, own_pool};
use tuning::{K, Tuning};

const SIZE: (u32, u32) = (88, 55);
/// Adaptive sampling is measured against long renders: a smaller frame.
const SMALL: (u32, u32) = (72, 48);

struct Subject {
    name: String,
    stage: Arc<Stage>,
    tuning: Tuning,
}

fn demo_subjects() -> Vec<Subject> {
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

/// An object of a registry package on a matte floor, in an environment of another.
fn open_subjects(folder: &Path) -> Vec<Subject> {
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

fn fixed(t: &Tuning, samples: u32) -> Tuning {
    t.clone().with(K::SamplingAdaptive, false).with(K::SamplingLeast, 2).with(K::SamplingMost, samples)
}

fn describe(s: &Subject, tuning: &Tuning) -> Description {
    let sky = s.stage.environment.as_ref().map(|e| e.hash.as_str());
    Description::new(&s.stage.scene.hash, sky, &s.stage.scene.cameras[0].name, tuning.clone())
}

fn rendered(s: &Subject, tuning: &Tuning) -> Render {
    let pool = Arc::new(own_pool(cores()).expect("threads"));
    let mut render = Render::new(s.stage.clone(), describe(s, tuning), pool, false).expect("a render");
    while render.step(&AtomicBool::new(false)) {}
    render
}

fn median(mut v: Vec<f64>) -> f64 {
    v.sort_by(f64::total_cmp);
    v[v.len() / 2]
}

/// Time with parts kept against time without, in turn.
fn cost(subjects: &[Subject]) {
    println!("\nkeeping parts and lights: time of a sample against none kept, medians of 5 pairs; bytes a pixel");
    for s in subjects {
        let t = fixed(&s.tuning, 16);
        let pairs = (0..5).map(|_| {
            let of = |parts: bool| {
                let r = rendered(s, &t.clone().with(K::DeliveryParts, parts));
                (r.report().processor_seconds, r.bytes_per_pixel())
            };
            let ((with, bytes), (without, _)) = (of(true), of(false));
            (with / without, bytes)
        });
        let pairs: Vec<_> = pairs.collect();
        let ratio = median(pairs.iter().map(|p| p.0).collect());
        println!("{:<26} {:+.1} % {:>6} B", s.name, 100.0 * (ratio - 1.0), pairs[0].1);
    }
}

/// Renders of several seeds and the error of each block of one of them, worst first: the spread over the seeds, on the display.
struct Seeds {
    errors: Vec<f64>,
    seconds: f64,
    samples: f64,
}

fn over_seeds(s: &Subject, tuning: &Tuning, seeds: u32) -> Seeds {
    let view = describe(s, tuning).view();
    let (columns, pixels) = (SMALL.0.div_ceil(8) as usize, (SMALL.0 * SMALL.1) as usize);
    let mut sums = vec![[[0.0f64; 2]; 3]; pixels];
    let (mut seconds, mut samples) = (0.0, 0.0);
    for seed in 0..seeds {
        let render = rendered(s, &tuning.clone().with(K::SamplingSeed, 100 + seed));
        let report = render.report();
        seconds += report.processor_seconds / seeds as f64;
        samples += report.samples_per_pixel / seeds as f64;
        for (sum, colour) in sums.iter_mut().zip(render.plate().mean()) {
            for (sum, v) in sum.iter_mut().zip(view.display(colour)) {
                *sum = [sum[0] + v as f64, sum[1] + (v as f64).powi(2)];
            }
        }
    }
    let mut blocks = vec![([0.0f64; 3], 0.0f64); columns * SMALL.1.div_ceil(8) as usize];
    for (i, sum) in sums.iter().enumerate() {
        let block = &mut blocks[i / SMALL.0 as usize / 8 * columns + i % SMALL.0 as usize / 8];
        for (c, [sum, squares]) in sum.iter().enumerate() {
            block.0[c] += (squares - sum * sum / seeds as f64) / (seeds - 1) as f64;
        }
        block.1 += 1.0;
    }
    let mut errors: Vec<f64> = blocks.iter().map(|(v, n)| (v.iter().copied().fold(0.0, f64::max) / n).sqrt()).collect();
    errors.sort_by(|a, b| b.total_cmp(a));
    Seeds { errors, seconds, samples }
}

/// Adaptive against uniform sampling: time at an equal worst block (and at an equal block that one in a hundred exceeds).
fn adaptive(subjects: &[Subject]) {
    const SEEDS: u32 = 5;
    println!(
        "\nadaptive against uniform sampling, {}×{}, {SEEDS} seeds: uniform samples with as good a worst block (99 %), share of the time",
        SMALL.0, SMALL.1
    );
    for s in subjects {
        let small = s.tuning.clone().with(K::FrameWidth, SMALL.0).with(K::FrameHeight, SMALL.1);
        // Noise of about that many samples.
        let threshold = rendered(s, &fixed(&small, 64)).report().grain;
        let t = small.clone().with(K::SamplingThreshold, threshold).with(K::SamplingMost, 1024);
        let ours = over_seeds(s, &t, SEEDS);
        let at = |e: &Seeds| [e.errors[0], e.errors[e.errors.len() / 100]];
        let goals = at(&ours);
        let mut needs = [f64::NAN; 2];
        let (mut before, mut uniform): (Option<Seeds>, _) = (None, 0.0);
        for n in [16u32, 64, 256, 1024] {
            let now = over_seeds(s, &fixed(&small, n), SEEDS);
            uniform = now.seconds / now.samples;
            for (k, need) in needs.iter_mut().enumerate() {
                let (e, goal) = (at(&now)[k], goals[k]);
                if need.is_nan() && e <= goal {
                    // Between two counts on a straight line of logarithms.
                    *need = before.as_ref().map_or(n as f64, |then| {
                        let x = (at(then)[k] / goal).ln() / (at(then)[k] / e).ln();
                        then.samples * (now.samples / then.samples).powf(x)
                    });
                }
            }
            before = Some(now);
            if needs.iter().all(|n| !n.is_nan()) {
                break;
            }
        }
        let share = |n: f64| 100.0 * ours.seconds / (n * uniform);
        println!(
            "{:<26} threshold {:.2} %, worst block {:.2} %: {:>5.0} spp, uniform {:>5.0} ({:.0}) → {:.0} % ({:.0} %) of the time",
            s.name,
            100.0 * threshold,
            100.0 * goals[0],
            ours.samples,
            needs[0],
            needs[1],
            share(needs[0]),
            share(needs[1]),
        );
    }
}

/// How much of the light stopping loses: mean of adaptive against all samples of the same seeds, with its standard error.
fn bias(subjects: &[Subject]) {
    const SEEDS: u32 = 48;
    println!(
        "\nlight lost by stopping: mean of adaptive against all 256 samples, {SEEDS} seeds, with its standard error"
    );
    for s in subjects {
        let small = s.tuning.clone().with(K::FrameWidth, SMALL.0).with(K::FrameHeight, SMALL.1);
        let all = fixed(&small, 256);
        let threshold = rendered(s, &fixed(&small, 64)).report().grain;
        let t = small.clone().with(K::SamplingThreshold, threshold).with(K::SamplingMost, 256);
        let pairs: Vec<[f64; 2]> = (0..SEEDS)
            .map(|seed| {
                [&t, &all].map(|t| {
                    let m = rendered(s, &t.clone().with(K::SamplingSeed, seed)).plate().mean();
                    m.iter().map(|c| picture::luminance(*c) as f64).sum::<f64>() / m.len() as f64
                })
            })
            .collect();
        let level = pairs.iter().map(|p| p[1]).sum::<f64>() / SEEDS as f64;
        let lost: Vec<f64> = pairs.iter().map(|p| 100.0 * (p[0] - p[1]) / level).collect();
        let mean = lost.iter().sum::<f64>() / SEEDS as f64;
        let spread = lost.iter().map(|l| (l - mean).powi(2)).sum::<f64>() / (SEEDS - 1) as f64;
        println!("{:<26} {mean:+.2} % ± {:.2}", s.name, (spread / SEEDS as f64).sqrt());
    }
}

fn counts(render: &Render) -> SavedCounts {
    render.save().counts
}

/// Prices against renders of the step itself: share of the sampling time that it saves.
fn step_prices(subjects: &[Subject]) {
    println!(
        "\nprices: share of the sampling time that the step saves, foretold and as rendered (rays of each kind times what they cost)"
    );
    for s in subjects {
        let t = s.tuning.clone().with(K::SamplingThreshold, 0.03).with(K::SamplingMost, 128).with(K::DepthTotal, 6);
        let t = t.with(K::SplitDirect, 3);
        let render = rendered(s, &t);
        let (report, counts) = (render.report(), counts(&render));
        let d = describe(s, &t);
        let machine = Machine { start: 0.0, denoise_per_pixel: [0.0; 3], write_per_pixel: 0.0 };
        let test = Measured { description: &d, counts: &counts, report: &report };
        let whole = advice::forecast(test, &t, None, &machine).expect("a forecast").sampling;
        for p in prices(test, None, &t, &machine) {
            let next = t.changed(&[(p.knob.to_string(), serde_json::json!(p.step))].into()).expect("a step");
            // Rays of each kind times what they cost: clocks are too coarse for a few percent.
            let then = rendered(s, &next).report();
            let samples = then.samples as f64 / report.samples as f64;
            let saved = 1.0 - time_ratio(&report, &then) * samples;
            println!("{:<26} {:<20} {:>6.1} % {:>6.1} %", s.name, p.knob, 100.0 * p.seconds / whole, 100.0 * saved);
        }
    }
}

/// Advice from a test of 32 samples and a pilot: time at equal grain, foretold and as it came.
fn follow_advice(subjects: &[Subject]) {
    println!("\nadvice on the default tuning: time at equal grain, foretold and as it came");
    let mut came = Vec::new();
    for s in subjects {
        let t = fixed(&s.tuning, 32);
        let render = rendered(s, &t);
        let (report, counts) = (render.report(), counts(&render));
        let d = describe(s, &t);
        let test = Measured { description: &d, counts: &counts, report: &report };
        let (mut next, mut foretold, mut titles) = (t.clone(), 1.0, Vec::new());
        // A second pilot goes on where the first one ended.
        for _ in 0..2 {
            let under = pilot_tuning(&next);
            let base = rendered(s, &under).report();
            let tried: Vec<_> = trials(&base, &under)
                .into_iter()
                .map(|(knob, to)| {
                    let turned = under.changed(&[(knob.to_string(), serde_json::json!(to))].into()).expect("a trial");
                    (knob, to, rendered(s, &turned).report())
                })
                .collect();
            let mut pilot = Pilot::of(&base, &under, &tried).expect("parts are kept");
            if let Some(counts) = pilot.candidate() {
                let changes = counts.iter().map(|(k, n)| (k.to_string(), serde_json::json!(n))).collect();
                let report = rendered(s, &under.changed(&changes).expect("splits")).report();
                pilot.confirm(&counts, &base, &report);
            }
            if std::env::var_os("TRIALS").is_some() {
                let told =
                    |t: &advice::Trial| format!("{} {} → {}: {:.2} × {:.2}", t.knob, t.from, t.to, t.time, t.variance);
                let one_by_one = pilot.trials.iter().map(told).collect::<Vec<_>>().join("; ");
                println!("    time × variance: {one_by_one}; together {:?}", pilot.together);
            }
            let rows = advise(test, Some(&pilot), &next, &Machine::default());
            // Of several lines on splits the best one; adaptive sampling is compared by itself.
            let splits = |a: &&Advice| a.key == "splits" || a.key.starts_with("source");
            let best = rows.iter().filter(splits).min_by(|a, b| a.effect.equal.total_cmp(&b.effect.equal));
            let used: Vec<&Advice> = rows
                .iter()
                .filter(|a| !a.changes.is_empty() && a.key != "adaptive" && (!splits(a) || Some(*a) == best))
                .collect();
            for a in &used {
                next = next.changed(&a.changes).expect("a change");
                foretold *= a.effect.equal;
                titles.push(a.title.clone());
            }
            if pilot.holds_for(&next) {
                break;
            }
        }
        // Other seeds than the pilot's; the quicker of two runs each, taken in turn, for others only disturb.
        let mut sums = [(f64::INFINITY, 0.0f64); 2];
        for seed in [11, 12] {
            for (sum, tuning) in sums.iter_mut().zip([&t, &next]) {
                let r = rendered(s, &tuning.clone().with(K::SamplingSeed, seed)).report();
                let time = r.processor_seconds / r.samples as f64;
                *sum = (sum.0.min(time), sum.1 + r.noise.expect("parts").per_sample);
            }
        }
        let [before, after] = sums.map(|(time, variance)| time * variance);
        let ratio = after / before;
        came.push(ratio);
        println!(
            "{:<26} {:+.0} % foretold, {:+.0} % came: {}",
            s.name,
            100.0 * (foretold - 1.0),
            100.0 * (ratio - 1.0),
            if titles.is_empty() { "nothing to change".into() } else { titles.join("; ") }
        );
    }
    println!("median {:+.0} %", 100.0 * (median(came) - 1.0));
}

fn main() {
    let mut words = std::env::args().skip(1);
    let (word, folder) = (words.next().unwrap_or_default(), words.next());
    let mut subjects = demo_subjects();
    if let Some(folder) = folder {
        subjects.extend(open_subjects(Path::new(&folder)));
    }
    let want = |w: &str| word.is_empty() || word == "causes" || word == w;
    if want("cost") {
        cost(&subjects);
    }
    if want("adaptive") {
        // Against long renders: the demo's scenes alone.
        adaptive(&subjects[..3]);
    }
    if want("bias") {
        bias(&subjects[..3]);
    }
    if want("prices") {
        step_prices(&subjects);
    }
    if want("advice") {
        follow_advice(&subjects);
    }
}
