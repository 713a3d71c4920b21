//! The site survey as a form.

use super::card;
use crate::page::dates::{typed_from, typed_time, typed_until};
use crate::page::forms::{Field, FieldError, FieldGroup, Form, Reader};
use crate::page::units::{DEGREES, Units};
use crate::server::session::Fields;
use crate::server::time_zones::{self, zone_at};
use jiff::civil::Date;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::controller::Card;
use upland_core::quantity::bounds;
use upland_core::quantity::units::{LitresPerMinute, Metres};
use upland_core::site::windows::WaterWindows;
use upland_core::site::{Site, UnitSystem};
use upland_core::weather::climate::Drizzle;

pub(crate) fn texts(site: &Site) -> BTreeMap<String, String> {
    let u = Units::of(site.units);
    [
        ("name", site.name.clone()),
        ("latitude", DEGREES.text(Some(site.latitude_deg))),
        ("longitude", DEGREES.text(Some(site.longitude_deg))),
        ("elevation", u.length.text(Some(site.elevation.m()))),
        ("time_zone", site.time_zone.clone()),
        ("wind_height", u.length.text(Some(site.wind_height.m()))),
        ("from", typed_time(site.windows.main.from)),
        ("until", typed_time(site.windows.main.until)),
        ("second_from", typed_from(site.windows.second)),
        ("second_until", typed_until(site.windows.second)),
        ("grow_in_from", typed_from(site.windows.grow_in)),
        ("grow_in_until", typed_until(site.windows.grow_in)),
        ("drizzle", site.drizzle.code().to_owned()),
        ("supply", u.flow.text(site.supply.map(LitresPerMinute::l_per_min))),
    ]
    .into_iter()
    .chain(card::texts(&site.card))
    .map(|(k, v)| (k.to_owned(), v))
    .collect()
}

/// First values of a new site: a common controller and the small hours.
pub(crate) fn blank() -> BTreeMap<String, String> {
    [("controller", "Controller"), ("card", "twelve"), ("from", "22:00"), ("until", "06:00")]
        .into_iter()
        .map(|(k, v)| (k.to_owned(), v.to_owned()))
        .collect()
}

pub(crate) fn form(system: UnitSystem, texts: &BTreeMap<String, String>, errors: &[FieldError]) -> Form {
    let u = Units::of(system);
    let wind_default = crate::page::quantities::plain(u.length.shown(2.0), 1);
    Form {
        groups: vec![
            FieldGroup {
                folded: false,
                legend: "Place",
                fields: vec![
                    Field::text("name", "Name"),
                    Field::number("latitude", "Latitude", "°").help("North positive, in decimal degrees."),
                    Field::number("longitude", "Longitude", "°").help("East positive, in decimal degrees."),
                    Field::number("elevation", "Elevation", u.length.unit),
                    Field::text("time_zone", "Time zone").help(
                        "Left empty it is that of the position; type to search for another, an IANA name.",
                    ),
                    Field::number("wind_height", "Wind sensor height", u.length.unit)
                        .default(wind_default)
                        .help("Of the station behind the weather files."),
                ],
            },
            FieldGroup {
                folded: false,
                legend: "Water",
                fields: vec![
                    Field::time("from", "Water window from")
                        .help("By the wall clock; it may cross midnight."),
                    Field::time("until", "Water window until")
                        .help("Every run ends by then. Local rules come first."),
                    Field::number("supply", "Supply", u.flow.unit)
                        .help("What meter and main give at once; leave empty if not known."),
                    Field::choice("drizzle", "Rain below a fifth of the day's ET0", Drizzle::label)
                        .help("FAO-56 leaves it out."),
                ],
            },
            FieldGroup::folded(
                "Other water windows: a second one, one for grow-in",
                vec![
                    Field::time("second_from", "Second window from")
                        .help("Watering may run in it, too; a plan takes the night first."),
                    Field::time("second_until", "Second window until"),
                    Field::time("grow_in_from", "Grow-in window from").help(
                        "For zones that grow in, instead of the window above, until they are established.",
                    ),
                    Field::time("grow_in_until", "Grow-in window until"),
                ],
            ),
            card::customer(),
            card::access(),
        ],
    }
    .filled(texts, errors)
}

/// The form of a new site: the survey and its first controller.
pub(crate) fn form_with_controller(
    system: UnitSystem,
    cards: Vec<(String, String)>,
    texts: &BTreeMap<String, String>,
    errors: &[FieldError],
) -> Form {
    let mut form = form(system, texts, errors);
    let kind = Field::one_of("card", "Kind of controller", cards);
    form.groups.push(FieldGroup {
        folded: false,
        legend: "First controller",
        fields: vec![
            Field::text("controller", "Location"),
            kind.help("The nearest will do; every limit can be corrected afterwards."),
        ],
    });
    form.filled(texts, errors)
}

/// Reads the form of a new site; `card` is the one that was chosen.
///
/// # Errors
/// Every field that is wrong, with its message.
pub(crate) fn read_with_controller(
    fields: &Fields,
    system: UnitSystem,
    card: Option<Card>,
    today: Date,
) -> Result<(Site, String, Card), Vec<FieldError>> {
    let mut reader = Reader::new(fields);
    let place = reader.name("controller");
    if card.is_none() {
        reader.say("card", "Choose one from the list.");
    }
    match (read(fields, system, None, today), card) {
        (Ok(site), Some(card)) if reader.errors.is_empty() => Ok((site, place, card)),
        (read, _) => {
            let mut errors = read.err().unwrap_or_default();
            errors.extend(reader.errors);
            Err(errors)
        }
    }
}

