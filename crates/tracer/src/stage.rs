//! A scene made ready for rays: acceleration structure, tables, and the look-up of a surface point.
//!
//! Shading normals: the interpolated or mapped normal is bent until its mirror direction lies above the surface, so that no
//! reflection is lost into it (after Keller et al. 2017; bent to the half vector of the view and the lifted mirror
//! direction). Rays leave smooth surfaces
//! from the point lifted to the tangent planes of its vertices, which moves the terminator of coarse meshes to where the
//! smooth surface has it (Hanika 2021, "Hacking the Shadow Terminator").

use crate::bsdf::Surface;
use crate::bvh::{Hit, NONE, Ray, World};
use crate::energy::{self, Glass};
use crate::interior::{Boundary, Interior, SolidId, Solids};
use crate::lights::SkyCache;
use glam::{Vec2, Vec3, Vec4};
use scene::{Environment, Material, Mesh, Scene, Triangle, turn_normals};
use serde::Serialize;
use std::sync::Arc;
use std::time::Instant;

/// Seconds that it took to get ready.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize)]
pub struct StageTimes {
    pub structure: f64,
    pub tables: f64,
}

pub struct Stage {
    pub scene: Arc<Scene>,
    pub environment: Option<Arc<Environment>>,
    pub world: World,
    pub(crate) skies: SkyCache,
    pub(crate) solids: Solids,
    /// Rough glass by the ratio of the indices on both sides, in order.
    glass: Vec<(f32, Glass)>,
    /// Whether rays may pass straight through something.
    pub(crate) lets_pass: bool,
    pub times: StageTimes,
}

impl Stage {
    /// Bytes held: meshes, textures, environment and the structure for rays.
    pub fn bytes(&self) -> usize {
        let report = &self.scene.report;
        let environment = self.environment.as_ref().map_or(0, |e| 3 * size_of_val(&*e.pixels));
        report.mesh_bytes as usize + report.texture_bytes as usize + self.world.bytes() + environment
    }
}

/// A point of a surface as a ray meets it.
pub(crate) struct Point {
    pub position: Vec3,
    /// Where rays to the side of the ray's origin start, before the offset.
    pub lifted: Vec3,
    /// Unit normal of the triangle, on the side of the ray's origin.
    pub geometric: Vec3,
    /// Shading normal, on the same side.
    pub normal: Vec3,
    /// Rounding error of the position, metres.
    pub reach: f32,
    /// The boundary of a solid, as the ray finds it.
    pub boundary: Option<Boundary>,
    pub surface: Surface,
    /// Radiance towards the ray's origin.
    pub emission: Vec3,
    pub material: u32,
    pub object: u32,
}

impl Point {
    /// The origin of a ray that leaves in a direction: moved off the surface so far that rounding cannot hit it again.
    pub fn leave(&self, direction: Vec3) -> Vec3 {
        if direction.dot(self.geometric) > 0.0 {
            self.lifted + self.geometric * self.reach
        } else {
            self.position - self.geometric * self.reach
        }
    }
}

/// A triangle that was hit, with its mesh.
#[derive(Clone, Copy)]
pub(crate) struct Place<'a> {
    mesh: &'a Mesh,
    triangle: &'a Triangle,
    pub material: &'a Material,
}

impl Stage {
    pub fn new(scene: Arc<Scene>, environment: Option<Arc<Environment>>) -> Stage {
        let start = Instant::now();
        let world = World::build(&scene);
        let structure = start.elapsed().as_secs_f64();
        let start = Instant::now();
        let solids = Solids::of(&scene);
        let glass: Vec<(f32, Glass)> = solids.rough_ratios.iter().map(|ratio| (*ratio, Glass::new(*ratio))).collect();
        let any = |f: fn(&Material) -> bool| scene.materials.iter().any(f);
        let needed = energy::Needed {
            stretched: any(|m| m.directional.is_some()),
            coats: any(|m| m.coat.is_some()),
            sheen: any(|m| m.sheen.is_some()),
        };
        energy::prepare(needed, &glass.iter().map(|g| &g.1).collect::<Vec<_>>());
        let lets_pass = solids.overlap || scene.materials.iter().any(Material::lets_pass);
        let times = StageTimes { structure, tables: start.elapsed().as_secs_f64() };
        Stage { scene, environment, world, skies: SkyCache::new(), solids, glass, lets_pass, times }
    }

