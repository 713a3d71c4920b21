//! Zones and their versions.

use crate::schema::{users, zone_versions, zones};
use crate::{Result, Saved, Store, document, known, small};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff_diesel::ToDiesel;
use upland_core::codes::Coded;
use upland_core::ground::planting::OwnCoefficient;
use upland_core::quantity::units::{Metres, MillimetresPerHour, SquareMetres};
use upland_core::site::Zone;
use upland_formats::planting;

/// A zone as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneRecord {
    /// Identity.
    pub id: i64,
    /// Its site.
    pub site_id: i64,
    /// Version shown.
    pub version: i32,
    /// The survey.
    pub zone: Zone,
    /// Who saved this version.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
}

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = zone_versions, check_for_backend(diesel::pg::Pg))]
struct ZoneRow {
    zone_id: i64,
    version: i32,
    number: i32,
    name: String,
    plant: String,
    plant_coefficient: Option<f64>,
    soil: String,
    slope_pct: Option<f64>,
    sun: String,
    sky: String,
    head: String,
    precipitation_rate_mm_per_h: Option<f64>,
    uniformity: Option<f64>,
    root_depth_m: Option<f64>,
    allowable_depletion: Option<f64>,
    area_m2: Option<f64>,
    box_number: i32,
    planting: Option<serde_json::Value>,
    saved_by: i64,
}

impl ZoneRow {
    fn new(zone_id: i64, version: i32, zone: &Zone, saved_by: i64) -> Self {
        Self {
            zone_id,
            version,
            number: i32::from(zone.number),
            name: zone.name.clone(),
            plant: zone.plant.code().into(),
            plant_coefficient: match zone.own_coefficient {
                Some(OwnCoefficient::Constant(value)) => Some(value),
                _ => None,
            },
            soil: zone.soil.code().into(),
            slope_pct: zone.slope_pct,
            sun: zone.sun.code().into(),
            sky: zone.sky.code().into(),
            head: zone.head.code().into(),
            precipitation_rate_mm_per_h: zone.precipitation_rate.map(MillimetresPerHour::mm_per_hour),
            uniformity: zone.uniformity,
            root_depth_m: zone.root_depth.map(Metres::m),
            allowable_depletion: zone.allowable_depletion,
            area_m2: zone.area.map(SquareMetres::m2),
            box_number: i32::from(zone.box_number),
            planting: planting::to_json(zone.own_coefficient.as_ref(), &zone.planting),
            saved_by,
        }
    }

    fn zone(self) -> Result<Zone> {
        let (own_coefficient, planting) =
            document("planting", planting::from_json(self.plant_coefficient, self.planting))?;
        Ok(Zone {
            box_number: small("box number", self.box_number)?,
            number: small("zone number", self.number)?,
            plant: known("plant kind", &self.plant)?,
            own_coefficient,
            planting,
            soil: known("soil texture", &self.soil)?,
            slope_pct: self.slope_pct,
            sun: known("sun exposure", &self.sun)?,
            sky: known("rain exposure", &self.sky)?,
            head: known("head type", &self.head)?,
            precipitation_rate: self.precipitation_rate_mm_per_h.map(MillimetresPerHour::from_mm_per_hour),
            uniformity: self.uniformity,
            root_depth: self.root_depth_m.map(Metres::from_m),
            allowable_depletion: self.allowable_depletion,
            area: self.area_m2.map(SquareMetres::from_m2),
            name: self.name,
        })
    }
}

/// A zone by name, for finding.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZoneName {
    /// Its site.
    pub site_id: i64,
    /// The site's name.
    pub site_name: String,
    /// Identity.
    pub zone_id: i64,
    /// Station number.
    pub number: u16,
    /// Name.
    pub name: String,
}

/// Which zones to load.
#[derive(Clone, Copy)]
enum Which {
    All,
    OfSite(i64),
    One(i64),
}

type Loaded = (ZoneRow, i64, String, jiff_diesel::Timestamp);

fn current(connection: &mut PgConnection, which: Which) -> Result<Vec<ZoneRecord>> {
    let mut query = zone_versions::table
        .inner_join(zones::table)
        .inner_join(users::table)
        .filter(zones::removed_at.is_null())
        .distinct_on(zone_versions::zone_id)
        .order((zone_versions::zone_id, zone_versions::version.desc()))
        .select((ZoneRow::as_select(), zones::site_id, users::display_name, zone_versions::saved_at))
        .into_boxed();
    query = match which {
        Which::All => query,
        Which::OfSite(id) => query.filter(zones::site_id.eq(id)),
        Which::One(id) => query.filter(zones::id.eq(id)),
    };
    let mut records = query
        .load::<Loaded>(connection)?
        .into_iter()
        .map(|(row, site_id, saved_by, saved_at)| {
            Ok(ZoneRecord {
                id: row.zone_id,
                site_id,
                version: row.version,
                zone: row.zone()?,
                saved_by,
                saved_at: saved_at.to_jiff(),
            })
        })
        .collect::<Result<Vec<_>>>()?;
    records.sort_by_key(|r| (r.zone.box_number, r.zone.number, r.id));
    Ok(records)
}

