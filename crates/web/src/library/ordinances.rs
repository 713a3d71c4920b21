//! The ordinance editor: rules by season, written once, applied to many sites.

use super::ordinance_form::{self, DAY_MODES, HOURS, TextError, WEEK};
use super::{Kept, entry, keep, shelve};
use crate::error::{PageError, page_with, see_other};
use crate::pages::Frame;
use crate::session::{Editor, Fields, SignedIn, flash};
use crate::sites::{attachment, base_version};
use crate::state::{AppState, db};
use crate::upload;
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use upland_core::controller::ordinance::{AllowedDays, Ordinance, Rule};
use upland_core::controller::schedule::{Days, days_in_words};
use upland_formats::{PathProblem, ordinance_file};
use upland_store::library::Entry;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(list)
        .service(new_page)
        .service(create)
        .service(open_file)
        .service(download)
        .service(edit_page)
        .service(save)
        .service(remove)
        .service(restore)
        .service(schema);
}

/// A rule in one sentence.
pub(crate) fn rule_words(rule: &Rule) -> String {
    let mut parts = Vec::new();
    match rule.days {
        AllowedDays::Any => {}
        AllowedDays::Weekdays { odd, even } if odd == even => {
            parts.push(format!("only {}", days_in_words(Days::Weekdays(odd))))
        }
        AllowedDays::Weekdays { odd, even } => parts.push(format!(
            "odd house numbers {}, even {}",
            days_in_words(Days::Weekdays(odd)),
            days_in_words(Days::Weekdays(even))
        )),
        AllowedDays::DatesOfHouseNumber => parts.push("odd houses on odd dates, even on even".into()),
        AllowedDays::OddDates => parts.push("only odd dates".into()),
        AllowedDays::EvenDates => parts.push("only even dates".into()),
    }
    if let Some(most) = rule.most_days_a_week {
        parts.push(format!("at most {most} {} a week", if most == 1 { "day" } else { "days" }));
    }
    for hours in &rule.forbidden_hours {
        parts.push(format!("nothing {} to {}", hours.from.strftime("%H:%M"), hours.until.strftime("%H:%M")));
    }
    let season = rule.season.map_or("All year".to_owned(), |s| {
        let day = |(month, day): (i8, i8)| {
            jiff::civil::Date::new(2000, month, day)
                .map_or(String::new(), |d| d.strftime("%-d %b").to_string())
        };
        format!("{} to {}", day(s.from), day(s.until))
    });
    format!("{season}: {}.", parts.join("; "))
}

struct OrdinanceLine {
    id: i64,
    name: String,
    rules: Vec<String>,
    exempt: String,
    sites: String,
}

#[derive(Template)]
#[template(path = "library/ordinances.html")]
struct ListPage {
    frame: Frame,
    ordinances: Vec<OrdinanceLine>,
    problems: Vec<PathProblem>,
}

pub(crate) fn exempt_words(ordinance: &Ordinance) -> String {
    match (ordinance.exempts_drip, ordinance.exempts_new_planting) {
        (true, true) => "Drip, and new planting with a permit, are exempt.".into(),
        (true, false) => "Drip is exempt.".into(),
        (false, true) => "New planting with a permit is exempt.".into(),
        (false, false) => "Nothing is exempt.".into(),
    }
}

async fn list_page(
    state: &web::Data<AppState>,
    who: &SignedIn,
    status: StatusCode,
    problems: Vec<PathProblem>,
) -> Result<HttpResponse, PageError> {
    let ordinances = db(state, |store| {
        let entries: Vec<Entry<Ordinance>> = store.library()?;
        entries
            .into_iter()
            .map(|entry| {
                let sites = store.sites_of_ordinance(entry.id)?;
                Ok(OrdinanceLine {
                    id: entry.id,
                    rules: entry.item.rules.iter().map(rule_words).collect(),
                    exempt: exempt_words(&entry.item),
                    sites: if sites.is_empty() { "no site yet".into() } else { sites.join(", ") },
                    name: entry.item.name,
                })
            })
            .collect::<upland_store::Result<Vec<_>>>()
    })
    .await?;
    page_with(status, &ListPage { frame: Frame::new(who, "Ordinances")?, ordinances, problems })
}

#[get("/ordinances")]
async fn list(state: web::Data<AppState>, who: SignedIn) -> Result<HttpResponse, PageError> {
    list_page(&state, &who, StatusCode::OK, Vec::new()).await
}

/// A text field of a rule.
struct Cell {
    name: String,
    value: String,
    error: String,
}

struct Tick {
    name: String,
    label: &'static str,
    on: bool,
}

