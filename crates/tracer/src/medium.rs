//! Homogeneous media: absorption by the law of Beer and Lambert, scattering with the phase function of Henyey and Greenstein
//! (1941), and where along a ray to scatter: by distance (exponential), or towards a light (equiangular, Kulla and Fajardo
//! 2012).

use glam::{Vec2, Vec3};
use std::f32::consts::{PI, TAU};

/// Densities per metre.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Medium {
    pub scattering: Vec3,
    pub extinction: Vec3,
    /// Mean cosine of the scattering angle.
    pub forward: f32,
}

impl Medium {
    pub fn new(scattering: Vec3, absorption: Vec3, forward: f32) -> Option<Medium> {
        let extinction = scattering + absorption;
        (extinction != Vec3::ZERO).then_some(Medium { scattering, extinction, forward })
    }

    pub fn scatters(&self) -> bool {
        self.scattering.max_element() > 0.0
    }

    /// Share of the light that is left after a distance.
    pub fn transmittance(&self, distance: f32) -> Vec3 {
        // An infinite way through a medium without extinction in a channel is clear.
        let left = |s: f32| if s > 0.0 { (-s * distance).exp() } else { 1.0 };
        Vec3::new(left(self.extinction.x), left(self.extinction.y), left(self.extinction.z))
    }

    /// Chances with which a path of some throughput draws by the extinction of each channel. In proportion to it, the throughput
    /// of all channels together never grows, however unequal the densities: no path ends up with far more light than others
    /// (one-sample model of Veach 1997 over the channels, as by Wilkie et al. 2014, "Hero Wavelength Spectral Sampling").
    pub fn channels(throughput: Vec3) -> Vec3 {
        throughput / throughput.element_sum().max(1e-30)
    }

    /// Draws a distance by the extinction of one channel, chosen by `channels`; none if it lies beyond `length`. Together with
    /// the weights that go with it: throughput is multiplied by them.
    pub fn draw(&self, length: f32, channels: Vec3, channel: f32, u: f32) -> (Option<f32>, Vec3) {
        let chosen = if channel < channels.x {
            0
        } else if channel < channels.x + channels.y {
            1
        } else {
            2
        };
        let s = self.extinction[chosen];
        let t = if s > 0.0 { -(1.0 - u).ln() / s } else { f32::INFINITY };
        if t < length {
            let density = self.density(channels, t);
            let left = self.transmittance(t);
            return (Some(t), if density > 0.0 { self.scattering * left / density } else { Vec3::ZERO });
        }
        let left = self.transmittance(length);
        (None, left / left.dot(channels).max(1e-30))
    }

    /// Density with which [`Medium::draw`] scatters at a distance.
    pub fn density(&self, channels: Vec3, t: f32) -> f32 {
        (self.extinction * self.transmittance(t)).dot(channels)
    }

    /// Density of a pair of unit directions, the first of travel before, the second after.
    pub fn phase(&self, cos: f32) -> f32 {
        let g = self.forward;
        let k = (1.0 + g * g - 2.0 * g * cos).max(1e-6);
        (1.0 - g * g) / (4.0 * PI * k * k.sqrt())
    }

    /// Draws a direction after scattering by [`Medium::phase`].
    pub fn turn(&self, before: Vec3, u: Vec2) -> Vec3 {
        let g = self.forward;
        let cos = if g.abs() < 1e-3 {
            1.0 - 2.0 * u.x
        } else {
            let k = (1.0 - g * g) / (1.0 - g + 2.0 * g * u.x);
            ((1.0 + g * g - k * k) / (2.0 * g)).clamp(-1.0, 1.0)
        };
        let sin = (1.0 - cos * cos).max(0.0).sqrt();
        let (s, c) = (TAU * u.y).sin_cos();
        let (t, b) = before.any_orthonormal_pair();
        (t * (sin * c) + b * (sin * s) + before * cos).normalize()
    }
}

/// A medium that fills a sphere.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Haze {
    pub medium: Medium,
    pub centre: Vec3,
    pub radius: f32,
}

impl Haze {
    /// The stretch of a ray inside the haze: from, to.
    pub fn stretch(&self, origin: Vec3, direction: Vec3, far: f32) -> Option<(f32, f32)> {
        let to = self.centre - origin;
        let along = to.dot(direction);
        let half2 = self.radius * self.radius - (to - direction * along).length_squared();
        if half2 <= 0.0 {
            return None;
        }
        let half = half2.sqrt();
        let (a, b) = ((along - half).max(0.0), (along + half).min(far));
        (a < b).then_some((a, b))
    }
}

