//! Lights against closed forms and against each other. Sources stand beside each check.

mod common;

use common::*;
use glam::{Quat, Vec2, Vec3};
use scene::*;
use std::f64::consts::PI;
use std::sync::Arc;
use tracer::Stage;
use tuning::{K, Tuning};

const ALBEDO: f64 = 0.6;

fn floor() -> Set {
    common::floor(ALBEDO, Vec3::new(3.0, 2.0, 0.0))
}

fn direct(samples: u32) -> Tuning {
    tuning((8, 8), samples).with(K::DepthTotal, 1)
}

fn added(shape: Shape, height: f32, radiance: f32) -> ShotEdits {
    let light = AddedLight {
        name: "lamp".into(),
        shape,
        position: [0.0, height, 0.0],
        towards: [0.0; 3],
        radiance: [radiance; 3],
        seen: false,
        edit: LightEdit::default(),
    };
    ShotEdits { added: vec![light], ..ShotEdits::default() }
}

fn lamp(kind: LightKind, height: f32, intensity: f32) -> Light {
    Light {
        name: "lamp".into(),
        kind,
        intensity: Vec3::splat(intensity),
        position: Vec3::Y * height,
        direction: Vec3::NEG_Y,
    }
}

/// Irradiance under the middle of a sphere, a disc and a rectangle of even radiance: πL r²/d², πL r²/(r²+h²), and for the
/// rectangle four times the corner factor (Howell, *A Catalog of Radiation Heat Transfer Configuration Factors*, B-3, B-12
/// and B-43; from memory).
#[test]
fn added_shapes_light_as_their_configuration_factors_say() {
    let (h, l) = (2.0f64, 5.0f64);
    let corner = |a: f64, b: f64| {
        let (x, y) = (a / h, b / h);
        let (p, q) = ((1.0 + x * x).sqrt(), (1.0 + y * y).sqrt());
        (x / p * (y / p).atan() + y / q * (x / q).atan()) / (2.0 * PI)
    };
    for (shape, factor) in [
        (Shape::Sphere { radius: 0.5 }, 0.25 / (h * h)),
        (Shape::Disc { radius: 1.0 }, 1.0 / (1.0 + h * h)),
        (Shape::Rectangle { width: 1.0, height: 3.0 }, 4.0 * corner(0.5, 1.5)),
    ] {
        let got = average(&pixels(&floor().stage(), edited(direct(512), added(shape, h as f32, l as f32))));
        near(got, ALBEDO / PI * PI * l * factor, 0.005, &format!("{shape:?}"));
    }
}

/// A radius makes the shadow of a point light soft and an angle that of a sun, and neither changes its light by more than the
/// geometry does: a sphere of the same intensity lights as a point does. Where a sun of half angle a stands overhead the
/// irradiance stays as it is told.
#[test]
fn soft_lights_keep_their_light() {
    for (kind, radius, angle) in
        [(LightKind::Point, 0.4f32, 0.0f32), (LightKind::Directional, 0.0, 20.0), (LightKind::Directional, 0.0, 0.53)]
    {
        let mut set = floor();
        set.scene.lights.push(lamp(kind, 2.0, 8.0));
        let edit = LightEdit { radius, angle, ..LightEdit::default() };
        let edits = ShotEdits { lights: [("lamp".to_string(), edit)].into(), ..ShotEdits::default() };
        let got = average(&pixels(&set.stage(), edited(direct(512), edits)));
        let falloff = if kind == LightKind::Point { 4.0 } else { 1.0 };
        near(got, ALBEDO / PI * 8.0 / falloff, 0.01, &format!("{kind:?}, radius {radius}, angle {angle}"));
    }
}

