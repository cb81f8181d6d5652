//! What the floors above see: complete, typed, ready to be sent.

mod measured;

pub use measured::*;

use crate::Circumstances;
use crate::{FinalState, Policy, ProofKind};
use advice::{Advice, Brief, Effect, Price};
use fault::Fault;
use picture::against::Against;
use picture::metrics::Metrics;
use picture::noise::NoiseLedger;
use picture::{Region, maps::GrainLegend, maps::Swatch};
use scene::ImportReport;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use tracer::{Ledgers, Progress, RayCount, RenderReport};
use ts_rs::TS;
use tuning::{Difference, Group, PartialKind, Untaken, Value};

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
    /// The picture that stands for the shot.
    pub thumbnail: Option<store::Showing>,
    /// The test that runs now.
    #[ts(type = "number | null")]
    pub running: Option<i64>,
    /// Why the test that came with a change could not begin; the change stands.
    pub refused: Option<Fault>,
    pub import: ImportReport,
    pub archived: bool,
    /// Draft overlays that lie over its tests, the one put on last last.
    #[ts(type = "number[]")]
    pub overlays: Vec<i64>,
    /// Knobs that they change.
    pub in_force: Vec<InForce>,
    /// The preset applied last.
    #[ts(type = "number | null")]
    pub preset: Option<i64>,
    /// Size of the frame that is rendered: the delivered one times oversize.
    pub rendered: (u32, u32),
    /// Grain at which tests stop: the threshold in force, with the effort worked in.
    pub threshold: f64,
    /// Lights that are edited, by name.
    pub lights: BTreeMap<String, LightState>,
    /// Samples of the whole frame at the most.
    #[ts(type = "number")]
    pub most_samples: u64,
}

/// What the shot makes of a light.
#[derive(Debug, Clone, Serialize, TS)]
pub struct LightState {
    pub on: bool,
    /// Light rays of its own at the first hit.
    pub split: u32,
}

/// What is to change about a light.
#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct LightChange {
    pub on: Option<bool>,
    pub split: Option<u32>,
}

/// The value of a knob for tests, and the overlay that it comes from.
#[derive(Debug, Clone, Serialize, TS)]
pub struct InForce {
    pub id: String,
    pub value: Value,
    pub whose: String,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct RegionView {
    #[ts(type = "number")]
    pub id: i64,
    pub name: String,
    /// x, y, width and height as shares of the frame.
    pub place: [f64; 4],
}

#[derive(Debug, Clone, Deserialize, TS)]
pub struct NewRegion {
    pub name: String,
    pub region: Region,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct PartialView {
    #[ts(type = "number")]
    pub id: i64,
    pub kind: PartialKind,
    pub name: String,
    pub note: String,
    #[ts(type = "Record<string, number | boolean | string>")]
    pub values: Values,
    /// Came with the program.
    pub shipped: bool,
}

/// An overlay or preset to be made: from values, or from knobs of a shot as they are now.
#[derive(Debug, Clone, Deserialize, TS)]
#[ts(optional_fields)]
pub struct NewPartial {
    pub kind: PartialKind,
    pub name: String,
    pub note: Option<String>,
    #[serde(default)]
    #[ts(type = "Record<string, number | boolean | string>", optional)]
    pub values: Values,
    #[ts(type = "number")]
    pub shot: Option<i64>,
    #[serde(default)]
    #[ts(type = "string[]", optional)]
    pub knobs: Vec<String>,
}

#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct PartialChange {
    pub name: Option<String>,
    pub note: Option<String>,
    #[ts(type = "Record<string, number | boolean | string>")]
    pub values: Option<Values>,
}

/// What became of a shared file.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Imported {
    pub name: String,
    /// How many of its values are understood.
    pub understood: usize,
    pub untaken: Vec<Untaken>,
    /// None while somebody must decide whether the rest is to be taken.
    pub kept: Option<PartialView>,
}

/// What applying a preset would change.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Preview {
    pub changes: Vec<Difference>,
    pub forecast: Option<Brief>,
}

