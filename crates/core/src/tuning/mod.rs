//! Tuning: one to two weeks after a set-up somebody looks, and it is decided which adjustment to make.
//!
//! A visit ([`Visit`]) is what was seen. [`diagnose`] lays it beside the account and ranks a closed list of causes,
//! each with what speaks for and against it and what would settle it. [`levers`] turns the likely ones into one
//! change each, in the steps of the controller, with what it does to every zone. Faults come before settings, one zone
//! before all, an ET sensor's trim before its climate setting (common practice).

mod cause;
mod correction;
mod dated;
mod days;
mod diagnosed;
mod lever;
mod lever_kind;
mod nights;
mod outlook;
mod picture;
mod rules;
mod visit;
mod weigh;
mod why;

pub use cause::{Cause, Evidence, Settle, Suspicion};
pub use correction::{Correction, Kind as CorrectionKind, Outcome, corrections, outcomes};
pub use dated::{DatedStep, Step, dated_steps};
pub use diagnosed::as_diagnosed;
pub use lever::{TrialChange, levers, turned};
pub use lever_kind::{Amount, Lever, LeverCode, ProgramPercentage, Turn};
pub use nights::{NIGHTS, Night, Read, et_sensor, read as read_nights};
pub use outlook::{ZoneOutlook, outlook};
pub use picture::{LOOK_BACK_DAYS, expected_look};
pub use visit::{
    Battery, Clash, ControllerSeen, Looks, Plants, ProgramSeen, Said, SensorSeen, Sign, Visit, ZoneSeen,
    controllers_together, sensors_together, zones_together,
};
pub use why::{HeldFor, Reason, Why, why};

use crate::account::site_account::{AccountInputs, EvidencePolicy, SiteAccount, begins, of_site};
use crate::quantity::ratio::Share;
use crate::site::StationId;
use jiff::ToSpan;
use jiff::civil::Date;
use picture::Picture;
use std::borrow::Cow;

/// A zone that does not look as the account expects.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Contradiction {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its station.
    pub station: u16,
    /// How it looks.
    pub seen: Looks,
    /// How the account expects it.
    pub expected: Looks,
}

/// What a visit comes to.
#[derive(Debug, Clone, PartialEq)]
pub struct Diagnosis {
    /// Causes, the likeliest first; those that are hardly possible are left out.
    pub causes: Vec<Suspicion>,
    /// The likely ones, one for each thing that is off, in the order in which to see to them: by place in `causes`.
    pub chosen: Vec<usize>,
    /// Zones that look otherwise than the account expects.
    pub contradictions: Vec<Contradiction>,
    /// Zones, by controller and station, whose looks and reading cannot both be so: read again.
    pub doubtful: Vec<StationId>,
    /// What each zone, by controller and station, gets of what it asks for as it is set; rain left out.
    pub gets: Vec<(StationId, Option<Share>)>,
    /// What each controller's zones get in the middle of what they ask for, as it is set.
    pub middle: Vec<(u8, Option<Share>)>,
}

/// A cause with a smaller share is not shown.
const LEAST_SHARE: f64 = 0.005;

/// The account of a site up to a visit, without what the visit itself found: what was expected.
#[must_use]
pub fn account_at(facts: &AccountInputs, visit: &Visit) -> SiteAccount {
    let date = visit.at.to_zoned(facts.tz.clone()).date();
    let before = visit.at - picture::OF_THE_VISIT;
    let mut facts = Cow::Borrowed(facts);
    if facts.log.meter.iter().any(|m| m.at >= before)
        || facts.log.readings.iter().any(|r| r.reading.at >= before)
    {
        let log = &mut facts.to_mut().log;
        log.meter.retain(|m| m.at < before);
        log.readings.retain(|r| r.reading.at < before);
    }
    of_site(&facts, EvidencePolicy::Best, begins(&facts.climate, date), visit.at, |_, _| ())
}

