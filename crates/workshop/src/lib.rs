//! The work of the bench: shots, tests and their proofs, finals, as jobs with precedence. No HTTP, no SQL.
//!
//! One test renders at a time; starting another ends it. Finals run one after the other on a thread of their own and yield
//! while a test runs. Everything that happens is told to listeners as an [`Event`].

mod advising;
mod archive;
mod bin;
mod circumstances;
mod cleaning;
mod comparing;
mod events;
mod finals;
mod forecasts;
mod glances;
mod ledgers;
mod library;
mod memory;
mod parcels;
mod partials;
mod pictures;
mod proofs;
mod rejudging;
mod saved;
mod settings;
mod sheet;
mod shots;
mod softening;
mod stalls;
mod tables;
mod tarnfell;
mod testing;
mod views;

pub use archive::{PresetExport, ProofExport, ShotExport};
pub use bin::{BinEntry, BinItem};
pub use circumstances::{Circumstances, PhaseTime};
pub use cleaning::{Clamped, CleanUpView, Softened};
pub use comparing::Looks;
pub use events::{Event, FinalTimes};
pub use finals::{Check, Cleanness, NewFinal, Ordered, Series, TopUp, Turn, Verdict, Way, read_plan};
pub use memory::MemoryUse;
pub use pictures::{Layer, Look, PixelReadout, Shown};
pub use softening::{Softening, SofteningAgainst};
pub use store::{BinKind, FinalState, Policy, ProofKind, Showing};
pub use tables::TableView;
pub use tarnfell::DemoSize;
pub use views::*;

use fault::{Code, Fault};
use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard};
use std::time::{Duration, Instant};
use store::Store;
use tracer::{own_pool, screen_pool};

pub(crate) fn lock<T>(m: &Mutex<T>) -> MutexGuard<'_, T> {
    m.lock().unwrap_or_else(|e| e.into_inner())
}

/// The bench's state; cheap to clone.
#[derive(Clone)]
pub struct Workshop(Arc<Inner>);

/// A command that is being carried out.
pub struct InHand(Workshop);

impl Drop for InHand {
    fn drop(&mut self) {
        self.0.0.in_hand.fetch_sub(1, Ordering::AcqRel);
    }
}

/// How long things may take before something is done about it.
#[derive(Debug, Clone, Copy)]
pub struct Patience {
    /// Between two times that a running test is put away.
    pub checkpoint: Duration,
    /// Without news from a phase, before its cause is named.
    pub stall: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        Patience { checkpoint: Duration::from_secs(20), stall: Duration::from_secs(4) }
    }
}

pub(crate) struct Inner {
    pub store: Store,
    /// Renders.
    pub pool: Mutex<Arc<rayon::ThreadPool>>,
    /// Prepares pictures for the screen and for files.
    pub screen: rayon::ThreadPool,
    pub events: events::Events,
    pub memory: memory::Memory,
    /// Counts what happens: an answer that was asked for before something changed is not shared with who asks after it.
    pub changes: Arc<AtomicU64>,
    pub test: Mutex<Option<Arc<testing::Running>>>,
    /// Tests that are not yet on disk.
    pub writing: Mutex<Vec<i64>>,
    /// A test that found the disk full.
    pub unsaved: Mutex<Option<testing::Unsaved>>,
    pub patience: Mutex<Patience>,
    /// Held while a glance is rendered, and while a parcel is taken in.
    pub glancing: Mutex<()>,
    pub taking: Mutex<()>,
    /// Tests that are being judged anew beside.
    pub under_way: Mutex<HashSet<memory::Key>>,
    /// Held while one test is judged anew.
    pub judging: Mutex<()>,
    /// Tests that are rendered for advice.
    pub advising: Mutex<Option<advising::AtWork>>,
    /// Held while one test makes way for the next.
    pub changing_test: Mutex<()>,
    /// Films of tests that run or are being put away, by their proofs; the plate of the running one.
    pub films: Mutex<HashMap<i64, Arc<tracer::Film>>>,
    pub live_plate: Mutex<Option<pictures::LivePlate>>,
    /// The running test through the quick denoiser.
    pub live_picture: Mutex<Option<cleaning::LivePicture>>,
    pub finals: finals::Desk,
    /// The program is about to end: nothing new is begun.
    pub closing: AtomicBool,
    /// Commands that are being carried out.
    pub in_hand: AtomicUsize,
    /// Signalled when the queue or the bench changes.
    pub wake: (Mutex<()>, Condvar),
}

