//! Taking a file in that was looked at: its progress, stopping it, leaving it.

use super::upload::{Waiting, read_draft, waiting};
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::counted;
use crate::server::address;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, flash};
use crate::server::state::{AppState, with_store};
use crate::site::climate::climate;
use crate::site::context::EditorAt;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::sync::Arc;
use upland_store::StoreError;
use upland_store::weather::{Draft, DraftState};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(take_in).service(progress_page).service(progress_json).service(cancel).service(drop_draft);
}

/// Starts taking a draft in, or starts once more what was given up, and shows its progress.
#[post("/sites/{id}/weather/drafts/{draft}")]
async fn take_in(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    let records = Arc::clone(&here.records);
    let progress = format!("{}/progress", address::draft(site_id, draft_id));
    let Some((_, outcome)) = waiting(&here, &records, draft_id).await? else {
        let of_site = here.site_key();
        if with_store(&here.state, move |store| store.resume_draft(of_site, draft_id)).await? {
            tracing::info!(site = site_id, user = here.who.user.id, "import asked for once more");
        }
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
            "import asked for"
        );
    }
    Ok(see_other(&progress))
}

/// Takes a started draft in, wherever a worker picked it up; what it did, in words.
///
/// A database that fails on the way leaves the draft as it is: the queue tries again, and what was half written does not
/// count.
pub(crate) fn run(state: &AppState, draft_id: i64) -> Result<Option<String>, StoreError> {
    let store = &state.store;
    let Some((draft, content)) = store.running_draft(draft_id)? else { return Ok(None) };
    let site_id = draft.site_id;
    let Some(site) = store.read(|snapshot| snapshot.site(site_id))? else {
        store.end_draft(draft_id, Err(("failed", "The site is gone.".to_owned())))?;
        return Ok(None);
    };
    let file = match read_draft(store, &site, &draft, content)? {
        Waiting::Read(file) => file,
        _ => {
            let words = "The file cannot be read as it was looked at; bring it once more.";
            store.end_draft(draft_id, Err(("failed", words.to_owned())))?;
            return Ok(Some(words.to_owned()));
        }
    };
    let counts = match store.run_draft(&draft, &file.days, &file.hours) {
        Ok(counts) => counts,
        Err(StoreError::Cancelled) => return Ok(Some(format!("{} was stopped", draft.file_name))),
        Err(error) => return Err(error),
    };
    // So that the next page and the call list find the climate computed.
    store.read(|snapshot| match snapshot.site(site_id)? {
        Some(site) => climate(state, snapshot, &site).map(|_| ()),
        None => Ok(()),
    })?;
    Ok(Some(format!(
        "{}: {} new, {} changed, {} known already",
        draft.file_name,
        counted(counts.new, "day"),
        counts.changed,
        counts.same
    )))
}

#[derive(Template)]
#[template(path = "chapters/weather/progress.html")]
struct ProgressPage {
    frame: Frame,
    site_id: i64,
    draft: Draft,
    running: bool,
    given_up: bool,
    failed: bool,
}

#[get("/sites/{id}/weather/drafts/{draft}/progress")]
async fn progress_page(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let (site_id, draft_id) = *path;
    let draft =
        here.read(move |snapshot| snapshot.draft(of_site, draft_id)).await?.ok_or(PageError::NotFound)?;
    page(&ProgressPage {
        frame: Frame::of_site(&here, "Taking the file in", Chapter::Weather)?,
        site_id,
        running: draft.state == DraftState::Running,
        given_up: draft.state == DraftState::GivenUp,
        failed: matches!(draft.state, DraftState::Failed | DraftState::Cancelled),
        draft,
    })
}

#[get("/sites/{id}/weather/drafts/{draft}/progress.json")]
async fn progress_json(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let (_, draft_id) = *path;
    let draft =
        here.read(move |snapshot| snapshot.draft(of_site, draft_id)).await?.ok_or(PageError::NotFound)?;
    Ok(HttpResponse::Ok().json(serde_json::json!({
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
    let of_site = here.site_key();
    let (site_id, draft_id) = *path;
    if !with_store(&here.state, move |store| store.cancel_draft(of_site, draft_id)).await? {
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
    let of_site = here.site_key();
    let (site_id, draft_id) = *path;
    if !with_store(&here.state, move |store| store.drop_draft(of_site, draft_id)).await? {
        return Err(PageError::NotFound);
    }
    flash(&here.who.session, "The file was not imported; the record is as it was.", None)?;
    Ok(see_other(&address::weather(site_id)))
}
