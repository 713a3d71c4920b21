//! How far the rounds are that a page over all sites shows.

use crate::page::dates::DateFormat;
use crate::server::cache::questions;
use crate::server::error::PageError;
use crate::server::state::{read, with_store};
use crate::site::context::AllSites;
use actix_web::HttpResponse;
use actix_web::http::header::{HeaderValue, REFRESH};
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_store::rounds::{ASKED_AT_ONCE, SiteRound};

/// The rounds of a scope, and the sites that wait for theirs.
pub(super) struct Standing {
    pub rounds: BTreeMap<i64, SiteRound>,
    stale: Vec<i64>,
    workers: i64,
}

questions! {
    facts Numbers {} -> Vec<i64>;
}

/// The numbers of the sites of who asks.
async fn sites(here: &AllSites) -> Result<Arc<Vec<i64>>, PageError> {
    let scope = here.who.scope.clone();
    here.once(Numbers {}, 20, move |state| {
        let named = state.store.read(|snapshot| snapshot.site_names(&scope))?;
        Ok(named.into_iter().map(|(id, _)| id.number()).collect())
    })
    .await
}

impl Standing {
    /// How the rounds stand. Those that are due are asked for.
    pub async fn of(here: &AllSites) -> Result<Self, PageError> {
        let (scope, sites) = (here.who.scope.clone(), sites(here).await?);
        let rounds = read(&here.state, move |snapshot| snapshot.rounds(&scope)).await?;
        let mut standing = Self::among(rounds, sites.iter().copied());
        if !standing.stale.is_empty() {
            // A worker looks for all of them once a minute.
            let asked: Vec<i64> = standing.stale.iter().copied().take(ASKED_AT_ONCE).collect();
            with_store(&here.state, move |store| store.ask_for_rounds(&asked)).await?;
            standing.workers = read(&here.state, |snapshot| snapshot.workers()).await?.0;
        }
        Ok(standing)
    }

    /// The rounds of some sites, before anybody asked who works.
    fn among(rounds: BTreeMap<i64, SiteRound>, sites: impl Iterator<Item = i64>) -> Self {
        let mut standing = Self { rounds, stale: Vec::new(), workers: 0 };
        standing.stale = sites.filter(|site| standing.waits(*site)).collect();
        standing
    }

    /// The sites that wait for their round.
    pub fn stale(&self) -> Vec<i64> {
        self.stale.clone()
    }

    /// Whether a site waits for its round.
    pub fn waits(&self, site: i64) -> bool {
        !self.rounds.get(&site).is_some_and(|round| round.fresh)
    }

    /// What is still worked on, in words.
    pub fn waiting(&self) -> Option<String> {
        let many = |n: usize| if n == 1 { "One site is".to_owned() } else { format!("{n} sites are") };
        match (self.stale.len(), self.workers) {
            (0, _) => None,
            (n, 0) => Some(format!(
                "{} out of date, and no worker is running to update them: start one with \"upland-almanac worker\".",
                many(n)
            )),
            (n, _) => Some(format!("{} being updated; the page reloads by itself.", many(n))),
        }
    }

    /// When the oldest of what is shown was worked out, where some of it is not of this hour or these facts.
    pub fn as_of(&self) -> Option<String> {
        if self.stale.is_empty() {
            return None;
        }
        let oldest = self.rounds.values().map(|round| round.at).min()?;
        Some(oldest.to_zoned(TimeZone::UTC).formatted("%-d %b %H:%M UTC"))
    }

    /// Lets a page that waits look again.
    pub fn again(&self, mut page: HttpResponse) -> HttpResponse {
        if !self.stale.is_empty() && self.workers > 0 {
            page.headers_mut().insert(REFRESH, HeaderValue::from_static("2"));
        }
        page
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn round(at: &str, fresh: bool) -> SiteRound {
        SiteRound { at: at.parse().unwrap(), fresh, wrong: 0 }
    }

    fn standing(rounds: Vec<(i64, SiteRound)>, sites: &[i64], workers: i64) -> Standing {
        Standing { workers, ..Standing::among(rounds.into_iter().collect(), sites.iter().copied()) }
    }

    #[test]
    fn a_page_says_what_is_not_of_this_hour_and_whether_anybody_works_on_it() {
        let (new, old) = (round("2026-07-14T19:00:00Z", true), round("2026-07-14T17:05:00Z", false));
        let all_fresh = standing(vec![(1, new.clone()), (2, new.clone())], &[1, 2], 0);
        assert_eq!((all_fresh.waiting(), all_fresh.as_of()), (None, None), "nobody need work now");
        let one = standing(vec![(1, new), (2, old.clone())], &[1, 2], 0);
        let told = one.waiting().unwrap();
        assert!(told.starts_with("One site is out of date, and no worker is running"), "{told}");
        assert_eq!(one.as_of().as_deref(), Some("14 Jul 17:05 UTC"));
        assert_eq!((one.waits(1), one.waits(2), one.waits(3)), (false, true, true));
        // Sites that were never worked out wait too.
        let two = standing(vec![(2, old)], &[1, 2], 1);
        assert!(two.waiting().unwrap().starts_with("2 sites are being updated"));
        assert_eq!(two.stale(), [1, 2]);
        let none = standing(Vec::new(), &[1], 1);
        assert_eq!(none.as_of(), None, "there is nothing that could be old");
    }

    #[test]
    fn a_page_looks_again_by_itself_only_where_somebody_works_on_it() {
        let looks_again = |sites: &[i64], workers| {
            let page = standing(Vec::new(), sites, workers).again(HttpResponse::Ok().finish());
            page.headers().contains_key(REFRESH)
        };
        assert!(looks_again(&[1], 1));
        assert!(!looks_again(&[1], 0), "it would look for ever");
        assert!(!looks_again(&[], 1));
    }
}
