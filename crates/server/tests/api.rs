//! The API over real connections: shapes, statuses, and who may not use it.

use serde_json::{Value, json};
use server::{Door, Limits, Server};
use std::net::SocketAddr;
use std::time::Duration;
use tempfile::TempDir;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use workshop::Workshop;

struct House {
    address: SocketAddr,
    workshop: Workshop,
    _data: TempDir,
}

async fn house() -> House {
    house_at("127.0.0.1:0", Door::default()).await
}

async fn house_at(listen: &str, door: Door) -> House {
    house_within(listen, door, Limits::default()).await
}

async fn house_within(listen: &str, door: Door, limits: Limits) -> House {
    let data = tempfile::tempdir().unwrap();
    let workshop = Workshop::open(data.path()).unwrap();
    let listener = server::listen(listen.parse().unwrap()).unwrap();
    let server = Server::new(workshop.clone(), listener, door, limits).unwrap();
    let address = server.address();
    tokio::spawn(server.run());
    House { address, workshop, _data: data }
}

impl House {
    async fn raw(&self, method: &str, path: &str, host: &str, more: &str, body: &[u8]) -> (u16, Vec<u8>) {
        let mut s = TcpStream::connect(self.address).await.unwrap();
        let head = format!(
            "{method} {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\nContent-Length: {}\r\n{more}\r\n",
            body.len()
        );
        s.write_all(head.as_bytes()).await.unwrap();
        s.write_all(body).await.unwrap();
        let mut answer = Vec::new();
        s.read_to_end(&mut answer).await.unwrap();
        let end = answer.windows(4).position(|w| w == b"\r\n\r\n").expect("a head") + 4;
        let status = String::from_utf8_lossy(&answer[9..12]).parse().unwrap();
        (status, answer[end..].to_vec())
    }

    async fn ask(&self, method: &str, path: &str, body: &[u8]) -> (u16, Value) {
        let (status, bytes) = self.raw(method, path, &self.address.to_string(), "", body).await;
        (status, serde_json::from_slice(&bytes).unwrap_or(Value::Null))
    }

    /// Sends files as a page does, and takes the parcel in.
    async fn import(&self, name: &str, bytes: &[u8]) -> (u16, Value) {
        let (_, id) = self.ask("POST", "/api/parcels", b"").await;
        let (status, answer) = self.ask("PUT", &format!("/api/parcels/{id}/files?name={name}"), bytes).await;
        if status != 200 {
            return (status, answer);
        }
        self.ask("POST", &format!("/api/parcels/{id}/take"), b"").await
    }

    async fn json(&self, method: &str, path: &str, body: Value) -> (u16, Value) {
        self.ask(method, path, body.to_string().as_bytes()).await
    }

    /// A shot of the cabinet, small enough for tests.
    async fn shot(&self) -> i64 {
        let (status, parcel) = self.import("cabinet.glb", &demo::lens_cabinet()).await;
        assert_eq!(status, 200, "{parcel}");
        let scene = &parcel["scene"];
        let (status, shot) = self
            .json(
                "POST",
                "/api/shots",
                json!({ "name": "Cabinet", "scene": scene["hash"], "environment": null, "camera": null, "budget": 60 }),
            )
            .await;
        assert_eq!(status, 200, "{shot}");
        let id = shot["id"].as_i64().unwrap();
        let small =
            json!({ "tuning": { "frame.width": 96, "frame.height": 64, "sampling.least": 4, "sampling.most": 8 } });
        assert_eq!(self.json("PATCH", &format!("/api/shots/{id}"), small).await.0, 200);
        id
    }
}

#[tokio::test]
async fn typescript_declarations_are_current() {
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../web/src/api/types.ts");
    let committed = std::fs::read_to_string(file).unwrap();
    assert!(committed == server::types::typescript(), "run ./run types and commit web/src/api/types.ts");
}

