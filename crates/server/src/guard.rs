//! Only this machine's own pages may drive the server: the Host must be an address of it, and an Origin, where a browser
//! sends one, must be the same. This defeats pages of other sites, also through names that point to loopback.

use crate::{App, Failure};
use axum::extract::{Request, State};
use axum::http::HeaderMap;
use axum::http::header::{HOST, ORIGIN};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use fault::{Code, Fault};
use std::net::IpAddr;

pub async fn check(State(app): State<App>, request: Request, next: Next) -> Response {
    match stranger(&app, request.headers()) {
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
fn stranger(app: &App, headers: &HeaderMap) -> Option<&'static str> {
    let host = headers.get(HOST).and_then(|v| v.to_str().ok()).unwrap_or("");
    if !is_own(host, app) {
        return Some("Host");
    }
    let own_origin = format!("http://{host}");
    let foreign = headers.get(ORIGIN).is_some_and(|o| !o.to_str().is_ok_and(|o| o == own_origin));
    foreign.then_some("Origin")
}

fn is_own(host: &str, app: &App) -> bool {
    let Some((name, port)) = host.rsplit_once(':') else { return false };
    if port.parse() != Ok(app.address.port()) {
        return false;
    }
    let name = name.trim_start_matches('[').trim_end_matches(']');
    name == "localhost" || name.parse::<IpAddr>().is_ok_and(|ip| ip.is_loopback() || ip == app.address.ip())
}
