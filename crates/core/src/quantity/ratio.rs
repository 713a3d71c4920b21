//! Parts of a whole and percentages, so that neither a hundred nor a one is ever taken for the other.

/// The percentage of a controller: what it makes of its base run times, in whole percent. At 100 % they stay as
/// they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Percentage(u16);

impl Percentage {
    /// Nothing runs.
    pub const ZERO: Self = Self(0);
    /// The base run times as they are.
    pub const HUNDRED: Self = Self(100);

    /// From whole percent.
    #[must_use]
    pub const fn from_percent(value: u16) -> Self {
        Self(value)
    }

    /// Whole percent.
    #[must_use]
    pub const fn percent(self) -> u16 {
        self.0
    }

    /// What a run time is multiplied with.
    #[must_use]
    pub fn factor(self) -> f64 {
        f64::from(self.0) / 100.0
    }
}

/// As one reads it: "90 %".
impl core::fmt::Display for Percentage {
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        write!(f, "{} %", self.0)
    }
}

/// A part of a whole, such as a uniformity or the rain that reaches the ground under a roof: one is all of
/// it.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub struct Share(f64);

impl Share {
    /// Nothing of it.
    pub const NONE: Self = Self(0.0);
    /// All of it.
    pub const WHOLE: Self = Self(1.0);

    /// From a fraction of one.
    #[must_use]
    pub const fn from_fraction(value: f64) -> Self {
        Self(value)
    }

    /// From percent.
    #[must_use]
    pub fn from_percent(value: f64) -> Self {
        Self(value / 100.0)
    }

    /// The fraction of one.
    #[must_use]
    pub const fn fraction(self) -> f64 {
        self.0
    }

    /// In percent, to ten decimals, so that what came in as percent goes out as it came.
    #[must_use]
    pub fn percent(self) -> f64 {
        (self.0 * 1e12).round() / 1e10
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_percentage_and_a_share_say_a_hundred_where_they_mean_all() {
        assert_eq!((Percentage::HUNDRED.factor(), Share::WHOLE.percent()), (1.0, 100.0));
        assert_eq!(
            (Percentage::from_percent(35).factor(), Share::from_percent(35.0).fraction()),
            (0.35, 0.35)
        );
        assert_eq!(Percentage::from_percent(90).to_string(), "90 %");
        assert_eq!(100.0 * (110.0 / 100.0), 110.000_000_000_000_01, "which is why percents are rounded");
        for percent in [0.0, 7.0, 33.3, 110.0, 140.0, 150.0, 0.000_1] {
            assert_eq!(Share::from_percent(percent).percent(), percent);
        }
        assert!(Percentage::ZERO < Percentage::HUNDRED && Share::NONE < Share::WHOLE);
    }
}
