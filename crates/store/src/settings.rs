//! Settings of a controller as versions: who, when, why. Nothing is overwritten; an earlier version comes
//! back as a new one.

use crate::schema::{controllers, settings_versions, users};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Saved, Snapshot, StoreError, Subject, document};
use diesel::prelude::*;
use jiff::Timestamp;
use std::collections::BTreeMap;
use upland_core::controller::schedule::Settings;
use upland_formats::settings_file::{settings_from, settings_value};

/// Versions shown in a history.
const MOST_SHOWN: i64 = 200;

/// How a version came about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SettingsKind {
    /// Read off the controller before anything was changed.
    AsFound,
    /// Changed by hand.
    Changed,
    /// Taken from a plan.
    Planned,
    /// An earlier version brought back.
    Restored,
}

impl SettingsKind {
    const TABLE: [(Self, &'static str); 4] = [
        (Self::AsFound, "as_found"),
        (Self::Changed, "changed"),
        (Self::Planned, "planned"),
        (Self::Restored, "restored"),
    ];

    fn code(self) -> &'static str {
        Self::TABLE.iter().find(|(kind, _)| *kind == self).map_or("changed", |(_, code)| code)
    }

    fn from_code(code: &str) -> Result<Self> {
        Self::TABLE
            .iter()
            .find(|(_, known)| *known == code)
            .map(|(kind, _)| *kind)
            .ok_or_else(|| StoreError::Unknown { what: "kind of settings", value: code.to_owned() })
    }
}

/// A version of a controller's settings.
#[derive(Debug, Clone, PartialEq)]
pub struct SettingsRecord {
    /// Its number.
    pub version: i32,
    /// How it came about.
    pub kind: SettingsKind,
    /// Why.
    pub reason: String,
    /// The settings.
    pub settings: Settings,
    /// Who saved it.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
}

/// Settings to be saved.
#[derive(Debug, Clone, Copy)]
pub struct NewSettings<'a> {
    /// The settings.
    pub settings: &'a Settings,
    /// How they came about.
    pub kind: SettingsKind,
    /// Why.
    pub reason: &'a str,
}

type Loaded = (i32, String, String, serde_json::Value, jiff_diesel::Timestamp, String);

fn load(connection: &mut PgConnection, id: i64, only: Option<i32>, most: i64) -> Result<Vec<SettingsRecord>> {
    let mut query = settings_versions::table
        .inner_join(users::table)
        .filter(settings_versions::controller_id.eq(id))
        .order(settings_versions::version.desc())
        .limit(most)
        .select((
            settings_versions::version,
            settings_versions::kind,
            settings_versions::reason,
            settings_versions::settings,
            settings_versions::saved_at,
            users::display_name,
        ))
        .into_boxed();
    if let Some(version) = only {
        query = query.filter(settings_versions::version.eq(version));
    }
    query.load::<Loaded>(connection)?.into_iter().map(record).collect()
}

fn record((version, kind, reason, settings, saved_at, saved_by): Loaded) -> Result<SettingsRecord> {
    Ok(SettingsRecord {
        version,
        kind: SettingsKind::from_code(&kind)?,
        reason,
        settings: document("settings", settings_from(settings))?,
        saved_by,
        saved_at: saved_at.to_jiff(),
    })
}

pub(crate) fn insert(
    connection: &mut PgConnection,
    controller_id: i64,
    version: i32,
    new: NewSettings<'_>,
    user_id: i64,
) -> Result<()> {
    diesel::insert_into(settings_versions::table)
        .values((
            settings_versions::controller_id.eq(controller_id),
            settings_versions::version.eq(version),
            settings_versions::kind.eq(new.kind.code()),
            settings_versions::reason.eq(new.reason),
            settings_versions::settings.eq(settings_value(new.settings)),
            settings_versions::saved_by.eq(user_id),
        ))
        .execute(connection)?;
    Ok(())
}

