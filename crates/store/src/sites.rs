//! Sites and their versions.

use crate::accounts::SiteStamp;
use crate::schema::{site_readings, site_versions, sites, users};
use crate::scope::{Scope, SiteKey};
use crate::settings::{NewSettings, SettingsKind};
use crate::transaction::{NewEvent, Versioned};
use crate::{Action, Change, Result, Saved, Snapshot, Store, StoreError, Subject, hours, known};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff_diesel::ToDiesel;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::quantity::time::Hours;
use upland_core::quantity::units::{LitresPerMinute, Metres};
use upland_core::site::Site;
use upland_core::site::windows::WaterWindows;
use upland_formats::site_card;
use upland_formats::site_file::SiteFile;

/// A site as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct SiteRecord {
    /// Identity.
    pub id: SiteKey,
    /// Version shown.
    pub version: i32,
    /// The survey.
    pub site: Site,
    /// Rises with every write to the site.
    pub revision: i64,
    /// Rises with every change of the weather record.
    pub weather_version: i64,
    /// Who saved this version.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
}

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = site_versions, check_for_backend(diesel::pg::Pg))]
struct SiteRow {
    site_id: SiteKey,
    version: i32,
    name: String,
    latitude_deg: f64,
    longitude_deg: f64,
    elevation_m: f64,
    wind_height_m: f64,
    time_zone: String,
    units: String,
    window_from: jiff_diesel::Time,
    window_until: jiff_diesel::Time,
    second_from: Option<jiff_diesel::Time>,
    second_until: Option<jiff_diesel::Time>,
    grow_in_from: Option<jiff_diesel::Time>,
    grow_in_until: Option<jiff_diesel::Time>,
    supply_l_per_min: Option<f64>,
    drizzle: String,
    card: serde_json::Value,
    saved_by: i64,
}

impl SiteRow {
    fn new(site_id: SiteKey, version: i32, site: &Site, saved_by: i64) -> Self {
        Self {
            site_id,
            version,
            name: site.name.clone(),
            latitude_deg: site.latitude_deg,
            longitude_deg: site.longitude_deg,
            elevation_m: site.elevation.m(),
            wind_height_m: site.wind_height.m(),
            time_zone: site.time_zone.clone(),
            units: site.units.code().into(),
            window_from: site.windows.main.from.to_diesel(),
            window_until: site.windows.main.until.to_diesel(),
            second_from: site.windows.second.map(|w| w.from.to_diesel()),
            second_until: site.windows.second.map(|w| w.until.to_diesel()),
            grow_in_from: site.windows.grow_in.map(|w| w.from.to_diesel()),
            grow_in_until: site.windows.grow_in.map(|w| w.until.to_diesel()),
            supply_l_per_min: site.supply.map(LitresPerMinute::l_per_min),
            drizzle: site.drizzle.code().into(),
            card: site_card::to_value(&site.card),
            saved_by,
        }
    }

    fn site(self) -> Result<Site> {
        Ok(Site {
            units: known("unit system", &self.units)?,
            name: self.name,
            latitude_deg: self.latitude_deg,
            longitude_deg: self.longitude_deg,
            elevation: Metres::from_m(self.elevation_m),
            wind_height: Metres::from_m(self.wind_height_m),
            time_zone: self.time_zone,
            windows: WaterWindows {
                main: Hours { from: self.window_from.to_jiff(), until: self.window_until.to_jiff() },
                second: hours(self.second_from, self.second_until),
                grow_in: hours(self.grow_in_from, self.grow_in_until),
            },
            supply: self.supply_l_per_min.map(LitresPerMinute::from_l_per_min),
            drizzle: known("use of drizzle", &self.drizzle)?,
            card: site_card::from_value(self.card)
                .map_err(|error| StoreError::Unknown { what: "card of a site", value: error.to_string() })?,
        })
    }
}

impl Versioned for SiteRecord {
    type Item = Site;
    fn id(&self) -> i64 {
        self.id.number()
    }
    fn version(&self) -> i32 {
        self.version
    }
    fn item(&self) -> &Site {
        &self.site
    }
}

type Loaded = (SiteRow, (i64, i64), String, jiff_diesel::Timestamp);

