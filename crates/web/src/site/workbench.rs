//! A controller of a site with everything its pages are computed from.

#[cfg(test)]
use crate::fixture;
use crate::server::address;
use crate::server::error::PageError;
use crate::server::state::AppState;
use crate::site::clock::Moment;
use crate::site::facts::{SiteController, SiteFacts};
use crate::site::sensing::SensorStates;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use std::sync::Arc;
use upland_core::account::running::{ControllerFacts, ControllerRun, running};
use upland_core::advice::findings::WEEKS;
use upland_core::controller::schedule::{ScheduledRun, Settings, expand};
use upland_core::controller::windows::decided_at;
use upland_core::installation::{Elsewhere, Installation};
use upland_core::quantity::time::monday_of;
use upland_core::site::{Controller, ResolvedZone, Surveys, UnitSystem, Zone};
use upland_core::weather::climate::Climate;
use upland_store::accounts::SiteStamp;
use upland_store::settings::SettingsRecord;

/// A controller of a site with everything its pages are computed from.
pub(crate) struct Workbench {
    pub loaded: Arc<SiteFacts>,
    /// Position of the controller in `loaded.controllers`.
    index: usize,
    pub installation: Installation,
    pub climate: Arc<Climate>,
    /// The controller with its sensors and what they say.
    pub controller_facts: ControllerFacts,
    /// The site's zones with their defaults.
    pub zones: Vec<(Zone, ResolvedZone)>,
    /// The day that pages begin on: today, or the last recorded day of an old record.
    pub today: Date,
    /// The instant that pages are about.
    pub at: Timestamp,
}

impl Workbench {
    #[cfg(test)]
    pub fn for_tests(loaded: SiteFacts, installation: Installation, today: Date) -> Self {
        let climate = Arc::clone(&loaded.climate);
        let at = crate::site::clock::evening(today, &loaded.tz);
        let controller_facts = ControllerFacts {
            number: installation.controller_number,
            card: installation.card.clone(),
            versions: Vec::new(),
            sensors: Vec::new(),
        };
        let zones = upland_core::account::whole::Facts::resolved(&loaded.site.site, &loaded.surveys());
        Self { loaded: Arc::new(loaded), index: 0, installation, climate, controller_facts, zones, today, at }
    }

    /// The first controller of a site's states.
    #[cfg(test)]
    pub fn of_states_for_tests(states: &SensorStates) -> Self {
        let own = &states.loaded.controllers[0];
        let mut bench =
            Self::for_tests(fixture::facts_of(&states.loaded), states.installation(own), states.today);
        bench.controller_facts = states.facts.controllers[0].clone();
        bench
    }

    /// Opens a controller of a site at a moment.
    pub fn open(
        state: &AppState,
        facts: &Arc<SiteFacts>,
        (stamp, moment): (SiteStamp, Moment),
        number: u8,
    ) -> Result<Self, PageError> {
        let states = SensorStates::build(state, Arc::clone(facts), (stamp, moment))?;
        Self::of_states(&states, number)
    }

    /// A controller of a site whose sensors are known.
    pub fn of_states(states: &SensorStates, number: u8) -> Result<Self, PageError> {
        let (facts, today) = (&states.loaded, states.today);
        let index = facts.controllers.iter().position(|b| b.number() == number).ok_or(PageError::NotFound)?;
        let card = &facts.controllers.get(index).ok_or(PageError::NotFound)?.record.controller.card;
        let mut installation = Installation::new(
            &facts.site.site,
            (card, number),
            &facts.surveys(),
            facts.law(),
            &facts.climate,
            today,
            &facts.tz,
        );
        installation.elsewhere = elsewhere(facts, number, today);
        installation.sensors = states.of_controller(number).map(|s| s.sensor.clone()).collect();
        let controller_facts = states.facts.of_controller(number).cloned().ok_or(PageError::NotFound)?;
        Ok(Self {
            loaded: Arc::clone(facts),
            index,
            installation,
            climate: Arc::clone(&facts.climate),
            controller_facts,
            zones: states.facts.zones.clone(),
            today,
            at: states.at,
        })
    }

