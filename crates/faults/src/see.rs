//! What a visitor sees of a true world: looks that follow from its account, meters that read what really ran.

use crate::world::World;
use jiff::ToSpan;
use jiff::civil::Date;
use rand::Rng;
use upland_core::account::site_account::{AccountInputs, EvidencePolicy, SiteAccount, begins, of_site};
use upland_core::account::zone::AccountDay;
use upland_core::quantity::units::{Litres, LitresPerMinute};
use upland_core::site::{StationId, SurveyedZone};
use upland_core::tuning::{Looks, ZoneSeen};

/// A visitor leaves so much empty.
pub const LEFT_EMPTY: f64 = 0.08;
/// A visitor takes a zone for what it is not, one step off.
const MISTAKEN: f64 = 0.03;

/// The account of a true world up to the morning of a visit.
#[must_use]
pub fn truth(facts: &AccountInputs, on: Date, at: jiff::Timestamp) -> SiteAccount {
    of_site(facts, EvidencePolicy::AsSet, begins(&facts.climate, on), at, |_, _| ())
}

/// How a zone looks after some days, by their mean stress and by what water came to nothing.
#[must_use]
pub fn looks_of(days: &[AccountDay]) -> Looks {
    let last = &days[days.len().saturating_sub(10)..];
    let sum = |of: fn(&AccountDay) -> f64| last.iter().map(of).sum::<f64>();
    let demand = sum(|d| d.water.demand.mm()).max(0.1);
    let end = days.last().unwrap();
    let rain = days[days.len().saturating_sub(2)..].iter();
    let soaked: f64 = rain.map(|d| (d.water.drainage - d.water.applied_drained).mm()).sum();
    let wasted = sum(|d| (d.water.applied_drained - d.water.uneven + d.water.applied_off).mm());
    if sum(|d| d.water.et.mm()) / demand < 0.88 || end.water.depletion.mm() > 1.2 * end.refill_at.mm() {
        Looks::Dry
    } else if wasted / demand > 0.3 || soaked > 9.0 {
        Looks::Wet
    } else {
        Looks::Right
    }
}

/// A zone as a visitor finds it; whom a fault is planted at is always looked at.
pub fn seen(world: &mut World, account: &SiteAccount, station: u16, certain: bool) -> ZoneSeen {
    let mut out = ZoneSeen { controller_number: 1, station, ..ZoneSeen::default() };
    if !certain && world.rng.random_bool(LEFT_EMPTY) {
        return out;
    }
    let mut looks = looks_of(&account.zone(StationId::new(1, station)).unwrap().days);
    if !certain && world.rng.random_bool(MISTAKEN) {
        looks = match looks {
            Looks::Right if world.rng.random_bool(0.5) => Looks::Dry,
            Looks::Right => Looks::Wet,
            _ => Looks::Right,
        };
    }
    out.looks = Some(looks);
    out
}

/// Water that the runs of a world took between two instants.
#[must_use]
pub fn litres(
    facts: &AccountInputs,
    account: &SiteAccount,
    from: jiff::Timestamp,
    until: jiff::Timestamp,
) -> f64 {
    let of = |SurveyedZone { zone, resolved }: &upland_core::site::SurveyedZone| {
        let flow = resolved.rate.value.flow_over(zone.area.unwrap());
        let own = account.zone(StationId::new(1, zone.number)).unwrap();
        let within = own.waterings.iter().filter(|w| w.from >= from && w.from < until);
        let minutes = |w: &upland_core::account::evidence::Watering| {
            upland_core::quantity::time::Seconds::between(w.from, w.until).minutes()
        };
        within.map(|w| flow.for_time(minutes(w)).l() * w.strength).sum::<f64>()
    };
    facts.zones.iter().map(of).sum()
}

/// What the main meter reads: a reading a week before goes into the log of what is known, and one of today.
pub fn meter(
    world: &mut World,
    known: &mut AccountInputs,
    true_facts: &AccountInputs,
    account: &SiteAccount,
    times: f64,
) -> Option<Litres> {
    if world.rng.random_bool(0.35) {
        return None;
    }
    let before = world.at - 168.hours();
    let used = litres(true_facts, account, before, world.at) * times * world.rng.random_range(0.98..1.02);
    let start = 120_000.0;
    known.log.meter =
        vec![upland_core::account::log::MeterReading { at: before, counted: Litres::from_l(start) }];
    Some(Litres::from_l(start + used))
}

/// What a meter reads while a zone runs.
pub fn flow(
    world: &mut World,
    true_facts: &AccountInputs,
    station: u16,
    times: f64,
) -> Option<LitresPerMinute> {
    let SurveyedZone { zone, resolved } = true_facts.zone(StationId::new(1, station))?;
    let flow =
        resolved.rate.value.flow_over(zone.area?).l_per_min() * times * world.rng.random_range(0.96..1.04);
    Some(LitresPerMinute::from_l_per_min(flow))
}