fn record((row, (weather_version, revision), saved_by, saved_at): Loaded) -> Result<SiteRecord> {
    Ok(SiteRecord {
        id: row.site_id,
        version: row.version,
        site: row.site()?,
        weather_version,
        revision,
        saved_by,
        saved_at: saved_at.to_jiff(),
    })
}

fn current(connection: &mut PgConnection, only: Option<&[i64]>) -> Result<Vec<SiteRecord>> {
    let mut query = site_versions::table
        .inner_join(sites::table)
        .inner_join(users::table)
        .filter(sites::removed_at.is_null())
        .distinct_on(site_versions::site_id)
        .order((site_versions::site_id, site_versions::version.desc()))
        .select((
            SiteRow::as_select(),
            (sites::weather_version, sites::revision),
            users::display_name,
            site_versions::saved_at,
        ))
        .into_boxed();
    if let Some(ids) = only {
        query = query.filter(site_versions::site_id.eq_any(ids.to_vec()));
    }
    query.load::<Loaded>(connection)?.into_iter().map(record).collect()
}

/// The zone of an IANA name.
///
/// # Errors
/// When the list has no such name: the survey admits only names of the list.
pub fn time_zone(name: &str) -> Result<TimeZone> {
    TimeZone::get(name).map_err(|_| StoreError::Unknown { what: "time zone", value: name.to_owned() })
}

impl Snapshot<'_> {
    /// Every site of a scope that is not removed, by name.
    ///
    /// # Errors
    /// As any query.
    pub fn sites(&mut self, scope: &Scope) -> Result<Vec<SiteRecord>> {
        let mut all = current(self.connection, scope.given())?;
        all.sort_by(|a, b| a.site.name.to_lowercase().cmp(&b.site.name.to_lowercase()).then(a.id.cmp(&b.id)));
        Ok(all)
    }

    /// Every site of a scope that is not removed, by identity and name.
    ///
    /// # Errors
    /// As any query.
    pub fn site_names(&mut self, scope: &Scope) -> Result<Vec<(SiteKey, String)>> {
        let named = self.named(scope)?;
        Ok(named.into_iter().map(|(id, name, _)| (id, name)).collect())
    }

    /// The time zone that most sites of a scope lie in; `None` without a site.
    ///
    /// # Errors
    /// As any query.
    pub fn usual_time_zone(&mut self, scope: &Scope) -> Result<Option<String>> {
        let mut sites_of: BTreeMap<String, usize> = BTreeMap::new();
        for (_, _, zone) in self.named(scope)? {
            *sites_of.entry(zone).or_default() += 1;
        }
        Ok(sites_of.into_iter().max_by_key(|(_, sites)| *sites).map(|(zone, _)| zone))
    }

    /// Identity, name and time zone of every site of a scope that is not removed.
    fn named(&mut self, scope: &Scope) -> Result<Vec<(SiteKey, String, String)>> {
        let mut named = site_versions::table
            .inner_join(sites::table)
            .filter(sites::removed_at.is_null())
            .distinct_on(site_versions::site_id)
            .order((site_versions::site_id, site_versions::version.desc()))
            .select((site_versions::site_id, site_versions::name, site_versions::time_zone))
            .into_boxed();
        if let Some(given) = scope.given() {
            named = named.filter(site_versions::site_id.eq_any(given.to_vec()));
        }
        Ok(named.load(self.connection)?)
    }

    /// One site; `None` when there is none or it was removed.
    ///
    /// # Errors
    /// As any query.
    pub fn site(&mut self, id: SiteKey) -> Result<Option<SiteRecord>> {
        Ok(current(self.connection, Some(&[id.number()]))?.pop())
    }

    /// Where the facts of a site stand; `None` when there is none or it was removed.
    ///
    /// # Errors
    /// As any query.
    pub fn stamp(&mut self, id: SiteKey) -> Result<Option<SiteStamp>> {
        type Row = (i64, Option<(i64, jiff_diesel::Timestamp)>);
        let row: Option<Row> = sites::table
            .left_join(site_readings::table)
            .filter(sites::id.eq(id).and(sites::removed_at.is_null()))
            .select((sites::revision, (site_readings::revision, site_readings::last_at).nullable()))
            .first(self.connection)
            .optional()?;
        Ok(row.map(|(revision, readings)| SiteStamp {
            id,
            revision,
            readings: readings.map_or(0, |(revision, _)| revision),
            last_reading: readings.map(|(_, at)| at.to_jiff()),
        }))
    }

    /// An earlier version of a site, if there is one.
    ///
    /// # Errors
    /// As any query.
    pub fn site_version(&mut self, id: SiteKey, version: i32) -> Result<Option<Site>> {
        site_versions::table
            .find((id, version))
            .select(SiteRow::as_select())
            .first(self.connection)
            .optional()?
            .map(SiteRow::site)
            .transpose()
    }
}

