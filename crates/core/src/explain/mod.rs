//! How a number was reached: inputs, formula, source and which inputs are defaults. The interface
//! formats the quantities in the site's units and shows this behind every computed number.

mod budget;
mod schedule;

pub use budget::{budget_month, budget_week};
pub use schedule::weekly;

use crate::account::evidence::Evidence;
use crate::account::sky::RAIN_HOURS;
use crate::account::sky::{DemandFrom, et0_of};
use crate::account::zone::AccountDay;
use crate::advice::tonight::{Decision, StateFrom, ZoneTonight};
use crate::ground::plant::{Sky, Sun};
use crate::ground::soil;
use crate::quantity::ratio::Share;
use crate::quantity::units::{
    Celsius, Kilopascals, MegajoulesPerSquareMetre, Metres, MetresPerSecond, Millimetres, MillimetresPerHour,
    Minutes,
};
use crate::site::{Origin, ResolvedZone, Sourced};
use crate::weather::climate::{Climate, ExpectedFrom};
use crate::weather::fill::Fill;
use crate::weather::reference_et::{Method, daily_penman_monteith};
use jiff::civil::Date;

/// A number with its dimension, to be written in the units of the reader.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Quantity {
    /// A depth of water.
    Depth(Millimetres),
    /// A rate of application or intake.
    Rate(MillimetresPerHour),
    /// Available water per depth of soil, mm/m.
    WaterHolding(f64),
    /// A length.
    Length(Metres),
    /// A temperature.
    Temperature(Celsius),
    /// Radiant energy of a day.
    Radiation(MegajoulesPerSquareMetre),
    /// A wind speed.
    Wind(MetresPerSecond),
    /// A vapour pressure.
    Pressure(Kilopascals),
    /// A time.
    Time(Minutes),
    /// A ratio without unit.
    Ratio(f64),
    /// A percentage.
    Percent(f64),
    /// A count.
    Count(u32),
}

/// One input of a formula.
#[derive(Debug, Clone, PartialEq)]
pub struct Input {
    /// Its name, in the terms of the standards.
    pub name: &'static str,
    /// Its value.
    pub quantity: Quantity,
    /// Where it comes from; `None` for a step computed above it.
    pub origin: Option<InputOrigin>,
}

