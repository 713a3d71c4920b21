//! How a zone was surveyed before: a nozzle changed today says nothing of the nights before it.

use super::{ResolvedZone, StationId, Zone};
use jiff::civil::Date;
use std::collections::BTreeMap;

/// From when a survey counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ZoneSince {
    /// It was so all along: what stood before was a mistake.
    Always,
    /// From a date on.
    On(Date),
}

/// A zone as it was until a date.
#[derive(Debug, Clone, PartialEq)]
pub struct EarlierZone {
    /// The first date on which it was otherwise.
    pub until: Date,
    /// As it was.
    pub zone: Zone,
}

/// A zone as it was surveyed, with its defaults.
#[derive(Debug, Clone, PartialEq)]
pub struct SurveyedZone {
    /// As it was surveyed.
    pub zone: Zone,
    /// The same with its defaults.
    pub resolved: ResolvedZone,
}

/// A zone as it was until a date, with its defaults.
#[derive(Debug, Clone, PartialEq)]
pub struct EarlierSurvey {
    /// The first date on which it was otherwise.
    pub until: Date,
    /// As it was.
    pub zone: Zone,
    /// The same with its defaults.
    pub resolved: ResolvedZone,
}

impl EarlierSurvey {
    /// The survey of a date among those of a zone, the oldest first; `None` where it is the present one's.
    #[must_use]
    pub fn on(earlier: &[Self], date: Date) -> Option<&Self> {
        earlier.iter().find(|own| date < own.until)
    }
}

/// The zones of a site as they were surveyed, through time.
#[derive(Debug, Clone, Copy)]
pub struct Surveys<'a> {
    /// As they are now, with their defaults.
    pub now: &'a [SurveyedZone],
    /// As they were before, each list the oldest first; by number of the controller and station.
    pub earlier: &'a BTreeMap<StationId, Vec<EarlierSurvey>>,
}

/// No earlier surveys.
static NO_EARLIER: BTreeMap<StationId, Vec<EarlierSurvey>> = BTreeMap::new();

impl<'a> Surveys<'a> {
    /// Zones that were never otherwise: for days to come.
    #[must_use]
    pub const fn present(now: &'a [SurveyedZone]) -> Self {
        Self { now, earlier: &NO_EARLIER }
    }

    /// How a zone was before, the oldest first.
    #[must_use]
    pub fn earlier_of(&self, id: StationId) -> &'a [EarlierSurvey] {
        self.earlier.get(&id).map_or(&[], Vec::as_slice)
    }

    /// The zones of one controller, by station.
    #[must_use]
    pub fn of_controller(&self, controller_number: u8) -> BTreeMap<u16, SurveyedStation<'a>> {
        let own = self.now.iter().filter(|own| own.zone.controller_number == controller_number);
        let station =
            |zone: &'a Zone| SurveyedStation { now: zone, earlier: self.earlier_of(zone.station_id()) };
        own.map(|own| (own.zone.number, station(&own.zone))).collect()
    }
}

/// The zone of a station through time.
#[derive(Debug, Clone, Copy)]
pub struct SurveyedStation<'a> {
    now: &'a Zone,
    earlier: &'a [EarlierSurvey],
}

impl<'a> SurveyedStation<'a> {
    /// As it was on a date.
    #[must_use]
    pub fn on(&self, date: Date) -> &'a Zone {
        EarlierSurvey::on(self.earlier, date).map_or(self.now, |own| &own.zone)
    }
}

impl EarlierZone {
    /// From versions in the order in which they were saved, each with when it counts from; the oldest first. One that
    /// counts from a date on takes the place of all that were said of later dates before it: it corrects them. The
    /// first counts always.
    #[must_use]
    pub fn of_versions(versions: Vec<(ZoneSince, Zone)>) -> Vec<Self> {
        let mut kept: Vec<(ZoneSince, Zone)> = Vec::new();
        for (place, (since, zone)) in versions.into_iter().enumerate() {
            let since = if place == 0 { ZoneSince::Always } else { since };
            while kept.last().is_some_and(|(before, _)| *before >= since) {
                kept.pop();
            }
            if kept.last().is_none_or(|(_, before)| !is_same(before, &zone)) {
                kept.push((since, zone));
            }
        }
        let untils: Vec<ZoneSince> = kept.iter().skip(1).map(|(since, _)| *since).collect();
        let dated = kept.into_iter().zip(untils).filter_map(|((_, zone), until)| match until {
            ZoneSince::On(until) => Some(Self { until, zone }),
            ZoneSince::Always => None,
        });
        dated.collect()
    }
}

/// Whether two surveys say the same of the zone's water: a name, a station and an area change nothing of it.
fn is_same(a: &Zone, b: &Zone) -> bool {
    let water = |zone: &Zone| Zone {
        name: String::new(),
        number: 0,
        controller_number: 0,
        area: None,
        ..zone.clone()
    };
    water(a) == water(b)
}

#[cfg(test)]
mod tests {
    use super::super::samples::lawn;
    use super::*;
    use crate::quantity::units::MillimetresPerHour;
    use jiff::civil::date;

    fn at(rate: f64) -> Zone {
        Zone { precipitation_rate: Some(MillimetresPerHour::from_mm_per_hour(rate)), ..lawn(1) }
    }

    #[test]
    fn a_survey_counts_from_its_date_and_a_correction_for_all_time() {
        let (june, july) = (date(2026, 6, 1), date(2026, 7, 1));
        let of = EarlierZone::of_versions;
        let first = (ZoneSince::On(july), at(30.0));
        assert_eq!(of(vec![first.clone()]), [], "the first counts always");
        let changed = of(vec![first.clone(), (ZoneSince::On(july), at(20.0))]);
        assert_eq!(changed, [EarlierZone { until: july, zone: at(30.0) }]);
        let corrected =
            of(vec![first.clone(), (ZoneSince::On(july), at(20.0)), (ZoneSince::On(june), at(22.0))]);
        assert_eq!(corrected, [EarlierZone { until: june, zone: at(30.0) }]);
        assert_eq!(
            of(vec![first.clone(), (ZoneSince::On(july), at(20.0)), (ZoneSince::Always, at(22.0))]),
            []
        );
        let mut renamed = at(30.0);
        renamed.name = "North lawn".into();
        assert_eq!(of(vec![first, (ZoneSince::On(july), renamed)]), [], "a name waters nothing");
    }
}
