//! Tonight: what the controller will do, what each zone needs, and whether the one is right for the other.
//!
//! Needs (the "soil balance" strategy): a zone is due when its root zone has reached the refill point, or would pass
//! it tomorrow, and is then brought back to full, in what law, frost, off-season and window leave of the night, as
//! this controller can be set. Where the zone stands comes from the account of the site up to this evening.

mod laying;
mod needs;
mod notices;
mod verdict;

pub use needs::{Because, Decision, Refill, StateFrom, ZoneTonight, refill};
pub use notices::Notice;
pub use verdict::{Verdict, Will, is_too_much};

use crate::account::nights::{night_of, rained};
use crate::account::running::{ControllerFacts, ControllerRun, running};
use crate::account::site_account::{AccountInputs, EvidencePolicy, SiteAccount, begins, of_site};
use crate::account::sky::SkyHours;
use crate::account::sky::{DemandFrom, et0_of};
use crate::account::zone::{Week, ahead};
use crate::controller::night::NightPlan;
use crate::controller::ordinance::merged;
use crate::controller::twelve_stations;
use crate::controller::windows::{EVENING, decided_at, main_window};
use crate::quantity::span::TimeSpan;
use crate::quantity::time::{Seconds, instant};
use crate::quantity::units::Millimetres;
use crate::site::{StationId, SurveyedZone};
use jiff::Timestamp;
use jiff::civil::Date;
use laying::place;
use needs::{Standing, apply_night, decide_zone};
use std::collections::BTreeMap;
use verdict::{Judged, judge};

/// What can be told of a controller's own runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ControllerKnown {
    /// Its settings are known, so its runs are.
    Settings,
    /// Nobody entered its settings.
    Unknown,
    /// It computes its run times itself every day.
    ComputesItself,
}

/// A controller of a site tonight.
#[derive(Debug, Clone, PartialEq)]
pub struct Tonight {
    /// The day whose evening the night begins on.
    pub date: Date,
    /// The instant up to which facts were counted.
    pub evening: Timestamp,
    /// ET0 of that day and where it came from.
    pub et0: (Millimetres, DemandFrom),
    /// Rain of that day, if recorded.
    pub rain: Option<Millimetres>,
    /// The zones, by station number.
    pub zones: Vec<ZoneTonight>,
    /// The advised night.
    pub night: NightPlan,
    /// What can be told of the controller's own runs.
    pub known: ControllerKnown,
    /// The controller's own runs of the night, those of stations without a zone and held ones too, in order of time.
    pub runs: Vec<ControllerRun>,
    /// What the reader must know.
    pub notices: Vec<Notice>,
}

impl Tonight {
    /// Zones that are advised to run tonight.
    pub fn running(&self) -> impl Iterator<Item = &ZoneTonight> {
        self.zones.iter().filter(|z| z.cycles.is_some())
    }

    /// Zones that the controller will water tonight.
    pub fn will_run(&self) -> impl Iterator<Item = &ZoneTonight> {
        self.zones.iter().filter(|z| z.will.as_ref().is_some_and(|w| w.waters().any()))
    }

    /// Zones of a verdict.
    pub fn of_verdict(&self, verdict: Verdict) -> impl Iterator<Item = &ZoneTonight> {
        self.zones.iter().filter(move |z| z.verdict == Some(verdict))
    }
}

/// The instant up to which facts count for the night of a date, when it is asked at an instant: that instant in the
/// evening itself, else the one at which the night is decided.
#[must_use]
pub fn evening_of(facts: &AccountInputs, date: Date, asked: Timestamp) -> Timestamp {
    let decided = decided_at(date, facts.site.windows.main, &facts.tz);
    let opens = main_window(date, facts.site.windows.main, &facts.tz).from;
    let latest = opens.max(instant(date, EVENING, &facts.tz));
    if (decided..latest).contains(&asked) { asked } else { decided }
}

