//! Where the grain comes from: ledgers of proofs, prices of knobs, the question "and at another threshold?", and advice with
//! what became of it.

use crate::{
    AdviceLine, AdviceState, AdviceView, Came, Event, LedgerView, NewTest, PricesView, TakeAdvice, WhatIf, Workshop,
    json, lock, parse,
};
use advice::{Advice, Effect, Measured, advise, forecast, prices};
use fault::{Code, Fault};
use picture::Region;
use picture::noise::NoiseLedger;
use scene::ShotEdits;
use store::{AdviceRow, ProofRow};
use tracer::{Description, RenderReport};
use tuning::{Chosen, K, Tuning};

/// What a test with several rays of each kind is called among the overlays.
const PILOT: &str = "two rays of each kind";
const SPLITS: [K; 4] = [K::SplitDirect, K::SplitDiffuse, K::SplitReflection, K::SplitTransmission];
/// Samples a pixel of such a test.
const PILOT_SAMPLES: u32 = 32;

/// A proof that has ended, read.
struct Ended {
    row: ProofRow,
    description: Description,
    report: RenderReport,
}

impl Workshop {
    fn ended(&self, row: ProofRow) -> Result<Option<Ended>, Fault> {
        let (Some(report), Some(description)) = (&row.report, self.description_of(&row)?) else { return Ok(None) };
        let report: RenderReport = parse(report, "report")?;
        Ok(Some(Ended { row, description, report }))
    }

    fn ended_proof(&self, id: i64) -> Result<Ended, Fault> {
        self.ended(self.0.store.proof(id)?)?.ok_or_else(|| {
            Fault::new(Code::Busy, "this proof has no ledger", format!("proof {id}"), "choose a test that has ended")
        })
    }

