//! On which test the bill of a shot rests, and what it makes of a test that ran beside other work.

mod common;

use common::*;
use picture::Region;
use serde_json::{Value, json};
use store::Store;
use workshop::*;

#[test]
fn the_bill_rests_on_the_test_that_leaves_fewest_knobs_unknown_and_then_on_the_surest() {
    let (_data, w, shot) = workshop();
    assert!(w.forecast(shot).unwrap().is_none());
    tune(&w, shot, json!({ "sampling.most": 32, "sampling.threshold": 0.05 }));
    let region = Some(Region { x: 0, y: 0, width: 32, height: 32 });
    let part = |w: &Workshop| {
        let id = w.start_test(shot, &NewTest { region, live: false }).unwrap();
        w.wait_for_test();
        format!("proof {}", w.proof(id).unwrap().number)
    };
    let bill = |w: &Workshop| w.forecast(shot).unwrap().unwrap();
    let first = part(&w);
    let alone = bill(&w);
    assert_eq!(alone.by, first);
    test(&w, shot);
    let whole = "proof 2";
    // A newer region is less sure than the frame.
    part(&w);
    let sure = bill(&w);
    assert_eq!(sure.by, whole);
    let below = |f: &ForecastView| f.forecast.low / f.forecast.seconds;
    assert!(below(&sure) > below(&alone), "{} {}", below(&sure), below(&alone));
    // What cannot be computed from the frame's test is known from a region's.
    tune(&w, shot, json!({ "depth.roulette_from": 1 }));
    let asks = bill(&w);
    assert_eq!((asks.by.as_str(), asks.changed), (whole, vec!["Roulette from".to_string()]));
    let tried = part(&w);
    let told = bill(&w);
    assert_eq!((told.by, told.changed), (tried, vec![]));
    let other = Unused { name: whole.into(), why: "differs in Roulette from, which only a new test can tell".into() };
    assert!(told.unused.contains(&other), "{:?}", told.unused);
    tune(&w, shot, json!({ "depth.roulette_from": 4 }));
    assert_eq!(bill(&w).by, whole);
    // A light that is switched off makes it another picture.
    let off = LightChange { on: Some(false), split: None };
    w.change_shot(shot, &ShotChange { lights: [("environment".into(), off)].into(), ..Default::default() }).unwrap();
    assert_eq!(bill(&w).changed, ["shot edits"]);
    // Another camera has seen nothing of it.
    w.change_shot(shot, &ShotChange { camera: Some("Prisms, close".into()), ..Default::default() }).unwrap();
    assert!(w.forecast(shot).unwrap().is_none());
}

/// A half-size draft of the whole frame does not stand against what full size has shown: a region's own superblocks count there,
/// a pilot leads, and a delivered final is the truth.
#[test]
fn the_best_evidence_rules_the_bill() {
    let (_data, w, shot) = workshop();
    tune(&w, shot, json!({ "frame.width": 192, "frame.height": 128, "sampling.threshold": 0.04, "sampling.most": 64 }));
    let half = json!({ "frame.width": 96, "frame.height": 64, "sampling.most": 12 });
    let full = json!({ "frame.width": 192, "frame.height": 128, "sampling.most": 64 });
    tune(&w, shot, half);
    test(&w, shot);
    tune(&w, shot, full);
    let bill = || w.forecast(shot).unwrap().unwrap();
    let draft = bill();
    assert_eq!((draft.by.as_str(), draft.forecast.measured, draft.forecast.seen), ("proof 1", false, 1.0));
    // A region at full size: its superblocks are measured, the rest is still the draft's.
    let region = Some(Region { x: 0, y: 0, width: 64, height: 64 });
    let part = w.start_test(shot, &NewTest { region, live: false }).unwrap();
    w.wait_for_test();
    let mixed = bill();
    assert_eq!(mixed.by, "proof 1 and proof 2");
    let share = mixed.rests[1].share;
    assert!((0.1..0.5).contains(&share) && (mixed.rests[0].share + share - 1.0).abs() < 0.02, "{:?}", mixed.rests);
    let (d, p) = (&draft.forecast, &w.proof(part).unwrap());
    // Sampling is the sum of both: what the region took, and the draft's of the rest.
    let took = p.report.as_ref().unwrap().seconds;
    let apart = took + d.sampling * (1.0 - share);
    assert!((mixed.forecast.sampling / apart - 1.0).abs() < 0.5, "{} {apart}", mixed.forecast.sampling);
    // The whole frame at full size leads, and says why the draft does not count.
    test(&w, shot);
    let whole = bill();
    assert_eq!(whole.by, "proof 3");
    let why = |name: &str| whole.unused.iter().find(|u| u.name == name).unwrap().why.clone();
    assert_eq!(why("proof 1"), "its frame has another size");
    assert_eq!(why("proof 2"), "others have seen its places with more samples");
    // A delivered final at the same tuning: what it took is what it takes.
    let id = w.add_final(shot).unwrap().id;
    w.wait_for_finals().unwrap();
    let f = w.one_final(id).unwrap();
    let report = f.report.unwrap();
    let truth = bill();
    assert!(truth.by.starts_with("the final "), "{}", truth.by);
    let all = report.start + report.saving + report.before + report.sampling + report.denoise + report.writing;
    assert!(
        (truth.forecast.seconds / all - 1.0).abs() < 1e-9 && truth.forecast.counted,
        "{} {all}",
        truth.forecast.seconds
    );
    // Another threshold: its samples still tell most.
    tune(&w, shot, json!({ "sampling.threshold": 0.06 }));
    let next = bill();
    assert!(next.by.starts_with("the final ") && next.forecast.counted, "{} {:?}", next.by, next.forecast);
    assert!(next.forecast.sampling < truth.forecast.sampling);
}

