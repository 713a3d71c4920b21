use super::*;
use jiff::civil::{date, time};
use upland_core::site::UnitSystem;

const TODAY: Date = Date::constant(2026, 7, 14);

fn fields(pairs: &[(&str, &str)]) -> Fields {
    Fields(pairs.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect())
}

/// What a part of the form says, and what is wrong with it.
fn take<T>(pairs: &[(&str, &str)], part: impl FnOnce(&mut Taking<'_>) -> T) -> (T, Vec<String>) {
    let fields = fields(pairs);
    let mut taking = Taking { fields: &fields, today: TODAY, errors: Vec::new() };
    let read = part(&mut taking);
    (read, taking.errors)
}

/// The one thing that is wrong with a part.
fn refused<T>(pairs: &[(&str, &str)], part: impl FnOnce(&mut Taking<'_>) -> T) -> String {
    let (_, errors) = take(pairs, part);
    assert_eq!(errors.len(), 1, "{pairs:?}: {errors:?}");
    errors.into_iter().next().unwrap()
}

/// A change of the first sensor, in the units of a site.
fn sensor(system: UnitSystem) -> impl Fn(&mut Taking<'_>) -> Option<SensorChange> {
    move |taking| taking.sensor(0, 2, "rain roof".to_owned(), Units::of(system).depth)
}

fn version(number: u8, version: i32) -> (String, String, u8, SettingsRecord) {
    let record = SettingsRecord {
        version,
        kind: upland_store::settings::SettingsKind::Changed,
        reason: "drip moved".into(),
        settings: upland_core::controller::schedule::Settings::clean(
            &upland_core::controller::twelve_stations(),
        ),
        saved_by: "Bram".into(),
        saved_at: jiff::Timestamp::UNIX_EPOCH,
    };
    (format!("controller{number}v{version}"), String::new(), number, record)
}

#[test]
fn an_empty_form_is_the_site_as_it_is() {
    assert_eq!(take(&[], |t| t.schedule(&[])), (Schedule::AsSet, vec![]));
    assert_eq!(take(&[], |t| t.percentages()), (PercentageRule::AsSet, vec![]));
    assert_eq!(take(&[], |t| t.window()), (None, vec![]));
    assert_eq!(take(&[], |t| t.planting()), (Ramps::AsSet, vec![]));
    assert_eq!(take(&[], sensor(UnitSystem::Metric)), (None, vec![]));
    assert_eq!(days_of(""), None);
}

#[test]
fn every_choice_that_the_form_offers_is_understood() {
    let versions = [version(1, 3), version(2, 1)];
    for (code, _, _) in schedules(&versions, "") {
        let (schedule, errors) = take(&[("schedule", &code)], |t| t.schedule(&versions));
        assert_eq!(errors, Vec::<String>::new(), "{code}");
        assert_eq!(schedule == Schedule::AsSet, code == "as_set", "{code}: {schedule:?}");
    }
    let own = take(&[("schedule", "controller2v1")], |t| t.schedule(&versions)).0;
    assert!(matches!(&own, Schedule::Settings(all) if all.len() == 1 && all[0].0 == 2), "{own:?}");
    let gone = refused(&[("schedule", "controller1v9")], |t| t.schedule(&versions));
    assert_eq!(gone, "Choose the settings from the list.");
    for (code, _) in DAYS {
        assert_eq!(days_of(code).is_none(), code.is_empty(), "{code}");
    }
    assert_eq!((days_of("8"), days_of("0"), days_of("-1"), days_of("weekly")), (None, None, None, None));
    for (code, _) in CHANGES {
        let typed =
            [("s0-change", code), ("s0-value", "12"), ("s0-from", "2026-07-01"), ("s0-to", "2026-07-01")];
        let (change, errors) = take(&typed, sensor(UnitSystem::Metric));
        assert_eq!(errors, Vec::<String>::new(), "{code}");
        assert_eq!(change.is_none(), code.is_empty(), "{code}");
        assert!(change.is_none_or(|own| (own.controller_number, own.name.as_str()) == (2, "rain roof")));
    }
}

#[test]
fn numbers_are_in_the_units_of_the_site_and_within_their_bounds() {
    let threshold = |text, system| {
        let (change, errors) = take(&[("s0-change", "threshold"), ("s0-value", text)], sensor(system));
        assert_eq!(errors, Vec::<String>::new());
        match change.map(|own| own.change) {
            Some(Change::RainThreshold(mm)) => mm.mm(),
            other => panic!("{other:?}"),
        }
    };
    assert!((threshold("12,7", UnitSystem::Metric) - 12.7).abs() < 1e-9);
    assert!((threshold("1/2", UnitSystem::UsCustomary) - 12.7).abs() < 1e-9);
    let change = |code, text| refused(&[("s0-change", code), ("s0-value", text)], sensor(UnitSystem::Metric));
    assert!(change("threshold", "").ends_with(": a number is missing."), "{}", change("threshold", ""));
    assert!(change("threshold", "much").contains(bounds::RAIN_THRESHOLD.name));
    for (code, below, above) in [("threshold", "0.1", "500"), ("dries", "-1", "10000"), ("days", "-1", "400")]
    {
        assert!(!change(code, below).is_empty() && !change(code, above).is_empty());
    }
    let trim = |text| take(&[("percentages", "et_sensor"), ("trim", text)], |t| t.percentages());
    assert_eq!(trim("-20"), (PercentageRule::EtSensor { trim_pct: -20.0 }, vec![]));
    assert_eq!(trim("  "), (PercentageRule::EtSensor { trim_pct: 0.0 }, vec![]), "untrimmed");
    assert_eq!(trim("-99").1.len(), 1);
    assert_eq!(trim("inf").1.len(), 1);
}

#[test]
fn a_bypass_ends_on_its_first_day_or_later() {
    let bypass = |from, to| [("s0-change", "bypass"), ("s0-from", from), ("s0-to", to)];
    let one_day = take(&bypass("2026-07-01", "2026-07-01"), sensor(UnitSystem::Metric));
    let change = one_day.0.map(|own| own.change);
    assert_eq!(
        (change, one_day.1),
        (Some(Change::Bypassed(DateSpan::new(date(2026, 7, 1), date(2026, 7, 1)))), vec![])
    );
    let over_new_year = take(&bypass("2025-12-31", "2026-01-01"), sensor(UnitSystem::Metric));
    assert_eq!(over_new_year.1, Vec::<String>::new());
    let turned = refused(&bypass("2026-07-02", "2026-07-01"), sensor(UnitSystem::Metric));
    assert_eq!(turned, "rain roof: the last day of the bypass lies before the first.");
    let unread = refused(&bypass("2026-07-02", "2026-02-30"), sensor(UnitSystem::Metric));
    assert!(unread.starts_with("rain roof, last day of the bypass: "), "{unread}");
}

#[test]
fn a_window_has_two_ends_or_none() {
    let window = |from, until| take(&[("window_from", from), ("window_until", until)], |t| t.window());
    let night = Hours { from: time(22, 0, 0, 0), until: time(4, 30, 0, 0) };
    assert_eq!(window("22:00", "4:30"), (Some(night), vec![]));
    for (from, until) in [("22:00", ""), ("", "04:30"), ("22:00", "22:00")] {
        let (read, errors) = window(from, until);
        let told = "A window has a begin and another end, both times of day.";
        assert_eq!((read, errors), (None, vec![told.to_owned()]), "{from} {until}");
    }
    let (read, errors) = window("22:00", "25:00");
    assert!(read.is_none() && errors.len() == 1 && !errors[0].is_empty(), "{errors:?}");
}

#[test]
fn a_wean_off_asks_for_all_three_of_its_numbers() {
    let typed =
        [("planting", "wean_off"), ("wean_from", "2026-08-01"), ("wean_weeks", "6"), ("wean_start", "120")];
    let (ramps, errors) = take(&typed, |t| t.planting());
    let own = WeanOff { from: date(2026, 8, 1), weeks: 6, start: Share::from_percent(120.0) };
    assert_eq!((ramps, errors), (Ramps::WeanOff(own), vec![]));
    let (_, errors) = take(&[("planting", "wean_off")], |t| t.planting());
    assert_eq!(errors.len(), 3, "{errors:?}");
    assert!(errors.iter().any(|told| told.starts_with("First day of the wean-off: ")), "{errors:?}");
    assert_eq!(take(&[("planting", "none")], |t| t.planting()), (Ramps::None, vec![]));
}

#[test]
fn what_was_typed_stands_in_the_lists_again() {
    let chosen: Vec<String> = options(DAYS.map(|(code, words)| (code, words.to_owned())), "odd")
        .into_iter()
        .filter(|(_, _, chosen)| *chosen)
        .map(|(code, ..)| code)
        .collect();
    assert_eq!(chosen, ["odd"]);
    assert!(
        schedules(&[version(1, 3)], "controller1v3")
            .iter()
            .any(|(code, _, chosen)| code == "controller1v3" && *chosen)
    );
}
