//! Clean-up of proofs after the fact: nothing is rendered, and the noisy original stays. What it did is told with it.

use crate::memory::{Key, Weighs};
use crate::pictures::{Layer, Look};
use crate::softening::Softening;
use crate::{Workshop, lock};
use fault::{Code, Fault};
use picture::clamps::{ClampAdvice, Taken, suggested};
use picture::denoise::detail::{BLOCK, DetailMap};
use picture::denoise::profile::Profile;
use picture::denoise::{CleanUp, Method, Strays, clean, clean_halves_by, possible, risk, surely_worse};
use picture::grain::{BlockMap, Judging, Measure};
use picture::maps::{GrainLegend, grain_legend, grain_map};
use picture::{Plate, Region, Rgb, View, luminance, mean};
use rayon::prelude::*;
use serde::Serialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tracer::{Film, clean_up_of};
use ts_rs::TS;
use tuning::K;

/// Detail lost that is worth a word: a step and a half of 255.
const WORTH: f64 = 1.5 / 255.0;
/// Share of a block's light that a clamp can take before it is told as much.
const MUCH: f64 = 0.05;
/// Objects that are named.
const NAMED: usize = 3;

/// A proof's picture after its clean-up.
pub(crate) struct Cleaned {
    pub picture: Vec<Rgb>,
    pub halves: [Vec<Rgb>; 2],
    pub seconds: f64,
}

impl Weighs for Cleaned {
    fn bytes(&self) -> usize {
        3 * size_of_val(&*self.picture)
    }
}

/// A running test as it was shown last, when that was, and how long its denoising took.
pub(crate) struct LivePicture {
    proof: i64,
    made: Instant,
    took: Duration,
    picture: Vec<Rgb>,
}

/// Something that lost detail: an object of the scene, or the picture where there are none.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct Softened {
    pub name: String,
    /// Detail lost where it is worst, share of the display range, and the block there.
    pub lost: f64,
    pub region: Region,
    /// Samples a pixel at which the denoiser would about keep it.
    pub keeps_from: u32,
}

/// What the clean-up of a proof does, in figures.
#[derive(Debug, Clone, Serialize, TS)]
pub struct CleanUpView {
    /// The denoiser that was used: regression needs two halves.
    pub used: Option<String>,
    pub seconds: f64,
    /// Grain as displayed before and after: root mean square and worst block.
    pub before: [f64; 2],
    pub after: [f64; 2],
    /// Seconds that the quick denoiser takes, where the careful one surely errs more than that.
    pub quick_is_better: Option<f64>,
    /// Light taken away or added by all of it, share of the whole.
    pub energy: f64,
    /// Share of the blocks that lost more than noise, how much, and who lost it.
    pub detail_share: f64,
    pub detail: GrainLegend,
    pub softened: Vec<Softened>,
    pub strays: Strays,
    /// What the clamps of the render took away; none where there were none.
    pub clamped: Option<Clamped>,
    /// What softened caustics changed; none where they are sharp.
    pub softening: Option<Softening>,
    /// Clamps that would tame the worst block; what takes least comes first.
    pub clamps: Vec<ClampAdvice>,
    /// Of the noisy picture, where it has no guides or is cleaned by its colour alone.
    pub profile: Option<Profile>,
}

/// Light that clamps took, as a share of what there would be.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Clamped {
    /// Of the whole picture, and of the block where it is most.
    pub share: f64,
    pub worst: f64,
    pub region: Region,
    pub legend: GrainLegend,
}

impl Workshop {
    /// The picture of a proof under a look, cleaned up. A running test shows its samples.
    pub(crate) fn cleaned(&self, proof: i64, look: &Look) -> Result<Arc<Cleaned>, Fault> {
        let plate = self.plate(proof)?;
        let running = self.running_test(proof).is_some();
        let how = if running { CleanUp::NONE } else { look.clean };
        let make = || {
            let clock = Instant::now();
            let halves = self.0.screen.install(|| clean_halves_by(&plate, &how, &look.hints));
            let picture = mean(&halves[0], &halves[1]);
            Ok(Cleaned { picture, halves, seconds: clock.elapsed().as_secs_f64() })
        };
        if running || !how.acts() {
            return make().map(Arc::new);
        }
        self.0.memory.get(&Key::Cleaned(proof, format!("{how:?} {:?}", look.hints)), make)
    }

    /// The picture of a running test through the quick denoiser, where its tuning asks for that from so many samples on.
    /// Denoising takes a tenth of the time at most: in between the last one stays.
    pub(crate) fn live_picture(&self, proof: i64, film: &Film) -> Option<Vec<Rgb>> {
        let d = self.description_of(&self.0.store.proof(proof).ok()?).ok()??;
        let from = d.tuning.whole(K::CleanupLive);
        let pixels = d.film_area().area() as u64;
        if from == 0 || film.samples() < from as u64 * pixels || film.frame != d.frame() {
            return None;
        }
        let mut live = lock(&self.0.live_picture);
        if let Some(l) = live.as_ref().filter(|l| l.proof == proof && l.made.elapsed() < 10 * l.took) {
            return Some(l.picture.clone());
        }
        let clock = Instant::now();
        let plate = film.plate();
        let how = CleanUp { stray: clean_up_of(&d.tuning).stray, ..CleanUp::with(Method::Quick, 1.0) };
        let picture = self.0.screen.install(|| clean(&plate, &how));
        *live = Some(LivePicture { proof, made: Instant::now(), took: clock.elapsed(), picture: picture.clone() });
        Some(picture)
    }

