//! Cameras.

use glam::{Mat4, Vec3};

#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Projection {
    /// Full vertical angle of view in radians.
    Perspective { vertical: f32 },
    /// Half the height of the view in metres.
    Orthographic { half_height: f32 },
}

#[derive(Debug, Clone, PartialEq)]
pub struct Camera {
    pub name: String,
    /// Camera to world; looks along its −Z, +Y is up. Without scale.
    pub to_world: Mat4,
    pub projection: Projection,
}

impl Camera {
    pub fn looking(name: &str, from: Vec3, at: Vec3, vertical: f32) -> Camera {
        let forward = (at - from).normalize_or(Vec3::NEG_Z);
        let up = if forward.y.abs() > 0.999 { Vec3::Z } else { Vec3::Y };
        Camera {
            name: name.into(),
            to_world: Mat4::look_to_rh(from, forward, up).inverse(),
            projection: Projection::Perspective { vertical },
        }
    }

    /// A camera that shows the whole box from the front, a little from above and from the right.
    pub fn framing(lo: Vec3, hi: Vec3) -> Camera {
        let centre = 0.5 * (lo + hi);
        let radius = (0.5 * (hi - lo).length()).max(1e-3);
        let vertical = 40f32.to_radians();
        let distance = radius / (0.5 * vertical).sin();
        let from = centre + Vec3::new(0.5, 0.35, 1.0).normalize() * distance;
        Camera::looking("Framing", from, centre, vertical)
    }
}
