//! What is kept in memory because it would take time to make again: ready scenes, plates, cleaned pictures, judgements. All of it
//! shares one budget of bytes; what is asked for least goes first. Of several that ask for the same at once one makes it, and the
//! others wait for it.
//!
//! Values that somebody still works with stay in memory until they are let go of, whatever the budget; so do the films of what is
//! being rendered, which are shown beside it.

use crate::forecasts::Origin;
use crate::lock;
use fault::Fault;
use picture::Plate;
use picture::grain::BlockMap;
use quick_cache::sync::{Cache, DefaultLifecycle};
use quick_cache::{DefaultHashBuilder, OptionsBuilder, Weighter};
use serde::Serialize;
use std::any::Any;
use std::collections::BTreeMap;
use std::hash::{BuildHasher, RandomState};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use tracer::{BlockCount, Description, SavedCounts, Stage};
use ts_rs::TS;

/// Below this nothing works as it should: judgements would be made again and again.
pub(crate) const LEAST: u64 = 256 << 20;
/// Bytes that a pixel of a film takes, before it is known: with its guides and some lights and parts.
const USUAL_PIXEL: u64 = 400;
/// Bytes of small things beside what a value holds.
const OVERHEAD: usize = 512;

/// What is kept, by what it was made from.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) enum Key {
    /// Hashes of scene and environment.
    Stage(String, Option<String>),
    /// A proof.
    Plate(i64),
    BlockMap(i64),
    /// A proof and how it was cleaned up.
    Cleaned(i64, String),
    /// A proof or final and its samples.
    Counts(Origin, u64),
    /// The same and how it was judged.
    Judged(Origin, u64, String),
    /// A text of the database, by the short name of what it was read as, its length and its hash.
    Text(&'static str, usize, u64),
    /// An answer for all who ask at once; it is not kept.
    Answer(String),
}

impl Key {
    /// In words, for the library.
    fn kind(&self) -> &'static str {
        match self {
            Key::Stage(..) => "scenes made ready",
            Key::Plate(_) | Key::BlockMap(_) => "pictures of proofs",
            Key::Cleaned(..) => "cleaned pictures",
            Key::Counts(..) | Key::Judged(..) => "noise of proofs",
            Key::Text(..) => "lists of proofs, finals and revisions",
            Key::Answer(_) => "answers",
        }
    }

    /// The proof it was made from.
    fn proof(&self) -> Option<i64> {
        match self {
            Key::Plate(id)
            | Key::BlockMap(id)
            | Key::Cleaned(id, _)
            | Key::Counts(Origin::Proof(id), _)
            | Key::Judged(Origin::Proof(id), ..) => Some(*id),
            Key::Stage(..) | Key::Text(..) | Key::Answer(_) | Key::Counts(..) | Key::Judged(..) => None,
        }
    }
}

/// What can be kept.
pub(crate) trait Weighs: Any + Send + Sync {
    /// Bytes held.
    fn bytes(&self) -> usize;
}

impl Weighs for Stage {
    fn bytes(&self) -> usize {
        Stage::bytes(self)
    }
}

impl Weighs for Plate {
    fn bytes(&self) -> usize {
        Plate::bytes(self)
    }
}

impl Weighs for BlockMap {
    fn bytes(&self) -> usize {
        size_of_val(&*self.grain) + size_of_val(&*self.pixels)
    }
}

impl Weighs for SavedCounts {
    fn bytes(&self) -> usize {
        self.tiles.iter().map(|(_, blocks)| 32 + blocks.len() * size_of::<BlockCount>()).sum()
    }
}

/// A judgement; none where the samples are not there any more.
impl Weighs for Option<Arc<SavedCounts>> {
    fn bytes(&self) -> usize {
        self.as_ref().map_or(0, |counts| counts.bytes())
    }
}

/// What a text was read as, and the bytes that it is taken to hold.
struct Read<T>(T, usize);

impl<T: Send + Sync + 'static> Weighs for Read<T> {
    fn bytes(&self) -> usize {
        self.1
    }
}

/// A value takes about so many times the bytes of its JSON.
const READ: usize = 2;

/// An answer that is shared, not kept.
pub(crate) struct Shared<T>(pub T);

