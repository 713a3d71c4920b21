//! A route as files: CSV, iCalendar, GPX.

use super::{DayQuery, Known};
use crate::server::download::attachment;
use crate::server::error::PageError;
use crate::site::context::AllSites;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use upland_formats::route_files::{StopRow, write_csv, write_ics};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(csv).service(ics).service(gpx);
}

/// GPX 1.1: a route a driver, its stops in order.
#[derive(Template)]
#[template(path = "chapters/round/route/gpx.xml")]
struct Gpx {
    drivers: Vec<(String, Vec<StopRow>)>,
}

/// The stops of a day, as they go out.
async fn rows(here: &AllSites, query: &DayQuery) -> Result<(Known, Vec<StopRow>), PageError> {
    let known = Known::of(here, query).await?;
    let day = known.day(here).await?;
    let rows = day.rows(&known.asked, &known.why(), known.on, &known.tz);
    Ok((known, rows))
}

fn file(known: &Known, kind: &'static str, ending: &str, body: String) -> HttpResponse {
    let name = attachment(&format!("route {}", known.on), ending);
    HttpResponse::Ok().content_type(kind).insert_header(name).body(body)
}

#[get("/route.csv")]
async fn csv(here: AllSites, query: web::Query<DayQuery>) -> Result<HttpResponse, PageError> {
    let (known, rows) = rows(&here, &query).await?;
    Ok(file(&known, "text/csv; charset=utf-8", "csv", write_csv(&rows)))
}

#[get("/route.ics")]
async fn ics(here: AllSites, query: web::Query<DayQuery>) -> Result<HttpResponse, PageError> {
    let (known, rows) = rows(&here, &query).await?;
    let uid = format!("route-{}-{}", here.who.user.id, known.on);
    Ok(file(&known, "text/calendar; charset=utf-8", "ics", write_ics(&rows, &uid, here.who.now)))
}

#[get("/route.gpx")]
async fn gpx(here: AllSites, query: web::Query<DayQuery>) -> Result<HttpResponse, PageError> {
    let (known, rows) = rows(&here, &query).await?;
    let of = |driver: &String| {
        (driver.clone(), rows.iter().filter(|row| row.driver == *driver).cloned().collect())
    };
    let drivers = known.asked.drivers.iter().map(of).collect();
    Ok(file(&known, "application/gpx+xml", "gpx", Gpx { drivers }.render()?))
}
