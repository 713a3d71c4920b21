//! Which days and hours a zone may be planned on, and the day patterns a controller can hold there.

use super::{DateMinutes, Relax, Span};
use crate::controller::Card;
use crate::controller::ordinance::Subject;
use crate::controller::schedule::{Days, Settings, runs_on};
use crate::controller::windows::Windows;
use crate::installation::Installation;
use crate::quantity::span::MinuteSpan;
use crate::quantity::time::{Hours, MINUTES_A_DAY, MinuteOfDay, monday_of, weekday_index};
use jiff::ToSpan;
use jiff::civil::Date;
use std::collections::BTreeMap;

/// Longest interval that is planned, days.
const LONGEST_INTERVAL: u8 = 14;
/// Days over which a rhythm by the date of the month is looked at: every month and a leap day.
const PARITY_DAYS: i64 = 4 * 366;

/// Allowed days and hours of a zone. Zones with the same days can share a program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct AllowedDays {
    /// Weekdays of which no date is forbidden.
    pub weekdays: [bool; 7],
    /// Days on which the controller starts nothing.
    pub never: [bool; 7],
    /// First day that was looked at.
    pub first: Date,
    /// Dates that the law allows, day by day from the first.
    pub lawful: Vec<bool>,
    /// Most days a week.
    pub most: u8,
    /// A run may go on past midnight: no law counts or forbids the next date.
    pub free: bool,
    /// Most minutes of a date.
    pub most_minutes: Option<u16>,
    /// Usable minutes of a night, counted from the opening of the window: where starts may be.
    pub usable: Vec<MinuteSpan>,
}

/// A way of choosing days with what it means.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Pattern {
    pub days: Days,
    pub events_a_week: f64,
    /// Waterings on each of its days.
    pub waterings: u32,
    /// Longest wait, days.
    pub gap_days: u32,
    /// The same rhythm on other days, so that zones can be spread over nights; the first is `days`.
    pub phases: Vec<Days>,
}

impl Pattern {
    /// Waterings a week.
    pub fn waterings_a_week(&self) -> f64 {
        self.events_a_week * f64::from(self.waterings)
    }

    /// The same with as many waterings a day as a root zone needs that bears so many days.
    pub fn often_enough(self, bears_days: f64, most: u32) -> Self {
        let daily = self.events_a_week >= 7.0;
        let waterings = if daily { crate::installation::waterings_a_day(bears_days).min(most) } else { 1 };
        Self { waterings, ..self }
    }
}

/// Learns what a zone may do in a span of days.
pub(super) fn allowed_days(
    installation: &Installation,
    present: &Settings,
    subject: Subject,
    windows: Windows,
    span: Span,
    relax: &Relax,
) -> AllowedDays {
    let law = &installation.law;
    let dates: Vec<Date> = span.dates().collect();
    let mut lawful: Vec<bool> =
        dates.iter().map(|date| law.forbids_day(Some(subject), *date).is_none()).collect();
    let never = present.never_days;
    // A never-day keeps starts away, not runs that go on past midnight.
    let restricted =
        dates.iter().zip(&lawful).any(|(date, ok)| !ok && runs_on(Days::Weekdays([true; 7]), never, *date));
    let count = |date: &Date| law.most_days_a_week(Some(subject), *date).map_or(7, |(most, _)| most);
    let counted = dates.iter().map(count).min().unwrap_or(7);
    let mut most = counted.min(7);
    let mut weekdays = whole_weekdays(&dates, &lawful, never);
    if relax.extra_days > 0 && (most < 7 || weekdays.contains(&false)) {
        most = (most + relax.extra_days).min(7);
        // The days asked for in addition are the forbidden ones that lie furthest from allowed ones.
        for _ in 0..relax.extra_days {
            let Some(day) = furthest(weekdays, never) else { break };
            for (date, ok) in dates.iter().zip(&mut lawful) {
                *ok |= weekday_index(*date) == day;
            }
            weekdays = whole_weekdays(&dates, &lawful, never);
        }
    }
    let minutes = |date: &Date| law.most_minutes_a_day(Some(subject), *date).map(|(most, _)| most);
    let minutes = dates.iter().filter_map(minutes).min();
    let one_side = relax.date_minutes == DateMinutes::OneSide && minutes.is_some();
    let free = !restricted && counted >= 7 && !one_side;
    AllowedDays {
        most_minutes: match relax.date_minutes {
            DateMinutes::Half => minutes.map(|most| (most / 2).max(1)),
            DateMinutes::ByNight | DateMinutes::OneSide => minutes,
        },
        usable: usable(installation, present, subject, windows, &dates, free),
        first: span.first,
        never,
        weekdays,
        lawful,
        most,
        free,
    }
}

