//! What is wrong at a controller: what it shows and nobody knew, percentages, days, runs that lie over each other, steps of
//! grow-ins and wean-offs that are due.

use crate::controller::schedule::Settings;
use crate::ground::application::HeadType;
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::time::Seconds;
use crate::site::StationId;
use crate::tuning::cause::{Cause, Evidence, Settle};
use crate::tuning::nights::{Read, read};
use crate::tuning::picture::{ControllerPicture, Picture, ZonePicture, middle};
use crate::tuning::visit::{Looks, Sign};
use crate::tuning::weigh::{Case, Fact, FactId};
use jiff::civil::Date;
use std::collections::BTreeSet;

/// The middle zone gets so much less or more than it asks for: all are off.
const ALL_SHORT: f64 = 0.85;
const ALL_MUCH: f64 = 1.22;
/// A percentage that lies so near to what the weather of these days is to the hottest month is plausible (our stated
/// bound, as a ratio).
const PLAUSIBLE: f64 = 1.25;
/// Days after which a percentage that stands is stale.
const STALE_DAYS: i32 = 28;
/// A clock off by less does no harm.
const CLOCK_OFF: Seconds = Seconds::from_min(10);
/// Nights lie so far from what was asked, in the mean: off.
pub(super) const NIGHTS_OFF: f64 = 0.12;
/// What a zone gets by such nights, below and above which it looks dry and wet.
const NIGHTS_DRY: f64 = 0.78;
const NIGHTS_WET: f64 = 1.35;
/// A trim of more than this says that the climate setting is wrong (common practice: trim first, climate second).
const MOST_TRIM: f64 = 0.25;
/// Single nights scatter so much about their mean: they do not follow the weather.
const SCATTER: f64 = 0.15;
/// A wean-off share that fell by so much since the controller was set is due.
const STEP_DUE: f64 = 0.05;

pub(super) fn facts(picture: &Picture<'_>, facts: &mut Vec<Fact>) {
    for own in &picture.controllers {
        let number = own.facts.number;
        let mut put = |id, cost, evidence| facts.push(Fact { id, cost, evidence });
        if let Some(seen) = own.seen {
            let off = seen.clock_ahead.filter(|ahead| *ahead >= CLOCK_OFF || -*ahead >= CLOCK_OFF);
            if let Some(ahead) = off {
                put(FactId::Clock(number), 5.0, Evidence::ClockOff(ahead));
            }
            if seen.on == Some(false) {
                put(FactId::Off(number), 5.5, Evidence::SwitchedOff);
            }
            if seen.bypassed == Some(true) && !known_bypass(picture, own) {
                put(FactId::Bypass(number), 5.0, Evidence::Bypassed);
            }
            for (program, shown) in &seen.programs {
                let known = own.settings.and_then(|s| s.programs.get(*program));
                if shown.on == Some(true) && known.is_some_and(|p| !p.waters()) {
                    put(FactId::ProgramOn(number, *program), 5.0, Evidence::ProgramOn(*program));
                }
                let (starts, known) =
                    (shown.starts.as_ref().map_or(0, Vec::len), known.map_or(0, |p| p.starts.len()));
                if starts > known && known > 0 {
                    let evidence = Evidence::Starts { program: *program, shown: starts, known };
                    put(FactId::Starts(number, *program), 5.0, evidence);
                }
            }
            if let Some((shown, known)) = other_percentage(picture, own) {
                let evidence = Evidence::ControllerShowsPercentage { shown, known };
                put(FactId::Percentage(number), 4.5, evidence);
            }
        }
        if let Some(nights) = read(picture.facts, own.facts, picture.visit)
            && nights.is_off(NIGHTS_OFF)
        {
            put(FactId::Nights(number), 4.0, nights.evidence());
        }
        for group in groups(picture, own) {
            let share = Share::from_fraction(group.middle);
            let evidence = match group.program {
                None => Evidence::AllGet(share),
                Some(program) => Evidence::ProgramGets { program, share },
            };
            put(group.fact(number), group.cost(), evidence);
        }
        for rhythm in rhythms(picture, own) {
            put(FactId::Rhythm(number, rhythm.program), rhythm.cost, rhythm.evidence);
        }
        if let Some(over) = overlap(picture, own) {
            let weak = picture.of_controller(number).filter(|z| over.1.contains(&z.zone.number));
            let weak = weak.filter(|z| z.has(Sign::WeakSpray) || z.looks() == Some(Looks::Dry)).count();
            put(FactId::Overlap(number), if weak > 0 { 3.0 } else { 0.5 }, over.0);
        }
    }
}

