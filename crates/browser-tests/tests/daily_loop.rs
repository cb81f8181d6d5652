//! The daily loop in a real browser, by mouse and by keyboard: set up, preview, test, keep, compare.

use browser_tests::Page;
use fantoccini::Locator;
use serde_json::json;
use workshop::DemoSize;

const PHASE: &str = "document.querySelector('[data-testid=testbar]').dataset.phase";
const OBJ: &[u8] = b"mtllib lid.mtl\nusemtl red\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n";

struct Loop(Page);

impl Loop {
    /// Waits until the test that runs has ended and its proof is in the sheet.
    async fn ended(&self) {
        let over = format!("return ['done','stopped'].includes({PHASE}) && !document.querySelector('.proof-wait')");
        self.0.until("the end of the test", &over).await;
    }

    /// Starts a test by `begin` and waits until its proof is in the sheet.
    async fn tested(&self, begin: &str) {
        let before = self.newest().await;
        if begin.len() == 1 {
            self.0.key(begin).await
        } else {
            self.0.press(begin).await
        }
        self.0
            .until(
                "another proof",
                &format!("return fetch('/api/shots').then(r => r.json()).then(s => fetch('/api/shots/' + s.find(s => s.name === 'Lens cabinet').id + '/proofs')).then(r => r.json()).then(p => p.list[0].id > {before} && p.list[0].state !== 'running')"),
            )
            .await;
        self.ended().await;
    }

    /// The newest proof of the cabinet.
    async fn newest(&self) -> i64 {
        self.0.script("return fetch('/api/shots').then(r => r.json()).then(s => fetch('/api/shots/' + s.find(s => s.name === 'Lens cabinet').id + '/proofs')).then(r => r.json()).then(p => p.list[0]?.id ?? 0)").await.as_i64().unwrap()
    }

    async fn proof(&self, path: &str) -> serde_json::Value {
        self.0.script(&format!("return fetch('/api/shots').then(r => r.json()).then(s => fetch('/api/shots/' + s.find(s => s.name === 'Lens cabinet').id + '/proofs')).then(r => r.json()).then(p => p.list[0]{path})")).await
    }

    async fn count(&self, css: &str) -> usize {
        self.0.client.find_all(Locator::Css(css)).await.unwrap().len()
    }

