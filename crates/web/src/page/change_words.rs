//! What differs between two settings of a box, as a list that is keyed in.

use upland_core::controller::schedule::{Change, Where};

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
                Where::Box => "Box".into(),
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
