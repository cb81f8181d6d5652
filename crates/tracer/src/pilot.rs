//! A pilot: a short render of superblocks that are scattered over the frame, at full resolution, so that its samples count for
//! the final. Sampling in phases (Cochran, Sampling Techniques, ch. 12): many superblocks get a few samples, some of them go on
//! for a while under the final's own rule and some of those to their end, and how far the earlier samples misjudge is read off
//! where more is known.

use crate::description::Limits;
use crate::render::{Progress, Render, Scope};
use crate::rounds::LOOKS;
use picture::Region;
use std::sync::atomic::AtomicBool;

/// Superblocks that a pilot looks at in any case, and how many more are opened at a time or go on together.
const LEAST: usize = 8;
const BATCH: usize = 4;
/// Shares of the time after which the first look at many superblocks ends, and the second one at some of them. Those that go to
/// their end need half of it: broken off they tell little of rare light.
const ENDS: [f64; 2] = [0.3, 0.5];

pub struct PilotRun {
    /// Superblocks in the order in which they are opened.
    order: Vec<usize>,
    opened: usize,
    /// Seconds of sampling that the pilot may take.
    seconds: f64,
    /// Of the final.
    limits: Limits,
    /// Superblocks that go on to the second look, and those to their end.
    looked: usize,
    deep: usize,
    phase: Phase,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    First,
    Second,
    End,
}

impl PilotRun {
    /// Prepares a render of the whole frame, without any sample, for a pilot of so many seconds.
    pub fn new(render: &mut Render, seconds: f64) -> PilotRun {
        let order = spread(&render.squares());
        let limits = render.limits();
        let first = LOOKS[0];
        render.set_limits(Limits { adaptive: false, least: first, most: first.min(limits.most), ..limits });
        let opened = LEAST.min(order.len());
        render.only(some(&order[..opened]));
        PilotRun { order, opened, seconds, limits, looked: 0, deep: 0, phase: Phase::First }
    }

    /// Works for a short while; true while there is more to do.
    pub fn step(&mut self, render: &mut Render, stop: &AtomicBool) -> bool {
        if render.step(stop) {
            return self.phase != Phase::End || render.seconds() < self.seconds;
        }
        // A few at a time, each as far as its phase goes.
        let few = self.few(render);
        let seconds = self.seconds;
        let time_left = |render: &Render, end: f64| render.seconds() < end * seconds;
        if self.phase == Phase::First {
            if time_left(render, ENDS[0]) && self.opened < self.order.len() {
                self.opened = (self.opened + BATCH).min(self.order.len());
                render.only(some(&self.order[..self.opened]));
                return true;
            }
            if self.limits.most <= LOOKS[0] {
                return false;
            }
            self.by_load(render);
            self.phase = Phase::Second;
            render.set_limits(Limits { most: LOOKS[1].min(self.limits.most), ..self.limits });
        }
        if self.phase == Phase::Second {
            if time_left(render, ENDS[1]) && self.looked < self.opened {
                self.looked = (self.looked + few).min(self.opened);
                render.only(some(&self.order[..self.looked]));
                return true;
            }
            self.phase = Phase::End;
            render.set_limits(self.limits);
        } else if !time_left(render, 1.0) || self.deep >= self.opened {
            return false;
        }
        self.deep = (self.deep + few).min(self.opened);
        render.only(some(&self.order[..self.deep]));
        true
    }
}

impl PilotRun {
    /// Superblocks that go on together: more than there are threads, so that none waits for the last.
    fn few(&self, render: &Render) -> usize {
        BATCH.max(render.threads() + 1)
    }

    /// How far it is: by the clock, since how many superblocks go on is found out on the way. What waits for its next look has not
    /// reached the most samples.
    pub fn progress(&self, render: &Render) -> Progress {
        let p = render.progress();
        let share = (p.elapsed / self.seconds.max(1e-3)).min(1.0);
        let remaining = Some((self.seconds - p.elapsed).max(0.0));
        Progress { share, remaining, capped: 0.0, in_a_minute: None, ..p }
    }

    /// Superblocks that have gone on to their end, or are on their way there.
    pub fn deep(&self) -> usize {
        self.deep
    }

