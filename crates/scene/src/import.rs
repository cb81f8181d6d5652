//! Import of binary glTF 2.0 (GLB). Hostile files get a typed error: every offset is checked, the node graph is walked
//! with a limit, sizes are limited before anything is allocated.

use crate::accessor::{bytes_of, floats, indices};
use crate::report::{Handling, Tally};
use crate::*;
use fault::{Code, Fault};
use glam::{Mat3, Mat4};
use gltf::mesh::Mode;
use std::path::Path;

pub const MOST_FILE_BYTES: u64 = 1 << 30;
pub const MOST_TRIANGLES: usize = 50_000_000;
const MOST_NODE_DEPTH: usize = 256;
const MOST_NODE_VISITS: usize = 1_000_000;

/// Reads a GLB file.
pub fn load_glb(path: &Path) -> Result<Scene, Fault> {
    let place = path.display().to_string();
    let io = |e: std::io::Error| Fault::io(place.clone(), &e);
    let length = std::fs::metadata(path).map_err(io)?.len();
    if length > MOST_FILE_BYTES {
        return Err(Fault::new(
            Code::TooLarge,
            format!("the file has {length} bytes"),
            place,
            format!("give a file of at most {MOST_FILE_BYTES} bytes"),
        ));
    }
    read_glb(&std::fs::read(path).map_err(io)?, &place)
}

/// Reads a GLB from memory; `file` is its name for messages.
pub fn read_glb(bytes: &[u8], file: &str) -> Result<Scene, Fault> {
    // The glTF library checks most of a description before it is used; what it trusts and should not ends here.
    std::panic::catch_unwind(|| read(bytes, file)).unwrap_or_else(|p| {
        Err(Fault::new(
            Code::Damaged,
            format!("the description of the scene contradicts itself: {}", fault::panic_text(&*p)),
            file,
            "export the scene again",
        ))
    })
}

fn read(bytes: &[u8], file: &str) -> Result<Scene, Fault> {
    check_container(bytes).map_err(|f| f.within(file))?;
    let parsed = gltf::Gltf::from_slice(bytes).map_err(|e| {
        let unsupported = matches!(&e, gltf::Error::Validation(list)
            if list.iter().any(|(_, e)| matches!(e, gltf::json::validation::Error::Unsupported)));
        Fault::new(
            if unsupported { Code::Unsupported } else { Code::Damaged },
            match &e {
                gltf::Error::Validation(list) => {
                    let first = list.first().map(|(path, e)| format!("{path}: {e}")).unwrap_or_default();
                    format!("the description of the scene is not valid: {first}")
                }
                other => format!("the description of the scene cannot be read: {other}"),
            },
            file,
            "export the scene again as glTF 2.0 binary (.glb), without required extensions that are not ratified",
        )
    })?;
    let blob = parsed.blob.as_deref().unwrap_or(&[]);
    let mut reader = Reader::new(&parsed.document, blob);
    reader.run().map_err(|f| f.within(file))?;
    let mut scene = reader.scene;
    scene.hash = blake3::hash(bytes).to_hex().to_string();
    let (lo, hi) = scene.bounds();
    if scene.cameras.is_empty() {
        scene.cameras.push(Camera::framing(lo, hi));
        reader.tally.add(Handling::Approximated, "camera", "the file has none; one that frames everything was added");
    }
    scene.report = ImportReport {
        triangles: scene.triangles.len() as u32,
        materials: scene.materials.len() as u32,
        textures: scene.textures.len() as u32,
        texture_bytes: scene.textures.iter().map(|t| t.texels.len() as u64 * 4).sum(),
        lights: scene.lights.len() as u32,
        cameras: scene.cameras.iter().map(|c| c.name.clone()).collect(),
        bounds: [lo.to_array(), hi.to_array()],
        entries: reader.tally.entries(),
    };
    Ok(scene)
}

