//! Today: what each zone gets tonight, and because of what.

mod drawings;
mod ribbon;
mod view;
mod working;

use crate::error::{PageError, page};
use crate::pages::{Chapter, Frame};
use crate::session::SignedIn;
use crate::sites::load;
use crate::state::{AppState, db_with_climates};
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::sync::Arc;
use upland_core::climate::Climate;
use upland_core::tonight::{Tonight, tonight};
use upland_store::sites::SiteRecord;
use upland_store::zones::ZoneRecord;

/// A record that ended longer ago than this opens on its last day instead of today.
const STALE_DAYS: i32 = 7;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(today_page);
}

#[derive(serde::Deserialize)]
pub(crate) struct DateQuery {
    date: Option<String>,
}

/// A site's night with everything it was decided from.
pub(crate) struct Decided {
    pub site: SiteRecord,
    pub zones: Vec<ZoneRecord>,
    pub climate: Arc<Climate>,
    pub night: Tonight,
    /// The record ended a while ago, so the page opened on its last day.
    pub opened_on_last_day: bool,
}

/// The date a page is about: the one asked for, else today, else the last day of an old record.
fn choose_date(asked: Option<Date>, climate: &Climate, today: Date) -> (Date, bool) {
    match (asked, climate.span()) {
        (Some(date), _) => (date, false),
        (None, Some((_, last))) if (today - last).get_days() > STALE_DAYS => (last, true),
        _ => (today, false),
    }
}

/// Loads a site and decides its night.
pub(crate) async fn decide(
    state: &web::Data<AppState>,
    id: i64,
    query: &DateQuery,
) -> Result<Decided, PageError> {
    let asked = match query.date.as_deref() {
        None | Some("") => None,
        Some(text) => Some(text.parse::<Date>().map_err(|_| {
            PageError::BadRequest(format!("\"{text}\" is not a date written YYYY-MM-DD."))
        })?),
    };
    if asked.is_some_and(|date| !(1900..=2200).contains(&date.year())) {
        return Err(PageError::BadRequest("The date lies outside 1900 to 2200.".into()));
    }
    let (site, zones) = load(state, id).await?;
    db_with_climates(state, move |state, _| {
        let climate = state.climate(&site)?;
        // The survey admits only names of the list; UTC stands in should the list lose one.
        let tz = TimeZone::get(&site.site.time_zone).unwrap_or(TimeZone::UTC);
        let today = Timestamp::now().to_zoned(tz.clone()).date();
        let (date, opened_on_last_day) = choose_date(asked, &climate, today);
        let survey: Vec<_> = zones.iter().map(|z| z.zone.clone()).collect();
        let night = tonight(&site.site, &survey, &climate, date, &tz);
        Ok(Decided { site, zones, climate, night, opened_on_last_day })
    })
    .await
}

#[derive(Template)]
#[template(path = "today/today.html")]
struct TodayPage {
    frame: Frame,
    site_id: i64,
    view: view::TodayView,
    ribbon: ribbon::Ribbon,
    previous_day: Date,
    next_day: Date,
}

#[get("/sites/{id}/today")]
async fn today_page(
    state: web::Data<AppState>,
    who: SignedIn,
    id: web::Path<i64>,
    query: web::Query<DateQuery>,
) -> Result<HttpResponse, PageError> {
    let decided = decide(&state, *id, &query).await?;
    let date = decided.night.date;
    let mut frame = Frame::of_site(
        &who,
        format!("{}: tonight", decided.site.site.name),
        &decided.site,
        &decided.zones,
        Chapter::Today,
    )?;
    frame.here = format!("/sites/{}/today?date={date}", decided.site.id);
    page(&TodayPage {
        frame,
        site_id: decided.site.id,
        view: view::build(&decided),
        ribbon: ribbon::build(&decided.climate, date, decided.site.site.units),
        previous_day: date.checked_sub(1.day()).unwrap_or(date),
        next_day: date.checked_add(1.day()).unwrap_or(date),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use upland_core::units::{Celsius, Metres};
    use upland_core::weather::{DayWeather, Station};

    #[test]
    fn an_old_record_opens_on_its_last_day() {
        let station = Station {
            latitude_deg: 46.0,
            longitude_deg: -30.0,
            elevation: Metres::from_m(1040.0),
            wind_height: Metres::from_m(2.0),
        };
        let days = [DayWeather::from_temperatures(date(2026, 7, 14), Celsius::from_c(9.0), Celsius::from_c(22.0))];
        let climate = Climate::from_record(&days, station);
        assert_eq!(choose_date(None, &climate, date(2026, 11, 23)), (date(2026, 7, 14), true));
        assert_eq!(choose_date(None, &climate, date(2026, 7, 16)), (date(2026, 7, 16), false));
        assert_eq!(choose_date(Some(date(2025, 1, 1)), &climate, date(2026, 7, 16)).0, date(2025, 1, 1));
    }
}
