//! Advice with what became of it: it is tried, followed and taken back, and what came of it is measured once and kept. Trials of
//! splits and roulette tell what ledgers cannot.

use crate::forecasts::Origin;
use crate::ledgers::Ended;
use crate::{
    AdviceLine, AdviceState, AdviceView, Came, Event, LightChange, ShotChange, TakeAdvice, TestCost, TrialsView,
    Values, Workshop, json, lock, parse,
};
use advice::{Advice, Effect, PILOT_SAMPLES, Pilot, Sampled, Trials, advise, pilot_tuning, turned};
use fault::{Code, Fault};
use picture::Region;
use scene::ShotEdits;
use serde::{Deserialize, Serialize};
use std::time::Instant;
use store::{AdviceRow, ProofKind};
use tracer::{Description, LIMITS, RenderReport};
use tuning::{K, KNOBS};

/// A pilot and what it rendered.
#[derive(Serialize, Deserialize)]
struct PilotRecord {
    description: Description,
    pilot: Pilot,
}

/// Advice as the log keeps it.
#[derive(Serialize, Deserialize)]
struct Logged {
    #[serde(flatten)]
    advice: Advice,
    /// The knobs as they were before.
    #[serde(default)]
    before: Values,
    /// What came of it, once two proofs have shown it.
    #[serde(default)]
    came: Option<Effect>,
}

/// Tests that are rendered for advice: for a line of it, or trials of splits and roulette.
#[derive(Debug, Clone)]
pub(crate) struct AtWork {
    shot: i64,
    /// The line that is tried; none for trials.
    key: Option<String>,
    what: String,
    done: usize,
    of: usize,
    began: Instant,
}

/// Ends the job, however it ends.
struct Finished(Workshop);

impl Drop for Finished {
    fn drop(&mut self) {
        *lock(&self.0.0.advising) = None;
    }
}

/// Words for a refusal where tests for advice are under way already.
fn at_work_already() -> Fault {
    Fault::new(Code::Busy, "tests for advice are being rendered already", "advice", "wait for them, or stop them")
}

impl Workshop {
    /// Advice for the shot from a proof, with what became of earlier advice.
    pub fn advice(&self, proof: i64) -> Result<AdviceView, Fault> {
        let p = self.ended_proof(proof)?;
        let shot = p.row.shot;
        let counts =
            self.counts(Origin::Proof(proof), p.report.samples).ok_or_else(|| Fault::internal("no counts", "proof"))?;
        let tests = self.ended_tests(shot)?;
        let pilot = self.pilot_for(shot, &p.description)?;
        let now = self.description(shot, None)?;
        let advised = advise(p.measured(&counts, pilot.as_ref()), &now.tuning, &self.machine());
        let at_work = lock(&self.0.advising).clone().filter(|a| a.shot == shot);
        // Seconds of the final: what advice can win there.
        let whole = self.best_forecast(shot, &now.tuning)?.map_or(f64::INFINITY, |best| best.forecast.sampling);
        let line = |advice: Advice, state, came: Option<Came>| -> Result<AdviceLine, Fault> {
            let told = came.as_ref().map_or(advice.effect, |c| c.effect);
            let (without, with) = tried(&p.description, &now, &advice)?;
            let renders = |d: &Description| !tests.iter().any(|e| e.report.complete && same_picture(&e.description, d));
            let seconds =
                p.report.seconds * (renders(&without) as u8 as f64 + renders(&with) as u8 as f64 * advice.effect.time);
            let test = TestCost { seconds, pays: seconds < whole * advice.effect.at_best() };
            Ok(AdviceLine { pays: told.pays(), state, came, test, advice })
        };
        let mut lines: Vec<AdviceLine> = Vec::new();
        let told = |lines: &[AdviceLine], a: &Advice| lines.iter().any(|l| same_advice(&l.advice, a));
        for row in self.0.store.advice(shot)?.into_iter().filter(|r| r.state != "pilot") {
            let mut log: Logged = parse(&row.advice, "advice")?;
            if told(&lines, &log.advice) {
                continue;
            }
            let in_force = same_picture(&now, &followed(&now, &log.advice)?);
            let testing = at_work.as_ref().is_some_and(|a| a.key.as_ref() == Some(&log.advice.key));
            let came = self.came_of(&row, &mut log, &tests)?;
            let state = match row.state.as_str() {
                "dismissed" if advised.iter().any(|a| same_advice(a, &log.advice)) => AdviceState::Dismissed,
                "applied" if in_force => AdviceState::Applied,
                // What came of it is told as long as it would be the same step again.
                "applied" | "tried"
                    if !in_force && (testing || came.is_some() && self.as_before(&now, &row, &log)?) =>
                {
                    AdviceState::Tried
                }
                _ => continue,
            };
            lines.push(line(log.advice, state, came)?);
        }
        for advice in advised {
            if !told(&lines, &advice) {
                lines.push(line(advice, AdviceState::New, None)?);
            }
        }
        lines.sort_by_key(|l| match (l.state, l.pays) {
            (AdviceState::New, _) | (AdviceState::Tried, true) => 0,
            (AdviceState::Applied, _) => 1,
            (AdviceState::Tried, false) => 2,
            (AdviceState::Dismissed, _) => 3,
        });
        let wanted = pilot.is_none_or(|pilot| !pilot.holds_for(&now.tuning));
        let plan = wanted.then(|| self.plan_trials(&p, &now, whole)).transpose()?;
        Ok(AdviceView {
            proof,
            proof_number: p.row.number,
            lines,
            trials: plan.map(|t| TrialsView {
                renders: t.renders(),
                seconds: t.seconds,
                wins: Some(t.wins).filter(|w| w.is_finite()),
                pays: t.pays(),
            }),
            at_work: at_work.map(|a| crate::AdviceAtWork {
                remaining: (a.done > 0)
                    .then(|| a.began.elapsed().as_secs_f64() / a.done as f64 * (a.of - a.done) as f64),
                key: a.key,
                what: a.what,
                done: a.done,
                of: a.of,
            }),
        })
    }

