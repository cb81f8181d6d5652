//! Drives the real program in a real browser: the server in this process, Debian's Chromium headless through ChromeDriver.
//! Every foreign address is made unreachable, so a request that leaves the machine fails.

use fantoccini::elements::Element;
use fantoccini::error::CmdError;
use fantoccini::key::Key;
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::json;
use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use workshop::{DemoSize, Workshop};

/// Size of the page in pixels.
pub const SIZE: (u32, u32) = (1280, 800);

/// ChromeDriver in a process group of its own, which ends with this value, browser included.
struct Driver {
    child: Child,
    port: u16,
}

impl Driver {
    fn start() -> Driver {
        let mut child = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .expect("chromedriver; ./run test installs it");
        let mut lines = BufReader::new(child.stdout.take().expect("piped")).lines();
        let port = lines
            .by_ref()
            .map_while(Result::ok)
            .find_map(|l| {
                l.rsplit_once("successfully on port ").and_then(|(_, p)| p.trim_end_matches('.').parse().ok())
            })
            .expect("chromedriver names its port");
        // Keeps the pipe empty.
        std::thread::spawn(move || lines.for_each(drop));
        Driver { child, port }
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        // SAFETY: a plain signal to the group that `start` made.
        unsafe { libc::kill(-(self.child.id() as i32), libc::SIGKILL) };
        let _ = self.child.wait();
    }
}

/// A server and a browser page on it.
pub struct Page {
    pub client: Client,
    pub address: String,
    pub workshop: Workshop,
    _driver: Driver,
    _profile: TempDir,
}

impl Page {
    /// Serves the demo from `data` (prepared when empty) and opens the page.
    pub async fn open(data: &Path, size: DemoSize) -> Page {
        let workshop = Workshop::open(data).expect("data folder");
        let preparing = workshop.clone();
        tokio::task::spawn_blocking(move || preparing.prepare_demo(size, &mut |l| eprintln!("{l}")))
            .await
            .expect("no panic")
            .expect("the demo is prepared");
        let any = "127.0.0.1:0".parse().expect("an address");
        let listener = server::listen(any).expect("a free port");
        let server =
            server::Server::new(workshop.clone(), listener, server::Door::default(), server::Limits::default())
                .expect("a server");
        let address = format!("http://{}", server.address());
        tokio::spawn(server.run());
        let driver = Driver::start();
        let profile = tempfile::tempdir().expect("a folder");
        let client = connect(&driver, profile.path()).await;
        client.goto(&address).await.expect("the page opens");
        Page { client, address, workshop, _driver: driver, _profile: profile }
    }

    /// Waits for an element that a person can see.
    pub async fn see(&self, css: &str) -> Element {
        self.client
            .wait()
            .at_most(Duration::from_secs(300))
            .for_element(Locator::Css(css))
            .await
            .unwrap_or_else(|e| panic!("{css}: {e}"))
    }

    /// Clicks an element once it is at rest: a click on what moves may miss it.
    async fn click_at_rest(&self, element: &Element) -> Result<(), CmdError> {
        let mut before = element.rectangle().await?;
        loop {
            tokio::time::sleep(Duration::from_millis(30)).await;
            let now = element.rectangle().await?;
            if now == before {
                return element.click().await;
            }
            before = now;
        }
    }

    /// Clicks an element that a person can see.
    pub async fn click(&self, css: &str) {
        let start = Instant::now();
        loop {
            match self.click_at_rest(&self.see(css).await).await {
                Ok(()) => return,
                Err(_) if start.elapsed() < Duration::from_secs(300) => {
                    tokio::time::sleep(Duration::from_millis(50)).await;
                }
                Err(e) => panic!("click {css}: {e}"),
            }
        }
    }

    /// The innermost element with this exact text, or whose accessible label it is.
    pub async fn named(&self, text: &str) -> Element {
        let path = format!("//*[@aria-label='{text}'] | //*[normalize-space(text())='{text}']");
        self.client
            .wait()
            .at_most(Duration::from_secs(300))
            .for_element(Locator::XPath(&path))
            .await
            .unwrap_or_else(|e| panic!("\"{text}\": {e}"))
    }