/// The account of a site up to the evening of a date.
#[must_use]
pub fn account_of(facts: &AccountInputs, way: EvidencePolicy, date: Date, asked: Timestamp) -> SiteAccount {
    let until = evening_of(facts, date, asked);
    of_site(facts, way, begins(&facts.climate, date), until, |_, _| ())
}

/// The runs of a controller in the night that begins on a date: the day from one evening to the next, so that every run
/// lies in exactly one night.
#[must_use]
pub fn night_runs(facts: &AccountInputs, own: &ControllerFacts, date: Date) -> Vec<ControllerRun> {
    let next = date.tomorrow().unwrap_or(date);
    let window = facts.site.windows.main;
    let (from, until) = (decided_at(date, window, &facts.tz), decided_at(next, window, &facts.tz));
    // A run that waits in line may belong to the date before.
    let first = date.yesterday().unwrap_or(date);
    let mut runs = running(own, facts.surveys(), &facts.tz, first, next);
    runs.retain(|r| (from..until).contains(&r.run.start));
    runs
}

/// Decides the night of one controller of a site that begins on the last day of its account.
#[must_use]
pub fn tonight(facts: &AccountInputs, account: &SiteAccount, controller_number: u8, date: Date) -> Tonight {
    let ordinary = ControllerFacts {
        number: controller_number,
        card: twelve_stations(),
        versions: Vec::new(),
        sensors: Vec::new(),
    };
    let own = facts.of_controller(controller_number).unwrap_or(&ordinary);
    let known = match own.settings_at(account.until) {
        _ if own.computes_itself() => ControllerKnown::ComputesItself,
        Some(_) => ControllerKnown::Settings,
        None => ControllerKnown::Unknown,
    };
    let runs = night_runs(facts, own, date);
    let mut rows = decide_zones(facts, account, controller_number, date);
    let (night, keying) = place(facts, own, &rows, date, account.until);
    for row in &mut rows {
        apply_night(row, &night, &keying);
    }
    if known != ControllerKnown::Unknown {
        judge_zones(facts, own, account, date, &runs, &mut rows);
    }
    let notices = notices::of(facts, &own.card, &night, &rows, date);
    Tonight {
        date,
        evening: account.until,
        et0: et0_of(&facts.climate, date),
        rain: facts.climate.rain_on(date),
        zones: rows,
        night,
        known,
        runs,
        notices,
    }
}

/// What each zone of a controller needs, before the night is laid out.
fn decide_zones(
    facts: &AccountInputs,
    account: &SiteAccount,
    controller_number: u8,
    date: Date,
) -> Vec<ZoneTonight> {
    let own =
        facts.zones.iter().filter(|SurveyedZone { zone, .. }| zone.controller_number == controller_number);
    let mut rows: Vec<ZoneTonight> = facts.with_rules(controller_number, |rules| {
        own.map(|SurveyedZone { zone, resolved }| {
            let found = account.zone(StationId::new(controller_number, zone.number));
            let (days, state) = found.map_or((&[][..], None), |z| (z.days.as_slice(), Some(z.end)));
            let mut night = night_of(rules, zone, date);
            let mut week = Week::default();
            for day in days.iter().filter(|d| d.water.applied > Millimetres::ZERO) {
                week.count(day.date);
            }
            let morning = night.open.map_or(date, |span| span.from.to_zoned(facts.tz.clone()).date());
            if night.barred.is_none() && !week.admits(morning, night.most_a_week) {
                night.barred = Some(crate::account::nights::Barred::WeekIsFull { most: night.most_a_week });
            }
            let standing = Standing { days, state, night };
            decide_zone(zone, resolved, &facts.climate, date, &standing)
        })
        .collect()
    });
    rows.sort_by_key(|row| row.zone.number);
    rows
}

