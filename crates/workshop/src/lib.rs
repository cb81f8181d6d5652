//! The work of the bench: shots, tests and their proofs, finals, as jobs with precedence. No HTTP, no SQL.
//!
//! One test runs at a time; starting another ends it. Finals run one after the other on a thread of their own and yield
//! while a test runs. Everything that happens is told to listeners as an [`Event`].

mod bench;
mod events;
mod finals;
mod forecasts;
mod library;
mod pictures;
mod saved;
mod shots;
mod tarnfell;
mod views;

pub use events::Event;
pub use pictures::{Layer, Look, PixelReadout, Shown};
pub use tarnfell::DemoSize;
pub use views::*;

use fault::Fault;
use std::collections::VecDeque;
use std::path::Path;
use std::sync::{Arc, Condvar, Mutex, MutexGuard};
use store::Store;
use tracer::{Stage, cores, own_pool, screen_pool};

/// Largest number of ended tests of a shot that stay without being pulled.
const SPARE_TESTS: usize = 12;

pub(crate) fn lock<T>(m: &Mutex<T>) -> MutexGuard<'_, T> {
    m.lock().unwrap_or_else(|e| e.into_inner())
}

/// The bench's state; cheap to clone.
#[derive(Clone)]
pub struct Workshop(Arc<Inner>);

pub(crate) struct Inner {
    pub store: Store,
    /// Renders.
    pub pool: Arc<rayon::ThreadPool>,
    /// Prepares pictures for the screen and for files.
    pub screen: rayon::ThreadPool,
    pub events: events::Events,
    /// Ready scenes, latest last.
    pub stages: Mutex<VecDeque<(library::StageKey, Arc<Stage>)>>,
    pub test: Mutex<Option<Arc<bench::Running>>>,
    /// Held while one test makes way for the next.
    pub changing_test: Mutex<()>,
    pub plates: Mutex<VecDeque<(i64, Arc<picture::Plate>)>>,
    pub denoised: Mutex<VecDeque<(pictures::DenoiseKey, Arc<Vec<picture::Rgb>>)>>,
    pub finals: finals::Desk,
    /// Signalled when the queue or the bench changes.
    pub wake: (Mutex<()>, Condvar),
}

impl Workshop {
    /// Opens the data folder and takes up finals that were interrupted.
    pub fn open(data: &Path) -> Result<Workshop, Fault> {
        let store = Store::open(data)?;
        for id in store.orphaned_proofs()? {
            store.delete_proof(id)?;
        }
        let workshop = Workshop(Arc::new(Inner {
            store,
            pool: Arc::new(own_pool(cores())?),
            screen: screen_pool()?,
            events: events::Events::default(),
            stages: Mutex::default(),
            test: Mutex::default(),
            changing_test: Mutex::default(),
            plates: Mutex::default(),
            denoised: Mutex::default(),
            finals: finals::Desk::default(),
            wake: (Mutex::new(()), Condvar::new()),
        }));
        for row in workshop.0.store.finals()? {
            if row.state == "running" {
                workshop.0.store.set_final_state(row.id, "waiting")?;
            }
        }
        workshop.start_finals();
        Ok(workshop)
    }

    /// Calls `f` with everything that happens from now on, from the thread in which it happens.
    pub fn listen(&self, f: impl Fn(&Event) + Send + 'static) {
        self.0.events.listen(f);
    }

    pub(crate) fn wake(&self) {
        let _guard = lock(&self.0.wake.0);
        self.0.wake.1.notify_all();
    }
}

/// Parses JSON that this program wrote itself.
pub(crate) fn parse<T: serde::de::DeserializeOwned>(text: &str, place: &str) -> Result<T, Fault> {
    serde_json::from_str(text).map_err(|e| Fault::internal(format!("stored data cannot be read: {e}"), place))
}

pub(crate) fn json<T: serde::Serialize>(value: &T) -> Result<String, Fault> {
    serde_json::to_string(value).map_err(|e| Fault::internal(e.to_string(), "JSON"))
}
