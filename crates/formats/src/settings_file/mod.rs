//! A controller and its settings as one JSON file: the card, the programs and the time zone that their
//! clock times are in. Versioned; its JSON Schema is published as
//! `docs/settings-v1.schema.json`.

pub(crate) mod dto;

use crate::card_file;
use crate::json::{Checker, PathProblem, days_of, hhmm, parse, pretty, schema_of, week_of};
use dto::{
    FileDto, PercentagesDto, ProgramDto, RainDelayDto, RepeatDto, RunTimeDto, SettingsDto, StationDto,
};
use jiff::tz::TimeZone;
use upland_core::controller::Card;
use upland_core::controller::schedule::{Percentages, Program, Repeat, Settings, StationSetting};
use upland_core::quantity::month::ByMonth;
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::time::Seconds;

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-settings";
/// The version this module reads and writes.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes.
pub const MAX_BYTES: usize = 1024 * 1024;

/// A controller with its settings.
#[derive(Debug, Clone, PartialEq)]
pub struct ControllerFile {
    /// IANA name of the time zone.
    pub time_zone: String,
    /// The same, opened.
    pub tz: TimeZone,
    /// What the controller can hold.
    pub card: Card,
    /// What it is set to.
    pub settings: Settings,
}

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    schema_of::<FileDto>()
}

/// The same within the description of an interface.
pub(crate) fn schema_in(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
    generator.subschema_for::<FileDto>()
}

/// Writes a controller.
#[must_use]
pub fn write(file: &ControllerFile) -> String {
    pretty(&FileDto {
        format: FORMAT.into(),
        version: VERSION,
        time_zone: file.time_zone.clone(),
        card: (&file.card).into(),
        settings: (&file.settings).into(),
    })
}

/// Settings as they lie in the database: the `settings` part of a file.
#[must_use]
pub fn settings_value(settings: &Settings) -> serde_json::Value {
    serde_json::to_value(SettingsDto::from(settings)).unwrap_or_default()
}

/// Settings from the database, held against their card.
///
/// # Errors
/// When they are not settings, or not ones that any card could hold.
pub fn settings_from(value: serde_json::Value) -> Result<Settings, Vec<PathProblem>> {
    let dto: SettingsDto = serde_json::from_value(value)
        .map_err(|error| vec![PathProblem { path: String::new(), message: error.to_string() }])?;
    let mut taker = Checker::default();
    let settings = take(&mut taker, "settings", &dto);
    taker.finish(settings)
}

impl From<&Settings> for SettingsDto {
    fn from(settings: &Settings) -> Self {
        Self {
            programs: settings.programs.iter().map(program_dto).collect(),
            percentages: match &settings.percentages {
                Percentages::Controller(value) => PercentagesDto::Controller(value.percent()),
                Percentages::Program(values) => {
                    PercentagesDto::Program(values.iter().map(|v| v.percent()).collect())
                }
                Percentages::Month(values) => {
                    PercentagesDto::Month(values.map(Percentage::percent).into_values())
                }
            },
            stations: settings
                .stations
                .iter()
                .map(|(number, station)| StationDto {
                    number: *number,
                    cycle_s: station.cycle_and_soak.map(|(cycle, _)| cycle.length_s()),
                    soak_s: station.cycle_and_soak.map(|(_, soak)| soak.length_s()),
                    lighting: station.lighting,
                    master_valve: station.master_valve,
                    pump: station.pump,
                    ignores_sensors: station.ignores_sensors,
                    fixed_run_time: station.fixed_run_time,
                    valve_ma: station.valve_ma,
                })
                .collect(),
            delay_s: i32::try_from(settings.delay.s()).unwrap_or(i32::MAX),
            never_days: week_of(&settings.never_days),
            omit_hours: settings.omit_hours.map(Into::into),
            rain_delay: settings
                .rain_delay
                .map(|(first, days)| RainDelayDto { first: first.to_string(), days }),
            off_season: settings.off_season.map(Into::into),
            omit_dates: settings.omit_dates.iter().map(ToString::to_string).collect(),
            master_lead_s: settings.master_lead.0.length_s(),
            master_lag_s: settings.master_lead.1.length_s(),
        }
    }
}

