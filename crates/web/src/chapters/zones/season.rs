//! The season of a zone: the days of its account, with rain and watering as best known, as the controller was set or as
//! advised, and set right by readings from the field.

use crate::page::dates::{DateFormat, typed_date};
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::{depth, plain, share};
use crate::page::season_chart::{SeasonChart, chart};
use crate::page::take_back::TakeBack;
use crate::page::units::PERCENT;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::server::state::AppState;
use crate::site::context::{AtSite, EditorAt};
use crate::site::records::SiteRecords;
use crate::site::snapshot::SiteSnapshot;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::Timestamp;
use jiff::ToSpan;
use jiff::civil::Date;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::account::site_account::{AccountInputs, EvidencePolicy, SiteAccount, begins, of_site};
use upland_core::account::zone::AccountDay;
use upland_core::codes::Coded;
use upland_core::quantity::bounds;
use upland_core::quantity::ratio::Share;
use upland_core::site::{UnitSystem, Zone};
use upland_formats::typed;
use upland_store::Subject;
use upland_store::field::{EventKind, ZoneEvent};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(season_page).service(note).service(take_back).service(let_stand);
}

/// Days drawn.
const DRAWN_DAYS: i32 = 150;
/// Water below this is not named, mm.
const LEAST_MM: f64 = 0.05;

/// What waters the zone in the drawing; as best known unless an address says otherwise.
fn way(code: Option<&str>) -> EvidencePolicy {
    code.and_then(EvidencePolicy::from_code).unwrap_or_default()
}

struct DayLine {
    date: String,
    et0: String,
    demand: String,
    rain: String,
    watered: String,
    drained: String,
    missing: String,
    note: String,
}

fn day_line(day: &AccountDay, units: UnitSystem) -> DayLine {
    let mut notes = Vec::new();
    if day.short {
        notes.push(format!("short, Ks {}", plain(day.water.stress_coefficient(), 3)));
    }
    if let Some(was) = day.reset_from {
        notes.push(format!("reading; computed {}", depth(units, was)));
    }
    if day.water.runoff.mm() >= LEAST_MM {
        notes.push(format!("{} ran off", depth(units, day.water.runoff)));
    }
    notes.push(day.evidence.label().to_owned());
    DayLine {
        date: day.date.formatted("%-d %b %Y"),
        et0: depth(units, day.et0),
        demand: depth(units, day.water.demand),
        rain: depth(units, day.water.rain_in),
        watered: depth(units, day.water.applied),
        drained: depth(units, day.water.drainage),
        missing: depth(units, day.water.depletion),
        note: notes.join("; "),
    }
}

struct EventLine {
    id: i64,
    date: String,
    what: String,
    reason: String,
    by: String,
    undone: bool,
}

/// What is known of a season, whoever looks.
struct Season {
    chart: Option<SeasonChart>,
    days: Vec<DayLine>,
    events: Vec<EventLine>,
}

#[derive(Template)]
#[template(path = "chapters/zones/season.html")]
struct SeasonPage {
    frame: Frame,
    site_id: i64,
    zone_id: i64,
    zone: String,
    ways: Vec<(&'static str, &'static str, bool)>,
    season: Arc<Season>,
    today: String,
    errors: Vec<String>,
    typed: BTreeMap<String, String>,
}

impl SeasonPage {
    fn typed(&self, name: &str) -> &str {
        self.typed.get(name).map_or("", String::as_str)
    }
}

/// The days of a zone's account up to this evening, whatever waters it: of the site's own account where that is the
/// best known, so that Today and its season are one.
fn days_of(site: &SiteSnapshot, zone: &Zone, way: EvidencePolicy) -> Vec<AccountDay> {
    let of = |account: &SiteAccount| {
        let found = account.zone(zone.station_id());
        found.map(|own| own.days.clone()).unwrap_or_default()
    };
    if way == EvidencePolicy::Best {
        return of(site.account());
    }
    let known = &site.inputs;
    let own = known.zone(zone.station_id()).cloned();
    let alone = AccountInputs { zones: own.into_iter().collect(), ..known.clone() };
    of(&of_site(&alone, way, begins(&known.climate, site.moment.date), site.account().until, |_, _| ()))
}

fn event_line(event: &ZoneEvent) -> EventLine {
    EventLine {
        id: event.id,
        date: event.date.formatted("%-d %b %Y"),
        what: match event.kind {
            EventKind::Reading => {
                format!("{} of the available water left", share(Share::from_fraction(event.value)))
            }
            EventKind::Run => format!("ran {} min", plain(event.value, 1)),
        },
        reason: event.reason.clone(),
        by: event.said_by.clone(),
        undone: event.undone,
    }
}

