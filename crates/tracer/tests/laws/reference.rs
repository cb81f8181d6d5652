//! A plain, slow integrator in double precision that is obviously right, against the fast one: every triangle is tested in turn, light
//! is found by scattering alone, and nothing is shared but the scene. Random small scenes by seed: matte walls, lamps of one and
//! of two sides, perfect mirrors and metals, solid glass inside each other with absorption, thin panes, see-through sheets, milk.

use crate::common::*;
use crate::random::{self, Estimate};
use glam::{DVec3, Vec3};
use scene::*;
use std::sync::Arc;
use tracer::{Stage, Strategy};
use tuning::{K, Tuning};

struct Face {
    corners: [DVec3; 3],
    material: usize,
    object: u32,
}

struct Plain<'a> {
    scene: &'a Scene,
    sky: Option<&'a Environment>,
    faces: Vec<Face>,
    media: Vec<Option<(DVec3, DVec3, f64)>>,
    /// Volume of the box of each object, which decides where solids overlap.
    sizes: Vec<f64>,
    depth: u32,
}

fn fresnel(cos: f64, eta: f64) -> f64 {
    let sin2 = (1.0 - cos * cos) / (eta * eta);
    if sin2 >= 1.0 {
        return 1.0;
    }
    let t = (1.0 - sin2).sqrt();
    let (s, p) = ((cos - eta * t) / (cos + eta * t), (eta * cos - t) / (eta * cos + t));
    0.5 * (s * s + p * p)
}

impl Plain<'_> {
    fn nearest(&self, o: DVec3, d: DVec3) -> Option<(f64, &Face, DVec3)> {
        let mut best: Option<(f64, &Face, DVec3)> = None;
        for f in &self.faces {
            // Möller and Trumbore 1997.
            let (e1, e2) = (f.corners[1] - f.corners[0], f.corners[2] - f.corners[0]);
            let p = d.cross(e2);
            let det = e1.dot(p);
            if det.abs() < 1e-14 {
                continue;
            }
            let s = (o - f.corners[0]) / det;
            let u = s.dot(p);
            let q = s.cross(e1);
            let v = d.dot(q);
            let t = e2.dot(q);
            if u >= 0.0 && v >= 0.0 && u + v <= 1.0 && t > 1e-7 && best.is_none_or(|b| t < b.0) {
                best = Some((t, f, e1.cross(e2).normalize()));
            }
        }
        best
    }

    /// The solid that fills a place: of those that it lies in the one with the smallest box.
    fn filled(&self, inside: &[(u32, usize)]) -> Option<(u32, usize)> {
        inside.iter().copied().min_by(|a, b| self.sizes[a.0 as usize].total_cmp(&self.sizes[b.0 as usize]))
    }

    fn radiance(&self, mut o: DVec3, mut d: DVec3, dice: &mut Dice) -> DVec3 {
        let (mut light, mut weight) = (DVec3::ZERO, DVec3::ONE);
        let mut inside: Vec<(u32, usize)> = Vec::new();
        let mut scattered = 0;
        for _ in 0..500 {
            let hit = self.nearest(o, d);
            let far = hit.map_or(f64::INFINITY, |h| h.0);
            if let Some((scattering, absorption, forward)) = self.filled(&inside).and_then(|s| self.media[s.1]) {
                let extinction = scattering + absorption;
                let left = |t: f64| (-extinction * t).exp();
                let may = scattered < self.depth && scattering.max_element() > 0.0;
                if may {
                    let c = (dice.unit() * 3.0) as usize % 3;
                    let t = -(1.0 - dice.unit()).max(1e-300).ln() / extinction[c].max(1e-9);
                    if t < far {
                        weight *= scattering * left(t) / ((extinction * left(t)).element_sum() / 3.0);
                        o += d * t;
                        // Henyey and Greenstein 1941, inverted.
                        let (g, u) = (forward, dice.unit());
                        let cos = if g.abs() < 1e-3 {
                            1.0 - 2.0 * u
                        } else {
                            let k = (1.0 - g * g) / (1.0 - g + 2.0 * g * u);
                            ((1.0 + g * g - k * k) / (2.0 * g)).clamp(-1.0, 1.0)
                        };
                        let (a, b) = d.any_orthonormal_pair();
                        let phi = dice.unit() * std::f64::consts::TAU;
                        let sin = (1.0 - cos * cos).sqrt();
                        d = (a * (sin * phi.cos()) + b * (sin * phi.sin()) + d * cos).normalize();
                        scattered += 1;
                        continue;
                    }
                    weight *= left(far) / (left(far).element_sum() / 3.0).max(1e-300);
                } else {
                    weight *= left(far);
                }
            }
            let Some((t, face, n)) = hit else {
                if let Some(sky) = self.sky {
                    let (u, v) = Environment::uv(d.as_vec3());
                    light += weight * sky.at(u, v).as_dvec3();
                }
                break;
            };
            let m = &self.scene.materials[face.material];
            let entering = n.dot(d) < 0.0;
            let up = if entering { n } else { -n };
            o += d * t;
            if m.alpha == Alpha::Blend && dice.unit() >= m.base_alpha as f64 {
                continue;
            }
            let solid = (face.object, face.material);
            let mut beyond = inside.clone();
            let mut eta = 1.0;
            if m.solid {
                let mut before = inside.clone();
                if entering {
                    beyond.push(solid);
                } else {
                    match beyond.iter().position(|s| *s == solid) {
                        Some(k) => drop(beyond.remove(k)),
                        None => before.push(solid),
                    }
                }
                let index =
                    |list: &[(u32, usize)]| self.filled(list).map_or(1.0, |s| self.scene.materials[s.1].ior as f64);
                eta = index(&beyond) / index(&before);
                if self.filled(&beyond) == self.filled(&before) || eta == 1.0 {
                    inside = beyond;
                    continue;
                }
            }
            if m.emission != Vec3::ZERO && (entering || m.double_sided) {
                light += weight * m.emission.as_dvec3();
            }
            if scattered >= self.depth {
                break;
            }
            scattered += 1;
            let cos = -d.dot(up);
            let base = m.base.as_dvec3();
            if m.transmission > 0.0 {
                let f = if m.solid {
                    fresnel(cos, eta)
                } else {
                    2.0 * fresnel(cos, m.ior as f64) / (1.0 + fresnel(cos, m.ior as f64))
                };
                if dice.unit() < f {
                    d += 2.0 * cos * up;
                } else if m.solid {
                    let t2 = 1.0 - (1.0 - cos * cos) / (eta * eta);
                    d = (d / eta + up * (cos / eta - t2.sqrt())).normalize();
                    // Radiance gains with the square of the index and loses it again.
                    weight *= base / (eta * eta);
                    inside = beyond;
                } else {
                    weight *= base;
                }
            } else if m.metallic == 1.0 {
                weight *= base + (DVec3::ONE - base) * (1.0 - cos).powi(5);
                d += 2.0 * cos * up;
            } else {
                weight *= base;
                let (a, b) = up.any_orthonormal_pair();
                let (r2, phi) = (dice.unit(), dice.unit() * std::f64::consts::TAU);
                let r = r2.sqrt();
                d = (a * (r * phi.cos()) + b * (r * phi.sin()) + up * (1.0 - r2).sqrt()).normalize();
            }
        }
        light
    }
}

