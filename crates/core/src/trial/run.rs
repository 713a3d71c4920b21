//! A way's season: its account, in the sums by which ways are compared.

use super::apply::apply;
use super::supply::{Demand, Tariff, demand, in_turn};
use super::way::{Refusal, TrialWay};
use crate::account::evidence::{Evidence, Watering};
use crate::account::nights::{rained_by, subject};
use crate::account::running::cause_of;
use crate::account::site_account::{AccountInputs, EvidencePolicy, SiteAccount, begins, end_of, of_site};
use crate::account::sky::SkyHours;
use crate::account::zone::{AccountDay, AccountHour, ZoneFacts, account};
use crate::controller::breaches::breaches;
use crate::controller::windows::night_at;
use crate::quantity::ratio::Share;
use crate::quantity::span::{DateSpan, TimeSpan};
use crate::quantity::time::{Seconds, midnight, monday_of};
use crate::quantity::units::{Litres, Millimetres};
use crate::site::{ResolvedZone, SurveyedZone, Zone};
use jiff::Timestamp;
use jiff::civil::Date;
use std::collections::BTreeMap;

/// A part of a zone: a quarter of it gets least, a quarter most.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct PartResult {
    /// Share of the mean application that falls there.
    pub strength: f64,
    /// What its plants asked for, and got.
    pub needed: Millimetres,
    /// What they got of it.
    pub et: Millimetres,
    /// Watering that ran off it or drained below its roots.
    pub wasted: Millimetres,
    /// Days on which its plants were short.
    pub stress_days: u32,
}

impl PartResult {
    /// Met demand over demand.
    #[must_use]
    pub fn adequacy(&self) -> Share {
        share(self.et, self.needed, 1.0)
    }
}

/// A zone's season.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneResult {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its station.
    pub station: u16,
    /// What its plants asked for.
    pub needed: Millimetres,
    /// What they got.
    pub et: Millimetres,
    /// Watering as it came out of the heads.
    pub applied: Millimetres,
    /// Of it, what went in.
    pub applied_in: Millimetres,
    /// Rain that reached it.
    pub rain: Millimetres,
    /// Of it, what went in.
    pub rain_in: Millimetres,
    /// What ran off.
    pub runoff: Millimetres,
    /// What drained below the roots.
    pub drainage: Millimetres,
    /// What was missing from full at the begin, and at the end.
    pub depletion: (Millimetres, Millimetres),
    /// Watering that ran off or drained.
    pub wasted: Millimetres,
    /// Days on which its plants were short.
    pub stress_days: u32,
    /// Times that water ran.
    pub runs: u32,
    /// Runs that were held, by cause: a name of [`cause_of`].
    pub skipped: BTreeMap<&'static str, u32>,
    /// Dates on which a run was held, in order, each with the cause of the first.
    pub held: Vec<(Date, &'static str)>,
    /// Runs that the law forbids: by day, hour or minutes, or after rain.
    pub forbidden: u32,
    /// Runs that begin or end outside the site's water window.
    pub outside: u32,
    /// Water, if the area is known.
    pub litres: Option<Litres>,
    /// The quarter that gets least, the half between, the quarter that gets most.
    pub parts: [PartResult; 3],
    /// The week, by its Monday, in which its plants missed most, with what they missed.
    pub worst_week: Option<(Date, Millimetres)>,
    /// Its days.
    pub days: Vec<AccountDay>,
}

impl ZoneResult {
    /// Met demand over demand; all of it where nothing was asked for.
    #[must_use]
    pub fn adequacy(&self) -> Share {
        share(self.et, self.needed, 1.0)
    }

    /// Runoff and drainage caused by watering over what was applied; none where nothing was.
    #[must_use]
    pub fn excess(&self) -> Share {
        share(self.wasted, self.applied, 0.0)
    }
}

fn share(part: Millimetres, whole: Millimetres, of_nothing: f64) -> Share {
    Share::from_fraction(if whole.mm() > 0.0 { part.mm() / whole.mm() } else { of_nothing })
}