/// Weekdays of which every date is allowed.
fn whole_weekdays(dates: &[Date], lawful: &[bool], never: [bool; 7]) -> [bool; 7] {
    let mut week = [true; 7];
    for (date, ok) in dates.iter().zip(lawful) {
        if (!ok || !runs_on(Days::Weekdays([true; 7]), never, *date))
            && let Some(day) = week.get_mut(weekday_index(*date))
        {
            *day = false;
        }
    }
    week
}

/// The weekday that lies furthest from the allowed ones, of those that only the law forbids.
fn furthest(week: [bool; 7], never: [bool; 7]) -> Option<usize> {
    let allowed: Vec<usize> = (0..7).filter(|i| week.get(*i) == Some(&true)).collect();
    let distance =
        |day: usize| allowed.iter().map(|a| (7 + day - a) % 7).map(|d| d.min(7 - d)).min().unwrap_or(7);
    let closed = |i: &usize| week.get(*i) == Some(&false) && never.get(*i) == Some(&false);
    (0..7).filter(closed).max_by_key(|i| (distance(*i), 7 - *i))
}

/// Minutes of the window in which nothing forbids, by the clock of an ordinary night.
fn usable(
    installation: &Installation,
    present: &Settings,
    subject: Subject,
    windows: Windows,
    dates: &[Date],
    free: bool,
) -> Vec<MinuteSpan> {
    let hull = installation.hull_minutes();
    let (length, open) = (hull.minutes(), hull.from % MINUTES_A_DAY);
    let mut closed = vec![false; usize::try_from(length).unwrap_or(0)];
    let mut close = |hours: Hours| {
        for (minute, slot) in (0u32..).zip(&mut closed) {
            *slot |= hours.hold(MinuteOfDay::after_midnight(open + minute).time());
        }
    };
    let mut forbidden: Vec<Hours> = Vec::new();
    for date in dates {
        for hours in installation.law.forbidden_hours(subject, *date) {
            if !forbidden.contains(&hours) {
                forbidden.push(hours);
            }
        }
    }
    forbidden.into_iter().chain(present.omit_hours).for_each(&mut close);
    let windows: Vec<_> = windows.minutes().collect();
    for (minute, slot) in (hull.from..).zip(&mut closed) {
        *slot |= !windows.iter().any(|span| (span.from..span.until).contains(&minute));
    }
    let mut spans = Vec::new();
    let mut begin = None;
    for (minute, shut) in (0u32..).zip(closed.iter().copied().chain([true])) {
        // Where days are restricted, a run must not go on into the next date.
        let midnight = !free && (open + minute).is_multiple_of(MINUTES_A_DAY) && minute > 0;
        if (shut || midnight)
            && let Some(from) = begin.take()
        {
            spans.push(MinuteSpan::new(from, minute));
        }
        if !shut && begin.is_none() {
            begin = Some(minute);
        }
    }
    if !free
        && spans.iter().any(|span| open + span.from >= MINUTES_A_DAY)
        && spans.iter().any(|span| open + span.from < MINUTES_A_DAY)
    {
        // The evening and the morning of a night are two dates. The side with more room is kept,
        // the morning when they are alike.
        let in_morning = |span: &MinuteSpan| open + span.from >= MINUTES_A_DAY;
        let room = |morning: bool| -> u32 {
            spans.iter().filter(|span| in_morning(span) == morning).map(|span| span.minutes()).sum()
        };
        let morning = room(true) >= room(false);
        spans.retain(|span| in_morning(span) == morning);
    }
    spans
}

/// Longest wait between two of some weekdays, going round the week.
fn longest_gap(week: [bool; 7]) -> u32 {
    let days: Vec<usize> = (0..7).filter(|i| week.get(*i) == Some(&true)).collect();
    let next = days.iter().skip(1).chain(days.first());
    let gap = days.iter().zip(next).map(|(a, b)| if b > a { b - a } else { b + 7 - a }).max();
    u32::try_from(gap.unwrap_or(7)).unwrap_or(7)
}

