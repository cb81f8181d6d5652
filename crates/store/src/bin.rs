//! The bin: what was deleted lies there, out of sight, until it is taken out again or forgotten for good.
//!
//! What is forgotten loses its rows in one transaction, which notes down the files that go with them; these are removed
//! afterwards. A program that ends in between removes them at its next start.

pub use crate::states::BinKind;
use crate::{Store, now, sql};
use fault::{Code, Fault};
use rusqlite::{Connection, OptionalExtension, Transaction};
use std::path::PathBuf;

impl BinKind {
    /// In this order things are forgotten: first what refers to others.
    pub const ALL: [BinKind; 7] = [
        BinKind::Shot,
        BinKind::Proof,
        BinKind::Final,
        BinKind::Partial,
        BinKind::Scene,
        BinKind::Environment,
        BinKind::Table,
    ];
}

#[derive(Debug, Clone, PartialEq)]
pub struct BinRow {
    pub kind: BinKind,
    /// Id, or hash of a scene or environment.
    pub key: String,
    pub name: String,
    /// Of its files.
    pub bytes: i64,
    pub deleted: i64,
}

/// Files of which the rows are gone already; the key is their path inside the data folder.
const FILES: &str = "files";

/// A condition: the row's own kind and key are not in the bin.
pub(crate) fn seen(kind: BinKind, key: &str) -> String {
    format!("{key} NOT {}", in_bin(kind))
}

/// The opposite.
pub(crate) fn binned(kind: BinKind, key: &str) -> String {
    format!("{key} {}", in_bin(kind))
}

fn in_bin(kind: BinKind) -> String {
    let numbered = !matches!(kind, BinKind::Scene | BinKind::Environment);
    let inside = if numbered { "CAST(key AS INTEGER)" } else { "key" };
    format!("IN (SELECT {inside} FROM bin WHERE kind = '{}')", kind.word())
}

/// Whether anything refers to a scene, environment or table: shots, also those in the bin, and what was rendered with it.
fn is_referred_to(t: &Transaction, kind: BinKind, key: &str) -> Result<bool, Fault> {
    const RENDERED: &str = "EXISTS (SELECT 1 FROM proofs WHERE instr(description, ?1))
                         OR EXISTS (SELECT 1 FROM finals WHERE instr(description, ?1))";
    // Hashes and the number of a table stand in descriptions and tunings as they are.
    let (text, row) = match kind {
        BinKind::Scene => (key.to_string(), "SELECT 1 FROM shots WHERE scene = ?1"),
        BinKind::Environment => (key.to_string(), "SELECT 1 FROM shots WHERE environment = ?1"),
        BinKind::Table => (format!("\"view.table\":{key}"), "SELECT 1 FROM revisions WHERE instr(tuning, ?1)"),
        _ => return Ok(false),
    };
    t.query_row(&format!("SELECT EXISTS ({row}) OR {RENDERED}"), [text], |r| r.get(0)).map_err(sql)
}

