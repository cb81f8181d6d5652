//! Which frames an order means: one camera, a set of cameras, or a numbered series along a move between cameras.

use super::{NewFinal, Task};
use fault::{Code, Fault};
use scene::CameraMove;
use serde::{Deserialize, Serialize};
use tracer::Description;
use ts_rs::TS;

/// Most frames of one order.
const MOST: u32 = 10_000;

/// Numbered frames of a move whose stations are the cameras of the order, spread evenly over its length.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
pub struct Series {
    /// Frames that the whole move takes.
    pub frames: u32,
    pub first: u32,
    pub last: u32,
    pub step: u32,
    /// Digits of the number in file names.
    pub padding: u32,
}

pub(super) fn frames(own: &Description, new: &NewFinal) -> Result<Vec<(Description, Task)>, Fault> {
    let cameras = if new.cameras.is_empty() { vec![own.camera.clone()] } else { new.cameras.clone() };
    let Some(s) = new.series else {
        let of = |camera: String| (Description { camera, ..own.clone() }, Task::default());
        return Ok(cameras.into_iter().map(of).collect());
    };
    let refuse = |what: &str, remedy: &str| Err(Fault::new(Code::OutOfRange, what, "series", remedy));
    if s.frames == 0 || s.frames > 1_000_000 || s.step == 0 || s.first > s.last || s.padding > 9 {
        return refuse(
            "these frames cannot be numbered",
            "give a length, a first frame before the last, and a step of 1 or more",
        );
    }
    if (s.last - s.first) / s.step >= MOST {
        return refuse("that is more than 10 000 frames", "give a shorter range or a larger step");
    }
    let last = (s.frames - 1).max(1);
    if s.last >= s.frames {
        return refuse(
            "the last frame lies behind the end of the move",
            "frames are numbered from 0 to the length less one",
        );
    }
    let numbers = (s.first..=s.last).step_by(s.step as usize);
    Ok(numbers
        .map(|number| {
            let mut d = own.clone();
            d.edits.camera_move = None;
            d.camera.clone_from(&cameras[0]);
            if cameras.len() > 1 {
                // Equally long legs between the stations.
                let leg = last as f32 / (cameras.len() - 1) as f32;
                let i = ((number as f32 / leg) as usize).min(cameras.len() - 2);
                d.camera.clone_from(&cameras[i]);
                let frame = number as f32 - leg * i as f32;
                d.edits.camera_move = Some(CameraMove { to: cameras[i + 1].clone(), frames: leg, frame });
            }
            (d, Task { number: Some(number), padding: s.padding, ..Task::default() })
        })
        .collect())
}
