use super::*;
use crate::controller::ordinance::samples::{law, two_days_a_week};
use crate::controller::schedule::{Days, Percentages, Settings};
use crate::installation::samples::installation;
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Percentage;
use crate::quantity::span::TimeSpan;
use crate::quantity::time::Seconds;
use jiff::civil::{date, time};
use jiff::tz::TimeZone;

const FROM: Date = Date::constant(2026, 7, 13);

/// One program at 01:00 on every day, a quarter of an hour for each of the four zones.
fn sound() -> Settings {
    let mut settings = Settings::clean(&installation().card);
    settings.programs[0].active = true;
    settings.programs[0].starts = vec![time(1, 0, 0, 0)];
    for station in 1..=4 {
        settings.set_run_time(0, station, Seconds::from_s(900));
    }
    settings
}

/// What is found beyond the shares of need, which have tests of their own.
fn check(installation: &Installation, settings: &Settings, from: Date) -> Vec<Finding> {
    let mut found = super::check(installation, settings, from);
    found.retain(|f| !matches!(f.kind, FindingKind::ZoneDrowned { .. } | FindingKind::ZoneShort { .. }));
    found
}

fn ids(installation: &Installation, settings: &Settings) -> Vec<String> {
    check(installation, settings, FROM).iter().map(Finding::id).collect()
}

/// The one finding of a kind, and the settings once its action is done.
fn remedied(installation: &Installation, settings: &Settings, id: &str) -> (Finding, Settings) {
    let found = check(installation, settings, FROM);
    let finding = found.iter().find(|f| f.id() == id).unwrap_or_else(|| panic!("{id} in {found:#?}")).clone();
    let remedy = finding.remedy.clone().unwrap_or_else(|| panic!("{id} offers no action"));
    let after = remedy.apply(installation, settings);
    assert!(!ids(installation, &after).contains(&id.to_owned()), "{id} is still there");
    (finding, after)
}

#[test]
fn a_sound_controller_has_no_findings() {
    assert_eq!(ids(&installation(), &sound()), Vec::<String>::new());
}

#[test]
fn sentence_10_a_zone_that_one_start_does_not_bring_enough_is_named_beside_it() {
    let (mut settings, there) = (sound(), installation());
    settings.programs[0].starts.push(time(2, 30, 0, 0));
    // One zone gets a fifth of its minutes: both starts together are too little for it.
    let run_time = settings.run_time(0, 2);
    settings.set_run_time(0, 2, Seconds::from_s(i64::from(run_time.length_s()) / 300 * 60));
    let found = check(&there, &settings, FROM).into_iter();
    let kinds: Vec<_> = found.map(|f| f.kind).collect();
    let short = kinds.iter().find_map(|kind| match kind {
        FindingKind::RepeatedStarts { short, .. } => Some(short.clone()),
        _ => None,
    });
    assert_eq!(short, Some(vec![2]), "{kinds:?}");
}

#[test]
fn sentence_11_a_lighting_station_is_no_planted_zone() {
    let (mut settings, there) = (sound(), installation());
    settings.update_station(1, |s| s.lighting = true);
    let (finding, after) = remedied(&there, &settings, "lighting-is-planted-n1");
    assert_eq!(finding.severity, Severity::Fault);
    assert!(!after.station(1).lighting);
}

#[test]
fn a_second_start_runs_the_whole_program_again_and_says_what_that_costs() {
    let mut settings = sound();
    settings.programs[0].starts.push(time(2, 30, 0, 0));
    let (finding, after) = remedied(&installation(), &settings, "repeated-starts-p0");
    assert_eq!(finding.kind, FindingKind::RepeatedStarts { starts: 2, needed: 1, short: Vec::new() });
    assert_eq!(finding.cost.minutes_a_week, Some(420.0), "an hour on seven days");
    assert!(finding.cost.litres_a_week.unwrap().l() > 15_000.0);
    assert_eq!(after, sound());
}

#[test]
fn starts_that_cycles_need_are_no_fault() {
    let mut installation = installation();
    for zone in &mut installation.zones {
        zone.zone.soil = crate::ground::soil::Texture::Clay;
        zone.zone.slope_pct = Some(14.0);
        zone.resolved = zone.zone.resolve(46.0);
    }
    let mut settings = sound();
    settings.programs[0].starts = vec![time(0, 0, 0, 0), time(1, 30, 0, 0), time(3, 0, 0, 0)];
    for station in 1..=4 {
        settings.set_run_time(0, station, Seconds::from_s(180));
    }
    assert!(!ids(&installation, &settings).iter().any(|id| id.starts_with("repeated")));
}

