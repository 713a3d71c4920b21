//! Which sites a day should go to: by need, as many as fit into its hours.

use super::asked::MOST_SITES;
use super::day::{question, stay_of};
use super::{back, keep, of_form};
use crate::page::dates::DateFormat;
use crate::page::quantities::counted;
use crate::server::error::PageError;
use crate::server::request_locale::off_loop;
use crate::server::session::{Fields, flash};
use crate::server::state::read;
use crate::site::context::AllSites;
use actix_web::{HttpResponse, post, web};
use jiff::civil::Date;
use upland_store::rounds::{SiteRow, ZoneMark};
use upland_store::routes::{RouteAsked, RouteSite};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(propose);
}

/// Days without a visit after which a site is due.
const LONG_DAYS: i32 = 60;

/// Whole days since a site was visited; `None` when it never was.
fn unvisited(row: &SiteRow, on: Date) -> Option<i32> {
    row.standing.last_visit.and_then(|last| last.until(on).ok()).map(|gone| gone.get_days())
}

/// What is to be done at a site, in a few words; empty when nothing is.
pub(super) fn because(row: &SiteRow, on: Date) -> String {
    let [faults, warnings, _] = row.notices;
    let dry = row.standing.zones.iter().filter(|mark| **mark == ZoneMark::Dry).count();
    let mut parts = Vec::new();
    if faults > 0 {
        parts.push(counted(usize::try_from(faults).unwrap_or(0), "fault"));
    }
    if row.standing.look_again.is_some_and(|due| due <= on) {
        let due = row.standing.look_again.map_or(String::new(), |due| due.formatted("%-d %b"));
        parts.push(format!("to look again since {due}"));
    }
    if dry > 0 && row.standing.record_ended.is_none() {
        parts.push(format!("{} dry", counted(dry, "zone")));
    }
    if row.standing.silent > 0 {
        let silent = usize::try_from(row.standing.silent).unwrap_or(0);
        parts.push(format!("{} not heard", counted(silent, "sensor")));
    }
    if warnings > 0 {
        parts.push(counted(usize::try_from(warnings).unwrap_or(0), "warning"));
    }
    match unvisited(row, on) {
        None => parts.push("never visited".to_owned()),
        Some(days) if days >= LONG_DAYS => parts.push(format!("not visited for {days} days")),
        Some(_) => {}
    }
    parts.join(", ")
}

/// How pressing a visit is, the highest first; nothing where no visit is due. What is broken or promised comes before what is
/// dry, and that before what is merely long ago.
fn pressing(row: &SiteRow, on: Date) -> Option<(bool, bool, usize, i32, i64, i32)> {
    let [faults, warnings, _] = row.notices;
    let due = row.standing.look_again.is_some_and(|due| due <= on);
    let current = row.standing.record_ended.is_none();
    let dry = row.standing.zones.iter().filter(|mark| current && **mark == ZoneMark::Dry).count();
    let gone = unvisited(row, on);
    let long = gone.is_none_or(|days| days >= LONG_DAYS);
    let any = faults > 0 || due || dry > 0 || row.standing.silent > 0 || warnings > 0 || long;
    any.then(|| {
        (
            faults > 0 && dry > 0,
            faults > 0 || due,
            dry,
            row.standing.silent,
            warnings,
            gone.unwrap_or(i32::MAX),
        )
    })
}

/// The sites that a day may go to, the most pressing first: those of who asks and of nobody.
pub(super) fn in_order(rows: &[SiteRow], user: i64, on: Date) -> Vec<i64> {
    let own = rows.iter().filter(|row| row.assigned.as_ref().is_none_or(|(id, _)| *id == user));
    let mut all: Vec<_> = own.filter_map(|row| Some((pressing(row, on)?, row.id.number()))).collect();
    all.sort_by_key(|(pressing, _)| std::cmp::Reverse(*pressing));
    all.into_iter().map(|(_, id)| id).take(MOST_SITES).collect()
}

/// The longest beginning of a list of sites of which nothing is left out.
pub(super) fn that_fit(asked: &RouteAsked, sites: &[RouteSite]) -> usize {
    let hours = f64::from(asked.until_min.saturating_sub(asked.from_min));
    let people = u32::try_from(asked.drivers.len()).map_or(1.0, f64::from);
    // Work alone says how many there can be at most.
    let mut work = 0.0;
    let most = sites.iter().take_while(|site| {
        work += stay_of(site, asked).0;
        work <= hours * people
    });
    let (mut fits, mut fails) = (0, most.count() + 1);
    while fits + 1 < fails {
        let middle = usize::midpoint(fits, fails);
        let tried = sites.get(..middle).unwrap_or_default();
        let placed = upland_route::plan(&question(asked, tried)).is_ok_and(|plan| plan.left_out.is_empty());
        if placed { fits = middle } else { fails = middle }
    }
    fits
}

