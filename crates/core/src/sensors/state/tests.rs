use super::*;
use crate::controller::schedule::ScheduledRun;
use crate::quantity::time::Seconds;
use crate::quantity::units::{Celsius, MetresPerSecond, Millimetres};
use crate::sensors::{Release, Setting, generic};
use jiff::civil::date;
use jiff::{SignedDuration, ToSpan};
use proptest::prelude::*;

fn start() -> Timestamp {
    "2026-07-01T00:00:00Z".parse().unwrap()
}

fn hours(n: f64) -> Timestamp {
    start() + SignedDuration::from_secs((n * 3600.0) as i64)
}

fn readings(list: &[(f64, f64)]) -> Readings {
    Readings::new(list.iter().map(|(h, value)| Reading { at: hours(*h), value: *value }).collect())
}

/// Five millimetres of ET0 a day, for a hundred days.
fn drying() -> Drying {
    Drying::new((0..100).map(|d| (hours(24.0 * f64::from(d)), Millimetres::from_mm(5.0))).collect())
}

fn sensor(code: &str, change: impl FnOnce(&mut Setting)) -> Sensor {
    let card = generic().into_iter().find(|(c, _)| *c == code).unwrap().1;
    let mut sensor = Sensor::of_card(card, 1);
    change(&mut sensor.setting);
    sensor
}

fn about(at: Option<Timestamp>, wanted: Timestamp) -> bool {
    at.is_some_and(|at| at.duration_since(wanted).as_secs().abs() <= 1)
}

#[test]
fn a_switch_trips_when_full_and_releases_when_dry() {
    let set = (Millimetres::from_mm(12.0), Release::DriesOut { vent: 1.0 });
    // 14 mm at six o'clock: tripped, soaked with 8 mm, and 8 mm at 5 mm a day are 38.4 hours.
    let holds =
        rain_holds(set.0, set.1, &readings(&[(6.0, 14.0), (7.0, 0.0), (90.0, 0.0)]), &drying(), hours(100.0));
    assert_eq!(holds.len(), 1);
    assert_eq!(
        (holds[0].from, holds[0].cause),
        (hours(6.0), Cause::Rain { fallen_mm: 14.0, since: hours(6.0) })
    );
    assert!(about(holds[0].until, hours(44.4)), "{holds:?}");
}

#[test]
fn a_drizzle_below_the_threshold_does_not_trip_it() {
    let set = (Millimetres::from_mm(12.0), Release::DriesOut { vent: 1.0 });
    // 4 mm a day dry faster than they come.
    let drizzle: Vec<_> = (0..10).map(|d| (24.0 * f64::from(d) + 6.0, 4.0)).collect();
    assert_eq!(rain_holds(set.0, set.1, &readings(&drizzle), &drying(), hours(300.0)), []);
    let small = (Millimetres::from_mm(3.0), Release::DriesOut { vent: 1.0 });
    assert_eq!(
        rain_holds(small.0, small.1, &readings(&drizzle), &drying(), hours(300.0)).len(),
        10,
        "the smallest step stops for each"
    );
}

#[test]
fn rain_on_wet_discs_is_one_event_and_its_count_ends_when_they_are_dry() {
    let set = (Millimetres::from_mm(12.0), Release::DriesOut { vent: 1.0 });
    // 5 mm on the first day and 9 on the second: the discs never dried between, so 14 mm are one event.
    let two = [(6.0, 5.0), (24.0, 9.0)];
    let holds = rain_holds(set.0, set.1, &readings(&two), &drying(), hours(500.0));
    assert_eq!(holds.len(), 1);
    assert_eq!(
        (holds[0].from, holds[0].cause),
        (hours(24.0), Cause::Rain { fallen_mm: 14.0, since: hours(6.0) })
    );
    // The same a week apart are two events, and neither trips it.
    assert_eq!(rain_holds(set.0, set.1, &readings(&[(6.0, 5.0), (180.0, 9.0)]), &drying(), hours(500.0)), []);
    // Rain while it holds lengthens the hold and is not counted for the next.
    let long = [(6.0, 14.0), (20.0, 30.0), (300.0, 11.0)];
    let holds = rain_holds(set.0, set.1, &readings(&long), &drying(), hours(500.0));
    assert_eq!(holds.len(), 1, "eleven on dry discs do not trip it: {holds:?}");
    assert!(about(holds[0].until, hours(58.4)), "soaked again at hour 20: {holds:?}");
}

