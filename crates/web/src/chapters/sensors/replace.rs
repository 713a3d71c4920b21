//! A sensor unit that is swapped: place, assignment, thresholds and readings stay with the sensor, what was wired and tested
//! of the old unit counts no more.

use super::form::generic_card;
use super::{find, frame};
use crate::page::forms::{Field, FieldError, FieldGroup, Form, Reader, base_version};
use crate::page::frame::Frame;
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::{Date, time};
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::quantity::time::instant;
use upland_core::sensors::{Sensor, Setting, Task, generic};
use upland_store::Saved;
use upland_store::sensors::{NewSensorEvent, SensorEventKind, SensorRecord};
use upland_store::ticks::What;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(replace_page).service(replace);
}

/// Longest text of what is printed on the unit, or of what was wrong, characters.
const LONGEST: usize = 200;
/// The choice of a unit of the type that is there.
const SAME: &str = "same";

#[derive(Template)]
#[template(path = "chapters/sensors/replace.html")]
struct ReplacePage {
    frame: Frame,
    site_id: i64,
    id: i64,
    name: String,
    version: i32,
    form: Form,
    errors: Vec<String>,
}

fn form(record: &SensorRecord, texts: &BTreeMap<String, String>, errors: &[FieldError]) -> Form {
    let same = (SAME.to_owned(), format!("the same type: {}", record.sensor.card.name));
    let others = generic().into_iter().map(|(code, card)| (code.to_owned(), card.name));
    let kinds = [same].into_iter().chain(others).collect();
    let mut fields = vec![
        Field::one_of("card", "Type of the new unit", kinds),
        Field::text("printed", "Type and serial number as printed on it"),
        Field::text("reason", "What was wrong with the old one"),
        Field::date("on", "Replaced on"),
    ];
    if record.sensor.card.upkeep.iter().any(|(task, _)| *task == Task::Battery) {
        fields.push(Field::yes_no("battery", "New battery in it"));
    }
    Form { groups: vec![FieldGroup::of("The new unit", fields)] }.filled(texts, errors)
}

fn draw(
    here: &AtSite,
    record: &SensorRecord,
    status: StatusCode,
    texts: &BTreeMap<String, String>,
    errors: &[FieldError],
    told: Vec<String>,
) -> Result<HttpResponse, PageError> {
    page_with(
        status,
        &ReplacePage {
            frame: frame(here, "replace a unit")?,
            site_id: here.id(),
            id: record.id,
            name: record.sensor.name.clone(),
            version: record.version,
            form: form(record, texts, errors),
            errors: told,
        },
    )
}

#[get("/sites/{id}/sensors/{sensor}/replace")]
async fn replace_page(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let usual = [("card", SAME.to_owned()), ("on", crate::page::dates::typed_date(here.today()))];
    let texts = usual.map(|(name, text)| (name.to_owned(), text)).into();
    draw(&here, find(&snapshot, path.1)?, StatusCode::OK, &texts, &[], Vec::new())
}

/// What a form says of the new unit.
#[derive(Debug)]
struct NewUnit {
    sensor: Sensor,
    on: Date,
    /// What is written into the logbook.
    note: String,
    battery: bool,
    /// Whether a threshold of the old unit does not fit the new one and stands at its default.
    is_reset: bool,
}

fn read(fields: &Fields, old: &Sensor, today: Date) -> Result<NewUnit, Vec<FieldError>> {
    let mut reader = Reader::new(fields);
    let code = fields.get("card");
    let card = if code == SAME { Some(old.card.clone()) } else { generic_card(code).map(|(_, card)| card) };
    if card.is_none() {
        reader.say("card", "Choose one from the list.");
    }
    for name in ["printed", "reason"] {
        if fields.get(name).chars().count() > LONGEST {
            reader.say(name, format!("At most {LONGEST} letters."));
        }
    }
    let on = reader.optional_date("on", today).unwrap_or(today);
    if on > today {
        reader.say("on", "It lies ahead. Enter it when the unit is replaced.");
    }
    let Some(card) = card.filter(|_| reader.errors.is_empty()) else { return Err(reader.errors) };
    let fits = old.setting.check(&card).is_empty();
    let setting = if fits { old.setting } else { Setting::default() };
    let said =
        |what: &str, text: &str| if text.is_empty() { String::new() } else { format!("; {what}{text}") };
    let note = format!(
        "{}: unit replaced by {}{}{}",
        old.name,
        card.name,
        said("", fields.get("printed")),
        said("what was wrong: ", fields.get("reason"))
    );
    let sensor = Sensor { card, setting, ..old.clone() };
    Ok(NewUnit { sensor, on, note, battery: fields.get("battery") == "yes", is_reset: !fits })
}

