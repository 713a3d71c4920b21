//! Bringing a file: upload, say how a strange one is read, look at it, take it in, stop it.

use super::{ProblemLine, Refused, draw, lines};
use crate::page::dates::DateFormat;
use crate::page::frame::{Chapter, Frame};
use crate::page::units::Units;
use crate::server::address;
use crate::server::error::{PageError, page, page_with, see_other};
use crate::server::request_locale::off_loop;
use crate::server::session::{Fields, flash};
use crate::server::state::with_store;
use crate::server::upload;
use crate::site::context::{AtSite, EditorAt};
use crate::site::records::SiteRecords;
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::SignedDuration;
use jiff::tz::TimeZone;
use std::sync::Arc;
use upland_core::weather::Station;
use upland_core::weather::record::{RawDay, SourceKind, Variable};
use upland_formats::weather_file::{
    self, Clock, DateOrder, MappedColumn, Mapping, Opened, Proposal, Stamp, WeatherFile, quantities, units_of,
};
use upland_formats::{Column, Problem};
use upland_store::queue::Task;
use upland_store::sites::{SiteRecord, time_zone};
use upland_store::weather::{Comparison, Draft, DraftState};
use upland_store::{Store, StoreError};

/// Largest accepted weather file: thirty years of hours have about 20 MB.
pub(super) const MOST_MB: usize = 24;
const MAX_BYTES: usize = MOST_MB * 1024 * 1024;
/// Rows shown at each end of a preview.
const PREVIEW_ROWS: usize = 4;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(bring).service(preview).service(confirm_mapping);
}

/// Keeps a file as a draft; the record is not touched.
#[post("/sites/{id}/weather/sources/{source}/files")]
async fn bring(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let (site_id, source_id) = *path;
    let records = Arc::clone(&here.records);
    let mut file = upload::read(&here.who.session, payload, MAX_BYTES).await?;
    let bytes = Arc::new(std::mem::take(&mut file.bytes));
    let user = here.who.user.id;
    // 0 stands for the site's own sensor, which the first file makes.
    let source = match source_id {
        0 => here.change(|change| change.own_source()).await?,
        id => {
            let sources = here.read(move |snapshot| snapshot.sources(of_site)).await?;
            let found = sources.into_iter().find(|s| s.id == id && s.kind != SourceKind::Normals);
            found.ok_or(PageError::NotFound)?.id
        }
    };
    let station = station_of(&here, &records, source).await?;
    let tz = records.tz.clone();
    let opened = if file.too_large {
        let message = format!(
            "the file is larger than {MOST_MB} MB; thirty years of hours have about 20 MB. Send hours, not minutes, or split it"
        );
        Err(vec![Problem { line: None, column: None, message }])
    } else {
        let bytes = Arc::clone(&bytes);
        off_loop(move || match weather_file::stations_of(&bytes).len() {
            // Of a file of several stations the one that is meant is asked on the next page.
            2.. => Ok(()),
            _ => weather_file::open(&bytes, &station, &tz, None).map(|_| ()),
        })
        .await?
    };
    if let Err(problems) = opened {
        let refused = Refused { file: Some((file.file_name, problems)), ..Refused::default() };
        // The first file made a source, whatever it holds.
        return draw(&here.again().await?, StatusCode::UNPROCESSABLE_ENTITY, refused).await;
    }
    let draft = with_store(&here.state, move |store| {
        store.create_draft(of_site, source, user, &file.file_name, &bytes, false)
    })
    .await?;
    Ok(see_other(&address::draft(site_id, draft)))
}

async fn station_of(here: &AtSite, records: &SiteRecords, source: i64) -> Result<Station, PageError> {
    let (id, site) = (records.site.id, records.site.site.clone());
    let sources = here.read(move |snapshot| snapshot.sources(id)).await?;
    Ok(sources.iter().find(|s| s.id == source).map_or(site.station(), |s| s.station(&site)))
}

/// What a waiting draft comes to.
pub(super) enum Waiting {
    /// It can be read.
    Read(Box<WeatherFile>),
    /// Its columns are asked.
    Asks(Box<Proposal>),
    /// It holds several stations.
    Stations(Vec<String>),
    /// It cannot be read as was said.
    Refused(Vec<Problem>, Option<Box<Proposal>>),
}

