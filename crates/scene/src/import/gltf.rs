//! glTF 2.0, binary or as JSON with its files beside it.

use super::attributes::{self, Joints};
use super::builder::{Part, append, check_size, default_material};
use super::{Beside, data_uri, pictures};
use crate::accessor::{bytes_of, floats};
use crate::report::{Handling, Tally};
use crate::*;
use fault::{Code, Fault};
use glam::{Affine3A, Mat4};
use serde_json::Value;
use std::collections::HashMap;

const MOST_NODE_DEPTH: usize = 256;
const MOST_NODE_VISITS: usize = 1_000_000;
/// A mesh that is used more than once is still copied into the world while all its copies have no more triangles than this:
/// rays find them faster there.
const MOST_COPIED: usize = 16_384;

/// Extensions that are honoured.
const READ: &[&str] = &[
    "KHR_lights_punctual",
    "KHR_materials_anisotropy",
    "KHR_materials_clearcoat",
    "KHR_materials_emissive_strength",
    "KHR_materials_ior",
    "KHR_materials_sheen",
    "KHR_materials_specular",
    "KHR_materials_transmission",
    "KHR_materials_unlit",
    "KHR_materials_volume",
    "KHR_mesh_quantization",
    "KHR_texture_transform",
    "EXT_texture_webp",
];

pub fn read(bytes: &[u8], file: &str, beside: Option<&mut Beside>) -> Result<Scene, Fault> {
    let (text, blob) = chunks(bytes).map_err(|f| f.within(file))?;
    let unreadable = |what: String, code| {
        let remedy = "export the scene again as glTF 2.0, without required extensions that are not ratified";
        Fault::new(code, format!("the description of the scene {what}"), file, remedy)
    };
    let mut raw: Value =
        serde_json::from_slice(text).map_err(|e| unreadable(format!("cannot be read: {e}"), Code::Damaged))?;
    prepare(&mut raw);
    let root: gltf::json::Root =
        serde_json::from_value(raw.clone()).map_err(|e| unreadable(format!("cannot be read: {e}"), Code::Damaged))?;
    let document = gltf::Document::from_json(root).map_err(|e| match &e {
        gltf::Error::Validation(list) => {
            let unsupported = list.iter().any(|(_, e)| matches!(e, gltf::json::validation::Error::Unsupported));
            let first = list.first().map(|(path, e)| format!("{path}: {e}")).unwrap_or_default();
            unreadable(format!("is not valid: {first}"), if unsupported { Code::Unsupported } else { Code::Damaged })
        }
        other => unreadable(format!("cannot be read: {other}"), Code::Damaged),
    })?;
    let owned = buffers(&document, blob, beside).map_err(|f| f.within(file))?;
    let buffers: Vec<&[u8]> = owned.data.iter().map(|b| b.as_deref().unwrap_or(blob)).collect();
    let mut reader = Reader {
        document: &document,
        raw: &raw,
        buffers,
        files: owned.beside,
        scene: Scene::default(),
        tally: Tally::default(),
        default_material: None,
    };
    reader.run().map_err(|f| f.within(file))?;
    let mut scene = reader.scene;
    crate::report::finish(&mut scene, reader.tally);
    Ok(scene)
}

/// Brings what the library does not know into the form that it does: extensions that are honoured here may be required,
/// and a WebP picture becomes its texture's source.
fn prepare(raw: &mut Value) {
    if let Some(list) = raw.get_mut("extensionsRequired").and_then(Value::as_array_mut) {
        list.retain(|name| !name.as_str().is_some_and(|n| READ.contains(&n)));
        if list.is_empty()
            && let Some(root) = raw.as_object_mut()
        {
            root.remove("extensionsRequired");
        }
    }
    for t in raw.get_mut("textures").and_then(Value::as_array_mut).into_iter().flatten() {
        if let Some(source) = t.pointer("/extensions/EXT_texture_webp/source").cloned() {
            t["source"] = source;
        }
    }
}

