//! A watering option that a trial runs, as one JSON file. Its JSON Schema is published as `docs/way-v1.schema.json`.

use crate::json::{Checker, Code, HoursDto, PathProblem, parse, pretty, schema_of};
use crate::planting::WeanOffDto;
use crate::settings_file::{self, dto::DaysDto, dto::SettingsDto};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use upland_core::account::site_account::AccountInputs;
use upland_core::advice::budget::RainRule;
use upland_core::advice::planner::Strategy;
use upland_core::quantity::bounds;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::units::Millimetres;
use upland_core::sensors::Release;
use upland_core::trial::{Change, PercentageRule, Ramps, Schedule, SensorChange, Spot, TrialWay};

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-way";
/// The version this module reads and writes.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes.
pub const MAX_BYTES: usize = 1024 * 1024;
/// Most changes to sensors.
const MAX_CHANGES: usize = 200;

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(
    title = "Upland Almanac way",
    description = "A watering option a site, to be tried on its weather, version 1. Whatever is left out stays as it is."
)]
struct FileDto {
    /// Always "upland-almanac-way".
    #[schemars(schema_with = "format_schema")]
    format: String,
    /// Always 1.
    #[schemars(schema_with = "version_schema")]
    version: u32,
    name: String,
    #[serde(default)]
    schedule: ScheduleDto,
    #[serde(default)]
    percentages: PercentagesDto,
    /// No sensor holds or scales anything.
    #[serde(default)]
    without_sensors: bool,
    /// What becomes of single sensors of the site.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    sensors: Vec<SensorChangeDto>,
    /// Whether rain is left to the sensors or counted; as the controller has it when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    rain: Option<Code<RainRule>>,
    /// Other days for every program that waters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    days: Option<DaysDto>,
    /// Another water window, for what is advised or planned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    water_window: Option<HoursDto>,
    /// What becomes of grow-ins and wean-offs.
    #[serde(default)]
    planting: RampsDto,
}

/// Grow-ins and wean-offs.
#[derive(Serialize, Deserialize, JsonSchema, Default)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "Ramps")]
enum RampsDto {
    /// As each zone has them.
    #[default]
    AsSet,
    /// None.
    None,
    /// Every zone is weaned off over some weeks.
    WeanOff(WeanOffDto),
}

/// Where the runs come from.
#[derive(Serialize, Deserialize, JsonSchema, Default)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "Schedule")]
enum ScheduleDto {
    /// The settings of the site.
    #[default]
    AsSet,
    /// Other settings, by controller.
    Settings(Vec<ControllerSettingsDto>),
    /// What the planner proposes for the year: just_need, soil_balance, every_day, deep_twice, deep_once.
    School(Code<Strategy>),
    /// As Today advises.
    AsAdvised,
    /// A controller that computes itself.
    DailyBalance,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "ControllerSettings")]
struct ControllerSettingsDto {
    /// Number of the controller.
    controller: u8,
    settings: SettingsDto,
}

/// What turns the run times.
#[derive(Serialize, Deserialize, JsonSchema, Default)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "PercentageRule")]
enum PercentagesDto {
    /// As they are set.
    #[default]
    AsSet,
    /// 100 % all year.
    Left,
    /// The best twelve of the climate.
    Monthly,
    /// Each Monday what the week before asked for.
    Weekly,
    /// An ET sensor's, every night.
    EtSensor {
        /// Its trim, percent.
        #[serde(default)]
        trim_pct: f64,
    },
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "SensorChange")]
struct SensorChangeDto {
    /// Number of its controller; 1 when left out.
    #[serde(default = "first_controller")]
    controller: u8,
    /// Its name at the site.
    name: String,
    change: ChangeDto,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "Change")]
enum ChangeDto {
    /// It is not there.
    Absent,
    /// Another rain threshold, mm.
    RainThresholdMm(f64),
    /// Another end of its rain holds: it dries at a share of reference ET.
    DriesOut { vent: f64 },
    /// Another end of its rain holds: days after the rain.
    HoldDays(u8),
    /// On bypass between two days, both included.
    Bypassed { from: String, to: String },
    /// It is installed under an eave, or in shade.
    Misplaced(Code<Spot>),
}

fn first_controller() -> u8 {
    1
}

crate::json::head_schemas!();

