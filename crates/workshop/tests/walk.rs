//! Any walk of an artist through the revisions of a shot, against a model of it: what was once set comes back as it was, what is
//! refused changes nothing, and the end of the program loses nothing.

mod common;

use common::*;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use workshop::*;

/// What a revision holds.
#[derive(Debug, Clone, PartialEq)]
struct State {
    tuning: Value,
    camera: String,
    budget: f64,
    lights: Value,
    parent: i64,
}

fn state(v: &ShotView, parent: i64) -> State {
    let lights = json!(v.lights);
    State { tuning: json!(v.tuning), camera: v.camera.clone(), budget: v.budget, lights, parent }
}

#[test]
fn any_walk_through_revisions_is_that_of_a_tree() {
    let (data, mut w, shot) = workshop();
    // Park and Miller 1988, the minimal standard.
    let mut seed = 20_u64;
    let mut dice = move |below: u64| {
        seed = seed * 48_271 % 0x7fff_ffff;
        seed % below
    };
    let start = w.shot(shot).unwrap();
    let cameras = start.cameras.clone();
    // The first revision is the shot as it was made.
    let made = w.go_to_revision(shot, 1).unwrap();
    let mut model: BTreeMap<i64, State> = [(1, state(&made, 0)), (start.revision, state(&start, 1))].into();
    let mut at = w.go_to_revision(shot, start.revision).unwrap().revision;
    let (mut refused, mut changed) = (0, 0);
    for step in 0..300 {
        let now = model[&at].clone();
        let mut wanted = now.clone();
        let mut change = ShotChange::default();
        let mut fine = true;
        let mut set = |wanted: &mut State, id: &str, value: Value| {
            change.tuning.insert(id.into(), value.clone());
            wanted.tuning[id] = value;
        };
        match dice(9) {
            0 => set(&mut wanted, "depth.total", json!(dice(30))),
            1 => set(&mut wanted, "sampling.threshold", json!(0.001 * (1 + dice(40)) as f64)),
            2 => {
                set(&mut wanted, "view.exposure", json!(dice(9) as f64 - 4.0));
                set(&mut wanted, "cleanup.denoise", json!(["none", "quick", "careful"][dice(3) as usize]));
            }
            // One that is fine does not help one that is not.
            3 => {
                set(&mut wanted, "depth.total", json!(dice(30)));
                let (id, bad) = [
                    ("sampling.threshold", json!(-1)),
                    ("cleanup.denoise", json!("magic")),
                    ("no.such", json!(1)),
                    ("sampling.least", json!(60_000)),
                ][dice(4) as usize]
                    .clone();
                set(&mut wanted, id, bad);
                fine = false;
            }
            4 => {
                wanted.camera = cameras[dice(cameras.len() as u64) as usize].clone();
                wanted.budget = (30 * (1 + dice(20))) as f64;
                (change.camera, change.budget) = (Some(wanted.camera.clone()), Some(wanted.budget));
            }
            5 => {
                let (on, split) = (dice(2) == 0, 1 + dice(4) as u32);
                change.lights.insert("environment".into(), LightChange { on: Some(on), split: Some(split) });
            }
            6 => {
                let to = 1 + dice(model.len() as u64 + 1) as i64;
                match w.go_to_revision(shot, to) {
                    Ok(_) => at = to,
                    Err(_) => assert!(!model.contains_key(&to), "{to}"),
                }
                continue;
            }
            7 => {
                // Undo leads to where a revision was made from, redo to the newest that was made from here.
                let v = w.shot(shot).unwrap();
                assert_eq!(v.undo, Some(now.parent).filter(|p| *p > 0));
                assert_eq!(v.redo, model.iter().filter(|(_, s)| s.parent == at).map(|(k, _)| *k).max());
                if let Some(to) = if dice(2) == 0 { v.undo } else { v.redo } {
                    at = w.go_to_revision(shot, to).unwrap().revision;
                }
                continue;
            }
            _ => {
                if step % 5 == 0 {
                    assert!(w.close(std::time::Duration::from_secs(300)).unwrap());
                    w = Workshop::open(data.path()).unwrap();
                }
                continue;
            }
        }
        match w.change_shot(shot, &change) {
            Ok(v) => {
                assert!(fine, "{change:?}");
                // The lights come as the shot makes them.
                wanted.lights = json!(v.lights);
                let same = v.revision == at;
                wanted.parent = if same { now.parent } else { at };
                assert!(!same || wanted == now, "{step}: a change without a revision: {change:?}");
                assert!(same || !model.contains_key(&v.revision), "{step}: {} is given again", v.revision);
                at = v.revision;
                model.insert(at, wanted);
                changed += 1;
            }
            Err(_) => {
                assert!(!fine, "{change:?}");
                refused += 1;
            }
        }
        let v = w.shot(shot).unwrap();
        assert_eq!((v.revision, state(&v, model[&at].parent)), (at, model[&at].clone()), "{step}: {change:?}");
    }
    assert!(refused > 15 && changed > 100, "{refused} {changed}");
    // All of it is still there.
    assert!(w.close(std::time::Duration::from_secs(300)).unwrap());
    let w = Workshop::open(data.path()).unwrap();
    assert_eq!(w.revisions(shot).unwrap().len(), model.len());
    for (number, wanted) in &model {
        let v = w.go_to_revision(shot, *number).unwrap();
        assert_eq!(state(&v, wanted.parent), *wanted, "{number}");
    }
}
