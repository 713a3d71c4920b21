//! The owner of a property sees its water in a layman's words, by a link that a technician makes and revokes: what was used
//! and why, what the plants needed, tonight, what was done, what is for the owner to decide.

mod facts;
mod page;
mod view;

use crate::page::dates::DateFormat;
use crate::page::forms::{Field, FieldError, FieldGroup, Form};
use crate::page::frame::{Chapter, Frame};
use crate::page::messages::Language;
use crate::page::quantities::{counted, plain};
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash, hash, random_hex};
use crate::site::context::{AtSite, EditorAt};
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use upland_core::quantity::bounds;
use upland_core::quantity::units::L_PER_US_GALLON;
use upland_core::site::UnitSystem;
use upland_formats::typed::number;
use upland_store::owner_links::{MOST_LINKS, OwnerBaseline, OwnerLink, OwnerView, WaterPrice};

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(links_page).service(make).service(revoke).service(restore).configure(page::routes);
}

/// Longest name of whom a link is for, characters.
const LONGEST_NAME: usize = 80;
/// Longest currency, characters.
const LONGEST_CURRENCY: usize = 4;
/// Where a link that was just made waits to be shown once.
const SHOWN_ONCE: &str = "owner_link";

struct LinkLine {
    id: i64,
    name: String,
    about: String,
    views: String,
    is_revoked: bool,
}

#[derive(Template)]
#[template(path = "chapters/owner/links.html")]
struct LinksPage {
    frame: Frame,
    root: String,
    links: Vec<LinkLine>,
    /// The one that was just made.
    new_link: Option<String>,
    form: Form,
}

const fn baseline_words(baseline: OwnerBaseline) -> &'static str {
    match baseline {
        OwnerBaseline::AsFound => "the settings as found",
        OwnerBaseline::Fixed => "the present programs at 100 %, without sensors",
    }
}

fn line(here: &AtSite, link: OwnerLink) -> LinkLine {
    let day = |at: jiff::Timestamp| at.to_zoned(here.records.tz.clone()).formatted("%-d %b %Y, %H:%M");
    let language = Language::from_code(&link.view.language).unwrap_or_default().own_name();
    let (what, factor) = priced(here.records.units());
    let price = link.view.price.as_ref();
    let price = price
        .map(|own| format!("; {}: {} {}", what.to_lowercase(), plain(own.a_m3 * factor, 2), own.currency));
    LinkLine {
        id: link.id,
        about: format!(
            "{language}; compared with {}{}; made by {} on {}",
            baseline_words(link.view.baseline),
            price.unwrap_or_default(),
            link.made_by,
            day(link.made_at)
        ),
        views: match link.viewed_at {
            Some(at) => format!(
                "opened {}, last on {}",
                counted(usize::try_from(link.views).unwrap_or(0), "time"),
                day(at)
            ),
            None => "not opened yet".to_owned(),
        },
        is_revoked: link.revoked_at.is_some(),
        name: link.view.name,
    }
}

/// What a price is of: a cubic metre, or a thousand gallons on a site in gallons.
const fn priced(units: UnitSystem) -> (&'static str, f64) {
    match units {
        UnitSystem::Metric => ("Price of a cubic metre", 1.0),
        UnitSystem::UsCustomary => ("Price of 1,000 gallons", L_PER_US_GALLON),
    }
}

/// The form of a new link.
fn form(units: UnitSystem, texts: &BTreeMap<String, String>, errors: &[FieldError]) -> Form {
    let languages = Language::ALL.map(|own| (own.code().to_owned(), own.own_name().to_owned()));
    let baselines = [OwnerBaseline::Fixed, OwnerBaseline::AsFound];
    let baselines = baselines.map(|own| (own.code().to_owned(), baseline_words(own).to_owned()));
    let fields = vec![
        Field::text("name", "Made for"),
        Field::one_of("language", "Language", languages.into()),
        Field::one_of("baseline", "Water used is compared with", baselines.into()),
        Field::number("price", priced(units).0, "").help("Left empty, the page shows no money."),
        Field::text("currency", "Currency").help("As you write it, such as €."),
    ];
    Form { groups: vec![FieldGroup::of("New link", fields)] }.filled(texts, errors)
}

async fn draw(
    here: &AtSite,
    new_link: Option<String>,
    refused: Option<(Fields, Vec<FieldError>)>,
) -> Result<HttpResponse, PageError> {
    let key = here.site_key();
    let links = here.read(move |snapshot| snapshot.owner_links(key)).await?;
    let status = if refused.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let (typed, errors) = refused.unwrap_or_default();
    page_with(
        status,
        &LinksPage {
            frame: Frame::of_site(here, "Owner's page", Chapter::Site)?,
            root: address::site_root(here.id()),
            links: links.into_iter().map(|link| line(here, link)).collect(),
            new_link,
            form: form(here.records.units(), &typed.0, &errors),
        },
    )
}

