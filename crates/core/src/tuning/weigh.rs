//! How evidence is weighed.
//!
//! Each cause is a small story: how it makes zones look, which of the facts seen it explains, which it should show
//! and does not. Every fact costs a story that does not explain it; every look costs by how well the story, else the
//! account, forecasts it. A story's share is e to its score, over that of all. The weights are natural logarithms of
//! odds and are our own; the generator of planted causes holds them to account.

use super::cause::{Cause, Evidence, Settle, Suspicion};
use super::picture::Picture;
use super::visit::{Looks, Sign};
use crate::quantity::ratio::Share;
use crate::site::StationId;
use std::collections::{BTreeMap, BTreeSet};

/// Odds of a look that is as forecast, next to it, and opposite to it: logarithms of 0.85, 0.12, 0.03.
const AS_TOLD: f64 = -0.16;
const NEXT_TO: f64 = -2.12;
const OPPOSITE: f64 = -3.51;
/// What a story costs that should have shown and did not, where somebody looked.
const NOT_SHOWN: f64 = -1.0;
/// What "nothing is wrong" costs in the list when a zone is said to be off.
const TOLD_OFF: f64 = 2.0;

/// Something that was seen or follows from what is known, which a story explains or not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum FactId {
    Sign(StationId, Sign),
    Flow(StationId),
    Soil(StationId),
    Minutes(StationId),
    /// One zone gets another share than the others.
    Alone(StationId),
    /// The zones of a controller, or of one of its programs, get too little or too much alike.
    AllOff(u8, Option<usize>),
    /// A program waters too seldom for the soil of its zones.
    Rhythm(u8, usize),
    /// A zone looks dry as the account has it, and gets too little.
    Short(StationId),
    Percentage(u8),
    ProgramOn(u8, usize),
    Starts(u8, usize),
    Clock(u8),
    Off(u8),
    Bypass(u8),
    Nights(u8),
    Covered(u8, usize),
    Sprayed(u8, usize),
    /// A sensor holds, and should not.
    HoldsTooLong(u8, usize),
    /// A sensor does not hold, and should.
    DoesNotHold(u8, usize),
    Meter,
    WetElsewhere,
    /// Runs that lie over each other and ask for more than there is.
    Overlap(u8),
    /// Anything that a rule found in the account and only its own cause explains.
    Own(Cause, u8, u16),
}

/// A fact with what it costs not to explain it.
pub(super) struct Fact {
    pub id: FactId,
    pub cost: f64,
    pub evidence: Evidence,
}

/// A story.
pub(super) struct Case {
    pub cause: Cause,
    pub controller_number: Option<u8>,
    pub station: Option<u16>,
    pub sensor: Option<String>,
    pub program: Option<usize>,
    pub settle: Settle,
    score: f64,
    for_it: Vec<Evidence>,
    against: Vec<Evidence>,
    looks: BTreeMap<StationId, Looks>,
    explains: BTreeSet<FactId>,
}

impl Case {
    /// A story with how rare it is.
    pub fn new(cause: Cause, rare: f64, settle: Settle) -> Self {
        Self {
            cause,
            controller_number: None,
            station: None,
            sensor: None,
            program: None,
            settle,
            score: -rare,
            for_it: Vec::new(),
            against: Vec::new(),
            looks: BTreeMap::new(),
            explains: BTreeSet::new(),
        }
    }

    pub fn at_zone(mut self, key: StationId) -> Self {
        (self.controller_number, self.station) = (Some(key.controller), Some(key.station));
        self
    }

    /// The station that it is about, when it is about one.
    fn at(&self) -> Option<StationId> {
        Some(StationId::new(self.controller_number?, self.station?))
    }

    pub fn at_controller(mut self, number: u8) -> Self {
        self.controller_number = Some(number);
        self
    }

    pub fn of_program(mut self, program: Option<usize>) -> Self {
        self.program = program;
        self
    }

    pub fn at_sensor(mut self, number: u8, name: &str) -> Self {
        (self.controller_number, self.sensor) = (Some(number), Some(name.to_owned()));
        self
    }

    /// Something that makes it more or less likely.
    pub fn say(&mut self, weight: f64, evidence: Evidence) {
        self.score += weight;
        if weight >= 0.0 { self.for_it.push(evidence) } else { self.against.push(evidence) }
    }

    /// How it makes a zone look.
    pub fn makes(&mut self, key: StationId, looks: Looks) {
        self.looks.insert(key, looks);
    }

    /// A fact that it explains.
    pub fn explains(&mut self, id: FactId) {
        self.explains.insert(id);
    }

