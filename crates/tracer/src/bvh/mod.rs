//! Acceleration structure: bounding volume hierarchies of eight children a node and four triangles a leaf, with the
//! watertight triangle test of Woop, Benthin and Wald (2013).
//!
//! Hits at equal distance go to the lowest triangle, and hits have the same bits on every processor.

mod build;
mod node;
mod pack;
mod traverse;

use crate::memory::in_large_pages;
use build::{Item, Tree};
use glam::{Affine3A, Vec3};
use node::Node;
use pack::{Pack, Sheared};
use traverse::{Leaves, traverse};

#[derive(Debug, Clone, Copy)]
pub struct Ray {
    pub origin: Vec3,
    /// Of any length but zero: distances are counted in it. The tracer's own rays have unit length.
    pub direction: Vec3,
    /// Hits beyond this distance do not count.
    pub far: f32,
}

/// No triangle, no instance.
pub const NONE: u32 = u32::MAX;

#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Hit {
    pub distance: f32,
    pub triangle: u32,
    /// The instance that was hit; [`NONE`] for a triangle of the world's own mesh.
    pub instance: u32,
    /// Barycentric weights of the second and third corner.
    pub u: f32,
    pub v: f32,
}

impl Hit {
    fn nothing(far: f32) -> Hit {
        Hit { distance: far, triangle: NONE, instance: NONE, u: 0.0, v: 0.0 }
    }
}

/// The hierarchy of one mesh.
pub struct Bvh {
    nodes: Vec<Node>,
    packs: Vec<Pack>,
    root: u32,
}

impl Bvh {
    /// Builds over `count` triangles whose corners are told by `corners`; what has no area is left out. O(n log n).
    pub fn build(count: u32, corners: impl Fn(u32) -> [Vec3; 3] + Sync) -> Bvh {
        let item = |i: u32| {
            let [a, b, c] = corners(i);
            let double = [a, b, c].map(|p| p.as_dvec3());
            let area = (double[1] - double[0]).cross(double[2] - double[0]);
            (area.is_finite() && area != glam::DVec3::ZERO).then(|| Item::new(a.min(b).min(c), a.max(b).max(c), i))
        };
        let mut items: Vec<Item> = (0..count).filter_map(item).collect();
        let Tree { nodes, leaves, root } =
            build::build(&mut items, &|items: &[Item]| Pack::new(items.iter().map(Item::id), &corners));
        Bvh { nodes: in_large_pages(nodes), packs: in_large_pages(leaves), root }
    }

    /// Bytes held.
    pub fn bytes(&self) -> usize {
        self.nodes.len() * size_of::<Node>() + self.packs.len() * size_of::<Pack>()
    }

    /// The nearest hit.
    pub fn nearest(&self, ray: &Ray) -> Option<Hit> {
        let mut best = Hit::nothing(ray.far);
        self.shorten(ray, &mut best).then_some(best)
    }

    /// Whether anything lies between the origin and `ray.far`.
    pub fn blocked(&self, ray: &Ray) -> bool {
        traverse::<true>(&self.nodes, self.root, ray, &mut Hit::nothing(ray.far), &self.packs)
    }

    fn shorten(&self, ray: &Ray, best: &mut Hit) -> bool {
        traverse::<false>(&self.nodes, self.root, ray, best, &self.packs)
    }
}

impl Leaves for Vec<Pack> {
    type Ready = Sheared;

    #[inline(always)]
    fn ready(&self, ray: &Ray) -> Sheared {
        Sheared::new(ray)
    }

    #[inline(always)]
    fn test(&self, sheared: &Sheared, leaf: u32, best: &mut Hit) -> bool {
        // SAFETY: the builder made a pack for every leaf.
        sheared.intersect(unsafe { self.get_unchecked(leaf as usize) }, best)
    }
}

/// A mesh that stands in the world by a transform.
struct Placed {
    mesh: u32,
    to_local: Affine3A,
}

/// Everything that rays can hit: one mesh in world space, and instances of others.
pub struct World {
    flat: Bvh,
    meshes: Vec<Bvh>,
    placed: Vec<Placed>,
    over: Tree<[u32; 4]>,
}

impl World {
    /// Builds over a scene's meshes; instances cost a few hundred bytes each.
    pub fn build(scene: &scene::Scene) -> World {
        let of = |m: &scene::Mesh| Bvh::build(m.triangles.len() as u32, |i| m.corners(&m.triangles[i as usize]));
        let meshes: Vec<Bvh> = scene.shared.iter().map(of).collect();
        let mut items = Vec::new();
        for (i, instance) in scene.instances.iter().enumerate() {
            let (lo, hi) = scene.instance_bounds(instance);
            if lo.cmple(hi).all() {
                items.push(Item::new(lo, hi, i as u32));
            }
        }
        let over =
            build::build(&mut items, &|items: &[Item]| std::array::from_fn(|k| items.get(k).map_or(NONE, Item::id)));
        let placed = scene.instances.iter().map(|i| Placed { mesh: i.mesh, to_local: i.to_world.inverse() }).collect();
        World { flat: of(&scene.world), meshes, placed, over }
    }

