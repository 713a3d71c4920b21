//! The season of a zone: its root zone day by day, with rain and watering as advised, as scheduled
//! or as logged, and set right by readings from the field.

use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::{depth, plain, share};
use crate::page::take_back::TakeBack;
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::server::state::AppState;
use crate::site::context::{AtSite, EditorAt};
use crate::site::facts::SiteFacts;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::ToSpan;
use jiff::civil::Date;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::account::season::{
    ANY_NIGHT, FieldReading, SeasonDay, Watering, replay, replay_start, scheduled_minutes, sum,
};
use upland_core::controller::schedule::Settings;
use upland_core::quantity::bounds;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{Millimetres, Minutes};
use upland_core::site::UnitSystem;
use upland_core::weather::climate::Climate;
use upland_store::Subject;
use upland_store::field::{EventKind, ZoneEvent};
use upland_store::settings::SettingsRecord;
use upland_store::zones::ZoneRecord;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(season_page).service(note).service(take_back).service(let_stand);
}

/// Days drawn.
const DRAWN_DAYS: i32 = 150;
/// Height of the drawing's field and of its rain band.
const FIELD: f64 = 220.0;
const BAND: f64 = 60.0;
const WIDTH: f64 = 1000.0;

/// What waters the zone in the drawing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum By {
    Advised,
    Scheduled,
    Logged,
}

impl By {
    fn of(code: Option<&str>) -> Self {
        match code {
            Some("scheduled") => Self::Scheduled,
            Some("logged") => Self::Logged,
            _ => Self::Advised,
        }
    }
}

struct Bar {
    x: String,
    y: String,
    width: String,
    height: String,
    title: String,
}

struct Mark {
    x: String,
    text: String,
}

/// The season as a drawing.
struct Chart {
    line: String,
    refill: String,
    rain: Vec<Bar>,
    runs: Vec<Bar>,
    stress: Vec<Bar>,
    resets: Vec<Mark>,
    months: Vec<Mark>,
    full_words: String,
    empty_words: String,
    words: String,
}

/// The days of a season as the drawing's field.
struct Field<'a> {
    days: &'a [SeasonDay],
    /// Width of a day.
    step: f64,
    /// Water between full and wilting, mm.
    total: f64,
    units: UnitSystem,
}

/// Water below this is not drawn, mm.
const LEAST_MM: f64 = 0.05;

impl Field<'_> {
    /// Left edges of the days.
    fn placed(&self) -> impl Iterator<Item = (f64, &SeasonDay)> {
        #[allow(clippy::cast_precision_loss, reason = "days of a season")]
        self.days.iter().enumerate().map(|(i, day)| (i as f64 * self.step, day))
    }

    /// A line through what is missing on each day.
    fn line(&self, missing: impl Fn(&SeasonDay) -> Millimetres) -> String {
        let mut path = String::new();
        for (x, day) in self.placed() {
            let command = if path.is_empty() { 'M' } else { 'L' };
            let y = BAND + FIELD * (missing(day).mm() / self.total.max(0.1)).clamp(0.0, 1.0);
            path.push_str(&format!("{command}{:.1} {y:.1}", x + self.step / 2.0));
        }
        path
    }

    /// Bars of water that stand on a height; rain and watering have one scale.
    fn bars(&self, foot: f64, what: &str, amount: impl Fn(&SeasonDay) -> Millimetres) -> Vec<Bar> {
        let most = self.days.iter().map(|d| d.rain.mm().max(d.irrigation.mm())).fold(10.0, f64::max);
        let wet = self.placed().filter(|(_, day)| amount(day).mm() > LEAST_MM);
        wet.map(|(x, day)| {
            let height = (BAND - 6.0) * amount(day).mm() / most;
            Bar {
                x: plain(x, 1),
                y: plain(foot - height, 1),
                width: plain((self.step * 0.9).max(1.0), 1),
                height: plain(height, 1),
                title: format!("{}: {} {what}", day.date, depth(self.units, amount(day))),
            }
        })
        .collect()
    }

    /// The days on which the plants were short of water.
    fn stress(&self) -> Vec<Bar> {
        let short = self.placed().filter(|(_, day)| day.balance.stress_coefficient < 1.0);
        short
            .map(|(x, day)| Bar {
                x: plain(x, 1),
                y: plain(BAND, 1),
                width: plain(self.step + 0.2, 1),
                height: plain(FIELD, 1),
                title: format!("{}: short of water", day.date),
            })
            .collect()
    }
}

