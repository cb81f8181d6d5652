//! Wavefront OBJ with MTL. Materials are mapped to metallic-roughness: `Kd` is the base colour, `Ks` and `Ns` become the
//! strength and roughness of a clear layer (α² = 2/(Ns+2), the width at which a Phong lobe and a microfacet lobe agree,
//! Walter et al. 2007), `Ke` shines, `d` with a refracting illumination model (4, 6, 7, 9) is glass of index `Ni` and
//! otherwise alpha; `Pr` and `Pm` are taken as they are. One unit is a metre.

use super::builder::{Part, append, check_corners, check_size, default_material};
use super::{Beside, pictures};
use crate::report::{Handling, Tally};
use crate::*;
use fault::{Code, Fault};
use glam::Mat4;
use std::collections::HashMap;

pub fn read(bytes: &[u8], file: &str, beside: &mut Beside) -> Result<Scene, Fault> {
    let damaged = |what: String| Fault::new(Code::Damaged, what, file, "export the scene again as OBJ, or as GLB");
    let mut tally = Tally::default();
    // Libraries are fetched while the file is read; the first trouble with one is kept.
    let trouble = std::cell::RefCell::new(None);
    let files = std::cell::RefCell::new(beside);
    let options = tobj::LoadOptions { triangulate: true, single_index: true, ..Default::default() };
    // Names may be in any encoding; numbers and keywords are ASCII.
    let text = String::from_utf8_lossy(bytes);
    let (models, materials) = tobj::load_obj_buf(&mut std::io::Cursor::new(text.as_bytes()), &options, |path| {
        let name = path.to_string_lossy();
        match files.borrow_mut().get(&name) {
            Ok(text) => tobj::load_mtl_buf(&mut std::io::Cursor::new(String::from_utf8_lossy(&text).as_bytes())),
            Err(f) => {
                trouble.borrow_mut().get_or_insert(f);
                Err(tobj::LoadError::OpenFileFailed)
            }
        }
    })
    .map_err(|e| damaged(format!("the scene cannot be read: {e}")))?;
    if let Some(f) = trouble.into_inner() {
        tally.add(Handling::Ignored, "material library", &f.to_string());
    }
    let beside = files.into_inner();
    let mut scene = Scene::default();
    let mut reader = Materials { scene: &mut scene, tally: &mut tally, beside, textures: HashMap::new(), held: 0 };
    for m in materials.unwrap_or_default() {
        reader.add(&m)?;
    }
    let own = scene.materials.len();
    let mut plain = None;
    let mut total = 0;
    for model in models {
        let m = model.mesh;
        total += m.indices.len() / 3;
        check_size(total).map_err(|f| f.within(file))?;
        let triples = |v: &[f32]| v.chunks_exact(3).map(|c| [c[0], c[1], c[2]]).collect::<Vec<_>>();
        let positions = triples(&m.positions);
        let count = positions.len();
        if let Some(i) = positions.iter().position(|p| p.iter().any(|x| !x.is_finite())) {
            let remedy = "repair the mesh in the program that made it and export it again";
            let place = format!("{file}, \"{}\"", model.name);
            return Err(Fault::new(Code::NotANumber, format!("vertex {i} is not a finite number"), place, remedy));
        }
        let corners: Vec<[u32; 3]> = m.indices.chunks_exact(3).map(|c| [c[0], c[1], c[2]]).collect();
        if corners.is_empty() {
            tally.add(Handling::Ignored, "points or lines", "they have no surface");
            continue;
        }
        check_corners(&corners, count).map_err(|f| f.within(file))?;
        let finite = |v: &[f32], width: usize| v.len() == width * count && v.iter().all(|x| x.is_finite());
        let colours = finite(&m.vertex_color, 3);
        let part = Part {
            normals: finite(&m.normals, 3).then(|| triples(&m.normals)),
            uvs: [
                finite(&m.texcoords, 2).then(|| m.texcoords.chunks_exact(2).map(|t| [t[0], 1.0 - t[1]]).collect()),
                None,
            ],
            colours: colours.then(|| m.vertex_color.chunks_exact(3).map(|c| [c[0], c[1], c[2], 1.0]).collect()),
            tangents: None,
            corners,
            material: match m.material_id.filter(|i| *i < own) {
                Some(i) => i as u32,
                None => default_material(&mut scene, &mut plain),
            },
            positions,
        };
        let object = scene.objects.len() as u32;
        scene.objects.push(model.name);
        let tangents = scene.materials[part.material as usize].needs_tangents();
        append(&mut scene.world, &part, Mat4::IDENTITY, object, tangents).map_err(|f| f.within(file))?;
        tally.read("mesh");
    }
    if scene.world.triangles.is_empty() {
        return Err(Fault::new(Code::NotFound, "the scene holds no triangles", file, "export at least one mesh"));
    }
    tally.add(Handling::Approximated, "units", "OBJ has none; one unit is taken as a metre");
    crate::report::finish(&mut scene, tally);
    Ok(scene)
}

