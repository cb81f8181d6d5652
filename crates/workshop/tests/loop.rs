//! The daily loop: drafts over tests, going on, references, what survives, and what is pushed out.

mod common;

use common::*;
use picture::Region;
use picture::files::{PngDepth, PngForm};
use serde_json::json;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tuning::{Group, PartialKind};
use workshop::*;

fn shown(w: &Workshop, proof: i64) -> Vec<u8> {
    w.show(proof, Layer::Picture, &w.look_of(proof).unwrap()).unwrap().rgba
}

fn overlay(w: &Workshop, name: &str, values: serde_json::Value) -> i64 {
    let values = serde_json::from_value(values).unwrap();
    let new =
        NewPartial { kind: PartialKind::Overlay, name: name.into(), note: None, values, shot: None, knobs: vec![] };
    w.add_partial(&new).unwrap().id
}

#[test]
fn drafts_lie_over_tests_and_never_over_finals_or_the_shot() {
    let (_data, w, shot) = workshop();
    let few = overlay(&w, "Few", json!({ "sampling.most": 4, "depth.total": 2 }));
    let more = overlay(&w, "More", json!({ "sampling.most": 6 }));
    w.set_overlays(shot, &[few, more]).unwrap();
    let force = w.shot(shot).unwrap().in_force;
    let of = |id: &str| force.iter().find(|f| f.id == id).map(|f| (f.value.to_string(), f.whose.clone()));
    assert_eq!(of("sampling.most"), Some(("6".into(), "More".into())));
    assert_eq!(of("depth.total"), Some(("2".into(), "Few".into())));
    let id = test(&w, shot);
    let p = w.proof(id).unwrap();
    assert_eq!((&p.tuning["sampling.most"], &p.tuning["depth.total"]), (&json!(6), &json!(2)));
    assert_eq!(p.overlays, ["Few", "More"]);
    // The shot itself is untouched, and taking the proof's tuning back takes the shot's own.
    assert_eq!(w.shot(shot).unwrap().tuning["sampling.most"], 8);
    tune(&w, shot, json!({ "sampling.most": 32, "view.exposure": 1.0 }));
    w.take_tuning(id, &TakeBack { groups: Some(vec![Group::Sampling]) }).unwrap();
    let now = w.shot(shot).unwrap().tuning;
    assert_eq!((&now["sampling.most"], &now["view.exposure"]), (&json!(8), &json!(1.0)));
    // A final ignores them.
    w.add_final(shot).unwrap();
    w.wait_for_finals().unwrap();
    let report = w.finals().unwrap()[0].report.clone().unwrap();
    assert!(report.render.samples_per_pixel > 6.0, "{}", report.render.samples_per_pixel);
    // A deleted overlay lies over nothing any more.
    w.delete(&[BinItem::new(BinKind::Partial, more)]).unwrap();
    assert_eq!(w.shot(shot).unwrap().overlays, [few]);
}

#[test]
fn presets_say_what_they_change_and_files_say_what_is_not_taken() {
    let (_data, w, shot) = workshop();
    test(&w, shot);
    let preset = w.partials().unwrap().into_iter().find(|p| p.name == "3 Review").unwrap();
    let preview = w.preview(shot, preset.id).unwrap();
    assert!(preview.changes.iter().any(|c| c.id == "sampling.most") && preview.forecast.is_some());
    w.apply_preset(shot, preset.id).unwrap();
    let s = w.shot(shot).unwrap();
    assert_eq!(
        (s.preset, &s.tuning["sampling.most"], &s.tuning["frame.width"]),
        (Some(preset.id), &json!(256), &json!(96))
    );
    assert!(w.preview(shot, preset.id).unwrap().changes.is_empty());
    let rungs = w.ladder(shot).unwrap();
    let seconds: Vec<f64> = rungs.iter().map(|r| r.forecast.unwrap().seconds).collect();
    assert_eq!(seconds.len(), 5);
    assert!(seconds.windows(2).all(|p| p[0] < p[1]), "each step costs more: {seconds:?}");

    let file = json!({ "format": "mellow-grain-preset", "version": 3, "name": "From later",
        "values": { "depth.total": 7, "sampling.dither": true } })
    .to_string();
    let asked = w.import_partial(PartialKind::Preset, &file, "later.json", false).unwrap();
    assert_eq!((asked.understood, asked.untaken.len(), asked.kept.is_none()), (1, 2, true));
    let before = w.partials().unwrap().len();
    let taken = w.import_partial(PartialKind::Preset, &file, "later.json", true).unwrap();
    assert_eq!(taken.kept.unwrap().values.len(), 1);
    assert_eq!(w.partials().unwrap().len(), before + 1);
    assert!(w.import_partial(PartialKind::Overlay, "{", "broken.json", true).is_err());
}

