//! What people said about the weather: overrules of values, which source counts, typed normals, how
//! a strange file is read. Nothing is overwritten; the newest counts.

use super::{BySource, has_days, sources};
use crate::schema::{
    users, weather_choices, weather_mappings, weather_normals, weather_overrules, weather_sources,
};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, Store, StoreError, Subject, document, known};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff_diesel::ToDiesel;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::weather::climate::TypedNormals;
use upland_core::weather::record::{Overrule, SourceKind, VariableGroup};
use upland_formats::normals;

/// An overrule as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OverruleRecord {
    /// Identity.
    pub id: i64,
    /// What was said.
    pub overrule: Overrule,
    /// Who.
    pub said_by: String,
    /// When.
    pub said_at: Timestamp,
    /// Whether it was undone.
    pub undone: bool,
}

/// Which source counts, by group of variables.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    /// Identity.
    pub id: i64,
    /// Source ids by group, the first counts and the others stand in.
    pub order: [Vec<i64>; 5],
    /// Why.
    pub reason: String,
    /// Who.
    pub chosen_by: String,
    /// When.
    pub chosen_at: Timestamp,
}

type OverruleRow = (
    (i64, i64, jiff_diesel::Date, String, bool, String),
    (String, jiff_diesel::Timestamp, Option<jiff_diesel::Timestamp>),
);

pub(super) fn overrules_of_site(
    connection: &mut PgConnection,
    site_id: SiteKey,
) -> Result<BySource<OverruleRecord>> {
    let rows: Vec<OverruleRow> = weather_overrules::table
        .inner_join(users::table)
        .inner_join(weather_sources::table.on(weather_sources::id.eq(weather_overrules::source_id)))
        .filter(weather_sources::site_id.eq(site_id))
        .order(weather_overrules::id)
        .select((
            (
                weather_overrules::id,
                weather_overrules::source_id,
                weather_overrules::date,
                weather_overrules::variable,
                weather_overrules::keep,
                weather_overrules::reason,
            ),
            (users::display_name, weather_overrules::said_at, weather_overrules::undone_at),
        ))
        .load(connection)?;
    let mut by_source: BySource<OverruleRecord> = BTreeMap::new();
    for ((id, source, date, variable, keep, reason), (said_by, said_at, undone)) in rows {
        by_source.entry(source).or_default().push(OverruleRecord {
            id,
            overrule: Overrule {
                date: date.to_jiff(),
                variable: known("weather variable", &variable)?,
                keep,
                reason,
            },
            said_by,
            said_at: said_at.to_jiff(),
            undone: undone.is_some(),
        });
    }
    Ok(by_source)
}

pub(super) fn choice(connection: &mut PgConnection, site_id: SiteKey) -> Result<Option<Choice>> {
    type Row = (i64, serde_json::Value, String, String, jiff_diesel::Timestamp);
    let row: Option<Row> = weather_choices::table
        .inner_join(users::table)
        .filter(weather_choices::site_id.eq(site_id))
        .order(weather_choices::id.desc())
        .select((
            weather_choices::id,
            weather_choices::body,
            weather_choices::reason,
            users::display_name,
            weather_choices::chosen_at,
        ))
        .first(connection)
        .optional()?;
    let Some((id, body, reason, chosen_by, at)) = row else { return Ok(None) };
    let order: BTreeMap<String, Vec<i64>> = serde_json::from_value(body)
        .map_err(|error| StoreError::Unknown { what: "weather choice", value: error.to_string() })?;
    Ok(Some(Choice {
        id,
        order: VariableGroup::ALL.map(|group| order.get(group.code()).cloned().unwrap_or_default()),
        reason,
        chosen_by,
        chosen_at: at.to_jiff(),
    }))
}

pub(super) fn normals_of_site(
    connection: &mut PgConnection,
    site_id: SiteKey,
) -> Result<Option<TypedNormals>> {
    let all = sources::of_site(connection, site_id)?;
    let Some(source) = all.iter().rfind(|s| s.kind == SourceKind::Normals) else { return Ok(None) };
    debug_assert!(!has_days(source.kind));
    normals_of(connection, source.id)
}

fn normals_of(connection: &mut PgConnection, source_id: i64) -> Result<Option<TypedNormals>> {
    weather_normals::table
        .filter(weather_normals::source_id.eq(source_id))
        .order(weather_normals::id.desc())
        .select(weather_normals::body)
        .first::<serde_json::Value>(connection)
        .optional()?
        .map(|body| document("normals", normals::from_json(body)))
        .transpose()
}