    /// A sign that it explains, and that it should show.
    pub fn shows(&mut self, picture: &Picture<'_>, key: StationId, sign: Sign) {
        self.explains.insert(FactId::Sign(key, sign));
        let zone = picture.zones.iter().find(|z| z.key() == key);
        if zone.is_some_and(|z| z.looked_at() && !z.has(sign)) {
            self.say(NOT_SHOWN, Evidence::NoSign(sign));
        }
    }

    fn explains_fact(&self, id: FactId) -> bool {
        self.explains.contains(&id)
    }
}

/// Whether anything that was seen speaks for a story: a fact that it explains, a look that it forecasts and the
/// account does not.
fn speaks(case: &Case, picture: &Picture<'_>, facts: &[Fact]) -> bool {
    let forecasts = |(key, told): (&StationId, &Looks)| {
        let zone = picture.zones.iter().find(|z| z.key() == *key);
        zone.is_some_and(|z| z.looks() == Some(*told) && z.expected != *told)
    };
    facts.iter().any(|fact| case.explains_fact(fact.id)) || case.looks.iter().any(forecasts)
}

/// What a look costs a story that forecast another.
fn odds(seen: Looks, told: Looks) -> f64 {
    match (seen, told) {
        (a, b) if a == b => AS_TOLD,
        (Looks::Dry, Looks::Wet) | (Looks::Wet, Looks::Dry) => OPPOSITE,
        _ => NEXT_TO,
    }
}

/// The stories, weighed.
pub(super) struct Weighed {
    /// The likeliest first.
    pub suspicions: Vec<Suspicion>,
    /// Those to act on, by place, in the order in which each adds most to what the others explain.
    pub chosen: Vec<usize>,
}

/// Weighs the stories against each other, the likeliest first.
pub(super) fn weigh(picture: &Picture<'_>, facts: &[Fact], cases: Vec<Case>) -> Weighed {
    let nothing_seen = |case: &Case| case.cause != Cause::NothingWrong && !speaks(case, picture, facts);
    let mut all: Vec<Case> = cases;
    all.retain(|case| !nothing_seen(case));
    let chosen = choose(picture, facts, &all);
    let off = picture.zones.iter().any(|z| z.looks().is_some_and(|seen| seen != z.expected));
    for case in &mut all {
        for fact in facts {
            if case.explains_fact(fact.id) {
                case.for_it.push(fact.evidence.clone());
            } else {
                case.score -= fact.cost;
            }
        }
        add_looks(case, picture);
    }
    // Somebody who says that a zone is off is told what it may be, before an adjustment is turned for it.
    if let Some(case) = all.iter_mut().find(|c| off && c.cause == Cause::NothingWrong) {
        case.score -= TOLD_OFF;
    }
    let best = all.iter().map(|c| c.score).fold(f64::NEG_INFINITY, f64::max);
    let sum: f64 = all.iter().map(|c| (c.score - best).exp()).sum();
    let mut out: Vec<(usize, Suspicion)> = Vec::with_capacity(all.len());
    for (at, case) in all.into_iter().enumerate() {
        let share = Share::from_fraction((case.score - best).exp() / sum);
        out.push((at, suspicion(case, share, facts)));
    }
    // What is as likely, to the hundredth, comes in the order of the trade.
    #[allow(clippy::cast_possible_truncation, reason = "a share")]
    let hundredths = |s: &Suspicion| s.share.percent().round() as i64;
    out.sort_by_key(|(_, s)| (core::cmp::Reverse(hundredths(s)), s.cause.rank()));
    let place = |own: &usize| out.iter().position(|(at, _)| at == own);
    let chosen: Vec<(usize, f64)> = chosen.iter().filter_map(|(at, own)| Some((place(at)?, *own))).collect();
    let mut suspicions: Vec<Suspicion> = out.into_iter().map(|(_, s)| s).collect();
    for (at, own) in &chosen {
        if let Some(suspicion) = suspicions.get_mut(*at) {
            suspicion.of_rivals = Some(Share::from_fraction(*own));
        }
    }
    Weighed { suspicions, chosen: chosen.into_iter().map(|(at, _)| at).collect() }
}

fn suspicion(case: Case, share: Share, facts: &[Fact]) -> Suspicion {
    let of_fact = |id: &FactId| match id {
        FactId::Sign(key, _) | FactId::Flow(key) | FactId::Soil(key) => Some(*key),
        FactId::Minutes(key) | FactId::Alone(key) | FactId::Short(key) => Some(*key),
        _ => None,
    };
    let signs = facts.iter().filter(|f| case.explains_fact(f.id)).filter_map(|f| of_fact(&f.id));
    let own = case.at();
    let explained: BTreeSet<_> = case.looks.keys().copied().chain(signs).chain(own).collect();
    Suspicion {
        cause: case.cause,
        controller_number: case.controller_number,
        station: case.station,
        sensor: case.sensor,
        program: case.program,
        share,
        of_rivals: None,
        for_it: case.for_it,
        against: case.against,
        settle: case.settle,
        explains: explained.into_iter().collect(),
    }
}

