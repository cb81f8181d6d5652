//! The one resumable render: `step` until done, snapshots at any moment, state saved and restored.

mod further;
mod judge;
mod ledger;
mod mattes;
mod report;

pub use further::{Outlook, Plan, Scope, UNLIMITED};
pub use ledger::{
    CausticKind, CausticRow, DEPTHS, Darkened, DepthKind, DepthRow, DepthTable, Ledgers, LightCost, SPLIT_KINDS,
    SplitKind, SplitRow,
};
pub use mattes::MATTE_RAYS;
pub use report::{Moment, Phase, Progress, RayCount, RenderReport};

use crate::arrangement::Arrangement;
use crate::counters::{Counters, KINDS, RayKind};
use crate::description::{Description, SUPERBLOCK, Settings, Strategy};
use crate::fall::Fall;
use crate::film::{Film, Taken, Tile, superblocks};
use crate::interior::Interior;
use crate::memory::free_memory;
use crate::path::{Tally, Tracer};
use crate::pilot::spread;
use crate::pool::thread_time;
use crate::rounds::{BlockCount, Variance, ladder};
use crate::stage::Stage;
use crate::view_rays::{Shutter, ViewRays};
use fault::Fault;
use picture::filter::FilterSampler;
use picture::{Plate, files::Channel, noise::NoiseLedger};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use ts_rs::TS;

/// Nanoseconds that threads spent on pieces of work: by the clock, and on a processor.
#[derive(Debug, Default)]
struct Pace {
    clock: AtomicU64,
    processor: AtomicU64,
}

impl Pace {
    fn count(&self, clock: Duration, processor: u64) {
        self.clock.fetch_add(clock.as_nanos() as u64, Ordering::Relaxed);
        self.processor.fetch_add(processor, Ordering::Relaxed);
    }
}

/// A saved render: raw sums as channels of an OpenEXR file, and the rest as JSON.
pub struct SavedRender {
    pub channels: Vec<Channel>,
    /// Of another file: one value a block, columns × rows of them.
    pub brought: Vec<Channel>,
    pub blocks: (u32, u32),
    pub counts: SavedCounts,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SavedCounts {
    pub tiles: Vec<(u64, Vec<BlockCount>)>,
    pub round: usize,
    pub seconds: f64,
    pub counters: Counters,
    #[serde(default)]
    pub history: Vec<Moment>,
    /// Processor seconds of judging.
    #[serde(default)]
    pub judged: f64,
    /// Grain is that of another judging than the one that stopped the blocks: see [`Render::judged_by`].
    #[serde(default)]
    pub anew: bool,
}

/// Time after which a step ends at the next block.
const SLICE: Duration = Duration::from_millis(250);

/// Films that every render must have room for: while one is put away its channels stand beside it.
const HELD: f64 = 2.0;
/// Bytes that are taken to be free where the system does not say.
const USUAL_MEMORY: f64 = 8e9;

/// Cells of the coarse first pictures, the coarsest last. Large frames begin with one that takes only a moment.
fn looks(pixels: usize, coarsest: u32) -> Vec<u32> {
    let coarsest = if pixels > 200_000 { coarsest } else { coarsest.min(8) };
    [2, 4, 8, 16].into_iter().filter(|cell| *cell <= coarsest).collect()
}

pub struct Render {
    stage: Arc<Stage>,
    arrangement: Arrangement,
    description: Description,
    settings: Settings,
    view: ViewRays,
    filter: FilterSampler,
    film: Arc<Film>,
    pool: Arc<rayon::ThreadPool>,
    rounds: Vec<u32>,
    round: usize,
    /// Cells of the first look, coarse to fine; empty without one.
    looks: Vec<u32>,
    coarse: Vec<picture::Rgb>,
    counters: Counters,
    seconds: f64,
    judged: f64,
    pace: Pace,
    history: Vec<Moment>,
    scope: Scope,
    /// Time that judging a round may take at most; none without a limit.
    judging_limit: Option<Duration>,
    /// The solids that a camera stands in that does not move.
    inside: Option<Interior>,
}

impl Render {
    /// A render of what `description` says, with coarse first pictures if `first_look`. Fails before allocating anything
    /// if the description cannot be rendered.
    pub fn new(
        stage: Arc<Stage>,
        description: Description,
        pool: Arc<rayon::ThreadPool>,
        first_look: bool,
    ) -> Result<Render, Fault> {
        let settings = Settings::of(&description)?;
        let camera = stage.scene.camera(Some(&description.camera))?;
        let arrangement = pool.install(|| Arrangement::new(&stage, &settings, &description.edits))?;
        let motion = match &description.edits.camera_move {
            Some(m) => {
                let open = m.frame + settings.shutter.0;
                let part = |frame: f32| (frame / m.frames).clamp(0.0, 1.0);
                let shutter = Shutter { from: part(open), to: part(open + settings.shutter.1) };
                Some((stage.scene.camera(Some(&m.to))?, shutter))
            }
            None => None,
        };
        let bytes = Film::bytes_per_pixel(&settings, &arrangement.keep) as f64;
        let pixels: u64 = superblocks(settings.area, settings.frame).map(|b| b.area() as u64).sum();
        let (needed, free) = (HELD * bytes * pixels as f64, free_memory().unwrap_or(USUAL_MEMORY));
        if needed > free {
            return Err(Fault::new(
                fault::Code::TooLarge,
                format!("the picture would take {:.1} GB of memory at {bytes} bytes a pixel", needed / 1e9),
                "frame.width",
                format!("choose a smaller frame or region, or switch parts off: {:.1} GB are free", free / 1e9),
            ));
        }
        let stands = motion.is_none();
        let inside = stands.then(|| stage.interior_at(camera.to_world.w_axis.truncate()));
        let looks = if first_look { looks(settings.area.area(), settings.first_pass) } else { Vec::new() };
        Ok(Render {
            view: ViewRays::new(camera, settings.frame, settings.lens, motion),
            filter: FilterSampler::new(settings.filter, settings.filter_radius),
            film: Arc::new(pool.install(|| Film::new(&settings, &arrangement.keep))),
            arrangement,
            rounds: ladder(settings.limits.most),
            round: 0,
            coarse: if looks.is_empty() { Vec::new() } else { vec![[0.0; 3]; settings.area.area()] },
            looks,
            counters: Counters::default(),
            seconds: 0.0,
            judged: 0.0,
            pace: Pace::default(),
            history: Vec::new(),
            scope: Scope::All,
            judging_limit: None,
            inside,
            stage,
            description,
            settings,
            pool,
        })
    }