/// Of the zones of a controller that stand apart from their need, so many must stand on one side to be off alike (our stated
/// bound): else each is off by itself, and no percentage helps.
const ALIKE: f64 = 0.75;
/// Programs whose zones get so many times more than those of another are off each by itself (our stated bound).
const APART: f64 = 1.5;
/// A zone within this of its need is off on neither side.
const NEAR_NEED: f64 = 0.1;

/// Zones that are off alike: those of a controller, or those of one of its programs where the others are not.
struct Group<'p, 'a> {
    program: Option<usize>,
    zones: Vec<&'p ZonePicture<'a>>,
    /// The middle of what they get of what they ask for.
    middle: f64,
}

impl Group<'_, '_> {
    fn fact(&self, number: u8) -> FactId {
        FactId::AllOff(number, self.program)
    }

    /// What it costs not to explain it: the more where they look so.
    fn cost(&self) -> f64 {
        let side = if self.middle < 1.0 { Looks::Dry } else { Looks::Wet };
        let seen: Vec<Looks> = self.zones.iter().filter_map(|z| z.looks()).collect();
        let alike = seen.iter().filter(|l| **l == side).count();
        match (alike * 2 > seen.len(), seen.len()) {
            (_, 0) => 1.0,
            (true, _) => 3.2,
            (false, _) => 0.3,
        }
    }
}

/// The zones of a controller that are off alike; else, program by program, those of its programs.
fn groups<'p, 'a>(picture: &'p Picture<'a>, own: &ControllerPicture<'a>) -> Vec<Group<'p, 'a>> {
    let zones = || picture.of_controller(own.facts.number).filter(|z| z.gets.is_some());
    let off = |program: Option<usize>, zones: Vec<&'p ZonePicture<'a>>| {
        let gets: Vec<f64> = zones.iter().filter_map(|z| z.gets).collect();
        let middle = middle(gets.clone()).filter(|m| *m < ALL_SHORT || *m > ALL_MUCH)?;
        let same = gets.iter().filter(|g| same_side(**g, middle)).count();
        let counted = |n: usize| u32::try_from(n).map_or(0.0, f64::from);
        (counted(same) >= ALIKE * counted(gets.len())).then_some(Group { program, zones, middle })
    };
    let programs = own.settings.map_or(0, |s| s.programs.len());
    let of =
        |program: usize| middle(zones().filter(|z| z.programs == [program]).filter_map(|z| z.gets).collect());
    let middles: Vec<f64> = (0..programs).filter_map(of).collect();
    let low = middles.iter().copied().fold(f64::INFINITY, f64::min);
    let apart = middles.iter().any(|m| *m > low * APART);
    if let Some(all) = off(None, zones().collect()).filter(|_| !apart) {
        return vec![all];
    }
    let of_program = |program: usize| {
        let mates: Vec<_> = zones().filter(|z| z.programs == [program]).collect();
        // One zone is off by itself.
        if mates.len() < 2 { None } else { off(Some(program), mates) }
    };
    (0..programs).filter_map(of_program).collect()
}

/// A program that waters too seldom for the soil of some of its zones, though the amount would do.
struct Rhythm {
    program: usize,
    cost: f64,
    evidence: Evidence,
}

/// Waits of so many times the days to the refill point let a zone dry between waterings (our stated bound).
const TOO_SELDOM: f64 = 1.15;

