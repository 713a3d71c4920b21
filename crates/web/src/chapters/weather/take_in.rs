//! Taking a file in that was looked at: its progress, stopping it, leaving it.

use super::bring::{Waiting, waiting};
use crate::page::frame::{Chapter, Frame};
use crate::server::address;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, flash};
use crate::server::state::with_store;
use crate::site::context::EditorAt;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::sync::Arc;
use upland_store::weather::{Draft, DraftState};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(take_in).service(progress_page).service(progress_json).service(cancel).service(drop_draft);
}

/// Starts taking a draft in, and shows its progress.
#[post("/sites/{id}/weather/drafts/{draft}")]
async fn take_in(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    let loaded = Arc::clone(&here.facts);
    let progress = format!("{}/progress", address::draft(site_id, draft_id));
    let Some((draft, outcome)) = waiting(&here, &loaded, draft_id).await? else {
        return Ok(see_other(&progress));
    };
    let Waiting::Read(file) = outcome else {
        return Ok(see_other(&address::draft(site_id, draft_id)));
    };
    let total = file.days.len();
    if with_store(&here.state, move |store| store.start_draft(draft_id, total)).await? {
        tracing::info!(
            site = site_id,
            user = here.who.user.id,
            days = total,
            hours = file.hours.len(),
            "import starts"
        );
        let state = here.state.clone();
        actix_web::rt::spawn(async move {
            let done =
                with_store(&state, move |store| store.run_draft(&draft, (&file.days, &file.hours))).await;
            if let Err(error) = done {
                tracing::warn!(%error, site = site_id, "import did not end");
                return;
            }
            // So that the next page and the call list find the climate computed.
            let shared = state.clone();
            let computed =
                crate::server::state::read(&state, move |snapshot| match snapshot.site(site_id)? {
                    Some(site) => crate::site::climate::climate(&shared, snapshot, &site).map(|_| ()),
                    None => Ok(()),
                });
            if let Err(error) = computed.await {
                tracing::warn!(%error, site = site_id, "the climate was not computed ahead");
            }
        });
    }
    Ok(see_other(&progress))
}

#[derive(Template)]
#[template(path = "chapters/weather/progress.html")]
struct ProgressPage {
    frame: Frame,
    site_id: i64,
    draft: Draft,
    running: bool,
    failed: bool,
}

#[get("/sites/{id}/weather/drafts/{draft}/progress")]
async fn progress_page(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    let _loaded = Arc::clone(&here.facts);
    let draft =
        here.read(move |snapshot| snapshot.draft(site_id, draft_id)).await?.ok_or(PageError::NotFound)?;
    page(&ProgressPage {
        frame: Frame::of_site(&here, "Taking the file in", Chapter::Weather)?,
        site_id,
        running: draft.state == DraftState::Running,
        failed: matches!(draft.state, DraftState::Failed | DraftState::Cancelled),
        draft,
    })
}

#[get("/sites/{id}/weather/drafts/{draft}/progress.json")]
async fn progress_json(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    let draft =
        here.read(move |snapshot| snapshot.draft(site_id, draft_id)).await?.ok_or(PageError::NotFound)?;
    Ok(HttpResponse::Ok().insert_header(("cache-control", "no-store")).json(serde_json::json!({
        "done": draft.days_done,
        "total": draft.days_total,
        "running": matches!(draft.state, DraftState::Running | DraftState::Preview),
    })))
}

/// Stops an import that runs; nothing of it is stored.
#[post("/sites/{id}/weather/drafts/{draft}/cancel")]
async fn cancel(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    if !with_store(&here.state, move |store| store.cancel_draft(site_id, draft_id)).await? {
        return Err(PageError::NotFound);
    }
    Ok(see_other(&format!("{}/progress", address::draft(site_id, draft_id))))
}

#[post("/sites/{id}/weather/drafts/{draft}/drop")]
async fn drop_draft(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    if !with_store(&here.state, move |store| store.drop_draft(site_id, draft_id)).await? {
        return Err(PageError::NotFound);
    }
    flash(&here.who.session, "The file was not taken in; the record is as it was.", None)?;
    Ok(see_other(&address::weather(site_id)))
}
