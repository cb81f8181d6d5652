//! Building: binned surface area heuristic (Wald 2007), straight into nodes of eight children by opening the largest child
//! first (Wald, Benthin and Boulos 2008). O(n log n). The tree does not depend on the number of threads.

use super::node::{EMPTY, LEAF, Node, WIDTH};
use glam::Vec4;

const BINS: usize = 16;
/// Items of a leaf. Below it one more item costs nothing, since a pack is tested at once.
const LANES: usize = 4;
/// Ranges of at most so many items are cut at the best of all places instead of between bins.
const SWEPT: usize = 24;
/// Ranges of more items than this are built beside each other.
const PARALLEL: usize = 16_384;
/// From this depth on ranges are halved by number, which bounds the depth and with it the stack of the traversal: seven halvings,
/// always of the range with the most items, make eight of an eighth each.
const DEEPEST: usize = 40;
/// Levels of nodes at most: of 2³² items ten eighths are left with four.
pub(super) const MOST_LEVELS: usize = DEEPEST + 32_usize.div_ceil(3);

/// A box with what it stands for.
#[derive(Clone, Copy)]
pub(super) struct Item {
    /// The fourth lane holds the bits of the number.
    lo: Vec4,
    hi: Vec4,
}

impl Item {
    pub fn new(lo: glam::Vec3, hi: glam::Vec3, id: u32) -> Item {
        Item { lo: lo.extend(f32::from_bits(id)), hi: hi.extend(0.0) }
    }

    pub fn id(&self) -> u32 {
        self.lo.w.to_bits()
    }

    /// Twice the centre.
    fn centre(&self) -> Vec4 {
        self.lo + self.hi
    }
}

#[derive(Clone, Copy)]
struct Bounds {
    lo: Vec4,
    hi: Vec4,
}

impl Bounds {
    const NONE: Bounds = Bounds { lo: Vec4::INFINITY, hi: Vec4::NEG_INFINITY };

    fn grow(&mut self, lo: Vec4, hi: Vec4) {
        self.lo = lo.min(self.lo);
        self.hi = hi.max(self.hi);
    }

    fn half_area(&self) -> f32 {
        let d = (self.hi - self.lo).max(Vec4::ZERO);
        d.x * d.y + d.y * d.z + d.z * d.x
    }
}

/// Some items side by side with the boxes around them and around their centres.
#[derive(Clone, Copy)]
struct Range {
    first: usize,
    count: usize,
    bounds: Bounds,
    centres: Bounds,
}

impl Range {
    fn of(items: &[Item], first: usize, count: usize) -> Range {
        let mut range = Range { first, count, bounds: Bounds::NONE, centres: Bounds::NONE };
        for i in &items[first..first + count] {
            range.bounds.grow(i.lo, i.hi);
            range.centres.grow(i.centre(), i.centre());
        }
        range
    }
}

/// Nodes and leaves of a tree or a part of one.
pub(super) struct Tree<P> {
    pub nodes: Vec<Node>,
    pub leaves: Vec<P>,
    /// Child code of the root.
    pub root: u32,
}

/// Builds over `items`, whose order changes; `leaf` makes a leaf of up to four of them.
pub(super) fn build<P: Send>(items: &mut [Item], leaf: &(impl Fn(&[Item]) -> P + Sync)) -> Tree<P> {
    let range = Range::of(items, 0, items.len());
    let tree = subtree(items, range, 0, leaf);
    // The traversal's stack is as long as this allows, and it does not look.
    assert!(tree.levels() <= MOST_LEVELS, "a tree of {} levels", tree.levels());
    tree
}

impl<P> Tree<P> {
    /// Levels of nodes. Children come after their parents.
    pub fn levels(&self) -> usize {
        let mut level = vec![1u8; self.nodes.len()];
        let mut most = usize::from(!self.nodes.is_empty());
        for (i, n) in self.nodes.iter().enumerate() {
            for c in n.child.iter().filter(|c| **c & LEAF == 0) {
                level[*c as usize] = level[i] + 1;
                most = most.max(level[i] as usize + 1);
            }
        }
        most
    }
}

