//! Where the grain comes from: ledgers of proofs, prices of knobs, the question "and at another threshold?", and advice with
//! what became of it.

use crate::Circumstances;
use crate::forecasts::Origin;
use crate::{
    AdviceLine, AdviceState, AdviceView, Came, Event, LedgerView, PricesView, TakeAdvice, WhatIf, Workshop, json, lock,
    parse,
};
use advice::{
    Advice, Effect, Measured, Pilot, advise, forecast, noise_costs, pilot_tuning, prices, time_ratio, trials,
};
use fault::{Code, Fault};
use picture::Region;
use picture::noise::NoiseLedger;
use scene::ShotEdits;
use serde::{Deserialize, Serialize};
use store::{AdviceRow, ProofRow};
use store::{ProofKind, ProofState};
use tracer::{Description, LIMITS, RenderReport, SavedCounts};
use tuning::{K, KNOBS, Tuning};

/// A pilot and what it rendered.
#[derive(Serialize, Deserialize)]
struct PilotRecord {
    description: Description,
    pilot: Pilot,
}

/// A proof that has ended, read.
struct Ended {
    row: ProofRow,
    description: Description,
    report: RenderReport,
}

impl Ended {
    fn measured<'a>(&'a self, counts: &'a SavedCounts, pilot: Option<&'a Pilot>) -> Measured<'a> {
        let others = Circumstances::others_beside(&self.row);
        Measured { description: &self.description, counts, report: &self.report, pilot, others, also: &[] }
    }
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

    /// Advice for the shot from a proof, with what became of earlier advice.
    pub fn advice(&self, proof: i64) -> Result<AdviceView, Fault> {
        let p = self.ended_proof(proof)?;
        let shot = p.row.shot;
        let counts =
            self.counts(Origin::Proof(proof), p.report.samples).ok_or_else(|| Fault::internal("no counts", "proof"))?;
        let tests = self.ended_tests(shot)?;
        let pilot = self.pilot_for(shot, &p.description)?;
        let tuning = self.tuning(shot)?;
        let test = p.measured(&counts, pilot.as_ref());
        let advised = advise(test, &tuning, &self.machine());
        let log = self.0.store.advice(shot)?;
        let mut lines = Vec::new();
        for row in log.iter().filter(|r| r.state == "applied" || r.state == "tried") {
            let advice: Advice = parse(&row.advice, "advice")?;
            let came = match (row.without, row.with) {
                (Some(without), Some(with)) => Some((without, with)),
                _ => Self::shown_by(&advice, row.basis, &tests),
            };
            let came = came
                .and_then(|(without, with)| Some(Came { without, with, effect: self.effect(without, with, &advice)? }));
            let state = if row.state == "applied" { AdviceState::Applied } else { AdviceState::Tried };
            lines.push(AdviceLine { advice, state, came });
        }
        // Advice that was tried keeps its line and its answer as long as it is still the advice.
        for advice in advised {
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
        Ok(AdviceView {
            proof,
            proof_number: p.row.number,
            lines,
            wants_pilot: pilot.is_none_or(|p| !p.holds_for(&tuning)),
        })
    }

    /// A pair of proofs that shows what a change did: the one that it rested on and a newer one that differs by the change,
    /// and by how many samples it got at most.
    fn shown_by(advice: &Advice, basis: i64, tests: &[Ended]) -> Option<(i64, i64)> {
        let before = tests.iter().find(|t| t.row.id == basis)?;
        let changed = changed(&before.description, advice).ok()?;
        let after = tests.iter().find(|t| t.row.id > basis && same_but_counts(&t.description, &changed))?;
        Some((basis, after.row.id))
    }

    /// What a change did between two proofs of the same area.
    fn effect(&self, without: i64, with: i64, advice: &Advice) -> Option<Effect> {
        let read = |id: i64| {
            let p = self.ended_proof(id).ok()?;
            let noise = p.report.noise.as_ref()?;
            Some((noise.per_sample, p))
        };
        let ((v0, a), (v1, b)) = (read(without)?, read(with)?);
        // Time and variance of a camera sample: counts may differ between the two.
        let (time, variance) = (time_ratio(&a.report, &b.report), v1 / v0);
        // Adaptive sampling spends samples elsewhere: what counts is how many all of it took.
        let spent = b.report.samples as f64 / a.report.samples.max(1) as f64;
        let elsewhere = advice.changes.contains_key("sampling.adaptive");
        let equal = if elsewhere { time * spent } else { time * variance };
        Some(Effect { time, variance, equal })
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
        for row in self.0.store.advice(shot)?.into_iter().filter(|r| r.state != "pilot") {
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
                self.try_advice(id, shot, &p.description, a)?;
            }
        }
        self.0.events.tell(Event::Proofs { shot });
        Ok(())
    }

    /// Renders what a proof shows without the change and with it, as the proof was rendered: the one without is mostly the proof.
    fn try_advice(&self, id: i64, shot: i64, d: &Description, a: &Advice) -> Result<(), Fault> {
        let tuning = self.tuning(shot)?;
        let now = tuning.to_map().into_iter().map(|(id, v)| (id.to_string(), serde_json::json!(v)));
        let before = now.filter(|(id, _)| a.changes.contains_key(id)).collect();
        let without = Description { tuning: d.tuning.changed(&before)?, ..d.clone() };
        let with = changed(&without, a)?;
        with.check()?;
        self.beside("advice", shot, move |w| {
            let without = w.whole_test_of(shot, without)?;
            let with = w.whole_test_of(shot, with)?;
            w.0.store.set_advice_proofs(id, Some(without), Some(with))
        })
    }

    /// Works on a thread of its own; listeners are told of what went wrong, and that there may be something new.
    fn beside(
        &self,
        name: &str,
        shot: i64,
        work: impl FnOnce(&Workshop) -> Result<(), Fault> + Send + 'static,
    ) -> Result<(), Fault> {
        let workshop = self.clone();
        let run = move || {
            if let Err(fault) = work(&workshop) {
                workshop.0.events.tell(Event::Refused { fault });
            }
            workshop.0.events.tell(Event::Proofs { shot });
        };
        std::thread::Builder::new().name(name.into()).spawn(run).map(|_| ()).map_err(|e| Fault::io("thread", &e))
    }

    /// A test of a description that has ended by itself: one that is there already, or a new one.
    fn whole_test_of(&self, shot: i64, d: Description) -> Result<i64, Fault> {
        let whole = |e: &Ended| e.report.complete && same_picture(&e.description, &d);
        if let Some(e) = self.ended_tests(shot)?.into_iter().find(whole) {
            return Ok(e.row.id);
        }
        let proof = self.run_test(shot, ProofKind::Test, d, false)?;
        Ok(self.wait_for_proof(proof)?.row.id)
    }

    /// Waits for a test to end and to be put away; refused if it was stopped or pushed out by another.
    fn wait_for_proof(&self, proof: i64) -> Result<Ended, Fault> {
        while lock(&self.0.test).as_ref().is_some_and(|t| t.proof == proof && t.active()) {
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        self.wait_for_writing();
        let ended = self.0.store.proof(proof).ok().map(|row| self.ended(row)).transpose()?.flatten();
        ended.filter(|e| e.report.complete).ok_or_else(|| {
            let remedy = "ask again when no other test is to run";
            Fault::new(Code::Busy, "it was stopped before it could tell anything", "test for the advice", remedy)
        })
    }

    /// The newest pilot of the picture that a description shows, whatever its splits and counts.
    pub(crate) fn pilot_for(&self, shot: i64, d: &Description) -> Result<Option<Pilot>, Fault> {
        for row in self.0.store.advice(shot)?.iter().filter(|r| r.state == "pilot") {
            let record: PilotRecord = parse(&row.advice, "pilot")?;
            if alike(&record.description, d) {
                return Ok(Some(record.pilot));
            }
        }
        Ok(None)
    }

    /// Renders short trials of a proof's part, small, under the shot's tuning: as it is, with more and fewer rays of each kind, with other
    /// roulette. They stand in the sheet while they render and go when all have ended; what they tell stays.
    pub fn start_trials(&self, proof: i64) -> Result<(), Fault> {
        let p = self.ended_proof(proof)?;
        let shot = p.row.shot;
        let mut d = self.description(shot, p.description.region)?;
        d.tuning = pilot_tuning(&d.tuning);
        d.check()?;
        let small = smaller(&d)?;
        self.beside("pilot", shot, move |w| {
            let mut proofs = Vec::new();
            let told = w.render_pilot(shot, p.row.id, (&d, &small), &p.report, &mut proofs);
            for id in proofs {
                w.forget_plate(id);
                w.0.store.delete_proof(id)?;
            }
            // Who sees what they tell sees that they have gone.
            told?.map_or(Ok(()), |row| w.0.store.add_advice(&row).map(|_| ()))
        })
    }

    fn render_pilot(
        &self,
        shot: i64,
        basis: i64,
        (whole, d): (&Description, &Description),
        report: &RenderReport,
        proofs: &mut Vec<i64>,
    ) -> Result<Option<AdviceRow>, Fault> {
        let mut run = |d: Description, name: &str| -> Result<RenderReport, Fault> {
            let id = self.run_test(shot, ProofKind::Test, d, false)?;
            self.0.store.label_proof(id, &format!("pilot: {name}"), "", true, false)?;
            proofs.push(id);
            Ok(self.wait_for_proof(id)?.report)
        };
        let base = run(d.clone(), "as it is")?;
        let mut tried = Vec::new();
        for (knob, to) in trials(report, &d.tuning) {
            let tuning = d.tuning.changed(&[(knob.to_string(), serde_json::json!(to))].into())?;
            let report = run(Description { tuning, ..d.clone() }, &format!("{knob} {to}"))?;
            tried.push((knob, to, report));
        }
        let Some(mut pilot) = Pilot::of(&base, &d.tuning, &tried) else { return Ok(None) };
        if let Some(counts) = pilot.candidate() {
            let changes = counts.iter().map(|(k, n)| (k.to_string(), serde_json::json!(n))).collect();
            let together = Description { tuning: d.tuning.changed(&changes)?, ..d.clone() };
            let report = run(together, "splits together")?;
            pilot.confirm(&counts, &base, &report);
        }
        let advice = json(&PilotRecord { description: whole.clone(), pilot })?;
        Ok(Some(AdviceRow { id: 0, shot, advice, state: "pilot".into(), basis, without: None, with: None }))
    }
}

