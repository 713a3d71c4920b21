//! Units of the fields of a zone, by the unit system of its site.

use crate::page::forms::Shown;
use upland_core::quantity::units::{M_PER_FOOT, MM_PER_INCH};
use upland_core::site::UnitSystem;

pub(crate) struct ZoneUnits {
    pub rate: Shown,
    pub root: Shown,
    pub area: Shown,
}

pub(crate) fn units(system: UnitSystem) -> ZoneUnits {
    match system {
        UnitSystem::Metric => ZoneUnits {
            rate: Shown { unit: "mm/h", factor: 1.0 },
            root: Shown { unit: "cm", factor: 0.01 },
            area: Shown { unit: "m²", factor: 1.0 },
        },
        UnitSystem::UsCustomary => ZoneUnits {
            rate: Shown { unit: "in/h", factor: MM_PER_INCH },
            root: Shown { unit: "in", factor: MM_PER_INCH / 1000.0 },
            area: Shown { unit: "ft²", factor: M_PER_FOOT * M_PER_FOOT },
        },
    }
}