/// Pages of other sites must not drive the server, neither by their own origin nor through a name that leads to loopback.
#[tokio::test]
async fn foreign_hosts_and_origins_are_refused() {
    let h = house().await;
    let own = h.address.to_string();
    let status = async |host: &str, more: &str| h.raw("GET", "/api/shots", host, more, b"").await.0;
    assert_eq!(status(&own, "").await, 200);
    assert_eq!(status(&own, &format!("Origin: http://{own}\r\n")).await, 200);
    assert_eq!(status(&format!("localhost:{}", h.address.port()), "").await, 200);
    assert_eq!(status("evil.example", "").await, 403);
    assert_eq!(status(&format!("evil.example:{}", h.address.port()), "").await, 403);
    assert_eq!(status("127.0.0.1:1", "").await, 403);
    assert_eq!(status(&own, "Origin: http://evil.example\r\n").await, 403);
    assert_eq!(status(&own, "Origin: null\r\n").await, 403);
    let upgrade = "Upgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==\r\n";
    let (code, _) = h.raw("GET", "/api/events", &own, &format!("{upgrade}Origin: http://evil.example\r\n"), b"").await;
    assert_eq!(code, 403);
    // What a browser fetches for another site without an Origin, such as a picture or a download; links lead to the page alone.
    let from = async |path: &str, site: &str, mode: &str| {
        h.raw("GET", path, &own, &format!("Sec-Fetch-Site: {site}\r\nSec-Fetch-Mode: {mode}\r\n"), b"").await.0
    };
    for site in ["cross-site", "same-site"] {
        for (path, mode) in [("/api/shots", "no-cors"), ("/api/shots", "navigate"), ("/mark.svg", "no-cors")] {
            assert_eq!(from(path, site, mode).await, 403, "{path} {site} {mode}");
        }
        assert_ne!(from("/", site, "navigate").await, 403);
    }
    assert_eq!(from("/api/shots", "same-origin", "cors").await, 200);
    assert_eq!(from("/api/shots", "none", "navigate").await, 200);
}

/// Beyond the machine everything but the exchange of the key for a cookie is closed; honest names and proxies are let in.
#[tokio::test]
async fn beyond_this_machine_a_key_is_asked_for() {
    let (key, kept) = Door::new_key().unwrap();
    assert!(key.len() == 64 && Door::new_key().unwrap().0 != key && !format!("{kept:?}").contains(&key));
    let door = Door { hosts: vec!["bench.example".into()], cookie: Some(kept) };
    let mut h = house_at("0.0.0.0:0", door).await;
    let port = h.address.port();
    h.address = format!("127.0.0.1:{port}").parse().unwrap();
    let own = format!("127.0.0.1:{port}");
    let get = async |host: &str, path: &str, more: &str| {
        let mut s = TcpStream::connect(h.address).await.unwrap();
        let head = format!("GET {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n{more}\r\n");
        s.write_all(head.as_bytes()).await.unwrap();
        let mut answer = Vec::new();
        let _ = s.read_to_end(&mut answer).await;
        let text = String::from_utf8_lossy(&answer).into_owned();
        (text[9..12].parse::<u16>().unwrap(), text)
    };
    let localhost = format!("localhost:{port}");
    for (host, path) in
        [(&own, "/api/shots"), (&localhost, "/api/shots"), (&own, "/"), (&own, "/api/events"), (&own, "/mark.svg")]
    {
        let (code, text) = get(host, path, "").await;
        assert!(code == 403 && text.contains("access key") && !text.contains(&key), "{host}{path}: {text}");
    }
    // Wrong keys and cookies open nothing, and guessing is slow.
    let began = std::time::Instant::now();
    for wrong in ["", "0", &key[1..], &"0".repeat(64)] {
        assert_eq!(get(&own, &format!("/?key={wrong}"), "").await.0, 403);
        assert_eq!(get(&own, "/api/shots", &format!("Cookie: mellow_grain_key={wrong}\r\n")).await.0, 403);
    }
    assert!(began.elapsed().as_secs() >= 4);
    assert_eq!(
        get(&own, "/api/shots", &format!("Cookie: mellow_grain_key={key}\r\n")).await.0,
        403,
        "the key is no cookie"
    );
    let (code, text) = get(&own, &format!("/?key={key}"), "").await;
    let head = text.to_lowercase();
    assert!(code == 303 && head.contains("location: /") && head.contains("httponly; samesite=strict"), "{text}");
    let cookie = text.split("mellow_grain_key=").nth(1).unwrap().split(';').next().unwrap().to_string();
    let shown = format!("Cookie: other=1; mellow_grain_key={cookie}\r\n");
    // By any address, by the allowed name, and behind a proxy with or without TLS; by no other name.
    for (host, origin, code) in [
        (own.as_str(), format!("http://{own}"), 200),
        ("bench.example", "https://bench.example".into(), 200),
        ("bench.example", "http://bench.example".into(), 200),
        ("bench.example:8443", "https://bench.example:8443".into(), 200),
        ("bench.example", "https://evil.example".into(), 403),
        ("evil.example", "https://evil.example".into(), 403),
        (&format!("192.0.2.7:{port}"), format!("http://192.0.2.7:{port}"), 200),
    ] {
        let (got, text) = get(host, "/api/shots", &format!("{shown}Origin: {origin}\r\n")).await;
        assert_eq!(got, code, "{host} {origin}: {text}");
    }
}

