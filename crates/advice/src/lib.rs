//! What the measurements mean: the forecast of a final.

mod forecast;

pub use forecast::{Brief, Cause, CauseKind, Forecast, Machine, Measured, forecast};
