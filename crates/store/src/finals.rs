//! Finals: the queue and what was delivered.

use crate::{Store, now, sql};
use fault::Fault;
use rusqlite::Row;

#[derive(Debug, Clone, PartialEq)]
pub struct FinalRow {
    pub id: i64,
    pub shot: i64,
    /// `waiting`, `running`, `paused`, `delivered`, `cancelled` or `failed`.
    pub state: String,
    /// `cleanness` or `time`.
    pub policy: String,
    /// Place in the queue: lower ones come first.
    pub place: f64,
    /// JSON: which frame of a series it is, what is to be topped up.
    pub task: String,
    pub budget: f64,
    /// JSON.
    pub description: String,
    /// JSON of the forecast at the start, if there was one.
    pub forecast: Option<String>,
    pub report: Option<String>,
    /// JSON list of file names.
    pub files: String,
    /// JSON.
    pub fault: Option<String>,
    pub made: i64,
    pub ended: Option<i64>,
}

fn final_row(r: &Row) -> rusqlite::Result<FinalRow> {
    Ok(FinalRow {
        id: r.get(0)?,
        shot: r.get(1)?,
        state: r.get(2)?,
        budget: r.get(3)?,
        description: r.get(4)?,
        forecast: r.get(5)?,
        report: r.get(6)?,
        files: r.get(7)?,
        fault: r.get(8)?,
        made: r.get(9)?,
        ended: r.get(10)?,
        policy: r.get(11)?,
        place: r.get(12)?,
        task: r.get(13)?,
    })
}

const FINAL: &str =
    "SELECT id, shot, state, budget, description, forecast, report, files, fault, made, ended, policy, place, task
     FROM finals";

/// What a final begins with.
pub struct NewFinalRow<'a> {
    pub shot: i64,
    pub budget: f64,
    pub policy: &'a str,
    /// JSON.
    pub description: &'a str,
    pub forecast: Option<&'a str>,
    pub task: &'a str,
}

impl Store {
    /// The id that the next final will have.
    pub fn next_final(&self) -> Result<i64, Fault> {
        self.db().query_row("SELECT coalesce(max(id), 0) + 1 FROM finals", [], |r| r.get(0)).map_err(sql)
    }

    /// At the end of the queue.
    pub fn add_final(&self, f: &NewFinalRow) -> Result<i64, Fault> {
        let db = self.db();
        db.execute(
            "INSERT INTO finals (shot, state, budget, policy, description, forecast, files, made, task, place)
             VALUES (?1, 'waiting', ?2, ?3, ?4, ?5, '[]', ?6, ?7, (SELECT coalesce(max(place), 0) + 1 FROM finals))",
            (f.shot, f.budget, f.policy, f.description, f.forecast, now(), f.task),
        )
        .map_err(sql)?;
        Ok(db.last_insert_rowid())
    }

    pub fn set_final_place(&self, id: i64, place: f64) -> Result<(), Fault> {
        self.db().execute("UPDATE finals SET place = ?2 WHERE id = ?1", (id, place)).map(|_| ()).map_err(sql)
    }

    /// Puts a final into the queue again with another task.
    pub fn reopen_final(&self, id: i64, task: &str) -> Result<(), Fault> {
        self.db()
            .execute(
                "UPDATE finals SET state = 'waiting', task = ?2, fault = NULL, ended = NULL WHERE id = ?1",
                (id, task),
            )
            .map(|_| ())
            .map_err(sql)
    }

    pub fn set_final_description(&self, id: i64, description: &str) -> Result<(), Fault> {
        self.db()
            .execute("UPDATE finals SET description = ?2 WHERE id = ?1", (id, description))
            .map(|_| ())
            .map_err(sql)
    }

    pub fn set_final_state(&self, id: i64, state: &str) -> Result<(), Fault> {
        self.db().execute("UPDATE finals SET state = ?2 WHERE id = ?1", (id, state)).map(|_| ()).map_err(sql)
    }

    pub fn end_final(
        &self,
        id: i64,
        state: &str,
        report: Option<&str>,
        files: &str,
        fault: Option<&str>,
    ) -> Result<(), Fault> {
        self.db()
            .execute(
                "UPDATE finals SET state = ?2, report = ?3, files = ?4, fault = ?5, ended = ?6 WHERE id = ?1",
                (id, state, report, files, fault, now()),
            )
            .map(|_| ())
            .map_err(sql)
    }

    /// Ends a top-up that came to nothing: what was delivered before stands.
    pub fn keep_final(&self, id: i64, fault: Option<&str>) -> Result<(), Fault> {
        self.db()
            .execute("UPDATE finals SET state = 'delivered', fault = ?2, ended = ?3 WHERE id = ?1", (id, fault, now()))
            .map(|_| ())
            .map_err(sql)
    }

    pub fn one_final(&self, id: i64) -> Result<FinalRow, Fault> {
        self.db()
            .query_row(&format!("{FINAL} WHERE id = ?1"), [id], final_row)
            .map_err(|e| sql(e).within(&format!("final {id}")))
    }

    /// In the order of the queue.
    pub fn finals(&self) -> Result<Vec<FinalRow>, Fault> {
        let db = self.db();
        let mut q = db.prepare(&format!("{FINAL} ORDER BY place, id")).map_err(sql)?;
        let rows = q.query_map([], final_row).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// Removes a final with its files.
    pub fn delete_final(&self, id: i64) -> Result<(), Fault> {
        self.db().execute("DELETE FROM finals WHERE id = ?1", [id]).map_err(sql)?;
        let folder = self.final_folder(id);
        match std::fs::remove_dir_all(&folder) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(Fault::io(folder.display().to_string(), &e)),
            _ => Ok(()),
        }
    }
}
