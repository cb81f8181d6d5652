//! Renders that go on: from a saved state, from samples of other renders of the same picture, under other limits, or with
//! some superblocks only.

use super::{Render, SavedRender};
use crate::description::{Description, Limits};
use crate::fall::Fall;
use crate::film::Tile;
use crate::rounds::{BlockCount, Variance, ladder, shown};
use crate::stage::Stage;
use fault::{Code, Fault};
use picture::Region;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use ts_rs::TS;

/// Samples per half that are the most where a budget of time sets the limit.
pub const UNLIMITED: u32 = 1 << 15;

/// Which part of a render goes on.
#[derive(Debug, Clone, PartialEq)]
pub enum Scope {
    All,
    /// Superblocks by their number, row by row.
    Squares(HashSet<usize>),
    /// Blocks that reach into a region of the rendered frame.
    Region(Region),
    /// Every block up to its own count.
    Plan(Plan),
}

/// Samples per half of every block, superblock by superblock: which samples a picture is the sum of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, TS)]
pub struct Plan(Vec<Vec<u32>>);

impl Render {
    /// A new render of the same description that goes on from a saved state.
    pub fn resume(
        stage: Arc<Stage>,
        description: Description,
        pool: Arc<rayon::ThreadPool>,
        saved: &SavedRender,
    ) -> Result<Render, Fault> {
        let mut render = Render::new(stage, description, pool, false)?;
        if !render.film.refill(&saved.channels, &saved.brought, &saved.counts.tiles) {
            return Err(Fault::new(
                Code::Damaged,
                "the saved state does not belong to this render",
                "film",
                "start the render anew",
            ));
        }
        render.round = saved.counts.round;
        render.seconds = saved.counts.seconds;
        render.counters = saved.counts.counters;
        render.history.clone_from(&saved.counts.history);
        render.judged = saved.counts.judged;
        Ok(render)
    }

    /// Takes a saved render up under other limits of samples or another threshold: what was rendered is not rendered again.
    /// At equal counts the samples are those of a render that had these limits from the start, bit for bit.
    pub fn go_on(
        stage: Arc<Stage>,
        description: Description,
        pool: Arc<rayon::ThreadPool>,
        saved: &SavedRender,
    ) -> Result<Render, Fault> {
        let mut render = Render::resume(stage, description, pool, saved)?;
        render.reopen();
        Ok(render)
    }

    /// Takes over the superblocks of another render of the same picture (see [`Description::same_samples`]) where it has
    /// more samples: a region's, a pilot's or another frame's. Blocks that were judged otherwise are judged anew. The number of
    /// samples taken over.
    pub fn take_in(&mut self, from: &Description, saved: &SavedRender) -> Result<u64, Fault> {
        let other = Render::new(self.stage.clone(), from.clone(), self.pool.clone(), false)?;
        let filled = other.film.refill(&saved.channels, &saved.brought, &saved.counts.tiles);
        let had = self.processor_seconds();
        let taken = if filled { self.take_over(&other) } else { 0 };
        if taken > 0 {
            let share = taken as f64 / other.film.samples().max(1) as f64;
            self.counters.add_share(&saved.counts.counters, share);
            // What they would have taken here: others may have disturbed that render, and a superblock may take the place of
            // one that was rendered for less.
            let more = (self.processor_seconds() - had).max(0.0);
            self.seconds += more / self.threads() as f64;
            self.reopen();
        }
        Ok(taken)
    }

