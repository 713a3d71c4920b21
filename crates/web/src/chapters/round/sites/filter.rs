//! Which sites the list shows, and in which order: all of it in the address, so that a view can be kept and shared.

use super::holds;
use crate::server::address;
use crate::server::error::PageError;
use jiff::civil::Date;
use serde::Deserialize;
use upland_core::quantity::units::Millimetres;
use upland_core::site::UnitSystem;
use upland_store::rounds::{SiteRow, ZoneMark};

/// Days of rain that are asked about when none are named: the night and the day before.
const RAIN_DAYS: usize = 2;

/// What the list is asked for, as its address says it.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(default)]
pub(super) struct Listing {
    /// Words of name, customer, locality or tags.
    pub words: String,
    pub tag: String,
    /// Name of a controller type, or of an ordinance.
    pub controller: String,
    pub ordinance: String,
    /// Identity of a person, `none` for sites of nobody, empty for any.
    pub assigned: String,
    /// `attention`, `dry`, `wet`, `silent`, `ended`, `percentage`; empty for all.
    pub only: String,
    /// Rain above so much, in the unit that `unit` names.
    pub rain: String,
    /// Of the last so many days.
    pub days: String,
    pub unit: String,
    /// Not visited for so many days.
    pub unvisited: String,
    /// `need`, `name`, `rain`, `visit`, `percentage`.
    pub sort: String,
    pub page: Option<String>,
}

/// A view of the list that is one press away.
pub(super) const VIEWS: [(&str, &str); 7] = [
    ("", "All"),
    ("attention", "Faults and warnings"),
    ("dry", "Dry"),
    ("wet", "Wet"),
    ("percentage", "Percentage off"),
    ("silent", "Silent sensors"),
    ("ended", "Record ended"),
];

/// Orders of the list.
pub(super) const SORTS: [(&str, &str); 5] = [
    ("need", "by need"),
    ("name", "by name"),
    ("rain", "by rain"),
    ("visit", "by last visit"),
    ("percentage", "by percentage"),
];

/// The numbers of a listing, once they were read.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(super) struct Limits {
    rain: Option<Millimetres>,
    /// Days of rain that are asked about and shown.
    pub days: usize,
    unvisited: Option<i32>,
}

impl Listing {
    /// Reads the numbers.
    ///
    /// # Errors
    /// What is no number, with what would do.
    pub fn limits(&self) -> Result<Limits, PageError> {
        let refuse = |what: &str, typed: &str, would: &str| {
            PageError::BadRequest(format!("{what} \"{typed}\" is not understood; type {would}."))
        };
        let number = |what: &str, typed: &str, would: &str| match typed.trim() {
            "" => Ok(None),
            typed => match upland_formats::typed::number(typed) {
                Ok(value) if (0.0..=10_000.0).contains(&value) => Ok(Some(value)),
                _ => Err(refuse(what, typed, would)),
            },
        };
        let whole = |what: &str, typed: &str| match typed.trim() {
            "" => Ok(None),
            typed => match typed.parse::<i32>() {
                Ok(days) if (1..=3650).contains(&days) => Ok(Some(days)),
                _ => Err(refuse(what, typed, "a number of days, such as 14")),
            },
        };
        let rain = number("The rain", &self.rain, "a depth, such as 12 or 0.5")?;
        let depth = if self.unit == "in" { Millimetres::from_inches } else { Millimetres::from_mm };
        let days = whole("The days of rain", &self.days)?.and_then(|days| usize::try_from(days).ok());
        Ok(Limits {
            rain: rain.map(depth),
            days: days.unwrap_or(RAIN_DAYS),
            unvisited: whole("The days without a visit", &self.unvisited)?,
        })
    }

