//! Pictures of proofs, running or ended, in any layer and any view.

use crate::memory::Key;
use crate::{Legends, Workshop, lock};
use fault::{Code, Fault};
use picture::denoise::CleanUp;
use picture::denoise::profile::Hints;
use picture::display_checks::clipped;
use picture::grain::{BlockMap, Judging, Measure};
use picture::noise::part_grain;
use picture::{Plate, Region, Rgb, Transform, View, luminance, maps, rendered};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};
use store::ProofKind;
use tracer::{Description, Limits, clean_up_of};
use ts_rs::TS;
use tuning::K;

/// How long a question for a picture waits for the first look.
const PATIENCE: Duration = Duration::from_secs(2);

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Layer {
    /// The delivered picture.
    Picture,
    Grain,
    Samples,
    Albedo,
    Normal,
    /// A part or light alone, by name, and its grain against the threshold.
    Part,
    PartGrain,
    /// Share of the first hits' direct light that is in shadow.
    Shadow,
    Depth,
    /// Where the denoiser took more than noise, stray pixels, and flat areas that tell the noise of a picture.
    Detail,
    Stray,
    Flat,
    /// Share of the light that clamps have taken.
    Clamped,
    /// What a display file cuts off: in one colour at the top of the range, in another at the bottom.
    Clipped,
}

/// How a proof is looked at; changing it never renders anything.
#[derive(Debug, Clone, PartialEq)]
pub struct Look {
    /// The part or light of the layers that show one.
    pub part: String,
    pub view: View,
    pub clean: CleanUp,
    /// What the artist says about flat areas.
    pub hints: Hints,
    pub threshold: f64,
}

impl Look {
    /// As the description itself says.
    pub fn of(d: &Description) -> Look {
        let t = &d.tuning;
        Look {
            part: String::new(),
            view: d.view(),
            clean: clean_up_of(t),
            hints: Hints::default(),
            threshold: Limits::of(t).threshold,
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
    // What has no sample yet lets the stage through.
    [r, g, b, if c[0].is_nan() { 0 } else { 255 }]
}

/// Samples of a delivered pixel at which a block counts as capped.
fn most_shown(d: &Description) -> u32 {
    let most = 2.0 * Limits::of(&d.tuning).most as f64;
    match d.tuning.real(K::FrameOversize) {
        1.0 => most as u32,
        // Reduced counts scatter a little.
        times => (0.97 * most * times * times) as u32,
    }
}

/// How a proof's grain is judged and when a block counts as capped; a picture from elsewhere is judged as it is looked at.
fn judged(d: Option<&Description>, look: &Look) -> (Judging, u32) {
    d.map_or_else(|| (Judging::displayed(look.view), u32::MAX), |d| (d.judging(), most_shown(d)))
}

fn layer_of<'a>(plate: &'a Plate, name: &str) -> Result<&'a [f32], Fault> {
    plate.layers.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_slice()).ok_or_else(|| no_layer(name))
}

fn no_layer(name: &str) -> Fault {
    Fault::new(
        Code::NotFound,
        format!("this proof keeps no picture \"{name}\""),
        "part",
        "switch delivery.parts on and test again, or choose another part",
    )
}

impl Workshop {
    pub fn look_of(&self, proof: i64) -> Result<Look, Fault> {
        let row = self.0.store.proof(proof)?;
        match self.description_of(&row)? {
            // A reference is what others are measured against: as it was rendered, unless somebody asks for more.
            Some(d) if row.kind == ProofKind::Reference => Ok(Look { clean: CleanUp::NONE, ..Look::of(&d) }),
            Some(d) => Ok(Look::of(&d)),
            None => {
                let view = self.picture_view(row.shot, &self.elsewhere(&row)?)?;
                Ok(Look { part: String::new(), view, clean: CleanUp::NONE, hints: Hints::default(), threshold: 0.01 })
            }
        }
    }

    pub(crate) fn remember_plate(&self, proof: i64, plate: Arc<Plate>) {
        self.0.memory.forget_proof(proof);
        self.0.memory.put(Key::Plate(proof), plate);
    }

