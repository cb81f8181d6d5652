//! What an import did with every feature of a file.

use crate::{Camera, Scene, Texture};
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
    /// As they are seen: those of shared meshes once for each instance.
    #[ts(type = "number")]
    pub triangles: u64,
    /// As they are kept in memory.
    #[serde(default)]
    #[ts(type = "number")]
    pub triangles_kept: u64,
    #[serde(default)]
    pub instances: u32,
    /// Bytes held by meshes.
    #[serde(default)]
    #[ts(type = "number")]
    pub mesh_bytes: u64,
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

/// Adds what every file needs to a scene, and writes its report.
pub(crate) fn finish(scene: &mut Scene, mut tally: Tally) {
    let (lo, hi) = scene.bounds();
    if scene.cameras.is_empty() {
        scene.cameras.push(Camera::framing(lo, hi));
        tally.add(Handling::Approximated, "camera", "the file has none; one that frames everything was added");
    }
    let meshes = scene.shared.iter().chain([&scene.world]);
    scene.report = ImportReport {
        triangles: scene.triangles_seen(),
        triangles_kept: scene.triangles_kept(),
        instances: scene.instances.len() as u32,
        mesh_bytes: meshes.map(|m| m.bytes() as u64).sum(),
        materials: scene.materials.len() as u32,
        textures: scene.textures.len() as u32,
        texture_bytes: scene.textures.iter().map(Texture::bytes).sum(),
        lights: scene.lights.len() as u32,
        cameras: scene.cameras.iter().map(|c| c.name.clone()).collect(),
        bounds: [lo.to_array(), hi.to_array()],
        entries: tally.entries(),
    };
}