impl Store {
    /// Creates a site with its controllers, their settings, its ordinances and zones; returns its
    /// identity. Its sensors were installed today.
    ///
    /// # Errors
    /// As any query; nothing is stored then.
    pub fn create_site(&self, file: &SiteFile, today: Date, user_id: i64) -> Result<SiteKey> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            let id: SiteKey = diesel::insert_into(sites::table)
                .default_values()
                .returning(sites::id)
                .get_result(connection)?;
            diesel::insert_into(site_versions::table)
                .values(SiteRow::new(id, 1, &file.site, user_id))
                .execute(connection)?;
            for (controller, settings) in &file.controllers {
                let controller_id = crate::controllers::insert(connection, id, controller, user_id)?;
                if let Some(settings) = settings {
                    let new =
                        NewSettings { settings, kind: SettingsKind::AsFound, reason: "from the site file" };
                    crate::settings::insert(connection, controller_id, 1, new, user_id)?;
                }
            }
            for applied in &file.law.applied {
                crate::library::apply_by_content(connection, id, applied, user_id)?;
            }
            for zone in &file.zones {
                let place = zone.station_id();
                let own = file.earlier_zones.iter().filter(|e| e.zone.station_id() == place);
                let own: Vec<_> = own.collect();
                crate::zones::insert_with_earlier(connection, id, zone, &own, user_id)?;
            }
            for (place, sensor) in file.sensors.iter().enumerate() {
                let own = (sensor, &file.history(place));
                Change::insert_with_history(connection, id, own.0, own.1, today, user_id)?;
            }
            if file.plan != upland_core::sensors::site_plan::SitePlan::default() {
                crate::sensors::insert_plan(connection, id, &file.plan, user_id)?;
            }
            crate::grants::of_maker(connection, user_id, id)?;
            crate::tasks::ask(
                connection,
                crate::tasks::Task::Round,
                id.number(),
                jiff::SignedDuration::ZERO,
            )?;
            NewEvent::new(Subject::Site, Some(id.number()), Action::Created).said(&file.site.name).write(
                connection,
                Some(id.number()),
                Some(user_id),
            )?;
            Ok(id)
        })
    }

    /// Removes a site from the lists, or brings it back (`None`); nothing is deleted. `false` when there is
    /// no such site, or it is so already.
    ///
    /// # Errors
    /// As any query.
    pub fn set_site_removed(&self, user_id: i64, id: SiteKey, removed: Option<Timestamp>) -> Result<bool> {
        let done = self.change_any(user_id, id, true, |change| {
            let rows = diesel::update(
                sites::table.find(id).filter(sites::removed_at.is_null().eq(removed.is_some())),
            )
            .set(sites::removed_at.eq(removed.map(ToDiesel::to_diesel)))
            .execute(change.connection)?;
            if rows == 1 {
                let action = if removed.is_some() { Action::Removed } else { Action::Restored };
                change.record(NewEvent::new(Subject::Site, Some(id.number()), action));
            }
            Ok(rows == 1)
        })?;
        Ok(done == Some(true))
    }
}

impl Change<'_> {
    /// Saves the survey that was edited from `base_version`.
    ///
    /// # Errors
    /// As any query.
    pub fn save_site(&mut self, base_version: i32, site: &Site) -> Result<Option<Saved<SiteRecord>>> {
        let id = self.site_id;
        let now = current(self.connection, Some(&[id.number()]))?.pop();
        self.save_version(Subject::Site, now, base_version, site, |connection, version, user_id| {
            diesel::insert_into(site_versions::table)
                .values(SiteRow::new(id, version, site, user_id))
                .execute(connection)?;
            Ok(())
        })
    }
}