    /// Bytes held.
    pub fn bytes(&self) -> usize {
        let instances = self.placed.len() * size_of::<Placed>() + self.over.nodes.len() * size_of::<Node>();
        self.flat.bytes() + self.meshes.iter().map(Bvh::bytes).sum::<usize>() + instances
    }

    /// The nearest hit. At equal distance the world's own mesh comes first, then the lowest instance.
    pub fn nearest(&self, ray: &Ray) -> Option<Hit> {
        let mut best = Hit::nothing(ray.far);
        let mut found = self.flat.shorten(ray, &mut best);
        if !self.placed.is_empty() {
            found |= self.instances::<false>(ray, &mut best);
        }
        found.then_some(best)
    }

    /// Whether anything lies between the origin and `ray.far`.
    pub fn blocked(&self, ray: &Ray) -> bool {
        self.flat.blocked(ray) || (!self.placed.is_empty() && self.instances::<true>(ray, &mut Hit::nothing(ray.far)))
    }

    #[inline(never)]
    fn instances<const ANY: bool>(&self, ray: &Ray, best: &mut Hit) -> bool {
        traverse::<ANY>(&self.over.nodes, self.over.root, ray, best, &Placements::<ANY> { world: self, ray })
    }
}

struct Placements<'a, const ANY: bool> {
    world: &'a World,
    ray: &'a Ray,
}

