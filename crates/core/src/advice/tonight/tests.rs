//! Tonight at its edges: needs, the controller's own runs, and the verdict between them.

mod roofed;
mod scaled;

use super::verdict::RUNS_OFF_SHARE;
use super::*;
use crate::account::ENOUGH;
use crate::account::running::SensorFacts;
use crate::controller::ordinance::{AllowedDays, samples};
use crate::controller::schedule::{Settings, YearSpan};
use crate::controller::{Card, SensorPort};
use crate::ground::plant::Sky;
use crate::ground::soil::Texture;
use crate::quantity::ratio::Percentage;
use crate::quantity::span::TimeSpan;
use crate::quantity::time::Hours;
use crate::quantity::units::{Celsius, LitresPerMinute, Metres, SquareMetres};
use crate::sensors::state::{Cause, Hold, Pause};
use crate::sensors::{Readings, Sensor, generic};
use crate::site::windows::WaterWindows;
use crate::site::{Site, UnitSystem, Zone, samples::lawn};
use crate::weather::DayWeather;
use crate::weather::climate::Climate;
use crate::weather::forecast::Foretold;
use jiff::ToSpan;
use jiff::civil::{date, time};
use jiff::tz::TimeZone;
use proptest::prelude::*;
use std::collections::BTreeMap;

const DAY: Date = date(2026, 7, 14);

fn site() -> Site {
    Site {
        name: "Test slope".into(),
        latitude_deg: 46.0,
        longitude_deg: 30.0,
        elevation: Metres::from_m(1040.0),
        wind_height: Metres::from_m(2.0),
        time_zone: "Etc/GMT-2".into(),
        units: UnitSystem::Metric,
        windows: WaterWindows::only(Hours { from: time(2, 0, 0, 0), until: time(6, 0, 0, 0) }),
        supply: None,
        drizzle: Default::default(),
        card: Default::default(),
    }
}

/// Forty days to 14 July, dry but for rain on the given number of days back.
fn climate(rain_days_back: &[(i32, f64)]) -> Climate {
    let days: Vec<_> = (0..40)
        .map(|back| {
            let on = DAY - back.days();
            let mut day = DayWeather::from_temperatures(on, Celsius::from_c(11.0), Celsius::from_c(25.0));
            let rain = rain_days_back.iter().find(|(b, _)| *b == back).map_or(0.0, |(_, mm)| *mm);
            day.rain = Some(Millimetres::from_mm(rain));
            day
        })
        .collect();
    Climate::from_record(&days, site().station())
}

fn tz() -> TimeZone {
    TimeZone::get("Etc/GMT-2").unwrap()
}

fn surveyed(zones: &[Zone], climate: Climate) -> AccountInputs {
    AccountInputs::surveyed(&site(), &tz(), zones, climate)
}

fn decided(facts: &AccountInputs, date: Date) -> Tonight {
    tonight(facts, &account_of(facts, EvidencePolicy::Best, date, Timestamp::UNIX_EPOCH), 1, date)
}

fn decide(zones: &[Zone], climate: Climate) -> Tonight {
    decided(&surveyed(zones, climate), DAY)
}

/// A controller that waters station 1 for so many minutes at two every night.
fn set(minutes: i64) -> Settings {
    let mut settings = Settings::clean(&twelve_stations());
    settings.programs[0].active = true;
    settings.programs[0].starts = vec![time(2, 0, 0, 0)];
    settings.set_run_time(0, 1, Seconds::from_min(minutes));
    settings
}

fn boxed(settings: Settings) -> ControllerFacts {
    ControllerFacts {
        number: 1,
        card: twelve_stations(),
        versions: vec![("2026-07-14T08:00:00Z".parse().unwrap(), settings)],
        sensors: Vec::new(),
    }
}

/// The lawn on a controller that was set this morning, after so much rain today.
fn with_controller(settings: Settings, rain: f64) -> AccountInputs {
    let mut facts = surveyed(&[lawn(1)], climate(&[(0, rain)]));
    facts.controllers = vec![boxed(settings)];
    facts
}

