//! The call list: what each box will do tonight and what to set this week, over all sites.

pub(super) mod nights;

use crate::page::frame::Frame;
use crate::page::quantities::{depth, short_date};
use crate::page::ticks::{TickMark, week_number};
use crate::server::address;
use crate::server::download::attachment;
use crate::server::error::{PageError, page};
use crate::server::parallel::each_of;
use crate::server::reader::off_loop;
use crate::server::state::AppState;
use crate::site::clock::Moment;
use crate::site::context::AllSites;
use actix_web::http::header::{HeaderValue, REFRESH};
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::advice::budget::{Base, PercentageSlot, week};
use upland_core::controller::ordinance::Law;
use upland_core::installation::Installation;
use upland_core::quantity::ratio::Percentage;
use upland_core::site::Zone;
use upland_core::weather::climate::Climate;
use upland_store::controllers::{BoxStamp, ControllerRecord};
use upland_store::scope::{Scope, SiteKey};
use upland_store::settings::SettingsRecord;
use upland_store::sites::{SiteRecord, time_zone};
use upland_store::ticks::{TickRecord, What};
use upland_store::weather::VersionedSummary;
use upland_store::{Snapshot, StoreError};

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(list).service(csv);
}

/// One slot of one box.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Call {
    pub site_id: i64,
    pub site: String,
    pub box_id: i64,
    pub box_number: u8,
    pub place: String,
    /// Program, or empty for the whole box.
    pub turns: String,
    pub set: Percentage,
    /// `None`: nothing needs water.
    pub advised: Option<Percentage>,
    pub because: String,
    pub week: Date,
    /// The last day of a record that ended a while ago: the call is about that evening.
    pub record_ended: Option<Date>,
}

impl Call {
    fn changes(&self) -> bool {
        self.advised.is_some_and(|a| a != self.set)
    }
}

/// The last recorded day of a site; `None`: there is no weather.
struct LastDay(Option<Date>);

fn last_day_facts(stamp: &BoxStamp) -> String {
    format!("site {} revision {}", stamp.site_id, stamp.revision)
}

/// What the pages of a box's site are about, by the same rule as everywhere.
fn moment_of(stamp: &BoxStamp, last: Option<Date>, now: Timestamp) -> Result<Moment, StoreError> {
    Ok(Moment::choose(None, now, &time_zone(&stamp.time_zone)?, (last, stamp.last_reading())))
}

/// Everything that a box's calls follow from.
fn calls_facts(stamp: &BoxStamp, today: Date) -> String {
    format!("site {} revision {} box {} on {today}", stamp.site_id, stamp.revision, stamp.box_id)
}

/// The calls of a box.
fn calls_of(
    site: &SiteRecord,
    zones: &[Zone],
    record: &ControllerRecord,
    settings: &SettingsRecord,
    climate: &Climate,
    (today, tz): (Date, &TimeZone),
) -> Vec<Call> {
    let of = (&record.controller.card, record.controller.number);
    let installation = Installation::new(&site.site, of, zones, Law::default(), climate, today, tz);
    let base = Base::new(&installation, &settings.settings, today.year());
    let advice = week(&base, climate, today);
    let units = site.site.units;
    let because = format!(
        "{} of ET, {} of rain in seven days{}",
        depth(units, advice.et0),
        depth(units, advice.rain),
        if advice.expected_days > 0 {
            format!(", {} days from normals", advice.expected_days)
        } else {
            String::new()
        }
    );
    advice
        .slots
        .iter()
        .zip(&advice.best)
        .zip(&advice.set)
        .map(|((slot, advised), set)| Call {
            site_id: site.id.number(),
            site: site.site.name.clone(),
            box_id: record.id,
            box_number: record.controller.number,
            place: record.controller.place.clone(),
            turns: match slot {
                PercentageSlot::Box => String::new(),
                PercentageSlot::Program(p) => {
                    settings.settings.programs.get(*p).map_or(String::new(), |p| p.name.clone())
                }
            },
            set: *set,
            advised: *advised,
            because: because.clone(),
            week: today,
            record_ended: None,
        })
        .collect()
}

/// Calls of boxes, by the place of their stamp.
type Found = (usize, Arc<Vec<Call>>);

