//! Textures: RGBA of 8 or 16 bits, bilinear, with glTF's wrap modes and KHR_texture_transform.

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
pub enum Texels {
    Eight(Vec<[u8; 4]>),
    Sixteen(Vec<[u16; 4]>),
}

#[derive(Debug, Clone)]
pub struct Texture {
    pub width: u32,
    pub height: u32,
    pub texels: Texels,
}

impl Texture {
    pub fn bytes(&self) -> u64 {
        match &self.texels {
            Texels::Eight(t) => t.len() as u64 * 4,
            Texels::Sixteen(t) => t.len() as u64 * 8,
        }
    }
}

/// The use of a texture by a material.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TexRef {
    pub texture: u32,
    pub wrap: [Wrap; 2],
    /// Set of texture coordinates, 0 or 1.
    pub set: u8,
    /// Matrix rows and offset applied to the coordinates; none for the identity.
    pub transform: Option<[Vec3; 2]>,
}

static SRGB_8: LazyLock<[f32; 256]> = LazyLock::new(|| std::array::from_fn(|i| srgb_decode(i as f32 / 255.0)));
static SRGB_16: LazyLock<Vec<f32>> = LazyLock::new(|| (0..65536).map(|i| srgb_decode(i as f32 / 65535.0)).collect());

impl TexRef {
    pub fn new(texture: u32) -> TexRef {
        TexRef { texture, wrap: [Wrap::Repeat; 2], set: 0, transform: None }
    }

    /// KHR_texture_transform: scale, then counter-clockwise rotation in a picture with y down, then offset.
    pub fn placed(mut self, offset: Vec2, rotation: f32, scale: Vec2) -> TexRef {
        let (s, c) = rotation.sin_cos();
        self.transform =
            Some([Vec3::new(c * scale.x, s * scale.y, offset.x), Vec3::new(-s * scale.x, c * scale.y, offset.y)]);
        self
    }

    #[inline]
    fn texels(
        &self,
        textures: &[Texture],
        uv: Vec2,
        eight: impl Fn([u8; 4]) -> Vec4,
        sixteen: impl Fn([u16; 4]) -> Vec4,
    ) -> Vec4 {
        let t = &textures[self.texture as usize];
        let uv = match &self.transform {
            Some([x, y]) => Vec2::new(x.dot(uv.extend(1.0)), y.dot(uv.extend(1.0))),
            None => uv,
        };
        let (x0, x1, tx) = neighbours(uv.x, t.width, self.wrap[0]);
        let (y0, y1, ty) = neighbours(uv.y, t.height, self.wrap[1]);
        let w = t.width as usize;
        let (top, bottom) = (y0 as usize * w, y1 as usize * w);
        let (x0, x1) = (x0 as usize, x1 as usize);
        let corners = match &t.texels {
            Texels::Eight(p) => [top + x0, top + x1, bottom + x0, bottom + x1].map(|i| eight(p[i])),
            Texels::Sixteen(p) => [top + x0, top + x1, bottom + x0, bottom + x1].map(|i| sixteen(p[i])),
        };
        corners[0].lerp(corners[1], tx).lerp(corners[2].lerp(corners[3], tx), ty)
    }

    /// Value of a texture that stores data, 0…1.
    #[inline]
    pub fn linear(&self, textures: &[Texture], uv: Vec2) -> Vec4 {
        self.texels(
            textures,
            uv,
            |t| Vec4::from_array(t.map(|c| c as f32 * (1.0 / 255.0))),
            |t| Vec4::from_array(t.map(|c| c as f32 * (1.0 / 65535.0))),
        )
    }

    /// Linear value of a texture that stores sRGB colours, with alpha as it is.
    #[inline]
    pub fn colour(&self, textures: &[Texture], uv: Vec2) -> Vec4 {
        let (low, high) = (&*SRGB_8, &*SRGB_16);
        self.texels(
            textures,
            uv,
            |t| Vec4::new(low[t[0] as usize], low[t[1] as usize], low[t[2] as usize], t[3] as f32 / 255.0),
            |t| Vec4::new(high[t[0] as usize], high[t[1] as usize], high[t[2] as usize], t[3] as f32 / 65535.0),
        )
    }

