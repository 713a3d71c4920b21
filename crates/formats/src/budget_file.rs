//! A budget as JSON.

use serde::Serialize;
use upland_core::advice::budget::{Budget, Improvement, Move, Outcome, PercentageSlot};
use upland_core::codes::Coded;
use upland_core::quantity::month::{ByMonth, Month};
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::units::Millimetres;

#[derive(Serialize)]
struct BudgetDto {
    format: &'static str,
    version: u32,
    rain: &'static str,
    et0_mm_a_day: [f64; 12],
    percentages: Vec<SlotDto>,
    /// By which measure the percentages were chosen.
    measure: &'static str,
    outcome: OutcomesDto,
    zones: Vec<ZoneDto>,
    improvements: Vec<ImprovementDto>,
}

#[derive(Serialize)]
struct SlotDto {
    turns: String,
    by_month: [Option<u16>; 12],
}

#[derive(Serialize)]
struct OutcomesDto {
    best: OutcomeDto,
    at_100: OutcomeDto,
    as_set: OutcomeDto,
    searched_through: bool,
}

/// What percentages leave of a year's demand, by area and value of the plantings.
#[derive(Serialize)]
struct OutcomeDto {
    /// The measure itself: the less the better.
    cost: f64,
    /// Need that is not met, a share of the demand.
    short: f64,
    /// Water beyond the need, a share of the demand.
    surplus: f64,
}

impl From<Outcome> for OutcomeDto {
    fn from(own: Outcome) -> Self {
        Self { cost: rounded(own.cost), short: rounded(own.short), surplus: rounded(own.surplus) }
    }
}

#[derive(Serialize)]
struct ZoneDto {
    station: u16,
    need_mm_a_day: [f64; 12],
    factors_pct: [Option<f64>; 12],
    given_mm_a_day: [f64; 12],
    error: f64,
    over_mm_a_year: f64,
    under_mm_a_year: f64,
}

#[derive(Serialize)]
struct ImprovementDto {
    after: OutcomeDto,
    moves: Vec<MoveDto>,
}

#[derive(Serialize)]
#[serde(rename_all = "snake_case")]
enum MoveDto {
    BaseTime { station: u16, program: usize, from_s: u32, to_s: u32 },
    Program { station: u16, from_program: usize, to_program: usize, seconds: u32 },
}

fn rounded(value: f64) -> f64 {
    (value * 1e4).round() / 1e4
}

fn depths(values: &ByMonth<Millimetres>) -> [f64; 12] {
    values.map(|v| rounded(v.mm())).into_values()
}

/// Writes a budget. `name` says what a slot turns; programs are counted from 1.
// Long: one column after another.
#[must_use]
pub fn write(
    budget: &Budget,
    improvements: &[Improvement],
    et0: &ByMonth<Millimetres>,
    name: &dyn Fn(&PercentageSlot) -> String,
) -> String {
    crate::json::pretty(&BudgetDto {
        format: "upland-almanac-budget",
        version: 2,
        rain: budget.rain.code(),
        et0_mm_a_day: depths(et0),
        percentages: budget
            .slots
            .iter()
            .enumerate()
            .map(|(k, slot)| SlotDto {
                turns: name(slot),
                by_month: Month::ALL
                    .map(|m| budget.best.of(m).get(k).copied().flatten().map(Percentage::percent)),
            })
            .collect(),
        measure: budget.measure.code(),
        outcome: OutcomesDto {
            best: budget.outcome.into(),
            at_100: budget.at_100.into(),
            as_set: budget.as_set.into(),
            searched_through: budget.searched_through.iter().all(|s| *s),
        },
        zones: budget
            .zones
            .iter()
            .map(|z| ZoneDto {
                station: z.station,
                need_mm_a_day: depths(&z.need),
                factors_pct: z.ideal.map(|i| i.map(|v| (v * 10.0).round() / 10.0)).into_values(),
                given_mm_a_day: depths(&z.given),
                error: rounded(z.error),
                over_mm_a_year: rounded(z.over.mm()),
                under_mm_a_year: rounded(z.under.mm()),
            })
            .collect(),
        improvements: improvements
            .iter()
            .map(|i| ImprovementDto {
                after: i.after.into(),
                moves: i
                    .moves
                    .iter()
                    .map(|m| match *m {
                        Move::BaseTime { program, station, from, to } => MoveDto::BaseTime {
                            station,
                            program: program + 1,
                            from_s: from.length_s(),
                            to_s: to.length_s(),
                        },
                        Move::Program { station, from, to, run_time } => MoveDto::Program {
                            station,
                            from_program: from + 1,
                            to_program: to + 1,
                            seconds: run_time.length_s(),
                        },
                    })
                    .collect(),
            })
            .collect(),
    })
}
