//! Scenes, environments, shots and the revisions of their tunings.

use crate::bin::{BinKind, out_of_bin, seen};
use crate::proofs::add_proof;
use crate::{NewProofRow, Store, now, sql};
use fault::Fault;
use rusqlite::{OptionalExtension, Row, Transaction};
use std::collections::HashMap;
use std::path::Path;

#[derive(Debug, Clone, PartialEq)]
pub struct SceneRow {
    pub hash: String,
    pub name: String,
    /// Import report as JSON.
    pub report: String,
    /// Main file inside the scene's folder; empty for a single GLB.
    pub file: String,
}

#[derive(Debug, Clone, PartialEq)]
pub struct EnvironmentRow {
    pub hash: String,
    pub name: String,
    /// Stored with 8 bits a channel, so that highlights are clipped.
    pub eight_bit: bool,
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
    pub archived: bool,
    /// Shot edits as JSON.
    pub edits: String,
    /// Counts the changes of the row: who changes it tells which one was read.
    pub stamp: i64,
}

/// What becomes of a shot in one step.
pub struct ShotChangeRow<'a> {
    /// The row as it is to be; its stamp is the one that was read.
    pub row: &'a ShotRow,
    /// A new revision: its tuning and what changed, in words.
    pub revision: Option<(&'a str, &'a str)>,
}

/// A state of a shot: its tuning, camera, budget and edits. Revisions form a tree: undo goes to the parent, redo to the newest child; none is deleted.
#[derive(Debug, Clone, PartialEq)]
pub struct RevisionRow {
    pub number: i64,
    pub parent: i64,
    /// JSON.
    pub tuning: String,
    /// What changed, in words.
    pub change: String,
    pub made: i64,
    /// None in revisions made before these were part of them.
    pub camera: Option<String>,
    pub budget: Option<f64>,
    pub edits: Option<String>,
    /// Given by the artist; empty without one.
    pub name: String,
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
        archived: r.get(7)?,
        edits: r.get(8)?,
        stamp: r.get(9)?,
    })
}

fn scene(r: &Row) -> rusqlite::Result<SceneRow> {
    Ok(SceneRow { hash: r.get(0)?, name: r.get(1)?, report: r.get(2)?, file: r.get(3)? })
}

fn environment(r: &Row) -> rusqlite::Result<EnvironmentRow> {
    Ok(EnvironmentRow { hash: r.get(0)?, name: r.get(1)?, eight_bit: r.get(2)? })
}

fn revision(r: &Row) -> rusqlite::Result<RevisionRow> {
    Ok(RevisionRow {
        number: r.get(0)?,
        parent: r.get(1)?,
        tuning: r.get(2)?,
        change: r.get(3)?,
        made: r.get(4)?,
        camera: r.get(5)?,
        budget: r.get(6)?,
        name: r.get(7)?,
        edits: r.get(8)?,
    })
}

const SCENE: &str = "SELECT hash, name, report, file FROM scenes";
const ENVIRONMENT: &str = "SELECT hash, name, eight_bit FROM environments";
const SHOT: &str = "SELECT id, name, scene, environment, camera, budget, revision, archived, edits, stamp FROM shots";
const REVISION: &str =
    "SELECT number, parent, tuning, change, made, camera, budget, name, edits FROM revisions WHERE shot = ?1";
const INSERT_REVISION: &str =
    "INSERT INTO revisions (shot, number, parent, tuning, change, made, camera, budget, edits)
     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";

fn revise(t: &Transaction, shot: i64, tuning: &str, change: &str) -> Result<i64, Fault> {
    let (parent, last, camera, budget, edits): (i64, i64, String, f64, String) = t
        .query_row(
            "SELECT revision, (SELECT max(number) FROM revisions WHERE shot = ?1), camera, budget, edits
             FROM shots WHERE id = ?1",
            [shot],
            |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?)),
        )
        .map_err(sql)?;
    let number = last + 1;
    t.execute(INSERT_REVISION, (shot, number, parent, tuning, change, now(), camera, budget, edits)).map_err(sql)?;
    t.execute("UPDATE shots SET revision = ?2, stamp = stamp + 1 WHERE id = ?1", (shot, number)).map_err(sql)?;
    Ok(number)
}

impl Store {
    pub fn add_scene(&self, row: &SceneRow) -> Result<(), Fault> {
        self.db()
            .execute(
                "INSERT INTO scenes (hash, name, report, added, file) VALUES (?1, ?2, ?3, ?4, ?5)
                 ON CONFLICT(hash) DO UPDATE SET name = ?2, report = ?3, file = ?5",
                (&row.hash, &row.name, &row.report, now(), &row.file),
            )
            .map_err(sql)?;
        self.take_from_bin(BinKind::Scene, &row.hash)
    }

