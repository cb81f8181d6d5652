//! Light by bounce: what the depth ledger rests on.
//!
//! Light is booked twice: by the number of all scatterings on its way, and by the number of each kind among them. Light
//! behind k scatterings is what a limit below k loses. For the limit of all bounces that is exact for the same samples with
//! fixed counts, since a shorter limit only cuts paths off; for the limit of one kind it holds in the mean, since the other
//! kinds are then drawn more often. Clamps and the tail fill come later and are not counted.

use crate::counters::{BOUNCES, bin};
use crate::description::Settings;
use glam::Vec3;

/// Kinds that have limits of their own: diffuse, reflection, transmission, volume.
pub const USED: usize = 4;

/// Reflected and refracted.
pub const CAUSTICS: usize = 2;

/// What one block keeps, as a row of floats: light by all bounces, light by bounces of each kind from the first on, light that
/// would be gone without reflected and without refracted caustics, and the sum of the samples' signs.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct BroughtLayout {
    all: usize,
    used: [usize; USED],
}

impl BroughtLayout {
    pub fn new(s: &Settings) -> BroughtLayout {
        BroughtLayout { all: bin(s.depth) + 1, used: s.depths.map(|d| bin(d.min(s.depth))) }
    }

    pub fn stride(&self) -> usize {
        3 * self.pictures() + 1
    }

    /// Colours in a row.
    fn pictures(&self) -> usize {
        self.caustics_at() + CAUSTICS
    }

    fn caustics_at(&self) -> usize {
        self.all + self.used.iter().sum::<usize>()
    }

    /// Position of the light behind `used` scatterings of a kind.
    fn place(&self, kind: usize, used: usize) -> usize {
        self.all + self.used[..kind].iter().sum::<usize>() + used - 1
    }

    /// Adds what some samples of a block have brought.
    pub fn add(&self, row: &mut [f32], b: &Brought) {
        let mut put = |at: usize, light: Vec3| (0..3).for_each(|c| row[3 * at + c] += light[c]);
        (0..self.all).for_each(|n| put(n, b.all[n]));
        for (kind, light) in b.used.iter().enumerate() {
            (1..=self.used[kind]).for_each(|n| put(self.place(kind, n), light[n]));
        }
        (0..CAUSTICS).for_each(|k| put(self.caustics_at() + k, b.caustics[k]));
        row[3 * self.pictures()] += b.weight;
    }

    /// Reads a row: mean light by all bounces.
    pub fn by_all(&self, row: &[f32]) -> Vec<Vec3> {
        (0..self.all).map(|n| self.light(row, n)).collect()
    }

    /// Mean light behind 1, 2 … scatterings of a kind.
    pub fn by_used(&self, row: &[f32], kind: usize) -> Vec<Vec3> {
        (1..=self.used[kind]).map(|n| self.light(row, self.place(kind, n))).collect()
    }

    /// Mean light by reflected and by refracted caustics.
    pub fn caustics(&self, row: &[f32]) -> [Vec3; CAUSTICS] {
        std::array::from_fn(|k| self.light(row, self.caustics_at() + k))
    }

    fn light(&self, row: &[f32], at: usize) -> Vec3 {
        Vec3::new(row[3 * at], row[3 * at + 1], row[3 * at + 2]) / self.samples(row).max(1.0)
    }

    pub fn samples(&self, row: &[f32]) -> f32 {
        row[3 * self.pictures()]
    }

    /// Names of a row's floats in a saved state.
    pub fn names(&self) -> Vec<String> {
        (0..self.stride()).map(|i| format!("brought.{i:03}")).collect()
    }
}

/// What the samples of one block bring in one go.
#[derive(Debug, Clone)]
pub struct Brought {
    all: [Vec3; BOUNCES],
    used: [[Vec3; BOUNCES]; USED],
    caustics: [Vec3; CAUSTICS],
    weight: f32,
    /// Of the present sample, where its filter weighs it.
    sign: f32,
}

impl Default for Brought {
    fn default() -> Brought {
        let (all, used) = ([Vec3::ZERO; BOUNCES], [[Vec3::ZERO; BOUNCES]; USED]);
        Brought { all, used, caustics: [Vec3::ZERO; CAUSTICS], weight: 0.0, sign: 1.0 }
    }
}

impl Brought {
    pub fn begin(&mut self, negative: bool) {
        self.sign = if negative { -1.0 } else { 1.0 };
        self.weight += self.sign;
    }

    /// Light that has been scattered so often, and so often by each kind, and whether by way of which caustics.
    #[inline]
    pub fn light(&mut self, bounces: u32, used: &[u32; USED], caustics: [bool; CAUSTICS], light: Vec3) {
        // A sample that is not finite counts as black.
        if !light.is_finite() {
            return;
        }
        let light = self.sign * light;
        self.all[bin(bounces)] += light;
        for (k, n) in used.iter().enumerate() {
            if *n > 0 {
                self.used[k][bin(*n)] += light;
            }
        }
        for (sum, by) in self.caustics.iter_mut().zip(caustics) {
            if by {
                *sum += light;
            }
        }
    }
}
