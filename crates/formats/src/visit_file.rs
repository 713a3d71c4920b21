//! A visit as JSON: what was seen at zones, controllers, sensors and the meter. Its JSON Schema is published as
//! `docs/visit-v1.schema.json`. Everything but the instant may be left out.

use crate::json::{Checker, Code, PathProblem, clock_time, hhmm, parse, pretty, schema_of};
use jiff::civil::Date;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use upland_core::account::site_account::AccountInputs;
use upland_core::controller::schedule::Settings;
use upland_core::ground::soil::Texture;
use upland_core::quantity::bounds;
use upland_core::quantity::ratio::{Percentage, Share};
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::{Litres, LitresPerMinute};
use upland_core::site::StationId;
use upland_core::tuning::{
    Battery, ControllerSeen, Looks, Plants, ProgramSeen, SensorSeen, Sign, Visit, ZoneSeen,
};

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-visit";
/// The version this module reads and writes.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes.
pub const MAX_BYTES: usize = 1024 * 1024;
/// Longest accepted note, characters.
pub const MAX_NOTE: usize = 4000;

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(
    title = "Upland Almanac visit",
    description = "What was seen at a site on a visit, version 1. Everything but the instant may be left out.",
    transform = crate::names::controllers
)]
struct VisitDto {
    #[schemars(schema_with = "format_schema")]
    format: String,
    #[schemars(schema_with = "version_schema")]
    version: u32,
    /// RFC 3339, with its offset.
    at: String,
    #[serde(default)]
    zones: Vec<ZoneDto>,
    /// Also read as "boxes", as it was called before.
    #[serde(default, alias = "boxes")]
    controllers: Vec<ControllerDto>,
    #[serde(default)]
    sensors: Vec<SensorDto>,
    /// What the main meter had counted, litres.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    meter_litres: Option<f64>,
    /// Whether the ground is wet where nothing waters.
    #[serde(default, skip_serializing_if = "core::ops::Not::not")]
    wet_elsewhere: bool,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    note: String,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Zone")]
struct ZoneDto {
    /// Number of the controller; 1 when left out.
    #[serde(default = "first_controller")]
    controller: u8,
    station: u16,
    /// How wet the ground is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    looks: Option<Code<Looks>>,
    /// What was seen.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    signs: Vec<Code<Sign>>,
    /// How the plants look.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    plants: Option<Code<Plants>>,
    /// What probe or spade says is left of the available water, percent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    available_pct: Option<f64>,
    /// The soil that a spade turned up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    soil: Option<Code<Texture>>,
    /// What the meter read while the zone ran, L/min.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    flow_l_per_min: Option<f64>,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    note: String,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Controller")]
struct ControllerDto {
    #[serde(default = "first_controller")]
    controller: u8,
    /// How far its clock is ahead, seconds; negative when it is behind.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    clock_ahead_s: Option<i64>,
    /// Whether it is on automatic.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    on: Option<bool>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    bypassed: Option<bool>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    battery: Option<Code<Battery>>,
    /// Programs that were read.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    programs: Vec<ProgramDto>,
    /// Percentages that it says it used.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    nights: Vec<NightDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Program")]
struct ProgramDto {
    /// Its name on the controller, such as "A".
    name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    on: Option<bool>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    percentage: Option<u16>,
    /// HH:MM.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    starts: Option<Vec<String>>,
    /// Run times that were read.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    run_times: Vec<RunTimeDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "RunTime")]
struct RunTimeDto {
    station: u16,
    seconds: u32,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Night")]
struct NightDto {
    /// Its evening, YYYY-MM-DD.
    evening: String,
    percentage: f64,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Sensor")]
struct SensorDto {
    name: String,
    /// Whether it holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    holds: Option<bool>,
    /// Whether something keeps rain from it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    covered: Option<bool>,
    /// Whether heads spray it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    sprayed: Option<bool>,
}

crate::json::head_schemas!();

fn first_controller() -> u8 {
    1
}

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    schema_of::<VisitDto>()
}

/// Names of the programs of a controller, in their order.
#[must_use]
pub fn program_names(facts: &AccountInputs, number: u8) -> Vec<String> {
    let Some(own) = facts.of_controller(number) else { return Vec::new() };
    let settings = own.versions.last().map_or_else(|| Settings::clean(&own.card), |(_, s)| s.clone());
    settings.programs.iter().map(|p| p.name.clone()).collect()
}

/// The day of a visit on the clock of its site.
///
/// # Errors
/// As [`read`], of its first lines.
pub fn day(bytes: &[u8], tz: &jiff::tz::TimeZone) -> Result<Date, Vec<PathProblem>> {
    let dto: VisitDto = parse(bytes, MAX_BYTES)?;
    let mut take = Checker::default();
    let at = take.instant("at", &dto.at);
    take.finish(at.to_zoned(tz.clone()).date())
}

/// Reads a visit to a site, whose zones, controllers and sensors it may name.
///
/// # Errors
/// Every problem that was found, by path; on malformed JSON the first one.
pub fn read(bytes: &[u8], facts: &AccountInputs) -> Result<Visit, Vec<PathProblem>> {
    let dto: VisitDto = parse(bytes, MAX_BYTES)?;
    let mut take = Checker::default();
    take.header((&dto.format, FORMAT), (dto.version, VERSION));
    let at = take.instant("at", &dto.at);
    let mut visit = Visit {
        at,
        wet_elsewhere: dto.wet_elsewhere,
        note: note(&mut take, "note", &dto.note),
        ..Visit::default()
    };
    for (i, zone) in dto.zones.iter().enumerate() {
        let path = format!("zones[{i}]");
        let zone = take_zone(&mut take, &path, zone, facts);
        if visit.zone(StationId::new(zone.controller_number, zone.station)).is_some() {
            take.say(&path, "is there already; a visit says one thing of a zone");
        }
        visit.zones.push(zone);
    }
    for (i, own) in dto.controllers.iter().enumerate() {
        let path = format!("controllers[{i}]");
        let own = take_controller(&mut take, &path, own, facts);
        if visit.of_controller(own.controller_number).is_some() {
            take.say(&path, "is there already; a visit says one thing of a controller");
        }
        visit.controllers.push(own);
    }
    for (i, sensor) in dto.sensors.iter().enumerate() {
        let path = format!("sensors[{i}]");
        visit.sensors.push(take_sensor(&mut take, &path, sensor, facts));
    }
    visit.meter = dto
        .meter_litres
        .map(|litres| Litres::from_l(take.bounded("meter_litres", &bounds::METER_COUNT, litres)));
    take.finish(visit)
}

fn note(take: &mut Checker, path: &str, text: &str) -> String {
    if text.chars().count() > MAX_NOTE {
        take.say(path, format!("is longer than {MAX_NOTE} characters"));
    } else if text.chars().any(|c| c.is_control() && !matches!(c, '\n' | '\t' | '\r')) {
        take.say(path, "has control characters");
    }
    text.trim().to_owned()
}

fn take_zone(take: &mut Checker, path: &str, dto: &ZoneDto, facts: &AccountInputs) -> ZoneSeen {
    if facts.zone(StationId::new(dto.controller, dto.station)).is_none() {
        take.say(path, format!("controller {} has no zone on station {}", dto.controller, dto.station));
    }
    let share = dto.available_pct.map(|p| p / 100.0);
    ZoneSeen {
        controller_number: dto.controller,
        station: dto.station,
        looks: dto.looks.map(|c| c.0),
        signs: dto.signs.iter().map(|c| c.0).collect::<BTreeSet<_>>(),
        plants: dto.plants.map(|c| c.0),
        available: take
            .optional(&format!("{path}.available_pct"), &bounds::AVAILABLE_SHARE, share)
            .map(Share::from_fraction),
        soil: dto.soil.map(|c| c.0),
        flow: take
            .optional(&format!("{path}.flow_l_per_min"), &bounds::READ_FLOW, dto.flow_l_per_min)
            .map(LitresPerMinute::from_l_per_min),
        note: note(take, &format!("{path}.note"), &dto.note),
    }
}

fn take_program(take: &mut Checker, path: &str, dto: &ProgramDto) -> ProgramSeen {
    let mut starts = Vec::new();
    for (k, start) in dto.starts.iter().flatten().enumerate() {
        let refused = || format!("\"{start}\" is not a time written HH:MM");
        clock_time(start)
            .map_or_else(|| take.say(&format!("{path}.starts[{k}]"), refused()), |t| starts.push(t));
    }
    if dto.percentage.is_some_and(|p| p > 400) {
        take.say(&format!("{path}.percentage"), "no controller has more than 400 %");
    }
    ProgramSeen {
        on: dto.on,
        percentage: dto.percentage.map(Percentage::from_percent),
        starts: dto.starts.as_ref().map(|_| starts),
        minutes: dto.run_times.iter().map(|r| (r.station, Seconds::from_s(r.seconds.into()))).collect(),
    }
}

fn take_controller(
    take: &mut Checker,
    path: &str,
    dto: &ControllerDto,
    facts: &AccountInputs,
) -> ControllerSeen {
    if facts.of_controller(dto.controller).is_none() {
        take.say(path, format!("the site has no controller {}", dto.controller));
    }
    let names = program_names(facts, dto.controller);
    let mut programs: BTreeMap<usize, ProgramSeen> = BTreeMap::new();
    for (i, program) in dto.programs.iter().enumerate() {
        let path = format!("{path}.programs[{i}]");
        let Some(at) = names.iter().position(|n| *n == program.name) else {
            take.say(
                &path,
                format!("the controller has no program \"{}\"; it has {}", program.name, names.join(", ")),
            );
            continue;
        };
        programs.insert(at, take_program(take, &path, program));
    }
    let mut nights: BTreeMap<Date, f64> = BTreeMap::new();
    for (i, night) in dto.nights.iter().enumerate() {
        let evening = take.date(&format!("{path}.nights[{i}].evening"), &night.evening);
        if !(0.0..=400.0).contains(&night.percentage) {
            take.say(
                &format!("{path}.nights[{i}].percentage"),
                format!("{} is outside 0 to 400", night.percentage),
            );
        }
        nights.insert(evening, night.percentage);
    }
    if dto.clock_ahead_s.is_some_and(|s| s.abs() > 86_400) {
        take.say(&format!("{path}.clock_ahead_s"), "a clock is off by a day at most");
    }
    ControllerSeen {
        controller_number: dto.controller,
        clock_ahead: dto.clock_ahead_s.map(Seconds::from_s),
        on: dto.on,
        bypassed: dto.bypassed,
        battery: dto.battery.map(|c| c.0),
        programs,
        nights,
    }
}

fn take_sensor(take: &mut Checker, path: &str, dto: &SensorDto, facts: &AccountInputs) -> SensorSeen {
    if !facts.controllers.iter().any(|b| b.sensor_names().contains(&dto.name)) {
        take.say(path, format!("the site has no sensor \"{}\"", dto.name));
    }
    SensorSeen { name: dto.name.clone(), holds: dto.holds, covered: dto.covered, sprayed: dto.sprayed }
}

impl From<&ZoneSeen> for ZoneDto {
    fn from(seen: &ZoneSeen) -> Self {
        Self {
            controller: seen.controller_number,
            station: seen.station,
            looks: seen.looks.map(Code),
            signs: seen.signs.iter().copied().map(Code).collect(),
            plants: seen.plants.map(Code),
            available_pct: seen.available.map(Share::percent),
            soil: seen.soil.map(Code),
            flow_l_per_min: seen.flow.map(LitresPerMinute::l_per_min),
            note: seen.note.clone(),
        }
    }
}

impl From<&SensorSeen> for SensorDto {
    fn from(seen: &SensorSeen) -> Self {
        Self { name: seen.name.clone(), holds: seen.holds, covered: seen.covered, sprayed: seen.sprayed }
    }
}

fn controller_dto(seen: &ControllerSeen, names: &[String]) -> ControllerDto {
    let program = |(at, seen): (&usize, &ProgramSeen)| ProgramDto {
        name: names.get(*at).cloned().unwrap_or_else(|| (at + 1).to_string()),
        on: seen.on,
        percentage: seen.percentage.map(Percentage::percent),
        starts: seen.starts.as_ref().map(|all| all.iter().map(|t| hhmm(*t)).collect()),
        run_times: seen
            .minutes
            .iter()
            .map(|(n, t)| RunTimeDto { station: *n, seconds: t.length_s() })
            .collect(),
    };
    ControllerDto {
        controller: seen.controller_number,
        clock_ahead_s: seen.clock_ahead.map(Seconds::s),
        on: seen.on,
        bypassed: seen.bypassed,
        battery: seen.battery.map(Code),
        programs: seen.programs.iter().map(program).collect(),
        nights: seen
            .nights
            .iter()
            .map(|(d, p)| NightDto { evening: d.to_string(), percentage: *p })
            .collect(),
    }
}

/// Writes a visit.
#[must_use]
pub fn write(visit: &Visit, facts: &AccountInputs) -> String {
    let at = visit.at.to_zoned(facts.tz.clone());
    pretty(&VisitDto {
        format: FORMAT.into(),
        version: VERSION,
        at: at.strftime("%Y-%m-%dT%H:%M:%S%:z").to_string(),
        zones: visit.zones.iter().map(ZoneDto::from).collect(),
        controllers: visit
            .controllers
            .iter()
            .map(|b| controller_dto(b, &program_names(facts, b.controller_number)))
            .collect(),
        sensors: visit.sensors.iter().map(SensorDto::from).collect(),
        meter_litres: visit.meter.map(Litres::l),
        wet_elsewhere: visit.wet_elsewhere,
        note: visit.note.clone(),
    })
}

/// One thing that was entered at a visit.
#[derive(Debug, Clone, PartialEq)]
pub enum Entry {
    /// A zone.
    Zone(ZoneSeen),
    /// A controller.
    Controller(ControllerSeen),
    /// A sensor.
    Sensor(SensorSeen),
    /// The site: meter, wet ground elsewhere, a note.
    Site {
        /// What the main meter had counted.
        meter: Option<Litres>,
        /// Whether the ground is wet where nothing waters.
        wet_elsewhere: bool,
        /// Anything else.
        note: String,
    },
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SiteDto {
    #[serde(default)]
    meter_litres: Option<f64>,
    #[serde(default)]
    wet_elsewhere: bool,
    #[serde(default)]
    note: String,
}

impl Entry {
    /// Short name of what it is about.
    #[must_use]
    pub const fn kind(&self) -> &'static str {
        match self {
            Self::Zone(_) => "zone",
            Self::Controller(_) => "box",
            Self::Sensor(_) => "sensor",
            Self::Site { .. } => "site",
        }
    }