/// Where an input comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InputOrigin {
    /// Measured or typed for this zone.
    Given,
    /// From the weather record of a day.
    Record,
    /// A published table or rule, with its source.
    Table(&'static str),
    /// A default that a measurement would replace, with its source.
    Default(&'static str),
}

/// A formula with its inputs and result.
#[derive(Debug, Clone, PartialEq)]
pub struct WorkingStep {
    /// What the step gives.
    pub name: &'static str,
    /// The formula in words and signs.
    pub formula: &'static str,
    /// Its source.
    pub source: &'static str,
    /// The inputs.
    pub inputs: Vec<Input>,
    /// The result.
    pub result: Quantity,
}

/// The derivation of one number.
#[derive(Debug, Clone, PartialEq)]
pub struct Explanation {
    /// What the number is.
    pub title: &'static str,
    /// The steps, in order; the last gives the number.
    pub steps: Vec<WorkingStep>,
    /// Sentences on what was assumed.
    pub assumptions: Vec<&'static str>,
}

fn computed(name: &'static str, quantity: Quantity) -> Input {
    Input { name, quantity, origin: None }
}

fn table(name: &'static str, quantity: Quantity, source: &'static str) -> Input {
    Input { name, quantity, origin: Some(InputOrigin::Table(source)) }
}

fn default(name: &'static str, quantity: Quantity, source: &'static str) -> Input {
    Input { name, quantity, origin: Some(InputOrigin::Default(source)) }
}

fn recorded(name: &'static str, quantity: Quantity) -> Input {
    Input { name, quantity, origin: Some(InputOrigin::Record) }
}

fn sourced<T: Copy>(name: &'static str, value: Sourced<T>, wrap: fn(T) -> Quantity) -> Input {
    let origin = match value.origin {
        Origin::Given => InputOrigin::Given,
        Origin::Default(source) => InputOrigin::Default(source),
    };
    Input { name, quantity: wrap(value.value), origin: Some(origin) }
}

fn share(value: Share) -> Quantity {
    Quantity::Percent(value.percent())
}

/// ET0 of a day at a site.
// Long: the steps of one working, in order.
#[must_use]
pub fn reference_et(climate: &Climate, date: Date) -> Explanation {
    let (et0, from) = et0_of(climate, date);
    let result = Quantity::Depth(et0);
    let title = "Reference ET (ET0) of the day";
    let Some(day) = climate.day(date) else {
        let (formula, source) = match from {
            DemandFrom::Expected(ExpectedFrom::Forecast) => (
                "the reference ET equation on the temperatures, humidity, sun and wind that are forecast",
                "the forecast of the site's weather service",
            ),
            DemandFrom::Expected(ExpectedFrom::RoughEstimate) => (
                "Hargreaves-Samani on a rough climate by latitude and elevation",
                "our own rough fit; replaced by the first weather file",
            ),
            DemandFrom::Expected(ExpectedFrom::TypedNormals) => (
                "the monthly mean that was typed, or Hargreaves-Samani on the typed temperatures",
                "monthly normals typed by hand",
            ),
            _ => (
                "mean ET0 of the recorded days within ten days of this date, all years",
                "the site's own record",
            ),
        };
        let step = WorkingStep { name: "expected ET0", formula, source, inputs: Vec::new(), result };
        return Explanation {
            title,
            steps: vec![step],
            assumptions: vec!["The day has no record yet, so this is an expected value."],
        };
    };
    let weather = &day.weather;
    let temperatures = [
        recorded("lowest temperature", Quantity::Temperature(weather.temperature_min)),
        recorded("highest temperature", Quantity::Temperature(weather.temperature_max)),
    ];
    let assumptions = day.et.fills.iter().map(|fill| fill.rule()).collect();
    let step = match day.et.method {
        Method::HargreavesSamani => WorkingStep {
            name: "reference ET",
            formula: "0.408 × 0.0023 × (mean temperature + 17.8) × √(temperature range) × radiation above the atmosphere",
            source: "Hargreaves-Samani, FAO-56 eq. 52; used because only temperatures were recorded",
            inputs: temperatures.into(),
            result,
        },
        Method::PenmanMonteith => {
            let (terms, fills) = daily_penman_monteith(weather, climate.station());
            let origin = |filled: &[Fill], name, quantity| match fills.iter().find(|f| filled.contains(f)) {
                Some(fill) => default(name, quantity, fill.rule()),
                None => recorded(name, quantity),
            };
            let mut inputs: Vec<Input> = temperatures.into();
            inputs.push(origin(
                &[Fill::DewPointFromMinimum, Fill::VapourFromHighestHumidity, Fill::VapourFromLowestHumidity],
                "vapour pressure",
                Quantity::Pressure(terms.vapour),
            ));
            inputs.push(origin(
                &[Fill::SolarFromTemperatureRange],
                "solar radiation",
                Quantity::Radiation(terms.solar),
            ));
            inputs.push(origin(&[Fill::WindDefault], "wind at 2 m", Quantity::Wind(terms.wind)));
            inputs.push(computed("net radiation", Quantity::Radiation(terms.net)));
            inputs.push(computed("saturation vapour pressure", Quantity::Pressure(terms.saturation)));
            WorkingStep {
                name: "reference ET",
                formula: "(0.408 Δ Rn + γ × 900 ÷ (T + 273) × u2 × (es - ea)) ÷ (Δ + γ (1 + 0.34 u2))",
                source: "ASCE-EWRI standardized Penman-Monteith, short reference (FAO-56 eq. 6)",
                inputs,
                result,
            }
        }
    };
    Explanation { title, steps: vec![step], assumptions }
}

/// The named factors from ET0 to demand on a date; those that change nothing are left out.
fn demand_factors(k: &ResolvedZone, date: Date) -> Vec<Input> {
    let coefficient = Sourced { value: k.coefficient_on(date), origin: k.coefficients.origin };
    let mut inputs = vec![sourced("plant coefficient", coefficient, Quantity::Ratio)];
    let mut factor = |name, value: f64, origin| {
        if (value - 1.0).abs() > f64::EPSILON {
            inputs.push(Input { name, quantity: Quantity::Ratio(value), origin: Some(origin) });
        }
    };
    factor("sun factor", k.sun_factor, InputOrigin::Table(Sun::SOURCE));
    factor("light that the glass lets through", k.transmission, InputOrigin::Table(Sky::TRANSMISSION_SOURCE));
    factor("trim of the zone", k.trim_factor, InputOrigin::Given);
    factor("grow-in", k.grow_in_factor_on(date), InputOrigin::Given);
    factor("wean-off", k.wean_off_factor_on(date), InputOrigin::Given);
    inputs
}

/// Plant demand on the last day of the replay, or tomorrow's when there is none.
fn demand_step(zone: &ZoneTonight, last: Option<&AccountDay>) -> WorkingStep {
    let k = &zone.resolved;
    let date = last.map_or_else(|| zone.date.tomorrow().unwrap_or(zone.date), |d| d.date);
    let mut inputs = demand_factors(k, date);
    match last {
        Some(day) => {
            let et0 = Quantity::Depth(day.et0);
            inputs.push(match day.demand_from {
                DemandFrom::Record => recorded("ET0 of the day", et0),
                DemandFrom::Expected(_) => default("expected ET0", et0, "no record of this day yet"),
            });
            WorkingStep {
                name: "plant demand of the day until now",
                formula: "product of the factors × ET0, by the hours of sun that have passed",
                source: "landscape coefficient method (WUCOLS, University of California; from memory)",
                inputs,
                result: Quantity::Depth(day.water.demand),
            }
        }
        None => WorkingStep {
            name: "plant demand expected tomorrow",
            formula: "product of the factors × expected ET0",
            source: "landscape coefficient method (WUCOLS, University of California; from memory)",
            inputs,
            result: Quantity::Depth(zone.expected_demand),
        },
    }
}

fn store_step(zone: &ZoneTonight) -> WorkingStep {
    let k = &zone.resolved;
    WorkingStep {
        name: "refill point (readily available water)",
        formula: "available water × root depth × allowable depletion",
        source: "FAO-56 eq. 82 and 83",
        inputs: vec![
            table(
                "available water of the soil",
                Quantity::WaterHolding(zone.zone.soil.available_mm_per_m()),
                soil::SOURCE,
            ),
            sourced("root depth", k.root_depth, Quantity::Length),
            sourced("allowable depletion", k.allowable_depletion, share),
        ],
        result: Quantity::Depth(zone.root_zone.readily_available()),
    }
}

/// What set the depletion on a day beside its water.
fn set_by(day: &AccountDay) -> Option<&'static str> {
    match (day.reset_from, day.water.root_cut > Millimetres::ZERO) {
        (Some(_), _) => Some("A reading from the field set the depletion on this day."),
        (None, true) => Some(
            "The grow-in began on dry ground: no more can be missing than its shallower root zone holds.",
        ),
        (None, false) => None,
    }
}

