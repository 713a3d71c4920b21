//! Several sources become the one record that counts: by variable the chosen source, and another
//! where that one has nothing.

use super::{JudgedDay, RawDay, Variable};
use crate::quantity::units::{Metres, MetresPerSecond, Millimetres};
use crate::weather::atmosphere::wind_at_2_m;
use crate::weather::{DayWeather, Station};
use jiff::civil::Date;
use std::collections::BTreeMap;

/// What a source is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SourceKind {
    /// A sensor on the site.
    Own,
    /// A station some way off.
    Station,
    /// Twelve typed monthly means.
    Normals,
}

impl SourceKind {
    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Own => "own sensor on the site",
            Self::Station => "station some way off",
            Self::Normals => "typed monthly normals",
        }
    }
}

/// Variables that are chosen together: they come from one instrument.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum VariableGroup {
    /// Both temperatures.
    Temperature,
    /// Dew point, relative humidities, vapour pressure.
    Humidity,
    /// Radiation.
    Solar,
    /// Wind.
    Wind,
    /// Rain.
    Rain,
}

impl VariableGroup {
    /// All, in the order of the list.
    pub const ALL: [Self; 5] = [Self::Temperature, Self::Humidity, Self::Solar, Self::Wind, Self::Rain];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Temperature => "temperature",
            Self::Humidity => "humidity",
            Self::Solar => "radiation",
            Self::Wind => "wind",
            Self::Rain => "rain",
        }
    }

    /// Its variables.
    #[must_use]
    pub const fn variables(self) -> &'static [Variable] {
        match self {
            Self::Temperature => &[Variable::TemperatureMin, Variable::TemperatureMax],
            Self::Humidity => {
                &[Variable::DewPoint, Variable::HumidityMin, Variable::HumidityMax, Variable::VapourPressure]
            }
            Self::Solar => &[Variable::Solar],
            Self::Wind => &[Variable::Wind],
            Self::Rain => &[Variable::Rain],
        }
    }
}

/// A source with its days.
#[derive(Debug, Clone)]
pub struct Source<'a> {
    /// Where it was measured.
    pub station: Station,
    /// Its days, judged, in order of date.
    pub days: &'a [JudgedDay],
}

/// The record that counts.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct CombinedRecord {
    /// Days with both temperatures, wind at 2 m, in order.
    pub days: Vec<DayWeather>,
    /// Rain of the other days: it fell although a temperature is missing.
    pub rain_alone: BTreeMap<Date, Millimetres>,
    /// By date, which source (by index) each group came from, in the order of [`VariableGroup::ALL`].
    pub from: BTreeMap<Date, [Option<usize>; 5]>,
}

impl CombinedRecord {
    /// Days on which a group came from a source.
    #[must_use]
    pub fn days_from(&self, group: VariableGroup, source: usize) -> usize {
        self.from.values().filter(|g| g.get(group as usize).copied().flatten() == Some(source)).count()
    }
}

/// Which source counts for each group of variables, as indices into `sources`, the first that counts first:
/// as it was chosen, by identity; else all in their order, so that each stands in where those before it have
/// nothing. A chosen source that is not there any more is passed over.
#[must_use]
pub fn order<Id: PartialEq>(sources: &[Id], chosen: Option<&[Vec<Id>; 5]>) -> [Vec<usize>; 5] {
    VariableGroup::ALL.map(|group| match chosen {
        None => (0..sources.len()).collect(),
        Some(chosen) => {
            let of_group = chosen.get(group as usize).into_iter().flatten();
            of_group.filter_map(|id| sources.iter().position(|source| source == id)).collect()
        }
    })
}

/// Weaves sources into one record. `order` names for each group the sources by index, the one that
/// counts first; a source that is not named is not used for the group. Wind is brought to 2 m, so
/// that heights do not mix.
#[must_use]
pub fn combine(sources: &[Source], order: &[Vec<usize>; 5]) -> CombinedRecord {
    let mut raw: BTreeMap<Date, RawDay> = BTreeMap::new();
    let mut from: BTreeMap<Date, [Option<usize>; 5]> = BTreeMap::new();
    for group in VariableGroup::ALL {
        for at in order.get(group as usize).into_iter().flatten() {
            let Some(source) = sources.get(*at) else { continue };
            for day in source.days {
                let slot = from.entry(day.raw.date).or_default();
                let Some(taken) = slot.get_mut(group as usize).filter(|t| t.is_none()) else { continue };
                let effective = day.effective();
                let complete = match group {
                    // A day of half a pair of temperatures is no day.
                    VariableGroup::Temperature => {
                        group.variables().iter().all(|v| effective.get(*v).is_some())
                    }
                    _ => group.variables().iter().any(|v| effective.get(*v).is_some()),
                };
                if !complete {
                    continue;
                }
                *taken = Some(*at);
                let target = raw.entry(day.raw.date).or_insert_with(|| RawDay::new(day.raw.date));
                for variable in group.variables() {
                    let value = effective.get(*variable).map(|value| match variable {
                        Variable::Wind => {
                            wind_at_2_m(MetresPerSecond::from_m_per_s(value), source.station.wind_height)
                                .m_per_s()
                        }
                        _ => value,
                    });
                    target.set(*variable, value);
                }
            }
        }
    }
    from.retain(|_, groups| groups.iter().any(Option::is_some));
    let days: Vec<DayWeather> = raw.values().filter_map(RawDay::weather).collect();
    let without = raw.values().filter(|day| day.weather().is_none());
    let rain_alone =
        without.filter_map(|day| Some((day.date, Millimetres::from_mm(day.get(Variable::Rain)?)))).collect();
    CombinedRecord { days, rain_alone, from }
}

