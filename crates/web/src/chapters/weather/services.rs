//! A source that is fetched: its page, the columns of its answers, and the asking itself, which a worker does.

use super::forecast::{ComingDay, coming_days};
use super::upload::{Waiting, read_known};
use crate::page::dates::DateFormat;
use crate::page::forms::{Field, FieldError, FieldGroup, Form, Reader, base_version};
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::{counted, span};
use crate::page::service_words::{ASKS, Known, Standing, services_of};
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::fetching::{self, address_fault, shown};
use crate::server::session::{Fields, flash};
use crate::server::state::{AppState, with_store};
use crate::site::context::{AtSite, EditorAt};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::SignedDuration;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use upland_core::quantity::bounds::FETCH_EVERY_MIN;
use upland_core::weather::record::SourceKind;
use upland_formats::Problem;
use upland_store::StoreError;
use upland_store::queue::Task;
use upland_store::sites::time_zone;
use upland_store::weather::{Answer, Heard, Service, ServiceSettings, SourceRecord};

/// Longest address that is kept, characters.
const LONGEST_ADDRESS: usize = 1000;
/// Answers that the page lists.
const LISTED: usize = 12;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(service_page).service(save).service(ask_now).service(columns);
}

/// How the services of a site stand now.
pub(super) async fn standings(here: &AtSite) -> Result<Vec<Standing>, PageError> {
    let of_site = here.site_key();
    let known = here.read(move |snapshot| services_of(snapshot, of_site)).await?;
    let moment = (here.now(), &here.records.tz);
    let standing =
        |(source, service, answers): &Known| Standing::of(source, service, answers, moment.0, moment.1);
    Ok(known.iter().map(standing).collect())
}

fn form(texts: &BTreeMap<String, String>, errors: &[FieldError]) -> Form {
    Form {
        groups: vec![FieldGroup::of(
            "What it is asked, and how often",
            vec![
                Field::text("measured", "Address of what was measured")
                    .help("JSON or CSV, a row an hour or a day, the last days at least. Leave empty when it tells none."),
                Field::text("foretold", "Address of the forecast")
                    .help("JSON or CSV, a row an hour or a day. It moves what is expected and never counts as fallen."),
                Field::duration("every", "Asked every").default("1 h").help("From 10 minutes to a day."),
                Field::yes_no("stopped", "Not asked any more"),
            ],
        )],
    }
    .filled(texts, errors)
}

fn texts(service: Option<&Service>) -> BTreeMap<String, String> {
    let of = |service: &Service| {
        let settings = &service.settings;
        BTreeMap::from([
            ("measured".to_owned(), settings.measured.clone()),
            ("foretold".to_owned(), settings.foretold.clone()),
            ("every".to_owned(), span(f64::from(settings.every_min))),
            ("stopped".to_owned(), if settings.stopped { "yes" } else { "no" }.to_owned()),
        ])
    };
    service.map_or_else(|| BTreeMap::from([("stopped".to_owned(), "no".to_owned())]), of)
}

/// Reads the form.
fn settings_of(reader: &mut Reader<'_>, fields: &Fields) -> ServiceSettings {
    let mut address = |name: &'static str| {
        let text = fields.get(name).trim();
        let fault = match text {
            "" => None,
            long if long.chars().count() > LONGEST_ADDRESS => {
                Some(format!("An address has at most {LONGEST_ADDRESS} characters."))
            }
            text => address_fault(text),
        };
        if let Some(fault) = fault {
            reader.say(name, crate::page::quantities::capital(&fault));
        }
        text.to_owned()
    };
    let (measured, foretold) = (address("measured"), address("foretold"));
    if measured.is_empty() && foretold.is_empty() {
        reader.say("measured", "Give one address at least, or take the source away.");
    }
    let every = reader.optional_minutes("every", &FETCH_EVERY_MIN).unwrap_or(60.0);
    #[allow(clippy::cast_possible_truncation, reason = "within its bounds")]
    let every_min = every.round() as i32;
    ServiceSettings { measured, foretold, every_min, stopped: fields.get("stopped") == "yes" }
}

struct AnswerLine {
    at: String,
    what: &'static str,
    outcome: String,
    wrong: bool,
}

