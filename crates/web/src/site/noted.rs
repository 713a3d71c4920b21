//! What is dated about a site: versions of settings, what was noted at its zones and visits, and what was ticked.

use crate::server::cache::{About, Key, questions};
use crate::server::state::AppState;
use crate::site::clock::evening;
use crate::site::records::SiteRecords;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::account::evidence::FieldReading;
use upland_core::account::log::{Log, LoggedReading, LoggedRun, MeterReading};
use upland_core::controller::windows::main_window;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::{Litres, Minutes};
use upland_core::site::StationId;
use upland_store::StoreError;
use upland_store::field::{EventKind, ZoneEvent};
use upland_store::settings::SettingsRecord;
use upland_store::ticks::{TickRecord, What};
use upland_store::visits::EntryRecord;

/// What is dated about a site's controllers and zones: versions of settings by controller, and what was noted at zones.
#[derive(Default)]
pub(crate) struct Dated {
    pub versions: BTreeMap<i64, Vec<SettingsRecord>>,
    pub noted: Vec<ZoneEvent>,
    pub entries: Vec<EntryRecord>,
    pub ticks: Vec<TickRecord>,
}

questions! {
    facts AllDated {} -> Dated;
}

/// Reads them; asked once for a revision of the site.
pub(crate) fn dated(state: &AppState, facts: &SiteRecords) -> Result<Arc<Dated>, StoreError> {
    let id = facts.site.id;
    let key = Key::of_facts(About::Revision { site: id, revision: facts.site.revision }, AllDated {});
    let size =
        |dated: &Dated| 5 + 4 * dated.versions.values().map(Vec::len).sum::<usize>() + dated.entries.len();
    state.cache.once(key, size, || {
        state.store.read(|snapshot| {
            Ok(Dated {
                versions: snapshot.settings_versions(id)?,
                noted: snapshot.zone_events(id)?,
                entries: snapshot.visit_entries(id)?,
                ticks: snapshot.ticks(id)?,
            })
        })
    })
}

/// When each version of a controller was programmed, as it is ticked.
pub(crate) fn keyed_in(ticks: &[TickRecord], controller: i64) -> BTreeMap<i32, Timestamp> {
    let own = ticks.iter().filter(|t| t.what == What::KeyedIn && t.about == controller);
    own.map(|t| (t.number, t.at)).collect()
}

/// What probe, spade and meter said at visits. The body of an entry is the visit file's.
fn read_at_visits(facts: &SiteRecords, entries: &[EntryRecord], at: Timestamp, log: &mut Log) {
    // Pages are about whole minutes; what was entered in this one is known already.
    let known = at + jiff::SignedDuration::from_secs(60);
    for entry in entries.iter().filter(|e| !e.undone && e.at < known) {
        let number = |name: &str| entry.body.get(name).and_then(serde_json::Value::as_f64);
        if let ("zone", Some(percent)) = (entry.kind.as_str(), number("available_pct"))
            && let Ok(zone) = facts.zone(entry.about)
        {
            let reading = FieldReading {
                at: entry.at.min(at),
                available_share: Share::from_percent(percent),
                reason: "read at a visit".into(),
            };
            let StationId { controller: controller_number, station } = zone.zone.station_id();
            log.readings.push(LoggedReading { controller_number, station, reading });
        }
        if let ("site", Some(litres)) = (entry.kind.as_str(), number("meter_litres")) {
            log.meter.push(MeterReading { at: entry.at.min(at), counted: Litres::from_l(litres) });
        }
    }
}

/// What was noted at the zones of a site up to an instant: readings of the evening of their day, or of the instant if
/// that lies before, and runs from the opening of the night's window.
pub(crate) fn log(facts: &SiteRecords, dated: &Dated, at: Timestamp) -> Log {
    let mut log = Log::default();
    read_at_visits(facts, &dated.entries, at, &mut log);
    for event in dated.noted.iter().filter(|event| !event.undone) {
        let Ok(zone) = facts.zone(event.zone_id) else { continue };
        let StationId { controller: controller_number, station } = zone.zone.station_id();
        let said = event.said_at.to_zoned(facts.tz.clone()).date() == event.date;
        match event.kind {
            EventKind::Reading => {
                let on = if said { event.said_at } else { evening(event.date, &facts.tz) };
                let today = at.to_zoned(facts.tz.clone()).date() == event.date;
                let reading = FieldReading {
                    at: if today { on.min(at) } else { on },
                    available_share: Share::from_fraction(event.value),
                    reason: event.reason.clone(),
                };
                log.readings.push(LoggedReading { controller_number, station, reading });
            }
            EventKind::Run => {
                // A run is noted on the day it ran, without its hour.
                let before = event.date.yesterday().unwrap_or(event.date);
                let from = main_window(before, facts.site.site.windows.main, &facts.tz).from;
                let length = Seconds::of(Minutes::from_min(event.value), f64::round);
                log.runs.push(LoggedRun { controller_number, station, from, until: from + length });
            }
        }
    }
    log.in_order()
}