fn rhythms(picture: &Picture<'_>, own: &ControllerPicture<'_>) -> Vec<Rhythm> {
    let programs = own.settings.map_or(0, |s| s.programs.len());
    let of_program = |program: usize| {
        let dries = |z: &&ZonePicture<'_>| {
            let seldom = z.gap_days.is_some_and(|gap| f64::from(gap) > z.refill_days.max(1.0) * TOO_SELDOM);
            z.programs == [program] && seldom && z.gets.is_some_and(|g| g >= ALL_SHORT)
        };
        let zones: Vec<_> = picture.of_controller(own.facts.number).filter(dries).collect();
        let soonest = zones.iter().min_by(|a, b| a.refill_days.total_cmp(&b.refill_days))?;
        let evidence = Evidence::Gap { days: soonest.gap_days?, refill: soonest.refill_days };
        let looks = |looks: Looks| zones.iter().any(|z| z.looks() == Some(looks));
        let cost = match () {
            () if looks(Looks::Dry) => 3.6,
            () if zones.iter().all(|z| z.looks().is_none()) => 1.0,
            () => 0.3,
        };
        Some(Rhythm { program, cost, evidence })
    };
    (0..programs).filter_map(of_program).collect()
}

/// Whether a zone is off on the side of the middle.
fn same_side(gets: f64, middle: f64) -> bool {
    if middle < 1.0 { gets < 1.0 - NEAR_NEED } else { gets > 1.0 + NEAR_NEED }
}

/// Whether a bypass that the controller shows is known.
fn known_bypass(picture: &Picture<'_>, own: &ControllerPicture<'_>) -> bool {
    own.facts.sensors.iter().any(|s| s.bypasses.iter().any(|b| b.runs(picture.visit.at)))
}

/// The percentage that a controller shows and the known one, where they differ: of the program that differs most.
fn other_percentage(picture: &Picture<'_>, own: &ControllerPicture<'_>) -> Option<(Percentage, Percentage)> {
    let (seen, settings) = (own.seen?, own.settings?);
    let differs = seen.programs.iter().filter_map(|(program, seen)| {
        let known = settings.percentages.of(*program, picture.date);
        let shown = seen.percentage?;
        (shown != known && settings.programs.get(*program).is_some_and(|p| p.waters()))
            .then_some((shown, known))
    });
    differs.max_by_key(|(shown, known)| shown.percent().abs_diff(known.percent()))
}

/// Runs of a controller that lie over each other: how far they ask for more than the supply gives, and the stations.
fn overlap(picture: &Picture<'_>, own: &ControllerPicture<'_>) -> Option<(Evidence, BTreeSet<u16>)> {
    let runs: Vec<_> = own.runs.iter().filter(|r| !r.is_held()).collect();
    let mut stations = BTreeSet::new();
    let (mut pairs, mut most) = (0, 0.0_f64);
    let flow = |station: u16| own.there.zone(station).and_then(|z| z.flow).map(|f| f.l_per_min());
    for (at, run) in runs.iter().enumerate() {
        let later = runs.iter().skip(at + 1).take_while(|r| r.run.start < run.until);
        for other in later.filter(|r| r.run.station != run.run.station) {
            // Slow valves may overlap by some seconds.
            if Seconds::between(other.run.start, run.until.min(other.until)) < Seconds::from_min(2) {
                continue;
            }
            pairs += 1;
            stations.extend([run.run.station, other.run.station]);
            if let (Some(a), Some(b), Some(supply)) =
                (flow(run.run.station), flow(other.run.station), picture.facts.site.supply)
            {
                most = most.max(100.0 * (a + b) / supply.l_per_min().max(0.1));
            }
        }
    }
    match (pairs, picture.facts.site.supply) {
        (0, _) => None,
        (_, Some(_)) if most > 105.0 => Some((Evidence::OverSupply(most), stations)),
        (_, Some(_)) if most > 0.0 => None,
        _ => Some((Evidence::Overlap(pairs), stations)),
    }
}

pub(super) fn cases(picture: &Picture<'_>, cases: &mut Vec<Case>) {
    for own in &picture.controllers {
        cases.extend(shown(picture, own));
        cases.extend(percentages(picture, own));
        cases.extend(days(picture, own));
        cases.extend(nights(picture, own));
        cases.extend(two_at_once(picture, own));
        for zone in picture.of_controller(own.facts.number) {
            cases.extend(steps(picture, own, zone));
        }
    }
}

