//! Tests judged anew: what their blocks would show after another clean-up or through another view, from their own halves.
//! Nothing is rendered, but the denoiser takes its time: forecasts that are asked for all the time do not wait for it.

use crate::forecasts::Tested;
use crate::{Event, Workshop, lock};
use picture::denoise::Method;
use picture::grain::Judging;
use std::sync::Arc;
use std::time::Duration;
use tracer::{Description, SavedCounts};
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
    /// It was judged like that.
    No,
    /// Its samples are not there any more.
    Lost,
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
        let outcome = match self.judged(key, &judging, !wait) {
            Some(known @ (Outcome::Lost | Outcome::Known(_))) => known,
            Some(Outcome::UnderWay) if !wait => Outcome::UnderWay,
            None if !wait => {
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
            Outcome::Lost => return Anew::Lost,
            Outcome::Known(counts) => counts,
        };
        Anew::Done(Box::new(Tested { description: d, counts, ..test.clone() }))
    }

    /// What is known of a judgement; where nothing is, it counts as under way from now on if it is claimed.
    fn judged(&self, key: (i64, u64), judging: &Judging, claim: bool) -> Option<Outcome> {
        let mut judged = lock(&self.0.judged);
        let known = judged.iter().find(|(p, n, j, _)| (*p, *n) == key && j.alike(judging));
        let outcome = known.map(|(.., outcome)| outcome.clone());
        if outcome.is_none() && claim {
            judged.push_back((key.0, key.1, *judging, Outcome::UnderWay));
        }
        outcome
    }

    /// One at a time: each has a whole film in memory.
    fn judge(&self, key: (i64, u64), own: &Description, judging: Judging) -> Outcome {
        let _one = lock(&self.0.judging);
        // It may have been done while this one waited.
        if let Some(known @ (Outcome::Lost | Outcome::Known(_))) = self.judged(key, &judging, false) {
            return known;
        }
        let careful = judging.cleans() && judging.clean.denoises() == Some(Method::Careful);
        let squares = if careful { CAREFUL } else { usize::MAX };
        let outcome = match self.load_render(own, &self.0.store.proof_folder(key.0)) {
            Ok(render) => {
                let counts = self.0.screen.install(|| render.judged_by(&judging, squares));
                Outcome::Known(Arc::new(counts))
            }
            Err(_) => Outcome::Lost,
        };
        let mut judged = lock(&self.0.judged);
        judged.retain(|(p, n, j, _)| (*p, *n) != key || !j.alike(&judging));
        judged.push_back((key.0, key.1, judging, outcome.clone()));
        while judged.len() > KEPT {
            judged.pop_front();
        }
        outcome
    }
}
