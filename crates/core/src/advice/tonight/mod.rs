//! Tonight: what each zone gets, and because of what.
//!
//! Strategy (the "soil balance" school): a zone runs when its root zone has reached the refill
//! point, or would pass it tomorrow, and is then brought back to full. Days before the chosen
//! date are replayed from the record on the assumption that each watering so advised was run;
//! the assumption is part of the result.

mod notices;

pub use notices::Notice;

use crate::account::season::{ANY_NIGHT, DemandFrom, SeasonDay, et0_of, is_due, replay, replay_start};
use crate::controller::Card;
use crate::controller::night::{self, Due, NightPlan, Shortfall};
use crate::ground::application::{self, Cycles};
use crate::ground::balance::RootZone;
use crate::quantity::ratio::Share;
use crate::quantity::units::{Litres, LitresPerMinute, Millimetres, Minutes};
use crate::site::{ResolvedZone, Site, Zone};
use crate::weather::climate::Climate;
use jiff::civil::Date;
use jiff::tz::TimeZone;

/// Rain below this is not named as a reason, mm.
const NOTABLE_RAIN_MM: f64 = 2.0;
/// Days back in which rain is named as a reason.
const NOTABLE_RAIN_DAYS: i32 = 10;
/// Furthest that the next watering is looked for, days.
const LOOK_AHEAD_DAYS: i32 = 60;
/// How the state of the soil is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StateFrom {
    /// Replayed from the record.
    Replay,
    /// No weather at all: the zone is taken to stand at its refill point.
    AssumedAtRefill,
}

/// The reason of a decision, as facts.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Because {
    /// The refill point was passed by this much.
    PastRefill {
        /// Depletion beyond the refill point.
        by: Millimetres,
    },
    /// There is less left above the refill point than tomorrow is expected to take.
    ReachesRefillTomorrow {
        /// Left above the refill point.
        left: Millimetres,
        /// Expected demand of tomorrow.
        expected: Millimetres,
    },
    /// Enough is left.
    AboveRefill {
        /// Left above the refill point.
        left: Millimetres,
        /// Latest notable rain that reached the zone.
        rain: Option<(Date, Millimetres)>,
        /// Evening of the latest advised watering, when it came after that rain.
        watered: Option<Date>,
        /// Night on which it is expected to be due without more rain.
        next: Option<Date>,
    },
    /// Too little is missing to be worth a start.
    NothingToRefill,
    /// No weather yet.
    NoWeather,
}

/// What becomes of a zone tonight.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision {
    /// It runs in full.
    Runs,
    /// It runs, but less than it needs.
    RunsShort {
        /// Minutes it would need.
        asked_minutes: u32,
    },
    /// It is due, but the window is full.
    Deferred,
    /// It is not due.
    Waits,
}

/// A watering of a zone from a given depletion to full.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Refill {
    /// Net depth.
    pub net: Millimetres,
    /// Gross depth: net × run-time multiplier.
    pub gross: Millimetres,
    /// Run time before rounding.
    pub run_time: Minutes,
    /// As the box takes it.
    pub cycles: Cycles,
}

/// Refills a zone from a depletion.
#[must_use]
pub fn refill(zone: &ResolvedZone, net: Millimetres) -> Refill {
    let run_time = application::run_time(net, zone.rate.value, zone.multiplier);
    Refill {
        net,
        gross: net * zone.multiplier,
        run_time,
        cycles: application::cycles(run_time, zone.cycle_limit),
    }
}

/// One zone tonight.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneTonight {
    /// The survey.
    pub zone: Zone,
    /// The survey with its defaults.
    pub resolved: ResolvedZone,
    /// The day whose evening is meant.
    pub date: Date,
    /// The soil store of that day.
    pub root_zone: RootZone,
    /// How the state is known.
    pub state_from: StateFrom,
    /// Depletion this evening.
    pub depletion: Millimetres,
    /// Depletion after tonight's watering.
    pub depletion_after: Millimetres,
    /// The last days of the replay, oldest first; empty without weather.
    pub replay: Vec<SeasonDay>,
    /// Demand of tomorrow, K × expected ET0.
    pub expected_demand: Millimetres,
    /// What becomes of it.
    pub decision: Decision,
    /// Why.
    pub because: Because,
    /// What it would take to bring it back to full from where it is.
    pub refill: Refill,
    /// The watering from its refill point to full: what a sheet in the box says.
    pub refill_from_refill_point: Refill,
    /// Nights between two such waterings at tomorrow's demand.
    pub interval_days: f64,
    /// What it gets tonight, cycles as laid out; `None` when it does not run.
    pub cycles: Option<Cycles>,
    /// Water for tonight, if the area is known.
    pub volume: Option<Litres>,
    /// Flow of the zone, if the area is known.
    pub flow: Option<LitresPerMinute>,
    /// Share of run time that better uniformity would save, when mending is the advice.
    pub repair_saving: Option<Share>,
}

