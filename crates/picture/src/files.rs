//! Files: written whole or not at all, read with an eye on hostile input.

mod exr_file;
mod read;

pub use exr_file::{
    Channel, ExrContent, Form, HALF_MOST, Packing, Samples, as_half, exr_channels, exr_size, write_exr,
};
pub use read::{Loaded, LoadedGuides, MOST_PIXELS, read_picture, read_picture_bytes};

use crate::{Rgb, View};
use fault::Fault;
use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use tiff::TiffError;
use tiff::encoder::{Rational, TiffEncoder, TiffValue, colortype};
use tiff::tags::ResolutionUnit;

/// Writes a file beside its final name and moves it there when it is complete, so that a reader finds the old file,
/// the new one or none, never half of one.
pub fn write_whole(path: &Path, write: impl FnOnce(&mut BufWriter<File>) -> Result<(), Fault>) -> Result<(), Fault> {
    let place = path.display().to_string();
    let io = |e: std::io::Error| Fault::io(place.clone(), &e);
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let beside = path.with_file_name(format!(".{name}.{}.part", std::process::id()));
    let done = (|| {
        let mut out = BufWriter::new(File::create(&beside).map_err(io)?);
        write(&mut out)?;
        out.flush().map_err(io)?;
        out.get_ref().sync_all().map_err(io)?;
        std::fs::rename(&beside, path).map_err(io)
    })();
    if done.is_err() {
        let _ = std::fs::remove_file(&beside);
    }
    done
}

/// Bits a channel of a PNG.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PngDepth {
    Eight,
    Sixteen,
}

/// How a PNG is written beyond its pixels.
#[derive(Debug, Clone, Copy)]
pub struct PngForm<'a> {
    /// Makes it RGBA: colours of partly covered pixels are divided by their coverage before the view, as PNG asks for straight alpha.
    pub coverage: Option<&'a [f32]>,
    pub depth: PngDepth,
    /// How densely it is meant to be printed.
    pub dpi: Option<f64>,
}

impl PngForm<'_> {
    /// For the screen.
    pub const PLAIN: PngForm<'static> = PngForm { coverage: None, depth: PngDepth::Eight, dpi: None };
}

/// Display picture as a PNG stream with the sRGB chunk.
pub fn png(
    out: &mut dyn Write,
    pixels: &[Rgb],
    (width, height): (u32, u32),
    view: &View,
    PngForm { coverage, depth, dpi }: PngForm,
) -> Result<(), Fault> {
    let mut data = Vec::with_capacity(pixels.len() * 8);
    let mut put = |v: f32| match depth {
        PngDepth::Eight => data.push((v * 255.0 + 0.5) as u8),
        PngDepth::Sixteen => data.extend(((v * 65535.0 + 0.5) as u16).to_be_bytes()),
    };
    for (i, c) in pixels.iter().enumerate() {
        let alpha = coverage.map(|a| a[i].clamp(0.0, 1.0));
        let straight = match alpha {
            Some(a) if a > 0.0 => c.map(|x| x / a),
            _ => *c,
        };
        view.display(straight).into_iter().for_each(&mut put);
        alpha.into_iter().for_each(&mut put);
    }
    let fail = |e: png::EncodingError| match e {
        png::EncodingError::IoError(e) => Fault::io("PNG", &e),
        other => Fault::internal(other.to_string(), "PNG"),
    };
    let mut encoder = png::Encoder::new(out, width, height);
    encoder.set_color(if coverage.is_some() { png::ColorType::Rgba } else { png::ColorType::Rgb });
    encoder.set_depth(match depth {
        PngDepth::Eight => png::BitDepth::Eight,
        PngDepth::Sixteen => png::BitDepth::Sixteen,
    });
    encoder.set_source_srgb(png::SrgbRenderingIntent::Perceptual);
    // PNG counts by the metre.
    let dims = dpi.map(|dpi| (dpi / 0.0254).round() as u32);
    encoder.set_pixel_dims(dims.map(|n| png::PixelDimensions { xppu: n, yppu: n, unit: png::Unit::Meter }));
    let mut writer = encoder.write_header().map_err(fail)?;
    writer.write_image_data(&data).map_err(fail)?;
    writer.finish().map_err(fail)
}

/// Display picture as a 16-bit TIFF; colours only.
pub fn tiff_display(
    out: &mut (impl Write + std::io::Seek),
    pixels: &[Rgb],
    size: (u32, u32),
    view: &View,
    dpi: f64,
) -> Result<(), Fault> {
    let step = |v: f32| (v * 65535.0 + 0.5) as u16;
    let data: Vec<u16> = pixels.iter().flat_map(|c| view.display(*c)).map(step).collect();
    tiff::<colortype::RGB16>(out, &data, size, dpi)
}

/// Linear light as a TIFF of 32-bit floats; colours only.
pub fn tiff_linear(
    out: &mut (impl Write + std::io::Seek),
    pixels: &[Rgb],
    size: (u32, u32),
    dpi: f64,
) -> Result<(), Fault> {
    tiff::<colortype::RGB32Float>(out, pixels.as_flattened(), size, dpi)
}

fn tiff<C: colortype::ColorType>(
    out: &mut (impl Write + std::io::Seek),
    data: &[C::Inner],
    (w, h): (u32, u32),
    dpi: f64,
) -> Result<(), Fault>
where
    [C::Inner]: TiffValue,
{
    let write = |out| -> Result<(), TiffError> {
        let mut file = TiffEncoder::new(out)?;
        let mut image = file.new_image::<C>(w, h)?;
        image.resolution(ResolutionUnit::Inch, Rational { n: (100.0 * dpi).round() as u32, d: 100 });
        image.write_data(data)
    };
    write(out).map_err(|e| match e {
        TiffError::IoError(e) => Fault::io("TIFF", &e),
        other => Fault::internal(other.to_string(), "TIFF"),
    })
}
