//! Choosing a light and a point on it: environment, directional lights, and everything with a place (points, spots, spheres,
//! discs, rectangles and emissive triangles), which hangs in a light hierarchy.
//!
//! First it is chosen between environment, each directional light and the hierarchy, half evenly and half by the light that
//! is expected at the receiver; then in the hierarchy by power, distance and orientation. Densities are per solid angle.

mod body;
mod sky;
mod table;
mod tree;

pub use body::{Body, LightSample, Target};
pub use tree::Receiver;

use crate::bvh::NONE;
use glam::{Mat3, Vec2, Vec3};
use picture::luminance;
use scene::{Environment, LightEdit, LightKind, Scene, Shadow, Shape, ShotEdits};
use sky::Sky;
use std::collections::{BTreeMap, HashMap};
use std::f32::consts::PI;
use std::sync::Arc;
use tree::{Lanes, Leaf, LightTree};

/// How the environment lights a render.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct EnvironmentUse {
    pub strength: f32,
    /// Degrees about the vertical axis.
    pub rotation: f32,
    /// Cells around of the map by which it is sampled.
    pub width: usize,
    /// Whether it shines on surfaces, is reflected, and is seen by the camera.
    pub light: bool,
    pub reflection: bool,
    pub camera: bool,
}

/// A light that can be chosen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    Sky,
    Sun(u32),
    Placed(u32),
}

/// A light group's number; the last one holds all the rest.
pub type Group = u8;
pub const MOST_GROUPS: usize = 13;

#[derive(Debug, Clone, Copy)]
pub struct Manner {
    pub shadow: Shadow,
    pub shadow_strength: f32,
    /// Light rays of its own at the first hit.
    pub split: u32,
    pub group: Group,
    /// Whether a camera ray sees it.
    pub seen: bool,
}

impl Manner {
    /// Only light rays bring this light, since scattered rays cannot know its shadow.
    pub fn only_sampled(&self) -> bool {
        self.shadow != Shadow::Soft || self.shadow_strength < 1.0
    }
}

/// A directional light spread over a small cone.
struct Sun {
    /// The way to the light.
    towards: Vec3,
    /// 1 − the cosine of half its angle, 0 for a light without width; and the sine.
    opening: f32,
    sin_half: f32,
    /// Radiance, or irradiance of a light without width.
    light: Vec3,
    irradiance: f32,
    manner: Manner,
}

impl Sun {
    /// The light that a receiver may expect of it.
    fn expected(&self, r: &Receiver) -> f32 {
        let cos = match r.normal {
            Some(n) if r.both_sides => n.dot(self.towards).abs(),
            Some(n) => n.dot(self.towards),
            None => 1.0,
        };
        // A wide sun may rise above the horizon although its centre is below.
        if cos > -self.sin_half { self.irradiance * cos.max(0.05) } else { 0.0 }
    }
}

/// The first choice at a receiver, between environment, suns and everything with a place: half evenly among those that may
/// send light, half by how much they may send.
#[derive(Debug, Clone, Copy, Default)]
pub struct Odds {
    by_light: f32,
    each: f32,
    /// Of the hierarchy: of its first groups, and of all.
    importance: (Lanes, f32),
    sky: f32,
    placed: f32,
}

impl Odds {
    fn share(&self, expected: f32) -> f32 {
        if expected > 0.0 { self.by_light * expected + self.each } else { 0.0 }
    }
}

struct Dome {
    map: Arc<Environment>,
    sky: Arc<Sky>,
    to_map: Mat3,
    from_map: Mat3,
    by: EnvironmentUse,
    irradiance: f32,
    manner: Manner,
}

pub struct Lights {
    dome: Option<Dome>,
    suns: Vec<Sun>,
    bodies: Vec<(Body, Manner)>,
    tree: LightTree,
    /// Bodies with a shape that rays meet although they are no triangles.
    shapes: Vec<u32>,
    /// Body of each triangle of the world's mesh, or [`NONE`].
    of_world: Vec<u32>,
    /// First body of each instance, and the number of each shared triangle among the emitting ones of its mesh.
    of_instance: Vec<u32>,
    ordinal: Vec<Vec<u32>>,
    pub groups: Vec<String>,
    /// Lights with light rays of their own.
    pub split: Vec<Which>,
}

