//! Second factors: the secret that a telephone makes codes of, and spare codes that open once.

use crate::transaction::NewEvent;
use crate::{Action, Number, Result, Snapshot, Store, Subject};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Binary, Nullable};
use std::collections::BTreeSet;

/// What is known of a person's second factor.
#[derive(Debug, Clone, PartialEq, Eq, QueryableByName)]
pub struct Factor {
    /// The secret that counts; `None`: there is no second factor.
    #[diesel(sql_type = Nullable<Binary>)]
    pub secret: Option<Vec<u8>>,
    /// One that was shown and not confirmed yet.
    #[diesel(sql_type = Nullable<Binary>)]
    pub pending: Option<Vec<u8>>,
    /// Spare codes that are left.
    #[diesel(sql_type = BigInt)]
    pub spare: i64,
}

/// A second factor as it rests in the database, confirmed or waiting for its first code.
#[derive(Debug, Clone, PartialEq, Eq, QueryableByName)]
pub struct FactorAtRest {
    /// Whose it is.
    #[diesel(sql_type = BigInt)]
    pub user_id: i64,
    /// Its secret, sealed unless it is from before there were keys.
    #[diesel(sql_type = Binary)]
    pub secret: Vec<u8>,
}

impl Snapshot<'_> {
    /// A person's second factor.
    ///
    /// # Errors
    /// As any query.
    pub fn factor(&mut self, user_id: i64) -> Result<Option<Factor>> {
        Ok(diesel::sql_query(
            "SELECT factor_secret AS secret, factor_pending AS pending, \
                    (SELECT count(*) FROM spare_codes s WHERE s.user_id = u.id) AS spare FROM users u WHERE u.id = $1",
        )
        .bind::<BigInt, _>(user_id)
        .get_result(self.connection)
        .optional()?)
    }

    /// The people who sign in with a second factor.
    ///
    /// # Errors
    /// As any query.
    pub fn with_factor(&mut self) -> Result<BTreeSet<i64>> {
        let people: Vec<Number> =
            diesel::sql_query("SELECT id AS number FROM users WHERE factor_secret IS NOT NULL")
                .load(self.connection)?;
        Ok(people.into_iter().map(|person| person.number).collect())
    }
}

fn drop_spare(connection: &mut PgConnection, user_id: i64) -> QueryResult<usize> {
    diesel::sql_query("DELETE FROM spare_codes WHERE user_id = $1")
        .bind::<BigInt, _>(user_id)
        .execute(connection)
}

impl Store {
    /// Every second factor as it rests.
    ///
    /// # Errors
    /// As any query.
    pub fn factors_at_rest(&self) -> Result<Vec<FactorAtRest>> {
        Ok(diesel::sql_query(
            "SELECT id AS user_id, factor_secret AS secret FROM users WHERE factor_secret IS NOT NULL \
             UNION ALL SELECT id, factor_pending FROM users WHERE factor_pending IS NOT NULL",
        )
        .load(&mut self.connection()?)?)
    }

    /// Keeps a second factor sealed otherwise. `false` when it was changed since it was read.
    ///
    /// # Errors
    /// As any query.
    pub fn reseal_factor(&self, user_id: i64, before: &[u8], after: &[u8]) -> Result<bool> {
        let rows = diesel::sql_query(
            "UPDATE users SET factor_secret = CASE WHEN factor_secret = $2 THEN $3 ELSE factor_secret END, \
                    factor_pending = CASE WHEN factor_pending = $2 THEN $3 ELSE factor_pending END \
             WHERE id = $1 AND (factor_secret = $2 OR factor_pending = $2)",
        )
        .bind::<BigInt, _>(user_id)
        .bind::<Binary, _>(before)
        .bind::<Binary, _>(after)
        .execute(&mut self.connection()?)?;
        Ok(rows == 1)
    }

    /// Keeps a secret until a code of it was typed.
    ///
    /// # Errors
    /// As any query.
    pub fn begin_factor(&self, user_id: i64, secret: &[u8]) -> Result<()> {
        diesel::sql_query("UPDATE users SET factor_pending = $2 WHERE id = $1")
            .bind::<BigInt, _>(user_id)
            .bind::<Binary, _>(secret)
            .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Lets a secret count that was kept, with the hashes of new spare codes; `step` is the half minute of the code that
    /// confirmed it. `false` when another secret was kept since.
    ///
    /// # Errors
    /// As any query.
    pub fn confirm_factor(&self, user_id: i64, secret: &[u8], step: i64, spare: &[Vec<u8>]) -> Result<bool> {
        self.connection()?.transaction(|connection| {
            let rows = diesel::sql_query(
                "UPDATE users SET factor_secret = factor_pending, factor_pending = NULL, factor_step = $3 \
                 WHERE id = $1 AND factor_pending = $2",
            )
            .bind::<BigInt, _>(user_id)
            .bind::<Binary, _>(secret)
            .bind::<BigInt, _>(step)
            .execute(connection)?;
            if rows == 0 {
                return Ok(false);
            }
            drop_spare(connection, user_id)?;
            for hash in spare {
                diesel::sql_query("INSERT INTO spare_codes (user_id, code_sha256) VALUES ($1, $2)")
                    .bind::<BigInt, _>(user_id)
                    .bind::<Binary, _>(hash)
                    .execute(connection)?;
            }
            let event = NewEvent::new(Subject::Account, Some(user_id), Action::Changed);
            event.said("signs in with a second factor").write(connection, None, Some(user_id))?;
            Ok(true)
        })
    }

    /// Uses the code of a half minute. `false` when one of it, or of a later one, was used.
    ///
    /// # Errors
    /// As any query.
    pub fn use_step(&self, user_id: i64, step: i64) -> Result<bool> {
        let rows = diesel::sql_query("UPDATE users SET factor_step = $2 WHERE id = $1 AND factor_step < $2")
            .bind::<BigInt, _>(user_id)
            .bind::<BigInt, _>(step)
            .execute(&mut self.connection()?)?;
        Ok(rows == 1)
    }

    /// Uses a spare code. `false` when there is none such.
    ///
    /// # Errors
    /// As any query.
    pub fn use_spare(&self, user_id: i64, code_sha256: &[u8]) -> Result<bool> {
        let rows = diesel::sql_query("DELETE FROM spare_codes WHERE user_id = $1 AND code_sha256 = $2")
            .bind::<BigInt, _>(user_id)
            .bind::<Binary, _>(code_sha256)
            .execute(&mut self.connection()?)?;
        Ok(rows == 1)
    }

    /// Takes a person's second factor away. `false` when there was none.
    ///
    /// # Errors
    /// As any query.
    pub fn drop_factor(&self, user_id: i64, actor: i64) -> Result<bool> {
        self.connection()?.transaction(|connection| {
            let rows = diesel::sql_query(
                "UPDATE users SET factor_secret = NULL, factor_pending = NULL WHERE id = $1 AND factor_secret IS NOT NULL",
            )
            .bind::<BigInt, _>(user_id)
            .execute(connection)?;
            drop_spare(connection, user_id)?;
            if rows == 1 {
                let event = NewEvent::new(Subject::Account, Some(user_id), Action::Changed);
                event.said("signs in without a second factor").write(connection, None, Some(actor))?;
            }
            Ok(rows == 1)
        })
    }
}
