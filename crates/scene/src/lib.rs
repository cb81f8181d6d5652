//! Scenes: geometry, materials, textures, lights, cameras and environment, ready to be traced, and their import with a
//! report of what was read, approximated or ignored.

mod accessor;
mod camera;
mod edits;
mod environment;
mod import;
mod light;
mod material;
mod mesh;
mod report;
mod texture;

pub use camera::{Camera, Projection, up_beside};
pub use edits::{AddedLight, CameraMove, LightEdit, Medium, Shadow, Shape, ShotEdits};
pub use environment::Environment;
pub use import::{MOST_FILE_BYTES, MOST_TRIANGLES, load, read_glb};
pub use light::{Light, LightKind};
pub use material::{Alpha, Coat, Directional, Material, Sheen};
pub use mesh::{Instance, Mesh, Triangle, turn_normals};
pub use report::{Entry, Handling, ImportReport};
pub use texture::{TexRef, Texels, Texture, Wrap};

use glam::Vec3;

/// A scene. Lengths are metres.
#[derive(Debug, Clone, Default)]
pub struct Scene {
    /// BLAKE3 hash of the file with the files it refers to, hexadecimal; empty for scenes made in memory.
    pub hash: String,
    /// Meshes that are used once, all together, in world space.
    pub world: Mesh,
    /// Meshes that are used many times, in their own space.
    pub shared: Vec<Mesh>,
    pub instances: Vec<Instance>,
    pub materials: Vec<Material>,
    pub textures: Vec<Texture>,
    pub lights: Vec<Light>,
    pub cameras: Vec<Camera>,
    /// Names of the nodes that carry geometry.
    pub objects: Vec<String>,
    pub report: ImportReport,
}

impl Scene {
    /// Corners of the axis-parallel box around everything; zero for an empty scene.
    pub fn bounds(&self) -> (Vec3, Vec3) {
        let none = (Vec3::INFINITY, Vec3::NEG_INFINITY);
        let join = |a: (Vec3, Vec3), b: (Vec3, Vec3)| (a.0.min(b.0), a.1.max(b.1));
        let instances = self.instances.iter().map(|i| self.instance_bounds(i)).fold(none, join);
        let all = join(self.world.bounds(), instances);
        if all.0.cmple(all.1).all() { all } else { (Vec3::ZERO, Vec3::ZERO) }
    }

    /// Box around an instance in world space; inverted when its mesh is empty.
    pub fn instance_bounds(&self, i: &Instance) -> (Vec3, Vec3) {
        let (lo, hi) = self.shared[i.mesh as usize].bounds();
        if !lo.cmple(hi).all() {
            return (lo, hi);
        }
        let corner = |k: usize| {
            let pick = |axis: usize| if k >> axis & 1 == 0 { lo[axis] } else { hi[axis] };
            i.to_world.transform_point3(Vec3::new(pick(0), pick(1), pick(2)))
        };
        let first = corner(0);
        let (lo, hi) = (1..8).map(corner).fold((first, first), |b, p| (b.0.min(p), b.1.max(p)));
        // The box must hold what rounding makes of the vertices.
        let room = (hi.abs().max(lo.abs()) + (hi - lo)) * 1e-6;
        (lo - room, hi + room)
    }

    /// Triangles as they are seen: those of shared meshes once for each instance.
    pub fn triangles_seen(&self) -> u64 {
        let shared = self.instances.iter().map(|i| self.shared[i.mesh as usize].triangles.len() as u64);
        self.world.triangles.len() as u64 + shared.sum::<u64>()
    }

    /// Triangles that are kept in memory.
    pub fn triangles_kept(&self) -> u64 {
        self.world.triangles.len() as u64 + self.shared.iter().map(|m| m.triangles.len() as u64).sum::<u64>()
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
}
