//! What is wrong at a sensor: as installed, what it is set to, whom it holds and who does not listen.

use crate::account::running::{ControllerRun, Holder, SensorFacts};
use crate::account::sensed::stands;
use crate::ground::plant::Sky;
use crate::quantity::time::Seconds;
use crate::sensors::mapping::proposed;
use crate::sensors::state::Cause as HoldCause;
use crate::sensors::{COMMON_RAIN_THRESHOLD, Sense};
use crate::tuning::cause::{Cause, Evidence, Settle};
use crate::tuning::picture::{ControllerPicture, LOOK_BACK_DAYS, Picture, ZonePicture};
use crate::tuning::visit::{Looks, Sign};
use crate::tuning::weigh::{Case, Fact, FactId};
use jiff::{SignedDuration, Timestamp};

/// A threshold below this share of the common one is small in itself: 5 mm; 6 mm is not (our stated bound).
const SMALL_SHARE: f64 = 0.4;
/// A rain sensor that is still wet so long after rain is slow; longer, and rain is not why.
const SLOW_DAYS: i32 = 30;
/// Share of a zone's runs that were held from which on that alone makes it dry (our stated bound).
const HELD_MUCH: f64 = 0.3;
/// Share of a probe's windows that it refuses when it is set too low.
const REFUSES_MOST: f64 = 0.6;
/// Windows that say something.
const LEAST_WINDOWS: usize = 3;

/// A sensor of a controller in a picture.
struct Installed<'p, 'a> {
    picture: &'p Picture<'a>,
    own: &'p ControllerPicture<'a>,
    at: usize,
    facts: &'a SensorFacts,
}

impl<'p, 'a> Installed<'p, 'a> {
    fn all(picture: &'p Picture<'a>) -> Vec<Self> {
        let of = |own: &'p ControllerPicture<'a>| {
            let sensors = own.facts.sensors.iter().enumerate();
            sensors.map(move |(at, facts)| Self { picture, own, at, facts })
        };
        picture.controllers.iter().flat_map(of).collect()
    }

    fn number(&self) -> u8 {
        self.own.facts.number
    }

    fn senses(&self, sense: Sense) -> bool {
        self.facts.sensor.card.senses(sense)
    }

