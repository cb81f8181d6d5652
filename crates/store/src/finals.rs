//! Finals: the queue and what was delivered.

use crate::bin::{BinKind, binned, out_of_bin, seen};
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

/// They stand in the queue; they have ended.
const OPEN: &str = "state IN ('waiting', 'running', 'paused')";
const ENDED: &str = "state NOT IN ('waiting', 'running', 'paused')";
/// Those that have ended, the latest first.
const LATEST: &str = "ORDER BY ended DESC, id DESC";

/// A condition: neither it nor its shot lies in the bin.
fn shown() -> String {
    format!("{} AND {}", seen(BinKind::Final, "finals.id"), seen(BinKind::Shot, "finals.shot"))
}

/// The last ones of a shot that were delivered, the latest first.
fn newest_delivered() -> String {
    format!("shot = ?1 AND state = 'delivered' AND {} {LATEST} LIMIT ?2", shown())
}

/// A page of those that have ended, the latest first.
fn ended_page() -> String {
    format!("{ENDED} AND {} {LATEST} LIMIT ?2 OFFSET ?1", shown())
}

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
            out_of_bin(&t, f.shot)?;
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

    /// Takes a final up again that was paused or cancelled or has failed, with its task as it is then.
    pub fn resume_final(&self, id: i64, task: &str) -> Result<(), Fault> {
        let set = "fault = NULL, ended = NULL, task = ?4";
        self.enter_from(&FinalState::RESUMED, id, FinalState::Waiting, set, &[&task])
    }

    /// Puts a final back into the queue, where it waits for what the fault tells.
    pub fn hold_final(&self, id: i64, fault: &str) -> Result<(), Fault> {
        self.enter(id, FinalState::Waiting, "fault = ?4", &[&fault])
    }

    /// The same with more that changes.
    fn enter(&self, id: i64, state: FinalState, set: &str, values: &[&dyn rusqlite::ToSql]) -> Result<(), Fault> {
        self.enter_from(state.after(), id, state, set, values)
    }

    fn enter_from(
        &self,
        from: &[FinalState],
        id: i64,
        state: FinalState,
        set: &str,
        values: &[&dyn rusqlite::ToSql],
    ) -> Result<(), Fault> {
        let from: Vec<&str> = from.iter().map(|s| s.word()).collect();
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

    fn list(&self, what: &str, values: &[&dyn rusqlite::ToSql]) -> Result<Vec<FinalRow>, Fault> {
        let db = self.db();
        let mut q = db.prepare_cached(&format!("{FINAL} WHERE {what}")).map_err(sql)?;
        let rows = q.query_map(values, final_row).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// All that are not in the bin, in the order of the queue.
    pub fn finals(&self) -> Result<Vec<FinalRow>, Fault> {
        self.list(&format!("{} ORDER BY place, id", shown()), &[])
    }

    /// Those in the queue in its order, from one on, so many at the most.
    pub fn open_finals(&self, skip: u32, most: u32) -> Result<Vec<FinalRow>, Fault> {
        self.list(&format!("{OPEN} ORDER BY place, id LIMIT ?2 OFFSET ?1"), &[&skip, &most])
    }

    /// The one whose turn it is.
    pub fn next_in_queue(&self) -> Result<Option<FinalRow>, Fault> {
        let all = self.list(&format!("{OPEN} AND state <> 'paused' ORDER BY place, id LIMIT 1"), &[])?;
        Ok(all.into_iter().next())
    }

    /// Those that have ended, the latest first, from one on, so many at the most.
    pub fn ended_finals(&self, skip: u32, most: u32) -> Result<Vec<FinalRow>, Fault> {
        // Which ones is told by an index; whole rows are read of the page alone.
        self.list(&format!("id IN (SELECT id FROM finals WHERE {}) {LATEST}", ended_page()), &[&skip, &most])
    }

    /// How many stand in the queue, how many of them wait or run, and how many have ended.
    pub fn count_finals(&self) -> Result<[i64; 3], Fault> {
        // Counted are those in the queue, all, and those in the bin, each from its own side.
        let hidden = format!("{} OR {}", binned(BinKind::Final, "id"), binned(BinKind::Shot, "shot"));
        let open = format!("SELECT count(*) FROM finals INDEXED BY finals_open WHERE {OPEN}");
        let command = format!(
            "SELECT ({open}), ({open} AND state <> 'paused'),
                    (SELECT count(*) FROM finals) - ({open}) - (SELECT count(*) FROM finals WHERE {ENDED} AND ({hidden}))"
        );
        let db = self.db();
        let mut q = db.prepare_cached(&command).map_err(sql)?;
        q.query_row([], |r| Ok([r.get(0)?, r.get(1)?, r.get(2)?])).map_err(sql)
    }

    /// Places of a final's neighbours in the queue: of the two before it and the two after it, nearest first.
    pub fn places_beside(&self, of: &FinalRow) -> Result<[Vec<f64>; 2], Fault> {
        let db = self.db();
        let side = |after: bool| -> Result<Vec<f64>, Fault> {
            let (than, order) = if after { (">", "ASC") } else { ("<", "DESC") };
            let mut q = db
                .prepare_cached(&format!(
                    "SELECT place FROM finals WHERE {OPEN} AND (place, id) {than} (?1, ?2)
                     ORDER BY place {order}, id {order} LIMIT 2"
                ))
                .map_err(sql)?;
            q.query_map((of.place, of.id), |r| r.get(0)).map_err(sql)?.collect::<Result<_, _>>().map_err(sql)
        };
        Ok([side(false)?, side(true)?])
    }

    /// The first place of the queue, if anything stands in it.
    pub fn first_place(&self) -> Result<Option<f64>, Fault> {
        let command = format!("SELECT min(place) FROM finals WHERE {OPEN}");
        self.db().query_row(&command, [], |r| r.get(0)).map_err(sql)
    }

    /// Delivered ones of a description.
    pub fn delivered_finals(&self, shot: i64, description: &str) -> Result<Vec<FinalRow>, Fault> {
        let what = format!("shot = ?1 AND state = 'delivered' AND description = ?2 AND {}", shown());
        self.list(&what, &[&shot, &description])
    }

    /// The last ones of a shot that were delivered, the latest first.
    pub fn newest_delivered(&self, shot: i64, most: u32) -> Result<Vec<FinalRow>, Fault> {
        self.list(&newest_delivered(), &[&shot, &most])
    }

    /// Those whose files bear a name.
    pub fn named_finals(&self, base: &str) -> Result<Vec<FinalRow>, Fault> {
        self.list(&format!("base = ?1 AND {}", shown()), &[&base])
    }

    /// Forecasts and reports of the latest that were delivered at their threshold.
    pub fn held_forecasts(&self, most: u32) -> Result<Vec<(String, String)>, Fault> {
        let db = self.db();
        let mut q = db
            .prepare_cached(
                "SELECT forecast, report FROM finals WHERE state = 'delivered' AND to_threshold AND forecast IS NOT NULL
                 ORDER BY ended DESC LIMIT ?1",
            )
            .map_err(sql)?;
        let rows = q.query_map([most], |r| Ok((r.get(0)?, r.get(1)?))).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// Ids of a shot's finals.
    pub fn finals_of(&self, shot: i64) -> Result<Vec<i64>, Fault> {
        let db = self.db();
        let mut q =
            db.prepare_cached(&format!("SELECT id FROM finals WHERE shot = ?1 AND {}", shown())).map_err(sql)?;
        let rows = q.query_map([shot], |r| r.get(0)).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A page is read in the order of an index and nothing is sorted: with ten thousand finals it takes no longer than with ten.
    #[test]
    fn pages_of_finals_come_out_of_an_index_in_their_order() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let open = format!("{OPEN} ORDER BY place, id LIMIT ?2");
        for (what, index) in
            [(newest_delivered(), "finals_of_shot"), (open, "finals_open"), (ended_page(), "finals_ended")]
        {
            let db = store.db();
            let mut q = db.prepare(&format!("EXPLAIN QUERY PLAN SELECT id FROM finals WHERE {what}")).unwrap();
            let values = [1; 2];
            let values = rusqlite::params_from_iter(&values[..q.parameter_count()]);
            let steps: Vec<String> = q.query_map(values, |r| r.get(3)).unwrap().collect::<Result<_, _>>().unwrap();
            assert!(steps[0].contains(index), "{steps:?}");
            assert!(!steps.iter().any(|s| s.contains("TEMP B-TREE")), "{steps:?}");
        }
    }

    /// Each that has ended is counted once, whether it, its shot or both lie in the bin; those in the queue are counted in any case.
    #[test]
    fn what_lies_in_the_bin_has_not_ended() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        store
            .db()
            .execute_batch(
                "INSERT INTO scenes (hash, name, report, added) VALUES ('a', '', '{}', 1);
                 INSERT INTO shots (id, name, scene, camera, budget, revision) VALUES (1, '', 'a', '', 1, 1), (2, '', 'a', '', 1, 1);
                 INSERT INTO finals (id, shot, state, budget, description, files, made) VALUES
                   (1, 1, 'delivered', 1, '{}', '[]', 1), (2, 1, 'failed', 1, '{}', '[]', 1), (3, 2, 'delivered', 1, '{}', '[]', 1),
                   (4, 2, 'cancelled', 1, '{}', '[]', 1), (5, 2, 'paused', 1, '{}', '[]', 1), (6, 1, 'waiting', 1, '{}', '[]', 1);
                 INSERT INTO bin VALUES ('final', '1', '', 1, 1), ('final', '3', '', 1, 1), ('shot', '2', '', 1, 1), ('proof', '2', '', 1, 1);",
            )
            .unwrap();
        assert_eq!(store.count_finals().unwrap(), [2, 1, 1]);
        let ended: Vec<i64> = store.ended_finals(0, 10).unwrap().iter().map(|f| f.id).collect();
        assert_eq!(ended, [2]);
    }
}
