//! Tests, proofs and finals as work: precedence, denoising of every job, and what survives a restart.

mod common;

use common::*;
use picture::denoise::{CleanUp, Method};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use workshop::*;

fn shown(w: &Workshop, proof: i64, layer: Layer) -> Vec<u8> {
    w.show(proof, layer, &w.look_of(proof).unwrap()).unwrap().rgba
}

#[test]
fn a_proof_looks_the_same_after_a_restart_and_is_denoised_without_harm() {
    let (data, w, shot) = workshop();
    let id = test(&w, shot);
    let before: Vec<Vec<u8>> =
        [Layer::Picture, Layer::Grain, Layer::Samples, Layer::Normal].map(|l| shown(&w, id, l)).into();
    assert!(w.close(std::time::Duration::from_secs(300)).unwrap());
    let w = Workshop::open(data.path()).unwrap();
    let after: Vec<Vec<u8>> =
        [Layer::Picture, Layer::Grain, Layer::Samples, Layer::Normal].map(|l| shown(&w, id, l)).into();
    assert!(before == after);
    let noisy = w.look_of(id).unwrap();
    let clean = Look { clean: CleanUp::with(Method::Quick, 1.0), ..noisy.clone() };
    let none = Look { clean: CleanUp::with(Method::Quick, 0.0), ..noisy };
    assert!(w.show(id, Layer::Picture, &clean).unwrap().rgba != before[0]);
    assert!(w.show(id, Layer::Picture, &none).unwrap().rgba == before[0], "blend 0 is the noisy picture");
    assert!(shown(&w, id, Layer::Picture) == before[0], "the noisy original stays");
}

#[test]
fn every_final_of_a_queue_is_denoised_and_tests_go_first() {
    let (data, w, shot) = workshop();
    tune(&w, shot, serde_json::json!({ "cleanup.denoise": "quick" }));
    let happened = Arc::new(Mutex::new(Vec::new()));
    let heard = happened.clone();
    w.listen(move |e| match e {
        Event::Test { progress, .. } => heard.lock().unwrap().push(("test", progress.phase)),
        Event::Final { progress, .. } => heard.lock().unwrap().push(("final", progress.phase)),
        _ => {}
    });
    // The test runs when the finals are added: none of them samples before it has ended.
    tune(&w, shot, serde_json::json!({ "sampling.most": 64, "sampling.threshold": 0.001 }));
    let region = picture::Region { x: 8, y: 8, width: 64, height: 48 };
    w.start_test(shot, &NewTest { region: Some(region), live: false }).unwrap();
    tune(&w, shot, serde_json::json!({ "sampling.most": 8 }));
    for _ in 0..3 {
        w.add_final(shot).unwrap();
    }
    w.wait_for_test();
    w.wait_for_finals().unwrap();
    let finals = w.finals().unwrap();
    assert!(finals.iter().all(|f| f.state == FinalState::Delivered && f.frame == (96, 64)), "{finals:?}");
    for f in &finals {
        let exr = f.files.iter().find(|x| x.name.ends_with(".exr")).unwrap();
        let bytes = std::fs::read(w.final_file(f.id, &exr.name).unwrap()).unwrap();
        let (_, region, channels) = picture::files::exr_channels(&bytes, &exr.name).unwrap();
        let get = |n: &str| &channels.iter().find(|c| c.name == n).unwrap().samples;
        assert_eq!((region.width, region.height), (96, 64), "a final is the whole frame");
        assert!(get("R") != get("noisy.R"), "final {} is denoised", f.id);
        assert!(f.report.as_ref().unwrap().denoise > 0.0);
    }
    let log = happened.lock().unwrap();
    let last_test = log.iter().rposition(|(who, p)| *who == "test" && *p == tracer::Phase::Sampling);
    let first_final = log.iter().position(|(who, p)| *who == "final" && *p == tracer::Phase::Denoise);
    assert!(last_test < first_final, "{log:?}");
    // Their samples are kept for top-ups: of the first all were rendered, the others took them over.
    let reports: Vec<&FinalReport> = finals.iter().map(|f| f.report.as_ref().unwrap()).collect();
    assert_eq!(reports.iter().map(|r| r.reused > 0).collect::<Vec<_>>(), [false, true, true]);
    assert!(finals.iter().all(|f| f.can_top_up) && data.path().join("finals/1/counts.json").exists());
}

