//! Links by which an owner sees one property, and nothing else: made and revoked by a technician, each view counted.

use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, Store, Subject};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Binary, Bool, Double, Nullable, Text, Timestamptz};
use jiff::Timestamp;

/// Most links of a site that open something.
pub const MOST_LINKS: i64 = 20;

/// What the water used is compared with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash)]
pub enum OwnerBaseline {
    /// What the controllers were set to when they were found.
    AsFound,
    /// The present programs at 100 % all year, without sensors.
    #[default]
    Fixed,
}

impl OwnerBaseline {
    /// The name in the database and in forms.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::AsFound => "as_found",
            Self::Fixed => "fixed",
        }
    }

    /// The one of a name.
    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        [Self::AsFound, Self::Fixed].into_iter().find(|baseline| baseline.code() == code)
    }
}

/// Price of water.
#[derive(Debug, Clone, PartialEq)]
pub struct WaterPrice {
    /// Of a cubic metre.
    pub a_m3: f64,
    /// The currency as it is written.
    pub currency: String,
}

/// What a link shows and to whom.
#[derive(Debug, Clone, PartialEq)]
pub struct OwnerView {
    /// For whom it was made.
    pub name: String,
    /// Short name of the language: `en` or `es`.
    pub language: String,
    /// What the water used is compared with.
    pub baseline: OwnerBaseline,
    /// What water costs, where it is known.
    pub price: Option<WaterPrice>,
}

/// A link as listed.
#[derive(Debug, Clone, PartialEq)]
pub struct OwnerLink {
    /// Identity.
    pub id: i64,
    /// What it shows.
    pub view: OwnerView,
    /// When it was made.
    pub made_at: Timestamp,
    /// By whom.
    pub made_by: String,
    /// When it was revoked.
    pub revoked_at: Option<Timestamp>,
    /// How often it was opened.
    pub views: i64,
    /// When it was opened last.
    pub viewed_at: Option<Timestamp>,
}

/// A link that was opened.
#[derive(Debug, Clone, PartialEq)]
pub struct OpenedLink {
    /// Its identity.
    pub id: i64,
    /// The one site that it shows.
    pub site: SiteKey,
    /// What it shows.
    pub view: OwnerView,
    /// Who made it.
    pub made_by: String,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = BigInt)]
    site_id: SiteKey,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    language: String,
    #[diesel(sql_type = Text)]
    baseline: String,
    #[diesel(sql_type = Nullable<Double>)]
    price: Option<f64>,
    #[diesel(sql_type = Nullable<Text>)]
    currency: Option<String>,
    #[diesel(sql_type = Timestamptz)]
    made_at: jiff_diesel::Timestamp,
    #[diesel(sql_type = Text)]
    made_by: String,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    revoked_at: Option<jiff_diesel::Timestamp>,
    #[diesel(sql_type = BigInt)]
    views: i64,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    viewed_at: Option<jiff_diesel::Timestamp>,
}

impl Row {
    fn view(&self) -> OwnerView {
        let price = self.price.zip(self.currency.clone());
        OwnerView {
            name: self.name.clone(),
            language: self.language.clone(),
            baseline: OwnerBaseline::from_code(&self.baseline).unwrap_or_default(),
            price: price.map(|(a_m3, currency)| WaterPrice { a_m3, currency }),
        }
    }
}

const COLUMNS: &str = "SELECT l.id, l.site_id, l.name, l.language, l.baseline, l.price, l.currency, l.made_at, \
    u.display_name AS made_by, l.revoked_at, \
    COALESCE((SELECT sum(views) FROM owner_link_views v WHERE v.link_id = l.id), 0)::bigint AS views, \
    (SELECT max(last_at) FROM owner_link_views v WHERE v.link_id = l.id) AS viewed_at \
    FROM owner_links l JOIN users u ON u.id = l.made_by";

