//! A day as the search has it, its answer with times of the wall clock, and where each stop lies on the drawing.

use super::asked::distance;
use crate::page::dates::DateFormat;
use crate::page::quantities::span;
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use upland_core::quantity::time::instant;
use upland_core::site::UnitSystem;
use upland_formats::route_files::{StopRow, read_minutes};
use upland_route::{Driver, Legs, Pace, Plan, Question, Route, Spot, Stop, Visit, Window, plan, timed};
use upland_store::routes::{RouteAsked, RouteSite};

/// Minutes on site where nothing is known of earlier visits: walking there, the controller, and each zone once.
const STAY_MIN: f64 = 15.0;
const STAY_PER_ZONE_MIN: f64 = 3.0;
/// How late an appointment may begin, minutes.
const GRACE_MIN: f64 = 10.0;

/// Minutes that are planned on a site, and where they come from.
pub(super) fn stay_of(site: &RouteSite, asked: &RouteAsked) -> (f64, &'static str) {
    let typed = asked.stays.iter().find(|stay| stay.site == site.id.number()).and_then(|stay| stay.minutes);
    match (typed, site.usual_minutes) {
        (Some(minutes), _) => (f64::from(minutes), "typed"),
        (None, Some(usual)) => (usual.round().max(1.0), "as earlier visits took"),
        (None, None) => (STAY_PER_ZONE_MIN.mul_add(zones(site), STAY_MIN), "15 min and 3 for each zone"),
    }
}

#[allow(clippy::cast_precision_loss)]
fn zones(site: &RouteSite) -> f64 {
    site.zones as f64
}

/// The question of a day: the stops, then start and end.
pub(super) fn question(asked: &RouteAsked, sites: &[RouteSite]) -> Question {
    let spot = |[latitude_deg, longitude_deg]: [f64; 2]| Spot { latitude_deg, longitude_deg };
    let mut spots: Vec<Spot> = sites.iter().map(|s| spot([s.latitude_deg, s.longitude_deg])).collect();
    let mut place = |at: Option<[f64; 2]>| {
        at.map(|at| {
            spots.push(spot(at));
            spots.len() - 1
        })
    };
    let (start, end) = (place(asked.start), place(asked.end));
    let mut legs = Legs::between(&spots, Pace { detour: asked.detour, km_per_h: asked.km_per_h });
    let named: BTreeMap<String, usize> = sites
        .iter()
        .enumerate()
        .map(|(at, site)| (site.name.to_lowercase(), at))
        .chain(start.map(|at| ("start".to_owned(), at)))
        .chain(end.map(|at| ("end".to_owned(), at)))
        .collect();
    // Both ways first, so that a line of its own for the way back counts.
    let known = read_minutes(&asked.table).unwrap_or_default();
    let ends = |line: &upland_formats::route_files::DriveLine| {
        Some((*named.get(&line.from.to_lowercase())?, *named.get(&line.to.to_lowercase())?))
    };
    for (line, (from, to)) in known.iter().filter_map(|line| Some((line, ends(line)?))) {
        legs.set_minutes(to, from, line.minutes);
    }
    for (line, (from, to)) in known.iter().filter_map(|line| Some((line, ends(line)?))) {
        legs.set_minutes(from, to, line.minutes);
    }
    let hours = Window { from_min: f64::from(asked.from_min), until_min: f64::from(asked.until_min) };
    let appointment = |site: &RouteSite| {
        let own = asked.stays.iter().find(|stay| stay.site == site.id.number())?;
        let from_min = f64::from(own.appointment_min?);
        Some(Window { from_min, until_min: from_min + GRACE_MIN })
    };
    Question {
        stops: sites
            .iter()
            .map(|site| Stop { on_site_min: stay_of(site, asked).0, appointment: appointment(site) })
            .collect(),
        drivers: asked.drivers.iter().map(|_| Driver { start, end, hours }).collect(),
        legs,
    }
}

/// Finds the order of a day: what is kept with what was asked.
pub(super) fn ordered(asked: RouteAsked, sites: &[RouteSite]) -> Result<RouteAsked, upland_route::Unsolved> {
    let plan = plan(&question(&asked, sites))?;
    let number = |stop: usize| sites.get(stop).map(|site| site.id.number());
    let orders = plan.orders().into_iter().map(|order| order.into_iter().filter_map(number).collect());
    Ok(RouteAsked { orders: orders.collect(), ..asked })
}

/// A day with its times.
pub(super) struct Day {
    pub sites: Vec<RouteSite>,
    pub plan: Plan,
}