    /// What came of advice: as it was kept, else as two proofs show it now, which is kept then.
    fn came_of(&self, row: &AdviceRow, log: &mut Logged, tests: &[Ended]) -> Result<Option<Came>, Fault> {
        let pair = row.without.zip(row.with).or_else(|| shown_by(&log.advice, row.basis, tests));
        let Some((without, with)) = pair.filter(|_| row.state != "dismissed") else { return Ok(None) };
        if log.came.is_none() {
            log.came = self.effect(without, with, &log.advice);
            if log.came.is_some() {
                self.0.store.set_advice(row.id, &json(&log)?, Some(without), Some(with))?;
            }
        }
        Ok(log.came.map(|effect| Came { without, with, effect }))
    }

    /// Whether following advice would be the step again whose outcome the log keeps.
    fn as_before(&self, now: &Description, row: &AdviceRow, log: &Logged) -> Result<bool, Fault> {
        let values = now.tuning.to_map();
        if !log.before.iter().all(|(id, v)| values.get(id.as_str()).is_some_and(|now| serde_json::json!(now) == *v)) {
            return Ok(false);
        }
        let without = row.without.and_then(|id| self.ended_proof(id).ok());
        Ok(without.is_none_or(|e| {
            let there = Description { region: now.region, ..e.description };
            same_but(&there, now, |id| is_count(id) || log.before.contains_key(id))
        }))
    }

    /// What a change did between two proofs of the same area.
    fn effect(&self, without: i64, with: i64, advice: &Advice) -> Option<Effect> {
        let read = |id: i64| {
            let e = self.ended_proof(id).ok()?;
            e.report.noise.as_ref()?;
            let plate = self.plate(id).ok()?;
            Some(Sampled::of(e.report, &plate, &e.description.view()))
        };
        let (before, after) = (read(without)?, read(with)?);
        let each = before.against(&after);
        if !advice.changes.contains_key("sampling.adaptive") {
            return Some(each);
        }
        // Adaptive sampling spends samples elsewhere: what counts is how many all of it took.
        let spent = after.report.samples as f64 / before.report.samples.max(1) as f64;
        let equal = each.time * spent;
        Some(Effect { equal, unsure: equal * each.unsure / each.equal.max(1e-12), ..each })
    }

