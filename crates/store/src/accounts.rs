//! People, their roles and sessions.

use crate::schema::{secrets, sessions, users};
use crate::scope::{Scope, SiteKey};
use crate::transaction::NewEvent;
use crate::{Action, Result, Snapshot, Store, StoreError, Subject};
use diesel::pg::Pg;
use diesel::prelude::*;
use diesel::query_builder::{AstPass, Query, QueryFragment, QueryId};
use diesel::sql_types::{Array, BigInt, Binary, Bool, Nullable, Text, Timestamptz};
use jiff::{SignedDuration, Timestamp};
use upland_formats::typed::{Clock, DateOrder, Habit};

/// What a person may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Sees everything, changes nothing.
    Reader,
    /// Edits sites, zones and weather.
    Technician,
    /// A technician who also manages accounts.
    Owner,
}

/// What a person may do. A new role is a row of [`Role::capabilities`], and a handler asks for what it needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Capability {
    /// Change sites and what belongs to them, within the sites that the person sees.
    ChangeSites,
    /// Make accounts, change what people may do, see background work and who changed what.
    ManageAccounts,
    /// See every site, those to come too, whatever was given to the person.
    SeeEverySite,
}

impl Role {
    /// What each role may do.
    #[must_use]
    pub fn capabilities(self) -> &'static [Capability] {
        match self {
            Self::Owner => &[Capability::ChangeSites, Capability::ManageAccounts, Capability::SeeEverySite],
            Self::Technician => &[Capability::ChangeSites],
            Self::Reader => &[],
        }
    }

    /// Whether the role may do something.
    #[must_use]
    pub fn may(self, capability: Capability) -> bool {
        self.capabilities().contains(&capability)
    }

    /// Whether a new person of this role sees no site until some are given.
    #[must_use]
    pub fn begins_without_sites(self) -> bool {
        !self.may(Capability::ChangeSites)
    }

    /// Every role, the one that may do most first.
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
    /// How the person reads times and dates.
    pub habit: Habit,
    /// May not sign in.
    pub disabled: bool,
}

/// A person with the hash to check a password against.
#[derive(Debug, Clone)]
pub struct Credentials {
    /// The person.
    pub user: User,
    /// Argon2 hash in PHC form.
    pub password_hash: String,
}

/// What became of a change of role.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RoleChange {
    /// The person has the role now.
    Done,
    /// The person had it already.
    Unchanged,
    /// Somebody must own the place: the last owner cannot be lowered.
    LastOwner,
    /// There is no such account.
    NoSuchAccount,
}

/// Where the facts of a site stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct SiteStamp {
    /// Identity.
    pub id: SiteKey,
    /// Rises with every write to the site.
    pub revision: i64,
    /// Rises with every reading of its devices.
    pub readings: i64,
    /// When one of its devices last read anything.
    pub last_reading: Option<Timestamp>,
}

/// Who asks, and where things stand.
#[derive(Debug, Clone, PartialEq)]
pub struct Asked {
    /// The person.
    pub user: User,
    /// The sites that the person sees.
    pub scope: Scope,
    /// The site that was asked about; `None` when none was, there is none, it was removed, or the person does not see it.
    pub site: Option<SiteStamp>,
    /// Where the facts of all sites stand, when none was asked about: the sum of their revisions, of removed ones too. It
    /// rises with every write to any.
    pub everywhere: Option<i64>,
    /// By how much the application's clock is ahead of real time; `None` when it shows real time.
    pub clock_ahead: Option<SignedDuration>,
}

/// The one question that every page begins with. It is written out here, so that it stays prepared on its
/// connection: planned anew each time, it would cost more than everything else of a small page.
struct AskedQuery<'a> {
    by: AskedBy,
    token_sha256: &'a [u8],
    site_id: Option<i64>,
}

/// What tells who asks.
#[derive(Clone, Copy)]
enum AskedBy {
    /// The session of a browser.
    Session,
    /// A token of other software that reads in a person's name.
    ApiToken,
}

impl QueryFragment<Pg> for AskedQuery<'_> {
    fn walk_ast<'b>(&'b self, mut out: AstPass<'_, 'b, Pg>) -> QueryResult<()> {
        out.push_sql(
            "SELECT u.id, u.login, u.display_name, u.role, u.twelve_hours, u.month_first, s.id, COALESCE(s.revision, 0), \
             COALESCE(r.revision, 0), r.last_at, (SELECT ahead_seconds FROM clock), CASE WHEN NOT u.every_site THEN ARRAY(\
             SELECT g.site_id FROM user_sites g WHERE g.user_id = u.id ORDER BY g.site_id) END",
        );
        if self.site_id.is_none() {
            out.push_sql(", (SELECT COALESCE(sum(revision), 0)::bigint FROM sites)");
        } else {
            out.push_sql(", NULL::bigint");
        }
        out.push_sql(match self.by {
            AskedBy::Session => " FROM sessions x",
            AskedBy::ApiToken => " FROM api_tokens x",
        });
        out.push_sql(
            " JOIN users u ON u.id = x.user_id LEFT JOIN sites s ON s.removed_at IS NULL AND s.id = ",
        );
        out.push_bind_param::<Nullable<BigInt>, _>(&self.site_id)?;
        out.push_sql(" LEFT JOIN site_readings r ON r.site_id = s.id WHERE ");
        out.push_sql(match self.by {
            AskedBy::Session => "x.expires_at > now()",
            AskedBy::ApiToken => "x.revoked_at IS NULL",
        });
        out.push_sql(" AND u.disabled_at IS NULL AND x.token_sha256 = ");
        out.push_bind_param::<Binary, _>(self.token_sha256)
    }
}

