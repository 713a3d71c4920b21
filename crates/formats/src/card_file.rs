//! A controller card as a JSON file. Versioned; its JSON Schema is published as
//! `docs/card-v1.schema.json`.

use crate::json::{Checker, Code, PathProblem, parse, pretty, schema_of};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use upland_core::controller::{
    AskedInput, Card, Choice, Computing, DayModes, Input, Overlap, PercentageScope, PercentageTarget,
    Rounding, SensorPort,
};
use upland_core::quantity::ratio::{Percentage, Share};

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-card";
/// The version this module reads and writes.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes.
pub const MAX_BYTES: usize = 64 * 1024;

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(
    title = "Upland Almanac controller type",
    description = "What a controller can be set to, version 1. Units are part of each name."
)]
struct FileDto {
    #[schemars(schema_with = "format_schema")]
    format: String,
    #[schemars(schema_with = "version_schema")]
    version: u32,
    card: CardDto,
}

crate::json::head_schemas!();

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Card")]
pub(crate) struct CardDto {
    name: String,
    stations: u16,
    programs: u8,
    starts_per_program: u8,
    start_step_min: u16,
    run_step_s: u32,
    longest_run_s: u32,
    weekdays: bool,
    odd_even: bool,
    /// Longest "every n-th day"; 0 when the controller has none.
    longest_interval_days: u8,
    never_days: bool,
    percentage_min: u16,
    percentage_max: u16,
    percentage_step: u16,
    percentage_scope: Code<PercentageScope>,
    percentage_applies_to: Code<PercentageTarget>,
    rounding: Code<Rounding>,
    rounding_step_s: u32,
    cycle_and_soak: bool,
    overlapping_programs: Code<Overlap>,
    longest_delay_s: u32,
    longest_overlap_s: u32,
    longest_rain_delay_days: u8,
    omit_hours: bool,
    loops: bool,
    lighting: bool,
    #[serde(default)]
    sensor_ports: Vec<Code<SensorPort>>,
    #[serde(default)]
    sensor_override: bool,
    #[serde(default)]
    master_valve: bool,
    #[serde(default)]
    pump_start: bool,
    /// The controller takes new run times every day; those it is set to are its fallback.
    #[serde(default)]
    daily_run_times: bool,
    /// What the controller asks of each zone, where it works out its minutes by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    computing: Option<ComputingDto>,
    /// What its transformer gives, mA.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    transformer_ma: Option<u32>,
    /// How long a master valve can open before a station and stay open after it.
    #[serde(default)]
    longest_master_lead_s: u32,
    /// Inputs that a sensor decoder has under its one address; 1 when left out.
    #[serde(default = "one")]
    decoder_inputs: u8,
    /// Every how many months the backup battery is changed, 0 for never; a year when left out (common practice).
    #[serde(default = "twelve")]
    backup_battery_months: u8,
}

fn one() -> u8 {
    1
}

fn twelve() -> u8 {
    12
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Computing")]
struct ComputingDto {
    /// How even it takes the heads to be.
    efficiency_pct: f64,
    asks: Vec<AskedDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "AskedInput")]
