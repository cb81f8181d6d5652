//! The forecast of a shot's final, from the best that is known of it.
//!
//! The rule: a delivered final of the same picture is the truth. Before that, what differs from the final in nothing that only a
//! test can tell goes before what does; what has seen the whole frame, or squares all over it, before regions; full size before
//! reduced; and the surer before the less sure, which puts more samples before fewer and, if both are as sure, the newer before
//! the older. Where another one of full size has seen a place better, its samples count there, whatever the rest rests on.

use crate::finals::{Task, there};
use crate::memory::{Key, Shared};
use crate::rejudging::Anew;
use crate::saved::load_counts;
use crate::{Circumstances, FinalReport, FitView, ForecastView, Rest, Unused, Workshop, parse};
use advice::{
    Brief, FILES, Fit, FitRow, Forecast, Machine, Measured, Pilot, Seen, Spent, Trust, Wanted, fit, fit_denoised,
    forecast,
};
use fault::{Code, Fault};
use picture::Region;
use picture::denoise::Method;
use serde::Deserialize;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use store::{Policy, ProofKind, ProofState};
use tracer::{Description, Limits, RenderReport, SavedCounts};
use tuning::{K, Tuning};

/// Tests that are looked at, and delivered finals, newest first.
const CANDIDATES: usize = 12;
const FINALS: usize = 4;

/// Samples a pixel that the knob allows.
const MOST: u32 = 65_536;

/// How many more than the best one tell of a forecast.
const ALSO: usize = 4;

/// Finals whose forecasts are compared with what came, newest first.
const HISTORY: u32 = 30;

fn label_of(id: &str) -> &str {
    tuning::KNOBS.iter().find(|k| k.id == id).map_or(id, |k| k.label)
}

/// Under which name the seconds a pixel of a denoiser are kept.
pub(crate) fn denoise_figure(method: Method) -> String {
    format!("denoise_per_pixel.{}", method.name())
}

/// What of a final's report tells how its forecast has held.
#[derive(Deserialize)]
struct Came {
    total: f64,
    #[serde(default)]
    before: f64,
}

impl Workshop {
    /// Figures of this machine, as far as it has been measured.
    pub(crate) fn machine(&self) -> Machine {
        let m = Machine::default();
        let get = |key: &str, otherwise: f64| self.0.store.machine(key).unwrap_or(otherwise);
        Machine {
            start: get("start", m.start),
            denoise_per_pixel: Method::ALL.map(|k| get(&denoise_figure(k), m.denoise_per_pixel[k as usize])),
            write_per_channel: get("write_per_channel", m.write_per_channel),
            mattes_per_pixel: get("mattes_per_pixel", m.mattes_per_pixel),
            file_bytes: std::array::from_fn(|i| get(&format!("bytes.{}", FILES[i]), m.file_bytes[i])),
            trust: self.trust(),
        }
    }

    /// How the forecasts of finals have held on this machine: of those that rendered to their threshold.
    fn trust(&self) -> Trust {
        let ratio = |(told, came): &(String, String)| {
            let (told, came) = (parse::<Brief>(told, "forecast").ok()?, parse::<Came>(came, "report").ok()?);
            (told.seconds > 0.0).then(|| (came.total + came.before) / told.seconds * told.factor)
        };
        let held = self.0.store.held_forecasts(HISTORY).unwrap_or_default();
        Trust::from(&held.iter().filter_map(ratio).collect::<Vec<_>>())
    }

    /// Forecast of the whole frame at the shot's tuning; none before a test of its scene and camera has ended.
    pub fn forecast(&self, shot: i64) -> Result<Option<ForecastView>, Fault> {
        self.shared(&format!("forecast {shot}"), || self.make_forecast(shot))
    }

