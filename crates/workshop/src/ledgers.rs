//! Where the grain comes from: ledgers of proofs, prices of knobs, and the question "and at another threshold?".

use crate::Circumstances;
use crate::forecasts::Origin;
use crate::{LedgerView, PricesView, WhatIf, Workshop, parse};
use advice::{Measured, Pilot, forecast, noise_costs, prices};
use fault::{Code, Fault};
use picture::Region;
use picture::noise::NoiseLedger;
use store::{ProofKind, ProofRow, ProofState};
use tracer::{Description, RenderReport, SavedCounts};
use tuning::{K, Tuning};

/// A proof that has ended, read.
pub(crate) struct Ended {
    pub row: ProofRow,
    pub description: Description,
    pub report: RenderReport,
}

impl Ended {
    pub fn measured<'a>(&'a self, counts: &'a SavedCounts, pilot: Option<&'a Pilot>) -> Measured<'a> {
        let others = Circumstances::others_beside(&self.row);
        Measured { description: &self.description, counts, report: &self.report, pilot, others, also: &[] }
    }
}

impl Workshop {
    pub(crate) fn ended(&self, row: ProofRow) -> Result<Option<Ended>, Fault> {
        let (Some(report), Some(description)) = (&row.report, self.description_of(&row)?) else { return Ok(None) };
        let report: RenderReport = parse(report, "report")?;
        Ok(Some(Ended { row, description, report }))
    }

    pub(crate) fn ended_proof(&self, id: i64) -> Result<Ended, Fault> {
        self.ended(self.0.store.proof(id)?)?.ok_or_else(|| {
            Fault::new(Code::Busy, "this proof has no ledger", format!("proof {id}"), "choose a test that has ended")
        })
    }

    /// Tests of a shot that have ended, newest first.
    pub(crate) fn ended_tests(&self, shot: i64) -> Result<Vec<Ended>, Fault> {
        let rows = self
            .0
            .store
            .proofs(shot)?
            .into_iter()
            .filter(|r| r.state != ProofState::Running && r.kind == ProofKind::Test);
        rows.filter_map(|r| self.ended(r).transpose()).collect()
    }

    /// The ledgers of a proof; the noise ledger of the part that is asked for.
    pub fn ledger(&self, proof: i64, part: Option<Region>) -> Result<LedgerView, Fault> {
        let p = self.ended_proof(proof)?;
        let noise = match (part, &p.report.noise) {
            (Some(r), Some(_)) => {
                r.check(p.description.frame())?;
                NoiseLedger::of(&*self.plate(proof)?, &p.description.view(), r)
            }
            (_, whole) => whole.clone(),
        };
        let now = self.tuning(p.row.shot)?;
        Ok(LedgerView {
            proof,
            proof_number: p.row.number,
            costs: noise_costs(&p.report, noise.as_ref()),
            noise,
            seconds: p.report.seconds,
            rays: p.report.rays,
            ledgers: p.report.ledgers,
            differs: p.description.own_tuning().differences(&now).into_iter().map(|d| d.id).collect(),
        })
    }

    /// What adaptive sampling would do to a proof and its shot's final at a threshold; none while it renders. The proof tells its
    /// own part, the test on which the shot's bill would rest tells the final.
    pub(crate) fn what_if(&self, proof: i64, threshold: f64) -> Result<Option<WhatIf>, Fault> {
        let Some(p) = self.ended(self.0.store.proof(proof)?)? else { return Ok(None) };
        let Some(counts) = self.counts(Origin::Proof(proof), p.report.samples) else { return Ok(None) };
        let test = p.measured(&counts, None);
        let at = |t: &Tuning| -> Result<Tuning, Fault> {
            // The threshold in question is the one that tests stop at.
            let effort = t.real(K::SamplingEffort).sqrt();
            let mut t = t.clone().with(K::SamplingAdaptive, true);
            t.set("sampling.threshold", &serde_json::json!((threshold * effort).clamp(0.0005, 1.0)))?;
            Ok(t)
        };
        // Of the proof's own part: in proportion to what it took, beside whatever ran beside it.
        let part = |t: &Tuning| forecast(test, t, Some(p.description.area()), &self.machine());
        let here = part(&at(&p.description.tuning)?).zip(part(&p.description.tuning));
        let wanted = at(&self.tuning(p.row.shot)?)?;
        let (whole, by) = match self.best_forecast(p.row.shot, &wanted)? {
            Some(best) => (Some(best.forecast), Some(best.by)),
            // The shot has another scene or camera by now.
            None => (forecast(test, &wanted, None, &self.machine()), None),
        };
        Ok(here.zip(whole).map(|((here, own), whole)| WhatIf {
            took: p.report.seconds,
            seconds: p.report.seconds * here.sampling / own.sampling,
            whole: whole.brief(),
            by: by.filter(|by| *by != format!("proof {}", p.row.number)),
            samples_per_pixel: here.samples_per_pixel,
            settled: here.settled,
            adaptive: p.description.tuning.switch(K::SamplingAdaptive),
        }))
    }

    /// What the knobs of a shot's final cost and buy; none before a test has ended.
    pub fn prices(&self, shot: i64) -> Result<Option<PricesView>, Fault> {
        let tuning = self.tuning(shot)?;
        let Some(best) = self.best_forecast(shot, &tuning)? else { return Ok(None) };
        let prices = best.measured(|m| prices(m, &tuning, &self.machine()));
        Ok(Some(PricesView { by: best.by, stale: best.changed, prices }))
    }
}
