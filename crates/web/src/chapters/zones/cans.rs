//! The catch-can test: lay the cans out, type the readings, see rate, uniformity and map, take them over.

use super::units::units;
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::{depth, plain, rate, share};
use crate::page::take_back::TakeBack;
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::ToSpan;
use jiff::civil::Date;
use upland_core::ground::catch_can::{
    Can, CatchAdvice, CatchMap, CatchResult, CatchTest, ENOUGH_CANS, OVER, UNDER,
};
use upland_core::ground::planting::RateBasis;
use upland_core::quantity::bounds;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{Metres, Millimetres, MillimetresPerHour, Minutes};
use upland_core::site::{UnitSystem, Zone};
use upland_core::weather::climate::Climate;
use upland_formats::catch_file::MOST_CANS;
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
    throat: String,
    cans: String,
}

/// A cell of the map, in metres.
struct MapCell {
    x: String,
    y: String,
    side: String,
    class: &'static str,
}

struct CanMark {
    x: String,
    y: String,
    text: String,
}

struct Drawing {
    view: String,
    cells: Vec<MapCell>,
    cans: Vec<CanMark>,
    words: String,
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
}

impl CansPage {
    fn error(&self, name: &str) -> &str {
        self.errors.iter().find(|(n, _)| *n == name).map_or("", |(_, m)| m.as_str())
    }
}

/// A test with its day, or every problem at its field.
type Outcome = Result<(Date, CatchTest), Vec<(&'static str, String)>>;

/// Reads the form.
fn read(typed: &Typed) -> Outcome {
    let mut errors = Vec::new();
    let on = typed
        .on
        .parse::<Date>()
        .map_err(|_| errors.push(("on", "A date written YYYY-MM-DD.".to_owned())))
        .ok();
    let mut number = |name: &'static str, text: &str, bound: &bounds::Bound| {
        let value = text.trim().parse::<f64>().ok().filter(|v| bound.check(*v).is_ok());
        if value.is_none() {
            errors.push((
                name,
                format!(
                    "{} must lie between {} and {} {}: {}.",
                    bound.name, bound.min, bound.max, bound.unit, bound.why
                ),
            ));
        }
        value
    };
    let minutes = number("minutes", &typed.minutes, &bounds::CATCH_MINUTES);
    let throat = number("throat", &typed.throat, &bounds::CATCH_THROAT);
    let mut cans = Vec::new();
    for (i, line) in typed.cans.lines().map(str::trim).filter(|l| !l.is_empty()).enumerate() {
        let parts: Vec<Option<f64>> =
            line.split([' ', '\t', ';']).filter(|p| !p.is_empty()).map(|p| p.parse().ok()).collect();
        match parts.as_slice() {
            [Some(x), Some(y), Some(ml)]
                if bounds::CATCH_READING.check(*ml).is_ok() && x.is_finite() && y.is_finite() =>
            {
                cans.push(Can { x_m: *x, y_m: *y, millilitres: *ml });
            }
            [Some(_), Some(_)] => errors.push(("cans", format!("Can {}: its reading is missing.", i + 1))),
            _ => errors.push((
                "cans",
                format!("Can {}: \"{line}\" is not two positions in metres and millilitres.", i + 1),
            )),
        }
        if cans.len() > MOST_CANS || errors.len() > 20 {
            errors.push(("cans", format!("At most {MOST_CANS} cans.")));
            break;
        }
    }
    let (Some(on), Some(minutes), Some(throat_cm2), true) = (on, minutes, throat, errors.is_empty()) else {
        return Err(errors);
    };
    let test = CatchTest { run: Minutes::from_min(minutes), throat_cm2, cans };
    match test.result() {
        Ok(_) => Ok((on, test)),
        Err(fault) => Err(vec![("cans", crate::page::quantities::capital(&format!("{fault}.")))]),
    }
}