    /// An answer that many may ask for at once: it is worked out once, for all who ask before anything has changed.
    pub(crate) fn shared<T: Clone + Send + Sync + 'static>(
        &self,
        what: &str,
        make: impl FnOnce() -> Result<T, Fault>,
    ) -> Result<T, Fault> {
        let changes = self.0.changes.load(Ordering::Acquire);
        let answer = self.0.memory.get(&Key::Answer(format!("{what} after {changes}")), || make().map(Shared))?;
        Ok(answer.0.clone())
    }

    fn make_forecast(&self, shot: i64) -> Result<Option<ForecastView>, Fault> {
        let row = self.0.store.shot(shot)?;
        let tuning = self.tuning(shot)?;
        Ok(self.best_forecast(shot, &tuning)?.map(|best| ForecastView {
            rests: best.rests(),
            by: best.by,
            unused: best.unused,
            changed: best.changed,
            marks: best.test.marks,
            judged_anew: best.test.counts.anew,
            judging: best.under_way,
            forecast: best.forecast,
            budget: row.budget,
        }))
    }

    /// How long the reference of a region, or of the whole frame, should take; none before a test has ended.
    pub fn reference_forecast(&self, shot: i64, region: Option<Region>) -> Result<Option<Brief>, Fault> {
        let d = self.reference_description(shot, region)?;
        Ok(self.best_of(shot, &d.camera, &d.tuning, region, false)?.map(|best| best.forecast.brief()))
    }

    /// From the test that says most of the shot's final; where that is to be judged anew, as far as this is known already.
    pub(crate) fn best_forecast(&self, shot: i64, tuning: &Tuning) -> Result<Option<Best>, Fault> {
        self.best_of(shot, &self.0.store.shot(shot)?.camera, tuning, None, false)
    }

    /// Forecasts of frames of a shot at one tuning: from tests through each one's own camera; between two stations of a move as
    /// much of each as the frame is near it. None where a camera has no test.
    pub(crate) fn frame_forecasts(
        &self,
        shot: i64,
        frames: &[(Description, Task)],
    ) -> Result<Vec<Option<Forecast>>, Fault> {
        let mut known: HashMap<&str, Option<Forecast>> = HashMap::new();
        for (d, _) in frames {
            for camera in d.cameras() {
                if !known.contains_key(camera) {
                    known.insert(camera, self.best_of(shot, camera, &d.tuning, None, true)?.map(|best| best.forecast));
                }
            }
        }
        let of = |camera: &str| known.get(camera).cloned().flatten();
        // Tests of a shot that moves by itself have seen that move.
        let leg = |(d, task): &(Description, Task)| d.edits.camera_move.clone().filter(|_| task.number.is_some());
        let frame = |f: &(Description, Task)| match leg(f) {
            Some(m) => Some(of(&f.0.camera)?.between(&of(&m.to)?, (m.frame / m.frames) as f64)),
            None => of(&f.0.camera),
        };
        Ok(frames.iter().map(frame).collect())
    }

    pub(crate) fn folder_of(&self, origin: Origin) -> PathBuf {
        match origin {
            Origin::Proof(id) => self.0.store.proof_folder(id),
            Origin::Final(id) => self.0.store.final_folder(id),
        }
    }

    /// Counts of a proof or final, from memory or from its folder.
    pub(crate) fn counts(&self, origin: Origin, samples: u64) -> Option<Arc<SavedCounts>> {
        let read = || load_counts(&self.folder_of(origin));
        self.0.memory.get(&Key::Counts(origin, samples), read).ok()
    }

    /// Delivered finals and tests of the shot's scene through a camera that can be forecast from, newest first, and which of its proofs
    /// are not looked at.
    fn tests(&self, shot: i64, camera: &str) -> Result<(Vec<Tested>, Vec<Unused>), Fault> {
        let row = self.0.store.shot(shot)?;
        let (mut out, mut elsewhere, mut older) = (Vec::new(), 0, false);
        let same = |d: &Description| d.scene == row.scene && d.camera == camera && d.environment == row.environment;
        for f in self.0.store.newest_delivered(shot, FINALS as u32)? {
            let mut description: Description = parse(&f.description, "final")?;
            let Some(report) = f.report.as_ref().filter(|_| same(&description)) else { continue };
            let report: FinalReport = parse(report, "report")?;
            // Under a time limit, and where it was topped up, it did not end at its own threshold and most samples.
            let held = (f.policy == Policy::Time).then(|| report.plan.last().map_or(1.0, |d| d.threshold));
            let own = Limits::of(&description.tuning).threshold;
            if let Some(ended) = held.or((!report.earlier.is_empty()).then_some(1.01 * own)) {
                let t = description.tuning.with(K::SamplingEffort, 1.0).with(K::SamplingMost, MOST);
                description.tuning = t.with(K::SamplingThreshold, ended.clamp(0.0005, 1.0));
            }
            let origin = Origin::Final(f.id);
            let Some(counts) = self.counts(origin, report.render.samples) else { continue };
            let pilot = self.pilot_for(shot, &description)?;
            let (name, marks) = (format!("the final {}", self.base_of(&f)?), Vec::new());
            let came = report.to_threshold.then_some(Spent {
                start: report.start + report.saving,
                sampling: report.before + report.sampling,
                processor: report.render.processor_seconds + report.render.judging_seconds,
                threads: report.render.threads as f64,
                clean_up: report.denoise,
                files: report.writing,
            });
            out.push(Tested {
                origin,
                name,
                marks,
                others: 0.0,
                description,
                counts,
                report: report.render,
                pilot,
                came,
            });
        }
        let mut seen = 0;
        for p in self.0.store.each_proof(shot) {
            let p = p?;
            if p.state == ProofState::Running || matches!(p.kind, ProofKind::Picture | ProofKind::Trial) {
                continue;
            }
            let description: Description = parse(&p.description, "proof")?;
            let Some(report) = p.report.as_ref() else { continue };
            if !same(&description) {
                elsewhere += 1;
                continue;
            }
            if seen == CANDIDATES {
                older = true;
                break;
            }
            seen += 1;
            let report: RenderReport = parse(report, "report")?;
            let origin = Origin::Proof(p.id);
            let Some(counts) = self.counts(origin, report.samples) else { continue };
            let pilot = self.pilot_for(shot, &description)?;
            let others = Circumstances::others_beside(&p);
            let marks = Circumstances::of(&p).map(|c| c.marks()).unwrap_or_default();
            let name = format!("proof {}", p.number);
            out.push(Tested { origin, name, marks, others, description, counts, report, pilot, came: None });
        }
        let mut unused = Vec::new();
        if elsewhere > 0 {
            let name = if elsewhere == 1 { "1 proof".into() } else { format!("{elsewhere} proofs") };
            unused.push(Unused { name, why: "another scene, camera or sky".into() });
        }
        if older {
            unused
                .push(Unused { name: "older proofs".into(), why: format!("only the last {CANDIDATES} are looked at") });
        }
        Ok((out, unused))
    }

    /// By the rule at the head of this module.
    fn best_of(
        &self,
        shot: i64,
        camera: &str,
        tuning: &Tuning,
        region: Option<Region>,
        wait: bool,
    ) -> Result<Option<Best>, Fault> {
        let machine = self.machine();
        let values = tuning.to_map();
        let (tests, elsewhere) = self.tests(shot, camera)?;
        let wanted = Description { tuning: tuning.clone(), camera: camera.into(), ..self.description(shot, None)? };
        // What only a test can tell, by its label; what is judged anew needs none.
        let unknown = |f: &Forecast, test: &Tested| {
            let anew = test.description.judged_as(tuning).tuning;
            let there = anew.to_map();
            let knobs = f.needs_test.iter().filter(|id| there[id.as_str()] != values[id.as_str()]);
            let mut out: Vec<String> = knobs.map(|id| label_of(id).to_string()).collect();
            if test.description.edits != wanted.edits {
                out.push("shot edits".into());
            }
            out
        };
        let size = wanted.film_frame();
        let is_truth = |t: &Tested| t.came.is_some() && region.is_none() && t.description.same_picture(&wanted);
        let alone = |test: Tested| {
            let f = forecast(test.measured(), tuning, region, &machine)?;
            let unknown = unknown(&f, &test);
            // Upwards the interval also reaches to other work that may go on, which says nothing of the test's sureness.
            let sure = (1e3 * (f.seconds - f.low) / f.seconds) as i64;
            let rank =
                (!is_truth(&test), unknown.len(), f.basis == Seen::Region, test.description.film_frame() != size, sure);
            Some((rank, test, unknown))
        };
        let mut all: Vec<_> = tests.into_iter().filter_map(alone).collect();
        all.sort_by_key(|(rank, ..)| *rank);
        let advised = all.iter().find_map(|(_, t, _)| match t.origin {
            Origin::Proof(id) => Some((id, t.name.clone())),
            Origin::Final(_) => None,
        });
        // As it would be judged at the tuning: the first one whose samples are there, or the first one as it is.
        let mut rest = all.into_iter().map(|(_, test, unknown)| (test, unknown));
        let (mut lead, mut gone, mut under_way) = (None, Vec::new(), false);
        for next in rest.by_ref() {
            match self.judged_anew(shot, &next.0, tuning, wait) {
                Anew::No => lead = Some(next),
                Anew::Done(test) => lead = Some((*test, next.1)),
                Anew::UnderWay => (under_way, lead) = (true, Some(next)),
                Anew::Lost => {
                    gone.push(next);
                    continue;
                }
            }
            break;
        }
        let lead = lead.or_else(|| (!gone.is_empty()).then(|| gone.remove(0)));
        let Some((test, changed)) = lead else { return Ok(None) };
        let told = |t: &Tested, why: &str| Unused { name: t.name.clone(), why: why.into() };
        let lost = "its samples are gone, so that it cannot be judged anew";
        let mut unused: Vec<Unused> = gone.iter().map(|(t, _)| told(t, lost)).collect();
        let (mut exact, mut also) = (Vec::new(), Vec::new());
        let truth = is_truth(&test).then_some(test.came).flatten();
        for (t, unknown) in rest {
            match () {
                _ if truth.is_some() => unused.push(told(&t, "a final of this very picture was delivered")),
                _ if !unknown.is_empty() => {
                    let why = format!("differs in {}, which only a new test can tell", unknown.join(", "));
                    unused.push(told(&t, &why));
                }
                _ if t.description.film_frame() != size => unused.push(told(&t, "its frame has another size")),
                _ => exact.push(t),
            }
        }
        let joined = |also: &[Tested]| {
            let also: Vec<Measured> = also.iter().map(Tested::measured).collect();
            forecast(Measured { also: &also, ..test.measured() }, tuning, region, &machine)
        };
        // Who has seen a place best does not depend on how it is judged; who has not needs no judging.
        let shares = joined(&exact).map(|f| f.shares).unwrap_or_default();
        for (t, share) in exact.into_iter().zip(shares.into_iter().skip(1)) {
            match () {
                _ if share == 0.0 => unused.push(told(&t, "others have seen its places with more samples")),
                _ if also.len() == ALSO => unused.push(told(&t, "it tells of too little")),
                // Nobody waits for these.
                _ => match self.judged_anew(shot, &t, tuning, false) {
                    Anew::No => also.push(t),
                    Anew::Done(anew) => also.push(*anew),
                    Anew::UnderWay => unused.push(told(&t, "it is being judged anew")),
                    Anew::Lost => unused.push(told(&t, lost)),
                },
            }
        }
        let Some(mut f) = joined(&also) else { return Ok(None) };
        if let Some(came) = truth {
            f = f.as_it_came(&came, &machine);
        }
        unused.extend(elsewhere);
        let mut best = Best { forecast: f, by: String::new(), also, test, under_way, unused, changed, advised };
        let names: Vec<String> = best.rests().into_iter().map(|r| r.name).collect();
        best.by = match names.as_slice() {
            [all @ .., last] if !all.is_empty() => format!("{} and {last}", all.join(", ")),
            _ => names.concat(),
        };
        Ok(Some(best))
    }

    /// What fits the shot to a budget of seconds, to a threshold, or to what a proof shows; none before a test has ended.
    pub fn fit(&self, shot: i64, wanted: &Wanted) -> Result<Option<FitView>, Fault> {
        let row = self.0.store.shot(shot)?;
        let tuning = self.tuning(shot)?;
        let seconds = wanted.seconds.unwrap_or(row.budget);
        if !(seconds.is_finite() && seconds > 0.0) || wanted.threshold.is_some_and(|t| !(0.0001..=1.0).contains(&t)) {
            return Err(Fault::new(
                Code::OutOfRange,
                "a fit needs a budget above 0 or a threshold of 0.01 to 100 %",
                "fit",
                "give minutes or a threshold in that range",
            ));
        }
        let threshold = match wanted.proof {
            Some(proof) => Some(self.clean_enough(proof)?),
            None => wanted.threshold,
        };
        let wanted = Wanted { threshold, ..wanted.clone() };
        let Some(best) = self.best_of(shot, &row.camera, &tuning, None, true)? else { return Ok(None) };
        let test = &best.test;
        let machine = self.machine();
        let denoised = advice::denoised(&tuning).filter(|_| wanted.denoise);
        let cleaned = denoised.map(|with| self.judged_anew(shot, test, &with, true));
        let denoiser_unknown = matches!(cleaned, Some(Anew::Lost));
        let make = |wanted: &Wanted| match &cleaned {
            Some(Anew::Done(cleaned)) => {
                fit_denoised(test.measured(), cleaned.measured(), &tuning, &machine, seconds, wanted)
            }
            _ => best.measured(|m| fit(m, &tuning, &machine, seconds, wanted)),
        };
        let mut found = make(&wanted);
        if let Some(first) = &mut found {
            self.price_reuse(shot, first)?;
            let dear = |r: &&FitRow| r.taken && r.costs_more() && !wanted.insist.contains(&r.key);
            let dear: Vec<String> = first.rows.iter().filter(dear).map(|r| r.key.clone()).collect();
            if !dear.is_empty() {
                let without = [wanted.without.clone(), dear].concat();
                found = make(&Wanted { without, ..wanted });
                found.as_mut().map(|again| self.price_reuse(shot, again)).transpose()?;
            }
        }
        Ok(found.map(|fit| FitView { fit, by: best.by, denoiser_unknown }))
    }

    /// Tells of every row how much of what is there a final could not use with it.
    fn price_reuse(&self, shot: i64, fit: &mut Fit) -> Result<(), Fault> {
        let d = self.description(shot, None)?;
        let worth = |d: &Description| -> Result<f64, Fault> {
            Ok(there(&self.sources(shot, d, None)?, self.pool().current_num_threads()).1)
        };
        let now = worth(&d)?;
        for row in &mut fit.rows {
            let then = Description { tuning: d.tuning.changed(&row.changes)?, ..d.clone() };
            row.lost = if d.same_samples(&then) { 0.0 } else { (now - worth(&then)?).max(0.0) };
        }
        Ok(())
    }

    /// The grain that 95 % of a proof's blocks do not exceed, as the proof was judged.
    fn clean_enough(&self, proof: i64) -> Result<f64, Fault> {
        let (_, report) = self.measured(proof)?;
        let counts = report.and_then(|r| self.counts(Origin::Proof(proof), r.samples));
        let counts = counts.ok_or_else(|| {
            let remedy = "choose a test that was rendered here and has ended";
            Fault::new(Code::Unsupported, "this proof has no grain of its own", format!("proof {proof}"), remedy)
        })?;
        let known = counts.tiles.iter().flat_map(|(_, blocks)| blocks).filter(|b| b.n > 0 && b.grain >= 0.0);
        let mut grain: Vec<f32> = known.map(|b| b.grain).collect();
        grain.sort_by(f32::total_cmp);
        Ok(grain.get(grain.len() * 19 / 20).map_or(0.02, |g| *g as f64).clamp(0.0005, 1.0))
    }
}

