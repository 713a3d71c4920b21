//! A day's route: which sites, in which order, when one is there. The sites are ticked in the list or proposed by need; what
//! was asked is kept by person and day, and the order is worked out from it whenever it is looked at.

mod asked;
mod day;
mod map;
mod out;
mod propose;

use crate::page::dates::{DateFormat, typed_date};
use crate::page::forms::{FieldError, Form};
use crate::page::frame::Frame;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::request_locale::off_loop;
use crate::server::session::{Fields, flash};
use crate::server::state::{read, with_store};
use crate::site::clock::asked_day;
use crate::site::context::AllSites;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use asked::{MOST_SITES, Refused};
use day::{Day, RouteLines, Said, ordered, stay_of};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use map::Map;
use std::collections::BTreeMap;
use upland_core::site::UnitSystem;
use upland_core::weather::record::distance_km;
use upland_store::rounds::SiteRow;
use upland_store::routes::{RouteAsked, RouteSite};

/// Hour from which a route is for tomorrow unless a day is named.
const OVER: i8 = 16;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(route_page).service(save).service(take).configure(propose::routes).configure(out::routes);
}

/// What a page or a file of a day begins with.
struct Known {
    pub on: Date,
    pub asked: RouteAsked,
    pub tz: TimeZone,
    /// The sites of the person, as the round has them.
    pub rows: Vec<SiteRow>,
    pub units: UnitSystem,
}

#[derive(serde::Deserialize)]
pub(super) struct DayQuery {
    day: Option<String>,
}

impl Known {
    /// The day that is asked for, as it was asked by who looks.
    pub async fn of(here: &AllSites, query: &DayQuery) -> Result<Self, PageError> {
        let (user, scope, now) = (here.who.user.id, here.who.scope.clone(), here.who.now);
        let usual = scope.clone();
        let zone = read(&here.state, move |snapshot| snapshot.usual_time_zone(&usual)).await?;
        let tz = zone.and_then(|zone| TimeZone::get(&zone).ok()).unwrap_or(TimeZone::UTC);
        let clock = now.to_zoned(tz.clone());
        let today = clock.date();
        // Once the working day is over the next one is planned.
        let next = if clock.hour() >= OVER { today.tomorrow().unwrap_or(today) } else { today };
        let on = asked_day(query.day.as_deref(), today)?.unwrap_or(next);
        let (asked, last, rows) = read(&here.state, move |snapshot| {
            Ok((snapshot.day_route(user, on)?, snapshot.last_route(user)?, snapshot.round_sites(&scope)?))
        })
        .await?;
        let name = here.who.user.display_name.as_str();
        // A new day begins where the last one did.
        let begun = || match last {
            Some(last) => RouteAsked { sites: vec![], stays: vec![], orders: vec![], ..last },
            None => asked::empty(name),
        };
        let units = super::sites::usual_units(&rows);
        Ok(Self { on, asked: asked.unwrap_or_else(begun), tz, rows, units })
    }

    /// What is to be done at each of the sites, in a few words.
    pub fn why(&self) -> BTreeMap<i64, String> {
        self.rows.iter().map(|row| (row.id.number(), propose::because(row, self.on))).collect()
    }

    /// The sites of the day in the order in which they were chosen.
    async fn sites(&self, here: &AllSites) -> Result<Vec<RouteSite>, PageError> {
        let (scope, sites) = (here.who.scope.clone(), self.asked.sites.clone());
        read(&here.state, move |snapshot| snapshot.route_sites(&scope, &sites)).await
    }

    /// The day in the order that was kept.
    async fn day(&self, here: &AllSites) -> Result<Day, PageError> {
        Ok(Day::of(&self.asked, self.sites(here).await?))
    }
}

/// A site of the day as its form shows it.
struct ChosenLine {
    id: i64,
    name: String,
    because: String,
    usual: String,
    minutes: String,
    at: String,
    error: String,
    left_out: bool,
}

#[derive(Template)]
#[template(path = "chapters/round/route/route.html")]
struct RoutePage {
    frame: Frame,
    day: String,
    long_day: String,
    lead: String,
    form: Form,
    chosen: Vec<ChosenLine>,
    routes: Vec<RouteLines>,
    map: Option<Map>,
    left_out: Vec<String>,
    may_propose: bool,
    /// The sites, for a phone that takes their pages along.
    along: String,
}

#[get("/route")]
async fn route_page(here: AllSites, query: web::Query<DayQuery>) -> Result<HttpResponse, PageError> {
    let known = Known::of(&here, &query).await?;
    draw(&here, &known, None).await
}