    /// As it is kept: its kind stands beside it.
    #[must_use]
    pub fn to_json(&self, facts: &AccountInputs) -> Value {
        let value = match self {
            Self::Zone(seen) => serde_json::to_value(ZoneDto::from(seen)),
            Self::Controller(seen) => {
                serde_json::to_value(controller_dto(seen, &program_names(facts, seen.controller_number)))
            }
            Self::Sensor(seen) => serde_json::to_value(SensorDto::from(seen)),
            Self::Site { meter, wet_elsewhere, note } => serde_json::to_value(SiteDto {
                meter_litres: meter.map(Litres::l),
                wet_elsewhere: *wet_elsewhere,
                note: note.clone(),
            }),
        };
        value.unwrap_or_default()
    }

    /// Reads what is kept.
    ///
    /// # Errors
    /// What is wrong with it, such as a zone that the site no longer has.
    pub fn from_json(kind: &str, body: Value, facts: &AccountInputs) -> Result<Self, Vec<PathProblem>> {
        let mut take = Checker::default();
        let wrong =
            |error: serde_json::Error| vec![PathProblem { path: String::new(), message: error.to_string() }];
        let entry = match kind {
            "zone" => {
                Self::Zone(take_zone(&mut take, "", &serde_json::from_value(body).map_err(wrong)?, facts))
            }
            "box" => Self::Controller(take_controller(
                &mut take,
                "",
                &serde_json::from_value(body).map_err(wrong)?,
                facts,
            )),
            "sensor" => {
                Self::Sensor(take_sensor(&mut take, "", &serde_json::from_value(body).map_err(wrong)?, facts))
            }
            "site" => {
                let dto: SiteDto = serde_json::from_value(body).map_err(wrong)?;
                Self::Site {
                    meter: take
                        .optional("meter_litres", &bounds::METER_COUNT, dto.meter_litres)
                        .map(Litres::from_l),
                    wet_elsewhere: dto.wet_elsewhere,
                    note: note(&mut take, "note", &dto.note),
                }
            }
            other => {
                take.say("kind", format!("\"{other}\" is not one of zone, controller, sensor, site"));
                Self::Site { meter: None, wet_elsewhere: false, note: String::new() }
            }
        };
        take.finish(entry)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::tz::TimeZone;
    use std::sync::Arc;
    use upland_core::weather::climate::Climate;

    fn facts() -> AccountInputs {
        let text = include_str!("../../app/src/demo/sites/botanic-slope.json");
        let file = crate::site_file::read(text.as_bytes()).expect("the demo's site");
        let climate = Climate::from_record(&[], file.site.station());
        let last = jiff::civil::date(2026, 7, 14);
        file.facts(TimeZone::UTC, Arc::new(climate), crate::log_file::LogFile::default(), last)
    }

    const FULL: &str = r#"{"format":"upland-almanac-visit","version":1,"at":"2026-07-14T09:00:00+00:00",
        "zones":[{"station":1,"looks":"dry","signs":["broken","dry_patches"],"plants":"wilting","available_pct":40,
            "soil":"loam","flow_l_per_min":22.5,"note":"by the steps"}],
        "boxes":[{"clock_ahead_s":-300,"on":true,"bypassed":false,"battery":"low",
            "programs":[{"name":"A","on":true,"percentage":80,"starts":["02:00"],"run_times":[{"station":1,"seconds":720}]}],
            "nights":[{"evening":"2026-07-13","percentage":84}]}],
        "sensors":[{"name":"Rain and freeze switch","holds":false,"covered":true}],
        "meter_litres":120500.5,"wet_elsewhere":true,"note":"windy"}"#;

