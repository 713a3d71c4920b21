//! Readings that are typed, and devices that may post: their tokens, rotated and revoked.

use super::detail::{Left, draw};
use super::sensor_of;
use crate::server::address;
use crate::server::error::{PageError, see_other};
use crate::server::session::{Fields, flash, random_hex};
use crate::site::context::EditorAt;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, post, web};
use jiff::Timestamp;
use upland_core::codes::Coded;
use upland_core::quantity::time::instant;
use upland_core::sensors::{Channel, Reading};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(typed_readings).service(make_device).service(rotate).service(revoke);
}

/// Readings typed or pasted: a line each, time and value.
#[post("/sites/{id}/sensors/{sensor}/readings")]
async fn typed_readings(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    sensor_of(&here, id)?;
    let parsed = match Channel::from_code(fields.get("channel")) {
        Some(channel) => read_lines(channel, fields.get("lines"), &here.facts.tz, here.now()),
        None => Err(vec!["Choose what was read.".to_owned()]),
    };
    match parsed {
        Ok(readings) => {
            let count = readings.len();
            let new = here.change(move |change| change.add_readings(id, &readings)).await?;
            let new = new.ok_or(PageError::NotFound)?;
            flash(
                &here.who.session,
                format!("{new} readings are new, {} were there already.", count - new),
                None,
            )?;
            Ok(see_other(&address::sensor(site_id, id)))
        }
        Err(errors) => {
            draw(
                &here,
                (site_id, id),
                StatusCode::UNPROCESSABLE_ENTITY,
                Left { errors, typed: fields, new_token: None },
            )
            .await
        }
    }
}

/// Most lines of typed readings.
const MOST_LINES: usize = 5_000;

/// "2026-07-14 18:00 31.5" or "2026-07-14T18:00;31.5", by the clock of the site.
pub(super) fn read_lines(
    channel: Channel,
    text: &str,
    tz: &jiff::tz::TimeZone,
    now: Timestamp,
) -> Result<Vec<(Channel, Reading)>, Vec<String>> {
    let (mut out, mut errors) = (Vec::new(), Vec::new());
    let lines: Vec<&str> = text.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
    if lines.is_empty() {
        errors.push("Type a time and a value, a line each.".to_owned());
    }
    if lines.len() > MOST_LINES {
        errors.push(format!("At most {MOST_LINES} lines at once."));
    }
    for (i, line) in lines.iter().take(MOST_LINES).enumerate() {
        let cut = line.rfind([' ', '\t', ';', ',']).map(|at| line.split_at(at));
        let parsed = cut.and_then(|(when, value)| {
            let value: f64 = value.trim_matches([' ', '\t', ';', ',']).parse().ok()?;
            let when = when.trim().replace(' ', "T");
            let at = when.parse::<Timestamp>().ok().or_else(|| {
                let civil: jiff::civil::DateTime = when.parse().ok()?;
                Some(instant(civil.date(), civil.time(), tz))
            })?;
            Some(Reading { at, value })
        });
        match parsed {
            None => errors
                .push(format!("Line {}: \"{line}\" is not a time (YYYY-MM-DD HH:MM) and a value.", i + 1)),
            Some(r) if r.at > now => errors.push(format!("Line {}: it lies in the future.", i + 1)),
            Some(r) => match channel.bound().check(r.value) {
                Ok(_) => out.push((channel, r)),
                Err(error) => errors.push(format!("Line {}: {} is refused. {error}.", i + 1, r.value)),
            },
        }
        if errors.len() >= 10 {
            break;
        }
    }
    if errors.is_empty() { Ok(out) } else { Err(errors) }
}

/// A device that may post for this sensor; its token is shown once.
#[post("/sites/{id}/sensors/{sensor}/devices")]
async fn make_device(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    sensor_of(&here, id)?;
    let name = fields.get("name").to_owned();
    if name.is_empty() || name.chars().count() > 80 {
        let left = Left {
            errors: vec!["Give the device a name of at most 80 letters.".into()],
            typed: fields,
            new_token: None,
        };
        return draw(&here, (site_id, id), StatusCode::UNPROCESSABLE_ENTITY, left).await;
    }
    let token = random_hex();
    let hash = super::api::hash(&token);
    let made = here.change(move |change| change.create_device(id, &name, &hash)).await?;
    made.ok_or(PageError::NotFound)?;
    here.who.session.insert("device_token", token)?;
    Ok(see_other(&format!("{}#devices", address::sensor(site_id, id))))
}

#[post("/sites/{id}/sensors/{sensor}/devices/{device}/rotate")]
async fn rotate(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id, device) = *path;
    sensor_of(&here, id)?;
    let token = random_hex();
    let hash = super::api::hash(&token);
    if !here.change(move |change| change.rotate_device(id, device, &hash)).await? {
        let text = "A revoked device gets no new token. Make a new device for it.";
        flash(&here.who.session, text, None)?;
        return Ok(see_other(&format!("{}#devices", address::sensor(site_id, id))));
    }
    here.who.session.insert("device_token", token)?;
    flash(
        &here.who.session,
        "The device has a new token. The old one is good until the new one was used.",
        None,
    )?;
    Ok(see_other(&format!("{}#devices", address::sensor(site_id, id))))
}

#[post("/sites/{id}/sensors/{sensor}/devices/{device}/revoke")]
async fn revoke(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id, device) = *path;
    sensor_of(&here, id)?;
    let now = here.now();
    if !here.change(move |change| change.revoke_device(id, device, now)).await? {
        return Err(PageError::NotFound);
    }
    flash(
        &here.who.session,
        "Its tokens open nothing any more. Make a new device when it is to post again.",
        None,
    )?;
    Ok(see_other(&format!("{}#devices", address::sensor(site_id, id))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn typed_readings_are_read_by_the_clock_of_the_site_and_refused_by_line() {
        let tz = jiff::tz::TimeZone::get("Etc/GMT-2").unwrap();
        let now: Timestamp = "2026-07-14T20:00:00Z".parse().unwrap();
        let read = |text: &str| read_lines(Channel::SoilMoisture, text, &tz, now);
        let good = read("2026-07-14 18:00 31.5\n2026-07-14T19:00;30\n2026-07-14T17:30:00Z\t29.5\n").unwrap();
        assert_eq!(good[0].1.at.to_string(), "2026-07-14T16:00:00Z");
        assert_eq!(good[2].1, Reading { at: "2026-07-14T17:30:00Z".parse().unwrap(), value: 29.5 });
        let bad = read("2026-07-14 18:00 130\nyesterday 30\n2026-07-15 18:00 30").unwrap_err();
        assert!(
            bad[0].contains("between 0 and 100") && bad[1].contains("Line 2") && bad[2].contains("future"),
            "{bad:?}"
        );
        assert!(read("").is_err());
    }
}
