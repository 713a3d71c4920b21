//! Trials that are kept with everything that went in: cited by address, run again, taken as a file.

use super::detail::{self, Opened};
use super::query::{Asked, Query, asked_beside, no_sample, read};
use super::results::{Depth, Tried, trial_of, tried};
use super::view::{self, Kept, Lists, Looking, TrialPage};
use super::{table, words};
use crate::page::dates::DateFormat;
use crate::page::forms::name_fault;
use crate::page::frame::{Chapter, Frame};
use crate::page::take_back::TakeBack;
use crate::server::address;
use crate::server::cache::{About, questions};
use crate::server::download::attachment;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::{HttpResponse, get, post, web};
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::site::UnitSystem;
use upland_core::trial::WayResult;
use upland_formats::trial_file::{self, TrialFile, TrialWeather};
use upland_formats::trial_json;
use upland_store::Subject;
use upland_store::trials::{NewTrial, TrialRecord};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(keep)
        .service(kept_file)
        .service(kept_csv)
        .service(kept_page)
        .service(take_back)
        .service(let_stand);
}

/// A kept trial, run again.
struct Again {
    record: TrialRecord,
    trial: TrialFile,
    tried: Tried,
    /// Whether it came to the very same.
    repeats: bool,
}

/// A name for a trial or a way, or what is wrong with it.
pub(super) fn name(text: &str) -> Result<String, String> {
    let text = text.trim();
    name_fault(text).map_or_else(|| Ok(text.to_owned()), Err)
}

/// Keeps what is on the page.
#[post("/sites/{id}/trials")]
async fn keep(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let (asked, errors) = read(&here, &asked_beside(&fields)?);
    let name = name(fields.get("name"));
    let root = address::site_root(here.id());
    let back = format!("{root}/trial?{}", asked.query());
    if let Some(error) = errors.into_iter().next().or(name.clone().err()) {
        flash(&here.who.session, format!("{error} Nothing was kept."), None)?;
        return Ok(see_other(&back));
    }
    let name = name.unwrap_or_default();
    let found = tried(&here, &asked, Depth::InParts).await?;
    let known = found.as_ref().as_ref().map_err(|why| PageError::BadRequest(no_sample(*why)))?;
    if known.results.is_empty() {
        flash(
            &here.who.session,
            "No option can be calculated on this weather, so there is nothing to save.",
            None,
        )?;
        return Ok(see_other(&back));
    }
    let snapshot = here.snapshot(None).await?;
    let ways = known.results.iter().map(|r| r.way.clone()).collect();
    let revision = here.records.site.weather_version;
    let weather = TrialWeather::of(&snapshot.climate, revision);
    let trial = TrialFile { weather, ..trial_of(&snapshot, &asked, name.clone(), ways) };
    let zone = |zone: &_| words::zone_name(&known.facts, zone);
    let answer = words::answer(&known.results, &zone);
    let result = trial_json::write(known.span.first, known.span.last, &known.results);
    let kept = name.clone();
    let id = here
        .change(move |change| {
            let file = trial_file::write(&trial);
            change.keep_trial(NewTrial { name: &kept, file: &file, result: &result, answer: &answer })
        })
        .await?;
    let undo = format!("{root}/trials/{id}/undo");
    flash(&here.who.session, format!("{name} is kept, with everything that went in."), Some(undo))?;
    Ok(see_other(&format!("{root}/trials/{id}")))
}

questions! {
    facts RunAgain { trial: i64 } -> Again;
    words LookedAt { trial: i64, way: String, zone: Option<String>, day: Option<Date>, units: UnitSystem } -> Opened;
}

