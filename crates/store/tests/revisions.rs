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
    }
}

#[test]
fn undo_and_redo_walk_a_tree_that_survives_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path()).unwrap();
    store.add_scene(&SceneRow { hash: "s".into(), name: "scene".into(), report: "{}".into() }).unwrap();
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
    store.add_scene(&SceneRow { hash: "s".into(), name: "scene".into(), report: "{}".into() }).unwrap();
    let id = store.add_shot(&shot(), "one").unwrap();
    let proofs: Vec<_> = (0..6).map(|_| store.begin_proof(id, "{}").unwrap()).collect();
    for p in &proofs[..5] {
        store.end_proof(p.id, "done", "{}").unwrap();
    }
    store.label_proof(proofs[0].id, "first", "", true).unwrap();
    // Ended and unkept: 2, 3, 4, 5; the newest two stay, the running one does not count.
    assert_eq!(store.surplus_proofs(id, 2).unwrap(), [proofs[2].id, proofs[1].id]);
    std::fs::create_dir_all(store.proof_folder(proofs[1].id)).unwrap();
    store.delete_proof(proofs[1].id).unwrap();
    assert!(!store.proof_folder(proofs[1].id).exists() && store.proof(proofs[1].id).is_err());
    assert_eq!(store.orphaned_proofs().unwrap(), [proofs[5].id]);
}
