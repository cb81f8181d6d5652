//! Shadows and normals: nothing shines through walls however normals are smoothed, and a scene that is scaled, moved, turned,
//! mirrored or split into instances looks the same.

use crate::common::*;
use crate::random;
use glam::{Affine3A, EulerRot, Mat4, Quat, Vec3};
use scene::*;
use std::sync::Arc;
use tracer::{Description, Stage};
use tuning::{K, Tuning};

fn one_bounce() -> Tuning {
    tuning((12, 12), 64).with(K::DepthTotal, 1)
}

/// A floor with normals that lean apart, below a closed roof: dark, under the open sky and under a lamp above the roof.
#[test]
fn smooth_normals_do_not_lift_rays_through_a_roof() {
    for gap in [0.002f32, 0.05, 0.3] {
        for lean in [2.0f32, 10.0, 40.0] {
            let mut set = Set::default();
            let m = set.material(Material::matte(Vec3::ONE));
            let (sin, cos) = lean.to_radians().sin_cos();
            let corner =
                |x: f32, z: f32| (Vec3::new(x, 0.0, z), Vec3::new(x.signum() * sin, cos, z.signum() * sin).normalize());
            let c = [corner(-1.0, -1.0), corner(-1.0, 1.0), corner(1.0, 1.0), corner(1.0, -1.0)];
            for t in [[0, 1, 2], [0, 2, 3]] {
                set.triangle(t.map(|k| c[k].0), Some(t.map(|k| c[k].1)), m);
            }
            set.cuboid(Vec3::new(-30.0, gap, -30.0), Vec3::new(30.0, gap + 0.01, 30.0), m);
            set.cuboid(Vec3::new(-30.0, -0.2, -30.0), Vec3::new(30.0, -0.1, 30.0), m);
            set.scene.lights.push(Light {
                name: "lamp".into(),
                kind: LightKind::Point,
                intensity: Vec3::splat(10.0),
                position: Vec3::new(0.2, 2.0, 0.1),
                direction: Vec3::NEG_Y,
            });
            set.scene.cameras.push(looking(Vec3::new(0.4, 0.5 * gap, 0.3), Vec3::new(0.3, 0.0, 0.3), 1.0));
            // The sky reaches in from 30 m away.
            set.environment = Some(Environment::uniform([1.0; 3]));
            let got = mean(&set.stage(), one_bounce());
            assert!(got < 0.02, "gap {gap}, lean {lean}°: {got}");
        }
    }
}

/// A smooth pipe of twelve sides in a closed sleeve a little wider: dark.
#[test]
fn a_smooth_pipe_stays_inside_its_sleeve() {
    for gap in [0.001f32, 0.01, 0.05] {
        let mut set = Set::default();
        let m = set.material(Material::matte(Vec3::ONE));
        let n = 12;
        let ring = |k: usize, radius: f32, y: f32| {
            let a = k as f32 / n as f32 * std::f32::consts::TAU;
            (Vec3::new(radius * a.cos(), y, radius * a.sin()), Vec3::new(a.cos(), 0.0, a.sin()))
        };
        for (radius, length) in [(0.5, 5.0), (0.5 + gap, 40.0)] {
            for k in 0..n {
                let c = [
                    ring(k, radius, -length),
                    ring(k + 1, radius, -length),
                    ring(k + 1, radius, length),
                    ring(k, radius, length),
                ];
                for t in [[0, 2, 1], [0, 3, 2]] {
                    set.triangle(t.map(|k| c[k].0), Some(t.map(|k| c[k].1)), m);
                }
            }
        }
        let side = 0.5 * (std::f32::consts::PI / n as f32).cos();
        let a = 0.3 * std::f32::consts::TAU / n as f32;
        let outwards = Vec3::new(a.cos(), 0.0, a.sin());
        set.scene.cameras.push(looking(outwards * (side + 0.6 * gap) + Vec3::Y * 0.01, outwards * side * 0.9, 1.0));
        set.environment = Some(Environment::uniform([1.0; 3]));
        let got = mean(&set.stage(), one_bounce());
        assert!(got < 0.02, "gap {gap}: {got}");
    }
}