/// Four questions, by session or token, with and without a site, each of which stays prepared.
impl QueryId for AskedQuery<'_> {
    type QueryId = ();
    const HAS_STATIC_QUERY_ID: bool = false;
}

impl Query for AskedQuery<'_> {
    type SqlType = (
        BigInt,
        Text,
        Text,
        Text,
        Bool,
        Bool,
        Nullable<BigInt>,
        BigInt,
        BigInt,
        Nullable<Timestamptz>,
        Nullable<BigInt>,
        Nullable<Array<BigInt>>,
        Nullable<BigInt>,
    );
}

impl<C> RunQueryDsl<C> for AskedQuery<'_> {}

#[derive(Queryable)]
struct AskedRow {
    id: i64,
    login: String,
    display_name: String,
    role: String,
    twelve_hours: bool,
    month_first: bool,
    site_id: Option<i64>,
    revision: i64,
    readings: i64,
    last_at: Option<jiff_diesel::Timestamp>,
    ahead_seconds: Option<i64>,
    given: Option<Vec<i64>>,
    everywhere: Option<i64>,
}

impl AskedRow {
    fn asked(self) -> Result<Asked> {
        let scope = Scope::of(self.given);
        Ok(Asked {
            everywhere: self.everywhere,
            site: self.site_id.and_then(|id| scope.site(id)).map(|id| SiteStamp {
                id,
                revision: self.revision,
                readings: self.readings,
                last_reading: self.last_at.map(jiff_diesel::Timestamp::to_jiff),
            }),
            scope,
            clock_ahead: self.ahead_seconds.map(SignedDuration::from_secs),
            user: user((
                self.id,
                self.login,
                self.display_name,
                self.role,
                self.twelve_hours,
                self.month_first,
                // Nobody who may not sign in asks.
                None,
            ))?,
        })
    }
}

pub(crate) type UserRow = (i64, String, String, String, bool, bool, Option<jiff_diesel::Timestamp>);

/// The columns of a [`UserRow`].
pub(crate) const USER: (
    users::id,
    users::login,
    users::display_name,
    users::role,
    users::twelve_hours,
    users::month_first,
    users::disabled_at,
) = (
    users::id,
    users::login,
    users::display_name,
    users::role,
    users::twelve_hours,
    users::month_first,
    users::disabled_at,
);

pub(crate) fn user(
    (id, login, display_name, role, twelve_hours, month_first, disabled_at): UserRow,
) -> Result<User> {
    let role = Role::from_code(&role).ok_or(StoreError::Unknown { what: "role", value: role })?;
    let habit = Habit {
        clock: if twelve_hours { Clock::Hours12 } else { Clock::Hours24 },
        dates: if month_first { DateOrder::MonthFirst } else { DateOrder::DayFirst },
    };
    Ok(User { id, login, display_name, role, habit, disabled: disabled_at.is_some() })
}

/// Whether somebody else owns the place and can sign in.
pub(crate) fn another_owner(connection: &mut PgConnection, user_id: i64) -> QueryResult<bool> {
    let others = users::table
        .filter(users::role.eq(Role::Owner.code()).and(users::id.ne(user_id)))
        .filter(users::disabled_at.is_null());
    diesel::select(diesel::dsl::exists(others)).get_result(connection)
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
        .returning(USER)
        .get_result(connection)
}

impl Snapshot<'_> {
    /// Everybody, by name.
    ///
    /// # Errors
    /// As any query.
    pub fn users(&mut self) -> Result<Vec<User>> {
        users::table
            .select(USER)
            .order(users::display_name)
            .load::<UserRow>(self.connection)?
            .into_iter()
            .map(user)
            .collect()
    }
}

