//! The weather room: sources side by side, what their values are worth, which one counts.

mod choices;
mod forecast;
mod import;
mod normals;
mod series;
mod services;
mod sources;
mod upload;

pub(crate) use import::run as import_accepted;
pub(crate) use services::fetch;

use crate::page::dates::DateFormat;
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::counted;
use crate::page::take_back::TakeBack;
use crate::page::units::Units;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::download::attachment;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::records::SiteRecords;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use choices::{ChoiceLine, choice_lines};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::codes::Coded;
use upland_core::quantity::units::{KM_PER_MILE, Metres};
use upland_core::site::UnitSystem;
use upland_core::weather::record::{
    JudgedDay, Overrule, SourceKind, Standing, Variable, VariableGroup, WHOLE_DAY_HOURS,
};
use upland_formats::{Problem, daily_csv};
use upland_store::Subject;
use upland_store::weather::{Followed, Import, OverruleRecord, SiteWeather};

/// Problems listed on the page; the rest is counted.
const MAX_LISTED: usize = 200;
/// Flagged values listed; the rest is counted.
const MAX_FLAGGED: usize = 40;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(weather_page)
        .service(overrule)
        .service(undo_overrule)
        .service(redo_overrule)
        .service(undo_import)
        .service(redo_import)
        .service(download)
        .configure(upload::routes)
        .configure(import::routes)
        .configure(sources::routes)
        .configure(services::routes)
        .configure(forecast::routes)
        .configure(normals::routes)
        .configure(series::routes);
}

/// A problem as a line of the list.
struct ProblemLine {
    at: String,
    message: String,
}

fn lines(problems: &[Problem]) -> Vec<ProblemLine> {
    problems
        .iter()
        .take(MAX_LISTED)
        .map(|p| ProblemLine {
            at: match (p.line, &p.column) {
                (Some(line), Some(column)) => format!("line {line}, {column}"),
                (Some(line), None) => format!("line {line}"),
                (None, _) => "whole file".to_owned(),
            },
            message: p.message.clone(),
        })
        .collect()
}

struct ImportLine {
    id: i64,
    source: String,
    file_name: String,
    span: String,
    what: String,
    who: String,
    undone: bool,
}

/// So many days count.
fn days_count(days: usize) -> String {
    format!("{} {}", counted(days, "day"), if days == 1 { "counts" } else { "count" })
}

fn import_line(import: Import, weather: &SiteWeather, tz: &TimeZone) -> ImportLine {
    ImportLine {
        id: import.id,
        source: weather
            .sources
            .iter()
            .find(|s| s.id == import.source_id)
            .map_or("removed".into(), |s| s.name.clone()),
        span: format!(
            "{} to {}",
            import.first_date.formatted("%-d %b %Y"),
            import.last_date.formatted("%-d %b %Y")
        ),
        what: format!(
            "{} new, {} changed, {} already known{}",
            import.days_new,
            import.days_changed,
            import.days_same,
            if import.hours > 0 { format!("; {}", counted(import.hours, "hour")) } else { String::new() }
        ),
        who: format!(
            "{}, {}",
            import.imported_by,
            import.imported_at.to_zoned(tz.clone()).formatted("%-d %b %Y %H:%M")
        ),
        undone: import.undone,
        file_name: import.file_name,
    }
}

/// A source as the room shows it.
struct SourceLine {
    id: i64,
    name: String,
    kind: &'static str,
    place: String,
    span: String,
    days: usize,
    missing: usize,
    rejected: usize,
    doubtful: usize,
    counts_for: String,
    has_days: bool,
    /// What it follows by itself, in words.
    follows: String,
    /// A station: it can be asked by itself.
    can_be_asked: bool,
}

/// What a layer that follows the site's sensors holds.
fn followed_words(followed: &Followed) -> String {
    let (first, last) = (followed.first.formatted("%-d %b"), followed.last.formatted("%-d %b %Y"));
    let lack = match followed.last_hours {
        n if n >= WHOLE_DAY_HOURS => String::new(),
        n => format!(
            " The last day has {n} of the {WHOLE_DAY_HOURS} whole hours that a day needs for values of its own."
        ),
    };
    format!(
        "Follows the sensors of the site: {} and {} from {first} to {last}.{lack}",
        counted(followed.days, "day"),
        counted(followed.hours, "hour")
    )
}

