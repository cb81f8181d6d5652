//! One camera sample: a unidirectional path with next-event estimation, joined with the scattered ray by multiple
//! importance sampling with the power heuristic (Veach 1997).
//!
//! A bounce is one scattering event. At the depth limit a hit still shines, but scatters no more: the last scattered ray
//! is kept as the partner of the last light ray. With all surfaces matte of albedo ρ and emission E, k bounces give
//! E(1−ρ^(k+1))/(1−ρ) inside a closed space.

use crate::bsdf::{Allowed, Bsdf, Kind};
use crate::bvh::Ray;
use crate::description::Settings;
use crate::pool::thread_time;
use crate::sampler::Sampler;
use crate::stage::{Stage, offset};
use crate::view_rays::ViewRays;
use glam::{Vec2, Vec3};
use picture::filter::FilterSampler;
use serde::{Deserialize, Serialize};
use ts_rs::TS;

/// What a ray was traced for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum RayKind {
    Camera,
    /// Towards a light.
    Direct,
    Diffuse,
    Reflection,
    Transmission,
}

pub const KINDS: [RayKind; 5] =
    [RayKind::Camera, RayKind::Direct, RayKind::Diffuse, RayKind::Reflection, RayKind::Transmission];

/// What the samples of a render cost.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counters {
    /// Rays by [`RayKind`].
    pub rays: [u64; 5],
    /// Processor nanoseconds by kind, from one in 32 samples.
    pub timed: [u64; 5],
    /// Samples whose value was not finite and was counted as black.
    pub broken: u64,
}

impl Counters {
    pub fn add(&mut self, o: &Counters) {
        for k in 0..5 {
            self.rays[k] += o.rays[k];
            self.timed[k] += o.timed[k];
        }
        self.broken += o.broken;
    }

    /// Share of the sampling time by kind: measured where samples were timed, by rays before that.
    pub fn shares(&self) -> [f64; 5] {
        let of = if self.timed.iter().sum::<u64>() > 0 { self.timed } else { self.rays };
        let total = of.iter().sum::<u64>().max(1) as f64;
        of.map(|t| t as f64 / total)
    }
}

/// The value of one sample.
#[derive(Debug, Clone, Copy)]
pub struct Sample {
    pub radiance: Vec3,
    pub covered: bool,
    pub albedo: Vec3,
    pub normal: Vec3,
    pub depth: f32,
}

/// Everything that stays the same over a render.
pub struct Tracer<'a> {
    pub stage: &'a Stage,
    pub settings: &'a Settings,
    pub view: &'a ViewRays,
    pub filter: &'a FilterSampler,
}

/// Charges processor time to kinds of rays in the samples that were chosen for it.
struct Clock {
    last: Option<u64>,
}

impl Clock {
    fn charge(&mut self, counters: &mut Counters, kind: RayKind) {
        if let Some(last) = &mut self.last {
            let now = thread_time();
            counters.timed[kind as usize] += now - *last;
            *last = now;
        }
    }
}

fn power_heuristic(a: f32, b: f32) -> f32 {
    let (a2, b2) = (a * a, b * b);
    if a2 + b2 > 0.0 { a2 / (a2 + b2) } else { 0.0 }
}

