//! OpenEXR files of one part with named channels (`R`, `albedo.R`, `samples.Y` …), which every reader opens.

use crate::Region;
use exr::block::BlockIndex;
use exr::block::chunk::{Chunk, CompressedBlock, CompressedScanLineBlock};
use exr::block::writer::ChunksWriter;
use exr::image::write::layers::{LayersWriter, WritableLayers};
use exr::prelude::*;
use fault::{Code, Fault};
use flate2::write::ZlibEncoder;
use rayon::prelude::*;
use std::io::{Cursor, Seek, Write as IoWrite};

/// The values of a channel, one a pixel.
#[derive(Debug, Clone, PartialEq)]
pub enum Samples {
    Float(Vec<f32>),
    Whole(Vec<u32>),
}

#[derive(Debug, Clone, PartialEq)]
pub struct Channel {
    pub name: String,
    pub samples: Samples,
}

impl Channel {
    pub fn float(name: &str, samples: Vec<f32>) -> Self {
        Channel { name: name.into(), samples: Samples::Float(samples) }
    }

    pub fn whole(name: &str, samples: Vec<u32>) -> Self {
        Channel { name: name.into(), samples: Samples::Whole(samples) }
    }

    /// Three channels `layer.R`, `layer.G`, `layer.B`, or `R`, `G`, `B` for an empty layer name.
    pub fn rgb(layer: &str, pixels: &[crate::Rgb]) -> [Self; 3] {
        [("R", 0), ("G", 1), ("B", 2)].map(|(c, k)| {
            let name = if layer.is_empty() { c.to_string() } else { format!("{layer}.{c}") };
            Channel::float(&name, pixels.iter().map(|p| p[k]).collect())
        })
    }
}

/// How a file is packed; all are lossless.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Packing {
    #[default]
    Zip,
    Rle,
    Piz,
    /// Larger and much faster.
    None,
}

/// How a file is written beyond its channels.
#[derive(Debug, Clone, Default)]
pub struct Form {
    pub comment: String,
    pub packing: Packing,
    /// Light and colours as 16-bit floats; measures and ids keep 32 bits.
    pub half: bool,
    /// Further text attributes by name.
    pub attributes: Vec<(String, String)>,
    /// How densely the picture is meant to be printed.
    pub dpi: Option<f64>,
}

/// Red, green, blue and white of our light: those of ITU-R BT.709-6, table 1, as everywhere in linear sRGB.
const PRIMARIES: attribute::Chromaticities = attribute::Chromaticities {
    red: Vec2(0.64, 0.33),
    green: Vec2(0.30, 0.60),
    blue: Vec2(0.15, 0.06),
    white: Vec2(0.3127, 0.3290),
};

/// How hard zipped files are packed: the next level takes 1.6 times as long for files smaller by 8 %.
const LEVEL: u32 = 1;

/// The largest number that a 16-bit float holds.
pub const HALF_MOST: f32 = 65504.0;

/// Channels that 16-bit floats would spoil: ids, places, distances and counts.
fn needs_all_bits(name: &str) -> bool {
    let layer = name.rsplit_once('.').map_or("", |(layer, _)| layer);
    layer.starts_with("Crypto")
        || name.ends_with(".id")
        || matches!(layer, "depth" | "first_depth" | "position" | "samples")
}

/// Writes channels; data window = `region`, display window = the full frame. Values beyond the range of 16-bit floats end at
/// its limit.
pub fn write_exr(
    out: &mut (impl IoWrite + Seek),
    frame: (u32, u32),
    region: Region,
    channels: Vec<Channel>,
    form: Form,
) -> std::result::Result<(), Fault> {
    let list: SmallVec<[AnyChannel<FlatSamples>; 4]> = channels
        .into_iter()
        .map(|c| {
            let data = match c.samples {
                Samples::Float(v) if form.half && !needs_all_bits(&c.name) => {
                    FlatSamples::F16(v.into_iter().map(to_half).collect())
                }
                Samples::Float(v) => FlatSamples::F32(v),
                Samples::Whole(v) => FlatSamples::U32(v),
            };
            AnyChannel::new(c.name.as_str(), data)
        })
        .collect();
    let text = |(name, value): (String, String)| {
        Some((Text::new_or_none(&name)?, AttributeValue::Text(Text::new_or_none(&value)?)))
    };
    let attributes = LayerAttributes {
        other: form.attributes.into_iter().filter_map(text).collect(),
        layer_position: Vec2(region.x as i32, region.y as i32),
        software_name: Some(Text::from("Mellow Grain")),
        comments: Text::new_or_none(&form.comment),
        horizontal_density: form.dpi.map(|dpi| dpi as f32),
        ..LayerAttributes::default()
    };
    let compression = match form.packing {
        Packing::Zip => Compression::ZIP16,
        Packing::Rle => Compression::RLE,
        Packing::Piz => Compression::PIZ,
        Packing::None => Compression::Uncompressed,
    };
    let encoding = Encoding { compression, blocks: Blocks::ScanLines, line_order: LineOrder::Increasing };
    let size = (region.width as usize, region.height as usize);
    let layer = Layer::new(size, attributes, encoding, AnyChannels::sort(list));
    let display = IntegerBounds::new((0, 0), (frame.0 as usize, frame.1 as usize));
    let mut image = Image::from_layer(layer);
    image.attributes.display_window = display;
    image.attributes.chromaticities = Some(PRIMARIES);
    let mut ordered = Ordered { out, head: Some(Vec::new()) };
    let written = match form.packing {
        Packing::Zip => write_zipped(&image, &mut ordered),
        _ => image.write().to_buffered(&mut ordered),
    };
    written.map_err(|e| match e {
        Error::Io(e) => Fault::io("EXR", &e),
        other => Fault::internal(other.to_string(), "EXR"),
    })
}

