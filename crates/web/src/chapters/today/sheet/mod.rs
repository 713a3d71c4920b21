//! The controller sheet: one page that stays in the controller.

use crate::chapters::today::{DateQuery, Decided, Night, OfNight, decide};
use crate::page::dates::{DateFormat, said_open};
use crate::page::drawn::{Drawn, framed};
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::{clock, cycles, depth, long_date, plain, rate, share};
use crate::server::address;
use crate::server::cache::questions;
use crate::server::download::attachment;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use upland_core::advice::tonight::{Because, ZoneTonight};
use upland_core::weather::climate::ExpectedFrom;
use upland_formats::night_csv;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(sheet_page).service(sheet_csv);
}

struct ProgramLine {
    letter: char,
    starts: String,
    zones: String,
    total: u32,
}

struct ZoneLine {
    number: u16,
    name: String,
    heads: String,
    rate: String,
    rate_default: bool,
    uniformity: String,
    uniformity_default: bool,
    tonight: String,
    full: String,
    soak: String,
    every: String,
    defaults: String,
}

struct SheetView {
    title: String,
    date: String,
    version: String,
    controller: String,
    window: String,
    programs: Vec<ProgramLine>,
    first_start: String,
    last_end: String,
    zones: Vec<ZoneLine>,
    cautions: Vec<&'static str>,
    assumptions: Vec<String>,
}

/// Said on every sheet.
const CAUTIONS: [&str; 5] = [
    "Power off before the controller is opened. Work on the low-voltage side only; mains belong to a licensed electrician.",
    "Stand on firm ground; use a ladder only when somebody holds it.",
    "Locate buried services before digging. Backflow devices are for those licensed for them.",
    "In frost, spray ices paving and steps: pause the programs.",
    "Local watering rules and the maker's instructions come before this sheet.",
];

fn zone_line(decided: &Decided, zone: &ZoneTonight) -> ZoneLine {
    let units = decided.records.site.site.units;
    let full = zone.refill_from_refill_point.cycles;
    let tonight = match zone.cycles {
        Some(c) => cycles(c),
        None => match zone.because {
            Because::AboveRefill { next: Some(on), .. } => format!("off, due {}", on.formatted("%-d %b")),
            _ => "off".to_owned(),
        },
    };
    ZoneLine {
        number: zone.zone.number,
        name: zone.zone.name.clone(),
        heads: zone.zone.head.label().to_owned(),
        rate: rate(units, zone.resolved.rate.value),
        rate_default: zone.resolved.rate.is_default(),
        uniformity: share(zone.resolved.uniformity.value),
        uniformity_default: zone.resolved.uniformity.is_default(),
        tonight,
        full: cycles(full),
        soak: if full.count > 1 { format!("{} min", full.soak_minutes) } else { "–".into() },
        every: if zone.interval_days.is_finite() && zone.interval_days < 99.0 {
            let days = zone.interval_days.max(1.0);
            format!("{} {}", plain(days.floor(), 0), if days < 2.0 { "day" } else { "days" })
        } else {
            "seldom".into()
        },
        defaults: zone.resolved.defaults().join(", "),
    }
}

