//! The logbook as a page and as files.

use super::asked::{KINDS, Query};
use crate::page::dates::DateFormat;
use crate::page::event_words::{action, difference, restorable, subject};
use crate::page::frame::Frame;
use crate::server::address;
use crate::site::context::AtSite;
use askama::Template;
use upland_store::logbook::LogEntry;

/// An option of a filter.
struct Choice {
    code: String,
    label: String,
    on: bool,
}

struct Line {
    id: i64,
    at: String,
    by: String,
    what: &'static str,
    action: &'static str,
    words: String,
    difference: Option<String>,
    zone: Option<(String, String)>,
    /// Subject, identity and what it belongs to, where it can be brought back.
    restore: Option<(String, i64, String)>,
}

struct DayOf {
    day: String,
    lines: Vec<Line>,
}

#[derive(Template)]
#[template(path = "chapters/logbook/logbook.html")]
pub(super) struct LogPage {
    frame: Frame,
    root: String,
    q: String,
    from: String,
    to: String,
    kinds: Vec<Choice>,
    zones: Vec<Choice>,
    people: Vec<Choice>,
    days: Vec<DayOf>,
    filtered: bool,
    /// Address of the older ones.
    older: Option<String>,
    /// The filter as an address, for the files.
    address: String,
}

fn zone_name(here: &AtSite, id: i64) -> Option<String> {
    let own = here.records.zones.iter().find(|z| z.id == id)?;
    Some(format!("{} {}", own.zone.number, own.zone.name))
}

fn line(here: &AtSite, entry: &LogEntry) -> Line {
    let zone = entry
        .zone_id
        .and_then(|id| Some((format!("{}/why", address::zone(here.id(), id)), zone_name(here, id)?)));
    let removed = entry.action == "removed" && restorable(&entry.subject).is_some();
    let under = match entry.subject.as_str() {
        "catch_test" | "zone_event" => entry.zone_id.map(|id| id.to_string()).unwrap_or_default(),
        _ => String::new(),
    };
    Line {
        id: entry.id,
        at: entry.at.to_zoned(here.records.tz.clone()).formatted("%H:%M"),
        by: entry.person.clone().unwrap_or_else(|| "by itself".into()),
        what: subject(&entry.subject),
        action: action(entry),
        zone: zone.clone(),
        // The zone stands before the words, with its link.
        words: zone
            .as_ref()
            .and_then(|(_, name)| entry.words.strip_prefix(name.as_str())?.strip_prefix(": "))
            .unwrap_or(&entry.words)
            .to_owned(),
        difference: difference(entry),
        restore: entry.subject_id.filter(|_| removed).map(|id| (entry.subject.clone(), id, under)),
    }
}

impl LogPage {
    pub fn of(
        frame: Frame,
        here: &AtSite,
        query: &Query,
        found: &[LogEntry],
        people: &[(i64, String)],
        most: usize,
    ) -> Self {
        let shown = found.get(..most.min(found.len())).unwrap_or_default();
        let mut days: Vec<DayOf> = Vec::new();
        for entry in shown {
            let day = entry.at.to_zoned(here.records.tz.clone()).formatted("%A %-d %B %Y");
            if days.last().is_none_or(|d| d.day != day) {
                days.push(DayOf { day, lines: Vec::new() });
            }
            if let Some(last) = days.last_mut() {
                last.lines.push(line(here, entry));
            }
        }
        let root = address::site_root(here.id());
        let choice =
            |name: &str, code: String, label: String| Choice { on: query.get(name) == code, code, label };
        let address = query.address();
        let last = shown.last().filter(|_| found.len() > shown.len()).map(|e| e.id);
        Self {
            q: query.get("q").to_owned(),
            from: query.get("from").to_owned(),
            to: query.get("to").to_owned(),
            kinds: KINDS
                .iter()
                .map(|(code, label, _)| choice("kind", (*code).into(), (*label).into()))
                .collect(),
            zones: here
                .records
                .zones
                .iter()
                .map(|z| choice("zone", z.id.to_string(), format!("{} {}", z.zone.number, z.zone.name)))
                .collect(),
            people: people.iter().map(|(id, name)| choice("person", id.to_string(), name.clone())).collect(),
            days,
            filtered: !address.is_empty(),
            older: last.map(|id| {
                format!("{root}/logbook?{address}{}before={id}", if address.is_empty() { "" } else { "&" })
            }),
            root,
            address,
            frame,
        }
    }
}

/// The entries as CSV.
pub(super) fn csv(here: &AtSite, found: &[LogEntry]) -> String {
    let row = |entry: &LogEntry| {
        let at = entry.at.to_zoned(here.records.tz.clone()).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string();
        let value = |v: &Option<serde_json::Value>| v.as_ref().map(ToString::to_string).unwrap_or_default();
        [
            at,
            entry.person.clone().unwrap_or_default(),
            entry.subject.clone(),
            entry.action.clone(),
            entry.zone_id.and_then(|id| zone_name(here, id)).unwrap_or_default(),
            entry.words.clone(),
            value(&entry.before),
            value(&entry.after),
        ]
    };
    let rows: Vec<_> = found.iter().map(row).collect();
    upland_formats::rows_csv::write(
        &["at", "person", "subject", "action", "zone", "words", "before", "after"],
        &rows,
    )
}

/// The entries as JSON.
pub(super) fn json(here: &AtSite, found: &[LogEntry]) -> serde_json::Value {
    let one = |entry: &LogEntry| {
        serde_json::json!({
            "id": entry.id,
            "at": entry.at.to_zoned(here.records.tz.clone()).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string(),
            "person": entry.person,
            "subject": entry.subject,
            "subject_id": entry.subject_id,
            "action": entry.action,
            "zone": entry.zone_id.and_then(|id| zone_name(here, id)),
            "words": entry.words,
            "before": entry.before,
            "after": entry.after,
        })
    };
    serde_json::json!({ "format": "upland-almanac-logbook", "version": 1, "entries": found.iter().map(one).collect::<Vec<_>>() })
}
