//! A box of a site with everything its pages are computed from.

use crate::server::error::PageError;
use crate::server::state::{AppState, db_with_climates};
use crate::site::clock::choose_date;
use crate::site::facts::{Loaded, SiteBox, load};
use crate::site::sensing::SensorStates;
use actix_web::web;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use upland_core::advice::findings::WEEKS;
use upland_core::controller::ordinance::Law;
use upland_core::controller::schedule::Settings;
use upland_core::installation::Installation;
use upland_core::site::{Controller, UnitSystem};
use upland_store::settings::SettingsRecord;

/// A box of a site with everything its pages are computed from.
pub(crate) struct Workbench {
    pub loaded: Loaded,
    /// Position of the box in `loaded.boxes`.
    index: usize,
    pub installation: Installation,
    pub climate: std::sync::Arc<upland_core::weather::climate::Climate>,
    /// Its sensors with what they say.
    pub sensor_holds: Vec<crate::site::sensing::SensorHolds>,
    /// The day that pages begin on: today, or the last recorded day of an old record.
    pub today: Date,
}

impl Workbench {
    #[cfg(test)]
    pub fn for_tests(loaded: Loaded, installation: Installation, today: Date) -> Self {
        let station = loaded.site.site.station();
        let climate = std::sync::Arc::new(upland_core::weather::climate::Climate::from_record(&[], station));
        Self { loaded, index: 0, installation, climate, sensor_holds: Vec::new(), today }
    }

    pub fn site_box(&self) -> Result<&SiteBox, PageError> {
        self.loaded.boxes.get(self.index).ok_or(PageError::NotFound)
    }

    pub fn controller(&self) -> Result<&Controller, PageError> {
        Ok(&self.site_box()?.record.controller)
    }

    pub fn saved(&self) -> Option<&SettingsRecord> {
        self.loaded.boxes.get(self.index).and_then(|b| b.settings.as_ref())
    }

    /// The settings as they stand, or a clean box.
    pub fn settings(&self) -> Settings {
        self.saved().map_or_else(|| Settings::clean(&self.installation.card), |s| s.settings.clone())
    }

    /// The versions of weather and survey that the bench was opened with.
    pub fn facts(&self) -> String {
        format!("weather {} survey {}", self.loaded.site.weather_version, self.loaded.site.version)
    }

    pub fn units(&self) -> UnitSystem {
        self.loaded.site.site.units
    }

    /// Address of the box's pages.
    pub fn path(&self) -> String {
        format!("/sites/{}/boxes/{}", self.loaded.site.id, self.installation.box_number)
    }
}

/// Opens a box of a site.
pub(crate) async fn open(
    state: &web::Data<AppState>,
    site_id: i64,
    number: u8,
) -> Result<Workbench, PageError> {
    let loaded = load(state, site_id).await?;
    let index = loaded.boxes.iter().position(|b| b.number() == number).ok_or(PageError::NotFound)?;
    db_with_climates(state, move |state, store| {
        let site = &loaded.site;
        let climate = crate::site::climate::climate(state, site)?;
        let tz = TimeZone::get(&site.site.time_zone).unwrap_or(TimeZone::UTC);
        let (today, _) = choose_date(None, &climate, Timestamp::now().to_zoned(tz.clone()).date());
        let law = Law { applied: store.ordinances(site.id)?.into_iter().map(|o| o.applied).collect() };
        let zones: Vec<_> = loaded.zones.iter().map(|z| z.zone.clone()).collect();
        let card = loaded.boxes.get(index).map(|b| b.record.controller.card.clone());
        let card = card.unwrap_or_else(upland_core::controller::twelve_stations);
        let mut installation =
            Installation::new(&site.site, (&card, number), &zones, law.clone(), &climate, today, &tz);
        // What the other boxes take from the same supply while this one runs.
        let last = today.checked_add((i32::from(WEEKS) * 7).days()).unwrap_or(today);
        for other in loaded.boxes.iter().filter(|b| b.number() != number) {
            let Some(settings) = &other.settings else { continue };
            let of = (&other.record.controller.card, other.number());
            let there = Installation::new(&site.site, of, &zones, law.clone(), &climate, today, &tz);
            installation.elsewhere.extend(there.draws(&settings.settings, today, last));
        }
        installation.elsewhere.sort_by_key(|e| e.from);

        let room = SensorStates::build(state, store, loaded, None)?;
        installation.sensors = room.of_box(number).map(|s| s.sensor.clone()).collect();
        let ahead = room.at + jiff::SignedDuration::from_hours(24 * 7 * i64::from(WEEKS));
        let sensor_holds = room.sensor_holds(number, ahead);
        Ok(Workbench { loaded: room.loaded, index, installation, climate, sensor_holds, today })
    })
    .await
}
