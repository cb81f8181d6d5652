//! The node of eight children side by side.

use glam::Vec4;

pub(super) const WIDTH: usize = 8;
/// Marks the code of a child that is a leaf; the rest is the leaf's number.
pub(super) const LEAF: u32 = 1 << 31;
/// A child that is not there.
pub(super) const EMPTY: u32 = u32::MAX;

/// Boxes and codes of eight children; a child that is not there has an inverted box, which no ray meets. 256 bytes.
#[derive(Clone)]
#[repr(C, align(64))]
pub(super) struct Node {
    /// In one line of the cache with the first bounds, so that the codes are there once the boxes are tested.
    pub child: [u32; WIDTH],
    /// x lower, x upper, y lower, y upper, z lower, z upper.
    pub bounds: [[f32; WIDTH]; 6],
}

impl Node {
    pub fn empty() -> Node {
        let (up, down) = ([f32::INFINITY; WIDTH], [f32::NEG_INFINITY; WIDTH]);
        Node { bounds: [up, down, up, down, up, down], child: [EMPTY; WIDTH] }
    }

    pub fn set(&mut self, k: usize, lo: Vec4, hi: Vec4, code: u32) {
        for axis in 0..3 {
            self.bounds[2 * axis][k] = lo[axis];
            self.bounds[2 * axis + 1][k] = hi[axis];
        }
        self.child[k] = code;
    }
}
