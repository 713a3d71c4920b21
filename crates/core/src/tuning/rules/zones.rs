//! What is wrong at a zone: valve, heads, pressure, survey, one zone's run time, the main.

use crate::ground::soil::Texture;
use crate::quantity::ratio::Share;
use crate::quantity::time::Seconds;
use crate::site::Origin;
use crate::tuning::cause::{Cause, Evidence, Settle};
use crate::tuning::picture::{Picture, ZonePicture, middle};
use crate::tuning::visit::{Looks, Sign};
use crate::tuning::weigh::{Case, Fact, FactId};

/// What a sign costs a story that does not explain it.
fn cost_of(sign: Sign) -> f64 {
    match sign {
        // What is seen with one's own eyes is acted on, whatever else there is.
        Sign::NoWater | Sign::RunsWhenOff | Sign::Broken | Sign::Leaning => 6.0,
        Sign::Blocked | Sign::OtherPlants | Sign::Runoff => 5.5,
        Sign::OtherRunning => 4.5,
        Sign::WeakSpray => 3.5,
        Sign::DryPatches | Sign::WetPatches => 1.0,
        Sign::AfterRain => 1.2,
    }
}

/// A flow within these shares of the expected is as expected (a meter is read to a few percent; areas and rates are
/// no better: our stated bounds).
const FLOW_AS_EXPECTED: (f64, f64) = (0.82, 1.2);
/// Less than this share of the expected flow is none.
const NO_FLOW: f64 = 0.1;
/// A zone stands alone when it gets so many times more or less than the middle of the others.
const ALONE: f64 = 1.3;
/// And, against what it asks for, so much less or more.
const SHORT: f64 = 0.8;
/// A cycle counts as too long from so many times the longest on: intake is not known better (our stated bound).
const CYCLE_OVER: f64 = 1.1;
/// A zone that looks dry and gets less than this of what it asks for lacks water (our stated bound).
const LACKS: f64 = 0.9;
const MUCH: f64 = 1.28;
/// The main meter between these shares of the expected says nothing (run times are kept to some percent).
const METER_AS_EXPECTED: (f64, f64) = (0.88, 1.12);

// Long: one kind of fact after another.
pub(super) fn facts(picture: &Picture<'_>, facts: &mut Vec<Fact>) {
    for zone in &picture.zones {
        let key = zone.key();
        // "Only since the rain" after rain says no more than that it rained.
        let said = |sign: &&Sign| !(**sign == Sign::AfterRain && zone.rained);
        for sign in zone.seen.iter().flat_map(|s| &s.signs).filter(said) {
            facts.push(Fact {
                id: FactId::Sign(key, *sign),
                cost: cost_of(*sign),
                evidence: Evidence::Sign(*sign),
            });
        }
        if let Some(ratio) = zone.flow_ratio()
            && !(FLOW_AS_EXPECTED.0..=FLOW_AS_EXPECTED.1).contains(&ratio)
        {
            facts.push(Fact { id: FactId::Flow(key), cost: 4.0, evidence: Evidence::Flow(ratio) });
        }
        if let Some(found) = zone.seen.and_then(|s| s.soil).filter(|found| *found != zone.zone.soil) {
            let evidence = Evidence::SoilFound { found, surveyed: zone.zone.soil };
            facts.push(Fact { id: FactId::Soil(key), cost: 4.5, evidence });
        }
        if let Some((gets, others)) = alone(picture, zone) {
            // It counts as far as the zone looks so, the more the further it stands apart.
            let apart = (gets.max(0.05) / others.max(0.05)).ln().abs();
            let cost = match (zone.looks(), gets < 1.0) {
                (Some(Looks::Dry), true) | (Some(Looks::Wet), false) => (3.2 + 1.2 * apart).min(5.5),
                (None, _) => 1.5,
                _ => 0.2,
            };
            let evidence =
                Evidence::Gets { share: Share::from_fraction(gets), others: Share::from_fraction(others) };
            facts.push(Fact { id: FactId::Alone(key), cost, evidence });
        }
        if let Some(gets) = short(picture, zone) {
            facts.push(Fact {
                id: FactId::Short(key),
                cost: 3.2,
                evidence: Evidence::AllGet(Share::from_fraction(gets)),
            });
        }
        if let Some((set, longest)) = long_cycle(picture, zone) {
            let id = FactId::Own(Cause::RunoffCycles, key.controller, key.station);
            let off = zone.looks() == Some(Looks::Dry) || zone.has(Sign::Runoff);
            facts.push(Fact {
                id,
                cost: if off { 3.4 } else { 0.3 },
                evidence: Evidence::Cycle { set, longest },
            });
        }
        if let Some((shown, known)) = other_minutes(picture, zone) {
            let evidence = Evidence::ControllerShowsMinutes { shown, known };
            facts.push(Fact { id: FactId::Minutes(key), cost: 4.5, evidence });
        }
    }
    if let Some(meter) = picture.meter
        && !(METER_AS_EXPECTED.0..=METER_AS_EXPECTED.1).contains(&meter)
    {
        let evidence = if meter < NO_FLOW { Evidence::MeterStill } else { Evidence::Meter(meter) };
        facts.push(Fact { id: FactId::Meter, cost: 4.0, evidence });
    }
    if picture.visit.wet_elsewhere {
        facts.push(Fact { id: FactId::WetElsewhere, cost: 4.5, evidence: Evidence::WetElsewhere });
    }
}