struct RuleBlock {
    title: String,
    from: Cell,
    until: Cell,
    days: Cell,
    modes: Vec<(&'static str, &'static str, bool)>,
    odd: Vec<Tick>,
    even: Vec<Tick>,
    hours: Vec<(Cell, Cell)>,
    most: Cell,
}

#[derive(Template)]
#[template(path = "library/ordinance.html")]
struct EditPage {
    frame: Frame,
    id: Option<i64>,
    version: i32,
    saved: Option<(String, String)>,
    name: Cell,
    exempts_drip: bool,
    exempts_new_planting: bool,
    rules: Vec<RuleBlock>,
    errors: usize,
    both: Vec<String>,
    their_name: String,
}

fn edit(
    who: &SignedIn,
    status: StatusCode,
    entry: Option<&Entry<Ordinance>>,
    texts: &BTreeMap<String, String>,
    errors: &[TextError],
    merged: Option<(Vec<String>, String)>,
) -> Result<HttpResponse, PageError> {
    let text = |name: &str| texts.get(name).cloned().unwrap_or_default();
    let cell = |name: String| Cell {
        value: text(&name),
        error: errors.iter().find(|(n, _)| *n == name).map_or(String::new(), |(_, m)| m.clone()),
        name,
    };
    let block = |i: usize| {
        let at = |field: &str| format!("r{i}-{field}");
        let ticks = |who: &str| {
            let tick = |(k, label): (usize, &'static str)| {
                let name = at(&format!("{who}{k}"));
                Tick { on: text(&name) == "on", name, label }
            };
            WEEK.into_iter().enumerate().map(tick).collect::<Vec<_>>()
        };
        let mode = text(&at("days"));
        RuleBlock {
            title: format!("Rule {}", i + 1),
            from: cell(at("from")),
            until: cell(at("until")),
            days: cell(at("days")),
            modes: DAY_MODES.iter().map(|(code, words)| (*code, *words, *code == mode)).collect(),
            odd: ticks("odd"),
            even: ticks("even"),
            hours: (0..HOURS)
                .map(|k| (cell(at(&format!("h{k}-from"))), cell(at(&format!("h{k}-until")))))
                .collect(),
            most: cell(at("most")),
        }
    };
    let (both, their_name) = merged.unwrap_or_default();
    page_with(
        status,
        &EditPage {
            frame: Frame::new(who, entry.map_or("New ordinance".to_owned(), |e| e.item.name.clone()))?,
            id: entry.map(|e| e.id),
            version: entry.map_or(0, |e| e.version),
            saved: entry.map(|e| (e.saved_by.clone(), e.saved_at.strftime("%-d %b %Y").to_string())),
            name: cell("name".into()),
            exempts_drip: text("exempts_drip") == "on",
            exempts_new_planting: text("exempts_new_planting") == "on",
            rules: (0..ordinance_form::blocks(texts)).map(block).collect(),
            errors: errors.len(),
            both,
            their_name,
        },
    )
}

#[get("/ordinances/new")]
async fn new_page(Editor(who): Editor) -> Result<HttpResponse, PageError> {
    edit(&who, StatusCode::OK, None, &BTreeMap::new(), &[], None)
}

#[post("/ordinances")]
async fn create(
    state: web::Data<AppState>,
    Editor(who): Editor,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    match ordinance_form::read(&fields) {
        Ok(ordinance) => {
            let (user, name) = (who.user.id, ordinance.name.clone());
            let id = db(&state, move |store| store.create_library_entry(&ordinance, user)).await?;
            flash(
                &who.session,
                format!("{name} is written. Apply it to a site under Programs."),
                Some(format!("/ordinances/{id}/remove")),
            )?;
            Ok(see_other("/ordinances"))
        }
        Err(errors) => edit(&who, StatusCode::UNPROCESSABLE_ENTITY, None, &fields.0, &errors, None),
    }
}

#[post("/ordinances/open")]
async fn open_file(
    state: web::Data<AppState>,
    Editor(who): Editor,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    let file = upload::read(&who.session, payload, ordinance_file::MAX_BYTES).await?;
    let read = if file.too_large {
        Err(vec![PathProblem {
            path: String::new(),
            message: "The file is larger than 64 kB; an ordinance has about one.".into(),
        }])
    } else {
        ordinance_file::read(&file.bytes)
    };
    match read {
        Ok(ordinance) => {
            let (user, name) = (who.user.id, ordinance.name.clone());
            let id = db(&state, move |store| store.create_library_entry(&ordinance, user)).await?;
            flash(
                &who.session,
                format!("{name} is taken from {}.", file.file_name),
                Some(format!("/ordinances/{id}/remove")),
            )?;
            Ok(see_other("/ordinances"))
        }
        Err(problems) => list_page(&state, &who, StatusCode::UNPROCESSABLE_ENTITY, problems).await,
    }
}

