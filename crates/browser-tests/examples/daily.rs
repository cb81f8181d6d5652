//! How quick the daily loop is, in the real page: `./run bench loop`. Times run from the press to the frame in which the new
//! picture is drawn, in headless Chromium on this machine, browser and renderer side by side. Medians of several runs.

use browser_tests::Page;
use serde_json::json;
use std::time::{Duration, Instant};
use workshop::DemoSize;

const RUNS: usize = 7;

fn median(mut v: Vec<f64>) -> f64 {
    v.sort_by(f64::total_cmp);
    v[v.len() / 2]
}

/// Does something in the page and measures until the stage shows another proof than before, in milliseconds.
async fn until_picture(page: &Page, action: &str) -> f64 {
    let code = format!(
        "const stage = document.querySelector('[data-testid=stage]'); const before = stage.dataset.shows; \
         window.took = null; const began = performance.now(); \
         const look = () => {{ \
           if (stage.dataset.shows !== before && stage.dataset.shows !== '') window.took = performance.now() - began; \
           else requestAnimationFrame(look); }}; \
         requestAnimationFrame(look); {action}; return true"
    );
    page.script(&code).await;
    page.until("a picture", "return window.took !== null").await;
    page.script("return window.took").await.as_f64().unwrap_or(f64::NAN)
}

async fn settle() {
    tokio::time::sleep(Duration::from_millis(1500)).await;
}

/// Frames a second that the page draws while `action` is repeated in each of them.
async fn frames(page: &Page, action: &str) -> f64 {
    let code = format!(
        "window.rate = null; let n = 0; const from = performance.now(); \
         const step = () => {{ n++; const t = performance.now() - from; {action}; \
           if (t > 3000) window.rate = n / t * 1000; else requestAnimationFrame(step); }}; requestAnimationFrame(step); return true"
    );
    page.script(&code).await;
    page.until("frames", "return window.rate !== null").await;
    page.script("return window.rate").await.as_f64().unwrap_or(f64::NAN)
}

const TEST: &str = "document.querySelector('.testbar .main-action').click()";
/// Types a value into a field as a person would, and presses Enter.
const TURN: &str = "const f = document.querySelector('[aria-label=\"All bounces\"]'); f.focus(); \
    Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(f, String(VALUE)); \
    f.dispatchEvent(new Event('input', {bubbles: true})); \
    setTimeout(() => f.dispatchEvent(new KeyboardEvent('keydown', {key: 'Enter', bubbles: true})), 0)";
/// Moves the wipe to and fro.
const WIPE: &str = "const c = document.querySelector('[data-testid=stage]'); const r = c.getBoundingClientRect(); \
    const x = r.x + r.width * (0.5 + 0.2 * Math.sin(t / 300)); \
    c.dispatchEvent(new PointerEvent('pointermove', {clientX: x, clientY: r.y + r.height / 2, bubbles: true, pointerId: 1}))";

fn resident_mb() -> f64 {
    let text = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    text.split_whitespace().nth(1).and_then(|p| p.parse::<f64>().ok()).unwrap_or(f64::NAN) * 4096.0 / 1e6
}

#[tokio::main]
async fn main() {
    let data = tempfile::tempdir().expect("a folder");
    let page = Page::open(data.path(), DemoSize::Small).await;
    println!("960×540, whole frame, threads {}; medians of {RUNS}, milliseconds", tracer::cores());
    for name in ["Lens cabinet", "Dome hall", "Eyepiece desk"] {
        page.client.goto(&page.address).await.expect("the page");
        page.press(&format!("Open {name}")).await;
        page.until("a picture", "return document.querySelector('[data-testid=stage]')?.dataset.shows > ''").await;
        let path = page.script("return location.pathname").await;
        let shot: i64 = path.as_str().and_then(|p| p.rsplit('/').next()).and_then(|n| n.parse().ok()).expect("a shot");
        let size =
            json!({ "frame.width": 960, "frame.height": 540, "sampling.most": 4096, "sampling.threshold": 0.0005 });
        page.tune(&shot.to_string(), size).await;
        settle().await;
        // The first one gets the scene ready.
        until_picture(&page, TEST).await;
        settle().await;
        let (mut first, mut turned) = (Vec::new(), Vec::new());
        for _ in 0..RUNS {
            first.push(until_picture(&page, TEST).await);
            settle().await;
        }
        page.key("l").await;
        for i in 0..RUNS {
            turned.push(until_picture(&page, &TURN.replace("VALUE", &(8 + i % 2).to_string())).await);
            settle().await;
        }
        page.key("l").await;
        println!(
            "{name:<14} Test to first picture {:>4.0}   knob in live mode to picture {:>4.0}",
            median(first),
            median(turned)
        );
        if name == "Lens cabinet" {
            page.press("Stop").await;
            settle().await;
            page.tune(&shot.to_string(), json!({ "sampling.most": 512, "sampling.threshold": 0.02 })).await;
            page.script(TEST).await;
            settle().await;
            let plain = frames(&page, "").await;
            page.key("c").await;
            settle().await;
            let b = "const c = document.querySelector('[data-testid=stage]'); const r = c.getBoundingClientRect(); \
                     c.setPointerCapture = () => {}; \
                     c.dispatchEvent(new PointerEvent('pointerdown', {clientX: r.x + r.width / 2, clientY: r.y + r.height / 2, bubbles: true, pointerId: 1, button: 0})); return true";
            page.script(b).await;
            let wiping = frames(&page, WIPE).await;
            println!("frames a second while a test runs: {plain:.0} idle, {wiping:.0} wiping");
            page.press("Stop").await;
        }
    }
    // Thirty tests in a row, as fast as they go.
    let shot = page.workshop.shots().expect("shots").first().expect("a shot").id;
    let values = json!({ "frame.width": 320, "frame.height": 200, "sampling.most": 8, "sampling.least": 8, "cleanup.denoise": "quick" });
    page.tune(&shot.to_string(), values).await;
    let workshop = page.workshop.clone();
    let lines = tokio::task::spawn_blocking(move || {
        workshop.stop_test();
        let mut lines = Vec::new();
        for ten in 0..3 {
            let began = Instant::now();
            for _ in 0..10 {
                workshop.start_test(shot, &workshop::NewTest::default()).expect("a test");
                workshop.wait_for_test();
            }
            lines.push(format!(
                "tests {:>2} to {:>2}: {:.2} s, {:.0} MB resident",
                10 * ten + 1,
                10 * ten + 10,
                began.elapsed().as_secs_f64(),
                resident_mb()
            ));
        }
        lines
    })
    .await
    .expect("no panic");
    lines.iter().for_each(|l| println!("{l}"));
    page.client.clone().close().await.expect("the browser ends");
}