/// What a controller shows and nobody knew.
// Long: one story after another.
fn shown(picture: &Picture<'_>, own: &ControllerPicture<'_>) -> Vec<Case> {
    let number = own.facts.number;
    let new = |cause, rare| Case::new(cause, rare, Settle::ReadController).at_controller(number);
    let (mut clock, mut off) = (new(Cause::ClockWrong, 4.0), new(Cause::ControllerOff, 4.2));
    let (mut bypass, mut hidden) = (new(Cause::BypassLeft, 4.0), new(Cause::HiddenProgram, 4.2));
    let mut starts = new(Cause::ExtraStart, 4.0);
    clock.explains(FactId::Clock(number));
    off.explains(FactId::Off(number));
    bypass.explains(FactId::Bypass(number));
    let zones: Vec<&ZonePicture<'_>> = picture.of_controller(number).collect();
    for zone in &zones {
        if zone.gets.is_some_and(|g| g > 0.0) {
            off.makes(zone.key(), Looks::Dry);
        }
        // What was held would have run.
        if zone.held.len() >= 2 {
            bypass.makes(zone.key(), Looks::Wet);
            bypass.explains(FactId::Sign(zone.key(), Sign::AfterRain));
        }
        hidden.explains(FactId::Sign(zone.key(), Sign::RunsWhenOff));
        if zone.looks() == Some(Looks::Wet) {
            hidden.makes(zone.key(), Looks::Wet);
        }
    }
    for case in [&mut bypass, &mut hidden] {
        meter(case, picture, true);
    }
    if zones.iter().filter(|z| z.looks() == Some(Looks::Wet)).count() == 1 {
        // A program waters more than one zone.
        hidden.say(-1.5, Evidence::Alike { looks: Looks::Wet, zones: 1, of: zones.len() });
    }
    // A controller that is off brings nothing.
    if picture.meter.is_none_or(|ratio| ratio < 0.5) {
        meter(&mut off, picture, false);
    }
    let mut doubled = BTreeSet::new();
    if let Some(seen) = own.seen {
        if seen.clock_ahead.is_none() || seen.clock_ahead.is_some_and(|a| a < CLOCK_OFF && -a < CLOCK_OFF) {
            clock.say(-4.0, Evidence::ControllerAsKnown);
        }
        if seen.on == Some(true) {
            off.say(-6.0, Evidence::SwitchedOn);
        }
        if seen.bypassed == Some(false) {
            bypass.say(-6.0, Evidence::NotBypassed);
        }
        for (program, shown) in &seen.programs {
            let known = own.settings.and_then(|s| s.programs.get(*program));
            hidden.explains(FactId::ProgramOn(number, *program));
            starts.explains(FactId::Starts(number, *program));
            let more = shown.starts.as_ref().is_some_and(|s| known.is_some_and(|k| s.len() > k.starts.len()));
            if let Some(known) = known.filter(|_| more) {
                doubled.extend(known.run_times.iter().map(|(station, _)| *station));
            }
        }
        let read = |all: bool| all && !seen.programs.is_empty();
        if read(seen.programs.values().all(|p| p.on != Some(true) || p.starts.is_some()))
            && !seen
                .programs
                .keys()
                .any(|p| own.settings.is_some_and(|s| s.programs.get(*p).is_some_and(|k| !k.waters())))
        {
            hidden.say(-3.0, Evidence::ControllerAsKnown);
        }
    } else {
        clock.say(-2.0, Evidence::ControllerAsKnown);
    }
    if let Some((program, set, needed, stations)) = own.settings.and_then(|s| known_starts(own, s)) {
        starts.say(2.2, Evidence::Starts { program, shown: set, known: needed });
        starts.explains(FactId::AllOff(number, None));
        starts.explains(FactId::AllOff(number, Some(program)));
        for station in stations {
            starts.explains(FactId::Alone(StationId::new(number, station)));
        }
    }
    for station in doubled {
        starts.makes(StationId::new(number, station), Looks::Wet);
        meter(&mut starts, picture, true);
    }
    if own.runs.iter().all(|r| !r.is_held()) {
        bypass.say(-1.0, Evidence::HeldRuns(0));
    }
    vec![clock, off, bypass, hidden, starts]
}

