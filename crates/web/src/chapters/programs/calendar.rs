//! Coming runs as iCalendar: a file, and an address that calendar programs subscribe to.

use super::ControllerPage;
use crate::server::download::attachment;
use crate::server::error::{PageError, see_other};
use crate::server::session::{self, Fields};
use crate::server::state::AppState;
use crate::server::visitor::address_of;
use crate::site::context::{AtSite, EditorAt};
use crate::site::workbench::Workbench;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use jiff::{Timestamp, ToSpan};
use upland_formats::runs_ics::{About, write};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(download_runs).service(subscribe).service(renew);
}

/// Days ahead that a calendar holds.
const DAYS: i64 = 60;

fn text(bench: &Workbench, now: Timestamp) -> Result<String, PageError> {
    let settings = bench.settings();
    let names = bench.names(&settings);
    let from = bench.today;
    let to = from.checked_add(DAYS.days()).unwrap_or(from);
    let runs = bench.openings(&settings, (from, to));
    let record = &bench.site_controller()?.record;
    let name = format!("{}, {}", record.controller.place, bench.loaded.site.site.name);
    let uid = format!("upland-almanac-{}", record.id);
    let about = About { name: &name, uid: &uid, now };
    Ok(write(&runs, about, |program, stations| {
        (
            format!("Watering: {} program {}", record.controller.place, names.program(program)),
            format!("{} at {}", names.stations(stations), bench.loaded.site.site.name),
        )
    }))
}

/// Where the session keeps a secret until it is shown.
pub(super) const SHOWN_ONCE: &str = "calendar_secret";

const CALENDAR: &str = "text/calendar; charset=utf-8";

#[get("/sites/{id}/controllers/{number}/runs.ics")]
async fn download_runs(here: AtSite, path: web::Path<(i64, u8)>) -> Result<HttpResponse, PageError> {
    let bench = here.workbench(path.1).await?;
    let name = format!("{} runs", bench.controller()?.place);
    Ok(HttpResponse::Ok()
        .content_type(CALENDAR)
        .insert_header(attachment(&name, "ics"))
        .body(text(&bench, here.now())?))
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
    let (bench, now) = match crate::site::context::of_calendar(&state, hash).await {
        Err(PageError::NotFound) if !state.limits.guess(&address_of(&request)) => {
            return Err(PageError::TooOften("Too many addresses that open nothing. Wait a minute.".into()));
        }
        found => found?,
    };
    Ok(HttpResponse::Ok()
        .content_type(CALENDAR)
        .insert_header(("cache-control", "private, max-age=900"))
        .body(text(&bench, now)?))
}

#[post("/sites/{id}/controllers/{number}/calendar")]
async fn renew(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let bench = here.workbench(path.1).await?;
    let id = bench.site_controller()?.record.id;
    let secret = session::random_hex();
    let hash = session::hash(&secret);
    if !here.change(move |change| change.renew_calendar(id, &hash)).await? {
        return Err(PageError::NotFound);
    }
    here.who.session.insert(SHOWN_ONCE, secret)?;
    Ok(see_other(&format!("{}/sheet#calendar", bench.path())))
}