#[test]
fn discs_dry_by_the_hour_and_not_at_night() {
    // Five millimetres between six and eighteen o'clock, nothing in the dark.
    let spans = (0..400).map(|h| {
        let day = (6..18).contains(&(h % 24));
        (hours(f64::from(h)), Millimetres::from_mm(if day { 5.0 / 12.0 } else { 0.0 }))
    });
    let set = (Millimetres::from_mm(3.0), Release::DriesOut { vent: 1.0 });
    let holds =
        rain_holds(set.0, set.1, &readings(&[(18.0, 4.0)]), &Drying::new(spans.collect()), hours(200.0));
    assert!(about(holds[0].until, hours(39.6)), "4 mm take 9.6 hours of the next day: {holds:?}");
}

#[test]
fn a_closed_vent_holds_longer_in_proportion() {
    let until = |vent| {
        let set = (Millimetres::from_mm(10.0), Release::DriesOut { vent });
        rain_holds(set.0, set.1, &readings(&[(0.0, 20.0)]), &drying(), hours(1000.0))[0].until.unwrap()
    };
    assert!(about(Some(until(1.0)), hours(38.4)));
    assert!(about(Some(until(0.5)), hours(76.8)));
}

#[test]
fn a_hold_by_days_counts_from_the_last_rain_that_tripped_it() {
    let set = (Millimetres::from_mm(12.0), Release::Days(2));
    // 7 and 6 mm within a day make 13; another 5 twelve hours later still do.
    let read = readings(&[(0.0, 7.0), (10.0, 6.0), (22.0, 5.0), (200.0, 0.0)]);
    let holds = rain_holds(set.0, set.1, &read, &drying(), hours(300.0));
    assert_eq!(
        holds,
        [Hold {
            from: hours(10.0),
            until: Some(hours(70.0)),
            cause: Cause::Rain { fallen_mm: 13.0, since: hours(0.0) }
        }]
    );
    // Spread over two days they do not.
    let spread = readings(&[(0.0, 7.0), (30.0, 6.0), (60.0, 7.0)]);
    assert_eq!(rain_holds(set.0, set.1, &spread, &drying(), hours(300.0)), []);
}

#[test]
fn cold_holds_until_it_is_a_degree_warmer() {
    let sensor = sensor("freeze_switch", |s| s.freeze_at = Celsius::from_c(3.0));
    let read =
        [(Channel::Temperature, readings(&[(0.0, 5.0), (2.0, 3.0), (4.0, 3.5), (6.0, 4.0), (8.0, 6.0)]))]
            .into();
    let holds = holds(&sensor, &read, &drying(), hours(9.0));
    assert_eq!(
        holds,
        [Hold { from: hours(2.0), until: Some(hours(6.0)), cause: Cause::Frost { read_c: 3.0 } }]
    );
}

#[test]
fn wind_must_be_calm_for_a_while() {
    let sensor = sensor("wind_switch", |s| s.wind_above = MetresPerSecond::from_m_per_s(5.0));
    let read =
        [(Channel::Wind, readings(&[(0.0, 6.0), (0.1, 4.0), (0.2, 5.5), (0.3, 4.0), (0.6, 3.0)]))].into();
    let holds = holds(&sensor, &read, &drying(), hours(2.0));
    assert_eq!(holds.len(), 1);
    assert!(about(holds[0].until, hours(0.6)), "six minutes of calm were not enough: {holds:?}");
}

#[test]
fn a_silent_sensor_is_not_believed_for_ever() {
    let sensor = sensor("freeze_switch", |_| {});
    let read: ByChannel = [(Channel::Temperature, readings(&[(0.0, 1.0)]))].into();
    assert_eq!(holds(&sensor, &read, &drying(), hours(48.0))[0].until, Some(hours(6.0)));
    assert_eq!(says(&sensor, &read, &drying(), hours(48.0)), Says::Silent { last: Some(hours(0.0)) });
    assert_eq!(says(&sensor, &ByChannel::new(), &drying(), hours(48.0)), Says::Silent { last: None });
    assert!(matches!(says(&sensor, &read, &drying(), hours(2.0)), Says::Holds { earliest: None, .. }));
}

