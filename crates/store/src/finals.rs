//! Finals: the queue and what was delivered.

use crate::{FinalState, Policy, Store, now, sql};
use fault::{Code, Fault};
use rusqlite::Row;

#[derive(Debug, Clone, PartialEq)]
pub struct FinalRow {
    pub id: i64,
    pub shot: i64,
    pub state: FinalState,
    pub policy: Policy,
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

/// What a mere change of state does beside it.
const CLEAR: &str = "fault = NULL";

/// What a final begins with.
#[derive(Clone, Copy)]
pub struct NewFinalRow<'a> {
    pub shot: i64,
    pub budget: f64,
    pub policy: Policy,
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

    /// Puts finals at the end of the queue, all or none; their ids.
    pub fn add_finals(&self, list: &[NewFinalRow]) -> Result<Vec<i64>, Fault> {
        let mut db = self.db();
        let t = db.transaction().map_err(sql)?;
        let mut ids = Vec::new();
        for f in list {
            t.execute(
                "INSERT INTO finals (shot, state, budget, policy, description, forecast, files, made, task, place)
                 VALUES (?1, ?8, ?2, ?3, ?4, ?5, '[]', ?6, ?7, (SELECT coalesce(max(place), 0) + 1 FROM finals))",
                (f.shot, f.budget, f.policy, f.description, f.forecast, now(), f.task, FinalState::Waiting),
            )
            .map_err(sql)?;
            ids.push(t.last_insert_rowid());
        }
        t.commit().map_err(sql)?;
        Ok(ids)
    }

    pub fn set_final_place(&self, id: i64, place: f64) -> Result<(), Fault> {
        self.db().execute("UPDATE finals SET place = ?2 WHERE id = ?1", (id, place)).map(|_| ()).map_err(sql)
    }

    /// Puts a final that was delivered into the queue again with another task.
    pub fn reopen_final(&self, id: i64, task: &str) -> Result<(), Fault> {
        self.enter(id, FinalState::Waiting, "task = ?4, fault = NULL, ended = NULL", &[&task])
    }

    pub fn set_final_description(&self, id: i64, description: &str) -> Result<(), Fault> {
        self.db()
            .execute("UPDATE finals SET description = ?2 WHERE id = ?1", (id, description))
            .map(|_| ())
            .map_err(sql)
    }

    /// Brings a final into a state, if it may come there from where it is: of two that want it elsewhere one is told that it came
    /// too late.
    pub fn set_final_state(&self, id: i64, state: FinalState) -> Result<(), Fault> {
        self.enter(id, state, CLEAR, &[])
    }

    /// Puts a final back into the queue, where it waits for what the fault tells.
    pub fn hold_final(&self, id: i64, fault: &str) -> Result<(), Fault> {
        self.enter(id, FinalState::Waiting, "fault = ?4", &[&fault])
    }

    /// The same with more that changes.
    fn enter(&self, id: i64, state: FinalState, set: &str, values: &[&dyn rusqlite::ToSql]) -> Result<(), Fault> {
        let from: Vec<&str> = state.after().iter().map(|s| s.word()).collect();
        let command =
            format!("UPDATE finals SET state = ?2, {set} WHERE id = ?1 AND instr(?3, ',' || state || ',') > 0");
        let from = format!(",{},", from.join(","));
        let mut all: Vec<&dyn rusqlite::ToSql> = vec![&id, &state, &from];
        all.extend(values);
        if self.db().execute(&command, all.as_slice()).map_err(sql)? == 1 {
            return Ok(());
        }
        let now = self.one_final(id)?.state;
        // Somebody else wanted the same.
        if now == state && set == CLEAR {
            return Ok(());
        }
        let what = format!("a final that is {} cannot become {}", now.word(), state.word());
        Err(Fault::new(Code::Busy, what, format!("final {id}"), "look at the queue again: it has changed meanwhile"))
    }

    pub fn end_final(
        &self,
        id: i64,
        state: FinalState,
        report: Option<&str>,
        files: &str,
        fault: Option<&str>,
    ) -> Result<(), Fault> {
        self.enter(id, state, "report = ?4, files = ?5, fault = ?6, ended = ?7", &[&report, &files, &fault, &now()])
    }

    /// Ends a top-up that came to nothing: what was delivered before stands.
    pub fn keep_final(&self, id: i64, fault: Option<&str>) -> Result<(), Fault> {
        self.enter(id, FinalState::Delivered, "fault = ?4, ended = ?5", &[&fault, &now()])
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