/// How far the root zone is below full this evening.
#[must_use]
pub fn depletion(zone: &ZoneTonight) -> Explanation {
    let last = zone.days.last();
    let mut steps = vec![store_step(zone), demand_step(zone, last)];
    let mut assumptions = Vec::new();
    if let Some(day) = last {
        let before = zone.days.len().checked_sub(2).and_then(|i| zone.days.get(i));
        let before = before.map_or(Millimetres::ZERO, |d| d.water.depletion);
        let mut rain = recorded("rain that reached the zone", Quantity::Depth(day.water.rain));
        if day.demand_from != DemandFrom::Record {
            rain.origin = Some(InputOrigin::Default("none counted: no record of this day"));
        }
        steps.push(WorkingStep {
            name: "depletion this evening",
            formula: "depletion at midnight - rain into the soil - watering into the soil + evapotranspiration + drainage",
            source: "FAO-56 eq. 85 to 88, hour by hour over the past year",
            inputs: vec![
                computed("depletion at midnight", Quantity::Depth(before)),
                rain,
                computed("rain into the soil", Quantity::Depth(day.water.rain_in)),
                computed("watering into the soil", Quantity::Depth(day.water.applied_in)),
                computed("stress coefficient Ks", Quantity::Ratio(day.water.stress_coefficient())),
                computed("evapotranspiration", Quantity::Depth(day.water.et)),
                computed("drainage below the roots", Quantity::Depth(day.water.drainage)),
            ],
            result: Quantity::Depth(zone.depletion),
        });
        assumptions.push(evidence(day.evidence));
        assumptions.extend(set_by(day));
        assumptions.push("The root zone is taken as full a year ago, or on the first recorded day.");
        assumptions.push(RAIN_ASSUMPTION);
        if zone.resolved.rain_share < Share::WHOLE {
            assumptions.push("No rain is counted: the zone is under cover.");
        }
    }
    if zone.state_from == StateFrom::Expected {
        assumptions.push("There is no weather up to this day: expected demand and no rain are used.");
    }
    if zone.decision == Decision::Waits && zone.expected_demand.mm() > 0.0 {
        let left = (zone.root_zone.readily_available() - zone.depletion).max(Millimetres::ZERO);
        let days = left.mm() / zone.expected_demand.mm();
        steps.push(WorkingStep {
            name: "days left at tomorrow's demand",
            formula: "(refill point - depletion) ÷ demand expected tomorrow",
            source: "soil-balance strategy; the date shown follows the season day by day",
            inputs: vec![
                computed("left above the refill point", Quantity::Depth(left)),
                computed("demand expected tomorrow", Quantity::Depth(zone.expected_demand)),
            ],
            result: Quantity::Ratio((days * 10.0).round() / 10.0),
        });
        assumptions.push("No rain is expected in advance.");
    }
    Explanation { title: "Root zone this evening", steps, assumptions }
}