    /// The table of rough glass for a ratio of indices, either way round.
    pub(crate) fn glass(&self, eta: f32) -> Option<&Glass> {
        let off = |ratio: f32| (ratio / eta.max(1.0 / eta) - 1.0).abs();
        self.glass.iter().min_by(|a, b| off(a.0).total_cmp(&off(b.0))).map(|g| &g.1)
    }

    /// The boundary of a solid at a hit as a ray finds it that comes from inside of some solids; none at other surfaces.
    pub(crate) fn boundary(&self, hit: &Hit, entering: bool, interior: &Interior) -> Option<Boundary> {
        let solid = self.solid(hit)?;
        Some(self.solids.boundary(interior, solid, entering))
    }

    fn solid(&self, hit: &Hit) -> Option<SolidId> {
        let p = self.place(hit.instance, hit.triangle);
        if !p.material.solid || self.solids.is_empty() {
            return None;
        }
        self.solids.number(self.object(&p, hit), p.triangle.material)
    }

    fn object(&self, p: &Place, hit: &Hit) -> u32 {
        match hit.instance {
            NONE => p.triangle.object,
            i => self.scene.instances[i as usize].object,
        }
    }

    /// The solids that a point lies inside of: those whose boundaries a ray from there leaves more often than it enters them,
    /// in at least two of three directions, since meshes may have holes.
    pub(crate) fn interior_at(&self, point: Vec3) -> Interior {
        let mut found: Vec<SolidId> = Vec::new();
        if self.solids.is_empty() {
            return Interior::default();
        }
        for direction in [Vec3::new(0.36, 0.48, 0.8), Vec3::new(-0.8, 0.6, 0.01), Vec3::new(0.1, -0.7, -0.7)] {
            let direction = direction.normalize();
            // Of each solid how often it was entered and not left.
            let mut entered: std::collections::BTreeMap<SolidId, u32> = Default::default();
            let mut origin = point;
            for _ in 0..4096 {
                let Some(hit) = self.world.nearest(&Ray { origin, direction, far: f32::INFINITY }) else { break };
                let (position, face, reach) = self.spot(&hit);
                let entering = face.dot(direction) < 0.0;
                if let Some(solid) = self.solid(&hit) {
                    let times = entered.entry(solid).or_default();
                    match (entering, *times) {
                        (true, _) => *times += 1,
                        (false, 0) => found.push(solid),
                        (false, _) => *times -= 1,
                    }
                }
                let away = face.normalize_or(direction);
                origin = position + if entering { -away } else { away } * reach;
            }
        }
        let mut interior = Interior::default();
        found.sort_unstable();
        let mut rest = &found[..];
        while let Some(first) = rest.first() {
            let times = rest.iter().take_while(|s| *s == first).count();
            for _ in 0..(times + 1) / 3 {
                interior = interior.entered(*first);
            }
            rest = &rest[times..];
        }
        interior
    }

