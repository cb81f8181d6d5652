//! A disk that is really full: the program runs on a small file system of its own. Whatever meets it is refused in words or waits,
//! nothing that was there is lost, and it goes on once there is room.

mod common;

use common::*;
use serde_json::{Value, json};
use std::time::{Duration, Instant};

fn wait(what: &str, f: impl Fn() -> bool) {
    let began = Instant::now();
    while !f() {
        assert!(began.elapsed() < Duration::from_secs(600), "{what} does not come");
        std::thread::sleep(Duration::from_millis(20));
    }
}

struct Small {
    service: Service,
    disk: SmallDisk,
}

impl Small {
    fn upload(&self, name: &str, bytes: &[u8]) -> (u16, Value) {
        let s = &self.service;
        let parcel = s.ask("POST", "/api/parcels");
        if parcel.0 != 200 {
            return parcel;
        }
        let path = format!("/api/parcels/{}/files?name={name}", parcel.1);
        let sent = send(&s.address, "PUT", &path, bytes).unwrap();
        if sent.0 != 200 {
            return sent;
        }
        s.ask("POST", &format!("/api/parcels/{}/take", parcel.1))
    }

    fn things_in(&self, folder: &str) -> usize {
        std::fs::read_dir(self.disk.root.join(folder)).unwrap().count()
    }
}

fn full(answer: &(u16, Value)) -> bool {
    answer.0 == 507 && answer.1["remedy"].as_str().is_some_and(|r| r.contains("space"))
}

#[test]
fn a_full_disk_loses_nothing_and_is_waited_for() {
    let at = tempfile::tempdir().unwrap();
    let Some(disk) = SmallDisk::mount(at.path(), 48) else { return };
    let small = Small { service: Service::wait(disk.command()), disk };
    let disk = &small.disk;
    let s = &small.service;
    let (_, taken) = small.upload("cabinet.glb", &demo::lens_cabinet());
    let scene = taken["scene"]["hash"].as_str().expect("a scene").to_string();
    let (_, shot) = s.tell("POST", "/api/shots", json!({ "name": "Small", "scene": scene, "budget": 60.0 }));
    let shot = format!("/api/shots/{}", shot["id"]);
    let tune = |values: Value| s.tell("PATCH", &shot, json!({ "tuning": values }));
    assert_eq!(tune(json!({ "frame.width": 96, "frame.height": 64, "sampling.least": 4, "sampling.most": 8 })).0, 200);

    // Import: refused, and nothing of it is left.
    disk.fill(100_000);
    let refused = small.upload("hall.glb", &demo::dome_hall());
    assert!(full(&refused), "{refused:?}");
    wait("the end of the upload", || small.things_in("incoming") == 0);
    assert_eq!((small.things_in("scenes"), s.ask("GET", "/api/scenes").1.as_array().unwrap().len()), (1, 1));

    // A test waits in memory, can be looked at, and is kept once there is room.
    let (code, test) = s.ask("POST", &format!("{shot}/tests"));
    assert_eq!(code, 200, "{test}");
    let proof = format!("/api/proofs/{}", test["id"]);
    let state = || s.ask("GET", &format!("{shot}/proofs")).1["list"][0]["state"].clone();
    wait("the test", || state() == "unsaved");
    assert_eq!(s.ask("GET", &format!("{proof}/legends")).0, 200);
    disk.clear();
    assert_eq!(s.tell("PATCH", &proof, json!({ "kept": true })).0, 200);
    assert!(state() == "done");

    // The database: what is refused has not changed anything.
    disk.fill(0);
    let mut refused = None;
    for n in 0..400 {
        let answer = tune(json!({ "sampling.seed": 100 + n }));
        if answer.0 != 200 {
            refused = Some((n, answer));
            break;
        }
    }
    let (n, answer) = refused.expect("the database meets the full disk");
    assert!(full(&answer), "{answer:?}");
    let (code, now) = s.ask("GET", &shot);
    assert_eq!(code, 200);
    let seed = if n == 0 { json!(1) } else { json!(99 + n) };
    assert_eq!((&now["tuning"]["sampling.seed"], now["revision"].as_i64()), (&seed, Some(2 + n)));
    disk.clear();
    assert_eq!(tune(json!({ "sampling.seed": 7 })).1["revision"], json!(3 + n));

    // Finals: the first meets the full disk as it delivers, the second waits behind it; both go on by themselves.
    let slow = json!({ "sampling.adaptive": false, "sampling.most": 128 });
    assert_eq!(tune(slow).0, 200);
    let orders: Vec<(u16, Value)> = (0..2).map(|_| s.ask("POST", &format!("{shot}/finals"))).collect();
    disk.fill(300_000);
    assert!(orders.iter().all(|o| o.0 == 200), "{orders:?}");
    let queue = || s.ask("GET", "/api/finals").1;
    wait("the full disk", || queue()["list"][0]["fault"]["code"] == "disk_full");
    std::thread::sleep(Duration::from_millis(2500));
    assert_eq!((queue()["open"].clone(), queue()["list"][0]["state"].clone()), (json!(2), json!("waiting")));
    disk.clear();
    // Room is seen from 64 megabytes on, which is more than there is: a hand says so.
    let first = queue()["list"][0]["id"].clone();
    assert_eq!(s.ask("POST", &format!("/api/finals/{first}/resume")).0, 200);
    wait("the finals", || queue()["open"] == 0);
    let (_, ended) = s.ask("GET", "/api/finals?ended=true");
    for f in ended["list"].as_array().unwrap() {
        assert_eq!(f["state"], "delivered", "{f}");
        for file in f["files"].as_array().unwrap() {
            let path = disk.root.join(format!("finals/{}/{}", f["id"], file["name"].as_str().unwrap()));
            assert_eq!(Some(std::fs::metadata(path).unwrap().len()), file["bytes"].as_u64());
        }
    }
    assert!(ended["ended"] == 2 && state() == "done");
}
