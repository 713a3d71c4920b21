//! Trials against the account, against figures worked by hand, and at their edges.

use super::protocol::{self, MissKind, NoReport};
use super::*;
use crate::account::running::ControllerFacts;
use crate::account::sensed::{as_read, sensor_facts};
use crate::account::site_account::{AccountInputs, EvidencePolicy, begins, end_of, of_site};
use crate::advice::budget::RainRule;
use crate::advice::planner::Strategy as School;
use crate::codes::Coded;
use crate::controller::ordinance::samples::{law, two_days_a_week};
use crate::controller::schedule::{Days, Settings};
use crate::controller::twelve_stations;
use crate::ground::application::HeadType;
use crate::ground::planting::OwnCoefficient;
use crate::ground::planting::WeanOff;
use crate::ground::soil::Texture;
use crate::installation::samples::{site, zones};
use crate::quantity::ratio::Share;
use crate::quantity::span::DateSpan;
use crate::quantity::time::{Seconds, midnight};
use crate::quantity::units::{Celsius, Millimetres, MillimetresPerHour};
use crate::sensors::Release;
use crate::sensors::{Sensor, generic};
use crate::site::{StationId, Zone};
use crate::weather::DayWeather;
use crate::weather::climate::Climate;
use jiff::civil::{Date, date, time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use proptest::prelude::*;
use std::sync::Arc;

const FIRST: Date = date(2026, 4, 1);
pub(super) const SPAN: DateSpan = DateSpan::new(date(2026, 5, 1), date(2026, 8, 31));

/// A spring and summer with rain on so many days: a shower every sixth, a storm every thirtieth.
fn climate() -> Climate {
    let days: Vec<DayWeather> = (0..160)
        .map(|k| {
            let warm = 6.0 * (f64::from(k) / 160.0 * std::f64::consts::PI).sin();
            let (min, max) = (Celsius::from_c(8.0 + warm), Celsius::from_c(19.0 + 1.5 * warm));
            let mut day = DayWeather::from_temperatures(FIRST + k.days(), min, max);
            let rain = match k {
                k if k % 30 == 29 => 38.0,
                k if k % 6 == 5 => 7.0,
                _ => 0.0,
            };
            day.rain = Some(Millimetres::from_mm(rain));
            day
        })
        .collect();
    Climate::from_record(&days, site().station())
}

/// Every zone for so many minutes at two, three nights a week.
pub(super) fn set(minutes: i64) -> Settings {
    let mut settings = Settings::clean(&twelve_stations());
    settings.programs[0].active = true;
    settings.programs[0].starts = vec![time(2, 0, 0, 0)];
    settings.programs[0].days = Days::Weekdays([true, false, true, false, true, false, false]);
    for station in 1..=4 {
        settings.set_run_time(0, station, Seconds::from_min(minutes));
    }
    settings
}

pub(super) fn facts_of(zones: &[Zone], settings: Settings) -> AccountInputs {
    let mut facts = AccountInputs::surveyed(&site(), &TimeZone::UTC, zones, climate());
    let card = twelve_stations();
    facts.controllers = vec![ControllerFacts {
        number: 1,
        card,
        versions: vec![(Timestamp::MIN, settings)],
        sensors: Vec::new(),
    }];
    facts
}

/// The same with a rain switch of 12 mm.
pub(super) fn gauged(mut facts: AccountInputs) -> AccountInputs {
    let mut sensor = Sensor::of_card(generic().remove(0).1, 1);
    sensor.name = "Gauge".into();
    let read = as_read(&facts.climate, 0.0, FIRST, SPAN.last, &TimeZone::UTC);
    let until = midnight(SPAN.last + 1.day(), &TimeZone::UTC);
    let hung = sensor_facts(&sensor, &read.channels, &read.drying, Vec::new(), &TimeZone::UTC, until);
    facts.controllers[0].sensors = vec![hung];
    facts
}

fn way(named: Named) -> TrialWay {
    named.way(named.code())
}

fn tried(way: &TrialWay, facts: &AccountInputs) -> WayResult {
    run(way, facts, SPAN, None, |_, _| ()).unwrap()
}

fn with(change: Change) -> TrialWay {
    let name = "Gauge".into();
    TrialWay { sensors: vec![SensorChange { controller_number: 1, name, change }], ..way(Named::AsSet) }
}

#[test]
fn as_set_is_the_account_to_the_last_digit() {
    let facts = gauged(facts_of(&zones(), set(14)));
    let result = tried(&way(Named::AsSet), &facts);
    let span = (begins(&facts.climate, SPAN.first), end_of(SPAN.last, &TimeZone::UTC));
    let account = of_site(&facts, EvidencePolicy::AsSet, span.0, span.1, |_, _| ());
    for (zone, own) in result.zones.iter().zip(&account.zones) {
        let days: Vec<_> = own.days.iter().filter(|d| d.date >= SPAN.first).copied().collect();
        assert_eq!(zone.days, days);
        assert_eq!(zone.et, days.iter().map(|d| d.water.et).sum::<Millimetres>());
        assert_eq!(zone.depletion.1, own.end.depletion);
    }
    assert!(result.zones.iter().all(|z| z.skipped.get("rain").is_some_and(|n| *n > 0)));
    let again = tried(&way(Named::AsSet), &facts);
    assert_eq!(again, result, "the same again");
}

#[test]
fn constant_demand_without_rain_is_as_worked_by_hand() {
    // 4 mm a day into sand of 30 mm, half of it allowable; 8 mm/h even, 52.5 min bring 7 mm every night but one.
    let zone = Zone {
        soil: Texture::Sand,
        root_depth: Some(crate::quantity::units::Metres::from_m(0.5)),
        allowable_depletion: Some(Share::from_fraction(0.5)),
        precipitation_rate: Some(MillimetresPerHour::from_mm_per_hour(8.0)),
        uniformity: Some(Share::WHOLE),
        own_coefficient: Some(OwnCoefficient::Constant(1.0)),
        ..zones().remove(0)
    };
    let days: Vec<DayWeather> = (0..60)
        .map(|k| {
            let mut day =
                DayWeather::from_temperatures(FIRST + k.days(), Celsius::from_c(10.0), Celsius::from_c(24.0));
            day.rain = Some(Millimetres::ZERO);
            day
        })
        .collect();
    let mut facts = facts_of(&[zone], Settings::clean(&twelve_stations()));
    facts.climate = std::sync::Arc::new(Climate::from_record(&days, site().station()));
    let span = DateSpan::new(date(2026, 5, 1), date(2026, 5, 30));
    let nothing = run(&way(Named::AsSet), &facts, span, None, |_, _| ()).unwrap();
    let dry = &nothing.zones[0];
    assert_eq!((dry.runs, dry.applied, dry.stress_days), (0, Millimetres::ZERO, 30));
    assert!((dry.depletion.1 - dry.depletion.0 - dry.et).mm().abs() < 1e-9, "what plants took is missing");
    let advised = run(&way(Named::AsAdvised), &facts, span, None, |_, _| ()).unwrap();
    let zone = &advised.zones[0];
    assert_eq!((zone.adequacy(), zone.stress_days), (Share::WHOLE, 0));
    // 15 mm may be used; the interval is as many whole days as their demand fits in.
    let daily = zone.needed.mm() / 30.0;
    let nights = (15.0 / daily).floor();
    assert!((f64::from(zone.runs) - 30.0 / nights).abs() <= 1.0, "{} runs of {nights} nights", zone.runs);
    assert!(zone.excess().fraction() < 0.02, "whole minutes: {:?}", zone.excess());
}

#[test]
fn four_cycles_with_soaks_save_what_forty_minutes_lose_on_a_clay_slope() {
    let mut zones = zones();
    zones.truncate(1);
    (zones[0].soil, zones[0].slope_pct) = (Texture::Clay, Some(14.0));
    let night = |starts: &[i8], minutes: i64| {
        let mut settings = set(minutes);
        settings.programs[0].starts = starts.iter().map(|h| time(*h, 0, 0, 0)).collect();
        let facts = facts_of(&zones, settings);
        let span = DateSpan::new(date(2026, 5, 4), date(2026, 5, 4));
        run(&way(Named::AsSet), &facts, span, None, |_, _| ()).unwrap().zones.remove(0)
    };
    // Spray at 31.75 mm/h on clay: intake 2.54 mm/h, and 2.54 mm may stand. Forty minutes bring 21.17 mm, of which
    // 2.54 + 2.54 × 40 ÷ 60 = 4.23 go in at once and what stands after; ten minutes bring 5.29, and 2.96 go in.
    let whole = night(&[0], 40);
    assert!((whole.applied.mm() - 21.167).abs() < 1e-3);
    assert!((whole.runoff.mm() - (21.167 - 2.54 - 2.54 * 40.0 / 60.0)).abs() < 0.1, "{:?}", whole.runoff);
    let cycled = night(&[0, 2, 4, 6], 10);
    let each = 31.75 / 6.0 - 2.54 - 2.54 / 6.0;
    assert!((cycled.runoff.mm() - 4.0 * each).abs() < 0.1, "{:?}", cycled.runoff);
    // An hour apart leaves fifty minutes to soak: 0.42 mm still stand when the next begins.
    let hourly = night(&[0, 1, 2, 3], 10);
    let left = 2.54 - 2.54 * 50.0 / 60.0;
    assert!((hourly.runoff.mm() - 4.0 * each - 3.0 * left).abs() < 0.1, "{:?}", hourly.runoff);
    assert!((cycled.applied - whole.applied).mm().abs() < 1e-9);
}

#[test]
fn a_storm_over_a_full_soil_runs_off_and_drains_and_none_of_it_is_waste_of_watering() {
    let facts = facts_of(&zones(), Settings::clean(&twelve_stations()));
    let storm = FIRST + 59.days();
    let result = run(&way(Named::AsSet), &facts, DateSpan::new(storm, storm), None, |_, _| ()).unwrap();
    let zone = &result.zones[0];
    assert_eq!((zone.wasted, zone.excess()), (Millimetres::ZERO, Share::NONE));
    let missing = zone.depletion.0 + zone.et - zone.depletion.1;
    assert!((zone.rain_in - zone.drainage - missing).mm().abs() < 1e-9);
    assert!((zone.rain - zone.rain_in - zone.runoff).mm().abs() < 1e-9 && zone.rain.mm() == 38.0);
}

#[test]
fn the_quarter_that_gets_least_is_dry_while_the_mean_is_full() {
    let mut patchy = zones();
    patchy.truncate(1);
    patchy[0].uniformity = Some(Share::from_fraction(0.46));
    let result = tried(&way(Named::AsSet), &facts_of(&patchy, set(16)));
    let [low, middle, high] = result.zones[0].parts;
    assert!(low.adequacy() < Share::from_fraction(0.9) && middle.adequacy() > Share::from_fraction(0.97));
    assert!((low.strength, high.strength) == (0.46, 1.54));
    assert!(low.stress_days > middle.stress_days && high.wasted > middle.wasted);
    let even = Zone { uniformity: Some(Share::WHOLE), ..patchy.remove(0) };
    let [low, middle, high] = tried(&way(Named::AsSet), &facts_of(&[even], set(16))).zones[0].parts;
    assert_eq!((low.et, high.et), (middle.et, middle.et));
}

#[test]
fn a_rain_switch_saves_water_and_what_is_done_to_it_shows() {
    let facts = gauged(facts_of(&zones(), set(14)));
    let litres = |way: &TrialWay| tried(way, &facts).site.litres.unwrap().l();
    let there = litres(&way(Named::AsSet));
    let none = litres(&way(Named::NoSensors));
    assert!(there < none);
    assert_eq!(litres(&with(Change::Absent)), none, "absent is without");
    assert!(
        litres(&with(Change::RainThreshold(Millimetres::from_mm(5.0)))) < there,
        "a smaller step holds more"
    );
    let eave = litres(&with(Change::Misplaced(Spot::UnderEave)));
    assert!(eave > there && eave <= none, "under an eave it misses showers: {there} {eave} {none}");
    assert!(litres(&with(Change::Misplaced(Spot::InShade))) < there, "in shade it dries late");
    let bypassed = litres(&with(Change::Bypassed(SPAN)));
    assert_eq!(bypassed, none, "bypassed all the while is without");
    let half = litres(&with(Change::Bypassed(DateSpan::new(SPAN.first, date(2026, 6, 30)))));
    assert!(there < half && half < none);
}

#[test]
fn percentages_by_month_and_week_follow_the_season_and_leave_does_not() {
    let mut settings = set(40);
    settings.percentages = settings.percentages.all_at(crate::quantity::ratio::Percentage::from_percent(150));
    let facts = facts_of(&zones(), settings);
    let site = |named: Named| tried(&way(named), &facts).site;
    let litres = |named: Named| site(named).litres.unwrap().l();
    assert!(litres(Named::AsSet) > litres(Named::Leave), "150 against 100 %");
    assert!(litres(Named::Leave) > litres(Named::Monthly) && litres(Named::Leave) > litres(Named::Weekly));
    assert!(site(Named::Monthly).excess < site(Named::Leave).excess);
    let Err(refused) = run(&way(Named::EtSensor), &facts, SPAN, None, |_, _| ()) else { panic!("no port") };
    assert_eq!(refused, [Refusal::NoPort { controller_number: 1 }]);
    let mut wide = facts.clone();
    wide.controllers[0].card.sensor_ports.push(crate::controller::SensorPort::Weather);
    let of = |trim_pct| {
        let way = TrialWay { percentages: PercentageRule::EtSensor { trim_pct }, ..way(Named::AsSet) };
        tried(&way, &wide).site.litres.unwrap().l()
    };
    assert!(of(-20.0) < of(0.0) && of(0.0) < of(20.0), "its trim turns the water");
}

#[test]
fn a_rhythm_that_was_begun_yesterday_is_tried_on_last_summer() {
    let mut settings = set(14);
    settings.programs[0].days = Days::EveryNth { interval: 3, first: date(2026, 8, 30) };
    let result = tried(&way(Named::AsSet), &facts_of(&zones(), settings));
    assert_eq!(result.zones[0].runs, 41, "every third of 123 days");
}

#[test]
fn what_cannot_be_tried_is_refused_before_anything_runs() {
    let facts = gauged(facts_of(&zones(), set(14)));
    let refused = |way: &TrialWay, facts: &AccountInputs, span: DateSpan| {
        run(way, facts, span, None, |_, _| panic!("nothing runs")).unwrap_err()
    };
    let mut unset = facts.clone();
    unset.controllers[0].versions.clear();
    assert_eq!(refused(&way(Named::AsSet), &unset, SPAN), [Refusal::Unset { controller_number: 1 }]);
    let late = DateSpan::new(date(2031, 1, 1), date(2031, 2, 1));
    assert_eq!(refused(&way(Named::AsSet), &facts, late), [Refusal::NoWeather]);
    let nobody = TrialWay {
        schedule: Schedule::Settings(vec![(7, set(10))]),
        sensors: vec![SensorChange { controller_number: 1, name: "Nobody".into(), change: Change::Absent }],
        ..TrialWay::default()
    };
    let all = [Refusal::NoSensor { name: "Nobody".into() }, Refusal::NoController { controller_number: 7 }];
    assert_eq!(refused(&nobody, &facts, SPAN), all);
    let mut wrong = set(14);
    wrong.programs[0].starts = vec![time(2, 0, 0, 0); 9];
    let way = TrialWay { schedule: Schedule::Settings(vec![(1, wrong)]), ..TrialWay::default() };
    assert!(matches!(refused(&way, &facts, SPAN)[..], [Refusal::CannotHold { controller_number: 1, .. }]));
    let mut short = facts;
    short.site.windows.main.from = time(4, 58, 0, 0);
    let way = TrialWay { schedule: Schedule::School(School::DeepOnce), ..TrialWay::default() };
    assert!(matches!(refused(&way, &short, SPAN)[..], [Refusal::NoPlan { .. }]));
}

#[test]
fn the_daily_balance_meets_the_protocol_and_other_schools_say_what_they_miss() {
    let facts = protocol::facts(climate(), site().station(), 0.0, &TimeZone::UTC);
    let report = protocol::report(&facts, None, School::TABLE).unwrap();
    assert!(report.weather.0 >= protocol::PERIOD_LEAST.0 && report.weather.1 >= protocol::PERIOD_LEAST.1);
    assert_eq!(report.period.count(), 30);
    let balance = &report.ways[0];
    assert_eq!(
        (balance.name.as_str(), balance.adequacy, balance.excess),
        ("daily-balance", Share::WHOLE, Share::NONE)
    );
    assert!(balance.zones.iter().all(|z| z.misses.is_empty() && z.adequacy == Share::WHOLE), "{balance:?}");
    let need = report.ways.iter().find(|w| w.name == School::JustNeed.code()).unwrap();
    assert!(
        need.excess > Share::NONE
            && need.zones.iter().any(|z| z.misses.iter().any(|m| m.kind == MissKind::Drained))
    );
    for way in &report.ways {
        for zone in &way.zones {
            // Every share that is not perfect has its hours.
            let short = zone.misses.iter().any(|m| m.kind == MissKind::Short);
            assert!(short || zone.adequacy.fraction() > 0.9999, "{} {zone:?}", way.name);
            assert!(!zone.misses.is_empty() || zone.excess.fraction() < 1e-4, "{} {zone:?}", way.name);
        }
    }
    let year = protocol::report(&facts, Some(SPAN), School::TABLE).unwrap();
    assert_eq!((year.ways[0].adequacy, year.ways[0].excess), (Share::WHOLE, Share::NONE));
    assert_eq!(
        protocol::report(&facts, Some(DateSpan::new(SPAN.first, SPAN.first + 10.days())), School::TABLE),
        Err(NoReport::NoPeriod)
    );
    let dry =
        protocol::facts(Climate::from_record(&[], site().station()), site().station(), 0.0, &TimeZone::UTC);
    assert_eq!(protocol::report(&dry, None, School::TABLE), Err(NoReport::NoPeriod));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn every_hour_of_every_way_conserves_water(
        soils in proptest::collection::vec(0usize..7, 1..4), slope in 0.0..20.0_f64, minutes in 0i64..90,
        heads in 0usize..4, named in 0usize..8, uniformity in 0.3..1.0_f64,
    ) {
        let head = [HeadType::Spray, HeadType::Rotor, HeadType::Drip, HeadType::MicroSpray][heads];
        let own: Vec<Zone> = zones().into_iter().zip(&soils).map(|(zone, soil)| Zone {
            soil: Texture::ALL[*soil], slope_pct: Some(slope), head, uniformity: Some(Share::from_fraction(uniformity)), ..zone
        }).collect();
        let facts = gauged(facts_of(&own, set(minutes)));
        let way = way(Named::TABLE[named].0);
        let mut before: Vec<Option<f64>> = vec![None; own.len()];
        let mut worst = 0.0_f64;
        let span = DateSpan::new(date(2026, 6, 1), date(2026, 6, 30));
        let result = run(&way, &facts, span, None, |place, hour| {
            let w = &hour.water;
            let now = w.depletion.mm();
            if let Some(before) = before[place] {
                let gap = before - w.rain_in.mm() - w.applied_in.mm() + w.et.mm() + w.drainage.mm()
                    - w.root_cut.mm()
                    - now;
                worst = worst.max(gap.abs());
            }
            worst = worst.max((w.rain + w.applied - w.rain_in - w.applied_in - w.runoff).mm().abs());
            before[place] = Some(now);
        });
        prop_assert!(worst < 1e-9, "{worst}");
        if let Ok(result) = result {
            for zone in &result.zones {
                prop_assert!((0.0..=1.0 + 1e-12).contains(&zone.adequacy().fraction()));
                prop_assert!((0.0..=1.0 + 1e-12).contains(&zone.excess().fraction()));
                let [low, middle, high] = zone.parts;
                // Where the soil takes no more, both have the same in the end, and the wetter one has used more by then.
                let breath = Millimetres::from_mm(0.01);
                prop_assert!(low.et <= middle.et + breath && middle.et <= high.et + breath);
            }
        } else {
            prop_assert_eq!(way.name, "et-sensor");
        }
    }
}

#[test]
fn a_way_without_ramps_asks_for_the_whole_need_and_one_that_weans_for_more_at_first() {
    let mut zones = zones();
    zones[0].planting.wean_off =
        Some(WeanOff { from: SPAN.first, weeks: 8, start: Share::from_fraction(1.5) });
    let facts = facts_of(&zones, set(14));
    let of = |planting| tried(&TrialWay { planting, ..way(Named::AsSet) }, &facts);
    let (own, none) = (of(Ramps::AsSet), of(Ramps::None));
    assert!(own.zones[0].needed > none.zones[0].needed);
    assert_eq!(own.zones[1].needed, none.zones[1].needed, "a zone without a ramp asks the same");
    let weaned = of(Ramps::WeanOff(WeanOff { from: SPAN.first, weeks: 8, start: Share::from_fraction(1.5) }));
    assert_eq!(weaned.zones[0].needed, own.zones[0].needed);
    assert!(weaned.zones[1].needed > none.zones[1].needed);
}

#[test]
fn rain_that_is_counted_holds_nothing_and_is_taken_off_the_months() {
    let facts = AccountInputs { climate: three_years(), ..facts_of(&zones(), set(40)) };
    let wet = DateSpan::new(date(2024, 4, 1), date(2024, 9, 30));
    let facts = gauged(facts);
    let of = |way: &TrialWay| run(way, &facts, wet, None, |_, _| ()).unwrap();
    let counted = of(&TrialWay { rain: Some(RainRule::Counted), ..way(Named::AsSet) });
    assert!(counted.zones.iter().all(|z| !z.skipped.contains_key("rain")));
    assert!(of(&way(Named::AsSet)).zones.iter().any(|z| z.skipped.contains_key("rain")));
    let monthly = |rain| of(&TrialWay { rain, ..way(Named::Monthly) });
    let runs = |result: &WayResult| result.zones[0].runs;
    let a_run = |result: &WayResult| result.zones[0].applied.mm() / f64::from(runs(result));
    let (held, counted) = (monthly(Some(RainRule::LeftToHold)), monthly(Some(RainRule::Counted)));
    assert!(runs(&counted) > runs(&held), "nothing is skipped");
    assert!(a_run(&counted) < a_run(&held), "{} {}", a_run(&counted), a_run(&held));
    assert_eq!(monthly(None), WayResult { way: monthly(None).way, ..held }, "as the controller has it");
}

#[test]
fn a_slower_release_skips_more() {
    let facts = gauged(facts_of(&zones(), set(14)));
    let skipped = |vent| {
        let way = with(Change::Release(Release::DriesOut { vent }));
        tried(&way, &facts).zones[0].skipped.get("rain").copied().unwrap_or(0)
    };
    assert!(skipped(0.3) > skipped(1.0), "{} {}", skipped(0.3), skipped(1.0));
}

#[test]
fn what_the_law_forbids_is_counted_run_by_run() {
    let mut facts = facts_of(&zones(), set(14));
    assert!(tried(&way(Named::AsSet), &facts).zones.iter().all(|z| z.forbidden == 0));
    // Monday, Wednesday and Friday are set; odd houses may on Wednesday and Sunday.
    facts.law = law(two_days_a_week());
    let found = tried(&way(Named::AsSet), &facts);
    let turf = &found.zones[0];
    assert!((turf.runs * 2).abs_diff(turf.forbidden * 3) <= 3, "{} of {}", turf.forbidden, turf.runs);
    let advised = tried(&way(Named::AsAdvised), &facts);
    assert!(advised.zones.iter().all(|z| z.forbidden == 0 || z.runs == 0), "advice keeps to the law");
    assert!(advised.zones.iter().any(|z| z.runs > 0));
}

#[test]
fn the_supply_is_asked_for_the_time_that_any_zone_runs() {
    let zones = zones();
    let facts = facts_of(&zones, set(14));
    let found = tried(&way(Named::AsSet), &facts);
    // Four zones one after the other, so many minutes each.
    let minutes: f64 = found.zones.iter().map(|z| f64::from(z.runs)).sum::<f64>() * 14.0;
    assert!((found.site.supply.running.minutes().min_value() - minutes).abs() < 1.0);
}

#[test]
fn weather_is_picked_from_the_record_or_says_what_it_lacks() {
    let climate = Arc::new(climate());
    let pick = |sample| pick(sample, &climate, &TimeZone::UTC);
    assert_eq!(pick(Sample::Days(SPAN)).unwrap().span, SPAN);
    assert_eq!(pick(Sample::Driest).unwrap_err(), NoSample::NoWholeYear);
    assert_eq!(pick(Sample::Wettest).unwrap_err(), NoSample::NoWholeYear);
    assert_eq!(pick(Sample::Typical).unwrap_err(), NoSample::NoTwoYears);
    assert_eq!(pick(Sample::Generated(3)).unwrap_err(), NoSample::TooFewDays);
}

/// Three years of which the second is wet and the third dry.
fn three_years() -> Arc<Climate> {
    let days = date(2023, 1, 1).series(1.day()).take_while(|d| d.year() < 2026).map(|d| {
        let warm = 9.0 * (f64::from(d.day_of_year() - 200) / 365.0 * std::f64::consts::TAU).cos();
        let (min, max) = (Celsius::from_c(7.0 + warm), Celsius::from_c(18.0 + warm));
        let mut day = DayWeather::from_temperatures(d, min, max);
        let rain = [6.0, 11.0, 1.0][usize::try_from(d.year() - 2023).unwrap()];
        day.rain = Some(Millimetres::from_mm(if d.day_of_year() % 4 == 0 { rain } else { 0.0 }));
        day
    });
    Arc::new(Climate::from_record(&days.collect::<Vec<_>>(), site().station()))
}

#[test]
fn a_dry_year_leaves_plants_shorter_than_a_typical_and_a_wet_one() {
    let climate = three_years();
    let facts = AccountInputs { climate: Arc::clone(&climate), ..facts_of(&zones(), set(6)) };
    let of = |sample| {
        let picked = pick(sample, &climate, &TimeZone::UTC).unwrap();
        let facts = AccountInputs { climate: picked.climate, ..facts.clone() };
        let found = run(&way(Named::AsSet), &facts, picked.span, None, |_, _| ()).unwrap();
        (found.site.adequacy.fraction(), picked.origin)
    };
    let (dry, typical, wet) = (of(Sample::Driest), of(Sample::Typical), of(Sample::Wettest));
    assert!(dry.0 < typical.0 && typical.0 < wet.0, "{dry:?} {typical:?} {wet:?}");
    assert_eq!(dry.1, Origin::OneOf(3));
    assert!(matches!(typical.1, Origin::Months(m) if m.values().all(|y| *y == 2023)));
    assert_eq!(of(Sample::Generated(4)), of(Sample::Generated(4)));
    assert_ne!(of(Sample::Generated(4)), of(Sample::Generated(5)));
}

#[test]
fn the_hours_of_a_day_add_up_to_it_and_name_its_runs() {
    let facts = gauged(facts_of(&zones(), set(14)));
    let way = way(Named::AsSet);
    let found = tried(&way, &facts);
    for own in found.zones[0].days.iter().take(40) {
        let day = day(&way, &facts, SPAN, StationId::new(1, 1), own.date).unwrap().unwrap();
        assert_eq!(day.hours.len(), 24);
        let sum = |of: fn(&crate::account::zone::AccountHour) -> f64| day.hours.iter().map(of).sum::<f64>();
        assert!((sum(|h| h.water.applied.mm()) - own.water.applied.mm()).abs() < 1e-9);
        assert!((sum(|h| h.water.et.mm()) - own.water.et.mm()).abs() < 1e-9);
        assert_eq!(day.hours[23].water.depletion, own.water.depletion);
        let ran = day.runs.iter().any(|run| !run.is_held());
        assert_eq!(ran, own.water.applied > Millimetres::ZERO, "{}", own.date);
    }
    assert_eq!(day(&way, &facts, SPAN, StationId::new(1, 9), SPAN.first), Ok(None), "no such zone");
    assert_eq!(
        day(&way, &facts, SPAN, StationId::new(1, 1), SPAN.last.tomorrow().unwrap()),
        Ok(None),
        "no such day"
    );
}

#[test]
fn other_days_count_for_every_program_and_a_controller_that_has_none_such_refuses() {
    let facts = facts_of(&zones(), set(14));
    let every = |interval| {
        let days = Some(Days::EveryNth { interval, first: SPAN.first });
        tried(&TrialWay { days, ..way(Named::AsSet) }, &facts)
    };
    // 123 days from the first of May.
    for (interval, nights) in [(1, 123), (2, 62), (3, 41), (7, 18)] {
        assert_eq!(every(interval).zones[0].runs, nights, "every {interval}");
    }
    let mut plain = facts;
    plain.controllers[0].card.day_modes.parity = false;
    let odd = TrialWay { days: Some(Days::Odd), ..way(Named::AsSet) };
    assert!(matches!(apply(&odd, &plain, SPAN).unwrap_err()[..], [Refusal::CannotHold { .. }]));
}

#[test]
fn nights_on_which_a_run_was_held_are_known_by_their_date() {
    let facts = gauged(facts_of(&zones(), set(14)));
    let found = tried(&way(Named::AsSet), &facts);
    let turf = &found.zones[0];
    let held: u32 = turf.skipped.values().sum();
    assert_eq!(u32::try_from(turf.held.len()).unwrap(), held, "one run a night");
    assert!(turf.held.windows(2).all(|pair| pair[0].0 < pair[1].0));
    let watered = |date| turf.days.iter().any(|d| d.date == date && d.water.applied > Millimetres::ZERO);
    assert!(turf.held.iter().all(|(date, cause)| *cause == "rain" && !watered(*date)));
    let free = tried(&way(Named::NoSensors), &facts);
    assert!(free.zones.iter().all(|z| z.held.is_empty()));
}

#[test]
fn a_watering_is_outside_unless_one_opening_of_its_windows_holds_it_whole() {
    use crate::ground::planting::GrowIn;
    use crate::quantity::time::Hours;
    use crate::quantity::units::Metres;
    let mut facts = facts_of(&zones(), Settings::clean(&twelve_stations()));
    let hours = |from, until| Hours { from: time(from, 0, 0, 0), until: time(until, 0, 0, 0) };
    facts.site.windows.main = hours(22, 5);
    let mut outside = |start, minutes, second: Option<Hours>, grow_in: Option<Date>| {
        let mut settings = set(0);
        settings.programs[0].starts = vec![start];
        settings.programs[0].run_times.clear();
        settings.set_run_time(0, 1, Seconds::from_min(minutes));
        facts.controllers[0].versions[0].1 = settings;
        facts.site.windows.second = second;
        facts.site.windows.grow_in = Some(hours(10, 15));
        let planting = &mut facts.zones.iter_mut().find(|own| own.zone.number == 1).unwrap().zone.planting;
        planting.grow_in = grow_in.map(|until| GrowIn {
            from: SPAN.first - 1.day(),
            until,
            factor: 1.0,
            root_depth: Metres::from_m(0.1),
        });
        let way = Named::AsSet.way("as-set");
        let result = run_mean(&way, &facts, SPAN, None).unwrap();
        let own = result.zones.iter().find(|zone| zone.station == 1).unwrap();
        assert!(own.runs > 40, "{}", own.runs);
        (own.outside, own.runs)
    };
    let (none, _) = outside(time(2, 0, 0, 0), 30, None, None);
    assert_eq!(none, 0);
    assert_eq!(outside(time(4, 30, 0, 0), 30, None, None).0, 0, "it ends with the window");
    let (all, runs) = outside(time(4, 30, 0, 0), 31, None, None);
    assert_eq!(all, runs);
    assert_eq!(outside(time(23, 45, 0, 0), 60, None, None).0, 0, "over midnight");
    assert_eq!(outside(time(6, 0, 0, 0), 60, Some(hours(6, 8)), None).0, 0, "in the second");
    let (all, runs) = outside(time(4, 30, 0, 0), 120, Some(hours(6, 8)), None);
    assert_eq!(all, runs, "begun in one and ended in the other");
    // Mondays, Wednesdays and Fridays in May; the window of the grow-in holds through the night of its last day.
    let (grown_in, runs) = outside(time(11, 0, 0, 0), 30, None, Some(date(2026, 5, 5)));
    assert_eq!(runs - grown_in, 3, "the first, the fourth, and the sixth in the night of the fifth");
    let (young, runs) = outside(time(2, 0, 0, 0), 30, None, Some(date(2026, 5, 5)));
    assert_eq!(young, 3, "of {runs}, at night: those three are for the day");
}
