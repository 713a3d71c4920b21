//! "Why was this zone dry?": weather, runs, holds, percentages, changes and visits of any span on one axis, with the
//! account's answer as a sentence.

use crate::page::dates::{DateFormat, typed_date};
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::{plain, short_date};
use crate::page::season_chart::{SeasonChart, chart};
use crate::page::why_words::{answer, question, reason, sums};
use crate::server::address;
use crate::server::error::{PageError, page};
use crate::site::clock::asked_day;
use crate::site::context::AtSite;
use crate::site::snapshot::SiteSnapshot;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use serde::Deserialize;
use upland_core::account::zone::AccountDay;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::time::midnight;
use upland_core::tuning::why;
use upland_store::logbook::{Asked, LogEntry};
use upland_store::zones::ZoneRecord;

/// Days looked at when none are asked for.
const DAYS: i32 = 31;
/// Longest span, days: an account about a day begins half a year before it.
const MOST_DAYS: i32 = 180;
/// Entries looked at.
const MOST_ENTRIES: i64 = 400;
/// Width of the axis that all drawings share.
const WIDTH: f64 = 1000.0;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(why_page);
}

#[derive(Debug, Deserialize)]
struct Query {
    from: Option<String>,
    to: Option<String>,
}

/// A step of the percentage.
struct Step {
    x: String,
    width: String,
    y: String,
    height: String,
    words: String,
}

/// A mark of something that was done.
struct Mark {
    x: String,
    /// "3", or "3–5" where several stand too near to each other.
    label: String,
    words: String,
}

struct Done {
    number: usize,
    at: String,
    by: String,
    words: String,
    href: String,
}

#[derive(Template)]
#[template(path = "chapters/logbook/why.html")]
struct WhyPage {
    frame: Frame,
    site_id: i64,
    zone_id: i64,
    from: String,
    to: String,
    days: String,
    question: String,
    answer: String,
    reasons: Vec<String>,
    sums: Vec<(&'static str, String)>,
    chart: SeasonChart,
    steps: Vec<Step>,
    marks: Vec<Mark>,
    done: Vec<Done>,
    /// The options beside each other over these days, opened at this zone.
    compare: String,
    earlier: String,
    later: Option<String>,
}

/// The days that are asked for, in order and not too many.
fn span(query: &Query, today: Date) -> Result<DateSpan, PageError> {
    let to = asked_day(query.to.as_deref(), today)?.unwrap_or(today).min(today);
    let back = |days: i32| to.checked_sub((days - 1).days()).unwrap_or(to);
    let from = asked_day(query.from.as_deref(), today)?.unwrap_or_else(|| back(DAYS));
    if from > to {
        return Err(PageError::BadRequest("The first day lies after the last. Swap them.".into()));
    }
    if from < back(MOST_DAYS) {
        return Err(PageError::BadRequest(format!(
            "At most {MOST_DAYS} days at once. Choose a later first day."
        )));
    }
    Ok(DateSpan::new(from, to))
}

#[get("/sites/{id}/zones/{zone}/why")]
async fn why_page(
    here: AtSite,
    path: web::Path<(i64, i64)>,
    query: web::Query<Query>,
) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let DateSpan { first: from, last: to } = span(&query, here.moment(None).date)?;
    let zone = here.records.zone(path.1)?.clone();
    let frame = Frame::of_site(&here, "Why", Chapter::Logbook)?;
    let now = here.moment(None).date;
    let site = here.snapshot_with_account((to != now).then_some(to)).await?;
    let zone_id = zone.id;
    let asked = Asked {
        from: Some(midnight(from, &here.records.tz)),
        until: Some(midnight(to.tomorrow().unwrap_or(to), &here.records.tz)),
        ..Asked::default()
    };
    let entries = here.read(move |snapshot| snapshot.logbook(of_site, &asked, MOST_ENTRIES)).await?;
    let about = |e: &LogEntry| match e.zone_id {
        Some(id) => id == zone_id,
        None => matches!(
            e.subject.as_str(),
            "settings" | "sensor" | "sensor_event" | "ordinance" | "lever" | "tick" | "note" | "visit"
        ),
    };
    let entries: Vec<LogEntry> = entries.into_iter().filter(about).collect();
    page(&WhyPage::of(frame, &here, &zone, &site, from, to, &entries)?)
}

