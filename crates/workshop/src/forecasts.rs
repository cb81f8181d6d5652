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

    /// Tests and delivered finals of the shot's scene through a camera that can be forecast from, newest first, and how many of the
    /// newest proofs show something else.
    fn tests(&self, shot: i64, camera: &str) -> Result<(Vec<Tested>, usize), Fault> {
        let row = self.0.store.shot(shot)?;
        let (mut out, mut elsewhere) = (Vec::new(), 0);
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
        for p in self.0.store.each_proof(shot) {
            let p = p?;
            if p.state == ProofState::Running || p.kind == ProofKind::Picture {
                continue;
            }
            let description: Description = parse(&p.description, "proof")?;
            let Some(report) = p.report.as_ref() else { continue };
            if !same(&description) {
                elsewhere += 1;
                continue;
            }
            if out.len() >= CANDIDATES + FINALS {
                break;
            }
            let report: RenderReport = parse(report, "report")?;
            let origin = Origin::Proof(p.id);
            let Some(counts) = self.counts(origin, report.samples) else { continue };
            let pilot = self.pilot_for(shot, &description)?;
            let others = Circumstances::others_beside(&p);
            let marks = Circumstances::of(&p).map(|c| c.marks()).unwrap_or_default();
            let name = format!("proof {}", p.number);
            out.push(Tested { origin, name, marks, others, description, counts, report, pilot, came: None });
        }
        Ok((out, elsewhere))
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
        let mut all: Vec<(Tested, Forecast)> = tests
            .into_iter()
            .filter_map(|t| forecast(t.measured(), tuning, region, &machine).map(|f| (t, f)))
            .collect();
        all.sort_by_key(|(test, f)| {
            let truth = test.came.is_some() && region.is_none() && test.description.same_picture(&wanted);
            // Upwards the interval also reaches to other work that may go on, which says nothing of the test's sureness.
            let sure = (1e3 * (f.seconds - f.low) / f.seconds) as i64;
            (!truth, unknown(f, test).len(), f.basis == Seen::Region, test.description.film_frame() != size, sure)
        });
        // As each would be judged at the tuning; the first one whose samples are there leads, or the first one without.
        let (mut ready, mut rest) = (Vec::new(), Vec::new());
        let mut under_way = false;
        for (test, f) in all {
            let told = Unused { name: test.name.clone(), why: String::new() };
            let unknown = unknown(&f, &test);
            let why = |why: String| Unused { why, ..told };
            if !ready.is_empty() && !unknown.is_empty() {
                rest.push((test, why(format!("differs in {}, which only a new test can tell", unknown.join(", ")))));
                continue;
            }
            if !ready.is_empty() && test.description.film_frame() != size {
                rest.push((test, why("its frame has another size".into())));
                continue;
            }
            if ready.len() > ALSO {
                rest.push((test, why("others are surer".into())));
                continue;
            }
            match self.judged_anew(shot, &test, tuning, wait) {
                Anew::No => ready.push(test),
                Anew::Done(test) => ready.push(*test),
                Anew::UnderWay if ready.is_empty() => {
                    under_way = true;
                    ready.push(test);
                }
                Anew::UnderWay => rest.push((test, why("it is being judged anew".into()))),
                Anew::Lost => rest.push((test, why("its samples are gone, so that it cannot be judged anew".into()))),
            }
        }
        // Another may still have had its samples.
        if ready.is_empty() {
            if rest.is_empty() {
                return Ok(None);
            }
            ready.push(rest.remove(0).0);
        }
        let mut unused: Vec<Unused> = rest.into_iter().map(|(_, told)| told).collect();
        let mut ready = ready.into_iter();
        let Some(test) = ready.next() else { return Ok(None) };
        let others: Vec<Tested> = ready.collect();
        let also: Vec<Measured> = others.iter().map(Tested::measured).collect();
        let f = forecast(Measured { also: &also, ..test.measured() }, tuning, region, &machine);
        let Some(mut f) = f else { return Ok(None) };
        // Those that tell of no place are not needed; the forecast stays the same without them.
        let mut shares = f.shares.iter().skip(1);
        let (mut also, idle): (Vec<_>, Vec<_>) =
            others.into_iter().partition(|_| shares.next().is_some_and(|s| *s > 0.0));
        let better = |t: Tested| Unused { name: t.name, why: "others have seen its places with more samples".into() };
        unused.splice(0..0, idle.into_iter().map(better));
        if elsewhere > 0 {
            let name = if elsewhere == 1 { "1 proof".into() } else { format!("{elsewhere} proofs") };
            unused.push(Unused { name, why: "another scene, camera or sky".into() });
        }
        f.shares = std::iter::once(f.shares[0]).chain(f.shares[1..].iter().copied().filter(|s| *s > 0.0)).collect();
        if let Some(came) = test.came.filter(|_| region.is_none() && test.description.same_picture(&wanted)) {
            f = f.as_it_came(&came, &machine);
            also.clear();
        }
        let changed = unknown(&f, &test);
        let mut best = Best { forecast: f, by: String::new(), also, test, under_way, unused, changed };
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
        let worth = |tuning: Tuning| -> Result<f64, Fault> {
            let sources = self.sources(shot, &Description { tuning, ..d.clone() }, None)?;
            Ok(there(&sources, self.pool().current_num_threads()).1)
        };
        let now = worth(d.tuning.clone())?;
        for row in &mut fit.rows {
            row.lost = (now - worth(d.tuning.changed(&row.changes)?)?).max(0.0);
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

    /// The first proof that it rests on.
    pub fn proof(&self) -> Option<(i64, &str)> {
        std::iter::once(&self.test).chain(&self.also).find_map(|t| match t.origin {
            Origin::Proof(id) => Some((id, t.name.as_str())),
            Origin::Final(_) => None,
        })
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
