//! What needs attention, over all sites: found by workers at every round, gone when its cause is gone.

use super::standing::Standing;
use crate::page::dates::{DateFormat, in_own_words};
use crate::page::frame::Frame;
use crate::page::pagination::{LINES, Pages, asked_page};
use crate::server::address;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, flash};
use crate::server::state::{read, with_store};
use crate::site::context::{AllSites, EditorAt};
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use upland_store::accounts::Capability;
use upland_store::rounds::{Asked, Count, NoticeKind, NoticeRow, Weight};

/// One that is put off comes back after so long.
const PUT_OFF: SignedDuration = SignedDuration::from_hours(7 * 24);
/// What began within this time is new.
const NEW: SignedDuration = SignedDuration::from_hours(24);

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(list).service(put_off).service(back);
}

/// A notice as the list shows it.
struct Line {
    id: i64,
    site_id: i64,
    kind: &'static str,
    weight: &'static str,
    sign: &'static str,
    words: String,
    href: String,
    since: String,
    new: bool,
    put_off: Option<String>,
}

/// The notices of a site.
struct Group {
    site: String,
    href: String,
    lines: Vec<Line>,
}

#[derive(Template)]
#[template(path = "chapters/round/notices/list.html")]
struct ListPage {
    frame: Frame,
    headline: String,
    lead: String,
    /// Address, words, whether it is shown.
    tabs: Vec<(String, String, bool)>,
    groups: Vec<Group>,
    pages: Pages,
    waiting: Option<String>,
    /// Work in the background that was given up, for the owner.
    given_up: i64,
    /// To come back to here.
    here: String,
}

#[derive(serde::Deserialize)]
struct Listing {
    kind: Option<String>,
    page: Option<String>,
}

/// What the list is narrowed to: a kind, or what was put off.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Only {
    kind: Option<NoticeKind>,
    put_off: bool,
}

impl Only {
    fn of(text: Option<&str>) -> Result<Self, PageError> {
        match text {
            None | Some("") => Ok(Self { kind: None, put_off: false }),
            Some("put-off") => Ok(Self { kind: None, put_off: true }),
            Some(code) => {
                let kind = NoticeKind::from_code(code).ok_or(PageError::NotFound)?;
                Ok(Self { kind: Some(kind), put_off: false })
            }
        }
    }

    fn href(self, page: i64) -> String {
        let kind = if self.put_off { "put-off" } else { self.kind.map_or("", NoticeKind::code) };
        format!("/notices?kind={kind}&page={page}")
    }

    fn number(self, counts: &[Count]) -> i64 {
        let of = |c: &&Count| c.put_off == self.put_off && self.kind.is_none_or(|kind| kind == c.kind);
        counts.iter().filter(of).map(|c| c.number).sum()
    }
}

/// The kinds of which there is something, and how much.
fn tabs(counts: &[Count], current: Only) -> Vec<(String, String, bool)> {
    let all = Only { kind: None, put_off: false };
    let kinds = NoticeKind::ALL.map(|kind| Only { kind: Some(kind), put_off: false });
    let off = Only { kind: None, put_off: true };
    let tab = |only: Only| {
        let number = only.number(counts);
        let label = match only {
            Only { put_off: true, .. } => "Snoozed",
            Only { kind: None, .. } => "All",
            Only { kind: Some(kind), .. } => kind.label(),
        };
        // A kind of which there is none is no choice.
        let offered = number > 0 || only == current || only == all;
        offered.then(|| (only.href(1), format!("{label} {number}"), only == current))
    };
    core::iter::once(all).chain(kinds).chain([off]).filter_map(tab).collect()
}

fn line(row: NoticeRow, now: Timestamp) -> Line {
    let day = |at: Timestamp| at.to_zoned(TimeZone::UTC).formatted("%-d %b");
    let (weight, sign) = match row.notice.weight {
        Weight::Fault => ("fault", "▲"),
        Weight::Warning => ("warning", "△"),
        Weight::Task => ("task", "·"),
    };
    Line {
        id: row.id,
        site_id: row.site_id.number(),
        kind: row.notice.kind.label(),
        weight,
        sign,
        words: in_own_words(&row.notice.words).to_owned(),
        href: row.notice.href,
        since: format!("since {}", day(row.first_at)),
        new: row.first_at + NEW > now,
        put_off: row.put_off.map(|(until, by)| format!("until {}, by {by}", day(until))),
    }
}