// Long: one part of the sheet after another.
fn build(decided: &Decided) -> SheetView {
    let tonight = &decided.night;
    let site = &decided.records.site.site;
    let night = &tonight.night;
    let (_, place, card) = decided.records.controller_or_ordinary(Some(decided.number));
    let programs = night
        .layout
        .programs
        .iter()
        .map(|program| ProgramLine {
            letter: program.letter,
            starts: program
                .starts
                .iter()
                .map(|s| clock(night.at(*s).as_ref()))
                .collect::<Vec<_>>()
                .join(", "),
            zones: program
                .zones
                .iter()
                .map(|(number, minutes)| format!("{number}: {minutes} min"))
                .collect::<Vec<_>>()
                .join(", "),
            total: program.zones.iter().map(|(_, m)| m).sum::<u32>()
                * u32::try_from(program.starts.len()).unwrap_or(0),
        })
        .collect();
    let (expected, from) = decided.climate.expected_et0(tonight.date.tomorrow().unwrap_or(tonight.date));
    let how = match from {
        ExpectedFrom::Forecast => "forecast for tomorrow",
        _ => "a day expected at this time of year",
    };
    let mut assumptions = vec![
        format!("Demand: {} {how} (reference ET).", depth(site.units, expected)),
        "Each zone is brought back from its present state to full. What ran before is taken as logged, else as set, else as advised.".to_owned(),
        "\"Full watering\" is from the refill point to full; \"every\" is how long that lasts now, without rain.".to_owned(),
    ];
    if tonight.zones.iter().any(|z| !z.resolved.defaults().is_empty()) {
        assumptions.push("An asterisk marks a default that nobody measured here; the last column names every default of a zone.".to_owned());
    }
    assumptions.extend(
        tonight.notices.iter().map(|n| crate::chapters::today::words::notice(n, site.units)).map(|n| n.text),
    );
    // The youngest of the versions that the sheet rests on.
    let surveyed =
        decided.records.zones.iter().map(|z| z.saved_at).fold(decided.records.site.saved_at, Ord::max);
    SheetView {
        title: site.name.clone(),
        date: long_date(tonight.date),
        version: format!(
            "site version {}, survey of {}, Upland Almanac {}",
            decided.records.site.version,
            surveyed.formatted("%-d %b %Y"),
            env!("CARGO_PKG_VERSION")
        ),
        controller: format!(
            "{place} ({} stations, {} programs, {} starts each)",
            card.stations, card.programs, card.starts_per_program
        ),
        window: said_open(night),
        programs,
        first_start: clock(night.first_start.as_ref()),
        last_end: clock(night.last_end().as_ref()),
        zones: tonight.zones.iter().map(|z| zone_line(decided, z)).collect(),
        cautions: CAUTIONS.to_vec(),
        assumptions,
    }
}

#[derive(Template)]
#[template(path = "chapters/today/sheet/sheet.html")]
struct SheetPart {
    site_id: i64,
    date: jiff::civil::Date,
    number: u8,
    view: SheetView,
}

questions! {
    words Sheet { asked: OfNight } -> Drawn;
}

#[get("/sites/{id}/sheet")]
async fn sheet_page(here: AtSite, query: web::Query<DateQuery>) -> Result<HttpResponse, PageError> {
    let Night { about, asked, decided } = decide(&here, &query).await?;
    let title = format!("{}: sheet of the night", decided.records.site.site.name);
    let mut frame = Frame::of_site(&here, title, Chapter::Today)?;
    frame.here = format!(
        "{}/sheet?date={}&controller={}",
        address::site_root(decided.records.site.id.number()),
        decided.night.date,
        decided.number
    );
    let drawn = here.once(about, Sheet { asked }, 20, move |_| {
        let part = SheetPart {
            site_id: decided.records.site.id.number(),
            date: decided.night.date,
            number: decided.number,
            view: build(&decided),
        };
        Ok(Drawn { content: part.render()?, ..Drawn::default() })
    });
    framed(frame, drawn.await?)
}

#[get("/sites/{id}/sheet.csv")]
async fn sheet_csv(here: AtSite, query: web::Query<DateQuery>) -> Result<HttpResponse, PageError> {
    let decided = decide(&here, &query).await?.decided;
    let ended = if decided.opened_on_last_day { " record ended" } else { "" };
    let (site, date) = (&decided.records.site.site.name, decided.night.date);
    let name = format!("{site} {} {date}{ended}", decided.number);
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment(&name, "csv"))
        .body(night_csv::write(&decided.night, &decided.sensors, &decided.records.tz)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::site::UnitSystem;

    #[test]
    fn door_sheet_page() {
        let decided = fixture::decided(UnitSystem::Metric);
        let page = SheetPart { site_id: 1, date: decided.night.date, number: 1, view: build(&decided) };
        let html = page.render().unwrap();
        let article = html.split("<article").nth(1).unwrap().split("</article>").next().unwrap();
        insta::assert_snapshot!(article);
    }

    #[test]
    fn door_sheet_csv() {
        let told = fixture::told(UnitSystem::Metric);
        insta::assert_snapshot!(night_csv::write(&told.night, &told.sensors, &told.records.tz));
    }
}
