//! Undo, redo and restarts: nothing that was once set is lost.

use store::{
    BinKind, BinRow, FinalState, NewFinalRow, Policy, ProofKind, ProofState, SceneRow, ShotChangeRow, ShotRow, Store,
};

fn shot() -> ShotRow {
    ShotRow {
        id: 0,
        name: "Desk".into(),
        scene: "s".into(),
        environment: None,
        camera: "A".into(),
        budget: 60.0,
        revision: 0,
        archived: false,
        edits: "{}".into(),
        stamp: 0,
    }
}

/// Adds a revision; the number of the one that is in force then.
fn revise(store: &Store, shot: i64, tuning: &str, words: &str) -> i64 {
    let row = store.shot(shot).unwrap();
    assert!(store.change_shot(&ShotChangeRow { row: &row, revision: Some((tuning, words)) }).unwrap());
    store.shot(shot).unwrap().revision
}

#[test]
fn undo_and_redo_walk_a_tree_that_survives_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path()).unwrap();
    store
        .add_scene(&SceneRow { hash: "s".into(), name: "scene".into(), report: "{}".into(), file: String::new() })
        .unwrap();
    let id = store.add_shot(&shot(), "one").unwrap();
    assert_eq!(store.neighbours(id).unwrap(), (None, None));
    assert_eq!(revise(&store, id, "two", "a"), 2);
    assert_eq!(revise(&store, id, "three", "b"), 3);
    store.go_to_revision(id, 2).unwrap();
    assert_eq!(store.neighbours(id).unwrap(), (Some(1), Some(3)));
    // A change after undo starts another branch; the old one stays.
    assert_eq!(revise(&store, id, "four", "c"), 4);
    assert_eq!(store.neighbours(id).unwrap(), (Some(2), None));
    drop(store);
    let store = Store::open(folder.path()).unwrap();
    assert_eq!(store.shot(id).unwrap().revision, 4);
    assert_eq!(store.revision(id, 3).unwrap().tuning, "three");
    assert!(store.go_to_revision(id, 9).is_err());
    assert_eq!(store.shot(id).unwrap().revision, 4);
}

#[test]
fn unkept_proofs_are_pushed_out_and_kept_ones_stay() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path()).unwrap();
    store
        .add_scene(&SceneRow { hash: "s".into(), name: "scene".into(), report: "{}".into(), file: String::new() })
        .unwrap();
    let id = store.add_shot(&shot(), "one").unwrap();
    let proofs: Vec<_> = (0..6).map(|_| store.begin_proof(id, ProofKind::Test, "{}").unwrap()).collect();
    for p in &proofs[..5] {
        store.end_proof(p.id, ProofState::Done, Some("{}"), None, 100).unwrap();
    }
    store.label_proof(proofs[0].id, "first", "", true, false).unwrap();
    // Ended and unkept: 2, 3, 4, 5; the newest two stay, the running one does not count.
    assert_eq!(store.surplus_proofs(id, 2).unwrap(), [proofs[2].id, proofs[1].id]);
    std::fs::create_dir_all(store.proof_folder(proofs[1].id)).unwrap();
    store.delete_proof(proofs[1].id).unwrap();
    assert!(!store.proof_folder(proofs[1].id).exists() && store.proof(proofs[1].id).is_err());
    assert_eq!(store.orphaned_proofs().unwrap()[0].id, proofs[5].id);
    assert_eq!(store.proof_bytes().unwrap(), 400);

    // A deleted proof is out of sight, can be brought back, and its number is never given again.
    let last = proofs[5].id;
    let row = BinRow { kind: BinKind::Proof, key: last.to_string(), name: "last".into(), bytes: 400, deleted: 0 };
    store.put_in_bin(&[row]).unwrap();
    assert!(store.proofs(id).unwrap().iter().all(|p| p.id != last));
    assert_eq!(store.bin().unwrap()[0].key, last.to_string());
    store.take_from_bin(BinKind::Proof, &last.to_string()).unwrap();
    // Who empties the bin a moment later takes nothing that was taken out.
    assert!(!store.forget(BinKind::Proof, &last.to_string()).unwrap());
    assert_eq!(store.proofs(id).unwrap()[0].id, last);
    store.delete_proof(last).unwrap();
    let next = store.begin_proof(id, ProofKind::Test, "{}").unwrap();
    assert_eq!((next.number, next.id > last), (7, true));
}