fn meter(case: &mut Case, picture: &Picture<'_>, more: bool) {
    let Some(ratio) = picture.meter else { return };
    if (more && ratio > 1.1) || (!more && ratio < 0.9) {
        case.explains(FactId::Meter);
    } else {
        case.say(-0.7, Evidence::Meter(ratio));
    }
}

/// A program with more starts than any of its zones has use for: each runs all of it again, and its zones get too
/// much. Its index, its starts, the cycles that its soils ask for, its stations.
fn known_starts(own: &ControllerPicture<'_>, settings: &Settings) -> Option<(usize, usize, usize, Vec<u16>)> {
    settings.programs.iter().enumerate().find_map(|(at, program)| {
        if !program.waters() || program.starts.len() < 2 {
            return None;
        }
        let cycles = program.run_times.iter().filter_map(|(station, time)| {
            let longest = own.there.zone(*station)?.longest_cycle()?;
            let whole = *time * i64::try_from(program.starts.len()).unwrap_or(1);
            usize::try_from(whole.steps_up(longest)).ok()
        });
        let needed = cycles.max().unwrap_or(1).max(1);
        let drip = program
            .run_times
            .iter()
            .all(|(station, _)| own.there.zone(*station).is_some_and(|z| z.zone.head == HeadType::Drip));
        let too_many = program.starts.len() > needed && !drip && own.middle.is_none_or(|m| m > 1.3);
        let stations = || program.run_times.iter().map(|(station, _)| *station).collect();
        too_many.then(|| (at, program.starts.len(), needed, stations()))
    })
}

/// A percentage against what the weather of these days is to the hottest month: over it, as a ratio.
fn against_weather(
    picture: &Picture<'_>,
    own: &ControllerPicture<'_>,
    program: Option<usize>,
) -> Option<(Percentage, f64)> {
    let of_program = program.and_then(|p| Some(own.settings?.percentages.of(p, picture.date)));
    let set = of_program.or(own.percentage)?;
    (picture.weather > 0.0).then(|| (set, f64::from(set.percent()) / 100.0 / picture.weather))
}

fn percentage_read(own: &ControllerPicture<'_>) -> bool {
    own.seen.is_some_and(|seen| seen.programs.values().any(|p| p.percentage.is_some()))
}

fn percentages(picture: &Picture<'_>, own: &ControllerPicture<'_>) -> Vec<Case> {
    let number = own.facts.number;
    let new = |cause| Case::new(cause, 2.8, Settle::ReadController).at_controller(number);
    let (mut low, mut high) = (new(Cause::PercentageLow), new(Cause::PercentageHigh));
    if let Some((shown, known)) = other_percentage(picture, own) {
        let (case, looks) = if shown < known { (&mut low, Looks::Dry) } else { (&mut high, Looks::Wet) };
        case.explains(FactId::Percentage(number));
        let ratio = shown.factor() / known.factor().max(0.01);
        let much = |gets: f64| (gets * ratio < ALL_SHORT) || (gets * ratio > ALL_MUCH);
        for zone in picture.of_controller(number).filter(|z| z.gets.is_some_and(much)) {
            case.makes(zone.key(), looks);
        }
        meter(case, picture, shown > known);
    } else if !percentage_read(own) {
        // Nobody read it: it may show anything.
        for (case, looks) in [(&mut low, Looks::Dry), (&mut high, Looks::Wet)] {
            case.say(-1.2, Evidence::ControllerUnread);
            for zone in picture.of_controller(number).filter(|z| z.gets.is_some_and(|g| g > 0.0)) {
                case.makes(zone.key(), looks);
            }
            if picture.meter.is_none_or(|ratio| ratio > 0.25) {
                meter(case, picture, looks == Looks::Wet);
            }
        }
    }
    // A sensor turns the percentage every night: then it is not stale.
    let turned_by_sensor = own.facts.sensors.iter().any(|s| s.sensor.card.senses(crate::sensors::Sense::Et));
    let mut out = vec![low, high];
    if turned_by_sensor {
        return out;
    }
    let since = own.percentage_since.map(|at| at.to_zoned(picture.facts.tz.clone()).date());
    let old = since.is_none_or(|since| (picture.date - since).get_days() >= STALE_DAYS);
    for group in groups(picture, own) {
        let Some((set, over)) = against_weather(picture, own, group.program) else { continue };
        let evidence = Evidence::PercentageAgainst { set, weather: Share::from_fraction(picture.weather) };
        let implausible = !(1.0 / PLAUSIBLE..=PLAUSIBLE).contains(&over);
        let fits = (group.middle < ALL_SHORT && over < 1.0) || (group.middle > ALL_MUCH && over > 1.0);
        let cause = match (old, group.middle < 1.0) {
            (true, _) => Cause::PercentageStale,
            (false, true) => Cause::PercentageLow,
            (false, false) => Cause::PercentageHigh,
        };
        // The story of the whole controller that was begun above goes on; one of a program is its own.
        let begun = out.iter().position(|c| c.cause == cause).filter(|_| group.program.is_none());
        let mut case = begun.map_or_else(|| new(cause).of_program(group.program), |at| out.remove(at));
        case.explains(group.fact(number));
        for zone in group.zones.iter().filter(|z| z.gets.is_some_and(|g| same_side(g, group.middle))) {
            case.explains(FactId::Alone(zone.key()));
            case.explains(FactId::Short(zone.key()));
        }
        case.say(if implausible && fits { 1.5 } else { -1.5 }, evidence);
        if let Some(since) = since.filter(|_| old) {
            case.say(0.3, Evidence::PercentageSince(since));
        }
        out.push(case);
    }
    out
}

