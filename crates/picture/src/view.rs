//! The view: from linear light to display values.
//!
//! sRGB curve: IEC 61966-2-1. Luminance weights: ITU-R BT.709. Shoulder: Reinhard, Stark, Shirley and Ferwerda,
//! "Photographic Tone Reproduction for Digital Images" (2002), equation 4, applied to luminance.
//! A view applies to the display and to display files, never to linear files.

use crate::Rgb;
use crate::cube::kept;
use serde::{Deserialize, Serialize};

/// Luminance Y of linear Rec. 709 RGB.
#[inline]
pub fn luminance(c: Rgb) -> f32 {
    0.2126 * c[0] + 0.7152 * c[1] + 0.0722 * c[2]
}

/// Linear 0…1 to the sRGB display value 0…1; values outside are clipped.
pub fn srgb_encode(x: f32) -> f32 {
    if x <= 0.0 || x.is_nan() {
        0.0
    } else if x <= 0.0031308 {
        12.92 * x
    } else if x < 1.0 {
        1.055 * x.powf(1.0 / 2.4) - 0.055
    } else {
        1.0
    }
}

/// sRGB display value 0…1 to linear.
pub fn srgb_decode(v: f32) -> f32 {
    if v <= 0.04045 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
}

/// How exposed light becomes display values.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Transform {
    /// The exact sRGB curve; highlights clip at 1.
    Srgb,
    /// Luminance through the extended Reinhard curve with white at 8, then sRGB.
    Shoulder,
    /// sRGB with a table over it: see [`crate::cube`].
    Table,
}

/// Exposure and transform, e.g. the judging view of a render.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct View {
    /// In stops: light is multiplied by 2^exposure.
    pub exposure: f64,
    pub transform: Transform,
    /// Number of the table, where there is one.
    #[serde(default)]
    pub table: u32,
}

impl View {
    pub const PLAIN: View = View { exposure: 0.0, transform: Transform::Srgb, table: 0 };

    pub fn gain(&self) -> f32 {
        self.exposure.exp2() as f32
    }

    /// Display values 0…1 of a linear colour.
    pub fn display(&self, c: Rgb) -> Rgb {
        let g = self.gain();
        let mut c = c.map(|x| x * g);
        if self.transform == Transform::Shoulder {
            const WHITE: f32 = 8.0;
            let y = luminance(c).max(0.0);
            let k = (1.0 + y / (WHITE * WHITE)) / (1.0 + y);
            c = c.map(|x| x * k);
        }
        let shown = c.map(srgb_encode);
        match self.transform {
            Transform::Table => kept(self.table).map_or(shown, |t| t.apply(shown).map(|v| v.clamp(0.0, 1.0))),
            _ => shown,
        }
    }

    /// Display values as bytes.
    pub fn bytes(&self, c: Rgb) -> [u8; 3] {
        self.display(c).map(|v| (v * 255.0 + 0.5) as u8)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// IEC 61966-2-1: the two branches meet at 0.0031308 → 0.04045; 18 % grey is 0.4614 (from the formula).
    #[test]
    fn srgb_curve_matches_the_standard() {
        assert!((srgb_encode(0.18) - 0.4614).abs() < 5e-5);
        assert!((srgb_encode(0.0031308) - 0.04045).abs() < 1e-5);
        assert_eq!(srgb_encode(1.0), 1.0);
        for i in 0..=255 {
            let v = i as f32 / 255.0;
            assert!((srgb_encode(srgb_decode(v)) - v).abs() < 1e-5);
        }
    }

    #[test]
    fn one_stop_doubles_and_the_shoulder_keeps_white_white() {
        let one_up = View { exposure: 1.0, ..View::PLAIN };
        assert_eq!(one_up.display([0.1; 3]), View::PLAIN.display([0.2; 3]));
        let shoulder = View { transform: Transform::Shoulder, ..View::PLAIN };
        assert!((shoulder.display([8.0; 3])[0] - 1.0).abs() < 1e-6);
        assert!(shoulder.display([2.0; 3])[0] < 1.0);
    }
}