/// The draft, when it still waits, and what it comes to.
pub(super) async fn waiting(
    here: &AtSite,
    records: &SiteRecords,
    draft_id: i64,
) -> Result<Option<(Draft, Waiting)>, PageError> {
    let site_id = records.site.id;
    let found = here
        .read(move |snapshot| {
            let Some(draft) = snapshot.draft(site_id, draft_id)? else { return Ok(None) };
            Ok(Some((draft, snapshot.draft_content(site_id, draft_id)?.unwrap_or_default())))
        })
        .await?;
    let Some((draft, content)) = found else { return Err(PageError::NotFound) };
    if draft.state != DraftState::Preview {
        return Ok(None);
    }
    let (state, site) = (here.state.clone(), records.site.clone());
    let said = draft.clone();
    let _turn = upload::turn().await?;
    let outcome = off_loop(move || read_draft(&state.store, &site, &said, content)).await??;
    Ok(Some((draft, outcome)))
}

/// What a draft comes to, by what was said of its columns or of columns like them.
pub(super) fn read_draft(
    store: &Store,
    site: &SiteRecord,
    draft: &Draft,
    content: Vec<u8>,
) -> Result<Waiting, StoreError> {
    let sources = store.read(|snapshot| snapshot.sources(site.id))?;
    let of_source = sources.iter().find(|s| s.id == draft.source_id);
    let station = of_source.map_or(site.site.station(), |s| s.station(&site.site));
    let tz = time_zone(&site.site.time_zone)?;
    let said = draft.mapping.clone();
    if let Some(id) = said.as_ref().and_then(|m| m.get("station_id")?.as_str()) {
        return Ok(Waiting::of_station(&content, id));
    }
    match said.and_then(|m| serde_json::from_value(m).ok()) {
        Some(mapping) => Ok(Waiting::of(&content, &station, &tz, Some(mapping))),
        None => read_known(store, &station, &tz, &content),
    }
}

/// What a content comes to; a header seen before is read as it was said then.
pub(super) fn read_known(
    store: &Store,
    station: &Station,
    tz: &TimeZone,
    content: &[u8],
) -> Result<Waiting, StoreError> {
    let mapping = match weather_file::open(content, station, tz, None) {
        Ok(Opened::Read(file)) => return Ok(Waiting::Read(Box::new(file))),
        Ok(Opened::Asks(proposal)) => store.read(|snapshot| snapshot.mapping(&proposal.key))?,
        Err(_) => None,
    };
    Ok(Waiting::of(content, station, tz, mapping.and_then(|m| serde_json::from_value(m).ok())))
}

impl Waiting {
    /// A file of which one station was chosen.
    fn of_station(content: &[u8], id: &str) -> Self {
        match weather_file::open_station(content, id) {
            Ok(file) => Self::Read(Box::new(file)),
            Err(problems) => Self::Refused(problems, None),
        }
    }

    /// A file as it was said to be read, if it was.
    fn of(content: &[u8], station: &Station, tz: &TimeZone, mapping: Option<Mapping>) -> Self {
        let stations = weather_file::stations_of(content);
        if stations.len() > 1 {
            return Self::Stations(stations);
        }
        match weather_file::open(content, station, tz, mapping.as_ref()) {
            Ok(Opened::Read(file)) => Self::Read(Box::new(file)),
            Ok(Opened::Asks(proposal)) => Self::Asks(proposal),
            Err(problems) => {
                let proposal = match weather_file::open(content, station, tz, None) {
                    Ok(Opened::Asks(proposal)) => Some(Box::new(Proposal {
                        mapping: mapping.unwrap_or(proposal.mapping.clone()),
                        ..*proposal
                    })),
                    _ => None,
                };
                Self::Refused(problems, proposal)
            }
        }
    }
}

struct PreviewRow {
    cells: Vec<String>,
    gap_after: bool,
}

