//! Traversal: single rays, near children first, with a stack that is sorted by distance and culled when popped.
//! One function uses AVX2 and FMA; the other does the same with plain arithmetic. Both find the same hits bit for bit: only
//! the test of the boxes differs, and it only ever lets more through.

use super::node::{EMPTY, LEAF, Node, WIDTH};
use super::{Hit, Ray};
use std::mem::MaybeUninit;

/// Entries that can be open at once: at every level of nodes seven of eight children wait. The builder keeps to the levels,
/// and checks it ([`super::build::build`]).
const STACK: usize = 7 * super::build::MOST_LEVELS;

/// Two and a half rounding errors of the slab test (Ize 2013).
const ROUNDING: f32 = 1.000_000_4;

struct Slabs {
    origin: [f32; 3],
    inverse: [f32; 3],
    /// Rows of [`Node::bounds`] that the ray meets first and last on each axis.
    near: [usize; 3],
    far: [usize; 3],
}

impl Slabs {
    #[inline(always)]
    fn new(ray: &Ray) -> Slabs {
        let inverse = ray.direction.to_array().map(|d| 1.0 / d);
        let down = inverse.map(|d| (d < 0.0) as usize);
        Slabs {
            origin: ray.origin.to_array(),
            inverse,
            near: std::array::from_fn(|a| 2 * a + down[a]),
            far: std::array::from_fn(|a| 2 * a + 1 - down[a]),
        }
    }

    /// Entry distances of the eight children, and which of them the ray meets before `far`.
    #[inline(always)]
    fn test(&self, node: &Node, far: f32, enter: &mut [f32; WIDTH]) -> u32 {
        let mut leave = [far; WIDTH];
        *enter = [0.0; WIDTH];
        for axis in 0..3 {
            let (o, i) = (self.origin[axis], self.inverse[axis]);
            let (near, distant) = (&node.bounds[self.near[axis]], &node.bounds[self.far[axis]]);
            for k in 0..WIDTH {
                let t0 = (near[k] - o) * i;
                let t1 = (distant[k] - o) * i;
                // In this order NaN (a ray inside a slab's plane) leaves the interval as it is.
                enter[k] = if t0 > enter[k] { t0 } else { enter[k] };
                leave[k] = if t1 < leave[k] { t1 } else { leave[k] };
            }
        }
        (0..WIDTH).fold(0, |mask, k| mask | ((enter[k] <= leave[k] * ROUNDING) as u32) << k)
    }
}

#[cfg(target_arch = "x86_64")]
mod wide {
    use super::*;
    use std::arch::x86_64::*;

    /// [`Slabs`] in registers, with one fused operation a plane: t = plane · inverse + offset. The offsets are moved apart by
    /// the rounding of origin · inverse, which opens the boxes by a few rounding errors of the origin's coordinates.
    pub struct Slabs8 {
        inverse: [__m256; 3],
        offset: [__m256; 3],
        offset_far: [__m256; 3],
        near: [usize; 3],
        far: [usize; 3],
    }

    impl Slabs8 {
        #[inline]
        #[target_feature(enable = "avx2,fma")]
        pub fn new(ray: &Ray) -> Slabs8 {
            let s = Slabs::new(ray);
            // Rays along an axis: a finite number that is large enough keeps the products finite.
            let inverse = s.inverse.map(|i| i.clamp(-1e18, 1e18));
            const FOUR_ROUNDINGS: f32 = 2.4e-7;
            let product: [f32; 3] = std::array::from_fn(|a| s.origin[a] * inverse[a]);
            let room = product.map(|p| p.abs() * FOUR_ROUNDINGS);
            let all = |v: [f32; 3]| [_mm256_set1_ps(v[0]), _mm256_set1_ps(v[1]), _mm256_set1_ps(v[2])];
            Slabs8 {
                inverse: all(inverse),
                offset: all(std::array::from_fn(|a| -product[a] - room[a])),
                offset_far: all(std::array::from_fn(|a| room[a] - product[a])),
                near: s.near,
                far: s.far,
            }
        }

        #[inline]
        #[target_feature(enable = "avx2,fma")]
        pub fn test(&self, node: &Node, far: f32, enter: &mut [f32; WIDTH]) -> u32 {
            let (mut t0, mut t1) = (_mm256_setzero_ps(), _mm256_set1_ps(far));
            for axis in 0..3 {
                // SAFETY: rows are eight floats, 32-byte aligned by the node's layout, and row numbers are below 6.
                let (near, distant) = unsafe {
                    (
                        _mm256_load_ps(node.bounds.get_unchecked(self.near[axis]).as_ptr()),
                        _mm256_load_ps(node.bounds.get_unchecked(self.far[axis]).as_ptr()),
                    )
                };
                // With NaN first, both instructions return their second operand.
                t0 = _mm256_max_ps(_mm256_fmadd_ps(near, self.inverse[axis], self.offset[axis]), t0);
                t1 = _mm256_min_ps(_mm256_fmadd_ps(distant, self.inverse[axis], self.offset_far[axis]), t1);
            }
            let t1 = _mm256_mul_ps(t1, _mm256_set1_ps(ROUNDING));
            // SAFETY: eight floats, aligned as `Entries` is.
            unsafe { _mm256_store_ps(enter.as_mut_ptr(), t0) };
            _mm256_movemask_ps(_mm256_cmp_ps::<_CMP_LE_OQ>(t0, t1)) as u32
        }
    }
}

