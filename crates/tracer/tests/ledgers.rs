//! The ledgers against scenes whose shares are known beforehand.

mod common;

use common::*;
use glam::Vec3;
use picture::noise::{NoiseLedger, NoiseRow};
use picture::{Region, View};
use scene::*;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tracer::*;
use tuning::{K, Tuning};

fn all(report: &RenderReport) -> &DepthTable {
    &report.ledgers.depth[0]
}

/// Light after k bounces in a closed furnace is E ρ^k: the geometric series of the Neumann expansion.
#[test]
fn a_furnace_books_its_light_by_bounce() {
    for albedo in [0.3f64, 0.6] {
        let stage = furnace(albedo as f32).stage();
        let most = 9u32;
        let t = tuning((32, 32), 256).with(K::DepthTotal, most).with(K::DepthDiffuse, most).with(K::RouletteFrom, 100);
        let t = t.with(K::SplitDirect, 1);
        let report = run(&stage, describe(t, None), 2).report();
        let sum = (1.0 - albedo.powi(most as i32 + 1)) / (1.0 - albedo);
        for row in &all(&report).rows {
            let expected = albedo.powi(row.bounces as i32) / sum;
            near(row.light, expected, 0.01, &format!("albedo {albedo}, bounce {}", row.bounces));
        }
        // Every path goes all the way, so all bounces have about as many rays; the few light rays along a wall are not traced.
        let rays: Vec<u64> = all(&report).rows.iter().map(|r| r.rays).collect();
        assert_eq!((rays.len(), rays[0]), (1 + most as usize, report.samples));
        rays[1..].iter().for_each(|r| near(*r as f64, rays[1] as f64, 0.01, "rays"));
    }
}

/// A floor, a mirror and a wall under a lamp of some size: light of several kinds over several bounces.
fn corner() -> Set {
    let mut set = Set::default();
    let white = set.material(Material::matte(Vec3::splat(0.7)));
    let mirror = set.material(Material { metallic: 1.0, roughness: 0.1, ..Material::matte(Vec3::splat(0.9)) });
    let lamp = set.material(Material { emission: Vec3::splat(4.0), ..Material::matte(Vec3::ZERO) });
    set.quad(Vec3::new(-2.0, 0.0, -2.0), Vec3::Z * 4.0, Vec3::X * 4.0, white);
    set.quad(Vec3::new(-2.0, 0.0, -2.0), Vec3::X * 4.0, Vec3::Y * 3.0, white);
    set.quad(Vec3::new(-2.0, 0.0, -2.0), Vec3::Y * 3.0, Vec3::Z * 4.0, mirror);
    set.quad(Vec3::new(-0.5, 2.5, -0.5), Vec3::X, Vec3::Z, lamp);
    set.scene.cameras.push(looking(Vec3::new(2.0, 1.5, 2.5), Vec3::new(-1.0, 0.6, -1.0), 60.0));
    set
}

/// What the ledger says that a depth would lose is what rendering at that depth loses, on the same samples; and the rays
/// that it would save are saved.
#[test]
fn the_depth_ledger_foretells_a_shallower_render() {
    let stage = corner().stage();
    let at = |depth: u32| {
        let t = tuning((48, 48), 16).with(K::DepthTotal, depth).with(K::DepthDiffuse, 9).with(K::DepthReflection, 9);
        run(&stage, describe(t, None), 2)
    };
    let luminance =
        |r: &Render| average(&r.plate().mean().iter().map(|c| picture::luminance(*c) as f64).collect::<Vec<_>>());
    let deep = at(6);
    let report = deep.report();
    for depth in [0, 1, 2, 4] {
        let shallow = at(depth);
        let rows = &all(&report).rows;
        let kept: f64 = rows[..=depth as usize].iter().map(|r| r.light).sum();
        near(luminance(&shallow), kept * luminance(&deep), 1e-5, &format!("light at depth {depth}"));
        let rays = |r: &RenderReport| r.rays.iter().map(|k| k.rays).sum::<u64>();
        let saved: u64 = rows[depth as usize + 1..].iter().map(|r| r.rays).sum();
        assert_eq!(rays(&shallow.report()), rays(&report) - saved, "rays at depth {depth}");
        // Losses are told in steps of the display, of blocks.
        let view = View::PLAIN;
        let lost = deep.plate().mean().iter().zip(&shallow.plate().mean()).fold(0.0f64, |w, (a, b)| {
            w.max((0..3).map(|c| 255.0 * (view.display(*a)[c] - view.display(*b)[c]).abs() as f64).fold(0.0, f64::max))
        });
        let loss = rows[depth as usize].loss;
        assert!(loss.mean <= loss.most && loss.most <= loss.worst && loss.worst <= lost + 1e-3, "{loss:?}, {lost}");
        assert!(loss.worst > 0.0);
    }
    assert_eq!(all(&report).rows.last().unwrap().loss.worst, 0.0, "nothing is lost at the limit itself");
    let time: f64 = all(&report).rows.iter().map(|r| r.time).sum();
    near(time, 1.0, 1e-9, "shares of time");
}

