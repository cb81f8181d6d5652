//! The whole way of the job in a real browser, by mouse and keyboard: from a shot to the downloaded file.

use browser_tests::Page;
use fantoccini::Locator;
use fantoccini::key::Key;
use serde_json::json;
use workshop::DemoSize;

const PHASE: &str = "document.querySelector('[data-testid=testbar]').dataset.phase";

impl Way {
    async fn ended(&self) {
        let over = format!("return ['done','stopped'].includes({PHASE}) && !document.querySelector('.proof-wait')");
        self.0.until("the end of the test", &over).await;
        // The phase may still be that of the test before.
        let none_runs = "return fetch('/api/shots').then(r => r.json()).then(s => fetch(`/api/shots/${s.at(-1).id}/proofs`)) \
             .then(r => r.json()).then(all => all.list.every(p => p.state !== 'running'))";
        self.0.until("the end of all tests", none_runs).await;
    }

    async fn tuning(&self, id: &str) -> serde_json::Value {
        self.0
            .script(&format!("return fetch('/api/shots').then(r => r.json()).then(s => s.at(-1).tuning['{id}'])"))
            .await
    }

    async fn count(&self, css: &str) -> usize {
        self.0.client.find_all(Locator::Css(css)).await.unwrap().len()
    }

    async fn text(&self, css: &str) -> String {
        self.0.see(css).await.text().await.unwrap()
    }
}

struct Way(Page);