/// A preset with the forecast that a shot's final would have under it.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Rung {
    #[ts(type = "number")]
    pub preset: i64,
    pub forecast: Option<Brief>,
    /// It changes knobs whose effect only a test can tell.
    pub needs_test: bool,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct SettingsView {
    pub threads: usize,
    pub cores: usize,
    pub processor: String,
    /// Tests of a shot that keep themselves for a while.
    pub spare: u32,
    /// Room that proofs may take and do take, GB.
    pub room_gb: f64,
    pub used_gb: f64,
    /// A new seed for each test instead of the shot's own.
    pub new_seed: bool,
    /// Memory for what is kept ready, 10⁹ bytes, and what is in it with the films that are being rendered.
    pub memory_gb: f64,
    pub memory: Vec<crate::MemoryUse>,
    /// Days for which what was deleted can be taken out of the bin.
    pub bin_days: f64,
    /// Patterns of the file names of finals, and of those of a series.
    pub naming: String,
    pub naming_series: String,
}

#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct SettingsChange {
    pub threads: Option<u32>,
    pub spare: Option<u32>,
    pub room_gb: Option<f64>,
    pub new_seed: Option<bool>,
    pub memory_gb: Option<f64>,
    pub bin_days: Option<f64>,
}

/// What came in a parcel of files.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Parcel {
    pub scene: Option<SceneView>,
    pub environments: Vec<EnvironmentView>,
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
    /// Knobs that differ from the revision before.
    pub knobs: Vec<String>,
    /// Given by the artist; empty without one.
    pub name: String,
}

/// A page of a shot's proofs, newest first, with how many there are.
#[derive(Debug, Clone, Serialize, TS)]
pub struct ProofsView {
    pub list: Vec<ProofView>,
    #[ts(type = "number")]
    pub all: i64,
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
    pub star: bool,
    pub kind: ProofKind,
    pub state: ProofState,
    #[ts(type = "number")]
    pub made: i64,
    #[ts(type = "number")]
    pub bytes: i64,
    /// None for a picture from elsewhere.
    pub camera: Option<String>,
    pub frame: (u32, u32),
    /// None for the whole frame.
    pub region: Option<Region>,
    /// Its values; those alone that differ from the knobs' defaults once it is written as JSON, since lists of proofs are long.
    #[ts(type = "Record<string, number | boolean | string>")]
    #[serde(serialize_with = "crate::shots::beside_defaults")]
    pub tuning: Values,
    /// Draft overlays that lay over it.
    pub overlays: Vec<String>,
    pub oversize: f64,
    /// Of the program that rendered it.
    pub version: String,
    pub report: Option<RenderReport>,
    pub circumstances: Option<Circumstances>,
    /// What must be known before its figures are compared.
    pub marks: Vec<String>,
    /// How many knobs differ from the shot's tuning now.
    pub differs: usize,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum ProofState {
    Running,
    /// It waits in memory because the disk would not take it.
    Unsaved,
    Done,
    Stopped,
}

/// A page of finals, with how many there are.
#[derive(Debug, Clone, Serialize, TS)]
pub struct FinalsView {
    pub list: Vec<FinalView>,
    /// In the queue; of these, waiting or running; ended.
    #[ts(type = "number")]
    pub open: i64,
    #[ts(type = "number")]
    pub due: i64,
    #[ts(type = "number")]
    pub ended: i64,
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
    pub policy: Policy,
    /// Seconds by which it may be past its budget and still has kept it.
    pub slack: f64,
    /// Of a frame of a series.
    #[ts(type = "number | null")]
    pub number: Option<u32>,
    /// The top-up that it waits for or is at.
    pub top_up: Option<crate::TopUp>,
    /// Its samples are kept.
    pub can_top_up: bool,
    /// Its plan is kept: it can be rendered again, bit for bit.
    pub can_repeat: bool,
    /// It follows the plan of another final.
    pub planned: bool,
    /// As it was when the final was ordered.
    pub forecast: Option<advice::Forecast>,
    pub report: Option<FinalReport>,
    pub files: Vec<FileView>,
    pub progress: Option<Progress>,
    pub times: Option<crate::FinalTimes>,
    /// It waits because a test is running.
    pub yielding: bool,
    pub fault: Option<Fault>,
    #[ts(type = "number")]
    pub made: i64,
    #[ts(type = "number | null")]
    pub ended: Option<i64>,
}

/// What became of a final. Seconds are render time; time given to tests does not count.
#[derive(Debug, Clone, Serialize, Deserialize, TS)]
pub struct FinalReport {
    pub start: f64,
    pub sampling: f64,
    /// Of checkpoints.
    #[serde(default)]
    pub saving: f64,
    pub denoise: f64,
    pub writing: f64,
    pub total: f64,
    /// Seconds of sampling that came with the samples of tests and other finals, and those samples.
    #[serde(default)]
    pub before: f64,
    #[serde(default)]
    #[ts(type = "number")]
    pub reused: u64,
    /// Share of the pixels for which there was no time: they show what the nearest pixels have that were rendered.
    #[serde(default)]
    pub gaps: f64,
    /// Decisions under *hold the time*.
    #[serde(default)]
    pub plan: Vec<tracer::Decision>,
    /// Grain as delivered: root mean square and worst block.
    #[serde(default)]
    pub grain: f64,
    #[serde(default)]
    pub worst_block: f64,
    /// How clean the delivered picture is; none in reports of older versions.
    #[serde(default)]
    pub verdict: Option<crate::Verdict>,
    /// What was delivered before a top-up, the first one first.
    #[serde(default)]
    pub earlier: Vec<Version>,
    /// Seconds of all deliveries: what counts for the budget.
    #[serde(default)]
    pub spent: f64,
    /// It went to its threshold, so that its time tells how forecasts hold.
    #[serde(default)]
    pub to_threshold: bool,
    pub render: RenderReport,
}

/// A delivery that was gone on from.
#[derive(Debug, Clone, Serialize, Deserialize, TS)]
pub struct Version {
    /// Seconds that it took.
    pub total: f64,
    pub verdict: Option<crate::Verdict>,
    /// Names of its files, which stay.
    pub files: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, TS)]
