//! A storm: clients who command at random, kills at random moments, second starts. Afterwards what was acknowledged and what is
//! there agree: nothing acknowledged is missing, no file is torn, and finals that go on come out bit-equal. A few kills in the
//! suite, two hundred by `./run bench storm`.

mod common;

use common::*;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

const CLIENTS: usize = 20;
/// Kills in the suite.
const FEW: usize = 3;

struct Dice(u64);

impl Dice {
    fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n
    }
}

/// What a client knows of its own shot.
#[derive(Default)]
struct Known {
    shot: i64,
    /// Values that the knob may have: the last acknowledged one, and those that were asked for since and never answered.
    seed: BTreeSet<i64>,
    name: BTreeSet<String>,
    /// The same of whether the shot lies in the bin.
    binned: BTreeSet<bool>,
    revisions: i64,
    regions: BTreeSet<String>,
    proofs: BTreeSet<i64>,
    finals: BTreeSet<i64>,
    /// Delivered finals with the bytes of their files.
    delivered: BTreeMap<i64, Value>,
    acknowledged: usize,
}

/// Sends a command that sets something to a value, and keeps what may be so afterwards.
fn set<T: Ord + Clone>(may: &mut BTreeSet<T>, to: T, answer: Option<(u16, Value)>) -> bool {
    match answer {
        Some((200, _)) => {
            *may = BTreeSet::from([to]);
            true
        }
        Some(_) => false,
        None => {
            may.insert(to);
            false
        }
    }
}

impl Known {
    /// One command at random.
    fn command(&mut self, address: &str, dice: &mut Dice) {
        let shot = format!("/api/shots/{}", self.shot);
        let ask = |method: &str, path: &str, body: Value| send(address, method, path, body.to_string().as_bytes());
        let n = dice.below(1 << 30) as i64;
        let done = match dice.below(12) {
            0..=3 => {
                let answer = ask("PATCH", &shot, json!({ "tuning": { "sampling.seed": n } }));
                if let Some((200, v)) = &answer {
                    self.revisions = v["revision"].as_i64().unwrap();
                }
                set(&mut self.seed, n, answer)
            }
            4 => {
                let name = format!("shot {n}");
                let answer = ask("PATCH", &shot, json!({ "name": name }));
                set(&mut self.name, name, answer)
            }
            5 => {
                let region = json!({ "x": 0, "y": 0, "width": 8, "height": 8 });
                let name = format!("region {n}");
                let answer = ask("POST", &format!("{shot}/regions"), json!({ "name": name, "region": region }));
                matches!(answer, Some((200, _))) && self.regions.insert(name)
            }
            6 => {
                // A test of a client ends that of another; what is there of it and was pulled stays.
                if let Some((200, p)) = ask("POST", &format!("{shot}/tests"), json!({})) {
                    std::thread::sleep(Duration::from_millis(60 + dice.below(100)));
                    let id = p["id"].as_i64().unwrap();
                    let kept = ask("PATCH", &format!("/api/proofs/{id}"), json!({ "kept": true }));
                    matches!(kept, Some((200, v)) if v["state"] == "done") && self.proofs.insert(id)
                } else {
                    false
                }
            }
            7 => {
                if let Some((200, ordered)) = ask("POST", &format!("{shot}/finals"), json!({})) {
                    let ids = ordered["finals"].as_array().unwrap().iter().map(|f| f["id"].as_i64().unwrap());
                    self.finals.extend(ids);
                    true
                } else {
                    false
                }
            }
            8 => {
                let which = self.finals.iter().nth(dice.below(self.finals.len().max(1) as u64) as usize).copied();
                let verb = ["pause", "resume", "cancel"][dice.below(3) as usize];
                which.is_some_and(|id| {
                    matches!(ask("POST", &format!("/api/finals/{id}/{verb}"), json!({})), Some((200, _)))
                })
            }
            9 => {
                let which = self.finals.iter().nth(dice.below(self.finals.len().max(1) as u64) as usize).copied();
                let seen = which.and_then(|id| ask("GET", &format!("/api/finals/{id}"), json!({})).map(|a| (id, a)));
                if let Some((id, (200, f))) = seen
                    && f["state"] == "delivered"
                {
                    self.delivered.insert(id, f["files"].clone());
                }
                false
            }
            10 => {
                let items = json!({ "items": [{ "kind": "shot", "key": self.shot.to_string() }] });
                set(&mut self.binned, true, ask("POST", "/api/bin", items))
            }
            _ => {
                let items = json!({ "items": [{ "kind": "shot", "key": self.shot.to_string() }] });
                set(&mut self.binned, false, ask("POST", "/api/bin/restore", items))
            }
        };
        self.acknowledged += done as usize;
    }

