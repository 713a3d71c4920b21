//! The logbook: every event of a site, found by text, kind, zone, person and time.

use crate::schema::{events, site_notes, users};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, Subject};
use diesel::prelude::*;
use diesel::sql_types::{Bool, Text};
use jiff::Timestamp;
use jiff_diesel::ToDiesel;
use serde_json::Value;

/// What is asked of the logbook.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Asked {
    /// Words that all must be in an entry, as beginnings.
    pub text: String,
    /// Short names of subjects; empty: all.
    pub subjects: Vec<String>,
    /// The zone.
    pub zone_id: Option<i64>,
    /// The person.
    pub person: Option<i64>,
    /// From here.
    pub from: Option<Timestamp>,
    /// Up to here.
    pub until: Option<Timestamp>,
    /// Entries older than this one.
    pub before: Option<i64>,
}

/// An entry of the logbook.
#[derive(Debug, Clone, PartialEq)]
pub struct LogEntry {
    /// Identity.
    pub id: i64,
    /// When.
    pub at: Timestamp,
    /// Who; `None`: the program itself.
    pub person: Option<String>,
    /// Short name of what it is about.
    pub subject: String,
    /// Its identity.
    pub subject_id: Option<i64>,
    /// Short name of what happened.
    pub action: String,
    /// In words.
    pub words: String,
    /// The zone that it is about.
    pub zone_id: Option<i64>,
    /// What stood before.
    pub before: Option<Value>,
    /// What stands now.
    pub after: Option<Value>,
}

/// The words of a search as a query: every word must begin one of the entry.
fn query_of(text: &str) -> Option<String> {
    let word = |word: &str| word.chars().filter(|c| c.is_alphanumeric()).collect::<String>();
    let words: Vec<String> =
        text.split(|c: char| !c.is_alphanumeric()).map(word).filter(|w| !w.is_empty()).collect();
    let all: Vec<String> = words.iter().take(12).map(|w| format!("{}:*", w.to_lowercase())).collect();
    (!all.is_empty()).then(|| all.join(" & "))
}

/// Entries that hold some words.
enum Found {
    /// Nothing was searched.
    All,
    /// These: few enough to be named.
    Few(Vec<i64>),
    /// So many that the newest are found by looking from the end.
    Many(String),
}

/// More entries than this are many.
const FEW: i64 = 4000;

/// Whether an entry holds the words of a query.
macro_rules! holds {
    ($query:expr) => {
        diesel::dsl::sql::<Bool>("found @@ to_tsquery('simple', ").bind::<Text, _>($query).sql(")")
    };
}

