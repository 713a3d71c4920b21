//! A night of a site: the same that Today shows.

use super::error::ApiError;
use super::token::{at_site, query};
use crate::server::cache::questions;
use crate::site::records::SiteController;
use crate::site::snapshot::SiteSnapshot;
use actix_web::{HttpRequest, HttpResponse, get, web};
use jiff::civil::Date;
use upland_core::account::running::ControllerFacts;
use upland_formats::api::night::{self, ControllerNight, Names, Night};
use upland_store::api_tokens::ReadScope;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(night_of);
}

questions! {
    facts WholeNight {} -> Night;
}

/// Which night is asked for.
#[derive(serde::Deserialize)]
struct Asked {
    /// The day whose evening it begins on; tonight when it is missing.
    date: Option<Date>,
}

#[get("/api/v1/sites/{id}/night")]
async fn night_of(request: HttpRequest) -> Result<HttpResponse, ApiError> {
    let here = at_site(&request, ReadScope::Nights).await?;
    let asked: Asked = query(&request)?;
    let site = here.snapshot(asked.date).await?;
    let about = here.about_moment(site.moment);
    let night = here.once(about, WholeNight {}, 20, move |_| Ok(of_site(&site))).await?;
    Ok(HttpResponse::Ok().json(&*night))
}

pub(super) fn of_site(site: &SiteSnapshot) -> Night {
    let controller = |own: &SiteController| -> ControllerNight {
        let number = own.number();
        let facts = site.inputs.of_controller(number);
        let sensors = facts.map(ControllerFacts::sensor_names).unwrap_or_default();
        let programs: Vec<String> =
            own.settings.iter().flat_map(|s| &s.settings.programs).map(|p| p.name.to_string()).collect();
        let names = Names {
            controller: number,
            place: &own.record.controller.place,
            programs: &programs,
            sensors: &sensors,
            tz: &site.tz,
        };
        night::controller(&site.night(number), &names)
    };
    Night {
        date: site.moment.date,
        record_ended: site.moment.record_ended,
        controllers: site.records.controllers.iter().map(controller).collect(),
    }
}