fn drawing(test: &CatchTest, map: &CatchMap) -> Option<Drawing> {
    if map.cell_m <= 0.0 {
        return None;
    }
    let rows = map.cells.len();
    let columns = map.cells.first().map_or(0, Vec::len);
    #[allow(clippy::cast_precision_loss, reason = "a few cells")]
    let (width, height) = (columns as f64 * map.cell_m, rows as f64 * map.cell_m);
    let margin = 0.06 * width.max(height);
    // The longer side is a hundred units, so that strokes and letters keep their size.
    let scale = 100.0 / (width.max(height) + 2.0 * margin);
    let place = |m: f64, start: f64| plain((m - start + margin) * scale, 2);
    let mut cells = Vec::new();
    for (r, row) in map.cells.iter().enumerate() {
        for (c, depth) in row.iter().enumerate() {
            #[allow(clippy::cast_precision_loss, reason = "a few cells")]
            let (x, y) = (map.x_m + c as f64 * map.cell_m, map.y_m + r as f64 * map.cell_m);
            cells.push(MapCell {
                x: place(x, map.x_m),
                y: place(y, map.y_m),
                side: plain(map.cell_m * scale + 0.05, 2),
                class: if *depth < UNDER {
                    "dry"
                } else if *depth > OVER {
                    "wet"
                } else {
                    "even"
                },
            });
        }
    }
    let cans = test
        .cans
        .iter()
        .map(|can| CanMark {
            x: place(can.x_m, map.x_m),
            y: place(can.y_m, map.y_m),
            text: plain(can.millilitres, 0),
        })
        .collect();
    let driest = test.cans.iter().min_by(|a, b| a.millilitres.total_cmp(&b.millilitres));
    Some(Drawing {
        view: format!(
            "0 0 {} {}",
            plain((width + 2.0 * margin) * scale, 1),
            plain((height + 2.0 * margin) * scale, 1)
        ),
        cells,
        cans,
        words: driest.map_or(String::new(), |c| {
            format!(
                "{} cans; the driest caught {} mL at {} m across and {} m down.",
                test.cans.len(),
                plain(c.millilitres, 0),
                plain(c.x_m, 1),
                plain(c.y_m, 1)
            )
        }),
    })
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
                    "Mend heads, pressure and spacing before adding minutes: at {} the dry quarter would cost {} % more water than an ordinary installation.",
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
        drawing: drawing(test, &test.map()),
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

async fn draw(
    here: &AtSite,
    status: StatusCode,
    zone: &ZoneRecord,
    typed: Typed,
    outcome: Option<Outcome>,
) -> Result<HttpResponse, PageError> {
    let (zone_id, loaded, climate) = (zone.id, &here.facts, &here.facts.climate);
    let tests =
        here.more(&format!("zone {zone_id}"), 10, move |snapshot| snapshot.catch_tests(zone_id)).await?;
    let units = loaded.site.site.units;
    let (result, errors) = match outcome {
        Some(Ok((on, test))) => {
            let result = test.result().ok().map(|r| result_view(&test, &r, &zone.zone, climate, on, units));
            (result, Vec::new())
        }
        Some(Err(errors)) => (None, errors),
        None => (None, Vec::new()),
    };
    page_with(
        status,
        &CansPage {
            frame: Frame::of_site(here, format!("Cans on zone {}", zone.zone.number), Chapter::Zones)?,
            site_id: loaded.site.id,
            zone_id: zone.id,
            zone: format!("{} {}", zone.zone.number, zone.zone.name),
            version: zone.version,
            typed,
            errors,
            result,
            tests: tests.iter().map(|t| test_line(t, units)).collect(),
            most: MOST_CANS,
        },
    )
}

#[get("/sites/{id}/zones/{zone}/cans")]
async fn test_page(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let zone = here.facts.zone(path.1)?;
    let typed = Typed { on: here.today().to_string(), minutes: "10".into(), ..Typed::default() };
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
    let (loaded, zone) = (&here.facts, here.facts.zone(zone_id)?);
    let get = |name: &str| fields.get(name).to_owned();
    let typed = Typed { on: get("on"), minutes: get("minutes"), throat: get("throat"), cans: get("cans") };
    let outcome = read(&typed);
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
            let saved = change.save_zone(zone_id, base, &changed)?;
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
                rate(loaded.site.site.units, result.rate),
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
            "The test stands again.",
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
    let u = units(system);
    match (zone.precipitation_rate, zone.planting.rate_basis) {
        (None, _) => "The rate is the default of its heads.".to_owned(),
        (Some(_), RateBasis::Typed) => "The rate was typed.".to_owned(),
        (Some(_), RateBasis::CatchCans { on }) => format!("The rate is from cans set out on {on}."),
        (Some(_), RateBasis::FlowAndArea { flow_l_per_min, area_m2 }) => format!(
            "The rate is 60 × {} L/min ÷ {} {}.",
            plain(flow_l_per_min, 2),
            u.area.text(Some(area_m2)),
            u.area.unit
        ),
        (Some(rate), RateBasis::Emitters { flow_l_per_h, along_m, rows_m }) => format!(
            "The rate, {} mm/h, is {} L/h on {} m × {} m.",
            plain(MillimetresPerHour::mm_per_hour(rate), 1),
            plain(flow_l_per_h, 2),
            plain(Metres::from_m(along_m).m(), 2),
            plain(rows_m, 2)
        ),
    }
}

#[cfg(test)]
mod tests;
