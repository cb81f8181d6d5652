//! Choices for the whole bench: threads, how many tests keep themselves, how much room proofs may take, and the seed.

use crate::circumstances::processor;
use crate::memory::LEAST;
use crate::{Event, Patience, SettingsChange, SettingsView, Workshop, lock};
use fault::{Code, Fault};
use std::sync::Arc;
use tracer::{cores, own_pool};

#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Settings {
    pub threads: usize,
    pub spare: u32,
    pub room_gb: f64,
    pub new_seed: bool,
    /// Days for which what was deleted can be taken out of the bin.
    pub bin_days: f64,
    /// Bytes of memory for what is kept ready.
    pub memory: u64,
}

impl Workshop {
    /// What a program that drives the bench notes down for its next start.
    pub fn note(&self, key: &str) -> Option<String> {
        self.0.store.setting(key)
    }

    pub fn set_note(&self, key: &str, value: &str) -> Result<(), Fault> {
        self.0.store.set_setting(key, value)
    }

    pub(crate) fn settings(&self) -> Settings {
        let get = |key: &str| self.0.store.setting(key);
        let number = |key: &str| get(key).and_then(|t| t.parse::<f64>().ok());
        Settings {
            threads: number("threads").map_or(cores(), |n| n as usize).clamp(1, cores().max(1)),
            spare: number("spare").map_or(12, |n| n as u32),
            room_gb: number("room_gb").unwrap_or(20.0),
            new_seed: get("new_seed").as_deref() == Some("true"),
            bin_days: number("bin_days").unwrap_or(14.0),
            memory: number("memory_gb").map_or(self.0.memory.default, |gb| (gb * 1e9) as u64),
        }
    }

    pub fn settings_view(&self) -> SettingsView {
        let s = self.settings();
        SettingsView {
            threads: s.threads,
            cores: cores(),
            processor: processor(),
            spare: s.spare,
            room_gb: s.room_gb,
            used_gb: self.proof_bytes() as f64 / 1e9,
            new_seed: s.new_seed,
            bin_days: s.bin_days,
            memory_gb: s.memory as f64 / 1e9,
            memory: self.0.memory.used(),
            naming: self.naming(false),
            naming_series: self.naming(true),
        }
    }

    pub fn change_settings(&self, change: &SettingsChange) -> Result<SettingsView, Fault> {
        let check = |what: &str, value: f64, least: f64, most: f64| {
            if !(least..=most).contains(&value) {
                let remedy = format!("give a number from {least} to {most}");
                return Err(Fault::new(Code::OutOfRange, format!("{value} is outside the range"), what, remedy));
            }
            self.0.store.set_setting(what, &value.to_string())
        };
        if let Some(n) = change.threads {
            check("threads", n as f64, 1.0, cores() as f64)?;
            *lock(&self.0.pool) = Arc::new(own_pool(n as usize)?);
        }
        if let Some(n) = change.spare {
            check("spare", n as f64, 1.0, 200.0)?;
        }
        if let Some(gb) = change.room_gb {
            check("room_gb", gb, 0.01, 100_000.0)?;
        }
        if let Some(days) = change.bin_days {
            check("bin_days", days, 0.0, 3650.0)?;
        }
        if let Some(gb) = change.memory_gb {
            check("memory_gb", gb, (LEAST as f64 / 1e9).max(0.3), 100_000.0)?;
            self.0.memory.set_budget((gb * 1e9) as u64);
        }
        if let Some(on) = change.new_seed {
            self.0.store.set_setting("new_seed", if on { "true" } else { "false" })?;
        }
        self.0.events.tell(Event::Settings);
        Ok(self.settings_view())
    }

    /// The threads that render.
    pub(crate) fn pool(&self) -> Arc<rayon::ThreadPool> {
        lock(&self.0.pool).clone()
    }

    pub(crate) fn patience(&self) -> Patience {
        *lock(&self.0.patience)
    }

    pub fn set_patience(&self, patience: Patience) {
        *lock(&self.0.patience) = patience;
    }
}
