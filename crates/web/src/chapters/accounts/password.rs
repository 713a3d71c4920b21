//! Passwords after the first: one's own, through a link of the owner's; sessions ended; people let out and in.

use super::{hashed, hashing, not_own, note, password_errors};
use crate::server::error::{PageError, page, page_with, see_other};
use crate::server::session::{self, Fields, Owner, SignedIn, csrf, flash};
use crate::server::state::{AppState, read, with_store};
use crate::server::visitor::address_of;
use actix_session::Session;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use askama::Template;
use jiff::SignedDuration;
use upland_store::accounts::{RoleChange, User};
use upland_store::sign_ins::Tried;
use upland_store::{Store, StoreError};

/// A link to choose a password is good for so long, and once.
const LINK: SignedDuration = SignedDuration::from_hours(24);

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(change)
        .service(end_others)
        .service(make_link)
        .service(let_out)
        .service(let_in)
        .service(choose_page)
        .service(choose);
}

/// What is wrong with a new password that was typed twice.
async fn chosen_errors(user: &User, fields: &Fields) -> Result<Vec<&'static str>, PageError> {
    let (password, login) = (fields.get("password").to_owned(), user.login.clone());
    let name = user.display_name.clone();
    let mut errors = hashing(move || password_errors(&password, &[&login, &name])).await?;
    if fields.get("password") != fields.get("again") {
        errors.push("The two passwords differ.");
    }
    Ok(errors)
}

#[post("/me/password")]
async fn change(
    state: web::Data<AppState>,
    who: SignedIn,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = who.user.id;
    let mut errors = Vec::new();
    match not_own(&state, &who, fields.get("now")).await? {
        Some((StatusCode::TOO_MANY_REQUESTS, words)) => {
            return super::me::draw(&state, &who, StatusCode::TOO_MANY_REQUESTS, vec![words]).await;
        }
        Some((_, words)) => errors.push(words),
        None => {}
    }
    errors.extend(chosen_errors(&who.user, &fields).await?);
    if !errors.is_empty() {
        return super::me::draw(&state, &who, StatusCode::UNPROCESSABLE_ENTITY, errors).await;
    }
    let hash = hashed(fields.get("password")).await?;
    let own = session::own_hash(&who.session)?;
    with_store(&state, move |store| store.change_password(id, &hash, &own)).await?;
    flash(&who.session, "The password is changed; every other session of yours has ended.", None)?;
    Ok(see_other("/me"))
}

#[post("/me/sessions/end")]
async fn end_others(
    state: web::Data<AppState>,
    who: SignedIn,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (id, own) = (who.user.id, session::own_hash(&who.session)?);
    let ended = with_store(&state, move |store| store.end_sessions(id, &own)).await?;
    let text = match ended {
        0 => "There was no other session.".to_owned(),
        1 => "The other session has ended.".to_owned(),
        many => format!("The {many} other sessions have ended."),
    };
    flash(&who.session, text, None)?;
    Ok(see_other("/me"))
}

#[post("/people/{id}/link")]
async fn make_link(
    state: web::Data<AppState>,
    Owner(who): Owner,
    id: web::Path<i64>,
    request: HttpRequest,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let token = session::random_hex();
    let (stored, actor) = (session::hash(&token), who.user.id);
    if !with_store(&state, move |store| store.make_password_link(&stored, *id, LINK, actor)).await? {
        return Err(PageError::NotFound);
    }
    let address = state.address(&request, &format!("/password/{token}"));
    let text =
        format!("Hand over this link; it lets the person choose a password once, within a day: {address}");
    flash(&who.session, text, None)?;
    Ok(see_other("/people"))
}