#[test]
fn a_program_laid_on_another_queues_and_moves_behind_it() {
    let mut settings = sound();
    settings.set_run_time(0, 4, Seconds::from_s(0));
    settings.programs[1].active = true;
    settings.programs[1].starts = vec![time(1, 10, 0, 0)];
    settings.set_run_time(1, 4, Seconds::from_s(900));
    let (finding, after) = remedied(&installation(), &settings, "queues-p1-s0");
    assert!(matches!(finding.kind, FindingKind::Queues { minutes: 35, behind: 0, .. }), "{:?}", finding.kind);
    assert!(after.programs[1].starts[0] >= time(1, 45, 0, 0));
}

#[test]
fn runs_past_the_window_are_worked_back_into_it() {
    let mut settings = sound();
    settings.programs[0].starts = vec![time(4, 30, 0, 0)];
    let (finding, after) = remedied(&installation(), &settings, "outside-window-p0-s0");
    assert_eq!(finding.severity, Severity::Fault);
    assert_eq!(after.programs[0].starts, [time(4, 0, 0, 0)], "an hour that ends at 05:00");
}

#[test]
fn a_law_that_begins_or_ends_within_a_week_counts_the_days_as_a_trial_does() {
    use crate::controller::breaches::breaches;
    use crate::controller::ordinance::AllowedDays;
    use crate::controller::ordinance::samples::ban;
    use crate::controller::schedule::YearSpan;
    let mut installation = installation();
    let settings = sound();
    let runs = expand(&settings, &installation.card, &installation.tz, FROM, last_day(FROM, WEEKS));
    let own: Vec<_> =
        runs.iter().filter(|run| run.station == 1).map(|run| TimeSpan::new(run.start, run.end)).collect();
    let mut worst = Vec::new();
    for (from, until) in
        [(-9, -1), (-9, 1), (-9, 2), (1, 1), (1, 2), (2, 6), (6, 9), (24, 40), (27, 90), (40, 90)]
    {
        let day = |k: i32| FROM.checked_add(k.days()).map(|date| (date.month(), date.day())).unwrap();
        let mut ordinance = ban(AllowedDays::Any, Vec::new());
        ordinance.rules[0].most_days_a_week = Some(2);
        ordinance.rules[0].season = Some(YearSpan { from: day(from), until: day(until) });
        installation.law = law(ordinance);
        let broken = breaches(&installation.law, installation.subject(1), &own, &installation.tz);
        let found = check(&installation, &settings, FROM);
        let told = found.iter().find(|f| f.kind.code() == "too-many-days");
        assert_eq!(told.is_some(), broken.contains(&true), "from {from} until {until}: {found:?}");
        worst.push(told.map_or(0, |f| f.cost.days.unwrap()));
    }
    // It ended before, ends on Tuesday, on Wednesday; of Tuesday alone; ... to its end it begins on the last day, and later.
    assert_eq!(worst, [0, 0, 1, 0, 1, 5, 1, 4, 1, 0]);
}

#[test]
fn forbidden_days_and_hours_and_weekly_counts_are_kept_to() {
    let mut installation = installation();
    installation.law = law(two_days_a_week());
    let mut settings = sound();
    let found = ids(&installation, &settings);
    assert!(
        found.contains(&"forbidden-day-p0".to_owned()) && found.contains(&"too-many-days-p0".to_owned()),
        "{found:?}"
    );
    let (finding, after) = remedied(&installation, &settings, "forbidden-day-p0");
    assert!(
        matches!(&finding.kind, FindingKind::ForbiddenDay { ordinance, .. } if ordinance == "Larkrigg summer watering")
    );
    assert_eq!(after.programs[0].days, Days::Weekdays([false, false, true, false, false, false, true]));
    assert_eq!(ids(&installation, &after), Vec::<String>::new());
    settings.programs[0].days = after.programs[0].days;
    settings.programs[0].starts = vec![time(11, 0, 0, 0)];
    let (_, after) = remedied(&installation, &settings, "forbidden-hour-p0-s0");
    assert_eq!(ids(&installation, &after), Vec::<String>::new());
}

#[test]
fn drip_alone_may_run_on_any_day() {
    let mut installation = installation();
    installation.law = law(two_days_a_week());
    let mut settings = sound();
    settings.programs[0].days = Days::Weekdays([false, false, true, false, false, false, true]);
    settings.set_run_time(0, 4, Seconds::from_s(0));
    settings.programs[1].active = true;
    settings.programs[1].starts = vec![time(3, 0, 0, 0)];
    settings.set_run_time(1, 4, Seconds::from_s(900));
    assert_eq!(ids(&installation, &settings), Vec::<String>::new());
}

