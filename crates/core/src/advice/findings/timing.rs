//! Whether the controller runs when it may: queueing, window, law, clock changes, sunrise.

use super::{CheckedRuns, Cost, Finding, FindingKind, FindingPlace, Severity};
use crate::controller::breaches::WeekDays;
use crate::controller::ordinance::{Forbidden, Subject, Why};
use crate::controller::schedule::{Days, Percentages, ScheduledRun, expand};
use crate::controller::windows::{Windows, main_window, night_at};
use crate::installation::Installation;
use crate::quantity::month::Month;
use crate::quantity::ratio::Percentage;
use crate::quantity::span::TimeSpan;
use crate::quantity::time::{Seconds, midnight, monday_of};
use crate::weather::sun::sunrise_sunset;
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet};

/// A wait shorter than this is not worth a word.
const SHORTEST_WAIT: Seconds = Seconds::from_min(1);
/// Days of a month that are looked at for sunrise.
const SUNRISE_DAYS: i32 = 14;

pub(super) fn find(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    queues(look, findings);
    outside_window(look, findings);
    law(look, findings);
    odd_pairs(look, findings);
    clock_changes(look, findings);
    past_sunrise(look, findings);
}

fn queues(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let mut told: BTreeMap<(usize, usize), Finding> = BTreeMap::new();
    let mut dates: BTreeMap<(usize, usize), BTreeSet<Date>> = BTreeMap::new();
    let mut running: Option<&ScheduledRun> = None;
    let mut behind: BTreeMap<(usize, u32, Date), usize> = BTreeMap::new();
    for run in &look.runs {
        let pass = (run.program, run.start_number, run.date);
        if run.queued >= SHORTEST_WAIT {
            let other = *behind.entry(pass).or_insert_with(|| running.map_or(run.program, |r| r.program));
            let key = (run.program, run.start_index);
            // The later passes of a loop wait for the program's own earlier ones by design.
            let own_loop = look.settings.programs.get(run.program).is_some_and(|p| p.repeat.is_some());
            if other != run.program || !own_loop {
                dates.entry(key).or_default().insert(run.date);
                let minutes = run.queued.s() / 60;
                let kind = FindingKind::Queues { minutes, behind: other, on: run.date };
                let finding = Finding::new(kind, Severity::Warning, FindingPlace::Start(key.0, key.1));
                let longer = |old: &Finding| matches!(old.kind, FindingKind::Queues { minutes: m, .. } if m >= minutes);
                if !told.get(&key).is_some_and(longer) {
                    told.insert(key, finding);
                }
            }
        }
        if running.is_none_or(|r| r.end <= run.end) {
            running = Some(run);
        }
    }
    for (key, finding) in told {
        let days = dates.get(&key).and_then(|d| u32::try_from(d.len()).ok());
        let minutes = match finding.kind {
            FindingKind::Queues { minutes, .. } => minutes,
            _ => 0,
        };
        #[allow(clippy::cast_precision_loss, reason = "minutes of a night")]
        let a_week = f64::from(days.unwrap_or(0)) * minutes as f64 / f64::from(look.weeks);
        findings.push(finding.costing(Cost { minutes_a_week: Some(a_week), days, ..Cost::default() }));
    }
}