impl<const ANY: bool> Leaves for Placements<'_, ANY> {
    type Ready = ();

    fn ready(&self, _: &Ray) {}

    fn test(&self, _: &(), leaf: u32, best: &mut Hit) -> bool {
        let mut found = false;
        for i in self.world.over.leaves[leaf as usize].iter().copied().filter(|i| *i != NONE) {
            let p = &self.world.placed[i as usize];
            // Distances stay those of the world since the direction keeps its length through the transform.
            let local = Ray {
                origin: p.to_local.transform_point3(self.ray.origin),
                direction: p.to_local.transform_vector3(self.ray.direction),
                far: best.distance,
            };
            let mesh = &self.world.meshes[p.mesh as usize];
            if ANY {
                if mesh.blocked(&local) {
                    return true;
                }
            } else if let Some(hit) = mesh.nearest(&local)
                && (hit.distance < best.distance
                    || best.triangle == NONE
                    || (best.instance != NONE && i < best.instance))
            {
                *best = Hit { instance: i, ..hit };
                found = true;
            }
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sampler::Sampler;
    use glam::Vec3Swizzles;

    fn point(i: u32, set: u32) -> Vec3 {
        let [x, y, z, _] = Sampler::new(7, i, 0, 0, 0).set(set);
        Vec3::new(x, y, z)
    }

    /// Against the sum of all triangles tested one by one.
    #[test]
    fn finds_what_testing_every_triangle_finds() {
        let corners: Vec<[Vec3; 3]> = (0..2000)
            .map(|i| {
                let p = point(i, 0);
                [p, p + 0.06 * (point(i, 1) - 0.5), p + 0.06 * (point(i, 2) - 0.5)]
            })
            .collect();
        let bvh = Bvh::build(corners.len() as u32, |i| corners[i as usize]);
        let mut hits = 0;
        for i in 0..1000 {
            let origin = point(i, 3) * 2.0 - 0.5;
            let direction = (point(i, 4) - origin).normalize();
            let ray = Ray { origin, direction, far: f32::INFINITY };
            let sheared = Sheared::new(&ray);
            let mut expected: Option<(f32, u32)> = None;
            for id in 0..corners.len() as u32 {
                let mut hit = Hit::nothing(f32::INFINITY);
                if sheared.intersect(&Pack::new([id].into_iter(), |i| corners[i as usize]), &mut hit) {
                    let this = (hit.distance, id);
                    expected = Some(expected.map_or(this, |e| if this.0 < e.0 { this } else { e }));
                }
            }
            let found = bvh.nearest(&ray).map(|h| (h.distance, h.triangle));
            assert_eq!(found, expected);
            assert_eq!(bvh.blocked(&ray), expected.is_some());
            let mut plain = Hit::nothing(f32::INFINITY);
            let hit = traverse::traverse_plain::<false>(&bvh.nodes, bvh.root, &ray, &mut plain, &bvh.packs);
            assert_eq!(hit.then_some(plain), bvh.nearest(&ray), "both traversals find the same bits");
            hits += expected.is_some() as u32;
        }
        assert!(hits > 150);
    }

    /// Triangles that spite the builder: needles along lines, all in one place, of all sizes, in rows that halve, at the ends of the
    /// range of numbers and beyond. Whatever the tree, it keeps to its levels and holds every triangle once, and rays end, whatever
    /// they are. TREES says how many are tried; `./run bench trees` does it where every access to memory is checked.
    #[test]
    fn spiteful_triangles_make_a_tree_within_its_levels() {
        let trees = std::env::var("TREES").ok().and_then(|n| n.parse().ok()).unwrap_or(60);
        for seed in 0..trees {
            let dice = |i: u32, set: u32| {
                let [a, b, c, d] = Sampler::new(seed, i, 0, 0, 0).set(set);
                (Vec3::new(a, b, c) - 0.5, d)
            };
            let count = 200 + (dice(0, 9).1 * if seed % 64 == 63 { 300_000.0 } else { 4000.0 }) as u32;
            let corners: Vec<[Vec3; 3]> = (0..count)
                .map(|i| {
                    let ((p, s), (q, _), (r, _)) = (dice(i, 0), dice(i, 1), dice(i, 2));
                    match (seed + if s < 0.2 { 1 } else { 0 }) % 12 {
                        0 => [p, p + q, p + q * 0.5],
                        1 => [p, p + Vec3::X * 1e-30, p + Vec3::Y * 1e-30],
                        2 => [Vec3::ZERO, Vec3::X, Vec3::Y],
                        3 => [p, p + q * 2f32.powi(-(i as i32 % 140)), p + r * 2f32.powi(-(i as i32 % 140))],
                        4 => [Vec3::X * 2f32.powi(i as i32 % 120); 3].map(|c| c + q * 0.1).map(|c| c + c.yzx() * s),
                        5 => [p * 1e38, q * 1e38, r * 1e38],
                        6 => [Vec3::X * i as f32, Vec3::X * (i as f32 + 1.0), Vec3::new(i as f32, 1e-6, 0.0)],
                        7 => [p * Vec3::new(1e30, 1.0, 1e-30), q * Vec3::new(1e30, 1.0, 1e-30), r],
                        8 => [p, p + q * 1e-3, p + r * 1e-3],
                        9 => [p / (s - 0.5).max(0.0), q, r],
                        10 => [p * 1e-40, q * 1e-40, r * 1e-40],
                        _ => [Vec3::X * 1.5f32.powi(i as i32 % 200), Vec3::X * 1.5f32.powi(i as i32 % 200) + 1e-9, q],
                    }
                })
                .collect();
            let has_area = |c: &[Vec3; 3]| {
                let c = c.map(|p| p.as_dvec3());
                let area = (c[1] - c[0]).cross(c[2] - c[0]);
                area.is_finite() && area != glam::DVec3::ZERO
            };
            let expected: Vec<u32> = (0..count).filter(|i| has_area(&corners[*i as usize])).collect();
            let bvh = Bvh::build(count, |i| corners[i as usize]);
            let mut held: Vec<u32> = bvh.packs.iter().flat_map(Pack::ids).collect();
            held.sort_unstable();
            assert_eq!(held, expected, "seed {seed}");
            for i in 0..200 {
                let (origin, direction) = (dice(i, 3).0 * 3.0, dice(i, 4).0);
                let (origin, direction) = match i % 8 {
                    5 => (origin * 1e38, -origin),
                    6 => (origin, Vec3::new(0.0, -0.0, direction.z)),
                    7 => (corners[(i * 7 % count) as usize][0], direction * 1e-20),
                    _ => (origin, direction),
                };
                let ray = Ray { origin, direction, far: f32::INFINITY };
                let hit = bvh.nearest(&ray);
                assert!(hit.is_none_or(|h| h.triangle < count));
                assert_eq!(hit.is_some(), bvh.blocked(&ray), "seed {seed}, ray {i}");
                let mut plain = Hit::nothing(f32::INFINITY);
                let found = traverse::traverse_plain::<false>(&bvh.nodes, bvh.root, &ray, &mut plain, &bvh.packs);
                assert!(!found || plain.triangle < count, "seed {seed}, ray {i}");
            }
        }
    }

    /// Rays through the shared edges and corners of a closed fan must not slip through.
    #[test]
    fn shared_edges_are_watertight() {
        let n = 64;
        let rim = |k: usize| {
            let a = k as f32 / n as f32 * std::f32::consts::TAU;
            Vec3::new(a.cos(), a.sin(), 0.3 * (3.0 * a).sin())
        };
        let corners: Vec<[Vec3; 3]> = (0..n).map(|k| [Vec3::ZERO, rim(k), rim((k + 1) % n)]).collect();
        let bvh = Bvh::build(corners.len() as u32, |i| corners[i as usize]);
        for k in 0..n {
            for s in [0.0f32, 0.1, 0.37, 0.9] {
                let target = rim(k) * s;
                for i in 0..20 {
                    let origin = Vec3::new(0.0, 0.0, 3.0) + (point(i, 5) - 0.5);
                    let ray = Ray { origin, direction: (target - origin).normalize(), far: f32::INFINITY };
                    assert!(bvh.blocked(&ray), "edge {k} at {s}");
                }
            }
        }
    }
}
