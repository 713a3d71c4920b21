//! Events as sentences, for the logbook and the audit.

use crate::page::dates::DateFormat;
use upland_store::Subject;
use upland_store::logbook::LogEntry;

/// What an entry is about.
pub(crate) fn subject(code: &str) -> &'static str {
    match code {
        "site" => "Site",
        "zone" => "Zone",
        "box" => "Controller",
        "settings" => "Settings",
        "fallback" => "Fallback version",
        "calendar" => "Calendar address",
        "ordinance" => "Ordinance",
        "sensor" => "Sensor",
        "install_date" => "Hanging date",
        "sensor_event" => "Sensor",
        "device" => "Device",
        "plan" => "Plan of the site",
        "catch_test" => "Catch cans",
        "zone_event" => "Reading",
        "weather_source" => "Weather source",
        "weather_import" => "Weather import",
        "weather_overrule" => "Weather value",
        "weather_service" => "Weather service",
        "weather_choice" => "Weather sources",
        "weather_normals" => "Typed normals",
        "trial_way" => "Option of a comparison",
        "trial" => "Comparison",
        "visit" => "Visit",
        "visit_entry" => "Seen",
        "photo" => "Photograph",
        "lever" => "Adjustment applied",
        "tick" => "Tick",
        "note" => "Note",
        "print" => "Printed",
        "owner_link" => "Owner's page",
        "account" => "Account",
        "library" => "Controller type or ordinance",
        _ => "Entry",
    }
}

/// What happened, as the end of "Zone …".
pub(crate) fn action(entry: &LogEntry) -> &'static str {
    let says_itself =
        matches!(entry.subject.as_str(), "note" | "print" | "visit_entry" | "lever" | "photo" | "tick");
    match entry.action.as_str() {
        "created" if says_itself => "",
        "created" if entry.subject == "visit" => "begun",
        "created" => "added",
        "changed" => "changed",
        "removed" if entry.subject == "tick" => "taken back",
        "removed" => "removed",
        "restored" => "brought back",
        _ => "",
    }
}

/// From what to what, where an entry says so in numbers or words.
pub(crate) fn difference(entry: &LogEntry) -> Option<String> {
    let plain = |value: &serde_json::Value| match value {
        serde_json::Value::Number(n) => Some(n.to_string()),
        // A day is kept as a file writes it, and shown as the reader does.
        serde_json::Value::String(text) => {
            Some(text.parse().map_or(text.clone(), |day: jiff::civil::Date| day.formatted("%-d %b %Y")))
        }
        _ => None,
    };
    let (before, after) = (plain(entry.before.as_ref()?)?, plain(entry.after.as_ref()?)?);
    Some(if entry.before.as_ref().is_some_and(serde_json::Value::is_number) {
        format!("version {before} → {after}")
    } else {
        format!("{before} → {after}")
    })
}

/// What can be brought back from the logbook, by its short name.
pub(crate) fn restorable(code: &str) -> Option<Subject> {
    Some(match code {
        "zone" => Subject::Zone,
        "box" => Subject::Controller,
        "sensor" => Subject::Sensor,
        "trial_way" => Subject::TrialWay,
        "trial" => Subject::Trial,
        "catch_test" => Subject::CatchTest,
        "zone_event" => Subject::ZoneEvent,
        "weather_import" => Subject::Import,
        "weather_source" => Subject::Source,
        "visit" => Subject::Visit,
        "note" => Subject::Note,
        _ => return None,
    })
}
