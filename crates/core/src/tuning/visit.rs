//! What was seen on a visit: zones, controllers, sensors and the meter. Everything may be left empty.

use crate::ground::soil::Texture;
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::time::Seconds;
use crate::quantity::units::{Litres, LitresPerMinute};
use crate::site::StationId;
use jiff::Timestamp;
use jiff::civil::{Date, Time};
use std::collections::{BTreeMap, BTreeSet};

/// How wet the ground of a zone is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Looks {
    /// Hard, pale, footprints stay.
    Dry,
    /// As it should be.
    Right,
    /// Soft, squelching, moss or algae.
    Wet,
}

impl Looks {
    /// All, in the order of the lists.
    pub const ALL: [Self; 3] = [Self::Dry, Self::Right, Self::Wet];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Dry => "dry",
            Self::Right => "right",
            Self::Wet => "wet",
        }
    }
}

/// Something that was seen at a zone.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Sign {
    /// It was switched on and no water came.
    NoWater,
    /// Water runs or drips while nothing should run.
    RunsWhenOff,
    /// A head or pipe is broken.
    Broken,
    /// A head leans or has sunk.
    Leaning,
    /// A head, nozzle or dripper is blocked.
    Blocked,
    /// The spray is short or a mist.
    WeakSpray,
    /// Another zone ran at the same time.
    OtherRunning,
    /// Water runs off before the cycle ends.
    Runoff,
    /// Dry patches in an else even zone.
    DryPatches,
    /// Wet patches in an else even zone.
    WetPatches,
    /// It looks so only since it rained.
    AfterRain,
    /// Other plants grow there than the survey says.
    OtherPlants,
}

impl Sign {
    /// All, in the order of the lists.
    pub const ALL: [Self; 12] = [
        Self::NoWater,
        Self::RunsWhenOff,
        Self::Broken,
        Self::Leaning,
        Self::Blocked,
        Self::WeakSpray,
        Self::OtherRunning,
        Self::Runoff,
        Self::DryPatches,
        Self::WetPatches,
        Self::AfterRain,
        Self::OtherPlants,
    ];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::NoWater => "no water when switched on",
            Self::RunsWhenOff => "runs or drips when off",
            Self::Broken => "broken head or pipe",
            Self::Leaning => "leaning or sunk head",
            Self::Blocked => "blocked head or dripper",
            Self::WeakSpray => "short spray or mist",
            Self::OtherRunning => "another zone runs too",
            Self::Runoff => "water runs off",
            Self::DryPatches => "dry patches",
            Self::WetPatches => "wet patches",
            Self::AfterRain => "only since the rain",
            Self::OtherPlants => "other plants than surveyed",
        }
    }
}

/// How the plants of a zone look.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Plants {
    /// Well.
    Fine,
    /// Limp or folded leaves.
    Wilting,
    /// Brown edges.
    Scorched,
    /// Pale or yellow.
    Yellow,
    /// Soft growth, moss, fungus.
    Soft,
}

impl Plants {
    /// All, in the order of the lists.
    pub const ALL: [Self; 5] = [Self::Fine, Self::Wilting, Self::Scorched, Self::Yellow, Self::Soft];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Fine => "fine",
            Self::Wilting => "wilting",
            Self::Scorched => "brown edges",
            Self::Yellow => "yellow",
            Self::Soft => "soft, mossy",
        }
    }
}

/// A zone as it was found.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ZoneSeen {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its station.
    pub station: u16,
    /// How wet it looks.
    pub looks: Option<Looks>,
    /// What was seen.
    pub signs: BTreeSet<Sign>,
    /// How its plants look.
    pub plants: Option<Plants>,
    /// What a probe or a spade says is left of the available water.
    pub available: Option<Share>,
    /// The soil that a spade turned up.
    pub soil: Option<Texture>,
    /// What the meter read while it ran.
    pub flow: Option<LitresPerMinute>,
    /// Anything else.
    pub note: String,
}

impl ZoneSeen {
    /// Whether nothing was said.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self { controller_number: self.controller_number, station: self.station, ..Self::default() }
    }
}

/// State of a battery.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Battery {
    /// It holds.
    Good,
    /// It is low.
    Low,
    /// It is empty or missing: the controller forgets its clock in a power cut.
    Dead,
}

impl Battery {
    /// All, in the order of the lists.
    pub const ALL: [Self; 3] = [Self::Good, Self::Low, Self::Dead];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Low => "low",
            Self::Dead => "empty or missing",
        }
    }
}

/// A program as the controller shows it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ProgramSeen {
    /// Whether it is on.
    pub on: Option<bool>,
    /// Its percentage.
    pub percentage: Option<Percentage>,
    /// Its start times.
    pub starts: Option<Vec<Time>>,
    /// Run times that were read, by station.
    pub minutes: BTreeMap<u16, Seconds>,
}