    fn take_over(&self, other: &Render) -> u64 {
        let samples = |t: &Tile| -> u64 {
            let pixels = t.all_block_pixels(self.film.block);
            t.blocks.iter().zip(pixels).map(|(b, p)| 2 * b.n as u64 * p as u64).sum()
        };
        if other.film.layout != self.film.layout || other.film.block != self.film.block {
            return 0;
        }
        let corner = |r: Region| (r.x, r.y);
        let places: HashMap<_, _> = self.squares().into_iter().enumerate().map(|(i, r)| (corner(r), i)).collect();
        let worth = |j: usize| {
            let theirs = other.film.tile(j);
            let i = *places.get(&corner(theirs.bounds))?;
            let ours = self.film.tile(i);
            if ours.bounds != theirs.bounds {
                return None;
            }
            let (had, has) = (samples(&ours), samples(&theirs));
            // Blocks of a region's border may be without samples: they are not worth those of the rest.
            let lost = ours.blocks.iter().zip(&theirs.blocks).any(|(a, b)| a.n > b.n);
            (has > had && !lost).then_some((i, j, has - had))
        };
        let worth: Vec<(usize, usize, u64)> = (0..other.film.tiles.len()).filter_map(worth).collect();
        let alike = self.settings.judging.alike(&other.settings.judging);
        self.pool.install(|| {
            worth.par_iter().for_each(|(i, j, _)| {
                let mut theirs = other.film.tile(*j).clone();
                if !alike {
                    theirs.blocks = other.tile_judged_by(&theirs, &self.settings.judging);
                }
                *self.film.tile(*i) = theirs;
            });
        });
        let taken = worth.iter().map(|(.., more)| more).sum();
        self.film.samples.fetch_add(taken, Ordering::Relaxed);
        taken
    }

    /// Superblocks, row by row.
    pub fn squares(&self) -> Vec<Region> {
        (0..self.film.tiles.len()).map(|i| self.film.tile(i).bounds).collect()
    }

    /// Threads that render.
    pub fn threads(&self) -> usize {
        self.pool.current_num_threads()
    }

    /// Lets only a part go on; the rest waits with what it has.
    pub fn only(&mut self, scope: Scope) {
        self.scope = scope;
        self.reopen();
    }

    /// The limits in force.
    pub fn limits(&self) -> Limits {
        self.settings.limits
    }

    /// Goes on under other limits; the description stays as it is.
    pub fn set_limits(&mut self, l: Limits) {
        self.settings.limits = l;
        self.rounds = ladder(l.most);
        self.reopen();
    }

    /// Decides anew which blocks run: those that are wanted, chosen, and not at the end of their limits.
    fn reopen(&mut self) {
        let s = &self.settings;
        for i in 0..self.film.tiles.len() {
            let mut tile = self.film.tile(i);
            for k in 0..tile.blocks.len() {
                let wanted = self.film.wants(&tile, k) && self.in_scope(i, &tile, k);
                let b = &mut tile.blocks[k];
                if b.n == 0 {
                    *b = BlockCount::new(wanted);
                } else {
                    b.reopen(&s.limits);
                    b.running &= wanted;
                }
            }
        }
        // A block that has reached a step and has not been judged there is judged first.
        let begun = |b: &BlockCount| if b.before.1 == b.n { b.n } else { b.n - 1 };
        let of = |t: &Tile| t.blocks.iter().filter(|b| b.running).map(|b| if b.n == 0 { 0 } else { begun(b) }).min();
        let behind = (0..self.film.tiles.len()).filter_map(|i| of(&self.film.tile(i))).min();
        self.round = match behind {
            Some(n) => self.rounds.iter().position(|step| *step > n).unwrap_or(self.rounds.len()),
            None => self.rounds.len(),
        };
    }

    /// Counts of all blocks: the plan of the picture as it is. See [`Render::follow`].
    pub fn plan(&self) -> Plan {
        Plan((0..self.film.tiles.len()).map(|i| self.film.tile(i).blocks.iter().map(|b| b.n).collect()).collect())
    }

    /// Brings every block to the count of a plan and no further, instead of judging: gives the picture of the render whose plan
    /// it is, bit for bit, since a sample depends on its pixel and number alone.
    pub fn follow(&mut self, plan: Plan) -> Result<(), Fault> {
        let fits = plan.0.len() == self.film.tiles.len()
            && plan.0.iter().enumerate().all(|(i, counts)| counts.len() == self.film.tile(i).blocks.len());
        if !fits {
            return Err(Fault::new(
                Code::Damaged,
                "the plan belongs to another frame",
                "plan",
                "take the plan that was written beside this shot's files",
            ));
        }
        if let Some(i) = plan.0.iter().position(|counts| counts.contains(&0)) {
            return Err(Fault::new(
                Code::Damaged,
                format!("superblock {i} has blocks without samples in the plan"),
                "plan",
                "take the plan that was written beside a whole picture",
            ));
        }
        let most = plan.0.iter().flatten().copied().max().unwrap_or(1).max(1);
        self.scope = Scope::Plan(plan);
        self.set_limits(Limits { adaptive: false, least: most, most, ..self.limits() });
        Ok(())
    }

