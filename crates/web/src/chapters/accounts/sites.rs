//! Which sites a person sees, as the owner says.

use crate::page::frame::Frame;
use crate::page::quantities::counted;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, Owner, flash};
use crate::server::state::{AppState, read, with_store};
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use upland_store::accounts::{Capability, User};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(sites_page).service(give);
}

/// What a person sees, in words.
pub(super) fn sees(user: &User, restricted: &BTreeMap<i64, Vec<i64>>) -> String {
    match restricted.get(&user.id).map(Vec::len) {
        None => "every site".to_owned(),
        Some(0) => "no site yet".to_owned(),
        Some(n) => counted(n, "site"),
    }
}

struct SiteTick {
    id: i64,
    name: String,
    given: bool,
}

#[derive(Template)]
#[template(path = "chapters/accounts/sites.html")]
struct SitesPage {
    frame: Frame,
    id: i64,
    name: String,
    every: bool,
    sites: Vec<SiteTick>,
}

#[get("/people/{id}/sites")]
async fn sites_page(
    state: web::Data<AppState>,
    Owner(who): Owner,
    id: web::Path<i64>,
) -> Result<HttpResponse, PageError> {
    let (id, scope) = (*id, who.scope.clone());
    let (people, restricted, mut sites) = read(&state, move |snapshot| {
        Ok((snapshot.users()?, snapshot.restricted()?, snapshot.site_names(&scope)?))
    })
    .await?;
    let person = people
        .into_iter()
        .find(|p| p.id == id && !p.role.may(Capability::SeeEverySite))
        .ok_or(PageError::NotFound)?;
    let given = restricted.get(&id);
    sites.sort_by_key(|(_, name)| name.to_lowercase());
    let tick = |(site, name): (upland_store::scope::SiteKey, String)| SiteTick {
        id: site.number(),
        given: given.is_some_and(|given| given.contains(&site.number())),
        name,
    };
    page(&SitesPage {
        frame: Frame::new(&who, format!("What {} sees", person.display_name))?,
        id,
        name: person.display_name,
        every: given.is_none(),
        sites: sites.into_iter().map(tick).collect(),
    })
}

#[post("/people/{id}/sites")]
async fn give(
    state: web::Data<AppState>,
    Owner(who): Owner,
    id: web::Path<i64>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (id, actor) = (*id, who.user.id);
    let every = match fields.get("sees") {
        "every" => true,
        "these" => false,
        _ => {
            return Err(PageError::BadRequest(
                "Say whether it is every site, or those that are ticked.".into(),
            ));
        }
    };
    let ticked = fields.0.keys().filter_map(|name| name.strip_prefix("site-")?.parse::<i64>().ok());
    let sites: Vec<i64> = ticked.filter(|site| who.scope.site(*site).is_some()).collect();
    let count = sites.len();
    let given = (!every).then_some(sites);
    if !with_store(&state, move |store| store.give_sites(id, given.as_deref(), actor)).await? {
        return Err(PageError::NotFound);
    }
    let said = match every {
        true => "Saved: every site, those to come too.".to_owned(),
        false => format!("Saved: {}, from the next page on.", counted(count, "site")),
    };
    flash(&who.session, said, None)?;
    Ok(see_other("/people"))
}
