//! Photographs of a site: of the site itself, a zone, a controller or a sensor, taken at a visit or at any time.

use crate::schema::{photos, users, visits};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, StoreError, Subject};
use diesel::dsl::sql;
use diesel::prelude::*;
use jiff::Timestamp;

/// Most photographs of a site.
pub const MOST_PHOTOS: usize = 3000;
/// Most photographs of a site on one day, so that one day cannot fill the disk.
const MOST_A_DAY: usize = 300;

/// What a photograph shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum PhotoOf {
    /// The site.
    Site,
    /// A zone, by its identity.
    Zone(i64),
    /// A controller, by its identity.
    Controller(i64),
    /// A sensor, by its identity.
    Sensor(i64),
}

impl PhotoOf {
    /// The short name of its kind in the database and in forms.
    #[must_use]
    pub fn kind(self) -> &'static str {
        match self {
            Self::Site => "site",
            Self::Zone(_) => "zone",
            Self::Controller(_) => "controller",
            Self::Sensor(_) => "sensor",
        }
    }

    /// The identity of the zone, controller or sensor; 0 for the site.
    #[must_use]
    pub fn about(self) -> i64 {
        match self {
            Self::Site => 0,
            Self::Zone(id) | Self::Controller(id) | Self::Sensor(id) => id,
        }
    }

    /// What a kind and an identity name.
    #[must_use]
    pub fn from_parts(kind: &str, about: i64) -> Option<Self> {
        Some(match kind {
            "site" => Self::Site,
            "zone" => Self::Zone(about),
            "controller" => Self::Controller(about),
            "sensor" => Self::Sensor(about),
            _ => return None,
        })
    }
}

/// A photograph without its picture.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PhotoRecord {
    /// Identity.
    pub id: i64,
    /// The visit it was taken at, if it was.
    pub visit_id: Option<i64>,
    /// What it shows.
    pub of: PhotoOf,
    /// What somebody wrote below it.
    pub caption: String,
    /// Width, pixels.
    pub width: i32,
    /// Height, pixels.
    pub height: i32,
    /// Who took it.
    pub said_by: String,
    /// When it was kept.
    pub said_at: Timestamp,
}

/// Where a picture is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Picture {
    /// In the database.
    Jpeg(Vec<u8>),
    /// In the folder, under this name.
    File(String),
}

/// A photograph to be kept.
#[derive(Debug, Clone)]
pub struct NewPhoto<'a> {
    /// Made where it was taken, so that what is sent twice is kept once.
    pub client_key: &'a str,
    /// The visit it was taken at, if it was.
    pub visit_id: Option<i64>,
    /// What it shows.
    pub of: PhotoOf,
    /// What is written below it.
    pub caption: &'a str,
    /// The picture.
    pub picture: Picture,
    /// Width, pixels.
    pub width: i32,
    /// Height, pixels.
    pub height: i32,
}

/// A photograph goes with its visit, when that is removed.
#[diesel::dsl::auto_type(no_type_alias)]
fn not_of_a_removed_visit() -> _ {
    let removed = visits::table.filter(visits::removed_at.is_not_null()).select(visits::id.nullable());
    photos::visit_id.is_null().or(photos::visit_id.ne_all(removed))
}