#[test]
fn a_proof_goes_on_to_the_picture_that_more_samples_would_have_given() {
    let (data, w, shot) = workshop();
    tune(&w, shot, json!({ "sampling.adaptive": false, "sampling.most": 8 }));
    let id = test(&w, shot);
    let first = w.proof(id).unwrap();
    w.go_on(id, Some(24), None).unwrap();
    w.wait_for_test();
    let further = w.proof(id).unwrap();
    let (a, b) = (first.report.unwrap(), further.report.unwrap());
    assert_eq!((a.samples_per_pixel, b.samples_per_pixel, further.number), (8.0, 24.0, first.number));
    assert!(b.grain < a.grain && b.seconds > a.seconds && b.history.len() > a.history.len());
    tune(&w, shot, json!({ "sampling.most": 24 }));
    let straight = test(&w, shot);
    assert!(shown(&w, id) == shown(&w, straight), "bit for bit what one render gives");
    // After a restart it can be taken further still: twice the samples where nothing is said.
    assert!(w.close(std::time::Duration::from_secs(300)).unwrap());
    let w = Workshop::open(data.path()).unwrap();
    w.go_on(id, None, None).unwrap();
    w.wait_for_test();
    assert_eq!(w.proof(id).unwrap().report.unwrap().samples_per_pixel, 48.0);
    // An adaptive test whose blocks have settled gets a finer threshold.
    tune(&w, shot, json!({ "sampling.adaptive": true, "sampling.most": 256, "sampling.threshold": 0.2 }));
    let id = test(&w, shot);
    let before = w.proof(id).unwrap().report.unwrap();
    w.go_on(id, None, None).unwrap();
    w.wait_for_test();
    let after = w.proof(id).unwrap().report.unwrap();
    assert!(after.samples as f64 > 1.2 * before.samples as f64 && after.grain < before.grain, "{after:?}");
}

#[test]
fn a_reference_tells_grain_from_look() {
    let (_data, w, shot) = workshop();
    tune(&w, shot, json!({ "sampling.threshold": 0.5, "sampling.most": 64, "frame.width": 64, "frame.height": 48 }));
    let plain = test(&w, shot);
    let region = Region { x: 8, y: 8, width: 40, height: 32 };
    assert!(w.reference_forecast(shot, Some(region)).unwrap().unwrap().seconds > 0.0);
    let reference = w.make_reference(shot, Some(region)).unwrap();
    w.wait_for_test();
    let r = w.proof(reference).unwrap();
    assert_eq!((r.kind, r.kept), (ProofKind::Reference, true));
    assert_ne!(r.tuning["sampling.seed"], w.shot(shot).unwrap().tuning["sampling.seed"]);
    // Light that may not bounce is missed, which is a change of the look; noise is not.
    tune(&w, shot, json!({ "depth.total": 1 }));
    let darker = test(&w, shot);
    let c = w.compare(&[plain, darker], Some(reference), &Looks::new()).unwrap();
    let of = |i: usize| c.columns[i].against.clone().unwrap();
    assert!(of(0).look < 0.6 * of(0).grain, "{:?}", of(0));
    assert!(of(1).brighter < -2.0 * of(1).brighter_error && of(1).words.contains("darker"), "{:?}", of(1));
    let m = c.columns[0].metrics.unwrap();
    assert!(m.rmse > 0.0 && m.psnr.is_some() && m.ssim.is_some() && (0.0..1.0).contains(&m.flip), "{m:?}");
    assert_eq!(c.columns[0].shared, Some(region));
    let map = w.look_change(darker, reference, 8.0, &Looks::new()).unwrap();
    assert_eq!((map.region, map.rgba.len()), (region, 40 * 32 * 4));
    // A proof of another size is compared on its own frame, and this is said.
    tune(&w, shot, json!({ "frame.width": 32, "frame.height": 24 }));
    let small = test(&w, shot);
    let c = w.compare(&[small], Some(reference), &Looks::new()).unwrap();
    assert!(
        c.columns[0].metrics.is_some() && c.columns[0].notes[0].contains("brought to 32 × 24"),
        "{:?}",
        c.columns[0]
    );
}

