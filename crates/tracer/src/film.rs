//! The film: raw sums of both halves, in tiles that are the superblocks of the frame's grid.
//!
//! Sums are pairs of floats (value and rounding error, Knuth's two-sum), added in the order of sample numbers, so that they
//! neither drift nor depend on how the work was cut. A pixel takes 132 bytes. Tiles are locked one by one: a snapshot never
//! waits for a whole pass and never sees half a tile.

use crate::brought::Brought;
use crate::description::{SUPERBLOCK, Settings};
use crate::gather::{PART_NAMES, Sample};
use crate::layout::{Keep, Layout, counts_signed};
use crate::rounds::BlockCount;
use glam::Vec3;
use picture::clamps::CLAMPED;
use picture::denoise::Split;
use picture::grain::BlockMap;
use picture::{Plate, Region, Rgb};
use rayon::prelude::*;
use std::ops::Range;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

/// Guides are averaged over the first samples only; they need no more.
pub(crate) const GUIDE_SAMPLES: u32 = 64;

pub(crate) fn guide_weight(n: u32) -> f32 {
    1.0 / (2 * n.min(GUIDE_SAMPLES)) as f32
}

/// A sum with its rounding error.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(crate) struct Sum {
    pub high: f32,
    pub low: f32,
}

impl Sum {
    pub fn add(&mut self, x: f32) {
        let s = self.high + x;
        let v = s - self.high;
        let error = (self.high - (s - v)) + (x - v);
        self.high = s;
        self.low += error;
    }

    fn mean(self, n: u32) -> f32 {
        ((self.high as f64 + self.low as f64) / n.max(1) as f64) as f32
    }
}

/// Which sample of a pixel it is.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Taken {
    pub half: usize,
    /// Its number in the half.
    pub index: u32,
    /// Its filter weighs it negatively.
    pub negative: bool,
}

#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(crate) struct Pixel {
    pub(crate) halves: [[Sum; 3]; 2],
    pub(crate) hits: [u32; 2],
    pub(crate) albedo: [f32; 3],
    pub(crate) normal: [f32; 3],
    pub(crate) depth: f32,
}

impl Pixel {
    /// Mean of what the first hits of `n` samples a half tell.
    fn guide(&self, guide: Guide, n: u32) -> Rgb {
        let sum = match guide {
            Guide::Albedo => self.albedo,
            Guide::Normal => self.normal,
            Guide::Depth => [self.depth; 3],
        };
        sum.map(|v| v * guide_weight(n))
    }

    fn add(&mut self, Taken { half, index, negative }: Taken, s: &Sample, signed: bool) {
        if !(negative && signed) {
            for (sum, x) in self.halves[half].iter_mut().zip(s.radiance().to_array()) {
                sum.add(x);
            }
        }
        self.hits[half] += s.covered as u32;
        if index < GUIDE_SAMPLES {
            self.albedo = (Vec3::from_array(self.albedo) + s.albedo).to_array();
            self.normal = (Vec3::from_array(self.normal) + s.normal).to_array();
            self.depth += s.depth;
        }
    }
}

/// One superblock. Blocks inside it stop one by one.
#[derive(Debug, Clone)]
pub(crate) struct Tile {
    pub bounds: Region,
    /// Empty until the first sample, so that a first look need not wait for the memory.
    pub pixels: Vec<Pixel>,
    pub blocks: Vec<BlockCount>,
    /// Blocks a row.
    pub columns: u32,
    /// Processor time spent on this tile, nanoseconds.
    pub spent: u64,
    /// Rows of [`Layout`], pixel by pixel.
    pub(crate) more: Vec<f32>,
    /// Rows of [`BroughtLayout`], block by block.
    pub(crate) brought: Vec<f32>,
}

impl Tile {
    /// Gets the memory for samples.
    pub fn fill(&mut self, layout: &Layout) {
        if self.pixels.is_empty() {
            self.pixels = vec![Pixel::default(); self.bounds.area()];
            self.more = vec![0.0; self.bounds.area() * layout.stride()];
            self.brought = vec![0.0; self.blocks.len() * layout.brought.stride()];
        }
    }

    /// Blocks that still run and have fewer than `n` samples per half.
    pub fn below(&self, n: u32) -> Vec<usize> {
        (0..self.blocks.len()).filter(|k| self.blocks[*k].running && self.blocks[*k].n < n).collect()
    }

