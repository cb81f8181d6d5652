//! Draft overlays and presets.

use crate::bin::{BinKind, seen};
use crate::{Store, now, sql};
use fault::Fault;
use rusqlite::Row;

#[derive(Debug, Clone, PartialEq)]
pub struct PartialRow {
    pub id: i64,
    /// `overlay` or `preset`.
    pub kind: String,
    pub name: String,
    pub note: String,
    /// Values by knob id as JSON.
    pub chosen: String,
    /// Came with the program.
    pub shipped: bool,
}

fn partial(r: &Row) -> rusqlite::Result<PartialRow> {
    Ok(PartialRow {
        id: r.get(0)?,
        kind: r.get(1)?,
        name: r.get(2)?,
        note: r.get(3)?,
        chosen: r.get(4)?,
        shipped: r.get(5)?,
    })
}

const PARTIAL: &str = "SELECT id, kind, name, note, chosen, shipped FROM partials";

impl Store {
    /// `row.id` is ignored.
    pub fn add_partial(&self, row: &PartialRow) -> Result<i64, Fault> {
        let db = self.db();
        db.execute(
            "INSERT INTO partials (kind, name, note, chosen, shipped, made) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            (&row.kind, &row.name, &row.note, &row.chosen, row.shipped, now()),
        )
        .map_err(sql)?;
        Ok(db.last_insert_rowid())
    }

    pub fn update_partial(&self, row: &PartialRow) -> Result<(), Fault> {
        self.db()
            .execute(
                "UPDATE partials SET name = ?2, note = ?3, chosen = ?4 WHERE id = ?1",
                (row.id, &row.name, &row.note, &row.chosen),
            )
            .map(|_| ())
            .map_err(sql)
    }

    pub fn partial(&self, id: i64) -> Result<PartialRow, Fault> {
        self.db()
            .query_row(&format!("{PARTIAL} WHERE id = ?1"), [id], partial)
            .map_err(|e| sql(e).within(&format!("overlay or preset {id}")))
    }

    /// In the order in which they were made, shipped ones first.
    pub fn partials(&self) -> Result<Vec<PartialRow>, Fault> {
        let db = self.db();
        let shown = seen(BinKind::Partial, "partials.id");
        let mut q = db.prepare(&format!("{PARTIAL} WHERE {shown} ORDER BY shipped DESC, id")).map_err(sql)?;
        let rows = q.query_map([], partial).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }
}