fn source_lines(weather: &SiteWeather, followed: &[Followed], records: &SiteRecords) -> Vec<SourceLine> {
    let order = weather.order();
    weather
        .sources
        .iter()
        .enumerate()
        .map(|(index, source)| {
            let days = weather.days.get(index).map_or(&[][..], Vec::as_slice);
            let standing = |rejects: bool| {
                days.iter()
                    .flat_map(|d| Variable::ALL.map(|v| d.standing(v)))
                    .filter(|s| match s {
                        Standing::Rejected(_) | Standing::Discarded => rejects,
                        Standing::Doubtful(_) => !rejects,
                        _ => false,
                    })
                    .count()
            };
            let counts: Vec<&str> = VariableGroup::ALL
                .iter()
                .filter(|g| order.get(**g as usize).and_then(|o| o.first()) == Some(&index))
                .map(|g| g.label())
                .collect();
            let (first, last) = (days.first(), days.last());
            let span = first.zip(last).map(|(a, b)| (a.raw.date, b.raw.date));
            let total = span.map_or(0, |(a, b)| usize::try_from((b - a).get_days()).unwrap_or(0) + 1);
            SourceLine {
                id: source.id,
                name: source.name.clone(),
                kind: source.kind.label(),
                place: match source.place {
                    None => "at the site".to_owned(),
                    Some(place) => {
                        let site = &records.site.site;
                        let rise = place.elevation.m() - site.elevation.m();
                        away(site.units, source.distance_km(site), rise)
                    }
                },
                span: span.map_or("not due".to_owned(), |(a, b)| {
                    format!("{} to {}", a.formatted("%-d %b %Y"), b.formatted("%-d %b %Y"))
                }),
                days: days.len(),
                missing: total.saturating_sub(days.len()),
                rejected: standing(true),
                doubtful: standing(false),
                counts_for: counts.join(", "),
                has_days: source.kind != SourceKind::Normals,
                can_be_asked: source.kind == SourceKind::Station,
                follows: followed
                    .iter()
                    .find(|f| f.source_id == source.id && source.kind == SourceKind::Own)
                    .map_or(String::new(), followed_words),
            }
        })
        .collect()
}

/// How far off a station is, and how much higher.
pub(super) fn away(units: UnitSystem, km: f64, rise_m: f64) -> String {
    match units {
        UnitSystem::Metric => format!("{km:.1} km off, {rise_m:+.0} m"),
        UnitSystem::UsCustomary => {
            format!("{:.1} mi off, {:+.0} ft", km / KM_PER_MILE, Metres::from_m(rise_m).feet())
        }
    }
}

/// A value that a rule or a person stands against.
struct FlaggedLine {
    source_id: i64,
    source: String,
    date: Date,
    day: String,
    variable: &'static str,
    code: &'static str,
    value: String,
    standing: &'static str,
    why: String,
    counts: bool,
    /// The latest overrule, to take back.
    said: Option<i64>,
}

fn flagged(
    weather: &SiteWeather,
    said: &BTreeMap<i64, Vec<OverruleRecord>>,
    units: UnitSystem,
) -> Vec<FlaggedLine> {
    let mut out = Vec::new();
    for (source, days) in weather.sources.iter().zip(&weather.days) {
        for day in days.iter().rev() {
            for variable in Variable::ALL {
                let standing = day.standing(variable);
                if matches!(standing, Standing::Missing | Standing::Good) {
                    continue;
                }
                let of_value = |o: &&OverruleRecord| {
                    !o.undone && o.overrule.date == day.raw.date && o.overrule.variable == variable
                };
                let latest = said.get(&source.id).and_then(|all| all.iter().rfind(of_value));
                out.push(flagged_line(source.id, &source.name, day, variable, standing, latest, units));
            }
        }
    }
    out
}

fn flagged_line(
    source_id: i64,
    source: &str,
    day: &JudgedDay,
    variable: Variable,
    standing: Standing,
    latest: Option<&OverruleRecord>,
    units: UnitSystem,
) -> FlaggedLine {
    let by = |o: &OverruleRecord| format!("{}: {}", o.said_by, o.overrule.reason);
    let (word, why) = match standing {
        Standing::Rejected(rule) => ("does not count", rule.words().to_owned()),
        Standing::Doubtful(rule) => ("doubtful, counts", rule.words().to_owned()),
        Standing::Kept => ("included manually", latest.map_or(String::new(), by)),
        Standing::Discarded => ("excluded manually", latest.map_or(String::new(), by)),
        Standing::Good | Standing::Missing => ("", String::new()),
    };
    FlaggedLine {
        source_id,
        source: source.to_owned(),
        date: day.raw.date,
        day: day.raw.date.formatted("%-d %b %Y"),
        variable: variable.label(),
        code: variable.code(),
        value: day.raw.get(variable).map_or(String::new(), |v| {
            let shown = Units::of(units).of_variable(variable);
            format!("{} {}", crate::page::quantities::plain(shown.shown(v), 1), shown.unit)
        }),
        standing: word,
        why,
        counts: standing.counts(),
        said: latest.map(|o| o.id),
    }
}