/// A day more or fewer: all are off alike, and the percentage is plausible (common practice). Or the amount would do,
/// and it comes too seldom for the soil.
fn days(picture: &Picture<'_>, own: &ControllerPicture<'_>) -> Vec<Case> {
    let number = own.facts.number;
    let new = |cause, program| {
        Case::new(cause, 2.8, Settle::ReadController).at_controller(number).of_program(program)
    };
    let mut out: Vec<Case> = Vec::new();
    for group in groups(picture, own) {
        let few = group.middle < ALL_SHORT;
        let mut case = new(if few { Cause::DaysFew } else { Cause::DaysMany }, group.program);
        case.explains(group.fact(number));
        for zone in &group.zones {
            case.explains(FactId::Short(zone.key()));
        }
        let gap = group.zones.iter().filter_map(|z| Some((z.gap_days?, z.refill_days)));
        let soonest = gap.min_by(|a, b| a.1.total_cmp(&b.1));
        if let Some((days, refill)) = soonest {
            let evidence = Evidence::Gap { days, refill };
            let days = f64::from(days);
            let fits = if few { days > refill * 0.9 } else { days < refill * 0.75 };
            case.say(if fits { 0.7 } else { -0.7 }, evidence);
        }
        if let Some((set, over)) = against_weather(picture, own, group.program) {
            let evidence =
                Evidence::PercentageAgainst { set, weather: Share::from_fraction(picture.weather) };
            let plausible = (1.0 / PLAUSIBLE..=PLAUSIBLE).contains(&over);
            case.say(if plausible { 1.2 } else { -1.2 }, evidence);
        }
        out.push(case);
    }
    for rhythm in rhythms(picture, own) {
        let same = out.iter().position(|c| c.cause == Cause::DaysFew && c.program == Some(rhythm.program));
        let mut case = same.map_or_else(|| new(Cause::DaysFew, Some(rhythm.program)), |at| out.remove(at));
        case.explains(FactId::Rhythm(number, rhythm.program));
        case.say(1.2, rhythm.evidence);
        out.push(case);
    }
    out
}