    /// [`TexRef::colour`] without alpha.
    #[inline]
    pub fn rgb(&self, textures: &[Texture], uv: Vec2) -> Vec3 {
        self.colour(textures, uv).truncate()
    }
}

/// The two texels beside a coordinate on one axis and how far it lies towards the second.
#[inline]
fn neighbours(u: f32, n: u32, wrap: Wrap) -> (u32, u32, f32) {
    let last = n - 1;
    if wrap == Wrap::Repeat {
        let x = (u - u.floor()) * n as f32 - 0.5;
        let f = x.floor();
        let i = f as i64;
        let first = if i < 0 { last } else { (i as u32).min(last) };
        let second = if i + 1 > last as i64 { 0 } else { (i + 1) as u32 };
        return (first, second, x - f);
    }
    let u = if wrap == Wrap::Mirror {
        let t = u.rem_euclid(2.0);
        if t > 1.0 { 2.0 - t } else { t }
    } else {
        u
    };
    let x = (u * n as f32 - 0.5).clamp(0.0, last as f32);
    let i = x as u32;
    (i, (i + 1).min(last), x - i as f32)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f32::consts::FRAC_PI_2;

    fn two() -> [Texture; 1] {
        [Texture { width: 2, height: 1, texels: Texels::Eight(vec![[0, 0, 0, 255], [255, 255, 255, 255]]) }]
    }

    #[test]
    fn bilinear_between_linear_values_and_every_wrap_mode() {
        let textures = two();
        let at = |wrap, u: f32| TexRef { wrap: [wrap; 2], ..TexRef::new(0) }.colour(&textures, Vec2::new(u, 0.5)).x;
        assert_eq!(at(Wrap::Repeat, 0.25), 0.0);
        assert!((at(Wrap::Repeat, 0.5) - 0.5).abs() < 1e-6, "sRGB is decoded before blending");
        assert!((at(Wrap::Repeat, 1.0) - 0.5).abs() < 1e-6);
        assert_eq!(at(Wrap::Repeat, -0.25), 1.0);
        assert_eq!(at(Wrap::Clamp, 1.0), 1.0);
        assert_eq!(at(Wrap::Clamp, -7.0), 0.0);
        assert_eq!(at(Wrap::Mirror, 1.0), 1.0);
        assert_eq!(at(Wrap::Mirror, 1.75), 0.0);
    }

    /// Sixteen bits keep steps that eight cannot tell apart, and sRGB middle grey decodes to 0.18 (IEC 61966-2-1).
    #[test]
    fn sixteen_bits_stay_sixteen_bits() {
        let grey = |v: u16| [Texture { width: 1, height: 1, texels: Texels::Sixteen(vec![[v, v, v, v]]) }];
        let read = |v| TexRef::new(0).linear(&grey(v), Vec2::splat(0.5)).x;
        assert!(read(30_001) > read(30_000));
        let code = (0.461_356 * 65535.0f32).round() as u16;
        assert!((TexRef::new(0).colour(&grey(code), Vec2::splat(0.5)).x - 0.18).abs() < 1e-5);
    }

    /// The extension's own example: a quarter turn brings (u, v) = (1, 0) to (0, −1).
    #[test]
    fn transforms_scale_then_turn_then_move() {
        let [x, y] = TexRef::new(0).placed(Vec2::new(0.1, 0.2), FRAC_PI_2, Vec2::new(2.0, 3.0)).transform.unwrap();
        let at = |u: f32, v: f32| Vec2::new(x.dot(Vec3::new(u, v, 1.0)), y.dot(Vec3::new(u, v, 1.0)));
        assert!((at(1.0, 0.0) - Vec2::new(0.1, 0.2 - 2.0)).length() < 1e-6);
        assert!((at(0.0, 1.0) - Vec2::new(0.1 + 3.0, 0.2)).length() < 1e-6);
    }
}
