//! What the weeks after a visit bring each zone, as the controllers are set or would be: the account goes on from its state
//! under expected demand and without rain.

use super::picture::{DRY_BELOW, WET_ABOVE, share};
use super::visit::Looks;
use crate::account::evidence::{Watering, joined};
use crate::account::running::{ControllerFacts, running};
use crate::account::site_account::{AccountInputs, SiteAccount, end_of};
use crate::account::sky::SkyHours;
use crate::account::zone::{ZoneState, ahead};
use crate::quantity::ratio::Share;
use crate::quantity::units::{Litres, Millimetres};
use crate::sensors::Sense;
use crate::site::{StationId, SurveyedZone};
use jiff::ToSpan;
use jiff::civil::Date;
use std::borrow::Cow;

/// What some weeks bring a zone.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ZoneOutlook {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its station.
    pub station: u16,
    /// What its plants ask for.
    pub demand: Millimetres,
    /// What they get of it.
    pub adequacy: Share,
    /// Watering.
    pub applied: Millimetres,
    /// The same in litres, where the area is known.
    pub litres: Option<Litres>,
    /// What of it drains or runs off.
    pub lost: Millimetres,
    /// How it will look.
    pub looks: Looks,
}

/// What the days after a date bring every zone, from the state at the end of an account.
#[must_use]
pub fn outlook(facts: &AccountInputs, account: &SiteAccount, from: Date, days: i32) -> Vec<ZoneOutlook> {
    let until = from.checked_add(days.days()).unwrap_or(from);
    let last = from.checked_add((days - 1).days()).unwrap_or(from);
    let sky =
        SkyHours::of(&facts.climate, facts.site.longitude_deg, &facts.tz, from, end_of(last, &facts.tz));
    let sky = sky.foretold_from(&facts.climate, from);
    let runs: Vec<_> = facts
        .controllers
        .iter()
        .flat_map(|own| {
            let own = foreseeing(own, facts, from, until);
            let number = own.number;
            running(&own, facts.surveys(), &facts.tz, from, until).into_iter().map(move |run| (number, run))
        })
        .filter(|(_, run)| run.run.start >= account.until && !run.is_held())
        .collect();
    let of_zone = |SurveyedZone { zone, resolved }: &crate::site::SurveyedZone| {
        let own = runs.iter().filter(|(n, r)| StationId::new(*n, r.run.station) == zone.station_id());
        let own: Vec<Watering> = joined(own.map(|(_, r)| r.watering()).collect());
        let known = account.zone(zone.station_id());
        let state = known.map_or_else(ZoneState::default, |z| z.end);
        let water = ahead(zone, resolved, &sky, account.until, state, &own).water;
        let (demand, lost) = (water.demand.mm(), water.applied_drained - water.uneven + water.applied_off);
        let adequacy = if demand > 0.0 { water.et.mm() / demand } else { 1.0 };
        ZoneOutlook {
            controller_number: zone.controller_number,
            station: zone.number,
            demand: water.demand,
            adequacy: share(adequacy.clamp(0.0, 1.0)),
            applied: water.applied,
            litres: zone.area.map(|area| water.applied.over(area)),
            lost,
            looks: match () {
                () if adequacy < DRY_BELOW => Looks::Dry,
                () if demand > 0.0 && lost.mm() / demand > WET_ABOVE => Looks::Wet,
                () => Looks::Right,
            },
        }
    };
    facts.zones.iter().map(of_zone).collect()
}

/// A controller whose ET sensor reads, in days that have not come, what is expected.
fn foreseeing<'a>(
    own: &'a ControllerFacts,
    facts: &AccountInputs,
    from: Date,
    until: Date,
) -> Cow<'a, ControllerFacts> {
    if !own.sensors.iter().any(|s| s.sensor.card.senses(Sense::Et)) {
        return Cow::Borrowed(own);
    }
    let mut own = own.clone();
    for sensor in own.sensors.iter_mut().filter(|s| s.sensor.card.senses(Sense::Et)) {
        for date in from.series(1.day()).take_while(|date| *date <= until) {
            sensor.et0.insert(date, facts.climate.expected_et0(date).0);
        }
    }
    Cow::Owned(own)
}
