//! From a pilot by way of a fit to a delivered frame, topped up, in a real browser.

use browser_tests::Page;
use serde_json::json;
use workshop::DemoSize;

/// A press on a dialog that still grows can miss.
async fn stands(page: &Page) {
    page.until("the dialog stands", "return !document.querySelector('.ant-zoom-enter, .ant-zoom-appear')").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn from_a_pilot_and_a_fit_to_the_delivered_file() {
    let data = tempfile::tempdir().unwrap();
    let page = Page::open(data.path(), DemoSize::Small).await;
    page.press("Open Lens cabinet").await;
    page.see("[data-testid=sheet] article").await;
    for (label, value) in [("Width", "160"), ("Height", "100"), ("Least samples", "16"), ("Most samples", "32")] {
        page.set(label, value).await;
    }
    let shot = page.script("return location.pathname.split('/').pop()").await;
    let shot = shot.as_str().unwrap();
    let tuning = |what: &str| {
        format!(
            "return fetch('/api/shots').then(r => r.json()).then(all => {{ const s = all.find(s => s.id === {shot}); return {what}; }})"
        )
    };
    page.until("the sizes", &tuning("s.tuning['sampling.most'] === 32 && s.tuning['frame.height'] === 100")).await;

    // A pilot: the bill rests on it.
    page.press("Pilot").await;
    let proofs = format!("fetch('/api/shots/{shot}/proofs').then(r => r.json())");
    page.until(
        "the end of the pilot",
        &format!("return {proofs}.then(p => p.list[0].kind === 'pilot' && p.list[0].state === 'done')"),
    )
    .await;
    // On a slow machine it saw little, and the bill names what else it rests on as well.
    let number = page.script(&format!("return {proofs}.then(p => p.list[0].number)")).await;
    page.says("the forecast of the pilot", "[data-testid=bill]", &format!("/proof {number}/")).await;

    // Without the denoiser the pilot is judged anew from its halves, and a fit that may use one says what it brings.
    page.tune(shot, json!({ "cleanup.denoise": "none" })).await;
    page.until(
        "the pilot judged anew",
        &format!("return fetch('/api/shots/{shot}/forecast').then(r => r.json()).then(f => f.judged_anew && f.forecast.needs_test.length === 0)"),
    )
    .await;
    page.press("Fit …").await;
    stands(&page).await;
    page.press("allow a denoiser").await;
    page.says("what a denoiser brings", "[data-key=\"cleanup.denoise\"]", "/quick denoiser[^]*−[\\d.]+ %/").await;
    page.press("Leave as it is").await;
    page.until("the dialog gone", "return document.querySelector('.ant-modal-wrap:not([style*=none])') === null").await;
    page.tune(shot, json!({ "cleanup.denoise": "quick" })).await;
    page.until("the quick one", &tuning("s.tuning['cleanup.denoise'] === 'quick'")).await;

    // The other way round: how long a threshold takes. Then what the minutes buy; one line is refused.
    page.press("Fit …").await;
    stands(&page).await;
    page.press("I want a threshold").await;
    page.says("the time for a threshold", ".fit-verdict", "/needed .* for a threshold of/").await;
    page.press("I have minutes").await;
    page.says("the fit", ".fit-verdict", "/of the picture at/").await;
    page.see("[data-testid=fit-curve]").await;
    page.says("what the lines make together", "[data-testid=fit-together]", "/together[^]*\\d+:\\d\\d/").await;
    // Minutes that are not enough: a press on what would help shows the fit with it.
    let minutes = page.script("return document.querySelector('input[aria-label=Minutes]').value").await;
    page.set("Minutes", "0.05").await;
    page.says("what would help", ".fit-ways", "/more for a threshold of 2.00 %/").await;
    page.click(".fit-ways button").await;
    page.says("the fit with more minutes", ".fit-verdict", "/at 2.00 % or below/").await;
    page.set("Minutes", minutes.as_str().unwrap()).await;
    page.click("[data-key=\"sampling.most\"] input").await;
    page.until(
        "a line refused",
        "return [...document.querySelectorAll('[data-testid=fit-row] input')].some(i => !i.checked)",
    )
    .await;
    page.click(".ant-modal-footer .ant-btn-primary").await;
    page.until(
        "the fitted threshold",
        &tuning("s.tuning['sampling.threshold'] !== 0.02 && s.tuning['sampling.most'] === 32"),
    )
    .await;

    // With mattes, under names of our own: what is no name is refused in the check.
    page.click("[data-knob='delivery.mattes'] button[role=switch]").await;
    page.until("mattes", &tuning("s.tuning['delivery.mattes'] === true")).await;
    page.press("Start final").await;
    stands(&page).await;
    page.says("the checks", "[data-testid=checks]", "/camera[^]*Front[^]*memory[^]*disk/").await;
    page.set("File names", "lens_{frame}").await;
    page.says("a name refused", "[data-testid=check-names]", "/frame. is for numbered series/").await;
    page.set("File names", "lens_{final:2}").await;
    page.says("the name", "[data-testid=check-names]", "/lens_0\\d/").await;
    page.click(".ant-modal-footer .ant-btn-primary").await;
    page.until(
        "the delivery",
        "return document.querySelectorAll('[data-testid=final][data-state=delivered]').length === 2",
    )
    .await;
    page.says(
        "foretold against actual",
        "[data-testid=final-report]",
        "/foretold[^]*Sampling[^]*There before[^]*were there from tests/",
    )
    .await;

    // A spot is marked on the picture and topped up for a moment: the file is written anew.
    let ended =
        "return fetch('/api/finals?ended=true').then(r => r.json()).then(all => Math.max(...all.list.map(f => f.id)))";
    let id = page.script(ended).await;
    let samples = format!("fetch('/api/finals/{id}').then(r => r.json())");
    let before = page.script(&format!("return {samples}.then(f => f.report.render.samples)")).await;
    page.until(
        "a marked spot",
        "const b = document.querySelector('[data-testid=final-picture]'); const r = b.getBoundingClientRect();
         const at = (type, x, y) => b.dispatchEvent(new PointerEvent(type, { bubbles: true, pointerId: 1, clientX: r.x + x * r.width, clientY: r.y + y * r.height }));
         b.setPointerCapture = () => {};
         at('pointerdown', 0.3, 0.3); at('pointermove', 0.6, 0.6); at('pointerup', 0.6, 0.6);
         return document.querySelector('.top-up') !== null",
    )
    .await;
    page.set("Seconds of the top-up", "1").await;
    page.press("Top up").await;
    page.until(
        "the top-up",
        &format!("return {samples}.then(f => f.state === 'delivered' && f.report.render.samples > {before})"),
    )
    .await;

    // Rendered again after its plan, the file is the same, byte for byte, under a name of its own.
    page.press("Render again").await;
    let both = format!(
        "return fetch('/api/finals?ended=true').then(r => r.json()).then(all => {{ \
         const [a, b] = [all.list.find(f => f.id === {id}), all.list.find(f => f.planned && f.state === 'delivered')]; \
         const bytes = f => fetch(`/api/finals/${{f.id}}/files/${{f.files.find(x => x.name.endsWith('.exr')).name}}`).then(r => r.arrayBuffer()); \
         return b ? Promise.all([bytes(a), bytes(b)]).then(([x, y]) => {{ \
           const [u, v] = [new Uint8Array(x), new Uint8Array(y)]; \
           return b.files[0].name.startsWith('lens_') && u.length > 1000 && u.length === v.length && u.every((n, i) => n === v[i]) }}) : false }})"
    );
    page.until("the same picture", &both).await;

    page.stayed_here().await;
    page.client.clone().close().await.unwrap();
}
