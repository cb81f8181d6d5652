//! A plate is what a film develops into: the means of both halves and the guides of a region of a frame.

use crate::denoise::Split;
use crate::reduce::{Weighable, Weights, reach, resampled};
use crate::{Rgb, grain};
use fault::{Code, Fault};
use rayon::prelude::*;
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

    /// The part that lies in both.
    pub fn shared(&self, other: Region) -> Option<Region> {
        let (x, y) = (self.x.max(other.x), self.y.max(other.y));
        let (right, bottom) = (self.right().min(other.right()), self.bottom().min(other.bottom()));
        (right > x && bottom > y).then(|| Region { x, y, width: right - x, height: bottom - y })
    }

    /// The smallest region that holds both.
    pub fn around(self, other: Region) -> Region {
        let (x, y) = (self.x.min(other.x), self.y.min(other.y));
        let (right, bottom) = (self.right().max(other.right()), self.bottom().max(other.bottom()));
        Region { x, y, width: right - x, height: bottom - y }
    }

    /// Of values that this region holds, row by row, those of a region inside it.
    pub fn cut<T: Copy>(&self, values: &[T], to: Region) -> Vec<T> {
        (to.y..to.bottom())
            .flat_map(|y| {
                let start = (y - self.y) as usize * self.width as usize + (to.x - self.x) as usize;
                values[start..start + to.width as usize].iter().copied()
            })
            .collect()
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
    /// The halves by groups of parts, for denoisers; none in pictures from elsewhere.
    pub split: Option<Split>,
    /// Further pictures, one channel each, by the name that an EXR file gives them; empty unless they were asked for.
    pub layers: Vec<(String, Vec<f32>)>,
}

impl Plate {
    /// Bytes held.
    pub fn bytes(&self) -> usize {
        let halves = |s: &Split| s.diffuse.iter().chain(&s.specular).map(|v| size_of_val(&**v)).sum();
        let split: usize = self.split.as_ref().map_or(0, halves);
        let layers = self.layers.iter().map(|(_, v)| size_of_val(&**v)).sum::<usize>();
        let colours = [&self.a, &self.b, &self.albedo, &self.normal].map(|v| size_of_val(&**v)).iter().sum::<usize>();
        let numbers = size_of_val(&*self.samples) + size_of_val(&*self.coverage) + size_of_val(&*self.depth);
        colours + numbers + split + layers
    }

    /// A copy without the further pictures.
    pub fn without_layers(&self) -> Plate {
        Plate {
            a: self.a.clone(),
            b: self.b.clone(),
            samples: self.samples.clone(),
            coverage: self.coverage.clone(),
            albedo: self.albedo.clone(),
            normal: self.normal.clone(),
            depth: self.depth.clone(),
            split: self.split.clone(),
            layers: Vec::new(),
            ..*self
        }
    }

    /// Plates of the rows of a region, one below the other, as one; at least one plate.
    pub fn stacked(region: Region, bands: Vec<Plate>) -> Plate {
        fn put<T>(to: &mut Vec<T>, from: Vec<T>, pixels: usize) {
            to.reserve_exact(pixels.saturating_sub(to.len()));
            to.extend(from);
        }
        let n = region.area();
        let mut bands = bands.into_iter();
        let mut all = bands.next().expect("a band");
        all.region = region;
        for band in bands {
            put(&mut all.a, band.a, n);
            put(&mut all.b, band.b, n);
            put(&mut all.samples, band.samples, n);
            put(&mut all.coverage, band.coverage, n);
            put(&mut all.albedo, band.albedo, n);
            put(&mut all.normal, band.normal, n);
            put(&mut all.depth, band.depth, n);
            if let (Some(to), Some(from)) = (&mut all.split, band.split) {
                let halves = to.diffuse.iter_mut().chain(&mut to.specular);
                halves.zip(from.diffuse.into_iter().chain(from.specular)).for_each(|(to, from)| put(to, from, n));
            }
            all.layers.iter_mut().zip(band.layers).for_each(|(to, from)| put(&mut to.1, from.1, n));
        }
        all
    }

    /// The mean of both halves.
    pub fn mean(&self) -> Vec<Rgb> {
        mean(&self.a, &self.b)
    }

    /// Grain of every block of the frame's fixed grid that the region touches.
    pub fn block_grain(&self, judging: &grain::Judging) -> grain::BlockMap {
        grain::BlockMap::of(self, judging)
    }

    /// The part of this plate inside `region`, which must lie within its own.
    pub fn crop(&self, region: Region) -> Plate {
        let own = self.region;
        Plate {
            frame: self.frame,
            region,
            a: own.cut(&self.a, region),
            b: own.cut(&self.b, region),
            samples: own.cut(&self.samples, region),
            coverage: own.cut(&self.coverage, region),
            albedo: own.cut(&self.albedo, region),
            normal: own.cut(&self.normal, region),
            depth: own.cut(&self.depth, region),
            split: self.split.as_ref().map(|s| s.each(|v| own.cut(v, region))),
            layers: self.layers.iter().map(|(n, v)| (n.clone(), own.cut(v, region))).collect(),
        }
    }

