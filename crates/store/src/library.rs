//! What many sites share: controller cards of one's own, and watering ordinances with the sites
//! that keep to them.

use crate::schema::{library_entries, library_versions, site_ordinances, sites, users};
use crate::scope::{Scope, SiteKey};
use crate::tasks::{self, Task};
use crate::transaction::NewEvent;
use crate::{
    Action, Change, Number, Result, Saved, Snapshot, Store, StoreError, Subject, document, json, known,
};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt};
use jiff::Timestamp;
use jiff_diesel::ToDiesel;
use upland_core::codes::Coded;
use upland_core::controller::Card;
use upland_core::controller::ordinance::{Applied, HouseNumber, Ordinance, Permit};
use upland_formats::{card_file, ordinance_file};

/// Something that can lie in the library, through its file format.
pub trait Shared: Sized + PartialEq + Clone {
    /// Its kind in the database.
    const KIND: &'static str;
    /// Writes its file.
    fn write(&self) -> String;
    /// Reads its file.
    ///
    /// # Errors
    /// Every problem by path.
    fn read(text: &str) -> core::result::Result<Self, Vec<upland_formats::PathProblem>>;
}

impl Shared for Card {
    const KIND: &'static str = "card";
    fn write(&self) -> String {
        card_file::write(self)
    }
    fn read(text: &str) -> core::result::Result<Self, Vec<upland_formats::PathProblem>> {
        card_file::read(text.as_bytes())
    }
}

impl Shared for Ordinance {
    const KIND: &'static str = "ordinance";
    fn write(&self) -> String {
        ordinance_file::write(self)
    }
    fn read(text: &str) -> core::result::Result<Self, Vec<upland_formats::PathProblem>> {
        ordinance_file::read(text.as_bytes())
    }
}

/// An entry of the library as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry<T> {
    /// Identity.
    pub id: i64,
    /// Version shown.
    pub version: i32,
    /// What it is.
    pub item: T,
    /// Who saved this version.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
}

/// An ordinance that a site keeps to.
#[derive(Debug, Clone, PartialEq)]
pub struct SiteOrdinance {
    /// Identity of the ordinance in the library.
    pub ordinance_id: i64,
    /// Identity of this application; rises with every change of house number and permits.
    pub id: i64,
    /// As it applies.
    pub applied: Applied,
}

type Loaded = (i64, i32, serde_json::Value, jiff_diesel::Timestamp, String);

fn entries<T: Shared>(
    connection: &mut PgConnection,
    only: Option<i64>,
    removed_too: bool,
) -> Result<Vec<Entry<T>>> {
    let mut query = library_versions::table
        .inner_join(library_entries::table)
        .inner_join(users::table)
        .filter(library_entries::kind.eq(T::KIND))
        .distinct_on(library_versions::entry_id)
        .order((library_versions::entry_id, library_versions::version.desc()))
        .select((
            library_versions::entry_id,
            library_versions::version,
            library_versions::body,
            library_versions::saved_at,
            users::display_name,
        ))
        .into_boxed();
    if !removed_too {
        query = query.filter(library_entries::removed_at.is_null());
    }
    if let Some(id) = only {
        query = query.filter(library_entries::id.eq(id));
    }
    query
        .load::<Loaded>(connection)?
        .into_iter()
        .map(|(id, version, body, saved_at, saved_by)| {
            let item = document(T::KIND, T::read(&body.to_string()))?;
            Ok(Entry { id, version, item, saved_by, saved_at: saved_at.to_jiff() })
        })
        .collect()
}

fn insert_version<T: Shared>(
    connection: &mut PgConnection,
    id: i64,
    version: i32,
    item: &T,
    user_id: i64,
) -> Result<()> {
    diesel::insert_into(library_versions::table)
        .values((
            library_versions::entry_id.eq(id),
            library_versions::version.eq(version),
            library_versions::body.eq(json(&item.write())?),
            library_versions::saved_by.eq(user_id),
        ))
        .execute(connection)?;
    Ok(())
}

fn insert<T: Shared>(connection: &mut PgConnection, item: &T, user_id: i64) -> Result<i64> {
    let id: i64 = diesel::insert_into(library_entries::table)
        .values(library_entries::kind.eq(T::KIND))
        .returning(library_entries::id)
        .get_result(connection)?;
    insert_version(connection, id, 1, item, user_id)?;
    Ok(id)
}

fn apply(
    connection: &mut PgConnection,
    site_id: SiteKey,
    ordinance_id: i64,
    house: HouseNumber,
    permits: &[Permit],
    lifted: bool,
    user_id: i64,
) -> Result<()> {
    diesel::insert_into(site_ordinances::table)
        .values((
            site_ordinances::site_id.eq(site_id),
            site_ordinances::ordinance_id.eq(ordinance_id),
            site_ordinances::house_number.eq(house.code()),
            site_ordinances::permits.eq(ordinance_file::permits_value(permits)),
            site_ordinances::lifted.eq(lifted),
            site_ordinances::saved_by.eq(user_id),
        ))
        .execute(connection)?;
    Ok(())
}