fn outside_window(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    // Zones with the same windows in the same nights share their spans.
    type Opened = (Vec<(Date, Windows)>, Vec<TimeSpan>);
    let mut known: Vec<Opened> = Vec::new();
    let mut of: BTreeMap<u16, usize> = BTreeMap::new();
    for station in look.runs.iter().map(|run| run.station).collect::<BTreeSet<u16>>() {
        let nights = look.installation.windows_around(station, look.from, look.to());
        let index = known.iter().position(|(others, _)| *others == nights).unwrap_or_else(|| {
            let spans = look.installation.open_spans(&nights);
            known.push((nights, spans));
            known.len() - 1
        });
        of.insert(station, index);
    }
    let inside = |run: &ScheduledRun| {
        let open = of.get(&run.station).and_then(|index| known.get(*index));
        open.is_some_and(|(_, spans)| {
            let after = spans.partition_point(|span| span.from <= run.start);
            after.checked_sub(1).and_then(|i| spans.get(i)).is_some_and(|span| run.end <= span.until)
        })
    };
    for (index, program) in look.settings.programs.iter().enumerate() {
        // Pulses over the day are meant for the day.
        if program.repeat.is_some() {
            continue;
        }
        let out = look.of_program(index).filter(|r| !inside(r));
        let Some(first) = out.clone().next() else { continue };
        let place = FindingPlace::Start(index, first.start_index);
        let (from, until, station) = (first.start, first.end, first.station);
        let kind = FindingKind::OutsideWindow { from, until, station };
        findings.push(Finding::new(kind, Severity::Fault, place).costing(look.cost(out)));
    }
}

/// Forbidden spans by whom they bind, so that hundreds of runs share a few lists.
struct Spans<'a> {
    look: &'a CheckedRuns<'a>,
    lists: BTreeMap<Subject, Vec<Forbidden>>,
}

impl Spans<'_> {
    fn of(&mut self, subject: Subject) -> &[Forbidden] {
        let law = &self.look.installation.law;
        let kind = law.kind_of(subject);
        let look = self.look;
        self.lists.entry(kind).or_insert_with(|| {
            let to = look.to().checked_add(1.day()).unwrap_or(look.to());
            law.forbidden(Some(kind), look.from, to, &look.installation.tz)
        })
    }
}

fn law(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let law = &look.installation.law;
    if law.applied.is_empty() {
        return;
    }
    let name = |index: usize| law.applied.get(index).map_or(String::new(), |a| a.ordinance.name.clone());
    let mut spans = Spans { look, lists: BTreeMap::new() };
    // By program, why and ordinance: the runs that break it.
    let mut broken: BTreeMap<(usize, bool, usize), Vec<&ScheduledRun>> = BTreeMap::new();
    for run in &look.runs {
        let list = spans.of(look.installation.subject(run.station));
        let until = list.partition_point(|s| s.from < run.end);
        for span in list.iter().take(until).filter(|s| s.until > run.start) {
            if TimeSpan::new(span.from, span.until).meets(TimeSpan::new(run.start, run.end)) {
                broken.entry((run.program, span.why == Why::Day, span.ordinance)).or_default().push(run);
            }
        }
    }
    for ((program, by_day, ordinance), runs) in broken {
        let Some(first) = runs.first() else { continue };
        let kind = if by_day {
            FindingKind::ForbiddenDay {
                ordinance: name(ordinance),
                on: first.start.to_zoned(look.installation.tz.clone()).date(),
            }
        } else {
            FindingKind::ForbiddenHour { ordinance: name(ordinance), at: first.start }
        };
        let place = if by_day {
            FindingPlace::Program(program)
        } else {
            FindingPlace::Start(program, first.start_index)
        };
        findings.push(Finding::new(kind, Severity::Fault, place).costing(look.cost(runs.iter().copied())));
    }
    weekly_counts(look, &name, findings);
    minutes_a_date(look, &name, findings);
}

/// Stations that run longer on a date than an ordinance allows.
fn minutes_a_date(look: &CheckedRuns<'_>, name: &impl Fn(usize) -> String, findings: &mut Vec<Finding>) {
    let mut minutes: BTreeMap<(u16, Date), Seconds> = BTreeMap::new();
    for run in &look.runs {
        let date = run.start.to_zoned(look.installation.tz.clone()).date();
        let sum = minutes.entry((run.station, date)).or_default();
        *sum = *sum + run.length();
    }
    let mut worst: BTreeMap<u16, (Seconds, u16, usize)> = BTreeMap::new();
    for ((station, date), sum) in minutes {
        let subject = look.installation.subject(station);
        let law = look.installation.law.most_minutes_a_day(Some(subject), date);
        let Some((most, ordinance)) = law.filter(|(most, _)| sum > Seconds::from_min((*most).into())) else {
            continue;
        };
        let own = worst.entry(station).or_insert((sum, most, ordinance));
        if sum > own.0 {
            *own = (sum, most, ordinance);
        }
    }
    for (station, (sum, most, ordinance)) in worst {
        let kind =
            FindingKind::TooManyMinutes { ordinance: name(ordinance), minutes: sum.minutes_up(), most };
        findings.push(Finding::new(kind, Severity::Fault, FindingPlace::Station(station)));
    }
}