/// A stretch of a ray inside a medium.
#[derive(Debug, Clone, Copy)]
pub struct Stretch {
    pub origin: Vec3,
    pub direction: Vec3,
    pub from: f32,
    pub length: f32,
}

impl Stretch {
    pub fn at(&self, t: f32) -> Vec3 {
        self.origin + self.direction * (self.from + t)
    }

    /// Draws a distance along the stretch for a light at `centre`, half equiangularly and half by extinction.
    pub fn draw(&self, medium: &Medium, centre: Option<Vec3>, choice: f32, u: f32) -> f32 {
        if let Some((nearest, off)) = centre.map(|c| self.nearest(c)).filter(|_| choice < 0.5) {
            let (a, b) = ((-nearest).atan2(off), (self.length - nearest).atan2(off));
            return (nearest + off * (a + (b - a) * u).tan()).clamp(0.0, self.length);
        }
        let s = medium.extinction.element_sum() / 3.0;
        (-(1.0 - u * (1.0 - (-s * self.length).exp())).ln() / s).clamp(0.0, self.length)
    }

    /// Density of [`Stretch::draw`].
    pub fn density(&self, medium: &Medium, centre: Option<Vec3>, t: f32) -> f32 {
        let s = medium.extinction.element_sum() / 3.0;
        let exponential = s * (-s * t).exp() / (1.0 - (-s * self.length).exp()).max(1e-12);
        let Some((nearest, off)) = centre.map(|c| self.nearest(c)) else { return exponential };
        let (a, b) = ((-nearest).atan2(off), (self.length - nearest).atan2(off));
        let x = t - nearest;
        let equiangular = off / ((b - a).max(1e-12) * (off * off + x * x));
        0.5 * equiangular + 0.5 * exponential
    }

    /// The distance at which the stretch's line is nearest to a point, and how near.
    fn nearest(&self, p: Vec3) -> (f32, f32) {
        let to = p - self.at(0.0);
        let along = to.dot(self.direction);
        (along, (to - self.direction * along).length().max(1e-6 * (1.0 + along.abs())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sampler::Sampler;

    fn medium(forward: f32) -> Medium {
        Medium::new(Vec3::new(0.5, 0.8, 1.5), Vec3::new(0.1, 0.0, 0.4), forward).unwrap()
    }

    /// The phase function integrates to 1 over the sphere and has its mean cosine (Henyey and Greenstein 1941); drawn
    /// directions have the same mean.
    #[test]
    fn the_phase_function_has_its_mean_cosine() {
        for g in [-0.6f32, 0.0, 0.3, 0.85] {
            let m = medium(g);
            let n = 20_000;
            let (mut mass, mut mean, mut drawn) = (0.0f64, 0.0f64, 0.0f64);
            for i in 0..n {
                let cos = (i as f32 + 0.5) / n as f32 * 2.0 - 1.0;
                let p = (m.phase(cos) * TAU * 2.0 / n as f32) as f64;
                mass += p;
                mean += p * cos as f64;
                let [x, y, ..] = Sampler::new(4, 0, 0, 0, i).set(1);
                drawn += m.turn(Vec3::X, Vec2::new(x, y)).x as f64 / n as f64;
            }
            assert!((mass - 1.0).abs() < 2e-3, "{mass}");
            assert!((mean - g as f64).abs() < 2e-3 && (drawn - g as f64).abs() < 4e-3, "{g}: {mean} {drawn}");
        }
    }

    /// Distances along a stretch follow their density, with and without a light.
    #[test]
    fn distances_follow_their_density() {
        let m = medium(0.0);
        let s = Stretch { origin: Vec3::ZERO, direction: Vec3::X, from: 0.5, length: 3.0 };
        for centre in [None, Some(Vec3::new(1.4, 0.3, 0.0)), Some(Vec3::new(9.0, 1.0, 0.0))] {
            let n = 40_000;
            let mass: f64 =
                (0..n).map(|i| s.density(&m, centre, (i as f32 + 0.5) / n as f32 * s.length) as f64).sum::<f64>() * 3.0
                    / n as f64;
            assert!((mass - 1.0).abs() < 2e-3, "{mass}");
            // The mean of 1/p over draws is the length.
            let length: f64 = (0..n)
                .map(|i| {
                    let [x, y, ..] = Sampler::new(4, 0, 0, 0, i).set(2);
                    1.0 / s.density(&m, centre, s.draw(&m, centre, x, y)) as f64
                })
                .sum::<f64>()
                / n as f64;
            assert!((length / 3.0 - 1.0).abs() < 0.01, "{length}");
        }
    }
}
