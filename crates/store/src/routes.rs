//! Days of driving: what a person asked of a day's route, and what a route must know of the sites.

use crate::scope::{Scope, SiteKey};
use crate::{Result, Snapshot, Store, StoreError};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Date as SqlDate, Double, Jsonb, Nullable, Text};
use jiff::civil::Date;
use jiff_diesel::ToDiesel;
use serde::{Deserialize, Serialize};
use upland_core::site::card::SiteCard;
use upland_formats::site_card;

/// What a person asked of a day's route and the order that was found: numbers in metric units, times by the wall clock.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default)]
#[serde(default)]
pub struct RouteAsked {
    /// The sites, by number.
    pub sites: Vec<i64>,
    /// Who drives; by name as it is written on the sheet.
    pub drivers: Vec<String>,
    /// Minutes after midnight from which anybody drives.
    pub from_min: u16,
    /// Minutes after midnight until which.
    pub until_min: u16,
    /// Where everybody starts: latitude and longitude, degrees.
    pub start: Option<[f64; 2]>,
    /// Where everybody ends.
    pub end: Option<[f64; 2]>,
    /// Kilometres of road for one as the crow flies.
    pub detour: f64,
    /// Mean speed, km/h.
    pub km_per_h: f64,
    /// Appointments and lengths of stay that were typed.
    pub stays: Vec<StayAsked>,
    /// Driving minutes that were brought as a table, as it came.
    pub table: String,
    /// For each driver the sites in the order that was found: a day that was looked at stays as it is.
    pub orders: Vec<Vec<i64>>,
}

/// What was typed of one stop.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StayAsked {
    /// The site.
    pub site: i64,
    /// Minutes on site, instead of what is usual there.
    pub minutes: Option<u16>,
    /// Minutes after midnight at which work is to begin.
    pub appointment_min: Option<u16>,
}

/// A site as a route knows it.
#[derive(Debug, Clone, PartialEq)]
pub struct RouteSite {
    /// Identity.
    pub id: SiteKey,
    /// Name.
    pub name: String,
    /// Customer, contacts, address.
    pub card: SiteCard,
    /// Latitude, degrees.
    pub latitude_deg: f64,
    /// Longitude, degrees.
    pub longitude_deg: f64,
    /// Zones of it.
    pub zones: i64,
    /// Minutes that visits took there at the median, from the first entry to the last; `None` before there were two such
    /// visits.
    pub usual_minutes: Option<f64>,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = BigInt)]
    site_id: SiteKey,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Jsonb)]
    card: serde_json::Value,
    #[diesel(sql_type = Double)]
    latitude_deg: f64,
    #[diesel(sql_type = Double)]
    longitude_deg: f64,
    #[diesel(sql_type = BigInt)]
    zones: i64,
    #[diesel(sql_type = Nullable<Double>)]
    usual_minutes: Option<f64>,
}

/// Visits of a single entry say nothing of how long they took, and one of more than six hours was two.
const SITES: &str = "
    WITH site AS (
        SELECT DISTINCT ON (v.site_id) v.site_id, v.name, v.card, v.latitude_deg, v.longitude_deg
        FROM site_versions v JOIN sites s ON s.id = v.site_id
        WHERE s.removed_at IS NULL AND v.site_id = ANY ($2) AND ($1::bigint[] IS NULL OR v.site_id = ANY ($1))
        ORDER BY v.site_id, v.version DESC
    ),
    lasted AS (
        SELECT v.site_id, extract(epoch FROM max(e.at) - min(e.at))::double precision / 60 AS minutes
        FROM visits v JOIN visit_entries e ON e.visit_id = v.id
        WHERE v.removed_at IS NULL AND e.undone_at IS NULL AND v.site_id = ANY ($2)
        GROUP BY v.id, v.site_id HAVING count(*) > 1
    ),
    usual AS (
        SELECT site_id, percentile_cont(0.5) WITHIN GROUP (ORDER BY minutes) AS minutes
        FROM lasted WHERE minutes BETWEEN 3 AND 360 GROUP BY site_id HAVING count(*) > 1
    )
    SELECT site.site_id, site.name, site.card, site.latitude_deg, site.longitude_deg,
           (SELECT count(*) FROM zones z WHERE z.site_id = site.site_id AND z.removed_at IS NULL) AS zones,
           usual.minutes AS usual_minutes
    FROM site LEFT JOIN usual ON usual.site_id = site.site_id
    ORDER BY array_position($2, site.site_id)";

