//! Finals at the bench: nothing rendered twice, top-ups, the queue, what fails, and a shot taken elsewhere.

mod common;

use common::*;
use picture::Region;
use std::io::Cursor;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use workshop::*;

fn finished(w: &Workshop, id: i64) -> FinalView {
    w.wait_for_finals().unwrap();
    w.finals().unwrap().into_iter().find(|f| f.id == id).unwrap()
}

fn exr(w: &Workshop, f: &FinalView) -> Vec<u8> {
    let name = &f.files.iter().find(|x| x.name.ends_with(".exr")).unwrap().name;
    std::fs::read(w.final_file(f.id, name).unwrap()).unwrap()
}

fn values(bytes: &[u8], channel: &str) -> Vec<u32> {
    let (.., channels) = picture::files::exr_channels(bytes, "final").unwrap();
    match &channels.iter().find(|c| c.name == channel).unwrap().samples {
        picture::files::Samples::Float(v) => v.iter().map(|x| x.to_bits()).collect(),
        picture::files::Samples::Whole(v) => v.clone(),
    }
}

#[test]
fn a_final_takes_over_tests_and_pilots_and_looks_as_if_it_had_not() {
    let (_data, w, shot) = workshop();
    tune(&w, shot, serde_json::json!({ "sampling.least": 16, "sampling.most": 48, "sampling.threshold": 0.03 }));
    // A pilot of two minutes comes to its end by itself, however slow the machine is.
    w.change_shot(shot, &ShotChange { budget: Some(2400.0), ..Default::default() }).unwrap();
    let first = w.add_final(shot).unwrap();
    let alone = finished(&w, first.id);
    assert_eq!(alone.report.as_ref().unwrap().reused, 0);
    let expected = exr(&w, &alone);
    // What lies in the bin is not taken over.
    w.delete(&[BinItem::new(BinKind::Final, alone.id)]).unwrap();
    // A region at final settings, and a pilot.
    let region = Region { x: 32, y: 0, width: 64, height: 40 };
    w.start_test(shot, &NewTest { region: Some(region), live: false }).unwrap();
    w.wait_for_test();
    let told = Arc::new(Mutex::new(Vec::new()));
    let heard = told.clone();
    w.listen(move |e| {
        if let Event::Test { kind: ProofKind::Pilot, progress: p, .. } = e
            && p.phase == tracer::Phase::Sampling
        {
            heard.lock().unwrap().push((p.share, p.elapsed, p.remaining, p.capped));
        }
    });
    let pilot = w.start_pilot(shot).unwrap();
    w.wait_for_test();
    assert_eq!(w.proof(pilot).unwrap().kind, ProofKind::Pilot);
    // A pilot is as far as its two minutes are.
    let told = told.lock().unwrap().clone();
    assert!(!told.is_empty());
    for (share, elapsed, remaining, capped) in told.iter() {
        let end = 120.0f64;
        assert!((share - (elapsed / end).min(1.0)).abs() < 1e-9 && *capped == 0.0, "{share} after {elapsed} s");
        assert!((remaining.unwrap() - (end - elapsed).max(0.0)).abs() < 1e-9);
    }
    let forecast = w.forecast(shot).unwrap().unwrap();
    assert!(forecast.forecast.needs_test.is_empty() && forecast.forecast.low > 0.0);
    let samples = |w: &Workshop| said(w, shot, "samples").map(|c| c.state);
    assert_eq!(samples(&w).unwrap(), "of proof 2: not rendered again", "the pilot has all that the region has");
    let second = w.add_final(shot).unwrap();
    let helped = finished(&w, second.id);
    let report = helped.report.as_ref().unwrap();
    assert!(report.reused > 0 && report.before > 0.0, "{report:?}");
    let got = exr(&w, &helped);
    for channel in ["R", "noisy.G", "albedo.B", "samples.Y"] {
        assert!(values(&got, channel) == values(&expected, channel), "{channel} differs");
    }
    // The forecast made before it is in its report, and later forecasts know how it came out.
    assert!(helped.forecast.is_some());
    // Under another exposure hardly anything is rendered anew: a darker picture shows less grain.
    tune(&w, shot, serde_json::json!({ "view.exposure": -1.0 }));
    assert_eq!(w.forecast(shot).unwrap().unwrap().forecast.history, 1);
    assert_eq!(samples(&w).unwrap(), "of proof 2: not rendered again");
    let third = w.add_final(shot).unwrap();
    let darker = finished(&w, third.id);
    let (again, all) = (darker.report.as_ref().unwrap(), report.render.samples);
    // They save what they would have taken here.
    let worth = report.render.processor_seconds / report.render.threads as f64;
    assert!((again.before - worth).abs() < 1e-6 * worth, "{} of {worth}", again.before);
    assert!(
        again.reused == all && again.render.samples < all * 5 / 4,
        "{} and {} of {all}",
        again.reused,
        again.render.samples
    );
}

