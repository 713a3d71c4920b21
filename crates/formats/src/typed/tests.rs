//! What people type, and that everything written is read back.

use super::*;
use jiff::ToSpan;
use jiff::civil::{Date, Time, date as day, time};
use proptest::prelude::*;
use upland_core::controller::schedule::Days;
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::time::Seconds;

const EURO: Habit = Habit { clock: Clock::Hours24, dates: DateOrder::DayFirst };
const US: Habit = Habit { clock: Clock::Hours12, dates: DateOrder::MonthFirst };
/// A Tuesday.
const TODAY: Date = Date::constant(2026, 7, 14);

fn min(m: i64) -> Seconds {
    Seconds::from_min(m)
}

/// Both readings of a text that has two, as it says them.
fn asked<T: core::fmt::Debug>(read: Read<T>) -> [String; 2] {
    match read {
        Err(Refusal::TwoWays(_, [a, b])) => [a.means, b.means],
        other => panic!("one reading only: {other:?}"),
    }
}

#[test]
fn times_of_day_as_people_type_them() {
    let at = |h, m| Ok(time(h, m, 0, 0));
    for (text, expected) in [
        ("3 AM", at(3, 0)),
        ("3:00am", at(3, 0)),
        ("3:00 a.m.", at(3, 0)),
        ("0300", at(3, 0)),
        ("03:00", at(3, 0)),
        ("12 am", at(0, 0)),
        ("12:30 PM", at(12, 30)),
        ("noon", at(12, 0)),
        ("midnight", at(0, 0)),
        ("22:15", at(22, 15)),
        ("10p", at(22, 0)),
        (" 5:45 pm ", at(17, 45)),
    ] {
        assert_eq!(time_of_day(text, EURO), expected, "{text}");
        assert_eq!(time_of_day(text, US), expected, "{text}");
    }
    for (text, expected) in
        [("3", at(3, 0)), ("3:00", at(3, 0)), ("930", at(9, 30)), ("9.30", at(9, 30)), ("6h30", at(6, 30))]
    {
        assert_eq!(time_of_day(text, EURO), expected, "{text}");
    }
    // Whoever reads twelve hours is asked which half of the day.
    assert_eq!(asked(time_of_day("3:00", US)), ["3:00 AM", "3:00 PM"]);
    assert_eq!(asked(time_of_day("12", US)), ["12:00 AM", "12:00 PM"]);
    for text in [
        "", "25:00", "24:00", "13 pm", "0 am", "3:60", "3:0", "03:00x", "3:00:00", "-3", "3 am 4", "am",
        "٣:٠٠",
    ] {
        assert!(matches!(time_of_day(text, EURO), Err(Refusal::Unreadable(_))), "{text}");
    }
    assert_eq!(
        times("2:00, 0430 and 5 AM", EURO),
        Ok(vec![time(2, 0, 0, 0), time(4, 30, 0, 0), time(5, 0, 0, 0)])
    );
    assert_eq!(times("2 am 4:30 PM", US), Ok(vec![time(2, 0, 0, 0), time(16, 30, 0, 0)]));
    assert!(times("2:00 soon", EURO).is_err());
}

#[test]
fn lengths_of_time_as_people_type_them() {
    for (text, seconds) in [
        ("12", 720),
        ("12 min", 720),
        ("75 min", 4500),
        ("1h15", 4500),
        ("1 h 15 min", 4500),
        ("1 hour 15 minutes", 4500),
        ("1 hr, 15 min", 4500),
        ("1 hour and 15 minutes", 4500),
        ("7m30", 450),
        ("7m30s", 450),
        ("7 min 30 s", 450),
        ("7.5", 450),
        ("7,5", 450),
        ("7 1/2", 450),
        ("7½", 450),
        ("1½ h", 5400),
        ("90 s", 90),
        ("45s", 45),
        ("2h", 7200),
        ("9 h", 32_400),
        ("1:15:00", 4500),
        ("0", 0),
        ("24 h", 86_400),
        // No run takes 45 hours: one reading only.
        ("45:30", 2730),
    ] {
        assert_eq!(duration(text), Ok(Seconds::from_s(seconds)), "{text}");
    }
    assert_eq!(asked(duration("1:30")), ["1 h 30 min", "1 min 30 s"]);
    for text in [
        "",
        "ten",
        "12x",
        "12 min x",
        "-5",
        "1h75",
        "15 min 1 h",
        "1:75",
        "1:2:3:4",
        "25 h",
        "1441",
        "inf",
        "nan",
        "1e3",
        "h",
        "12 mm",
    ] {
        assert!(matches!(duration(text), Err(Refusal::Unreadable(_))), "{text}: {:?}", duration(text));
    }
    assert_eq!(write_duration(Seconds::from_s(4500)), "1 h 15 min");
    assert_eq!(
        [450, 45, 4500, 5430].map(|s| write_duration_briefly(Seconds::from_s(s))),
        ["7m30", "45s", "75", "1h30m30"]
    );
}

