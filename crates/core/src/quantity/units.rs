//! Quantities as newtypes: the field is private, so a number can only enter or leave with the
//! name of its unit. Inside the core everything is metric; the US customary constructors and
//! getters are for reading and writing.

macro_rules! quantity {
    (
        $(#[$meta:meta])* $name:ident, base $from:ident / $get:ident
        $(, also $from2:ident / $get2:ident = $factor:expr)* $(,)?
    ) => {
        $(#[$meta])*
        #[derive(Debug, Clone, Copy, PartialEq, PartialOrd, Default)]
        pub struct $name(f64);

        impl $name {
            /// Zero of this quantity.
            pub const ZERO: Self = Self(0.0);

            /// From a number in the unit that the name says.
            #[must_use]
            pub const fn $from(value: f64) -> Self {
                Self(value)
            }

            /// The number in the unit that the name says.
            #[must_use]
            pub const fn $get(self) -> f64 {
                self.0
            }
            $(
                /// From a number in the unit that the name says.
                #[must_use]
                pub fn $from2(value: f64) -> Self {
                    Self(value * $factor)
                }

                /// The number in the unit that the name says.
                #[must_use]
                pub fn $get2(self) -> f64 {
                    self.0 / $factor
                }
            )*

            /// The larger of the two.
            #[must_use]
            pub fn max(self, other: Self) -> Self {
                Self(self.0.max(other.0))
            }

            /// The smaller of the two.
            #[must_use]
            pub fn min(self, other: Self) -> Self {
                Self(self.0.min(other.0))
            }
        }
    };
}

macro_rules! additive {
    ($($name:ident),*) => {$(
        impl core::ops::Add for $name {
            type Output = Self;
            fn add(self, other: Self) -> Self {
                Self(self.0 + other.0)
            }
        }
        impl core::ops::Sub for $name {
            type Output = Self;
            fn sub(self, other: Self) -> Self {
                Self(self.0 - other.0)
            }
        }
        impl core::ops::Mul<f64> for $name {
            type Output = Self;
            fn mul(self, factor: f64) -> Self {
                Self(self.0 * factor)
            }
        }
        impl core::iter::Sum for $name {
            fn sum<I: Iterator<Item = Self>>(items: I) -> Self {
                // An empty sum of floats is minus zero in the standard library.
                items.fold(Self::ZERO, |sum, item| sum + item)
            }
        }
    )*};
}

/// One inch in millimetres (exact by definition, 1959).
pub const MM_PER_INCH: f64 = 25.4;
/// One foot in metres (exact).
pub const M_PER_FOOT: f64 = 0.3048;
/// One US gallon in litres (231 cubic inches, exact).
pub const L_PER_US_GALLON: f64 = 3.785_411_784;
/// One mile in kilometres (exact).
pub const KM_PER_MILE: f64 = 1.609_344;
/// One mile per hour in metres per second (exact).
pub const M_S_PER_MPH: f64 = 0.447_04;
/// One langley (thermochemical calorie per square centimetre) in MJ/m² (exact).
pub const MJ_M2_PER_LANGLEY: f64 = 0.041_84;
/// A day's mean of 1 W/m² in MJ/m² per day: 86 400 s.
pub const MJ_M2_PER_W_M2_DAY: f64 = 0.0864;
/// An hour's mean of 1 W/m² in MJ/m² per hour: 3 600 s.
pub const MJ_M2_PER_W_M2_HOUR: f64 = 0.0036;

quantity!(
    /// A depth of water: rain, evapotranspiration, depletion, irrigation.
    Millimetres, base from_mm / mm, also from_inches / inches = MM_PER_INCH
);
quantity!(
    /// How fast water is applied or taken in.
    MillimetresPerHour, base from_mm_per_hour / mm_per_hour,
    also from_inches_per_hour / inches_per_hour = MM_PER_INCH
);
quantity!(
    /// A length or height.
    Metres, base from_m / m, also from_feet / feet = M_PER_FOOT,
    also from_inches / inches = (MM_PER_INCH / 1000.0)
);
quantity!(
    /// An area.
    SquareMetres, base from_m2 / m2,
    also from_square_feet / square_feet = (M_PER_FOOT * M_PER_FOOT)
);
quantity!(
    /// A volume of water.
    Litres, base from_l / l, also from_us_gallons / us_gallons = L_PER_US_GALLON
);
quantity!(
    /// A flow of water.
    LitresPerMinute, base from_l_per_min / l_per_min,
    also from_us_gpm / us_gpm = L_PER_US_GALLON
);
quantity!(
    /// Wind speed.
    MetresPerSecond, base from_m_per_s / m_per_s, also from_mph / mph = M_S_PER_MPH
);
quantity!(
    /// Radiant energy on a square metre over the step at hand (a day or an hour).
    MegajoulesPerSquareMetre, base from_mj_per_m2 / mj_per_m2,
    also from_langleys / langleys = MJ_M2_PER_LANGLEY
);
quantity!(
    /// A pressure.
    Kilopascals, base from_kpa / kpa
);
quantity!(
    /// A run time or soak, in minutes that may have a fraction.
    Minutes, base from_min / min_value
);
quantity!(
    /// A difference between two temperatures.
    CelsiusDifference, base from_kelvin / kelvin
);

additive!(Millimetres, Litres, LitresPerMinute, Minutes, MegajoulesPerSquareMetre);

/// An air temperature. Differences are [`CelsiusDifference`], so that 10 °C above another
/// temperature is never read as 10 °C.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd, Default)]
pub struct Celsius(f64);

impl Celsius {
    /// From degrees Celsius.
    #[must_use]
    pub const fn from_c(value: f64) -> Self {
        Self(value)
    }
    /// From degrees Fahrenheit.
    #[must_use]
    pub fn from_f(value: f64) -> Self {
        Self((value - 32.0) / 1.8)
    }
    /// Degrees Celsius.
    #[must_use]
    pub const fn c(self) -> f64 {
        self.0
    }
    /// Degrees Fahrenheit.
    #[must_use]
    pub fn f(self) -> f64 {
        self.0 * 1.8 + 32.0
    }
    /// Kelvin, with the 273.16 that FAO-56 and ASCE-EWRI print for the long-wave term.
    #[must_use]
    pub fn k(self) -> f64 {
        self.0 + 273.16
    }
    /// The mean of this and another temperature.
    #[must_use]
    pub fn mean_with(self, other: Self) -> Self {
        Self(0.5 * (self.0 + other.0))
    }
}

impl core::ops::Sub for Celsius {
    type Output = CelsiusDifference;
    fn sub(self, other: Self) -> CelsiusDifference {
        CelsiusDifference::from_kelvin(self.0 - other.0)
    }
}

impl Millimetres {
    /// The volume of this depth over an area: 1 mm on 1 m² is 1 L.
    #[must_use]
    pub fn over(self, area: SquareMetres) -> Litres {
        Litres::from_l(self.0 * area.m2())
    }
}

impl MillimetresPerHour {
    /// The flow that applies this rate over an area.
    #[must_use]
    pub fn flow_over(self, area: SquareMetres) -> LitresPerMinute {
        LitresPerMinute::from_l_per_min(self.0 * area.m2() / 60.0)
    }
    /// The time in which this rate gives a depth; endless at no rate.
    #[must_use]
    pub fn time_for(self, depth: Millimetres) -> Minutes {
        Minutes::from_min(60.0 * depth.mm() / self.0)
    }
    /// The depth that this rate gives in a time.
    #[must_use]
    pub fn over_time(self, time: Minutes) -> Millimetres {
        Millimetres::from_mm(self.0 * time.min_value() / 60.0)
    }
}

impl LitresPerMinute {
    /// The volume that flows in a time.
    #[must_use]
    pub fn for_time(self, time: Minutes) -> Litres {
        Litres::from_l(self.0 * time.min_value())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn half_an_inch_takes_the_minutes_of_the_trade() {
        // Common practice: spray, multi-stream rotor, rotor, drip.
        for (rate, minutes) in [(1.25, 24.0), (0.6, 50.0), (0.58, 51.7), (0.4, 75.0)] {
            let rate = MillimetresPerHour::from_inches_per_hour(rate);
            let time = rate.time_for(Millimetres::from_inches(0.5));
            assert!((time.min_value() - minutes).abs() < 0.05, "{}", time.min_value());
            assert!((rate.over_time(time).inches() - 0.5).abs() < 1e-12);
        }
    }

    use proptest::prelude::*;

    proptest! {
    #[test]
        fn units_round_trip(value in -500.0..5000.0_f64) {
            prop_assert!((Millimetres::from_inches(value).inches() - value).abs() < 1e-9);
            prop_assert!((Celsius::from_f(value).f() - value).abs() < 1e-9);
            prop_assert!((Metres::from_feet(value).feet() - value).abs() < 1e-9);
            prop_assert!((SquareMetres::from_square_feet(value).square_feet() - value).abs() < 1e-9);
            prop_assert!((LitresPerMinute::from_us_gpm(value).us_gpm() - value).abs() < 1e-9);
            prop_assert!((MetresPerSecond::from_mph(value).mph() - value).abs() < 1e-9);
        }
    }

    #[test]
    fn a_sum_of_nothing_is_plain_zero() {
        let none: Millimetres = std::iter::empty().sum();
        assert!(none.mm().is_sign_positive());
    }

    #[test]
    fn known_equivalents() {
        assert_eq!(Millimetres::from_inches(0.5).mm(), 12.7);
        assert!((Celsius::from_f(85.0).c() - 29.444).abs() < 1e-3);
        assert_eq!(Millimetres::from_mm(10.0).over(SquareMetres::from_m2(50.0)).l(), 500.0);
        // 96.3 gpm over 1 ft² is 1 in/h in the customary form of the same identity.
        let flow =
            MillimetresPerHour::from_inches_per_hour(96.3).flow_over(SquareMetres::from_square_feet(1.0));
        assert!((flow.us_gpm() - 1.0).abs() < 6e-4);
    }
}