/// The verdict is the artist's aim, not the threshold that sampling used: fitted finely and coarsely, the same picture is as clean.
#[test]
fn clean_is_what_the_shot_asks_for() {
    let (_data, w, shot) = workshop();
    let verdict = |values: serde_json::Value| {
        tune(&w, shot, values);
        let id = w.add_final(shot).unwrap().id;
        finished(&w, id).report.unwrap().verdict.unwrap()
    };
    // A finer threshold than the samples reach leaves a clean picture clean.
    let fine = verdict(serde_json::json!({ "sampling.most": 64, "sampling.threshold": 0.0005, "delivery.aim": 64.0 }));
    assert_eq!((fine.cleanness, fine.above, fine.ways.len()), (Cleanness::Clean, 0.0, 0));
    assert!((fine.limit - 64.0 / 255.0).abs() < 1e-9, "small frames are seen pixel by pixel: {}", fine.limit);
    // A coarser one than the aim does not make a noisy picture clean: it says what would, by going on there or by a denoiser.
    let noisy = verdict(serde_json::json!({ "sampling.threshold": 0.9, "sampling.most": 16, "delivery.aim": 0.5 }));
    assert!(noisy.cleanness == Cleanness::Noisy && noisy.above > 0.02 && noisy.worst > noisy.limit, "{noisy:?}");
    assert_eq!(noisy.places.len() as f64, (noisy.above * 96.0).round(), "{noisy:?}");
    assert!(noisy.ways.iter().any(|w| matches!(w, Way::Denoise { .. })), "{:?}", noisy.ways);
    let more = noisy.ways.iter().find_map(|w| match w {
        Way::TopUp { region, threshold, seconds, .. } => Some((*region, *threshold, *seconds)),
        _ => None,
    });
    let (region, threshold, seconds) = more.unwrap();
    assert!(seconds > 0.0 && threshold <= noisy.limit && noisy.places.iter().all(|p| p.shared(region) == Some(*p)));
    // What the denoiser leaves counts, not what it was given.
    let cleaned = verdict(serde_json::json!({ "cleanup.denoise": "quick" }));
    assert!(cleaned.noise < 0.7 * noisy.noise, "{} {}", cleaned.noise, noisy.noise);
    assert!(!cleaned.ways.iter().any(|w| matches!(w, Way::Denoise { .. })));
    // Where few blocks are above it is nearly clean, and says where.
    let nearly = verdict(serde_json::json!({ "delivery.aim": (cleaned.worst * 255.0 / 1.12).max(0.1) }));
    assert!(nearly.cleanness == Cleanness::Nearly && !nearly.places.is_empty(), "{nearly:?}");
}

fn said(w: &Workshop, shot: i64, what: &str) -> Option<Check> {
    w.check_final(shot, &NewFinal::default()).unwrap().into_iter().find(|c| c.what == what)
}

