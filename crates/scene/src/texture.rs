//! Textures: 8-bit RGBA, bilinear, with glTF's wrap modes.

use glam::{Vec2, Vec3, Vec4};
use picture::srgb_decode;
use std::sync::LazyLock;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wrap {
    Repeat,
    Mirror,
    Clamp,
}

#[derive(Debug, Clone)]
pub struct Texture {
    pub width: u32,
    pub height: u32,
    pub texels: Vec<[u8; 4]>,
}

/// The use of a texture by a material.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TexRef {
    pub texture: u32,
    pub wrap: [Wrap; 2],
}

static SRGB: LazyLock<[f32; 256]> = LazyLock::new(|| std::array::from_fn(|i| srgb_decode(i as f32 / 255.0)));

impl TexRef {
    fn texels(&self, textures: &[Texture], uv: Vec2, decode: impl Fn([u8; 4]) -> Vec4) -> Vec4 {
        let t = &textures[self.texture as usize];
        let (x, y) = (uv.x * t.width as f32 - 0.5, uv.y * t.height as f32 - 0.5);
        let (fx, fy) = (x.floor(), y.floor());
        let at = |dx: i64, dy: i64| {
            let c = wrapped(fx as i64 + dx, t.width as i64, self.wrap[0]);
            let r = wrapped(fy as i64 + dy, t.height as i64, self.wrap[1]);
            decode(t.texels[r * t.width as usize + c])
        };
        let (tx, ty) = (x - fx, y - fy);
        at(0, 0).lerp(at(1, 0), tx).lerp(at(0, 1).lerp(at(1, 1), tx), ty)
    }

    /// Value of a texture that stores data, 0…1.
    pub fn linear(&self, textures: &[Texture], uv: Vec2) -> Vec4 {
        self.texels(textures, uv, |t| Vec4::from_array(t.map(|c| c as f32 / 255.0)))
    }

    /// Linear value of a texture that stores sRGB colours.
    pub fn colour(&self, textures: &[Texture], uv: Vec2) -> Vec3 {
        self.texels(textures, uv, |t| Vec4::new(SRGB[t[0] as usize], SRGB[t[1] as usize], SRGB[t[2] as usize], 1.0))
            .truncate()
    }
}

fn wrapped(i: i64, n: i64, wrap: Wrap) -> usize {
    (match wrap {
        Wrap::Repeat => i.rem_euclid(n),
        Wrap::Clamp => i.clamp(0, n - 1),
        Wrap::Mirror => {
            let m = i.rem_euclid(2 * n);
            if m < n { m } else { 2 * n - 1 - m }
        }
    }) as usize
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bilinear_between_linear_values_and_every_wrap_mode() {
        let textures = [Texture { width: 2, height: 1, texels: vec![[0, 0, 0, 255], [255, 255, 255, 255]] }];
        let at = |wrap, u: f32| TexRef { texture: 0, wrap: [wrap; 2] }.colour(&textures, Vec2::new(u, 0.5)).x;
        assert_eq!(at(Wrap::Repeat, 0.25), 0.0);
        assert!((at(Wrap::Repeat, 0.5) - 0.5).abs() < 1e-6, "sRGB is decoded before blending");
        assert!((at(Wrap::Repeat, 1.0) - 0.5).abs() < 1e-6);
        assert_eq!(at(Wrap::Clamp, 1.0), 1.0);
        assert_eq!(at(Wrap::Mirror, 1.0), 1.0);
        assert_eq!(at(Wrap::Mirror, 1.75), 0.0);
    }
}
