//! What was acknowledged stays: changes made at once, the same scene under another name, archives from strangers.

mod common;

use common::*;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::io::{Cursor, Read, Write};
use std::time::Duration;
use store::Store;
use workshop::*;
use zip::write::SimpleFileOptions;
use zip::{ZipArchive, ZipWriter};

fn close(w: Workshop) {
    assert!(w.close(Duration::from_secs(300)).unwrap());
}

/// Knobs turned by many hands at once, some of them while a scene is being loaded for a light: all of them stand.
#[test]
fn what_many_hands_change_at_once_stands() {
    let (data, w, shot) = workshop();
    close(w);
    let w = Workshop::open(data.path()).unwrap();
    let before = w.shot(shot).unwrap().revision;
    let named = Values::from([("split.diffuse".to_string(), json!(3))]);
    let new = json!({ "kind": "preset", "name": "Three", "values": named, "knobs": [] });
    let preset = w.add_partial(&serde_json::from_value(new).unwrap()).unwrap().id;
    let knobs = ["sampling.most", "sampling.least", "depth.total", "split.direct", "sampling.seed", "depth.diffuse"];
    std::thread::scope(|s| {
        for (k, knob) in knobs.iter().enumerate() {
            let w = w.clone();
            s.spawn(move || {
                for n in 0..5 {
                    tune(&w, shot, json!({ (*knob): 20 + k - if *knob == "sampling.least" { 15 } else { 0 } - n }));
                }
            });
        }
        let (a, b, c) = (w.clone(), w.clone(), w.clone());
        // A preset names one knob and leaves the others as they are, also those that are turned meanwhile.
        s.spawn(move || {
            for n in 0..10 {
                c.apply_preset(shot, preset).unwrap();
                tune(&c, shot, json!({ "split.diffuse": 5 + n }));
            }
            c.apply_preset(shot, preset).unwrap();
        });
        s.spawn(move || {
            let off = BTreeMap::from([("environment".to_string(), LightChange { on: Some(false), split: None })]);
            a.change_shot(shot, &ShotChange { lights: off, ..Default::default() }).unwrap();
        });
        s.spawn(move || b.change_shot(shot, &ShotChange { budget: Some(99.0), ..Default::default() }).unwrap());
    });
    let v = w.shot(shot).unwrap();
    let got: Vec<i64> = knobs.iter().map(|k| v.tuning[*k].as_i64().unwrap()).collect();
    assert_eq!(got, [16, 2, 18, 19, 20, 21]);
    assert_eq!(v.tuning["split.diffuse"], 3);
    assert_eq!((v.budget, v.lights["environment"].on), (99.0, false));
    // Each change is a revision, and the state in force is the last.
    let revisions = w.revisions(shot).unwrap();
    assert_eq!((revisions.len() as i64, revisions[0].number), (v.revision, v.revision));
    assert!(v.revision >= before + 5 * knobs.len() as i64);
    // Who insists on what was seen is told, and nothing changes.
    let stale = ShotChange { revision: Some(before), budget: Some(5.0), ..Default::default() };
    assert_eq!(w.change_shot(shot, &stale).unwrap_err().code, fault::Code::Busy);
    assert_eq!(w.shot(shot).unwrap().budget, 99.0);
}

#[test]
fn a_change_stands_where_its_live_test_cannot_begin() {
    let (_data, w, shot) = workshop();
    let outside = picture::Region { x: 5000, y: 0, width: 10, height: 10 };
    let test = NewTest { region: Some(outside), ..NewTest::default() };
    let change = ShotChange { budget: Some(77.0), test: Some(test), ..Default::default() };
    let v = w.change_shot(shot, &change).unwrap();
    assert_eq!((v.budget, v.refused.is_some()), (77.0, true));
    assert_eq!((w.shot(shot).unwrap().budget, w.proofs(shot).unwrap().len()), (77.0, 0));
}

