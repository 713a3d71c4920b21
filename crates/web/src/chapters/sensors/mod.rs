//! Sensors: what they say, whom they can stop, where they stand, how they are wired, and their upkeep.

mod calibrate;
mod detail;
mod devices;
mod form;
mod grid;
mod list;
mod map;
mod notes;
mod replace;
mod simulator;
mod site_plan;
mod thresholds;
mod view;
mod wiring;

use crate::page::frame::{Chapter, Frame};
use crate::server::address;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use crate::site::snapshot::SiteSnapshot;
use actix_web::web;
use upland_store::sensors::SensorRecord;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .configure(list::routes)
        .configure(replace::routes)
        .configure(map::routes)
        .configure(site_plan::routes)
        .configure(wiring::routes)
        .configure(form::routes)
        .configure(calibrate::routes)
        .configure(devices::routes)
        .configure(simulator::routes)
        .configure(detail::routes);
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
        ("/map", "Sensor assignment", Tab::Map),
        ("/wiring", "Wiring", Tab::Wiring),
        ("/plan", "Plan", Tab::Plan),
    ]
    .into_iter()
    .map(|(end, name, tab)| (format!("{}{end}", address::sensors(site_id)), name, tab == current))
    .collect()
}

fn frame(here: &AtSite, title: &str) -> Result<Frame, PageError> {
    Frame::of_site(here, format!("{}: {title}", here.records.site.site.name), Chapter::Sensors)
}

/// A sensor of the site, or the page that says there is none.
fn sensor_of(here: &AtSite, id: i64) -> Result<&SensorRecord, PageError> {
    here.records.sensors.iter().find(|s| s.id == id).ok_or(PageError::NotFound)
}

fn find(snapshot: &SiteSnapshot, id: i64) -> Result<&SensorRecord, PageError> {
    snapshot.sensor(id).ok_or(PageError::NotFound)
}

#[cfg(test)]
mod tests;
