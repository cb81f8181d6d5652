//! Puts parts of meshes together: attributes filled up, normals and tangents made where they are missing.

use super::MOST_TRIANGLES;
use crate::{Mesh, Scene, Triangle, turn_normals};
use fault::{Code, Fault};
use glam::{Mat3, Mat4, Vec2, Vec3, Vec4};

/// A run of triangles with one material, as a file gives it.
pub struct Part {
    pub positions: Vec<[f32; 3]>,
    pub normals: Option<Vec<[f32; 3]>>,
    pub uvs: [Option<Vec<[f32; 2]>>; 2],
    pub colours: Option<Vec<[f32; 4]>>,
    pub tangents: Option<Vec<[f32; 4]>>,
    pub corners: Vec<[u32; 3]>,
    pub material: u32,
}

/// Refuses more triangles than are handled.
pub fn check_size(triangles: usize) -> Result<(), Fault> {
    if triangles <= MOST_TRIANGLES {
        return Ok(());
    }
    Err(Fault::new(Code::TooLarge, format!("more than {MOST_TRIANGLES} triangles"), "mesh", "reduce the scene"))
}

/// Appends to an attribute that may have been missing so far, or is missing in this part.
fn extend<T: Clone>(list: &mut Vec<T>, before: usize, new: Option<impl Iterator<Item = T>>, count: usize, none: T) {
    match new {
        Some(values) => {
            if list.is_empty() {
                list.resize(before, none);
            }
            list.extend(values);
        }
        None if !list.is_empty() => list.resize(before + count, none),
        None => {}
    }
}

/// Adds a part to a mesh, through `place`. Missing normals become flat ones, missing tangents follow the texture
/// coordinates. Tangents are only kept if `scene`'s material needs them.
pub fn append(mesh: &mut Mesh, part: &Part, place: Mat4, object: u32, with_tangents: bool) -> Result<(), Fault> {
    check_size(mesh.triangles.len() + part.corners.len())?;
    let linear = Mat3::from_mat4(place);
    let mirrored = linear.determinant() < 0.0;
    let turn = turn_normals(linear);
    let corners: Vec<[u32; 3]> = part.corners.iter().map(|c| if mirrored { [c[0], c[2], c[1]] } else { *c }).collect();
    let flat = part.normals.is_none();
    let base = mesh.positions.len();
    let order: Vec<usize> = if flat {
        corners.iter().flatten().map(|v| *v as usize).collect()
    } else {
        (0..part.positions.len()).collect()
    };
    if (base + order.len()) as u64 > u32::MAX as u64 {
        check_size(usize::MAX)?;
    }
    let n = order.len();
    mesh.positions.extend(order.iter().map(|v| place.transform_point3(Vec3::from_array(part.positions[*v]))));
    let normal = |v: usize| part.normals.as_ref().map_or(Vec3::ZERO, |n| turn * Vec3::from_array(n[v]));
    mesh.normals.extend(order.iter().map(|v| normal(*v).normalize_or_zero()));
    for set in 0..2 {
        let values = part.uvs[set].as_ref().map(|t| order.iter().map(|v| Vec2::from_array(t[*v])));
        extend(&mut mesh.uvs[set], base, values, n, Vec2::ZERO);
    }
    let colours =
        part.colours.as_ref().map(|c| order.iter().map(|v| Vec4::from_array(c[*v]).clamp(Vec4::ZERO, Vec4::ONE)));
    extend(&mut mesh.colours, base, colours, n, Vec4::ONE);
    let given = part.tangents.as_ref().map(|t| {
        order.iter().map(|v| {
            let t = Vec4::from_array(t[*v]);
            // A mirror image turns the hand of the tangent frame over.
            (linear * t.truncate()).normalize_or_zero().extend(if mirrored { -t.w } else { t.w })
        })
    });
    let follow = with_tangents && given.is_none() && part.uvs[0].is_some();
    match given {
        Some(given) if with_tangents => extend(&mut mesh.tangents, base, Some(given), n, Vec4::ZERO),
        _ => extend(&mut mesh.tangents, base, follow.then(|| std::iter::repeat_n(Vec4::ZERO, n)), n, Vec4::ZERO),
    }
    for (i, c) in corners.iter().enumerate() {
        let base = base as u32;
        let vertices = if flat { [0, 1, 2].map(|k| base + 3 * i as u32 + k) } else { c.map(|v| base + v) };
        let triangle = Triangle { vertices, material: part.material, object };
        let [p0, p1, p2] = mesh.corners(&triangle);
        let face = (p1 - p0).cross(p2 - p0).normalize_or(Vec3::Y);
        for v in vertices {
            let n = &mut mesh.normals[v as usize];
            if *n == Vec3::ZERO {
                *n = face;
            }
        }
        if follow {
            follow_uvs(mesh, vertices);
        }
        mesh.triangles.push(triangle);
    }
    Ok(())
}

/// Tangents along growing u, from one triangle's texture coordinates.
fn follow_uvs(mesh: &mut Mesh, vertices: [u32; 3]) {
    let [p0, p1, p2] = vertices.map(|v| mesh.positions[v as usize]);
    let [t0, t1, t2] = vertices.map(|v| mesh.uvs[0][v as usize]);
    let (d1, d2) = (t1 - t0, t2 - t0);
    let area = d1.x * d2.y - d1.y * d2.x;
    let direction = ((p1 - p0) * d2.y - (p2 - p0) * d1.y) * area.signum();
    if area != 0.0 && direction.length_squared() > 0.0 {
        for v in vertices {
            mesh.tangents[v as usize] = direction.normalize().extend(-area.signum());
        }
    }
}

/// Checks that every index points to a vertex.
pub fn check_corners(corners: &[[u32; 3]], vertices: usize) -> Result<(), Fault> {
    match corners.iter().flatten().find(|v| **v as usize >= vertices) {
        Some(v) => Err(Fault::new(
            Code::Damaged,
            format!("index {v} points beyond the {vertices} vertices"),
            "mesh",
            "export the scene again; the file contradicts itself",
        )),
        None => Ok(()),
    }
}

/// The plain material of surfaces that name none.
pub fn default_material(scene: &mut Scene, known: &mut Option<u32>) -> u32 {
    *known.get_or_insert_with(|| {
        let name = "no material".to_string();
        scene.materials.push(crate::Material { name, metallic: 0.0, ..crate::Material::default() });
        scene.materials.len() as u32 - 1
    })
}