    /// A copy of one block, as a tile that holds nothing else and has not cost anything.
    pub fn lift(&mut self, layout: &Layout, k: usize, block: u32) -> Tile {
        self.fill(layout);
        let [x0, x1, y0, y1] = self.block_range(k, block);
        let (stride, brought) = (layout.stride(), layout.brought.stride());
        let rows = || self.block_rows(k, block);
        Tile {
            bounds: Region { x: self.bounds.x + x0, y: self.bounds.y + y0, width: x1 - x0, height: y1 - y0 },
            pixels: rows().flat_map(|r| &self.pixels[r]).copied().collect(),
            blocks: vec![self.blocks[k]],
            columns: 1,
            spent: 0,
            more: rows().flat_map(|r| &self.more[r.start * stride..r.end * stride]).copied().collect(),
            brought: self.brought[k * brought..(k + 1) * brought].to_vec(),
        }
    }

    /// Puts back what [`Tile::lift`] gave, with what has been added to it since.
    pub fn put_back(&mut self, layout: &Layout, k: usize, block: u32, lifted: Tile) {
        let (stride, brought) = (layout.stride(), layout.brought.stride());
        let columns = lifted.bounds.width as usize;
        let rows =
            self.block_rows(k, block).zip(lifted.pixels.chunks(columns).zip(lifted.more.chunks(columns * stride)));
        for (to, (pixels, more)) in rows {
            self.pixels[to.clone()].copy_from_slice(pixels);
            self.more[to.start * stride..to.end * stride].copy_from_slice(more);
        }
        self.brought[k * brought..(k + 1) * brought].copy_from_slice(&lifted.brought);
        self.blocks[k] = lifted.blocks[0];
        self.blocks[k].spent += lifted.spent;
        self.spent += lifted.spent;
    }

    /// Adds what some samples of a block have brought.
    pub fn bring(&mut self, layout: &Layout, block: usize, b: &Brought) {
        let stride = layout.brought.stride();
        layout.brought.add(&mut self.brought[block * stride..(block + 1) * stride], b);
    }

    /// Least samples per half of the blocks that still run; none when all have stopped.
    pub fn behind(&self) -> Option<u32> {
        self.blocks.iter().filter(|b| b.running).map(|b| b.n).min()
    }

    pub fn add(&mut self, layout: &Layout, pixel: usize, taken: Taken, s: &Sample) {
        self.pixels[pixel].add(taken, s, layout.signed);
        let stride = layout.stride();
        layout.add(&mut self.more[pixel * stride..(pixel + 1) * stride], taken, s);
    }

    /// Light beyond the last bounce as a share of the last bounce's light, by channel, from how much the last two bounces of
    /// this superblock brought.
    pub fn tail(&self, layout: &Layout) -> [f32; 3] {
        if !layout.fill {
            return [0.0; 3];
        }
        let (stride, at) = (layout.stride(), layout.fill_at());
        let mut sums = [[0.0f64; 3]; 2];
        for row in self.more.chunks_exact(stride) {
            for c in 0..3 {
                sums[0][c] += (row[at + c] + row[at + 3 + c]) as f64;
                sums[1][c] += row[at + 6 + c] as f64;
            }
        }
        std::array::from_fn(|c| {
            // Light that does not fade would never end: such a scene needs more bounces, not a guess.
            let r = if sums[1][c] > 0.0 { (sums[0][c] / sums[1][c]).min(0.95) } else { 0.0 };
            (r / (1.0 - r)) as f32
        })
    }

    /// Mean radiance of a half of a pixel after n samples, with the tail filled by [`Tile::tail`].
    pub fn mean(&self, layout: &Layout, tail: &[f32; 3], pixel: usize, half: usize, n: u32) -> Rgb {
        let p = &self.pixels[pixel];
        let stride = layout.stride();
        let row = &self.more[pixel * stride..(pixel + 1) * stride];
        let mut out = if layout.signed {
            let negative = row[12 + half] as u32;
            let positive = n - negative.min(n);
            std::array::from_fn(|c| {
                let plus = p.halves[half][c].high as f64 + p.halves[half][c].low as f64;
                let minus = row[3 * half + c] as f64 + row[6 + 3 * half + c] as f64;
                (if counts_signed(n, negative) {
                    (plus - minus) / (positive - negative) as f64
                } else if positive > 0 {
                    plus / positive as f64
                } else {
                    minus / negative.max(1) as f64
                }) as f32
            })
        } else {
            p.halves[half].map(|s| s.mean(n))
        };
        let filled = layout.filled(row, tail, half, n);
        (0..3).for_each(|c| out[c] += filled[c]);
        out
    }

