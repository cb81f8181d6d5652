//! Deleting. What is deleted lies in the bin, can be taken out of it for as long as the library says, and is then forgotten with its
//! files. Nothing is forgotten that anything still refers to.

use crate::parcels::list;
use crate::{Event, Workshop, lock};
use fault::{Code, Fault};
use serde::{Deserialize, Serialize};
use std::path::Path;
use store::{BinKind, BinRow, now};
use ts_rs::TS;

const DAY: f64 = 86400.0;

/// Something that can be deleted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, TS)]
pub struct BinItem {
    pub kind: BinKind,
    /// Its id; of scenes and environments their hash.
    pub key: String,
}

impl BinItem {
    pub fn new(kind: BinKind, key: impl ToString) -> BinItem {
        BinItem { kind, key: key.to_string() }
    }
}

/// Something in the bin.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct BinEntry {
    #[serde(flatten)]
    #[ts(flatten)]
    pub item: BinItem,
    pub name: String,
    #[ts(type = "number")]
    pub bytes: i64,
    /// Seconds since 1970: when it was deleted, and when it will be forgotten.
    #[ts(type = "number")]
    pub deleted: i64,
    #[ts(type = "number")]
    pub goes: i64,
}

fn bytes_of(path: &Path) -> i64 {
    let mut files = vec![path.to_path_buf()];
    list(path, &mut files);
    files.iter().filter_map(|f| std::fs::metadata(f).ok()).filter(|m| m.is_file()).map(|m| m.len() as i64).sum()
}

impl Workshop {
    /// Puts things into the bin, all or none. A test that runs is stopped first.
    pub fn delete(&self, items: &[BinItem]) -> Result<(), Fault> {
        for item in items {
            let running = match item.kind {
                BinKind::Proof => self.running_test(self.0.store.proof(id_of(item)?)?.id).is_some(),
                BinKind::Shot => {
                    lock(&self.0.test).as_ref().is_some_and(|t| t.active() && t.shot.to_string() == item.key)
                }
                _ => false,
            };
            if running {
                self.stop_test();
            }
        }
        let rows: Vec<BinRow> =
            items.iter().filter_map(|item| self.bin_row(item).transpose()).collect::<Result<_, _>>()?;
        self.0.store.put_in_bin(&rows)?;
        self.tell_of(items)?;
        self.forget_old()
    }

    /// Takes things out of the bin, with what they are part of or made of.
    pub fn restore(&self, items: &[BinItem]) -> Result<(), Fault> {
        let mut all = items.to_vec();
        for item in items {
            let shot = match item.kind {
                BinKind::Proof => Some(self.0.store.proof(id_of(item)?)?.shot),
                BinKind::Final => Some(self.0.store.one_final(id_of(item)?)?.shot),
                BinKind::Shot => Some(id_of(item)?),
                _ => None,
            };
            if let Some(shot) = shot {
                let row = self.0.store.shot(shot)?;
                all.extend(row.environment.map(|e| BinItem::new(BinKind::Environment, e)));
                all.extend([BinItem::new(BinKind::Shot, shot), BinItem::new(BinKind::Scene, row.scene)]);
            }
        }
        for item in &all {
            self.0.store.take_from_bin(item.kind, &item.key)?;
        }
        self.tell_of(&all)
    }

    /// What lies in the bin, what was deleted last first.
    pub fn bin(&self) -> Result<Vec<BinEntry>, Fault> {
        let stay = (self.settings().bin_days * DAY) as i64;
        let entry = |r: BinRow| BinEntry {
            goes: r.deleted + stay,
            item: BinItem { kind: r.kind, key: r.key },
            name: r.name,
            bytes: r.bytes,
            deleted: r.deleted,
        };
        Ok(self.0.store.bin()?.into_iter().map(entry).collect())
    }

    /// Forgets what lies in the bin: some of it, or all. What something still refers to stays.
    pub fn empty_bin(&self, items: &[BinItem]) -> Result<(), Fault> {
        self.forget(|r| items.is_empty() || items.iter().any(|i| i.kind == r.kind && i.key == r.key))
    }

