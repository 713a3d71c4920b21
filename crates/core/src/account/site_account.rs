//! The account of a whole site: its sky, the runs of its controllers, and every zone hour by hour up to an instant.

pub use super::inputs::AccountInputs;

use super::evidence::{Evidence, FieldReading, Watering, joined};
use super::meters::{metered, told};
use super::nights::{ZoneNight, nights, subject};
use super::running::{ControllerFacts, ControllerRun, running};
use super::site_runs::SiteRuns;
use super::sky::SkyHours;
use super::zone::{AccountDay, AccountHour, ZoneFacts, ZoneState, account_with_runs};
use crate::controller::ordinance::Subject;
use crate::quantity::span::DateSpan;
use crate::quantity::time::midnight;
use crate::site::{StationId, SurveyedZone, Zone};
use crate::weather::climate::Climate;
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet};

/// What an account takes as the watering of each day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum EvidencePolicy {
    /// The best evidence there is.
    #[default]
    Best,
    /// The controller as it is set, whatever was logged.
    AsSet,
    /// As advised, whatever ran.
    AsAdvised,
}

/// A zone of a site's account.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneAccount {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its station.
    pub station: u16,
    /// Its days, in order.
    pub days: Vec<AccountDay>,
    /// Its water at the end.
    pub end: ZoneState,
    /// What watered it, known or advised, in order.
    pub waterings: Vec<Watering>,
}

/// The account of a site up to an instant.
#[derive(Debug, Clone, PartialEq)]
pub struct SiteAccount {
    /// Up to here facts were counted.
    pub until: Timestamp,
    /// The hours over the site.
    pub sky: SkyHours,
    /// Its zones, in the order of the facts.
    pub zones: Vec<ZoneAccount>,
    /// What its controllers ran or were held from.
    pub runs: SiteRuns,
}

impl SiteAccount {
    /// The account of a zone.
    #[must_use]
    pub fn zone(&self, id: StationId) -> Option<&ZoneAccount> {
        self.zones.iter().find(|z| StationId::new(z.controller_number, z.station) == id)
    }
}

/// What is known of the runs of a site, before any zone's water is counted.
struct Known {
    runs: SiteRuns,
    /// Whether days are taken from the log.
    logged: bool,
    advised: bool,
    /// Spans of the meter, each with what it counted over what the runs would have taken.
    metered: Vec<(Timestamp, Timestamp, f64)>,
    /// Runs of which a flow meter told, by controller, station and start: what it read over what they take.
    told: BTreeMap<(u8, u16, Timestamp), f64>,
}

/// What the nights of a zone hang on: zones of which it is the same have the same.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
struct AlikeNights {
    controller_number: u8,
    kind: Subject,
    under_glass: bool,
    /// Its own water window, and the dates of a grow-in, which has another.
    window: Option<(Time, Time)>,
    grow_in: Option<DateSpan>,
}

impl AlikeNights {
    fn new(facts: &AccountInputs, zone: &Zone) -> Self {
        Self {
            controller_number: zone.controller_number,
            kind: facts.law.kind_of(subject(zone)),
            under_glass: zone.sky == crate::ground::plant::Sky::UnderGlass,
            window: zone.window.map(|hours| (hours.from, hours.until)),
            grow_in: zone.planting.grow_in.map(|grow_in| DateSpan::new(grow_in.from, grow_in.until)),
        }
    }
}

/// The account of a site from a first day to an instant; each hour of each zone is shown to `each` with the place
/// of the zone.
pub fn of_site(
    facts: &AccountInputs,
    way: EvidencePolicy,
    from: Date,
    until: Timestamp,
    mut each: impl FnMut(usize, &AccountHour),
) -> SiteAccount {
    let sky = SkyHours::of(&facts.climate, facts.site.longitude_deg, &facts.tz, from, until);
    let known = Known::of(facts, way, from, until);
    let mut shared: BTreeMap<AlikeNights, Vec<ZoneNight>> = BTreeMap::new();
    let mut zones = Vec::with_capacity(facts.zones.len());
    for (place, SurveyedZone { zone, resolved }) in facts.zones.iter().enumerate() {
        let (runs, evidence) = known.of_zone(facts, zone, &sky);
        let nights = if evidence.contains(&Evidence::AsAdvised) {
            // Zones that the law, the sky and their water windows treat alike have the same nights.
            let own = shared.entry(AlikeNights::new(facts, zone)).or_insert_with(|| {
                facts.with_rules(zone.controller_number, |rules| nights(rules, zone, &sky))
            });
            own.as_slice()
        } else {
            &[]
        };
        let readings: Vec<FieldReading> = match way {
            EvidencePolicy::AsAdvised => Vec::new(),
            _ => facts.log.readings_of(zone.controller_number, zone.number, until),
        };
        let own = ZoneFacts {
            zone,
            resolved,
            earlier: facts.earlier_of(zone.station_id()),
            runs: &runs,
            evidence: &evidence,
            nights,
            readings: &readings,
            advise: facts.advise,
        };
        let (days, end, advised) = account_with_runs(&own, &sky, |hour| each(place, hour));
        let waterings = joined(runs.into_iter().chain(advised).collect());
        zones.push(ZoneAccount {
            controller_number: zone.controller_number,
            station: zone.number,
            days,
            end,
            waterings,
        });
    }
    SiteAccount { until, sky, zones, runs: known.runs }
}

