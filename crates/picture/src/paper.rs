//! Paper and pixels. Sizes of the A and B series: ISO 216; an inch is 25.4 mm exactly.

use serde::{Deserialize, Serialize};
use ts_rs::TS;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Unit {
    Mm,
    Cm,
    Inch,
}

impl Unit {
    pub fn millimetres(self) -> f64 {
        match self {
            Unit::Mm => 1.0,
            Unit::Cm => 10.0,
            Unit::Inch => 25.4,
        }
    }
}

/// A paper by name; upright, millimetres.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, TS)]
pub struct Paper {
    pub name: &'static str,
    pub width: f64,
    pub height: f64,
}

const fn paper(name: &'static str, width: f64, height: f64) -> Paper {
    Paper { name, width, height }
}

/// ISO 216, and three sizes common for photographs.
pub const PAPERS: &[Paper] = &[
    paper("A5", 148.0, 210.0),
    paper("A4", 210.0, 297.0),
    paper("A3", 297.0, 420.0),
    paper("A2", 420.0, 594.0),
    paper("A1", 594.0, 841.0),
    paper("A0", 841.0, 1189.0),
    paper("B4", 250.0, 353.0),
    paper("10 × 15 cm", 100.0, 150.0),
    paper("20 × 30 cm", 200.0, 300.0),
    paper("8 × 10 inch", 203.2, 254.0),
];

/// Pixels of a length at dots per inch, to the nearest.
pub fn pixels(length: f64, unit: Unit, dpi: f64) -> f64 {
    (length * unit.millimetres() / 25.4 * dpi).round()
}

/// Length of so many pixels at dots per inch.
pub fn length(pixels: f64, unit: Unit, dpi: f64) -> f64 {
    pixels / dpi * 25.4 / unit.millimetres()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A4 at 300 dpi is 2480 × 3508 pixels (ISO 216; a common figure of the print trade).
    #[test]
    fn a4_at_300_dpi() {
        let a4 = PAPERS.iter().find(|p| p.name == "A4").unwrap();
        assert_eq!((pixels(a4.width, Unit::Mm, 300.0), pixels(a4.height, Unit::Mm, 300.0)), (2480.0, 3508.0));
        assert_eq!(pixels(8.0, Unit::Inch, 300.0), 2400.0);
        assert!((length(2480.0, Unit::Cm, 300.0) - 21.0).abs() < 0.01);
        // Each A size is half of the one before, to the millimetre (ISO 216).
        let a = |n: &str| *PAPERS.iter().find(|p| p.name == n).unwrap();
        for (large, small) in [("A0", "A1"), ("A1", "A2"), ("A2", "A3"), ("A3", "A4"), ("A4", "A5")] {
            assert_eq!((a(small).height, a(small).width), (a(large).width, (a(large).height / 2.0).floor()));
        }
    }
}