/// Common practice, no source: 5 samples a side are 25 a pixel, and at 1920 × 1080 that makes 51.8 million.
#[test]
fn samples_of_a_frame_are_told_before_it_is_rendered() {
    let (_data, w, shot) = workshop();
    tune(&w, shot, json!({ "frame.width": 1920, "frame.height": 1080, "sampling.most": 25 }));
    assert_eq!(w.shot(shot).unwrap().most_samples, 51_840_000);
}

#[test]
fn an_oversize_frame_is_delivered_at_its_own_size_and_has_less_grain() {
    let (_data, w, shot) = workshop();
    tune(&w, shot, json!({ "sampling.adaptive": false }));
    let plain = w.proof(test(&w, shot)).unwrap();
    tune(&w, shot, json!({ "frame.oversize": 2.0 }));
    assert_eq!(w.shot(shot).unwrap().most_samples, 192 * 128 * 8);
    let id = test(&w, shot);
    let large = w.proof(id).unwrap();
    assert_eq!((large.frame, w.show(id, Layer::Picture, &w.look_of(id).unwrap()).unwrap().size), ((96, 64), (96, 64)));
    let (a, b) = (plain.report.unwrap().grain, large.report.unwrap().grain);
    assert!(b < 0.8 * a, "four times the samples a delivered pixel: {b} against {a}");
}

#[test]
fn a_picture_from_elsewhere_lies_in_the_sheet_and_says_what_is_unknown() {
    let (data, w, shot) = workshop();
    let id = test(&w, shot);
    let s = w.show(id, Layer::Picture, &w.look_of(id).unwrap()).unwrap();
    let file = data.path().join("other.png");
    let pixels: Vec<picture::Rgb> =
        s.rgba.chunks(4).map(|c| [0, 1, 2].map(|k| picture::srgb_decode(c[k] as f32 / 255.0))).collect();
    picture::files::write_whole(&file, |out| {
        picture::files::png(
            out,
            &pixels,
            (96, 64),
            &picture::View::PLAIN,
            PngForm { depth: PngDepth::Sixteen, ..PngForm::PLAIN },
        )
    })
    .unwrap();
    let p = w.add_picture(shot, "other.png", &file).unwrap();
    assert_eq!((p.kind, p.frame, p.report.is_none()), (ProofKind::Picture, (96, 64), true));
    assert!(p.marks[0].contains("unknown"), "{:?}", p.marks);
    assert!(shown(&w, p.id) == s.rgba);
    let c = w.compare(&[id, p.id], None, &Looks::new()).unwrap();
    assert!(c.columns[1].metrics.unwrap().psnr.unwrap() > 45.0 && c.columns[1].against.is_none() && c.rows.is_empty());
    assert!(w.go_on(p.id, None, None).is_err() && w.take_tuning(p.id, &TakeBack::default()).is_err());
    std::fs::write(&file, b"not a picture").unwrap();
    let before = w.proofs(shot).unwrap().len();
    assert!(w.add_picture(shot, "other.tif", &file).is_err());
    assert_eq!(w.proofs(shot).unwrap().len(), before, "nothing is left behind");
}

