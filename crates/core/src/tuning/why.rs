//! Why a zone was dry, or wet, over some days: the account's own answer.

use crate::account::running::cause_of;
use crate::account::running::{ControllerRun, Holder};
use crate::account::site_account::{AccountInputs, SiteAccount};
use crate::account::zone::AccountDay;
use crate::quantity::time::Seconds;
use crate::quantity::units::Millimetres;
use crate::site::{StationId, SurveyedZone};
use jiff::civil::Date;
use std::collections::BTreeMap;

/// Runs that were held or cut for one cause.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct HeldFor {
    /// Short name of the cause.
    pub cause: &'static str,
    /// Runs.
    pub runs: usize,
    /// What they would have brought, net.
    pub net: Millimetres,
}

/// What kept a zone short, or drowned it, by how much it weighs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Reason {
    /// Nothing was set to run on it.
    NothingSet,
    /// What was set was less than it asked for, by so much.
    SetTooLittle(Millimetres),
    /// What was set was more than it asked for, by so much.
    SetTooMuch(Millimetres),
    /// Runs were held.
    Held(HeldFor),
    /// Watering ran off.
    RanOff(Millimetres),
    /// Watering drained below the roots.
    Drained(Millimetres),
    /// Rain drained: more fell than the root zone holds.
    RainDrained(Millimetres),
}

/// The account of a zone over some days, in sums, with the answer.
#[derive(Debug, Clone, PartialEq)]
pub struct Why {
    /// First day.
    pub from: Date,
    /// Last day.
    pub to: Date,
    /// What its plants asked for.
    pub demand: Millimetres,
    /// What they took.
    pub taken: Millimetres,
    /// Rain that reached it.
    pub rain: Millimetres,
    /// Watering.
    pub applied: Millimetres,
    /// Days on which its plants were short.
    pub short_days: usize,
    /// The day on which most was missing, with that and the refill point.
    pub driest: Option<(Date, Millimetres, Millimetres)>,
    /// Runs held or cut, by cause, most water first.
    pub held: Vec<HeldFor>,
    /// What it comes from, the weightiest first; empty when all was well.
    pub reasons: Vec<Reason>,
}

impl Why {
    /// What its plants missed.
    #[must_use]
    pub fn missed(&self) -> Millimetres {
        self.demand - self.taken
    }
}

/// Less than this weighs nothing, mm.
const LEAST_MM: f64 = 1.0;
/// Shares of the demand missed above which it was dry.
const DRY_ABOVE: f64 = 0.03;

// Long: one sum after another.
/// The answer for a zone over some days, both included; `None` when the account does not know the zone.
#[must_use]
pub fn why(facts: &AccountInputs, account: &SiteAccount, id: StationId, from: Date, to: Date) -> Option<Why> {
    let own = account.zone(id)?;
    let SurveyedZone { resolved, .. } = facts.zone(id)?;
    let days: Vec<&AccountDay> = own.days.iter().filter(|d| (from..=to).contains(&d.date)).collect();
    let sum = |of: fn(&AccountDay) -> Millimetres| days.iter().map(|d| of(d)).sum::<Millimetres>();
    let runs = account.runs.of(id);
    let date = |run: &ControllerRun| run.run.start.to_zoned(facts.tz.clone()).date();
    let runs: Vec<&ControllerRun> =
        runs.filter(|r| (from..=to).contains(&date(r)) && r.run.start < account.until).collect();
    let net = |length: Seconds| resolved.net_of(length.minutes());
    let mut held: BTreeMap<&'static str, HeldFor> = BTreeMap::new();
    for run in runs.iter().filter(|r| r.waters() < r.run.length()) {
        let Some(cause) = run.held_by.first().map(|h: &Holder| cause_of(h)) else { continue };
        let lost = net(run.run.length() - run.waters());
        let slot = held.entry(cause).or_insert(HeldFor { cause, runs: 0, net: Millimetres::ZERO });
        slot.runs += 1;
        slot.net = slot.net + lost;
    }
    let mut held: Vec<HeldFor> = held.into_values().collect();
    held.sort_by(|a, b| b.net.mm().total_cmp(&a.net.mm()));
    let planned: Millimetres = runs.iter().map(|r| net(r.run.length())).sum();
    let driest = days.iter().max_by(|a, b| {
        let over = |d: &AccountDay| d.water.depletion.mm() - d.refill_at.mm();
        over(a).total_cmp(&over(b))
    });
    let mut why = Why {
        from,
        to,
        demand: sum(|d| d.water.demand),
        taken: sum(|d| d.water.et),
        rain: sum(|d| d.water.rain_in),
        applied: sum(|d| d.water.applied),
        short_days: days.iter().filter(|d| d.short).count(),
        driest: driest.map(|d| (d.date, d.water.depletion, d.refill_at)),
        held,
        reasons: Vec::new(),
    };
    let kept_rain = sum(|d| d.water.rain_kept());
    let need = (why.demand - kept_rain).max(Millimetres::ZERO);
    let ran_off = sum(|d| d.water.applied_off);
    let drained = sum(|d| d.water.applied_drained - d.water.uneven);
    let mut reasons = Vec::new();
    if why.missed().mm() > DRY_ABOVE * why.demand.mm() && why.missed().mm() > LEAST_MM {
        if runs.is_empty() && why.applied.mm() < LEAST_MM {
            reasons.push((why.missed().mm(), Reason::NothingSet));
        } else {
            let gap = need - planned;
            reasons.push((gap.mm(), Reason::SetTooLittle(gap)));
        }
        reasons.extend(why.held.iter().map(|h| (h.net.mm(), Reason::Held(*h))));
        reasons.push((ran_off.mm(), Reason::RanOff(ran_off)));
    } else {
        let rain_drained = sum(|d| d.water.drainage - d.water.applied_drained);
        let over = planned - need;
        if drained.mm() > 0.2 * why.applied.mm() {
            reasons.push((over.mm(), Reason::SetTooMuch(over)));
            reasons.push((drained.mm() * 0.9, Reason::Drained(drained)));
        }
        reasons.push((ran_off.mm(), Reason::RanOff(ran_off)));
        reasons.push((rain_drained.mm() * 0.8, Reason::RainDrained(rain_drained)));
    }
    reasons.retain(|(mm, _)| *mm > LEAST_MM);
    reasons.sort_by(|a, b| b.0.total_cmp(&a.0));
    why.reasons = reasons.into_iter().map(|(_, reason)| reason).collect();
    Some(why)
}
