//! A sensor as a form: its card, what is set on it, and what was measured of its place.

use super::{find, frame};
use crate::page::common_practice::common_practice;
use crate::page::forms::{Field, FieldError, FieldGroup, Form, Reader, base_version};
use crate::page::frame::Frame;
use crate::page::quantities::{inch_fraction, plain};
use crate::page::sensor_words::setting_fault;
use crate::page::units::{NO_UNIT, Units};
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::records::SiteController;
use crate::site::snapshot::SiteSnapshot;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::quantity::bounds::{self, Bound};
use upland_core::quantity::units::{Celsius, Metres, MetresPerSecond, Millimetres};
use upland_core::sensors::{Link, Release, Sense, Sensor, SensorCard, Setting, Signal, generic};
use upland_core::site::UnitSystem;
use upland_store::Saved;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(new_page).service(create).service(edit_page).service(save);
}

fn yes_no_unknown(name: &'static str, label: &'static str) -> Field {
    let mut field = Field::yes_no(name, label);
    if let crate::page::forms::FieldKind::Choice(options) = &mut field.kind {
        options.insert(0, (String::new(), "not looked at".into()));
    }
    field
}

/// The form of a card in the units of a site.
// Long: a list of fields.
fn form(card: &SensorCard, owners: &[(u8, String)], zones: &[(u16, String)], system: UnitSystem) -> Form {
    let u = Units::of(system);
    let [rain_help, freeze_help, wind_help] = common_practice(system);
    let mut set = Vec::new();
    if card.senses(Sense::Rain) {
        set.push(
            Field::number("rain_threshold", "Prevents watering after rain of", u.depth.unit).help(rain_help),
        );
        set.push(Field::one_of(
            "release",
            "Ends",
            vec![("dries".into(), "when it has dried out".into()), ("days".into(), "after days".into())],
        ));
        set.push(
            Field::number("vent", "Dries at", "of reference ET")
                .default("0.7")
                .help("A closed vent about 0.4, an open one about 1."),
        );
        set.push(Field::number("hold_days", "Days", "").help(
            "For a sensor that prevents watering for some days; counted from the last rain that tripped it.",
        ));
    }
    if card.senses(Sense::Freeze) {
        set.push(
            Field::number("freeze_at", "Prevents watering at or below", u.temperature.unit).help(freeze_help),
        );
    }
    if card.senses(Sense::Wind) {
        set.push(Field::number("wind_above", "Prevents watering above", u.wind.unit).help(wind_help));
    }
    if card.senses(Sense::SoilMoisture) {
        set.push(
            Field::number("soil_threshold", "Skips watering at or above", "% by volume")
                .help("From a calibration run; later moved in half points only, on its page."),
        );
        set.push(
            Field::duration("cycle_window", "Cycle window")
                .help("Left empty it follows the schedule: the day's whole cycle and an hour."),
        );
    }
    if card.senses(Sense::Et) {
        set.push(Field::number("et_days", "Mean of the last", "days"));
        set.push(Field::number("et_full", "100 % means", u.depth_a_day.unit));
        set.push(Field::number("et_trim", "Trim", "%").help("Signed; it moves every zone."));
    }
    if card.senses(Sense::Flow) {
        set.push(
            Field::number("litres_per_pulse", "One pulse of the meter is", u.volume.unit)
                .default(card.per_pulse.map_or(String::new(), |litres| plain(u.volume.shown(litres), 4)))
                .help("Written on it, or a test's water through the pulses counted."),
        );
        set.push(Field::number("flow_high", "High alarm above learned", "%"));
        set.push(Field::number("flow_low", "Low alarm below learned", "%"));
    }
    let aloft = card.senses(Sense::Rain) || card.senses(Sense::Wind) || card.senses(Sense::Et);
    let mut place = vec![
        Field::number("distance", "Distance to the controller", u.length.unit)
            .help("Along the wire; for a sensor on a decoder, to that decoder."),
    ];
    if card.link == Link::Radio {
        place.push(Field::number("walls", "Walls between", ""));
    }
    if aloft || card.senses(Sense::Freeze) {
        place.push(Field::number("height", "Height above the ground", u.length.unit));
        place.push(yes_no_unknown("in_spray", "A head can wet it"));
    }
    if aloft {
        place.push(Field::number("obstacle_distance", "Nearest higher obstacle: distance", u.length.unit));
        place.push(Field::number("obstacle_above", "and how much higher", u.length.unit));
    }
    if card.senses(Sense::Rain) || card.senses(Sense::Et) {
        place.push(Field::number("sun_hours", "Sun on a clear day", "h"));
        place.push(yes_no_unknown("covered", "Eave, branch or roof above it"));
    }
    if card.senses(Sense::Et) || card.senses(Sense::Freeze) && !card.is_contact() {
        place.push(yes_no_unknown("shielded", "Has a radiation shield"));
    }
    if card.senses(Sense::Rain) && !card.is_contact() {
        place.push(yes_no_unknown("screened", "Has screen and bird spikes"));
    }
    if card.senses(Sense::SoilMoisture) {
        let mut options = vec![(String::new(), "not said".to_owned())];
        options.extend(zones.iter().map(|(n, name)| (n.to_string(), format!("{n} {name}"))));
        place.push(Field::one_of("probe_station", "In zone", options));
        place.push(Field::number("height", "Depth below the ground", u.length.unit));
    }
    if card.senses(Sense::Flow) {
        place.push(Field::number("straight_before", "Straight pipe before it", "diameters"));
        place.push(Field::number("straight_after", "and after it", "diameters"));
    }
    place.push(Field::number("at_x", "On the plan: east", u.length.unit));
    place.push(Field::number("at_y", "and south", u.length.unit));
    let controllers = owners.iter().map(|(n, place)| (n.to_string(), format!("{n} {place}"))).collect();
    Form {
        groups: vec![
            FieldGroup {
                folded: false,
                legend: "Sensor",
                fields: vec![
                    Field::text("name", "Name"),
                    Field::one_of("controller", "Controller", controllers),
                ],
            },
            FieldGroup { folded: false, legend: "What is set on it", fields: set },
            FieldGroup { folded: false, legend: "Where it stands", fields: place },
            FieldGroup {
                folded: false,
                legend: "Type of sensor",
                fields: vec![
                    Field::choice::<Signal>("signal", "Output", Signal::label),
                    Field::choice::<Link>("link", "Joined by", Link::label),
                    Field::number("wire_longest", "Longest wire", u.length.unit),
                    Field::number("radio_open", "Radio in the open", u.length.unit),
                ],
            },
        ],
    }
}