    /// What of it the program does not hold any more.
    fn missing(&self, s: &Service, data: &Path) -> Vec<String> {
        let mut wrong = Vec::new();
        let mut check = |good: bool, what: String| {
            if !good {
                wrong.push(format!("shot {}: {what}", self.shot));
            }
        };
        let shot = format!("/api/shots/{}", self.shot);
        let (_, v) = s.ask("GET", &shot);
        let seed = v["tuning"]["sampling.seed"].as_i64().unwrap_or(-1);
        check(self.seed.contains(&seed), format!("seed {seed}, not of {:?}", self.seed));
        let name = v["name"].as_str().unwrap_or_default().to_string();
        check(self.name.contains(&name), format!("name {name}, not of {:?}", self.name));
        let revision = v["revision"].as_i64().unwrap_or(0);
        check(revision >= self.revisions, format!("revision {revision}, acknowledged {}", self.revisions));
        let (_, bin) = s.ask("GET", "/api/bin");
        let key = self.shot.to_string();
        let binned = bin.as_array().unwrap().iter().any(|e| e["kind"] == "shot" && e["key"] == *key);
        check(self.binned.contains(&binned), format!("in the bin: {binned}, not of {:?}", self.binned));
        let (_, regions) = s.ask("GET", &format!("{shot}/regions"));
        let names: BTreeSet<&str> = regions.as_array().unwrap().iter().filter_map(|r| r["name"].as_str()).collect();
        for r in &self.regions {
            check(names.contains(r.as_str()), format!("{r} is not there"));
        }
        let (_, proofs) = s.ask("GET", &format!("{shot}/proofs"));
        for id in &self.proofs {
            let there = proofs["list"].as_array().unwrap().iter().any(|p| p["id"] == *id && p["kept"] == true);
            check(there, format!("proof {id} is not there"));
            let (code, _) = s.ask("GET", &format!("/api/proofs/{id}/legends"));
            check(code == 200, format!("proof {id} cannot be read: {code}"));
        }
        for id in &self.finals {
            let (code, f) = s.ask("GET", &format!("/api/finals/{id}"));
            check(code == 200 && f["state"] != "failed", format!("final {id}: {code} {}", f["fault"]));
        }
        for (id, files) in &self.delivered {
            let (_, f) = s.ask("GET", &format!("/api/finals/{id}"));
            check(f["files"] == *files && f["state"] == "delivered", format!("final {id} was delivered"));
            for file in files.as_array().unwrap() {
                let path = data.join(format!("finals/{id}/{}", file["name"].as_str().unwrap()));
                let length = std::fs::metadata(&path).map(|m| m.len()).unwrap_or(0);
                check(Some(length) == file["bytes"].as_u64(), format!("{} has {length} bytes", path.display()));
            }
        }
        wrong
    }
}

