//! The past of a zone, day by day: its record through the soil balance, with the watering that was
//! advised, scheduled or logged, and set right by readings from the field.

use crate::controller::Card;
use crate::controller::schedule::{self, Settings};
use crate::ground::balance::{DayBalance, DayWater, RootZone};
use crate::quantity::ratio::Share;
use crate::quantity::units::{Millimetres, Minutes};
use crate::site::{ResolvedZone, Zone};
use crate::weather::climate::{Climate, ExpectedFrom};
use jiff::ToSpan;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;

/// Days of record replayed before the chosen date; long enough that the start no longer matters.
const REPLAY_DAYS: i32 = 365;
/// Hours that a day's rain is spread over when only its sum is known (our stated default).
pub const RAIN_HOURS: f64 = 6.0;
/// A refill smaller than this share of the readily available water is not worth a start.
const SMALLEST_REFILL_SHARE: f64 = 0.25;

/// Where a day's ET0 came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DemandFrom {
    /// The site's record of that day.
    Record,
    /// Expected, for want of a record of that day.
    Expected(ExpectedFrom),
}

/// A reading from the field: what is left of the available water at the end of a day.
#[derive(Debug, Clone, PartialEq)]
pub struct FieldReading {
    /// The day.
    pub date: Date,
    /// Share of the available water that is left, a fraction.
    pub available_share: Share,
    /// How it was found.
    pub reason: String,
}

/// What waters a zone in a replay.
pub enum Watering<'a> {
    /// To full whenever it is due and the night is allowed; a deficit carries over other nights.
    AsAdvised {
        /// Whether watering may run in the night that begins on a date.
        allowed: &'a dyn Fn(Date) -> bool,
    },
    /// Run time by date, as scheduled or as logged.
    Minutes(&'a BTreeMap<Date, Minutes>),
}

/// Every night allowed.
pub const ANY_NIGHT: Watering<'static> = Watering::AsAdvised { allowed: &|_| true };

/// One day of a zone's replay.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SeasonDay {
    /// The day.
    pub date: Date,
    /// Its reference ET.
    pub et0: Millimetres,
    /// Where that came from.
    pub demand_from: DemandFrom,
    /// What the plants asked for.
    pub demand: Millimetres,
    /// Rain on the gauge.
    pub rain: Millimetres,
    /// Rain that entered the soil.
    pub rain_in: Millimetres,
    /// Net irrigation of the night before.
    pub irrigation: Millimetres,
    /// The refill point of the day; a grow-in moves it.
    pub refill_at: Millimetres,
    /// End of the day.
    pub balance: DayBalance,
    /// Depletion before a field reading set it, when one did.
    pub reset_from: Option<Millimetres>,
}

/// ET0 of a day: recorded, else expected.
#[must_use]
pub fn et0_of(climate: &Climate, date: Date) -> (Millimetres, DemandFrom) {
    match climate.day(date) {
        Some(day) => (day.et.et0.max(Millimetres::ZERO), DemandFrom::Record),
        None => {
            let (et0, from) = climate.expected_et0(date);
            (et0, DemandFrom::Expected(from))
        }
    }
}

/// Most rain of a day that enters the soil of a zone: what its basic intake takes in
/// [`RAIN_HOURS`] and what may stand on it.
#[must_use]
pub fn rain_bound(zone: &Zone, resolved: &ResolvedZone) -> Millimetres {
    Millimetres::from_mm(
        zone.soil.basic_intake().mm_per_hour() * RAIN_HOURS
            + zone.soil.allowable_surface_accumulation(resolved.slope_pct.value).mm(),
    )
}

/// What a day brings to every zone of a site; see [`steps`].
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DayStep {
    date: Date,
    et0: Millimetres,
    demand_from: DemandFrom,
    rain: Millimetres,
    /// Expected ET0 of the day after.
    expected_next: Millimetres,
}

/// The days of a span, both ends included, looked up once for all zones of a site.
#[must_use]
pub fn steps(climate: &Climate, (from, to): (Date, Date)) -> Vec<DayStep> {
    let mut out = Vec::new();
    let mut date = from;
    while date <= to {
        let (et0, demand_from) = et0_of(climate, date);
        let rain = climate.day(date).and_then(|d| d.weather.rain).unwrap_or(Millimetres::ZERO);
        let Ok(next) = date.tomorrow() else { break };
        out.push(DayStep { date, et0, demand_from, rain, expected_next: climate.expected_et0(next).0 });
        date = next;
    }
    out
}

/// Replays a zone over a span of days, both ends included, from full. `readings` are in order of
/// their dates.
#[must_use]
pub fn replay(
    zone: (&Zone, &ResolvedZone),
    climate: &Climate,
    span: (Date, Date),
    watering: &Watering,
    readings: &[FieldReading],
) -> Vec<SeasonDay> {
    replay_steps(zone, &steps(climate, span), watering, readings)
}

