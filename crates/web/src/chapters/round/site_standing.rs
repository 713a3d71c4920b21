//! What a row of the list of sites shows: soil of its zones, its two nights, its rain, when somebody was there.

use crate::site::snapshot::SiteSnapshot;
use jiff::Timestamp;
use jiff::ToSpan;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::BTreeSet;
use upland_core::account::running::ControllerRun;
use upland_core::advice::tonight::night_runs;
use upland_core::quantity::span::TimeSpan;
use upland_core::quantity::units::Millimetres;
use upland_core::sensors::state::Says;
use upland_core::tuning::{Looks, expected_look};
use upland_store::rounds::{NightRun, SiteStanding, ZoneMark};
use upland_store::visits::VisitRecord;

/// Days of rain that a row knows.
pub(super) const RAIN_DAYS: i32 = 14;
/// Runs nearer to each other than so many minutes are one bar.
const ONE_BAR: i32 = 3;

/// How a site stands at the moment of its snapshot; `last` is its last visit.
pub(super) fn of_site(site: &SiteSnapshot, last: Option<&VisitRecord>) -> SiteStanding {
    let today = site.today();
    let mut zones: Vec<_> = site.records.zones.iter().map(|own| &own.zone).collect();
    zones.sort_by_key(|zone| zone.station_id());
    let account = site.account();
    let mark = |zone: &&upland_core::site::Zone| {
        let known = account.zone(zone.station_id())?;
        Some(match expected_look(known) {
            Looks::Dry => ZoneMark::Dry,
            Looks::Right => ZoneMark::Right,
            Looks::Wet => ZoneMark::Wet,
        })
    };
    let yesterday = today.yesterday().unwrap_or(today);
    let of_night = |date: Date, tonight: bool| {
        let runs = site.inputs.controllers.iter().flat_map(|own| night_runs(&site.inputs, own, date));
        bars(&runs.collect::<Vec<_>>(), date, tonight, &site.tz)
    };
    // What a controller that computes for itself will run is not set anywhere: what its zones need stands for it.
    let expected = site.inputs.controllers.iter().filter(|own| own.computes_itself()).flat_map(|own| {
        let night = site.night(own.number).night;
        let at = |minute: u32| night.at(minute).map(|at| at.timestamp());
        let run = |run: &upland_core::controller::night::Run| {
            Some(TimeSpan::new(at(run.from_minute)?, at(run.from_minute + run.minutes)?))
        };
        let all: Vec<_> = night.layout.runs.iter().filter_map(run).collect();
        all
    });
    let expected: Vec<NightRun> = spans(expected, today, &site.tz);
    let rain = |back: i32| {
        let day = today.checked_sub(back.days()).ok().and_then(|day| site.climate.day(day));
        day.and_then(|day| day.weather.rain).unwrap_or(Millimetres::from_mm(f64::NAN))
    };
    let silent =
        site.records.sensors.iter().filter(|own| matches!(site.says(own), Says::Silent { last: Some(_) }));
    SiteStanding {
        zones: zones.iter().filter_map(mark).collect(),
        runs: of_night(yesterday, false).into_iter().chain(of_night(today, true)).chain(expected).collect(),
        rain: (0..RAIN_DAYS).rev().map(rain).collect(),
        day: Some(today),
        last_visit: last.map(|visit| visit.on),
        look_again: last.and_then(|visit| visit.look_again),
        silent: i32::try_from(silent.count()).unwrap_or(i32::MAX),
        record_ended: site.moment.record_ended,
        controller_types: names(site.records.controllers.iter().map(|own| &own.record.controller.card.name)),
        ordinances: names(site.records.law().applied.iter().map(|own| &own.ordinance.name)),
    }
}

/// Names in order, each once.
fn names<'a>(all: impl Iterator<Item = &'a String>) -> Vec<String> {
    all.collect::<BTreeSet<_>>().into_iter().cloned().collect()
}

/// Runs that are expected tonight, as bars.
fn spans(runs: impl Iterator<Item = TimeSpan>, date: Date, tz: &TimeZone) -> Vec<NightRun> {
    let bar = |run: TimeSpan| {
        let from = minutes_after_noon(date, tz, run.from)?;
        let until = minutes_after_noon(date, tz, run.until)?;
        Some(NightRun { tonight: true, from, until, held: false })
    };
    joined(runs.filter_map(bar).collect())
}

/// Minutes of an instant after noon of a date; `None` where its clock has no noon.
fn minutes_after_noon(date: Date, tz: &TimeZone, at: Timestamp) -> Option<i32> {
    let noon = date.at(12, 0, 0, 0).to_zoned(tz.clone()).ok()?;
    i32::try_from(at.duration_since(noon.timestamp()).as_secs() / 60).ok()
}

/// The runs of a night as bars.
fn bars(runs: &[ControllerRun], date: Date, tonight: bool, tz: &TimeZone) -> Vec<NightRun> {
    let bar = |run: &ControllerRun| {
        let held = run.is_held();
        let until = if held { run.run.end } else { run.until };
        let from = minutes_after_noon(date, tz, run.run.start)?;
        Some(NightRun { tonight, from, until: minutes_after_noon(date, tz, until)?, held })
    };
    joined(runs.iter().filter_map(bar).collect())
}

/// Bars that follow each other become one.
fn joined(mut all: Vec<NightRun>) -> Vec<NightRun> {
    all.sort_by_key(|bar| (bar.held, bar.from));
    let mut joined: Vec<NightRun> = Vec::new();
    for next in all {
        match joined.last_mut() {
            Some(last) if last.held == next.held && next.from - last.until < ONE_BAR => {
                last.until = last.until.max(next.until);
            }
            _ => joined.push(next),
        }
    }
    joined
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::advice::tonight::Verdict;
    use upland_core::site::UnitSystem;

    #[test]
    fn a_row_shows_the_runs_of_today_and_a_mark_for_each_zone() {
        let site = fixture::at_work(&fixture::decided(UnitSystem::Metric), true);
        let standing = of_site(&site, None);
        assert_eq!(standing.zones.len(), site.records.zones.len());
        assert_eq!(standing.rain.len(), 14);
        let night = site.night(1);
        let tonight: Vec<_> = standing.runs.iter().filter(|run| run.tonight && !run.held).collect();
        let watered = night.runs.iter().any(|run| !run.is_held());
        assert_eq!(
            !tonight.is_empty(),
            watered,
            "as Today says: {:?}",
            night.zones.iter().map(|z| z.verdict == Some(Verdict::Right)).collect::<Vec<_>>()
        );
        assert!(standing.runs.iter().all(|run| run.from < run.until && (0..=36 * 60).contains(&run.from)));
        assert_eq!((standing.last_visit, standing.silent), (None, 0));
    }
}
