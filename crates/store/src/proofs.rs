//! Proofs: kept tests, and the last tests that keep themselves for a while.

use crate::bin::{BinKind, out_of_bin, seen};
use crate::{ProofKind, ProofState, Store, now, sql};
use fault::Fault;
use rusqlite::{OptionalExtension, Row, Transaction};
use serde::Serialize;
use ts_rs::TS;

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
    /// Phases and machine as JSON.
    pub circumstances: Option<String>,
}

/// A picture that stands for a shot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, TS)]
#[serde(tag = "kind", content = "id", rename_all = "snake_case")]
pub enum Showing {
    Proof(#[ts(type = "number")] i64),
    Final(#[ts(type = "number")] i64),
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
        circumstances: r.get(13)?,
    })
}

/// Proofs that are read at once where only some are looked at.
const PAGE: u32 = 16;

/// A condition: it does not lie in the bin.
fn shown() -> String {
    seen(BinKind::Proof, "proofs.id")
}

const PROOF: &str = "SELECT id, shot, number, name, note, kept, state, made, description, report, kind, star, bytes,
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
        out_of_bin(&t, shot)?;
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

    /// Bytes of all proofs, those included that can still be brought back.
    pub fn proof_bytes(&self) -> Result<i64, Fault> {
        self.db().query_row("SELECT coalesce(sum(bytes), 0) FROM proofs", [], |r| r.get(0)).map_err(sql)
    }

    /// Bytes of a shot's proofs.
    pub fn proof_bytes_of(&self, shot: i64) -> Result<i64, Fault> {
        let command = "SELECT coalesce(sum(bytes), 0) FROM proofs WHERE shot = ?1";
        self.db().query_row(command, [shot], |r| r.get(0)).map_err(sql)
    }

    /// Unkept proofs of all shots that have ended, oldest first.
    pub fn unkept_proofs(&self) -> Result<Vec<ProofRow>, Fault> {
        let db = self.db();
        let mut q = db
            .prepare(&format!(
                "{PROOF} WHERE kept = 0 AND state <> 'running' AND kind = 'test' AND {} ORDER BY id",
                shown()
            ))
            .map_err(sql)?;
        let rows = q.query_map([], proof).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    pub fn proof(&self, id: i64) -> Result<ProofRow, Fault> {
        self.db()
            .query_row(&format!("{PROOF} WHERE id = ?1"), [id], proof)
            .map_err(|e| sql(e).within(&format!("proof {id}")))
    }

    /// Newest first, without those in the bin.
    pub fn proofs(&self, shot: i64) -> Result<Vec<ProofRow>, Fault> {
        self.proofs_before(shot, i64::MAX, u32::MAX)
    }

    /// The same, of a page: those older than one, so many at the most.
    pub fn proofs_before(&self, shot: i64, id: i64, most: u32) -> Result<Vec<ProofRow>, Fault> {
        let db = self.db();
        let mut q = db
            .prepare_cached(&format!("{PROOF} WHERE shot = ?1 AND id < ?2 AND {} ORDER BY id DESC LIMIT ?3", shown()))
            .map_err(sql)?;
        let rows = q.query_map((shot, id, most), proof).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// The same one after the other, of which no more are read than are looked at.
    pub fn each_proof(&self, shot: i64) -> impl Iterator<Item = Result<ProofRow, Fault>> + '_ {
        let mut last = i64::MAX;
        let mut page = Vec::new().into_iter();
        std::iter::from_fn(move || {
            if page.len() == 0 {
                match self.proofs_before(shot, last, PAGE) {
                    Ok(rows) => page = rows.into_iter(),
                    Err(f) => return Some(Err(f)),
                }
            }
            page.next().inspect(|p| last = p.id).map(Ok)
        })
        .fuse()
    }

    pub fn count_proofs(&self, shot: i64) -> Result<i64, Fault> {
        self.db()
            .query_row(&format!("SELECT count(*) FROM proofs WHERE shot = ?1 AND {}", shown()), [shot], |r| r.get(0))
            .map_err(sql)
    }

    /// What shows a shot at a glance: its newest whole picture, a delivered final or a test; without one the newest region, and a
    /// pilot's squares if there is nothing else.
    pub fn showing(&self, shot: i64) -> Result<Option<Showing>, Fault> {
        let delivered = self.newest_delivered(shot, 1)?.pop();
        let db = self.db();
        let newest = |of: &str| {
            let which = format!("shot = ?1 AND state <> 'running' AND {of} AND {}", shown());
            let command = format!("SELECT id, made FROM proofs WHERE {which} ORDER BY id DESC LIMIT 1");
            let mut q = db.prepare_cached(&command).map_err(sql)?;
            q.query_row([shot], |r| Ok((r.get::<_, i64>(0)?, r.get::<_, i64>(1)?))).optional().map_err(sql)
        };
        let whole = newest("whole IS TRUE AND kind NOT IN ('picture', 'pilot', 'trial')")?;
        if let Some(f) = delivered.filter(|f| whole.is_none_or(|(_, made)| f.ended.unwrap_or(f.made) >= made)) {
            return Ok(Some(Showing::Final(f.id)));
        }
        let otherwise = || match newest("whole IS FALSE AND kind NOT IN ('picture', 'trial')")? {
            None => newest("kind = 'pilot'"),
            region => Ok(region),
        };
        let proof = if whole.is_some() { whole } else { otherwise()? };
        Ok(proof.map(|(id, _)| Showing::Proof(id)))
    }

    pub fn proofs_of_kind(&self, kind: ProofKind) -> Result<Vec<i64>, Fault> {
        let db = self.db();
        let mut q = db.prepare("SELECT id FROM proofs WHERE kind = ?1").map_err(sql)?;
        let rows = q.query_map([kind], |r| r.get(0)).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// Proofs that must go so that at most `spare` of a shot remain unkept: the oldest ones that have ended.
    pub fn surplus_proofs(&self, shot: i64, spare: usize) -> Result<Vec<i64>, Fault> {
        let db = self.db();
        let command = format!(
            "SELECT id FROM proofs WHERE shot = ?1 AND kept = 0 AND state <> 'running' AND kind = 'test' AND {}
             ORDER BY id DESC LIMIT -1 OFFSET ?2",
            shown()
        );
        let mut q = db.prepare(&command).map_err(sql)?;
        let rows = q.query_map((shot, spare as i64), |r| r.get(0)).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// Tests that were running when the program ended the last time.
    pub fn orphaned_proofs(&self) -> Result<Vec<ProofRow>, Fault> {
        let db = self.db();
        let mut q = db.prepare(&format!("{PROOF} WHERE state = 'running'")).map_err(sql)?;
        let rows = q.query_map([], proof).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }
}