    pub fn site_controller(&self) -> Result<&SiteController, PageError> {
        self.loaded.controllers.get(self.index).ok_or(PageError::NotFound)
    }

    pub fn controller(&self) -> Result<&Controller, PageError> {
        Ok(&self.site_controller()?.record.controller)
    }

    pub fn saved(&self) -> Option<&SettingsRecord> {
        self.loaded.controllers.get(self.index).and_then(|b| b.settings.as_ref())
    }

    /// The settings as they stand, or a clean controller.
    pub fn settings(&self) -> Settings {
        let own = self.loaded.controllers.get(self.index);
        own.map_or_else(|| Settings::clean(&self.installation.card), SiteController::settings_or_clean)
    }

    /// The versions of weather and survey that the bench was opened with.
    pub fn facts(&self) -> String {
        format!("weather {} survey {}", self.loaded.site.weather_version, self.loaded.site.version)
    }

    pub fn units(&self) -> UnitSystem {
        self.loaded.site.site.units
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
            &self.loaded.site.site,
            (&self.installation.card, self.installation.controller_number),
            &self.loaded.surveys(),
            self.installation.law.clone(),
            &self.climate,
            from,
            &self.loaded.tz,
        );
        let (sensors, elsewhere) = (self.installation.sensors.clone(), self.installation.elsewhere.clone());
        (Installation { sensors, elsewhere, ..there }, from)
    }

    /// What becomes of some settings of the controller over some dates: every run, who holds it, how long it waters.
    pub fn runs_of(&self, settings: &Settings, span: (Date, Date)) -> Vec<ControllerRun> {
        let versions = vec![(Timestamp::MIN, settings.clone())];
        let controller_facts = ControllerFacts { versions, ..self.controller_facts.clone() };
        running(&controller_facts, Surveys::present(&self.zones), &self.loaded.tz, span)
    }

    /// Every valve that really opens over some dates: runs as they water, held ones left out, and lighting, in order.
    pub fn openings(&self, settings: &Settings, span: (Date, Date)) -> Vec<ScheduledRun> {
        let (card, tz) = (&self.installation.card, &self.loaded.tz);
        let lighting = expand(settings, card, tz, span.0, span.1);
        let lighting = lighting.into_iter().filter(|run| settings.station(run.station).lighting);
        let own = self.runs_of(settings, span);
        let waters = own.iter().filter(|r| !r.is_held()).map(|r| ScheduledRun { end: r.until, ..r.run });
        let mut all: Vec<ScheduledRun> = waters.chain(lighting).collect();
        all.sort_by_key(|r| (r.start, r.program, r.station, r.cycle));
        all
    }

    /// The night that begins on a date: from one evening to the next.
    pub fn night(&self, date: Date) -> (Timestamp, Timestamp) {
        let (window, tz) = (self.installation.windows.main, &self.loaded.tz);
        (decided_at(date, window, tz), decided_at(date.tomorrow().unwrap_or(date), window, tz))
    }

    /// Address of the controller's pages.
    pub fn path(&self) -> String {
        address::site_controller(self.loaded.site.id.number(), self.installation.controller_number)
    }
}

/// What the other controllers take from the same supply while one runs.
fn elsewhere(facts: &SiteFacts, number: u8, today: Date) -> Vec<Elsewhere> {
    let (law, zones) = (facts.law(), facts.surveys());
    let last = today.checked_add((i32::from(WEEKS) * 7).days()).unwrap_or(today);
    let mut draws = Vec::new();
    for other in facts.controllers.iter().filter(|b| b.number() != number) {
        let Some(settings) = &other.settings else { continue };
        let of = (&other.record.controller.card, other.number());
        let there =
            Installation::new(&facts.site.site, of, &zones, law.clone(), &facts.climate, today, &facts.tz);
        draws.extend(there.draws(&settings.settings, today, last));
    }
    draws.sort_by_key(|e| e.from);
    draws
}