/// Holds what the controller will do against what each zone needs.
fn judge_zones(
    facts: &AccountInputs,
    own: &ControllerFacts,
    account: &SiteAccount,
    date: Date,
    runs: &[ControllerRun],
    rows: &mut [ZoneTonight],
) {
    let next = date.tomorrow().unwrap_or(date);
    let until = decided_at(next, facts.site.windows.main, &facts.tz);
    let longitude = facts.site.longitude_deg;
    // Tomorrow brings what is expected: no rain, and the demand of the season.
    let sky =
        SkyHours::of(&facts.climate, longitude, &facts.tz, date, until).without_rain_after(account.until);
    let settings = own.settings_at(account.until);
    let is_set = |row: &&mut ZoneTonight| own.set_since(row.zone.number).is_some();
    for row in rows.iter_mut().filter(is_set) {
        let station = row.zone.number;
        let mine: Vec<ControllerRun> = runs.iter().filter(|r| r.run.station == station).cloned().collect();
        let spans: Vec<_> = mine.iter().filter(|r| !r.is_held()).map(ControllerRun::watering).collect();
        let spans = crate::account::evidence::joined(spans);
        let state = account.zone(row.zone.station_id()).map(|z| z.end).unwrap_or_default();
        let waters: Seconds = mine.iter().map(ControllerRun::waters).sum();
        let will = Will {
            brings: row.resolved.net_of(waters.minutes()),
            ahead: ahead(&row.zone, &row.resolved, &sky, account.until, state, &spans),
            forbidden: forbidden(facts, account, own, row, &mine),
            runs: mine,
        };
        let has_run_time = settings.is_some_and(|s| {
            s.programs.iter().any(|p| p.waters() && p.run_times.iter().any(|(n, t)| *n == station && t.any()))
        });
        row.verdict = Some(judge(&Judged {
            will: &will,
            night: &row.night,
            due: row.due,
            missing: row.depletion,
            has_run_time,
        }));
        row.will = Some(will);
    }
}

/// The first instant at which a run of a zone is forbidden by law: by day and hour, after rain, or because its minutes
/// of the date are used up.
fn forbidden(
    facts: &AccountInputs,
    account: &SiteAccount,
    own: &ControllerFacts,
    row: &ZoneTonight,
    runs: &[ControllerRun],
) -> Option<Timestamp> {
    if facts.law.applied.is_empty() {
        return None;
    }
    let subject = crate::account::nights::subject(&row.zone);
    let last = row.date.tomorrow().unwrap_or(row.date).tomorrow().unwrap_or(row.date);
    let mut closed: Vec<TimeSpan> = merged(&facts.law.forbidden(Some(subject), row.date, last, &facts.tz));
    if let Some((_, until)) = facts.with_rules(own.number, |rules| rained(rules, subject, row.date)) {
        closed.push(TimeSpan::new(account.until, until));
    }
    let run = || runs.iter().filter(|r| !r.is_held());
    let meets = |run: &ControllerRun| {
        let met = closed.iter().filter(|span| span.from < run.until && span.until > run.run.start);
        met.map(|span| span.from.max(run.run.start)).min()
    };
    // What ran before the evening counts towards the minutes of its date.
    let before = account.runs.of(row.zone.station_id());
    let before = before.filter(|r| r.run.start < account.until && !r.is_held());
    let mut used: BTreeMap<Date, Seconds> = BTreeMap::new();
    let mut too_long = None;
    for run in before.chain(run()) {
        let date = run.run.start.to_zoned(facts.tz.clone()).date();
        let most =
            facts.law.most_minutes_a_day(Some(subject), date).map(|(most, _)| Seconds::from_min(most.into()));
        let so_far = used.entry(date).or_default();
        *so_far = *so_far + run.waters();
        if most.is_some_and(|most| *so_far > most) && run.run.start >= account.until {
            too_long = too_long.or(Some(run.run.start));
        }
    }
    run().filter_map(meets).chain(too_long).min()
}

#[cfg(test)]
mod tests;
