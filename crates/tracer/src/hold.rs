//! Hold the time: a render that ends at a given time by the clock, with what is left spent where grain is worst.
//!
//! After every round the lowest threshold is sought that can be reached everywhere in the time that is left, and the render goes
//! on under it: blocks that are better wait, blocks that are worse go on. The decisions and the counts at the end are the plan:
//! since a sample depends on its pixel and number alone, the counts give the picture again, bit for bit ([`Render::follow`]).

use crate::description::Limits;
use crate::render::{Render, UNLIMITED};
use serde::{Deserialize, Serialize};
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};
use ts_rs::TS;

/// Below a tenth of a display step nothing is gained that anybody could see.
const FINEST: f64 = 0.1 / 255.0;
/// Share of the time that is left which the judging of a round may take: with the careful denoiser it takes longer than many
/// samples, and blocks that are not judged go on.
const JUDGING: f64 = 0.1;
/// The end is aimed at a little early: what is foretold is not certain.
const AIM: f64 = 0.97;

/// One decision.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
pub struct Decision {
    /// Seconds of sampling when it was made.
    pub seconds: f64,
    pub samples_per_pixel: f64,
    /// Grain to which the render went on from there.
    pub threshold: f64,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Hold {
    pub decisions: Vec<Decision>,
    /// Round at the last decision; none at the start and after a break.
    #[serde(skip)]
    round: Option<usize>,
}

impl Hold {
    /// Lets a render go on for as long as it is given time.
    pub fn new(render: &mut Render) -> Hold {
        let mut hold = Hold::default();
        hold.again(render);
        hold
    }

    /// Goes on after a break: `render` was saved in the middle.
    pub fn again(&mut self, render: &mut Render) {
        let l = render.limits();
        let threshold = self.decisions.last().map_or(l.threshold, |d| d.threshold);
        render.set_limits(Limits { adaptive: true, most: UNLIMITED, threshold, ..l });
        self.round = None;
    }

    /// Works for a short while, `left` seconds before the end; true while there is more to do. Judging, deciding and sampling
    /// all come out of what is left.
    pub fn step(&mut self, render: &mut Render, left: f64, stop: &AtomicBool) -> bool {
        let end = Instant::now() + Duration::from_secs_f64(left.clamp(0.0, 1e6));
        if left <= 0.0 {
            return false;
        }
        if render.knows_grain() && (Some(render.round()) != self.round || render.done()) {
            let (finest, l) = (render.done() && self.threshold() <= FINEST, render.limits());
            if finest {
                return false;
            }
            let threshold = render.outlook().threshold_in(AIM * left, FINEST, UNLIMITED);
            // Where all have stopped early they go on in any case.
            let threshold = if render.done() { threshold.min(0.9 * l.threshold).max(FINEST) } else { threshold };
            render.set_limits(Limits { threshold, ..l });
            self.decisions.push(Decision {
                seconds: render.seconds(),
                samples_per_pixel: render.samples_per_pixel(),
                threshold,
            });
            self.round = Some(render.round());
        }
        let left = end.saturating_duration_since(Instant::now());
        render.judge_within(left.mul_f64(JUDGING));
        render.step_for(left.min(Duration::from_millis(250)), stop);
        Instant::now() < end
    }

    fn threshold(&self) -> f64 {
        self.decisions.last().map_or(1.0, |d| d.threshold)
    }
}