#[test]
fn numbers_as_people_type_them() {
    for (text, value) in [
        ("12", 12.0),
        ("12.5", 12.5),
        ("12,5", 12.5),
        (".5", 0.5),
        ("0,250", 0.25),
        ("1,250.5", 1250.5),
        ("1.250,5", 1250.5),
        ("1\u{202f}250", 1250.0),
        ("1,250,000", 1_250_000.0),
        ("1/2", 0.5),
        ("3/8", 0.375),
        ("3 1/2", 3.5),
        ("3-1/2", 3.5),
        ("1½", 1.5),
        ("-4.5", -4.5),
        ("−4", -4.0),
        ("+3", 3.0),
    ] {
        assert_eq!(number(text), Ok(value), "{text}");
    }
    assert_eq!(asked(number("1,250")), ["1.250", "1250"]);
    for text in ["", "x", "1.2.3", "1,2,3", "12x", "1/0", "inf", "NaN", "1e5", "--4", "1 2", "½½", "/", ","]
    {
        assert!(number(text).is_err(), "{text}");
    }
}

#[test]
fn units_are_taken_in_the_text_and_turned_into_those_of_the_field() {
    for (text, unit, value) in [
        ("12", "mm", 12.0),
        ("1/2 in", "mm", 12.7),
        ("half an inch", "mm", 12.7),
        ("3/8\"", "in", 0.375),
        ("36 F", "°C", 2.222_222),
        ("36 °F", "°C", 2.222_222),
        ("3 C", "°F", 37.4),
        ("37°", "°F", 37.0),
        ("-4", "°C", -4.0),
        ("5 ft 6 in", "m", 1.6764),
        ("5' 6\"", "ft", 5.5),
        ("12 m", "ft", 39.370_079),
        ("2 in/h", "mm/h", 50.8),
        ("1,5 m³/h", "L/min", 25.0),
        ("10 gpm", "L/min", 37.854_118),
        ("600 sq ft", "m²", 55.741_824),
        ("12 mph", "m/s", 5.364_48),
        ("70 %", "%", 70.0),
        ("70%", "%", 70.0),
        ("0.5 l/h", "gph", 0.132_086),
        ("200 mA", "A", 0.2),
        ("45.5 N", "°", 45.5),
        ("30.25° W", "°", -30.25),
        ("-30", "°", -30.0),
        ("3 weeks", "weeks", 3.0),
        ("15 diameters", "diameters", 15.0),
        ("0.7", "of reference ET", 0.7),
        ("90 min", "h", 1.5),
        ("12 fl oz", "mL", 354.882_354),
    ] {
        let read = quantity(text, unit).unwrap_or_else(|e| panic!("{text} in {unit}: {e}"));
        assert!((read - value).abs() < 1e-5, "{text} in {unit}: {read}");
    }
    for (text, unit, says) in [
        ("36 F", "mm", "is a temperature; this takes a length, in mm, cm, m"),
        ("12 furlongs", "m", "no unit that is known here"),
        ("wet", "mm", "is not a number of mm"),
        ("12 mm mm", "mm", "no unit"),
        ("", "", "is not a number"),
        ("5 in 3", "in", ""),
        ("1,250 m", "m", "can be read as 1.250 m or as 1250 m"),
        ("inf", "mm", ""),
    ] {
        let said = quantity(text, unit).unwrap_err().to_string();
        assert!(said.contains(says), "{text}: {said}");
    }
}

#[test]
fn slopes_are_percent_or_degrees_or_a_ratio() {
    for (text, percent) in [
        ("12", 12.0),
        ("12 %", 12.0),
        ("45°", 100.0),
        ("7 deg", 12.278_456),
        ("1 in 4", 25.0),
        ("1:4", 25.0),
        ("3:1", 100.0 / 3.0),
        ("0", 0.0),
    ] {
        assert!((slope_percent(text).unwrap() - percent).abs() < 1e-5, "{text}");
    }
    for text in ["90°", "steep", "1 in 0", "-3°", "12 mm"] {
        assert!(slope_percent(text).is_err(), "{text}");
    }
}