/// Applies an ordinance that a file brings: the one of the library that says the same, else a new one.
pub(crate) fn apply_by_content(
    connection: &mut PgConnection,
    site_id: SiteKey,
    applied: &Applied,
    user_id: i64,
) -> Result<()> {
    let known = entries::<Ordinance>(connection, None, false)?;
    let id = match known.iter().find(|e| e.item == applied.ordinance) {
        Some(entry) => entry.id,
        None => insert(connection, &applied.ordinance, user_id)?,
    };
    apply(connection, site_id, id, applied.house, &applied.permits, false, user_id)
}

impl Snapshot<'_> {
    /// Every card or ordinance that is not removed, in the order they were made.
    ///
    /// # Errors
    /// As any query.
    pub fn library<T: Shared>(&mut self) -> Result<Vec<Entry<T>>> {
        entries(self.connection, None, false)
    }

    /// One card or ordinance.
    ///
    /// # Errors
    /// As any query.
    pub fn library_entry<T: Shared>(&mut self, id: i64) -> Result<Option<Entry<T>>> {
        Ok(entries(self.connection, Some(id), false)?.pop())
    }

    /// An earlier version of a card or ordinance, if there is one.
    ///
    /// # Errors
    /// As any query.
    pub fn library_version<T: Shared>(&mut self, id: i64, version: i32) -> Result<Option<T>> {
        let body: Option<serde_json::Value> = library_versions::table
            .find((id, version))
            .select(library_versions::body)
            .first(self.connection)
            .optional()?;
        body.map(|body| document(T::KIND, T::read(&body.to_string()))).transpose()
    }

    /// Names of the sites of a scope that keep to an ordinance.
    ///
    /// # Errors
    /// As any query.
    pub fn sites_of_ordinance(&mut self, scope: &Scope, ordinance_id: i64) -> Result<Vec<String>> {
        let applied: Vec<(SiteKey, bool)> = site_ordinances::table
            .filter(site_ordinances::ordinance_id.eq(ordinance_id))
            .distinct_on(site_ordinances::site_id)
            .order((site_ordinances::site_id, site_ordinances::id.desc()))
            .select((site_ordinances::site_id, site_ordinances::lifted))
            .load(self.connection)?;
        let keeps = |id: SiteKey| applied.iter().any(|(site, lifted)| *site == id && !lifted);
        Ok(self.sites(scope)?.into_iter().filter(|s| keeps(s.id)).map(|s| s.site.name).collect())
    }

    /// The ordinances that a site keeps to, in the order of the library. One that was taken off the
    /// library still holds where it was applied.
    ///
    /// # Errors
    /// As any query.
    pub fn ordinances(&mut self, site_id: SiteKey) -> Result<Vec<SiteOrdinance>> {
        let connection = &mut *self.connection;
        let rows: Vec<(i64, i64, String, serde_json::Value, bool)> = site_ordinances::table
            .filter(site_ordinances::site_id.eq(site_id))
            .distinct_on(site_ordinances::ordinance_id)
            .order((site_ordinances::ordinance_id, site_ordinances::id.desc()))
            .select((
                site_ordinances::id,
                site_ordinances::ordinance_id,
                site_ordinances::house_number,
                site_ordinances::permits,
                site_ordinances::lifted,
            ))
            .load(connection)?;
        if rows.iter().all(|row| row.4) {
            return Ok(Vec::new());
        }
        let known_ones = entries::<Ordinance>(connection, None, true)?;
        rows.into_iter()
            .filter(|row| !row.4)
            .map(|(id, ordinance_id, house, permits, _)| {
                let entry = known_ones
                    .iter()
                    .find(|e| e.id == ordinance_id)
                    .ok_or(StoreError::Unknown { what: "ordinance", value: ordinance_id.to_string() })?;
                Ok(SiteOrdinance {
                    ordinance_id,
                    id,
                    applied: Applied {
                        ordinance: entry.item.clone(),
                        house: known("house number", &house)?,
                        permits: document("permits", ordinance_file::permits_from(permits))?,
                    },
                })
            })
            .collect()
    }
}

/// Raises the revision of every site: each of them offers what stands in the library, and what follows from
/// an entry is computed anew. Locked in their order, so that two writers never wait for each other.
fn raise_sites(connection: &mut PgConnection) -> Result<()> {
    sites::table.select(sites::id).order(sites::id).for_update().load::<i64>(connection)?;
    diesel::update(sites::table).set(sites::revision.eq(sites::revision + 1)).execute(connection)?;
    tasks::ask(connection, Task::Look, 0, jiff::SignedDuration::ZERO)
}

