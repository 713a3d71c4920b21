//! A night as CSV: the door sheet for a spreadsheet.

use jiff::Zoned;
use upland_core::advice::tonight::{Decision, Tonight};

/// Writes a night, one row per zone. The last column names the inputs that are defaults.
#[must_use]
pub fn write(tonight: &Tonight) -> String {
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
            Decision::RunsShort { .. } => "runs short",
            Decision::Deferred => "deferred",
            Decision::Waits => "waits",
        };
        let net = row.depletion.mm() - row.depletion_after.mm();
        let _ = out.write_record([
            number.to_string(),
            spreadsheet_safe(&row.zone.name),
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
        ]);
    }
    String::from_utf8(out.into_inner().unwrap_or_default()).unwrap_or_default()
}

/// A name that a spreadsheet would run as a formula gets a leading apostrophe.
fn spreadsheet_safe(name: &str) -> String {
    if name.starts_with(['=', '+', '-', '@', '\t']) { format!("'{name}") } else { name.to_owned() }
}

#[cfg(test)]
mod tests {
    #[test]
    fn names_cannot_become_formulas() {
        assert_eq!(super::spreadsheet_safe("=1+1"), "'=1+1");
        assert_eq!(super::spreadsheet_safe("Upper lawn"), "Upper lawn");
    }
}
