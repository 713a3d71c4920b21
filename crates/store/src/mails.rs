//! One mail a day, by choice: to whom, when, and what became of it.

use crate::accounts::{User, UserRow, user};
use crate::schema::users;
use crate::scope::Scope;
use crate::tasks::{self, Task};
use crate::{Result, Snapshot, Store, accounts, clock};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Date, Integer, Nullable, Text, Timestamptz};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use jiff_diesel::ToDiesel;

/// Whether a person wants a mail a day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailChoice {
    /// The address; empty: none.
    pub to: String,
    /// From when on, minutes after midnight.
    pub at_min: i32,
    /// Whose wall clock that is, an IANA name.
    pub zone: String,
}

impl MailChoice {
    /// The day on its wall clock, and whether the mail of that day is due.
    fn day(&self, now: Timestamp) -> (jiff::civil::Date, bool) {
        let here = now.to_zoned(TimeZone::get(&self.zone).unwrap_or(TimeZone::UTC));
        let minutes = i32::from(here.hour()) * 60 + i32::from(here.minute());
        (here.date(), minutes >= self.at_min)
    }
}

/// A mail that is to be written, the same however often it is begun.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mail {
    /// To whom.
    pub user: User,
    /// The sites that the person sees.
    pub scope: Scope,
    /// Where to.
    pub choice: MailChoice,
    /// The day that it is of.
    pub day: jiff::civil::Date,
    /// Notices that began after this are new.
    pub since: Timestamp,
}

/// The last mail of a person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LastMail {
    /// When it was written.
    pub at: Timestamp,
    /// New notices in it; without any none was sent.
    pub notices: i32,
    /// What went wrong; empty when nothing did.
    pub fault: String,
}

type ChoiceRow = (String, i32, String);
const CHOICE: (users::mail_to, users::mail_at, users::mail_zone) =
    (users::mail_to, users::mail_at, users::mail_zone);

fn choice((to, at_min, zone): ChoiceRow) -> MailChoice {
    MailChoice { to, at_min, zone }
}

#[derive(QueryableByName)]
struct LastRow {
    #[diesel(sql_type = Timestamptz)]
    until: jiff_diesel::Timestamp,
    #[diesel(sql_type = Integer)]
    notices: i32,
    #[diesel(sql_type = Text)]
    fault: String,
}

#[derive(QueryableByName)]
struct Begun {
    #[diesel(sql_type = Timestamptz)]
    since: jiff_diesel::Timestamp,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    sent_at: Option<jiff_diesel::Timestamp>,
}

#[derive(QueryableByName)]
struct Given {
    #[diesel(sql_type = Nullable<Array<BigInt>>)]
    sites: Option<Vec<i64>>,
}

/// The first mail tells of a day; each other of what began since the one before.
const BEGIN: &str = "
    INSERT INTO mails (user_id, day, since, until, notices)
    VALUES ($1, $2, COALESCE((SELECT max(until) FROM mails WHERE user_id = $1 AND day < $2), $3::timestamptz - interval '1 day'),
            $3, 0)
    ON CONFLICT (user_id, day) DO UPDATE SET fault = ''
    RETURNING since, sent_at";

impl Snapshot<'_> {
    /// Whether a person wants a mail, and how the last one fared.
    ///
    /// # Errors
    /// As any query.
    pub fn mail_choice(&mut self, user_id: i64) -> Result<(MailChoice, Option<LastMail>)> {
        let chosen = users::table.find(user_id).select(CHOICE).first(self.connection)?;
        let last: Option<LastRow> = diesel::sql_query(
            "SELECT until, notices, fault FROM mails WHERE user_id = $1 ORDER BY day DESC LIMIT 1",
        )
        .bind::<BigInt, _>(user_id)
        .get_result(self.connection)
        .optional()?;
        let last = last.map(|l| LastMail { at: l.until.to_jiff(), notices: l.notices, fault: l.fault });
        Ok((choice(chosen), last))
    }
}

