//! Hold the time: a render that ends after given seconds of sampling, with what is left spent where grain is worst.
//!
//! After every round the lowest threshold is sought that can be reached everywhere in the time that is left, and the render goes
//! on under it: blocks that are better wait, blocks that are worse go on. The decisions and the counts at the end are the plan:
//! since a sample depends on its pixel and number alone, the counts give the picture again, bit for bit ([`Render::follow`]).

use crate::description::Limits;
use crate::render::{Render, UNLIMITED};
use serde::{Deserialize, Serialize};
use std::sync::atomic::AtomicBool;
use std::time::Duration;
use ts_rs::TS;

/// Below a tenth of a display step nothing is gained that anybody could see.
const FINEST: f64 = 0.1 / 255.0;
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

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Hold {
    /// Seconds of sampling at which the render ends, as [`Render::seconds`] counts.
    pub until: f64,
    pub decisions: Vec<Decision>,
    round: usize,
}

impl Hold {
    /// Ends a render when its sampling has taken `until` seconds in all.
    pub fn new(render: &mut Render, until: f64) -> Hold {
        let l = render.limits();
        render.set_limits(Limits { adaptive: true, most: UNLIMITED, ..l });
        Hold { until, decisions: Vec::new(), round: usize::MAX }
    }

    /// Goes on after a break: `render` was saved in the middle.
    pub fn again(&mut self, render: &mut Render) {
        let l = render.limits();
        let threshold = self.decisions.last().map_or(l.threshold, |d| d.threshold);
        render.set_limits(Limits { adaptive: true, most: UNLIMITED, threshold, ..l });
        self.round = usize::MAX;
    }

    /// Works for a short while; true while there is more to do.
    pub fn step(&mut self, render: &mut Render, stop: &AtomicBool) -> bool {
        let left = self.until - render.seconds();
        if left <= 0.0 {
            return false;
        }
        let known = render.progress().grain.is_some();
        if known && (render.round() != self.round || render.done()) {
            let (finest, l) = (render.done() && self.threshold() <= FINEST, render.limits());
            if finest {
                return false;
            }
            let threshold = render.outlook().threshold_in(AIM * left, FINEST, UNLIMITED);
            // Where all have stopped early they go on in any case.
            let threshold = if render.done() { threshold.min(0.9 * l.threshold).max(FINEST) } else { threshold };
            render.set_limits(Limits { threshold, ..l });
            let p = render.progress();
            self.decisions.push(Decision {
                seconds: render.seconds(),
                samples_per_pixel: p.samples_per_pixel,
                threshold,
            });
            self.round = render.round();
        }
        render.step_for(Duration::from_secs_f64(left.min(0.25)), stop);
        render.seconds() < self.until
    }

    fn threshold(&self) -> f64 {
        self.decisions.last().map_or(1.0, |d| d.threshold)
    }
}