/// What a zone gets of what it asks for, where it looks dry as the account has it: then its schedule is the cause.
fn short(picture: &Picture<'_>, zone: &ZonePicture<'_>) -> Option<f64> {
    let gets = zone.gets.filter(|g| *g > 0.0 && *g < LACKS)?;
    let dry = zone.looks() == Some(Looks::Dry) && zone.expected == Looks::Dry;
    (dry && zone.held.is_empty() && alone(picture, zone).is_none()).then_some(gets)
}

/// The longest cycle of a zone and the longest that its soil takes, where that is shorter.
fn long_cycle(picture: &Picture<'_>, zone: &ZonePicture<'_>) -> Option<(Seconds, Seconds)> {
    let own = picture.controllers.iter().find(|b| b.facts.number == zone.zone.controller_number)?;
    let longest = own.there.zone(zone.zone.number)?.longest_cycle()?;
    let set = own.runs.iter().filter(|r| r.run.station == zone.zone.number).map(|r| r.run.length()).max()?;
    let over = set.minutes().min_value() > CYCLE_OVER * longest.minutes().min_value();
    over.then_some((set, longest))
}

/// What a zone gets of what it asks for, and the middle of the others, when it stands alone.
fn alone(picture: &Picture<'_>, zone: &ZonePicture<'_>) -> Option<(f64, f64)> {
    let gets = zone.gets?;
    let own_controller =
        || picture.of_controller(zone.zone.controller_number).filter(|z| z.key() != zone.key());
    // Zones of one program share its percentage and days: what they share is no zone's own.
    let mates: Vec<f64> =
        own_controller().filter(|z| z.programs == zone.programs).filter_map(|z| z.gets).collect();
    let others = if mates.is_empty() { own_controller().filter_map(|z| z.gets).collect() } else { mates };
    let others = middle(others)?;
    let off = (gets < SHORT && others > gets * ALONE) || (gets > MUCH && gets > others * ALONE);
    off.then_some((gets, others))
}

/// The run time that a controller shows for a zone, and the known one, where they differ.
fn other_minutes(picture: &Picture<'_>, zone: &ZonePicture<'_>) -> Option<(Seconds, Seconds)> {
    let own = picture.controllers.iter().find(|b| b.facts.number == zone.zone.controller_number)?;
    let (seen, settings) = (own.seen?, own.settings?);
    seen.programs.iter().find_map(|(program, seen)| {
        let shown = *seen.minutes.get(&zone.zone.number)?;
        let known = settings.run_time(*program, zone.zone.number);
        (shown != known).then_some((shown, known))
    })
}

