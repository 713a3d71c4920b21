//! Lists over all sites, a page at a time, from the rounds that were kept.

use super::{Call, NightState};
use crate::scope::{Scope, SiteKey};
use crate::{Number, Result, Snapshot, StoreError, small};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Date, Integer, Nullable, Text, Timestamptz};
use jiff::Timestamp;
use std::collections::BTreeMap;
use upland_core::quantity::ratio::Percentage;

/// How the round of a site stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SiteRound {
    /// When it was made, by the application's clock.
    pub at: Timestamp,
    /// It is of this hour and of the facts as they stand.
    pub fresh: bool,
    /// Controllers whose night is not right.
    pub wrong: i64,
}

/// The night of a controller in a list over all sites.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NightRow {
    /// Its site.
    pub site_id: SiteKey,
    /// The name of that.
    pub site: String,
    /// Number of the controller.
    pub number: u8,
    /// Where it is installed.
    pub place: String,
    /// Whether it is right.
    pub state: NightState,
    /// One sentence, or one for each habit of writing times and dates.
    pub sentence: Vec<String>,
}

/// A call in a list over all sites.
#[derive(Debug, Clone, PartialEq)]
pub struct CallRow {
    /// Its site.
    pub site_id: SiteKey,
    /// The name of that.
    pub site: String,
    /// What to set.
    pub call: Call,
}

/// What the calls of a scope come to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, QueryableByName)]
pub struct CallTotals {
    /// Percentages.
    #[diesel(sql_type = BigInt)]
    pub calls: i64,
    /// Controllers that have any.
    #[diesel(sql_type = BigInt)]
    pub controllers: i64,
    /// Percentages that stand elsewhere than the week asks.
    #[diesel(sql_type = BigInt)]
    pub changes: i64,
    /// Of those, not called yet.
    #[diesel(sql_type = BigInt)]
    pub open: i64,
}

/// The sites of a scope with their names as they stand now.
pub(super) const SITES: &str = "
    WITH site AS (
        SELECT DISTINCT ON (v.site_id) v.site_id, v.name
        FROM site_versions v JOIN sites s ON s.id = v.site_id
        WHERE s.removed_at IS NULL AND ($1::bigint[] IS NULL OR v.site_id = ANY ($1)) ORDER BY v.site_id, v.version DESC
    )";

#[derive(QueryableByName)]
struct RoundRow {
    #[diesel(sql_type = BigInt)]
    site_id: SiteKey,
    #[diesel(sql_type = Timestamptz)]
    at: jiff_diesel::Timestamp,
    #[diesel(sql_type = Bool)]
    fresh: bool,
    #[diesel(sql_type = BigInt)]
    wrong: i64,
}

/// A reading that came meanwhile is worked in within a minute, and makes no round old.
const ROUNDS: &str = "
    SELECT r.site_id, r.at,
           r.revision = s.revision AND date_trunc('hour', r.at) = date_trunc('hour', (SELECT app_now())) AS fresh,
           COALESCE(n.wrong, 0) AS wrong
    FROM rounds r JOIN sites s ON s.id = r.site_id
    LEFT JOIN (SELECT site_id, count(*) AS wrong FROM round_nights WHERE state = 'wrong' GROUP BY site_id) n ON n.site_id = s.id
    WHERE s.removed_at IS NULL AND ($1::bigint[] IS NULL OR s.id = ANY ($1))";

#[derive(QueryableByName)]
struct NightSql {
    #[diesel(sql_type = BigInt)]
    site_id: SiteKey,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Integer)]
    number: i32,
    #[diesel(sql_type = Text)]
    place: String,
    #[diesel(sql_type = Text)]
    state: String,
    #[diesel(sql_type = Array<Text>)]
    sentence: Vec<String>,
}

/// What is not right comes first.
const NIGHTS: &str = "
    SELECT site.site_id, site.name, n.number, n.place, n.state, n.sentence
    FROM round_nights n JOIN site ON site.site_id = n.site_id
    WHERE $4::bigint[] IS NULL OR site.site_id = ANY ($4)
    ORDER BY array_position(ARRAY['wrong', 'unknown', 'right'], n.state), lower(site.name), site.site_id, n.number
    LIMIT $2 OFFSET $3";

#[derive(QueryableByName)]
struct CallSql {
    #[diesel(sql_type = BigInt)]
    site_id: SiteKey,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Integer)]
    number: i32,
    #[diesel(sql_type = Integer)]
    slot: i32,
    #[diesel(sql_type = BigInt)]
    controller_id: i64,
    #[diesel(sql_type = Text)]
    place: String,
    #[diesel(sql_type = Text)]
    program: String,
    #[diesel(sql_type = Integer)]
    set_pct: i32,
    #[diesel(sql_type = Nullable<Integer>)]
    advised_pct: Option<i32>,
    #[diesel(sql_type = Text)]
    because: String,
    #[diesel(sql_type = Date)]
    week: jiff_diesel::Date,
    #[diesel(sql_type = Nullable<Date>)]
    record_ended: Option<jiff_diesel::Date>,
}

/// What is to be set comes first.
const CALLS: &str = "
    SELECT site.name, c.* FROM round_calls c JOIN site ON site.site_id = c.site_id
    ORDER BY COALESCE(c.advised_pct <> c.set_pct, false) DESC, lower(site.name), site.site_id, c.number, c.slot
    LIMIT $2 OFFSET $3";

/// What is to be set at some sites.
const CHANGES: &str = "
    SELECT site.name, c.* FROM round_calls c JOIN site ON site.site_id = c.site_id
    WHERE c.site_id = ANY ($2) AND c.advised_pct <> c.set_pct ORDER BY c.site_id, c.number, c.slot";

