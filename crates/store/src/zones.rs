//! Zones and their versions.

use crate::schema::{users, zone_versions, zones};
use crate::scope::{Scope, SiteKey};
use crate::transaction::{NewEvent, Versioned};
use crate::{Action, Change, Result, Saved, Snapshot, Subject, document, hours, known, small};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff_diesel::ToDiesel;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::ground::planting::OwnCoefficient;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{Metres, MillimetresPerHour, SquareMetres};
use upland_core::site::{EarlierZone, Zone, ZoneSince};
use upland_formats::planting;

/// A zone as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneRecord {
    /// Identity.
    pub id: i64,
    /// Its site.
    pub site_id: SiteKey,
    /// Version shown.
    pub version: i32,
    /// The survey.
    pub zone: Zone,
    /// How it was before, the oldest first; only of the zones of one site ([`Snapshot::zones`]).
    pub earlier: Vec<EarlierZone>,
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
    window_from: Option<jiff_diesel::Time>,
    window_until: Option<jiff_diesel::Time>,
    controller_number: i32,
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
            uniformity: zone.uniformity.map(Share::fraction),
            root_depth_m: zone.root_depth.map(Metres::m),
            allowable_depletion: zone.allowable_depletion.map(Share::fraction),
            area_m2: zone.area.map(SquareMetres::m2),
            window_from: zone.window.map(|w| w.from.to_diesel()),
            window_until: zone.window.map(|w| w.until.to_diesel()),
            controller_number: i32::from(zone.controller_number),
            planting: planting::to_json(zone.own_coefficient.as_ref(), &zone.planting),
            saved_by,
        }
    }

    fn zone(self) -> Result<Zone> {
        let (own_coefficient, planting) =
            document("planting", planting::from_json(self.plant_coefficient, self.planting))?;
        Ok(Zone {
            controller_number: small("controller number", self.controller_number)?,
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
            uniformity: self.uniformity.map(Share::from_fraction),
            root_depth: self.root_depth_m.map(Metres::from_m),
            allowable_depletion: self.allowable_depletion.map(Share::from_fraction),
            area: self.area_m2.map(SquareMetres::from_m2),
            window: hours(self.window_from, self.window_until),
            name: self.name,
        })
    }
}

/// A zone by name, for finding.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZoneName {
    /// Its site.
    pub site_id: SiteKey,
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
enum Which<'a> {
    In(&'a Scope),
    OfSite(SiteKey),
    One(i64),
}

impl Versioned for ZoneRecord {
    type Item = Zone;
    fn id(&self) -> i64 {
        self.id
    }
    fn version(&self) -> i32 {
        self.version
    }
    fn item(&self) -> &Zone {
        &self.zone
    }
}

type Loaded = (ZoneRow, SiteKey, String, jiff_diesel::Timestamp);

fn current(connection: &mut PgConnection, which: Which<'_>) -> Result<Vec<ZoneRecord>> {
    let mut query = zone_versions::table
        .inner_join(zones::table)
        .inner_join(users::table)
        .filter(zones::removed_at.is_null())
        .distinct_on(zone_versions::zone_id)
        .order((zone_versions::zone_id, zone_versions::version.desc()))
        .select((ZoneRow::as_select(), zones::site_id, users::display_name, zone_versions::saved_at))
        .into_boxed();
    query = match which {
        Which::In(scope) => match scope.given() {
            None => query,
            Some(given) => query.filter(zones::site_id.eq_any(given.to_vec())),
        },
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
                earlier: Vec::new(),
                saved_by,
                saved_at: saved_at.to_jiff(),
            })
        })
        .collect::<Result<Vec<_>>>()?;
    records.sort_by_key(|r| (r.zone.controller_number, r.zone.number, r.id));
    Ok(records)
}

/// Adds how zones were before.
fn add_earlier(connection: &mut PgConnection, records: &mut [ZoneRecord]) -> Result<()> {
    let changed: Vec<i64> = records.iter().filter(|r| r.version > 1).map(|r| r.id).collect();
    if changed.is_empty() {
        return Ok(());
    }
    let mut versions: BTreeMap<i64, Vec<(ZoneSince, Zone)>> = BTreeMap::new();
    let rows = zone_versions::table
        .filter(zone_versions::zone_id.eq_any(changed))
        .order((zone_versions::zone_id, zone_versions::version))
        .select((ZoneRow::as_select(), zone_versions::since))
        .load::<(ZoneRow, Option<jiff_diesel::Date>)>(connection)?;
    for (row, since) in rows {
        let since = since.map_or(ZoneSince::Always, |on| ZoneSince::On(on.to_jiff()));
        versions.entry(row.zone_id).or_default().push((since, row.zone()?));
    }
    for record in records {
        let own = versions.remove(&record.id).unwrap_or_default();
        record.earlier = EarlierZone::of_versions(own);
        // A zone that was put on another station is the same ground.
        for before in &mut record.earlier {
            (before.zone.controller_number, before.zone.number) =
                (record.zone.controller_number, record.zone.number);
        }
    }
    Ok(())
}

