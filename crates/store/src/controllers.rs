//! The boxes of a site and their versions.

use crate::schema::{controller_versions, controllers, sites, users};
use crate::{Result, Saved, Store, document, json, small};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Integer, Text};
use jiff::Timestamp;
use jiff_diesel::ToDiesel;
use upland_core::site::Controller;
use upland_formats::card_file;

/// A box as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct ControllerRecord {
    /// Identity.
    pub id: i64,
    /// Its site.
    pub site_id: i64,
    /// Version shown.
    pub version: i32,
    /// Number, place and card.
    pub controller: Controller,
    /// Version of its settings that the box falls back on.
    pub fallback_version: Option<i32>,
    /// Opens its calendar to whoever has it.
    pub calendar_token: String,
    /// Who saved this version.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
}

type Loaded =
    ((i64, i64, i32, Option<i32>, String), (i32, String, serde_json::Value, jiff_diesel::Timestamp), String);

#[derive(Clone, Copy)]
enum Which<'a> {
    All,
    OfSite(i64),
    One(i64),
    Token(&'a str),
}

fn current(connection: &mut PgConnection, which: Which<'_>) -> Result<Vec<ControllerRecord>> {
    let mut query = controller_versions::table
        .inner_join(controllers::table.inner_join(sites::table))
        .inner_join(users::table)
        .filter(controllers::removed_at.is_null().and(sites::removed_at.is_null()))
        .distinct_on(controller_versions::controller_id)
        .order((controller_versions::controller_id, controller_versions::version.desc()))
        .select((
            (
                controllers::id,
                controllers::site_id,
                controllers::number,
                controllers::fallback_version,
                controllers::calendar_token,
            ),
            (
                controller_versions::version,
                controller_versions::place,
                controller_versions::card,
                controller_versions::saved_at,
            ),
            users::display_name,
        ))
        .into_boxed();
    query = match which {
        Which::All => query,
        Which::OfSite(id) => query.filter(controllers::site_id.eq(id)),
        Which::One(id) => query.filter(controllers::id.eq(id)),
        Which::Token(token) => query.filter(controllers::calendar_token.eq(token)),
    };
    let mut records = query
        .load::<Loaded>(connection)?
        .into_iter()
        .map(
            |(
                (id, site_id, number, fallback_version, calendar_token),
                (version, place, card, saved_at),
                saved_by,
            )| {
                let card = document("card", card_file::read(card.to_string().as_bytes()))?;
                Ok(ControllerRecord {
                    id,
                    site_id,
                    version,
                    controller: Controller { number: small("box number", number)?, place, card },
                    fallback_version,
                    calendar_token,
                    saved_by,
                    saved_at: saved_at.to_jiff(),
                })
            },
        )
        .collect::<Result<Vec<_>>>()?;
    records.sort_by_key(|r| r.controller.number);
    Ok(records)
}

fn insert_version(
    connection: &mut PgConnection,
    id: i64,
    version: i32,
    controller: &Controller,
    user_id: i64,
) -> Result<()> {
    diesel::insert_into(controller_versions::table)
        .values((
            controller_versions::controller_id.eq(id),
            controller_versions::version.eq(version),
            controller_versions::place.eq(&controller.place),
            controller_versions::card.eq(json(&card_file::write(&controller.card))?),
            controller_versions::saved_by.eq(user_id),
        ))
        .execute(connection)?;
    Ok(())
}

pub(crate) fn insert(
    connection: &mut PgConnection,
    site_id: i64,
    controller: &Controller,
    user_id: i64,
) -> Result<i64> {
    let id: i64 = diesel::insert_into(controllers::table)
        .values((
            controllers::site_id.eq(site_id),
            controllers::number.eq(i32::from(controller.number)),
            controllers::calendar_token.eq(hex::encode(rand::random::<[u8; 24]>())),
        ))
        .returning(controllers::id)
        .get_result(connection)?;
    insert_version(connection, id, 1, controller, user_id)?;
    Ok(id)
}

