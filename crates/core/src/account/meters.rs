//! What meters say of the runs of a site: the main meter between its readings, a flow meter during each run.

use super::inputs::AccountInputs;
use super::running::ControllerRun;
use crate::site::StationId;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

/// What the main meter counted between its readings, over what the runs as set would have taken. A span with a
/// zone of unknown area says nothing, nor does one in which nothing was to run.
pub(super) fn metered(
    facts: &AccountInputs,
    runs: &BTreeMap<u8, Vec<ControllerRun>>,
) -> Vec<(Timestamp, Timestamp, f64)> {
    let litres = |controller_number: u8, run: &ControllerRun| {
        let (zone, resolved) =
            facts.zone_on(StationId::new(controller_number, run.run.station), run.run.date)?;
        let flow = resolved.rate.value.flow_over(zone.area?);
        Some(flow.for_time(run.waters().minutes()).l())
    };
    let spans = facts.log.meter.iter().zip(facts.log.meter.iter().skip(1));
    spans
        .filter_map(|(before, after)| {
            let (from, until) = (before.at, after.at);
            let mut expected = 0.0;
            for (number, own) in runs {
                let first = own.partition_point(|r| r.run.start < from);
                let within = own.get(first..).unwrap_or_default().iter().take_while(|r| r.run.start < until);
                for run in within.filter(|r| !r.is_held()) {
                    expected += litres(*number, run)?;
                }
            }
            let counted = after.counted.l() - before.counted.l();
            (expected > 0.0 && counted >= 0.0).then(|| (from, until, counted / expected))
        })
        .collect()
}

/// Longest time between two readings of a flow meter in which a run counts as heard of (our stated default).
const HEARD_WITHIN: SignedDuration = SignedDuration::from_mins(15);

/// What flow meters read during the runs of their controllers, over what these take by rate and area. A run with longer
/// gaps between readings, or beside a zone of unknown area, is not told of.
pub(super) fn told(
    facts: &AccountInputs,
    runs: &BTreeMap<u8, Vec<ControllerRun>>,
) -> BTreeMap<(u8, u16, Timestamp), f64> {
    let mut out = BTreeMap::new();
    for (number, readings) in &facts.log.flow {
        let own = runs.get(number).map_or(&[][..], Vec::as_slice);
        let takes = |run: &ControllerRun| {
            let (zone, resolved) = facts.zone_on(StationId::new(*number, run.run.station), run.run.date)?;
            Some(resolved.rate.value.flow_over(zone.area?).l_per_min())
        };
        for (at, run) in own.iter().enumerate().filter(|(_, run)| !run.is_held()) {
            let (from, until) = (run.run.start, run.until);
            let inside = readings.between(from, until).iter().filter(|r| from < r.at && r.at < until);
            let heard: Vec<Timestamp> =
                core::iter::once(from).chain(inside.clone().map(|r| r.at)).chain([until]).collect();
            let gaps = heard.windows(2).filter_map(|w| Some(w.get(1)?.duration_since(*w.first()?)));
            if heard.len() < 3 || gaps.max().is_some_and(|gap| gap > HEARD_WITHIN) {
                continue;
            }
            // Runs are in order of time: those that may overlap stand near.
            let near = own.get(at.saturating_sub(NEAR_RUNS)..).unwrap_or_default().iter().take(2 * NEAR_RUNS);
            let near: Vec<&ControllerRun> = near.filter(|r| !r.is_held()).collect();
            let expected = |t: Timestamp| {
                let open = near.iter().filter(|r| r.run.start <= t && t < r.until);
                open.map(|r| takes(r)).sum::<Option<f64>>()
            };
            let mut sums = inside.map(|r| Some((r.value, expected(r.at)?)));
            let sums = sums.try_fold((0.0, 0.0), |(a, b), next| next.map(|(x, y)| (a + x, b + y)));
            if let Some((read, takes)) = sums.filter(|(_, takes)| *takes > 0.0) {
                out.insert((*number, run.run.station, from), read / takes);
            }
        }
    }
    out
}

