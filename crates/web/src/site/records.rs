//! The facts of a site at one revision: everything that its pages have in common, read at one instant.

use crate::server::cache::{About, Key, questions};
use crate::server::error::PageError;
use crate::server::state::AppState;
use crate::site::clock::Moment;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::sync::Arc;
use upland_core::controller::ordinance::Law;
use upland_core::controller::schedule::Settings;
use upland_core::controller::{Card, twelve_stations};
use upland_core::sensors::site_plan::SitePlan;
use upland_core::site::{StationId, UnitSystem, Zone};
use upland_core::weather::climate::Climate;
use upland_formats::settings_file::ControllerFile;
use upland_formats::site_file::SiteFile;
use upland_store::accounts::SiteStamp;
use upland_store::controllers::ControllerRecord;
use upland_store::library::SiteOrdinance;
use upland_store::scope::SiteKey;
use upland_store::sensors::{SensorEvent, SensorRecord};
use upland_store::settings::SettingsRecord;
use upland_store::sites::{SiteRecord, time_zone};
use upland_store::zones::ZoneRecord;
use upland_store::{Snapshot, StoreError};

/// A controller with what it is set to, if that was ever entered.
pub(crate) struct SiteController {
    pub record: ControllerRecord,
    pub settings: Option<SettingsRecord>,
}

impl SiteController {
    pub fn number(&self) -> u8 {
        self.record.controller.number
    }

    /// The settings as they stand, or a clean controller.
    pub fn settings_or_clean(&self) -> Settings {
        let known = self.settings.as_ref().map(|s| s.settings.clone());
        known.unwrap_or_else(|| Settings::clean(&self.record.controller.card))
    }
}

/// The facts of a site, and the climate that follows from its weather.
pub(crate) struct SiteRecords {
    pub site: SiteRecord,
    pub zones: Vec<ZoneRecord>,
    pub controllers: Vec<SiteController>,
    pub ordinances: Vec<SiteOrdinance>,
    pub sensors: Vec<SensorRecord>,
    pub sensor_events: Vec<SensorEvent>,
    pub climate: Arc<Climate>,
    pub tz: TimeZone,
}

questions! {
    /// The facts of a site.
    pub(super) facts AllRecords {} -> SiteRecords;
}

fn key(site: SiteKey, revision: i64) -> Key<AllRecords> {
    Key::of_facts(About::Revision { site, revision }, AllRecords {})
}

/// Facts of a site take about so many kilobytes: some for each zone, controller and sensor.
fn kilobytes(facts: &SiteRecords) -> usize {
    10 + facts.zones.len()
        + 10 * facts.controllers.len()
        + 4 * facts.sensors.len()
        + facts.sensor_events.len() / 2
}

impl SiteRecords {
    /// Reads them at the instant of a snapshot; `None` when the site is not there.
    fn read(state: &AppState, snapshot: &mut Snapshot<'_>, id: SiteKey) -> Result<Option<Self>, StoreError> {
        let Some(site) = snapshot.site(id)? else { return Ok(None) };
        let mut settings = snapshot.settings_of_site(id)?;
        let controllers = snapshot.controllers(id)?.into_iter();
        let controllers = controllers
            .map(|record| SiteController { settings: settings.remove(&record.id), record })
            .collect();
        let sensors = snapshot.sensors(id)?;
        Ok(Some(Self {
            zones: snapshot.zones(id)?,
            controllers,
            ordinances: snapshot.ordinances(id)?,
            sensor_events: if sensors.is_empty() { Vec::new() } else { snapshot.sensor_events(id)? },
            sensors,
            climate: crate::site::climate::climate(state, snapshot, &site)?,
            tz: time_zone(&site.site.time_zone)?,
            site,
        }))
    }

    /// The facts at a stamp, when they were read before.
    pub fn known(state: &AppState, stamp: SiteStamp) -> Option<Arc<Self>> {
        state.cache.get(&key(stamp.id, stamp.revision))
    }

    /// The facts at a stamp, or at a newer revision when somebody wrote since.
    pub fn load(state: &AppState, stamp: SiteStamp) -> Result<Arc<Self>, PageError> {
        if let Some(facts) = Self::known(state, stamp) {
            return Ok(facts);
        }
        let read = state.store.read(|snapshot| Self::read(state, snapshot, stamp.id))?;
        let facts = read.ok_or(PageError::NotFound)?;
        let revision = facts.site.revision;
        Ok(state.cache.once(key(stamp.id, revision), kilobytes, || Ok(facts))?)
    }

    /// Its zones by number and name.
    pub fn zone_names(&self) -> Vec<(u16, String)> {
        self.zones.iter().map(|z| (z.zone.number, z.zone.name.clone())).collect()
    }

    /// Numbers and places of the controllers, for lists.
    pub fn controller_names(&self) -> Vec<(u8, String)> {
        self.controllers.iter().map(|b| (b.number(), b.record.controller.place.clone())).collect()
    }

