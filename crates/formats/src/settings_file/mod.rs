//! A box and its settings as one JSON file: the card, the programs and the time zone that their
//! clock times are in. Versioned; its JSON Schema is published as
//! `docs/settings-v1.schema.json`.

mod dto;

use crate::site_file::{PathProblem, clock_time};
use jiff::civil::{Date, Time};
use dto::{
    CardDto, DaysDto, FileDto, HoursDto, PercentagesDto, ProgramDto, RainDelayDto, RepeatDto, RunTimeDto,
    SettingsDto, StationDto, WEEK, WeekdayDto, YearSpanDto,
};
use jiff::tz::TimeZone;
use upland_core::controller::{Card, DayModes};
use upland_core::schedule::{Days, Percentages, Program, Repeat, Settings, StationSetting, YearSpan};

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-settings";
/// The version this module reads and writes.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes.
pub const MAX_BYTES: usize = 1024 * 1024;

/// A box with its settings.
#[derive(Debug, Clone, PartialEq)]
pub struct BoxFile {
    /// IANA name of the time zone.
    pub time_zone: String,
    /// The same, opened.
    pub tz: TimeZone,
    /// What the box can hold.
    pub card: Card,
    /// What it is set to.
    pub settings: Settings,
}

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    serde_json::to_string_pretty(&schemars::schema_for!(FileDto)).unwrap_or_default() + "\n"
}

fn hhmm(time: Time) -> String {
    time.strftime("%H:%M").to_string()
}

fn week_of(days: &[bool; 7]) -> Vec<WeekdayDto> {
    WEEK.into_iter().zip(days).filter(|(_, on)| **on).map(|(day, _)| day).collect()
}

fn days_of(week: &[WeekdayDto]) -> [bool; 7] {
    WEEK.map(|day| week.contains(&day))
}

/// Writes a box.
#[must_use]
pub fn write(file: &BoxFile) -> String {
    let (card, settings) = (&file.card, &file.settings);
    let dto = FileDto {
        format: FORMAT.into(),
        version: VERSION,
        time_zone: file.time_zone.clone(),
        card: CardDto {
            name: card.name.clone(),
            stations: card.stations,
            programs: card.programs,
            starts_per_program: card.starts_per_program,
            start_step_min: card.start_step_min,
            run_step_s: card.run_step_s,
            longest_run_s: card.longest_run_s,
            weekdays: card.day_modes.weekdays,
            odd_even: card.day_modes.parity,
            longest_interval_days: card.day_modes.longest_interval,
            never_days: card.day_modes.never_days,
            percentage_min: card.percentage_min,
            percentage_max: card.percentage_max,
            percentage_step: card.percentage_step,
            percentage_scope: card.percentage_scope.into(),
            percentage_applies_to: card.percentage_target.into(),
            rounding: card.rounding.into(),
            rounding_step_s: card.rounding_step_s,
            cycle_and_soak: card.cycle_and_soak,
            overlapping_programs: card.overlap.into(),
            longest_delay_s: card.longest_delay_s,
            longest_overlap_s: card.longest_overlap_s,
            longest_rain_delay_days: card.longest_rain_delay_days,
            omit_hours: card.omit_hours,
            loops: card.loops,
            lighting: card.lighting,
        },
        settings: SettingsDto {
            programs: settings.programs.iter().map(program_dto).collect(),
            percentages: match &settings.percentages {
                Percentages::Box(value) => PercentagesDto::Box(*value),
                Percentages::Program(values) => PercentagesDto::Program(values.clone()),
                Percentages::Month(values) => PercentagesDto::Month(*values),
            },
            stations: settings
                .stations
                .iter()
                .map(|(number, station)| StationDto {
                    number: *number,
                    cycle_s: station.cycle_and_soak_s.map(|(cycle, _)| cycle),
                    soak_s: station.cycle_and_soak_s.map(|(_, soak)| soak),
                    lighting: station.lighting,
                })
                .collect(),
            delay_s: settings.delay_s,
            never_days: week_of(&settings.never_days),
            omit_hours: settings.omit_hours.map(|(from, until)| HoursDto { from: hhmm(from), until: hhmm(until) }),
            rain_delay: settings.rain_delay.map(|(first, days)| RainDelayDto { first: first.to_string(), days }),
            off_season: settings.off_season.map(|span| YearSpanDto {
                from: format!("{:02}-{:02}", span.from.0, span.from.1),
                until: format!("{:02}-{:02}", span.until.0, span.until.1),
            }),
        },
    };
    serde_json::to_string_pretty(&dto).unwrap_or_default() + "\n"
}

