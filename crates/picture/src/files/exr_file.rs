//! OpenEXR files of one part with named channels (`R`, `albedo.R`, `samples.Y` …), which every reader opens.

use crate::Region;
use exr::prelude::*;
use fault::{Code, Fault};
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
}

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
    image.write().to_buffered(out).map_err(|e| match e {
        Error::Io(e) => Fault::io("EXR", &e),
        other => Fault::internal(other.to_string(), "EXR"),
    })
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