/// The JSON and the binary chunk of a file; a file that is no container is JSON as a whole.
fn chunks(bytes: &[u8]) -> Result<(&[u8], &[u8]), Fault> {
    if !bytes.starts_with(b"glTF") {
        let begins = bytes.iter().find(|b| !b.is_ascii_whitespace());
        return if begins == Some(&b'{') {
            Ok((bytes, &[]))
        } else {
            let what = "this is not a glTF file";
            Err(Fault::new(Code::WrongType, what, "", "give a scene exported as glTF 2.0, .glb or .gltf"))
        };
    }
    let word = |at: usize| bytes.get(at..at.checked_add(4)?).map(|b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]));
    let cut = |says: usize| {
        let what = format!("the file is cut short: its header says {says} bytes, {} are there", bytes.len());
        Fault::new(Code::Damaged, what, "", "copy or export the file again")
    };
    let length = match (word(4), word(8)) {
        (Some(2), Some(length)) if length as usize <= bytes.len() => length as usize,
        (Some(2), Some(length)) => return Err(cut(length as usize)),
        (Some(version), Some(_)) => {
            let what = format!("glTF version {version} is not read");
            return Err(Fault::new(Code::Unsupported, what, "", "export the scene as glTF 2.0"));
        }
        _ => return Err(cut(12)),
    };
    let chunk = |at: usize, kind: &[u8; 4]| {
        let size = word(at)? as usize;
        let body = bytes[..length].get(at.checked_add(8)?..at.checked_add(8)?.checked_add(size)?)?;
        (bytes.get(at + 4..at + 8) == Some(kind)).then_some(body)
    };
    let text = chunk(12, b"JSON").ok_or_else(|| {
        Fault::new(Code::Damaged, "the container has no whole JSON chunk", "", "copy or export the file again")
    })?;
    Ok((text, chunk(20 + text.len(), b"BIN\0").unwrap_or(&[])))
}

struct Buffers<'f> {
    /// None stands for the container's own chunk.
    data: Vec<Option<Vec<u8>>>,
    beside: Option<&'f mut Beside>,
}

fn buffers<'f>(
    document: &gltf::Document,
    blob: &[u8],
    mut beside: Option<&'f mut Beside>,
) -> Result<Buffers<'f>, Fault> {
    let mut data = Vec::new();
    let mut total = 0u64;
    for buffer in document.buffers() {
        let bytes = match buffer.source() {
            gltf::buffer::Source::Bin => None,
            gltf::buffer::Source::Uri(uri) => {
                let place = format!("buffer {}", buffer.index());
                Some(fetch(uri, &mut beside, &place, "its data")?)
            }
        };
        total += bytes.as_ref().map_or(blob.len(), Vec::len) as u64;
        if total > super::MOST_FILE_BYTES {
            return Err(Fault::new(
                Code::TooLarge,
                "its buffers are too large together",
                "buffers",
                "reduce the scene",
            ));
        }
        data.push(bytes);
    }
    Ok(Buffers { data, beside })
}

/// The bytes behind an address.
fn fetch(uri: &str, beside: &mut Option<&mut Beside>, place: &str, what: &str) -> Result<Vec<u8>, Fault> {
    if let Some(data) = data_uri(uri) {
        return data.map_err(|f| f.within(place));
    }
    match beside {
        Some(files) => files.get(uri).map_err(|f| f.within(place)),
        None => Err(Fault::new(
            Code::NotFound,
            format!("{what} lies in another file, which a .glb cannot bring along"),
            format!("{place} ({})", uri.chars().take(80).collect::<String>()),
            "export as .glb with everything embedded",
        )),
    }
}

/// A mesh at a place, found on the walk through the nodes.
struct Use<'a> {
    node: gltf::Node<'a>,
    mesh: gltf::Mesh<'a>,
    world: Mat4,
    object: u32,
}

pub(super) struct Reader<'a> {
    pub document: &'a gltf::Document,
    pub raw: &'a Value,
    pub buffers: Vec<&'a [u8]>,
    files: Option<&'a mut Beside>,
    pub scene: Scene,
    pub tally: Tally,
    default_material: Option<u32>,
}

impl<'a> Reader<'a> {
    fn run(&mut self) -> Result<(), Fault> {
        self.note_extensions();
        let mut held = 0;
        for image in self.document.images() {
            let texture = self.texture(&image, &mut held)?;
            self.scene.textures.push(texture);
        }
        for material in self.document.materials() {
            let material = self.material(&material);
            self.scene.materials.push(material);
        }
        let roots: Vec<gltf::Node> = match self.document.default_scene().or_else(|| self.document.scenes().next()) {
            Some(scene) => scene.nodes().collect(),
            None => Vec::new(),
        };
        let (uses, places) = self.walk(roots)?;
        self.meshes(uses, &places)?;
        if self.scene.triangles_seen() == 0 {
            return Err(Fault::new(
                Code::NotFound,
                "the scene holds no triangles",
                "meshes",
                "export at least one mesh, and check that it belongs to the default scene",
            ));
        }
        Ok(())
    }

    fn note_extensions(&mut self) {
        for name in self.document.extensions_used() {
            if READ.contains(&name) {
                self.tally.read(name);
            } else {
                self.tally.add(Handling::Ignored, name, "this extension is not honoured");
            }
        }
        for _ in self.document.animations() {
            self.tally.add(Handling::Ignored, "animation", "everything stands in its rest pose");
        }
    }