/// The day's page; with what was typed and refused where something was.
async fn draw(
    here: &AllSites,
    known: &Known,
    refused: Option<(&Fields, Refused)>,
) -> Result<HttpResponse, PageError> {
    let (typed, faults) = match refused {
        Some((fields, faults)) => (Some(fields), faults),
        None => (None, Refused { fields: Vec::<FieldError>::new(), stays: BTreeMap::new() }),
    };
    let texts = typed.map_or_else(|| asked::texts(&known.asked, known.units), |fields| fields.0.clone());
    let day = known.day(here).await?;
    let why = known.why();
    let said = Said { asked: &known.asked, why: &why, on: known.on, units: known.units };
    let sites = &day.sites;
    let left_out: Vec<i64> =
        day.plan.left_out.iter().filter_map(|at| sites.get(*at)).map(|site| site.id.number()).collect();
    let text = |name: String| texts.get(&name).cloned().unwrap_or_default();
    let line = |site: &RouteSite| {
        let id = site.id.number();
        let plain = RouteAsked { stays: vec![], ..known.asked.clone() };
        ChosenLine {
            id,
            name: site.name.clone(),
            because: why.get(&id).cloned().unwrap_or_default(),
            usual: format!("{:.0}", stay_of(site, &plain).0),
            minutes: text(format!("min-{id}")),
            at: text(format!("at-{id}")),
            error: faults.stays.get(&id).cloned().unwrap_or_default(),
            left_out: left_out.contains(&id),
        }
    };
    let names =
        sites.iter().filter(|site| left_out.contains(&site.id.number())).map(|site| site.name.clone());
    let names: Vec<String> = names.collect();
    let is_wrong = !faults.fields.is_empty() || !faults.stays.is_empty();
    page_with(
        if is_wrong { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK },
        &RoutePage {
            frame: Frame::new(&here.who, "Route of the day")?,
            day: typed_date(known.on),
            long_day: known.on.formatted("%A %-d %B"),
            lead: lead(known, &day),
            form: asked::form(known.units, &texts, &faults.fields),
            along: sites.iter().map(|site| site.id.number().to_string()).collect::<Vec<_>>().join(" "),
            chosen: sites.iter().map(line).collect(),
            routes: said.routes(&day),
            map: Map::of(&day, &known.asked, known.units),
            left_out: names,
            may_propose: !known.rows.is_empty(),
        },
    )
}

/// "8 sites, 2 h 10 min on the road." or what to do first.
fn lead(known: &Known, day: &Day) -> String {
    use crate::page::quantities::{counted, span};
    if known.rows.is_empty() {
        return "There is no site yet.".to_owned();
    }
    if day.sites.is_empty() {
        return "No site is chosen yet: let the round propose some, or tick them in the list of sites."
            .to_owned();
    }
    let placed = day.sites.len() - day.plan.left_out.len();
    format!("{}, {} on the road.", counted(placed, "site"), span(day.plan.driving_min()))
}

/// The day that a form is about.
async fn of_form(here: &AllSites, fields: &Fields) -> Result<Known, PageError> {
    let query = DayQuery { day: Some(fields.get("day").to_owned()) };
    Known::of(here, &query).await
}

fn back(on: Date) -> HttpResponse {
    see_other(&format!("/route?day={on}"))
}

/// Finds the order of what is asked, and keeps both.
async fn keep(here: &AllSites, on: Date, asked: RouteAsked) -> Result<(), PageError> {
    let (user, scope, sites) = (here.who.user.id, here.who.scope.clone(), asked.sites.clone());
    let sites = read(&here.state, move |snapshot| snapshot.route_sites(&scope, &sites)).await?;
    let asked = off_loop(move || ordered(asked, &sites)).await?.map_err(|error| {
        PageError::BadRequest(format!(
            "The order could not be worked out: {error}. Change the sites or the hours."
        ))
    })?;
    with_store(&here.state, move |store| store.keep_route(user, on, &asked)).await
}

/// Keeps what is asked of a day: hours, ends, roads, and the sites that stay ticked.
#[post("/route")]
async fn save(here: AllSites, fields: Fields) -> Result<HttpResponse, PageError> {
    let known = of_form(&here, &fields).await?;
    let stay = |id: &i64| fields.get(&format!("s-{id}")) == "1";
    let sites: Vec<i64> = known.asked.sites.iter().copied().filter(stay).collect();
    let places = known.sites(&here).await?;
    let far = |[latitude, longitude]: [f64; 2]| {
        let km =
            places.iter().map(|site| distance_km(latitude, longitude, site.latitude_deg, site.longitude_deg));
        km.min_by(f64::total_cmp)
    };
    match asked::read(&fields, known.units, sites, far) {
        Ok(asked) => {
            keep(&here, known.on, asked).await?;
            Ok(back(known.on))
        }
        Err(refused) => draw(&here, &known, Some((&fields, refused))).await,
    }
}

/// Adds the sites that were ticked in the list to the next route.
#[post("/route/take")]
async fn take(here: AllSites, fields: Fields) -> Result<HttpResponse, PageError> {
    let chosen = super::many::chosen(&here, &fields)?;
    let known = Known::of(&here, &DayQuery { day: None }).await?;
    let mut asked = known.asked;
    let before = asked.sites.len();
    for site in chosen.iter().map(|site| site.number()) {
        if !asked.sites.contains(&site) {
            asked.sites.push(site);
        }
    }
    if asked.sites.len() > MOST_SITES {
        return Err(PageError::BadRequest(format!(
            "A route takes at most {MOST_SITES} sites, and these would be {}. Tick fewer.",
            asked.sites.len()
        )));
    }
    let added = crate::page::quantities::counted(asked.sites.len() - before, "site");
    keep(&here, known.on, asked).await?;
    flash(&here.who.session, format!("{added} added to the route."), None)?;
    Ok(back(known.on))
}