    /// Forces one strategy on all lights that light rays and scattered rays can both bring, for checks: the mean stays.
    #[doc(hidden)]
    pub fn force(&mut self, strategy: Strategy) {
        self.settings.strategy = strategy;
    }

    pub fn film(&self) -> Arc<Film> {
        self.film.clone()
    }

    pub fn description(&self) -> &Description {
        &self.description
    }

    /// Bytes that a pixel of the film takes.
    pub fn bytes_per_pixel(&self) -> usize {
        Film::bytes_per_pixel(&self.settings, &self.arrangement.keep)
    }

    /// Bytes that the film takes, squares at its edge rounded up.
    pub fn film_bytes(&self) -> u64 {
        let pixels: u64 = superblocks(self.settings.area, self.settings.frame).map(|b| b.area() as u64).sum();
        pixels * self.bytes_per_pixel() as u64
    }

    pub fn done(&self) -> bool {
        self.round >= self.rounds.len()
    }

    /// Rounds that have been judged.
    pub fn round(&self) -> usize {
        self.round
    }

    /// Seconds of sampling so far.
    pub fn seconds(&self) -> f64 {
        self.seconds
    }

    /// Processor seconds that the samples have taken that are there.
    pub(crate) fn processor_seconds(&self) -> f64 {
        (0..self.film.tiles.len()).map(|i| self.film.tile(i).spent as f64 * 1e-9).sum()
    }

    /// By how much longer blocks have taken by the clock than on a processor since this render was made or read: above 1 where
    /// other programs share the processors. Waiting for the last block of a round does not count.
    pub fn slowdown(&self) -> f64 {
        let [clock, processor] = [&self.pace.clock, &self.pace.processor].map(|t| t.load(Ordering::Relaxed) as f64);
        if processor > 0.0 { (clock / processor).max(1.0) } else { 1.0 }
    }

    /// Only coarse pictures have been made yet.
    pub fn is_looking(&self) -> bool {
        !self.coarse.is_empty()
    }

    /// Some block has been judged.
    pub fn knows_grain(&self) -> bool {
        !self.history.is_empty()
    }

    /// Limits the time that the judging of a round may take: blocks that it does not get to go on unjudged.
    pub(crate) fn judge_within(&mut self, limit: Duration) {
        self.judging_limit = Some(limit);
    }

    /// Samples per pixel so far: mean over the pixels rendered.
    pub fn samples_per_pixel(&self) -> f64 {
        let (mut pixels, mut taken) = (0u64, 0.0);
        self.each_block(|tile, [_, k], p| {
            let b = &tile.blocks[k];
            if b.running || b.n > 0 {
                pixels += p;
                taken += p as f64 * b.n as f64;
            }
        });
        2.0 * taken / pixels.max(1) as f64
    }

    /// Some wanted pixel has no sample yet.
    pub fn has_gaps(&self) -> bool {
        let mut gaps = false;
        self.each_block(|tile, [_, k], _| gaps |= tile.blocks[k].n == 0);
        gaps
    }