async fn disable(
    state: &web::Data<AppState>,
    who: &SignedIn,
    id: i64,
    disabled: bool,
) -> Result<HttpResponse, PageError> {
    let (at, actor) = (who.now, who.user.id);
    let text = match with_store(state, move |store| store.set_disabled(id, disabled, at, actor)).await? {
        RoleChange::NoSuchAccount => return Err(PageError::NotFound),
        RoleChange::Done if disabled => "The account may not sign in any more; its sessions have ended.",
        RoleChange::Done => "The account may sign in again.",
        RoleChange::Unchanged => "It is so already.",
        RoleChange::LastOwner => "There must be an owner who can sign in; the account stays as it is.",
    };
    flash(&who.session, text, None)?;
    Ok(see_other("/people"))
}

#[post("/people/{id}/out")]
async fn let_out(
    state: web::Data<AppState>,
    Owner(who): Owner,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    disable(&state, &who, *id, true).await
}

#[post("/people/{id}/in")]
async fn let_in(
    state: web::Data<AppState>,
    Owner(who): Owner,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    disable(&state, &who, *id, false).await
}

/// A link for whoever runs the server to let somebody in, where no owner can: its path, good for a day and once; failures
/// under the name are forgotten. `None` where nobody signs in so.
///
/// # Errors
/// As any query.
pub fn link_for(store: &Store, login: &str) -> Result<Option<String>, StoreError> {
    let login = login.trim().to_lowercase();
    let Some(known) = store.credentials(&login)? else { return Ok(None) };
    let (token, id) = (session::random_hex(), known.user.id);
    if !store.make_password_link(&session::hash(&token), id, LINK, id)? {
        return Ok(None);
    }
    store.forget_failures(&login)?;
    Ok(Some(format!("/password/{token}")))
}

#[derive(Template)]
#[template(path = "chapters/accounts/choose.html")]
struct ChoosePage {
    csrf: String,
    token: String,
    name: String,
    login: String,
    errors: Vec<&'static str>,
}

/// Whose password a link lets choose. Unknown ones are slowed down, so that nobody guesses.
async fn of_link(state: &web::Data<AppState>, request: &HttpRequest, token: &str) -> Result<User, PageError> {
    let hashed = session::hash(token);
    let found = read(state, move |snapshot| snapshot.password_link(&hashed)).await?;
    let address = address_of(request);
    match found {
        Some(user) => Ok(user),
        None if state.limits.guess(&address) => Err(PageError::BadRequest(
            "This link was used already, or is older than a day. Ask the owner for another one.".into(),
        )),
        None => Err(PageError::NotFound),
    }
}

#[get("/password/{token}")]
async fn choose_page(
    state: web::Data<AppState>,
    session: Session,
    request: HttpRequest,
    token: web::Path<String>,
) -> Result<HttpResponse, PageError> {
    let user = of_link(&state, &request, &token).await?;
    page(&ChoosePage {
        csrf: csrf(&session)?,
        token: token.into_inner(),
        name: user.display_name,
        login: user.login,
        errors: Vec::new(),
    })
}

#[post("/password/{token}")]
async fn choose(
    state: web::Data<AppState>,
    session: Session,
    request: HttpRequest,
    token: web::Path<String>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let user = of_link(&state, &request, &token).await?;
    let errors = chosen_errors(&user, &fields).await?;
    if !errors.is_empty() {
        let (name, login) = (user.display_name, user.login);
        let form = ChoosePage { csrf: csrf(&session)?, token: token.into_inner(), name, login, errors };
        return page_with(StatusCode::UNPROCESSABLE_ENTITY, &form);
    }
    let (hash, link) = (hashed(fields.get("password")).await?, session::hash(&token));
    let set = hash.clone();
    let id = with_store(&state, move |store| store.use_password_link(&link, &set)).await?;
    let id = id.ok_or_else(|| PageError::BadRequest("This link was used already.".into()))?;
    note(&state, &user.login, &address_of(&request), Tried::Opened).await?;
    let known = super::factor::Known { user: id, login: &user.login, password_hash: &hash };
    super::factor::after_password(&state, &session, known).await
}