/// Documents of the sites whose calls are not known yet.
struct Documents {
    sites: BTreeMap<SiteKey, SiteRecord>,
    zones: BTreeMap<SiteKey, Vec<Zone>>,
    boxes: BTreeMap<i64, ControllerRecord>,
    settings: BTreeMap<i64, SettingsRecord>,
    briefs: BTreeMap<i64, VersionedSummary>,
}

impl Documents {
    fn load(store: &mut Snapshot<'_>, scope: &Scope, missing: &[i64]) -> Result<Self, StoreError> {
        let mut zones: BTreeMap<SiteKey, Vec<Zone>> = BTreeMap::new();
        for zone in store.all_zones(scope)? {
            zones.entry(zone.site_id).or_default().push(zone.zone);
        }
        Ok(Self {
            sites: store.sites(scope)?.into_iter().map(|s| (s.id, s)).collect(),
            zones,
            boxes: store.all_controllers(scope)?.into_iter().map(|b| (b.id, b)).collect(),
            settings: store.all_settings(scope)?,
            briefs: store.climate_summaries(missing)?,
        })
    }

    /// The calls of a box, and the last day of its weather.
    fn calls(
        &self,
        state: &AppState,
        stamp: &BoxStamp,
        now: Timestamp,
    ) -> Result<Option<(Date, Vec<Call>)>, StoreError> {
        let site = self.sites.get(&stamp.site_id);
        let (Some(site), Some(record), Some(set)) =
            (site, self.boxes.get(&stamp.box_id), self.settings.get(&stamp.box_id))
        else {
            return Ok(None);
        };
        let good = (site.weather_version, site.version);
        let climate = match self.briefs.get(&site.id.number()).filter(|(of, _)| *of == good) {
            Some((_, brief)) => Arc::new(Climate::from_summary(brief, site.site.station().at_two_metres())),
            None => state.store.read(|snapshot| crate::site::climate::climate(state, snapshot, site))?,
        };
        let last = climate.span().map(|(_, last)| last);
        state.cache.once(last_day_facts(stamp), |_| 1, || Ok(LastDay(last)))?;
        let today = moment_of(stamp, last, now)?.date;
        let zones = self.zones.get(&site.id).map_or(&[][..], Vec::as_slice);
        Ok(Some((
            today,
            calls_of(site, zones, record, set, &climate, (today, &time_zone(&stamp.time_zone)?)),
        )))
    }
}

/// Every call, sites by name. Boxes whose facts did not change come from the cache; the others from
/// their documents and their climates in short, on every core.
fn all(state: &AppState, scope: &Scope, now: Timestamp) -> Result<Vec<Call>, StoreError> {
    let stamps = state.store.read(|snapshot| snapshot.box_stamps(scope))?;
    let known = |stamp: &BoxStamp| -> Option<Arc<Vec<Call>>> {
        let last = state.cache.get::<LastDay>(&last_day_facts(stamp))?;
        let today = moment_of(stamp, last.0, now).ok()?.date;
        state.cache.get::<Vec<Call>>(&calls_facts(stamp, today))
    };
    let mut found: Vec<Option<Arc<Vec<Call>>>> = stamps.iter().map(known).collect();
    let missing: Vec<usize> = found.iter().enumerate().filter(|(_, f)| f.is_none()).map(|(i, _)| i).collect();
    if !missing.is_empty() {
        let sites: Vec<i64> =
            missing.iter().filter_map(|i| stamps.get(*i)).map(|s| s.site_id.number()).collect();
        let documents = state.store.read(|snapshot| Documents::load(snapshot, scope, &sites))?;
        let compute = |index: &usize| -> Result<Option<Found>, StoreError> {
            let Some(stamp) = stamps.get(*index) else { return Ok(None) };
            let Some((today, calls)) = documents.calls(state, stamp, now)? else { return Ok(None) };
            let calls = state.cache.once(calls_facts(stamp, today), Vec::len, || Ok(calls))?;
            Ok(Some((*index, calls)))
        };
        for one in each_of(&missing, compute) {
            let Some((index, calls)) = one? else { continue };
            if let Some(slot) = found.get_mut(index) {
                *slot = Some(calls);
            }
        }
    }
    let mut all = Vec::new();
    for (stamp, calls) in stamps.iter().zip(found) {
        let last = state.cache.get::<LastDay>(&last_day_facts(stamp)).and_then(|last| last.0);
        let record_ended = moment_of(stamp, last, now)?.record_ended;
        all.extend(calls.iter().flat_map(|c| c.iter()).map(|c| Call { record_ended, ..c.clone() }));
    }
    Ok(all)
}