impl Tracer<'_> {
    /// Sample `index` of a half of a full-frame pixel. Depends on nothing else.
    pub fn sample(&self, x: u32, y: u32, half: u32, index: u32, counters: &mut Counters) -> Sample {
        let sampler = Sampler::new(self.settings.seed, x, y, half, index);
        let mut clock = Clock { last: (sampler.lot() & 31 == 0).then(thread_time) };
        let [fx, fy, ..] = sampler.set(0);
        let ray = self.view.through(x as f32 + 0.5 + self.filter.offset(fx), y as f32 + 0.5 + self.filter.offset(fy));
        let mut sample = self.path(ray, &sampler, counters, &mut clock);
        if !sample.radiance.is_finite() {
            counters.broken += 1;
            sample.radiance = Vec3::ZERO;
        }
        sample
    }

    fn path(&self, mut ray: Ray, sampler: &Sampler, counters: &mut Counters, clock: &mut Clock) -> Sample {
        let (stage, set) = (self.stage, self.settings);
        let environment = stage.environment.as_deref();
        let mut out =
            Sample { radiance: Vec3::ZERO, covered: false, albedo: Vec3::ZERO, normal: Vec3::ZERO, depth: 0.0 };
        let mut throughput = Vec3::ONE;
        // Density with which the ray was scattered; none from the camera and from perfect mirrors.
        let mut scattered: Option<f32> = None;
        let mut absorption = Vec3::ZERO;
        let mut kind = RayKind::Camera;
        let mut used = [0u32; 3];
        let mut bounce = 0u32;
        // Only perfect mirrors and windows so far.
        let mut through = true;
        loop {
            counters.rays[kind as usize] += 1;
            let Some(hit) = stage.bvh.nearest(&ray) else {
                if through && bounce > 0 {
                    (out.albedo, out.normal) = (Vec3::ONE, Vec3::ZERO);
                }
                if !(bounce == 0 && set.transparent) {
                    let weight = scattered.map_or(1.0, |pdf| power_heuristic(pdf, stage.lights.sky_pdf(ray.direction)));
                    out.radiance += throughput * stage.sky(ray.direction) * weight;
                }
                clock.charge(counters, kind);
                break;
            };
            if absorption != Vec3::ZERO {
                throughput *= (-absorption * hit.distance).exp();
            }
            let point = stage.point(&ray, &hit);
            if point.emission != Vec3::ZERO {
                let weight = scattered.map_or(1.0, |pdf| {
                    power_heuristic(pdf, stage.lights.emitter_pdf(hit.triangle, ray.direction, hit.distance))
                });
                out.radiance += throughput * point.emission * weight;
            }
            let allowed = Allowed {
                diffuse: used[0] < set.depth_diffuse,
                reflection: used[1] < set.depth_reflection,
                transmission: used[2] < set.depth_transmission,
            };
            let bsdf = Bsdf::new(&point.surface, -ray.direction, point.normal, point.geometric, allowed);
            out.covered |= bounce == 0;
            if through {
                // Guides come from the first surface that is not a perfect mirror or window, so that what is seen in
                // them keeps its edges.
                out.depth += hit.distance;
                out.normal = point.normal;
                let shining = point.emission != Vec3::ZERO;
                out.albedo = if shining { Vec3::ONE } else { bsdf.guide_albedo() };
            }
            clock.charge(counters, kind);
            if bounce >= set.depth {
                break;
            }
            bounce += 1;
            if !bsdf.only_singular() {
                let [choice, u, v, _] = sampler.set(2 * bounce);
                if let Some(l) = stage.lights.sample(point.position, choice, Vec2::new(u, v), environment) {
                    let (f, pdf) = bsdf.eval(l.direction, allowed);
                    if f != Vec3::ZERO {
                        let light = match l.emitter {
                            Some((triangle, u, v)) => l.light * stage.emission_at(triangle, u, v),
                            None => l.light,
                        };
                        let weight = l.pdf.map_or(1.0, |p| power_heuristic(p, pdf));
                        let side =
                            if l.direction.dot(point.geometric) > 0.0 { point.geometric } else { -point.geometric };
                        let origin = offset(point.position, side);
                        counters.rays[RayKind::Direct as usize] += 1;
                        // Ends short of the light so that it does not shadow itself.
                        let shadow = Ray { origin, direction: l.direction, far: l.distance * (1.0 - 1e-4) };
                        if !stage.bvh.blocked(&shadow) {
                            out.radiance += throughput * f * light * weight;
                        }
                    }
                }
                clock.charge(counters, RayKind::Direct);
            }
            let [choice, u, v, lot] = sampler.set(2 * bounce + 1);
            let Some(s) = bsdf.sample(choice, Vec2::new(u, v), allowed) else { break };
            throughput *= s.weight;
            let strength = throughput.max_element();
            if strength <= 0.0 {
                break;
            }
            if bounce >= set.roulette_from {
                let survive = strength.clamp(0.05, 1.0);
                if lot >= survive {
                    break;
                }
                throughput /= survive;
            }
            let (index, next) = match s.kind {
                Kind::Diffuse => (0, RayKind::Diffuse),
                Kind::Reflection => (1, RayKind::Reflection),
                Kind::Transmission => (2, RayKind::Transmission),
            };
            used[index] += 1;
            kind = next;
            scattered = s.pdf;
            through &= s.pdf.is_none();
            let below = s.direction.dot(point.geometric) < 0.0;
            if below && point.surface.solid {
                absorption = if point.front { self.absorption(point.material) } else { Vec3::ZERO };
            }
            let side = if below { -point.geometric } else { point.geometric };
            ray = Ray { origin: offset(point.position, side), direction: s.direction, far: f32::INFINITY };
        }
        out
    }

    /// Absorption per metre by the law of Beer and Lambert, from the colour that is left after the given distance.
    fn absorption(&self, material: u32) -> Vec3 {
        let m = &self.stage.scene.materials[material as usize];
        if !m.attenuation_distance.is_finite() || m.attenuation_distance <= 0.0 {
            return Vec3::ZERO;
        }
        let left = m.attenuation_colour.clamp(Vec3::splat(1e-6), Vec3::ONE);
        Vec3::new(-left.x.ln(), -left.y.ln(), -left.z.ln()) / m.attenuation_distance
    }
}
