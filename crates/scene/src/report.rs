//! What an import did with every feature of a file.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use ts_rs::TS;

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Handling {
    Read,
    Approximated,
    Ignored,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct Entry {
    pub feature: String,
    pub handling: Handling,
    pub count: u32,
    /// What it means for the picture; empty when there is nothing to say.
    pub note: String,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, TS)]
pub struct ImportReport {
    pub triangles: u32,
    pub materials: u32,
    pub textures: u32,
    /// Bytes held by decoded textures.
    #[ts(type = "number")]
    pub texture_bytes: u64,
    pub lights: u32,
    pub cameras: Vec<String>,
    /// Corners of the box around everything, metres.
    pub bounds: [[f32; 3]; 2],
    pub entries: Vec<Entry>,
}

/// Counts features while a file is read.
#[derive(Debug, Default)]
pub(crate) struct Tally(BTreeMap<(Handling, String, String), u32>);

impl Tally {
    pub fn add(&mut self, handling: Handling, feature: &str, note: &str) {
        *self.0.entry((handling, feature.into(), note.into())).or_default() += 1;
    }

    pub fn read(&mut self, feature: &str) {
        self.add(Handling::Read, feature, "");
    }

    pub fn entries(self) -> Vec<Entry> {
        self.0.into_iter().map(|((handling, feature, note), count)| Entry { feature, handling, count, note }).collect()
    }
}
