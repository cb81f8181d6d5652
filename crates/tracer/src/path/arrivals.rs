//! Light that a path's ray meets on its way, its weight against light rays that could have brought it, and how all light and the
//! guides are booked.

use super::*;

fn power_heuristic(a: f32, b: f32) -> f32 {
    let (a2, b2) = (a * a, b * b);
    // Very narrow lobes overflow when squared.
    if a2.is_infinite() {
        return 1.0;
    }
    if a2 + b2 > 0.0 { a2 / (a2 + b2) } else { 0.0 }
}

/// Light at the camera, and how it came.
pub(super) struct Arrived {
    pub part: usize,
    pub group: Group,
    pub light: Vec3,
    /// Kind of the scattering at the path's present vertex that sent it on its way, if it came by a light ray from there.
    pub by: Option<usize>,
}

impl Tracer<'_> {
    /// The weight of a strategy's light: `own` is the density with which it brings it, `other` that of its partner.
    #[inline]
    pub(super) fn weigh(&self, strategy: Strategy, own: f32, other: f32) -> f32 {
        match self.settings.strategy {
            Strategy::Both => power_heuristic(own, other),
            forced if forced == strategy || other <= 0.0 => 1.0,
            _ => 0.0,
        }
    }

    pub(super) fn guide_behind(&self, path: &mut Path, ray: &Ray, hit: Option<&Hit>, work: &mut Work) {
        let Some(hit) = hit else { return };
        let point = self.stage.point(ray.direction, hit, &path.interior);
        let bsdf = self.bsdf(path, &point);
        let depth = path.travelled + hit.distance;
        self.guide(path, &point, &bsdf, depth, work);
        work.out.depth = depth;
        // Said once: the surface itself does not repeat it.
        path.guides = false;
        work.out.covered = true;
    }

    /// Light that a path's ray meets: a shining surface or shape, at a distance from the last scattering.
    pub(super) fn meet(&self, path: &Path, which: Which, distance: f32, radiance: Vec3, work: &mut Work) {
        let toward = |from: Vec3| self.arrangement.lights.pdf(which, from, path.direction, distance);
        let weight = self.meeting_weight(path, which, toward);
        if weight > 0.0 {
            self.add(path, EMISSION, self.arrangement.lights.manner(which).group, radiance * weight, work);
        }
    }

    /// The share of light that is met by scattering, against the light rays that could have brought it. `toward` is the
    /// density of light rays from a point to what was met.
    #[inline]
    fn meeting_weight(&self, path: &Path, which: Which, toward: impl FnOnce(Vec3) -> f32) -> f32 {
        let lights = &self.arrangement.lights;
        let Some(Origin { from: Receiving { receiver, odds }, pdf: Some(pdf), first, line }) = &path.origin else {
            return 1.0;
        };
        let manner = lights.manner(which);
        if manner.only_sampled() {
            return 0.0;
        }
        let toward = toward(receiver.position);
        if toward <= 0.0 {
            return 1.0;
        }
        if let Some(l) = line {
            let chance = lights.chance(odds, &midpoint(&l.stretch), which);
            let density = l.stretch.density(&l.medium, lights.centre(which), l.at);
            return self.weigh(Strategy::Scattering, l.density * pdf, chance * density * toward);
        }
        let rays = if *first && manner.split > 0 {
            manner.split as f32
        } else {
            lights.chance(odds, receiver, which) * if *first { self.settings.split_direct as f32 } else { 1.0 }
        };
        self.weigh(Strategy::Scattering, *pdf, rays * toward)
    }

    /// A ray that hits nothing.
    pub(super) fn leave(&self, path: &mut Path, work: &mut Work) {
        let lights = &self.arrangement.lights;
        if path.guides && path.bounce > 0 {
            (work.out.albedo, work.out.normal) = (Vec3::ONE, Vec3::ZERO);
        }
        for (which, radiance) in lights.suns_at(path.direction) {
            // The camera does not see suns, only what they light.
            if path.bounce > 0 {
                self.meet(path, which, f32::INFINITY, radiance, work);
            }
        }
        let Some(by) = lights.environment() else { return };
        let shown = match path.bounce {
            0 => Vec3::splat((by.camera && !self.settings.transparent) as u32 as f32),
            _ => path.sky,
        };
        if shown != Vec3::ZERO {
            let (radiance, toward) = lights.sky(path.direction);
            let weight = self.meeting_weight(path, Which::Sky, |_| toward);
            let group = lights.manner(Which::Sky).group;
            self.add(path, ENVIRONMENT, group, radiance * shown * weight, work);
        }
    }

    /// Adds light that a path's ray met; `part` holds while nothing has scattered it.
    pub(super) fn add(&self, path: &Path, part: usize, group: u8, light: Vec3, work: &mut Work) {
        let part = path.part.map_or(part, |kind| part_of(kind, path.bounce > 1));
        self.add_by(path, Arrived { part, group, light: path.throughput * light, by: None }, work);
    }

    /// Adds light that a path or a light ray of its present vertex has brought.
    #[inline]
    pub(super) fn add_by(&self, path: &Path, Arrived { part, group, light, by }: Arrived, work: &mut Work) {
        work.out.add(part, group, light);
        let used = by.map_or(path.used, |kind| path.used_by(kind));
        let bounces = path.bounce + by.is_some() as u32;
        // Light rays scatter once more than their path.
        let caustics =
            std::array::from_fn(|k| path.caustics[k] || path.after_diffuse && used[k + 1] > path.used[k + 1]);
        work.tally.brought.light(bounces, &used, caustics, light);
        if bounces == self.settings.depth {
            work.out.last[0] += light;
            work.out.last_kinds |= part.checked_sub(2).map_or(0, |k| 1 << (k / 2));
        } else if bounces + 1 == self.settings.depth {
            work.out.last[1] += light;
        }
    }

    pub(super) fn guide(&self, path: &Path, point: &Point, bsdf: &Bsdf, depth: f32, work: &mut Work) {
        let shining = point.emission != Vec3::ZERO;
        let albedo = if shining { Vec3::ONE } else { bsdf.guide_albedo() };
        if path.guides {
            (work.out.normal, work.out.albedo) = (point.normal, albedo);
        }
        if path.bounce == 0 {
            work.out.first = FirstHit {
                position: point.position,
                normal: point.normal,
                albedo,
                depth,
                object: point.object + 1,
                material: point.material + 1,
            };
        }
    }
}
