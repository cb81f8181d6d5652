//! Four triangles side by side and the watertight test of Woop, Benthin and Wald (2013).
//!
//! No fused multiplications: the edge functions of two triangles at a shared edge must be the exact negatives of each other,
//! and a hit must have the same bits on every processor.

use super::{Hit, Ray};
use glam::{Vec3, Vec4};

/// The triangles of a leaf side by side; lanes without one hold NaN, which no test lets pass. 160 bytes.
#[derive(Clone)]
#[repr(C, align(32))]
pub(super) struct Pack {
    /// [corner][axis][lane]
    p: [[Vec4; 3]; 3],
    id: [u32; 4],
}

impl Pack {
    pub fn new(ids: impl ExactSizeIterator<Item = u32>, corners: impl Fn(u32) -> [Vec3; 3]) -> Pack {
        let mut pack = Pack { p: [[Vec4::NAN; 3]; 3], id: [u32::MAX; 4] };
        for (lane, id) in ids.enumerate() {
            for (c, corner) in corners(id).into_iter().enumerate() {
                for axis in 0..3 {
                    pack.p[c][axis][lane] = corner[axis];
                }
            }
            pack.id[lane] = id;
        }
        pack
    }
}

#[cfg(test)]
impl Pack {
    /// Numbers of the triangles that are there.
    pub fn ids(&self) -> impl Iterator<Item = u32> {
        self.id.into_iter().filter(|id| *id != u32::MAX)
    }
}

/// A ray in the sheared space of the watertight test: its largest axis becomes z, and it points along it.
pub(super) struct Sheared {
    axes: [usize; 3],
    shear: [Vec4; 3],
    origin: [Vec4; 3],
}

impl Sheared {
    #[inline(always)]
    pub fn new(ray: &Ray) -> Self {
        let d = ray.direction.to_array();
        let a = d.map(f32::abs);
        let kz = if a[0] > a[1] && a[0] > a[2] {
            0
        } else if a[1] > a[2] {
            1
        } else {
            2
        };
        let (mut kx, mut ky) = ((kz + 1) % 3, (kz + 2) % 3);
        if d[kz] < 0.0 {
            std::mem::swap(&mut kx, &mut ky);
        }
        let o = ray.origin.to_array();
        Sheared {
            axes: [kx, ky, kz],
            shear: [d[kx] / d[kz], d[ky] / d[kz], 1.0 / d[kz]].map(Vec4::splat),
            origin: [o[kx], o[ky], o[kz]].map(Vec4::splat),
        }
    }

    /// Shortens `best` to the nearest hit of the pack in (0, best.distance]; ties go to the lowest triangle.
    /// True if there was one.
    #[inline(always)]
    pub fn intersect(&self, pack: &Pack, best: &mut Hit) -> bool {
        let (x, y, z) = self.shear(pack);
        let mut u = x[2] * y[1] - y[2] * x[1];
        let mut v = x[0] * y[2] - y[0] * x[2];
        let mut w = x[1] * y[0] - y[1] * x[0];
        let zero = Vec4::ZERO;
        let least = u.min(v).min(w);
        let most = u.max(v).max(w);
        // Inside if no two edge functions have different signs.
        let mut inside = (least.cmpge(zero) | most.cmple(zero)).bitmask();
        if inside == 0 {
            return false;
        }
        let on_edge = (u.cmpeq(zero) | v.cmpeq(zero) | w.cmpeq(zero)).bitmask() & inside;
        if on_edge != 0 {
            ([u, v, w], inside) = self.decide_edges(pack, on_edge, inside);
            if inside == 0 {
                return false;
            }
        }
        let det = u + v + w;
        let inverse = det.recip();
        let sz = self.shear[2];
        let distance = (u * (sz * z[0]) + v * (sz * z[1]) + w * (sz * z[2])) * inverse;
        let reach = distance.cmpgt(zero) & distance.cmple(Vec4::splat(best.distance)) & det.cmpne(zero);
        inside &= reach.bitmask();
        let mut found = false;
        while inside != 0 {
            let k = inside.trailing_zeros() as usize;
            inside &= inside - 1;
            if distance[k] < best.distance || (distance[k] == best.distance && pack.id[k] < best.triangle) {
                (best.distance, best.triangle) = (distance[k], pack.id[k]);
                (best.u, best.v) = (v[k] * inverse[k], w[k] * inverse[k]);
                found = true;
            }
        }
        found
    }

    /// Corners of the pack in sheared space: x, y and z of each.
    #[inline(always)]
    fn shear(&self, pack: &Pack) -> ([Vec4; 3], [Vec4; 3], [Vec4; 3]) {
        let [kx, ky, kz] = self.axes;
        let [sx, sy, _] = self.shear;
        let [ox, oy, oz] = self.origin;
        // SAFETY: axes are 0, 1 and 2 in some order.
        let of = |i: usize, k: usize| unsafe { *pack.p[i].get_unchecked(k) };
        let z: [Vec4; 3] = std::array::from_fn(|i| of(i, kz) - oz);
        let x: [Vec4; 3] = std::array::from_fn(|i| of(i, kx) - ox - sx * z[i]);
        let y: [Vec4; 3] = std::array::from_fn(|i| of(i, ky) - oy - sy * z[i]);
        (x, y, z)
    }

    /// The sign of an edge function that rounds to zero is found in double precision. Returns the edge functions and the
    /// lanes that are inside.
    #[cold]
    #[inline(never)]
    fn decide_edges(&self, pack: &Pack, on_edge: u32, inside: u32) -> ([Vec4; 3], u32) {
        let (x, y, _) = self.shear(pack);
        let edge = |i: usize, j: usize| x[i] * y[j] - y[i] * x[j];
        let [mut u, mut v, mut w] = [edge(2, 1), edge(0, 2), edge(1, 0)];
        let mut inside = inside;
        for k in (0..4).filter(|k| on_edge >> k & 1 == 1) {
            let cross = |i: usize, j: usize| (x[i][k] as f64 * y[j][k] as f64 - y[i][k] as f64 * x[j][k] as f64) as f32;
            (u[k], v[k], w[k]) = (cross(2, 1), cross(0, 2), cross(1, 0));
            let least = u[k].min(v[k]).min(w[k]);
            let most = u[k].max(v[k]).max(w[k]);
            if least < 0.0 && most > 0.0 {
                inside &= !(1 << k);
            }
        }
        ([u, v, w], inside)
    }
}
