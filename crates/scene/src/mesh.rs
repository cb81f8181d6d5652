//! Meshes of triangles, and their instances.

use glam::{Affine3A, Mat3, Vec2, Vec3, Vec4};

#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Triangle {
    pub vertices: [u32; 3],
    pub material: u32,
    /// Index of the object's name; instances bring their own.
    pub object: u32,
}

/// Vertices and triangles. Attributes that no part of the mesh has are empty.
#[derive(Debug, Clone, Default)]
pub struct Mesh {
    pub positions: Vec<Vec3>,
    /// One unit normal a vertex.
    pub normals: Vec<Vec3>,
    /// Texture coordinates of the first and second set.
    pub uvs: [Vec<Vec2>; 2],
    /// Linear factors of the base colour and of alpha.
    pub colours: Vec<Vec4>,
    /// xyz = direction of growing u, w = handedness; zero where there are no texture coordinates.
    pub tangents: Vec<Vec4>,
    pub triangles: Vec<Triangle>,
}

/// A shared mesh at a place.
#[derive(Debug, Clone, PartialEq)]
pub struct Instance {
    pub mesh: u32,
    pub to_world: Affine3A,
    pub object: u32,
}

/// An attribute of one triangle's corners, or the value of a mesh that has none.
#[inline]
fn corners_of<T: Copy>(list: &[T], t: &Triangle, none: T) -> [T; 3] {
    if list.is_empty() { [none; 3] } else { t.vertices.map(|v| list[v as usize]) }
}

/// The matrix that carries normals along with a transform: its inverse transposed, up to a positive factor. Made of cofactors,
/// which also a singular transform has.
pub fn turn_normals(m: Mat3) -> Mat3 {
    let cofactors = Mat3::from_cols(m.y_axis.cross(m.z_axis), m.z_axis.cross(m.x_axis), m.x_axis.cross(m.y_axis));
    if m.determinant() < 0.0 { -1.0 * cofactors } else { cofactors }
}

impl Mesh {
    #[inline]
    pub fn corners(&self, t: &Triangle) -> [Vec3; 3] {
        t.vertices.map(|v| self.positions[v as usize])
    }

    #[inline]
    pub fn corner_normals(&self, t: &Triangle) -> [Vec3; 3] {
        t.vertices.map(|v| self.normals[v as usize])
    }

    #[inline]
    pub fn corner_uvs(&self, t: &Triangle, set: usize) -> [Vec2; 3] {
        corners_of(&self.uvs[set], t, Vec2::ZERO)
    }

    /// Texture coordinates at a point of a triangle, by the weights of its second and third corner.
    #[inline]
    pub fn uv_at(&self, t: &Triangle, set: usize, u: f32, v: f32) -> Vec2 {
        let [a, b, c] = self.corner_uvs(t, set);
        a * (1.0 - u - v) + b * u + c * v
    }

    #[inline]
    pub fn corner_colours(&self, t: &Triangle) -> [Vec4; 3] {
        corners_of(&self.colours, t, Vec4::ONE)
    }

    #[inline]
    pub fn corner_tangents(&self, t: &Triangle) -> [Vec4; 3] {
        corners_of(&self.tangents, t, Vec4::ZERO)
    }

    /// Corners of the box around all vertices; inverted when there are none.
    pub fn bounds(&self) -> (Vec3, Vec3) {
        self.positions.iter().fold((Vec3::INFINITY, Vec3::NEG_INFINITY), |b, p| (b.0.min(*p), b.1.max(*p)))
    }

    /// Bytes held.
    pub fn bytes(&self) -> usize {
        self.positions.len() * 24
            + (self.uvs[0].len() + self.uvs[1].len()) * 8
            + (self.colours.len() + self.tangents.len()) * 16
            + self.triangles.len() * size_of::<Triangle>()
    }
}