    /// The plate of `region` in a frame of another size: halves and guides are reduced or enlarged each by itself, and samples
    /// are counted for each new pixel. Names, shapes and units stay.
    pub fn on_frame(self, frame: (u32, u32), region: Region) -> Plate {
        if frame == self.frame {
            return if region == self.region { self } else { self.crop(region) };
        }
        let step = (self.frame.0 as f64 / frame.0 as f64, self.frame.1 as f64 / frame.1 as f64);
        let own = self.region;
        let across = Weights::tent(step.0, own.x..own.right(), region.x..region.right());
        let down = Weights::tent(step.1, own.y..own.bottom(), region.y..region.bottom());
        fn to<T: Weighable>(values: &[T], width: u32, across: &Weights, down: &Weights) -> Vec<T> {
            resampled(values, width as usize, across, down)
        }
        let w = own.width;
        let counts: Vec<f32> = self.samples.iter().map(|n| *n as f32).collect();
        let each = (step.0 * step.1) as f32;
        Plate {
            frame,
            region,
            a: to(&self.a, w, &across, &down),
            b: to(&self.b, w, &across, &down),
            samples: to(&counts, w, &across, &down).iter().map(|n| (n * each).round() as u32).collect(),
            coverage: to(&self.coverage, w, &across, &down),
            albedo: to(&self.albedo, w, &across, &down),
            normal: to(&self.normal, w, &across, &down),
            depth: to(&self.depth, w, &across, &down),
            split: self.split.as_ref().map(|s| s.each(|v| to(v, w, &across, &down))),
            layers: self
                .layers
                .iter()
                .map(|(name, v)| {
                    // Numbers of objects and materials are names: between two of them lies a third thing.
                    let v =
                        if name.ends_with(".id") { self.nearest(v, region, step) } else { to(v, w, &across, &down) };
                    (name.clone(), v)
                })
                .collect(),
        }
    }

    /// Of every pixel of a region of another frame the value at its middle, `step` of our pixels to one of its.
    fn nearest(&self, values: &[f32], region: Region, step: (f64, f64)) -> Vec<f32> {
        let own = self.region;
        let at = |i: u32, step: f64, from: u32, len: u32| {
            (((i as f64 + 0.5) * step) as u32).clamp(from, from + len - 1) - from
        };
        let of = |i: u32| {
            let x = at(region.x + i % region.width, step.0, own.x, own.width);
            let y = at(region.y + i / region.width, step.1, own.y, own.height);
            values[(y * own.width + x) as usize]
        };
        (0..region.area() as u32).map(of).collect()
    }
}

impl Plate {
    /// Gives pixels without samples what the nearest ones have that were rendered; their number stays 0. The share that was
    /// filled; nothing happens where no pixel was rendered. O(pixels).
    pub fn fill_gaps(&mut self) -> f64 {
        let (w, h) = (self.region.width as usize, self.region.height as usize);
        let mut from: Vec<u32> =
            self.samples.iter().enumerate().map(|(i, n)| if *n > 0 { i as u32 } else { u32::MAX }).collect();
        let mut open: std::collections::VecDeque<usize> = (0..from.len()).filter(|i| from[*i] != u32::MAX).collect();
        let gaps = from.len() - open.len();
        if gaps == 0 || open.is_empty() {
            return 0.0;
        }
        while let Some(i) = open.pop_front() {
            let (x, y) = (i % w, i / w);
            let around =
                [(x > 0, i.wrapping_sub(1)), (x + 1 < w, i + 1), (y > 0, i.wrapping_sub(w)), (y + 1 < h, i + w)];
            for (_, k) in around.into_iter().filter(|(there, _)| *there) {
                if from[k] == u32::MAX {
                    from[k] = from[i];
                    open.push_back(k);
                }
            }
        }
        fn gathered<T: Copy + Send + Sync>(values: &[T], from: &[u32]) -> Vec<T> {
            from.par_iter().map(|i| values[*i as usize]).collect()
        }
        self.a = gathered(&self.a, &from);
        self.b = gathered(&self.b, &from);
        self.coverage = gathered(&self.coverage, &from);
        self.albedo = gathered(&self.albedo, &from);
        self.normal = gathered(&self.normal, &from);
        self.depth = gathered(&self.depth, &from);
        self.split = self.split.as_ref().map(|s| s.each(|v| gathered(v, &from)));
        self.layers.par_iter_mut().for_each(|(_, v)| *v = gathered(v, &from));
        gaps as f64 / from.len() as f64
    }
}