/// As [`replay`], over days that were looked up before: a site's zones share them.
#[must_use]
pub fn replay_steps(
    (zone, resolved): (&Zone, &ResolvedZone),
    steps: &[DayStep],
    watering: &Watering,
    readings: &[FieldReading],
) -> Vec<SeasonDay> {
    let bound = rain_bound(zone, resolved);
    let mut days = Vec::with_capacity(steps.len());
    let mut depletion = Millimetres::ZERO;
    let mut due = Millimetres::ZERO;
    let first = steps.first().map_or(Date::MAX, |s| s.date);
    let mut readings = readings.iter().skip_while(|r| r.date < first).peekable();
    for (i, step) in steps.iter().enumerate() {
        let date = step.date;
        let root_zone = resolved.root_zone_on(date);
        let rain_in = (step.rain * resolved.rain_share.fraction()).min(bound);
        let irrigation = match watering {
            Watering::AsAdvised { .. } => due,
            Watering::Minutes(minutes) => {
                minutes.get(&date).map_or(Millimetres::ZERO, |m| resolved.net_of(*m))
            }
        };
        let demand = step.et0 * resolved.demand_factor_on(date);
        // A grow-in that begins makes the store smaller: no more can be missing than it holds.
        let before = depletion.min(root_zone.total_available);
        let mut balance = root_zone.day(before, DayWater { demand, rain: rain_in, irrigation });
        let mut reset_from = None;
        while let Some(reading) = readings.next_if(|r| r.date <= date) {
            reset_from.get_or_insert(balance.depletion);
            balance.depletion = read_depletion(&root_zone, reading);
        }
        days.push(SeasonDay {
            date,
            et0: step.et0,
            demand_from: step.demand_from,
            demand,
            rain: step.rain,
            rain_in,
            irrigation,
            refill_at: root_zone.readily_available(),
            balance,
            reset_from,
        });
        depletion = balance.depletion;
        let Some(next) = steps.get(i + 1).map(|s| s.date) else { break };
        if let Watering::AsAdvised { allowed } = watering {
            let expected = step.expected_next * resolved.demand_factor_on(next);
            let is_due = allowed(date) && is_due(&root_zone, depletion, expected);
            due = if is_due { depletion } else { Millimetres::ZERO };
        }
    }
    days
}

fn read_depletion(root_zone: &RootZone, reading: &FieldReading) -> Millimetres {
    root_zone.total_available * (1.0 - reading.available_share.fraction().clamp(0.0, 1.0))
}

pub(crate) fn is_due(root_zone: &RootZone, depletion: Millimetres, expected: Millimetres) -> bool {
    let raw = root_zone.readily_available();
    depletion + expected >= raw && depletion >= raw * SMALLEST_REFILL_SHARE
}

/// First day of the replay: a year back or the first recorded day; `None` without any record
/// before the date.
#[must_use]
pub fn replay_start(climate: &Climate, date: Date) -> Option<Date> {
    let (first, _) = climate.span()?;
    if first > date {
        return None;
    }
    let back = date.checked_sub(REPLAY_DAYS.days()).unwrap_or(first);
    Some(first.max(back))
}

/// Run time of a station by the date on which its runs begin, from versions of settings each with
/// the first day it counts. Days before the first version have none.
#[must_use]
pub fn scheduled_minutes(
    versions: &[(Date, &Settings)],
    card: &Card,
    tz: &TimeZone,
    (from, to): (Date, Date),
) -> BTreeMap<u16, BTreeMap<Date, Minutes>> {
    let mut out: BTreeMap<u16, BTreeMap<Date, Minutes>> = BTreeMap::new();
    for (i, (since, settings)) in versions.iter().enumerate() {
        let until = versions.get(i + 1).and_then(|(next, _)| next.yesterday().ok()).unwrap_or(to).min(to);
        let since = (*since).max(from);
        if since > until {
            continue;
        }
        for run in schedule::expand(settings, card, tz, since, until) {
            if settings.station(run.station).lighting {
                continue;
            }
            let day = run.start.to_zoned(tz.clone()).date();
            let slot = out.entry(run.station).or_default().entry(day).or_default();
            *slot = *slot + run.length().minutes();
        }
    }
    out
}

/// A season in a few sums.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct SeasonSum {
    /// What the plants asked for.
    pub demand: Millimetres,
    /// What they got of it.
    pub met: Millimetres,
    /// Rain that entered the soil.
    pub rain_in: Millimetres,
    /// Net irrigation.
    pub irrigation: Millimetres,
    /// Water that drained below the roots.
    pub drainage: Millimetres,
    /// Days on which plants were short of water.
    pub stress_days: u32,
    /// Days.
    pub days: u32,
}