/// A cause is acted on when it adds so much to what is explained already (a natural logarithm of odds).
const ACTED_ON: f64 = 1.0;
/// And when it has so much of what is likely of those that could explain the same.
const ACTED_SHARE: f64 = 0.3;
/// More at once nobody sees to at a visit.
const MOST_CHOSEN: usize = 12;

/// The stories to act on, by place: the one that explains most, then the one that explains most of the rest, and so on.
/// A broken head and a low percentage may both be so; two that explain the same may not.
fn choose(picture: &Picture<'_>, facts: &[Fact], all: &[Case]) -> Vec<(usize, f64)> {
    let mut told: BTreeMap<StationId, Looks> = picture.zones.iter().map(|z| (z.key(), z.expected)).collect();
    let mut explained: BTreeSet<FactId> = BTreeSet::new();
    let mut chosen: Vec<(usize, f64)> = Vec::new();
    let mut tried: BTreeSet<usize> = BTreeSet::new();
    let nothing = all.iter().find(|c| c.cause == Cause::NothingWrong).map_or(0.0, |c| c.score);
    while tried.len() < MOST_CHOSEN {
        let gain = |case: &Case| {
            let new = facts.iter().filter(|f| case.explains_fact(f.id) && !explained.contains(&f.id));
            let looks = picture.zones.iter().filter_map(|z| {
                let (seen, now) = (z.looks()?, *told.get(&z.key())?);
                let then = case.looks.get(&z.key()).copied().unwrap_or(now);
                Some(odds(seen, then) - odds(seen, now))
            });
            case.score - nothing + new.map(|f| f.cost).sum::<f64>() + looks.sum::<f64>()
        };
        // What a story would newly explain: facts, and zones that look as it forecasts.
        let news = |case: &Case| -> (BTreeSet<FactId>, BTreeSet<StationId>) {
            let facts =
                facts.iter().map(|f| f.id).filter(|id| case.explains_fact(*id) && !explained.contains(id));
            let zones = picture.zones.iter().filter(|z| {
                let then = case.looks.get(&z.key());
                z.looks().is_some() && z.looks() == then.copied() && told.get(&z.key()) != then
            });
            (facts.collect(), zones.map(|z| z.key()).collect())
        };
        let open =
            all.iter().enumerate().filter(|(at, c)| c.cause != Cause::NothingWrong && !tried.contains(at));
        let gains: Vec<(usize, f64)> = open.map(|(at, case)| (at, gain(case))).collect();
        let best = gains.iter().copied().max_by(|a, b| a.1.total_cmp(&b.1));
        let Some((at, own)) = best.filter(|(_, gain)| *gain >= ACTED_ON) else { break };
        let Some(case) = all.get(at) else { break };
        let (new_facts, new_zones) = news(case);
        let rivals = gains.iter().filter(|(other, _)| {
            let Some(other) = all.get(*other) else { return false };
            let (facts, zones) = news(other);
            !facts.is_disjoint(&new_facts) || !zones.is_disjoint(&new_zones)
        });
        let sum: f64 = rivals.map(|(_, gain)| (gain - own).exp()).sum();
        // What nobody can tell apart is measured first; everything it explains waits for that.
        tried.insert(at);
        if 1.0 >= ACTED_SHARE * sum {
            chosen.push((at, 1.0 / sum.max(1.0)));
        }
        told.extend(case.looks.iter().map(|(key, looks)| (*key, *looks)));
        explained.extend(new_facts);
    }
    chosen
}

/// What the looks of the zones say of a story.
fn add_looks(case: &mut Case, picture: &Picture<'_>) {
    let mut alike: BTreeMap<(u8, Looks), usize> = BTreeMap::new();
    for zone in &picture.zones {
        let Some(seen) = zone.looks() else { continue };
        let told = case.looks.get(&zone.key()).copied();
        case.score += odds(seen, told.unwrap_or(zone.expected));
        match told {
            Some(told) if told == seen => *alike.entry((zone.zone.controller_number, seen)).or_default() += 1,
            Some(_) if case.station.is_some() => case.against.push(Evidence::LooksOtherwise(seen)),
            _ => {}
        }
        let own = case.at() == Some(zone.key());
        if own && told == Some(seen) && seen != zone.expected {
            case.for_it.push(Evidence::Contradicts { seen, expected: zone.expected });
        } else if own && told == Some(seen) {
            case.for_it.push(Evidence::AsExpected(seen));
        }
    }
    if case.station.is_none() {
        for ((number, looks), zones) in alike {
            let of = picture.of_controller(number).filter(|z| z.looks().is_some()).count();
            if looks != Looks::Right {
                case.for_it.push(Evidence::Alike { looks, zones, of });
            }
        }
    }
}
