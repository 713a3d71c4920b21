//! The weekly list and the notices, as the last rounds left them.

use super::error::ApiError;
use super::token::{all_sites, query};
use crate::page::dates::in_own_words;
use crate::server::state::read;
use actix_web::{HttpRequest, HttpResponse, get, web};
use upland_formats::api::lists::{Notice, Notices, WeekPercentage, WeeklyList, Weight};
use upland_store::api_tokens::ReadScope;
use upland_store::rounds::{self, CallRow, NoticeRow};

/// Rows of a page, unless fewer are asked for.
pub(super) const MOST: i64 = 500;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(weekly_list).service(notices);
}

/// Which rows are asked for.
#[derive(serde::Deserialize)]
struct Page {
    /// The place of the first, from 0.
    #[serde(default)]
    from: u32,
    limit: Option<i64>,
}

impl Page {
    fn from(&self) -> i64 {
        i64::from(self.from)
    }

    fn limit(&self) -> i64 {
        self.limit.unwrap_or(MOST).clamp(1, MOST)
    }

    /// Cuts a list that was asked for with one row more, and says where the next page begins.
    fn cut<T>(&self, rows: &mut Vec<T>) -> Option<i64> {
        let most = usize::try_from(self.limit()).unwrap_or(usize::MAX);
        let more = rows.len() > most;
        rows.truncate(most);
        more.then(|| self.from() + self.limit())
    }
}

#[get("/api/v1/weekly-list")]
async fn weekly_list(request: HttpRequest) -> Result<HttpResponse, ApiError> {
    let here = all_sites(&request, ReadScope::Nights).await?;
    let page: Page = query(&request)?;
    let (scope, most, from) = (here.who.scope.clone(), page.limit() + 1, page.from());
    let mut rows = read(&here.state, move |snapshot| snapshot.round_calls(&scope, most, from)).await?;
    let next = page.cut(&mut rows);
    Ok(HttpResponse::Ok().json(WeeklyList { percentages: rows.into_iter().map(percentage).collect(), next }))
}

fn percentage(row: CallRow) -> WeekPercentage {
    let call = row.call;
    WeekPercentage {
        site: row.site_id.number(),
        site_name: row.site,
        controller: call.number,
        place: call.place,
        program: Some(call.program).filter(|program| !program.is_empty()),
        set_percent: call.set.percent(),
        advised_percent: call.advised.map(|advised| advised.percent()),
        because: call.because,
        week_ends: call.week,
        record_ended: call.record_ended,
    }
}

#[get("/api/v1/notices")]
async fn notices(request: HttpRequest) -> Result<HttpResponse, ApiError> {
    let here = all_sites(&request, ReadScope::Nights).await?;
    let page: Page = query(&request)?;
    let scope = here.who.scope.clone();
    let asked =
        rounds::Asked { kind: None, put_off: false, since: None, page: (page.limit() + 1, page.from()) };
    let mut rows = read(&here.state, move |snapshot| snapshot.notices(&scope, asked)).await?;
    let next = page.cut(&mut rows);
    Ok(HttpResponse::Ok().json(Notices { notices: rows.into_iter().map(notice).collect(), next }))
}

fn notice(row: NoticeRow) -> Notice {
    Notice {
        site: row.site_id.number(),
        site_name: row.site,
        kind: row.notice.kind.code().to_owned(),
        about: row.notice.about,
        weight: match row.notice.weight {
            rounds::Weight::Fault => Weight::Fault,
            rounds::Weight::Warning => Weight::Warning,
            rounds::Weight::Task => Weight::Task,
        },
        words: in_own_words(&row.notice.words).to_owned(),
        page: row.notice.href,
        since: row.first_at,
    }
}