fn program_dto(program: &Program) -> ProgramDto {
    ProgramDto {
        name: program.name.clone(),
        active: program.active,
        starts: program.starts.iter().map(|t| hhmm(*t)).collect(),
        days: match program.days {
            Days::Weekdays(week) => DaysDto::Weekdays(week_of(&week)),
            Days::Odd => DaysDto::Odd,
            Days::Even => DaysDto::Even,
            Days::EveryNth { interval, first } => {
                DaysDto::EveryNth { interval_days: interval, first: first.to_string() }
            }
        },
        run_times: program
            .run_times
            .iter()
            .map(|(station, seconds)| RunTimeDto { station: *station, seconds: *seconds })
            .collect(),
        repeat: program.repeat.map(|r| RepeatDto { until: hhmm(r.until), pause_s: r.pause_s }),
    }
}

struct Taker(Vec<PathProblem>);

impl Taker {
    fn say(&mut self, path: impl Into<String>, message: impl Into<String>) {
        self.0.push(PathProblem { path: path.into(), message: message.into() });
    }

    fn time(&mut self, path: String, text: &str) -> Time {
        clock_time(text).unwrap_or_else(|| {
            self.say(path, format!("\"{text}\" is not a time of day written HH:MM"));
            Time::midnight()
        })
    }

    fn date(&mut self, path: &str, text: &str) -> Date {
        crate::table::date(text).unwrap_or_else(|message| {
            self.say(path, message);
            Date::ZERO
        })
    }

    fn month_day(&mut self, path: &str, text: &str) -> (i8, i8) {
        // 2000 has a 29 February.
        match crate::table::date(&format!("2000-{text}")) {
            Ok(date) => (date.month(), date.day()),
            Err(_) => {
                self.say(path, format!("\"{text}\" is not a month and day written MM-DD"));
                (1, 1)
            }
        }
    }
}

/// Reads a box.
///
/// # Errors
/// Every problem that was found, by path: an impossible card, settings beyond it, unknown names;
/// on malformed JSON the first one. Nothing is returned of a file with a problem.
pub fn read(bytes: &[u8]) -> Result<BoxFile, Vec<PathProblem>> {
    let dto: FileDto = crate::site_file::parse(bytes, MAX_BYTES)?;
    let mut take = Taker(Vec::new());
    if dto.format != FORMAT {
        take.say("format", format!("\"{}\" is not \"{FORMAT}\"", dto.format));
    }
    if dto.version != VERSION {
        take.say("version", format!("{} is not supported; this program reads version {VERSION}", dto.version));
    }
    let tz = TimeZone::get(&dto.time_zone).unwrap_or_else(|_| {
        take.say("time_zone", format!("\"{}\" is not a time zone of the IANA list", dto.time_zone));
        TimeZone::UTC
    });
    let card = card(dto.card);
    for fault in card.check() {
        take.say(format!("card.{}", fault.field), fault.message);
    }
    let settings = settings(&mut take, &dto.settings);
    if take.0.is_empty() {
        for fault in settings.check(&card) {
            take.say(format!("settings.{}", fault.path), fault.message);
        }
    }
    if take.0.is_empty() {
        Ok(BoxFile { time_zone: dto.time_zone, tz, card, settings })
    } else {
        Err(take.0)
    }
}

fn card(dto: CardDto) -> Card {
    Card {
        name: dto.name,
        stations: dto.stations,
        programs: dto.programs,
        starts_per_program: dto.starts_per_program,
        start_step_min: dto.start_step_min,
        run_step_s: dto.run_step_s,
        longest_run_s: dto.longest_run_s,
        day_modes: DayModes {
            weekdays: dto.weekdays,
            parity: dto.odd_even,
            longest_interval: dto.longest_interval_days,
            never_days: dto.never_days,
        },
        percentage_min: dto.percentage_min,
        percentage_max: dto.percentage_max,
        percentage_step: dto.percentage_step,
        percentage_scope: dto.percentage_scope.into(),
        percentage_target: dto.percentage_applies_to.into(),
        rounding: dto.rounding.into(),
        rounding_step_s: dto.rounding_step_s,
        cycle_and_soak: dto.cycle_and_soak,
        overlap: dto.overlapping_programs.into(),
        longest_delay_s: dto.longest_delay_s,
        longest_overlap_s: dto.longest_overlap_s,
        longest_rain_delay_days: dto.longest_rain_delay_days,
        omit_hours: dto.omit_hours,
        loops: dto.loops,
        lighting: dto.lighting,
    }
}