fn program_dto(program: &Program) -> ProgramDto {
    ProgramDto {
        name: program.name.clone(),
        active: program.active,
        starts: program.starts.iter().map(|t| hhmm(*t)).collect(),
        days: program.days.into(),
        run_times: program
            .run_times
            .iter()
            .map(|(station, run_time)| RunTimeDto { station: *station, seconds: run_time.length_s() })
            .collect(),
        repeat: program.repeat.map(|r| RepeatDto { until: hhmm(r.until), pause_s: r.pause.length_s() }),
    }
}

/// Reads a controller.
///
/// # Errors
/// Every problem that was found, by path: an impossible card, settings beyond it, unknown names;
/// on malformed JSON the first one. Nothing is returned of a file with a problem.
pub fn read(bytes: &[u8]) -> Result<ControllerFile, Vec<PathProblem>> {
    let dto: FileDto = parse(bytes, MAX_BYTES)?;
    let mut taker = Checker::default();
    taker.header((&dto.format, FORMAT), (dto.version, VERSION));
    let tz = TimeZone::get(&dto.time_zone).unwrap_or_else(|_| {
        taker.say("time_zone", format!("\"{}\" is not a time zone of the IANA list", dto.time_zone));
        TimeZone::UTC
    });
    let card = card_file::take(&mut taker, "card", dto.card);
    let settings = take_for(&mut taker, "settings", &dto.settings, &card);
    taker.finish(ControllerFile { time_zone: dto.time_zone, tz, card, settings })
}

/// Takes settings over and holds them against their card.
pub(crate) fn take_for(taker: &mut Checker, at: &str, dto: &SettingsDto, card: &Card) -> Settings {
    let settings = take(taker, at, dto);
    if taker.problems.is_empty() {
        for fault in settings.check(card) {
            taker.say(&format!("{at}.{}", fault.path), fault.message);
        }
    }
    settings
}

