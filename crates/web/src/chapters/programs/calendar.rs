//! Coming runs as iCalendar: a file, and an address that calendar programs subscribe to.

use super::ControllerPage;
use crate::server::download::attachment;
use crate::server::error::{PageError, see_other};
use crate::server::session::{self, Fields};
use crate::server::state::AppState;
use crate::server::visitor::address_of;
use crate::site::context::{AtSite, EditorAt};
use crate::site::controller_snapshot::ControllerSnapshot;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use jiff::{Timestamp, ToSpan};
use upland_core::quantity::span::DateSpan;
use upland_formats::runs_ics::{About, write};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(download_runs).service(subscribe).service(renew);
}

/// Days ahead that a calendar holds.
const DAYS: i64 = 60;

fn text(snapshot: &ControllerSnapshot, now: Timestamp) -> Result<String, PageError> {
    let settings = snapshot.settings();
    let names = snapshot.names(&settings);
    let from = snapshot.today;
    let to = from.checked_add(DAYS.days()).unwrap_or(from);
    let runs = snapshot.openings(&settings, DateSpan::new(from, to));
    let record = &snapshot.site_controller()?.record;
    let name = format!("{}, {}", record.controller.place, snapshot.records.site.site.name);
    let uid = format!("upland-almanac-{}", record.id);
    let about = About { name: &name, uid: &uid, now };
    Ok(write(&runs, about, |program, stations| {
        (
            format!("Watering: {} program {}", record.controller.place, names.program(program)),
            format!("{} at {}", names.stations(stations), snapshot.records.site.site.name),
        )
    }))
}

/// Where the session keeps a secret until it is shown.
pub(super) const SHOWN_ONCE: &str = "calendar_secret";

const CALENDAR: &str = "text/calendar; charset=utf-8";

#[get("/sites/{id}/controllers/{number}/runs.ics")]
async fn download_runs(here: AtSite, path: web::Path<(i64, u8)>) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let name = format!("{} runs", snapshot.controller()?.place);
    Ok(HttpResponse::Ok()
        .content_type(CALENDAR)
        .insert_header(attachment(&name, "ics"))
        .body(text(&snapshot, here.now())?))
}

/// Calendar programs cannot sign in: the secret in the address stands for it, and opens nothing but this. Guessing is
/// slowed down.
#[get("/calendar/{secret}.ics")]
async fn subscribe(
    state: web::Data<AppState>,
    request: HttpRequest,
    secret: web::Path<String>,
) -> Result<HttpResponse, PageError> {
    let hash = session::hash(&secret);
    if !state.limits.post(&hash) {
        return Err(PageError::TooOften(
            "This calendar is asked for too often; once in a quarter of an hour is enough.".into(),
        ));
    }
    let (snapshot, now) = match crate::site::context::of_calendar(&state, hash).await {
        Err(PageError::NotFound) if !state.limits.guess(&address_of(&request)) => {
            return Err(PageError::TooOften("Too many addresses that open nothing. Wait a minute.".into()));
        }
        found => found?,
    };
    Ok(HttpResponse::Ok()
        .content_type(CALENDAR)
        .insert_header(("cache-control", "private, max-age=900"))
        .body(text(&snapshot, now)?))
}

#[post("/sites/{id}/controllers/{number}/calendar")]
async fn renew(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let id = snapshot.site_controller()?.record.id;
    let secret = session::random_hex();
    let hash = session::hash(&secret);
    if !here.change(move |change| change.renew_calendar(id, &hash)).await? {
        return Err(PageError::NotFound);
    }
    here.who.session.insert(SHOWN_ONCE, secret)?;
    Ok(see_other(&format!("{}/sheet#calendar", snapshot.path())))
}
