//! How far a render is, and its figures.

use super::*;

/// What is being done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Phase {
    Waiting,
    Loading,
    Structure,
    Lights,
    FirstLook,
    Sampling,
    Denoise,
    Writing,
    Done,
    Stopped,
    Failed,
}

/// Grain at a moment of a render.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
pub struct Moment {
    /// Seconds of sampling.
    pub seconds: f64,
    pub samples_per_pixel: f64,
    /// Root mean square displayed grain, share of the display range.
    pub grain: f64,
}

/// How far a render is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct Progress {
    pub phase: Phase,
    /// 0…1 of the sampling.
    pub share: f64,
    /// Samples taken, both halves.
    #[ts(type = "number")]
    pub samples: u64,
    /// Samples per pixel so far: mean over the pixels rendered.
    pub samples_per_pixel: f64,
    /// Seconds of sampling so far.
    pub elapsed: f64,
    /// Predicted seconds of sampling that remain; none before anything can be said.
    pub remaining: Option<f64>,
    /// Root mean square displayed grain, share of the display range; none before two samples a pixel.
    pub grain: Option<f64>,
    pub worst_block: Option<f64>,
    /// Share of the pixels in settled and in capped blocks.
    pub settled: f64,
    pub capped: f64,
    /// Grain that another minute of sampling is expected to leave; none before anything can be said.
    pub in_a_minute: Option<f64>,
    /// Grain after each round.
    pub history: Vec<Moment>,
}

#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
pub struct RayCount {
    pub kind: RayKind,
    #[ts(type = "number")]
    pub rays: u64,
    /// Rays for each sample of the camera: all of them, and those that start at the first hit.
    #[serde(default)]
    pub per_sample: f64,
    #[serde(default)]
    pub first_per_sample: f64,
    /// Share of the sampling time, measured in 1 of 32 samples.
    pub share: f64,
}

/// Figures of a render, finished or stopped.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct RenderReport {
    /// Wall-clock seconds of sampling.
    pub seconds: f64,
    /// Processor seconds of sampling, all threads.
    pub processor_seconds: f64,
    /// Processor seconds of judging the grain after rounds.
    #[serde(default)]
    pub judging_seconds: f64,
    /// Bytes of memory that a rendered pixel takes.
    #[serde(default)]
    pub bytes_per_pixel: usize,
    pub threads: usize,
    #[ts(type = "number")]
    pub samples: u64,
    pub samples_per_pixel: f64,
    pub rays: Vec<RayCount>,
    /// Displayed grain as a share of the display range: root mean square and worst block.
    pub grain: f64,
    pub worst_block: f64,
    pub settled: f64,
    pub capped: f64,
    /// Samples that were not finite and counted as black.
    #[ts(type = "number")]
    pub broken: u64,
    /// Share of the light that clamps took away.
    #[serde(default)]
    pub clamped: f64,
    pub complete: bool,
    /// Grain after each round.
    #[serde(default)]
    pub history: Vec<Moment>,
    /// What bounces and splits cost and bring.
    #[serde(default)]
    pub ledgers: Ledgers,
    /// Who causes the grain; none where no parts were kept.
    #[serde(default)]
    pub noise: Option<NoiseLedger>,
}