/// Why something cannot go into the bin now.
fn in_the_way(t: &Transaction, r: &BinRow) -> Result<Option<(String, &'static str)>, Fault> {
    let used = "SELECT group_concat(name, ', ') FROM (SELECT name FROM shots WHERE %COLUMN% = ?1 AND %SHOWN% LIMIT 5)";
    let command = match r.kind {
        BinKind::Shot => "SELECT count(*) || ' finals' FROM finals WHERE shot = ?1 AND state IN ('waiting', 'running', 'paused') HAVING count(*) > 0",
        BinKind::Final => "SELECT state FROM finals WHERE id = ?1 AND state IN ('waiting', 'running', 'paused')",
        BinKind::Scene => used,
        BinKind::Environment => used,
        BinKind::Table => {
            "SELECT group_concat(name, ', ') FROM (SELECT s.name FROM shots s JOIN revisions r ON r.shot = s.id AND r.number = s.revision
             WHERE s.%SHOWN% AND (instr(r.tuning, '\"view.table\":' || ?1 || ',') OR instr(r.tuning, '\"view.table\":' || ?1 || '}')) LIMIT 5)"
        }
        _ => return Ok(None),
    };
    let column = if r.kind == BinKind::Scene { "scene" } else { "environment" };
    let command = command.replace("%COLUMN%", column).replace("%SHOWN%", &seen(BinKind::Shot, "id"));
    let found: Option<Option<String>> = t.query_row(&command, [&r.key], |r| r.get(0)).optional().map_err(sql)?;
    Ok(found.flatten().map(|found| match r.kind {
        BinKind::Shot => (format!("{found} of it stand in the queue"), "cancel them first"),
        BinKind::Final => (format!("it is {found}"), "cancel it first"),
        BinKind::Scene => (format!("it is used by {found}"), "put these shots into the bin first"),
        _ => (format!("it is used by {found}"), "put these shots into the bin first, or give them another"),
    }))
}

fn lies_in_bin(db: &Connection, kind: BinKind, key: &str) -> Result<bool, Fault> {
    let inside = "SELECT EXISTS (SELECT 1 FROM bin WHERE kind = ?1 AND key = ?2)";
    db.query_row(inside, (kind, key), |r| r.get(0)).map_err(sql)
}

/// Refuses what would be added to a shot that lies in the bin, as from a page that has not been told.
pub(crate) fn out_of_bin(t: &Transaction, shot: i64) -> Result<(), Fault> {
    if lies_in_bin(t, BinKind::Shot, &shot.to_string())? {
        let remedy = "take it out of the bin first, on the page Library";
        return Err(Fault::new(Code::NotFound, "this shot lies in the bin", format!("shot {shot}"), remedy));
    }
    Ok(())
}

fn ids(t: &Transaction, command: &str, key: &str) -> Result<Vec<i64>, Fault> {
    let mut q = t.prepare(command).map_err(sql)?;
    q.query_map([key], |r| r.get(0)).map_err(sql)?.collect::<Result<_, _>>().map_err(sql)
}

impl Store {
    /// Puts things into the bin, all or none. What lies there already stays as it is.
    pub fn put_in_bin(&self, rows: &[BinRow]) -> Result<(), Fault> {
        let mut db = self.db();
        let t = db.transaction().map_err(sql)?;
        for r in rows {
            if let Some((what, remedy)) = in_the_way(&t, r)? {
                let place = format!("{} {}", r.kind.word(), r.name);
                return Err(Fault::new(Code::Busy, what, place, remedy));
            }
            t.execute(
                "INSERT INTO bin (kind, key, name, bytes, deleted) VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT DO NOTHING",
                (r.kind, &r.key, &r.name, r.bytes, now()),
            )
            .map_err(sql)?;
        }
        t.commit().map_err(sql)
    }

    pub fn take_from_bin(&self, kind: BinKind, key: &str) -> Result<(), Fault> {
        self.db().execute("DELETE FROM bin WHERE kind = ?1 AND key = ?2", (kind, key)).map(|_| ()).map_err(sql)
    }

    pub fn is_in_bin(&self, kind: BinKind, key: &str) -> Result<bool, Fault> {
        lies_in_bin(&self.db(), kind, key)
    }

