//! White furnaces: under a sky of 1 in every direction a surface that absorbs nothing looks like the sky, whatever its material
//! and from whatever angle (conservation of energy), and none ever looks brighter.

use crate::common::*;
use glam::{Vec2, Vec3, Vec4};
use scene::*;
use tuning::K;

/// The light that a sheet sends towards a camera that sees it from an angle to its normal, turned about it, after one scattering.
pub fn sheet(m: &Material, degrees: f32, turned: f32, samples: u32) -> Vec3 {
    let mut set = Set::default();
    let material = set.material(m.clone());
    let s = 1e3;
    let mesh = &mut set.scene.world;
    mesh.positions = [[-s, -s], [s, -s], [s, s], [-s, s]].map(|[x, y]| Vec3::new(x, y, 0.0)).to_vec();
    mesh.normals = vec![Vec3::Z; 4];
    mesh.uvs[0] = [[0.0, 1.0], [1.0, 1.0], [1.0, 0.0], [0.0, 0.0]].map(Vec2::from_array).to_vec();
    mesh.tangents = vec![Vec4::new(1.0, 0.0, 0.0, 1.0); 4];
    mesh.triangles = [[0, 1, 2], [0, 2, 3]].map(|vertices| Triangle { vertices, material, object: 0 }).to_vec();
    let (sin, cos) = degrees.to_radians().sin_cos();
    let (s, c) = turned.to_radians().sin_cos();
    let mut camera = looking(Vec3::new(sin * c, sin * s, cos) * 2.0, Vec3::ZERO, 1.0);
    camera.projection = Projection::Orthographic { half_height: 1e-4 };
    set.scene.cameras.push(camera);
    set.environment = Some(Environment::uniform([1.0; 3]));
    let d = describe(tuning((8, 8), samples).with(K::DepthTotal, 1), None);
    let mean = run(&set.stage(), d, 2).plate().mean();
    mean.iter().map(|c| Vec3::from_array(*c)).sum::<Vec3>() / mean.len() as f32
}

const ANGLES: [f32; 6] = [0.0, 45.0, 75.0, 86.0, 89.0, 89.5];
const ROUGHNESSES: [f32; 7] = [0.0, 0.07, 0.2, 0.3, 0.5, 0.8, 1.0];

fn white() -> Material {
    Material { base: Vec3::ONE, double_sided: true, ..Material::default() }
}

/// Materials that absorb nothing.
#[test]
fn white_materials_look_like_the_sky() {
    let mut worst: Vec<(f32, String)> = Vec::new();
    let mut check = |name: &str, m: &Material, room: f32| {
        for degrees in ANGLES {
            let turns: &[f32] = if m.directional.is_some() { &[0.0, 30.0, 90.0] } else { &[0.0] };
            for turned in turns {
                let got = sheet(m, degrees, *turned, 256).y;
                let off = (got - 1.0).abs();
                if off > room {
                    worst
                        .push((off, format!("{name}, roughness {}, {degrees}°, turned {turned}°: {got}", m.roughness)));
                }
            }
        }
    };
    for roughness in ROUGHNESSES {
        let metal = Material { roughness, ..white() };
        check("metal", &metal, 0.012);
        let sheet = Material { metallic: 0.0, transmission: 1.0, roughness, ..white() };
        check("thin glass", &sheet, 0.012);
        check("matte below a layer", &Material { metallic: 0.0, roughness, ..white() }, 0.012);
        for strength in [0.4, 0.9, 1.0] {
            let directional = Some(Box::new(Directional { strength, rotation: 0.0, texture: None }));
            check(
                &format!("metal stretched by {strength}"),
                &Material { directional: directional.clone(), ..metal.clone() },
                0.015,
            );
            check(&format!("thin glass stretched by {strength}"), &Material { directional, ..sheet.clone() }, 0.015);
        }
        for coat_roughness in [0.0, 0.3, 1.0] {
            for strength in [0.5, 1.0] {
                let coat = Some(Box::new(Coat {
                    strength,
                    strength_texture: None,
                    roughness: coat_roughness,
                    roughness_texture: None,
                    normal_texture: None,
                    normal_scale: 1.0,
                }));
                check(
                    &format!("metal under a coat of {strength}, roughness {coat_roughness}"),
                    &Material { coat, ..metal.clone() },
                    0.015,
                );
            }
        }
    }
    worst.sort_by(|a, b| b.0.total_cmp(&a.0));
    assert!(
        worst.is_empty(),
        "{} off:\n{}",
        worst.len(),
        worst.iter().take(400).map(|w| w.1.clone()).collect::<Vec<_>>().join("\n")
    );
}

/// Sheen takes from what lies below it at least what it adds.
#[test]
fn sheen_never_adds_light() {
    let mut worst: Vec<String> = Vec::new();
    for roughness in [0.0, 0.07, 0.15, 0.3, 0.6, 1.0] {
        for base in [0.0, 1.0] {
            for degrees in ANGLES {
                let m = Material {
                    sheen: Some(Box::new(Sheen {
                        colour: Vec3::ONE,
                        colour_texture: None,
                        roughness,
                        roughness_texture: None,
                    })),
                    ..Material::matte(Vec3::splat(base))
                };
                let got = sheet(&m, degrees, 0.0, 256).y;
                if got > 1.01 {
                    worst.push(format!("sheen of roughness {roughness} on {base}, {degrees}°: {got}"));
                }
            }
        }
    }
    assert!(worst.is_empty(), "{}", worst.join("\n"));
}

/// KHR_materials_ior: an index of 0 mirrors all light in the colour of the specular layer, at any angle.
#[test]
fn an_index_of_zero_mirrors_everything() {
    let glb = crate::files::one_quad(serde_json::json!({
        "pbrMetallicRoughness": { "metallicFactor": 0.0, "roughnessFactor": 0.3, "baseColorFactor": [0.2, 0.2, 0.2, 1.0] },
        "extensions": { "KHR_materials_ior": { "ior": 0.0 }, "KHR_materials_specular": { "specularColorFactor": [0.5, 1.0, 0.25] } }
    }));
    let scene = read_glb(&glb, "index.glb").unwrap();
    let m = scene.materials[0].clone();
    let got = sheet(&Material { double_sided: true, base: Vec3::ZERO, ..m }, 20.0, 0.0, 256);
    // Schlick's formula at 20° adds next to nothing.
    assert!((got - Vec3::new(0.5, 1.0, 0.25)).abs().max_element() < 0.03, "{got}");
}
