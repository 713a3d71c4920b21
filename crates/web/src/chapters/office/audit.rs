//! Who changed what on every site and of what all share, and sign-ins that did not open.

use crate::page::dates::DateFormat;
use crate::page::event_words::{action, difference, subject};
use crate::page::frame::Frame;
use crate::server::error::{PageError, page};
use crate::server::session::Owner;
use crate::server::state::{AppState, read};
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use upland_store::logbook::{Asked, LogEntry};
use upland_store::sign_ins::SignIns;

/// Entries on a page.
const MOST: i64 = 100;
/// Sign-ins that are listed.
const MOST_SIGN_INS: i64 = 40;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(audit_page);
}

/// What is asked of the page.
#[derive(serde::Deserialize)]
struct Query {
    #[serde(default)]
    person: Option<i64>,
    #[serde(default)]
    site: Option<i64>,
    #[serde(default)]
    before: Option<i64>,
}

/// Something that was done.
struct Line {
    at: String,
    who: String,
    site: String,
    what: String,
    words: String,
}

/// A try to sign in that did not open.
struct TryLine {
    at: String,
    login: String,
    address: String,
    what: String,
}

#[derive(Template)]
#[template(path = "chapters/office/audit.html")]
struct AuditPage {
    frame: Frame,
    people: Vec<(i64, String, bool)>,
    sites: Vec<(i64, String, bool)>,
    lines: Vec<Line>,
    older: Option<String>,
    tries: Vec<TryLine>,
}

fn line(entry: &LogEntry, site: Option<i64>, sites: &BTreeMap<i64, String>) -> Line {
    let what = format!("{} {}", subject(&entry.subject), action(entry));
    let words = match (entry.words.is_empty(), difference(entry)) {
        (false, Some(difference)) => format!("{}; {difference}", entry.words),
        (false, None) => entry.words.clone(),
        (true, difference) => difference.unwrap_or_default(),
    };
    Line {
        at: entry.at.to_zoned(TimeZone::UTC).formatted("%-d %b %Y, %H:%M UTC"),
        who: entry.person.clone().unwrap_or_else(|| "the program".to_owned()),
        site: match site {
            None => "all sites".to_owned(),
            Some(id) => sites.get(&id).cloned().unwrap_or_else(|| format!("site {id}, removed")),
        },
        what: what.trim_end().to_owned(),
        words,
    }
}

fn try_line(tries: &SignIns) -> TryLine {
    let times = |n: i32, what: &str| match n {
        0 => None,
        1 => Some(format!("{what} once")),
        n => Some(format!("{what} {n} times")),
    };
    let all = [
        times(tries.failed, "failed"),
        times(tries.refused, "not even looked at"),
        times(tries.opened, "opened"),
    ];
    TryLine {
        at: tries.last_at.to_zoned(TimeZone::UTC).formatted("%-d %b %Y, %H:%M UTC"),
        login: tries.login.clone(),
        address: tries.address.clone(),
        what: all.into_iter().flatten().collect::<Vec<_>>().join(", "),
    }
}

#[get("/audit")]
async fn audit_page(
    state: web::Data<AppState>,
    Owner(who): Owner,
    query: web::Query<Query>,
) -> Result<HttpResponse, PageError> {
    let (person, site) = (query.person, query.site);
    let (scope, of_site) = (who.scope.clone(), site.and_then(|site| who.scope.site(site)));
    let asked = Asked { person, before: query.before, ..Asked::default() };
    let (entries, tries, people, sites) = read(&state, move |snapshot| {
        let entries = snapshot.audit(of_site, &asked, MOST)?;
        Ok((
            entries,
            snapshot.failed_sign_ins(MOST_SIGN_INS)?,
            snapshot.users()?,
            snapshot.site_names(&scope)?,
        ))
    })
    .await?;
    let names: BTreeMap<i64, String> = sites.iter().map(|(id, name)| (id.number(), name.clone())).collect();
    let is_whole = i64::try_from(entries.len()).is_ok_and(|n| n == MOST);
    let older = entries.last().filter(|_| is_whole).map(|(_, last)| {
        let asked = [("person", person), ("site", site), ("before", Some(last.id))];
        let asked = asked.iter().filter_map(|(name, value)| Some(format!("{name}={}", (*value)?)));
        format!("/audit?{}", asked.collect::<Vec<_>>().join("&"))
    });
    page(&AuditPage {
        frame: Frame::new(&who, "Who changed what")?,
        people: people.into_iter().map(|u| (u.id, u.display_name, person == Some(u.id))).collect(),
        sites: sites.into_iter().map(|(id, name)| (id.number(), name, site == Some(id.number()))).collect(),
        lines: entries.iter().map(|(site, entry)| line(entry, *site, &names)).collect(),
        older,
        tries: tries.iter().map(try_line).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::Timestamp;

    #[test]
    fn tries_are_said_as_one_says_them() {
        let tries = SignIns {
            login: "bram".into(),
            address: "192.0.2.7".into(),
            opened: 1,
            failed: 6,
            refused: 24,
            last_at: Timestamp::UNIX_EPOCH,
        };
        assert_eq!(try_line(&tries).what, "failed 6 times, not even looked at 24 times, opened once");
        assert_eq!(try_line(&SignIns { opened: 0, refused: 0, failed: 1, ..tries }).what, "failed once");
    }
}