    /// Works for a short while: one coarse picture, or some samples a pixel. True while there is more to do.
    /// Ends within a few milliseconds when `stop` is set, without losing a finished block.
    pub fn step(&mut self, stop: &AtomicBool) -> bool {
        self.step_for(SLICE, stop)
    }

    /// The same, ending at the next block after `slice`.
    pub fn step_for(&mut self, slice: Duration, stop: &AtomicBool) -> bool {
        if self.done() {
            return false;
        }
        let start = Instant::now();
        let round = self.round;
        let pool = self.pool.clone();
        match self.looks.pop() {
            Some(cell) => pool.install(|| self.look(cell, stop)),
            None => pool.install(|| self.advance(start + slice, stop)),
        }
        self.seconds += start.elapsed().as_secs_f64();
        if self.round != round {
            let p = self.progress();
            if let Some(grain) = p.grain {
                let moment = Moment { seconds: self.seconds, samples_per_pixel: p.samples_per_pixel, grain };
                self.history.push(moment);
            }
        }
        !self.done()
    }

    fn tracer(&self) -> Tracer<'_> {
        Tracer {
            stage: &self.stage,
            settings: &self.settings,
            arrangement: &self.arrangement,
            view: &self.view,
            filter: &self.filter,
            inside: self.inside,
        }
    }

    /// One sample for each cell of `cell` × `cell` pixels; corners that a coarser look has seen are kept.
    fn look(&mut self, cell: u32, stop: &AtomicBool) {
        let area = self.settings.area;
        let tracer = self.tracer();
        let first = looks(area.area(), self.settings.first_pass).last() == Some(&cell);
        let coarse = &self.coarse;
        let rows: Vec<(Vec<picture::Rgb>, Counters)> = (0..area.height.div_ceil(cell))
            .into_par_iter()
            .map(|r| {
                let mut tally = Tally::default();
                let y = r * cell;
                let colours = (0..area.width.div_ceil(cell))
                    .map(|c| {
                        let x = c * cell;
                        let seen = !first && x.is_multiple_of(2 * cell) && y.is_multiple_of(2 * cell);
                        if seen || stop.load(Ordering::Relaxed) {
                            coarse[(y * area.width + x) as usize]
                        } else {
                            tracer.sample(area.x + x, area.y + y, 0, 0, &mut tally).0.radiance().to_array()
                        }
                    })
                    .collect();
                (colours, tally.counters)
            })
            .collect();
        if stop.load(Ordering::Relaxed) {
            return;
        }
        for (r, (colours, counters)) in rows.iter().enumerate() {
            self.counters.add(counters);
            for y in r as u32 * cell..((r as u32 + 1) * cell).min(area.height) {
                for x in 0..area.width {
                    self.coarse[(y * area.width + x) as usize] = colours[(x / cell) as usize];
                }
            }
        }
        self.film.set_coarse(Some((self.coarse.clone(), cell)));
    }

    /// Brings all running blocks a few samples closer to the present round's count, and decides when they are there.
    fn advance(&mut self, end: Instant, stop: &AtomicBool) {
        /// Samples per half that a block takes between two looks at the stop flag's owner.
        const CHUNK: u32 = 4;
        let target = self.rounds[self.round];
        let behind = |film: &Film| (0..film.tiles.len()).filter_map(|i| film.tile(i).behind()).min();
        let Some(least_n) = behind(&self.film) else {
            self.round = self.rounds.len();
            return;
        };
        let upto = (least_n + CHUNK).min(target);
        let tracer = self.tracer();
        let film = &*self.film;
        // Each block is a piece of work of its own: however few superblocks still run, no thread waits long for the last.
        let mut due: Vec<(usize, usize)> =
            (0..film.tiles.len()).flat_map(|i| film.tile(i).below(upto).into_iter().map(move |k| (i, k))).collect();
        if least_n == 0 {
            // The first samples come scattered over every superblock: if time ends before each pixel has one, the gaps are small
            // and lie among pixels that have.
            let columns = SUPERBLOCK.div_ceil(film.block);
            let scattered = |k: usize| {
                let (x, y) = (k as u32 % columns, k as u32 / columns);
                (0..5).fold(0u32, |order, bit| order << 2 | ((x ^ y) >> bit & 1) << 1 | y >> bit & 1)
            };
            let mut by_place: BTreeMap<u32, Vec<(usize, usize)>> = BTreeMap::new();
            for (i, k) in due {
                by_place.entry(scattered(k)).or_default().push((i, k));
            }
            due = by_place.into_values().flatten().collect();
        }
        // Every thread takes the next block until the time is over; what is left then costs nothing, however many blocks that are.
        let next = AtomicUsize::new(0);
        let blocks = |_| {
            let mut counters = Counters::default();
            while !stop.load(Ordering::Relaxed)
                && Instant::now() < end
                && let Some(block) = due.get(next.fetch_add(1, Ordering::Relaxed))
                && let Some(taken) = self.advance_block(&tracer, *block, upto, stop)
            {
                counters.add(&taken);
            }
            counters
        };
        let threads = (0..rayon::current_num_threads()).into_par_iter().with_max_len(1);
        let sum = threads.map(blocks).reduce(Counters::default, |mut a, b| {
            a.add(&b);
            a
        });
        self.counters.add(&sum);
        if stop.load(Ordering::Relaxed) || behind(film).is_some_and(|n| n < target) {
            return;
        }
        if self.judges(target) {
            let tiles = film.tiles.len();
            let limit = self.judging_limit.map(|limit| Instant::now() + limit);
            // Where a limit leaves some out, these lie all over the frame.
            let order = if limit.is_some() { spread(&self.squares()) } else { (0..tiles).collect() };
            let judge = |i: usize| match limit {
                Some(limit) if Instant::now() >= limit => 0.0,
                _ => self.judge_tile(i, target),
            };
            self.judged += order.into_par_iter().with_max_len(1).map(judge).sum::<f64>();
        }
        self.round += 1;
        if self.round == 1 {
            self.coarse = Vec::new();
            self.film.set_coarse(None);
        }
        if (0..film.tiles.len()).all(|i| film.tile(i).blocks.iter().all(|b| !b.running)) {
            self.round = self.rounds.len();
        }
    }

