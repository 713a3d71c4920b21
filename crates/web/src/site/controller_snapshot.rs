//! A controller of a site with everything its pages are computed from.

#[cfg(test)]
use crate::fixture;
use crate::server::address;
use crate::server::cache::About;
use crate::server::error::PageError;
use crate::site::records::{SiteController, SiteRecords};
use crate::site::snapshot::SiteSnapshot;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use std::sync::Arc;
use upland_core::account::running::{ControllerFacts, ControllerRun, running};
use upland_core::advice::findings::WEEKS;
use upland_core::controller::schedule::{ScheduledRun, Settings, expand};
use upland_core::controller::windows::decided_at;
use upland_core::installation::{Elsewhere, Installation, InstalledCard};
use upland_core::quantity::span::{DateSpan, TimeSpan};
use upland_core::quantity::time::monday_of;
use upland_core::site::{Controller, SurveyedZone, Surveys, UnitSystem};
use upland_core::weather::climate::Climate;
use upland_store::settings::SettingsRecord;

/// A controller of a site with everything its pages are computed from.
pub(crate) struct ControllerSnapshot {
    pub records: Arc<SiteRecords>,
    /// Position of the controller in `loaded.controllers`.
    index: usize,
    pub installation: Installation,
    pub climate: Arc<Climate>,
    /// The controller with its sensors and what they say.
    pub controller_facts: ControllerFacts,
    /// The site's zones with their defaults.
    pub zones: Vec<SurveyedZone>,
    /// The day that pages begin on: today, or the last recorded day of an old record.
    pub today: Date,
    /// The instant that pages are about.
    pub at: Timestamp,
}

impl ControllerSnapshot {
    #[cfg(test)]
    pub fn for_tests(records: SiteRecords, installation: Installation, today: Date) -> Self {
        let climate = Arc::clone(&records.climate);
        let at = crate::site::clock::evening(today, &records.tz);
        let controller_facts = ControllerFacts {
            number: installation.controller_number,
            card: installation.card.clone(),
            versions: Vec::new(),
            sensors: Vec::new(),
        };
        let zones = upland_core::account::site_account::AccountInputs::resolved(
            &records.site.site,
            &records.surveys(),
        );
        Self {
            records: Arc::new(records),
            index: 0,
            installation,
            climate,
            controller_facts,
            zones,
            today,
            at,
        }
    }

    /// The first controller of a site's site.
    #[cfg(test)]
    pub fn of_site_for_tests(site: &SiteSnapshot) -> Self {
        let own = &site.records.controllers[0];
        let mut snapshot =
            Self::for_tests(fixture::facts_of(&site.records), site.installation(own), site.today());
        snapshot.controller_facts = site.inputs.controllers[0].clone();
        snapshot
    }

    /// A controller of a site at its moment.
    pub fn of_site(site: &SiteSnapshot, number: u8) -> Result<Self, PageError> {
        let (facts, today) = (&site.records, site.today());
        let index = facts.controllers.iter().position(|b| b.number() == number).ok_or(PageError::NotFound)?;
        let card = &facts.controllers.get(index).ok_or(PageError::NotFound)?.record.controller.card;
        let mut installation = Installation::new(
            &facts.site.site,
            InstalledCard { card, number },
            &facts.surveys(),
            facts.law(),
            &facts.climate,
            today,
            &facts.tz,
        );
        installation.elsewhere = elsewhere(facts, number, today);
        installation.sensors = site.of_controller(number).map(|s| s.sensor.clone()).collect();
        let controller_facts = site.inputs.of_controller(number).cloned().ok_or(PageError::NotFound)?;
        Ok(Self {
            records: Arc::clone(facts),
            index,
            installation,
            climate: Arc::clone(&facts.climate),
            controller_facts,
            zones: site.inputs.zones.clone(),
            today,
            at: site.at(),
        })
    }

    pub fn site_controller(&self) -> Result<&SiteController, PageError> {
        self.records.controllers.get(self.index).ok_or(PageError::NotFound)
    }

    pub fn controller(&self) -> Result<&Controller, PageError> {
        Ok(&self.site_controller()?.record.controller)
    }

