//! Tuning: a visit to the site, what its findings come from, which adjustment to make, and when to look again.

mod accept;
mod decided;
mod enter;
mod entry_form;
mod view;
mod walk;

use crate::page::frame::{Chapter, Frame};
use crate::page::photographs::photos;
use crate::page::take_back::TakeBack;
use crate::server::address;
use crate::server::download::attachment;
use crate::server::error::{PageError, page};
use crate::site::context::{AtSite, EditorAt};
use actix_web::{HttpResponse, get, post, web};
use decided::{decided, visits};
use upland_store::Subject;
use view::{NoVisit, TuningPage};

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(tuning)
        .service(visit_file)
        .service(visit_page)
        .service(remove)
        .service(restore)
        .service(take_entry_back)
        .service(let_entry_stand);
    walk::routes(config);
    enter::routes(config);
    accept::routes(config);
}

/// The last visit, and what it comes to.
#[get("/sites/{id}/tuning")]
async fn tuning(here: AtSite) -> Result<HttpResponse, PageError> {
    let frame = Frame::of_site(&here, "Tuning", Chapter::Tuning)?;
    let all = visits(&here).await?;
    match all.first() {
        Some(last) => page(&TuningPage::of(
            frame,
            &here,
            &*decided(&here, last.id).await?,
            &all,
            &photos(&here).await?,
        )?),
        None => page(&NoVisit::of(frame, &here)),
    }
}

#[get("/sites/{id}/visits/{visit}.json")]
async fn visit_file(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let found = decided(&here, path.1).await?;
    let name = format!("{} visit {}", here.records.site.site.name, found.record.on);
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&name, "json"))
        .body(upland_formats::visit_file::write(&found.together.visit, &found.snapshot.inputs)))
}

#[get("/sites/{id}/visits/{visit}")]
async fn visit_page(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let frame = Frame::of_site(&here, "Visit", Chapter::Tuning)?;
    let found = decided(&here, path.1).await?;
    page(&TuningPage::of(frame, &here, &found, &visits(&here).await?, &photos(&here).await?)?)
}

fn whole_visit(here: &AtSite, visit: i64) -> TakeBack {
    let root = address::site_root(here.id());
    TakeBack {
        subject: Subject::Visit,
        under: here.id(),
        id: visit,
        address: format!("{root}/visits/{visit}"),
        list: format!("{root}/tuning"),
        said: ("The visit is taken off the list.", "The visit is restored."),
    }
}

#[post("/sites/{id}/visits/{visit}/undo")]
async fn remove(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: crate::server::session::Fields,
) -> Result<HttpResponse, PageError> {
    whole_visit(&here, path.1).set(&here, true).await
}

#[post("/sites/{id}/visits/{visit}/redo")]
async fn restore(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: crate::server::session::Fields,
) -> Result<HttpResponse, PageError> {
    whole_visit(&here, path.1).set(&here, false).await
}

fn an_entry(here: &AtSite, visit: i64, entry: i64) -> TakeBack {
    let list = format!("{}/visits/{visit}", address::site_root(here.id()));
    TakeBack {
        subject: Subject::VisitEntry,
        under: visit,
        id: entry,
        address: format!("{list}/entries/{entry}"),
        list,
        said: ("The entry is taken back.", "The entry is restored."),
    }
}

#[post("/sites/{id}/visits/{visit}/entries/{entry}/undo")]
async fn take_entry_back(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: crate::server::session::Fields,
) -> Result<HttpResponse, PageError> {
    an_entry(&here, path.1, path.2).set(&here, true).await
}

#[post("/sites/{id}/visits/{visit}/entries/{entry}/redo")]
async fn let_entry_stand(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: crate::server::session::Fields,
) -> Result<HttpResponse, PageError> {
    an_entry(&here, path.1, path.2).set(&here, false).await
}