impl Render {
    pub fn progress(&self) -> Progress {
        let s = &self.settings;
        let mut blocks = Vec::new();
        // What waits without samples is not part of it: a pilot's superblocks stand for the frame.
        self.each_block(|tile, [i, k], p| blocks.push((tile.blocks[k], p, self.cap(i, k).min(s.limits.most))));
        blocks.retain(|(b, ..)| b.running || b.n > 0);
        let fall = Fall::of(blocks.iter().map(|(b, p, _)| (b, *p)));
        let stops = fall.stops(s.limits.most, s.limits.threshold);
        let (mut pixels, mut settled, mut capped, mut squares, mut known) = (0u64, 0u64, 0u64, 0.0f64, 0u64);
        let (mut worst, mut taken, mut to_come) = (0.0f64, 0.0f64, 0.0f64);
        let (mut open, mut stopped, mut ends) = (0u64, 0.0f64, Vec::new());
        for (b, p, most) in blocks {
            pixels += p;
            taken += p as f64 * b.n as f64;
            if b.grain >= 0.0 {
                let g = b.grain as f64;
                squares += g * g * p as f64;
                known += p;
                worst = worst.max(g);
            }
            if b.settled {
                settled += p;
            } else if !b.running {
                capped += p;
            }
            if b.running {
                let expected = if s.limits.adaptive && b.grain >= 0.0 && b.before.1 > 1 {
                    let (floored, n) = b.before;
                    let shown = Variance { each: (floored as f64).powi(2) * n as f64, floored: floored > b.grain };
                    stops.expected(shown, n, s.limits.least.max(b.n)).min(most as f64)
                } else {
                    most as f64
                };
                to_come += p as f64 * (expected - b.n as f64).max(0.0);
                open += p;
                ends.push((b, p, expected));
            } else if b.grain >= 0.0 {
                stopped += (b.grain as f64).powi(2) * p as f64;
            }
        }
        // Another minute is spread evenly over the blocks that still run.
        let more = 60.0 * taken / self.seconds.max(1e-3) / open.max(1) as f64;
        let later: f64 = ends
            .iter()
            .filter(|(b, ..)| b.grain >= 0.0 && b.n > 0)
            .map(|(b, p, end)| {
                let n = (b.n as f64 + more).min(*end).max(b.n as f64);
                fall.grain_at(b.grain as f64, b.judged() as f64, n).powi(2) * *p as f64
            })
            .sum();
        let share = if taken + to_come > 0.0 { taken / (taken + to_come) } else { 0.0 };
        let of = |n: u64| n as f64 / pixels.max(1) as f64;
        Progress {
            phase: if self.done() {
                Phase::Done
            } else if self.looks.is_empty() {
                Phase::Sampling
            } else {
                Phase::FirstLook
            },
            share,
            samples: self.film.samples(),
            samples_per_pixel: 2.0 * taken / pixels.max(1) as f64,
            elapsed: self.seconds,
            remaining: (taken > 0.0).then(|| self.seconds * to_come / taken),
            grain: (known > 0).then(|| (squares / known as f64).sqrt()),
            worst_block: (known > 0).then_some(worst),
            settled: of(settled),
            capped: of(capped),
            in_a_minute: (known > 0 && self.seconds > 0.0).then(|| ((later + stopped) / known as f64).sqrt()),
            history: self.history.clone(),
        }
    }

    /// The present picture of the wanted area.
    pub fn plate(&self) -> Plate {
        self.film.plate()
    }

    pub fn report(&self) -> RenderReport {
        self.report_of(self.settings.parts.then(|| self.plate()).as_ref())
    }

    /// The same, where the picture has been developed already.
    pub fn report_of(&self, plate: Option<&Plate>) -> RenderReport {
        let p = self.progress();
        RenderReport {
            seconds: self.seconds,
            processor_seconds: self.processor_seconds(),
            judging_seconds: self.judged,
            bytes_per_pixel: self.bytes_per_pixel(),
            threads: self.pool.current_num_threads(),
            samples: p.samples,
            samples_per_pixel: p.samples_per_pixel,
            rays: KINDS
                .iter()
                .map(|kind| {
                    let cost = self.counters.of_kind(*kind);
                    let per_sample = |n: u64| n as f64 / p.samples.max(1) as f64;
                    RayCount {
                        kind: *kind,
                        rays: cost.rays,
                        per_sample: per_sample(cost.rays),
                        first_per_sample: per_sample(self.counters.first[*kind as usize]),
                        share: self.counters.share(cost),
                    }
                })
                .collect(),
            grain: p.grain.unwrap_or(1.0),
            worst_block: p.worst_block.unwrap_or(1.0),
            settled: p.settled,
            capped: p.capped,
            broken: self.counters.broken,
            clamped: self.counters.clamped as f64 / (self.counters.clamped + self.counters.kept).max(1) as f64,
            complete: self.done(),
            history: p.history,
            ledgers: self.ledgers(),
            noise: plate.and_then(|p| self.noise_of(p)),
        }
    }

    /// What parts and lights bring to the noise of a plate, where the render keeps them.
    pub fn noise_of(&self, plate: &Plate) -> Option<NoiseLedger> {
        self.settings.parts.then(|| NoiseLedger::of(plate, &self.settings.view, plate.region)).flatten()
    }
}
