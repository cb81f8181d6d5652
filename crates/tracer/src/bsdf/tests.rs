//! Each lobe's density against its draws, energy and reciprocity, over roughness, metallic and angle.

use super::*;
use crate::sampler::Sampler;
use std::f64::consts::{PI, TAU as TAU64};
use std::sync::LazyLock;

const ALL: Allowed = [true; 3];

fn plain() -> Surface {
    Surface {
        base: Vec3::ONE,
        metallic: 0.0,
        roughness: 0.5,
        ior: 1.5,
        specular: 1.0,
        specular_colour: Vec3::ONE,
        transmission: 0.0,
        solid: false,
        eta: 1.5,
        stretch: Vec3::ZERO,
        coat: None,
        sheen: None,
    }
}

/// A surface of each sort, of a roughness.
fn surfaces(roughness: f32) -> Vec<(&'static str, Surface)> {
    let r = Surface { roughness, ..plain() };
    let glass = Surface { transmission: 1.0, solid: true, ..r.clone() };
    vec![
        ("dielectric", r.clone()),
        ("metal", Surface { metallic: 1.0, base: Vec3::new(0.9, 0.6, 0.3), ..r.clone() }),
        ("half metal", Surface { metallic: 0.5, ..r.clone() }),
        ("stretched", Surface { metallic: 1.0, stretch: Vec3::X * 0.8, ..r.clone() }),
        ("coated", Surface { coat: Some((0.8, 0.4, Vec3::Z)), ..r.clone() }),
        ("velvet", Surface { sheen: Some((Vec3::new(0.9, 0.4, 0.6), 0.5)), ..r.clone() }),
        ("glass", glass.clone()),
        ("glass from inside", Surface { eta: 1.0 / 1.5, ..glass }),
        ("thin sheet", Surface { transmission: 0.7, base: Vec3::new(0.8, 0.9, 0.7), ..r }),
    ]
}

fn towards(cos: f32, phi: f32) -> Vec3 {
    let sin = (1.0 - cos * cos).sqrt();
    Vec3::new(sin * phi.cos(), sin * phi.sin(), cos)
}

/// The table of rough glass; all glass here has the same index.
fn table(s: &Surface) -> Option<&'static Glass> {
    static GLASS: LazyLock<Glass> = LazyLock::new(|| Glass::new(plain().ior));
    (s.transmission > 0.0 && s.solid).then_some(&*GLASS)
}

fn with<T>(s: &Surface, wo: Vec3, f: impl FnOnce(&Bsdf) -> T) -> T {
    f(&Bsdf::new(s, table(s), wo, Vec3::Z, Vec3::Z, ALL))
}

/// ∫ over the sphere of a function of direction.
fn over_sphere(n: usize, mut f: impl FnMut(Vec3) -> f64) -> f64 {
    let mut sum = 0.0;
    for i in 0..n {
        let z = (i as f64 + 0.5) / n as f64 * 2.0 - 1.0;
        for j in 0..n {
            sum += f(towards(z as f32, ((j as f64 + 0.5) / n as f64 * TAU64) as f32));
        }
    }
    sum * 4.0 * PI / (n * n) as f64
}

/// Draws fall where the density says: the density's share of each of 8 × 8 cells of the sphere is that of the draws, and
/// what is missing of 1 are draws that lead nowhere.
#[test]
fn draws_follow_their_density() {
    for roughness in [0.4, 0.7, 1.0] {
        for (name, s) in surfaces(roughness) {
            for cos in [0.95f32, 0.4] {
                with(&s, towards(cos, 0.7), |b| {
                    let cell = |d: Vec3| {
                        let phi = d.y.atan2(d.x).rem_euclid(TAU);
                        ((d.z * 4.0 + 4.0) as usize).min(7) * 8 + ((phi / TAU * 8.0) as usize).min(7)
                    };
                    // Each kind alone, and one direction for all kinds.
                    for kind in SURFACE_KINDS.map(Some).into_iter().chain([None]) {
                        if kind.is_some_and(|kind| b.weights[kind as usize] == 0.0) {
                            continue;
                        }
                        let density = |e: Eval| kind.map_or(e.any, |kind| e.pdf[kind as usize]);
                        let mut expected = [0.0f64; 64];
                        let n = 320;
                        over_sphere(n, |d| {
                            expected[cell(d)] += density(b.eval(d)) as f64 * 4.0 * PI / (n * n) as f64;
                            0.0
                        });
                        let draws = 20_000;
                        let mut found = [0.0f64; 64];
                        for i in 0..draws {
                            let [choice, u, v, turn] = Sampler::new(3, 0, 0, 0, i).set(5);
                            let drawn = match kind {
                                Some(kind) => b.sample(kind, choice, Vec2::new(u, v)),
                                None => b.sample_any(choice, turn, Vec2::new(u, v)).map(|d| d.1),
                            };
                            if let Some(s) = drawn {
                                assert!(s.singular.is_none() && (s.direction.length() - 1.0).abs() < 1e-4);
                                found[cell(s.direction)] += 1.0 / draws as f64;
                            }
                        }
                        for c in 0..64 {
                            let room = 0.004 + 0.03 * expected[c];
                            assert!(
                                (found[c] - expected[c]).abs() < room,
                                "{name}, roughness {roughness}, cos {cos}, {kind:?}, cell {c}: {} of {}",
                                found[c],
                                expected[c]
                            );
                        }
                    }
                });
            }
        }
    }
}

