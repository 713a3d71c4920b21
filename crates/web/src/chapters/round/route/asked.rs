//! What is asked of a day's route: its form filled, read and refused.

use crate::page::dates::typed_time;
use crate::page::forms::{Field, FieldError, FieldGroup, Form, Reader};
use crate::page::units::Shown;
use crate::server::request_locale::habit;
use crate::server::session::Fields;
use jiff::civil::Time;
use std::collections::BTreeMap;
use upland_core::quantity::units::KM_PER_MILE;
use upland_core::site::UnitSystem;
use upland_formats::route_files::read_minutes;
use upland_formats::typed;
use upland_route::Pace;
use upland_store::routes::{RouteAsked, StayAsked};

/// People of a route.
const MOST_DRIVERS: usize = 6;
/// Sites of a route: what its search was measured with.
pub(super) const MOST_SITES: usize = 60;
/// Longest stay that is taken, minutes.
const LONGEST_STAY: f64 = 600.0;
/// Farther from every site than this nobody starts a day, km.
const FARTHEST_KM: f64 = 400.0;

/// The speed of a reader's units.
const fn speed(units: UnitSystem) -> Shown {
    match units {
        UnitSystem::Metric => Shown::of("km/h", 1.0),
        UnitSystem::UsCustomary => Shown::of("mi/h", KM_PER_MILE),
    }
}

/// A distance in a reader's units, as a person would say it.
pub(super) fn distance(units: UnitSystem, km: f64) -> String {
    match units {
        UnitSystem::Metric => format!("{} km", crate::page::quantities::plain(km, 1)),
        UnitSystem::UsCustomary => format!("{} mi", crate::page::quantities::plain(km / KM_PER_MILE, 1)),
    }
}

/// A day that nobody asked for yet.
pub(super) fn empty(name: &str) -> RouteAsked {
    let pace = Pace::default();
    RouteAsked {
        drivers: vec![name.to_owned()],
        from_min: 7 * 60,
        until_min: 16 * 60,
        detour: pace.detour,
        km_per_h: pace.km_per_h,
        ..RouteAsked::default()
    }
}

fn time(minutes: u16) -> Time {
    let part = |value: u16| i8::try_from(value).unwrap_or(0);
    Time::new(part(minutes / 60 % 24), part(minutes % 60), 0, 0).unwrap_or_default()
}

fn minutes(time: Time) -> u16 {
    u16::try_from(i32::from(time.hour()) * 60 + i32::from(time.minute())).unwrap_or(0)
}

fn spot_text(spot: Option<[f64; 2]>) -> String {
    spot.map_or(String::new(), |[latitude, longitude]| format!("{latitude:.5}, {longitude:.5}"))
}

/// The texts of a form that asks this.
pub(super) fn texts(asked: &RouteAsked, units: UnitSystem) -> BTreeMap<String, String> {
    let mut texts: BTreeMap<String, String> = [
        ("drivers", asked.drivers.join(", ")),
        ("from", typed_time(time(asked.from_min))),
        ("until", typed_time(time(asked.until_min))),
        ("start", spot_text(asked.start)),
        ("end", spot_text(asked.end)),
        ("detour", crate::page::quantities::plain(asked.detour, 2)),
        ("speed", speed(units).round_text(asked.km_per_h)),
        ("table", asked.table.clone()),
    ]
    .into_iter()
    .map(|(name, text)| (name.to_owned(), text))
    .collect();
    for stay in &asked.stays {
        texts.insert(format!("min-{}", stay.site), stay.minutes.map_or(String::new(), |m| m.to_string()));
        let at = stay.appointment_min.map_or(String::new(), |at| typed_time(time(at)));
        texts.insert(format!("at-{}", stay.site), at);
    }
    texts
}