#[test]
fn the_check_says_what_would_not_come_out_as_meant() {
    let (_data, w, shot) = workshop();
    let fine = |what: &str| said(&w, shot, what).map(|c| c.fine);
    assert_eq!((fine("forecast"), fine("time"), fine("least samples")), (Some(false), None, Some(false)));
    tune(&w, shot, serde_json::json!({ "sampling.least": 16, "sampling.most": 64, "sampling.threshold": 0.2 }));
    test(&w, shot);
    assert_eq!((fine("forecast"), fine("time"), fine("least samples")), (None, Some(true), None));
    assert_eq!(
        (fine("cleanness"), fine("memory"), fine("names"), fine("drafts")),
        (Some(true), Some(true), Some(true), None)
    );
    // A threshold out of reach of the samples, and a frame out of reach of the minutes.
    tune(&w, shot, serde_json::json!({ "sampling.threshold": 0.0005 }));
    assert_eq!((fine("time"), fine("cleanness")), (Some(true), Some(false)));
    tune(&w, shot, serde_json::json!({ "frame.width": 9600, "frame.height": 6400 }));
    let late = said(&w, shot, "time").unwrap();
    assert!(!late.fine && late.state.contains(", budget 1 min 00 s"), "{}", late.state);
    // Held to its time it ends in time, whatever it looks like.
    let held = NewFinal { policy: Policy::Time, ..NewFinal::default() };
    let checks = w.check_final(shot, &held).unwrap();
    let of = |what: &str| checks.iter().find(|c| c.what == what).unwrap();
    assert!(of("time").fine && of("time").state.contains("ends after the budget"), "{:?}", of("time"));
    // What it looks like then is said, not what it would with all of its samples.
    let told = &of("cleanness").state;
    assert!(!of("cleanness").fine && told.contains("samples a pixel in that time: noise about"), "{told}");
    // What cannot be computed asks for a pilot.
    tune(&w, shot, serde_json::json!({ "frame.width": 96, "frame.height": 64, "depth.roulette_from": 1 }));
    assert!(said(&w, shot, "pilot").unwrap().state.contains("needed"));
}

#[test]
fn a_spot_is_topped_up_as_a_version_with_files_of_its_own() {
    let (_data, w, shot) = workshop();
    let id = w.add_final(shot).unwrap().id;
    let before = finished(&w, id);
    let was = values(&exr(&w, &before), "samples.Y");
    let spot = Region { x: 40, y: 24, width: 16, height: 8 };
    let refused = w.top_up(id, &TopUp { region: spot, threshold: None, seconds: None });
    assert!(refused.unwrap_err().remedy.contains("threshold"));
    assert!(w.top_up(id, &TopUp { region: Region { x: 90, ..spot }, threshold: Some(0.01), seconds: None }).is_err());
    w.top_up(id, &TopUp { region: spot, threshold: Some(0.001), seconds: None }).unwrap();
    // A threshold that is never reached: it goes on until it is told to stop.
    std::thread::sleep(Duration::from_millis(600));
    w.pause_final(id).unwrap();
    w.wait_for_finals().unwrap();
    assert_eq!(w.finals().unwrap()[0].state, FinalState::Paused);
    // Given up, it is what was delivered before.
    w.cancel_final(id).unwrap();
    let kept = finished(&w, id);
    assert!(kept.state == FinalState::Delivered && kept.files.len() == before.files.len() && kept.report.is_some());
    // By time it ends by itself; samples of the first try are there and are used.
    w.top_up(id, &TopUp { region: spot, threshold: None, seconds: Some(1.0) }).unwrap();
    let after = finished(&w, id);
    let names = |f: &FinalView| f.files.iter().map(|x| x.name.clone()).collect::<Vec<_>>();
    let second = |name: &String| name.replacen('.', "_v2.", 1);
    let expected: Vec<String> = names(&before).iter().map(second).chain(names(&before)).collect();
    assert_eq!(names(&after), expected);
    for file in &before.files {
        let there = std::fs::metadata(w.final_file(id, &file.name).unwrap()).unwrap().len();
        assert_eq!(there, file.bytes, "what was handed over stays: {}", file.name);
    }
    // The budget counts both deliveries.
    let (one, two) = (before.report.as_ref().unwrap(), after.report.as_ref().unwrap());
    assert_eq!((one.spent, one.earlier.len()), (one.total, 0));
    assert_eq!((two.spent, two.earlier.len()), (one.total + two.total, 1));
    assert_eq!((&two.earlier[0].files, &two.earlier[0].verdict), (&names(&before), &one.verdict));
    let now = values(&exr(&w, &after), "samples.Y");
    for (i, (a, b)) in was.iter().zip(&now).enumerate() {
        let (x, y) = (i as u32 % 96, i as u32 / 96);
        let inside = (40..56).contains(&x) && (24..32).contains(&y);
        assert!(if inside { b > a } else { a == b }, "pixel {x}, {y}: {a}, then {b}");
    }
    let took = after.report.as_ref().unwrap().sampling;
    assert!((0.9..3.0).contains(&took), "{took}");
    // Its plan gives the same picture again, under a name of its own.
    let repeat = w.render_again(id).unwrap();
    let same = finished(&w, repeat.id);
    assert!(same.state == FinalState::Delivered && same.planned, "{:?}", same.fault);
    assert!(exr(&w, &same) == exr(&w, &after));
    assert!(same.files[0].name.contains("-2."), "{:?}", same.files);
}

