//! Which solids a point lies inside of, and what a ray finds on either side of a boundary.
//!
//! A solid is everything of one object that has one material that is solid. Solids may lie inside each other or overlap: where
//! they do, the one with the smaller volume has priority (nested dielectrics after Schmidt and Budge 2002, "Simple Nested
//! Dielectrics in Ray Traced Images", with sizes in place of priorities set by hand). A boundary inside a solid of higher priority is
//! none: rays pass it straight. Rays refract by the ratio of the indices on both sides.

use glam::Vec3;
use scene::{Material, Mesh, Scene};
use std::collections::BTreeMap;

/// Number of a solid; of two, the higher number has priority.
pub type SolidId = u16;

/// Solids that one point may lie inside of; those beyond are lost.
const MOST: usize = 8;
/// Solids whose boxes are compared with each other; with more, any two may overlap.
const COMPARED: usize = 1024;

/// The solids that a point lies inside of, each as often as its boundary was entered.
#[derive(Debug, Clone, Copy, Default)]
pub struct Interior {
    held: [SolidId; MOST],
    count: u8,
}

impl Interior {
    fn held(&self) -> &[SolidId] {
        &self.held[..self.count as usize]
    }

    /// The solid whose material fills the point; none in the open.
    #[inline]
    pub fn filled_by(&self) -> Option<SolidId> {
        self.held().iter().max().copied()
    }

    pub fn is_open(&self) -> bool {
        self.count == 0
    }

    pub fn entered(mut self, solid: SolidId) -> Interior {
        if (self.count as usize) < MOST {
            self.held[self.count as usize] = solid;
            self.count += 1;
        }
        self
    }

    pub fn left(mut self, solid: SolidId) -> Interior {
        if let Some(k) = self.held().iter().rposition(|s| *s == solid) {
            self.held.copy_within(k + 1..self.count as usize, k);
            self.count -= 1;
        }
        self
    }
}

/// What a ray finds at a solid's boundary.
#[derive(Debug, Clone, Copy)]
pub struct Boundary {
    /// The solids that a ray is inside of once it has passed.
    pub beyond: Interior,
    /// Index of refraction on the far side ÷ that on the near side.
    pub eta: f32,
    /// The same matter lies on both sides: rays pass as if nothing were there.
    pub hidden: bool,
}

/// All solids of a scene.
pub struct Solids {
    /// (object, material) with the number of their solid, in order.
    numbers: BTreeMap<(u32, u32), SolidId>,
    /// Of each solid.
    materials: Vec<u32>,
    indices: Vec<f32>,
    /// Two of them may overlap, so that a boundary can be hidden.
    pub overlap: bool,
    /// Ratios of indices (≥ 1) that rough boundaries may have.
    pub rough_ratios: Vec<f32>,
}

fn is_solid(m: &Material) -> bool {
    m.solid && m.transmission > 0.0
}

/// Box and volume of a solid.
#[derive(Clone, Copy)]
struct Extent {
    lo: Vec3,
    hi: Vec3,
    /// Six times what the triangles enclose, as seen from one corner of them: it stays the same however the solid is moved and turned,
    /// also where a mesh is not closed.
    volume: f64,
    corner: Vec3,
}

impl Extent {
    fn with(&self, o: &Extent) -> Extent {
        Extent { lo: self.lo.min(o.lo), hi: self.hi.max(o.hi), volume: self.volume + o.volume, ..*self }
    }
}

/// Of all solids that a mesh holds.
fn extents(mesh: &Mesh, solid: &[bool]) -> BTreeMap<(u32, u32), Extent> {
    let mut all: BTreeMap<(u32, u32), Extent> = BTreeMap::new();
    for t in mesh.triangles.iter().filter(|t| solid[t.material as usize]) {
        let corners = mesh.corners(t);
        let [a, b, c] = corners;
        let nothing = Extent { lo: a, hi: a, volume: 0.0, corner: a };
        let e = all.entry((t.object, t.material)).or_insert(nothing);
        let [p, q, r] = corners.map(|p| p.as_dvec3() - e.corner.as_dvec3());
        *e = e.with(&Extent { lo: a.min(b).min(c), hi: a.max(b).max(c), volume: p.dot(q.cross(r)), ..*e });
    }
    all
}