    /// Pixel ranges of a block inside the tile: x from, x to, y from, y to, relative to the tile.
    pub fn block_range(&self, index: usize, block: u32) -> [u32; 4] {
        let (bx, by) = (index as u32 % self.columns * block, index as u32 / self.columns * block);
        [bx, (bx + block).min(self.bounds.width), by, (by + block).min(self.bounds.height)]
    }

    /// Pixels of a block, row by row.
    fn block_rows(&self, index: usize, block: u32) -> impl Iterator<Item = Range<usize>> + use<> {
        let ([x0, x1, y0, y1], width) = (self.block_range(index, block), self.bounds.width);
        (y0..y1).map(move |y| (y * width + x0) as usize..(y * width + x1) as usize)
    }

    pub fn block_pixels(&self, index: usize, block: u32) -> u32 {
        let [x0, x1, y0, y1] = self.block_range(index, block);
        (x1 - x0) * (y1 - y0)
    }

    /// Pixels of every block.
    pub fn all_block_pixels(&self, block: u32) -> Vec<u32> {
        (0..self.blocks.len()).map(|k| self.block_pixels(k, block)).collect()
    }

    pub fn block_of(&self, x: u32, y: u32, block: u32) -> &BlockCount {
        &self.blocks[((y - self.bounds.y) / block * self.columns + (x - self.bounds.x) / block) as usize]
    }
}

/// Whether a block at this place reaches into the area.
fn touches(area: Region, x: u32, y: u32, block: u32) -> bool {
    x < area.right() && x + block > area.x && y < area.bottom() && y + block > area.y
}

/// Superblocks of the frame's grid that an area touches, row by row: the order in which films and their counts keep them.
pub fn superblocks(area: Region, frame: (u32, u32)) -> impl Iterator<Item = Region> {
    let span = |from: u32, to: u32| from / SUPERBLOCK..=(to - 1) / SUPERBLOCK;
    span(area.y, area.bottom()).flat_map(move |ty| {
        span(area.x, area.right()).map(move |tx| {
            let (x, y) = (tx * SUPERBLOCK, ty * SUPERBLOCK);
            Region { x, y, width: SUPERBLOCK.min(frame.0 - x), height: SUPERBLOCK.min(frame.1 - y) }
        })
    })
}

/// What the first hits tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Guide {
    Albedo,
    Normal,
    Depth,
}

/// The coarse first picture, before every pixel has a sample.
struct Coarse {
    pixels: Vec<Rgb>,
    /// Side of the cells that are one sample each.
    cell: u32,
}

/// A coarse picture for the screen: one colour a cell, row by row.
pub struct FirstLook {
    /// The delivered frame, and the part of it that the cells cover.
    pub frame: (u32, u32),
    pub region: Region,
    pub width: u32,
    pub height: u32,
    pub cells: Vec<Rgb>,
}

pub struct Film {
    pub frame: (u32, u32),
    /// What is wanted; tiles may reach beyond it.
    pub area: Region,
    pub(crate) block: u32,
    pub(crate) tiles: Vec<Mutex<Tile>>,
    coarse: Mutex<Option<Coarse>>,
    /// Samples taken so far, both halves.
    pub(crate) samples: AtomicU64,
    pub(crate) layout: Layout,
    /// The delivered frame and the part of it that is wanted.
    delivered: ((u32, u32), Region),
    /// Blocks outside the wanted area matter to those inside it.
    whole_squares: bool,
}

impl Film {
    pub(crate) fn new(s: &Settings, keep: &Keep) -> Film {
        let area = s.area;
        let layout = Layout::new(s, keep);
        let squares: Vec<Region> = superblocks(area, s.frame).collect();
        // Without adaptive decisions or tail fill nothing outside the region matters to it.
        let whole_squares = s.limits.adaptive || s.fill;
        let tiles = squares
            .into_par_iter()
            .map(|bounds| {
                let columns = bounds.width.div_ceil(s.block);
                let rows = bounds.height.div_ceil(s.block);
                let blocks = (0..columns * rows)
                    .map(|i| {
                        let (bx, by) = (bounds.x + i % columns * s.block, bounds.y + i / columns * s.block);
                        BlockCount::new(whole_squares || touches(area, bx, by, s.block))
                    })
                    .collect();
                Mutex::new(Tile {
                    bounds,
                    pixels: Vec::new(),
                    blocks,
                    columns,
                    spent: 0,
                    more: Vec::new(),
                    brought: Vec::new(),
                })
            })
            .collect();
        let (coarse, samples) = (Mutex::new(None), AtomicU64::new(0));
        let delivered = s.delivered;
        Film { frame: s.frame, area, block: s.block, tiles, coarse, samples, layout, delivered, whole_squares }
    }

