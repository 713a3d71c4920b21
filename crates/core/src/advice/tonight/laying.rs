//! The night laid out: due zones in the hours that each has, one set of hours beside another.

use super::needs::{Decision, ZoneTonight};
use crate::account::running::ControllerFacts;
use crate::account::site_account::AccountInputs;
use crate::controller::night::{self, Due, Keying, NightPlan, Shortfall};
use crate::controller::open_hours::longest;
use crate::controller::windows::main_window;
use crate::quantity::span::TimeSpan;
use crate::quantity::time::{Hours, Seconds};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};

/// Lays the due zones out: those that share hours with each other, one set of hours after another.
pub(super) fn place(
    facts: &AccountInputs,
    own: &ControllerFacts,
    rows: &[ZoneTonight],
    date: Date,
    at: Timestamp,
) -> (NightPlan, Keying) {
    let delay = own.settings_at(at).map_or(Seconds::ZERO, |s| s.delay);
    let mut keying = Keying::of(&own.card, delay);
    if own.computes_itself() {
        // It waters zone by zone as it works out: no number of programs binds it.
        keying.programs = u8::MAX;
    }
    let due: Vec<&ZoneTonight> = rows.iter().filter(|row| row.decision == Decision::Runs).collect();
    let mut night = Laying { date, keying, tz: &facts.tz, parts: Vec::new() };
    let late = night.lay(together(&due, |row| row.night.open));
    // What the longest hours do not hold may run in the next longest.
    let again: Vec<&ZoneTonight> = due.into_iter().filter(|row| late.contains(&row.zone.number)).collect();
    let late = night.lay(together(&again, |row| row.night.spare));
    (night.whole(late, facts.site.windows.main), keying)
}

/// The parts of a night that is being laid out.
struct Laying<'a> {
    date: Date,
    keying: Keying,
    tz: &'a TimeZone,
    parts: Vec<NightPlan>,
}

impl Laying<'_> {
    /// Lays zones out in their hours, beside what is there already; the stations that found no room.
    fn lay(&mut self, groups: Vec<Together<'_>>) -> Vec<u16> {
        let mut late = Vec::new();
        let mut to_come = u8::try_from(groups.len()).unwrap_or(u8::MAX);
        for (span, zones) in groups {
            to_come = to_come.saturating_sub(1);
            let used: usize = self.parts.iter().map(|part| part.layout.programs.len()).sum();
            let left = self.keying.programs.saturating_sub(u8::try_from(used).unwrap_or(u8::MAX));
            let free = span.map(|span| (span, self.free(span.from, span.until)));
            let Some((span, TimeSpan { from, until })) = free.filter(|(_, own)| left > 0 && !own.is_empty())
            else {
                late.extend(zones.iter().map(|row| row.zone.number));
                continue;
            };
            // The groups to come need a program each.
            let keying = Keying { programs: left.saturating_sub(to_come).max(1), ..self.keying };
            let asked: Vec<Due> = zones.iter().map(|row| asks(row)).collect();
            let mut part = night::place(self.date, &asked, &keying, self.zoned(from), self.zoned(until));
            part.open = vec![(self.zoned(span.from), self.zoned(span.until))];
            let deferred = |(_, why): &(u16, Shortfall)| *why == Shortfall::Deferred;
            late.extend(part.shortfalls.extract_if(.., |s| deferred(s)).map(|(number, _)| number));
            self.parts.push(part);
        }
        late
    }

    /// The longest part of some hours in which nothing runs yet: a controller waters one zone after the other.
    fn free(&self, from: Timestamp, until: Timestamp) -> TimeSpan {
        let runs =
            |part: &NightPlan| Some((part.first_start.as_ref()?.timestamp(), part.last_end()?.timestamp()));
        let mut taken: Vec<_> = self.parts.iter().filter_map(runs).collect();
        taken.sort_unstable();
        let mut free = Vec::new();
        let mut at = from;
        for (begins, ends) in taken {
            free.push(TimeSpan::new(at, begins.min(until).max(at)));
            at = at.max(ends);
        }
        free.push(TimeSpan::new(at, until.max(at)));
        longest(&free).unwrap_or(TimeSpan::new(from, until))
    }

    fn zoned(&self, at: Timestamp) -> Zoned {
        at.to_zoned(self.tz.clone())
    }

    /// The parts as one night, with the stations that found no room in any.
    fn whole(mut self, late: Vec<u16>, main: Hours) -> NightPlan {
        let begins = |part: &NightPlan| part.first_start.as_ref().unwrap_or(&part.window_from).timestamp();
        self.parts.sort_by_key(begins);
        let parts = core::mem::take(&mut self.parts);
        let mut night = parts.into_iter().reduce(NightPlan::then).unwrap_or_else(|| {
            let open = main_window(self.date, main, self.tz);
            night::place(self.date, &[], &self.keying, self.zoned(open.from), self.zoned(open.until))
        });
        night.shortfalls.extend(late.into_iter().map(|number| (number, Shortfall::Deferred)));
        night.shortfalls.sort_by_key(|(number, _)| *number);
        night
    }
}

/// What a due zone asks of the night.
fn asks(row: &ZoneTonight) -> Due {
    let raw = row.root_zone.readily_available().mm().max(0.1);
    let urgency = row.depletion.mm() / raw;
    let cycles = row.lawful_cycles();
    Due { number: row.zone.number, cycles, asked_minutes: cycles.total_minutes(), urgency, lane: 0 }
}

/// Hours from one instant to another, if there are any, and the zones that run in them.
type Together<'a> = (Option<TimeSpan>, Vec<&'a ZoneTonight>);

/// Zones with hours that most of each can share, in order of time.
fn together<'a>(
    due: &[&'a ZoneTonight],
    hours: impl Fn(&ZoneTonight) -> Option<TimeSpan>,
) -> Vec<Together<'a>> {
    let mut out: Vec<Together<'a>> = Vec::new();
    for row in due {
        let own = hours(row);
        let fits = |span: Option<TimeSpan>| match (span, own) {
            (Some(a), Some(b)) => a.shared(b).duration() * 2 >= a.duration().min(b.duration()),
            (a, b) => a == b,
        };
        match out.iter_mut().find(|(span, _)| fits(*span)) {
            Some((span, zones)) => {
                *span = span.zip(own).map(|(a, b)| a.shared(b));
                zones.push(row);
            }
            None => out.push((own, vec![row])),
        }
    }
    out.sort_by_key(|(span, _)| *span);
    out
}
