//! Cleaning a picture up: stray pixels out, then one of three denoisers over chosen groups of parts, then a blend with what
//! was there before. Nothing is changed for good: a plate keeps its noisy halves.

mod careful;
mod colour;
pub mod detail;
mod field;
mod group;
pub mod profile;
mod quick;
mod stray;
mod wide;

pub use group::{GROUPS, Split};
pub use stray::Strays;

use crate::{Plate, Rgb, View, mean};
use group::Group;
use profile::{Hints, Profile};
use std::borrow::Cow;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Method {
    /// A guided wavelet, in a fraction of a second.
    Quick,
    /// Guided regression, for finals.
    Careful,
    /// Non-local means, without guides.
    Colour,
}

impl Method {
    pub const ALL: [Method; 3] = [Method::Quick, Method::Careful, Method::Colour];

    /// The method with a knob's name.
    pub fn named(name: &str) -> Option<Method> {
        Method::ALL.into_iter().find(|m| m.name() == name)
    }

    pub fn name(self) -> &'static str {
        match self {
            Method::Quick => "quick",
            Method::Careful => "careful",
            Method::Colour => "colour",
        }
    }
}

/// How a picture is cleaned up.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CleanUp {
    pub method: Option<Method>,
    /// 0 the noisy picture, 1 the fully denoised one.
    pub blend: f32,
    /// Whether diffuse light, reflection with transmission, and the rest are denoised.
    pub groups: [bool; GROUPS],
    /// Strength at which stray pixels are removed, 0…1.
    pub stray: f32,
}

impl CleanUp {
    pub const NONE: CleanUp = CleanUp { method: None, blend: 1.0, groups: [true; GROUPS], stray: 0.0 };

    pub fn with(method: Method, blend: f32) -> CleanUp {
        CleanUp { method: Some(method), blend, ..CleanUp::NONE }
    }

    /// The denoiser, where it would do anything.
    pub fn denoises(&self) -> Option<Method> {
        self.method.filter(|_| self.blend > 0.0 && self.groups.contains(&true))
    }

    /// The picture is not left as it is.
    pub fn acts(&self) -> bool {
        self.stray > 0.0 || self.denoises().is_some()
    }
}

/// The denoiser that a plate can be given: regression needs two halves.
pub fn possible(plate: &Plate, how: &CleanUp) -> Option<Method> {
    how.denoises().map(|m| if m == Method::Careful && plate.a == plate.b { Method::Colour } else { m })
}

/// The delivered picture of a plate.
pub fn clean(plate: &Plate, how: &CleanUp) -> Vec<Rgb> {
    let [a, b] = clean_halves(plate, how);
    mean(&a, &b)
}

/// Both halves cleaned up alike: their mean is the delivered picture, their difference the grain that is left in it.
pub fn clean_halves(plate: &Plate, how: &CleanUp) -> [Vec<Rgb>; 2] {
    clean_halves_by(plate, how, &Hints::default())
}

/// The same with hints where the noise of a picture without guides can be read off.
pub fn clean_halves_by(plate: &Plate, how: &CleanUp, hints: &Hints) -> [Vec<Rgb>; 2] {
    let plate = swept(plate, how);
    match possible(&plate, how) {
        None => [plate.a.clone(), plate.b.clone()],
        Some(Method::Careful) => careful_halves(&plate, how),
        Some(method) => {
            let chosen = Chosen::of(&plate, &how.groups);
            let [a, b] = chosen.filtered(&plate, method, hints);
            let done = |noisy: &[Rgb], half: usize, done: &[Rgb]| blended(noisy, &chosen.halves[half], done, how.blend);
            [done(&plate.a, 0, &a), done(&plate.b, 1, &b)]
        }
    }
}

