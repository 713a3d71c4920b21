//! Which days and hours a zone may be planned on, and the day patterns a box can hold there.

use super::Relax;
use crate::controller::Card;
use crate::controller::ordinance::Subject;
use crate::controller::schedule::{Days, Settings, runs_on};
use crate::installation::Installation;
use crate::quantity::time::{Hours, MINUTES_A_DAY, MinuteOfDay, weekday_index};
use jiff::ToSpan;
use jiff::civil::Date;

/// Days looked at to learn which are allowed: eight weeks hold every parity of every weekday.
const SCAN_DAYS: i64 = 56;
/// Longest interval that is planned, days.
const LONGEST_INTERVAL: u8 = 14;

/// Allowed days and hours of a zone. Zones with the same days can share a program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct AllowedDays {
    pub weekdays: [bool; 7],
    pub odd: bool,
    pub even: bool,
    /// Most days a week.
    pub most: u8,
    /// A run may go on past midnight: no law counts or forbids the next date.
    pub free: bool,
    /// Usable minutes of a night, counted from the opening of the window: where starts may be.
    pub usable: Vec<(u32, u32)>,
}

/// A way of choosing days with what it means.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Pattern {
    pub days: Days,
    pub events_a_week: f64,
    /// Longest wait, days.
    pub gap_days: u32,
    /// The same rhythm on other days, so that zones can be spread over nights; the first is `days`.
    pub phases: Vec<Days>,
}

/// Learns what a zone may do. `None` as subject stands for somebody whom nothing exempts.
pub(super) fn allowed_days(
    installation: &Installation,
    present: &Settings,
    subject: Subject,
    from: Date,
    relax: &Relax,
) -> AllowedDays {
    let law = &installation.law;
    let (mut weekdays, mut odd, mut even) = ([true; 7], true, true);
    let mut restricted = false;
    for k in 0..SCAN_DAYS {
        let Ok(date) = from.checked_add(k.days()) else { break };
        let never = !runs_on(Days::Weekdays([true; 7]), present.never_days, date);
        if never || law.forbids_day(Some(subject), date).is_some() {
            // A never-day keeps starts away, not runs that go on past midnight.
            restricted |= !never;
            if let Some(day) = weekdays.get_mut(weekday_index(date)) {
                *day = false;
            }
            if date.day() % 2 == 1 { odd = false } else { even = false }
        }
    }
    let lawful = law.most_days_a_week(Some(subject), from).map_or(7, |(most, _)| most);
    let mut most = lawful.min(7);
    if relax.extra_days > 0 && (most < 7 || weekdays.contains(&false)) {
        most = (most + relax.extra_days).min(7);
        // The days asked for in addition are the forbidden ones that lie furthest from allowed ones.
        for _ in 0..relax.extra_days {
            if let Some(day) = furthest(weekdays)
                && let Some(slot) = weekdays.get_mut(day)
            {
                *slot = true;
            }
        }
    }
    let free = !restricted && lawful >= 7;
    AllowedDays {
        weekdays,
        odd,
        even,
        most,
        free,
        usable: usable(installation, present, subject, from, free),
    }
}

/// The forbidden weekday that lies furthest from the allowed ones.
fn furthest(week: [bool; 7]) -> Option<usize> {
    let allowed: Vec<usize> = (0..7).filter(|i| week.get(*i) == Some(&true)).collect();
    let distance =
        |day: usize| allowed.iter().map(|a| (7 + day - a) % 7).map(|d| d.min(7 - d)).min().unwrap_or(7);
    (0..7).filter(|i| week.get(*i) == Some(&false)).max_by_key(|i| (distance(*i), 7 - *i))
}

