//! What a film keeps of each pixel beyond its halves and guides, as a row of floats: signed sums for filters with negative
//! lobes, the last bounces for the tail fill, parts and lights, and the first hit.

use crate::brought::BroughtLayout;
use crate::description::Settings;
use crate::film::{GUIDE_SAMPLES, Sum, Taken, Tile, guide_weight};
use crate::gather::{Sample, part_of};
use glam::Vec3;
use picture::denoise::Split;
use picture::{Rgb, luminance};

/// What a film keeps of each pixel beyond the halves and guides: a row of floats, in this order.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Layout {
    /// For filters with negative lobes: both halves' sums of negative samples with their rounding errors, and their counts.
    pub signed: bool,
    /// For the tail fill: both halves' light of the last bounce, and the light of the one before; with clamps also both halves'
    /// room below their limits.
    pub fill: bool,
    /// Parts and groups: RGB of both halves together, and the luminance of half A less that of half B. With a filter of
    /// negative lobes instead RGB of either half, counted with their signs. Then shadow, first hit and ids.
    pub parts: bool,
    pub kept: Keep,
    /// Luminance that clamps have taken.
    pub clamps: bool,
    /// Of the blocks.
    pub brought: BroughtLayout,
}

/// Parts that can occur in a scene, by their place among [`crate::PART_NAMES`], and its light groups.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Keep {
    pub parts: Vec<usize>,
    pub groups: Vec<String>,
}

impl Keep {
    fn pictures(&self) -> usize {
        self.parts.len() + self.groups.len()
    }
}

const SIGNED: usize = 14;
const FILL: usize = 9;
const ROOM: usize = 2;
/// Both halves' diffuse light, then both halves' reflection and transmission.
const SPLIT: usize = 12;
/// Lit, shadowed, position, normal, albedo, depth, object, material.
const FIRST: usize = 14;

impl Layout {
    pub fn new(s: &Settings, keep: &Keep) -> Layout {
        Layout {
            signed: s.filter.has_negative_lobes(),
            fill: s.fill && s.depth > 0,
            parts: s.parts,
            kept: if s.parts { keep.clone() } else { Keep::default() },
            clamps: s.clamps(),
            brought: BroughtLayout::new(s),
        }
    }

    pub fn fill_at(&self) -> usize {
        if self.signed { SIGNED } else { 0 }
    }

    fn parts_at(&self) -> usize {
        self.fill_at() + if self.fill { FILL + if self.clamps { ROOM } else { 0 } } else { 0 }
    }

    /// Floats of a part or group.
    fn slot(&self) -> usize {
        if self.signed { 6 } else { 4 }
    }

    fn first_at(&self) -> usize {
        self.parts_at() + self.slot() * self.kept.pictures()
    }

    fn split_at(&self) -> usize {
        if self.parts { self.first_at() + FIRST } else { self.parts_at() }
    }

    fn clamped_at(&self) -> usize {
        self.split_at() + SPLIT
    }

    pub fn stride(&self) -> usize {
        self.clamped_at() + self.clamps as usize
    }