/// The form, filled with texts and faults.
pub(super) fn form(units: UnitSystem, texts: &BTreeMap<String, String>, errors: &[FieldError]) -> Form {
    let day = vec![
        Field::text("drivers", "Who drives")
            .help("Names with commas between; the sites are shared among them."),
        Field::time("from", "From"),
        Field::time("until", "Until").help("What does not fit into these hours is left out and named."),
    ];
    let ends = vec![
        Field::text("start", "Start at")
            .help("Latitude, longitude in degrees: 54.512, -3.045. Left empty: at the first site."),
        Field::text("end", "End at").help("Left empty: at the last site."),
    ];
    let roads = vec![
        Field::number("detour", "Road for one as the crow flies", "×")
            .help("Roads are longer than straight lines; 1.2 to 1.4 is common practice."),
        Field::number("speed", "Mean speed", speed(units).unit),
        Field::lines("table", "Driving minutes you know")
            .help("A line each: from, to, minutes, such as start,Mill lane,12. They replace what is worked out, both ways."),
    ];
    Form {
        groups: vec![
            FieldGroup::of("The day", day),
            FieldGroup::of("From where to where", ends),
            FieldGroup::folded("How roads are taken to be", roads),
        ],
    }
    .filled(texts, errors)
}

/// What was typed, or what is wrong with it: by field, and by site.
pub(super) struct Refused {
    pub fields: Vec<FieldError>,
    pub stays: BTreeMap<i64, String>,
}

fn spot(reader: &mut Reader<'_>, name: &'static str) -> Option<[f64; 2]> {
    let text = reader.typed(name).trim().to_owned();
    if text.is_empty() {
        return None;
    }
    let numbers: Vec<f64> = text
        .split([',', ';', ' '])
        .filter(|part| !part.is_empty())
        .filter_map(|part| part.parse().ok())
        .collect();
    match numbers.as_slice() {
        [latitude, longitude] if latitude.abs() <= 89.0 && longitude.abs() <= 180.0 => {
            Some([*latitude, *longitude])
        }
        _ => {
            reader.say(name, "Write latitude and longitude in degrees, such as 54.512, -3.045.");
            None
        }
    }
}

fn number(reader: &mut Reader<'_>, name: &'static str, shown: Shown, from: f64, until: f64) -> f64 {
    match shown.read(reader.typed(name)) {
        Ok(value) if (from..=until).contains(&value) => value,
        Ok(_) => {
            let (from, until) = (shown.round_text(from), shown.round_text(until));
            reader.say(name, format!("It lies between {from} and {until} {}.", shown.unit));
            from.parse().unwrap_or(1.0)
        }
        Err(refusal) => {
            reader.say(name, refusal.to_string());
            from
        }
    }
}

fn stay(fields: &Fields, site: i64) -> Result<StayAsked, String> {
    let minutes = match fields.get(&format!("min-{site}")) {
        "" => None,
        text => match typed::duration(text).map(|length| length.minutes().min_value()) {
            Ok(minutes) if (1.0..=LONGEST_STAY).contains(&minutes) => Some(minutes),
            Ok(_) => return Err(format!("A stay is 1 to {LONGEST_STAY} minutes.")),
            Err(refusal) => return Err(refusal.to_string()),
        },
    };
    let appointment_min = match fields.get(&format!("at-{site}")) {
        "" => None,
        text => Some(typed::time_of_day(text, habit()).map_err(|refusal| refusal.to_string())?),
    };
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    Ok(StayAsked {
        site,
        minutes: minutes.map(|minutes| minutes.round() as u16),
        appointment_min: appointment_min.map(self::minutes),
    })
}

fn drivers(reader: &mut Reader<'_>) -> Vec<String> {
    let drivers: Vec<String> = reader
        .typed("drivers")
        .split(',')
        .map(|name| name.trim().to_owned())
        .filter(|name| !name.is_empty())
        .collect();
    if drivers.is_empty() || drivers.len() > MOST_DRIVERS {
        reader
            .say("drivers", format!("Name who drives, at most {MOST_DRIVERS} people, with commas between."));
    }
    if drivers.iter().any(|name| name.chars().count() > 60) {
        reader.say("drivers", "A name has at most 60 letters.");
    }
    drivers
}

fn table(reader: &mut Reader<'_>) -> String {
    let table = reader.typed("table").to_owned();
    if let Err(problems) = read_minutes(&table) {
        let said = problems.iter().take(5).map(|problem| match problem.line {
            Some(line) => format!("Line {line} {}.", problem.message),
            None => format!("This {}.", problem.message),
        });
        let said: Vec<String> = said.collect();
        reader.say("table", said.join(" "));
    }
    table
}