/// Light that a surface sends to `wo` when the same light comes from everywhere, by drawing. Inside and outside a solid the
/// even light differs by the square of the index.
fn furnace(s: &Surface, cos: f32) -> [Vec3; 2] {
    with(s, towards(cos, 0.3), |b| {
        let mut sums = [Vec3::ZERO; 2];
        let draws = 4096;
        for kind in SURFACE_KINDS {
            let k = kind as usize;
            if b.weights[k] == 0.0 {
                continue;
            }
            for i in 0..draws {
                let [choice, u, v, _] = Sampler::new(8, kind as u32, 0, 0, i).set(5);
                let Some(drawn) = b.sample(kind, choice, Vec2::new(u, v)) else { continue };
                let f = match drawn.singular {
                    Some(f) => f,
                    None => {
                        let e = b.eval(drawn.direction);
                        e.f[k] / e.pdf[k].max(1e-20)
                    }
                };
                let below = drawn.direction.z < 0.0;
                let even = if below && s.solid { b.eta * b.eta } else { 1.0 };
                sums[below as usize] += f * even / draws as f32;
            }
        }
        sums
    })
}

/// White furnace: white metal, a white matte base under a clear layer, any mixture of both, a clear coat's base and glass send
/// back all light, at every roughness and angle (Kulla and Conty 2017).
#[test]
fn white_surfaces_lose_nothing() {
    for roughness in [0.0, 0.1, 0.3, 0.5, 0.75, 1.0] {
        for cos in [1.0f32, 0.7, 0.4, 0.2] {
            for metallic in [0.0, 0.25, 0.5, 1.0] {
                let s = Surface { roughness, metallic, ..plain() };
                let [up, down] = furnace(&s, cos);
                assert_eq!(down, Vec3::ZERO);
                assert!((up.x - 1.0).abs() < 0.01, "roughness {roughness}, metallic {metallic}, cos {cos}: {}", up.x);
            }
            for eta in [1.5, 1.0 / 1.5] {
                let s = Surface { roughness, transmission: 1.0, solid: true, eta, ..plain() };
                let [up, down] = furnace(&s, cos);
                let total = up.x + down.x;
                assert!((total - 1.0).abs() < 0.015, "glass, roughness {roughness}, {eta}, cos {cos}: {total}");
            }
            let thin = furnace(&Surface { roughness, transmission: 1.0, ..plain() }, cos);
            let total = thin[0].x + thin[1].x;
            assert!((total - 1.0).abs() < 0.01, "thin sheet, roughness {roughness}, cos {cos}: {total}");
        }
    }
}

/// No layer adds light, and only as much is lost as layers above a glossy one may swallow.
#[test]
fn layers_add_no_light() {
    for roughness in [0.1, 0.4, 0.8, 1.0] {
        for (name, s) in surfaces(roughness) {
            for cos in [1.0f32, 0.6, 0.25] {
                let s = Surface { base: Vec3::ONE, ..s.clone() };
                let [up, down] = furnace(&s, cos);
                let total = up.max_element() + down.max_element();
                assert!(total < 1.02 && total > 0.7, "{name}, roughness {roughness}, cos {cos}: {total}");
            }
        }
    }
}

