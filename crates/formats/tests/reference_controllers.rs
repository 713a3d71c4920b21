//! Whole controllers against an independent second-by-second simulation in another language
//! (`tools/reference/controllers.py`, Python's standard library): queueing and side by side, cycles and
//! soaks, pauses, percentages and rounding, loops, day patterns, never-days, omit times.
#![allow(clippy::unwrap_used, clippy::panic)]

use jiff::civil::date;
use std::path::Path;
use upland_core::controller::schedule::expand;
use upland_formats::{runs_csv, settings_file};

#[test]
fn every_run_agrees_with_the_simulation() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data");
    let mut compared = 0;
    for seed in 1..=12 {
        let text =
            |ending| std::fs::read_to_string(folder.join(format!("controller-{seed:02}.{ending}"))).unwrap();
        let file = settings_file::read(text("json").as_bytes())
            .unwrap_or_else(|p| panic!("controller {seed}: {p:?}"));
        let runs = expand(&file.settings, &file.card, &file.tz, date(2026, 7, 28), date(2026, 8, 3));
        let (got, expected) = (runs_csv::write(&runs, &file.settings, &file.tz), text("csv"));
        for (line, (got, expected)) in (1..).zip(got.lines().zip(expected.lines())) {
            assert_eq!(got, expected, "controller {seed}, line {line}");
        }
        assert_eq!(got.lines().count(), expected.lines().count(), "controller {seed}");
        compared += runs.len();
    }
    assert!(compared > 500, "{compared}");
}