/// Reads the form for sites that stay in the day; `far` says how many kilometres the nearest of them is from a place.
pub(super) fn read(
    fields: &Fields,
    units: UnitSystem,
    sites: Vec<i64>,
    far: impl Fn([f64; 2]) -> Option<f64>,
) -> Result<RouteAsked, Refused> {
    let mut reader = Reader::new(fields);
    let drivers = drivers(&mut reader);
    let hours = reader.hours("from", "until");
    if hours.until < hours.from {
        reader.say("until", "The day ends after it begins; a route does not run over midnight.");
    }
    let (start, end) = (spot(&mut reader, "start"), spot(&mut reader, "end"));
    for (name, spot) in [("start", start), ("end", end)] {
        if let Some(km) = spot.and_then(&far).filter(|km| *km > FARTHEST_KM) {
            let words = format!(
                "That is {} from the nearest site; check both numbers and their signs.",
                distance(units, km.round())
            );
            reader.say(name, words);
        }
    }
    let detour = number(&mut reader, "detour", crate::page::units::NO_UNIT, 1.0, 3.0);
    let km_per_h = number(&mut reader, "speed", speed(units), 5.0, 130.0);
    let table = table(&mut reader);
    let (mut stays, mut wrong) = (Vec::new(), BTreeMap::new());
    for site in &sites {
        match stay(fields, *site) {
            Ok(stay) if stay.minutes.is_none() && stay.appointment_min.is_none() => {}
            Ok(stay) => stays.push(stay),
            Err(words) => {
                wrong.insert(*site, words);
            }
        }
    }
    if !reader.errors.is_empty() || !wrong.is_empty() {
        return Err(Refused { fields: reader.errors, stays: wrong });
    }
    let (from_min, until_min) = (minutes(hours.from), minutes(hours.until));
    Ok(RouteAsked {
        sites,
        drivers,
        from_min,
        until_min,
        start,
        end,
        detour,
        km_per_h,
        stays,
        table,
        orders: vec![],
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fields(texts: &BTreeMap<String, String>) -> Fields {
        Fields(texts.clone())
    }

    #[test]
    fn a_day_survives_its_form_in_either_units() {
        let asked = RouteAsked {
            sites: vec![3, 5],
            drivers: vec!["Bram".into(), "Wren".into()],
            start: Some([54.5, -3.25]),
            km_per_h: 48.280_32,
            stays: vec![StayAsked { site: 5, minutes: Some(45), appointment_min: Some(600) }],
            table: "start,Mill lane,12".into(),
            ..empty("x")
        };
        for units in [UnitSystem::Metric, UnitSystem::UsCustomary] {
            let back = read(&fields(&texts(&asked, units)), units, vec![3, 5], |_| Some(3.0)).ok().unwrap();
            assert!((back.km_per_h - asked.km_per_h).abs() < 0.5, "as a person would write it");
            assert_eq!(RouteAsked { km_per_h: asked.km_per_h, ..back }, asked);
        }
    }

    #[test]
    fn each_fault_stands_at_its_field_or_its_site() {
        let mut typed = texts(&empty("Bram"), UnitSystem::Metric);
        for (name, text) in [
            ("drivers", " , "),
            ("from", "16:00"),
            ("until", "07:00"),
            ("start", "Mill lane"),
            ("detour", "0.5"),
            ("speed", "fast"),
            ("table", "a,b"),
            ("min-3", "0"),
            ("at-5", "99:99"),
        ] {
            typed.insert(name.into(), text.into());
        }
        let refused = read(&fields(&typed), UnitSystem::Metric, vec![3, 5], |_| None).err().unwrap();
        let names: Vec<_> = refused.fields.iter().map(|(name, _)| *name).collect();
        assert_eq!(names, ["drivers", "until", "start", "detour", "speed", "table"]);
        let abroad = texts(&RouteAsked { start: Some([-54.5, 3.25]), ..empty("Bram") }, UnitSystem::Metric);
        let refused_start =
            read(&fields(&abroad), UnitSystem::Metric, vec![], |_| Some(12_000.0)).err().unwrap();
        assert!(
            refused_start.fields[0].1.contains("12,000 km") || refused_start.fields[0].1.contains("12000 km")
        );
        assert_eq!(refused.stays.keys().copied().collect::<Vec<_>>(), [3, 5]);
    }
}
