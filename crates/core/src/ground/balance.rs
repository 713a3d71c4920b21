//! Daily root-zone water balance, FAO-56 equations 82 to 88, with a constant allowable depletion.

use crate::quantity::ratio::Share;
use crate::quantity::units::Millimetres;

/// The store that a root zone is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RootZone {
    /// Total available water, TAW (FAO-56 eq. 82).
    pub total_available: Millimetres,
    /// Allowable depletion p, a fraction of TAW.
    pub allowable_depletion: Share,
}

impl RootZone {
    /// From water contents by volume (m³/m³) and a root depth in metres (FAO-56 eq. 82).
    #[must_use]
    pub fn from_water_contents(
        field_capacity: f64,
        wilting_point: f64,
        root_depth_m: f64,
        allowable_depletion: Share,
    ) -> Self {
        Self {
            total_available: Millimetres::from_mm(1000.0 * (field_capacity - wilting_point) * root_depth_m),
            allowable_depletion,
        }
    }

    /// Readily available water, RAW = p TAW (FAO-56 eq. 83): the depletion of the refill point.
    #[must_use]
    pub fn readily_available(&self) -> Millimetres {
        self.total_available * self.allowable_depletion.fraction()
    }

    /// Water stress coefficient Ks at a depletion (FAO-56 eq. 84), 0 to 1.
    #[must_use]
    pub fn stress_coefficient(&self, depletion: Millimetres) -> f64 {
        let taw = self.total_available.mm();
        if depletion <= self.readily_available() || taw <= 0.0 {
            1.0
        } else {
            ((taw - depletion.mm()) / ((1.0 - self.allowable_depletion.fraction()) * taw)).clamp(0.0, 1.0)
        }
    }

    /// One day of the balance (FAO-56 eq. 85 to 88).
    ///
    /// Ks is taken from the depletion at the end of the day before. Water beyond field capacity
    /// drains on the same day. A depletion cannot pass TAW: evapotranspiration is then cut to what
    /// was left, so that the day's water always adds up.
    #[must_use]
    pub fn day(&self, before: Millimetres, water: DayWater) -> DayBalance {
        let ks = self.stress_coefficient(before);
        let supplied = water.rain.mm() + water.irrigation.mm();
        let room = self.total_available.mm() - before.mm() + supplied;
        let evapotranspiration = (ks * water.demand.mm()).min(room.max(0.0));
        let drainage = (supplied - evapotranspiration - before.mm()).max(0.0);
        let depletion = before.mm() - supplied + evapotranspiration + drainage;
        DayBalance {
            depletion: Millimetres::from_mm(depletion.max(0.0)),
            evapotranspiration: Millimetres::from_mm(evapotranspiration),
            drainage: Millimetres::from_mm(drainage),
            stress_coefficient: ks,
        }
    }
}

/// What comes and is asked for on a day.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct DayWater {
    /// Plant demand without stress: K × ET0.
    pub demand: Millimetres,
    /// Rain that enters the soil.
    pub rain: Millimetres,
    /// Net irrigation that enters the soil.
    pub irrigation: Millimetres,
}

