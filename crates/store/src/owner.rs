//! The data folder belongs to one program at a time: a lock of the operating system, which ends with the program however that
//! ends. Beside it the number of the folder's format, so that an older program never touches what a newer one keeps.

use fault::{Code, Fault};
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Seek, Write};
use std::path::Path;

/// What the folder's files mean. A program that keeps them otherwise counts this up and brings older folders up to date.
const FORMAT: u32 = 1;

/// Held for as long as the folder is in use.
pub(crate) struct Owner(#[expect(dead_code, reason = "locked while it is open")] File);

impl Owner {
    /// Takes the folder, before anything in it is looked at.
    pub fn take(root: &Path) -> Result<Owner, Fault> {
        let path = root.join("owner.lock");
        let io = |e: &std::io::Error| Fault::io(path.display().to_string(), e);
        let mut file =
            OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&path).map_err(|e| io(&e))?;
        let mut holder = String::new();
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let _ = file.read_to_string(&mut holder);
                let holder = holder.trim();
                let who = if holder.is_empty() { "another program".into() } else { format!("process {holder}") };
                return Err(Fault::new(
                    Code::Busy,
                    format!("the data folder is in use by {who}"),
                    root.display().to_string(),
                    "use the bench that is open already, end that program first, or choose another folder",
                ));
            }
            Err(TryLockError::Error(e)) => return Err(io(&e)),
        }
        let written = file.set_len(0).and_then(|()| file.rewind()).and_then(|()| {
            let program = std::env::args().next().unwrap_or_default();
            let name = Path::new(&program).file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            writeln!(file, "{} ({name})", std::process::id())
        });
        written.map_err(|e| io(&e))?;
        check_format(root)?;
        Ok(Owner(file))
    }
}

fn check_format(root: &Path) -> Result<(), Fault> {
    let path = root.join("format");
    match std::fs::read_to_string(&path) {
        Ok(text) if text.trim().parse::<u32>().is_ok_and(|n| n <= FORMAT) => Ok(()),
        Ok(text) => Err(too_new(root, text.trim())),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            std::fs::write(&path, format!("{FORMAT}\n")).map_err(|e| Fault::io(path.display().to_string(), &e))
        }
        Err(e) => Err(Fault::io(path.display().to_string(), &e)),
    }
}

/// A folder that a newer program keeps.
pub(crate) fn too_new(root: &Path, format: &str) -> Fault {
    Fault::new(
        Code::Unsupported,
        format!("the data folder was written by a newer version of the program (format {format})"),
        root.display().to_string(),
        "use that version, or choose another folder with --data; nothing was changed",
    )
}
