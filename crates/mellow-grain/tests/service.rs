//! The serving program as the machine sees it: one owner of a data folder, a port that is taken first, signals that end it.

mod common;

use common::*;
use serde_json::Value;
use std::net::TcpStream;
use std::process::{Command, Output};
use std::time::{Duration, Instant};
use workshop::{FinalState, NewFinal, ProofState, Workshop};

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
                assert!(began.elapsed() < Duration::from_secs(600), "the {what} does not get on");
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
        assert!(status == Some(0) && took < Duration::from_secs(60), "{status:?} after {took:?}");
        assert!(!data.path().join("mellow-grain.sqlite-wal").exists(), "the database is one file");
        let w = Workshop::open(data.path()).unwrap();
        let proofs = w.proofs(shot).unwrap();
        assert!(proofs[0].state == ProofState::Stopped && proofs[0].report.is_some(), "{signal}");
        let (cancelled, finals): (Vec<_>, Vec<_>) =
            w.finals().unwrap().into_iter().partition(|f| f.state == FinalState::Cancelled);
        // What was cancelled just before the end stays so.
        assert_eq!((cancelled.len(), finals.len()), ((signal == "INT") as usize, 1), "{signal}");
        assert!(matches!(finals[0].state, FinalState::Waiting | FinalState::Running), "{signal}: {finals:?}");
        if signal == "INT" {
            let at_work = finals.iter().any(|f| data.path().join(format!("finals/{}/counts.json", f.id)).exists());
            assert!(at_work, "what the final has rendered is kept");
        }
        // What it has rendered goes on.
        let film = w.proof(proofs[0].id).unwrap();
        w.go_on(film.id, Some(65536), None).unwrap();
        w.stop_test();
        finals.iter().for_each(|f| w.cancel_final(f.id).unwrap());
        assert!(w.close(Duration::from_secs(300)).unwrap());
        assert!(w.add_finals(shot, &NewFinal::default()).is_err(), "what is closed takes no orders");
    }
    let service = Service::start(data.path());
    assert_eq!(service.ask("POST", &format!("/api/shots/{shot}/tests")).0, 200);
    service.signal("TERM");
    service.signal("TERM");
    let (_, took) = service.end();
    assert!(took < Duration::from_secs(30), "{took:?}");
}

/// Every request leaves a line with its outcome in the data folder's log, and no key does.
#[test]
fn requests_are_logged_without_keys() {
    let (data, shot) = folder();
    let mut command = command(data.path(), "127.0.0.1:0");
    command.args(["--host", "bench.example", "--log", "info"]);
    let mut service = Service::wait(command);
    let (address, key) = service.address.split_once("/?key=").expect("a key");
    assert!(key.len() == 64 && address == "bench.example");
    let (at, key) = (format!("127.0.0.1:{}", service.port()), key.to_string());
    assert_eq!(send(&at, "GET", &format!("/?key={key}"), b"").unwrap().0, 303);
    assert_eq!(send(&at, "GET", &format!("/api/shots/{shot}"), b"").unwrap().0, 403);
    service.signal("TERM");
    let mut screen = String::new();
    std::io::Read::read_to_string(&mut service.child.stderr.take().unwrap(), &mut screen).unwrap();
    service.end();
    let folder = std::fs::read_dir(data.path().join("logs")).unwrap();
    let file: String = folder.map(|e| std::fs::read_to_string(e.unwrap().path()).unwrap()).collect();
    for log in [&file, &screen] {
        assert!(log.contains("path=\"/\" status=303") && log.contains("status=403 ms="), "{log}");
        assert!(!log.contains(&key) && !log.contains('?'), "{log}");
    }
    assert!(file.contains(&format!("path=\"/api/shots/{shot}\"")));
}

/// Behind a proxy with TLS at port 443, and one without at port 80: browsers leave these ports out of what they tell.
#[test]
fn a_proxy_may_stand_in_front() {
    let (data, _) = folder();
    let mut command = command(data.path(), "127.0.0.1:0");
    command.args(["--host", "bench.example"]);
    let service = Service::wait(command);
    let key = service.address.split_once("/?key=").expect("a key").1;
    let tests = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    let out = Command::new("python3")
        .arg(tests.join("proxy.py"))
        .args([&service.port().to_string(), key])
        .arg(tests.join("proxy.pem"))
        .output()
        .unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let told: Vec<Value> =
        String::from_utf8_lossy(&out.stdout).lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    let expected = [
        ("no key", 403),
        ("key", 303),
        ("page", 200),
        ("api", 200),
        ("events", 101),
        ("other origin", 403),
        ("other name", 403),
    ];
    let expected: Vec<Value> = ["https", "http"]
        .iter()
        .flat_map(|scheme| expected.iter().map(move |(what, status)| serde_json::json!([scheme, what, status])))
        .collect();
    assert_eq!(told, expected);
}
