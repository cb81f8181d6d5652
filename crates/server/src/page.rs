//! The front end, built into the program.

use crate::Failure;
use axum::http::{Uri, header};
use axum::response::{IntoResponse, Response};
use fault::{Code, Fault};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../web/dist"]
#[allow_missing = true]
struct Page;

/// The file of this path; paths without an ending are views of the one page.
pub async fn serve(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let wanted =
        if path.is_empty() || !path.rsplit('/').next().is_some_and(|n| n.contains('.')) { "index.html" } else { path };
    match Page::get(wanted) {
        Some(file) => {
            let lasting = wanted.starts_with("assets/");
            let cache = if lasting { "public, max-age=31536000, immutable" } else { "no-cache" };
            (
                [
                    (header::CONTENT_TYPE, file.metadata.mimetype().to_string()),
                    (header::CACHE_CONTROL, cache.to_string()),
                ],
                file.data,
            )
                .into_response()
        }
        None => {
            let (what, remedy) = if wanted == "index.html" {
                ("the page is not built into this program", "build it with ./run build")
            } else {
                ("there is no such file", "open the page without a path")
            };
            Failure(Fault::new(Code::NotFound, what, uri.path(), remedy)).into_response()
        }
    }
}
