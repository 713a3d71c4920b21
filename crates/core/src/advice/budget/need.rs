//! What a zone needs month by month: its curve times normal reference ET, less the rain that counts.

use crate::account::nights::free_nights;
use crate::account::site_account::end_of;
use crate::account::sky::SkyHours;
use crate::account::zone::{ZoneFacts, account};
use crate::installation::{Installation, WiredZone};
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::span::DateSpan;
use crate::quantity::units::{MM_PER_INCH, Millimetres};
use crate::site::windows::WaterWindows;
use crate::weather::climate::Climate;
use jiff::ToSpan;

/// Whether rain lowers the budget.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum RainRule {
    /// Rain is left to the rain sensor of the controller: the budget follows ET alone. Else rain would be
    /// counted twice, once in the percentage and once by the hold.
    #[default]
    LeftToHold,
    /// Rain that the root zone could use is taken off the need: for a controller without a rain sensor.
    Counted,
}

impl RainRule {
    /// Words for the list.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::LeftToHold => "left to the rain sensor",
            Self::Counted => "counted as effective rain",
        }
    }
}

/// How the effective rain of a need was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NeedFrom {
    /// No rain counted.
    EtAlone,
    /// Mean net irrigation of every recorded year through the soil balance.
    Balance,
    /// Monthly normals and the USDA-SCS formula.
    ScsFormula,
}

/// Net need of a zone by month.
#[derive(Debug, Clone, PartialEq)]
pub struct Need {
    /// Station.
    pub station: u16,
    /// Net depth a day by month.
    pub net_a_day: ByMonth<Millimetres>,
    /// Plant demand a day by month, before rain.
    pub demand_a_day: ByMonth<Millimetres>,
    /// How rain was counted.
    pub from: NeedFrom,
}

/// Recorded days behind a balance of the need: two years, so that no month rests on one.
const BALANCE_DAYS: usize = 730;
/// Years of the record that it looks back on: older ones say less about the climate of today.
const BALANCE_YEARS: i32 = 10;

/// Needs of some zones from a climate. The dated grow-in and wean-off are left out: a budget is for
/// an ordinary year.
#[must_use]
pub fn needs(installation: &Installation, climate: &Climate, rain: RainRule, year: i16) -> Vec<Need> {
    let et0 = climate.monthly_expected_et0(year);
    let balanced = rain == RainRule::Counted && climate.len() >= BALANCE_DAYS;
    let span = climate.span().filter(|_| balanced);
    let hours = span.map(|DateSpan { first, last }| {
        let tz = &installation.tz;
        let first = last.checked_sub(BALANCE_YEARS.years()).map_or(first, |back| back.max(first));
        SkyHours::of(climate, installation.longitude_deg, tz, first, end_of(last, tz))
    });
    installation
        .zones
        .iter()
        .map(|zone| {
            let resolved = &zone.resolved;
            let demand = ByMonth::from_fn(|m| *et0.of(m) * resolved.landscape_coefficient_in(m));
            let (net_a_day, from) = match rain {
                RainRule::LeftToHold => (demand, NeedFrom::EtAlone),
                RainRule::Counted if balanced => {
                    match hours.as_ref().and_then(|sky| by_balance(zone, sky, &installation.windows)) {
                        Some(net) => (net, NeedFrom::Balance),
                        None => (demand, NeedFrom::EtAlone),
                    }
                }
                RainRule::Counted => match climate.monthly_expected_rain() {
                    Some(rain) => (by_formula(zone, &demand, &rain), NeedFrom::ScsFormula),
                    None => (demand, NeedFrom::EtAlone),
                },
            };
            Need { station: zone.zone.number, net_a_day, demand_a_day: demand, from }
        })
        .collect()
}

fn by_formula(
    zone: &WiredZone,
    demand: &ByMonth<Millimetres>,
    rain: &ByMonth<Millimetres>,
) -> ByMonth<Millimetres> {
    let storage = zone.resolved.root_zone.readily_available();
    ByMonth::from_fn(|m| {
        let days = m.days();
        let demand = *demand.of(m) * days;
        let rain = *rain.of(m) * zone.resolved.rain_share.fraction();
        (demand - effective_rain_scs(rain, demand, storage)).max(Millimetres::ZERO) * (1.0 / days)
    })
}

/// Mean net irrigation a day of each month over the last years of the record, watered as advised.
fn by_balance(zone: &WiredZone, sky: &SkyHours, windows: &WaterWindows) -> Option<ByMonth<Millimetres>> {
    let nights = &free_nights(sky, &zone.zone, windows);
    let mut undated = zone.resolved.clone();
    (undated.grow_in, undated.wean_off) = (None, None);
    let facts = ZoneFacts { nights, ..ZoneFacts::of(&zone.zone, &undated) };
    let (days, _) = account(&facts, sky, |_| ());
    let mut sums = ByMonth::all((0.0, 0.0_f64));
    for day in &days {
        let (water, count) = sums.of_mut(Month::of(day.date));
        // What a day takes out beyond its rain is what irrigation has to put back; a refill
        // stands on one day for many, so the month's share is demand less the rain that stayed.
        *water += day.water.demand.mm() - day.water.rain_kept().mm();
        *count += 1.0;
    }
    sums.iter()
        .all(|(_, n)| *n > 0.0)
        .then(|| sums.map(|(water, n)| Millimetres::from_mm((water / n).max(0.0))))
}

/// Effective rain of a month after USDA-SCS (National Engineering Handbook part 623, eq. 2-84; from
/// memory): SF (0.70917 P^0.82416 - 0.11556) 10^(0.02426 ETc), inches, with
/// SF = 0.531747 + 0.295164 D - 0.057697 D² + 0.003804 D³ of the usable storage D. Never more than
/// the rain or the demand.
#[must_use]
pub fn effective_rain_scs(rain: Millimetres, demand: Millimetres, storage: Millimetres) -> Millimetres {
    let (p, et, d) = (rain.inches(), demand.inches(), storage.inches());
    if p <= 0.0 || et <= 0.0 {
        return Millimetres::ZERO;
    }
    // The factor's cubic was fitted up to 7.5 inches.
    let d = d.clamp(0.0, 7.5);
    let sf = 0.531_747 + 0.295_164 * d - 0.057_697 * d * d + 0.003_804 * d * d * d;
    let effective = sf * (0.709_17 * p.powf(0.824_16) - 0.115_56) * 10.0_f64.powf(0.024_26 * et);
    Millimetres::from_mm(effective.max(0.0) * MM_PER_INCH).min(rain).min(demand)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scs_effective_rain_at_three_inches_of_storage_and_its_bounds() {
        let inches = Millimetres::from_inches;
        // Worked by hand from the published equation: P 3 in, ETc 4 in, D 3 in. The storage factor of
        // 3 in is 1.0 in the handbook's table.
        let got = effective_rain_scs(inches(3.0), inches(4.0), inches(3.0)).inches();
        assert!((got - 2.05).abs() < 0.01, "{got}");
        assert_eq!(
            effective_rain_scs(inches(10.0), inches(1.0), inches(3.0)),
            inches(1.0),
            "never beyond demand"
        );
        assert_eq!(effective_rain_scs(inches(0.0), inches(4.0), inches(3.0)), Millimetres::ZERO);
        assert_eq!(
            effective_rain_scs(inches(0.1), inches(4.0), inches(3.0)),
            Millimetres::ZERO,
            "a drizzle is lost"
        );
    }
}
