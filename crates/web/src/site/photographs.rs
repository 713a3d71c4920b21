//! A photograph of a site as a picture, for whoever may see it.

use crate::server::error::PageError;
use crate::server::request_locale::off_loop;
use crate::server::state::{AppState, read};
use actix_web::{HttpResponse, web};
use upland_store::photos::Picture;
use upland_store::scope::SiteKey;

/// The picture of a photograph.
///
/// # Errors
/// When the site has no such photograph, or its file is gone.
pub(crate) async fn jpeg(
    state: &web::Data<AppState>,
    site: SiteKey,
    id: i64,
) -> Result<HttpResponse, PageError> {
    let picture = read(state, move |snapshot| snapshot.photo(site, id)).await?.ok_or(PageError::NotFound)?;
    let bytes = match picture {
        Picture::Jpeg(bytes) => bytes,
        Picture::File(name) => {
            let folder = state.configuration.photo_folder.as_ref().ok_or(PageError::NotFound)?;
            let path = folder.join(name);
            off_loop(move || std::fs::read(path)).await?.map_err(|_| PageError::NotFound)?
        }
    };
    Ok(HttpResponse::Ok()
        .content_type("image/jpeg")
        .insert_header(("cache-control", "private, max-age=86400, immutable"))
        .body(bytes))
}
