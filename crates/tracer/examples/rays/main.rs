//! Speed of the acceleration structure alone, on one thread with single rays: building, and millions of primary, diffuse and
//! shadow rays a second, side by side with a general-purpose library where that is installed. `./run bench rays`.

mod peer;

use glam::Vec3;
use peer::Peer;
use std::f32::consts::{PI, TAU};
use std::time::Instant;
use tracer::{Bvh, Ray, cores, own_pool};

const SIDE: u32 = 512;
const RUNS: usize = 5;

/// A cheap hash to 0…1.
fn random(i: u32, k: u32) -> f32 {
    let mut x = i.wrapping_mul(0x9e37_79b9) ^ k.wrapping_mul(0x85eb_ca6b);
    x = (x ^ x >> 16).wrapping_mul(0x7feb_352d);
    x = (x ^ x >> 15).wrapping_mul(0x846c_a68b);
    ((x ^ x >> 16) >> 8) as f32 / 16_777_216.0
}

struct Mesh {
    positions: Vec<Vec3>,
    triangles: Vec<[u32; 3]>,
}

/// About `count` triangles: bumpy balls of many sizes on a wavy floor under a wavy ceiling.
fn mesh(count: usize) -> Mesh {
    let mut m = Mesh { positions: Vec::new(), triangles: Vec::new() };
    let mut patch = |n: u32, at: &dyn Fn(f32, f32) -> Vec3| {
        let base = m.positions.len() as u32;
        for j in 0..=n {
            for i in 0..=n {
                m.positions.push(at(i as f32 / n as f32, j as f32 / n as f32));
            }
        }
        for j in 0..n {
            for i in 0..n {
                let a = base + j * (n + 1) + i;
                m.triangles.extend([[a, a + 1, a + n + 2], [a, a + n + 2, a + n + 1]]);
            }
        }
    };
    let balls = 200;
    let floor = ((count as f32 * 0.1).sqrt() as u32).max(2);
    let wave = |u: f32, v: f32| 0.15 * ((u * 23.0).sin() * (v * 17.0).cos());
    patch(floor, &|u, v| Vec3::new(20.0 * u - 10.0, wave(u, v), 20.0 * v - 10.0));
    patch(floor, &|u, v| Vec3::new(10.0 - 20.0 * u, 6.0 + wave(u, v), 20.0 * v - 10.0));
    let n = ((count as f32 * 0.3 / balls as f32).sqrt() as u32).max(3);
    for k in 0..balls {
        let centre = Vec3::new(18.0 * random(k, 0) - 9.0, 0.3 + 5.0 * random(k, 1), 18.0 * random(k, 2) - 9.0);
        let radius = 0.15 + 0.7 * random(k, 3).powi(2);
        let turns = (3.0 + 9.0 * random(k, 4)).floor();
        patch(n, &|u, v| {
            let (s, c) = (u * TAU).sin_cos();
            let bump = 1.0 + 0.1 * (turns * u * TAU).sin() * (7.0 * v).sin();
            let (sv, cv) = (v * PI).sin_cos();
            centre + radius * bump * Vec3::new(sv * c, cv, sv * s)
        });
    }
    m
}

/// The three kinds of rays, the latter two from where the first ones hit.
fn rays(bvh: &Bvh, m: &Mesh) -> [Vec<Ray>; 3] {
    let eye = Vec3::new(0.0, 2.5, 9.5);
    let lamp = Vec3::new(2.0, 5.2, 1.0);
    let mut all: [Vec<Ray>; 3] = Default::default();
    for i in 0..SIDE * SIDE {
        let (x, y) = ((i % SIDE) as f32 / SIDE as f32 - 0.5, 0.5 - (i / SIDE) as f32 / SIDE as f32);
        let ray = Ray { origin: eye, direction: Vec3::new(1.2 * x, 1.2 * y, -1.0).normalize(), far: f32::INFINITY };
        all[0].push(ray);
        let Some(hit) = bvh.nearest(&ray) else { continue };
        let [a, b, c] = m.triangles[hit.triangle as usize].map(|v| m.positions[v as usize]);
        let n = (b - a).cross(c - a).normalize_or(Vec3::Y);
        let n = if n.dot(ray.direction) > 0.0 { -n } else { n };
        let origin = ray.origin + ray.direction * hit.distance + n * 1e-4;
        let (r, phi) = (random(i, 5).sqrt(), TAU * random(i, 6));
        let (t, s) = n.any_orthonormal_pair();
        let direction = (t * (r * phi.cos()) + s * (r * phi.sin()) + n * (1.0 - r * r).sqrt()).normalize();
        all[1].push(Ray { origin, direction, far: f32::INFINITY });
        let to = lamp - origin;
        all[2].push(Ray { origin, direction: to.normalize(), far: to.length() });
    }
    all
}