impl Snapshot<'_> {
    /// The links of a site, the newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn owner_links(&mut self, site: SiteKey) -> Result<Vec<OwnerLink>> {
        let rows: Vec<Row> =
            diesel::sql_query(format!("{COLUMNS} WHERE l.site_id = $1 ORDER BY l.made_at DESC, l.id DESC"))
                .bind::<BigInt, _>(site)
                .load(self.connection)?;
        let link = |row: Row| OwnerLink {
            view: row.view(),
            id: row.id,
            made_at: row.made_at.to_jiff(),
            made_by: row.made_by,
            revoked_at: row.revoked_at.map(jiff_diesel::Timestamp::to_jiff),
            views: row.views,
            viewed_at: row.viewed_at.map(jiff_diesel::Timestamp::to_jiff),
        };
        Ok(rows.into_iter().map(link).collect())
    }

    /// The link of a token; `None` when it was revoked, its site is gone, or nobody made it.
    ///
    /// # Errors
    /// As any query.
    pub fn owner_link_of(&mut self, token_hash: &[u8]) -> Result<Option<OpenedLink>> {
        let row: Option<Row> = diesel::sql_query(format!(
            "{COLUMNS} JOIN sites s ON s.id = l.site_id \
             WHERE l.token_hash = $1 AND l.revoked_at IS NULL AND s.removed_at IS NULL"
        ))
        .bind::<Binary, _>(token_hash)
        .get_result(self.connection)
        .optional()?;
        Ok(row.map(|row| OpenedLink {
            view: row.view(),
            id: row.id,
            site: row.site_id,
            made_by: row.made_by,
        }))
    }
}

impl Store {
    /// Counts a view of a link.
    ///
    /// # Errors
    /// As any query.
    pub fn count_owner_view(&self, link_id: i64) -> Result<()> {
        diesel::sql_query(
            "INSERT INTO owner_link_views (link_id, day) VALUES ($1, (app_now() AT TIME ZONE 'UTC')::date) \
             ON CONFLICT (link_id, day) DO UPDATE SET views = owner_link_views.views + 1, last_at = app_now()",
        )
        .bind::<BigInt, _>(link_id)
        .execute(&mut self.connection()?)?;
        Ok(())
    }
}

#[derive(QueryableByName)]
struct Made {
    #[diesel(sql_type = BigInt)]
    id: i64,
}

#[derive(QueryableByName)]
struct Exists {
    #[diesel(sql_type = Bool)]
    exists: bool,
}

impl Change<'_> {
    /// Makes a link of the site; `None` when it has as many as it may have.
    ///
    /// # Errors
    /// As any query.
    pub fn make_owner_link(&mut self, view: &OwnerView, token_hash: &[u8]) -> Result<Option<i64>> {
        let full: Exists = diesel::sql_query(
            "SELECT count(*) >= $2 AS exists FROM owner_links WHERE site_id = $1 AND revoked_at IS NULL",
        )
        .bind::<BigInt, _>(self.site_id)
        .bind::<BigInt, _>(MOST_LINKS)
        .get_result(self.connection)?;
        if full.exists {
            return Ok(None);
        }
        let made: Made = diesel::sql_query(
            "INSERT INTO owner_links (site_id, name, token_hash, language, baseline, price, currency, made_by) \
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id",
        )
        .bind::<BigInt, _>(self.site_id)
        .bind::<Text, _>(&view.name)
        .bind::<Binary, _>(token_hash)
        .bind::<Text, _>(&view.language)
        .bind::<Text, _>(view.baseline.code())
        .bind::<Nullable<Double>, _>(view.price.as_ref().map(|price| price.a_m3))
        .bind::<Nullable<Text>, _>(view.price.as_ref().map(|price| price.currency.clone()))
        .bind::<BigInt, _>(self.actor)
        .get_result(self.connection)?;
        let event = NewEvent::new(Subject::OwnerLink, Some(made.id), Action::Created);
        self.record(event.said(format!("page for {}", view.name)));
        Ok(Some(made.id))
    }

    /// Revokes a link of the site, or lets it open its page again; returns whether there is such a link.
    ///
    /// # Errors
    /// As any query.
    pub fn revoke_owner_link(&mut self, id: i64, is_revoked: bool) -> Result<bool> {
        let done = diesel::sql_query(
            "UPDATE owner_links SET revoked_at = CASE WHEN $3 THEN app_now() END \
             WHERE id = $1 AND site_id = $2 AND (revoked_at IS NULL) = $3",
        )
        .bind::<BigInt, _>(id)
        .bind::<BigInt, _>(self.site_id)
        .bind::<Bool, _>(is_revoked)
        .execute(self.connection)?;
        if done > 0 {
            let action = if is_revoked { Action::Removed } else { Action::Restored };
            self.record(NewEvent::new(Subject::OwnerLink, Some(id), action).said("page for the owner"));
        }
        Ok(done > 0)
    }
}