/// Moves everything of a scene made in memory.
fn moved(stage: &Stage, edits: &ShotEdits, place: Affine3A, scale: f32) -> (Arc<Stage>, ShotEdits) {
    let mut scene = (*stage.scene).clone();
    let normals = turn_normals(place.matrix3.into());
    let mirrored = place.matrix3.determinant() < 0.0;
    let mesh = &mut scene.world;
    mesh.positions.iter_mut().for_each(|p| *p = place.transform_point3(*p));
    mesh.normals.iter_mut().for_each(|n| *n = (normals * *n).normalize());
    mesh.tangents.iter_mut().for_each(|t| {
        *t = place.transform_vector3(t.truncate()).normalize().extend(if mirrored { -t.w } else { t.w });
    });
    if mirrored {
        mesh.triangles.iter_mut().for_each(|t| t.vertices.swap(1, 2));
    }
    for m in &mut scene.materials {
        m.attenuation_distance *= scale;
    }
    for l in &mut scene.lights {
        l.position = place.transform_point3(l.position);
        l.direction = place.transform_vector3(l.direction).normalize();
        if l.kind != LightKind::Directional {
            l.intensity *= scale * scale;
        }
    }
    for c in &mut scene.cameras {
        // A mirrored camera sees the mirrored picture: its X stays, turned over.
        let turn = place.matrix3 * (1.0 / scale);
        let linear = glam::Mat3A::from_mat4(c.to_world);
        let mut axes = turn * linear;
        if mirrored {
            axes.x_axis = -axes.x_axis;
        }
        let position = place.transform_point3(c.to_world.w_axis.truncate());
        c.to_world = Mat4::from_mat3_translation(axes.into(), position);
        if let Projection::Orthographic { half_height } = &mut c.projection {
            *half_height *= scale;
        }
    }
    let mut edits = edits.clone();
    for l in &mut edits.added {
        let (at, towards) = (Vec3::from_array(l.position), Vec3::from_array(l.towards));
        l.position = place.transform_point3(at).to_array();
        l.towards = place.transform_point3(towards).to_array();
        l.shape = match l.shape {
            Shape::Sphere { radius } => Shape::Sphere { radius: radius * scale },
            Shape::Disc { radius } => Shape::Disc { radius: radius * scale },
            Shape::Rectangle { width, height } => Shape::Rectangle { width: width * scale, height: height * scale },
        };
    }
    for m in edits.media.values_mut() {
        m.scattering = m.scattering.map(|s| s / scale);
        m.absorption = m.absorption.map(|s| s / scale);
    }
    (Arc::new(Stage::new(Arc::new(scene), stage.environment.clone())), edits)
}

/// The same scene with every object as an instance of a mesh of its own.
fn split(stage: &Stage) -> Arc<Stage> {
    let mut scene = (*stage.scene).clone();
    let world = std::mem::take(&mut scene.world);
    if scene.objects.is_empty() {
        scene.objects.push("all".into());
    }
    for object in 0..scene.objects.len() as u32 {
        let place = Affine3A::from_scale_rotation_translation(
            Vec3::new(0.5, 2.0, -1.5),
            Quat::from_euler(EulerRot::XYZ, 0.3, object as f32, -0.8),
            Vec3::new(3.0, object as f32, -1.0),
        );
        let (back, normals) = (place.inverse(), turn_normals(place.inverse().matrix3.into()));
        let mut mesh = Mesh::default();
        for t in world.triangles.iter().filter(|t| t.object == object) {
            let base = mesh.positions.len() as u32;
            mesh.positions.extend(world.corners(t).map(|p| back.transform_point3(p)));
            mesh.normals.extend(world.corner_normals(t).map(|n| (normals * n).normalize()));
            // The place mirrors, so that the mesh must be wound the other way round.
            mesh.triangles.push(Triangle { vertices: [base, base + 2, base + 1], ..*t });
        }
        scene.shared.push(mesh);
        scene.instances.push(Instance { mesh: object, to_world: place, object });
    }
    Arc::new(Stage::new(Arc::new(scene), stage.environment.clone()))
}

fn no_haze(t: &Tuning) -> Tuning {
    t.clone().with(K::HazeDensity, 0.0)
}

