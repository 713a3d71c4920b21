//! A watering ordinance in words.

use crate::page::dates::DateFormat;
use crate::page::quantities::{capital, plain};
use upland_core::controller::ordinance::{AllowedDays, Ordinance, Rule};
use upland_core::controller::schedule::{Days, days_in_words};
use upland_core::quantity::time::WEEKDAYS;

/// A rule in one sentence.
pub(crate) fn rule_words(rule: &Rule) -> String {
    let mut parts = Vec::new();
    match rule.days {
        AllowedDays::Any => {}
        AllowedDays::Weekdays { odd, even } if odd == even => {
            parts.push(format!("only {}", days_in_words(Days::Weekdays(odd))));
        }
        AllowedDays::Weekdays { odd, even } => parts.push(format!(
            "odd house numbers {}, even {}",
            days_in_words(Days::Weekdays(odd)),
            days_in_words(Days::Weekdays(even))
        )),
        AllowedDays::WeekdaysByDigit(weeks) => {
            parts.push(format!("by the last digit of the house number: {}", digits_in_words(&weeks)));
        }
        AllowedDays::DatesOfHouseNumber => parts.push("odd houses on odd dates, even on even".into()),
        AllowedDays::OddDates => parts.push("only odd dates".into()),
        AllowedDays::EvenDates => parts.push("only even dates".into()),
    }
    if let Some(most) = rule.most_days_a_week {
        parts.push(format!("at most {most} {} a week", if most == 1 { "day" } else { "days" }));
    }
    if let Some(most) = rule.most_minutes_a_day {
        parts.push(format!(
            "at most {most} {} a station and day",
            if most == 1 { "minute" } else { "minutes" }
        ));
    }
    if let Some(after) = rule.after_rain {
        let (hours, least) = (after.hours, plain(after.least.mm(), 2));
        parts.push(format!("nothing within {hours} hours of a day's rain of {least} mm"));
    }
    for hours in &rule.forbidden_hours {
        parts.push(format!(
            "nothing {} to {}",
            hours.from.formatted("%H:%M"),
            hours.until.formatted("%H:%M")
        ));
    }
    let season = rule.season.map_or("All year".to_owned(), |s| {
        let day = |(month, day): (i8, i8)| {
            jiff::civil::Date::new(2000, month, day).map_or(String::new(), |d| d.formatted("%-d %b"))
        };
        format!("{} to {}", day(s.from), day(s.until))
    });
    format!("{season}: {}.", parts.join("; "))
}

/// "Mon 0 1, Tue 2 3": the digits that may water on each weekday.
fn digits_in_words(weeks: &[[bool; 7]; 10]) -> String {
    let on = |day: usize| digits_of(weeks, day);
    let days = WEEKDAYS.iter().enumerate().filter(|(day, _)| !on(*day).is_empty());
    days.map(|(day, name)| format!("{name} {}", on(day))).collect::<Vec<_>>().join(", ")
}

/// The digits that may water on a weekday, "0 1".
pub(crate) fn digits_of(weeks: &[[bool; 7]; 10], day: usize) -> String {
    let allowed = (0..10).zip(weeks).filter(|(_, week)| week.get(day) == Some(&true));
    allowed.map(|(digit, _)| digit.to_string()).collect::<Vec<_>>().join(" ")
}

pub(crate) fn exempt_words(ordinance: &Ordinance) -> String {
    let heads: Vec<&str> = ordinance.exempt_heads.iter().map(|head| head.label()).collect();
    let heads = match heads.split_last() {
        Some((last, [])) => capital(last),
        Some((last, rest)) => format!("{} and {last}", capital(&rest.join(", "))),
        None => String::new(),
    };
    let days = if ordinance.hours_bind_exempt_heads { " from all but the hours" } else { "" };
    let one = ordinance.exempt_heads.len() == 1;
    match (heads.is_empty(), ordinance.exempts_new_planting) {
        (false, true) if days.is_empty() => format!("{heads}, and new planting with a permit, are exempt."),
        (false, true) => {
            let verb = if one { "is" } else { "are" };
            format!("{heads} {verb} exempt{days}; new planting with a permit is exempt.")
        }
        (false, false) => format!("{heads} {} exempt{days}.", if one { "is" } else { "are" }),
        (true, true) => "New planting with a permit is exempt.".into(),
        (true, false) => "Nothing is exempt.".into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::time;
    use upland_core::controller::schedule::YearSpan;
    use upland_core::ground::application::HeadType;
    use upland_core::quantity::time::Hours;

    // Long: every rule and its sentence.
    #[test]
    fn a_rule_is_one_sentence() {
        let week = |days: [usize; 2]| core::array::from_fn(|i| days.contains(&i));
        let rule = |days, season, most_days_a_week| Rule {
            season,
            days,
            forbidden_hours: vec![Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) }],
            most_days_a_week,
            most_minutes_a_day: None,
            after_rain: None,
        };
        let summer = Some(YearSpan { from: (5, 1), until: (9, 30) });
        let lines = [
            rule(AllowedDays::Weekdays { odd: week([2, 6]), even: week([1, 5]) }, summer, Some(2)),
            rule(AllowedDays::Weekdays { odd: week([0, 3]), even: week([0, 3]) }, None, Some(1)),
            rule(AllowedDays::DatesOfHouseNumber, None, None),
            rule(AllowedDays::OddDates, None, None),
            rule(AllowedDays::EvenDates, None, None),
            rule(AllowedDays::Any, None, None),
            Rule {
                most_minutes_a_day: Some(60),
                after_rain: Some(upland_core::controller::ordinance::AfterRain {
                    hours: 48,
                    least: upland_core::quantity::units::Millimetres::from_mm(6.35),
                }),
                ..rule(AllowedDays::Any, None, None)
            },
        ]
        .map(|r| rule_words(&r));
        insta::assert_snapshot!(lines.join("\n"), @r"
        1 May to 30 Sep: odd house numbers Wed, Sun, even Tue, Sat; at most 2 days a week; nothing 10:00 to 18:00.
        All year: only Mon, Thu; at most 1 day a week; nothing 10:00 to 18:00.
        All year: odd houses on odd dates, even on even; nothing 10:00 to 18:00.
        All year: only odd dates; nothing 10:00 to 18:00.
        All year: only even dates; nothing 10:00 to 18:00.
        All year: nothing 10:00 to 18:00.
        All year: at most 60 minutes a station and day; nothing within 48 hours of a day's rain of 6.35 mm; nothing 10:00 to 18:00.
        ");
        let words = |exempt_heads: &[HeadType], hours_bind_exempt_heads, exempts_new_planting| {
            exempt_words(&Ordinance {
                name: "L".into(),
                rules: Vec::new(),
                exempt_heads: exempt_heads.to_vec(),
                hours_bind_exempt_heads,
                exempts_new_planting,
            })
        };
        let (drip, both) = (&[HeadType::Drip][..], &[HeadType::MicroSpray, HeadType::Drip][..]);
        let lines = [
            words(&[], false, false),
            words(&[], true, true),
            words(drip, false, false),
            words(drip, false, true),
            words(both, true, false),
            words(drip, true, true),
        ];
        insta::assert_snapshot!(lines.join("\n"), @r"
        Nothing is exempt.
        New planting with a permit is exempt.
        Drip is exempt.
        Drip, and new planting with a permit, are exempt.
        Micro-spray and drip are exempt from all but the hours.
        Drip is exempt from all but the hours; new planting with a permit is exempt.
        ");
    }
}
