//! The weather record: bring a file, look at it, take it in, undo it.

use crate::error::{PageError, page, page_with, see_other};
use crate::pages::{Chapter, Frame};
use crate::session::{Editor, Fields, SignedIn, flash};
use crate::sites::{Loaded, attachment, load};
use crate::state::{AppState, db, db_with_climates};
use crate::upload;
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::Timestamp;
use upland_core::climate::Climate;
use upland_core::weather::DayWeather;
use upland_formats::{Column, Problem, daily_csv};
use upland_store::sites::SiteRecord;
use upland_store::weather::{Comparison, Draft, DraftState, Import};

/// Largest accepted weather file: a century of days has about 5 MB.
const MAX_BYTES: usize = 16 * 1024 * 1024;
/// Problems listed on the page; the rest is counted.
const MAX_LISTED: usize = 200;
/// Rows shown at each end of a preview.
const PREVIEW_ROWS: usize = 4;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(record_page)
        .service(bring)
        .service(preview)
        .service(take_in)
        .service(progress_page)
        .service(progress_json)
        .service(drop_draft)
        .service(undo_import)
        .service(redo_import)
        .service(download);
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
    file_name: String,
    span: String,
    what: String,
    who: String,
    undone: bool,
}

fn import_line(import: Import) -> ImportLine {
    ImportLine {
        id: import.id,
        span: format!("{} to {}", import.first_date, import.last_date),
        what: format!(
            "{} new, {} changed, {} already known",
            import.days_new, import.days_changed, import.days_same
        ),
        who: format!("{}, {}", import.imported_by, import.imported_at.strftime("%-d %b %Y %H:%M UTC")),
        undone: import.undone,
        file_name: import.file_name,
    }
}

/// The record in a few words.
struct Summary {
    days: usize,
    span: String,
    missing: String,
    methods: String,
}

fn summary(climate: &Climate) -> Option<Summary> {
    let (first, last) = climate.span()?;
    let total = usize::try_from((last - first).get_days()).unwrap_or(0) + 1;
    let missing = total.saturating_sub(climate.len());
    let full = climate.range(first, last).filter(|(_, day)| day.et.fills.is_empty() && day.weather.has_more_than_temperatures()).count();
    Some(Summary {
        days: climate.len(),
        span: format!("{first} to {last}"),
        missing: if missing == 0 { "none missing".into() } else { format!("{missing} missing") },
        methods: format!(
            "{full} days by Penman-Monteith from measurements alone, {} with filled inputs or by Hargreaves-Samani",
            climate.len() - full
        ),
    })
}

#[derive(Template)]
#[template(path = "weather/record.html")]
struct RecordPage {
    frame: Frame,
    site_id: i64,
    summary: Option<Summary>,
    imports: Vec<ImportLine>,
    file_name: String,
    problems: Vec<ProblemLine>,
    problem_count: usize,
}

async fn record(
    state: &web::Data<AppState>,
    who: &SignedIn,
    status: StatusCode,
    loaded: Loaded,
    refused: Option<(String, Vec<Problem>)>,
) -> Result<HttpResponse, PageError> {
    let site = &loaded.site;
    let record = site.clone();
    let (imports, climate) =
        db_with_climates(state, move |state, store| Ok((store.imports(record.id)?, state.climate(&record)?)))
            .await?;
    let (file_name, problems) = refused.unwrap_or_default();
    page_with(
        status,
        &RecordPage {
            frame: Frame::of_site(who, format!("{}: weather", site.site.name), &loaded, Chapter::Weather)?,
            site_id: site.id,
            summary: summary(&climate),
            imports: imports.into_iter().map(import_line).collect(),
            file_name,
            problem_count: problems.len(),
            problems: lines(&problems),
        },
    )
}

#[get("/sites/{id}/weather")]
async fn record_page(state: web::Data<AppState>, who: SignedIn, id: web::Path<i64>) -> Result<HttpResponse, PageError> {
    let loaded = load(&state, *id).await?;
    record(&state, &who, StatusCode::OK, loaded, None).await
}

/// Reads a file and keeps it as a draft when it is whole; the record is not touched.
#[post("/sites/{id}/weather")]
async fn bring(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    let loaded = load(&state, *id).await?;
    let file = upload::read(&who.session, payload, MAX_BYTES).await?;
    let station = loaded.site.site.station();
    let (bytes, read) = if file.too_large {
        let message = format!(
            "the file is larger than {} MB; a daily record of a hundred years has about 5 MB. Send days, not minutes, or split it",
            MAX_BYTES / 1024 / 1024
        );
        (file.bytes, Err(vec![Problem { line: None, column: None, message }]))
    } else {
        web::block(move || {
            let read = daily_csv::read(&file.bytes, &station);
            (file.bytes, read)
        })
        .await?
    };
    match read {
        Ok(read) => {
            let (site, user, name) = (*id, who.user.id, file.file_name);
            let draft = db(&state, move |store| {
                store.create_draft(site, user, &name, &bytes, read.days.len(), Timestamp::now())
            })
            .await?;
            Ok(see_other(&format!("/sites/{id}/weather/drafts/{draft}")))
        }
        Err(problems) => {
            record(&state, &who, StatusCode::UNPROCESSABLE_ENTITY, loaded, Some((file.file_name, problems))).await
        }
    }
}