/// Browsers are told to load nothing from elsewhere, to guess no types and to show the page in no frame, by every answer.
#[tokio::test]
async fn every_answer_tells_browsers_what_they_may_do() {
    let h = house().await;
    for (path, host) in [("/", h.address.to_string()), ("/api/shots", h.address.to_string()), ("/", "evil".into())] {
        let mut s = TcpStream::connect(h.address).await.unwrap();
        let head = format!("GET {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n");
        s.write_all(head.as_bytes()).await.unwrap();
        let mut answer = Vec::new();
        s.read_to_end(&mut answer).await.unwrap();
        let head = String::from_utf8_lossy(&answer).split("\r\n\r\n").next().unwrap().to_lowercase();
        let told = [
            "content-security-policy: default-src 'none'; script-src 'self';",
            "connect-src 'self';",
            "frame-ancestors 'none'",
            "x-content-type-options: nosniff",
            "x-frame-options: deny",
            "cross-origin-resource-policy: same-origin",
        ];
        told.iter().for_each(|t| assert!(head.contains(t), "{path}: {t} is missing in {head}"));
    }
}

/// Who sends much and is refused early reads why: the connection takes the rest of it and is not cut.
#[tokio::test]
async fn what_is_refused_while_it_arrives_is_told() {
    let h = house().await;
    let large = vec![b' '; 64 << 20];
    let own = h.address.to_string();
    for _ in 0..3 {
        for (method, path, host, code) in [
            ("PATCH", "/api/settings", own.as_str(), 413),
            ("PUT", "/api/parcels/77/files?name=a.glb", &own, 404),
            ("POST", "/api/none", &own, 404),
            ("PUT", "/api/parcels/77/files?name=a.glb", "evil.example", 403),
        ] {
            let (status, bytes) = h.raw(method, path, host, "", &large).await;
            let fault: Value = serde_json::from_slice(&bytes).unwrap_or(Value::Null);
            assert!(status == code && fault["remedy"].is_string(), "{method} {path}: {status} {fault}");
        }
    }
}