impl<T: Send + Sync + 'static> Weighs for Shared<T> {
    fn bytes(&self) -> usize {
        0
    }
}

#[derive(Clone)]
struct Held {
    value: Arc<dyn Any + Send + Sync>,
    bytes: u64,
}

#[derive(Clone)]
struct ByBytes;

impl Weighter<Key, Held> for ByBytes {
    fn weight(&self, _: &Key, held: &Held) -> u64 {
        held.bytes
    }
}

/// What holds memory, and how much.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct MemoryUse {
    pub what: String,
    pub count: usize,
    #[ts(type = "number")]
    pub bytes: u64,
}

pub(crate) struct Memory {
    cache: Cache<Key, Held, ByBytes>,
    /// Counts what was forgotten, so that nothing outdated is kept that was being made meanwhile.
    forgotten: AtomicU64,
    /// Bytes that may be held where nobody has said how many.
    pub default: u64,
    /// Films of what is being rendered: they count as well.
    films: Mutex<BTreeMap<(&'static str, i64), u64>>,
    budget: AtomicU64,
    /// Hashes of texts: other ones in each start, so that nobody can aim at them.
    hasher: RandomState,
}

impl Memory {
    pub fn new(default: u64) -> Memory {
        // One part: what is kept is few and large, and any of it may take most of the room.
        let options = OptionsBuilder::new().estimated_items_capacity(256).weight_capacity(default).shards(1).build();
        let options = options.expect("both capacities are given");
        let cache = Cache::with_options(options, ByBytes, DefaultHashBuilder::default(), DefaultLifecycle::default());
        Memory {
            cache,
            forgotten: AtomicU64::new(0),
            default,
            films: Mutex::default(),
            budget: AtomicU64::new(default),
            hasher: RandomState::new(),
        }
    }

    /// What is kept under a key, or made now.
    pub fn get<T: Weighs>(&self, key: &Key, make: impl FnOnce() -> Result<T, Fault>) -> Result<Arc<T>, Fault> {
        let mut made = None;
        let held = self.cache.get_or_insert_with(key, || {
            made = Some(self.forgotten.load(Ordering::Acquire));
            make().map(|v| Held { bytes: (v.bytes() + OVERHEAD) as u64, value: Arc::new(v) })
        })?;
        let outdated = made.is_some_and(|then| then != self.forgotten.load(Ordering::Acquire));
        if made.is_some() && (outdated || matches!(key, Key::Answer(_))) {
            self.cache.remove(key);
        }
        held.value.downcast().map_err(|_| Fault::internal("something else is kept under this key", "memory"))
    }

    /// What `read` makes of a text, which is kept: lists are asked for again and again, and hardly a row of them changes. Texts that
    /// are read in different ways have different names.
    pub fn read<T: Clone + Send + Sync + 'static>(
        &self,
        name: &'static str,
        text: &str,
        read: impl FnOnce(&str) -> Result<T, Fault>,
    ) -> Result<T, Fault> {
        let key = Key::Text(name, text.len(), self.hasher.hash_one(text));
        Ok(self.get(&key, || read(text).map(|v| Read(v, READ * text.len())))?.0.clone())
    }

    /// What is kept under a key already.
    pub fn peek<T: Weighs>(&self, key: &Key) -> Option<Arc<T>> {
        self.cache.get(key)?.value.downcast().ok()
    }

    /// Forgets what was made from a proof.
    pub fn forget_proof(&self, proof: i64) {
        self.forgotten.fetch_add(1, Ordering::AcqRel);
        self.cache.retain(|key, _| key.proof() != Some(proof));
    }

    /// Bytes that may be held in all.
    pub fn set_budget(&self, bytes: u64) {
        self.budget.store(bytes, Ordering::Relaxed);
        self.fit();
    }