    /// Follows, tries or dismisses a line of advice from a proof; takes back what was followed, or brings back what was dismissed.
    pub fn take_advice(&self, proof: i64, take: &TakeAdvice) -> Result<(), Fault> {
        let p = self.ended_proof(proof)?;
        let shot = p.row.shot;
        let now = self.description(shot, None)?;
        let view = self.advice(proof)?;
        let line = view.lines.into_iter().find(|l| l.advice.key == take.key).ok_or_else(|| {
            Fault::new(Code::NotFound, "this advice does not hold any more", &take.key, "look at the list again")
        })?;
        // Another page may have been quicker: nothing is followed twice, and only what is followed is taken back.
        let followed = line.state == AdviceState::Applied;
        if followed && take.state == AdviceState::Applied {
            return Ok(());
        }
        let a = &line.advice;
        if take.state == AdviceState::Tried && lock(&self.0.advising).is_some() {
            return Err(at_work_already());
        }
        let off = |on: bool| {
            let turned = |name: &String| (name.clone(), LightChange { on: Some(on), split: None });
            a.lights_off.iter().map(turned).collect()
        };
        let mut known = None;
        // Whatever was said of it before is over; what came of it stays known.
        for row in self.0.store.advice(shot)?.into_iter().filter(|r| r.state != "pilot") {
            let old: Logged = parse(&row.advice, "advice")?;
            if !same_advice(&old.advice, a) {
                continue;
            }
            if followed && row.state == "applied" && take.state == AdviceState::New {
                let change = ShotChange { tuning: old.before, lights: off(true), ..ShotChange::default() };
                self.change_shot(shot, &change)?;
                self.0.events.tell(Event::Proofs { shot });
                return Ok(());
            }
            known = known.or(old.came.map(|came| (came, row.without, row.with)));
            self.0.store.delete_advice(row.id)?;
        }
        let values = now.tuning.to_map();
        let before: Values =
            a.changes.keys().filter_map(|id| Some((id.clone(), serde_json::json!(values.get(id.as_str())?)))).collect();
        let log = |state: &str, known: Option<(Effect, Option<i64>, Option<i64>)>| {
            let log = Logged { advice: a.clone(), before: before.clone(), came: known.map(|k| k.0) };
            let (without, with) = known.map_or((None, None), |(_, without, with)| (without, with));
            let row = AdviceRow { id: 0, shot, advice: json(&log)?, state: state.into(), basis: proof, without, with };
            self.0.store.add_advice(&row)
        };
        match take.state {
            AdviceState::New => {
                known.map(|known| log("tried", Some(known))).transpose()?;
            }
            AdviceState::Dismissed => {
                log("dismissed", known)?;
            }
            AdviceState::Applied => {
                log("applied", known)?;
                let change = ShotChange { tuning: a.changes.clone(), lights: off(false), ..ShotChange::default() };
                self.change_shot(shot, &change)?;
            }
            AdviceState::Tried => {
                self.try_advice(shot, &p.description, &now, a, || log("tried", None))?;
            }
        }
        self.0.events.tell(Event::Proofs { shot });
        Ok(())
    }

    /// Renders what a proof shows without the change and with it, as the proof was rendered: the one without is mostly the proof.
    fn try_advice(
        &self,
        shot: i64,
        d: &Description,
        now: &Description,
        a: &Advice,
        log: impl FnOnce() -> Result<i64, Fault>,
    ) -> Result<(), Fault> {
        let (without, with) = tried(d, now, a)?;
        with.check()?;
        self.advise_by_tests(shot, Some(&a.key), 2, || {
            let id = log()?;
            Ok(move |w: &Workshop| {
                let both = (|| {
                    let before = w.whole_test_of(shot, without, "as it is")?;
                    Ok((before, w.whole_test_of(shot, with, "with the change")?))
                })();
                match both {
                    Ok((without, with)) => {
                        let row = w.0.store.advice(shot)?.into_iter().find(|r| r.id == id);
                        let Some(row) = row else { return Ok(()) };
                        w.0.store.set_advice(id, &row.advice, Some(without), Some(with))
                    }
                    // Nothing came of it.
                    Err(fault) => w.0.store.delete_advice(id).and(Err(fault)),
                }
            })
        })
    }

