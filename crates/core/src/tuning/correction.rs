//! What readings and visits say of a zone's survey, and how a prediction came out.

use super::outlook::ZoneOutlook;
use super::visit::{Looks, Visit};
use crate::account::site_account::{AccountInputs, SiteAccount};
use crate::account::zone::AccountDay;
use crate::quantity::ratio::Share;
use crate::quantity::units::Millimetres;
use crate::site::{StationId, SurveyedZone};

/// What is offered a correction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// The factor on demand: coefficient or trim.
    Demand,
    /// The precipitation rate.
    Rate,
}

/// A correction of a zone, offered and never made by itself.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Correction {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its station.
    pub station: u16,
    /// Of what.
    pub kind: Kind,
    /// What the present value is multiplied by.
    pub factor: f64,
    /// Readings that it rests on.
    pub readings: usize,
    /// Confidence: the share of them that point the same way, less for few of them.
    pub confidence: Share,
}

/// A correction smaller than this is none.
const LEAST: f64 = 0.08;
/// A correction is bounded (our stated bounds).
const BOUNDS: (f64, f64) = (0.5, 2.0);
/// A span in which less than this was asked for or applied says nothing, mm.
const LEAST_MM: f64 = 8.0;

/// What the readings of each zone's soil say against the account, span by span between readings: a span in which
/// nothing was applied speaks of demand, one with watering of the rate. A single reading is weak; two that agree are
/// offered with more confidence.
#[must_use]
pub fn corrections(facts: &AccountInputs, account: &SiteAccount) -> Vec<Correction> {
    let mut out = Vec::new();
    for SurveyedZone { zone, .. } in &facts.zones {
        let Some(own) = account.zone(zone.station_id()) else { continue };
        let spans = spans(&own.days);
        for kind in [Kind::Demand, Kind::Rate] {
            let factors: Vec<f64> = spans.iter().filter_map(|span| span.factor(kind)).collect();
            out.extend(agreed(&factors).map(|(factor, confidence)| Correction {
                controller_number: zone.controller_number,
                station: zone.number,
                kind,
                factor,
                readings: factors.len(),
                confidence,
            }));
        }
    }
    out
}

/// The days from one reading to the next.
struct Span {
    demand: f64,
    net: f64,
    /// What was missing by the reading, less what was missing by the account.
    more: f64,
}

impl Span {
    fn factor(&self, kind: Kind) -> Option<f64> {
        // Watering outweighs demand: then the rate is what can be off by most.
        let of_rate = self.net > LEAST_MM;
        let factor = match kind {
            Kind::Demand if !of_rate && self.demand > LEAST_MM => 1.0 + self.more / self.demand,
            Kind::Rate if of_rate => 1.0 - self.more / self.net,
            _ => return None,
        };
        Some(factor.clamp(BOUNDS.0, BOUNDS.1))
    }
}

fn spans(days: &[AccountDay]) -> Vec<Span> {
    let mut out = Vec::new();
    let (mut demand, mut net, mut known) = (0.0, 0.0, false);
    for day in days {
        demand += day.water.demand.mm();
        net += day.water.net().mm();
        if let Some(by_account) = day.reset_from {
            if known {
                out.push(Span { demand, net, more: (day.water.depletion - by_account).mm() });
            }
            (demand, net, known) = (0.0, 0.0, true);
        }
    }
    out
}

/// The middle of some factors and how far they agree; `None` when they say nothing.
fn agreed(factors: &[f64]) -> Option<(f64, Share)> {
    let middle = super::picture::middle(factors.to_vec())?;
    if (middle - 1.0).abs() < LEAST {
        return None;
    }
    let same = factors.iter().filter(|f| (**f > 1.0) == (middle > 1.0)).count();
    let count = |n: usize| u32::try_from(n).map_or(0.0, f64::from);
    // One reading of one: a third. Four of four: two thirds.
    let confidence = count(same) / (count(factors.len()) + 2.0);
    Some((middle, Share::from_fraction(confidence)))
}

/// How a prediction came out at a zone.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Outcome {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its station.
    pub station: u16,
    /// How it was to look.
    pub predicted: Looks,
    /// How it looks.
    pub seen: Looks,
    /// What its plants were to get of what they ask for.
    pub adequacy: Share,
    /// What they got, by the account.
    pub came: Option<Share>,
    /// Rain of these days, which a prediction never counts.
    pub rain: Millimetres,
}

/// Lays what was predicted at the last visit beside what is seen now.
#[must_use]
pub fn outcomes(
    predicted: &[ZoneOutlook],
    account: &SiteAccount,
    since: jiff::civil::Date,
    visit: &Visit,
) -> Vec<Outcome> {
    let of = |told: &ZoneOutlook| {
        let seen = visit.zone(StationId::new(told.controller_number, told.station))?.looks?;
        let own = account.zone(StationId::new(told.controller_number, told.station))?;
        let days = own.days.iter().filter(|d| d.date >= since);
        let sum = |of: fn(&AccountDay) -> Millimetres| days.clone().map(of).sum::<Millimetres>();
        let (demand, et) = (sum(|d| d.water.demand), sum(|d| d.water.et));
        Some(Outcome {
            controller_number: told.controller_number,
            station: told.station,
            predicted: told.looks,
            seen,
            adequacy: told.adequacy,
            came: (demand.mm() > 0.0).then(|| Share::from_fraction(et.mm() / demand.mm())),
            rain: sum(|d| d.water.rain),
        })
    };
    predicted.iter().filter_map(of).collect()
}