#[test]
fn the_queue_can_be_reordered_paused_and_resumed() {
    let (_data, w, shot) = workshop();
    // Long ones: the first is at work while the others wait.
    tune(&w, shot, serde_json::json!({ "sampling.most": 65536, "sampling.threshold": 0.0005 }));
    let ids: Vec<i64> = (0..3).map(|_| w.add_final(shot).unwrap().id).collect();
    let state = |id: i64| w.finals().unwrap().into_iter().find(|f| f.id == id).unwrap().state;
    let wait = |what: &str, f: &dyn Fn() -> bool| {
        let begun = Instant::now();
        while !f() {
            assert!(begun.elapsed() < Duration::from_secs(600), "{what} does not come");
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    wait("the first", &|| state(ids[0]) == FinalState::Running);
    w.move_final(ids[2], Turn::First).unwrap();
    wait("the last, put first", &|| state(ids[2]) == FinalState::Running && state(ids[0]) == FinalState::Waiting);
    let order: Vec<i64> = w.finals().unwrap().iter().map(|f| f.id).collect();
    assert_eq!(order, [ids[2], ids[0], ids[1]]);
    w.pause_final(ids[2]).unwrap();
    wait("the pause", &|| state(ids[2]) == FinalState::Paused && state(ids[0]) == FinalState::Running);
    w.resume_final(ids[2]).unwrap();
    assert!(w.resume_final(ids[0]).is_err(), "only what is paused can be resumed");
    for id in ids {
        w.cancel_final(id).unwrap();
    }
    wait("the end", &|| w.finals().unwrap().iter().all(|f| f.state == FinalState::Cancelled));
}

#[test]
fn a_final_that_cannot_be_written_is_marked_failed_and_the_next_goes_on() {
    let (data, w, shot) = workshop();
    // A file where the folder of the first should be.
    std::fs::write(data.path().join("finals/1"), b"in the way").unwrap();
    let first = w.add_final(shot).unwrap().id;
    let second = w.add_final(shot).unwrap().id;
    let failed = finished(&w, first);
    assert_eq!(failed.state, FinalState::Failed);
    assert!(failed.fault.unwrap().place.contains("finals"));
    assert_eq!(finished(&w, second).state, FinalState::Delivered);
    std::fs::remove_file(data.path().join("finals/1")).unwrap();
    w.resume_final(first).unwrap();
    assert_eq!(finished(&w, first).state, FinalState::Delivered, "with the cause gone it is tried again");
}

#[test]
fn a_series_moves_between_stations_and_refuses_what_cannot_be_numbered() {
    let (_data, w, shot) = workshop();
    let cameras = w.shot(shot).unwrap().cameras;
    let of = |series: Series| NewFinal { cameras: cameras.clone(), series: Some(series), ..NewFinal::default() };
    let even = Series { frames: 9, first: 0, last: 8, step: 4, padding: 3 };
    let ordered = w.add_finals(shot, &of(even)).unwrap();
    assert_eq!(ordered.finals.iter().map(|f| f.number).collect::<Vec<_>>(), [Some(0), Some(4), Some(8)]);
    w.wait_for_finals().unwrap();
    let done = w.finals().unwrap();
    assert!(done.iter().all(|f| f.state == FinalState::Delivered && f.can_top_up));
    assert!(done[1].files.iter().all(|f| f.name.starts_with("cabinet_004.")), "{:?}", done[1].files);
    let again = w.add_finals(shot, &of(even)).unwrap();
    assert_eq!((again.finals.len(), again.skipped), (0, vec![0, 4, 8]));
    // Another look under the same names: those are taken, and the check says so before.
    tune(&w, shot, serde_json::json!({ "view.exposure": 1.0 }));
    let names = |new: &NewFinal| w.check_final(shot, new).unwrap().into_iter().find(|c| c.what == "names").unwrap();
    let told = names(&of(even));
    assert!(!told.fine && told.state.starts_with("cabinet_000-2 … cabinet_008-2"), "{}", told.state);
    let nameless = NewFinal { naming: Some("{shot}".into()), ..of(even) };
    assert!(names(&nameless).state.contains("{frame}"));
    assert!(w.add_finals(shot, &nameless).unwrap_err().remedy.contains("{frame}"));
    let other = NewFinal { naming: Some("v{revision}_{frame:2}".into()), ..of(even) };
    let ordered = w.add_finals(shot, &other).unwrap();
    w.wait_for_finals().unwrap();
    let third = finished(&w, ordered.finals[2].id);
    assert!(third.files[0].name.ends_with("_08.png"), "{:?}", third.files);
    assert_eq!(w.settings_view().naming_series, "v{revision}_{frame:2}");
    // An empty pattern is no pattern: the last one holds.
    w.add_finals(shot, &NewFinal { naming: Some(" ".into()), ..NewFinal::default() }).unwrap();
    assert_eq!(w.settings_view().naming, "{shot}_{camera}_{final}");
    for wrong in [Series { last: 9, ..even }, Series { step: 0, ..even }, Series { first: 9, ..even }] {
        assert!(w.add_finals(shot, &of(wrong)).unwrap_err().place.contains("series"));
    }
}

#[test]
fn a_shot_goes_elsewhere_in_one_file_with_its_proofs() {
    let (_data, w, shot) = workshop();
    // A table that turns the picture round: the view of the shot, and with it.
    let table = w.add_table("turned.cube", b"LUT_1D_SIZE 2\n1 1 1\n0 0 0\n").unwrap();
    assert!(w.add_table("broken.cube", b"LUT_1D_SIZE 2\n1 1 1\n").unwrap_err().place.contains("broken.cube"));
    let plain = test(&w, shot);
    let bright = |w: &Workshop, id: i64| {
        let shown = w.show(id, Layer::Picture, &w.look_of(id).unwrap()).unwrap().rgba;
        shown.chunks(4).map(|c| c[1] as u64).sum::<u64>() / (shown.len() / 4) as u64
    };
    tune(&w, shot, serde_json::json!({ "view.table": table.id, "view.transform": "table" }));
    let turned = test(&w, shot);
    let both = bright(&w, plain) + bright(&w, turned);
    assert!((253..=256).contains(&both), "{both}");
    w.delete(&[plain, turned].map(|id| BinItem::new(BinKind::Proof, id))).unwrap();
    let proof = test(&w, shot);
    w.change_proof(proof, &ProofChange { name: Some("kept one".into()), kept: Some(true), ..Default::default() })
        .unwrap();
    let csv = w.proofs_csv(shot).unwrap();
    assert!(csv.lines().count() == 2 && csv.contains("kept one"));
    assert!(w.contact_sheet(shot).unwrap().starts_with(b"\x89PNG"));
    let mut bytes = Cursor::new(Vec::new());
    w.export_shot(shot, &mut bytes).unwrap();
    let there = tempfile::tempdir().unwrap();
    let file = there.path().join("shot.zip");
    std::fs::write(&file, bytes.get_ref()).unwrap();
    let other = Workshop::open(&there.path().join("data")).unwrap();
    let taken = other.import_shot(&file).unwrap();
    let (a, b) = (w.shot(shot).unwrap(), other.shot(taken).unwrap());
    assert_eq!(other.tables().iter().map(|t| t.id).collect::<Vec<_>>(), [table.id]);
    assert_eq!((a.name, a.camera, a.budget, a.tuning), (b.name, b.camera, b.budget, b.tuning));
    let come = other.proofs(taken).unwrap();
    assert_eq!((come.len(), come[0].name.as_str(), come[0].kept), (1, "kept one", true));
    // Its samples came along: the forecast knows them, and a final there uses them.
    assert!(other.forecast(taken).unwrap().is_some());
    let id = other.add_final(taken).unwrap().id;
    assert!(finished(&other, id).report.unwrap().reused > 0);
    // Half of an archive is refused whole, and nothing is left.
    std::fs::write(&file, &bytes.get_ref()[..bytes.get_ref().len() / 2]).unwrap();
    let fault = other.import_shot(&file).unwrap_err();
    assert!(fault.what.contains("archive"), "{fault}");
    assert_eq!(other.shots().unwrap().len(), 1);
    std::fs::write(
        there.path().join("shot.json"),
        r#"{"form":1,"name":"x","scene":"../../etc/passwd","camera":"a","budget":10,"tuning":{}}"#,
    )
    .unwrap();
    assert!(other.import_shot(&there.path().join("shot.json")).unwrap_err().what.contains("leads out"));
}

#[test]
fn a_held_budget_ends_by_the_clock_and_says_what_it_cannot_do() {
    let (_data, w, shot) = workshop();
    let held = || NewFinal { policy: Policy::Time, ..NewFinal::default() };
    let budget = |seconds: f64| {
        w.change_shot(shot, &ShotChange { budget: Some(seconds), ..Default::default() }).unwrap();
    };
    // A frame so large that not every pixel gets its two samples: it is delivered all the same, whole, and says what is missing.
    // How large that is, and which budget has room for its files, depends on the machine.
    let (mut width, mut seconds) = (1600, 4.0);
    let f = loop {
        tune(
            &w,
            shot,
            serde_json::json!({ "frame.width": width, "frame.height": 1000, "delivery.linear": "tiff_float" }),
        );
        budget(seconds);
        let id = w.add_finals(shot, &held()).unwrap().finals[0].id;
        let f = finished(&w, id);
        match &f.report {
            Some(r) if r.gaps > 0.0 => break f,
            Some(_) => width *= 2,
            None => seconds *= 2.0,
        }
        assert!(width < 20_000 && seconds < 200.0, "{:?}", f.fault);
    };
    let r = f.report.as_ref().unwrap();
    let verdict = r.verdict.as_ref().unwrap();
    assert!(r.gaps < 1.0 && verdict.cleanness != Cleanness::Clean && verdict.above >= 0.5 * r.gaps, "{}", r.gaps);
    assert!(f.files.iter().all(|f| f.bytes > 0));
    let parts = r.start + r.sampling + r.saving + r.denoise + r.writing;
    assert!((parts - r.total).abs() < 1e-6, "{parts} of {}", r.total);
    // What has no room at all is said before, and ends soon.
    tune(&w, shot, serde_json::json!({ "cleanup.denoise": "careful", "delivery.mattes": true }));
    budget(2.0);
    let said = w.check_final(shot, &held()).unwrap().into_iter().find(|c| c.what == "budget").unwrap();
    assert!(!said.fine && said.state.contains("clean-up, mattes and files"), "{}", said.state);
    let id = w.add_finals(shot, &held()).unwrap().finals[0].id;
    let f = finished(&w, id);
    assert!(f.state == FinalState::Failed && f.fault.as_ref().unwrap().remedy.contains("mattes"), "{:?}", f.fault);
    // A small frame has time for all of it.
    budget(60.0);
    tune(&w, shot, serde_json::json!({ "frame.width": 96, "frame.height": 60 }));
    assert!(w.check_final(shot, &held()).unwrap().iter().all(|c| c.what != "budget"));
}
