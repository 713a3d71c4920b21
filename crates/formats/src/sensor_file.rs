//! A sensor and its card as JSON. Versioned; the JSON Schema is published as
//! `docs/sensor-v1.schema.json`.

use crate::json::{Checker, Code, PathProblem, parse, pretty, schema_of};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use upland_core::quantity::bounds::{self, Bound};
use upland_core::quantity::units::{Celsius, Metres, MetresPerSecond, Millimetres};
use upland_core::sensors::mapping::Chosen;
use upland_core::sensors::placement::Placement;
use upland_core::sensors::{
    EarlierSensor, Link, PowerSupply, Release, Sense, Sensor, SensorCard, SensorHistory, Setting, Signal,
    Task,
};

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-sensor";
/// The version this module reads and writes.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes.
pub const MAX_BYTES: usize = 64 * 1024;
/// Most earlier settings of a sensor.
const MOST_EARLIER: usize = 200;

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(
    title = "Upland Almanac sensor",
    description = "A sensor as installed, with its type, version 1. Units are part of each name."
)]
struct FileDto {
    #[schemars(schema_with = "format_schema")]
    format: String,
    #[schemars(schema_with = "version_schema")]
    version: u32,
    sensor: SensorDto,
}

crate::json::head_schemas!();

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Sensor", transform = crate::names::controller)]
pub(crate) struct SensorDto {
    name: String,
    /// Number of the controller it is for.
    #[serde(default = "first", rename = "controller", alias = "box")]
    controller_number: u8,
    card: SensorCardDto,
    setting: SettingDto,
    #[serde(default)]
    placement: PlacementDto,
    /// Zones by station that were chosen to be held, or not, against the proposal.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    chosen: Vec<ChosenDto>,
    /// Programs that ignore it, counted from 1.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    programs_ignoring: Vec<u8>,
    /// When it was installed, YYYY-MM-DD; always there when left out. Of a site file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    installed_on: Option<String>,
    /// How it was set before, the oldest first. Of a site file.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    earlier: Vec<EarlierDto>,
}

/// How a sensor was set until a date.
#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "EarlierSensorSetting")]
struct EarlierDto {
    /// The first date on which it was set otherwise, YYYY-MM-DD.
    until: String,
    setting: SettingDto,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    chosen: Vec<ChosenDto>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    programs_ignoring: Vec<u8>,
}

impl SensorDto {
    /// The same with its history.
    pub(crate) fn with_history(self, history: &SensorHistory) -> Self {
        let earlier = history.earlier.iter().map(|e| {
            let SensorDto { setting, chosen, programs_ignoring, .. } = SensorDto::from(&e.sensor);
            EarlierDto { until: e.until.to_string(), setting, chosen, programs_ignoring }
        });
        Self {
            installed_on: history.installed_on.map(|on| on.to_string()),
            earlier: earlier.collect(),
            ..self
        }
    }
}

fn first() -> u8 {
    1
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "SensorCard")]
struct SensorCardDto {
    name: String,
    senses: Vec<Code<Sense>>,
    signal: Code<Signal>,
    supply: Code<PowerSupply>,
    link: Code<Link>,
    #[serde(default)]
    wire_supplied_m: f64,
    #[serde(default)]
    wire_longest_m: f64,
    #[serde(default)]
    radio_walls_m: f64,
    #[serde(default)]
    radio_open_m: f64,
    /// Lowest and highest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    rain_mm: Option<(f64, f64)>,
    /// Thresholds that it can be set to, where it has steps.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    rain_steps_mm: Vec<f64>,
    #[serde(default)]
    vent: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    freeze_c: Option<(f64, f64)>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    wind_m_s: Option<(f64, f64)>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    soil_pct: Option<(f64, f64)>,
    /// Millimetres of a tip or litres of a pulse.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    per_pulse: Option<f64>,
    /// Task and every how many months.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    upkeep: Vec<UpkeepDto>,
    /// Whether its percentage goes on while its holds are on bypass; where left out, only if it also holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    bypass_keeps_percentage: Option<bool>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Upkeep")]
struct UpkeepDto {
    task: Code<Task>,
    months: u8,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "SensorSetting")]
struct SettingDto {
    rain_threshold_mm: f64,
    /// Share of reference ET at which it dries out; leave out when it holds by days.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    vent: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    hold_days: Option<u8>,
    freeze_at_c: f64,
    wind_above_m_s: f64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    soil_threshold_pct: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    cycle_window_min: Option<u32>,
    et_days: u8,
    et_full_mm: f64,
    et_trim_pct: f64,
    flow_high_pct: f64,
    flow_low_pct: f64,
    /// Litres of a pulse of its meter; leave out for those of the card.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    litres_per_pulse: Option<f64>,
}