/// How the watering of a day is known, as a sentence.
const fn evidence(of: Evidence) -> &'static str {
    match of {
        Evidence::Logged => "The watering of this day was logged.",
        Evidence::Metered => "The controller watered this day as it is set, and the meter says how much.",
        Evidence::Device => "A device told what ran on this day.",
        Evidence::AsSet => {
            "The controller is taken to have watered this day as it is set, except for what sensors, delays and the off-season prevented."
        }
        Evidence::AsAdvised => {
            "What the controller ran on this day is not known: watering as advised is taken to have run."
        }
    }
}

const RAIN_ASSUMPTION: &str = "A day's rain falls in the last six hours of the afternoon unless its hours were recorded; what the soil does not absorb runs off (our default).";
const _: () = assert!(RAIN_HOURS == 6.0, "the sentence above says six hours");

/// The net depth to give.
#[must_use]
pub fn need(zone: &ZoneTonight) -> Explanation {
    let mut explanation = depletion(zone);
    explanation.title = "Net need";
    explanation.steps.push(WorkingStep {
        name: "net need",
        formula: "depletion this evening, back to full",
        source: "soil-balance strategy: water at the refill point, refill to field capacity (FAO-56 chapter 8)",
        inputs: vec![
            computed("depletion this evening", Quantity::Depth(zone.depletion)),
            computed("demand expected tomorrow", Quantity::Depth(zone.expected_demand)),
        ],
        result: Quantity::Depth(zone.refill.net),
    });
    explanation
}

/// The minutes, before cycles.
#[must_use]
pub fn minutes(zone: &ZoneTonight) -> Explanation {
    let k = &zone.resolved;
    Explanation {
        title: "Run time",
        steps: vec![
            WorkingStep {
                name: "run-time multiplier",
                formula: "1 ÷ (0.4 + 0.6 × distribution uniformity, 50 % at the least: below that repair, do not add minutes)",
                source: "Irrigation Association (from memory)",
                inputs: vec![sourced("distribution uniformity (low quarter)", k.uniformity, |v| {
                    Quantity::Percent(v.percent())
                })],
                result: Quantity::Ratio(k.multiplier),
            },
            WorkingStep {
                name: "run time",
                formula: "60 × net need × multiplier ÷ precipitation rate",
                source: "Irrigation Association scheduling (from memory)",
                inputs: vec![
                    computed("net need", Quantity::Depth(zone.refill.net)),
                    computed("run-time multiplier", Quantity::Ratio(k.multiplier)),
                    sourced("precipitation rate", k.rate, Quantity::Rate),
                ],
                result: Quantity::Time(zone.refill.run_time),
            },
        ],
        assumptions: vec!["Rounded to whole minutes, each cycle upward."],
    }
}

