//! What needs attention: since when it stands, for how long somebody put it off, and lists of it.

use super::lists::SITES;
use super::{Notice, NoticeKind, Weight};
use crate::scope::{Scope, SiteKey};
use crate::{Result, Snapshot, Store, StoreError};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Integer, Nullable, Text, Timestamptz};
use jiff::Timestamp;
use jiff_diesel::ToDiesel;

/// A notice in a list over all sites.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NoticeRow {
    /// Identity.
    pub id: i64,
    /// Its site.
    pub site_id: SiteKey,
    /// The name of that.
    pub site: String,
    /// What it says.
    pub notice: Notice,
    /// Since when it stands.
    pub first_at: Timestamp,
    /// Until when somebody put it off, and who.
    pub put_off: Option<(Timestamp, String)>,
}

/// How many notices of a kind stand and are not put off.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Count {
    /// The kind.
    pub kind: NoticeKind,
    /// Whether they are put off.
    pub put_off: bool,
    /// How many.
    pub number: i64,
    /// Those that began after an instant.
    pub new: i64,
}

/// One that ended a short while ago and begins again is the same one: a controller that is wrong on every other night is no news
/// every other day.
const AGAIN: &str = "
    UPDATE notices n SET ended_at = NULL FROM (
        SELECT DISTINCT ON (kind, about) id FROM notices
        WHERE site_id = $1 AND (kind, about) IN (SELECT * FROM unnest($2::text[], $3::text[]))
        ORDER BY kind, about, id DESC
    ) latest
    WHERE n.id = latest.id AND n.ended_at > $4 - interval '3 days'";

const KEEP: &str = "
    INSERT INTO notices (site_id, kind, about, weight, words, href, first_at)
    VALUES ($1, $2, $3, $4, $5, $6, $7)
    ON CONFLICT (site_id, kind, about) WHERE ended_at IS NULL
    DO UPDATE SET weight = EXCLUDED.weight, words = EXCLUDED.words, href = EXCLUDED.href
    WHERE (notices.weight, notices.words, notices.href) IS DISTINCT FROM (EXCLUDED.weight, EXCLUDED.words, EXCLUDED.href)";

const END: &str = "
    UPDATE notices SET ended_at = $4
    WHERE site_id = $1 AND ended_at IS NULL
      AND (kind, about) NOT IN (SELECT * FROM unnest($2::text[], $3::text[]))";

/// Keeps what stands at a site, and ends what does not any more.
pub(super) fn keep(
    connection: &mut PgConnection,
    site: SiteKey,
    notices: &[Notice],
    at: Timestamp,
) -> Result<()> {
    let kinds: Vec<&str> = notices.iter().map(|n| n.kind.code()).collect();
    let abouts: Vec<&str> = notices.iter().map(|n| n.about.as_str()).collect();
    for statement in [AGAIN, END] {
        diesel::sql_query(statement)
            .bind::<BigInt, _>(site)
            .bind::<Array<Text>, _>(&kinds)
            .bind::<Array<Text>, _>(&abouts)
            .bind::<Timestamptz, _>(at.to_diesel())
            .execute(connection)?;
    }
    for notice in notices {
        diesel::sql_query(KEEP)
            .bind::<BigInt, _>(site)
            .bind::<Text, _>(notice.kind.code())
            .bind::<Text, _>(&notice.about)
            .bind::<Integer, _>(notice.weight.number())
            .bind::<Array<Text>, _>(&notice.words)
            .bind::<Text, _>(&notice.href)
            .bind::<Timestamptz, _>(at.to_diesel())
            .execute(connection)?;
    }
    Ok(())
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = BigInt)]
    site_id: SiteKey,
    #[diesel(sql_type = Text)]
    site: String,
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = Text)]
    about: String,
    #[diesel(sql_type = Integer)]
    weight: i32,
    #[diesel(sql_type = Array<Text>)]
    words: Vec<String>,
    #[diesel(sql_type = Text)]
    href: String,
    #[diesel(sql_type = Timestamptz)]
    first_at: jiff_diesel::Timestamp,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    put_off_until: Option<jiff_diesel::Timestamp>,
    #[diesel(sql_type = Text)]
    put_off_by: String,
}

