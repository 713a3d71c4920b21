//! The zone survey as a form, in the units of its site.

use super::planting_form;
use crate::page::dates::{typed_from, typed_until};
use crate::page::forms::{Field, FieldError, FieldGroup, Form, Reader};
use crate::page::quantities;
use crate::page::units::{PERCENT, SIGNED_PERCENT, Shown, Units};
use crate::server::session::Fields;
use jiff::civil::Date;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::ground::application::HeadType;
use upland_core::ground::plant::{PlantKind, Sky, Sun};
use upland_core::ground::soil::Texture;
use upland_core::quantity::bounds;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{Metres, MillimetresPerHour, SquareMetres};
use upland_core::site::{DEFAULT_SLOPE_PCT, StationId, UnitSystem, Zone, ZoneSince};

/// The texts of a zone's fields.
pub(crate) fn texts(zone: &Zone, system: UnitSystem) -> BTreeMap<String, String> {
    let u = Units::of(system);
    [
        ("controller", zone.controller_number.to_string()),
        ("number", zone.number.to_string()),
        ("name", zone.name.clone()),
        ("plant", zone.plant.code().to_owned()),
        ("sun", zone.sun.code().to_owned()),
        ("sky", zone.sky.code().to_owned()),
        ("soil", zone.soil.code().to_owned()),
        ("slope", SIGNED_PERCENT.text(zone.slope_pct)),
        ("root_depth", u.short.text(zone.root_depth.map(Metres::m))),
        ("allowable_depletion", PERCENT.text(zone.allowable_depletion.map(Share::fraction))),
        ("head", zone.head.code().to_owned()),
        ("rate", u.rate.text(zone.precipitation_rate.map(MillimetresPerHour::mm_per_hour))),
        ("uniformity", PERCENT.text(zone.uniformity.map(Share::fraction))),
        ("area", u.area.text(zone.area.map(SquareMetres::m2))),
        ("window_from", typed_from(zone.window)),
        ("window_until", typed_until(zone.window)),
    ]
    .into_iter()
    .chain(planting_form::texts(zone, &u))
    .map(|(k, v)| (k.to_owned(), v))
    .collect()
}

/// The texts of a zone not yet described: only what must be chosen has a first choice.
pub(crate) fn blank(controller_number: u8, number: u16) -> BTreeMap<String, String> {
    [
        ("controller", controller_number.to_string()),
        ("number", number.to_string()),
        ("plant", PlantKind::CoolSeasonTurf.code().to_owned()),
        ("sun", Sun::Full.code().to_owned()),
        ("sky", Sky::Open.code().to_owned()),
        ("soil", Texture::Loam.code().to_owned()),
        ("head", HeadType::Spray.code().to_owned()),
    ]
    .into_iter()
    .map(|(k, v)| (k.to_owned(), v))
    .collect()
}

