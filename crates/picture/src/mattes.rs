//! Mattes after the open Cryptomatte specification 1.2.0: for every pixel the objects (or materials) that it shows, by the hash
//! of their name, with how much of the pixel each covers.
//!
//! Hash: MurmurHash3 x86 32 (Appleby, public domain), seed 0. Its bits are taken as a float after the exponent has been kept
//! off 0 and 255, so that no reader takes it for a denormal, an infinity or not a number.

use crate::files::Channel;
use std::collections::BTreeMap;

/// Objects that a pixel names at the most: three layers of two ranks.
pub const RANKS: usize = 6;

/// MurmurHash3 x86 32.
pub fn murmur3(bytes: &[u8], seed: u32) -> u32 {
    let mix = |k: u32| k.wrapping_mul(0xcc9e_2d51).rotate_left(15).wrapping_mul(0x1b87_3593);
    let mut h = seed;
    let mut chunks = bytes.chunks_exact(4);
    for c in &mut chunks {
        h ^= mix(u32::from_le_bytes([c[0], c[1], c[2], c[3]]));
        h = h.rotate_left(13).wrapping_mul(5).wrapping_add(0xe654_6b64);
    }
    let rest = chunks.remainder();
    if !rest.is_empty() {
        let mut last = [0u8; 4];
        last[..rest.len()].copy_from_slice(rest);
        h ^= mix(u32::from_le_bytes(last));
    }
    h ^= bytes.len() as u32;
    h = (h ^ (h >> 16)).wrapping_mul(0x85eb_ca6b);
    h = (h ^ (h >> 13)).wrapping_mul(0xc2b2_ae35);
    h ^ (h >> 16)
}

/// The float that stands for a name.
pub fn id_of(name: &str) -> f32 {
    let hash = murmur3(name.as_bytes(), 0);
    let exponent = (hash >> 23) & 255;
    f32::from_bits(if exponent == 0 || exponent == 255 { hash ^ (1 << 23) } else { hash })
}

/// Coverage by name of one kind of thing, over the pixels of a picture.
pub struct Mattes {
    /// Name of the layer, e.g. `CryptoObject`.
    pub layer: &'static str,
    /// Names that occur, in no particular order.
    pub names: Vec<String>,
    /// For each pixel, row by row: numbers of names with the share of the pixel that they cover.
    pub pixels: Vec<Vec<(u32, f32)>>,
}

impl Mattes {
    /// `CryptoObject00.R` … with name and share in turn, the largest share first.
    pub fn channels(&self) -> Vec<Channel> {
        let ids: Vec<f32> = self.names.iter().map(|n| id_of(n)).collect();
        let mut all = vec![vec![0.0f32; self.pixels.len()]; 2 * RANKS];
        for (i, pixel) in self.pixels.iter().enumerate() {
            let mut ranked = pixel.clone();
            ranked.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
            for (rank, (name, share)) in ranked.into_iter().take(RANKS).enumerate() {
                all[2 * rank][i] = ids[name as usize];
                all[2 * rank + 1][i] = share;
            }
        }
        let name = |k: usize| format!("{}{:02}.{}", self.layer, k / 4, ["R", "G", "B", "A"][k % 4]);
        all.into_iter().enumerate().map(|(k, values)| Channel::float(&name(k), values)).collect()
    }

    /// Attributes of the file that name the layer, the hash and every name.
    pub fn attributes(&self) -> Vec<(String, String)> {
        let key = &format!("{:08x}", murmur3(self.layer.as_bytes(), 0))[..7];
        let manifest: BTreeMap<&str, String> =
            self.names.iter().map(|n| (n.as_str(), format!("{:08x}", id_of(n).to_bits()))).collect();
        let own = |what: &str, value: String| (format!("cryptomatte/{key}/{what}"), value);
        vec![
            own("name", self.layer.into()),
            own("hash", "MurmurHash3_32".into()),
            own("conversion", "uint32_to_float32".into()),
            own("manifest", serde_json::to_string(&manifest).unwrap_or_default()),
        ]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// SMHasher's verification of MurmurHash3 x86 32: the hash of the hashes of the keys 0, 0 1, 0 1 2 … with seeds
    /// 256 − length is 0xB0F57EE3 (Appleby's test program; the value from memory).
    #[test]
    fn the_hash_is_murmurs() {
        let mut hashes = Vec::new();
        for n in 0..256u32 {
            let key: Vec<u8> = (0..n).map(|i| i as u8).collect();
            hashes.extend(murmur3(&key, 256 - n).to_le_bytes());
        }
        assert_eq!(murmur3(&hashes, 0), 0xb0f5_7ee3);
    }

    #[test]
    fn ids_are_ordinary_floats_and_ranks_fall() {
        for i in 0..20_000 {
            let id = id_of(&format!("lens {i}"));
            assert!(id.is_normal(), "{i}");
        }
        let m = Mattes {
            layer: "CryptoObject",
            names: vec!["brass".into(), "glass".into()],
            pixels: vec![vec![(0, 0.25), (1, 0.75)], vec![]],
        };
        let channels = m.channels();
        let names: Vec<&str> = channels.iter().map(|c| c.name.as_str()).collect();
        assert_eq!(names[..4], ["CryptoObject00.R", "CryptoObject00.G", "CryptoObject00.B", "CryptoObject00.A"]);
        assert_eq!(names.len(), 12);
        let value = |k: usize, i: usize| match &channels[k].samples {
            crate::files::Samples::Float(v) => v[i],
            crate::files::Samples::Whole(_) => panic!("floats"),
        };
        assert_eq!((value(0, 0), value(1, 0), value(3, 0)), (id_of("glass"), 0.75, 0.25));
        assert_eq!((value(0, 1), value(1, 1)), (0.0, 0.0));
        let attributes = m.attributes();
        assert!(
            attributes
                .iter()
                .all(|(name, _)| name.starts_with("cryptomatte/") && name.split('/').nth(1).unwrap().len() == 7)
        );
        let manifest: BTreeMap<String, String> = serde_json::from_str(&attributes[3].1).unwrap();
        assert_eq!(u32::from_str_radix(&manifest["brass"], 16).unwrap(), id_of("brass").to_bits());
    }
}
