//! Undo, redo and restarts: nothing that was once set is lost.

use store::{SceneRow, ShotRow, Store};

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
    }
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
    assert_eq!(store.revise(id, "two", "a").unwrap(), 2);
    assert_eq!(store.revise(id, "three", "b").unwrap(), 3);
    store.go_to_revision(id, 2).unwrap();
    assert_eq!(store.neighbours(id).unwrap(), (Some(1), Some(3)));
    // A change after undo starts another branch; the old one stays.
    assert_eq!(store.revise(id, "four", "c").unwrap(), 4);
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
    let proofs: Vec<_> = (0..6).map(|_| store.begin_proof(id, "test", "{}").unwrap()).collect();
    for p in &proofs[..5] {
        store.end_proof(p.id, "done", Some("{}"), None, 100).unwrap();
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
    store.mark_deleted(last, true).unwrap();
    assert!(store.proofs(id).unwrap().iter().all(|p| p.id != last));
    assert_eq!(store.deleted_before(i64::MAX).unwrap(), [last]);
    store.mark_deleted(last, false).unwrap();
    assert_eq!(store.proofs(id).unwrap()[0].id, last);
    store.delete_proof(last).unwrap();
    let next = store.begin_proof(id, "test", "{}").unwrap();
    assert_eq!((next.number, next.id > last), (7, true));
}

/// A data folder of the first version opens, with everything in it.
#[test]
fn an_older_data_folder_is_brought_up_to_date() {
    let folder = tempfile::tempdir().unwrap();
    let old = rusqlite::Connection::open(folder.path().join("mellow-grain.sqlite")).unwrap();
    old.execute_batch(store::FIRST_STEP).unwrap();
    old.execute_batch(
        "PRAGMA user_version = 1;
         INSERT INTO scenes VALUES ('s', 'scene', '{}', 1);
         INSERT INTO shots VALUES (1, 'Desk', 's', NULL, 'A', 60.0, 1);
         INSERT INTO revisions VALUES (1, 1, 0, 'one', 'first tuning', 1);
         INSERT INTO proofs VALUES (4, 1, 9, 'deep', 'note', 1, 'done', 1, '{}', '{}');",
    )
    .unwrap();
    drop(old);
    let store = Store::open(folder.path()).unwrap();
    let proof = &store.proofs(1).unwrap()[0];
    assert_eq!(
        (proof.id, proof.number, proof.name.as_str(), proof.kept, proof.kind.as_str()),
        (4, 9, "deep", true, "test")
    );
    assert_eq!(store.begin_proof(1, "test", "{}").unwrap().number, 10);
    // Going back to a revision without a camera of its own leaves the shot's.
    store.revise(1, "two", "more").unwrap();
    store.go_to_revision(1, 1).unwrap();
    assert_eq!((store.shot(1).unwrap().camera.as_str(), store.scenes().unwrap()[0].file.as_str()), ("A", ""));
}
