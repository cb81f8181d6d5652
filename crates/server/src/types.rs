//! TypeScript declarations of everything that crosses the wire.

use ts_rs::{Config, TS};

macro_rules! declarations {
    ($config:expr; $($t:ty),* $(,)?) => { vec![$(format!("export {}", <$t>::decl($config))),*] };
}

/// The text of `web/src/api/types.ts`.
pub fn typescript() -> String {
    let config = Config::new().with_large_int("number");
    let list = declarations![&config;
        fault::Code, fault::Fault,
        tuning::Group, tuning::Kind, tuning::Scale, tuning::Trade, tuning::Value, tuning::Knob, tuning::Difference,
        tuning::PartialKind, tuning::Untaken,
        picture::Region, picture::metrics::Metrics, picture::against::Against, picture::paper::Unit, picture::paper::Paper, picture::grain::Measure, picture::maps::Swatch, picture::maps::GrainLegend,
        picture::noise::Loss, picture::noise::NoiseRow, picture::noise::NoiseLedger,
        scene::Handling, scene::Entry, scene::ImportReport,
        tracer::Phase, tracer::Moment, tracer::Progress, tracer::RayKind, tracer::RayCount,
        tracer::DepthKind, tracer::DepthRow, tracer::DepthTable, tracer::SplitKind, tracer::SplitRow, tracer::LightCost, tracer::CausticKind, tracer::CausticRow, tracer::Darkened,
        tracer::Ledgers, tracer::RenderReport,
        advice::CauseKind, advice::Cause, advice::Seen, advice::FileSize, advice::Forecast, advice::Brief,
        advice::FitRow, advice::CurvePoint, advice::WayOut, advice::Fit, advice::Wanted, tracer::Decision, tracer::Plan,
        advice::Basis, advice::Price, advice::Effect, advice::Advice,
        workshop::Event, workshop::ShotView, workshop::RevisionView, workshop::ProofKind, workshop::ProofState,
        workshop::PhaseTime, workshop::Circumstances, workshop::ProofView, workshop::InForce, workshop::RegionView,
        workshop::NewRegion, workshop::PartialView, workshop::NewPartial, workshop::PartialChange, workshop::Imported,
        workshop::Preview, workshop::Rung, workshop::SettingsView, workshop::SettingsChange, workshop::Parcel,
        workshop::TableView, workshop::FinalState, workshop::FinalTimes, workshop::Policy, workshop::Series, workshop::NewFinal, workshop::TopUp, workshop::Turn,
        workshop::Ordered, workshop::Check, workshop::FitView, workshop::Rest, workshop::Showing, workshop::Verdict, workshop::Cleanness, workshop::Way, workshop::Version, workshop::Unused, workshop::FinalView, workshop::FinalReport, workshop::FileView,
        workshop::ForecastView, workshop::KnobRow, workshop::Column, workshop::Comparison, workshop::WhatIf, workshop::Legends,
        workshop::LedgerView, workshop::PricesView, workshop::AdviceState, workshop::AdviceLine, workshop::TestCost, workshop::TrialsView, workshop::AdviceAtWork, workshop::Came,
        workshop::AdviceView, workshop::TakeAdvice, workshop::LightState, workshop::LightChange, workshop::SceneView, workshop::EnvironmentView,
        workshop::NewShot, workshop::ShotChange, workshop::ProofChange, workshop::TakeBack, workshop::GoOn, workshop::NewTest, workshop::Layer,
        workshop::PixelReadout, picture::denoise::Strays, picture::denoise::profile::Area, picture::denoise::profile::Profile,
        picture::filter::Character, workshop::Softened, picture::clamps::ClampAdvice, workshop::Clamped, workshop::Softening, workshop::SofteningAgainst,
        workshop::CleanUpView, workshop::BinKind, workshop::BinItem, workshop::BinEntry, workshop::MemoryUse,
        workshop::ProofsView, workshop::FinalsView,
    ];
    let head = "// Written by the program from its Rust types: `./run types`. Do not edit.\n\n";
    format!("{head}{}\n", list.join("\n\n"))
}