/// Writes a picture of one layer in zipped blocks of 16 rows, with a deflate that takes half the time of the library's.
fn write_zipped(image: &Image<Layer<AnyChannels<FlatSamples>>>, out: impl IoWrite + Seek) -> Result<()> {
    let headers = image.write().infer_meta_data();
    let source = image.layer_data.create_writer(&headers);
    exr::block::write(out, headers, true, |meta, writer| {
        let blocks: Vec<(usize, BlockIndex)> = meta.enumerate_ordered_header_block_indices().collect();
        let top = meta.headers[0].own_attributes.layer_position.y();
        // As many at once as keep all threads busy, so that little is held in memory.
        for some in blocks.chunks(4 * rayon::current_num_threads()) {
            let packed: Vec<std::io::Result<Vec<u8>>> = some
                .par_iter()
                .map(|(_, block)| zip_block(source.extract_uncompressed_block(&meta.headers, *block)))
                .collect();
            for ((number, block), compressed_pixels_le) in some.iter().zip(packed) {
                let y_coordinate = top + block.pixel_position.y() as i32;
                let block = CompressedScanLineBlock { y_coordinate, compressed_pixels_le: compressed_pixels_le? };
                let chunk = Chunk { layer_index: 0, compressed_block: CompressedBlock::ScanLine(block) };
                writer.write_chunk(*number, chunk)?;
            }
        }
        Ok(())
    })
}

/// Packs a block as the OpenEXR file layout asks for it (*Technical Introduction to OpenEXR*, "Data Compression", and the reference
/// library): bytes at even places, then those at odd ones, each as the difference from the one before it plus 128, deflated;
/// as it is where that would be longer.
fn zip_block(plain: Vec<u8>) -> std::io::Result<Vec<u8>> {
    const _: () = assert!(cfg!(target_endian = "little"), "blocks are packed as they lie in memory");
    let mut parted: Vec<u8> = Vec::with_capacity(plain.len());
    parted.extend(plain.iter().step_by(2));
    parted.extend(plain.iter().skip(1).step_by(2));
    for i in (1..parted.len()).rev() {
        parted[i] = parted[i].wrapping_sub(parted[i - 1]).wrapping_add(128);
    }
    let mut packed = ZlibEncoder::new(Vec::with_capacity(plain.len() / 2), flate2::Compression::new(LEVEL));
    packed.write_all(&parted)?;
    let packed = packed.finish()?;
    Ok(if packed.len() < plain.len() { packed } else { plain })
}

/// Puts the attributes of a header in the order of their names: the library keeps some of them in none, and equal pictures would
/// come out as different files.
struct Ordered<'a, W> {
    out: &'a mut W,
    /// What there is of the header, until it is whole.
    head: Option<Vec<u8>>,
}

impl<W: IoWrite> Ordered<'_, W> {
    fn let_go(&mut self) -> std::io::Result<()> {
        self.head.take().map_or(Ok(()), |head| self.out.write_all(&head))
    }
}

impl<W: IoWrite> IoWrite for Ordered<'_, W> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let Some(head) = &mut self.head else { return self.out.write(bytes) };
        head.extend_from_slice(bytes);
        if let Some((mut attributes, rest)) = header(head) {
            attributes.sort();
            let sorted = [&head[..8], &attributes.concat(), &head[rest..]].concat();
            self.head = Some(sorted);
            self.let_go()?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.out.flush()
    }
}

impl<W: IoWrite + Seek> Seek for Ordered<'_, W> {
    fn seek(&mut self, to: std::io::SeekFrom) -> std::io::Result<u64> {
        self.let_go()?;
        self.out.seek(to)
    }
}

/// Attributes of a header, each with name, type, length and value, and where the null byte stands that ends it; none before
/// it is whole. After the OpenEXR file layout: eight bytes of magic number and version come first.
fn header(bytes: &[u8]) -> Option<(Vec<Vec<u8>>, usize)> {
    let word = |from: usize| bytes.get(from..)?.iter().position(|b| *b == 0).map(|n| from + n + 1);
    let (mut at, mut out) = (8, Vec::new());
    while *bytes.get(at)? != 0 {
        let length = word(word(at)?)?;
        let size = u32::from_le_bytes(bytes.get(length..length + 4)?.try_into().ok()?) as usize;
        let end = length + 4 + size;
        out.push(bytes.get(at..end)?.to_vec());
        at = end;
    }
    Some((out, at))
}

