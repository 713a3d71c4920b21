//! The sites of a scope as rows that are looked at: what each needs, who looks after it, when it was seen.

use crate::scope::{Scope, SiteKey};
use crate::{Action, transaction::NewEvent};
use crate::{Change, Result, Snapshot, StoreError, Subject, known};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Double, Integer, Nullable, Text, Timestamptz};
use jiff::Timestamp;
use jiff::civil::Date;
use upland_core::quantity::units::Millimetres;
use upland_core::site::UnitSystem;

/// How a zone should look by its account.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ZoneMark {
    /// Short of water.
    Dry,
    /// As it should.
    Right,
    /// Wetter than it should be.
    Wet,
}

impl ZoneMark {
    const fn letter(self) -> char {
        match self {
            Self::Dry => 'd',
            Self::Right => 'r',
            Self::Wet => 'w',
        }
    }

    fn of_letter(letter: char) -> Result<Self> {
        let all = [Self::Dry, Self::Right, Self::Wet];
        let unknown = || StoreError::Unknown { what: "mark of a zone", value: letter.to_string() };
        all.into_iter().find(|mark| mark.letter() == letter).ok_or_else(unknown)
    }
}

/// A run of one of the two nights that a row shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NightRun {
    /// Tonight, or the night before.
    pub tonight: bool,
    /// Minutes after noon at which it begins.
    pub from: i32,
    /// Minutes after noon at which it ends.
    pub until: i32,
    /// Whether a sensor prevents it.
    pub held: bool,
}

/// What the list shows of a site beside its nights, percentages and notices.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SiteStanding {
    /// Its zones in the order of their stations.
    pub zones: Vec<ZoneMark>,
    /// Runs of the last night and of tonight, in order.
    pub runs: Vec<NightRun>,
    /// Rain of the last days, the newest last; `NaN` where a day has none recorded.
    pub rain: Vec<Millimetres>,
    /// The day that it is about.
    pub day: Option<Date>,
    /// When somebody was last there.
    pub last_visit: Option<Date>,
    /// When somebody wants to look again.
    pub look_again: Option<Date>,
    /// Sensors that are not heard.
    pub silent: i32,
    /// The last day of a record that ended a while ago.
    pub record_ended: Option<Date>,
    /// Names of the types of its controllers, each once.
    pub controller_types: Vec<String>,
    /// Names of the ordinances that it keeps to.
    pub ordinances: Vec<String>,
}

/// A site of the list.
#[derive(Debug, Clone, PartialEq)]
pub struct SiteRow {
    /// Identity.
    pub id: SiteKey,
    /// Name.
    pub name: String,
    /// Customer, of the card.
    pub customer: String,
    /// Town or quarter, of the card.
    pub locality: String,
    /// Tags, of the card.
    pub tags: Vec<String>,
    /// Units of the site.
    pub units: UnitSystem,
    /// Who looks after it.
    pub assigned: Option<(i64, String)>,
    /// When its round was made; `None` before the first.
    pub at: Option<Timestamp>,
    /// How it stands by that round.
    pub standing: SiteStanding,
    /// Notices that stand and are not put off: faults, warnings, tasks.
    pub notices: [i64; 3],
    /// How far the percentage that is most off stands from the advised one, points; below zero where no controller has
    /// a percentage.
    pub off: i32,
    /// Its number of controllers.
    pub controllers: i64,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = BigInt)]
    site_id: SiteKey,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    customer: String,
    #[diesel(sql_type = Text)]
    locality: String,
    #[diesel(sql_type = Array<Text>)]
    tags: Vec<String>,
    #[diesel(sql_type = Text)]
    units: String,
    #[diesel(sql_type = Nullable<BigInt>)]
    assigned_to: Option<i64>,
    #[diesel(sql_type = Nullable<Text>)]
    assigned: Option<String>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    at: Option<jiff_diesel::Timestamp>,
    #[diesel(sql_type = Text)]
    zones: String,
    #[diesel(sql_type = Array<Integer>)]
    runs: Vec<i32>,
    #[diesel(sql_type = Array<Double>)]
    rain: Vec<f64>,
    #[diesel(sql_type = Nullable<diesel::sql_types::Date>)]
    day: Option<jiff_diesel::Date>,
    #[diesel(sql_type = Nullable<diesel::sql_types::Date>)]
    last_visit: Option<jiff_diesel::Date>,
    #[diesel(sql_type = Nullable<diesel::sql_types::Date>)]
    look_again: Option<jiff_diesel::Date>,
    #[diesel(sql_type = Integer)]
    silent: i32,
    #[diesel(sql_type = Nullable<diesel::sql_types::Date>)]
    record_ended: Option<jiff_diesel::Date>,
    #[diesel(sql_type = Array<Text>)]
    controller_types: Vec<String>,
    #[diesel(sql_type = Array<Text>)]
    ordinances: Vec<String>,
    #[diesel(sql_type = Array<BigInt>)]
    notices: Vec<i64>,
    #[diesel(sql_type = Integer)]
    off: i32,
    #[diesel(sql_type = BigInt)]
    controllers: i64,
}