fn verdict(facts: &AccountInputs) -> Verdict {
    decided(facts, DAY).zones[0].verdict.unwrap()
}

#[test]
fn heavy_rain_today_holds_the_zone_and_is_named() {
    let result = decide(&[lawn(1)], climate(&[(0, 25.0)]));
    let row = &result.zones[0];
    assert_eq!(row.decision, Decision::Waits);
    let Because::AboveRefill { rain: Some((on, amount)), next: Some(_), .. } = row.because else {
        panic!("{:?}", row.because)
    };
    assert!(on == DAY && (amount.mm() - 25.0).abs() < 1e-9);
    assert_eq!(result.night.first_start, None);
}

#[test]
fn rain_does_not_reach_a_zone_under_glass() {
    let mut under_glass = lawn(2);
    under_glass.sky = crate::ground::plant::Sky::UnderGlass;
    let wet = decide(&[under_glass.clone()], climate(&[(0, 25.0)]));
    let dry = decide(&[under_glass], climate(&[]));
    assert_eq!(wet.zones[0].depletion, dry.zones[0].depletion);
}

#[test]
fn a_dry_spell_refills_to_full_within_the_window() {
    let zones: Vec<Zone> = (1..=3).map(lawn).collect();
    // On some night of any week a lawn is due.
    let facts = surveyed(&zones, climate(&[]));
    let due =
        (0..7).map(|back| decided(&facts, DAY - back.days())).find(|t| t.running().count() == 3).unwrap();
    let row = &due.zones[0];
    assert!(row.depletion_after.mm() < 0.3, "whole minutes leave little: {:?}", row.depletion_after);
    let cycles = row.cycles.unwrap();
    let asked = row.depletion.mm() * row.resolved.multiplier / row.resolved.rate.value.mm_per_hour() * 60.0;
    assert!((f64::from(cycles.total_minutes()) - asked).abs() <= 0.5 + f64::from(cycles.count));
    assert!(due.night.last_end().unwrap() <= due.night.window_until);
}

#[test]
fn without_weather_there_is_a_balance_and_not_every_night_runs() {
    let facts = surveyed(&[lawn(1)], Climate::from_record(&[], site().station()));
    let nights: Vec<_> = (0..14).map(|k| decided(&facts, DAY + k.days())).collect();
    assert!(nights.iter().all(|n| n.notices == [Notice::NoWeather]));
    assert!(nights.iter().all(|n| n.zones[0].state_from == StateFrom::Expected));
    let runs = nights.iter().filter(|n| n.running().count() == 1).count();
    assert!((3..=10).contains(&runs), "{runs} of fourteen nights");
}

#[test]
fn notices_name_gaps_stale_records_supply_and_controller() {
    let mut zone = lawn(3);
    zone.area = Some(SquareMetres::from_m2(100.0));
    let mut facts = surveyed(&[zone], climate(&[]));
    facts.site.supply = Some(LitresPerMinute::from_l_per_min(10.0));
    let card = Card { stations: 2, ..twelve_stations() };
    facts.controllers = vec![ControllerFacts { number: 1, card, versions: Vec::new(), sensors: Vec::new() }];
    let result = decided(&facts, date(2026, 7, 20));
    assert!(matches!(result.notices[0], Notice::RecordEnds { days: 6, .. }));
    assert!(result.notices.iter().any(|n| matches!(n, Notice::SupplyExceeded { number: 3, .. })));
    assert!(result.notices.iter().any(|n| matches!(n, Notice::BeyondController { number: 3, stations: 2 })));
}