struct AskedDto {
    input: Code<Input>,
    /// Choices that it offers; none where a number is programmed.
    #[serde(default)]
    choices: Vec<ChoiceDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Choice")]
struct ChoiceDto {
    name: String,
    /// Rate in mm/h, plants, sun and maturity as factors, soil in mm/m, the rest in percent.
    value: f64,
}

impl From<&Computing> for ComputingDto {
    fn from(computing: &Computing) -> Self {
        let choice = |c: &Choice| ChoiceDto { name: c.name.clone(), value: c.value };
        let asked = |a: &AskedInput| AskedDto {
            input: Code(a.input),
            choices: a.choices.iter().map(choice).collect(),
        };
        Self {
            efficiency_pct: computing.efficiency.percent(),
            asks: computing.asks.iter().map(asked).collect(),
        }
    }
}

impl From<ComputingDto> for Computing {
    fn from(dto: ComputingDto) -> Self {
        let choice = |c: ChoiceDto| Choice { name: c.name, value: c.value };
        let asked = |a: AskedDto| AskedInput {
            input: a.input.0,
            choices: a.choices.into_iter().map(choice).collect(),
        };
        Self {
            efficiency: Share::from_percent(dto.efficiency_pct),
            asks: dto.asks.into_iter().map(asked).collect(),
        }
    }
}

impl From<&Card> for CardDto {
    fn from(card: &Card) -> Self {
        Self {
            name: card.name.clone(),
            stations: card.stations,
            programs: card.programs,
            starts_per_program: card.starts_per_program,
            start_step_min: card.start_step_min,
            run_step_s: card.run_step.length_s(),
            longest_run_s: card.longest_run.length_s(),
            weekdays: card.day_modes.weekdays,
            odd_even: card.day_modes.parity,
            longest_interval_days: card.day_modes.longest_interval,
            never_days: card.day_modes.never_days,
            percentage_min: card.percentage_min.percent(),
            percentage_max: card.percentage_max.percent(),
            percentage_step: card.percentage_step.percent(),
            percentage_scope: Code(card.percentage_scope),
            percentage_applies_to: Code(card.percentage_target),
            rounding: Code(card.rounding),
            rounding_step_s: card.rounding_step.length_s(),
            cycle_and_soak: card.cycle_and_soak,
            overlapping_programs: Code(card.overlap),
            longest_delay_s: card.longest_delay.length_s(),
            longest_overlap_s: card.longest_overlap.length_s(),
            longest_rain_delay_days: card.longest_rain_delay_days,
            omit_hours: card.omit_hours,
            loops: card.loops,
            lighting: card.lighting,
            sensor_ports: card.sensor_ports.iter().copied().map(Code).collect(),
            sensor_override: card.sensor_override,
            master_valve: card.master_valve,
            pump_start: card.pump_start,
            daily_run_times: card.daily_run_times,
            computing: card.computing.as_ref().map(ComputingDto::from),
            transformer_ma: card.transformer_ma,
            longest_master_lead_s: card.longest_master_lead.length_s(),
            decoder_inputs: card.decoder_inputs,
            backup_battery_months: card.backup_battery_months,
        }
    }
}

/// Takes a card over; a card that no controller could be is told by path.
pub(crate) fn take(take: &mut Checker, at: &str, dto: CardDto) -> Card {
    let card = Card {
        name: dto.name,
        stations: dto.stations,
        programs: dto.programs,
        starts_per_program: dto.starts_per_program,
        start_step_min: dto.start_step_min,
        run_step: dto.run_step_s.into(),
        longest_run: dto.longest_run_s.into(),
        day_modes: DayModes {
            weekdays: dto.weekdays,
            parity: dto.odd_even,
            longest_interval: dto.longest_interval_days,
            never_days: dto.never_days,
        },
        percentage_min: Percentage::from_percent(dto.percentage_min),
        percentage_max: Percentage::from_percent(dto.percentage_max),
        percentage_step: Percentage::from_percent(dto.percentage_step),
        percentage_scope: dto.percentage_scope.0,
        percentage_target: dto.percentage_applies_to.0,
        rounding: dto.rounding.0,
        rounding_step: dto.rounding_step_s.into(),
        cycle_and_soak: dto.cycle_and_soak,
        overlap: dto.overlapping_programs.0,
        longest_delay: dto.longest_delay_s.into(),
        longest_overlap: dto.longest_overlap_s.into(),
        longest_rain_delay_days: dto.longest_rain_delay_days,
        omit_hours: dto.omit_hours,
        loops: dto.loops,
        lighting: dto.lighting,
        sensor_ports: dto.sensor_ports.into_iter().map(|p| p.0).collect(),
        sensor_override: dto.sensor_override,
        master_valve: dto.master_valve,
        pump_start: dto.pump_start,
        daily_run_times: dto.daily_run_times,
        computing: dto.computing.map(Computing::from),
        transformer_ma: dto.transformer_ma,
        longest_master_lead: dto.longest_master_lead_s.into(),
        decoder_inputs: dto.decoder_inputs,
        backup_battery_months: dto.backup_battery_months,
    };
    for fault in card.check() {
        take.say(&format!("{at}.{}", fault.field), fault.message);
    }
    card
}

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    schema_of::<FileDto>()
}

/// Writes a card.
#[must_use]
pub fn write(card: &Card) -> String {
    pretty(&FileDto { format: FORMAT.into(), version: VERSION, card: card.into() })
}

/// Reads a card.
///
/// # Errors
/// Every problem that was found, by path; on malformed JSON the first one.
pub fn read(bytes: &[u8]) -> Result<Card, Vec<PathProblem>> {
    let dto: FileDto = parse(bytes, MAX_BYTES)?;
    let mut taker = Checker::default();
    taker.header((&dto.format, FORMAT), (dto.version, VERSION));
    let card = take(&mut taker, "card", dto.card);
    taker.finish(card)
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::controller::generic;

    #[test]
    fn every_generic_card_survives_its_file_and_fits_its_schema() {
        let schema: serde_json::Value = serde_json::from_str(&schema()).unwrap();
        let validator = jsonschema::validator_for(&schema).unwrap();
        for (_, card) in generic() {
            let text = write(&card);
            assert_eq!(read(text.as_bytes()).unwrap(), card);
            assert!(validator.is_valid(&serde_json::from_str(&text).unwrap()));
        }
    }

    #[test]
    fn the_published_schema_is_the_one_in_force() {
        let published = include_str!("../../../docs/card-v1.schema.json");
        assert_eq!(
            published,
            schema(),
            "write it anew: upland-almanac schema card > docs/card-v1.schema.json"
        );
    }

    #[test]
    fn an_impossible_card_is_refused_by_path() {
        let mut value: serde_json::Value = serde_json::from_str(&write(&generic().remove(0).1)).unwrap();
        value["card"]["stations"] = 0.into();
        value["card"]["start_step_min"] = 7.into();
        let paths: Vec<_> =
            read(value.to_string().as_bytes()).unwrap_err().into_iter().map(|p| p.path).collect();
        assert_eq!(paths, ["card.stations", "card.start_step_min"]);
        value["card"]["rounding"] = "sideways".into();
        let problem = read(value.to_string().as_bytes()).unwrap_err().remove(0);
        assert_eq!(
            (problem.path.as_str(), problem.message.contains("not one of nearest, down, up")),
            ("card.rounding", true)
        );
    }
}
