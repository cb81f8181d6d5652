//! Pictures of proofs, running or ended, in any layer and any view.

use crate::{Legends, Workshop, lock};
use fault::{Code, Fault};
use picture::{Plate, Region, Rgb, Transform, View, denoise, maps};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tracer::Description;
use ts_rs::TS;
use tuning::K;

/// How long a question for a picture waits for the first look.
const PATIENCE: Duration = Duration::from_secs(2);
/// Plates and denoised pictures that stay in memory.
const KEPT: usize = 6;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Layer {
    /// The delivered picture.
    Picture,
    Grain,
    Samples,
    Albedo,
    Normal,
}

/// How a proof is looked at; changing it never renders anything.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Look {
    pub view: View,
    /// Blend of the quick denoiser; none for the noisy picture.
    pub denoise: Option<f64>,
    pub threshold: f64,
}

impl Look {
    /// As the description itself says.
    pub fn of(d: &Description) -> Look {
        let t = &d.tuning;
        Look {
            view: d.view(),
            denoise: (t.name(K::CleanupDenoise) != "none").then(|| t.real(K::CleanupBlend)),
            threshold: t.real(K::SamplingThreshold),
        }
    }
}

/// Bytes for the screen, four a pixel, with the part of the frame that they show.
pub struct Shown {
    pub frame: (u32, u32),
    pub region: Region,
    /// Width and height of the picture in its own pixels: fewer than the region's in a first look.
    pub size: (u32, u32),
    pub rgba: Vec<u8>,
}

impl Shown {
    pub(crate) fn opaque(frame: (u32, u32), region: Region, pixels: impl Iterator<Item = [u8; 3]>) -> Shown {
        let rgba = pixels.flat_map(|c| [c[0], c[1], c[2], 255]).collect();
        Shown { frame, region, size: (region.width, region.height), rgba }
    }
}

/// What is under the pointer.
#[derive(Debug, Clone, Serialize, TS)]
pub struct PixelReadout {
    /// Linear radiance.
    pub value: Rgb,
    /// Display values, steps of 255.
    pub display: Rgb,
    pub samples: u32,
    /// Grain of the block, share of the display range.
    pub grain: f64,
    pub depth: f32,
    /// Side of the block, pixels.
    pub block: u32,
}

fn opaque_bytes(view: &View, c: Rgb) -> [u8; 4] {
    let [r, g, b] = view.bytes(c);
    [r, g, b, 255]
}

/// Samples of a delivered pixel at which a block counts as capped.
fn most_shown(d: &Description) -> u32 {
    let most = d.tuning.whole(K::SamplingMost).next_multiple_of(2) as f64;
    match d.tuning.real(K::FrameOversize) {
        1.0 => most as u32,
        // Reduced counts scatter a little.
        times => (0.97 * most * times * times) as u32,
    }
}

/// Proof and blend in thousandths.
pub(crate) type DenoiseKey = (i64, u32);

impl Workshop {
    pub fn look_of(&self, proof: i64) -> Result<Look, Fault> {
        let row = self.0.store.proof(proof)?;
        match self.description_of(&row)? {
            Some(d) => Ok(Look::of(&d)),
            None => {
                let view = self.picture_view(row.shot, &self.elsewhere(&row)?)?;
                Ok(Look { view, denoise: None, threshold: 0.01 })
            }
        }
    }

    pub(crate) fn remember_plate(&self, proof: i64, plate: Arc<Plate>) {
        let mut plates = lock(&self.0.plates);
        plates.retain(|(id, _)| *id != proof);
        plates.push_back((proof, plate));
        while plates.len() > KEPT {
            plates.pop_front();
        }
    }

    pub(crate) fn forget_plate(&self, proof: i64) {
        lock(&self.0.plates).retain(|(id, _)| *id != proof);
        lock(&self.0.denoised).retain(|((id, _), _)| *id != proof);
    }

    /// The present plate of a proof: from the running film, from memory, or from its file.
    pub(crate) fn plate(&self, proof: i64) -> Result<Arc<Plate>, Fault> {
        if let Some(t) = self.running_test(proof) {
            let film = lock(&t.film).clone().filter(|f| !f.is_blank());
            return film.map(|f| Arc::new(f.plate())).ok_or_else(|| {
                Fault::new(
                    Code::Busy,
                    "the test has no picture yet",
                    format!("proof {proof}"),
                    "it is there in a moment",
                )
            });
        }
        if let Some((_, p)) = lock(&self.0.plates).iter().find(|(id, _)| *id == proof) {
            return Ok(p.clone());
        }
        let row = self.0.store.proof(proof)?;
        let plate = match self.description_of(&row)? {
            Some(_) if self.unsaved(proof).is_some() => Arc::new(self.unsaved_plate(proof)?),
            Some(d) => Arc::new(self.load_render(&d, &self.0.store.proof_folder(proof))?.plate()),
            None => self.load_picture(&row)?,
        };
        self.remember_plate(proof, plate.clone());
        Ok(plate)
    }

    /// The delivered linear picture of a proof under a look.
    pub(crate) fn delivered(&self, proof: i64, look: &Look) -> Result<Arc<Vec<Rgb>>, Fault> {
        let plate = self.plate(proof)?;
        let Some(blend) = look.denoise else { return Ok(Arc::new(plate.mean())) };
        let running = self.running_test(proof).is_some();
        let key = (proof, (blend * 1000.0) as u32);
        if !running && let Some((_, p)) = lock(&self.0.denoised).iter().find(|(k, _)| *k == key) {
            return Ok(p.clone());
        }
        // A running test shows its samples; it is denoised when it has ended.
        if running {
            return Ok(Arc::new(plate.mean()));
        }
        let picture = Arc::new(self.0.screen.install(|| denoise::quick(&plate, blend as f32)));
        let mut kept = lock(&self.0.denoised);
        kept.push_back((key, picture.clone()));
        while kept.len() > KEPT {
            kept.pop_front();
        }
        Ok(picture)
    }

