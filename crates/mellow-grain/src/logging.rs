//! What the program writes down of its work: to stderr, and beside the data into files, one a day, of which the last two weeks stay.

use clap::ValueEnum;
use fault::Fault;
use std::io::IsTerminal;
use std::path::Path;
use tracing_appender::non_blocking::WorkerGuard;
use tracing_appender::rolling::{RollingFileAppender, Rotation};
use tracing_subscriber::Layer;
use tracing_subscriber::filter::LevelFilter;
use tracing_subscriber::prelude::*;
use tracing_subscriber::registry::LookupSpan;

/// Days whose files stay.
const DAYS: usize = 14;

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, ValueEnum)]
pub enum Level {
    Off,
    Error,
    Warn,
    Info,
    Debug,
}

impl Level {
    fn filter(self) -> LevelFilter {
        match self {
            Level::Off => LevelFilter::OFF,
            Level::Error => LevelFilter::ERROR,
            Level::Warn => LevelFilter::WARN,
            Level::Info => LevelFilter::INFO,
            Level::Debug => LevelFilter::DEBUG,
        }
    }
}

/// Begins the log: of `level` on stderr, and in the data folder's files at least a line a request. What is returned writes the rest when
/// it is dropped.
pub fn begin(data: &Path, level: Level) -> Result<WorkerGuard, Fault> {
    let folder = data.join("logs");
    std::fs::create_dir_all(&folder).map_err(|e| Fault::io(folder.display().to_string(), &e))?;
    let file = RollingFileAppender::builder()
        .rotation(Rotation::DAILY)
        .filename_prefix("mellow-grain")
        .filename_suffix("log")
        .max_log_files(DAYS)
        .build(&folder)
        .map_err(|e| Fault::io(folder.display().to_string(), &std::io::Error::other(e)))?;
    let (file, guard) = tracing_appender::non_blocking(file);
    let file = tracing_subscriber::fmt::layer().with_writer(file).with_ansi(false).with_target(false);
    let screen = screen();
    tracing_subscriber::registry()
        .with(file.with_filter(level.max(Level::Info).filter()))
        .with(screen.with_filter(level.filter()))
        .init();
    Ok(guard)
}

/// Lines on stderr, in colour where somebody sees them.
fn screen<S: tracing::Subscriber + for<'a> LookupSpan<'a>>() -> impl Layer<S> {
    tracing_subscriber::fmt::layer()
        .with_writer(std::io::stderr)
        .with_ansi(std::io::stderr().is_terminal())
        .with_target(false)
}

/// For commands without a data folder: faults on stderr.
pub fn begin_plain() {
    let screen = screen();
    tracing_subscriber::registry().with(screen.with_filter(LevelFilter::WARN)).init();
}