fn law_of_scale(seed: u64) -> Result<(), String> {
    let mut dice = Dice(seed * 104_729 + 11);
    let (stage, edits, t) = random::scene(&mut dice);
    let t = no_haze(&t);
    let plain = |n, s| random::estimate(&stage, &edits, &t, tracer::Strategy::Both, (n, s));
    for scale in [1e-4f32, 1e-2, 30.0, 1e5] {
        let (scaled, moved_edits) = moved(&stage, &edits, Affine3A::from_scale(Vec3::splat(scale)), scale);
        let other = |n, s| random::estimate(&scaled, &moved_edits, &t, tracer::Strategy::Both, (n, s));
        random::agree(&format!("seed {seed}, scaled by {scale}"), 64, [&plain, &other])?;
    }
    Ok(())
}

/// Without a sky, which would have to turn as well, and with rectangles that stay rectangles about the vertical.
fn law_of_place(seed: u64) -> Result<(), String> {
    let mut dice = Dice(seed * 15_485_863 + 5);
    let (stage, edits, t) = random::scene(&mut dice);
    let stage = Arc::new(Stage::new(stage.scene.clone(), Some(Arc::new(Environment::uniform([0.5; 3])))));
    let t = no_haze(&t);
    let plain = |n, s| random::estimate(&stage, &edits, &t, tracer::Strategy::Both, (n, s));
    let far = Affine3A::from_translation(Vec3::new(40.0, -7.0, 25.0));
    let turned = Affine3A::from_rotation_y(2.3 + seed as f32);
    let half = Affine3A::from_scale(Vec3::new(-1.0, 1.0, 1.0));
    for (name, place) in [("moved", far), ("turned", turned), ("mirrored", half)] {
        let (scene, moved_edits) = moved(&stage, &edits, place, 1.0);
        let other = |n, s| {
            let mut e = random::estimate(&scene, &moved_edits, &t, tracer::Strategy::Both, (n, s));
            if name == "mirrored" {
                // Left and right change places.
                e = random::Estimate { mean: swapped(&e.mean), error: swapped(&e.error) };
            }
            e
        };
        random::agree(&format!("seed {seed}, {name}"), 64, [&plain, &other])?;
    }
    let instances = split(&stage);
    let other = |n, s| random::estimate(&instances, &edits, &t, tracer::Strategy::Both, (n, s));
    random::agree(&format!("seed {seed}, split into instances"), 64, [&plain, &other])
}

fn swapped(v: &[f64]) -> Vec<f64> {
    [3, 4, 5, 0, 1, 2, 9, 10, 11, 6, 7, 8].map(|k| v[k]).to_vec()
}

#[test]
fn a_scaled_scene_looks_the_same() {
    random::holds(5, law_of_scale);
}

#[test]
fn a_moved_turned_mirrored_or_split_scene_looks_the_same() {
    random::holds(5, law_of_place);
    // A rectangle that shines almost straight down.
    assert_eq!(law_of_place(615), Ok(()));
}

/// A sheet with a normal map or a stretched highlight, and tangents from its file, under lights from all sides: seen in a mirror it
/// is the mirror image, whether the mirror stands in the node or in the mesh. Built as files, so that the import takes part.
#[test]
fn mirrored_nodes_turn_tangents_over() {
    for stretched in [false, true] {
        for times in [1, 2] {
            let look = |mirrored: bool| {
                let glb = tangent_sheet(stretched, mirrored, times);
                let mut scene = read_glb(&glb, "sheet.glb").unwrap();
                scene.cameras.push(facing(0.9));
                for (x, colour) in [(-3.0, Vec3::X), (3.0, Vec3::Y)] {
                    let x = if mirrored { -x } else { x };
                    scene.lights.push(Light {
                        name: format!("{x}"),
                        kind: LightKind::Point,
                        intensity: colour * 20.0,
                        position: Vec3::new(x, 2.0, 2.0),
                        direction: Vec3::NEG_Y,
                    });
                }
                let stage = Arc::new(Stage::new(Arc::new(scene), None));
                let d =
                    Description { camera: "Test".into(), ..describe(tuning((8, 8), 64).with(K::DepthTotal, 1), None) };
                let mean = run(&stage, d, 2).plate().mean();
                mean.iter().map(|c| Vec3::from_array(*c)).sum::<Vec3>() / 64.0
            };
            let (plain, mirrored) = (look(false), look(true));
            assert!(plain.x > 0.01 && (plain.x - plain.y).abs() > 0.05 * plain.x + 0.01, "the sides differ: {plain}");
            assert!(
                (plain - mirrored).abs().max_element() < 0.01 * plain.max_element(),
                "stretched {stretched}, {times} times: {plain} {mirrored}"
            );
        }
    }
}