/// Across the edge of a sun's shadow the light rises over the width that its angle gives: 2 h tan(a/2) at height h.
#[test]
fn a_suns_penumbra_is_as_wide_as_its_angle() {
    let (height, angle) = (1.0f32, 10.0f32);
    let mut set = Set::default();
    let m = set.material(Material::matte(Vec3::ONE));
    set.quad(Vec3::new(-9.0, -9.0, 0.0), Vec3::X * 18.0, Vec3::Y * 18.0, m);
    // A wall above the left half, out of the camera's view.
    set.quad(Vec3::new(-9.0, -9.0, height), Vec3::X * 9.0, Vec3::Y * 18.0, m);
    let mut camera = facing(0.25);
    camera.to_world.w_axis.z = 0.5;
    set.scene.cameras.push(camera);
    set.scene.lights.push(Light { direction: Vec3::NEG_Z, ..lamp(LightKind::Directional, 2.0, 1.0) });
    let stage = set.stage();
    let picture = |edit: LightEdit| {
        let edits = ShotEdits { lights: [("lamp".to_string(), edit)].into(), ..ShotEdits::default() };
        pixels(&stage, edited(tuning((64, 64), 64).with(K::DepthTotal, 1), edits))
    };
    let soft = picture(LightEdit { angle, ..LightEdit::default() });
    let column = |p: &[f64], x: usize| (0..64).map(|y| p[y * 64 + x]).sum::<f64>() / 64.0 * PI;
    // Half a metre of frame over 64 pixels.
    let width = 2.0 * height as f64 * (angle as f64 / 2.0).to_radians().tan();
    let pixel = 0.5 / 64.0;
    for x in 0..64 {
        let place = (x as f64 + 0.5) * pixel - 0.25;
        let lit = column(&soft, x);
        let expected = (place / width * 2.0).clamp(-1.0, 1.0);
        // Share of a disc beyond a line at `expected` of its radius.
        let share = 1.0 - (expected.acos() - expected * (1.0 - expected * expected).sqrt()) / PI;
        assert!((lit - share).abs() < 0.03, "{place} m: {lit} instead of {share}");
    }
    let hard = picture(LightEdit { angle, shadow: Some(Shadow::Hard), ..LightEdit::default() });
    assert!((0..64).all(|x| (column(&hard, x) - (x >= 32) as u32 as f64).abs() < 0.02), "a hard shadow has an edge");
    let half = picture(LightEdit { shadow_strength: Some(0.25), ..LightEdit::default() });
    assert!((column(&half, 2) - 0.75).abs() < 0.01 && (column(&half, 60) - 1.0).abs() < 0.01);
    let none = picture(LightEdit { shadow: Some(Shadow::None), ..LightEdit::default() });
    assert!((column(&none, 2) - 1.0).abs() < 0.01);
}

/// A shining rectangle with a picture on it lights like one with the picture's mean, where the picture is fine.
#[test]
fn a_textured_lamp_equals_its_mean() {
    let mut set = floor();
    let side = 16u32;
    let texels = (0..side * side)
        .map(|i| {
            let on = (i % side + i / side).is_multiple_of(2);
            [if on { 255 } else { 0 }; 4]
        })
        .collect();
    set.scene.textures.push(Texture { width: side, height: side, texels: Texels::Eight(texels) });
    let light = set.material(Material {
        emission: Vec3::splat(6.0),
        emissive_texture: Some(TexRef::new(0)),
        ..Material::matte(Vec3::ZERO)
    });
    let first = set.scene.world.positions.len();
    set.scene.world.uvs[0] = vec![Vec2::ZERO; first];
    set.quad(Vec3::new(-0.5, 2.0, -1.5), Vec3::X, Vec3::Z * 3.0, light);
    let uv = [[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 0.0], [1.0, 1.0], [0.0, 1.0]].map(Vec2::from);
    set.scene.world.uvs[0].extend(uv);
    let got = average(&pixels(&set.stage(), describe(direct(512), None)));
    let shape = Shape::Rectangle { width: 1.0, height: 3.0 };
    let even = average(&pixels(&floor().stage(), edited(direct(512), added(shape, 2.0, 3.0))));
    near(got, even, 0.01, "a chequered lamp");
}

