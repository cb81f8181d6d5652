//! Takes the pictures of `docs/screenshots` from the demo: `./run shots`, or `-- DATA FOLDER` for other places.

use browser_tests::Page;
use std::path::PathBuf;
use std::time::Duration;
use workshop::DemoSize;

#[tokio::main]
async fn main() {
    let mut arguments = std::env::args().skip(1).map(PathBuf::from);
    let data = arguments.next().expect("a data folder");
    let to = arguments.next().expect("a folder for the pictures");
    let page = Page::open(&data, DemoSize::Full).await;
    let settle = || tokio::time::sleep(Duration::from_millis(900));

    page.see("[data-testid=shot] img").await;
    settle().await;
    page.screenshot(&to.join("shots.png")).await;

    page.press("Open Eyepiece desk").await;
    page.see("[data-testid=sheet] article").await;
    page.until("picture", "return document.querySelector('[data-testid=stage]').dataset.shows !== ''").await;
    page.drag((0.58, 0.36), (0.78, 0.68)).await;
    page.press("Test region").await;
    page.look_away().await;
    tokio::time::sleep(Duration::from_secs(10)).await;
    page.screenshot(&to.join("bench.png")).await;
    page.press("Stop").await;
    page.look_away().await;
    settle().await;

    page.press("Grain").await;
    page.see("[data-testid=legend]").await;
    settle().await;
    page.screenshot(&to.join("grain-map.png")).await;

    page.press("Picture").await;
    page.press("Compare with proof 2").await;
    page.press("Show proof 3 · lens foot").await;
    page.see("[data-testid=time-ratio]").await;
    settle().await;
    page.screenshot(&to.join("compare.png")).await;

    page.press("Finals").await;
    page.see("[data-testid=final]").await;
    settle().await;
    page.screenshot(&to.join("finals.png")).await;
    page.client.clone().close().await.expect("the browser ends");
}
