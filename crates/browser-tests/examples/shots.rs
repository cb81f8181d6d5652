//! Takes the pictures of `docs/screenshots` from the demo: `./run shots`, or `-- DATA FOLDER` for other places.

use browser_tests::Page;
use picture::Region;
use serde_json::json;
use std::path::PathBuf;
use std::time::Duration;
use workshop::{DemoSize, NewTest, ShotChange, Workshop};

/// A reference of the cabinet's filters and a test of them with short paths, which change the look; their numbers.
fn reference(w: &Workshop) -> (i64, i64) {
    let shots = w.shots().expect("shots");
    let shot = shots.iter().find(|s| s.name == "Lens cabinet").expect("the cabinet");
    let tune = |values: serde_json::Value| {
        let tuning = serde_json::from_value(values).expect("values");
        w.change_shot(shot.id, &ShotChange { tuning, ..Default::default() }).expect("a change");
    };
    let n = |id: &str| shot.tuning[id].as_f64().expect("a number");
    let [x, y, width, height] = w.regions(shot.id).expect("regions")[0].place;
    let (fw, fh) = (n("frame.width"), n("frame.height"));
    let whole = |v: f64| v.round() as u32;
    let region = Region { x: whole(x * fw), y: whole(y * fh), width: whole(width * fw), height: whole(height * fh) };
    // Coarser than the shot asks for, so that it does not take long.
    tune(json!({ "sampling.threshold": 0.4 }));
    let reference = w.make_reference(shot.id, Some(region)).expect("a reference");
    w.wait_for_test();
    let drafts = w.partials().expect("drafts");
    let short = drafts.iter().find(|p| p.name == "Short paths").expect("a shipped draft").id;
    w.set_overlays(shot.id, &[short]).expect("a draft");
    tune(json!({ "sampling.most": 64 }));
    let test = w.start_test(shot.id, &NewTest { region: Some(region), live: false }).expect("a test");
    w.wait_for_test();
    w.set_overlays(shot.id, &[]).expect("no drafts");
    tune(json!({ "sampling.threshold": n("sampling.threshold"), "sampling.most": n("sampling.most") }));
    (reference, test)
}

#[tokio::main]
async fn main() {
    let mut arguments = std::env::args().skip(1).map(PathBuf::from);
    let data = arguments.next().expect("a data folder");
    let to = arguments.next().expect("a folder for the pictures");
    std::fs::create_dir_all(&to).expect("a folder for the pictures");
    let page = Page::open(&data, DemoSize::Full).await;
    let settle = || tokio::time::sleep(Duration::from_millis(900));

    page.see("[data-testid=shot] img").await;
    settle().await;
    page.screenshot(&to.join("shots.png")).await;

    page.press("Open Eyepiece desk").await;
    page.see("[data-testid=sheet] article").await;
    page.until("picture", "return document.querySelector('[data-testid=stage]').dataset.shows !== ''").await;
    page.drag((0.58, 0.36), (0.78, 0.68)).await;
    page.press("Draft Short paths").await;
    settle().await;
    page.press("Test region").await;
    page.look_away().await;
    tokio::time::sleep(Duration::from_secs(12)).await;
    page.screenshot(&to.join("bench.png")).await;
    page.press("Stop").await;
    page.key("d").await;
    page.look_away().await;
    settle().await;

    page.press("Grain").await;
    page.see("[data-testid=legend]").await;
    settle().await;
    page.screenshot(&to.join("grain-map.png")).await;

    page.press("Picture").await;
    page.key("w").await;
    page.press("Show proof 1 · first sketch").await;
    page.press("Causes").await;
    page.see("[data-testid=noise-parts] tbody tr").await;
    page.look_away().await;
    settle().await;
    page.screenshot(&to.join("causes.png")).await;
    page.press("Bounces").await;
    page.see("[data-testid=depth-ledger] tbody tr").await;
    page.look_away().await;
    settle().await;
    page.screenshot(&to.join("bounces.png")).await;
    page.press("Shots").await;
    page.press("Open Dome hall").await;
    page.press("Advice").await;
    page.click("[data-testid=pilot]").await;
    page.see("[data-testid=advice-work]").await;
    page.until("the trials' end", "return document.querySelector('[data-testid=advice-work]') === null").await;
    page.see(".causes").await;
    page.look_away().await;
    settle().await;
    page.screenshot(&to.join("advice.png")).await;
    page.press("Shots").await;
    page.press("Open Eyepiece desk").await;
    page.press("Show proof 1 · first sketch").await;
    page.press("Compare with proof 2").await;
    page.press("Show proof 3 · lens foot").await;
    page.see("[data-testid=time-ratio]").await;
    settle().await;
    page.screenshot(&to.join("compare.png")).await;
    page.press("end comparing").await;

    let w = page.workshop.clone();
    let (reference, test) = tokio::task::spawn_blocking(move || reference(&w)).await.expect("no panic");
    page.press("Shots").await;
    page.press("Open Lens cabinet").await;
    page.click(&format!("[data-proof='{test}'] .proof-picture")).await;
    page.click(&format!("[data-proof='{reference}'] [aria-label^='More on proof']")).await;
    page.press("Measure proofs against it").await;
    page.press("Look change").await;
    page.see("[data-testid=look-words]").await;
    page.look_away().await;
    settle().await;
    settle().await;
    page.screenshot(&to.join("look-change.png")).await;

    page.key("u").await;
    page.press("Careful").await;
    page.press("Noisy | clean").await;
    page.see("[data-testid=clean-up]").await;
    page.look_away().await;
    tokio::time::sleep(Duration::from_secs(12)).await;
    page.screenshot(&to.join("clean-up.png")).await;
    page.press("Noisy | clean").await;
    page.press("None").await;
    page.look_away().await;
    page.press("Proofs").await;

    page.press("Pilot").await;
    page.until(
        "the pilot's end",
        "const shot = location.pathname.split('/').pop(); \
         return fetch(`/api/shots/${shot}/proofs`).then(r => r.json()).then(p => p.list[0].kind === 'pilot' && p.list[0].state !== 'running')",
    )
    .await;
    settle().await;
    page.press("Fit …").await;
    page.see("[data-testid=fit-curve]").await;
    settle().await;
    page.screenshot(&to.join("fit.png")).await;
    page.press("Leave as it is").await;
    settle().await;
    page.press("Start final").await;
    page.see("[data-testid=check-disk]").await;
    settle().await;
    page.screenshot(&to.join("final-check.png")).await;
    page.press("Hold the time").await;
    page.click(".ant-modal-footer .ant-btn-primary").await;
    // It takes its budget.
    for _ in 0..700 {
        let delivered = "return document.querySelectorAll('[data-testid=final][data-state=delivered]').length === 2";
        if page.script(delivered).await == serde_json::json!(true) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    settle().await;
    page.screenshot(&to.join("finals.png")).await;

    page.press("Library").await;
    page.see("[data-partial]").await;
    settle().await;
    page.screenshot(&to.join("library.png")).await;

    page.client.clone().close().await.expect("the browser ends");
}
