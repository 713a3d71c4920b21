//! Tonight over all sites: the sentence of each box, the very one of its Today. Hundreds of sites take seconds when
//! nothing is known of them, so a page shows what is, and the rest is worked out behind it.

use super::{LastDay, last_day_facts, moment_of};
use crate::page::headline::headline;
use crate::server::reader::{habit, in_habit};
use crate::server::state::AppState;
use crate::site::context::SiteAtWork;
use crate::site::facts::SiteFacts;
use crate::site::sensing::SensorStates;
use actix_web::web;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::advice::tonight::{BoxKnown, Verdict};
use upland_store::StoreError;
use upland_store::controllers::BoxStamp;
use upland_store::scope::Scope;

/// A box tonight.
#[derive(Debug, Clone, PartialEq)]
pub(in crate::chapters::round) struct BoxNight {
    pub number: u8,
    pub place: String,
    pub sentence: String,
    /// Something of it is not right.
    pub wrong: bool,
}

/// The boxes of a site tonight.
pub(in crate::chapters::round) struct SiteNight {
    pub site: String,
    pub boxes: Vec<BoxNight>,
}

/// What the nights of all sites are known to be.
#[derive(Default)]
pub(in crate::chapters::round) struct Nights {
    pub known: Vec<(i64, Arc<SiteNight>)>,
    /// Sites that are still worked on.
    pub missing: Vec<BoxStamp>,
}

/// Names what the night of a site follows from; an hour serves its every minute.
fn key(stamp: &BoxStamp, now: Timestamp) -> String {
    let (hour, read) = (now.as_second().div_euclid(3600), stamp.last_reading());
    // Its sentences hold times: each habit of reading has its own.
    let (site, revision, habit) = (stamp.site_id, stamp.revision, habit());
    format!("site {site} revision {revision} read {read:?} tonight in hour {hour} as {habit:?}")
}

/// The nights that are known, and the sites of which none is.
pub(in crate::chapters::round) fn known(
    state: &AppState,
    scope: &Scope,
    now: Timestamp,
) -> Result<Nights, StoreError> {
    let mut nights = Nights::default();
    // A stamp a site: its boxes share revision and readings.
    let stamps = state.store.read(|snapshot| snapshot.box_stamps(scope))?;
    let sites: BTreeMap<i64, BoxStamp> = stamps.into_iter().map(|s| (s.site_id.number(), s)).collect();
    for (id, stamp) in sites {
        match state.cache.get::<SiteNight>(&key(&stamp, now)) {
            Some(night) => nights.known.push((id, night)),
            None => nights.missing.push(stamp),
        }
    }
    Ok(nights)
}

/// Works on the missing ones behind the page.
pub(in crate::chapters::round) fn work_on(
    state: &web::Data<AppState>,
    missing: Vec<BoxStamp>,
    now: Timestamp,
) {
    if missing.is_empty() {
        return;
    }
    let (shared, reader) = (state.clone(), habit());
    state.background.begin("nights of all sites", move || {
        for stamp in missing {
            if let Err(error) = in_habit(reader, || night(&shared, &stamp, now)) {
                tracing::warn!(%error, site = stamp.site_id.number(), "its night could not be worked out");
            }
        }
    });
}

/// The night of a site.
pub(super) fn night(
    state: &AppState,
    stamp: &BoxStamp,
    now: Timestamp,
) -> Result<Option<Arc<SiteNight>>, StoreError> {
    let Some(own) = state.store.read(|snapshot| snapshot.stamp(stamp.site_id))? else { return Ok(None) };
    let Ok(facts) = SiteFacts::load(state, own) else { return Ok(None) };
    state.cache.once(last_day_facts(stamp), |_| 1, || Ok(LastDay(facts.last_recorded())))?;
    let moment = moment_of(stamp, facts.last_recorded(), now)?;
    let states = Arc::new(SensorStates::build(state, Arc::clone(&facts), (own, moment))?);
    let work = SiteAtWork::of(states, moment);
    let boxes = facts.boxes.iter().map(|own| {
        let tonight = work.night(own.number());
        let wrong = tonight.known == BoxKnown::Settings
            && tonight.zones.iter().any(|z| z.verdict.is_some_and(|verdict| verdict != Verdict::Right));
        BoxNight {
            number: own.number(),
            place: own.record.controller.place.clone(),
            sentence: headline(&tonight, &facts.tz),
            wrong,
        }
    });
    let night = SiteNight { site: facts.site.site.name.clone(), boxes: boxes.collect() };
    Ok(Some(state.cache.once(key(stamp, now), |_| 2, || Ok(night))?))
}
