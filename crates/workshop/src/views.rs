//! What the floors above see: complete, typed, ready to be sent.

use fault::Fault;
use picture::metrics::Metrics;
use picture::{Region, maps::GrainLegend, maps::Swatch};
use scene::ImportReport;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use tracer::{Progress, RenderReport};
use ts_rs::TS;
use tuning::Difference;

/// Knob values by id, as JSON.
pub type Values = BTreeMap<String, serde_json::Value>;

#[derive(Debug, Clone, Serialize, TS)]
pub struct ShotView {
    #[ts(type = "number")]
    pub id: i64,
    pub name: String,
    pub scene: String,
    pub environment: Option<String>,
    pub camera: String,
    pub cameras: Vec<String>,
    /// Seconds of render time for the final.
    pub budget: f64,
    #[ts(type = "number")]
    pub revision: i64,
    #[ts(type = "Record<string, number | boolean | string>")]
    pub tuning: Values,
    #[ts(type = "number | null")]
    pub undo: Option<i64>,
    #[ts(type = "number | null")]
    pub redo: Option<i64>,
    /// The proof whose picture stands for the shot.
    #[ts(type = "number | null")]
    pub thumbnail: Option<i64>,
    /// The test that runs now.
    #[ts(type = "number | null")]
    pub running: Option<i64>,
    pub import: ImportReport,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct RevisionView {
    #[ts(type = "number")]
    pub number: i64,
    pub change: String,
    /// Seconds since 1970.
    #[ts(type = "number")]
    pub made: i64,
    pub current: bool,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct ProofView {
    #[ts(type = "number")]
    pub id: i64,
    #[ts(type = "number")]
    pub shot: i64,
    #[ts(type = "number")]
    pub number: i64,
    pub name: String,
    pub note: String,
    pub kept: bool,
    pub state: ProofState,
    #[ts(type = "number")]
    pub made: i64,
    pub camera: String,
    pub frame: (u32, u32),
    /// None for the whole frame.
    pub region: Option<Region>,
    #[ts(type = "Record<string, number | boolean | string>")]
    pub tuning: Values,
    pub report: Option<RenderReport>,
    /// How many knobs differ from the shot's tuning now.
    pub differs: usize,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum ProofState {
    Running,
    Done,
    Stopped,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum FinalState {
    Waiting,
    Running,
    Delivered,
    Cancelled,
    Failed,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct FinalView {
    #[ts(type = "number")]
    pub id: i64,
    #[ts(type = "number")]
    pub shot: i64,
    pub shot_name: String,
    pub camera: String,
    pub frame: (u32, u32),
    pub threshold: f64,
    pub state: FinalState,
    pub budget: f64,
    /// Seconds, with low and high, as forecast at the start.
    pub forecast: Option<ForecastBrief>,
    pub report: Option<FinalReport>,
    pub files: Vec<FileView>,
    pub progress: Option<Progress>,
    /// It waits because a test is running.
    pub yielding: bool,
    pub fault: Option<Fault>,
    #[ts(type = "number")]
    pub made: i64,
    #[ts(type = "number | null")]
    pub ended: Option<i64>,
}

#[derive(Debug, Clone, Copy, Serialize, Deserialize, TS)]
pub struct ForecastBrief {
    pub seconds: f64,
    pub low: f64,
    pub high: f64,
}

/// What became of a final. Seconds are render time; time given to tests does not count.
#[derive(Debug, Clone, Serialize, Deserialize, TS)]
pub struct FinalReport {
    pub start: f64,
    pub sampling: f64,
    pub denoise: f64,
    pub writing: f64,
    pub total: f64,
    pub render: RenderReport,
    /// Every block is at or below the threshold.
    pub clean: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, TS)]
pub struct FileView {
    pub name: String,
    #[ts(type = "number")]
    pub bytes: u64,
}

/// The forecast of a shot's final and what it rests on.
#[derive(Debug, Clone, Serialize, TS)]
pub struct ForecastView {
    pub forecast: advice::Forecast,
    /// The proof it was computed from.
    #[ts(type = "number")]
    pub proof: i64,
    #[ts(type = "number")]
    pub proof_number: i64,
    pub budget: f64,
}

/// Two proofs side by side, as numbers.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Comparison {
    pub differences: Vec<Difference>,
    /// Time of a ÷ time of b; above 1, b is faster.
    pub time_ratio: Option<f64>,
    /// Grain of a ÷ grain of b; above 1, b is cleaner.
    pub grain_ratio: Option<f64>,
    /// On the part of the frame that both hold; none if they share none or their frames differ.
    pub metrics: Option<Metrics>,
    /// The part of the frame that both hold.
    pub shared: Option<Region>,
}

/// Legends of the maps of a proof.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Legends {
    pub grain: GrainLegend,
    pub samples: Vec<Swatch>,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct SceneView {
    pub hash: String,
    pub name: String,
    pub report: ImportReport,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct EnvironmentView {
    pub hash: String,
    pub name: String,
}

/// A shot to be made.
#[derive(Debug, Clone, Deserialize, TS)]
pub struct NewShot {
    pub name: String,
    pub scene: String,
    pub environment: Option<String>,
    pub camera: Option<String>,
    pub budget: f64,
}

/// What is to change about a shot; absent parts stay.
#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct ShotChange {
    pub name: Option<String>,
    pub camera: Option<String>,
    pub budget: Option<f64>,
    #[serde(default)]
    #[ts(type = "Record<string, number | boolean | string>", optional)]
    pub tuning: Values,
}

#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct ProofChange {
    pub name: Option<String>,
    pub note: Option<String>,
    pub kept: Option<bool>,
}

#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct NewTest {
    /// Absent for the whole frame.
    pub region: Option<Region>,
}