/// The cycles and soaks.
#[must_use]
pub fn cycles(zone: &ZoneTonight) -> Explanation {
    let k = &zone.resolved;
    let texture = zone.zone.soil;
    let asa = texture.allowable_surface_accumulation(k.slope_pct.value);
    let shared = |rate_first: bool| {
        let mut inputs = vec![
            table("surface water the slope holds (ASA)", Quantity::Depth(asa), soil::SOURCE),
            sourced("slope", k.slope_pct, Quantity::Percent),
        ];
        if rate_first {
            inputs.push(sourced("precipitation rate", k.rate, Quantity::Rate));
        }
        inputs.push(table("intake of the soil", Quantity::Rate(texture.basic_intake()), soil::SOURCE));
        inputs
    };
    let mut steps = Vec::new();
    let mut assumptions = Vec::new();
    if let Some(longest) = k.cycle_limit.longest {
        steps.push(WorkingStep {
            name: "longest cycle before runoff",
            formula: "60 × ASA ÷ (precipitation rate - intake)",
            source: "Irrigation Association (from memory)",
            inputs: shared(true),
            result: Quantity::Time(longest),
        });
        steps.push(WorkingStep {
            name: "soak until the ponded water is gone",
            formula: "60 × ASA ÷ intake",
            source: "Irrigation Association (from memory)",
            inputs: shared(false),
            result: Quantity::Time(k.cycle_limit.soak),
        });
    } else {
        assumptions.push("The soil takes water in as fast as it comes: one cycle, no soak.");
    }
    let cycles = zone.cycles.unwrap_or(zone.refill.cycles);
    steps.push(WorkingStep {
        name: "cycles",
        formula: "fewest equal cycles no longer than the limit",
        source: "cycle and soak (common practice)",
        inputs: vec![
            computed("run time", Quantity::Time(zone.refill.run_time)),
            computed("minutes of each cycle", Quantity::Count(cycles.minutes_each)),
        ],
        result: Quantity::Count(cycles.count),
    });
    if zone.cycles.is_some_and(|c| c.count > zone.refill.cycles.count) {
        assumptions.push("Zones share programs on this controller, so this zone takes more, shorter cycles.");
    }
    Explanation { title: "Cycles and soaks", steps, assumptions }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::site_account::{AccountInputs, EvidencePolicy};
    use crate::advice::tonight::{account_of, tonight};
    use crate::site::samples::lawn;
    use jiff::civil::{date, time};

    fn row() -> (ZoneTonight, Climate) {
        let site = crate::site::Site {
            name: "Test".into(),
            latitude_deg: 46.0,
            longitude_deg: 8.0,
            elevation: Metres::from_m(1040.0),
            wind_height: Metres::from_m(2.0),
            time_zone: "UTC".into(),
            units: crate::site::UnitSystem::Metric,
            windows: crate::site::windows::WaterWindows::only(crate::quantity::time::Hours {
                from: time(2, 0, 0, 0),
                until: time(6, 0, 0, 0),
            }),
            supply: None,
            drizzle: Default::default(),
            card: Default::default(),
        };
        let days: Vec<_> = (1..=14)
            .map(|d| {
                let mut day = crate::weather::DayWeather::from_temperatures(
                    date(2026, 7, d),
                    Celsius::from_c(11.0),
                    Celsius::from_c(25.0),
                );
                day.solar = Some(MegajoulesPerSquareMetre::from_mj_per_m2(25.0));
                day
            })
            .collect();
        let climate = Climate::from_record(&days, site.station());
        let facts = AccountInputs::surveyed(&site, &jiff::tz::TimeZone::UTC, &[lawn(1)], climate.clone());
        let on = date(2026, 7, 14);
        let account = account_of(&facts, EvidencePolicy::Best, on, jiff::Timestamp::UNIX_EPOCH);
        let result = tonight(&facts, &account, 1, on);
        (result.zones.into_iter().next().unwrap(), climate)
    }

    #[test]
    fn the_last_step_gives_the_number_that_is_shown() {
        let (zone, climate) = row();
        let last = |e: &Explanation| e.steps.last().unwrap().result;
        assert_eq!(last(&depletion(&zone)), Quantity::Depth(zone.depletion));
        assert_eq!(last(&need(&zone)), Quantity::Depth(zone.refill.net));
        assert_eq!(last(&minutes(&zone)), Quantity::Time(zone.refill.run_time));
        let day = climate.day(date(2026, 7, 14)).unwrap();
        assert_eq!(last(&reference_et(&climate, date(2026, 7, 14))), Quantity::Depth(day.et.et0));
    }

    #[test]
    fn filled_inputs_are_marked_with_their_rule() {
        let (_, climate) = row();
        let explanation = reference_et(&climate, date(2026, 7, 14));
        let wind = explanation.steps[0].inputs.iter().find(|i| i.name == "wind at 2 m").unwrap();
        assert_eq!(wind.origin, Some(InputOrigin::Default(Fill::WindDefault.rule())));
        let solar = explanation.steps[0].inputs.iter().find(|i| i.name == "solar radiation").unwrap();
        assert_eq!(solar.origin, Some(InputOrigin::Record));
    }

    #[test]
    fn the_depletion_step_adds_up() {
        let (zone, _) = row();
        let step = depletion(&zone).steps.pop().unwrap();
        let depth = |name: &str| match step.inputs.iter().find(|i| i.name.starts_with(name)).unwrap().quantity
        {
            Quantity::Depth(mm) => mm.mm(),
            other => panic!("{other:?}"),
        };
        let sum = depth("depletion at midnight") - depth("rain into") - depth("watering into")
            + depth("evapotranspiration")
            + depth("drainage");
        assert!((sum - zone.depletion.mm()).abs() < 1e-9);
    }
}
