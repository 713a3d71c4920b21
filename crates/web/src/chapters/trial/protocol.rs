//! The six virtual zones of the published protocol on the site's own weather.

use super::words;
use crate::page::dates::DateFormat;
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::{depth, short_date};
use crate::page::strategy_words::strategy;
use crate::server::cache::questions;
use crate::server::error::{PageError, page};
use crate::site::context::AtSite;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::tz::TimeZone;
use std::sync::Arc;
use upland_core::advice::planner::Strategy;
use upland_core::codes::Coded;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::span::DateSpan;
use upland_core::site::UnitSystem;
use upland_core::trial::protocol::{self, Miss, MissKind, NoReport, Report, WayReport};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(protocol_page);
}

/// Criteria of the EPA, from memory: adequacy of a zone, excess of a zone, excess on average.
const CRITERIA: (Share, Share, Share) =
    (Share::from_fraction(0.80), Share::from_fraction(0.10), Share::from_fraction(0.05));

#[derive(Template)]
#[template(path = "chapters/trial/protocol.html")]
struct ProtocolPage {
    frame: Frame,
    site_id: i64,
    refused: Option<String>,
    period: String,
    zones: Vec<String>,
    ways: Vec<WayLine>,
}

struct WayLine {
    name: String,
    meets: bool,
    adequacy: String,
    excess: String,
    /// Adequacy and excess of each zone.
    zones: Vec<(String, String)>,
    misses: Vec<String>,
}

/// A share to a tenth of a percent: criteria are near to it.
fn fine(share: Share) -> String {
    format!("{} %", crate::page::quantities::plain(share.percent(), 1))
}

fn miss(zone: u16, miss: &Miss, tz: &TimeZone, units: UnitSystem) -> String {
    let at = miss.at.to_zoned(tz.clone());
    let what = match miss.kind {
        MissKind::Short => "short of",
        MissKind::RanOff => "ran off:",
        MissKind::Drained => "drained:",
    };
    let (missing, refill) = miss.depletion;
    format!(
        "Zone {zone}, {} {}: {what} {} over the day; {} below full then, refill at {}",
        short_date(at.date()),
        at.formatted("%H:%M"),
        depth(units, miss.amount),
        depth(units, missing),
        depth(units, refill)
    )
}

fn way_line(way: &WayReport, tz: &TimeZone, units: UnitSystem) -> WayLine {
    let (enough, most, mean) = CRITERIA;
    let name = match way.name.as_str() {
        "daily-balance" => "Daily balance".to_owned(),
        "as-advised" => "Watering as Today advises".to_owned(),
        code => Strategy::from_code(code).map_or(code.to_owned(), |s| strategy(s).0.to_owned()),
    };
    WayLine {
        name: crate::page::quantities::capital(&name),
        meets: way.excess <= mean && way.zones.iter().all(|z| z.adequacy >= enough && z.excess <= most),
        adequacy: fine(way.adequacy),
        excess: fine(way.excess),
        zones: way.zones.iter().map(|z| (fine(z.adequacy), fine(z.excess))).collect(),
        misses: way
            .zones
            .iter()
            .flat_map(|zone| zone.misses.iter().map(move |m| miss(zone.number, m, tz, units)))
            .collect(),
    }
}

questions! {
    facts OfProtocol {} -> Result<Report, NoReport>;
}

#[get("/sites/{id}/trial/protocol")]
async fn protocol_page(here: AtSite) -> Result<HttpResponse, PageError> {
    let facts = Arc::clone(&here.records);
    let found: Arc<Result<Report, NoReport>> = here
        .once(here.about(), OfProtocol {}, 20, move |_| {
            let site = &facts.site.site;
            let station = *facts.climate.station();
            let virtual_site =
                protocol::facts((*facts.climate).clone(), station, site.longitude_deg, &facts.tz);
            Ok(protocol::report(&virtual_site, None, Strategy::TABLE))
        })
        .await?;
    let (units, tz) = (here.records.units(), &here.records.tz);
    let (mut period, mut ways, mut refused) = (String::new(), Vec::new(), None);
    match &*found {
        Ok(report) => {
            let DateSpan { first: from, last: to } = report.period;
            period = format!(
                "{} to {} {}: the first thirty days of the record with enough of both, {} of rain and {} of ET0",
                short_date(from),
                short_date(to),
                to.year(),
                depth(units, report.weather.0),
                depth(units, report.weather.1)
            );
            ways = report.ways.iter().map(|way| way_line(way, tz, units)).collect();
        }
        Err(NoReport::NoPeriod) => {
            refused = Some(
                "No thirty days on end of the record have at least 10.2 mm (0.40 in) of rain and 63.5 mm (2.50 in) of ET0, \
                 without a gap. Bring more weather."
                    .to_owned(),
            );
        }
        Err(NoReport::Refused(refusals)) => {
            refused = Some(refusals.iter().map(words::refusal).collect::<Vec<_>>().join("; "));
        }
    }
    page(&ProtocolPage {
        frame: Frame::of_site(&here, "Six virtual zones", Chapter::Trial)?,
        site_id: here.id(),
        refused,
        period,
        zones: ZONES.map(str::to_owned).into(),
        ways,
    })
}

/// The six zones in short.
const ZONES: [&str; 6] = [
    "1 fescue in shade, loam",
    "2 bermuda, silty clay, 10 %",
    "3 ground cover, loamy sand",
    "4 shrubs, sandy loam, 12 %",
    "5 trees on drip, clay",
    "6 bermuda, clay, 20 %",
];