/// A zone of a site file, with how it was before.
pub(crate) fn insert_with_earlier(
    connection: &mut PgConnection,
    site_id: SiteKey,
    zone: &Zone,
    earlier: &[&EarlierZone],
    user_id: i64,
) -> Result<()> {
    let Some(first) = earlier.first() else {
        insert_zone(connection, site_id, zone, user_id)?;
        return Ok(());
    };
    let id = insert_zone(connection, site_id, &first.zone, user_id)?;
    let later = earlier.iter().skip(1).map(|e| &e.zone).chain([zone]);
    for ((version, own), since) in (2..).zip(later).zip(earlier.iter().map(|e| e.until)) {
        diesel::insert_into(zone_versions::table)
            .values((ZoneRow::new(id, version, own, user_id), zone_versions::since.eq(since.to_diesel())))
            .execute(connection)?;
    }
    Ok(())
}

pub(crate) fn insert_zone(
    connection: &mut PgConnection,
    site_id: SiteKey,
    zone: &Zone,
    user_id: i64,
) -> Result<i64> {
    let id: i64 = diesel::insert_into(zones::table)
        .values((
            zones::site_id.eq(site_id),
            zones::controller_number.eq(i32::from(zone.controller_number)),
            zones::number.eq(i32::from(zone.number)),
        ))
        .returning(zones::id)
        .get_result(connection)?;
    diesel::insert_into(zone_versions::table)
        .values(ZoneRow::new(id, 1, zone, user_id))
        .execute(connection)?;
    Ok(id)
}

impl Snapshot<'_> {
    /// The zones of a site, by station number.
    ///
    /// # Errors
    /// As any query.
    pub fn zones(&mut self, site_id: SiteKey) -> Result<Vec<ZoneRecord>> {
        let mut records = current(self.connection, Which::OfSite(site_id))?;
        add_earlier(self.connection, &mut records)?;
        Ok(records)
    }

    /// One zone; `None` when there is none or it was removed.
    ///
    /// # Errors
    /// As any query.
    pub fn zone(&mut self, id: i64) -> Result<Option<ZoneRecord>> {
        Ok(current(self.connection, Which::One(id))?.pop())
    }

    /// An earlier version of a zone, if there is one.
    ///
    /// # Errors
    /// As any query.
    pub fn zone_version(&mut self, id: i64, version: i32) -> Result<Option<Zone>> {
        zone_versions::table
            .find((id, version))
            .select(ZoneRow::as_select())
            .first(self.connection)
            .optional()?
            .map(ZoneRow::zone)
            .transpose()
    }

    /// The names of every zone of every site of a scope, for finding.
    ///
    /// # Errors
    /// As any query.
    pub fn all_zone_names(&mut self, scope: &Scope) -> Result<Vec<ZoneName>> {
        let connection = &mut *self.connection;
        let all = current(connection, Which::In(scope))?;
        let names: std::collections::BTreeMap<SiteKey, String> =
            self.sites(scope)?.into_iter().map(|s| (s.id, s.site.name)).collect();
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

impl Change<'_> {
    /// Creates a zone.
    ///
    /// # Errors
    /// As any query; [`crate::StoreError::Taken`] when another zone has its station.
    pub fn create_zone(&mut self, zone: &Zone) -> Result<i64> {
        let (site_id, actor) = (self.site_id, self.actor);
        let id = insert_zone(self.connection, site_id, zone, actor)?;
        self.record(NewEvent::new(Subject::Zone, Some(id), Action::Created).said(&zone.name));
        Ok(id)
    }

    /// Saves a zone of the site that was edited from `base_version`, as it is since a date or was all along. `None` when it was removed meanwhile.
    ///
    /// # Errors
    /// As any query; [`crate::StoreError::Taken`] when another zone has its station.
    pub fn save_zone(
        &mut self,
        id: i64,
        base_version: i32,
        zone: &Zone,
        since: ZoneSince,
    ) -> Result<Option<Saved<ZoneRecord>>> {
        let since = match since {
            ZoneSince::Always => None,
            ZoneSince::On(date) => Some(date.to_diesel()),
        };
        let site_id = self.site_id;
        let now = current(self.connection, Which::One(id))?.pop().filter(|z| z.site_id == site_id);
        self.save_version(Subject::Zone, now, base_version, zone, |connection, version, user_id| {
            diesel::insert_into(zone_versions::table)
                .values((ZoneRow::new(id, version, zone, user_id), zone_versions::since.eq(since)))
                .execute(connection)?;
            diesel::update(zones::table.find(id))
                .set((
                    zones::controller_number.eq(i32::from(zone.controller_number)),
                    zones::number.eq(i32::from(zone.number)),
                ))
                .execute(connection)?;
            Ok(())
        })
    }
}