impl Season {
    fn of(
        state: &AppState,
        records: &SiteRecords,
        zone_id: i64,
        site: &SiteSnapshot,
        way: EvidencePolicy,
    ) -> Result<Self, PageError> {
        let zone = records.zone(zone_id)?;
        let events = state.store.read(|snapshot| snapshot.zone_events(records.site.id))?;
        let today = site.moment.date;
        let from = today.checked_sub(DRAWN_DAYS.days()).unwrap_or(today);
        let days: Vec<AccountDay> =
            days_of(site, &zone.zone, way).into_iter().filter(|d| d.date > from).collect();
        let units = records.site.site.units;
        let latitude = records.site.site.latitude_deg;
        let total = zone.zone.resolve(latitude).root_zone.total_available.mm();
        Ok(Self {
            chart: (!days.is_empty()).then(|| chart(&days, total, units)),
            days: days.iter().rev().take(31).map(|d| day_line(d, units)).collect(),
            events: events.iter().filter(|e| e.zone_id == zone_id).rev().map(event_line).collect(),
        })
    }
}

questions! {
    words OfZone { zone: i64, way: EvidencePolicy, today: Date, until: Timestamp } -> Season;
}

async fn draw(
    here: &AtSite,
    site_id: i64,
    zone_id: i64,
    way: EvidencePolicy,
    refused: Option<(Vec<String>, BTreeMap<String, String>)>,
) -> Result<HttpResponse, PageError> {
    let facts = Arc::clone(&here.records);
    let zone = facts.zone(zone_id)?;
    let today = here.moment(None).date;
    let site = here.snapshot_with_account(None).await?;
    let until = site.account().until;
    let question = OfZone { zone: zone_id, way, today, until };
    let known = Arc::clone(&facts);
    let season = here
        .once(here.about(), question, 80, move |state| Season::of(state, &known, zone_id, &site, way))
        .await?;
    let (errors, typed) = refused.unwrap_or_default();
    page_with(
        if errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY },
        &SeasonPage {
            frame: Frame::of_site(here, format!("Season of zone {}", zone.zone.number), Chapter::Zones)?,
            site_id,
            zone_id,
            zone: format!("{} {}", zone.zone.number, zone.zone.name),
            ways: vec![
                (EvidencePolicy::Best.code(), "as best known", way == EvidencePolicy::Best),
                (EvidencePolicy::AsSet.code(), "as the controller was set", way == EvidencePolicy::AsSet),
                (EvidencePolicy::AsAdvised.code(), "as advised", way == EvidencePolicy::AsAdvised),
            ],
            season,
            today: typed_date(today),
            errors,
            typed,
        },
    )
}

#[derive(serde::Deserialize)]
struct Query {
    by: Option<String>,
}

#[get("/sites/{id}/zones/{zone}/season")]
async fn season_page(
    here: AtSite,
    path: web::Path<(i64, i64)>,
    query: web::Query<Query>,
) -> Result<HttpResponse, PageError> {
    draw(&here, path.0, path.1, way(query.by.as_deref()), None).await
}

/// Reads what was found: kind, day, value, reason.
fn read(fields: &Fields, today: Date) -> Result<(EventKind, Date, f64, String), Vec<String>> {
    let mut errors = Vec::new();
    let kind = if fields.get("kind") == "run" { EventKind::Run } else { EventKind::Reading };
    let date = fields.date("date", today).map_err(|refusal| errors.push(refusal.to_string())).ok();
    if date.is_some_and(|date| date > today) {
        errors.push(format!(
            "The day lies in the future; today is {}. Note what was found, not what is planned.",
            typed_date(today)
        ));
    }
    let text = fields.get("value");
    let (value, bound, takes) = match kind {
        EventKind::Reading => (
            PERCENT.read(text),
            &bounds::AVAILABLE_SHARE,
            "What is left is between 0 % (wilting) and 100 % (full).",
        ),
        EventKind::Run => (
            typed::duration(text).map(|length| length.minutes().min_value()),
            &bounds::LOGGED_MINUTES,
            "A run has between 0.1 minutes and a day.",
        ),
    };
    let value = match value {
        Ok(value) if bound.check(value).is_ok() => Some(value),
        Ok(_) => {
            errors.push(takes.to_owned());
            None
        }
        Err(refusal) => {
            errors.push(format!("{refusal} {takes}"));
            None
        }
    };
    let reason: String = fields.get("reason").trim().chars().take(300).collect();
    if reason.is_empty() {
        errors.push("Say how it was found: probe, by feel, seen at the controller.".to_owned());
    }
    match (date, value, errors.is_empty()) {
        (Some(date), Some(value), true) => Ok((kind, date, value, reason)),
        _ => Err(errors),
    }
}