    /// Runs of a zone that it held for a cause.
    fn held<'r>(
        &'r self,
        zone: &'r ZonePicture<'a>,
        of: fn(&HoldCause) -> bool,
    ) -> impl Iterator<Item = &'r ControllerRun> {
        let by = move |holder: &Holder| matches!(holder, Holder::Sensor { sensor, hold } if *sensor == self.at && of(&hold.cause));
        zone.held.iter().copied().filter(move |r| r.held_by.iter().any(by))
    }

    fn held_for_rain(&self, zone: &ZonePicture<'a>) -> usize {
        self.held(zone, |c| matches!(c, HoldCause::Rain { .. } | HoldCause::Contact)).count()
    }

    /// Zones that it held for rain in these days.
    fn zones_held(&self) -> Vec<&'p ZonePicture<'a>> {
        self.picture.of_controller(self.number()).filter(|z| self.held_for_rain(z) > 0).collect()
    }

    /// Zones that feel what it feels.
    fn zones_felt(&self) -> Vec<&'p ZonePicture<'a>> {
        let felt =
            |z: &&ZonePicture<'_>| proposed(Sense::Rain, z.zone, None).holds && z.zone.sky == Sky::Open;
        self.picture.of_controller(self.number()).filter(felt).collect()
    }

    /// Whether it should hold by the record.
    fn should_hold(&self) -> bool {
        stands(&self.facts.holds, self.picture.visit.at)
    }

    /// Days since its last hold for rain ended, or since it began when it stands.
    fn dry_days(&self) -> Option<i32> {
        let at = self.picture.visit.at;
        let last =
            self.facts.holds.iter().filter(|h| h.from <= at).filter_map(|h| h.until.or(Some(at))).max()?;
        i32::try_from(at.duration_since(last.min(at)).as_hours() / 24).ok()
    }

    /// Runs of a zone that ran while it held.
    fn ran_in_hold(&self, zone: &ZonePicture<'a>) -> usize {
        let holds = |at: Timestamp| stands(&self.facts.holds, at);
        let runs = self.own.runs.iter().filter(|r| r.run.station == zone.zone.number && !r.is_held());
        let bypassed = |at: Timestamp| self.facts.bypasses.iter().any(|b| b.runs(at));
        runs.filter(|r| holds(r.run.start) && r.waters() > Seconds::ZERO && !bypassed(r.run.start)).count()
    }

    /// Whether it holds and should not: then how it dries is in question, and no threshold explains it.
    fn holds_too_long(&self) -> bool {
        self.picture.sensor(self.facts).and_then(|s| s.holds) == Some(true) && !self.should_hold()
    }

    /// Zones in the rain that it held: of a zone under a roof its map is in question and not its threshold.
    fn zones_held_in_rain(&self) -> Vec<&'p ZonePicture<'a>> {
        self.zones_held().into_iter().filter(|z| z.zone.sky == Sky::Open).collect()
    }

    /// Runs of zones in the rain that it held for less rain than the common threshold.
    fn small_holds(&self) -> usize {
        let small = |c: &HoldCause| matches!(c, HoldCause::Rain { fallen_mm, .. } if *fallen_mm < COMMON_RAIN_THRESHOLD.mm());
        let zones = self.picture.of_controller(self.number()).filter(|z| z.zone.sky == Sky::Open);
        zones.map(|z| self.held(z, small).count()).max().unwrap_or(0)
    }

    fn is_small(&self) -> bool {
        self.facts.sensor.setting.rain_threshold <= COMMON_RAIN_THRESHOLD * SMALL_SHARE
    }

    /// A probe: the zone that it decides for, with windows refused of windows decided.
    fn refusals(&self) -> Option<(&'p ZonePicture<'a>, usize, usize)> {
        let station = self.facts.sensor.placement.probe_station?;
        let zone = self.picture.of_controller(self.number()).find(|z| z.zone.number == station)?;
        let refused = self.held(zone, |c| matches!(c, HoldCause::WetSoil { .. })).count();
        (zone.runs >= LEAST_WINDOWS).then_some((zone, refused, zone.runs))
    }

    /// The lowest and the highest of what a probe read in these days, the outer tenths left out.
    fn probe_range(&self) -> Option<(f64, f64)> {
        let at = self.picture.visit.at;
        let from = at - SignedDuration::from_hours(24 * i64::from(LOOK_BACK_DAYS));
        let mut read: Vec<f64> = self.facts.probe.between(from, at).iter().map(|r| r.value).collect();
        read.sort_by(f64::total_cmp);
        let of = |k: usize| read.get(k).copied();
        Some((of(read.len() / 10)?, of(read.len() - 1 - read.len() / 10)?))
    }
}

/// What a fact costs that only shows where zones look so.
fn by_looks<'a>(zones: impl Iterator<Item = &'a ZonePicture<'a>>, looks: Looks, whole: f64) -> f64 {
    let seen: Vec<Option<Looks>> = zones.map(ZonePicture::looks).collect();
    if seen.contains(&Some(looks)) {
        whole
    } else if seen.iter().all(Option::is_none) {
        whole * 0.4
    } else {
        0.2
    }
}

