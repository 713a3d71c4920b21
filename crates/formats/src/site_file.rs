//! A whole site as one JSON file: place, controller, settings and zones. Versioned; its JSON
//! Schema is published as `docs/site-v1.schema.json`.

use crate::card_file::{self, CardDto};
use crate::json::{Checker, Code, HoursDto, PathProblem, code_schema, parse, pretty, schema_of};
use crate::ordinance_file::{self, AppliedDto};
use crate::plan_json::{PlanDto, take_plan};
use crate::sensor_file::{self, SensorDto};
use crate::settings_file::{self, dto::SettingsDto};
use crate::site_card::{SiteCardDto, take_card};
use crate::zone_dto::{ZoneDto, read_earlier, read_zone};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use upland_core::codes::Coded;
use upland_core::controller::ordinance::Law;
use upland_core::controller::schedule::Settings;
use upland_core::controller::{Card, twelve_stations};
use upland_core::quantity::bounds;
use upland_core::quantity::units::{LitresPerMinute, Metres};
use upland_core::sensors::{Sensor, SensorHistory, site_plan::SitePlan};
use upland_core::site::UnitSystem;
use upland_core::site::card::SiteCard;
use upland_core::site::windows::WaterWindows;
use upland_core::site::{Controller, EarlierZone, Site, Zone};
use upland_core::weather::climate::Drizzle;

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-site";
/// The version this module writes and reads.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes.
pub const MAX_BYTES: usize = 1024 * 1024;
/// Most zones of a site.
pub const MAX_ZONES: usize = 250;

/// Most sensors of a site.
pub const MAX_SENSORS: usize = 100;

/// Most controllers of a site.
pub const MAX_CONTROLLERS: usize = 20;

/// A site with everything that was said of it.
#[derive(Debug, Clone, PartialEq)]
pub struct SiteFile {
    /// The place.
    pub site: Site,
    /// Its controllers, each with its settings when they are known.
    pub controllers: Vec<(Controller, Option<Settings>)>,
    /// What must be kept to.
    pub law: Law,
    /// Its zones.
    pub zones: Vec<Zone>,
    /// How they were before, each until a date; of a zone the oldest first.
    pub earlier_zones: Vec<EarlierZone>,
    /// Its sensors.
    pub sensors: Vec<Sensor>,
    /// When each was installed and how it was set before, in the order of the sensors; one that is not there has none.
    pub histories: Vec<SensorHistory>,
    /// Its plan; empty when none was drawn.
    pub plan: SitePlan,
}

impl SiteFile {
    /// When a sensor was installed and how it was set before, by its place.
    #[must_use]
    pub fn history(&self, place: usize) -> SensorHistory {
        self.histories.get(place).cloned().unwrap_or_default()
    }

    /// A controller by its number.
    #[must_use]
    pub fn controller(&self, number: u8) -> Option<&(Controller, Option<Settings>)> {
        self.controllers.iter().find(|(c, _)| c.number == number)
    }
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(
    title = "Upland Almanac site",
    description = "A site with its controller, settings and zones, version 1. Units are part of each name."
)]
struct SiteDto {
    /// Always "upland-almanac-site".
    #[schemars(schema_with = "format_schema")]
    format: String,
    /// Always 1.
    #[schemars(schema_with = "version_schema")]
    version: u32,
    place: PlaceDto,
    /// One ordinary controller, described shortly; instead of `controllers`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    controller: Option<ShortControllerDto>,
    /// The controllers with their cards.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    controllers: Vec<ControllerDto>,
    settings: SiteSettingsDto,
    /// Customer, contacts, address, access and water supply.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    card: Option<SiteCardDto>,
    /// Watering ordinances that apply.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    ordinances: Vec<AppliedDto>,
    zones: Vec<ZoneDto>,
    /// Its sensors, as they hang.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    sensors: Vec<SensorDto>,
    /// Zones, obstacles and throws on the ground.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    plan: Option<PlanDto>,
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
    /// From 1, its own at the site.
    number: u8,
    /// Where it is installed.
    place: String,
    card: CardDto,
    /// What it is set to; leave out when unknown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    settings: Option<SettingsDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "ShortController")]
struct ShortControllerDto {
    name: String,
    stations: u16,
    programs: u8,
    starts_per_program: u8,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "SiteSettings")]
struct SiteSettingsDto {
    water_window: HoursDto,
    /// Another window in which watering may run as well; leave out when there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    second_water_window: Option<HoursDto>,
    /// The window of zones that grow in, instead of the site's; leave out when there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    grow_in_water_window: Option<HoursDto>,
    /// Flow the supply can give; leave out when unknown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    supply_l_per_min: Option<f64>,
    /// What rain below a fifth of a day's ET0 counts for; where left out, nothing (FAO-56 chapter 8).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    drizzle: Option<Code<Drizzle>>,
}

crate::json::head_schemas!();

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    schema_of::<SiteDto>()
}

/// The same within the description of an interface.
pub(crate) fn schema_in(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
    generator.subschema_for::<SiteDto>()
}