impl Snapshot<'_> {
    /// The photographs of a site that were not taken back, the newest first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub fn photos(&mut self, site_id: SiteKey) -> Result<Vec<PhotoRecord>> {
        type Row = ((i64, Option<i64>, String, i64, String), (i32, i32), (String, jiff_diesel::Timestamp));
        let rows: Vec<Row> = photos::table
            .inner_join(users::table)
            .filter(photos::site_id.eq(site_id).and(photos::undone_at.is_null()))
            .filter(not_of_a_removed_visit())
            .order(photos::id.desc())
            .limit(i64::try_from(MOST_PHOTOS).unwrap_or(i64::MAX))
            .select((
                (photos::id, photos::visit_id, photos::kind, photos::about, photos::caption),
                (photos::width, photos::height),
                (users::display_name, photos::said_at),
            ))
            .load(self.connection)?;
        let of = |((id, visit_id, kind, about, caption), (width, height), (said_by, at)): Row| {
            let of = PhotoOf::from_parts(&kind, about)
                .ok_or(StoreError::Unknown { what: "subject of a photograph", value: kind })?;
            Ok(PhotoRecord { id, visit_id, of, caption, width, height, said_by, said_at: at.to_jiff() })
        };
        rows.into_iter().map(of).collect()
    }

    /// What a photograph of a site shows, also one that was taken back.
    ///
    /// # Errors
    /// When the database does not answer.
    pub fn photo_of(&mut self, site_id: SiteKey, id: i64) -> Result<Option<PhotoOf>> {
        let row: Option<(String, i64)> = photos::table
            .filter(photos::id.eq(id).and(photos::site_id.eq(site_id)))
            .select((photos::kind, photos::about))
            .first(self.connection)
            .optional()?;
        Ok(row.and_then(|(kind, about)| PhotoOf::from_parts(&kind, about)))
    }

    /// The picture of a photograph of a site; `None` when there is none or it was taken back.
    ///
    /// # Errors
    /// When the database does not answer.
    pub fn photo(&mut self, site_id: SiteKey, id: i64) -> Result<Option<Picture>> {
        let row: Option<(Option<Vec<u8>>, Option<String>)> = photos::table
            .filter(photos::id.eq(id).and(photos::site_id.eq(site_id)))
            .filter(photos::undone_at.is_null())
            .filter(not_of_a_removed_visit())
            .select((photos::jpeg, photos::file_name))
            .first(self.connection)
            .optional()?;
        Ok(row.and_then(|(jpeg, file)| jpeg.map(Picture::Jpeg).or(file.map(Picture::File))))
    }
}

impl Change<'_> {
    /// Keeps a photograph; `None` when it is here already.
    ///
    /// # Errors
    /// When the database does not answer; [`StoreError::Full`] when the site or the day has as many as may be.
    pub fn keep_photo(&mut self, new: NewPhoto<'_>) -> Result<Option<i64>> {
        let (actor, site) = (self.actor, self.site_id);
        let own = || photos::table.filter(photos::site_id.eq(site).and(photos::undone_at.is_null())).count();
        let many = |count: i64, most: usize| usize::try_from(count).unwrap_or(usize::MAX) >= most;
        if many(own().get_result(self.connection)?, MOST_PHOTOS) {
            return Err(StoreError::Full("photographs of this site", MOST_PHOTOS));
        }
        let of_a_day = own().filter(photos::said_at.ge(sql("app_now() - interval '1 day'")));
        if many(of_a_day.get_result(self.connection)?, MOST_A_DAY) {
            return Err(StoreError::Full("photographs of this site in a day", MOST_A_DAY));
        }
        let (jpeg, file) = match new.picture {
            Picture::Jpeg(bytes) => (Some(bytes), None),
            Picture::File(name) => (None, Some(name)),
        };
        let id: Option<i64> = diesel::insert_into(photos::table)
            .values((
                photos::site_id.eq(site),
                photos::visit_id.eq(new.visit_id),
                photos::kind.eq(new.of.kind()),
                photos::about.eq(new.of.about()),
                photos::caption.eq(new.caption),
                photos::client_key.eq(new.client_key),
                photos::jpeg.eq(jpeg),
                photos::file_name.eq(file),
                photos::width.eq(new.width),
                photos::height.eq(new.height),
                photos::said_by.eq(actor),
            ))
            .on_conflict_do_nothing()
            .returning(photos::id)
            .get_result(self.connection)
            .optional()?;
        if let Some(id) = id {
            let event = NewEvent::new(Subject::Photo, Some(id), Action::Created);
            let zone = if let PhotoOf::Zone(zone) = new.of { Some(zone) } else { None };
            let words = if new.caption.is_empty() { "photograph" } else { new.caption };
            self.record(event.said(words).of_zone(zone));
        }
        Ok(id)
    }
}
