//! Advice that was taken, tried or dismissed.

use crate::{Store, now, sql};
use fault::Fault;
use rusqlite::Row;

#[derive(Debug, Clone, PartialEq)]
pub struct AdviceRow {
    pub id: i64,
    pub shot: i64,
    /// The advice as it was given, as JSON.
    pub advice: String,
    /// `applied`, `tried` or `dismissed`.
    pub state: String,
    /// The proof on which it rested.
    pub basis: i64,
    /// Proofs that show what came: without the change and with it.
    pub without: Option<i64>,
    pub with: Option<i64>,
}

fn advice(r: &Row) -> rusqlite::Result<AdviceRow> {
    Ok(AdviceRow {
        id: r.get(0)?,
        shot: r.get(1)?,
        advice: r.get(2)?,
        state: r.get(3)?,
        basis: r.get(4)?,
        without: r.get(5)?,
        with: r.get(6)?,
    })
}

impl Store {
    /// `row.id` is ignored; the new number.
    pub fn add_advice(&self, row: &AdviceRow) -> Result<i64, Fault> {
        let db = self.db();
        db.execute(
            "INSERT INTO advice (shot, advice, state, basis, proof_without, proof_with, made) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            (row.shot, &row.advice, &row.state, row.basis, row.without, row.with, now()),
        )
        .map_err(sql)?;
        Ok(db.last_insert_rowid())
    }

    /// What came of advice, and the proofs that show it.
    pub fn set_advice(&self, id: i64, advice: &str, without: Option<i64>, with: Option<i64>) -> Result<(), Fault> {
        let command = "UPDATE advice SET advice = ?2, proof_without = ?3, proof_with = ?4 WHERE id = ?1";
        self.db().execute(command, (id, advice, without, with)).map(drop).map_err(sql)
    }

    pub fn delete_advice(&self, id: i64) -> Result<(), Fault> {
        self.db().execute("DELETE FROM advice WHERE id = ?1", [id]).map(|_| ()).map_err(sql)
    }

    /// Newest first.
    pub fn advice(&self, shot: i64) -> Result<Vec<AdviceRow>, Fault> {
        let db = self.db();
        let mut q = db
            .prepare("SELECT id, shot, advice, state, basis, proof_without, proof_with FROM advice WHERE shot = ?1 ORDER BY id DESC")
            .map_err(sql)?;
        let rows = q.query_map([shot], advice).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }
}
