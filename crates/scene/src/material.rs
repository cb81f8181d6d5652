//! Materials: glTF 2.0 metallic-roughness with the ratified extensions emissive_strength, ior, specular, transmission,
//! volume, clearcoat, sheen, anisotropy, unlit and texture_transform. Occlusion textures are ignored: a path tracer finds
//! occlusion itself.

use crate::report::{Handling, Tally};
use crate::{Mesh, TexRef, Texture, Triangle};
use glam::Vec3;

/// How the base colour's alpha is used.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Alpha {
    Opaque,
    /// A surface where alpha is at least this, nothing elsewhere.
    Mask(f32),
    /// Alpha is the share of the light that meets the surface; the rest passes straight on.
    Blend,
}

/// KHR_materials_clearcoat: a thin clear layer of index 1.5 over everything.
#[derive(Debug, Clone, PartialEq)]
pub struct Coat {
    pub strength: f32,
    /// Red.
    pub strength_texture: Option<TexRef>,
    pub roughness: f32,
    /// Green.
    pub roughness_texture: Option<TexRef>,
    /// The coat's own; without one it follows the smooth surface, not the base's normal map.
    pub normal_texture: Option<TexRef>,
    pub normal_scale: f32,
}

/// KHR_materials_sheen: light scattered back by upright fibres.
#[derive(Debug, Clone, PartialEq)]
pub struct Sheen {
    pub colour: Vec3,
    pub colour_texture: Option<TexRef>,
    pub roughness: f32,
    /// Alpha.
    pub roughness_texture: Option<TexRef>,
}

/// KHR_materials_anisotropy: highlights stretched along a direction.
#[derive(Debug, Clone, PartialEq)]
pub struct Directional {
    pub strength: f32,
    /// Radians from the tangent, counter-clockwise.
    pub rotation: f32,
    /// Red and green hold a direction, blue the strength.
    pub texture: Option<TexRef>,
}

#[derive(Debug, Clone)]
pub struct Material {
    pub name: String,
    /// Reflectance, linear 0…1.
    pub base: Vec3,
    /// Factor of alpha.
    pub base_alpha: f32,
    pub base_texture: Option<TexRef>,
    pub alpha: Alpha,
    pub metallic: f32,
    /// Perceptual roughness; the microfacet width α is its square.
    pub roughness: f32,
    /// Green is roughness, blue is metallic.
    pub metallic_roughness_texture: Option<TexRef>,
    pub normal_texture: Option<TexRef>,
    pub normal_scale: f32,
    /// Radiance in cd/m².
    pub emission: Vec3,
    pub emissive_texture: Option<TexRef>,
    pub ior: f32,
    /// Strength of the dielectric reflection; 0 leaves pure Lambert.
    pub specular: f32,
    /// Alpha.
    pub specular_texture: Option<TexRef>,
    pub specular_colour: Vec3,
    pub specular_colour_texture: Option<TexRef>,
    /// Share of the light that is not reflected by the surface and passes through instead of being scattered.
    pub transmission: f32,
    /// Red.
    pub transmission_texture: Option<TexRef>,
    /// Solid: refracts and absorbs inside. Otherwise an infinitely thin sheet.
    pub solid: bool,
    /// What is left of white light after `attenuation_distance` metres inside.
    pub attenuation_colour: Vec3,
    pub attenuation_distance: f32,
    pub coat: Option<Box<Coat>>,
    pub sheen: Option<Box<Sheen>>,
    pub directional: Option<Box<Directional>>,
    /// Shows its base colour as light and does nothing else.
    pub unlit: bool,
    pub double_sided: bool,
}

/// An index of refraction at which all light is mirrored.
const MIRRORING: f32 = 1e6;

impl Default for Material {
    fn default() -> Self {
        Material {
            name: String::new(),
            base: Vec3::ONE,
            base_alpha: 1.0,
            base_texture: None,
            alpha: Alpha::Opaque,
            metallic: 1.0,
            roughness: 1.0,
            metallic_roughness_texture: None,
            normal_texture: None,
            normal_scale: 1.0,
            emission: Vec3::ZERO,
            emissive_texture: None,
            ior: 1.5,
            specular: 1.0,
            specular_texture: None,
            specular_colour: Vec3::ONE,
            specular_colour_texture: None,
            transmission: 0.0,
            transmission_texture: None,
            solid: false,
            attenuation_colour: Vec3::ONE,
            attenuation_distance: f32::INFINITY,
            coat: None,
            sheen: None,
            directional: None,
            unlit: false,
            double_sided: false,
        }
    }
}

impl Material {
    /// A pure Lambert surface.
    pub fn matte(base: Vec3) -> Material {
        Material { base, metallic: 0.0, specular: 0.0, double_sided: true, ..Material::default() }
    }