/// A site tonight.
#[derive(Debug, Clone, PartialEq)]
pub struct Tonight {
    /// The day whose evening the night begins on.
    pub date: Date,
    /// ET0 of that day and where it came from.
    pub et0: (Millimetres, DemandFrom),
    /// Rain of that day, if recorded.
    pub rain: Option<Millimetres>,
    /// The zones, by station number.
    pub zones: Vec<ZoneTonight>,
    /// The night.
    pub night: NightPlan,
    /// What the reader must know.
    pub notices: Vec<Notice>,
}

impl Tonight {
    /// Zones that run tonight.
    pub fn running(&self) -> impl Iterator<Item = &ZoneTonight> {
        self.zones.iter().filter(|z| z.cycles.is_some())
    }
}

/// Decides the night of one box of a site; zones of other boxes are left out.
#[must_use]
pub fn tonight(
    site: &Site,
    (card, box_number): (&Card, u8),
    zones: &[Zone],
    climate: &Climate,
    date: Date,
    tz: &TimeZone,
) -> Tonight {
    let own = zones.iter().filter(|zone| zone.box_number == box_number);
    let mut rows: Vec<ZoneTonight> = own.map(|zone| decide_zone(zone, climate, date)).collect();
    rows.sort_by_key(|row| row.zone.number);

    let due: Vec<Due> = rows
        .iter()
        .filter(|row| row.decision == Decision::Runs)
        .map(|row| {
            let raw = row.root_zone.readily_available().mm().max(0.1);
            Due { number: row.zone.number, cycles: row.refill.cycles, urgency: row.depletion.mm() / raw }
        })
        .collect();
    let night = night::place(date, &due, card, site.window, tz);
    for row in &mut rows {
        apply_night(row, &night);
    }
    let notices = notices::of((site, card), &rows, climate, date, &night);
    Tonight {
        date,
        et0: et0_of(climate, date),
        rain: climate.day(date).and_then(|d| d.weather.rain),
        zones: rows,
        night,
        notices,
    }
}

fn decide_zone(zone: &Zone, climate: &Climate, date: Date) -> ZoneTonight {
    let resolved = zone.resolve(climate.station().latitude_deg);
    let root_zone = resolved.root_zone_on(date);
    let raw = root_zone.readily_available();
    let tomorrow = date.tomorrow().unwrap_or(date);
    let expected_demand = climate.expected_et0(tomorrow).0 * resolved.demand_factor_on(tomorrow);
    let start = replay_start(climate, date);
    let (state_from, replayed, depletion) = match start {
        Some(start) => {
            let days = replay((zone, &resolved), climate, (start, date), &ANY_NIGHT, &[]);
            let depletion = days.last().map_or(Millimetres::ZERO, |d| d.balance.depletion);
            (StateFrom::Replay, days, depletion)
        }
        None => (StateFrom::AssumedAtRefill, Vec::new(), raw),
    };
    let soil = Soil { raw, depletion, expected_demand };
    let (decision, because) = match state_from {
        StateFrom::AssumedAtRefill => (Decision::Runs, Because::NoWeather),
        StateFrom::Replay => {
            decide(&root_zone, soil, &replayed, || next_due(&resolved, climate, date, depletion))
        }
    };
    let interval_days =
        if expected_demand.mm() > 0.0 { raw.mm() / expected_demand.mm() } else { f64::INFINITY };
    let uniformity = resolved.uniformity;
    let repair_saving = (!uniformity.is_default() && uniformity.value < application::REPAIR_BELOW_UNIFORMITY)
        .then(|| {
            let mended = application::run_time_multiplier(zone.head.default_uniformity());
            Share::from_fraction(1.0 - mended / resolved.multiplier)
        });
    ZoneTonight {
        refill: refill(&resolved, depletion),
        refill_from_refill_point: refill(&resolved, raw),
        zone: zone.clone(),
        date,
        root_zone,
        state_from,
        depletion,
        depletion_after: depletion,
        replay: replayed,
        expected_demand,
        decision,
        because,
        interval_days,
        cycles: None,
        volume: None,
        flow: zone.area.map(|area| resolved.rate.value.flow_over(area)),
        repair_saving,
        resolved,
    }
}

/// What a decision rests on: readily available water, what is missing, and what the morrow will take.
#[derive(Clone, Copy)]
struct Soil {
    raw: Millimetres,
    depletion: Millimetres,
    expected_demand: Millimetres,
}

