//! Under which circumstances a test was measured: processor, threads, what else kept the machine busy, and how long each phase
//! took. Times from another machine, or from beside other work, are marked as such.

use serde::{Deserialize, Serialize};
use std::time::Instant;
use tracer::{Phase, cores};
use ts_rs::TS;

/// Above this share of the processors, other work is worth a word.
const LOADED: f64 = 0.15;

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct PhaseTime {
    pub phase: Phase,
    pub seconds: f64,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct Circumstances {
    pub processor: String,
    pub cores: usize,
    pub threads: usize,
    /// Share of the processors that other programs used meanwhile; none where the system does not tell.
    pub others: Option<f64>,
    pub phases: Vec<PhaseTime>,
}

impl Circumstances {
    /// Of a proof, as far as they are known.
    pub(crate) fn of(proof: &store::ProofRow) -> Option<Circumstances> {
        proof.circumstances.as_ref().and_then(|c| crate::parse(c, "circumstances").ok())
    }

    /// Share of the processors that other programs used while a proof was rendered; none where it is unknown.
    pub(crate) fn others_beside(proof: &store::ProofRow) -> f64 {
        Self::of(proof).and_then(|c| c.others).unwrap_or(0.0)
    }

    /// What must be known before its times are compared with those of this machine today.
    pub fn marks(&self) -> Vec<String> {
        let mut out = Vec::new();
        let here = processor();
        if self.processor != here || self.cores != cores() {
            out.push(format!("times from another machine: {}, {} cores", self.processor, self.cores));
        }
        if let Some(share) = self.others.filter(|s| *s > LOADED) {
            out.push(format!("measured beside other work: {:.0} % of the processors were taken", 100.0 * share));
        }
        if self.threads < self.cores {
            out.push(format!("{} threads of {} cores", self.threads, self.cores));
        }
        out
    }
}

/// Name of the processor as the system gives it.
pub fn processor() -> String {
    static NAME: std::sync::OnceLock<String> = std::sync::OnceLock::new();
    NAME.get_or_init(|| {
        let text = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
        let line = text.lines().find(|l| l.starts_with("model name"));
        line.and_then(|l| l.split_once(':')).map_or(std::env::consts::ARCH.into(), |(_, n)| n.trim().into())
    })
    .clone()
}

/// Ticks that all processors were busy, and those of this program; none where the system does not tell.
fn ticks() -> Option<(u64, u64)> {
    let all = std::fs::read_to_string("/proc/stat").ok()?;
    let fields: Vec<u64> = all.lines().next()?.split_whitespace().skip(1).filter_map(|f| f.parse().ok()).collect();
    // User, nice, system, then idle and waiting, then interrupts and stolen time.
    let busy = fields.iter().enumerate().filter(|(i, _)| ![3, 4].contains(i) && *i < 8).map(|(_, n)| n).sum();
    let own = std::fs::read_to_string("/proc/self/stat").ok()?;
    let after = own.rsplit_once(')')?.1.split_whitespace().collect::<Vec<_>>();
    let time = |i: usize| after.get(i).and_then(|f| f.parse::<u64>().ok());
    Some((busy, time(11)? + time(12)?))
}

/// Watches a job from its start.
pub(crate) struct Watch {
    began: Instant,
    ticks: Option<(u64, u64)>,
    phases: Vec<PhaseTime>,
    since: (Phase, Instant),
}

impl Watch {
    pub fn start() -> Watch {
        let now = Instant::now();
        Watch { began: now, ticks: ticks(), phases: Vec::new(), since: (Phase::Waiting, now) }
    }

    /// A phase begins; the time of the one before is noted.
    pub fn enter(&mut self, phase: Phase) {
        if phase == self.since.0 {
            return;
        }
        let seconds = self.since.1.elapsed().as_secs_f64();
        match self.phases.iter_mut().find(|p| p.phase == self.since.0) {
            Some(p) => p.seconds += seconds,
            None if self.since.0 != Phase::Waiting => self.phases.push(PhaseTime { phase: self.since.0, seconds }),
            None => {}
        }
        self.since = (phase, Instant::now());
    }

    pub fn end(&mut self, threads: usize) -> Circumstances {
        let since = self.since.0;
        self.enter(Phase::Done);
        self.since.0 = since;
        let seconds = self.began.elapsed().as_secs_f64();
        // SAFETY: asks for a constant of the system.
        let per_second = unsafe { libc::sysconf(libc::_SC_CLK_TCK) } as f64;
        let others = self.ticks.zip(ticks()).map(|((busy, own), (busy_now, own_now))| {
            let used = (busy_now - busy) as f64 - (own_now - own) as f64;
            (used / per_second / (seconds * cores() as f64)).clamp(0.0, 1.0)
        });
        // Clock ticks are coarse: a short test says nothing about its neighbours.
        let others = others.filter(|_| seconds > 0.5);
        Circumstances { processor: processor(), cores: cores(), threads, others, phases: self.phases.clone() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_loaded_or_other_machine_is_marked() {
        let here = Circumstances {
            processor: processor(),
            cores: cores(),
            threads: cores(),
            others: Some(0.05),
            phases: vec![],
        };
        assert_eq!(here.marks(), Vec::<String>::new());
        let loaded = Circumstances { others: Some(0.4), ..here.clone() };
        assert!(loaded.marks()[0].contains("40 %"), "{:?}", loaded.marks());
        let elsewhere = Circumstances { processor: "Abacus".into(), threads: 1, cores: 64, ..here };
        assert_eq!(elsewhere.marks().len(), 2);
    }

    #[test]
    fn phases_add_up() {
        let mut w = Watch::start();
        w.enter(Phase::Loading);
        std::thread::sleep(std::time::Duration::from_millis(20));
        w.enter(Phase::Sampling);
        w.enter(Phase::Writing);
        w.enter(Phase::Sampling);
        let c = w.end(2);
        let names: Vec<Phase> = c.phases.iter().map(|p| p.phase).collect();
        assert_eq!(names, [Phase::Loading, Phase::Sampling, Phase::Writing]);
        assert!(c.phases[0].seconds >= 0.02 && c.threads == 2);
    }
}