/// A sensor as the texts of its form.
fn texts(sensor: &Sensor, system: UnitSystem) -> BTreeMap<String, String> {
    let u = Units::of(system);
    let (set, place, card) = (&sensor.setting, &sensor.placement, &sensor.card);
    let mut out: BTreeMap<String, String> = BTreeMap::new();
    let mut put = |name: &str, text: String| drop(out.insert(name.to_owned(), text));
    let yes_no = |v: Option<bool>| v.map_or(String::new(), |v| if v { "yes" } else { "no" }.to_owned());
    let number = |v: Option<f64>| v.map_or(String::new(), |v| plain(v, 3));
    put("name", sensor.name.clone());
    put("controller", sensor.controller_number.to_string());
    // As it is sold, where that means this very step.
    let fraction = inch_fraction(set.rain_threshold).filter(|fraction| {
        let means = card.rain_step(Millimetres::from_inches(fraction.inches));
        system == UnitSystem::UsCustomary && (means.mm() - set.rain_threshold.mm()).abs() < 1e-9
    });
    let threshold =
        fraction.map_or_else(|| u.depth.text(Some(set.rain_threshold.mm())), |f| f.words.to_owned());
    put("rain_threshold", threshold);
    match set.release {
        Release::DriesOut { vent } => {
            put("release", "dries".into());
            put("vent", plain(vent, 2));
        }
        Release::Days(days) => {
            put("release", "days".into());
            put("hold_days", days.to_string());
        }
    }
    put("freeze_at", u.temperature.text(Some(set.freeze_at.c())));
    put("wind_above", u.wind.text(Some(set.wind_above.m_per_s())));
    put("soil_threshold", number(set.soil_threshold_pct));
    put("cycle_window", set.cycle_window_min.map_or(String::new(), |m| m.to_string()));
    put("et_days", set.et_days.to_string());
    put("et_full", u.depth_a_day.text(Some(set.et_full.mm())));
    put("et_trim", plain(set.et_trim_pct, 1));
    put("litres_per_pulse", u.volume.text(set.litres_per_pulse));
    put("flow_high", plain(set.flow_high_pct, 0));
    put("flow_low", plain(set.flow_low_pct, 0));
    put("distance", u.length.text(place.distance.map(Metres::m)));
    put("walls", place.walls.map_or(String::new(), |w| w.to_string()));
    put("height", u.length.text(place.height.map(Metres::m)));
    put("in_spray", yes_no(place.in_spray));
    put("obstacle_distance", u.length.text(place.obstacle_distance.map(Metres::m)));
    put("obstacle_above", u.length.text(place.obstacle_above.map(Metres::m)));
    put("sun_hours", number(place.sun_hours));
    put("covered", yes_no(place.covered));
    put("shielded", yes_no(place.shielded));
    put("screened", yes_no(place.screened));
    put("probe_station", place.probe_station.map_or(String::new(), |s| s.to_string()));
    put("straight_before", number(place.straight_before));
    put("straight_after", number(place.straight_after));
    put("at_x", u.length.text(place.at.map(|(x, _)| x)));
    put("at_y", u.length.text(place.at.map(|(_, y)| y)));
    put("signal", card.signal.code().into());
    put("link", card.link.code().into());
    put("wire_longest", u.length.text(Some(card.wire_longest.m())));
    put("radio_open", u.length.text(Some(card.radio_open.m())));
    out
}