    fn texture(&mut self, image: &gltf::Image, held: &mut u64) -> Result<Texture, Fault> {
        let place = format!("image {} \"{}\"", image.index(), image.name().unwrap_or(""));
        match image.source() {
            gltf::image::Source::View { view, .. } => {
                let bytes = bytes_of(&view, &self.buffers).map_err(|f| f.within(&place))?;
                pictures::decode(bytes, &place, held, &mut self.tally)
            }
            gltf::image::Source::Uri { uri, .. } => {
                let bytes = fetch(uri, &mut self.files, &place, "the texture")?;
                pictures::decode(&bytes, &place, held, &mut self.tally)
            }
        }
    }

    /// Depth first without recursion; a node graph with cycles ends at the depth limit with an error. Returns the uses of
    /// meshes and the world transforms of all nodes.
    fn walk(&mut self, roots: Vec<gltf::Node<'a>>) -> Result<(Vec<Use<'a>>, HashMap<usize, Mat4>), Fault> {
        let mut stack: Vec<(gltf::Node, Mat4, usize)> = roots.into_iter().map(|n| (n, Mat4::IDENTITY, 0)).collect();
        stack.reverse();
        let (mut uses, mut places) = (Vec::new(), HashMap::new());
        let mut visits = 0;
        while let Some((node, parent, depth)) = stack.pop() {
            visits += 1;
            let place = || format!("node {} \"{}\"", node.index(), node.name().unwrap_or(""));
            if depth > MOST_NODE_DEPTH || visits > MOST_NODE_VISITS {
                return Err(Fault::new(
                    Code::Damaged,
                    "the nodes are nested without end or too deeply",
                    place(),
                    "a node must not be its own ancestor; export the scene again",
                ));
            }
            let world = parent * Mat4::from_cols_array_2d(&node.transform().matrix());
            if !world.is_finite() {
                return Err(Fault::new(
                    Code::NotANumber,
                    "its transform is not finite",
                    place(),
                    "reset the transform of this object and export the scene again",
                ));
            }
            places.insert(node.index(), world);
            if let Some(camera) = node.camera() {
                self.camera(&node, &camera, world);
            }
            if let Some(light) = node.light() {
                self.light(&node, &light, world);
            }
            if let Some(mesh) = node.mesh() {
                let object = self.scene.objects.len() as u32;
                self.scene.objects.push(node.name().or(mesh.name()).unwrap_or("unnamed").to_string());
                uses.push(Use { node: node.clone(), mesh, world, object });
                self.tally.read("mesh");
            }
            let children: Vec<_> = node.children().collect();
            stack.extend(children.into_iter().rev().map(|c| (c, world, depth + 1)));
        }
        Ok((uses, places))
    }

    /// Meshes with one use or few triangles go into the world; others are shared by their instances.
    fn meshes(&mut self, uses: Vec<Use<'a>>, places: &HashMap<usize, Mat4>) -> Result<(), Fault> {
        let mut count: HashMap<usize, usize> = HashMap::new();
        uses.iter().for_each(|u| *count.entry(u.mesh.index()).or_default() += 1);
        let mut known: HashMap<usize, Vec<Part>> = HashMap::new();
        let mut shared: HashMap<usize, u32> = HashMap::new();
        for u in uses {
            let within = |f: Fault| f.within(&format!("node {} \"{}\"", u.node.index(), u.node.name().unwrap_or("")));
            let index = u.mesh.index();
            let times = count[&index];
            if let Some(skin) = u.node.skin() {
                // A skinned mesh stands where its joints put it, whatever its node says.
                let joints = self.joints(&skin, places).map_err(within)?;
                let parts = self.parts(&u.mesh, u.node.weights(), Some(&joints)).map_err(within)?;
                self.add_to_world(&parts, Mat4::IDENTITY, u.object).map_err(within)?;
                continue;
            }
            if let Some(mesh) = shared.get(&index) {
                self.instance(*mesh, u.world, u.object).map_err(within)?;
                continue;
            }
            if let Some(own) = u.node.weights() {
                let parts = self.parts(&u.mesh, Some(own), None).map_err(within)?;
                self.add_to_world(&parts, u.world, u.object).map_err(within)?;
                continue;
            }
            let parts = match known.remove(&index) {
                Some(parts) => parts,
                None => self.parts(&u.mesh, None, None).map_err(within)?,
            };
            let triangles: usize = parts.iter().map(|p| p.corners.len()).sum();
            if times > 1 && triangles.saturating_mul(times) > MOST_COPIED {
                let mut mesh = Mesh::default();
                for p in &parts {
                    let tangents = self.scene.materials[p.material as usize].needs_tangents();
                    append(&mut mesh, p, Mat4::IDENTITY, u.object, tangents).map_err(within)?;
                }
                check_size(self.scene.triangles_kept() as usize + mesh.triangles.len()).map_err(within)?;
                self.scene.shared.push(mesh);
                shared.insert(index, self.scene.shared.len() as u32 - 1);
                self.instance(self.scene.shared.len() as u32 - 1, u.world, u.object).map_err(within)?;
            } else {
                self.add_to_world(&parts, u.world, u.object).map_err(within)?;
                if times > 1 {
                    known.insert(index, parts);
                }
            }
        }
        Ok(())
    }