/// Notices in the order of the list, site by site.
fn groups(rows: Vec<NoticeRow>, now: Timestamp) -> Vec<Group> {
    let mut groups: Vec<(i64, Group)> = Vec::new();
    for row in rows {
        let (id, site) = (row.site_id.number(), row.site.clone());
        let line = line(row, now);
        match groups.last_mut().filter(|(last, _)| *last == id) {
            Some((_, group)) => group.lines.push(line),
            None => groups.push((id, Group { site, href: address::today(id), lines: vec![line] })),
        }
    }
    groups.into_iter().map(|(_, group)| group).collect()
}

/// "Seven things need attention at three sites" is for the page; how many are new, for its lead.
fn headline(standing: i64) -> String {
    match standing {
        0 => "Nothing needs attention".to_owned(),
        1 => "One thing needs attention".to_owned(),
        n => format!("{n} things need attention"),
    }
}

#[get("/notices")]
async fn list(here: AllSites, asked: web::Query<Listing>) -> Result<HttpResponse, PageError> {
    let standing = Standing::of(&here).await?;
    let only = Only::of(asked.kind.as_deref())?;
    let (scope, now) = (here.who.scope.clone(), here.who.now);
    let counts = read(&here.state, move |snapshot| snapshot.notice_counts(&scope, now - NEW)).await?;
    let pages = Pages::of(only.number(&counts), asked_page(asked.page.as_deref())?, |n| only.href(n));
    let wanted = Asked { kind: only.kind, put_off: only.put_off, since: None, page: (LINES, pages.from) };
    let scope = here.who.scope.clone();
    let rows = read(&here.state, move |snapshot| snapshot.notices(&scope, wanted)).await?;
    let is_owner = here.who.user.role.may(Capability::ManageAccounts);
    let given_up = if is_owner { with_store(&here.state, |store| store.given_up()).await? } else { 0 };
    let new: i64 = counts.iter().filter(|c| !c.put_off).map(|c| c.new).sum();
    let all = Only { kind: None, put_off: false };
    let drawn = page(&ListPage {
        frame: Frame::new(&here.who, "Notices")?,
        headline: headline(all.number(&counts)),
        lead: match new {
            0 => "None of it is new since yesterday. A notice goes by itself when its cause is gone."
                .to_owned(),
            1 => "One is new since yesterday. A notice goes by itself when its cause is gone.".to_owned(),
            n => format!("{n} are new since yesterday. A notice goes by itself when its cause is gone."),
        },
        tabs: tabs(&counts, only),
        groups: groups(rows, now),
        here: only.href(1),
        pages,
        waiting: standing.waiting(),
        given_up,
    })?;
    Ok(standing.again(drawn))
}

/// Where one came from: the list, as it was narrowed.
fn back_to(fields: &Fields) -> &str {
    let from = fields.get("back");
    if from.starts_with("/notices?") { from } else { "/notices" }
}

#[post("/sites/{id}/notices/{notice}/put-off")]
async fn put_off(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site, notice, actor, until) = (here.site_key(), path.1, here.who.user.id, here.now() + PUT_OFF);
    if !with_store(&here.state, move |store| store.put_off(site, notice, Some(until), actor)).await? {
        return Err(PageError::NotFound);
    }
    let undo = format!("{}/notices/{notice}/back", address::site_root(here.id()));
    flash(&here.who.session, "Snoozed for a week, for everybody.", Some(undo))?;
    Ok(see_other(back_to(&fields)))
}

#[post("/sites/{id}/notices/{notice}/back")]
async fn back(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site, notice, actor) = (here.site_key(), path.1, here.who.user.id);
    if !with_store(&here.state, move |store| store.put_off(site, notice, None, actor)).await? {
        return Err(PageError::NotFound);
    }
    flash(&here.who.session, "It is restored.", None)?;
    Ok(see_other(back_to(&fields)))
}
