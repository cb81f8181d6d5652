//! A workshop with one small shot of the cabinet.
#![allow(dead_code)]

use tempfile::TempDir;
use workshop::*;

pub fn workshop() -> (TempDir, Workshop, i64) {
    let data = tempfile::tempdir().unwrap();
    let w = Workshop::open(data.path()).unwrap();
    let scene = w.import_scene("cabinet.glb", &demo::lens_cabinet()).unwrap();
    let sky = w.import_environment("sky.hdr", &demo::tarnfell_dusk()).unwrap();
    let new =
        NewShot { name: "Cabinet".into(), scene: scene.hash, environment: Some(sky.hash), camera: None, budget: 60.0 };
    let id = w.add_shot(&new).unwrap();
    tune(&w, id, serde_json::json!({ "frame.width": 96, "frame.height": 64, "sampling.least": 4, "sampling.most": 8 }));
    (data, w, id)
}

pub fn tune(w: &Workshop, shot: i64, values: serde_json::Value) {
    let tuning = serde_json::from_value(values).unwrap();
    w.change_shot(shot, &ShotChange { tuning, ..Default::default() }).unwrap();
}

pub fn test(w: &Workshop, shot: i64) -> i64 {
    let id = w.start_test(shot, &NewTest::default()).unwrap();
    w.wait_for_test();
    id
}
