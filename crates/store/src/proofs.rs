//! Proofs: kept tests, and the last tests that keep themselves for a while.

use crate::{Store, now, sql};
use fault::Fault;
use rusqlite::Row;

#[derive(Debug, Clone, PartialEq)]
pub struct ProofRow {
    pub id: i64,
    pub shot: i64,
    /// Counts the tests of a shot.
    pub number: i64,
    pub name: String,
    pub note: String,
    pub kept: bool,
    /// `running`, `done` or `stopped`.
    pub state: String,
    pub made: i64,
    /// JSON.
    pub description: String,
    /// JSON, once it has ended.
    pub report: Option<String>,
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
    })
}

const PROOF: &str = "SELECT id, shot, number, name, note, kept, state, made, description, report FROM proofs";

impl Store {
    /// Begins a proof that runs; its row.
    pub fn begin_proof(&self, shot: i64, description: &str) -> Result<ProofRow, Fault> {
        let mut db = self.db();
        let t = db.transaction().map_err(sql)?;
        t.execute(
            "INSERT INTO proofs (shot, number, name, note, kept, state, made, description)
             VALUES (?1, (SELECT coalesce(max(number), 0) + 1 FROM proofs WHERE shot = ?1), '', '', 0, 'running', ?2, ?3)",
            (shot, now(), description),
        )
        .map_err(sql)?;
        let id = t.last_insert_rowid();
        let row = t.query_row(&format!("{PROOF} WHERE id = ?1"), [id], proof).map_err(sql)?;
        t.commit().map_err(sql)?;
        Ok(row)
    }

    pub fn end_proof(&self, id: i64, state: &str, report: &str) -> Result<(), Fault> {
        self.db()
            .execute("UPDATE proofs SET state = ?2, report = ?3 WHERE id = ?1", (id, state, report))
            .map(|_| ())
            .map_err(sql)
    }

    pub fn label_proof(&self, id: i64, name: &str, note: &str, kept: bool) -> Result<(), Fault> {
        self.db()
            .execute("UPDATE proofs SET name = ?2, note = ?3, kept = ?4 WHERE id = ?1", (id, name, note, kept))
            .map(|_| ())
            .map_err(sql)
    }

    pub fn proof(&self, id: i64) -> Result<ProofRow, Fault> {
        self.db()
            .query_row(&format!("{PROOF} WHERE id = ?1"), [id], proof)
            .map_err(|e| sql(e).within(&format!("proof {id}")))
    }

    /// Newest first.
    pub fn proofs(&self, shot: i64) -> Result<Vec<ProofRow>, Fault> {
        let db = self.db();
        let mut q = db.prepare(&format!("{PROOF} WHERE shot = ?1 ORDER BY id DESC")).map_err(sql)?;
        let rows = q.query_map([shot], proof).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// Removes a proof with its files.
    pub fn delete_proof(&self, id: i64) -> Result<(), Fault> {
        self.db().execute("DELETE FROM proofs WHERE id = ?1", [id]).map_err(sql)?;
        let folder = self.proof_folder(id);
        match std::fs::remove_dir_all(&folder) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(Fault::io(folder.display().to_string(), &e)),
            _ => Ok(()),
        }
    }

    /// Proofs that must go so that at most `spare` of a shot remain unkept: the oldest ones that have ended.
    pub fn surplus_proofs(&self, shot: i64, spare: usize) -> Result<Vec<i64>, Fault> {
        let rows = self.proofs(shot)?;
        Ok(rows.iter().filter(|p| !p.kept && p.state != "running").skip(spare).map(|p| p.id).collect())
    }

    /// Tests that were running when the program ended the last time.
    pub fn orphaned_proofs(&self) -> Result<Vec<i64>, Fault> {
        let db = self.db();
        let mut q = db.prepare("SELECT id FROM proofs WHERE state = 'running'").map_err(sql)?;
        let rows = q.query_map([], |r| r.get(0)).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }
}
