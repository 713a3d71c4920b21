//! Whether the rhythm of the waterings suits each root zone: days below the refill point between them, and water that
//! drains because a dose is more than the soil can hold. Both happen though the amount of a week is right.

use super::{CheckedRuns, Finding, FindingKind, FindingPlace, Severity};
use crate::installation::{NEED_SHARES, WiredZone};
use crate::quantity::ratio::Share;
use crate::quantity::units::{Millimetres, Minutes};
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp, ToSpan};

/// Plants that take less of their demand than this dry out (our stated bound).
const DRY_BELOW: f64 = 0.9;
/// So much of what is applied may drain before it is said (our stated bound: a round of minutes drains a little).
const LOST_ABOVE: f64 = 0.2;

/// Runs of a day that lie further apart are waterings of their own, else cycles of one.
const APART: SignedDuration = SignedDuration::from_hours(2);

/// What the weeks bring a zone at expected demand and without rain.
#[derive(Debug, Clone, Copy, Default)]
struct Course {
    demand_mm: f64,
    met_mm: f64,
    applied_mm: f64,
    drained_mm: f64,
    waterings: u32,
    /// Starts, each of which opens the valve for a run time of its own.
    starts: u32,
    days_below: u32,
}

impl Course {
    /// Day by day as the balance has it: a night's watering comes before the day's demand (FAO-56 eq. 82 to 88).
    fn new(zone: &WiredZone, look: &CheckedRuns<'_>) -> Self {
        let station = zone.zone.number;
        let mut runs = look.runs.iter().filter(|r| r.station == station).peekable();
        let mut depletion = before(zone, look);
        let mut out = Self::default();
        for date in days(look.from, look.to()) {
            // Waterings of a day that lie apart each have their part of its demand to fill up.
            let mut waterings: Vec<(Timestamp, f64)> = Vec::new();
            while let Some(run) = runs.next_if(|r| r.date <= date) {
                let minutes = run.length().minutes().min_value();
                out.starts += u32::from(run.cycle <= 1);
                match waterings.last_mut().filter(|(last, _)| run.start.duration_since(*last) < APART) {
                    Some((last, sum)) => (*last, *sum) = (run.end, *sum + minutes),
                    None => waterings.push((run.end, minutes)),
                }
            }
            let parts = u32::try_from(waterings.len()).map_or(1.0, f64::from).max(1.0);
            let minutes = waterings.into_iter().map(|(_, minutes)| minutes);
            let minutes: Vec<f64> = if parts > 1.0 { minutes.collect() } else { vec![minutes.sum()] };
            let mut lowest = 1.0_f64;
            for minutes in minutes {
                let net = zone.net_of(Minutes::from_min(minutes)).mm();
                let kept = net.min(depletion.mm());
                let after = Millimetres::from_mm(depletion.mm() - kept);
                let ks = zone.root_zone.stress_coefficient(after);
                let left = zone.root_zone.total_available.mm() - after.mm();
                let et = (ks * zone.demand.mm() / parts).min(left.max(0.0));
                depletion = Millimetres::from_mm(after.mm() + et);
                out.met_mm += et;
                out.applied_mm += net;
                out.drained_mm += net - kept;
                out.waterings += u32::from(net > 0.0);
                lowest = lowest.min(ks);
            }
            out.demand_mm += zone.demand.mm();
            out.days_below += u32::from(lowest < 1.0);
        }
        out
    }

    fn adequacy(&self) -> f64 {
        if self.demand_mm > 0.0 { self.met_mm / self.demand_mm } else { 1.0 }
    }

    /// What a watering loses in the mean.
    fn lost_each(&self) -> Millimetres {
        Millimetres::from_mm(self.drained_mm / f64::from(self.waterings.max(1)))
    }

    /// Starts of a watering in the mean: each rounds its run time to a step.
    fn starts_each(&self) -> f64 {
        (f64::from(self.starts) / f64::from(self.waterings.max(1))).max(1.0)
    }

    fn lost(&self) -> f64 {
        if self.applied_mm > 0.0 { self.drained_mm / self.applied_mm } else { 0.0 }
    }
}