#[test]
fn the_supply_is_shared_by_what_runs_together() {
    let mut installation = installation();
    installation.card.overlap = crate::controller::Overlap::Concurrent;
    let mut settings = sound();
    for station in 3..=4 {
        settings.set_run_time(0, station, Seconds::from_s(0));
        settings.set_run_time(1, station, Seconds::from_s(900));
    }
    settings.programs[1].active = true;
    settings.programs[1].starts = vec![time(1, 0, 0, 0)];
    let (finding, _) = remedied(&installation, &settings, "supply-exceeded");
    let FindingKind::SupplyExceeded { stations, flow, .. } = &finding.kind else { panic!("{finding:?}") };
    assert_eq!(stations.len(), 2);
    assert!((flow.l_per_min() - 105.83).abs() < 0.01, "two lawns of 52.9 L/min: {flow:?}");
    assert_eq!(finding.cost.days, Some(28));

    // Another controller on the same supply counts as well.
    let mut shared = self::installation();
    shared.elsewhere = shared.draws(&sound(), FROM, FROM.tomorrow().unwrap());
    let found = check(&shared, &sound(), FROM);
    let finding = found.iter().find(|f| f.id() == "supply-exceeded").expect("two controllers at once");
    let FindingKind::SupplyExceeded { stations, elsewhere, .. } = &finding.kind else {
        panic!("{finding:?}")
    };
    assert_eq!((stations.len(), finding.cost.days), (1, Some(2)));
    assert!((elsewhere.l_per_min() - 52.92).abs() < 0.01);
    installation.supply = Some(LitresPerMinute::from_l_per_min(40.0));
    let found = check(&installation, &sound(), FROM);
    assert!(
        found.iter().any(|f| f.id() == "supply-exceeded-n1" && f.remedy.is_none()),
        "no setting mends one zone that is too large"
    );
}

#[test]
fn a_long_run_on_a_clay_bank_is_cycled() {
    let mut installation = installation();
    installation.zones[0].zone.soil = crate::ground::soil::Texture::Clay;
    installation.zones[0].zone.slope_pct = Some(14.0);
    installation.zones[0].resolved = installation.zones[0].zone.resolve(46.0);
    let (finding, after) = remedied(&installation, &sound(), "cycle-too-long-n1");
    assert_eq!(
        finding.kind,
        FindingKind::CycleTooLong { run: Seconds::from_s(900), limit: Seconds::from_s(300) }
    );
    assert_eq!(
        after.station(1).cycle_and_soak,
        Some((Seconds::from_min(5), Seconds::from_h(1))),
        "5 min, and 60 min of soak"
    );
    let mut close = sound();
    close.update_station(1, |s| s.cycle_and_soak = Some((Seconds::from_s(300), Seconds::from_s(600))));
    let (finding, _) = remedied(&installation, &close, "soak-too-short-n1");
    assert!(matches!(finding.kind, FindingKind::SoakTooShort { needed, .. } if needed == Seconds::from_h(1)));
    // Without a built-in cycle the program is split over more starts.
    installation.card.cycle_and_soak = false;
    let mut ten = sound();
    for station in 1..=4 {
        ten.set_run_time(0, station, Seconds::from_s(600));
    }
    let (_, after) = remedied(&installation, &ten, "cycle-too-long-n1");
    assert_eq!(after.programs[0].starts.len(), 2);
    assert!(after.programs[0].run_times.iter().all(|(_, s)| *s == Seconds::from_min(5)));
}

#[test]
fn ghosts_are_found_and_switched_off() {
    let mut settings = sound();
    settings.programs[2].active = true;
    settings.programs[2].starts = vec![time(3, 0, 0, 0)];
    settings.programs[2].days = Days::Weekdays([false, true, false, false, false, false, false]);
    settings.set_run_time(2, 2, Seconds::from_s(600));
    let (finding, after) = remedied(&installation(), &settings, "hidden-program-p2");
    assert_eq!(finding.cost.minutes_a_week, Some(10.0));
    assert!(!after.programs[2].active);
    settings.programs[2].run_times.clear();
    remedied(&installation(), &settings, "empty-program-p2");
}