/// A change that makes more samples useless than it saves is priced and not taken, unless somebody insists.
#[test]
fn a_fit_does_not_throw_away_more_than_it_saves() {
    let (_data, w, shot) = workshop();
    // Nearly all of the final is there; a smaller frame would end a little sooner, and use nothing of it.
    tune(&w, shot, json!({ "sampling.threshold": 0.03, "sampling.most": 256 }));
    test(&w, shot);
    let f = w.forecast(shot).unwrap().unwrap().forecast;
    let wanted = advice::Wanted { seconds: Some(f.seconds - 0.1 * f.sampling), smaller: true, ..Default::default() };
    let fit = |wanted: &advice::Wanted| w.fit(shot, wanted).unwrap().unwrap().fit;
    let free = fit(&wanted);
    for row in &free.rows {
        let limits = row.changes.keys().all(|k| k.starts_with("sampling."));
        assert_eq!(row.lost < 1e-6, limits, "only other pictures make samples useless: {row:?}");
        assert!(!row.taken || !row.costs_more(), "{row:?}");
    }
    let dear: Vec<String> = free.rows.iter().filter(|r| r.costs_more()).map(|r| r.key.clone()).collect();
    let forced = fit(&advice::Wanted { insist: dear.clone(), ..wanted });
    for key in &dear {
        assert!(forced.rows.iter().any(|r| r.key == *key && r.taken), "{key} of {dear:?}");
    }
    // How much it saves depends on what else runs; with hardly anything it is not worth what it throws away.
    let size = free.rows.iter().find(|r| r.key == "frame.size").unwrap();
    assert!(size.lost > 0.5 && advice::FitRow { seconds: -0.1, ..size.clone() }.costs_more(), "{size:?}");
}

/// A final that ended by its time limit has not shown what its threshold takes: it is foretold to take longer, not as long.
#[test]
fn a_final_that_held_the_time_is_no_proof_that_its_threshold_is_cheap() {
    let (_data, w, shot) = workshop();
    let fine = json!({ "sampling.threshold": 0.002, "sampling.most": 65536, "delivery.linear": "none" });
    tune(&w, shot, fine);
    let held = NewFinal { policy: Policy::Time, ..NewFinal::default() };
    // On a slow machine a few seconds bring too few samples to foretell anything.
    let mut budget = 3.0;
    let (report, bill) = loop {
        w.change_shot(shot, &ShotChange { budget: Some(budget), ..Default::default() }).unwrap();
        let id = w.add_finals(shot, &held).unwrap().finals[0].id;
        w.wait_for_finals().unwrap();
        let f = w.one_final(id).unwrap();
        if let (Some(report), Some(bill)) = (f.report, w.forecast(shot).unwrap()) {
            break (report, bill);
        }
        budget *= 2.0;
        assert!(budget < 200.0, "{:?}", f.fault);
    };
    assert!(bill.by.starts_with("the final ") && !bill.forecast.counted, "{bill:?}");
    let (told, reached) = (bill.forecast.sampling, report.plan.last().map_or(1.0, |d| d.threshold));
    // Noise falls with the root of the samples, or more slowly.
    assert!(reached > 0.004 && told > 3.0 * report.sampling, "{told} after {} at {reached}", report.sampling);
}