    /// What was deleted last comes first.
    pub fn bin(&self) -> Result<Vec<BinRow>, Fault> {
        let db = self.db();
        let mut q = db
            .prepare(
                "SELECT kind, key, name, bytes, deleted FROM bin WHERE kind <> ?1 ORDER BY deleted DESC, rowid DESC",
            )
            .map_err(sql)?;
        let rows = q
            .query_map([FILES], |r| {
                Ok(BinRow { kind: r.get(0)?, key: r.get(1)?, name: r.get(2)?, bytes: r.get(3)?, deleted: r.get(4)? })
            })
            .map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// Removes something from the bin for good, with all that belongs to it and its files; false, and it stays, where anything
    /// refers to it or somebody has taken it out meanwhile.
    pub fn forget(&self, kind: BinKind, key: &str) -> Result<bool, Fault> {
        self.remove(kind, key, true)
    }

    /// Removes a proof for good.
    pub fn delete_proof(&self, id: i64) -> Result<(), Fault> {
        self.remove(BinKind::Proof, &id.to_string(), false).map(drop)
    }

    fn remove(&self, kind: BinKind, key: &str, binned: bool) -> Result<bool, Fault> {
        {
            let mut db = self.db();
            let t = db.transaction().map_err(sql)?;
            if binned && !lies_in_bin(&t, kind, key)? || is_referred_to(&t, kind, key)? {
                return Ok(false);
            }
            let (mut proofs, mut finals) = (Vec::new(), Vec::new());
            let mut files = Vec::new();
            match kind {
                BinKind::Shot => {
                    proofs = ids(&t, "SELECT id FROM proofs WHERE shot = ?1", key)?;
                    finals = ids(&t, "SELECT id FROM finals WHERE shot = ?1", key)?;
                    t.execute("DELETE FROM shots WHERE id = ?1", [key]).map_err(sql)?;
                }
                BinKind::Proof => proofs = ids(&t, "DELETE FROM proofs WHERE id = ?1 RETURNING id", key)?,
                BinKind::Final => finals = ids(&t, "DELETE FROM finals WHERE id = ?1 RETURNING id", key)?,
                BinKind::Partial => drop(ids(&t, "DELETE FROM partials WHERE id = ?1 RETURNING id", key)?),
                BinKind::Scene => {
                    t.execute("DELETE FROM scenes WHERE hash = ?1", [key]).map_err(sql)?;
                    files.extend([format!("scenes/{key}"), format!("scenes/{key}.glb")]);
                }
                BinKind::Environment => {
                    t.execute("DELETE FROM environments WHERE hash = ?1", [key]).map_err(sql)?;
                    files.push(format!("environments/{key}"));
                }
                BinKind::Table => files.push(format!("tables/{key}.cube")),
            }
            let mut gone = vec![(kind, key.to_string())];
            for (kind, folder, ids) in [(BinKind::Proof, "proofs", proofs), (BinKind::Final, "finals", finals)] {
                files.extend(ids.iter().map(|id| format!("{folder}/{id}")));
                gone.extend(ids.iter().map(|id| (kind, id.to_string())));
            }
            for row in gone {
                t.execute("DELETE FROM bin WHERE kind = ?1 AND key = ?2", row).map_err(sql)?;
            }
            for file in files {
                t.execute("INSERT INTO bin VALUES (?1, ?2, '', 0, ?3) ON CONFLICT DO NOTHING", (FILES, file, now()))
                    .map_err(sql)?;
            }
            t.commit().map_err(sql)?;
        }
        self.remove_files().map(|()| true)
    }

    /// Removes files of which the rows are gone. What cannot be removed now is tried again the next time: the rows are gone all the
    /// same.
    pub(crate) fn remove_files(&self) -> Result<(), Fault> {
        let paths: Vec<String> = {
            let db = self.db();
            let mut q = db.prepare("SELECT key FROM bin WHERE kind = ?1").map_err(sql)?;
            q.query_map([FILES], |r| r.get(0)).map_err(sql)?.collect::<Result<_, _>>().map_err(sql)?
        };
        for key in paths {
            let path: PathBuf = self.root.join(&key);
            let removed = if path.is_dir() { std::fs::remove_dir_all(&path) } else { std::fs::remove_file(&path) };
            if removed.is_ok() || !path.exists() {
                self.db().execute("DELETE FROM bin WHERE kind = ?1 AND key = ?2", (FILES, &key)).map_err(sql)?;
            }
        }
        Ok(())
    }
}