impl Workshop {
    /// Opens the data folder and takes up finals that were interrupted.
    pub fn open(data: &Path) -> Result<Workshop, Fault> {
        Workshop::open_with(data, Patience::default())
    }

    pub fn open_with(data: &Path, patience: Patience) -> Result<Workshop, Fault> {
        let store = Store::open(data)?;
        let _ = std::fs::remove_dir_all(store.incoming());
        std::fs::create_dir_all(store.incoming()).map_err(|e| Fault::io(data.display().to_string(), &e))?;
        let workshop = Workshop(Arc::new(Inner {
            store,
            pool: Mutex::new(Arc::new(own_pool(1)?)),
            screen: screen_pool()?,
            events: events::Events::default(),
            memory: memory::Memory::new(default_budget()),
            changes: Arc::default(),
            test: Mutex::default(),
            writing: Mutex::default(),
            unsaved: Mutex::default(),
            patience: Mutex::new(patience),
            glancing: Mutex::default(),
            taking: Mutex::default(),
            under_way: Mutex::default(),
            judging: Mutex::default(),
            advising: Mutex::default(),
            changing_test: Mutex::default(),
            films: Mutex::default(),
            live_plate: Mutex::default(),
            live_picture: Mutex::default(),
            finals: finals::Desk::default(),
            closing: AtomicBool::new(false),
            in_hand: AtomicUsize::new(0),
            wake: (Mutex::new(()), Condvar::new()),
        }));
        let settings = workshop.settings();
        *lock(&workshop.0.pool) = Arc::new(own_pool(settings.threads)?);
        workshop.0.memory.set_budget(settings.memory);
        let changes = workshop.0.changes.clone();
        workshop.listen(move |e| {
            if !matches!(e, Event::Test { .. } | Event::Final { .. }) {
                changes.fetch_add(1, Ordering::AcqRel);
            }
        });
        workshop.add_shipped()?;
        workshop.tables();
        for row in workshop.0.store.orphaned_proofs()? {
            workshop.take_up_orphan(row.id)?;
        }
        workshop.forget_trials()?;
        workshop.forget_old()?;
        for row in workshop.0.store.open_finals(0, u32::MAX)? {
            if row.state == FinalState::Running {
                workshop.0.store.set_final_state(row.id, FinalState::Waiting)?;
            }
        }
        workshop.start_finals();
        Ok(workshop)
    }

    /// Stops what renders, puts it away and lets the data folder go, so that another program may take it. A test is there
    /// afterwards, stopped, and finals go on at the next start. True if all of it was done within `time`; what was not is as it was
    /// put away last.
    pub fn close(&self, time: Duration) -> Result<bool, Fault> {
        let end = Instant::now() + time;
        self.0.closing.store(true, Ordering::Release);
        self.leave_finals();
        self.wake();
        self.stop_test_begun();
        let renders = || self.test_is_running() || !lock(&self.0.writing).is_empty() || self.finals_work();
        // What is in hand is carried out and answered: a change that stands is not answered with an error.
        let idle = || !renders() && self.0.in_hand.load(Ordering::Acquire) == 0;
        while !idle() && Instant::now() < end {
            std::thread::sleep(Duration::from_millis(5));
        }
        let whole = idle();
        self.0.store.close()?;
        Ok(whole)
    }

    /// Says that a command is carried out until what is returned is dropped; the bench is not closed before, if it can wait for it.
    pub fn take_in_hand(&self) -> Result<InHand, Fault> {
        self.0.in_hand.fetch_add(1, Ordering::AcqRel);
        let hand = InHand(self.clone());
        self.begins().map(|()| hand)
    }

    /// Refuses to begin something while the program ends.
    pub(crate) fn begins(&self) -> Result<(), Fault> {
        if self.0.closing.load(Ordering::Acquire) {
            return Err(Fault::new(Code::Busy, "the program is ending", "bench", "start it again, then try once more"));
        }
        Ok(())
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

/// Bytes that may be kept in memory where nobody has said how many: half of what is free.
fn default_budget() -> u64 {
    tracer::free_memory().map_or(2 << 30, |free| (0.5 * free) as u64).max(memory::LEAST)
}

/// Parses JSON that this program wrote itself.
pub(crate) fn parse<T: serde::de::DeserializeOwned>(text: &str, place: &str) -> Result<T, Fault> {
    serde_json::from_str(text).map_err(|e| Fault::internal(format!("stored data cannot be read: {e}"), place))
}

pub(crate) fn json<T: serde::Serialize>(value: &T) -> Result<String, Fault> {
    serde_json::to_string(value).map_err(|e| Fault::internal(e.to_string(), "JSON"))
}
