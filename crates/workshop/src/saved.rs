//! A render put away in a folder: raw sums in a film file, counts in `counts.json`, which names the film it belongs to.
//! The film is written first and under a new name, so that a crash between the two leaves the older pair whole.

use crate::testing::write_bytes;
use crate::{Workshop, json, parse};
use fault::Fault;
use picture::Region;
use picture::files::{Packing, exr_channels, write_exr, write_whole};
use serde::{Deserialize, Serialize};
use std::path::Path;
use std::sync::Arc;
use tracer::{Description, Render, SavedCounts, SavedRender, Stage};

#[derive(Serialize, Deserialize)]
struct Counts {
    /// File name of the film.
    film: String,
    counts: SavedCounts,
}

/// Bytes that the film of an area takes, about.
pub(crate) fn film_bytes(area: Region) -> u64 {
    84 * area.area() as u64
}

pub(crate) const COUNTS: &str = "counts.json";

fn is_film(name: &str) -> bool {
    name.starts_with("film-") && name.ends_with(".exr")
}

/// Removes all films but `keep`.
fn clear(folder: &Path, keep: &str) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if is_film(&name) && name != keep {
            let _ = std::fs::remove_file(entry.path());
        }
    }
}

pub(crate) fn save_render(render: &Render, d: &Description, folder: &Path) -> Result<(), Fault> {
    let saved = render.save();
    let film = format!("film-{}.exr", render.film().samples());
    let area = render.film().bounds();
    // Noise hardly shrinks, and packing it would hold up the next test.
    write_whole(&folder.join(&film), |out| {
        write_exr(out, d.film_frame(), area, saved.channels, &json(d)?, Packing::None)
    })?;
    let counts = Counts { film: film.clone(), counts: saved.counts };
    write_bytes(&folder.join(COUNTS), json(&counts)?.as_bytes())?;
    clear(folder, &film);
    Ok(())
}

/// Forgets what was put away.
pub(crate) fn remove_render(folder: &Path) {
    let _ = std::fs::remove_file(folder.join(COUNTS));
    clear(folder, "");
}

fn read_counts(folder: &Path) -> Result<Counts, Fault> {
    let path = folder.join(COUNTS);
    let text = std::fs::read_to_string(&path).map_err(|e| Fault::io(path.display().to_string(), &e))?;
    parse(&text, COUNTS)
}

/// Counts alone, without the film.
pub(crate) fn load_counts(folder: &Path) -> Result<SavedCounts, Fault> {
    read_counts(folder).map(|c| c.counts)
}

impl Workshop {
    pub(crate) fn load_render(&self, d: &Description, folder: &Path) -> Result<Render, Fault> {
        let (stage, saved) = self.saved_render(d, folder)?;
        Render::resume(stage, d.clone(), self.pool(), &saved)
    }

    pub(crate) fn saved_render(&self, d: &Description, folder: &Path) -> Result<(Arc<Stage>, SavedRender), Fault> {
        let counts = read_counts(folder)?;
        if !is_film(&counts.film) || counts.film.contains(['/', '\\']) {
            return Err(Fault::internal("the counts name no film", COUNTS));
        }
        let path = folder.join(&counts.film);
        let place = path.display().to_string();
        let bytes = std::fs::read(&path).map_err(|e| Fault::io(place.clone(), &e))?;
        let (_, _, channels) = exr_channels(&bytes, &place)?;
        let stage = self.stage(&(d.scene.clone(), d.environment.clone()), &mut |_| {})?;
        Ok((stage, SavedRender { channels, counts: counts.counts }))
    }
}