/// Stations that run on more days of a week than an ordinance allows on the day that is one too many: of each program
/// the worst week.
fn weekly_counts(look: &CheckedRuns<'_>, name: &impl Fn(usize) -> String, findings: &mut Vec<Finding>) {
    let law = &look.installation.law;
    let mut days: BTreeMap<u16, BTreeSet<Date>> = BTreeMap::new();
    let mut programs: BTreeMap<u16, usize> = BTreeMap::new();
    for run in &look.runs {
        let date = run.start.to_zoned(look.installation.tz.clone()).date();
        days.entry(run.station).or_default().insert(date);
        programs.entry(run.station).or_insert(run.program);
    }
    // By program and ordinance: days too many, days in that week, and what is allowed.
    let mut worst: BTreeMap<(usize, usize), (u32, u32, u8)> = BTreeMap::new();
    for (station, dates) in &days {
        let mut kept = WeekDays::new(law, look.installation.subject(*station));
        let mut over: BTreeMap<(Date, usize), (u32, u8)> = BTreeMap::new();
        for date in dates {
            if let Some((most, ordinance)) = kept.too_many(*date) {
                over.entry((monday_of(*date), ordinance)).or_insert((0, most)).0 += 1;
            }
        }
        let program = programs.get(station).copied().unwrap_or(0);
        for ((monday, ordinance), (over, most)) in over {
            let of_week = dates.iter().filter(|date| monday_of(**date) == monday).count();
            let found = (over, u32::try_from(of_week).unwrap_or(u32::MAX), most);
            let own = worst.entry((program, ordinance)).or_insert(found);
            if found.0 > own.0 {
                *own = found;
            }
        }
    }
    for ((program, ordinance), (over, days, most)) in worst {
        let kind = FindingKind::TooManyDays { ordinance: name(ordinance), days, most };
        let cost = Cost { days: Some(over), ..Cost::default() };
        findings.push(Finding::new(kind, Severity::Fault, FindingPlace::Program(program)).costing(cost));
    }
}

fn odd_pairs(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    for (index, program) in look.settings.programs.iter().enumerate() {
        if !program.active || program.days != Days::Odd {
            continue;
        }
        let pair = look
            .of_program(index)
            .map(|r| r.date)
            .find(|date| date.day() == date.days_in_month() && date.day() % 2 == 1);
        if let Some(on) = pair {
            findings.push(Finding::new(
                FindingKind::OddPair { on },
                Severity::Note,
                FindingPlace::Program(index),
            ));
        }
    }
}

fn clock_changes(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let tz = &look.installation.tz;
    let begin = midnight(look.from, tz);
    // Both changes of the coming year.
    let within = SignedDuration::from_hours(24 * 366);
    for change in tz.following(begin).take(4).take_while(|c| c.timestamp().duration_since(begin) < within) {
        let before = tz.to_offset(change.timestamp() - SignedDuration::from_secs(1));
        let after = change.offset();
        let shift_s = i64::from(after.seconds() - before.seconds());
        if shift_s == 0 {
            continue;
        }
        let (old, new) = (before.to_datetime(change.timestamp()), after.to_datetime(change.timestamp()));
        let (from, until) = if shift_s > 0 { (old, new) } else { (new, old) };
        for (p, program) in look.settings.programs.iter().enumerate().filter(|(_, p)| p.active) {
            if program.run_times.iter().all(|(_, s)| !s.any()) {
                continue;
            }
            for (s, start) in program.starts.iter().enumerate() {
                let at = from.date().to_datetime(*start);
                let runs =
                    crate::controller::schedule::runs_on(program.days, look.settings.never_days, from.date());
                if runs && at >= from && at < until {
                    let kind = FindingKind::ClockChange { on: from.date(), removed: shift_s > 0 };
                    findings.push(Finding::new(kind, Severity::Note, FindingPlace::Start(p, s)));
                }
            }
        }
    }
}