    /// The picture of a test that runs, without developing what is not shown.
    ///
    /// A page may ask as soon as the test has begun: the answer waits for the first look.
    fn show_running(&self, proof: i64, view: View) -> Option<Shown> {
        let asked = Instant::now();
        let film = loop {
            let t = self.running_test(proof)?;
            match lock(&t.film).clone().filter(|f| !f.is_blank()) {
                Some(film) => break film,
                None if asked.elapsed() > PATIENCE => return None,
                None => std::thread::sleep(Duration::from_millis(2)),
            }
        };
        if let Some(l) = film.first_look() {
            let rgba = l.cells.iter().flat_map(|c| opaque_bytes(&view, *c)).collect();
            return Some(Shown { frame: l.frame, region: l.region, size: (l.width, l.height), rgba });
        }
        let mean = film.mean()?;
        let (frame, region) = (film.frame, film.area);
        let bytes = self.0.screen.install(|| mean.par_iter().flat_map_iter(|c| opaque_bytes(&view, *c)).collect());
        Some(Shown { frame, region, size: (region.width, region.height), rgba: bytes })
    }

    pub fn show(&self, proof: i64, layer: Layer, look: &Look) -> Result<Shown, Fault> {
        if layer == Layer::Picture
            && let Some(shown) = self.show_running(proof, look.view)
        {
            return Ok(shown);
        }
        let plate = self.plate(proof)?;
        let row = self.0.store.proof(proof)?;
        let d = self.description_of(&row)?;
        let judged = |d: &Description| (d.view(), d.block(), most_shown(d));
        let (judging, block, most) = d.as_ref().map_or((look.view, 8, u32::MAX), judged);
        let view = look.view;
        let plain = |pixels: &[Rgb], f: &(dyn Fn(Rgb) -> [u8; 3] + Sync)| -> Vec<[u8; 3]> {
            self.0.screen.install(|| pixels.par_iter().map(|c| f(*c)).collect())
        };
        let rgb = match layer {
            Layer::Picture => plain(&self.delivered(proof, look)?, &|c| view.bytes(c)),
            Layer::Grain => {
                // Grain was judged in the description's own view.
                maps::grain_map(&plate, &judging, block, look.threshold, most)
            }
            Layer::Samples => maps::sample_map(&plate),
            Layer::Albedo => plain(&plate.albedo, &|c| View::PLAIN.bytes(c)),
            Layer::Normal => {
                plain(&plate.normal, &|n| n.map(|v| ((v * 0.5 + 0.5).clamp(0.0, 1.0) * 255.0 + 0.5) as u8))
            }
        };
        Ok(Shown::opaque(plate.frame, plate.region, rgb.into_iter()))
    }

    pub fn legends(&self, proof: i64, threshold: f64) -> Result<Legends, Fault> {
        let plate = self.plate(proof)?;
        let (d, _) = self.measured(proof)?;
        let most = most_shown(&d);
        Ok(Legends {
            grain: maps::grain_legend(&plate, &d.view(), d.block(), threshold, most),
            samples: maps::sample_legend(&plate),
        })
    }

    pub fn pixel(&self, proof: i64, x: u32, y: u32, look: &Look) -> Result<PixelReadout, Fault> {
        let plate = self.plate(proof)?;
        let row = self.0.store.proof(proof)?;
        let d = self.description_of(&row)?;
        let (judging, block) = d.as_ref().map_or((look.view, 8), |d| (d.view(), d.block()));
        let r = plate.region;
        Region { x, y, width: 1, height: 1 }.check(plate.frame)?;
        if x < r.x || y < r.y || x >= r.right() || y >= r.bottom() {
            return Err(Fault::new(Code::OutOfRange, "this pixel was not rendered", "x, y", "point inside the region"));
        }
        let i = ((y - r.y) * r.width + (x - r.x)) as usize;
        let value = self.delivered(proof, look)?[i];
        let near = |v: u32, lo: u32, hi: u32| ((v / block * block).max(lo), ((v / block + 1) * block).min(hi));
        let ((x0, x1), (y0, y1)) = (near(x, r.x, r.right()), near(y, r.y, r.bottom()));
        let small = plate.crop(Region { x: x0, y: y0, width: x1 - x0, height: y1 - y0 });
        Ok(PixelReadout {
            value,
            display: look.view.display(value).map(|v| v * 255.0),
            samples: plate.samples[i],
            grain: small.block_grain(&judging, block).at(x, y),
            depth: plate.depth[i],
            block,
        })
    }

    /// The small picture of a proof as PNG bytes.
    pub fn thumbnail(&self, proof: i64) -> Result<Vec<u8>, Fault> {
        let file = self.0.store.proof_folder(proof).join("thumb.png");
        std::fs::read(&file).map_err(|e| Fault::io(format!("proof {proof}"), &e))
    }

    /// A view with parts replaced.
    pub fn view(exposure: Option<f64>, transform: Option<Transform>, from: View) -> View {
        View { exposure: exposure.unwrap_or(from.exposure), transform: transform.unwrap_or(from.transform) }
    }
}
