//! The find box: sites, customers, telephone numbers and zones by some of their words, a slip of the finger forgiven.

use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::PageError;
use crate::site::context::AllSites;
use actix_web::{HttpResponse, get, web};

/// What the find box can find.
#[derive(serde::Serialize)]
struct Findable {
    name: String,
    href: String,
    /// What it is found by, in small letters.
    #[serde(skip)]
    words: Vec<String>,
}

impl Findable {
    fn new(name: String, href: String, more: &[&str]) -> Self {
        let text = format!("{name} {}", more.join(" ")).to_lowercase();
        let words = text.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
        let mut words: Vec<String> = words.map(str::to_owned).collect();
        words.sort_unstable();
        words.dedup();
        Self { name, href, words }
    }

    /// Whether every word that is searched is part of one of its own.
    fn holds(&self, search: &[&str]) -> bool {
        search.iter().all(|wanted| self.words.iter().any(|own| own.contains(wanted)))
    }

    /// The same with a slip of the finger in long words.
    fn nearly_holds(&self, search: &[&str]) -> bool {
        search.iter().all(|wanted| self.words.iter().any(|own| nearly(own, wanted)))
    }
}

/// Whether a word was meant: one letter wrong, too many, missing or swapped from five letters on, two from nine on.
fn nearly(own: &str, wanted: &str) -> bool {
    let letters = wanted.chars().count();
    let slips = match letters {
        ..=4 => return own.contains(wanted),
        5..=8 => 1,
        _ => 2,
    };
    if own.contains(wanted) {
        return true;
    }
    // What is typed may be the beginning of the word.
    let lengths = letters.saturating_sub(slips)..=letters + slips;
    let own_letters = own.chars().count();
    let begin = |most: usize| own.chars().take(most).collect::<String>();
    lengths.into_iter().any(|most| most <= own_letters && strsim::osa_distance(&begin(most), wanted) <= slips)
}

/// Most that the find box offers.
const MOST_FOUND: usize = 12;
/// Longest search, letters.
const LONGEST_SEARCH: usize = 100;

#[derive(serde::Deserialize)]
struct Search {
    #[serde(default)]
    words: String,
}

questions! {
    facts Names {} -> Vec<Findable>;
}

/// Sites, customers and zones, for the find box.
#[get("/find.json")]
pub(super) async fn find(here: AllSites, search: web::Query<Search>) -> Result<HttpResponse, PageError> {
    let scope = here.who.scope.clone();
    let all = here.once(Names {}, 600, move |state| {
        let (sites, zones) =
            state.store.read(|snapshot| Ok((snapshot.sites(&scope)?, snapshot.all_zone_names(&scope)?)))?;
        let mut all = Vec::with_capacity(sites.len() + zones.len());
        for record in &sites {
            let (id, site) = (record.id.number(), &record.site);
            let card = &site.card;
            let more = [card.locality.as_str(), card.street.as_str(), &card.tags.join(" ")];
            all.push(Findable::new(site.name.clone(), address::today(id), &more));
            let page = format!("{}/card", address::site_root(id));
            if !card.customer.is_empty() {
                all.push(Findable::new(format!("{}, {}", card.customer, site.name), page.clone(), &[]));
            }
            for contact in &card.contacts {
                let name = [contact.name.as_str(), &contact.telephone, &site.name];
                let name = name.into_iter().filter(|own| !own.is_empty()).collect::<Vec<_>>().join(", ");
                all.push(Findable::new(name, page.clone(), &[&contact.dialled()]));
            }
        }
        all.extend(zones.into_iter().map(|zone| {
            let name = format!("{} {}, {}", zone.number, zone.name, zone.site_name);
            Findable::new(name, address::zone(zone.site_id.number(), zone.zone_id), &[])
        }));
        Ok(all)
    });
    let all = all.await?;
    let search: String = search.words.chars().take(LONGEST_SEARCH).collect::<String>().to_lowercase();
    let wanted: Vec<&str> =
        search.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty()).collect();
    Ok(HttpResponse::Ok().json(found(&all, &wanted)))
}

/// What holds the words; only where nothing does, what nearly does.
fn found<'a>(all: &'a [Findable], wanted: &[&str]) -> Vec<&'a Findable> {
    if wanted.is_empty() {
        return Vec::new();
    }
    let exact: Vec<&Findable> = all.iter().filter(|own| own.holds(wanted)).take(MOST_FOUND).collect();
    if exact.is_empty() {
        return all.iter().filter(|own| own.nearly_holds(wanted)).take(MOST_FOUND).collect();
    }
    exact
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hits(search: &str) -> Vec<String> {
        let of = |name: &str, more: &[&str]| Findable::new(name.into(), String::new(), more);
        let all = [
            of("Quarryfoot Pavilion Ground", &["Quarryfoot", "weekly sports turf"]),
            of("Maren, grounds, 555 0128, Quarryfoot Pavilion Ground", &["5550128"]),
            of("1 Upper lawn, Larkrigg Botanic Slope", &[]),
        ];
        let search = search.to_lowercase();
        let wanted: Vec<&str> = search.split_whitespace().collect();
        found(&all, &wanted).into_iter().map(|own| own.name.clone()).collect()
    }

    #[test]
    fn a_slip_of_the_finger_is_forgiven_in_long_words_alone() {
        assert_eq!(hits("pavilion").len(), 2);
        assert_eq!(hits("pavillion").len(), 2, "a letter too many");
        assert_eq!(hits("qaurryfoot").len(), 2, "two swapped");
        assert_eq!(hits("larkrig slope").len(), 1);
        assert_eq!(hits("larkrgg").len(), 1, "one missing");
        assert_eq!(hits("lawm").len(), 0, "a short word must be right");
        assert_eq!(hits("pabelliom").len(), 0, "three slips are another word");
        assert_eq!(hits("").len(), 0);
    }

    #[test]
    fn a_telephone_number_is_found_with_and_without_spaces() {
        assert_eq!(hits("5550128"), ["Maren, grounds, 555 0128, Quarryfoot Pavilion Ground"]);
        assert_eq!(hits("555 0128").len(), 1);
        assert_eq!(hits("maren").len(), 1);
    }
}