/// Where samples come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Origin {
    Proof(i64),
    Final(i64),
}

/// A test or a delivered final with all that forecasts need.
#[derive(Clone)]
pub(crate) struct Tested {
    pub origin: Origin,
    /// In words.
    pub name: String,
    /// What must be known before its times are trusted here.
    pub marks: Vec<String>,
    /// Share of the processors that other programs took meanwhile.
    pub others: f64,
    pub description: Description,
    pub counts: Arc<SavedCounts>,
    pub report: RenderReport,
    pub pilot: Option<Pilot>,
    /// What a final took that went to its threshold.
    pub came: Option<Spent>,
}

/// A forecast and what it rests on.
pub(crate) struct Best {
    pub forecast: Forecast,
    pub test: Tested,
    /// Others that tell of places which they have seen better.
    pub also: Vec<Tested>,
    /// All of them in words.
    pub by: String,
    pub unused: Vec<Unused>,
    /// What differs from it so that only a new test can tell its effect, by label.
    pub changed: Vec<String>,
    /// The best of the proofs, whose advice is worth most: its id and name.
    pub advised: Option<(i64, String)>,
    /// The test is being judged anew: more will be known in a moment.
    pub under_way: bool,
}

impl Best {
    /// Asks something of all that it rests on.
    pub fn measured<R>(&self, ask: impl FnOnce(Measured) -> R) -> R {
        let also: Vec<Measured> = self.also.iter().map(Tested::measured).collect();
        ask(Measured { also: &also, ..self.test.measured() })
    }

    /// What tells how much of the frame; the first one tells all the rest, so that it is named though others have seen every place
    /// better.
    fn rests(&self) -> Vec<Rest> {
        let all = std::iter::once(&self.test).chain(&self.also);
        all.zip(&self.forecast.shares).map(|(t, share)| Rest { name: t.name.clone(), share: *share }).collect()
    }
}

impl Tested {
    pub fn measured(&self) -> Measured<'_> {
        Measured {
            description: &self.description,
            counts: &self.counts,
            report: &self.report,
            pilot: self.pilot.as_ref(),
            others: self.others,
            also: &[],
        }
    }
}
