//! Photographs of a thing of the site, with the form that adds one: shown wherever the thing is.

use crate::page::dates::DateFormat;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use crate::site::records::SiteRecords;
use askama::Template;
use std::sync::Arc;
use upland_store::photos::{PhotoOf, PhotoRecord};

/// Letters of what is written below a photograph, at most.
pub(crate) const MOST_CAPTION: usize = 200;
/// Photographs that are shown at once, the newest first.
const SHOWN: usize = 12;

questions! {
    facts AllPhotos {} -> Vec<PhotoRecord>;
}

/// The photographs of a site that were not taken back, the newest first; read once for a revision of it.
pub(crate) async fn photos(here: &AtSite) -> Result<Arc<Vec<PhotoRecord>>, PageError> {
    let of_site = here.site_key();
    here.more(AllPhotos {}, 10, move |snapshot| snapshot.photos(of_site)).await
}

/// The page that shows what a photograph is of.
pub(crate) fn page_of(records: &SiteRecords, of: PhotoOf) -> String {
    let site = records.site.id.number();
    match of {
        PhotoOf::Zone(id) => address::zone(site, id),
        PhotoOf::Sensor(id) => address::sensor(site, id),
        PhotoOf::Controller(id) => {
            let number = records.controllers.iter().find(|c| c.record.id == id).map_or(1, |c| c.number());
            format!("{}/sheet", address::site_controller(site, number))
        }
        PhotoOf::Site => format!("{}/card", address::site_root(site)),
    }
}

/// A photograph in a list.
struct PhotoLine {
    href: String,
    undo: String,
    alt: String,
    caption: String,
    taken: String,
    width: i32,
    height: i32,
}

/// Photographs with what may be done to them.
#[derive(Template)]
#[template(path = "page/photographs.html")]
struct Photographs {
    photos: Vec<PhotoLine>,
    older: usize,
    /// Where one is added, and what it would be of; empty for readers and in lists that only show.
    add: String,
    kind: &'static str,
    about: i64,
    /// What is worth a photograph here.
    hint: &'static str,
    csrf: String,
    may_edit: bool,
}

fn shown<'a>(here: &AtSite, which: impl Iterator<Item = &'a PhotoRecord>) -> Result<Photographs, PageError> {
    let root = address::site_root(here.id());
    let line = |own: &PhotoRecord| {
        let taken = own.said_at.to_zoned(here.records.tz.clone()).formatted("%-d %b %Y");
        PhotoLine {
            href: format!("{root}/photos/{}.jpg", own.id),
            undo: format!("{root}/photos/{}/undo", own.id),
            alt: if own.caption.is_empty() {
                format!("Photograph of {taken} by {}", own.said_by)
            } else {
                own.caption.clone()
            },
            caption: own.caption.clone(),
            taken: format!("{taken}, {}", own.said_by),
            width: own.width,
            height: own.height,
        }
    };
    let all: Vec<PhotoLine> = which.map(line).collect();
    let older = all.len().saturating_sub(SHOWN);
    Ok(Photographs {
        photos: all.into_iter().take(SHOWN).collect(),
        older,
        add: String::new(),
        kind: "",
        about: 0,
        hint: "",
        csrf: here.who.csrf()?,
        may_edit: here.who.may_edit(),
    })
}

/// The photographs of a thing, with the form that adds one.
pub(crate) async fn photographs(here: &AtSite, of: PhotoOf) -> Result<String, PageError> {
    let all = photos(here).await?;
    let mut part = shown(here, all.iter().filter(|own| own.of == of))?;
    if part.may_edit {
        part.add = format!("{}/photos", address::site_root(here.id()));
    }
    (part.kind, part.about) = (of.kind(), of.about());
    part.hint = match of {
        PhotoOf::Zone(_) => "dry or wet places, a head that leaks",
        PhotoOf::Controller(_) => "its terminals before a wire is moved, its rating plate, where it hangs",
        PhotoOf::Sensor(_) => "where it is mounted, its terminals, its serial number",
        PhotoOf::Site => "the way to the controller, the shut-off valve, the meter",
    };
    Ok(part.render()?)
}

/// Photographs that are only shown, such as those of a visit.
pub(crate) fn photographs_shown<'a>(
    here: &AtSite,
    which: impl Iterator<Item = &'a PhotoRecord>,
) -> Result<String, PageError> {
    let part = shown(here, which)?;
    if part.photos.is_empty() { Ok(String::new()) } else { Ok(part.render()?) }
}
