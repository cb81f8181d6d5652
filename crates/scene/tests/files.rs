//! Files as they come: scenes by others, every way in which glTF stores numbers, pictures of all sorts, and files that mean
//! harm or are broken at random. Origins and licences of the files by others: `files/ORIGIN.md`.

use proptest::prelude::*;
use scene::{Scene, Texels, Wrap, load, read_glb};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};

fn file(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/files").join(name)
}

fn area(s: &Scene) -> f32 {
    let of = |[a, b, c]: [glam::Vec3; 3]| 0.5 * (b - a).cross(c - a).length();
    s.world.triangles.iter().map(|t| of(s.world.corners(t))).sum()
}

fn features(s: &Scene) -> String {
    s.report.entries.iter().map(|e| format!("{:?} {}", e.handling, e.feature)).collect::<Vec<_>>().join("; ")
}

/// The same unit square as triangles, strips and fans, indexed with 8, 16 and 32 bits or not at all.
#[test]
fn all_ways_to_say_triangles_give_the_same_square() {
    for n in [4, 5, 6, 11, 12, 13, 14, 15] {
        let s = load(&file(&format!("Mesh_PrimitiveMode_{n:02}.gltf"))).unwrap_or_else(|f| panic!("{n}: {f}"));
        assert_eq!(s.triangles_seen(), 2, "{n}");
        assert!((area(&s) - 1.0).abs() < 1e-6, "{n}: {}", area(&s));
        // All face the same way.
        let z = |t: &scene::Triangle| {
            let [a, b, c] = s.world.corners(t);
            (b - a).cross(c - a).z
        };
        assert!(s.world.triangles.iter().all(|t| z(t) > 0.0), "{n}");
    }
}

#[test]
fn scenes_by_others_arrive_whole() {
    let s = load(&file("BoxTextured.glb")).unwrap();
    assert_eq!((s.triangles_seen(), s.textures.len(), s.textures[0].width), (12, 1, 211));
    assert!((area(&s) - 6.0).abs() < 1e-4);
    let s = load(&file("simple_skin.gltf")).unwrap();
    assert_eq!(s.triangles_seen(), 8);
    assert!(features(&s).contains("skin"), "{}", features(&s));
    let s = load(&file("cube_usemtl.obj")).unwrap();
    assert!((area(&s) - 6.0).abs() < 1e-4 && s.triangles_seen() == 12 && s.materials.iter().any(|m| m.name == "mtl"));
    let s = load(&file("cube_with_vertexcolors.obj")).unwrap();
    let first = s.world.corner_colours(&s.world.triangles[0]);
    assert!(first.iter().any(|c| (c.x - 0.48627).abs() < 1e-4), "{first:?}");
    for (name, word) in [("AllIndicesOutOfRange.gltf", "points beyond"), ("RecursiveNodes.gltf", "nested")] {
        let fault = load(&file(name)).map(|_| ()).expect_err(name).to_string();
        assert!(fault.contains(word), "{fault}");
    }
}

/// A GLB of one mesh; `binary` is its only buffer.
fn glb(mut document: Value, binary: &[u8]) -> Vec<u8> {
    document["asset"] = json!({ "version": "2.0" });
    document["buffers"] = json!([{ "byteLength": binary.len() }]);
    let pad = |mut b: Vec<u8>, with: u8| {
        b.resize(b.len().next_multiple_of(4), with);
        b
    };
    let (text, binary) = (pad(serde_json::to_vec(&document).unwrap(), b' '), pad(binary.to_vec(), 0));
    let mut out = b"glTF".to_vec();
    for n in [2u32, 28 + text.len() as u32 + binary.len() as u32, text.len() as u32] {
        out.extend(n.to_le_bytes());
    }
    out.extend([&b"JSON"[..], &text, &(binary.len() as u32).to_le_bytes(), b"BIN\0", &binary].concat());
    out
}

fn floats(list: &[f32]) -> Vec<u8> {
    list.iter().flat_map(|f| f.to_le_bytes()).collect()
}

