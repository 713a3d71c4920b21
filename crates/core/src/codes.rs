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

coded!(crate::ground::plant::PlantKind {
    CoolSeasonTurf = "cool_season_turf",
    WarmSeasonTurf = "warm_season_turf",
    VeryLowDemand = "very_low_demand",
    LowDemand = "low_demand",
    ModerateDemand = "moderate_demand",
    HighDemand = "high_demand",
    Trees = "trees",
    FruitTrees = "fruit_trees",
    Vegetables = "vegetables",
    Annuals = "annuals",
    Natives = "natives",
    GroundCover = "ground_cover",
    Footing = "footing",
});
coded!(crate::controller::Input {
    Rate = "rate",
    Plants = "plants",
    Soil = "soil",
    Slope = "slope",
    Sun = "sun",
    Maturity = "maturity",
    Refill = "refill",
    Trim = "trim",
    Window = "window",
    NeverDays = "never_days",
});
coded!(crate::advice::tonight::Verdict {
    Right = "right",
    NotNeeded = "not_needed",
    TooMuch = "too_much",
    RunsOff = "runs_off",
    TooLittle = "too_little",
    Forbidden = "forbidden",
    Held = "held",
    NothingReaches = "nothing_reaches",
});
coded!(crate::advice::tonight::ControllerKnown {
    Settings = "settings",
    Unknown = "unknown",
    ComputesItself = "computes_itself",
});
coded!(crate::ground::plant::Sun {
    ReflectedHeat = "reflected_heat",
    Full = "full",
    Part = "part",
    Shade = "shade",
});
coded!(crate::weather::climate::Drizzle { LeftOut = "left_out", Counted = "counted" });
coded!(crate::trial::Bill {
    Month = "month",
    TwoMonths = "two_months",
    Quarter = "quarter",
    Year = "year",
    AllDays = "all_days",
});
coded!(crate::ground::planting::Density { Sparse = "sparse", Average = "average", Dense = "dense" });
coded!(crate::ground::planting::PlantingValue { Low = "low", Ordinary = "ordinary", High = "high" });
coded!(crate::advice::budget::Measure {
    Harm = "harm",
    Thirstiest = "thirstiest",
    ByArea = "by_area",
    LeastSquares = "least_squares"
});
coded!(crate::ground::planting::MixedRule { Thirstiest = "thirstiest", AreaWeighted = "area_weighted" });
coded!(crate::ground::catch_can::CanReading { Volume = "volume", Depth = "depth" });
coded!(crate::ground::plant::Sky { Open = "open", UnderEaves = "under_eaves", UnderGlass = "under_glass" });
coded!(crate::account::evidence::Evidence {
    Logged = "logged",
    Metered = "metered",
    Device = "device",
    AsSet = "as_set",
    AsAdvised = "as_advised",
});
coded!(crate::trial::Named {
    AsSet = "as-set",
    AsAdvised = "as-advised",
    NoSensors = "no-sensors",
    Leave = "leave",
    Monthly = "monthly",
    Weekly = "weekly",
    EtSensor = "et-sensor",
    DailyBalance = "daily-balance",
});
coded!(crate::trial::Spot { UnderEave = "under_eave", InShade = "in_shade" });
coded!(crate::account::site_account::EvidencePolicy { Best = "best", AsSet = "as-set", AsAdvised = "as-advised" });
coded!(crate::weather::record::Variable {
    TemperatureMin = "tmin",
    TemperatureMax = "tmax",
    DewPoint = "dew_point",
    HumidityMin = "rh_min",
    HumidityMax = "rh_max",
    VapourPressure = "vapour_pressure",
    Solar = "solar",
    Wind = "wind",
    Rain = "rain",
});
coded!(crate::weather::record::VariableGroup {
    Temperature = "temperature",
    Humidity = "humidity",
    Solar = "solar",
    Wind = "wind",
    Rain = "rain",
});
coded!(crate::weather::record::SourceKind { Own = "own", Station = "station", Normals = "normals" });
coded!(crate::advice::budget::RainRule { LeftToHold = "left_to_hold", Counted = "counted" });
coded!(crate::ground::soil::Texture {
    Sand = "sand",
    LoamySand = "loamy_sand",
    SandyLoam = "sandy_loam",
    Loam = "loam",
    ClayLoam = "clay_loam",
    SiltyClay = "silty_clay",
    Clay = "clay",
});
coded!(crate::ground::application::HeadType {
    Spray = "spray",
    MultiStreamRotor = "multi_stream_rotor",
    Rotor = "rotor",
    MicroSpray = "micro_spray",
    Drip = "drip",
    Bubbler = "bubbler",
});
coded!(crate::controller::PercentageScope { Controller = "box", Program = "program", Month = "month" });
coded!(crate::controller::PercentageTarget { Total = "total", Cycle = "cycle" });
coded!(crate::controller::Rounding { Nearest = "nearest", Down = "down", Up = "up" });
coded!(crate::controller::Overlap { Queue = "queue", Concurrent = "concurrent" });
coded!(crate::controller::SensorPort {
    HoldSwitch = "hold_switch",
    SoilProbe = "soil_probe",
    FlowMeter = "flow_meter",
    Weather = "weather",
    TwoWire = "two_wire",
});
coded!(crate::sensors::Sense {
    Rain = "rain",
    Freeze = "freeze",
    Wind = "wind",
    SoilMoisture = "soil_moisture",
    Flow = "flow",
    Et = "et",
});
coded!(crate::sensors::Signal {
    NormallyClosed = "normally_closed",
    NormallyOpen = "normally_open",
    Pulse = "pulse",
    Data = "data",
});
coded!(crate::sensors::PowerSupply { None = "none", FromController = "from_box", Battery = "battery" });
coded!(crate::sensors::Link { Wire = "wire", Radio = "radio" });
coded!(crate::sensors::Task {
    Battery = "battery",
    Clean = "clean",
    TripTest = "trip_test",
    Calibrate = "calibrate",
    BackupBattery = "backup_battery",
});
coded!(crate::sensors::Channel {
    Rain = "rain_mm",
    Temperature = "temperature_c",
    Humidity = "humidity_pct",
    Solar = "solar_w_m2",
    Wind = "wind_m_s",
    SoilMoisture = "soil_pct",
    Flow = "flow_l_min",
    Et = "et_mm",
    Contact = "contact",
    Battery = "battery_pct",
});
impl Coded for crate::controller::ordinance::HouseNumber {
    const TABLE: &'static [(Self, &'static str)] = &[
        (Self::Odd, "odd"),
        (Self::Even, "even"),
        (Self::EndsIn(0), "0"),
        (Self::EndsIn(1), "1"),
        (Self::EndsIn(2), "2"),
        (Self::EndsIn(3), "3"),
        (Self::EndsIn(4), "4"),
        (Self::EndsIn(5), "5"),
        (Self::EndsIn(6), "6"),
        (Self::EndsIn(7), "7"),
        (Self::EndsIn(8), "8"),
        (Self::EndsIn(9), "9"),
    ];
}
coded!(crate::advice::planner::Strategy {
    JustNeed = "just_need",
    SoilBalance = "soil_balance",
    EveryDay = "every_day",
    DeepTwice = "deep_twice",
    DeepOnce = "deep_once",
});
coded!(crate::site::UnitSystem { Metric = "metric", UsCustomary = "us_customary" });
coded!(crate::tuning::Looks { Dry = "dry", Right = "right", Wet = "wet" });
coded!(crate::tuning::Sign {
    NoWater = "no_water",
    RunsWhenOff = "runs_when_off",
    Broken = "broken",
    Leaning = "leaning",
    Blocked = "blocked",
    WeakSpray = "weak_spray",
    OtherRunning = "other_running",
    Runoff = "runoff",
    DryPatches = "dry_patches",
    WetPatches = "wet_patches",
    AfterRain = "after_rain",
    OtherPlants = "other_plants",
});
coded!(crate::tuning::Plants {
    Fine = "fine",
    Wilting = "wilting",
    Scorched = "scorched",
    Yellow = "yellow",
    Soft = "soft",
});
coded!(crate::tuning::Battery { Good = "good", Low = "low", Dead = "dead" });
coded!(crate::tuning::Cause {
    NoWater = "no_water",
    ValveOpen = "valve_open",
    BrokenHead = "broken_head",
    BlockedHeads = "blocked_heads",
    LowPressure = "low_pressure",
    TwoAtOnce = "two_at_once",
    RateWrong = "rate_wrong",
    PlantsWrong = "plants_wrong",
    SoilWrong = "soil_wrong",
    RunoffCycles = "runoff_cycles",
    MinutesWrong = "minutes_wrong",
    PercentageStale = "percentage_stale",
    PercentageLow = "percentage_low",
    PercentageHigh = "percentage_high",
    DaysFew = "days_few",
    DaysMany = "days_many",
    HiddenProgram = "hidden_program",
    ExtraStart = "extra_start",
    ClockWrong = "clock_wrong",
    ControllerOff = "box_off",
    BypassLeft = "bypass_left",
    GaugeSheltered = "gauge_sheltered",
    GaugeSprayed = "gauge_sprayed",
    SensorSlowToDry = "sensor_slow_to_dry",
    ThresholdSmall = "threshold_small",
    ProbeThresholdHigh = "probe_threshold_high",
    ProbeThresholdLow = "probe_threshold_low",
    SensorOnRoofedZone = "sensor_on_roofed_zone",
    SensorIgnored = "sensor_ignored",
    EtTrim = "et_trim",
    EtClimate = "et_climate",
    GrowInOver = "grow_in_over",
    WeanOffDue = "wean_off_due",
    Leak = "leak",
    NothingWrong = "nothing_wrong",
});
coded!(crate::tuning::LeverCode {
    Mend = "mend",
    SetControllerRight = "set_box_right",
    SensorByHand = "sensor_by_hand",
    Survey = "survey",
    ZoneMinutes = "zone_minutes",
    Cycles = "cycles",
    Starts = "starts",
    Percentage = "percentage",
    Days = "days",
    RainThreshold = "rain_threshold",
    ProbeThreshold = "probe_threshold",
    SensorMap = "sensor_map",
    EtTrim = "et_trim",
    EtFull = "et_full",
});

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
        round_trips::<crate::tuning::Looks>(3);
        round_trips::<crate::tuning::Sign>(crate::tuning::Sign::ALL.len());
        round_trips::<crate::tuning::Plants>(crate::tuning::Plants::ALL.len());
        round_trips::<crate::tuning::Cause>(35);
        round_trips::<crate::tuning::LeverCode>(14);
        round_trips::<crate::ground::plant::PlantKind>(crate::ground::plant::PlantKind::ALL.len());
        round_trips::<crate::ground::plant::Sun>(crate::ground::plant::Sun::ALL.len());
        round_trips::<crate::ground::planting::Density>(crate::ground::planting::Density::ALL.len());
        round_trips::<crate::ground::planting::MixedRule>(2);
        round_trips::<crate::ground::planting::PlantingValue>(3);
        round_trips::<crate::advice::budget::Measure>(4);
        round_trips::<crate::weather::record::Variable>(crate::weather::record::VARIABLES);
        round_trips::<crate::weather::record::VariableGroup>(
            crate::weather::record::VariableGroup::ALL.len(),
        );
        round_trips::<crate::weather::record::SourceKind>(3);
        round_trips::<crate::advice::budget::RainRule>(2);
        round_trips::<crate::ground::plant::Sky>(crate::ground::plant::Sky::ALL.len());
        round_trips::<crate::ground::soil::Texture>(crate::ground::soil::Texture::ALL.len());
        round_trips::<crate::ground::application::HeadType>(crate::ground::application::HeadType::ALL.len());
        round_trips::<crate::site::UnitSystem>(2);
        round_trips::<crate::controller::PercentageScope>(3);
        round_trips::<crate::controller::PercentageTarget>(2);
        round_trips::<crate::controller::Rounding>(3);
        round_trips::<crate::controller::Overlap>(2);
        round_trips::<crate::controller::SensorPort>(5);
        round_trips::<crate::sensors::Sense>(crate::sensors::Sense::ALL.len());
        round_trips::<crate::sensors::Signal>(4);
        round_trips::<crate::sensors::PowerSupply>(3);
        round_trips::<crate::sensors::Link>(2);
        round_trips::<crate::sensors::Task>(crate::sensors::Task::ALL.len());
        round_trips::<crate::sensors::Channel>(crate::sensors::Channel::ALL.len());
        round_trips::<crate::controller::ordinance::HouseNumber>(12);
        round_trips::<crate::advice::planner::Strategy>(crate::advice::planner::Strategy::ALL.len());
    }
}
