//! The vertices of a glTF primitive, with skins and morph targets in their rest pose.

use super::builder::{Part, check_corners, check_size};
use crate::accessor::{floats, indices};
use crate::report::{Handling, Tally};
use crate::turn_normals;
use fault::{Code, Fault};
use glam::{Mat3, Mat4, Vec3};
use gltf::Semantic;
use gltf::mesh::Mode;

/// The joints' transforms of a skin, times their inverse bind matrices.
pub type Joints = Vec<Mat4>;

/// Reads a primitive; none if it has no surface. `weights` are those of the morph targets.
pub fn read(
    primitive: &gltf::Primitive,
    buffers: &[&[u8]],
    weights: &[f32],
    joints: Option<&Joints>,
    material: u32,
    tally: &mut Tally,
) -> Result<Option<Part>, Fault> {
    let mode = primitive.mode();
    if !matches!(mode, Mode::Triangles | Mode::TriangleStrip | Mode::TriangleFan) {
        tally.add(Handling::Ignored, "points or lines", "they have no surface");
        return Ok(None);
    }
    let get = |s: Semantic| primitive.get(&s);
    let Some(accessor) = get(Semantic::Positions) else {
        tally.add(Handling::Ignored, "mesh without positions", "");
        return Ok(None);
    };
    check_size(accessor.count() / 3)?;
    let positions = floats::<3>(&accessor, buffers)?;
    let count = positions.len();
    let mut part = Part {
        positions,
        normals: get(Semantic::Normals).map(|a| floats::<3>(&a, buffers)).transpose()?,
        uvs: [
            get(Semantic::TexCoords(0)).map(|a| floats::<2>(&a, buffers)).transpose()?,
            get(Semantic::TexCoords(1)).map(|a| floats::<2>(&a, buffers)).transpose()?,
        ],
        colours: get(Semantic::Colors(0)).map(|a| colours(&a, buffers)).transpose()?,
        tangents: get(Semantic::Tangents).map(|a| floats::<4>(&a, buffers)).transpose()?,
        corners: Vec::new(),
        material,
    };
    if part.colours.is_some() {
        tally.read("vertex colours");
    }
    for (name, len) in [
        ("normals", part.normals.as_ref().map(Vec::len)),
        ("texture coordinates", part.uvs[0].as_ref().map(Vec::len)),
        ("second texture coordinates", part.uvs[1].as_ref().map(Vec::len)),
        ("colours", part.colours.as_ref().map(Vec::len)),
        ("tangents", part.tangents.as_ref().map(Vec::len)),
    ] {
        if len.is_some_and(|l| l != count) {
            return Err(contradiction(format!("{} {name} for {count} positions", len.unwrap_or(0))));
        }
    }
    let index = match primitive.indices() {
        Some(a) => indices(&a, buffers)?,
        None => (0..count as u32).collect(),
    };
    part.corners = match mode {
        Mode::TriangleStrip => index
            .windows(3)
            .enumerate()
            .map(|(i, w)| if i % 2 == 0 { [w[0], w[1], w[2]] } else { [w[1], w[0], w[2]] })
            .collect(),
        Mode::TriangleFan => index.windows(2).skip(1).map(|w| [index[0], w[0], w[1]]).collect(),
        _ => index.chunks_exact(3).map(|c| [c[0], c[1], c[2]]).collect(),
    };
    check_corners(&part.corners, count)?;
    morph(&mut part, primitive, buffers, weights, tally)?;
    if let Some(joints) = joints {
        skin(&mut part, primitive, buffers, joints)?;
        tally.add(Handling::Read, "skin", "the mesh stands in its rest pose");
    }
    Ok(Some(part))
}

fn contradiction(what: String) -> Fault {
    Fault::new(Code::Damaged, what, "mesh", "export the scene again; the file contradicts itself")
}

/// Colours with or without alpha.
fn colours(a: &gltf::Accessor, buffers: &[&[u8]]) -> Result<Vec<[f32; 4]>, Fault> {
    if a.dimensions().multiplicity() == 3 {
        return Ok(floats::<3>(a, buffers)?.into_iter().map(|[r, g, b]| [r, g, b, 1.0]).collect());
    }
    floats::<4>(a, buffers)
}

/// Adds the morph targets with the file's own weights.
fn morph(
    part: &mut Part,
    primitive: &gltf::Primitive,
    buffers: &[&[u8]],
    weights: &[f32],
    tally: &mut Tally,
) -> Result<(), Fault> {
    for (k, target) in primitive.morph_targets().enumerate() {
        tally.add(Handling::Read, "morph targets", "the mesh stands in its rest pose");
        let weight = weights.get(k).copied().unwrap_or(0.0);
        if weight == 0.0 {
            continue;
        }
        for (list, accessor) in
            [(Some(&mut part.positions), target.positions()), (part.normals.as_mut(), target.normals())]
        {
            if let (Some(list), Some(accessor)) = (list, accessor) {
                let moved = floats::<3>(&accessor, buffers)?;
                if moved.len() != list.len() {
                    return Err(contradiction("a morph target of another size than its mesh".into()));
                }
                for (p, d) in list.iter_mut().zip(moved) {
                    *p = (Vec3::from_array(*p) + weight * Vec3::from_array(d)).to_array();
                }
            }
        }
    }
    Ok(())
}

/// Moves vertices by the joints of a skin.
fn skin(part: &mut Part, primitive: &gltf::Primitive, buffers: &[&[u8]], joints: &Joints) -> Result<(), Fault> {
    let get = |s: Semantic| primitive.get(&s);
    let (Some(j), Some(w)) = (get(Semantic::Joints(0)), get(Semantic::Weights(0))) else { return Ok(()) };
    let (numbers, weights) = (floats::<4>(&j, buffers)?, floats::<4>(&w, buffers)?);
    if numbers.len() != part.positions.len() || weights.len() != part.positions.len() {
        return Err(contradiction("a skin of another size than its mesh".into()));
    }
    let mut mirrored = vec![false; numbers.len()];
    for v in 0..numbers.len() {
        let mut all = Mat4::ZERO;
        for k in 0..4 {
            let joint = joints.get(numbers[v][k] as usize).copied();
            if weights[v][k] != 0.0 {
                all += joint.ok_or_else(|| contradiction("a vertex hangs on a joint that is not there".into()))?
                    * weights[v][k];
            }
        }
        if all == Mat4::ZERO {
            continue;
        }
        part.positions[v] = all.transform_point3(Vec3::from_array(part.positions[v])).to_array();
        let linear = Mat3::from_mat4(all);
        mirrored[v] = linear.determinant() < 0.0;
        if let Some(n) = &mut part.normals {
            n[v] = (turn_normals(linear) * Vec3::from_array(n[v])).normalize_or_zero().to_array();
        }
        if let Some(t) = &mut part.tangents {
            let [x, y, z, w] = t[v];
            t[v] = (linear * Vec3::new(x, y, z)).extend(if mirrored[v] { -w } else { w }).to_array();
        }
    }
    // What joints mirror as a whole keeps its outside outside.
    for c in part.corners.iter_mut().filter(|c| c.iter().all(|v| mirrored[*v as usize])) {
        c.swap(1, 2);
    }
    if part.positions.iter().flatten().any(|x| !x.is_finite()) {
        return Err(contradiction("a skin moves vertices to infinity".into()));
    }
    Ok(())
}
