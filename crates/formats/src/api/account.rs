//! The account of a site: the water of each zone, day by day.

use super::jiff_schema::Day;
use super::thousandth;
use jiff::civil::Date;
use schemars::JsonSchema;
use serde::Serialize;
use upland_core::account::zone::AccountDay;
use upland_core::codes::Coded;

/// The account of a site over some days.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Account {
    /// The first day.
    #[schemars(with = "Day")]
    pub from: Date,
    /// The last day.
    #[schemars(with = "Day")]
    pub to: Date,
    /// Its zones, by controller and station.
    pub zones: Vec<ZoneAccount>,
}

/// The account of a zone.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ZoneAccount {
    /// Number of its controller.
    pub controller: u8,
    /// Its station.
    pub station: u16,
    /// Its name.
    pub name: String,
    /// Its days, in order; a day of which nothing is known yet is missing.
    pub days: Vec<ZoneDay>,
}

/// The water of a zone on a day. What is missing at its end is what was missing before, less what went in, plus what the
/// plants took and what drained.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ZoneDay {
    /// The day.
    #[schemars(with = "Day")]
    pub date: Date,
    /// Reference ET.
    pub et0_mm: f64,
    /// Rain that reached the zone.
    pub rain_mm: f64,
    /// Of it, what went in.
    pub rain_in_mm: f64,
    /// Watering, as it came out of the heads.
    pub applied_mm: f64,
    /// Of it, what went in.
    pub applied_in_mm: f64,
    /// What ran off, of both.
    pub runoff_mm: f64,
    /// What drained below the roots.
    pub drainage_mm: f64,
    /// What the plants asked for.
    pub demand_mm: f64,
    /// What they took.
    pub et_mm: f64,
    /// Ks: what they took of what they asked for, 0 to 1.
    pub stress_coefficient: f64,
    /// What is missing from full at the end of the day.
    pub depletion_mm: f64,
    /// The refill point.
    pub refill_point_mm: f64,
    /// How the watering is known: a code of the account's evidence.
    pub evidence: String,
    /// Whether a reading in the field set what is missing.
    pub set_by_reading: bool,
}

impl From<&AccountDay> for ZoneDay {
    fn from(day: &AccountDay) -> Self {
        let water = &day.water;
        Self {
            date: day.date,
            et0_mm: thousandth(day.et0.mm()),
            rain_mm: thousandth(water.rain.mm()),
            rain_in_mm: thousandth(water.rain_in.mm()),
            applied_mm: thousandth(water.applied.mm()),
            applied_in_mm: thousandth(water.applied_in.mm()),
            runoff_mm: thousandth(water.runoff.mm()),
            drainage_mm: thousandth(water.drainage.mm()),
            demand_mm: thousandth(water.demand.mm()),
            et_mm: thousandth(water.et.mm()),
            stress_coefficient: thousandth(water.stress_coefficient()),
            depletion_mm: thousandth(water.depletion.mm()),
            refill_point_mm: thousandth(day.refill_at.mm()),
            evidence: day.evidence.code().to_owned(),
            set_by_reading: day.reset_from.is_some(),
        }
    }
}
