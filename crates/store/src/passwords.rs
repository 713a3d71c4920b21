//! Passwords after the first: changed by oneself or through a link of the owner's; sessions ended; people let out.

use crate::accounts::{Role, RoleChange, USER, User, UserRow, another_owner, user};
use crate::schema::{password_links, sessions, users};
use crate::transaction::NewEvent;
use crate::{Action, Result, Snapshot, Store, Subject};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Binary, Double};
use jiff::{SignedDuration, Timestamp};
use jiff_diesel::ToDiesel;

/// A session of a person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SessionRecord {
    /// Hash of its token.
    pub token_sha256: Vec<u8>,
    /// When it began, by real time.
    pub began: Timestamp,
}

impl Snapshot<'_> {
    /// The sessions of a person that have not ended, the newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn sessions_of(&mut self, user_id: i64) -> Result<Vec<SessionRecord>> {
        let rows: Vec<(Vec<u8>, jiff_diesel::Timestamp)> = sessions::table
            .filter(sessions::user_id.eq(user_id).and(sessions::expires_at.gt(diesel::dsl::now)))
            .order(sessions::created_at.desc())
            .select((sessions::token_sha256, sessions::created_at))
            .load(self.connection)?;
        let record = |(token_sha256, began): (Vec<u8>, jiff_diesel::Timestamp)| SessionRecord {
            token_sha256,
            began: began.to_jiff(),
        };
        Ok(rows.into_iter().map(record).collect())
    }

    /// The hash that the password of a person is checked against.
    ///
    /// # Errors
    /// As any query.
    pub fn password_hash(&mut self, user_id: i64) -> Result<Option<String>> {
        let own = users::table.find(user_id).select(users::password_hash);
        Ok(own.first(self.connection).optional()?)
    }

    /// Whose password a link lets choose; `None` when it is unknown, used or too old.
    ///
    /// # Errors
    /// As any query.
    pub fn password_link(&mut self, token_sha256: &[u8]) -> Result<Option<User>> {
        let row: Option<UserRow> = password_links::table
            .inner_join(users::table.on(users::id.eq(password_links::user_id)))
            .filter(password_links::token_sha256.eq(token_sha256))
            .filter(password_links::expires_at.gt(diesel::dsl::now).and(users::disabled_at.is_null()))
            .select(USER)
            .first(self.connection)
            .optional()?;
        row.map(user).transpose()
    }
}

/// Stores a password and ends every session of the person but one.
fn store_password(connection: &mut PgConnection, user_id: i64, hash: &str, but: Option<&[u8]>) -> Result<()> {
    diesel::update(users::table.find(user_id)).set(users::password_hash.eq(hash)).execute(connection)?;
    diesel::delete(password_links::table.filter(password_links::user_id.eq(user_id))).execute(connection)?;
    let others = sessions::table
        .filter(sessions::user_id.eq(user_id).and(sessions::token_sha256.ne(but.unwrap_or_default())));
    diesel::delete(others).execute(connection)?;
    let event = NewEvent::new(Subject::Account, Some(user_id), Action::Changed).said("password");
    event.write(connection, None, Some(user_id))
}

impl Store {
    /// Changes a person's own password; every other session of theirs ends.
    ///
    /// # Errors
    /// As any query.
    pub fn change_password(&self, user_id: i64, hash: &str, session_sha256: &[u8]) -> Result<()> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| store_password(connection, user_id, hash, Some(session_sha256)))
    }

    /// Makes a link through which a person chooses a password, instead of an earlier one; false when there is no
    /// such account.
    ///
    /// # Errors
    /// As any query.
    pub fn make_password_link(
        &self,
        token_sha256: &[u8],
        user_id: i64,
        length: SignedDuration,
        actor: i64,
    ) -> Result<bool> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            let known = users::table.find(user_id).select(users::id).first::<i64>(connection).optional()?;
            if known.is_none() {
                return Ok(false);
            }
            diesel::sql_query(
                "INSERT INTO password_links (token_sha256, user_id, made_by, expires_at) \
                 VALUES ($1, $2, $3, now() + make_interval(secs => $4)) \
                 ON CONFLICT (user_id) DO UPDATE SET token_sha256 = EXCLUDED.token_sha256, \
                 made_by = EXCLUDED.made_by, expires_at = EXCLUDED.expires_at",
            )
            .bind::<Binary, _>(token_sha256)
            .bind::<BigInt, _>(user_id)
            .bind::<BigInt, _>(actor)
            .bind::<Double, _>(length.as_secs_f64())
            .execute(connection)?;
            let event = NewEvent::new(Subject::Account, Some(user_id), Action::Changed).said("password link");
            event.write(connection, None, Some(actor))?;
            Ok(true)
        })
    }

    /// Uses a link up: stores the password that was chosen and ends every session of the person, who is returned.
    /// Of two who use it at once, one does.
    ///
    /// # Errors
    /// As any query.
    pub fn use_password_link(&self, token_sha256: &[u8], hash: &str) -> Result<Option<i64>> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            let live = password_links::table
                .filter(password_links::token_sha256.eq(token_sha256))
                .filter(password_links::expires_at.gt(diesel::dsl::now))
                .filter(
                    password_links::user_id
                        .eq_any(users::table.filter(users::disabled_at.is_null()).select(users::id)),
                );
            let user_id: Option<i64> =
                diesel::delete(live).returning(password_links::user_id).get_result(connection).optional()?;
            let Some(user_id) = user_id else { return Ok(None) };
            store_password(connection, user_id, hash, None)?;
            Ok(Some(user_id))
        })
    }

    /// Ends the sessions of a person but one; how many there were.
    ///
    /// # Errors
    /// As any query.
    pub fn end_sessions(&self, user_id: i64, but_sha256: &[u8]) -> Result<usize> {
        let others =
            sessions::table.filter(sessions::user_id.eq(user_id).and(sessions::token_sha256.ne(but_sha256)));
        Ok(diesel::delete(others).execute(&mut self.connection()?)?)
    }

    /// Lets a person out, with every session and link at once, or in again.
    ///
    /// # Errors
    /// As any query.
    pub fn set_disabled(
        &self,
        user_id: i64,
        disabled: bool,
        at: Timestamp,
        actor: i64,
    ) -> Result<RoleChange> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            diesel::sql_query("LOCK TABLE users IN SHARE ROW EXCLUSIVE MODE").execute(connection)?;
            let known: Option<UserRow> =
                users::table.find(user_id).select(USER).first(connection).optional()?;
            let Some(known) = known.map(user).transpose()? else { return Ok(RoleChange::NoSuchAccount) };
            if known.disabled == disabled {
                return Ok(RoleChange::Unchanged);
            }
            if disabled && known.role == Role::Owner && !another_owner(connection, user_id)? {
                return Ok(RoleChange::LastOwner);
            }
            diesel::update(users::table.find(user_id))
                .set(users::disabled_at.eq(disabled.then(|| at.to_diesel())))
                .execute(connection)?;
            if disabled {
                diesel::delete(sessions::table.filter(sessions::user_id.eq(user_id))).execute(connection)?;
                diesel::delete(password_links::table.filter(password_links::user_id.eq(user_id)))
                    .execute(connection)?;
            }
            let action = if disabled { Action::Removed } else { Action::Restored };
            NewEvent::new(Subject::Account, Some(user_id), action).write(connection, None, Some(actor))?;
            Ok(RoleChange::Done)
        })
    }
}