/// Who sends slowly or nothing holds the bench up for so long and no longer; more connections than there may be wait for their turn.
#[tokio::test]
async fn slow_senders_and_crowds_are_bounded() {
    let soon = Duration::from_millis(300);
    let limits = Limits { connections: 3, sockets: 1, head: soon, piece: soon, ..Limits::default() };
    let h = house_within("127.0.0.1:0", Door::default(), limits).await;
    let own = h.address.to_string();
    let begin = async |text: &str| {
        let mut s = TcpStream::connect(h.address).await.unwrap();
        s.write_all(text.as_bytes()).await.unwrap();
        s
    };
    let end = async |mut s: TcpStream| {
        let mut answer = String::new();
        let _ = tokio::time::timeout(Duration::from_secs(600), s.read_to_string(&mut answer)).await.expect("an end");
        answer
    };
    // Half a head, and none: both are let go, and give their places to others.
    let (half, none) = (begin("GET /api/shots HTTP/1.1\r\nHo").await, begin("").await);
    assert_eq!(h.ask("GET", "/api/shots", b"").await.0, 200);
    assert!(!end(half).await.contains("200 OK"));
    assert_eq!(end(none).await, "");
    // Half a body: told why, and nothing of it stays.
    let (_, parcel) = h.ask("POST", "/api/parcels", b"").await;
    let to = format!("/api/parcels/{parcel}/files?name=a.glb");
    let half = begin(&format!("PUT {to} HTTP/1.1\r\nHost: {own}\r\nContent-Length: 1000\r\n\r\nglTF")).await;
    let told = end(half).await;
    assert!(told.contains("the upload broke off after 4 bytes") && told.contains("\"a.glb\""), "{told}");
    assert_eq!(h.ask("PUT", &to, b"glTF").await.0, 404, "the parcel is gone");
    // One page listens; a second one is refused in words.
    let upgrade = format!(
        "GET /api/events HTTP/1.1\r\nHost: {own}\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\
         Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"
    );
    let mut first = begin(&upgrade).await;
    let mut head = [0; 12];
    first.read_exact(&mut head).await.unwrap();
    assert_eq!(&head, b"HTTP/1.1 101");
    let second = end(begin(&upgrade).await).await;
    assert!(second.starts_with("HTTP/1.1 409") && second.contains("remedy"), "{second}");
    // Of four at once one waits until another is let go.
    let mut crowd = Vec::new();
    for _ in 0..3 {
        crowd.push(begin("").await);
    }
    assert_eq!(h.ask("GET", "/api/shots", b"").await.0, 200);
    drop((crowd, first));
}

/// Who asks for much and takes nothing of it is let go, and gives the place to others.
#[tokio::test]
async fn who_takes_nothing_off_the_connection_is_let_go() {
    let limits = Limits { connections: 1, piece: Duration::from_millis(300), ..Limits::default() };
    let h = house_within("127.0.0.1:0", Door::default(), limits).await;
    let mut greedy = TcpStream::connect(h.address).await.unwrap();
    let ask = format!("GET /api/knobs HTTP/1.1\r\nHost: {}\r\n\r\n", h.address);
    // More than the buffers of the connection hold.
    let send = async { while greedy.write_all(ask.as_bytes()).await.is_ok() {} };
    let sent = tokio::time::timeout(Duration::from_secs(600), send).await;
    assert!(sent.is_ok(), "the connection is still open");
    assert_eq!(h.ask("GET", "/api/shots", b"").await.0, 200);
}