impl Station {
    /// The station that a combined record stands at: the site's place, wind at 2 m.
    #[must_use]
    pub fn at_two_metres(self) -> Self {
        Self { wind_height: Metres::from_m(2.0), ..self }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Overrule, judge};
    use super::*;
    use jiff::ToSpan;
    use jiff::civil::date;

    fn station(wind_m: f64) -> Station {
        Station {
            latitude_deg: 46.0,
            longitude_deg: 8.0,
            elevation: Metres::from_m(1000.0),
            wind_height: Metres::from_m(wind_m),
        }
    }

    fn days(from: i8, count: i64, base: f64) -> Vec<RawDay> {
        (0..count)
            .map(|i| {
                RawDay::new(date(2026, 6, from) + i.days())
                    .with(Variable::TemperatureMin, base)
                    .with(Variable::TemperatureMax, base + 10.0)
                    .with(Variable::Wind, 3.0)
                    .with(Variable::Rain, base)
            })
            .collect()
    }

    #[test]
    fn the_chosen_source_counts_and_the_other_stands_in() {
        let own = judge(
            &days(1, 4, 10.0),
            &[],
            &[Overrule {
                date: date(2026, 6, 2),
                variable: Variable::TemperatureMax,
                keep: false,
                reason: "screen fell off".into(),
            }],
        );
        let far = judge(&days(2, 5, 20.0), &[], &[]);
        let sources =
            [Source { station: station(2.0), days: &own }, Source { station: station(10.0), days: &far }];
        let order = [vec![0, 1], vec![], vec![], vec![1], vec![0]];
        let combined = combine(&sources, &order);
        let temperature: Vec<_> = combined.days.iter().map(|d| d.temperature_min.c()).collect();
        assert_eq!(
            temperature,
            [10.0, 20.0, 10.0, 10.0, 20.0, 20.0],
            "the second day and the last two stand in"
        );
        assert_eq!(combined.days_from(VariableGroup::Temperature, 1), 3);
        let rain: Vec<_> = combined.days.iter().map(|d| d.rain.map(|r| r.mm())).collect();
        assert_eq!(
            rain,
            [Some(10.0), Some(10.0), Some(10.0), Some(10.0), None, None],
            "rain does not travel here"
        );
        assert_eq!(combined.days[0].wind, None, "the station has no 1 June");
        // FAO-56 eq. 47: 3 m/s at 10 m are 2.24 m/s at 2 m (example 14 has 3.2 and 2.4).
        let wind = combined.days[1].wind.unwrap().m_per_s();
        assert!((wind - 3.0 * 4.87 / (67.8_f64 * 10.0 - 5.42).ln()).abs() < 1e-12, "{wind}");
    }

    #[test]
    fn the_choice_orders_the_sources_and_without_one_all_stand_in_for_each_other() {
        assert_eq!(order::<i64>(&[7, 9], None), [0; 5].map(|_| vec![0, 1]));
        let chosen = [vec![9, 7], vec![], vec![4, 7], vec![9], vec![7]];
        let expected = [vec![1, 0], vec![], vec![0], vec![1], vec![0]];
        assert_eq!(order(&[7, 9], Some(&chosen)), expected, "4 was taken away");
    }

    #[test]
    fn a_day_without_both_temperatures_is_no_day_but_its_rain_is_known() {
        let bare = judge(&[RawDay::new(date(2026, 6, 1)).with(Variable::Rain, 4.0)], &[], &[]);
        let combined = combine(
            &[Source { station: station(2.0), days: &bare }],
            &[vec![0], vec![0], vec![0], vec![0], vec![0]],
        );
        assert!(combined.days.is_empty());
        assert_eq!(combined.days_from(VariableGroup::Rain, 0), 1);
    }
}