    pub fn add(&self, row: &mut [f32], Taken { half, index, negative }: Taken, s: &Sample) {
        if self.signed && negative {
            for (c, x) in s.radiance().to_array().into_iter().enumerate() {
                let mut sum = Sum { high: row[3 * half + c], low: row[6 + 3 * half + c] };
                sum.add(x);
                (row[3 * half + c], row[6 + 3 * half + c]) = (sum.high, sum.low);
            }
            row[12 + half] += 1.0;
        }
        let sign = if self.signed && negative { -1.0 } else { 1.0 };
        let kind = |kind: usize| s.parts[part_of(kind, false)] + s.parts[part_of(kind, true)];
        for (k, light) in [kind(0), kind(1) + kind(2)].into_iter().enumerate() {
            let at = self.split_at() + 6 * k + 3 * half;
            (0..3).for_each(|c| row[at + c] += sign * light[c]);
        }
        if self.clamps {
            row[self.clamped_at()] += s.clamped;
        }
        if self.fill {
            let row = &mut row[self.fill_at()..];
            for c in 0..3 {
                row[3 * half + c] += s.last[0][c];
                row[6 + c] += s.last[1][c];
            }
            if self.clamps {
                row[FILL + half] += s.room;
            }
        }
        if self.parts {
            let (parts, first) = row[self.parts_at()..].split_at_mut(self.slot() * self.kept.pictures());
            let parts_of = self.kept.parts.iter().map(|p| &s.parts[*p]);
            let lights = parts_of.chain(&s.groups[..self.kept.groups.len()]);
            for (slot, light) in parts.chunks_exact_mut(self.slot()).zip(lights) {
                if self.signed {
                    (0..3).for_each(|c| slot[3 * half + c] += sign * light[c]);
                } else {
                    (0..3).for_each(|c| slot[c] += light[c]);
                    slot[3] += if half == 0 { 1.0 } else { -1.0 } * luminance(light.to_array());
                }
            }
            let row = first;
            row[0] += s.lit[0];
            row[1] += s.lit[1];
            if index < GUIDE_SAMPLES {
                let f = &s.first;
                let values = f.position.to_array().into_iter().chain(f.normal.to_array()).chain(f.albedo.to_array());
                for (slot, x) in row[2..].iter_mut().zip(values.chain([f.depth])) {
                    *slot += x;
                }
            }
            // Ids cannot be averaged: those of the very first sample stand for the pixel.
            if index == 0 && half == 0 {
                (row[12], row[13]) = (s.first.object as f32, s.first.material as f32);
            }
        }
    }

    /// Tells the values of the layers of a pixel: means of parts, of the tail and of groups with the luminance of their
    /// half-difference, the share of direct light that is in shadow, and the first hit. `halves` is the picture there.
    pub fn values(&self, row: &[f32], n: u32, halves: [Rgb; 2], tail: &[f32; 3], tell: &mut dyn FnMut(f32)) {
        let filled: [Vec3; 2] = std::array::from_fn(|h| Vec3::from_array(self.filled(row, tail, h, n)));
        let bare: [Vec3; 2] = std::array::from_fn(|h| Vec3::from_array(halves[h]) - filled[h]);
        let slots = &row[self.parts_at()..self.first_at()];
        let negative: [u32; 2] = std::array::from_fn(|h| if self.signed { row[12 + h] as u32 } else { 0 });
        // With signed weights a half's parts are divided by its sum of weights, as the picture is. Where the picture takes its
        // positive lobe alone, they share it in proportion to what they have, evenly where all of it cancels.
        let part = |slot: &[f32], h: usize| Vec3::new(slot[3 * h], slot[3 * h + 1], slot[3 * h + 2]);
        let weight = |slot: &[f32], h: usize| part(slot, h).abs() + 1e-20;
        let tell_slots = |slots: &[f32], tell: &mut dyn FnMut(f32)| {
            if self.signed {
                let factors: [Option<Vec3>; 2] = std::array::from_fn(|h| {
                    let all = || slots.chunks_exact(6).map(|s| weight(s, h)).sum::<Vec3>();
                    (!counts_signed(n, negative[h])).then(|| bare[h] / all())
                });
                for slot in slots.chunks_exact(6) {
                    let half = |h: usize| match factors[h] {
                        Some(factor) => weight(slot, h) * factor,
                        None => part(slot, h) / (n - 2 * negative[h]) as f32,
                    };
                    tell_picture([half(0), half(1)], tell);
                }
            } else {
                let each = 1.0 / (2 * n) as f32;
                slots.iter().for_each(|v| tell(v * each));
            }
        };
        let (parts, groups) = slots.split_at(self.kept.parts.len() * self.slot());
        tell_slots(parts, tell);
        if self.fill {
            tell_picture(filled, tell);
        }
        tell_slots(groups, tell);
        let first = &row[self.first_at()..];
        tell(if first[0] > 0.0 { first[1] / first[0] } else { 0.0 });
        first[2..12].iter().for_each(|v| tell(v * guide_weight(n)));
        tell(first[12]);
        tell(first[13]);
    }

    /// Estimate of a half's light beyond the last bounce.
    pub fn filled(&self, row: &[f32], tail: &[f32; 3], half: usize, n: u32) -> Rgb {
        if !self.fill {
            return [0.0; 3];
        }
        let at = self.fill_at() + 3 * half;
        let filled: Rgb = std::array::from_fn(|c| row[at + c] / n as f32 * tail[c]);
        let most = filled.into_iter().fold(0.0, f32::max);
        let room = if self.clamps { row[self.fill_at() + FILL + half] / n as f32 } else { f32::INFINITY };
        if most > room { filled.map(|v| v * (room / most)) } else { filled }
    }