/// An ET sensor: trim first, climate setting second.
fn nights(picture: &Picture<'_>, own: &ControllerPicture<'_>) -> Vec<Case> {
    let number = own.facts.number;
    let sensor = own.facts.sensors.iter().find(|s| s.sensor.card.senses(crate::sensors::Sense::Et));
    let Some(sensor) = sensor else { return Vec::new() };
    let new = |cause| Case::new(cause, 3.0, Settle::MoreNights).at_sensor(number, &sensor.sensor.name);
    let (mut trim, mut climate) = (new(Cause::EtTrim), new(Cause::EtClimate));
    let nights = read(picture.facts, own.facts, picture.visit);
    let off = nights.as_ref().filter(|n| n.is_off(NIGHTS_OFF)).cloned();
    for case in [&mut trim, &mut climate] {
        case.explains(FactId::AllOff(number, None));
        for group in groups(picture, own) {
            case.explains(group.fact(number));
        }
        let Some(Read { ratio, .. }) = &off else {
            if let Some(nights) = &nights {
                case.say(-3.0, nights.evidence());
            }
            continue;
        };
        case.explains(FactId::Nights(number));
        case.explains(FactId::Meter);
        for zone in picture.of_controller(number) {
            let gets = zone.gets.unwrap_or(1.0) * ratio;
            if gets < NIGHTS_DRY {
                case.makes(zone.key(), Looks::Dry);
            } else if gets > NIGHTS_WET {
                case.makes(zone.key(), Looks::Wet);
            }
        }
    }
    if let Some(nights) = &off {
        let needed = nights.trim_needed(&sensor.sensor.setting);
        let even = nights.spread <= SCATTER && (needed / 100.0).abs() <= MOST_TRIM;
        trim.say(if even { 0.8 } else { -1.5 }, Evidence::TrimNeeded(needed));
        climate.say(if even { -1.5 } else { 0.8 }, Evidence::TrimNeeded(needed));
    }
    vec![trim, climate]
}

/// Runs over each other that ask for more than the supply gives.
fn two_at_once(picture: &Picture<'_>, own: &ControllerPicture<'_>) -> Option<Case> {
    let number = own.facts.number;
    let over = overlap(picture, own);
    let other = picture.of_controller(number).any(|z| z.has(Sign::OtherRunning));
    if over.is_none() && !other {
        return None;
    }
    let mut case = Case::new(Cause::TwoAtOnce, 3.0, Settle::Pressure).at_controller(number);
    case.explains(FactId::Overlap(number));
    case.explains(FactId::Meter);
    for zone in picture.of_controller(number) {
        case.explains(FactId::Sign(zone.key(), Sign::OtherRunning));
        let among = over.as_ref().is_none_or(|(_, stations)| stations.contains(&zone.zone.number));
        if among && (over.is_some() || zone.has(Sign::OtherRunning)) {
            case.makes(zone.key(), Looks::Dry);
            case.explains(FactId::Sign(zone.key(), Sign::WeakSpray));
            case.explains(FactId::Sign(zone.key(), Sign::DryPatches));
        }
    }
    Some(case)
}

/// A grow-in that is over, a wean-off with a step that is due.
fn steps(picture: &Picture<'_>, own: &ControllerPicture<'_>, zone: &ZonePicture<'_>) -> Vec<Case> {
    let key = zone.key();
    let set: Option<Date> = own.set_since.map(|at| at.to_zoned(picture.facts.tz.clone()).date());
    let mut out = Vec::new();
    let wet = |case: &mut Case| {
        case.explains(FactId::Alone(key));
        case.makes(key, if zone.gets.is_some_and(|g| g > 1.2) { Looks::Wet } else { zone.expected });
    };
    if let Some(grow_in) = zone.resolved.grow_in
        && grow_in.until < picture.date
        && set.is_none_or(|set| set <= grow_in.until)
        && (picture.date - grow_in.until).get_days() < 120
    {
        let mut case = Case::new(Cause::GrowInOver, 2.0, Settle::ReadController).at_zone(key);
        case.say(1.5, Evidence::GrowInEnded(grow_in.until));
        wet(&mut case);
        out.push(case);
    }
    if let Some(wean) = zone.resolved.wean_off
        && let Some(set) = set.filter(|set| *set >= wean.from)
    {
        let (now, then) = (wean.share_on(picture.date), wean.share_on(set));
        let due = (then.fraction() - now.fraction()).abs() >= STEP_DUE;
        if due && wean.from <= picture.date {
            let mut case = Case::new(Cause::WeanOffDue, 2.0, Settle::ReadController).at_zone(key);
            case.say(1.5, Evidence::WeanStep { now, then });
            wet(&mut case);
            out.push(case);
        }
    }
    out
}
