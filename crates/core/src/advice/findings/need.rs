//! Whether each zone gets what it needs over the coming weeks: drowned, short, or never run, and why.

use super::{CheckedRuns, Finding, FindingKind, FindingPlace, NeverBecause, Severity};
use crate::controller::schedule::{Days, Program, runs_on};
use crate::installation::{NEED_SHARES, given};
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::time::{Hours, instant};
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};

pub(super) fn find(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    shares(look, findings);
    never(look, findings);
    omitted(look, findings);
}

/// Zones whose share of their need over the weeks lies outside the bounds. What a zone does not get because the controller
/// rests is not the schedule's fault.
fn shares(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let days = i64::from(look.weeks) * 7;
    let mut dates = (0..days).filter_map(|k| look.from.checked_add(k.days()).ok());
    if dates.any(|date| look.settings.rests(date)) {
        return;
    }
    for zone in given(look.installation, look.settings, &look.runs, look.weeks) {
        if zone.minutes_a_week <= 0.0 || !zone.is_needed() {
            continue;
        }
        // A controller cannot be set finer than its step at each run.
        let runs = look.runs.iter().filter(|r| r.station == zone.station).count();
        #[allow(clippy::cast_precision_loss, reason = "runs of some weeks")]
        let step = look.installation.card.run_step.minutes().min_value().max(1.0) * runs as f64
            / f64::from(look.weeks);
        if (zone.minutes_a_week - zone.minutes_needed).abs() <= step {
            continue;
        }
        let share = Share::from_fraction(zone.minutes_a_week / zone.minutes_needed);
        let kind = if share > NEED_SHARES.1 {
            FindingKind::ZoneDrowned { share }
        } else if share < NEED_SHARES.0 {
            FindingKind::ZoneShort { share }
        } else {
            continue;
        };
        findings.push(Finding::new(kind, Severity::Warning, FindingPlace::Station(zone.station)));
    }
}

/// Zones with a run time that never runs in the weeks, with the first cause that keeps it.
fn never(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    for zone in &look.installation.zones {
        let station = zone.zone.number;
        if look.runs.iter().any(|r| r.station == station) {
            continue;
        }
        let has = |p: &Program| p.run_times.iter().any(|(n, run_time)| *n == station && run_time.any());
        let programs = look.settings.programs.iter().enumerate().filter(|(_, p)| has(p));
        let cause =
            programs.filter_map(|(index, p)| Some((index, because(look, index, p)?))).min_by_key(|(_, c)| *c);
        if let Some((program, because)) = cause {
            let place = FindingPlace::RunTime(program, station);
            findings.push(Finding::new(FindingKind::NeverRuns { because }, Severity::Warning, place));
        }
    }
}

/// Why a program runs nothing in the weeks; `None` when only a rest of the controller or a rounding keeps it, which are said
/// elsewhere.
fn because(look: &CheckedRuns<'_>, index: usize, program: &Program) -> Option<NeverBecause> {
    if !program.active {
        return Some(NeverBecause::Off);
    }
    if program.starts.is_empty() {
        return Some(NeverBecause::NoStart);
    }
    if look.settings.percentages.of(index, look.from) == Percentage::ZERO {
        return Some(NeverBecause::ZeroPercent);
    }
    let omitted = |hours: Hours| program.starts.iter().all(|start| hours.hold(*start));
    if look.settings.omit_hours.is_some_and(omitted) {
        return Some(NeverBecause::OmittedHours);
    }
    let dates = || (0..i64::from(look.weeks) * 7).filter_map(|k| look.from.checked_add(k.days()).ok());
    let runs = |date: Date| runs_on(program.days, look.settings.never_days, date);
    if dates().any(runs) {
        return None;
    }
    let without = |date: Date| runs_on(program.days, [false; 7], date);
    Some(if dates().any(without) {
        NeverBecause::NeverDays
    } else if matches!(program.days, Days::EveryNth { first, .. } if first > look.to()) {
        NeverBecause::BeginsLater
    } else {
        NeverBecause::NoDay
    })
}

/// Runs that begin before omit times and last into them.
fn omitted(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let Some(hours) = look.settings.omit_hours else { return };
    let tz = &look.installation.tz;
    // The first begin of the omitted hours at or after an instant.
    let next = |at: Timestamp| {
        let date = at.to_zoned(tz.clone()).date();
        let on = [Some(date), date.tomorrow().ok()];
        on.into_iter().flatten().map(|date| instant(date, hours.from, tz)).find(|begin| *begin > at)
    };
    for (index, program) in look.settings.programs.iter().enumerate() {
        if program.repeat.is_some() {
            continue;
        }
        let into = look.of_program(index).filter(|r| next(r.start).is_some_and(|begin| begin < r.end));
        let Some(first) = into.clone().next() else { continue };
        let kind = FindingKind::OmittedHours { from: hours.from, first: first.start };
        let place = FindingPlace::Start(index, first.start_index);
        findings.push(Finding::new(kind, Severity::Warning, place).costing(look.cost(into)));
    }
}

