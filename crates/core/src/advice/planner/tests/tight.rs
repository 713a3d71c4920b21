//! The planner against an exhaustive search over small sites in tight windows.

use super::*;
use crate::controller::{Card, Overlap};
use crate::quantity::time::Hours;
use crate::quantity::units::{LitresPerMinute, MillimetresPerHour, Minutes};
use proptest::strategy::Strategy as _;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;

/// Intervals that the search tries, days.
const INTERVALS: u32 = 4;
/// Nights after which every interval begins anew.
const NIGHTS: u32 = 12;

/// A site of spray zones on flat sand, where no soil asks for cycles, in a window of so many minutes.
fn tight(rates: &[f64], window: u32) -> Installation {
    let mut there = installation();
    let model = there.zones[0].clone();
    there.zones = (1..)
        .zip(rates)
        .map(|(number, rate)| {
            let mut zone = model.clone();
            zone.zone.number = number;
            zone.zone.soil = crate::ground::soil::Texture::Sand;
            zone.zone.slope_pct = Some(0.0);
            zone.zone.precipitation_rate = Some(MillimetresPerHour::from_mm_per_hour(*rate));
            zone.resolved = zone.zone.resolve(46.0);
            zone.root_zone = zone.resolved.root_zone;
            zone.flow = Some(LitresPerMinute::from_l_per_min(20.0));
            zone
        })
        .collect();
    let until = time(1, 0, 0, 0).saturating_add(jiff::Span::new().minutes(i64::from(window)));
    there.windows = crate::site::windows::WaterWindows::only(Hours { from: time(1, 0, 0, 0), until });
    there
}

/// Whole minutes of a zone at an interval.
fn minutes(there: &Installation, zone: usize, interval: u32) -> u32 {
    let zone = &there.zones[zone];
    (zone.minutes_for(zone.demand * f64::from(interval)).min_value().round() as u32).max(1)
}

/// The least minutes a week of any way of giving each zone an interval and a first night that fits the window with at most
/// three programs, one after the other; `None` where none does. Every way is tried.
fn least(there: &Installation, window: u32) -> Option<f64> {
    let ways: Vec<(u32, u32)> = (1..=INTERVALS).flat_map(|n| (0..n).map(move |phase| (n, phase))).collect();
    let zones = there.zones.len();
    let mut best: Option<f64> = None;
    for mut code in 0..ways.len().pow(zones as u32) {
        let chosen: Vec<(u32, u32)> = (0..zones)
            .map(|_| {
                let way = ways[code % ways.len()];
                code /= ways.len();
                way
            })
            .collect();
        let mut programs = chosen.clone();
        programs.sort_unstable();
        programs.dedup();
        if programs.len() > 3 {
            continue;
        }
        let of_night = |night: u32| -> u32 {
            (0..zones)
                .filter(|z| night % chosen[*z].0 == chosen[*z].1)
                .map(|z| minutes(there, z, chosen[z].0))
                .sum()
        };
        if (0..NIGHTS).all(|night| of_night(night) <= window) {
            let weekly: f64 = (0..zones)
                .map(|z| 7.0 * f64::from(minutes(there, z, chosen[z].0)) / f64::from(chosen[z].0))
                .sum();
            best = Some(best.map_or(weekly, |b: f64| b.min(weekly)));
        }
    }
    best
}

