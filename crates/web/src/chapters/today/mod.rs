//! Today: what the controller will do tonight, what each zone needs, where the two differ, and what to change.

mod drawings;
mod row;
pub(crate) mod sheet;
mod view;
pub(crate) mod words;

use crate::page::drawn::{Drawn, framed};
use crate::page::frame::{Chapter, Frame};
use crate::page::ribbon::RibbonPart;
use crate::page::setup::{SetupStep, steps};
use crate::server::address;
use crate::server::cache::{About, questions};
use crate::server::error::PageError;
use crate::site::clock::asked_day;
use crate::site::context::AtSite;
use crate::site::records::{SiteController, SiteRecords};
use crate::site::snapshot::SiteSnapshot;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::ToSpan;
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::account::running::ControllerFacts;
use upland_core::advice::tonight::Tonight;
use upland_core::site::StationId;
use upland_core::weather::climate::Climate;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(today_page).configure(sheet::routes);
}

#[derive(serde::Deserialize)]
pub(crate) struct DateQuery {
    date: Option<String>,
    /// Number of the controller, where a site has several.
    #[serde(rename = "controller", alias = "box")]
    number: Option<u8>,
}

/// The night of a controller with everything it was decided from.
pub(crate) struct Decided {
    pub records: Arc<SiteRecords>,
    /// Number of the controller it is about; 1 when the site has none.
    pub number: u8,
    pub climate: Arc<Climate>,
    pub night: Tonight,
    /// Names of the controller's sensors, in their order.
    pub sensors: Vec<String>,
    /// What must be known of them beyond whom they hold: bypasses, and the percentage that one sets.
    pub said: Vec<String>,
    /// The record ended a while ago, so the page opened on its last day.
    pub opened_on_last_day: bool,
}

/// What the sensors of a controller say beyond whom they hold: a bypassed one stops nothing, an ET sensor scales.
fn said(snapshot: &SiteSnapshot, own: Option<&SiteController>) -> Vec<String> {
    let Some(own) = own else { return Vec::new() };
    let mut lines = Vec::new();
    for record in snapshot.of_controller(own.number()) {
        let name = &record.sensor.name;
        if let Some(until) = snapshot.bypassed(record.id) {
            let until = crate::page::sensor_words::moment(until, &snapshot.tz);
            lines.push(format!("{name} is on bypass until {until} and prevents no watering."));
        } else if let Some(percentage) = crate::page::sensor_words::percentage(snapshot, record) {
            lines.push(format!("{name}: {percentage}"));
        }
    }
    lines
}

/// A night that was decided, with what it was decided from.
pub(crate) struct Night {
    about: About,
    asked: OfNight,
    pub decided: Arc<Decided>,
}

/// Decides the night of a controller, once for the facts and the moment.
pub(crate) async fn decide(here: &AtSite, query: &DateQuery) -> Result<Night, PageError> {
    let asked = asked_day(query.date.as_deref(), here.today())?;
    let wanted = query.number;
    if wanted.is_some_and(|n| here.records.controllers.iter().all(|b| b.number() != n)) {
        return Err(PageError::NotFound);
    }
    let site = here.snapshot(asked).await?;
    let about = here.about_moment(site.moment);
    let asked = OfNight { asked_for: asked.is_some(), controller: wanted };
    let decided =
        here.once(about.clone(), asked.clone(), 20, move |_| Ok(Decided::of(&site, wanted))).await?;
    Ok(Night { about, asked, decided })
}

questions! {
    /// The night of a controller; what was asked for decides whether the page leads back to now.
    pub(super) words OfNight { asked_for: bool, controller: Option<u8> } -> Decided;
    words Drawing { asked: OfNight } -> Drawn;
}

impl Decided {
    fn of(site: &SiteSnapshot, wanted: Option<u8>) -> Self {
        let (chosen, _, _) = site.records.controller_or_ordinary(wanted);
        let number = chosen.map_or(1, SiteController::number);
        let own = site.inputs.of_controller(number);
        Self {
            records: Arc::clone(&site.records),
            number,
            climate: Arc::clone(&site.climate),
            night: site.night(number),
            sensors: own.map(ControllerFacts::sensor_names).unwrap_or_default(),
            said: said(site, chosen),
            opened_on_last_day: site.moment.record_ended.is_some(),
        }
    }
}

#[derive(Template)]
#[template(path = "chapters/today/today.html")]
struct TodayPart {
    site_id: i64,
    number: u8,
    controllers: Vec<(u8, String)>,
    has_controller: bool,
    /// What a new site still lacks.
    setup: Vec<SetupStep>,
    view: view::TodayView,
    previous_day: Date,
    next_day: Date,
}

impl Decided {
    /// The page of the zone on a station of the controller.
    fn zone_href(&self, station: u16) -> Option<String> {
        let zone = self.records.zone_on(StationId::new(self.number, station))?;
        Some(crate::server::address::zone(self.records.site.id.number(), zone.id))
    }

    fn drawn(&self) -> Result<Drawn, PageError> {
        let (date, number) = (self.night.date, self.number);
        let link = ("?date=".to_owned(), format!("&controller={number}"));
        let ribbon = RibbonPart::new(&self.climate, date, self.records.site.site.units, link);
        let content = TodayPart {
            site_id: self.records.site.id.number(),
            number,
            setup: steps(&self.records),
            has_controller: !self.records.controllers.is_empty(),
            controllers: self.records.controller_names(),
            view: view::build(self),
            previous_day: date.checked_sub(1.day()).unwrap_or(date),
            next_day: date.checked_add(1.day()).unwrap_or(date),
        };
        Ok(Drawn { ribbon: ribbon.render()?, content: content.render()? })
    }
}

#[get("/sites/{id}/today")]
async fn today_page(here: AtSite, query: web::Query<DateQuery>) -> Result<HttpResponse, PageError> {
    let Night { about, asked, decided } = decide(&here, &query).await?;
    let date = decided.night.date;
    let title = format!("{}: tonight", decided.records.site.site.name);
    let mut frame = Frame::of_site(&here, title, Chapter::Today)?;
    frame.here = format!(
        "{}?date={date}&controller={}",
        address::today(decided.records.site.id.number()),
        decided.number
    );
    let drawn = here.once(about, Drawing { asked }, 120, move |_| decided.drawn()).await?;
    framed(frame, drawn)
}
