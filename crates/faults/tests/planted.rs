//! The diagnosis against planted causes.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use std::collections::BTreeMap;
use upland_core::tuning::{Cause, account_at, diagnose};
use upland_faults::{CAUSES, planted};

/// Cases of each cause: 34 × 12 = 408.
const EACH: u64 = 12;

/// The first seed; other seeds by hand, to see that the weights were not fitted to these.
fn base() -> u64 {
    std::env::var("UPLAND_FIRST_SEED").ok().and_then(|s| s.parse().ok()).unwrap_or(0)
}

#[test]
fn the_planted_cause_is_first_in_nineteen_of_twenty_cases_and_among_three_in_nearly_all() {
    let (mut first, mut three, mut all) = (0, 0, 0);
    let mut missed: BTreeMap<Cause, Vec<String>> = BTreeMap::new();
    for cause in CAUSES {
        for seed in base()..base() + EACH {
            let case = planted(cause, seed);
            let found = diagnose(&case.known, &account_at(&case.known, &case.visit), &case.visit);
            let place = found.causes.iter().position(|s| {
                s.cause == cause
                    && (case.station.is_none() || s.station.is_none() || s.station == case.station)
            });
            all += 1;
            first += usize::from(place == Some(0));
            three += usize::from(place.is_some_and(|p| p < 3));
            if place != Some(0) {
                let top: Vec<_> = found
                    .causes
                    .iter()
                    .take(3)
                    .map(|s| (s.cause, s.station, (s.share.percent()).round()))
                    .collect();
                missed
                    .entry(cause)
                    .or_default()
                    .push(format!("seed {seed} at {:?}: place {place:?}, top {top:?}", case.station));
            }
        }
    }
    let told: Vec<String> =
        missed.iter().map(|(c, m)| format!("{c:?} ({}):\n  {}", m.len(), m.join("\n  "))).collect();
    let report = format!("{first} first, {three} among three, of {all}\n{}", told.join("\n"));
    if std::env::var_os("UPLAND_REPORT").is_some() {
        eprintln!("{report}");
    }
    assert!(first * 100 >= all * 95 && three * 100 >= all * 99, "{report}");
}

#[test]
fn where_nothing_is_planted_no_lever_is_proposed() {
    let cases = 200;
    let mut proposed = Vec::new();
    for seed in base()..base() + cases {
        let case = planted(Cause::NothingWrong, seed);
        let found = diagnose(&case.known, &account_at(&case.known, &case.visit), &case.visit);
        if !found.chosen.is_empty() {
            let top: Vec<_> =
                found.chosen.iter().map(|at| (found.causes[*at].cause, found.causes[*at].station)).collect();
            proposed.push(format!("seed {seed}: {top:?}"));
        }
    }
    if std::env::var_os("UPLAND_REPORT").is_some() {
        eprintln!("{} of {cases}: {proposed:#?}", proposed.len());
    }
    assert!(
        proposed.len() * 20 <= usize::try_from(cases).unwrap(),
        "{} of {cases}: {proposed:#?}",
        proposed.len()
    );
}