/// Chooses the sites of a day by need.
#[post("/route/propose")]
async fn propose(here: AllSites, fields: Fields) -> Result<HttpResponse, PageError> {
    let known = of_form(&here, &fields).await?;
    let order = in_order(&known.rows, here.who.user.id, known.on);
    let scope = here.who.scope.clone();
    let sites = read(&here.state, move |snapshot| snapshot.route_sites(&scope, &order)).await?;
    let asked = RouteAsked { sites: vec![], stays: vec![], ..known.asked.clone() };
    let tried = asked.clone();
    let chosen = off_loop(move || {
        let fits = that_fit(&tried, &sites);
        sites.iter().take(fits).map(|site| site.id.number()).collect::<Vec<i64>>()
    })
    .await?;
    let words = match chosen.len() {
        0 => "No site needs a visit within these hours.".to_owned(),
        n => format!("{} proposed by need; the sites of others were left out.", counted(n, "site")),
    };
    keep(&here, known.on, RouteAsked { sites: chosen, ..asked }).await?;
    flash(&here.who.session, words, None)?;
    Ok(back(known.on))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::chapters::round::route::asked::empty;
    use crate::fixture;
    use jiff::civil::date;
    use upland_core::site::UnitSystem;
    use upland_core::site::card::SiteCard;
    use upland_store::rounds::SiteStanding;

    const TODAY: Date = date(2026, 7, 14);

    fn row(id: i64, notices: [i64; 3], standing: SiteStanding) -> SiteRow {
        SiteRow {
            id: fixture::key(id),
            name: format!("{id}"),
            customer: String::new(),
            locality: String::new(),
            tags: vec![],
            units: UnitSystem::Metric,
            assigned: None,
            at: None,
            standing: SiteStanding { last_visit: standing.last_visit.or(Some(date(2026, 7, 1))), ..standing },
            notices,
            off: 0,
            controllers: 1,
        }
    }

    #[test]
    fn what_is_broken_or_promised_comes_first_and_what_is_right_is_left_alone() {
        let plain = SiteStanding::default;
        let rows = [
            row(1, [0, 0, 3], plain()),
            row(2, [0, 1, 0], plain()),
            row(3, [1, 0, 0], plain()),
            row(4, [0, 0, 0], SiteStanding { look_again: Some(date(2026, 7, 12)), ..plain() }),
            row(5, [0, 0, 0], SiteStanding { zones: vec![ZoneMark::Dry], ..plain() }),
            row(6, [0, 0, 0], SiteStanding { last_visit: Some(date(2026, 3, 1)), ..plain() }),
            row(7, [0, 0, 0], SiteStanding { look_again: Some(date(2026, 7, 15)), ..plain() }),
            SiteRow { assigned: Some((9, "Wren".into())), ..row(8, [9, 0, 0], plain()) },
            row(10, [1, 0, 0], SiteStanding { zones: vec![ZoneMark::Dry], ..plain() }),
        ];
        assert_eq!(in_order(&rows, 1, TODAY), [10, 3, 4, 5, 2, 6]);
        assert_eq!(because(&rows[3], TODAY), "to look again since 12 Jul");
        assert_eq!(because(&rows[5], TODAY), "not visited for 135 days");
        assert_eq!(because(&rows[8], TODAY), "1 fault, 1 zone dry");
        assert_eq!(because(&rows[0], TODAY), "");
    }

    #[test]
    fn as_many_are_proposed_as_the_hours_hold() {
        let site = |number: i64| RouteSite {
            id: fixture::key(number),
            name: format!("{number}"),
            card: SiteCard::default(),
            latitude_deg: 54.0,
            #[allow(clippy::cast_precision_loss)]
            longitude_deg: number as f64 * 0.01,
            zones: 15,
            usual_minutes: None,
        };
        let sites: Vec<RouteSite> = (1..=12).map(site).collect();
        // An hour on each of them and a minute or so between: three hours hold two, with one person; four with two.
        let asked = RouteAsked { from_min: 480, until_min: 660, ..empty("Bram") };
        let alone = that_fit(&asked, &sites);
        assert_eq!(alone, 2);
        let two = RouteAsked { drivers: vec!["Bram".into(), "Wren".into()], ..asked.clone() };
        assert_eq!(that_fit(&two, &sites), 4);
        assert_eq!(that_fit(&RouteAsked { until_min: 490, ..asked }, &sites), 0);
    }
}
