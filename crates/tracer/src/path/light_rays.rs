//! Light rays from surfaces, and what is left of light on its way to a point.

use super::*;
use crate::lights::Target;

impl Tracer<'_> {
    /// Light rays from a surface. `expected` are the rays that each kind sends at the first hit; none behind it.
    pub(super) fn direct(&self, path: &Path, vertex: &Vertex, expected: Option<[f32; 3]>, work: &mut Work) {
        let lights = &self.arrangement.lights;
        let (bsdf, Receiving { receiver, odds }) = (vertex.bsdf, vertex.receiving);
        if bsdf.only_singular() {
            return;
        }
        let first = expected.is_some();
        let rays = if first { self.settings.split_direct } else { 1 };
        let strongest = strongest(&bsdf.weights);
        for j in 0..rays {
            let sampler = if first { path.sampler.split(0, j, rays) } else { path.sampler };
            let [choice, u, v, _] = sampler.set(path.key(set::LIGHT));
            // A draw may end at a group of lights none of which shines here.
            let Some((which, chance)) = lights.choose(odds, receiver, choice) else { continue };
            // Lights with rays of their own get none of the common ones.
            if first && lights.manner(which).split > 0 {
                continue;
            }
            let shot = Shot { which, chance: chance * rays as f32, u: Vec2::new(u, v) };
            self.light_ray(path, vertex, expected, shot, work);
        }
        if first {
            for which in &lights.split {
                let rays = lights.manner(*which).split;
                for j in 0..rays {
                    let sampler = path.sampler.split(16 + light_number(*which), j, rays);
                    let [u, v, ..] = sampler.set(path.key(set::LIGHT));
                    let shot = Shot { which: *which, chance: rays as f32, u: Vec2::new(u, v) };
                    self.light_ray(path, vertex, expected, shot, work);
                }
            }
        }
        work.charge(|| path.charge_light(strongest));
    }

    fn light_ray(
        &self,
        path: &Path,
        &Vertex { point, bsdf, .. }: &Vertex,
        expected: Option<[f32; 3]>,
        shot: Shot,
        work: &mut Work,
    ) {
        let lights = &self.arrangement.lights;
        let Some(l) = lights.sample(shot.which, point.position, shot.u) else { return };
        let mut e = bsdf.eval(l.direction);
        if shot.which == Which::Sky {
            for kind in SURFACE_KINDS {
                e.f[kind as usize] *= self.sky_of(kind);
            }
        }
        if e.f == [Vec3::ZERO; 3] {
            return;
        }
        let manner = lights.manner(shot.which);
        let mut light = l.light / shot.chance;
        if let Some((instance, triangle, u, v)) = l.emitter {
            light *= self.stage.sent_from(instance, triangle, u, v);
        }
        let pdf = l.pdf.filter(|_| !manner.only_sampled()).map(|p| p * shot.chance);
        let weights: [f32; 3] = match (pdf, expected) {
            (None, _) => [1.0; 3],
            (Some(p), Some(expected)) => {
                std::array::from_fn(|k| self.weigh(Strategy::LightRays, p, e.pdf[k] * expected[k]))
            }
            (Some(p), None) => [self.weigh(Strategy::LightRays, p, e.any); 3],
        };
        work.count(path.charge_light(strongest(&bsdf.weights)));
        let interior = match &point.boundary {
            Some(boundary) if l.direction.dot(point.geometric) < 0.0 => boundary.beyond,
            _ => path.interior,
        };
        let way = Way { from: point.leave(l.direction), to: l.end(point.position), interior, passed: path.passed };
        let seen = self.seen(shot.which, way);
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
                    self.add_by(
                        path,
                        Arrived { part: part_of(k, false), group: manner.group, light, by: Some(k) },
                        work,
                    );
                }
            }
            Some(kind) => {
                for (k, weight) in weights.into_iter().enumerate().filter(|(k, _)| e.f[*k] != Vec3::ZERO) {
                    let light = common * e.f[k] * weight;
                    self.add_by(
                        path,
                        Arrived { part: part_of(kind, true), group: manner.group, light, by: Some(k) },
                        work,
                    );
                }
            }
        }
    }

    /// Share of a light's radiance that reaches a point, with the shadow that the light is to have.
    pub(super) fn seen(&self, which: Which, way: Way) -> Vec3 {
        let manner = self.arrangement.lights.manner(which);
        let way = match manner.shadow {
            Shadow::None => return Vec3::ONE,
            Shadow::Hard => match self.arrangement.lights.middle(which) {
                Some(to) => Way { to, ..way },
                None => way,
            },
            Shadow::Soft => way,
        };
        let left = self.clear(way);
        if manner.shadow_strength < 1.0 { Vec3::ONE.lerp(left, manner.shadow_strength) } else { left }
    }

    /// Transmittance of the way to a light. Where the ray passes something straight it starts anew behind it, towards the
    /// same end: a step aside there would otherwise carry it past the end, onto the light.
    fn clear(&self, mut way: Way) -> Vec3 {
        let mut left = Vec3::ONE;
        // Boundaries of solids are few; a ray that meets more is lost in broken geometry.
        for _ in 0..256 {
            let Some(ray) = way.ray() else { return left };
            let hit = if self.stage.lets_pass {
                self.stage.world.nearest(&ray)
            } else {
                if self.stage.world.blocked(&ray) {
                    return Vec3::ZERO;
                }
                None
            };
            let reach = hit.map_or(ray.far, |h| h.distance);
            left *= if way.interior.is_open() {
                match &self.arrangement.haze {
                    Some(h) => h
                        .stretch(ray.origin, ray.direction, reach)
                        .map_or(Vec3::ONE, |(a, b)| h.medium.transmittance(b - a)),
                    None => Vec3::ONE,
                }
            } else {
                self.medium_in(&way.interior).map_or(Vec3::ONE, |m| m.transmittance(reach))
            };
            let Some(hit) = hit else { return left };
            let (at, face, room) = self.stage.spot(&hit);
            let face = face.normalize_or(ray.direction);
            let entering = face.dot(ray.direction) < 0.0;
            match self.unseen_boundary(&hit, entering, &way.interior) {
                Some(beyond) => way.interior = beyond,
                None => {
                    left *= 1.0 - self.stage.alpha(&hit);
                    way.passed += 1;
                    if left == Vec3::ZERO || way.passed > self.settings.depth_transparent {
                        return Vec3::ZERO;
                    }
                }
            }
            way.from = at + if entering { -face } else { face } * room;
            // The end may lie within the step.
            if let Target::Point(end) = way.to
                && (end - way.from).dot(ray.direction) <= 0.0
            {
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

/// The way of a light ray that is still to be looked at.
#[derive(Clone, Copy)]
pub(super) struct Way {
    pub from: Vec3,
    pub to: Target,
    /// The solids that it starts in.
    pub interior: Interior,
    /// See-through surfaces that were passed before.
    pub passed: u32,
}

impl Way {
    /// From where the ray starts to the very end; none if there is no way.
    fn ray(&self) -> Option<Ray> {
        match self.to {
            Target::Direction(direction) => Some(Ray { origin: self.from, direction, far: f32::INFINITY }),
            Target::Point(end) => {
                let to = end - self.from;
                let distance = to.length();
                // The end of a shape that is no triangle is as exact as its distance.
                let far = distance * (1.0 - 1e-6);
                (far > 0.0).then(|| Ray { origin: self.from, direction: to / distance, far })
            }
        }
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