/// The distribution of an environment, made once for each width.
pub struct SkyCache(std::sync::Mutex<HashMap<usize, Arc<Sky>>>);

impl SkyCache {
    pub fn new() -> SkyCache {
        SkyCache(Default::default())
    }

    fn get(&self, map: &Environment, width: usize) -> Arc<Sky> {
        let mut known = self.0.lock().unwrap_or_else(|e| e.into_inner());
        known.entry(width).or_insert_with(|| Arc::new(Sky::new(map, width))).clone()
    }
}

/// Names groups and weighs them, so that the strongest get numbers of their own.
#[derive(Default)]
struct Groups(BTreeMap<String, f32>);

impl Groups {
    fn add(&mut self, name: &str, power: f32) {
        *self.0.entry(name.to_string()).or_default() += power;
    }

    fn numbered(self) -> (Vec<String>, HashMap<String, Group>) {
        let mut list: Vec<(String, f32)> = self.0.into_iter().collect();
        list.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        let own = if list.len() > MOST_GROUPS { MOST_GROUPS - 1 } else { list.len() };
        let number = |i: usize| i.min(own) as Group;
        let map = list.iter().enumerate().map(|(i, (name, _))| (name.clone(), number(i))).collect();
        let mut names: Vec<String> = list.iter().take(own).map(|g| g.0.clone()).collect();
        if own < list.len() {
            names.push("rest".into());
        }
        (names, map)
    }
}

fn lum(c: Vec3) -> f32 {
    luminance(c.to_array())
}

