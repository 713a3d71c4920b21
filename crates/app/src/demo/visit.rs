//! The demo's visit: on the morning of its first day somebody walked the burial ground.

use super::own;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use upland_store::scope::SiteKey;
use upland_store::visits::NewEntry;
use upland_store::{Change, StoreError};

/// The site that was walked, by its place among the demo's.
pub const SITE: u64 = 1;
/// From the evening of the demo back to its morning.
const MORNING: SignedDuration = SignedDuration::from_hours(11);

/// What was seen at each station.
const SEEN: [(u16, &str, &[&str], &str); 5] = [
    (1, "right", &[], ""),
    (2, "right", &[], ""),
    (3, "dry", &[], "edge of the bed pulls away from the wall"),
    (4, "dry", &["blocked"], ""),
    (5, "right", &[], ""),
];

/// Enters the visit.
///
/// # Errors
/// When the database refuses.
pub fn enter(change: &mut Change<'_>, site: SiteKey, evening: Timestamp) -> Result<(), StoreError> {
    let day = super::EVENING.date();
    let visit = change.visit_on(day)?;
    let mut at = evening - MORNING;
    let mut put = |change: &mut Change<'_>, kind: &str, about: i64, body: Value, words: &str| {
        at += SignedDuration::from_secs(70);
        let key = format!("demo-visit-{kind}-{about}");
        let new = NewEntry { client_key: &key, kind, about, body: &body, at, clock_off_s: 0, words };
        change.enter(visit, new).map(|_| ())
    };
    let controllers = change.controllers(site)?;
    let shed = controllers.first().ok_or_else(|| own("no controller"))?;
    let seen =
        json!({ "controller": 1, "on": true, "bypassed": false, "clock_ahead_s": 120, "battery": "good" });
    put(change, "box", shed.id, seen, "Controller 1: battery good; as recorded, as far as it was read")?;
    for (station, looks, signs, note) in SEEN {
        let zones = change.zones(site)?;
        let zone = zones.iter().find(|z| z.zone.number == station).ok_or_else(|| own("no zone"))?;
        let seen =
            json!({ "controller": 1, "station": station, "looks": looks, "signs": signs, "note": note });
        let mut words = format!("{station} {}: {looks}", zone.zone.name);
        for more in signs.iter().copied().chain([note]).filter(|m| !m.is_empty()) {
            words = format!("{words}; {more}");
        }
        put(change, "zone", zone.id, seen, &words)?;
    }
    let sensors = change.sensors(site)?;
    let gauge = sensors.first().ok_or_else(|| own("no sensor"))?;
    let name = gauge.sensor.name.clone();
    let seen = json!({ "name": name, "holds": false, "covered": true, "sprayed": false });
    let words = format!("{name}: allows watering; something keeps rain from it; out of the spray");
    put(change, "sensor", gauge.id, seen, &words)
}