    /// Makes way for a film before it is made.
    pub fn expect_film(&self, what: (&'static str, i64), d: &Description) {
        self.hold_film(what, d.film_area().area() as u64 * USUAL_PIXEL);
    }

    /// Tells of the film of what is being rendered; 0 once it is over.
    pub fn hold_film(&self, what: (&'static str, i64), bytes: u64) {
        lock(&self.films).insert(what, bytes);
        lock(&self.films).retain(|_, bytes| *bytes > 0);
        self.fit();
    }

    fn fit(&self) {
        let films: u64 = lock(&self.films).values().sum();
        self.cache.set_capacity(self.budget.load(Ordering::Relaxed).saturating_sub(films).max(LEAST));
    }

    /// What is held, the largest first.
    pub fn used(&self) -> Vec<MemoryUse> {
        let mut all: BTreeMap<&str, (usize, u64)> = BTreeMap::new();
        for (key, held) in self.cache.iter() {
            let entry = all.entry(key.kind()).or_default();
            *entry = (entry.0 + 1, entry.1 + held.bytes);
        }
        let films = lock(&self.films).clone();
        let films = films.into_iter().map(|((what, _), bytes)| (what, (1, bytes)));
        let mut list: Vec<MemoryUse> = all
            .into_iter()
            .chain(films)
            .map(|(what, (count, bytes))| MemoryUse { what: what.into(), count, bytes })
            .collect();
        list.sort_by_key(|u| std::cmp::Reverse(u.bytes));
        list
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::AtomicUsize;
    use std::time::Duration;

    struct Block(usize);

    impl Weighs for Block {
        fn bytes(&self) -> usize {
            self.0
        }
    }

    #[test]
    fn of_many_that_ask_at_once_one_makes_it_and_the_budget_holds() {
        let memory = Memory::new(4 * LEAST);
        let made = AtomicUsize::new(0);
        let make = |bytes: usize| {
            made.fetch_add(1, Ordering::Relaxed);
            std::thread::sleep(Duration::from_millis(50));
            Ok(Block(bytes))
        };
        for key in [Key::Plate(1), Key::Answer("a".into())] {
            made.store(0, Ordering::Relaxed);
            std::thread::scope(|s| {
                (0..10).for_each(|_| drop(s.spawn(|| assert_eq!(memory.get(&key, || make(100)).unwrap().0, 100))));
            });
            assert_eq!(made.load(Ordering::Relaxed), 1, "{key:?}");
        }
        // An answer is for those who asked meanwhile; a plate stays.
        memory.get(&Key::Answer("a".into()), || make(1)).unwrap();
        memory.get(&Key::Plate(1), || make(1)).unwrap();
        assert_eq!(made.load(Ordering::Relaxed), 2);
        // A fault is told to who met it, and the next one tries again.
        let failed = memory.get::<Block>(&Key::Plate(2), || Err(Fault::internal("no", "test")));
        assert!(failed.is_err() && memory.get(&Key::Plate(2), || make(1)).is_ok());
        let bytes = || memory.used().iter().map(|u| u.bytes).sum::<u64>();
        for k in 0..100 {
            memory.get(&Key::Plate(100 + k), || Ok(Block(LEAST as usize / 4))).unwrap();
            assert!(bytes() <= 4 * LEAST, "{} of {}", bytes(), 4 * LEAST);
        }
        assert!(bytes() > 3 * LEAST);
        memory.hold_film(("film", 1), 3 * LEAST);
        assert!(bytes() <= 4 * LEAST);
        memory.hold_film(("film", 1), 0);
        // A text is read once; another one, and the same read in another way, are others.
        let reads = AtomicUsize::new(0);
        let read = |name, text: &str| {
            memory.read(name, text, |t| {
                reads.fetch_add(1, Ordering::Relaxed);
                t.parse::<i32>().map_err(|_| Fault::internal("no number", t))
            })
        };
        assert_eq!([read("n", "12").unwrap(), read("n", "12").unwrap(), read("n", "21").unwrap()], [12, 12, 21]);
        assert!(read("m", "12").is_ok() && read("n", "x").is_err() && read("n", "x").is_err());
        assert_eq!(reads.load(Ordering::Relaxed), 5);
        // What is forgotten while it is being made is not kept.
        let key = Key::Plate(7);
        memory
            .get(&key, || {
                memory.forget_proof(7);
                Ok(Block(1))
            })
            .unwrap();
        assert!(memory.peek::<Block>(&key).is_none());
    }
}
