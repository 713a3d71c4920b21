use super::samples::{law, two_days_a_week};
use super::*;
use jiff::civil::{date, time};

const LAWN: Subject = Subject { controller_number: 1, station: 1, head: Some(HeadType::Spray) };
const DRIP: Subject = Subject { controller_number: 1, station: 2, head: Some(HeadType::Drip) };

#[test]
fn sentence_11_an_ordinance_may_go_by_the_last_digit_of_the_house_number() {
    // 0 and 1 on Mondays, 2 and 3 on Tuesdays, and so on to 8 and 9 on Fridays.
    let weeks = core::array::from_fn(|digit| core::array::from_fn(|day| day == digit / 2));
    let days = AllowedDays::WeekdaysByDigit(weeks);
    let monday = date(2026, 7, 13);
    let may = |house| (0..7).filter(|k| days.admits(monday + k.days(), house)).collect::<Vec<i32>>();
    assert_eq!(may(HouseNumber::EndsIn(0)), [0]);
    assert_eq!(may(HouseNumber::EndsIn(7)), [3]);
    assert_eq!(may(HouseNumber::Even), [0; 0], "which even digit is not known");
    let mut ordinance = two_days_a_week();
    ordinance.rules.truncate(1);
    ordinance.rules[0].days = days;
    ordinance.rules[0].most_days_a_week = None;
    assert!(ordinance.goes_by_digit());
    assert_eq!(ordinance.check(), []);
    let mut none = weeks;
    none[4] = [false; 7];
    ordinance.rules[0].days = AllowedDays::WeekdaysByDigit(none);
    assert!(ordinance.check()[0].message.contains("end in 4"));
}

#[test]
fn minutes_that_no_hours_cover_are_counted_over_midnight_and_overlaps() {
    let hours = |from, until| Hours { from: time(from, 0, 0, 0), until: time(until, 0, 0, 0) };
    let free = |all: &[Hours]| free_minutes(&all.iter().collect::<Vec<_>>());
    assert_eq!(free(&[]), 1440);
    assert_eq!(free(&[hours(10, 18), hours(9, 12)]), 15 * 60);
    assert_eq!(free(&[hours(22, 6)]), 16 * 60);
    assert_eq!(free(&[hours(6, 6)]), 1440, "hours without a length");
    assert_eq!(free(&[hours(22, 6), hours(6, 22)]), 0);
}

#[test]
fn two_days_by_house_number_and_no_watering_at_midday() {
    let mut law = law(two_days_a_week());
    let (wednesday, saturday) = (date(2026, 7, 15), date(2026, 7, 18));
    assert_eq!(law.forbids_day(Some(LAWN), wednesday), None);
    assert_eq!(law.forbids_day(Some(LAWN), saturday), Some(0));
    law.applied[0].house = HouseNumber::Even;
    assert_eq!(law.forbids_day(Some(LAWN), saturday), None);
    let hours: Vec<_> = law
        .forbidden(Some(LAWN), saturday, saturday, &TimeZone::UTC)
        .iter()
        .map(|f| (f.from.strftime("%H:%M").to_string(), f.until.strftime("%H:%M").to_string(), f.why))
        .collect();
    assert_eq!(hours, [("10:00".into(), "18:00".into(), Why::Hour)]);
}

#[test]
fn drip_and_permitted_planting_are_exempt_while_the_permit_lasts() {
    let mut law = law(two_days_a_week());
    let monday = date(2026, 7, 13);
    assert_eq!(law.forbids_day(Some(DRIP), monday), None);
    law.applied[0].permits.push(Permit {
        controller_number: 1,
        station: 1,
        from: None,
        until: monday,
        reference: "P 12".into(),
    });
    assert_eq!(law.forbids_day(Some(LAWN), monday), None);
    assert_eq!(law.forbids_day(Some(LAWN), date(2026, 7, 14)), Some(0), "the permit has ended");
    law.applied[0].ordinance.exempt_heads.clear();
    assert_eq!(law.forbids_day(Some(DRIP), monday), Some(0));
}

#[test]
fn a_season_over_the_new_year_and_hours_over_midnight() {
    let mut ordinance = two_days_a_week();
    ordinance.rules[0].season = Some(YearSpan { from: (11, 1), until: (3, 31) });
    ordinance.rules[0].days = AllowedDays::DatesOfHouseNumber;
    ordinance.rules[0].forbidden_hours = vec![Hours { from: time(22, 0, 0, 0), until: time(4, 0, 0, 0) }];
    let law = law(ordinance);
    assert_eq!(law.forbids_day(Some(LAWN), date(2026, 7, 14)), None, "out of season");
    assert_eq!(law.forbids_day(Some(LAWN), date(2026, 12, 14)), Some(0));
    let night = law.forbidden(Some(LAWN), date(2026, 12, 15), date(2026, 12, 15), &TimeZone::UTC);
    assert_eq!(night.len(), 2, "before 04:00 and from 22:00 of the same date");
}

#[test]
fn contradictory_and_empty_rules_are_told_by_path() {
    let mut wrong = two_days_a_week();
    wrong.rules[0].forbidden_hours = vec![
        Hours { from: time(6, 0, 0, 0), until: time(20, 0, 0, 0) },
        Hours { from: time(19, 0, 0, 0), until: time(6, 0, 0, 0) },
    ];
    wrong.rules[0].most_days_a_week = Some(9);
    wrong.rules.push(Rule {
        season: None,
        days: AllowedDays::Any,
        forbidden_hours: vec![],
        most_days_a_week: None,
        most_minutes_a_day: None,
        after_rain: None,
    });
    let paths: Vec<_> = wrong.check().into_iter().map(|f| f.path).collect();
    assert_eq!(paths, ["rules[0].forbidden_hours", "rules[0].most_days_a_week", "rules[1]"]);

    let week = |day: usize| core::array::from_fn(|i| i == day);
    let mut both = two_days_a_week();
    both.rules[0].days = AllowedDays::Weekdays { odd: week(0), even: week(0) };
    both.rules
        .push(Rule { days: AllowedDays::Weekdays { odd: week(1), even: week(1) }, ..both.rules[0].clone() });
    assert!(both.check()[0].message.contains("no day is left"), "{:?}", both.check());
    assert_eq!(two_days_a_week().check(), []);
}

#[test]
fn the_thirty_first_and_the_first_are_both_odd() {
    let mut ordinance = two_days_a_week();
    ordinance.rules[0].days = AllowedDays::OddDates;
    let law = law(ordinance);
    for day in [date(2026, 7, 31), date(2026, 8, 1)] {
        assert_eq!(law.forbids_day(Some(LAWN), day), None);
    }
    assert_eq!(law.forbids_day(Some(LAWN), date(2026, 8, 2)), Some(0));
}
