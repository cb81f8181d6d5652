//! One camera sample: unidirectional paths with next-event estimation, joined with scattered rays by multiple importance
//! sampling with the power heuristic (Veach 1997).
//!
//! A bounce is one scattering event. At the depth limit a hit still shines, but scatters no more: the last scattered ray is
//! kept as the partner of the last light ray. With all surfaces matte of albedo ρ and emission E, k bounces give
//! E(1−ρ^(k+1))/(1−ρ) inside a closed space.
//!
//! At the first hit every kind of scattering (diffuse, reflection, transmission) sends rays of its own, as many as its split
//! says; a kind that carries less than a quarter of the light sends proportionally fewer, by chance. Behind the first hit a
//! path draws one kind at a time. In a medium, light rays start anywhere on the stretch (equiangular or by extinction) and
//! the path itself scatters by extinction; both are joined by the same heuristic.

mod arrivals;
mod light_rays;
mod media;

use crate::arrangement::Arrangement;
use crate::brought::{Brought, CAUSTICS};
use crate::bsdf::{Allowed, Bsdf, Kind, SURFACE_KINDS};
use crate::bvh::{Hit, Ray};
use crate::counters::{Charge, Clock, Counters, RayKind};
use crate::description::{Settings, Strategy};
use crate::gather::{EMISSION, ENVIRONMENT, FirstHit, Sample, part_of};
use crate::interior::Interior;
use crate::lights::{Group, Odds, Receiver, Which};
use crate::medium::{Medium, Stretch};
use crate::sampler::Sampler;
use crate::stage::{Point, Stage};
use crate::view_rays::ViewRays;
use arrivals::Arrived;
use glam::{Vec2, Vec3};
use media::midpoint;
use picture::filter::FilterSampler;
use picture::luminance;
use scene::Shadow;

/// Everything that stays the same over a render.
pub struct Tracer<'a> {
    pub stage: &'a Stage,
    pub settings: &'a Settings,
    pub arrangement: &'a Arrangement,
    pub view: &'a ViewRays,
    pub filter: &'a FilterSampler,
    /// The solids that the camera stands in; none for a camera that moves, which finds them anew for every ray.
    pub inside: Option<Interior>,
}

/// A kind of scattering as depth limits and parts count it.
const VOLUME: usize = 3;

/// Numbers of a vertex are drawn from these sets; a vertex has sixteen.
mod set {
    pub const LIGHT: u32 = 0;
    pub const SCATTER: u32 = 1;
    pub const ROULETTE: u32 = 2;
    pub const MEDIUM: u32 = 3;
    pub const LINE: u32 = 4;
    pub const LINE_LIGHT: u32 = 5;
    pub const PASS: u32 = 6;
    pub const COUNT: u32 = 7;
}

/// Where a scattered ray came from, for weighing light that it meets against light rays from there.
#[derive(Clone, Copy)]
struct Origin {
    from: Receiving,
    /// Density with which the ray was scattered, times the number of such rays; none for perfect mirrors and windows.
    pdf: Option<f32>,
    /// At the first hit there may be several light rays.
    first: bool,
    /// The stretch on which the vertex lies, if it is in a medium.
    line: Option<Line>,
}

/// Where light is received, and how lights are chosen there. For a vertex in a medium the middle of its stretch decides.
#[derive(Clone, Copy)]
struct Receiving {
    receiver: Receiver,
    odds: Odds,
}

#[derive(Clone, Copy)]
struct Line {
    stretch: Stretch,
    medium: Medium,
    /// Distance of the vertex along the stretch, and the density with which it was drawn.
    at: f32,
    density: f32,
}