#[test]
fn a_probe_says_whether_it_would_refuse_and_the_record_says_nothing_for_it() {
    let sensor = sensor("soil_probe", |s| s.soil_threshold_pct = Some(30.0));
    let read: ByChannel =
        [(Channel::SoilMoisture, readings(&[(0.0, 28.0), (2.0, 31.0), (4.0, 33.0)]))].into();
    let Says::Holds { hold, .. } = says(&sensor, &read, &drying(), hours(5.0)) else { panic!() };
    assert_eq!((hold.from, hold.cause), (hours(2.0), Cause::WetSoil { read_pct: 31.0 }));
    assert!(holds(&sensor, &read, &drying(), hours(5.0)).is_empty(), "it decides by window");
    let weather: ByChannel = [(Channel::Rain, readings(&[(4.0, 3.0)]))].into();
    assert_eq!(says(&sensor, &weather, &drying(), hours(5.0)), Says::Silent { last: None });
}

#[test]
fn what_the_contact_says_counts_before_any_model() {
    let sensor = sensor("rain_switch", |_| {});
    let read: ByChannel = [
        (Channel::Contact, readings(&[(0.0, 0.0), (5.0, 1.0), (80.0, 0.0)])),
        (Channel::Rain, readings(&[(1.0, 50.0)])),
    ]
    .into();
    let holds = holds(&sensor, &read, &drying(), hours(100.0));
    assert_eq!(holds, [Hold { from: hours(5.0), until: Some(hours(80.0)), cause: Cause::Contact }]);
    assert_eq!(says(&sensor, &read, &drying(), hours(99.0)), Says::Free { since: Some(hours(80.0)) });
}

#[test]
fn the_end_of_a_rain_hold_is_foretold_from_expected_et() {
    let sensor = sensor("rain_switch", |s| {
        s.rain_threshold = Millimetres::from_mm(10.0);
        s.release = Release::DriesOut { vent: 1.0 };
    });
    let read: ByChannel = [(Channel::Rain, readings(&[(0.0, 12.0), (5.0, 0.0)]))].into();
    let Says::Holds { hold, earliest } = says(&sensor, &read, &drying(), hours(6.0)) else { panic!() };
    assert_eq!((hold.from, hold.until), (hours(0.0), None));
    assert!(about(earliest, hours(38.4)));
}

#[test]
fn a_bypass_ends_by_itself() {
    let pause = Pause::of_hours(start(), BYPASS_HOURS);
    assert!(pause.runs(start()) && pause.runs(hours(23.9)) && !pause.runs(hours(24.0)));
    assert_eq!(Pause::of_hours(start(), 100_000).until, hours(24.0 * 14.0));
    assert_eq!(Pause::of_hours(start(), -5).until, hours(1.0));
}

fn run(station: u16, from: f64, until: f64) -> ScheduledRun {
    ScheduledRun {
        start: hours(from),
        end: hours(until),
        program: 0,
        start_number: 1,
        start_index: 0,
        station,
        cycle: 1,
        date: date(2026, 7, 1) + ((from / 24.0) as i64).days(),
        queued: Seconds::from_s(0),
    }
}

#[test]
fn a_cycle_of_six_hours_needs_a_window_of_seven() {
    let runs = [run(1, 1.0, 3.0), run(2, 3.0, 7.0), run(1, 26.0, 27.0)];
    assert_eq!(cycle_window_needed_min(runs.iter()), Some(7 * 60));
    assert_eq!(cycle_window_needed_min([].iter()), None);
}

#[test]
fn a_probe_keeps_its_word_through_the_window() {
    let window = |from: f64| CycleWindow { from: hours(from), until: hours(from + 7.0) };
    let read = readings(&[(0.5, 31.0), (2.0, 25.0), (23.9, 20.0), (26.0, 35.0)]);
    let decided = decide_windows(30.0, &[window(1.0), window(25.0), window(73.0)], &read, Timestamp::MAX);
    assert!(decided[0].refuses, "wet at the start, whatever comes");
    assert!(!decided[1].refuses, "dry at the start; the rise is its own water");
    assert_eq!((decided[2].refuses, decided[2].read_pct), (false, None), "an old reading refuses nothing");
}