fn row<'a>(rows: &'a [NoiseRow], name: &str) -> &'a NoiseRow {
    rows.iter().find(|r| r.name == name).unwrap_or_else(|| panic!("no row {name} in {rows:?}"))
}

fn noise(set: Set, t: Tuning, edits: ShotEdits) -> NoiseLedger {
    let d = edited(t.with(K::DeliveryParts, true), edits);
    let render = run(&set.stage(), d.clone(), 2);
    NoiseLedger::of(&render.plate(), &d.view(), d.area()).expect("parts are kept")
}

/// So dark that the sRGB curve is a straight line.
const DARK: f64 = -12.0;

/// Two lamps, one the mirror image of the other but twice as strong, each sampled by light rays of its own: variances add
/// up and go with the square of the strength, so the shares are 1/5 and 4/5, and freeing one of noise gains just its share.
#[test]
fn two_lamps_share_the_noise_by_the_squares_of_their_strengths() {
    let mut set = Set::default();
    let white = set.material(Material::matte(Vec3::splat(0.7)));
    set.quad(Vec3::new(-9.0, 0.0, -9.0), Vec3::Z * 18.0, Vec3::X * 18.0, white);
    let mut camera = looking(Vec3::new(0.0, 5.0, 0.01), Vec3::ZERO, 1.0);
    camera.projection = Projection::Orthographic { half_height: 1.0 };
    set.scene.cameras.push(camera);
    let lamp = |name: &str, x: f32, strength: f32| AddedLight {
        name: name.into(),
        shape: Shape::Disc { radius: 0.8 },
        position: [x, 1.2, 0.0],
        towards: [x, 0.0, 0.0],
        radiance: [strength; 3],
        seen: false,
        edit: LightEdit { split: 1, ..LightEdit::default() },
    };
    let edits = ShotEdits { added: vec![lamp("left", -0.7, 1.0), lamp("right", 0.7, 2.0)], ..ShotEdits::default() };
    let t = tuning((96, 96), 8).with(K::ViewExposure, DARK).with(K::DepthTotal, 1);
    let ledger = noise(set, t, edits);
    for (name, share) in [("light left", 0.2), ("light right", 0.8)] {
        let r = row(&ledger.lights, name);
        near(r.share, share, 0.05, name);
        near(r.gain, share, 0.05, name);
    }
    assert_eq!(ledger.lights[0].name, "light right", "what pays most comes first");
    for rows in [&ledger.parts, &ledger.lights] {
        near(rows.iter().map(|r| r.share).sum(), 1.0, 1e-3, "shares");
        near(rows.iter().map(|r| r.light).sum(), 1.0, 1e-4, "light");
    }
}

/// A shining veil of alpha 0.5 before a shining wall: each sample sees one or the other, so their noise cancels in part.
/// With radiances 3 and 1 the shares are 3/(3−1) and −1/(3−1), and one free of noise gains (2·3·2 − 9)/4 and (−2·2 − 1)/4.
#[test]
fn a_veil_and_the_wall_behind_it_are_anticorrelated() {
    let mut set = Set::default();
    let shining = |name: &str, radiance: f32, alpha: Alpha| Material {
        name: name.into(),
        emission: Vec3::splat(radiance),
        alpha,
        base_alpha: 0.5,
        ..Material::matte(Vec3::ZERO)
    };
    let veil = set.material(shining("veil", 3.0, Alpha::Blend));
    let wall = set.material(shining("wall", 1.0, Alpha::Opaque));
    set.quad(Vec3::new(-2.0, -2.0, 1.0), Vec3::X * 4.0, Vec3::Y * 4.0, veil);
    set.quad(Vec3::new(-2.0, -2.0, 0.0), Vec3::X * 4.0, Vec3::Y * 4.0, wall);
    set.scene.objects = vec!["veil".into(), "wall".into()];
    set.scene.world.triangles[2..].iter_mut().for_each(|t| t.object = 1);
    set.scene.cameras.push(facing(1.0));
    // Three samples a half: an even number would see both equally often.
    let ledger = noise(set, tuning((16, 16), 6).with(K::ViewExposure, DARK), ShotEdits::default());
    for (name, share, gain) in [("light veil", 1.5, 0.75), ("light wall", -0.5, -1.25)] {
        let r = row(&ledger.lights, name);
        near(r.share, share, 1e-3, name);
        near(r.gain, gain, 1e-3, name);
    }
    let emission = row(&ledger.parts, "emission");
    assert!((emission.share - 1.0).abs() < 1e-4 && (emission.light - 1.0).abs() < 1e-4, "{emission:?}");
}