fn answer_line(answer: &Answer, tz: &TimeZone) -> AnswerLine {
    let took = format!("{:.1} s, {:.1} kB", answer.took.as_secs_f64(), f64::from(answer.bytes) / 1000.0);
    AnswerLine {
        at: answer.asked_at.to_zoned(tz.clone()).formatted("%a %-d %b %H:%M"),
        what: if answer.foretold { "forecast" } else { "measured" },
        outcome: match answer.fault.as_str() {
            "" => format!(
                "{}, {} other than before; {took}",
                counted(answer.held, "row"),
                counted(answer.changed, "day")
            ),
            fault => fault.to_owned(),
        },
        wrong: !answer.fault.is_empty(),
    }
}

#[derive(Template)]
#[template(path = "chapters/weather/service.html")]
struct ServicePage {
    frame: Frame,
    site_id: i64,
    source_id: i64,
    name: String,
    base: i32,
    standing: Option<Standing>,
    days: Vec<ComingDay>,
    form: Form,
    answers: Vec<AnswerLine>,
    /// Somebody saved meanwhile.
    theirs: String,
}

/// A source that can be fetched, with how it is.
async fn found(
    here: &AtSite,
    source: i64,
) -> Result<(SourceRecord, Option<Service>, Vec<Answer>), PageError> {
    let of_site = here.site_key();
    let found = here
        .read(move |snapshot| {
            let of_source = snapshot.sources(of_site)?.into_iter().find(|s| s.id == source);
            let service =
                snapshot.service(source)?.filter(|(of, _)| *of == of_site).map(|(_, service)| service);
            Ok((of_source, service, snapshot.answers(source)?))
        })
        .await?;
    let (Some(source), service, answers) = found else { return Err(PageError::NotFound) };
    if source.kind != SourceKind::Station {
        return Err(PageError::NotFound);
    }
    Ok((source, service, answers))
}

async fn draw(
    here: &AtSite,
    source: i64,
    status: StatusCode,
    typed: Option<(&Fields, &[FieldError])>,
    theirs: Option<&Service>,
) -> Result<HttpResponse, PageError> {
    let (source, service, answers) = found(here, source).await?;
    let moment = (here.now(), &here.records.tz);
    let base = service.as_ref().map_or(0, |s| s.version);
    page_with(
        status,
        &ServicePage {
            frame: Frame::of_site(here, format!("{}: asked by itself", source.name), Chapter::Weather)?,
            site_id: here.id(),
            source_id: source.id,
            base,
            standing: service.as_ref().map(|s| Standing::of(&source, s, &answers, moment.0, moment.1)),
            days: coming_days(&here.records, here.today()),
            form: match typed {
                Some((fields, errors)) => form(&fields.0, errors),
                None => form(&texts(service.as_ref()), &[]),
            },
            answers: answers.iter().take(LISTED).map(|a| answer_line(a, moment.1)).collect(),
            theirs: theirs.map_or(String::new(), |theirs| {
                format!(
                    "{} saved meanwhile: measured from {}, forecast from {}, asked every {}. Yours is below and is not stored; \
                     save again to put it in place of theirs.",
                    theirs.saved_by,
                    said_address(&theirs.settings.measured),
                    said_address(&theirs.settings.foretold),
                    span(f64::from(theirs.settings.every_min)),
                )
            }),
            name: source.name,
        },
    )
}

fn said_address(address: &str) -> String {
    if address.is_empty() { "nowhere".to_owned() } else { shown(address) }
}

#[get("/sites/{id}/weather/sources/{source}/service")]
async fn service_page(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, PageError> {
    draw(&here, path.1, StatusCode::OK, None, None).await
}

#[post("/sites/{id}/weather/sources/{source}/service")]
async fn save(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, source_id) = *path;
    let (source, _, _) = found(&here, source_id).await?;
    let base = base_version(&fields)?;
    let mut reader = Reader::new(&fields);
    let settings = settings_of(&mut reader, &fields);
    if !reader.errors.is_empty() {
        let typed = Some((&fields, reader.errors.as_slice()));
        return draw(&here, source_id, StatusCode::UNPROCESSABLE_ENTITY, typed, None).await;
    }
    let stopped = settings.stopped;
    let name = source.name.clone();
    let saved = here.change(move |change| change.save_service(source_id, &name, base, &settings)).await?;
    if let Some(theirs) = saved {
        return draw(&here, source_id, StatusCode::CONFLICT, Some((&fields, &[])), Some(&theirs)).await;
    }
    let said = match stopped {
        true => format!("{} is not asked any more; what it told stays.", source.name),
        false => format!("Saved. {} is asked now; look again in a few seconds.", source.name),
    };
    flash(&here.who.session, said, None)?;
    Ok(see_other(&address::service(site_id, source_id)))
}