impl Snapshot<'_> {
    /// The settings that each controller of a site has now, by the identity of the controller.
    ///
    /// # Errors
    /// As any query.
    pub fn settings_of_site(&mut self, site_id: SiteKey) -> Result<BTreeMap<i64, SettingsRecord>> {
        let rows: Vec<(i64, Loaded)> = settings_versions::table
            .inner_join(controllers::table)
            .inner_join(users::table)
            .filter(controllers::site_id.eq(site_id).and(controllers::removed_at.is_null()))
            .distinct_on(settings_versions::controller_id)
            .order((settings_versions::controller_id, settings_versions::version.desc()))
            .select((
                settings_versions::controller_id,
                (
                    settings_versions::version,
                    settings_versions::kind,
                    settings_versions::reason,
                    settings_versions::settings,
                    settings_versions::saved_at,
                    users::display_name,
                ),
            ))
            .load(self.connection)?;
        rows.into_iter().map(|(id, row)| Ok((id, record(row)?))).collect()
    }

    /// The versions of the settings of a site's controllers, oldest first, by the identity of the controller: the newest of each,
    /// as many as a history shows.
    ///
    /// # Errors
    /// As any query.
    pub fn settings_versions(&mut self, site_id: SiteKey) -> Result<BTreeMap<i64, Vec<SettingsRecord>>> {
        let ids: Vec<i64> = controllers::table
            .filter(controllers::site_id.eq(site_id).and(controllers::removed_at.is_null()))
            .select(controllers::id)
            .load(self.connection)?;
        let mut out = BTreeMap::new();
        for id in ids {
            let mut versions = load(self.connection, id, None, MOST_SHOWN)?;
            versions.reverse();
            out.insert(id, versions);
        }
        Ok(out)
    }

    /// The settings that a controller has now; `None` when nothing was ever entered.
    ///
    /// # Errors
    /// As any query.
    pub fn settings(&mut self, controller_id: i64) -> Result<Option<SettingsRecord>> {
        Ok(load(self.connection, controller_id, None, 1)?.pop())
    }

    /// Every version, the newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn settings_history(&mut self, controller_id: i64) -> Result<Vec<SettingsRecord>> {
        load(self.connection, controller_id, None, MOST_SHOWN)
    }

    /// One version.
    ///
    /// # Errors
    /// As any query.
    pub fn settings_version(&mut self, controller_id: i64, version: i32) -> Result<Option<SettingsRecord>> {
        Ok(load(self.connection, controller_id, Some(version), 1)?.pop())
    }
}

impl Change<'_> {
    /// Whether a controller is installed at the site.
    fn has_controller(&mut self, id: i64) -> Result<bool> {
        let of_site = controllers::table
            .find(id)
            .filter(controllers::site_id.eq(self.site_id).and(controllers::removed_at.is_null()));
        Ok(diesel::select(diesel::dsl::exists(of_site)).get_result(self.connection)?)
    }

    /// Brings an earlier version back where the newest is still `now`; version 0 is none, which cannot come back. `false`
    /// when somebody saved since, or there is no such version at this site.
    ///
    /// # Errors
    /// When the database does not answer.
    pub fn restore_settings(&mut self, controller_id: i64, before: i32, now: i32) -> Result<bool> {
        if !self.has_controller(controller_id)? {
            return Ok(false);
        }
        let Some(earlier) = load(self.connection, controller_id, Some(before), 1)?.pop() else {
            return Ok(false);
        };
        let reason = format!("version {before} is back");
        let new = NewSettings { settings: &earlier.settings, kind: SettingsKind::Restored, reason: &reason };
        Ok(matches!(self.save_settings(controller_id, now, new)?, Some(Saved::As(_))))
    }

    /// Saves settings that were edited from `base_version` (0 for the first). `None` when the controller
    /// was removed meanwhile.
    ///
    /// # Errors
    /// As any query.
    pub fn save_settings(
        &mut self,
        controller_id: i64,
        base_version: i32,
        new: NewSettings<'_>,
    ) -> Result<Option<Saved<SettingsRecord>>> {
        if !self.has_controller(controller_id)? {
            return Ok(None);
        }
        let now = load(self.connection, controller_id, None, 1)?.pop();
        let before = now.as_ref().map_or(0, |n| n.version);
        match now {
            Some(now) if now.version != base_version => return Ok(Some(Saved::Conflict(Box::new(now)))),
            Some(now) if now.settings == *new.settings => return Ok(Some(Saved::Unchanged(now.version))),
            _ => {}
        }
        let (version, actor) = (before + 1, self.actor);
        insert(self.connection, controller_id, version, new, actor)?;
        let action = if before == 0 { Action::Created } else { Action::Changed };
        let said = format!("version {version}: {}", new.reason);
        let event = NewEvent::new(Subject::Settings, Some(controller_id), action);
        self.record(event.between(before, version).said(said));
        Ok(Some(Saved::As(version)))
    }

    /// Chooses the version that a controller falls back on, or none. `false` when the controller or the version is not
    /// there.
    ///
    /// # Errors
    /// As any query.
    pub fn set_fallback(&mut self, controller_id: i64, version: Option<i32>) -> Result<bool> {
        if !self.has_controller(controller_id)? {
            return Ok(false);
        }
        if let Some(version) = version
            && load(self.connection, controller_id, Some(version), 1)?.is_empty()
        {
            return Ok(false);
        }
        let before: Option<i32> = controllers::table
            .find(controller_id)
            .select(controllers::fallback_version)
            .first(self.connection)?;
        if before == version {
            return Ok(true);
        }
        diesel::update(controllers::table.find(controller_id))
            .set(controllers::fallback_version.eq(version))
            .execute(self.connection)?;
        let event = NewEvent::new(Subject::Fallback, Some(controller_id), Action::Changed);
        self.record(event.between(before, version));
        Ok(true)
    }
}
