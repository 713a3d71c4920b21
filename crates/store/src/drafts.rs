//! What somebody typed into the settings of a controller and has not saved yet. It is no fact of the site: nothing is computed
//! from it, and it raises no revision.

use crate::clock::sql::app_now;
use crate::schema::{settings_drafts, settings_versions};
use crate::{Result, Snapshot, Store, StoreError};
use diesel::dsl::IntervalDsl;
use diesel::prelude::*;
use jiff::Timestamp;
use std::collections::BTreeMap;

/// A draft of somebody's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingsDraft {
    /// The version that it was begun on.
    pub base_version: i32,
    /// Form lines as they were typed.
    pub fields: BTreeMap<String, String>,
    /// When it was last typed at.
    pub typed_at: Timestamp,
}

/// Most lines of a draft, and the longest line; more is nobody's typing.
const MOST: (usize, usize) = (8_000, 2_000);

impl Snapshot<'_> {
    /// A person's draft of a controller.
    ///
    /// # Errors
    /// As any query.
    pub fn settings_draft(&mut self, user_id: i64, controller_id: i64) -> Result<Option<SettingsDraft>> {
        let row: Option<(i32, serde_json::Value, jiff_diesel::Timestamp)> = settings_drafts::table
            .find((user_id, controller_id))
            .select((settings_drafts::base_version, settings_drafts::fields, settings_drafts::typed_at))
            .first(self.connection)
            .optional()?;
        row.map(|(base_version, fields, typed_at)| {
            let fields = serde_json::from_value(fields)
                .map_err(|error| StoreError::Unknown { what: "draft", value: error.to_string() })?;
            Ok(SettingsDraft { base_version, fields, typed_at: typed_at.to_jiff() })
        })
        .transpose()
    }
}

impl Store {
    /// Keeps a draft in place of the one before; returns whether it was kept: too large a one is not, nor one that its
    /// writer has just saved as a later version, which was on its way while the save overtook it.
    ///
    /// # Errors
    /// As any query.
    pub fn keep_settings_draft(
        &self,
        user_id: i64,
        controller_id: i64,
        base_version: i32,
        fields: &BTreeMap<String, String>,
    ) -> Result<bool> {
        if fields.len() > MOST.0 || fields.values().any(|text| text.len() > MOST.1) {
            return Ok(false);
        }
        let kept = (
            settings_drafts::base_version.eq(base_version),
            settings_drafts::fields.eq(serde_json::json!(fields)),
        );
        let connection = &mut self.connection()?;
        diesel::insert_into(settings_drafts::table)
            .values((
                settings_drafts::user_id.eq(user_id),
                settings_drafts::controller_id.eq(controller_id),
                kept.clone(),
            ))
            .on_conflict((settings_drafts::user_id, settings_drafts::controller_id))
            .do_update()
            .set((kept, settings_drafts::typed_at.eq(app_now())))
            .execute(connection)?;
        // Asked after it is kept: a save that is not seen here yet forgets the draft itself when it is done.
        let overtaken = settings_versions::table.filter(
            settings_versions::controller_id
                .eq(controller_id)
                .and(settings_versions::saved_by.eq(user_id))
                .and(settings_versions::version.gt(base_version))
                .and((settings_versions::saved_at + 1.minute()).gt(app_now())),
        );
        if !diesel::select(diesel::dsl::exists(overtaken)).get_result::<bool>(connection)? {
            return Ok(true);
        }
        let late = settings_drafts::table
            .filter(
                settings_drafts::user_id.eq(user_id).and(settings_drafts::controller_id.eq(controller_id)),
            )
            .filter(settings_drafts::base_version.eq(base_version));
        diesel::delete(late).execute(connection)?;
        Ok(false)
    }

    /// Forgets a draft; returns whether there was one.
    ///
    /// # Errors
    /// As any query.
    pub fn drop_settings_draft(&self, user_id: i64, controller_id: i64) -> Result<bool> {
        let gone = diesel::delete(settings_drafts::table.find((user_id, controller_id)));
        Ok(gone.execute(&mut self.connection()?)? > 0)
    }
}
