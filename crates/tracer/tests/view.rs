//! The camera: lens, shutter, refraction of the view, filters. Sources stand beside each check.

mod common;

use common::*;
use glam::{Mat4, Vec3};
use scene::*;
use tuning::K;

/// Mean of a picture and the variance of its light along x, in the frame's width.
fn spread(picture: &[f64], width: usize) -> (f64, f64) {
    let place = |i: usize| ((i % width) as f64 + 0.5) / width as f64 - 0.5;
    let total: f64 = picture.iter().sum();
    let mean = picture.iter().enumerate().map(|(i, v)| v * place(i)).sum::<f64>() / total;
    let variance = picture.iter().enumerate().map(|(i, v)| v * (place(i) - mean).powi(2)).sum::<f64>() / total;
    (mean, variance)
}

/// A narrow shining strip that faces the camera, twice `half` wide and higher than any frame.
fn strip(at: Vec3, half: f32) -> Set {
    let mut set = Set::default();
    let light = set.material(Material { emission: Vec3::splat(100.0), ..Material::matte(Vec3::ZERO) });
    set.quad(at - Vec3::new(half, 20.0, 0.0), Vec3::X * 2.0 * half, Vec3::Y * 40.0, light);
    set
}

/// The blur of a point at distance z with a thin lens of diameter A focused at f is, in the plane of focus, a disc of
/// diameter A·|1 − f/z| (geometrical optics, e.g. Hecht, *Optics*; from memory). A disc of radius R has variance R²/4 along x.
#[test]
fn a_lens_blurs_by_its_circle() {
    for (z, focus) in [(3.0f32, 2.0f32), (1.5, 2.0), (2.0, 2.0)] {
        let half = 0.01;
        let mut set = strip(Vec3::new(0.0, 0.0, -z), half);
        let mut camera = looking(Vec3::ZERO, Vec3::NEG_Z, 20.0);
        camera.name = "Test".into();
        set.scene.cameras.push(camera);
        let aperture = 0.3f32;
        let t = tuning((64, 64), 256).with(K::FrameAperture, aperture as f64 * 1e3).with(K::FrameFocus, focus as f64);
        let (mean, variance) = spread(&pixels(&set.stage(), describe(t, None)), 64);
        // Everything in the plane of focus, as a share of the frame there.
        let frame = 2.0 * focus as f64 * 10f64.to_radians().tan();
        let circle = 0.5 * aperture as f64 * (1.0 - focus as f64 / z as f64).abs();
        let square = half as f64 * focus as f64 / z as f64;
        let pixel = 1.0 / 64.0;
        let expected = (circle * circle / 4.0 + square * square / 3.0) / (frame * frame) + pixel * pixel / 12.0;
        assert!(mean.abs() < 0.002);
        if circle == 0.0 {
            assert!(variance.sqrt() <= pixel, "sharp in the plane of focus: {variance}");
        } else {
            near(variance.sqrt(), expected.sqrt(), 0.02, &format!("focus {focus} m, point at {z} m"));
        }
    }
}

/// While the shutter is open the camera passes its share of the move: a point draws a line of that length, whose variance is
/// length²/12. Half a frame at 24 frames a second is 1/48 s (common practice, no source).
#[test]
fn a_shutter_draws_the_part_of_the_move_that_it_sees() {
    for (start, length) in [(0.0f64, 0.5f64), (-0.25, 0.5), (0.25, 1.0)] {
        let half = 0.01f64;
        let mut set = strip(Vec3::ZERO, half as f32);
        let mut to = facing(1.0);
        to.name = "End".into();
        // Ten frames take the camera 4 m along x.
        to.to_world = Mat4::from_translation(Vec3::new(4.0, 0.0, 0.0)) * to.to_world;
        let mut from = facing(1.0);
        from.to_world = Mat4::from_translation(Vec3::new(-0.8, 0.0, 0.0)) * from.to_world;
        to.to_world.w_axis.x -= 0.8;
        set.scene.cameras.extend([from, to]);
        let edits = ShotEdits {
            camera_move: Some(CameraMove { to: "End".into(), frames: 10.0, frame: 2.0 }),
            ..ShotEdits::default()
        };
        let t = tuning((100, 100), 256).with(K::FrameShutterStart, start).with(K::FrameShutter, length);
        let (mean, variance) = spread(&pixels(&set.stage(), edited(t, edits)), 100);
        // The frame is 2 m wide, the camera moves 0.4 m a frame to the right, and the point to the left.
        assert!((mean + 0.2 * (start + 0.5 * length)).abs() < 5e-4, "the middle of the line lies at {mean}");
        let pixel = 0.01f64;
        let expected = (0.2 * length).powi(2) / 12.0 + half * half / 3.0 / 4.0 + pixel * pixel / 12.0;
        near(variance.sqrt(), expected.sqrt(), 0.01, &format!("shutter from {start} for {length}"));
    }
}

