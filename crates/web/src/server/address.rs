//! The addresses of things, typed once. The address of what belongs to a thing begins with that of the thing.

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

/// What stands as itself in an address.
const PLAIN: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'~');

/// A name as a part of an address.
pub(crate) fn encoded(name: &str) -> String {
    utf8_percent_encode(name, PLAIN).to_string()
}

/// An address that a form sends back, where it is one of ours; else the start. Browsers read a backslash as a slash, and
/// two of them as another machine.
pub(crate) fn own(back: &str) -> &str {
    let rest = back.strip_prefix('/').filter(|rest| !rest.starts_with(['/', '\\']));
    if rest.is_some() && !back.chars().any(char::is_control) { back } else { "/" }
}

/// Where a site opens.
pub(crate) fn today(site: i64) -> String {
    format!("{}/today", site_root(site))
}

/// What stands before every address of a site.
pub(crate) fn site_root(site: i64) -> String {
    format!("/sites/{site}")
}

/// The list of zones.
pub(crate) fn zones(site: i64) -> String {
    format!("{}/zones", site_root(site))
}

/// A zone.
pub(crate) fn zone(site: i64, zone: i64) -> String {
    format!("{}/{zone}", zones(site))
}

/// The first controller of a site, or the form that adds one.
pub(crate) fn programs(site: i64) -> String {
    format!("{}/programs", site_root(site))
}

/// The controllers of a site: an address under which others hang.
pub(crate) fn controllers(site: i64) -> String {
    format!("{}/controllers", site_root(site))
}

/// A controller by its number.
pub(crate) fn site_controller(site: i64, number: u8) -> String {
    format!("{}/{number}", controllers(site))
}

/// The list of sensors.
pub(crate) fn sensors(site: i64) -> String {
    format!("{}/sensors", site_root(site))
}

/// A sensor.
pub(crate) fn sensor(site: i64, sensor: i64) -> String {
    format!("{}/{sensor}", sensors(site))
}

/// The weather room.
pub(crate) fn weather(site: i64) -> String {
    format!("{}/weather", site_root(site))
}

/// How a source of weather is asked by itself.
pub(crate) fn service(site: i64, source: i64) -> String {
    format!("{}/sources/{source}/service", weather(site))
}

/// A weather file that waits to be confirmed.
pub(crate) fn draft(site: i64, draft: i64) -> String {
    format!("{}/drafts/{draft}", weather(site))
}

#[cfg(test)]
mod tests {
    use super::own;

    #[test]
    fn sentence_3_an_address_that_is_sent_back_leads_nowhere_else() {
        assert_eq!(own("/sites/1/today?controller=2"), "/sites/1/today?controller=2");
        for elsewhere in
            ["//evil.example", "/\\evil.example", "https://evil.example", "", "/a\r\nx: y", "\\\\evil"]
        {
            assert_eq!(own(elsewhere), "/", "{elsewhere:?}");
        }
    }
}
