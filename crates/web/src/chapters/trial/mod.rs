//! Trial: a season of weather through one way of watering beside another, what each sensor saves, and the search for a
//! better way.

mod day;
mod detail;
mod protocol;
mod query;
mod results;
mod saved;
mod search;
mod sensors;
mod table;
mod take;
mod view;
mod way_form;
mod words;

pub(crate) use search::search_for;

use crate::page::frame::{Chapter, Frame};
use crate::server::cache::questions;
use crate::server::download::attachment;
use crate::server::error::{PageError, page};
use crate::site::context::AtSite;
use actix_web::{HttpResponse, get, web};
use detail::Opened;
use jiff::civil::Date;
use query::{Query, no_sample, read};
use results::{Depth, Tried, in_full, tried};
use std::sync::Arc;
use upland_core::trial::{NoSample, WayResult};
use view::{Lists, Looking, TrialPage};

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(trial_page).service(csv).service(json);
    take::routes(config);
    saved::routes(config);
    way_form::routes(config);
    sensors::routes(config);
    search::routes(config);
    protocol::routes(config);
}

#[get("/sites/{id}/trial")]
async fn trial_page(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let (asked, mut errors) = read(&here, &query);
    let frame = Frame::of_site(&here, "Compare", Chapter::Trial)?;
    let lists = Lists::of(&here).await?;
    if here.records.zones.is_empty() {
        errors.push("The site has no zone yet. Describe its zones first.".into());
    }
    if !errors.is_empty() {
        return page(&TrialPage::without(frame, &here, &query, errors, lists));
    }
    let found = tried(&here, &asked, Depth::Mean).await?;
    let tried = match &*found {
        Ok(tried) => tried,
        Err(why) => {
            let errors = vec![no_sample(*why)];
            return page(&TrialPage::without(frame, &here, &query, errors, lists));
        }
    };
    if tried.results.is_empty() {
        let errors = view::all_refused(tried);
        return page(&TrialPage::without(frame, &here, &query, errors, lists));
    }
    let looking = Looking { here: &here, query: &query, asked: &asked, tried, is_kept: false };
    let (mut opened, mut set) = (None, Arc::default());
    if let Some(result) = view::opened(tried, &query) {
        opened = Some(looked_at(&looking, &found, result).await?);
        set = take::settings_under(&here, &result.way).await?;
    }
    page(&TrialPage::of(frame, &looking, opened, &set, lists))
}

questions! {
    words LookedAt { asked: String, way: String, zone: Option<String>, day: Option<Date> } -> Opened;
}

/// The way that is opened, in full, drawn once for the facts and what is looked at.
async fn looked_at(
    looking: &Looking<'_>,
    found: &Arc<Result<Tried, NoSample>>,
    result: &WayResult,
) -> Result<Arc<Opened>, PageError> {
    let Looking { here, query, asked, .. } = looking;
    let full = in_full(here, asked, found, result).await?;
    let (zone, day) = detail::asked_for(&full, query);
    let question =
        LookedAt { asked: format!("{asked:?}"), way: full.way.name.clone(), zone: zone.clone(), day };
    let (known, same, units) = (Arc::clone(found), looking.same(), here.records.units());
    here.once(here.about(), question, 170, move |_| {
        let tried = known.as_ref().as_ref().map_err(|_| PageError::NotFound)?;
        Ok(Opened::of(tried, &full, zone.as_deref(), day, units, &same))
    })
    .await
}

/// What was tried for a table, or why not.
async fn for_table(here: &AtSite, query: &Query) -> Result<Arc<Result<Tried, NoSample>>, PageError> {
    let (asked, errors) = read(here, query);
    if let Some(error) = errors.into_iter().next() {
        return Err(PageError::BadRequest(error));
    }
    let found = tried(here, &asked, Depth::InParts).await?;
    match &*found {
        Err(why) => Err(PageError::BadRequest(no_sample(*why))),
        Ok(_) => Ok(found),
    }
}

#[get("/sites/{id}/trial.csv")]
async fn csv(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let found = for_table(&here, &query).await?;
    let Ok(tried) = &*found else { return Err(PageError::NotFound) };
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment(&format!("{} trial", here.records.site.site.name), "csv"))
        .body(table::write(&tried.facts, &tried.results)))
}

#[get("/sites/{id}/trial.json")]
async fn json(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let found = for_table(&here, &query).await?;
    let Ok(tried) = &*found else { return Err(PageError::NotFound) };
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&format!("{} trial", here.records.site.site.name), "json"))
        .body(upland_formats::trial_json::write(tried.span.first, tried.span.last, &tried.results)))
}
