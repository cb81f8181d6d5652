//! The serving program as the machine sees it: one owner of a data folder, a port that is taken first, signals that end it.

use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use workshop::{FinalState, NewFinal, NewShot, ProofState, ShotChange, Workshop};

/// A data folder with a shot that renders for longer than any test waits.
fn folder() -> (TempDir, i64) {
    let data = tempfile::tempdir().unwrap();
    let w = Workshop::open(data.path()).unwrap();
    let scene = w.import_scene("cabinet.glb", &demo::lens_cabinet()).unwrap();
    let new = NewShot { name: "Cabinet".into(), scene: scene.hash, environment: None, camera: None, budget: 60.0 };
    let id = w.add_shot(&new).unwrap();
    let long = json!({ "frame.width": 96, "frame.height": 64, "sampling.adaptive": false, "sampling.most": 65536 });
    let tuning = serde_json::from_value(long).unwrap();
    w.change_shot(id, &ShotChange { tuning, ..ShotChange::default() }).unwrap();
    assert!(w.close(Duration::from_secs(5)).unwrap());
    (data, id)
}

fn command(data: &Path, listen: &str) -> Command {
    let mut c = Command::new(env!("CARGO_BIN_EXE_mellow-grain"));
    c.args(["serve", "--listen", listen, "--data"]).arg(data).stdout(Stdio::piped()).stderr(Stdio::piped());
    c
}

struct Service {
    child: Child,
    address: String,
}

impl Service {
    fn start(data: &Path) -> Service {
        let mut child = command(data, "127.0.0.1:0").spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let address = line.trim().rsplit_once("http://").expect("an address").1.to_string();
        Service { child, address }
    }

    fn ask(&self, method: &str, path: &str) -> (u16, Value) {
        let mut s = TcpStream::connect(&self.address).unwrap();
        let body = if method == "POST" { "{}" } else { "" };
        let length = body.len();
        let head = format!("Host: {}\r\nConnection: close\r\nContent-Length: {length}\r\n", self.address);
        write!(s, "{method} {path} HTTP/1.1\r\n{head}\r\n{body}").unwrap();
        let mut answer = String::new();
        s.read_to_string(&mut answer).unwrap();
        let body = answer.split_once("\r\n\r\n").map_or("", |(_, body)| body);
        (answer[9..12].parse().unwrap(), serde_json::from_str(body).unwrap_or(Value::Null))
    }

    fn signal(&self, name: &str) {
        let sent = Command::new("kill").args([&format!("-{name}"), &self.child.id().to_string()]).status().unwrap();
        assert!(sent.success());
    }

    /// Its exit status, and how long that took.
    fn end(mut self) -> (Option<i32>, Duration) {
        let began = Instant::now();
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                return (status.code(), began.elapsed());
            }
            assert!(began.elapsed() < Duration::from_secs(60), "it does not end");
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn refused(o: &Output, what: &[&str]) {
    let text = String::from_utf8_lossy(&o.stderr);
    assert!(!o.status.success() && what.iter().all(|w| text.contains(w)), "{text}");
}

#[test]
fn a_second_start_harms_nothing() {
    let (data, shot) = folder();
    let first = Service::start(data.path());
    assert_eq!(first.ask("POST", &format!("/api/shots/{shot}/tests")).0, 200);
    let half = data.path().join("incoming/half");
    std::fs::write(&half, "of a file").unwrap();
    let (place, process) = (data.path().display().to_string(), format!("process {}", first.child.id()));
    refused(&command(data.path(), "127.0.0.1:0").output().unwrap(), &[&place, &process, "remedy"]);
    // By another name of the folder as well, and from the command line.
    let other = tempfile::tempdir().unwrap();
    std::os::unix::fs::symlink(data.path(), other.path().join(".mellow-grain")).unwrap();
    let mut c = Command::new(env!("CARGO_BIN_EXE_mellow-grain"));
    refused(&c.args(["final", "none.zip", "--out"]).arg(other.path()).output().unwrap(), &[&process]);
    assert!(half.exists());
    assert_eq!(first.ask("GET", &format!("/api/shots/{shot}/proofs")).1["list"][0]["state"], "running");
    // A port that is taken is told before a folder is touched.
    let untouched = other.path().join("untouched");
    refused(&command(&untouched, &first.address).output().unwrap(), &["listens there already"]);
    assert!(!untouched.exists());
    // However the first one ends, the next may have the folder.
    drop(first);
    drop(Service::start(data.path()));
}

#[test]
fn a_signal_puts_everything_away_and_a_second_one_ends_at_once() {
    let (data, shot) = folder();
    for signal in ["TERM", "INT"] {
        let service = Service::start(data.path());
        // A page that never hangs up.
        let _open = TcpStream::connect(&service.address).unwrap();
        assert_eq!(service.ask("POST", &format!("/api/shots/{shot}/finals")).0, 200);
        assert_eq!(service.ask("POST", &format!("/api/shots/{shot}/tests")).0, 200);
        // Some samples a pixel, so that there is something to keep.
        let wait = |what: &str, got_on: &dyn Fn() -> bool| {
            let began = Instant::now();
            while !got_on() {
                assert!(began.elapsed() < Duration::from_secs(60), "the {what} does not get on");
                std::thread::sleep(Duration::from_millis(20));
            }
        };
        let proof = service.ask("GET", &format!("/api/shots/{shot}/proofs")).1["list"][0]["id"].clone();
        let pixel = format!("/api/proofs/{proof}/pixel?x=90&y=60");
        wait("test", &|| service.ask("GET", &pixel).1["samples"].as_u64().is_some_and(|n| n >= 16));
        if signal == "INT" {
            // Once the test is over the final goes on; it too is at work when the signal comes.
            assert_eq!(service.ask("DELETE", "/api/test").0, 200);
            let progress = |v: &Value| v[0]["progress"]["samples_per_pixel"].as_f64().is_some_and(|n| n > 4.0);
            wait("final", &|| progress(&service.ask("GET", "/api/finals").1["list"]));
        }
        service.signal(signal);
        let (status, took) = service.end();
        assert!(status == Some(0) && took < Duration::from_secs(5), "{status:?} after {took:?}");
        assert!(!data.path().join("mellow-grain.sqlite-wal").exists(), "the database is one file");
        let w = Workshop::open(data.path()).unwrap();
        let proofs = w.proofs(shot).unwrap();
        assert!(proofs[0].state == ProofState::Stopped && proofs[0].report.is_some(), "{signal}");
        let finals = w.finals().unwrap();
        assert!(finals.iter().all(|f| matches!(f.state, FinalState::Waiting | FinalState::Running)), "{signal}");
        if signal == "INT" {
            let at_work = finals.iter().any(|f| data.path().join(format!("finals/{}/counts.json", f.id)).exists());
            assert!(at_work, "what the final has rendered is kept");
        }
        // What it has rendered goes on.
        let film = w.proof(proofs[0].id).unwrap();
        w.go_on(film.id, Some(65536), None).unwrap();
        w.stop_test();
        finals.iter().for_each(|f| w.cancel_final(f.id).unwrap());
        assert!(w.close(Duration::from_secs(10)).unwrap());
        assert!(w.add_finals(shot, &NewFinal::default()).is_err(), "what is closed takes no orders");
    }
    let service = Service::start(data.path());
    assert_eq!(service.ask("POST", &format!("/api/shots/{shot}/tests")).0, 200);
    service.signal("TERM");
    service.signal("TERM");
    let (_, took) = service.end();
    assert!(took < Duration::from_secs(2), "{took:?}");
}