impl Solids {
    pub fn of(scene: &Scene) -> Solids {
        let mut all: BTreeMap<(u32, u32), Extent> = BTreeMap::new();
        let mut hold = |key: (u32, u32), e: Extent| {
            all.entry(key).and_modify(|there| *there = there.with(&e)).or_insert(e);
        };
        let solid: Vec<bool> = scene.materials.iter().map(is_solid).collect();
        if solid.contains(&true) {
            extents(&scene.world, &solid).into_iter().for_each(|(key, e)| hold(key, e));
            let shared: Vec<_> = scene.shared.iter().map(|mesh| extents(mesh, &solid)).collect();
            for i in &scene.instances {
                let (lo, hi) = scene.instance_bounds(i);
                let times = i.to_world.matrix3.determinant().abs() as f64;
                for ((_, material), e) in &shared[i.mesh as usize] {
                    hold((i.object, *material), Extent { lo, hi, volume: e.volume * times, ..*e });
                }
            }
        }
        let mut list: Vec<((u32, u32), Extent)> = all.into_iter().collect();
        // Largest first. Sizes that differ by rounding alone are equal; the order of equals does not matter as long as it is one.
        let size = |e: &Extent| (1e3 * e.volume.abs().max(1e-300).ln()).round() as i64;
        list.sort_by_key(|(key, e)| (std::cmp::Reverse(size(e)), *key));
        list.truncate(SolidId::MAX as usize);
        let index = |k: usize| scene.materials[list[k].0.1 as usize].ior.max(1.0);
        let overlaps = |a: usize, b: usize| {
            let (a, b) = (&list[a].1, &list[b].1);
            a.lo.cmple(b.hi).all() && b.lo.cmple(a.hi).all()
        };
        let mut overlap = list.len() > COMPARED;
        let rough = |k: usize| {
            let m = &scene.materials[list[k].0.1 as usize];
            m.metallic < 1.0 && m.roughness > 0.03
        };
        let ratio = |a: f32, b: f32| (a / b).max(b / a);
        let mut rough_ratios: Vec<f32> = (0..list.len()).filter(|k| rough(*k)).map(index).collect();
        if !overlap {
            for a in 0..list.len() {
                for b in a + 1..list.len() {
                    if overlaps(a, b) {
                        overlap = true;
                        if rough(a) || rough(b) {
                            rough_ratios.push(ratio(index(a), index(b)));
                        }
                    }
                }
            }
        }
        rough_ratios.sort_by(f32::total_cmp);
        rough_ratios.dedup_by(|a, b| (*a / *b - 1.0).abs() < 1e-3);
        Solids {
            numbers: list.iter().enumerate().map(|(k, (key, _))| (*key, k as SolidId)).collect(),
            materials: list.iter().map(|(key, _)| key.1).collect(),
            indices: (0..list.len()).map(index).collect(),
            overlap,
            rough_ratios,
        }
    }

    pub fn is_empty(&self) -> bool {
        self.materials.is_empty()
    }

    /// The solid that an object and a material belong to.
    #[inline]
    pub fn number(&self, object: u32, material: u32) -> Option<SolidId> {
        self.numbers.get(&(object, material)).copied()
    }

    pub fn material(&self, solid: SolidId) -> u32 {
        self.materials[solid as usize]
    }

    fn index(&self, filled_by: Option<SolidId>) -> f32 {
        filled_by.map_or(1.0, |s| self.indices[s as usize])
    }