/// Writes a site, its card without access notes: a file goes from hand to hand.
#[must_use]
pub fn write(file: &SiteFile) -> String {
    let card = SiteCard { access: String::new(), ..file.site.card.clone() };
    pretty(&dto(file, &card))
}

/// Writes a site with its access notes, for who asked for them.
#[must_use]
pub fn write_with_access(file: &SiteFile) -> String {
    pretty(&dto(file, &file.site.card))
}

/// The site as a value, for files that are about something else: without its card.
#[must_use]
pub fn to_value(file: &SiteFile) -> serde_json::Value {
    serde_json::to_value(dto(file, &SiteCard::default())).unwrap_or_default()
}

// Long: one field of the file after another.
fn dto(file: &SiteFile, card: &SiteCard) -> SiteDto {
    let (site, zones) = (&file.site, &file.zones);
    SiteDto {
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
        controller: None,
        controllers: file
            .controllers
            .iter()
            .map(|(controller, settings)| ControllerDto {
                number: controller.number,
                place: controller.place.clone(),
                card: (&controller.card).into(),
                settings: settings.as_ref().map(Into::into),
            })
            .collect(),
        settings: SiteSettingsDto {
            water_window: site.windows.main.into(),
            second_water_window: site.windows.second.map(Into::into),
            grow_in_water_window: site.windows.grow_in.map(Into::into),
            supply_l_per_min: site.supply.map(LitresPerMinute::l_per_min),
            drizzle: Some(Code(site.drizzle)).filter(|own| own.0 != Drizzle::default()),
        },
        card: (*card != SiteCard::default()).then(|| card.into()),
        ordinances: file.law.applied.iter().map(Into::into).collect(),
        zones: zones.iter().map(|zone| ZoneDto::of(zone, &file.earlier_zones)).collect(),
        sensors: (0..)
            .zip(&file.sensors)
            .map(|(k, sensor)| SensorDto::from(sensor).with_history(&file.history(k)))
            .collect(),
        plan: (file.plan != SitePlan::default()).then(|| (&file.plan).into()),
    }
}

/// Reads a site file.
///
/// # Errors
/// Every problem that was found, by path; on malformed JSON the first one. Nothing is returned of
/// a file with a problem.
// Long: one field of the file after another.
pub fn read(bytes: &[u8]) -> Result<SiteFile, Vec<PathProblem>> {
    let dto: SiteDto = parse(bytes, MAX_BYTES)?;
    let mut take = Checker::default();
    take.header((&dto.format, FORMAT), (dto.version, VERSION));
    let place = &dto.place;
    if jiff::tz::TimeZone::get(&place.time_zone).is_err() {
        take.say("place.time_zone", format!("\"{}\" is not a time zone of the IANA list", place.time_zone));
    }
    let mut window = |name: &str, hours: &HoursDto| take.window(&format!("settings.{name}"), hours);
    let settings = &dto.settings;
    let windows = WaterWindows {
        main: window("water_window", &settings.water_window),
        second: settings.second_water_window.as_ref().map(|hours| window("second_water_window", hours)),
        grow_in: settings.grow_in_water_window.as_ref().map(|hours| window("grow_in_water_window", hours)),
    };
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
        windows,
        drizzle: dto.settings.drizzle.as_ref().map_or(Drizzle::default(), |own| own.0),
        card: take_card(&mut take, dto.card.clone()),
        supply: take
            .optional("settings.supply_l_per_min", &bounds::SUPPLY, dto.settings.supply_l_per_min)
            .map(LitresPerMinute::from_l_per_min),
    };
    if dto.zones.len() > MAX_ZONES {
        take.say("zones", format!("has {} entries; a site has at most {MAX_ZONES}", dto.zones.len()));
    }
    let mut earlier_zones: Vec<EarlierZone> = Vec::new();
    let mut zones: Vec<Zone> = Vec::with_capacity(dto.zones.len().min(MAX_ZONES));
    for (i, zone) in dto.zones.iter().enumerate() {
        let alike = |other: &ZoneDto| (other.controller, other.number) == (zone.controller, zone.number);
        if dto.zones.iter().take(i).any(alike) {
            take.say(&format!("zones[{i}].number"), format!("{} is used twice", zone.number));
        }
        let at = format!("zones[{i}]");
        zones.extend(read_zone(&mut take, &at, zone));
        earlier_zones.extend(read_earlier(&mut take, &at, zone));
    }
    let controllers = controllers(&mut take, dto.controller, dto.controllers);
    for (i, zone) in zones.iter().enumerate() {
        if !controllers.iter().any(|(c, _)| c.number == zone.controller_number) {
            take.say(
                &format!("zones[{i}].controller"),
                format!("{} is not the number of a controller", zone.controller_number),
            );
        }
    }
    let applied = dto
        .ordinances
        .iter()
        .enumerate()
        .map(|(i, applied)| ordinance_file::take_applied(&mut take, &format!("ordinances[{i}]"), applied))
        .collect();
    let law = Law { applied };
    if take.problems.is_empty() {
        for fault in law.contradictions() {
            take.say("ordinances", fault.message);
        }
    }
    let (taken, plan) = sensors(&mut take, dto.sensors, dto.plan, &controllers);
    let (sensors, histories) = taken.into_iter().map(|t| (t.sensor, t.history)).unzip();
    take.finish(SiteFile { site, controllers, law, zones, earlier_zones, sensors, histories, plan })
}