    async fn text(&self, css: &str) -> String {
        self.0.see(css).await.text().await.unwrap()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn set_up_preview_test_keep_and_compare() {
    let data = tempfile::tempdir().unwrap();
    let way = Loop(Page::open(data.path(), DemoSize::Small).await);
    let page = &way.0;

    // Set up: a dropped scene with its files becomes a shot; its report says what was read.
    page.see("[data-testid=shot]").await;
    page.drop_files("[data-testid=shots]", &[("lid.obj", OBJ), ("lid.mtl", b"newmtl red\nKd 1 0 0\n")]).await;
    page.says("the report", "[data-testid=import-report]", "/1 triangles.*One unit is a metre/").await;
    page.press("Add shot").await;
    page.shot_until("the new shot", "lid", "s").await;
    page.press("Shots").await;
    page.press("Rename lid").await;
    page.set("Name of the shot", "Lid").await;
    page.shot_until("the new name", "Lid", "s").await;
    page.press("Duplicate Lid").await;
    page.shot_until("the copy", "Lid (copy)", "s").await;
    page.press("Archive Lid").await;
    page.shot_until("the archived shot", "Lid", "s.archived").await;
    // A damaged scene is explained and leaves nothing.
    page.drop_files("[data-testid=shots]", &[("cut.glb", &demo::lens_cabinet()[..5000])]).await;
    page.until("the explanation", "return /cut.glb/.test(document.body.textContent)").await;

    // Camera, size from print, oversize, budget: each a revision.
    page.press("Open Lens cabinet").await;
    page.until("the picture of a proof", "return document.querySelector('[data-testid=stage]')?.dataset.shows > ''")
        .await;
    page.press("Camera").await;
    page.until(
        "pictures of the cameras",
        "return [...document.querySelectorAll('[data-testid=cameras] img')].filter(i => i.naturalWidth > 0).length >= 2",
    )
    .await;
    page.script("document.querySelector('[data-testid=cameras] button:not(.chosen)').click(); return true").await;
    page.shot_until("another camera", "Lens cabinet", "s.camera !== 'Front'").await;
    page.key("z").await;
    page.shot_until("the camera restored", "Lens cabinet", "s.camera === 'Front'").await;
    page.press("Size of the frame").await;
    page.set("Print width", "210").await;
    page.set("Print height", "297").await;
    page.until("paper in pixels", "return /Use 2480 × 3508 px/.test(document.body.textContent)").await;
    page.set("Frame width", "160").await;
    page.shot_until(
        "the shape kept",
        "Lens cabinet",
        "s.tuning['frame.width'] === 160 && s.tuning['frame.height'] === 100",
    )
    .await;
    page.set("Oversize factor", "1.5").await;
    page.shot_until("oversize", "Lens cabinet", "s.rendered[0] === 240").await;
    page.set("Oversize factor", "1").await;
    page.shot_until("no oversize", "Lens cabinet", "s.rendered[0] === 160").await;
    page.press("Size of the frame").await;
    page.set("Budget in minutes", "4").await;
    page.shot_until("the budget", "Lens cabinet", "s.budget === 240").await;
    page.press("Revisions").await;
    page.says("what changed", "[data-testid=revisions]", "/budget 3.0 → 4.0 min/").await;
    page.script(
        "document.querySelector('[data-testid=revisions] [aria-label^=\"Name revision\"]').click(); return true",
    )
    .await;
    page.set("Name of the revision", "as ordered").await;
    page.says("the named revision", "[data-testid=revisions]", "/as ordered/").await;
    page.press("Revisions").await;

    // Drafts lie over tests: the row says whose the value is; the start button names the camera.
    page.set("Least samples", "2").await;
    page.shot_until("least", "Lens cabinet", "s.tuning['sampling.least'] === 2").await;
    page.set("Most samples", "8").await;
    page.shot_until("most", "Lens cabinet", "s.tuning['sampling.most'] === 8").await;
    page.press("Draft Short paths").await;
    page.says("the value in force", "[data-force=\"depth.total\"]", "/tests: 6 by Short paths/").await;
    assert!(way.text(".testbar .main-action").await.contains("Front"));
    page.drag((0.40, 0.30), (0.62, 0.60)).await;
    page.named("Region width").await;
    way.tested("Test region").await;
    assert_eq!(way.proof(".overlays").await, json!(["Short paths"]));
    let drafted = way.newest().await;
    page.key("d").await;
    page.shot_until("no drafts", "Lens cabinet", "s.overlays.length === 0").await;
    // A draft from what was changed just now.
    page.press("More on drafts").await;
    page.press("Draft from what I changed just now").await;
    page.see("input[aria-label='Name of the draft overlay']").await.send_keys("Eight").await.unwrap();
    page.press("Save").await;
    page.until("the new draft", "return document.querySelector('[aria-label=\"Draft Eight\"]') !== null").await;

    // Region: remembered by name, nudged by arrows, locked.
    let x =
        page.script("return Number(document.querySelector('[aria-label=\"Region x\"]').value)").await.as_i64().unwrap();
    page.key(&char::from(fantoccini::key::Key::Right).to_string()).await;
    page.until(
        "a nudge",
        &format!("return Number(document.querySelector('[aria-label=\"Region x\"]').value) === {}", x + 1),
    )
    .await;
    page.press("Regions").await;
    page.press("Remember this region …").await;
    page.set("Name of the region", "ring").await;
    page.key("k").await;
    page.named("Unlock the region").await;
    page.key("w").await;
    page.until("no region", "return document.querySelector('[aria-label=\"Region x\"]') === null").await;
    page.press("Regions").await;
    page.press("ring").await;
    page.named("Region width").await;

    // By keyboard: test, go on with more samples, pull, star.
    way.tested("t").await;
    let before = way.proof(".report").await;
    let id = way.newest().await;
    page.key("g").await;
    page.until(
        "more samples of the same proof",
        &format!(
            "return fetch('/api/shots').then(r => r.json()).then(s => fetch('/api/shots/' + s.find(s => s.name === 'Lens cabinet').id + '/proofs')).then(r => r.json()).then(p => p.list[0].id === {id} && p.list[0].state !== 'running' && p.list[0].report.samples > {})",
            before["samples"]
        ),
    )
    .await;
    way.ended().await;
    page.see("[data-testid=chart]").await;
    page.key("p").await;
    page.named("Proof kept").await;
    page.key("f").await;
    page.until(
        "a star",
        &format!("return document.querySelector('[data-proof=\"{id}\"] [aria-label^=\"Take the star\"]') !== null"),
    )
    .await;

    // Live: a changed knob starts a test by itself.
    page.key("l").await;
    let before = way.newest().await;
    page.set("All bounces", "7").await;
    page.until(
        "a test by itself",
        &format!("return fetch('/api/shots').then(r => r.json()).then(s => fetch('/api/shots/' + s.find(s => s.name === 'Lens cabinet').id + '/proofs')).then(r => r.json()).then(p => p.list[0].id > {before})"),
    )
    .await;
    way.ended().await;
    page.key("l").await;

    // A picture from elsewhere is dropped into the sheet.
    let picture = std::fs::read(data.path().join(format!("proofs/{drafted}/thumb.png"))).unwrap();
    page.drop_files(".bench", &[("other.png", &picture)]).await;
    page.until("the picture in the sheet", "return document.querySelector('[data-kind=picture]') !== null").await;

    // Compare three: table, side by side, difference, loupe; A and B change places by a key.
    page.click(&format!("[data-proof='{id}'] .proof-picture")).await;
    page.click(&format!("[data-proof='{drafted}'] [aria-label^='Compare with']")).await;
    page.says("what differs", "[data-testid=against]", "/All bounces/").await;
    page.see("[data-testid=time-ratio]").await;
    page.click("[data-kind=picture] [aria-label^='Compare with']").await;
    page.until("three columns", "return document.querySelectorAll('[data-testid=against] th.num').length === 3").await;
    for (label, mode) in
        [("Side by side", "side"), ("Difference", "difference"), ("Flicker", "flicker"), ("Wipe", "wipe")]
    {
        page.press(label).await;
        page.until(label, &format!("return document.querySelector('[data-testid=stage]').dataset.mode === '{mode}'"))
            .await;
    }
    page.key("x").await;
    page.until(
        "A and B swapped",
        &format!("return document.querySelector('[data-testid=stage]').dataset.shows === '{drafted}'"),
    )
    .await;
    page.press("Loupe").await;
    page.drag((0.5, 0.5), (0.5, 0.5)).await;
    page.drag((0.51, 0.5), (0.51, 0.5)).await;
    page.until("the loupe", "return document.querySelectorAll('[data-testid=loupe] canvas').length === 3").await;
    page.press("Loupe").await;
    page.press("end comparing").await;

    // A reference of the region: proofs get their error against it, split into grain and look.
    page.set("Noise threshold", "60").await;
    page.shot_until("a coarse threshold", "Lens cabinet", "s.tuning['sampling.threshold'] === 0.6").await;
    page.press("Regions").await;
    page.press("Make a reference of this region …").await;
    way.tested("Make reference").await;
    let reference = way.newest().await;
    page.click(&format!("[data-proof='{reference}'] [aria-label^='More on proof']")).await;
    page.press("Measure proofs against it").await;
    page.click(&format!("[data-proof='{id}'] .proof-picture")).await;
    page.says("grain and look", "[data-testid=look-words]", "/of the error is a change of the look/").await;
    assert!(way.text("[data-testid=against]").await.contains("FLIP"));
    page.press("Look change").await;
    page.until("the map", "return document.querySelector('[data-testid=stage]').dataset.mode === 'look'").await;

    // Presets: what would change is shown before; the rest stays.
    page.press("Presets").await;
    page.press("Preset 2 Study").await;
    page.says("what would change", "[data-testid=preset-changes]", "/Most samples/").await;
    page.press("Apply preset").await;
    page.shot_until(
        "the preset",
        "Lens cabinet",
        "s.tuning['sampling.most'] === 64 && s.tuning['frame.width'] === 160 && s.preset !== null",
    )
    .await;

    // Bulk delete, and back again.
    let all = way.count("[data-proof]").await;
    for i in [1, 2] {
        page.script(&format!("document.querySelector('[data-proof]:nth-child({i}) .proof-picture').dispatchEvent(new MouseEvent('click', {{bubbles: true, ctrlKey: true}})); return true")).await;
    }
    page.press("Delete picked").await;
    page.until("two fewer", &format!("return document.querySelectorAll('[data-proof]').length === {}", all - 2)).await;
    page.until(
        "a way back",
        "return [...document.querySelectorAll('.ant-notification button')].some(b => b.textContent === 'Undo')",
    )
    .await;
    page.script("[...document.querySelectorAll('.ant-notification button')].find(b => b.textContent === 'Undo')?.click(); return true").await;
    page.until("all back", &format!("return document.querySelectorAll('[data-proof]').length === {all}")).await;

    // Two tabs: a change in another place is seen here at once, and nothing is lost.
    page.tune("s.find(s => s.name === 'Lens cabinet').id", json!({ "sampling.most": 33 })).await;
    page.until("the other tab's edit", "return document.querySelector('[aria-label=\"Most samples\"]').value === '33'")
        .await;

    // The check before a final says that drafts are ignored.
    page.press("Draft Few samples").await;
    page.shot_until("a draft is on", "Lens cabinet", "s.overlays.length === 1").await;
    page.press("Start final").await;
    page.says("the check", "[data-testid=check-drafts]", "/ignored: Few samples/").await;
    // A press on a dialog that still grows can miss.
    page.until("the dialog stands", "return !document.querySelector('.ant-zoom-enter, .ant-zoom-appear')").await;
    page.press("Cancel").await;

    // The library lists what a file from a newer version brings that is not understood.
    page.press("Library").await;
    let file = json!({ "format": "mellow-grain-preset", "version": 2, "name": "From later", "values": { "depth.total": 5, "depth.dreams": 1 } });
    page.drop_files("[data-testid=presets-part]", &[("later.json", file.to_string().as_bytes())]).await;
    page.says("what is not taken", "[data-testid=untaken]", "/depth.dreams/").await;
    page.press("Take the other 1").await;
    let there = "return document.querySelector('[data-partial=\"From later\"]') !== null";
    page.until("the preset", there).await;

    // Deleted it lies in the bin, and comes out of it again.
    page.press("Delete From later").await;
    page.says("the bin", "[data-testid=bin]", "/1 deleted[^]*From later[^]*stays until/").await;
    page.press("Take From later out of the bin").await;
    page.says("the empty bin", "[data-testid=bin]", "/Nothing lies in it/").await;
    page.until("the preset again", there).await;

    page.stayed_here().await;
    page.client.clone().close().await.unwrap();
}