    pub fn saved(&self) -> Option<&SettingsRecord> {
        self.records.controllers.get(self.index).and_then(|b| b.settings.as_ref())
    }

    /// The settings as they stand, or a clean controller.
    pub fn settings(&self) -> Settings {
        let own = self.records.controllers.get(self.index);
        own.map_or_else(|| Settings::clean(&self.installation.card), SiteController::settings_or_clean)
    }

    /// The versions of weather and survey that the bench was opened with.
    pub fn about_weather(&self) -> About {
        let upland_store::sites::SiteRecord { id, weather_version, version, .. } = &self.records.site;
        About::Weather { site: *id, weather: *weather_version, survey: *version }
    }

    pub fn units(&self) -> UnitSystem {
        self.records.site.site.units
    }

    /// The controller as its zones need in a week that is looked at, and the day from which that counts: today in the week
    /// that runs, else its Monday.
    pub fn in_week(&self, chosen: Date) -> (Installation, Date) {
        let monday = monday_of(chosen);
        let from = if monday == monday_of(self.today) { self.today } else { monday };
        if from == self.today {
            return (self.installation.clone(), from);
        }
        let there = Installation::new(
            &self.records.site.site,
            InstalledCard { card: &self.installation.card, number: self.installation.controller_number },
            &self.records.surveys(),
            self.installation.law.clone(),
            &self.climate,
            from,
            &self.records.tz,
        );
        let (sensors, elsewhere) = (self.installation.sensors.clone(), self.installation.elsewhere.clone());
        (Installation { sensors, elsewhere, ..there }, from)
    }

    /// What becomes of some settings of the controller over some dates: every run, who holds it, how long it waters.
    pub fn runs_of(&self, settings: &Settings, span: DateSpan) -> Vec<ControllerRun> {
        let versions = vec![(Timestamp::MIN, settings.clone())];
        let controller_facts = ControllerFacts { versions, ..self.controller_facts.clone() };
        running(&controller_facts, Surveys::present(&self.zones), &self.records.tz, span.first, span.last)
    }

    /// Every valve that really opens over some dates: runs as they water, held ones left out, and lighting, in order.
    pub fn openings(&self, settings: &Settings, span: DateSpan) -> Vec<ScheduledRun> {
        let (card, tz) = (&self.installation.card, &self.records.tz);
        let lighting = expand(settings, card, tz, span.first, span.last);
        let lighting = lighting.into_iter().filter(|run| settings.station(run.station).lighting);
        let own = self.runs_of(settings, span);
        let waters = own.iter().filter(|r| !r.is_held()).map(|r| ScheduledRun { end: r.until, ..r.run });
        let mut all: Vec<ScheduledRun> = waters.chain(lighting).collect();
        all.sort_by_key(|r| (r.start, r.program, r.station, r.cycle));
        all
    }

    /// The night that begins on a date: from one evening to the next.
    pub fn night(&self, date: Date) -> TimeSpan {
        let (window, tz) = (self.installation.windows.main, &self.records.tz);
        let next = date.tomorrow().unwrap_or(date);
        TimeSpan::new(decided_at(date, window, tz), decided_at(next, window, tz))
    }

    /// Address of the controller's pages.
    pub fn path(&self) -> String {
        address::site_controller(self.records.site.id.number(), self.installation.controller_number)
    }
}

/// What the other controllers take from the same supply while one runs.
fn elsewhere(facts: &SiteRecords, number: u8, today: Date) -> Vec<Elsewhere> {
    let (law, zones) = (facts.law(), facts.surveys());
    let last = today.checked_add((i32::from(WEEKS) * 7).days()).unwrap_or(today);
    let mut draws = Vec::new();
    for other in facts.controllers.iter().filter(|b| b.number() != number) {
        let Some(settings) = &other.settings else { continue };
        let there = Installation::new(
            &facts.site.site,
            InstalledCard { card: &other.record.controller.card, number: other.number() },
            &zones,
            law.clone(),
            &facts.climate,
            today,
            &facts.tz,
        );
        draws.extend(there.draws(&settings.settings, today, last));
    }
    draws.sort_by_key(|e| e.from);
    draws
}