/// A plane-parallel plate of thickness t and index n at angle θ shifts the view sideways by
/// t sinθ (1 − cosθ/√(n² − sin²θ)) (Born and Wolf, *Principles of Optics*; from memory).
#[test]
fn a_tilted_slab_shifts_the_view_by_snells_law() {
    let (thickness, ior) = (0.5f32, 1.5f32);
    for degrees in [0.0f32, 30.0, 50.0] {
        let mut set = Set::default();
        let glass = set.material(Material {
            metallic: 0.0,
            roughness: 0.0,
            ior,
            transmission: 1.0,
            solid: true,
            ..Material::default()
        });
        let light = set.material(Material { emission: Vec3::ONE, ..Material::matte(Vec3::ZERO) });
        // Half of what lies behind shines.
        set.quad(Vec3::new(0.0, -9.0, -4.0), Vec3::X * 9.0, Vec3::Y * 18.0, light);
        let before = set.scene.world.positions.len();
        set.cuboid(Vec3::new(-5.0, -5.0, -thickness), Vec3::new(5.0, 5.0, 0.0), glass);
        let turn = Mat4::from_rotation_y(degrees.to_radians());
        let world = &mut set.scene.world;
        for i in before..world.positions.len() {
            world.positions[i] = turn.transform_point3(world.positions[i]);
            world.normals[i] = turn.transform_vector3(world.normals[i]);
        }
        set.scene.cameras.push(facing(1.0 / 32.0));
        let t = tuning((128, 4), 64).with(K::DepthTransmission, 2).with(K::DepthReflection, 0);
        let picture = pixels(&set.stage(), describe(t, None));
        // The lit share of the frame, in the light that passes the slab; the frame is 2 m wide.
        let row = &picture[..128];
        let through = row[100..].iter().sum::<f64>() / 28.0;
        assert!(through > 0.8);
        let edge = 1.0 - row.iter().sum::<f64>() / through / 128.0 * 2.0;
        let theta = (degrees as f64).to_radians();
        let n = ior as f64;
        let shift = thickness as f64 * theta.sin() * (1.0 - theta.cos() / (n * n - theta.sin().powi(2)).sqrt());
        assert!((edge.abs() - shift).abs() < 0.004, "{degrees}°: {edge} instead of {shift}");
    }
}

/// Filters of signed weights keep the mean of an even picture and sharpen an edge: Mitchell and Netravali (1988) overshoot.
#[test]
fn signed_filters_keep_the_mean_and_overshoot_at_edges() {
    let mut set = Set::default();
    let light = set.material(Material { emission: Vec3::splat(100.0), ..Material::matte(Vec3::ZERO) });
    set.quad(Vec3::new(-0.5, -0.5, 0.0), Vec3::X, Vec3::Y, light);
    set.scene.cameras.push(facing(1.0));
    let stage = set.stage();
    for (filter, radius, overshoot) in
        [("box", 0.5, 0.0..0.001), ("mitchell_netravali", 2.0, 0.01..0.12), ("lanczos", 3.0, 0.02..0.25)]
    {
        let t = tuning((40, 40), 512).with(K::FrameFilter, filter).with(K::FrameFilterRadius, radius);
        let picture = pixels(&stage, describe(t, None));
        near(average(&picture), 25.0, 0.01, filter);
        let most = picture.iter().fold(0.0f64, |m, v| m.max(*v)) / 100.0 - 1.0;
        assert!(overshoot.contains(&most), "{filter}: {most}");
    }
}