struct PreviewRow {
    cells: Vec<String>,
    gap_after: bool,
}

#[derive(Template)]
#[template(path = "weather/preview.html")]
struct PreviewPage {
    frame: Frame,
    site_id: i64,
    draft: Draft,
    days: usize,
    span: String,
    counts: Comparison,
    columns: Vec<Column>,
    heads: Vec<&'static str>,
    rows: Vec<PreviewRow>,
    notes: Vec<ProblemLine>,
}

/// First and last rows as they will be stored.
fn preview_rows(days: &[DayWeather]) -> Vec<PreviewRow> {
    let cell = |value: Option<f64>| value.map_or("–".to_owned(), |v| crate::quantities::plain(v, 1));
    let row = |day: &DayWeather, gap_after| PreviewRow {
        cells: vec![
            day.date.to_string(),
            cell(Some(day.temperature_min.c())),
            cell(Some(day.temperature_max.c())),
            cell(day.humidity_min_pct),
            cell(day.humidity_max_pct),
            cell(day.dew_point.map(|t| t.c())),
            cell(day.solar.map(|s| s.mj_per_m2())),
            cell(day.wind.map(|w| w.m_per_s())),
            cell(day.rain.map(|r| r.mm())),
        ],
        gap_after,
    };
    if days.len() <= 2 * PREVIEW_ROWS {
        return days.iter().map(|d| row(d, false)).collect();
    }
    let first = days.iter().take(PREVIEW_ROWS).enumerate().map(|(i, d)| row(d, i + 1 == PREVIEW_ROWS));
    let last = days.iter().skip(days.len() - PREVIEW_ROWS).map(|d| row(d, false));
    first.chain(last).collect()
}

/// The draft with its days, when it still waits.
async fn waiting_draft(
    state: &web::Data<AppState>,
    site: &SiteRecord,
    draft_id: i64,
) -> Result<Option<(Draft, daily_csv::DailyFile)>, PageError> {
    let (site_id, station) = (site.id, site.site.station());
    let found = db(state, move |store| {
        let Some(draft) = store.draft(site_id, draft_id)? else { return Ok(None) };
        Ok(Some((draft, store.draft_content(site_id, draft_id)?.unwrap_or_default())))
    })
    .await?;
    let Some((draft, content)) = found else { return Err(PageError::NotFound) };
    if draft.state != DraftState::Preview {
        return Ok(None);
    }
    let read = web::block(move || daily_csv::read(&content, &station)).await?;
    match read {
        Ok(file) => Ok(Some((draft, file))),
        // The place was changed since the upload, and the radiation no longer fits its latitude.
        Err(problems) => Err(PageError::BadRequest(format!(
            "The site changed since this file was sent, and it no longer passes: {}. Send it again.",
            problems.first().map(ToString::to_string).unwrap_or_default()
        ))),
    }
}

#[get("/sites/{id}/weather/drafts/{draft}")]
async fn preview(
    state: web::Data<AppState>,
    Editor(who): Editor,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    let loaded = load(&state, site_id).await?;
    let site = &loaded.site;
    let Some((draft, file)) = waiting_draft(&state, site, draft_id).await? else {
        return Ok(see_other(&format!("/sites/{site_id}/weather/drafts/{draft_id}/progress")));
    };
    let days = file.days.clone();
    let counts = db(&state, move |store| store.compare_weather(site_id, &days)).await?;
    let span = match (file.days.first(), file.days.last()) {
        (Some(a), Some(b)) => format!("{} to {}", a.date, b.date),
        _ => String::new(),
    };
    page(&PreviewPage {
        frame: Frame::of_site(&who, "Look at the file", &loaded, Chapter::Weather)?,
        site_id,
        draft,
        days: file.days.len(),
        span,
        counts,
        columns: file.columns,
        heads: vec!["day", "min °C", "max °C", "RH min %", "RH max %", "dew °C", "solar MJ/m²", "wind m/s", "rain mm"],
        rows: preview_rows(&file.days),
        notes: lines(&file.notes),
    })
}

