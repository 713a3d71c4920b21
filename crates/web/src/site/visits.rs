//! What was entered at the visits of a site, brought together.

use jiff::Timestamp;
use jiff::civil::Date;
use upland_core::account::site_account::AccountInputs;
use upland_core::tuning::{Clash, Said, Visit, controllers_together, sensors_together, zones_together};
use upland_formats::visit_file::Entry;
use upland_store::visits::EntryRecord;

/// A visit brought together from its entries.
pub(crate) struct Together {
    pub visit: Visit,
    /// Where two people saw a zone differently.
    pub clashes: Vec<Clash>,
    /// Entries that say nothing of the site as it is, such as of a zone that was removed: when and why.
    pub stray: Vec<(Timestamp, String)>,
    /// Entries of a clock that was off, with the seconds.
    pub clocks: Vec<(String, i64)>,
}

/// Brings the entries of a visit together; those taken back do not count.
pub(crate) fn together(entries: &[&EntryRecord], facts: &AccountInputs) -> Together {
    let (mut zones, mut controllers, mut sensors) = (Vec::new(), Vec::new(), Vec::new());
    let mut visit = Visit::default();
    let (mut stray, mut clocks) = (Vec::new(), Vec::new());
    let standing = || entries.iter().filter(|e| !e.undone);
    for entry in standing() {
        let (at, person) = (entry.at, entry.person);
        visit.at = visit.at.max(at);
        if entry.clock_off_s != 0 {
            clocks.push((entry.said_by.clone(), entry.clock_off_s));
        }
        match Entry::from_json(&entry.kind, entry.body.clone(), facts) {
            Ok(Entry::Zone(what)) => zones.push(Said { at, person, what }),
            Ok(Entry::Controller(what)) => controllers.push(Said { at, person, what }),
            Ok(Entry::Sensor(what)) => sensors.push(Said { at, person, what }),
            Ok(Entry::Site { meter, wet_elsewhere, note }) => {
                visit.meter = meter.or(visit.meter);
                visit.wet_elsewhere |= wet_elsewhere;
                if !note.is_empty() {
                    visit.note = note;
                }
            }
            Err(problems) => {
                let why = problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ");
                stray.push((at, why));
            }
        }
    }
    clocks.dedup();
    let (zones, clashes) = zones_together(zones);
    visit.zones = zones;
    visit.controllers = controllers_together(controllers);
    visit.sensors = sensors_together(sensors);
    Together { visit, clashes, stray, clocks }
}

/// The instant at which a visit is judged: its last entry, else noon of its day on the clock of the site.
pub(crate) fn judged_at(visit: &Visit, on: Date, facts: &AccountInputs) -> Timestamp {
    if visit.at > Timestamp::UNIX_EPOCH { visit.at } else { upland_core::quantity::time::noon(on, &facts.tz) }
}