    /// Brings the opened superblocks into an order in which each comes with a probability that goes with its expected load, since
    /// errors matter most where much time is spent; and however early it ends, heavy and light ones have their share, since they
    /// are misjudged differently. (A systematic sample with unequal chances: Cochran, ch. 8 and 9A.)
    fn by_load(&mut self, render: &Render) {
        let loads = render.outlook().loads(&self.limits);
        let mut sorted = self.order[..self.opened].to_vec();
        sorted.sort_by(|a, b| loads[*a].total_cmp(&loads[*b]).then(a.cmp(b)));
        let chances: Vec<f64> = sorted.iter().map(|s| loads[*s].max(1e-12)).collect();
        self.order[..self.opened].iter_mut().zip(systematic(&chances)).for_each(|(to, k)| *to = sorted[k]);
    }
}

/// All positions of a list in the order in which the golden ratio's multiples, as places in the sum of its chances, meet them.
fn systematic(chances: &[f64]) -> Vec<usize> {
    let sum = |sum: &mut f64, c: &f64| {
        *sum += c;
        Some(*sum)
    };
    let sums: Vec<f64> = chances.iter().scan(0.0, sum).collect();
    let total = sums.last().copied().unwrap_or(0.0);
    let (mut order, mut met) = (Vec::new(), vec![false; chances.len()]);
    // From the middle on: half less one step of the ratio, and a step each.
    for i in 1..=64 * chances.len() as u32 {
        let point = total * (i as f64 * 0.618_033_988_749_895 - 0.118_033_988_749_895).fract();
        let at = sums.partition_point(|s| *s < point).min(chances.len() - 1);
        if !std::mem::replace(&mut met[at], true) {
            order.push(at);
        }
    }
    // Those that are not met soon follow, likely ones first.
    let mut rest: Vec<usize> = (0..met.len()).filter(|k| !met[*k]).collect();
    rest.sort_by(|a, b| chances[*b].total_cmp(&chances[*a]));
    order.extend(rest);
    order
}

fn some(squares: &[usize]) -> Scope {
    Scope::Squares(squares.iter().copied().collect())
}

/// Superblocks in an order that spreads over their area however early it ends.
pub(crate) fn spread(squares: &[Region]) -> Vec<usize> {
    let columns = squares.iter().take_while(|s| s.y == squares[0].y).count();
    scattered(columns, squares.len() / columns.max(1))
}

/// All cells of a grid in an order that spreads evenly however early it ends: the additive recurrence with the plastic number
/// (Roberts 2018, "The unreasonable effectiveness of quasirandom sequences"), each cell the first time that it is met.
fn scattered(columns: usize, rows: usize) -> Vec<usize> {
    const PLASTIC: f64 = 1.324_717_957_244_746;
    let (mut order, mut met) = (Vec::new(), vec![false; columns * rows]);
    let (mut x, mut y) = (0.5f64, 0.5f64);
    // The sequence meets nearly all cells soon; those that it has not met by then follow in reading order.
    for _ in 0..20 * columns * rows {
        (x, y) = ((x + 1.0 / PLASTIC).fract(), (y + 1.0 / (PLASTIC * PLASTIC)).fract());
        let cell = (y * rows as f64) as usize * columns + (x * columns as f64) as usize;
        if !std::mem::replace(&mut met[cell], true) {
            order.push(cell);
        }
    }
    order.extend((0..met.len()).filter(|i| !met[*i]));
    order
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Nine light ones and one as likely as all of them: the heavy one is among the first three, and the first three light ones lie
    /// apart. Nobody is left out.
    #[test]
    fn the_first_few_are_of_all_kinds() {
        let mut chances = vec![1.0; 9];
        chances.push(9.0);
        let order = systematic(&chances);
        let mut sorted = order.clone();
        sorted.sort_unstable();
        assert_eq!(sorted, (0..10).collect::<Vec<_>>());
        assert!(order[..3].contains(&9), "{order:?}");
        let mut light: Vec<usize> = order.iter().copied().filter(|k| *k < 9).take(3).collect();
        light.sort_unstable();
        assert!(light.windows(2).all(|w| w[1] - w[0] >= 2), "{light:?}");
        // Not even what has no chance to speak of.
        assert_eq!(systematic(&[1e-12, 1.0, 1e-12]).len(), 3);
    }

    #[test]
    fn every_cell_comes_once_and_the_first_ones_are_spread() {
        let order = scattered(20, 12);
        let mut sorted = order.clone();
        sorted.sort_unstable();
        assert_eq!(sorted, (0..240).collect::<Vec<_>>());
        // Of the first 24 cells every quarter of the grid holds its share.
        let quarter = |i: &usize| (i / 20 / 6) * 2 + i % 20 / 10;
        for q in 0..4 {
            let n = order[..24].iter().filter(|i| quarter(i) == q).count();
            assert!((4..=8).contains(&n), "{n} in quarter {q}");
        }
    }
}
