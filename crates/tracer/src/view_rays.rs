//! Rays from the camera through a full-frame pixel: through a lens of some aperture, and along the camera's move while the
//! shutter is open.

use crate::bvh::Ray;
use glam::{Mat4, Quat, Vec2, Vec3};
use scene::{Camera, Projection};
use std::f32::consts::TAU;

/// A thin lens.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Lens {
    /// Diameter of the opening in metres; 0 for a pinhole.
    pub aperture: f32,
    /// Distance along the view axis at which everything is sharp, metres.
    pub focus: f32,
}

/// The part of a camera's move that the open shutter sees, as shares of the whole move.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Shutter {
    pub from: f32,
    pub to: f32,
}

pub struct ViewRays {
    start: Pose,
    /// The pose at the end of the camera's move, and the part of it that is seen.
    end: Option<(Pose, Shutter)>,
    lens: Lens,
    size: (f32, f32),
}

#[derive(Clone, Copy)]
struct Pose {
    to_world: Mat4,
    projection: Projection,
}

impl Pose {
    fn of(c: &Camera) -> Pose {
        Pose { to_world: c.to_world, projection: c.projection }
    }

    /// Between two poses: positions on a straight line, directions on the shortest arc.
    fn towards(&self, o: &Pose, s: f32) -> Pose {
        let (_, r0, t0) = self.to_world.to_scale_rotation_translation();
        let (_, r1, t1) = o.to_world.to_scale_rotation_translation();
        let rotation: Quat = r0.slerp(r1, s);
        let between = |a: f32, b: f32| a + (b - a) * s;
        let projection = match (self.projection, o.projection) {
            (Projection::Perspective { vertical: a }, Projection::Perspective { vertical: b }) => {
                Projection::Perspective { vertical: between(a, b) }
            }
            (Projection::Orthographic { half_height: a }, Projection::Orthographic { half_height: b }) => {
                Projection::Orthographic { half_height: between(a, b) }
            }
            (own, _) => own,
        };
        Pose { to_world: Mat4::from_rotation_translation(rotation, t0.lerp(t1, s)), projection }
    }
}

/// A point of the unit disc (Shirley and Chiu 1997).
fn disc(u: Vec2) -> Vec2 {
    let p = 2.0 * u - 1.0;
    if p == Vec2::ZERO {
        return p;
    }
    let (r, turn) = if p.x.abs() > p.y.abs() { (p.x, 0.125 * p.y / p.x) } else { (p.y, 0.25 - 0.125 * p.x / p.y) };
    let (s, c) = (TAU * turn).sin_cos();
    Vec2::new(r * c, r * s)
}

impl ViewRays {
    pub fn new(
        camera: &Camera,
        (width, height): (u32, u32),
        lens: Lens,
        motion: Option<(&Camera, Shutter)>,
    ) -> ViewRays {
        let end = motion.map(|(to, shutter)| (Pose::of(to), shutter));
        ViewRays { start: Pose::of(camera), end, lens, size: (width as f32, height as f32) }
    }

    /// A pinhole camera that stands still.
    pub fn still(camera: &Camera, size: (u32, u32)) -> ViewRays {
        ViewRays::new(camera, size, Lens { aperture: 0.0, focus: 1.0 }, None)
    }

    /// Whether [`ViewRays::through`] heeds its time.
    pub fn moves(&self) -> bool {
        self.end.is_some()
    }

    /// The ray through a point of the frame in pixels, (0, 0) being the upper left corner; `on_lens` and `time` are uniform
    /// in 0…1.
    pub fn through(&self, x: f32, y: f32, on_lens: Vec2, time: f32) -> Ray {
        let (w, h) = self.size;
        let (sx, sy) = ((2.0 * x - w) / h, 1.0 - 2.0 * y / h);
        let pose = match &self.end {
            Some((end, shutter)) => self.start.towards(end, shutter.from + (shutter.to - shutter.from) * time),
            None => self.start,
        };
        let (mut origin, mut direction) = match pose.projection {
            Projection::Perspective { vertical } => {
                let k = (0.5 * vertical).tan();
                (Vec3::ZERO, Vec3::new(sx * k, sy * k, -1.0))
            }
            Projection::Orthographic { half_height } => {
                (Vec3::new(sx * half_height, sy * half_height, 0.0), Vec3::NEG_Z)
            }
        };
        if self.lens.aperture > 0.0 {
            let sharp = origin + direction * self.lens.focus;
            origin += (disc(on_lens) * (0.5 * self.lens.aperture)).extend(0.0);
            direction = sharp - origin;
        }
        Ray {
            origin: pose.to_world.transform_point3(origin),
            direction: pose.to_world.transform_vector3(direction).normalize(),
            far: f32::INFINITY,
        }
    }
}