/// The sites of a scope with their cards as they stand now, and what their rounds, notices and percentages come to.
const ROWS: &str = "
    WITH site AS (
        SELECT DISTINCT ON (v.site_id) v.site_id, v.name, v.card, v.units
        FROM site_versions v JOIN sites s ON s.id = v.site_id
        WHERE s.removed_at IS NULL AND ($1::bigint[] IS NULL OR v.site_id = ANY ($1)) ORDER BY v.site_id, v.version DESC
    ),
    standing AS (
        SELECT site_id, ARRAY[count(*) FILTER (WHERE weight >= 3), count(*) FILTER (WHERE weight = 2),
                              count(*) FILTER (WHERE weight <= 1)] AS notices
        FROM notices WHERE ended_at IS NULL AND COALESCE(put_off_until <= (SELECT app_now()), true) GROUP BY site_id
    ),
    calls AS (
        SELECT site_id, max(abs(advised_pct - set_pct)) AS off FROM round_calls WHERE record_ended IS NULL GROUP BY site_id
    ),
    nights AS (SELECT site_id, count(*) AS controllers FROM round_nights GROUP BY site_id)
    SELECT site.site_id, site.name, COALESCE(site.card->>'customer', '') AS customer, COALESCE(site.card->>'locality', '') AS locality,
           COALESCE(ARRAY(SELECT jsonb_array_elements_text(site.card->'tags')), '{}') AS tags, site.units,
           s.assigned_to, u.display_name AS assigned, r.at,
           COALESCE(r.zones, '') AS zones, COALESCE(r.runs, '{}') AS runs, COALESCE(r.rain, '{}') AS rain, r.day, r.last_visit,
           r.look_again, COALESCE(r.silent, 0) AS silent, r.record_ended,
           COALESCE(r.controller_types, '{}') AS controller_types, COALESCE(r.ordinances, '{}') AS ordinances,
           COALESCE(n.notices, '{0,0,0}') AS notices, COALESCE(c.off, CASE WHEN c.site_id IS NULL THEN -1 ELSE 0 END) AS off, COALESCE(h.controllers, 0) AS controllers
    FROM site JOIN sites s ON s.id = site.site_id
    LEFT JOIN rounds r ON r.site_id = site.site_id LEFT JOIN users u ON u.id = s.assigned_to
    LEFT JOIN standing n ON n.site_id = site.site_id LEFT JOIN calls c ON c.site_id = site.site_id
    LEFT JOIN nights h ON h.site_id = site.site_id
    ORDER BY lower(site.name), site.site_id";

/// Numbers of a run in its row.
const OF_A_RUN: usize = 4;

impl SiteStanding {
    pub(super) fn zones_text(&self) -> String {
        self.zones.iter().map(|mark| mark.letter()).collect()
    }

    pub(super) fn runs_row(&self) -> Vec<i32> {
        let of = |run: &NightRun| [i32::from(run.tonight), run.from, run.until, i32::from(run.held)];
        self.runs.iter().flat_map(of).collect()
    }