/// What is missing on the evening before the first day: as if the last watering had filled the root zone, one of the
/// longest waits of these weeks before the first.
fn before(zone: &WiredZone, look: &CheckedRuns<'_>) -> Millimetres {
    let mut dates: Vec<Date> =
        look.runs.iter().filter(|r| r.station == zone.zone.number).map(|r| r.date).collect();
    dates.dedup();
    let waits = dates.windows(2).filter_map(|pair| Some((*pair.get(1)? - *pair.first()?).get_days()));
    let longest = waits.max().unwrap_or(i32::from(look.weeks) * 7);
    let first = dates.first().map_or(0, |first| (*first - look.from).get_days());
    (0..(longest - first).max(0)).fold(Millimetres::ZERO, |missing, _| {
        let left = zone.root_zone.total_available.mm() - missing.mm();
        let et = zone.root_zone.stress_coefficient(missing) * zone.demand.mm();
        Millimetres::from_mm(missing.mm() + et.min(left.max(0.0)))
    })
}

fn days(from: Date, to: Date) -> impl Iterator<Item = Date> {
    from.series(1.day()).take_while(move |date| *date <= to)
}

pub(super) fn find(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    if days(look.from, look.to()).any(|date| look.settings.rests(date)) {
        return;
    }
    for zone in &look.installation.zones {
        let station = zone.zone.number;
        if !zone.needs_water() || look.runs.iter().all(|r| r.station != station) {
            continue;
        }
        let course = Course::new(zone, look);
        let share = course.applied_mm / course.demand_mm.max(f64::MIN_POSITIVE);
        let place = FindingPlace::Station(station);
        // A zone whose amount is wrong has that finding; a rhythm is judged where the amount would do.
        // What the amount itself lacks, heads that water unevenly among it, no other rhythm brings.
        if course.adequacy() < DRY_BELOW * share.min(1.0) && share >= NEED_SHARES.0.fraction() {
            let kind = FindingKind::DriesBetween {
                days: course.days_below,
                of: u32::from(look.weeks) * 7,
                adequacy: Share::from_fraction(course.adequacy()),
            };
            findings.push(Finding::new(kind, Severity::Warning, place));
        }
        // What a step of the run time more or less makes, at each start, is no rhythm's fault.
        let step = zone.net_of(look.installation.card.run_step.minutes()) * course.starts_each();
        if course.lost() > LOST_ABOVE && course.lost_each() > step && share <= NEED_SHARES.1.fraction() {
            let weekly = course.drained_mm / f64::from(look.weeks);
            let kind = FindingKind::DrainsBetween {
                share: Share::from_fraction(course.lost()),
                a_week: Millimetres::from_mm(weekly),
            };
            let litres =
                zone.zone.area.map(|area| Millimetres::from_mm(weekly * zone.resolved.multiplier).over(area));
            let cost = super::Cost { litres_a_week: litres, ..super::Cost::default() };
            findings.push(Finding::new(kind, Severity::Warning, place).costing(cost));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{FindingKind, check};
    use crate::controller::schedule::{Days, Settings};
    use crate::installation::samples;
    use crate::quantity::time::Seconds;
    use crate::quantity::units::Millimetres;
    use jiff::civil::{Date, date, time};

    const FROM: Date = date(2026, 7, 13);

    /// Zone 1 gets a week's need at once, every so many days.
    fn every(interval: u8) -> Vec<FindingKind> {
        let mut there = samples::installation();
        // A shallow lawn: 15 cm of loam.
        there.zones[0].root_zone.total_available = Millimetres::from_mm(25.5);
        let mut settings = Settings::clean(&there.card);
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(1, 0, 0, 0)];
        settings.programs[0].days = Days::EveryNth { interval, first: FROM };
        let zone = &there.zones[0];
        let minutes = zone.minutes_for(zone.demand * f64::from(interval)).min_value();
        settings.set_run_time(0, 1, Seconds::from_s((minutes * 60.0).round() as i64));
        let found = check(&there, &settings, FROM).into_iter();
        found.filter(|f| f.place == super::FindingPlace::Station(1)).map(|f| f.kind).collect()
    }

    #[test]
    fn sentence_2_a_weeks_need_every_seventh_day_dries_a_shallow_lawn_and_drains() {
        let found = every(7);
        let dries = found.iter().any(|k| matches!(k, FindingKind::DriesBetween { days, .. } if *days >= 8));
        let drains =
            found.iter().any(|k| matches!(k, FindingKind::DrainsBetween { a_week, .. } if a_week.mm() > 3.0));
        assert!(dries && drains, "{found:?}");
        let suits = every(2);
        assert!(
            !suits
                .iter()
                .any(|k| matches!(k, FindingKind::DriesBetween { .. } | FindingKind::DrainsBetween { .. })),
            "{suits:?}"
        );
    }
}