/// Data folders of every earlier version open with everything in them, rows in every table; a copy of the database as it was stays.
#[test]
fn older_data_folders_are_brought_up_to_date() {
    // What each version could hold beyond the one before it.
    let rows = [
        "INSERT INTO scenes (hash, name, report, added) VALUES ('s', 'scene', '{}', 1);
         INSERT INTO environments (hash, name, added) VALUES ('e', 'sky', 1);
         INSERT INTO shots (id, name, scene, environment, camera, budget, revision) VALUES (1, 'Desk', 's', 'e', 'A', 60.0, 1);
         INSERT INTO revisions (shot, number, parent, tuning, change, made) VALUES (1, 1, 0, 'one', 'first tuning', 1);
         INSERT INTO proofs (id, shot, number, name, note, kept, state, made, description, report)
           VALUES (4, 1, 9, 'deep', 'note', 1, 'done', 1, '{}', '{}');
         INSERT INTO finals (id, shot, state, budget, description, files, made) VALUES (3, 1, 'delivered', 9.0, '{}', '[]', 1);
         INSERT INTO machine VALUES ('start', 2.5);",
        "UPDATE shots SET tests = 9;
         INSERT INTO partials (kind, name, note, chosen, shipped, made) VALUES ('preset', 'mine', 'why', '{}', 0, 1);
         INSERT INTO regions (shot, name, x, y, width, height) VALUES (1, 'lamp', 0.1, 0.2, 0.3, 0.4);
         INSERT INTO settings VALUES ('keep', '20');",
        "INSERT INTO advice (shot, advice, state, basis, made) VALUES (1, '{}', 'open', 4, 1);",
        "UPDATE finals SET policy = 'time', place = 7.0;",
        "UPDATE shots SET stamp = 4;
         INSERT INTO proofs (shot, number, name, note, kept, state, made, description, deleted)
           VALUES (1, 8, '', '', 0, 'done', 1, '{}', 77);",
        "INSERT INTO bin VALUES ('final', '99', 'gone', 5, 66);",
        "",
    ];
    assert_eq!(rows.len(), store::STEPS.len());
    for version in 1..=store::STEPS.len() {
        let folder = tempfile::tempdir().unwrap();
        let old = rusqlite::Connection::open(folder.path().join("mellow-grain.sqlite")).unwrap();
        for (step, rows) in store::STEPS.iter().zip(rows).take(version) {
            old.execute_batch(step).unwrap();
            old.execute_batch(rows).unwrap();
        }
        old.pragma_update(None, "user_version", version as i64).unwrap();
        drop(old);
        for start in 0..2 {
            let store = Store::open(folder.path()).unwrap();
            let proof = &store.proofs(1).unwrap()[0];
            assert_eq!(
                (proof.id, proof.number, proof.name.as_str(), proof.kept, proof.kind),
                (4, 9, "deep", true, ProofKind::Test)
            );
            let finals = store.finals().unwrap();
            assert_eq!((finals.len(), finals[0].id, finals[0].budget), (1, 3, 9.0));
            assert_eq!((finals[0].policy == Policy::Time, finals[0].place == 7.0), (version >= 4, version >= 4));
            assert_eq!((store.machine("start"), store.environments().unwrap().len()), (Some(2.5), 1));
            let later = version >= 2;
            assert_eq!((store.setting("keep").is_some(), store.regions(1).unwrap().len()), (later, later as usize));
            assert_eq!(store.partials().unwrap().len(), later as usize);
            assert_eq!(store.advice(1).unwrap().len(), (version >= 3) as usize);
            // What could be brought back lies in the bin now.
            let bin = store.bin().unwrap();
            assert_eq!(bin.len(), (version >= 5) as usize + (version >= 6) as usize);
            assert!(version < 5 || (bin[0].name.as_str(), bin[0].deleted) == ("test 8", 77), "{bin:?}");
            if start == 1 {
                assert_eq!(store.begin_proof(1, ProofKind::Test, "{}").unwrap().number, 10, "version {version}");
                // Going back to a revision without a camera of its own leaves the shot's.
                revise(&store, 1, "two", "more");
                store.go_to_revision(1, 1).unwrap();
                let scene = &store.scenes().unwrap()[0];
                assert_eq!((store.shot(1).unwrap().camera.as_str(), scene.file.as_str()), ("A", ""));
            }
            store.close().unwrap();
        }
        let copy = folder.path().join(format!("mellow-grain.version-{version}.sqlite"));
        assert_eq!(copy.exists(), version < store::STEPS.len());
        if copy.exists() {
            let copy = rusqlite::Connection::open(copy).unwrap();
            let kept: u32 = copy.query_row("PRAGMA user_version", [], |r| r.get(0)).unwrap();
            assert_eq!(kept as usize, version);
        }
    }
}