/// What the room shows of the site's weather, whoever looks.
struct Room {
    lead: String,
    sources: Vec<SourceLine>,
    chart_sources: Vec<(i64, String)>,
    variables: Vec<(&'static str, String)>,
    choices: Vec<ChoiceLine>,
    choice_id: String,
    choice_words: String,
    flagged: Vec<FlaggedLine>,
    flagged_count: usize,
    imports: Vec<ImportLine>,
}

#[derive(Template)]
#[template(path = "chapters/weather/room.html")]
struct RoomPage {
    frame: Frame,
    /// Widest range of temperature that a day is believed to have.
    widest_range: &'static str,
    site_id: i64,
    /// Largest file that is imported, MB: the page refuses a larger one before it is sent.
    most_mb: usize,
    room: Arc<Room>,
    /// Which source counts, as it is stored or as a refused form had it.
    choices: Vec<ChoiceLine>,
    /// Sources that are asked by themselves, as they stand now.
    standings: Vec<crate::page::service_words::Standing>,
    days: Vec<forecast::ComingDay>,
    file_name: String,
    problems: Vec<ProblemLine>,
    problem_count: usize,
    refused: String,
    reason: String,
}

/// What a refused form brings back to the room.
#[derive(Default)]
struct Refused {
    file: Option<(String, Vec<Problem>)>,
    message: String,
    reason: String,
    /// The sources chosen, by variable.
    picked: Option<Vec<Vec<i64>>>,
}

impl Room {
    fn of(
        records: &SiteRecords,
        weather: &SiteWeather,
        imports: Vec<Import>,
        followed: &[Followed],
        said: &BTreeMap<i64, Vec<OverruleRecord>>,
    ) -> Self {
        let days = weather.combined(&records.site.site).days.len();
        let mut flagged = flagged(weather, said, records.units());
        let flagged_count = flagged.len();
        flagged.truncate(MAX_FLAGGED);
        let measured = || weather.sources.iter().filter(|s| s.kind != SourceKind::Normals);
        let lead = match measured().count() {
            0 => "No weather yet. A daily file with lowest and highest temperature is enough; rain, humidity, sun and wind make it better.".to_owned(),
            1 => format!("{}, from one source. A second one shows what the first is worth.", days_count(days)),
            n => format!("{}, combined from {n} sources, variable by variable.", days_count(days)),
        };
        let choice_words = weather.choice.as_ref().map_or_else(
            || "Nobody has chosen yet: the own sensor counts, the others fill its gaps.".to_owned(),
            |c| {
                let on = c.chosen_at.to_zoned(records.tz.clone()).formatted("%-d %b %Y");
                format!("Chosen by {} on {on}: {}", c.chosen_by, c.reason)
            },
        );
        let units = Units::of(records.units());
        Self {
            lead,
            sources: source_lines(weather, followed, records),
            chart_sources: measured().map(|s| (s.id, s.name.clone())).collect(),
            variables: Variable::ALL
                .iter()
                .map(|v| (v.code(), format!("{}, {}", v.label(), units.of_variable(*v).unit)))
                .collect(),
            choices: choice_lines(weather),
            choice_id: weather.choice.as_ref().map_or(String::new(), |c| c.id.to_string()),
            choice_words,
            flagged,
            flagged_count,
            imports: imports.into_iter().map(|i| import_line(i, weather, &records.tz)).collect(),
        }
    }
}

questions! {
    words WholeRoom {} -> Room;
}

async fn draw(here: &AtSite, status: StatusCode, refused: Refused) -> Result<HttpResponse, PageError> {
    let records = Arc::clone(&here.records);
    let room = here.once(here.about(), WholeRoom {}, 60, move |state| {
        let (id, site) = (records.site.id, &records.site.site);
        let (weather, imports, followed, said) = state.store.read(|snapshot| {
            let weather = snapshot.site_weather(id, site)?;
            Ok((weather, snapshot.imports(id)?, snapshot.followed(id)?, snapshot.overrules(id)?))
        })?;
        Ok(Room::of(&records, &weather, imports, &followed, &said))
    });
    let room = room.await?;
    let (file_name, problems) = refused.file.unwrap_or_default();
    page_with(
        status,
        &RoomPage {
            widest_range: match here.records.units() {
                UnitSystem::Metric => "45 °C",
                UnitSystem::UsCustomary => "81 °F",
            },
            frame: Frame::of_site(
                here,
                format!("{}: weather", here.records.site.site.name),
                Chapter::Weather,
            )?,
            site_id: here.id(),
            most_mb: upload::MOST_MB,
            standings: if room.sources.iter().any(|s| s.can_be_asked) {
                services::standings(here).await?
            } else {
                Vec::new()
            },
            choices: match &refused.picked {
                None => room.choices.clone(),
                Some(picked) => {
                    room.choices.iter().zip(picked).map(|(line, own)| line.with_picked(own)).collect()
                }
            },
            room,
            days: forecast::coming_days(&here.records, here.today()),
            file_name,
            problem_count: problems.len(),
            problems: lines(&problems),
            refused: refused.message,
            reason: refused.reason,
        },
    )
}

#[get("/sites/{id}/weather")]
async fn weather_page(here: AtSite) -> Result<HttpResponse, PageError> {
    draw(&here, StatusCode::OK, Refused::default()).await
}

/// Longest reason kept, characters.
const MAX_REASON: usize = 300;

#[post("/sites/{id}/weather/overrule")]
async fn overrule(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let id = here.id();
    let reason: String = fields.get("reason").trim().chars().take(MAX_REASON).collect();
    let date = fields.date("date", here.today());
    let value = (date.as_ref().ok().copied(), Variable::from_code(fields.get("variable")));
    let sources = here.read(move |snapshot| snapshot.sources(of_site)).await?;
    let source = fields.get("source").parse::<i64>().ok().filter(|s| sources.iter().any(|o| o.id == *s));
    let (Some(source), (Some(date), Some(variable))) = (source, value) else {
        let day = date.err().map_or(String::new(), |refusal| format!(" {refusal}"));
        let message = format!("Say which value is meant: a source, a day and a variable.{day}");
        let refused = Refused { message, reason, ..Refused::default() };
        return draw(&here, StatusCode::UNPROCESSABLE_ENTITY, refused).await;
    };
    if reason.is_empty() {
        let message = format!(
            "Say why {} of {} should be judged otherwise; the reason stays with the value.",
            variable.label(),
            date.formatted("%-d %b %Y")
        );
        let refused = Refused { message, reason, ..Refused::default() };
        return draw(&here, StatusCode::UNPROCESSABLE_ENTITY, refused).await;
    }
    let keep = fields.get("keep") == "yes";
    let said = Overrule { date, variable, keep, reason };
    let overrule_id = here.change(move |change| change.overrule(source, &said)).await?;
    let overrule_id = overrule_id.ok_or(PageError::NotFound)?;
    let text = format!(
        "The {} of {} {}. The original stays as it came.",
        variable.label(),
        date.formatted("%-d %b %Y"),
        if keep { "counts" } else { "does not count" }
    );
    flash(&here.who.session, text, Some(format!("{}/overrules/{overrule_id}/undo", address::weather(id))))?;
    Ok(see_other(&format!("{}#flagged", address::weather(id))))
}

fn said(path: (i64, i64)) -> TakeBack {
    let (site, id) = path;
    TakeBack {
        subject: Subject::Overrule,
        under: site,
        id,
        address: format!("{}/overrules/{id}", address::weather(site)),
        list: format!("{}#flagged", address::weather(site)),
        said: ("The rules judge the value again.", "It is judged manually again."),
    }
}

#[post("/sites/{id}/weather/overrules/{overrule}/undo")]
async fn undo_overrule(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    said(*path).set(&here, true).await
}

#[post("/sites/{id}/weather/overrules/{overrule}/redo")]
async fn redo_overrule(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    said(*path).set(&here, false).await
}

fn import(path: (i64, i64)) -> TakeBack {
    let (site, id) = path;
    TakeBack {
        subject: Subject::Import,
        under: site,
        id,
        address: format!("{}/imports/{id}", address::weather(site)),
        list: address::weather(site),
        said: ("The import is undone; the values from before count again.", "The import counts again."),
    }
}

#[post("/sites/{id}/weather/imports/{import}/undo")]
async fn undo_import(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    import(*path).set(&here, true).await
}

#[post("/sites/{id}/weather/imports/{import}/redo")]
async fn redo_import(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    import(*path).set(&here, false).await
}

#[get("/sites/{id}/weather.csv")]
async fn download(here: AtSite) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let site = here.records.site.clone();
    let name = format!("{} weather", site.site.name);
    let days = here.read(move |snapshot| snapshot.weather(of_site, &site.site)).await?;
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment(&name, "csv"))
        .body(daily_csv::write(&days)))
}

#[cfg(test)]
mod tests;
