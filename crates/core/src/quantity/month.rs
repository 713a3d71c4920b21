//! Months of the calendar, and what has a value for each of them.

use jiff::civil::Date;

/// A month of the calendar.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Month {
    /// Number 1.
    January = 1,
    /// Number 2.
    February,
    /// Number 3.
    March,
    /// Number 4.
    April,
    /// Number 5.
    May,
    /// Number 6.
    June,
    /// Number 7.
    July,
    /// Number 8.
    August,
    /// Number 9.
    September,
    /// Number 10.
    October,
    /// Number 11.
    November,
    /// Number 12.
    December,
}

impl Month {
    /// All, January first.
    pub const ALL: [Self; 12] = [
        Self::January,
        Self::February,
        Self::March,
        Self::April,
        Self::May,
        Self::June,
        Self::July,
        Self::August,
        Self::September,
        Self::October,
        Self::November,
        Self::December,
    ];

    /// The month of a date.
    #[must_use]
    pub fn of(date: Date) -> Self {
        // A civil date always has a month from 1 to 12.
        Self::from_number(date.month()).unwrap_or(Self::December)
    }

    /// The month of a number, 1 to 12.
    #[must_use]
    pub fn from_number(number: i8) -> Option<Self> {
        Self::ALL.into_iter().find(|month| month.number() == number)
    }

    /// Its number, 1 to 12.
    #[must_use]
    pub const fn number(self) -> i8 {
        self as i8
    }

    /// Its name.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::January => "January",
            Self::February => "February",
            Self::March => "March",
            Self::April => "April",
            Self::May => "May",
            Self::June => "June",
            Self::July => "July",
            Self::August => "August",
            Self::September => "September",
            Self::October => "October",
            Self::November => "November",
            Self::December => "December",
        }
    }

    /// The first three letters of its name.
    #[must_use]
    pub fn short(self) -> &'static str {
        self.name().split_at(3).0
    }

    /// The month before; December before January.
    #[must_use]
    pub fn previous(self) -> Self {
        Self::from_number((self.number() + 10) % 12 + 1).unwrap_or(self)
    }

    /// The month after; January after December.
    #[must_use]
    pub fn next(self) -> Self {
        Self::from_number(self.number() % 12 + 1).unwrap_or(self)
    }

    /// Its days in an ordinary year, for sums over the year.
    #[must_use]
    pub const fn days(self) -> f64 {
        match self {
            Self::February => 28.0,
            Self::April | Self::June | Self::September | Self::November => 30.0,
            _ => 31.0,
        }
    }
}

/// A value for each month.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ByMonth<T>([T; 12]);

impl<T> ByMonth<T> {
    /// From twelve values, January first.
    #[must_use]
    pub const fn new(values: [T; 12]) -> Self {
        Self(values)
    }

    /// What a function gives for each month.
    #[must_use]
    pub fn from_fn(mut value: impl FnMut(Month) -> T) -> Self {
        Self(Month::ALL.map(&mut value))
    }

    /// The same value all year.
    #[must_use]
    pub fn all(value: T) -> Self
    where
        T: Copy,
    {
        Self([value; 12])
    }

    /// The value of a month.
    #[must_use]
    pub const fn of(&self, month: Month) -> &T {
        let [jan, feb, mar, apr, may, jun, jul, aug, sep, oct, nov, dec] = &self.0;
        match month {
            Month::January => jan,
            Month::February => feb,
            Month::March => mar,
            Month::April => apr,
            Month::May => may,
            Month::June => jun,
            Month::July => jul,
            Month::August => aug,
            Month::September => sep,
            Month::October => oct,
            Month::November => nov,
            Month::December => dec,
        }
    }

    /// The value of a month, to be changed.
    #[must_use]
    pub const fn of_mut(&mut self, month: Month) -> &mut T {
        let [jan, feb, mar, apr, may, jun, jul, aug, sep, oct, nov, dec] = &mut self.0;
        match month {
            Month::January => jan,
            Month::February => feb,
            Month::March => mar,
            Month::April => apr,
            Month::May => may,
            Month::June => jun,
            Month::July => jul,
            Month::August => aug,
            Month::September => sep,
            Month::October => oct,
            Month::November => nov,
            Month::December => dec,
        }
    }

    /// The value of the month of a date.
    #[must_use]
    pub fn on(&self, date: Date) -> &T {
        self.of(Month::of(date))
    }

    /// The values, January first.
    pub fn iter(&self) -> core::slice::Iter<'_, T> {
        self.0.iter()
    }

    /// The values as a slice, January first.
    #[must_use]
    pub const fn as_slice(&self) -> &[T] {
        &self.0
    }

    /// Months with their values, January first.
    pub fn months(&self) -> impl Iterator<Item = (Month, &T)> {
        Month::ALL.into_iter().zip(&self.0)
    }

    /// Each value changed.
    #[must_use]
    pub fn map<U>(self, change: impl FnMut(T) -> U) -> ByMonth<U> {
        ByMonth(self.0.map(change))
    }

    /// Twelve values, January first.
    #[must_use]
    pub fn into_values(self) -> [T; 12] {
        self.0
    }

    /// The same half a year later: the curve of the other hemisphere.
    #[must_use]
    pub fn half_a_year_later(mut self) -> Self {
        self.0.rotate_left(6);
        self
    }
}

impl<T: Copy> ByMonth<Option<T>> {
    /// The values when every month has one.
    #[must_use]
    pub fn whole(&self) -> Option<ByMonth<T>> {
        let mut values = ByMonth::all((*self.of(Month::January))?);
        for month in Month::ALL {
            *values.of_mut(month) = (*self.of(month))?;
        }
        Some(values)
    }
}

impl<'a, T> IntoIterator for &'a ByMonth<T> {
    type Item = &'a T;
    type IntoIter = core::slice::Iter<'a, T>;
    fn into_iter(self) -> Self::IntoIter {
        self.iter()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    #[test]
    fn every_month_has_its_place_number_and_days() {
        let numbers = ByMonth::from_fn(Month::number);
        assert!(Month::ALL.into_iter().all(|m| *numbers.of(m) == m.number()));
        assert_eq!(Month::from_number(0), None);
        assert_eq!(Month::from_number(13), None);
        assert_eq!((*numbers.on(date(2026, 1, 1)), *numbers.on(date(2024, 12, 31))), (1, 12));
        for (month, number) in numbers.months() {
            assert_eq!(month.days(), f64::from(date(2025, *number, 1).days_in_month()), "{month:?}");
        }
        assert!(Month::ALL.into_iter().all(|m| m.name().starts_with(m.short()) && m.short().len() == 3));
        assert_eq!((Month::December.next(), Month::May.next()), (Month::January, Month::June));
        assert_eq!(Month::ALL.map(Month::days).iter().sum::<f64>(), 365.0);
        let mut changed = numbers;
        for month in Month::ALL {
            *changed.of_mut(month) *= 2;
        }
        assert_eq!(changed, numbers.map(|n| n * 2));
        let mut some = numbers.map(Some);
        assert_eq!(some.whole(), Some(numbers));
        *some.of_mut(Month::December) = None;
        assert_eq!(some.whole(), None);
        assert_eq!(*numbers.half_a_year_later().of(Month::January), 7);
        assert_eq!(*numbers.half_a_year_later().of(Month::July), 1);
    }
}
