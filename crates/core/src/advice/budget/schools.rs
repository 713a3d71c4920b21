//! The ways of setting the percentage side by side, on the recorded days of the site: leave it,
//! twelve monthly values, a weekly value, an ET-scaled value each night, a daily balance.

use super::{Base, Budget, at_full, week};
use crate::account::evidence::{Evidence, Watering, joined};
use crate::account::nights::{ZoneNight, free_nights};
use crate::account::season::{SeasonSum, sum};
use crate::account::site_account::end_of;
use crate::account::sky::SkyHours;
use crate::account::sky::et0_of;
use crate::account::zone::{AccountDay, ZoneFacts, account};
use crate::controller::schedule::expand;
use crate::installation::WiredZone;
use crate::quantity::ratio::Percentage;
use crate::quantity::span::DateSpan;
use crate::quantity::time::Seconds;
use crate::quantity::units::{Litres, Millimetres, Minutes};
use crate::weather::climate::Climate;
use jiff::civil::{Date, Weekday};
use jiff::{Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet};

/// Days that an ET-scaled percentage averages over (common practice).
const ET_TRAILING_DAYS: i32 = 7;

/// A way of setting the percentage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum School {
    /// As it is set now, all year.
    Leave,
    /// The best settable values of each month.
    Monthly,
    /// Each Monday the best settable value from the days before.
    Weekly,
    /// Each night ET0 of the last days over that of the peak month; rain is left to a hold.
    EtScaled,
    /// To full when the refill point is reached, on the days that are set.
    DailyBalance,
}

impl School {
    /// All, in the order of the list.
    pub const ALL: [Self; 5] = [Self::Leave, Self::Monthly, Self::Weekly, Self::EtScaled, Self::DailyBalance];

    /// Words for the list.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Leave => "leave it",
            Self::Monthly => "twelve monthly values",
            Self::Weekly => "a value each week",
            Self::EtScaled => "ET-scaled each night",
            Self::DailyBalance => "daily balance",
        }
    }
}

/// What a strategy would have done on the record.
#[derive(Debug, Clone, PartialEq)]
pub struct SchoolResult {
    /// The strategy.
    pub school: School,
    /// By zone, station first.
    pub zones: Vec<(u16, SeasonSum)>,
    /// Demand met, a fraction of the demand of all zones.
    pub adequacy: f64,
    /// Watering that ran off or that root zones could not hold, a fraction of what was applied net of uneven
    /// spread.
    pub excess: f64,
    /// Stress days of the zone that had most.
    pub most_stress_days: u32,
    /// Gross water, as far as areas are known.
    pub litres: Option<Litres>,
}

/// Runs every strategy over recorded days, both ends included.
#[must_use]
pub fn schools(base: &Base, budget: &Budget, climate: &Climate, span: DateSpan) -> Vec<SchoolResult> {
    let there = base.installation;
    let sky = SkyHours::of(climate, there.longitude_deg, &there.tz, span.first, end_of(span.last, &there.tz));
    let full = runs_at_full(base, span);
    School::ALL.iter().map(|school| run(*school, base, budget, climate, span, &sky, &full)).collect()
}

/// A run of a zone at 100 %.
struct FullRun {
    from: Timestamp,
    length: Seconds,
    program: usize,
    date: Date,
}

/// The runs at 100 % by zone, in the order of the base.
fn runs_at_full(base: &Base, span: DateSpan) -> Vec<Vec<FullRun>> {
    let mut out: Vec<Vec<FullRun>> = (0..base.zones.len()).map(|_| Vec::new()).collect();
    let full = at_full(base.settings);
    for run in expand(&full, &base.installation.card, &base.installation.tz, span.first, span.last) {
        let place =
            (0..base.zones.len()).find(|p| base.zone(*p).is_some_and(|z| z.zone.number == run.station));
        if let Some(runs) = place.and_then(|p| out.get_mut(p)) {
            let (from, length) = (run.start, run.length());
            runs.push(FullRun { from, length, program: run.program, date: run.date });
        }
    }
    out
}