/// Millions of rays a second.
fn speed(rays: &[Ray], mut trace: impl FnMut(&Ray) -> bool) -> (f64, usize) {
    let clock = Instant::now();
    let hits = rays.iter().filter(|r| trace(r)).count();
    (rays.len() as f64 / clock.elapsed().as_secs_f64() / 1e6, hits)
}

fn median(mut v: Vec<f64>) -> f64 {
    v.sort_by(f64::total_cmp);
    v[v.len() / 2]
}

fn build(m: &Mesh) -> (Bvh, f64) {
    let clock = Instant::now();
    let bvh = Bvh::build(m.triangles.len() as u32, |i| m.triangles[i as usize].map(|v| m.positions[v as usize]));
    (bvh, clock.elapsed().as_secs_f64())
}

fn side_by_side() {
    let m = mesh(500_000);
    let (bvh, _) = build(&m);
    let rays = rays(&bvh, &m);
    let peers = [false, true].map(|robust| Peer::new(&m.positions, &m.triangles, robust));
    println!("{} triangles, one thread, single rays, millions a second, medians of {RUNS}", m.triangles.len());
    println!("{:<8} {:>8} {:>14} {:>14} {:>8} {:>8}", "rays", "own", "library", "its robust", "ratio", "ratio");
    let [Some(fast), Some(robust)] = &peers else {
        println!("(the library for comparison, libembree3, is not installed: only our own figures)");
        for (kind, name) in ["primary", "diffuse", "shadow"].iter().enumerate() {
            let own = |r: &Ray| if kind == 2 { bvh.blocked(r) } else { bvh.nearest(r).is_some() };
            println!("{name:<8} {:>8.2}", median((0..RUNS).map(|_| speed(&rays[kind], own).0).collect()));
        }
        return;
    };
    let mut product = 1.0;
    for (kind, name) in ["primary", "diffuse", "shadow"].iter().enumerate() {
        let mut ratios: [Vec<f64>; 2] = Default::default();
        let mut speeds: [Vec<f64>; 3] = Default::default();
        let mut hits = [0; 3];
        let shadow = kind == 2;
        for _ in 0..RUNS {
            // Turn by turn over short pieces, so that a noisy machine disturbs all alike.
            let mut seconds = [0.0; 3];
            hits = [0; 3];
            for piece in rays[kind].chunks(4096) {
                let runs = [
                    speed(piece, |r| if shadow { bvh.blocked(r) } else { bvh.nearest(r).is_some() }),
                    speed(piece, |r| if shadow { fast.blocked(r) } else { fast.nearest(r).is_some() }),
                    speed(piece, |r| if shadow { robust.blocked(r) } else { robust.nearest(r).is_some() }),
                ];
                for (k, (mrays, n)) in runs.into_iter().enumerate() {
                    seconds[k] += piece.len() as f64 / mrays / 1e6;
                    hits[k] += n;
                }
            }
            seconds.iter().zip(&mut speeds).for_each(|(s, list)| list.push(rays[kind].len() as f64 / s / 1e6));
            (0..2).for_each(|k| ratios[k].push(seconds[k + 1] / seconds[0]));
        }
        let [own, library, its_robust] = speeds.map(median);
        let [ratio, ratio_robust] = ratios.map(median);
        product *= ratio;
        println!(
            "{name:<8} {own:>8.2} {library:>14.2} {its_robust:>14.2} {ratio:>8.2} {ratio_robust:>8.2}   hits {hits:?}"
        );
    }
    println!("geometric mean against the library's default mode: {:.2}", f64::powf(product, 1.0 / 3.0));
    let differ = rays[0].iter().chain(&rays[1]).filter(|r| {
        let (own, other) = (bvh.nearest(r).map(|h| h.distance), robust.nearest(r).map(|h| h.0));
        match (own, other) {
            (Some(a), Some(b)) => (a - b).abs() > 1e-4 * (1.0 + a),
            (a, b) => a.is_some() != b.is_some(),
        }
    });
    println!("rays that both answer differently: {} of {}", differ.count(), rays[0].len() + rays[1].len());
}

fn growth() {
    println!(
        "\n{:>10} {:>9} {:>9} {:>9} {:>9} {:>9}   on {} threads",
        "triangles",
        "build s",
        "MiB",
        "primary",
        "diffuse",
        "shadow",
        cores()
    );
    for count in [10_000, 100_000, 500_000, 1_000_000, 10_000_000] {
        let m = mesh(count);
        let (bvh, seconds) = build(&m);
        let rays = rays(&bvh, &m);
        let s: Vec<f64> = (0..3)
            .map(|k| speed(&rays[k], |r| if k == 2 { bvh.blocked(r) } else { bvh.nearest(r).is_some() }).0)
            .collect();
        let mib = bvh.bytes() as f64 / 1_048_576.0;
        println!("{:>10} {seconds:>9.3} {mib:>9.0} {:>9.2} {:>9.2} {:>9.2}", m.triangles.len(), s[0], s[1], s[2]);
    }
}

fn main() {
    let pool = own_pool(cores()).expect("threads");
    side_by_side();
    pool.install(growth);
}
