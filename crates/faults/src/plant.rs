//! One fault each: how it changes what is true, what is known, and what can be seen of it.

use crate::Planted;
use crate::making::Making;
use crate::see::{LEFT_EMPTY, truth};
use crate::world::{Showers, draw, draw_on, percentage, weather_pct};
use jiff::civil::{date, time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use rand::Rng;
use upland_core::controller::Overlap;
use upland_core::controller::schedule::{Days, Settings};
use upland_core::ground::plant::Sky;
use upland_core::ground::planting::{GrowIn, OwnCoefficient, WeanOff};
use upland_core::ground::soil::Texture;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::time::{Seconds, midnight};
use upland_core::quantity::units::{LitresPerMinute, Metres, Millimetres};
use upland_core::sensors::state::{Cause as HoldCause, Hold};
use upland_core::sensors::{Reading, Readings, Release};
use upland_core::site::{StationId, SurveyedZone};
use upland_core::tuning::{Cause, Looks, SensorSeen, Sign};

/// Every cause that can be planted.
pub const CAUSES: [Cause; 34] = [
    Cause::NoWater,
    Cause::ValveOpen,
    Cause::BrokenHead,
    Cause::BlockedHeads,
    Cause::LowPressure,
    Cause::TwoAtOnce,
    Cause::RateWrong,
    Cause::PlantsWrong,
    Cause::SoilWrong,
    Cause::RunoffCycles,
    Cause::MinutesWrong,
    Cause::PercentageStale,
    Cause::PercentageLow,
    Cause::PercentageHigh,
    Cause::DaysFew,
    Cause::DaysMany,
    Cause::HiddenProgram,
    Cause::ExtraStart,
    Cause::ClockWrong,
    Cause::ControllerOff,
    Cause::BypassLeft,
    Cause::GaugeSheltered,
    Cause::GaugeSprayed,
    Cause::SensorSlowToDry,
    Cause::ThresholdSmall,
    Cause::ProbeThresholdHigh,
    Cause::ProbeThresholdLow,
    Cause::SensorOnRoofedZone,
    Cause::SensorIgnored,
    Cause::EtTrim,
    Cause::EtClimate,
    Cause::GrowInOver,
    Cause::WeanOffDue,
    Cause::Leak,
];

/// Rain of the fortnight for causes that need some.
const HELD: Showers = &[(13, 26.0), (8, 24.0), (4, 22.0)];
const DRIZZLES: Showers = &[(13, 4.0), (11, 4.5), (8, 4.0), (6, 4.5), (3, 4.0), (1, 3.8)];
const ONE: Showers = &[(12, 18.0)];
const SOAKING: Showers = &[(9, 18.0), (5, 16.0), (1, 16.0)];

/// Draws a case of a cause by seed: worlds in which it does not show are drawn again.
#[must_use]
pub fn planted(cause: Cause, seed: u64) -> Planted {
    (0..200_u64).find_map(|again| plant(cause, seed.wrapping_mul(1009).wrapping_add(again))).unwrap()
}

fn plant(cause: Cause, seed: u64) -> Option<Planted> {
    match cause {
        Cause::NothingWrong => nothing(seed),
        Cause::NoWater
        | Cause::ValveOpen
        | Cause::BrokenHead
        | Cause::BlockedHeads
        | Cause::LowPressure
        | Cause::Leak => heads(cause, seed),
        Cause::RateWrong | Cause::PlantsWrong | Cause::SoilWrong | Cause::RunoffCycles | Cause::TwoAtOnce => {
            survey(cause, seed)
        }
        Cause::MinutesWrong
        | Cause::PercentageStale
        | Cause::PercentageLow
        | Cause::PercentageHigh
        | Cause::DaysFew
        | Cause::DaysMany
        | Cause::GrowInOver
        | Cause::WeanOffDue => settings(cause, seed),
        Cause::HiddenProgram
        | Cause::ExtraStart
        | Cause::ClockWrong
        | Cause::ControllerOff
        | Cause::BypassLeft => the_controller(cause, seed),
        Cause::EtTrim | Cause::EtClimate => et(cause, seed),
        Cause::ProbeThresholdHigh | Cause::ProbeThresholdLow => probe(cause, seed),
        _ => rain(cause, seed),
    }
}

fn nothing(seed: u64) -> Option<Planted> {
    let mut making = Making::of(draw(seed, &[], 6));
    making.must_show = false;
    if making.world.rng.random_bool(0.5) {
        making.hang("rain_switch", |_| ());
    }
    let account = truth(&making.truth, making.world.on, making.world.at);
    // A world that is not right of itself is none in which nothing is wrong.
    let right =
        |zone: &upland_core::account::site_account::ZoneAccount| crate::looks_of(&zone.days) == Looks::Right;
    account.zones.iter().all(right).then(|| making.finish(Cause::NothingWrong))?
}

fn heads(cause: Cause, seed: u64) -> Option<Planted> {
    let mut making = Making::of(draw(seed, &[], 14));
    match cause {
        Cause::NoWater => {
            let station = making.at_one();
            making.really(12, |s| s.programs[0].run_times.retain(|(n, _)| *n != station));
            making.sign(station, Sign::NoWater, 0.85);
        }
        Cause::ValveOpen => {
            let station = making.at_one();
            making.really(9, |s| {
                s.programs[1].active = true;
                s.programs[1].starts = vec![time(8, 0, 0, 0)];
                s.programs[1].days = Days::Weekdays([true; 7]);
                s.set_run_time(1, station, Seconds::from_min(90));
            });
            making.sign(station, Sign::RunsWhenOff, 0.88);
        }
        Cause::BrokenHead => {
            let station = making.at_one();
            making.zone_rate(station, 1.9);
            making.signs.entry(station).or_default().push(Sign::Broken);
            making.sign(station, Sign::WetPatches, 0.6);
            making.flows.insert(station, 1.0);
            making.must_show = false;
        }
        Cause::BlockedHeads => {
            let station = making.at_one();
            making.zone_rate(station, 0.55);
            making.sign(station, Sign::Blocked, 0.9);
            making.sign(station, Sign::DryPatches, 0.6);
            making.flows.insert(station, 1.0);
        }
        Cause::LowPressure => {
            for station in making.world.stations() {
                making.zone_rate(station, 0.6);
                making.sign(station, Sign::WeakSpray, 0.75);
            }
        }
        _ => {
            making.must_show = false;
            making.meter_times = making.world.rng.random_range(1.25..1.7);
            making.wet_elsewhere = making.world.rng.random_bool(0.9);
        }
    }
    making.finish(cause)
}

// Long: one cause after another.
fn survey(cause: Cause, seed: u64) -> Option<Planted> {
    let mut making = Making::of(draw(seed, &[], 14));
    match cause {
        Cause::RateWrong => {
            let station = making.at_one();
            // Nobody measured it.
            making.zone_is(station, |z| z.precipitation_rate = None, true);
            let times = making.factor((0.45, 0.65), (1.6, 2.2));
            making.zone_rate(station, times);
            making.flows.insert(station, 1.0);
        }
        Cause::PlantsWrong => {
            let station = making.at_one();
            let now = making.known.zone(StationId::new(1, station))?.resolved.coefficient_on(making.world.on);
            let times = making.factor((0.4, 0.6), (1.4, 1.8));
            making.zone_is(
                station,
                |z| z.own_coefficient = Some(OwnCoefficient::Constant(now * times)),
                false,
            );
            making.sign(station, Sign::OtherPlants, 0.9);
        }
        Cause::SoilWrong => {
            let station = making.at_one();
            making.zone_is(station, |z| z.soil = Texture::ClayLoam, true);
            making.zone_is(station, |z| z.soil = Texture::Sand, false);
            making.soil = Some((station, Texture::Sand));
        }
        Cause::RunoffCycles => {
            let station = making.at_one();
            making.zone_is(
                station,
                |z| {
                    z.soil = Texture::Clay;
                    z.slope_pct = Some(14.0);
                },
                true,
            );
            making.set(|s| s.stations.retain(|(n, _)| *n != station));
            let longest = making.known.zone(StationId::new(1, station))?.resolved.cycle_limit.longest?;
            if making.world.settings().run_time(0, station).minutes().min_value() < 1.5 * longest.min_value()
            {
                return None;
            }
            making.signs.entry(station).or_default().push(Sign::Runoff);
            making.must_show = false;
        }
        _ => {
            let supply = making.known.zones.iter().map(|SurveyedZone { zone: z, resolved: r }| {
                r.rate.value.flow_over(z.area.unwrap()).l_per_min()
            });
            let supply = LitresPerMinute::from_l_per_min(supply.fold(0.0, f64::max) * 1.1);
            let half: Vec<u16> = making.world.stations().into_iter().filter(|n| n % 2 == 0).collect();
            for facts in [&mut making.known, &mut making.truth] {
                facts.site.supply = Some(supply);
                facts.controllers[0].card.overlap = Overlap::Concurrent;
            }
            making.set(|s| {
                s.programs[1] = upland_core::controller::schedule::Program {
                    name: s.programs[1].name.clone(),
                    ..s.programs[0].clone()
                };
                s.programs[0].run_times.retain(|(n, _)| !half.contains(n));
                s.programs[1].run_times.retain(|(n, _)| half.contains(n));
                let both = s.percentages.of(0, date(2026, 7, 1));
                s.percentages = s.percentages.all_at(both);
            });
            for station in making.world.stations() {
                making.zone_rate(station, 0.6);
                making.sign(station, Sign::WeakSpray, 0.7);
                making.sign(station, Sign::OtherRunning, 0.6);
            }
        }
    }
    making.finish(cause)
}

// Long: one cause after another.
fn settings(cause: Cause, seed: u64) -> Option<Planted> {
    let on = match cause {
        Cause::PercentageStale if seed.is_multiple_of(2) => {
            Some(date(2026, 7, 5) + i64::try_from(seed % 30).unwrap().days())
        }
        Cause::PercentageStale => Some(date(2026, 9, 18) + i64::try_from(seed % 20).unwrap().days()),
        _ => None,
    };
    let world = on.map_or_else(|| draw(seed, &[], 14), |on| draw_on(seed, on, &[], 14));
    let mut making = Making::of(world);
    let pct = weather_pct(&making.known, making.world.on);
    let scale = |s: &mut Settings, station: u16, times: f64| {
        let now = s.run_time(0, station);
        let minutes = (now.minutes().min_value() * times).round().max(1.0);
        s.set_run_time(0, station, Seconds::from_min(minutes as i64));
    };
    match cause {
        Cause::MinutesWrong => {
            let station = making.at_one();
            let times = making.factor((0.4, 0.6), (1.7, 2.2));
            if making.world.rng.random_bool(0.6) {
                making.set(|s| scale(s, station, times));
            } else {
                making.really(14, |s| scale(s, station, times));
                let shown = making.truth.controllers[0].settings_at(making.world.at)?.run_time(0, station);
                making.shown.entry(0).or_default().minutes.insert(station, shown);
            }
        }
        Cause::PercentageStale => {
            // Set for another season, and never turned since.
            let stale = if making.world.on < date(2026, 9, 1) { 0.55 } else { 1.8 };
            let value = (pct * stale).clamp(20.0, 190.0);
            making.set(|s| s.percentages = percentage(&s.percentages, value));
        }
        Cause::PercentageLow | Cause::PercentageHigh => {
            let times = if cause == Cause::PercentageLow { 0.55 } else { 1.75 };
            let value = (pct * times).min(190.0);
            if making.world.rng.random_bool(0.5) {
                making.really(14, |s| s.percentages = percentage(&s.percentages, value));
                let shown = making.truth.controllers[0]
                    .settings_at(making.world.at)?
                    .percentages
                    .of(0, making.world.on);
                making.shown.entry(0).or_default().percentage = Some(shown);
            } else {
                let last = making.known.controllers[0].versions.len() - 1;
                let since = midnight(making.world.on - 15.days(), &TimeZone::UTC);
                for facts in [&mut making.known, &mut making.truth] {
                    let version = &mut facts.controllers[0].versions[last];
                    version.0 = since;
                    version.1.percentages = percentage(&version.1.percentages, value);
                }
            }
        }
        Cause::DaysFew | Cause::DaysMany => {
            let interval = making.world.interval;
            let few = cause == Cause::DaysFew;
            if !few && interval < 2 {
                return None;
            }
            let next = if few { interval * 2 } else { interval / 2 };
            making.set(|s| {
                if let Days::EveryNth { interval, .. } = &mut s.programs[0].days {
                    *interval = next;
                }
            });
        }
        Cause::GrowInOver => {
            let station = making.at_one();
            let until = making.world.on - 18.days();
            let from = until - 40.days();
            let grow_in = GrowIn { from, until, factor: 1.2, root_depth: Metres::from_m(0.08) };
            making.zone_is(station, |z| z.planting.grow_in = Some(grow_in), true);
            // Set in the grow-in, and not since.
            making.set(|s| scale(s, station, 1.9));
            let since = midnight(from, &TimeZone::UTC);
            for facts in [&mut making.known, &mut making.truth] {
                let (_, last) = facts.controllers[0].versions.pop().unwrap();
                facts.controllers[0].versions.push((since, last));
            }
        }
        _ => {
            let station = making.at_one();
            let from = making.world.on - 29.days();
            let wean = WeanOff { from, weeks: 5, start: Share::from_percent(185.0) };
            making.zone_is(station, |z| z.planting.wean_off = Some(wean), true);
            making.set(|s| scale(s, station, 1.85));
            let since = midnight(from, &TimeZone::UTC);
            for facts in [&mut making.known, &mut making.truth] {
                let (_, last) = facts.controllers[0].versions.pop().unwrap();
                facts.controllers[0].versions.push((since, last));
            }
        }
    }
    making.finish(cause)
}

fn the_controller(cause: Cause, seed: u64) -> Option<Planted> {
    let showers = if cause == Cause::BypassLeft { SOAKING } else { &[] };
    let mut making = Making::of(draw(seed, showers, 14));
    match cause {
        Cause::HiddenProgram => {
            making.really(14, |s| {
                s.programs[2] = upland_core::controller::schedule::Program {
                    name: s.programs[2].name.clone(),
                    starts: vec![time(15, 0, 0, 0)],
                    days: Days::Weekdays([true; 7]),
                    ..s.programs[0].clone()
                };
            });
            making.shown.entry(2).or_default().on = Some(true);
            for station in making.world.stations() {
                making.sign(station, Sign::RunsWhenOff, 0.15);
            }
        }
        Cause::ExtraStart => {
            making.really(14, |s| s.programs[0].starts = vec![time(0, 0, 0, 0), time(4, 30, 0, 0)]);
            making.shown.entry(0).or_default().starts = Some(vec![time(0, 0, 0, 0), time(4, 30, 0, 0)]);
        }
        Cause::ClockWrong => {
            let off = if making.world.rng.random_bool(0.5) {
                43_200
            } else {
                making.world.rng.random_range(900..9000)
            };
            making.own.clock_ahead = Some(Seconds::from_s(off));
            making.must_show = false;
        }
        Cause::ControllerOff => {
            making.really(11, |s| s.programs[0].active = false);
            making.own.on = Some(false);
            if making.world.rng.random_bool(0.1) {
                making.own.on = None;
            }
        }
        _ => {
            making.hang("rain_switch", |_| ());
            making.truth.controllers[0].sensors.clear();
            making.own.bypassed = Some(true);
            making.must_show = false;
        }
    }
    making.finish(cause)
}

// Long: one cause after another.
fn rain(cause: Cause, seed: u64) -> Option<Planted> {
    let (showers, dry): (Showers, i32) = match cause {
        Cause::ThresholdSmall => (DRIZZLES, 14),
        Cause::SensorSlowToDry => (ONE, 14),
        Cause::GaugeSprayed => (&[], 20),
        Cause::SensorOnRoofedZone => (HELD, 14),
        _ => (SOAKING, 14),
    };
    let mut making = Making::of(draw(seed, showers, dry));
    let contact = |set: &mut upland_core::sensors::Sensor| {
        set.setting.rain_threshold = Millimetres::from_mm(12.0);
    };
    let seen_sensor =
        |making: &mut Making, holds: Option<bool>, covered: Option<bool>, sprayed: Option<bool>| {
            let name = making.sensor_name();
            let mut seen = SensorSeen { name, holds, covered, sprayed };
            if making.world.rng.random_bool(LEFT_EMPTY) {
                seen.holds = None;
            }
            making.sensors.push(seen);
        };
    let holds_now = |making: &Making| {
        making.known.controllers[0].sensors[0].holds.iter().any(|h| h.stands(making.world.at))
    };
    match cause {
        Cause::GaugeSheltered => {
            making.hang("rain_switch", contact);
            making.truth.controllers[0].sensors.clear();
            let should = holds_now(&making);
            let covered = making.world.rng.random_bool(0.9).then_some(true);
            seen_sensor(&mut making, should.then_some(false), covered, Some(false));
        }
        Cause::GaugeSprayed | Cause::SensorSlowToDry => {
            making.hang("rain_switch", contact);
            let since = if cause == Cause::GaugeSprayed { 12 } else { 11 };
            let from = midnight(making.world.on - since.days(), &TimeZone::UTC);
            let cause_of = HoldCause::Rain { fallen_mm: 18.0, since: from };
            making.truth.controllers[0].sensors[0].holds = vec![Hold { from, until: None, cause: cause_of }];
            if holds_now(&making) {
                return None;
            }
            let sprayed = if cause == Cause::GaugeSprayed {
                making.world.rng.random_bool(0.9).then_some(true)
            } else {
                Some(false)
            };
            seen_sensor(&mut making, Some(true), Some(false), sprayed);
        }
        Cause::ThresholdSmall => {
            making.hang("rain_switch", |s| {
                s.setting.rain_threshold = Millimetres::from_mm(3.0);
                s.setting.release = Release::Days(3);
            });
            let now = holds_now(&making);
            seen_sensor(&mut making, Some(now), Some(false), Some(false));
        }
        Cause::SensorOnRoofedZone => {
            let station = making.at_one();
            making.zone_is(station, |z| z.sky = Sky::UnderEaves, true);
            making.hang("rain_switch", |s| {
                contact(s);
                s.map.stations.insert(station, true);
                s.setting.release = Release::Days(4);
            });
            let now = holds_now(&making);
            seen_sensor(&mut making, Some(now), Some(false), Some(false));
        }
        _ => {
            let station = making.at_one();
            making.hang("rain_switch", contact);
            making.set(|s| s.update_station(station, |own| own.ignores_sensors = true));
            making.sign(station, Sign::AfterRain, 0.7);
            let now = holds_now(&making);
            seen_sensor(&mut making, Some(now), Some(false), Some(false));
        }
    }
    if matches!(cause, Cause::GaugeSheltered) {
        let held = making.known.controllers[0].sensors[0]
            .holds
            .iter()
            .filter(|h| h.from > making.world.at - 336.hours())
            .count();
        if held < 2 {
            return None;
        }
        for station in making.world.stations() {
            making.sign(station, Sign::AfterRain, 0.3);
        }
        making.must_show = false;
    }
    making.finish(cause)
}

fn et(cause: Cause, seed: u64) -> Option<Planted> {
    let mut making = Making::of(draw(seed, &[], 16));
    let months = making.known.climate.monthly_expected_et0(2026);
    let peak = Millimetres::from_mm(months.iter().map(|e| e.mm()).fold(0.0, f64::max));
    making.hang("et_sensor", |s| s.setting.et_full = peak);
    let times = match cause {
        Cause::EtTrim => making.factor((0.81, 0.87), (1.15, 1.22)),
        _ => making.factor((0.5, 0.68), (1.4, 1.7)),
    };
    let sensor = &mut making.truth.controllers[0].sensors[0];
    sensor.sensor.setting.et_full = Millimetres::from_mm(peak.mm() / times);
    let truth_sensor = sensor.clone();
    let count = making.world.rng.random_range(6..=14);
    for back in 1..=count {
        let night = making.world.on - i64::from(back).days();
        if let Some(set) = truth_sensor.percentage(night) {
            let read = (set.percentage * making.world.rng.random_range(0.98..1.02)).round();
            making.own.nights.insert(night, read);
        }
    }
    making.must_show = false;
    making.finish(cause)
}

fn probe(cause: Cause, seed: u64) -> Option<Planted> {
    let mut making = Making::of(draw(seed, &[], 16));
    let station = making.at_one();
    // Every day, and the probe refuses: the strategy that leaves it to the soil.
    making.set(|s| {
        if let Days::EveryNth { interval, .. } = &mut s.programs[0].days {
            *interval = 1;
        }
    });
    let interval = f64::from(making.world.interval);
    let others: Vec<u16> = making.world.stations().into_iter().filter(|n| *n != station).collect();
    making.set(|s| {
        for other in &others {
            let minutes = (s.run_time(0, *other).minutes().min_value() / interval).round().max(1.0);
            s.set_run_time(0, *other, Seconds::from_min(minutes as i64));
        }
        let own = s.run_time(0, station).minutes().min_value() / interval;
        s.set_run_time(0, station, Seconds::from_min((own * 2.0).round().max(1.0) as i64));
    });
    let (low, full) = (18.0, 30.0);
    let threshold = if cause == Cause::ProbeThresholdHigh { 34.0 } else { 19.0 };
    let begin = making.world.at - 480.hours();
    let readings = (0..480_i64).map(|hour| {
        let at: Timestamp = begin + hour.hours();
        // It dries through the day and is filled at night.
        let day = f64::from((hour % 48) as i32) / 48.0;
        let value = full - (full - low) * day + making.world.rng.random_range(-0.4..0.4);
        Reading { at, value: value.clamp(low, full) }
    });
    let readings = Readings::new(readings.collect());
    let mut sensor = making.world.sensor("soil_probe");
    sensor.placement.probe_station = Some(station);
    sensor.setting.soil_threshold_pct = Some(threshold);
    let mut hung = making.world.hung(&sensor);
    hung.probe = readings;
    making.known.controllers[0].sensors.push(hung.clone());
    making.truth.controllers[0].sensors.push(hung);
    making.finish(cause)
}