/// Percentages of a strategy by date, one for each slot; a daily balance has none.
fn percents(school: School, base: &Base, budget: &Budget, climate: &Climate, span: DateSpan) -> Percents {
    let peak_et0 = climate.monthly_expected_et0(span.first.year()).iter().map(|e| e.mm()).fold(0.0, f64::max);
    let mut weekly: Vec<f64> = Vec::new();
    span.dates()
        .map(|date| {
            let values: Vec<f64> = match school {
                School::Leave => {
                    super::percents_on(base, date).iter().map(|p| f64::from(p.percent())).collect()
                }
                School::Monthly => slots(budget.best.on(date)),
                School::Weekly => {
                    if weekly.is_empty() || date.weekday() == Weekday::Monday {
                        weekly = slots(&week(base, climate, date).best);
                    }
                    weekly.clone()
                }
                School::EtScaled => vec![et_scaled(climate, date, peak_et0); base.slots.len()],
                School::DailyBalance => Vec::new(),
            };
            (date, values)
        })
        .collect()
}

/// The percentage of each slot, by night.
type Percents = BTreeMap<Date, Vec<f64>>;

/// The days of a zone under its runs of each night, scaled; without percentages to full on those nights.
fn days_of(
    base: &Base,
    zone: &WiredZone,
    sky: &SkyHours,
    full: &[FullRun],
    percents: Option<&Percents>,
) -> Vec<AccountDay> {
    let (zone, resolved) = (&zone.zone, &zone.resolved);
    let with = |runs: &[Watering], nights: &[ZoneNight], evidence: &[Evidence]| {
        let facts = ZoneFacts { runs, evidence, nights, ..ZoneFacts::of(zone, resolved) };
        account(&facts, sky, |_| ()).0
    };
    let Some(percents) = percents else {
        let dates: BTreeSet<Date> = full.iter().map(|run| run.date).collect();
        let runs = |date: Date| date.tomorrow().is_ok_and(|d| dates.contains(&d)) || dates.contains(&date);
        let free = free_nights(sky, zone, &base.installation.windows);
        let open: Vec<ZoneNight> = free
            .into_iter()
            .map(|night| ZoneNight { open: night.open.filter(|_| runs(night.date)), ..night })
            .collect();
        return with(&[], &open, &[]);
    };
    let scaled = |run: &FullRun| {
        let slot = base.slot_of(run.program);
        let percent = slot.and_then(|s| percents.get(&run.date)?.get(s)).copied().unwrap_or(100.0);
        let length = Minutes::from_min(run.length.minutes().min_value() * percent / 100.0);
        Watering::plain(run.from, run.from + Seconds::of(length, f64::round))
    };
    let evidence = vec![Evidence::AsSet; sky.days().len()];
    with(&joined(full.iter().map(scaled).collect()), &[], &evidence)
}

fn run(
    school: School,
    base: &Base,
    budget: &Budget,
    climate: &Climate,
    span: DateSpan,
    sky: &SkyHours,
    full: &[Vec<FullRun>],
) -> SchoolResult {
    let percents = (school != School::DailyBalance).then(|| percents(school, base, budget, climate, span));
    let mut zones = Vec::new();
    let mut litres = None;
    for (place, full) in full.iter().enumerate() {
        let Some(zone) = base.zone(place) else { continue };
        let total = sum(&days_of(base, zone, sky, full, percents.as_ref()));
        if let Some(area) = zone.zone.area {
            litres = Some(litres.unwrap_or(Litres::ZERO) + total.applied.over(area));
        }
        zones.push((zone.zone.number, total));
    }
    let total = |get: fn(&SeasonSum) -> Millimetres| zones.iter().map(|(_, s)| get(s).mm()).sum::<f64>();
    let share = |a: f64, b: f64| if b > 0.0 { a / b } else { 0.0 };
    SchoolResult {
        school,
        adequacy: share(total(|s| s.met), total(|s| s.demand)),
        excess: share(total(|s| s.wasted), total(|s| s.applied - s.uneven)),
        most_stress_days: zones.iter().map(|(_, s)| s.stress_days).max().unwrap_or(0),
        litres,
        zones,
    }
}

/// Slots whose percentage brings nothing that is needed stand at nought.
fn slots(best: &[Option<Percentage>]) -> Vec<f64> {
    best.iter().map(|p| f64::from(p.unwrap_or(Percentage::ZERO).percent())).collect()
}

/// Percentage from the trailing mean of ET0 against the peak month, as an ET sensor would set it.
fn et_scaled(climate: &Climate, date: Date, peak_et0: f64) -> f64 {
    let mean = (1..=ET_TRAILING_DAYS)
        .filter_map(|back| date.checked_sub(back.days()).ok())
        .map(|d| et0_of(climate, d).0.mm())
        .sum::<f64>()
        / f64::from(ET_TRAILING_DAYS);
    if peak_et0 > 0.0 { 100.0 * mean / peak_et0 } else { 100.0 }
}