impl Snapshot<'_> {
    /// What was said about the values of a site's sources, by source, oldest first, undone ones too.
    ///
    /// # Errors
    /// As any query.
    pub fn overrules(&mut self, site_id: SiteKey) -> Result<BTreeMap<i64, Vec<OverruleRecord>>> {
        overrules_of_site(self.connection, site_id)
    }

    /// The typed normals of a source.
    ///
    /// # Errors
    /// As any query.
    pub fn normals(&mut self, source_id: i64) -> Result<Option<TypedNormals>> {
        normals_of(self.connection, source_id)
    }

    /// How files of a header are read, as it was last said.
    ///
    /// # Errors
    /// As any query.
    pub fn mapping(&mut self, header_key: &str) -> Result<Option<serde_json::Value>> {
        Ok(weather_mappings::table
            .filter(weather_mappings::header_key.eq(header_key))
            .order(weather_mappings::id.desc())
            .select(weather_mappings::body)
            .first(self.connection)
            .optional()?)
    }
}

impl Store {
    /// Remembers how files of a header are read.
    ///
    /// # Errors
    /// As any query.
    pub fn save_mapping(&self, header_key: &str, mapping: &serde_json::Value, user_id: i64) -> Result<()> {
        diesel::insert_into(weather_mappings::table)
            .values((
                weather_mappings::header_key.eq(header_key),
                weather_mappings::body.eq(mapping),
                weather_mappings::saved_by.eq(user_id),
            ))
            .execute(&mut self.connection()?)?;
        Ok(())
    }
}

impl Change<'_> {
    /// Whether a source is of the site and was not taken off it.
    fn has_source(&mut self, id: i64) -> Result<bool> {
        let site_id = self.site_id;
        Ok(sources::of_site(self.connection, site_id)?.iter().any(|s| s.id == id))
    }

    /// Says that a value counts or does not; the original stays. `None` when the source is not of this site.
    ///
    /// # Errors
    /// As any query.
    pub fn overrule(&mut self, source_id: i64, overrule: &Overrule) -> Result<Option<i64>> {
        if !self.has_source(source_id)? {
            return Ok(None);
        }
        let actor = self.actor;
        let id = diesel::insert_into(weather_overrules::table)
            .values((
                weather_overrules::source_id.eq(source_id),
                weather_overrules::date.eq(overrule.date.to_diesel()),
                weather_overrules::variable.eq(overrule.variable.code()),
                weather_overrules::keep.eq(overrule.keep),
                weather_overrules::reason.eq(&overrule.reason),
                weather_overrules::said_by.eq(actor),
            ))
            .returning(weather_overrules::id)
            .get_result(self.connection)?;
        self.record(NewEvent::new(Subject::Overrule, Some(id), Action::Created));
        Ok(Some(id))
    }

    /// Says which source counts, unless somebody chose since `base` (the id of the choice that was
    /// shown); then theirs is returned and nothing is stored.
    ///
    /// # Errors
    /// As any query; [`StoreError::Unknown`] for a source that is not of this site.
    pub fn choose_sources(
        &mut self,
        base: Option<i64>,
        order: &[Vec<i64>; 5],
        reason: &str,
    ) -> Result<Option<Choice>> {
        let (site_id, actor) = (self.site_id, self.actor);
        let now = choice(self.connection, site_id)?;
        if now.as_ref().map(|c| c.id) != base {
            return Ok(now);
        }
        let known: Vec<i64> = sources::of_site(self.connection, site_id)?.iter().map(|s| s.id).collect();
        if let Some(strange) = order.iter().flatten().find(|id| !known.contains(id)) {
            return Err(StoreError::Unknown { what: "source", value: strange.to_string() });
        }
        let body: serde_json::Map<String, serde_json::Value> = VariableGroup::ALL
            .iter()
            .zip(order)
            .map(|(group, ids)| (group.code().to_owned(), serde_json::json!(ids)))
            .collect();
        let body = serde_json::Value::Object(body);
        diesel::insert_into(weather_choices::table)
            .values((
                weather_choices::site_id.eq(site_id),
                weather_choices::body.eq(&body),
                weather_choices::reason.eq(reason),
                weather_choices::chosen_by.eq(actor),
            ))
            .execute(self.connection)?;
        self.record(NewEvent::new(Subject::SourceChoice, None, Action::Changed).with(body));
        Ok(None)
    }

    /// Types normals into a source; `false` when it is not of this site.
    ///
    /// # Errors
    /// As any query.
    pub fn set_normals(&mut self, source_id: i64, values: &TypedNormals) -> Result<bool> {
        if !self.has_source(source_id)? {
            return Ok(false);
        }
        let actor = self.actor;
        diesel::insert_into(weather_normals::table)
            .values((
                weather_normals::source_id.eq(source_id),
                weather_normals::body.eq(normals::to_json(values)),
                weather_normals::saved_by.eq(actor),
            ))
            .execute(self.connection)?;
        self.record(NewEvent::new(Subject::Normals, Some(source_id), Action::Changed));
        Ok(true)
    }
}
