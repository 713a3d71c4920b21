use super::*;
use crate::controller::schedule::{Days, Percentages, Repeat, StationSetting, YearSpan};
use crate::controller::twelve_stations;
use jiff::civil::{date, time};
use proptest::prelude::*;

fn program(starts: &[Time], run_times: &[(u16, i64)]) -> Program {
    Program {
        name: "A".into(),
        active: true,
        starts: starts.to_vec(),
        days: Days::Weekdays([true; 7]),
        run_times: run_times.iter().map(|(n, s)| (*n, Seconds::from_s(*s))).collect(),
        repeat: None,
    }
}

fn settings(programs: Vec<Program>) -> Settings {
    Settings {
        percentages: Percentages::Program(vec![Percentage::HUNDRED; programs.len()]),
        programs,
        stations: Vec::new(),
        delay: Seconds::from_s(0),
        never_days: [false; 7],
        omit_hours: None,
        rain_delay: None,
        off_season: None,
        omit_dates: Vec::new(),
        master_lead: (Seconds::ZERO, Seconds::ZERO),
    }
}

fn day(settings: &Settings) -> Vec<ScheduledRun> {
    expand(settings, &twelve_stations(), &TimeZone::UTC, date(2026, 7, 14), date(2026, 7, 14))
}

fn clock(at: Timestamp) -> String {
    at.strftime("%H:%M:%S").to_string()
}

#[test]
fn run_times_add_up_and_each_start_repeats_the_program() {
    // Common practice: 15 + 30 + 30 + 30 + 15 minutes total two hours.
    let minutes = [(1, 900), (2, 1800), (3, 1800), (4, 1800), (5, 900)];
    let once = day(&settings(vec![program(&[time(2, 0, 0, 0)], &minutes)]));
    assert_eq!(clock(once.last().unwrap().end), "04:00:00");
    let twice = day(&settings(vec![program(&[time(2, 0, 0, 0), time(6, 0, 0, 0)], &minutes)]));
    assert_eq!(twice.len(), 10, "a second start runs all five stations again");
    assert_eq!((twice[5].start_number, clock(twice[5].start).as_str()), (2, "06:00:00"));
}

#[test]
fn programs_laid_on_each_other_queue_or_run_together_as_the_card_says() {
    let both = vec![program(&[time(2, 0, 0, 0)], &[(1, 3600)]), program(&[time(2, 30, 0, 0)], &[(2, 600)])];
    let queued = day(&settings(both.clone()));
    assert_eq!((clock(queued[1].start).as_str(), queued[1].queued.s()), ("03:00:00", 1800));
    let card = Card { overlap: Overlap::Concurrent, ..twelve_stations() };
    let together = expand(&settings(both), &card, &TimeZone::UTC, date(2026, 7, 14), date(2026, 7, 14));
    assert_eq!(clock(together[1].start), "02:30:00");
}

#[test]
fn twenty_four_minutes_as_four_times_six_with_half_hour_soaks() {
    let mut settings = settings(vec![program(&[time(2, 0, 0, 0)], &[(1, 1440), (2, 600)])]);
    settings.stations = vec![(
        1,
        StationSetting {
            cycle_and_soak: Some((Seconds::from_s(360), Seconds::from_s(1800))),
            ..StationSetting::default()
        },
    )];
    let runs = day(&settings);
    let one: Vec<_> = runs.iter().filter(|r| r.station == 1).collect();
    assert_eq!(one.len(), 4);
    assert!(one.iter().all(|r| r.length().s() == 360));
    for pair in one.windows(2) {
        assert!(pair[1].start.duration_since(pair[0].end).as_secs() >= 1800);
    }
    let two = runs.iter().find(|r| r.station == 2).unwrap();
    assert_eq!(clock(two.start), "02:06:00", "one station's soak is another's run");
}

#[test]
fn a_run_after_midnight_belongs_to_the_date_of_its_start() {
    let runs = day(&settings(vec![program(&[time(23, 50, 0, 0)], &[(1, 1200), (2, 600)])]));
    assert_eq!(runs[1].date, date(2026, 7, 14));
    assert_eq!(runs[1].start.to_string(), "2026-07-15T00:10:00Z");
}

