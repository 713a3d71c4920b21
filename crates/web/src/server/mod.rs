//! The server under the pages: session, headers, limits, uploads, assets, errors. It knows no site.

pub(crate) mod address;
pub(crate) mod assets;
pub(crate) mod body_timeout;
pub(crate) mod cache;
pub(crate) mod clock;
pub(crate) mod digest;
pub(crate) mod download;
pub(crate) mod error;
pub(crate) mod fetching;
pub(crate) mod guard;
pub mod keys;
pub(crate) mod limits;
pub mod mailer;
pub(crate) mod metrics;
pub(crate) mod moved;
pub(crate) mod parallel;
pub(crate) mod request_locale;
pub(crate) mod sent_entries;
pub(crate) mod session;
pub(crate) mod settled;
pub(crate) mod simulators;
pub(crate) mod state;
pub(crate) mod time_zones;
pub(crate) mod trace;
pub(crate) mod turns;
pub(crate) mod upload;
pub(crate) mod visitor;

use crate::server::error::PageError;
use crate::server::state::{AppState, with_store};
use actix_web::{HttpResponse, get, web};

/// Whether the server lives, whatever its database does: one that does not is started again.
#[get("/healthz")]
pub(crate) async fn health() -> &'static str {
    "ok\n"
}

/// Whether server and database answer: one that does not gets no visitors.
#[get("/readyz")]
pub(crate) async fn ready(state: web::Data<AppState>) -> Result<HttpResponse, PageError> {
    with_store(&state, upland_store::Store::ping).await?;
    Ok(HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("ready\n"))
}
