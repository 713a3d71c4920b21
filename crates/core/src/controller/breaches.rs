//! Which of some runs an ordinance forbids.

use super::ordinance::{Law, Subject, merged};
use crate::quantity::span::TimeSpan;
use crate::quantity::time::{Seconds, monday_of};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet};

/// The dates on which a subject ran, by weeks from Monday, as long as each is within what the law allows then.
pub struct WeekDays<'a> {
    law: &'a Law,
    subject: Subject,
    kept: BTreeMap<Date, BTreeSet<Date>>,
}

impl<'a> WeekDays<'a> {
    /// Nothing ran yet.
    #[must_use]
    pub fn new(law: &'a Law, subject: Subject) -> Self {
        Self { law, subject, kept: BTreeMap::new() }
    }

    /// Runs on a date, dates in order: what is allowed in its week, and by which ordinance, when it is one too many. One
    /// that is too many does not use up another.
    pub fn too_many(&mut self, date: Date) -> Option<(u8, usize)> {
        let week = self.kept.entry(monday_of(date)).or_default();
        if week.contains(&date) {
            return None;
        }
        let most = self.law.most_days_a_week(Some(self.subject), date);
        let broken = most.filter(|(most, _)| week.len() >= usize::from(*most));
        if broken.is_none() {
            week.insert(date);
        }
        broken
    }
}

/// Of some runs of a subject, in order of time, those that its law forbids: by day or hour, as more days of a week
/// (from Monday) than are allowed, or because the minutes of their date are used up. Rain is not asked about.
///
/// A run that begins on a date counts for it.
#[must_use]
pub fn breaches(law: &Law, subject: Subject, runs: &[TimeSpan], tz: &TimeZone) -> Vec<bool> {
    let date_of = |at: Timestamp| at.to_zoned(tz.clone()).date();
    let (Some(first), Some(last)) = (runs.first(), runs.last()) else { return Vec::new() };
    if law.applied.is_empty() {
        return vec![false; runs.len()];
    }
    let to = date_of(last.from).checked_add(1.day()).unwrap_or(Date::MAX);
    let closed = merged(&law.forbidden(Some(subject), date_of(first.from), to, tz));
    let mut minutes: BTreeMap<Date, Seconds> = BTreeMap::new();
    let mut days = WeekDays::new(law, subject);
    let mut broken = |&TimeSpan { from, until }: &TimeSpan| {
        // The spans do not touch, so they end in the order in which they begin.
        let after = closed.partition_point(|span| span.until <= from);
        let in_closed = closed.get(after).is_some_and(|span| span.from < until);
        let date = date_of(from);
        let used = minutes.entry(date).or_default();
        *used = *used + Seconds::between(from, until);
        let most = law.most_minutes_a_day(Some(subject), date);
        let too_long = most.is_some_and(|(most, _)| *used > Seconds::from_min(most.into()));
        let too_often = days.too_many(date).is_some();
        in_closed || too_long || too_often
    };
    runs.iter().map(&mut broken).collect()
}

#[cfg(test)]
mod tests {
    use super::super::ordinance::AllowedDays;
    use super::super::ordinance::samples::{ban, law, two_days_a_week};
    use super::*;
    use crate::controller::ordinance::{Ordinance, Rule};
    use crate::quantity::time::Hours;
    use jiff::civil::{date, time};

    const SUBJECT: Subject = Subject { controller_number: 1, station: 1, head: None };

    /// A run of so many minutes at an hour of a day of July 2026, of which the sixth is a Monday.
    fn run(day: i8, hour: i8, minutes: i64) -> TimeSpan {
        let from = date(2026, 7, day).at(hour, 0, 0, 0).to_zoned(TimeZone::UTC).unwrap().timestamp();
        TimeSpan::new(from, from + jiff::SignedDuration::from_mins(minutes))
    }

    fn found(law: &Law, runs: &[TimeSpan]) -> Vec<bool> {
        breaches(law, SUBJECT, runs, &TimeZone::UTC)
    }

    fn only(rule: Rule) -> Law {
        law(Ordinance { rules: vec![rule], ..two_days_a_week() })
    }

    fn rule() -> Rule {
        ban(AllowedDays::Any, Vec::new()).rules.remove(0)
    }

    #[test]
    fn without_law_or_runs_nothing_is_forbidden() {
        assert_eq!(found(&Law::default(), &[run(6, 2, 10)]), [false]);
        assert!(found(&only(rule()), &[]).is_empty());
    }

    #[test]
    fn an_hour_binds_from_its_first_second_to_its_last() {
        let hours = vec![Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) }];
        let law = law(ban(AllowedDays::Any, hours));
        let runs = [run(6, 9, 60), run(6, 9, 61), run(6, 17, 30), run(6, 18, 10)];
        assert_eq!(found(&law, &runs), [false, true, true, false]);
    }

    #[test]
    fn the_third_day_of_a_week_is_one_too_many_and_monday_begins_anew() {
        let law = only(Rule { most_days_a_week: Some(2), ..rule() });
        let runs = [run(6, 2, 5), run(6, 4, 5), run(8, 2, 5), run(10, 2, 5), run(12, 2, 5), run(13, 2, 5)];
        assert_eq!(found(&law, &runs), [false, false, false, true, true, false]);
    }

    #[test]
    fn minutes_of_a_date_are_used_up_by_all_its_runs() {
        let law = only(Rule { most_minutes_a_day: Some(15), ..rule() });
        let runs = [run(6, 2, 10), run(6, 3, 5), run(6, 4, 1), run(7, 2, 15)];
        assert_eq!(found(&law, &runs), [false, false, true, false]);
    }
}
