//! Today: what each zone gets tonight, and because of what.

mod drawings;
mod ribbon;
pub(crate) mod sheet;
mod view;
pub(crate) mod words;

use crate::page::drawn::{Drawn, framed};
use crate::page::frame::{Chapter, Frame};
use crate::server::address;
use crate::server::error::PageError;
use crate::site::clock::{Moment, asked_day};
use crate::site::context::AtSite;
use crate::site::facts::{SiteBox, SiteFacts};
use crate::site::sensing::{NightOutcomes, SensorStates};
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::advice::tonight::{Tonight, tonight};
use upland_core::controller::Card;
use upland_core::controller::schedule::{ScheduledRun, Settings, expand};
use upland_core::quantity::time::Seconds;
use upland_core::quantity::time::noon;
use upland_core::sensors::state::Says;
use upland_core::weather::climate::Climate;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(today_page).configure(sheet::routes);
}

#[derive(serde::Deserialize)]
pub(crate) struct DateQuery {
    date: Option<String>,
    /// Number of the box, where a site has several.
    #[serde(rename = "box")]
    number: Option<u8>,
}

/// The night of a box with everything it was decided from.
pub(crate) struct Decided {
    pub loaded: Arc<SiteFacts>,
    /// Number of the box it is about; 0 when the site has none.
    pub number: u8,
    /// What the box does that night as it is set; `None` when its settings are not known.
    pub as_set: Option<AsSet>,
    pub climate: Arc<Climate>,
    pub night: Tonight,
    /// What the sensors of the box say and do that night.
    pub held: Held,
    /// The record ended a while ago, so the page opened on its last day.
    pub opened_on_last_day: bool,
}

/// What the sensors of a box do to a night.
#[derive(Default)]
pub(crate) struct Held {
    /// What holds, a sentence each.
    pub lines: Vec<String>,
    /// Stations of the box's own programs that are stopped.
    pub as_set: Vec<u16>,
    /// What would stop an advised run, by station.
    pub advised: BTreeMap<u16, String>,
}

impl Held {
    fn of(states: &SensorStates, own: Option<&SiteBox>, night: &Tonight) -> Self {
        let Some(own) = own.filter(|_| !states.loaded.sensors.is_empty()) else { return Self::default() };
        let settings = own.settings_or_clean();
        let runs = advised_runs(night);
        let as_set = states.tonight(own);
        let last = runs.iter().map(|r| r.end).max().unwrap_or(states.at);
        let zones: Vec<_> = night.zones.iter().map(|z| &z.zone).collect();
        let advised = NightOutcomes::of(&states.sensor_holds(own.number(), last), &runs, &zones, &settings);
        let lines: Vec<String> = states
            .of_box(own.number())
            .filter_map(|record| {
                let said = states.says(record);
                let bypassed = states.bypassed(record.id);
                match (&said, bypassed) {
                    (_, Some(until)) => Some(format!(
                        "{} is on bypass until {} and stops nothing.",
                        record.sensor.name,
                        crate::page::sensor_words::moment(until, &states.tz)
                    )),
                    (Says::Holds { .. }, None) => {
                        let (line, because) =
                            crate::page::sensor_words::says(states.units(), &said, &states.tz);
                        Some(format!("{}: {line}, {because}.", record.sensor.name))
                    }
                    _ => None,
                }
            })
            .collect();
        // A percentage from outside changes run times, and nothing else.
        let scaled = states.of_box(own.number()).filter(|r| states.bypassed(r.id).is_none());
        let scaled = scaled.filter_map(|r| {
            Some(format!("{}: {}", r.sensor.name, crate::page::sensor_words::percentage(states, r)?))
        });
        let lines: Vec<String> = lines.into_iter().chain(scaled).collect();
        Self {
            lines,
            as_set: as_set.map(|n| n.stopped().into_iter().collect()).unwrap_or_default(),
            advised: runs
                .iter()
                .filter_map(|r| Some((r.station, advised.stopper(r.station)?.to_owned())))
                .collect(),
        }
    }
}

/// The advised runs of a night, as if the box were set to them.
fn advised_runs(night: &Tonight) -> Vec<ScheduledRun> {
    let at = |minute| night.night.at(minute).map(|z| z.timestamp());
    let run = |run: &upland_core::controller::night::Run| {
        Some(ScheduledRun {
            start: at(run.from_minute)?,
            end: at(run.from_minute + run.minutes)?,
            // Advice belongs to none of the box's programs.
            program: usize::MAX,
            start_number: 1,
            start_index: 0,
            station: run.number,
            cycle: 1,
            date: night.date,
            queued: Seconds::from_s(0),
        })
    };
    night.night.layout.runs.iter().filter_map(run).collect()
}

/// What a box does on a night as it is set.
pub(crate) struct AsSet {
    /// Stations in the order they first run.
    pub stations: Vec<u16>,
    pub first: Option<jiff::Zoned>,
    pub last: Option<jiff::Zoned>,
}