/// Ranks the causes of what was seen. The account must be that of the site up to the visit ([`account_at`]).
#[must_use]
pub fn diagnose(facts: &AccountInputs, account: &SiteAccount, visit: &Visit) -> Diagnosis {
    let picture = Picture::of(facts, account, visit);
    let (seen, cases) = rules::all(&picture);
    let weighed = weigh::weigh(&picture, &seen, cases);
    let contradiction = |zone: &picture::ZonePicture<'_>| {
        let seen = zone.looks().filter(|seen| *seen != zone.expected)?;
        let StationId { controller, station } = zone.key();
        Some(Contradiction { controller_number: controller, station, seen, expected: zone.expected })
    };
    let contradictions = picture.zones.iter().filter_map(contradiction).collect();
    let doubtful = picture.zones.iter().filter(|z| z.is_doubtful()).map(picture::ZonePicture::key).collect();
    let gets = picture.zones.iter().map(|z| (z.key(), z.gets.map(Share::from_fraction))).collect();
    let middle = picture.controllers.iter();
    let middle = middle.map(|b| (b.facts.number, b.middle.map(Share::from_fraction))).collect();
    let weigh::Weighed { suspicions, chosen } = weighed;
    let shown =
        |at: &usize, s: &Suspicion| chosen.contains(at) || s.share.fraction() >= LEAST_SHARE || *at == 0;
    let kept: Vec<usize> =
        suspicions.iter().enumerate().filter(|(at, s)| shown(at, s)).map(|(at, _)| at).collect();
    let place = |at: &usize| kept.iter().position(|k| k == at);
    let mut chosen: Vec<usize> = chosen.iter().filter_map(place).collect();
    let causes: Vec<Suspicion> =
        suspicions.into_iter().enumerate().filter(|(at, _)| kept.contains(at)).map(|(_, s)| s).collect();
    // Faults first, one zone before all (common practice).
    chosen.sort_by_key(|at| causes.get(*at).map(|s| (s.cause.rank(), *at)));
    Diagnosis { causes, chosen, contradictions, doubtful, gets, middle }
}

/// An adjustment with what it does to every zone in the next two and four weeks.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposed {
    /// The adjustment.
    pub lever: Lever,
    /// As the controllers stand.
    pub as_is: [Vec<ZoneOutlook>; 2],
    /// With the adjustment turned.
    pub turned: [Vec<ZoneOutlook>; 2],
}

/// Days that an adjustment's effect is forecast for: two weeks and four.
pub const OUTLOOK_DAYS: [i32; 2] = [14, 28];

/// What a visit comes to, and what to do.
#[derive(Debug, Clone, PartialEq)]
pub struct Decision {
    /// The causes.
    pub diagnosis: Diagnosis,
    /// The adjustments, in the order in which to make them.
    pub levers: Vec<Proposed>,
    /// Changes to try beside a measurement, at zones that look dry and should not.
    pub trials: Vec<TrialChange>,
    /// Where nothing is proposed: zones that are expected to dry out in the next two weeks as everything is set.
    pub stress_ahead: Vec<ZoneOutlook>,
    /// When to look again: as early as the first adjustment asks, else in four weeks.
    pub look_again: Date,
}

/// Days until the next look when nothing is wrong.
const ALL_WELL_DAYS: i32 = 28;