#[get("/ordinances/{id}/ordinance.json")]
async fn download(
    state: web::Data<AppState>,
    _who: SignedIn,
    id: web::Path<i64>,
) -> Result<HttpResponse, PageError> {
    let entry = entry::<Ordinance>(&state, *id).await?;
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&entry.item.name, "json"))
        .body(ordinance_file::write(&entry.item)))
}

#[get("/ordinances/{id}")]
async fn edit_page(
    state: web::Data<AppState>,
    who: SignedIn,
    id: web::Path<i64>,
) -> Result<HttpResponse, PageError> {
    let entry = entry::<Ordinance>(&state, *id).await?;
    edit(&who, StatusCode::OK, Some(&entry), &ordinance_form::texts(&entry.item), &[], None)
}

#[post("/ordinances/{id}")]
async fn save(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = *id;
    let base = base_version(&fields)?;
    let now = entry::<Ordinance>(&state, id).await?;
    let ordinance = match ordinance_form::read(&fields) {
        Ok(ordinance) => ordinance,
        Err(errors) => {
            let as_sent = Entry { version: base, ..now };
            return edit(&who, StatusCode::UNPROCESSABLE_ENTITY, Some(&as_sent), &fields.0, &errors, None);
        }
    };
    let text = format!("{} is saved; it holds at once on every site that keeps to it.", ordinance.name);
    match keep(&state, &who, id, (ordinance, &fields), ordinance_form::texts).await? {
        Kept::Saved => {
            flash(&who.session, text, None)?;
            Ok(see_other("/ordinances"))
        }
        Kept::Merged(theirs, merged, both) => {
            let by = theirs.saved_by.clone();
            edit(&who, StatusCode::CONFLICT, Some(&theirs), &merged, &[], Some((both, by)))
        }
    }
}

#[post("/ordinances/{id}/remove")]
async fn remove(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let name = entry::<Ordinance>(&state, *id).await?.item.name;
    shelve(
        &state,
        &who,
        ("/ordinances", *id),
        true,
        format!("{name} is off the list. Sites that keep to it still do."),
    )
    .await
}

#[post("/ordinances/{id}/restore")]
async fn restore(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    shelve(&state, &who, ("/ordinances", *id), false, "The ordinance is back.".into()).await
}

#[get("/schemas/ordinance-v1.json")]
async fn schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").body(ordinance_file::schema())
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::time;
    use upland_core::controller::ordinance::Hours;
    use upland_core::controller::schedule::YearSpan;

    #[test]
    fn a_rule_is_one_sentence() {
        let week = |days: [usize; 2]| core::array::from_fn(|i| days.contains(&i));
        let rule = |days, season, most_days_a_week| Rule {
            season,
            days,
            forbidden_hours: vec![Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) }],
            most_days_a_week,
        };
        let summer = Some(YearSpan { from: (5, 1), until: (9, 30) });
        let lines = [
            rule(AllowedDays::Weekdays { odd: week([2, 6]), even: week([1, 5]) }, summer, Some(2)),
            rule(AllowedDays::Weekdays { odd: week([0, 3]), even: week([0, 3]) }, None, Some(1)),
            rule(AllowedDays::DatesOfHouseNumber, None, None),
            rule(AllowedDays::OddDates, None, None),
            rule(AllowedDays::EvenDates, None, None),
            rule(AllowedDays::Any, None, None),
        ]
        .map(|r| rule_words(&r));
        insta::assert_snapshot!(lines.join("\n"), @r"
        1 May to 30 Sep: odd house numbers Wed, Sun, even Tue, Sat; at most 2 days a week; nothing 10:00 to 18:00.
        All year: only Mon, Thu; at most 1 day a week; nothing 10:00 to 18:00.
        All year: odd houses on odd dates, even on even; nothing 10:00 to 18:00.
        All year: only odd dates; nothing 10:00 to 18:00.
        All year: only even dates; nothing 10:00 to 18:00.
        All year: nothing 10:00 to 18:00.
        ");
        let words = |exempts_drip, exempts_new_planting| {
            exempt_words(&Ordinance {
                name: "L".into(),
                rules: Vec::new(),
                exempts_drip,
                exempts_new_planting,
            })
        };
        assert_eq!(words(false, false), "Nothing is exempt.");
        assert!(words(true, true).contains("Drip, and new planting"));
        assert!(words(true, false).starts_with("Drip is") && words(false, true).starts_with("New planting"));
    }
}