    pub(crate) fn place(&self, instance: u32, triangle: u32) -> Place<'_> {
        let s = &*self.scene;
        let mesh = match instance {
            NONE => &s.world,
            i => &s.shared[s.instances[i as usize].mesh as usize],
        };
        let triangle = &mesh.triangles[triangle as usize];
        Place { mesh, triangle, material: &s.materials[triangle.material as usize] }
    }

    /// Radiance that light rays find at a point of an emitting triangle: of a surface that is there for a share of the light,
    /// that share.
    pub(crate) fn sent_from(&self, instance: u32, triangle: u32, u: f32, v: f32) -> Vec3 {
        let hit = Hit { distance: 0.0, triangle, instance, u, v };
        self.emission_at(instance, triangle, u, v) * self.alpha(&hit)
    }

    /// Radiance of an emitting triangle at a point of it where the surface is there, without regard to sides.
    fn emission_at(&self, instance: u32, triangle: u32, u: f32, v: f32) -> Vec3 {
        let p = self.place(instance, triangle);
        match &p.material.emissive_texture {
            Some(tex) => p.material.emission * tex.rgb(&self.scene.textures, p.uv(tex.set, u, v)),
            None => p.material.emission,
        }
    }

    /// Share of the light that meets the surface at a hit; the rest passes straight on.
    pub(crate) fn alpha(&self, hit: &Hit) -> f32 {
        let p = self.place(hit.instance, hit.triangle);
        p.material.alpha_at(&self.scene.textures, p.mesh, p.triangle, hit.u, hit.v)
    }

    /// World position of a hit, its geometric normal (as the triangle is wound), and the rounding error of both.
    pub(crate) fn spot(&self, hit: &Hit) -> (Vec3, Vec3, f32) {
        let p = self.place(hit.instance, hit.triangle);
        let corners = p.mesh.corners(p.triangle);
        let position = mix(corners, hit.u, hit.v);
        let face = (corners[1] - corners[0]).cross(corners[2] - corners[0]);
        let size = corners.iter().fold(0.0f32, |m, c| m.max(c.abs().max_element()));
        // Sixteen rounding errors of the largest number that goes into a hit.
        const ROUNDING: f32 = 16.0 * 6e-8;
        match hit.instance {
            NONE => (position, face, ROUNDING * size),
            i => {
                let place = &self.scene.instances[i as usize].to_world;
                let m = place.matrix3;
                let world = place.transform_point3(position);
                let scale = m.x_axis.abs().max(m.y_axis.abs()).max(m.z_axis.abs()).max_element();
                let room = size * scale + world.abs().max_element();
                (world, turn_normals(m.into()) * face, 2.0 * ROUNDING * room)
            }
        }
    }

    pub(crate) fn point(&self, direction: Vec3, hit: &Hit, interior: &Interior) -> Point {
        let textures = &self.scene.textures;
        let p = self.place(hit.instance, hit.triangle);
        let (m, t) = (p.material, p.triangle);
        let (u, v) = (hit.u, hit.v);
        let (position, face, reach) = self.spot(hit);
        let face = face.normalize_or(-direction);
        let front = face.dot(direction) < 0.0;
        let geometric = if front { face } else { -face };
        let turn = |n: Vec3| match hit.instance {
            NONE => n,
            i => {
                let m = self.scene.instances[i as usize].to_world.matrix3;
                (turn_normals(m.into()) * n).normalize_or_zero()
            }
        };
        let normals = p.mesh.corner_normals(t).map(turn);
        let smooth = mix(normals, u, v).normalize_or(face);
        // The shading normal follows the side of the geometric one.
        let side = if smooth.dot(face) < 0.0 { -1.0 } else { 1.0 } * if front { 1.0 } else { -1.0 };
        let smooth = smooth * side;
        // A mirror image turns the hand of the tangent frame over.
        let mirrored =
            hit.instance != NONE && self.scene.instances[hit.instance as usize].to_world.matrix3.determinant() < 0.0;
        let tangents = (!p.mesh.tangents.is_empty()).then(|| {
            let [a, b, c] = p.mesh.corner_tangents(t);
            let along = mix([a.truncate(), b.truncate(), c.truncate()], u, v);
            let along = match hit.instance {
                NONE => along,
                i => self.scene.instances[i as usize].to_world.transform_vector3(along),
            };
            (along, if (a.w < 0.0) != mirrored { -1.0 } else { 1.0 })
        });
        let mapped = |tex: &scene::TexRef, scale: f32| -> Option<Vec3> {
            let (along, hand) = tangents?;
            let along = (along - smooth * smooth.dot(along)).normalize_or_zero();
            if along == Vec3::ZERO {
                return None;
            }
            let across = (smooth * side).cross(along) * hand;
            let n = tex.linear(textures, p.uv(tex.set, u, v)).truncate() * 2.0 - 1.0;
            let n = Vec3::new(n.x * scale, n.y * scale, n.z.max(0.01));
            Some((along * n.x + across * n.y + smooth * side * n.z).normalize_or(smooth * side) * side)
        };
        let bend = |n: Vec3| bent(n, -direction, geometric);
        let normal = bend(m.normal_texture.as_ref().and_then(|t| mapped(t, m.normal_scale)).unwrap_or(smooth));
        let flat = normals[0] == normals[1] && normals[1] == normals[2];
        let lifted = if flat {
            position
        } else {
            let from = position + geometric * reach;
            self.lift(&p, hit, position, from, normals.map(|n| n * side))
        };
        let boundary = if m.solid { self.boundary(hit, front, interior) } else { None };

        let value = |tex: &scene::TexRef| tex.linear(textures, p.uv(tex.set, u, v));
        let mut base = m.base;
        if let Some(tex) = &m.base_texture {
            base *= tex.rgb(textures, p.uv(tex.set, u, v));
        }
        if !p.mesh.colours.is_empty() {
            base *= mix4(p.mesh.corner_colours(t), u, v).truncate();
        }
        let (mut metallic, mut roughness) = (m.metallic, m.roughness);
        if let Some(tex) = &m.metallic_roughness_texture {
            let k = value(tex);
            roughness *= k.y;
            metallic *= k.z;
        }
        let specular = m.specular * m.specular_texture.as_ref().map_or(1.0, |t| value(t).w);
        let tint = m.specular_colour_texture.as_ref().map_or(Vec3::ONE, |t| t.rgb(textures, p.uv(t.set, u, v)));
        let transmission = m.transmission * m.transmission_texture.as_ref().map_or(1.0, |t| value(t).x);
        let coat = m.coat.as_deref().filter(|_| front || !m.solid).map(|c| {
            let strength = c.strength * c.strength_texture.as_ref().map_or(1.0, |t| value(t).x);
            let roughness = c.roughness * c.roughness_texture.as_ref().map_or(1.0, |t| value(t).y);
            let n = c.normal_texture.as_ref().and_then(|t| mapped(t, c.normal_scale)).unwrap_or(smooth);
            (strength.clamp(0.0, 1.0), roughness.clamp(0.0, 1.0), bend(n))
        });
        let sheen = m.sheen.as_deref().map(|s| {
            let colour = s.colour * s.colour_texture.as_ref().map_or(Vec3::ONE, |t| t.rgb(textures, p.uv(t.set, u, v)));
            let roughness = s.roughness * s.roughness_texture.as_ref().map_or(1.0, |t| value(t).w);
            (colour.clamp(Vec3::ZERO, Vec3::ONE), roughness.clamp(energy::LEAST_SHEEN, 1.0))
        });
        let stretch = m.directional.as_deref().map_or(Vec3::ZERO, |d| {
            let Some((along, hand)) = tangents else { return Vec3::ZERO };
            let (mut along_uv, mut strength) = (Vec2::from_angle(d.rotation), d.strength);
            if let Some(tex) = &d.texture {
                let k = value(tex);
                along_uv = along_uv.rotate((Vec2::new(k.x, k.y) * 2.0 - 1.0).normalize_or(Vec2::X));
                strength *= k.z;
            }
            let along = (along - normal * normal.dot(along)).normalize_or_zero();
            let across = normal.cross(along) * hand * side;
            (along * along_uv.x + across * along_uv.y) * strength.clamp(0.0, 1.0)
        });
        let shines = m.emits() && (front || m.double_sided);
        let emission = if m.unlit {
            base
        } else if shines {
            self.emission_at(hit.instance, hit.triangle, u, v)
        } else {
            Vec3::ZERO
        };
        let object = self.object(&p, hit);
        Point {
            position,
            lifted,
            geometric,
            normal,
            reach,
            boundary,
            surface: Surface {
                base,
                metallic: metallic.clamp(0.0, 1.0),
                roughness: roughness.clamp(0.0, 1.0),
                ior: m.ior,
                eta: boundary.map_or(m.ior, |b| b.eta),
                specular: specular.clamp(0.0, 1.0),
                specular_colour: m.specular_colour * tint,
                transmission: transmission.clamp(0.0, 1.0),
                solid: m.solid,
                stretch,
                coat,
                sheen,
            },
            emission,
            material: t.material,
            object,
        }
    }

    /// The point lifted to the tangent planes of the triangle's corners, where it lies below them and nothing lies between:
    /// the way up from `from`, just off the surface, must be free.
    fn lift(&self, p: &Place, hit: &Hit, position: Vec3, from: Vec3, normals: [Vec3; 3]) -> Vec3 {
        let corners = p.mesh.corners(p.triangle).map(|c| match hit.instance {
            NONE => c,
            i => self.scene.instances[i as usize].to_world.transform_point3(c),
        });
        let weights = [1.0 - hit.u - hit.v, hit.u, hit.v];
        let lifted = (0..3).fold(position, |sum, k| {
            let below = (position - corners[k]).dot(normals[k]).min(0.0);
            sum - normals[k] * (below * weights[k])
        });
        let way = lifted - from;
        // Beyond the lifted point a ray still leaves by the rounding error: that way is part of what must be free.
        let room = from - position;
        if way.length_squared() <= 4.0 * room.length_squared() {
            return position;
        }
        let ray = Ray { origin: from, direction: way + room, far: 1.0 };
        if self.world.blocked(&ray) { position } else { lifted }
    }

    /// Distance in metres along the view axis to what lies behind a point of the frame (0…1 from the upper left): for
    /// choosing the focus. None where there is nothing.
    pub fn focus_at(&self, camera: &scene::Camera, size: (u32, u32), at: (f32, f32)) -> Option<f32> {
        let view = crate::view_rays::ViewRays::still(camera, size);
        let ray = view.through(at.0 * size.0 as f32, at.1 * size.1 as f32, Vec2::ZERO, 0.0);
        let hit = self.world.nearest(&ray)?;
        let axis = camera.to_world.transform_vector3(Vec3::NEG_Z).normalize();
        Some(hit.distance * ray.direction.dot(axis))
    }
}

impl Place<'_> {
    fn uv(&self, set: u8, u: f32, v: f32) -> Vec2 {
        self.mesh.uv_at(self.triangle, set as usize, u, v)
    }
}

fn mix([a, b, c]: [Vec3; 3], u: f32, v: f32) -> Vec3 {
    a * (1.0 - u - v) + b * u + c * v
}

fn mix4([a, b, c]: [Vec4; 3], u: f32, v: f32) -> Vec4 {
    a * (1.0 - u - v) + b * u + c * v
}

/// A shading normal bent until the view's mirror direction lies above the surface.
fn bent(n: Vec3, view: Vec3, geometric: Vec3) -> Vec3 {
    const LEAST: f32 = 0.01;
    let mirror = 2.0 * n.dot(view) * n - view;
    let above = mirror.dot(geometric);
    let least = LEAST.min(0.5 * view.dot(geometric));
    if above >= least {
        return n;
    }
    let lifted = (mirror + geometric * (least - above)).normalize_or(geometric);
    (view + lifted).normalize_or(geometric)
}