/// Turning the environment by an angle is turning the scene by the opposite one, with a map as fine or coarse as one likes.
#[test]
fn the_environment_turns() {
    let map = || {
        let mut map = Environment::uniform([0.1; 3]);
        (map.width, map.height) = (64, 32);
        map.pixels = vec![[0.1; 3]; 64 * 32];
        map.pixels[8 * 64 + 20] = [900.0, 600.0, 300.0];
        map
    };
    let tilted = |turn: f32| {
        let mut set = Set::default();
        let m = set.material(Material::matte(Vec3::splat(0.7)));
        set.quad(Vec3::new(-9.0, 0.0, -9.0), Vec3::Z * 18.0, Vec3::X * 18.0, m);
        let q = Quat::from_rotation_y(turn.to_radians()) * Quat::from_rotation_z(0.6);
        let w = &mut set.scene.world;
        (w.positions.iter_mut().chain(&mut w.normals)).for_each(|p| *p = q * *p);
        set.scene.cameras.push(looking(q * Vec3::new(0.1, 3.0, 0.0), Vec3::ZERO, 0.1));
        set.environment = Some(map());
        set.stage()
    };
    let straight = mean(&tilted(0.0), direct(512));
    for (turn, width) in [(70.0, "1024"), (-130.0, "128")] {
        let t = direct(512).with(K::EnvironmentRotation, turn as f64).with(K::EnvironmentWidth, width);
        near(mean(&tilted(turn), t), straight, 0.01, &format!("turned by {turn}°"));
    }
    let t = direct(512).with(K::EnvironmentRotation, -130.0);
    assert!((mean(&tilted(0.0), t) / straight - 1.0).abs() > 0.1, "without the scene it makes a difference");
    near(mean(&tilted(0.0), direct(512).with(K::EnvironmentStrength, 3.0)), 3.0 * straight, 0.005, "strength");
    assert_eq!(mean(&tilted(0.0), direct(8).with(K::EnvironmentLight, false)), 0.0);
}

/// Ten lamps that matter over a floor with posts that throw their shadows, and 990 more far away: in as many samples the
/// noise stays about the same.
#[test]
fn many_lights_sample_as_well_as_the_few_that_matter() {
    let scene = |punctual: usize, shining: usize| -> Arc<Stage> {
        let mut set = floor();
        set.scene.cameras[0] = looking(Vec3::new(0.0, 0.95, 0.01), Vec3::ZERO, 100.0);
        for i in 0..9 {
            let p = Vec3::new(0.6 * (i % 3) as f32 - 0.7, 0.0, 0.6 * (i / 3) as f32 - 0.5);
            set.cuboid(p, p + Vec3::new(0.1, 0.6, 0.1), 0);
        }
        let near = |i: usize| Vec3::new(0.4 * (i % 5) as f32 - 0.8, 1.0 + 0.1 * i as f32, 0.5 * (i / 5) as f32);
        let far = |i: usize| {
            let a = i as f32 * 2.399_963;
            let r = 25.0 + 0.02 * i as f32;
            Vec3::new(r * a.cos(), 0.3 + 0.002 * i as f32, r * a.sin())
        };
        for i in 0..punctual {
            let position = if i < 10 { near(i) } else { far(i) };
            set.scene.lights.push(Light { name: format!("lamp {i}"), position, ..lamp(LightKind::Point, 0.0, 1.0) });
        }
        let m =
            set.material(Material { emission: Vec3::splat(40.0), double_sided: true, ..Material::matte(Vec3::ZERO) });
        for i in 0..shining {
            let p = if i < 10 { near(i) } else { far(i) };
            set.triangle([p, p + Vec3::X * 0.2, p + Vec3::Z * 0.2], None, m);
        }
        set.stage()
    };
    let noise = |punctual: usize, shining: usize| {
        let plate =
            run(&scene(punctual, shining), describe(tuning((32, 32), 64).with(K::DepthTotal, 1), None), 2).plate();
        let n = plate.a.len() as f64;
        let difference: f64 = plate.a.iter().zip(&plate.b).map(|(a, b)| (a[1] - b[1]).powi(2) as f64).sum();
        (difference / n).sqrt()
    };
    let few = noise(10, 0);
    let many = noise(1000, 0);
    assert!(many < 1.5 * few, "1 000 point lights: {many} against {few} of the 10 that matter");
    let few = noise(0, 10);
    let many = noise(0, 1000);
    assert!(many < 1.5 * few, "1 000 shining triangles: {many} against {few} of the 10 that matter");
    let together = noise(1000, 1000);
    let ten = noise(10, 10);
    assert!(together < 1.5 * ten, "both: {together} against {ten}");
}