#[test]
fn both_clock_changes() {
    let tz = TimeZone::get("Europe/Paris").unwrap();
    let settings = settings(vec![program(&[time(2, 30, 0, 0)], &[(1, 3600)])]);
    let on = |d| expand(&settings, &twelve_stations(), &tz, d, d);
    // 29 March 2026: 02:30 does not exist and moves on to 03:30.
    assert_eq!(on(date(2026, 3, 29))[0].start.to_string(), "2026-03-29T01:30:00Z");
    // 25 October 2026: 02:30 comes twice; the first is taken, and the hour is a real hour.
    let autumn = on(date(2026, 10, 25));
    assert_eq!(autumn.len(), 1);
    assert_eq!(autumn[0].start.to_string(), "2026-10-25T00:30:00Z");
    assert_eq!(autumn[0].length().s(), 3600);
}

#[test]
fn holds_of_the_controller_spare_lighting() {
    let mut settings = settings(vec![program(&[time(21, 0, 0, 0)], &[(1, 600), (12, 7200)])]);
    settings.percentages = Percentages::Program(vec![Percentage::from_percent(50)]);
    settings.stations = vec![(12, StationSetting { lighting: true, ..StationSetting::default() })];
    let stations = |s: &Settings| day(s).iter().map(|r| (r.station, r.length().s())).collect::<Vec<_>>();
    assert_eq!(stations(&settings), [(1, 300), (12, 7200)], "lighting ignores the percentage");
    settings.rain_delay = Some((date(2026, 7, 13), 2));
    assert_eq!(stations(&settings), [(12, 7200)]);
    settings.rain_delay = Some((date(2026, 7, 12), 2));
    assert_eq!(stations(&settings).len(), 2, "the delay has ended");
    settings.off_season = Some(YearSpan { from: (7, 1), until: (7, 31) });
    assert_eq!(stations(&settings), [(12, 7200)]);
    settings.off_season = Some(YearSpan { from: (11, 1), until: (3, 31) });
    assert_eq!(stations(&settings).len(), 2, "over the new year, and July is not in it");
    settings.omit_hours =
        Some(crate::quantity::time::Hours { from: time(20, 0, 0, 0), until: time(6, 0, 0, 0) });
    assert_eq!(stations(&settings), [], "no program starts in these hours");
}

#[test]
fn a_loop_repeats_until_its_end_with_its_pause() {
    let mut pulses = program(&[time(8, 0, 0, 0)], &[(1, 60)]);
    pulses.repeat = Some(Repeat { until: time(10, 0, 0, 0), pause: Seconds::from_s(29 * 60) });
    let runs = day(&settings(vec![pulses.clone()]));
    let starts: Vec<_> = runs.iter().map(|r| clock(r.start)).collect();
    assert_eq!(starts, ["08:00:00", "08:30:00", "09:00:00", "09:30:00"]);
    pulses.run_times = vec![(1, Seconds::ZERO)];
    pulses.repeat = Some(Repeat { until: time(10, 0, 0, 0), pause: Seconds::from_s(0) });
    assert_eq!(day(&settings(vec![pulses])), [], "an empty loop ends");
}

#[test]
fn a_percentage_of_each_month_changes_at_midnight_of_the_first() {
    let mut months = crate::quantity::month::ByMonth::all(Percentage::HUNDRED);
    *months.of_mut(crate::quantity::month::Month::July) = Percentage::from_percent(50);
    let mut settings = settings(vec![program(&[time(23, 59, 0, 0), time(0, 1, 0, 0)], &[(1, 1200)])]);
    settings.percentages = Percentages::Month(months);
    let card = Card { percentage_scope: crate::controller::PercentageScope::Month, ..twelve_stations() };
    let runs = expand(&settings, &card, &TimeZone::UTC, date(2026, 6, 30), date(2026, 7, 1));
    let told: Vec<_> =
        runs.iter().map(|r| (r.start.strftime("%d %H:%M").to_string(), r.length().s())).collect();
    // The run that starts a minute before July has June's percentage to its end.
    assert_eq!(
        told,
        [
            ("30 00:19".into(), 1200),
            ("30 23:59".into(), 1200),
            ("01 00:19".into(), 600),
            ("01 23:59".into(), 600)
        ]
    );
}

#[test]
fn each_cycle_is_scaled_where_the_controller_scales_cycles() {
    let mut settings = settings(vec![program(&[time(2, 0, 0, 0)], &[(1, 1440)])]);
    settings.percentages = Percentages::Program(vec![Percentage::from_percent(50)]);
    settings.stations = vec![(
        1,
        StationSetting {
            cycle_and_soak: Some((Seconds::from_s(360), Seconds::from_s(600))),
            ..StationSetting::default()
        },
    )];
    let lengths = |target| {
        let card = Card { percentage_target: target, ..twelve_stations() };
        let runs = expand(&settings, &card, &TimeZone::UTC, date(2026, 7, 14), date(2026, 7, 14));
        runs.iter().map(|r| r.length().s()).collect::<Vec<_>>()
    };
    assert_eq!(lengths(PercentageTarget::Cycle), [180; 4], "four cycles stay, each half as long");
    assert_eq!(lengths(PercentageTarget::Total), [360; 2], "half the time takes half the cycles");
}