#[derive(Clone, Copy)]
struct Path {
    origin_point: Vec3,
    direction: Vec3,
    throughput: Vec3,
    ray_kind: RayKind,
    /// Kind of the first scattering.
    part: Option<usize>,
    bounce: u32,
    used: [u32; 4],
    /// Surfaces passed straight on, and boundaries of open media among the segments so far.
    passed: u32,
    crossed: u32,
    after_diffuse: bool,
    /// Reflected or transmitted behind a diffuse scattering: what a switch of caustics would cut off.
    caustics: [bool; CAUSTICS],
    /// The solids that the path is inside of.
    interior: Interior,
    /// Share of the environment's light that the last scattering passes on: it may light surfaces without being reflected, or the
    /// other way round.
    sky: Vec3,
    /// Light gains this factor when it leaves the solids that it is in.
    scale: f32,
    origin: Option<Origin>,
    /// Way from the last scattering to the present ray's origin.
    travelled: f32,
    /// Only perfect mirrors and windows so far, and chosen to carry the guides.
    guides: bool,
    sampler: Sampler,
}

impl Path {
    fn key(&self, what: u32) -> u32 {
        16 + self.bounce * 16 + what + (self.passed + self.crossed) * 8192
    }

    fn set(&self, what: u32) -> [f32; 4] {
        self.sampler.set(self.key(what))
    }

    /// Where the present ray is booked.
    fn charge(&self) -> Charge {
        let branch = self.part.map_or(0, |kind| 2 + kind);
        Charge { kind: self.ray_kind, bounces: self.bounce, used: self.used, branch }
    }

    /// The scatterings of light that comes from a vertex by one of a kind.
    fn used_by(&self, kind: usize) -> [u32; 4] {
        let mut used = self.used;
        used[kind] += 1;
        used
    }

    /// Where light rays from the present vertex are booked, scattered mostly by a kind.
    fn charge_light(&self, kind: usize) -> Charge {
        let branch = self.part.map_or(1, |kind| 2 + kind);
        Charge { kind: RayKind::Direct, bounces: self.bounce + 1, used: self.used_by(kind), branch }
    }
}

/// Where a path meets a surface that scatters.
struct Vertex<'a> {
    point: &'a Point,
    bsdf: &'a Bsdf<'a>,
    receiving: &'a Receiving,
}

/// A direction that was drawn at a vertex, with what the path's throughput is multiplied by and the density for weighing light that
/// it meets; none for perfect mirrors and windows.
struct Scattered {
    kind: Kind,
    direction: Vec3,
    weight: Vec3,
    pdf: Option<f32>,
}

/// Where a path's ray ends.
enum End {
    Nothing,
    Surface(Hit),
    /// In a medium.
    Midway(Line),
}

/// What samples leave behind beside their pictures.
#[derive(Default)]
pub struct Tally {
    pub counters: Counters,
    pub brought: Brought,
}

struct Work<'c> {
    out: Sample,
    tally: &'c mut Tally,
    clock: Clock,
}

impl Work<'_> {
    fn count(&mut self, charge: Charge) {
        self.tally.counters.count(&charge);
    }

    fn charge(&mut self, to: impl FnOnce() -> Charge) {
        self.clock.charge(&mut self.tally.counters, to);
    }
}

