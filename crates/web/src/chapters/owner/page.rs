//! The pages that a link of an owner opens: the water of the property, its handover sheet, and the photographs of what is
//! to be repaired. The link opens nothing else.

use super::facts::Facts;
use super::view::{OwnerPage, months, programs};
use crate::page::messages::{Language, Reader};
use crate::server::address;
use crate::server::error::{PageError, page};
use crate::server::request_locale::off_loop;
use crate::server::session::hash;
use crate::server::state::{AppState, read, with_store};
use crate::site::context::EditorAt;
use crate::site::photographs::jpeg;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::civil::Date;
use upland_core::quantity::span::DateSpan;
use upland_store::owner_links::{OpenedLink, OwnerBaseline, OwnerView};
use upland_store::photos::PhotoOf;
use upland_store::scope::SiteKey;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(opened).service(handover).service(picture).service(preview).service(preview_handover);
}

/// Months that the page offers: the account reaches half a year back, and further where there is weather.
const MONTHS: i32 = 13;

#[derive(serde::Deserialize, Default)]
struct Query {
    /// Year and month, "2026-07"; the last thirty days where none is asked.
    month: Option<String>,
    lang: Option<String>,
}

impl Query {
    /// The days of the month that is asked for.
    fn span(&self) -> Result<Option<DateSpan>, PageError> {
        let Some(month) = self.month.as_deref().filter(|month| !month.is_empty()) else { return Ok(None) };
        let first: Date = format!("{month}-01")
            .parse()
            .map_err(|_| PageError::BadRequest(format!("\"{month}\" is no month. Write it as 2026-07.")))?;
        Ok(Some(DateSpan::new(first, first.last_of_month())))
    }

    fn language(&self, usual: &str) -> Language {
        let asked = self.lang.as_deref().and_then(Language::from_code);
        asked.or_else(|| Language::from_code(usual)).unwrap_or_default()
    }
}

#[derive(Template)]
#[template(path = "chapters/owner/owner.html")]
struct Page {
    reader: Reader,
    /// The page; `None` where there is no account of the days.
    water: Option<OwnerPage>,
    site: String,
    /// Address of the page without what is asked of it.
    path: String,
    /// Where its photographs are.
    photos: String,
    months: Vec<(String, String)>,
    month: String,
    contact: String,
}

#[derive(Template)]
#[template(path = "chapters/owner/handover.html")]
struct Handover {
    reader: Reader,
    title: String,
    path: String,
    controllers: Vec<(String, Vec<String>)>,
    contact: String,
}

/// Whose page it is and where it stands.
struct Asked {
    key: SiteKey,
    view: OwnerView,
    path: String,
    photos: String,
    contact: String,
}

async fn link(state: &web::Data<AppState>, token: &str) -> Result<OpenedLink, PageError> {
    let hashed = hash(token);
    let link = read(state, move |snapshot| snapshot.owner_link_of(&hashed)).await?;
    link.ok_or(PageError::NotFound)
}

fn of_link(link: &OpenedLink, token: &str) -> Asked {
    let path = format!("/o/{token}");
    Asked {
        key: link.site,
        view: link.view.clone(),
        photos: format!("{path}/photos"),
        path,
        contact: link.made_by.clone(),
    }
}

async fn draw(state: &web::Data<AppState>, asked: Asked, query: &Query) -> Result<HttpResponse, PageError> {
    let (span, language) = (query.span()?, query.language(&asked.view.language));
    let (key, baseline, own) = (asked.key, asked.view.baseline, state.clone());
    let facts = off_loop(move || Facts::open(&own, key, span, baseline)).await??;
    let facts = facts.ok_or(PageError::NotFound)?;
    let reader = Reader { language, units: facts.site.units() };
    page(&Page {
        water: OwnerPage::of(&reader, &facts, &asked.view),
        site: facts.site.records.site.site.name.clone(),
        months: months(&reader, facts.site.today(), MONTHS),
        month: query.month.clone().unwrap_or_default(),
        reader,
        path: asked.path,
        photos: asked.photos,
        contact: asked.contact,
    })
}

async fn draw_handover(
    state: &web::Data<AppState>,
    asked: Asked,
    query: &Query,
) -> Result<HttpResponse, PageError> {
    let language = query.language(&asked.view.language);
    let (key, own) = (asked.key, state.clone());
    let latest = off_loop(move || crate::site::snapshot::Latest::open(&own, key)).await??;
    let site = latest.ok_or(PageError::NotFound)?.site;
    let reader = Reader { language, units: site.units() };
    let of = |own: &crate::site::records::SiteController| {
        let name = |station: u16| {
            let id = upland_core::site::StationId::new(own.number(), station);
            let none = || reader.with("handover-station", &[("number", station.into())]);
            site.records.zone_on(id).map_or_else(none, |zone| zone.zone.name.clone())
        };
        let lines = own.settings.as_ref().map(|set| programs(&reader, &set.settings, name));
        (own.record.controller.place.clone(), lines.unwrap_or_default())
    };
    let name = site.records.site.site.name.clone();
    page(&Handover {
        title: reader.with("handover-title", &[("site", name.into())]),
        controllers: site.records.controllers.iter().map(of).collect(),
        reader,
        path: asked.path,
        contact: asked.contact,
    })
}

/// The page of a link; each time it is opened counts as a view.
#[get("/o/{token}")]
async fn opened(
    state: web::Data<AppState>,
    token: web::Path<String>,
    query: web::Query<Query>,
) -> Result<HttpResponse, PageError> {
    let link = link(&state, &token).await?;
    let id = link.id;
    with_store(&state, move |store| store.count_owner_view(id)).await?;
    draw(&state, of_link(&link, &token), &query).await
}

#[get("/o/{token}/handover")]
async fn handover(
    state: web::Data<AppState>,
    token: web::Path<String>,
    query: web::Query<Query>,
) -> Result<HttpResponse, PageError> {
    let link = link(&state, &token).await?;
    draw_handover(&state, of_link(&link, &token), &query).await
}

/// A photograph of a zone of the property; others are not the owner's.
#[get("/o/{token}/photos/{photo}.jpg")]
async fn picture(
    state: web::Data<AppState>,
    path: web::Path<(String, i64)>,
) -> Result<HttpResponse, PageError> {
    let (token, id) = path.into_inner();
    let site = link(&state, &token).await?.site;
    let of = read(&state, move |snapshot| snapshot.photo_of(site, id)).await?;
    if !matches!(of, Some(PhotoOf::Zone(_))) {
        return Err(PageError::NotFound);
    }
    jpeg(&state, site, id).await
}

fn of_site(here: &crate::site::context::AtSite) -> Asked {
    let root = address::site_root(here.id());
    Asked {
        key: here.site_key(),
        view: OwnerView {
            name: here.who.user.display_name.clone(),
            language: Language::default().code().to_owned(),
            baseline: OwnerBaseline::default(),
            price: None,
        },
        path: format!("{root}/owner/page"),
        photos: format!("{root}/photos"),
        contact: here.who.user.display_name.clone(),
    }
}

/// The page as an owner would see it, for the technician.
#[get("/sites/{id}/owner/page")]
async fn preview(EditorAt(here): EditorAt, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    draw(&here.state, of_site(&here), &query).await
}

#[get("/sites/{id}/owner/page/handover")]
async fn preview_handover(
    EditorAt(here): EditorAt,
    query: web::Query<Query>,
) -> Result<HttpResponse, PageError> {
    draw_handover(&here.state, of_site(&here), &query).await
}
