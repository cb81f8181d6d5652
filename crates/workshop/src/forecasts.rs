//! The forecast of a shot's final, from its best test.

use crate::saved::load_counts;
use crate::{ForecastView, Workshop, lock, parse};
use advice::{Brief, Forecast, Machine, Measured, forecast};
use fault::Fault;
use picture::Region;
use picture::denoise::Method;
use std::sync::Arc;
use tracer::{Description, RenderReport, SavedCounts};
use tuning::Tuning;

/// Tests that are looked at, newest first.
const CANDIDATES: usize = 12;

/// A proof and its samples.
pub(crate) type CountsKey = (i64, u64);

/// Under which name the seconds a pixel of a denoiser are kept.
pub(crate) fn denoise_figure(method: Method) -> String {
    format!("denoise_per_pixel.{}", method.name())
}

impl Workshop {
    /// Figures of this machine, as far as it has been measured.
    pub(crate) fn machine(&self) -> Machine {
        let m = Machine::default();
        let get = |key: &str, otherwise: f64| self.0.store.machine(key).unwrap_or(otherwise);
        Machine {
            start: get("start", m.start),
            denoise_per_pixel: Method::ALL.map(|k| get(&denoise_figure(k), m.denoise_per_pixel[k as usize])),
            write_per_pixel: get("write_per_pixel", m.write_per_pixel),
        }
    }

    /// Forecast of the whole frame at the shot's tuning; none before a test of its scene and camera has ended.
    pub fn forecast(&self, shot: i64) -> Result<Option<ForecastView>, Fault> {
        let row = self.0.store.shot(shot)?;
        let tuning = self.tuning(shot)?;
        Ok(self.best_forecast(shot, &tuning)?.map(|(forecast, proof, proof_number)| ForecastView {
            forecast,
            proof,
            proof_number,
            budget: row.budget,
        }))
    }

    /// How long the reference of a region, or of the whole frame, should take; none before a test has ended.
    pub fn reference_forecast(&self, shot: i64, region: Option<Region>) -> Result<Option<Brief>, Fault> {
        let d = self.reference_description(shot, region)?;
        Ok(self.best_of(shot, &d.tuning, region)?.map(|(f, ..)| f.brief()))
    }

    pub(crate) fn best_forecast(&self, shot: i64, tuning: &Tuning) -> Result<Option<(Forecast, i64, i64)>, Fault> {
        self.best_of(shot, tuning, None)
    }

    /// Counts of a proof, from memory or from its folder.
    pub(crate) fn counts(&self, proof: i64, samples: u64) -> Option<Arc<SavedCounts>> {
        let key = (proof, samples);
        if let Some((_, c)) = lock(&self.0.counts).iter().find(|(k, _)| *k == key) {
            return Some(c.clone());
        }
        let read = Arc::new(load_counts(&self.0.store.proof_folder(proof)).ok()?);
        let mut kept = lock(&self.0.counts);
        kept.push_back((key, read.clone()));
        while kept.len() > 2 * CANDIDATES {
            kept.pop_front();
        }
        Some(read)
    }

    /// The test with the fewest knobs that need a new one, then whole frames before regions, then the larger, then the newer.
    fn best_of(
        &self,
        shot: i64,
        tuning: &Tuning,
        region: Option<Region>,
    ) -> Result<Option<(Forecast, i64, i64)>, Fault> {
        let row = self.0.store.shot(shot)?;
        let machine = self.machine();
        let mut best: Option<(Forecast, i64, i64)> = None;
        for p in self
            .0
            .store
            .proofs(shot)?
            .into_iter()
            .filter(|p| p.state != "running" && p.kind != "picture")
            .take(CANDIDATES)
        {
            let d: Description = parse(&p.description, "proof")?;
            if d.scene != row.scene || d.camera != row.camera || d.environment != row.environment {
                continue;
            }
            let Some(report) = &p.report else { continue };
            let report: RenderReport = parse(report, "report")?;
            let Some(counts) = self.counts(p.id, report.samples) else { continue };
            let Some(f) =
                forecast(Measured { description: &d, counts: &counts, report: &report }, tuning, region, &machine)
            else {
                continue;
            };
            let rank = |f: &Forecast| (f.needs_test.len(), !f.measured, (-1e4 * f.seen) as i64);
            if best.as_ref().is_none_or(|(b, ..)| rank(&f) < rank(b)) {
                best = Some((f, p.id, p.number));
            }
        }
        Ok(best)
    }
}