#[test]
fn likely_rain_is_said_where_zones_run_and_counts_for_nothing() {
    let tomorrow = DAY + 1.day();
    let ahead = |mm: f64, low: f64| {
        let mut weather =
            DayWeather::from_temperatures(tomorrow, Celsius::from_c(low), Celsius::from_c(25.0));
        weather.rain = Some(Millimetres::from_mm(mm));
        climate(&[]).with_forecast(&[Foretold { weather, lowest_ahead: Some(Celsius::from_c(low)) }])
    };
    let said = |night: &Tonight| {
        night.notices.iter().find_map(|notice| match notice {
            Notice::RainLikely { date, rain, can_wait } => Some((*date, rain.mm(), can_wait.clone())),
            _ => None,
        })
    };
    let (dry, wet) = (decide(&[lawn(1)], ahead(1.9, 11.0)), decide(&[lawn(1)], ahead(12.0, 11.0)));
    assert!(wet.running().count() == 1, "the lawn is due on this evening");
    assert_eq!(said(&dry), None);
    let zone = &wet.zones[0];
    let waits = zone.depletion + zone.expected_demand <= zone.resolved.root_zone.readily_available();
    assert_eq!(said(&wet), Some((tomorrow, 12.0, if waits { vec![1] } else { vec![] })));
    let runs =
        |night: &Tonight| night.zones.iter().map(|z| (z.depletion, z.cycles, z.decision)).collect::<Vec<_>>();
    assert_eq!(runs(&dry), runs(&wet), "what has not fallen waters nothing");
    let under_glass = Zone { sky: Sky::UnderGlass, ..lawn(1) };
    assert_eq!(said(&decide(&[under_glass], ahead(12.0, 11.0))), None, "it does not rain indoors");
    let evening_before = decided(&surveyed(&[lawn(1)], ahead(12.0, 11.0)), DAY - 1.day());
    assert_eq!(said(&evening_before), None, "rain of the day after next");
    let cold = decide(&[lawn(1)], ahead(0.0, 2.9));
    assert!(cold.notices.is_empty() && cold.running().count() == 0, "frost bars it: {:?}", cold.notices);
}

#[test]
fn a_record_without_rain_is_said() {
    let days: Vec<_> = (0..10)
        .map(|back| {
            let on = DAY - back.days();
            DayWeather::from_temperatures(on, Celsius::from_c(11.0), Celsius::from_c(25.0))
        })
        .collect();
    let result = decide(&[lawn(1)], Climate::from_record(&days, site().station()));
    assert!(result.notices.contains(&Notice::NoRain { days: 10, all: true }), "{:?}", result.notices);
}

#[test]
fn a_root_zone_of_less_than_a_day_is_said() {
    let mut zone = lawn(1);
    zone.root_depth = Some(Metres::from_m(0.05));
    let result = decide(&[zone], climate(&[]));
    assert!(result.notices.iter().any(|n| matches!(n, Notice::NeedsSeveralADay { number: 1, .. })));
}

#[test]
fn settings_that_nobody_entered_and_a_controller_that_computes_itself_give_the_advice_alone() {
    let mut facts = surveyed(&[lawn(1)], climate(&[]));
    let told = |facts: &AccountInputs| {
        let night = decided(facts, DAY);
        (night.known, night.zones[0].verdict, night.zones[0].will.is_some(), night.runs.len())
    };
    assert_eq!(told(&facts), (ControllerKnown::Unknown, None, false, 0));
    facts.controllers = vec![boxed(set(20))];
    assert_eq!(told(&facts).0, ControllerKnown::Settings);
    facts.controllers[0].card.daily_run_times = true;
    assert_eq!(told(&facts), (ControllerKnown::ComputesItself, None, false, 0));
}