    /// Halves of the groups of parts that denoisers take apart, of a pixel after n samples a half. `halves` is the picture
    /// there. Diffuse, then reflection with transmission.
    pub fn split(&self, tile: &Tile, tail: &[f32; 3], pixel: usize, n: u32, halves: [Rgb; 2]) -> [[Rgb; 2]; 2] {
        let stride = self.stride();
        let row = &tile.more[pixel * stride..(pixel + 1) * stride];
        let weight: [Rgb; 2] = std::array::from_fn(|h| {
            if !self.signed {
                return [1.0 / n as f32; 3];
            }
            // As much of the picture as of the signed sums.
            let filled = self.filled(row, tail, h, n);
            std::array::from_fn(|c| {
                let sum = tile.pixels[pixel].halves[h][c].high - row[3 * h + c];
                if sum != 0.0 { (halves[h][c] - filled[c]) / sum } else { 0.0 }
            })
        });
        let group = |k: usize, h: usize| -> Rgb {
            std::array::from_fn(|c| row[self.split_at() + 6 * k + 3 * h + c] * weight[h][c])
        };
        [0, 1].map(|k| [group(k, 0), group(k, 1)])
    }

    /// [`Layout::split`] of all pixels of a tile.
    pub fn split_halves(&self, tile: &Tile, tail: &[f32; 3], block: u32, halves: &[Vec<Rgb>; 2]) -> Split {
        let all: Vec<[[Rgb; 2]; 2]> = (0..tile.bounds.area())
            .map(|i| {
                let (x, y) =
                    (tile.bounds.x + i as u32 % tile.bounds.width, tile.bounds.y + i as u32 / tile.bounds.width);
                let n = tile.block_of(x, y, block).n.max(1);
                self.split(tile, tail, i, n, [halves[0][i], halves[1][i]])
            })
            .collect();
        let of = |k: usize| [0, 1].map(|h| all.iter().map(|s| s[k][h]).collect());
        Split { diffuse: of(0), specular: of(1) }
    }

    /// Number of the object that a pixel shows first, plus one; 0 where parts are not kept.
    pub fn object(&self, tile: &Tile, pixel: usize) -> u32 {
        if self.parts { tile.more[pixel * self.stride() + self.first_at() + 12] as u32 } else { 0 }
    }

    /// Mean luminance of a sample that clamps have taken, after n samples a half.
    pub fn clamped(&self, row: &[f32], n: u32) -> f32 {
        row[self.clamped_at()] / (2 * n) as f32
    }

    /// Names of the row's floats in a saved state.
    pub fn names(&self) -> Vec<String> {
        let more = (0..self.split_at()).map(|i| format!("more.{i:03}"));
        let clamped = self.clamps.then(|| CLAMPED_NAME.to_string());
        more.chain((0..SPLIT).map(|i| format!("{SPLIT_NAME}{i:02}"))).chain(clamped).collect()
    }
}

/// How names of the split halves in a saved state begin, and that of what clamps have taken.
const SPLIT_NAME: &str = "split.";
const CLAMPED_NAME: &str = "clamped";

/// Films of older versions come without.
pub(crate) fn may_be_missing(name: &str) -> bool {
    name.starts_with(SPLIT_NAME) || name == CLAMPED_NAME
}

/// Below this count per half, filters with negative lobes count their positive part alone: the ratio of signed sums of few
/// samples is wild.
const SIGNED_FROM: u32 = 16;

/// Whether a half of n samples, so many of them negative, is a ratio of signed sums.
pub(crate) fn counts_signed(n: u32, negative: u32) -> bool {
    n >= SIGNED_FROM && n > 2 * negative
}

/// RGB of the mean of two halves, and the luminance of half their difference.
fn tell_picture([a, b]: [Vec3; 2], tell: &mut dyn FnMut(f32)) {
    (0.5 * (a + b)).to_array().into_iter().for_each(&mut *tell);
    tell(0.5 * luminance((a - b).to_array()));
}