#[test]
fn stations_and_zones_that_do_not_belong_together() {
    let mut installation = installation();
    let mut settings = sound();
    settings.set_run_time(0, 9, Seconds::from_s(600));
    let (finding, _) = remedied(&installation, &settings, "minutes-without-zone-p0-n9");
    assert_eq!(finding.cost.minutes_a_week, Some(70.0));
    settings = sound();
    settings.set_run_time(0, 3, Seconds::from_s(0));
    assert_eq!(ids(&installation, &settings), ["zone-without-minutes-n3"]);
    installation.card.daily_run_times = true;
    assert_eq!(ids(&installation, &settings), ["no-fallback-minutes-n3"]);
    installation.card.stations = 3;
    assert!(ids(&installation, &sound()).contains(&"no-station-n4".to_owned()));
    let mut valves = sound();
    valves.update_station(1, |s| s.master_valve = true);
    for station in 2..=4 {
        let (_, after) = remedied(&self::installation(), &valves, &format!("no-master-valve-n{station}"));
        valves = after;
    }
    assert_eq!(ids(&self::installation(), &valves), Vec::<String>::new());
}

#[test]
fn a_percentage_can_round_to_nothing_and_go_beyond_the_card() {
    let mut installation = installation();
    installation.card.rounding = crate::controller::Rounding::Down;
    installation.card.rounding_step = Seconds::from_s(60);
    let mut settings = sound();
    settings.set_run_time(0, 1, Seconds::from_s(60));
    settings.percentages = Percentages::Program([50, 100, 100].map(Percentage::from_percent).to_vec());
    let (_, after) = remedied(&installation, &settings, "rounds-to-zero-p0-n1");
    assert_eq!(after.run_time(0, 1), Seconds::from_min(2));
    settings.percentages = Percentages::Program([55, 100, 100].map(Percentage::from_percent).to_vec());
    let (_, after) = remedied(&installation, &settings, "beyond-card-percentages[0]");
    assert_eq!(
        after.percentages,
        Percentages::Program([60, 100, 100].map(Percentage::from_percent).to_vec())
    );
}

#[test]
fn odd_dates_pair_up_at_the_seam_of_a_month() {
    let mut settings = sound();
    settings.programs[0].days = Days::Odd;
    let (finding, after) = remedied(&installation(), &settings, "odd-pair-p0");
    assert_eq!(finding.kind, FindingKind::OddPair { on: date(2026, 7, 31) });
    assert!(matches!(after.programs[0].days, Days::EveryNth { interval: 2, .. }));
}

#[test]
fn clock_changes_are_named_ahead() {
    let mut installation = installation();
    installation.tz = TimeZone::get("Europe/Paris").unwrap();
    let mut settings = sound();
    settings.programs[0].starts = vec![time(2, 30, 0, 0)];
    let notes: Vec<_> = check(&installation, &settings, FROM).into_iter().map(|f| f.kind).collect();
    assert_eq!(
        notes,
        [
            FindingKind::ClockChange { on: date(2026, 10, 25), removed: false },
            FindingKind::ClockChange { on: date(2027, 3, 28), removed: true }
        ]
    );
}

#[test]
fn a_percentage_that_pushes_the_night_past_sunrise_is_foreseen() {
    let mut installation = installation();
    installation.card.percentage_scope = crate::controller::PercentageScope::Month;
    let mut settings = sound();
    settings.programs[0].starts = vec![time(3, 30, 0, 0)];
    let mut months = ByMonth::all(Percentage::HUNDRED);
    *months.of_mut(Month::June) = Percentage::from_percent(180);
    settings.percentages = Percentages::Month(months);
    let (finding, after) = remedied(&installation, &settings, "past-sunrise-p0");
    let FindingKind::PastSunrise { month: Month::June, percentage, minutes } = finding.kind else {
        panic!("{finding:?}")
    };
    assert_eq!(percentage, Percentage::from_percent(180));
    // 108 min from 03:30 end at 05:18; the window ends at 05:00, after sunrise there and then.
    assert_eq!(minutes, 18);
    assert!(after.programs[0].starts[0] <= time(3, 12, 0, 0));
}

#[test]
fn a_sensor_that_stops_a_roofed_zone_is_named_and_overridden() {
    use crate::ground::plant::Sky;
    use crate::sensors::{Sensor, generic};
    let mut installation = installation();
    installation.zones[2].zone.sky = Sky::UnderEaves;
    let card = generic().into_iter().find(|(c, _)| *c == "rain_switch").unwrap().1;
    installation.sensors = vec![Sensor::of_card(card, 1)];
    let (finding, after) = remedied(&installation, &sound(), "stopped-unfelt-n3");
    assert_eq!(finding.severity, Severity::Warning);
    assert!(after.station(3).ignores_sensors);
    assert_eq!(ids(&installation, &after), Vec::<String>::new());
    let mut ignoring = after;
    ignoring.update_station(1, |s| s.ignores_sensors = true);
    let (_, heeding) = remedied(&installation, &ignoring, "ignores-sensor-n1");
    assert!(!heeding.station(1).ignores_sensors && heeding.station(3).ignores_sensors);
}

