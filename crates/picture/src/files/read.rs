//! Reading pictures: PNG, JPEG and TIFF of whole numbers (display values, brought back to linear by the sRGB curve); Radiance
//! HDR, OpenEXR and TIFF of floats (linear as they are).

use super::{Samples, exr_channels, exr_size};
use crate::{Rgb, srgb_decode};
use fault::{Code, Fault};
use image::{DynamicImage, ImageFormat, ImageReader};
use std::io::Cursor;
use std::path::Path;

/// Largest picture that is accepted: 128 million pixels, 1.5 GB as linear floats.
pub const MOST_PIXELS: u64 = 128 << 20;

/// A picture in linear values.
#[derive(Debug, Clone)]
pub struct Loaded {
    pub width: usize,
    pub height: usize,
    pub pixels: Vec<Rgb>,
    /// Stored with 8 bits a channel: highlights are clipped.
    pub eight_bit: bool,
    /// Stored as linear light; otherwise it was brought back from display values.
    pub linear: bool,
    pub guides: Option<LoadedGuides>,
}

/// What a file tells about the surfaces: `albedo.R/G/B`, `normal.X/Y/Z` and, where there is one, `depth.Z`.
#[derive(Debug, Clone)]
pub struct LoadedGuides {
    pub albedo: Vec<Rgb>,
    pub normal: Vec<Rgb>,
    pub depth: Vec<f32>,
}

pub fn read_picture(path: &Path) -> Result<Loaded, Fault> {
    let place = path.display().to_string();
    let bytes = std::fs::read(path).map_err(|e| Fault::io(place.clone(), &e))?;
    read_picture_bytes(&bytes, &place)
}

/// Reads a picture by its content; `place` is its name for messages.
pub fn read_picture_bytes(bytes: &[u8], place: &str) -> Result<Loaded, Fault> {
    if bytes.starts_with(&[0x76, 0x2f, 0x31, 0x01]) {
        return read_exr(bytes, place);
    }
    let wrong = || {
        Fault::new(
            Code::WrongType,
            "not a picture that can be read",
            place,
            "give OpenEXR, Radiance HDR, PNG, TIFF or JPEG",
        )
    };
    let reader = ImageReader::new(Cursor::new(bytes)).with_guessed_format().map_err(|_| wrong())?;
    let format = reader.format().ok_or_else(wrong)?;
    let damaged = |e: image::ImageError| {
        Fault::new(
            Code::Damaged,
            format!("the picture cannot be decoded: {e}"),
            place,
            "export the file again and check that it was copied completely",
        )
    };
    let (width, height) = reader.into_dimensions().map_err(damaged)?;
    check_size(width as u64, height as u64, place)?;
    let decoded = image::load_from_memory_with_format(bytes, format).map_err(damaged)?;
    let floats = matches!(decoded, DynamicImage::ImageRgb32F(_) | DynamicImage::ImageRgba32F(_));
    let linear = format == ImageFormat::Hdr || floats;
    let eight_bit = matches!(
        decoded,
        DynamicImage::ImageRgb8(_)
            | DynamicImage::ImageRgba8(_)
            | DynamicImage::ImageLuma8(_)
            | DynamicImage::ImageLumaA8(_)
    );
    let rgb = decoded.into_rgb32f();
    let pixels = rgb.pixels().map(|p| if linear { p.0 } else { p.0.map(srgb_decode) }).collect();
    Ok(Loaded { width: width as usize, height: height as usize, pixels, eight_bit, linear, guides: None })
}

fn check_size(width: u64, height: u64, place: &str) -> Result<(), Fault> {
    if width == 0 || height == 0 || width.saturating_mul(height) > MOST_PIXELS {
        return Err(Fault::new(
            Code::TooLarge,
            format!("{width}×{height} pixels are outside what is accepted"),
            place,
            format!("give a picture of 1 to {MOST_PIXELS} pixels"),
        ));
    }
    Ok(())
}

fn read_exr(bytes: &[u8], place: &str) -> Result<Loaded, Fault> {
    let (width, height) = exr_size(bytes, place)?;
    check_size(width as u64, height as u64, place)?;
    let (_, region, channels) = exr_channels(bytes, place)?;
    let find = |name: &str| {
        channels.iter().find(|c| c.name == name).and_then(|c| match &c.samples {
            Samples::Float(v) => Some(v),
            Samples::Whole(_) => None,
        })
    };
    let picked = match (find("R"), find("G"), find("B"), find("Y")) {
        (Some(r), Some(g), Some(b), _) => [r, g, b],
        (_, _, _, Some(y)) => [y, y, y],
        _ => {
            return Err(Fault::new(
                Code::Unsupported,
                "the file has neither R, G, B nor Y channels",
                place,
                "export the picture itself, not only other passes",
            ));
        }
    };
    let n = region.area();
    let three = |of: [&Vec<f32>; 3]| (0..n).map(|i| of.map(|c| c[i])).collect::<Vec<Rgb>>();
    let named = |names: [&str; 3]| Some(three([find(names[0])?, find(names[1])?, find(names[2])?]));
    let guides = || {
        Some(LoadedGuides {
            albedo: named(["albedo.R", "albedo.G", "albedo.B"])?,
            normal: named(["normal.X", "normal.Y", "normal.Z"])?,
            depth: find("depth.Z").cloned().unwrap_or_else(|| vec![0.0; n]),
        })
    };
    Ok(Loaded { width, height, pixels: three(picked), eight_bit: false, linear: true, guides: guides() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use image::{ImageBuffer, Rgb as Pixel};

    /// TIFF of whole numbers holds display values, TIFF of floats linear light.
    #[test]
    fn tiff_is_read_by_its_kind_of_numbers() {
        let bytes = |picture: DynamicImage| {
            let mut out = Cursor::new(Vec::new());
            picture.write_to(&mut out, ImageFormat::Tiff).unwrap();
            out.into_inner()
        };
        let deep = ImageBuffer::from_pixel(3, 2, Pixel([65535u16, 32768, 0]));
        let read = read_picture_bytes(&bytes(DynamicImage::ImageRgb16(deep)), "a.tif").unwrap();
        assert_eq!((read.width, read.height, read.linear, read.eight_bit), (3, 2, false, false));
        // IEC 61966-2-1: half of the display range is 21.4 % of the light.
        assert!((read.pixels[0][1] - 0.2140).abs() < 1e-3 && read.pixels[0][0] == 1.0);
        let light = ImageBuffer::from_pixel(3, 2, Pixel([12.5f32, 0.25, 0.0]));
        let read = read_picture_bytes(&bytes(DynamicImage::ImageRgb32F(light)), "b.tif").unwrap();
        assert!(read.linear && read.pixels[5] == [12.5, 0.25, 0.0]);
        assert!(read_picture_bytes(&bytes(DynamicImage::ImageRgb8(ImageBuffer::new(9, 9)))[..60], "c.tif").is_err());
    }
}
