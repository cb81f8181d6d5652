//! One shape for everything that can go wrong: what happened, where, and what the artist can do about it.
//!
//! Every floor of the house reports errors as a [`Fault`]; the server turns its [`Code`] into an HTTP status
//! and the command line into an exit status, and both show the same three sentences.

use serde::{Deserialize, Serialize};
use std::fmt;

/// The kind of a fault. The kind decides the HTTP status, the text decides what a person reads.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ts_rs::TS)]
#[serde(rename_all = "snake_case")]
pub enum Code {
    /// The bytes are not of the expected format.
    WrongType,
    /// The file ends before its own header says it should, or contradicts itself.
    Damaged,
    /// A value lies outside its range.
    OutOfRange,
    /// A value is NaN, infinite, or not a number at all.
    NotANumber,
    /// Two values contradict each other.
    Contradiction,
    /// Something that is referred to does not exist.
    NotFound,
    /// Larger than this machine or this program accepts.
    TooLarge,
    /// Valid, but not understood by this version.
    Unsupported,
    /// The request comes from a page of another site.
    Forbidden,
    /// Something else is in the way right now.
    Busy,
    /// The disk takes no more.
    DiskFull,
    /// Reading or writing failed.
    Io,
    /// A defect of the program itself.
    Internal,
}

/// An error with its place and its remedy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error, ts_rs::TS)]
pub struct Fault {
    pub code: Code,
    /// What is wrong, as a sentence without a full stop.
    pub what: String,
    /// File, knob or field in which it is wrong.
    pub place: String,
    /// What helps.
    pub remedy: String,
}

impl Fault {
    pub fn new(code: Code, what: impl Into<String>, place: impl Into<String>, remedy: impl Into<String>) -> Self {
        Fault { code, what: what.into(), place: place.into(), remedy: remedy.into() }
    }

    /// A failed read or write of `place`.
    pub fn io(place: impl Into<String>, error: &std::io::Error) -> Self {
        let (code, remedy) = match error.kind() {
            std::io::ErrorKind::NotFound => (Code::NotFound, "check the name and the folder"),
            std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded => {
                (Code::DiskFull, "free some space on the disk, then try again")
            }
            std::io::ErrorKind::PermissionDenied => (Code::Io, "check the rights of the file and its folder"),
            _ => (Code::Io, "check the disk, then try again"),
        };
        Fault::new(code, error.to_string(), place, remedy)
    }

    /// A defect of the program: says so plainly instead of blaming the input.
    pub fn internal(what: impl Into<String>, place: impl Into<String>) -> Self {
        Fault::new(Code::Internal, what, place, "this is a defect of the program; your data is safe, please report it")
    }

    /// The same fault, seen from further out: `file` is put before the place.
    pub fn within(mut self, file: &str) -> Self {
        self.place = if self.place.is_empty() { file.to_string() } else { format!("{file}: {}", self.place) };
        self
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}; {}", self.place, self.what, self.remedy)
    }
}

/// The message of a caught panic, as far as it has one.
pub fn panic_text(payload: &(dyn std::any::Any + Send)) -> String {
    payload
        .downcast_ref::<&str>()
        .map(|s| s.to_string())
        .or_else(|| payload.downcast_ref::<String>().cloned())
        .unwrap_or_else(|| "unknown cause".to_string())
}
