//! What some days of an account come to, as an owner of the property asks it: what the plants needed, where it came from,
//! on how many nights was watered, and what held watering back.

use super::running::cause_of;
use super::site_account::{AccountInputs, SiteAccount, ZoneAccount};
use crate::quantity::span::DateSpan;
use crate::quantity::time::monday_of;
use crate::quantity::units::{Litres, Millimetres};
use crate::site::range::applied_water;
use crate::site::{StationId, SurveyedZone};
use jiff::civil::Date;
use std::collections::{BTreeMap, BTreeSet};

/// Water of some days.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct WaterSums {
    /// What the plants asked for.
    pub needed: Millimetres,
    /// Rain that stayed in the root zone.
    pub rain_kept: Millimetres,
    /// Watering that stayed in the root zone.
    pub applied_kept: Millimetres,
    /// Watering as it came out of the heads.
    pub applied: Millimetres,
}

impl WaterSums {
    fn plus(self, more: Self, weight: f64) -> Self {
        let sum = |a: Millimetres, b: Millimetres| Millimetres::from_mm(a.mm() + weight * b.mm());
        Self {
            needed: sum(self.needed, more.needed),
            rain_kept: sum(self.rain_kept, more.rain_kept),
            applied_kept: sum(self.applied_kept, more.applied_kept),
            applied: sum(self.applied, more.applied),
        }
    }
}

/// A zone over some days.
#[derive(Debug, Clone, PartialEq)]
pub struct ZonePeriod {
    /// The zone.
    pub id: StationId,
    /// Its water.
    pub water: WaterSums,
    /// Days on which its plants were short of water in some hour.
    pub days_short: usize,
    /// Dates on which it was watered.
    pub watered: usize,
    /// Dates on which watering was set and held back, by the short name of what held it.
    pub held: BTreeMap<&'static str, usize>,
    /// Watering as a volume, where the area is known.
    pub litres: Option<Litres>,
}

/// A property over some days.
#[derive(Debug, Clone, PartialEq)]
pub struct Period {
    /// Its days, as far as the account reaches.
    pub span: DateSpan,
    /// Its zones, in the order of the account.
    pub zones: Vec<ZonePeriod>,
    /// Its weeks by their Mondays, zones weighted by area where every area is known, else alike.
    pub weeks: BTreeMap<Date, WaterSums>,
    /// Water of all zones whose area is known; `None` where none is.
    pub litres: Option<Litres>,
    /// Factor from that volume to the high end of what may be true, two standard uncertainties; to the low end it is its
    /// inverse. The rates of the zones are taken to be off together, which is the widest case.
    pub spread: f64,
}

fn sums(own: &ZoneAccount, span: DateSpan) -> impl Iterator<Item = (Date, WaterSums)> {
    own.days.iter().filter(move |day| span.contains(day.date)).map(|day| {
        let water = WaterSums {
            needed: day.water.demand,
            rain_kept: day.water.rain_kept(),
            applied_kept: day.water.net(),
            applied: day.water.applied,
        };
        (day.date, water)
    })
}

fn zone(inputs: &AccountInputs, account: &SiteAccount, own: &ZoneAccount, span: DateSpan) -> ZonePeriod {
    let id = StationId::new(own.controller_number, own.station);
    let date_of = |at: jiff::Timestamp| at.to_zoned(inputs.tz.clone()).date();
    let waterings = own.waterings.iter().filter(|watering| watering.strength > 0.0);
    let watered: BTreeSet<Date> =
        waterings.map(|watering| date_of(watering.from)).filter(|date| span.contains(*date)).collect();
    let mut held: BTreeMap<&'static str, BTreeSet<Date>> = BTreeMap::new();
    for run in account.runs.of(id).filter(|run| run.is_held()) {
        let date = date_of(run.run.start);
        if let Some(holder) = run.held_by.first()
            && span.contains(date)
            && !watered.contains(&date)
        {
            held.entry(cause_of(holder)).or_default().insert(date);
        }
    }
    let water = sums(own, span).fold(WaterSums::default(), |sum, (_, day)| sum.plus(day, 1.0));
    let surveyed = inputs.zones.iter().find(|surveyed| surveyed.zone.station_id() == id);
    let area = surveyed.and_then(|surveyed| surveyed.zone.area);
    ZonePeriod {
        id,
        water,
        days_short: own.days.iter().filter(|day| span.contains(day.date) && day.short).count(),
        watered: watered.len(),
        held: held.into_iter().map(|(cause, dates)| (cause, dates.len())).collect(),
        litres: area.map(|area| water.applied.over(area)),
    }
}