    pub(crate) fn forget_plate(&self, proof: i64) {
        self.0.memory.forget_proof(proof);
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
        self.0.memory.get(&Key::Plate(proof), || {
            let row = self.0.store.proof(proof)?;
            match self.description_of(&row)? {
                Some(_) if self.unsaved(proof).is_some() => self.unsaved_plate(proof),
                Some(d) => Ok(self.load_render(&d, &self.0.store.proof_folder(proof))?.plate()),
                None => self.load_picture(&row),
            }
        })
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
        let (frame, region) = (film.frame, film.area);
        let mean = match self.live_picture(proof, &film) {
            Some(picture) => picture,
            None => film.mean()?,
        };
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
        let view = look.view;
        let plain = |pixels: &[Rgb], f: &(dyn Fn(Rgb) -> [u8; 3] + Sync)| -> Vec<[u8; 3]> {
            self.0.screen.install(|| pixels.par_iter().map(|c| f(*c)).collect())
        };
        let rgb = match layer {
            Layer::Picture => plain(&self.cleaned(proof, look)?.picture, &|c| view.bytes(c)),
            Layer::Detail | Layer::Stray | Layer::Flat | Layer::Clamped => {
                self.clean_up_map(proof, layer, look, &plate)?
            }
            Layer::Grain => {
                let (judging, most) = judged(d.as_ref(), look);
                let map = self.block_map(proof, &plate, &judging)?;
                maps::grain_map(&map, plate.region, &plate.samples, look.threshold, most)
            }
            Layer::Part => {
                let [r, g, b] = ["R", "G", "B"].map(|c| layer_of(&plate, &format!("{}.{c}", look.part)));
                let (r, g, b) = (r?, g?, b?);
                let pixels: Vec<Rgb> = (0..r.len()).map(|i| [r[i], g[i], b[i]]).collect();
                plain(&pixels, &|c| view.bytes(c))
            }
            Layer::PartGrain => {
                let (judging, most) = judged(d.as_ref(), look);
                let map = self.part_map(&plate, &judging, &look.part)?;
                maps::grain_map(&map, plate.region, &plate.samples, look.threshold, most)
            }
            Layer::Shadow => {
                let shadow = layer_of(&plate, "shadow.Y")?;
                shadow.iter().map(|s| [((1.0 - s.clamp(0.0, 1.0)) * 255.0 + 0.5) as u8; 3]).collect()
            }
            Layer::Depth => {
                let far = plate.depth.iter().copied().fold(0.0f32, f32::max).max(1e-6);
                // Near is bright; the root keeps what is near apart.
                let grey = |d: &f32| if *d > 0.0 { [(255.0 * (1.0 - (d / far).sqrt())) as u8; 3] } else { [0; 3] };
                plate.depth.iter().map(grey).collect()
            }
            Layer::Samples => maps::sample_map(&plate.samples),
            Layer::Clipped => plain(&self.cleaned(proof, look)?.picture, &|c| match clipped(&view, c) {
                (true, _) => [0xa8, 0x50, 0x1f],
                (_, true) => [0x36, 0x56, 0x6b],
                _ => [view.bytes([luminance(c); 3])[1]; 3],
            }),
            Layer::Albedo => plain(&plate.albedo, &|c| View::PLAIN.bytes(c)),
            Layer::Normal => {
                plain(&plate.normal, &|n| n.map(|v| ((v * 0.5 + 0.5).clamp(0.0, 1.0) * 255.0 + 0.5) as u8))
            }
        };
        let mut shown = Shown::opaque(plate.frame, plate.region, rgb.into_iter());
        // Nothing was rendered there: the squares of a pilot lie on the bare stage. Pictures from elsewhere have no samples at all.
        let known = rendered(&plate.samples);
        let pixels = shown.rgba.chunks_exact_mut(4).enumerate();
        pixels.filter(|(i, _)| !known(*i)).for_each(|(_, c)| c[3] = 0);
        Ok(shown)
    }

    fn part_map(&self, plate: &Plate, judging: &Judging, part: &str) -> Result<BlockMap, Fault> {
        part_grain(plate, &judging.view, part, judging.block).ok_or_else(|| no_layer(&format!("{part}.grain")))
    }

    /// Block grain of a proof as its description judges it, from memory once it has ended.
    fn block_map(&self, proof: i64, plate: &Plate, judging: &Judging) -> Result<Arc<BlockMap>, Fault> {
        let make = || Ok(self.0.screen.install(|| plate.block_grain(judging)));
        if self.running_test(proof).is_some() {
            return make().map(Arc::new);
        }
        self.0.memory.get(&Key::BlockMap(proof), make)
    }

    /// Legends of a proof's maps; of a part's or light's own grain where the look names one.
    pub fn legends(&self, proof: i64, look: &Look) -> Result<Legends, Fault> {
        let threshold = look.threshold;
        let plate = self.plate(proof)?;
        let (d, _) = self.measured(proof)?;
        let judging = d.judging();
        let map = match look.part.as_str() {
            "" => self.block_map(proof, &plate, &judging)?,
            part => Arc::new(self.part_map(&plate, &judging, part)?),
        };
        let (region, samples) = (plate.region, &plate.samples);
        // Parts are told as they are displayed; without a denoiser so is what is delivered.
        let measure = match judging.measure {
            Measure::Delivered if judging.cleans() && look.part.is_empty() => Measure::Delivered,
            Measure::Relative if look.part.is_empty() => Measure::Relative,
            _ => Measure::Displayed,
        };
        Ok(Legends {
            grain: maps::grain_legend(&map, measure, region, samples, threshold, most_shown(&d)),
            samples: maps::sample_legend(&plate.samples),
            ask: if self.running_test(proof).is_some() || !look.part.is_empty() {
                None
            } else {
                self.what_if(proof, threshold)?
            },
        })
    }

    pub fn pixel(&self, proof: i64, x: u32, y: u32, look: &Look) -> Result<PixelReadout, Fault> {
        let plate = self.plate(proof)?;
        let row = self.0.store.proof(proof)?;
        let d = self.description_of(&row)?;
        let (judging, _) = judged(d.as_ref(), look);
        let block = judging.block;
        let r = plate.region;
        Region { x, y, width: 1, height: 1 }.check(plate.frame)?;
        if x < r.x || y < r.y || x >= r.right() || y >= r.bottom() {
            return Err(Fault::new(Code::OutOfRange, "this pixel was not rendered", "x, y", "point inside the region"));
        }
        let i = ((y - r.y) * r.width + (x - r.x)) as usize;
        let value = self.cleaned(proof, look)?.picture[i];
        Ok(PixelReadout {
            value,
            display: look.view.display(value).map(|v| v * 255.0),
            samples: plate.samples[i],
            grain: self.block_map(proof, &plate, &judging)?.at(x, y),
            depth: plate.depth[i],
            block,
        })
    }

    /// The file of a proof's small picture, a PNG; it may not be there.
    pub fn thumbnail_file(&self, proof: i64) -> PathBuf {
        self.0.store.proof_folder(proof).join("thumb.png")
    }

    /// A view with parts replaced.
    pub fn view(exposure: Option<f64>, transform: Option<Transform>, table: Option<u32>, from: View) -> View {
        View {
            exposure: exposure.unwrap_or(from.exposure),
            transform: transform.unwrap_or(from.transform),
            table: table.unwrap_or(from.table),
        }
    }
}
