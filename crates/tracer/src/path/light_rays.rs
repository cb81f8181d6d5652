//! Light rays from surfaces, and what is left of light on its way to a point.

use super::*;

impl Tracer<'_> {
    /// Light rays from a surface. `expected` are the rays that each kind sends at the first hit; none behind it.
    pub(super) fn direct(
        &self,
        path: &Path,
        point: &Point,
        bsdf: &Bsdf,
        Receiving { receiver, odds }: &Receiving,
        expected: Option<[f32; 3]>,
        work: &mut Work,
    ) {
        let lights = &self.arrangement.lights;
        if bsdf.only_singular() {
            return;
        }
        let first = expected.is_some();
        let rays = if first { self.settings.split_direct } else { 1 };
        let strongest = strongest(&bsdf.weights);
        for j in 0..rays {
            let sampler = if first { path.sampler.split(0, j, rays) } else { path.sampler };
            let [choice, u, v, _] = sampler.set(path.key(set::LIGHT));
            let Some((which, chance)) = lights.choose(odds, receiver, choice) else { break };
            // Lights with rays of their own get none of the common ones.
            if first && lights.manner(which).split > 0 {
                continue;
            }
            let shot = Shot { which, chance: chance * rays as f32, u: Vec2::new(u, v) };
            self.light_ray(path, point, bsdf, expected, shot, work);
        }
        if first {
            for which in &lights.split {
                let rays = lights.manner(*which).split;
                for j in 0..rays {
                    let sampler = path.sampler.split(16 + light_number(*which), j, rays);
                    let [u, v, ..] = sampler.set(path.key(set::LIGHT));
                    let shot = Shot { which: *which, chance: rays as f32, u: Vec2::new(u, v) };
                    self.light_ray(path, point, bsdf, expected, shot, work);
                }
            }
        }
        work.charge(|| path.charge_light(strongest));
    }

    fn light_ray(
        &self,
        path: &Path,
        point: &Point,
        bsdf: &Bsdf,
        expected: Option<[f32; 3]>,
        shot: Shot,
        work: &mut Work,
    ) {
        let lights = &self.arrangement.lights;
        let Some(l) = lights.sample(shot.which, point.position, shot.u) else { return };
        let mut e = bsdf.eval(l.direction);
        if shot.which == Which::Sky
            && let Some(by) = lights.environment()
        {
            if !by.light {
                e.f[0] = Vec3::ZERO;
            }
            if !by.reflection {
                (e.f[1], e.f[2]) = (Vec3::ZERO, Vec3::ZERO);
            }
        }
        if e.f == [Vec3::ZERO; 3] {
            return;
        }
        let manner = lights.manner(shot.which);
        let mut light = l.light / shot.chance;
        if let Some((instance, triangle, u, v)) = l.emitter {
            light *= self.stage.emission_at(instance, triangle, u, v);
        }
        let pdf = l.pdf.filter(|_| !manner.only_sampled()).map(|p| p * shot.chance);
        let weights: [f32; 3] = match (pdf, expected) {
            (None, _) => [1.0; 3],
            (Some(p), Some(expected)) => std::array::from_fn(|k| power_heuristic(p, e.pdf[k] * expected[k])),
            (Some(p), None) => {
                let total: f32 = bsdf.weights.iter().sum();
                let mixed = (0..3).map(|k| e.pdf[k] * bsdf.weights[k]).sum::<f32>() / total;
                [power_heuristic(p, mixed); 3]
            }
        };
        work.count(path.charge_light(strongest(&bsdf.weights)));
        let origin = point.leave(l.direction);
        // From where the ray really starts to the very point on the light.
        let aim = Aim::new(origin, point.position, l.direction, l.distance, l.reach);
        let inside = if l.direction.dot(point.geometric) < 0.0 && point.surface.solid && point.front {
            self.arrangement.media[point.material as usize]
        } else {
            path.inside.filter(|_| path.in_solid)
        };
        let seen = self.seen(path, shot.which, aim, point.position, inside);
        if path.bounce == 0 {
            work.tally.counters.first[RayKind::Direct as usize] += 1;
            work.tally.counters.light_rays[manner.group as usize] += 1;
            let all: Vec3 = e.f.iter().sum::<Vec3>() * light * path.throughput;
            let (whole, lit) = (luminance(all.to_array()), luminance((all * seen).to_array()));
            work.out.lit[0] += whole;
            work.out.lit[1] += whole - lit;
        }
        if seen == Vec3::ZERO {
            return;
        }
        let common = path.throughput * light * seen;
        match path.part {
            None => {
                for (k, weight) in weights.into_iter().enumerate() {
                    let light = common * e.f[k] * weight;
                    self.add_by(path, part_of(k, false), manner.group, light, &path.used_by(k), 1, work);
                }
            }
            Some(kind) => {
                for (k, weight) in weights.into_iter().enumerate().filter(|(k, _)| e.f[*k] != Vec3::ZERO) {
                    let light = common * e.f[k] * weight;
                    self.add_by(path, part_of(kind, true), manner.group, light, &path.used_by(k), 1, work);
                }
            }
        }
    }

    /// Share of a light's radiance that reaches a point, with the shadow that the light is to have.
    pub(super) fn seen(&self, path: &Path, which: Which, aim: Aim, position: Vec3, inside: Option<Medium>) -> Vec3 {
        let manner = self.arrangement.lights.manner(which);
        let aim = match manner.shadow {
            Shadow::None => return Vec3::ONE,
            Shadow::Hard => match self.arrangement.lights.middle(which, position) {
                Some((direction, distance)) => Aim::new(aim.origin, position, direction, distance, aim.reach),
                None => aim,
            },
            Shadow::Soft => aim,
        };
        let left = self.clear(path, aim, inside);
        if manner.shadow_strength < 1.0 { Vec3::ONE.lerp(left, manner.shadow_strength) } else { left }
    }

    /// Transmittance of the way to a light.
    fn clear(&self, path: &Path, aim: Aim, inside: Option<Medium>) -> Vec3 {
        let Aim { origin, direction, distance, reach } = aim;
        // Ends short of the light so that it does not shadow itself.
        let far = if distance.is_finite() { distance * (1.0 - 1e-6) - reach } else { f32::INFINITY };
        if far <= 0.0 {
            return Vec3::ONE;
        }
        let haze = |origin: Vec3, far: f32| match &self.arrangement.haze {
            Some(h) => h.stretch(origin, direction, far).map_or(Vec3::ONE, |(a, b)| h.medium.transmittance(b - a)),
            None => Vec3::ONE,
        };
        if !self.stage.lets_pass {
            if self.stage.world.blocked(&Ray { origin, direction, far }) {
                return Vec3::ZERO;
            }
            return match (path.in_solid, inside) {
                (_, Some(m)) => m.transmittance(far),
                (true, None) => Vec3::ONE,
                (false, None) => haze(origin, far),
            };
        }
        let (mut origin, mut far, mut left) = (origin, far, Vec3::ONE);
        let (mut medium, mut in_solid) = (inside, path.in_solid || inside.is_some());
        let mut passed = path.passed;
        // Boundaries of open media are few; a ray that meets more is lost in broken geometry.
        for _ in 0..256 {
            let hit = self.stage.world.nearest(&Ray { origin, direction, far });
            let reach = hit.map_or(far, |h| h.distance);
            left *= match (in_solid, medium) {
                (true, Some(m)) => m.transmittance(reach),
                (true, None) => Vec3::ONE,
                (false, _) => haze(origin, reach),
            };
            let Some(hit) = hit else { return left };
            let place = self.stage.place(hit.instance, hit.triangle);
            let (at, face, room) = self.stage.spot(&hit);
            let face = face.normalize_or(direction);
            let entering = face.dot(direction) < 0.0;
            if place.material.open() {
                in_solid = entering;
                medium = if entering { self.arrangement.media[place.material_index() as usize] } else { None };
            } else {
                left *= 1.0 - self.stage.alpha(&hit);
                passed += 1;
                if left == Vec3::ZERO || passed > self.settings.depth_transparent {
                    return Vec3::ZERO;
                }
            }
            origin = at + if entering { -face } else { face } * room;
            far -= hit.distance;
            if far <= 0.0 {
                return left;
            }
        }
        Vec3::ZERO
    }
}