/// A site's season.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SiteResult {
    /// Water of the zones whose area is known; `None` when none is.
    pub litres: Option<Litres>,
    /// Met demand over demand, zones weighted by area where every area is known, else alike.
    pub adequacy: Share,
    /// Watering that ran off or drained over what was applied, weighted alike.
    pub excess: Share,
    /// What water and pump cost, where a tariff is known.
    pub cost: Option<f64>,
    /// What it asks of the supply.
    pub supply: Demand,
}

/// A way's season.
#[derive(Debug, Clone, PartialEq)]
pub struct WayResult {
    /// The way.
    pub way: TrialWay,
    /// The zones, in the order of the site.
    pub zones: Vec<ZoneResult>,
    /// The site.
    pub site: SiteResult,
}

impl WayResult {
    /// Its water in one number, to compare ways of a site: litres of the zones whose area is known, else millimetres
    /// over all zones.
    #[must_use]
    pub fn water(&self) -> f64 {
        self.site.litres.map_or_else(|| self.zones.iter().map(|z| z.applied.mm()).sum(), |litres| litres.l())
    }

    /// Days on which plants were short, over all zones.
    #[must_use]
    pub fn stress_days(&self) -> u32 {
        self.zones.iter().map(|zone| zone.stress_days).sum()
    }
}

/// Runs a way over some days of a site's weather, both included. Each hour of each zone in them is shown to `each`
/// with the place of the zone.
///
/// # Errors
/// Everything that keeps the way from being tried, before anything is computed.
pub fn run(
    way: &TrialWay,
    facts: &AccountInputs,
    span: DateSpan,
    tariff: Option<&Tariff>,
    each: impl FnMut(usize, &AccountHour),
) -> Result<WayResult, Vec<Refusal>> {
    measured(way, facts, span, tariff, Detail::InParts, each)
}

/// The same by the mean of each zone alone, at a quarter of the cost: its parts are left empty.
///
/// # Errors
/// As [`run`].
pub fn run_mean(
    way: &TrialWay,
    facts: &AccountInputs,
    span: DateSpan,
    tariff: Option<&Tariff>,
) -> Result<WayResult, Vec<Refusal>> {
    measured(way, facts, span, tariff, Detail::MeanOnly, |_, _| ())
}

/// How much of each zone is worked out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Detail {
    /// The mean, and the parts that get less and more than it.
    InParts,
    /// The mean alone, at a quarter of the cost.
    MeanOnly,
}

fn measured(
    way: &TrialWay,
    facts: &AccountInputs,
    days: DateSpan,
    tariff: Option<&Tariff>,
    detail: Detail,
    mut each: impl FnMut(usize, &AccountHour),
) -> Result<WayResult, Vec<Refusal>> {
    let (tried, counted) = apply(way, facts, days)?;
    let inside = |place: usize, hour: &AccountHour| {
        if hour.date >= days.first {
            each(place, hour);
        }
    };
    let begin = begins(&tried.climate, days.first);
    let found = of_site(&tried, counted, begin, end_of(days.last, &tried.tz), inside);
    let zones: Vec<ZoneResult> = tried
        .zones
        .iter()
        .zip(&found.zones)
        .map(|(zone, own)| zone_result(&tried, zone, &found, own, days, detail))
        .collect();
    let site = site_result(&tried, &found, counted, &zones, tariff, days);
    Ok(WayResult { way: way.clone(), zones, site })
}