/// A controller as it was found.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ControllerSeen {
    /// Its number.
    pub controller_number: u8,
    /// How far its clock is ahead of the right time; negative when it is behind.
    pub clock_ahead: Option<Seconds>,
    /// Whether it is switched to automatic.
    pub on: Option<bool>,
    /// Whether its sensors are bypassed.
    pub bypassed: Option<bool>,
    /// Its backup battery.
    pub battery: Option<Battery>,
    /// Programs that were read, by index.
    pub programs: BTreeMap<usize, ProgramSeen>,
    /// Percentages that it says it used, by the evening of the night.
    pub nights: BTreeMap<Date, f64>,
}

impl ControllerSeen {
    /// Whether nothing was said.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self { controller_number: self.controller_number, ..Self::default() }
    }
}

/// A sensor as it was found.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SensorSeen {
    /// Its name.
    pub name: String,
    /// Whether it holds.
    pub holds: Option<bool>,
    /// Whether something keeps rain from it.
    pub covered: Option<bool>,
    /// Whether heads spray it.
    pub sprayed: Option<bool>,
}

/// A visit.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Visit {
    /// When.
    pub at: Timestamp,
    /// Zones.
    pub zones: Vec<ZoneSeen>,
    /// Controllers.
    pub controllers: Vec<ControllerSeen>,
    /// Sensors.
    pub sensors: Vec<SensorSeen>,
    /// What the main meter had counted.
    pub meter: Option<Litres>,
    /// Whether the ground is wet where nothing waters.
    pub wet_elsewhere: bool,
    /// Anything else.
    pub note: String,
}

impl Visit {
    /// A zone as it was found.
    #[must_use]
    pub fn zone(&self, id: StationId) -> Option<&ZoneSeen> {
        self.zones.iter().find(|z| StationId::new(z.controller_number, z.station) == id)
    }

    /// A controller as it was found.
    #[must_use]
    pub fn of_controller(&self, number: u8) -> Option<&ControllerSeen> {
        self.controllers.iter().find(|b| b.controller_number == number)
    }

    /// A sensor as it was found.
    #[must_use]
    pub fn sensor(&self, name: &str) -> Option<&SensorSeen> {
        self.sensors.iter().find(|s| s.name == name)
    }
}

/// Something that one person said.
#[derive(Debug, Clone, PartialEq)]
pub struct Said<T> {
    /// When it was seen.
    pub at: Timestamp,
    /// Who saw it, as a number.
    pub person: i64,
    /// What.
    pub what: T,
}

/// Two people who saw one zone differently.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Clash {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its station.
    pub station: u16,
    /// Who said the first, as a number.
    pub first: (i64, Looks),
    /// And the later, which counts.
    pub later: (i64, Looks),
}

/// The last that each person said of each thing, in order of time: a later entry of a person stands in place of an
/// earlier one about the same.
fn last_of_each<T, K: Ord>(mut said: Vec<Said<T>>, key: impl Fn(&T) -> K) -> Vec<Said<T>> {
    said.sort_by_key(|s| s.at);
    // What was said in one minute stays in the order in which it came.
    let mut last: BTreeMap<(K, i64), (usize, Said<T>)> = BTreeMap::new();
    for (place, own) in said.into_iter().enumerate() {
        last.insert((key(&own.what), own.person), (place, own));
    }
    let mut all: Vec<(usize, Said<T>)> = last.into_values().collect();
    all.sort_by_key(|(place, _)| *place);
    all.into_iter().map(|(_, own)| own).collect()
}

/// Brings together what several people said of zones: each field as it was said last, signs of all. Where two saw a
/// zone differently the later counts, and both are named.
#[must_use]
pub fn zones_together(said: Vec<Said<ZoneSeen>>) -> (Vec<ZoneSeen>, Vec<Clash>) {
    type Looked = (ZoneSeen, Option<(i64, Looks)>);
    let mut zones: BTreeMap<StationId, Looked> = BTreeMap::new();
    let mut clashes = Vec::new();
    for Said { person, what: seen, .. } in
        last_of_each(said, |z: &ZoneSeen| StationId::new(z.controller_number, z.station))
    {
        let key = StationId::new(seen.controller_number, seen.station);
        let (zone, looked) = zones.entry(key).or_insert_with(|| {
            (
                ZoneSeen { controller_number: key.controller, station: key.station, ..ZoneSeen::default() },
                None,
            )
        });
        if let Some(looks) = seen.looks {
            if let Some(first) = looked.filter(|(_, before)| *before != looks) {
                clashes.push(Clash {
                    controller_number: key.controller,
                    station: key.station,
                    first,
                    later: (person, looks),
                });
            }
            *looked = Some((person, looks));
            zone.looks = Some(looks);
        }
        zone.signs.extend(seen.signs);
        zone.plants = seen.plants.or(zone.plants);
        zone.available = seen.available.or(zone.available);
        zone.soil = seen.soil.or(zone.soil);
        zone.flow = seen.flow.or(zone.flow);
        if !seen.note.is_empty() {
            let before = core::mem::take(&mut zone.note);
            zone.note = if before.is_empty() { seen.note } else { format!("{before}\n{}", seen.note) };
        }
    }
    (zones.into_values().map(|(zone, _)| zone).collect(), clashes)
}