    pub fn scenes(&self) -> Result<Vec<SceneRow>, Fault> {
        let db = self.db();
        let mut q = db
            .prepare(&format!("{SCENE} WHERE {} ORDER BY added", seen(BinKind::Scene, "scenes.hash")))
            .map_err(sql)?;
        let rows = q.query_map([], scene).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// One scene, also from the bin.
    pub fn scene(&self, hash: &str) -> Result<Option<SceneRow>, Fault> {
        self.db().query_row(&format!("{SCENE} WHERE hash = ?1"), [hash], scene).optional().map_err(sql)
    }

    pub fn add_environment(&self, row: &EnvironmentRow) -> Result<(), Fault> {
        self.db()
            .execute(
                "INSERT INTO environments (hash, name, added, eight_bit) VALUES (?1, ?2, ?3, ?4)
                 ON CONFLICT(hash) DO UPDATE SET name = ?2, eight_bit = ?4",
                (&row.hash, &row.name, now(), row.eight_bit),
            )
            .map_err(sql)?;
        self.take_from_bin(BinKind::Environment, &row.hash)
    }

    pub fn environments(&self) -> Result<Vec<EnvironmentRow>, Fault> {
        let db = self.db();
        let shown = seen(BinKind::Environment, "environments.hash");
        let mut q = db.prepare(&format!("{ENVIRONMENT} WHERE {shown} ORDER BY added")).map_err(sql)?;
        let rows = q.query_map([], environment).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    /// One environment, also from the bin.
    pub fn environment(&self, hash: &str) -> Result<Option<EnvironmentRow>, Fault> {
        self.db().query_row(&format!("{ENVIRONMENT} WHERE hash = ?1"), [hash], environment).optional().map_err(sql)
    }

    /// Adds a shot with its first revision; `row.id` and `row.revision` are ignored.
    pub fn add_shot(&self, row: &ShotRow, tuning: &str) -> Result<i64, Fault> {
        self.add_shot_whole(row, tuning, &[], |_, _| Ok(()))
    }

    /// Adds a shot with kept proofs, all or nothing: `place` puts the files of a proof, by its place in the list, into its folder.
    pub fn add_shot_whole(
        &self,
        row: &ShotRow,
        tuning: &str,
        proofs: &[NewProofRow],
        mut place: impl FnMut(usize, &Path) -> Result<(), Fault>,
    ) -> Result<i64, Fault> {
        let mut db = self.db();
        let t = db.transaction().map_err(sql)?;
        t.execute(
            "INSERT INTO shots (name, scene, environment, camera, budget, edits, tests, revision)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, 1)",
            (&row.name, &row.scene, &row.environment, &row.camera, row.budget, &row.edits, proofs.len() as i64),
        )
        .map_err(sql)?;
        let id = t.last_insert_rowid();
        // What it is made of is in use again.
        for (kind, key) in [(BinKind::Scene, Some(&row.scene)), (BinKind::Environment, row.environment.as_ref())] {
            t.execute("DELETE FROM bin WHERE kind = ?1 AND key = ?2", (kind, key)).map_err(sql)?;
        }
        t.execute(INSERT_REVISION, (id, 1, 0, tuning, "first tuning", now(), &row.camera, row.budget, &row.edits))
            .map_err(sql)?;
        let mut folders = Vec::new();
        let done = (|| {
            for (k, p) in proofs.iter().enumerate() {
                let proof = add_proof(&t, id, k as i64 + 1, p)?;
                folders.push(self.proof_folder(proof));
                place(k, &folders[k])?;
            }
            Ok(())
        })();
        if let Err(f) = done.and_then(|()| t.commit().map_err(sql)) {
            folders.iter().for_each(|folder| drop(std::fs::remove_dir_all(folder)));
            return Err(f);
        }
        Ok(id)
    }

    /// Those that are not in the bin.
    pub fn shots(&self) -> Result<Vec<ShotRow>, Fault> {
        let db = self.db();
        let mut q =
            db.prepare(&format!("{SHOT} WHERE {} ORDER BY id", seen(BinKind::Shot, "shots.id"))).map_err(sql)?;
        let rows = q.query_map([], shot).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }

    pub fn shot(&self, id: i64) -> Result<ShotRow, Fault> {
        self.db()
            .query_row(&format!("{SHOT} WHERE id = ?1"), [id], shot)
            .map_err(|e| sql(e).within(&format!("shot {id}")))
    }

    /// Changes a shot with its revision, both or neither, if it is still as it was read; false where somebody else was faster.
    pub fn change_shot(&self, change: &ShotChangeRow) -> Result<bool, Fault> {
        let row = change.row;
        let mut db = self.db();
        let t = db.transaction().map_err(sql)?;
        out_of_bin(&t, row.id)?;
        let changed = t
            .execute(
                "UPDATE shots SET name = ?2, camera = ?3, budget = ?4, environment = ?5, archived = ?6, edits = ?7,
                   stamp = stamp + 1 WHERE id = ?1 AND stamp = ?8",
                (row.id, &row.name, &row.camera, row.budget, &row.environment, row.archived, &row.edits, row.stamp),
            )
            .map_err(sql)?;
        if changed == 0 {
            drop(t);
            drop(db);
            return self.shot(row.id).map(|_| false);
        }
        if let Some((tuning, words)) = change.revision {
            revise(&t, row.id, tuning, words)?;
        }
        t.commit().map_err(sql)?;
        Ok(true)
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

    /// Names of all shots, also of those in the bin.
    pub fn shot_names(&self) -> Result<HashMap<i64, String>, Fault> {
        let db = self.db();
        let mut q = db.prepare_cached("SELECT id, name FROM shots").map_err(sql)?;
        let rows = q.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
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

    /// Puts an existing revision in force, with its camera and budget.
    pub fn go_to_revision(&self, shot: i64, number: i64) -> Result<(), Fault> {
        let r = self.revision(shot, number)?;
        self.db()
            .execute(
                "UPDATE shots SET revision = ?2, camera = coalesce(?3, camera), budget = coalesce(?4, budget),
                   edits = coalesce(?5, '{}'), stamp = stamp + 1 WHERE id = ?1",
                (shot, number, r.camera, r.budget, r.edits),
            )
            .map(|_| ())
            .map_err(sql)
    }

    pub fn name_revision(&self, shot: i64, number: i64, name: &str) -> Result<(), Fault> {
        self.revision(shot, number)?;
        self.db()
            .execute("UPDATE revisions SET name = ?3 WHERE shot = ?1 AND number = ?2", (shot, number, name))
            .map(|_| ())
            .map_err(sql)
    }
}
