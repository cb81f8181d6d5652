//! Acceleration structure: a four-wide bounding volume hierarchy, collapsed from a binary one that is built by the binned
//! surface area heuristic (Wald 2007), with the watertight triangle test of Woop, Benthin and Wald (2013).
//!
//! The tree does not depend on the number of threads that build it. Hits at equal distance go to the lowest triangle.

use glam::{Vec3, Vec4};

const LEAF: usize = 4;
const BINS: usize = 16;
/// Marks a child that is a pack of triangles.
const IS_PACK: u32 = 1 << 31;
/// Three entries a level of the binary tree that is at most about 80 deep, halved by the collapse.
const STACK: usize = 128;

#[derive(Debug, Clone, Copy)]
pub struct Ray {
    pub origin: Vec3,
    /// Unit length.
    pub direction: Vec3,
    /// Hits beyond this distance do not count.
    pub far: f32,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Hit {
    pub distance: f32,
    pub triangle: u32,
    /// Barycentric weights of the second and third corner.
    pub u: f32,
    pub v: f32,
}

/// Four children side by side; a child without triangles has an inverted box.
#[derive(Clone)]
#[repr(align(64))]
struct Node {
    /// [axis][lower, upper][child]
    bounds: [[Vec4; 2]; 3],
    /// Node number, or pack number with [`IS_PACK`].
    child: [u32; 4],
}

/// The triangles of a leaf side by side; lanes without one hold NaN, which no test lets pass.
#[derive(Clone)]
struct Pack {
    /// [corner][axis][lane]
    p: [[Vec4; 3]; 3],
    id: [u32; 4],
}

impl Pack {
    fn new(items: &[Item], corners: &[[Vec3; 3]]) -> Pack {
        let lane = |k: usize, corner: usize, axis: usize| {
            items.get(k).map_or(f32::NAN, |i| corners[i.id as usize][corner][axis])
        };
        Pack {
            p: std::array::from_fn(|c| {
                std::array::from_fn(|a| Vec4::from_array(std::array::from_fn(|k| lane(k, c, a))))
            }),
            id: std::array::from_fn(|k| items.get(k).map_or(u32::MAX, |i| i.id)),
        }
    }
}

pub struct Bvh {
    nodes: Vec<Node>,
    packs: Vec<Pack>,
}

#[derive(Clone, Copy)]
struct Aabb {
    lo: Vec3,
    hi: Vec3,
}

impl Aabb {
    const EMPTY: Aabb = Aabb { lo: Vec3::INFINITY, hi: Vec3::NEG_INFINITY };

    fn with(self, o: Aabb) -> Aabb {
        Aabb { lo: self.lo.min(o.lo), hi: self.hi.max(o.hi) }
    }

    fn half_area(&self) -> f32 {
        let d = (self.hi - self.lo).max(Vec3::ZERO);
        d.x * d.y + d.y * d.z + d.z * d.x
    }
}

#[derive(Clone, Copy)]
struct Item {
    bounds: Aabb,
    centre: Vec3,
    id: u32,
}

/// The binary tree before it is collapsed.
enum Tree {
    Leaf { bounds: Aabb, first: u32, count: u32 },
    Inner { bounds: Aabb, children: Box<[Tree; 2]> },
}

impl Tree {
    fn bounds(&self) -> Aabb {
        match self {
            Tree::Leaf { bounds, .. } | Tree::Inner { bounds, .. } => *bounds,
        }
    }
}

impl Bvh {
    /// Builds over the triangles' corners. O(n log n).
    pub fn build(corners: &[[Vec3; 3]]) -> Bvh {
        let mut items: Vec<Item> = corners
            .iter()
            .enumerate()
            .map(|(i, [a, b, c])| {
                let bounds = Aabb { lo: a.min(*b).min(*c), hi: a.max(*b).max(*c) };
                Item { bounds, centre: 0.5 * (bounds.lo + bounds.hi), id: i as u32 }
            })
            .collect();
        if items.is_empty() {
            return Bvh { nodes: Vec::new(), packs: Vec::new() };
        }
        let tree = split(&mut items, 0, 0);
        let (mut nodes, mut packs) = (Vec::new(), Vec::new());
        // A scene of one leaf still needs a node above it.
        let top = match tree {
            leaf @ Tree::Leaf { .. } => vec![leaf],
            Tree::Inner { children, .. } => widen(*children),
        };
        emit(top, &mut nodes, &mut |first, count| {
            packs.push(Pack::new(&items[first as usize..(first + count) as usize], corners));
            packs.len() as u32 - 1
        });
        Bvh { nodes, packs }
    }