struct CallLine {
    href: String,
    site: String,
    place: String,
    turns: String,
    set: String,
    advised: String,
    because: String,
    changes: bool,
    called: TickMark,
}

#[derive(Template)]
#[template(path = "chapters/round/calls/list.html")]
struct ListPage {
    frame: Frame,
    lead: String,
    lines: Vec<CallLine>,
    nights: Vec<NightLine>,
    /// What is still worked on, in words.
    waiting: Option<String>,
}

/// A box tonight.
struct NightLine {
    href: String,
    site: String,
    place: String,
    sentence: String,
    wrong: bool,
}

/// The boxes tonight, those with something to change first.
fn night_lines(known: &[(i64, Arc<nights::SiteNight>)]) -> Vec<NightLine> {
    let boxes = known.iter().flat_map(|(id, night)| night.boxes.iter().map(move |own| (id, night, own)));
    let mut lines: Vec<NightLine> = boxes
        .map(|(id, night, own)| NightLine {
            href: format!("{}?box={}", address::today(*id), own.number),
            site: night.site.clone(),
            place: format!("{} {}", own.number, own.place),
            sentence: own.sentence.clone(),
            wrong: own.wrong,
        })
        .collect();
    lines.sort_by(|a, b| b.wrong.cmp(&a.wrong).then_with(|| (&a.site, &a.place).cmp(&(&b.site, &b.place))));
    lines
}

fn line(call: &Call, called: &[TickRecord]) -> CallLine {
    let what = (What::Called, call.box_id, week_number(call.week));
    CallLine {
        called: TickMark::of(call.site_id, what, called, (&TimeZone::UTC, "/calls".into())),
        href: format!("{}/budget#h-week", address::site_box(call.site_id, call.box_number)),
        site: call.site.clone(),
        place: format!("{} {}", call.box_number, call.place),
        turns: if call.turns.is_empty() { "whole box".into() } else { format!("program {}", call.turns) },
        set: call.set.to_string(),
        advised: call.advised.map_or("off".into(), |a| a.to_string()),
        because: format!(
            "week from {}: {}{}",
            short_date(call.week),
            call.because,
            if call.record_ended.is_some() { "; the weather record ended then" } else { "" }
        ),
        changes: call.changes(),
    }
}

/// Whether the box of a call was called in its week.
fn is_called(call: &Call, called: &[TickRecord]) -> bool {
    let number = week_number(call.week);
    called.iter().any(|t| (t.site_id.number(), t.about, t.number) == (call.site_id, call.box_id, number))
}

/// Every call, worked out once for the facts of all sites and the minute.
async fn calls(here: &AllSites) -> Result<Arc<Vec<Call>>, PageError> {
    let (scope, now) = (here.who.scope.clone(), here.who.now);
    here.once(&format!("calls at {now}"), 200, move |state| Ok(all(state, &scope, now)?)).await
}

