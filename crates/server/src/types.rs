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
        picture::Region, picture::metrics::Metrics, picture::maps::Swatch, picture::maps::GrainLegend,
        scene::Handling, scene::Entry, scene::ImportReport,
        tracer::Phase, tracer::Progress, tracer::RayKind, tracer::RayCount, tracer::RenderReport,
        advice::CauseKind, advice::Cause, advice::Forecast,
        workshop::Event, workshop::ShotView, workshop::RevisionView, workshop::ProofState, workshop::ProofView,
        workshop::FinalState, workshop::FinalView, workshop::ForecastBrief, workshop::FinalReport, workshop::FileView,
        workshop::ForecastView, workshop::Comparison, workshop::Legends, workshop::SceneView, workshop::EnvironmentView,
        workshop::NewShot, workshop::ShotChange, workshop::ProofChange, workshop::NewTest, workshop::Layer,
        workshop::PixelReadout,
    ];
    let head = "// Written by the program from its Rust types: `./run types`. Do not edit.\n\n";
    format!("{head}{}\n", list.join("\n\n"))
}
