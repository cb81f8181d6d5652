//! Remembered regions of a shot, as shares of the frame, so that they survive a change of size.

use crate::{Store, sql};
use fault::Fault;

#[derive(Debug, Clone, PartialEq)]
pub struct RegionRow {
    pub id: i64,
    pub name: String,
    /// x, y, width and height as shares of the frame.
    pub place: [f64; 4],
}

impl Store {
    pub fn add_region(&self, shot: i64, name: &str, place: [f64; 4]) -> Result<i64, Fault> {
        let db = self.db();
        db.execute(
            "INSERT INTO regions (shot, name, x, y, width, height) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            (shot, name, place[0], place[1], place[2], place[3]),
        )
        .map_err(sql)?;
        Ok(db.last_insert_rowid())
    }

    pub fn delete_region(&self, shot: i64, id: i64) -> Result<(), Fault> {
        self.db().execute("DELETE FROM regions WHERE shot = ?1 AND id = ?2", (shot, id)).map(|_| ()).map_err(sql)
    }

    pub fn regions(&self, shot: i64) -> Result<Vec<RegionRow>, Fault> {
        let db = self.db();
        let mut q =
            db.prepare("SELECT id, name, x, y, width, height FROM regions WHERE shot = ?1 ORDER BY id").map_err(sql)?;
        let rows = q
            .query_map([shot], |r| {
                let place = [r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?];
                Ok(RegionRow { id: r.get(0)?, name: r.get(1)?, place })
            })
            .map_err(sql)?;
        rows.collect::<Result<_, _>>().map_err(sql)
    }
}
