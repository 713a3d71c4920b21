//! Runs as CSV: `start,end,program,start_number,station,cycle,seconds`, times in RFC 3339.

use crate::rows_csv::safe;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use upland_core::controller::schedule::{ScheduledRun, Settings};

/// Writes runs with the names of their programs, times with the offset in force.
#[must_use]
pub fn write(runs: &[ScheduledRun], settings: &Settings, tz: &TimeZone) -> String {
    let mut out = csv::Writer::from_writer(Vec::new());
    let at = |t: Timestamp| t.to_zoned(tz.clone()).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string();
    // Writing into memory cannot fail.
    let _ = out.write_record(["start", "end", "program", "start_number", "station", "cycle", "seconds"]);
    for run in runs {
        let name = settings.programs.get(run.program).map_or("", |p| p.name.as_str());
        let _ = out.write_record([
            at(run.start),
            at(run.end),
            safe(name),
            run.start_number.to_string(),
            run.station.to_string(),
            run.cycle.to_string(),
            run.length().s().to_string(),
        ]);
    }
    String::from_utf8(out.into_inner().unwrap_or_default()).unwrap_or_default()
}
