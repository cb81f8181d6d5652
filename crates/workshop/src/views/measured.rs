//! What tests tell: forecasts and fits, legends and ledgers, prices and advice.

use super::*;

/// What fits a shot to a budget, and what it rests on.
#[derive(Debug, Clone, Serialize, TS)]
pub struct FitView {
    pub fit: advice::Fit,
    /// The proofs and finals that it rests on, in words.
    pub by: String,
    /// A denoiser is allowed, but the test's samples, from which its gain would be judged, are gone.
    pub denoiser_unknown: bool,
}

/// The forecast of a shot's final and what it rests on.
#[derive(Debug, Clone, Serialize, TS)]
pub struct ForecastView {
    pub forecast: advice::Forecast,
    /// The proofs and finals that it rests on, in words; and each of them with the share of the frame that it tells.
    pub by: String,
    pub rests: Vec<Rest>,
    /// What is not used, and why not.
    pub unused: Vec<Unused>,
    /// What has changed since so that only a new test can tell its effect, by label.
    pub changed: Vec<String>,
    /// What must be known before its times are trusted: another machine, other work beside it.
    pub marks: Vec<String>,
    /// Its grain was judged anew, after the clean-up and through the view of now; and whether that is under way.
    pub judged_anew: bool,
    pub judging: bool,
    pub budget: f64,
}

/// A proof or final on which a forecast rests.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Rest {
    pub name: String,
    /// Of the frame.
    pub share: f64,
}

/// A proof or final on which a forecast does not rest.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct Unused {
    pub name: String,
    pub why: String,
}

/// Legends of the maps of a proof.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Legends {
    pub grain: GrainLegend,
    pub samples: Vec<Swatch>,
    /// What adaptive sampling would do at this threshold; none while the proof is rendered.
    pub ask: Option<WhatIf>,
}

/// The same picture at another threshold, foretold from stored statistics.
#[derive(Debug, Clone, Serialize, TS)]
pub struct WhatIf {
    /// Seconds of sampling for this proof, as it was and at the threshold.
    pub took: f64,
    pub seconds: f64,
    /// The shot's final at the threshold, and what foretells it, where it is not this proof.
    pub whole: Brief,
    pub by: Option<String>,
    pub samples_per_pixel: f64,
    pub settled: f64,
    /// This proof had adaptive sampling.
    pub adaptive: bool,
}

/// Who causes the grain and what bounces cost, of a proof.
#[derive(Debug, Clone, Serialize, TS)]
pub struct LedgerView {
    #[ts(type = "number")]
    pub proof: i64,
    #[ts(type = "number")]
    pub proof_number: i64,
    /// Of the part that was asked for; none where no parts were kept.
    pub noise: Option<NoiseLedger>,
    /// Seconds of sampling by row of the noise ledger, where a row has a cost of its own.
    pub costs: BTreeMap<String, f64>,
    pub ledgers: Ledgers,
    /// Seconds of sampling.
    pub seconds: f64,
    pub rays: Vec<RayCount>,
    /// Knobs by which the shot's tuning differs from the proof's.
    pub differs: Vec<&'static str>,
}

/// What knobs cost and buy, and the proof that tells it.
#[derive(Debug, Clone, Serialize, TS)]
pub struct PricesView {
    /// The proofs and finals that tell it, in words.
    pub by: String,
    /// The shot differs from them in knobs whose effect cannot be computed.
    pub stale: Vec<String>,
    pub prices: Vec<Price>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum AdviceState {
    New,
    /// It is followed; taken back when it is asked to be new again.
    Applied,
    /// It was tested, or followed and taken back; or is being tested.
    Tried,
    Dismissed,
}

/// What a test of a line of advice takes.
#[derive(Debug, Clone, Serialize, TS)]
pub struct TestCost {
    pub seconds: f64,
    /// The final could save more than that.
    pub pays: bool,
}

/// A line of advice and what became of it.
#[derive(Debug, Clone, Serialize, TS)]
pub struct AdviceLine {
    pub advice: Advice,
    pub state: AdviceState,
    /// What came of it, where two proofs show it.
    pub came: Option<Came>,
    /// It surely saves time, by what came, else by what is foretold.
    pub pays: bool,
    pub test: TestCost,
}

/// Two proofs, without a change and with it, and what it did.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Came {
    #[ts(type = "number")]
    pub without: i64,
    #[ts(type = "number")]
    pub with: i64,
    pub effect: Effect,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct AdviceView {
    #[ts(type = "number")]
    pub proof: i64,
    #[ts(type = "number")]
    pub proof_number: i64,
    pub lines: Vec<AdviceLine>,
    /// Trials that would tell what splits and roulette bring; none where that is known.
    pub trials: Option<TrialsView>,
    /// Tests that are being rendered for the shot's advice.
    pub at_work: Option<AdviceAtWork>,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct TrialsView {
    pub renders: usize,
    pub seconds: f64,
    /// Seconds that the final would be shorter by at best; none without a forecast.
    pub wins: Option<f64>,
    pub pays: bool,
}

#[derive(Debug, Clone, Serialize, TS)]
pub struct AdviceAtWork {
    /// The line that is tested; none for trials.
    pub key: Option<String>,
    /// What renders now.
    pub what: String,
    pub done: usize,
    pub of: usize,
    /// Seconds to the end, once one has ended.
    pub remaining: Option<f64>,
}

/// A line of advice is applied, tried or dismissed, or dismissed ones come back.
#[derive(Debug, Clone, Deserialize, TS)]
pub struct TakeAdvice {
    pub key: String,
    pub state: AdviceState,
}
