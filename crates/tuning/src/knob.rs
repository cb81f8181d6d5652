//! What a knob is.

use crate::Value;
use serde::{Deserialize, Serialize};
use ts_rs::TS;

/// One section of knobs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Group {
    Frame,
    Sampling,
    Paths,
    Lights,
    CleanUp,
    View,
    Delivery,
}

/// What turning a knob is paid with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Trade {
    Time,
    Grain,
    Look,
}

/// How a slider over the range should be spaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Scale {
    Linear,
    Logarithmic,
}

/// The type of a knob's value with its range; both ends belong to it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, TS)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum Kind {
    Whole { least: u32, most: u32 },
    Real { least: f64, most: f64 },
    Switch,
    Choice { names: &'static [&'static str] },
}

/// One row of the knob table.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Knob {
    /// Stable name in files, API and `--set`, e.g. `sampling.most`.
    pub id: &'static str,
    pub group: Group,
    pub label: &'static str,
    /// Unit as printed after the value; empty when it has none. `share` is a fraction of 1, for people in percent.
    pub unit: &'static str,
    pub kind: Kind,
    pub scale: Scale,
    pub default: Value,
    pub trades: &'static [Trade],
    /// What it does and what it trades, for a person.
    pub help: &'static str,
}