    /// Renders tests for advice on a thread of its own, one such job at a time; listeners are told of what went wrong, and that there may
    /// be something new.
    fn advise_by_tests<F: FnOnce(&Workshop) -> Result<(), Fault> + Send + 'static>(
        &self,
        shot: i64,
        key: Option<&str>,
        of: usize,
        work: impl FnOnce() -> Result<F, Fault>,
    ) -> Result<(), Fault> {
        let mut advising = lock(&self.0.advising);
        if advising.is_some() {
            return Err(at_work_already());
        }
        let work = work()?;
        let key = key.map(str::to_string);
        *advising = Some(AtWork { shot, key, what: String::new(), done: 0, of, began: Instant::now() });
        drop(advising);
        let (workshop, finished) = (self.clone(), Finished(self.clone()));
        let run = move || {
            let ended = work(&workshop);
            drop(finished);
            if let Err(fault) = ended {
                workshop.0.events.tell(Event::Refused { fault });
            }
            workshop.0.events.tell(Event::Proofs { shot });
        };
        let begun = std::thread::Builder::new().name("advice".into()).spawn(run);
        begun.map(drop).map_err(|e| Fault::io("thread", &e))
    }

    /// A test for advice that has ended by itself.
    fn advising_test(&self, shot: i64, kind: ProofKind, d: Description, what: &str) -> Result<Ended, Fault> {
        if let Some(a) = lock(&self.0.advising).as_mut() {
            a.what = what.to_string();
        }
        let id = self.run_test(shot, kind, d, false)?;
        if kind == ProofKind::Trial {
            self.0.store.label_proof(id, &format!("trial: {what}"), "", true, false)?;
        }
        let ended = self.wait_for_proof(id);
        if let Some(a) = lock(&self.0.advising).as_mut() {
            a.done += 1;
        }
        ended
    }

    /// A test of a description that has ended by itself: one that is there already, or a new one.
    fn whole_test_of(&self, shot: i64, d: Description, what: &str) -> Result<i64, Fault> {
        let whole = |e: &Ended| e.report.complete && same_picture(&e.description, &d);
        if let Some(e) = self.ended_tests(shot)?.into_iter().find(whole) {
            if let Some(a) = lock(&self.0.advising).as_mut() {
                a.of -= 1;
            }
            return Ok(e.row.id);
        }
        Ok(self.advising_test(shot, ProofKind::Test, d, what)?.row.id)
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
        let rows = self.0.store.advice(shot)?.into_iter().filter(|r| r.state == "pilot");
        // Pilots of earlier versions told no intervals: they are wanted anew.
        let mut read = rows.filter_map(|r| serde_json::from_str::<PilotRecord>(&r.advice).ok());
        Ok(read.find(|r| alike(&r.description, d)).map(|r| r.pilot))
    }

    /// Trials of a proof's part under the shot's tuning that may pay in a final of `whole` seconds.
    fn plan_trials(&self, p: &Ended, now: &Description, whole: f64) -> Result<Trials, Fault> {
        let d = trial(p, now)?;
        let each = undisturbed(&p.report) / p.report.samples.max(1) as f64;
        let samples = d.film_area().area() as f64 * PILOT_SAMPLES as f64;
        Ok(Trials::of(&p.report, &now.tuning, each * samples, whole))
    }

    /// Renders short trials of a proof's part, small, under the shot's tuning: as it is, with more and fewer rays of each kind, with other
    /// roulette, as far as they may pay. They stand in the sheet while they render and go when all have ended; what they tell stays.
    pub fn start_trials(&self, proof: i64) -> Result<(), Fault> {
        let p = self.ended_proof(proof)?;
        let shot = p.row.shot;
        let now = self.description(shot, None)?;
        let whole = self.best_forecast(shot, &now.tuning)?.map_or(f64::INFINITY, |best| best.forecast.sampling);
        let plan = self.plan_trials(&p, &now, whole)?;
        if !plan.pays() {
            let remedy = "raise the samples or lower the threshold first, if more is to be rendered";
            return Err(Fault::new(
                Code::Contradiction,
                "trials would take longer than they could save",
                "trials",
                remedy,
            ));
        }
        let d = trial(&p, &now)?;
        let whole = Description { region: p.description.region, tuning: pilot_tuning(&now.tuning), ..now };
        self.advise_by_tests(shot, None, plan.renders(), || {
            Ok(move |w: &Workshop| {
                let told = w.render_pilot(shot, p.row.id, (&whole, &d), &plan);
                w.forget_trials()?;
                // Who sees what they tell sees that they have gone.
                told.and_then(|row| w.0.store.add_advice(&row).map(drop))
            })
        })
    }

    /// Trials go when they have told what they know, or were cut short by the program's end.
    pub(crate) fn forget_trials(&self) -> Result<(), Fault> {
        for id in self.0.store.proofs_of_kind(ProofKind::Trial)? {
            self.forget_plate(id);
            self.0.store.delete_proof(id)?;
        }
        Ok(())
    }

    fn render_pilot(
        &self,
        shot: i64,
        basis: i64,
        (whole, d): (&Description, &Description),
        plan: &Trials,
    ) -> Result<AdviceRow, Fault> {
        let run = |d: Description, what: &str| -> Result<Sampled, Fault> {
            let view = d.view();
            let e = self.advising_test(shot, ProofKind::Trial, d, what)?;
            Ok(Sampled::of(e.report, &*self.plate(e.row.id)?, &view))
        };
        let base = run(d.clone(), "as it is")?;
        let mut tried = Vec::new();
        for (knob, to) in &plan.list {
            let tuning = d.tuning.changed(&[(knob.to_string(), serde_json::json!(to))].into())?;
            let then = run(Description { tuning, ..d.clone() }, &turned(knob, &d.tuning, to))?;
            tried.push((*knob, to.clone(), then));
        }
        let pilot = Pilot::of(&base, &d.tuning, &tried);
        let mut pilot = pilot.ok_or_else(|| Fault::internal("trials without noise", "pilot"))?;
        if let Some(counts) = pilot.candidate() {
            let changes = counts.iter().map(|(k, n)| (k.to_string(), serde_json::json!(n))).collect();
            let together = Description { tuning: d.tuning.changed(&changes)?, ..d.clone() };
            let then = run(together, "several kinds of rays together")?;
            pilot.confirm(&counts, &base, &then);
        }
        let advice = json(&PilotRecord { description: whole.clone(), pilot })?;
        Ok(AdviceRow { id: 0, shot, advice, state: "pilot".into(), basis, without: None, with: None })
    }
}