/// Names that a form uses for what core's checks name otherwise.
const NAMES: [&str; 14] = [
    "litres_per_pulse",
    "name",
    "rain_threshold",
    "freeze_at",
    "wind_above",
    "soil_threshold",
    "vent",
    "hold_days",
    "et_days",
    "et_full",
    "et_trim",
    "flow_high",
    "flow_low",
    "cycle_window",
];

/// Reads the form over a sensor: what the form does not show stays.
// Long: one field of the form after another.
fn read(
    fields: &Fields,
    before: &Sensor,
    controllers: &[(u8, String)],
    system: UnitSystem,
) -> Result<Sensor, Vec<FieldError>> {
    let u = Units::of(system);
    let mut r = Reader::new(fields);
    let mut sensor = before.clone();
    sensor.name = r.name("name");
    match fields.get("controller").parse::<u8>().ok().filter(|n| controllers.iter().any(|(b, _)| b == n)) {
        Some(number) => sensor.controller_number = number,
        None => r.say("controller", "Choose a controller of this site."),
    }
    if let Some(signal) = r.choice("signal") {
        sensor.card.signal = signal;
    }
    if let Some(link) = r.choice("link") {
        sensor.card.link = link;
    }
    let length = |r: &mut Reader, name, bound: &Bound, before: Option<Metres>| {
        r.optional(name, u.length, bound, before.map(Metres::m)).map(Metres::from_m)
    };
    sensor.card.wire_longest =
        length(&mut r, "wire_longest", &bounds::SITE_METRES, Some(before.card.wire_longest))
            .unwrap_or(Metres::ZERO);
    sensor.card.radio_open = length(&mut r, "radio_open", &bounds::SITE_METRES, Some(before.card.radio_open))
        .unwrap_or(Metres::ZERO);
    let set = &mut sensor.setting;
    let card = &before.card;
    if card.senses(Sense::Rain) {
        let before = Some(set.rain_threshold.mm());
        let typed = r.required("rain_threshold", u.depth, &bounds::READ_RAIN, before);
        set.rain_threshold = card.rain_step(Millimetres::from_mm(typed));
        set.release = if fields.get("release") == "days" {
            Release::Days(u8::try_from(r.count("hold_days", "Days", 14)).unwrap_or(14))
        } else {
            Release::DriesOut {
                vent: r
                    .optional("vent", NO_UNIT, &bounds::VENT, None)
                    .unwrap_or(upland_core::sensors::HALF_OPEN_VENT),
            }
        };
    }
    if card.senses(Sense::Freeze) {
        let before = Some(set.freeze_at.c());
        set.freeze_at = Celsius::from_c(r.required("freeze_at", u.temperature, &bounds::FREEZE_AT, before));
    }
    if card.senses(Sense::Wind) {
        let before = Some(set.wind_above.m_per_s());
        set.wind_above =
            MetresPerSecond::from_m_per_s(r.required("wind_above", u.wind, &bounds::READ_WIND, before));
    }
    if card.senses(Sense::SoilMoisture) {
        let asked = r.optional("soil_threshold", NO_UNIT, &bounds::SOIL_THRESHOLD, set.soil_threshold_pct);
        if set.soil_threshold_pct.is_some() && asked != set.soil_threshold_pct {
            r.say("soil_threshold", "Once set it moves by half a point to one point, with the looks of the turf, on its calibration page; or calibrate anew.");
        } else {
            set.soil_threshold_pct = asked;
        }
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded")]
        let window = r.optional_minutes("cycle_window", &bounds::CYCLE_WINDOW).map(|m| m as u32);
        set.cycle_window_min = window;
    }
    if card.senses(Sense::Et) {
        set.et_days = u8::try_from(r.count("et_days", "Days", 14)).unwrap_or(14);
        set.et_full = Millimetres::from_mm(r.required(
            "et_full",
            u.depth_a_day,
            &bounds::ET_FULL,
            Some(set.et_full.mm()),
        ));
        set.et_trim_pct = r.required("et_trim", NO_UNIT, &bounds::TRIM, None);
    }
    if card.senses(Sense::Flow) {
        let litres = r.optional("litres_per_pulse", u.volume, &bounds::METER_CONSTANT, set.litres_per_pulse);
        set.litres_per_pulse = litres;
        set.flow_high_pct = r.required("flow_high", NO_UNIT, &bounds::FLOW_ALARM, None);
        set.flow_low_pct = r.required("flow_low", NO_UNIT, &bounds::FLOW_ALARM, None);
    }
    let yes_no = |name: &str| match fields.get(name) {
        "yes" => Some(true),
        "no" => Some(false),
        _ => None,
    };
    let old = &before.placement;
    let place = &mut sensor.placement;
    place.distance = length(&mut r, "distance", &bounds::SITE_METRES, old.distance);
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded")]
    let walls = r.optional("walls", NO_UNIT, &bounds::WALLS, None).map(|w| w as u8);
    place.walls = walls;
    place.height = length(&mut r, "height", &bounds::SENSOR_HEIGHT, old.height);
    place.obstacle_distance =
        length(&mut r, "obstacle_distance", &bounds::SITE_METRES, old.obstacle_distance);
    place.obstacle_above = length(&mut r, "obstacle_above", &bounds::SITE_METRES, old.obstacle_above);
    place.sun_hours = r.optional("sun_hours", NO_UNIT, &bounds::SUN_HOURS, old.sun_hours);
    place.straight_before =
        r.optional("straight_before", NO_UNIT, &bounds::STRAIGHT_PIPE, old.straight_before);
    place.straight_after = r.optional("straight_after", NO_UNIT, &bounds::STRAIGHT_PIPE, old.straight_after);
    (place.in_spray, place.covered) = (yes_no("in_spray"), yes_no("covered"));
    (place.shielded, place.screened) = (yes_no("shielded"), yes_no("screened"));
    place.probe_station = fields.get("probe_station").parse().ok();
    let (x, y) = (
        length(&mut r, "at_x", &bounds::SITE_METRES, None),
        length(&mut r, "at_y", &bounds::SITE_METRES, None),
    );
    place.at = x.zip(y).map(|(x, y)| (x.m(), y.m()));
    let mut errors = r.errors;
    for fault in sensor.setting.check(&sensor.card) {
        let name = NAMES.into_iter().find(|n| *n == fault.field).unwrap_or("name");
        if errors.iter().all(|(n, _)| *n != name) {
            errors.push((name, setting_fault(system, &fault)));
        }
    }
    for (field, message) in sensor.card.check() {
        let name = if field == "radio_open" {
            "radio_open"
        } else if field == "name" {
            "name"
        } else {
            "signal"
        };
        errors.push((name, format!("{}.", crate::page::quantities::capital(&message))));
    }
    if errors.is_empty() { Ok(sensor) } else { Err(errors) }
}