#[test]
fn the_verdict_names_what_the_controller_will_do_wrong() {
    let missing = decided(&with_controller(set(0), 0.0), DAY).zones[0].depletion;
    let minutes = lawn(1).resolve(46.0).minutes_for(missing).min_value().round() as i64;
    assert!(missing.mm() > 5.0, "{missing:?}");
    assert_eq!(verdict(&with_controller(set(minutes), 0.0)), Verdict::Right);
    let mut twice = set(minutes / 2);
    twice.programs[0].starts = (2..6).map(|hour| time(hour, 0, 0, 0)).collect();
    assert_eq!(verdict(&with_controller(twice, 0.0)), Verdict::TooMuch);
    assert_eq!(verdict(&with_controller(set(minutes), 40.0)), Verdict::NotNeeded, "it rained all day");
    let dry = (0..7)
        .map(|back| DAY - back.days())
        .find(|on| decided(&surveyed(&[lawn(1)], climate(&[])), *on).zones[0].due);
    let facts = |settings: Settings| {
        let mut facts = with_controller(settings, 0.0);
        facts.controllers[0].versions[0].0 = crate::quantity::time::noon(dry.unwrap(), &tz());
        facts
    };
    let on = |settings| decided(&facts(settings), dry.unwrap()).zones[0].verdict.unwrap();
    assert_eq!(on(set(2)), Verdict::TooLittle);
    assert_eq!(on(set(0)), Verdict::NothingReaches);
    let mut other_days = set(minutes);
    other_days.programs[0].days =
        crate::controller::schedule::Days::EveryNth { interval: 5, first: dry.unwrap() + 3.days() };
    assert_eq!(on(other_days), Verdict::TooLittle, "it has a run time, but not for tonight");
}

#[test]
fn what_runs_off_is_neither_brought_nor_too_much() {
    let clay = Zone { soil: Texture::Clay, slope_pct: Some(15.0), ..lawn(1) };
    let facts = |settings: Settings| {
        let mut facts = surveyed(std::slice::from_ref(&clay), climate(&[]));
        facts.controllers = vec![boxed(settings)];
        facts
    };
    let row = |facts: &AccountInputs| decided(facts, DAY).zones[0].clone();
    let missing = row(&facts(set(0))).depletion;
    // A sixth more than is missing, at once: half of it runs down the bank.
    let minutes = (1.15 * clay.resolve(46.0).minutes_for(missing).min_value()).round() as i64;
    let at_once = row(&facts(set(minutes)));
    let will = at_once.will.as_ref().unwrap();
    assert_eq!(at_once.verdict, Some(Verdict::RunsOff));
    assert!(will.runs_off() > RUNS_OFF_SHARE && will.stays() < missing, "{will:?}");
    assert_eq!(will.brings, at_once.resolved.net_of(will.waters().minutes()));
    // The same minutes in short cycles go in.
    let mut split = set(minutes / 6);
    split.programs[0].starts = (0..6).map(|n| time(2, 0, 0, 0) + (n * 40).minutes()).collect();
    let split = row(&facts(split));
    assert_eq!(split.verdict, Some(Verdict::Right), "{:?}", split.will);
    // Far too much is too much, though some of it runs off.
    let flood = row(&facts(set(20 * minutes)));
    let will = flood.will.unwrap();
    assert!(will.runs_off() > RUNS_OFF_SHARE && will.stays().mm() > ENOUGH.1 * missing.mm(), "{will:?}");
    assert_eq!(flood.verdict, Some(Verdict::TooMuch));
}

#[test]
fn a_law_that_forbids_the_run_and_one_that_forbids_the_advice() {
    let mut facts = with_controller(set(20), 0.0);
    facts.law = samples::law(samples::ban(AllowedDays::EvenDates, Vec::new()));
    // The night of the 14th runs on the 15th, an odd date.
    let night = decided(&facts, DAY);
    assert_eq!(night.zones[0].verdict, Some(Verdict::Forbidden));
    assert_eq!(night.running().count(), 0, "the advice keeps to the law");
    assert!(matches!(
        night.zones[0].night.barred,
        Some(crate::account::nights::Barred::Law { ordinance: 0 })
    ));
    let next = decided(&facts, DAY + 1.day());
    assert_ne!(next.zones[0].verdict, Some(Verdict::Forbidden));
}

