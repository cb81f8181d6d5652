//! `./run bench load [seconds]`: fifty pages (PAGES) open on one bench, one of them rendering (RENDERS=0: none) tests one after the other, in a data folder
//! with 10,000 finals, 2,000 proofs and 500 revisions. Of every address that needs no computation: requests, and the median, the
//! 99th percentile and the longest of their times; and the memory of the program at the start and at the end of every minute.

mod wire;

use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use wire::{Wire, resident};
use workshop::{NewTest, ProofChange, ShotChange, Workshop};

/// Between two requests of a page.
const PAUSE: Duration = Duration::from_millis(400);

/// Listens to events and counts their bytes until it is told to end.
fn listen(address: SocketAddr, over: &AtomicBool) -> std::io::Result<usize> {
    let mut s = TcpStream::connect(address)?;
    s.set_read_timeout(Some(Duration::from_millis(500)))?;
    write!(
        s,
        "GET /api/events HTTP/1.1\r\nHost: {address}\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\
         Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"
    )?;
    let (mut bytes, mut buffer) = (0, [0; 65536]);
    while !over.load(Ordering::Relaxed) {
        match s.read(&mut buffer) {
            Ok(0) => break,
            Ok(n) => bytes += n,
            Err(e) if matches!(e.kind(), std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut) => {}
            Err(e) => return Err(e),
        }
    }
    Ok(bytes)
}

/// Fills the folder with rows like those that are there.
fn fill(folder: &std::path::Path, shot: i64) -> rusqlite::Result<()> {
    let db = rusqlite::Connection::open(folder.join("mellow-grain.sqlite"))?;
    db.execute_batch(&format!(
        "WITH RECURSIVE n(k) AS (SELECT 1 UNION ALL SELECT k + 1 FROM n WHERE k < 9999)
           INSERT INTO finals (shot, state, budget, description, forecast, report, files, made, ended, policy, place, task)
             SELECT shot, state, budget, description, forecast, report, files, made, ended + k, policy, k + 1, task
             FROM n, (SELECT * FROM finals LIMIT 1);
         WITH RECURSIVE n(k) AS (SELECT 1 UNION ALL SELECT k + 1 FROM n WHERE k < 1999)
           INSERT INTO proofs (shot, number, name, note, kept, state, made, description, report, kind, star, bytes, circumstances)
             SELECT shot, number + k, name, note, 1, state, made, description, report, kind, star, bytes, circumstances
             FROM n, (SELECT * FROM proofs ORDER BY id DESC LIMIT 1);
         WITH RECURSIVE n(k) AS (SELECT 1 UNION ALL SELECT k + 1 FROM n WHERE k < 498)
           INSERT INTO revisions (shot, number, parent, tuning, change, made, camera, budget, edits)
             SELECT r.shot, r.number + k, r.number + k - 1, r.tuning, r.change, r.made, r.camera, r.budget, r.edits
             FROM n, (SELECT * FROM revisions WHERE shot = {shot} ORDER BY number DESC LIMIT 1) r;
         UPDATE shots SET revision = (SELECT max(number) FROM revisions WHERE shot = {shot}) WHERE id = {shot};"
    ))
}