    /// The nearest hit.
    pub fn nearest(&self, ray: &Ray) -> Option<Hit> {
        let mut best: Option<Hit> = None;
        self.traverse(ray, ray.far, |pack, sheared, far| {
            sheared.intersect(pack, *far, |hit| {
                if best.is_none_or(|b| (hit.distance, hit.triangle) < (b.distance, b.triangle)) {
                    best = Some(hit);
                    *far = hit.distance;
                }
            });
            false
        });
        best
    }

    /// Whether anything lies between the origin and `ray.far`.
    pub fn blocked(&self, ray: &Ray) -> bool {
        let mut hit = false;
        self.traverse(ray, ray.far, |pack, sheared, far| {
            sheared.intersect(pack, *far, |_| hit = true);
            hit
        });
        hit
    }

    /// Visits all leaves that the ray may reach, near ones first. `visit` may shorten the ray and returns true to end.
    #[inline(always)]
    fn traverse(&self, ray: &Ray, mut far: f32, mut visit: impl FnMut(&Pack, &Sheared, &mut f32) -> bool) {
        if self.nodes.is_empty() {
            return;
        }
        let sheared = Sheared::new(ray);
        let inverse = ray.direction.to_array().map(|d| 1.0 / d);
        let origin = ray.origin.to_array();
        let near_side: [usize; 3] = std::array::from_fn(|a| (inverse[a] < 0.0) as usize);
        let mut stack = [(0u32, 0.0f32); STACK];
        let mut top = 1;
        while top > 0 {
            top -= 1;
            let (index, entry) = stack[top];
            if entry > far {
                continue;
            }
            if index & IS_PACK != 0 {
                if visit(&self.packs[(index & !IS_PACK) as usize], &sheared, &mut far) {
                    return;
                }
                continue;
            }
            let node = &self.nodes[index as usize];
            let mut enter = Vec4::ZERO;
            let mut leave = Vec4::splat(far);
            for axis in 0..3 {
                let near = node.bounds[axis][near_side[axis]];
                let distant = node.bounds[axis][1 - near_side[axis]];
                let t0 = (near - origin[axis]) * inverse[axis];
                // Two and a half rounding errors of the slab test (Ize 2013).
                let t1 = (distant - origin[axis]) * (inverse[axis] * 1.000_000_4);
                // In this order NaN (a ray inside a slab's plane) leaves the interval as it is.
                enter = t0.max(enter);
                leave = t1.min(leave);
            }
            let mut hits = enter.cmple(leave).bitmask();
            let enter = enter.to_array();
            let bottom = top;
            while hits != 0 {
                let k = hits.trailing_zeros() as usize;
                hits &= hits - 1;
                if top == STACK {
                    break;
                }
                // Insertion keeps the nearest on top.
                let mut at = top;
                while at > bottom && stack[at - 1].1 < enter[k] {
                    stack[at] = stack[at - 1];
                    at -= 1;
                }
                stack[at] = (node.child[k], enter[k]);
                top += 1;
            }
        }
    }
}

/// A ray in the sheared space of the watertight test: its largest axis becomes z, and it points along it.
struct Sheared {
    axes: [usize; 3],
    shear: [f32; 3],
    origin: [f32; 3],
}

impl Sheared {
    fn new(ray: &Ray) -> Self {
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
        Sheared {
            axes: [kx, ky, kz],
            shear: [d[kx] / d[kz], d[ky] / d[kz], 1.0 / d[kz]],
            origin: ray.origin.to_array(),
        }
    }