/// The same scene under other names, after a folder without a row, and with its file lost: every shot on it opens.
#[test]
fn a_scene_that_comes_again_leaves_its_shots_whole() {
    let (data, w, shot) = workshop();
    let hash = w.shot(shot).unwrap().scene;
    let import = |w: &Workshop, name: &str| {
        let parcel = w.open_parcel().unwrap();
        std::fs::write(w.parcel_file(parcel, name).unwrap(), demo::lens_cabinet()).unwrap();
        let scene = w.take_parcel(parcel).unwrap().scene.unwrap();
        assert_eq!(scene.hash, hash);
    };
    let folder = data.path().join("scenes").join(&hash);
    let opens = |w: Workshop| {
        close(w);
        let w = Workshop::open(data.path()).unwrap();
        assert!(w.proof(test(&w, shot)).unwrap().report.is_some());
        w
    };
    import(&w, "another.glb");
    let w = opens(w);
    // Its files are lost: they come back with it, under any name.
    std::fs::remove_dir_all(&folder).unwrap();
    import(&w, "third.glb");
    let w = opens(w);
    // A folder that nothing refers to, as the end of the program in the middle of an import leaves it.
    let sky = w.import_environment("sky again.hdr", &demo::tarnfell_dusk()).unwrap();
    let kept = data.path().join("environments").join(&sky.hash);
    let before = std::fs::metadata(&kept).unwrap().modified().unwrap();
    w.import_environment("and again.hdr", &demo::tarnfell_dusk()).unwrap();
    assert_eq!(std::fs::metadata(&kept).unwrap().modified().unwrap(), before, "what is kept is never written again");
    close(w);
    let lost = tempfile::tempdir().unwrap();
    std::fs::create_dir_all(lost.path().join("scenes").join(&hash)).unwrap();
    std::fs::write(lost.path().join("scenes").join(&hash).join("half.glb"), "half").unwrap();
    let w = Workshop::open(lost.path()).unwrap();
    import(&w, "whole.glb");
    let new = NewShot { name: "A".into(), scene: hash.clone(), environment: None, camera: None, budget: 60.0 };
    let shot = w.add_shot(&new).unwrap();
    tune(&w, shot, json!({ "frame.width": 32, "frame.height": 24, "sampling.least": 2, "sampling.most": 4 }));
    assert!(w.proof(test(&w, shot)).unwrap().report.is_some());
    assert!(std::fs::read_dir(lost.path().join("incoming")).unwrap().next().is_none());
}

/// An archive as it was exported, with its `shot.json` changed and a file left out.
fn altered(archive: &[u8], left_out: &str, change: impl Fn(&mut Value)) -> Vec<u8> {
    let mut from = ZipArchive::new(Cursor::new(archive)).unwrap();
    let mut to = ZipWriter::new(Cursor::new(Vec::new()));
    for i in 0..from.len() {
        let mut entry = from.by_index(i).unwrap();
        let name = entry.name().to_string();
        let mut bytes = Vec::new();
        entry.read_to_end(&mut bytes).unwrap();
        if !left_out.is_empty() && name.contains(left_out) {
            continue;
        }
        if name == "shot.json" {
            let mut shot: Value = serde_json::from_slice(&bytes).unwrap();
            change(&mut shot);
            bytes = serde_json::to_vec(&shot).unwrap();
        }
        to.start_file(name, SimpleFileOptions::default()).unwrap();
        to.write_all(&bytes).unwrap();
    }
    to.finish().unwrap().into_inner()
}

#[test]
fn archives_come_in_whole_or_not_at_all() {
    let (data, w, shot) = workshop();
    let id = test(&w, shot);
    let kept = ProofChange { kept: Some(true), name: Some("kept".into()), ..ProofChange::default() };
    w.change_proof(id, &kept).unwrap();
    let mut out = Cursor::new(Vec::new());
    w.export_shot(shot, &mut out).unwrap();
    let archive = out.into_inner();
    close(w);
    let there = tempfile::tempdir().unwrap();
    let w = Workshop::open(there.path()).unwrap();
    let count = |folder: &str| std::fs::read_dir(there.path().join(folder)).unwrap().count();
    let import = |bytes: &[u8]| {
        let file = there.path().join("given.zip");
        std::fs::write(&file, bytes).unwrap();
        w.import_shot(&file)
    };
    type Change<'a> = &'a dyn Fn(&mut Value);
    let nothing: Change = &|_| {};
    let bad: [(&str, &str, Change); 11] = [
        ("a picture's own file", "", &|v| v["proofs"][0]["kind"] = json!("picture")),
        ("a kind that is none", "", &|v| v["proofs"][0]["kind"] = json!("dream")),
        ("a test that runs", "", &|v| v["proofs"][0]["state"] = json!("running")),
        ("no description", "", &|v| v["proofs"][0]["description"] = json!({ "x": 1 })),
        ("a frame of nothing", "", &|v| v["proofs"][0]["description"]["tuning"]["frame.width"] = json!(-3)),
        ("a folder elsewhere", "", &|v| v["proofs"][0]["folder"] = json!("../../..")),
        ("a report of another kind", "", &|v| v["proofs"][0]["report"] = json!("good")),
        ("no film", "film-", nothing),
        ("no scene", "scene/", nothing),
        ("no camera", "", &|v| v["camera"] = json!("Nowhere")),
        ("no budget", "", &|v| v["budget"] = json!(-1.0)),
    ];
    for (what, left_out, change) in bad {
        let refused = import(&altered(&archive, left_out, change)).expect_err(what);
        assert!(!refused.place.is_empty() && !refused.remedy.is_empty(), "{what}: {refused}");
        assert_eq!((w.shots().unwrap().len(), count("proofs"), count("incoming")), (0, 0, 0), "{what}");
    }
    // Half an archive, at any place, and archives with damaged bytes: refused or whole, never in between.
    for k in 1..24 {
        let end = archive.len() * k / 24;
        assert!(import(&archive[..end]).is_err(), "{k}");
        let mut damaged = archive.clone();
        damaged[end - 1] ^= 0x55;
        let shots = w.shots().unwrap().len();
        match import(&damaged) {
            Ok(new) => assert_eq!(w.proofs(new).unwrap().len(), 1),
            Err(_) => assert_eq!(w.shots().unwrap().len(), shots),
        }
    }
    let new = import(&archive).unwrap();
    let proofs = w.proofs(new).unwrap();
    assert_eq!((proofs.len(), proofs[0].name.as_str(), proofs[0].number), (1, "kept", 1));
    assert_eq!(count("incoming"), 0);
    drop(data);
}