impl Store {
    /// Keeps whether a person wants a mail.
    ///
    /// # Errors
    /// As any query.
    pub fn choose_mail(&self, user_id: i64, chosen: &MailChoice) -> Result<()> {
        diesel::update(users::table.find(user_id))
            .set((
                users::mail_to.eq(&chosen.to),
                users::mail_at.eq(chosen.at_min),
                users::mail_zone.eq(&chosen.zone),
            ))
            .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Asks for the mails that are due. Returns how many.
    ///
    /// # Errors
    /// As any query.
    pub fn ask_for_due_mails(&self) -> Result<usize> {
        let connection = &mut *self.connection()?;
        let now = clock::app_now(connection)?;
        let who: Vec<(i64, ChoiceRow)> = users::table
            .filter(users::mail_to.ne("").and(users::disabled_at.is_null()))
            .select((users::id, CHOICE))
            .load(connection)?;
        let mut asked = 0;
        for (id, row) in who {
            let (day, due) = choice(row).day(now);
            let written: bool = diesel::select(
                diesel::dsl::sql::<diesel::sql_types::Bool>(
                    "EXISTS (SELECT FROM mails WHERE sent_at IS NOT NULL AND user_id = ",
                )
                .bind::<BigInt, _>(id)
                .sql(" AND day = ")
                .bind::<Date, _>(day.to_diesel())
                .sql(") OR EXISTS (SELECT FROM work.jobs WHERE key = 'mail ' || ")
                .bind::<BigInt, _>(id)
                .sql(")"),
            )
            .get_result(connection)?;
            if due && !written {
                tasks::ask(connection, Task::Mail, id, SignedDuration::ZERO)?;
                asked += 1;
            }
        }
        Ok(asked)
    }

    /// Begins the mail of a person's day. `None` when it was sent, none is wanted, or the person may not sign in.
    ///
    /// # Errors
    /// As any query.
    pub fn begin_mail(&self, user_id: i64) -> Result<Option<Mail>> {
        self.connection()?.transaction(|connection| {
            let found: Option<(UserRow, ChoiceRow)> = users::table
                .find(user_id)
                .filter(users::mail_to.ne("").and(users::disabled_at.is_null()))
                .select((accounts::USER, CHOICE))
                .first(connection)
                .optional()?;
            let Some((row, chosen)) = found else { return Ok(None) };
            let (user, choice, now) = (user(row)?, choice(chosen), clock::app_now(connection)?);
            let (day, _) = choice.day(now);
            let begun: Begun = diesel::sql_query(BEGIN)
                .bind::<BigInt, _>(user_id)
                .bind::<Date, _>(day.to_diesel())
                .bind::<Timestamptz, _>(now.to_diesel())
                .get_result(connection)?;
            let given: Given = diesel::sql_query(
                "SELECT CASE WHEN NOT every_site THEN ARRAY(SELECT site_id FROM user_sites WHERE user_id = $1) END AS sites \
                 FROM users WHERE id = $1",
            )
            .bind::<BigInt, _>(user_id)
            .get_result(connection)?;
            let mail = Mail { user, scope: Scope::of(given.sites), choice, day, since: begun.since.to_jiff() };
            Ok(begun.sent_at.is_none().then_some(mail))
        })
    }

    /// Notes what became of a mail: how many new notices it told of, or what went wrong.
    ///
    /// # Errors
    /// As any query.
    pub fn end_mail(&self, mail: &Mail, told: core::result::Result<i32, &str>) -> Result<()> {
        let (notices, fault) = told.map_or_else(|fault| (0, fault), |notices| (notices, ""));
        diesel::sql_query(
            "UPDATE mails SET notices = $3, fault = $4, sent_at = CASE WHEN $4 = '' THEN app_now() END \
             WHERE user_id = $1 AND day = $2",
        )
        .bind::<BigInt, _>(mail.user.id)
        .bind::<Date, _>(mail.day.to_diesel())
        .bind::<Integer, _>(notices)
        .bind::<Text, _>(fault)
        .execute(&mut self.connection()?)?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mail_is_due_by_the_wall_clock_of_its_reader() {
        let choice =
            |at_min, zone: &str| MailChoice { to: "a@example.net".into(), at_min, zone: zone.into() };
        let now: Timestamp = "2026-07-14T23:30:00Z".parse().unwrap_or_default();
        let (next, eve) = (jiff::civil::date(2026, 7, 15), jiff::civil::date(2026, 7, 14));
        assert_eq!(choice(360, "UTC").day(now), (eve, true));
        assert_eq!(choice(1439, "UTC").day(now), (eve, false));
        assert_eq!(choice(0, "Etc/GMT-2").day(now), (next, true), "01:30 of the next day");
        assert_eq!(choice(91, "Etc/GMT-2").day(now), (next, false));
        assert_eq!(
            choice(1410, "Mars/Olympus").day(now),
            (eve, true),
            "a zone that is gone counts as universal time"
        );
    }
}