    /// Tests of a shot that have ended, newest first.
    fn ended_tests(&self, shot: i64) -> Result<Vec<Ended>, Fault> {
        let rows = self.0.store.proofs(shot)?.into_iter().filter(|r| r.state != "running" && r.kind == "test");
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
            noise,
            seconds: p.report.seconds,
            rays: p.report.rays,
            ledgers: p.report.ledgers,
            differs: p.description.own_tuning().differences(&now).into_iter().map(|d| d.id).collect(),
        })
    }

    /// What adaptive sampling would do to a proof and its shot's final at a threshold; none while it renders.
    pub(crate) fn what_if(&self, proof: i64, threshold: f64) -> Result<Option<WhatIf>, Fault> {
        let Some(p) = self.ended(self.0.store.proof(proof)?)? else { return Ok(None) };
        let Some(counts) = self.counts(proof, p.report.samples) else { return Ok(None) };
        let test = Measured { description: &p.description, counts: &counts, report: &p.report };
        let at = |t: &Tuning| -> Result<Tuning, Fault> {
            // The threshold in question is the one that tests stop at.
            let effort = t.real(K::SamplingEffort).sqrt();
            let mut t = t.clone().with(K::SamplingAdaptive, true);
            t.set("sampling.threshold", &serde_json::json!((threshold * effort).clamp(0.0005, 1.0)))?;
            Ok(t)
        };
        let machine = self.machine();
        let here = forecast(test, &at(&p.description.tuning)?, Some(p.description.area()), &machine);
        let whole = forecast(test, &at(&self.tuning(p.row.shot)?)?, None, &machine);
        Ok(here.zip(whole).map(|(here, whole)| WhatIf {
            took: p.report.seconds,
            seconds: here.sampling,
            whole: whole.brief(),
            samples_per_pixel: here.samples_per_pixel,
            settled: here.settled,
            adaptive: p.description.tuning.switch(K::SamplingAdaptive),
        }))
    }

    /// What the knobs of a shot's final cost and buy; none before a test has ended.
    pub fn prices(&self, shot: i64) -> Result<Option<PricesView>, Fault> {
        let tuning = self.tuning(shot)?;
        let Some((forecast, proof, proof_number)) = self.best_forecast(shot, &tuning)? else { return Ok(None) };
        let p = self.ended_proof(proof)?;
        let Some(counts) = self.counts(proof, p.report.samples) else { return Ok(None) };
        let test = Measured { description: &p.description, counts: &counts, report: &p.report };
        let prices = prices(test, &tuning, &self.machine());
        Ok(Some(PricesView { proof, proof_number, stale: forecast.needs_test, prices }))
    }

    /// Advice for the shot from a proof, with what became of earlier advice.
    pub fn advice(&self, proof: i64) -> Result<AdviceView, Fault> {
        let p = self.ended_proof(proof)?;
        let shot = p.row.shot;
        let counts = self.counts(proof, p.report.samples).ok_or_else(|| Fault::internal("no counts", "proof"))?;
        let tests = self.ended_tests(shot)?;
        let pilot = tests.iter().find(|t| {
            let ledgers = &t.report.ledgers;
            t.description.camera == p.description.camera
                && t.description.region == p.description.region
                && !ledgers.splits.is_empty()
                && ledgers.splits.iter().all(|s| s.within.is_some())
                && alike(&t.description, &p.description)
        });
        let tuning = self.tuning(shot)?;
        let test = Measured { description: &p.description, counts: &counts, report: &p.report };
        let advised = advise(test, pilot.map(|t| &t.report), &tuning, &self.machine());
        let log = self.0.store.advice(shot)?;
        let mut lines = Vec::new();
        for row in log.iter().filter(|r| r.state != "dismissed") {
            let advice: Advice = parse(&row.advice, "advice")?;
            let came = match (row.without, row.with) {
                (Some(without), Some(with)) => Some((without, with)),
                _ => Self::shown_by(&advice, row.basis, &tests),
            };
            let came =
                came.and_then(|(without, with)| Some(Came { without, with, effect: self.effect(without, with)? }));
            let state = if row.state == "applied" { AdviceState::Applied } else { AdviceState::Tried };
            lines.push(AdviceLine { advice, state, came });
        }
        // Advice that was tried keeps its line and its answer as long as it is still the advice.
        for advice in advised.rows {
            let same = |a: &Advice| a.key == advice.key && a.title == advice.title;
            if lines.iter().any(|l| l.state == AdviceState::Tried && same(&l.advice)) {
                continue;
            }
            let dismissed = log.iter().filter(|r| r.state == "dismissed");
            let dismissed = dismissed.filter_map(|r| parse::<Advice>(&r.advice, "advice").ok()).any(|a| same(&a));
            let state = if dismissed { AdviceState::Dismissed } else { AdviceState::New };
            lines.push(AdviceLine { advice, state, came: None });
        }
        lines.sort_by_key(|l| match l.state {
            AdviceState::New | AdviceState::Tried => 0,
            AdviceState::Applied => 1,
            AdviceState::Dismissed => 2,
        });
        Ok(AdviceView { proof, proof_number: p.row.number, lines, unknown: advised.unknown })
    }

    /// A pair of proofs that shows what a change did: the one that it rested on and a newer one that differs by the change
    /// alone.
    fn shown_by(advice: &Advice, basis: i64, tests: &[Ended]) -> Option<(i64, i64)> {
        let before = tests.iter().find(|t| t.row.id == basis)?;
        let changed = changed(&before.description, advice).ok()?;
        let after = tests.iter().find(|t| t.row.id > basis && same_picture(&t.description, &changed))?;
        Some((basis, after.row.id))
    }

    /// What a change did between two proofs of the same area.
    fn effect(&self, without: i64, with: i64) -> Option<Effect> {
        let read = |id: i64| {
            let p = self.ended_proof(id).ok()?;
            let noise = p.report.noise.as_ref()?;
            // Time and variance of a camera sample: counts may differ between the two.
            Some((p.report.processor_seconds / p.report.samples.max(1) as f64, noise.per_sample, p))
        };
        let ((t0, v0, a), (t1, v1, b)) = (read(without)?, read(with)?);
        let equal =
            if a.description.tuning.switch(K::SamplingAdaptive) == b.description.tuning.switch(K::SamplingAdaptive) {
                (t1 * v1) / (t0 * v0)
            } else {
                // Adaptive sampling spends samples elsewhere: what counts is how long all of it took.
                b.report.processor_seconds / a.report.processor_seconds
            };
        Some(Effect { time: t1 / t0, variance: v1 / v0, equal })
    }

    /// Applies, tries or dismisses a line of advice from a proof, or brings a dismissed one back.
    pub fn take_advice(&self, proof: i64, take: &TakeAdvice) -> Result<(), Fault> {
        let p = self.ended_proof(proof)?;
        let shot = p.row.shot;
        let view = self.advice(proof)?;
        let line = view.lines.iter().find(|l| l.advice.key == take.key).ok_or_else(|| {
            Fault::new(Code::NotFound, "this advice does not hold any more", &take.key, "look at the list again")
        })?;
        let a = &line.advice;
        // Whatever was said of it before is over.
        for row in self.0.store.advice(shot)? {
            let old: Advice = parse(&row.advice, "advice")?;
            if old.key == a.key && row.state != "applied" {
                self.0.store.delete_advice(row.id)?;
            }
        }
        let log = |state: &str| {
            let advice = json(a)?;
            let row = AdviceRow { id: 0, shot, advice, state: state.into(), basis: proof, without: None, with: None };
            self.0.store.add_advice(&row)
        };
        match take.state {
            AdviceState::New => {}
            AdviceState::Dismissed => {
                log("dismissed")?;
            }
            AdviceState::Applied => {
                log("applied")?;
                let off = |name: &String| (name.clone(), crate::LightChange { on: Some(false), split: None });
                let change = crate::ShotChange {
                    tuning: a.changes.clone(),
                    lights: a.lights_off.iter().map(off).collect(),
                    ..crate::ShotChange::default()
                };
                self.change_shot(shot, &change)?;
            }
            AdviceState::Tried => {
                let id = log("tried")?;
                self.try_advice(id, shot, p.description.region, a.clone())?;
            }
        }
        self.0.events.tell(Event::Proofs { shot });
        Ok(())
    }

    /// Renders the part without the change and with it, one after the other.
    fn try_advice(&self, id: i64, shot: i64, region: Option<Region>, a: Advice) -> Result<(), Fault> {
        let without = self.description(shot, region)?;
        let with = changed(&without, &a)?;
        with.check()?;
        let workshop = self.clone();
        std::thread::Builder::new()
            .name("advice".into())
            .spawn(move || {
                let mut proofs = Vec::new();
                for d in [without, with] {
                    match workshop.whole_test_of(shot, d) {
                        Ok(Some(proof)) => proofs.push(proof),
                        // Stopped, or pushed out by another test: there is nothing to compare.
                        Ok(None) => return,
                        Err(fault) => return eprintln!("{fault}"),
                    }
                }
                if let Err(fault) = workshop.0.store.set_advice_proofs(id, Some(proofs[0]), Some(proofs[1])) {
                    eprintln!("{fault}");
                }
                workshop.0.events.tell(Event::Proofs { shot });
            })
            .map(|_| ())
            .map_err(|e| Fault::io("thread", &e))
    }

    /// A test of a description that has ended by itself: one that is there already, or a new one.
    fn whole_test_of(&self, shot: i64, d: Description) -> Result<Option<i64>, Fault> {
        let whole = |e: &Ended| e.report.complete && same_picture(&e.description, &d);
        if let Some(e) = self.ended_tests(shot)?.into_iter().find(whole) {
            return Ok(Some(e.row.id));
        }
        let proof = self.run_test(shot, "test", d, false)?;
        while lock(&self.0.test).as_ref().is_some_and(|t| t.proof == proof && t.active()) {
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        self.wait_for_writing();
        let ended = self.0.store.proof(proof).ok().map(|row| self.ended(row)).transpose()?.flatten();
        Ok(ended.filter(|e| e.report.complete).map(|e| e.row.id))
    }

    /// A short test of a proof's part with two rays of each kind, from which advice on splits follows.
    pub fn test_splits(&self, proof: i64) -> Result<i64, Fault> {
        let p = self.ended_proof(proof)?;
        let d = self.description(p.row.shot, p.description.region)?;
        let pairs = SPLITS.map(|k| (id_of(k), serde_json::json!(d.tuning.whole(k).max(2))));
        let rest = [
            ("sampling.adaptive", serde_json::json!(false)),
            ("sampling.effort", serde_json::json!(1.0)),
            ("sampling.most", serde_json::json!(PILOT_SAMPLES)),
        ];
        let values = pairs.into_iter().chain(rest).map(|(id, v)| (id.to_string(), v)).collect();
        let (chosen, _): (Chosen, _) = tuning::understood(&values);
        self.run_test(p.row.shot, "test", d.under(&[(PILOT.into(), chosen)]), false)
    }

    /// Starts a test of what a proof shows under its shot's present tuning.
    pub fn test_again(&self, proof: i64) -> Result<i64, Fault> {
        let p = self.ended_proof(proof)?;
        self.start_test(p.row.shot, &NewTest { region: p.description.region, live: false })
    }
}