#[test]
fn proofs_are_pushed_out_by_count_and_by_room_and_deleted_ones_come_back() {
    let (_data, w, shot) = workshop();
    w.change_settings(&SettingsChange { spare: Some(2), ..Default::default() }).unwrap();
    let ids: Vec<i64> = (0..4).map(|_| test(&w, shot)).collect();
    let left = |w: &Workshop| w.proofs(shot).unwrap().iter().map(|p| p.id).collect::<Vec<_>>();
    assert_eq!(left(&w), [ids[3], ids[2]]);
    w.change_proof(ids[2], &ProofChange { star: Some(true), ..Default::default() }).unwrap();
    assert!(w.proof(ids[2]).unwrap().kept, "a star keeps");
    let both = [ids[2], ids[3]].map(|id| BinItem::new(BinKind::Proof, id));
    w.delete(&both).unwrap();
    assert!(left(&w).is_empty());
    w.restore(&both).unwrap();
    assert_eq!(left(&w), [ids[3], ids[2]]);
    // Room for about one film: the oldest that nobody kept goes first, kept ones and the newest stay.
    w.change_settings(&SettingsChange { spare: Some(50), room_gb: Some(0.01), ..Default::default() }).unwrap();
    tune(&w, shot, json!({ "frame.width": 320, "frame.height": 200, "sampling.most": 2, "sampling.least": 2 }));
    let large: Vec<i64> = (0..3).map(|_| test(&w, shot)).collect();
    assert_eq!(left(&w), [large[2], ids[2]]);
    assert!(w.change_settings(&SettingsChange { threads: Some(999), ..Default::default() }).is_err());
}

#[test]
fn a_test_survives_the_end_of_the_program_and_a_full_disk() {
    let (data, w, shot) = workshop();
    w.set_patience(Patience { checkpoint: Duration::from_millis(50), ..Default::default() });
    tune(&w, shot, json!({ "sampling.most": 65536, "sampling.threshold": 0.0005 }));
    let id = w.start_test(shot, &NewTest::default()).unwrap();
    let begun = Instant::now();
    while w.proof(id).unwrap().report.is_none() {
        assert!(begun.elapsed() < Duration::from_secs(600), "no checkpoint");
        std::thread::sleep(Duration::from_millis(10));
    }
    // The data folder as a crash would leave it, opened by another program.
    let copy = tempfile::tempdir().unwrap();
    copy_folder(data.path(), copy.path());
    w.stop_test();
    let after = Workshop::open(copy.path()).unwrap();
    let p = after.proof(id).unwrap();
    assert!(p.state == ProofState::Stopped && p.report.is_some(), "{p:?}");
    after.go_on(id, Some(65536), None).unwrap();
    after.stop_test();
    drop(after);

    // A file in the place of the proofs' folder stands for a disk that takes no more.
    tune(&w, shot, json!({ "sampling.most": 8, "sampling.threshold": 0.01 }));
    let proofs = data.path().join("proofs");
    std::fs::rename(&proofs, data.path().join("aside")).unwrap();
    std::fs::write(&proofs, b"").unwrap();
    let id = test(&w, shot);
    assert_eq!(w.proof(id).unwrap().state, ProofState::Unsaved);
    let picture = shown(&w, id);
    // Only one can wait: an older one that nobody saved goes.
    let next = test(&w, shot);
    assert!(w.proof(id).is_err() && w.proof(next).unwrap().state == ProofState::Unsaved);
    let id = next;
    assert!(shown(&w, id) == picture, "its picture is still there");
    let keep = ProofChange { kept: Some(true), ..Default::default() };
    assert!(w.change_proof(id, &keep).is_err());
    std::fs::remove_file(&proofs).unwrap();
    std::fs::rename(data.path().join("aside"), &proofs).unwrap();
    let p = w.change_proof(id, &keep).unwrap();
    assert!(p.kept && p.state == ProofState::Done && p.bytes > 0, "{p:?}");
}

