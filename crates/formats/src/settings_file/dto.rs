//! The file as it is written: names, units and defaults of every field.

use super::{FORMAT, VERSION};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use upland_core::controller::{Overlap, PercentageScope, PercentageTarget, Rounding};

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "Upland Almanac settings", description = "A controller card and the settings of its box, version 1. Units are part of each name.")]
pub(super) struct FileDto {
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
#[schemars(rename = "Card")]
pub(super) struct CardDto {
    pub name: String,
    pub stations: u16,
    pub programs: u8,
    pub starts_per_program: u8,
    pub start_step_min: u16,
    pub run_step_s: u32,
    pub longest_run_s: u32,
    pub weekdays: bool,
    pub odd_even: bool,
    /// Longest "every n-th day"; 0 when the box has none.
    pub longest_interval_days: u8,
    pub never_days: bool,
    pub percentage_min: u16,
    pub percentage_max: u16,
    pub percentage_step: u16,
    pub percentage_scope: ScopeDto,
    pub percentage_applies_to: TargetDto,
    pub rounding: RoundingDto,
    pub rounding_step_s: u32,
    pub cycle_and_soak: bool,
    pub overlapping_programs: OverlapDto,
    pub longest_delay_s: u32,
    pub longest_overlap_s: u32,
    pub longest_rain_delay_days: u8,
    pub omit_hours: bool,
    pub loops: bool,
    pub lighting: bool,
}

macro_rules! choice {
    ($dto:ident as $name:literal for $core:ident { $($variant:ident),* $(,)? }) => {
        #[derive(Serialize, Deserialize, JsonSchema, Clone, Copy)]
        #[serde(rename_all = "snake_case")]
        #[schemars(rename = $name)]
        pub(super) enum $dto { $($variant),* }
        impl From<$dto> for $core {
            fn from(dto: $dto) -> Self { match dto { $($dto::$variant => Self::$variant),* } }
        }
        impl From<$core> for $dto {
            fn from(core: $core) -> Self { match core { $($core::$variant => Self::$variant),* } }
        }
    };
}

choice!(ScopeDto as "PercentageScope" for PercentageScope { Box, Program, Month });
choice!(TargetDto as "PercentageTarget" for PercentageTarget { Total, Cycle });
choice!(RoundingDto as "Rounding" for Rounding { Nearest, Down, Up });
choice!(OverlapDto as "OverlappingPrograms" for Overlap { Queue, Concurrent });

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Settings")]
pub(super) struct SettingsDto {
    pub programs: Vec<ProgramDto>,
    pub percentages: PercentagesDto,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub stations: Vec<StationDto>,
    /// Pause between stations; below zero the next starts before the last ends.
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
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Program")]
pub(super) struct ProgramDto {
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
pub(super) struct RunTimeDto {
    pub station: u16,
    /// At 100 %.
    pub seconds: u32,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Repeat")]
pub(super) struct RepeatDto {
    /// HH:MM; no pass begins at or after it.
    pub until: String,
    pub pause_s: u32,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "Days")]
pub(super) enum DaysDto {
    Weekdays(Vec<WeekdayDto>),
    Odd,
    Even,
    EveryNth {
        interval_days: u8,
        /// YYYY-MM-DD
        first: String,
    },
}

#[derive(Serialize, Deserialize, JsonSchema, Clone, Copy, PartialEq)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "Weekday")]
pub(super) enum WeekdayDto {
    Monday,
    Tuesday,
    Wednesday,
    Thursday,
    Friday,
    Saturday,
    Sunday,
}

pub(super) const WEEK: [WeekdayDto; 7] = [
    WeekdayDto::Monday,
    WeekdayDto::Tuesday,
    WeekdayDto::Wednesday,
    WeekdayDto::Thursday,
    WeekdayDto::Friday,
    WeekdayDto::Saturday,
    WeekdayDto::Sunday,
];

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "Percentages")]
pub(super) enum PercentagesDto {
    Box(u16),
    Program(Vec<u16>),
    /// January first.
    Month([u16; 12]),
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Station")]
pub(super) struct StationDto {
    pub number: u16,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cycle_s: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub soak_s: Option<u32>,
    #[serde(default)]
    pub lighting: bool,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Hours")]
pub(super) struct HoursDto {
    pub from: String,
    pub until: String,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "RainDelay")]
pub(super) struct RainDelayDto {
    /// YYYY-MM-DD
    pub first: String,
    pub days: u8,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "YearSpan")]
pub(super) struct YearSpanDto {
    /// MM-DD, included.
    pub from: String,
    /// MM-DD, included.
    pub until: String,
}

fn format_schema(_: &mut SchemaGenerator) -> Schema {
    json_schema!({ "const": FORMAT })
}

fn version_schema(_: &mut SchemaGenerator) -> Schema {
    json_schema!({ "const": VERSION })
}
