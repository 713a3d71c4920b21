//! A whole site as one JSON file: place, controller, settings and zones. Versioned; its JSON
//! Schema is published as `docs/site-v1.schema.json`.

use jiff::civil::Time;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use upland_core::bounds::{self, Bound};
use upland_core::codes::Coded;
use upland_core::site::{Controller, Site, WaterWindow, Zone};
use upland_core::units::{LitresPerMinute, Metres, MillimetresPerHour, SquareMetres};
use upland_core::{application::HeadType, plant, site::UnitSystem, soil::Texture};

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-site";
/// The version this module writes and reads.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes.
pub const MAX_BYTES: usize = 1024 * 1024;
/// Longest accepted name, characters.
pub const MAX_NAME: usize = 120;
/// Most zones of a site.
pub const MAX_ZONES: usize = 250;

/// A problem of a site file, at its path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PathProblem {
    /// Where, such as `zones[2].soil`; empty for the whole file.
    pub path: String,
    /// What is wrong and what to do.
    pub message: String,
}

impl core::fmt::Display for PathProblem {
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        if self.path.is_empty() {
            f.write_str(&self.message)
        } else {
            write!(f, "{}: {}", self.path, self.message)
        }
    }
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "Upland Almanac site", description = "A site with its controller, settings and zones, version 1. Units are part of each name.")]
struct SiteDto {
    /// Always "upland-almanac-site".
    #[schemars(schema_with = "format_schema")]
    format: String,
    /// Always 1.
    #[schemars(schema_with = "version_schema")]
    version: u32,
    place: PlaceDto,
    controller: ControllerDto,
    settings: SettingsDto,
    zones: Vec<ZoneDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Place")]
struct PlaceDto {
    name: String,
    /// North positive.
    latitude_deg: f64,
    /// East positive.
    longitude_deg: f64,
    elevation_m: f64,
    /// Height of the wind sensor above ground; 2 when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    wind_height_m: Option<f64>,
    /// IANA name, such as "Etc/GMT-1".
    time_zone: String,
    /// Units shown; every number in this file is metric.
    #[schemars(schema_with = "code_schema::<UnitSystem>")]
    units: String,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Controller")]
struct ControllerDto {
    name: String,
    stations: u16,
    programs: u8,
    starts_per_program: u8,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Settings")]
struct SettingsDto {
    water_window: WindowDto,
    /// Flow the supply can give; leave out when unknown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    supply_l_per_min: Option<f64>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Window")]
struct WindowDto {
    /// HH:MM by the wall clock; may be later than `until` when the window crosses midnight.
    from: String,
    /// HH:MM, exclusive.
    until: String,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Zone")]
struct ZoneDto {
    /// Station number on the box.
    number: u16,
    name: String,
    #[schemars(schema_with = "code_schema::<plant::PlantKind>")]
    plant: String,
    /// Own plant coefficient instead of the kind's; leave out for the default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    plant_coefficient: Option<f64>,
    #[schemars(schema_with = "code_schema::<Texture>")]
    soil: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    slope_pct: Option<f64>,
    #[schemars(schema_with = "code_schema::<plant::Sun>")]
    sun: String,
    #[schemars(schema_with = "code_schema::<plant::Sky>")]
    sky: String,
    #[schemars(schema_with = "code_schema::<HeadType>")]
    head: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    precipitation_rate_mm_per_h: Option<f64>,
    /// Distribution uniformity of the low quarter, a fraction.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    uniformity: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    root_depth_m: Option<f64>,
    /// Fraction of the available water.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    allowable_depletion: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    area_m2: Option<f64>,
}

fn format_schema(_: &mut SchemaGenerator) -> Schema {
    json_schema!({ "const": FORMAT })
}

fn version_schema(_: &mut SchemaGenerator) -> Schema {
    json_schema!({ "const": VERSION })
}

fn code_schema<T: Coded>(_: &mut SchemaGenerator) -> Schema {
    let codes: Vec<&str> = T::TABLE.iter().map(|(_, code)| *code).collect();
    json_schema!({ "type": "string", "enum": codes })
}

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    let schema = schemars::schema_for!(SiteDto);
    serde_json::to_string_pretty(&schema).unwrap_or_default() + "\n"
}

/// Writes a site and its zones.
#[must_use]
pub fn write(site: &Site, zones: &[Zone]) -> String {
    let dto = SiteDto {
        format: FORMAT.into(),
        version: VERSION,
        place: PlaceDto {
            name: site.name.clone(),
            latitude_deg: site.latitude_deg,
            longitude_deg: site.longitude_deg,
            elevation_m: site.elevation.m(),
            wind_height_m: Some(site.wind_height.m()),
            time_zone: site.time_zone.clone(),
            units: site.units.code().into(),
        },
        controller: ControllerDto {
            name: site.controller.name.clone(),
            stations: site.controller.stations,
            programs: site.controller.programs,
            starts_per_program: site.controller.starts_per_program,
        },
        settings: SettingsDto {
            water_window: WindowDto {
                from: site.window.from.strftime("%H:%M").to_string(),
                until: site.window.until.strftime("%H:%M").to_string(),
            },
            supply_l_per_min: site.supply.map(LitresPerMinute::l_per_min),
        },
        zones: zones
            .iter()
            .map(|zone| ZoneDto {
                number: zone.number,
                name: zone.name.clone(),
                plant: zone.plant.code().into(),
                plant_coefficient: zone.own_coefficient,
                soil: zone.soil.code().into(),
                slope_pct: zone.slope_pct,
                sun: zone.sun.code().into(),
                sky: zone.sky.code().into(),
                head: zone.head.code().into(),
                precipitation_rate_mm_per_h: zone.precipitation_rate.map(MillimetresPerHour::mm_per_hour),
                uniformity: zone.uniformity,
                root_depth_m: zone.root_depth.map(Metres::m),
                allowable_depletion: zone.allowable_depletion,
                area_m2: zone.area.map(SquareMetres::m2),
            })
            .collect(),
    };
    serde_json::to_string_pretty(&dto).unwrap_or_default() + "\n"
}

/// Collects problems while values are taken over.
#[derive(Default)]
struct Taker {
    problems: Vec<PathProblem>,
}

impl Taker {
    fn say(&mut self, path: &str, message: impl Into<String>) {
        self.problems.push(PathProblem { path: path.to_owned(), message: message.into() });
    }