/// What a test has taken is what its map says of it at its own threshold.
#[test]
fn a_part_takes_at_its_own_threshold_what_it_took() {
    let (_data, w, shot) = workshop();
    tune(&w, shot, json!({ "frame.width": 320, "frame.height": 192, "sampling.threshold": 0.08, "sampling.most": 64 }));
    test(&w, shot);
    let region = Some(Region { x: 128, y: 64, width: 128, height: 128 });
    let part = w.start_test(shot, &NewTest { region, live: false }).unwrap();
    w.wait_for_test();
    let told = w.legends(part, &Look { threshold: 0.08, ..w.look_of(part).unwrap() }).unwrap().ask.unwrap();
    assert!((told.seconds / told.took - 1.0).abs() < 0.02, "{told:?}");
}

/// A render that had two fifths of two threads: what others took is there again when they have ended, and is told beside it.
#[test]
fn what_other_programs_took_is_not_foretold_but_said() {
    let (data, w, shot) = workshop();
    tune(&w, shot, json!({ "sampling.most": 32, "sampling.threshold": 0.05 }));
    let id = test(&w, shot);
    assert!(w.close(std::time::Duration::from_secs(300)).unwrap());
    let bill = |others: f64| {
        let store = Store::open(data.path()).unwrap();
        let proof = store.proof(id).unwrap();
        let read = |text: &Option<String>| serde_json::from_str::<Value>(text.as_ref().unwrap()).unwrap();
        let (mut report, mut circumstances) = (read(&proof.report), read(&proof.circumstances));
        circumstances["others"] = json!(others);
        let of = |what: &str| report[what].as_f64().unwrap();
        report["seconds"] = json!((of("processor_seconds") + of("judging_seconds")) / (of("threads") * 0.4));
        let texts = [report, circumstances].map(|v| v.to_string());
        store.end_proof(id, proof.state, Some(&texts[0]), Some(&texts[1]), proof.bytes).unwrap();
        drop(store);
        let w = Workshop::open(data.path()).unwrap();
        let bill = w.forecast(shot).unwrap().unwrap();
        let check = w.check_final(shot, &NewFinal::default()).unwrap();
        let time = check.iter().find(|c| c.what == "time").unwrap().state.clone();
        assert_eq!(time.contains("if other programs take as much"), others > 0.0, "{time}");
        assert!(w.close(std::time::Duration::from_secs(300)).unwrap());
        bill
    };
    let alike = |a: f64, b: f64| (a / b - 1.0).abs() < 1e-6;
    let (alone, beside) = (bill(0.0), bill(0.5));
    let said = |f: &ForecastView| f.marks.iter().any(|m| m.contains("50 % of the processors"));
    assert!(!said(&alone) && said(&beside), "{:?} {:?}", alone.marks, beside.marks);
    let (alone, beside) = (alone.forecast, beside.forecast);
    // Four fifths of the threads instead of two.
    assert!(alike(alone.sampling, 2.0 * beside.sampling), "{} {}", alone.sampling, beside.sampling);
    // If they go on it takes as long as it would have, and the interval reaches that far, but not down to less.
    assert!(alike(beside.beside, alone.seconds) && beside.high >= beside.beside);
    assert!(alike(alone.beside, alone.seconds));
    let below = |f: &advice::Forecast| (f.seconds - f.low) / f.sampling;
    assert!(alike(below(&alone), below(&beside)));
    // Others cannot have taken more than there was.
    let crowded = bill(0.9).forecast;
    assert!(alike(crowded.sampling, 0.4 * alone.sampling), "{} {}", crowded.sampling, alone.sampling);
}
