//! Every error of the API has one JSON shape, that of a [`Fault`], and a status that follows from its code.

use axum::extract::rejection::{BytesRejection, PathRejection, QueryRejection};
use axum::extract::ws::rejection::WebSocketUpgradeRejection;
use axum::http::{Method, StatusCode};
use axum::response::{IntoResponse, Response};
use fault::{Code, Fault};

pub struct Failure(pub Fault);

impl From<Fault> for Failure {
    fn from(f: Fault) -> Self {
        Failure(f)
    }
}

fn misread(place: &str, text: String) -> Failure {
    Failure(Fault::new(Code::WrongType, text, place, "see the types of the API"))
}

impl From<PathRejection> for Failure {
    fn from(r: PathRejection) -> Self {
        misread("address", r.body_text())
    }
}

impl From<QueryRejection> for Failure {
    fn from(r: QueryRejection) -> Self {
        misread("query", r.body_text())
    }
}

impl From<BytesRejection> for Failure {
    fn from(r: BytesRejection) -> Self {
        if r.status() == StatusCode::PAYLOAD_TOO_LARGE {
            let what = "the request is larger than what is sent there can be";
            return Failure(Fault::new(Code::TooLarge, what, "body", "check that it is the right file"));
        }
        misread("body", r.body_text())
    }
}

impl From<WebSocketUpgradeRejection> for Failure {
    fn from(r: WebSocketUpgradeRejection) -> Self {
        misread("events", r.body_text())
    }
}

impl IntoResponse for Failure {
    fn into_response(self) -> Response {
        let status = match self.0.code {
            Code::NotFound => StatusCode::NOT_FOUND,
            Code::TooLarge => StatusCode::PAYLOAD_TOO_LARGE,
            Code::Forbidden => StatusCode::FORBIDDEN,
            Code::Busy => StatusCode::CONFLICT,
            Code::DiskFull => StatusCode::INSUFFICIENT_STORAGE,
            Code::Io | Code::Internal => StatusCode::INTERNAL_SERVER_ERROR,
            Code::WrongType
            | Code::Damaged
            | Code::OutOfRange
            | Code::NotANumber
            | Code::Contradiction
            | Code::Unsupported => StatusCode::UNPROCESSABLE_ENTITY,
        };
        (status, axum::Json(self.0)).into_response()
    }
}

/// What an address answers to a method that it does not take.
pub(crate) async fn wrong_method(method: Method) -> Response {
    let what = format!("this address does not take {method}");
    let fault = Fault::new(Code::Unsupported, what, "method", "see the types of the API");
    (StatusCode::METHOD_NOT_ALLOWED, axum::Json(fault)).into_response()
}