    /// Whether a block of a tile is to be rendered at all.
    pub(crate) fn wants(&self, tile: &Tile, block: usize) -> bool {
        let [x0, _, y0, _] = tile.block_range(block, self.block);
        self.whole_squares || touches(self.area, tile.bounds.x + x0, tile.bounds.y + y0, self.block)
    }

    /// Bytes that a film of these settings takes for each pixel.
    pub(crate) fn bytes_per_pixel(s: &Settings, keep: &Keep) -> usize {
        let layout = Layout::new(s, keep);
        size_of::<Pixel>() + 4 * layout.stride() + 4 * layout.brought.stride() / (s.block * s.block) as usize
    }

    pub(crate) fn tile(&self, i: usize) -> std::sync::MutexGuard<'_, Tile> {
        // A panic inside a tile's work leaves the tile as it was: work is done on a copy.
        self.tiles[i].lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Samples taken so far, both halves together.
    pub fn samples(&self) -> u64 {
        self.samples.load(Ordering::Relaxed)
    }

    pub(crate) fn set_coarse(&self, look: Option<(Vec<Rgb>, u32)>) {
        *self.coarse.lock().unwrap_or_else(|e| e.into_inner()) = look.map(|(pixels, cell)| Coarse { pixels, cell });
    }

    /// Nothing has been rendered yet, not even coarsely.
    pub fn is_blank(&self) -> bool {
        self.samples() == 0 && self.coarse.lock().unwrap_or_else(|e| e.into_inner()).is_none()
    }

    /// The first look while no sample has been taken: small, so that it is on the screen at once.
    pub fn first_look(&self) -> Option<FirstLook> {
        if self.samples() > 0 || self.frame != self.delivered.0 {
            return None;
        }
        let coarse = self.coarse.lock().unwrap_or_else(|e| e.into_inner());
        let c = coarse.as_ref()?;
        let (width, height) = (self.area.width.div_ceil(c.cell), self.area.height.div_ceil(c.cell));
        let at = |i: u32| c.pixels[(i / width * c.cell * self.area.width + i % width * c.cell) as usize];
        // Cells at the right and the lower border reach beyond the area; the stage clips them.
        let region = Region { width: width * c.cell, height: height * c.cell, ..self.area };
        Some(FirstLook { frame: self.frame, region, width, height, cells: (0..width * height).map(at).collect() })
    }

    /// The mean of both halves alone, for the screen; none where it must be reduced first. What has no sample and no coarse
    /// picture is not a number.
    pub fn mean(&self) -> Option<Vec<Rgb>> {
        if self.frame != self.delivered.0 {
            return None;
        }
        let area = self.area;
        let band = |band: Region| {
            let mut out = self.coarse_rows(band).unwrap_or_else(|| vec![[f32::NAN; 3]; band.area()]);
            self.each_sampled(band, |tile, tail, i, to, n| {
                let half = |h| tile.mean(&self.layout, tail, i, h, n);
                let (a, b) = (half(0), half(1));
                out[to] = std::array::from_fn(|c| 0.5 * (a[c] + b[c]));
            });
            out
        };
        Some(self.in_bands(area, band).concat())
    }

    /// Albedo, normal or depth alone, for the screen, and the samples of each pixel; none where they must be reduced first.
    pub fn guide(&self, guide: Guide) -> Option<(Vec<Rgb>, Vec<u32>)> {
        if self.frame != self.delivered.0 {
            return None;
        }
        let band = |band: Region| {
            let (mut out, mut samples) = (vec![[0.0; 3]; band.area()], vec![0; band.area()]);
            self.each_sampled(band, |tile, _, i, to, n| {
                out[to] = tile.pixels[i].guide(guide, n);
                samples[to] = 2 * n;
            });
            (out, samples)
        };
        let (out, samples): (Vec<_>, Vec<_>) = self.in_bands(self.area, band).into_iter().unzip();
        Some((out.concat(), samples.concat()))
    }