/// The form, with each default written where its value would stand.
// Long: a list of fields.
pub(crate) fn form(
    system: UnitSystem,
    controllers: &[(u8, String)],
    texts: &BTreeMap<String, String>,
    errors: &[FieldError],
) -> Form {
    let u = Units::of(system);
    let controllers: Vec<(String, String)> =
        controllers.iter().map(|(n, place)| (n.to_string(), format!("{n} {place}"))).collect();
    let chosen = |name: &str| texts.get(name).map_or("", String::as_str);
    let plant = PlantKind::from_code(chosen("plant")).unwrap_or(PlantKind::CoolSeasonTurf).defaults();
    let head = HeadType::from_code(chosen("head")).unwrap_or(HeadType::Spray);
    let defaults = Defaults::of(&u, &plant, head);
    let mut groups = vec![
        FieldGroup::of(
            "What matters most",
            vec![
                Field::number("number", "Zone number", "").help("The station number on the controller."),
                Field::text("name", "Name"),
                Field::choice::<PlantKind>("plant", "Plants", |p| p.defaults().label),
                Field::choice::<Sun>("sun", "Sun", Sun::label),
                Field::choice::<Texture>("soil", "Soil texture", Texture::label),
                Field::choice::<HeadType>("head", "Heads", HeadType::label),
            ],
        ),
        FieldGroup::folded(
            "Measured: rate, uniformity, slope, area",
            vec![
                Field::number("rate", "Precipitation rate", u.rate.unit)
                    .default(defaults.rate)
                    .help("Measured with catch cans, or from flow and area."),
                Field::number("uniformity", "Distribution uniformity", "%")
                    .default(defaults.uniformity)
                    .help("Low quarter, from the same cans."),
                Field::slope("slope", "Slope")
                    .default(quantities::plain(DEFAULT_SLOPE_PCT, 0))
                    .help("Percent, or degrees: 7°."),
                Field::number("area", "Area", u.area.unit)
                    .help("For the water it takes and the flow; leave empty if not known."),
            ],
        ),
        FieldGroup::folded(
            "Roots, rain, controller, water window",
            vec![
                Field::number("root_depth", "Root depth", u.short.unit).default(defaults.root_depth),
                Field::number("allowable_depletion", "Allowable depletion", "%")
                    .default(defaults.allowable_depletion)
                    .help("Share of the available water that may be used before the refill point."),
                Field::choice::<Sky>("sky", "Rain", Sky::label),
                Field::one_of("controller", "Controller", controllers),
                Field::time("window_from", "Own water window from")
                    .help("Instead of the site's; leave both ends empty for that one."),
                Field::time("window_until", "Own water window until"),
            ],
        ),
    ];
    groups.extend(planting_form::groups(&u));
    for field in groups.iter_mut().flat_map(|g| &mut g.fields).filter(|f| f.name == "coefficient") {
        field.default = Some(defaults.coefficient.clone());
    }
    Form { groups }.filled(texts, errors)
}

/// The default of each measurable field as its text.
struct Defaults {
    coefficient: String,
    root_depth: String,
    allowable_depletion: String,
    rate: String,
    uniformity: String,
}

impl Defaults {
    fn of(u: &Units, plant: &upland_core::ground::plant::PlantDefaults, head: HeadType) -> Self {
        let short = |shown: Shown, metric: f64, digits| quantities::plain(shown.shown(metric), digits);
        Self {
            coefficient: quantities::plain(plant.coefficient, 2),
            root_depth: short(u.short, plant.root_depth_m, 1),
            allowable_depletion: short(PERCENT, plant.allowable_depletion.fraction(), 0),
            rate: short(u.rate, head.default_rate().mm_per_hour(), 2),
            uniformity: short(PERCENT, head.default_uniformity().fraction(), 0),
        }
    }
}

/// Every default by plant and head, so that the page can show the right one as choices change.
pub(crate) fn defaults_json(system: UnitSystem) -> String {
    let u = Units::of(system);
    let plants: serde_json::Map<String, serde_json::Value> = PlantKind::TABLE
        .iter()
        .map(|(kind, code)| {
            let d = Defaults::of(&u, &kind.defaults(), HeadType::Spray);
            let row = serde_json::json!({
                "coefficient": d.coefficient, "root_depth": d.root_depth, "allowable_depletion": d.allowable_depletion,
            });
            ((*code).to_owned(), row)
        })
        .collect();
    let heads: serde_json::Map<String, serde_json::Value> = HeadType::TABLE
        .iter()
        .map(|(head, code)| {
            let d = Defaults::of(&u, &PlantKind::Trees.defaults(), *head);
            ((*code).to_owned(), serde_json::json!({ "rate": d.rate, "uniformity": d.uniformity }))
        })
        .collect();
    serde_json::json!({ "plant": plants, "head": heads }).to_string()
}

/// The question from when a survey counts, on the form of a zone that is there.
pub(crate) fn since_group() -> FieldGroup {
    let since = Field::text("since", "In force since").default("today").help(
        "Days before it keep the earlier survey. Write \"always\" where the survey was wrong and the zone was so all along.",
    );
    FieldGroup { folded: false, legend: "From when", fields: vec![since] }
}

