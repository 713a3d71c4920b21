//! Visits: what was entered on a day at a site, adjustments that were turned after it.

use crate::schema::{users, visit_entries, visit_levers, visits};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, StoreError, Subject, said};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff_diesel::ToDiesel;
use serde_json::Value;

/// Most entries of a visit: a long day of two people at the largest site.
pub const MOST_ENTRIES: usize = 3000;

/// A visit in a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VisitRecord {
    /// Identity.
    pub id: i64,
    /// The day on the site's clock.
    pub on: Date,
    /// Who began it.
    pub begun_by: String,
    /// When to look again, once an adjustment was turned.
    pub look_again: Option<Date>,
}

/// Something entered at a visit, as it is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct EntryRecord {
    /// Identity.
    pub id: i64,
    /// Its visit.
    pub visit_id: i64,
    /// Short name of what it is about: zone, controller, sensor, site.
    pub kind: String,
    /// The zone, controller or sensor; 0 for the site.
    pub about: i64,
    /// As the visit file has it.
    pub body: Value,
    /// When it was seen.
    pub at: Timestamp,
    /// How far the clock where it was entered was off, seconds.
    pub clock_off_s: i64,
    /// Who.
    pub person: i64,
    /// By what name.
    pub said_by: String,
    /// Whether it was taken back.
    pub undone: bool,
}

/// Something to be entered.
#[derive(Debug, Clone, Copy)]
pub struct NewEntry<'a> {
    /// Made where it was entered.
    pub client_key: &'a str,
    /// zone, controller, sensor or site.
    pub kind: &'a str,
    /// The zone, controller or sensor; 0 for the site.
    pub about: i64,
    /// As the visit file has it.
    pub body: &'a Value,
    /// When it was seen, by the application's clock.
    pub at: Timestamp,
    /// How far the clock where it was entered was off, seconds.
    pub clock_off_s: i64,
    /// The same in words, for the logbook.
    pub words: &'a str,
}

/// An adjustment that was turned.
#[derive(Debug, Clone, PartialEq)]
pub struct LeverRecord {
    /// Its visit.
    pub visit_id: i64,
    /// Short name.
    pub code: String,
    /// Short name of its cause.
    pub cause: String,
    /// What was done.
    pub words: String,
    /// What was forecast.
    pub foretold: Value,
    /// When to look again.
    pub look_again: Date,
    /// Who.
    pub said_by: String,
    /// When.
    pub said_at: Timestamp,
}

/// An adjustment to be noted.
#[derive(Debug, Clone, Copy)]
pub struct NewLever<'a> {
    /// Short name.
    pub code: &'a str,
    /// Short name of its cause.
    pub cause: &'a str,
    /// What was done.
    pub words: &'a str,
    /// What was forecast.
    pub foretold: &'a Value,
    /// When to look again.
    pub look_again: Date,
    /// The zone that it is about.
    pub zone_id: Option<i64>,
}

type VisitRow = (i64, jiff_diesel::Date, String, Option<jiff_diesel::Date>);

fn visit_of((id, on, begun_by, look_again): VisitRow) -> VisitRecord {
    VisitRecord { id, on: on.to_jiff(), begun_by, look_again: look_again.map(jiff_diesel::Date::to_jiff) }
}

type EntryRow = (
    (i64, i64, String, i64, Value, jiff_diesel::Timestamp, i64),
    (i64, String, Option<jiff_diesel::Timestamp>),
);

fn entry_of(row: EntryRow) -> EntryRecord {
    let ((id, visit_id, kind, about, body, at, clock_off_s), (person, said_by, undone)) = row;
    let at = at.to_jiff();
    EntryRecord {
        id,
        visit_id,
        kind,
        about,
        body,
        at,
        clock_off_s,
        person,
        said_by,
        undone: undone.is_some(),
    }
}

impl Snapshot<'_> {
    /// The visits of a site, newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn visits(&mut self, site_id: SiteKey, most: i64) -> Result<Vec<VisitRecord>> {
        let rows: Vec<VisitRow> = visits::table
            .inner_join(users::table)
            .filter(visits::site_id.eq(site_id).and(visits::removed_at.is_null()))
            .order(visits::on_date.desc())
            .limit(most)
            .select((visits::id, visits::on_date, users::display_name, visits::look_again))
            .load(self.connection)?;
        Ok(rows.into_iter().map(visit_of).collect())
    }

    /// A visit of a site that was not removed.
    ///
    /// # Errors
    /// As any query.
    pub fn visit(&mut self, site_id: SiteKey, id: i64) -> Result<Option<VisitRecord>> {
        let row: Option<VisitRow> = visits::table
            .inner_join(users::table)
            .filter(visits::id.eq(id).and(visits::site_id.eq(site_id)).and(visits::removed_at.is_null()))
            .select((visits::id, visits::on_date, users::display_name, visits::look_again))
            .first(self.connection)
            .optional()?;
        Ok(row.map(visit_of))
    }

    /// Everything entered at the visits of a site, in the order in which it was seen, what was taken back too.
    ///
    /// # Errors
    /// As any query.
    pub fn visit_entries(&mut self, site_id: SiteKey) -> Result<Vec<EntryRecord>> {
        let rows: Vec<EntryRow> = visit_entries::table
            .inner_join(visits::table)
            .inner_join(users::table.on(users::id.eq(visit_entries::said_by)))
            .filter(visits::site_id.eq(site_id).and(visits::removed_at.is_null()))
            .order((visit_entries::at, visit_entries::id))
            .select((
                (
                    visit_entries::id,
                    visit_entries::visit_id,
                    visit_entries::kind,
                    visit_entries::about,
                    visit_entries::body,
                    visit_entries::at,
                    visit_entries::clock_off_s,
                ),
                (visit_entries::said_by, users::display_name, visit_entries::undone_at),
            ))
            .load(self.connection)?;
        Ok(rows.into_iter().map(entry_of).collect())
    }

    /// Adjustments that were turned at a site, newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn levers(&mut self, site_id: SiteKey) -> Result<Vec<LeverRecord>> {
        type Row =
            ((i64, String, String, String, Value, jiff_diesel::Date), (String, jiff_diesel::Timestamp));
        let rows: Vec<Row> = visit_levers::table
            .inner_join(visits::table)
            .inner_join(users::table.on(users::id.eq(visit_levers::said_by)))
            .filter(visits::site_id.eq(site_id).and(visits::removed_at.is_null()))
            .order(visit_levers::id.desc())
            .limit(200)
            .select((
                (
                    visit_levers::visit_id,
                    visit_levers::code,
                    visit_levers::cause,
                    visit_levers::words,
                    visit_levers::foretold,
                    visit_levers::look_again,
                ),
                (users::display_name, visit_levers::said_at),
            ))
            .load(self.connection)?;
        let of = |((visit_id, code, cause, words, foretold, look_again), (said_by, at)): Row| LeverRecord {
            visit_id,
            code,
            cause,
            words,
            foretold,
            look_again: look_again.to_jiff(),
            said_by,
            said_at: at.to_jiff(),
        };
        Ok(rows.into_iter().map(of).collect())
    }
}