pub struct FileView {
    pub name: String,
    #[ts(type = "number")]
    pub bytes: u64,
    /// What it loses, measured.
    #[serde(default)]
    pub notes: Vec<String>,
}

/// Proofs side by side, as numbers.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Comparison {
    /// Knobs that differ between any two.
    pub rows: Vec<KnobRow>,
    /// One for each proof, A first.
    pub columns: Vec<Column>,
    /// What they are measured against; A without one.
    #[ts(type = "number | null")]
    pub reference: Option<i64>,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct KnobRow {
    pub id: &'static str,
    pub label: &'static str,
    /// None where the tuning is unknown.
    pub values: Vec<Option<Value>>,
}

/// The figures of a proof in a comparison.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Column {
    #[ts(type = "number")]
    pub proof: i64,
    pub seconds: Option<f64>,
    /// Time of A ÷ time of this; above 1, this is faster.
    pub time_ratio: Option<f64>,
    pub grain: Option<f64>,
    /// Grain of A ÷ grain of this; above 1, this is cleaner.
    pub grain_ratio: Option<f64>,
    pub samples_per_pixel: Option<f64>,
    pub rays: Option<f64>,
    /// Against the reference, or against A.
    pub metrics: Option<Metrics>,
    /// Its error split into grain and look change, where both have halves and other seeds.
    pub against: Option<Against>,
    /// The part of the frame on which it was measured.
    pub shared: Option<Region>,
    pub notes: Vec<String>,
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
    /// Stored with 8 bits a channel: its highlights are clipped, and reflections of them come out dull.
    pub eight_bit: bool,
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
    /// Hash of another environment; empty for none.
    pub environment: Option<String>,
    pub archived: Option<bool>,
    #[serde(default)]
    #[ts(type = "Record<string, number | boolean | string>", optional)]
    pub tuning: Values,
    /// By the light's name.
    #[serde(default)]
    #[ts(type = "Record<string, LightChange>", optional)]
    pub lights: BTreeMap<String, LightChange>,
    /// Live mode: a test that begins with the change.
    pub test: Option<NewTest>,
    /// The revision that the change was made from: refused where the shot is at another one. Without it the change is laid on the
    /// shot as it is.
    #[ts(type = "number", optional)]
    pub revision: Option<i64>,
}

/// What is taken back from a proof; all without groups.
#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct TakeBack {
    pub groups: Option<Vec<Group>>,
}

/// How far a proof is to go on; twice the samples where neither is given.
#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct GoOn {
    pub most: Option<u32>,
    pub threshold: Option<f64>,
}

#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct ProofChange {
    pub name: Option<String>,
    pub note: Option<String>,
    pub kept: Option<bool>,
    pub star: Option<bool>,
}

#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct NewTest {
    /// Absent for the whole frame.
    pub region: Option<Region>,
    /// Begun by a change of a knob: one that is pushed out at once leaves no proof.
    #[serde(default)]
    #[ts(type = "boolean", optional)]
    pub live: bool,
}
