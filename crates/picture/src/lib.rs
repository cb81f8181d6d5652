//! Pictures: what a film develops into, how it is displayed, judged, cleaned, compared and written.

pub mod against;
pub mod clamps;
pub mod cube;
pub mod denoise;
pub mod display_checks;
pub mod files;
pub mod filter;
pub mod flip;
pub mod grain;
pub mod maps;
pub mod mattes;
pub mod metrics;
pub mod noise;
pub mod paper;
mod plate;
pub mod reduce;
mod view;

pub use plate::{Plate, Region, footprint, mean, rendered};
pub use reduce::reduced;
pub use view::{Transform, View, luminance, srgb_decode, srgb_encode};

/// Linear RGB radiance, Rec. 709 primaries, D65 white.
pub type Rgb = [f32; 3];

/// Bits of a number well mixed, for tests that need noise.
#[cfg(test)]
pub(crate) fn mixed(i: u32) -> u32 {
    let mut x = i.wrapping_mul(0x9E37_79B9) ^ 0x85EB_CA6B;
    x = (x ^ (x >> 16)).wrapping_mul(0x7FEB_352D);
    x = (x ^ (x >> 15)).wrapping_mul(0x846C_A68B);
    x ^ (x >> 16)
}
