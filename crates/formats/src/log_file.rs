//! What was written down about a site's water as one JSON file: runs, readings of the soil, counts of the main
//! meter, earlier settings of its controllers, bypasses. Its JSON Schema is published as `docs/log-v1.schema.json`.

use crate::json::{Checker, PathProblem, parse, schema_of};
use crate::settings_file::{self, dto::SettingsDto};
use crate::site_file::SiteFile;
use jiff::SignedDuration;
use jiff::civil::Date;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use upland_core::account::evidence::FieldReading;
use upland_core::account::log::{Log, LoggedReading, LoggedRun, MeterReading};
use upland_core::controller::schedule::Settings;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::Litres;
use upland_core::sensors::state::Pause;
use upland_core::site::StationId;

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-log";
/// The version this module reads.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes.
pub const MAX_BYTES: usize = 8 * 1024 * 1024;
/// Longest run that can be logged, seconds: a day.
const LONGEST_RUN_S: u32 = 86_400;

/// A log with what it says beyond runs, readings and meter.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct LogFile {
    /// Runs, readings and meter.
    pub log: Log,
    /// Settings by controller, each with the first day on which they counted, in order.
    pub versions: BTreeMap<u8, Vec<(Date, Settings)>>,
    /// Bypasses by name of the sensor.
    pub bypasses: BTreeMap<String, Vec<Pause>>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(
    title = "Upland Almanac log",
    description = "What was written down about a site's water, version 1. Instants are RFC 3339, with their offset."
)]
struct LogDto {
    /// Always "upland-almanac-log".
    #[schemars(schema_with = "format_schema")]
    format: String,
    /// Always 1.
    #[schemars(schema_with = "version_schema")]
    version: u32,
    /// Runs that happened. A day with a run in it counts as logged for its station.
    #[serde(default)]
    runs: Vec<RunDto>,
    /// Readings of the soil.
    #[serde(default)]
    readings: Vec<ReadingDto>,
    /// Counts of the main meter.
    #[serde(default)]
    meter: Vec<MeterDto>,
    /// Settings of controllers with the first day on which they counted; a controller that is not named here was always set
    /// as the site file says.
    #[serde(default)]
    settings: Vec<VersionDto>,
    /// Times in which a sensor was bypassed.
    #[serde(default)]
    bypasses: Vec<BypassDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Run")]
struct RunDto {
    /// Number of the controller; 1 when left out.
    #[serde(default = "first_controller")]
    controller: u8,
    station: u16,
    start: String,
    seconds: u32,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Reading")]
struct ReadingDto {
    /// Number of the controller; 1 when left out.
    #[serde(default = "first_controller")]
    controller: u8,
    station: u16,
    at: String,
    /// What is left of the available water, percent.
    available_pct: f64,
    /// How it was found.
    #[serde(default)]
    reason: String,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Meter")]
struct MeterDto {
    at: String,
    /// Litres since the meter was built in.
    litres: f64,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Version")]
struct VersionDto {
    /// Number of the controller; 1 when left out.
    #[serde(default = "first_controller")]
    controller: u8,
    /// YYYY-MM-DD.
    since: String,
    settings: SettingsDto,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Bypass")]
struct BypassDto {
    /// Name of the sensor.
    sensor: String,
    from: String,
    until: String,
}

crate::json::head_schemas!();

fn first_controller() -> u8 {
    1
}

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    schema_of::<LogDto>()
}

/// Reads a log about a site, whose controllers, zones and sensors it may name.
///
/// # Errors
/// Every problem that was found, by path; on malformed JSON the first one.
// Long: one list of the file after another.
pub fn read(bytes: &[u8], site: &SiteFile) -> Result<LogFile, Vec<PathProblem>> {
    let dto: LogDto = parse(bytes, MAX_BYTES)?;
    let mut take = Checker::default();
    take.header((&dto.format, FORMAT), (dto.version, VERSION));
    let on_station = |take: &mut Checker, path: &str, controller: u8, station: u16| {
        if !site.zones.iter().any(|z| z.station_id() == StationId::new(controller, station)) {
            take.say(path, format!("the site has no zone on station {station} of controller {controller}"));
        }
    };
    let mut out = LogFile::default();
    for (i, run) in dto.runs.iter().enumerate() {
        let at = format!("runs[{i}]");
        on_station(&mut take, &at, run.controller, run.station);
        take.count(&format!("{at}.seconds"), run.seconds, LONGEST_RUN_S);
        let from = take.instant(&format!("{at}.start"), &run.start);
        let until = from + SignedDuration::from_secs(run.seconds.into());
        out.log.runs.push(LoggedRun { controller_number: run.controller, station: run.station, from, until });
    }
    for (i, reading) in dto.readings.iter().enumerate() {
        let at = format!("readings[{i}]");
        on_station(&mut take, &at, reading.controller, reading.station);
        if !(0.0..=100.0).contains(&reading.available_pct) {
            take.say(
                &format!("{at}.available_pct"),
                format!("{} is outside 0 to 100", reading.available_pct),
            );
        }
        out.log.readings.push(LoggedReading {
            controller_number: reading.controller,
            station: reading.station,
            reading: FieldReading {
                at: take.instant(&format!("{at}.at"), &reading.at),
                available_share: Share::from_percent(reading.available_pct),
                reason: reading.reason.clone(),
            },
        });
    }
    for (i, meter) in dto.meter.iter().enumerate() {
        let at = format!("meter[{i}]");
        if !(meter.litres.is_finite() && meter.litres >= 0.0) {
            take.say(&format!("{at}.litres"), "is not a count of litres");
        }
        let when = take.instant(&format!("{at}.at"), &meter.at);
        out.log.meter.push(MeterReading { at: when, counted: Litres::from_l(meter.litres) });
    }
    for (i, version) in dto.settings.iter().enumerate() {
        let at = format!("settings[{i}]");
        let Some((controller, _)) = site.controller(version.controller) else {
            take.say(&at, format!("the site has no controller {}", version.controller));
            continue;
        };
        let since = take.date(&format!("{at}.since"), &version.since);
        let settings = settings_file::take_for(
            &mut take,
            &format!("{at}.settings"),
            &version.settings,
            &controller.card,
        );
        out.versions.entry(version.controller).or_default().push((since, settings));
    }
    for (i, bypass) in dto.bypasses.iter().enumerate() {
        let at = format!("bypasses[{i}]");
        if !site.sensors.iter().any(|s| s.name == bypass.sensor) {
            take.say(&format!("{at}.sensor"), format!("the site has no sensor \"{}\"", bypass.sensor));
        }
        let from = take.instant(&format!("{at}.from"), &bypass.from);
        let until = take.instant(&format!("{at}.until"), &bypass.until);
        if until <= from && take.problems.is_empty() {
            take.say(&format!("{at}.until"), "does not lie after its beginning");
        }
        out.bypasses.entry(bypass.sensor.clone()).or_default().push(Pause { from, until });
    }
    out.log = out.log.in_order();
    for versions in out.versions.values_mut() {
        versions.sort_by_key(|(since, _)| *since);
    }
    take.finish(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn site() -> SiteFile {
        let text = include_str!("../../app/src/demo/sites/botanic-slope.json");
        crate::site_file::read(text.as_bytes()).expect("the demo's site")
    }

    fn log(lists: &str) -> String {
        format!("{{\"format\":\"{FORMAT}\",\"version\":1{lists}}}")
    }

    #[test]
    fn a_log_is_read_in_order_of_time() {
        let text = log(r#","runs":[
                {"station":1,"start":"2026-07-14T02:00:00+02:00","seconds":600},
                {"station":1,"start":"2026-07-12T02:00:00+02:00","seconds":60}],
            "readings":[{"station":2,"at":"2026-07-13T12:00:00Z","available_pct":55,"reason":"probe"}],
            "meter":[{"at":"2026-07-01T08:00:00Z","litres":1200.5}]"#);
        let read = read(text.as_bytes(), &site()).expect("readable");
        assert_eq!(read.log.runs[0].from.to_string(), "2026-07-12T00:00:00Z");
        assert_eq!(read.log.runs[1].until.to_string(), "2026-07-14T00:10:00Z");
        assert!((read.log.readings[0].reading.available_share.percent() - 55.0).abs() < 1e-9);
        assert!((read.log.meter[0].counted.l() - 1200.5).abs() < 1e-9);
        assert!(read.versions.is_empty() && read.bypasses.is_empty());
    }

    #[test]
    fn what_is_wrong_is_told_at_its_place() {
        let text = log(r#","runs":[{"station":99,"start":"yesterday","seconds":0}],
            "readings":[{"station":1,"at":"2026-07-13T12:00:00Z","available_pct":101}],
            "meter":[{"at":"2026-07-01","litres":-1}],
            "bypasses":[{"sensor":"nobody","from":"2026-07-01T08:00:00Z","until":"2026-07-01T08:00:00Z"}]"#);
        let problems = read(text.as_bytes(), &site()).expect_err("refused");
        let places: Vec<&str> = problems.iter().map(|p| p.path.as_str()).collect();
        assert_eq!(
            places,
            [
                "runs[0]",
                "runs[0].seconds",
                "runs[0].start",
                "readings[0].available_pct",
                "meter[0].litres",
                "meter[0].at",
                "bypasses[0].sensor"
            ]
        );
        // A run that ends after the last instant there is; found by breaking a good file a million times.
        let text = log(r#","runs":[{"station":1,"start":"9999-12-30T21:24:00Z","seconds":7155}]"#);
        let problems = read(text.as_bytes(), &site()).expect_err("refused");
        assert_eq!(problems.len(), 1);
        assert!(problems[0].message.contains("1800 to 2200"), "{problems:?}");
    }
}