fn subtree<P: Send>(items: &mut [Item], range: Range, depth: usize, leaf: &(impl Fn(&[Item]) -> P + Sync)) -> Tree<P> {
    let mut tree = Tree { nodes: Vec::new(), leaves: Vec::new(), root: EMPTY };
    if range.count == 0 {
        return tree;
    }
    if range.count <= LANES {
        tree.leaves.push(leaf(&items[range.first..range.first + range.count]));
        tree.root = LEAF;
        return tree;
    }
    tree.root = 0;
    if range.count > PARALLEL {
        let (children, count) = open(items, range, depth);
        // Every child owns a piece of the items of its own.
        let mut rest = items;
        let mut pieces = Vec::new();
        let mut at = 0;
        for c in &children[..count] {
            let (_, tail) = rest.split_at_mut(c.first - at);
            let (piece, tail) = tail.split_at_mut(c.count);
            at = c.first + c.count;
            rest = tail;
            let local = Range { first: 0, ..*c };
            pieces.push((piece, local));
        }
        let parts: Vec<Tree<P>> = {
            use rayon::prelude::*;
            pieces.into_par_iter().map(|(piece, local)| subtree(piece, local, depth + 1, leaf)).collect()
        };
        tree.nodes.push(Node::empty());
        for (k, (part, child)) in parts.into_iter().zip(&children[..count]).enumerate() {
            let (nodes, leaves) = (tree.nodes.len() as u32, tree.leaves.len() as u32);
            let moved = |c: u32| match c {
                EMPTY => EMPTY,
                c if c & LEAF != 0 => c + leaves,
                c => c + nodes,
            };
            tree.nodes[0].set(k, child.bounds.lo, child.bounds.hi, moved(part.root));
            tree.nodes.extend(part.nodes.into_iter().map(|mut n| {
                n.child.iter_mut().for_each(|c| *c = moved(*c));
                n
            }));
            tree.leaves.extend(part.leaves);
        }
    } else {
        node(items, range, depth, leaf, &mut tree);
    }
    tree
}

/// Appends the node of a range of more than four items, with everything below it.
fn node<P>(items: &mut [Item], range: Range, depth: usize, leaf: &impl Fn(&[Item]) -> P, tree: &mut Tree<P>) -> u32 {
    let number = tree.nodes.len() as u32;
    tree.nodes.push(Node::empty());
    let (children, count) = open(items, range, depth);
    let children = &children[..count];
    // Leaves of a node lie side by side.
    for (k, c) in children.iter().enumerate().filter(|(_, c)| c.count <= LANES) {
        tree.leaves.push(leaf(&items[c.first..c.first + c.count]));
        let code = LEAF | (tree.leaves.len() as u32 - 1);
        tree.nodes[number as usize].set(k, c.bounds.lo, c.bounds.hi, code);
    }
    for (k, c) in children.iter().enumerate().filter(|(_, c)| c.count > LANES) {
        let code = node(items, *c, depth + 1, leaf, tree);
        tree.nodes[number as usize].set(k, c.bounds.lo, c.bounds.hi, code);
    }
    number
}

/// Splits a range into up to eight, always the one with the largest surface next, and returns them in the order of their
/// items.
fn open(items: &mut [Item], range: Range, depth: usize) -> ([Range; WIDTH], usize) {
    let mut list = [range; WIDTH];
    let mut count = 1;
    while count < WIDTH {
        let open = (0..count).filter(|k| list[*k].count > LANES);
        let largest = if depth < DEEPEST {
            open.max_by(|a, b| list[*a].bounds.half_area().total_cmp(&list[*b].bounds.half_area()))
        } else {
            open.max_by_key(|k| list[*k].count)
        };
        let Some(k) = largest else { break };
        let (a, b) = split(items, list[k], depth);
        list.copy_within(k + 1..count, k + 2);
        (list[k], list[k + 1]) = (a, b);
        count += 1;
    }
    (list, count)
}

/// Cost of a leaf or of what will become leaves: a pack's test costs the same for one to four items.
fn packs(n: usize) -> f32 {
    n.div_ceil(LANES) as f32
}