#[derive(Template)]
#[template(path = "chapters/weather/preview.html")]
struct PreviewPage {
    frame: Frame,
    site_id: i64,
    draft: Draft,
    kind: &'static str,
    place: String,
    days: usize,
    hours: usize,
    span: String,
    counts: Comparison,
    columns: Vec<Column>,
    heads: Vec<String>,
    rows: Vec<PreviewRow>,
    notes: Vec<ProblemLine>,
}

/// First and last rows as they will be stored.
fn preview_rows(days: &[RawDay], units: &Units) -> Vec<PreviewRow> {
    let cell = |value: Option<f64>| value.map_or("–".to_owned(), |v| crate::page::quantities::plain(v, 1));
    let row = |day: &RawDay, gap_after| PreviewRow {
        cells: std::iter::once(day.date.formatted("%-d %b %Y"))
            .chain(
                Variable::ALL
                    .iter()
                    .map(|v| cell(day.get(*v).map(|value| units.of_variable(*v).shown(value)))),
            )
            .collect(),
        gap_after,
    };
    if days.len() <= 2 * PREVIEW_ROWS {
        return days.iter().map(|d| row(d, false)).collect();
    }
    let first = days.iter().take(PREVIEW_ROWS).enumerate().map(|(i, d)| row(d, i + 1 == PREVIEW_ROWS));
    let last = days.iter().skip(days.len() - PREVIEW_ROWS).map(|d| row(d, false));
    first.chain(last).collect()
}

/// A column of a strange table as the form shows it.
struct ColumnLine {
    index: usize,
    header: String,
    sample: String,
    doubts: Vec<String>,
    /// Code, words, chosen: what it holds.
    holds: Vec<(String, String, bool)>,
}

#[derive(Template)]
#[template(path = "chapters/weather/mapping.html")]
struct MappingPage {
    frame: Frame,
    site_id: i64,
    draft_id: i64,
    file_name: String,
    rows: usize,
    columns: Vec<ColumnLine>,
    headers: Vec<String>,
    mapping: Mapping,
    missing: String,
    clock: String,
    doubts: Vec<(String, String)>,
    stations: Vec<String>,
    station_header: String,
    problems: Vec<ProblemLine>,
}

impl MappingPage {
    fn order(&self, code: &str) -> bool {
        code == match self.mapping.date_order {
            DateOrder::YearFirst => "year_first",
            DateOrder::DayFirst => "day_first",
            DateOrder::MonthFirst => "month_first",
        }
    }

    fn ends(&self) -> bool {
        self.mapping.stamp == Stamp::End
    }

    fn is_date(&self, header: &str) -> bool {
        self.mapping.date_column == header
    }

    fn is_time(&self, header: &str) -> bool {
        self.mapping.time_column.as_deref() == Some(header)
    }
}

/// A quantity with a unit as one choice: `tmin.f`.
fn holds(mapping: &Mapping, header: &str) -> Vec<(String, String, bool)> {
    let now = mapping.columns.iter().find(|c| c.header == header);
    let mut out = vec![(String::new(), "not read".to_owned(), now.is_none())];
    for quantity in quantities(mapping.hourly) {
        let code = serde_json::to_value(quantity)
            .ok()
            .and_then(|v| v.as_str().map(str::to_owned))
            .unwrap_or_default();
        for unit in units_of(quantity) {
            let chosen = now.is_some_and(|c| c.quantity == quantity && c.unit == unit.code);
            out.push((
                format!("{code}.{}", unit.code),
                format!("{}, {}", quantity.label(), unit.label),
                chosen,
            ));
        }
    }
    out
}

fn clock_code(clock: Clock) -> String {
    match clock {
        Clock::InText => "in_text".into(),
        Clock::Site => "site".into(),
        Clock::Fixed(minutes) => minutes.to_string(),
    }
}

