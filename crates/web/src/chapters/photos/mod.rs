//! Photographs of a site, a zone, a controller or a sensor: taken here, shown by any chapter.

mod picture;

use crate::page::photographs::{MOST_CAPTION, page_of};
use crate::page::take_back::TakeBack;
use crate::server::address;
use crate::server::error::{PageError, see_other};
use crate::server::request_locale::off_loop;
use crate::server::session::{Fields, check_csrf, client_key, flash, random_hex};
use crate::server::upload::turn;
use crate::site::context::{AtSite, EditorAt};
use crate::site::photographs::jpeg;
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use futures_util::TryStreamExt;
use picture::{MAX_BYTES, smaller};
use serde_json::json;
use std::path::PathBuf;
use upland_store::Subject;
use upland_store::photos::{NewPhoto, PhotoOf, Picture};

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(take).service(take_at_visit).service(show).service(undo).service(redo);
}

/// What a form of a photograph carries.
#[derive(Default)]
struct Sent {
    key: String,
    kind: String,
    about: String,
    caption: String,
    at_visit: bool,
    bytes: Vec<u8>,
    too_large: bool,
}

impl Sent {
    async fn read(here: &AtSite, mut payload: Multipart) -> Result<Self, PageError> {
        let bad = |error: actix_multipart::MultipartError| {
            PageError::BadRequest(format!(
                "The photograph did not arrive whole: {error}. It is sent again by itself."
            ))
        };
        let (mut sent, mut checked) = (Self::default(), false);
        while let Some(mut field) = payload.try_next().await.map_err(bad)? {
            let name = field.name().unwrap_or_default().to_owned();
            if name == "file" && !checked {
                return Err(PageError::Csrf);
            }
            let most = if name == "file" { MAX_BYTES } else { 1024 };
            let mut bytes = Vec::new();
            let mut total = 0;
            while let Some(chunk) = field.try_next().await.map_err(bad)? {
                total += chunk.len();
                if total <= most {
                    bytes.extend_from_slice(&chunk);
                } else if name != "file" {
                    return Err(PageError::BadRequest("A field of the photograph is too long.".into()));
                } else if total > 10 * MAX_BYTES {
                    return Err(PageError::BadRequest("The photograph is far too large.".into()));
                }
            }
            let text = || String::from_utf8_lossy(&bytes).trim().to_owned();
            match name.as_str() {
                "csrf" => {
                    check_csrf(&here.who.session, &text())?;
                    checked = true;
                }
                "key" => sent.key = text(),
                "kind" => sent.kind = text(),
                "about" => sent.about = text(),
                // A phone may still hold photographs of a zone that it took before they could be of other things.
                "zone" => (sent.kind, sent.about) = ("zone".into(), text()),
                "caption" => sent.caption = text(),
                "visit" => sent.at_visit = true,
                "file" => {
                    sent.too_large = total > MAX_BYTES;
                    sent.bytes = if sent.too_large { Vec::new() } else { bytes };
                }
                _ => {}
            }
        }
        if checked { Ok(sent) } else { Err(PageError::Csrf) }
    }

    /// What it shows: a thing of this site, else the site.
    fn of(&self, here: &AtSite) -> PhotoOf {
        let records = &here.records;
        let of = self.about.parse().ok().and_then(|about| PhotoOf::from_parts(&self.kind, about));
        match of {
            Some(PhotoOf::Zone(id)) if records.zones.iter().any(|z| z.id == id) => PhotoOf::Zone(id),
            Some(PhotoOf::Controller(id)) if records.controllers.iter().any(|c| c.record.id == id) => {
                PhotoOf::Controller(id)
            }
            Some(PhotoOf::Sensor(id)) if records.sensors.iter().any(|s| s.id == id) => PhotoOf::Sensor(id),
            _ => PhotoOf::Site,
        }
    }
}