/// Interleaved positions and coordinates, with the third vertex moved by a sparse accessor and a morph at its rest weight.
#[test]
fn interleaved_sparse_and_morphed_vertices_are_read() {
    let mut binary = floats(&[
        0.0, 0.0, 0.0, 0.1, 0.2, //
        1.0, 0.0, 0.0, 0.3, 0.4, //
        0.0, 1.0, 0.0, 0.5, 0.6,
    ]);
    binary.extend([2, 0, 0, 0]);
    binary.extend(floats(&[0.0, 5.0, 0.0]));
    binary.extend(floats(&[0.0, 0.0, 1.0, 0.0, 0.0, 1.0, 0.0, 0.0, 1.0]));
    let document = json!({
        "scenes": [{ "nodes": [0] }], "scene": 0, "nodes": [{ "mesh": 0 }],
        "meshes": [{
            "primitives": [{ "attributes": { "POSITION": 0, "TEXCOORD_0": 1 }, "targets": [{ "POSITION": 2 }] }],
            "weights": [0.5]
        }],
        "accessors": [
            { "bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "min": [0, 0, 0], "max": [1, 5, 0],
              "sparse": { "count": 1, "indices": { "bufferView": 1, "componentType": 5121 }, "values": { "bufferView": 2 } } },
            { "bufferView": 0, "byteOffset": 12, "componentType": 5126, "count": 3, "type": "VEC2" },
            { "bufferView": 3, "componentType": 5126, "count": 3, "type": "VEC3", "min": [0, 0, 1], "max": [0, 0, 1] }
        ],
        "bufferViews": [
            { "buffer": 0, "byteLength": 60, "byteStride": 20 }, { "buffer": 0, "byteOffset": 60, "byteLength": 1 },
            { "buffer": 0, "byteOffset": 64, "byteLength": 12 }, { "buffer": 0, "byteOffset": 76, "byteLength": 36 }
        ]
    });
    let s = read_glb(&glb(document, &binary), "sparse.glb").unwrap();
    let corners = s.world.corners(&s.world.triangles[0]);
    assert_eq!(corners[2].y, 5.0);
    assert_eq!(s.world.corner_uvs(&s.world.triangles[0], 0)[1].to_array(), [0.3, 0.4]);
    // Weights of the rest pose are applied, and said.
    assert_eq!(corners[0].z, 0.5);
    assert!(features(&s).contains("morph"), "{}", features(&s));
}

/// Ten thousand nodes that show one mesh cost one mesh.
#[test]
fn ten_thousand_instances_share_a_mesh() {
    let nodes: Vec<Value> = (0..10_000).map(|i| json!({ "mesh": 0, "translation": [i, 0, 0] })).collect();
    let binary = floats(&[0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0].repeat(8));
    let document = json!({
        "scenes": [{ "nodes": (0..10_000).collect::<Vec<_>>() }], "scene": 0, "nodes": nodes,
        "meshes": [{ "primitives": [{ "attributes": { "POSITION": 0 } }] }],
        "accessors": [{ "bufferView": 0, "componentType": 5126, "count": 24, "type": "VEC3", "min": [0, 0, 0], "max": [1, 1, 0] }],
        "bufferViews": [{ "buffer": 0, "byteLength": binary.len() }]
    });
    let s = read_glb(&glb(document, &binary), "many.glb").unwrap();
    assert_eq!((s.shared.len(), s.instances.len(), s.triangles_seen()), (1, 10_000, 80_000));
    assert_eq!((s.report.triangles_kept, s.report.instances), (8, 10_000));
    assert!((s.bounds().1.x - 10_000.0).abs() < 0.1);
}

