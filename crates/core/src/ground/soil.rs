//! Soil texture classes. Values as printed in the Irrigation Association's scheduling tables and
//! the EPA/IA protocol for weather-based controllers (from memory).

use crate::quantity::units::{Metres, Millimetres, MillimetresPerHour};

/// Texture class of a soil.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Texture {
    /// Sand.
    Sand,
    /// Loamy sand.
    LoamySand,
    /// Sandy loam.
    SandyLoam,
    /// Loam.
    Loam,
    /// Clay loam.
    ClayLoam,
    /// Silty clay.
    SiltyClay,
    /// Clay.
    Clay,
}

/// Source of the texture table, for explanations.
pub const SOURCE: &str = "Irrigation Association and EPA/IA controller-protocol tables (from memory)";

struct Row {
    label: &'static str,
    available_mm_per_m: f64,
    basic_intake_in_per_h: f64,
    /// Allowable surface accumulation for slopes of 0-3, 4-6, 7-12 and 13+ %.
    asa_in: [f64; 4],
}

const fn row(
    label: &'static str,
    available_mm_per_m: f64,
    basic_intake_in_per_h: f64,
    asa_in: [f64; 4],
) -> Row {
    Row { label, available_mm_per_m, basic_intake_in_per_h, asa_in }
}

impl Texture {
    /// All classes, coarse to fine.
    pub const ALL: [Self; 7] = [
        Self::Sand,
        Self::LoamySand,
        Self::SandyLoam,
        Self::Loam,
        Self::ClayLoam,
        Self::SiltyClay,
        Self::Clay,
    ];

    const fn row(self) -> Row {
        match self {
            Self::Sand => row("sand", 60.0, 0.60, [0.40, 0.35, 0.30, 0.25]),
            Self::LoamySand => row("loamy sand", 80.0, 0.50, [0.36, 0.30, 0.26, 0.22]),
            Self::SandyLoam => row("sandy loam", 120.0, 0.40, [0.33, 0.29, 0.26, 0.22]),
            Self::Loam => row("loam", 170.0, 0.35, [0.30, 0.25, 0.22, 0.19]),
            Self::ClayLoam => row("clay loam", 180.0, 0.20, [0.26, 0.22, 0.18, 0.15]),
            Self::SiltyClay => row("silty clay", 170.0, 0.15, [0.23, 0.19, 0.16, 0.13]),
            Self::Clay => row("clay", 170.0, 0.10, [0.20, 0.15, 0.10, 0.10]),
        }
    }

    /// Words for the list.
    #[must_use]
    pub const fn label(self) -> &'static str {
        self.row().label
    }

    /// Available water per metre of root zone, mm/m.
    #[must_use]
    pub const fn available_mm_per_m(self) -> f64 {
        self.row().available_mm_per_m
    }

    /// Total available water of a root zone (FAO-56 eq. 82).
    #[must_use]
    pub fn total_available(self, root_depth: Metres) -> Millimetres {
        Millimetres::from_mm(self.available_mm_per_m() * root_depth.m())
    }

    /// Basic intake rate.
    #[must_use]
    pub fn basic_intake(self) -> MillimetresPerHour {
        MillimetresPerHour::from_inches_per_hour(self.row().basic_intake_in_per_h)
    }

    /// Allowable surface accumulation on a slope: what may pond before it runs off.
    ///
    /// The table's classes end at 3, 6 and 12 %; a slope between two classes takes the steeper.
    #[must_use]
    pub fn allowable_surface_accumulation(self, slope_pct: f64) -> Millimetres {
        let [flat, gentle, moderate, steep] = self.row().asa_in;
        Millimetres::from_inches(if slope_pct <= 3.0 {
            flat
        } else if slope_pct <= 6.0 {
            gentle
        } else if slope_pct <= 12.0 {
            moderate
        } else {
            steep
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn table_values_by_slope_class() {
        let loam = Texture::Loam;
        assert_eq!(loam.total_available(Metres::from_m(0.5)).mm(), 85.0);
        assert!((loam.basic_intake().mm_per_hour() - 8.89).abs() < 1e-9);
        for (slope, inches) in
            [(0.0, 0.30), (3.0, 0.30), (3.5, 0.25), (6.0, 0.25), (12.0, 0.22), (14.0, 0.19)]
        {
            let asa = loam.allowable_surface_accumulation(slope);
            assert!((asa.inches() - inches).abs() < 1e-12, "slope {slope}");
        }
    }

    #[test]
    fn finer_soils_take_water_in_more_slowly() {
        for pair in Texture::ALL.windows(2) {
            assert!(pair[0].basic_intake() > pair[1].basic_intake());
            assert!(
                pair[0].allowable_surface_accumulation(2.0) > pair[1].allowable_surface_accumulation(2.0)
            );
        }
    }
}
