//! What differs between two settings of a controller, as a list that is programmed.

use crate::page::dates::date_writer;
use crate::site::records::{SiteController, SiteRecords};
use upland_core::controller::schedule::{Change, Settings, Where, difference_by};
use upland_core::site::StationId;

/// A change as a line of a list.
pub(crate) struct ChangeLine {
    pub place: String,
    pub what: String,
    pub before: String,
    pub after: String,
}

/// Changes with the names of programs and zones.
pub(crate) fn change_lines(
    changes: Vec<Change>,
    program: &dyn Fn(usize) -> String,
    station: &dyn Fn(u16) -> String,
) -> Vec<ChangeLine> {
    let line = |change: Change| {
        let own = change.what.strip_prefix("station ").and_then(|n| n.parse::<u16>().ok());
        ChangeLine {
            place: match change.place {
                Where::Controller => "Controller".into(),
                Where::Program(i) => format!("Program {}", program(i)),
                Where::Station(n) => station(n),
            },
            what: own.map_or(change.what, station),
            before: change.before,
            after: change.after,
        }
    };
    changes.into_iter().map(line).collect()
}

/// What there is to program on a controller of a site to have it set otherwise.
pub(crate) fn changes_on(facts: &SiteRecords, own: &SiteController, settings: &Settings) -> Vec<ChangeLine> {
    let number = own.number();
    let program = |at: usize| settings.programs.get(at).map_or(String::new(), |p| p.name.clone());
    let station = |n: u16| {
        let zone = facts.zone_on(StationId::new(number, n));
        zone.map_or_else(|| format!("station {n}"), |z| format!("{n} {}", z.zone.name))
    };
    change_lines(difference_by(&own.settings_or_clean(), settings, date_writer()), &program, &station)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::quantity::time::Seconds;

    #[test]
    fn changes_name_programs_and_zones_and_say_before_and_after() {
        let snapshot = fixture::controller_snapshot();
        let own = &snapshot.records.controllers[0];
        let mut settings = own.settings_or_clean();
        assert!(changes_on(&snapshot.records, own, &settings).is_empty(), "nothing to key in");
        settings.set_run_time(0, 1, Seconds::from_min(17));
        settings.set_run_time(0, 12, Seconds::from_min(3));
        let lines = changes_on(&snapshot.records, own, &settings);
        assert_eq!(lines.len(), 2);
        let zone = &snapshot.records.zones[0].zone;
        assert_eq!(lines[0].place, format!("Program {}", settings.programs[0].name));
        assert_eq!(lines[0].what, format!("1 {}", zone.name));
        assert!(lines[0].after.contains("17"), "{}", lines[0].after);
        assert_eq!(lines[1].what, "station 12", "a station without a zone");
    }
}
