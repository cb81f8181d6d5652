//! Pictures of a test that renders, and of one that is being put away: from its film, without developing what is not shown.

use super::{Layer, Look, Shown, albedo_bytes, nearness, normal_bytes};
use crate::testing::Running;
use crate::{Workshop, lock};
use fault::{Code, Fault};
use picture::grain::BlockMap;
use picture::{Plate, Region, Rgb, View, maps};
use rayon::prelude::*;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tracer::{Description, Film, Guide};

/// How long a question for a picture waits for the first look.
const PATIENCE: Duration = Duration::from_secs(2);

/// The plate of a running test, and how long it took to develop.
pub(crate) struct LivePlate {
    proof: i64,
    samples: u64,
    made: Instant,
    took: Duration,
    plate: Arc<Plate>,
}

/// Blocks of a running test.
pub(super) struct RunningBlocks {
    frame: (u32, u32),
    pub region: Region,
    pub map: BlockMap,
    /// By block: its samples, and those of blocks that have been judged, for what was never judged has no grain to show.
    samples: Vec<u32>,
    judged: Vec<u32>,
}

impl RunningBlocks {
    /// Samples of the region's pixels, of all or of those that have been judged alone.
    pub fn samples(&self, judged: bool) -> Vec<u32> {
        self.map.spread(if judged { &self.judged } else { &self.samples }, self.region)
    }

    /// As maps of grain or of samples.
    pub fn show(&self, layer: Layer, threshold: f64, most: u32) -> Shown {
        let samples = self.samples(layer == Layer::Grain);
        let rgb = match layer {
            Layer::Grain => maps::grain_map(&self.map, self.region, &samples, threshold, most),
            _ => maps::sample_map(&samples),
        };
        Shown::rendered(self.frame, self.region, &rgb, &samples)
    }
}

fn opaque_bytes(view: &View, c: Rgb) -> [u8; 4] {
    let [r, g, b] = view.bytes(c);
    // What has no sample yet lets the stage through.
    [r, g, b, if c[0].is_nan() { 0 } else { 255 }]
}

fn too_early(proof: i64) -> Fault {
    Fault::new(Code::Busy, "the test has no samples yet", format!("proof {proof}"), "they are there in a moment")
}

impl Workshop {
    /// The film of a test that runs or is being put away, once there is something on it.
    pub(super) fn film_in_memory(&self, proof: i64) -> Option<Arc<Film>> {
        let film = lock(&self.0.films).get(&proof)?.clone();
        (!film.is_blank()).then_some(film)
    }

    pub(super) fn running_film(&self, proof: i64) -> Option<Arc<Film>> {
        self.running_test(proof).and_then(|_| self.film_in_memory(proof))
    }

    /// The plate of a running test. Developing a large film takes a while: a fifth of the time at most, in between the last
    /// plate stays. Of several that ask at once one develops it.
    pub(super) fn live_plate(&self, test: &Running) -> Result<Arc<Plate>, Fault> {
        const REST: u32 = 4;
        let proof = test.proof;
        let film = self.film_in_memory(proof).ok_or_else(|| too_early(proof))?;
        let mut live = lock(&self.0.live_plate);
        let stays =
            |l: &&LivePlate| l.proof == proof && (l.samples == film.samples() || l.made.elapsed() < REST * l.took);
        if let Some(l) = live.as_ref().filter(stays) {
            return Ok(l.plate.clone());
        }
        // The old one goes first: two of a large frame take much memory.
        *live = None;
        let (clock, samples) = (Instant::now(), film.samples());
        let plate = Arc::new(self.0.screen.install(|| film.plate()));
        // One that has ended meanwhile is not kept.
        *live = self.running_test(proof).map(|_| LivePlate {
            proof,
            samples,
            made: Instant::now(),
            took: clock.elapsed(),
            plate: plate.clone(),
        });
        Ok(plate)
    }

    /// Refuses to tell grain and samples of a running test that has none yet: its coarse picture would show no grain at all.
    pub(super) fn has_samples(&self, proof: i64) -> Result<(), Fault> {
        match self.running_film(proof) {
            Some(film) if film.samples() == 0 => Err(too_early(proof)),
            _ => Ok(()),
        }
    }

    /// Grain and samples of the blocks of a running test as sampling knows them, in a part of the frame or in all that it renders; none
    /// before any of them has been judged.
    pub(super) fn running_blocks(&self, proof: i64, d: &Description, part: Option<Region>) -> Option<RunningBlocks> {
        let film = self.running_film(proof)?;
        let region = part.unwrap_or(film.delivered_region());
        let (map, samples) = film.known_blocks(d.judging().block, region);
        let judged: Vec<u32> = samples.iter().zip(&map.pixels).map(|(n, p)| if *p > 0 { *n } else { 0 }).collect();
        map.pixels.iter().any(|p| *p > 0).then(|| RunningBlocks { frame: d.frame(), region, map, samples, judged })
    }

    /// The picture of a test that runs, without developing what is not shown.
    ///
    /// A page may ask as soon as the test has begun: the answer waits for the first look.
    pub(super) fn show_running(&self, proof: i64, look: &Look) -> Option<Shown> {
        let (asked, view) = (Instant::now(), look.view);
        let (film, runs) = loop {
            let (film, runs) = (self.film_in_memory(proof), self.running_test(proof).is_some());
            // One that is being put away is shown like this too, unless it is to be cleaned up.
            if !runs && (film.is_none() || look.clean.acts()) {
                return None;
            }
            match film {
                Some(film) => break (film, runs),
                None if asked.elapsed() > PATIENCE => return None,
                None => std::thread::sleep(Duration::from_millis(2)),
            }
        };
        if let Some(l) = film.first_look() {
            let rgba = l.cells.iter().flat_map(|c| opaque_bytes(&view, *c)).collect();
            return Some(Shown { frame: l.frame, region: l.region, size: (l.width, l.height), rgba });
        }
        let (frame, region) = (film.frame, film.area);
        let denoised = if runs { self.live_picture(proof, &film) } else { None };
        self.0.screen.install(|| {
            let mean = denoised.or_else(|| film.mean())?;
            let rgba = mean.par_iter().map(|c| opaque_bytes(&view, *c)).collect::<Vec<_>>().into_flattened();
            Some(Shown { frame, region, size: (region.width, region.height), rgba })
        })
    }

    /// Albedo, normal or depth of a running test, without developing the rest.
    pub(super) fn running_guide(&self, proof: i64, layer: Layer) -> Option<Shown> {
        let guide = match layer {
            Layer::Albedo => Guide::Albedo,
            Layer::Normal => Guide::Normal,
            Layer::Depth => Guide::Depth,
            _ => return None,
        };
        let film = self.running_film(proof)?;
        self.0.screen.install(|| {
            let (values, samples) = film.guide(guide)?;
            let bytes = |f: &(dyn Fn(Rgb) -> [u8; 3] + Sync)| values.par_iter().map(|c| f(*c)).collect::<Vec<_>>();
            let rgb = match guide {
                Guide::Albedo => bytes(&albedo_bytes),
                Guide::Normal => bytes(&normal_bytes),
                Guide::Depth => {
                    let near = nearness(values.iter().map(|c| c[0]));
                    bytes(&|c| near(c[0]))
                }
            };
            Some(Shown::rendered(film.frame, film.delivered_region(), &rgb, &samples))
        })
    }
}