fn switch(holds: Vec<Hold>, bypasses: Vec<Pause>) -> SensorFacts {
    let card = generic().into_iter().find(|(code, _)| *code == "rain_switch").unwrap().1;
    SensorFacts {
        read_until: Timestamp::MAX,
        earlier: Vec::new(),
        sensor: Sensor::of_card(card, 1),
        holds,
        bypasses,
        probe: Readings::default(),
        et0: BTreeMap::new(),
    }
}

#[test]
fn every_hold_is_listed_with_its_end_and_a_bypassed_sensor_holds_nothing() {
    let at = |text: &str| text.parse::<Timestamp>().unwrap();
    let rain = Cause::Rain { fallen_mm: 14.0, since: at("2026-07-13T10:00:00Z") };
    let (from, until) = (at("2026-07-13T12:00:00Z"), at("2026-07-16T12:00:00Z"));
    let hold = Hold { from, until: Some(until), cause: rain };
    let mut settings = set(20);
    settings.rain_delay = Some((DAY, 3));
    let mut facts = with_controller(settings, 0.0);
    facts.controllers[0].sensors = vec![switch(vec![hold], Vec::new()), switch(vec![hold], Vec::new())];
    let night = decided(&facts, DAY);
    let will = night.zones[0].will.clone().unwrap();
    assert_eq!((night.zones[0].verdict, will.waters()), (Some(Verdict::Held), Seconds::ZERO));
    assert_eq!(will.held_by().len(), 3, "the delay and both switches: {:?}", will.held_by());
    assert_eq!(night.runs.len(), 1, "a held run is listed");
    facts.controllers[0].versions[0].1.rain_delay = None;
    for sensor in &mut facts.controllers[0].sensors {
        sensor.bypasses = vec![Pause { from, until }];
    }
    let will = decided(&facts, DAY).zones[0].will.clone().unwrap();
    assert_eq!((will.held_by().len(), will.waters()), (0, Seconds::from_min(20)));
}

#[test]
fn an_off_season_is_a_hold_of_the_controller_and_bars_the_advice() {
    let mut settings = set(20);
    settings.off_season = Some(YearSpan { from: (7, 1), until: (7, 20) });
    let night = decided(&with_controller(settings, 0.0), DAY);
    assert_eq!(night.zones[0].verdict, Some(Verdict::Held));
    assert_eq!(night.running().count(), 0);
    let ends = crate::controller::schedule::Rest::OffSeason { until: Some(date(2026, 7, 21)) };
    assert_eq!(
        night.zones[0].will.as_ref().unwrap().held_by(),
        [crate::account::running::Holder::Rest(ends)]
    );
}

#[test]
fn every_run_lies_in_exactly_one_night() {
    let mut settings = set(20);
    settings.programs[0].starts =
        [0, 5, 11, 12, 13, 19, 20, 21].iter().map(|hour| time(*hour, 0, 0, 0)).collect();
    let facts = with_controller(settings, 0.0);
    let own = &facts.controllers[0];
    let mut all: Vec<_> = (0..5).flat_map(|k| night_runs(&facts, own, DAY + k.days())).collect();
    let count = all.len();
    all.sort_by_key(|r| r.run.start);
    all.dedup_by_key(|r| r.run.start);
    assert_eq!((all.len(), count), (40, 40));
}

proptest! {
    #[test]
    fn more_rain_today_never_asks_for_more_water(rain in 0.0..40.0_f64, more in 0.0..40.0_f64) {
        let need = |mm: f64| decide(&[lawn(1)], climate(&[(0, mm)])).zones[0].refill.net;
        prop_assert!(need(rain + more).mm() <= need(rain).mm() + 1e-9);
    }
}

/// A law that forbids watering for some hours after a day's rain of 5 mm, and more than some minutes a date.
fn dry_law(hours: u16, minutes: Option<u16>) -> crate::controller::ordinance::Law {
    let mut ordinance = samples::ban(AllowedDays::Any, Vec::new());
    let least = Millimetres::from_mm(5.0);
    ordinance.rules[0].after_rain =
        (hours > 0).then_some(crate::controller::ordinance::AfterRain { hours, least });
    ordinance.rules[0].most_minutes_a_day = minutes;
    samples::law(ordinance)
}

