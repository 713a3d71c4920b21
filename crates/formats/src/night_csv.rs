//! A night as CSV: the controller sheet for a spreadsheet.

use crate::account_csv::holder;
use crate::rows_csv::safe;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use upland_core::advice::tonight::{Decision, Tonight, Verdict, Will};
use upland_core::quantity::time::Seconds;

/// Writes a night, one row per zone: what it needs, the inputs that are defaults, then what the controller will do, with
/// the names of its sensors in their order. The columns of the controller are empty where its runs are not known.
// Long: one column after another.
#[must_use]
pub fn write(tonight: &Tonight, sensors: &[String], tz: &TimeZone) -> String {
    let mut out = csv::Writer::from_writer(Vec::new());
    let header = [
        "number",
        "zone",
        "decision",
        "depletion_mm",
        "net_mm",
        "minutes",
        "cycles",
        "minutes_per_cycle",
        "soak_min",
        "program",
        "cycle_starts",
        "last_end",
        "full_refill_min",
        "interval_days",
        "defaults",
        "box_minutes",
        "box_starts",
        "box_held_by",
        "verdict",
    ];
    // Writing into memory cannot fail.
    let _ = out.write_record(header);
    for row in &tonight.zones {
        let number = row.zone.number;
        let own: Vec<_> = tonight.night.layout.runs.iter().filter(|r| r.number == number).collect();
        let clock = |at: Option<Zoned>| at.map_or(String::new(), |t| t.strftime("%H:%M").to_string());
        let starts: Vec<String> = own.iter().map(|r| clock(tonight.night.at(r.from_minute))).collect();
        let program = own
            .first()
            .and_then(|r| tonight.night.layout.programs.get(r.program))
            .map_or(String::new(), |p| p.letter.to_string());
        let (minutes, count, each, soak) =
            row.cycles.map_or((0, 0, 0, 0), |c| (c.total_minutes(), c.count, c.minutes_each, c.soak_minutes));
        let decision = match row.decision {
            Decision::Runs => "runs",
            Decision::RunsShort { .. } | Decision::RunsLawful { .. } => "runs short",
            Decision::Deferred => "deferred",
            Decision::Barred(_) => "barred",
            Decision::Waits => "waits",
        };
        let net = row.depletion.mm() - row.depletion_after.mm();
        let _ = out.write_record([
            number.to_string(),
            safe(&row.zone.name),
            decision.to_owned(),
            format!("{:.1}", row.depletion.mm()),
            format!("{net:.1}"),
            minutes.to_string(),
            count.to_string(),
            each.to_string(),
            soak.to_string(),
            program,
            starts.join(" "),
            clock(own.last().and_then(|r| tonight.night.at(r.from_minute + r.minutes))),
            row.refill_from_refill_point.cycles.total_minutes().to_string(),
            if row.interval_days.is_finite() { format!("{:.1}", row.interval_days) } else { String::new() },
            row.resolved.defaults().join(" + "),
            row.will.as_ref().map_or(String::new(), |w| minutes_of(w.waters())),
            row.will.as_ref().map_or(String::new(), |w| controller_starts(w, tz)),
            row.will.as_ref().map_or(String::new(), |w| {
                let holders: Vec<String> = w.held_by().iter().map(|h| holder(h, sensors, tz)).collect();
                safe(&holders.join("; "))
            }),
            row.verdict.map_or("", Verdict::label).to_owned(),
        ]);
    }
    String::from_utf8(out.into_inner().unwrap_or_default()).unwrap_or_default()
}

/// Minutes with their fraction, where there is one.
fn minutes_of(length: Seconds) -> String {
    let text = format!("{:.2}", length.minutes().min_value());
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

/// Wall-clock starts of the runs that water.
fn controller_starts(will: &Will, tz: &TimeZone) -> String {
    let clock = |at: Timestamp| at.to_zoned(tz.clone()).strftime("%H:%M").to_string();
    will.starts().map(clock).collect::<Vec<_>>().join(" ")
}
