//! What is asked of the logbook, from an address.

use crate::server::error::PageError;
use crate::site::clock::asked_day;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use serde::Deserialize;
use upland_core::quantity::time::midnight;
use upland_store::logbook::Asked;

/// An address of the logbook.
#[derive(Debug, Clone, Deserialize, Default)]
pub(super) struct Query {
    pub q: Option<String>,
    pub kind: Option<String>,
    pub zone: Option<String>,
    pub person: Option<String>,
    pub from: Option<String>,
    pub to: Option<String>,
    pub before: Option<String>,
}

/// Kinds of entries, each with the subjects that it holds.
pub(super) const KINDS: [(&str, &str, &[&str]); 10] = [
    ("visits", "Visits and adjustments", &["visit", "visit_entry", "photo", "lever"]),
    ("settings", "Settings of controllers", &["settings", "fallback", "box", "calendar"]),
    ("zones", "Zones", &["zone"]),
    ("readings", "Readings, cans, runs", &["zone_event", "catch_test"]),
    ("sensors", "Sensors", &["sensor", "sensor_event", "install_date", "device", "plan"]),
    (
        "weather",
        "Weather",
        &[
            "weather_source",
            "weather_service",
            "weather_import",
            "weather_overrule",
            "weather_choice",
            "weather_normals",
        ],
    ),
    ("trials", "Comparisons", &["trial", "trial_way"]),
    ("ticks", "Ticks", &["tick"]),
    ("notes", "Notes and prints", &["note", "print"]),
    ("site", "The site", &["site", "ordinance"]),
];

fn text(value: Option<&String>) -> &str {
    value.map_or("", |v| v.trim())
}

fn number(value: Option<&String>, what: &str) -> Result<Option<i64>, PageError> {
    match text(value) {
        "" => Ok(None),
        text => {
            text.parse().map(Some).map_err(|_| PageError::BadRequest(format!("\"{text}\" is no {what}.")))
        }
    }
}

/// What an address asks for.
pub(super) fn asked(query: &Query, tz: &TimeZone, today: Date) -> Result<Asked, PageError> {
    let kind = text(query.kind.as_ref());
    let subjects = match (kind, KINDS.iter().find(|(code, ..)| *code == kind)) {
        ("", _) => Vec::new(),
        (_, Some((_, _, subjects))) => subjects.iter().map(|s| (*s).to_owned()).collect(),
        (other, None) => return Err(PageError::BadRequest(format!("\"{other}\" is no kind of entry."))),
    };
    let day = |value: &Option<String>| asked_day(value.as_deref(), today);
    let (from, to) = (day(&query.from)?, day(&query.to)?);
    Ok(Asked {
        text: text(query.q.as_ref()).chars().take(200).collect(),
        subjects,
        zone_id: number(query.zone.as_ref(), "zone")?,
        person: number(query.person.as_ref(), "person")?,
        from: from.map(|day| midnight(day, tz)),
        until: to.map(|day| midnight(day.tomorrow().unwrap_or(day), tz)),
        before: number(query.before.as_ref(), "entry")?,
    })
}

impl Query {
    pub fn get(&self, name: &str) -> &str {
        text(match name {
            "q" => self.q.as_ref(),
            "kind" => self.kind.as_ref(),
            "zone" => self.zone.as_ref(),
            "person" => self.person.as_ref(),
            "from" => self.from.as_ref(),
            "to" => self.to.as_ref(),
            _ => None,
        })
    }

    /// The same address without the page, for files and the next page.
    pub fn address(&self) -> String {
        let names = ["q", "kind", "zone", "person", "from", "to"];
        let all = names.iter().map(|name| (name, self.get(name))).filter(|(_, value)| !value.is_empty());
        let all: Vec<String> =
            all.map(|(name, value)| format!("{name}={}", crate::server::address::encoded(value))).collect();
        all.join("&")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_read_with_whole_days_and_refused_where_it_says_nothing() {
        let some = |text: &str| Some(text.to_owned());
        let query = Query {
            kind: some("visits"),
            from: some("2026-07-01"),
            to: some("2026-07-01"),
            ..Query::default()
        };
        let found = asked(&query, &TimeZone::UTC, Date::constant(2026, 7, 14)).unwrap();
        assert_eq!(found.subjects, ["visit", "visit_entry", "photo", "lever"]);
        let span = found.until.unwrap().duration_since(found.from.unwrap());
        assert_eq!(span.as_hours(), 24, "the last day is whole");
        assert_eq!(query.address(), "kind=visits&from=2026-07-01&to=2026-07-01");
        for (kind, zone, from) in [("nonsense", "", ""), ("", "x", ""), ("", "", "July")] {
            let query = Query { kind: some(kind), zone: some(zone), from: some(from), ..Query::default() };
            assert!(
                asked(&query, &TimeZone::UTC, Date::constant(2026, 7, 14)).is_err(),
                "{kind} {zone} {from}"
            );
        }
        assert_eq!(
            asked(&Query::default(), &TimeZone::UTC, Date::constant(2026, 7, 14)).unwrap(),
            Asked::default()
        );
    }
}