/// A lawn with a root zone that a day empties, so that it is due every night whatever rained before.
fn thirsty() -> Zone {
    Zone { root_depth: Some(Metres::from_m(0.03)), ..lawn(1) }
}

#[test]
fn a_law_keeps_watering_away_for_hours_after_rain() {
    // Rain of the 12th, known as a day's sum, ends at 18:00; 48 hours later is the 14th at 18:00.
    let facts = |hours, zone: Zone, days_back| {
        let mut facts = surveyed(&[zone], climate(&[(days_back, 8.0)]));
        facts.law = dry_law(hours, None);
        facts.controllers = vec![boxed(set(10))];
        facts
    };
    let night = |hours, zone, days_back| decided(&facts(hours, zone, days_back), DAY).zones.remove(0);
    let dry = night(48, thirsty(), 2);
    assert_eq!((dry.decision, dry.night.barred), (Decision::Runs, None), "the hours are over at six");
    let wet = night(72, thirsty(), 2);
    let until = "2026-07-15T18:00:00+02:00".parse().unwrap();
    assert_eq!(wet.night.barred, Some(crate::account::nights::Barred::AfterRain { ordinance: 0, until }));
    assert!(matches!(wet.decision, Decision::Barred(_)));
    assert_eq!(wet.verdict, Some(Verdict::Forbidden), "the controller knows no law");
    assert_eq!(wet.will.unwrap().forbidden, Some("2026-07-15T02:00:00+02:00".parse().unwrap()));
    // 57 hours end at three in the night: half past two is lost, three to six is left.
    let cut = night(57, thirsty(), 2);
    let (from, until) = ("2026-07-15T03:00:00+02:00", "2026-07-15T06:00:00+02:00");
    assert_eq!(cut.night.open, Some(TimeSpan::new(from.parse().unwrap(), until.parse().unwrap())));
    assert_eq!(cut.decision, Decision::Runs);
    assert_eq!(cut.verdict, Some(Verdict::Forbidden), "two o'clock is within the hours");
    let drip = Zone { head: crate::ground::application::HeadType::Drip, ..thirsty() };
    assert_eq!(night(72, drip, 2).night.barred, None, "this law exempts drip");
    let less = Climate::from_record(&[], site().station());
    assert_eq!(decided(&surveyed(&[thirsty()], less), DAY).zones[0].night.barred, None, "no rain is known");
}

#[test]
fn rain_by_the_hour_says_when_it_ended() {
    let hours = [("2026-07-13T20:00:00+02:00", 6.0), ("2026-07-13T23:00:00+02:00", 2.0)];
    let by_hour = hours.map(|(at, mm)| (at.parse::<Timestamp>().unwrap(), mm)).to_vec();
    let mut facts = surveyed(
        &[thirsty()],
        climate(&[(1, 8.0)]).with_rain_hours(BTreeMap::from([(DAY - 1.days(), by_hour)])),
    );
    facts.law = dry_law(28, None);
    let from = decided(&facts, DAY).zones[0].night.open.unwrap().from;
    assert_eq!(from, "2026-07-15T04:00:00+02:00".parse().unwrap(), "midnight and 28 hours");
}