    #[test]
    fn a_visit_comes_back_as_it_was_written() {
        let facts = facts();
        let name = facts.controllers[0].sensors.first().map(|s| s.sensor.name.clone());
        let text = FULL.replace("Rain and freeze switch", &name.unwrap_or_else(|| "x".into()));
        let visit = read(text.as_bytes(), &facts).expect("it is right");
        assert_eq!(visit.zones[0].signs.len(), 2);
        assert_eq!(visit.controllers[0].programs[&0].percentage, Some(Percentage::from_percent(80)));
        let again = read(write(&visit, &facts).as_bytes(), &facts).expect("what is written is right");
        assert_eq!(again, visit);
        // And each entry by itself.
        for entry in [
            Entry::Zone(visit.zones[0].clone()),
            Entry::Controller(visit.controllers[0].clone()),
            Entry::Sensor(visit.sensors[0].clone()),
            Entry::Site { meter: visit.meter, wet_elsewhere: true, note: "windy".into() },
        ] {
            assert_eq!(Entry::from_json(entry.kind(), entry.to_json(&facts), &facts), Ok(entry));
        }
        assert!(Entry::from_json("pond", Value::Null, &facts).is_err());
    }

    #[test]
    fn every_problem_is_told_at_its_path_and_a_visit_that_says_nothing_is_one() {
        let facts = facts();
        let empty = r#"{"format":"upland-almanac-visit","version":1,"at":"2026-07-14T09:00:00Z"}"#;
        let visit = read(empty.as_bytes(), &facts).expect("it is right");
        assert!(visit.zones.is_empty() && visit.meter.is_none());
        let wrong = FULL
            .replace("\"station\":1,\"looks\"", "\"station\":77,\"looks\"")
            .replace("\"available_pct\":40", "\"available_pct\":140")
            .replace("\"name\":\"A\"", "\"name\":\"Q\"")
            .replace("\"percentage\":84", "\"percentage\":-1")
            .replace("120500.5", "-1")
            .replace("-300", "400000");
        let problems = read(wrong.as_bytes(), &facts).expect_err("it is wrong");
        let paths: Vec<&str> = problems.iter().map(|p| p.path.as_str()).collect();
        for path in [
            "zones[0]",
            "zones[0].available_pct",
            "controllers[0].programs[0]",
            "controllers[0].nights[0].percentage",
            "controllers[0].clock_ahead_s",
            "meter_litres",
        ] {
            assert!(paths.contains(&path), "{path} in {paths:?}");
        }
        let long = FULL.replace("windy", &"x".repeat(MAX_NOTE + 1));
        assert!(read(long.as_bytes(), &facts).is_err());
    }

    #[test]
    fn the_schema_admits_what_is_written() {
        let schema: Value = serde_json::from_str(&schema()).expect("JSON");
        let validator = jsonschema::validator_for(&schema).expect("a schema");
        let full: Value = serde_json::from_str(FULL).expect("JSON");
        assert!(validator.is_valid(&full), "as it was called before");
        let now = serde_json::from_str(&FULL.replace("\"boxes\"", "\"controllers\"")).expect("JSON");
        assert!(validator.is_valid(&now));
        let mut spoilt = full;
        spoilt["zones"][0]["looks"] = Value::from("damp");
        assert!(!validator.is_valid(&spoilt));
    }
}