    /// Brings block `k` of superblock `i` to `upto` samples per half, or to its cap; leaves it as it was and returns none when it is
    /// stopped.
    fn advance_block(&self, tracer: &Tracer, (i, k): (usize, usize), upto: u32, stop: &AtomicBool) -> Option<Counters> {
        let mut tally = Tally::default();
        let (clock, began) = (Instant::now(), thread_time());
        let (layout, cap) = (&self.film.layout, self.cap(i, k));
        let upto = upto.min(cap);
        let mut work = self.film.tile(i).lift(layout, k, self.film.block);
        let mut pixel = 0;
        for y in work.bounds.y..work.bounds.bottom() {
            for x in work.bounds.x..work.bounds.right() {
                if stop.load(Ordering::Relaxed) {
                    return None;
                }
                for index in work.blocks[0].n..upto {
                    for half in 0..2u32 {
                        let (s, negative) = tracer.sample(x, y, half, index, &mut tally);
                        work.add(layout, pixel, Taken { half: half as usize, index, negative }, &s);
                    }
                }
                pixel += 1;
            }
        }
        let taken = 2 * (upto - work.blocks[0].n) as u64 * work.bounds.area() as u64;
        (work.blocks[0].n, work.blocks[0].running) = (upto, upto < cap);
        work.bring(layout, 0, &tally.brought);
        work.spent = thread_time() - began;
        self.pace.count(clock.elapsed(), work.spent);
        self.film.tile(i).put_back(layout, k, self.film.block, work);
        self.film.samples.fetch_add(taken, Ordering::Relaxed);
        Some(tally.counters)
    }

    /// Visits every block inside the wanted area by its superblock, with its numbers there, and its number of wanted pixels.
    fn each_block(&self, mut f: impl FnMut(&Tile, [usize; 2], u64)) {
        let area = self.settings.area;
        for i in 0..self.film.tiles.len() {
            let tile = self.film.tile(i);
            for k in 0..tile.blocks.len() {
                let [x0, x1, y0, y1] = tile.block_range(k, self.film.block);
                let overlap = |lo: u32, hi: u32, from: u32, to: u32| hi.min(to).saturating_sub(lo.max(from)) as u64;
                let w = overlap(tile.bounds.x + x0, tile.bounds.x + x1, area.x, area.right());
                let h = overlap(tile.bounds.y + y0, tile.bounds.y + y1, area.y, area.bottom());
                if w * h > 0 {
                    f(&tile, [i, k], w * h);
                }
            }
        }
    }

    /// The state from which [`Render::resume`] goes on, bit for bit.
    pub fn save(&self) -> SavedRender {
        let (blocks, brought) = self.film.brought();
        SavedRender { channels: self.film.channels(), brought, blocks, counts: self.counts() }
    }

    /// Counts and decisions of all blocks, and what else a forecast needs.
    pub fn counts(&self) -> SavedCounts {
        let tile = |i| {
            let tile = self.film.tile(i);
            (tile.spent, tile.blocks.clone())
        };
        SavedCounts {
            tiles: (0..self.film.tiles.len()).map(tile).collect(),
            round: self.round,
            seconds: self.seconds,
            counters: self.counters,
            history: self.history.clone(),
            judged: self.judged,
            anew: false,
        }
    }
}