    /// Whether a site is left when the list is narrowed, whatever the view.
    pub fn keeps(&self, site: &SiteRow, limits: Limits, today: Date) -> bool {
        let of_person = match self.assigned.as_str() {
            "" => true,
            "none" => site.assigned.is_none(),
            id => site.assigned.as_ref().is_some_and(|(own, _)| own.to_string() == id),
        };
        let rained = limits.rain.is_none_or(|least| rain(site, limits.days).is_some_and(|fell| fell > least));
        let unvisited = limits.unvisited.is_none_or(|days| {
            let last = site.standing.last_visit;
            last.is_none_or(|on| on.until(today).is_ok_and(|gone| gone.get_days() >= days))
        });
        let among = |asked: &String, own: &[String]| asked.is_empty() || own.contains(asked);
        let standing = &site.standing;
        let listed = among(&self.tag, &site.tags)
            && among(&self.controller, &standing.controller_types)
            && among(&self.ordinance, &standing.ordinances);
        of_person && rained && unvisited && listed && (self.words.is_empty() || self.names(site))
    }

    /// Whether name, customer, town and tags of a site hold the words.
    fn names(&self, site: &SiteRow) -> bool {
        let named = format!("{} {} {} {}", site.name, site.customer, site.locality, site.tags.join(" "));
        holds(&named, &self.words.to_lowercase())
    }

    /// Puts sites in the order that was asked for; what is alike stays by name.
    pub fn sort(&self, sites: &mut [&SiteRow], limits: Limits) {
        match self.sort.as_str() {
            "name" => {}
            "rain" => sites.sort_by(|a, b| {
                let of = |site: &SiteRow| rain(site, limits.days).map_or(-1.0, Millimetres::mm);
                of(b).total_cmp(&of(a))
            }),
            "visit" => sites.sort_by_key(|site| site.standing.last_visit),
            "percentage" => sites.sort_by_key(|site| std::cmp::Reverse(site.off)),
            _ => sites.sort_by_key(|site| std::cmp::Reverse(need(site))),
        }
    }

    /// The address of the same list with one thing else.
    pub fn with(&self, name: &str, value: &str) -> String {
        let own = [
            ("only", self.only.as_str()),
            ("words", self.words.as_str()),
            ("tag", self.tag.as_str()),
            ("controller", self.controller.as_str()),
            ("ordinance", self.ordinance.as_str()),
            ("assigned", self.assigned.as_str()),
            ("rain", self.rain.as_str()),
            ("unit", if self.rain.is_empty() { "" } else { self.unit.as_str() }),
            ("days", self.days.as_str()),
            ("unvisited", self.unvisited.as_str()),
            ("sort", self.sort.as_str()),
            ("page", ""),
        ];
        let pairs = own.map(|(key, kept)| (key, if key == name { value } else { kept }));
        let pairs = pairs.iter().filter(|(_, value)| !value.is_empty());
        let query: Vec<String> =
            pairs.map(|(key, value)| format!("{key}={}", address::encoded(value))).collect();
        if query.is_empty() { "/".to_owned() } else { format!("/?{}", query.join("&")) }
    }

    /// Whether anything narrows the list beside the view.
    pub fn is_narrowed(&self) -> bool {
        [&self.tag, &self.controller, &self.ordinance, &self.assigned, &self.rain, &self.unvisited]
            .iter()
            .any(|own| !own.is_empty())
            || !matches!(self.sort.as_str(), "" | "need")
    }
}

/// Whether a site is in a view, by the short name of that.
pub(super) fn in_view(only: &str, site: &SiteRow) -> bool {
    let standing = &site.standing;
    match only {
        "attention" => grave(site) > 0,
        "dry" => standing.zones.contains(&ZoneMark::Dry),
        "wet" => standing.zones.contains(&ZoneMark::Wet),
        "silent" => standing.silent > 0,
        "ended" => standing.record_ended.is_some(),
        "percentage" => site.off > 0,
        _ => true,
    }
}

/// Faults and warnings of a site.
pub(super) fn grave(site: &SiteRow) -> i64 {
    let [faults, warnings, _] = site.notices;
    faults + warnings
}