#[test]
fn a_loop_queues_behind_others_and_may_cross_midnight() {
    let mut pulses = program(&[time(22, 0, 0, 0)], &[(3, 120)]);
    pulses.repeat = Some(Repeat { until: time(0, 30, 0, 0), pause: Seconds::from_s(1680) });
    let runs = day(&settings(vec![program(&[time(22, 20, 0, 0)], &[(1, 1200)]), pulses]));
    let told: Vec<_> =
        runs.iter().map(|r| (r.station, clock(r.start), r.start_number, r.queued.s())).collect();
    assert_eq!(
        told[..3],
        [(3, "22:00:00".into(), 1, 0), (1, "22:20:00".into(), 1, 0), (3, "22:40:00".into(), 2, 600)]
    );
    assert!(runs.iter().all(|r| r.date == date(2026, 7, 14)), "passes after midnight belong to the start");
    assert!(runs.last().unwrap().start.to_string().as_str() < "2026-07-15T00:30:00Z");
}

#[test]
fn the_thirty_first_the_first_and_the_twenty_ninth_of_february() {
    let on = |days, from, to| {
        let mut odd = settings(vec![program(&[time(5, 0, 0, 0)], &[(1, 60)])]);
        odd.programs[0].days = days;
        let runs = expand(&odd, &twelve_stations(), &TimeZone::UTC, from, to);
        runs.iter().map(|r| r.date.strftime("%m-%d").to_string()).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(on(Days::Odd, date(2026, 7, 29), date(2026, 8, 3)), "07-29 07-31 08-01 08-03");
    assert_eq!(on(Days::Odd, date(2028, 2, 27), date(2028, 3, 3)), "02-27 02-29 03-01 03-03");
    assert_eq!(on(Days::Even, date(2026, 2, 26), date(2026, 3, 2)), "02-26 02-28 03-02");
    let nth = Days::EveryNth { interval: 3, first: date(2028, 2, 26) };
    assert_eq!(on(nth, date(2028, 2, 20), date(2028, 3, 6)), "02-26 02-29 03-03 03-06");
}

#[test]
fn programs_side_by_side_keep_their_own_order() {
    let card = Card { overlap: Overlap::Concurrent, ..twelve_stations() };
    let both = settings(vec![
        program(&[time(2, 0, 0, 0)], &[(1, 600), (2, 600)]),
        program(&[time(2, 5, 0, 0)], &[(3, 600), (4, 600)]),
    ]);
    let runs = expand(&both, &card, &TimeZone::UTC, date(2026, 7, 14), date(2026, 7, 14));
    let told: Vec<_> = runs.iter().map(|r| (r.station, clock(r.start))).collect();
    assert_eq!(
        told,
        [(1, "02:00:00".into()), (3, "02:05:00".into()), (2, "02:10:00".into()), (4, "02:15:00".into())]
    );
    assert!(runs.iter().all(|r| r.queued == Seconds::ZERO));
}

#[test]
fn what_is_off_or_empty_runs_nothing() {
    let mut settings = settings(vec![
        program(&[time(2, 0, 0, 0)], &[(1, 600)]),
        program(&[], &[(2, 600)]),
        program(&[time(3, 0, 0, 0)], &[(3, 0)]),
        program(&[time(4, 0, 0, 0)], &[(4, 600)]),
    ]);
    settings.programs[0].active = false;
    settings.programs[3].days = Days::Weekdays([false; 7]);
    assert_eq!(day(&settings), []);
    settings.programs[3].days = Days::Weekdays([true; 7]);
    settings.percentages = Percentages::Program(vec![
        Percentage::from_percent(100),
        Percentage::from_percent(100),
        Percentage::from_percent(100),
        Percentage::from_percent(0),
    ]);
    assert_eq!(day(&settings), [], "nothing at nought percent");
    settings.percentages = Percentages::Program(vec![Percentage::from_percent(100)]);
    assert_eq!(day(&settings).len(), 1, "a program without a percentage runs at 100");
}

#[test]
fn pauses_of_seconds_to_hours_and_rain_delays_of_1_to_14_days() {
    // Common practice: delays of some seconds to hours, rain delays of 1 to 14 days.
    let mut settings = settings(vec![program(&[time(2, 0, 0, 0)], &[(1, 600), (2, 600)])]);
    for pause in [Seconds::from_s(5), Seconds::from_s(90), Seconds::from_h(2)] {
        settings.delay = pause;
        let runs = day(&settings);
        assert_eq!(runs[1].start, runs[0].end + pause);
    }
    settings.delay = Seconds::from_s(0);
    for days in 1..=14u8 {
        settings.rain_delay = Some((date(2026, 7, 1), days));
        let runs = expand(&settings, &twelve_stations(), &TimeZone::UTC, date(2026, 7, 1), date(2026, 7, 20));
        assert_eq!(runs[0].date, date(2026, 7, 1) + jiff::Span::new().days(i64::from(days)));
    }
}

#[test]
fn delay_between_stations_and_overlap_for_slow_valves() {
    let mut settings = settings(vec![program(&[time(2, 0, 0, 0)], &[(1, 600), (2, 600)])]);
    settings.delay = Seconds::from_s(15);
    assert_eq!(clock(day(&settings)[1].start), "02:10:15");
    settings.delay = Seconds::from_s(-10);
    assert_eq!(clock(day(&settings)[1].start), "02:09:50");
}

proptest! {
    #[test]
    fn nothing_overlaps_on_a_queueing_controller_and_the_seconds_add_up(
        programs in proptest::collection::vec(
            (proptest::collection::vec(0u16..1440, 1..4), proptest::collection::vec((1u16..12, 0i64..3000), 1..6)), 1..4),
        percentage in 1u16..20, cycle in proptest::option::of((60i64..900, 0i64..3600)),
    ) {
        let percentage = Percentage::from_percent(percentage * 10);
        let cycle = cycle.map(|(longest, soak)| (Seconds::from_s(longest), Seconds::from_s(soak)));
        let programs: Vec<Program> = programs.into_iter().map(|(starts, mut runs)| {
            runs.sort_unstable();
            runs.dedup_by_key(|r| r.0);
            let starts: Vec<Time> = starts.into_iter().map(|m| time((m / 60) as i8, (m % 60) as i8, 0, 0)).collect();
            program(&starts, &runs)
        }).collect();
        let mut settings = settings(programs);
        settings.percentages = Percentages::Controller(percentage);
        settings.stations = (1..=12).map(|n| (n, StationSetting { cycle_and_soak: cycle, ..StationSetting::default() })).collect();
        let card = twelve_stations();
        let runs = day(&settings);
        for pair in runs.windows(2) {
            prop_assert!(pair[0].end <= pair[1].start);
        }
        let asked: Seconds = settings.programs.iter().flat_map(|p| p.starts.iter().flat_map(|_| &p.run_times))
            .map(|(_, s)| card.scaled(*s, percentage)).sum();
        prop_assert_eq!(runs.iter().map(ScheduledRun::length).sum::<Seconds>(), asked);
        if let Some((longest, soak)) = cycle {
            prop_assert!(runs.iter().all(|r| r.length() <= longest));
            for run in &runs {
                let next = runs.iter().find(|r| (r.program, r.start_number, r.station) == (run.program, run.start_number, run.station) && r.cycle == run.cycle + 1);
                if let Some(next) = next {
                    prop_assert!(next.start >= run.end + soak);
                }
            }
        }
    }
}

#[test]
fn sentence_6_a_start_waits_for_the_evening_before_whichever_day_one_begins_to_look() {
    // A at 23:00 for three hours, B at 01:00: B waits until 02:00 on every morning.
    let settings = settings(vec![
        program(&[time(23, 0, 0, 0)], &[(1, 10_800)]),
        program(&[time(1, 0, 0, 0)], &[(2, 600)]),
    ]);
    let card = twelve_stations();
    let last = date(2026, 7, 6);
    for first in [date(2026, 7, 1), date(2026, 7, 2), date(2026, 7, 5)] {
        let runs = expand(&settings, &card, &TimeZone::UTC, first, last);
        assert!(runs.iter().all(|r| r.date >= first), "nothing of the days before is told");
        let waiting: Vec<_> = runs.iter().filter(|r| r.station == 2).collect();
        assert!(!waiting.is_empty());
        for run in waiting {
            assert_eq!(clock(run.start), "02:00:00", "from {first}, on {}", run.date);
            assert_eq!(run.queued, Seconds::from_min(60));
        }
    }
}
