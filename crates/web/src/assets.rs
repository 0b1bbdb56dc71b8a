//! Styles, fonts and scripts, embedded in the program.

use axum::extract::Path;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "$CARGO_MANIFEST_DIR/assets/"]
struct Files;

/// Serves a file; browsers ask again and are mostly told that nothing changed.
pub async fn get(Path(path): Path<String>, headers: HeaderMap) -> Response {
    let Some(file) = Files::get(&path) else { return StatusCode::NOT_FOUND.into_response() };
    let hash = file.metadata.sha256_hash();
    let tag =
        hash[..12].iter().fold(String::from("\""), |tag, byte| format!("{tag}{byte:02x}")) + "\"";
    let kept = headers.get(header::IF_NONE_MATCH).is_some_and(|t| t.as_bytes() == tag.as_bytes());
    let caching = [(header::ETAG, tag), (header::CACHE_CONTROL, "public, max-age=300".to_owned())];
    if kept {
        return (StatusCode::NOT_MODIFIED, caching).into_response();
    }
    let kind = [(header::CONTENT_TYPE, file.metadata.mimetype().to_owned())];
    (caching, kind, file.data).into_response()
}
