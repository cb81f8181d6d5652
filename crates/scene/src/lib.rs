//! Scenes: geometry, materials, textures, lights, cameras and environment in world space, ready to be traced,
//! and their import with a report of what was read, approximated or ignored.

mod accessor;
mod camera;
mod environment;
mod import;
mod light;
mod material;
mod report;
mod texture;

pub use camera::{Camera, Projection};
pub use environment::Environment;
pub use import::{MOST_FILE_BYTES, MOST_TRIANGLES, load_glb, read_glb};
pub use light::{Light, LightKind};
pub use material::Material;
pub use report::{Entry, Handling, ImportReport};
pub use texture::{TexRef, Texture, Wrap};

use glam::{Vec2, Vec3, Vec4};

/// A scene flattened to world space. Lengths are metres.
#[derive(Debug, Clone, Default)]
pub struct Scene {
    /// BLAKE3 hash of the file, hexadecimal; empty for scenes made in memory.
    pub hash: String,
    pub positions: Vec<Vec3>,
    /// One unit normal a vertex.
    pub normals: Vec<Vec3>,
    pub uvs: Vec<Vec2>,
    /// xyz = direction of growing u, w = handedness; zero where the mesh has no texture coordinates.
    pub tangents: Vec<Vec4>,
    pub triangles: Vec<Triangle>,
    pub materials: Vec<Material>,
    pub textures: Vec<Texture>,
    pub lights: Vec<Light>,
    pub cameras: Vec<Camera>,
    /// Names of the nodes that carry geometry.
    pub objects: Vec<String>,
    pub report: ImportReport,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Triangle {
    pub vertices: [u32; 3],
    pub material: u32,
    pub object: u32,
}

impl Scene {
    /// Corners of the axis-parallel box around everything; zero for an empty scene.
    pub fn bounds(&self) -> (Vec3, Vec3) {
        if self.positions.is_empty() {
            return (Vec3::ZERO, Vec3::ZERO);
        }
        self.positions.iter().fold((Vec3::MAX, Vec3::MIN), |(lo, hi), p| (lo.min(*p), hi.max(*p)))
    }

    /// The camera of this name, or the first without a name.
    pub fn camera(&self, name: Option<&str>) -> Result<&Camera, fault::Fault> {
        let found = match name {
            Some(n) => self.cameras.iter().find(|c| c.name == n),
            None => self.cameras.first(),
        };
        found.ok_or_else(|| {
            let names: Vec<&str> = self.cameras.iter().map(|c| c.name.as_str()).collect();
            fault::Fault::new(
                fault::Code::NotFound,
                format!("there is no camera \"{}\"", name.unwrap_or("")),
                "camera",
                format!("choose one of: {}", names.join(", ")),
            )
        })
    }

    pub fn corner_positions(&self, t: &Triangle) -> [Vec3; 3] {
        t.vertices.map(|v| self.positions[v as usize])
    }
}