/// The 12-byte header: magic, version 2, and a length that the file really has.
fn check_container(bytes: &[u8]) -> Result<(), Fault> {
    if !bytes.starts_with(b"glTF") {
        return Err(Fault::new(
            Code::WrongType,
            "this is not a binary glTF file",
            "",
            "give a scene exported as .glb (glTF 2.0 binary)",
        ));
    }
    let word = |at: usize| bytes.get(at..at + 4).map(|b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]));
    let cut = |says: u32| {
        Fault::new(
            Code::Damaged,
            format!("the file is cut short: its header says {says} bytes, {} are there", bytes.len()),
            "",
            "copy or export the file again",
        )
    };
    match (word(4), word(8)) {
        (Some(2), Some(length)) if length as usize <= bytes.len() => Ok(()),
        (Some(2), Some(length)) => Err(cut(length)),
        (Some(version), Some(_)) => Err(Fault::new(
            Code::Unsupported,
            format!("glTF version {version} is not read"),
            "",
            "export the scene as glTF 2.0",
        )),
        _ => Err(cut(12)),
    }
}

struct Reader<'a> {
    document: &'a gltf::Document,
    buffers: Vec<&'a [u8]>,
    scene: Scene,
    tally: Tally,
    default_material: Option<u32>,
}

impl<'a> Reader<'a> {
    fn new(document: &'a gltf::Document, blob: &'a [u8]) -> Self {
        Reader {
            document,
            buffers: vec![blob; document.buffers().len().min(1)],
            scene: Scene::default(),
            tally: Tally::default(),
            default_material: None,
        }
    }

