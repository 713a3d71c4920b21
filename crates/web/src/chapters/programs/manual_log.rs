//! Logging a manual run: what ran goes into the account of its zones, what was seen into the visit of the day.

use super::manual::KINDS;
use crate::page::dates::DateFormat;
use crate::page::quantities::counted;
use crate::server::address;
use crate::server::error::{PageError, see_other};
use crate::server::sent_entries::entered_at;
use crate::server::session::{Fields, client_key, flash};
use crate::site::context::EditorAt;
use actix_web::{HttpResponse, post, web};
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::site::StationId;
use upland_core::tuning::{Sign, ZoneSeen};
use upland_formats::visit_file::Entry;
use upland_store::field::EventKind;
use upland_store::visits::NewEntry;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(log_runs);
}

/// Longest run that is logged from a list, seconds: half a day.
const LONGEST_S: u32 = 12 * 3600;

/// A station that ran.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Ran {
    station: u16,
    minutes: f64,
}

/// What was seen at a station.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Seen {
    station: u16,
    sign: Sign,
}

/// Values of the fields that begin with a prefix, by the station behind it.
fn by_station<'a>(fields: &'a Fields, prefix: &str) -> BTreeMap<u16, &'a str> {
    let own = fields.0.iter().filter_map(|(name, value)| {
        let station = name.strip_prefix(prefix)?.parse().ok()?;
        Some((station, value.as_str()))
    });
    own.collect()
}

fn ran(fields: &Fields) -> Vec<Ran> {
    let of = |(station, seconds): (u16, &str)| {
        let seconds: u32 = seconds.parse().ok().filter(|s| (1..=LONGEST_S).contains(s))?;
        Some(Ran { station, minutes: f64::from(seconds) / 60.0 })
    };
    by_station(fields, "ran-").into_iter().filter_map(of).collect()
}

fn seen(fields: &Fields) -> Vec<Seen> {
    let of = |(station, code): (u16, &str)| Some(Seen { station, sign: Sign::from_code(code)? });
    by_station(fields, "seen-").into_iter().filter_map(of).collect()
}

/// Logs the ticked runs into the account of their zones, and what was seen into the visit of the day.
#[post("/sites/{id}/controllers/{number}/manual")]
async fn log_runs(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let number = path.1;
    let kind = KINDS.iter().find(|(code, _)| *code == fields.get("what")).or(KINDS.first());
    let (what, title) = kind.copied().unwrap_or_default();
    let back = format!("{}/manual?what={what}", address::site_controller(here.id(), number));
    let (ran, seen) = (ran(&fields), seen(&fields));
    if ran.is_empty() && seen.is_empty() {
        let told = "Nothing is ticked, so nothing was logged. Tick the stations that ran.";
        flash(&here.who.session, told, None)?;
        return Ok(see_other(&back));
    }
    let at = entered_at(&fields, here.state.exactly_now());
    let date = at.to_zoned(here.records.tz.clone()).date();
    let zone = |station: u16| here.records.zone_on(StationId::new(number, station)).map(|zone| zone.id);
    let runs: Vec<(i64, f64)> =
        ran.iter().filter_map(|own| Some((zone(own.station)?, own.minutes))).collect();
    let facts = here.snapshot(None).await?;
    let entry = |own: &Seen| {
        let signs = [own.sign].into();
        let seen = ZoneSeen { controller_number: number, station: own.station, signs, ..ZoneSeen::default() };
        let words = format!("{}: {}", own.station, own.sign.label());
        Some((zone(own.station)?, Entry::Zone(seen).to_json(&facts.inputs), words))
    };
    let entries: Vec<(i64, serde_json::Value, String)> = seen.iter().filter_map(entry).collect();
    let mut said = format!("{} logged for {}.", counted(runs.len(), "run"), date.formatted("%-d %B"));
    if !entries.is_empty() {
        let zones = counted(entries.len(), "zone");
        said.push_str(&format!(" What was seen at {zones} is in the visit of the day."));
    }
    let (key, reason) = (client_key(fields.get("key"))?, title.to_lowercase());
    here.change(move |change| {
        for (zone, minutes) in &runs {
            change.note_event(*zone, date, EventKind::Run, *minutes, &reason)?;
        }
        if entries.is_empty() {
            return Ok(());
        }
        let visit = change.visit_on(date)?;
        for (about, body, words) in &entries {
            // Each entry of a visit has a key of its own, so that it counts once however often it is sent.
            let client_key = &format!("{key}-{about}");
            let (kind, about) = ("zone", *about);
            change.enter(visit, NewEntry { client_key, kind, about, body, at, clock_off_s: 0, words })?;
        }
        Ok(())
    })
    .await?;
    flash(&here.who.session, said, None)?;
    Ok(see_other(&back))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_ticked_is_read_and_nonsense_is_left_out() {
        let typed =
            [("ran-1", "120"), ("ran-2", "0"), ("ran-x", "9"), ("seen-3", "nonsense"), ("seen-1", "broken")];
        let fields = Fields(typed.map(|(name, value)| (name.to_owned(), value.to_owned())).into());
        assert_eq!(ran(&fields), [Ran { station: 1, minutes: 2.0 }]);
        assert_eq!(seen(&fields), [Seen { station: 1, sign: Sign::Broken }]);
    }
}