/// Coverage in a closed furnace, whose radiance E/(1−ρ) is known and whose noise is even: a pixel's error lies within one and
/// two block grains in 68 and 95 % of cases (normal distribution); within its own half-difference and twice that in 50 and
/// 70.5 % (Student's distribution with one degree of freedom).
#[test]
fn errors_are_covered_as_grain_promises() {
    let stage = furnace(0.5).stage();
    let truth = 2.0;
    let (mut inside, mut cases) = ([0u32; 4], 0u32);
    for seed in 0..12 {
        let t = tuning((64, 64), 64).with(K::DepthTotal, 128).with(K::DepthDiffuse, 128).with(K::RouletteFrom, 1);
        let t = t.with(K::SamplingSeed, seed).with(K::ViewExposure, DARK);
        let plate = run(&stage, describe(t, None), 2).plate();
        for by in 0..8u32 {
            for bx in 0..8u32 {
                let pixels: Vec<usize> = (0..64).map(|i| ((by * 8 + i / 8) * 64 + bx * 8 + i % 8) as usize).collect();
                let half = |i: usize| 0.5 * (plate.a[i][1] - plate.b[i][1]).abs() as f64;
                let block = average(&pixels.iter().map(|i| half(*i).powi(2)).collect::<Vec<_>>()).sqrt();
                for i in pixels {
                    let error = (0.5 * (plate.a[i][1] + plate.b[i][1]) as f64 - truth).abs();
                    for (k, bound) in [block, 2.0 * block, half(i), 2.0 * half(i)].into_iter().enumerate() {
                        inside[k] += (error <= bound) as u32;
                    }
                    cases += 1;
                }
            }
        }
    }
    let shares = inside.map(|n| n as f64 / cases as f64);
    for (share, expected) in shares.into_iter().zip([0.683, 0.954, 0.5, 0.705]) {
        assert!((share - expected).abs() < 0.03, "{shares:?}");
    }
}

/// What the ledger says that reflected caustics bring is what switching them off loses; none are refracted here.
#[test]
fn caustics_are_booked_as_what_their_switch_takes() {
    let stage = corner().stage();
    let light = |on: bool| {
        let r = run(&stage, describe(tuning((48, 48), 512).with(K::CausticsReflected, on), None), 2);
        let mean = r.plate().mean();
        (mean.iter().map(|c| picture::luminance(*c) as f64).sum::<f64>(), r.report().ledgers.caustics)
    };
    let ((with, rows), (without, none)) = (light(true), light(false));
    assert_eq!((rows.len(), rows[0].kind, none.len()), (1, CausticKind::Reflected, 0));
    assert!(rows[0].light > 0.02, "{rows:?}");
    near(rows[0].light, 1.0 - without / with, 0.05, "light by reflected caustics");
}

/// Of a render of one superblock among many, as pilots have them, the whole frame's ledger is that of the square.
#[test]
fn a_ledger_counts_what_was_rendered() {
    let stage = corner().stage();
    let d = describe(tuning((96, 64), 32), None);
    let mut render = Render::new(stage, d.clone(), Arc::new(own_pool(2).unwrap()), false).unwrap();
    render.only(Scope::Squares([4].into()));
    while render.step(&AtomicBool::new(false)) {}
    let of = |region: Region| NoiseLedger::of(&render.plate(), &d.view(), region).expect("parts are kept");
    let square = Region { x: 32, y: 32, width: 32, height: 32 };
    let (whole, square) = (of(d.area()), of(square));
    assert!(whole.grain > 0.0 && whole.parts.iter().any(|p| p.loss.most > 1.0), "{whole:?}");
    assert_eq!(NoiseLedger { region: square.region, ..whole }, square);
    let report = render.report();
    assert!((report.noise.as_ref().expect("parts are kept").grain - square.grain).abs() < 1e-9);
    // What a depth would lose is told of the square's blocks: as a test of it alone tells it.
    let part = Description { region: Some(square.region), ..d.clone() };
    let alone = run(&corner().stage(), part, 2).report();
    let lost = |r: &RenderReport| r.ledgers.depth[0].rows.iter().map(|row| row.loss.most).collect::<Vec<_>>();
    assert_eq!(lost(&report), lost(&alone));
}