impl Lights {
    /// `shadow` holds for all lights with a place or direction that have no edit of their own.
    pub fn new(
        scene: &Scene,
        environment: Option<(&Arc<Environment>, &SkyCache)>,
        by: EnvironmentUse,
        edits: &ShotEdits,
        shadow: (Shadow, f32),
    ) -> Lights {
        let (lo, hi) = scene.bounds();
        let radius = (0.5 * (hi - lo).length()).max(1e-3);
        let mut groups = Groups::default();
        // First pass: everything with its group's name; numbers follow when all are known.
        let mut named: Vec<(Body, Leaf, String, LightEdit, bool)> = Vec::new();
        let mut suns = Vec::new();
        let none = LightEdit::default();
        for l in &scene.lights {
            let edit = edits.lights.get(&l.name).unwrap_or(&none);
            let intensity = l.intensity * edit.strength;
            if !edit.on || lum(intensity) <= 0.0 {
                continue;
            }
            let group = edit.group.clone().unwrap_or(l.name.clone());
            if l.kind == LightKind::Directional {
                groups.add(&group, lum(intensity) * PI * radius * radius);
                suns.push((l.direction, intensity, edit.clone(), group));
                continue;
            }
            let body = Body::punctual(l, intensity, edit.radius);
            let leaf = body.leaf();
            groups.add(&group, leaf.power);
            named.push((body, leaf, group, edit.clone(), false));
        }
        for l in edits.added.iter().filter(|l| l.edit.on) {
            let radiance = Vec3::from_array(l.radiance) * l.edit.strength;
            if lum(radiance) <= 0.0 {
                continue;
            }
            let body = match l.shape {
                Shape::Sphere { radius } => Body::sphere(l.place(), radius, radiance),
                Shape::Disc { radius } => Body::disc(l.place(), l.facing(), radius, radiance),
                Shape::Rectangle { width, height } => Body::rectangle(l.place(), l.facing(), width, height, radiance),
            };
            let leaf = body.leaf();
            let group = l.edit.group.clone().unwrap_or(l.name.clone());
            groups.add(&group, leaf.power);
            named.push((body, leaf, group, l.edit.clone(), l.seen));
        }
        let own_shapes = named.len();
        let (of_world, of_instance, ordinal) = emitters(scene, own_shapes as u32, &mut |body, leaf, object| {
            let group = scene.objects.get(object as usize).cloned().unwrap_or_default();
            groups.add(&group, leaf.power);
            named.push((body, leaf, group, LightEdit::default(), true));
        });
        let dome_edit = edits.lights.get("environment").unwrap_or(&none);
        let dome = environment.filter(|_| by.strength > 0.0 && dome_edit.on).map(|(map, cache)| {
            let sky = cache.get(map, by.width);
            let irradiance = sky.mean * PI * by.strength * dome_edit.strength;
            groups.add(dome_edit.group.as_deref().unwrap_or("environment"), irradiance * PI * radius * radius);
            (map.clone(), sky, irradiance)
        });
        let (names, numbers) = groups.numbered();
        let manner = |edit: &LightEdit, group: &str, seen: bool, plain: bool| Manner {
            shadow: edit.shadow.unwrap_or(if plain { Shadow::Soft } else { shadow.0 }),
            shadow_strength: edit.shadow_strength.unwrap_or(if plain { 1.0 } else { shadow.1 }),
            split: edit.split,
            group: numbers.get(group).copied().unwrap_or(0),
            seen,
        };
        let dome = dome.map(|(map, sky, irradiance)| {
            let from_map = Mat3::from_rotation_y(by.rotation.to_radians());
            let by = EnvironmentUse { strength: by.strength * dome_edit.strength, ..by };
            let group = dome_edit.group.as_deref().unwrap_or("environment");
            let manner = Manner { shadow: Shadow::Soft, shadow_strength: 1.0, ..manner(dome_edit, group, true, true) };
            Dome { map, sky, to_map: from_map.transpose(), from_map, by, irradiance, manner }
        });
        let suns: Vec<Sun> = suns
            .into_iter()
            .map(|(direction, e, edit, group)| {
                let half = (0.5 * edit.angle).to_radians();
                // Directions round to 6·10⁻⁸: below a hundred times that a sun has no width that could be told.
                let sin_half = if half < 1e-5 { 0.0 } else { half.sin() };
                Sun {
                    towards: -direction,
                    opening: if sin_half > 0.0 { 2.0 * (0.5 * half).sin().powi(2) } else { 0.0 },
                    sin_half,
                    light: if sin_half > 0.0 { e / (PI * sin_half * sin_half) } else { e },
                    irradiance: lum(e),
                    manner: manner(&edit, &group, false, false),
                }
            })
            .collect();
        let leaves: Vec<Leaf> = named.iter().map(|n| n.1).collect();
        let bodies: Vec<(Body, Manner)> = named
            .into_iter()
            .enumerate()
            .map(|(i, (body, _, group, edit, seen))| (body, manner(&edit, &group, seen, i >= own_shapes)))
            .collect();
        let mut split = Vec::new();
        if dome.as_ref().is_some_and(|d| d.manner.split > 0) {
            split.push(Which::Sky);
        }
        split.extend((0..suns.len()).filter(|i| suns[*i].manner.split > 0).map(|i| Which::Sun(i as u32)));
        split.extend((0..bodies.len()).filter(|i| bodies[*i].1.split > 0).map(|i| Which::Placed(i as u32)));
        let shapes = (0..own_shapes as u32).filter(|i| bodies[*i as usize].0.has_shape()).collect();
        let tree = LightTree::new(&leaves);
        Lights { dome, suns, bodies, tree, shapes, of_world, of_instance, ordinal, groups: names, split }
    }

    pub fn manner(&self, which: Which) -> Manner {
        match which {
            Which::Sky => self.dome.as_ref().map(|d| d.manner),
            Which::Sun(i) => self.suns.get(i as usize).map(|s| s.manner),
            Which::Placed(i) => self.bodies.get(i as usize).map(|b| b.1),
        }
        .unwrap_or(Manner { shadow: Shadow::Soft, shadow_strength: 1.0, split: 0, group: 0, seen: true })
    }

    /// The environment's part, if there is one.
    pub fn environment(&self) -> Option<&EnvironmentUse> {
        self.dome.as_ref().map(|d| &d.by)
    }

    /// How the first choice falls at a receiver.
    pub fn odds(&self, r: &Receiver) -> Odds {
        let sky = self.dome.as_ref().filter(|d| d.by.light || d.by.reflection).map_or(0.0, |d| d.irradiance);
        let importance = self.tree.importance(r);
        let placed = importance.1;
        let (mut total, mut live) = (sky + placed, (sky > 0.0) as u32 + (placed > 0.0) as u32);
        for sun in &self.suns {
            let e = sun.expected(r);
            total += e;
            live += (e > 0.0) as u32;
        }
        if !(total > 0.0 && total.is_finite()) {
            return Odds::default();
        }
        let mut odds = Odds { by_light: 0.5 / total, each: 0.5 / live as f32, importance, sky: 0.0, placed: 0.0 };
        (odds.sky, odds.placed) = (odds.share(sky), odds.share(placed));
        odds
    }