/// A row that cannot be read is told of; the others are shown.
#[test]
fn one_bad_proof_does_not_hide_the_sheet() {
    let (data, w, shot) = workshop();
    let (good, bad) = (test(&w, shot), test(&w, shot));
    close(w);
    let store = Store::open(data.path()).unwrap();
    store.reopen_proof(bad, "no description").unwrap();
    let row = store.proof(bad).unwrap();
    store.end_proof(bad, store::ProofState::Done, row.report.as_deref(), None, row.bytes).unwrap();
    store.close().unwrap();
    let w = Workshop::open(data.path()).unwrap();
    let proofs = w.proofs(shot).unwrap();
    assert_eq!(proofs.iter().map(|p| p.id).collect::<Vec<_>>(), [bad, good]);
    assert!(proofs[0].marks[0].contains("cannot be read") && proofs[1].marks.iter().all(|m| !m.contains("cannot")));
    w.shot(shot).unwrap();
}

/// A disk that takes no more, as the kernel tells it: the queue waits with its reason instead of failing one final after the other,
/// and goes on with what it has.
#[test]
fn a_full_disk_holds_the_queue() {
    let (data, w, shot) = workshop();
    close(w);
    let patience = Patience { checkpoint: Duration::from_millis(20), ..Patience::default() };
    let w = Workshop::open_with(data.path(), patience).unwrap();
    tune(&w, shot, json!({ "sampling.adaptive": false, "sampling.most": 512 }));
    let full = data.path().join(format!("finals/1/.course.json.{}.part", std::process::id()));
    std::fs::create_dir_all(full.parent().unwrap()).unwrap();
    std::os::unix::fs::symlink("/dev/full", &full).unwrap();
    let (first, second) = (w.add_final(shot).unwrap().id, w.add_final(shot).unwrap().id);
    assert_eq!(first, 1);
    let view = |id: i64| w.finals().unwrap().into_iter().find(|f| f.id == id).unwrap();
    let began = std::time::Instant::now();
    while view(first).fault.is_none() {
        assert!(began.elapsed() < Duration::from_secs(600), "the disk was never full");
        std::thread::sleep(Duration::from_millis(5));
    }
    std::thread::sleep(Duration::from_millis(1500));
    let (a, b) = (view(first), view(second));
    assert_eq!((a.state, a.fault.unwrap().code), (FinalState::Waiting, fault::Code::DiskFull));
    assert!(b.state == FinalState::Waiting && b.fault.is_none());
    // There is room again.
    w.resume_final(first).unwrap();
    w.wait_for_finals().unwrap();
    for id in [first, second] {
        assert!(view(id).state == FinalState::Delivered && view(id).fault.is_none());
    }
}