/// The same of controllers.
#[must_use]
pub fn controllers_together(said: Vec<Said<ControllerSeen>>) -> Vec<ControllerSeen> {
    let mut controllers: BTreeMap<u8, ControllerSeen> = BTreeMap::new();
    for Said { what: seen, .. } in last_of_each(said, |b: &ControllerSeen| b.controller_number) {
        let own = controllers.entry(seen.controller_number).or_insert_with(|| ControllerSeen {
            controller_number: seen.controller_number,
            ..ControllerSeen::default()
        });
        own.clock_ahead = seen.clock_ahead.or(own.clock_ahead);
        own.on = seen.on.or(own.on);
        own.bypassed = seen.bypassed.or(own.bypassed);
        own.battery = seen.battery.or(own.battery);
        own.nights.extend(seen.nights);
        for (at, program) in seen.programs {
            let known = own.programs.entry(at).or_default();
            known.on = program.on.or(known.on);
            known.percentage = program.percentage.or(known.percentage);
            known.starts = program.starts.or(known.starts.take());
            known.minutes.extend(program.minutes);
        }
    }
    controllers.into_values().collect()
}

/// The same of sensors.
#[must_use]
pub fn sensors_together(said: Vec<Said<SensorSeen>>) -> Vec<SensorSeen> {
    let mut sensors: BTreeMap<String, SensorSeen> = BTreeMap::new();
    for Said { what: seen, .. } in last_of_each(said, |s: &SensorSeen| s.name.clone()) {
        let own = sensors
            .entry(seen.name.clone())
            .or_insert_with(|| SensorSeen { name: seen.name.clone(), ..SensorSeen::default() });
        own.holds = seen.holds.or(own.holds);
        own.covered = seen.covered.or(own.covered);
        own.sprayed = seen.sprayed.or(own.sprayed);
    }
    sensors.into_values().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(minute: i64, person: i64, looks: Option<Looks>, signs: &[Sign]) -> Said<ZoneSeen> {
        let at = Timestamp::UNIX_EPOCH + jiff::SignedDuration::from_mins(minute);
        let signs = signs.iter().copied().collect();
        Said {
            at,
            person,
            what: ZoneSeen { controller_number: 1, station: 3, looks, signs, ..ZoneSeen::default() },
        }
    }

    #[test]
    fn a_later_entry_of_a_person_stands_in_place_of_the_earlier_one() {
        let first = said(0, 1, Some(Looks::Dry), &[Sign::Broken]);
        let again = said(5, 1, Some(Looks::Right), &[]);
        // They may arrive in any order: a phone sends what it kept when it is back on the net.
        let (zones, clashes) = zones_together(vec![again, first]);
        assert_eq!((zones.len(), zones[0].looks, zones[0].signs.len()), (1, Some(Looks::Right), 0));
        assert_eq!(clashes, []);
    }

    #[test]
    fn two_people_are_brought_together_and_named_where_they_differ() {
        let one = said(0, 1, Some(Looks::Dry), &[Sign::Broken]);
        let other = said(5, 2, Some(Looks::Wet), &[Sign::Runoff]);
        let (zones, clashes) = zones_together(vec![one.clone(), other]);
        assert_eq!(zones[0].looks, Some(Looks::Wet), "the later counts");
        assert_eq!(zones[0].signs, BTreeSet::from([Sign::Broken, Sign::Runoff]), "signs of both");
        let both = Clash { controller_number: 1, station: 3, first: (1, Looks::Dry), later: (2, Looks::Wet) };
        assert_eq!(clashes, [both]);
        // In one minute the order of coming counts, whoever they are.
        let (zones, _) =
            zones_together(vec![said(5, 2, Some(Looks::Dry), &[]), said(5, 1, Some(Looks::Wet), &[])]);
        assert_eq!(zones[0].looks, Some(Looks::Wet));
        // Who left it empty does not take anything away.
        let (zones, clashes) = zones_together(vec![one, said(5, 2, None, &[])]);
        assert_eq!((zones[0].looks, clashes.len()), (Some(Looks::Dry), 0));
    }

    #[test]
    fn a_controller_read_in_two_halves_is_one_controller() {
        let seen = |on, pct| ControllerSeen {
            controller_number: 1,
            on,
            programs: BTreeMap::from([(0, ProgramSeen { percentage: pct, ..ProgramSeen::default() })]),
            ..ControllerSeen::default()
        };
        let at = Timestamp::UNIX_EPOCH;
        let one = Said { at, person: 1, what: seen(Some(true), None) };
        let other = Said { at, person: 2, what: seen(None, Some(Percentage::HUNDRED)) };
        let controllers = controllers_together(vec![one, other]);
        assert_eq!(controllers, [seen(Some(true), Some(Percentage::HUNDRED))]);
    }
}
