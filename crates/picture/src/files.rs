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

/// Display picture as a PNG stream with the sRGB chunk. `coverage` makes it RGBA: colours of partly covered pixels are
/// divided by their coverage before the view, as PNG asks for straight alpha.
pub fn png(
    out: &mut dyn Write,
    pixels: &[Rgb],
    (width, height): (u32, u32),
    coverage: Option<&[f32]>,
    view: &View,
    depth: PngDepth,
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
) -> Result<(), Fault> {
    let step = |v: f32| (v * 65535.0 + 0.5) as u16;
    let data: Vec<u8> = pixels.iter().flat_map(|c| view.display(*c)).flat_map(|v| step(v).to_ne_bytes()).collect();
    tiff(out, &data, size, image::ExtendedColorType::Rgb16)
}

/// Linear light as a TIFF of 32-bit floats; colours only.
pub fn tiff_linear(out: &mut (impl Write + std::io::Seek), pixels: &[Rgb], size: (u32, u32)) -> Result<(), Fault> {
    let data: Vec<u8> = pixels.iter().flatten().flat_map(|v| v.to_ne_bytes()).collect();
    tiff(out, &data, size, image::ExtendedColorType::Rgb32F)
}

fn tiff(
    out: &mut (impl Write + std::io::Seek),
    data: &[u8],
    (w, h): (u32, u32),
    kind: image::ExtendedColorType,
) -> Result<(), Fault> {
    use image::ImageEncoder;
    image::codecs::tiff::TiffEncoder::new(out).write_image(data, w, h, kind).map_err(|e| match e {
        image::ImageError::IoError(e) => Fault::io("TIFF", &e),
        other => Fault::internal(other.to_string(), "TIFF"),
    })
}
