//! What the page of a sensor shows: what it says and why, its record, its place, its upkeep, its devices.

use super::find;
use super::list::judged;
use super::notes::notes;
use super::thresholds::Replayed;
use crate::page::dates::DateFormat;
use crate::page::quantities::plain;
use crate::page::sensor_words::{cause, criterion, found, moment, remedy, says_of, verdict};
use crate::page::units::Units;
use crate::page::upkeep_words::next_task;
use crate::server::error::PageError;
use crate::site::snapshot::SiteSnapshot;
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::codes::Coded;
use upland_core::sensors::placement::Verdict;
use upland_core::sensors::state::Says;
use upland_core::sensors::weather::WEATHER_CHANNELS;
use upland_core::sensors::{Sense, Task, upkeep};
use upland_store::readings::{DeviceRecord, Refused};
use upland_store::sensors::{SensorEvent, SensorEventKind, SensorRecord};

/// Holds listed.
const HOLDS_LISTED: usize = 6;
/// Events listed.
const EVENTS_LISTED: usize = 20;

pub(super) struct PlaceRow {
    pub criterion: &'static str,
    pub verdict: &'static str,
    pub fails: bool,
    pub found: String,
    pub remedy: &'static str,
}

pub(super) struct TaskRow {
    pub code: &'static str,
    pub label: &'static str,
    pub since: String,
    pub due: String,
    pub overdue: bool,
}

pub(super) struct EventRow {
    pub id: i64,
    pub what: String,
    pub when: String,
    pub reason: String,
    pub by: String,
    pub undone: bool,
}

pub(super) struct ReadRow {
    pub channel: String,
    pub last: String,
    pub value: String,
    pub count: usize,
}

pub(super) struct DeviceRow {
    pub id: i64,
    pub name: String,
    pub seen: String,
    pub revoked: bool,
    pub refused: Vec<String>,
}

/// A sensor as its page shows it, whoever looks.
pub(super) struct SensorView {
    pub name: String,
    pub card: String,
    pub version: i32,
    pub controller_number: u8,
    pub says: String,
    pub because: String,
    pub source: &'static str,
    pub silent: bool,
    pub broken_wire: &'static str,
    pub notes: Vec<String>,
    pub holds: Vec<String>,
    pub replayed: Arc<Replayed>,
    pub place: Vec<PlaceRow>,
    pub next: String,
    pub overdue: bool,
    pub tasks: Vec<TaskRow>,
    pub events: Vec<EventRow>,
    pub reads: Vec<ReadRow>,
    /// Some of what it reads is weather.
    pub is_weather: bool,
    /// It counts as weather of the site.
    pub feeds_weather: bool,
    pub devices: Vec<DeviceRow>,
    pub is_probe: bool,
    /// What a bypass does to a sensor that scales.
    pub bypass_help: &'static str,
    pub today: Date,
    pub clock: String,
}

impl SensorView {
    pub fn of(
        snapshot: &SiteSnapshot,
        id: i64,
        replayed: Arc<Replayed>,
        devices: &[DeviceRecord],
        refused: &[Refused],
    ) -> Result<Self, PageError> {
        let record = find(snapshot, id)?;
        let card = &record.sensor.card;
        let said = snapshot.says(record);
        let (line, because) = says_of(snapshot, record, &said);
        let (next, overdue) = next_task(snapshot, record);
        let events = snapshot.records.sensor_events.iter().filter(|e| e.sensor_id == id).take(EVENTS_LISTED);
        Ok(Self {
            name: record.sensor.name.clone(),
            card: format!("{}, {}", card.name, card.signal.label()),
            version: record.version,
            controller_number: record.sensor.controller_number,
            says: line,
            because,
            source: if snapshot.own(id).is_some() {
                "From its own readings."
            } else {
                "It has no readings of its own, so this is what the site's record would make it say."
            },
            silent: matches!(said, Says::Silent { .. }),
            broken_wire: card.signal.broken_wire(),
            notes: notes(snapshot, record),
            holds: hold_lines(snapshot, record),
            replayed,
            place: place_rows(snapshot, record),
            next,
            overdue,
            tasks: task_rows(snapshot, record),
            events: events.map(|e| event_row(snapshot, e)).collect(),
            reads: read_rows(snapshot, id),
            is_weather: snapshot
                .own(id)
                .is_some_and(|own| WEATHER_CHANNELS.iter().any(|(channel, _)| own.contains_key(channel))),
            feeds_weather: record.feeds_weather,
            devices: devices.iter().map(|d| device_row(snapshot, d, refused)).collect(),
            bypass_help: match (card.senses(Sense::Et), card.bypass_keeps_percentage) {
                (false, _) => "",
                (true, true) => {
                    "During a bypass it prevents no watering; its percentage still goes over the data line."
                }
                (true, false) => "On bypass it sets no percentage, and the controller's own counts.",
            },
            is_probe: card.senses(Sense::SoilMoisture),
            today: snapshot.today(),
            clock: snapshot.at().to_zoned(snapshot.tz.clone()).formatted("%-d %b %H:%M"),
        })
    }
}

