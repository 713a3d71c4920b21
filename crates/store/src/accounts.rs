//! People, their roles and sessions.

use crate::schema::{secrets, sessions, users};
use crate::{Result, Store, StoreError};
use diesel::prelude::*;
use diesel::result::{DatabaseErrorKind, Error as DieselError};
use jiff::{SignedDuration, Timestamp};
use jiff_diesel::ToDiesel;

/// What a person may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Role {
    /// Sees everything, changes nothing.
    Reader,
    /// Edits sites, zones and weather.
    Technician,
    /// A technician who also manages accounts.
    Owner,
}

impl Role {
    /// Every role, highest first.
    pub const ALL: [Self; 3] = [Self::Owner, Self::Technician, Self::Reader];

    /// The name in the database and in forms.
    #[must_use]
    pub fn code(self) -> &'static str {
        match self {
            Self::Owner => "owner",
            Self::Technician => "technician",
            Self::Reader => "reader",
        }
    }

    /// The role of a name.
    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|role| role.code() == code)
    }
}

/// A person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct User {
    /// Identity.
    pub id: i64,
    /// Sign-in name, lower case.
    pub login: String,
    /// Name as shown.
    pub display_name: String,
    /// Role.
    pub role: Role,
}

/// A person with the hash to check a password against.
#[derive(Debug, Clone)]
pub struct Credentials {
    /// The person.
    pub user: User,
    /// Argon2 hash in PHC form.
    pub password_hash: String,
}

type UserRow = (i64, String, String, String);

fn user((id, login, display_name, role): UserRow) -> Result<User> {
    let role = Role::from_code(&role).ok_or(StoreError::Unknown { what: "role", value: role })?;
    Ok(User { id, login, display_name, role })
}

fn insert_user(
    connection: &mut PgConnection,
    login: &str,
    display_name: &str,
    password_hash: &str,
    role: Role,
) -> QueryResult<UserRow> {
    diesel::insert_into(users::table)
        .values((
            users::login.eq(login.to_lowercase()),
            users::display_name.eq(display_name),
            users::password_hash.eq(password_hash),
            users::role.eq(role.code()),
        ))
        .returning((users::id, users::login, users::display_name, users::role))
        .get_result(connection)
}

impl Store {
    /// Number of accounts.
    ///
    /// # Errors
    /// As any query.
    pub fn user_count(&self) -> Result<i64> {
        Ok(users::table.count().get_result(&mut self.connection()?)?)
    }

    /// Creates an account; `None` when the sign-in name is taken.
    ///
    /// # Errors
    /// As any query.
    pub fn create_user(
        &self,
        login: &str,
        display_name: &str,
        password_hash: &str,
        role: Role,
    ) -> Result<Option<User>> {
        let inserted = insert_user(&mut *self.connection()?, login, display_name, password_hash, role);
        match inserted {
            Ok(row) => user(row).map(Some),
            Err(DieselError::DatabaseError(DatabaseErrorKind::UniqueViolation, _)) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// Creates the first account, if there is none yet. Two first visits at once make one owner.
    ///
    /// # Errors
    /// As any query.
    pub fn create_first_owner(
        &self,
        login: &str,
        display_name: &str,
        password_hash: &str,
    ) -> Result<Option<User>> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            diesel::sql_query("LOCK TABLE users IN SHARE ROW EXCLUSIVE MODE").execute(connection)?;
            if users::table.count().get_result::<i64>(connection)? > 0 {
                return Ok(None);
            }
            let row = insert_user(connection, login, display_name, password_hash, Role::Owner)?;
            user(row).map(Some)
        })
    }

    /// The account of a sign-in name.
    ///
    /// # Errors
    /// As any query.
    pub fn credentials(&self, login: &str) -> Result<Option<Credentials>> {
        let row = users::table
            .filter(users::login.eq(login.to_lowercase()))
            .select(((users::id, users::login, users::display_name, users::role), users::password_hash))
            .first::<(UserRow, String)>(&mut self.connection()?)
            .optional()?;
        row.map(|(row, password_hash)| Ok(Credentials { user: user(row)?, password_hash })).transpose()
    }

    /// Everybody, by name.
    ///
    /// # Errors
    /// As any query.
    pub fn users(&self) -> Result<Vec<User>> {
        users::table
            .select((users::id, users::login, users::display_name, users::role))
            .order(users::display_name)
            .load::<UserRow>(&mut self.connection()?)?
            .into_iter()
            .map(user)
            .collect()
    }

    /// Changes a role. The last owner cannot be lowered: then nothing changes and `false` returns.
    ///
    /// # Errors
    /// As any query.
    pub fn set_role(&self, user_id: i64, role: Role) -> Result<bool> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            diesel::sql_query("LOCK TABLE users IN SHARE ROW EXCLUSIVE MODE").execute(connection)?;
            let other_owners: i64 = users::table
                .filter(users::role.eq(Role::Owner.code()).and(users::id.ne(user_id)))
                .count()
                .get_result(connection)?;
            if role != Role::Owner && other_owners == 0 {
                return Ok(false);
            }
            diesel::update(users::table.find(user_id))
                .set(users::role.eq(role.code()))
                .execute(connection)?;
            Ok(true)
        })
    }

    /// Starts a session under the hash of its token, and drops sessions that have ended.
    ///
    /// # Errors
    /// As any query.
    pub fn create_session(
        &self,
        token_sha256: &[u8],
        user_id: i64,
        now: Timestamp,
        length: SignedDuration,
    ) -> Result<()> {
        let mut connection = self.connection()?;
        let expires = now + length;
        diesel::delete(sessions::table.filter(sessions::expires_at.lt(now.to_diesel())))
            .execute(&mut connection)?;
        diesel::insert_into(sessions::table)
            .values((
                sessions::token_sha256.eq(token_sha256),
                sessions::user_id.eq(user_id),
                sessions::expires_at.eq(expires.to_diesel()),
            ))
            .execute(&mut connection)?;
        Ok(())
    }

    /// The person of a session that has not ended.
    ///
    /// # Errors
    /// As any query.
    pub fn session_user(&self, token_sha256: &[u8], now: Timestamp) -> Result<Option<User>> {
        sessions::table
            .inner_join(users::table)
            .filter(sessions::token_sha256.eq(token_sha256).and(sessions::expires_at.gt(now.to_diesel())))
            .select((users::id, users::login, users::display_name, users::role))
            .first::<UserRow>(&mut self.connection()?)
            .optional()?
            .map(user)
            .transpose()
    }

    /// Ends a session.
    ///
    /// # Errors
    /// As any query.
    pub fn end_session(&self, token_sha256: &[u8]) -> Result<()> {
        diesel::delete(sessions::table.find(token_sha256)).execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Ends every session; returns how many there were. For an owner who lost a device, and tests.
    ///
    /// # Errors
    /// As any query.
    pub fn end_all_sessions(&self) -> Result<usize> {
        Ok(diesel::delete(sessions::table).execute(&mut self.connection()?)?)
    }

    /// The secret of a name, made by `make` the first time; every server on the database gets
    /// the same.
    ///
    /// # Errors
    /// As any query.
    pub fn secret(&self, name: &str, make: impl FnOnce() -> Vec<u8>) -> Result<Vec<u8>> {
        let mut connection = self.connection()?;
        diesel::insert_into(secrets::table)
            .values((secrets::name.eq(name), secrets::value.eq(make())))
            .on_conflict_do_nothing()
            .execute(&mut connection)?;
        Ok(secrets::table.find(name).select(secrets::value).first(&mut connection)?)
    }
}