/// Sums some days of a replay.
#[must_use]
pub fn sum(days: &[SeasonDay]) -> SeasonSum {
    days.iter().fold(SeasonSum::default(), |s, d| SeasonSum {
        demand: s.demand + d.demand,
        met: s.met + d.balance.evapotranspiration,
        rain_in: s.rain_in + d.rain_in,
        irrigation: s.irrigation + d.irrigation,
        drainage: s.drainage + d.balance.drainage,
        stress_days: s.stress_days + u32::from(d.balance.stress_coefficient < 1.0),
        days: s.days + 1,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::twelve_stations;
    use crate::quantity::time::Seconds;
    use crate::quantity::units::{Celsius, Metres};
    use crate::site::samples::lawn;
    use crate::weather::{DayWeather, Station};
    use jiff::civil::{date, time};

    fn station() -> Station {
        Station {
            latitude_deg: 46.0,
            longitude_deg: 8.0,
            elevation: Metres::from_m(1000.0),
            wind_height: Metres::from_m(2.0),
        }
    }

    fn dry_june() -> Climate {
        let days: Vec<_> = (0..30)
            .map(|i| {
                let on = date(2026, 6, 1) + i.days();
                let mut day = DayWeather::from_temperatures(on, Celsius::from_c(11.0), Celsius::from_c(25.0));
                day.rain = Some(Millimetres::ZERO);
                day
            })
            .collect();
        Climate::from_record(&days, station())
    }

    fn run(watering: &Watering, readings: &[FieldReading]) -> Vec<SeasonDay> {
        let zone = lawn(1);
        let resolved = zone.resolve(46.0);
        replay((&zone, &resolved), &dry_june(), (date(2026, 6, 1), date(2026, 6, 30)), watering, readings)
    }

    #[test]
    fn a_deficit_carries_over_forbidden_nights() {
        let free = run(&ANY_NIGHT, &[]);
        // Only the 10th and the 20th are allowed.
        let held = run(&Watering::AsAdvised { allowed: &|d| d.day() % 10 == 0 }, &[]);
        let watered: Vec<_> = held.iter().filter(|d| d.irrigation.mm() > 0.0).map(|d| d.date.day()).collect();
        assert_eq!(watered, [11, 21], "the mornings after");
        let first = held.iter().find(|d| d.irrigation.mm() > 0.0).unwrap();
        let before = held.iter().find(|d| d.date == date(2026, 6, 10)).unwrap();
        assert_eq!(first.irrigation, before.balance.depletion, "all that was missing comes at once");
        assert!(
            first.irrigation > free.iter().map(|d| d.irrigation).fold(Millimetres::ZERO, Millimetres::max)
        );
        assert!(sum(&held).stress_days > sum(&free).stress_days);
    }

    #[test]
    fn a_field_reading_sets_the_balance_and_keeps_what_it_was() {
        let reading = FieldReading {
            date: date(2026, 6, 3),
            available_share: Share::from_fraction(0.5),
            reason: "probe".into(),
        };
        let none = BTreeMap::new();
        let days = run(&Watering::Minutes(&none), &[reading]);
        let computed = run(&Watering::Minutes(&none), &[]);
        let (day, was) = (days[2], computed[2].balance.depletion);
        assert_eq!(day.reset_from, Some(was));
        assert!((day.balance.depletion.mm() - 12.75).abs() < 1e-9, "half of 25.5 mm");
        assert_eq!(days[1], computed[1]);
    }

    #[test]
    fn scheduled_minutes_follow_the_version_in_force() {
        let card = twelve_stations();
        let mut first = Settings::clean(&card);
        first.programs[0].active = true;
        first.programs[0].starts = vec![time(2, 0, 0, 0)];
        first.set_run_time(0, 1, Seconds::from_s(600));
        let mut second = first.clone();
        second.set_run_time(0, 1, Seconds::from_s(1200));
        let minutes = scheduled_minutes(
            &[(date(2026, 6, 1), &first), (date(2026, 6, 10), &second)],
            &card,
            &TimeZone::UTC,
            (date(2026, 5, 20), date(2026, 6, 12)),
        );
        let station: Vec<_> = minutes[&1].iter().map(|(d, m)| (d.day(), m.min_value())).collect();
        assert_eq!(station.len(), 12);
        assert_eq!((station[0], station[8], station[9]), ((1, 10.0), (9, 10.0), (10, 20.0)));
        // 31.75 mm/h for 10 min at a uniformity of 0.6 (multiplier 1.316) is 4.02 mm net.
        let days = run(&Watering::Minutes(&minutes[&1]), &[]);
        assert!((days[0].irrigation.mm() - 31.75 / 6.0 * 0.76).abs() < 1e-9);
    }
}