/// Some days of a week as far apart as they can be: of every choice the one with the shortest
/// longest wait, the earliest in the week among equals.
fn spread(allowed: [bool; 7], count: u32) -> Option<[bool; 7]> {
    (1u8..128)
        .filter(|mask| mask.count_ones() == count)
        .map(|mask| core::array::from_fn(|i| mask >> i & 1 == 1))
        .filter(|week: &[bool; 7]| week.iter().zip(allowed).all(|(on, may)| !on || may))
        .min_by_key(|week| longest_gap(*week))
}

/// Every pattern a controller can hold on allowed days, the fewest days first. Days never are part of it: every second day
/// without Sundays is a rhythm of its own.
pub(super) fn patterns(allowed: &AllowedDays, card: &Card, from: Date) -> Vec<Pattern> {
    let mut out = Vec::new();
    if card.day_modes.weekdays {
        for count in 1..=u32::from(allowed.most) {
            let Some(week) = spread(allowed.weekdays, count) else { continue };
            let mut phases = vec![week];
            let mut left = allowed.weekdays;
            while let Some(last) = phases.last() {
                left = core::array::from_fn(|i| left.get(i) == Some(&true) && last.get(i) != Some(&true));
                let Some(next) = spread(left, count).filter(|w| longest_gap(*w) <= longest_gap(week)) else {
                    break;
                };
                phases.push(next);
            }
            out.push(Pattern {
                days: Days::Weekdays(week),
                events_a_week: f64::from(count),
                waterings: 1,
                gap_days: longest_gap(week),
                phases: phases.into_iter().map(Days::Weekdays).collect(),
            });
        }
    }
    // Where the law names weekdays or dates, only whole weeks keep to them.
    let restricted = allowed.lawful.contains(&false);
    for interval in 1..=card.day_modes.longest_interval.min(LONGEST_INTERVAL) {
        if !restricted || interval % 7 == 0 {
            let first = |k: i64| from.checked_add(k.days()).ok();
            let phases = (0..i64::from(interval)).filter_map(first);
            out.extend(rhythm(allowed, phases.map(|first| Days::EveryNth { interval, first }).collect()));
        }
    }
    if card.day_modes.parity {
        out.extend(rhythm(allowed, vec![Days::Odd]));
        out.extend(rhythm(allowed, vec![Days::Even]));
        let (odd, even) = (open(allowed, Days::Odd), open(allowed, Days::Even));
        for pattern in &mut out {
            match pattern.days {
                Days::Odd if even => pattern.phases.push(Days::Even),
                Days::Even if odd => pattern.phases.push(Days::Odd),
                _ => {}
            }
        }
    }
    out.sort_by(|a, b| {
        a.events_a_week
            .total_cmp(&b.events_a_week)
            .then(a.gap_days.cmp(&b.gap_days))
            .then(rank(a).cmp(&rank(b)))
    });
    out
}

/// Whether every date that such days choose may be watered on, and no week has too many of them.
fn open(allowed: &AllowedDays, days: Days) -> bool {
    let on = |k: i64| {
        let date = allowed.first.checked_add(k.days()).ok()?;
        runs_on(days, allowed.never, date).then_some(date)
    };
    let restricted = allowed.lawful.contains(&false);
    let may = !restricted || (0i64..).zip(&allowed.lawful).all(|(k, ok)| *ok || on(k).is_none());
    may && (allowed.most >= 7 || busiest_week(days, allowed) <= allowed.most)
}

/// The dates of some days over as many days as hold every turn of them.
fn turn(days: Days, allowed: &AllowedDays) -> (Vec<Date>, i64) {
    let (first, length) = match days {
        Days::EveryNth { interval, first } => (first, 7 * i64::from(interval.max(1))),
        Days::Odd | Days::Even => (allowed.first, PARITY_DAYS),
        Days::Weekdays(_) => (allowed.first, 7),
    };
    let dates = (0..length).filter_map(|k| first.checked_add(k.days()).ok());
    (dates.filter(|date| runs_on(days, allowed.never, *date)).collect(), length)
}

/// Most dates of any week from Monday to Sunday.
fn busiest_week(days: Days, allowed: &AllowedDays) -> u8 {
    if !allowed.never.contains(&true) {
        // Four of seven days are odd, or even; and from the 29th over the 31st to the 3rd, too.
        return match days {
            Days::Odd | Days::Even => 4,
            Days::EveryNth { interval, .. } => 7u8.div_ceil(interval.max(1)),
            Days::Weekdays(week) => u8::try_from(week.iter().filter(|on| **on).count()).unwrap_or(7),
        };
    }
    let mut weeks: BTreeMap<Date, u8> = BTreeMap::new();
    let (dates, length) = turn(days, allowed);
    // The turn begins in the middle of a week: its next one belongs to that week, too.
    let again = dates.iter().filter_map(|date| date.checked_add(length.days()).ok());
    for date in dates.iter().copied().chain(again) {
        *weeks.entry(monday_of(date)).or_default() += 1;
    }
    weeks.into_values().max().unwrap_or(0)
}

