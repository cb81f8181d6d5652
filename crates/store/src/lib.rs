//! What is remembered: SQLite for rows, a folder of files beside it. Rows keep structured parts as JSON text, which the
//! floors above give a meaning.

mod advice;
mod bin;
pub mod content;
mod finals;
mod owner;
mod partials;
mod proofs;
mod regions;
mod shots;
mod states;

pub use advice::AdviceRow;
pub use bin::{BinKind, BinRow};
pub use finals::{FinalRow, NewFinalRow};
pub use partials::PartialRow;
pub use proofs::{NewProofRow, ProofRow, Showing};
pub use regions::RegionRow;
pub use shots::{EnvironmentRow, RevisionRow, SceneRow, ShotChangeRow, ShotRow};
pub use states::{FinalState, Policy, ProofKind, ProofState};

use fault::{Code, Fault};
use owner::Owner;
use rusqlite::Connection;
use rusqlite_migration::{M, Migrations};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard};

/// How older data folders are brought up to date: the tables of the first version, and what each later one changed.
#[doc(hidden)]
pub const STEPS: [&str; 7] = [
    "CREATE TABLE scenes (hash TEXT PRIMARY KEY, name TEXT NOT NULL, report TEXT NOT NULL, added INTEGER NOT NULL);
     CREATE TABLE environments (hash TEXT PRIMARY KEY, name TEXT NOT NULL, added INTEGER NOT NULL);
     CREATE TABLE shots (
       id INTEGER PRIMARY KEY, name TEXT NOT NULL, scene TEXT NOT NULL REFERENCES scenes(hash),
       environment TEXT REFERENCES environments(hash), camera TEXT NOT NULL, budget REAL NOT NULL, revision INTEGER NOT NULL);
     CREATE TABLE revisions (
       shot INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE, number INTEGER NOT NULL, parent INTEGER NOT NULL,
       tuning TEXT NOT NULL, change TEXT NOT NULL, made INTEGER NOT NULL, PRIMARY KEY (shot, number));
     CREATE TABLE proofs (
       id INTEGER PRIMARY KEY, shot INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE, number INTEGER NOT NULL,
       name TEXT NOT NULL, note TEXT NOT NULL, kept INTEGER NOT NULL, state TEXT NOT NULL, made INTEGER NOT NULL,
       description TEXT NOT NULL, report TEXT);
     CREATE TABLE finals (
       id INTEGER PRIMARY KEY, shot INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE, state TEXT NOT NULL,
       budget REAL NOT NULL, description TEXT NOT NULL, forecast TEXT, report TEXT, files TEXT NOT NULL, fault TEXT,
       made INTEGER NOT NULL, ended INTEGER);
     CREATE TABLE machine (key TEXT PRIMARY KEY, value REAL NOT NULL);",
    "ALTER TABLE scenes ADD COLUMN file TEXT NOT NULL DEFAULT '';
     ALTER TABLE environments ADD COLUMN eight_bit INTEGER NOT NULL DEFAULT 0;
     ALTER TABLE shots ADD COLUMN archived INTEGER NOT NULL DEFAULT 0;
     ALTER TABLE shots ADD COLUMN tests INTEGER NOT NULL DEFAULT 0;
     UPDATE shots SET tests = (SELECT coalesce(max(number), 0) FROM proofs WHERE shot = shots.id);
     ALTER TABLE revisions ADD COLUMN camera TEXT;
     ALTER TABLE revisions ADD COLUMN budget REAL;
     ALTER TABLE revisions ADD COLUMN name TEXT NOT NULL DEFAULT '';
     CREATE TABLE proofs_new (
       id INTEGER PRIMARY KEY AUTOINCREMENT, shot INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
       number INTEGER NOT NULL, name TEXT NOT NULL, note TEXT NOT NULL, kept INTEGER NOT NULL, state TEXT NOT NULL,
       made INTEGER NOT NULL, description TEXT NOT NULL, report TEXT, kind TEXT NOT NULL DEFAULT 'test',
       star INTEGER NOT NULL DEFAULT 0, bytes INTEGER NOT NULL DEFAULT 0, deleted INTEGER, circumstances TEXT);
     INSERT INTO proofs_new (id, shot, number, name, note, kept, state, made, description, report)
       SELECT id, shot, number, name, note, kept, state, made, description, report FROM proofs;
     DROP TABLE proofs;
     ALTER TABLE proofs_new RENAME TO proofs;
     CREATE INDEX proofs_of_shot ON proofs (shot);
     CREATE TABLE partials (
       id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT NOT NULL, name TEXT NOT NULL, note TEXT NOT NULL, chosen TEXT NOT NULL,
       shipped INTEGER NOT NULL, made INTEGER NOT NULL);
     CREATE TABLE regions (
       id INTEGER PRIMARY KEY AUTOINCREMENT, shot INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE, name TEXT NOT NULL,
       x REAL NOT NULL, y REAL NOT NULL, width REAL NOT NULL, height REAL NOT NULL);
     CREATE TABLE settings (key TEXT PRIMARY KEY, value TEXT NOT NULL);",
    "ALTER TABLE shots ADD COLUMN edits TEXT NOT NULL DEFAULT '{}';
     ALTER TABLE revisions ADD COLUMN edits TEXT;
     CREATE TABLE advice (
       id INTEGER PRIMARY KEY AUTOINCREMENT, shot INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
       advice TEXT NOT NULL, state TEXT NOT NULL, basis INTEGER NOT NULL, proof_without INTEGER, proof_with INTEGER,
       made INTEGER NOT NULL);",
    "ALTER TABLE finals ADD COLUMN policy TEXT NOT NULL DEFAULT 'cleanness';
     ALTER TABLE finals ADD COLUMN place REAL NOT NULL DEFAULT 0;
     UPDATE finals SET place = id;
     ALTER TABLE finals ADD COLUMN task TEXT NOT NULL DEFAULT '{}';",
    "ALTER TABLE shots ADD COLUMN stamp INTEGER NOT NULL DEFAULT 0;
     UPDATE finals SET state = 'failed' WHERE state NOT IN ('waiting', 'running', 'paused', 'delivered', 'cancelled', 'failed');
     UPDATE finals SET policy = 'cleanness' WHERE policy NOT IN ('cleanness', 'time');
     UPDATE proofs SET state = 'stopped' WHERE state NOT IN ('running', 'done', 'stopped');
     UPDATE proofs SET kind = 'test' WHERE kind NOT IN ('test', 'pilot', 'reference', 'picture');",
    // Long lists are read through indices; what is asked of JSON is a column.
    "CREATE TABLE bin (
       kind TEXT NOT NULL, key TEXT NOT NULL, name TEXT NOT NULL, bytes INTEGER NOT NULL, deleted INTEGER NOT NULL,
       PRIMARY KEY (kind, key));
     INSERT INTO bin SELECT 'proof', id, CASE name WHEN '' THEN 'test ' || number ELSE name END, bytes, deleted
       FROM proofs WHERE deleted IS NOT NULL;
     ALTER TABLE proofs DROP COLUMN deleted;
     ALTER TABLE proofs ADD COLUMN whole INTEGER GENERATED ALWAYS AS
       (CASE WHEN json_valid(description) THEN json_extract(description, '$.region') IS NULL END) VIRTUAL;
     CREATE INDEX proofs_whole ON proofs (shot, whole, id);
     CREATE INDEX proofs_bytes ON proofs (shot, bytes);
     ALTER TABLE finals ADD COLUMN base TEXT GENERATED ALWAYS AS
       (coalesce(CASE WHEN json_valid(task) THEN json_extract(task, '$.base') END, printf('final_%04d', id))) VIRTUAL;
     ALTER TABLE finals ADD COLUMN to_threshold INTEGER GENERATED ALWAYS AS
       (CASE WHEN json_valid(report) THEN json_extract(report, '$.to_threshold') END) VIRTUAL;
     CREATE INDEX finals_base ON finals (base);
     CREATE INDEX finals_place ON finals (place, id);
     CREATE INDEX finals_open ON finals (place, id) WHERE state IN ('waiting', 'running', 'paused');
     CREATE INDEX finals_ended ON finals (ended DESC, id DESC, shot) WHERE state NOT IN ('waiting', 'running', 'paused');
     CREATE INDEX finals_of_shot ON finals (shot, state);
     CREATE INDEX finals_held ON finals (ended DESC) WHERE state = 'delivered' AND to_threshold;",
    // The newest delivery of a shot stands in its row on the page of shots.
    "DROP INDEX finals_of_shot;
     CREATE INDEX finals_of_shot ON finals (shot, state, ended DESC, id DESC);",
];

