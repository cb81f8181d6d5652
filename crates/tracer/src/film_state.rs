//! A film's raw state as channels of 32-bit floats and integers, lossless, from which a render goes on bit for bit.

use crate::film::{Film, Pixel, Tile};
use crate::layout::may_be_missing;
use crate::rounds::BlockCount;
use picture::Region;
use picture::files::{Channel, Samples};
use std::sync::atomic::Ordering;

/// Channels of a state file: halves with their rounding errors, hits and guides, all as sums.
const FLOATS: [&str; 19] = [
    "a.R", "a.G", "a.B", "a_low.R", "a_low.G", "a_low.B", "b.R", "b.G", "b.B", "b_low.R", "b_low.G", "b_low.B",
    "albedo.R", "albedo.G", "albedo.B", "normal.X", "normal.Y", "normal.Z", "depth.Z",
];
const WHOLES: [&str; 2] = ["hits_a.Y", "hits_b.Y"];

fn floats_of(p: &mut Pixel) -> [&mut f32; 19] {
    let [a, b] = &mut p.halves;
    let [a0, a1, a2] = a;
    let [b0, b1, b2] = b;
    let [c0, c1, c2] = &mut p.albedo;
    let [n0, n1, n2] = &mut p.normal;
    [
        &mut a0.high,
        &mut a1.high,
        &mut a2.high,
        &mut a0.low,
        &mut a1.low,
        &mut a2.low,
        &mut b0.high,
        &mut b1.high,
        &mut b2.high,
        &mut b0.low,
        &mut b1.low,
        &mut b2.low,
        c0,
        c1,
        c2,
        n0,
        n1,
        n2,
        &mut p.depth,
    ]
}

impl Film {
    /// All raw sums as channels of 32-bit floats and integers, lossless. Superblock by superblock: the channels take as much
    /// as the film, and nothing else is copied.
    pub(crate) fn channels(&self) -> Vec<Channel> {
        let (r, stride) = (self.bounds(), self.layout.stride());
        let mut floats = vec![vec![0.0f32; r.area()]; FLOATS.len()];
        let mut wholes = vec![vec![0u32; r.area()]; WHOLES.len()];
        let mut more = vec![vec![0.0f32; r.area()]; stride];
        for t in 0..self.tiles.len() {
            let t = self.tile(t);
            for (i, p) in t.pixels.iter().enumerate() {
                let to = at(r, t.bounds, i);
                let mut p = *p;
                for (channel, v) in floats.iter_mut().zip(floats_of(&mut p)) {
                    channel[to] = *v;
                }
                for (channel, v) in wholes.iter_mut().zip(p.hits) {
                    channel[to] = v;
                }
            }
            for (i, row) in t.more.chunks_exact(stride).enumerate() {
                let to = at(r, t.bounds, i);
                for (channel, v) in more.iter_mut().zip(row) {
                    channel[to] = *v;
                }
            }
        }
        let floats = FLOATS.iter().zip(floats).map(|(n, v)| Channel::float(n, v));
        let more = self.layout.names().into_iter().zip(more).map(|(n, v)| Channel::float(&n, v));
        floats.chain(more).chain(WHOLES.iter().zip(wholes).map(|(n, v)| Channel::whole(n, v))).collect()
    }

    /// What blocks have brought, as channels of one value a block: columns, rows and the channels.
    pub(crate) fn brought(&self) -> ((u32, u32), Vec<Channel>) {
        let r = self.bounds();
        let (columns, rows) = (r.width.div_ceil(self.block), r.height.div_ceil(self.block));
        let stride = self.layout.brought.stride();
        let mut all = vec![vec![0.0f32; (columns * rows) as usize]; stride];
        for t in 0..self.tiles.len() {
            let t = self.tile(t);
            for (i, row) in t.brought.chunks_exact(stride).enumerate() {
                let to = self.block_at(r, &t, i);
                all.iter_mut().zip(row).for_each(|(channel, v)| channel[to] = *v);
            }
        }
        let names = self.layout.brought.names();
        ((columns, rows), names.iter().zip(all).map(|(n, v)| Channel::float(n, v)).collect())
    }

    /// Position of block `i` of a tile among all blocks.
    fn block_at(&self, r: Region, t: &Tile, i: usize) -> usize {
        let (x, y) = ((t.bounds.x - r.x) / self.block, (t.bounds.y - r.y) / self.block);
        let (bx, by) = (i as u32 % t.columns, i as u32 / t.columns);
        ((y + by) * r.width.div_ceil(self.block) + x + bx) as usize
    }

