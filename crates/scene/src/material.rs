//! Materials: glTF 2.0 metallic-roughness with the ratified extensions emissive_strength, ior, specular, transmission
//! and volume.

use crate::TexRef;
use glam::Vec3;

#[derive(Debug, Clone)]
pub struct Material {
    pub name: String,
    /// Reflectance, linear 0…1.
    pub base: Vec3,
    pub base_texture: Option<TexRef>,
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
    pub specular_colour: Vec3,
    /// Share of the light that is not reflected by the surface and passes through instead of being scattered.
    pub transmission: f32,
    /// Solid: refracts and absorbs inside. Otherwise an infinitely thin sheet.
    pub solid: bool,
    /// What is left of white light after `attenuation_distance` metres inside.
    pub attenuation_colour: Vec3,
    pub attenuation_distance: f32,
    pub double_sided: bool,
}

impl Default for Material {
    fn default() -> Self {
        Material {
            name: String::new(),
            base: Vec3::ONE,
            base_texture: None,
            metallic: 1.0,
            roughness: 1.0,
            metallic_roughness_texture: None,
            normal_texture: None,
            normal_scale: 1.0,
            emission: Vec3::ZERO,
            emissive_texture: None,
            ior: 1.5,
            specular: 1.0,
            specular_colour: Vec3::ONE,
            transmission: 0.0,
            solid: false,
            attenuation_colour: Vec3::ONE,
            attenuation_distance: f32::INFINITY,
            double_sided: false,
        }
    }
}

impl Material {
    /// A pure Lambert surface.
    pub fn matte(base: Vec3) -> Material {
        Material { base, metallic: 0.0, specular: 0.0, double_sided: true, ..Material::default() }
    }

    pub fn emits(&self) -> bool {
        self.emission.max_element() > 0.0
    }
}