/// What is done at the leaves. A trait instead of a closure because only so the leaf's test is sure to be compiled into the
/// traversal, with the same instructions.
pub(super) trait Leaves {
    /// What is computed once a ray.
    type Ready;
    fn ready(&self, ray: &Ray) -> Self::Ready;
    /// Shortens `best` to what a leaf holds before it, and tells whether it did.
    fn test(&self, ready: &Self::Ready, leaf: u32, best: &mut Hit) -> bool;
}

/// The body of both traversals: asks `$leaf` about each leaf that may hold something before `$best.distance`.
///
/// SAFETY of the unchecked look-ups: codes come from the builder, which makes nodes for all of them; a path through the tree
/// leaves at most seven entries a level on the stack, and the builder bounds the depth (see `build`).
macro_rules! traversal {
    ($nodes:expr, $root:expr, $ray:expr, $slabs:expr, $best:expr, $any:expr, $leaf:expr) => {{
        let slabs = $slabs;
        let ready = $leaf.ready($ray);
        let mut stack = [MaybeUninit::<u64>::uninit(); STACK];
        let stack = stack.as_mut_ptr().cast::<u64>();
        let mut top = 0usize;
        let mut enter = Entries([0.0f32; WIDTH]);
        let mut code: u32 = $root;
        let mut found = false;
        'all: loop {
            'down: while code & LEAF == 0 {
                let node: &Node = unsafe { $nodes.get_unchecked(code as usize) };
                let mut hits = slabs.test(node, $best.distance, &mut enter.0);
                if hits == 0 {
                    code = EMPTY;
                    break 'down;
                }
                let first = hits.trailing_zeros() as usize & 7;
                hits &= hits - 1;
                if hits == 0 {
                    code = node.child[first];
                    continue;
                }
                if $any {
                    // The order does not matter, and nothing gets shorter.
                    while hits != 0 {
                        let other = node.child[hits.trailing_zeros() as usize & 7];
                        hits &= hits - 1;
                        unsafe { stack.add(top).write(other as u64) };
                        top += 1;
                    }
                    code = node.child[first];
                    continue;
                }
                let entry = |k: usize| (enter.0[k].to_bits() as u64) << 32 | node.child[k] as u64;
                let second = hits.trailing_zeros() as usize & 7;
                hits &= hits - 1;
                let (a, b) = (entry(first), entry(second));
                let (near, distant) = (a.min(b), a.max(b));
                unsafe { stack.add(top).write(distant) };
                top += 1;
                if hits == 0 {
                    code = near as u32;
                    continue;
                }
                let bottom = top - 1;
                let mut nearest = near;
                while hits != 0 {
                    let e = entry(hits.trailing_zeros() as usize & 7);
                    hits &= hits - 1;
                    // The nearest stays aside; insertion keeps the others in order, near ones on top.
                    let (e, n) = (e.max(nearest), e.min(nearest));
                    nearest = n;
                    let mut at = top;
                    unsafe {
                        while at > bottom && stack.add(at - 1).read() < e {
                            stack.add(at).write(stack.add(at - 1).read());
                            at -= 1;
                        }
                        stack.add(at).write(e);
                    }
                    top += 1;
                }
                code = nearest as u32;
            }
            if code != EMPTY && $leaf.test(&ready, code & !LEAF, $best) {
                found = true;
                if $any {
                    break 'all;
                }
            }
            loop {
                if top == 0 {
                    break 'all;
                }
                top -= 1;
                let e = unsafe { stack.add(top).read() };
                if $any || f32::from_bits((e >> 32) as u32) <= $best.distance {
                    code = e as u32;
                    break;
                }
            }
        }
        found
    }};
}

/// Entry distances of a node's children.
#[repr(align(32))]
struct Entries([f32; WIDTH]);

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2,fma")]
fn with_avx2<const ANY: bool>(nodes: &[Node], root: u32, ray: &Ray, best: &mut Hit, leaf: &impl Leaves) -> bool {
    traversal!(nodes, root, ray, wide::Slabs8::new(ray), best, ANY, leaf)
}

fn plain<const ANY: bool>(nodes: &[Node], root: u32, ray: &Ray, best: &mut Hit, leaf: &impl Leaves) -> bool {
    traversal!(nodes, root, ray, Slabs::new(ray), best, ANY, leaf)
}

/// Visits all leaves that may hold something before `best.distance`, near ones first; with `ANY` the first leaf that holds
/// something ends the search.
#[inline]
pub(super) fn traverse<const ANY: bool>(
    nodes: &[Node],
    root: u32,
    ray: &Ray,
    best: &mut Hit,
    leaf: &impl Leaves,
) -> bool {
    if root == EMPTY {
        return false;
    }
    #[cfg(target_arch = "x86_64")]
    if std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma") {
        // SAFETY: the processor has what the function needs.
        return unsafe { with_avx2::<ANY>(nodes, root, ray, best, leaf) };
    }
    plain::<ANY>(nodes, root, ray, best, leaf)
}

/// The same without special instructions, for other processors and for comparison.
#[cfg(test)]
pub(super) fn traverse_plain<const ANY: bool>(
    nodes: &[Node],
    root: u32,
    ray: &Ray,
    best: &mut Hit,
    leaf: &impl Leaves,
) -> bool {
    if root == EMPTY { false } else { plain::<ANY>(nodes, root, ray, best, leaf) }
}