/// Days that come in turns, with those of the same rhythm that are open as well; `None` where none is.
fn rhythm(allowed: &AllowedDays, phases: Vec<Days>) -> Option<Pattern> {
    let phases: Vec<Days> = phases.into_iter().filter(|days| open(allowed, *days)).collect();
    let days = *phases.first()?;
    if !allowed.never.contains(&true) {
        let (events_a_week, gap_days) = match days {
            // Of a month of 31 days more dates are odd; over the years both are taken as half of all.
            Days::Odd => (3.5, 2),
            Days::Even => (3.5, 3),
            Days::EveryNth { interval, .. } => (7.0 / f64::from(interval.max(1)), u32::from(interval)),
            Days::Weekdays(_) => return None,
        };
        return Some(Pattern { days, events_a_week, waterings: 1, gap_days, phases });
    }
    let (dates, length) = turn(days, allowed);
    let again = dates.first().and_then(|first| first.checked_add(length.days()).ok());
    let next = dates.iter().skip(1).chain(&again);
    let gap = dates.iter().zip(next).map(|(a, b)| (*b - *a).get_days()).max()?;
    #[allow(clippy::cast_precision_loss, reason = "days of a few years")]
    let events_a_week = 7.0 * dates.len() as f64 / length as f64;
    Some(Pattern { days, events_a_week, waterings: 1, gap_days: u32::try_from(gap).ok()?, phases })
}