#[test]
fn sentence_5_the_planner_refuses_none_of_300_tight_sites_that_fit() {
    let mut runner = TestRunner::deterministic();
    let draw = (proptest::collection::vec(8.0..40.0_f64, 2..=4), 0.9..1.25_f64);
    let (mut fit, mut refused, mut excess) = (0, 0, Vec::new());
    for case in 0..300 {
        let (rates, tightness) = draw.new_tree(&mut runner).unwrap().current();
        let daily: u32 = {
            let there = tight(&rates, 60);
            (0..rates.len()).map(|z| minutes(&there, z, 1)).sum()
        };
        let window = ((f64::from(daily) * tightness).round() as u32).clamp(5, 600);
        let there = tight(&rates, window);
        let possible = least(&there, window);
        for strategy in [Strategy::JustNeed, Strategy::SoilBalance] {
            match (planned(&there, strategy), possible) {
                (Ok(proposal), Some(least)) => {
                    fit += 1;
                    let runs = expand(&proposal.settings, &there.card, &there.tz, FROM, date(2026, 10, 4));
                    let weekly = runs.iter().map(|r| r.length().minutes().min_value()).sum::<f64>() / 12.0;
                    // Whole minutes round both ways; more than the least by the rounding of each zone's run.
                    let need: f64 =
                        there.zones.iter().map(|z| z.minutes_for(z.demand * 7.0).min_value()).sum();
                    excess.push(weekly / least.max(need));
                    assert!(
                        weekly <= 1.06 * least.max(need),
                        "case {case} {strategy:?}: {weekly} against {least} and {need}"
                    );
                }
                (Ok(_), None) => fit += 1,
                (Err(Binding::Window { needed_minutes, have_minutes, .. }), possible) => {
                    refused += 1;
                    assert!(
                        possible.is_none(),
                        "case {case} {strategy:?}: window {window}, rates {rates:?}: {needed_minutes} of {have_minutes}"
                    );
                    assert!(needed_minutes > have_minutes);
                }
                (other, _) => panic!("{other:?}"),
            }
        }
    }
    let mean = excess.iter().sum::<f64>() / excess.len() as f64;
    assert!(mean <= 1.03, "{mean} times the least water in the mean");
    assert!(fit > 200 && refused > 50, "{fit} fit, {refused} refused");
}

#[test]
fn sentence_5_a_window_that_holds_a_days_need_is_enough() {
    // Two zones whose week at once is too long for a night, and whose day fits.
    let there = tight(&[9.0, 10.0], 127);
    let daily: u32 = (0..2).map(|z| minutes(&there, z, 1)).sum();
    assert!(daily <= 127, "{daily}");
    for strategy in [Strategy::JustNeed, Strategy::SoilBalance, Strategy::EveryDay] {
        assert!(planned(&there, strategy).is_ok(), "{strategy:?}: {:?}", planned(&there, strategy).err());
    }
}

fn eight_lawns(supply: f64) -> Installation {
    let mut there = tight(&[20.0; 8], 40);
    there.card = Card { programs: 8, overlap: Overlap::Concurrent, ..twelve_stations() };
    there.supply = Some(LitresPerMinute::from_l_per_min(supply));
    for zone in &mut there.zones {
        zone.flow = Some(LitresPerMinute::from_l_per_min(100.0));
    }
    there
}

#[test]
fn sentence_5_alike_zones_are_split_over_programs_that_run_side_by_side() {
    let there = eight_lawns(1000.0);
    let one = there.zones[0].minutes_for(there.zones[0].demand).min_value();
    assert!(8.0 * one > 40.0, "one after the other they do not fit: {one} min each");
    let proposal = planned(&there, Strategy::JustNeed).unwrap();
    let runs = expand(&proposal.settings, &there.card, &there.tz, FROM, date(2026, 8, 9));
    assert!(runs.iter().all(|r| r.end.to_zoned(there.tz.clone()).time() <= time(1, 40, 0, 0)));
    let found = crate::installation::given(&there, &proposal.settings, &runs, 4);
    for own in &found {
        assert!(own.minutes_a_week >= 0.9 * own.minutes_needed, "{own:?}");
    }
    // A supply for one at a time proves the refusal.
    let there = eight_lawns(150.0);
    let refused = planned(&there, Strategy::JustNeed);
    assert!(matches!(refused, Err(Binding::Window { proved: true, .. })), "{refused:?}");
}

#[test]
fn sentence_5_no_run_is_shorter_than_the_least_run_where_a_rarer_one_is_borne() {
    let mut there = tight(&[40.0, 40.0], 300);
    for zone in &mut there.zones {
        zone.demand = crate::quantity::units::Millimetres::from_mm(0.2);
    }
    let proposal = planned(&there, Strategy::EveryDay).unwrap();
    let least = proposal
        .zones
        .iter()
        .map(|z| z.run_time)
        .fold(Minutes::from_min(1e9), |a, b| if b.min_value() < a.min_value() { b } else { a });
    assert!(least.min_value() >= 2.0, "{least:?}");
}