/// From when the form says that a survey counts; today where it says nothing.
///
/// # Errors
/// A date that cannot be read or lies ahead.
pub(crate) fn since(fields: &Fields, today: Date) -> Result<ZoneSince, Vec<FieldError>> {
    if fields.get("since").trim().eq_ignore_ascii_case("always") {
        return Ok(ZoneSince::Always);
    }
    let mut reader = Reader::new(fields);
    let since = reader.optional_date("since", today).unwrap_or(today);
    if since > today {
        reader
            .say("since", "It lies ahead. Enter the day on which it was changed; save it again when it is.");
    }
    if reader.errors.is_empty() { Ok(ZoneSince::On(since)) } else { Err(reader.errors) }
}

/// The controllers of a site and the stations that other zones have.
pub(crate) struct Stations {
    controllers: Vec<u8>,
    taken: Vec<StationId>,
}

impl Stations {
    pub fn of(records: &crate::site::records::SiteRecords, except: Option<i64>) -> Self {
        Self {
            controllers: records
                .controllers
                .iter()
                .map(crate::site::records::SiteController::number)
                .collect(),
            taken: records
                .zones
                .iter()
                .filter(|z| Some(z.id) != except)
                .map(|z| z.zone.station_id())
                .collect(),
        }
    }
}

#[cfg(test)]
impl Stations {
    pub fn for_tests(controllers: &[u8], taken: &[StationId]) -> Self {
        Self { controllers: controllers.to_vec(), taken: taken.to_vec() }
    }
}