/// A pipe that nobody reads stands for a disk that takes its time while a running test is saved: a stop is answered meanwhile, and the
/// test is put away when the disk is through.
#[test]
fn a_stop_does_not_wait_for_a_test_to_be_saved() {
    let (data, w, shot) = workshop();
    w.set_patience(Patience { checkpoint: Duration::from_millis(20), ..Patience::default() });
    tune(&w, shot, json!({ "sampling.most": 65536, "sampling.threshold": 0.0005 }));
    let folder = data.path().join("proofs/1");
    std::fs::create_dir_all(&folder).unwrap();
    let pipe = folder.join(format!(".thumb.png.{}.part", std::process::id()));
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    let id = w.start_test(shot, &NewTest::default()).unwrap();
    assert_eq!(id, 1);
    // The small picture comes last.
    let began = std::time::Instant::now();
    while std::fs::read_dir(&folder).unwrap().count() < 3 {
        assert!(began.elapsed() < Duration::from_secs(300), "it was never saved");
        std::thread::sleep(Duration::from_millis(5));
    }
    let told = |stop: fn(&Workshop) -> bool| {
        let (tell, told) = std::sync::mpsc::channel();
        let w = w.clone();
        std::thread::spawn(move || tell.send(stop(&w)));
        told
    };
    let at_once = told(Workshop::stop_test_at_once).recv_timeout(Duration::from_secs(20));
    // Who goes on with the test waits until it has been put away.
    let put_away = told(Workshop::stop_test);
    let early = put_away.recv_timeout(Duration::from_millis(300));
    std::io::copy(&mut std::fs::File::open(&pipe).unwrap(), &mut std::io::sink()).unwrap();
    assert!(at_once == Ok(true) && early.is_err() && put_away.recv() == Ok(true));
    let proof = w.proof(id).unwrap();
    assert!(proof.state == ProofState::Stopped && proof.report.is_some(), "{proof:?}");
}

/// Pause, resume, cancel and order from several hands at once, while the queue works: every final ends in one way, what is
/// delivered has its files, what is cancelled has none.
#[test]
fn many_hands_in_the_queue_leave_it_in_order() {
    let (data, w, shot) = workshop();
    tune(&w, shot, json!({ "frame.width": 48, "frame.height": 32 }));
    std::thread::scope(|s| {
        for hand in 0..4u64 {
            let w = w.clone();
            s.spawn(move || {
                let mut state = hand + 1;
                let mut dice = |n: u64| {
                    state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                    (state >> 33) % n
                };
                for _ in 0..25 {
                    let finals = w.finals().unwrap();
                    let one = finals.get(dice(finals.len().max(1) as u64) as usize).map_or(0, |f| f.id);
                    // What comes too late is refused, in words.
                    let refused = match dice(5) {
                        0 | 1 => w.add_final(shot).map(|_| ()).err(),
                        2 => w.pause_final(one).err(),
                        3 => w.resume_final(one).err(),
                        _ => w.cancel_final(one).err(),
                    };
                    assert!(refused.is_none_or(|f| f.code != fault::Code::Internal && !f.remedy.is_empty()));
                    std::thread::sleep(Duration::from_millis(dice(60)));
                }
            });
        }
    });
    for f in w.finals().unwrap().iter().filter(|f| f.state == FinalState::Paused) {
        w.resume_final(f.id).unwrap();
    }
    w.wait_for_finals().unwrap();
    let finals = w.finals().unwrap();
    assert!(finals.iter().any(|f| f.state == FinalState::Delivered));
    for f in finals {
        let folder = data.path().join("finals").join(f.id.to_string());
        let names = |ending: &str| {
            let entries = std::fs::read_dir(&folder).into_iter().flatten().flatten();
            entries.filter(|e| e.file_name().to_string_lossy().ends_with(ending)).count()
        };
        match f.state {
            FinalState::Delivered => {
                assert!(f.files.iter().all(|x| folder.join(&x.name).is_file()) && !f.files.is_empty());
            }
            FinalState::Cancelled => assert_eq!((names("_0001.png"), names("report.json"), f.files.len()), (0, 0, 0)),
            other => panic!("final {} is {other:?}: {:?}", f.id, f.fault),
        }
    }
}