    /// The coarse picture in rows of the film's area; none once every pixel has samples.
    fn coarse_rows(&self, band: Region) -> Option<Vec<Rgb>> {
        let coarse = self.coarse.lock().unwrap_or_else(|e| e.into_inner());
        let pixels = &coarse.as_ref()?.pixels;
        let row = |y: u32| {
            let from = ((y - self.area.y) * self.area.width + band.x - self.area.x) as usize;
            &pixels[from..from + band.width as usize]
        };
        Some((band.y..band.bottom()).flat_map(row).copied().collect())
    }

    /// What a function makes of each row of superblocks of an area, from top to bottom: on all threads of the pool that it is called
    /// in, if there is one.
    fn in_bands<T: Send>(&self, area: Region, f: impl Fn(Region) -> T + Sync) -> Vec<T> {
        let rows = area.y / SUPERBLOCK..area.bottom().div_ceil(SUPERBLOCK);
        let band = |row: u32| {
            let y = area.y.max(row * SUPERBLOCK);
            f(Region { y, height: area.bottom().min((row + 1) * SUPERBLOCK) - y, ..area })
        };
        match rayon::current_thread_index() {
            Some(_) => rows.into_par_iter().map(band).collect(),
            None => rows.map(band).collect(),
        }
    }

    /// The tiles in the rows of superblocks that an area touches.
    fn tiles_in(&self, area: Region) -> Range<usize> {
        let columns = (self.area.right().div_ceil(SUPERBLOCK) - self.area.x / SUPERBLOCK) as usize;
        let row = |y: u32| (y - self.area.y / SUPERBLOCK) as usize * columns;
        row(area.y / SUPERBLOCK)..row(area.bottom().div_ceil(SUPERBLOCK)).min(self.tiles.len())
    }

    /// Grain and samples of the blocks of a part of what is delivered, as sampling knows them: grain as it was judged last, at the
    /// samples that the block has now. Reads the counts alone, so that it costs next to nothing at any size; a block that was never
    /// judged holds no pixels.
    pub fn known_blocks(&self, block: u32, part: Region) -> (BlockMap, Vec<u32>) {
        let (frame, region) = self.delivered;
        let (mut map, mut samples) = (BlockMap::grid(part, block), Vec::new());
        // The pixel of the film under the middle of a delivered one.
        let film = |at: u32, side: u32, of: u32| ((2 * at + 1) as u64 * of as u64 / (2 * side as u64)) as u32;
        let under = |r: Region| -> Region {
            let (x, right) = (film(r.x, frame.0, self.frame.0), film(r.right() - 1, frame.0, self.frame.0));
            let (y, bottom) = (film(r.y, frame.1, self.frame.1), film(r.bottom() - 1, frame.1, self.frame.1));
            Region { x, y, width: right - x + 1, height: bottom - y + 1 }
        };
        let places: Vec<Region> = (0..map.pixels.len()).filter_map(|k| map.place(k).shared(region)).collect();
        let whole = places.iter().copied().reduce(|a, b| {
            let (x, y) = (a.x.min(b.x), a.y.min(b.y));
            Region { x, y, width: a.right().max(b.right()) - x, height: a.bottom().max(b.bottom()) - y }
        });
        let mut own = BlockMap::grid(under(whole.unwrap_or(region)), self.block);
        let mut counts = vec![0; own.pixels.len()];
        let side = self.block;
        let rows = Region { y: own.first.1 * side, height: own.rows * side, ..self.area };
        for i in self.tiles_in(rows.shared(self.bounds()).unwrap_or(self.area)) {
            let tile = self.tile(i);
            for (k, b) in tile.blocks.iter().enumerate() {
                let [x, _, y, _] = tile.block_range(k, side);
                let Some(at) = own.find((tile.bounds.x + x) / side, (tile.bounds.y + y) / side) else { continue };
                counts[at] = 2 * b.n;
                if let Some(grain) = b.grain_now() {
                    (own.grain[at], own.pixels[at]) = (grain, 1);
                }
            }
        }
        let times = (self.frame.0 as f64 * self.frame.1 as f64) / (frame.0 as f64 * frame.1 as f64);
        for (k, place) in places.into_iter().enumerate() {
            // Each block of the film counts by what of it lies under the delivered one: a single one where nothing is reduced.
            let film = under(place);
            let blocks = BlockMap::grid(film, self.block);
            let (mut squares, mut judged, mut taken) = (0.0, 0.0, 0.0);
            for i in 0..blocks.pixels.len() {
                let (x, y) = (blocks.first.0 + i as u32 % blocks.columns, blocks.first.1 + i as u32 / blocks.columns);
                let (Some(at), Some(shared)) = (own.find(x, y), blocks.place(i).shared(film)) else { continue };
                let pixels = shared.area() as f64;
                taken += pixels * counts[at] as f64;
                if own.pixels[at] > 0 {
                    squares += pixels * own.grain[at].powi(2);
                    judged += pixels;
                }
            }
            if judged > 0.0 {
                map.grain[k] = (squares / judged).sqrt();
                map.pixels[k] = place.area() as u32;
            }
            samples.push((taken / film.area() as f64 * times).round() as u32);
        }
        (map, samples)
    }