#[test]
fn a_long_test_stops_at_once_and_a_new_one_takes_its_place() {
    let (_data, w, shot) = workshop();
    tune(&w, shot, serde_json::json!({ "sampling.most": 65536, "sampling.threshold": 0.0005 }));
    let first = w.start_test(shot, &NewTest::default()).unwrap();
    // One sample a pixel and half is needed before a stopped test is worth keeping.
    let begun = Instant::now();
    let enough =
        |e: Option<Event>| matches!(e, Some(Event::Test { progress, .. }) if progress.samples_per_pixel >= 2.0);
    while !enough(w.test_progress()) {
        assert!(begun.elapsed() < Duration::from_secs(600), "the test does not get on");
        std::thread::sleep(Duration::from_millis(20));
    }
    let second = w.start_test(shot, &NewTest::default()).unwrap();
    // The first is put away while the second runs.
    while w.proof(first).unwrap().state == ProofState::Running {
        assert!(begun.elapsed() < Duration::from_secs(600), "the first test is not put away");
        std::thread::sleep(Duration::from_millis(10));
    }
    let proofs = w.proofs(shot).unwrap();
    assert_eq!((proofs[0].id, proofs[0].state), (second, ProofState::Running));
    assert_eq!((proofs[1].id, proofs[1].state), (first, ProofState::Stopped));
    assert!(!proofs[1].report.as_ref().unwrap().complete);
    assert!(w.stop_test() && !w.stop_test());
}

/// Everything that can be looked at while a test renders, asked for by four people at once, is answered in the size of the frame; what is
/// shown the moment it is stopped is what is shown when it is on disk, and after a restart. A denoised live picture ends with it.
#[test]
fn a_test_shows_the_same_when_it_is_stopped_put_away_and_read_again() {
    let (data, w, shot) = workshop();
    let long = serde_json::json!({
        "frame.width": 200, "frame.height": 140, "sampling.most": 65536, "sampling.threshold": 0.0005, "cleanup.live": 1,
        "delivery.parts": true,
    });
    tune(&w, shot, long);
    let id = w.start_test(shot, &NewTest::default()).unwrap();
    let begun = Instant::now();
    let look = w.look_of(id).unwrap();
    // From the first moment on nothing is an error but that there is no picture yet, and no grain is told that nobody has judged.
    let mut told = false;
    while !told {
        assert!(begun.elapsed() < Duration::from_secs(600), "the test does not get on");
        match w.legends(id, &look) {
            Ok(legends) => assert!(legends.grain.grain > 0.0, "grain of nothing"),
            Err(fault) => assert_eq!(fault.code, fault::Code::Busy, "{fault}"),
        }
        let event = w.test_progress().expect("it runs");
        told = matches!(event, Event::Test { progress, .. } if progress.samples_per_pixel >= 8.0);
    }
    let layers = [
        Layer::Picture,
        Layer::Grain,
        Layer::Samples,
        Layer::Albedo,
        Layer::Normal,
        Layer::Depth,
        Layer::Shadow,
        Layer::Clipped,
    ];
    let bytes = |layer: Layer| w.show(id, layer, &look).unwrap().rgba;
    std::thread::scope(|s| {
        for _ in 0..4 {
            s.spawn(|| {
                for layer in layers {
                    let opaque = bytes(layer).chunks_exact(4).filter(|c| c[3] == 255).count();
                    assert_eq!(opaque, 200 * 140, "{layer:?}");
                }
                let (legends, pixel) = (w.legends(id, &look).unwrap(), w.pixel(id, 100, 70, &look).unwrap());
                assert!(legends.samples.iter().all(|s| s.value >= 2.0) && pixel.samples >= 8 && pixel.grain > 0.0);
                assert!(pixel.grain <= legends.grain.worst_block * 2.0);
            });
        }
    });
    assert!(w.stop_test_at_once());
    let of = |w: &Workshop| {
        let shown = |layer: Layer| w.show(id, layer, &look).unwrap().rgba;
        let pixel = w.pixel(id, 100, 70, &look).unwrap();
        (
            layers.map(shown),
            format!("{pixel:?}"),
            serde_json::to_string(&w.legends(id, &look).unwrap().samples).unwrap(),
        )
    };
    let at_once = of(&w);
    w.wait_for_test();
    assert!(at_once == of(&w), "put away");
    assert!(w.close(Duration::from_secs(300)).unwrap());
    let w = Workshop::open(data.path()).unwrap();
    assert!(at_once == of(&w), "read again");
}

