//! Decoding the pictures of textures.

use super::MOST_TEXTURE_BYTES;
use crate::report::Tally;
use crate::{Texels, Texture};
use fault::{Code, Fault};

/// Decodes PNG, JPEG or WebP; 16-bit pictures keep their 16 bits. `held` counts the bytes of all textures.
pub fn decode(bytes: &[u8], place: &str, held: &mut u64, tally: &mut Tally) -> Result<Texture, Fault> {
    let damaged = |e: image::ImageError| {
        Fault::new(
            Code::Damaged,
            format!("the texture cannot be decoded: {e}"),
            place,
            "save the picture again as PNG, JPEG or WebP and export the scene again",
        )
    };
    let open = || image::ImageReader::new(std::io::Cursor::new(bytes)).with_guessed_format();
    let (width, height) = open().map_err(|e| damaged(e.into()))?.into_dimensions().map_err(damaged)?;
    // Twice the bytes at 16 bits: the limit holds before the depth is known.
    *held += width as u64 * height as u64 * 4;
    if width == 0
        || height == 0
        || width as u64 * height as u64 > picture::files::MOST_PIXELS
        || *held > MOST_TEXTURE_BYTES
    {
        let what = format!("the texture has {width}×{height} pixels, all textures together {} MB", *held >> 20);
        return Err(Fault::new(Code::TooLarge, what, place, "reduce it"));
    }
    let decoded = open().map_err(|e| damaged(e.into()))?.decode().map_err(damaged)?;
    let wide = decoded.color().bytes_per_pixel() / decoded.color().channel_count() > 1;
    tally.read(if wide { "16-bit texture" } else { "texture" });
    let texels = if wide {
        *held += width as u64 * height as u64 * 4;
        Texels::Sixteen(decoded.into_rgba16().pixels().map(|p| p.0).collect())
    } else {
        Texels::Eight(decoded.into_rgba8().pixels().map(|p| p.0).collect())
    };
    Ok(Texture { width, height, texels })
}