fn main() {
    let pages: usize = std::env::var("PAGES").ok().and_then(|s| s.parse().ok()).unwrap_or(50);
    let renders = std::env::var("RENDERS").map_or(true, |v| v != "0");
    let seconds: u64 = std::env::args().nth(1).and_then(|s| s.parse().ok()).unwrap_or(60);
    let folder = tempfile::tempdir().expect("a folder");
    let w = Workshop::open(folder.path()).expect("a workshop");
    w.prepare_demo(workshop::DemoSize::Small, &mut |_| {}).expect("the demo");
    let shot = w.shots().expect("shots")[0].id;
    let tuning = [("frame.width", 240), ("frame.height", 160), ("sampling.most", 16)];
    let tuning = tuning.into_iter().map(|(k, v)| (k.to_string(), v.into())).collect();
    w.change_shot(shot, &ShotChange { tuning, ..ShotChange::default() }).expect("a change");
    w.start_test(shot, &NewTest::default()).expect("a test");
    w.wait_for_test();
    w.add_final(shot).expect("a final");
    w.wait_for_finals().expect("its end");
    let proof = w.proofs(shot).expect("proofs")[0].id;
    w.change_proof(proof, &ProofChange { kept: Some(true), ..ProofChange::default() }).expect("a kept proof");
    w.close(Duration::from_secs(10)).expect("the end");
    fill(folder.path(), shot).expect("rows");

    let w = Workshop::open(folder.path()).expect("a workshop");
    let address = wire::serve(w.clone());
    let addresses = [
        "/api/shots".to_string(),
        format!("/api/shots/{shot}"),
        format!("/api/shots/{shot}/proofs"),
        format!("/api/shots/{shot}/proofs?before=1500"),
        format!("/api/shots/{shot}/revisions"),
        format!("/api/shots/{shot}/regions"),
        "/api/finals".into(),
        "/api/finals?ended=true&most=30".into(),
        "/api/finals?ended=true&skip=9000&most=30".into(),
        "/api/bin".into(),
        "/api/settings".into(),
        "/api/partials".into(),
        "/api/scenes".into(),
        "/api/knobs".into(),
        format!("/api/proofs/{proof}/thumb.png"),
        "/api/finals/1/files/thumb.png".into(),
        "/".into(),
    ];
    let times: Mutex<BTreeMap<String, (u64, Vec<f64>)>> = Mutex::default();
    let (over, tests, heard) = (AtomicBool::new(false), AtomicUsize::new(0), AtomicUsize::new(0));
    let began = Instant::now();
    println!("memory at the start: {:.0} MB", resident() / 1e6);
    std::thread::scope(|s| {
        for page in 0..pages {
            let (times, over, addresses, heard) = (&times, &over, &addresses, &heard);
            s.spawn(move || heard.fetch_add(listen(address, over).expect("events"), Ordering::Relaxed));
            s.spawn(move || {
                let mut wire = Wire::to(address);
                let mut k = page;
                while !over.load(Ordering::Relaxed) {
                    let path = &addresses[k % addresses.len()];
                    let clock = Instant::now();
                    let (status, body) = wire.ask("GET", path, "").expect("an answer");
                    let ms = clock.elapsed().as_secs_f64() * 1e3;
                    assert_eq!(status, 200, "{path}");
                    let mut times = times.lock().expect("a list");
                    let of = times.entry(path.clone()).or_default();
                    of.0 = of.0.max(body.len() as u64);
                    of.1.push(ms);
                    drop(times);
                    k += 7;
                    std::thread::sleep(PAUSE);
                }
            });
        }
        let w = w.clone();
        let (over, tests) = (&over, &tests);
        s.spawn(move || {
            while renders && !over.load(Ordering::Relaxed) {
                w.start_test(shot, &NewTest::default()).expect("a test");
                w.wait_for_test();
                tests.fetch_add(1, Ordering::Relaxed);
            }
        });
        let mut minute = 0;
        while began.elapsed().as_secs() < seconds {
            std::thread::sleep(Duration::from_millis(200));
            if began.elapsed().as_secs() / 60 > minute {
                minute += 1;
                println!("memory after {minute} min: {:.0} MB", resident() / 1e6);
            }
        }
        over.store(true, Ordering::Relaxed);
    });
    println!(
        "{pages} pages, {} tests, {:.1} MB of events heard; memory at the end {:.0} MB",
        tests.load(Ordering::Relaxed),
        heard.load(Ordering::Relaxed) as f64 / 1e6,
        resident() / 1e6
    );
    println!("{:<44} {:>8} {:>8} {:>8} {:>8} {:>8}", "address", "requests", "KB", "median", "99 %", "longest");
    let row = |path: &str, (bytes, mut ms): (u64, Vec<f64>)| {
        ms.sort_by(f64::total_cmp);
        let at = |share: f64| ms[((ms.len() - 1) as f64 * share) as usize];
        let kb = bytes as f64 / 1e3;
        println!("{path:<44} {:>8} {kb:>8.1} {:>8.1} {:>8.1} {:>8.1} ms", ms.len(), at(0.5), at(0.99), at(1.0));
    };
    let times = times.into_inner().expect("the times");
    let all: Vec<f64> = times.values().flat_map(|(_, ms)| ms).copied().collect();
    times.into_iter().for_each(|(path, of)| row(&path, of));
    row("all", (0, all));
}
