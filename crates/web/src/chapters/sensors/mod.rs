//! Sensors: what they say, whom they can stop, where they stand, how they are wired, and their upkeep.

mod api;
mod calibrate;
mod detail;
mod devices;
mod figures;
mod form;
mod list;
mod map;
mod plan;
mod stand_in;
mod wiring;

pub(crate) use api::routes as api_routes;

use crate::page::frame::{Chapter, Frame};
use crate::server::error::PageError;
use crate::server::session::SignedIn;
use crate::server::state::{AppState, db_with_climates};
use crate::site::facts::load;
use crate::site::sensing::SensorStates;
use actix_web::web;
use upland_store::sensors::SensorRecord;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .configure(list::routes)
        .configure(map::routes)
        .configure(plan::routes)
        .configure(wiring::routes)
        .configure(form::routes)
        .configure(calibrate::routes)
        .configure(devices::routes)
        .configure(stand_in::routes)
        .configure(detail::routes);
}

/// The room of a site as it is now.
pub(crate) async fn open(state: &web::Data<AppState>, site_id: i64) -> Result<SensorStates, PageError> {
    let loaded = load(state, site_id).await?;
    db_with_climates(state, move |state, store| SensorStates::build(state, store, loaded, None)).await
}

/// Pages of the chapter.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Tab {
    List,
    Map,
    Wiring,
    Plan,
}

/// Address, name and whether it is the current one.
type TabLink = (String, &'static str, bool);

fn tabs(site_id: i64, current: Tab) -> Vec<TabLink> {
    [
        ("", "Sensors", Tab::List),
        ("/map", "Whom they stop", Tab::Map),
        ("/wiring", "Wiring", Tab::Wiring),
        ("/plan", "Plan", Tab::Plan),
    ]
    .into_iter()
    .map(|(end, name, tab)| (format!("/sites/{site_id}/sensors{end}"), name, tab == current))
    .collect()
}

fn frame(who: &SignedIn, room: &SensorStates, title: &str) -> Result<Frame, PageError> {
    Frame::of_site(who, format!("{}: {title}", room.loaded.site.site.name), &room.loaded, Chapter::Sensors)
}

fn find(room: &SensorStates, id: i64) -> Result<&SensorRecord, PageError> {
    room.sensor(id).ok_or(PageError::NotFound)
}

#[cfg(test)]
mod tests;
