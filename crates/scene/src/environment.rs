//! The environment: a picture of the light from all directions, latitude by longitude.

use fault::Fault;
use glam::Vec3;
use picture::{Rgb, files};
use std::f32::consts::{PI, TAU};

/// Radiance from every direction as an equirectangular picture: the top row is +Y, the middle column is −Z.
#[derive(Debug, Clone)]
pub struct Environment {
    pub hash: String,
    pub width: usize,
    pub height: usize,
    pub pixels: Vec<Rgb>,
    /// Stored with 8 bits a channel, so that bright lights are clipped and reflections come out dull.
    pub eight_bit: bool,
}

impl Environment {
    /// Reads Radiance HDR or OpenEXR (other pictures too, which are marked as clipped). Values below zero, NaN and
    /// infinities are refused as a damaged file would poison the whole picture.
    pub fn read(bytes: &[u8], place: &str) -> Result<Environment, Fault> {
        let loaded = files::read_picture_bytes(bytes, place)?;
        if let Some(i) = loaded.pixels.iter().position(|p| p.iter().any(|c| !c.is_finite() || *c < 0.0)) {
            return Err(Fault::new(
                fault::Code::NotANumber,
                format!(
                    "pixel {}, {} holds a value that is negative or not a number",
                    i % loaded.width,
                    i / loaded.width
                ),
                place,
                "repair the picture: radiance must be zero or more",
            ));
        }
        Ok(Environment {
            hash: blake3::hash(bytes).to_hex().to_string(),
            width: loaded.width,
            height: loaded.height,
            pixels: loaded.pixels,
            eight_bit: loaded.eight_bit,
        })
    }

    /// The same radiance from everywhere.
    pub fn uniform(radiance: Rgb) -> Environment {
        Environment { hash: String::new(), width: 1, height: 1, pixels: vec![radiance], eight_bit: false }
    }

    /// Picture coordinates 0…1 of a unit direction.
    #[inline]
    pub fn uv(direction: Vec3) -> (f32, f32) {
        let u = 0.5 + direction.x.atan2(-direction.z) / TAU;
        let v = direction.y.clamp(-1.0, 1.0).acos() / PI;
        (u, v)
    }

    /// Unit direction of picture coordinates.
    #[inline]
    pub fn direction(u: f32, v: f32) -> Vec3 {
        let (sin_phi, cos_phi) = ((u - 0.5) * TAU).sin_cos();
        let (sin_theta, cos_theta) = (v * PI).sin_cos();
        Vec3::new(sin_theta * sin_phi, cos_theta, -sin_theta * cos_phi)
    }

    /// Radiance at picture coordinates, bilinear, wrapping around.
    #[inline]
    pub fn at(&self, u: f32, v: f32) -> Vec3 {
        let x = u * self.width as f32 - 0.5;
        let y = (v * self.height as f32 - 0.5).clamp(0.0, (self.height - 1) as f32);
        let (fx, fy) = (x.floor(), y.floor());
        let (tx, ty) = (x - fx, y - fy);
        // u lies within 0…1, so the first column is at least −1.
        let (last, first) = (self.width - 1, fx as i32);
        let left = if first < 0 { last } else { (first as usize).min(last) };
        let right = if first < 0 || left == last { 0 } else { left + 1 };
        let (upper, lower) = (fy as usize * self.width, (fy as usize + 1).min(self.height - 1) * self.width);
        let texel = |i: usize| Vec3::from_array(self.pixels[i]);
        let top = texel(upper + left).lerp(texel(upper + right), tx);
        let bottom = texel(lower + left).lerp(texel(lower + right), tx);
        top.lerp(bottom, ty)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn directions_and_coordinates_are_inverse_and_wrap_around() {
        for (u, v) in [(0.1, 0.2), (0.5, 0.5), (0.93, 0.8)] {
            let (u2, v2) = Environment::uv(Environment::direction(u, v));
            assert!((u - u2).abs() < 1e-5 && (v - v2).abs() < 1e-5);
        }
        let (u, v) = Environment::uv(Vec3::NEG_Z);
        assert!((u - 0.5).abs() < 1e-6 && (v - 0.5).abs() < 1e-6);
        let mut e = Environment::uniform([1.0; 3]);
        e.width = 2;
        e.pixels = vec![[0.0; 3], [1.0; 3]];
        let (u, v) = Environment::uv(Environment::direction(0.0, 0.5));
        let seam = e.at(u, v).x;
        assert!((seam - 0.5).abs() < 1e-5, "bilinear across the seam: {seam}");
    }
}
