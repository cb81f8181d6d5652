//! Clean-up after the fact in a real browser: other denoisers, the noisy original, the pair, maps and figures; nothing renders.

use browser_tests::Page;
use workshop::DemoSize;

/// Colour of a pixel of the stage, as one number.
async fn stage(page: &Page) -> String {
    let code =
        "const c = document.querySelector('[data-testid=stage]'); return c.dataset.shows + ':' + c.toDataURL().length";
    page.script(code).await.to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proof_is_cleaned_again_and_again_without_rendering() {
    let data = tempfile::tempdir().unwrap();
    let page = Page::open(data.path(), DemoSize::Small).await;
    page.press("Open Lens cabinet").await;
    page.see("[data-testid=sheet] article").await;
    for (label, value) in [("Width", "96"), ("Height", "60"), ("Least samples", "4"), ("Most samples", "8")] {
        page.set(label, value).await;
    }
    page.click("[data-knob='sampling.adaptive'] button[role=switch]").await;
    page.press("Test whole frame").await;
    let shot = page.script("return location.pathname.split('/').pop()").await;
    let proofs = format!("fetch('/api/shots/{}/proofs').then(r => r.json())", shot.as_str().unwrap());
    let over = format!("return {proofs}.then(p => p.list[0].frame[0] === 96 && p.list[0].state !== 'running')");
    page.until("the end of the test", &over).await;
    let samples = format!("return {proofs}.then(p => JSON.stringify(p.list.map(x => [x.id, x.report?.samples])))");
    let before = page.script(&samples).await;

    page.key("u").await;
    for (press, caption) in [("Quick guided", "quick guided"), ("Careful", "careful"), ("Colour only", "colour only")] {
        page.press(press).await;
        page.says(caption, ".stage-frame", &format!("/ · {caption}/")).await;
        page.says("what it did", "[data-testid=\"clean-up\"]", "/Grain left.*Detail lost.*Stray pixels.*cleaned in/")
            .await;
    }
    page.says("the noise profile", ".profile-chart", "/what the halves know/").await;
    page.press("Careful").await;
    page.says("careful", ".stage-frame", "/ · careful/").await;
    let clean = stage(&page).await;
    page.key("v").await;
    page.says("the noisy original", ".stage-frame", "/ · noisy/").await;
    page.until("another picture", &format!("const c = document.querySelector('[data-testid=stage]'); return c.dataset.shows + ':' + c.toDataURL().length !== {clean}")).await;
    page.key("v").await;
    page.says("clean again", ".stage-frame", "/ · careful/").await;

    page.press("Noisy | clean").await;
    page.says("the wipe", ".stage-modes", "/Wipe/").await;
    page.press("Noisy | clean").await;
    // What is tried on a proof changes nothing about the shot until it is used for it.
    let own = format!(
        "fetch('/api/shots/{}').then(r => r.json()).then(s => s.tuning['cleanup.denoise'])",
        shot.as_str().unwrap()
    );
    assert_eq!(page.script(&format!("return {own}")).await, "quick");
    page.press("Use for the shot").await;
    page.until("the shot's own clean-up", &format!("return {own}.then(d => d === 'careful')")).await;
    page.says("still careful", ".stage-frame", "/ · careful/").await;
    page.press("show where").await;
    page.says("the map of lost detail", ".stage-frame", "/detail lost/").await;
    page.see(".detail-legend").await;
    page.press("back to the picture").await;
    page.click("[aria-label='Stray pixels'][role=slider]").await;
    assert_eq!(page.script(&samples).await, before, "nothing was rendered");

    // A picture from elsewhere has no halves: its noise is that of flat areas. One can be struck, and that is taken back.
    let proof = page.script(&format!("return {proofs}.then(p => p.list[0].id)")).await;
    let picture = std::fs::read(data.path().join(format!("proofs/{proof}/thumb.png"))).unwrap();
    page.press("Proofs").await;
    page.drop_files(".bench", &[("other.png", &picture)]).await;
    page.click("[data-kind=picture] .proof-picture").await;
    // It is shown as it is, whatever the shot's clean-up.
    page.says("the picture as it is", ".stage-frame", "/from elsewhere.* · noisy/").await;
    page.key("u").await;
    page.press("Colour only").await;
    page.says("cleaned since it was asked for", ".stage-frame", "/ · colour only/").await;
    assert_eq!(page.script(&format!("return {own}")).await, "careful");
    page.says("the noise profile", ".profile-chart", "/drag a flat region/").await;
    page.script("document.querySelector('.profile-chart circle[role=button]').dispatchEvent(new MouseEvent('click', {bubbles: true}))").await;
    page.see(".profile-chart circle.struck").await;
    page.press("forget hints").await;
    page.until("no area is struck", "return !document.querySelector('.profile-chart circle.struck')").await;
}
