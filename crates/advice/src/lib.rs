//! What renders teach: forecasts, prices of knobs, and advice.

mod advise;
mod costs;
mod forecast;
mod pilot;
mod prices;

pub use advise::{Advice, Effect, advise};
pub use costs::noise_costs;
pub use forecast::*;
pub use pilot::{PILOT_SAMPLES, Pilot, Trial, pilot_tuning, time_ratio, trials};
pub use prices::{Basis, Price, prices};