    /// Draws a light for a receiver, with its chance.
    pub fn choose(&self, odds: &Odds, r: &Receiver, u: f32) -> Option<(Which, f32)> {
        if u < odds.sky {
            return Some((Which::Sky, odds.sky));
        }
        let mut at = odds.sky;
        if u < at + odds.placed {
            let (light, chance) = self.tree.draw(r, &odds.importance, ((u - at) / odds.placed).min(0.999_999_94))?;
            return Some((Which::Placed(light), odds.placed * chance));
        }
        at += odds.placed;
        let mut last = None;
        for (i, sun) in self.suns.iter().enumerate() {
            let share = odds.share(sun.expected(r));
            if share > 0.0 {
                last = Some((Which::Sun(i as u32), share));
                if u < at + share {
                    return last;
                }
                at += share;
            }
        }
        // Rounding may leave a sliver at the end.
        last
    }

    /// The chance with which [`Lights::choose`] draws a light.
    pub fn chance(&self, odds: &Odds, r: &Receiver, which: Which) -> f32 {
        match which {
            Which::Sky => odds.sky,
            Which::Sun(i) => odds.share(self.suns[i as usize].expected(r)),
            Which::Placed(i) if odds.placed > 0.0 => odds.placed * self.tree.chance(r, &odds.importance, i),
            // A lamp that is never chosen here may still be met: by scattering alone.
            Which::Placed(_) => 0.0,
        }
    }

    /// A direction to a light from a point, with its density, given that the light was chosen.
    pub fn sample(&self, which: Which, from: Vec3, u: Vec2) -> Option<LightSample> {
        match which {
            Which::Sky => {
                let d = self.dome.as_ref()?;
                let ((u, v), pdf) = d.sky.draw(u);
                let radiance = d.map.at(u, v) * d.by.strength;
                let direction = d.from_map * Environment::direction(u, v);
                (pdf > 0.0).then(|| LightSample::far(direction, radiance / pdf, Some(pdf)))
            }
            Which::Sun(i) => {
                let s = &self.suns[i as usize];
                if s.opening <= 0.0 {
                    return Some(LightSample::far(s.towards, s.light, None));
                }
                let (direction, pdf) = body::draw_cone(s.towards, s.opening, u);
                Some(LightSample::far(direction, s.light / pdf, Some(pdf)))
            }
            Which::Placed(i) => self.bodies[i as usize].0.sample(from, u),
        }
    }

    /// The density with which [`Lights::sample`] draws a direction to a light, given that the light was chosen and the
    /// direction leads to it; 0 for lights that no ray can meet.
    pub fn pdf(&self, which: Which, from: Vec3, direction: Vec3, distance: f32) -> f32 {
        match which {
            Which::Sky => self.sky(direction).1,
            Which::Sun(i) => {
                let s = &self.suns[i as usize];
                if s.opening > 0.0 { body::cone_pdf(s.opening) } else { 0.0 }
            }
            Which::Placed(i) => self.bodies[i as usize].0.pdf(from, direction, distance),
        }
    }

    /// The middle of a light; none for the environment, which has none.
    pub fn middle(&self, which: Which) -> Option<Target> {
        match which {
            Which::Sky => None,
            Which::Sun(i) => Some(Target::Direction(self.suns[i as usize].towards)),
            Which::Placed(_) => self.centre(which).map(Target::Point),
        }
    }

    /// A point that stands for the light as a whole; none for lights that are infinitely far.
    pub fn centre(&self, which: Which) -> Option<Vec3> {
        match which {
            Which::Placed(i) => Some(self.bodies[i as usize].0.centre()),
            _ => None,
        }
    }

    /// Radiance of the environment in a direction, and the density with which it is drawn.
    pub fn sky(&self, direction: Vec3) -> (Vec3, f32) {
        let Some(d) = &self.dome else { return (Vec3::ZERO, 0.0) };
        let (u, v) = Environment::uv(d.to_map * direction);
        (d.map.at(u, v) * d.by.strength, d.sky.pdf((u, v)))
    }

