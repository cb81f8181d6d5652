//! Tests judged anew: what their blocks would show after another clean-up or through another view, from their own halves.
//! Nothing is rendered, but the denoiser takes its time: forecasts that are asked for all the time do not wait for it.

use crate::forecasts::Tested;
use crate::{Event, Workshop, lock};
use advice::Machine;
use picture::denoise::Method;
use picture::grain::Judging;
use std::sync::Arc;
use std::time::Duration;
use tracer::{Description, RenderReport, SavedCounts, ladder};
use tuning::Tuning;

/// Judgements that stay in memory.
const KEPT: usize = 24;
/// Superblocks that the careful denoiser is tried on: a few seconds.
const CAREFUL: usize = 96;

/// A proof, its samples, how it was judged anew and what came of it.
pub(crate) type Judged = (i64, u64, Judging, Outcome);

#[derive(Clone)]
pub(crate) enum Outcome {
    UnderWay,
    /// Its samples are not there any more.
    Lost,
    Known(Arc<SavedCounts>),
}

/// What there is of a test that is to be judged anew.
pub(crate) enum Anew {
    /// It was judged like that, or its samples are not there any more.
    No,
    UnderWay,
    Done(Box<Tested>),
}

impl Workshop {
    /// A test as it would be judged at `tuning`. Unless it is to be waited for, it is worked out beside and told of as
    /// [`Event::Proofs`].
    pub(crate) fn judged_anew(&self, shot: i64, test: &Tested, tuning: &Tuning, wait: bool) -> Anew {
        let d = test.description.judged_as(tuning);
        let judging = d.judging();
        if judging.alike(&test.description.judging()) {
            return Anew::No;
        }
        let key = (test.proof, test.report.samples);
        let known = lock(&self.0.judged).iter().find(|(p, n, j, _)| (*p, *n) == key && j.alike(&judging)).cloned();
        let outcome = match known.map(|(.., outcome)| outcome) {
            Some(Outcome::UnderWay) if !wait => Outcome::UnderWay,
            Some(known @ (Outcome::Lost | Outcome::Known(_))) => known,
            None if !wait => {
                self.remember_judged((key.0, key.1, judging, Outcome::UnderWay));
                let (workshop, own) = (self.clone(), test.description.clone());
                std::thread::spawn(move || {
                    // Times of tests are measured: they come first.
                    while workshop.test_is_running() {
                        std::thread::sleep(Duration::from_millis(200));
                    }
                    workshop.judge(key, &own, judging);
                    workshop.0.events.tell(Event::Proofs { shot });
                });
                Outcome::UnderWay
            }
            _ => self.judge(key, &test.description, judging),
        };
        let counts = match outcome {
            Outcome::UnderWay => return Anew::UnderWay,
            Outcome::Lost => return Anew::No,
            Outcome::Known(counts) => counts,
        };
        let report = report_of(&test.report, &test.description, &d, &counts, &self.machine());
        Anew::Done(Box::new(Tested { description: d, counts, report, ..test.clone() }))
    }

    fn judge(&self, key: (i64, u64), own: &Description, judging: Judging) -> Outcome {
        let squares = if careful(&judging) { CAREFUL } else { usize::MAX };
        let outcome = match self.load_render(own, &self.0.store.proof_folder(key.0)) {
            Ok(render) => {
                let counts = self.0.screen.install(|| render.judged_by(&judging, squares));
                Outcome::Known(Arc::new(counts))
            }
            Err(_) => Outcome::Lost,
        };
        self.remember_judged((key.0, key.1, judging, outcome.clone()));
        outcome
    }

    fn remember_judged(&self, new: Judged) {
        let mut judged = lock(&self.0.judged);
        judged.retain(|(p, n, j, _)| (*p, *n) != (new.0, new.1) || !j.alike(&new.2));
        judged.push_back(new);
        while judged.len() > KEPT {
            judged.pop_front();
        }
    }
}

fn careful(j: &Judging) -> bool {
    j.cleans() && j.clean.denoises() == Some(Method::Careful)
}

/// The report as if the test had been judged like that: another denoiser takes another time in every round.
fn report_of(
    report: &RenderReport,
    was: &Description,
    is: &Description,
    counts: &SavedCounts,
    machine: &Machine,
) -> RenderReport {
    let blocks = || counts.tiles.iter().flat_map(|(_, blocks)| blocks);
    let longest = blocks().map(|b| b.n).max().unwrap_or(1);
    // A pilot has samples in some places alone.
    let rendered = blocks().filter(|b| b.n > 0).count() as f64 / blocks().count().max(1) as f64;
    let pixels = was.film_area().area() as f64 * rendered;
    let seconds = |d: &Description| {
        let j = d.judging();
        let Some(method) = j.clean.denoises().filter(|_| j.cleans()) else { return 0.0 };
        // The careful one judges where something is decided alone.
        let least = if careful(&j) { tracer::Limits::of(&d.tuning).least } else { 1 };
        let rounds = ladder(longest).into_iter().filter(|n| *n >= least).count();
        rounds as f64 * pixels * machine.denoise_per_pixel[method as usize] * report.threads as f64
    };
    let judging_seconds = (report.judging_seconds + seconds(is) - seconds(was)).max(0.0);
    let [before, after] = [report.judging_seconds, judging_seconds].map(|j| report.processor_seconds + j);
    RenderReport { judging_seconds, seconds: report.seconds * after / before.max(1e-9), ..report.clone() }
}