#[test]
fn minutes_that_a_law_allows_bound_the_advice_and_the_verdict() {
    let with = |minutes, set_to| {
        let mut facts = surveyed(&[lawn(1)], climate(&[]));
        facts.law = dry_law(0, Some(minutes));
        facts.controllers = vec![boxed(set(set_to))];
        facts
    };
    let on_due_night = |facts: &AccountInputs| {
        (0..7).map(|k| decided(facts, DAY + k.days())).find(|t| t.zones[0].due).unwrap().zones.remove(0)
    };
    let free = on_due_night(&with(600, 1));
    let asked = free.cycles.unwrap().total_minutes();
    assert!(asked > 12, "{asked}");
    let bound = on_due_night(&with(12, 1));
    assert_eq!(bound.cycles.unwrap().total_minutes(), 12);
    let Decision::RunsLawful { asked_minutes } = bound.decision else { panic!("{:?}", bound.decision) };
    assert!(asked_minutes >= asked, "the soil is drier under such a law");
    assert_eq!(decided(&with(12, 12), DAY).zones[0].will.as_ref().unwrap().forbidden, None);
    let long = decided(&with(12, 13), DAY).zones.remove(0);
    assert_eq!(long.verdict, Some(Verdict::Forbidden));
    // What the account takes as advised keeps to it, too.
    let advised = account_of(&with(12, 1), EvidencePolicy::AsAdvised, DAY, Timestamp::UNIX_EPOCH);
    let rate = free.resolved.rate.value.mm_per_hour();
    let most = advised.zones[0].days.iter().map(|d| d.water.applied.mm()).fold(0.0, f64::max);
    assert!((most - rate * 12.0 / 60.0).abs() < 1e-6, "{most}");
}

#[test]
fn a_zone_that_grows_in_runs_by_day_and_the_others_in_the_night() {
    let mut zones: Vec<Zone> = (1..=3).map(lawn).collect();
    zones[1].planting.grow_in = Some(crate::ground::planting::GrowIn {
        from: DAY - 20.days(),
        until: DAY + 20.days(),
        factor: 1.0,
        root_depth: Metres::from_m(0.15),
    });
    zones[2].window = Some(Hours { from: time(21, 0, 0, 0), until: time(23, 0, 0, 0) });
    let mut facts = surveyed(&zones, climate(&[]));
    facts.site.windows.grow_in = Some(Hours { from: time(10, 0, 0, 0), until: time(16, 0, 0, 0) });
    let nights = (0..14).map(|back| decided(&facts, DAY - back.days()));
    let due = nights.into_iter().find(|t| t.running().count() == 3).unwrap();
    let of = |number: u16| {
        let runs: Vec<_> = due.night.layout.runs.iter().filter(|r| r.number == number).collect();
        let clock = |minute| due.night.at(minute).unwrap().time();
        let last = runs.last().unwrap();
        (clock(runs[0].from_minute), clock(last.from_minute + last.minutes))
    };
    assert!(of(3).0 >= time(21, 0, 0, 0) && of(3).1 == time(23, 0, 0, 0), "{:?}", of(3));
    assert!(of(1).0 >= time(2, 0, 0, 0) && of(1).1 == time(6, 0, 0, 0), "{:?}", of(1));
    assert!(of(2).0 >= time(10, 0, 0, 0) && of(2).1 == time(16, 0, 0, 0), "{:?}", of(2));
    let letters: Vec<char> = due.night.layout.programs.iter().map(|p| p.letter).collect();
    assert_eq!(letters, ['A', 'B', 'C']);
    assert_eq!(due.night.open.len(), 3);
    // Every run is of the night whose evening it is: before the next one is decided.
    assert!(due.night.last_end().unwrap().timestamp() <= due.evening + jiff::SignedDuration::from_hours(24));
}