#[get("/calls")]
async fn list(here: AllSites) -> Result<HttpResponse, PageError> {
    let calls = calls(&here).await?;
    let (state, scope, now) = (here.state.clone(), here.who.scope.clone(), here.who.now);
    let nights = off_loop(move || nights::known(&state, &scope, now)).await??;
    let first = calls.iter().map(|c| week_number(c.week)).min().unwrap_or(0);
    let called =
        crate::server::state::read(&here.state, move |snapshot| snapshot.called_since(first)).await?;
    let open = calls.iter().filter(|c| c.changes() && !is_called(c, &called)).count();
    let missing = nights.missing.len();
    let waiting = (missing > 0).then(|| {
        let all = missing + nights.known.len();
        format!("{} of {all} sites are worked out; the page looks again by itself.", nights.known.len())
    });
    nights::work_on(&here.state, nights.missing, now);
    let (boxes, changes) = (
        calls.iter().map(|c| (c.site_id, c.box_number)).collect::<std::collections::BTreeSet<_>>().len(),
        calls.iter().filter(|c| c.changes()).count(),
    );
    let mut shown = page(&ListPage {
        nights: night_lines(&nights.known),
        frame: Frame::new(&here.who, "This week's calls")?,
        lead: format!(
            "{changes} of {} percentages on {boxes} boxes stand elsewhere than the last week asks{}.",
            calls.len(),
            if open < changes { format!("; {open} are not called yet") } else { String::new() }
        ),
        lines: calls.iter().map(|call| line(call, &called)).collect(),
        waiting,
    })?;
    if missing > 0 {
        shown.headers_mut().insert(REFRESH, HeaderValue::from_static("2"));
    }
    Ok(shown)
}

/// The sentence of every box tonight; a file leaves none out.
fn every_night(
    state: &AppState,
    scope: &Scope,
    now: Timestamp,
) -> Result<BTreeMap<(i64, u8), String>, StoreError> {
    let mut found = nights::known(state, scope, now)?;
    for stamp in &found.missing {
        found.known.extend(nights::night(state, stamp, now)?.map(|night| (stamp.site_id.number(), night)));
    }
    let boxes = found.known.iter().flat_map(|(id, night)| night.boxes.iter().map(move |own| (*id, own)));
    Ok(boxes.map(|(id, own)| ((id, own.number), own.sentence.clone())).collect())
}

#[get("/calls.csv")]
async fn csv(here: AllSites) -> Result<HttpResponse, PageError> {
    let calls = calls(&here).await?;
    let (state, scope, now) = (here.state.clone(), here.who.scope.clone(), here.who.now);
    let tonight = off_loop(move || every_night(&state, &scope, now)).await??;
    let rows: Vec<[String; 10]> = calls
        .iter()
        .map(|c| {
            [
                c.week.to_string(),
                c.site.clone(),
                c.box_number.to_string(),
                c.place.clone(),
                c.turns.clone(),
                c.set.percent().to_string(),
                c.advised.map_or(String::new(), |a| a.percent().to_string()),
                c.because.clone(),
                c.record_ended.map_or(String::new(), |last| last.to_string()),
                tonight.get(&(c.site_id, c.box_number)).cloned().unwrap_or_default(),
            ]
        })
        .collect();
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment("calls", "csv"))
        .body(upland_formats::rows_csv::write(
            &[
                "week_from",
                "site",
                "box",
                "place",
                "program",
                "set_pct",
                "advised_pct",
                "because",
                "record_ended",
                "tonight",
            ],
            &rows,
        )))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;

    #[test]
    fn a_box_is_called_by_slot_with_its_reason() {
        let bench = fixture::workbench();
        let zones: Vec<Zone> = bench.loaded.zones.iter().map(|z| z.zone.clone()).collect();
        let own = &bench.loaded.boxes[0];
        let calls = calls_of(
            &bench.loaded.site,
            &zones,
            &own.record,
            bench.saved().unwrap(),
            &bench.climate,
            (bench.today, &bench.loaded.tz),
        );
        assert!(!calls.is_empty());
        assert!(calls.iter().all(|c| c.because.contains("of ET") && c.place == "Potting shed"));
        let shown = line(&Call { advised: None, ..calls[0].clone() }, &[]);
        assert_eq!((shown.advised.as_str(), shown.changes), ("off", false));
        let moved =
            Call { advised: Some(Percentage::from_percent(calls[0].set.percent() + 10)), ..calls[0].clone() };
        assert!(line(&moved, &[]).changes);
        let tick = TickRecord {
            site_id: crate::fixture::key(moved.site_id),
            what: What::Called,
            about: moved.box_id,
            number: week_number(moved.week),
            at: jiff::Timestamp::UNIX_EPOCH,
            said_by: "Bram".into(),
        };
        assert!(
            line(&moved, std::slice::from_ref(&tick)).called.done.is_some() && is_called(&moved, &[tick])
        );
        assert!(!is_called(&moved, &[]));
    }
}
