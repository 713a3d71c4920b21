//! How a sensor was set before: a setting of today says nothing of the nights before it.

use super::Sensor;
use jiff::civil::Date;

/// A sensor as it was set until a date.
#[derive(Debug, Clone, PartialEq)]
pub struct EarlierSensor {
    /// The first date on which it was set otherwise.
    pub until: Date,
    /// As it was set.
    pub sensor: Sensor,
}

/// When a sensor was installed, and how it was set since.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SensorHistory {
    /// When it was installed; `None` where nobody said: always.
    pub installed_on: Option<Date>,
    /// How it was set before, the oldest first.
    pub earlier: Vec<EarlierSensor>,
}

impl SensorHistory {
    /// From versions in the order in which they were saved, each with the date from which it counts. One that counts
    /// from a date on takes the place of all that were said of later dates before it: it corrects them.
    #[must_use]
    pub fn of_versions(installed_on: Option<Date>, versions: Vec<(Date, Sensor)>) -> Self {
        let mut kept: Vec<(Date, Sensor)> = Vec::new();
        for (since, sensor) in versions {
            while kept.last().is_some_and(|(before, _)| *before >= since) {
                kept.pop();
            }
            // What does not change what it does is no other setting.
            let same = |before: &Sensor| {
                (&before.setting, &before.map, &before.card) == (&sensor.setting, &sensor.map, &sensor.card)
            };
            if kept.last().is_none_or(|(_, before)| !same(before)) {
                kept.push((since, sensor));
            }
        }
        let untils: Vec<Date> = kept.iter().skip(1).map(|(since, _)| *since).collect();
        let earlier =
            kept.into_iter().zip(untils).map(|((_, sensor), until)| EarlierSensor { until, sensor });
        Self { installed_on, earlier: earlier.collect() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::Millimetres;
    use crate::sensors::generic;
    use jiff::civil::date;

    fn with(mm: f64) -> Sensor {
        let mut sensor = Sensor::of_card(generic().remove(0).1, 1);
        sensor.setting.rain_threshold = Millimetres::from_mm(mm);
        sensor
    }

    #[test]
    fn a_version_counts_from_its_date_and_a_correction_takes_the_place_of_what_it_corrects() {
        let (may, june, july) = (date(2026, 5, 1), date(2026, 6, 1), date(2026, 7, 1));
        let of = |versions: Vec<(Date, Sensor)>| SensorHistory::of_versions(Some(may), versions).earlier;
        assert_eq!(of(vec![(may, with(6.0))]), []);
        let changed = of(vec![(may, with(6.0)), (july, with(12.0))]);
        assert_eq!(changed, [EarlierSensor { until: july, sensor: with(6.0) }]);
        // It was 12 mm since June: what was said of July is part of that.
        let corrected = of(vec![(may, with(6.0)), (july, with(12.0)), (june, with(12.0))]);
        assert_eq!(corrected, [EarlierSensor { until: june, sensor: with(6.0) }]);
        assert_eq!(of(vec![(may, with(6.0)), (july, with(12.0)), (may, with(12.0))]), []);
        let mut renamed = with(6.0);
        renamed.name = "North roof".into();
        assert_eq!(of(vec![(may, with(6.0)), (july, renamed)]), [], "a name holds nothing");
    }
}