// Long: a table.
#[test]
fn dates_follow_the_readers_habit() {
    for (text, expected) in [
        ("2026-07-14", day(2026, 7, 14)),
        ("14 Jul 2026", day(2026, 7, 14)),
        ("Jul 14, 2026", day(2026, 7, 14)),
        ("14 July", day(2026, 7, 14)),
        ("July 3rd", day(2026, 7, 3)),
        // The nearest such day.
        ("20 Dec", day(2026, 12, 20)),
        ("3 Feb", day(2026, 2, 3)),
        ("5 Jan", day(2027, 1, 5)),
        ("today", TODAY),
        ("tomorrow", day(2026, 7, 15)),
        ("in 4 days", day(2026, 7, 18)),
        ("in 2 weeks", day(2026, 7, 28)),
        ("2 left", day(2026, 7, 16)),
        ("3 days ago", day(2026, 7, 11)),
        ("fri", day(2026, 7, 17)),
        // Only one order is a date.
        ("14/7", day(2026, 7, 14)),
        ("7/14/26", day(2026, 7, 14)),
    ] {
        assert_eq!(date(text, TODAY, EURO), Ok(expected), "{text}");
        assert_eq!(date(text, TODAY, US), Ok(expected), "{text}");
    }
    assert_eq!(date("5/6/2026", TODAY, EURO), Ok(day(2026, 6, 5)));
    assert_eq!(date("5/6/2026", TODAY, US), Ok(day(2026, 5, 6)));
    assert_eq!(asked(date("05-06", TODAY, EURO)), ["5 Jun 2026", "6 May 2026"]);
    // On a Tuesday, Tuesday is today or in a week.
    assert_eq!(asked(date("tue", TODAY, US)), ["Tue Jul 14, 2026", "Tue Jul 21, 2026"]);
    for text in [
        "",
        "31/2",
        "30 Feb 2026",
        "14 Jul 1899",
        "0001-01-01",
        "9999-12-31",
        "soon",
        "14 Jul 2026 x",
        "in days",
        "in -4 days",
        "-2026-07-14",
    ] {
        assert!(matches!(date(text, TODAY, EURO), Err(Refusal::Unreadable(_))), "{text}");
    }
    for (text, hour) in [
        ("2026-07-14 18:00", 18),
        ("2026-07-14T18:00", 18),
        ("14 Jul 6 pm", 18),
        ("Jul 14, 2026 6:00 PM", 18),
        ("today 08:00", 8),
        ("08:00", 8),
    ] {
        assert_eq!(date_and_time(text, TODAY, US), Ok(TODAY.at(hour, 0, 0, 0)), "{text}");
    }
    assert!(date_and_time("14 Jul", TODAY, EURO).is_err() && date_and_time("18:00 x", TODAY, EURO).is_err());
    assert_eq!(month_day("1/11", EURO), Ok((11, 1)));
    assert_eq!(month_day("11/1", US), Ok((11, 1)));
    assert_eq!(month_day("29 Feb", EURO), Ok((2, 29)));
    assert_eq!(month_day("Nov 1", EURO), Ok((11, 1)));
    assert!(month_day("1 Nov 2026", EURO).is_err() && month_day("31/6", EURO).is_err());
}

#[test]
fn days_are_said_as_on_the_controller() {
    let week = |on: [u8; 7]| Ok(Days::Weekdays(on.map(|d| d == 1)));
    for (text, expected) in [
        ("mon wed fri", week([1, 0, 1, 0, 1, 0, 0])),
        ("Mo, We, Fr", week([1, 0, 1, 0, 1, 0, 0])),
        ("mon-fri", week([1, 1, 1, 1, 1, 0, 0])),
        ("sat-mon", week([1, 0, 0, 0, 0, 1, 1])),
        ("every day", week([1; 7])),
        ("odd", Ok(Days::Odd)),
        ("even dates", Ok(Days::Even)),
        ("every 3rd day, 2 left", Ok(Days::EveryNth { interval: 3, first: day(2026, 7, 16) })),
        ("every 3 days from 20 Jul", Ok(Days::EveryNth { interval: 3, first: day(2026, 7, 20) })),
        ("every other day", Ok(Days::EveryNth { interval: 2, first: TODAY })),
    ] {
        assert_eq!(days(text, TODAY, EURO), expected, "{text}");
    }
    for (text, expected) in [
        ("m w f", week([1, 0, 1, 0, 1, 0, 0])),
        ("mwf", week([1, 0, 1, 0, 1, 0, 0])),
        ("mtwtf", week([1, 1, 1, 1, 1, 0, 0])),
        ("tth", week([0, 1, 0, 1, 0, 0, 0])),
        ("tue/thu", week([0, 1, 0, 1, 0, 0, 0])),
        ("mtwtfss", week([1; 7])),
        ("off", week([0; 7])),
    ] {
        assert_eq!(days(text, TODAY, EURO), expected, "sentence 11: {text}");
    }
    for text in ["", "t", "s", "fm", "mon xyz", "every 0 days", "every blue moon", "every 3rd day, maybe"] {
        assert!(days(text, TODAY, EURO).is_err(), "{text}");
    }
}