pub(super) fn cases(picture: &Picture<'_>, cases: &mut Vec<Case>) {
    for zone in &picture.zones {
        let off = zone.looks().is_some_and(|looks| looks != Looks::Right) || zone.looked_at();
        let read = long_cycle(picture, zone).is_some()
            || zone.flow_ratio().is_some()
            || zone.seen.is_some_and(|s| s.soil.is_some());
        if off || read {
            cases.push(no_water(picture, zone));
            cases.push(valve_open(picture, zone));
            cases.push(broken_head(picture, zone));
            cases.push(blocked_heads(picture, zone));
            cases.push(runoff(picture, zone));
            survey(picture, zone, cases);
        }
        minutes(picture, zone, cases);
    }
    cases.push(low_pressure(picture));
    cases.push(leak(picture));
}

/// What a meter that was read while the zone ran says of a story that foretells a flow between two shares.
fn flow(case: &mut Case, zone: &ZonePicture<'_>, told: (f64, f64)) {
    let Some(ratio) = zone.flow_ratio() else { return };
    let as_expected = (FLOW_AS_EXPECTED.0..=FLOW_AS_EXPECTED.1).contains(&ratio);
    if (told.0..=told.1).contains(&ratio) {
        case.explains(FactId::Flow(zone.key()));
    } else if as_expected {
        case.say(-3.0, Evidence::Flow(ratio));
    }
}

/// What the main meter says of a story in which more or less runs than is known.
fn meter(case: &mut Case, picture: &Picture<'_>, more: bool) {
    let Some(ratio) = picture.meter else { return };
    if (more && ratio > METER_AS_EXPECTED.1) || (!more && ratio < METER_AS_EXPECTED.0) {
        case.explains(FactId::Meter);
    } else {
        case.say(-0.7, Evidence::Meter(ratio));
    }
}

fn no_water(picture: &Picture<'_>, zone: &ZonePicture<'_>) -> Case {
    let mut case = Case::new(Cause::NoWater, 3.7, Settle::RunZone).at_zone(zone.key());
    case.makes(zone.key(), Looks::Dry);
    case.shows(picture, zone.key(), Sign::NoWater);
    flow(&mut case, zone, (0.0, NO_FLOW));
    meter(&mut case, picture, false);
    if zone.runs == 0 && zone.gets.is_none_or(|g| g <= 0.0) {
        case.say(-3.0, Evidence::AllGet(Share::NONE));
    }
    case
}

fn valve_open(picture: &Picture<'_>, zone: &ZonePicture<'_>) -> Case {
    let mut case = Case::new(Cause::ValveOpen, 4.0, Settle::WatchMeter).at_zone(zone.key());
    case.makes(zone.key(), Looks::Wet);
    case.shows(picture, zone.key(), Sign::RunsWhenOff);
    case.explains(FactId::Sign(zone.key(), Sign::WetPatches));
    meter(&mut case, picture, true);
    case
}

fn broken_head(picture: &Picture<'_>, zone: &ZonePicture<'_>) -> Case {
    let mut case = Case::new(Cause::BrokenHead, 3.8, Settle::RunZone).at_zone(zone.key());
    case.shows(picture, zone.key(), Sign::Broken);
    for sign in [Sign::Leaning, Sign::WetPatches, Sign::DryPatches, Sign::WeakSpray, Sign::Runoff] {
        case.explains(FactId::Sign(zone.key(), sign));
    }
    if zone.has(Sign::Broken) {
        // Wet at the break, dry behind it: both are what it shows.
        if let Some(looks) = zone.looks() {
            case.makes(zone.key(), looks);
        }
    }
    flow(&mut case, zone, (1.1, 9.0));
    case.explains(FactId::Meter);
    case
}

