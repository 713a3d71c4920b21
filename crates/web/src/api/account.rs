//! The account of a site: the same that its seasons show.

use super::error::ApiError;
use super::token::{at_site, query};
use crate::server::cache::questions;
use crate::site::snapshot::SiteSnapshot;
use actix_web::{HttpRequest, HttpResponse, get, web};
use jiff::ToSpan;
use jiff::civil::Date;
use upland_core::account::site_account::{EvidencePolicy, SiteAccount};
use upland_core::codes::Coded;
use upland_core::quantity::span::DateSpan;
use upland_formats::api::account::{Account, ZoneAccount, ZoneDay};
use upland_store::api_tokens::ReadScope;

/// Most days of an answer.
pub(super) const MOST_DAYS: i32 = 400;
/// Days of an answer unless others are asked for.
const USUAL_DAYS: i32 = 31;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(account_of);
}

questions! {
    facts OfDays { from: Date, to: Date, policy: EvidencePolicy } -> Account;
}

/// Which days are asked for, and what counts as their watering.
#[derive(serde::Deserialize)]
struct Asked {
    from: Option<Date>,
    to: Option<Date>,
    policy: Option<String>,
}

impl Asked {
    /// The days that are meant by today.
    fn days(&self, today: Date) -> Result<DateSpan, ApiError> {
        let to = self.to.unwrap_or(today).min(today);
        let usual = to.checked_sub((USUAL_DAYS - 1).days()).unwrap_or(to);
        let from = self.from.unwrap_or(usual);
        if from > to {
            return Err(ApiError::Unreadable(format!("from {from} lies after {to}, the last day there is")));
        }
        if (to - from).get_days() >= MOST_DAYS {
            return Err(ApiError::Unreadable(format!("at most {MOST_DAYS} days at once; ask for fewer")));
        }
        Ok(DateSpan::new(from, to))
    }

    fn policy(&self) -> Result<EvidencePolicy, ApiError> {
        let Some(code) = self.policy.as_deref() else { return Ok(EvidencePolicy::Best) };
        EvidencePolicy::from_code(code).ok_or_else(|| {
            let known: Vec<&str> = EvidencePolicy::TABLE.iter().map(|(_, code)| *code).collect();
            ApiError::Unreadable(format!("policy is one of {}", known.join(", ")))
        })
    }
}

#[get("/api/v1/sites/{id}/account")]
async fn account_of(request: HttpRequest) -> Result<HttpResponse, ApiError> {
    let here = at_site(&request, ReadScope::Account).await?;
    let asked: Asked = query(&request)?;
    let site = here.snapshot_with_account(None).await?;
    let DateSpan { first: from, last: to } = asked.days(site.today())?;
    let policy = asked.policy()?;
    let about = here.about_moment(site.moment);
    let question = OfDays { from, to, policy };
    let account = here.once(about, question, 200, move |_| Ok(of_days(&site, from, to, policy))).await?;
    Ok(HttpResponse::Ok().json(&*account))
}

/// The days of a site's account.
pub(super) fn of_days(site: &SiteSnapshot, from: Date, to: Date, policy: EvidencePolicy) -> Account {
    answer(site, &site.account_over(DateSpan::new(from, to), policy), from, to)
}

fn answer(site: &SiteSnapshot, account: &SiteAccount, from: Date, to: Date) -> Account {
    let zones = site.inputs.zones.iter().zip(&account.zones);
    let zones = zones.map(|(facts, own)| ZoneAccount {
        controller: own.controller_number,
        station: own.station,
        name: facts.zone.name.clone(),
        days: own.days.iter().filter(|day| (from..=to).contains(&day.date)).map(ZoneDay::from).collect(),
    });
    Account { from, to, zones: zones.collect() }
}