/// What is deleted is out of sight, comes back as it was, and is gone with its files once the bin is emptied; nothing goes that
/// anything refers to.
#[test]
fn deleted_things_come_back_from_the_bin_until_it_is_emptied() {
    let (data, w, shot) = workshop();
    let proof = test(&w, shot);
    let done = w.add_final(shot).unwrap().id;
    w.wait_for_finals().unwrap();
    let seen = |w: &Workshop| (w.shots().unwrap().len(), w.proofs(shot).unwrap().len(), w.finals().unwrap().len());
    let s = w.shot(shot).unwrap();
    let (scene, sky) =
        (BinItem::new(BinKind::Scene, &s.scene), BinItem::new(BinKind::Environment, s.environment.unwrap()));
    let (shot_item, final_item) = (BinItem::new(BinKind::Shot, shot), BinItem::new(BinKind::Final, done));
    // What is in use stays, and all of an order or none of it goes.
    for item in [&scene, &sky] {
        let refused = w.delete(&[BinItem::new(BinKind::Proof, proof), item.clone()]).unwrap_err();
        assert!(refused.code == fault::Code::Busy && refused.what.contains("Cabinet"), "{refused}");
    }
    tune(&w, shot, json!({ "sampling.most": 65536, "sampling.threshold": 0.0005 }));
    let open = w.add_final(shot).unwrap().id;
    for item in [&shot_item, &BinItem::new(BinKind::Final, open)] {
        assert!(w.delete(std::slice::from_ref(item)).unwrap_err().remedy.contains("cancel"));
    }
    w.cancel_final(open).unwrap();
    w.wait_for_finals().unwrap();
    assert_eq!(seen(&w), (1, 1, 2));
    w.delete(std::slice::from_ref(&final_item)).unwrap();
    assert_eq!(seen(&w), (1, 1, 1));
    w.delete(std::slice::from_ref(&shot_item)).unwrap();
    assert_eq!((w.shots().unwrap().len(), w.finals().unwrap().len()), (0, 0));
    // A page that has not been told is refused.
    let stale = [
        w.change_shot(shot, &ShotChange { budget: Some(5.0), ..Default::default() }).err(),
        w.start_test(shot, &NewTest::default()).err(),
        w.add_final(shot).err(),
    ];
    assert!(stale.iter().all(|f| f.as_ref().is_some_and(|f| f.what.contains("bin"))), "{stale:?}");
    w.delete(&[scene.clone(), sky.clone()]).unwrap();
    assert!(w.scenes().unwrap().is_empty() && w.environments().unwrap().is_empty());
    let bin = w.bin().unwrap();
    assert_eq!(bin.len(), 4);
    assert!(bin.iter().all(|e| e.bytes > 0 && e.goes - e.deleted == 14 * 86400), "{bin:?}");
    // It survives the end of the program. The final brings its shot back, and with it what that is made of.
    close(w);
    let w = Workshop::open(data.path()).unwrap();
    w.restore(&[final_item]).unwrap();
    assert_eq!((seen(&w), w.bin().unwrap().len()), ((1, 1, 2), 0));
    assert_eq!((w.scenes().unwrap().len(), w.environments().unwrap().len()), (1, 1));
    tune(&w, shot, json!({ "sampling.most": 8 }));
    test(&w, shot);
    // A scene that a shot in the bin is made of does not go before it.
    w.delete(std::slice::from_ref(&shot_item)).unwrap();
    w.delete(&[scene.clone(), sky]).unwrap();
    w.empty_bin(std::slice::from_ref(&scene)).unwrap();
    assert_eq!(w.bin().unwrap().len(), 3);
    w.restore(std::slice::from_ref(&shot_item)).unwrap();
    let files = |folder: &str| std::fs::read_dir(data.path().join(folder)).unwrap().count();
    let counts = ["proofs", "scenes", "environments"].map(files);
    assert!(counts == [2, 1, 1] && data.path().join(format!("finals/{done}")).is_dir(), "{counts:?}");
    let report = w.shot(shot).unwrap().import;
    w.delete(&[shot_item]).unwrap();
    w.delete(&[scene]).unwrap();
    w.delete(&[BinItem::new(BinKind::Environment, w.environments().unwrap()[0].hash.clone())]).unwrap();
    w.empty_bin(&[]).unwrap();
    assert_eq!((files("proofs"), files("finals"), files("scenes"), files("environments")), (0, 0, 0, 0));
    assert!(w.bin().unwrap().is_empty() && w.shot(shot).is_err());
    // The same scene can come again.
    assert_eq!(w.import_scene("again.glb", &demo::lens_cabinet()).unwrap().report.triangles, report.triangles);
    // After its time it goes by itself.
    w.change_settings(&SettingsChange { bin_days: Some(0.0), ..Default::default() }).unwrap();
    let again = w.scenes().unwrap()[0].hash.clone();
    w.delete(&[BinItem::new(BinKind::Scene, again)]).unwrap();
    std::thread::sleep(Duration::from_millis(1100));
    w.delete(&[]).unwrap();
    assert!(w.bin().unwrap().is_empty());
}