#[test]
fn a_probe_without_a_port_and_a_window_that_was_outgrown_are_told() {
    use crate::sensors::{Sensor, generic};
    let probe = || Sensor::of_card(generic().into_iter().find(|(c, _)| *c == "soil_probe").unwrap().1, 1);
    let mut installation = installation();
    installation.sensors = vec![probe()];
    let name = probe().name;
    assert_eq!(ids(&installation, &sound()), [format!("sensor-not-wired-{name}")]);
    installation.card.sensor_ports.push(crate::controller::SensorPort::SoilProbe);
    assert_eq!(ids(&installation, &sound()), Vec::<String>::new());
    installation.sensors[0].setting.cycle_window_min = Some(60);
    assert_eq!(ids(&installation, &sound()), [format!("window-too-short-{name}")]);
}

#[test]
fn valves_that_are_open_together_are_held_against_the_transformer() {
    let mut there = installation();
    there.card.overlap = crate::controller::Overlap::Concurrent;
    let mut settings = sound();
    // Two programs at the same time: two valves, and the master valve with one of them.
    settings.programs[1].active = true;
    settings.programs[1].starts = vec![time(1, 0, 0, 0)];
    settings.set_run_time(0, 2, Seconds::ZERO);
    settings.set_run_time(1, 2, Seconds::from_s(900));
    settings.update_station(1, |s| s.master_valve = true);
    let exceeded = |there: &Installation, settings: &Settings| {
        check(there, settings, FROM).into_iter().find_map(|f| match f.kind {
            FindingKind::TransformerExceeded { stations, draws_ma, gives_ma, .. } => {
                Some((stations, draws_ma, gives_ma))
            }
            _ => None,
        })
    };
    there.card.transformer_ma = Some(750);
    assert_eq!(exceeded(&there, &settings), None, "three valves of 250 mA are just held");
    there.card.transformer_ma = Some(749);
    assert_eq!(exceeded(&there, &settings), Some((vec![1, 2], 750, 749)));
    // A station with two valves was measured.
    there.card.transformer_ma = Some(750);
    settings.update_station(2, |s| s.valve_ma = Some(500));
    assert_eq!(exceeded(&there, &settings), Some((vec![1, 2], 1000, 750)));
    there.card.transformer_ma = None;
    assert_eq!(exceeded(&there, &settings), None, "nobody knows what it gives");
}

#[test]
fn a_zone_is_held_to_its_own_window_and_a_second_one_counts_for_the_rest() {
    use crate::quantity::time::Hours;
    let mut installation = installation();
    let mut settings = sound();
    settings.programs[0].starts = vec![time(12, 0, 0, 0)];
    assert!(ids(&installation, &settings).contains(&"outside-window-p0-s0".to_owned()));
    installation.windows.second = Some(Hours { from: time(12, 0, 0, 0), until: time(13, 30, 0, 0) });
    // An hour after sunrise, and yet no night that ends late: it is the window of the day.
    assert_eq!(ids(&installation, &settings), Vec::<String>::new());
    installation.zones[1].zone.window = Some(Hours { from: time(9, 0, 0, 0), until: time(10, 0, 0, 0) });
    let found = check(&installation, &settings, FROM);
    let kinds: Vec<_> = found.iter().map(|f| &f.kind).collect();
    assert!(matches!(kinds[..], [FindingKind::OutsideWindow { station: 2, .. }]), "{kinds:?}");
    // Grown in, the zone has the window of its site again: from the first night that begins after its last day.
    installation.zones[1].zone.window = None;
    installation.windows.grow_in = Some(Hours { from: time(9, 0, 0, 0), until: time(10, 0, 0, 0) });
    for (until, days) in [(14, Some(3)), (13, Some(2)), (12, Some(1)), (11, None)] {
        installation.zones[1].zone.planting.grow_in = Some(crate::ground::planting::GrowIn {
            from: date(2026, 7, 1),
            until: date(2026, 7, until),
            factor: 1.0,
            root_depth: crate::quantity::units::Metres::from_m(0.1),
        });
        let outside = check(&installation, &settings, FROM);
        assert_eq!(outside.first().and_then(|f| f.cost.days), days, "until the {until}th");
    }
}
