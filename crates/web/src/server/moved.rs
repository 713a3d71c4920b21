//! Addresses as they were before: links, bookmarks, printed sheets and calendars lead on for good.

use actix_web::http::header::LOCATION;
use actix_web::{HttpRequest, HttpResponse, route};

/// What was called a box is a controller.
#[route("/sites/{id}/boxes{rest:.*}", method = "GET", method = "POST")]
pub(crate) async fn controllers(request: HttpRequest) -> HttpResponse {
    // The path of the request itself, so that what was escaped stays escaped.
    let path = request.path().replacen("/boxes", "/controllers", 1);
    let query = request.query_string();
    let to = if query.is_empty() { path } else { format!("{path}?{query}") };
    HttpResponse::PermanentRedirect().insert_header((LOCATION, to)).finish()
}