    /// Presses the first element of this name that can be pressed; what moves or comes late is tried again.
    pub async fn press(&self, text: &str) {
        let path = format!("//*[@aria-label='{text}'] | //*[normalize-space(text())='{text}']");
        let start = Instant::now();
        let mut last = String::from("it is not there");
        while start.elapsed() < Duration::from_secs(300) {
            for e in self.client.find_all(Locator::XPath(&path)).await.unwrap_or_default() {
                match self.click_at_rest(&e).await {
                    Ok(()) => return,
                    Err(e) => last = e.to_string(),
                }
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("press \"{text}\": {last}");
    }

    /// Types into the field with this label, in place of what is there, and leaves it.
    pub async fn set(&self, label: &str, text: &str) {
        let css = format!("input[aria-label='{label}']");
        let start = Instant::now();
        // A field that is still on its way is tried again.
        loop {
            let f = self.see(&css).await;
            if self.click_at_rest(&f).await.is_ok() {
                break;
            }
            assert!(start.elapsed() < Duration::from_secs(300), "the field {label} cannot be reached");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        tokio::time::sleep(Duration::from_millis(80)).await;
        self.script(&format!("document.querySelector(\"{css}\").select(); return true")).await;
        let f = self.see(&css).await;
        f.send_keys(&format!("{text}{}", char::from(Key::Enter))).await.unwrap_or_else(|e| panic!("type {label}: {e}"));
    }

    /// A key for the bench, while no field has the focus.
    pub async fn key(&self, key: &str) {
        self.script("document.activeElement?.blur(); return true").await;
        self.see("body").await.send_keys(key).await.unwrap_or_else(|e| panic!("key {key}: {e}"));
    }

    /// Waits until something about a shot, as the API tells it, is true: `s` is the shot.
    pub async fn shot_until(&self, what: &str, name: &str, condition: &str) {
        let code = format!(
            "return fetch('/api/shots').then(r => r.json()).then(all => {{ const s = all.find(s => s.name === '{name}'); return Boolean({condition}) }})"
        );
        self.until(what, &code).await;
    }

    /// Drops files on an element, as a hand would: names with their contents.
    pub async fn drop_files(&self, css: &str, files: &[(&str, &[u8])]) {
        use base64::Engine;
        let list: Vec<_> =
            files.iter().map(|(n, b)| json!([n, base64::engine::general_purpose::STANDARD.encode(b)])).collect();
        self.see(css).await;
        let code = format!(
            "const t = new DataTransfer(); \
             for (const [n, b] of {}) t.items.add(new File([Uint8Array.from(atob(b), c => c.charCodeAt(0))], n)); \
             document.querySelector('{css}').dispatchEvent(new DragEvent('drop', {{bubbles: true, cancelable: true, dataTransfer: t}})); \
             return true",
            json!(list)
        );
        self.script(&code).await;
    }

    /// Evaluates JavaScript, e.g. `return document.title`.
    pub async fn script(&self, code: &str) -> serde_json::Value {
        self.client.execute(code, vec![]).await.unwrap_or_else(|e| panic!("{code}: {e}"))
    }

    /// Sets knobs of a shot beside the page, as another window would; `shot` is its number, or an expression of JavaScript
    /// that tells it from the list `s`.
    pub async fn tune(&self, shot: &str, values: serde_json::Value) {
        let body = json!(json!({ "tuning": values }).to_string());
        let code = format!(
            "return fetch('/api/shots').then(r => r.json()).then(s => fetch('/api/shots/' + ({shot}), \
             {{method: 'PATCH', headers: {{'content-type': 'application/json'}}, body: {body}}})).then(r => r.ok)"
        );
        assert_eq!(self.script(&code).await, json!(true), "{code}");
    }

    /// Waits until a script returns true.
    pub async fn until(&self, what: &str, code: &str) {
        let start = Instant::now();
        while self.script(code).await != json!(true) {
            if start.elapsed() > Duration::from_secs(600) {
                let page = self.script("return location.pathname + ' ' + document.body.innerText").await;
                panic!("{what} did not happen; the page says: {page}");
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Waits until what stands in an element matches a pattern of JavaScript.
    pub async fn says(&self, what: &str, css: &str, pattern: &str) {
        let found = format!("return {pattern}.test(document.querySelector('{css}')?.textContent ?? '')");
        self.until(what, &found).await;
    }

    /// No request has left the machine.
    pub async fn stayed_here(&self) {
        let code = "return performance.getEntriesByType('resource').map(e => e.name) \
             .filter(n => !n.startsWith(location.origin) && !n.startsWith('data:') && !n.startsWith('blob:'))";
        assert_eq!(self.script(code).await, json!([]));
    }

    /// Drags the pointer over the stage between two points in shares of its size.
    pub async fn drag(&self, from: (f64, f64), to: (f64, f64)) {
        use fantoccini::actions::{InputSource, MouseActions, PointerAction};
        let b = self.script("const r = document.querySelector('[data-testid=stage]').getBoundingClientRect(); return [r.x, r.y, r.width, r.height]").await;
        let n = |i: usize| b[i].as_f64().expect("a number");
        let point = |p: (f64, f64), wait| PointerAction::MoveTo {
            duration: Some(Duration::from_millis(wait)),
            x: n(0) + p.0 * n(2),
            y: n(1) + p.1 * n(3),
        };
        let between = (0.5 * (from.0 + to.0), 0.5 * (from.1 + to.1));
        let actions = MouseActions::new("mouse".into())
            .then(point(from, 20))
            .then(PointerAction::Down { button: 0 })
            .then(point(between, 60))
            .then(point(to, 60))
            .then(PointerAction::Up { button: 0 });
        self.client.perform_actions(actions).await.expect("a drag");
    }

    /// Takes the pointer off everything that would explain itself.
    pub async fn look_away(&self) {
        use fantoccini::actions::{InputSource, MouseActions, PointerAction};
        let away = PointerAction::MoveTo { duration: Some(Duration::from_millis(20)), x: 28.0, y: 500.0 };
        self.client.perform_actions(MouseActions::new("mouse".into()).then(away)).await.expect("a move");
    }

    pub async fn screenshot(&self, file: &Path) {
        let png = self.client.screenshot().await.expect("a picture");
        std::fs::write(file, png).expect("written");
    }
}

async fn connect(driver: &Driver, profile: &Path) -> Client {
    let arguments = [
        "--headless".to_string(),
        "--no-sandbox".into(),
        "--disable-dev-shm-usage".into(),
        "--disable-quic".into(),
        "--no-first-run".into(),
        "--disable-background-networking".into(),
        "--disable-component-update".into(),
        "--disable-sync".into(),
        "--force-device-scale-factor=1".into(),
        "--force-color-profile=srgb".into(),
        "--hide-scrollbars".into(),
        format!("--window-size={},{}", SIZE.0, SIZE.1),
        format!("--user-data-dir={}", profile.display()),
        "--host-resolver-rules=MAP * ~NOTFOUND, EXCLUDE 127.0.0.1".into(),
    ];
    let capabilities =
        json!({ "goog:chromeOptions": { "args": arguments }, "goog:loggingPrefs": { "browser": "ALL" } });
    let serde_json::Value::Object(capabilities) = capabilities else { unreachable!("an object") };
    let connector = hyper_util::client::legacy::connect::HttpConnector::new();
    let client = ClientBuilder::new(connector)
        .capabilities(capabilities)
        .connect(&format!("http://127.0.0.1:{}", driver.port))
        .await
        .expect("a browser");
    // The window is larger than the page by its frame.
    let inner = client.execute("return [window.innerWidth, window.innerHeight]", vec![]).await.expect("a size");
    let missing = |i: usize, want: u32| want + want - inner[i].as_u64().unwrap_or(want as u64) as u32;
    client.set_window_size(missing(0, SIZE.0), missing(1, SIZE.1)).await.expect("a window");
    client
}