    /// A small picture of all of it, for lists: of every cell the pixel in its middle; grey where that has no sample.
    pub fn small(&self, (width, height): (u32, u32)) -> Vec<Rgb> {
        let area = self.area;
        let mut out = vec![[0.18; 3]; (width * height) as usize];
        // The cell of a pixel in its middle, along a side of so many pixels in so many cells.
        let cell = |at: u32, side: u32, cells: u32| {
            let k = (at as u64 * cells as u64 / side as u64) as u32;
            let middle = ((2 * k as u64 + 1) * side as u64 / (2 * cells as u64)) as u32;
            (middle == at).then_some(k)
        };
        let columns: Vec<Option<u32>> = (0..area.width).map(|x| cell(x, area.width, width)).collect();
        let rows: Vec<Option<u32>> = (0..area.height).map(|y| cell(y, area.height, height)).collect();
        self.each_sampled(area, |tile, tail, i, to, n| {
            let (x, y) = (to % area.width as usize, to / area.width as usize);
            let (Some(x), Some(y)) = (columns[x], rows[y]) else { return };
            let half = |h| tile.mean(&self.layout, tail, i, h, n);
            let (a, b) = (half(0), half(1));
            out[(y * width + x) as usize] = std::array::from_fn(|c| 0.5 * (a[c] + b[c]));
        });
        out
    }

    /// Visits every pixel of an area that has samples: its tile with the tail's factors, its place there, its place in the
    /// area, and its samples per half.
    fn each_sampled(&self, area: Region, mut f: impl FnMut(&Tile, &[f32; 3], usize, usize, u32)) {
        for i in self.tiles_in(area) {
            let tile = self.tile(i);
            let t = tile.bounds;
            let tail = tile.tail(&self.layout);
            for y in t.y.max(area.y)..t.bottom().min(area.bottom()) {
                for x in t.x.max(area.x)..t.right().min(area.right()) {
                    let n = tile.block_of(x, y, self.block).n;
                    if n > 0 {
                        let i = (y - t.y) * t.width + (x - t.x);
                        let to = (y - area.y) * area.width + (x - area.x);
                        f(&tile, &tail, i as usize, to as usize, n);
                    }
                }
            }
        }
    }

    /// The area that the tiles cover.
    pub fn bounds(&self) -> Region {
        // One lock at a time: the first tile may be the last.
        let first = self.tile(0).bounds;
        let last = self.tile(self.tiles.len() - 1).bounds;
        Region { x: first.x, y: first.y, width: last.right() - first.x, height: last.bottom() - first.y }
    }

    /// The part of the delivered frame that it holds.
    pub fn delivered_region(&self) -> Region {
        self.delivered.1
    }

    /// The present state of the wanted area, on the delivered frame.
    pub fn plate(&self) -> Plate {
        let (frame, region) = self.delivered;
        self.developed(self.area).on_frame(frame, region)
    }

    /// The same of a part of the delivered frame, without what reduction takes from beyond its border.
    pub fn plate_of(&self, part: Region) -> Plate {
        let frame = self.delivered.0;
        let area = picture::footprint(part, frame, self.frame).shared(self.area).unwrap_or(self.area);
        self.developed(area).on_frame(frame, part)
    }

    /// The present state on the rendered frame; pixels without samples show the coarse picture.
    fn developed(&self, area: Region) -> Plate {
        Plate::stacked(area, self.in_bands(area, |band| self.developed_band(band)))
    }