fn settings(take: &mut Taker, dto: &SettingsDto) -> Settings {
    let programs = dto
        .programs
        .iter()
        .enumerate()
        .map(|(i, program)| {
            let at = |field: &str| format!("settings.programs[{i}].{field}");
            Program {
                name: program.name.clone(),
                active: program.active,
                starts: program
                    .starts
                    .iter()
                    .enumerate()
                    .map(|(k, text)| take.time(at(&format!("starts[{k}]")), text))
                    .collect(),
                days: match &program.days {
                    DaysDto::Weekdays(week) => Days::Weekdays(days_of(week)),
                    DaysDto::Odd => Days::Odd,
                    DaysDto::Even => Days::Even,
                    DaysDto::EveryNth { interval_days, first } => Days::EveryNth {
                        interval: *interval_days,
                        first: take.date(&at("days.every_nth.first"), first),
                    },
                },
                run_times: program.run_times.iter().map(|r| (r.station, r.seconds)).collect(),
                repeat: program.repeat.as_ref().map(|r| Repeat {
                    until: take.time(at("repeat.until"), &r.until),
                    pause_s: r.pause_s,
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
                take.say(format!("settings.stations[{i}]"), "has a cycle without a soak or the other way round; give both or neither");
            }
            let setting = StationSetting {
                cycle_and_soak_s: station.cycle_s.zip(station.soak_s),
                lighting: station.lighting,
            };
            (station.number, setting)
        })
        .collect();
    Settings {
        programs,
        percentages: match &dto.percentages {
            PercentagesDto::Box(value) => Percentages::Box(*value),
            PercentagesDto::Program(values) => Percentages::Program(values.clone()),
            PercentagesDto::Month(values) => Percentages::Month(*values),
        },
        stations,
        delay_s: dto.delay_s,
        never_days: days_of(&dto.never_days),
        omit_hours: dto.omit_hours.as_ref().map(|hours| {
            (
                take.time("settings.omit_hours.from".into(), &hours.from),
                take.time("settings.omit_hours.until".into(), &hours.until),
            )
        }),
        rain_delay: dto
            .rain_delay
            .as_ref()
            .map(|delay| (take.date("settings.rain_delay.first", &delay.first), delay.days)),
        off_season: dto.off_season.as_ref().map(|span| YearSpan {
            from: take.month_day("settings.off_season.from", &span.from),
            until: take.month_day("settings.off_season.until", &span.until),
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::time;
    use upland_core::controller::twelve_stations;

    fn sample() -> BoxFile {
        BoxFile {
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
                        run_times: vec![(1, 900), (2, 1800)],
                        repeat: None,
                    },
                    Program {
                        name: "B".into(),
                        active: false,
                        starts: vec![time(8, 0, 0, 0)],
                        days: Days::EveryNth { interval: 3, first: jiff::civil::date(2026, 7, 1) },
                        run_times: vec![(4, 60)],
                        repeat: Some(Repeat { until: time(18, 0, 0, 0), pause_s: 1740 }),
                    },
                ],
                percentages: Percentages::Program(vec![90, 100]),
                stations: vec![(1, StationSetting { cycle_and_soak_s: Some((360, 1800)), lighting: false })],
                delay_s: 10,
                never_days: [false, false, false, false, false, false, true],
                omit_hours: Some((time(10, 0, 0, 0), time(18, 0, 0, 0))),
                rain_delay: Some((jiff::civil::date(2026, 7, 10), 3)),
                off_season: Some(YearSpan { from: (11, 1), until: (2, 29) }),
            },
        }
    }

    #[test]
    fn a_box_survives_its_file_and_fits_its_schema() {
        let text = write(&sample());
        assert_eq!(read(text.as_bytes()).unwrap(), sample());
        let schema: serde_json::Value = serde_json::from_str(&schema()).unwrap();
        let validator = jsonschema::validator_for(&schema).unwrap();
        assert!(validator.is_valid(&serde_json::from_str(&text).unwrap()));
    }

    #[test]
    fn the_published_schema_is_the_one_in_force() {
        let published = include_str!("../../../../docs/settings-v1.schema.json");
        assert_eq!(published, schema(), "write it anew: upland-almanac schema settings > docs/settings-v1.schema.json");
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
        assert!(refused(|v| v["settings"]["programs"][0]["starts"][0] = "25:00".into()).starts_with("settings.programs[0].starts[0]"));
        assert!(refused(|v| v["settings"]["programs"][0]["run_times"][1]["station"] = 13.into()).contains("station 13 is not on a box of 12"));
        assert!(refused(|v| v["settings"]["percentages"] = serde_json::json!({ "box": 100 })).contains("per box"));
        assert!(refused(|v| v["settings"]["off_season"]["from"] = "13-01".into()).contains("MM-DD"));
        assert!(refused(|v| v["settings"]["surprise"] = 1.into()).starts_with("settings.surprise"));
        assert!(read("[".repeat(100_000).as_bytes()).is_err());
    }
}
