//! Writing binary glTF 2.0.

use crate::mesh::Mesh;
use glam::{Mat4, Vec3};
use serde_json::{Value, json};

/// Collects a scene and writes it as one GLB.
#[derive(Default)]
pub struct Glb {
    binary: Vec<u8>,
    views: Vec<Value>,
    accessors: Vec<Value>,
    meshes: Vec<Value>,
    materials: Vec<Value>,
    images: Vec<Value>,
    textures: Vec<Value>,
    cameras: Vec<Value>,
    nodes: Vec<Value>,
    extensions: std::collections::BTreeSet<&'static str>,
}

/// A material in the making.
pub struct Paint(Value);

impl Paint {
    pub fn new(name: &str, base: Vec3, metallic: f32, roughness: f32) -> Paint {
        Paint(json!({
            "name": name,
            "doubleSided": true,
            "pbrMetallicRoughness": {
                "baseColorFactor": [base.x, base.y, base.z, 1.0],
                "metallicFactor": metallic,
                "roughnessFactor": roughness,
            }
        }))
    }

    pub fn matte(name: &str, base: Vec3) -> Paint {
        let mut p = Paint::new(name, base, 0.0, 1.0);
        p.0["extensions"]["KHR_materials_specular"] = json!({ "specularFactor": 0.0 });
        p
    }

    /// Clear glass; `solid` refracts.
    pub fn glass(name: &str, tint: Vec3, roughness: f32, ior: f32, solid: bool) -> Paint {
        let mut p = Paint::new(name, tint, 0.0, roughness);
        p.0["doubleSided"] = json!(false);
        p.0["extensions"] = json!({
            "KHR_materials_transmission": { "transmissionFactor": 1.0 },
            "KHR_materials_ior": { "ior": ior },
        });
        if solid {
            p.0["extensions"]["KHR_materials_volume"] = json!({ "thicknessFactor": 1.0 });
        }
        p
    }

    /// What is left of white light after `distance` metres of this glass.
    pub fn absorbing(mut self, colour: Vec3, distance: f32) -> Paint {
        let v = &mut self.0["extensions"]["KHR_materials_volume"];
        v["attenuationColor"] = json!(colour.to_array());
        v["attenuationDistance"] = json!(distance);
        self
    }

    pub fn shining(mut self, colour: Vec3, strength: f32) -> Paint {
        self.0["emissiveFactor"] = json!(colour.to_array());
        self.0["extensions"]["KHR_materials_emissive_strength"] = json!({ "emissiveStrength": strength });
        self
    }

    /// A clear coat.
    pub fn coated(mut self, roughness: f32) -> Paint {
        self.0["extensions"]["KHR_materials_clearcoat"] =
            json!({ "clearcoatFactor": 1.0, "clearcoatRoughnessFactor": roughness });
        self
    }

    /// Upright fibres that scatter light back.
    pub fn fuzzy(mut self, colour: Vec3, roughness: f32) -> Paint {
        self.0["extensions"]["KHR_materials_sheen"] =
            json!({ "sheenColorFactor": colour.to_array(), "sheenRoughnessFactor": roughness });
        self
    }

    /// Marks of the lathe or brush along a direction, in radians from growing u.
    pub fn brushed(mut self, strength: f32, rotation: f32) -> Paint {
        self.0["extensions"]["KHR_materials_anisotropy"] =
            json!({ "anisotropyStrength": strength, "anisotropyRotation": rotation });
        self
    }

    pub fn textured(mut self, texture: usize) -> Paint {
        self.0["pbrMetallicRoughness"]["baseColorTexture"] = json!({ "index": texture });
        self
    }

    pub fn bumped(mut self, texture: usize, scale: f32) -> Paint {
        self.0["normalTexture"] = json!({ "index": texture, "scale": scale });
        self
    }
}

impl Glb {
    fn view(&mut self, bytes: &[u8]) -> usize {
        while !self.binary.len().is_multiple_of(4) {
            self.binary.push(0);
        }
        self.views.push(json!({ "buffer": 0, "byteOffset": self.binary.len(), "byteLength": bytes.len() }));
        self.binary.extend_from_slice(bytes);
        self.views.len() - 1
    }

    fn floats(&mut self, values: &[f32], kind: &str, width: usize, bounds: Option<(Vec3, Vec3)>) -> usize {
        let bytes: Vec<u8> = values.iter().flat_map(|f| f.to_le_bytes()).collect();
        let view = self.view(&bytes);
        let mut a = json!({ "bufferView": view, "componentType": 5126, "count": values.len() / width, "type": kind });
        if let Some((lo, hi)) = bounds {
            a["min"] = json!(lo.to_array());
            a["max"] = json!(hi.to_array());
        }
        self.accessors.push(a);
        self.accessors.len() - 1
    }

