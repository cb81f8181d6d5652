//! What renders teach: forecasts, prices of knobs, and advice.

mod advise;
mod costs;
mod fit;
mod forecast;
mod outlook;
mod pilot;
mod prices;

pub use advise::{Advice, Effect, advise, turned};
pub use costs::noise_costs;
pub use fit::{CurvePoint, Fit, FitRow, Wanted, WayOut, denoised, fit, fit_denoised, spoken};
pub use forecast::{
    Brief, Cause, CauseKind, FILES, FILMS, FileSize, Forecast, Machine, Measured, Seen, Spent, Trust, channels,
    channels_written, forecast,
};
pub use pilot::{PILOT_SAMPLES, Pilot, Sampled, Trial, Trials, pilot_tuning, time_ratio};
pub use prices::{Basis, Price, prices};