/// A box with the versions of everything that its calls follow from.
#[derive(Debug, Clone, PartialEq, Eq, Hash, QueryableByName)]
#[diesel(check_for_backend(diesel::pg::Pg))]
pub struct BoxStamp {
    /// Its site.
    #[diesel(sql_type = BigInt)]
    pub site_id: i64,
    /// Version of the site.
    #[diesel(sql_type = Integer)]
    pub site_version: i32,
    /// Version of its weather.
    #[diesel(sql_type = BigInt)]
    pub weather_version: i64,
    /// Time zone of the site.
    #[diesel(sql_type = Text)]
    pub time_zone: String,
    /// The box.
    #[diesel(sql_type = BigInt)]
    pub box_id: i64,
    /// Its version.
    #[diesel(sql_type = Integer)]
    pub box_version: i32,
    /// Version of its settings.
    #[diesel(sql_type = Integer)]
    pub settings_version: i32,
    /// Zones of the site with their versions.
    #[diesel(sql_type = Text)]
    pub zones: String,
}

/// Boxes with settings, sites by name, boxes by number.
const BOX_STAMPS: &str = "
    WITH site AS (
        SELECT DISTINCT ON (v.site_id) v.site_id, v.version, v.name, v.time_zone, s.weather_version
        FROM site_versions v JOIN sites s ON s.id = v.site_id
        WHERE s.removed_at IS NULL ORDER BY v.site_id, v.version DESC
    ), zone AS (
        SELECT z.site_id, string_agg(z.id || ':' || z.version, ',' ORDER BY z.id) AS zones
        FROM (SELECT zones.site_id, zones.id, max(v.version) AS version
              FROM zones JOIN zone_versions v ON v.zone_id = zones.id
              WHERE zones.removed_at IS NULL GROUP BY zones.id) z
        GROUP BY z.site_id
    ), box AS (
        SELECT controller_id, max(version) AS version FROM controller_versions GROUP BY controller_id
    ), setting AS (
        SELECT controller_id, max(version) AS version FROM settings_versions GROUP BY controller_id
    )
    SELECT site.site_id, site.version AS site_version, site.weather_version, site.time_zone,
           c.id AS box_id, box.version AS box_version, setting.version AS settings_version,
           COALESCE(zone.zones, '') AS zones
    FROM controllers c
    JOIN site ON site.site_id = c.site_id
    JOIN box ON box.controller_id = c.id
    JOIN setting ON setting.controller_id = c.id
    LEFT JOIN zone ON zone.site_id = c.site_id
    WHERE c.removed_at IS NULL
    ORDER BY lower(site.name), site.site_id, c.number";

impl Store {
    /// Every box that has settings, with the versions of what its calls follow from: sites by name,
    /// boxes by number.
    ///
    /// # Errors
    /// As any query.
    pub fn box_stamps(&self) -> Result<Vec<BoxStamp>> {
        Ok(diesel::sql_query(BOX_STAMPS).load(&mut self.connection()?)?)
    }

    /// The boxes of a site, by number.
    ///
    /// # Errors
    /// As any query.
    pub fn controllers(&self, site_id: i64) -> Result<Vec<ControllerRecord>> {
        current(&mut *self.connection()?, Which::OfSite(site_id))
    }

    /// The boxes of every site, by number.
    ///
    /// # Errors
    /// As any query.
    pub fn all_controllers(&self) -> Result<Vec<ControllerRecord>> {
        current(&mut *self.connection()?, Which::All)
    }

    /// The box whose calendar a token opens.
    ///
    /// # Errors
    /// As any query.
    pub fn controller_of_calendar(&self, token: &str) -> Result<Option<ControllerRecord>> {
        Ok(current(&mut *self.connection()?, Which::Token(token))?.pop())
    }

