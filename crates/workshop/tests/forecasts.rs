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
    assert_eq!(w.forecast(shot).unwrap().map(|f| f.proof), None);
    tune(&w, shot, json!({ "sampling.most": 32, "sampling.threshold": 0.05 }));
    let region = Some(Region { x: 0, y: 0, width: 32, height: 32 });
    let part = |w: &Workshop| {
        let id = w.start_test(shot, &NewTest { region, live: false }).unwrap();
        w.wait_for_test();
        id
    };
    let bill = |w: &Workshop| w.forecast(shot).unwrap().unwrap();
    let first = part(&w);
    let alone = bill(&w);
    assert_eq!(alone.proof, first);
    let whole = test(&w, shot);
    // A newer region is less sure than the frame.
    part(&w);
    let sure = bill(&w);
    assert_eq!(sure.proof, whole);
    let below = |f: &ForecastView| f.forecast.low / f.forecast.seconds;
    assert!(below(&sure) > below(&alone), "{} {}", below(&sure), below(&alone));
    // What cannot be computed from the frame's test is known from a region's.
    tune(&w, shot, json!({ "depth.roulette_from": 1 }));
    let asks = bill(&w);
    assert_eq!((asks.proof, asks.forecast.needs_test), (whole, vec!["depth.roulette_from".to_string()]));
    let tried = part(&w);
    assert_eq!((bill(&w).proof, bill(&w).forecast.needs_test), (tried, vec![]));
    tune(&w, shot, json!({ "depth.roulette_from": 4 }));
    assert_eq!(bill(&w).proof, whole);
    // Another camera has seen nothing of it.
    w.change_shot(shot, &ShotChange { camera: Some("Prisms, close".into()), ..Default::default() }).unwrap();
    assert_eq!(w.forecast(shot).unwrap().map(|f| f.proof), None);
}

/// A render that had two fifths of two threads: what others took is there again when they have ended, and is told beside it.
#[test]
fn what_other_programs_took_is_not_foretold_but_said() {
    let (data, w, shot) = workshop();
    tune(&w, shot, json!({ "sampling.most": 32, "sampling.threshold": 0.05 }));
    let id = test(&w, shot);
    assert!(w.close(std::time::Duration::from_secs(10)).unwrap());
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
        assert!(w.close(std::time::Duration::from_secs(10)).unwrap());
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