/// Some days of an account; `None` when it has none of them.
#[must_use]
pub fn period(inputs: &AccountInputs, account: &SiteAccount, span: DateSpan) -> Option<Period> {
    let days = account.zones.first()?.days.iter().map(|day| day.date);
    let dates: Vec<Date> = days.filter(|date| span.contains(*date)).collect();
    let span = DateSpan::new(*dates.first()?, *dates.last()?);
    let zones: Vec<ZonePeriod> = account.zones.iter().map(|own| zone(inputs, account, own, span)).collect();
    let areas: Option<Vec<f64>> = inputs.zones.iter().map(|own| Some(own.zone.area?.m2())).collect();
    let weights = areas.unwrap_or_else(|| vec![1.0; account.zones.len()]);
    let all: f64 = weights.iter().sum::<f64>().max(f64::MIN_POSITIVE);
    let mut weeks: BTreeMap<Date, WaterSums> = BTreeMap::new();
    for (own, weight) in account.zones.iter().zip(&weights) {
        for (date, water) in sums(own, span) {
            let week = weeks.entry(monday_of(date)).or_default();
            *week = week.plus(water, weight / all);
        }
    }
    let volumes: Vec<Litres> = zones.iter().filter_map(|own| own.litres).collect();
    let litres = (!volumes.is_empty()).then(|| volumes.iter().copied().sum::<Litres>());
    let wide = |(own, surveyed): (&ZonePeriod, &SurveyedZone)| {
        own.litres.map_or(0.0, |litres| litres.l() * applied_water(&surveyed.zone, &surveyed.resolved).high)
    };
    let high: f64 = zones.iter().zip(&inputs.zones).map(wide).sum();
    let spread = litres.filter(|litres| litres.l() > 0.0).map_or(1.0, |litres| high / litres.l());
    Some(Period { span, zones, weeks, litres, spread })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::site_account::{EvidencePolicy, begins, end_of, of_site};
    use crate::quantity::time::Hours;
    use crate::quantity::units::{Celsius, Metres, SquareMetres};
    use crate::site::samples::lawn;
    use crate::site::windows::WaterWindows;
    use crate::site::{Origin, Site, UnitSystem, Zone};
    use crate::weather::DayWeather;
    use crate::weather::climate::Climate;
    use jiff::ToSpan;
    use jiff::civil::{date, time};
    use jiff::tz::TimeZone;

    fn site() -> Site {
        Site {
            name: "Larkrigg".into(),
            latitude_deg: 46.0,
            longitude_deg: 0.0,
            elevation: Metres::from_m(500.0),
            wind_height: Metres::from_m(2.0),
            time_zone: "UTC".into(),
            units: UnitSystem::Metric,
            windows: WaterWindows::only(Hours { from: time(22, 0, 0, 0), until: time(6, 0, 0, 0) }),
            supply: None,
            drizzle: Default::default(),
            card: Default::default(),
        }
    }

    /// Two lawns of unlike size, watered as advised over half a year with a shower every sixth day.
    fn june() -> (AccountInputs, SiteAccount) {
        let day = |k: i32| {
            let on = date(2026, 1, 1) + k.days();
            let mut day = DayWeather::from_temperatures(on, Celsius::from_c(12.0), Celsius::from_c(27.0));
            day.rain = Some(Millimetres::from_mm(if k % 6 == 0 { 9.0 } else { 0.0 }));
            day
        };
        let climate = Climate::from_record(&(0..200).map(day).collect::<Vec<_>>(), site().station());
        let zone = |number: u16, m2: f64| Zone { area: Some(SquareMetres::from_m2(m2)), ..lawn(number) };
        let inputs =
            AccountInputs::surveyed(&site(), &TimeZone::UTC, &[zone(1, 100.0), zone(2, 300.0)], climate);
        let (begin, end) =
            (begins(&inputs.climate, date(2026, 7, 10)), end_of(date(2026, 7, 10), &inputs.tz));
        let account = of_site(&inputs, EvidencePolicy::AsAdvised, begin, end, |_, _| ());
        (inputs, account)
    }

    #[test]
    fn weeks_and_zones_are_the_days_of_the_account_added_up() {
        let (facts, account) = june();
        let span = DateSpan::new(date(2026, 6, 1), date(2026, 6, 30));
        let found = period(&facts, &account, span).unwrap();
        assert_eq!(found.span, span);
        for (own, zone) in account.zones.iter().zip(&found.zones) {
            let days = own.days.iter().filter(|day| span.contains(day.date));
            let applied: f64 = days.clone().map(|day| day.water.applied.mm()).sum();
            assert!((zone.water.applied.mm() - applied).abs() < 1e-9);
            assert_eq!(zone.days_short, days.filter(|day| day.short).count());
        }
        // Weighted by area, the weeks hold what the zones hold.
        let areas: Vec<f64> = facts.zones.iter().map(|own| own.zone.area.unwrap().m2()).collect();
        let all: f64 = areas.iter().sum();
        let mean: f64 =
            found.zones.iter().zip(&areas).map(|(zone, area)| zone.water.needed.mm() * area).sum();
        let weeks: f64 = found.weeks.values().map(|week| week.needed.mm()).sum();
        assert!((weeks - mean / all).abs() < 1e-6, "{weeks} {}", mean / all);
        let litres: f64 = found.zones.iter().map(|zone| zone.litres.unwrap().l()).sum();
        assert!((found.litres.unwrap().l() - litres).abs() < 1e-6 && litres > 0.0);
    }

    #[test]
    fn a_default_rate_leaves_a_wider_range_than_a_measured_one() {
        let (mut facts, account) = june();
        let span = DateSpan::new(date(2026, 6, 1), date(2026, 6, 30));
        let spread = |facts: &AccountInputs| period(facts, &account, span).unwrap().spread;
        let as_surveyed = spread(&facts);
        for own in &mut facts.zones {
            own.resolved.rate.origin = Origin::Default("a test");
        }
        let by_default = spread(&facts);
        // Two standard uncertainties of a default rate, 20 %, and of an area, 5 %: exp(2 x sqrt(0.2^2 + 0.05^2)).
        assert!((by_default - (2.0 * 0.2_f64.hypot(0.05)).exp()).abs() < 1e-9, "{by_default}");
        assert!(as_surveyed <= by_default);
    }

    #[test]
    fn days_without_an_account_have_no_period() {
        let (facts, account) = june();
        let span = DateSpan::new(date(2031, 1, 1), date(2031, 1, 31));
        assert_eq!(period(&facts, &account, span), None);
    }
}
