//! Punctual lights after the ratified glTF extension KHR_lights_punctual.

use glam::Vec3;

#[derive(Debug, Clone, Copy, PartialEq)]
pub enum LightKind {
    Point,
    /// Cosines of the angles at which the cone begins to fall off and ends.
    Spot {
        cos_inner: f32,
        cos_outer: f32,
    },
    Directional,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Light {
    pub name: String,
    pub kind: LightKind,
    /// Candela for point and spot, lux for directional.
    pub intensity: Vec3,
    pub position: Vec3,
    /// The way the light shines, unit length.
    pub direction: Vec3,
}
