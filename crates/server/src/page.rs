//! The front end, built into the program.

use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
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
            // Nothing may be loaded from elsewhere, even by mistake.
            let policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; connect-src 'self' ws:; frame-ancestors 'none'";
            (
                [
                    (header::CONTENT_TYPE, file.metadata.mimetype().to_string()),
                    (header::CACHE_CONTROL, cache.to_string()),
                    (header::CONTENT_SECURITY_POLICY, policy.to_string()),
                ],
                file.data,
            )
                .into_response()
        }
        None if wanted == "index.html" => {
            (StatusCode::NOT_FOUND, "The front end is not built into this program. Build it with ./run build.")
                .into_response()
        }
        None => StatusCode::NOT_FOUND.into_response(),
    }
}