/// The kind that carries most of the light.
pub(super) fn strongest(weights: &[f32; 3]) -> usize {
    (0..3).max_by(|a, b| weights[*a].total_cmp(&weights[*b])).unwrap_or(0)
}

/// A ray towards a light.
#[derive(Clone, Copy)]
pub(super) struct Aim {
    pub origin: Vec3,
    pub direction: Vec3,
    pub distance: f32,
    /// Rounding error of the target.
    pub reach: f32,
}

impl Aim {
    /// Towards what lies in a direction at a distance from a point, but starting beside it.
    fn new(origin: Vec3, point: Vec3, direction: Vec3, distance: f32, reach: f32) -> Aim {
        if !distance.is_finite() {
            return Aim { origin, direction, distance, reach };
        }
        let to = point + direction * distance - origin;
        let distance = to.length();
        Aim { origin, direction: to / distance.max(1e-30), distance, reach }
    }
}

/// A light that was chosen, the number of rays to it times their chance, and the numbers for a point on it.
struct Shot {
    which: Which,
    chance: f32,
    u: Vec2,
}

fn light_number(which: Which) -> u32 {
    match which {
        Which::Sky => 0,
        Which::Sun(i) => 1 + 2 * i,
        Which::Placed(i) => 2 + 2 * i,
    }
}
