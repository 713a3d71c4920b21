//! Ways of watering that somebody described for a site, and trials that were kept with everything that went in.

use crate::schema::{trial_ways, trials, users};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, StoreError, Subject};
use diesel::prelude::*;
use jiff::Timestamp;

use serde_json::Value;

/// Most ways of a site: every look at a trial runs them all.
pub const MOST_WAYS: usize = 25;
/// Trials shown in a list.
const MOST_SHOWN: i64 = 200;

/// A way as kept: its file, which is read against the site as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct WayRecord {
    /// Identity.
    pub id: i64,
    /// Its name, its own at the site.
    pub name: String,
    /// The way file.
    pub way: Value,
    /// Who saved it.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
}

/// A kept trial in a list.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialLine {
    /// Identity.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// What it came to, in one sentence.
    pub answer: String,
    /// Who kept it.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
}

/// A kept trial.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialRecord {
    /// As lists have it.
    pub line: TrialLine,
    /// The trial file, byte for byte.
    pub file: String,
    /// What it came to, byte for byte.
    pub result: String,
}

/// A trial to be kept.
#[derive(Debug, Clone, Copy)]
pub struct NewTrial<'a> {
    /// Its name.
    pub name: &'a str,
    /// The trial file.
    pub file: &'a str,
    /// What it came to.
    pub result: &'a str,
    /// The same in one sentence.
    pub answer: &'a str,
}

impl Snapshot<'_> {
    /// The ways of a site by name.
    ///
    /// # Errors
    /// As any query.
    pub fn trial_ways(&mut self, site_id: SiteKey) -> Result<Vec<WayRecord>> {
        type Row = (i64, String, Value, String, jiff_diesel::Timestamp);
        let rows: Vec<Row> = trial_ways::table
            .inner_join(users::table)
            .filter(trial_ways::site_id.eq(site_id).and(trial_ways::removed_at.is_null()))
            .order(trial_ways::name)
            .select((
                trial_ways::id,
                trial_ways::name,
                trial_ways::way,
                users::display_name,
                trial_ways::saved_at,
            ))
            .load(self.connection)?;
        let record = |(id, name, way, saved_by, at): Row| WayRecord {
            id,
            name,
            way,
            saved_by,
            saved_at: at.to_jiff(),
        };
        Ok(rows.into_iter().map(record).collect())
    }

    /// The kept trials of a site, newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn trials(&mut self, site_id: SiteKey) -> Result<Vec<TrialLine>> {
        type Row = (i64, String, String, String, jiff_diesel::Timestamp);
        let rows: Vec<Row> = trials::table
            .inner_join(users::table)
            .filter(trials::site_id.eq(site_id).and(trials::removed_at.is_null()))
            .order(trials::id.desc())
            .limit(MOST_SHOWN)
            .select((trials::id, trials::name, trials::answer, users::display_name, trials::saved_at))
            .load(self.connection)?;
        let line = |(id, name, answer, saved_by, at): Row| TrialLine {
            id,
            name,
            answer,
            saved_by,
            saved_at: at.to_jiff(),
        };
        Ok(rows.into_iter().map(line).collect())
    }

    /// A kept trial; `None` when the site has none of that number, or it was taken off the list.
    ///
    /// # Errors
    /// As any query.
    pub fn trial(&mut self, site_id: SiteKey, id: i64) -> Result<Option<TrialRecord>> {
        type Row = (String, String, String, String, String, jiff_diesel::Timestamp);
        let row: Option<Row> = trials::table
            .inner_join(users::table)
            .filter(trials::id.eq(id).and(trials::site_id.eq(site_id)).and(trials::removed_at.is_null()))
            .select((
                trials::name,
                trials::answer,
                users::display_name,
                trials::file,
                trials::result,
                trials::saved_at,
            ))
            .first(self.connection)
            .optional()?;
        Ok(row.map(|(name, answer, saved_by, file, result, at)| TrialRecord {
            line: TrialLine { id, name, answer, saved_by, saved_at: at.to_jiff() },
            file,
            result,
        }))
    }
}

impl Change<'_> {
    /// Keeps a way; `None` when the site has one of that name.
    ///
    /// # Errors
    /// As any query; [`StoreError::Full`] when the site has [`MOST_WAYS`].
    pub fn save_trial_way(&mut self, name: &str, way: &Value) -> Result<Option<i64>> {
        let (site_id, actor) = (self.site_id, self.actor);
        let standing = trial_ways::table
            .filter(trial_ways::site_id.eq(site_id).and(trial_ways::removed_at.is_null()))
            .count()
            .get_result::<i64>(self.connection)?;
        if usize::try_from(standing).is_ok_and(|standing| standing >= MOST_WAYS) {
            return Err(StoreError::Full("ways", MOST_WAYS));
        }
        let id: Option<i64> = diesel::insert_into(trial_ways::table)
            .values((
                trial_ways::site_id.eq(site_id),
                trial_ways::name.eq(name),
                trial_ways::way.eq(way),
                trial_ways::saved_by.eq(actor),
            ))
            .on_conflict_do_nothing()
            .returning(trial_ways::id)
            .get_result(self.connection)
            .optional()?;
        if let Some(id) = id {
            let event = NewEvent::new(Subject::TrialWay, Some(id), Action::Created);
            self.record(event.with(serde_json::json!({ "name": name })).said(name));
        }
        Ok(id)
    }

    /// Keeps a trial.
    ///
    /// # Errors
    /// As any query.
    pub fn keep_trial(&mut self, new: NewTrial<'_>) -> Result<i64> {
        let (site_id, actor) = (self.site_id, self.actor);
        let id: i64 = diesel::insert_into(trials::table)
            .values((
                trials::site_id.eq(site_id),
                trials::name.eq(new.name),
                trials::file.eq(new.file),
                trials::result.eq(new.result),
                trials::answer.eq(new.answer),
                trials::saved_by.eq(actor),
            ))
            .returning(trials::id)
            .get_result(self.connection)?;
        let event = NewEvent::new(Subject::Trial, Some(id), Action::Created);
        let said = format!("{}: {}", new.name, new.answer);
        self.record(event.with(serde_json::json!({ "name": new.name })).said(said));
        Ok(id)
    }
}
