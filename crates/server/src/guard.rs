//! Only this machine's own pages may drive the server: the Host must be an address of it, and an Origin, where a browser
//! sends one, must be the same. This defeats pages of other sites, also through names that point to loopback. What a browser
//! fetches for another site without an Origin, such as a picture, says so in Sec-Fetch-Site; only links to the page itself may
//! come from elsewhere. Answers tell browsers to load nothing from elsewhere and to show the page in no frame.

use crate::{App, Failure};
use axum::extract::{Request, State};
use axum::http::header::{
    CONTENT_SECURITY_POLICY, HOST, HeaderName, ORIGIN, REFERRER_POLICY, X_CONTENT_TYPE_OPTIONS, X_FRAME_OPTIONS,
};
use axum::http::{HeaderMap, HeaderValue};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use fault::{Code, Fault};
use std::net::IpAddr;

pub async fn check(State(app): State<App>, request: Request, next: Next) -> Response {
    match stranger(&app, request.uri().path(), request.headers()) {
        None => next.run(request).await,
        Some(header) => Failure(Fault::new(
            Code::Forbidden,
            "the request comes from another site or through another name",
            header,
            format!("open http://{} in the browser", app.address),
        ))
        .into_response(),
    }
}

/// The header that shows a request to be foreign.
fn stranger(app: &App, path: &str, headers: &HeaderMap) -> Option<&'static str> {
    let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or("");
    let host = text(HOST.as_str());
    if !is_own(host, app) {
        return Some("Host");
    }
    let own_origin = format!("http://{host}");
    let foreign = headers.get(ORIGIN).is_some_and(|o| !o.to_str().is_ok_and(|o| o == own_origin));
    if foreign {
        return Some("Origin");
    }
    let to_page = text("sec-fetch-mode") == "navigate" && !path.starts_with("/api");
    (matches!(text("sec-fetch-site"), "cross-site" | "same-site") && !to_page).then_some("Sec-Fetch-Site")
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

fn is_own(host: &str, app: &App) -> bool {
    let Some((name, port)) = host.rsplit_once(':') else { return false };
    if port.parse() != Ok(app.address.port()) {
        return false;
    }
    let name = name.trim_start_matches('[').trim_end_matches(']');
    name == "localhost" || name.parse::<IpAddr>().is_ok_and(|ip| ip.is_loopback() || ip == app.address.ip())
}
