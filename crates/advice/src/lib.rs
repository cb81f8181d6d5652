//! What renders teach: forecasts, prices of knobs, and advice.

mod advise;
mod forecast;
mod prices;

pub use advise::{Advice, Advised, Effect, advise};
pub use forecast::*;
pub use prices::{Basis, Price, prices};
