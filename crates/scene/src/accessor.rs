//! Reading glTF accessors with every offset and count checked against the bytes that are really there.

use fault::{Code, Fault};
use gltf::accessor::{DataType, Dimensions};

/// Elements that an accessor without data of its own may have.
const MOST_EMPTY: usize = 10_000_000;

fn damaged(place: String, what: String) -> Fault {
    Fault::new(Code::Damaged, what, place, "export the scene again; the file contradicts itself")
}

/// All components of an accessor as f32, `N` a vertex; normalised integers are brought to 0…1 or −1…1.
pub fn floats<const N: usize>(accessor: &gltf::Accessor, buffers: &[&[u8]]) -> Result<Vec<[f32; N]>, Fault> {
    let place = format!("accessor {}", accessor.index());
    if accessor.dimensions().multiplicity() != N || matches!(accessor.dimensions(), Dimensions::Mat2) {
        return Err(damaged(place, format!("{:?} found where {N} numbers a vertex are needed", accessor.dimensions())));
    }
    let normalised = accessor.normalized();
    let scale = |max: f32| if normalised { 1.0 / max } else { 1.0 };
    let read: fn(&[u8], f32) -> f32 = match accessor.data_type() {
        DataType::F32 => |b, _| f32::from_le_bytes([b[0], b[1], b[2], b[3]]),
        DataType::U8 => |b, s| b[0] as f32 * s,
        DataType::I8 => |b, s| b[0] as i8 as f32 * s,
        DataType::U16 => |b, s| u16::from_le_bytes([b[0], b[1]]) as f32 * s,
        DataType::I16 => |b, s| i16::from_le_bytes([b[0], b[1]]) as f32 * s,
        DataType::U32 => return Err(damaged(place, "32-bit integers where numbers are needed".into())),
    };
    let factor = match accessor.data_type() {
        DataType::U8 => scale(255.0),
        DataType::I8 => scale(127.0),
        DataType::U16 => scale(65535.0),
        DataType::I16 => scale(32767.0),
        _ => 1.0,
    };
    let component = accessor.data_type().size();
    let take = |element: &[u8]| -> [f32; N] { std::array::from_fn(|c| read(&element[c * component..], factor)) };
    let mut out: Vec<[f32; N]> = match accessor.view() {
        Some(view) => {
            let data = bytes_of(&view, buffers)?;
            let all = elements(&place, data, accessor.offset(), view.stride(), component * N, accessor.count())?;
            all.map(take).collect()
        }
        None if accessor.sparse().is_some() && accessor.count() <= MOST_EMPTY => vec![[0.0; N]; accessor.count()],
        None => return Err(damaged(place, "it has no buffer view".into())),
    };
    if let Some(sparse) = accessor.sparse() {
        use gltf::accessor::sparse::IndexType;
        let (at, values, count) = (sparse.indices(), sparse.values(), sparse.count());
        let (size, read): (usize, fn(&[u8]) -> u32) = match at.index_type() {
            IndexType::U8 => (1, |b| b[0] as u32),
            IndexType::U16 => (2, |b| u16::from_le_bytes([b[0], b[1]]) as u32),
            IndexType::U32 => (4, |b| u32::from_le_bytes([b[0], b[1], b[2], b[3]])),
        };
        let places = elements(&place, bytes_of(&at.view(), buffers)?, at.offset(), None, size, count)?;
        let new = elements(&place, bytes_of(&values.view(), buffers)?, values.offset(), None, component * N, count)?;
        for (index, value) in places.map(read).zip(new.map(take)) {
            let slot = out.get_mut(index as usize);
            *slot.ok_or_else(|| damaged(place.clone(), format!("sparse index {index} lies beyond its count")))? = value;
        }
    }
    if let Some(i) = out.iter().position(|v| v.iter().any(|x| !x.is_finite())) {
        return Err(Fault::new(
            Code::NotANumber,
            format!("element {i} is not a finite number"),
            place,
            "repair the mesh in the program that made it and export it again",
        ));
    }
    Ok(out)
}

/// Indices of any allowed width.
pub fn indices(accessor: &gltf::Accessor, buffers: &[&[u8]]) -> Result<Vec<u32>, Fault> {
    let place = format!("accessor {}", accessor.index());
    let size = accessor.data_type().size();
    let read: fn(&[u8]) -> u32 = match (accessor.dimensions(), accessor.data_type()) {
        (Dimensions::Scalar, DataType::U8) => |b| b[0] as u32,
        (Dimensions::Scalar, DataType::U16) => |b| u16::from_le_bytes([b[0], b[1]]) as u32,
        (Dimensions::Scalar, DataType::U32) => |b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]),
        _ => return Err(damaged(place, "indices must be unsigned integers".into())),
    };
    let (Some(view), None) = (accessor.view(), accessor.sparse()) else {
        return Err(damaged(place, "indices must lie in a buffer view".into()));
    };
    let data = bytes_of(&view, buffers)?;
    Ok(elements(&place, data, accessor.offset(), view.stride(), size, accessor.count())?.map(read).collect())
}

/// The bytes of each element, after checking that all of them exist.
fn elements<'a>(
    place: &str,
    data: &'a [u8],
    start: usize,
    stride: Option<usize>,
    size: usize,
    count: usize,
) -> Result<impl Iterator<Item = &'a [u8]>, Fault> {
    let stride = stride.unwrap_or(size);
    let end = count
        .checked_sub(1)
        .and_then(|n| n.checked_mul(stride))
        .and_then(|n| n.checked_add(size))
        .and_then(|n| n.checked_add(start));
    if stride < size || end.is_none_or(|e| e > data.len()) {
        return Err(damaged(
            place.into(),
            format!("{count} elements of {size} bytes do not fit into the {} bytes of its view", data.len()),
        ));
    }
    Ok((0..count).map(move |i| &data[start + i * stride..start + i * stride + size]))
}

/// The bytes of a buffer view.
pub fn bytes_of<'a>(view: &gltf::buffer::View, buffers: &[&'a [u8]]) -> Result<&'a [u8], Fault> {
    let buffer = buffers.get(view.buffer().index()).copied().unwrap_or(&[]);
    view.offset().checked_add(view.length()).and_then(|end| buffer.get(view.offset()..end)).ok_or_else(|| {
        damaged(
            format!("buffer view {}", view.index()),
            format!("it ends beyond the {} bytes of its buffer", buffer.len()),
        )
    })
}