/// Runs before and after one that are looked at for overlaps.
const NEAR_RUNS: usize = 16;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::evidence::Evidence;
    use crate::account::log::MeterReading;
    use crate::account::running::ControllerFacts;
    use crate::account::site_account::{EvidencePolicy, SiteAccount, of_site};
    use crate::controller::schedule::Settings;
    use crate::controller::twelve_stations;
    use crate::installation::samples::{site, zones};
    use crate::quantity::time::Seconds;
    use crate::quantity::units::Litres;
    use crate::sensors::{Reading, Readings};
    use crate::weather::climate::Climate;
    use jiff::civil::{Date, date, time};
    use jiff::tz::TimeZone;

    const FIRST: Date = date(2026, 7, 1);

    fn at(text: &str) -> Timestamp {
        format!("2026-07-{text}:00Z").parse().unwrap()
    }

    /// Station 1 for 40 minutes at two every night: 100 m² at 31.75 mm/h take 52.9 L/min.
    fn facts() -> AccountInputs {
        let climate = Climate::from_record(&[], site().station());
        let mut facts = AccountInputs::surveyed(&site(), &TimeZone::UTC, &zones(), climate);
        let mut settings = Settings::clean(&twelve_stations());
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(2, 0, 0, 0)];
        settings.set_run_time(0, 1, Seconds::from_min(40));
        facts.controllers = vec![ControllerFacts {
            number: 1,
            card: twelve_stations(),
            versions: vec![(Timestamp::MIN, settings)],
            sensors: Vec::new(),
        }];
        facts
    }

    fn of(facts: &AccountInputs) -> SiteAccount {
        of_site(facts, EvidencePolicy::Best, FIRST, at("05T00:00"), |_, _| ())
    }

    fn applied(account: &SiteAccount) -> Vec<(f64, Evidence)> {
        account.zones[0].days.iter().map(|d| (d.water.applied.mm(), d.evidence)).collect()
    }

    #[test]
    fn a_flow_meter_tells_what_a_run_brought_and_which_one_never_came() {
        let mut facts = facts();
        let mm = 31.75 * 40.0 / 60.0;
        assert!(applied(&of(&facts)).iter().all(|(a, e)| (a - mm).abs() < 1e-9 && *e == Evidence::AsSet));
        let flow = 31.75 * 100.0 / 60.0;
        // On the 1st as expected, on the 2nd half of it, on the 3rd nothing; on the 4th nobody listened.
        let read = [("01", flow), ("02", flow / 2.0), ("03", 0.0)];
        let readings = read.iter().flat_map(|(day, flow)| {
            ["01:50", "02:10", "02:20", "02:30", "02:50"].map(|clock| {
                let during = clock.starts_with("02") && clock != "02:50";
                Reading { at: at(&format!("{day}T{clock}")), value: if during { *flow } else { 0.0 } }
            })
        });
        facts.log.flow.insert(1, Readings::new(readings.collect()));
        let got = applied(&of(&facts));
        let want = [
            (mm, Evidence::Device),
            (mm / 2.0, Evidence::Device),
            (0.0, Evidence::Device),
            (mm, Evidence::AsSet),
        ];
        for (got, want) in got.iter().zip(want) {
            assert!((got.0 - want.0).abs() < 1e-9 && got.1 == want.1, "{got:?} {want:?}");
        }
        // The main meter, read by hand on two mornings, is better evidence for the night between.
        let counted = |l: f64| Litres::from_l(l);
        facts.log.meter = vec![
            MeterReading { at: at("02T00:00"), counted: counted(1000.0) },
            MeterReading { at: at("03T00:00"), counted: counted(1000.0 + flow * 40.0) },
        ];
        let got = applied(&of(&facts));
        assert!((got[1].0 - mm).abs() < 1e-9 && got[1].1 == Evidence::Metered, "{got:?}");
    }

    #[test]
    fn a_meter_that_pauses_or_an_unknown_area_tells_nothing() {
        let flow = 31.75 * 100.0 / 60.0;
        let with = |clocks: &[&str], facts: &mut AccountInputs| {
            let all =
                clocks.iter().map(|clock| Reading { at: at(&format!("01T{clock}")), value: flow / 2.0 });
            facts.log.flow.insert(1, Readings::new(all.collect()));
            of(facts).zones[0].days[0].evidence
        };
        let mut facts = facts();
        assert_eq!(with(&["02:10", "02:25", "02:35"], &mut facts), Evidence::Device);
        assert_eq!(with(&["02:10", "02:35"], &mut facts), Evidence::AsSet, "25 minutes without a word");
        assert_eq!(with(&[], &mut facts), Evidence::AsSet);
        facts.zones[0].zone.area = None;
        assert_eq!(with(&["02:10", "02:25", "02:35"], &mut facts), Evidence::AsSet);
    }

    #[test]
    fn two_stations_at_once_share_what_was_read() {
        let mut facts = facts();
        let card =
            crate::controller::Card { overlap: crate::controller::Overlap::Concurrent, ..twelve_stations() };
        facts.controllers[0].card = card;
        let settings = &mut facts.controllers[0].versions[0].1;
        settings.programs[1].active = true;
        settings.programs[1].starts = vec![time(2, 0, 0, 0)];
        settings.set_run_time(1, 2, Seconds::from_min(40));
        let both = 2.0 * 31.75 * 100.0 / 60.0;
        let all =
            ["02:10", "02:20", "02:30"].map(|c| Reading { at: at(&format!("01T{c}")), value: both * 0.8 });
        facts.log.flow.insert(1, Readings::new(all.to_vec()));
        let account = of(&facts);
        for zone in &account.zones[..2] {
            assert!((zone.days[0].water.applied.mm() - 0.8 * 31.75 * 40.0 / 60.0).abs() < 1e-9);
        }
    }
}
