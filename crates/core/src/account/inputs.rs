//! What is known of a site: everything that its account follows from.

use super::log::Log;
use super::nights::{NightRules, Shut};
use super::running::ControllerFacts;
use super::zone::Advise;
use crate::controller::ordinance::Law;
use crate::controller::windows::EVENING;
use crate::installation::{Installation, InstalledCard};
use crate::quantity::time::instant;
use crate::quantity::units::Celsius;
use crate::sensors::{COMMON_FREEZE_POINT, Sense};
use crate::site::{EarlierSurvey, EarlierZone, ResolvedZone, Site, StationId, SurveyedZone, Surveys, Zone};
use crate::weather::climate::Climate;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Everything that the account of a site follows from.
#[derive(Debug, Clone)]
pub struct AccountInputs {
    /// The place.
    pub site: Site,
    /// Its time zone.
    pub tz: TimeZone,
    /// Its weather.
    pub climate: Arc<Climate>,
    /// What it must keep to.
    pub law: Law,
    /// Its zones, with their defaults.
    pub zones: Vec<SurveyedZone>,
    /// How its zones were before, each until a date, the oldest first; by number of the controller and station.
    pub earlier_zones: BTreeMap<StationId, Vec<EarlierSurvey>>,
    /// Its controllers.
    pub controllers: Vec<ControllerFacts>,
    /// What was written down.
    pub log: Log,
    /// When watering is advised where nothing is known.
    pub advise: Advise,
    /// Whether frost bars what is advised.
    pub heeds_frost: bool,
}

impl AccountInputs {
    /// A site of which only survey and weather are known.
    #[must_use]
    pub fn surveyed(site: &Site, tz: &TimeZone, zones: &[Zone], climate: impl Into<Arc<Climate>>) -> Self {
        let mut climate = climate.into();
        // What drizzle counts for is the site's choice, whoever read its weather.
        if climate.drizzle() != site.drizzle {
            climate = Arc::new(climate.as_ref().clone().with_drizzle(site.drizzle));
        }
        Self {
            zones: Self::resolved(site, zones),
            earlier_zones: BTreeMap::new(),
            site: site.clone(),
            tz: tz.clone(),
            climate,
            law: Law::default(),
            controllers: Vec::new(),
            log: Log::default(),
            advise: Advise::AtRefill,
            heeds_frost: true,
        }
    }

    /// Surveys with their defaults filled.
    #[must_use]
    pub fn resolved(site: &Site, zones: &[Zone]) -> Vec<SurveyedZone> {
        let surveyed =
            |zone: &Zone| SurveyedZone { zone: zone.clone(), resolved: zone.resolve(site.latitude_deg) };
        zones.iter().map(surveyed).collect()
    }

    /// The same with how a zone was surveyed before.
    pub fn add_earlier(&mut self, earlier: &[EarlierZone]) {
        for own in earlier {
            let resolved = own.zone.resolve(self.site.latitude_deg);
            let survey = EarlierSurvey { until: own.until, zone: own.zone.clone(), resolved };
            self.earlier_zones.entry(own.zone.station_id()).or_default().push(survey);
        }
    }

    /// Its zones through time.
    #[must_use]
    pub const fn surveys(&self) -> Surveys<'_> {
        Surveys { now: self.zones.as_slice(), earlier: &self.earlier_zones }
    }

    /// How a zone was before, the oldest first.
    #[must_use]
    pub fn earlier_of(&self, id: StationId) -> &[EarlierSurvey] {
        self.surveys().earlier_of(id)
    }

    /// A zone as it was on a date.
    #[must_use]
    pub fn zone_on(&self, id: StationId, date: Date) -> Option<(&Zone, &ResolvedZone)> {
        let earlier = EarlierSurvey::on(self.earlier_of(id), date);
        let now = || self.zone(id).map(|own| (&own.zone, &own.resolved));
        earlier.map(|own| (&own.zone, &own.resolved)).or_else(now)
    }

    /// One controller with its zones alone, at the same site under the same law.
    #[must_use]
    pub fn only_controller(&self, number: u8) -> Self {
        let zones = self.zones.iter().filter(|own| own.zone.controller_number == number).cloned().collect();
        let controllers = self.controllers.iter().filter(|own| own.number == number).cloned().collect();
        Self { zones, controllers, ..self.clone() }
    }

    /// The controller of a number.
    #[must_use]
    pub fn of_controller(&self, number: u8) -> Option<&ControllerFacts> {
        self.controllers.iter().find(|b| b.number == number)
    }

    /// A zone on its station.
    #[must_use]
    pub fn zone(&self, id: StationId) -> Option<&SurveyedZone> {
        self.zones.iter().find(|own| own.zone.station_id() == id)
    }

    /// A controller as installed, as it is from a date on.
    #[must_use]
    pub fn installation(&self, own: &ControllerFacts, from: Date) -> Installation {
        let zones: Vec<_> = self.zones.iter().map(|own| own.zone.clone()).collect();
        let mut there = Installation::new(
            &self.site,
            InstalledCard { card: &own.card, number: own.number },
            &zones,
            self.law.clone(),
            &self.climate,
            from,
            &self.tz,
        );
        there.sensors = own.sensors.iter().map(|s| s.sensor.clone()).collect();
        there
    }

    /// At or below this expected minimum nothing is advised: the warmest set point of the site's freeze sensors,
    /// else that of common practice.
    #[must_use]
    pub fn freeze_at(&self) -> Celsius {
        let sensors =
            self.controllers.iter().flat_map(|b| &b.sensors).filter(|s| s.sensor.card.senses(Sense::Freeze));
        let set = sensors.map(|s| s.sensor.setting.freeze_at);
        set.reduce(|a, b| if a > b { a } else { b }).unwrap_or(COMMON_FREEZE_POINT)
    }

    /// The nights of the zones of a controller.
    pub fn with_rules<T>(&self, number: u8, of: impl FnOnce(&NightRules) -> T) -> T {
        let rests = |date: Date| {
            let evening = instant(date, EVENING, &self.tz);
            let settings = self.of_controller(number).and_then(|b| b.settings_at(evening))?;
            settings.rests_on(date).into_iter().next()
        };
        let shut = |date: Date| {
            let evening = instant(date, EVENING, &self.tz);
            let settings = self.of_controller(number).and_then(|b| b.settings_at(evening));
            settings
                .map_or_else(Shut::default, |s| Shut { never_days: s.never_days, omit_hours: s.omit_hours })
        };
        of(&NightRules {
            shut: &shut,
            law: &self.law,
            windows: self.site.windows,
            tz: &self.tz,
            climate: &self.climate,
            freeze_at: self.freeze_at(),
            heeds_frost: self.heeds_frost,
            rests: &rests,
        })
    }
}
