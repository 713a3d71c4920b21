//! Families of sites about the judgement rather than a fault: healthy sites in awkward conditions, and schedules that are
//! wrong as a whole.

use crate::Planted;
use crate::making::Making;
use crate::see::truth;
use crate::world::{draw, draw_on};
use jiff::ToSpan;
use jiff::civil::date;
use rand::Rng;
use upland_core::controller::schedule::{Days, Settings};
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::Metres;
use upland_core::site::StationId;
use upland_core::tuning::{Cause, Looks, Sign};

fn first(seed: u64, of: impl Fn(u64) -> Option<Planted>) -> Planted {
    (0..200_u64).find_map(|again| of(seed.wrapping_mul(1013).wrapping_add(again))).unwrap()
}

/// A healthy site on the morning after a downpour: its open zones are wet, "only since the rain".
#[must_use]
pub fn after_rain(seed: u64) -> Planted {
    first(seed, |seed| {
        let showers = [&[(1, 18.0)], &[(1, 24.0)], &[(1, 35.0)]][usize::try_from(seed % 3).unwrap()];
        let mut making = Making::of(draw(seed, showers, 8));
        making.must_show = false;
        if making.world.rng.random_bool(0.7) {
            making.hang("rain_switch", |_| ());
        }
        let mut case = making.finish(Cause::NothingWrong)?;
        for zone in &mut case.visit.zones {
            zone.looks = Some(Looks::Wet);
            zone.signs.insert(Sign::AfterRain);
        }
        Some(case)
    })
}

/// A healthy site in dry weather of which somebody takes one zone for dry or wet.
#[must_use]
pub fn misread(seed: u64) -> Planted {
    let mut case = crate::planted(Cause::NothingWrong, seed);
    let at = usize::try_from(seed).unwrap() % case.visit.zones.len();
    for (k, zone) in case.visit.zones.iter_mut().enumerate() {
        zone.looks = Some(if k != at {
            Looks::Right
        } else if seed.is_multiple_of(2) {
            Looks::Dry
        } else {
            Looks::Wet
        });
    }
    case
}

/// Shallow lawns that get a week's need every seventh day: right in amount, and they wilt.
#[must_use]
pub fn wilting(seed: u64) -> Planted {
    first(seed, |seed| {
        let day = date(2026, 6, 20) + i64::try_from(seed % 60).unwrap().days();
        let mut making = Making::of(draw_on(seed, day, &[], 28));
        for station in making.world.stations() {
            making.zone_is(station, |z| z.root_depth = Some(Metres::from_m(0.15)), true);
        }
        let interval = making.world.interval;
        making.set(|s: &mut Settings| {
            // The day of the visit lies just before the next watering.
            if let Days::EveryNth { interval, first } = &mut s.programs[0].days {
                (*interval, *first) = (7, day - 70.days());
            }
            let times = s.programs[0].run_times.iter_mut();
            for (_, time) in times {
                *time = Seconds::from_min(
                    (time.minutes().min_value() * 7.0 / f64::from(interval)).round() as i64
                );
            }
        });
        // No runoff of the long runs: the soil takes them.
        for station in making.world.stations() {
            making.zone_is(station, |z| z.slope_pct = Some(0.0), true);
        }
        let account = truth(&making.truth, making.world.on, making.world.at);
        let dry = account.zones.iter().filter(|z| crate::looks_of(&z.days) == Looks::Dry).count();
        (2 * dry >= account.zones.len()).then(|| making.finish(Cause::DaysFew))?
    })
}

/// A site whose second program waters its beds three times as often as its lawns need: one cause, that program's days.
#[must_use]
pub fn beds_of_one_program(seed: u64) -> Planted {
    first(seed, |seed| {
        let mut making = Making::of(draw(seed, &[], 14));
        let stations = making.world.stations();
        if making.world.interval < 2 || stations.len() < 6 {
            return None;
        }
        let beds: Vec<u16> =
            stations.iter().copied().filter(|n| *n > u16::try_from(stations.len()).unwrap() - 3).collect();
        making.set(|s| {
            s.programs[1] = upland_core::controller::schedule::Program {
                name: s.programs[1].name.clone(),
                starts: vec![jiff::civil::time(4, 30, 0, 0)],
                days: Days::Weekdays([true; 7]),
                ..s.programs[0].clone()
            };
            s.programs[0].run_times.retain(|(n, _)| !beds.contains(n));
            s.programs[1].run_times.retain(|(n, _)| beds.contains(n));
            let both = s.percentages.of(0, date(2026, 7, 1));
            s.percentages = s.percentages.all_at(both);
        });
        making.must_show = false;
        let account = truth(&making.truth, making.world.on, making.world.at);
        let looks = |station: u16| crate::looks_of(&account.zone(StationId::new(1, station)).unwrap().days);
        let right =
            stations.iter().all(|n| looks(*n) == if beds.contains(n) { Looks::Wet } else { Looks::Right });
        right.then(|| making.finish(Cause::DaysMany))?
    })
}
