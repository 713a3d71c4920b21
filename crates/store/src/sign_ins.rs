//! Who tried to sign in from where. Counted in the database, so that several servers count together.

use crate::{Result, Snapshot, Store};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Integer, Text, Timestamptz};
use jiff::Timestamp;

/// Failures within a quarter of an hour after which the next try is not looked at: of one name from one address, of one
/// name from anywhere, of one address whatever the names. The second is wide: whoever fails on purpose keeps somebody out.
const MOST: (i64, i64, i64) = (10, 60, 60);
/// What the origin of a try begins with where the device has signed in under that name before. No address begins so.
const KNOWN_DEVICE: &str = "known device ";
/// The lock under which tries are counted.
const SIGN_IN_LOCK: i64 = 0x5349_474e;
/// Letters of a name or an address that are kept.
const KEPT: usize = 80;

/// What became of a try.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tried {
    /// It opened.
    Opened,
    /// Name and password do not belong together.
    Failed,
    /// It was not looked at: too many before.
    Refused,
}

/// Tries of one name from one address within five minutes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignIns {
    /// The name, as it was typed.
    pub login: String,
    /// From where.
    pub address: String,
    /// How many opened.
    pub opened: i32,
    /// How many failed.
    pub failed: i32,
    /// How many were not looked at.
    pub refused: i32,
    /// When the last of them was.
    pub last_at: Timestamp,
}

#[derive(QueryableByName)]
struct Failures {
    #[diesel(sql_type = BigInt)]
    pair: i64,
    #[diesel(sql_type = BigInt)]
    login: i64,
    #[diesel(sql_type = BigInt)]
    address: i64,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = Text)]
    login: String,
    #[diesel(sql_type = Text)]
    address: String,
    #[diesel(sql_type = Integer)]
    opened: i32,
    #[diesel(sql_type = Integer)]
    failed: i32,
    #[diesel(sql_type = Integer)]
    refused: i32,
    #[diesel(sql_type = Timestamptz)]
    last_at: jiff_diesel::Timestamp,
}

fn kept(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(KEPT).collect()
}

/// The origin of a try from a device that has signed in under its name before: others who fail under the name, or from
/// the same address, do not keep it out.
#[must_use]
pub fn known_device(id: &str) -> String {
    format!("{KNOWN_DEVICE}{id}")
}

fn may(connection: &mut PgConnection, login: &str, address: &str) -> Result<bool> {
    let failures: Failures = diesel::sql_query(
        "SELECT COALESCE(sum(failed) FILTER (WHERE login = $1 AND address = $2), 0)::bigint AS pair, \
                COALESCE(sum(failed) FILTER (WHERE login = $1), 0)::bigint AS login, \
                COALESCE(sum(failed) FILTER (WHERE address = $2), 0)::bigint AS address \
         FROM sign_ins WHERE slot > now() - interval '15 minutes' AND (login = $1 OR address = $2)",
    )
    .bind::<Text, _>(kept(login))
    .bind::<Text, _>(kept(address))
    .get_result(connection)?;
    let others = address.starts_with(KNOWN_DEVICE) || failures.login < MOST.1 && failures.address < MOST.2;
    Ok(failures.pair < MOST.0 && others)
}

fn note(connection: &mut PgConnection, login: &str, address: &str, tried: Tried) -> Result<()> {
    let one = |of: Tried| i32::from(of == tried);
    diesel::sql_query(
        "INSERT INTO sign_ins (slot, login, address, opened, failed, refused, last_at) \
         VALUES (date_bin('5 minutes', now(), TIMESTAMPTZ '2000-01-01'), $1, $2, $3, $4, $5, now()) \
         ON CONFLICT (slot, login, address) DO UPDATE SET \
             opened = sign_ins.opened + EXCLUDED.opened, failed = sign_ins.failed + EXCLUDED.failed, \
             refused = sign_ins.refused + EXCLUDED.refused, last_at = now()",
    )
    .bind::<Text, _>(kept(login))
    .bind::<Text, _>(kept(address))
    .bind::<Integer, _>(one(Tried::Opened))
    .bind::<Integer, _>(one(Tried::Failed))
    .bind::<Integer, _>(one(Tried::Refused))
    .execute(connection)?;
    Ok(())
}

impl Store {
    /// Whether a name may be tried from an address now.
    ///
    /// # Errors
    /// As any query.
    pub fn may_sign_in(&self, login: &str, address: &str) -> Result<bool> {
        let mut connection = self.connection()?;
        may(&mut connection, login, address)
    }

    /// Begins a try of a name from an address: it counts as failed until [`Self::sign_in_opened`]. `false` when it may not
    /// be looked at. Looked at and counted in one, so that tries at the same time are no more than the limit.
    ///
    /// # Errors
    /// As any query.
    pub fn begin_sign_in(&self, login: &str, address: &str) -> Result<bool> {
        // One connection does it all: whoever waits for the lock must not keep the holder from its next one.
        self.connection()?.transaction(|connection| {
            diesel::sql_query("SELECT pg_advisory_xact_lock($1)")
                .bind::<BigInt, _>(SIGN_IN_LOCK)
                .execute(connection)?;
            if !may(connection, login, address)? {
                return Ok(false);
            }
            note(connection, login, address, Tried::Failed)?;
            Ok(true)
        })
    }

    /// Says that a try which was begun was right.
    ///
    /// # Errors
    /// As any query.
    pub fn sign_in_opened(&self, login: &str, address: &str) -> Result<()> {
        let mut connection = self.connection()?;
        diesel::sql_query(
            "UPDATE sign_ins SET failed = failed - 1, opened = opened + 1 WHERE (slot, login, address) IN \
             (SELECT slot, login, address FROM sign_ins WHERE login = $1 AND address = $2 AND failed > 0 \
              ORDER BY slot DESC LIMIT 1)",
        )
        .bind::<Text, _>(kept(login))
        .bind::<Text, _>(kept(address))
        .execute(&mut connection)?;
        Ok(())
    }

    /// Forgets the failures of a name: whoever runs the server lets the person in.
    ///
    /// # Errors
    /// As any query.
    pub fn forget_failures(&self, login: &str) -> Result<()> {
        diesel::sql_query("UPDATE sign_ins SET failed = 0 WHERE login = $1")
            .bind::<Text, _>(kept(login))
            .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Counts a try.
    ///
    /// # Errors
    /// As any query.
    pub fn note_sign_in(&self, login: &str, address: &str, tried: Tried) -> Result<()> {
        let mut connection = self.connection()?;
        note(&mut connection, login, address, tried)
    }
}

impl Snapshot<'_> {
    /// The tries that did not open, the latest first.
    ///
    /// # Errors
    /// As any query.
    pub fn failed_sign_ins(&mut self, most: i64) -> Result<Vec<SignIns>> {
        let rows: Vec<Row> = diesel::sql_query(
            "SELECT login, address, opened, failed, refused, last_at FROM sign_ins \
             WHERE failed + refused > 0 ORDER BY last_at DESC LIMIT $1",
        )
        .bind::<BigInt, _>(most)
        .load(self.connection)?;
        let of = |row: Row| SignIns {
            login: row.login,
            address: row.address,
            opened: row.opened,
            failed: row.failed,
            refused: row.refused,
            last_at: row.last_at.to_jiff(),
        };
        Ok(rows.into_iter().map(of).collect())
    }
}