// Long: one fact after another.
pub(super) fn facts(picture: &Picture<'_>, facts: &mut Vec<Fact>) {
    for hung in Installed::all(picture) {
        let (number, at) = (hung.number(), hung.at);
        let mut put = |id, cost, evidence| facts.push(Fact { id, cost, evidence });
        if let Some(seen) = picture.sensor(hung.facts) {
            if seen.covered == Some(true) {
                put(FactId::Covered(number, at), 6.0, Evidence::Covered);
            }
            if seen.sprayed == Some(true) {
                put(FactId::Sprayed(number, at), 6.0, Evidence::Sprayed);
            }
            match (seen.holds, hung.should_hold()) {
                (Some(true), false) => {
                    let dry_days = hung.dry_days().unwrap_or(99);
                    put(FactId::HoldsTooLong(number, at), 4.0, Evidence::HoldsTooLong { dry_days });
                }
                (Some(false), true) => put(FactId::DoesNotHold(number, at), 4.0, Evidence::DoesNotHold),
                _ => {}
            }
        }
        if hung.senses(Sense::Rain) {
            let runs = hung.small_holds();
            if hung.is_small() && runs >= 1 && !hung.holds_too_long() {
                let cost = by_looks(hung.zones_held_in_rain().into_iter(), Looks::Dry, 3.2);
                let threshold = hung.facts.sensor.setting.rain_threshold;
                let id = FactId::Own(Cause::ThresholdSmall, number, place(at));
                put(id, cost, Evidence::SmallRain { threshold, runs });
            }
            for zone in picture.of_controller(number) {
                let station = zone.zone.number;
                let held = hung.held_for_rain(zone);
                if zone.zone.sky != Sky::Open && held > 0 {
                    // One run of many is no reason to be dry.
                    let counted = |n: usize| u32::try_from(n).map_or(0.0, f64::from);
                    let weighs = (counted(held) / counted(zone.runs).max(1.0) / HELD_MUCH).min(1.0);
                    let cost = by_looks(core::iter::once(zone), Looks::Dry, 3.6) * weighs;
                    let id = FactId::Own(Cause::SensorOnRoofedZone, number, station);
                    put(id, cost, Evidence::HeldUnderRoof(held));
                }
                let ran = hung.ran_in_hold(zone);
                if zone.zone.sky == Sky::Open && ran > 0 {
                    let cost = by_looks(core::iter::once(zone), Looks::Wet, 3.6);
                    put(FactId::Own(Cause::SensorIgnored, number, station), cost, Evidence::RanInHold(ran));
                }
            }
        }
        if let Some((zone, refused, of)) = hung.refusals().filter(|_| hung.senses(Sense::SoilMoisture)) {
            let evidence = Evidence::Refused { windows: refused, of };
            let one = || core::iter::once(zone);
            if refused == 0 {
                let id = FactId::Own(Cause::ProbeThresholdHigh, number, place(at));
                put(id, by_looks(one(), Looks::Wet, 3.4), evidence);
            } else if (u32::try_from(refused).map_or(0.0, f64::from))
                >= REFUSES_MOST * u32::try_from(of).map_or(1.0, f64::from)
            {
                let id = FactId::Own(Cause::ProbeThresholdLow, number, place(at));
                put(id, by_looks(one(), Looks::Dry, 3.4), evidence);
            }
        }
    }
}

/// The place of a sensor of a controller, where a station would stand.
fn place(at: usize) -> u16 {
    u16::try_from(at).unwrap_or(u16::MAX)
}

pub(super) fn cases(picture: &Picture<'_>, cases: &mut Vec<Case>) {
    for hung in Installed::all(picture) {
        if hung.senses(Sense::Rain) {
            cases.extend([sheltered(&hung), sprayed(&hung), slow(&hung)]);
            cases.extend(small(&hung));
            cases.extend(roofed(&hung));
            cases.extend(ignored(&hung));
        }
        if hung.senses(Sense::SoilMoisture) {
            cases.extend(probe(&hung));
        }
    }
}

fn new(hung: &Installed<'_, '_>, cause: Cause, rare: f64, settle: Settle) -> Case {
    Case::new(cause, rare, settle).at_sensor(hung.number(), &hung.facts.sensor.name)
}

fn meter(case: &mut Case, picture: &Picture<'_>, more: bool) {
    let Some(ratio) = picture.meter else { return };
    if (more && ratio > 1.1) || (!more && ratio < 0.9) {
        case.explains(FactId::Meter);
    } else {
        case.say(-0.5, Evidence::Meter(ratio));
    }
}