/// The links of a site.
#[get("/sites/{id}/owner")]
async fn links_page(EditorAt(here): EditorAt) -> Result<HttpResponse, PageError> {
    let new_link = here.who.session.remove_as::<String>(SHOWN_ONCE).and_then(Result::ok);
    draw(&here, new_link, None).await
}

/// What a form asks of a link; else what is wrong with it, field by field.
fn read(fields: &Fields, units: UnitSystem) -> Result<OwnerView, Vec<FieldError>> {
    let mut errors: Vec<FieldError> = Vec::new();
    let name = fields.get("name").to_owned();
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        errors.push(("name", format!("Name the person it is made for, in at most {LONGEST_NAME} letters.")));
    }
    let language = Language::from_code(fields.get("language"));
    if language.is_none() {
        errors.push(("language", "Choose one from the list.".into()));
    }
    let baseline = OwnerBaseline::from_code(fields.get("baseline"));
    if baseline.is_none() {
        errors.push(("baseline", "Choose one from the list.".into()));
    }
    let (typed, currency) = (fields.get("price"), fields.get("currency").to_owned());
    let price = (!typed.is_empty()).then(|| number(typed)).transpose();
    let price = match price {
        Err(refusal) => {
            errors.push(("price", refusal.to_string()));
            None
        }
        Ok(Some(price)) if bounds::PRICE.check(price).is_err() || price <= 0.0 => {
            errors.push(("price", "A price above nothing, such as 2.40, or leave it out.".into()));
            None
        }
        Ok(price) => price,
    };
    if currency.chars().count() > LONGEST_CURRENCY || (price.is_some() && currency.is_empty()) {
        errors.push(("currency", "The currency as you write it, such as €; at most four letters.".into()));
    }
    match (language, baseline) {
        (Some(language), Some(baseline)) if errors.is_empty() => Ok(OwnerView {
            name,
            language: language.code().to_owned(),
            baseline,
            price: price.map(|price| WaterPrice { a_m3: price / priced(units).1, currency }),
        }),
        _ => Err(errors),
    }
}

#[post("/sites/{id}/owner")]
async fn make(
    EditorAt(here): EditorAt,
    request: HttpRequest,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let view = match read(&fields, here.records.units()) {
        Ok(view) => view,
        Err(errors) => return draw(&here, None, Some((fields, errors))).await,
    };
    let token = random_hex();
    let hashed = hash(&token);
    let made = here.change(move |change| change.make_owner_link(&view, &hashed)).await?;
    if made.is_none() {
        let full = format!("This site has {MOST_LINKS} links already. Revoke one that is not used any more.");
        return draw(&here, None, Some((fields, vec![("name", full)]))).await;
    }
    here.who.session.insert(SHOWN_ONCE, here.state.address(&request, &format!("/o/{token}")))?;
    Ok(see_other(&format!("{}/owner", address::site_root(here.id()))))
}

async fn set(here: &AtSite, id: i64, is_revoked: bool) -> Result<HttpResponse, PageError> {
    if !here.change(move |change| change.revoke_owner_link(id, is_revoked)).await? {
        return Err(PageError::NotFound);
    }
    let root = address::site_root(here.id());
    let (text, undo) = if is_revoked {
        ("The link opens nothing any more.", Some(format!("{root}/owner/{id}/restore")))
    } else {
        ("The link opens its page again.", None)
    };
    flash(&here.who.session, text, undo)?;
    Ok(see_other(&format!("{root}/owner")))
}

#[post("/sites/{id}/owner/{link}/revoke")]
async fn revoke(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    set(&here, path.1, true).await
}

#[post("/sites/{id}/owner/{link}/restore")]
async fn restore(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    set(&here, path.1, false).await
}

#[cfg(test)]
mod tests {
    use super::*;

    fn typed(pairs: &[(&str, &str)]) -> Fields {
        let usual = [("name", "Owner of the slope"), ("language", "es"), ("baseline", "fixed")];
        let all = usual.iter().chain(pairs).map(|(name, value)| ((*name).to_owned(), (*value).to_owned()));
        Fields(all.collect())
    }

    #[test]
    fn a_link_is_for_somebody_and_a_price_has_a_currency() {
        let view = read(&typed(&[("price", "2.40"), ("currency", "€")]), UnitSystem::Metric).unwrap();
        assert_eq!((view.language.as_str(), view.price.unwrap().a_m3), ("es", 2.4));
        assert_eq!(read(&typed(&[]), UnitSystem::Metric).unwrap().price, None);
        let wrong = |pairs: &[(&str, &str)]| {
            read(&typed(pairs), UnitSystem::Metric)
                .unwrap_err()
                .iter()
                .map(|(field, _)| *field)
                .collect::<Vec<_>>()
        };
        assert_eq!(wrong(&[("price", "2.40")]), ["currency"]);
        assert_eq!(
            wrong(&[("price", "dear"), ("name", ""), ("language", "fr")]),
            ["name", "language", "price"]
        );
        assert_eq!(wrong(&[("price", "-1"), ("currency", "€")]), ["price"]);
    }
}