impl Snapshot<'_> {
    /// Finds entries by words. The planner does not know how rare a beginning of a word is and would read the whole
    /// ledger for a rare one: so the index of words is asked first, and only for what it says to be common is the
    /// ledger read from its end.
    fn found(&mut self, site_id: SiteKey, text: &str) -> Result<Found> {
        let Some(query) = query_of(text) else { return Ok(Found::All) };
        let set = |connection: &mut PgConnection, to: &str| {
            let all = format!("SET LOCAL enable_indexscan = {to}; SET LOCAL enable_seqscan = {to}");
            diesel::connection::SimpleConnection::batch_execute(connection, &all)
        };
        set(self.connection, "off")?;
        let ids: Vec<i64> = events::table
            .filter(events::site_id.eq(site_id))
            .filter(holds!(query.clone()))
            .limit(FEW + 1)
            .select(events::id)
            .load(self.connection)?;
        set(self.connection, "on")?;
        if i64::try_from(ids.len()).unwrap_or(i64::MAX) <= FEW {
            return Ok(Found::Few(ids));
        }
        let set = "SET LOCAL enable_bitmapscan = off";
        diesel::connection::SimpleConnection::batch_execute(self.connection, set)?;
        Ok(Found::Many(query))
    }

    /// Entries of a site, the newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn logbook(&mut self, site_id: SiteKey, asked: &Asked, most: i64) -> Result<Vec<LogEntry>> {
        let found = self.found(site_id, &asked.text)?;
        let entries = self.entries(Some(site_id), found, asked, most)?;
        Ok(entries.into_iter().map(|(_, entry)| entry).collect())
    }

    /// Entries of every site, or of one, and of what all sites share, each with its site; the newest first. Words are not
    /// searched here.
    ///
    /// # Errors
    /// As any query.
    pub fn audit(
        &mut self,
        site_id: Option<SiteKey>,
        asked: &Asked,
        most: i64,
    ) -> Result<Vec<(Option<i64>, LogEntry)>> {
        self.entries(site_id, Found::All, asked, most)
    }

    // Long: a filter for each thing that can be asked.
    fn entries(
        &mut self,
        site_id: Option<SiteKey>,
        found: Found,
        asked: &Asked,
        most: i64,
    ) -> Result<Vec<(Option<i64>, LogEntry)>> {
        type Row = (
            (i64, Option<i64>, jiff_diesel::Timestamp, Option<String>, String, Option<i64>),
            (String, String, Option<i64>, Option<Value>, Option<Value>),
        );
        let mut query = events::table
            .left_join(users::table)
            .order(events::id.desc())
            .limit(most)
            .select((
                (
                    events::id,
                    events::site_id,
                    events::at,
                    users::display_name.nullable(),
                    events::subject,
                    events::subject_id,
                ),
                (events::action, events::words, events::zone_id, events::before, events::after),
            ))
            .into_boxed();
        if let Some(site_id) = site_id {
            query = query.filter(events::site_id.eq(site_id));
        }
        match found {
            Found::All => {}
            Found::Few(ids) => query = query.filter(events::id.eq_any(ids)),
            Found::Many(text) => query = query.filter(holds!(text)),
        }
        if !asked.subjects.is_empty() {
            query = query.filter(events::subject.eq_any(&asked.subjects));
        }
        if let Some(zone) = asked.zone_id {
            query = query.filter(events::zone_id.eq(zone));
        }
        if let Some(person) = asked.person {
            query = query.filter(events::actor.eq(person));
        }
        if let Some(from) = asked.from {
            query = query.filter(events::at.ge(from.to_diesel()));
        }
        if let Some(until) = asked.until {
            query = query.filter(events::at.lt(until.to_diesel()));
        }
        if let Some(before) = asked.before {
            query = query.filter(events::id.lt(before));
        }
        let rows: Vec<Row> = query.load(self.connection)?;
        let of = |((id, site, at, person, subject, subject_id), rest): Row| {
            let (action, words, zone_id, before, after) = rest;
            let at = at.to_jiff();
            let entry =
                LogEntry { id, at, person, subject, subject_id, action, words, zone_id, before, after };
            (site, entry)
        };
        Ok(rows.into_iter().map(of).collect())
    }

    /// People who did anything at a site, by name.
    ///
    /// # Errors
    /// As any query.
    pub fn people_of(&mut self, site_id: SiteKey) -> Result<Vec<(i64, String)>> {
        let acted =
            events::table.filter(events::site_id.eq(site_id).and(events::actor.eq(users::id.nullable())));
        Ok(users::table
            .filter(diesel::dsl::exists(acted))
            .order(users::display_name)
            .select((users::id, users::display_name))
            .load(self.connection)?)
    }
}

impl Change<'_> {
    /// Writes a note into the logbook; `corrects` is the entry that it sets right.
    ///
    /// # Errors
    /// As any query.
    pub fn note(&mut self, words: &str, zone_id: Option<i64>, corrects: Option<i64>) -> Result<i64> {
        let (site_id, actor) = (self.site_id, self.actor);
        // An entry of another site is not this one's to set right.
        let corrects = match corrects {
            Some(of) => {
                let own = events::table.filter(events::id.eq(of).and(events::site_id.eq(site_id)));
                diesel::select(diesel::dsl::exists(own)).get_result::<bool>(self.connection)?.then_some(of)
            }
            None => None,
        };
        let id: i64 = diesel::insert_into(site_notes::table)
            .values((
                site_notes::site_id.eq(site_id),
                site_notes::zone_id.eq(zone_id),
                site_notes::words.eq(words),
                site_notes::corrects.eq(corrects),
                site_notes::said_by.eq(actor),
            ))
            .returning(site_notes::id)
            .get_result(self.connection)?;
        let event = NewEvent::new(Subject::Note, Some(id), Action::Created).said(words).of_zone(zone_id);
        self.record(match corrects {
            Some(of) => event.with(serde_json::json!({ "corrects": of })),
            None => event,
        });
        Ok(id)
    }

    /// Notes that a sheet was printed.
    pub fn note_print(&mut self, words: &str) {
        self.record(NewEvent::new(Subject::Print, None, Action::Created).said(words));
    }
}

#[cfg(test)]
mod tests {
    use super::query_of;

    #[test]
    fn a_search_is_beginnings_of_words_whatever_is_typed() {
        assert_eq!(query_of("dry heath").as_deref(), Some("dry:* & heath:*"));
        assert_eq!(query_of("  it's & (odd) | !':*  ").as_deref(), Some("it:* & s:* & odd:*"));
        assert_eq!(query_of("&|!"), None);
    }
}