const DATABASE: &str = "mellow-grain.sqlite";

pub struct Store {
    connection: Mutex<Connection>,
    root: PathBuf,
    owner: Mutex<Option<Owner>>,
}

fn sql(e: rusqlite::Error) -> Fault {
    match e {
        rusqlite::Error::QueryReturnedNoRows => {
            Fault::new(Code::NotFound, "this does not exist any more", "database", "reload the page")
        }
        rusqlite::Error::SqliteFailure(e, _) if e.code == rusqlite::ErrorCode::DiskFull => {
            Fault::new(Code::DiskFull, "the disk is full", "database", "free some space on the disk, then try again")
        }
        other => Fault::new(Code::Io, other.to_string(), "database", "check the disk and the data folder's rights"),
    }
}

/// Seconds since 1970.
pub fn now() -> i64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_secs() as i64)
}

/// Removes what was being written when the program ended, as deep as files lie: hidden files of our own naming, never one of a scene.
fn clear_parts(folder: &Path, deep: u32) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        match entry.file_type() {
            Ok(t) if t.is_dir() && deep > 0 => clear_parts(&path, deep - 1),
            Ok(t) if t.is_file() => {
                let name = entry.file_name().to_string_lossy().into_owned();
                if name.starts_with('.') && name.ends_with(".part") {
                    let _ = std::fs::remove_file(&path);
                }
            }
            _ => {}
        }
    }
}

