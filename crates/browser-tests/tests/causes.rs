//! Where the grain comes from, in a real browser: map, ledgers, prices, advice.

use browser_tests::Page;
use serde_json::{Value, json};
use workshop::DemoSize;

struct Way(Page);

impl Way {
    /// What the API answers.
    async fn api(&self, address: &str) -> Value {
        self.0.script(&format!("return fetch('{address}').then(r => r.json())")).await
    }

    async fn shot(&self) -> Value {
        let all = self.api("/api/shots").await;
        all.as_array().unwrap().iter().find(|s| s["name"] == "Eyepiece desk").unwrap().clone()
    }

    async fn proofs(&self) -> Vec<Value> {
        self.api(&format!("/api/shots/{}/proofs", self.shot().await["id"])).await["list"].as_array().unwrap().clone()
    }

    /// Waits until no test runs and so many proofs more are in the sheet.
    async fn ended(&self, before: usize, more: usize) {
        let address = format!("/api/shots/{}/proofs", self.shot().await["id"]);
        let over = format!(
            "return fetch('{address}').then(r => r.json()).then(p => p.all >= {} && p.list.every(x => x.state !== 'running'))",
            before + more
        );
        self.0.until("the end of the test", &over).await;
    }

    async fn knob(&self, id: &str) -> Value {
        self.shot().await["tuning"][id].clone()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn causes_bounces_and_advice() {
    let data = tempfile::tempdir().unwrap();
    let way = Way(Page::open(data.path(), DemoSize::Small).await);
    let page = &way.0;
    page.press("Open Eyepiece desk").await;
    page.see("[data-testid=sheet] article").await;

    // A test under fixed counts, so that two of them can be compared.
    page.set("Width", "96").await;
    page.set("Height", "60").await;
    page.set("Least samples", "4").await;
    page.set("Most samples", "16").await;
    page.set("All bounces", "12").await;
    page.click("[data-knob='sampling.adaptive'] button[role=switch]").await;
    // Four rays where one does: there is something to advise however times scatter.
    page.tune("s.find(s => s.name === 'Eyepiece desk').id", json!({ "split.reflection": 4 })).await;
    let before = way.proofs().await.len();
    page.press("Test whole frame").await;
    way.ended(before, 1).await;
    let whole = way.proofs().await[0].clone();

    // The map answers another threshold at once, and says what adaptive sampling would have saved.
    page.press("Grain").await;
    page.says("what adaptive would do", "[data-testid=what-if]", "/Adaptive is off.*would have taken/").await;
    let address = format!("/api/proofs/{}/legends?threshold=", whole["id"]);
    let (fine, coarse) = (way.api(&format!("{address}0.01")).await, way.api(&format!("{address}0.5")).await);
    assert!(coarse["ask"]["seconds"].as_f64() < fine["ask"]["seconds"].as_f64(), "a coarser threshold takes less");
    assert!(coarse["grain"]["below"].as_f64() > fine["grain"]["below"].as_f64());
    let slider = "[aria-label='Ask about another threshold']";
    page.script(&format!("document.querySelector(\"{slider}\").focus(); return true")).await;
    page.see(slider).await.send_keys("\u{E014}\u{E014}\u{E014}\u{E014}").await.unwrap();
    page.says("another threshold", "[data-testid=what-if]", "/Then the final takes about/").await;
    assert_eq!(way.knob("sampling.threshold").await, json!(0.02), "asking changes nothing");

    // The noise ledger: shares add up, and a row shows its part on the stage.
    page.press("Picture").await;
    page.key("n").await;
    page.see("[data-testid=noise-parts] tbody tr").await;
    let ledger = way.api(&format!("/api/proofs/{}/ledger", whole["id"])).await;
    for rows in ["parts", "lights"] {
        let sum: f64 = ledger["noise"][rows].as_array().unwrap().iter().map(|r| r["share"].as_f64().unwrap()).sum();
        assert!((sum - 1.0).abs() < 1e-3, "{rows}: {sum}");
    }
    let first = ledger["noise"]["parts"][0]["name"].as_str().unwrap().to_string();
    page.click(&format!("[data-row='{first}'] button")).await;
    let layer = |l: &str| format!("return document.querySelector('[data-testid=stage]').dataset.layer === '{l}'");
    page.until("the part alone", &layer("part")).await;
    page.press("its grain").await;
    page.until("the grain of the part", &layer("part_grain")).await;
    page.press("back to the picture").await;
    page.until("the picture", &layer("picture")).await;
    // Of a rectangle.
    page.drag((0.42, 0.3), (0.58, 0.6)).await;
    page.press("The rectangle on the picture").await;
    page.says("the rectangle's size", ".causes-head", "/luminance noise before clean-up/").await;
    page.key("w").await;

    // The depth ledger sets a depth with one click.
    page.key("b").await;
    page.see("[data-testid=depth-ledger] tbody tr").await;
    page.press("End after 5").await;
    page.until(
        "the depth",
        &format!(
            "return fetch('/api/shots/{}').then(r => r.json()).then(s => s.tuning['depth.total'] === 5)",
            way.shot().await["id"]
        ),
    )
    .await;
    page.key("z").await;

    // Prices stand at their knobs.
    page.says("what the depth costs", "[data-price=\"sampling.most\"]", "/costs .* · buys/").await;

    // Advice on splits needs short trials, which go when they have told what they know. A final so short is over before they would be.
    page.key("a").await;
    page.says("that trials do not pay", "[data-testid=no-trials]", "/not worth it/").await;
    page.tune("s.find(s => s.name === 'Eyepiece desk').id", json!({ "sampling.most": 4096 })).await;
    let before = way.proofs().await.len();
    page.click("[data-testid=pilot]").await;
    let address = format!("/api/proofs/{}/advice", whole["id"]);
    page.see("[data-testid=advice-work]").await;
    page.until("the pilot", &format!("return fetch('{address}').then(r => r.json()).then(a => !a.trials)")).await;
    way.ended(before, 0).await;
    assert_eq!(way.proofs().await.len(), before, "trials do not stay in the sheet");
    page.key("e").await;
    page.click(&format!("[data-proof='{}'] .proof-picture", whole["id"])).await;
    page.key("a").await;
    page.see("[data-testid=advice] .advice").await;
    let advice = way.api(&address).await;
    let line = advice["lines"].as_array().unwrap().iter().find(|l| {
        l["advice"]["changes"].as_object().is_some_and(|c| !c.is_empty()) && l["advice"]["key"] != "adaptive"
    });
    let key = line.expect("some advice").clone()["advice"]["key"].as_str().unwrap().to_string();
    let row = format!("[data-advice=\"{key}\"]");
    let before = way.proofs().await.len();
    press_in(page, &row, "Test it (").await;
    way.ended(before, 1).await;
    page.says("what came", &format!("{row} [data-testid=came]"), "/measured/").await;
    page.click(&format!("{row} [data-testid=came]")).await;
    page.see("[data-testid=time-ratio]").await;
    // Dismissed and brought back, then applied: the knobs change.
    press_in(page, &row, "Dismiss").await;
    page.see(&format!("{row}[data-state=dismissed]")).await;
    press_in(page, &row, "dismissed · bring back").await;
    page.see(&format!("{row}[data-state=tried], {row}[data-state=new]")).await;
    press_in(page, &row, "Apply").await;
    page.see(&format!("{row}[data-state=applied]")).await;
    let changes = line.unwrap()["advice"]["changes"].as_object().unwrap().clone();
    for (id, value) in &changes {
        assert_eq!(way.knob(id).await, *value, "{id}");
    }
    // Taken back, the knobs are as before, and what was measured stands by the line.
    press_in(page, &row, "Take back").await;
    page.see(&format!("{row}[data-state=tried] [data-testid=came]")).await;
    for (id, value) in &changes {
        assert_ne!(way.knob(id).await, *value, "{id}");
    }
    page.client.clone().close().await.unwrap();
}

/// Presses a button by how its text begins, inside an element.
async fn press_in(page: &Page, css: &str, text: &str) {
    page.see(css).await;
    let found = format!(
        "const b = [...document.querySelectorAll('{css} button')].find(b => b.textContent.trim().startsWith('{text}')); b?.click(); return Boolean(b)"
    );
    page.until(text, &found).await;
}