/// Minutes of the window in which nothing forbids, by the clock of an ordinary night.
fn usable(
    installation: &Installation,
    present: &Settings,
    subject: Subject,
    from: Date,
    free: bool,
) -> Vec<(u32, u32)> {
    let length = installation.window_minutes();
    let open = MinuteOfDay::of(installation.window.from).minutes();
    let mut closed = vec![false; usize::try_from(length).unwrap_or(0)];
    let mut close = |hours: Hours| {
        for (minute, slot) in (0u32..).zip(&mut closed) {
            *slot |= hours.hold(MinuteOfDay::after_midnight(open + minute).time());
        }
    };
    for k in 0..14 {
        let Ok(date) = from.checked_add(i64::from(k).days()) else { break };
        for hours in installation.law.forbidden_hours(subject, date) {
            close(hours);
        }
    }
    if let Some(hours) = present.omit_hours {
        close(hours);
    }
    let mut spans = Vec::new();
    let mut begin = None;
    for (minute, shut) in (0u32..).zip(closed.iter().copied().chain([true])) {
        // Where days are restricted, a run must not go on into the next date.
        let midnight = !free && (open + minute).is_multiple_of(MINUTES_A_DAY) && minute > 0;
        if (shut || midnight)
            && let Some(from) = begin.take()
        {
            spans.push((from, minute));
        }
        if !shut && begin.is_none() {
            begin = Some(minute);
        }
    }
    if !free
        && spans.iter().any(|(f, _)| open + f >= MINUTES_A_DAY)
        && spans.iter().any(|(f, _)| open + f < MINUTES_A_DAY)
    {
        // The evening and the morning of a night are two dates. The side with more room is kept,
        // the morning when they are alike.
        let room = |morning: bool| -> u32 {
            spans.iter().filter(|(f, _)| (open + f >= MINUTES_A_DAY) == morning).map(|(f, u)| u - f).sum()
        };
        let morning = room(true) >= room(false);
        spans.retain(|(f, _)| (open + f >= MINUTES_A_DAY) == morning);
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

/// Every pattern a box can hold on a allowed, the fewest days first.
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
                gap_days: longest_gap(week),
                phases: phases.into_iter().map(Days::Weekdays).collect(),
            });
        }
    }
    let every_date = allowed.weekdays == [true; 7] && allowed.odd && allowed.even;
    for interval in 1..=card.day_modes.longest_interval.min(LONGEST_INTERVAL) {
        if !every_date || 7u8.div_ceil(interval) > allowed.most {
            continue;
        }
        let phases = (0..i64::from(interval))
            .filter_map(|k| Some(Days::EveryNth { interval, first: from.checked_add(k.days()).ok()? }))
            .collect();
        out.push(Pattern {
            days: Days::EveryNth { interval, first: from },
            events_a_week: 7.0 / f64::from(interval),
            gap_days: u32::from(interval),
            phases,
        });
    }
    if card.day_modes.parity && allowed.most >= 4 {
        let both = allowed.odd && allowed.even;
        for (may, days, gap) in [(allowed.odd, Days::Odd, 2), (allowed.even, Days::Even, 3)] {
            if may {
                let phases = if both {
                    vec![days, if days == Days::Odd { Days::Even } else { Days::Odd }]
                } else {
                    vec![days]
                };
                out.push(Pattern { days, events_a_week: 3.5, gap_days: gap, phases });
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
        allowed_days(installation, &present, installation.subject(station), FROM, &Relax::default())
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
        assert_eq!(free.usable, [(0, 420)]);
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
        assert_eq!(lawn.usable, [(120, 420)], "from midnight to 05:00: the longer side");
        let all = patterns(&lawn, &installation.card, FROM);
        assert!(all.iter().all(|p| matches!(p.days, Days::Weekdays(_))));
        assert_eq!(all.last().unwrap().days, Days::Weekdays([false, false, true, false, false, false, true]));
        let drip = of(&installation, 4);
        assert!(drip.free, "drip is exempt");
        assert_eq!(drip.most, 7);
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
        assert_eq!(of(&installation, 1).usable, [(0, 60), (180, 420)]);
        assert_eq!(date(2026, 7, 13), FROM);
    }
}