#[test]
fn sentence_8_who_decides_for_a_probe_and_for_how_long_is_one_rule() {
    let mut probe = sensor("soil_probe", |_| ());
    assert_eq!(probe_decides(&probe, &ByChannel::new()), Some(ProbeDecides::Nobody));
    probe.setting.soil_threshold_pct = Some(38.0);
    // Read at 18:00; the first run begins at 01:00, seven hours later.
    let mut read = ByChannel::from([(Channel::SoilMoisture, readings(&[(18.0, 38.2)]))]);
    let window = CycleWindow { from: hours(25.0), until: hours(32.0) };
    let refuses = |read: &ByChannel, now| {
        decide_windows(38.0, &[window], &read[&Channel::SoilMoisture], now).iter().any(|w| w.refuses)
    };
    let holds =
        |read: &ByChannel, now| matches!(says(&probe, read, &Drying::default(), now), Says::Holds { .. });
    for (now, both) in [(18.0, true), (23.9, true), (24.1, false), (40.0, false)] {
        assert_eq!((holds(&read, hours(now)), refuses(&read, hours(now))), (both, both), "asked at {now} h");
    }
    assert_eq!(probe_decides(&probe, &read), Some(ProbeDecides::Readings));
    // A relay that reported decides, whatever was read beside it.
    read.insert(Channel::Contact, readings(&[(10.0, 0.0)]));
    assert_eq!(probe_decides(&probe, &read), Some(ProbeDecides::Relay));
    assert!(!holds(&read, hours(18.0)));
    assert_eq!(probe_decides(&sensor("rain_switch", |_| ()), &read), None);
}

#[test]
fn the_percentage_is_the_mean_against_full_demand_with_its_trim() {
    let set =
        Setting { et_days: 3, et_full: Millimetres::from_mm(5.0), et_trim_pct: 10.0, ..Setting::default() };
    let days = [(10, 9.0), (12, 4.0), (13, 5.0), (14, 3.0), (15, 9.0)];
    let days = || days.iter().map(|(d, mm)| (date(2026, 7, *d), Millimetres::from_mm(*mm)));
    let found = et_percentage(&set, days(), date(2026, 7, 14)).unwrap();
    assert_eq!(found.days, 3);
    assert!((found.percentage - 88.0).abs() < 1e-9 && (found.mean.mm() - 4.0).abs() < 1e-12);
    assert_eq!(et_percentage(&set, days(), date(2026, 7, 20)), None);
}

#[test]
fn flow_is_learned_alone_and_alarms_name_the_station() {
    let runs = [run(1, 1.0, 1.5), run(2, 1.5, 2.0)];
    let good = readings(&[
        (1.01, 90.0),
        (1.1, 40.0),
        (1.2, 41.0),
        (1.3, 39.0),
        (1.6, 20.0),
        (1.7, 21.0),
        (1.8, 20.0),
    ]);
    let learned = learn_flow(&good, &runs);
    assert_eq!(learned, [(1, 40.0), (2, 20.0)].into(), "the filling minutes do not count");
    let bad = readings(&[(1.2, 60.0), (1.7, 5.0), (1.8, 22.0), (5.0, 3.0), (6.0, 0.0)]);
    let kinds: Vec<_> =
        flow_alarms(30.0, 30.0, &learned, &bad, &runs).iter().map(|a| (a.station, a.kind)).collect();
    assert_eq!(
        kinds,
        [(Some(1), FlowAlarmKind::High), (Some(2), FlowAlarmKind::Low), (None, FlowAlarmKind::Leak)]
    );
}