/// Stores what a person sees: every site, or these; those that are not there are left out.
pub(crate) fn keep_sites(
    connection: &mut PgConnection,
    user_id: i64,
    sites: Option<&[i64]>,
) -> QueryResult<()> {
    diesel::sql_query("DELETE FROM user_sites WHERE user_id = $1")
        .bind::<BigInt, _>(user_id)
        .execute(connection)?;
    diesel::sql_query("UPDATE users SET every_site = $2 WHERE id = $1")
        .bind::<BigInt, _>(user_id)
        .bind::<Bool, _>(sites.is_none())
        .execute(connection)?;
    diesel::sql_query(
        "INSERT INTO user_sites (user_id, site_id) SELECT $1, id FROM sites WHERE id = ANY ($2)",
    )
    .bind::<BigInt, _>(user_id)
    .bind::<Array<BigInt>, _>(sites.unwrap_or_default())
    .execute(connection)?;
    Ok(())
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
        actor: Option<i64>,
    ) -> Result<Option<User>> {
        self.create_user_seeing(login, display_name, password_hash, role, None, actor)
    }

    /// The same of somebody who sees these sites alone, or every one (`None`), from the first moment on.
    ///
    /// # Errors
    /// As any query.
    pub fn create_user_seeing(
        &self,
        login: &str,
        display_name: &str,
        password_hash: &str,
        role: Role,
        sees: Option<&[i64]>,
        actor: Option<i64>,
    ) -> Result<Option<User>> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            let taken = users::table.filter(users::login.eq(login.to_lowercase()));
            if diesel::select(diesel::dsl::exists(taken)).get_result(connection)? {
                return Ok(None);
            }
            let row = insert_user(connection, login, display_name, password_hash, role)?;
            if sees.is_some() {
                keep_sites(connection, row.0, sees)?;
            }
            let event = NewEvent::new(Subject::Account, Some(row.0), Action::Created).with(role.code());
            event.write(connection, None, actor)?;
            user(row).map(Some)
        })
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
            .filter(users::login.eq(login.to_lowercase()).and(users::disabled_at.is_null()))
            .select((USER, users::password_hash))
            .first::<(UserRow, String)>(&mut self.connection()?)
            .optional()?;
        row.map(|(row, password_hash)| Ok(Credentials { user: user(row)?, password_hash })).transpose()
    }

    /// Changes a role.
    ///
    /// # Errors
    /// As any query.
    pub fn set_role(&self, user_id: i64, role: Role, actor: i64) -> Result<RoleChange> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            diesel::sql_query("LOCK TABLE users IN SHARE ROW EXCLUSIVE MODE").execute(connection)?;
            let now: Option<String> =
                users::table.find(user_id).select(users::role).first(connection).optional()?;
            let Some(now) = now else { return Ok(RoleChange::NoSuchAccount) };
            if now == role.code() {
                return Ok(RoleChange::Unchanged);
            }
            if !role.may(Capability::ManageAccounts) && !another_owner(connection, user_id)? {
                return Ok(RoleChange::LastOwner);
            }
            if role.may(Capability::SeeEverySite) {
                // An owner sees every site.
                diesel::sql_query("UPDATE users SET every_site = TRUE WHERE id = $1")
                    .bind::<BigInt, _>(user_id)
                    .execute(connection)?;
            }
            diesel::update(users::table.find(user_id))
                .set(users::role.eq(role.code()))
                .execute(connection)?;
            let event =
                NewEvent::new(Subject::Account, Some(user_id), Action::Changed).between(now, role.code());
            event.write(connection, None, Some(actor))?;
            Ok(RoleChange::Done)
        })
    }

    /// Stores how a person reads times and dates.
    ///
    /// # Errors
    /// As any query.
    pub fn set_habit(&self, user_id: i64, habit: Habit) -> Result<()> {
        let stored = (
            users::twelve_hours.eq(habit.clock == Clock::Hours12),
            users::month_first.eq(habit.dates == DateOrder::MonthFirst),
        );
        diesel::update(users::table.find(user_id)).set(stored).execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Starts a session under the hash of its token, and drops sessions that have ended. Sessions live by real
    /// time, whatever the application's clock shows.
    ///
    /// # Errors
    /// As any query.
    pub fn create_session(&self, token_sha256: &[u8], user_id: i64, length: SignedDuration) -> Result<()> {
        diesel::sql_query(
            "WITH ended AS (DELETE FROM sessions WHERE expires_at < now()) \
             INSERT INTO sessions (token_sha256, user_id, expires_at) \
             VALUES ($1, $2, now() + make_interval(secs => $3))",
        )
        .bind::<Binary, _>(token_sha256)
        .bind::<BigInt, _>(user_id)
        .bind::<diesel::sql_types::Double, _>(length.as_secs_f64())
        .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Who asks by the hash of a session's token, about which site, and what the clock shows: everything that
    /// a page must know before it can use what was computed earlier, in one round trip. `None` when the session
    /// is unknown or has ended.
    ///
    /// # Errors
    /// As any query.
    pub fn asked(&self, token_sha256: &[u8], site_id: Option<i64>) -> Result<Option<Asked>> {
        self.asked_by(AskedQuery { by: AskedBy::Session, token_sha256, site_id })
    }

    /// The same by a token of other software; `None` when it was revoked or its person may not sign in.
    pub(crate) fn asked_by_token(&self, token_sha256: &[u8], site_id: Option<i64>) -> Result<Option<Asked>> {
        self.asked_by(AskedQuery { by: AskedBy::ApiToken, token_sha256, site_id })
    }

    fn asked_by(&self, asked: AskedQuery<'_>) -> Result<Option<Asked>> {
        let row: Option<AskedRow> = asked.get_result(&mut self.connection()?).optional()?;
        row.map(AskedRow::asked).transpose()
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