/// How urgent a site is: faults, then zones that are dry, then warnings, then what is off.
fn need(site: &SiteRow) -> (bool, i64, usize, i64, i32, i64) {
    let [faults, warnings, tasks] = site.notices;
    let dry = site.standing.zones.iter().filter(|mark| **mark == ZoneMark::Dry).count();
    // What a record that ended says of plants is old.
    let dry = if site.standing.record_ended.is_some() { 0 } else { dry };
    (faults > 0 && dry > 0, faults, dry, warnings, site.off, tasks)
}

/// Rain of the last days of a site; `None` where none of them is recorded.
pub(super) fn rain(site: &SiteRow, days: usize) -> Option<Millimetres> {
    let own = &site.standing.rain;
    let last = own.get(own.len().saturating_sub(days)..)?;
    let known: Vec<f64> = last.iter().map(|rain| rain.mm()).filter(|mm| !mm.is_nan()).collect();
    (!known.is_empty()).then(|| Millimetres::from_mm(known.iter().sum()))
}

/// Rain since somebody was last at a site; `None` where that was longer ago than its days of rain reach, or never.
pub(super) fn rain_since_visit(site: &SiteRow) -> Option<Millimetres> {
    let standing = &site.standing;
    let days = standing.last_visit?.until(standing.day?).ok()?.get_days();
    let days = usize::try_from(days).ok().filter(|days| (1..=standing.rain.len()).contains(days))?;
    rain(site, days)
}