    fn run(&mut self) -> Result<(), Fault> {
        for buffer in self.document.buffers() {
            if let gltf::buffer::Source::Uri(uri) = buffer.source() {
                return Err(Fault::new(
                    Code::NotFound,
                    "its data lies in another file, which a .glb cannot bring along",
                    format!("buffer {} ({})", buffer.index(), uri.chars().take(80).collect::<String>()),
                    "export as .glb with everything embedded",
                ));
            }
        }
        self.note_extensions();
        for image in self.document.images() {
            let texture = self.texture(&image)?;
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
        self.walk(roots)?;
        if self.scene.triangles.is_empty() {
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
        const READ: &[&str] = &[
            "KHR_lights_punctual",
            "KHR_materials_emissive_strength",
            "KHR_materials_ior",
            "KHR_materials_specular",
            "KHR_materials_transmission",
            "KHR_materials_volume",
        ];
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

    fn texture(&mut self, image: &gltf::Image) -> Result<Texture, Fault> {
        let place = format!("image {} \"{}\"", image.index(), image.name().unwrap_or(""));
        let bytes = match image.source() {
            gltf::image::Source::View { view, .. } => bytes_of(&view, &self.buffers).map_err(|f| f.within(&place))?,
            gltf::image::Source::Uri { uri, .. } => {
                return Err(Fault::new(
                    Code::NotFound,
                    format!("the texture {} is missing", uri.chars().take(80).collect::<String>()),
                    place,
                    "export as .glb with the textures embedded",
                ));
            }
        };
        let damaged = |e: image::ImageError| {
            Fault::new(
                Code::Damaged,
                format!("the texture cannot be decoded: {e}"),
                place.clone(),
                "save the picture again as PNG or JPEG and export the scene again",
            )
        };
        let open = || image::ImageReader::new(std::io::Cursor::new(bytes)).with_guessed_format();
        let (w, h) = open().map_err(|e| damaged(e.into()))?.into_dimensions().map_err(damaged)?;
        if w as u64 * h as u64 > picture::files::MOST_PIXELS {
            return Err(Fault::new(Code::TooLarge, format!("the texture has {w}×{h} pixels"), place, "reduce it"));
        }
        let decoded = open().map_err(|e| damaged(e.into()))?.decode().map_err(damaged)?;
        if decoded.color().bytes_per_pixel() / decoded.color().channel_count() > 1 {
            self.tally.add(Handling::Approximated, "16-bit texture", "kept with 8 bits a channel");
        }
        self.tally.read("texture");
        let rgba = decoded.into_rgba8();
        Ok(Texture { width: w, height: h, texels: rgba.pixels().map(|p| p.0).collect() })
    }

    fn tex_ref(&mut self, texture: &gltf::Texture, set: u32) -> Option<TexRef> {
        if set != 0 {
            self.tally.add(Handling::Approximated, "second texture coordinates", "the first set is used instead");
        }
        let wrap = |m: gltf::texture::WrappingMode| match m {
            gltf::texture::WrappingMode::ClampToEdge => Wrap::Clamp,
            gltf::texture::WrappingMode::MirroredRepeat => Wrap::Mirror,
            gltf::texture::WrappingMode::Repeat => Wrap::Repeat,
        };
        let sampler = texture.sampler();
        Some(TexRef {
            texture: texture.source().index() as u32,
            wrap: [wrap(sampler.wrap_s()), wrap(sampler.wrap_t())],
        })
    }

    fn material(&mut self, m: &gltf::Material) -> Material {
        self.tally.read("material");
        let pbr = m.pbr_metallic_roughness();
        let info =
            |r: &mut Self, t: Option<gltf::texture::Info>| t.and_then(|t| r.tex_ref(&t.texture(), t.tex_coord()));
        let normal = m.normal_texture();
        let mut out = Material {
            name: m.name().unwrap_or("unnamed").to_string(),
            base: Vec3::from_slice(&pbr.base_color_factor()[..3]),
            base_texture: info(self, pbr.base_color_texture()),
            metallic: pbr.metallic_factor(),
            roughness: pbr.roughness_factor(),
            metallic_roughness_texture: info(self, pbr.metallic_roughness_texture()),
            normal_texture: normal.as_ref().and_then(|t| self.tex_ref(&t.texture(), t.tex_coord())),
            normal_scale: normal.as_ref().map_or(1.0, |t| t.scale()),
            emission: Vec3::from_array(m.emissive_factor()) * m.emissive_strength().unwrap_or(1.0),
            emissive_texture: info(self, m.emissive_texture()),
            ior: m.ior().unwrap_or(1.5),
            double_sided: m.double_sided(),
            ..Material::default()
        };
        if m.occlusion_texture().is_some() {
            self.tally.add(Handling::Ignored, "occlusion texture", "the path tracer finds occlusion itself");
        }
        if m.alpha_mode() != gltf::material::AlphaMode::Opaque {
            self.tally.add(Handling::Approximated, "alpha mask or blend", "drawn opaque");
        }
        if let Some(s) = m.specular() {
            out.specular = s.specular_factor();
            out.specular_colour = Vec3::from_array(s.specular_color_factor());
            if s.specular_texture().is_some() || s.specular_color_texture().is_some() {
                self.tally.add(Handling::Approximated, "specular texture", "its factor alone is used");
            }
        }
        if let Some(t) = m.transmission() {
            out.transmission = t.transmission_factor();
            if t.transmission_texture().is_some() {
                self.tally.add(Handling::Approximated, "transmission texture", "its factor alone is used");
            }
        }
        if let Some(v) = m.volume() {
            out.solid = v.thickness_factor() > 0.0;
            out.attenuation_colour = Vec3::from_array(v.attenuation_color());
            out.attenuation_distance = v.attenuation_distance();
        }
        let numbers = [out.metallic, out.roughness, out.ior, out.specular, out.transmission, out.normal_scale];
        let colours = [out.base, out.emission, out.specular_colour, out.attenuation_colour];
        if numbers.iter().any(|x| !x.is_finite()) || colours.iter().any(|c| !c.is_finite()) {
            self.tally.add(Handling::Approximated, "material with impossible numbers", "drawn as plain grey");
            out = Material { name: out.name, ..Material::matte(Vec3::splat(0.5)) };
        }
        out.base = out.base.clamp(Vec3::ZERO, Vec3::ONE);
        out.emission = out.emission.max(Vec3::ZERO);
        out.ior = if out.ior < 1.0 { 1.5 } else { out.ior };
        out
    }

    /// Depth first without recursion; a node graph with cycles ends at the depth limit with an error.
    fn walk(&mut self, roots: Vec<gltf::Node<'a>>) -> Result<(), Fault> {
        let mut stack: Vec<(gltf::Node, Mat4, usize)> = roots.into_iter().map(|n| (n, Mat4::IDENTITY, 0)).collect();
        stack.reverse();
        let mut visits = 0;
        while let Some((node, parent, depth)) = stack.pop() {
            visits += 1;
            let place = format!("node {} \"{}\"", node.index(), node.name().unwrap_or(""));
            if depth > MOST_NODE_DEPTH || visits > MOST_NODE_VISITS {
                return Err(Fault::new(
                    Code::Damaged,
                    "the nodes are nested without end or too deeply",
                    place,
                    "a node must not be its own ancestor; export the scene again",
                ));
            }
            let world = parent * Mat4::from_cols_array_2d(&node.transform().matrix());
            if !world.is_finite() {
                return Err(Fault::new(
                    Code::NotANumber,
                    "its transform is not finite",
                    place,
                    "reset the transform of this object and export the scene again",
                ));
            }
            self.node(&node, world).map_err(|f| f.within(&place))?;
            let children: Vec<_> = node.children().collect();
            stack.extend(children.into_iter().rev().map(|c| (c, world, depth + 1)));
        }
        Ok(())
    }

    fn node(&mut self, node: &gltf::Node, world: Mat4) -> Result<(), Fault> {
        if let Some(camera) = node.camera() {
            self.camera(node, &camera, world);
        }
        if let Some(light) = node.light() {
            self.light(node, &light, world);
        }
        if node.skin().is_some() {
            self.tally.add(Handling::Ignored, "skin", "the mesh stands in its rest pose");
        }
        if let Some(mesh) = node.mesh() {
            let name = node.name().or(mesh.name()).unwrap_or("unnamed").to_string();
            let object = self.scene.objects.len() as u32;
            self.scene.objects.push(name);
            for primitive in mesh.primitives() {
                self.primitive(&primitive, world, object)?;
            }
            self.tally.read("mesh");
        }
        Ok(())
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
        self.scene.cameras.push(Camera {
            name,
            to_world: Mat4::from_rotation_translation(rotation.normalize(), position),
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
        self.scene.lights.push(Light {
            name: node.name().or(light.name()).unwrap_or("light").to_string(),
            kind,
            intensity: Vec3::from_array(light.color()).max(Vec3::ZERO) * light.intensity().max(0.0),
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

    fn primitive(&mut self, primitive: &gltf::Primitive, world: Mat4, object: u32) -> Result<(), Fault> {
        let mode = primitive.mode();
        if !matches!(mode, Mode::Triangles | Mode::TriangleStrip | Mode::TriangleFan) {
            self.tally.add(Handling::Ignored, "points or lines", "they have no surface");
            return Ok(());
        }
        if primitive.morph_targets().next().is_some() {
            self.tally.add(Handling::Ignored, "morph targets", "the mesh stands in its rest pose");
        }
        let get = |s: gltf::Semantic| primitive.get(&s);
        let Some(position_accessor) = get(gltf::Semantic::Positions) else {
            self.tally.add(Handling::Ignored, "mesh without positions", "");
            return Ok(());
        };
        let positions = floats::<3>(&position_accessor, &self.buffers)?;
        let count = positions.len();
        let normals = match get(gltf::Semantic::Normals) {
            Some(a) => Some(floats::<3>(&a, &self.buffers)?),
            None => None,
        };
        let uvs = match get(gltf::Semantic::TexCoords(0)) {
            Some(a) => Some(floats::<2>(&a, &self.buffers)?),
            None => None,
        };
        let tangents = match get(gltf::Semantic::Tangents) {
            Some(a) => Some(floats::<4>(&a, &self.buffers)?),
            None => None,
        };
        if get(gltf::Semantic::Colors(0)).is_some() {
            self.tally.add(Handling::Ignored, "vertex colours", "the material's base colour is used alone");
        }
        for (name, len) in [
            ("normals", normals.as_ref().map(Vec::len)),
            ("texture coordinates", uvs.as_ref().map(Vec::len)),
            ("tangents", tangents.as_ref().map(Vec::len)),
        ] {
            if len.is_some_and(|l| l != count) {
                return Err(Fault::new(
                    Code::Damaged,
                    format!("{} {name} for {count} positions", len.unwrap_or(0)),
                    "mesh",
                    "export the scene again; the file contradicts itself",
                ));
            }
        }
        let index = match primitive.indices() {
            Some(a) => indices(&a, &self.buffers)?,
            None => (0..count as u32).collect(),
        };
        if let Some(bad) = index.iter().find(|i| **i as usize >= count) {
            return Err(Fault::new(
                Code::Damaged,
                format!("index {bad} points beyond the {count} vertices"),
                "mesh",
                "export the scene again; the file contradicts itself",
            ));
        }
        let mut corners: Vec<[u32; 3]> = match mode {
            Mode::TriangleStrip => index
                .windows(3)
                .enumerate()
                .map(|(i, w)| if i % 2 == 0 { [w[0], w[1], w[2]] } else { [w[1], w[0], w[2]] })
                .collect(),
            Mode::TriangleFan => index.windows(2).skip(1).map(|w| [index[0], w[0], w[1]]).collect(),
            _ => index.chunks_exact(3).map(|c| [c[0], c[1], c[2]]).collect(),
        };
        if self.scene.triangles.len() + corners.len() > MOST_TRIANGLES {
            return Err(Fault::new(
                Code::TooLarge,
                format!("more than {MOST_TRIANGLES} triangles"),
                "mesh",
                "reduce the scene",
            ));
        }
        let linear = Mat3::from_mat4(world);
        if linear.determinant() < 0.0 {
            corners.iter_mut().for_each(|c| c.swap(1, 2));
        }
        let material = match primitive.material().index() {
            Some(i) => i as u32,
            None => *self.default_material.get_or_insert_with(|| {
                self.scene.materials.push(Material { metallic: 0.0, ..Material::default() });
                self.scene.materials.len() as u32 - 1
            }),
        };
        self.append(
            Part {
                positions: &positions,
                normals: normals.as_deref(),
                uvs: uvs.as_deref(),
                tangents: tangents.as_deref(),
                corners,
            },
            world,
            material,
            object,
        );
        Ok(())
    }

    /// Adds triangles in world space; missing normals become flat ones, missing tangents follow the texture coordinates.
    fn append(&mut self, part: Part, world: Mat4, material: u32, object: u32) {
        let linear = Mat3::from_mat4(world);
        // The cofactor matrix carries normals even through a singular transform.
        let cofactor = Mat3::from_cols(
            linear.y_axis.cross(linear.z_axis),
            linear.z_axis.cross(linear.x_axis),
            linear.x_axis.cross(linear.y_axis),
        ) * linear.determinant().signum();
        let flat = part.normals.is_none();
        let base = self.scene.positions.len() as u32;
        let order: Vec<u32> = if flat {
            part.corners.iter().flatten().copied().collect()
        } else {
            (0..part.positions.len() as u32).collect()
        };
        for &v in &order {
            let v = v as usize;
            self.scene.positions.push(world.transform_point3(Vec3::from_array(part.positions[v])));
            let n = part.normals.map_or(Vec3::ZERO, |n| cofactor * Vec3::from_array(n[v]));
            self.scene.normals.push(n.normalize_or_zero());
            self.scene.uvs.push(part.uvs.map_or(Vec2::ZERO, |t| Vec2::from_array(t[v])));
            self.scene.tangents.push(part.tangents.map_or(Vec4::ZERO, |t| {
                let t4 = Vec4::from_array(t[v]);
                (linear * t4.truncate()).normalize_or_zero().extend(t4.w)
            }));
        }
        for (i, c) in part.corners.iter().enumerate() {
            let vertices = if flat { [0, 1, 2].map(|k| base + 3 * i as u32 + k) } else { c.map(|v| base + v) };
            let triangle = Triangle { vertices, material, object };
            let [p0, p1, p2] = self.scene.corner_positions(&triangle);
            let face = (p1 - p0).cross(p2 - p0).normalize_or(Vec3::Y);
            for v in vertices {
                let n = &mut self.scene.normals[v as usize];
                if *n == Vec3::ZERO {
                    *n = face;
                }
            }
            if part.uvs.is_some() && part.tangents.is_none() {
                self.follow_uvs(vertices);
            }
            self.scene.triangles.push(triangle);
        }
    }

    /// Tangents along growing u, from one triangle's texture coordinates.
    fn follow_uvs(&mut self, vertices: [u32; 3]) {
        let s = &mut self.scene;
        let [p0, p1, p2] = vertices.map(|v| s.positions[v as usize]);
        let [t0, t1, t2] = vertices.map(|v| s.uvs[v as usize]);
        let (d1, d2) = (t1 - t0, t2 - t0);
        let area = d1.x * d2.y - d1.y * d2.x;
        let direction = ((p1 - p0) * d2.y - (p2 - p0) * d1.y) * area.signum();
        if area != 0.0 && direction.length_squared() > 0.0 {
            for v in vertices {
                s.tangents[v as usize] = direction.normalize().extend(-area.signum());
            }
        }
    }
}

struct Part<'a> {
    positions: &'a [[f32; 3]],
    normals: Option<&'a [[f32; 3]]>,
    uvs: Option<&'a [[f32; 2]]>,
    tangents: Option<&'a [[f32; 4]]>,
    corners: Vec<[u32; 3]>,
}