    /// Tells every hit of the four triangles in (0, far].
    #[inline(always)]
    fn intersect(&self, pack: &Pack, far: f32, mut tell: impl FnMut(Hit)) {
        let [kx, ky, kz] = self.axes;
        let [sx, sy, sz] = self.shear;
        let o = &self.origin;
        let z: [Vec4; 3] = std::array::from_fn(|i| pack.p[i][kz] - o[kz]);
        let x: [Vec4; 3] = std::array::from_fn(|i| pack.p[i][kx] - o[kx] - sx * z[i]);
        let y: [Vec4; 3] = std::array::from_fn(|i| pack.p[i][ky] - o[ky] - sy * z[i]);
        let mut u = x[2] * y[1] - y[2] * x[1];
        let mut v = x[0] * y[2] - y[0] * x[2];
        let mut w = x[1] * y[0] - y[1] * x[0];
        let zero = Vec4::ZERO;
        let on_edge = (u.cmpeq(zero) | v.cmpeq(zero) | w.cmpeq(zero)).bitmask();
        if on_edge != 0 {
            // The sign of an edge function that rounds to zero is found in double precision.
            for k in (0..4).filter(|k| on_edge >> k & 1 == 1) {
                let cross =
                    |i: usize, j: usize| (x[i][k] as f64 * y[j][k] as f64 - y[i][k] as f64 * x[j][k] as f64) as f32;
                (u[k], v[k], w[k]) = (cross(2, 1), cross(0, 2), cross(1, 0));
            }
        }
        let negative = u.cmplt(zero) | v.cmplt(zero) | w.cmplt(zero);
        let positive = u.cmpgt(zero) | v.cmpgt(zero) | w.cmpgt(zero);
        let det = u + v + w;
        let mut inside = (!(negative & positive) & det.cmpne(zero)).bitmask();
        if inside == 0 {
            return;
        }
        let inverse = det.recip();
        let distance = (u * (sz * z[0]) + v * (sz * z[1]) + w * (sz * z[2])) * inverse;
        inside &= (distance.cmpgt(zero) & distance.cmple(Vec4::splat(far))).bitmask();
        while inside != 0 {
            let k = inside.trailing_zeros() as usize;
            inside &= inside - 1;
            tell(Hit { distance: distance[k], triangle: pack.id[k], u: v[k] * inverse[k], v: w[k] * inverse[k] });
        }
    }
}

/// Splits items, which start at `first` of the final order, by the binned surface area heuristic.
fn split(items: &mut [Item], first: u32, depth: usize) -> Tree {
    let bounds = items.iter().fold(Aabb::EMPTY, |b, i| b.with(i.bounds));
    let leaf = |n: usize| Tree::Leaf { bounds, first, count: n as u32 };
    if items.len() <= LEAF {
        return leaf(items.len());
    }
    let centres = items.iter().fold(Aabb::EMPTY, |b, i| Aabb { lo: b.lo.min(i.centre), hi: b.hi.max(i.centre) });
    let extent = centres.hi - centres.lo;
    let bin_of = |i: &Item, axis: usize| {
        let t = (i.centre[axis] - centres.lo[axis]) / extent[axis];
        ((t * BINS as f32) as usize).min(BINS - 1)
    };
    let mut best: Option<(f32, usize, usize)> = None;
    for axis in 0..3 {
        if extent[axis] <= 0.0 {
            continue;
        }
        let mut bins = [(Aabb::EMPTY, 0usize); BINS];
        for i in items.iter() {
            let b = &mut bins[bin_of(i, axis)];
            *b = (b.0.with(i.bounds), b.1 + 1);
        }
        let mut right = [(0.0f32, 0usize); BINS];
        let (mut around, mut count) = (Aabb::EMPTY, 0);
        for k in (1..BINS).rev() {
            around = around.with(bins[k].0);
            count += bins[k].1;
            right[k] = (around.half_area(), count);
        }
        let (mut around, mut count) = (Aabb::EMPTY, 0);
        for k in 1..BINS {
            around = around.with(bins[k - 1].0);
            count += bins[k - 1].1;
            if count == 0 || right[k].1 == 0 {
                continue;
            }
            let cost = around.half_area() * count as f32 + right[k].0 * right[k].1 as f32;
            if best.is_none_or(|b| cost < b.0) {
                best = Some((cost, axis, k));
            }
        }
    }
    // Deep or hopeless sets are halved in their given order, which bounds the depth.
    let middle = match best {
        Some((_, axis, k)) if depth < 60 => partition(items, |i| bin_of(i, axis) < k),
        _ => items.len() / 2,
    };
    let (left, right) = items.split_at_mut(middle);
    let (at_left, at_right) = (first, first + middle as u32);
    let children = if left.len() + right.len() > 8192 {
        let (a, b) = rayon::join(|| split(left, at_left, depth + 1), || split(right, at_right, depth + 1));
        [a, b]
    } else {
        [split(left, at_left, depth + 1), split(right, at_right, depth + 1)]
    };
    Tree::Inner { bounds, children: Box::new(children) }
}

/// Moves items for which `left` holds to the front and returns how many they are. Order depends on the input alone.
fn partition(items: &mut [Item], left: impl Fn(&Item) -> bool) -> usize {
    let mut at = 0;
    for i in 0..items.len() {
        if left(&items[i]) {
            items.swap(at, i);
            at += 1;
        }
    }
    at
}

/// Opens the largest inner nodes until there are four children.
fn widen(pair: [Tree; 2]) -> Vec<Tree> {
    let mut list: Vec<Tree> = pair.into();
    while list.len() < 4 {
        let largest = (0..list.len())
            .filter(|i| matches!(list[*i], Tree::Inner { .. }))
            .max_by(|a, b| list[*a].bounds().half_area().total_cmp(&list[*b].bounds().half_area()));
        match largest.map(|i| list.swap_remove(i)) {
            Some(Tree::Inner { children, .. }) => list.extend(*children),
            _ => break,
        }
    }
    list
}

/// Writes a node with its descendants; `leaf` stores the triangles of a leaf, given by first and count, and names its pack.
fn emit(children: Vec<Tree>, nodes: &mut Vec<Node>, leaf: &mut dyn FnMut(u32, u32) -> u32) -> u32 {
    let number = nodes.len() as u32;
    nodes.push(Node { bounds: [[Vec4::INFINITY, Vec4::NEG_INFINITY]; 3], child: [0; 4] });
    for (k, tree) in children.into_iter().enumerate() {
        let b = tree.bounds();
        for axis in 0..3 {
            nodes[number as usize].bounds[axis][0][k] = b.lo[axis];
            nodes[number as usize].bounds[axis][1][k] = b.hi[axis];
        }
        nodes[number as usize].child[k] = match tree {
            Tree::Leaf { first, count, .. } => leaf(first, count) | IS_PACK,
            Tree::Inner { children, .. } => emit(widen(*children), nodes, leaf),
        };
    }
    number
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sampler::Sampler;

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
        let bvh = Bvh::build(&corners);
        let mut hits = 0;
        for i in 0..1000 {
            let origin = point(i, 3) * 2.0 - 0.5;
            let direction = (point(i, 4) - origin).normalize();
            let ray = Ray { origin, direction, far: f32::INFINITY };
            let sheared = Sheared::new(&ray);
            let expected = corners
                .iter()
                .enumerate()
                .filter_map(|(id, _)| {
                    let item = Item { bounds: Aabb::EMPTY, centre: Vec3::ZERO, id: id as u32 };
                    let mut hit = None;
                    sheared.intersect(&Pack::new(&[item], &corners), f32::INFINITY, |h| {
                        hit = Some((h.distance, h.triangle))
                    });
                    hit
                })
                .min_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
            let found = bvh.nearest(&ray).map(|h| (h.distance, h.triangle));
            assert_eq!(found, expected);
            assert_eq!(bvh.blocked(&ray), expected.is_some());
            hits += expected.is_some() as u32;
        }
        assert!(hits > 150);
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
        let bvh = Bvh::build(&corners);
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