    fn bounded(&mut self, path: &str, bound: &Bound, value: f64) -> f64 {
        if let Err(error) = bound.check(value) {
            self.say(path, format!("{value} is refused. {error}"));
        }
        value
    }

    fn optional(&mut self, path: &str, bound: &Bound, value: Option<f64>) -> Option<f64> {
        value.map(|value| self.bounded(path, bound, value))
    }

    fn name(&mut self, path: &str, name: &str) -> String {
        let name = name.trim();
        if name.is_empty() {
            self.say(path, "is empty; give it a name");
        } else if name.chars().count() > MAX_NAME {
            self.say(path, format!("is longer than {MAX_NAME} characters"));
        } else if name.chars().any(char::is_control) {
            self.say(path, "has control characters");
        }
        name.to_owned()
    }

    fn code<T: Coded>(&mut self, path: &str, code: &str) -> Option<T> {
        let found = T::from_code(code);
        if found.is_none() {
            let known: Vec<&str> = T::TABLE.iter().map(|(_, code)| *code).collect();
            self.say(path, format!("\"{code}\" is not one of {}", known.join(", ")));
        }
        found
    }

    fn time(&mut self, path: &str, text: &str) -> Option<Time> {
        let found = clock_time(text);
        if found.is_none() {
            self.say(path, format!("\"{text}\" is not a time of day written HH:MM"));
        }
        found
    }