/// Where it was looked at and is installed in the open, it is neither covered nor sprayed.
fn hangs_free(case: &mut Case, shown: Option<bool>) {
    match shown {
        Some(true) => {}
        Some(false) => case.say(-4.0, Evidence::HangsFree),
        None => case.say(-0.5, Evidence::HangsFree),
    }
}

/// It holds what should run, or lets run what it should hold: zones look so, or not yet.
fn makes(case: &mut Case, zones: &[&ZonePicture<'_>], looks: Looks) {
    for zone in zones {
        if zone.looks() != Some(Looks::Right) {
            case.makes(zone.key(), looks);
        }
        case.explains(FactId::Sign(zone.key(), Sign::AfterRain));
    }
}

fn sheltered(hung: &Installed<'_, '_>) -> Case {
    let mut case = new(hung, Cause::GaugeSheltered, 3.8, Settle::LookAtSensor);
    let seen = hung.picture.sensor(hung.facts);
    case.explains(FactId::Covered(hung.number(), hung.at));
    case.explains(FactId::DoesNotHold(hung.number(), hung.at));
    hangs_free(&mut case, seen.and_then(|s| s.covered));
    if seen.and_then(|s| s.holds) == Some(true) && hung.should_hold() {
        case.say(-3.0, Evidence::SensorAsRecord);
    }
    // A bypass that was read explains by itself why nothing was held.
    if hung.own.seen.and_then(|b| b.bypassed) == Some(true) {
        case.say(-3.0, Evidence::Bypassed);
    }
    let held = hung.zones_held();
    if held.is_empty() {
        case.say(-0.8, Evidence::HeldRuns(0));
    } else {
        makes(&mut case, &held, Looks::Wet);
        meter(&mut case, hung.picture, true);
    }
    case
}

fn sprayed(hung: &Installed<'_, '_>) -> Case {
    let mut case = new(hung, Cause::GaugeSprayed, 3.8, Settle::LookAtSensor);
    let seen = hung.picture.sensor(hung.facts);
    case.explains(FactId::Sprayed(hung.number(), hung.at));
    case.explains(FactId::HoldsTooLong(hung.number(), hung.at));
    hangs_free(&mut case, seen.and_then(|s| s.sprayed));
    if seen.and_then(|s| s.holds) == Some(false) {
        case.say(-1.5, Evidence::SensorAsRecord);
    }
    makes(&mut case, &hung.zones_felt(), Looks::Dry);
    meter(&mut case, hung.picture, false);
    case
}

fn slow(hung: &Installed<'_, '_>) -> Case {
    let mut case = new(hung, Cause::SensorSlowToDry, 3.6, Settle::TripTest);
    let seen = hung.picture.sensor(hung.facts);
    case.explains(FactId::HoldsTooLong(hung.number(), hung.at));
    match hung.dry_days() {
        Some(days) if days <= SLOW_DAYS => {}
        _ => case.say(-3.0, Evidence::HeldRuns(0)),
    }
    if seen.and_then(|s| s.holds) == Some(false) {
        case.say(-1.5, Evidence::SensorAsRecord);
    }
    if seen.and_then(|s| s.holds).is_none() {
        case.say(-0.5, Evidence::SensorAsRecord);
    }
    makes(&mut case, &hung.zones_felt(), Looks::Dry);
    meter(&mut case, hung.picture, false);
    case
}

fn small(hung: &Installed<'_, '_>) -> Option<Case> {
    if !hung.is_small() || hung.small_holds() == 0 || hung.holds_too_long() {
        return None;
    }
    // A larger threshold lets more run: it never mends ground that is too wet.
    if hung.zones_held_in_rain().iter().any(|z| z.looks() == Some(Looks::Wet) && !z.rained) {
        return None;
    }
    let mut case = new(hung, Cause::ThresholdSmall, 2.4, Settle::LookAtSensor);
    case.explains(FactId::Own(Cause::ThresholdSmall, hung.number(), place(hung.at)));
    for zone in hung.zones_held_in_rain() {
        if zone.looks() == Some(Looks::Dry) {
            case.makes(zone.key(), Looks::Dry);
        }
        case.explains(FactId::Sign(zone.key(), Sign::AfterRain));
    }
    Some(case)
}

fn roofed(hung: &Installed<'_, '_>) -> Vec<Case> {
    let roofed = hung.picture.of_controller(hung.number()).filter(|z| z.zone.sky != Sky::Open);
    let held = roofed.filter(|z| hung.held_for_rain(z) > 0);
    held.map(|zone| {
        let mut case = Case::new(Cause::SensorOnRoofedZone, 2.4, Settle::LookAtSensor).at_zone(zone.key());
        case.sensor = Some(hung.facts.sensor.name.clone());
        case.explains(FactId::Own(Cause::SensorOnRoofedZone, hung.number(), zone.zone.number));
        case.explains(FactId::Sign(zone.key(), Sign::AfterRain));
        case.makes(zone.key(), Looks::Dry);
        case
    })
    .collect()
}

/// Zones that run through a hold: by what is known of the controller, or, where nothing is known, all of them.
fn ignored(hung: &Installed<'_, '_>) -> Vec<Case> {
    let zones = hung.picture.of_controller(hung.number()).filter(|z| z.zone.sky == Sky::Open);
    let known = zones.filter(|z| hung.ran_in_hold(z) > 0).map(|zone| {
        let mut case = Case::new(Cause::SensorIgnored, 2.4, Settle::TripTest).at_zone(zone.key());
        case.sensor = Some(hung.facts.sensor.name.clone());
        case.explains(FactId::Own(Cause::SensorIgnored, hung.number(), zone.zone.number));
        case.explains(FactId::Sign(zone.key(), Sign::AfterRain));
        if zone.looks() == Some(Looks::Wet) {
            case.makes(zone.key(), Looks::Wet);
        }
        case
    });
    let mut out: Vec<Case> = known.collect();
    let held = hung.zones_held();
    if !held.is_empty() {
        let mut case = new(hung, Cause::SensorIgnored, 3.8, Settle::TripTest);
        let seen = hung.picture.sensor(hung.facts);
        makes(&mut case, &held, Looks::Wet);
        meter(&mut case, hung.picture, true);
        match (seen.and_then(|s| s.holds), hung.should_hold()) {
            (Some(true), true) => case.say(1.0, Evidence::SensorAsRecord),
            (Some(false), true) => case.say(-1.0, Evidence::DoesNotHold),
            _ => {}
        }
        if seen.is_some_and(|s| s.covered == Some(false)) {
            case.say(0.5, Evidence::HangsFree);
        }
        out.push(case);
    }
    out
}

/// A soil probe that refuses too late or too early.
fn probe(hung: &Installed<'_, '_>) -> Option<Case> {
    let (zone, refused, of) = hung.refusals()?;
    let threshold_pct = hung.facts.sensor.setting.soil_threshold_pct?;
    let range = hung.probe_range();
    let against = range.map(|(refill_pct, full_pct)| Evidence::ThresholdAgainst {
        threshold_pct,
        full_pct,
        refill_pct,
    });
    let counted = |n: usize| u32::try_from(n).map_or(0.0, f64::from);
    let (cause, looks, fits) = if refused == 0 {
        (Cause::ProbeThresholdHigh, Looks::Wet, range.is_some_and(|(_, full)| threshold_pct > full))
    } else if counted(refused) >= REFUSES_MOST * counted(of) {
        (
            Cause::ProbeThresholdLow,
            Looks::Dry,
            range.is_some_and(|(low, full)| threshold_pct < (low + full) / 2.0),
        )
    } else {
        return None;
    };
    let mut case = new(hung, cause, 2.8, Settle::ProbeTrace);
    case.explains(FactId::Own(cause, hung.number(), place(hung.at)));
    // Where a probe refuses, the run times are more than the zone needs on purpose.
    case.explains(FactId::Alone(zone.key()));
    if zone.looks() == Some(looks) {
        case.makes(zone.key(), looks);
    }
    if let Some(evidence) = against {
        case.say(if fits { 1.0 } else { -1.0 }, evidence);
    }
    Some(case)
}
