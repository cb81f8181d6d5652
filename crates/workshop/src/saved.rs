//! A render put away in a folder: raw sums in a film file, counts in `counts.json`, which names the film it belongs to.
//! The film is written first and under a new name, so that a crash between the two leaves the older pair whole.

use crate::testing::write_bytes;
use crate::{Workshop, json, parse};
use fault::Fault;
use picture::Region;
use picture::files::{Form, Packing, exr_channels, write_exr, write_whole};
use serde::{Deserialize, Serialize};
use std::path::Path;
use std::sync::Arc;
use tracer::{Description, Render, SavedCounts, SavedRender, Stage};

#[derive(Serialize, Deserialize)]
struct Counts {
    /// File name of the film.
    film: String,
    /// File name of what its blocks have brought, in films of this version.
    #[serde(default)]
    brought: Option<String>,
    counts: SavedCounts,
}

/// Bytes that the film of an area takes, about.
pub(crate) fn film_bytes(area: Region) -> u64 {
    84 * area.area() as u64
}

pub(crate) const COUNTS: &str = "counts.json";

fn is_film(name: &str) -> bool {
    (name.starts_with("film-") || name.starts_with("brought-")) && name.ends_with(".exr") && !name.contains(['/', '\\'])
}

/// Removes all films but those of `keep`.
fn clear(folder: &Path, keep: &[&str]) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if is_film(&name) && !keep.contains(&name.as_str()) {
            let _ = std::fs::remove_file(entry.path());
        }
    }
}

pub(crate) fn save_render(render: &Render, d: &Description, folder: &Path) -> Result<(), Fault> {
    let saved = render.save();
    let [film, brought] = ["film", "brought"].map(|kind| format!("{kind}-{}.exr", render.film().samples()));
    let area = render.film().bounds();
    // Noise hardly shrinks, and packing it would hold up the next test.
    write_whole(&folder.join(&film), |out| {
        let form = Form { comment: json(d)?, packing: Packing::None, ..Form::default() };
        write_exr(out, d.film_frame(), area, saved.channels, form)
    })?;
    let (columns, rows) = saved.blocks;
    write_whole(&folder.join(&brought), |out| {
        let size = (columns, rows);
        let form = Form { comment: "one value a block".into(), packing: Packing::None, ..Form::default() };
        write_exr(out, size, Region::whole(columns, rows), saved.brought, form)
    })?;
    let counts = Counts { film: film.clone(), brought: Some(brought.clone()), counts: saved.counts };
    write_bytes(&folder.join(COUNTS), json(&counts)?.as_bytes())?;
    clear(folder, &[&film, &brought]);
    Ok(())
}

/// Forgets what was put away.
pub(crate) fn remove_render(folder: &Path) {
    let _ = std::fs::remove_file(folder.join(COUNTS));
    clear(folder, &[]);
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

/// Whether a folder holds counts with the films that they belong to.
pub(crate) fn has_samples(folder: &Path) -> bool {
    let there = |name: &String| is_film(name) && folder.join(name).is_file();
    read_counts(folder).is_ok_and(|c| there(&c.film) && c.brought.iter().all(there))
}

impl Workshop {
    pub(crate) fn load_render(&self, d: &Description, folder: &Path) -> Result<Render, Fault> {
        let (stage, saved) = self.saved_render(d, folder)?;
        Render::resume(stage, d.clone(), self.pool(), &saved)
    }

    pub(crate) fn saved_render(&self, d: &Description, folder: &Path) -> Result<(Arc<Stage>, SavedRender), Fault> {
        let counts = read_counts(folder)?;
        let read = |name: &str| {
            if !is_film(name) {
                return Err(Fault::internal("the counts name no film", COUNTS));
            }
            let path = folder.join(name);
            let place = path.display().to_string();
            let bytes = std::fs::read(&path).map_err(|e| Fault::io(place.clone(), &e))?;
            exr_channels(&bytes, &place)
        };
        let (.., channels) = read(&counts.film)?;
        let (blocks, brought) = match &counts.brought {
            Some(name) => read(name).map(|(size, _, channels)| (size, channels))?,
            None => ((0, 0), Vec::new()),
        };
        let stage = self.stage(&(d.scene.clone(), d.environment.clone()), &mut |_| {})?;
        Ok((stage, SavedRender { channels, brought, blocks, counts: counts.counts }))
    }
}
