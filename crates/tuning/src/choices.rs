//! Choice knobs as types. The knob table takes its names from here, and code that tells them apart matches variants: a name cannot
//! be misspelt, and the compiler asks for every case.

use crate::{K, Tuning};

/// The values of one choice knob.
pub trait Named: Copy + PartialEq + 'static {
    const KNOB: K;
    const ALL: &'static [Self];
    /// Their names in files, in the same order.
    const NAMES: &'static [&'static str];

    fn named(name: &str) -> Option<Self> {
        Self::NAMES.iter().position(|n| *n == name).map(|k| Self::ALL[k])
    }
}

macro_rules! choices {
    ($($(#[$doc:meta])* $name:ident of $knob:ident { $($variant:ident $text:literal),* $(,)? })*) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub enum $name { $($variant),* }

        impl Named for $name {
            const KNOB: K = K::$knob;
            const ALL: &'static [$name] = &[$($name::$variant),*];
            const NAMES: &'static [&'static str] = &[$($text),*];
        }
    )*};
}

choices! {
    PixelFilter of FrameFilter {
        Box "box", Triangle "triangle", Gaussian "gaussian", BlackmanHarris "blackman_harris",
        MitchellNetravali "mitchell_netravali", Lanczos "lanczos",
    }
    /// What grain is counted of.
    Judge of SamplingJudge { Displayed "displayed", Delivered "delivered", Relative "relative" }
    Shadows of LightsShadow { Soft "soft", Hard "hard", None "none" }
    Denoiser of CleanupDenoise { None "none", Quick "quick", Careful "careful", Colour "colour" }
    ViewBy of ViewTransform { Srgb "srgb", Shoulder "shoulder", Table "table" }
    DisplayFile of DeliveryDisplay { Png16 "png_16", Png8 "png_8", Tiff16 "tiff_16", None "none" }
    LinearFile of DeliveryLinear { ExrFloat "exr_float", ExrHalf "exr_half", TiffFloat "tiff_float", None "none" }
    Compression of DeliveryPacking { Zip "zip", Piz "piz", Rle "rle", None "none" }
    Passes of DeliveryPasses { OneFile "one_file", OneEach "one_each" }
}

impl Tuning {
    /// The value of a choice knob.
    pub fn choice<C: Named>(&self) -> C {
        let name = self.name(C::KNOB);
        C::named(name).unwrap_or_else(|| unreachable!("{:?} holds {name}", C::KNOB))
    }

    /// The value of a choice knob whose names are numbers.
    pub fn number(&self, k: K) -> u32 {
        match self.name(k).parse() {
            Ok(n) => n,
            Err(_) => unreachable!("{k:?} holds {}", self.name(k)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{KNOBS, Kind};

    /// Every name that a knob takes comes back as what it stands for: none is missing, and numbers are numbers.
    #[test]
    fn every_name_of_a_choice_is_understood() {
        fn all<C: Named + std::fmt::Debug>() -> K {
            assert_eq!(C::ALL.len(), C::NAMES.len());
            for (value, name) in C::ALL.iter().zip(C::NAMES) {
                assert_eq!(Tuning::default().with(C::KNOB, *name).choice::<C>(), *value);
            }
            C::KNOB
        }
        let mut typed =
            vec![all::<PixelFilter>(), all::<Judge>(), all::<Shadows>(), all::<Denoiser>(), all::<ViewBy>()];
        typed.extend([all::<DisplayFile>(), all::<LinearFile>(), all::<Compression>(), all::<Passes>()]);
        let numbers = [K::SamplingBlock, K::SamplingFirstPass, K::EnvironmentWidth];
        for (i, knob) in KNOBS.iter().enumerate() {
            let Kind::Choice { names } = knob.kind else { continue };
            match numbers.iter().find(|k| **k as usize == i) {
                Some(k) => names.iter().for_each(|n| {
                    assert_eq!(Tuning::default().with(*k, *n).number(*k).to_string(), *n);
                }),
                None => assert!(typed.iter().any(|k| *k as usize == i), "{} has no type", knob.id),
            }
        }
    }
}