fn random_scene(dice: &mut Dice) -> (Arc<Stage>, ShotEdits, Tuning) {
    let unit = |dice: &mut Dice| dice.unit() as f32;
    let colour = |dice: &mut Dice| Vec3::new(dice.unit() as f32, dice.unit() as f32, dice.unit() as f32) * 0.8 + 0.15;
    let mut set = Set::default();
    let mut edits = ShotEdits::default();
    let floor = set.material(Material::matte(colour(dice)));
    set.scene.objects.push("floor".into());
    set.quad(Vec3::new(-3.0, 0.0, -3.0), Vec3::Z * 6.0, Vec3::X * 6.0, floor);
    for k in 0..dice.whole(1, 4) {
        let name = format!("material {k}");
        let glass = Material {
            name: name.clone(),
            base: Vec3::ONE,
            roughness: 0.0,
            metallic: 0.0,
            transmission: 1.0,
            double_sided: true,
            ior: 1.0 + 0.8 * unit(dice),
            attenuation_colour: colour(dice),
            attenuation_distance: 0.7,
            ..Material::default()
        };
        let m = match dice.whole(0, 6) {
            0 => Material { name, ..Material::matte(colour(dice)) },
            1 => Material { name, roughness: 0.0, metallic: 1.0, base: colour(dice), ..Material::default() },
            2 => Material { name, alpha: Alpha::Blend, base_alpha: unit(dice), ..Material::matte(colour(dice)) },
            3 => glass,
            4 => Material { solid: true, ior: 1.0, ..glass },
            _ => Material { solid: true, ..glass },
        };
        if m.solid && unit(dice) < 0.4 {
            let scattering = (colour(dice) * 2.0).to_array();
            edits
                .media
                .insert(m.name.clone(), Medium { scattering, absorption: [0.2, 0.1, 0.0], forward: unit(dice) - 0.4 });
        }
        let number = set.material(m);
        let from = set.scene.world.triangles.len();
        let centre = Vec3::new(1.6 * unit(dice) - 0.8, 0.5 + 0.5 * unit(dice), 1.4 * unit(dice) - 0.9);
        let side = Vec3::new(0.15 + 0.5 * unit(dice), 0.15 + 0.3 * unit(dice), 0.15 + 0.5 * unit(dice));
        set.cuboid(centre - side, centre + side, number);
        set.scene.objects.push(format!("object {k}"));
        let object = set.scene.objects.len() as u32 - 1;
        set.scene.world.triangles[from..].iter_mut().for_each(|t| t.object = object);
    }
    let from = set.scene.world.triangles.len();
    let lamp =
        Material { emission: colour(dice) * 3.0, double_sided: unit(dice) < 0.5, ..Material::matte(Vec3::splat(0.2)) };
    let lamp = set.material(lamp);
    set.quad(Vec3::new(-1.2, 2.4, -1.0), Vec3::X * 2.0, Vec3::Z * 1.6, lamp);
    set.scene.objects.push("lamp".into());
    let object = set.scene.objects.len() as u32 - 1;
    set.scene.world.triangles[from..].iter_mut().for_each(|t| t.object = object);
    let mut map = Environment::uniform([0.3; 3]);
    (map.width, map.height) = (16, 8);
    map.pixels = (0..128).map(|_| (colour(dice) * unit(dice)).to_array()).collect();
    set.environment = Some(map);
    set.scene.cameras.push(looking(Vec3::new(0.5, 1.4, 3.4), Vec3::new(0.0, 0.6, 0.0), 44.0));
    let t = tuning((12, 12), 2)
        .with(K::DepthTotal, dice.whole(1, 8))
        .with(K::DepthDiffuse, 64)
        .with(K::DepthReflection, 64)
        .with(K::DepthTransmission, 64)
        .with(K::DepthVolume, 64)
        .with(K::DepthTransparent, 64)
        .with(K::SplitDirect, dice.whole(1, 4));
    (set.stage(), edits, t)
}