impl Tracer<'_> {
    /// Sample `index` of a half of a full-frame pixel. Depends on nothing else. Returned with the sign of the pixel filter
    /// where the sample lies.
    pub fn sample(&self, x: u32, y: u32, half: u32, index: u32, tally: &mut Tally) -> (Sample, bool) {
        let sampler = Sampler::new(self.settings.seed, x, y, half, index);
        let clock = Clock::start(sampler.lot());
        let (ray, negative) = self.camera_ray(x, y, &sampler);
        tally.brought.begin(negative);
        let mut work = Work { out: Sample::black(), tally, clock };
        self.camera_path(&ray, sampler, &mut work);
        let mut sample = work.out;
        let counters = &mut tally.counters;
        if self.settings.clamps() {
            sample.clamp(self.settings.clamp_direct, &self.settings.clamp);
            counters.clamped += (sample.clamped * 1e6) as u64;
            counters.kept += (luminance(sample.radiance().to_array()) * 1e6) as u64;
        }
        if !sample.radiance().is_finite() {
            counters.broken += 1;
            let guides = sample;
            sample = Sample {
                covered: guides.covered,
                albedo: guides.albedo,
                normal: guides.normal,
                depth: guides.depth,
                first: guides.first,
                ..Sample::black()
            };
        }
        (sample, negative)
    }

    /// Object and material that the camera ray of a sample meets first; none where it meets nothing or scatters on its way.
    pub fn first_thing(&self, x: u32, y: u32, half: u32, index: u32, tally: &mut Tally) -> Option<(u32, u32)> {
        let sampler = Sampler::new(self.settings.seed, x, y, half, index);
        let clock = Clock::start(sampler.lot());
        let ray = self.camera_ray(x, y, &sampler).0;
        let mut work = Work { out: Sample::black(), tally, clock };
        let mut path = self.camera_start(&ray, sampler);
        match self.advance(&mut path, &mut work) {
            End::Surface(hit) => {
                let point = self.arrive(&mut path, &hit, &mut work);
                Some((point.object, point.material))
            }
            _ => None,
        }
    }

    /// The camera ray of a sample, and whether its weight is negative.
    fn camera_ray(&self, x: u32, y: u32, sampler: &Sampler) -> (Ray, bool) {
        let [fx, fy, lx, ly] = sampler.set(0);
        let time = if self.view.moves() { sampler.one(1) } else { 0.0 };
        let (dx, sign_x) = self.filter.offset(fx);
        let (dy, sign_y) = self.filter.offset(fy);
        let ray = self.view.through(x as f32 + 0.5 + dx, y as f32 + 0.5 + dy, Vec2::new(lx, ly), time);
        (ray, sign_x != sign_y)
    }

    fn camera_start(&self, ray: &Ray, sampler: Sampler) -> Path {
        Path {
            origin_point: ray.origin,
            direction: ray.direction,
            throughput: Vec3::ONE,
            ray_kind: RayKind::Camera,
            part: None,
            bounce: 0,
            used: [0; 4],
            passed: 0,
            crossed: 0,
            after_diffuse: false,
            caustics: [false; CAUSTICS],
            interior: self.inside.unwrap_or_else(|| self.stage.interior_at(ray.origin)),
            sky: Vec3::ONE,
            scale: 1.0,
            origin: None,
            travelled: 0.0,
            guides: true,
            sampler,
        }
    }

    fn camera_path(&self, ray: &Ray, sampler: Sampler, work: &mut Work) {
        let mut path = self.camera_start(ray, sampler);
        match self.advance(&mut path, work) {
            End::Nothing => {}
            End::Midway(line) => {
                if let Some(next) = self.scatter_midway(&path, &line) {
                    self.follow(next, work);
                }
            }
            End::Surface(hit) => {
                let point = self.arrive(&mut path, &hit, work);
                self.first_hit(&path, &point, work);
            }
        }
    }

    /// The first hit: every kind sends its own rays.
    fn first_hit(&self, path: &Path, point: &Point, work: &mut Work) {
        let set = self.settings;
        let Some(bsdf) = self.scatterer(path, point, work) else { return };
        let receiving = self.receiving(point, &bsdf);
        let total: f32 = bsdf.weights.iter().sum();
        // Rays that each kind is expected to send.
        let expected: [f32; 3] = std::array::from_fn(|k| {
            if bsdf.weights[k] > 0.0 { set.split[k] as f32 * (4.0 * bsdf.weights[k] / total).min(1.0) } else { 0.0 }
        });
        let vertex = Vertex { point, bsdf: &bsdf, receiving: &receiving };
        self.direct(path, &vertex, Some(expected), work);
        let lots = path.set(set::COUNT);
        let strongest = light_rays::strongest(&bsdf.weights);
        for (k, kind) in SURFACE_KINDS.into_iter().enumerate() {
            if expected[k] <= 0.0 {
                continue;
            }
            let rays = (expected[k] + lots[k]) as u32;
            for j in 0..rays {
                let sampler = path.sampler.split(k as u32 + 1, j, set.split[k]);
                let [_, choice, u, v] = sampler.set(path.key(set::SCATTER));
                let Some(s) = bsdf.sample(kind, choice, Vec2::new(u, v)) else { continue };
                let (weight, pdf) = match s.singular {
                    Some(f) => (f / expected[k], None),
                    None => {
                        let e = bsdf.eval(s.direction);
                        if e.pdf[k] <= 1e-12 {
                            continue;
                        }
                        (e.f[k] / (e.pdf[k] * expected[k]), Some(e.pdf[k] * expected[k]))
                    }
                };
                let guides = path.guides && pdf.is_none() && k == strongest && j == 0;
                let sky = self.sky_of(kind);
                let mut next = Path { sampler, guides, sky, ..*path };
                if self.scatter(&mut next, &vertex, Scattered { kind, direction: s.direction, weight, pdf }) {
                    work.tally.counters.first[next.ray_kind as usize] += 1;
                    self.follow(next, work);
                }
            }
        }
    }

    /// Everything behind the first scattering.
    fn follow(&self, mut path: Path, work: &mut Work) {
        loop {
            let hit = match self.advance(&mut path, work) {
                End::Nothing => return,
                End::Midway(line) => match self.scatter_midway(&path, &line) {
                    Some(next) => {
                        path = next;
                        continue;
                    }
                    None => return,
                },
                End::Surface(hit) => hit,
            };
            let point = self.arrive(&mut path, &hit, work);
            let Some(bsdf) = self.scatterer(&path, &point, work) else { return };
            let receiving = self.receiving(&point, &bsdf);
            let vertex = Vertex { point: &point, bsdf: &bsdf, receiving: &receiving };
            self.direct(&path, &vertex, None, work);
            let [choice, turn, u, v] = path.set(set::SCATTER);
            let Some((kind, s)) = bsdf.sample_any(choice, turn, Vec2::new(u, v)) else { return };
            path.sky = self.sky_of(kind);
            let (weight, pdf) = match s.singular {
                Some(f) => (f, None),
                None => {
                    let e = bsdf.eval(s.direction);
                    if e.any <= 1e-12 {
                        return;
                    }
                    let all = e.f.iter().sum::<Vec3>();
                    let shown_to = SURFACE_KINDS.map(|kind| self.sky_of(kind) != Vec3::ZERO);
                    if shown_to[0] != shown_to[1] {
                        // The ray carries what all kinds scatter into its direction; the environment reaches some of them.
                        let shown: Vec3 = (0..3).filter(|k| shown_to[*k]).map(|k| e.f[k]).sum();
                        path.sky = Vec3::select(all.cmpgt(Vec3::ZERO), shown / all, Vec3::ZERO);
                    }
                    (all / e.any, Some(e.any))
                }
            };
            path.guides &= pdf.is_none();
            if !self.scatter(&mut path, &vertex, Scattered { kind, direction: s.direction, weight, pdf }) {
                return;
            }
        }
    }

    fn receiving(&self, point: &Point, bsdf: &Bsdf) -> Receiving {
        let both_sides = point.surface.transmission > 0.0;
        let receiver = Receiver { position: point.position, normal: Some(point.normal), both_sides };
        let odds = if bsdf.only_singular() { Odds::default() } else { self.arrangement.lights.odds(&receiver) };
        Receiving { receiver, odds }
    }

    /// Turns a path into the one after a scattering at a surface; false if it ends by roulette.
    fn scatter(&self, path: &mut Path, vertex: &Vertex, scattered: Scattered) -> bool {
        let Vertex { point, receiving: from, .. } = vertex;
        let Scattered { kind, direction, weight, pdf } = scattered;
        let below = direction.dot(point.geometric) < 0.0;
        let first = path.bounce == 0;
        path.throughput *= weight;
        path.used[kind as usize] += 1;
        path.part.get_or_insert(kind as usize);
        path.ray_kind = match kind {
            Kind::Diffuse => RayKind::Diffuse,
            Kind::Reflection => RayKind::Reflection,
            Kind::Transmission => RayKind::Transmission,
        };
        if path.after_diffuse && kind != Kind::Diffuse {
            path.caustics[kind as usize - 1] = true;
        }
        path.after_diffuse |= kind == Kind::Diffuse;
        path.origin = Some(Origin { from: **from, pdf, first, line: None });
        if below && let Some(boundary) = &point.boundary {
            path.scale *= boundary.eta * boundary.eta;
            path.interior = boundary.beyond;
        }
        path.origin_point = point.leave(direction);
        path.direction = direction;
        path.travelled = 0.0;
        self.survive(path)
    }

    /// Ends weak paths by chance.
    fn survive(&self, path: &mut Path) -> bool {
        let strength = path.throughput.max_element();
        // NaN ends a path too.
        if strength.is_nan() || strength <= 0.0 {
            return false;
        }
        path.bounce += 1;
        if path.bounce >= self.settings.roulette_from {
            let survive = (strength * path.scale).clamp(0.05, 1.0);
            if survive < 1.0 {
                if path.sampler.one(path.key(set::ROULETTE)) >= survive {
                    return false;
                }
                path.throughput /= survive;
            }
        }
        true
    }

    /// Follows a path's ray to where it scatters next, and gathers the light that it meets on the way.
    fn advance(&self, path: &mut Path, work: &mut Work) -> End {
        let lights = &self.arrangement.lights;
        loop {
            work.count(path.charge());
            let ray = Ray { origin: path.origin_point, direction: path.direction, far: f32::INFINITY };
            let hit = self.stage.world.nearest(&ray);
            let far = hit.map_or(f32::INFINITY, |h| h.distance);
            let (medium, from, until) = match &self.arrangement.haze {
                _ if !path.interior.is_open() => (self.medium_in(&path.interior), 0.0, far),
                Some(haze) => match haze.stretch(ray.origin, ray.direction, far) {
                    Some((a, b)) => (Some(haze.medium), a, b),
                    None => (None, 0.0, 0.0),
                },
                None => (None, 0.0, 0.0),
            };
            lights.shapes_along(ray.origin, ray.direction, far, |which, distance, radiance| {
                if path.bounce == 0 && !lights.manner(which).seen {
                    return;
                }
                let left = medium.map_or(Vec3::ONE, |m| m.transmittance((distance.min(until) - from).max(0.0)));
                self.meet(path, which, path.travelled + distance, left * radiance, work);
            });
            if let Some(medium) = medium {
                if path.bounce == 0 && path.guides {
                    // What lies behind guides the picture, wherever light scatters before it.
                    self.guide_behind(path, &ray, hit.as_ref(), work);
                }
                if let Some(line) = self.through_medium(path, &medium, from, until, work) {
                    work.charge(|| path.charge());
                    return End::Midway(line);
                }
            }
            let Some(hit) = hit else {
                self.leave(path, work);
                work.charge(|| path.charge());
                return End::Nothing;
            };
            if self.stage.lets_pass && self.passes(path, &hit) {
                if path.passed > self.settings.depth_transparent {
                    return End::Nothing;
                }
                continue;
            }
            return End::Surface(hit);
        }
    }

    /// The surface at the end of a path's ray, and the light that it sends along it.
    #[inline]
    fn arrive(&self, path: &mut Path, hit: &Hit, work: &mut Work) -> Point {
        let point = self.stage.point(path.direction, hit, &path.interior);
        if point.emission != Vec3::ZERO {
            match self.arrangement.lights.of_triangle(hit.instance, hit.triangle) {
                Some(which) => self.meet(path, which, path.travelled + hit.distance, point.emission, work),
                // Unlit surfaces are no lights: nothing else finds them.
                None => self.add(path, EMISSION, 0, point.emission, work),
            }
        }
        path.travelled += hit.distance;
        if path.guides {
            work.out.depth += path.travelled;
        }
        if path.bounce == 0 {
            work.out.covered = true;
        }
        work.charge(|| path.charge());
        point
    }

    /// Whether a path goes straight on through what it hit; its ray then starts behind it.
    fn passes(&self, path: &mut Path, hit: &Hit) -> bool {
        let (position, face, reach) = self.stage.spot(hit);
        let face = face.normalize_or(path.direction);
        let entering = face.dot(path.direction) < 0.0;
        let unseen = self.unseen_boundary(hit, entering, &path.interior);
        if unseen.is_none() {
            let alpha = self.stage.alpha(hit);
            let lot = if alpha > 0.0 && alpha < 1.0 { path.sampler.one(path.key(set::PASS)) } else { 0.5 };
            if lot < alpha {
                return false;
            }
        }
        match unseen {
            Some(beyond) => {
                path.crossed += 1;
                path.interior = beyond;
            }
            None => path.passed += 1,
        }
        path.origin_point = position + if entering { -face } else { face } * reach;
        path.travelled += hit.distance;
        true
    }

    /// The solids beyond a hit, if it is the boundary of one that rays pass straight: with the same index on both sides and
    /// no surface of its own.
    fn unseen_boundary(&self, hit: &Hit, entering: bool, interior: &Interior) -> Option<Interior> {
        if !self.stage.place(hit.instance, hit.triangle).material.only_bounds() {
            return None;
        }
        let boundary = self.stage.boundary(hit, entering, interior)?;
        (boundary.hidden || boundary.eta == 1.0).then_some(boundary.beyond)
    }

    /// The medium of the solid that fills a place.
    fn medium_in(&self, interior: &Interior) -> Option<Medium> {
        self.arrangement.media[self.stage.solids.material(interior.filled_by()?) as usize]
    }

    /// Share of the environment's light that is scattered by a kind: all or none.
    fn sky_of(&self, kind: Kind) -> Vec3 {
        let shown = self.arrangement.lights.environment().is_some_and(|by| match kind {
            Kind::Diffuse => by.light,
            Kind::Reflection | Kind::Transmission => by.reflection,
        });
        Vec3::splat(shown as u32 as f32)
    }

    fn allowed(&self, path: &Path) -> Allowed {
        let set = self.settings;
        let caustic = |on: bool| on || !path.after_diffuse;
        [
            path.used[0] < set.depths[0],
            path.used[1] < set.depths[1] && caustic(set.caustics[0]),
            path.used[2] < set.depths[2] && caustic(set.caustics[1]),
        ]
    }

    fn bsdf(&self, path: &Path, point: &Point) -> Bsdf<'_> {
        let glass = point.boundary.and_then(|b| self.stage.glass(b.eta));
        let allowed = self.allowed(path);
        if path.after_diffuse && self.settings.soften > point.surface.roughness {
            let soft = crate::bsdf::Surface { roughness: self.settings.soften, ..point.surface.clone() };
            return Bsdf::new(&soft, glass, -path.direction, point.normal, point.geometric, allowed);
        }
        Bsdf::new(&point.surface, glass, -path.direction, point.normal, point.geometric, allowed)
    }

    /// How a surface scatters; none if the path ends there.
    fn scatterer(&self, path: &Path, point: &Point, work: &mut Work) -> Option<Bsdf<'_>> {
        let bsdf = self.bsdf(path, point);
        if path.guides {
            // Guides come from the first surface that is not a perfect mirror or window, so that what is seen in them keeps
            // its edges.
            self.guide(path, point, &bsdf, path.travelled, work);
        }
        let ends = path.bounce >= self.settings.depth
            || bsdf.weights.iter().sum::<f32>() <= 0.0
            || self.stage.scene.materials[point.material as usize].unlit;
        (!ends).then_some(bsdf)
    }
}

#[cfg(test)]
mod tests;