#[derive(Template)]
#[template(path = "chapters/sensors/form.html")]
struct FormPage {
    frame: Frame,
    site_id: i64,
    /// Identity and name; `None` for a new one.
    sensor: Option<(i64, String)>,
    card_name: String,
    card_code: String,
    /// Code, name and whether it is chosen.
    cards: Vec<(&'static str, String, bool)>,
    form: Form,
    version: i32,
    conflict: Option<String>,
}

struct Drawing<'a> {
    sensor: &'a Sensor,
    code: &'a str,
    id: Option<i64>,
    version: i32,
    texts: &'a BTreeMap<String, String>,
    errors: &'a [FieldError],
    conflict: Option<String>,
}

/// The form of a card with the controllers and zones of a site.
fn form_at(snapshot: &SiteSnapshot, card: &SensorCard) -> Form {
    form(card, &snapshot.records.controller_names(), &snapshot.records.zone_names(), snapshot.units())
}

fn draw(
    here: &AtSite,
    snapshot: &SiteSnapshot,
    status: StatusCode,
    drawing: &Drawing,
) -> Result<HttpResponse, PageError> {
    let mut form = form_at(snapshot, &drawing.sensor.card);
    if drawing.id.is_some() {
        let since = Field::date("since", "In force since").default("today").help(
            "Nights before it keep the earlier setting. To correct what was always so, give the day of installation.",
        );
        form.groups.extend((form.groups.len() > 1).then(|| FieldGroup {
            folded: false,
            legend: "From when",
            fields: vec![since],
        }));
    }
    page_with(
        status,
        &FormPage {
            frame: frame(here, if drawing.id.is_some() { "sensor" } else { "new sensor" })?,
            site_id: snapshot.records.site.id.number(),
            sensor: drawing.id.map(|id| (id, drawing.sensor.name.clone())),
            card_name: drawing.sensor.card.name.clone(),
            card_code: drawing.code.to_owned(),
            cards: generic().into_iter().map(|(c, card)| (c, card.name, c == drawing.code)).collect(),
            form: form.filled(drawing.texts, drawing.errors),
            version: drawing.version,
            conflict: drawing.conflict.clone(),
        },
    )
}