/// Most pixels of a pilot's renders: what it compares shows as well in a smaller frame.
const PILOT_PIXELS: f64 = 16_000.0;

/// The same area in a frame so much smaller that a pilot takes a moment.
fn smaller(d: &Description) -> Result<Description, Fault> {
    let scale = (PILOT_PIXELS / d.film_area().area() as f64).sqrt();
    if scale >= 1.0 {
        return Ok(d.clone());
    }
    let (w, h) = d.frame();
    let less = |n: u32| ((n as f64 * scale).round() as u32).max(1);
    let (width, height) = (less(w), less(h));
    let tuning = d.tuning.clone().with(K::FrameWidth, width).with(K::FrameHeight, height);
    let region = d.region.map(|r| {
        let (x, y) = (less(r.x).min(width - 1), less(r.y).min(height - 1));
        Region { x, y, width: less(r.width).min(width - x), height: less(r.height).min(height - y) }
    });
    let small = Description { tuning, region, ..d.clone() };
    small.check()?;
    Ok(small)
}

/// A description with a line of advice followed.
fn changed(d: &Description, a: &Advice) -> Result<Description, Fault> {
    let mut edits: ShotEdits = d.edits.clone();
    for name in &a.lights_off {
        edits.light_mut(name).on = false;
    }
    Ok(Description { tuning: d.tuning.changed(&a.changes)?, edits, ..d.clone() })
}

/// Whether two descriptions are of the same picture, whatever overlays led to it.
fn same_picture(a: &Description, b: &Description) -> bool {
    same_but(a, b, |_| false)
}

/// Knobs that say which samples are taken and how many, never what they show.
fn is_count(id: &str) -> bool {
    id == "sampling.seed" || LIMITS.iter().any(|k| KNOBS[*k as usize].id == id)
}

/// Whether two descriptions are of the same picture but for some knobs.
fn same_but(a: &Description, b: &Description, free: impl Fn(&str) -> bool) -> bool {
    (&a.scene, &a.environment, &a.camera, a.region, &a.edits)
        == (&b.scene, &b.environment, &b.camera, b.region, &b.edits)
        && a.tuning.differences(&b.tuning).iter().all(|d| free(d.id))
}

fn same_but_counts(a: &Description, b: &Description) -> bool {
    same_but(a, b, is_count)
}

/// Whether a pilot of one tells of the other: they differ in what it varies and in counts at most.
fn alike(a: &Description, b: &Description) -> bool {
    let varied = ["depth.roulette_from", "delivery.parts"];
    same_but(a, b, |id| id.starts_with("split.") || varied.contains(&id) || is_count(id))
}