/// The gravest site first, and of a site the gravest first. What is long is read of those that are shown alone.
const LIST: &str = ",
    ordered AS (SELECT site_id, name, row_number() OVER (ORDER BY lower(name), site_id) AS nth FROM site),
    shown AS (
        SELECT n.id, o.name AS site, o.nth, g.gravest
        FROM notices n JOIN ordered o ON o.site_id = n.site_id
        JOIN (SELECT site_id, max(weight) AS gravest FROM notices WHERE ended_at IS NULL GROUP BY site_id) g ON g.site_id = n.site_id
        WHERE n.ended_at IS NULL AND ($2::text IS NULL OR n.kind = $2)
          AND COALESCE(n.put_off_until > (SELECT app_now()), false) = $3 AND ($4 IS NULL OR n.first_at > $4)
        ORDER BY g.gravest DESC, o.nth, n.weight DESC, n.kind, n.about LIMIT $5 OFFSET $6
    )
    SELECT n.id, n.site_id, shown.site, n.kind, n.about, n.weight, n.words, n.href, n.first_at,
           CASE WHEN n.put_off_until > (SELECT app_now()) THEN n.put_off_until END AS put_off_until,
           COALESCE(u.display_name, '') AS put_off_by
    FROM shown JOIN notices n ON n.id = shown.id LEFT JOIN users u ON u.id = n.put_off_by
    ORDER BY shown.gravest DESC, shown.nth, n.weight DESC, n.kind, n.about";

/// The gravest notices of some sites, so many of each.
const GRAVEST: &str = "
    SELECT n.site_id, n.weight, n.words, n.href FROM (
        SELECT id, row_number() OVER (PARTITION BY site_id ORDER BY weight DESC, kind, about) AS nth FROM notices
        WHERE site_id = ANY ($1) AND ended_at IS NULL AND COALESCE(put_off_until <= (SELECT app_now()), true)
    ) ranked JOIN notices n ON n.id = ranked.id WHERE ranked.nth <= $2 ORDER BY n.site_id, ranked.nth";

#[derive(QueryableByName)]
struct GraveRow {
    #[diesel(sql_type = BigInt)]
    site_id: i64,
    #[diesel(sql_type = Integer)]
    weight: i32,
    #[diesel(sql_type = Array<Text>)]
    words: Vec<String>,
    #[diesel(sql_type = Text)]
    href: String,
}

/// One of the gravest notices of a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grave {
    /// Number of the site.
    pub site: i64,
    /// How much it weighs.
    pub weight: Weight,
    /// One sentence, or one for each habit of writing times and dates.
    pub words: Vec<String>,
    /// The page where it is corrected.
    pub href: String,
}

#[derive(QueryableByName)]
struct CountRow {
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = Bool)]
    put_off: bool,
    #[diesel(sql_type = BigInt)]
    number: i64,
    #[diesel(sql_type = BigInt)]
    new: i64,
}

const COUNTS: &str = "
    SELECT n.kind, COALESCE(n.put_off_until > (SELECT app_now()), false) AS put_off, count(*) AS number,
           count(*) FILTER (WHERE n.first_at > $2) AS new
    FROM notices n JOIN site ON site.site_id = n.site_id WHERE n.ended_at IS NULL GROUP BY 1, 2";

fn kind_of(code: &str) -> Result<NoticeKind> {
    let unknown = || StoreError::Unknown { what: "kind of notice", value: code.to_owned() };
    NoticeKind::from_code(code).ok_or_else(unknown)
}

/// Which notices are asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Asked {
    /// Of this kind; `None`: of any.
    pub kind: Option<NoticeKind>,
    /// Those that were put off, instead of those that stand.
    pub put_off: bool,
    /// Those that began after this instant; `None`: whenever.
    pub since: Option<Timestamp>,
    /// So many from a place in the list.
    pub page: (i64, i64),
}

