//! A plate is what a film develops into: the means of both halves and the guides of a region of a frame.

use crate::{Rgb, View, grain};
use fault::{Code, Fault};
use serde::{Deserialize, Serialize};

/// A rectangle of a frame in pixels; x to the right, y downwards.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ts_rs::TS)]
pub struct Region {
    pub x: u32,
    pub y: u32,
    pub width: u32,
    pub height: u32,
}

impl Region {
    pub fn whole(width: u32, height: u32) -> Self {
        Region { x: 0, y: 0, width, height }
    }

    pub fn area(&self) -> usize {
        self.width as usize * self.height as usize
    }

    pub fn right(&self) -> u32 {
        self.x + self.width
    }

    pub fn bottom(&self) -> u32 {
        self.y + self.height
    }

    /// Refuses a region that is empty or not wholly inside a frame.
    pub fn check(&self, frame: (u32, u32)) -> Result<(), Fault> {
        let inside = |start: u32, len: u32, end: u32| len > 0 && start.checked_add(len).is_some_and(|e| e <= end);
        if inside(self.x, self.width, frame.0) && inside(self.y, self.height, frame.1) {
            return Ok(());
        }
        Err(Fault::new(
            Code::OutOfRange,
            format!(
                "the region {}×{} at {}, {} is not inside the frame of {}×{}",
                self.width, self.height, self.x, self.y, frame.0, frame.1
            ),
            "region",
            "choose at least one pixel, all of them inside the frame",
        ))
    }
}

/// The developed state of a render. All vectors have one entry a pixel, row by row from the top left.
#[derive(Debug, Clone)]
pub struct Plate {
    /// Size of the full frame.
    pub frame: (u32, u32),
    /// The part of the frame that this plate holds.
    pub region: Region,
    /// Mean radiance of half A and of half B.
    pub a: Vec<Rgb>,
    pub b: Vec<Rgb>,
    /// Samples taken, both halves together.
    pub samples: Vec<u32>,
    /// Share of the samples that met an object, 0…1.
    pub coverage: Vec<f32>,
    /// First-hit reflectance, 0…1.
    pub albedo: Vec<Rgb>,
    /// First-hit shading normal in world space.
    pub normal: Vec<Rgb>,
    /// Distance from the camera in metres; 0 where nothing is met.
    pub depth: Vec<f32>,
    /// Further pictures, one channel each, by the name that an EXR file gives them; empty unless they were asked for.
    pub layers: Vec<(String, Vec<f32>)>,
}

impl Plate {
    /// The mean of both halves.
    pub fn mean(&self) -> Vec<Rgb> {
        self.a.iter().zip(&self.b).map(|(a, b)| std::array::from_fn(|c| 0.5 * (a[c] + b[c]))).collect()
    }

    /// Grain of every block of the frame's fixed grid that the region touches.
    pub fn block_grain(&self, view: &View, block: u32) -> grain::BlockMap {
        grain::BlockMap::of(self, view, block)
    }

    /// The part of this plate inside `region`, which must lie within its own.
    pub fn crop(&self, region: Region) -> Plate {
        fn cut<T: Copy>(from: &[T], own: Region, to: Region) -> Vec<T> {
            (to.y..to.bottom())
                .flat_map(|y| {
                    let start = (y - own.y) as usize * own.width as usize + (to.x - own.x) as usize;
                    from[start..start + to.width as usize].iter().copied()
                })
                .collect()
        }
        let own = self.region;
        Plate {
            frame: self.frame,
            region,
            a: cut(&self.a, own, region),
            b: cut(&self.b, own, region),
            samples: cut(&self.samples, own, region),
            coverage: cut(&self.coverage, own, region),
            albedo: cut(&self.albedo, own, region),
            normal: cut(&self.normal, own, region),
            depth: cut(&self.depth, own, region),
            layers: self.layers.iter().map(|(n, v)| (n.clone(), cut(v, own, region))).collect(),
        }
    }
}