const NIGHT_TOTAL: &str = "
    SELECT count(*) AS number FROM round_nights n JOIN site ON site.site_id = n.site_id";

const TOTALS: &str = "
    SELECT count(*) AS calls, count(*) FILTER (WHERE c.slot = 0) AS controllers,
           count(*) FILTER (WHERE c.advised_pct <> c.set_pct) AS changes,
           count(*) FILTER (WHERE c.advised_pct <> c.set_pct AND NOT EXISTS (
               SELECT FROM ticks t WHERE t.site_id = c.site_id AND t.what = 'called' AND t.about = c.controller_id
                 AND t.number = date_trunc('week', c.week)::date - DATE '1970-01-01' AND t.undone_at IS NULL)) AS open
    FROM round_calls c JOIN site ON site.site_id = c.site_id";

impl CallSql {
    fn row(self) -> Result<CallRow> {
        Ok(CallRow {
            site_id: self.site_id,
            site: self.name,
            call: Call {
                number: small("controller number", self.number)?,
                slot: self.slot,
                controller_id: self.controller_id,
                place: self.place,
                program: self.program,
                set: percentage(self.set_pct)?,
                advised: self.advised_pct.map(percentage).transpose()?,
                because: self.because,
                week: self.week.to_jiff(),
                record_ended: self.record_ended.map(jiff_diesel::Date::to_jiff),
            },
        })
    }
}

fn percentage(percent: i32) -> Result<Percentage> {
    let unknown = |_| StoreError::Unknown { what: "percentage", value: percent.to_string() };
    u16::try_from(percent).map(Percentage::from_percent).map_err(unknown)
}

impl Snapshot<'_> {
    /// How the rounds of a scope stand, by site; a site that is missing has none yet.
    ///
    /// # Errors
    /// As any query.
    pub fn rounds(&mut self, scope: &Scope) -> Result<BTreeMap<i64, SiteRound>> {
        let given = scope.given().map(<[i64]>::to_vec);
        let rows: Vec<RoundRow> =
            diesel::sql_query(ROUNDS).bind::<Nullable<Array<BigInt>>, _>(given).load(self.connection)?;
        Ok(rows
            .into_iter()
            .map(|r| (r.site_id.number(), SiteRound { at: r.at.to_jiff(), fresh: r.fresh, wrong: r.wrong }))
            .collect())
    }

    /// Controllers tonight, those with something wrong first: of some sites of a scope or of all, so many from a place in the
    /// list.
    ///
    /// # Errors
    /// As any query.
    pub fn round_nights(
        &mut self,
        scope: &Scope,
        sites: Option<&[i64]>,
        most: i64,
        from: i64,
    ) -> Result<Vec<NightRow>> {
        let rows: Vec<NightSql> = diesel::sql_query(format!("{SITES} {NIGHTS}"))
            .bind::<Nullable<Array<BigInt>>, _>(scope.given().map(<[i64]>::to_vec))
            .bind::<BigInt, _>(most)
            .bind::<BigInt, _>(from)
            .bind::<Nullable<Array<BigInt>>, _>(sites)
            .load(self.connection)?;
        let night = |row: NightSql| {
            Ok(NightRow {
                site_id: row.site_id,
                site: row.name,
                number: small("controller number", row.number)?,
                place: row.place,
                state: NightState::from_code(&row.state)?,
                sentence: row.sentence,
            })
        };
        rows.into_iter().map(night).collect()
    }

    /// How many controllers of a scope have a night.
    ///
    /// # Errors
    /// As any query.
    pub fn night_total(&mut self, scope: &Scope) -> Result<i64> {
        let total: Number = diesel::sql_query(format!("{SITES} {NIGHT_TOTAL}"))
            .bind::<Nullable<Array<BigInt>>, _>(scope.given().map(<[i64]>::to_vec))
            .get_result(self.connection)?;
        Ok(total.number)
    }

    /// Percentages of a scope, those that stand elsewhere than the week asks first: so many from a place in the list.
    ///
    /// # Errors
    /// As any query.
    pub fn round_calls(&mut self, scope: &Scope, most: i64, from: i64) -> Result<Vec<CallRow>> {
        let rows: Vec<CallSql> = diesel::sql_query(format!("{SITES} {CALLS}"))
            .bind::<Nullable<Array<BigInt>>, _>(scope.given().map(<[i64]>::to_vec))
            .bind::<BigInt, _>(most)
            .bind::<BigInt, _>(from)
            .load(self.connection)?;
        rows.into_iter().map(CallSql::row).collect()
    }

    /// Percentages of some sites of a scope that stand elsewhere than the week asks.
    ///
    /// # Errors
    /// When the database does not answer.
    pub fn changes_of(&mut self, scope: &Scope, sites: &[SiteKey]) -> Result<Vec<CallRow>> {
        let sites: Vec<i64> = sites.iter().map(|id| id.number()).collect();
        let rows: Vec<CallSql> = diesel::sql_query(format!("{SITES} {CHANGES}"))
            .bind::<Nullable<Array<BigInt>>, _>(scope.given().map(<[i64]>::to_vec))
            .bind::<Array<BigInt>, _>(sites)
            .load(self.connection)?;
        rows.into_iter().map(CallSql::row).collect()
    }

    /// What the percentages of a scope come to.
    ///
    /// # Errors
    /// As any query.
    pub fn call_totals(&mut self, scope: &Scope) -> Result<CallTotals> {
        Ok(diesel::sql_query(format!("{SITES} {TOTALS}"))
            .bind::<Nullable<Array<BigInt>>, _>(scope.given().map(<[i64]>::to_vec))
            .get_result(self.connection)?)
    }
}
