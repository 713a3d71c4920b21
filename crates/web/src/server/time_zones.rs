//! The time zone of a position, from boundaries that ship with the program.

use std::sync::LazyLock;
use tzf_rs::DefaultFinder;

/// Some tens of megabytes, read when first asked.
static FINDER: LazyLock<DefaultFinder> = LazyLock::new(DefaultFinder::new);

/// What is said of a name that the clock does not know.
pub(crate) const UNKNOWN: &str =
    "This time zone is not in the IANA list; type a city or Etc/GMT-1 and choose.";

/// Every IANA name, for the list behind a field.
pub(crate) fn names() -> Vec<String> {
    jiff::tz::db().available().map(|name| name.as_str().to_owned()).collect()
}

/// The IANA name of the zone at a position in degrees, north and east positive; on the open sea the zone by longitude.
/// `None` where the position is none, or the zone is unknown to the clock.
pub(crate) fn zone_at(latitude: f64, longitude: f64) -> Option<&'static str> {
    let on_earth = (-90.0..=90.0).contains(&latitude) && (-180.0..=180.0).contains(&longitude);
    let name = on_earth.then(|| FINDER.get_tz_name(longitude, latitude))?;
    (!name.is_empty() && jiff::tz::TimeZone::get(name).is_ok()).then_some(name)
}

#[cfg(test)]
mod tests {
    use super::zone_at;

    #[test]
    fn a_position_has_its_zone() {
        // Places far from any border, and the middle of an ocean.
        assert_eq!(zone_at(47.4, 8.5), Some("Europe/Zurich"));
        assert_eq!(zone_at(39.74, -104.99), Some("America/Denver"));
        assert_eq!(zone_at(-33.87, 151.2), Some("Australia/Sydney"));
        assert_eq!(zone_at(46.0, -30.0), Some("Etc/GMT+2"));
        for (latitude, longitude) in [(95.0, 0.0), (0.0, 181.0), (f64::NAN, 0.0)] {
            assert_eq!(zone_at(latitude, longitude), None);
        }
    }
}