#[post("/sites/{id}/zones/{zone}/events")]
async fn note(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, zone_id) = *path;
    here.records.zone(zone_id)?;
    let by = way(Some(fields.get("by")));
    match read(&fields, here.moment(None).date.max(here.today())) {
        Ok((kind, date, value, reason)) => {
            let made =
                here.change(move |change| change.note_event(zone_id, date, kind, value, &reason)).await?;
            let id = made.ok_or(PageError::NotFound)?;
            let text = match kind {
                EventKind::Reading => "The balance follows the reading from that day on.",
                EventKind::Run => "The run is logged.",
            };
            flash(
                &here.who.session,
                text,
                Some(format!("{}/events/{id}/undo", address::zone(site_id, zone_id))),
            )?;
            Ok(see_other(&format!("{}/season?by={}", address::zone(site_id, zone_id), by.code())))
        }
        Err(errors) => draw(&here, path.0, path.1, by, Some((errors, fields.0))).await,
    }
}

fn event(path: (i64, i64, i64)) -> TakeBack {
    let (site, zone, id) = path;
    TakeBack {
        subject: Subject::ZoneEvent,
        under: zone,
        id,
        address: format!("{}/events/{id}", address::zone(site, zone)),
        list: format!("{}/season", address::zone(site, zone)),
        said: ("It is taken back.", "It is restored."),
    }
}

#[post("/sites/{id}/zones/{zone}/events/{event}/undo")]
async fn take_back(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    event(*path).set(&here, true).await
}

#[post("/sites/{id}/zones/{zone}/events/{event}/redo")]
async fn let_stand(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    event(*path).set(&here, false).await
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fields(pairs: &[(&str, &str)]) -> Fields {
        Fields(pairs.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect())
    }

    #[test]
    fn a_reading_is_read_in_percent_and_a_run_in_minutes() {
        let read_of = |kind, value| {
            let pairs = [("kind", kind), ("date", "2026-07-03"), ("value", value), ("reason", "probe")];
            read(&fields(&pairs), jiff::civil::date(2026, 7, 14))
        };
        assert_eq!(read_of("reading", "40").unwrap().2, 0.4);
        assert_eq!(read_of("run", "12.5").unwrap().2, 12.5);
        assert_eq!(read(&fields(&[("kind", "reading"), ("value", "140")]), Date::MAX).unwrap_err().len(), 3);
    }

    #[test]
    fn what_lies_in_the_future_is_refused_at_its_place() {
        let of = |date| {
            let pairs = [("kind", "reading"), ("date", date), ("value", "40"), ("reason", "probe")];
            read(&fields(&pairs), jiff::civil::date(2026, 7, 3))
        };
        assert!(of("2026-07-03").is_ok());
        assert_eq!(
            of("2026-07-04").unwrap_err(),
            ["The day lies in the future; today is 3 Jul 2026. Note what was found, not what is planned."]
        );
    }

    #[test]
    fn the_season_is_drawn_with_its_words_and_is_the_account_of_today() {
        let decided = crate::fixture::decided(UnitSystem::Metric);
        let site = crate::fixture::at_work(&decided, true);
        let zone = &decided.records.zones[0].zone;
        let known = days_of(&site, zone, EvidencePolicy::Best);
        let last = known.last().unwrap();
        assert_eq!(last.water.depletion, decided.night.zones[0].depletion, "Today says the same");
        let read = known.iter().find(|d| d.reset_from.is_some()).unwrap();
        let logged = known.iter().find(|d| d.evidence.label() == "as logged").unwrap();
        assert!(logged.water.applied.mm() > 0.0 && read.date < logged.date);
        let drawn = chart(&known, 25.5, UnitSystem::Metric);
        assert_eq!(drawn.resets.len(), 1);
        assert!(drawn.words.contains("plants required") && drawn.words.contains("run off"));
        let advised = days_of(&site, zone, EvidencePolicy::AsAdvised);
        assert!(advised.iter().all(|d| d.reset_from.is_none()));
        assert!(advised.iter().any(|d| d.water.applied.mm() > 0.0));
    }
}