/// What the halves tell of a clean-up as displayed: mean square error of a cleaned half, and mean square noise of one that is not.
/// A cleaned half differs from the other noisy one by its own error and by that one's noise, which is half of what the noisy halves
/// differ by (a holdout estimate: Efron 2004, "The estimation of prediction error", for halves that are independent). The view
/// bends what noise there is, and denoisers take the weights of each half from the other one: the error itself is told badly, the
/// difference of two denoisers to a tenth of the noise ([`surely_worse`]).
pub fn risk(noisy: [&[Rgb]; 2], done: [&[Rgb]; 2], view: &View) -> [f64; 2] {
    let squared = |x: Rgb, y: Rgb| (0..3).map(|c| (x[c] as f64 - y[c] as f64).powi(2)).sum::<f64>() / 3.0;
    let mut sums = [0.0; 2];
    for i in 0..noisy[0].len() {
        let [a, b] = noisy.map(|half| view.display(half[i]));
        let [x, y] = done.map(|half| view.display(half[i]));
        sums[0] += 0.5 * (squared(x, b) + squared(y, a) - squared(a, b));
        sums[1] += 0.5 * squared(a, b);
    }
    sums.map(|s| s / noisy[0].len().max(1) as f64)
}

/// Whether the first of two clean-ups surely errs more than the second, by [`risk`] of both. Told differences were off by less than a
/// tenth of the noise of a half (`./run bench denoise choice`: six scenes, 4 to 128 samples).
pub fn surely_worse([error, noise]: [f64; 2], [other, _]: [f64; 2]) -> bool {
    error - other > 0.1 * noise
}

fn swept<'a>(plate: &'a Plate, how: &CleanUp) -> Cow<'a, Plate> {
    match how.stray > 0.0 {
        true => Cow::Owned(Strays::of(plate, how.stray).removed(plate.clone())),
        false => Cow::Borrowed(plate),
    }
}

/// Changes what is chosen of a picture from what it was to what became of it, so much of the way.
fn blended(picture: &[Rgb], was: &[Rgb], is: &[Rgb], blend: f32) -> Vec<Rgb> {
    let change = |i: usize| std::array::from_fn(|c| picture[i][c] + blend * (is[i][c] - was[i][c]));
    (0..picture.len()).map(change).collect()
}

fn careful_halves(plate: &Plate, how: &CleanUp) -> [Vec<Rgb>; 2] {
    let mut halves = [plate.a.clone(), plate.b.clone()];
    let groups = Group::all(plate);
    let whole = groups.len() == 1;
    for (group, _) in groups.iter().zip(how.groups).filter(|(_, chosen)| *chosen || whole) {
        let was = group.restored(group.halves.clone());
        let is = group.restored(careful::filtered(plate, group));
        for (half, (was, is)) in halves.iter_mut().zip(was.iter().zip(&is)) {
            *half = blended(half, was, is, how.blend);
        }
    }
    halves
}

/// The light of the chosen groups, which is filtered as one.
struct Chosen {
    halves: [Vec<Rgb>; 2],
}

impl Chosen {
    fn of(plate: &Plate, groups: &[bool; GROUPS]) -> Chosen {
        let mut halves = [plate.a.clone(), plate.b.clone()];
        if groups.contains(&false) && plate.split.is_some() {
            for (group, _) in Group::all(plate).iter().zip(groups).filter(|(_, chosen)| !**chosen) {
                let out = group.restored(group.halves.clone());
                for (half, out) in halves.iter_mut().zip(&out) {
                    half.iter_mut().zip(out).for_each(|(h, o)| (0..3).for_each(|c| h[c] -= o[c]));
                }
            }
        }
        Chosen { halves }
    }

    fn filtered(&self, plate: &Plate, method: Method, hints: &Hints) -> [Vec<Rgb>; 2] {
        let [a, b] = &self.halves;
        if method != Method::Colour && a != b {
            return quick::filtered(plate, [a, b], [a, b]);
        }
        let profile = Profile::of([a, b], plate.region, hints);
        if method == Method::Colour {
            let w = plate.region.width as usize;
            if a == b {
                let done = colour::filtered(a, a, w, &profile, 1.0);
                return [done.clone(), done];
            }
            // A half is noisier than the mean of both.
            return [(a, b), (b, a)].map(|(own, other)| colour::filtered(own, other, w, &profile, 2f32.sqrt()));
        }
        // A picture that came without halves is as noisy as its flat areas.
        let noise = [0.5f32.sqrt(), -0.5f32.sqrt()]
            .map(|sign| a.iter().map(|c| c.map(|v| v + sign * profile.linear_level(v))).collect::<Vec<Rgb>>());
        quick::filtered(plate, [&noise[0], &noise[1]], [a, b])
    }
}

#[cfg(test)]
pub(crate) mod tests;
