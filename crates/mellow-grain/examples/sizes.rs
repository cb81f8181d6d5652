//! `./run bench sizes`: what a person waits for at real sizes, through the HTTP interface, while a test of the whole frame renders on
//! all processors: milliseconds of one answer. `SIZE=1920` asks for one size alone.
//!
//! The scene is rendered without bounces, so that every pixel soon has samples: what is measured depends on the size of the film.

mod wire;

use serde_json::{Value, json};
use std::net::SocketAddr;
use std::time::{Duration, Instant};
use wire::{Wire, resident};
use workshop::{DemoSize, Workshop};

const SIZES: [(u32, u32); 3] = [(720, 450), (1920, 1080), (3840, 2160)];

struct Bench {
    address: SocketAddr,
    rows: Vec<(String, Vec<String>)>,
}

impl Bench {
    /// Asks on a new connection, since the server closes those that rest.
    fn ask(&self, method: &str, path: &str, body: &Value) -> (u16, Vec<u8>) {
        Wire::to(self.address).ask(method, path, &body.to_string()).expect("an answer")
    }

    /// Asks, and notes the time under a name, with the status where it was refused.
    fn time(&mut self, name: &str, method: &str, path: &str, body: &Value) {
        let clock = Instant::now();
        let status = self.ask(method, path, body).0;
        let took = 1e3 * clock.elapsed().as_secs_f64();
        self.note(name, &if status == 200 { format!("{took:.0}") } else { format!("{status}: {took:.0}") });
    }

    fn note(&mut self, name: &str, text: &str) {
        eprintln!("{name}: {text}");
        match self.rows.iter_mut().find(|r| r.0 == name) {
            Some(row) => row.1.push(text.into()),
            None => self.rows.push((name.into(), vec![text.into()])),
        }
    }

    fn json(&self, method: &str, path: &str, body: &Value) -> Value {
        let (status, bytes) = self.ask(method, path, body);
        assert_eq!(status, 200, "{method} {path}: {}", String::from_utf8_lossy(&bytes));
        serde_json::from_slice(&bytes).unwrap_or(Value::Null)
    }
}

fn main() {
    let only = std::env::var("SIZE").ok().and_then(|v| v.parse::<u32>().ok());
    let folder = tempfile::tempdir().expect("a folder");
    let w = Workshop::open(folder.path()).expect("a workshop");
    w.prepare_demo(DemoSize::Small, &mut |_| {}).expect("the demo");
    let shot = w.shots().expect("shots").iter().find(|s| s.name == "Lens cabinet").expect("a shot").id;
    let mut b = Bench { address: wire::serve(w.clone()), rows: Vec::new() };
    let get = json!({});
    let sizes: Vec<(u32, u32)> = SIZES.into_iter().filter(|s| only.is_none_or(|only| only == s.0)).collect();
    for (width, height) in &sizes {
        let tuning = json!({
            "frame.width": width, "frame.height": height, "sampling.least": 64, "sampling.most": 256, "depth.total": 1,
            "split.direct": 1, "delivery.parts": true,
        });
        b.json("PATCH", &format!("/api/shots/{shot}"), &json!({ "tuning": tuning }));
        let clock = Instant::now();
        let proof = b.json("POST", &format!("/api/shots/{shot}/tests"), &json!({}))["id"].as_i64().expect("a proof");
        b.note("start of a test", &format!("{:.0}", 1e3 * clock.elapsed().as_secs_f64()));
        let of = |what: &str| format!("/api/proofs/{proof}/{what}");
        b.ask("GET", &of("picture?layer=picture"), &get);
        b.note("its first picture", &format!("{:.0}", 1e3 * clock.elapsed().as_secs_f64()));
        // Until every pixel has samples.
        while w.test_progress().is_some_and(|e| {
            serde_json::to_value(&e).expect("JSON")["progress"]["samples_per_pixel"].as_f64() < Some(6.0)
        }) {
            std::thread::sleep(Duration::from_millis(50));
        }
        b.note("six samples a pixel after s", &format!("{:.0}", clock.elapsed().as_secs_f64()));
        for layer in ["picture", "grain", "samples", "albedo", "depth"] {
            b.time(&format!("{layer} while rendering"), "GET", &of(&format!("picture?layer={layer}")), &get);
        }
        b.time("legends while rendering", "GET", &of("legends"), &get);
        b.time("pointer while rendering", "GET", &of("pixel?x=100&y=100"), &get);
        b.time("ledger while rendering", "GET", &of("ledger"), &get);
        b.time("forecast", "GET", &format!("/api/shots/{shot}/forecast"), &get);
        b.time("prices", "GET", &format!("/api/shots/{shot}/prices"), &get);
        let fit = json!({ "seconds": 600.0 });
        b.time("fit", "POST", &format!("/api/shots/{shot}/fit"), &fit);
        b.note("memory GB", &format!("{:.2}", resident() / 1e9));
        b.time("stop", "DELETE", "/api/test", &get);
        let ended = Instant::now();
        b.time("picture after stop", "GET", &of("picture?layer=picture"), &get);
        w.wait_for_test();
        b.note("on disk after", &format!("{:.0}", 1e3 * ended.elapsed().as_secs_f64()));
        for layer in ["picture", "grain", "samples"] {
            b.time(&format!("{layer} of the ended test"), "GET", &of(&format!("picture?layer={layer}")), &get);
        }
        b.time("legends of the ended test", "GET", &of("legends"), &get);
        b.time("pointer on the ended test", "GET", &of("pixel?x=100&y=100"), &get);
        b.time("ledger", "GET", &of("ledger"), &get);
        b.time("advice", "GET", &of("advice"), &get);
        b.time("advice again", "GET", &of("advice"), &get);
        b.time("forecast from it", "GET", &format!("/api/shots/{shot}/forecast"), &get);
        b.time("prices from it", "GET", &format!("/api/shots/{shot}/prices"), &get);
        b.time("fit from it", "POST", &format!("/api/shots/{shot}/fit"), &fit);
        b.time("clean-up leaf, no denoiser", "GET", &of("clean-up"), &get);
        b.time("clean-up leaf, quick", "GET", &of("clean-up?denoise=quick"), &get);
        b.time("picture, quick", "GET", &of("picture?layer=picture&denoise=quick"), &get);
        b.note("memory GB in the end", &format!("{:.2}", resident() / 1e9));
    }
    println!(
        "{:<30}{}",
        "milliseconds",
        sizes.iter().map(|(w, h)| format!("{:>12}", format!("{w}×{h}"))).collect::<String>()
    );
    for (name, values) in &b.rows {
        println!("{name:<30}{}", values.iter().map(|v| format!("{v:>12}")).collect::<String>());
    }
}
