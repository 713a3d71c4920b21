//! A night of a site: what its controllers will do, what each zone needs, and whether the two agree.

use super::jiff_schema::{Day, Instant};
use super::thousandth;
use crate::account_csv::holder;
use crate::json::Code;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::Serialize;
use upland_core::account::running::ControllerRun;
use upland_core::advice::tonight::{self, ControllerKnown, Tonight, Verdict, ZoneTonight};

/// A night of a site, controller by controller.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Night {
    /// The day whose evening the night begins on.
    #[schemars(with = "Day")]
    pub date: Date,
    /// The last day of a weather record that ended a while ago: where no date was asked for, the night is that evening's.
    #[schemars(with = "Option<Day>")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub record_ended: Option<Date>,
    /// The controllers of the site, by number.
    pub controllers: Vec<ControllerNight>,
}

/// The night of a controller.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ControllerNight {
    /// Its number.
    pub controller: u8,
    /// Where it is installed.
    pub place: String,
    /// Whether its runs are known: `settings`; nobody entered its settings: `unknown`; it computes its run times itself
    /// every day: `computes_itself`.
    pub(crate) runs_known: Code<ControllerKnown>,
    /// Up to here facts were counted.
    #[schemars(with = "Instant")]
    pub evening: Timestamp,
    /// Reference ET of the day.
    pub et0_mm: f64,
    /// Rain of the day; null where none is recorded.
    pub rain_mm: Option<f64>,
    /// Its zones, by station.
    pub zones: Vec<ZoneNight>,
}

/// The night of a zone.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ZoneNight {
    /// Its station.
    pub station: u16,
    /// Its name.
    pub name: String,
    /// What is missing from full in the evening.
    pub depletion_mm: f64,
    /// Whether the refill point was passed, whatever forbids watering.
    pub due: bool,
    /// What the plants are expected to take tomorrow.
    pub expected_demand_mm: f64,
    /// What is advised.
    pub decision: Decision,
    /// The advised watering; null when the zone should not run.
    pub advised: Option<Cycles>,
    /// What the controller will do; null where its runs are not known.
    pub runs: Option<Vec<Run>>,
    /// What those runs bring, net, if all of it goes in; null where they are not known.
    pub runs_net_mm: Option<f64>,
    /// Whether that is right; null where the runs are not known. `right`: what is missing comes back, or nothing is missing
    /// and nothing runs. `not_needed`: it runs, is not due, and hardly anything is missing. `too_much`: it brings more than
    /// is missing. `runs_off`: it comes faster than the soil takes it, and much of it runs off. `too_little`: it brings less
    /// than the zone needs, or nothing. `forbidden`: it runs when an ordinance forbids it. `held`: a sensor or the controller
    /// itself prevents its runs. `nothing_reaches`: the zone is due, and no program that is on has a run time for it.
    pub(crate) verdict: Option<Code<Verdict>>,
}

/// What is advised for a zone.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Decision {
    /// It runs in full.
    Runs,
    /// It runs, but less than it needs: the window or an ordinance allows no more.
    RunsShort,
    /// It is due, but the window is full.
    Deferred,
    /// It is due, and something forbids it.
    Barred,
    /// It is not due.
    Waits,
}

/// A watering in cycles.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Cycles {
    /// How many.
    pub count: u32,
    /// Minutes of each.
    pub minutes_each: u32,
    /// Least minutes from the end of one to the start of the next.
    pub soak_minutes: u32,
}

/// A run of a controller.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Run {
    /// When it is set to begin.
    #[schemars(with = "Instant")]
    pub start: Timestamp,
    /// When it is set to end.
    #[schemars(with = "Instant")]
    pub end: Timestamp,
    /// When its water stops: at its start when it is prevented, in its midst when it is cut.
    #[schemars(with = "Instant")]
    pub water_until: Timestamp,
    /// The program that starts it.
    pub program: String,
    /// Who prevents or cuts it, each with its end; empty when it runs whole.
    pub prevented_by: Vec<String>,
}

/// A controller as a night names it.
#[derive(Debug)]
pub struct Names<'a> {
    /// Its number.
    pub controller: u8,
    /// Where it is installed.
    pub place: &'a str,
    /// Its programs, in their order.
    pub programs: &'a [String],
    /// Its sensors, in their order.
    pub sensors: &'a [String],
    /// The wall clock of the site.
    pub tz: &'a TimeZone,
}

/// The night of a controller as it was decided.
#[must_use]
pub fn controller(night: &Tonight, names: &Names<'_>) -> ControllerNight {
    ControllerNight {
        controller: names.controller,
        place: names.place.to_owned(),
        runs_known: Code(night.known),
        evening: night.evening,
        et0_mm: thousandth(night.et0.0.mm()),
        rain_mm: night.rain.map(|rain| thousandth(rain.mm())),
        zones: night.zones.iter().map(|zone| zone_night(zone, names)).collect(),
    }
}

fn zone_night(zone: &ZoneTonight, names: &Names<'_>) -> ZoneNight {
    ZoneNight {
        station: zone.zone.number,
        name: zone.zone.name.clone(),
        depletion_mm: thousandth(zone.depletion.mm()),
        due: zone.due,
        expected_demand_mm: thousandth(zone.expected_demand.mm()),
        decision: match zone.decision {
            tonight::Decision::Runs => Decision::Runs,
            tonight::Decision::RunsShort { .. } | tonight::Decision::RunsLawful { .. } => Decision::RunsShort,
            tonight::Decision::Deferred => Decision::Deferred,
            tonight::Decision::Barred(_) => Decision::Barred,
            tonight::Decision::Waits => Decision::Waits,
        },
        advised: zone.cycles.map(|c| Cycles {
            count: c.count,
            minutes_each: c.minutes_each,
            soak_minutes: c.soak_minutes,
        }),
        runs: zone.will.as_ref().map(|will| will.runs.iter().map(|r| run(r, names)).collect()),
        runs_net_mm: zone.will.as_ref().map(|will| thousandth(will.brings.mm())),
        verdict: zone.verdict.map(Code),
    }
}

fn run(run: &ControllerRun, names: &Names<'_>) -> Run {
    Run {
        start: run.run.start,
        end: run.run.end,
        water_until: run.until,
        program: names.programs.get(run.run.program).cloned().unwrap_or_default(),
        prevented_by: run.held_by.iter().map(|by| holder(by, names.sensors, names.tz)).collect(),
    }
}
