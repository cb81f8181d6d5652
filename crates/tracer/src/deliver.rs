//! From a plate to what is handed over: the delivered picture and its files.

use crate::description::Description;
use fault::Fault;
use picture::denoise::clean_halves;
use picture::display_checks::display_loss;
use picture::files::{
    Channel, Form, HALF_MOST, Packing, PngDepth, PngForm, as_half, png, tiff_display, tiff_linear, write_exr,
    write_whole,
};
use picture::grain::{BlockMap, Judging, Measure};
use picture::mattes::Mattes;
use picture::{Plate, Rgb, mean};
use std::borrow::Cow;
use std::path::Path;
use tuning::{Compression, DisplayFile, K, LinearFile, Passes};

/// What is delivered of a plate.
pub struct Delivered {
    /// Linear, cleaned up as the tuning says.
    pub picture: Vec<Rgb>,
    /// Grain by block, as it is judged.
    pub grain: BlockMap,
    /// What is left of it in the delivered picture, as displayed.
    pub left: BlockMap,
}

impl Delivered {
    pub fn of(plate: &Plate, d: &Description) -> Delivered {
        let judging = d.judging();
        // One cleaning gives both.
        let [a, b] = clean_halves(plate, &judging.clean);
        let delivered = Judging { measure: Measure::Delivered, ..judging };
        let left = BlockMap::of_halves(plate, [&a, &b], &delivered);
        let grain = if judging.alike(&delivered) { left.clone() } else { plate.block_grain(&judging) };
        Delivered { picture: mean(&a, &b), grain, left }
    }
}

/// Kinds of file by their ending.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileKind {
    Exr,
    Png,
    Tiff,
}

impl FileKind {
    pub fn of(path: &Path) -> Result<FileKind, Fault> {
        match path.extension().and_then(|e| e.to_str()).map(str::to_ascii_lowercase).as_deref() {
            Some("exr") => Ok(FileKind::Exr),
            Some("png") => Ok(FileKind::Png),
            Some("tif" | "tiff") => Ok(FileKind::Tiff),
            _ => Err(Fault::new(
                fault::Code::Unsupported,
                "this kind of file is not written",
                path.display().to_string(),
                "end the name in .exr, .png or .tif",
            )),
        }
    }
}

/// A file that was written.
#[derive(Debug, Clone)]
pub struct Written {
    pub name: String,
    pub bytes: u64,
    /// What it loses, measured.
    pub notes: Vec<String>,
}

/// What is to be delivered of a render.
pub struct Delivery<'a> {
    /// Given away, its passes need not be copied into the last file.
    pub plate: Cow<'a, Plate>,
    pub delivered: &'a Delivered,
    pub description: &'a Description,
    /// Where the tuning asks for them.
    pub mattes: Option<[Mattes; 2]>,
}

