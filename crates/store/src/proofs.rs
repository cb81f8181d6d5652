//! Proofs: kept tests, and the last tests that keep themselves for a while.

use crate::{ProofKind, ProofState, Store, now, sql};
use fault::Fault;
use rusqlite::{Row, Transaction};

#[derive(Debug, Clone, PartialEq)]
pub struct ProofRow {
    pub id: i64,
    pub shot: i64,
    /// Counts the tests of a shot.
    pub number: i64,
    pub name: String,
    pub note: String,
    pub kept: bool,
    pub state: ProofState,
    pub made: i64,
    /// JSON.
    pub description: String,
    /// JSON, once it has ended.
    pub report: Option<String>,
    pub kind: ProofKind,
    pub star: bool,
    /// Of its folder.
    pub bytes: i64,
    /// When it was deleted; it can be brought back for a while.
    pub deleted: Option<i64>,
    /// Phases and machine as JSON.
    pub circumstances: Option<String>,
}

fn proof(r: &Row) -> rusqlite::Result<ProofRow> {
    Ok(ProofRow {
        id: r.get(0)?,
        shot: r.get(1)?,
        number: r.get(2)?,
        name: r.get(3)?,
        note: r.get(4)?,
        kept: r.get(5)?,
        state: r.get(6)?,
        made: r.get(7)?,
        description: r.get(8)?,
        report: r.get(9)?,
        kind: r.get(10)?,
        star: r.get(11)?,
        bytes: r.get(12)?,
        deleted: r.get(13)?,
        circumstances: r.get(14)?,
    })
}

const PROOF: &str =
    "SELECT id, shot, number, name, note, kept, state, made, description, report, kind, star, bytes, deleted,
     circumstances FROM proofs";

/// A kept proof that comes from elsewhere with its files.
pub struct NewProofRow {
    pub kind: ProofKind,
    pub state: ProofState,
    /// JSON, as the next two.
    pub description: String,
    pub report: Option<String>,
    pub circumstances: Option<String>,
    pub bytes: i64,
    pub name: String,
    pub note: String,
    pub star: bool,
}

pub(crate) fn add_proof(t: &Transaction, shot: i64, number: i64, p: &NewProofRow) -> Result<i64, Fault> {
    t.execute(
        "INSERT INTO proofs (shot, number, name, note, kept, star, state, made, description, kind, report, circumstances, bytes)
         VALUES (?1, ?2, ?3, ?4, 1, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)",
        rusqlite::params![
            shot, number, p.name, p.note, p.star, p.state, now(), p.description, p.kind, p.report, p.circumstances, p.bytes
        ],
    )
    .map_err(sql)?;
    Ok(t.last_insert_rowid())
}

impl Store {
    /// Begins a proof that runs; its row. A number is never used again.
    pub fn begin_proof(&self, shot: i64, kind: ProofKind, description: &str) -> Result<ProofRow, Fault> {
        let mut db = self.db();
        let t = db.transaction().map_err(sql)?;
        t.execute("UPDATE shots SET tests = tests + 1 WHERE id = ?1", [shot]).map_err(sql)?;
        t.execute(
            "INSERT INTO proofs (shot, number, name, note, kept, state, made, description, kind)
             VALUES (?1, (SELECT tests FROM shots WHERE id = ?1), '', '', 0, 'running', ?2, ?3, ?4)",
            (shot, now(), description, kind),
        )
        .map_err(sql)?;
        let id = t.last_insert_rowid();
        let row = t.query_row(&format!("{PROOF} WHERE id = ?1"), [id], proof).map_err(sql)?;
        t.commit().map_err(sql)?;
        Ok(row)
    }

    /// Ends a proof; `report` and `circumstances` are none for a picture from elsewhere.
    pub fn end_proof(
        &self,
        id: i64,
        state: ProofState,
        report: Option<&str>,
        circumstances: Option<&str>,
        bytes: i64,
    ) -> Result<(), Fault> {
        self.db()
            .execute(
                "UPDATE proofs SET state = ?2, report = ?3, circumstances = ?4, bytes = ?5 WHERE id = ?1",
                (id, state, report, circumstances, bytes),
            )
            .map(|_| ())
            .map_err(sql)
    }