/// Starts taking a draft in, and shows its progress.
#[post("/sites/{id}/weather/drafts/{draft}")]
async fn take_in(
    state: web::Data<AppState>,
    Editor(who): Editor,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    let site = load(&state, site_id).await?.site;
    let waiting = waiting_draft(&state, &site, draft_id).await?;
    let progress = format!("/sites/{site_id}/weather/drafts/{draft_id}/progress");
    let Some((draft, file)) = waiting else { return Ok(see_other(&progress)) };
    if db(&state, move |store| store.start_draft(draft_id)).await? {
        tracing::info!(site = site_id, user = who.user.id, days = file.days.len(), "import starts");
        let state = state.clone();
        actix_web::rt::spawn(async move {
            let done = db(&state, move |store| store.run_draft(&draft, &file.days)).await;
            if let Err(error) = done {
                tracing::error!(%error, site = site_id, "import failed");
            }
        });
    }
    Ok(see_other(&progress))
}

#[derive(Template)]
#[template(path = "weather/progress.html")]
struct ProgressPage {
    frame: Frame,
    site_id: i64,
    draft: Draft,
    running: bool,
    failed: bool,
}

#[get("/sites/{id}/weather/drafts/{draft}/progress")]
async fn progress_page(
    state: web::Data<AppState>,
    Editor(who): Editor,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    let loaded = load(&state, site_id).await?;
    let draft = db(&state, move |store| store.draft(site_id, draft_id)).await?.ok_or(PageError::NotFound)?;
    page(&ProgressPage {
        frame: Frame::of_site(&who, "Taking the file in", &loaded, Chapter::Weather)?,
        site_id,
        running: draft.state == DraftState::Running,
        failed: draft.state == DraftState::Failed,
        draft,
    })
}

#[get("/sites/{id}/weather/drafts/{draft}/progress.json")]
async fn progress_json(
    state: web::Data<AppState>,
    Editor(_who): Editor,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    let draft = db(&state, move |store| store.draft(site_id, draft_id)).await?.ok_or(PageError::NotFound)?;
    Ok(HttpResponse::Ok().insert_header(("cache-control", "no-store")).json(serde_json::json!({
        "done": draft.days_done,
        "total": draft.days_total,
        "running": matches!(draft.state, DraftState::Running | DraftState::Preview),
    })))
}

#[post("/sites/{id}/weather/drafts/{draft}/drop")]
async fn drop_draft(
    state: web::Data<AppState>,
    Editor(who): Editor,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    db(&state, move |store| store.drop_draft(site_id, draft_id)).await?;
    flash(&who.session, "The file was not taken in; the record is as it was.", None)?;
    Ok(see_other(&format!("/sites/{site_id}/weather")))
}

async fn set_undone(
    state: &web::Data<AppState>,
    who: &SignedIn,
    (site_id, import_id): (i64, i64),
    undone: bool,
) -> Result<HttpResponse, PageError> {
    let at = undone.then(Timestamp::now);
    if !db(state, move |store| store.set_import_undone(site_id, import_id, at)).await? {
        return Err(PageError::NotFound);
    }
    let (text, back) = if undone {
        ("The import is undone; the values from before count again.", "redo")
    } else {
        ("The import counts again.", "undo")
    };
    flash(&who.session, text, Some(format!("/sites/{site_id}/weather/imports/{import_id}/{back}")))?;
    Ok(see_other(&format!("/sites/{site_id}/weather")))
}

#[post("/sites/{id}/weather/imports/{import}/undo")]
async fn undo_import(
    state: web::Data<AppState>,
    Editor(who): Editor,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    set_undone(&state, &who, *path, true).await
}

#[post("/sites/{id}/weather/imports/{import}/redo")]
async fn redo_import(
    state: web::Data<AppState>,
    Editor(who): Editor,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    set_undone(&state, &who, *path, false).await
}

#[get("/sites/{id}/weather.csv")]
async fn download(state: web::Data<AppState>, _who: SignedIn, id: web::Path<i64>) -> Result<HttpResponse, PageError> {
    let site = load(&state, *id).await?.site;
    let days = db(&state, move |store| store.weather(*id)).await?;
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment(&format!("{} weather", site.site.name), "csv"))
        .body(daily_csv::write(&days)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use upland_core::units::Celsius;

    #[test]
    fn a_long_file_is_previewed_at_both_ends() {
        let days: Vec<_> = (1..=31)
            .map(|d| DayWeather::from_temperatures(date(2026, 7, d), Celsius::from_c(8.0), Celsius::from_c(20.0)))
            .collect();
        let rows = preview_rows(&days);
        assert_eq!(rows.len(), 2 * PREVIEW_ROWS);
        assert_eq!((rows[0].cells[0].as_str(), rows[7].cells[0].as_str()), ("2026-07-01", "2026-07-31"));
        assert!(rows[3].gap_after);
        assert_eq!(rows[0].cells[8], "–", "what was not measured is not zero");
    }

    #[test]
    fn problems_say_where() {
        let problem = Problem { line: Some(3), column: Some("rain_mm".into()), message: "is bad".into() };
        assert_eq!(lines(&[problem])[0].at, "line 3, rain_mm");
    }
}