/// Reads the form. `before` is the zone it was drawn from.
///
/// # Errors
/// Every field that is wrong, with its message.
// Long: one field of the form after another.
pub(crate) fn read(
    fields: &Fields,
    system: UnitSystem,
    before: Option<&Zone>,
    stations: &Stations,
    today: Date,
) -> Result<Zone, Vec<FieldError>> {
    let u = Units::of(system);
    let mut reader = Reader::new(fields);
    let controller_number = match (fields.get("controller"), stations.controllers.as_slice()) {
        ("", [only]) => *only,
        (text, _) => text.parse().unwrap_or(0),
    };
    if !stations.controllers.contains(&controller_number) {
        reader.say("controller", "Choose one of the controllers of this site.");
    }
    let number = reader.count("number", "The zone number", 250);
    if reader.errors.is_empty() && stations.taken.contains(&StationId::new(controller_number, number)) {
        reader
            .say("number", format!("Zone {number} exists already on this controller; choose a free number."));
    }
    let name = reader.name("name");
    let (plant, sun) = (reader.choice("plant"), reader.choice("sun"));
    let (sky, soil) = (reader.choice("sky"), reader.choice("soil"));
    let head = reader.choice("head");
    let slope_pct = reader.optional_slope("slope", &bounds::SLOPE, before.and_then(|z| z.slope_pct));
    let mut optional = |name, shown, bound, before: Option<f64>| reader.optional(name, shown, bound, before);
    let root_depth = optional(
        "root_depth",
        u.short,
        &bounds::ROOT_DEPTH,
        before.and_then(|z| z.root_depth).map(Metres::m),
    );
    let allowable_depletion = optional(
        "allowable_depletion",
        PERCENT,
        &bounds::ALLOWABLE_DEPLETION,
        before.and_then(|z| z.allowable_depletion).map(Share::fraction),
    );
    let rate = optional(
        "rate",
        u.rate,
        &bounds::PRECIPITATION_RATE,
        before.and_then(|z| z.precipitation_rate).map(MillimetresPerHour::mm_per_hour),
    );
    let uniformity = optional(
        "uniformity",
        PERCENT,
        &bounds::UNIFORMITY,
        before.and_then(|z| z.uniformity).map(Share::fraction),
    );
    let area = optional("area", u.area, &bounds::AREA, before.and_then(|z| z.area).map(SquareMetres::m2));
    let window = reader.optional_hours("window_from", "window_until");
    let planted = planting_form::read(fields, &mut reader, &u, today, before, area);
    // A rate typed anew takes the place of what flow or emitters gave.
    let rate = planted.rate.or(rate.map(MillimetresPerHour::from_mm_per_hour));
    let errors = reader.errors;
    match (plant, sun, sky, soil, head) {
        (Some(plant), Some(sun), Some(sky), Some(soil), Some(head)) if errors.is_empty() => Ok(Zone {
            controller_number,
            number,
            name,
            plant,
            own_coefficient: planted.own,
            planting: planted.planting,
            soil,
            slope_pct,
            sun,
            sky,
            head,
            precipitation_rate: rate,
            uniformity: uniformity.map(Share::from_fraction),
            root_depth: root_depth.map(Metres::from_m),
            allowable_depletion: allowable_depletion.map(Share::from_fraction),
            area: area.map(SquareMetres::from_m2),
            window,
        }),
        _ => Err(errors),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::quantity::time::Hours;

    const TODAY: Date = Date::constant(2026, 7, 14);

    fn zone() -> Zone {
        Zone {
            controller_number: 1,
            number: 3,
            name: "Scree bed".into(),
            plant: PlantKind::VeryLowDemand,
            own_coefficient: None,
            planting: Default::default(),
            soil: Texture::LoamySand,
            slope_pct: Some(14.0),
            sun: Sun::ReflectedHeat,
            sky: Sky::Open,
            head: HeadType::MicroSpray,
            precipitation_rate: Some(MillimetresPerHour::from_mm_per_hour(17.3)),
            uniformity: Some(Share::from_fraction(0.66)),
            root_depth: Some(Metres::from_m(0.2)),
            allowable_depletion: None,
            area: Some(SquareMetres::from_m2(61.25)),
            window: Some(Hours {
                from: jiff::civil::time(4, 30, 0, 0),
                until: jiff::civil::time(6, 0, 0, 0),
            }),
        }
    }

    fn stations(taken: &[u16]) -> Stations {
        Stations { controllers: vec![1], taken: taken.iter().map(|n| StationId::new(1, *n)).collect() }
    }

    #[test]
    fn a_form_sent_back_untouched_changes_nothing_in_either_unit_system() {
        for system in [UnitSystem::Metric, UnitSystem::UsCustomary] {
            let fields = Fields(texts(&zone(), system));
            assert_eq!(read(&fields, system, Some(&zone()), &stations(&[1, 2]), TODAY), Ok(zone()));
        }
    }

    #[test]
    fn sentence_6_a_survey_counts_from_today_unless_another_day_or_always_is_said() {
        let of = |text: &str| since(&Fields([("since".to_owned(), text.to_owned())].into()), TODAY);
        assert_eq!(of(""), Ok(ZoneSince::On(TODAY)));
        assert_eq!(of("Always"), Ok(ZoneSince::Always));
        assert_eq!(of("2026-06-01"), Ok(ZoneSince::On(Date::constant(2026, 6, 1))));
        assert_eq!(of("2026-07-15").unwrap_err()[0].0, "since");
        assert_eq!(of("someday").unwrap_err()[0].0, "since");
    }

    #[test]
    fn errors_stand_at_their_fields_and_what_was_typed_is_kept() {
        let mut typed = texts(&zone(), UnitSystem::Metric);
        typed.insert("number".into(), "1".into());
        typed.insert("uniformity".into(), "166".into());
        typed.insert("soil".into(), "cheese".into());
        let errors =
            read(&Fields(typed.clone()), UnitSystem::Metric, None, &stations(&[1]), TODAY).unwrap_err();
        let names: Vec<_> = errors.iter().map(|(n, _)| *n).collect();
        assert_eq!(names, ["number", "soil", "uniformity"]);
        let form = form(UnitSystem::Metric, &[(1, "Shed".into())], &typed, &errors);
        let uniformity = form.fields().find(|f| f.name == "uniformity").unwrap();
        assert_eq!(uniformity.value, "166");
        assert!(uniformity.error.as_deref().unwrap().contains("between 20 and 100 %"));
    }
}