#[derive(QueryableByName)]
struct Kept {
    #[diesel(sql_type = Jsonb)]
    asked: serde_json::Value,
}

fn asked_of(kept: Kept) -> Result<RouteAsked> {
    serde_json::from_value(kept.asked)
        .map_err(|error| StoreError::Unknown { what: "route of a day", value: error.to_string() })
}

impl Snapshot<'_> {
    /// Sites that a scope sees, in the order in which they are named.
    ///
    /// # Errors
    /// As any query, or a card that this program does not know.
    pub fn route_sites(&mut self, scope: &Scope, sites: &[i64]) -> Result<Vec<RouteSite>> {
        let rows: Vec<Row> = diesel::sql_query(SITES)
            .bind::<Nullable<Array<BigInt>>, _>(scope.given().map(<[i64]>::to_vec))
            .bind::<Array<BigInt>, _>(sites)
            .load(self.connection)?;
        let site = |row: Row| {
            let unknown = |error: serde_json::Error| StoreError::Unknown {
                what: "card of a site",
                value: error.to_string(),
            };
            Ok(RouteSite {
                id: row.site_id,
                name: row.name,
                card: site_card::from_value(row.card).map_err(unknown)?,
                latitude_deg: row.latitude_deg,
                longitude_deg: row.longitude_deg,
                zones: row.zones,
                usual_minutes: row.usual_minutes,
            })
        };
        rows.into_iter().map(site).collect()
    }

    /// What a person asked of a day.
    ///
    /// # Errors
    /// As any query, or a route that this program does not know.
    pub fn day_route(&mut self, user_id: i64, day: Date) -> Result<Option<RouteAsked>> {
        let kept: Option<Kept> =
            diesel::sql_query("SELECT asked FROM day_routes WHERE user_id = $1 AND on_date = $2")
                .bind::<BigInt, _>(user_id)
                .bind::<SqlDate, _>(day.to_diesel())
                .get_result(self.connection)
                .optional()?;
        kept.map(asked_of).transpose()
    }

    /// What a person asked last of another day: where the next one begins.
    ///
    /// # Errors
    /// As any query, or a route that this program does not know.
    pub fn last_route(&mut self, user_id: i64) -> Result<Option<RouteAsked>> {
        let kept: Option<Kept> = diesel::sql_query(
            "SELECT asked FROM day_routes WHERE user_id = $1 ORDER BY saved_at DESC, on_date DESC LIMIT 1",
        )
        .bind::<BigInt, _>(user_id)
        .get_result(self.connection)
        .optional()?;
        kept.map(asked_of).transpose()
    }
}

impl Store {
    /// Keeps what a person asks of a day, in place of what was asked before.
    ///
    /// # Errors
    /// As any query.
    pub fn keep_route(&self, user_id: i64, day: Date, asked: &RouteAsked) -> Result<()> {
        let asked = serde_json::to_value(asked).unwrap_or_default();
        diesel::sql_query(
            "INSERT INTO day_routes (user_id, on_date, asked) VALUES ($1, $2, $3) \
             ON CONFLICT (user_id, on_date) DO UPDATE SET asked = EXCLUDED.asked, saved_at = app_now()",
        )
        .bind::<BigInt, _>(user_id)
        .bind::<SqlDate, _>(day.to_diesel())
        .bind::<Jsonb, _>(asked)
        .execute(&mut self.connection()?)?;
        Ok(())
    }
}