#[post("/sites/{id}/weather/sources/{source}/service/ask")]
async fn ask_now(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, source_id) = *path;
    let (source, service, _) = found(&here, source_id).await?;
    if service.is_none_or(|service| service.settings.stopped) {
        return Err(PageError::BadRequest("Say first where it is asked, and that it is.".into()));
    }
    with_store(&here.state, move |store| store.ask(Task::Fetch, source_id, SignedDuration::ZERO)).await?;
    flash(&here.who.session, format!("{} is asked; look again in a few seconds.", source.name), None)?;
    Ok(see_other(&address::service(site_id, source_id)))
}

/// Opens the last answer where the columns of a file are said.
#[post("/sites/{id}/weather/sources/{source}/service/columns")]
async fn columns(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let (site_id, source_id) = *path;
    let (source, _, _) = found(&here, source_id).await?;
    let foretold = fields.get("foretold") == "yes";
    let body = here.read(move |snapshot| snapshot.answer_body(source_id, foretold)).await?;
    let Some(body) = body else {
        return Err(PageError::BadRequest("It has not answered yet; ask it first.".into()));
    };
    let (user, name) = (here.who.user.id, format!("answer of {}", source.name));
    let draft = with_store(&here.state, move |store| {
        store.create_draft(of_site, source_id, user, &name, &body, true)
    })
    .await?;
    Ok(see_other(&address::draft(site_id, draft)))
}

/// What was wrong with an answer, in a line.
fn problems_in_short(problems: &[Problem]) -> String {
    let first = problems.first().map_or(String::new(), Problem::to_string);
    match problems.len() {
        0 | 1 => first,
        n => format!("{first}; and {} more", n - 1),
    }
}