impl AsSet {
    fn of(settings: &Settings, card: &Card, night: &Tonight, tz: &TimeZone) -> Self {
        // The night reaches from the noon before the evening's end to the noon after it.
        let (from, until) = (noon(night.date, tz), noon(night.date.tomorrow().unwrap_or(night.date), tz));
        let mut runs = expand(settings, card, tz, night.date, night.date.tomorrow().unwrap_or(night.date));
        runs.retain(|r| r.start >= from && r.start < until && !settings.station(r.station).lighting);
        let mut stations: Vec<u16> = Vec::new();
        for run in &runs {
            if !stations.contains(&run.station) {
                stations.push(run.station);
            }
        }
        let zoned = |t: Timestamp| t.to_zoned(tz.clone());
        Self {
            stations,
            first: runs.first().map(|r| zoned(r.start)),
            last: runs.iter().map(|r| r.end).max().map(zoned),
        }
    }
}

/// Decides the night of a box, once for the facts and the moment; with the key that names both.
pub(crate) async fn decide(here: &AtSite, query: &DateQuery) -> Result<(String, Arc<Decided>), PageError> {
    let asked = asked_day(query.date.as_deref())?;
    let wanted = query.number;
    let facts = Arc::clone(&here.facts);
    if wanted.is_some_and(|n| facts.boxes.iter().all(|b| b.number() != n)) {
        return Err(PageError::NotFound);
    }
    let states = here.sensor_states(asked).await?;
    let moment = here.moment(asked);
    let key = format!("{} asked {} box {wanted:?}", here.key(moment), asked.is_some());
    let decided = here.once(key.clone(), 150, move |_| Ok(Decided::of(&facts, &states, moment, wanted)));
    Ok((key, decided.await?))
}

impl Decided {
    fn of(facts: &Arc<SiteFacts>, states: &SensorStates, moment: Moment, wanted: Option<u8>) -> Self {
        let (chosen, _, card) = facts.box_or_ordinary(wanted);
        let number = chosen.map_or(1, SiteBox::number);
        let (site, tz) = (&facts.site.site, &facts.tz);
        let night = tonight(site, (&card, number), &facts.surveys(), &facts.climate, moment.date, tz);
        let as_set =
            chosen.and_then(|b| b.settings.as_ref()).map(|s| AsSet::of(&s.settings, &card, &night, tz));
        let held = Held::of(states, chosen, &night);
        Self {
            loaded: Arc::clone(facts),
            number,
            as_set,
            climate: Arc::clone(&facts.climate),
            night,
            held,
            opened_on_last_day: moment.record_ended.is_some(),
        }
    }
}

#[derive(Template)]
#[template(path = "chapters/today/ribbon.html")]
struct RibbonPart {
    number: u8,
    ribbon: ribbon::Ribbon,
}

#[derive(Template)]
#[template(path = "chapters/today/today.html")]
struct TodayPart {
    site_id: i64,
    number: u8,
    boxes: Vec<(u8, String)>,
    view: view::TodayView,
    previous_day: Date,
    next_day: Date,
}

impl Decided {
    fn drawn(&self) -> Result<Drawn, PageError> {
        let (date, number) = (self.night.date, self.number);
        let ribbon = ribbon::build(&self.climate, date, self.loaded.site.site.units);
        let content = TodayPart {
            site_id: self.loaded.site.id,
            number,
            boxes: self.loaded.box_names(),
            view: view::build(self),
            previous_day: date.checked_sub(1.day()).unwrap_or(date),
            next_day: date.checked_add(1.day()).unwrap_or(date),
        };
        Ok(Drawn { ribbon: RibbonPart { number, ribbon }.render()?, content: content.render()? })
    }
}

#[get("/sites/{id}/today")]
async fn today_page(here: AtSite, query: web::Query<DateQuery>) -> Result<HttpResponse, PageError> {
    let (key, decided) = decide(&here, &query).await?;
    let date = decided.night.date;
    let title = format!("{}: tonight", decided.loaded.site.site.name);
    let mut frame = Frame::of_site(&here, title, Chapter::Today)?;
    frame.here = format!("{}?date={date}&box={}", address::today(decided.loaded.site.id), decided.number);
    let drawn = here.once(format!("{key}, Today"), 120, move |_| decided.drawn()).await?;
    framed(frame, drawn)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    #[test]
    fn the_runs_of_a_night_are_those_between_its_noons() {
        let (installation, settings) = crate::fixture::box_with_faults();
        let decided = crate::fixture::decided(upland_core::site::UnitSystem::Metric);
        let set = AsSet::of(&settings, &installation.card, &decided.night, &installation.tz);
        // C at 13:00 belongs to the night of its date, A at 02:00 to the night before.
        assert_eq!(set.stations, [1, 2, 3, 4, 9]);
        assert_eq!(set.first.unwrap().datetime(), date(2026, 7, 13).at(13, 0, 0, 0));
        assert_eq!(set.last.unwrap().datetime(), date(2026, 7, 14).at(5, 0, 0, 0));
        let mut lights = settings;
        lights.update_station(1, |s| s.lighting = true);
        assert!(
            !AsSet::of(&lights, &installation.card, &decided.night, &installation.tz).stations.contains(&1)
        );
    }
}