/// Whether a zone runs, and because of what.
fn decide(
    root_zone: &RootZone,
    soil: Soil,
    replayed: &[SeasonDay],
    next: impl FnOnce() -> Option<Date>,
) -> (Decision, Because) {
    let Soil { raw, depletion, expected_demand } = soil;
    if is_due(root_zone, depletion, expected_demand) {
        let because = if depletion >= raw {
            Because::PastRefill { by: depletion - raw }
        } else {
            Because::ReachesRefillTomorrow { left: raw - depletion, expected: expected_demand }
        };
        return (Decision::Runs, because);
    }
    if depletion + expected_demand >= raw {
        return (Decision::Waits, Because::NothingToRefill);
    }
    let lately = || replayed.iter().rev().take(usize::try_from(NOTABLE_RAIN_DAYS).unwrap_or_default());
    let rain = lately().find(|d| d.rain_in.mm() >= NOTABLE_RAIN_MM).map(|d| (d.date, d.rain_in));
    // Irrigation stands on the day after the evening it was advised on.
    let watered = lately()
        .find(|d| d.irrigation.mm() > 0.0)
        .and_then(|d| d.date.yesterday().ok())
        .filter(|evening| rain.is_none_or(|(on, _)| *evening >= on));
    (Decision::Waits, Because::AboveRefill { left: raw - depletion, rain, watered, next: next() })
}

/// The next night on which a zone is expected to be due without more rain.
fn next_due(zone: &ResolvedZone, climate: &Climate, date: Date, depletion: Millimetres) -> Option<Date> {
    let mut depletion = depletion;
    let mut day = date;
    for _ in 0..LOOK_AHEAD_DAYS {
        day = day.tomorrow().ok()?;
        depletion = depletion + climate.expected_et0(day).0 * zone.demand_factor_on(day);
        let after = day.tomorrow().ok()?;
        let following = climate.expected_et0(after).0 * zone.demand_factor_on(after);
        if is_due(&zone.root_zone_on(day), depletion, following) {
            return Some(day);
        }
    }
    None
}

