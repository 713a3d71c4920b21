//! Restrictions of a site: which ordinances it keeps to, its house number, permits for planting.

use super::ControllerPage;
use super::{ControllerHead, Tab};
use crate::page::dates::typed_date;
use crate::page::frame::Frame;
use crate::page::law_words::{exempt_words, rule_words};
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::records::SiteRecords;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::controller::ordinance::{Applied, HouseNumber, Law, Ordinance, Permit};
use upland_store::library::{Entry, SiteOrdinance};
use upland_store::zones::ZoneRecord;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(law_page).service(save_law);
}

struct PermitRow {
    index: usize,
    zone: String,
    from: String,
    until: String,
    reference: String,
    error: String,
}

struct OrdinanceBlock {
    id: i64,
    base: i64,
    name: String,
    rules: Vec<String>,
    exempt: String,
    applies: bool,
    /// Code, words, whether it is the site's.
    houses: Vec<(&'static str, String, bool)>,
    by_digit: bool,
    permits: Vec<PermitRow>,
    takes_permits: bool,
}

#[derive(Template)]
#[template(path = "chapters/programs/law.html")]
struct LawPage {
    frame: Frame,
    head: ControllerHead,
    ordinances: Vec<OrdinanceBlock>,
    zones: Vec<(String, String)>,
    refused: String,
}

/// Rows of permits: those there are, and an empty one.
fn permit_rows(
    permits: &[Permit],
    typed: Option<&BTreeMap<String, String>>,
    errors: &[(String, String)],
) -> Vec<PermitRow> {
    let text = |name: String| typed.and_then(|t| t.get(&name)).cloned().unwrap_or_default();
    let count = match typed {
        Some(typed) => (0..).take_while(|i| typed.contains_key(&format!("permit{i}-zone"))).count(),
        None => permits.len() + 1,
    };
    (0..count)
        .map(|i| {
            let permit = permits.get(i).filter(|_| typed.is_none());
            PermitRow {
                index: i,
                zone: permit.map_or_else(
                    || text(format!("permit{i}-zone")),
                    |p| format!("{}-{}", p.controller_number, p.station),
                ),
                from: permit.map_or_else(
                    || text(format!("permit{i}-from")),
                    |p| p.from.map_or(String::new(), typed_date),
                ),
                until: permit.map_or_else(|| text(format!("permit{i}-until")), |p| typed_date(p.until)),
                reference: permit
                    .map_or_else(|| text(format!("permit{i}-reference")), |p| p.reference.clone()),
                error: errors
                    .iter()
                    .find(|(n, _)| *n == format!("permit{i}"))
                    .map_or(String::new(), |(_, m)| m.clone()),
            }
        })
        .collect()
}

/// What was sent for one ordinance and refused.
struct Refused<'a> {
    ordinance_id: i64,
    fields: &'a Fields,
    errors: Vec<(String, String)>,
    message: String,
}

/// Zones by controller and station, for permits.
fn zone_choices(facts: &SiteRecords) -> Vec<(String, String)> {
    let several = facts.controllers.len() > 1;
    let choice = |z: &ZoneRecord| {
        let (of, number, name) = (z.zone.controller_number, z.zone.number, &z.zone.name);
        let shown = if several { format!("{of}·{number} {name}") } else { format!("{number} {name}") };
        (format!("{of}-{number}"), shown)
    };
    facts.zones.iter().map(choice).collect()
}

questions! {
    facts Ordinances {} -> Vec<Entry<Ordinance>>;
}

