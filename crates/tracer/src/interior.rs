//! Which solids a point lies inside of, and what a ray finds on either side of a boundary.
//!
//! A solid is everything of one object that has one material that is solid. Solids may lie inside each other or overlap: where
//! they do, the one with the smaller box has priority (nested dielectrics after Schmidt and Budge 2002, "Simple Nested
//! Dielectrics in Ray Traced Images", with sizes in place of priorities set by hand). A boundary inside a solid of higher priority is
//! none: rays pass it straight. Rays refract by the ratio of the indices on both sides.

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

impl Solids {
    pub fn of(scene: &Scene) -> Solids {
        type Bounds = (glam::Vec3, glam::Vec3);
        let mut boxes: BTreeMap<(u32, u32), Bounds> = BTreeMap::new();
        let mut hold = |key: (u32, u32), (lo, hi): Bounds| {
            let b = boxes.entry(key).or_insert((lo, hi));
            *b = (b.0.min(lo), b.1.max(hi));
        };
        let solid: Vec<bool> = scene.materials.iter().map(is_solid).collect();
        if solid.contains(&true) {
            let each = |mesh: &Mesh, hold: &mut dyn FnMut(u32, u32, Bounds)| {
                for t in mesh.triangles.iter().filter(|t| solid[t.material as usize]) {
                    let [a, b, c] = mesh.corners(t);
                    hold(t.object, t.material, (a.min(b).min(c), a.max(b).max(c)));
                }
            };
            each(&scene.world, &mut |object, material, b| hold((object, material), b));
            for i in &scene.instances {
                let mesh = &scene.shared[i.mesh as usize];
                let within = scene.instance_bounds(i);
                let mut used: Vec<u32> = mesh.triangles.iter().map(|t| t.material).collect();
                used.sort_unstable();
                used.dedup();
                used.iter().filter(|m| solid[**m as usize]).for_each(|m| hold((i.object, *m), within));
            }
        }
        let mut list: Vec<((u32, u32), Bounds)> = boxes.into_iter().collect();
        let size = |b: &Bounds| (b.1 - b.0).max(glam::Vec3::splat(1e-12)).as_dvec3().element_product();
        // Largest first; the order of equals does not matter as long as it is one.
        list.sort_by(|a, b| size(&b.1).total_cmp(&size(&a.1)).then(a.0.cmp(&b.0)));
        list.truncate(SolidId::MAX as usize);
        let index = |k: usize| scene.materials[list[k].0.1 as usize].ior.max(1.0);
        let overlaps = |a: usize, b: usize| {
            let ((lo, hi), (other_lo, other_hi)) = (list[a].1, list[b].1);
            lo.cmple(other_hi).all() && other_lo.cmple(hi).all()
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
}