/// Asks a service and takes in what it answers; what it did, in words. A fault of the service is noted at its source,
/// where the owner looks, and it is asked again in its own time.
pub(crate) fn fetch(state: &AppState, source_id: i64) -> Result<Option<String>, StoreError> {
    let store = &state.store;
    let Some((site_id, service)) = store.read(|snapshot| snapshot.service(source_id))? else {
        return Ok(None);
    };
    let found = store.read(|snapshot| Ok((snapshot.site(site_id)?, snapshot.sources(site_id)?)))?;
    let (Some(site), sources) = found else { return Ok(None) };
    let Some(source) = sources.iter().find(|s| s.id == source_id) else { return Ok(None) };
    if service.settings.stopped {
        return Ok(None);
    }
    let (station, tz) = (source.station(&site.site), time_zone(&site.site.time_zone)?);
    let mut said = Vec::new();
    for (foretold, address) in [(false, &service.settings.measured), (true, &service.settings.foretold)] {
        if address.is_empty() {
            continue;
        }
        let fetched = fetching::fetch(address, state.reach);
        let (body, took) =
            fetched.as_ref().map_or((&[][..], std::time::Duration::ZERO), |f| (f.body.as_slice(), f.took));
        let read = match &fetched {
            Err(fault) => Err(fault.clone()),
            Ok(fetched) => match read_known(store, &station, &tz, &fetched.body)? {
                Waiting::Read(file) => Ok(file),
                Waiting::Asks(_) => Err(ASKS.to_owned()),
                Waiting::Stations(_) => {
                    Err("it has several stations; ask the service for one of them".to_owned())
                }
                Waiting::Refused(problems, _) => Err(problems_in_short(&problems)),
            },
        };
        let content = match &read {
            Ok(file) => Ok((file.days.as_slice(), file.hours.as_slice())),
            Err(fault) => Err(fault.as_str()),
        };
        let changed = store.take_answer(source_id, Heard { foretold, took, body, content })?;
        let what = if foretold { "forecast" } else { "measured" };
        said.push(match &read {
            Ok(_) => format!("{what}, {} other than before", counted(changed, "day")),
            Err(fault) => format!("{what}: {fault}"),
        });
    }
    Ok(Some(format!("{}: {}", source.name, said.join("; "))))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(pairs: &[(&str, &str)]) -> (ServiceSettings, Vec<FieldError>) {
        let fields =
            Fields(pairs.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect());
        let mut reader = Reader::new(&fields);
        let settings = settings_of(&mut reader, &fields);
        (settings, reader.errors)
    }

    #[test]
    fn a_form_comes_back_as_it_was_filled() {
        for (measured, foretold, every_min, stopped) in [
            ("https://fell.example/hours.csv?key=a&b=2", "", 10, false),
            ("", "http://192.0.2.7:8080/week.json", 60, true),
            ("https://fell.example/h", "https://fell.example/f", 1440, false),
            ("https://fell.example/h", "https://fell.example/f", 95, false),
        ] {
            let settings =
                ServiceSettings { measured: measured.into(), foretold: foretold.into(), every_min, stopped };
            let service =
                Service { source_id: 2, settings: settings.clone(), version: 3, saved_by: "Bram".into() };
            let typed = texts(Some(&service));
            let pairs: Vec<_> = typed.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
            assert_eq!(read(&pairs), (settings, vec![]), "{typed:?}");
        }
        let fresh = texts(None);
        assert_eq!(fresh.get("stopped").map(String::as_str), Some("no"), "a new one is asked");
    }

    #[test]
    fn what_cannot_be_asked_is_told_at_its_field() {
        let there = ("measured", "https://fell.example/h");
        let told = |pairs: &[(&str, &str)]| {
            let (_, errors) = read(pairs);
            assert_eq!(errors.len(), 1, "{pairs:?}: {errors:?}");
            errors.into_iter().next().unwrap()
        };
        assert_eq!(told(&[]).0, "measured", "one address at least");
        assert_eq!(told(&[("measured", "   ")]).0, "measured");
        for address in [
            "fell.example/h",
            "ftp://fell.example/h",
            "https://",
            "file:///etc/passwd",
            "javascript:alert(1)",
        ] {
            let (field, words) = told(&[("measured", address)]);
            assert!(field == "measured" && words.contains("begins with https://"), "{address}: {words}");
        }
        let long = format!("https://fell.example/{}", "x".repeat(LONGEST_ADDRESS));
        assert!(told(&[("foretold", &long)]).1.contains("1000 characters"));
        assert!(told(&[("foretold", "https://me:pw@fell.example/")]).1.contains("name and password"));
        for (every, known) in
            [("9 min", false), ("10 min", true), ("24 h", true), ("1441 min", false), ("0", false)]
        {
            let (settings, errors) = read(&[there, ("every", every)]);
            assert_eq!(errors.is_empty(), known, "{every}: {errors:?}");
            assert!(!known || (10..=1440).contains(&settings.every_min));
        }
        assert_eq!(read(&[there]).0.every_min, 60, "every hour, where nothing is said");
    }

    #[test]
    fn an_answer_and_its_faults_are_told_in_a_line() {
        let answer = |held, fault: &str| Answer {
            foretold: false,
            asked_at: "2026-07-14T04:05:00Z".parse().unwrap(),
            took: SignedDuration::from_millis(1240),
            bytes: 12_300,
            held,
            changed: 1,
            until: None,
            by_day: false,
            fault: fault.into(),
        };
        let line = answer_line(&answer(1, ""), &TimeZone::UTC);
        assert_eq!((line.at.as_str(), line.what, line.wrong), ("Tue 14 Jul 04:05", "measured", false));
        assert_eq!(line.outcome, "1 row, 1 day other than before; 1.2 s, 12.3 kB");
        let bad = answer_line(&answer(0, "it did not answer"), &TimeZone::UTC);
        assert_eq!((bad.outcome.as_str(), bad.wrong), ("it did not answer", true));
        let problem = |line| Problem { line: Some(line), column: None, message: "a day twice".into() };
        assert_eq!(problems_in_short(&[]), "");
        assert_eq!(problems_in_short(&[problem(3)]), problem(3).to_string());
        assert_eq!(
            problems_in_short(&[problem(3), problem(4), problem(9)]),
            format!("{}; and 2 more", problem(3))
        );
        assert_eq!(said_address(""), "nowhere");
        assert_eq!(said_address("https://fell.example/h?key=secret"), "https://fell.example/h?…");
    }
}