/// Weekdays read easiest, then intervals, then parity.
fn rank(pattern: &Pattern) -> u8 {
    match pattern.days {
        Days::Weekdays(_) => 0,
        Days::EveryNth { .. } => 1,
        Days::Odd | Days::Even => 2,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::ordinance::samples::{law, two_days_a_week};
    use crate::installation::samples::installation;
    use jiff::civil::date;

    const FROM: Date = Date::constant(2026, 7, 13);

    fn of(installation: &Installation, station: u16) -> AllowedDays {
        let present = Settings::clean(&installation.card);
        let span = Span { first: FROM, days: 56 };
        let (subject, windows) = (installation.subject(station), installation.windows_of(station));
        allowed_days(installation, &present, subject, windows, span, &Relax::default())
    }

    #[test]
    fn days_are_spread_as_far_as_they_can_be() {
        assert_eq!(spread([true; 7], 2), Some([true, false, false, true, false, false, false]));
        assert_eq!(longest_gap([true, false, false, true, false, false, false]), 4);
        assert_eq!(spread([true; 7], 3).map(longest_gap), Some(3));
        assert_eq!(spread([false; 7], 1), None);
    }

    #[test]
    fn without_a_law_every_rhythm_is_open_and_the_window_whole() {
        let free = of(&installation(), 1);
        assert_eq!(free.usable, [MinuteSpan::new(0, 420)]);
        let all = patterns(&free, &installation().card, FROM);
        assert!(
            all.iter().any(|p| p.days == Days::EveryNth { interval: 3, first: FROM } && p.phases.len() == 3)
        );
        assert_eq!(all.last().unwrap().events_a_week, 7.0);
    }

    #[test]
    fn under_a_law_only_its_days_and_one_side_of_midnight_are_left() {
        let mut installation = installation();
        installation.law = law(two_days_a_week());
        let lawn = of(&installation, 1);
        assert_eq!((lawn.most, lawn.free), (2, false));
        assert_eq!(lawn.usable, [MinuteSpan::new(120, 420)], "from midnight to 05:00: the longer side");
        let all = patterns(&lawn, &installation.card, FROM);
        let whole_weeks = |p: &Pattern| matches!(p.days, Days::EveryNth { interval: 7 | 14, .. });
        assert!(all.iter().all(|p| matches!(p.days, Days::Weekdays(_)) || whole_weeks(p)), "{all:?}");
        assert_eq!(all.last().unwrap().days, Days::Weekdays([false, false, true, false, false, false, true]));
        let drip = of(&installation, 4);
        assert!(drip.free, "drip is exempt");
        assert_eq!(drip.most, 7);
    }

    #[test]
    fn minutes_of_a_date_are_kept_by_night_on_one_side_of_midnight_or_halved() {
        let mut installation = installation();
        let mut ordinance = two_days_a_week();
        ordinance.rules[0].days = crate::controller::ordinance::AllowedDays::Any;
        ordinance.rules[0].most_days_a_week = None;
        ordinance.rules[0].most_minutes_a_day = Some(45);
        installation.law = law(ordinance);
        let present = Settings::clean(&installation.card);
        let (subject, windows) = (installation.subject(1), installation.windows_of(1));
        let of = |date_minutes| {
            let relax = Relax { date_minutes, ..Relax::default() };
            allowed_days(&installation, &present, subject, windows, Span { first: FROM, days: 56 }, &relax)
        };
        let [night, side, half] = [DateMinutes::ByNight, DateMinutes::OneSide, DateMinutes::Half].map(of);
        assert_eq!((night.free, night.most_minutes, half.most_minutes), (true, Some(45), Some(22)));
        assert!(night.usable.iter().any(|span| span.from < 120 && span.until > 120), "on over midnight");
        assert_eq!(
            (side.free, side.most_minutes, side.usable),
            (false, Some(45), vec![MinuteSpan::new(120, 420)])
        );
        assert_eq!(half.usable, night.usable);
    }

    #[test]
    fn days_of_one_parity_and_intervals_go_with_days_never_and_a_weekly_count() {
        let mut installation = installation();
        let card = installation.card.clone();
        let mut present = Settings::clean(&card);
        present.never_days = [false, false, false, false, false, false, true];
        let asked = |installation: &Installation, present: &Settings| {
            let span = Span { first: FROM, days: 56 };
            let subject = (installation.subject(1), installation.windows_of(1));
            let own = allowed_days(installation, present, subject.0, subject.1, span, &Relax::default());
            patterns(&own, &card, FROM)
        };
        let of = |all: &[Pattern], days: Days| all.iter().find(|p| p.days == days).cloned();
        let all = asked(&installation, &present);
        let odd = of(&all, Days::Odd).expect("odd dates without Sundays");
        assert!((odd.events_a_week - 3.0).abs() < 0.1, "six of seven odd dates: {odd:?}");
        assert_eq!(odd.gap_days, 4, "from Friday the 29th over Sunday the 31st ... to Tuesday");
        let third = of(&all, Days::EveryNth { interval: 3, first: FROM }).unwrap();
        assert_eq!((third.events_a_week, third.gap_days), (2.0, 6), "one of seven turns falls on a Sunday");

        // At most three days a week: every second date without Sundays never makes four of them.
        let mut ordinance = two_days_a_week();
        ordinance.rules[0].days = crate::controller::ordinance::AllowedDays::Any;
        ordinance.rules[0].most_days_a_week = Some(3);
        installation.law = law(ordinance.clone());
        assert!(
            of(&asked(&installation, &Settings::clean(&card)), Days::Odd).is_none(),
            "four in some weeks"
        );
        let every_second = Days::EveryNth { interval: 2, first: FROM };
        assert!(of(&asked(&installation, &present), every_second).is_some(), "Mon, Wed, Fri; Tue, Thu, Sat");
        // Dates of the house's parity: its own parity, never the other, and no interval.
        ordinance.rules[0].days = crate::controller::ordinance::AllowedDays::DatesOfHouseNumber;
        ordinance.rules[0].most_days_a_week = None;
        installation.law = law(ordinance);
        let all = asked(&installation, &Settings::clean(&card));
        assert!(all.iter().all(|p| p.days == Days::Odd), "{all:?}");
        assert_eq!(all[0].phases, [Days::Odd]);
    }

    #[test]
    fn forbidden_hours_inside_the_window_are_cut_out() {
        let mut installation = installation();
        let mut ordinance = two_days_a_week();
        ordinance.rules[0].days = crate::controller::ordinance::AllowedDays::Any;
        ordinance.rules[0].most_days_a_week = None;
        ordinance.rules[0].forbidden_hours[0].from = jiff::civil::time(23, 0, 0, 0);
        ordinance.rules[0].forbidden_hours[0].until = jiff::civil::time(1, 0, 0, 0);
        installation.law = law(ordinance);
        assert_eq!(of(&installation, 1).usable, [MinuteSpan::new(0, 60), MinuteSpan::new(180, 420)]);
        assert_eq!(date(2026, 7, 13), FROM);
    }
}