/// Seconds that a test would have taken with the processors to itself: forecasts are told so, and what trials and tests take is
/// weighed against these.
fn undisturbed(report: &RenderReport) -> f64 {
    (report.processor_seconds + report.judging_seconds) / report.threads.max(1) as f64
}

/// A pair of proofs that shows what a change did: the one that it rested on and a newer one that differs by the change,
/// and by how many samples it got at most.
fn shown_by(advice: &Advice, basis: i64, tests: &[Ended]) -> Option<(i64, i64)> {
    let before = tests.iter().find(|t| t.row.id == basis)?;
    let changed = followed(&before.description, advice).ok()?;
    let after = tests.iter().find(|t| t.row.id > basis && same_but(&t.description, &changed, is_count))?;
    Some((basis, after.row.id))
}

/// Most pixels of a pilot's renders: what it compares shows as well in a smaller frame.
const PILOT_PIXELS: f64 = 16_000.0;

/// A proof's part under the shot's tuning, as trials render it, in a frame so much smaller that each takes a moment.
fn trial(p: &Ended, now: &Description) -> Result<Description, Fault> {
    let d = Description { region: p.description.region, tuning: pilot_tuning(&now.tuning), ..now.clone() };
    d.check()?;
    let scale = (PILOT_PIXELS / d.film_area().area() as f64).sqrt();
    if scale >= 1.0 {
        return Ok(d);
    }
    let (w, h) = d.frame();
    let less = |n: u32| ((n as f64 * scale).round() as u32).max(1);
    let (width, height) = (less(w), less(h));
    let tuning = d.tuning.clone().with(K::FrameWidth, width).with(K::FrameHeight, height);
    let region = d.region.map(|r| {
        let (x, y) = (less(r.x).min(width - 1), less(r.y).min(height - 1));
        Region { x, y, width: less(r.width).min(width - x), height: less(r.height).min(height - y) }
    });
    let small = Description { tuning, region, ..d };
    small.check()?;
    Ok(small)
}

/// What a proof shows, with the shot's values of the knobs that advice changes, and with the advice followed.
fn tried(d: &Description, now: &Description, a: &Advice) -> Result<(Description, Description), Fault> {
    let values = now.tuning.to_map().into_iter().map(|(id, v)| (id.to_string(), serde_json::json!(v)));
    let before = values.filter(|(id, _)| a.changes.contains_key(id)).collect();
    let without = Description { tuning: d.tuning.changed(&before)?, ..d.clone() };
    let with = followed(&without, a)?;
    Ok((without, with))
}

/// A description with a line of advice followed.
fn followed(d: &Description, a: &Advice) -> Result<Description, Fault> {
    let mut edits: ShotEdits = d.edits.clone();
    for name in &a.lights_off {
        edits.light_mut(name).on = false;
    }
    Ok(Description { tuning: d.tuning.changed(&a.changes)?, edits, ..d.clone() })
}

fn same_advice(a: &Advice, b: &Advice) -> bool {
    a.key == b.key && a.title == b.title
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

/// Whether a pilot of one tells of the other: they differ in what it varies and in counts at most.
fn alike(a: &Description, b: &Description) -> bool {
    let varied = ["depth.roulette_from", "delivery.parts"];
    same_but(a, b, |id| id.starts_with("split.") || varied.contains(&id) || is_count(id))
}
