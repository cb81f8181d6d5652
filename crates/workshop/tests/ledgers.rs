//! Where the grain comes from, without a browser: what ledgers, prices and advice say, and what becomes of it.

mod common;

use common::*;
use picture::Region;
use serde_json::json;
use std::sync::{Arc, Mutex};
use workshop::*;

fn wait(what: &str, done: impl Fn() -> bool) {
    let start = std::time::Instant::now();
    while !done() {
        assert!(start.elapsed().as_secs() < 120, "{what} did not happen");
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
}

#[test]
fn ledgers_are_told_of_a_proof_and_of_a_part_of_it_also_after_a_restart() {
    let (data, w, shot) = workshop();
    let id = test(&w, shot);
    let whole = w.ledger(id, None).unwrap();
    let noise = whole.noise.clone().unwrap();
    assert_eq!((noise.region.width, noise.region.height), (96, 64));
    let part = Region { x: 20, y: 10, width: 30, height: 20 };
    let of_part = w.ledger(id, Some(part)).unwrap().noise.unwrap();
    assert_eq!(of_part.region, part);
    for rows in [&noise.parts, &noise.lights, &of_part.parts] {
        let sum: f64 = rows.iter().map(|r| r.share).sum();
        assert!((sum - 1.0).abs() < 1e-3, "{sum}");
        assert!(rows.windows(2).all(|r| r[0].gain >= r[1].gain), "what pays most comes first");
    }
    assert!(w.ledger(id, Some(Region { x: 90, ..part })).is_err(), "a part outside the frame is refused");
    // Parts are pictures of their own.
    let look = Look { part: noise.parts[0].name.clone(), ..w.look_of(id).unwrap() };
    let alone = w.show(id, Layer::Part, &look).unwrap().rgba;
    assert_ne!(alone, w.show(id, Layer::Picture, &look).unwrap().rgba);
    w.show(id, Layer::PartGrain, &look).unwrap();
    let grain = |look: &Look| w.legends(id, look).unwrap().grain.grain;
    assert!(grain(&look) < grain(&w.look_of(id).unwrap()), "a part's legend counts its own grain");
    // Light rays and what follows each kind of ray are told apart, and no more than all of the time.
    let parts: f64 = noise.parts.iter().filter_map(|r| whole.costs.get(&r.name)).sum();
    assert!(parts > 0.3 * whole.seconds && parts < whole.seconds, "{:?} of {}", whole.costs, whole.seconds);
    let nobody = Look { part: "nobody".into(), ..look };
    assert_eq!(w.show(id, Layer::Part, &nobody).err().unwrap().code, fault::Code::NotFound);
    // Going on after a restart goes on counting bounces.
    assert!(w.close(std::time::Duration::from_secs(300)).unwrap());
    let w = Workshop::open(data.path()).unwrap();
    assert_eq!(w.ledger(id, None).unwrap().noise, whole.noise);
    w.go_on(id, Some(16), None).unwrap();
    w.wait_for_test();
    let further = w.ledger(id, None).unwrap();
    let light = |l: &LedgerView| l.ledgers.depth[0].rows.iter().map(|r| r.light).collect::<Vec<_>>();
    for (a, b) in light(&whole).into_iter().zip(light(&further)) {
        assert!((a - b).abs() < 0.05, "{a} {b}");
    }
    let rays = |l: &LedgerView| l.ledgers.depth[0].rows[0].rays as f64;
    assert!(rays(&further) > 1.2 * rays(&whole));
}

#[test]
fn another_threshold_is_answered_from_what_is_stored() {
    let (_data, w, shot) = workshop();
    tune(&w, shot, json!({ "sampling.adaptive": false, "sampling.most": 32 }));
    let id = test(&w, shot);
    let at = |threshold: f64| w.legends(id, &Look { threshold, ..w.look_of(id).unwrap() }).unwrap();
    let (fine, coarse) = (at(0.01), at(0.2));
    let (f, c) = (fine.ask.unwrap(), coarse.ask.unwrap());
    assert!(!f.adaptive && c.seconds < f.seconds && c.whole.seconds < f.whole.seconds && c.settled > f.settled);
    assert!(f.seconds <= 1.3 * f.took, "adaptive never takes more than all samples: {f:?}");
    // What a region says of the final is what the bill would say.
    let region = Some(Region { x: 0, y: 0, width: 32, height: 32 });
    let part = w.start_test(shot, &NewTest { region, live: false }).unwrap();
    w.wait_for_test();
    let by = w.legends(part, &Look { threshold: 0.2, ..w.look_of(part).unwrap() }).unwrap().ask.unwrap();
    assert_eq!(
        (by.by, by.whole.seconds, c.by),
        (Some(format!("proof {}", w.proof(id).unwrap().number)), c.whole.seconds, None)
    );
    w.delete(&[workshop::BinItem::new(workshop::BinKind::Proof, part)]).unwrap();
    assert!(coarse.grain.below > fine.grain.below);
    // The prices of the shot rest on the same statistics.
    let prices = w.prices(shot).unwrap().unwrap();
    assert_eq!((prices.by, prices.stale.len()), (format!("proof {}", w.proof(id).unwrap().number), 0));
    let price = |knob: &str| prices.prices.iter().find(|p| p.knob == knob).unwrap_or_else(|| panic!("{knob}"));
    let most = price("sampling.most");
    let (now, then) = most.grain.unwrap();
    assert!(most.seconds > 0.0 && then > now, "{most:?}");
    assert!(
        (then / now - (32.0f64 / 24.0).sqrt()).abs() < 0.1,
        "half the grain costs four times the samples: {most:?}"
    );
    let depth = price("depth.total");
    assert!(depth.look.is_some() && depth.seconds >= 0.0);
    // A knob whose effect cannot be computed makes them stale.
    tune(&w, shot, json!({ "depth.roulette_from": 9 }));
    assert_eq!(w.prices(shot).unwrap().unwrap().stale, ["Roulette from"]);
}

#[test]
fn lights_are_edited_in_revisions() {
    let (_data, w, shot) = workshop();
    let change = |name: &str, on: Option<bool>, split: Option<u32>| {
        let lights = [(name.to_string(), LightChange { on, split })].into();
        w.change_shot(shot, &ShotChange { lights, ..Default::default() })
    };
    assert!(change("nobody", Some(false), None).is_err());
    change("environment", None, Some(2)).unwrap();
    let bright = test(&w, shot);
    let rays = w.ledger(bright, None).unwrap().ledgers.lights;
    assert_eq!(rays.iter().find(|l| l.name == "environment").unwrap().own, Some(2));
    let view = change("environment", Some(false), None).unwrap();
    assert!(!view.lights["environment"].on);
    let dark = test(&w, shot);
    assert!(w.ledger(dark, None).unwrap().noise.unwrap().lights.iter().all(|l| l.name != "light environment"));
    let back = w.go_to_revision(shot, view.undo.unwrap()).unwrap();
    assert!(back.lights["environment"].on && back.lights["environment"].split == 2);
}

#[test]
fn advice_is_tried_followed_and_taken_back_and_what_came_stays_known() {
    let (data, w, shot) = workshop();
    let much = json!({ "sampling.adaptive": false, "sampling.most": 16, "depth.total": 30, "split.reflection": 4 });
    tune(&w, shot, much);
    let id = test(&w, shot);
    // A final of that few samples is over before trials would be.
    let plan = w.advice(id).unwrap().trials.unwrap();
    assert!(!plan.pays && plan.seconds > plan.wins.unwrap(), "{plan:?}");
    assert!(w.start_trials(id).unwrap_err().what.contains("longer than they could save"));
    tune(&w, shot, json!({ "sampling.most": 4096 }));
    let plan = w.advice(id).unwrap().trials.unwrap();
    assert!(plan.pays && plan.seconds < plan.wins.unwrap(), "{plan:?}");
    // Stopped, trials tell nothing, and that is said.
    let refused = Arc::new(Mutex::new(Vec::new()));
    let heard = refused.clone();
    w.listen(move |e| {
        if let Event::Refused { fault } = e {
            heard.lock().unwrap().push(fault.clone());
        }
    });
    w.start_trials(id).unwrap();
    assert!(w.start_trials(id).unwrap_err().what.contains("already"), "one such job at a time");
    wait("a trial", || w.stop_test());
    wait("the refusal", || !refused.lock().unwrap().is_empty());
    assert!(refused.lock().unwrap()[0].what.contains("stopped"));
    wait("its trials to go", || w.proofs(shot).unwrap().len() == 1);
    assert!(w.advice(id).unwrap().trials.is_some());
    // What the line under the picture tells is of the trial, not of the shot.
    let most = Arc::new(Mutex::new(Vec::new()));
    let told = most.clone();
    w.listen(move |e| {
        if let Event::Test { kind: ProofKind::Trial, most, .. } = e {
            told.lock().unwrap().push(*most);
        }
    });
    w.start_trials(id).unwrap();
    let work = || w.advice(id).unwrap().at_work;
    wait("the second of the trials", || work().is_some_and(|a| a.done > 0));
    let now = work().unwrap();
    assert!(now.of == plan.renders && now.done < now.of && now.remaining.is_some() && now.key.is_none(), "{now:?}");
    assert!(!w.proofs(shot).unwrap().iter().any(|p| p.kind == ProofKind::Trial && p.frame.0 > 200));
    wait("the pilot", || w.advice(id).unwrap().trials.is_none());
    wait("its trials to go", || w.proofs(shot).unwrap().len() == 1);
    assert!(most.lock().unwrap().contains(&Some(32)) && most.lock().unwrap().iter().all(|m| *m == Some(32)));
    let view = w.advice(id).unwrap();
    assert!(view.at_work.is_none());
    assert!(view.lines.iter().all(|l| l.pays && l.advice.effect.equal + l.advice.effect.unsure < 1.0), "{view:?}");
    let line = view.lines.iter().find(|l| l.advice.changes.keys().any(|k| k.starts_with("split.")));
    let line = line.unwrap_or_else(|| panic!("four rays where one does: {:?}", view.lines));
    let key = line.advice.key.clone();
    let of = |key: &str| w.advice(id).unwrap().lines.into_iter().find(|l| l.advice.key == key).unwrap();
    let take = |state| w.take_advice(id, &TakeAdvice { key: key.clone(), state }).unwrap();
    take(AdviceState::Dismissed);
    assert_eq!(of(&key).state, AdviceState::Dismissed);
    take(AdviceState::New);
    assert_eq!(of(&key).state, AdviceState::New);
    tune(&w, shot, json!({ "sampling.most": 16 }));
    take(AdviceState::Tried);
    assert_eq!(of(&key).state, AdviceState::Tried);
    wait("what came", || of(&key).came.is_some());
    let came = of(&key).came.unwrap();
    assert_eq!(came.without, id, "the proof without the change is there already");
    assert!((came.effect.equal - came.effect.time * came.effect.variance).abs() < 1e-9);
    assert!(came.effect.unsure > 0.0 && came.effect.unsure < 1.0, "{came:?}");
    let was = w.shot(shot).unwrap();
    take(AdviceState::Applied);
    assert_ne!(w.shot(shot).unwrap().tuning, was.tuning);
    let same = |line: AdviceLine, state| {
        assert_eq!(line.state, state);
        assert_eq!(line.came.map(|c| (c.without, c.with, c.effect)), Some((came.without, came.with, came.effect)));
    };
    same(of(&key), AdviceState::Applied);
    // Pressed in two pages: the second press changes nothing, and the way back stays.
    take(AdviceState::Applied);
    same(of(&key), AdviceState::Applied);
    // Taken back by its own step, or undone: what came stays with it, and nothing is foretold again.
    take(AdviceState::New);
    assert_eq!(w.shot(shot).unwrap().tuning, was.tuning);
    // The same press from a page that has not heard of it leaves what somebody has set since.
    tune(&w, shot, json!({ "split.reflection": 3 }));
    let _ = w.take_advice(id, &TakeAdvice { key: key.clone(), state: AdviceState::New });
    assert_eq!(w.shot(shot).unwrap().tuning["split.reflection"], json!(3));
    w.go_to_revision(shot, was.revision).unwrap();
    same(of(&key), AdviceState::Tried);
    take(AdviceState::Applied);
    w.go_to_revision(shot, was.revision).unwrap();
    same(of(&key), AdviceState::Tried);
    // Also when the proof that showed it is gone, and after a restart. Trials that were cut short are gone then, too.
    w.delete(&[BinItem::new(BinKind::Proof, came.with)]).unwrap();
    w.empty_bin(&[BinItem::new(BinKind::Proof, came.with)]).unwrap();
    assert!(w.close(std::time::Duration::from_secs(300)).unwrap());
    drop(w);
    let db = rusqlite::Connection::open(data.path().join("mellow-grain.sqlite")).unwrap();
    let copy = "INSERT INTO proofs (shot, number, name, note, kept, state, made, description, kind)
                SELECT shot, 99, 'half', '', 1, 'stopped', made, description, 'trial' FROM proofs WHERE id = ?1";
    assert_eq!(db.execute(copy, [id]).unwrap(), 1);
    drop(db);
    let w = Workshop::open(data.path()).unwrap();
    assert_eq!(w.proofs(shot).unwrap().iter().map(|p| p.id).collect::<Vec<_>>(), [id]);
    let line = w.advice(id).unwrap().lines.into_iter().find(|l| l.advice.key == key).unwrap();
    assert_eq!((line.state, line.came.map(|c| c.effect)), (AdviceState::Tried, Some(came.effect)));
    // Where the step would be another one, it is advice of its own again.
    tune(&w, shot, json!({ "split.reflection": 1 }));
    assert!(!w.advice(id).unwrap().lines.iter().any(|l| l.advice.title == line.advice.title));
}

/// Another clean-up needs no new test: the halves of the last one are judged after it, beside, and the forecast follows. What
/// clamps took is kept by place.
#[test]
fn a_change_of_the_clean_up_is_forecast_from_the_halves_of_a_test() {
    let (data, w, shot) = workshop();
    let id = test(&w, shot);
    let told = |w: &Workshop| w.forecast(shot).unwrap().unwrap();
    let before = told(&w);
    assert!(!before.judged_anew && !before.judging && before.forecast.needs_test.is_empty());
    assert!(w.clean_up(id, &w.look_of(id).unwrap()).unwrap().clamped.is_none());
    tune(&w, shot, json!({ "cleanup.denoise": "quick", "clamp.direct": 1.0 }));
    wait("judging anew", || told(&w).judged_anew);
    let after = told(&w);
    assert!(!after.judging && after.forecast.needs_test == ["clamp.direct"], "{:?}", after.forecast.needs_test);
    // Every pixel gets about as many samples, and the denoiser takes a moment: it does not cost many times the sampling.
    assert!(
        after.forecast.grain < 0.8 * before.forecast.grain && after.forecast.sampling < 3.0 * before.forecast.sampling
    );
    let clamped = test(&w, shot);
    let look = w.look_of(clamped).unwrap();
    let taken = w.clean_up(clamped, &look).unwrap().clamped.unwrap();
    assert!(taken.share > 0.0 && taken.worst > taken.share && taken.worst < 1.0, "{taken:?}");
    assert_ne!(
        w.show(clamped, Layer::Clamped, &look).unwrap().rgba,
        w.show(clamped, Layer::Picture, &look).unwrap().rgba
    );
    assert_eq!(w.show(id, Layer::Clamped, &look).err().unwrap().code, fault::Code::NotFound);
    // Where the samples are gone, a new test is needed, and it is said.
    for proof in [id, clamped] {
        let folder = data.path().join("proofs").join(proof.to_string());
        let films = std::fs::read_dir(folder).unwrap().map(|e| e.unwrap().path());
        films.filter(|p| p.extension().is_some_and(|e| e == "exr")).for_each(|p| std::fs::remove_file(p).unwrap());
    }
    tune(&w, shot, json!({ "view.exposure": 1.5 }));
    assert!(told(&w).judging, "asked for first");
    wait("the end of judging", || !told(&w).judging);
    let lost = told(&w);
    assert!(!lost.judged_anew && lost.forecast.needs_test.contains(&"view.exposure".to_string()));
    // A fit cannot tell what a denoiser would bring, and says so.
    tune(&w, shot, json!({ "cleanup.denoise": "none", "clamp.direct": 0.0 }));
    let fit = |denoise| w.fit(shot, &advice::Wanted { denoise, ..Default::default() }).unwrap().unwrap();
    assert!(fit(true).denoiser_unknown && !fit(false).denoiser_unknown);
}

/// What softened caustics took is told against the newest test without, once there is one.
#[test]
fn softened_caustics_are_compared_with_sharp_ones() {
    let (_data, w, shot) = workshop();
    let softening = |id| w.clean_up(id, &w.look_of(id).unwrap()).unwrap().softening;
    tune(&w, shot, json!({ "paths.soften": 0.4 }));
    let soft = test(&w, shot);
    let alone = softening(soft).unwrap();
    assert!((alone.roughness - 0.4).abs() < 1e-6 && alone.against.is_none());
    // Other depths are another picture; other counts and another view are not.
    tune(&w, shot, json!({ "paths.soften": 0.0, "depth.total": 2 }));
    test(&w, shot);
    assert!(softening(soft).unwrap().against.is_none());
    tune(&w, shot, json!({ "depth.total": 12, "sampling.most": 16, "view.exposure": 1.0 }));
    let sharp = test(&w, shot);
    assert!(softening(sharp).is_none());
    let against = softening(soft).unwrap().against.unwrap();
    assert_eq!(against.proof, sharp);
    // Roughness spreads light and keeps nearly all of it.
    assert!(against.light.abs() < 0.1 + 3.0 * against.error && against.error < 0.1, "{against:?}");
}