    fn developed_band(&self, area: Region) -> Plate {
        let n = area.area();
        let mut p = Plate {
            frame: self.frame,
            region: area,
            a: vec![[0.0; 3]; n],
            b: vec![[0.0; 3]; n],
            samples: vec![0; n],
            coverage: vec![0.0; n],
            albedo: vec![[0.0; 3]; n],
            normal: vec![[0.0; 3]; n],
            depth: vec![0.0; n],
            split: None,
            layers: self.layer_names().into_iter().map(|name| (name, vec![0.0; n])).collect(),
        };
        if let Some(coarse) = self.coarse_rows(area) {
            p.b.copy_from_slice(&coarse);
            p.a = coarse;
        }
        let dark = || [vec![[0.0; 3]; n], vec![[0.0; 3]; n]];
        let mut split = Split { diffuse: dark(), specular: dark() };
        self.each_sampled(area, |tile, tail, i, to, count| {
            let px = &tile.pixels[i];
            p.a[to] = tile.mean(&self.layout, tail, i, 0, count);
            p.b[to] = tile.mean(&self.layout, tail, i, 1, count);
            let [diffuse, specular] = self.layout.split(tile, tail, i, count, [p.a[to], p.b[to]]);
            for h in 0..2 {
                (split.diffuse[h][to], split.specular[h][to]) = (diffuse[h], specular[h]);
            }
            p.samples[to] = 2 * count;
            p.coverage[to] = ((px.hits[0] + px.hits[1]) as f64 / (2 * count) as f64) as f32;
            p.albedo[to] = px.guide(Guide::Albedo, count);
            p.normal[to] = px.guide(Guide::Normal, count);
            [p.depth[to], ..] = px.guide(Guide::Depth, count);
            let stride = self.layout.stride();
            let row = &tile.more[i * stride..(i + 1) * stride];
            // That of the clamps is the last layer.
            if self.layout.clamps
                && let Some((_, layer)) = p.layers.last_mut()
            {
                layer[to] = self.layout.clamped(row, count);
            }
            if self.layout.parts {
                let halves = [p.a[to], p.b[to]];
                let mut layers = p.layers.iter_mut();
                self.layout.values(row, count, halves, tail, &mut |v| {
                    if let Some(layer) = layers.next() {
                        layer.1[to] = v;
                    }
                });
            }
        });
        p.split = Some(split);
        p
    }

    /// The object that most pixels of a block show first, plus one; 0 where none is known.
    pub(crate) fn object_at(&self, tile: &Tile, block: usize) -> u32 {
        let [x0, x1, y0, y1] = tile.block_range(block, self.block);
        let mut counts = std::collections::BTreeMap::new();
        for y in y0..y1 {
            for x in x0..x1 {
                let object = self.layout.object(tile, (y * tile.bounds.width + x) as usize);
                *counts.entry(object).or_insert(0u32) += 1;
            }
        }
        counts.into_iter().max_by_key(|(_, n)| *n).map_or(0, |(object, _)| object)
    }

    fn layer_names(&self) -> Vec<String> {
        let clamped = self.layout.clamps.then(|| CLAMPED.to_string());
        if !self.layout.parts {
            return clamped.into_iter().collect();
        }
        let tail = self.layout.fill.then(|| "tail".to_string());
        let parts = self.layout.kept.parts.iter().map(|p| PART_NAMES[*p].to_string()).chain(tail);
        let lights = self.layout.kept.groups.iter().map(|g| format!("light {}", g.replace('.', " ")));
        let pictures = parts.chain(lights).flat_map(|n| ["R", "G", "B", "grain"].map(|c| format!("{n}.{c}")));
        let rest = [
            "shadow.Y",
            "position.X",
            "position.Y",
            "position.Z",
            "first_normal.X",
            "first_normal.Y",
            "first_normal.Z",
            "first_albedo.R",
            "first_albedo.G",
            "first_albedo.B",
            "first_depth.Z",
            "object.id",
            "material.id",
        ];
        pictures.chain(rest.map(str::to_string)).chain(clamped).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A plain f32 sum of 65 000 such values is wrong by some 10⁻⁴; the pair must not be.
    #[test]
    fn sums_do_not_drift() {
        let (mut sum, mut exact) = (Sum::default(), 0.0f64);
        for i in 0..65_000u32 {
            let x = 0.1 + (i.wrapping_mul(2_654_435_761) >> 16) as f32 / 65536.0;
            sum.add(x);
            exact += x as f64;
        }
        assert!((sum.mean(65_000) as f64 / (exact / 65_000.0) - 1.0).abs() < 1e-7);
    }
}