#[derive(serde::Deserialize)]
struct NewQuery {
    card: Option<String>,
    #[serde(rename = "controller", alias = "box")]
    number: Option<u8>,
}

pub(super) fn generic_card(code: &str) -> Option<(&'static str, SensorCard)> {
    generic().into_iter().find(|(c, _)| *c == code)
}

#[get("/sites/{id}/sensors/new")]
async fn new_page(EditorAt(here): EditorAt, query: web::Query<NewQuery>) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let wanted = query.card.as_deref().unwrap_or("rain_switch");
    let (code, card) = generic_card(wanted).ok_or(PageError::NotFound)?;
    let first = snapshot.records.controllers.first().map(SiteController::number);
    let number = query.number.or(first).unwrap_or(1);
    let mut sensor = Sensor::of_card(card, number);
    // Demand of 100 %: what the peak month asks, unless somebody knows better.
    let peak = snapshot
        .climate
        .monthly_expected_et0(snapshot.today().year())
        .iter()
        .map(|e| e.mm())
        .fold(0.0, f64::max);
    sensor.setting =
        Setting { et_full: Millimetres::from_mm((peak * 10.0).round() / 10.0), ..sensor.setting };
    let texts = texts(&sensor, snapshot.units());
    draw(
        &here,
        &snapshot,
        StatusCode::OK,
        &Drawing { sensor: &sensor, code, id: None, version: 0, texts: &texts, errors: &[], conflict: None },
    )
}

