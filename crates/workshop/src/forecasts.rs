//! The forecast of a shot's final, from its best test.

use crate::finals::Task;
use crate::memory::{Key, Shared};
use crate::rejudging::Anew;
use crate::saved::load_counts;
use crate::{Circumstances, FitView, ForecastView, Workshop, parse};
use advice::{Brief, FILES, Forecast, Machine, Measured, Pilot, Trust, Wanted, fit, fit_denoised, forecast};
use fault::{Code, Fault};
use picture::Region;
use picture::denoise::Method;
use serde::Deserialize;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use store::{ProofKind, ProofState};
use tracer::{Description, RenderReport, SavedCounts};
use tuning::Tuning;

/// Tests that are looked at, newest first.
const CANDIDATES: usize = 12;

/// Finals whose forecasts are compared with what came, newest first.
const HISTORY: u32 = 30;

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
            proof: best.test.proof,
            proof_number: best.test.number,
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

    /// Counts of a proof, from memory or from its folder.
    pub(crate) fn counts(&self, proof: i64, samples: u64) -> Option<Arc<SavedCounts>> {
        let read = || load_counts(&self.0.store.proof_folder(proof));
        self.0.memory.get(&Key::Counts(proof, samples), read).ok()
    }

    /// Tests of the shot's scene through a camera that can be forecast from, newest first.
    fn tests(&self, shot: i64, camera: &str) -> Result<Vec<Tested>, Fault> {
        let row = self.0.store.shot(shot)?;
        let mut out = Vec::new();
        for p in self.0.store.each_proof(shot) {
            let p = p?;
            if p.state == ProofState::Running || p.kind == ProofKind::Picture {
                continue;
            }
            let description: Description = parse(&p.description, "proof")?;
            let same = description.scene == row.scene
                && description.camera == camera
                && description.environment == row.environment;
            let Some(report) = p.report.as_ref().filter(|_| same) else { continue };
            if out.len() == CANDIDATES {
                break;
            }
            let report: RenderReport = parse(report, "report")?;
            let Some(counts) = self.counts(p.id, report.samples) else { continue };
            let pilot = self.pilot_for(shot, &description)?;
            let others = Circumstances::others_beside(&p);
            let marks = Circumstances::of(&p).map(|c| c.marks()).unwrap_or_default();
            out.push(Tested { proof: p.id, number: p.number, marks, others, description, counts, report, pilot });
        }
        Ok(out)
    }

    /// The test with the fewest knobs that need a new one, then the one that is surest, then the newer.
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
        // What is judged anew needs no test.
        let rank = |best: &Best| {
            let (f, anew) = (&best.forecast, best.test.description.judged_as(tuning).tuning);
            let there = anew.to_map();
            let unknown = f.needs_test.iter().filter(|id| there[id.as_str()] != values[id.as_str()]).count();
            // Upwards the interval also reaches to other work that may go on, which says nothing of the test's sureness.
            (unknown, (1e3 * (f.seconds - f.low) / f.seconds) as i64)
        };
        let of = |test: Tested| {
            let forecast = forecast(test.measured(), tuning, region, &machine)?;
            Some(Best { forecast, test, under_way: false })
        };
        let mut all: Vec<Best> = self.tests(shot, camera)?.into_iter().filter_map(of).collect();
        all.sort_by_key(rank);
        let mut lost = None;
        for best in all {
            match self.judged_anew(shot, &best.test, tuning, wait) {
                Anew::No => return Ok(Some(best)),
                Anew::UnderWay => return Ok(Some(Best { under_way: true, ..best })),
                Anew::Done(test) => return Ok(of(*test)),
                // Another may still have its samples.
                Anew::Lost => lost = lost.or(Some(best)),
            }
        }
        Ok(lost)
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
        let test = best.test;
        let machine = self.machine();
        let denoised = advice::denoised(&tuning).filter(|_| wanted.denoise);
        let cleaned = denoised.map(|with| self.judged_anew(shot, &test, &with, true));
        let denoiser_unknown = matches!(cleaned, Some(Anew::Lost));
        let fit = match cleaned {
            Some(Anew::Done(cleaned)) => {
                fit_denoised(test.measured(), cleaned.measured(), &tuning, &machine, seconds, &wanted)
            }
            _ => fit(test.measured(), &tuning, &machine, seconds, &wanted),
        };
        Ok(fit.map(|fit| FitView { fit, proof: test.proof, proof_number: test.number, denoiser_unknown }))
    }

    /// The grain that 95 % of a proof's blocks do not exceed, as the proof was judged.
    fn clean_enough(&self, proof: i64) -> Result<f64, Fault> {
        let (_, report) = self.measured(proof)?;
        let counts = report.and_then(|r| self.counts(proof, r.samples));
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

/// A test with all that forecasts need.
#[derive(Clone)]
pub(crate) struct Tested {
    pub proof: i64,
    pub number: i64,
    /// What must be known before its times are trusted here.
    pub marks: Vec<String>,
    /// Share of the processors that other programs took meanwhile.
    pub others: f64,
    pub description: Description,
    pub counts: Arc<SavedCounts>,
    pub report: RenderReport,
    pub pilot: Option<Pilot>,
}

/// A forecast and the test that it rests on.
pub(crate) struct Best {
    pub forecast: Forecast,
    pub test: Tested,
    /// The test is being judged anew: more will be known in a moment.
    pub under_way: bool,
}

impl Tested {
    pub fn measured(&self) -> Measured<'_> {
        Measured {
            description: &self.description,
            counts: &self.counts,
            report: &self.report,
            pilot: self.pilot.as_ref(),
            others: self.others,
        }
    }
}