/// What the framework refuses is told as everything else is: as JSON with place and remedy.
#[tokio::test]
async fn every_refusal_is_a_fault_and_limits_fit_the_formats() {
    let h = house().await;
    let line = "0.123456 0.123456 0.123456\n";
    let cube = format!("LUT_3D_SIZE 65\n{}", line.repeat(65 * 65 * 65));
    let (code, table) = h.ask("POST", "/api/tables?name=large.cube", cube.as_bytes()).await;
    assert_eq!((code, table["title"].as_str()), (200, Some("large")), "{table}");
    let large = vec![b' '; 5 << 20];
    let own = h.address.to_string();
    for (method, path, body) in [
        ("PATCH", "/api/settings", large.as_slice()),
        ("GET", "/api/events", b""),
        ("GET", "/api/shots/none", b""),
        ("GET", "/api/difference?a=x", b""),
        ("POST", "/api/shots", b"{"),
        ("PUT", "/api/shots", b""),
        ("GET", "/none.js", b""),
        ("GET", "/api/none", b""),
    ] {
        let (code, bytes) = h.raw(method, path, &own, "", body).await;
        let fault: Value = serde_json::from_slice(&bytes).unwrap_or_else(|e| panic!("{method} {path}: {code} {e}"));
        let told = ["what", "place", "remedy"].iter().all(|k| fault[k].as_str().is_some_and(|t| !t.is_empty()));
        assert!((400..500).contains(&code) && told, "{method} {path}: {code} {fault}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn from_shot_to_delivered_final() {
    let h = house().await;
    let id = h.shot().await;
    let (_, proof) = h
        .json(
            "POST",
            &format!("/api/shots/{id}/tests"),
            json!({ "region": { "x": 16, "y": 8, "width": 40, "height": 30 } }),
        )
        .await;
    let p = proof["id"].as_i64().unwrap();
    let w = h.workshop.clone();
    tokio::task::spawn_blocking(move || w.wait_for_test()).await.unwrap();
    let (_, proofs) = h.ask("GET", &format!("/api/shots/{id}/proofs"), b"").await;
    let proofs = proofs["list"].clone();
    assert_eq!((&proofs[0]["state"], proofs[0]["report"]["complete"].as_bool()), (&json!("done"), Some(true)));
    let told = &proofs[0]["tuning"];
    assert_eq!((&told["sampling.most"], told.get("depth.total")), (&json!(8), None), "what differs from the defaults");

    let (status, picture) =
        h.raw("GET", &format!("/api/proofs/{p}/picture?layer=grain"), &h.address.to_string(), "", b"").await;
    let words: Vec<u32> = picture[..24].chunks(4).map(|c| u32::from_le_bytes(c.try_into().unwrap())).collect();
    assert_eq!((status, words, picture.len()), (200, vec![96, 64, 16, 8, 40, 30], 32 + 40 * 30 * 4));

    let (_, forecast) = h.ask("GET", &format!("/api/shots/{id}/forecast"), b"").await;
    assert!(forecast["forecast"]["seconds"].as_f64().unwrap() > 0.0 && forecast["forecast"]["measured"] == false);

    // A change is a revision; going back restores it.
    let (_, changed) = h.json("PATCH", &format!("/api/shots/{id}"), json!({ "tuning": { "depth.total": 3 } })).await;
    assert_eq!((&changed["tuning"]["depth.total"], &changed["undo"]), (&json!(3), &json!(2)));
    let (_, back) = h.ask("POST", &format!("/api/shots/{id}/revisions/2"), b"").await;
    assert_eq!((&back["tuning"]["depth.total"], &back["redo"]), (&json!(12), &json!(3)));

    // The final ignores the region and everything else of the test.
    assert_eq!(h.ask("POST", &format!("/api/shots/{id}/finals"), b"").await.0, 200);
    let w = h.workshop.clone();
    tokio::task::spawn_blocking(move || w.wait_for_finals()).await.unwrap().unwrap();
    let (_, finals) = h.ask("GET", "/api/finals?ended=true", b"").await;
    assert_eq!((&finals["open"], &finals["ended"]), (&json!(0), &json!(1)));
    let f = &finals["list"][0];
    assert_eq!((&f["state"], &f["frame"]), (&json!("delivered"), &json!([96, 64])), "{f}");
    for file in f["files"].as_array().unwrap() {
        let path = format!("/api/finals/{}/files/{}", f["id"], file["name"].as_str().unwrap());
        let (status, bytes) = h.raw("GET", &path, &h.address.to_string(), "", b"").await;
        assert_eq!((status, bytes.len() as u64), (200, file["bytes"].as_u64().unwrap()));
        // A part of it, as of a download that goes on (RFC 9110, 14.2).
        let own = h.address.to_string();
        let (status, part) = h.raw("GET", &path, &own, "Range: bytes=5-104\r\n", b"").await;
        assert_eq!((status, &part[..]), (206, &bytes[5..105]));
        assert_eq!(h.raw("GET", &path, &own, "Range: bytes=99999999-\r\n", b"").await.0, 416);
    }
    let escape = format!("/api/finals/{}/files/..%2F..%2Fmellow-grain.sqlite", f["id"]);
    assert_eq!(h.ask("GET", &escape, b"").await.0, 404);

    let mut shape = proofs[0].clone();
    for volatile in ["made", "report", "circumstances", "marks", "bytes"] {
        shape[volatile] = json!("…");
    }
    insta::assert_json_snapshot!(shape);
}

/// A4 at 300 dpi is 2480 × 3508 pixels (ISO 216), and back.
#[tokio::test]
async fn paper_becomes_pixels_and_back() {
    let h = house().await;
    let (_, sides) = h.ask("GET", "/api/paper?unit=mm&dpi=300&width=210&height=297", b"").await;
    assert_eq!(sides, json!({ "width": 2480.0, "height": 3508.0 }));
    let (_, back) = h.ask("GET", "/api/paper?unit=inch&dpi=300&width=2400&height=3000&pixels=true", b"").await;
    assert_eq!(back, json!({ "width": 8.0, "height": 10.0 }));
    let (_, papers) = h.ask("GET", "/api/papers", b"").await;
    assert!(papers.as_array().unwrap().iter().any(|p| p["name"] == "A4" && p["width"] == 210.0));
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_input_is_answered_and_changes_nothing() {
    let h = house().await;
    let id = h.shot().await;
    let shot = format!("/api/shots/{id}");
    let before = h.ask("GET", &shot, b"").await.1;
    let glb = demo::lens_cabinet();
    let mut told = Vec::new();
    for (method, path, body) in [
        ("IMPORT", "cut.glb", &glb[..100_000]),
        ("IMPORT", "../../escape.glb", &glb[..100]),
        ("IMPORT", "picture.glb", b"\x89PNG\r\n\x1a\n".as_slice()),
        ("IMPORT", "sky.hdr", b"not a picture".as_slice()),
        ("IMPORT", "notes.txt", b"hello".as_slice()),
        ("POST", "/api/shots", br#"{"name":"x","scene":"none","environment":null,"camera":null,"budget":60}"#),
        ("PATCH", &shot, br#"{"tuning":{"sampling.threshold":0}}"#),
        ("PATCH", &shot, br#"{"tuning":{"sampling.least":64}}"#),
        ("PATCH", &shot, br#"{"tuning":{"frame.width":16384,"frame.height":16384}}"#),
        ("PATCH", &shot, br#"{"tuning":{"sampling.most":NaN}}"#),
        ("PATCH", &shot, br#"{"camera":"Nobody"}"#),
        ("PATCH", &shot, br#"{"budget":-5}"#),
        ("POST", &format!("{shot}/tests"), br#"{"region":{"x":90,"y":0,"width":20,"height":10}}"#),
        ("POST", &format!("{shot}/tests"), br#"{"region":{"x":-1,"y":0,"width":20,"height":10}}"#),
        ("GET", "/api/shots/99", b"".as_slice()),
        ("GET", "/api/shots/nine", b"".as_slice()),
        ("GET", "/api/proofs/99/picture?layer=everything", b"".as_slice()),
        ("GET", "/api/nothing", b"".as_slice()),
        ("POST", "/api/partials", br#"{"kind":"overlay","name":"","values":{"depth.total":2}}"#),
        ("POST", "/api/partials", br#"{"kind":"overlay","name":"x","values":{"depth.total":-2}}"#),
        ("POST", "/api/partials/import?kind=preset&name=a.json", b"{}".as_slice()),
        ("PUT", &format!("{shot}/overlays"), b"[77]".as_slice()),
        ("POST", "/api/proofs/99/further", b"{}".as_slice()),
        ("GET", "/api/compare?ids=1,x", b"".as_slice()),
        ("GET", "/api/paper?unit=mm&dpi=0&width=1&height=1", b"".as_slice()),
        ("PATCH", "/api/settings", br#"{"spare":0}"#),
    ] {
        let (status, fault) =
            if method == "IMPORT" { h.import(path, body).await } else { h.ask(method, path, body).await };
        assert!((400..500).contains(&status), "{path}: {status} {fault}");
        told.push(format!(
            "{status} {method} {} | {} | {} | {}",
            path.split('?').next().unwrap(),
            fault["place"],
            fault["what"],
            fault["remedy"]
        ));
    }
    insta::assert_snapshot!(told.join("\n"));
    assert_eq!(h.ask("GET", &shot, b"").await.1, before, "nothing was changed");
    assert_eq!(h.ask("GET", "/api/scenes", b"").await.1.as_array().unwrap().len(), 1, "nothing was left behind");
}

/// Paths of all routes, as they stand in the source.
fn routes() -> Vec<&'static str> {
    let sources = [include_str!("../src/routes.rs"), include_str!("../src/library_routes.rs")];
    let paths = sources.into_iter().flat_map(|s| s.split(".route(\"").skip(1));
    paths.map(|rest| rest.split('"').next().unwrap()).filter(|path| !path.contains('*')).collect()
}

/// Whatever is sent to whichever route, by whichever method: it is answered, what is refused says what, where and what helps, and
/// the program takes no harm.
#[tokio::test(flavor = "multi_thread")]
async fn every_route_answers_nonsense() {
    let h = house().await;
    let id = h.shot().await;
    // A pilot takes no body, so that one may begin.
    let shot = async || {
        let mut shot = h.ask("GET", &format!("/api/shots/{id}"), b"").await.1;
        (shot["running"], shot["thumbnail"]) = (Value::Null, Value::Null);
        shot
    };
    let before = shot().await;
    let deep = "[".repeat(100_000);
    let wrong = json!({
        "tuning": 1, "region": [1, 2], "seconds": "soon", "budget": {}, "name": [], "camera": 7, "values": "x", "kind": 0, "ids": [-1],
        "changes": [[]], "knob": {}, "without": 3, "files": false, "spare": "much", "scene": 1, "environment": 1, "by": 1e300,
    });
    let wrong = wrong.to_string();
    let bodies: [&[u8]; 6] =
        [b"", b"null", b"{\"tuning\":", deep.as_bytes(), wrong.as_bytes(), b"\xff\xfe{\"budget\":1e999}"];
    let queries =
        ["", "?layer=%00&x=1e99&y=-1&ids=,&left=a&kind=%F0%9F%92%A9&width=NaN&unit=mm&dpi=-1&n=99999999999999999999"];
    assert!(routes().len() > 60, "{:?}", routes());
    let mut bad = Vec::new();
    for route in routes() {
        let real = id.to_string();
        for filling in [&real, "99", "x", "-1", "99999999999999999999", "..%2F..%2Fetc", "%00"] {
            // The path's variables filled in: of what is there, nothing that is there.
            let mut fillings =
                [filling].into_iter().chain(std::iter::repeat(if filling == real { "99" } else { filling }));
            let fill = |part| if str::starts_with(part, '{') { fillings.next().unwrap() } else { part };
            let filled: Vec<&str> = route.split('/').map(fill).collect();
            let path = filled.join("/");
            for method in ["GET", "POST", "PUT", "PATCH", "DELETE"] {
                // What has no body has a query instead.
                let all = queries.iter().map(|q| (*q, bodies[0])).chain(bodies.iter().skip(1).map(|b| ("", *b)));
                // What is there is asked for nothing that could be meant.
                let senseless =
                    |body: &[u8]| if method == "GET" { body.is_empty() } else { filling != real || !body.is_empty() };
                for (query, body) in all.filter(|(_, body)| senseless(body)) {
                    let (status, answer) = h.ask(method, &format!("{path}{query}"), body).await;
                    let told =
                        ["what", "place", "remedy"].iter().all(|k| answer[k].as_str().is_some_and(|t| !t.is_empty()));
                    if status >= 500 || (status >= 400 && !told) {
                        bad.push(format!("{method} {path}{query}: {status} {answer}"));
                    }
                }
            }
            // Without a variable once is enough.
            if !route.contains('{') {
                break;
            }
        }
    }
    assert!(bad.is_empty(), "{}", bad.join("\n"));
    assert_eq!(shot().await, before, "nothing was changed");
}

/// An ended test shows and tells whatever it is asked, or says why not: each question of its own makes up its query from what is
/// usual, from the ends of what numbers can be, and from nonsense.
#[tokio::test(flavor = "multi_thread")]
async fn a_proof_answers_any_question() {
    let h = house().await;
    let id = h.shot().await;
    for region in [json!(null), json!({ "x": 8, "y": 4, "width": 24, "height": 20 })] {
        assert_eq!(h.json("POST", &format!("/api/shots/{id}/tests"), json!({ "region": region })).await.0, 200);
        let w = h.workshop.clone();
        tokio::task::spawn_blocking(move || w.wait_for_test()).await.unwrap();
    }
    let layers =
        "picture grain samples albedo normal part part_grain shadow depth detail stray flat clamped clipped all";
    let numbers = "0 1 -1 0.5 7 1e30 1e308 -1e308 1e-320 NaN inf 4294967295 4294967296 18446744073709551615 x";
    let areas = "0,0,8,8 5,5,1,1;9,9,90,90 4294967295,4294967295,4294967295,4294967295 0,0,0,0 1,2,3 ;";
    let names = "none quick careful colour magic";
    let parts = "diffuse_direct light%20environment nobody %00 tail";
    let fields = [
        ("layer", layers),
        ("part", parts),
        ("exposure", numbers),
        ("transform", "srgb shoulder table other"),
        ("table", numbers),
        ("denoise", names),
        ("blend", numbers),
        ("diffuse", "true false maybe"),
        ("stray", numbers),
        ("struck", areas),
        ("pointed", areas),
        ("threshold", numbers),
        ("x", numbers),
        ("y", numbers),
        ("width", numbers),
        ("height", numbers),
        ("a", "1 2 3 -1"),
        ("b", "1 2 3"),
        ("gain", numbers),
        ("ids", "1 1,2 2,2,2 1,99 ,"),
        ("reference", "1 2 99"),
        ("radius", numbers),
        ("dpi", numbers),
        ("unit", "mm cm inch ell"),
        ("pixels", "true false"),
        ("camera", "Front Nobody"),
    ];
    let questions = [
        ("/api/proofs/1/picture", "layer part exposure transform table denoise blend diffuse stray struck threshold"),
        ("/api/proofs/2/picture", "layer part exposure denoise blend stray pointed threshold"),
        ("/api/proofs/2/pixel", "x y exposure transform denoise"),
        ("/api/proofs/2/legends", "part exposure transform denoise threshold"),
        ("/api/proofs/2/clean-up", "exposure denoise blend stray struck pointed"),
        ("/api/proofs/2/ledger", "x y width height"),
        ("/api/compare", "ids reference"),
        ("/api/difference", "a b gain"),
        ("/api/look-change", "a b gain"),
        ("/api/filters/lanczos", "radius"),
        ("/api/filters/triangle/chart.png", "radius"),
        ("/api/paper", "unit dpi width height pixels"),
        ("/api/shots/1/glance", "camera"),
    ];
    // Park and Miller 1988, the minimal standard.
    let mut seed = 7_u64;
    let mut dice = move |below: usize| {
        seed = seed * 48_271 % 0x7fff_ffff;
        seed as usize % below
    };
    let (mut answered, mut refused) = (0, 0);
    for round in 0..1200 {
        let (path, asked) = questions[round % questions.len()];
        let mut query = String::new();
        for name in asked.split(' ') {
            if dice(3) == 0 {
                continue;
            }
            let values: Vec<&str> = fields.iter().find(|f| f.0 == name).unwrap().1.split(' ').collect();
            // What is usual comes first, and more often.
            let usual = dice(2) == 0;
            let among = if usual { values.len().min(4) } else { values.len() };
            query += &format!("{name}={}&", values[dice(among)]);
        }
        let path = format!("{path}?{query}");
        let (status, body) = h.raw("GET", &path, &h.address.to_string(), "", b"").await;
        if status == 200 {
            assert!(!body.is_empty(), "{path}");
            answered += 1;
            continue;
        }
        let fault: Value = serde_json::from_slice(&body).unwrap_or_default();
        assert!((400..500).contains(&status) && fault["remedy"].is_string(), "{path}: {status} {fault}");
        refused += 1;
    }
    assert!(answered > 200 && refused > 200, "{answered} {refused}");
}
