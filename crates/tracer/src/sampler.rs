//! The random numbers of one sample: padded sets of up to four Sobol dimensions, index shuffled and values scrambled by
//! hash of (seed, pixel, half, set). A number depends on nothing else, so a sample can be repeated anywhere.

use crate::sobol::{combine, scramble, scrambled};

#[derive(Debug, Clone, Copy)]
pub struct Sampler {
    /// Hash of seed, pixel and half.
    base: u32,
    index: u32,
}

impl Sampler {
    /// Sample `index` of a half (0 = A, 1 = B) of a pixel of the full frame.
    pub fn new(seed: u32, x: u32, y: u32, half: u32, index: u32) -> Self {
        Sampler { base: combine(combine(combine(seed, x), y), half), index }
    }

    /// An independent sampler for ray `ray` of `split` that start at the same first hit; `kind` tells rays of different kinds
    /// apart. The rays of all samples together are one sequence.
    #[inline]
    pub fn split(&self, kind: u32, ray: u32, split: u32) -> Self {
        Sampler { base: combine(self.base, 0x9e37 + kind), index: self.index.wrapping_mul(split).wrapping_add(ray) }
    }

    /// One number in [0, 1) of a set: the first of [`Sampler::set`].
    #[inline]
    pub fn one(&self, set: u32) -> f32 {
        self.set(set)[0]
    }

    /// Four numbers in [0, 1) of a set.
    #[inline]
    pub fn set(&self, set: u32) -> [f32; 4] {
        let key = combine(self.base, set);
        scrambled(scramble(self.index, key), [1, 2, 3, 4].map(|d| combine(key, d))).map(unit)
    }

    /// A hash for decisions that are not part of the picture, such as which samples are timed.
    pub fn lot(&self) -> u32 {
        combine(self.base, self.index.wrapping_add(0x51ed))
    }
}

/// The upper 24 bits as a float below 1.
#[inline]
fn unit(x: u32) -> f32 {
    (x >> 8) as f32 * (1.0 / 16_777_216.0)
}