fn id_of(k: K) -> &'static str {
    tuning::KNOBS[k as usize].id
}

/// A description with a line of advice followed.
fn changed(d: &Description, a: &Advice) -> Result<Description, Fault> {
    let mut edits: ShotEdits = d.edits.clone();
    for name in &a.lights_off {
        edits.lights.entry(name.clone()).or_default().on = false;
    }
    Ok(Description { tuning: d.tuning.changed(&a.changes)?, edits, ..d.clone() })
}

/// Whether two descriptions are of the same picture, whatever overlays led to it.
fn same_picture(a: &Description, b: &Description) -> bool {
    (&a.scene, &a.environment, &a.camera, a.region, &a.tuning, &a.edits)
        == (&b.scene, &b.environment, &b.camera, b.region, &b.tuning, &b.edits)
}

/// Whether two descriptions differ in splits and counts of samples at most.
fn alike(a: &Description, b: &Description) -> bool {
    let counts = ["sampling.adaptive", "sampling.least", "sampling.most", "sampling.threshold", "sampling.effort"];
    let free = |id: &str| id.starts_with("split.") || id == "sampling.seed" || counts.contains(&id);
    a.scene == b.scene
        && a.environment == b.environment
        && a.edits == b.edits
        && a.tuning.differences(&b.tuning).iter().all(|d| free(d.id))
}