impl Change<'_> {
    /// The visit of a day, begun when there is none.
    ///
    /// # Errors
    /// As any query.
    pub fn visit_on(&mut self, on: Date) -> Result<i64> {
        let (site_id, actor) = (self.site_id, self.actor);
        let known: Option<i64> = visits::table
            .filter(visits::site_id.eq(site_id).and(visits::on_date.eq(on.to_diesel())))
            .filter(visits::removed_at.is_null())
            .select(visits::id)
            .first(self.connection)
            .optional()?;
        if let Some(id) = known {
            return Ok(id);
        }
        let id: i64 = diesel::insert_into(visits::table)
            .values((
                visits::site_id.eq(site_id),
                visits::on_date.eq(on.to_diesel()),
                visits::begun_by.eq(actor),
            ))
            .returning(visits::id)
            .get_result(self.connection)?;
        let event = NewEvent::new(Subject::Visit, Some(id), Action::Created);
        self.record(event.said(format!("visit of {}", said(on))));
        Ok(id)
    }

    /// Keeps something that was entered; `None` when it is here already.
    ///
    /// # Errors
    /// As any query; [`StoreError::Full`] when the visit has as many as may be.
    pub fn enter(&mut self, visit_id: i64, new: NewEntry<'_>) -> Result<Option<i64>> {
        let actor = self.actor;
        let of_visit = visit_entries::table.filter(visit_entries::visit_id.eq(visit_id));
        let count: i64 = of_visit.count().get_result(self.connection)?;
        if usize::try_from(count).unwrap_or(usize::MAX) >= MOST_ENTRIES {
            return Err(StoreError::Full("entries of this visit", MOST_ENTRIES));
        }
        let id: Option<i64> = diesel::insert_into(visit_entries::table)
            .values((
                visit_entries::visit_id.eq(visit_id),
                visit_entries::client_key.eq(new.client_key),
                visit_entries::kind.eq(new.kind),
                visit_entries::about.eq(new.about),
                visit_entries::body.eq(new.body),
                visit_entries::at.eq(new.at.to_diesel()),
                visit_entries::clock_off_s.eq(new.clock_off_s),
                visit_entries::said_by.eq(actor),
            ))
            .on_conflict_do_nothing()
            .returning(visit_entries::id)
            .get_result(self.connection)
            .optional()?;
        if let Some(id) = id {
            let zone = (new.kind == "zone").then_some(new.about);
            let event = NewEvent::new(Subject::VisitEntry, Some(id), Action::Created);
            self.record(event.with(new.body.clone()).said(new.words).of_zone(zone));
        }
        Ok(id)
    }

    /// Notes that an adjustment was turned, and when to look again.
    ///
    /// # Errors
    /// As any query.
    pub fn note_lever(&mut self, visit_id: i64, new: NewLever<'_>) -> Result<i64> {
        let actor = self.actor;
        let id: i64 = diesel::insert_into(visit_levers::table)
            .values((
                visit_levers::visit_id.eq(visit_id),
                visit_levers::code.eq(new.code),
                visit_levers::cause.eq(new.cause),
                visit_levers::words.eq(new.words),
                visit_levers::foretold.eq(new.foretold),
                visit_levers::look_again.eq(new.look_again.to_diesel()),
                visit_levers::said_by.eq(actor),
            ))
            .returning(visit_levers::id)
            .get_result(self.connection)?;
        let sooner =
            diesel::dsl::sql::<diesel::sql_types::Nullable<diesel::sql_types::Date>>("LEAST(look_again, ")
                .bind::<diesel::sql_types::Date, _>(new.look_again.to_diesel())
                .sql(")");
        diesel::update(visits::table.find(visit_id))
            .set(visits::look_again.eq(sooner))
            .execute(self.connection)?;
        let event = NewEvent::new(Subject::Lever, Some(id), Action::Created);
        self.record(event.with(new.code).said(new.words).of_zone(new.zone_id));
        Ok(id)
    }
}