fn mapping_page(
    here: &AtSite,
    draft: &Draft,
    proposal: Proposal,
    problems: &[Problem],
) -> Result<HttpResponse, PageError> {
    let columns = proposal
        .headers
        .iter()
        .enumerate()
        .filter(|(_, h)| {
            !h.is_empty()
                && **h != proposal.mapping.date_column
                && Some(*h) != proposal.mapping.time_column.as_ref()
        })
        .map(|(index, header)| ColumnLine {
            index,
            header: header.clone(),
            sample: proposal
                .sample
                .iter()
                .filter_map(|r| r.get(index))
                .take(3)
                .cloned()
                .collect::<Vec<_>>()
                .join(", "),
            doubts: proposal.doubts.iter().filter(|d| d.at == *header).map(|d| d.message.clone()).collect(),
            holds: holds(&proposal.mapping, header),
        })
        .collect();
    let doubts = proposal
        .doubts
        .iter()
        .filter(|d| !proposal.headers.contains(&d.at))
        .map(|d| (d.at.clone(), d.message.clone()))
        .collect();
    let station = proposal.mapping.station.clone();
    let status = if problems.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    page_with(
        status,
        &MappingPage {
            frame: Frame::of_site(here, "How the file is read", Chapter::Weather)?,
            site_id: here.id(),
            draft_id: draft.id,
            file_name: draft.file_name.clone(),
            rows: proposal.rows,
            columns,
            headers: proposal.headers.iter().filter(|h| !h.is_empty()).cloned().collect(),
            missing: proposal.mapping.missing.join(" "),
            clock: clock_code(proposal.mapping.clock),
            doubts,
            station_header: station.map(|(h, _)| h).unwrap_or_default(),
            stations: proposal.stations,
            problems: lines(problems),
            mapping: proposal.mapping,
        },
    )
}

#[get("/sites/{id}/weather/drafts/{draft}")]
// Long: one field of the view after another.
async fn preview(EditorAt(here): EditorAt, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let (site_id, draft_id) = *path;
    let records = Arc::clone(&here.records);
    let Some((draft, outcome)) = waiting(&here, &records, draft_id).await? else {
        return Ok(see_other(&format!("{}/progress", address::draft(site_id, draft_id))));
    };
    let file = match outcome {
        Waiting::Read(file) => *file,
        Waiting::Asks(proposal) => return mapping_page(&here, &draft, *proposal, &[]),
        Waiting::Refused(problems, Some(proposal)) => {
            return mapping_page(&here, &draft, *proposal, &problems);
        }
        Waiting::Refused(problems, None) => {
            let refused = Refused { file: Some((draft.file_name, problems)), ..Refused::default() };
            return draw(&here, StatusCode::UNPROCESSABLE_ENTITY, refused).await;
        }
        Waiting::Stations(stations) => {
            return page(&StationsPage {
                frame: Frame::of_site(&here, "Which station", Chapter::Weather)?,
                site_id,
                draft,
                stations,
            });
        }
    };
    let (source, days) = (draft.source_id, file.days.clone());
    let counts = here.read(move |snapshot| snapshot.compare_weather(source, &days)).await?;
    let span = match (file.days.first(), file.days.last()) {
        (Some(a), Some(b)) => {
            format!("{} to {}", a.date.formatted("%-d %b %Y"), b.date.formatted("%-d %b %Y"))
        }
        _ => String::new(),
    };
    let site = &records.site.site;
    let place = file.place.as_ref().map_or(String::new(), |p| {
        let km = upland_core::weather::record::distance_km(
            site.latitude_deg,
            site.longitude_deg,
            p.latitude_deg,
            p.longitude_deg,
        );
        format!(
            "The file says it was measured at {}, {:.3}°, {:.3}°, {:.0} m: {km:.1} km from the site.",
            p.name, p.latitude_deg, p.longitude_deg, p.elevation_m
        )
    });
    let units = Units::of(here.records.units());
    page(&PreviewPage {
        frame: Frame::of_site(&here, "Look at the file", Chapter::Weather)?,
        site_id,
        draft,
        kind: file.kind.label(),
        place,
        days: file.days.len(),
        hours: file.hours.len(),
        span,
        counts,
        columns: file.columns,
        heads: std::iter::once("day".to_owned())
            .chain(Variable::ALL.iter().map(|v| format!("{} {}", v.label(), units.of_variable(*v).unit)))
            .collect(),
        rows: preview_rows(&file.days, &units),
        notes: lines(&file.notes),
    })
}

#[derive(Template)]
#[template(path = "chapters/weather/stations.html")]
struct StationsPage {
    frame: Frame,
    site_id: i64,
    draft: Draft,
    stations: Vec<String>,
}