fn zone_result(
    facts: &AccountInputs,
    surveyed: &SurveyedZone,
    found: &SiteAccount,
    own: &crate::account::site_account::ZoneAccount,
    span: DateSpan,
    detail: Detail,
) -> ZoneResult {
    let SurveyedZone { zone, resolved } = surveyed;
    let from = span.first;
    let first = own.days.partition_point(|day| day.date < from);
    let days = own.days.get(first..).unwrap_or_default().to_vec();
    let before = first.checked_sub(1).and_then(|k| own.days.get(k));
    let sum = |of: fn(&AccountDay) -> Millimetres| days.iter().map(of).sum::<Millimetres>();
    let span = midnight(from, &facts.tz)..end_of(span.last, &facts.tz);
    // An account knows of runs that begin on its last midnight; they are not of these days.
    let waterings: Vec<Watering> = own.waterings.iter().filter(|w| span.contains(&w.from)).copied().collect();
    let applied = sum(|d| d.water.applied);
    let mut skipped: BTreeMap<&'static str, u32> = BTreeMap::new();
    let mut held: Vec<(Date, &'static str)> = Vec::new();
    let set = found.runs.of(zone.station_id());
    for run in set.filter(|r| span.contains(&r.run.start) && r.is_held()) {
        if let Some(holder) = run.held_by.first() {
            *skipped.entry(cause_of(holder)).or_default() += 1;
            let date = run.run.start.to_zoned(facts.tz.clone()).date();
            if held.last().is_none_or(|(last, _)| *last != date) {
                held.push((date, cause_of(holder)));
            }
        }
    }
    let ran = waterings.iter().filter(|w| w.strength > 0.0).count();
    ZoneResult {
        controller_number: zone.controller_number,
        station: zone.number,
        needed: sum(|d| d.water.demand),
        et: sum(|d| d.water.et),
        applied,
        applied_in: sum(|d| d.water.applied_in),
        rain: sum(|d| d.water.rain),
        rain_in: sum(|d| d.water.rain_in),
        runoff: sum(|d| d.water.runoff),
        drainage: sum(|d| d.water.drainage),
        depletion: (before.map_or(Millimetres::ZERO, |d| d.water.depletion), own.end.depletion),
        wasted: sum(|d| d.water.applied_off + d.water.applied_drained),
        stress_days: u32::try_from(days.iter().filter(|d| d.short).count()).unwrap_or(u32::MAX),
        runs: u32::try_from(ran).unwrap_or(u32::MAX),
        skipped,
        held,
        forbidden: forbidden(facts, zone, &waterings),
        outside: outside(facts, zone, &waterings),
        litres: zone.area.map(|area| applied.over(area)),
        parts: match detail {
            Detail::InParts => parts(zone, resolved, &found.sky, &own.waterings, from),
            Detail::MeanOnly => [PartResult::default(); 3],
        },
        worst_week: worst_week(&days),
        days,
    }
}

/// Waterings that do not lie within one opening of the water window.
fn outside(facts: &AccountInputs, zone: &Zone, waterings: &[Watering]) -> u32 {
    let windows = &facts.site.windows;
    let inside = |own: &Watering| {
        let evening = night_at(&own.from.to_zoned(facts.tz.clone()), windows.main);
        // A window may lie over the hour at which one night ends and the next is decided.
        let nights = [Some(evening), evening.yesterday().ok()];
        nights.into_iter().flatten().any(|evening| {
            let spans = windows.of(zone, evening).spans(evening, &facts.tz);
            spans.iter().any(|open| open.from <= own.from && own.until <= open.until)
        })
    };
    u32::try_from(waterings.iter().filter(|own| !inside(own)).count()).unwrap_or(u32::MAX)
}

/// Waterings of a zone that its law forbids.
fn forbidden(facts: &AccountInputs, zone: &Zone, waterings: &[Watering]) -> u32 {
    if facts.law.applied.is_empty() {
        return 0;
    }
    let subject = subject(zone);
    let runs: Vec<_> = waterings.iter().map(|w| TimeSpan::new(w.from, w.until)).collect();
    let broken = breaches(&facts.law, subject, &runs, &facts.tz);
    let after_rain = |at| rained_by(&facts.law, &facts.climate, &facts.tz, subject, at).is_some();
    let of = |(run, broken): &(&TimeSpan, bool)| *broken || after_rain(run.from);
    u32::try_from(runs.iter().zip(broken).filter(of).count()).unwrap_or(u32::MAX)
}

/// The quarter that gets least, the half between, the quarter that gets most, each under the very runs of the zone.
/// The low quarter gets the distribution uniformity of the mean, and the high quarter as much more as that gets
/// less (our stated shape: symmetric).
fn parts(
    zone: &Zone,
    resolved: &ResolvedZone,
    sky: &SkyHours,
    waterings: &[Watering],
    from: Date,
) -> [PartResult; 3] {
    // Each part is even in itself.
    let even = ResolvedZone { multiplier: 1.0, uneven: Share::NONE, ..resolved.clone() };
    let evidence = vec![Evidence::AsSet; sky.days().len()];
    let low = resolved.uniformity.value.fraction();
    [low, 1.0, 2.0 - low].map(|strength| {
        let runs: Vec<Watering> =
            waterings.iter().map(|w| Watering { strength: w.strength * strength, ..*w }).collect();
        let own = ZoneFacts { runs: &runs, evidence: &evidence, ..ZoneFacts::of(zone, &even) };
        let (days, _) = account(&own, sky, |_| ());
        let days = days.iter().filter(|day| day.date >= from);
        days.fold(PartResult { strength, ..PartResult::default() }, |sum, day| PartResult {
            needed: sum.needed + day.water.demand,
            et: sum.et + day.water.et,
            wasted: sum.wasted + day.water.applied_off + day.water.applied_drained,
            stress_days: sum.stress_days + u32::from(day.short),
            ..sum
        })
    })
}

/// The week in which plants missed most; `None` when they missed nothing.
fn worst_week(days: &[AccountDay]) -> Option<(Date, Millimetres)> {
    let mut weeks: BTreeMap<Date, Millimetres> = BTreeMap::new();
    for day in days.iter().filter(|day| day.short) {
        let missed = weeks.entry(monday_of(day.date)).or_insert(Millimetres::ZERO);
        *missed = *missed + (day.water.demand - day.water.et);
    }
    weeks.into_iter().max_by(|a, b| a.1.mm().total_cmp(&b.1.mm()).then(b.0.cmp(&a.0)))
}

/// Water by day, of the zones whose area is known.
fn litres_by_day(facts: &AccountInputs, zones: &[ZoneResult]) -> BTreeMap<Date, Litres> {
    let mut out: BTreeMap<Date, Litres> = BTreeMap::new();
    let areas = facts.zones.iter().map(|SurveyedZone { zone, .. }| zone.area);
    for (area, own) in areas.zip(zones) {
        let Some(area) = area else { continue };
        for day in &own.days {
            let sum = out.entry(day.date).or_insert(Litres::ZERO);
            *sum = *sum + day.water.applied.over(area);
        }
    }
    out
}

fn site_result(
    facts: &AccountInputs,
    found: &SiteAccount,
    counted: EvidencePolicy,
    zones: &[ZoneResult],
    tariff: Option<&Tariff>,
    days: DateSpan,
) -> SiteResult {
    let areas: Option<Vec<f64>> =
        facts.zones.iter().map(|SurveyedZone { zone, .. }| Some(zone.area?.m2())).collect();
    let weights = areas.unwrap_or_else(|| vec![1.0; zones.len()]);
    let sum = |of: fn(&ZoneResult) -> Millimetres| {
        Millimetres::from_mm(zones.iter().zip(&weights).map(|(z, w)| of(z).mm() * w).sum())
    };
    let litres: Vec<Litres> = zones.iter().filter_map(|z| z.litres).collect();
    let litres = (!litres.is_empty()).then(|| litres.into_iter().sum::<Litres>());
    let flows = facts.zones.iter().zip(&found.zones).map(|(SurveyedZone { zone, resolved }, own)| {
        (zone.area.map(|area| resolved.rate.value.flow_over(area)), own.waterings.as_slice())
    });
    let flows: Vec<_> = flows.collect();
    let supply = facts.site.supply;
    let span = midnight(days.first, &facts.tz)..end_of(days.last, &facts.tz);
    let supply = match counted {
        // The account advises each zone by itself; a controller waters them in turn.
        EvidencePolicy::AsAdvised => {
            let window = facts.site.windows.main;
            let length = Seconds::from_min(i64::from(window.minutes()));
            let night = |at: Timestamp| night_at(&at.to_zoned(facts.tz.clone()), window);
            in_turn(&flows, supply, length, &span, night)
        }
        EvidencePolicy::Best | EvidencePolicy::AsSet => demand(&flows, supply, &span),
    };
    SiteResult {
        litres,
        adequacy: share(sum(|z| z.et), sum(|z| z.needed), 1.0),
        excess: share(sum(|z| z.wasted), sum(|z| z.applied), 0.0),
        cost: tariff
            .filter(|_| litres.is_some())
            .map(|own| own.cost(&litres_by_day(facts, zones), supply.running)),
        supply,
    }
}