    /// A PNG as a texture that repeats.
    pub fn texture(&mut self, png: &[u8]) -> usize {
        let view = self.view(png);
        self.images.push(json!({ "bufferView": view, "mimeType": "image/png" }));
        self.textures.push(json!({ "source": self.images.len() - 1 }));
        self.textures.len() - 1
    }

    pub fn material(&mut self, p: Paint) -> usize {
        if let Some(used) = p.0["extensions"].as_object() {
            for name in [
                "KHR_materials_specular",
                "KHR_materials_transmission",
                "KHR_materials_ior",
                "KHR_materials_volume",
                "KHR_materials_emissive_strength",
                "KHR_materials_clearcoat",
                "KHR_materials_sheen",
                "KHR_materials_anisotropy",
            ] {
                if used.contains_key(name) {
                    self.extensions.insert(name);
                }
            }
        }
        self.materials.push(p.0);
        self.materials.len() - 1
    }

    pub fn mesh(&mut self, m: &Mesh, material: usize) -> usize {
        let flat = |v: &[Vec3]| v.iter().flat_map(|p| p.to_array()).collect::<Vec<f32>>();
        let bounds = m.positions.iter().fold((Vec3::MAX, Vec3::MIN), |b, p| (b.0.min(*p), b.1.max(*p)));
        let positions = self.floats(&flat(&m.positions), "VEC3", 3, Some(bounds));
        let normals = self.floats(&flat(&m.normals), "VEC3", 3, None);
        let uvs = self.floats(&m.uvs.iter().flat_map(|t| t.to_array()).collect::<Vec<f32>>(), "VEC2", 2, None);
        let bytes: Vec<u8> = m.indices.iter().flat_map(|i| i.to_le_bytes()).collect();
        let view = self.view(&bytes);
        self.accessors
            .push(json!({ "bufferView": view, "componentType": 5125, "count": m.indices.len(), "type": "SCALAR" }));
        self.meshes.push(json!({ "primitives": [{
            "attributes": { "POSITION": positions, "NORMAL": normals, "TEXCOORD_0": uvs },
            "indices": self.accessors.len() - 1,
            "material": material,
        }]}));
        self.meshes.len() - 1
    }

    pub fn node(&mut self, name: &str, mesh: usize, at: Mat4) {
        self.nodes.push(json!({ "name": name, "mesh": mesh, "matrix": at.to_cols_array() }));
    }

    /// Mesh and node in one.
    pub fn object(&mut self, name: &str, m: &Mesh, material: usize, at: Mat4) {
        let mesh = self.mesh(m, material);
        self.node(name, mesh, at);
    }

    pub fn camera(&mut self, name: &str, from: Vec3, to: Vec3, vertical_degrees: f32) {
        self.cameras.push(
            json!({ "type": "perspective", "perspective": { "yfov": vertical_degrees.to_radians(), "znear": 0.01 } }),
        );
        let matrix = Mat4::look_at_rh(from, to, Vec3::Y).inverse();
        self.nodes.push(json!({ "name": name, "camera": self.cameras.len() - 1, "matrix": matrix.to_cols_array() }));
    }

    pub fn finish(mut self) -> Vec<u8> {
        while !self.binary.len().is_multiple_of(4) {
            self.binary.push(0);
        }
        let used: Vec<&str> = self.extensions.into_iter().collect();
        let mut document = json!({
            "asset": { "version": "2.0", "generator": "Tarnfell generator" },
            "scene": 0,
            "scenes": [{ "nodes": (0..self.nodes.len()).collect::<Vec<_>>() }],
            "nodes": self.nodes,
            "meshes": self.meshes,
            "materials": self.materials,
            "cameras": self.cameras,
            "accessors": self.accessors,
            "bufferViews": self.views,
            "buffers": [{ "byteLength": self.binary.len() }],
            "extensionsUsed": used,
        });
        if !self.images.is_empty() {
            document["images"] = json!(self.images);
            document["textures"] = json!(self.textures);
        }
        let mut text = serde_json::to_vec(&document).unwrap_or_default();
        while !text.len().is_multiple_of(4) {
            text.push(b' ');
        }
        let total = 12 + 8 + text.len() + 8 + self.binary.len();
        let mut out = Vec::with_capacity(total);
        let word = |out: &mut Vec<u8>, n: usize| out.extend((n as u32).to_le_bytes());
        out.extend(b"glTF");
        word(&mut out, 2);
        word(&mut out, total);
        word(&mut out, text.len());
        out.extend(b"JSON");
        out.extend(&text);
        word(&mut out, self.binary.len());
        out.extend(b"BIN\0");
        out.extend(&self.binary);
        out
    }
}