fn to_half(x: f32) -> f16 {
    f16::from_f32(x.clamp(-HALF_MOST, HALF_MOST))
}

/// What 16-bit floats do to a value.
pub fn as_half(x: f32) -> f32 {
    to_half(x).to_f32()
}

fn damaged(e: Error, place: &str) -> Fault {
    match e {
        Error::NotSupported(t) => Fault::new(
            Code::Unsupported,
            format!("this kind of OpenEXR file is not read: {t}"),
            place,
            "store it flat (not deep), with ZIP, PIZ or no compression",
        ),
        other => Fault::new(
            Code::Damaged,
            format!("not a whole OpenEXR file: {other}"),
            place,
            "export the file again and check that it was copied completely",
        ),
    }
}

/// Width and height of the first part, read from the header alone.
pub fn exr_size(bytes: &[u8], place: &str) -> std::result::Result<(usize, usize), Fault> {
    let meta = exr::meta::MetaData::read_from_buffered(Cursor::new(bytes), false).map_err(|e| damaged(e, place))?;
    let header = meta.headers.first().ok_or_else(|| damaged(Error::Aborted, place))?;
    Ok((header.layer_size.0, header.layer_size.1))
}

/// Frame (display window), region (data window) and channels of a file.
pub type ExrContent = ((u32, u32), Region, Vec<Channel>);

/// All channels of the first part with the data window (region) and the display window (frame).
/// Half floats are widened. Callers check [`exr_size`] against their limit first.
pub fn exr_channels(bytes: &[u8], place: &str) -> std::result::Result<ExrContent, Fault> {
    let image = read()
        .no_deep_data()
        .largest_resolution_level()
        .all_channels()
        .first_valid_layer()
        .all_attributes()
        .from_buffered(Cursor::new(bytes))
        .map_err(|e| damaged(e, place))?;
    let layer = image.layer_data;
    let at = layer.attributes.layer_position;
    let region = Region {
        x: at.0.max(0) as u32,
        y: at.1.max(0) as u32,
        width: layer.size.0 as u32,
        height: layer.size.1 as u32,
    };
    let display = image.attributes.display_window.size;
    let channels = layer
        .channel_data
        .list
        .into_iter()
        .map(|c| Channel {
            name: c.name.to_string(),
            samples: match c.sample_data {
                FlatSamples::F16(v) => Samples::Float(v.into_iter().map(|x| x.to_f32()).collect()),
                FlatSamples::F32(v) => Samples::Float(v),
                FlatSamples::U32(v) => Samples::Whole(v),
            },
        })
        .collect();
    Ok(((display.0 as u32, display.1 as u32), region, channels))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn equal_pictures_are_equal_files_with_attributes_by_name() {
        let names = ["delta", "alpha", "echo", "bravo", "charlie", "foxtrot", "golf", "hotel"];
        let file = || {
            let mut out = Cursor::new(Vec::new());
            let channels = vec![Channel::float("R", vec![0.25, 0.5])];
            let attributes = names.map(|n| (n.to_string(), format!("of {n}"))).to_vec();
            let form = Form { comment: "c".into(), attributes, ..Form::default() };
            write_exr(&mut out, (2, 1), Region::whole(2, 1), channels, form).unwrap();
            out.into_inner()
        };
        let first = file();
        (0..20).for_each(|_| assert!(file() == first));
        let (attributes, end) = header(&first).unwrap();
        assert!(attributes.is_sorted() && attributes.len() > names.len() && first[end] == 0);
        let (_, _, channels) = exr_channels(&first, "test").unwrap();
        assert!(matches!(&channels[0].samples, Samples::Float(v) if *v == [0.25, 0.5]));
    }

    /// The reading library is another's: what we pack it unpacks, whether it shrinks or not, in regions and in odd blocks at the end.
    #[test]
    fn every_packing_gives_back_the_bits() {
        let region = Region { x: 7, y: 5, width: 61, height: 83 };
        let even = (0..region.area()).map(|i| i as f32 * 0.125).collect();
        let wild = (0..region.area() as u32).map(|i| f32::from_bits(i.wrapping_mul(0x9E37_79B9) >> 2)).collect();
        let flat = vec![3u32; region.area()];
        let channels = [Channel::float("R", even), Channel::float("a.G", wild), Channel::whole("samples.Y", flat)];
        for packing in [Packing::Zip, Packing::Rle, Packing::Piz, Packing::None] {
            let (mut out, form) = (Cursor::new(Vec::new()), Form { packing, ..Form::default() });
            write_exr(&mut out, (100, 90), region, channels.to_vec(), form).unwrap();
            let (_, at, mut read) = exr_channels(out.get_ref(), "test").unwrap();
            read.sort_by(|a, b| a.name.cmp(&b.name));
            assert!(at == region && read == channels, "{packing:?}");
        }
    }
}
