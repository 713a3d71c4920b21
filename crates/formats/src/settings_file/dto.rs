//! The file as it is written: names, units and defaults of every field.

use super::{FORMAT, VERSION};
use crate::card_file::CardDto;
use crate::json::{Checker, HoursDto, WeekdayDto, YearSpanDto, days_of, week_of};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use upland_core::controller::schedule::Days;

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(
    title = "Upland Almanac settings",
    description = "A controller type and the settings of a controller, version 1. Units are part of each name."
)]
pub(crate) struct FileDto {
    #[schemars(schema_with = "format_schema")]
    pub format: String,
    #[schemars(schema_with = "version_schema")]
    pub version: u32,
    /// IANA name; start times are wall-clock times there.
    pub time_zone: String,
    pub card: CardDto,
    pub settings: SettingsDto,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Settings")]
pub(crate) struct SettingsDto {
    pub programs: Vec<ProgramDto>,
    pub percentages: PercentagesDto,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub stations: Vec<StationDto>,
    /// Station delay; below zero the next starts before the last ends.
    #[serde(default)]
    pub delay_s: i32,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub never_days: Vec<WeekdayDto>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub omit_hours: Option<HoursDto>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rain_delay: Option<RainDelayDto>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub off_season: Option<YearSpanDto>,
    /// Single dates on which nothing runs, YYYY-MM-DD.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub omit_dates: Vec<String>,
    /// How long the master valve opens before a station.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub master_lead_s: u32,
    /// How long it stays open after one.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub master_lag_s: u32,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
fn is_zero(value: &u32) -> bool {
    *value == 0
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Program")]
pub(crate) struct ProgramDto {
    pub name: String,
    #[serde(default = "yes")]
    pub active: bool,
    /// HH:MM by the wall clock.
    pub starts: Vec<String>,
    pub days: DaysDto,
    pub run_times: Vec<RunTimeDto>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repeat: Option<RepeatDto>,
}

fn yes() -> bool {
    true
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "RunTime")]
pub(crate) struct RunTimeDto {
    pub station: u16,
    /// At 100 %.
    pub seconds: u32,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Repeat")]
pub(crate) struct RepeatDto {
    /// HH:MM; no pass begins at or after it.
    pub until: String,
    pub pause_s: u32,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "Days")]
pub(crate) enum DaysDto {
    Weekdays(Vec<WeekdayDto>),
    Odd,
    Even,
    EveryNth {
        interval_days: u8,
        /// YYYY-MM-DD
        first: String,
    },
}

impl From<Days> for DaysDto {
    fn from(days: Days) -> Self {
        match days {
            Days::Weekdays(week) => Self::Weekdays(week_of(&week)),
            Days::Odd => Self::Odd,
            Days::Even => Self::Even,
            Days::EveryNth { interval, first } => {
                Self::EveryNth { interval_days: interval, first: first.to_string() }
            }
        }
    }
}

impl DaysDto {
    /// Takes days over.
    pub fn take(&self, take: &mut Checker, at: &str) -> Days {
        match self {
            Self::Weekdays(week) => Days::Weekdays(days_of(week)),
            Self::Odd => Days::Odd,
            Self::Even => Days::Even,
            Self::EveryNth { interval_days, first } => Days::EveryNth {
                interval: *interval_days,
                first: take.date(&format!("{at}.every_nth.first"), first),
            },
        }
    }
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "Percentages", transform = crate::names::controller)]
pub(crate) enum PercentagesDto {
    #[serde(alias = "box")]
    Controller(u16),
    Program(Vec<u16>),
    /// January first.
    Month([u16; 12]),
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Station")]
pub(crate) struct StationDto {
    pub number: u16,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cycle_s: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub soak_s: Option<u32>,
    #[serde(default)]
    pub lighting: bool,
    #[serde(default)]
    pub master_valve: bool,
    #[serde(default)]
    pub pump: bool,
    #[serde(default)]
    pub ignores_sensors: bool,
    /// It runs the minutes of its programs, where the controller computes those of the other stations itself.
    #[serde(default, skip_serializing_if = "core::ops::Not::not")]
    pub fixed_run_time: bool,
    /// What its valves draw together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub valve_ma: Option<u32>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "RainDelay")]
pub(crate) struct RainDelayDto {
    /// YYYY-MM-DD
    pub first: String,
    pub days: u8,
}

crate::json::head_schemas!();
