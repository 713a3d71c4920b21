//! Sources: the site's own sensor, stations some way off, typed normals.

use crate::schema::{users, weather_sources};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, Subject, known};
use diesel::prelude::*;
use jiff::Timestamp;
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
            distance_km(site.latitude_deg, site.longitude_deg, p.latitude_deg, p.longitude_deg)
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

pub(super) fn of_site(connection: &mut PgConnection, site_id: SiteKey) -> Result<Vec<SourceRecord>> {
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

/// The name of the site's own source.
pub(super) const OWN_NAME: &str = "Record of the site";

/// Inserts a source of a site, made by somebody.
pub(super) fn insert(
    connection: &mut PgConnection,
    site_id: SiteKey,
    by: i64,
    kind: SourceKind,
    name: &str,
    place: Option<SourcePlace>,
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
            weather_sources::saved_by.eq(by),
        ))
        .returning(weather_sources::id)
        .get_result(connection)?)
}

impl Snapshot<'_> {
    /// The sources of a site, its own sensor first.
    ///
    /// # Errors
    /// As any query.
    pub fn sources(&mut self, site_id: SiteKey) -> Result<Vec<SourceRecord>> {
        of_site(self.connection, site_id)
    }
}

impl Change<'_> {
    /// Makes a source.
    ///
    /// # Errors
    /// As any query; [`crate::StoreError::Taken`] for a second own source.
    pub fn create_source(&mut self, kind: SourceKind, name: &str, place: Option<SourcePlace>) -> Result<i64> {
        let (site_id, actor) = (self.site_id, self.actor);
        let id = insert(self.connection, site_id, actor, kind, name, place)?;
        self.record(NewEvent::new(Subject::Source, Some(id), Action::Created).with(name).said(name));
        Ok(id)
    }

    /// The source of the site's own sensor; made when there is none.
    ///
    /// # Errors
    /// As any query.
    pub fn own_source(&mut self) -> Result<i64> {
        let site_id = self.site_id;
        let own = self.sources(site_id)?.into_iter().find(|s| s.kind == SourceKind::Own);
        match own {
            Some(source) => Ok(source.id),
            None => self.create_source(SourceKind::Own, OWN_NAME, None),
        }
    }
}
