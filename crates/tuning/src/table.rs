//! The knob table. Adding a knob is one row here plus the code that honours it.

use crate::{
    Group::{self, *},
    Kind::{self, *},
    Knob,
    Scale::{self, *},
    Trade::{self, *},
    Value,
};

/// A whole number, kept below 2^32 so that JSON numbers hold it exactly.
const fn w(n: u32) -> Value {
    Value::Whole(n)
}
const fn r(x: f64) -> Value {
    Value::Real(x)
}
const fn name(s: &'static str) -> Value {
    Value::Name(std::borrow::Cow::Borrowed(s))
}

macro_rules! knobs {
    ($($variant:ident $id:literal $group:ident $label:literal $unit:literal $kind:expr, $scale:ident, $default:expr, $trades:expr, $help:literal;)*) => {
        /// A knob by name: the index of its row in [`KNOBS`].
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum K { $($variant),* }

        /// All knobs, in the order in which a panel shows them.
        pub static KNOBS: &[Knob] = &[$({
            const KIND: Kind = $kind;
            const TRADES: &[Trade] = $trades;
            const GROUP: Group = $group;
            const SCALE: Scale = $scale;
            Knob { id: $id, group: GROUP, label: $label, unit: $unit, kind: KIND, scale: SCALE, default: $default, trades: TRADES, help: $help }
        }),*];
    };
}

knobs! {
    FrameWidth "frame.width" Frame "Width" "px" Whole { least: 1, most: 16384 }, Logarithmic, w(960), &[Time],
        "Width of the whole frame in pixels. Time grows with the number of pixels.";
    FrameHeight "frame.height" Frame "Height" "px" Whole { least: 1, most: 16384 }, Logarithmic, w(540), &[Time],
        "Height of the whole frame in pixels. The camera's vertical angle stays; a wider frame shows more at the sides.";
    FrameTransparent "frame.transparent" Frame "Transparent" "" Switch, Linear, Value::Switch(false), &[Look],
        "The environment is not drawn behind the objects; alpha holds how much of each pixel they cover.";
    FrameFilter "frame.filter" Frame "Pixel filter" "" Choice { names: &["box", "triangle", "gaussian", "blackman_harris"] }, Linear, name("blackman_harris"), &[Grain, Look],
        "How samples around a pixel's centre are weighted. The box is the sharpest of these and the roughest at edges; Blackman–Harris gives the smoothest edges.";
    FrameFilterRadius "frame.filter_radius" Frame "Filter radius" "px" Real { least: 0.25, most: 4.0 }, Linear, r(1.5), &[Look],
        "Half the width of the pixel filter. Small is sharper, large is softer.";
    SamplingAdaptive "sampling.adaptive" Sampling "Adaptive" "" Switch, Linear, Value::Switch(true), &[Time, Grain],
        "Spends samples where grain is: a block of pixels stops once its grain is at or below the threshold. Off: every pixel gets the most.";
    SamplingLeast "sampling.least" Sampling "Least samples" "spp" Whole { least: 2, most: 65536 }, Logarithmic, w(16), &[Time, Grain],
        "Samples that every pixel gets before a block may settle. Below 16, rare light can be missed.";
    SamplingMost "sampling.most" Sampling "Most samples" "spp" Whole { least: 2, most: 65536 }, Logarithmic, w(256), &[Time, Grain],
        "Samples at which a block stops even if it is still grainy. Half the grain costs four times the samples.";
    SamplingThreshold "sampling.threshold" Sampling "Noise threshold" "share" Real { least: 0.0005, most: 1.0 }, Logarithmic, r(0.01), &[Time, Grain],
        "Grain at which a block counts as clean, as a share of the display range: 1 % is about 2.6 of 255 steps.";
    SamplingBlock "sampling.block" Sampling "Block size" "px" Choice { names: &["4", "8", "16", "32"] }, Linear, name("8"), &[Grain],
        "Side of the blocks in which grain is measured and sampling stops. Small blocks follow detail, large ones measure more surely.";
    SamplingSeed "sampling.seed" Sampling "Seed" "" Whole { least: 0, most: u32::MAX }, Linear, w(1), &[],
        "Chooses the pattern of the grain, never its amount. The same seed gives the same picture, bit for bit.";
    DepthTotal "depth.total" Paths "All bounces" "" Whole { least: 0, most: 128 }, Logarithmic, w(12), &[Time, Look],
        "Limit for the bounces of a path, of all kinds together. 0 shows only what the camera sees shining.";
    DepthDiffuse "depth.diffuse" Paths "Diffuse" "" Whole { least: 0, most: 128 }, Logarithmic, w(6), &[Time, Look],
        "Bounces off matte surfaces. Fewer darkens corners and rooms lit indirectly.";
    DepthReflection "depth.reflection" Paths "Reflection" "" Whole { least: 0, most: 128 }, Logarithmic, w(8), &[Time, Look],
        "Bounces off mirrors and glossy surfaces. Too few turns mirrors in mirrors black.";
    DepthTransmission "depth.transmission" Paths "Transmission" "" Whole { least: 0, most: 128 }, Logarithmic, w(16), &[Time, Look],
        "Passages through glass; each pane or lens needs two. Too few turns glass black.";
    RouletteFrom "depth.roulette_from" Paths "Roulette from" "" Whole { least: 1, most: 128 }, Linear, w(4), &[Time, Grain],
        "From this bounce on, weak paths are ended at random and the survivors weighted up. Early saves time and adds grain; the mean stays.";
    CleanupDenoise "cleanup.denoise" CleanUp "Denoiser" "" Choice { names: &["none", "quick"] }, Linear, name("none"), &[Grain, Look],
        "What is done with the grain that is left. Quick: a guided filter in a fraction of a second.";
    CleanupBlend "cleanup.blend" CleanUp "Blend" "share" Real { least: 0.0, most: 1.0 }, Linear, r(1.0), &[Grain, Look],
        "0 is the noisy picture, 1 the fully denoised one. A little grain left looks less like wax.";
    ViewExposure "view.exposure" View "Exposure" "EV" Real { least: -20.0, most: 20.0 }, Linear, r(0.0), &[],
        "Brightness of the display and of display files; each step of 1 doubles it. Grain is judged in this view. Linear files are never changed.";
    ViewTransform "view.transform" View "View transform" "" Choice { names: &["srgb", "shoulder"] }, Linear, name("srgb"), &[],
        "How light becomes display values. sRGB clips highlights, the shoulder rolls them off. Linear files are never changed.";
}
