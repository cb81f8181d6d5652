//! Groups of parts that are denoised each by itself: diffuse light without the surfaces' own colour, light by way of
//! reflection and transmission, and the rest (what shines or surrounds, as the camera sees it, and volumes).

use super::quick::ALBEDO_FLOOR;
use crate::{Plate, Rgb};

/// Groups by their place.
pub const GROUPS: usize = 3;

/// Halves of two groups of a plate's parts; the third is what they leave of the picture. One entry a pixel.
#[derive(Debug, Clone)]
pub struct Split {
    pub diffuse: [Vec<Rgb>; 2],
    pub specular: [Vec<Rgb>; 2],
}

impl Split {
    pub fn each(&self, f: impl Fn(&Vec<Rgb>) -> Vec<Rgb>) -> Split {
        let both = |halves: &[Vec<Rgb>; 2]| [f(&halves[0]), f(&halves[1])];
        Split { diffuse: both(&self.diffuse), specular: both(&self.specular) }
    }
}

/// The halves of one group as a denoiser sees them.
pub(super) struct Group {
    pub halves: [Vec<Rgb>; 2],
    /// What light was divided by; none where it was not.
    divisor: Option<Vec<Rgb>>,
}

fn each(a: &[Rgb], b: &[Rgb], f: impl Fn(f32, f32) -> f32) -> Vec<Rgb> {
    a.iter().zip(b).map(|(a, b)| std::array::from_fn(|c| f(a[c], b[c]))).collect()
}

impl Group {
    pub fn plain(halves: [Vec<Rgb>; 2]) -> Group {
        Group { halves, divisor: None }
    }

    fn divided(plate: &Plate, halves: [&Vec<Rgb>; 2]) -> Group {
        let by: Vec<Rgb> = plate.albedo.iter().map(|a| a.map(|c| c.max(ALBEDO_FLOOR))).collect();
        Group { halves: halves.map(|half| each(half, &by, |x, y| x / y)), divisor: Some(by) }
    }

    /// All groups of a plate, or the whole picture as one where it was not split.
    pub fn all(plate: &Plate) -> Vec<Group> {
        let Some(split) = &plate.split else { return vec![Group::divided(plate, [&plate.a, &plate.b])] };
        let rest = |half: usize, all: &[Rgb]| {
            let less = each(all, &split.diffuse[half], |x, y| x - y);
            each(&less, &split.specular[half], |x, y| x - y)
        };
        vec![
            Group::divided(plate, [&split.diffuse[0], &split.diffuse[1]]),
            Group::plain(split.specular.clone()),
            Group::plain([rest(0, &plate.a), rest(1, &plate.b)]),
        ]
    }

    /// Light with the surfaces' colour given back.
    pub fn restored(&self, halves: [Vec<Rgb>; 2]) -> [Vec<Rgb>; 2] {
        match &self.divisor {
            Some(by) => halves.map(|half| each(&half, by, |x, y| x * y)),
            None => halves,
        }
    }
}