/// Reads the mapping form over what was proposed.
fn read_mapping(fields: &Fields, proposal: &Proposal) -> Mapping {
    let chosen = |name: &str| Some(fields.get(name).to_owned()).filter(|v| !v.is_empty());
    let columns = proposal
        .headers
        .iter()
        .enumerate()
        .filter_map(|(i, header)| {
            let (quantity, unit) = fields.get(&format!("holds{i}")).split_once('.')?;
            let quantity = serde_json::from_value(serde_json::Value::String(quantity.to_owned())).ok()?;
            Some(MappedColumn { header: header.clone(), quantity, unit: unit.to_owned() })
        })
        .collect();
    Mapping {
        hourly: fields.get("hourly") == "yes",
        date_column: chosen("date_column").unwrap_or_else(|| proposal.mapping.date_column.clone()),
        time_column: chosen("time_column"),
        date_order: match fields.get("date_order") {
            "day_first" => DateOrder::DayFirst,
            "month_first" => DateOrder::MonthFirst,
            _ => DateOrder::YearFirst,
        },
        stamp: if fields.get("stamp") == "end" { Stamp::End } else { Stamp::Start },
        clock: match fields.get("clock") {
            "in_text" => Clock::InText,
            "site" | "" => Clock::Site,
            minutes => minutes.parse().map_or(Clock::Site, Clock::Fixed),
        },
        decimal_comma: fields.get("decimal_comma") == "yes",
        missing: fields.get("missing").split_whitespace().map(str::to_owned).collect(),
        station: proposal
            .mapping
            .station
            .as_ref()
            .map(|(header, first)| (header.clone(), chosen("station").unwrap_or_else(|| first.clone()))),
        columns,
    }
}

/// Takes over how the columns are read, and remembers it for the next file of this header.
#[post("/sites/{id}/weather/drafts/{draft}/mapping")]
async fn confirm_mapping(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let (site_id, draft_id) = *path;
    let records = Arc::clone(&here.records);
    let back = see_other(&address::draft(site_id, draft_id));
    let station_id = fields.get("station_id").to_owned();
    if !station_id.is_empty() {
        let said = serde_json::json!({ "station_id": station_id });
        if !with_store(&here.state, move |store| store.set_draft_mapping(of_site, draft_id, &said)).await? {
            return Err(PageError::NotFound);
        }
        return Ok(back);
    }
    let content = here
        .read(move |snapshot| snapshot.draft_content(of_site, draft_id))
        .await?
        .ok_or(PageError::NotFound)?;
    let tz = records.tz.clone();
    let station = records.site.site.station();
    let asks = off_loop(move || weather_file::open(&content, &station, &tz, None)).await?;
    let Ok(Opened::Asks(proposal)) = asks else { return Ok(back) };
    let mapping = read_mapping(&fields, &proposal);
    let body = serde_json::to_value(&mapping).map_err(|e| PageError::BadRequest(e.to_string()))?;
    let user = here.who.user.id;
    let kept = with_store(&here.state, move |store| {
        let kept = store.set_draft_mapping(of_site, draft_id, &body)?;
        if kept {
            store.save_mapping(&proposal.key, &body, user)?;
        }
        Ok(kept)
    })
    .await?;
    if !kept {
        return Err(PageError::NotFound);
    }
    // Of a service only this was asked: nothing of its answer waits to be looked at.
    match waiting(&here, &records, draft_id).await? {
        Some((draft, Waiting::Read(_))) if draft.of_service => {
            columns_said(&here, draft_id, draft.source_id).await
        }
        _ => Ok(back),
    }
}

/// After the columns of an answer were said: it is asked again, and what was kept for the question goes.
async fn columns_said(here: &AtSite, draft: i64, source: i64) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let site = here.id();
    with_store(&here.state, move |store| {
        store.drop_draft(of_site, draft)?;
        store.ask(Task::Fetch, source, SignedDuration::ZERO)
    })
    .await?;
    flash(
        &here.who.session,
        "Its columns are known now; it is asked again. Look again in a few seconds.",
        None,
    )?;
    Ok(see_other(&address::service(site, source)))
}

#[cfg(test)]
mod tests;
