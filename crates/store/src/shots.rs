//! Scenes, environments, shots and the revisions of their tunings.

use crate::{Store, now, sql};
use fault::Fault;
use rusqlite::Row;

#[derive(Debug, Clone, PartialEq)]
pub struct SceneRow {
    pub hash: String,
    pub name: String,
    /// Import report as JSON.
    pub report: String,
}

#[derive(Debug, Clone, PartialEq)]
pub struct EnvironmentRow {
    pub hash: String,
    pub name: String,
}

#[derive(Debug, Clone, PartialEq)]
pub struct ShotRow {
    pub id: i64,
    pub name: String,
    pub scene: String,
    pub environment: Option<String>,
    pub camera: String,
    /// Seconds of render time.
    pub budget: f64,
    /// Number of the revision in force.
    pub revision: i64,
}

/// A state of a shot's tuning. Revisions form a tree: undo goes to the parent, redo to the newest child; none is deleted.
#[derive(Debug, Clone, PartialEq)]
pub struct RevisionRow {
    pub number: i64,
    pub parent: i64,
    /// JSON.
    pub tuning: String,
    /// What changed, in words.
    pub change: String,
    pub made: i64,
}

fn shot(r: &Row) -> rusqlite::Result<ShotRow> {
    Ok(ShotRow {
        id: r.get(0)?,
        name: r.get(1)?,
        scene: r.get(2)?,
        environment: r.get(3)?,
        camera: r.get(4)?,
        budget: r.get(5)?,
        revision: r.get(6)?,
    })
}

fn revision(r: &Row) -> rusqlite::Result<RevisionRow> {
    Ok(RevisionRow { number: r.get(0)?, parent: r.get(1)?, tuning: r.get(2)?, change: r.get(3)?, made: r.get(4)? })
}

const SHOT: &str = "SELECT id, name, scene, environment, camera, budget, revision FROM shots";
const REVISION: &str = "SELECT number, parent, tuning, change, made FROM revisions WHERE shot = ?1";

impl Store {
    pub fn add_scene(&self, row: &SceneRow) -> Result<(), Fault> {
        self.db()
            .execute(
                "INSERT OR REPLACE INTO scenes VALUES (?1, ?2, ?3, ?4)",
                (&row.hash, &row.name, &row.report, now()),
            )
            .map(|_| ())
            .map_err(sql)
    }

    pub fn scenes(&self) -> Result<Vec<SceneRow>, Fault> {
        let db = self.db();
        let mut q = db.prepare("SELECT hash, name, report FROM scenes ORDER BY added").map_err(sql)?;
        let rows =
            q.query_map([], |r| Ok(SceneRow { hash: r.get(0)?, name: r.get(1)?, report: r.get(2)? })).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    pub fn add_environment(&self, row: &EnvironmentRow) -> Result<(), Fault> {
        self.db()
            .execute("INSERT OR REPLACE INTO environments VALUES (?1, ?2, ?3)", (&row.hash, &row.name, now()))
            .map(|_| ())
            .map_err(sql)
    }

    pub fn environments(&self) -> Result<Vec<EnvironmentRow>, Fault> {
        let db = self.db();
        let mut q = db.prepare("SELECT hash, name FROM environments ORDER BY added").map_err(sql)?;
        let rows = q.query_map([], |r| Ok(EnvironmentRow { hash: r.get(0)?, name: r.get(1)? })).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// Adds a shot with its first revision; `row.id` and `row.revision` are ignored.
    pub fn add_shot(&self, row: &ShotRow, tuning: &str) -> Result<i64, Fault> {
        let mut db = self.db();
        let t = db.transaction().map_err(sql)?;
        t.execute(
            "INSERT INTO shots (name, scene, environment, camera, budget, revision) VALUES (?1, ?2, ?3, ?4, ?5, 1)",
            (&row.name, &row.scene, &row.environment, &row.camera, row.budget),
        )
        .map_err(sql)?;
        let id = t.last_insert_rowid();
        t.execute("INSERT INTO revisions VALUES (?1, 1, 0, ?2, 'first tuning', ?3)", (id, tuning, now()))
            .map_err(sql)?;
        t.commit().map_err(sql)?;
        Ok(id)
    }

    pub fn shots(&self) -> Result<Vec<ShotRow>, Fault> {
        let db = self.db();
        let mut q = db.prepare(&format!("{SHOT} ORDER BY id")).map_err(sql)?;
        let rows = q.query_map([], shot).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    pub fn shot(&self, id: i64) -> Result<ShotRow, Fault> {
        self.db()
            .query_row(&format!("{SHOT} WHERE id = ?1"), [id], shot)
            .map_err(|e| sql(e).within(&format!("shot {id}")))
    }

    /// Stores name, camera and budget.
    pub fn update_shot(&self, row: &ShotRow) -> Result<(), Fault> {
        self.db()
            .execute(
                "UPDATE shots SET name = ?2, camera = ?3, budget = ?4, environment = ?5 WHERE id = ?1",
                (row.id, &row.name, &row.camera, row.budget, &row.environment),
            )
            .map(|_| ())
            .map_err(sql)
    }

    pub fn revisions(&self, shot: i64) -> Result<Vec<RevisionRow>, Fault> {
        let db = self.db();
        let mut q = db.prepare(&format!("{REVISION} ORDER BY number DESC")).map_err(sql)?;
        let rows = q.query_map([shot], revision).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    pub fn revision(&self, shot: i64, number: i64) -> Result<RevisionRow, Fault> {
        self.db().query_row(&format!("{REVISION} AND number = ?2"), (shot, number), revision).map_err(sql)
    }

    /// Adds a revision after the one in force and puts it in force; its number.
    pub fn revise(&self, shot: i64, tuning: &str, change: &str) -> Result<i64, Fault> {
        let mut db = self.db();
        let t = db.transaction().map_err(sql)?;
        let (parent, last): (i64, i64) = t
            .query_row(
                "SELECT revision, (SELECT max(number) FROM revisions WHERE shot = ?1) FROM shots WHERE id = ?1",
                [shot],
                |r| Ok((r.get(0)?, r.get(1)?)),
            )
            .map_err(sql)?;
        let number = last + 1;
        t.execute(
            "INSERT INTO revisions VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            (shot, number, parent, tuning, change, now()),
        )
        .map_err(sql)?;
        t.execute("UPDATE shots SET revision = ?2 WHERE id = ?1", (shot, number)).map_err(sql)?;
        t.commit().map_err(sql)?;
        Ok(number)
    }

    /// Where undo and redo would go from the revision in force.
    pub fn neighbours(&self, shot: i64) -> Result<(Option<i64>, Option<i64>), Fault> {
        self.db()
            .query_row(
                "SELECT (SELECT parent FROM revisions WHERE shot = s.id AND number = s.revision AND parent > 0),
                        (SELECT max(number) FROM revisions WHERE shot = s.id AND parent = s.revision)
                 FROM shots s WHERE id = ?1",
                [shot],
                |r| Ok((r.get(0)?, r.get(1)?)),
            )
            .map_err(sql)
    }

    /// Puts an existing revision in force.
    pub fn go_to_revision(&self, shot: i64, number: i64) -> Result<(), Fault> {
        self.revision(shot, number)?;
        self.db().execute("UPDATE shots SET revision = ?2 WHERE id = ?1", (shot, number)).map(|_| ()).map_err(sql)
    }
}
