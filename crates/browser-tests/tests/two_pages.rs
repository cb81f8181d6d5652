//! Two pages on one bench: each says what it did to the other's test; a final is watched from one while the other
//! works; its top-up is a second delivery beside the first.

use browser_tests::Page;
use serde_json::json;
use workshop::DemoSize;

const SHOTS: &str = "fetch('/api/shots').then(r => r.json())";

/// The number of the shot of this name.
async fn shot(page: &Page, name: &str) -> String {
    page.script(&format!("return {SHOTS}.then(all => all.find(s => s.name === '{name}').id)")).await.to_string()
}

/// Notices go after some seconds: what this page says is kept from now on.
async fn listen(page: &Page) {
    let code = "window.told = ''; new MutationObserver(all => all.forEach(m => m.addedNodes.forEach(n => \
                window.told += n.textContent))).observe(document.body, { childList: true, subtree: true }); return true";
    page.script(code).await;
}

async fn told(page: &Page, text: &str) {
    page.until(text, &format!("return window.told.includes('{text}')")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_one_page_does_the_other_tells() {
    let data = tempfile::tempdir().unwrap();
    let page = Page::open(data.path(), DemoSize::Small).await;
    let [desk, cabinet] = [shot(&page, "Eyepiece desk").await, shot(&page, "Lens cabinet").await];
    let long = json!({ "sampling.most": 4096, "sampling.threshold": 0.001, "frame.width": 320, "frame.height": 200 });
    page.tune(&desk, long.clone()).await;
    page.tune(&cabinet, long).await;

    let first = page.client.window().await.unwrap();
    listen(&page).await;
    page.press("Open Eyepiece desk").await;
    page.press("Test whole frame").await;
    page.says("the test of the first page", "[data-testid=testbar]", "/%([4-9].\\d|\\d\\d+) of 4096 spp/").await;

    let second = page.client.new_window(true).await.unwrap().handle;
    page.client.switch_to_window(second.clone()).await.unwrap();
    page.client.goto(&page.address).await.unwrap();
    listen(&page).await;
    page.press("Open Lens cabinet").await;
    page.press("Test whole frame").await;
    told(&page, "Your test has stopped a test of “Eyepiece desk” that was not begun on this page").await;
    page.client.switch_to_window(first.clone()).await.unwrap();
    told(&page, "Your test of “Eyepiece desk” was stopped: a test of “Lens cabinet” began").await;
    let state = format!("return fetch('/api/shots/{desk}/proofs').then(r => r.json()).then(p => p.list[0].state");
    page.until("the first test stopped, not lost", &format!("{state} === 'stopped')")).await;

    // The second page begins a final that holds a time; the first watches it.
    page.client.switch_to_window(second.clone()).await.unwrap();
    page.press("Stop").await;
    page.set("Budget in minutes", "0.2").await;
    page.until("the budget", &format!("return {SHOTS}.then(all => all.find(s => s.id === {cabinet}).budget === 12)"))
        .await;
    page.press("Start final").await;
    page.until("the dialog stands", "return !document.querySelector('.ant-zoom-enter, .ant-zoom-appear')").await;
    page.click(".order .ant-radio-wrapper:nth-child(2)").await;
    page.click(".ant-modal-footer .ant-btn-primary").await;
    page.client.switch_to_window(first).await.unwrap();
    page.press("Finals").await;
    let shown = "const i = document.querySelector('.final-spot [data-testid=final-now]')";
    page.until("a picture while it renders", &format!("{shown}; return i !== null && i.naturalWidth > 0")).await;
    let address = page.script(&format!("{shown}; return i.src")).await;
    page.until(
        "another picture, or the delivery",
        &format!("{shown}; return i === null || (i.src !== {address} && i.naturalWidth > 0)"),
    )
    .await;
    let delivered = format!(
        "fetch('/api/finals?ended=true').then(r => r.json()).then(all => all.list.find(f => f.shot === {cabinet} && f.policy === 'time' && f.state === 'delivered'))"
    );
    page.until("the delivery", &format!("return {delivered}.then(f => f !== undefined)")).await;
    page.says("the row tells of the delivery", "[data-state=delivered]", "/(within|inside|over) budget/").await;
    let before =
        page.script(&format!("return {delivered}.then(f => [f.report.total, f.files.map(x => x.name)])")).await;

    // A top-up leaves the files of the first delivery as they are and counts the seconds of both.
    let id = page.script(&format!("return {delivered}.then(f => f.id)")).await;
    let bytes = |name: &str| {
        format!(
            "return fetch('/api/finals/{id}/files/{name}').then(r => r.ok ? r.arrayBuffer() : new ArrayBuffer(0)) \
             .then(b => crypto.subtle.digest('SHA-256', b)).then(d => [...new Uint8Array(d)].join(' '))"
        )
    };
    let names: Vec<String> = serde_json::from_value(before[1].clone()).unwrap();
    let exr = names.iter().find(|n| n.ends_with(".exr")).unwrap().clone();
    let print = page.script(&bytes(&exr)).await;
    page.until(
        "a marked spot",
        "const b = document.querySelector('[data-testid=final-picture]'); if (!b) return false; const r = b.getBoundingClientRect();
         const at = (type, x, y) => b.dispatchEvent(new PointerEvent(type, { bubbles: true, pointerId: 1, clientX: r.x + x * r.width, clientY: r.y + y * r.height }));
         b.setPointerCapture = () => {};
         at('pointerdown', 0.3, 0.3); at('pointermove', 0.6, 0.6); at('pointerup', 0.6, 0.6);
         return document.querySelector('.top-up') !== null",
    )
    .await;
    page.set("Seconds of the top-up", "2").await;
    page.press("Top up").await;
    page.until("the second delivery", &format!("return {delivered}.then(f => f?.report.earlier.length === 1)")).await;
    let after = page
        .script(&format!("return {delivered}.then(f => [f.files.map(x => x.name), f.report.spent, f.report.total, f.report.earlier[0]])"))
        .await;
    let names: Vec<String> = serde_json::from_value(after[0].clone()).unwrap();
    let version_2 = exr.replace(".exr", "_v2.exr");
    assert!(names.contains(&exr) && names.contains(&version_2), "{names:?}");
    assert_eq!(page.script(&bytes(&exr)).await, print, "the first delivery stays as it was");
    assert_ne!(page.script(&bytes(&version_2)).await, print);
    let (spent, total) = (after[1].as_f64().unwrap(), after[2].as_f64().unwrap());
    assert!((spent - total - before[0].as_f64().unwrap()).abs() < 0.05, "{after} after {before}");
    page.says("both in the row", "[data-state=delivered]", "/budget, 2 deliveries/").await;
    page.stayed_here().await;
    page.client.clone().close().await.unwrap();
}
