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