#[test]
fn a_phase_without_news_says_what_it_is_at() {
    let (_data, w, shot) = workshop();
    // A step of so many pixels takes longer than this.
    w.set_patience(Patience { stall: Duration::from_millis(20), ..Default::default() });
    tune(&w, shot, json!({ "frame.width": 640, "frame.height": 400, "sampling.most": 4096 }));
    let told = std::sync::Arc::new(std::sync::Mutex::new(None));
    let heard = told.clone();
    w.listen(move |e| {
        if let Event::Test { stalled: Some(cause), progress, .. } = e {
            heard.lock().unwrap().get_or_insert((progress.phase, cause.clone()));
        }
    });
    w.start_test(shot, &NewTest::default()).unwrap();
    let begun = Instant::now();
    while told.lock().unwrap().is_none() {
        assert!(begun.elapsed() < Duration::from_secs(600), "nothing was told");
        std::thread::sleep(Duration::from_millis(10));
    }
    w.stop_test();
    let (phase, cause) = told.lock().unwrap().clone().unwrap();
    let expected = match phase {
        tracer::Phase::Loading => "reading ",
        tracer::Phase::Structure => "triangles",
        tracer::Phase::Lights => "map is 1024 px wide",
        _ => "640 × 400 pixels",
    };
    assert!(cause.contains(expected), "{phase:?}: {cause}");
}

fn copy_folder(from: &std::path::Path, to: &std::path::Path) {
    for e in std::fs::read_dir(from).unwrap().flatten() {
        let target = to.join(e.file_name());
        if e.file_type().unwrap().is_dir() {
            std::fs::create_dir_all(&target).unwrap();
            copy_folder(&e.path(), &target);
        } else {
            // Working files may go while they are copied.
            let _ = std::fs::copy(e.path(), target);
        }
    }
}

#[test]
fn camera_budget_and_tuning_are_restored_with_a_revision() {
    let (_data, w, shot) = workshop();
    let first = w.shot(shot).unwrap();
    let other = first.cameras.iter().find(|c| **c != first.camera).expect("a second camera").clone();
    let change = ShotChange { camera: Some(other.clone()), budget: Some(300.0), ..Default::default() };
    let changed = w.change_shot(shot, &change).unwrap();
    assert_eq!(changed.revision, first.revision + 1);
    let list = w.revisions(shot).unwrap();
    assert!(list[0].change.contains("camera") && list[0].change.contains("budget"), "{}", list[0].change);
    assert_eq!(list[1].knobs, ["frame.width", "frame.height", "sampling.least", "sampling.most"]);
    w.name_revision(shot, first.revision, "as agreed").unwrap();
    let back = w.go_to_revision(shot, first.revision).unwrap();
    assert_eq!((back.camera, back.budget), (first.camera, 60.0));
    assert!(w.revisions(shot).unwrap().iter().any(|r| r.name == "as agreed" && r.current));
    let copy = w.duplicate_shot(shot).unwrap();
    assert_eq!(w.shot(copy).unwrap().tuning, w.shot(shot).unwrap().tuning);
    assert!(w.glance(shot, &other).unwrap().starts_with(b"\x89PNG"));
    w.change_shot(copy, &ShotChange { archived: Some(true), ..Default::default() }).unwrap();
    assert!(w.shot(copy).unwrap().archived);
}