fn sensors(
    take: &mut Checker,
    sensors: Vec<SensorDto>,
    plan: Option<PlanDto>,
    controllers: &[(Controller, Option<Settings>)],
) -> (Vec<sensor_file::Taken>, SitePlan) {
    if sensors.len() > MAX_SENSORS {
        take.say("sensors", format!("has {} entries; a site has at most {MAX_SENSORS}", sensors.len()));
    }
    let mut out = Vec::new();
    for (i, dto) in sensors.into_iter().take(MAX_SENSORS).enumerate() {
        let at = format!("sensors[{i}]");
        let taken = sensor_file::take(take, &at, dto);
        let number = taken.sensor.controller_number;
        if !controllers.iter().any(|(c, _)| c.number == number) {
            take.say(&format!("{at}.controller"), format!("{number} is not the number of a controller"));
        }
        out.push(taken);
    }
    (out, plan.map(|dto| take_plan(take, "plan", dto)).unwrap_or_default())
}

fn controllers(
    take: &mut Checker,
    short: Option<ShortControllerDto>,
    full: Vec<ControllerDto>,
) -> Vec<(Controller, Option<Settings>)> {
    if short.is_some() != full.is_empty() {
        take.say("controllers", "give either a list of controllers here or one controller as \"controller\"");
    }
    if full.len() > MAX_CONTROLLERS {
        take.say("controllers", format!("has {} entries; a site has at most {MAX_CONTROLLERS}", full.len()));
    }
    if let Some(short) = short {
        take.count("controller.stations", u32::from(short.stations), 250);
        take.count("controller.programs", u32::from(short.programs), 26);
        take.count("controller.starts_per_program", u32::from(short.starts_per_program), 24);
        let place = take.name("controller.name", &short.name);
        let card = Card {
            name: "Ordinary controller".into(),
            stations: short.stations,
            programs: short.programs,
            starts_per_program: short.starts_per_program,
            ..twelve_stations()
        };
        return vec![(Controller { number: 1, place, card }, None)];
    }
    let mut out: Vec<(Controller, Option<Settings>)> = Vec::new();
    for (i, dto) in full.into_iter().take(MAX_CONTROLLERS).enumerate() {
        let at = |field: &str| format!("controllers[{i}].{field}");
        if dto.number == 0 || out.iter().any(|(c, _)| c.number == dto.number) {
            take.say(
                &at("number"),
                format!("{} is 0 or used twice; count the controllers from 1", dto.number),
            );
        }
        let place = take.name(&at("place"), &dto.place);
        let card = card_file::take(take, &at("card"), dto.card);
        let settings = dto.settings.map(|s| settings_file::take_for(take, &at("settings"), &s, &card));
        out.push((Controller { number: dto.number, place, card }, settings));
    }
    out
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
            "settings": {
                "water_window": { "from": "22:00", "until": "06:00" },
                "second_water_window": { "from": "12:00", "until": "14:00" },
                "grow_in_water_window": { "from": "06:00", "until": "16:00" },
                "supply_l_per_min": 80.0
            },
            "zones": [
                { "number": 1, "name": "Upper lawn", "plant": "cool_season_turf", "soil": "loam",
                  "sun": "full", "sky": "open", "head": "spray", "area_m2": 140.0 },
                { "number": 2, "name": "Fern house", "plant": "high_demand", "soil": "loam", "sun": "shade",
                  "sky": "under_glass", "head": "micro_spray", "uniformity": 0.72 },
            ],
        })
    }

    fn read_value(value: &serde_json::Value) -> Result<SiteFile, Vec<PathProblem>> {
        read(value.to_string().as_bytes())
    }

    #[test]
    fn written_and_read_again_it_is_the_same_and_fits_its_schema() {
        let mut file = read_value(&sample()).unwrap();
        assert_eq!(file.controller(1).unwrap().0.card.starts_per_program, 4);
        let mut second = file.controllers[0].clone();
        second.0.number = 2;
        second.1 = Some(Settings::clean(&second.0.card));
        file.controllers.push(second);
        file.zones[1].controller_number = 2;
        file.zones[1].number = 1;
        let card = upland_core::sensors::generic().remove(0).1;
        file.sensors.push(Sensor::of_card(card, 2));
        file.histories.push(SensorHistory::default());
        file.plan.arcs.push(upland_core::sensors::site_plan::Arc {
            x: 0.0,
            y: 1.0,
            throw: 4.0,
            from_deg: 0.0,
            to_deg: 90.0,
        });
        let text = write(&file);
        assert_eq!(read(text.as_bytes()).unwrap(), file);
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