fn chart(days: &[SeasonDay], total: f64, units: UnitSystem) -> Chart {
    #[allow(clippy::cast_precision_loss, reason = "days of a season")]
    let step = WIDTH / days.len().max(1) as f64;
    let field = Field { days, step, total, units };
    let read = field.placed().filter(|(_, day)| day.reset_from.is_some());
    let firsts = field.placed().filter(|(_, day)| day.date.day() == 1);
    let summed = sum(days);
    Chart {
        line: field.line(|day| day.balance.depletion),
        refill: field.line(|day| day.refill_at),
        rain: field.bars(BAND, "of rain", |day| day.rain),
        // Runs hang at the foot of the field, so that rain and watering never hide each other.
        runs: field.bars(BAND + FIELD + BAND, "watered", |day| day.irrigation),
        stress: field.stress(),
        resets: read
            .map(|(x, day)| Mark { x: plain(x + step / 2.0, 1), text: format!("reading {}", day.date) })
            .collect(),
        months: firsts
            .map(|(x, day)| Mark { x: plain(x, 1), text: day.date.strftime("%b").to_string() })
            .collect(),
        full_words: "full".into(),
        empty_words: format!("wilting: {} missing", depth(units, Millimetres::from_mm(total))),
        words: format!(
            "{} days: plants asked for {}, got {}; rain that entered {}, watering {}, drained {}; short of water on {} days.",
            summed.days,
            depth(units, summed.demand),
            depth(units, summed.met),
            depth(units, summed.rain_in),
            depth(units, summed.irrigation),
            depth(units, summed.drainage),
            summed.stress_days
        ),
    }
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

fn day_line(day: &SeasonDay, units: UnitSystem) -> DayLine {
    let mut notes = Vec::new();
    if day.balance.stress_coefficient < 1.0 {
        notes.push(format!("short, Ks {}", plain(day.balance.stress_coefficient, 3)));
    }
    if let Some(was) = day.reset_from {
        notes.push(format!("reading; computed {}", depth(units, was)));
    }
    DayLine {
        date: day.date.to_string(),
        et0: depth(units, day.et0),
        demand: depth(units, day.demand),
        rain: depth(units, day.rain_in),
        watered: depth(units, day.irrigation),
        drained: depth(units, day.balance.drainage),
        missing: depth(units, day.balance.depletion),
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
    chart: Option<Chart>,
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

/// The days of a zone under what waters it.
fn days_of(
    loaded: &SiteFacts,
    zone: &ZoneRecord,
    climate: &Climate,
    (by, today): (By, Date),
    events: &[ZoneEvent],
    versions: &[SettingsRecord],
) -> Vec<SeasonDay> {
    let resolved = zone.zone.resolve(climate.station().latitude_deg);
    let Some(from) = replay_start(climate, today) else { return Vec::new() };
    let own = events.iter().filter(|e| e.zone_id == zone.id && !e.undone);
    let readings: Vec<FieldReading> = own
        .clone()
        .filter(|e| e.kind == EventKind::Reading)
        .map(|e| FieldReading {
            date: e.date,
            available_share: Share::from_fraction(e.value),
            reason: e.reason.clone(),
        })
        .collect();
    let span = (from, today);
    let with = |watering: &Watering| replay((&zone.zone, &resolved), climate, span, watering, &readings);
    match by {
        By::Advised => with(&ANY_NIGHT),
        By::Logged => {
            let mut minutes: BTreeMap<Date, Minutes> = BTreeMap::new();
            for event in own.filter(|e| e.kind == EventKind::Run) {
                let slot = minutes.entry(event.date).or_default();
                *slot = *slot + Minutes::from_min(event.value);
            }
            with(&Watering::Minutes(&minutes))
        }
        By::Scheduled => {
            let tz = loaded.tz.clone();
            let found = loaded.boxes.iter().find(|b| b.number() == zone.zone.box_number);
            let Some(card) = found.map(|b| &b.record.controller.card) else {
                return with(&Watering::Minutes(&BTreeMap::new()));
            };
            // The first version is what was found: it stood before it was entered.
            let mut known: Vec<(Date, &Settings)> = versions
                .iter()
                .rev()
                .map(|v| (v.saved_at.to_zoned(tz.clone()).date(), &v.settings))
                .collect();
            if let Some(first) = known.first_mut() {
                first.0 = first.0.min(from);
            }
            let all = scheduled_minutes(&known, card, &tz, span);
            let none = BTreeMap::new();
            with(&Watering::Minutes(all.get(&zone.zone.number).unwrap_or(&none)))
        }
    }
}

fn event_line(event: &ZoneEvent) -> EventLine {
    EventLine {
        id: event.id,
        date: event.date.to_string(),
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
    fn of(state: &AppState, loaded: &SiteFacts, zone_id: i64, of: (By, Date)) -> Result<Self, PageError> {
        let (zone, climate, today) = (loaded.zone(zone_id)?, &loaded.climate, of.1);
        let box_id = loaded.boxes.iter().find(|b| b.number() == zone.zone.box_number).map(|b| b.record.id);
        let (events, versions) = state.store.read(|snapshot| {
            let versions = box_id.map_or(Ok(Vec::new()), |id| snapshot.settings_history(id))?;
            Ok((snapshot.zone_events(loaded.site.id)?, versions))
        })?;
        let all = days_of(loaded, zone, climate, of, &events, &versions);
        let from = today.checked_sub(DRAWN_DAYS.days()).unwrap_or(today);
        let days: Vec<SeasonDay> = all.into_iter().filter(|d| d.date > from).collect();
        let units = loaded.site.site.units;
        let total = zone.zone.resolve(climate.station().latitude_deg).root_zone.total_available.mm();
        Ok(Self {
            chart: (!days.is_empty()).then(|| chart(&days, total, units)),
            days: days.iter().rev().take(31).map(|d| day_line(d, units)).collect(),
            events: events.iter().filter(|e| e.zone_id == zone_id).rev().map(event_line).collect(),
        })
    }
}

async fn draw(
    here: &AtSite,
    (site_id, zone_id): (i64, i64),
    by: By,
    refused: Option<(Vec<String>, BTreeMap<String, String>)>,
) -> Result<HttpResponse, PageError> {
    let facts = Arc::clone(&here.facts);
    let zone = facts.zone(zone_id)?;
    let today = here.moment(None).date;
    let (key, known) = (format!("{} zone {zone_id} {by:?} on {today}", here.facts_key()), Arc::clone(&facts));
    let season = here.once(key, 80, move |state| Season::of(state, &known, zone_id, (by, today))).await?;
    let (errors, typed) = refused.unwrap_or_default();
    page_with(
        if errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY },
        &SeasonPage {
            frame: Frame::of_site(here, format!("Season of zone {}", zone.zone.number), Chapter::Zones)?,
            site_id,
            zone_id,
            zone: format!("{} {}", zone.zone.number, zone.zone.name),
            ways: vec![
                ("advised", "as advised", by == By::Advised),
                ("scheduled", "as the box was set", by == By::Scheduled),
                ("logged", "as logged", by == By::Logged),
            ],
            season,
            today: today.to_string(),
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
    draw(&here, *path, By::of(query.by.as_deref()), None).await
}

/// Reads what was found: kind, day, value, reason.
fn read(fields: &Fields) -> Result<(EventKind, Date, f64, String), Vec<String>> {
    let mut errors = Vec::new();
    let kind = if fields.get("kind") == "run" { EventKind::Run } else { EventKind::Reading };
    let date = fields.date("date");
    if date.is_none() {
        errors.push("The day is written YYYY-MM-DD.".to_owned());
    }
    let number = fields.get("value").parse::<f64>().ok();
    let value = match kind {
        EventKind::Reading => number.map(|v| v / 100.0).filter(|v| bounds::AVAILABLE_SHARE.check(*v).is_ok()),
        EventKind::Run => number.filter(|v| bounds::LOGGED_MINUTES.check(*v).is_ok()),
    };
    if value.is_none() {
        errors.push(match kind {
            EventKind::Reading => "What is left is between 0 % (wilting) and 100 % (full).".to_owned(),
            EventKind::Run => "A run has between 0.1 and 1440 minutes.".to_owned(),
        });
    }
    let reason: String = fields.get("reason").trim().chars().take(300).collect();
    if reason.is_empty() {
        errors.push("Say how it was found: probe, by feel, seen at the box.".to_owned());
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
    here.facts.zone(zone_id)?;
    let by = fields.get("by").to_owned();
    match read(&fields) {
        Ok((kind, date, value, reason)) => {
            let made =
                here.change(move |change| change.note_event(zone_id, date, (kind, value), &reason)).await?;
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
            Ok(see_other(&format!(
                "{}/season?by={}",
                address::zone(site_id, zone_id),
                if by == "scheduled" || by == "logged" { by.as_str() } else { "advised" }
            )))
        }
        Err(errors) => draw(&here, *path, By::of(Some(&by)), Some((errors, fields.0))).await,
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
        said: ("It is taken back.", "It stands again."),
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
            read(&fields(&[("kind", kind), ("date", "2026-07-03"), ("value", value), ("reason", "probe")]))
        };
        assert_eq!(read_of("reading", "40").unwrap().2, 0.4);
        assert_eq!(read_of("run", "12.5").unwrap().2, 12.5);
        assert_eq!(read(&fields(&[("kind", "reading"), ("value", "140")])).unwrap_err().len(), 3);
    }

    #[test]
    fn the_season_is_drawn_with_its_words() {
        let decided = crate::fixture::decided(UnitSystem::Metric);
        let loaded = &decided.loaded;
        let zone = &loaded.zones[0];
        let today = decided.climate.span().unwrap().1;
        let event = |kind, back: i32, value| ZoneEvent {
            id: 1,
            zone_id: zone.id,
            date: today - back.days(),
            kind,
            value,
            reason: "seen".into(),
            said_by: "Bram".into(),
            said_at: jiff::Timestamp::UNIX_EPOCH,
            undone: false,
        };
        let events = [event(EventKind::Reading, 5, 0.3), event(EventKind::Run, 3, 30.0)];
        let days = |by| days_of(loaded, zone, &decided.climate, (by, today), &events, &[]);
        let logged = days(By::Logged);
        let run = logged.iter().find(|d| d.date == today - 3.days()).unwrap();
        assert!(run.irrigation.mm() > 0.0);
        assert!(logged.iter().find(|d| d.date == today - 5.days()).unwrap().reset_from.is_some());
        let drawn = chart(&logged, 25.5, UnitSystem::Metric);
        assert_eq!((drawn.runs.len(), drawn.resets.len()), (1, 1));
        assert!(drawn.words.contains("plants asked for"));
        assert!(days(By::Advised).iter().any(|d| d.irrigation.mm() > 0.0));
        assert!(days(By::Scheduled).iter().all(|d| d.irrigation.mm() == 0.0), "nothing was entered");
    }
}