    /// Lets a proof run again under another description.
    pub fn reopen_proof(&self, id: i64, description: &str) -> Result<(), Fault> {
        self.db()
            .execute("UPDATE proofs SET state = 'running', description = ?2 WHERE id = ?1", (id, description))
            .map(|_| ())
            .map_err(sql)
    }

    pub fn label_proof(&self, id: i64, name: &str, note: &str, kept: bool, star: bool) -> Result<(), Fault> {
        self.db()
            .execute(
                "UPDATE proofs SET name = ?2, note = ?3, kept = ?4, star = ?5 WHERE id = ?1",
                (id, name, note, kept, star),
            )
            .map(|_| ())
            .map_err(sql)
    }

    /// Marks a proof as deleted, or brings it back.
    pub fn mark_deleted(&self, id: i64, deleted: bool) -> Result<(), Fault> {
        let at = deleted.then(now);
        self.db().execute("UPDATE proofs SET deleted = ?2 WHERE id = ?1", (id, at)).map(|_| ()).map_err(sql)
    }

    /// Proofs that were marked as deleted before a time.
    pub fn deleted_before(&self, time: i64) -> Result<Vec<i64>, Fault> {
        let db = self.db();
        let mut q = db.prepare("SELECT id FROM proofs WHERE deleted IS NOT NULL AND deleted < ?1").map_err(sql)?;
        let rows = q.query_map([time], |r| r.get(0)).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// Bytes of all proofs, those included that can still be brought back.
    pub fn proof_bytes(&self) -> Result<i64, Fault> {
        self.db().query_row("SELECT coalesce(sum(bytes), 0) FROM proofs", [], |r| r.get(0)).map_err(sql)
    }

    /// Unkept proofs of all shots that have ended, oldest first.
    pub fn unkept_proofs(&self) -> Result<Vec<ProofRow>, Fault> {
        let db = self.db();
        let mut q = db
            .prepare(&format!("{PROOF} WHERE kept = 0 AND state <> 'running' AND kind = 'test' ORDER BY id"))
            .map_err(sql)?;
        let rows = q.query_map([], proof).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    pub fn proof(&self, id: i64) -> Result<ProofRow, Fault> {
        self.db()
            .query_row(&format!("{PROOF} WHERE id = ?1"), [id], proof)
            .map_err(|e| sql(e).within(&format!("proof {id}")))
    }

    /// Newest first, without deleted ones.
    pub fn proofs(&self, shot: i64) -> Result<Vec<ProofRow>, Fault> {
        let db = self.db();
        let mut q =
            db.prepare(&format!("{PROOF} WHERE shot = ?1 AND deleted IS NULL ORDER BY id DESC")).map_err(sql)?;
        let rows = q.query_map([shot], proof).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// Removes a proof with its files.
    pub fn delete_proof(&self, id: i64) -> Result<(), Fault> {
        self.db().execute("DELETE FROM proofs WHERE id = ?1", [id]).map_err(sql)?;
        let folder = self.proof_folder(id);
        match std::fs::remove_dir_all(&folder) {
            Ok(()) => Ok(()),
            Err(e) => match e.kind() {
                std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory => Ok(()),
                _ => Err(Fault::io(folder.display().to_string(), &e)),
            },
        }
    }

    /// Proofs that must go so that at most `spare` of a shot remain unkept: the oldest ones that have ended.
    pub fn surplus_proofs(&self, shot: i64, spare: usize) -> Result<Vec<i64>, Fault> {
        let rows = self.proofs(shot)?;
        let spared = rows.iter().filter(|p| !p.kept && p.state != ProofState::Running && p.kind == ProofKind::Test);
        Ok(spared.skip(spare).map(|p| p.id).collect())
    }

    /// Tests that were running when the program ended the last time.
    pub fn orphaned_proofs(&self) -> Result<Vec<ProofRow>, Fault> {
        let db = self.db();
        let mut q = db.prepare(&format!("{PROOF} WHERE state = 'running'")).map_err(sql)?;
        let rows = q.query_map([], proof).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }
}