/// A copy of the database as an older version left it, from before it is brought up to date.
fn keep_copy(connection: &Connection, root: &Path, version: u32) -> Result<(), Fault> {
    let copy = root.join(format!("mellow-grain.version-{version}.sqlite"));
    if copy.exists() {
        return Ok(());
    }
    // Written beside first: half a copy would be taken for one.
    let part = copy.with_extension("part");
    let _ = std::fs::remove_file(&part);
    connection.execute("VACUUM INTO ?1", [part.to_string_lossy()]).map_err(sql)?;
    std::fs::rename(&part, &copy).map_err(|e| Fault::io(copy.display().to_string(), &e))
}

impl Store {
    /// Takes the data folder, made when absent, and brings it up to date. Another program that has it open is told of, as is a
    /// folder that a newer version keeps; neither is touched.
    pub fn open(root: &Path) -> Result<Store, Fault> {
        let made = |path: &Path| std::fs::create_dir_all(path).map_err(|e| Fault::io(path.display().to_string(), &e));
        made(root)?;
        let owner = Owner::take(root)?;
        let mut connection = Connection::open(root.join(DATABASE)).map_err(sql)?;
        let version: u32 = connection.query_row("PRAGMA user_version", [], |r| r.get(0)).map_err(sql)?;
        if version as usize > STEPS.len() {
            return Err(owner::too_new(root, &version.to_string()));
        }
        connection
            .execute_batch(
                "PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL; PRAGMA foreign_keys = ON; PRAGMA cache_size = -65536;",
            )
            .map_err(sql)?;
        for folder in ["scenes", "environments", "proofs", "finals", "glances", "incoming"] {
            made(&root.join(folder))?;
        }
        clear_parts(root, 3);
        if (1..STEPS.len()).contains(&(version as usize)) {
            keep_copy(&connection, root, version)?;
        }
        let steps: Vec<M> = STEPS.iter().map(|step| M::up(step)).collect();
        Migrations::new(steps).to_latest(&mut connection).map_err(|e| {
            Fault::new(
                Code::Damaged,
                format!("the database cannot be brought up to date: {e}"),
                root.display().to_string(),
                "use the version of the program that wrote it, or choose another folder with --data",
            )
        })?;
        let store =
            Store { connection: Mutex::new(connection), root: root.to_path_buf(), owner: Mutex::new(Some(owner)) };
        store.remove_files()?;
        Ok(store)
    }

    /// Writes everything into the database's one file and lets the folder go. What is asked for afterwards is refused.
    pub fn close(&self) -> Result<(), Fault> {
        let mut connection = self.db();
        let owner = self.owner.lock().unwrap_or_else(|e| e.into_inner()).take();
        if owner.is_some() {
            connection.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(())).map_err(sql)?;
            *connection = Connection::open_in_memory().map_err(sql)?;
        }
        Ok(())
    }

    fn db(&self) -> MutexGuard<'_, Connection> {
        self.connection.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// The data folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Folder of a scene's files; a scene of one file lies beside it as `HASH.glb`.
    pub fn scene_folder(&self, hash: &str) -> PathBuf {
        self.root.join("scenes").join(hash)
    }

    /// Where files that arrive are put together; emptied at each start.
    pub fn incoming(&self) -> PathBuf {
        self.root.join("incoming")
    }

    /// Small pictures of cameras.
    pub fn glance_file(&self, name: &str) -> PathBuf {
        self.root.join("glances").join(name)
    }

    pub fn environment_file(&self, hash: &str) -> PathBuf {
        self.root.join("environments").join(hash)
    }

    pub fn proof_folder(&self, id: i64) -> PathBuf {
        self.root.join("proofs").join(id.to_string())
    }

    pub fn final_folder(&self, id: i64) -> PathBuf {
        self.root.join("finals").join(id.to_string())
    }

    /// A choice of the user for the whole bench.
    pub fn setting(&self, key: &str) -> Option<String> {
        self.db().query_row("SELECT value FROM settings WHERE key = ?1", [key], |r| r.get(0)).ok()
    }

    pub fn set_setting(&self, key: &str, value: &str) -> Result<(), Fault> {
        self.db()
            .execute("INSERT INTO settings VALUES (?1, ?2) ON CONFLICT(key) DO UPDATE SET value = ?2", (key, value))
            .map(|_| ())
            .map_err(sql)
    }

    /// A measured figure of this machine.
    pub fn machine(&self, key: &str) -> Option<f64> {
        self.db().query_row("SELECT value FROM machine WHERE key = ?1", [key], |r| r.get(0)).ok()
    }

    pub fn set_machine(&self, key: &str, value: f64) -> Result<(), Fault> {
        self.db()
            .execute("INSERT INTO machine VALUES (?1, ?2) ON CONFLICT(key) DO UPDATE SET value = ?2", (key, value))
            .map(|_| ())
            .map_err(sql)
    }
}
