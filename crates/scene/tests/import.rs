//! Import of GLB files: what is read, and that no file, however hostile, gets more than a typed error.

use fault::Fault;
use scene::{Environment, Handling, ShotEdits, read_glb};
use serde_json::{Value, json};

/// A GLB from its JSON and binary chunk.
fn glb(document: &Value, binary: &[u8]) -> Vec<u8> {
    let mut text = serde_json::to_vec(document).unwrap();
    while !text.len().is_multiple_of(4) {
        text.push(b' ');
    }
    let mut binary = binary.to_vec();
    while !binary.len().is_multiple_of(4) {
        binary.push(0);
    }
    let mut out = b"glTF".to_vec();
    for n in [2u32, 28 + text.len() as u32 + binary.len() as u32, text.len() as u32] {
        out.extend(n.to_le_bytes());
    }
    out.extend(b"JSON");
    out.extend(text);
    out.extend((binary.len() as u32).to_le_bytes());
    out.extend(b"BIN\0");
    out.extend(binary);
    out
}

/// One triangle with a material, a light and a camera under a node that moves, turns and mirrors it.
fn small() -> (Value, Vec<u8>) {
    let positions: [f32; 9] = [0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0];
    let mut binary: Vec<u8> = positions.iter().flat_map(|f| f.to_le_bytes()).collect();
    binary.extend([0u8, 1, 2, 0]);
    let document = json!({
        "asset": { "version": "2.0" },
        "scene": 0,
        "scenes": [{ "nodes": [0] }],
        "nodes": [
            { "name": "parent", "translation": [0, 0, 5], "scale": [-2, 2, 2], "children": [1, 2, 3] },
            { "name": "triangle", "mesh": 0 },
            { "name": "eye", "camera": 0, "translation": [0, 0, 3] },
            { "name": "lamp", "extensions": { "KHR_lights_punctual": { "light": 0 } } }
        ],
        "meshes": [{ "primitives": [{ "attributes": { "POSITION": 0 }, "indices": 1, "material": 0 }] }],
        "materials": [{
            "name": "glow",
            "emissiveFactor": [1.0, 0.5, 0.25],
            "pbrMetallicRoughness": { "baseColorFactor": [0.2, 0.4, 0.6, 1.0], "metallicFactor": 0.0, "roughnessFactor": 0.3 },
            "extensions": {
                "KHR_materials_emissive_strength": { "emissiveStrength": 8.0 },
                "KHR_materials_specular": { "specularFactor": 0.0 },
                "KHR_materials_ior": { "ior": 1.7 }
            }
        }],
        "cameras": [{ "type": "perspective", "perspective": { "yfov": 0.7, "znear": 0.1 } }],
        "accessors": [
            { "bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "min": [0, 0, 0], "max": [1, 1, 0] },
            { "bufferView": 1, "componentType": 5121, "count": 3, "type": "SCALAR" }
        ],
        "bufferViews": [{ "buffer": 0, "byteLength": 36 }, { "buffer": 0, "byteOffset": 36, "byteLength": 3 }],
        "buffers": [{ "byteLength": 40 }],
        "extensions": { "KHR_lights_punctual": { "lights": [{ "type": "spot", "intensity": 12.0, "spot": { "innerConeAngle": 0.1, "outerConeAngle": 0.4 } }] } },
        "extensionsUsed": ["KHR_lights_punctual", "KHR_materials_emissive_strength", "KHR_materials_specular", "KHR_materials_ior", "KHR_materials_unlit"]
    });
    (document, binary)
}

#[test]
fn values_arrive_in_world_space_and_units() {
    let (document, binary) = small();
    let s = read_glb(&glb(&document, &binary), "small.glb").unwrap();
    let m = &s.materials[0];
    assert_eq!((m.emission.x, m.emission.y, m.ior, m.specular, m.roughness), (8.0, 4.0, 1.7, 0.0, 0.3));
    assert_eq!(s.world.corners(&s.world.triangles[0])[0].z, 5.0);
    let [a, b, c] = s.world.corners(&s.world.triangles[0]);
    // The mirrored triangle still faces +Z: its winding was turned round.
    assert!((b - a).cross(c - a).z > 0.0 && s.world.normals[0].z > 0.9 && s.bounds().0.x == -2.0);
    assert_eq!(s.cameras[0].to_world.w_axis.z, 11.0);
    assert_eq!((s.lights[0].intensity.x, s.lights[0].direction.z), (12.0, -1.0));
    insta::assert_json_snapshot!(s.report);
}

#[test]
fn a_scene_without_a_camera_gets_one_that_frames_it_and_says_so() {
    let (mut document, binary) = small();
    document["nodes"][2] = json!({ "name": "eye" });
    let s = read_glb(&glb(&document, &binary), "small.glb").unwrap();
    assert_eq!(s.cameras[0].name, "Framing");
    assert!(s.report.entries.iter().any(|e| e.feature == "camera" && e.handling == Handling::Approximated));
}

#[test]
fn edits_that_the_scene_cannot_honour_are_refused_with_their_place() {
    let (mut document, binary) = small();
    let mut solid = document["materials"][0].clone();
    solid["name"] = json!("pane");
    document["materials"].as_array_mut().unwrap().push(solid);
    let s = read_glb(&glb(&document, &binary), "small.glb").unwrap();
    let said = |edits: Value| {
        let read = ShotEdits::from_json(&edits.to_string(), "edits.json");
        read.and_then(|e| e.check(&s))
            .err()
            .map_or("accepted".into(), |f| format!("{:?} at {}: {}", f.code, f.place, f.what))
    };
    let light = |name: &str, change: Value| {
        let shape = json!({ "kind": "disc", "radius": 0.5 });
        let mut light = json!({ "name": name, "shape": shape, "position": [0, 2, 0], "radiance": [3, 3, 3] });
        change.as_object().unwrap().iter().for_each(|(k, v)| light[k] = v.clone());
        light
    };
    let added = |lights: &[Value]| json!({ "added": lights });
    assert_eq!(said(added(&[light("fill", json!({})), light("rim", json!({}))])), "accepted");
    assert_eq!(said(json!({ "lights": { "lamp": { "strength": 2 }, "environment": { "on": false } } })), "accepted");
    let bad = [
        (json!({ "lamps": {} }), "WrongType at edits.json: unknown field `lamps`"),
        (json!({ "lights": { "lmap": {} } }), "NotFound at shot edits: there is no light \"lmap\""),
        (json!({ "lights": { "lamp": { "strength": -1 } } }), "OutOfRange at lamp"),
        (json!({ "lights": { "lamp": { "angle": 181 } } }), "OutOfRange at lamp"),
        (json!({ "lights": { "lamp": { "split": 65 } } }), "OutOfRange at lamp"),
        (added(&[light("lamp", json!({}))]), "Contradiction at added light \"lamp\": two lights of one name"),
        (added(&[light("environment", json!({}))]), "Contradiction at added light \"environment\""),
        (added(&[light("fill", json!({})), light("fill", json!({}))]), "Contradiction at added light \"fill\""),
        (added(&[light("", json!({}))]), "Contradiction at added light \"\": an added light without a name"),
        (added(&[light("fill", json!({ "radiance": [1, -1, 1] }))]), "OutOfRange at fill: an impossible light"),
        (added(&[light("fill", json!({ "shape": { "kind": "sphere", "radius": 0 } }))]), "OutOfRange at fill"),
        (added(&[light("fill", json!({ "towards": [0, 2, 0] }))]), "OutOfRange at fill: the light faces its own"),
        (json!({ "media": { "fog": { "scattering": [1, 1, 1] } } }), "NotFound at shot edits: there is no material"),
        (json!({ "media": { "pane": { "scattering": [1, 1, 1] } } }), "Contradiction at pane: a medium needs a solid"),
        (json!({ "camera_move": { "to": "eye", "frames": 0 } }), "OutOfRange at camera_move"),
        (json!({ "camera_move": { "to": "nowhere", "frames": 8 } }), "NotFound at camera_move"),
    ];
    for (edits, expected) in bad {
        let said = said(edits.clone());
        assert!(said.starts_with(expected), "{edits}: {said}");
    }
}

fn refused(change: impl Fn(&mut Value)) -> String {
    let (mut document, binary) = small();
    change(&mut document);
    describe(read_glb(&glb(&document, &binary), "bad.glb").err())
}

fn describe(f: Option<Fault>) -> String {
    f.map_or("accepted".into(), |f| format!("{:?}: {f}", f.code))
}

#[test]
fn broken_files_get_a_fault_with_place_and_remedy() {
    let (document, binary) = small();
    let whole = glb(&document, &binary);
    insta::assert_snapshot!(
        [
            describe(read_glb(&whole[..whole.len() - 20], "cut.glb").err()),
            describe(read_glb(&whole[..10], "cut.glb").err()),
            describe(read_glb(b"", "empty.glb").err()),
            describe(read_glb(b"\x89PNG\r\n\x1a\n and more", "picture.glb").err()),
            refused(|d| d["accessors"][0]["count"] = json!(4)),
            refused(|d| d["accessors"][0]["byteOffset"] = json!(4_000_000_000u64)),
            refused(|d| d["bufferViews"][0]["byteLength"] = json!(4_000_000_000u64)),
            refused(|d| d["bufferViews"][0]["byteStride"] = json!(252)),
            refused(|d| d["nodes"][1]["children"] = json!([0])),
            refused(|d| d["nodes"][1]["matrix"] = json!([1e39, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1])),
            refused(|d| d["meshes"][0]["primitives"][0]["indices"] = json!(7)),
            refused(|d| d["accessors"][1]["componentType"] = json!(5126)),
            refused(|d| d["accessors"][0]["sparse"] = json!({ "count": 1, "indices": { "bufferView": 1, "componentType": 5121 }, "values": { "bufferView": 0 } })),
            refused(|d| d["buffers"][0]["uri"] = json!("../../etc/passwd")),
            refused(|d| {
                d["images"] = json!([{ "name": "wood", "uri": "wood.png" }]);
                d["textures"] = json!([{ "source": 0 }]);
            }),
            refused(|d| {
                d["images"] = json!([{ "name": "wood", "bufferView": 0, "mimeType": "image/png" }]);
                d["textures"] = json!([{ "source": 0 }]);
            }),
            refused(|d| d["extensionsRequired"] = json!(["EXAMPLE_unknown"])),
            refused(|d| d["scenes"] = json!([{ "nodes": [] }])),
        ]
        .join("\n")
    );
}

#[test]
fn an_index_beyond_the_vertices_and_a_nan_position_are_refused() {
    let (document, mut binary) = small();
    binary[37] = 9;
    assert!(
        describe(read_glb(&glb(&document, &binary), "i.glb").err()).contains("index 9 points beyond the 3 vertices")
    );
    binary[37] = 1;
    binary[..4].copy_from_slice(&f32::NAN.to_le_bytes());
    assert!(describe(read_glb(&glb(&document, &binary), "n.glb").err()).contains("NotANumber"));
}

#[test]
fn environments_must_be_radiance() {
    assert!(describe(Environment::read(b"nothing", "sky.hdr").err()).starts_with("WrongType"));
    let sky = demo::tarnfell_dusk();
    assert!(describe(Environment::read(&sky[..sky.len() / 2], "sky.hdr").err()).starts_with("Damaged"));
}

/// A skin that stretches, shears or mirrors carries normals as it carries the surface: they stay perpendicular to it, and on its
/// outside. (glTF 2.0, 3.7.3: normals are transformed by the inverse transposed joint matrix.)
#[test]
fn skinned_normals_stay_perpendicular() {
    let n = std::f32::consts::FRAC_1_SQRT_2;
    let mut binary: Vec<u8> = Vec::new();
    let mut put = |values: &[f32]| values.iter().for_each(|v| binary.extend(v.to_le_bytes()));
    // A triangle in the plane x + y = 0, facing (1, 1, 0).
    put(&[0.0, 0.0, 0.0, -1.0, 1.0, 0.0, 0.0, 0.0, 1.0]);
    put(&[n, n, 0.0].repeat(3));
    put(&[1.0, 0.0, 0.0, 0.0].repeat(3));
    // Joints 0 for every vertex, as bytes.
    binary.extend([0u8; 12]);
    let joints: [(&str, [f32; 16]); 4] = [
        ("stretched", [3.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 0.5, 0.0, 0.0, 0.0, 0.0, 1.0]),
        ("sheared", [1.0, 0.8, 0.0, 0.0, -0.2, 1.0, 0.4, 0.0, 0.0, 0.0, 1.0, 0.0, 2.0, 0.0, 0.0, 1.0]),
        ("mirrored", [-1.0, 0.0, 0.0, 0.0, 0.0, 2.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0]),
        ("as it is", [1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0]),
    ];
    for (name, matrix) in joints {
        let view = |from: usize, length: usize| json!({ "buffer": 0, "byteOffset": from, "byteLength": length });
        let accessor = |view: usize, kind: &str, component: u32| json!({ "bufferView": view, "componentType": component, "count": 3, "type": kind });
        let mut positions = accessor(0, "VEC3", 5126);
        (positions["min"], positions["max"]) = (json!([-1, 0, 0]), json!([0, 1, 1]));
        let document = json!({
            "asset": { "version": "2.0" },
            "scene": 0, "scenes": [{ "nodes": [0, 1] }],
            "nodes": [{ "mesh": 0, "skin": 0 }, { "name": "joint", "matrix": matrix }],
            "skins": [{ "joints": [1] }],
            "meshes": [{ "primitives": [{ "attributes": { "POSITION": 0, "NORMAL": 1, "WEIGHTS_0": 2, "JOINTS_0": 3 } }] }],
            "accessors": [positions, accessor(1, "VEC3", 5126), accessor(2, "VEC4", 5126), accessor(3, "VEC4", 5121)],
            "bufferViews": [view(0, 36), view(36, 36), view(72, 48), view(120, 12)],
            "buffers": [{ "byteLength": binary.len() }]
        });
        let s = read_glb(&glb(&document, &binary), "skin.glb").unwrap();
        let t = s.world.triangles[0];
        let [a, b, c] = s.world.corners(&t);
        let face = (b - a).cross(c - a).normalize();
        for normal in s.world.corner_normals(&t) {
            assert!(normal.dot(face) > 0.9999, "{name}: {normal} on {face}");
        }
    }
}