/// A kept trial, run again once however often it is looked at: it never changes.
async fn again(here: &AtSite, id: i64) -> Result<Arc<Again>, PageError> {
    let of_site = here.site_key();
    let record = here.read(move |snapshot| snapshot.trial(of_site, id)).await?.ok_or(PageError::NotFound)?;
    let site = here.id();
    let kilobytes = 100 + record.file.len() / 1024 + here.records.zones.len() * 13 * 366 / 8;
    here.once(About::Itself, RunAgain { trial: id }, kilobytes, move |state| {
        // Each takes all of its hours in memory while it runs. One that is known already waits for nobody.
        let turn = state.trials.of(site);
        let _held = turn.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let unreadable =
            |what: String| PageError::BadRequest(format!("The kept comparison cannot be read: {what}"));
        let trial = trial_file::read(record.file.as_bytes()).map_err(|problems| {
            unreadable(problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))
        })?;
        let ready = trial.ready().map_err(|why| unreadable(no_sample(why)))?;
        let tried = Tried::of(ready, &trial, Depth::InParts);
        let repeats = trial_json::write(tried.span.first, tried.span.last, &tried.results) == record.result;
        Ok(Again { repeats, tried, trial, record })
    })
    .await
}

#[get("/sites/{id}/trials/{trial}")]
async fn kept_page(
    here: AtSite,
    path: web::Path<(i64, i64)>,
    query: web::Query<Query>,
) -> Result<HttpResponse, PageError> {
    let again = again(&here, path.1).await?;
    let line = &again.record.line;
    let asked = Asked { sample: again.trial.sample, tariff: again.trial.tariff.clone() };
    let kept = Kept {
        id: line.id,
        name: line.name.clone(),
        by: line.saved_by.clone(),
        at: line.saved_at.to_zoned(here.records.tz.clone()).formatted("%-d %B %Y, %H:%M"),
        repeats: again.repeats,
        revision: again.trial.weather.revision,
    };
    let frame = Frame::of_site(&here, line.name.clone(), Chapter::Trial)?;
    let looking = Looking { here: &here, query: &query, asked: &asked, tried: &again.tried, is_kept: true };
    let opened = match view::opened(&again.tried, &query) {
        Some(result) => Some(looked_at(&looking, &again, path.1, result).await?),
        None => None,
    };
    page(&TrialPage::of(frame, &looking, opened, &[], Lists::default()).kept(kept))
}

/// A way of a kept trial, drawn once for what is looked at: nothing of it ever changes.
async fn looked_at(
    looking: &Looking<'_>,
    again: &Arc<Again>,
    id: i64,
    result: &WayResult,
) -> Result<Arc<Opened>, PageError> {
    let Looking { here, query, .. } = looking;
    let (zone, day) = detail::asked_for(result, query);
    let (known, same, units) = (Arc::clone(again), looking.same(), here.records.units());
    let way = result.way.name.clone();
    let question = LookedAt { trial: id, way: way.clone(), zone: zone.clone(), day, units };
    here.once(About::Itself, question, 120, move |_| {
        let result = known.tried.results.iter().find(|r| r.way.name == way).ok_or(PageError::NotFound)?;
        Ok(Opened::of(&known.tried, result, zone.as_deref(), day, units, &same))
    })
    .await
}

/// Everything that went in, to be run again anywhere.
#[get("/sites/{id}/trials/{trial}.json")]
async fn kept_file(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let id = path.1;
    let record = here.read(move |snapshot| snapshot.trial(of_site, id)).await?.ok_or(PageError::NotFound)?;
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&record.line.name, "json"))
        .body(record.file))
}

#[get("/sites/{id}/trials/{trial}.csv")]
async fn kept_csv(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let again = again(&here, path.1).await?;
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment(&again.record.line.name, "csv"))
        .body(table::write(&again.tried.facts, &again.tried.results)))
}

fn taking_back(here: &AtSite, id: i64) -> TakeBack {
    let root = address::site_root(here.id());
    TakeBack {
        subject: Subject::Trial,
        under: here.id(),
        id,
        address: format!("{root}/trials/{id}"),
        list: format!("{root}/trial#h-kept"),
        said: (
            "The comparison is removed from the list. Nothing of it is deleted.",
            "The comparison is back.",
        ),
    }
}

#[post("/sites/{id}/trials/{trial}/undo")]
async fn take_back(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    taking_back(&here, path.1).set(&here, true).await
}

#[post("/sites/{id}/trials/{trial}/redo")]
async fn let_stand(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    taking_back(&here, path.1).set(&here, false).await
}