/// The end of a day.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DayBalance {
    /// Root zone depletion Dr at the end of the day.
    pub depletion: Millimetres,
    /// Evapotranspiration with stress, Ks × K × ET0.
    pub evapotranspiration: Millimetres,
    /// Deep drainage DP.
    pub drainage: Millimetres,
    /// Ks of the day.
    pub stress_coefficient: f64,
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn mm(value: f64) -> Millimetres {
        Millimetres::from_mm(value)
    }

    /// FAO-56 example 36: TAW and RAW of three crops on three soils, printed to whole mm (values
    /// from memory).
    #[test]
    fn fao56_example_36_available_water() {
        let soils = [(0.15, 0.06), (0.32, 0.15), (0.35, 0.23)];
        for (root_m, p, printed) in [
            (0.4, 0.30, [(36.0, 11.0), (68.0, 20.0), (48.0, 14.0)]),
            (0.8, 0.40, [(72.0, 29.0), (136.0, 54.0), (96.0, 38.0)]),
            (1.2, 0.55, [(108.0, 59.0), (204.0, 112.0), (144.0, 79.0)]),
        ] {
            for ((fc, wp), (taw, raw)) in soils.into_iter().zip(printed) {
                let zone = RootZone::from_water_contents(fc, wp, root_m, Share::from_fraction(p));
                assert!((zone.total_available.mm() - taw).abs() < 0.5);
                assert!((zone.readily_available().mm() - raw).abs() < 0.5);
            }
        }
    }

    /// FAO-56 example 37: tomato, TAW 160, RAW 64, 55 mm depleted, 5 mm/day, ten dry days
    /// (values from memory).
    #[test]
    fn fao56_example_37_stress_over_ten_days() {
        let zone = RootZone::from_water_contents(0.32, 0.12, 0.8, Share::from_fraction(0.4));
        assert!((zone.total_available.mm() - 160.0).abs() < 1e-9);
        let mut depletion = mm(55.0);
        for printed_ks in [1.0, 1.0, 0.99, 0.94, 0.89, 0.84, 0.80, 0.76, 0.72, 0.68] {
            let day = zone.day(depletion, DayWater { demand: mm(5.0), ..Default::default() });
            assert!((day.stress_coefficient - printed_ks).abs() < 0.0051, "{day:?}");
            depletion = day.depletion;
        }
        assert!((depletion.mm() - 98.0).abs() < 0.5);
    }

    #[test]
    fn stress_starts_at_the_refill_point_and_ends_at_wilting() {
        let zone = RootZone { total_available: mm(100.0), allowable_depletion: Share::from_fraction(0.5) };
        assert_eq!(zone.stress_coefficient(mm(50.0)), 1.0);
        assert_eq!(zone.stress_coefficient(mm(75.0)), 0.5);
        assert_eq!(zone.stress_coefficient(mm(100.0)), 0.0);
    }

    #[test]
    fn rain_beyond_full_drains() {
        let zone = RootZone { total_available: mm(60.0), allowable_depletion: Share::from_fraction(0.5) };
        let end = zone.day(mm(10.0), DayWater { demand: mm(4.0), rain: mm(20.0), ..Default::default() });
        assert_eq!((end.depletion.mm(), end.drainage.mm()), (0.0, 6.0));
    }

    proptest! {
        #[test]
        fn water_is_conserved_and_depletion_bounded(
            taw in 1.0..300.0_f64, p in 0.05..0.9_f64, start in 0.0..1.0_f64,
            demand in 0.0..15.0_f64, rain in 0.0..80.0_f64, irrigation in 0.0..60.0_f64,
        ) {
            let zone = RootZone { total_available: mm(taw), allowable_depletion: Share::from_fraction(p) };
            let before = mm(start * taw);
            let end = zone.day(before, DayWater { demand: mm(demand), rain: mm(rain), irrigation: mm(irrigation) });
            let change = end.depletion.mm() - before.mm();
            let flows = end.evapotranspiration.mm() + end.drainage.mm() - rain - irrigation;
            prop_assert!((change - flows).abs() < 1e-9);
            prop_assert!(end.depletion.mm() >= 0.0 && end.depletion.mm() <= taw + 1e-9);
            prop_assert!(end.evapotranspiration.mm() <= demand + 1e-12);
        }

        #[test]
        fn more_rain_never_leaves_it_drier(
            before in 0.0..60.0_f64, demand in 0.0..12.0_f64, rain in 0.0..40.0_f64, more in 0.0..40.0_f64,
        ) {
            let zone = RootZone { total_available: mm(60.0), allowable_depletion: Share::from_fraction(0.5) };
            let with = |rain| zone.day(mm(before), DayWater { demand: mm(demand), rain: mm(rain), ..Default::default() });
            prop_assert!(with(rain + more).depletion.mm() <= with(rain).depletion.mm() + 1e-9);
            prop_assert!(with(rain + more).drainage.mm() >= with(rain).drainage.mm() - 1e-9);
        }
    }
}