impl WhyPage {
    // Long: one part of the page after another.
    fn of(
        frame: Frame,
        here: &AtSite,
        zone: &ZoneRecord,
        site: &SiteSnapshot,
        from: Date,
        to: Date,
        entries: &[LogEntry],
    ) -> Result<Self, PageError> {
        let facts = &site.inputs;
        let key = zone.zone.station_id();
        let units = here.records.units();
        let found = why(facts, site.account(), key, from, to).ok_or(PageError::NotFound)?;
        let own = site.account().zone(key).ok_or(PageError::NotFound)?;
        let days: Vec<AccountDay> =
            own.days.iter().filter(|d| (from..=to).contains(&d.date)).copied().collect();
        if days.is_empty() {
            return Err(PageError::BadRequest(
                "The account begins after these days. Choose later ones.".into(),
            ));
        }
        let resolved = zone.zone.resolve(here.records.site.site.latitude_deg);
        let total = resolved.root_zone.total_available.mm();
        let name = format!("{} {}", zone.zone.number, zone.zone.name);
        let place = |at: Timestamp| {
            let begin = midnight(from, &here.records.tz);
            #[allow(clippy::cast_precision_loss, reason = "days of a season")]
            let step = WIDTH / days.len() as f64;
            #[allow(clippy::cast_precision_loss, reason = "seconds of a season")]
            let passed = at.duration_since(begin).as_secs() as f64 / 86_400.0;
            (passed * step).clamp(0.0, WIDTH)
        };
        let done: Vec<Done> = entries.iter().rev().enumerate().map(|(k, e)| done(here, k + 1, e)).collect();
        let placed = entries.iter().rev().map(|e| {
            let day = short_date(e.at.to_zoned(here.records.tz.clone()).date());
            (place(e.at), format!("{day}: {}", e.words))
        });
        let marks = marks(placed);
        let held: Vec<(Date, &str)> = site
            .account()
            .runs
            .of(key)
            .filter(|r| r.is_held())
            .map(|r| (r.run.start.to_zoned(here.records.tz.clone()).date(), "skipped"))
            .filter(|(date, _)| (from..=to).contains(date))
            .collect();
        let length = (to - from).get_days() + 1;
        let address_of =
            |from: Date, to: Date| format!("{}/why?from={from}&to={to}", address::zone(here.id(), zone.id));
        let moved = |days: i32| (from.checked_add(days.days()), to.checked_add(days.days()));
        let earlier = from.checked_sub(length.days()).unwrap_or(from);
        let later = match moved(length) {
            (Ok(a), Ok(b)) if a <= here.moment(None).date => {
                Some(address_of(a, b.min(here.moment(None).date)))
            }
            _ => None,
        };
        Ok(Self {
            site_id: here.id(),
            zone_id: zone.id,
            question: question(&found, &name),
            answer: answer(&found, units),
            reasons: found.reasons.iter().map(|r| reason(r, &found, units)).collect(),
            sums: sums(&found, units),
            chart: chart(&days, total, units).with_held(&days, &held),
            steps: steps(facts, key.controller, key.station, from, to, &days, &here.records.tz),
            marks,
            done,
            compare: format!(
                "{}/trial?weather=days&from={from}&to={to}&zone={}-{}",
                address::site_root(here.id()),
                key.controller,
                key.station
            ),
            earlier: address_of(earlier, from.yesterday().unwrap_or(from)),
            later,
            days: format!("{} to {}", from.formatted("%-d %B"), to.formatted("%-d %B %Y")),
            from: typed_date(from),
            to: typed_date(to),
            frame,
        })
    }
}

fn done(here: &AtSite, number: usize, entry: &LogEntry) -> Done {
    let at = entry.at.to_zoned(here.records.tz.clone());
    let action = crate::page::event_words::action(entry);
    let subject = crate::page::event_words::subject(&entry.subject);
    let head = if action.is_empty() { subject.to_owned() } else { format!("{subject} {action}") };
    Done {
        number,
        at: at.formatted("%-d %b, %H:%M"),
        by: entry.person.clone().unwrap_or_default(),
        words: if entry.words.is_empty() { head } else { format!("{head}: {}", entry.words) },
        href: format!("{}/logbook#entry-{}", address::site_root(here.id()), entry.id),
    }
}