#[tokio::test(flavor = "multi_thread")]
async fn from_shot_to_downloaded_file() {
    let data = tempfile::tempdir().unwrap();
    let way = Way(Page::open(data.path(), DemoSize::Small).await);
    let page = &way.0;

    // The first screen shows the work: three shots with pictures.
    page.until(
        "pictures of the shots",
        "return [...document.querySelectorAll('[data-testid=shot] img')].filter(i => i.naturalWidth > 0).length === 3",
    )
    .await;
    page.press("Open Eyepiece desk").await;
    page.until("the picture of a proof", "return document.querySelector('[data-testid=stage]')?.dataset.shows > ''")
        .await;
    assert!(way.text("[data-testid=bill]").await.contains("Final "), "a forecast stands at the top from the start");
    let proofs = way.count("[data-proof]").await;

    // Drag a region, change knobs, test it: it is seen coarse at once and then ends.
    page.drag((0.40, 0.30), (0.62, 0.60)).await;
    page.named("Region width").await;
    page.set("Least samples", "2*2").await;
    page.until(
        "change 1",
        "return fetch('/api/shots').then(r => r.json()).then(s => s.at(-1).tuning['sampling.least'] === 4)",
    )
    .await;
    page.set("Most samples", "8").await;
    page.until(
        "change 2",
        "return fetch('/api/shots').then(r => r.json()).then(s => s.at(-1).tuning['sampling.most'] === 8)",
    )
    .await;
    page.press("Test region").await;
    way.ended().await;
    page.until("the new proof", &format!("return document.querySelectorAll('[data-proof]').length === {}", proofs + 1))
        .await;
    page.press("Pull proof").await;
    page.named("Proof kept").await;

    // Grain map with legend, value under the pointer, sample map.
    page.press("Grain").await;
    page.until("the grain map", "return document.querySelector('[data-testid=stage]').dataset.layer === 'grain'").await;
    assert!(way.text("[data-testid=legend]").await.contains("threshold"));
    page.drag((0.5, 0.45), (0.5, 0.45)).await;
    page.drag((0.51, 0.45), (0.51, 0.45)).await;
    page.until(
        "the readout",
        "return /grain/.test(document.querySelector('[data-testid=readout]')?.textContent ?? '')",
    )
    .await;
    page.press("Samples").await;
    page.until("the sample map", "return document.querySelector('[data-testid=stage]').dataset.layer === 'samples'")
        .await;
    page.press("Picture").await;

    // Other samples, threshold and depth; undo and redo by keyboard; test again.
    page.set("Noise threshold", "5").await;
    page.set("Most samples", "24").await;
    page.set("All bounces", "3").await;
    page.until(
        "three changes",
        "return fetch('/api/shots').then(r => r.json()).then(s => s.at(-1).tuning['depth.total'] === 3)",
    )
    .await;
    page.press("Undo").await;
    page.until(
        "undo",
        "return fetch('/api/shots').then(r => r.json()).then(s => s.at(-1).tuning['depth.total'] === 12)",
    )
    .await;
    page.press("Redo").await;
    page.until(
        "redo",
        "return fetch('/api/shots').then(r => r.json()).then(s => s.at(-1).tuning['depth.total'] === 3)",
    )
    .await;
    assert_eq!(way.tuning("sampling.threshold").await, json!(0.05));
    page.script("document.activeElement.blur(); return true").await;
    page.see("body").await.send_keys("t").await.unwrap();
    page.until(
        "the second test",
        &format!("return document.querySelectorAll('[data-proof]').length === {}", proofs + 2),
    )
    .await;
    way.ended().await;

    // A refused value is explained and changes nothing.
    page.set("Least samples", "500").await;
    page.until(
        "the explanation",
        "return /least samples 500 are more than most samples 24/.test(document.body.textContent)",
    )
    .await;
    assert_eq!(way.tuning("sampling.least").await, json!(4));

    // Compare the two: knobs that differ, time ratio, wipe and flicker.
    page.click("[data-proof]:nth-child(2) [aria-label^='Compare with']").await;
    page.see("[data-testid=time-ratio]").await;
    let against = way.text("[data-testid=against]").await;
    assert!(
        against.contains("Most samples") && against.contains("All bounces") && against.contains("RMSE"),
        "{against}"
    );
    page.press("Flicker").await;
    page.press("Wipe").await;

    // Name and note a proof.
    page.click("[data-proof] [aria-label='Name and note']").await;
    page.named("Name of the proof").await.send_keys(&format!("deeper{}", char::from(Key::Enter))).await.unwrap();
    page.until("the name", "return /deeper/.test(document.querySelector('[data-proof]').textContent)").await;

    // Denoise without rendering: the picture changes, the proofs stay.
    let before = way.count("[data-proof]").await;
    let pixels = "const c = document.querySelector('[data-testid=stage]'); return c.toDataURL().length + ':' + c.toDataURL().slice(-4000)";
    let noisy_or_not = page.script(pixels).await;
    page.tune("s.at(-1).id", json!({ "cleanup.denoise": "none" })).await;
    page.until("another picture", &format!("{pixels} !== {noisy_or_not}")).await;
    assert_eq!(way.count("[data-proof]").await, before);

    // The browser goes away in the middle of a test and comes back: it runs on.
    page.set("Most samples", "4096").await;
    page.set("Noise threshold", "0.1").await;
    page.until(
        "a long test",
        "return fetch('/api/shots').then(r => r.json()).then(s => s.at(-1).tuning['sampling.most'] === 4096)",
    )
    .await;
    page.press("Whole frame").await;
    page.press("Test whole frame").await;
    page.until("sampling", &format!("return {PHASE} === 'sampling'")).await;
    page.client.goto("about:blank").await.unwrap();
    page.client.goto(&page.address).await.unwrap();
    page.press("Open Eyepiece desk").await;
    page.until(
        "the running test",
        &format!("return document.querySelector('[data-testid=testbar]') !== null && {PHASE} === 'sampling'"),
    )
    .await;
    // What is stopped before every pixel has a sample leaves no proof.
    page.says("some samples", "[data-testid=testbar]", r"/(^|[^.\d])([3-9]|\d\d)[.\d]* of 4096 spp/").await;
    page.press("Stop").await;
    way.ended().await;
    let last = "return fetch('/api/shots').then(r => r.json()).then(s => fetch(`/api/shots/${s.at(-1).id}/proofs`)) \
         .then(r => r.json()).then(all => all.list[0].state)";
    assert_eq!(page.script(last).await, "stopped", "it did not run to its end");

    // A final: whole frame, checked before it starts, delivered and downloaded.
    page.set("Most samples", "6").await;
    page.until(
        "few samples",
        "return fetch('/api/shots').then(r => r.json()).then(s => s.at(-1).tuning['sampling.most'] === 6)",
    )
    .await;
    page.press("Start final").await;
    page.until(
        "the check before the start",
        "const c = document.querySelector('.ant-modal .checks'); \
         return /Desk, close/.test(c?.innerText ?? '') && /whole frame/.test(c.innerText)",
    )
    .await;
    page.click(".ant-modal-footer .ant-btn-primary").await;
    page.until(
        "the delivery",
        "return document.querySelectorAll('[data-testid=final][data-state=delivered]').length === 2",
    )
    .await;
    let files = page
        .script("return Promise.all([...document.querySelectorAll('.file a')].filter(a => !a.download.endsWith('.json')).map(a => fetch(a.href).then(r => r.arrayBuffer()).then(b => [a.download, [...new Uint8Array(b.slice(0, 4))]])))")
        .await;
    let heads: Vec<(bool, bool)> = files
        .as_array()
        .unwrap()
        .iter()
        .map(|f| {
            (
                f[0].as_str().unwrap().ends_with(".png"),
                f[1] == json!([0x89, 0x50, 0x4e, 0x47]) || f[1] == json!([0x76, 0x2f, 0x31, 0x01]),
            )
        })
        .collect();
    assert_eq!(heads, [(true, true), (false, true)], "{files}");

    // Nothing was asked from elsewhere.
    page.stayed_here().await;
    page.client.clone().close().await.unwrap();
}