    /// Suns with width that lie in a direction, with their radiance.
    pub fn suns_at(&self, direction: Vec3) -> impl Iterator<Item = (Which, Vec3)> {
        self.suns
            .iter()
            .enumerate()
            // |a − b|² = 2 (1 − cos) tells small angles, which the cosine does not.
            .filter(move |(_, s)| s.opening > 0.0 && (direction - s.towards).length_squared() <= 2.0 * s.opening)
            .map(|(i, s)| (Which::Sun(i as u32), s.light))
    }

    /// Tells every shape that a ray meets before `far`: the light, the distance and the radiance towards the ray's origin.
    pub fn shapes_along(&self, origin: Vec3, direction: Vec3, far: f32, mut tell: impl FnMut(Which, f32, Vec3)) {
        let mut try_one = |i: u32| {
            if let Some((distance, radiance)) = self.bodies[i as usize].0.meet(origin, direction, far) {
                tell(Which::Placed(i), distance, radiance);
            }
        };
        if self.shapes.len() <= 12 {
            self.shapes.iter().for_each(|i| try_one(*i));
        } else {
            self.tree.along(origin, direction, far, &mut try_one);
        }
    }

    /// The light that an emitting triangle is.
    pub fn of_triangle(&self, instance: u32, triangle: u32) -> Option<Which> {
        let body = if instance == NONE {
            *self.of_world.get(triangle as usize)?
        } else {
            let (mesh_list, first) =
                (self.of_instance.get(2 * instance as usize)?, self.of_instance[2 * instance as usize + 1]);
            match self.ordinal.get(*mesh_list as usize)?.get(triangle as usize)? {
                &NONE => NONE,
                k => first + k,
            }
        };
        (body != NONE).then_some(Which::Placed(body))
    }
}

/// Finds all emitting triangles; their bodies are numbered from `start`. Returns the body number of each triangle of the world's mesh (empty if none emits), for
/// each instance its mesh and first body, and for each mesh the number of each triangle among the emitting ones.
fn emitters(scene: &Scene, start: u32, add: &mut impl FnMut(Body, Leaf, u32)) -> (Vec<u32>, Vec<u32>, Vec<Vec<u32>>) {
    let lit: Vec<bool> = scene.materials.iter().map(|m| m.emits() && !m.unlit).collect();
    if !lit.contains(&true) {
        return Default::default();
    }
    let first = std::cell::Cell::new(start);
    let mut put = |body: Option<Body>, object: u32| match body {
        Some(body) => {
            let leaf = body.leaf();
            add(body, leaf, object);
            first.set(first.get() + 1);
            first.get() - 1
        }
        None => NONE,
    };
    let of_world: Vec<u32> = scene
        .world
        .triangles
        .iter()
        .enumerate()
        .map(|(i, t)| {
            let body = lit[t.material as usize].then(|| Body::triangle(scene, &scene.world, NONE, i as u32)).flatten();
            put(body, t.object)
        })
        .collect();
    let ordinal: Vec<Vec<u32>> = scene
        .shared
        .iter()
        .map(|m| {
            let mut next = 0;
            let number = |t: &scene::Triangle| {
                let [a, b, c] = m.corners(t);
                if lit[t.material as usize] && (b - a).cross(c - a) != Vec3::ZERO {
                    next += 1;
                    next - 1
                } else {
                    NONE
                }
            };
            m.triangles.iter().map(number).collect()
        })
        .collect();
    let mut of_instance = Vec::with_capacity(2 * scene.instances.len());
    for (k, instance) in scene.instances.iter().enumerate() {
        let mesh = &scene.shared[instance.mesh as usize];
        of_instance.extend([instance.mesh, first.get()]);
        for (i, number) in ordinal[instance.mesh as usize].iter().enumerate() {
            if *number != NONE {
                let body = Body::triangle(scene, mesh, k as u32, i as u32);
                // A triangle that its transform makes vanish keeps its place in the count.
                put(Some(body.unwrap_or_else(Body::nothing)), instance.object);
            }
        }
    }
    (of_world, of_instance, ordinal)
}