/// Marks that stand nearer than this are one.
const NEAR: f64 = 22.0;

/// What was done, in order of time, as marks on the axis.
fn marks(placed: impl Iterator<Item = (f64, String)>) -> Vec<Mark> {
    let mut out: Vec<(f64, usize, usize, Vec<String>)> = Vec::new();
    for (k, (x, words)) in placed.enumerate() {
        match out.last_mut() {
            Some((first, _, last, all)) if x - *first < NEAR => {
                *last = k + 1;
                all.push(words);
            }
            _ => out.push((x, k + 1, k + 1, vec![words])),
        }
    }
    let mark = |(x, first, last, all): (f64, usize, usize, Vec<String>)| Mark {
        x: plain(x, 1),
        label: if first == last { first.to_string() } else { format!("{first}–{last}") },
        words: all.join("; "),
    };
    out.into_iter().map(mark).collect()
}

/// The percentage that turned the zone, day by day, as steps.
fn steps(
    facts: &upland_core::account::site_account::AccountInputs,
    controller_number: u8,
    station: u16,
    from: Date,
    to: Date,
    days: &[AccountDay],
    tz: &jiff::tz::TimeZone,
) -> Vec<Step> {
    const HEIGHT: f64 = 44.0;
    let Some(own) = facts.of_controller(controller_number) else { return Vec::new() };
    let of = |date: Date| {
        let at = upland_core::quantity::time::noon(date, tz);
        let settings = own.settings_at(at)?;
        let programs = settings.programs.iter().enumerate().filter(|(_, p)| p.waters());
        let mut programs = programs.filter(|(at, _)| settings.run_time(*at, station).any());
        programs.next().map(|(program, _)| settings.percentages.of(program, date).percent())
    };
    #[allow(clippy::cast_precision_loss, reason = "days of a season")]
    let step = WIDTH / days.len().max(1) as f64;
    let mut out: Vec<(usize, usize, Option<u16>)> = Vec::new();
    for (place, date) in from.series(1.day()).take_while(|d| *d <= to).enumerate() {
        let pct = of(date);
        match out.last_mut() {
            Some((_, length, last)) if *last == pct => *length += 1,
            _ => out.push((place, 1, pct)),
        }
    }
    let most = out.iter().filter_map(|(_, _, p)| *p).max().unwrap_or(100).max(100);
    let one = |(first, length, pct): &(usize, usize, Option<u16>)| {
        let pct = (*pct)?;
        let height = HEIGHT * f64::from(pct) / f64::from(most);
        #[allow(clippy::cast_precision_loss, reason = "days of a season")]
        let (x, width) = (*first as f64 * step, *length as f64 * step);
        Some(Step {
            x: plain(x, 1),
            width: plain(width, 1),
            y: plain(HEIGHT - height, 1),
            height: plain(height, 1),
            words: format!("{pct} %"),
        })
    };
    out.iter().filter_map(one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    #[test]
    fn what_stands_too_near_is_one_mark() {
        let placed = [(10.0, "a"), (15.0, "b"), (80.0, "c")].map(|(x, w)| (x, w.to_owned()));
        let found = marks(placed.into_iter());
        let told: Vec<_> = found.iter().map(|m| (m.label.as_str(), m.words.as_str())).collect();
        assert_eq!(told, [("1–2", "a; b"), ("3", "c")]);
    }

    #[test]
    fn a_span_is_in_order_and_bounded() {
        let today = date(2026, 7, 14);
        let ask = |from: Option<&str>, to: Option<&str>| {
            span(&Query { from: from.map(Into::into), to: to.map(Into::into) }, today)
        };
        assert_eq!(ask(None, None).unwrap(), DateSpan::new(date(2026, 6, 14), today));
        assert_eq!(
            ask(Some("2026-07-14"), Some("2026-07-14")).unwrap(),
            DateSpan::new(today, today),
            "one day"
        );
        assert_eq!(ask(None, Some("2027-01-01")).unwrap().last, today, "nothing ahead of now");
        assert!(ask(Some("2026-07-14"), Some("2026-07-01")).is_err());
        assert!(ask(Some("2025-07-14"), None).is_err());
    }
}