/// Months whose first day an account may begin on.
const ANCHORS: [i8; 2] = [1, 7];
/// An account about a date begins at least so many days before it, so that its start no longer matters.
const BACK_DAYS: i32 = 183;

/// The first day of an account about a date: the last first of January or July that lies half a year back, so that
/// days that follow each other tell one story; or the first recorded day after it.
#[must_use]
pub fn begins(climate: &Climate, date: Date) -> Date {
    let back = date.checked_sub(BACK_DAYS.days()).unwrap_or(date);
    let mut anchor = back.first_of_month();
    while !ANCHORS.contains(&anchor.month()) {
        anchor = anchor.checked_sub(1.month()).unwrap_or(back);
    }
    climate.span().map(|span| span.first).filter(|first| (anchor..=date).contains(first)).unwrap_or(anchor)
}

impl Known {
    fn of(facts: &AccountInputs, way: EvidencePolicy, from: Date, until: Timestamp) -> Self {
        let last = until.to_zoned(facts.tz.clone()).date();
        let runs: BTreeMap<u8, Vec<ControllerRun>> = match way {
            EvidencePolicy::AsAdvised => BTreeMap::new(),
            EvidencePolicy::Best | EvidencePolicy::AsSet => {
                let of = |b: &ControllerFacts| (b.number, running(b, facts.surveys(), &facts.tz, from, last));
                facts.controllers.iter().map(of).collect()
            }
        };
        let metered = if way == EvidencePolicy::Best { metered(facts, &runs) } else { Vec::new() };
        let told = if way == EvidencePolicy::Best { told(facts, &runs) } else { BTreeMap::new() };
        let runs = SiteRuns::from(runs);
        Self {
            runs,
            logged: way == EvidencePolicy::Best,
            advised: way == EvidencePolicy::AsAdvised,
            metered,
            told,
        }
    }

    /// The runs of a zone, and how each day of the sky is known.
    fn of_zone(&self, facts: &AccountInputs, zone: &Zone, sky: &SkyHours) -> (Vec<Watering>, Vec<Evidence>) {
        let of_zone = |controller_number: u8, station: u16| {
            StationId::new(controller_number, station) == zone.station_id()
        };
        let date_of = |at: Timestamp| at.to_zoned(facts.tz.clone()).date();
        let logged: Vec<_> = if self.logged {
            facts.log.runs.iter().filter(|r| of_zone(r.controller_number, r.station)).collect()
        } else {
            Vec::new()
        };
        let logged_days: BTreeSet<Date> = logged.iter().map(|r| date_of(r.from)).collect();
        let own = facts.of_controller(zone.controller_number).filter(|_| !self.advised);
        let known_since = own.and_then(|b| b.set_since(zone.number));
        let is_metered =
            |from: Timestamp, to: Timestamp| self.metered.iter().any(|(a, b, _)| *a <= from && to <= *b);
        let set = self.runs.of(zone.station_id()).filter(|r| !r.is_held());
        let flow = facts.log.flow.get(&zone.controller_number).filter(|_| self.logged);
        let device = |begins: Timestamp, ends: Timestamp| {
            let heard = flow.is_some_and(|flow| !flow.between(begins, ends).is_empty());
            let on = |run: &&ControllerRun| (begins..ends).contains(&run.run.start);
            heard && set.clone().filter(on).all(|run| self.told_of(zone, run).is_some())
        };
        let evidence = |date: Date, begins: Timestamp, ends: Timestamp| {
            if logged_days.contains(&date) {
                Evidence::Logged
            } else if known_since.is_some_and(|since| since <= begins) {
                match () {
                    () if is_metered(begins, ends) => Evidence::Metered,
                    () if device(begins, ends) => Evidence::Device,
                    () => Evidence::AsSet,
                }
            } else {
                Evidence::AsAdvised
            }
        };
        let evidence = sky.days().iter().map(|d| evidence(d.date, d.begins, d.ends)).collect();
        let mut runs: Vec<Watering> = set
            .clone()
            .map(|r| Watering { strength: self.strength(zone, r), ..r.watering() })
            // A log of a day says all that ran on it.
            .filter(|w| logged_days.is_empty() || !logged_days.contains(&date_of(w.from)))
            .collect();
        runs.extend(logged.iter().map(|r| Watering::plain(r.from, r.until)));
        (joined(runs), evidence)
    }

    /// What the main meter says of a run, else a flow meter.
    fn strength(&self, zone: &Zone, run: &ControllerRun) -> f64 {
        let at = run.run.start;
        let metered = self.metered.iter().find(|(from, until, _)| *from <= at && at < *until);
        metered.map(|(_, _, s)| *s).or_else(|| self.told_of(zone, run)).unwrap_or(1.0)
    }

    fn told_of(&self, zone: &Zone, run: &ControllerRun) -> Option<f64> {
        self.told.get(&(zone.controller_number, zone.number, run.run.start)).copied()
    }
}

/// The instant at which a date ends.
#[must_use]
pub fn end_of(date: Date, tz: &TimeZone) -> Timestamp {
    midnight(date.tomorrow().unwrap_or(date), tz)
}
