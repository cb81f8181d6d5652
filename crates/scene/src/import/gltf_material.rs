//! Materials of glTF files.

use super::gltf::Reader;
use crate::report::Handling;
use crate::*;
use glam::Vec2;
use gltf::material::AlphaMode;
use serde_json::Value;

fn number(v: &Value, key: &str, default: f32) -> f32 {
    v.get(key).and_then(Value::as_f64).map_or(default, |x| x as f32)
}

fn colour(v: &Value, key: &str) -> Vec3 {
    let at = |i: usize| v.get(key).and_then(|a| a.get(i)).and_then(Value::as_f64).unwrap_or(0.0) as f32;
    Vec3::new(at(0), at(1), at(2))
}

impl Reader<'_> {
    fn place(&mut self, texture: usize, set: u32, transform: Option<([f32; 2], f32, [f32; 2])>) -> Option<TexRef> {
        use gltf::texture::WrappingMode;
        let Some(texture) = self.document.textures().nth(texture) else {
            self.tally.add(Handling::Ignored, "texture that is not there", "its factor alone is used");
            return None;
        };
        let wrap = |m: WrappingMode| match m {
            WrappingMode::ClampToEdge => Wrap::Clamp,
            WrappingMode::MirroredRepeat => Wrap::Mirror,
            WrappingMode::Repeat => Wrap::Repeat,
        };
        if set > 1 {
            self.tally.add(Handling::Approximated, "third texture coordinates", "the first set is used instead");
        }
        let sampler = texture.sampler();
        let out = TexRef {
            wrap: [wrap(sampler.wrap_s()), wrap(sampler.wrap_t())],
            set: if set == 1 { 1 } else { 0 },
            ..TexRef::new(texture.source().index() as u32)
        };
        Some(match transform {
            Some((offset, rotation, scale)) => out.placed(Vec2::from_array(offset), rotation, Vec2::from_array(scale)),
            None => out,
        })
    }

    fn info(&mut self, t: Option<gltf::texture::Info>) -> Option<TexRef> {
        let t = t?;
        let transform = t.texture_transform();
        let set = transform.as_ref().and_then(|x| x.tex_coord()).unwrap_or(t.tex_coord());
        self.place(t.texture().index(), set, transform.map(|x| (x.offset(), x.rotation(), x.scale())))
    }

    /// A texture named in the JSON of an extension or beside it: `{index, texCoord, extensions}`.
    fn named(&mut self, v: &Value, key: &str) -> Option<TexRef> {
        let t = v.get(key)?;
        let index = t.get("index").and_then(Value::as_u64)? as usize;
        let whole = |v: &Value| v.get("texCoord").and_then(Value::as_u64).map(|s| s.min(9) as u32);
        let transform = t.get("extensions").and_then(|e| e.get("KHR_texture_transform"));
        let set = transform.and_then(whole).or(whole(t)).unwrap_or(0);
        let pair = |x: &Value, key: &str, d: f32| {
            let at = |i: usize| x.get(key).and_then(|a| a.get(i)).and_then(Value::as_f64).map_or(d, |v| v as f32);
            [at(0), at(1)]
        };
        let transform = transform.map(|x| (pair(x, "offset", 0.0), number(x, "rotation", 0.0), pair(x, "scale", 1.0)));
        self.place(index, set, transform)
    }

    pub fn material(&mut self, m: &gltf::Material) -> Material {
        self.tally.read("material");
        let pbr = m.pbr_metallic_roughness();
        let [r, g, b, alpha] = pbr.base_color_factor();
        // The normal texture's type in the library does not tell its transform: the raw JSON does.
        let raw = m.index().and_then(|i| self.raw["materials"].get(i)).cloned().unwrap_or(Value::Null);
        let mut out = Material {
            name: m.name().unwrap_or("unnamed").to_string(),
            base: Vec3::new(r, g, b),
            base_alpha: alpha,
            base_texture: self.info(pbr.base_color_texture()),
            alpha: match m.alpha_mode() {
                AlphaMode::Opaque => Alpha::Opaque,
                AlphaMode::Mask => Alpha::Mask(m.alpha_cutoff().unwrap_or(0.5)),
                AlphaMode::Blend => Alpha::Blend,
            },
            metallic: pbr.metallic_factor(),
            roughness: pbr.roughness_factor(),
            metallic_roughness_texture: self.info(pbr.metallic_roughness_texture()),
            normal_texture: self.named(&raw, "normalTexture"),
            normal_scale: m.normal_texture().map_or(1.0, |t| t.scale()),
            emission: Vec3::from_array(m.emissive_factor()) * m.emissive_strength().unwrap_or(1.0),
            emissive_texture: self.info(m.emissive_texture()),
            ior: m.ior().unwrap_or(1.5),
            unlit: m.unlit(),
            double_sided: m.double_sided(),
            ..Material::default()
        };
        if m.occlusion_texture().is_some() {
            self.tally.add(Handling::Ignored, "occlusion texture", "the path tracer finds occlusion itself");
        }
        if out.alpha != Alpha::Opaque {
            self.tally.read("alpha mask or blend");
        }
        if let Some(s) = m.specular() {
            out.specular = s.specular_factor();
            out.specular_colour = Vec3::from_array(s.specular_color_factor());
            out.specular_texture = self.info(s.specular_texture());
            out.specular_colour_texture = self.info(s.specular_color_texture());
        }
        if let Some(t) = m.transmission() {
            out.transmission = t.transmission_factor();
            out.transmission_texture = self.info(t.transmission_texture());
        }
        if let Some(v) = m.volume() {
            out.solid = v.thickness_factor() > 0.0;
            out.attenuation_colour = Vec3::from_array(v.attenuation_color());
            out.attenuation_distance = v.attenuation_distance();
            if v.thickness_texture().is_some() {
                self.tally.add(Handling::Ignored, "thickness texture", "the mesh itself tells how thick it is");
            }
        }
        let extension = |name: &str| m.extension_value(name).cloned();
        if let Some(v) = extension("KHR_materials_clearcoat") {
            out.coat = Some(Box::new(Coat {
                strength: number(&v, "clearcoatFactor", 0.0),
                strength_texture: self.named(&v, "clearcoatTexture"),
                roughness: number(&v, "clearcoatRoughnessFactor", 0.0),
                roughness_texture: self.named(&v, "clearcoatRoughnessTexture"),
                normal_texture: self.named(&v, "clearcoatNormalTexture"),
                normal_scale: v.get("clearcoatNormalTexture").map_or(1.0, |t| number(t, "scale", 1.0)),
            }));
        }
        if let Some(v) = extension("KHR_materials_sheen") {
            out.sheen = Some(Box::new(Sheen {
                colour: colour(&v, "sheenColorFactor"),
                colour_texture: self.named(&v, "sheenColorTexture"),
                roughness: number(&v, "sheenRoughnessFactor", 0.0),
                roughness_texture: self.named(&v, "sheenRoughnessTexture"),
            }));
        }
        if let Some(v) = extension("KHR_materials_anisotropy") {
            out.directional = Some(Box::new(Directional {
                strength: number(&v, "anisotropyStrength", 0.0),
                rotation: number(&v, "anisotropyRotation", 0.0),
                texture: self.named(&v, "anisotropyTexture"),
            }));
        }
        let out = out.sane(&mut self.tally);
        let seconds = out.textures().filter(|t| t.set == 1).count();
        (0..seconds).for_each(|_| self.tally.read("second texture coordinates"));
        out
    }
}