/// Files whose rows are gone are removed at the next start, as when the program ended in between; nothing else is.
#[test]
fn what_was_half_forgotten_is_forgotten_at_the_next_start() {
    let (data, w, shot) = workshop();
    let (gone, kept) = (test(&w, shot), test(&w, shot));
    close(w);
    let db = rusqlite::Connection::open(data.path().join("mellow-grain.sqlite")).unwrap();
    db.execute("DELETE FROM proofs WHERE id = ?1", [gone]).unwrap();
    db.execute("INSERT INTO bin VALUES ('files', ?1, '', 0, 1)", [format!("proofs/{gone}")]).unwrap();
    drop(db);
    let w = Workshop::open(data.path()).unwrap();
    let folder = |id: i64| data.path().join(format!("proofs/{id}"));
    assert!(!folder(gone).exists() && folder(kept).is_dir() && w.bin().unwrap().is_empty());
    assert_eq!(w.proofs(shot).unwrap().len(), 1);
}

/// A final that was cancelled goes on from what it had.
#[test]
fn a_cancelled_final_can_be_resumed() {
    let (data, w, shot) = workshop();
    tune(&w, shot, json!({ "sampling.adaptive": false, "sampling.most": 320 }));
    let one = |id: i64| w.one_final(id).unwrap();
    let named = || NewFinal { naming: Some("still".into()), ..NewFinal::default() };
    let id = w.add_finals(shot, &named()).unwrap().finals[0].id;
    while one(id).progress.is_none_or(|p| p.share < 0.2) {
        std::thread::sleep(Duration::from_millis(5));
    }
    w.cancel_final(id).unwrap();
    w.wait_for_finals().unwrap();
    assert_eq!(one(id).state, FinalState::Cancelled);
    let text = std::fs::read_to_string(data.path().join(format!("finals/{id}/counts.json"))).unwrap();
    let counts: Value = serde_json::from_str(&text).unwrap();
    let blocks = counts["counts"]["tiles"].as_array().unwrap().iter().flat_map(|t| t[1].as_array().unwrap());
    assert!(blocks.map(|b| b["n"].as_u64().unwrap()).sum::<u64>() > 0, "what it has rendered is kept");
    // Its name is free; another takes it, and it comes back under one of its own.
    tune(&w, shot, json!({ "sampling.most": 4 }));
    let other = w.add_finals(shot, &named()).unwrap().finals[0].id;
    w.wait_for_finals().unwrap();
    assert!(one(other).files.iter().all(|f| f.name.starts_with("still.") || f.name.starts_with("still_")));
    w.resume_final(id).unwrap();
    w.wait_for_finals().unwrap();
    let f = one(id);
    assert_eq!(f.state, FinalState::Delivered, "{:?}", f.fault);
    // As many samples as if it had never been cancelled, none of them taken from elsewhere.
    let report = f.report.unwrap();
    assert_eq!((report.render.samples, report.reused), (96 * 64 * 320, 0));
    assert!(f.files.iter().all(|f| f.name.starts_with("still-2")), "{:?}", f.files);
}

/// Ten that ask for the same at once get the same answer from one piece of work.
#[test]
fn what_many_ask_at_once_is_worked_out_once() {
    let (_data, w, shot) = workshop();
    tune(&w, shot, json!({ "frame.width": 480, "frame.height": 320 }));
    let (a, b) = (test(&w, shot), test(&w, shot));
    let mut look = w.look_of(a).unwrap();
    look.clean.method = Some(picture::denoise::Method::Careful);
    w.clean_up(b, &look).unwrap();
    let seconds: Vec<f64> = std::thread::scope(|s| {
        let all: Vec<_> = (0..10).map(|_| s.spawn(|| w.clean_up(a, &look).unwrap().seconds)).collect();
        all.into_iter().map(|t| t.join().unwrap()).collect()
    });
    // The time that the clean-up took is part of the answer: it is that of one clean-up, to the last digit.
    assert!(seconds[0] > 0.0 && seconds.iter().all(|s| *s == seconds[0]), "{seconds:?}");
    let memory = w.settings_view().memory;
    assert!(memory.iter().any(|m| m.what == "cleaned pictures" && m.count >= 2), "{memory:?}");
    let table = w.compare(&[a, b], None, &Looks::new()).unwrap();
    assert_eq!(table.columns.len(), 2);
}