pub(crate) fn insert_zone(
    connection: &mut PgConnection,
    site_id: i64,
    zone: &Zone,
    user_id: i64,
) -> Result<i64> {
    let id: i64 = diesel::insert_into(zones::table)
        .values(zones::site_id.eq(site_id))
        .returning(zones::id)
        .get_result(connection)?;
    diesel::insert_into(zone_versions::table)
        .values(ZoneRow::new(id, 1, zone, user_id))
        .execute(connection)?;
    Ok(id)
}

impl Store {
    /// The zones of a site, by station number.
    ///
    /// # Errors
    /// As any query.
    pub fn zones(&self, site_id: i64) -> Result<Vec<ZoneRecord>> {
        current(&mut *self.connection()?, Which::OfSite(site_id))
    }

    /// One zone; `None` when there is none or it was removed.
    ///
    /// # Errors
    /// As any query.
    pub fn zone(&self, id: i64) -> Result<Option<ZoneRecord>> {
        Ok(current(&mut *self.connection()?, Which::One(id))?.pop())
    }

    /// An earlier version of a zone, if there is one.
    ///
    /// # Errors
    /// As any query.
    pub fn zone_version(&self, id: i64, version: i32) -> Result<Option<Zone>> {
        zone_versions::table
            .find((id, version))
            .select(ZoneRow::as_select())
            .first(&mut self.connection()?)
            .optional()?
            .map(ZoneRow::zone)
            .transpose()
    }

    /// Creates a zone.
    ///
    /// # Errors
    /// As any query.
    pub fn create_zone(&self, site_id: i64, zone: &Zone, user_id: i64) -> Result<i64> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| insert_zone(connection, site_id, zone, user_id))
    }

    /// Saves a zone that was edited from `base_version`. `None` when it was removed meanwhile.
    ///
    /// # Errors
    /// As any query.
    pub fn save_zone(
        &self,
        id: i64,
        base_version: i32,
        zone: &Zone,
        user_id: i64,
    ) -> Result<Option<Saved<ZoneRecord>>> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            // The lock orders two savers, so that the second sees the first.
            let locked: Option<i64> =
                zones::table.find(id).select(zones::id).for_update().first(connection).optional()?;
            if locked.is_none() {
                return Ok(None);
            }
            let Some(now) = current(connection, Which::One(id))?.pop() else { return Ok(None) };
            if now.version != base_version {
                return Ok(Some(Saved::Conflict(Box::new(now))));
            }
            if now.zone == *zone {
                return Ok(Some(Saved::As(now.version)));
            }
            let version = now.version + 1;
            diesel::insert_into(zone_versions::table)
                .values(ZoneRow::new(id, version, zone, user_id))
                .execute(connection)?;
            Ok(Some(Saved::As(version)))
        })
    }

    /// Removes a zone from its site; nothing is deleted.
    ///
    /// # Errors
    /// As any query.
    pub fn remove_zone(&self, id: i64, now: Timestamp) -> Result<()> {
        diesel::update(zones::table.find(id))
            .set(zones::removed_at.eq(now.to_diesel()))
            .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Brings a removed zone back to its site; `false` when another zone has its number by now.
    ///
    /// # Errors
    /// As any query.
    pub fn restore_zone(&self, site_id: i64, id: i64) -> Result<bool> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            let others = current(connection, Which::OfSite(site_id))?;
            diesel::update(zones::table.filter(zones::id.eq(id).and(zones::site_id.eq(site_id))))
                .set(zones::removed_at.eq(None::<jiff_diesel::Timestamp>))
                .execute(connection)?;
            let back = current(connection, Which::One(id))?;
            let station = |r: &ZoneRecord| (r.zone.box_number, r.zone.number);
            let clash = back.iter().any(|b| others.iter().any(|o| o.id != id && station(o) == station(b)));
            if clash {
                diesel::update(zones::table.find(id))
                    .set(zones::removed_at.eq(Timestamp::now().to_diesel()))
                    .execute(connection)?;
            }
            Ok(!clash && !back.is_empty())
        })
    }

    /// Every zone of every site.
    ///
    /// # Errors
    /// As any query.
    pub fn all_zones(&self) -> Result<Vec<ZoneRecord>> {
        current(&mut *self.connection()?, Which::All)
    }

    /// The names of every zone of every site, for finding.
    ///
    /// # Errors
    /// As any query.
    pub fn all_zone_names(&self) -> Result<Vec<ZoneName>> {
        let mut connection = self.connection()?;
        let all = current(&mut connection, Which::All)?;
        drop(connection);
        let names: std::collections::BTreeMap<i64, String> =
            self.sites()?.into_iter().map(|s| (s.id, s.site.name)).collect();
        Ok(all
            .into_iter()
            .filter_map(|z| {
                Some(ZoneName {
                    site_name: names.get(&z.site_id)?.clone(),
                    zone_id: z.id,
                    site_id: z.site_id,
                    number: z.zone.number,
                    name: z.zone.name,
                })
            })
            .collect())
    }
}
