//! Traversal: single rays, near children first, with a stack that is sorted by distance and culled when popped.
//! One function uses AVX2; the other does the same with plain arithmetic. Both find the same hits bit for bit: only the
//! test of the boxes differs, and it only ever lets more through.

use super::node::{EMPTY, LEAF, Node, WIDTH};
use super::{Hit, Ray};
use std::mem::MaybeUninit;

/// Seven entries a level; see the bound on the depth in `build`.
const STACK: usize = 384;

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
                let t1 = (distant[k] - o) * (i * ROUNDING);
                // In this order NaN (a ray inside a slab's plane) leaves the interval as it is.
                enter[k] = if t0 > enter[k] { t0 } else { enter[k] };
                leave[k] = if t1 < leave[k] { t1 } else { leave[k] };
            }
        }
        (0..WIDTH).fold(0, |mask, k| mask | ((enter[k] <= leave[k]) as u32) << k)
    }
}

#[cfg(target_arch = "x86_64")]
mod wide {
    use super::*;
    use std::arch::x86_64::*;

    /// [`Slabs`] in registers.
    pub struct Slabs8 {
        origin: [__m256; 3],
        inverse: [__m256; 3],
        inverse_far: [__m256; 3],
        near: [usize; 3],
        far: [usize; 3],
    }

    impl Slabs8 {
        #[inline]
        #[target_feature(enable = "avx2")]
        pub fn new(ray: &Ray) -> Slabs8 {
            let s = Slabs::new(ray);
            Slabs8 {
                origin: [_mm256_set1_ps(s.origin[0]), _mm256_set1_ps(s.origin[1]), _mm256_set1_ps(s.origin[2])],
                inverse: [_mm256_set1_ps(s.inverse[0]), _mm256_set1_ps(s.inverse[1]), _mm256_set1_ps(s.inverse[2])],
                inverse_far: [
                    _mm256_set1_ps(s.inverse[0] * ROUNDING),
                    _mm256_set1_ps(s.inverse[1] * ROUNDING),
                    _mm256_set1_ps(s.inverse[2] * ROUNDING),
                ],
                near: s.near,
                far: s.far,
            }
        }

        #[inline]
        #[target_feature(enable = "avx2")]
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
                t0 = _mm256_max_ps(_mm256_mul_ps(_mm256_sub_ps(near, self.origin[axis]), self.inverse[axis]), t0);
                t1 =
                    _mm256_min_ps(_mm256_mul_ps(_mm256_sub_ps(distant, self.origin[axis]), self.inverse_far[axis]), t1);
            }
            // SAFETY: eight floats.
            unsafe { _mm256_storeu_ps(enter.as_mut_ptr(), t0) };
            _mm256_movemask_ps(_mm256_cmp_ps::<_CMP_LE_OQ>(t0, t1)) as u32
        }
    }
}

/// The body of both traversals. Calls `$leaf` with the number of each leaf that may hold something before `$best.distance`.
macro_rules! traversal {
    ($nodes:expr, $root:expr, $slabs:expr, $best:expr, $any:expr, $leaf:expr) => {{
        let slabs = $slabs;
        let mut stack = [MaybeUninit::<u64>::uninit(); STACK];
        let mut top = 0usize;
        let mut enter = [0.0f32; WIDTH];
        let mut code: u32 = $root;
        let mut found = false;
        'all: loop {
            'down: while code & LEAF == 0 {
                let node: &Node = &$nodes[code as usize];
                let mut hits = slabs.test(node, $best.distance, &mut enter);
                if hits == 0 {
                    code = EMPTY;
                    break 'down;
                }
                let first = hits.trailing_zeros() as usize;
                hits &= hits - 1;
                if hits == 0 {
                    code = node.child[first];
                    continue;
                }
                let entry = |k: usize| (enter[k].to_bits() as u64) << 32 | node.child[k] as u64;
                let second = hits.trailing_zeros() as usize;
                hits &= hits - 1;
                let (a, b) = (entry(first), entry(second));
                if hits == 0 {
                    stack[top].write(a.max(b));
                    top += 1;
                    code = a.min(b) as u32;
                    continue;
                }
                let bottom = top;
                stack[top].write(a.max(b));
                stack[top + 1].write(a.min(b));
                top += 2;
                while hits != 0 {
                    let e = entry(hits.trailing_zeros() as usize);
                    hits &= hits - 1;
                    // Insertion keeps the nearest on top. SAFETY: everything below `top` was written.
                    let mut at = top;
                    while at > bottom && unsafe { stack[at - 1].assume_init() } < e {
                        stack[at] = stack[at - 1];
                        at -= 1;
                    }
                    stack[at].write(e);
                    top += 1;
                }
                top -= 1;
                // SAFETY: as above.
                code = unsafe { stack[top].assume_init() } as u32;
            }
            if code != EMPTY {
                #[allow(clippy::redundant_closure_call)]
                if $leaf(code & !LEAF, $best) {
                    found = true;
                    if $any {
                        break 'all;
                    }
                }
            }
            loop {
                if top == 0 {
                    break 'all;
                }
                top -= 1;
                // SAFETY: as above.
                let e = unsafe { stack[top].assume_init() };
                if f32::from_bits((e >> 32) as u32) <= $best.distance {
                    code = e as u32;
                    break;
                }
            }
        }
        found
    }};
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn with_avx2<const ANY: bool>(
    nodes: &[Node],
    root: u32,
    ray: &Ray,
    best: &mut Hit,
    leaf: impl FnMut(u32, &mut Hit) -> bool,
) -> bool {
    let mut leaf = leaf;
    traversal!(nodes, root, wide::Slabs8::new(ray), best, ANY, leaf)
}

fn plain<const ANY: bool>(
    nodes: &[Node],
    root: u32,
    ray: &Ray,
    best: &mut Hit,
    leaf: impl FnMut(u32, &mut Hit) -> bool,
) -> bool {
    let mut leaf = leaf;
    traversal!(nodes, root, Slabs::new(ray), best, ANY, leaf)
}

/// Visits all leaves that may hold something before `best.distance`, near ones first. `leaf` is given a leaf's number,
/// shortens `best` and tells whether it did; with `ANY` the first such leaf ends the search.
#[inline]
pub(super) fn traverse<const ANY: bool>(
    nodes: &[Node],
    root: u32,
    ray: &Ray,
    best: &mut Hit,
    leaf: impl FnMut(u32, &mut Hit) -> bool,
) -> bool {
    if root == EMPTY {
        return false;
    }
    #[cfg(target_arch = "x86_64")]
    if std::arch::is_x86_feature_detected!("avx2") {
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
    leaf: impl FnMut(u32, &mut Hit) -> bool,
) -> bool {
    if root == EMPTY { false } else { plain::<ANY>(nodes, root, ray, best, leaf) }
}