#[test]
fn sentence_11_a_colon_behind_starts_and_days_is_a_station_and_its_minutes() {
    let read = |text: &str| program_line(text, TODAY, US);
    let line = read("A 3am mon 1:10 2:20").unwrap();
    assert_eq!(line.starts, Some(vec![time(3, 0, 0, 0)]));
    assert_eq!(line.run_times, [(1, min(10)), (2, min(20))]);
    let line = read("A 02:00 mwf 1 12 2:20").unwrap();
    assert_eq!(line.run_times, [(1, min(12)), (2, min(20))]);
    // Without days it may be another start: it is asked.
    let Err(Refusal::TwoWays(typed, both)) = read("A 3am 1:10") else { panic!("asked") };
    assert_eq!((typed.as_str(), both[0].means.as_str()), ("1:10", "station 1 for 10 min"));
    assert_eq!(read(&both[0].text).unwrap().run_times, [(1, min(10))]);
    assert_eq!(read(&both[1].text).unwrap().starts.map(|s| s.len()), Some(2));
    let off = read("B off").unwrap();
    assert!(off.off && off.starts.is_none() && off.run_times.is_empty());
    assert!(!read("B 2 am").unwrap().off);
}

#[test]
fn a_line_fills_a_program() {
    let read = |text: &str| program_line(text, TODAY, EURO);
    let line = read("A 02:00 mon wed fri 1 12 2 12 3 20").unwrap();
    assert_eq!((line.program.as_str(), line.starts.clone()), ("A", Some(vec![time(2, 0, 0, 0)])));
    assert_eq!(line.run_times, [(1, min(12)), (2, min(12)), (3, min(20))]);
    assert_eq!(line.days, Some(Days::Weekdays([true, false, true, false, true, false, false])));
    let line = read("B 2 am 4:30 PM every 3rd day, 2 left 90% 1-3 7m30 8 1h15").unwrap();
    assert_eq!(line.starts, Some(vec![time(2, 0, 0, 0), time(16, 30, 0, 0)]));
    assert_eq!(line.days, Some(Days::EveryNth { interval: 3, first: day(2026, 7, 16) }));
    assert_eq!(line.percentage, Some(Percentage::from_percent(90)));
    assert_eq!(line.run_times.len(), 4);
    assert_eq!(line.run_times.last(), Some(&(8, Seconds::from_min(75))));
    // Nothing but minutes: starts and days stay as they are.
    let line = read("C 1 12").unwrap();
    assert_eq!((line.starts, line.days, line.run_times), (None, None, vec![(1, min(12))]));
    for (text, says) in [
        ("", "line such as"),
        ("A 02:00 mon 1", "Station 1 has no run time"),
        ("A 02:00 xyz 1 12", "\"xyz\" is neither"),
        ("A 1 12 1 13", "Station 1 is in the line twice"),
        ("A 1 ten", "not a run time"),
        ("A 1 1:30", "can be read as 1 h 30 min or as 1 min 30 s"),
        ("A 0 12", "neither a start"),
    ] {
        let said = read(text).unwrap_err().to_string();
        assert!(said.contains(says), "{text}: {said}");
    }
}

fn habits() -> impl Strategy<Value = Habit> {
    (any::<bool>(), any::<bool>()).prop_map(|(clock, dates)| Habit {
        clock: if clock { Clock::Hours12 } else { Clock::Hours24 },
        dates: if dates { DateOrder::MonthFirst } else { DateOrder::DayFirst },
    })
}

fn some_day() -> impl Strategy<Value = Date> {
    (0..100_000_i64).prop_map(|d| day(1920, 1, 1).checked_add(d.days()).unwrap())
}

fn some_days() -> impl Strategy<Value = Days> {
    let week = any::<[bool; 7]>().prop_filter("some day", |w| w.contains(&true)).prop_map(Days::Weekdays);
    let nth = (1..=31_u8, some_day()).prop_map(|(interval, first)| Days::EveryNth { interval, first });
    prop_oneof![week, Just(Days::Odd), Just(Days::Even), nth]
}