/// A square with a leaning normal map or a stretched highlight along a diagonal, as `times` nodes, of which all but the first lie far
/// away and large enough that they are instances.
fn tangent_sheet(stretched: bool, mirrored: bool, times: usize) -> Vec<u8> {
    use serde_json::json;
    let n = if times > 1 { 100 } else { 1 };
    let mut data: Vec<u8> = Vec::new();
    let mut put = |values: &[f32]| values.iter().for_each(|x| data.extend(x.to_le_bytes()));
    let at = |k: usize| k as f32 / n as f32 * 2.0 - 1.0;
    let grid: Vec<(usize, usize)> = (0..=n).flat_map(|j| (0..=n).map(move |i| (i, j))).collect();
    grid.iter().for_each(|(i, j)| put(&[at(*i), at(*j), 0.0]));
    grid.iter().for_each(|_| put(&[0.0, 0.0, 1.0]));
    grid.iter().for_each(|_| put(&[1.0, 0.0, 0.0, 1.0]));
    grid.iter().for_each(|(i, j)| put(&[*i as f32 / n as f32, 1.0 - *j as f32 / n as f32]));
    let row = n + 1;
    let mut count = 0;
    for j in 0..n {
        for i in 0..n {
            let a = (j * row + i) as u32;
            for v in [a, a + 1, a + row as u32 + 1, a, a + row as u32 + 1, a + row as u32] {
                data.extend(v.to_le_bytes());
                count += 1;
            }
        }
    }
    let picture = data.len();
    let mut png = std::io::Cursor::new(Vec::new());
    // A normal that leans towards growing u and v.
    image::RgbImage::from_pixel(2, 2, image::Rgb([190, 170, 220])).write_to(&mut png, image::ImageFormat::Png).unwrap();
    let png = png.into_inner();
    data.extend(&png);
    let v = (n + 1) * (n + 1);
    let mut material =
        json!({ "doubleSided": true, "pbrMetallicRoughness": { "metallicFactor": 1.0, "roughnessFactor": 0.45 } });
    if stretched {
        material["extensions"] =
            json!({ "KHR_materials_anisotropy": { "anisotropyStrength": 0.9, "anisotropyRotation": 0.7 } });
    } else {
        material["normalTexture"] = json!({ "index": 0 });
    }
    let side = if mirrored { -1.0 } else { 1.0 };
    let nodes: Vec<serde_json::Value> = (0..times)
        .map(|k| json!({ "mesh": 0, "scale": [side, 1.0, 1.0], "translation": [100.0 * k as f32, 0.0, 0.0] }))
        .collect();
    let view = |from: usize, length: usize| json!({ "buffer": 0, "byteOffset": from, "byteLength": length });
    let accessor = |view: usize, kind: &str, count: usize| json!({ "bufferView": view, "componentType": 5126, "count": count, "type": kind });
    let mut positions = accessor(0, "VEC3", v);
    (positions["min"], positions["max"]) = (json!([-1, -1, 0]), json!([1, 1, 0]));
    let json = json!({
        "extensionsUsed": ["KHR_materials_anisotropy"],
        "scene": 0, "scenes": [{ "nodes": (0..times).collect::<Vec<_>>() }], "nodes": nodes,
        "meshes": [{ "primitives": [{ "attributes": { "POSITION": 0, "NORMAL": 1, "TANGENT": 2, "TEXCOORD_0": 3 }, "indices": 4, "material": 0 }] }],
        "materials": [material],
        "textures": [{ "source": 0 }],
        "images": [{ "bufferView": 5, "mimeType": "image/png" }],
        "bufferViews": [view(0, 12 * v), view(12 * v, 12 * v), view(24 * v, 16 * v), view(40 * v, 8 * v), view(48 * v, 4 * count), view(picture, png.len())],
        "accessors": [positions, accessor(1, "VEC3", v), accessor(2, "VEC4", v), accessor(3, "VEC2", v),
            { "bufferView": 4, "componentType": 5125, "count": count, "type": "SCALAR" }]
    });
    crate::files::container(json, &data)
}