async fn law_page_with(
    here: &AtSite,
    path: (i64, u8),
    status: StatusCode,
    refused: Option<Refused<'_>>,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let library = here.more(Ordinances {}, 30, |snapshot| snapshot.library::<Ordinance>()).await?;
    let applied = &here.records.ordinances;
    let mut known: Vec<(i64, Ordinance)> =
        library.iter().map(|e: &Entry<Ordinance>| (e.id, e.item.clone())).collect();
    // One that was taken off the list still holds here, and must stay visible.
    for own in applied {
        if known.iter().all(|(id, _)| *id != own.ordinance_id) {
            known.push((own.ordinance_id, own.applied.ordinance.clone()));
        }
    }
    let ordinances = known
        .into_iter()
        .map(|(id, ordinance)| {
            let own: Option<&SiteOrdinance> = applied.iter().find(|o| o.ordinance_id == id);
            let sent = refused.as_ref().filter(|r| r.ordinance_id == id);
            let permits = own.map_or(&[][..], |o| &o.applied.permits);
            OrdinanceBlock {
                id,
                base: own.map_or(0, |o| o.id),
                rules: ordinance.rules.iter().map(rule_words).collect(),
                exempt: exempt_words(&ordinance),
                applies: own.is_some(),
                houses: houses(own.map_or(HouseNumber::Odd, |o| o.applied.house)),
                by_digit: ordinance.goes_by_digit(),
                permits: permit_rows(permits, sent.map(|r| &r.fields.0), sent.map_or(&[], |r| &r.errors)),
                takes_permits: ordinance.exempts_new_planting,
                name: ordinance.name,
            }
        })
        .collect();
    page_with(
        status,
        &LawPage {
            frame: snapshot.frame(here, "restrictions")?,
            head: snapshot.head(Tab::Law)?,
            ordinances,
            zones: zone_choices(&snapshot.records),
            refused: refused.map_or(String::new(), |r| r.message),
        },
    )
}

#[get("/sites/{id}/controllers/{number}/law")]
async fn law_page(here: AtSite, path: web::Path<(i64, u8)>) -> Result<HttpResponse, PageError> {
    law_page_with(&here, *path, StatusCode::OK, None).await
}

/// Why an ordinance cannot be kept with a house number of which the last digit is not said.
fn lacks_digit(ordinance: &Ordinance, house: HouseNumber) -> Option<String> {
    let lacks = ordinance.goes_by_digit() && !matches!(house, HouseNumber::EndsIn(_));
    lacks.then(|| {
        format!(
            "\"{}\" goes by the last digit of the house number: choose it, such as \"ends in 4\". Nothing is stored.",
            ordinance.name
        )
    })
}

/// What a house number can be, with the one that is chosen.
fn houses(chosen: HouseNumber) -> Vec<(&'static str, String, bool)> {
    HouseNumber::TABLE.iter().map(|(house, code)| (*code, house.words(), *house == chosen)).collect()
}

/// Reads the permits of a form; rows without a zone are left out.
fn permits(fields: &Fields, today: Date) -> Result<Vec<Permit>, Vec<(String, String)>> {
    let (mut permits, mut errors) = (Vec::new(), Vec::new());
    for i in 0..100 {
        let zone = fields.get(&format!("permit{i}-zone"));
        if zone.is_empty() {
            continue;
        }
        let station = zone.split_once('-').and_then(|(b, n)| Some((b.parse().ok()?, n.parse().ok()?)));
        let from = match fields.get(&format!("permit{i}-from")) {
            "" => Ok(None),
            _ => fields.date(&format!("permit{i}-from"), today).map(Some),
        };
        let until = fields.date(&format!("permit{i}-until"), today);
        let reference = fields.get(&format!("permit{i}-reference")).to_owned();
        match (station, from, until) {
            (_, Ok(Some(from)), Ok(until)) if until < from => {
                errors.push((
                    format!("permit{i}"),
                    "The permit ends before it begins; correct its dates.".into(),
                ));
            }
            (Some((controller_number, station)), Ok(from), Ok(until)) if reference.chars().count() <= 120 => {
                permits.push(Permit { controller_number, station, from, until, reference });
            }
            (_, Err(refusal), _) => {
                errors.push((format!("permit{i}"), format!("The first date may be left empty. {refusal}")));
            }
            (_, _, Err(refusal)) => {
                errors.push((format!("permit{i}"), format!("A permit needs its last date. {refusal}")));
            }
            _ => errors.push((format!("permit{i}"), "Choose a zone, and keep the reference short.".into())),
        }
    }
    if errors.is_empty() { Ok(permits) } else { Err(errors) }
}