#[test]
fn proofs_are_compared_in_numbers_and_give_their_tuning_back() {
    let (_data, w, shot) = workshop();
    let few = test(&w, shot);
    tune(&w, shot, serde_json::json!({ "sampling.most": 32, "sampling.least": 32 }));
    let many = test(&w, shot);
    let c = w.compare(&[few, many], None, &Looks::new()).unwrap();
    assert_eq!(c.rows.iter().map(|d| d.id).collect::<Vec<_>>(), ["sampling.least", "sampling.most"]);
    // Common practice, no source: four times the samples, half the grain. Display values of so noisy a picture clip, which
    // keeps the grain of few samples down, so the gain is smaller here.
    let ratio = c.columns[1].grain_ratio.unwrap();
    assert!((1.15..2.1).contains(&ratio), "{ratio}");
    assert!(c.columns[1].metrics.unwrap().rmse > 0.0 && c.columns[1].shared.unwrap().width == 96);
    assert!(c.columns[0].metrics.is_none() && c.columns[1].against.is_none(), "the same seed tells nothing of grain");
    assert_eq!(w.proofs(shot).unwrap()[1].differs, 2);
    w.take_tuning(few, &TakeBack::default()).unwrap();
    assert_eq!(w.shot(shot).unwrap().tuning["sampling.most"], 8);
    // The same description is the same picture, bit for bit.
    let again = w.repeat_test(few).unwrap();
    w.wait_for_test();
    assert_eq!(w.compare(&[few, again], None, &Looks::new()).unwrap().columns[1].metrics.unwrap().rmse, 0.0);
    // Figures are of the pictures as they are looked at: cleaned, another error and less noise.
    let cleaned = |id: i64| {
        let clean = CleanUp::with(Method::Quick, 1.0);
        Looks::from([(id, Look { clean, ..w.look_of(id).unwrap() })])
    };
    let c = w.compare(&[few, again], None, &cleaned(again)).unwrap();
    assert!(c.columns[1].metrics.unwrap().rmse > 0.0 && c.columns[1].grain_ratio.unwrap() > 1.2, "{c:?}");
    let raw = w.difference(few, again, 8.0, &Looks::new()).unwrap();
    assert!(raw.rgba != w.difference(few, again, 8.0, &cleaned(again)).unwrap().rgba);
    // A reference is not cleaned by itself, whatever the shot's denoiser.
    tune(&w, shot, serde_json::json!({ "cleanup.denoise": "quick" }));
    let region = Some(picture::Region { x: 0, y: 0, width: 8, height: 8 });
    tune(&w, shot, serde_json::json!({ "sampling.least": 4, "sampling.most": 8, "sampling.threshold": 0.8 }));
    let reference = w.make_reference(shot, region).unwrap();
    w.wait_for_test();
    assert!(!w.look_of(reference).unwrap().clean.acts());
    tune(&w, shot, serde_json::json!({ "cleanup.denoise": "none" }));
    // Pixels are square: a picture of another shape is not stretched onto this one.
    tune(&w, shot, serde_json::json!({ "frame.width": 64 }));
    let upright = test(&w, shot);
    let column = &w.compare(&[few, upright], None, &Looks::new()).unwrap().columns[1];
    assert!(column.metrics.is_none() && column.notes.iter().any(|n| n.contains("shapes")), "{:?}", column.notes);
    assert!(w.difference(few, upright, 8.0, &Looks::new()).err().unwrap().what.contains("shapes"));
    // What a pilot did not render is not darker.
    tune(&w, shot, serde_json::json!({ "frame.width": 480, "frame.height": 320, "sampling.least": 4 }));
    let pilot = w.start_pilot(shot).unwrap();
    w.wait_for_test();
    let column = &w.compare(&[few, pilot], None, &Looks::new()).unwrap().columns[1];
    assert!(column.metrics.is_none() && column.notes.iter().any(|n| n.contains("not rendered")), "{:?}", column.notes);
}

#[test]
fn a_scene_file_that_has_gone_fails_the_test_with_a_message() {
    let (data, w, shot) = workshop();
    std::fs::remove_dir_all(data.path().join("scenes")).unwrap();
    let told = Arc::new(Mutex::new(None));
    let heard = told.clone();
    w.listen(move |e| {
        if let Event::Test { fault: Some(f), .. } = e {
            *heard.lock().unwrap() = Some(f.clone());
        }
    });
    test(&w, shot);
    let fault = told.lock().unwrap().clone().expect("a fault is told");
    assert_eq!(fault.code, fault::Code::NotFound);
    assert!(w.proofs(shot).unwrap().is_empty() && w.shots().unwrap().len() == 1);
}
