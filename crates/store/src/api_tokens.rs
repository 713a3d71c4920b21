//! Tokens by which other software reads what a person may read.

use crate::accounts::Asked;
use crate::transaction::NewEvent;
use crate::{Action, Result, Snapshot, Store, StoreError, Subject};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Binary, Bool, Nullable, Text, Timestamptz};
use jiff::Timestamp;

/// What a token may read. A token names some of them; a device's token names none, since it only posts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReadScope {
    /// The sites, each with its card and survey, but for access notes.
    Sites,
    /// What controllers are set to.
    Settings,
    /// A night, the weekly list and the notices.
    Nights,
    /// The account: each zone day by day.
    Account,
}

impl ReadScope {
    /// Every one, in the order in which they are offered.
    pub const ALL: [Self; 4] = [Self::Sites, Self::Settings, Self::Nights, Self::Account];

    /// The name in the database, in forms and in the description of the interface.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::Sites => "sites",
            Self::Settings => "settings",
            Self::Nights => "nights",
            Self::Account => "account",
        }
    }

    /// The one of a name.
    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|scope| scope.code() == code)
    }
}

/// A token as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ApiToken {
    /// Identity.
    pub id: i64,
    /// What its person calls it.
    pub name: String,
    /// What it may read.
    pub scopes: Vec<ReadScope>,
    /// When it was made.
    pub made_at: Timestamp,
    /// When it was last used, to the hour.
    pub used_at: Option<Timestamp>,
    /// When it was revoked.
    pub revoked_at: Option<Timestamp>,
}

/// A token that was sent.
#[derive(Debug, Clone, PartialEq)]
pub struct SentToken {
    /// What it may read.
    pub scopes: Vec<ReadScope>,
    /// Who reads by it, and where things stand; `None` when it was revoked, or its person may not sign in.
    pub asked: Option<Asked>,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Array<Text>)]
    scopes: Vec<String>,
    #[diesel(sql_type = Timestamptz)]
    made_at: jiff_diesel::Timestamp,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    used_at: Option<jiff_diesel::Timestamp>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    revoked_at: Option<jiff_diesel::Timestamp>,
}

fn scopes_of(codes: &[String]) -> Result<Vec<ReadScope>> {
    let unknown = |code: &String| StoreError::Unknown { what: "scope of a token", value: code.clone() };
    codes.iter().map(|code| ReadScope::from_code(code).ok_or_else(|| unknown(code))).collect()
}

#[derive(QueryableByName)]
struct SentRow {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = Array<Text>)]
    scopes: Vec<String>,
    /// Nothing was noted of it in the last hour.
    #[diesel(sql_type = Bool)]
    stale: bool,
}

impl Snapshot<'_> {
    /// The tokens of a person, the newest first.
    ///
    /// # Errors
    /// As any query, or a scope that this program does not know.
    pub fn api_tokens(&mut self, user_id: i64) -> Result<Vec<ApiToken>> {
        let rows: Vec<Row> = diesel::sql_query(
            "SELECT id, name, scopes, made_at, used_at, revoked_at FROM api_tokens WHERE user_id = $1 ORDER BY id DESC",
        )
        .bind::<BigInt, _>(user_id)
        .load(self.connection)?;
        let token = |row: Row| {
            Ok(ApiToken {
                id: row.id,
                name: row.name,
                scopes: scopes_of(&row.scopes)?,
                made_at: row.made_at.to_jiff(),
                used_at: row.used_at.map(jiff_diesel::Timestamp::to_jiff),
                revoked_at: row.revoked_at.map(jiff_diesel::Timestamp::to_jiff),
            })
        };
        rows.into_iter().map(token).collect()
    }
}

impl Store {
    /// Makes a token of a person, by the hash of it.
    ///
    /// # Errors
    /// As any query.
    pub fn make_api_token(
        &self,
        user_id: i64,
        name: &str,
        scopes: &[ReadScope],
        token_sha256: &[u8],
    ) -> Result<()> {
        let codes: Vec<&str> = scopes.iter().map(|scope| scope.code()).collect();
        self.connection()?.transaction(|connection| {
            diesel::sql_query(
                "INSERT INTO api_tokens (user_id, name, scopes, token_sha256) VALUES ($1, $2, $3, $4)",
            )
            .bind::<BigInt, _>(user_id)
            .bind::<Text, _>(name)
            .bind::<Array<Text>, _>(&codes)
            .bind::<Binary, _>(token_sha256)
            .execute(connection)?;
            let event = NewEvent::new(Subject::Account, Some(user_id), Action::Changed);
            let words = format!("made the token \"{name}\", which reads {}", codes.join(", "));
            event.said(words).write(connection, None, Some(user_id))?;
            Ok(())
        })
    }

    /// Revokes a token of a person for good. `false` when there is none such, or it was revoked already.
    ///
    /// # Errors
    /// As any query.
    pub fn revoke_api_token(&self, user_id: i64, id: i64) -> Result<bool> {
        #[derive(QueryableByName)]
        struct Named {
            #[diesel(sql_type = Text)]
            name: String,
        }
        self.connection()?.transaction(|connection| {
            let token: Option<Named> = diesel::sql_query(
                "UPDATE api_tokens SET revoked_at = now() WHERE id = $1 AND user_id = $2 AND revoked_at IS NULL \
                 RETURNING name",
            )
            .bind::<BigInt, _>(id)
            .bind::<BigInt, _>(user_id)
            .get_result(connection)
            .optional()?;
            let Some(Named { name }) = token else { return Ok(false) };
            let event = NewEvent::new(Subject::Account, Some(user_id), Action::Changed);
            event.said(format!("revoked the token \"{name}\"")).write(connection, None, Some(user_id))?;
            Ok(true)
        })
    }

    /// Who reads by a token, about which site. `None` when there is no such token. That it was used is noted once an hour.
    ///
    /// # Errors
    /// As any query, or a scope that this program does not know.
    pub fn sent_token(&self, token_sha256: &[u8], site_id: Option<i64>) -> Result<Option<SentToken>> {
        let mut connection = self.connection()?;
        let row: Option<SentRow> = diesel::sql_query(
            "SELECT id, scopes, used_at IS NULL OR used_at < now() - interval '1 hour' AS stale \
             FROM api_tokens WHERE token_sha256 = $1",
        )
        .bind::<Binary, _>(token_sha256)
        .get_result(&mut connection)
        .optional()?;
        let Some(row) = row else { return Ok(None) };
        if row.stale {
            diesel::sql_query("UPDATE api_tokens SET used_at = date_trunc('hour', now()) WHERE id = $1")
                .bind::<BigInt, _>(row.id)
                .execute(&mut connection)?;
        }
        drop(connection);
        let asked = self.asked_by_token(token_sha256, site_id)?;
        Ok(Some(SentToken { scopes: scopes_of(&row.scopes)?, asked }))
    }
}