#[post("/sites/{id}/sensors/{sensor}/replace")]
async fn replace(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = path.1;
    let snapshot = here.snapshot(None).await?;
    let record = find(&snapshot, id)?;
    let base = base_version(&fields)?;
    let refused = |errors: &[FieldError], told: Vec<String>, status| {
        draw(&here, record, status, &fields.0, errors, told)
    };
    let new = match read(&fields, &record.sensor, here.today()) {
        Ok(new) => new,
        Err(errors) => return refused(&errors, Vec::new(), StatusCode::UNPROCESSABLE_ENTITY),
    };
    let (is_reset, controller) = (new.is_reset, new.sensor.controller_number);
    let at = instant(new.on, time(12, 0, 0, 0), &here.records.tz);
    let saved = here
        .change(move |change| {
            let saved = change.save_sensor_since(id, base, &new.sensor, Some(new.on))?;
            if matches!(saved, None | Some(Saved::Conflict(_))) {
                return Ok(saved);
            }
            change.note(&new.note, None, None)?;
            if new.battery {
                let body = serde_json::json!({ "task": Task::Battery.code() });
                let kind = SensorEventKind::Task;
                let event = NewSensorEvent { kind, from: at, until: None, body, reason: "with the new unit" };
                change.add_sensor_event(id, &event)?;
            }
            // The new unit is neither wired, tested nor calibrated yet.
            for what in [What::Wired, What::Tested, What::Calibrated] {
                change.tick(what, id, 0, None, &format!("{} {}", new.sensor.name, what.label()))?;
            }
            Ok(saved)
        })
        .await?;
    match saved {
        None => Err(PageError::NotFound),
        Some(Saved::Conflict(theirs)) => {
            let told = format!(
                "{} saved version {} of this sensor meanwhile. Look at it, then replace the unit again.",
                theirs.saved_by, theirs.version
            );
            refused(&[], vec![told], StatusCode::CONFLICT)
        }
        Some(Saved::As(_) | Saved::Unchanged(_)) => {
            let reset = if is_reset {
                " Its threshold did not fit the new type and is at the default: set it again."
            } else {
                ""
            };
            let text = format!("The unit is replaced.{reset} Next: wire it and test it, step by step.");
            flash(&here.who.session, text, None)?;
            Ok(see_other(&format!("{}/wiring?controller={controller}", address::sensors(here.id()))))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    const TODAY: Date = date(2026, 7, 14);

    fn typed(pairs: &[(&str, &str)]) -> Fields {
        let all = [("card", SAME)].iter().chain(pairs).map(|(n, v)| ((*n).to_owned(), (*v).to_owned()));
        Fields(all.collect())
    }

    fn old(code: &str) -> Sensor {
        let card = generic_card(code).unwrap().1;
        Sensor { name: "Gate".into(), ..Sensor::of_card(card, 2) }
    }

    #[test]
    fn place_assignment_and_threshold_stay_with_the_sensor() {
        let before = old("rain_switch");
        let new = read(&typed(&[("printed", "No 12"), ("reason", "cap broken")]), &before, TODAY).unwrap();
        assert_eq!(new.sensor, before);
        assert!(!new.is_reset && new.on == TODAY);
        assert_eq!(
            new.note,
            format!("Gate: unit replaced by {}; No 12; what was wrong: cap broken", before.card.name)
        );
        let other =
            read(&typed(&[("card", "rain_switch_radio"), ("battery", "yes")]), &before, TODAY).unwrap();
        assert_eq!((other.sensor.name.as_str(), other.sensor.controller_number), ("Gate", 2));
        assert_eq!((&other.sensor.placement, &other.sensor.map), (&before.placement, &before.map));
        assert!(other.battery && other.sensor.card != before.card);
    }

    #[test]
    fn what_cannot_be_is_told_at_its_field() {
        let fields = |pairs: &[(&str, &str)]| {
            let errors = read(&typed(pairs), &old("rain_switch"), TODAY).unwrap_err();
            errors.into_iter().map(|(field, _)| field).collect::<Vec<_>>()
        };
        assert_eq!(fields(&[("card", "kettle")]), ["card"]);
        assert_eq!(fields(&[("on", "2026-07-15")]), ["on"]);
        assert_eq!(fields(&[("reason", &"x".repeat(LONGEST + 1))]), ["reason"]);
    }
}
