//! Readings that are typed, and devices that may post: their tokens, rotated and revoked.

use super::detail::{Left, draw};
use super::sensor_of;
use crate::page::forms::out_of_bounds;
use crate::page::quantities::counted;
use crate::page::units::{Shown, Units};
use crate::server::address;
use crate::server::error::{PageError, see_other};
use crate::server::request_locale::habit;
use crate::server::session::{Fields, flash, random_hex};
use crate::site::context::{AtSite, EditorAt};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, post, web};
use jiff::Timestamp;
use jiff::civil::{Date, DateTime};
use upland_core::codes::Coded;
use upland_core::quantity::time::instant;
use upland_core::sensors::{Channel, Reading};
use upland_formats::typed;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(typed_readings).service(feeds).service(make_device).service(rotate).service(revoke);
}

/// Says whether what a sensor reads counts as weather of the site.
#[post("/sites/{id}/sensors/{sensor}/weather")]
async fn feeds(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let feeds = fields.get("feeds") == "yes";
    if !here.change(move |change| change.set_sensor_feeds(id, feeds)).await? {
        return Err(PageError::NotFound);
    }
    let said = if feeds {
        "What it reads counts as weather; its days are worked out now."
    } else {
        "It is left out of the weather; its days are worked out now."
    };
    flash(&here.who.session, said, None)?;
    Ok(see_other(&format!("{}#readings", address::sensor(site_id, id))))
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
        Some(channel) => {
            read_lines(channel, shown_at(&here, channel), fields.get("lines"), &here.records.tz, here.now())
        }
        None => Err(vec!["Choose what was read.".to_owned()]),
    };
    match parsed {
        Ok(readings) => {
            let count = readings.len();
            let new = here.change(move |change| change.add_readings(id, &readings)).await?;
            let new = new.ok_or(PageError::NotFound)?;
            flash(
                &here.who.session,
                format!("{} new, {} there already.", counted(new, "reading"), count - new),
                None,
            )?;
            Ok(see_other(&address::sensor(site_id, id)))
        }
        Err(errors) => {
            draw(
                &here,
                site_id,
                id,
                StatusCode::UNPROCESSABLE_ENTITY,
                Left { errors, typed: fields, new_token: None },
            )
            .await
        }
    }
}

/// The unit in which a channel is typed at a site.
fn shown_at(here: &AtSite, channel: Channel) -> Shown {
    Units::of(here.records.units()).of_channel(channel)
}

/// Most lines of typed readings.
const MOST_LINES: usize = 5_000;

/// A line's time, by the clock of the site, and its value in the unit of its field or with its own.
fn read_line(line: &str, shown: Shown, today: Date) -> Result<(DateTime, f64), String> {
    let ends: Vec<usize> = line.match_indices([' ', '\t', ';', ',']).map(|(at, _)| at).collect();
    let mut refused = String::new();
    // The value is the last word, or the last two where a unit stands behind it.
    for at in ends.into_iter().rev().take(3) {
        let (when, value) = line.split_at(at);
        let (when, value) =
            (when.trim_end_matches([' ', '\t', ';', ',']), value.trim_matches([' ', '\t', ';', ',']));
        let when = match when.parse::<DateTime>() {
            Ok(when) => Ok(when),
            Err(_) => typed::date_and_time(when, today, habit()),
        };
        match (when, shown.read(value)) {
            (Ok(when), Ok(value)) => return Ok((when, value)),
            (Err(refusal), Ok(_)) | (Ok(_), Err(refusal)) if refused.is_empty() => {
                refused = refusal.to_string();
            }
            _ => {}
        }
    }
    if refused.is_empty() {
        refused = format!("\"{line}\" is not a time and a value; write 14 Jul 18:00 31.5.");
    }
    Err(refused)
}

/// Readings, a line each: "14 Jul 18:00 31.5", "2026-07-14T18:00Z;31.5", "today 6 pm 36 F".
pub(super) fn read_lines(
    channel: Channel,
    shown: Shown,
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
    let today = now.to_zoned(tz.clone()).date();
    for (i, line) in lines.iter().take(MOST_LINES).enumerate() {
        // A stamp with its own offset counts by itself.
        let stamped = line.split_once([' ', ';', ',', '\t']).and_then(|(when, value)| {
            let at = when.parse::<Timestamp>().ok()?;
            Some((at, shown.read(value.trim_matches([' ', ';', ',', '\t'])).ok()?))
        });
        let parsed = match stamped {
            Some((at, value)) => Ok(Reading { at, value }),
            None => read_line(line, shown, today)
                .map(|(when, value)| Reading { at: instant(when.date(), when.time(), tz), value }),
        };
        match parsed {
            Err(refused) => errors.push(format!("Line {}: {refused}", i + 1)),
            Ok(r) if r.at > now => errors.push(format!("Line {}: it lies in the future.", i + 1)),
            Ok(r) => match channel.bound().check(r.value) {
                Ok(_) => out.push((channel, r)),
                Err(_) => errors.push(format!("Line {}: {}", i + 1, out_of_bounds(shown, channel.bound()))),
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
        return draw(&here, site_id, id, StatusCode::UNPROCESSABLE_ENTITY, left).await;
    }
    let token = random_hex();
    let hash = crate::server::session::hash(&token);
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
    let hash = crate::server::session::hash(&token);
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
    use crate::page::units::SIGNED_PERCENT;
    use upland_core::site::UnitSystem;

    #[test]
    fn typed_readings_are_read_by_the_clock_of_the_site_and_refused_by_line() {
        let tz = jiff::tz::TimeZone::get("Etc/GMT-2").unwrap();
        let now: Timestamp = "2026-07-14T20:00:00Z".parse().unwrap();
        let read = |text: &str| read_lines(Channel::SoilMoisture, SIGNED_PERCENT, text, &tz, now);
        let good = read("2026-07-14 18:00 31.5\n2026-07-14T19:00;30\n2026-07-14T17:30:00Z\t29.5\n").unwrap();
        assert_eq!(good[0].1.at.to_string(), "2026-07-14T16:00:00Z");
        assert_eq!(good[2].1, Reading { at: "2026-07-14T17:30:00Z".parse().unwrap(), value: 29.5 });
        let bad = read("2026-07-14 18:00 130\nwhenever 30\n2026-07-15 18:00 30").unwrap_err();
        assert!(
            bad[0].contains("between 0 and 100") && bad[1].contains("Line 2") && bad[2].contains("future"),
            "{bad:?}"
        );
        assert!(read("").is_err());
        // A temperature on a site in Fahrenheit, with and without its unit, and said as people say it.
        let us = Units::of(UnitSystem::UsCustomary).of_channel(Channel::Temperature);
        let good =
            read_lines(Channel::Temperature, us, "today 18:00 36\n14 Jul 6:30 pm 3 C", &tz, now).unwrap();
        assert!((good[0].1.value - 20.0 / 9.0).abs() < 1e-9 && (good[1].1.value - 3.0).abs() < 1e-9);
        let bad = read_lines(Channel::Temperature, us, "today 18:00 400", &tz, now).unwrap_err();
        assert!(bad[0].contains("°F"), "{bad:?}");
    }
}