proptest! {
    #[test]
    fn no_hold_without_cause_and_none_depends_on_order(
        rain in proptest::collection::vec((0..2000_i64, 0.0..30.0_f64), 0..60),
        temperatures in proptest::collection::vec((0..2000_i64, -5.0..15.0_f64), 0..60),
        threshold in 3.0..25.0_f64,
        days in proptest::option::of(1..5_u8),
        seed in any::<u64>(),
    ) {
        let sensor = sensor("rain_freeze_switch", |s| {
            s.rain_threshold = Millimetres::from_mm(threshold);
            s.release = days.map_or(Release::DriesOut { vent: 0.7 }, Release::Days);
        });
        let make = |list: &[(i64, f64)]| Readings::new(list.iter().map(|(m, v)| Reading { at: start() + (m * 30).minutes(), value: *v }).collect());
        let read: ByChannel = [(Channel::Rain, make(&rain)), (Channel::Temperature, make(&temperatures))].into();
        let end = start() + (24 * 95).hours();
        let found = holds(&sensor, &read, &drying(), end);
        for hold in &found {
            match hold.cause {
                Cause::Rain { fallen_mm, since } => {
                    prop_assert!(fallen_mm >= threshold - 1e-6 && since <= hold.from);
                    let named: f64 = read[&Channel::Rain].between(since, hold.from).iter().map(|r| r.value).sum();
                    prop_assert!((named - fallen_mm).abs() < 1e-6, "the record's own rain: {named} and {fallen_mm}");
                }
                Cause::Frost { read_c } => prop_assert!(read_c <= 3.0),
                _ => prop_assert!(false, "no other cause"),
            }
            prop_assert!(hold.until.is_some_and(|u| u >= hold.from), "every latch releases in time: {hold:?}");
        }
        let mut shuffled = (rain, temperatures);
        let turn = |list: &mut Vec<(i64, f64)>| if !list.is_empty() {
            let by = usize::try_from(seed % 997).unwrap() % list.len();
            list.rotate_left(by);
            list.reverse();
        };
        turn(&mut shuffled.0);
        turn(&mut shuffled.1);
        let again: ByChannel = [(Channel::Rain, make(&shuffled.0)), (Channel::Temperature, make(&shuffled.1))].into();
        prop_assert_eq!(holds(&sensor, &again, &drying(), end), found);
    }

    #[test]
    fn a_smaller_step_holds_whenever_a_larger_one_does(
        rain in proptest::collection::vec((0..2000_i64, 0.0..30.0_f64), 0..60),
        small in 3.0..25.0_f64,
        more in 0.0..20.0_f64,
    ) {
        let read = Readings::new(rain.iter().map(|(m, v)| Reading { at: start() + (m * 30).minutes(), value: *v }).collect());
        let of = |mm: f64| {
            let set = (Millimetres::from_mm(mm), Release::DriesOut { vent: 0.7 });
            rain_holds(set.0, set.1, &read, &drying(), start() + (24 * 60).hours())
        };
        let (often, seldom) = (of(small), of(small + more));
        for hour in (0..24 * 60).step_by(5) {
            let at = start() + i64::from(hour).hours();
            if seldom.iter().any(|h| h.stands(at)) {
                prop_assert!(often.iter().any(|h| h.stands(at)), "{small} and {more} at hour {hour}");
            }
        }
    }

    #[test]
    fn a_larger_threshold_never_trips_more_often(
        rain in proptest::collection::vec((0..2000_i64, 0.0..20.0_f64), 0..80),
        small in 3.0..25.0_f64,
        more in 0.0..20.0_f64,
        days in proptest::option::of(1..5_u8),
    ) {
        let read = Readings::new(rain.iter().map(|(m, v)| Reading { at: start() + (m * 30).minutes(), value: *v }).collect());
        let release = days.map_or(Release::DriesOut { vent: 0.7 }, Release::Days);
        let trips = |mm: f64| rain_holds(Millimetres::from_mm(mm), release, &read, &drying(), start() + (24 * 60).hours()).len();
        prop_assert!(trips(small + more) <= trips(small));
    }

    #[test]
    fn a_shower_below_the_threshold_on_dry_discs_never_trips(
        showers in proptest::collection::vec(0.1..0.99_f64, 1..20), threshold in 3.0..25.0_f64,
    ) {
        // Ten days apart: five millimetres a day dry even soaked discs in three.
        let read: Vec<(f64, f64)> = showers.iter().enumerate().map(|(i, s)| (240.0 * i as f64, s * threshold)).collect();
        let set = (Millimetres::from_mm(threshold), Release::DriesOut { vent: 0.7 });
        prop_assert_eq!(rain_holds(set.0, set.1, &readings(&read), &drying(), hours(6000.0)), vec![]);
    }

    #[test]
    fn what_is_said_now_never_looks_ahead(
        rain in proptest::collection::vec((0..400_i64, 0.0..30.0_f64), 0..30),
        now in 0..400_i64,
    ) {
        let sensor = sensor("rain_switch", |_| {});
        let make = |list: Vec<(i64, f64)>| -> ByChannel {
            [(Channel::Rain, Readings::new(list.into_iter().map(|(h, v)| Reading { at: start() + h.hours(), value: v }).collect()))].into()
        };
        let at = start() + now.hours();
        let past: Vec<_> = rain.iter().copied().filter(|(h, _)| *h <= now).collect();
        let whole = holds(&sensor, &make(rain), &drying(), at);
        prop_assert_eq!(whole, holds(&sensor, &make(past), &drying(), at));
    }

    #[test]
    fn a_bypass_always_ends(hours in any::<i64>()) {
        let pause = Pause::of_hours(start(), hours);
        prop_assert!(pause.until > pause.from);
        prop_assert!(!pause.runs(start() + SignedDuration::from_hours(LONGEST_BYPASS_HOURS)));
    }
}