#[derive(Serialize, Deserialize, JsonSchema, Default)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Placement")]
struct PlacementDto {
    #[serde(skip_serializing_if = "Option::is_none")]
    sun_hours: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    obstacle_distance_m: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    obstacle_above_m: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    covered: Option<bool>,
    #[serde(skip_serializing_if = "Option::is_none")]
    in_spray: Option<bool>,
    #[serde(skip_serializing_if = "Option::is_none")]
    height_m: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    distance_m: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    walls: Option<u8>,
    #[serde(skip_serializing_if = "Option::is_none")]
    shielded: Option<bool>,
    #[serde(skip_serializing_if = "Option::is_none")]
    screened: Option<bool>,
    #[serde(skip_serializing_if = "Option::is_none")]
    straight_before_diameters: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    straight_after_diameters: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    probe_station: Option<u16>,
    /// Metres east and south on the plan.
    #[serde(skip_serializing_if = "Option::is_none")]
    at_m: Option<(f64, f64)>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "ChosenTie")]
struct ChosenDto {
    station: u16,
    holds: bool,
}

impl From<&SensorCard> for SensorCardDto {
    fn from(card: &SensorCard) -> Self {
        Self {
            name: card.name.clone(),
            senses: card.senses.iter().copied().map(Code).collect(),
            signal: Code(card.signal),
            supply: Code(card.supply),
            link: Code(card.link),
            wire_supplied_m: card.wire_supplied.m(),
            wire_longest_m: card.wire_longest.m(),
            radio_walls_m: card.radio_walls.m(),
            radio_open_m: card.radio_open.m(),
            rain_mm: card.rain_range.map(|(a, b)| (a.mm(), b.mm())),
            rain_steps_mm: card.rain_steps.iter().map(|step| step.mm()).collect(),
            vent: card.vent,
            freeze_c: card.freeze_range.map(|(a, b)| (a.c(), b.c())),
            wind_m_s: card.wind_range.map(|(a, b)| (a.m_per_s(), b.m_per_s())),
            soil_pct: card.soil_range_pct,
            per_pulse: card.per_pulse,
            upkeep: card
                .upkeep
                .iter()
                .map(|(task, months)| UpkeepDto { task: Code(*task), months: *months })
                .collect(),
            bypass_keeps_percentage: Some(card.bypass_keeps_percentage)
                .filter(|keeps| *keeps != card.usual_bypass_keeps_percentage()),
        }
    }
}

impl From<&Sensor> for SensorDto {
    fn from(sensor: &Sensor) -> Self {
        let (set, place) = (&sensor.setting, &sensor.placement);
        Self {
            name: sensor.name.clone(),
            controller_number: sensor.controller_number,
            card: (&sensor.card).into(),
            setting: SettingDto {
                rain_threshold_mm: set.rain_threshold.mm(),
                vent: if let Release::DriesOut { vent } = set.release { Some(vent) } else { None },
                hold_days: if let Release::Days(days) = set.release { Some(days) } else { None },
                freeze_at_c: set.freeze_at.c(),
                wind_above_m_s: set.wind_above.m_per_s(),
                soil_threshold_pct: set.soil_threshold_pct,
                cycle_window_min: set.cycle_window_min,
                et_days: set.et_days,
                et_full_mm: set.et_full.mm(),
                et_trim_pct: set.et_trim_pct,
                flow_high_pct: set.flow_high_pct,
                flow_low_pct: set.flow_low_pct,
                litres_per_pulse: set.litres_per_pulse,
            },
            placement: PlacementDto {
                sun_hours: place.sun_hours,
                obstacle_distance_m: place.obstacle_distance.map(Metres::m),
                obstacle_above_m: place.obstacle_above.map(Metres::m),
                covered: place.covered,
                in_spray: place.in_spray,
                height_m: place.height.map(Metres::m),
                distance_m: place.distance.map(Metres::m),
                walls: place.walls,
                shielded: place.shielded,
                screened: place.screened,
                straight_before_diameters: place.straight_before,
                straight_after_diameters: place.straight_after,
                probe_station: place.probe_station,
                at_m: place.at,
            },
            chosen: sensor.map.stations.iter().map(|(s, h)| ChosenDto { station: *s, holds: *h }).collect(),
            programs_ignoring: sensor
                .map
                .programs_ignoring
                .iter()
                .filter_map(|p| u8::try_from(p + 1).ok())
                .collect(),
            installed_on: None,
            earlier: Vec::new(),
        }
    }
}

