//! Tests judged anew: what their blocks would show after another clean-up or through another view, from their own halves.
//! Nothing is rendered, but the denoiser takes its time: forecasts that are asked for all the time do not wait for it.

use crate::forecasts::Tested;
use crate::memory::Key;
use crate::{Event, Workshop, lock};
use picture::denoise::Method;
use picture::grain::Judging;
use std::sync::Arc;
use std::time::Duration;
use tracer::SavedCounts;
use tuning::Tuning;

/// Superblocks that the careful denoiser is tried on: a few seconds.
const CAREFUL: usize = 96;

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
        let key = Key::Judged(test.origin, test.report.samples, format!("{:?}", judging.key()));
        let outcome = match self.0.memory.peek::<Option<Arc<SavedCounts>>>(&key) {
            Some(known) => known,
            None if wait => self.judge(&key, test, judging),
            None => {
                if lock(&self.0.under_way).insert(key.clone()) {
                    let (workshop, test) = (self.clone(), test.clone());
                    std::thread::spawn(move || {
                        // Times of tests are measured: they come first.
                        while workshop.test_is_running() {
                            std::thread::sleep(Duration::from_millis(200));
                        }
                        workshop.judge(&key, &test, judging);
                        lock(&workshop.0.under_way).remove(&key);
                        workshop.0.events.tell(Event::Proofs { shot });
                    });
                }
                return Anew::UnderWay;
            }
        };
        match &*outcome {
            None => Anew::Lost,
            Some(counts) => Anew::Done(Box::new(Tested { description: d, counts: counts.clone(), ..test.clone() })),
        }
    }

    /// One at a time: each has a whole film in memory.
    fn judge(&self, key: &Key, test: &Tested, judging: Judging) -> Arc<Option<Arc<SavedCounts>>> {
        let careful = judging.cleans() && judging.clean.denoises() == Some(Method::Careful);
        let squares = if careful { CAREFUL } else { usize::MAX };
        let known = self.0.memory.get(key, || {
            let _one = lock(&self.0.judging);
            let render = self.load_render(&test.description, &self.folder_of(test.origin));
            Ok(render.ok().map(|r| Arc::new(self.0.screen.install(|| r.judged_by(&judging, squares)))))
        });
        known.unwrap_or_default()
    }
}