    /// A controller by its number, else the first, with its place and card; an ordinary one where none is installed, so that
    /// zones that were never put on a controller are not lost.
    pub fn controller_or_ordinary(&self, wanted: Option<u8>) -> (Option<&SiteController>, &str, Card) {
        let found = self.controllers.iter().find(|b| wanted.is_none_or(|n| b.number() == n));
        let own = found.map(|b| (b.record.controller.place.as_str(), b.record.controller.card.clone()));
        let (place, card) = own.unwrap_or_else(|| ("Controller", twelve_stations()));
        (found, place, card)
    }

    /// The surveys of its zones.
    pub fn surveys(&self) -> Vec<Zone> {
        self.zones.iter().map(|z| z.zone.clone()).collect()
    }

    /// Everything that was said of it, as a site file has it.
    pub fn file(&self, plan: SitePlan) -> SiteFile {
        let set = |own: &SiteController| own.settings.as_ref().map(|s| s.settings.clone());
        SiteFile {
            site: self.site.site.clone(),
            controllers: self
                .controllers
                .iter()
                .map(|own| (own.record.controller.clone(), set(own)))
                .collect(),
            law: self.law(),
            zones: self.surveys(),
            earlier_zones: self.zones.iter().flat_map(|z| z.earlier.iter().cloned()).collect(),
            sensors: self.sensors.iter().map(|s| s.sensor.clone()).collect(),
            histories: self.sensors.iter().map(|s| s.history.clone()).collect(),
            plan,
        }
    }

    /// What the site must keep to.
    pub fn law(&self) -> Law {
        Law { applied: self.ordinances.iter().map(|o| o.applied.clone()).collect() }
    }

    pub fn units(&self) -> UnitSystem {
        self.site.site.units
    }

    pub fn zone(&self, id: i64) -> Result<&ZoneRecord, PageError> {
        self.zones.iter().find(|z| z.id == id).ok_or(PageError::NotFound)
    }

    /// The zone on a station.
    pub fn zone_on(&self, station: StationId) -> Option<&ZoneRecord> {
        self.zones.iter().find(|record| record.zone.station_id() == station)
    }

    /// What a controller is set to, as a settings file has it.
    pub fn controller_file(&self, card: &Card, settings: &Settings) -> ControllerFile {
        ControllerFile {
            time_zone: self.site.site.time_zone.clone(),
            tz: self.tz.clone(),
            card: card.clone(),
            settings: settings.clone(),
        }
    }

    /// The last recorded day of its weather.
    pub fn last_recorded(&self) -> Option<Date> {
        self.climate.span().map(|span| span.last)
    }

    /// What pages are about: a date that was asked for, else now, else the last evening of an old record.
    pub fn moment(&self, asked: Option<Date>, now: Timestamp, last_reading: Option<Timestamp>) -> Moment {
        Moment::choose(asked, now, &self.tz, self.last_recorded(), last_reading)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;

    #[test]
    fn a_controller_is_found_by_its_number_and_zones_without_one_have_an_ordinary_one() {
        let facts = Arc::into_inner(fixture::decided(UnitSystem::Metric).records).unwrap();
        let (found, place, card) = facts.controller_or_ordinary(Some(1));
        assert_eq!(
            (found.map(SiteController::number), place, card.starts_per_program),
            (Some(1), "Potting shed", 6)
        );
        assert_eq!(facts.controller_or_ordinary(None).1, "Potting shed", "the first when none is asked for");
        let (none, place, card) = facts.controller_or_ordinary(Some(7));
        assert!(none.is_none());
        assert_eq!((place, card.name), ("Controller", twelve_stations().name));
        let bare = SiteRecords { controllers: Vec::new(), ..facts };
        assert!(bare.controller_or_ordinary(None).0.is_none());
        assert_eq!(bare.controller_names(), []);
    }

    #[test]
    fn a_controller_that_nobody_entered_is_clean_and_one_that_is_known_is_as_set() {
        let facts = Arc::into_inner(fixture::decided(UnitSystem::Metric).records).unwrap();
        let own = &facts.controllers[0];
        assert_eq!(own.settings_or_clean(), Settings::clean(&own.record.controller.card));
        let snapshot = fixture::controller_snapshot();
        let known = snapshot.records.controllers[0].settings_or_clean();
        assert_eq!(known, snapshot.records.controllers[0].settings.as_ref().unwrap().settings);
        assert_eq!(snapshot.settings(), known, "the snapshot asks the same");
    }

    #[test]
    fn the_facts_say_their_law_units_zones_and_last_recorded_day() {
        let facts = Arc::into_inner(fixture::decided(UnitSystem::UsCustomary).records).unwrap();
        assert_eq!(facts.units(), UnitSystem::UsCustomary);
        assert!(facts.law().applied.is_empty());
        assert_eq!(facts.surveys().len(), 4);
        assert_eq!(facts.zone(3).unwrap().zone.name, "Heather terrace");
        assert!(facts.zone(99).is_err());
        assert_eq!(facts.last_recorded(), Some(jiff::civil::date(2026, 7, 14)));
        assert!(time_zone("Mars/Olympus").is_err() && time_zone("Etc/GMT+1").is_ok());
    }
}