/// Answers a script with whether the photograph is kept, and a browser with the page that shows it.
fn answer(
    request: &HttpRequest,
    here: &AtSite,
    back: &str,
    text: &str,
    kept: bool,
) -> Result<HttpResponse, PageError> {
    if request.headers().contains_key("x-part") {
        let status = if kept { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
        return Ok(HttpResponse::build(status).json(json!({ "text": text, "more": [], "kept": kept })));
    }
    flash(&here.who.session, text, None)?;
    Ok(see_other(back))
}

#[post("/sites/{id}/photos")]
async fn take(
    EditorAt(here): EditorAt,
    request: HttpRequest,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    keep(&here, &request, payload, false).await
}

#[post("/sites/{id}/visit/photos")]
async fn take_at_visit(
    EditorAt(here): EditorAt,
    request: HttpRequest,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    keep(&here, &request, payload, true).await
}

/// A picture where it is kept, and its file where that is in the folder.
struct Placed {
    picture: Picture,
    file: Option<PathBuf>,
}

impl Placed {
    async fn of(here: &AtSite, jpeg: Vec<u8>) -> Result<Self, PageError> {
        let Some(folder) = here.state.configuration.photo_folder.clone() else {
            return Ok(Self { picture: Picture::Jpeg(jpeg), file: None });
        };
        let name = format!("{}.jpg", random_hex());
        let path = folder.join(&name);
        let file = Some(path.clone());
        let written =
            off_loop(move || std::fs::create_dir_all(&folder).and_then(|()| std::fs::write(path, jpeg)));
        let told = |error| PageError::BadRequest(format!("The photograph could not be kept: {error}."));
        written.await?.map_err(told)?;
        Ok(Self { picture: Picture::File(name), file })
    }
}

async fn keep(
    here: &AtSite,
    request: &HttpRequest,
    payload: Multipart,
    at_visit: bool,
) -> Result<HttpResponse, PageError> {
    let turn = turn().await?;
    let sent = Sent::read(here, payload).await?;
    let (key, of, at_visit) = (client_key(&sent.key)?, sent.of(here), at_visit || sent.at_visit);
    let back = if at_visit {
        format!("{}/visit", address::site_root(here.id()))
    } else {
        page_of(&here.records, of)
    };
    let answer = |text: &str, kept: bool| answer(request, here, &back, text, kept);
    if sent.too_large {
        return answer(&format!("The photograph is larger than {} MB.", MAX_BYTES / 1024 / 1024), false);
    }
    if sent.bytes.is_empty() {
        return answer("No photograph was chosen: choose one, then press Add.", false);
    }
    if sent.caption.chars().count() > MOST_CAPTION {
        return answer(
            &format!("What is written below a photograph has at most {MOST_CAPTION} letters."),
            false,
        );
    }
    let kept = match off_loop(move || smaller(&sent.bytes)).await? {
        Ok(kept) => kept,
        Err(text) => return answer(&text, false),
    };
    drop(turn);
    let (day, caption, width, height) = (here.today(), sent.caption, kept.width, kept.height);
    let Placed { picture, file } = Placed::of(here, kept.jpeg).await?;
    let new = here
        .change(move |change| {
            let visit_id = if at_visit { Some(change.visit_on(day)?) } else { None };
            let (client_key, caption) = (key.as_str(), caption.as_str());
            change.keep_photo(NewPhoto { client_key, visit_id, of, caption, picture, width, height })
        })
        .await;
    // A file that no row names would stay for ever.
    if let Some(path) = file.filter(|_| !matches!(new, Ok(Some(_)))) {
        off_loop(move || std::fs::remove_file(path)).await?.ok();
    }
    answer(if new?.is_some() { "Photograph kept." } else { "It was here already." }, true)
}

#[get("/sites/{id}/photos/{photo}.jpg")]
async fn show(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    jpeg(&here.state, here.site_key(), path.1).await
}

/// A photograph that is taken back or restored, and the page that shows it.
async fn of_path(here: &AtSite, id: i64) -> Result<TakeBack, PageError> {
    let of_site = here.site_key();
    let of = here.read(move |snapshot| snapshot.photo_of(of_site, id)).await?.ok_or(PageError::NotFound)?;
    Ok(TakeBack {
        subject: Subject::Photo,
        under: here.id(),
        id,
        address: format!("{}/photos/{id}", address::site_root(here.id())),
        list: page_of(&here.records, of),
        said: ("The photograph is taken back.", "The photograph is restored."),
    })
}

#[post("/sites/{id}/photos/{photo}/undo")]
async fn undo(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    of_path(&here, path.1).await?.set(&here, true).await
}

#[post("/sites/{id}/photos/{photo}/redo")]
async fn redo(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    of_path(&here, path.1).await?.set(&here, false).await
}
