//! Pictures of proofs, running or ended, in any layer and any view.

mod running;

pub(crate) use running::LivePlate;

use crate::memory::Key;
use crate::{Legends, Workshop};
use fault::{Code, Fault};
use picture::denoise::CleanUp;
use picture::denoise::profile::Hints;
use picture::display_checks::clipped;
use picture::grain::{BlockMap, Judging, Measure};
use picture::noise::part_grain;
use picture::{Plate, Region, Rgb, Transform, View, luminance, maps, mean, rendered};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use std::sync::Arc;
use store::ProofKind;
use tracer::{Description, Limits, clean_up_of};
use ts_rs::TS;
use tuning::K;

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
    /// What was rendered: the squares of a pilot lie on the bare stage. Pictures from elsewhere have no samples at all.
    fn rendered(frame: (u32, u32), region: Region, rgb: &[[u8; 3]], samples: &[u32]) -> Shown {
        let known = rendered(samples);
        let pixel = |(i, [r, g, b]): (usize, &[u8; 3])| [*r, *g, *b, if known(i) { 255 } else { 0 }];
        let rgba = rgb.par_iter().enumerate().map(pixel).collect::<Vec<_>>().into_flattened();
        Shown { frame, region, size: (region.width, region.height), rgba }
    }

    pub(crate) fn opaque(frame: (u32, u32), region: Region, pixels: impl Iterator<Item = [u8; 3]>) -> Shown {
        Shown::rendered(frame, region, &pixels.collect::<Vec<_>>(), &[])
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

fn albedo_bytes(c: Rgb) -> [u8; 3] {
    View::PLAIN.bytes(c)
}

fn normal_bytes(n: Rgb) -> [u8; 3] {
    n.map(|v| ((v * 0.5 + 0.5).clamp(0.0, 1.0) * 255.0 + 0.5) as u8)
}

/// Near is bright; the root keeps what is near apart. Black where nothing is met.
fn nearness(depths: impl Iterator<Item = f32>) -> impl Fn(f32) -> [u8; 3] + Sync {
    let far = depths.fold(0.0f32, f32::max).max(1e-6);
    move |d| if d > 0.0 { [(255.0 * (1.0 - (d / far).sqrt())) as u8; 3] } else { [0; 3] }
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

    pub(crate) fn forget_plate(&self, proof: i64) {
        self.0.memory.forget_proof(proof);
    }

    /// The present plate of a proof: from its film while it is in memory, from what is kept, or from its file.
    pub(crate) fn plate(&self, proof: i64) -> Result<Arc<Plate>, Fault> {
        if let Some(t) = self.running_test(proof) {
            return self.live_plate(&t);
        }
        self.0.memory.get(&Key::Plate(proof), || {
            let row = self.0.store.proof(proof)?;
            match self.description_of(&row)? {
                Some(_) if self.unsaved(proof).is_some() => self.unsaved_plate(proof),
                Some(d) => match self.film_in_memory(proof) {
                    Some(film) => Ok(self.0.screen.install(|| film.plate())),
                    None => Ok(self.load_render(&d, &self.0.store.proof_folder(proof))?.plate()),
                },
                None => self.load_picture(&row),
            }
        })
    }

    pub fn show(&self, proof: i64, layer: Layer, look: &Look) -> Result<Shown, Fault> {
        if layer == Layer::Picture
            && let Some(shown) = self.show_running(proof, look)
        {
            return Ok(shown);
        }
        let row = self.0.store.proof(proof)?;
        let d = self.description_of(&row)?;
        if let (Layer::Grain | Layer::Samples, Some(d)) = (layer, &d) {
            self.has_samples(proof)?;
            if let Some(b) = self.running_blocks(proof, d, None) {
                return Ok(self.0.screen.install(|| b.show(layer, look.threshold, most_shown(d))));
            }
        }
        if let Some(shown) = self.running_guide(proof, layer) {
            return Ok(shown);
        }
        let plate = self.plate(proof)?;
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
                self.0.screen.install(|| maps::grain_map(&map, plate.region, &plate.samples, look.threshold, most))
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
            Layer::Albedo => plain(&plate.albedo, &albedo_bytes),
            Layer::Normal => plain(&plate.normal, &normal_bytes),
            Layer::Depth => {
                let near = nearness(plate.depth.iter().copied());
                plate.depth.iter().map(|d| near(*d)).collect()
            }
            Layer::Samples => self.0.screen.install(|| maps::sample_map(&plate.samples)),
            Layer::Clipped => plain(&self.cleaned(proof, look)?.picture, &|c| match clipped(&view, c) {
                (true, _) => [0xa8, 0x50, 0x1f],
                (_, true) => [0x36, 0x56, 0x6b],
                _ => [view.bytes([luminance(c); 3])[1]; 3],
            }),
        };
        Ok(self.0.screen.install(|| Shown::rendered(plate.frame, plate.region, &rgb, &plate.samples)))
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
        let (d, _) = self.measured(proof)?;
        self.has_samples(proof)?;
        let judging = d.judging();
        let running = if look.part.is_empty() { self.running_blocks(proof, &d, None) } else { None };
        let (plate, spread);
        let (map, region, samples, judged): (_, _, &[u32], &[u32]) = match running {
            Some(b) => {
                spread = self.0.screen.install(|| [false, true].map(|judged| b.samples(judged)));
                (Arc::new(b.map), b.region, &spread[0], &spread[1])
            }
            None => {
                plate = self.plate(proof)?;
                let map = match look.part.as_str() {
                    "" => self.block_map(proof, &plate, &judging)?,
                    part => Arc::new(self.part_map(&plate, &judging, part)?),
                };
                (map, plate.region, &plate.samples, &plate.samples)
            }
        };
        // Parts are told as they are displayed; without a denoiser so is what is delivered.
        let measure = match judging.measure {
            Measure::Delivered if judging.cleans() && look.part.is_empty() => Measure::Delivered,
            Measure::Relative if look.part.is_empty() => Measure::Relative,
            _ => Measure::Displayed,
        };
        Ok(Legends {
            grain: maps::grain_legend(&map, measure, region, judged, threshold, most_shown(&d)),
            samples: maps::sample_legend(samples),
            ask: if self.running_test(proof).is_some() || !look.part.is_empty() {
                None
            } else {
                self.what_if(proof, threshold)?
            },
        })
    }

    pub fn pixel(&self, proof: i64, x: u32, y: u32, look: &Look) -> Result<PixelReadout, Fault> {
        let row = self.0.store.proof(proof)?;
        let d = self.description_of(&row)?;
        let (judging, _) = judged(d.as_ref(), look);
        let block = judging.block;
        let one = Region { x, y, width: 1, height: 1 };
        let inside = |r: Region, frame: (u32, u32)| {
            one.check(frame)?;
            let missing =
                || Fault::new(Code::OutOfRange, "this pixel was not rendered", "x, y", "point inside the region");
            one.shared(r).map(|_| ()).ok_or_else(missing)
        };
        let readout = |value: Rgb, samples: u32, grain: f64, depth: f32| PixelReadout {
            value,
            display: look.view.display(value).map(|v| v * 255.0),
            samples,
            grain,
            depth,
            block,
        };
        if let (Some(d), Some(film)) = (&d, self.running_film(proof)) {
            self.has_samples(proof)?;
            inside(film.delivered_region(), d.frame())?;
            if let Some(b) = self.running_blocks(proof, d, Some(one)) {
                // One pixel is developed, without what reduction takes from beyond its border.
                let plate = film.plate_of(one);
                return Ok(readout(plate.mean()[0], plate.samples[0], b.map.at(x, y), plate.depth[0]));
            }
        }
        let plate = self.plate(proof)?;
        let r = plate.region;
        inside(r, plate.frame)?;
        let i = ((y - r.y) * r.width + (x - r.x)) as usize;
        let grain = self.block_map(proof, &plate, &judging)?.at(x, y);
        let value = match look.clean.acts() {
            true => self.cleaned(proof, look)?.picture[i],
            false => mean(&plate.a[i..=i], &plate.b[i..=i])[0],
        };
        Ok(readout(value, plate.samples[i], grain, plate.depth[i]))
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