impl Delivery<'_> {
    /// Writes every file that the tuning asks for into a folder, each whole or not at all. Names begin with `base`. The display
    /// file is packed beside the linear ones.
    pub fn write_all(mut self, folder: &Path, base: &str) -> Result<Vec<Written>, Fault> {
        let t = &self.description.tuning;
        let linear_file: LinearFile = t.choice();
        let passes = match (linear_file, t.choice()) {
            (LinearFile::None | LinearFile::TiffFloat, _) => Vec::new(),
            (LinearFile::ExrFloat | LinearFile::ExrHalf, Passes::OneFile) => {
                vec![(String::new(), self.given_channels())]
            }
            (LinearFile::ExrFloat | LinearFile::ExrHalf, Passes::OneEach) => {
                let mut passes: Vec<(String, Vec<Channel>)> = Vec::new();
                for c in self.given_channels() {
                    let pass = pass_of(&c.name);
                    match passes.iter_mut().find(|(name, _)| *name == pass) {
                        Some((_, list)) => list.push(c),
                        None => passes.push((pass, vec![c])),
                    }
                }
                passes
            }
        };
        let display = match t.choice() {
            DisplayFile::None => None,
            DisplayFile::Tiff16 => Some(folder.join(format!("{base}.tif"))),
            DisplayFile::Png16 | DisplayFile::Png8 => Some(folder.join(format!("{base}.png"))),
        };
        let delivery = &self;
        let linear = || -> Result<Vec<Written>, Fault> {
            if linear_file == LinearFile::TiffFloat {
                let path = folder.join(format!("{base}_linear.tif"));
                delivery.whole(&path, |out| {
                    tiff_linear(out, &delivery.delivered.picture, delivery.size(), delivery.dpi())
                })?;
                return Ok(vec![written(&path, Vec::new())?]);
            }
            let each = |(pass, list): (String, Vec<Channel>)| {
                let plain = pass.replace([' ', '/'], "-");
                let name = if pass.is_empty() { format!("{base}.exr") } else { format!("{base}_{plain}.exr") };
                let notes = if pass.is_empty() { delivery.half_notes() } else { Vec::new() };
                delivery.write_channels(&folder.join(name), list, notes)
            };
            passes.into_iter().map(each).collect()
        };
        std::thread::scope(|scope| {
            let display = display.map(|path| scope.spawn(move || delivery.write(&path)));
            let linear = linear();
            let display = display.map(|d| {
                d.join().unwrap_or_else(|panic| Err(Fault::internal(fault::panic_text(&*panic), "display file")))
            });
            let mut out: Vec<Written> = display.transpose()?.into_iter().collect();
            out.extend(linear?);
            Ok(out)
        })
    }

    /// Writes one file of the kind that its ending says, whole or not at all.
    ///
    /// EXR: `R G B A` delivered linear radiance, `noisy.*`, `albedo.*`, `normal.X/Y/Z`, `depth.Z` in metres, `grain.Y` the
    /// block grain as a share of the display range, `samples.Y`; with parts switched on also every part and light group with
    /// the luminance of its half-difference as `grain`, `shadow.Y` (share of direct light in shadow), position, the first
    /// surface's normal, albedo and depth, and ids (number plus one); with mattes `CryptoObject00` … and `CryptoMaterial00` ….
    /// PNG and TIFF: through the view.
    pub fn write(&self, path: &Path) -> Result<Written, Fault> {
        let d = self.description;
        let transparent = d.tuning.switch(K::FrameTransparent);
        match FileKind::of(path)? {
            FileKind::Png => {
                let eight = d.tuning.choice::<DisplayFile>() == DisplayFile::Png8;
                let depth = if eight { PngDepth::Eight } else { PngDepth::Sixteen };
                let coverage = transparent.then_some(self.plate.coverage.as_slice());
                let form = PngForm { coverage, depth, dpi: Some(self.dpi()) };
                self.whole(path, |out| png(out, &self.delivered.picture, self.size(), &d.view(), form))?;
                written(path, self.display_notes(eight))
            }
            FileKind::Tiff => {
                self.whole(path, |out| tiff_display(out, &self.delivered.picture, self.size(), &d.view(), self.dpi()))?;
                written(path, self.display_notes(false))
            }
            FileKind::Exr => self.write_channels(path, self.channels(), self.half_notes()),
        }
    }

    fn dpi(&self) -> f64 {
        self.description.tuning.real(K::DeliveryDpi)
    }

    fn size(&self) -> (u32, u32) {
        (self.plate.region.width, self.plate.region.height)
    }

    fn whole(
        &self,
        path: &Path,
        write: impl FnOnce(&mut std::io::BufWriter<std::fs::File>) -> Result<(), Fault>,
    ) -> Result<(), Fault> {
        write_whole(path, write).map_err(|f| f.within(&path.display().to_string()))
    }

    fn channels(&self) -> Vec<Channel> {
        self.channels_with(self.plate.layers.clone())
    }

    /// The same, with the plate's passes taken out of it where it was given away.
    fn given_channels(&mut self) -> Vec<Channel> {
        let passes = match &mut self.plate {
            Cow::Owned(plate) => std::mem::take(&mut plate.layers),
            Cow::Borrowed(plate) => plate.layers.clone(),
        };
        self.channels_with(passes)
    }

    fn channels_with(&self, passes: Vec<(String, Vec<f32>)>) -> Vec<Channel> {
        let mut all = layers(&self.plate, passes, self.delivered, self.description);
        all.extend(self.mattes.iter().flatten().flat_map(Mattes::channels));
        all
    }

    fn half(&self) -> bool {
        self.description.tuning.choice::<LinearFile>() == LinearFile::ExrHalf
    }

    fn write_channels(&self, path: &Path, channels: Vec<Channel>, notes: Vec<String>) -> Result<Written, Fault> {
        let d = self.description;
        let crypto = |c: &Channel, m: &Mattes| c.name.starts_with(m.layer);
        let mattes = self.mattes.iter().flatten().filter(|m| channels.iter().any(|c| crypto(c, m)));
        let form = Form {
            comment: serde_json::to_string(d).unwrap_or_default(),
            packing: match d.tuning.choice() {
                Compression::Zip => Packing::Zip,
                Compression::Piz => Packing::Piz,
                Compression::Rle => Packing::Rle,
                Compression::None => Packing::None,
            },
            half: self.half(),
            attributes: mattes.flat_map(Mattes::attributes).collect(),
            dpi: Some(self.dpi()),
        };
        self.whole(path, |out| write_exr(out, self.plate.frame, self.plate.region, channels, form))?;
        written(path, notes)
    }

    /// What 16-bit floats change in the picture.
    fn half_notes(&self) -> Vec<String> {
        if !self.half() {
            return Vec::new();
        }
        let (mut largest, mut sum, mut over, mut n) = (0.0f64, 0.0f64, 0usize, 0usize);
        for v in self.delivered.picture.iter().flatten().filter(|v| **v != 0.0) {
            if v.abs() > HALF_MOST {
                over += 1;
                continue;
            }
            let off = ((as_half(*v) - v).abs() / v.abs().max(1e-4)) as f64;
            (largest, sum, n) = (largest.max(off), sum + off, n + 1);
        }
        let mut notes = vec![format!(
            "half floats: off by {:.3} % at the most, {:.4} % in the mean",
            100.0 * largest,
            100.0 * sum / n.max(1) as f64
        )];
        if over > 0 {
            notes.push(format!("{over} values were beyond the range of half floats and end at {HALF_MOST}"));
        }
        notes
    }

    fn display_notes(&self, eight: bool) -> Vec<String> {
        let (view, map) = (self.description.view(), &self.delivered.grain);
        let loss = display_loss(&self.delivered.picture, self.plate.region, &view, map);
        let percent = |x: f64| format!("{:.1} %", 100.0 * x);
        let mut notes = Vec::new();
        if loss.high > 0.0005 {
            notes.push(format!("{} of the pixels are at the top of the display range", percent(loss.high)));
        }
        if loss.low > 0.0005 {
            notes.push(format!("{} are black", percent(loss.low)));
        }
        if eight && loss.bands > 0.005 {
            notes.push(format!("bands may show in {} of the picture: 16 bits have none", percent(loss.bands)));
        }
        notes
    }
}

fn written(path: &Path, notes: Vec<String>) -> Result<Written, Fault> {
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let bytes = std::fs::metadata(path).map_err(|e| Fault::io(name.clone(), &e))?.len();
    Ok(Written { name, bytes, notes })
}

/// The pass of a channel: what stands before its last dot; mattes of one kind belong together.
fn pass_of(channel: &str) -> String {
    let layer = channel.rsplit_once('.').map_or("", |(layer, _)| layer);
    if layer.starts_with("Crypto") { layer.trim_end_matches(|c: char| c.is_ascii_digit()).into() } else { layer.into() }
}

fn layers(plate: &Plate, passes: Vec<(String, Vec<f32>)>, delivered: &Delivered, d: &Description) -> Vec<Channel> {
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
    out.extend(passes.into_iter().map(|(name, mut values)| {
        // In files grain has no sign.
        if name.ends_with(".grain") {
            values.iter_mut().for_each(|v| *v = v.abs());
        }
        Channel::float(&name, values)
    }));
    out
}
