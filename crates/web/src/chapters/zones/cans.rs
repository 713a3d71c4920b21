//! The catch-can test: lay the cans out, type the readings, see rate, uniformity and map, take them over.

mod map;

use crate::page::dates::{DateFormat, typed_date};
use crate::page::forms::out_of_bounds;
use crate::page::frame::{Chapter, Frame};
use crate::page::plan_picture::{plan_about, saved_plan};
use crate::page::quantities::{depth, plain, rate, share};
use crate::page::take_back::TakeBack;
use crate::page::units::{MINUTES, Shown, Units};
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::request_locale::habit;
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::ToSpan;
use jiff::civil::Date;
use map::{Drawing, drawing};
use upland_core::codes::Coded;
use upland_core::ground::catch_can::{
    Can, CanReading, CatchAdvice, CatchResult, CatchTest, DEPTH_THROAT_CM2, ENOUGH_CANS,
};
use upland_core::ground::planting::RateBasis;
use upland_core::quantity::bounds;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{Millimetres, Minutes};
use upland_core::site::{UnitSystem, Zone, ZoneSince};
use upland_core::weather::climate::Climate;
use upland_formats::catch_file::MOST_CANS;
use upland_formats::typed;
use upland_store::Saved;
use upland_store::Subject;
use upland_store::field::CatchRecord;
use upland_store::zones::ZoneRecord;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(test_page).service(work_out).service(take_back).service(let_stand);
}

/// What the form holds, as typed.
#[derive(Debug, Clone, Default)]
struct Typed {
    on: String,
    minutes: String,
    read_as: String,
    throat: String,
    cans: String,
}

struct ResultView {
    rate: String,
    was_rate: String,
    uniformity: String,
    was_uniformity: String,
    christiansen: String,
    low_quarter: String,
    mean: String,
    multiplier: String,
    under: String,
    over: String,
    minutes: String,
    was_minutes: String,
    advice: String,
    mend: bool,
    few: String,
    drawing: Option<Drawing>,
}

struct TestLine {
    id: i64,
    on: String,
    what: String,
    by: String,
    undone: bool,
}