/// Diagnoses a visit and forecasts what each adjustment does, by the diagnosis' own parameters. An adjustment is offered only where
/// zones that are off come nearer to their need by it and none that is right leaves. The account must be that of the site
/// up to the visit.
#[must_use]
pub fn decide(facts: &AccountInputs, account: &SiteAccount, visit: &Visit) -> Decision {
    let diagnosis = diagnose(facts, account, visit);
    let levers = levers(facts, account, visit, &diagnosis);
    let trials = lever::trials(facts, account, visit, &diagnosis);
    let date = visit.at.to_zoned(facts.tz.clone()).date();
    let told = |facts: &AccountInputs| OUTLOOK_DAYS.map(|days| outlook(facts, account, date, days));
    // What was set after the visit, an adjustment of it perhaps, is no part of what was forecast.
    let mut facts = Cow::Borrowed(facts);
    if facts.controllers.iter().any(|b| b.versions.iter().any(|(since, _)| *since > visit.at)) {
        let controllers = facts.to_mut().controllers.iter_mut();
        controllers.for_each(|b| b.versions.retain(|(since, _)| *since <= visit.at));
    }
    let facts = &*facts;
    let causes: Vec<&Suspicion> =
        diagnosis.chosen.iter().filter_map(|at| diagnosis.causes.get(*at)).collect();
    let as_is = told(&as_diagnosed(facts, visit, &causes, None));
    let proposed = levers.into_iter().map(|lever| {
        let then = turned(facts, &lever, visit.at);
        let then = told(&as_diagnosed(&then, visit, &causes, Some(&lever)));
        Proposed { lever, as_is: as_is.clone(), turned: then }
    });
    let levers: Vec<Proposed> = proposed.filter(|p| p.is_worth_it(visit)).collect();
    let soonest = levers.iter().map(|p| p.lever.look_again).min();
    let stress_ahead: Vec<ZoneOutlook> = match levers.is_empty() {
        true => as_is.first().into_iter().flatten().filter(|z| z.looks == Looks::Dry).copied().collect(),
        false => Vec::new(),
    };
    let later = if stress_ahead.is_empty() { ALL_WELL_DAYS } else { STRESS_AHEAD_DAYS };
    let later = date.checked_add(later.days()).unwrap_or(date);
    Decision { diagnosis, levers, trials, stress_ahead, look_again: soonest.unwrap_or(later) }
}

/// Days until the next look where a zone is expected to dry out.
const STRESS_AHEAD_DAYS: i32 = 7;
/// A change of what plants get, or of what is lost over their demand, that is none.
const NO_CHANGE: f64 = 0.005;

impl Proposed {
    /// Whether zones that are off come nearer by it and none that is right leaves. What is done by hand, and what no
    /// forecast without rain shows, is not judged by it.
    fn is_worth_it(&self, visit: &Visit) -> bool {
        let [_, before] = &self.as_is;
        let [_, after] = &self.turned;
        let pairs = || before.iter().zip(after);
        let lost = |z: &ZoneOutlook| z.lost.mm() / z.demand.mm().max(f64::MIN_POSITIVE);
        let moved = |(a, b): (&ZoneOutlook, &ZoneOutlook)| {
            (a.adequacy.fraction() - b.adequacy.fraction()).abs() > NO_CHANGE
                || (lost(a) - lost(b)).abs() > NO_CHANGE
        };
        if self.lever.turn == Turn::ByHand || !pairs().any(moved) {
            return true;
        }
        let seen = |z: &ZoneOutlook| {
            visit.zone(StationId::new(z.controller_number, z.station)).and_then(|s| s.looks)
        };
        let leaves = |(a, b): (&ZoneOutlook, &ZoneOutlook)| {
            a.looks == Looks::Right
                && b.looks != Looks::Right
                && seen(a).is_none_or(|looks| looks == Looks::Right)
        };
        let nearer = |(a, b): (&ZoneOutlook, &ZoneOutlook)| match (a.looks, seen(a)) {
            (Looks::Dry, _) | (Looks::Right, Some(Looks::Dry)) => {
                b.adequacy.fraction() > a.adequacy.fraction() + NO_CHANGE
            }
            (Looks::Wet, _) | (Looks::Right, Some(Looks::Wet)) => {
                lost(b) < lost(a) - NO_CHANGE || b.applied < a.applied
            }
            _ => false,
        };
        !pairs().any(leaves) && pairs().any(nearer)
    }
}