/// The unit in which rain is typed: that of most sites.
pub(in crate::chapters::round) fn usual_units(sites: &[SiteRow]) -> UnitSystem {
    let inches = sites.iter().filter(|site| site.units == UnitSystem::UsCustomary).count();
    if inches * 2 > sites.len() { UnitSystem::UsCustomary } else { UnitSystem::Metric }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use jiff::civil::date;
    use upland_store::rounds::SiteStanding;

    const TODAY: Date = date(2026, 7, 14);

    fn site(name: &str, notices: [i64; 3], zones: &[ZoneMark], rain: &[f64]) -> SiteRow {
        SiteRow {
            id: fixture::key(1),
            name: name.into(),
            customer: "Ines".into(),
            locality: "Tarnside".into(),
            tags: vec!["weekly".into()],
            units: UnitSystem::Metric,
            assigned: Some((7, "Bram".into())),
            at: None,
            standing: SiteStanding {
                zones: zones.to_vec(),
                rain: rain.iter().map(|mm| Millimetres::from_mm(*mm)).collect(),
                last_visit: Some(date(2026, 7, 1)),
                ..SiteStanding::default()
            },
            notices,
            off: 0,
            controllers: 1,
        }
    }

    fn listing(query: &str) -> Listing {
        actix_web::web::Query::<Listing>::from_query(query).unwrap().into_inner()
    }

    #[test]
    fn the_most_urgent_site_is_first_and_a_tie_stays_by_name() {
        let quiet = site("A", [0, 0, 0], &[ZoneMark::Right], &[]);
        let dry = site("B", [0, 1, 0], &[ZoneMark::Dry], &[]);
        let fault = site("C", [1, 0, 0], &[], &[]);
        let task = site("D", [0, 0, 2], &[], &[]);
        let ended = SiteRow {
            standing: SiteStanding { record_ended: Some(TODAY), ..dry.standing.clone() },
            notices: [0, 1, 0],
            ..site("E", [0, 1, 0], &[ZoneMark::Dry; 9], &[])
        };
        let mut all = [&quiet, &dry, &fault, &task, &ended];
        Listing::default().sort(&mut all, Limits::default());
        let names: String = all.iter().map(|site| site.name.as_str()).collect();
        assert_eq!(names, "CBEDA", "nine dry zones of an old record weigh nothing");
    }

    #[test]
    fn rain_since_the_visit_is_of_the_days_after_it_as_far_as_they_are_known() {
        let visited = |on: Option<Date>| {
            let own = site("A", [0, 0, 0], &[], &[9.0, f64::NAN, 4.0, 1.5]);
            let standing = SiteStanding { last_visit: on, day: Some(TODAY), ..own.standing.clone() };
            rain_since_visit(&SiteRow { standing, ..own }).map(Millimetres::mm)
        };
        assert_eq!(visited(Some(date(2026, 7, 12))), Some(5.5));
        assert_eq!(visited(Some(date(2026, 7, 10))), Some(14.5), "a day without a record is left out");
        assert_eq!(visited(Some(TODAY)), None, "nothing fell since this morning that is known");
        assert_eq!(visited(Some(date(2026, 7, 9))), None, "longer ago than the days of rain");
        assert_eq!(visited(None), None);
    }

    #[test]
    fn a_site_is_found_by_its_controller_type_and_its_ordinance() {
        let own = site("A", [0, 0, 0], &[], &[]);
        let standing = SiteStanding {
            controller_types: vec!["12-station controller".into()],
            ordinances: vec!["Tarnside".into()],
            ..own.standing.clone()
        };
        let own = SiteRow { standing, ..own };
        let keeps = |query: &str| {
            let asked = listing(query);
            asked.keeps(&own, asked.limits().unwrap(), TODAY)
        };
        assert!(keeps("controller=12-station+controller&ordinance=Tarnside") && keeps(""));
        assert!(!keeps("controller=Hose+valve") && !keeps("ordinance=Larkrigg"));
        assert!(listing("ordinance=Tarnside").with("sort", "rain").contains("ordinance=Tarnside"));
    }

    #[test]
    fn a_view_is_narrowed_by_each_of_its_words() {
        let own = site("Pavilion", [0, 0, 0], &[ZoneMark::Wet], &[9.0, f64::NAN, 8.0, 6.0]);
        let shows = |query: &str| {
            let listing = listing(query);
            in_view(&listing.only, &own) && listing.keeps(&own, listing.limits().unwrap(), TODAY)
        };
        for yes in [
            "",
            "words=pav%20tarn",
            "words=ines",
            "tag=weekly",
            "assigned=7",
            "only=wet",
            "rain=12",
            "rain=0.5&unit=in",
            "rain=20&days=4",
            "unvisited=13",
            "words=weekly",
        ] {
            assert!(shows(yes), "{yes}");
        }
        for no in [
            "words=quarry",
            "tag=garden",
            "assigned=8",
            "assigned=none",
            "only=dry",
            "only=attention",
            "rain=14",
            "rain=15&unit=in",
            "unvisited=14",
            "only=silent",
            "only=ended",
            "only=percentage",
        ] {
            assert!(!shows(no), "{no}");
        }
        assert!(listing("rain=much").limits().is_err() && listing("unvisited=-1").limits().is_err());
    }

    #[test]
    fn an_address_keeps_the_view_and_drops_the_page() {
        let own = listing("only=dry&words=a%20b&rain=5&unit=in&page=3");
        assert_eq!(own.with("sort", "rain"), "/?only=dry&words=a%20b&rain=5&unit=in&sort=rain");
        assert_eq!(listing("only=dry").with("only", ""), "/");
    }

    #[test]
    fn rain_of_days_without_a_record_is_not_known_and_not_nothing() {
        let own = |rain: &[f64]| site("A", [0; 3], &[], rain);
        assert_eq!(rain(&own(&[f64::NAN, f64::NAN]), 2), None);
        assert_eq!(rain(&own(&[1.0, f64::NAN]), 2), Some(Millimetres::from_mm(1.0)));
        assert_eq!(rain(&own(&[]), 2), None);
        assert_eq!(rain(&own(&[3.0]), 5), Some(Millimetres::from_mm(3.0)));
    }
}