#[post("/sites/{id}/controllers/{number}/law/{ordinance}")]
async fn save_law(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let (site_id, number, ordinance_id) = *path;
    let base = fields.get("base").parse::<i64>().ok().filter(|id| *id > 0);
    let lifted = fields.get("lift") == "yes";
    let house = HouseNumber::from_code(fields.get("house")).unwrap_or(HouseNumber::Odd);
    let refuse = |errors: Vec<(String, String)>, message: String| {
        let refused = Refused { ordinance_id, fields: &fields, errors, message };
        law_page_with(&here, (site_id, number), StatusCode::UNPROCESSABLE_ENTITY, Some(refused))
    };
    let permits = match permits(&fields, here.today()) {
        Ok(permits) => permits,
        Err(errors) => {
            return refuse(errors, "A permit needs another look. Nothing is stored yet.".into()).await;
        }
    };
    let (entry, others) = here
        .read(move |snapshot| {
            Ok((snapshot.library_entry::<Ordinance>(ordinance_id)?, snapshot.ordinances(of_site)?))
        })
        .await?;
    let known = entry.map(|e| e.item);
    let known = known.or_else(|| {
        others.iter().find(|o| o.ordinance_id == ordinance_id).map(|o| o.applied.ordinance.clone())
    });
    let ordinance = known.ok_or(PageError::NotFound)?;
    let name = ordinance.name.clone();
    if let Some(message) = lacks_digit(&ordinance, house).filter(|_| !lifted) {
        return refuse(Vec::new(), message).await;
    }
    if !lifted {
        let mut applied: Vec<Applied> =
            others.into_iter().filter(|o| o.ordinance_id != ordinance_id).map(|o| o.applied).collect();
        applied.push(Applied { ordinance, house, permits: permits.clone() });
        if let Some(fault) = (Law { applied }).contradictions().into_iter().next() {
            let message = format!(
                "These ordinances contradict each other for this site: {}. Nothing is stored.",
                fault.message
            );
            return refuse(Vec::new(), message).await;
        }
    }
    let stored = here
        .change(move |change| change.apply_ordinance(ordinance_id, base, house, &permits, lifted))
        .await?;
    let text = match (stored, lifted) {
        (false, _) => {
            "Somebody changed this restriction in the meantime. This is the current version; look again."
                .to_owned()
        }
        (true, true) => format!("{name} no longer applies to this site."),
        (true, false) => format!("{name} applies to this site."),
    };
    flash(&here.who.session, text, None)?;
    Ok(see_other(&format!("{}/law", address::site_controller(site_id, number))))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    fn fields(pairs: &[(&str, &str)]) -> Fields {
        Fields(pairs.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect())
    }

    #[test]
    fn permits_are_read_and_survive_their_rows() {
        let sent = fields(&[
            ("permit0-zone", "1-3"),
            ("permit0-until", "2026-09-30"),
            ("permit0-reference", "P 12"),
            ("permit1-zone", ""),
            ("permit1-until", ""),
            ("permit2-zone", "2-1"),
            ("permit2-from", "2026-09-15"),
            ("permit2-until", "2026-10-01"),
        ]);
        let read = permits(&sent, date(2026, 7, 14)).unwrap();
        assert_eq!(read.len(), 2);
        assert_eq!(
            read[0],
            Permit {
                controller_number: 1,
                station: 3,
                from: None,
                until: date(2026, 9, 30),
                reference: "P 12".into()
            }
        );
        let rows = permit_rows(&read, None, &[]);
        let shown: Vec<_> = rows.iter().map(|r| (r.zone.as_str(), r.until.as_str())).collect();
        assert_eq!(shown, [("1-3", "30 Sep 2026"), ("2-1", "1 Oct 2026"), ("", "")], "and an empty one");
    }

    #[test]
    fn a_permit_without_its_end_is_told_at_its_row_and_kept() {
        let sent =
            fields(&[("permit0-zone", "1-3"), ("permit0-until", "soon"), ("permit0-reference", "P 12")]);
        let errors = permits(&sent, date(2026, 7, 14)).unwrap_err();
        assert_eq!(errors[0].0, "permit0");
        let rows = permit_rows(&[], Some(&sent.0), &errors);
        assert_eq!((rows[0].until.as_str(), rows[0].reference.as_str()), ("soon", "P 12"));
        assert!(rows[0].error.contains("last date"));
        for (from, told) in [("2026-08-02", "ends before it begins"), ("soon", "first date")] {
            let sent =
                fields(&[("permit0-zone", "1-3"), ("permit0-from", from), ("permit0-until", "2026-08-01")]);
            let errors = permits(&sent, date(2026, 7, 14)).unwrap_err();
            assert!(errors[0].1.contains(told), "{errors:?}");
            assert_eq!(permit_rows(&[], Some(&sent.0), &errors)[0].from, from);
        }
        let sent = fields(&[
            ("permit0-zone", "1-3"),
            ("permit0-from", "2026-08-01"),
            ("permit0-until", "2026-08-01"),
        ]);
        assert_eq!(
            permits(&sent, date(2026, 7, 14)).unwrap()[0].from,
            Some(date(2026, 8, 1)),
            "a permit of one day"
        );
    }
}