#[test]
fn a_parcel_brings_a_scene_with_its_files_or_leaves_nothing() {
    let (data, w, _) = workshop();
    let put = |id: u64, name: &str, bytes: &[u8]| std::fs::write(w.parcel_file(id, name).unwrap(), bytes).unwrap();
    let obj = b"mtllib a.mtl\nusemtl red\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n";
    let id = w.open_parcel().unwrap();
    put(id, "model/a.obj", obj);
    put(id, "model/a.mtl", b"newmtl red\nKd 1 0 0\n");
    put(id, "sky.hdr", &demo::tarnfell_dusk());
    let got = w.take_parcel(id).unwrap();
    let scene = got.scene.unwrap();
    assert_eq!((scene.name.as_str(), scene.report.triangles, got.environments.len()), ("a", 1, 1));
    let shot = w
        .add_shot(&NewShot { name: "A".into(), scene: scene.hash, environment: None, camera: None, budget: 9.0 })
        .unwrap();
    tune(&w, shot, json!({ "frame.width": 16, "frame.height": 16, "sampling.most": 4, "sampling.least": 2 }));
    test(&w, shot);

    let scenes = w.scenes().unwrap().len();
    for (name, bytes) in [("cut.glb", &demo::lens_cabinet()[..9000]), ("notes.txt", b"hello".as_slice())] {
        let id = w.open_parcel().unwrap();
        put(id, name, bytes);
        let fault = w.take_parcel(id).unwrap_err();
        assert!(fault.place.contains(name) && !fault.place.contains("incoming"), "{fault:?}");
    }
    let id = w.open_parcel().unwrap();
    assert!(w.parcel_file(id, "../../escape.glb").is_err() && w.parcel_file(id, "/etc/x").is_err());
    w.drop_parcel(id);
    assert_eq!(w.scenes().unwrap().len(), scenes);
    assert_eq!(std::fs::read_dir(data.path().join("incoming")).unwrap().count(), 0, "nothing is left behind");
}

/// A pilot's squares never stand for a shot that has a picture, and what was delivered last does.
#[test]
fn a_pilot_does_not_replace_the_picture() {
    let (_data, w, shot) = workshop();
    let shown = || w.shot(shot).unwrap().thumbnail;
    let pilot = || {
        let id = w.start_pilot(shot).unwrap();
        w.wait_for_test();
        id
    };
    assert_eq!(shown(), None);
    let squares = pilot();
    assert_eq!(shown(), Some(Showing::Proof(squares)), "there is nothing else");
    let picture = test(&w, shot);
    assert_eq!(shown(), Some(Showing::Proof(picture)));
    pilot();
    assert_eq!(shown(), Some(Showing::Proof(picture)));
    let id = w.add_final(shot).unwrap().id;
    w.wait_for_finals().unwrap();
    pilot();
    assert_eq!(shown(), Some(Showing::Final(id)));
    // Times are kept in whole seconds.
    std::thread::sleep(Duration::from_millis(1100));
    let newer = test(&w, shot);
    assert_eq!(shown(), Some(Showing::Proof(newer)));
}

/// A test that begins while another one renders says which one it stops, so that both pages can tell.
#[test]
fn a_test_that_stops_another_says_so() {
    let (_data, w, shot) = workshop();
    let other = w.duplicate_shot(shot).unwrap();
    tune(&w, shot, json!({ "sampling.adaptive": false, "sampling.most": 65536 }));
    let heard = Arc::new(Mutex::new(Vec::new()));
    let ear = heard.clone();
    w.listen(move |e| {
        if let Event::PushedOut { proof, shot_name, by, by_shot_name } = e {
            ear.lock().unwrap().push((*proof, shot_name.clone(), *by, by_shot_name.clone()));
        }
    });
    let long = w.start_test(shot, &NewTest::default()).unwrap();
    let short = test(&w, other);
    let [a, b] = [shot, other].map(|s| w.shot(s).unwrap().name);
    assert_eq!(*heard.lock().unwrap(), [(long, a, short, b)]);
    test(&w, other);
    assert_eq!(heard.lock().unwrap().len(), 1, "one that has ended by itself was not stopped");
}