fn take_card(take: &mut Checker, at: &str, dto: SensorCardDto) -> SensorCard {
    let metres = |take: &mut Checker, field: &str, value| {
        Metres::from_m(take.bounded(&format!("{at}.{field}"), &bounds::SITE_METRES, value))
    };
    let mut card = SensorCard {
        name: dto.name,
        senses: dto.senses.into_iter().map(|s| s.0).collect(),
        signal: dto.signal.0,
        supply: dto.supply.0,
        link: dto.link.0,
        wire_supplied: metres(take, "wire_supplied_m", dto.wire_supplied_m),
        wire_longest: metres(take, "wire_longest_m", dto.wire_longest_m),
        radio_walls: metres(take, "radio_walls_m", dto.radio_walls_m),
        radio_open: metres(take, "radio_open_m", dto.radio_open_m),
        rain_range: dto.rain_mm.map(|(a, b)| (Millimetres::from_mm(a), Millimetres::from_mm(b))),
        rain_steps: dto.rain_steps_mm.into_iter().take(50).map(Millimetres::from_mm).collect(),
        vent: dto.vent,
        freeze_range: dto.freeze_c.map(|(a, b)| (Celsius::from_c(a), Celsius::from_c(b))),
        wind_range: dto
            .wind_m_s
            .map(|(a, b)| (MetresPerSecond::from_m_per_s(a), MetresPerSecond::from_m_per_s(b))),
        soil_range_pct: dto.soil_pct,
        per_pulse: dto.per_pulse,
        upkeep: dto.upkeep.into_iter().map(|u| (u.task.0, u.months.max(1))).collect(),
        bypass_keeps_percentage: false,
    };
    card.bypass_keeps_percentage =
        dto.bypass_keeps_percentage.unwrap_or_else(|| card.usual_bypass_keeps_percentage());
    for (field, message) in card.check() {
        take.say(&format!("{at}.{field}"), message);
    }
    card
}

fn take_setting(take: &mut Checker, at: &str, set: SettingDto, card: &SensorCard) -> Setting {
    if set.vent.is_some() == set.hold_days.is_some() {
        take.say(at, "give either \"vent\" or \"hold_days\"");
    }
    let setting = Setting {
        rain_threshold: Millimetres::from_mm(set.rain_threshold_mm),
        release: match (set.vent, set.hold_days) {
            (_, Some(days)) => Release::Days(days),
            (vent, None) => Release::DriesOut { vent: vent.unwrap_or(upland_core::sensors::HALF_OPEN_VENT) },
        },
        freeze_at: Celsius::from_c(set.freeze_at_c),
        wind_above: MetresPerSecond::from_m_per_s(set.wind_above_m_s),
        soil_threshold_pct: set.soil_threshold_pct,
        cycle_window_min: set.cycle_window_min,
        et_days: set.et_days,
        et_full: Millimetres::from_mm(set.et_full_mm),
        et_trim_pct: set.et_trim_pct,
        flow_high_pct: set.flow_high_pct,
        flow_low_pct: set.flow_low_pct,
        litres_per_pulse: set.litres_per_pulse,
    };
    for fault in setting.check(card) {
        take.say(&format!("{at}.{}", fault.field), fault.message);
    }
    setting
}

fn take_map(chosen: Vec<ChosenDto>, programs_ignoring: Vec<u8>) -> Chosen {
    Chosen {
        stations: chosen.into_iter().map(|c| (c.station, c.holds)).collect(),
        programs_ignoring: programs_ignoring
            .into_iter()
            .filter_map(|p| usize::from(p).checked_sub(1))
            .collect(),
    }
}

/// A sensor with its history, of a site file.
pub(crate) struct Taken {
    pub sensor: Sensor,
    pub history: SensorHistory,
}

