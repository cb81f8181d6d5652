//! Who may come in.
//!
//! Only this machine's own pages may drive the server: the Host must be an address of it or a name that it was told, and an Origin,
//! where a browser sends one, must be the same. This defeats pages of other sites, also through names that point here. What a
//! browser fetches for another site without an Origin, such as a picture, says so in Sec-Fetch-Site; only links to the page itself
//! may come from elsewhere. Answers tell browsers to load nothing from elsewhere and to show the page in no frame.
//!
//! Who listens beyond this machine gets a key, 32 random bytes that come once as part of the address. It is exchanged for a cookie
//! that is derived from it; kept is the hash of the cookie alone. Wrong keys are answered slowly, one a second in all.

use crate::{App, Failure};
use axum::extract::{Request, State};
use axum::http::header::{
    CONTENT_SECURITY_POLICY, COOKIE as COOKIE_HEADER, HOST, HeaderName, LOCATION, ORIGIN, REFERRER_POLICY, SET_COOKIE,
    X_CONTENT_TYPE_OPTIONS, X_FRAME_OPTIONS,
};
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use fault::{Code, Fault};
use std::net::IpAddr;
use std::time::Duration;
use tokio::sync::Mutex;

/// What is asked of those who come in.
#[derive(Debug, Clone, Default)]
pub struct Door {
    /// Names of this machine beyond its addresses, as browsers see them.
    pub hosts: Vec<String>,
    /// Hash of the cookie that is asked for; none where only this machine can come in.
    pub cookie: Option<blake3::Hash>,
}

const COOKIE: &str = "mellow_grain_key";

/// The cookie that a key is exchanged for.
fn cookie_of(key: &str) -> String {
    blake3::Hash::from(blake3::derive_key("Mellow Grain 2026-11 access cookie", key.as_bytes())).to_hex().to_string()
}

impl Door {
    /// A new key, and the hash that is kept of it.
    pub fn new_key() -> Result<(String, blake3::Hash), Fault> {
        let mut bytes = [0u8; 32];
        getrandom::fill(&mut bytes).map_err(|e| Fault::internal(e.to_string(), "random numbers"))?;
        let key = blake3::Hash::from(bytes).to_hex().to_string();
        let kept = blake3::hash(cookie_of(&key).as_bytes());
        Ok((key, kept))
    }

    /// Whether a request shows the cookie. Hashes are compared in constant time.
    fn knows(&self, headers: &HeaderMap) -> bool {
        let Some(kept) = &self.cookie else { return true };
        let all = headers.get_all(COOKIE_HEADER).iter().filter_map(|v| v.to_str().ok()).flat_map(|v| v.split(';'));
        let mut shown = all.filter_map(|c| c.trim().strip_prefix(COOKIE)?.strip_prefix('='));
        shown.any(|cookie| blake3::hash(cookie.as_bytes()) == *kept)
    }
}

/// Held while a wrong key is answered.
static SLOWLY: Mutex<()> = Mutex::const_new(());

pub async fn check(State(app): State<App>, request: Request, next: Next) -> Response {
    if let Some(header) = stranger(&app, request.uri().path(), request.headers()) {
        return Failure(Fault::new(
            Code::Forbidden,
            "the request comes from another site or through another name",
            header,
            format!("open http://{} in the browser, or allow the name with --host", app.address),
        ))
        .into_response();
    }
    if app.door.knows(request.headers()) {
        return next.run(request).await;
    }
    let key = request.uri().query().and_then(|q| q.split('&').find_map(|p| p.strip_prefix("key=")));
    if let Some(key) = key {
        let cookie = cookie_of(key);
        if app.door.cookie.is_some_and(|kept| blake3::hash(cookie.as_bytes()) == kept) {
            let cookie = format!("{COOKIE}={cookie}; Path=/; Max-Age=31536000; HttpOnly; SameSite=Strict");
            return (StatusCode::SEE_OTHER, [(SET_COOKIE, cookie), (LOCATION, "/".into())]).into_response();
        }
        let _one_at_a_time = SLOWLY.lock().await;
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
    let remedy = "open the address that the program printed with the key, or start it with --new-key";
    let fault = Fault::new(Code::Forbidden, "this bench asks for its access key", "address", remedy);
    if request.uri().path().starts_with("/api") {
        return Failure(fault).into_response();
    }
    (StatusCode::FORBIDDEN, format!("{}: {}.\n", fault.what, fault.remedy)).into_response()
}

/// The header that shows a request to be foreign.
fn stranger(app: &App, path: &str, headers: &HeaderMap) -> Option<&'static str> {
    let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or("");
    let host = text(HOST.as_str());
    if !is_own(host, app) {
        return Some("Host");
    }
    // A proxy in front may speak TLS.
    let own = |origin: &str| ["http", "https"].iter().any(|scheme| origin == format!("{scheme}://{host}"));
    if headers.get(ORIGIN).is_some_and(|o| !o.to_str().is_ok_and(own)) {
        return Some("Origin");
    }
    let to_page = text("sec-fetch-mode") == "navigate" && !path.starts_with("/api");
    (matches!(text("sec-fetch-site"), "cross-site" | "same-site") && !to_page).then_some("Sec-Fetch-Site")
}

/// A name that was allowed, at any port, since a proxy has its own; or an address of this machine at its port. Who listens on all
/// addresses may be asked by any: a page of another site cannot make a browser write an address that is not its own.
fn is_own(host: &str, app: &App) -> bool {
    let (name, port) = match host.rsplit_once(':') {
        Some((name, port)) if port.parse::<u16>().is_ok() => (name, port.parse().ok()),
        _ => (host, None),
    };
    if app.door.hosts.iter().any(|h| h.eq_ignore_ascii_case(name)) {
        return true;
    }
    if port.unwrap_or(80) != app.address.port() {
        return false;
    }
    let name = name.trim_start_matches('[').trim_end_matches(']');
    let address = |ip: IpAddr| ip.is_loopback() || ip == app.address.ip() || app.address.ip().is_unspecified();
    name == "localhost" || name.parse::<IpAddr>().is_ok_and(address)
}

/// What every answer says to the browser.
pub fn headers() -> [(HeaderName, HeaderValue); 5] {
    let policy = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; font-src 'self'; \
                  img-src 'self' data: blob:; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";
    [
        (CONTENT_SECURITY_POLICY, HeaderValue::from_static(policy)),
        (X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff")),
        (X_FRAME_OPTIONS, HeaderValue::from_static("DENY")),
        (REFERRER_POLICY, HeaderValue::from_static("no-referrer")),
        (HeaderName::from_static("cross-origin-resource-policy"), HeaderValue::from_static("same-origin")),
    ]
}
