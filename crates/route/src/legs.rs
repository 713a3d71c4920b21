//! What lies between places: kilometres and minutes.

use crate::{Drive, Spot};
use upland_core::weather::record::distance_km;

/// How roads are taken to be where no table says it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Pace {
    /// Kilometres of road for one as the crow flies. Common practice takes 1.2 to 1.4.
    pub detour: f64,
    /// Mean speed, km/h.
    pub km_per_h: f64,
}

impl Default for Pace {
    fn default() -> Self {
        Self { detour: 1.3, km_per_h: 40.0 }
    }
}

/// Kilometres and minutes from each place to each.
#[derive(Debug, Clone, PartialEq)]
pub struct Legs {
    places: usize,
    /// Row by row: from the place of the row to that of the column.
    drives: Vec<Drive>,
}

impl Legs {
    /// As the crow flies, lengthened and driven at a pace.
    #[must_use]
    pub fn between(spots: &[Spot], pace: Pace) -> Self {
        let drive = |from: Spot, to: Spot| {
            let crow = distance_km(from.latitude_deg, from.longitude_deg, to.latitude_deg, to.longitude_deg);
            let km = crow * pace.detour;
            Drive { km, minutes: km / pace.km_per_h * 60.0 }
        };
        let drives = spots.iter().flat_map(|from| spots.iter().map(move |to| drive(*from, *to))).collect();
        Self { places: spots.len(), drives }
    }

    /// As a table says; a square, row by row.
    #[must_use]
    pub fn of_table(places: usize, drives: Vec<Drive>) -> Option<Self> {
        (drives.len() == places * places).then_some(Self { places, drives })
    }

    /// Says how long a leg takes, whatever was taken for it.
    pub fn set_minutes(&mut self, from: usize, to: usize, minutes: f64) {
        if from < self.places
            && let Some(drive) = self.drives.get_mut(from * self.places + to)
        {
            drive.minutes = minutes;
        }
    }

    /// Number of places.
    #[must_use]
    pub const fn places(&self) -> usize {
        self.places
    }

    /// From one place to another; nothing where there is no such place.
    #[must_use]
    pub fn drive(&self, from: usize, to: usize) -> Drive {
        let inside = from < self.places && to < self.places;
        inside.then(|| self.drives.get(from * self.places + to).copied()).flatten().unwrap_or_default()
    }

    /// Whether every leg is a length.
    pub(crate) fn are_numbers(&self) -> bool {
        let good = |value: f64| value.is_finite() && value >= 0.0;
        self.drives.iter().all(|drive| good(drive.km) && good(drive.minutes))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::weather::record::EARTH_RADIUS_KM;

    #[test]
    fn a_degree_of_latitude_is_111_km_and_takes_its_time() {
        let spots = [0.0, 1.0].map(|latitude_deg| Spot { latitude_deg, longitude_deg: 10.0 });
        // A degree of a great circle of the earth's mean radius.
        let degree = EARTH_RADIUS_KM * std::f64::consts::PI / 180.0;
        let legs = Legs::between(&spots, Pace { detour: 1.0, km_per_h: 60.0 });
        assert!(
            (legs.drive(0, 1).km - degree).abs() < 1e-9 && (legs.drive(1, 0).minutes - degree).abs() < 1e-9
        );
        assert_eq!(legs.drive(0, 0), Drive::default());
        assert_eq!(legs.drive(0, 7), Drive::default(), "no such place");
    }

    #[test]
    fn a_table_is_square_and_its_minutes_can_be_said_one_by_one() {
        assert!(Legs::of_table(2, vec![Drive::default(); 3]).is_none());
        let mut legs = Legs::of_table(2, vec![Drive::default(); 4]).unwrap();
        legs.set_minutes(0, 1, 12.0);
        legs.set_minutes(5, 1, 99.0);
        assert_eq!([legs.drive(0, 1).minutes, legs.drive(1, 0).minutes], [12.0, 0.0]);
    }
}
