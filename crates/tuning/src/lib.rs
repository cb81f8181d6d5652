//! The knobs of a render: one table, and everything that follows from it.
//!
//! [`KNOBS`] states id, group, label, unit, range, default, help and trade of every knob once. Validation,
//! the API, difference marks, the panel's rows and the command line's `--set` are derived from it.

mod choices;
mod knob;
mod partial;
mod table;
mod value;

pub use choices::{Compression, Denoiser, DisplayFile, Judge, LinearFile, Named, Passes, PixelFilter, Shadows, ViewBy};
pub use knob::{Group, Kind, Knob, Scale, Trade};
pub use partial::{Chosen, PARTIAL_VERSION, Partial, PartialKind, Untaken, understood};
pub use table::{K, KNOBS};
pub use value::{Difference, Tuning, Value};