fn windows(reader: &mut Reader<'_>) -> WaterWindows {
    WaterWindows {
        main: reader.hours("from", "until"),
        second: reader.optional_hours("second_from", "second_until"),
        grow_in: reader.optional_hours("grow_in_from", "grow_in_until"),
    }
}

/// Reads the form. `before` is the site it was drawn from.
///
/// # Errors
/// Every field that is wrong, with its message.
pub(crate) fn read(
    fields: &Fields,
    system: UnitSystem,
    before: Option<&Site>,
    today: Date,
) -> Result<Site, Vec<FieldError>> {
    let u = Units::of(system);
    let mut reader = Reader::new(fields);
    let name = reader.name("name");
    let latitude_deg =
        reader.required("latitude", DEGREES, &bounds::LATITUDE, before.map(|s| s.latitude_deg));
    let longitude_deg =
        reader.required("longitude", DEGREES, &bounds::LONGITUDE, before.map(|s| s.longitude_deg));
    let elevation =
        reader.required("elevation", u.length, &bounds::ELEVATION, before.map(|s| s.elevation.m()));
    let time_zone = match fields.get("time_zone") {
        // Never silently another than that of the place.
        "" => zone_at(latitude_deg, longitude_deg).unwrap_or_default().to_owned(),
        typed => typed.to_owned(),
    };
    // An empty field waits for the position.
    let placed = reader.errors.iter().all(|(n, _)| *n != "latitude" && *n != "longitude");
    if (placed || !time_zone.is_empty()) && jiff::tz::TimeZone::get(&time_zone).is_err() {
        reader.say("time_zone", time_zones::UNKNOWN);
    }
    let wind_height =
        reader.optional("wind_height", u.length, &bounds::WIND_HEIGHT, before.map(|s| s.wind_height.m()));
    let windows = windows(&mut reader);
    let kept = before.map_or(Drizzle::default(), |s| s.drizzle);
    // A form of an earlier page does not have it.
    let drizzle =
        if !fields.get("drizzle").is_empty() { reader.choice("drizzle").unwrap_or(kept) } else { kept };
    let supply = reader.optional(
        "supply",
        u.flow,
        &bounds::SUPPLY,
        before.and_then(|s| s.supply).map(LitresPerMinute::l_per_min),
    );
    // A form of an earlier page does not have it.
    let card = match before {
        Some(before) if !fields.0.contains_key("customer") => before.card.clone(),
        _ => card::read(&mut reader, today),
    };
    if !reader.errors.is_empty() {
        return Err(reader.errors);
    }
    Ok(Site {
        name,
        latitude_deg,
        longitude_deg,
        elevation: Metres::from_m(elevation),
        wind_height: Metres::from_m(wind_height.unwrap_or(2.0)),
        time_zone,
        units: system,
        windows,
        supply: supply.map(LitresPerMinute::from_l_per_min),
        drizzle,
        card,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: Date = jiff::civil::date(2026, 7, 14);

    fn typed(pairs: &[(&str, &str)]) -> Fields {
        let mut all = blank();
        for (k, v) in [("name", "Larkrigg"), ("latitude", "46"), ("longitude", "-30"), ("elevation", "1040")]
        {
            all.insert(k.into(), v.into());
        }
        for (k, v) in pairs {
            all.insert((*k).into(), (*v).into());
        }
        Fields(all)
    }

    #[test]
    fn a_site_survives_its_form_in_either_unit_system() {
        for system in [UnitSystem::Metric, UnitSystem::UsCustomary] {
            let site = read(&typed(&[("supply", "20")]), system, None, DAY).unwrap();
            assert_eq!(read(&Fields(texts(&site)), system, Some(&site), DAY), Ok(site));
        }
    }

    #[test]
    fn the_time_zone_is_that_of_the_position_until_another_is_typed() {
        let zone =
            |pairs: &[(&str, &str)]| read(&typed(pairs), UnitSystem::Metric, None, DAY).map(|s| s.time_zone);
        assert_eq!(zone(&[]), Ok("Etc/GMT+2".into()), "on the open sea, by longitude");
        assert_eq!(zone(&[("latitude", "47.4"), ("longitude", "8.5 E")]), Ok("Europe/Zurich".into()));
        assert_eq!(zone(&[("time_zone", "Pacific/Auckland")]), Ok("Pacific/Auckland".into()));
        let refused = zone(&[("time_zone", "Larkrigg")]).unwrap_err();
        assert_eq!(refused[0].0, "time_zone");
    }

    #[test]
    fn a_latitude_of_95_is_refused_at_its_field() {
        let errors = read(
            &typed(&[("latitude", "95"), ("until", "22:00"), ("time_zone", "Larkrigg")]),
            UnitSystem::Metric,
            None,
            DAY,
        )
        .unwrap_err();
        let names: Vec<_> = errors.iter().map(|(n, _)| *n).collect();
        assert_eq!(names, ["latitude", "time_zone", "until"]);
        assert!(errors[0].1.contains("between -89 and 89"));
    }
}