/// Reciprocity (Veach 1997, chapter 5): f is the same both ways on one side of a surface; through it f/η² is, with the index
/// of the side to which the light goes.
#[test]
fn light_goes_both_ways_alike() {
    let mut checked = [0; 2];
    for roughness in [0.2, 0.5, 1.0] {
        for (name, s) in surfaces(roughness) {
            for i in 0..200 {
                let [a, b, c, d] = Sampler::new(11, 0, 0, 0, i).set(3);
                let wo = towards(0.05 + 0.94 * a, TAU * b);
                let wi = towards(1.9 * c - 0.95, TAU * d);
                if wi.z.abs() < 0.05 {
                    continue;
                }
                let eta2 = if wi.z < 0.0 && s.solid { with(&s, wo, |b| b.eta * b.eta) } else { 1.0 };
                let f = |b: &Bsdf, d: Vec3| b.eval(d).f.iter().sum::<Vec3>() / d.z.abs();
                let there = with(&s, wo, |b| f(b, wi));
                // The way back is seen from the other side: everything is turned over.
                let over = |d: Vec3| if wi.z < 0.0 { Vec3::new(d.x, -d.y, -d.z) } else { d };
                let back_surface =
                    Surface { eta: if wi.z < 0.0 && s.solid { 1.0 / s.eta } else { s.eta }, ..s.clone() };
                let back = with(&back_surface, over(wi), |b| f(b, over(wo))) / eta2;
                let most = there.max(back).max_element();
                if most > 1e-4 {
                    checked[(wi.z < 0.0) as usize] += 1;
                    assert!(
                        (there - back).abs().max_element() < 0.002 * most + 1e-5,
                        "{name}, roughness {roughness}, {wo} to {wi}: {there} and {back}"
                    );
                }
            }
        }
    }
    assert!(checked.iter().all(|n| *n > 500), "{checked:?}");
}

/// The half space below a bent shading normal receives nothing, and nothing is drawn into the surface.
#[test]
fn nothing_is_sent_into_the_surface() {
    let geometric = towards(0.9, 2.0);
    for (name, s) in surfaces(0.6) {
        let b = Bsdf::new(&s, table(&s), towards(0.6, 0.5), Vec3::Z, geometric, ALL);
        let mut sides = [0; 2];
        for kind in SURFACE_KINDS {
            for i in 0..2000 {
                let [choice, u, v, _] = Sampler::new(2, 0, 0, 0, i).set(9);
                if b.weights[kind as usize] > 0.0
                    && let Some(drawn) = b.sample(kind, choice, Vec2::new(u, v))
                {
                    let above = drawn.direction.dot(geometric) > 0.0;
                    assert_eq!(above, kind != Kind::Transmission, "{name}: {kind:?} to {}", drawn.direction);
                    sides[above as usize] += 1;
                }
            }
        }
        assert!(sides[1] > 0);
    }
}

/// One direction for all kinds is drawn so well that what it carries stays near the light that came, whatever glass does: over
/// many bounces inside a solid weights multiply, and a few large ones make fireflies.
#[test]
fn glass_weighs_all_directions_nearly_alike() {
    for ior in [1.1f32, 1.5, 2.4] {
        let table = Glass::new(ior);
        for roughness in [0.05, 0.1, 0.2, 0.35, 0.5, 0.8, 1.0] {
            for eta in [ior, 1.0 / ior] {
                let s = Surface { roughness, transmission: 1.0, solid: true, ior, eta, ..plain() };
                for cos in [0.02f32, 0.1, 0.3, 0.5, 0.7, 0.9, 1.0] {
                    let b = Bsdf::new(&s, Some(&table), towards(cos, 0.7), Vec3::Z, Vec3::Z, ALL);
                    let (mut sum, mut squares, mut most, n) = (0.0, 0.0, 0.0f64, 8192);
                    for i in 0..n {
                        let [choice, u, v, turn] = Sampler::new(3, 0, 0, 0, i).set(5);
                        let Some((_, drawn)) = b.sample_any(choice, turn, Vec2::new(u, v)) else { continue };
                        let e = b.eval(drawn.direction);
                        let scale = if drawn.direction.z < 0.0 { (eta * eta) as f64 } else { 1.0 };
                        let w = (e.f.iter().sum::<Vec3>().x / e.any) as f64 * scale;
                        sum += w;
                        squares += w * w;
                        most = most.max(w);
                    }
                    let (mean, second) = (sum / n as f64, squares / n as f64);
                    let what =
                        format!("index {ior}, roughness {roughness}, ratio {eta}, cos {cos}: {mean} {second} {most}");
                    assert!(
                        (mean - 1.0).abs() < 0.008 && second < if cos < 0.1 { 1.7 } else { 1.25 } && most < 25.0,
                        "{what}"
                    );
                }
            }
        }
    }
}
