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

impl Light {
    /// Share of a spot's intensity that leaves in direction `w` (unit, away from the light): the extension's own formula.
    pub fn cone(&self, w: Vec3) -> f32 {
        match self.kind {
            LightKind::Spot { cos_inner, cos_outer } => {
                let t = (self.direction.dot(w) - cos_outer) / (cos_inner - cos_outer).max(1e-4);
                t.clamp(0.0, 1.0).powi(2)
            }
            _ => 1.0,
        }
    }
}