impl Snapshot<'_> {
    /// The gravest notices of some sites that are not put off, so many of each, the gravest first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub fn gravest(&mut self, sites: &[SiteKey], most: i64) -> Result<Vec<Grave>> {
        let sites: Vec<i64> = sites.iter().map(|id| id.number()).collect();
        let rows: Vec<GraveRow> = diesel::sql_query(GRAVEST)
            .bind::<Array<BigInt>, _>(sites)
            .bind::<BigInt, _>(most)
            .load(self.connection)?;
        let of = |row: GraveRow| Grave {
            site: row.site_id,
            weight: Weight::of_number(row.weight),
            words: row.words,
            href: row.href,
        };
        Ok(rows.into_iter().map(of).collect())
    }

    /// Notices of a scope: the gravest site first, and of a site the gravest first.
    ///
    /// # Errors
    /// As any query.
    pub fn notices(&mut self, scope: &Scope, asked: Asked) -> Result<Vec<NoticeRow>> {
        let rows: Vec<Row> = diesel::sql_query(format!("{SITES}{LIST}"))
            .bind::<Nullable<Array<BigInt>>, _>(scope.given().map(<[i64]>::to_vec))
            .bind::<Nullable<Text>, _>(asked.kind.map(NoticeKind::code))
            .bind::<Bool, _>(asked.put_off)
            .bind::<Nullable<Timestamptz>, _>(asked.since.map(|since| since.to_diesel()))
            .bind::<BigInt, _>(asked.page.0)
            .bind::<BigInt, _>(asked.page.1)
            .load(self.connection)?;
        let notice = |row: Row| {
            let until = row.put_off_until.map(jiff_diesel::Timestamp::to_jiff);
            Ok(NoticeRow {
                id: row.id,
                site_id: row.site_id,
                site: row.site,
                notice: Notice {
                    kind: kind_of(&row.kind)?,
                    about: row.about,
                    weight: Weight::of_number(row.weight),
                    words: row.words,
                    href: row.href,
                },
                first_at: row.first_at.to_jiff(),
                put_off: until.map(|until| (until, row.put_off_by)),
            })
        };
        rows.into_iter().map(notice).collect()
    }

    /// How many notices of a scope stand and are put off, by kind, and how many began after an instant.
    ///
    /// # Errors
    /// As any query.
    pub fn notice_counts(&mut self, scope: &Scope, since: Timestamp) -> Result<Vec<Count>> {
        let rows: Vec<CountRow> = diesel::sql_query(format!("{SITES} {COUNTS}"))
            .bind::<Nullable<Array<BigInt>>, _>(scope.given().map(<[i64]>::to_vec))
            .bind::<Timestamptz, _>(since.to_diesel())
            .load(self.connection)?;
        let count = |row: CountRow| {
            Ok(Count { kind: kind_of(&row.kind)?, put_off: row.put_off, number: row.number, new: row.new })
        };
        rows.into_iter().map(count).collect()
    }
}

impl Store {
    /// Puts a notice of a site off until an instant, or takes that back (`None`). `false` when it does not stand any more.
    ///
    /// # Errors
    /// As any query.
    pub fn put_off(&self, site: SiteKey, id: i64, until: Option<Timestamp>, actor: i64) -> Result<bool> {
        let changed = diesel::sql_query(
            "UPDATE notices SET put_off_until = $3, put_off_by = CASE WHEN $3 IS NULL THEN NULL ELSE $4 END \
             WHERE id = $2 AND site_id = $1 AND ended_at IS NULL",
        )
        .bind::<BigInt, _>(site)
        .bind::<BigInt, _>(id)
        .bind::<Nullable<Timestamptz>, _>(until.map(|until| until.to_diesel()))
        .bind::<BigInt, _>(actor)
        .execute(&mut self.connection()?)?;
        Ok(changed > 0)
    }
}