impl From<&Change> for ChangeDto {
    fn from(change: &Change) -> Self {
        match change {
            Change::Absent => Self::Absent,
            Change::RainThreshold(mm) => Self::RainThresholdMm(mm.mm()),
            Change::Release(Release::DriesOut { vent }) => Self::DriesOut { vent: *vent },
            Change::Release(Release::Days(days)) => Self::HoldDays(*days),
            Change::Bypassed(span) => {
                Self::Bypassed { from: span.first.to_string(), to: span.last.to_string() }
            }
            Change::Misplaced(spot) => Self::Misplaced(Code(*spot)),
        }
    }
}

/// Writes a way.
#[must_use]
pub fn write(way: &TrialWay) -> String {
    pretty(&dto(way))
}

/// The same as a value, for other files.
#[must_use]
pub fn to_value(way: &TrialWay) -> serde_json::Value {
    serde_json::to_value(dto(way)).unwrap_or_default()
}

fn dto(way: &TrialWay) -> FileDto {
    let schedule = match &way.schedule {
        Schedule::AsSet => ScheduleDto::AsSet,
        Schedule::Settings(all) => {
            let of = |(controller, settings): &(u8, _)| ControllerSettingsDto {
                controller: *controller,
                settings: SettingsDto::from(settings),
            };
            ScheduleDto::Settings(all.iter().map(of).collect())
        }
        Schedule::School(strategy) => ScheduleDto::School(Code(*strategy)),
        Schedule::AsAdvised => ScheduleDto::AsAdvised,
        Schedule::DailyBalance => ScheduleDto::DailyBalance,
    };
    FileDto {
        format: FORMAT.to_owned(),
        version: VERSION,
        name: way.name.clone(),
        schedule,
        percentages: match way.percentages {
            PercentageRule::AsSet => PercentagesDto::AsSet,
            PercentageRule::Left => PercentagesDto::Left,
            PercentageRule::Monthly => PercentagesDto::Monthly,
            PercentageRule::Weekly => PercentagesDto::Weekly,
            PercentageRule::EtSensor { trim_pct } => PercentagesDto::EtSensor { trim_pct },
        },
        without_sensors: way.without_sensors,
        sensors: way
            .sensors
            .iter()
            .map(|own| SensorChangeDto {
                controller: own.controller_number,
                name: own.name.clone(),
                change: (&own.change).into(),
            })
            .collect(),
        rain: way.rain.map(Code),
        days: way.days.map(DaysDto::from),
        water_window: way.window.map(Into::into),
        planting: match way.planting {
            Ramps::AsSet => RampsDto::AsSet,
            Ramps::None => RampsDto::None,
            Ramps::WeanOff(own) => RampsDto::WeanOff(own.into()),
        },
    }
}

/// Reads a way for a site: its controllers and sensors must be there.
///
/// # Errors
/// Every problem with its path.
// Long: one field of the file after another.
pub fn read(bytes: &[u8], site: &AccountInputs) -> Result<TrialWay, Vec<PathProblem>> {
    let dto: FileDto = parse(bytes, MAX_BYTES)?;
    let mut take = Checker::default();
    take.header((&dto.format, FORMAT), (dto.version, VERSION));
    let name = take.name("name", &dto.name);
    let schedule = match &dto.schedule {
        ScheduleDto::AsSet => Schedule::AsSet,
        ScheduleDto::School(Code(strategy)) => Schedule::School(*strategy),
        ScheduleDto::AsAdvised => Schedule::AsAdvised,
        ScheduleDto::DailyBalance => Schedule::DailyBalance,
        ScheduleDto::Settings(all) => {
            let mut taken = Vec::new();
            for (i, own) in all.iter().enumerate() {
                let at = |field: &str| format!("schedule.settings[{i}].{field}");
                match site.of_controller(own.controller) {
                    Some(there) => taken.push((
                        own.controller,
                        settings_file::take_for(&mut take, &at("settings"), &own.settings, &there.card),
                    )),
                    None => {
                        take.say(
                            &at("controller"),
                            format!("{} is not a controller of the site", own.controller),
                        );
                    }
                }
            }
            Schedule::Settings(taken)
        }
    };
    let percentages = match dto.percentages {
        PercentagesDto::AsSet => PercentageRule::AsSet,
        PercentagesDto::Left => PercentageRule::Left,
        PercentagesDto::Monthly => PercentageRule::Monthly,
        PercentagesDto::Weekly => PercentageRule::Weekly,
        PercentagesDto::EtSensor { trim_pct } => PercentageRule::EtSensor {
            trim_pct: take.bounded("percentages.et_sensor.trim_pct", &bounds::TRIM, trim_pct),
        },
    };
    if dto.sensors.len() > MAX_CHANGES {
        take.say("sensors", format!("has {} entries; at most {MAX_CHANGES}", dto.sensors.len()));
    }
    let changes = dto.sensors.iter().take(MAX_CHANGES).enumerate();
    let sensors = changes.map(|(i, own)| sensor(&mut take, site, i, own)).collect();
    let window = dto.water_window.as_ref().map(|hours| take.window("water_window", hours));
    let planting = match &dto.planting {
        RampsDto::AsSet => Ramps::AsSet,
        RampsDto::None => Ramps::None,
        RampsDto::WeanOff(own) => Ramps::WeanOff(own.take(&mut take, "planting.wean_off")),
    };
    let (without_sensors, rain) = (dto.without_sensors, dto.rain.map(|Code(rule)| rule));
    let days = dto.days.as_ref().map(|days| days.take(&mut take, "days"));
    take.finish(TrialWay {
        name,
        schedule,
        percentages,
        without_sensors,
        sensors,
        rain,
        days,
        window,
        planting,
    })
}

