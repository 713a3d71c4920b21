//! The controllers of a site and their versions.

use crate::clock::sql::app_now;
use crate::schema::{controller_versions, controllers, sites, users};
use crate::scope::SiteKey;
use crate::transaction::{NewEvent, Versioned};
use crate::{Action, Change, Result, Saved, Snapshot, Subject, document, json, small};
use diesel::prelude::*;
use jiff::Timestamp;
use upland_core::site::Controller;
use upland_formats::card_file;

/// A controller as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct ControllerRecord {
    /// Identity.
    pub id: i64,
    /// Its site.
    pub site_id: SiteKey,
    /// Version shown.
    pub version: i32,
    /// Number, place and card.
    pub controller: Controller,
    /// Version of its settings that the controller falls back on.
    pub fallback_version: Option<i32>,
    /// When its calendar got its address; `None` when it has none.
    pub calendar_made_at: Option<Timestamp>,
    /// Who saved this version.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
}

impl Versioned for ControllerRecord {
    type Item = Controller;
    fn id(&self) -> i64 {
        self.id
    }
    fn version(&self) -> i32 {
        self.version
    }
    fn item(&self) -> &Controller {
        &self.controller
    }
}

type Loaded = (
    (i64, SiteKey, i32, Option<i32>, Option<jiff_diesel::Timestamp>),
    (i32, String, serde_json::Value, jiff_diesel::Timestamp),
    String,
);

#[derive(Clone, Copy)]
enum Which<'a> {
    OfSite(SiteKey),
    One(i64),
    Calendar(&'a [u8]),
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
                controllers::calendar_made_at,
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
        Which::OfSite(id) => query.filter(controllers::site_id.eq(id)),
        Which::One(id) => query.filter(controllers::id.eq(id)),
        Which::Calendar(hash) => query.filter(controllers::calendar_sha256.eq(hash)),
    };
    let mut records = query
        .load::<Loaded>(connection)?
        .into_iter()
        .map(
            |(
                (id, site_id, number, fallback_version, calendar),
                (version, place, card, saved_at),
                saved_by,
            )| {
                let card = document("card", card_file::read(card.to_string().as_bytes()))?;
                Ok(ControllerRecord {
                    id,
                    site_id,
                    version,
                    controller: Controller { number: small("controller number", number)?, place, card },
                    fallback_version,
                    calendar_made_at: calendar.map(jiff_diesel::Timestamp::to_jiff),
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
    site_id: SiteKey,
    controller: &Controller,
    user_id: i64,
) -> Result<i64> {
    let id: i64 = diesel::insert_into(controllers::table)
        .values((controllers::site_id.eq(site_id), controllers::number.eq(i32::from(controller.number))))
        .returning(controllers::id)
        .get_result(connection)?;
    insert_version(connection, id, 1, controller, user_id)?;
    Ok(id)
}

impl Snapshot<'_> {
    /// The controllers of a site, by number.
    ///
    /// # Errors
    /// As any query.
    pub fn controllers(&mut self, site_id: SiteKey) -> Result<Vec<ControllerRecord>> {
        current(self.connection, Which::OfSite(site_id))
    }

    /// The controller whose calendar a secret of a hash opens.
    ///
    /// # Errors
    /// As any query.
    pub fn controller_of_calendar(&mut self, hash: &[u8]) -> Result<Option<ControllerRecord>> {
        Ok(current(self.connection, Which::Calendar(hash))?.pop())
    }

    /// An earlier version of a controller, if there is one.
    ///
    /// # Errors
    /// As any query.
    pub fn controller_version(&mut self, id: i64, version: i32) -> Result<Option<Controller>> {
        let row: Option<(i32, String, serde_json::Value)> = controller_versions::table
            .inner_join(controllers::table)
            .filter(controller_versions::controller_id.eq(id).and(controller_versions::version.eq(version)))
            .select((controllers::number, controller_versions::place, controller_versions::card))
            .first(self.connection)
            .optional()?;
        row.map(|(number, place, card)| {
            let card = document("card", card_file::read(card.to_string().as_bytes()))?;
            Ok(Controller { number: small("controller number", number)?, place, card })
        })
        .transpose()
    }
}

impl Change<'_> {
    /// A controller of the site that is not removed.
    fn own_controller(&mut self, id: i64) -> Result<Option<ControllerRecord>> {
        let site_id = self.site_id;
        Ok(current(self.connection, Which::One(id))?.pop().filter(|c| c.site_id == site_id))
    }

    /// Gives the calendar of a controller a secret of a hash; the one before opens nothing any more. `false` when the controller is not
    /// of this site.
    ///
    /// # Errors
    /// As any query.
    pub fn renew_calendar(&mut self, id: i64, hash: &[u8]) -> Result<bool> {
        if self.own_controller(id)?.is_none() {
            return Ok(false);
        }
        diesel::update(controllers::table.find(id))
            .set((
                controllers::calendar_sha256.eq(hash),
                controllers::calendar_made_at.eq(app_now().nullable()),
            ))
            .execute(self.connection)?;
        self.record(NewEvent::new(Subject::Calendar, Some(id), Action::Changed));
        Ok(true)
    }

    /// Hangs another controller; it gets the lowest free number. Returns identity and number.
    ///
    /// # Errors
    /// As any query.
    pub fn create_controller(&mut self, controller: &Controller) -> Result<(i64, u8)> {
        let (site_id, actor) = (self.site_id, self.actor);
        let taken = current(self.connection, Which::OfSite(site_id))?;
        let free = (1..=u8::MAX).find(|n| taken.iter().all(|c| c.controller.number != *n)).unwrap_or(u8::MAX);
        let numbered = Controller { number: free, ..controller.clone() };
        let id = insert(self.connection, site_id, &numbered, actor)?;
        self.record(NewEvent::new(Subject::Controller, Some(id), Action::Created));
        Ok((id, free))
    }

    /// Saves place and card that were edited from `base_version`; the number stays. `None` when
    /// the controller was removed meanwhile.
    ///
    /// # Errors
    /// As any query.
    pub fn save_controller(
        &mut self,
        id: i64,
        base_version: i32,
        controller: &Controller,
    ) -> Result<Option<Saved<ControllerRecord>>> {
        let now = self.own_controller(id)?;
        let number = now.as_ref().map_or(controller.number, |n| n.controller.number);
        let item = Controller { number, ..controller.clone() };
        self.save_version(Subject::Controller, now, base_version, &item, |connection, version, user_id| {
            insert_version(connection, id, version, &item, user_id)
        })
    }
}