/// Whether a pixel was rendered, by the samples of all: a pilot leaves places out. Pictures from elsewhere tell of no samples at
/// all, and all of theirs count.
pub fn rendered(samples: &[u32]) -> impl Fn(usize) -> bool + '_ {
    let untold = samples.iter().all(|n| *n == 0);
    move |i| untold || samples[i] > 0
}

/// The mean of two halves.
pub fn mean(a: &[Rgb], b: &[Rgb]) -> Vec<Rgb> {
    a.iter().zip(b).map(|(a, b)| std::array::from_fn(|c| 0.5 * (a[c] + b[c]))).collect()
}

/// The part of a larger or smaller frame that the given part of a frame needs.
pub fn footprint(region: Region, frame: (u32, u32), on: (u32, u32)) -> Region {
    if frame == on {
        return region;
    }
    let x = reach(on.0 as f64 / frame.0 as f64, region.x..region.right(), on.0);
    let y = reach(on.1 as f64 / frame.1 as f64, region.y..region.bottom(), on.1);
    Region { x: x.start, y: y.start, width: x.end - x.start, height: y.end - y.start }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::denoise::Split;
    use crate::denoise::tests::even_plate;

    /// Two things side by side, numbers 1 and 5: at any scale each pixel names one of them, never 2 to 4.
    #[test]
    fn ids_are_those_of_things_that_are_there() {
        let mut p = even_plate((48, 48), 0.0);
        p.layers = vec![
            ("object.id".into(), (0..48 * 48).map(|i| if i % 48 < 17 { 1.0 } else { 5.0 }).collect()),
            ("diffuse_direct.R".into(), (0..48 * 48).map(|i| if i % 48 < 17 { 1.0 } else { 5.0 }).collect()),
        ];
        for side in [10, 20, 32, 47, 60, 96] {
            let moved = p.clone().on_frame((side, side), Region { x: 0, y: 0, width: side, height: side });
            assert!(moved.layers[0].1.iter().all(|v| *v == 1.0 || *v == 5.0), "{side}");
            let left = moved.layers[0].1.iter().filter(|v| **v == 1.0).count() as f32 / moved.layers[0].1.len() as f32;
            assert!((left - 17.0 / 48.0).abs() < 1.0 / side as f32, "{side}: {left}");
            // Light is averaged as before.
            assert!(side == 96 || moved.layers[1].1.iter().any(|v| *v > 1.01 && *v < 4.99), "{side}");
        }
    }

    /// Cut into rows anywhere and stacked again a plate is what it was, with all that it holds.
    #[test]
    fn rows_that_were_cut_are_stacked_again() {
        let mut p = even_plate((40, 31), 0.3);
        let n = p.a.len();
        p.samples = (0..n as u32).collect();
        p.depth = (0..n).map(|i| i as f32).collect();
        p.layers = vec![("shadow.Y".into(), (0..n).map(|i| (i % 7) as f32).collect())];
        p.split = Some(Split { diffuse: [p.a.clone(), p.b.clone()], specular: [p.b.clone(), p.albedo.clone()] });
        for cuts in [vec![31], vec![1, 31], vec![7, 8, 20, 31], (1..=31).collect::<Vec<u32>>()] {
            let starts = std::iter::once(0).chain(cuts.iter().copied());
            let bands: Vec<Plate> =
                starts.zip(&cuts).map(|(y, end)| p.crop(Region { x: 0, y, width: 40, height: end - y })).collect();
            assert_eq!(format!("{:?}", Plate::stacked(p.region, bands)), format!("{p:?}"), "{cuts:?}");
        }
        assert_eq!(format!("{:?}", Plate { layers: Vec::new(), ..p.clone() }), format!("{:?}", p.without_layers()));
    }

    /// Gaps get what the nearest rendered pixel has, of everything, and stay known as gaps.
    #[test]
    fn gaps_are_filled_from_the_nearest_pixels() {
        let mut p = even_plate((32, 16), 0.0);
        let n = p.a.len();
        p.samples = (0..n).map(|i| if (i % 32) / 8 % 2 == 0 { 8 } else { 0 }).collect();
        p.layers = vec![("object.id".into(), (0..n).map(|i| (i % 32 / 16) as f32).collect())];
        for i in 0..n {
            p.a[i] = if p.samples[i] > 0 { [1.0 + (i % 32) as f32; 3] } else { [0.0; 3] };
        }
        let before = p.samples.clone();
        assert_eq!(p.fill_gaps(), 0.5);
        assert_eq!(p.samples, before);
        for (i, a) in p.a.iter().enumerate() {
            let x = i % 32;
            let nearest = match x {
                8..=11 => 7,
                12..=15 => 16,
                24..=31 => 23,
                x => x,
            };
            assert_eq!((a[0], p.layers[0].1[i]), (1.0 + nearest as f32, (nearest / 16) as f32), "column {x}");
        }
        assert_eq!(p.fill_gaps(), 0.5, "what is filled is still no sample");
    }
}
