//! Short names of list values, one table for files, forms and the database.

/// A value out of a fixed list, with the short name it has in files, forms and the database.
pub trait Coded: Sized + Copy + PartialEq + 'static {
    /// Every value with its short name, in the order of a list.
    const TABLE: &'static [(Self, &'static str)];

    /// The short name.
    fn code(self) -> &'static str {
        Self::TABLE.iter().find(|(value, _)| *value == self).map_or("", |(_, code)| code)
    }

    /// The value of a short name.
    fn from_code(code: &str) -> Option<Self> {
        Self::TABLE.iter().find(|(_, known)| *known == code).map(|(value, _)| *value)
    }
}

macro_rules! coded {
    ($type:ty { $($variant:ident = $code:literal),* $(,)? }) => {
        impl Coded for $type {
            const TABLE: &'static [(Self, &'static str)] = &[$((<$type>::$variant, $code)),*];
        }
    };
}

coded!(crate::plant::PlantKind {
    CoolSeasonTurf = "cool_season_turf",
    WarmSeasonTurf = "warm_season_turf",
    VeryLowDemand = "very_low_demand",
    LowDemand = "low_demand",
    ModerateDemand = "moderate_demand",
    HighDemand = "high_demand",
    Trees = "trees",
    FruitTrees = "fruit_trees",
    Vegetables = "vegetables",
});
coded!(crate::plant::Sun {
    ReflectedHeat = "reflected_heat",
    Full = "full",
    Part = "part",
    Shade = "shade",
});
coded!(crate::plant::Sky { Open = "open", UnderEaves = "under_eaves", UnderGlass = "under_glass" });
coded!(crate::soil::Texture {
    Sand = "sand",
    LoamySand = "loamy_sand",
    SandyLoam = "sandy_loam",
    Loam = "loam",
    ClayLoam = "clay_loam",
    SiltyClay = "silty_clay",
    Clay = "clay",
});
coded!(crate::application::HeadType {
    Spray = "spray",
    MultiStreamRotor = "multi_stream_rotor",
    Rotor = "rotor",
    MicroSpray = "micro_spray",
    Drip = "drip",
});
coded!(crate::site::UnitSystem { Metric = "metric", UsCustomary = "us_customary" });

#[cfg(test)]
mod tests {
    use super::*;

    fn round_trips<T: Coded + core::fmt::Debug>(expected: usize) {
        assert_eq!(T::TABLE.len(), expected);
        for (value, code) in T::TABLE {
            assert_eq!(value.code(), *code);
            assert_eq!(T::from_code(code), Some(*value));
        }
        assert_eq!(T::from_code("no such code"), None);
    }

    #[test]
    fn every_value_has_one_code() {
        round_trips::<crate::plant::PlantKind>(crate::plant::PlantKind::ALL.len());
        round_trips::<crate::plant::Sun>(crate::plant::Sun::ALL.len());
        round_trips::<crate::plant::Sky>(crate::plant::Sky::ALL.len());
        round_trips::<crate::soil::Texture>(crate::soil::Texture::ALL.len());
        round_trips::<crate::application::HeadType>(crate::application::HeadType::ALL.len());
        round_trips::<crate::site::UnitSystem>(2);
    }
}
