//! Whether one wants a mail a day, where to and when.

use crate::page::dates::{DateFormat, typed_time};
use crate::page::forms::{Field, FieldError, FieldGroup, Form, Reader};
use crate::page::frame::Frame;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::mailer::address_fault;
use crate::server::session::{Fields, SignedIn, flash};
use crate::server::state::{AppState, read, with_store};
use crate::server::time_zones;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Time;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use upland_store::mails::{LastMail, MailChoice};

/// Longest address that is kept, characters.
const LONGEST: usize = 254;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(mail_page).service(save);
}

#[derive(Template)]
#[template(path = "chapters/accounts/mail.html")]
struct MailPage {
    frame: Frame,
    form: Form,
    time_zones: Vec<String>,
    /// How the last mail fared.
    last: Option<String>,
    /// This installation sends mails.
    sends: bool,
}

fn form(texts: &BTreeMap<String, String>, errors: &[FieldError]) -> Form {
    let fields = vec![
        Field::text("to", "Address").help("Left empty no mail is sent."),
        Field::time("at", "Sent from").help("By the wall clock of the time zone."),
        Field::text("time_zone", "Time zone").help("Type to search; an IANA name."),
    ];
    Form { groups: vec![FieldGroup { folded: false, legend: "Where to, and when", fields }] }
        .filled(texts, errors)
}

fn texts(choice: &MailChoice) -> BTreeMap<String, String> {
    let at = Time::new(
        i8::try_from(choice.at_min / 60).unwrap_or(6),
        i8::try_from(choice.at_min % 60).unwrap_or(0),
        0,
        0,
    );
    [
        ("to", choice.to.clone()),
        ("at", typed_time(at.unwrap_or_default())),
        ("time_zone", choice.zone.clone()),
    ]
    .into_iter()
    .map(|(name, text)| (name.to_owned(), text))
    .collect()
}

fn last_words(last: &LastMail, zone: &str) -> String {
    let tz = TimeZone::get(zone).unwrap_or(TimeZone::UTC);
    let at = last.at.to_zoned(tz).formatted("%a %-d %b, %H:%M");
    match (last.fault.as_str(), last.notices) {
        ("", 0) => format!("Looked for news at {at}: none, and no mail."),
        ("", 1) => format!("The last one was sent at {at}, with one new notice."),
        ("", n) => format!("The last one was sent at {at}, with {n} new notices."),
        (fault, _) => format!("The last one, at {at}, could not be sent: {fault}. It is tried again."),
    }
}

async fn draw(
    state: &web::Data<AppState>,
    who: &SignedIn,
    typed: Option<(&Fields, &[FieldError])>,
) -> Result<HttpResponse, PageError> {
    let (id, scope) = (who.user.id, who.scope.clone());
    let (choice, last) = read(state, move |snapshot| {
        let (mut choice, last) = snapshot.mail_choice(id)?;
        // Nothing was chosen yet: the wall clock of the sites is the likeliest.
        if choice.to.is_empty() && choice.zone == "UTC" {
            choice.zone = snapshot.usual_time_zone(&scope)?.unwrap_or(choice.zone);
        }
        Ok((choice, last))
    })
    .await?;
    let (status, form) = match typed {
        Some((fields, errors)) => (StatusCode::UNPROCESSABLE_ENTITY, form(&fields.0, errors)),
        None => (StatusCode::OK, form(&texts(&choice), &[])),
    };
    page_with(
        status,
        &MailPage {
            frame: Frame::new(who, "One mail a day")?,
            form,
            time_zones: time_zones::names(),
            last: last.map(|last| last_words(&last, &choice.zone)),
            sends: state.mailer.is_some(),
        },
    )
}

#[get("/me/mail")]
async fn mail_page(state: web::Data<AppState>, who: SignedIn) -> Result<HttpResponse, PageError> {
    draw(&state, &who, None).await
}

/// Reads what was chosen.
fn chosen(fields: &Fields) -> Result<MailChoice, Vec<FieldError>> {
    let mut reader = Reader::new(fields);
    let to = fields.get("to").trim().to_owned();
    if to.chars().count() > LONGEST {
        reader.say("to", format!("An address has at most {LONGEST} characters."));
    } else if let Some(fault) = (!to.is_empty()).then(|| address_fault(&to)).flatten() {
        reader.say("to", fault);
    }
    let at = reader.time("at");
    let zone = fields.get("time_zone").to_owned();
    if TimeZone::get(&zone).is_err() {
        reader.say("time_zone", time_zones::UNKNOWN);
    }
    let at_min = i32::from(at.hour()) * 60 + i32::from(at.minute());
    if reader.errors.is_empty() { Ok(MailChoice { to, at_min, zone }) } else { Err(reader.errors) }
}

#[post("/me/mail")]
async fn save(state: web::Data<AppState>, who: SignedIn, fields: Fields) -> Result<HttpResponse, PageError> {
    let choice = match chosen(&fields) {
        Ok(choice) => choice,
        Err(errors) => return draw(&state, &who, Some((&fields, &errors))).await,
    };
    let words = match choice.to.as_str() {
        "" => "No mail is sent to you.".to_owned(),
        to => format!("A mail goes to {to} on every day that brings something new."),
    };
    let id = who.user.id;
    with_store(&state, move |store| store.choose_mail(id, &choice)).await?;
    flash(&who.session, words, None)?;
    Ok(see_other("/me/mail"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(to: &str, at: &str, zone: &str) -> Result<MailChoice, Vec<&'static str>> {
        let typed = [("to", to), ("at", at), ("time_zone", zone)];
        let fields = Fields(typed.into_iter().map(|(k, v)| (k.to_owned(), v.to_owned())).collect());
        chosen(&fields).map_err(|errors| errors.into_iter().map(|(name, _)| name).collect())
    }

    #[test]
    fn a_choice_survives_its_form_and_each_fault_stands_at_its_field() {
        let choice = read(" bram@example.net ", "6:30 am", "Etc/GMT+2").unwrap();
        assert_eq!((choice.to.as_str(), choice.at_min), ("bram@example.net", 390));
        assert_eq!(chosen(&Fields(texts(&choice))), Ok(choice));
        assert!(read("", "00:00", "UTC").unwrap().to.is_empty());
        assert_eq!(read("bram", "25:00", "Larkrigg"), Err(vec!["to", "at", "time_zone"]));
        assert_eq!(read(&format!("{}@example.net", "a".repeat(300)), "06:00", "UTC"), Err(vec!["to"]));
    }

    #[test]
    fn the_last_mail_says_how_it_fared() {
        let last = |notices, fault: &str| {
            last_words(&LastMail { at: Timestamp::UNIX_EPOCH, notices, fault: fault.into() }, "Etc/GMT-1")
        };
        assert_eq!(last(2, ""), "The last one was sent at Thu 1 Jan, 01:00, with 2 new notices.");
        assert!(last(0, "").contains("no mail") && last(0, "refused").contains("tried again"));
    }
    use jiff::Timestamp;
}