    /// What a ray finds that meets the boundary of a solid, from outside or from inside.
    pub fn boundary(&self, interior: &Interior, solid: SolidId, entering: bool) -> Boundary {
        // A ray that leaves what it never entered, through a mesh that is not closed, was inside all the same.
        let before = if entering || interior.held().contains(&solid) { *interior } else { interior.entered(solid) };
        let beyond = if entering { before.entered(solid) } else { before.left(solid) };
        let (near, far) = (before.filled_by(), beyond.filled_by());
        Boundary { beyond, eta: self.index(far) / self.index(near), hidden: near == far }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A ray through two solids that overlap finds the same matter in the same place whichever way it goes, and the
    /// products of the ratios of indices are 1 from air to air.
    #[test]
    fn the_order_of_entering_does_not_matter() {
        let solids = Solids {
            numbers: BTreeMap::new(),
            materials: vec![0, 1, 2],
            indices: vec![1.33, 1.5, 1.0],
            overlap: true,
            rough_ratios: Vec::new(),
        };
        // Events along a line: solid and whether it is entered.
        let line = [(0, true), (1, true), (2, true), (1, false), (0, false), (2, false)];
        let walk = |events: &[(SolidId, bool)]| -> (Vec<Option<SolidId>>, f32) {
            let (mut at, mut product, mut found) = (Interior::default(), 1.0, Vec::new());
            for (solid, entering) in events {
                let b = solids.boundary(&at, *solid, *entering);
                assert!(!b.hidden || b.eta == 1.0);
                product *= b.eta;
                at = b.beyond;
                found.push(at.filled_by());
            }
            assert!(at.is_open());
            (found, product)
        };
        let (mut there, product) = walk(&line);
        assert!((product - 1.0).abs() < 1e-6);
        let back: Vec<(SolidId, bool)> = line.iter().rev().map(|(s, e)| (*s, !e)).collect();
        let (again, _) = walk(&back);
        there.reverse();
        assert_eq!(there[1..], again[..5]);
        // From inside a mesh that was never entered.
        let b = solids.boundary(&Interior::default(), 1, false);
        assert!(b.beyond.is_open() && b.eta == 1.0 / 1.5);
    }

    /// A thin rod has a larger box than a cube once it is turned, and still the smaller volume: the order of solids does not change
    /// with their place, nor when they become instances.
    #[test]
    fn the_priority_of_solids_turns_with_them() {
        use glam::{Affine3A, EulerRot, Quat};
        use scene::{Instance, Triangle};
        let glass = Material { solid: true, transmission: 1.0, ..Material::default() };
        let cuboid = |object: u32, half: Vec3, place: Affine3A| {
            let mut mesh = Mesh::default();
            let corner = |k: u32| Vec3::new((k & 1) as f32, (k >> 1 & 1) as f32, (k >> 2) as f32) * 2.0 - 1.0;
            mesh.positions = (0..8).map(|k| place.transform_point3(half * corner(k))).collect();
            let sides = [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]];
            for [a, b, c, d] in sides {
                for vertices in [[a, b, c], [a, c, d]] {
                    mesh.triangles.push(Triangle { vertices, material: 0, object });
                }
            }
            mesh
        };
        for k in 0..200 {
            let turn = Quat::from_euler(EulerRot::XYZ, k as f32, 0.7 * k as f32, 1.3);
            let place = Affine3A::from_rotation_translation(turn, Vec3::splat(k as f32));
            let (rod, cube) = (Vec3::new(0.1, 1.5, 0.1), Vec3::splat(0.45));
            let mut whole = cuboid(0, rod, place);
            let other = cuboid(1, cube, place);
            let base = whole.positions.len() as u32;
            whole.positions.extend(&other.positions);
            let moved = other.triangles.iter().map(|t| Triangle { vertices: t.vertices.map(|v| v + base), ..*t });
            whole.triangles.extend(moved);
            let world = Scene { world: whole, materials: vec![glass.clone()], ..Scene::default() };
            let shared = vec![cuboid(0, rod, Affine3A::IDENTITY), cuboid(0, cube, Affine3A::IDENTITY)];
            let instances = (0..2).map(|mesh| Instance { mesh, to_world: place, object: mesh }).collect();
            let apart = Scene { shared, instances, materials: vec![glass.clone()], ..Scene::default() };
            for scene in [world, apart] {
                let solids = Solids::of(&scene);
                assert!(solids.number(0, 0) > solids.number(1, 0), "turned {k}: the rod has priority");
            }
        }
    }
}