impl Day {
    /// The day in the order that was found for it.
    pub fn of(asked: &RouteAsked, sites: Vec<RouteSite>) -> Self {
        let place = |number: &i64| sites.iter().position(|site| site.id.number() == *number);
        let orders: Vec<Vec<usize>> =
            asked.orders.iter().map(|order| order.iter().filter_map(place).collect()).collect();
        let plan = timed(&question(asked, &sites), &orders);
        Self { sites, plan }
    }

    /// The stops as they go out in files.
    pub fn rows(
        &self,
        asked: &RouteAsked,
        why: &BTreeMap<i64, String>,
        on: Date,
        tz: &TimeZone,
    ) -> Vec<StopRow> {
        let mut rows = Vec::new();
        for (route, driver) in self.plan.routes.iter().zip(&asked.drivers) {
            for (place, visit) in route.visits.iter().enumerate() {
                let Some(site) = self.sites.get(visit.stop) else { continue };
                rows.push(StopRow {
                    driver: driver.clone(),
                    place: place + 1,
                    site: site.name.clone(),
                    address: address(site),
                    latitude_deg: site.latitude_deg,
                    longitude_deg: site.longitude_deg,
                    begins: at(on, visit.begins_min, tz),
                    leaves: at(on, visit.leaves_min, tz),
                    drive_min: visit.drive.minutes,
                    drive_km: visit.drive.km,
                    because: why.get(&site.id.number()).cloned().unwrap_or_default(),
                });
            }
        }
        rows
    }
}

/// Where a site is, in words; its coordinates where nobody typed an address.
pub(super) fn address(site: &RouteSite) -> String {
    let parts: Vec<&str> = [&site.card.street, &site.card.locality]
        .into_iter()
        .map(String::as_str)
        .filter(|p| !p.is_empty())
        .collect();
    if parts.is_empty() {
        format!("{:.5}, {:.5}", site.latitude_deg, site.longitude_deg)
    } else {
        parts.join(", ")
    }
}

/// An instant of the day by minutes after midnight, to the minute.
fn at(on: Date, minutes: f64, tz: &TimeZone) -> Timestamp {
    #[allow(clippy::cast_possible_truncation)]
    let whole = minutes.round() as i64;
    instant(on, Time::midnight(), tz) + SignedDuration::from_mins(whole)
}

/// A stop as the page shows it.
pub(super) struct StopLine {
    pub place: usize,
    pub id: i64,
    pub name: String,
    pub customer: String,
    pub address: String,
    pub geo: String,
    /// A number that is dialled, and whose it is.
    pub call: Option<(String, String)>,
    pub drive: String,
    pub arrives: String,
    pub leaves: String,
    pub waits: String,
    pub stay: String,
    pub because: String,
}

/// The day of a driver as the page shows it.
pub(super) struct RouteLines {
    pub driver: String,
    pub class: &'static str,
    pub headline: String,
    pub stops: Vec<StopLine>,
    pub home: String,
}

/// Classes of the drivers' lines, told apart by dash as well as by colour.
const CLASSES: [&str; 6] = ["one", "two", "three", "four", "five", "six"];

pub(super) fn class_of(driver: usize) -> &'static str {
    CLASSES.get(driver % CLASSES.len()).copied().unwrap_or("one")
}

fn clock(on: Date, minutes: f64) -> String {
    at(on, minutes, &TimeZone::UTC).to_zoned(TimeZone::UTC).formatted("%H:%M")
}

/// What the page says of a day.
pub(super) struct Said<'a> {
    pub asked: &'a RouteAsked,
    pub why: &'a BTreeMap<i64, String>,
    pub on: Date,
    pub units: UnitSystem,
}

