//! Coming runs as iCalendar: a file, and an address that calendar programs subscribe to.

use super::BoxPage;
use crate::server::download::attachment;
use crate::server::error::{PageError, see_other};
use crate::server::session::{Fields, flash};
use crate::server::state::AppState;
use crate::site::context::{AtSite, EditorAt};
use crate::site::workbench::Workbench;
use actix_web::{HttpResponse, get, post, web};
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
    let record = &bench.site_box()?.record;
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

const CALENDAR: &str = "text/calendar; charset=utf-8";

#[get("/sites/{id}/boxes/{number}/runs.ics")]
async fn download_runs(here: AtSite, path: web::Path<(i64, u8)>) -> Result<HttpResponse, PageError> {
    let bench = here.workbench(path.1).await?;
    let name = format!("{} runs", bench.controller()?.place);
    Ok(HttpResponse::Ok()
        .content_type(CALENDAR)
        .insert_header(attachment(&name, "ics"))
        .body(text(&bench, here.now())?))
}

/// Calendar programs cannot sign in: the token in the address stands for it, and opens nothing but this.
#[get("/calendar/{token}.ics")]
async fn subscribe(state: web::Data<AppState>, token: web::Path<String>) -> Result<HttpResponse, PageError> {
    let (bench, now) = crate::site::context::of_calendar(&state, token.into_inner()).await?;
    Ok(HttpResponse::Ok()
        .content_type(CALENDAR)
        .insert_header(("cache-control", "private, max-age=900"))
        .body(text(&bench, now)?))
}

#[post("/sites/{id}/boxes/{number}/calendar")]
async fn renew(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let bench = here.workbench(path.1).await?;
    let id = bench.site_box()?.record.id;
    if !here.change(move |change| change.renew_calendar(id)).await? {
        return Err(PageError::NotFound);
    }
    flash(&here.who.session, "The calendar has a new address; the old one opens nothing any more.", None)?;
    Ok(see_other(&format!("{}/sheet", bench.path())))
}
