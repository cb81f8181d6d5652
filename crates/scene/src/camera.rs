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

/// The direction that is up for what looks along another one: that of +Y. Straight up and down have none; there it is +Z.
pub fn up_beside(direction: Vec3) -> Vec3 {
    if direction.x.hypot(direction.z) > 1e-5 * direction.y.abs() { Vec3::Y } else { Vec3::Z }
}

impl Camera {
    pub fn looking(name: &str, from: Vec3, at: Vec3, vertical: f32) -> Camera {
        let forward = (at - from).normalize_or(Vec3::NEG_Z);
        let up = up_beside(forward);
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

#[cfg(test)]
mod tests {
    use super::*;
    use glam::Quat;

    /// What is aimed nearly straight down keeps its height close to the vertical, and so turns with its aim; nothing jumps on the
    /// way there.
    #[test]
    fn up_is_up_but_for_what_looks_straight_up_or_down() {
        for degrees in [60.0f32, 2.6, 2.5, 1.0, 0.1, 0.01] {
            for k in 0..12 {
                let (sin, cos) = degrees.to_radians().sin_cos();
                let turn = Quat::from_rotation_y(0.5 + k as f32);
                let at = |direction: Vec3| Camera::looking("A", Vec3::ZERO, direction, 1.0).to_world.x_axis.truncate();
                let (plain, turned) = (at(Vec3::new(sin, -cos, 0.0)), at(turn * Vec3::new(sin, -cos, 0.0)));
                assert!(plain.distance(Vec3::Z) < 1e-3, "{degrees}°: {plain}");
                assert!(turned.distance(turn * plain) < 1e-3, "{degrees}°, {k}: {turned}");
            }
        }
        assert_eq!([Vec3::Y, Vec3::NEG_Y, Vec3::X, Vec3::Z].map(up_beside), [Vec3::Z, Vec3::Z, Vec3::Y, Vec3::Y]);
    }
}