    fn detail(&self, proof: i64, look: &Look, plate: &Plate) -> Result<DetailMap, Fault> {
        // Stray pixels are no detail: what is left without them is compared.
        let base = CleanUp { method: None, ..look.clean };
        let (swept, done) = (self.cleaned(proof, &Look { clean: base, ..look.clone() })?, self.cleaned(proof, look)?);
        let ([a, b], [da, db]) = (&swept.halves, &done.halves);
        Ok(self.0.screen.install(|| DetailMap::of(plate.region, &look.view, [a, b], [da, db])))
    }

    /// What the clean-up of a look does to a proof.
    pub fn clean_up(&self, proof: i64, look: &Look) -> Result<CleanUpView, Fault> {
        self.shared(&format!("clean-up {proof} {look:?}"), || self.make_clean_up(proof, look))
    }

    fn make_clean_up(&self, proof: i64, look: &Look) -> Result<CleanUpView, Fault> {
        let plate = self.plate(proof)?;
        let cleaned = self.cleaned(proof, look)?;
        let noise = |halves: [&[Rgb]; 2], judging: Judging| {
            <[f64; 2]>::from(self.0.screen.install(|| BlockMap::of_halves(&plate, halves, &judging)).summary())
        };
        let mut detail = self.detail(proof, look, &plate)?;
        detail.lost = detail.lost.of_rendered(plate.region, &plate.samples);
        let lost = detail.lost.grain.iter().filter(|l| **l > 0.0).count();
        let blocks = detail.lost.pixels.iter().filter(|p| **p > 0).count();
        // By chunks, so that the sum does not depend on who has added what.
        let sum = |p: &[Rgb]| {
            let chunk = |c: &[Rgb]| c.iter().map(|c| luminance(*c) as f64).sum::<f64>();
            self.0.screen.install(|| p.par_chunks(1 << 16).map(chunk).collect::<Vec<f64>>()).into_iter().sum::<f64>()
        };
        let whole = sum(&plate.a) + sum(&plate.b);
        let no_guides = plate.albedo.iter().all(|a| *a == [0.0; 3]);
        Ok(CleanUpView {
            used: possible(&plate, &look.clean).map(|m| m.name().to_string()),
            seconds: cleaned.seconds,
            before: noise([&plate.a, &plate.b], Judging::displayed(look.view)),
            after: noise([&cleaned.halves[0], &cleaned.halves[1]], Judging::delivered(look.view, look.clean)),
            quick_is_better: self.quick_is_better(proof, look, &plate, &cleaned)?,
            energy: if whole > 0.0 { 2.0 * sum(&cleaned.picture) / whole - 1.0 } else { 0.0 },
            detail_share: lost as f64 / blocks.max(1) as f64,
            detail: grain_legend(&detail.lost, Measure::Displayed, plate.region, &plate.samples, WORTH, u32::MAX),
            softened: self.softened(proof, &plate, &detail)?,
            clamped: clamped(&plate),
            softening: self.softening(proof, &plate)?,
            clamps: self.0.screen.install(|| suggested(&plate, &look.view, look.threshold)),
            strays: self.0.screen.install(|| Strays::of(&plate, look.clean.stray)),
            profile: (no_guides || look.clean.method == Some(Method::Colour))
                .then(|| self.0.screen.install(|| Profile::of([&plate.a, &plate.b], plate.region, &look.hints))),
        })
    }

    /// Where the careful denoiser errs more than the quick one, as the halves tell.
    fn quick_is_better(&self, proof: i64, look: &Look, plate: &Plate, careful: &Cleaned) -> Result<Option<f64>, Fault> {
        if possible(plate, &look.clean) != Some(Method::Careful) {
            return Ok(None);
        }
        let clean = CleanUp { method: Some(Method::Quick), ..look.clean };
        let quick = self.cleaned(proof, &Look { clean, ..look.clone() })?;
        let of = |done: &Cleaned| risk([&plate.a, &plate.b], [&done.halves[0], &done.halves[1]], &look.view);
        let [with, without] = self.0.screen.install(|| [of(careful), of(&quick)]);
        Ok(surely_worse(with, without).then_some(quick.seconds))
    }

