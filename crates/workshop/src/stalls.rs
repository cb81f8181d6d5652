//! Phases without news: what a test is at when it reports nothing for a while.

use crate::saved::film_bytes;
use crate::testing::Running;
use crate::{Workshop, lock};
use std::path::Path;
use std::time::Duration;
use tracer::{Description, Phase};
use tuning::K;

impl Workshop {
    /// Names the cause of a phase that reports nothing for a while.
    pub(crate) fn watch_test(&self, job: &Running) {
        while lock(&self.0.writing).contains(&job.proof) {
            std::thread::sleep(Duration::from_millis(200));
            let silent = lock(&job.told).elapsed();
            if silent > self.patience().stall {
                let phase = lock(&job.progress).phase;
                let cause = self.stall_cause(phase, &job.description);
                let stalled = format!("no news for {} s: {cause}", silent.as_secs());
                self.0.events.tell(job.event(None, Some(stalled)));
                std::thread::sleep(Duration::from_secs(1));
            }
        }
    }

    /// Why a phase takes long, as far as can be told from outside.
    fn stall_cause(&self, phase: Phase, d: &Description) -> String {
        let megabytes = |path: &Path| std::fs::metadata(path).map_or(0, |m| m.len()) / 1_000_000;
        match phase {
            Phase::Waiting | Phase::Loading => match self.scene_path(&d.scene) {
                Ok(path) => format!("reading {} of {} MB", path.display(), megabytes(&path)),
                Err(f) => f.what,
            },
            Phase::Structure => {
                let triangles = self.import_report(&d.scene).map_or(0, |r| r.triangles_kept);
                format!("building the structure of {:.1} million triangles", triangles as f64 / 1e6)
            }
            Phase::Lights => {
                format!("preparing lights; the environment's map is {} px wide", d.tuning.name(K::EnvironmentWidth))
            }
            Phase::FirstLook | Phase::Sampling => {
                let (w, h) = d.film_frame();
                format!(
                    "one step of {w} × {h} pixels takes long: other programs may hold the processors, or paths are long"
                )
            }
            Phase::Denoise => "denoising a large picture".into(),
            Phase::Writing => {
                let bytes = film_bytes(d.film_area()) / 1_000_000;
                format!("writing {bytes} MB into {}", self.0.store.root().display())
            }
            Phase::Done | Phase::Stopped | Phase::Failed => "the test has ended".into(),
        }
    }
}