    fn parts(
        &mut self,
        mesh: &gltf::Mesh,
        weights: Option<&[f32]>,
        joints: Option<&Joints>,
    ) -> Result<Vec<Part>, Fault> {
        let weights = weights.or(mesh.weights()).unwrap_or(&[]);
        let mut parts = Vec::new();
        for primitive in mesh.primitives() {
            let material = match primitive.material().index() {
                Some(i) => i as u32,
                None => default_material(&mut self.scene, &mut self.default_material),
            };
            parts.extend(attributes::read(&primitive, &self.buffers, weights, joints, material, &mut self.tally)?);
        }
        Ok(parts)
    }

    fn add_to_world(&mut self, parts: &[Part], world: Mat4, object: u32) -> Result<(), Fault> {
        for p in parts {
            let tangents = self.scene.materials[p.material as usize].needs_tangents();
            append(&mut self.scene.world, p, world, object, tangents)?;
        }
        Ok(())
    }

    fn instance(&mut self, mesh: u32, world: Mat4, object: u32) -> Result<(), Fault> {
        let to_world = Affine3A::from_mat4(world);
        if to_world.matrix3.determinant().abs() < 1e-30 || !to_world.inverse().is_finite() {
            // Squashed flat: nothing to see from any side but its edge.
            self.tally.add(Handling::Ignored, "object without extent", "its transform squashes it flat");
            return Ok(());
        }
        if self.scene.instances.is_empty() {
            self.tally.read("shared meshes");
        }
        self.scene.instances.push(Instance { mesh, to_world, object });
        Ok(())
    }

    fn joints(&self, skin: &gltf::Skin, places: &HashMap<usize, Mat4>) -> Result<Joints, Fault> {
        let inverse: Vec<Mat4> = match skin.inverse_bind_matrices() {
            Some(a) => floats::<16>(&a, &self.buffers)?.iter().map(Mat4::from_cols_array).collect(),
            None => Vec::new(),
        };
        let bind = |k: usize| inverse.get(k).copied().unwrap_or(Mat4::IDENTITY);
        let at = |n: gltf::Node| places.get(&n.index()).copied().unwrap_or(Mat4::IDENTITY);
        Ok(skin.joints().enumerate().map(|(k, n)| at(n) * bind(k)).collect())
    }

    fn camera(&mut self, node: &gltf::Node, camera: &gltf::Camera, world: Mat4) {
        let projection = match camera.projection() {
            gltf::camera::Projection::Perspective(p) => Projection::Perspective { vertical: p.yfov().clamp(0.01, 3.1) },
            gltf::camera::Projection::Orthographic(o) => {
                Projection::Orthographic { half_height: o.ymag().abs().max(1e-6) }
            }
        };
        let base = node.name().or(camera.name()).unwrap_or("Camera").to_string();
        let mut name = base.clone();
        let mut k = 2;
        while self.scene.cameras.iter().any(|c| c.name == name) {
            name = format!("{base} {k}");
            k += 1;
        }
        let (_, rotation, position) = world.to_scale_rotation_translation();
        let rotation = if rotation.is_finite() { rotation.normalize() } else { glam::Quat::IDENTITY };
        self.scene.cameras.push(Camera {
            name,
            to_world: Mat4::from_rotation_translation(rotation, position),
            projection,
        });
        self.tally.read("camera");
    }

    fn light(&mut self, node: &gltf::Node, light: &gltf::khr_lights_punctual::Light, world: Mat4) {
        use gltf::khr_lights_punctual::Kind;
        let kind = match light.kind() {
            Kind::Point => LightKind::Point,
            Kind::Directional => LightKind::Directional,
            Kind::Spot { inner_cone_angle, outer_cone_angle } => {
                LightKind::Spot { cos_inner: inner_cone_angle.cos(), cos_outer: outer_cone_angle.cos() }
            }
        };
        let intensity = Vec3::from_array(light.color()).max(Vec3::ZERO) * light.intensity().max(0.0);
        self.scene.lights.push(Light {
            name: node.name().or(light.name()).unwrap_or("light").to_string(),
            kind,
            intensity: if intensity.is_finite() { intensity } else { Vec3::ZERO },
            position: world.transform_point3(Vec3::ZERO),
            direction: world.transform_vector3(Vec3::NEG_Z).normalize_or(Vec3::NEG_Z),
        });
        self.tally.read("punctual light");
        if light.range().is_some() {
            self.tally.add(
                Handling::Ignored,
                "range of a light",
                "light falls off with the square of the distance, without end",
            );
        }
    }
}