/// Takes a sensor over; what its card cannot hold is told by path.
// Long: one field of the file after another.
pub(crate) fn take(take: &mut Checker, at: &str, dto: SensorDto) -> Taken {
    let name = take.name(&format!("{at}.name"), &dto.name);
    let card = take_card(take, &format!("{at}.card"), dto.card);
    let setting = take_setting(take, &format!("{at}.setting"), dto.setting, &card);
    let installed_on = dto.installed_on.as_ref().map(|on| take.date(&format!("{at}.installed_on"), on));
    let earlier: Vec<_> = (0..)
        .zip(dto.earlier)
        .take(MOST_EARLIER)
        .map(|(k, e): (usize, EarlierDto)| {
            let at = format!("{at}.earlier[{k}]");
            let until = take.date(&format!("{at}.until"), &e.until);
            let setting = take_setting(take, &format!("{at}.setting"), e.setting, &card);
            (until, setting, take_map(e.chosen, e.programs_ignoring))
        })
        .collect();
    if earlier.windows(2).any(|pair| matches!(pair, [a, b] if a.0 >= b.0)) {
        take.say(
            &format!("{at}.earlier"),
            "list the oldest first, each until a later date than the one before",
        );
    }
    let place = dto.placement;
    let mut optional = |field: &str, bound: &Bound, value: Option<f64>| {
        take.optional(&format!("{at}.placement.{field}"), bound, value)
    };
    let placement = Placement {
        sun_hours: optional("sun_hours", &bounds::SUN_HOURS, place.sun_hours),
        obstacle_distance: optional("obstacle_distance_m", &bounds::SITE_METRES, place.obstacle_distance_m)
            .map(Metres::from_m),
        obstacle_above: optional("obstacle_above_m", &bounds::SITE_METRES, place.obstacle_above_m)
            .map(Metres::from_m),
        covered: place.covered,
        in_spray: place.in_spray,
        height: optional("height_m", &bounds::SENSOR_HEIGHT, place.height_m).map(Metres::from_m),
        distance: optional("distance_m", &bounds::SITE_METRES, place.distance_m).map(Metres::from_m),
        walls: optional("walls", &bounds::WALLS, place.walls.map(f64::from)).and(place.walls),
        shielded: place.shielded,
        screened: place.screened,
        straight_before: optional(
            "straight_before_diameters",
            &bounds::STRAIGHT_PIPE,
            place.straight_before_diameters,
        ),
        straight_after: optional(
            "straight_after_diameters",
            &bounds::STRAIGHT_PIPE,
            place.straight_after_diameters,
        ),
        probe_station: place.probe_station,
        at: place.at_m.filter(|(x, y)| x.is_finite() && y.is_finite()),
    };
    let map = take_map(dto.chosen, dto.programs_ignoring);
    let sensor = Sensor { name, card, controller_number: dto.controller_number, setting, placement, map };
    let earlier = earlier.into_iter().map(|(until, setting, map)| EarlierSensor {
        until,
        sensor: Sensor { setting, map, ..sensor.clone() },
    });
    let history = SensorHistory { installed_on, earlier: earlier.collect() };
    Taken { sensor, history }
}

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    schema_of::<FileDto>()
}

/// Writes a sensor.
#[must_use]
pub fn write(sensor: &Sensor) -> String {
    pretty(&FileDto { format: FORMAT.into(), version: VERSION, sensor: sensor.into() })
}

/// Reads a sensor.
///
/// # Errors
/// Every problem that was found, by path; on malformed JSON the first one.
pub fn read(bytes: &[u8]) -> Result<Sensor, Vec<PathProblem>> {
    let dto: FileDto = parse(bytes, MAX_BYTES)?;
    let mut taker = Checker::default();
    taker.header((&dto.format, FORMAT), (dto.version, VERSION));
    let taken = take(&mut taker, "sensor", dto.sensor);
    taker.finish(taken.sensor)
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::sensors::generic;

    fn sensors() -> Vec<Sensor> {
        generic().into_iter().map(|(_, card)| Sensor::of_card(card, 2)).collect()
    }

    #[test]
    fn every_sensor_survives_its_file_and_fits_its_schema() {
        let schema: serde_json::Value = serde_json::from_str(&schema()).unwrap();
        let validator = jsonschema::validator_for(&schema).unwrap();
        for mut sensor in sensors() {
            sensor.placement.sun_hours = Some(7.5);
            sensor.placement.at = Some((3.0, 4.5));
            sensor.map.stations.insert(3, false);
            sensor.map.programs_ignoring.insert(1);
            sensor.setting.release = Release::Days(2);
            let text = write(&sensor);
            assert_eq!(read(text.as_bytes()).unwrap(), sensor);
            assert!(validator.is_valid(&serde_json::from_str(&text).unwrap()));
        }
    }

    #[test]
    fn the_published_schema_is_the_one_in_force() {
        let published = include_str!("../../../docs/sensor-v1.schema.json");
        assert_eq!(
            published,
            schema(),
            "write it anew: upland-almanac schema sensor > docs/sensor-v1.schema.json"
        );
    }

    #[test]
    fn every_problem_is_told_by_path() {
        let mut value: serde_json::Value = serde_json::from_str(&write(&sensors().remove(0))).unwrap();
        value["sensor"]["setting"]["rain_threshold_mm"] = 99.0.into();
        value["sensor"]["setting"]["hold_days"] = 3.into();
        value["sensor"]["placement"]["sun_hours"] = 40.0.into();
        let paths: Vec<_> =
            read(value.to_string().as_bytes()).unwrap_err().into_iter().map(|p| p.path).collect();
        assert_eq!(paths, ["sensor.setting", "sensor.setting.rain_threshold", "sensor.placement.sun_hours"]);
    }
}
