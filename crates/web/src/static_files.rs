//! Styles, scripts and fonts, shipped inside the program.

use axum::extract::Path;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "static/"]
struct Files;

/// A file that ships inside the program, with a long life in the cache.
pub async fn file(Path(path): Path<String>) -> Response {
    match Files::get(&path) {
        None => StatusCode::NOT_FOUND.into_response(),
        Some(f) => {
            let long = path.starts_with("fonts/");
            let cache = if long { "public, max-age=31536000, immutable" } else { "no-cache" };
            let tag = f.metadata.sha256_hash()[..8].iter().map(|b| format!("{b:02x}")).collect::<String>();
            let headers = [
                (header::CONTENT_TYPE, f.metadata.mimetype().to_string()),
                (header::CACHE_CONTROL, cache.to_string()),
                (header::ETAG, format!("\"{tag}\"")),
            ];
            (headers, f.data).into_response()
        }
    }
}