fn plain_estimate(stage: &Stage, edits: &ShotEdits, t: &Tuning, (samples, seed): (u32, u32)) -> Estimate {
    let scene = &*stage.scene;
    let media = scene.materials.iter().map(|m| {
        let edit = edits.media.get(&m.name);
        let d = |c: [f32; 3]| Vec3::from_array(c).as_dvec3();
        let own = if m.solid && m.attenuation_distance.is_finite() {
            let c = m.attenuation_colour.as_dvec3();
            -DVec3::new(c.x.ln(), c.y.ln(), c.z.ln()) / m.attenuation_distance as f64
        } else {
            DVec3::ZERO
        };
        let (s, a) = edit.map_or((DVec3::ZERO, DVec3::ZERO), |e| (d(e.scattering), d(e.absorption)));
        m.solid.then_some((s, own + a, edit.map_or(0.0, |e| e.forward as f64)))
    });
    let faces: Vec<Face> = scene
        .world
        .triangles
        .iter()
        .map(|t| Face {
            corners: scene.world.corners(t).map(|c| c.as_dvec3()),
            material: t.material as usize,
            object: t.object,
        })
        .collect();
    let sizes = (0..scene.objects.len() as u32).map(|o| {
        let own = faces.iter().filter(|f| f.object == o).flat_map(|f| f.corners);
        let (lo, hi) = own.fold((DVec3::INFINITY, DVec3::NEG_INFINITY), |b, c| (b.0.min(c), b.1.max(c)));
        (hi - lo).max(DVec3::splat(1e-12)).element_product()
    });
    let plain = Plain {
        scene,
        sky: stage.environment.as_deref(),
        media: media.collect(),
        sizes: sizes.collect(),
        faces,
        depth: t.whole(K::DepthTotal),
    };
    let camera = &scene.cameras[0];
    let Projection::Perspective { vertical } = camera.projection else { panic!("a perspective") };
    let k = (0.5 * vertical as f64).tan();
    let place = camera.to_world.as_dmat4();
    let (w, h) = (12usize, 12usize);
    let mut dice = Dice(seed as u64 * 77_777 + 1);
    let (mut sums, mut squares) = ([DVec3::ZERO; 4], [DVec3::ZERO; 4]);
    for y in 0..h {
        for x in 0..w {
            let q = y / (h / 2) * 2 + x / (w / 2);
            for _ in 0..samples {
                let (sx, sy) =
                    (2.0 * (x as f64 + dice.unit()) / w as f64 - 1.0, 1.0 - 2.0 * (y as f64 + dice.unit()) / h as f64);
                let d = place.transform_vector3(DVec3::new(sx * k, sy * k, -1.0)).normalize();
                let l = plain.radiance(place.w_axis.truncate(), d, &mut dice);
                sums[q] += l;
                squares[q] += l * l;
            }
        }
    }
    let n = (w * h / 4) as f64 * samples as f64;
    let mut e = Estimate { mean: Vec::new(), error: Vec::new() };
    for q in 0..4 {
        let mean = sums[q] / n;
        let variance = (squares[q] / n - mean * mean).max(DVec3::ZERO) / n;
        (0..3).for_each(|c| {
            e.mean.push(mean[c]);
            e.error.push(variance[c].sqrt());
        });
    }
    e
}

fn fast_agrees_with_plain(seed: u64) -> Result<(), String> {
    let (stage, edits, t) = random_scene(&mut Dice(seed * 6_700_417 + 29));
    let fast = |n, s| random::estimate(&stage, &edits, &t, Strategy::Both, (n, s));
    let plain = |n, s| plain_estimate(&stage, &edits, &t, (2 * n, s));
    random::agree(&format!("seed {seed}"), 128, [&fast, &plain])
}

#[test]
fn random_scenes_look_as_a_plain_integrator_says() {
    random::holds(24, fast_agrees_with_plain);
}
