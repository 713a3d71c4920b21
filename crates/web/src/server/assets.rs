//! Styles, scripts and fonts, compiled into the binary.

use crate::server::error::PageError;
use actix_web::{HttpRequest, HttpResponse, get, web};
use rust_embed::RustEmbed;
use std::sync::LazyLock;

#[derive(RustEmbed)]
#[folder = "assets/"]
struct Assets;

/// A short hash of everything the pages load, so that a new version is fetched at once and an old
/// one can be kept for ever.
pub(crate) static VERSION: LazyLock<String> = LazyLock::new(|| {
    use sha2::{Digest, Sha256};
    let mut hasher = Sha256::new();
    let mut names: Vec<_> = Assets::iter().collect();
    names.sort();
    for file in names.iter().filter_map(|name| Assets::get(name)) {
        hasher.update(&file.data);
    }
    hex::encode(hasher.finalize().get(..6).unwrap_or_default())
});

/// The worker that keeps the pages of a visit: it stands at the root, so that it may serve any page of a site.
#[get("/visit-worker.js")]
pub(crate) async fn worker() -> Result<HttpResponse, PageError> {
    let file = Assets::get("visit-worker.js").ok_or(PageError::NotFound)?;
    Ok(HttpResponse::Ok()
        .content_type("text/javascript; charset=utf-8")
        .insert_header(("cache-control", "no-cache"))
        .body(file.data))
}

#[get("/assets/{path:.*}")]
pub(crate) async fn serve(path: web::Path<String>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let file = Assets::get(&path).ok_or(PageError::NotFound)?;
    let etag = format!("\"{}\"", hex::encode(file.metadata.sha256_hash().get(..12).unwrap_or_default()));
    let known = request.headers().get("if-none-match").and_then(|v| v.to_str().ok());
    if known == Some(etag.as_str()) {
        return Ok(HttpResponse::NotModified().finish());
    }
    Ok(HttpResponse::Ok()
        .content_type(mime_guess::from_path(path.as_str()).first_or_octet_stream())
        .insert_header(("cache-control", "public, max-age=31536000, immutable"))
        .insert_header(("etag", etag))
        .body(file.data))
}