#[post("/sites/{id}/sensors")]
async fn create(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let missing =
        || PageError::BadRequest("The form does not say the type of sensor. Reload the page.".into());
    let (code, card) = generic_card(fields.get("card")).ok_or_else(missing)?;
    let blank = Sensor::of_card(card, 1);
    match read(&fields, &blank, &snapshot.records.controller_names(), snapshot.units()) {
        Ok(sensor) => {
            let (site, on) = (here.id(), here.today());
            let name = sensor.name.clone();
            let made = here.change(move |change| change.create_sensor(on, &sensor)).await?;
            flash(
                &here.who.session,
                format!("{name} is there. Next: wire it."),
                Some(format!("{}/remove", address::sensor(site, made))),
            )?;
            Ok(see_other(&address::sensor(site, made)))
        }
        Err(errors) => draw(
            &here,
            &snapshot,
            StatusCode::UNPROCESSABLE_ENTITY,
            &Drawing {
                sensor: &blank,
                code,
                id: None,
                version: 0,
                texts: &fields.0,
                errors: &errors,
                conflict: None,
            },
        ),
    }
}

#[get("/sites/{id}/sensors/{sensor}/edit")]
async fn edit_page(EditorAt(here): EditorAt, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let record = find(&snapshot, path.1)?;
    let texts = texts(&record.sensor, snapshot.units());
    let drawing = Drawing {
        sensor: &record.sensor,
        code: "",
        id: Some(record.id),
        version: record.version,
        texts: &texts,
        errors: &[],
        conflict: None,
    };
    draw(&here, &snapshot, StatusCode::OK, &drawing)
}

// Long: what is refused, what is kept and what is said of it, in the order of the form.
#[post("/sites/{id}/sensors/{sensor}/edit")]
async fn save(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let snapshot = here.snapshot(None).await?;
    let record = find(&snapshot, id)?;
    let base = base_version(&fields)?;
    let drawing = |errors: &[FieldError], conflict, status| {
        draw(
            &here,
            &snapshot,
            status,
            &Drawing {
                sensor: &record.sensor,
                code: "",
                id: Some(id),
                version: record.version,
                texts: &fields.0,
                errors,
                conflict,
            },
        )
    };
    let sensor = match read(&fields, &record.sensor, &snapshot.records.controller_names(), snapshot.units()) {
        Ok(sensor) => sensor,
        Err(errors) => return drawing(&errors, None, StatusCode::UNPROCESSABLE_ENTITY),
    };
    let mut reader = Reader::new(&fields);
    let since = reader.optional_date("since", here.today()).unwrap_or(here.today());
    if since > here.today() {
        reader.say(
            "since",
            "It lies ahead. Enter the day on which it was set; save it again when it is changed.",
        );
    }
    if !reader.errors.is_empty() {
        return drawing(&reader.errors, None, StatusCode::UNPROCESSABLE_ENTITY);
    }
    let changed =
        move |change: &mut upland_store::Change<'_>| change.save_sensor_since(id, base, &sensor, Some(since));
    match here.change(changed).await? {
        None => Err(PageError::NotFound),
        Some(Saved::Unchanged(version)) => {
            flash(&here.who.session, format!("Nothing changed; version {version} remains in force."), None)?;
            Ok(see_other(&address::sensor(site_id, id)))
        }
        Some(Saved::As(version)) => {
            flash(&here.who.session, format!("Saved as version {version}."), None)?;
            Ok(see_other(&address::sensor(site_id, id)))
        }
        Some(Saved::Conflict(theirs)) => {
            // What you typed stands in the fields; lines that they changed are named.
            let now = texts(&theirs.sensor, snapshot.units());
            let form = form_at(&snapshot, &theirs.sensor.card);
            let changed: Vec<String> = form
                .fields()
                .filter(|f| now.get(f.name).is_some_and(|n| n != fields.get(f.name)))
                .map(|f| format!("{}: {}", f.label, now.get(f.name).cloned().unwrap_or_default()))
                .collect();
            let said = format!(
                "{} saved version {} meanwhile. What you typed is in the fields; theirs differs in {}. Save again to keep yours.",
                theirs.saved_by,
                theirs.version,
                if changed.is_empty() { "nothing on this page".to_owned() } else { changed.join("; ") }
            );
            drawing(&[], Some(said), StatusCode::CONFLICT)
        }
    }
}

#[cfg(test)]
mod tests;
