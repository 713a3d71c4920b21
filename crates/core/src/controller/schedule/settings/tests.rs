use super::*;
use crate::controller::twelve_stations;
use jiff::civil::time;

#[test]
fn settings_beyond_the_card_are_told_by_path_with_the_nearest() {
    let card = Card { start_step_min: 15, loops: false, ..twelve_stations() };
    let settings = Settings {
        programs: vec![Program {
            name: "A".into(),
            active: true,
            starts: vec![time(2, 20, 0, 0); 5],
            days: Days::EveryNth { interval: 40, first: jiff::civil::date(2026, 7, 1) },
            run_times: vec![(13, Seconds::from_s(90)), (1, Seconds::from_h(5))],
            repeat: Some(Repeat { until: time(6, 0, 0, 0), pause: Seconds::from_s(0) }),
        }],
        percentages: Percentages::Controller(Percentage::from_percent(105)),
        stations: vec![(
            1,
            StationSetting {
                cycle_and_soak: Some((Seconds::from_s(0), Seconds::from_s(60))),
                ..StationSetting::default()
            },
        )],
        delay: Seconds::from_s(-5),
        never_days: [false; 7],
        omit_hours: None,
        rain_delay: Some((jiff::civil::date(2026, 7, 1), 20)),
        off_season: None,
        omit_dates: Vec::new(),
        master_lead: (Seconds::ZERO, Seconds::ZERO),
    };
    let faults: Vec<_> = settings.check(&card).iter().map(ToString::to_string).collect();
    insta::assert_snapshot!(faults.join("\n"));
}

#[test]
fn a_clean_controller_is_empty_and_fits_its_card() {
    for (code, card) in crate::controller::generic() {
        let clean = Settings::clean(&card);
        assert_eq!(clean.check(&card), [], "{code}");
        assert_eq!(clean.programs.len(), usize::from(card.programs));
        assert!(clean.programs.iter().all(|p| !p.active && p.starts.is_empty() && p.run_times.is_empty()));
        assert_eq!(clean.clone().canonical(), clean);
    }
}

#[test]
fn run_times_and_stations_are_changed_one_at_a_time() {
    let mut settings = Settings::clean(&twelve_stations());
    for (station, seconds) in [(5, 300), (2, 600), (5, 900)] {
        settings.set_run_time(0, station, Seconds::from_s(seconds));
    }
    assert_eq!(
        settings.programs[0].run_times,
        [(2, Seconds::from_min(10)), (5, Seconds::from_min(15))],
        "in the order of the controller"
    );
    assert_eq!(
        (settings.run_time(0, 5), settings.run_time(0, 9), settings.run_time(9, 5)),
        (Seconds::from_min(15), Seconds::ZERO, Seconds::ZERO)
    );
    settings.set_run_time(0, 2, Seconds::from_s(0));
    assert_eq!(settings.programs[0].run_times, [(5, Seconds::from_min(15))]);
    settings.set_run_time(9, 1, Seconds::from_s(60));
    settings.update_station(7, |s| s.pump = true);
    settings.update_station(3, |s| s.lighting = true);
    settings.update_station(7, |s| s.master_valve = true);
    assert_eq!(settings.stations.iter().map(|(n, _)| *n).collect::<Vec<_>>(), [3, 7]);
    assert!(settings.station(7).pump && settings.station(7).master_valve && !settings.station(8).pump);
    settings.update_station(3, |s| s.lighting = false);
    assert_eq!(settings.canonical().stations.len(), 1, "what says nothing is left out");
}

#[test]
fn what_the_card_lacks_is_named() {
    let bare = Card {
        cycle_and_soak: false,
        lighting: false,
        master_valve: false,
        pump_start: false,
        sensor_override: false,
        omit_hours: false,
        loops: false,
        longest_delay: Seconds::ZERO,
        day_modes: crate::controller::DayModes {
            weekdays: true,
            parity: false,
            longest_interval: 0,
            never_days: false,
        },
        ..twelve_stations()
    };
    let mut settings = Settings::clean(&bare);
    settings.update_station(1, |s| {
        *s = StationSetting {
            cycle_and_soak: Some((Seconds::from_s(60), Seconds::from_s(60))),
            lighting: true,
            master_valve: true,
            pump: true,
            ignores_sensors: true,
            fixed_run_time: false,
            valve_ma: None,
        };
    });
    settings.update_station(40, |s| s.lighting = true);
    settings.programs[0].days = Days::Odd;
    settings.programs[1].days = Days::EveryNth { interval: 2, first: jiff::civil::date(2026, 7, 1) };
    settings.programs[2].run_times = vec![(1, Seconds::from_min(1)); 2];
    settings.programs[2].name = String::new();
    settings.never_days[0] = true;
    settings.omit_hours = Some(Hours { from: time(1, 0, 0, 0), until: time(2, 0, 0, 0) });
    settings.delay = Seconds::from_s(5);
    settings.off_season = Some(YearSpan { from: (2, 30), until: (3, 1) });
    let faults: Vec<_> = settings.check(&bare).iter().map(ToString::to_string).collect();
    insta::assert_snapshot!(faults.join("\n"));
}

#[test]
fn a_year_span_may_cross_the_new_year() {
    let winter = YearSpan { from: (11, 1), until: (3, 31) };
    assert!(winter.holds(jiff::civil::date(2026, 12, 31)) && winter.holds(jiff::civil::date(2026, 2, 28)));
    assert!(!winter.holds(jiff::civil::date(2026, 7, 14)));
}

#[test]
fn a_date_that_is_left_out_is_a_rest_and_lighting_goes_on() {
    use crate::controller::schedule::{Rest, expand};
    use jiff::civil::{date, time};
    let card = twelve_stations();
    let mut settings = Settings::clean(&card);
    settings.programs[0].active = true;
    settings.programs[0].starts = vec![time(2, 0, 0, 0)];
    settings.programs[0].run_times = vec![(1, Seconds::from_min(10)), (2, Seconds::from_min(10))];
    settings.update_station(2, |s| s.lighting = true);
    settings.omit_dates = vec![date(2026, 7, 15), date(2026, 7, 15), date(2026, 7, 4)];
    let settings = settings.canonical();
    assert_eq!(settings.omit_dates, [date(2026, 7, 4), date(2026, 7, 15)], "in order and once");
    assert_eq!(settings.rests_on(date(2026, 7, 15)), [Rest::OmittedDate]);
    let runs = expand(&settings, &card, &jiff::tz::TimeZone::UTC, date(2026, 7, 14), date(2026, 7, 16));
    let of =
        |day| runs.iter().filter(|r| r.date == date(2026, 7, day)).map(|r| r.station).collect::<Vec<_>>();
    assert_eq!((of(14), of(15), of(16)), (vec![1, 2], vec![2], vec![1, 2]));
    assert!(!settings.awake().rests(date(2026, 7, 15)));
    let many = Settings { omit_dates: vec![date(2026, 1, 1); MOST_OMITTED + 1], ..settings };
    assert!(many.check(&card).iter().any(|f| f.path == "omit_dates"));
}