fn blocked_heads(picture: &Picture<'_>, zone: &ZonePicture<'_>) -> Case {
    let mut case = Case::new(Cause::BlockedHeads, 3.8, Settle::RunZone).at_zone(zone.key());
    case.shows(picture, zone.key(), Sign::Blocked);
    for sign in [Sign::DryPatches, Sign::Leaning, Sign::WeakSpray] {
        case.explains(FactId::Sign(zone.key(), sign));
    }
    if zone.looks() != Some(Looks::Right) {
        case.makes(zone.key(), Looks::Dry);
    }
    flow(&mut case, zone, (NO_FLOW, 0.9));
    meter(&mut case, picture, false);
    case
}

fn runoff(picture: &Picture<'_>, zone: &ZonePicture<'_>) -> Case {
    let mut case = Case::new(Cause::RunoffCycles, 3.2, Settle::WatchCycle).at_zone(zone.key());
    match long_cycle(picture, zone) {
        // That the cycles are too long is known, whether or not somebody saw the water run.
        Some(_) => {
            case.explains(FactId::Own(Cause::RunoffCycles, zone.zone.controller_number, zone.zone.number));
            case.explains(FactId::Sign(zone.key(), Sign::Runoff));
        }
        None => case.shows(picture, zone.key(), Sign::Runoff),
    }
    case.explains(FactId::Sign(zone.key(), Sign::DryPatches));
    if zone.looks() == Some(Looks::Dry) {
        case.makes(zone.key(), Looks::Dry);
    }
    let own = picture.controllers.iter().find(|b| b.facts.number == zone.zone.controller_number);
    let there = own.and_then(|b| b.there.zone(zone.zone.number)).and_then(|z| z.longest_cycle());
    let runs = own.map_or(&[][..], |b| b.runs).iter().filter(|r| r.run.station == zone.zone.number);
    let set = runs.map(|r| r.run.length()).max();
    match (set, there) {
        (Some(set), Some(longest)) if set > longest => case.say(1.0, Evidence::Cycle { set, longest }),
        (Some(_), _) => case.say(-1.5, Evidence::CyclesFit),
        _ => {}
    }
    case
}

/// Whether something in a zone is seen that a wrong survey does not explain.
fn has_fault(zone: &ZonePicture<'_>) -> bool {
    [Sign::NoWater, Sign::RunsWhenOff, Sign::Broken, Sign::Blocked, Sign::WeakSpray]
        .iter()
        .any(|s| zone.has(*s))
}

/// What the survey may say wrongly: rate, plants, soil. All make a zone look otherwise than the account expects.
fn survey(picture: &Picture<'_>, zone: &ZonePicture<'_>, cases: &mut Vec<Case>) {
    let key = zone.key();
    let looks = zone.looks().filter(|looks| *looks != Looks::Right);
    let mut rate = Case::new(Cause::RateWrong, 3.0, Settle::Cans).at_zone(key);
    let mut plants = Case::new(Cause::PlantsWrong, 3.4, Settle::LookAtPlants).at_zone(key);
    let mut soil = Case::new(Cause::SoilWrong, 3.6, Settle::Spade).at_zone(key);
    if let Some(looks) = looks {
        rate.makes(key, looks);
        plants.makes(key, looks);
        soil.makes(key, looks);
    }
    if let Some(ratio) = zone.flow_ratio() {
        match looks {
            // Less water than thought, and dry: or more, and wet.
            Some(Looks::Dry) => flow(&mut rate, zone, (NO_FLOW, FLOW_AS_EXPECTED.0)),
            Some(_) => flow(&mut rate, zone, (FLOW_AS_EXPECTED.1, 5.0)),
            None => flow(&mut rate, zone, (NO_FLOW, 5.0)),
        }
        if (FLOW_AS_EXPECTED.0..=FLOW_AS_EXPECTED.1).contains(&ratio) {
            plants.say(0.4, Evidence::Flow(ratio));
        }
    }
    match zone.resolved.rate.origin {
        Origin::Default(_) => rate.say(0.6, Evidence::RateIsDefault),
        Origin::Given => rate.say(-1.2, Evidence::RateMeasured(zone.resolved.rate.value)),
    }
    plants.shows(picture, key, Sign::OtherPlants);
    if zone.resolved.coefficients.is_default() {
        plants.say(0.1, Evidence::CoefficientIsDefault);
    }
    match zone.seen.and_then(|s| s.soil) {
        Some(found) if found != zone.zone.soil => {
            soil.explains(FactId::Soil(key));
            if holds_less(found, zone.zone.soil) && looks == Some(Looks::Wet) {
                soil.say(-1.0, Evidence::SoilFound { found, surveyed: zone.zone.soil });
            }
        }
        Some(_) => soil.say(-4.0, Evidence::SoilAsSurveyed),
        None => soil.say(-1.2, Evidence::SoilUnread),
    }
    if has_fault(zone) {
        for case in [&mut rate, &mut plants, &mut soil] {
            case.explains(FactId::Sign(key, Sign::DryPatches));
        }
    }
    cases.extend([rate, plants, soil]);
}