struct Materials<'a> {
    scene: &'a mut Scene,
    tally: &'a mut Tally,
    beside: &'a mut Beside,
    textures: HashMap<String, Option<u32>>,
    held: u64,
}

impl Materials<'_> {
    /// A picture by its address, which may follow options; one that is missing is reported and left out.
    fn texture(&mut self, address: &Option<String>) -> Result<Option<TexRef>, Fault> {
        let Some(address) = address.as_deref().and_then(|a| a.split_whitespace().last()) else { return Ok(None) };
        if let Some(known) = self.textures.get(address) {
            return Ok(known.map(TexRef::new));
        }
        let index = match self.beside.get(address) {
            Ok(bytes) => {
                self.scene.textures.push(pictures::decode(&bytes, address, &mut self.held, self.tally)?);
                Some(self.scene.textures.len() as u32 - 1)
            }
            Err(f) => {
                self.tally.add(Handling::Ignored, "texture", &f.to_string());
                None
            }
        };
        self.textures.insert(address.into(), index);
        Ok(index.map(TexRef::new))
    }

    fn add(&mut self, m: &tobj::Material) -> Result<(), Fault> {
        let number = |key: &str| m.unknown_param.get(key).and_then(|t| t.trim().parse::<f32>().ok());
        let shine = m.unknown_param.get("Ke").map(|t| {
            let v: Vec<f32> = t.split_whitespace().filter_map(|x| x.parse().ok()).collect();
            if v.len() == 3 { Vec3::from_slice(&v) } else { Vec3::ZERO }
        });
        let opaque = m.dissolve.unwrap_or(1.0).clamp(0.0, 1.0);
        let glass = opaque < 1.0 && matches!(m.illumination_model, Some(4 | 6 | 7 | 9));
        let shininess = m.shininess.unwrap_or(0.0).max(0.0);
        let out = Material {
            name: m.name.clone(),
            base: if glass { Vec3::ONE } else { Vec3::from_array(m.diffuse.unwrap_or([0.8; 3])) },
            base_alpha: if glass { 1.0 } else { opaque },
            base_texture: self.texture(&m.diffuse_texture)?,
            alpha: if opaque < 1.0 && !glass { Alpha::Blend } else { Alpha::Opaque },
            metallic: number("Pm").unwrap_or(0.0).clamp(0.0, 1.0),
            roughness: number("Pr")
                .unwrap_or(if glass { 0.0 } else { (2.0 / (shininess + 2.0)).powf(0.25) })
                .clamp(0.0, 1.0),
            normal_texture: self.texture(&m.unknown_param.get("norm").cloned())?,
            emission: shine.unwrap_or(Vec3::ZERO),
            ior: m.optical_density.filter(|n| *n >= 1.0).unwrap_or(1.5),
            specular: if glass { 1.0 } else { Vec3::from_array(m.specular.unwrap_or([0.0; 3])).max_element() },
            transmission: if glass { 1.0 - opaque } else { 0.0 },
            solid: glass,
            double_sided: true,
            ..Material::default()
        };
        if m.normal_texture.is_some() {
            self.tally.add(Handling::Ignored, "bump map", "heights are not read; give a normal map with \"norm\"");
        }
        if m.ambient_texture.is_some() || m.specular_texture.is_some() || m.dissolve_texture.is_some() {
            self.tally.add(Handling::Ignored, "map_Ka, map_Ks or map_d", "its factor alone is used");
        }
        self.tally.read("material");
        let material = out.sane(self.tally);
        self.scene.materials.push(material);
        Ok(())
    }
}
