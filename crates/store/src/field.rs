//! What was found in the field: catch-can tests, readings of the soil, runs that really happened.

use crate::schema::{catch_tests, users, zone_events, zones};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, StoreError, Subject, document, said};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff_diesel::ToDiesel;
use upland_core::ground::catch_can::CatchTest;
use upland_formats::catch_file;

/// A catch-can test as kept.
#[derive(Debug, Clone, PartialEq)]
pub struct CatchRecord {
    /// Identity.
    pub id: i64,
    /// The zone.
    pub zone_id: i64,
    /// Day of the test.
    pub on: Date,
    /// The test.
    pub test: CatchTest,
    /// Who saved it.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
    /// Whether it was taken back.
    pub undone: bool,
}

/// What an event is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EventKind {
    /// A reading: share of the available water that is left.
    Reading,
    /// A run: minutes.
    Run,
}

impl EventKind {
    fn code(self) -> &'static str {
        match self {
            Self::Reading => "reading",
            Self::Run => "run",
        }
    }
}

/// Something found at a zone.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneEvent {
    /// Identity.
    pub id: i64,
    /// The zone.
    pub zone_id: i64,
    /// The day.
    pub date: Date,
    /// What.
    pub kind: EventKind,
    /// Share that is left, a fraction, or minutes.
    pub value: f64,
    /// How it was found, or why.
    pub reason: String,
    /// Who.
    pub said_by: String,
    /// When.
    pub said_at: Timestamp,
    /// Whether it was taken back.
    pub undone: bool,
}

impl Snapshot<'_> {
    /// The catch-can tests of a zone, newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn catch_tests(&mut self, zone_id: i64) -> Result<Vec<CatchRecord>> {
        type Row = (
            (i64, i64, jiff_diesel::Date, serde_json::Value),
            (String, jiff_diesel::Timestamp, Option<jiff_diesel::Timestamp>),
        );
        let rows: Vec<Row> = catch_tests::table
            .inner_join(users::table)
            .filter(catch_tests::zone_id.eq(zone_id))
            .order((catch_tests::taken_on.desc(), catch_tests::id.desc()))
            .select((
                (catch_tests::id, catch_tests::zone_id, catch_tests::taken_on, catch_tests::body),
                (users::display_name, catch_tests::saved_at, catch_tests::undone_at),
            ))
            .load(self.connection)?;
        rows.into_iter()
            .map(|((id, zone_id, on, body), (saved_by, at, undone))| {
                Ok(CatchRecord {
                    id,
                    zone_id,
                    on: on.to_jiff(),
                    test: document("catch-can test", catch_file::from_json(body))?,
                    saved_by,
                    saved_at: at.to_jiff(),
                    undone: undone.is_some(),
                })
            })
            .collect()
    }

    /// Everything noted at the zones of a site, by date, undone ones too.
    ///
    /// # Errors
    /// As any query.
    pub fn zone_events(&mut self, site_id: SiteKey) -> Result<Vec<ZoneEvent>> {
        type Row = (
            (i64, i64, jiff_diesel::Date, String, f64, String),
            (String, jiff_diesel::Timestamp, Option<jiff_diesel::Timestamp>),
        );
        let rows: Vec<Row> = zone_events::table
            .inner_join(users::table)
            .inner_join(zones::table)
            .filter(zones::site_id.eq(site_id))
            .order((zone_events::date, zone_events::id))
            .select((
                (
                    zone_events::id,
                    zone_events::zone_id,
                    zone_events::date,
                    zone_events::kind,
                    zone_events::value,
                    zone_events::reason,
                ),
                (users::display_name, zone_events::said_at, zone_events::undone_at),
            ))
            .load(self.connection)?;
        rows.into_iter()
            .map(|((id, zone_id, date, kind, value, reason), (said_by, at, undone))| {
                let kind = match kind.as_str() {
                    "reading" => EventKind::Reading,
                    "run" => EventKind::Run,
                    _ => return Err(StoreError::Unknown { what: "zone event", value: kind }),
                };
                Ok(ZoneEvent {
                    id,
                    zone_id,
                    date: date.to_jiff(),
                    kind,
                    value,
                    reason,
                    said_by,
                    said_at: at.to_jiff(),
                    undone: undone.is_some(),
                })
            })
            .collect()
    }
}

impl Change<'_> {
    /// Whether a zone is of the site and was not removed.
    fn has_zone(&mut self, id: i64) -> Result<bool> {
        let of_site =
            zones::table.find(id).filter(zones::site_id.eq(self.site_id).and(zones::removed_at.is_null()));
        Ok(diesel::select(diesel::dsl::exists(of_site)).get_result(self.connection)?)
    }

    /// Keeps a catch-can test; `None` when the zone is not of this site.
    ///
    /// # Errors
    /// As any query.
    pub fn save_catch_test(&mut self, zone_id: i64, on: Date, test: &CatchTest) -> Result<Option<i64>> {
        if !self.has_zone(zone_id)? {
            return Ok(None);
        }
        let actor = self.actor;
        let id: i64 = diesel::insert_into(catch_tests::table)
            .values((
                catch_tests::zone_id.eq(zone_id),
                catch_tests::taken_on.eq(on.to_diesel()),
                catch_tests::body.eq(catch_file::to_json(test)),
                catch_tests::saved_by.eq(actor),
            ))
            .returning(catch_tests::id)
            .get_result(self.connection)?;
        let event = NewEvent::new(Subject::CatchTest, Some(id), Action::Created);
        self.record(event.of_zone(zone_id).said(format!("catch cans of {}", said(on))));
        Ok(Some(id))
    }

    /// Notes what was found at a zone; `None` when the zone is not of this site.
    ///
    /// # Errors
    /// As any query.
    pub fn note_event(
        &mut self,
        zone_id: i64,
        date: Date,
        kind: EventKind,
        value: f64,
        reason: &str,
    ) -> Result<Option<i64>> {
        if !self.has_zone(zone_id)? {
            return Ok(None);
        }
        let actor = self.actor;
        let id: i64 = diesel::insert_into(zone_events::table)
            .values((
                zone_events::zone_id.eq(zone_id),
                zone_events::date.eq(date.to_diesel()),
                zone_events::kind.eq(kind.code()),
                zone_events::value.eq(value),
                zone_events::reason.eq(reason),
                zone_events::said_by.eq(actor),
            ))
            .returning(zone_events::id)
            .get_result(self.connection)?;
        let after = serde_json::json!({ "kind": kind.code(), "date": date.to_string(), "value": value });
        let said = match kind {
            EventKind::Reading => format!("{:.0} % left on {}: {reason}", 100.0 * value, said(date)),
            EventKind::Run => format!("ran {value:.0} min on {}: {reason}", said(date)),
        };
        let event = NewEvent::new(Subject::ZoneEvent, Some(id), Action::Created).with(after);
        self.record(event.of_zone(zone_id).said(said));
        Ok(Some(id))
    }
}
