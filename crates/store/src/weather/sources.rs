//! Sources: the site's own sensor, stations some way off, typed normals.

use super::raise_weather_version;
use crate::schema::{users, weather_sources};
use crate::{Result, Store, known};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff_diesel::ToDiesel;
use upland_core::codes::Coded;
use upland_core::quantity::units::Metres;
use upland_core::site::Site;
use upland_core::weather::Station;
use upland_core::weather::record::{SourceKind, distance_km};

/// Where a station stands.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SourcePlace {
    /// Latitude, degrees.
    pub latitude_deg: f64,
    /// Longitude, degrees.
    pub longitude_deg: f64,
    /// Elevation above sea level.
    pub elevation: Metres,
    /// Height of its wind sensor.
    pub wind_height: Metres,
}

/// A source of a site.
#[derive(Debug, Clone, PartialEq)]
pub struct SourceRecord {
    /// Identity.
    pub id: i64,
    /// What it is.
    pub kind: SourceKind,
    /// Its name.
    pub name: String,
    /// Where it stands; `None` at the site.
    pub place: Option<SourcePlace>,
    /// Who made it.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
}

impl SourceRecord {
    /// Where it measures.
    #[must_use]
    pub fn station(&self, site: &Site) -> Station {
        match self.place {
            None => site.station(),
            Some(place) => Station {
                latitude_deg: place.latitude_deg,
                longitude_deg: place.longitude_deg,
                elevation: place.elevation,
                wind_height: place.wind_height,
            },
        }
    }

    /// How far from the site it stands, km.
    #[must_use]
    pub fn distance_km(&self, site: &Site) -> f64 {
        self.place.map_or(0.0, |p| {
            distance_km((site.latitude_deg, site.longitude_deg), (p.latitude_deg, p.longitude_deg))
        })
    }
}

type Row = (
    (i64, String, String),
    (Option<f64>, Option<f64>, Option<f64>, Option<f64>),
    (String, jiff_diesel::Timestamp),
);

fn source(
    ((id, kind, name), (latitude, longitude, elevation, wind), (saved_by, saved_at)): Row,
) -> Result<SourceRecord> {
    let place = match (latitude, longitude, elevation, wind) {
        (Some(latitude_deg), Some(longitude_deg), Some(elevation), Some(wind)) => Some(SourcePlace {
            latitude_deg,
            longitude_deg,
            elevation: Metres::from_m(elevation),
            wind_height: Metres::from_m(wind),
        }),
        _ => None,
    };
    Ok(SourceRecord {
        id,
        kind: known("source kind", &kind)?,
        name,
        place,
        saved_by,
        saved_at: saved_at.to_jiff(),
    })
}

pub(super) fn of_site(connection: &mut PgConnection, site_id: i64) -> Result<Vec<SourceRecord>> {
    let rows: Vec<Row> = weather_sources::table
        .inner_join(users::table.on(users::id.eq(weather_sources::saved_by)))
        .filter(weather_sources::site_id.eq(site_id).and(weather_sources::removed_at.is_null()))
        .order(weather_sources::id)
        .select((
            (weather_sources::id, weather_sources::kind, weather_sources::name),
            (
                weather_sources::latitude_deg,
                weather_sources::longitude_deg,
                weather_sources::elevation_m,
                weather_sources::wind_height_m,
            ),
            (users::display_name, weather_sources::saved_at),
        ))
        .load(connection)?;
    let mut sources = rows.into_iter().map(source).collect::<Result<Vec<_>>>()?;
    sources.sort_by_key(|s| (s.kind.code() != SourceKind::Own.code(), s.id));
    Ok(sources)
}

impl Store {
    /// The sources of a site, its own sensor first.
    ///
    /// # Errors
    /// As any query.
    pub fn sources(&self, site_id: i64) -> Result<Vec<SourceRecord>> {
        of_site(&mut *self.connection()?, site_id)
    }

    /// Makes a source.
    ///
    /// # Errors
    /// As any query.
    pub fn create_source(
        &self,
        site_id: i64,
        kind: SourceKind,
        name: &str,
        place: Option<SourcePlace>,
        user_id: i64,
    ) -> Result<i64> {
        Ok(diesel::insert_into(weather_sources::table)
            .values((
                weather_sources::site_id.eq(site_id),
                weather_sources::kind.eq(kind.code()),
                weather_sources::name.eq(name),
                weather_sources::latitude_deg.eq(place.map(|p| p.latitude_deg)),
                weather_sources::longitude_deg.eq(place.map(|p| p.longitude_deg)),
                weather_sources::elevation_m.eq(place.map(|p| p.elevation.m())),
                weather_sources::wind_height_m.eq(place.map(|p| p.wind_height.m())),
                weather_sources::saved_by.eq(user_id),
            ))
            .returning(weather_sources::id)
            .get_result(&mut self.connection()?)?)
    }

    /// The source of the site's own sensor; made when there is none.
    ///
    /// # Errors
    /// As any query.
    pub fn own_source(&self, site_id: i64, user_id: i64) -> Result<i64> {
        let own = self.sources(site_id)?.into_iter().find(|s| s.kind == SourceKind::Own);
        match own {
            Some(source) => Ok(source.id),
            None => self.create_source(site_id, SourceKind::Own, "Record of the site", None, user_id),
        }
    }

    /// Takes a source off its site, or back (`None`); its imports stay. `false` when it is not of
    /// this site.
    ///
    /// # Errors
    /// As any query.
    pub fn set_source_removed(&self, site_id: i64, id: i64, removed: Option<Timestamp>) -> Result<bool> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            let changed = diesel::update(
                weather_sources::table
                    .filter(weather_sources::id.eq(id).and(weather_sources::site_id.eq(site_id))),
            )
            .set(weather_sources::removed_at.eq(removed.map(ToDiesel::to_diesel)))
            .execute(connection)?;
            raise_weather_version(connection, site_id)?;
            Ok(changed == 1)
        })
    }
}