#[test]
fn what_was_acknowledged_outlives_a_storm() {
    let kills = std::env::var("STORM").ok().and_then(|n| n.parse().ok()).unwrap_or(FEW);
    let (data, first) = folder();
    // On a small disk of its own, which is full now and then.
    let at = tempfile::tempdir().unwrap();
    let disk = SmallDisk::mount(at.path(), 400 + 20 * kills as u32);
    let mut seen = data.path().to_path_buf();
    if let Some(disk) = &disk {
        assert!(std::process::Command::new("cp").arg("-rT").args([&seen, &disk.root]).status().unwrap().success());
        seen = disk.root.clone();
    }
    let data = seen.as_path();
    let start = || disk.as_ref().map_or_else(|| command(data, "127.0.0.1:0"), SmallDisk::command);
    let small =
        json!({ "frame.width": 32, "frame.height": 24, "sampling.least": 4, "sampling.most": 8, "sampling.seed": 1 });
    let mut service = Service::wait(start());
    let (code, _) = service.tell("PATCH", &format!("/api/shots/{first}"), json!({ "tuning": small }));
    assert_eq!(code, 200);
    let clients: Vec<Mutex<Known>> = (0..CLIENTS)
        .map(|_| {
            let (_, copy) = service.ask("POST", &format!("/api/shots/{first}/duplicate"));
            let known = Known {
                shot: copy["id"].as_i64().unwrap(),
                seed: BTreeSet::from([1]),
                name: BTreeSet::from([copy["name"].as_str().unwrap().to_string()]),
                binned: BTreeSet::from([false]),
                ..Known::default()
            };
            Mutex::new(known)
        })
        .collect();
    let mut dice = Dice(kills as u64);
    let began = Instant::now();
    for kill in 0..kills {
        let over = AtomicBool::new(false);
        std::thread::scope(|s| {
            for (k, client) in clients.iter().enumerate() {
                let (address, over) = (&service.address, &over);
                s.spawn(move || {
                    let mut dice = Dice((kill * CLIENTS + k) as u64 + 99);
                    while !over.load(Ordering::Relaxed) {
                        client.lock().unwrap().command(address, &mut dice);
                        std::thread::sleep(Duration::from_millis(dice.below(30)));
                    }
                });
            }
            std::thread::sleep(Duration::from_millis(300 + dice.below(1500)));
            if let Some(disk) = disk.as_ref().filter(|_| kill % 3 == 1) {
                disk.fill(dice.below(3) * 20_000);
                std::thread::sleep(Duration::from_millis(300 + dice.below(500)));
            }
            // Another program on the same folder is refused, whatever goes on.
            if kill % 8 == 1 {
                assert!(!start().output().unwrap().status.success());
            }
            service.signal(if kill % 5 == 4 { "TERM" } else { "KILL" });
            std::thread::sleep(Duration::from_millis(50));
            over.store(true, Ordering::Relaxed);
        });
        service.end();
        // A start on a full disk may be refused in words; it harms nothing either.
        if let Some(disk) = disk.as_ref().filter(|_| kill % 3 == 1) {
            if kill % 2 == 0 {
                let mut refused = start().spawn().unwrap();
                std::thread::sleep(Duration::from_millis(200));
                let _ = refused.kill();
                let _ = refused.wait();
            }
            disk.clear();
        }
        service = Service::wait(start());
        let wrong: Vec<String> = clients.iter().flat_map(|c| c.lock().unwrap().missing(&service, data)).collect();
        assert!(wrong.is_empty(), "after kill {kill}:\n{}", wrong.join("\n"));
    }
    // No half of anything is left, and what is in the queue comes out as it would have without all this.
    let ask = |method: &str, path: &str| service.ask(method, path).1;
    for c in &clients {
        let mut c = c.lock().unwrap();
        c.binned = BTreeSet::from([false]);
        let items = json!({ "items": [{ "kind": "shot", "key": c.shot.to_string() }] });
        assert_eq!(service.tell("POST", "/api/bin/restore", items).0, 200);
    }
    loop {
        let queue = ask("GET", "/api/finals");
        for f in queue["list"].as_array().unwrap().iter().filter(|f| f["state"] == "paused") {
            ask("POST", &format!("/api/finals/{}/resume", f["id"]));
        }
        if queue["open"] == 0 {
            break;
        }
        assert!(began.elapsed() < Duration::from_secs(60 + 20 * kills as u64), "the queue does not end");
        std::thread::sleep(Duration::from_millis(50));
    }
    let wrong: Vec<String> = clients.iter().flat_map(|c| c.lock().unwrap().missing(&service, data)).collect();
    assert!(wrong.is_empty(), "at the end:\n{}", wrong.join("\n"));
    let mut left = Vec::new();
    let mut look = vec![data.to_path_buf()];
    while let Some(folder) = look.pop() {
        for e in std::fs::read_dir(folder).unwrap().flatten() {
            if e.path().is_dir() {
                look.push(e.path());
            } else if e.file_name().to_string_lossy().ends_with(".part") {
                left.push(e.path());
            }
        }
    }
    assert!(left.is_empty() && std::fs::read_dir(data.join("incoming")).unwrap().count() == 0, "{left:?}");
    let (mut same, mut acknowledged) = (0, 0);
    for c in &clients {
        let c = c.lock().unwrap();
        acknowledged += c.acknowledged;
        // Rendered again after its plan, one that was interrupted has the same pixels, to the last bit.
        let delivered = c.finals.iter().find(|id| ask("GET", &format!("/api/finals/{id}"))["can_repeat"] == true);
        if let Some(id) = delivered.filter(|_| same < 5) {
            let again = ask("POST", &format!("/api/finals/{id}/again"))["id"].clone();
            let state = || ask("GET", &format!("/api/finals/{again}"));
            while matches!(state()["state"].as_str(), Some("waiting" | "running")) {
                std::thread::sleep(Duration::from_millis(10));
            }
            let exr = |id: &str| {
                let f = ask("GET", &format!("/api/finals/{id}"));
                let file =
                    f["files"].as_array().unwrap().iter().find(|x| x["name"].as_str().unwrap().ends_with(".exr"));
                let name = file.expect("an EXR")["name"].as_str().unwrap().to_string();
                picture::files::read_picture(&data.join(format!("finals/{id}/{name}"))).unwrap().pixels
            };
            assert!(exr(&id.to_string()) == exr(&again.to_string()), "final {id} and {again}");
            same += 1;
        }
    }
    println!(
        "{kills} kills, {acknowledged} commands acknowledged, {same} finals rendered again, {:?}",
        began.elapsed()
    );
    assert!(acknowledged > 20 * kills && same > 0);
}