/// Cuts a range where the surface area heuristic is least.
fn split(items: &mut [Item], range: Range, depth: usize) -> (Range, Range) {
    let (first, count) = (range.first, range.count);
    if count <= SWEPT && depth < DEEPEST {
        return sweep(items, first, count);
    }
    let part = &mut items[first..first + count];
    let extent = range.centres.hi - range.centres.lo;
    let bins = BINS;
    let scale = Vec4::select(extent.cmpgt(Vec4::ZERO), Vec4::splat(bins as f32 * 0.999_999) / extent, Vec4::ZERO);
    let bin_of = |i: &Item| -> [usize; 3] {
        let t = (i.centre() - range.centres.lo) * scale;
        [t.x as usize, t.y as usize, t.z as usize]
    };
    let mut best: Option<(f32, usize, usize)> = None;
    if depth < DEEPEST && scale.truncate() != glam::Vec3::ZERO {
        let mut boxes = [[Bounds::NONE; BINS]; 3];
        let mut counts = [[0usize; BINS]; 3];
        for i in part.iter() {
            let b = bin_of(i);
            for axis in 0..3 {
                let k = b[axis].min(bins - 1);
                boxes[axis][k].grow(i.lo, i.hi);
                counts[axis][k] += 1;
            }
        }
        for axis in 0..3 {
            if scale[axis] <= 0.0 {
                continue;
            }
            let mut right = [0.0f32; BINS];
            let (mut around, mut n) = (Bounds::NONE, 0);
            for k in (1..bins).rev() {
                around.grow(boxes[axis][k].lo, boxes[axis][k].hi);
                n += counts[axis][k];
                right[k] = if n > 0 { around.half_area() * packs(n) } else { f32::INFINITY };
            }
            let (mut around, mut n) = (Bounds::NONE, 0);
            for k in 1..bins {
                around.grow(boxes[axis][k - 1].lo, boxes[axis][k - 1].hi);
                n += counts[axis][k - 1];
                if n > 0 {
                    let cost = around.half_area() * packs(n) + right[k];
                    if cost < best.map_or(f32::INFINITY, |b| b.0) {
                        best = Some((cost, axis, k));
                    }
                }
            }
        }
    }
    let mut sides = [Range { first, count: 0, bounds: Bounds::NONE, centres: Bounds::NONE }; 2];
    let Some((_, axis, k)) = best else {
        let half = count / 2;
        return (Range::of(items, first, half), Range::of(items, first + half, count - half));
    };
    let mut take = |i: &Item, side: usize| {
        sides[side].count += 1;
        sides[side].bounds.grow(i.lo, i.hi);
        sides[side].centres.grow(i.centre(), i.centre());
    };
    let (mut left, mut right) = (0, part.len());
    while left < right {
        if bin_of(&part[left])[axis].min(bins - 1) < k {
            take(&part[left], 0);
            left += 1;
        } else {
            right -= 1;
            part.swap(left, right);
            take(&part[right], 1);
        }
    }
    sides[1].first = first + sides[0].count;
    (sides[0], sides[1])
}

/// [`split`] for few items: every cut on every axis is tried.
fn sweep(items: &mut [Item], first: usize, count: usize) -> (Range, Range) {
    let part = &mut items[first..first + count];
    let mut best: Option<(f32, usize)> = None;
    let mut order = [part[0]; SWEPT];
    let order = &mut order[..count];
    for axis in 0..3 {
        // Stable, so that the result does not depend on the sorting.
        part.sort_by(|a, b| a.centre()[axis].total_cmp(&b.centre()[axis]));
        let mut right = [0.0f32; SWEPT];
        let mut around = Bounds::NONE;
        for k in (1..count).rev() {
            around.grow(part[k].lo, part[k].hi);
            right[k] = around.half_area() * packs(count - k);
        }
        let mut around = Bounds::NONE;
        let mut found = false;
        for k in 1..count {
            around.grow(part[k - 1].lo, part[k - 1].hi);
            let cost = around.half_area() * packs(k) + right[k];
            if best.is_none_or(|b| cost < b.0) {
                best = Some((cost, k));
                found = true;
            }
        }
        if found {
            order.copy_from_slice(part);
        }
    }
    let cut = best.map_or(count / 2, |b| b.1);
    part.copy_from_slice(order);
    (Range::of(items, first, cut), Range::of(items, first + cut, count - cut))
}
