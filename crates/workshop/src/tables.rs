//! View tables that the artist has loaded: `tables/NUMBER.cube` in the data folder, known to views by that number.

use crate::testing::write_bytes;
use crate::{Event, Workshop};
use fault::{Code, Fault};
use picture::cube::{Cube, keep};
use serde::Serialize;
use std::path::PathBuf;
use store::BinKind;
use ts_rs::TS;

#[derive(Debug, Clone, Serialize, TS)]
pub struct TableView {
    /// Value of the knob `view.table`.
    pub id: u32,
    pub title: String,
}

impl Workshop {
    fn tables_folder(&self) -> PathBuf {
        self.0.store.root().join("tables")
    }

    pub(crate) fn table_file(&self, id: u32) -> PathBuf {
        self.tables_folder().join(format!("{id}.cube"))
    }

    /// All tables that are not in the bin, made known to views; files that are none are left out.
    pub fn tables(&self) -> Vec<TableView> {
        let files = std::fs::read_dir(self.tables_folder()).into_iter().flatten().flatten();
        let mut all: Vec<TableView> = files
            .filter_map(|e| {
                let text = std::fs::read_to_string(e.path()).ok()?;
                let cube = Cube::read(&text, "table").ok()?;
                let title = cube.title.clone();
                Some(TableView { id: keep(cube), title })
            })
            .filter(|t| !self.0.store.is_in_bin(BinKind::Table, &t.id.to_string()).unwrap_or(false))
            .collect();
        all.sort_by(|a, b| a.title.cmp(&b.title));
        all
    }

    /// Takes a .cube file in.
    pub fn add_table(&self, name: &str, bytes: &[u8]) -> Result<TableView, Fault> {
        let text = std::str::from_utf8(bytes)
            .map_err(|_| Fault::new(Code::Damaged, "this is no text", name, "choose a .cube file"))?;
        let mut cube = Cube::read(text, name)?;
        let untitled = cube.title.is_empty();
        if untitled {
            cube.title = name.trim_end_matches(".cube").to_string();
        }
        let title = cube.title.clone();
        let id = keep(cube);
        std::fs::create_dir_all(self.tables_folder()).map_err(|e| Fault::io(name, &e))?;
        let titled = format!("TITLE \"{}\"\n{text}", title.replace('"', "'"));
        write_bytes(&self.table_file(id), if untitled { titled.as_bytes() } else { bytes })?;
        self.0.store.take_from_bin(BinKind::Table, &id.to_string())?;
        self.0.events.tell(Event::Settings);
        Ok(TableView { id, title })
    }
}