    #[inline]
    pub fn emits(&self) -> bool {
        self.emission.max_element() > 0.0
    }

    /// Nothing but a boundary: where the same index lies on both sides it neither reflects nor bends light.
    #[inline]
    pub fn only_bounds(&self) -> bool {
        self.solid
            && self.transmission >= 1.0
            && self.transmission_texture.is_none()
            && self.coat.is_none()
            && self.sheen.is_none()
    }

    /// The boundary of a volume that neither reflects nor bends light in air.
    #[inline]
    pub fn open(&self) -> bool {
        self.only_bounds() && self.ior == 1.0
    }

    /// Share of the light that meets a surface of this material at a point of a triangle; the rest passes straight on.
    pub fn alpha_at(&self, textures: &[Texture], mesh: &Mesh, t: &Triangle, u: f32, v: f32) -> f32 {
        if self.alpha == Alpha::Opaque {
            return 1.0;
        }
        let mut alpha = self.base_alpha;
        if let Some(tex) = &self.base_texture {
            alpha *= tex.colour(textures, mesh.uv_at(t, tex.set as usize, u, v)).w;
        }
        if !mesh.colours.is_empty() {
            let [a, b, c] = mesh.corner_colours(t);
            alpha *= (a * (1.0 - u - v) + b * u + c * v).w;
        }
        match self.alpha {
            Alpha::Mask(cutoff) => (alpha >= cutoff) as u32 as f32,
            _ => alpha.clamp(0.0, 1.0),
        }
    }

    /// Light may pass a surface of this material straight on.
    #[inline]
    pub fn lets_pass(&self) -> bool {
        self.alpha != Alpha::Opaque || self.open()
    }

    pub(crate) fn textures(&self) -> impl Iterator<Item = &TexRef> {
        let coat = self.coat.as_deref().map(|c| [&c.strength_texture, &c.roughness_texture, &c.normal_texture]);
        let sheen = self.sheen.as_deref().map(|s| [&s.colour_texture, &s.roughness_texture]);
        let own = [
            &self.base_texture,
            &self.metallic_roughness_texture,
            &self.normal_texture,
            &self.emissive_texture,
            &self.specular_texture,
            &self.specular_colour_texture,
            &self.transmission_texture,
        ];
        let directional = self.directional.as_deref().map(|d| &d.texture);
        own.into_iter()
            .chain(coat.into_iter().flatten())
            .chain(sheen.into_iter().flatten())
            .chain(directional)
            .flatten()
    }

    /// Whether surfaces of this material need the direction of growing u.
    pub(crate) fn needs_tangents(&self) -> bool {
        let coat = self.coat.as_deref().is_some_and(|c| c.normal_texture.is_some());
        self.normal_texture.is_some() || self.directional.is_some() || coat
    }

    /// Numbers that no surface can have make it plain grey, and are reported.
    pub(crate) fn sane(self, tally: &mut Tally) -> Material {
        let coat = self.coat.as_deref().map_or([0.0; 3], |c| [c.strength, c.roughness, c.normal_scale]);
        let sheen = self.sheen.as_deref().map_or(0.0, |s| s.roughness + s.colour.element_sum());
        let directional = self.directional.as_deref().map_or(0.0, |d| d.strength + d.rotation);
        let transforms = self.textures().filter_map(|t| t.transform).flatten().all(|row| row.is_finite());
        let numbers = [
            self.metallic,
            self.roughness,
            self.ior,
            self.specular,
            self.transmission,
            self.normal_scale,
            self.base_alpha,
        ];
        let colours = [self.base, self.emission, self.specular_colour, self.attenuation_colour];
        let fine = numbers.iter().chain(&coat).chain([&sheen, &directional]).all(|x| x.is_finite())
            && colours.iter().all(|c| c.is_finite())
            && transforms;
        let mut m = if fine {
            self
        } else {
            tally.add(Handling::Approximated, "material with impossible numbers", "drawn as plain grey");
            Material { name: self.name, ..Material::matte(Vec3::splat(0.5)) }
        };
        m.base = m.base.clamp(Vec3::ZERO, Vec3::ONE);
        m.base_alpha = m.base_alpha.clamp(0.0, 1.0);
        m.emission = m.emission.max(Vec3::ZERO);
        // KHR_materials_ior gives 0 a meaning of its own: everything is mirrored, as by an index without bound.
        m.ior = match m.ior {
            0.0 => MIRRORING,
            index if index < 1.0 => {
                tally.add(Handling::Approximated, "index of refraction below 1", "1.5 is used instead");
                1.5
            }
            index => index.min(MIRRORING),
        };
        m
    }
}