    /// Fills an empty film from channels and counts; false, with the film as it was, if they are not those of such a film.
    pub(crate) fn refill(&self, channels: &[Channel], brought: &[Channel], counts: &[(u64, Vec<BlockCount>)]) -> bool {
        let fits = |(i, (_, blocks)): (usize, &(u64, Vec<BlockCount>))| self.tile(i).blocks.len() == blocks.len();
        if counts.len() != self.tiles.len() || !counts.iter().enumerate().all(fits) {
            return false;
        }
        self.refilled(channels, brought, counts).is_some()
    }

    fn refilled(&self, channels: &[Channel], brought: &[Channel], counts: &[(u64, Vec<BlockCount>)]) -> Option<()> {
        let r = self.bounds();
        let floats = floats_named(channels, FLOATS, r.area())?;
        let wholes: Vec<&Vec<u32>> = WHOLES
            .iter()
            .map(|n| match channels.iter().find(|c| c.name == *n).map(|c| &c.samples) {
                Some(Samples::Whole(v)) if v.len() == r.area() => Some(v),
                _ => None,
            })
            .collect::<Option<_>>()?;
        // Without split halves all light counts as the rest.
        let dark = vec![0.0; r.area()];
        let there = |n: &String| !may_be_missing(n) || channels.iter().any(|c| c.name == *n);
        let (own, missing): (Vec<String>, Vec<String>) = self.layout.names().into_iter().partition(there);
        let mut more = floats_named(channels, own, r.area())?;
        more.extend(missing.iter().map(|_| &dark));
        let blocks = (r.width.div_ceil(self.block) * r.height.div_ceil(self.block)) as usize;
        // Films of older versions come without: their ledgers start from here.
        let brought = match brought {
            [] => Vec::new(),
            some => floats_named(some, self.layout.brought.names(), blocks).unwrap_or_default(),
        };
        let mut samples = 0;
        for (t, (spent, blocks)) in counts.iter().enumerate() {
            let t = &mut *self.tile(t);
            t.blocks.clone_from(blocks);
            t.spent = *spent;
            // Superblocks that a pilot has not opened need no memory yet.
            if blocks.iter().all(|b| b.n == 0) {
                continue;
            }
            t.fill(&self.layout);
            let (bounds, stride) = (t.bounds, more.len());
            for (i, p) in t.pixels.iter_mut().enumerate() {
                let from = at(r, bounds, i);
                for (v, channel) in floats_of(p).into_iter().zip(&floats) {
                    *v = channel[from];
                }
                p.hits = [wholes[0][from], wholes[1][from]];
            }
            for (i, row) in t.more.chunks_exact_mut(stride).enumerate() {
                let from = at(r, bounds, i);
                row.iter_mut().zip(&more).for_each(|(v, channel)| *v = channel[from]);
            }
            let places: Vec<usize> = (0..blocks.len()).map(|i| self.block_at(r, t, i)).collect();
            for (row, from) in t.brought.chunks_exact_mut(brought.len().max(1)).zip(places) {
                row.iter_mut().zip(&brought).for_each(|(v, channel)| *v = channel[from]);
            }
            let pixels = t.all_block_pixels(self.block);
            samples += blocks.iter().zip(pixels).map(|(b, p)| 2 * b.n as u64 * p as u64).sum::<u64>();
        }
        self.samples.store(samples, Ordering::Relaxed);
        Some(())
    }
}

/// Channels of floats by name, each with so many values; none if one is missing.
fn floats_named<N: AsRef<str>>(
    channels: &[Channel],
    names: impl IntoIterator<Item = N>,
    values: usize,
) -> Option<Vec<&Vec<f32>>> {
    let find = |n: N| match channels.iter().find(|c| c.name == n.as_ref()).map(|c| &c.samples) {
        Some(Samples::Float(v)) if v.len() == values => Some(v),
        _ => None,
    };
    names.into_iter().map(find).collect()
}

/// Position in `all` of pixel `i` of a tile.
fn at(all: Region, tile: Region, i: usize) -> usize {
    let (x, y) = (i as u32 % tile.width, i as u32 / tile.width);
    ((tile.y - all.y + y) * all.width + (tile.x - all.x + x)) as usize
}