    /// Objects that lost detail worth a word, the worst first.
    fn softened(&self, proof: i64, plate: &Plate, detail: &DetailMap) -> Result<Vec<Softened>, Fault> {
        let ids = plate.layers.iter().find(|(n, _)| n == "object.id").map(|(_, v)| v);
        let names: Vec<String> = match self.description_of(&self.0.store.proof(proof)?)? {
            Some(d) if ids.is_some() => {
                let stage = self.stage(&(d.scene.clone(), d.environment.clone()), &mut |_| {})?;
                stage.scene.objects.clone()
            }
            _ => Vec::new(),
        };
        let r = plate.region;
        let mut worst: BTreeMap<String, (f64, usize, (u32, u32))> = BTreeMap::new();
        let lossy = detail.lost.grain.iter().enumerate().filter(|(_, lost)| **lost >= WORTH);
        for (block, lost) in lossy {
            let Some(place) = detail.lost.place(block).shared(r) else { continue };
            for (x, y) in (place.y..place.bottom()).flat_map(|y| (place.x..place.right()).map(move |x| (x, y))) {
                let i = ((y - r.y) * r.width + x - r.x) as usize;
                let id = ids.map_or(0, |ids| ids[i] as usize);
                let name = id.checked_sub(1).and_then(|k| names.get(k)).cloned().unwrap_or_default();
                let entry = worst.entry(name).or_insert((0.0, block, (x, y)));
                if *lost > entry.0 {
                    *entry = (*lost, block, (x, y));
                }
            }
        }
        let mut all: Vec<Softened> = worst
            .into_iter()
            .map(|(name, (lost, block, (x, y)))| {
                let own = plate.samples[((y - r.y) * r.width + x - r.x) as usize].max(1) as f64;
                // A denoiser takes what lies below about its noise: the noise must fall to the detail's size.
                let times = (detail.noise[block] / lost).powi(2).max(1.0);
                let (bx, by) = (x / BLOCK * BLOCK, y / BLOCK * BLOCK);
                let region = Region { x: bx, y: by, width: BLOCK, height: BLOCK }.shared(r).unwrap_or(r);
                Softened { name, lost, region, keeps_from: round_up(2.0 * own * times) }
            })
            .collect();
        all.sort_by(|a, b| b.lost.total_cmp(&a.lost));
        all.truncate(NAMED);
        Ok(all)
    }

    /// Colours of a map of the clean-up, one a pixel.
    pub(crate) fn clean_up_map(
        &self,
        proof: i64,
        layer: Layer,
        look: &Look,
        plate: &Plate,
    ) -> Result<Vec<[u8; 3]>, Fault> {
        let r = plate.region;
        if layer == Layer::Clamped {
            let taken = Taken::of(plate).ok_or_else(|| {
                let remedy = "set a clamp and test again";
                Fault::new(Code::NotFound, "no clamp held any light of this proof", format!("proof {proof}"), remedy)
            })?;
            return Ok(grain_map(&taken.blocks, r, &plate.samples, MUCH, u32::MAX));
        }
        if layer == Layer::Detail {
            let detail = self.detail(proof, look, plate)?;
            return Ok(grain_map(&detail.lost, r, &plate.samples, WORTH, u32::MAX));
        }
        let picture = plate.mean();
        let mut out: Vec<[u8; 3]> = picture.iter().map(|c| pale(&look.view, *c)).collect();
        let mut mark = |x: i64, y: i64, colour: [u8; 3]| {
            if x >= 0 && y >= 0 && x < r.width as i64 && y < r.height as i64 {
                out[(y * r.width as i64 + x) as usize] = colour;
            }
        };
        if layer == Layer::Stray {
            for (i, _) in Strays::of(plate, look.clean.stray).found {
                let (x, y) = ((i as u32 % r.width) as i64, (i as u32 / r.width) as i64);
                for (dx, dy) in [(0, 0), (1, 0), (0, 1), (-1, 0), (0, -1)] {
                    mark(x + dx, y + dy, [168, 80, 31]);
                }
            }
        } else {
            for area in &Profile::of([&plate.a, &plate.b], r, &look.hints).areas {
                let a = area.region;
                let colour = if area.struck { [163, 58, 44] } else { [54, 86, 107] };
                let (x0, y0) = ((a.x - r.x) as i64, (a.y - r.y) as i64);
                let (x1, y1) = (x0 + a.width as i64 - 1, y0 + a.height as i64 - 1);
                (x0..=x1).for_each(|x| [y0, y1].into_iter().for_each(|y| mark(x, y, colour)));
                (y0..=y1).for_each(|y| [x0, x1].into_iter().for_each(|x| mark(x, y, colour)));
            }
        }
        Ok(out)
    }
}

fn clamped(plate: &Plate) -> Option<Clamped> {
    let taken = Taken::of(plate)?;
    let legend = grain_legend(&taken.blocks, Measure::Displayed, plate.region, &plate.samples, MUCH, u32::MAX);
    Some(Clamped { share: taken.share, worst: legend.worst_block, region: taken.region, legend })
}

/// A colour washed out, so that marks stand out on it.
fn pale(view: &View, c: Rgb) -> [u8; 3] {
    let grey = luminance(view.display(c));
    [(140.0 + 100.0 * grey) as u8; 3]
}

/// A count of samples people would choose: a multiple of 8.
fn round_up(n: f64) -> u32 {
    ((n / 8.0).ceil() * 8.0).min(65536.0) as u32
}