/// The month in which the night is at its tightest: the highest percentage where each month has
/// its own, else the highest demand.
pub(super) fn peak_month(look: &CheckedRuns<'_>) -> Month {
    let key = |month: Month| match &look.settings.percentages {
        Percentages::Month(values) => *values.of(month),
        _ => Percentage::ZERO,
    };
    let et0 = |month: Month| look.installation.monthly_et0.of(month).mm();
    let heavier =
        |a: &Month, b: &Month| key(*a).cmp(&key(*b)).then(et0(*a).total_cmp(&et0(*b))).then(b.cmp(a));
    Month::ALL.into_iter().max_by(heavier).unwrap_or(Month::July)
}

/// The first day of the week of a month that is looked at, the next that comes from a date.
pub(super) fn week_of(month: Month, from: Date) -> Option<Date> {
    let year = if month < Month::of(from) { from.year() + 1 } else { from.year() };
    Date::new(year, month.number(), 8).ok()
}

fn past_sunrise(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let installation = look.installation;
    let month = peak_month(look);
    let Some(first) = week_of(month, look.from) else { return };
    let last = first.checked_add(SUNRISE_DAYS.days()).unwrap_or(first);
    let past = |settings: &crate::controller::schedule::Settings| -> Option<(i64, usize)> {
        let runs = expand(settings, &installation.card, &installation.tz, first, last);
        let limits: Vec<Timestamp> = (0..=SUNRISE_DAYS + 1)
            .filter_map(|k| limit_of(installation, first.checked_add(k.days()).ok()?))
            .collect();
        let waters = runs.iter().filter(|r| !settings.station(r.station).lighting);
        waters
            .filter(|r| settings.programs.get(r.program).is_some_and(|p| p.repeat.is_none()))
            .filter(|run| !by_day(installation, run))
            .filter_map(|run| {
                let limit = limits.get(limits.partition_point(|l| *l < run.end).checked_sub(1)?)?;
                let past = run.end.duration_since(*limit);
                // Only what belongs to the night before: a program of the day is another matter.
                (past < SignedDuration::from_hours(5)).then_some((past.as_mins(), run.program))
            })
            .filter(|(minutes, _)| *minutes > 0)
            .max()
    };
    let at_hundred = crate::controller::schedule::Settings {
        percentages: look.settings.percentages.all_at(Percentage::HUNDRED),
        ..look.settings.clone()
    };
    if let Some((minutes, program)) = past(look.settings)
        && past(&at_hundred).is_none()
    {
        let percentage = look.settings.percentages.of(program, first);
        let kind = FindingKind::PastSunrise { month, percentage, minutes };
        findings.push(Finding::new(kind, Severity::Warning, FindingPlace::Program(program)));
    }
}

/// Whether a run begins in a window of its zone that is not the night's.
fn by_day(installation: &Installation, run: &ScheduledRun) -> bool {
    let (at, main) = (run.start.to_zoned(installation.tz.clone()), installation.windows.main);
    let own = installation.windows_on(run.station, night_at(&at, main));
    own.hold(at.time()) && !Windows::only(main).hold(at.time())
}

/// When a night should be over: at sunrise, or at the window's end where that is later.
fn limit_of(installation: &Installation, date: Date) -> Option<Timestamp> {
    let sunrise = sunrise_sunset(date, installation.latitude_deg, installation.longitude_deg)?.from;
    let evening = date.yesterday().ok()?;
    let shut = main_window(evening, installation.windows.main, &installation.tz).until;
    Some(sunrise.max(shut))
}