#[cfg(test)]
mod tests {
    use crate::advice::findings::{FindingKind, FindingPlace, NeverBecause, check};
    use crate::controller::schedule::{Days, Percentages, Settings};
    use crate::installation::samples::installation;
    use crate::quantity::month::ByMonth;
    use crate::quantity::ratio::Percentage;
    use crate::quantity::time::{Hours, Seconds};
    use jiff::civil::{Date, date, time};

    const FROM: Date = date(2026, 7, 13);

    /// Station 1 every night at one, for so many seconds.
    fn set(seconds: i64) -> Settings {
        let mut settings = Settings::clean(&installation().card);
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(1, 0, 0, 0)];
        settings.set_run_time(0, 1, Seconds::from_s(seconds));
        settings
    }

    fn of_first(settings: &Settings) -> Vec<FindingKind> {
        let mine = |place| {
            matches!(
                place,
                FindingPlace::Station(1) | FindingPlace::RunTime(0, 1) | FindingPlace::Start(0, 0)
            )
        };
        let found = check(&installation(), settings, FROM).into_iter().filter(|f| mine(f.place));
        found.map(|f| f.kind).collect()
    }

    fn never(settings: &Settings) -> Option<NeverBecause> {
        of_first(settings).into_iter().find_map(|kind| match kind {
            FindingKind::NeverRuns { because } => Some(because),
            _ => None,
        })
    }

    #[test]
    fn a_zone_outside_seventy_and_a_hundred_and_thirty_percent_is_told() {
        let zone = &installation().zones[0];
        let need = zone.minutes_for(zone.demand).min_value() * 60.0;
        let of = |share: f64| of_first(&set((need * share).round() as i64));
        let told = |kinds: &[FindingKind]| {
            kinds.iter().any(|k| matches!(k, FindingKind::ZoneDrowned { .. } | FindingKind::ZoneShort { .. }))
        };
        assert!(!told(&of(1.0)) && !told(&of(0.75)) && !told(&of(1.25)));
        assert!(matches!(of(1.4)[..], [FindingKind::ZoneDrowned { share }] if share.percent() > 130.0));
        assert!(matches!(of(0.6)[..], [FindingKind::ZoneShort { share }] if share.percent() < 70.0));
        let mut resting = set((need * 0.3) as i64);
        resting.rain_delay = Some((FROM, 3));
        assert!(!told(&of_first(&resting)), "what the controller rests through is not the schedule's fault");
    }

    #[test]
    fn a_run_time_that_never_runs_says_why() {
        assert_eq!(never(&set(900)), None);
        let with = |change: &dyn Fn(&mut Settings)| {
            let mut settings = set(900);
            change(&mut settings);
            never(&settings)
        };
        assert_eq!(with(&|s| s.programs[0].active = false), Some(NeverBecause::Off));
        assert_eq!(with(&|s| s.programs[0].starts.clear()), Some(NeverBecause::NoStart));
        assert_eq!(with(&|s| s.never_days = [true; 7]), Some(NeverBecause::NeverDays));
        assert_eq!(
            with(&|s| s.percentages = s.percentages.all_at(Percentage::ZERO)),
            Some(NeverBecause::ZeroPercent)
        );
        let night = Hours { from: time(0, 0, 0, 0), until: time(6, 0, 0, 0) };
        assert_eq!(with(&|s| s.omit_hours = Some(night)), Some(NeverBecause::OmittedHours));
        assert_eq!(with(&|s| s.programs[0].days = Days::Weekdays([false; 7])), Some(NeverBecause::NoDay));
        let later = Days::EveryNth { interval: 2, first: date(2026, 12, 1) };
        assert_eq!(with(&|s| s.programs[0].days = later), Some(NeverBecause::BeginsLater));
        assert_eq!(with(&|s| s.rain_delay = Some((FROM, 30))), None, "a rest ends by itself");
    }

    #[test]
    fn a_run_that_lasts_into_omitted_hours_and_minutes_that_a_month_turns_into_nothing() {
        let mut settings = set(3600);
        settings.omit_hours = Some(Hours { from: time(1, 30, 0, 0), until: time(3, 0, 0, 0) });
        let into =
            |kinds: Vec<FindingKind>| kinds.iter().any(|k| matches!(k, FindingKind::OmittedHours { .. }));
        assert!(into(of_first(&settings)));
        settings.omit_hours = Some(Hours { from: time(2, 0, 0, 0), until: time(3, 0, 0, 0) });
        assert!(!into(of_first(&settings)), "it ends as they begin");

        let mut there = installation();
        there.card.percentage_scope = crate::controller::PercentageScope::Month;
        (there.card.rounding, there.card.rounding_step) =
            (crate::controller::Rounding::Down, Seconds::from_min(1));
        let mut settings = set(300);
        let mut months = ByMonth::all(Percentage::HUNDRED);
        *months.of_mut(crate::quantity::month::Month::January) = Percentage::from_percent(10);
        settings.percentages = Percentages::Month(months);
        let found = check(&there, &settings, FROM);
        let rounded = found.iter().find_map(|f| match &f.kind {
            FindingKind::RoundsToZero { months, .. } => Some(months.clone()),
            _ => None,
        });
        assert_eq!(rounded, Some(vec![crate::quantity::month::Month::January]), "July's own is sound");
    }
}