    /// Samples per half at which a block of superblock `i` ends in any case.
    pub(super) fn cap(&self, i: usize, k: usize) -> u32 {
        match &self.scope {
            Scope::Plan(plan) => plan.0[i][k],
            _ => u32::MAX,
        }
    }

    fn in_scope(&self, square: usize, tile: &Tile, k: usize) -> bool {
        match &self.scope {
            Scope::All => true,
            Scope::Squares(chosen) => chosen.contains(&square),
            Scope::Plan(plan) => tile.blocks[k].n < plan.0[square][k],
            Scope::Region(r) => {
                let [x0, x1, y0, y1] = tile.block_range(k, self.film.block);
                let t = tile.bounds;
                Region { x: t.x + x0, y: t.y + y0, width: x1 - x0, height: y1 - y0 }.shared(*r).is_some()
            }
        }
    }

    /// What has been rendered of the part that goes on, for [`Outlook::seconds_to`].
    pub fn outlook(&self) -> Outlook {
        let mut squares = Vec::new();
        let mut spent = 0.0;
        let mut blocks_all = Vec::new();
        for i in 0..self.film.tiles.len() {
            let tile = self.film.tile(i);
            let pixels = tile.all_block_pixels(self.film.block);
            let blocks: Vec<Ahead> = shown(tile.spent, &tile.blocks, &pixels)
                .filter(|s| self.in_scope(i, &tile, s.k))
                .map(|s| {
                    blocks_all.push((*s.block, s.pixels as u64));
                    let sample = 2.0 * s.pixels * s.each;
                    Ahead { n: s.block.n, judged: s.block.judged(), variance: s.variance, sample }
                })
                .collect();
            spent += tile.spent as f64 * 1e-9;
            squares.push(blocks);
        }
        let workers = spent / self.seconds.max(1e-9);
        let threads = self.pool.current_num_threads() as f64;
        Outlook {
            squares,
            fall: Fall::of(blocks_all.iter().map(|(b, p)| (b, *p))),
            workers: if self.seconds > 0.0 { workers.clamp(0.2 * threads, threads) } else { threads },
            least: self.settings.limits.least,
        }
    }
}

/// One block on its way.
struct Ahead {
    n: u32,
    judged: u32,
    variance: Variance,
    /// Processor seconds of a sample in both halves of all its pixels.
    sample: f64,
}

/// What is known of a render that is under way, from which its end under any threshold is foretold.
pub struct Outlook {
    /// Blocks by superblock.
    squares: Vec<Vec<Ahead>>,
    fall: Fall,
    /// Processor seconds that pass in a second.
    workers: f64,
    least: u32,
}

impl Outlook {
    /// Seconds that are still needed until every block is at or below the threshold.
    pub fn seconds_to(&self, threshold: f64, most: u32) -> f64 {
        let stops = self.fall.stops(most, threshold);
        let of = |b: &Ahead| {
            let end = stops.expected(b.variance, b.judged, self.least);
            b.sample * (end - b.n as f64).max(0.0)
        };
        self.squares.iter().flatten().map(of).sum::<f64>() / self.workers
    }

    /// Processor seconds that every superblock is expected to take in all; 0 where nothing is known.
    pub fn loads(&self, limits: &Limits) -> Vec<f64> {
        let stops = self.fall.stops(limits.most, limits.threshold);
        let of = |b: &Ahead| b.sample * stops.expected(b.variance, b.judged, limits.least);
        self.squares.iter().map(|blocks| blocks.iter().map(of).sum()).collect()
    }

    /// The lowest threshold that is reached in so many seconds; between `finest` and 1.
    pub fn threshold_in(&self, seconds: f64, finest: f64, most: u32) -> f64 {
        let (mut low, mut high) = (finest.ln(), 0.0f64);
        if self.seconds_to(finest, most) <= seconds {
            return finest;
        }
        for _ in 0..24 {
            let middle = 0.5 * (low + high);
            if self.seconds_to(middle.exp(), most) > seconds { low = middle } else { high = middle }
        }
        high.exp()
    }
}