fn holds_less(found: Texture, surveyed: Texture) -> bool {
    found.available_mm_per_m() < surveyed.available_mm_per_m()
}

/// One zone's run time: it stands alone, or the controller shows another.
fn minutes(picture: &Picture<'_>, zone: &ZonePicture<'_>, cases: &mut Vec<Case>) {
    let key = zone.key();
    let (alone, other) = (alone(picture, zone), other_minutes(picture, zone));
    let short = short(picture, zone);
    if alone.is_none() && other.is_none() && short.is_none() {
        return;
    }
    let mut case = Case::new(Cause::MinutesWrong, 2.4, Settle::ReadController).at_zone(key);
    if alone.is_some() {
        case.explains(FactId::Alone(key));
    }
    if short.is_some() {
        case.explains(FactId::Short(key));
    }
    if let Some((shown, known)) = other {
        case.explains(FactId::Minutes(key));
        let ratio = shown.minutes().min_value() / known.minutes().min_value().max(0.1);
        let gets = zone.gets.unwrap_or(1.0) * ratio;
        case.makes(
            key,
            if gets < SHORT {
                Looks::Dry
            } else if gets > MUCH {
                Looks::Wet
            } else {
                zone.expected
            },
        );
    } else if let Some((gets, _)) = alone {
        case.makes(key, if gets < 1.0 { Looks::Dry } else { Looks::Wet });
    }
    cases.push(case);
}

/// Too little pressure: all zones that spray are short.
fn low_pressure(picture: &Picture<'_>) -> Case {
    let mut case = Case::new(Cause::LowPressure, 4.2, Settle::Pressure);
    let waters = |z: &&ZonePicture<'_>| z.gets.is_some_and(|g| g > 0.0) || z.runs > 0;
    let weak = picture.zones.iter().filter(|z| z.has(Sign::WeakSpray)).count();
    for zone in picture.zones.iter().filter(waters) {
        case.makes(zone.key(), Looks::Dry);
        case.explains(FactId::Sign(zone.key(), Sign::WeakSpray));
        case.explains(FactId::Sign(zone.key(), Sign::DryPatches));
        if let Some(ratio) = zone.flow_ratio() {
            if (NO_FLOW..0.95).contains(&ratio) {
                case.explains(FactId::Flow(zone.key()));
            } else {
                case.say(-1.5, Evidence::Flow(ratio));
            }
        }
    }
    let looked = picture.zones.iter().filter(|z| z.looked_at()).count();
    if looked > 0 && weak == 0 {
        case.say(-1.5, Evidence::NoSign(Sign::WeakSpray));
    }
    // Low pressure brings less, not nothing.
    if picture.meter.is_none_or(|ratio| ratio > 0.25) {
        meter(&mut case, picture, false);
    }
    case
}

/// Water lost in the ground: the meter counts more, and it is wet where nothing waters.
fn leak(picture: &Picture<'_>) -> Case {
    let mut case = Case::new(Cause::Leak, 3.2, Settle::WatchMeter);
    case.explains(FactId::WetElsewhere);
    if !picture.visit.wet_elsewhere {
        case.say(-0.5, Evidence::DryElsewhere);
    }
    meter(&mut case, picture, true);
    case
}
