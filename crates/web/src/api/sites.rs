//! The sites of a person: as the round has them, each as its file, and what its controllers are set to.

use super::error::ApiError;
use super::token::{all_sites, at_site, in_address, query};
use crate::page::plan_picture::drawn_plan;
use crate::server::state::read;
use actix_web::{HttpRequest, HttpResponse, get, web};
use upland_formats::api::sites::{Look, NoticeCounts, Site, SiteRound, Sites};
use upland_formats::settings_file;
use upland_formats::site_file;
use upland_store::api_tokens::ReadScope;
use upland_store::rounds::{SiteRow, ZoneMark};

/// Sites of a page, unless fewer are asked for.
pub(super) const MOST: usize = 500;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(sites).service(site).service(settings);
}

/// Which sites are asked for.
#[derive(serde::Deserialize)]
struct Page {
    /// Those with higher numbers.
    #[serde(default)]
    after: i64,
    limit: Option<usize>,
}

#[get("/api/v1/sites")]
async fn sites(request: HttpRequest) -> Result<HttpResponse, ApiError> {
    let here = all_sites(&request, ReadScope::Sites).await?;
    let page: Page = query(&request)?;
    let scope = here.who.scope.clone();
    let mut rows = read(&here.state, move |snapshot| snapshot.round_sites(&scope)).await?;
    rows.retain(|row| row.id.number() > page.after);
    rows.sort_by_key(|row| row.id.number());
    let most = page.limit.unwrap_or(MOST).clamp(1, MOST);
    let more = rows.len() > most;
    rows.truncate(most);
    let next = rows.last().filter(|_| more).map(|row| row.id.number());
    Ok(HttpResponse::Ok().json(Sites { sites: rows.into_iter().map(line).collect(), next }))
}

pub(super) fn line(row: SiteRow) -> Site {
    let standing = row.standing;
    let [faults, warnings, tasks] = row.notices;
    let round = row.at.map(|at| SiteRound {
        at,
        zones: standing.zones.into_iter().map(look).collect(),
        rain_mm: standing.rain.iter().map(|rain| Some(rain.mm()).filter(|mm| mm.is_finite())).collect(),
        day: standing.day,
        notices: NoticeCounts { faults, warnings, tasks },
        // Below zero where no controller has a percentage.
        percentage_off: Some(row.off).filter(|off| *off >= 0),
        silent_sensors: standing.silent,
        last_visit: standing.last_visit,
        look_again: standing.look_again,
        record_ended: standing.record_ended,
    });
    Site {
        id: row.id.number(),
        name: row.name,
        customer: row.customer,
        locality: row.locality,
        tags: row.tags,
        assigned_to: row.assigned.map(|(_, name)| name),
        controllers: row.controllers,
        round,
    }
}

fn look(mark: ZoneMark) -> Look {
    match mark {
        ZoneMark::Dry => Look::Dry,
        ZoneMark::Right => Look::Right,
        ZoneMark::Wet => Look::Wet,
    }
}

/// A text that is JSON already.
fn json(text: String) -> HttpResponse {
    HttpResponse::Ok().content_type("application/json").body(text)
}

/// A site as its file, without access notes.
#[get("/api/v1/sites/{id}")]
async fn site(request: HttpRequest) -> Result<HttpResponse, ApiError> {
    let here = at_site(&request, ReadScope::Sites).await?;
    let plan = drawn_plan(&here).await?;
    Ok(json(site_file::write(&here.records.file(plan.1.clone()))))
}

/// What a controller is set to, as its file.
#[get("/api/v1/sites/{id}/controllers/{number}/settings")]
async fn settings(request: HttpRequest) -> Result<HttpResponse, ApiError> {
    let here = at_site(&request, ReadScope::Settings).await?;
    let number = in_address::<u8>(&request, "number");
    let own = here.records.controllers.iter().find(|own| Some(own.number()) == number);
    let own = own.ok_or(ApiError::NotThere("the site has no controller of this number"))?;
    let settings = own.settings.as_ref();
    let settings = settings.ok_or(ApiError::NotThere("nobody entered what this controller is set to"))?;
    let file = here.records.controller_file(&own.record.controller.card, &settings.settings);
    Ok(json(settings_file::write(&file)))
}