#[derive(Template)]
#[template(path = "chapters/zones/cans.html")]
struct CansPage {
    frame: Frame,
    site_id: i64,
    zone_id: i64,
    zone: String,
    version: i32,
    typed: Typed,
    errors: Vec<(&'static str, String)>,
    result: Option<ResultView>,
    tests: Vec<TestLine>,
    most: usize,
    units: Units,
    /// An opening as an example.
    across: &'static str,
    readings: Vec<(&'static str, &'static str, bool)>,
    /// The plan around the zone.
    plan: String,
}

impl CansPage {
    fn error(&self, name: &str) -> &str {
        self.errors.iter().find(|(n, _)| *n == name).map_or("", |(_, m)| m.as_str())
    }
}

/// A test with its day, or every problem at its field.
type Outcome = Result<(Date, CatchTest), Vec<(&'static str, String)>>;

/// Reads the form, in the units of the site.
fn read(typed: &Typed, units: UnitSystem, today: Date) -> Outcome {
    let (mut errors, u) = (Vec::new(), Units::of(units));
    let on = typed::date(&typed.on, today, habit())
        .map_err(|refusal| errors.push(("on", refusal.to_string())))
        .ok();
    let minutes = typed::duration(&typed.minutes).map_err(|refusal| refusal.to_string());
    let minutes = minutes.and_then(|length| {
        let minutes = length.minutes().min_value();
        bounds::CATCH_MINUTES.check(minutes).map_err(|_| out_of_bounds(MINUTES, &bounds::CATCH_MINUTES))
    });
    let minutes = minutes.map_err(|message| errors.push(("minutes", message))).ok();
    let reading = CanReading::from_code(&typed.read_as).unwrap_or_default();
    let throat = match reading {
        CanReading::Depth => Some(DEPTH_THROAT_CM2),
        CanReading::Volume => mouth(&typed.throat, u.mouth).map_err(|m| errors.push(("throat", m))).ok(),
    };
    let shown = match reading {
        CanReading::Depth => u.depth,
        CanReading::Volume => u.caught,
    };
    let mut cans = Vec::new();
    for (i, line) in typed.cans.lines().map(str::trim).filter(|l| !l.is_empty()).enumerate() {
        match can(line, shown, u.length, reading) {
            Ok(can) => cans.push(can),
            Err(message) => errors.push(("cans", format!("Can {}: {message}", i + 1))),
        }
        if cans.len() > MOST_CANS || errors.len() > 20 {
            errors.push(("cans", format!("At most {MOST_CANS} cans.")));
            break;
        }
    }
    let (Some(on), Some(minutes), Some(throat_cm2), true) = (on, minutes, throat, errors.is_empty()) else {
        return Err(errors);
    };
    let test = CatchTest { run: Minutes::from_min(minutes), throat_cm2, reading, cans };
    match test.result() {
        Ok(_) => Ok((on, test)),
        Err(fault) => Err(vec![("cans", crate::page::quantities::capital(&format!("{fault}.")))]),
    }
}

/// The area of a mouth in cm²: an area, or how wide a round one is ("10 cm across").
fn mouth(text: &str, shown: Shown) -> Result<f64, String> {
    let across = text.trim().strip_suffix("across").or_else(|| text.trim().strip_suffix("wide"));
    let area = match across {
        Some(width) => typed::quantity(width, "cm").map(|d| core::f64::consts::FRAC_PI_4 * d * d),
        None => shown.read(text),
    };
    let area = area.map_err(|refusal| refusal.to_string())?;
    bounds::CATCH_THROAT.check(area).map_err(|_| out_of_bounds(shown, &bounds::CATCH_THROAT))
}

/// A can: where it stood, and what it caught.
fn can(line: &str, shown: Shown, length: Shown, reading: CanReading) -> Result<Can, String> {
    let words: Vec<&str> = line.split([' ', '\t', ';']).filter(|p| !p.is_empty()).collect();
    let (x, y, caught) = match words.as_slice() {
        [x, y, caught] => (x, y, caught),
        [_, _] => return Err("its reading is missing.".into()),
        _ => {
            let (across, caught) = (length.unit, shown.unit);
            return Err(format!(
                "\"{line}\" is not two positions in {across} and what it caught in {caught}."
            ));
        }
    };
    let read = |text: &str, shown: Shown| shown.read(text).map_err(|refusal| refusal.to_string());
    let (x_m, y_m, caught) = (read(x, length)?, read(y, length)?, read(caught, shown)?);
    let millilitres = match reading {
        CanReading::Volume => caught,
        // A millimetre over a square centimetre is a tenth of a millilitre.
        CanReading::Depth => caught * DEPTH_THROAT_CM2 / 10.0,
    };
    if bounds::CATCH_READING.check(millilitres).is_err()
        || bounds::SITE_METRES.check(x_m.abs()).is_err()
        || bounds::SITE_METRES.check(y_m.abs()).is_err()
    {
        return Err(format!("\"{line}\" lies outside what a can catches or a zone measures."));
    }
    Ok(Can { x_m, y_m, millilitres })
}

/// What a can caught as it was read.
fn caught(test: &CatchTest, can: &Can, units: UnitSystem) -> (f64, Shown) {
    let u = Units::of(units);
    match test.reading {
        CanReading::Volume => (u.caught.shown(can.millilitres), u.caught),
        CanReading::Depth => (u.depth.shown(can.millilitres * 10.0 / test.throat_cm2), u.depth),
    }
}

/// Need of the seven days from a date, net.
fn weekly_need(zone: &Zone, climate: &Climate, from: Date) -> Millimetres {
    let resolved = zone.resolve(climate.station().latitude_deg);
    (0..7)
        .filter_map(|k| from.checked_add(k.days()).ok())
        .map(|date| climate.expected_et0(date).0 * resolved.demand_factor_on(date))
        .sum()
}

/// The zone with what a test found.
fn measured(zone: &Zone, on: Date, result: &CatchResult) -> Zone {
    let mut zone = zone.clone();
    zone.precipitation_rate = Some(result.rate);
    zone.uniformity = Some(result.uniformity);
    zone.planting.rate_basis = RateBasis::CatchCans { on };
    zone
}

fn result_view(
    test: &CatchTest,
    result: &CatchResult,
    zone: &Zone,
    climate: &Climate,
    on: Date,
    units: UnitSystem,
) -> ResultView {
    let latitude = climate.station().latitude_deg;
    let (was, then) = (zone.resolve(latitude), measured(zone, on, result).resolve(latitude));
    let need = weekly_need(zone, climate, on);
    let minutes = |m: Minutes| format!("{} min", plain(m.min_value(), 0));
    ResultView {
        rate: rate(units, result.rate),
        was_rate: format!(
            "{}{}",
            rate(units, was.rate.value),
            if was.rate.is_default() { ", a default" } else { "" }
        ),
        uniformity: share(result.uniformity),
        was_uniformity: format!(
            "{}{}",
            share(was.uniformity.value),
            if was.uniformity.is_default() { ", a default" } else { "" }
        ),
        christiansen: share(Share::from_fraction(result.christiansen)),
        low_quarter: depth(units, result.low_quarter),
        mean: depth(units, result.mean),
        multiplier: plain(result.multiplier, 2),
        under: share(result.under),
        over: share(result.over),
        minutes: minutes(then.minutes_for(need)),
        was_minutes: minutes(was.minutes_for(need)),
        advice: match result.advice {
            CatchAdvice::MendHeads => {
                let level =
                    upland_core::ground::application::run_time_multiplier(zone.head.default_uniformity());
                format!(
                    "Repair heads, pressure and spacing before adding minutes: at {} the dry quarter would cost {} % more water than an ordinary installation.",
                    share(result.uniformity),
                    plain(100.0 * (result.multiplier / level - 1.0), 0)
                )
            }
            CatchAdvice::RunByMultiplier => format!(
                "Minutes can make up for it: run {} times the time of an even zone.",
                plain(result.multiplier, 2)
            ),
        },
        mend: result.advice == CatchAdvice::MendHeads,
        few: if test.cans.len() < ENOUGH_CANS {
            format!("{} cans give a rough low quarter; {ENOUGH_CANS} and more are steady.", test.cans.len())
        } else {
            String::new()
        },
        drawing: drawing(test, &test.map(), units),
    }
}

fn test_line(record: &CatchRecord, units: UnitSystem) -> TestLine {
    TestLine {
        id: record.id,
        on: record.on.to_string(),
        what: record.test.result().map_or_else(
            |fault| fault.to_string(),
            |r| {
                format!(
                    "{} cans, {}, uniformity {}",
                    record.test.cans.len(),
                    rate(units, r.rate),
                    share(r.uniformity)
                )
            },
        ),
        by: record.saved_by.clone(),
        undone: record.undone,
    }
}

questions! {
    facts Tests { zone: i64 } -> Vec<CatchRecord>;
}

async fn draw(
    here: &AtSite,
    status: StatusCode,
    zone: &ZoneRecord,
    typed: Typed,
    outcome: Option<Outcome>,
) -> Result<HttpResponse, PageError> {
    let (zone_id, records, climate) = (zone.id, &here.records, &here.records.climate);
    let tests = here.more(Tests { zone: zone_id }, 10, move |snapshot| snapshot.catch_tests(zone_id)).await?;
    let units = records.site.site.units;
    let (result, errors) = match outcome {
        Some(Ok((on, test))) => {
            let result = test.result().ok().map(|r| result_view(&test, &r, &zone.zone, climate, on, units));
            (result, Vec::new())
        }
        Some(Err(errors)) => (None, errors),
        None => (None, Vec::new()),
    };
    let plan = plan_about(here, &saved_plan(here).await?, (Some(zone.zone.number), None));
    let readings =
        CanReading::TABLE.iter().map(|(r, code)| (*code, r.label(), *code == typed.read_as)).collect();
    page_with(
        status,
        &CansPage {
            frame: Frame::of_site(here, format!("Cans on zone {}", zone.zone.number), Chapter::Zones)?,
            site_id: records.site.id.number(),
            zone_id: zone.id,
            zone: format!("{} {}", zone.zone.number, zone.zone.name),
            version: zone.version,
            typed,
            errors,
            result,
            tests: tests.iter().map(|t| test_line(t, units)).collect(),
            most: MOST_CANS,
            units: Units::of(units),
            across: if units == UnitSystem::Metric { "10 cm" } else { "4 in" },
            readings,
            plan,
        },
    )
}

#[get("/sites/{id}/zones/{zone}/cans")]
async fn test_page(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let zone = here.records.zone(path.1)?;
    let reading = match here.records.units() {
        UnitSystem::Metric => CanReading::Volume,
        UnitSystem::UsCustomary => CanReading::Depth,
    };
    let typed = Typed {
        on: typed_date(here.today()),
        minutes: "10".into(),
        read_as: reading.code().to_owned(),
        ..Typed::default()
    };
    draw(&here, StatusCode::OK, zone, typed, None).await
}

/// Why a result cannot be, in words.
fn implausible(result: &CatchResult) -> Option<String> {
    let values = [
        (&bounds::PRECIPITATION_RATE, result.rate.mm_per_hour()),
        (&bounds::UNIFORMITY, result.uniformity.fraction()),
    ];
    values.into_iter().find_map(|(bound, value)| {
        let error = bound.check(value).err()?;
        let (name, value) = (bound.name, plain(value, 2));
        Some(format!("{name} came out as {value}: {error}. Look at minutes, mouth and readings again."))
    })
}

/// Works a test out, and keeps it when asked.
#[post("/sites/{id}/zones/{zone}/cans")]
async fn work_out(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, zone_id) = *path;
    let (records, zone) = (&here.records, here.records.zone(zone_id)?);
    let get = |name: &str| fields.get(name).to_owned();
    let typed = Typed {
        on: get("on"),
        minutes: get("minutes"),
        read_as: get("read_as"),
        throat: get("throat"),
        cans: get("cans"),
    };
    let outcome = read(&typed, records.units(), here.today());
    let (on, test) = match (outcome, fields.get("then")) {
        (Ok(found), "save") => found,
        (outcome, _) => {
            let status = if outcome.is_ok() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
            return draw(&here, status, zone, typed, Some(outcome)).await;
        }
    };
    let Ok(result) = test.result() else { return Err(PageError::NotFound) };
    if let Some(problem) = implausible(&result) {
        let outcome = Some(Err(vec![("cans", problem)]));
        return draw(&here, StatusCode::UNPROCESSABLE_ENTITY, zone, typed, outcome).await;
    }
    let (base, changed) = (fields.get("base").parse().unwrap_or(0), measured(&zone.zone, on, &result));
    let saved = here
        .change(move |change| {
            let saved = change.save_zone(zone_id, base, &changed, ZoneSince::On(on))?;
            if matches!(saved, Some(Saved::As(_) | Saved::Unchanged(_))) {
                change.save_catch_test(zone_id, on, &test)?;
            }
            Ok(saved)
        })
        .await?;
    match saved.ok_or(PageError::NotFound)? {
        Saved::As(_) | Saved::Unchanged(_) => {
            let text = format!(
                "Zone {} now rests on its cans: {}, uniformity {}.",
                zone.zone.number,
                rate(records.site.site.units, result.rate),
                share(result.uniformity)
            );
            flash(&here.who.session, text, None)?;
            Ok(see_other(&address::zone(site_id, zone_id)))
        }
        Saved::Conflict(theirs) => {
            let problem = format!(
                "{} saved this zone meanwhile as version {}. Your cans are still here; keep them again.",
                theirs.saved_by, theirs.version
            );
            let outcome = Some(Err(vec![("cans", problem)]));
            draw(&here, StatusCode::CONFLICT, &theirs, typed, outcome).await
        }
    }
}

fn can_test(path: (i64, i64, i64)) -> TakeBack {
    let (site, zone, id) = path;
    TakeBack {
        subject: Subject::CatchTest,
        under: zone,
        id,
        address: format!("{}/cans/{id}", address::zone(site, zone)),
        list: format!("{}/cans", address::zone(site, zone)),
        said: (
            "The test is taken back. The zone keeps its rate until you change it.",
            "The test is restored.",
        ),
    }
}

#[post("/sites/{id}/zones/{zone}/cans/{test}/undo")]
async fn take_back(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    can_test(*path).set(&here, true).await
}

#[post("/sites/{id}/zones/{zone}/cans/{test}/redo")]
async fn let_stand(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    can_test(*path).set(&here, false).await
}

/// The range that a zone's defaults leave about its weekly minutes and its refill depth.
pub(super) struct RangeView {
    pub name: &'static str,
    pub value: String,
    pub low: String,
    pub high: String,
    /// Places on a bar of 300 units, 60 at a third and 240 at three times the answer.
    pub x_low: String,
    pub x_high: String,
    pub parts: Vec<String>,
    pub next: String,
}

/// Ranges of a zone.
pub(super) fn ranges(zone: &Zone, climate: &Climate, today: Date, system: UnitSystem) -> Vec<RangeView> {
    use upland_core::site::range::{Range, et0_part, refill_depth, weekly_minutes};
    let resolved = zone.resolve(climate.station().latitude_deg);
    let need = weekly_need(zone, climate, today);
    let minutes = resolved.minutes_for(need).min_value();
    let refill = resolved.root_zone.readily_available();
    let place = |factor: f64| plain((150.0 + 90.0 * factor.ln() / 3.0_f64.ln()).clamp(2.0, 298.0), 1);
    let view = |name, value: &dyn Fn(f64) -> String, range: Range| RangeView {
        name,
        value: value(1.0),
        low: value(range.low),
        high: value(range.high),
        x_low: place(range.low),
        x_high: place(range.high),
        parts: range
            .parts
            .iter()
            .map(|p| {
                format!(
                    "{} ± {} %{}",
                    p.name,
                    plain(200.0 * p.uncertainty, 0),
                    if p.is_default { " (default)" } else { "" }
                )
            })
            .collect(),
        next: range.best_next().map_or_else(
            || "Nothing here is a default any more.".to_owned(),
            |(part, low, high)| {
                format!(
                    "Measure the {} first ({}): the range becomes {} to {}.",
                    part.name,
                    part.how,
                    value(low),
                    value(high)
                )
            },
        ),
    };
    vec![
        view(
            "Minutes a week, without rain",
            &|f| format!("{} min", plain(minutes * f, 0)),
            weekly_minutes(zone, &resolved, et0_part(climate, today)),
        ),
        view("Refill point", &|f| depth(system, refill * f), refill_depth(&resolved)),
    ]
}

/// The rate basis of a zone in words.
pub(super) fn basis_words(zone: &Zone, system: UnitSystem) -> String {
    let u = Units::of(system);
    match (zone.precipitation_rate, zone.planting.rate_basis) {
        (None, _) => "The rate is the default of its heads.".to_owned(),
        (Some(_), RateBasis::Typed) => "The rate was typed.".to_owned(),
        (Some(_), RateBasis::CatchCans { on }) => {
            format!("The rate is from cans set out on {}.", on.formatted("%-d %b %Y"))
        }
        (Some(_), RateBasis::FlowAndArea { flow_l_per_min, area_m2 }) => format!(
            "The rate is {} × {} {} ÷ {} {}.",
            if system == UnitSystem::Metric { "60" } else { "96.3" },
            plain(u.flow.shown(flow_l_per_min), 2),
            u.flow.unit,
            plain(u.area.shown(area_m2), 1),
            u.area.unit
        ),
        (Some(rate), RateBasis::Emitters { flow_l_per_h, along_m, rows_m }) => format!(
            "The rate, {}, is {} {} on {} × {} {}.",
            crate::page::quantities::rate(system, rate),
            plain(u.emitter.shown(flow_l_per_h), 2),
            u.emitter.unit,
            plain(u.short.shown(along_m), 1),
            plain(u.short.shown(rows_m), 1),
            u.short.unit
        ),
    }
}

#[cfg(test)]
mod tests;