    fn count(&mut self, path: &str, value: u32, max: u32) {
        if value == 0 || value > max {
            self.say(path, format!("{value} is outside 1 to {max}"));
        }
    }
}

/// A wall-clock time written HH:MM.
#[must_use]
pub fn clock_time(text: &str) -> Option<Time> {
    (text.len() == 5).then(|| Time::strptime("%H:%M", text).ok()).flatten()
}

/// Parses a JSON file of a limited size, with the path of the first problem.
pub(crate) fn parse<T: serde::de::DeserializeOwned>(bytes: &[u8], most: usize) -> Result<T, Vec<PathProblem>> {
    let whole = |message: String| vec![PathProblem { path: String::new(), message }];
    if bytes.len() > most {
        return Err(whole(format!("the file is larger than {} kB; such a file has a few kB", most / 1024)));
    }
    let mut deserializer = serde_json::Deserializer::from_slice(bytes);
    let dto = serde_path_to_error::deserialize(&mut deserializer).map_err(|error| {
        let path = error.path().to_string();
        let path = if path == "." { String::new() } else { path };
        vec![PathProblem { path, message: error.inner().to_string() }]
    })?;
    deserializer.end().map_err(|error| whole(format!("there is text behind the end: {error}")))?;
    Ok(dto)
}

/// Reads a site file.
///
/// # Errors
/// Every problem that was found, by path; on malformed JSON the first one. Nothing is returned of
/// a file with a problem.
pub fn read(bytes: &[u8]) -> Result<(Site, Vec<Zone>), Vec<PathProblem>> {
    let dto: SiteDto = parse(bytes, MAX_BYTES)?;
    let mut take = Taker::default();
    if dto.format != FORMAT {
        take.say("format", format!("\"{}\" is not \"{FORMAT}\"", dto.format));
    }
    if dto.version != VERSION {
        take.say("version", format!("{} is not supported; this program reads version {VERSION}", dto.version));
    }
    let place = &dto.place;
    if jiff::tz::TimeZone::get(&place.time_zone).is_err() {
        take.say("place.time_zone", format!("\"{}\" is not a time zone of the IANA list", place.time_zone));
    }
    let from = take.time("settings.water_window.from", &dto.settings.water_window.from);
    let until = take.time("settings.water_window.until", &dto.settings.water_window.until);
    if from.is_some() && from == until {
        take.say("settings.water_window", "begins and ends at the same minute; it needs a length");
    }
    take.count("controller.stations", u32::from(dto.controller.stations), 250);
    take.count("controller.programs", u32::from(dto.controller.programs), 26);
    take.count("controller.starts_per_program", u32::from(dto.controller.starts_per_program), 24);
    let units = take.code::<UnitSystem>("place.units", &place.units);
    let site = Site {
        name: take.name("place.name", &place.name),
        latitude_deg: take.bounded("place.latitude_deg", &bounds::LATITUDE, place.latitude_deg),
        longitude_deg: take.bounded("place.longitude_deg", &bounds::LONGITUDE, place.longitude_deg),
        elevation: Metres::from_m(take.bounded("place.elevation_m", &bounds::ELEVATION, place.elevation_m)),
        wind_height: Metres::from_m(
            take.optional("place.wind_height_m", &bounds::WIND_HEIGHT, place.wind_height_m).unwrap_or(2.0),
        ),
        time_zone: place.time_zone.clone(),
        units: units.unwrap_or(UnitSystem::Metric),
        controller: Controller {
            name: take.name("controller.name", &dto.controller.name),
            stations: dto.controller.stations,
            programs: dto.controller.programs,
            starts_per_program: dto.controller.starts_per_program,
        },
        window: WaterWindow { from: from.unwrap_or_default(), until: until.unwrap_or_default() },
        supply: take
            .optional("settings.supply_l_per_min", &bounds::SUPPLY, dto.settings.supply_l_per_min)
            .map(LitresPerMinute::from_l_per_min),
    };
    if dto.zones.len() > MAX_ZONES {
        take.say("zones", format!("has {} entries; a site has at most {MAX_ZONES}", dto.zones.len()));
    }
    let mut zones: Vec<Zone> = Vec::with_capacity(dto.zones.len().min(MAX_ZONES));
    for (i, zone) in dto.zones.iter().enumerate() {
        if dto.zones.iter().take(i).any(|other| other.number == zone.number) {
            take.say(&format!("zones[{i}].number"), format!("{} is used twice", zone.number));
        }
        zones.extend(read_zone(&mut take, &format!("zones[{i}]"), zone));
    }
    if take.problems.is_empty() { Ok((site, zones)) } else { Err(take.problems) }
}

fn read_zone(take: &mut Taker, at: &str, dto: &ZoneDto) -> Option<Zone> {
    let path = |field: &str| format!("{at}.{field}");
    take.bounded(&path("number"), &bounds::ZONE_NUMBER, f64::from(dto.number));
    let plant = take.code(&path("plant"), &dto.plant);
    let soil = take.code(&path("soil"), &dto.soil);
    let sun = take.code(&path("sun"), &dto.sun);
    let sky = take.code(&path("sky"), &dto.sky);
    let head = take.code(&path("head"), &dto.head);
    let name = take.name(&path("name"), &dto.name);
    let mut optional = |field, bound, value| take.optional(&path(field), bound, value);
    let own_coefficient = optional("plant_coefficient", &bounds::PLANT_COEFFICIENT, dto.plant_coefficient);
    let slope_pct = optional("slope_pct", &bounds::SLOPE, dto.slope_pct);
    let rate =
        optional("precipitation_rate_mm_per_h", &bounds::PRECIPITATION_RATE, dto.precipitation_rate_mm_per_h);
    let uniformity = optional("uniformity", &bounds::UNIFORMITY, dto.uniformity);
    let root_depth = optional("root_depth_m", &bounds::ROOT_DEPTH, dto.root_depth_m);
    let allowable_depletion =
        optional("allowable_depletion", &bounds::ALLOWABLE_DEPLETION, dto.allowable_depletion);
    let area = optional("area_m2", &bounds::AREA, dto.area_m2);
    Some(Zone {
        number: dto.number,
        name,
        plant: plant?,
        own_coefficient,
        soil: soil?,
        slope_pct,
        sun: sun?,
        sky: sky?,
        head: head?,
        precipitation_rate: rate.map(MillimetresPerHour::from_mm_per_hour),
        uniformity,
        root_depth: root_depth.map(Metres::from_m),
        allowable_depletion,
        area: area.map(SquareMetres::from_m2),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> serde_json::Value {
        serde_json::json!({
            "format": FORMAT, "version": 1,
            "place": { "name": "Larkrigg Botanic Slope", "latitude_deg": 46.21, "longitude_deg": 8.1,
                       "elevation_m": 1040.0, "time_zone": "Etc/GMT-2", "units": "metric" },
            "controller": { "name": "Potting shed", "stations": 12, "programs": 3, "starts_per_program": 4 },
            "settings": { "water_window": { "from": "22:00", "until": "06:00" }, "supply_l_per_min": 80.0 },
            "zones": [
                { "number": 1, "name": "Upper lawn", "plant": "cool_season_turf", "soil": "loam",
                  "sun": "full", "sky": "open", "head": "spray", "area_m2": 140.0 },
                { "number": 2, "name": "Fern house", "plant": "high_demand", "soil": "loam", "sun": "shade",
                  "sky": "under_glass", "head": "micro_spray", "uniformity": 0.72 },
            ],
        })
    }

    fn read_value(value: &serde_json::Value) -> Result<(Site, Vec<Zone>), Vec<PathProblem>> {
        read(value.to_string().as_bytes())
    }

    #[test]
    fn written_and_read_again_it_is_the_same_and_fits_its_schema() {
        let (site, zones) = read_value(&sample()).unwrap();
        let text = write(&site, &zones);
        assert_eq!(read(text.as_bytes()).unwrap(), (site, zones));
        let schema: serde_json::Value = serde_json::from_str(&schema()).unwrap();
        let validator = jsonschema::validator_for(&schema).unwrap();
        assert!(validator.is_valid(&serde_json::from_str(&text).unwrap()));
        let mut wrong = sample();
        wrong["zones"][0]["soil"] = "lome".into();
        assert!(!validator.is_valid(&wrong));
    }

    #[test]
    fn the_published_schema_is_the_one_in_force() {
        let published = include_str!("../../../docs/site-v1.schema.json");
        assert_eq!(published, schema(), "write it anew: upland-almanac schema > docs/site-v1.schema.json");
    }

    #[test]
    fn every_problem_is_told_by_path() {
        let mut value = sample();
        value["place"]["latitude_deg"] = 95.0.into();
        value["place"]["time_zone"] = "Larkrigg/Town".into();
        value["settings"]["water_window"]["from"] = "25:00".into();
        value["zones"][1]["number"] = 1.into();
        value["zones"][1]["soil"] = "lome".into();
        value["zones"][0]["uniformity"] = 65.0.into();
        let problems: Vec<_> = read_value(&value).unwrap_err().iter().map(ToString::to_string).collect();
        insta::assert_snapshot!(problems.join("\n"));
    }

    #[test]
    fn hostile_json_is_refused() {
        let deep = "[".repeat(100_000);
        assert!(read(deep.as_bytes()).is_err());
        assert!(read(&vec![b' '; MAX_BYTES + 1]).unwrap_err()[0].message.contains("larger"));
        let mut unknown = sample();
        unknown["place"]["password"] = "x".into();
        assert_eq!(read_value(&unknown).unwrap_err()[0].path, "place.password");
        let mut version = sample();
        version["version"] = 2.into();
        assert!(read_value(&version).unwrap_err()[0].message.contains("version 1"));
    }
}
