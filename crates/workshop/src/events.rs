//! What listeners are told.

use crate::lock;
use fault::Fault;
use serde::Serialize;
use std::sync::Mutex;
use store::ProofKind;
use tracer::Progress;
use ts_rs::TS;

#[derive(Debug, Clone, Serialize, TS)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum Event {
    /// A test has got further; its picture may have changed.
    Test {
        #[ts(type = "number")]
        shot: i64,
        #[ts(type = "number")]
        proof: i64,
        kind: ProofKind,
        /// Samples that a pixel takes at most, none of a pilot, and the threshold: of this test, whatever the shot has by now.
        most: Option<u32>,
        threshold: f64,
        progress: Progress,
        fault: Option<Fault>,
        /// Set when a phase reports nothing for long: what it is at.
        stalled: Option<String>,
    },
    /// A test was stopped because another one began, perhaps from another page: proofs and names of the shots of both.
    PushedOut {
        #[ts(type = "number")]
        proof: i64,
        shot_name: String,
        #[ts(type = "number")]
        by: i64,
        by_shot_name: String,
    },
    /// Proofs of a shot came, went or changed.
    Proofs {
        #[ts(type = "number")]
        shot: i64,
    },
    /// A shot's tuning, camera or budget changed.
    Shot {
        #[ts(type = "number")]
        shot: i64,
    },
    /// A final has got further.
    Final {
        #[ts(type = "number")]
        id: i64,
        progress: Progress,
        times: FinalTimes,
    },
    /// The queue changed.
    Finals,
    /// Shots or the library changed.
    Shots,
    /// Overlays or presets changed.
    Partials,
    /// Something was put into the bin, or left it.
    Bin,
    /// Choices for the whole bench changed.
    Settings,
    /// What was begun beside came to nothing.
    Refused { fault: Fault },
}

/// Render time of a final at work.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, TS)]
pub struct FinalTimes {
    /// Seconds so far, without those of samples that were taken over.
    pub spent: f64,
    /// Seconds after which it is expected to end, clean-up and files with it.
    pub ends_after: Option<f64>,
}

type Listener = Box<dyn Fn(&Event) + Send>;

#[derive(Default)]
pub(crate) struct Events(Mutex<Vec<Listener>>);

impl Events {
    pub fn listen(&self, f: impl Fn(&Event) + Send + 'static) {
        lock(&self.0).push(Box::new(f));
    }

    pub fn tell(&self, e: Event) {
        for f in lock(&self.0).iter() {
            f(&e);
        }
    }
}