    /// Forgets what has lain in the bin for long enough.
    pub(crate) fn forget_old(&self) -> Result<(), Fault> {
        let latest = now() - (self.settings().bin_days * DAY) as i64;
        self.forget(|r| r.deleted < latest)
    }

    pub(crate) fn forget(&self, which: impl Fn(&BinRow) -> bool) -> Result<(), Fault> {
        let mut rows = self.0.store.bin()?;
        rows.retain(which);
        // What is being taken in may be the same as what goes.
        let content = |r: &BinRow| matches!(r.kind, BinKind::Scene | BinKind::Environment | BinKind::Table);
        let _taking = rows.iter().any(content).then(|| lock(&self.0.taking));
        for kind in BinKind::ALL {
            for r in rows.iter().filter(|r| r.kind == kind) {
                let gone = self.0.store.forget(kind, &r.key)?;
                if let (true, BinKind::Proof, Ok(id)) = (gone, kind, r.key.parse()) {
                    self.forget_plate(id);
                }
            }
        }
        if !rows.is_empty() {
            self.0.events.tell(Event::Bin);
        }
        Ok(())
    }

    /// How something lies in the bin; none for a test without a picture, which has gone by itself.
    fn bin_row(&self, item: &BinItem) -> Result<Option<BinRow>, Fault> {
        let store = &self.0.store;
        let missing = |what: &str| Fault::new(Code::NotFound, "this does not exist any more", what, "reload the page");
        let (name, bytes) = match item.kind {
            BinKind::Shot => {
                let row = store.shot(id_of(item)?)?;
                let finals = store.finals_of(row.id)?;
                let finals: i64 = finals.iter().map(|id| bytes_of(&store.final_folder(*id))).sum();
                (row.name, store.proof_bytes_of(row.id)? + finals)
            }
            BinKind::Proof => {
                let Ok(row) = store.proof(id_of(item)?) else { return Ok(None) };
                let shot = store.shot(row.shot)?.name;
                let name = if row.name.is_empty() { format!("{} {}", row.kind.word(), row.number) } else { row.name };
                (format!("{name} of {shot}"), row.bytes)
            }
            BinKind::Final => {
                let row = store.one_final(id_of(item)?)?;
                (self.base_of(&row)?, bytes_of(&store.final_folder(row.id)))
            }
            BinKind::Scene => {
                let row = store.scene(&item.key)?.ok_or_else(|| missing("scene"))?;
                let folder = store.scene_folder(&row.hash);
                (row.name, bytes_of(&folder) + bytes_of(&folder.with_extension("glb")))
            }
            BinKind::Environment => {
                let row = store.environment(&item.key)?.ok_or_else(|| missing("environment"))?;
                (row.name, bytes_of(&store.environment_file(&row.hash)))
            }
            BinKind::Table => {
                let table = self.tables().into_iter().find(|t| t.id.to_string() == item.key);
                let table = table.ok_or_else(|| missing("table"))?;
                (table.title, bytes_of(&self.table_file(table.id)))
            }
            BinKind::Partial => {
                let row = store.partial(id_of(item)?)?;
                (row.name, 0)
            }
        };
        Ok(Some(BinRow { kind: item.kind, key: item.key.clone(), name, bytes, deleted: 0 }))
    }

    fn tell_of(&self, items: &[BinItem]) -> Result<(), Fault> {
        for item in items {
            match item.kind {
                BinKind::Shot | BinKind::Scene | BinKind::Environment => self.0.events.tell(Event::Shots),
                BinKind::Proof => {
                    if let Ok(row) = self.0.store.proof(id_of(item)?) {
                        self.0.events.tell(Event::Proofs { shot: row.shot });
                    }
                }
                BinKind::Final => {}
                BinKind::Table => self.0.events.tell(Event::Settings),
                BinKind::Partial => self.told_partials()?,
            }
        }
        if items.iter().any(|i| matches!(i.kind, BinKind::Final | BinKind::Shot)) {
            self.0.events.tell(Event::Finals);
        }
        self.0.events.tell(Event::Bin);
        Ok(())
    }
}

fn id_of(item: &BinItem) -> Result<i64, Fault> {
    let place = format!("{} {}", item.kind.word(), item.key);
    item.key.parse().map_err(|_| Fault::new(Code::NotANumber, "this is no number", place, "reload the page"))
}