    /// Gives a box another calendar address; the old one opens nothing any more.
    ///
    /// # Errors
    /// As any query.
    pub fn renew_calendar(&self, id: i64) -> Result<()> {
        diesel::update(controllers::table.find(id))
            .set(controllers::calendar_token.eq(hex::encode(rand::random::<[u8; 24]>())))
            .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Hangs another box; it gets the lowest free number. Returns identity and number.
    ///
    /// # Errors
    /// As any query.
    pub fn create_controller(
        &self,
        site_id: i64,
        controller: &Controller,
        user_id: i64,
    ) -> Result<(i64, u8)> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            // The lock keeps two from taking the same number.
            sites::table.find(site_id).select(sites::id).for_update().first::<i64>(connection)?;
            let taken = current(connection, Which::OfSite(site_id))?;
            let free =
                (1..=u8::MAX).find(|n| taken.iter().all(|c| c.controller.number != *n)).unwrap_or(u8::MAX);
            let numbered = Controller { number: free, ..controller.clone() };
            Ok((insert(connection, site_id, &numbered, user_id)?, free))
        })
    }

    /// An earlier version of a box, if there is one.
    ///
    /// # Errors
    /// As any query.
    pub fn controller_version(&self, id: i64, version: i32) -> Result<Option<Controller>> {
        let row: Option<(i32, String, serde_json::Value)> = controller_versions::table
            .inner_join(controllers::table)
            .filter(controller_versions::controller_id.eq(id).and(controller_versions::version.eq(version)))
            .select((controllers::number, controller_versions::place, controller_versions::card))
            .first(&mut self.connection()?)
            .optional()?;
        row.map(|(number, place, card)| {
            let card = document("card", card_file::read(card.to_string().as_bytes()))?;
            Ok(Controller { number: small("box number", number)?, place, card })
        })
        .transpose()
    }

    /// Saves place and card that were edited from `base_version`; the number stays. `None` when
    /// the box was removed meanwhile.
    ///
    /// # Errors
    /// As any query.
    pub fn save_controller(
        &self,
        id: i64,
        base_version: i32,
        controller: &Controller,
        user_id: i64,
    ) -> Result<Option<Saved<ControllerRecord>>> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            let locked: Option<i64> = controllers::table
                .find(id)
                .select(controllers::id)
                .for_update()
                .first(connection)
                .optional()?;
            if locked.is_none() {
                return Ok(None);
            }
            let Some(now) = current(connection, Which::One(id))?.pop() else { return Ok(None) };
            if now.version != base_version {
                return Ok(Some(Saved::Conflict(Box::new(now))));
            }
            let same = now.controller.place == controller.place && now.controller.card == controller.card;
            if same {
                return Ok(Some(Saved::As(now.version)));
            }
            insert_version(connection, id, now.version + 1, controller, user_id)?;
            Ok(Some(Saved::As(now.version + 1)))
        })
    }

    /// Takes a box down; nothing is deleted.
    ///
    /// # Errors
    /// As any query.
    pub fn remove_controller(&self, id: i64, now: Timestamp) -> Result<()> {
        diesel::update(controllers::table.find(id))
            .set(controllers::removed_at.eq(now.to_diesel()))
            .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Hangs a removed box again; `false` when another has its number by now.
    ///
    /// # Errors
    /// As any query.
    pub fn restore_controller(&self, site_id: i64, id: i64) -> Result<bool> {
        let restored = diesel::update(
            controllers::table.filter(controllers::id.eq(id).and(controllers::site_id.eq(site_id))),
        )
        .set(controllers::removed_at.eq(None::<jiff_diesel::Timestamp>))
        .execute(&mut self.connection()?);
        match restored {
            Ok(rows) => Ok(rows == 1),
            Err(diesel::result::Error::DatabaseError(
                diesel::result::DatabaseErrorKind::UniqueViolation,
                _,
            )) => Ok(false),
            Err(error) => Err(error.into()),
        }
    }
}
