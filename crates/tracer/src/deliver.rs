//! From a plate to what is handed over: the delivered picture and its files.

use crate::description::Description;
use fault::Fault;
use picture::denoise::{clean, clean_halves};
use picture::files::{Channel, Packing, PngDepth, png, write_exr, write_whole};
use picture::grain::BlockMap;
use picture::{Plate, Rgb, mean};
use std::path::Path;
use tuning::K;

/// What is delivered of a plate.
pub struct Delivered {
    /// Linear, cleaned up as the tuning says.
    pub picture: Vec<Rgb>,
    /// Grain by block, as it is judged.
    pub grain: BlockMap,
}

impl Delivered {
    pub fn of(plate: &Plate, d: &Description) -> Delivered {
        let judging = d.judging();
        if !judging.cleans() {
            return Delivered { picture: clean(plate, &judging.clean), grain: plate.block_grain(&judging) };
        }
        // One cleaning gives both.
        let [a, b] = clean_halves(plate, &judging.clean);
        let differences = a.iter().zip(&b).map(|(a, b)| judging.difference(*a, *b));
        let grain = BlockMap::from_differences(plate.region, judging.block, differences);
        Delivered { picture: mean(&a, &b), grain }
    }
}

/// Kinds of file by their ending.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileKind {
    Exr,
    Png,
}

impl FileKind {
    pub fn of(path: &Path) -> Result<FileKind, Fault> {
        match path.extension().and_then(|e| e.to_str()).map(str::to_ascii_lowercase).as_deref() {
            Some("exr") => Ok(FileKind::Exr),
            Some("png") => Ok(FileKind::Png),
            _ => Err(Fault::new(
                fault::Code::Unsupported,
                "this kind of file is not written",
                path.display().to_string(),
                "end the name in .exr or .png",
            )),
        }
    }
}

/// Writes a file of the delivered picture, whole or not at all.
///
/// EXR: `R G B A` delivered linear radiance, `noisy.*`, `albedo.*`, `normal.X/Y/Z`, `depth.Z` in metres, `grain.Y` the
/// block grain as a share of the display range, `samples.Y`; with parts switched on also every part and light group with the
/// luminance of its half-difference as `grain`, `shadow.Y` (share of direct light in shadow), position, the first surface's
/// normal, albedo and depth, and ids (number plus one). PNG: 16 bits through the view.
pub fn write(path: &Path, plate: &Plate, delivered: &Delivered, d: &Description) -> Result<(), Fault> {
    let transparent = d.tuning.switch(K::FrameTransparent);
    match FileKind::of(path)? {
        FileKind::Png => write_whole(path, |out| {
            let size = (plate.region.width, plate.region.height);
            let coverage = transparent.then_some(plate.coverage.as_slice());
            png(out, &delivered.picture, size, coverage, &d.view(), PngDepth::Sixteen)
        }),
        FileKind::Exr => {
            let comment = serde_json::to_string(d).unwrap_or_default();
            write_whole(path, |out| {
                write_exr(out, plate.frame, plate.region, layers(plate, delivered, d), &comment, Packing::Zip)
            })
        }
    }
    .map_err(|f| f.within(&path.display().to_string()))
}

fn layers(plate: &Plate, delivered: &Delivered, d: &Description) -> Vec<Channel> {
    let r = plate.region;
    let map = &delivered.grain;
    let grain = (0..r.area() as u32).map(|i| map.at(r.x + i % r.width, r.y + i / r.width) as f32).collect();
    let alpha = if d.tuning.switch(K::FrameTransparent) { plate.coverage.clone() } else { vec![1.0; r.area()] };
    let mut out: Vec<Channel> = Vec::new();
    out.extend(Channel::rgb("", &delivered.picture));
    out.push(Channel::float("A", alpha));
    out.extend(Channel::rgb("noisy", &plate.mean()));
    out.extend(Channel::rgb("albedo", &plate.albedo));
    for (c, name) in ["normal.X", "normal.Y", "normal.Z"].into_iter().enumerate() {
        out.push(Channel::float(name, plate.normal.iter().map(|n| n[c]).collect()));
    }
    out.push(Channel::float("depth.Z", plate.depth.clone()));
    out.push(Channel::float("grain.Y", grain));
    out.push(Channel::whole("samples.Y", plate.samples.clone()));
    out.extend(plate.layers.iter().map(|(name, values)| {
        // In files grain has no sign.
        let plain = |v: &f32| if name.ends_with(".grain") { v.abs() } else { *v };
        Channel::float(name, values.iter().map(plain).collect())
    }));
    out
}