/// A square whose base colour is a picture.
fn pictured(bytes: &[u8], kind: &str, extra: Value) -> Result<Scene, fault::Fault> {
    let mut binary = floats(&[0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 1.0]);
    binary.extend(bytes);
    let mut texture = json!({ "index": 0 });
    texture.as_object_mut().unwrap().extend(extra.as_object().unwrap().clone());
    let document = json!({
        "extensionsUsed": ["KHR_texture_transform", "EXT_texture_webp"],
        "scenes": [{ "nodes": [0] }], "scene": 0, "nodes": [{ "mesh": 0 }],
        "meshes": [{ "primitives": [{ "attributes": { "POSITION": 0, "TEXCOORD_0": 1 }, "material": 0 }] }],
        "materials": [{ "pbrMetallicRoughness": { "baseColorTexture": texture } }],
        "textures": [{ "source": 0, "sampler": 0 }],
        "samplers": [{ "wrapS": 33648, "wrapT": 33071 }],
        "images": [{ "bufferView": 2, "mimeType": kind }],
        "accessors": [
            { "bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "min": [0, 0, 0], "max": [1, 1, 0] },
            { "bufferView": 1, "componentType": 5126, "count": 3, "type": "VEC2" }
        ],
        "bufferViews": [
            { "buffer": 0, "byteLength": 36 }, { "buffer": 0, "byteOffset": 36, "byteLength": 24 },
            { "buffer": 0, "byteOffset": 60, "byteLength": bytes.len() }
        ]
    });
    read_glb(&glb(document, &binary), "pictured.glb")
}

fn encoded(picture: image::DynamicImage, format: image::ImageFormat) -> Vec<u8> {
    let mut out = std::io::Cursor::new(Vec::new());
    picture.write_to(&mut out, format).unwrap();
    out.into_inner()
}

/// 16 bits stay 16 bits, sRGB decodes by its formula (IEC 61966-2-1: 0.18 is code 0.4614), wrap modes and
/// KHR_texture_transform arrive, WebP is read.
#[test]
fn pictures_keep_their_values() {
    // 0.4614 of 65 535.
    let grey = image::ImageBuffer::from_pixel(2, 2, image::Luma([30_238u16]));
    let s = pictured(&encoded(grey.into(), image::ImageFormat::Png), "image/png", json!({ "texCoord": 0 })).unwrap();
    assert!(matches!(s.textures[0].texels, Texels::Sixteen(_)));
    let tex = s.materials[0].base_texture.unwrap();
    assert_eq!(tex.wrap, [Wrap::Mirror, Wrap::Clamp]);
    let value = tex.rgb(&s.textures, glam::Vec2::splat(0.5)).x;
    assert!((value - 0.18).abs() < 2e-4, "{value}");
    assert_eq!(s.report.texture_bytes, 2 * 2 * 8);
    let ramp = image::RgbImage::from_fn(4, 1, |x, _| image::Rgb([x as u8 * 80, 0, 0]));
    let transform =
        json!({ "extensions": { "KHR_texture_transform": { "offset": [0.25, 0.0], "scale": [0.5, 1.0] } } });
    let webp = encoded(ramp.into(), image::ImageFormat::WebP);
    let s = pictured(&webp, "image/webp", transform).unwrap();
    let tex = s.materials[0].base_texture.unwrap();
    // u = 0.25 + 0.5 · 0.75 = 0.625: the middle of the third texel; data is linear.
    let value = tex.linear(&s.textures, glam::Vec2::new(0.75, 0.5)).x;
    assert!((value - 160.0 / 255.0).abs() < 1e-5, "{value}");
    // Mirrored beyond 1: u = 1.125 is u = 0.875, the last texel.
    let value = tex.linear(&s.textures, glam::Vec2::new(1.75, 0.5)).x;
    assert!((value - 240.0 / 255.0).abs() < 1e-5, "{value}");
}

/// A picture that claims to be huge is refused from its header; nothing of its size is allocated.
#[test]
fn huge_pictures_are_refused_from_their_header() {
    let small = encoded(image::RgbImage::new(1, 1).into(), image::ImageFormat::Png);
    let mut png = small.clone();
    png[16..24].copy_from_slice(&[0, 1, 0, 0, 0, 1, 0, 0]);
    // The header's checksum, so that only its size is wrong.
    let crc = png[12..29].iter().fold(u32::MAX, |crc, b| {
        (0..8).fold(crc ^ *b as u32, |c, _| if c & 1 == 1 { c >> 1 ^ 0xedb8_8320 } else { c >> 1 })
    });
    png[29..33].copy_from_slice(&(!crc).to_be_bytes());
    let fault = pictured(&png, "image/png", json!({ "texCoord": 0 })).map(|_| ()).expect_err("65 536 pixels square");
    assert_eq!(fault.code, fault::Code::TooLarge, "{fault}");
}

/// Names that lead out of the scene's folder are refused, whatever they point to.
#[test]
fn paths_do_not_lead_out_of_the_folder() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("secret.bin"), [0u8; 36]).unwrap();
    let inner = folder.path().join("scene");
    std::fs::create_dir(&inner).unwrap();
    let absolute = folder.path().join("secret.bin").display().to_string();
    for uri in
        ["../secret.bin", "%2e%2e/secret.bin", "a/../../secret.bin", &absolute, "file:///etc/passwd", "http://x/y.bin"]
    {
        let document = json!({
            "asset": { "version": "2.0" }, "scenes": [{ "nodes": [0] }], "scene": 0, "nodes": [{ "mesh": 0 }],
            "meshes": [{ "primitives": [{ "attributes": { "POSITION": 0 } }] }],
            "accessors": [{ "bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "min": [0, 0, 0], "max": [0, 0, 0] }],
            "bufferViews": [{ "buffer": 0, "byteLength": 36 }],
            "buffers": [{ "byteLength": 36, "uri": uri }]
        });
        let path = inner.join("scene.gltf");
        std::fs::write(&path, document.to_string()).unwrap();
        let fault = load(&path).map(|_| ()).expect_err(uri);
        assert_eq!(fault.code, fault::Code::OutOfRange, "{uri}: {fault}");
        let obj = inner.join("scene.obj");
        std::fs::write(&obj, format!("mtllib {uri}\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")).unwrap();
        let s = load(&obj).unwrap_or_else(|f| panic!("{uri}: {f}"));
        assert!(features(&s).contains("material library"), "the library is left out and reported: {}", features(&s));
    }
    // Deep nesting of the text itself.
    let deep = format!("{{\"extras\":{}{}}}", "[".repeat(100_000), "]".repeat(100_000));
    std::fs::write(inner.join("deep.gltf"), deep).unwrap();
    assert!(load(&inner.join("deep.gltf")).is_err());
}

/// Texts of real files with pieces cut, doubled and overwritten.
fn damaged(text: &'static [u8]) -> impl Strategy<Value = Vec<u8>> {
    let bites = prop::collection::vec((any::<prop::sample::Index>(), 0usize..3, any::<[u8; 4]>()), 1..6);
    bites.prop_map(move |bites| {
        let mut bytes = text.to_vec();
        for (at, how, with) in bites {
            let at = at.index(bytes.len());
            let end = (at + 4).min(bytes.len());
            match how {
                0 => bytes[at..end].copy_from_slice(&with[..end - at]),
                1 => drop(bytes.drain(at..(at + with[0] as usize).min(bytes.len()))),
                _ => {
                    let piece: Vec<u8> = bytes[at..(at + with[0] as usize).min(bytes.len())].to_vec();
                    bytes.splice(at..at, piece);
                }
            }
            if bytes.is_empty() {
                bytes.push(b'x');
            }
        }
        bytes
    })
}

/// Whatever arrives can be used: finite, with indices that exist.
fn sane(s: &Scene) {
    for mesh in s.shared.iter().chain([&s.world]) {
        assert!(mesh.positions.iter().chain(&mesh.normals).all(|p| p.is_finite()));
        assert!(mesh.triangles.iter().all(|t| {
            t.vertices.iter().all(|v| (*v as usize) < mesh.positions.len()) && (t.material as usize) < s.materials.len()
        }));
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn damaged_gltf_text_gets_a_fault_or_a_sane_scene(bytes in damaged(include_bytes!("files/simple_skin.gltf"))) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("damaged.gltf");
        std::fs::write(&path, bytes).unwrap();
        if let Ok(s) = load(&path) {
            sane(&s);
        }
    }

    #[test]
    fn damaged_obj_text_gets_a_fault_or_a_sane_scene(bytes in damaged(include_bytes!("files/cube_usemtl.obj"))) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("damaged.obj");
        std::fs::write(&path, bytes).unwrap();
        if let Ok(s) = load(&path) {
            sane(&s);
        }
    }

    #[test]
    fn damaged_glb_gets_a_fault_or_a_sane_scene(bytes in damaged(include_bytes!("files/BoxTextured.glb"))) {
        if let Ok(s) = read_glb(&bytes, "damaged.glb") {
            sane(&s);
        }
    }
}
