//! One action on many sites: what it would change is shown first, each site is stored by itself, and all of it can be
//! undone at once.

mod action;
mod apply;

use crate::page::frame::Frame;
use crate::server::error::{PageError, page, page_with};
use crate::server::request_locale::off_loop;
use crate::server::session::Fields;
use crate::server::state::AppState;
use crate::site::context::AllSites;
use action::{Action, Planned, plan};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, post, web};
use apply::{Outcome, apply, take_back};
use askama::Template;
use std::sync::Arc;
use upland_store::scope::SiteKey;

/// Sites that one action is for, at most: what a day's work is.
const MOST_SITES: usize = 200;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(preview).service(confirm).service(take_all_back);
}

#[derive(Template)]
#[template(path = "chapters/round/many/preview.html")]
struct PreviewPage {
    frame: Frame,
    headline: String,
    action: Action,
    lines: Vec<Planned>,
    changes: usize,
    refused: usize,
}

#[derive(Template)]
#[template(path = "chapters/round/many/done.html")]
struct DonePage {
    frame: Frame,
    headline: String,
    outcomes: Vec<Outcome>,
    /// Whether anything of it can be taken back.
    undo: bool,
}

/// The sites that a form names and its sender sees: `s-7`, or all of the page by `all` and `p-7`.
pub(super) fn chosen(here: &AllSites, fields: &Fields) -> Result<Vec<SiteKey>, PageError> {
    let prefix = if fields.get("all").is_empty() { "s-" } else { "p-" };
    let numbers = fields.0.keys().filter_map(|name| name.strip_prefix(prefix)?.parse::<i64>().ok());
    let sites: Vec<SiteKey> = numbers.filter_map(|number| here.who.scope.site(number)).collect();
    match sites.len() {
        0 => {
            Err(PageError::BadRequest("No site was chosen: tick some in the list, then press again.".into()))
        }
        n if n > MOST_SITES => Err(PageError::BadRequest(format!(
            "{n} sites were chosen; one action is for at most {MOST_SITES}. Narrow the list first."
        ))),
        _ => Ok(sites),
    }
}

/// What an action would change at some sites, worked out off the event loop.
async fn planned(here: &AllSites, sites: Vec<SiteKey>, action: Action) -> Result<Vec<Planned>, PageError> {
    let state: web::Data<AppState> = here.state.clone();
    off_loop(move || {
        let of_sites = sites.iter().map(|site| plan(&state, *site, &action));
        Ok(of_sites.collect::<Result<Vec<_>, _>>()?.into_iter().flatten().collect())
    })
    .await?
}

fn may_edit(here: &AllSites) -> Result<(), PageError> {
    if here.who.may_edit() { Ok(()) } else { Err(PageError::Forbidden) }
}

/// Shows what an action would change; nothing is stored.
#[post("/round/preview")]
async fn preview(here: AllSites, fields: Fields) -> Result<HttpResponse, PageError> {
    may_edit(&here)?;
    let action = Action::of(&here, &fields).await?;
    let lines = planned(&here, chosen(&here, &fields)?, action.clone()).await?;
    page(&PreviewPage {
        frame: Frame::new(&here.who, "Preview")?,
        headline: action.words(),
        changes: lines.iter().filter(|line| line.changes()).count(),
        refused: lines.iter().filter(|line| line.refused.is_some()).count(),
        action,
        lines,
    })
}

/// Does it, each site by itself, with the versions that were looked at.
#[post("/round/apply")]
async fn confirm(here: AllSites, fields: Fields) -> Result<HttpResponse, PageError> {
    may_edit(&here)?;
    let action = Action::of(&here, &fields).await?;
    let lines = planned(&here, chosen(&here, &fields)?, action.clone()).await?;
    let (state, actor, scope) = (here.state.clone(), here.who.user.id, here.who.scope.clone());
    let (sent, reason) = (Arc::new(fields.0), action.reason());
    let outcomes = off_loop(move || apply(&state, actor, &scope, lines, &sent, &reason)).await?;
    done(&here, action.words(), outcomes, true)
}

/// Takes back what was done, where nobody changed it since.
#[post("/round/undo")]
async fn take_all_back(here: AllSites, fields: Fields) -> Result<HttpResponse, PageError> {
    may_edit(&here)?;
    let (state, actor, scope) = (here.state.clone(), here.who.user.id, here.who.scope.clone());
    let outcomes = off_loop(move || take_back(&state, actor, &scope, &fields.0)).await?;
    done(&here, "Taken back".into(), outcomes, false)
}

fn done(
    here: &AllSites,
    headline: String,
    outcomes: Vec<Outcome>,
    may_undo: bool,
) -> Result<HttpResponse, PageError> {
    let failed = outcomes.iter().any(|own| !own.is_done);
    let status = if failed { StatusCode::CONFLICT } else { StatusCode::OK };
    page_with(
        status,
        &DonePage {
            frame: Frame::new(&here.who, "Done")?,
            headline,
            undo: may_undo && outcomes.iter().any(|own| !own.undo.is_empty()),
            outcomes,
        },
    )
}