#[test]
fn what_a_full_night_does_not_hold_runs_in_the_second_window() {
    let zones: Vec<Zone> = (1..=6).map(lawn).collect();
    let mut facts = surveyed(&zones, climate(&[]));
    facts.site.windows.main = Hours { from: time(5, 0, 0, 0), until: time(6, 30, 0, 0) };
    let full = (0..14).map(|back| DAY - back.days());
    let full = full
        .into_iter()
        .find(|on| decided(&facts, *on).zones.iter().any(|z| z.decision == Decision::Deferred));
    let full = full.unwrap();
    let before = decided(&facts, full);
    // Before the night's window, and shorter: it is the spare one.
    facts.site.windows.second = Some(Hours { from: time(21, 0, 0, 0), until: time(22, 20, 0, 0) });
    let after = decided(&facts, full);
    let ran = |night: &Tonight| night.night.layout.runs.iter().map(|r| r.minutes).sum::<u32>();
    assert!(ran(&after) > ran(&before), "{} and {}", ran(&after), ran(&before));
    assert_eq!(after.night.first_start.as_ref().unwrap().hour(), 21);
    let mut runs: Vec<_> = after.night.layout.runs.iter().map(|r| (r.from_minute, r.minutes)).collect();
    runs.sort_unstable();
    assert!(runs.windows(2).all(|w| w[0].0 + w[0].1 <= w[1].0), "one at a time: {runs:?}");
    assert!(after.night.layout.programs.len() <= usize::from(twelve_stations().programs));
}

/// Two thirsty lawns on a controller that computes its run times itself.
fn computing(settings: Settings) -> AccountInputs {
    let (first, mut second) = (thirsty(), thirsty());
    second.number = 2;
    let mut facts = surveyed(&[first, second], climate(&[]));
    let (_, card) = generic_card("daily");
    let settings = Settings { programs: Settings::clean(&card).programs, ..settings };
    facts.controllers =
        vec![ControllerFacts { card, versions: vec![(Timestamp::MIN, settings)], ..boxed(set(1)) }];
    facts
}

fn generic_card(code: &str) -> (&'static str, Card) {
    crate::controller::generic().into_iter().find(|(c, _)| *c == code).unwrap()
}

#[test]
fn sentence_7_no_water_days_and_omitted_hours_bind_a_controller_that_computes_itself() {
    let free = decided(&computing(set(1)), DAY);
    assert_eq!(free.running().count(), 2, "both are thirsty");
    let never = Settings { never_days: [true; 7], ..set(1) };
    let shut = decided(&computing(never), DAY);
    assert_eq!(shut.running().count(), 0);
    for row in &shut.zones {
        assert_eq!(row.night.barred, Some(crate::account::nights::Barred::Shut));
    }
    // 14 July is a Tuesday: the night's runs fall on Wednesday morning.
    let mut wednesday = [false; 7];
    wednesday[2] = true;
    assert_eq!(decided(&computing(Settings { never_days: wednesday, ..set(1) }), DAY).running().count(), 0);
    let mut thursday = [false; 7];
    thursday[3] = true;
    assert_eq!(decided(&computing(Settings { never_days: thursday, ..set(1) }), DAY).running().count(), 2);
    // Of the window from two to six, the hours from three on are omitted.
    let omit = Hours { from: time(3, 0, 0, 0), until: time(9, 0, 0, 0) };
    let early = decided(&computing(Settings { omit_hours: Some(omit), ..set(1) }), DAY);
    let ends = early.night.last_end().unwrap();
    assert!(early.running().count() > 0 && ends.time() <= time(3, 0, 0, 0), "{ends}");
}

#[test]
fn sentence_7_a_window_that_cannot_hold_its_zone_shortens_no_other() {
    let mut facts = computing(set(1));
    let alone = decided(&facts, DAY);
    let minutes = |night: &Tonight, station: u16| {
        let row = night.zones.iter().find(|z| z.zone.number == station).unwrap();
        row.cycles.map_or(0, |c| c.total_minutes())
    };
    let neighbour = minutes(&alone, 2);
    assert!(neighbour > 0);
    // Zone 1 may run from 19:00 to 19:10 only.
    facts.zones[0].zone.window = Some(Hours { from: time(19, 0, 0, 0), until: time(19, 10, 0, 0) });
    let apart = decided(&facts, DAY);
    assert_eq!(minutes(&apart, 2), neighbour, "its neighbour keeps its minutes: {:#?}", apart.zones[1]);
    assert!(minutes(&apart, 1) <= 10);
}