impl Said<'_> {
    fn stop(&self, day: &Day, place: usize, visit: &Visit) -> Option<StopLine> {
        let site = day.sites.get(visit.stop)?;
        let waits = visit.begins_min - visit.arrives_min;
        let contact = site.card.contacts.first();
        let (minutes, from) = stay_of(site, self.asked);
        Some(StopLine {
            place: place + 1,
            id: site.id.number(),
            name: site.name.clone(),
            customer: site.card.customer.clone(),
            address: address(site),
            geo: format!("geo:{:.5},{:.5}", site.latitude_deg, site.longitude_deg),
            call: contact
                .map(|c| (c.dialled(), if c.name.is_empty() { c.telephone.clone() } else { c.name.clone() })),
            drive: format!("{}, {}", span(visit.drive.minutes), distance(self.units, visit.drive.km)),
            arrives: clock(self.on, visit.begins_min),
            leaves: clock(self.on, visit.leaves_min),
            waits: if waits >= 1.0 {
                format!("waits {} for the appointment", span(waits))
            } else {
                String::new()
            },
            stay: format!("{} planned ({from})", span(minutes)),
            because: self.why.get(&site.id.number()).cloned().unwrap_or_default(),
        })
    }

    fn route(&self, day: &Day, number: usize, route: &Route) -> RouteLines {
        let stops = route
            .visits
            .iter()
            .enumerate()
            .filter_map(|(place, visit)| self.stop(day, place, visit))
            .collect();
        let headline = if route.visits.is_empty() {
            "No site.".to_owned()
        } else {
            format!(
                "Leaves {}, done {}: {} on the road, {}.",
                clock(self.on, route.leaves_min),
                clock(self.on, route.ends_min),
                span(route.driving_min()),
                distance(self.units, route.km()),
            )
        };
        let home = if self.asked.end.is_some() && !route.visits.is_empty() {
            format!("{} to the end, there {}", span(route.home.minutes), clock(self.on, route.ends_min))
        } else {
            String::new()
        };
        let driver = self.asked.drivers.get(number).cloned().unwrap_or_default();
        RouteLines { driver, class: class_of(number), headline, stops, home }
    }

    /// The days of all drivers.
    pub fn routes(&self, day: &Day) -> Vec<RouteLines> {
        day.plan.routes.iter().enumerate().map(|(number, route)| self.route(day, number, route)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::chapters::round::route::asked::empty;
    use crate::fixture;
    use jiff::civil::date;
    use upland_core::site::card::SiteCard;
    use upland_store::routes::StayAsked;

    fn site(number: i64, name: &str, longitude_deg: f64) -> RouteSite {
        RouteSite {
            id: fixture::key(number),
            name: name.into(),
            card: SiteCard::default(),
            latitude_deg: 54.0,
            longitude_deg,
            zones: 5,
            usual_minutes: None,
        }
    }

    #[test]
    fn a_stay_is_typed_or_learned_or_counted_by_zones() {
        let asked = RouteAsked {
            stays: vec![StayAsked { site: 1, minutes: Some(45), appointment_min: None }],
            ..empty("Bram")
        };
        let usual = RouteSite { usual_minutes: Some(22.4), ..site(2, "b", 0.0) };
        assert_eq!(stay_of(&site(1, "a", 0.0), &asked).0, 45.0);
        assert_eq!(stay_of(&usual, &asked).0, 22.0);
        assert_eq!(stay_of(&site(3, "c", 0.0), &asked).0, 30.0);
    }

    #[test]
    fn known_minutes_replace_the_crow_both_ways_and_a_line_back_counts() {
        let asked = RouteAsked {
            start: Some([54.0, 0.0]),
            table: "Start,a,9\na,b,5\nb,a,7\nnowhere,a,1".into(),
            ..empty("Bram")
        };
        let legs = question(&asked, &[site(1, "A", 0.1), site(2, "b", 0.2)]).legs;
        let minutes = |from, to| legs.drive(from, to).minutes;
        assert_eq!([minutes(2, 0), minutes(0, 2), minutes(0, 1), minutes(1, 0)], [9.0, 9.0, 5.0, 7.0]);
        assert!(minutes(2, 1) > 10.0, "13 km as the crow flies");
    }

    #[test]
    fn a_day_is_told_by_the_wall_clock_and_goes_out_in_universal_time() {
        let asked = RouteAsked { sites: vec![1, 2], start: Some([54.0, 0.0]), ..empty("Bram") };
        let sites = vec![site(1, "Far", 0.4), site(2, "Near", 0.2)];
        let asked = ordered(asked, &sites).unwrap();
        assert_eq!(asked.orders, [[2, 1]]);
        let day = Day::of(&asked, sites);
        let why = BTreeMap::from([(2, "2 faults".to_owned())]);
        let said = Said { asked: &asked, why: &why, on: date(2026, 7, 14), units: UnitSystem::Metric };
        let routes = said.routes(&day);
        let names: Vec<&str> = routes[0].stops.iter().map(|stop| stop.name.as_str()).collect();
        assert_eq!(names, ["Near", "Far"], "the near one lies on the way");
        assert_eq!(routes[0].stops[0].because, "2 faults");
        // 13.1 km as the crow flies, 17.0 by road, 25 minutes at 40 km/h.
        assert_eq!(routes[0].stops[0].arrives, "07:25");
        let tz = TimeZone::get("Etc/GMT-2").unwrap();
        let rows = day.rows(&asked, &why, date(2026, 7, 14), &tz);
        assert_eq!(rows[0].begins.to_string(), "2026-07-14T05:25:00Z");
    }
}
