//! Rays from the camera through a full-frame pixel.

use crate::bvh::Ray;
use glam::{Mat4, Vec3};
use scene::{Camera, Projection};

pub struct ViewRays {
    to_world: Mat4,
    projection: Projection,
    size: (f32, f32),
}

impl ViewRays {
    pub fn new(camera: &Camera, (width, height): (u32, u32)) -> Self {
        ViewRays { to_world: camera.to_world, projection: camera.projection, size: (width as f32, height as f32) }
    }

    /// The ray through a point of the frame in pixels, (0, 0) being the upper left corner.
    pub fn through(&self, x: f32, y: f32) -> Ray {
        let (w, h) = self.size;
        let (sx, sy) = ((2.0 * x - w) / h, 1.0 - 2.0 * y / h);
        let (origin, direction) = match self.projection {
            Projection::Perspective { vertical } => {
                let k = (0.5 * vertical).tan();
                (Vec3::ZERO, Vec3::new(sx * k, sy * k, -1.0))
            }
            Projection::Orthographic { half_height } => {
                (Vec3::new(sx * half_height, sy * half_height, 0.0), Vec3::NEG_Z)
            }
        };
        Ray {
            origin: self.to_world.transform_point3(origin),
            direction: self.to_world.transform_vector3(direction).normalize(),
            far: f32::INFINITY,
        }
    }
}
