//! A scene made ready for rays: acceleration structure, light tables, and the look-up of a surface point.

use crate::bsdf::Surface;
use crate::bvh::{Bvh, Hit, Ray};
use crate::lights::Lights;
use glam::{Vec2, Vec3};
use scene::{Environment, Material, Scene};
use serde::Serialize;
use std::sync::Arc;
use std::time::Instant;

/// Seconds that it took to get ready.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize)]
pub struct StageTimes {
    pub structure: f64,
    pub lights: f64,
}

pub struct Stage {
    pub scene: Arc<Scene>,
    pub environment: Option<Arc<Environment>>,
    pub bvh: Bvh,
    pub(crate) lights: Lights,
    pub times: StageTimes,
}

/// A point of a surface as a ray meets it.
pub(crate) struct Point {
    pub position: Vec3,
    /// Unit normal of the triangle, on the side of the ray's origin.
    pub geometric: Vec3,
    /// Shading normal, on the same side.
    pub normal: Vec3,
    /// The ray comes from the side to which the triangle's own normal points.
    pub front: bool,
    pub surface: Surface,
    /// Radiance towards the ray's origin.
    pub emission: Vec3,
    pub material: u32,
}

impl Stage {
    pub fn new(scene: Arc<Scene>, environment: Option<Arc<Environment>>) -> Stage {
        let start = Instant::now();
        let corners: Vec<[Vec3; 3]> = scene.triangles.iter().map(|t| scene.corner_positions(t)).collect();
        let bvh = Bvh::build(&corners);
        let structure = start.elapsed().as_secs_f64();
        let start = Instant::now();
        let lights = Lights::new(&scene, environment.as_deref());
        // Fills the table of the specular layer.
        crate::energy::Layer::new(Vec3::ONE, 1.0, 0.5);
        let times = StageTimes { structure, lights: start.elapsed().as_secs_f64() };
        Stage { scene, environment, bvh, lights, times }
    }

    /// Radiance of the environment in a direction; black without one.
    pub(crate) fn sky(&self, direction: Vec3) -> Vec3 {
        self.environment.as_ref().map_or(Vec3::ZERO, |e| e.radiance(direction))
    }

    /// Radiance that an emitting triangle sends from a point of it, without regard to sides.
    pub(crate) fn emission_at(&self, triangle: u32, u: f32, v: f32) -> Vec3 {
        let t = &self.scene.triangles[triangle as usize];
        let m = &self.scene.materials[t.material as usize];
        match &m.emissive_texture {
            Some(tex) => m.emission * tex.colour(&self.scene.textures, self.uv(triangle, u, v)),
            None => m.emission,
        }
    }

    fn uv(&self, triangle: u32, u: f32, v: f32) -> Vec2 {
        let [a, b, c] = self.scene.triangles[triangle as usize].vertices.map(|k| self.scene.uvs[k as usize]);
        a * (1.0 - u - v) + b * u + c * v
    }

    pub(crate) fn point(&self, ray: &Ray, hit: &Hit) -> Point {
        let s = &*self.scene;
        let t = &s.triangles[hit.triangle as usize];
        let m: &Material = &s.materials[t.material as usize];
        let [p0, p1, p2] = s.corner_positions(t);
        let (u, v) = (hit.u, hit.v);
        let mix = |a: Vec3, b: Vec3, c: Vec3| a * (1.0 - u - v) + b * u + c * v;
        let position = mix(p0, p1, p2);
        let face = (p1 - p0).cross(p2 - p0).normalize_or(-ray.direction);
        let front = face.dot(ray.direction) < 0.0;
        let geometric = if front { face } else { -face };
        let [n0, n1, n2] = t.vertices.map(|k| s.normals[k as usize]);
        let mut normal = mix(n0, n1, n2).normalize_or(face);
        let uv = self.uv(hit.triangle, u, v);
        if let Some(tex) = &m.normal_texture {
            let [t0, t1, t2] = t.vertices.map(|k| s.tangents[k as usize]);
            let tangent = mix(t0.truncate(), t1.truncate(), t2.truncate());
            let tangent = (tangent - normal * normal.dot(tangent)).normalize_or_zero();
            if tangent != Vec3::ZERO {
                let bitangent = normal.cross(tangent) * if t0.w < 0.0 { -1.0 } else { 1.0 };
                let n = tex.linear(&s.textures, uv).truncate() * 2.0 - 1.0;
                normal =
                    (tangent * (n.x * m.normal_scale) + bitangent * (n.y * m.normal_scale) + normal * n.z.max(0.01))
                        .normalize_or(normal);
            }
        }
        // The shading normal follows the side of the geometric one and is bent until the ray's origin sees it.
        if normal.dot(face) < 0.0 {
            normal = -normal;
        }
        if !front {
            normal = -normal;
        }
        let back = -ray.direction;
        let seen = normal.dot(back);
        if seen < 0.01 {
            normal = (normal + back * (0.01 - seen)).normalize_or(geometric);
        }
        let mut base = m.base;
        if let Some(tex) = &m.base_texture {
            base *= tex.colour(&s.textures, uv);
        }
        let (mut metallic, mut roughness) = (m.metallic, m.roughness);
        if let Some(tex) = &m.metallic_roughness_texture {
            let k = tex.linear(&s.textures, uv);
            roughness *= k.y;
            metallic *= k.z;
        }
        let shines = m.emits() && (front || m.double_sided);
        Point {
            position,
            geometric,
            normal,
            front,
            surface: Surface {
                base,
                metallic: metallic.clamp(0.0, 1.0),
                roughness: roughness.clamp(0.0, 1.0),
                ior: m.ior,
                specular: m.specular.clamp(0.0, 1.0),
                specular_colour: m.specular_colour,
                transmission: m.transmission.clamp(0.0, 1.0),
                solid: m.solid,
                outside: front,
            },
            emission: if shines { self.emission_at(hit.triangle, u, v) } else { Vec3::ZERO },
            material: t.material,
        }
    }
}

/// Moves a point off its surface along `side` so far that float rounding cannot hit the same surface again
/// (Wächter and Binder, "A Fast and Robust Method for Avoiding Self-Intersection", 2019).
pub(crate) fn offset(p: Vec3, side: Vec3) -> Vec3 {
    const ORIGIN: f32 = 1.0 / 32.0;
    const FLOAT: f32 = 1.0 / 65536.0;
    const INT: f32 = 256.0;
    let push = |p: f32, n: f32| {
        if p.abs() < ORIGIN {
            return p + FLOAT * n;
        }
        let steps = (INT * n) as i32;
        f32::from_bits((p.to_bits() as i32).wrapping_add(if p < 0.0 { -steps } else { steps }) as u32)
    };
    Vec3::new(push(p.x, side.x), push(p.y, side.y), push(p.z, side.z))
}
