//! Scenes and environments are kept by their hash: written beside, synced, moved into place, and never changed or removed from
//! then on. What is there already stays as it is.

use fault::Fault;
use std::fs::File;
use std::path::Path;

fn io(path: &Path) -> impl Fn(std::io::Error) -> Fault + '_ {
    |e| Fault::io(path.display().to_string(), &e)
}

fn sync(path: &Path) -> Result<(), Fault> {
    File::open(path).and_then(|f| f.sync_all()).map_err(io(path))
}

/// Moves a file or a folder into its place for good, with everything in it on the disk; false where it was there already.
pub fn keep(from: &Path, to: &Path) -> Result<bool, Fault> {
    if to.exists() {
        return Ok(false);
    }
    sync_all(from)?;
    match std::fs::rename(from, to) {
        Ok(()) => {}
        // Somebody else was as fast with the same.
        Err(_) if to.exists() => return Ok(false),
        Err(e) => return Err(io(to)(e)),
    }
    to.parent().map_or(Ok(true), |parent| sync(parent).map(|()| true))
}

fn sync_all(path: &Path) -> Result<(), Fault> {
    if path.is_dir() {
        for entry in std::fs::read_dir(path).map_err(io(path))? {
            sync_all(&entry.map_err(io(path))?.path())?;
        }
    }
    sync(path)
}
