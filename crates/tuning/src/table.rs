//! The knob table. Adding a knob is one row here plus the code that honours it.

use crate::{
    Compression, Denoiser, DisplayFile,
    Group::{self, *},
    Judge,
    Kind::{self, *},
    Knob, LinearFile, Named, Passes, PixelFilter,
    Scale::{self, *},
    Shadows,
    Trade::{self, *},
    Value, ViewBy,
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
    FrameOversize "frame.oversize" Frame "Oversize" "×" Real { least: 0.25, most: 3.0 }, Linear, r(1.0), &[Time, Grain, Look],
        "Renders the frame larger by this factor and reduces it at delivery: smoother edges, and fewer samples a pixel for the same grain. Below 1 it renders smaller and enlarges, for drafts.";
    FrameTransparent "frame.transparent" Frame "Transparent" "" Switch, Linear, Value::Switch(false), &[Look],
        "The environment is not drawn behind the objects; alpha holds how much of each pixel they cover.";
    FrameFilter "frame.filter" Frame "Pixel filter" "" Choice { names: PixelFilter::NAMES }, Linear, name("blackman_harris"), &[Grain, Look],
        "How samples around a pixel's centre are weighted. The box is the sharpest of these and the roughest at edges; Blackman–Harris gives the smoothest edges. Mitchell–Netravali and Lanczos sharpen edges and cost about 1.3 and 3.4 times the samples for the same grain.";
    FrameFilterRadius "frame.filter_radius" Frame "Filter radius" "px" Real { least: 0.25, most: 4.0 }, Linear, r(1.5), &[Look],
        "Half the width of the pixel filter. Small is sharper, large is softer.";
    FrameAperture "frame.aperture" Frame "Aperture" "mm" Real { least: 0.0, most: 1000.0 }, Linear, r(0.0), &[Look, Grain],
        "Diameter of the lens opening. 0 keeps everything sharp; a wider opening blurs what is not in focus, and the blur needs more samples.";
    FrameFocus "frame.focus" Frame "Focus distance" "m" Real { least: 0.001, most: 100_000.0 }, Logarithmic, r(1.0), &[Look],
        "Distance along the view at which everything is sharp. Only matters with an aperture above 0.";
    FrameShutterStart "frame.shutter_start" Frame "Shutter opens" "share" Real { least: -1.0, most: 1.0 }, Linear, r(0.0), &[Look],
        "When the shutter opens, as a share of the frame before (−) or after it begins. Only matters while the camera moves.";
    FrameShutter "frame.shutter" Frame "Shutter length" "share" Real { least: 0.0, most: 1.0 }, Linear, r(0.5), &[Look, Grain],
        "How long the shutter stays open, as a share of the frame: half a frame at 24 frames a second is 1/48 s. Only matters while the camera moves.";
    SamplingAdaptive "sampling.adaptive" Sampling "Adaptive" "" Switch, Linear, Value::Switch(true), &[Time, Grain],
        "Spends samples where grain is: a block of pixels stops once its grain is at or below the threshold. Off: every pixel gets the most.";
    SamplingLeast "sampling.least" Sampling "Least samples" "spp" Whole { least: 2, most: 65536 }, Logarithmic, w(16), &[Time, Grain],
        "Samples that every pixel gets before a block may settle. Below 16, rare light can be missed.";
    SamplingMost "sampling.most" Sampling "Most samples" "spp" Whole { least: 2, most: 65536 }, Logarithmic, w(256), &[Time, Grain],
        "Samples at which a block stops even if it is still grainy. Half the grain costs four times the samples.";
    SamplingThreshold "sampling.threshold" Sampling "Noise threshold" "share" Real { least: 0.0005, most: 1.0 }, Logarithmic, r(0.01), &[Time, Grain],
        "Grain at which a block counts as clean, as a share of the display range: 1 % is about 2.6 of 255 steps.";
    SamplingEffort "sampling.effort" Sampling "Effort" "×" Real { least: 0.1, most: 16.0 }, Logarithmic, r(1.0), &[Time, Grain],
        "Multiplies least and most samples and divides the square of the noise threshold: 2 is about twice the time and 0.71 of the grain, everywhere alike.";
    SamplingJudge "sampling.judge" Sampling "Judged" "" Choice { names: Judge::NAMES }, Linear, name("delivered"), &[Time, Grain],
        "By what a block counts as clean. Displayed: by the grain on the screen. Delivered: by what the clean-up leaves of it; the same where there is none. Relative: by the noise as a share of the light itself, dark places as strictly as bright ones.";
    SamplingBlock "sampling.block" Sampling "Block size" "px" Choice { names: &["4", "8", "16", "32"] }, Linear, name("8"), &[Grain],
        "Side of the blocks in which grain is measured and sampling stops. Small blocks follow detail, large ones measure more surely.";
    SamplingFirstPass "sampling.first_pass" Sampling "First pass" "px" Choice { names: &["1", "2", "4", "8", "16"] }, Linear, name("16"), &[],
        "Side of the squares that get one sample each at first, to have a picture at once; finer passes follow. 1 goes straight to whole samples. The result is the same. For a draft whose whole quality is coarse, see oversize below 1.";
    SplitDirect "split.direct" Sampling "Light rays" "" Whole { least: 1, most: 64 }, Linear, w(2), &[Time, Grain],
        "Rays towards lights at the first hit of each sample. More smooths soft shadows without tracing the camera's view again.";
    SplitDiffuse "split.diffuse" Sampling "Diffuse rays" "" Whole { least: 1, most: 64 }, Linear, w(1), &[Time, Grain],
        "Diffuse rays at the first hit of each sample. More smooths light from matte surroundings.";
    SplitReflection "split.reflection" Sampling "Reflection rays" "" Whole { least: 1, most: 64 }, Linear, w(1), &[Time, Grain],
        "Reflection rays at the first hit of each sample. Weak reflections get fewer, and each counts for more.";
    SplitTransmission "split.transmission" Sampling "Transmission rays" "" Whole { least: 1, most: 64 }, Linear, w(1), &[Time, Grain],
        "Rays through glass at the first hit of each sample.";
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
    DepthVolume "depth.volume" Paths "Volume" "" Whole { least: 0, most: 128 }, Logarithmic, w(2), &[Time, Look],
        "Scattering inside haze, smoke or milky glass. 1 shows beams of light; more lets light wander inside.";
    DepthTransparent "depth.transparent" Paths "Transparent" "" Whole { least: 0, most: 128 }, Logarithmic, w(16), &[Time, Look],
        "Cut-out or see-through surfaces that a ray passes straight on, such as leaves drawn on cards. Too few turns them black.";
    CausticsReflected "paths.caustics_reflected" Paths "Reflected caustics" "" Switch, Linear, Value::Switch(true), &[Time, Grain, Look],
        "Light that a mirror throws onto matte surfaces. Off saves grain and loses that light.";
    CausticsRefracted "paths.caustics_refracted" Paths "Refracted caustics" "" Switch, Linear, Value::Switch(true), &[Time, Grain, Look],
        "Light that glass gathers onto matte surfaces. Off saves grain, and what stands behind glass gets darker.";
    PathsSoften "paths.soften" Paths "Soften caustics" "" Real { least: 0.0, most: 1.0 }, Linear, r(0.0), &[Grain, Look],
        "Least roughness of surfaces that a path meets after a matte one. Small values blur caustics and calm their grain.";
    PathsFill "paths.fill" Paths "Tail fill" "" Switch, Linear, Value::Switch(false), &[Look],
        "Adds an estimate of the light beyond the limit of all bounces, from how it fades bounce by bounce in this render.";
    RouletteFrom "depth.roulette_from" Paths "Roulette from" "" Whole { least: 1, most: 128 }, Linear, w(4), &[Time, Grain],
        "From this bounce on, weak paths are ended at random and the survivors weighted up. Early saves time and adds grain; the mean stays.";
    EnvironmentStrength "environment.strength" Lights "Environment" "" Real { least: 0.0, most: 1000.0 }, Logarithmic, r(1.0), &[Look],
        "Factor of the environment's light. 0 switches it off.";
    EnvironmentRotation "environment.rotation" Lights "Rotation" "°" Real { least: -360.0, most: 360.0 }, Linear, r(0.0), &[Look],
        "Turns the environment about the vertical axis.";
    EnvironmentWidth "environment.width" Lights "Sampling map" "px" Choice { names: &["128", "256", "512", "1024", "2048", "4096", "8192"] }, Linear, name("1024"), &[Grain],
        "Width of the map by which light rays choose directions of the environment. Small suns need a wide map; a wider one takes longer to prepare.";
    EnvironmentLight "environment.light" Lights "Lights surfaces" "" Switch, Linear, Value::Switch(true), &[Look],
        "Whether the environment shines on matte surfaces and into haze.";
    EnvironmentReflection "environment.reflection" Lights "Is reflected" "" Switch, Linear, Value::Switch(true), &[Look],
        "Whether mirrors and glass show the environment.";
    EnvironmentCamera "environment.camera" Lights "Is seen" "" Switch, Linear, Value::Switch(true), &[Look],
        "Whether the camera sees the environment behind the objects. Alpha is not changed.";
    LightsShadow "lights.shadow" Lights "Shadows" "" Choice { names: Shadows::NAMES }, Linear, name("soft"), &[Grain, Look],
        "Shadows of lamps: soft as their size makes them, hard-edged, or none. Shining objects and the environment always cast soft ones.";
    LightsShadowStrength "lights.shadow_strength" Lights "Shadow strength" "share" Real { least: 0.0, most: 1.0 }, Linear, r(1.0), &[Look],
        "How dark the shadows of lamps are: 1 as in the world, 0 none.";
    HazeDensity "haze.density" Lights "Haze" "1/m" Real { least: 0.0, most: 100.0 }, Linear, r(0.0), &[Time, Grain, Look],
        "Share of the light that haze around the whole scene takes up in the first metre, nearly. 0 is clear air.";
    HazeBrightness "haze.brightness" Lights "Haze brightness" "share" Real { least: 0.0, most: 1.0 }, Linear, r(0.95), &[Look],
        "How much of what haze takes up it scatters on; the rest is swallowed.";
    HazeForward "haze.forward" Lights "Haze direction" "" Real { least: -0.95, most: 0.95 }, Linear, r(0.3), &[Look],
        "Mean cosine of the angle by which haze scatters: above 0 forwards, so that it glows around lamps; 0 evenly; below 0 back.";
    ClampDirect "clamp.direct" CleanUp "Clamp direct" "" Real { least: 0.0, most: 1_000_000.0 }, Logarithmic, r(0.0), &[Grain, Look],
        "Highest radiance that one sample may add by light from lamps directly. 0 is no limit. Takes light away for good.";
    ClampDiffuse "clamp.diffuse" CleanUp "Clamp diffuse" "" Real { least: 0.0, most: 1_000_000.0 }, Logarithmic, r(0.0), &[Grain, Look],
        "The same for light that reaches matte surfaces by way of others.";
    ClampReflection "clamp.reflection" CleanUp "Clamp reflection" "" Real { least: 0.0, most: 1_000_000.0 }, Logarithmic, r(0.0), &[Grain, Look],
        "The same for what is seen in mirrors and glossy surfaces by way of others.";
    ClampTransmission "clamp.transmission" CleanUp "Clamp transmission" "" Real { least: 0.0, most: 1_000_000.0 }, Logarithmic, r(0.0), &[Grain, Look],
        "The same for what is seen through glass.";
    ClampVolume "clamp.volume" CleanUp "Clamp volume" "" Real { least: 0.0, most: 1_000_000.0 }, Logarithmic, r(0.0), &[Grain, Look],
        "The same for light that wanders in haze and other media.";
    CleanupDenoise "cleanup.denoise" CleanUp "Denoiser" "" Choice { names: Denoiser::NAMES }, Linear, name("none"), &[Grain, Look],
        "What is done with the grain that is left. Quick: a guided filter in a fraction of a second. Careful: fits light to albedo, normals and depth, part by part, for finals. Colour only: needs nothing but the picture.";
    CleanupBlend "cleanup.blend" CleanUp "Blend" "share" Real { least: 0.0, most: 1.0 }, Linear, r(1.0), &[Grain, Look],
        "0 is the noisy picture, 1 the fully denoised one. A little grain left looks less like wax.";
    CleanupDiffuse "cleanup.diffuse" CleanUp "… diffuse light" "" Switch, Linear, Value::Switch(true), &[Grain, Look],
        "Whether light on matte surfaces is denoised.";
    CleanupSpecular "cleanup.specular" CleanUp "… reflection, glass" "" Switch, Linear, Value::Switch(true), &[Grain, Look],
        "Whether reflections and what is seen through glass are denoised.";
    CleanupRest "cleanup.rest" CleanUp "… the rest" "" Switch, Linear, Value::Switch(true), &[Grain, Look],
        "Whether haze, shining surfaces and the environment behind the objects are denoised.";
    CleanupLive "cleanup.live" CleanUp "Denoise live from" "spp" Whole { least: 0, most: 65536 }, Logarithmic, w(0), &[],
        "While a test renders, the stage shows it through the quick denoiser from this many samples on. 0 denoises at the end alone.";
    CleanupStray "cleanup.stray" CleanUp "Stray pixels" "share" Real { least: 0.0, most: 1.0 }, Linear, r(0.0), &[Grain, Look],
        "Brings single bright pixels down that one half of the samples shows and the other does not. 0 leaves all of them, 1 takes whatever is unusual.";
    ViewExposure "view.exposure" View "Exposure" "EV" Real { least: -20.0, most: 20.0 }, Linear, r(0.0), &[],
        "Brightness of the display and of display files; each step of 1 doubles it. Grain is judged in this view. Linear files are never changed.";
    ViewTransform "view.transform" View "View transform" "" Choice { names: ViewBy::NAMES }, Linear, name("srgb"), &[],
        "How light becomes display values. sRGB clips highlights, the shoulder rolls them off, a table that you loaded lies over sRGB. Linear files are never changed.";
    ViewTable "view.table" View "View table" "" Whole { least: 0, most: 2_147_483_647 }, Linear, w(0), &[],
        "Number of the table in use, as loading a .cube file gives it; it follows from the table's content.";
    DeliveryAim "delivery.aim" Delivery "Clean at" "steps" Real { least: 0.1, most: 64.0 }, Logarithmic, r(1.0), &[],
        "How clean the delivered picture must be: the noise that may be left in any spot, in steps of 255 as displayed, seen from three picture heights away. One step cannot be seen; a frame of more pixels than the eye tells apart from there may have more in each of them. Changes no sample: finals are told clean, nearly clean or noisy by it.";
    DeliveryDpi "delivery.dpi" Delivery "Dots per inch" "dpi" Real { least: 1.0, most: 9600.0 }, Linear, r(300.0), &[],
        "How densely the picture is meant to be printed: the files carry it, and the size on paper follows from it. Changes no pixel.";
    DeliveryParts "delivery.parts" Delivery "Parts and lights" "" Switch, Linear, Value::Switch(true), &[],
        "Keeps the picture of every part and of every light group, with position and ids: for the noise ledger, for looking at them, and for OpenEXR files. Takes several hundred bytes a pixel, so it rests above 6 million rendered pixels.";
    DeliveryPartsLarge "delivery.parts_large" Delivery "… of large frames" "" Switch, Linear, Value::Switch(false), &[],
        "Keeps parts and lights of frames above 6 million rendered pixels too.";
    DeliveryDisplay "delivery.display" Delivery "Display file" "" Choice { names: DisplayFile::NAMES }, Linear, name("png_16"), &[],
        "The picture as displayed, with exposure and view transform. 8 bits clip what is above white and can show bands on gentle slopes; the report says where.";
    DeliveryLinear "delivery.linear" Delivery "Linear file" "" Choice { names: LinearFile::NAMES }, Linear, name("exr_float"), &[],
        "Radiance as it is, never changed by the view. OpenEXR holds all passes; with half floats it is half the size and differs by up to one part in 2000. TIFF holds the picture alone.";
    DeliveryPacking "delivery.packing" Delivery "Compression" "" Choice { names: Compression::NAMES }, Linear, name("zip"), &[Time],
        "Of OpenEXR files; all are lossless.";
    DeliveryPasses "delivery.passes" Delivery "Passes" "" Choice { names: Passes::NAMES }, Linear, name("one_file"), &[],
        "All passes in one OpenEXR file, or a file for each.";
    DeliveryMattes "delivery.mattes" Delivery "Mattes" "" Switch, Linear, Value::Switch(false), &[Time],
        "Adds mattes for objects and materials to the OpenEXR file, after the open Cryptomatte specification: who covers how much of each pixel. Takes 32 camera rays a pixel.";
}