// Long: one field of the file after another.
fn take(taker: &mut Checker, root: &str, dto: &SettingsDto) -> Settings {
    let programs = dto
        .programs
        .iter()
        .enumerate()
        .map(|(i, program)| {
            let at = |field: &str| format!("{root}.programs[{i}].{field}");
            Program {
                name: program.name.clone(),
                active: program.active,
                starts: program
                    .starts
                    .iter()
                    .enumerate()
                    .map(|(k, text)| taker.time(&at(&format!("starts[{k}]")), text))
                    .collect(),
                days: program.days.take(taker, &at("days")),
                run_times: program.run_times.iter().map(|r| (r.station, r.seconds.into())).collect(),
                repeat: program.repeat.as_ref().map(|r| Repeat {
                    until: taker.time(&at("repeat.until"), &r.until),
                    pause: r.pause_s.into(),
                }),
            }
        })
        .collect();
    let stations = dto
        .stations
        .iter()
        .enumerate()
        .map(|(i, station)| {
            if station.cycle_s.is_some() != station.soak_s.is_some() {
                taker.say(
                    &format!("{root}.stations[{i}]"),
                    "has a cycle without a soak or the other way round; give both or neither",
                );
            }
            let setting = StationSetting {
                cycle_and_soak: station.cycle_s.zip(station.soak_s).map(|(c, s)| (c.into(), s.into())),
                lighting: station.lighting,
                master_valve: station.master_valve,
                pump: station.pump,
                ignores_sensors: station.ignores_sensors,
                fixed_run_time: station.fixed_run_time,
                valve_ma: station.valve_ma,
            };
            (station.number, setting)
        })
        .collect();
    Settings {
        programs,
        percentages: match &dto.percentages {
            PercentagesDto::Controller(value) => Percentages::Controller(Percentage::from_percent(*value)),
            PercentagesDto::Program(values) => {
                Percentages::Program(values.iter().map(|v| Percentage::from_percent(*v)).collect())
            }
            PercentagesDto::Month(values) => {
                Percentages::Month(ByMonth::new(values.map(Percentage::from_percent)))
            }
        },
        stations,
        delay: Seconds::from_s(i64::from(dto.delay_s)),
        never_days: days_of(&dto.never_days),
        omit_hours: dto.omit_hours.as_ref().map(|hours| taker.hours(&format!("{root}.omit_hours"), hours)),
        rain_delay: dto
            .rain_delay
            .as_ref()
            .map(|delay| (taker.date(&format!("{root}.rain_delay.first"), &delay.first), delay.days)),
        off_season: dto.off_season.as_ref().map(|span| taker.year_span(&format!("{root}.off_season"), span)),
        omit_dates: dto
            .omit_dates
            .iter()
            .take(upland_core::controller::schedule::MOST_OMITTED + 1)
            .enumerate()
            .map(|(i, date)| taker.date(&format!("{root}.omit_dates[{i}]"), date))
            .collect(),
        master_lead: (dto.master_lead_s.into(), dto.master_lag_s.into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::time;
    use upland_core::controller::schedule::Days;
    use upland_core::controller::schedule::YearSpan;
    use upland_core::controller::twelve_stations;
    use upland_core::quantity::time::Hours;

    fn sample() -> ControllerFile {
        ControllerFile {
            time_zone: "Etc/GMT+1".into(),
            tz: TimeZone::get("Etc/GMT+1").unwrap(),
            card: twelve_stations(),
            settings: Settings {
                programs: vec![
                    Program {
                        name: "A".into(),
                        active: true,
                        starts: vec![time(2, 0, 0, 0)],
                        days: Days::Weekdays([true, false, true, false, true, false, false]),
                        run_times: vec![(1, Seconds::from_min(15)), (2, Seconds::from_min(30))],
                        repeat: None,
                    },
                    Program {
                        name: "B".into(),
                        active: false,
                        starts: vec![time(8, 0, 0, 0)],
                        days: Days::EveryNth { interval: 3, first: jiff::civil::date(2026, 7, 1) },
                        run_times: vec![(4, Seconds::from_min(1))],
                        repeat: Some(Repeat { until: time(18, 0, 0, 0), pause: Seconds::from_s(1740) }),
                    },
                ],
                percentages: Percentages::Program(vec![Percentage::from_percent(90), Percentage::HUNDRED]),
                stations: vec![(
                    1,
                    StationSetting {
                        cycle_and_soak: Some((Seconds::from_s(360), Seconds::from_s(1800))),
                        ..StationSetting::default()
                    },
                )],
                delay: Seconds::from_s(10),
                never_days: [false, false, false, false, false, false, true],
                omit_hours: Some(Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) }),
                rain_delay: Some((jiff::civil::date(2026, 7, 10), 3)),
                off_season: Some(YearSpan { from: (11, 1), until: (2, 29) }),
                omit_dates: vec![jiff::civil::date(2026, 7, 4)],
                master_lead: (Seconds::from_s(5), Seconds::from_s(10)),
            },
        }
    }

    #[test]
    fn a_controller_survives_its_file_and_fits_its_schema() {
        let text = write(&sample());
        assert_eq!(read(text.as_bytes()).unwrap(), sample());
        let schema: serde_json::Value = serde_json::from_str(&schema()).unwrap();
        let validator = jsonschema::validator_for(&schema).unwrap();
        assert!(validator.is_valid(&serde_json::from_str(&text).unwrap()));
    }

    #[test]
    fn the_published_schema_is_the_one_in_force() {
        let published = include_str!("../../../../docs/settings-v1.schema.json");
        assert_eq!(
            published,
            schema(),
            "write it anew: upland-almanac schema settings > docs/settings-v1.schema.json"
        );
    }

    #[test]
    fn impossible_cards_and_settings_beyond_them_are_refused_by_path() {
        let refused = |change: fn(&mut serde_json::Value)| {
            let mut value: serde_json::Value = serde_json::from_str(&write(&sample())).unwrap();
            change(&mut value);
            let problems = read(value.to_string().as_bytes()).unwrap_err();
            problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
        };
        assert!(refused(|v| v["card"]["start_step_min"] = 7.into()).starts_with("card.start_step_min"));
        assert!(refused(|v| v["time_zone"] = "Larkrigg".into()).starts_with("time_zone"));
        assert!(
            refused(|v| v["settings"]["programs"][0]["starts"][0] = "25:00".into())
                .starts_with("settings.programs[0].starts[0]")
        );
        assert!(
            refused(|v| v["settings"]["programs"][0]["run_times"][1]["station"] = 13.into())
                .contains("station 13 is not on a controller of 12")
        );
        assert!(
            refused(|v| v["settings"]["percentages"] = serde_json::json!({ "box": 100 }))
                .contains("per controller")
        );
        assert!(refused(|v| v["settings"]["off_season"]["from"] = "13-01".into()).contains("MM-DD"));
        assert!(refused(|v| v["settings"]["surprise"] = 1.into()).starts_with("settings.surprise"));
        assert!(read("[".repeat(100_000).as_bytes()).is_err());
    }
}