fn sensor(take: &mut Checker, site: &AccountInputs, i: usize, own: &SensorChangeDto) -> SensorChange {
    let at = |field: &str| format!("sensors[{i}].{field}");
    let there = site.of_controller(own.controller).is_some_and(|b| b.sensor_names().contains(&own.name));
    if !there {
        take.say(&at("name"), format!("no sensor of controller {} has that name", own.controller));
    }
    let change = match &own.change {
        ChangeDto::Absent => Change::Absent,
        ChangeDto::RainThresholdMm(mm) => {
            let mm = take.bounded(&at("change.rain_threshold_mm"), &bounds::RAIN_THRESHOLD, *mm);
            Change::RainThreshold(Millimetres::from_mm(mm))
        }
        ChangeDto::DriesOut { vent } => {
            let vent = take.bounded(&at("change.dries_out.vent"), &bounds::VENT, *vent);
            Change::Release(Release::DriesOut { vent })
        }
        ChangeDto::HoldDays(days) => {
            let days = take.bounded(&at("change.hold_days"), &bounds::HOLD_DAYS, f64::from(*days));
            #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded")]
            Change::Release(Release::Days(days as u8))
        }
        ChangeDto::Bypassed { from, to } => {
            let from = take.date(&at("change.bypassed.from"), from);
            let to = take.date(&at("change.bypassed.to"), to);
            if take.problems.is_empty() && to < from {
                take.say(&at("change.bypassed.to"), "lies before the first day");
            }
            Change::Bypassed(DateSpan::new(from, to))
        }
        ChangeDto::Misplaced(Code(spot)) => Change::Misplaced(*spot),
    };
    SensorChange { controller_number: own.controller, name: own.name.clone(), change }
}

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    schema_of::<FileDto>()
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::{date, time};
    use jiff::tz::TimeZone;
    use upland_core::account::running::{ControllerFacts, SensorFacts};
    use upland_core::controller::schedule::{Days, Settings};
    use upland_core::controller::twelve_stations;
    use upland_core::ground::planting::WeanOff;
    use upland_core::quantity::ratio::Share;
    use upland_core::quantity::time::Hours;
    use upland_core::sensors::{Readings, Sensor};
    use upland_core::site::{Site, UnitSystem};
    use upland_core::weather::climate::Climate;

    fn site() -> AccountInputs {
        let site = Site {
            name: "Test slope".into(),
            latitude_deg: 46.0,
            longitude_deg: 8.0,
            elevation: upland_core::quantity::units::Metres::from_m(1040.0),
            wind_height: upland_core::quantity::units::Metres::from_m(2.0),
            time_zone: "UTC".into(),
            units: UnitSystem::Metric,
            windows: upland_core::site::windows::WaterWindows::only(Hours {
                from: time(2, 0, 0, 0),
                until: time(6, 0, 0, 0),
            }),
            supply: None,
            drizzle: Default::default(),
            card: Default::default(),
        };
        let mut facts =
            AccountInputs::surveyed(&site, &TimeZone::UTC, &[], Climate::from_record(&[], site.station()));
        let mut sensor = Sensor::of_card(upland_core::sensors::generic().remove(0).1, 1);
        sensor.name = "Gauge".into();
        let sensor = SensorFacts {
            read_until: jiff::Timestamp::MAX,
            earlier: Vec::new(),
            sensor,
            holds: Vec::new(),
            bypasses: Vec::new(),
            probe: Readings::default(),
            et0: std::collections::BTreeMap::new(),
        };
        let card = twelve_stations();
        let versions = vec![(jiff::Timestamp::MIN, Settings::clean(&card))];
        facts.controllers = vec![ControllerFacts { number: 1, card, versions, sensors: vec![sensor] }];
        facts
    }

    fn change(change: Change) -> SensorChange {
        SensorChange { controller_number: 1, name: "Gauge".into(), change }
    }

    #[test]
    fn every_way_survives_its_file() {
        let mut settings = Settings::clean(&twelve_stations());
        settings.set_run_time(0, 3, upland_core::quantity::time::Seconds::from_min(12));
        let base = TrialWay { name: "Twelve percentages".into(), ..TrialWay::default() };
        let ways = [
            base.clone(),
            TrialWay { schedule: Schedule::Settings(vec![(1, settings.canonical())]), ..base.clone() },
            TrialWay { schedule: Schedule::School(Strategy::DeepOnce), ..base.clone() },
            TrialWay { schedule: Schedule::AsAdvised, without_sensors: true, ..base.clone() },
            TrialWay {
                schedule: Schedule::DailyBalance,
                window: Some(Hours { from: time(22, 0, 0, 0), until: time(4, 30, 0, 0) }),
                ..base.clone()
            },
            TrialWay { percentages: PercentageRule::EtSensor { trim_pct: -10.0 }, ..base.clone() },
            TrialWay { percentages: PercentageRule::Weekly, rain: Some(RainRule::Counted), ..base.clone() },
            TrialWay { planting: Ramps::None, days: Some(Days::Odd), ..base.clone() },
            TrialWay { days: Some(Days::EveryNth { interval: 3, first: date(2026, 1, 1) }), ..base.clone() },
            TrialWay {
                planting: Ramps::WeanOff(WeanOff {
                    from: date(2026, 4, 1),
                    weeks: 6,
                    start: Share::from_percent(140.0),
                }),
                ..base.clone()
            },
            TrialWay {
                sensors: vec![
                    change(Change::RainThreshold(Millimetres::from_mm(6.0))),
                    change(Change::Release(Release::DriesOut { vent: 0.4 })),
                    change(Change::Release(Release::Days(3))),
                    change(Change::Bypassed(DateSpan::new(date(2026, 5, 1), date(2026, 5, 20)))),
                    change(Change::Misplaced(Spot::InShade)),
                    change(Change::Absent),
                ],
                ..base
            },
        ];
        for way in ways {
            let file = write(&way);
            assert_eq!(read(file.as_bytes(), &site()), Ok(way), "{file}");
        }
    }

    #[test]
    fn what_is_wrong_is_told_by_path_all_at_once() {
        let file = serde_json::json!({
            "format": FORMAT, "version": 1, "name": "",
            "schedule": { "settings": [{ "controller": 4, "settings": {
                "programs": [], "percentages": { "box": 100 } } }] },
            "percentages": { "et_sensor": { "trim_pct": 900 } },
            "sensors": [
                { "name": "Nobody", "change": "absent" },
                { "name": "Gauge", "change": { "bypassed": { "from": "2026-05-40", "to": "2026-05-01" } } }
            ],
            "water_window": { "from": "25:00", "until": "05:00" }
        });
        let problems = read(file.to_string().as_bytes(), &site()).unwrap_err();
        let paths: Vec<&str> = problems.iter().map(|p| p.path.as_str()).collect();
        assert_eq!(
            paths,
            [
                "name",
                "schedule.settings[0].controller",
                "percentages.et_sensor.trim_pct",
                "sensors[0].name",
                "sensors[1].change.bypassed.from",
                "water_window.from"
            ]
        );
        assert!(read(b"{}", &site()).is_err());
        let unknown =
            serde_json::json!({ "format": FORMAT, "version": 1, "name": "a", "percentages": "guessed" });
        assert!(read(unknown.to_string().as_bytes(), &site()).is_err());
    }
}