/// Neither a second program nor an older one touches a folder.
#[test]
fn a_data_folder_has_one_owner_and_one_format() {
    let folder = tempfile::tempdir().unwrap();
    let names = || {
        let mut names: Vec<_> = std::fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
        names.sort();
        names
    };
    let refused = |what: &str| {
        let f = Store::open(folder.path()).err().expect("refused");
        assert!(f.what.contains(what) && f.place == folder.path().display().to_string(), "{f}");
    };
    let first = Store::open(folder.path()).unwrap();
    std::fs::write(first.incoming().join("half"), "of a file").unwrap();
    refused(&format!("in use by process {}", std::process::id()));
    assert!(first.incoming().join("half").exists());
    first.close().unwrap();
    assert!(first.shots().is_err(), "what is closed answers nothing");
    drop(Store::open(folder.path()).unwrap());
    // Of a newer database, and of a newer folder.
    let database = || rusqlite::Connection::open(folder.path().join("mellow-grain.sqlite")).unwrap();
    database().pragma_update(None, "user_version", 99).unwrap();
    let before = names();
    refused("newer version of the program (format 99)");
    assert_eq!(names(), before);
    database().pragma_update(None, "user_version", store::STEPS.len() as i64).unwrap();
    std::fs::write(folder.path().join("format"), "2\n").unwrap();
    refused("newer version of the program (format 2)");
    std::fs::write(folder.path().join("format"), "1\n").unwrap();
    drop(Store::open(folder.path()).unwrap());
}

/// A row changes with its revision or not at all, and only as it was read.
#[test]
fn of_two_that_read_the_same_shot_one_is_told_to_look_again() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path()).unwrap();
    let scene = SceneRow { hash: "s".into(), name: "scene".into(), report: "{}".into(), file: String::new() };
    store.add_scene(&scene).unwrap();
    let id = store.add_shot(&shot(), "one").unwrap();
    let (mut first, mut second) = (store.shot(id).unwrap(), store.shot(id).unwrap());
    first.budget = 70.0;
    second.name = "Hall".into();
    let change = |row, revision| store.change_shot(&ShotChangeRow { row, revision }).unwrap();
    assert!(change(&first, Some(("two", "budget"))));
    assert!(!change(&second, Some(("three", "name"))), "it was read before the other's change");
    let now = store.shot(id).unwrap();
    assert_eq!((now.name.as_str(), now.budget, now.revision), ("Desk", 70.0, 2));
    assert_eq!(store.revisions(id).unwrap().len(), 2);
    // Undo counts as a change as well.
    store.go_to_revision(id, 1).unwrap();
    assert!(!change(&now, None));
    assert!(change(&ShotRow { name: "Hall".into(), ..store.shot(id).unwrap() }, None));
    assert_eq!((store.shot(id).unwrap().budget, store.shot(id).unwrap().name.as_str()), (60.0, "Hall"));
}

/// Whatever two hands ask of the queue at once, a final goes one way, and what is over stays over.
#[test]
fn finals_go_only_from_states_that_lead_there() {
    use FinalState::*;
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path()).unwrap();
    let scene = SceneRow { hash: "s".into(), name: "scene".into(), report: "{}".into(), file: String::new() };
    store.add_scene(&scene).unwrap();
    let shot = store.add_shot(&shot(), "one").unwrap();
    let new = NewFinalRow { shot, budget: 9.0, policy: Policy::Time, description: "{}", forecast: None, task: "{}" };
    let ways: [&[FinalState]; 4] = [
        &[Running, Delivered, Waiting, Running, Delivered],
        &[Running, Paused, Waiting, Running, Failed, Waiting],
        &[Running, Cancelled, Waiting, Running, Delivered, Waiting],
        &[Running, Waiting, Paused, Waiting],
    ];
    for way in ways {
        let id = store.add_finals(&[new]).unwrap()[0];
        for state in way {
            let resumed = matches!(store.one_final(id).unwrap().state, Paused | Failed | Cancelled);
            let done = if resumed { store.resume_final(id, "{}") } else { store.set_final_state(id, *state) };
            done.unwrap_or_else(|e| panic!("{way:?}: {e}"));
            assert_eq!(store.one_final(id).unwrap().state, *state);
        }
    }
    let id = store.add_finals(&[new]).unwrap()[0];
    store.set_final_state(id, Paused).unwrap();
    store.end_final(id, Cancelled, None, "[]", None).unwrap();
    // Only a hand takes it up again.
    for late in [Running, Waiting, Paused, Delivered, Failed] {
        let refused = store.set_final_state(id, late).unwrap_err();
        assert_eq!(refused.code, fault::Code::Busy, "{refused}");
    }
    assert_eq!(store.one_final(id).unwrap().state, Cancelled);
    // Who asks for what somebody else has done already is content.
    store.set_final_state(id, Cancelled).unwrap();
    // A series is in the queue as a whole or not at all.
    let before = store.finals().unwrap().len();
    assert!(store.add_finals(&[new, NewFinalRow { shot: 99, ..new }]).is_err());
    assert_eq!(store.finals().unwrap().len(), before);
}