proptest! {
    #[test]
    fn what_is_written_is_read_back(minute in 0..1440_i64, seconds in 0..=86_400_i64, on in some_day(), pattern in some_days(), habit in habits()) {
        let at = Time::midnight().saturating_add(minute.minutes());
        prop_assert_eq!(time_of_day(&write_time(at, habit), habit), Ok(at));
        prop_assert_eq!(times(&[write_time(at, habit), write_time(at, habit)].join(" "), habit), Ok(vec![at, at]));
        let length = Seconds::from_s(seconds);
        prop_assert_eq!(duration(&write_duration(length)), Ok(length));
        prop_assert_eq!(duration(&write_duration_briefly(length)), Ok(length));
        prop_assert_eq!(date(&write_date(on, habit), TODAY, habit), Ok(on));
        prop_assert_eq!(date(&on.to_string(), TODAY, habit), Ok(on));
        let (month, of_month) = (on.month(), on.day());
        prop_assert_eq!(month_day(&write_month_day(month, of_month, habit), habit), Ok((month, of_month)));
        prop_assert_eq!(days(&write_days(pattern, habit), TODAY, habit), Ok(pattern));
    }

    #[test]
    fn numbers_are_read_back_in_their_unit(value in -10_000.0..10_000.0_f64, unit in prop::sample::select(vec!["mm", "in", "°F", "L/min", "%", "", "weeks"])) {
        let text = format!("{value:.4} {unit}");
        let read = quantity(&text, unit);
        prop_assert!(read.as_ref().is_ok_and(|v| (v - value).abs() < 1e-3), "{} {:?}", text, read);
    }

    #[test]
    fn a_choice_between_readings_is_no_choice_any_more(a in 0..60_u32, b in 0..60_u32, habit in habits()) {
        for text in [format!("{a}:{b:02}"), format!("{a},{b:03}"), format!("{a:02}-{b:02}"), format!("{a}")] {
            for refusal in [duration(&text).err(), number(&text).err()].into_iter().flatten() {
                for reading in refusal.readings() {
                    prop_assert!(!matches!(duration(&reading.text), Err(Refusal::TwoWays(..))) || !matches!(number(&reading.text), Err(Refusal::TwoWays(..))), "{}", reading.text);
                }
            }
            for reading in time_of_day(&text, habit).err().iter().flat_map(Refusal::readings) {
                prop_assert!(time_of_day(&reading.text, habit).is_ok());
            }
            for reading in date(&text, TODAY, habit).err().iter().flat_map(Refusal::readings) {
                prop_assert!(date(&reading.text, TODAY, habit).is_ok(), "{}", reading.text);
            }
        }
    }

    #[test]
    fn rubbish_behind_a_text_is_refused(minute in 0..1440_i64, seconds in 1..86_400_i64, on in some_day(), rubbish in "[#x?]{1,3}", habit in habits()) {
        let at = Time::midnight().saturating_add(minute.minutes());
        let refused = |text: String| format!("{text}{rubbish}");
        prop_assert!(time_of_day(&refused(write_time(at, habit)), habit).is_err());
        prop_assert!(duration(&refused(write_duration(Seconds::from_s(seconds)))).is_err());
        prop_assert!(date(&refused(write_date(on, habit)), TODAY, habit).is_err());
        prop_assert!(number(&refused(seconds.to_string())).is_err());
        let depth = format!("{seconds} mm{rubbish}");
        prop_assert!(quantity(&depth, "mm").is_err());
    }

    #[test]
    fn nothing_typed_makes_the_reader_fail(text in "\\PC{0,40}", habit in habits()) {
        let _ = (time_of_day(&text, habit), times(&text, habit), duration(&text), number(&text));
        let _ = (quantity(&text, "mm"), quantity(&text, "°F"), quantity(&text, "diameters"), slope_percent(&text));
        let _ = (date(&text, TODAY, habit), month_day(&text, habit), days(&text, TODAY, habit), program_line(&text, TODAY, habit));
    }

    #[test]
    fn a_program_is_read_back_from_its_line(starts in prop::collection::vec(0..1440_i64, 1..4), pattern in some_days(), percent in 0..=200_u16, minutes in prop::collection::btree_map(1..=48_u16, 1..14_400_i64, 1..8), habit in habits()) {
        // A line has no room for a date: days counted from one are said as days left.
        prop_assume!(!matches!(pattern, Days::EveryNth { .. }));
        let line = ProgramLine {
            off: false,
            program: "A".into(),
            starts: Some(starts.into_iter().map(|m| Time::midnight().saturating_add(m.minutes())).collect()),
            days: Some(pattern),
            percentage: Some(Percentage::from_percent(percent)),
            run_times: minutes.into_iter().map(|(n, s)| (n, Seconds::from_s(s))).collect(),
        };
        prop_assert_eq!(program_line(&write_program_line(&line, habit), TODAY, habit), Ok(line));
    }
}