/// Its last holds, newest first.
fn hold_lines(snapshot: &SiteSnapshot, record: &SensorRecord) -> Vec<String> {
    let all = snapshot.holds(record, snapshot.at());
    let line = |hold: &upland_core::sensors::state::Hold| {
        let until = hold.until.map_or("now".to_owned(), |until| moment(until, &snapshot.tz));
        format!("{} to {until}: {}", moment(hold.from, &snapshot.tz), cause(snapshot.units(), hold.cause))
    };
    all.iter().rev().take(HOLDS_LISTED).map(line).collect()
}

fn place_rows(snapshot: &SiteSnapshot, record: &SensorRecord) -> Vec<PlaceRow> {
    let row = |j: &upland_core::sensors::placement::Judged| PlaceRow {
        criterion: criterion(j.criterion),
        verdict: verdict(j.verdict),
        fails: j.verdict == Verdict::Fails,
        found: found(snapshot.units(), j),
        remedy: if j.verdict == Verdict::Good { "" } else { remedy(j.criterion, &record.sensor.card) },
    };
    judged(snapshot, record).iter().map(row).collect()
}

fn task_rows(snapshot: &SiteSnapshot, record: &SensorRecord) -> Vec<TaskRow> {
    let due = upkeep::due(&record.sensor.card, record.installed_on, &snapshot.done(record.id));
    let row = |d: upkeep::Due| TaskRow {
        code: d.task.code(),
        label: d.task.label(),
        since: if d.ever {
            format!("last {}", d.since.formatted("%-d %b %Y"))
        } else {
            format!("never since it was installed on {}", d.since.formatted("%-d %b %Y"))
        },
        due: d.on.formatted("%-d %b %Y"),
        overdue: d.overdue_days(snapshot.today()) >= 0,
    };
    due.into_iter().map(row).collect()
}

/// The last reading of each of its own channels.
fn read_rows(snapshot: &SiteSnapshot, id: i64) -> Vec<ReadRow> {
    let own = snapshot.own(id).into_iter().flatten();
    own.filter_map(|(channel, readings)| {
        let last = readings.last()?;
        let shown = Units::of(snapshot.units()).of_channel(*channel);
        Some(ReadRow {
            channel: channel.bound().name.to_owned(),
            last: moment(last.at, &snapshot.tz),
            value: format!("{} {}", plain(shown.shown(last.value), 2), shown.unit),
            count: readings.as_slice().len(),
        })
    })
    .collect()
}

fn device_row(snapshot: &SiteSnapshot, device: &DeviceRecord, refused: &[Refused]) -> DeviceRow {
    let seen = |at| format!("last seen {}", moment(at, &snapshot.tz));
    let line = |r: &Refused| {
        let last = moment(r.last_at, &snapshot.tz);
        format!("{} refused, {} times, last {last}: {}", r.reason, r.count, r.example)
    };
    DeviceRow {
        id: device.id,
        name: device.name.clone(),
        seen: device.seen_at.map_or("not heard yet".into(), seen),
        revoked: device.revoked_at.is_some(),
        refused: refused.iter().filter(|r| r.device_id == Some(device.id)).map(line).collect(),
    }
}

fn event_row(snapshot: &SiteSnapshot, event: &SensorEvent) -> EventRow {
    let text = |key: &str| {
        event
            .body
            .get(key)
            .map(|v| v.as_f64().map_or_else(|| v.as_str().unwrap_or("").to_owned(), |n| plain(n, 1)))
    };
    let what = match event.kind {
        SensorEventKind::Bypass => "bypass".to_owned(),
        SensorEventKind::Silence => "alarms silent".to_owned(),
        SensorEventKind::Task => {
            text("task").and_then(|t| Task::from_code(&t)).map_or("upkeep", Task::label).to_owned()
        }
        SensorEventKind::Calibration => match text("threshold_pct") {
            Some(t) => format!("calibrated: threshold {t} %"),
            None => format!("calibration failed: {}", text("failure").unwrap_or_default()),
        },
        SensorEventKind::Adjustment => format!(
            "threshold {} → {}; looked {}",
            text("from").unwrap_or_default(),
            text("to").unwrap_or_default(),
            text("looks").unwrap_or_default()
        ),
    };
    EventRow {
        id: event.id,
        what,
        when: match event.until {
            Some(until) => format!("{} to {}", moment(event.from, &snapshot.tz), moment(until, &snapshot.tz)),
            None => moment(event.from, &snapshot.tz),
        },
        reason: event.reason.clone(),
        by: event.said_by.clone(),
        undone: event.undone,
    }
}