/// Takes over what the night could hold.
fn apply_night(row: &mut ZoneTonight, night: &NightPlan) {
    let number = row.zone.number;
    let runs: Vec<_> = night.layout.runs.iter().filter(|r| r.number == number).collect();
    if let Some(first) = runs.first() {
        let cycles = Cycles {
            count: u32::try_from(runs.len()).unwrap_or(u32::MAX),
            minutes_each: first.minutes,
            soak_minutes: if runs.len() > 1 { row.refill.cycles.soak_minutes } else { 0 },
        };
        let applied = Minutes::from_min(f64::from(cycles.total_minutes()));
        let gross = row.resolved.rate.value.over_time(applied);
        let net = gross * (1.0 / row.resolved.multiplier);
        row.depletion_after = (row.depletion - net).max(Millimetres::ZERO);
        row.volume = row.zone.area.map(|area| gross.over(area));
        row.cycles = Some(cycles);
    }
    match night.shortfalls.iter().find(|(n, _)| *n == number) {
        Some((_, Shortfall::Deferred)) => row.decision = Decision::Deferred,
        Some((_, Shortfall::Cut { asked_minutes })) => {
            row.decision = Decision::RunsShort { asked_minutes: *asked_minutes };
        }
        None => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::twelve_stations;
    use crate::quantity::time::Hours;
    use crate::quantity::units::{Celsius, Metres};
    use crate::site::{UnitSystem, samples::lawn};
    use crate::weather::DayWeather;
    use jiff::ToSpan;
    use jiff::civil::{date, time};
    use proptest::prelude::*;

    fn site() -> Site {
        Site {
            name: "Test slope".into(),
            latitude_deg: 46.0,
            longitude_deg: 8.0,
            elevation: Metres::from_m(1040.0),
            wind_height: Metres::from_m(2.0),
            time_zone: "Etc/GMT-2".into(),
            units: UnitSystem::Metric,
            window: Hours { from: time(2, 0, 0, 0), until: time(6, 0, 0, 0) },
            supply: None,
        }
    }

    /// Forty days to 14 July, dry but for rain on the given number of days back.
    fn climate(rain_days_back: &[(i32, f64)]) -> Climate {
        let end = date(2026, 7, 14);
        let days: Vec<_> = (0..40)
            .map(|back| {
                let on = end - back.days();
                let mut day = DayWeather::from_temperatures(on, Celsius::from_c(11.0), Celsius::from_c(25.0));
                let rain = rain_days_back.iter().find(|(b, _)| *b == back).map_or(0.0, |(_, mm)| *mm);
                day.rain = Some(Millimetres::from_mm(rain));
                day
            })
            .collect();
        Climate::from_record(&days, site().station())
    }

    fn decide(zones: &[Zone], climate: &Climate) -> Tonight {
        tonight(&site(), (&twelve_stations(), 1), zones, climate, date(2026, 7, 14), &TimeZone::UTC)
    }

    #[test]
    fn heavy_rain_today_holds_the_zone_and_is_named() {
        let result = decide(&[lawn(1)], &climate(&[(0, 25.0)]));
        let row = &result.zones[0];
        assert_eq!(row.decision, Decision::Waits);
        let Because::AboveRefill { rain: Some((on, amount)), next: Some(_), .. } = row.because else {
            panic!("{:?}", row.because)
        };
        assert_eq!((on, amount.mm()), (date(2026, 7, 14), 25.0));
        assert_eq!(result.night.first_start, None);
    }

    #[test]
    fn rain_does_not_reach_a_zone_under_glass() {
        let mut under_glass = lawn(2);
        under_glass.sky = crate::ground::plant::Sky::UnderGlass;
        let wet = decide(&[under_glass.clone()], &climate(&[(0, 25.0)]));
        let dry = decide(&[under_glass], &climate(&[]));
        assert_eq!(wet.zones[0].depletion, dry.zones[0].depletion);
    }

    #[test]
    fn a_dry_spell_refills_to_full_within_the_window() {
        let zones: Vec<Zone> = (1..=3).map(lawn).collect();
        let climate = climate(&[]);
        // On some night of any week a lawn is due.
        let due = (0..7)
            .map(|back| {
                tonight(
                    &site(),
                    (&twelve_stations(), 1),
                    &zones,
                    &climate,
                    date(2026, 7, 14) - back.days(),
                    &TimeZone::UTC,
                )
            })
            .find(|t| t.running().count() == 3)
            .unwrap();
        let row = &due.zones[0];
        assert!(row.depletion_after.mm() < 0.3, "whole minutes leave little: {:?}", row.depletion_after);
        let cycles = row.cycles.unwrap();
        let asked =
            row.depletion.mm() * row.resolved.multiplier / row.resolved.rate.value.mm_per_hour() * 60.0;
        assert!((f64::from(cycles.total_minutes()) - asked).abs() <= 0.5 + f64::from(cycles.count));
        assert!(due.night.last_end().unwrap() <= due.night.window_until);
    }

    #[test]
    fn without_weather_the_sheet_is_from_the_refill_point() {
        let result = decide(&[lawn(1)], &Climate::from_record(&[], site().station()));
        assert_eq!(result.notices, [Notice::NoWeather]);
        let row = &result.zones[0];
        assert_eq!((row.because, row.decision), (Because::NoWeather, Decision::Runs));
        assert_eq!(row.depletion, row.root_zone.readily_available());
    }

    #[test]
    fn notices_name_gaps_stale_records_supply_and_box() {
        let climate = climate(&[]);
        let mut site = site();
        site.supply = Some(LitresPerMinute::from_l_per_min(10.0));
        let card = Card { stations: 2, ..twelve_stations() };
        let mut zone = lawn(3);
        zone.area = Some(crate::quantity::units::SquareMetres::from_m2(100.0));
        let later = date(2026, 7, 20);
        let result = tonight(&site, (&card, 1), &[zone], &climate, later, &TimeZone::UTC);
        assert!(matches!(result.notices[0], Notice::RecordEnds { days: 6, .. }));
        assert!(result.notices.iter().any(|n| matches!(n, Notice::SupplyExceeded { number: 3, .. })));
        assert!(result.notices.iter().any(|n| matches!(n, Notice::BeyondBox { number: 3, stations: 2 })));
    }

    proptest! {
        #[test]
        fn more_rain_today_never_asks_for_more_water(rain in 0.0..40.0_f64, more in 0.0..40.0_f64) {
            let need = |mm: f64| decide(&[lawn(1)], &climate(&[(0, mm)])).zones[0].refill.net;
            prop_assert!(need(rain + more).mm() <= need(rain).mm() + 1e-9);
        }

        #[test]
        fn a_replay_conserves_water(rain in proptest::collection::vec(0.0..60.0_f64, 40)) {
            let pairs: Vec<_> = (0..40).zip(rain).collect();
            let climate = climate(&pairs);
            let zone = lawn(1);
            let days = replay((&zone, &zone.resolve(46.0)), &climate, (date(2026, 6, 5), date(2026, 7, 14)), &ANY_NIGHT, &[]);
            let flows: f64 = days.iter().map(|d| {
                d.balance.evapotranspiration.mm() + d.balance.drainage.mm() - d.rain_in.mm() - d.irrigation.mm()
            }).sum();
            let end = days.last().unwrap().balance.depletion.mm();
            prop_assert!((end - flows).abs() < 1e-6);
        }
    }
}