impl Snapshot<'_> {
    /// Whether a site that somebody does not see keeps to an ordinance.
    ///
    /// # Errors
    /// As any query.
    pub fn binds_outside(&mut self, ordinance_id: i64, scope: &Scope) -> Result<bool> {
        let Some(given) = scope.given() else { return Ok(false) };
        let found: Number = diesel::sql_query(
            "SELECT count(*) AS number FROM (SELECT DISTINCT ON (o.site_id) o.site_id, o.lifted FROM site_ordinances o \
             JOIN sites s ON s.id = o.site_id AND s.removed_at IS NULL WHERE o.ordinance_id = $1 \
             ORDER BY o.site_id, o.id DESC) latest WHERE NOT lifted AND NOT site_id = ANY($2)",
        )
        .bind::<BigInt, _>(ordinance_id)
        .bind::<Array<BigInt>, _>(given.to_vec())
        .get_result(self.connection)?;
        Ok(found.number > 0)
    }
}

impl Store {
    /// Adds a card or ordinance.
    ///
    /// # Errors
    /// As any query.
    pub fn create_library_entry<T: Shared>(&self, item: &T, user_id: i64) -> Result<i64> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            let id = insert(connection, item, user_id)?;
            let event = NewEvent::new(Subject::Library, Some(id), Action::Created).with(T::KIND);
            event.write(connection, None, Some(user_id))?;
            raise_sites(connection)?;
            Ok(id)
        })
    }

    /// Saves a card or ordinance that was edited from `base_version`. `None` when it was removed.
    ///
    /// # Errors
    /// As any query.
    pub fn save_library_entry<T: Shared>(
        &self,
        id: i64,
        base_version: i32,
        item: &T,
        user_id: i64,
    ) -> Result<Option<Saved<Entry<T>>>> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            library_entries::table
                .find(id)
                .select(library_entries::id)
                .for_update()
                .first::<i64>(connection)
                .optional()?;
            let Some(now) = entries::<T>(connection, Some(id), false)?.pop() else { return Ok(None) };
            if now.version != base_version {
                return Ok(Some(Saved::Conflict(Box::new(now))));
            }
            if now.item == *item {
                return Ok(Some(Saved::Unchanged(now.version)));
            }
            let version = now.version + 1;
            insert_version(connection, id, version, item, user_id)?;
            let event =
                NewEvent::new(Subject::Library, Some(id), Action::Changed).between(now.version, version);
            event.write(connection, None, Some(user_id))?;
            raise_sites(connection)?;
            Ok(Some(Saved::As(version)))
        })
    }

    /// Takes an entry of a kind off the library, or puts it back (`None`); nothing is deleted. `false` when
    /// there is no such entry, or it is so already.
    ///
    /// # Errors
    /// As any query.
    pub fn set_library_entry_removed<T: Shared>(
        &self,
        id: i64,
        removed: Option<Timestamp>,
        user_id: i64,
    ) -> Result<bool> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            let rows = diesel::update(
                library_entries::table
                    .find(id)
                    .filter(library_entries::kind.eq(T::KIND))
                    .filter(library_entries::removed_at.is_null().eq(removed.is_some())),
            )
            .set(library_entries::removed_at.eq(removed.map(ToDiesel::to_diesel)))
            .execute(connection)?;
            if rows == 1 {
                let action = if removed.is_some() { Action::Removed } else { Action::Restored };
                NewEvent::new(Subject::Library, Some(id), action).write(connection, None, Some(user_id))?;
                raise_sites(connection)?;
            }
            Ok(rows == 1)
        })
    }
}

impl Change<'_> {
    /// Applies an ordinance to the site, changes how it applies, or lifts it. `base` is the
    /// application it was edited from, `None` where there was none; `false` when somebody changed
    /// it in between.
    ///
    /// # Errors
    /// As any query.
    pub fn apply_ordinance(
        &mut self,
        ordinance_id: i64,
        base: Option<i64>,
        house: HouseNumber,
        permits: &[Permit],
        lifted: bool,
    ) -> Result<bool> {
        let (site_id, actor) = (self.site_id, self.actor);
        let now: Option<(i64, bool)> = site_ordinances::table
            .filter(site_ordinances::site_id.eq(site_id).and(site_ordinances::ordinance_id.eq(ordinance_id)))
            .order(site_ordinances::id.desc())
            .select((site_ordinances::id, site_ordinances::lifted))
            .first(self.connection)
            .optional()?;
        if now.filter(|(_, lifted)| !lifted).map(|(id, _)| id) != base {
            return Ok(false);
        }
        apply(self.connection, site_id, ordinance_id, house, permits, lifted, actor)?;
        let action = match (base, lifted) {
            (_, true) => Action::Removed,
            (None, _) => Action::Created,
            (Some(_), _) => Action::Changed,
        };
        let after = serde_json::json!({
            "house_number": house.code(),
            "permits": ordinance_file::permits_value(permits),
        });
        self.record(NewEvent::new(Subject::Ordinance, Some(ordinance_id), action).with(after));
        Ok(true)
    }
}