    pub(super) fn rain_row(&self) -> Vec<f64> {
        self.rain.iter().map(|rain| rain.mm()).collect()
    }
}

impl Row {
    fn row(self) -> Result<SiteRow> {
        let run = |row: &[i32]| match row {
            [night, from, until, held] => {
                Some(NightRun { tonight: *night == 1, from: *from, until: *until, held: *held == 1 })
            }
            _ => None,
        };
        let day = |on: Option<jiff_diesel::Date>| on.map(jiff_diesel::Date::to_jiff);
        let notices = <[i64; 3]>::try_from(self.notices).unwrap_or_default();
        Ok(SiteRow {
            id: self.site_id,
            name: self.name,
            customer: self.customer,
            locality: self.locality,
            tags: self.tags,
            units: known("unit system", &self.units)?,
            assigned: self.assigned_to.zip(self.assigned),
            at: self.at.map(jiff_diesel::Timestamp::to_jiff),
            standing: SiteStanding {
                zones: self.zones.chars().map(ZoneMark::of_letter).collect::<Result<_>>()?,
                runs: self.runs.chunks(OF_A_RUN).filter_map(run).collect(),
                rain: self.rain.into_iter().map(Millimetres::from_mm).collect(),
                day: day(self.day),
                last_visit: day(self.last_visit),
                look_again: day(self.look_again),
                silent: self.silent,
                record_ended: day(self.record_ended),
                controller_types: self.controller_types,
                ordinances: self.ordinances,
            },
            notices,
            off: self.off,
            controllers: self.controllers,
        })
    }
}

impl Snapshot<'_> {
    /// The sites of a scope with how each stands, by name.
    ///
    /// # Errors
    /// When the database does not answer.
    pub fn round_sites(&mut self, scope: &Scope) -> Result<Vec<SiteRow>> {
        let rows: Vec<Row> = diesel::sql_query(ROWS)
            .bind::<Nullable<Array<BigInt>>, _>(scope.given().map(<[i64]>::to_vec))
            .load(self.connection)?;
        rows.into_iter().map(Row::row).collect()
    }
}

impl Snapshot<'_> {
    /// Who looks after a site, by identity and name.
    ///
    /// # Errors
    /// When the database does not answer.
    pub fn assigned_to(&mut self, site: SiteKey) -> Result<Option<(i64, String)>> {
        use crate::schema::{sites, users};
        let found = users::table
            .inner_join(sites::table.on(sites::assigned_to.eq(users::id.nullable())))
            .filter(sites::id.eq(site))
            .select((users::id, users::display_name))
            .first(self.connection)
            .optional()?;
        Ok(found)
    }
}

impl Change<'_> {
    /// Who looks after the site.
    ///
    /// # Errors
    /// When the database does not answer.
    pub fn assigned_to(&mut self) -> Result<Option<i64>> {
        use crate::schema::sites;
        Ok(sites::table.find(self.site_id).select(sites::assigned_to).first(self.connection)?)
    }

    /// Gives the site to somebody who looks after it, or to nobody. `false` when it is so already or there is no such
    /// person.
    ///
    /// # Errors
    /// When the database does not answer.
    pub fn assign(&mut self, to: Option<i64>) -> Result<bool> {
        use crate::schema::{sites, users};
        let person: Option<String> = match to {
            None => None,
            Some(id) => {
                let found = users::table
                    .filter(users::id.eq(id).and(users::disabled_at.is_null()))
                    .select(users::display_name)
                    .first(self.connection)
                    .optional()?;
                if found.is_none() {
                    return Ok(false);
                }
                found
            }
        };
        let site = self.site_id;
        let changed = diesel::update(sites::table.find(site).filter(sites::assigned_to.is_distinct_from(to)))
            .set(sites::assigned_to.eq(to))
            .execute(self.connection)?;
        if changed == 1 {
            let words =
                person.map_or_else(|| "assigned to nobody".to_owned(), |name| format!("assigned to {name}"));
            self.record(NewEvent::new(Subject::Site, Some(site.number()), Action::Changed).said(words));
        }
        Ok(changed == 1)
    }
}
