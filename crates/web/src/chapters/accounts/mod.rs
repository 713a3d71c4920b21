//! Signing in and out, the first account, and the people of this installation.

mod clock;
mod factor;
mod mail;
mod me;
mod password;

pub use password::link_for;
mod sites;
mod tokens;
mod typed;

use crate::page::frame::Frame;
use crate::server::error::{PageError, page, page_with, see_other};
use crate::server::request_locale::off_loop;
use crate::server::session;
use crate::server::session::{Fields, Owner, SignedIn, csrf, flash};
use crate::server::state::{AppState, read, with_store};
use crate::server::visitor::address_of;
use actix_session::Session;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use argon2::Argon2;
use argon2::password_hash::rand_core::OsRng;
use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use askama::Template;
use std::sync::LazyLock;
use tokio::sync::Semaphore;
use upland_store::accounts::{Capability, Role, RoleChange, User};
use upland_store::sign_ins::Tried;
use zxcvbn::{Score, zxcvbn};

/// Shortest accepted password, characters.
const MIN_PASSWORD: usize = 12;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(sign_in_page)
        .service(sign_in)
        .service(sign_out)
        .service(first_owner)
        .service(people_page)
        .service(add_person)
        .service(change_role)
        .configure(clock::routes)
        .configure(factor::routes)
        .configure(mail::routes)
        .configure(me::routes)
        .configure(password::routes)
        .configure(sites::routes)
        .configure(tokens::routes)
        .configure(typed::routes);
}

/// Argon2 hash of a password with a fresh salt.
///
/// # Errors
/// The library's message, when hashing fails.
pub fn hash_password(password: &str) -> Result<String, String> {
    let salt = SaltString::generate(&mut OsRng);
    Argon2::default()
        .hash_password(password.as_bytes(), &salt)
        .map(|hash| hash.to_string())
        .map_err(|error| error.to_string())
}

fn verify(password: &str, hash: &str) -> bool {
    let is = |password: &str, hash: &PasswordHash<'_>| {
        Argon2::default().verify_password(password.as_bytes(), hash).is_ok()
    };
    let trimmed = password.trim();
    // Passwords that were chosen before their spaces counted were kept without those at their ends.
    PasswordHash::new(hash).is_ok_and(|hash| is(password, &hash) || trimmed != password && is(trimmed, &hash))
}

/// Passwords hashed at the same time: each takes 19 MB and a core, and guessing must not take them all.
const HASHED_AT_ONCE: usize = 2;
static HASHING: Semaphore = Semaphore::const_new(HASHED_AT_ONCE);

/// Hashes off the event loop, when its turn has come.
async fn hashing<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, PageError> {
    // The semaphore is never closed, so a permit always comes.
    let _turn = HASHING.acquire().await.map_err(|closed| PageError::Session(closed.to_string()))?;
    off_loop(work).await
}

/// What stands against a password that must be the person's own; tries are limited.
async fn not_own(
    state: &web::Data<AppState>,
    who: &SignedIn,
    typed: &str,
) -> Result<Option<(StatusCode, &'static str)>, PageError> {
    if !state.limits.own_password(who.user.id) {
        let words = "Too many attempts. Wait a minute, then try again.";
        return Ok(Some((StatusCode::TOO_MANY_REQUESTS, words)));
    }
    let (id, typed) = (who.user.id, typed.to_owned());
    let known = read(state, move |snapshot| snapshot.password_hash(id)).await?.unwrap_or_default();
    let is_own = hashing(move || verify(&typed, &known)).await?;
    let words = "The password that you have now is another one.";
    Ok((!is_own).then_some((StatusCode::UNPROCESSABLE_ENTITY, words)))
}

/// Checked when the sign-in name is unknown, so that the answer takes as long either way.
static NOBODY: LazyLock<String> = LazyLock::new(|| hash_password("nobody").unwrap_or_default());

#[derive(Template)]
#[template(path = "chapters/accounts/sign_in.html")]
struct SignInPage {
    csrf: String,
    login: String,
    error: Option<&'static str>,
}

#[derive(Template)]
#[template(path = "chapters/accounts/first.html")]
struct FirstPage {
    csrf: String,
    login: String,
    name: String,
    errors: Vec<&'static str>,
}

#[get("/sign-in")]
async fn sign_in_page(
    state: web::Data<AppState>,
    session: Session,
    signed_in: Result<SignedIn, PageError>,
) -> Result<HttpResponse, PageError> {
    if signed_in.is_ok() {
        return Ok(see_other("/"));
    }
    let csrf = csrf(&session)?;
    if with_store(&state, upland_store::Store::user_count).await? == 0 {
        return page(&FirstPage { csrf, login: String::new(), name: String::new(), errors: Vec::new() });
    }
    page(&SignInPage { csrf, login: String::new(), error: None })
}

#[post("/sign-in")]
async fn sign_in(
    state: web::Data<AppState>,
    session: Session,
    request: HttpRequest,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let login = fields.get("login").to_lowercase();
    let refuse = |status, error| {
        page_with(status, &SignInPage { csrf: csrf(&session)?, login: login.clone(), error: Some(error) })
    };
    let address = address_of(&request);
    let origin = session::origin_of(&session, &login, &address);
    let (name, from) = (login.clone(), origin.clone());
    let may = state.limits.address(&address)
        && with_store(&state, move |store| store.begin_sign_in(&name, &from)).await?;
    if !may {
        if state.limits.written(&address) {
            note(&state, &login, &origin, Tried::Refused).await?;
        }
        return refuse(
            StatusCode::TOO_MANY_REQUESTS,
            "Too many attempts from here. Wait a few minutes, then try again.",
        );
    }
    let name = login.clone();
    let found = with_store(&state, move |store| store.credentials(&name)).await?;
    let password = fields.get("password").to_owned();
    let user = hashing(move || match found {
        Some(known) => verify(&password, &known.password_hash).then_some(known),
        None => {
            verify(&password, &NOBODY);
            None
        }
    })
    .await?;
    match user {
        Some(known) => {
            // A code that is asked for next is a try of its own.
            opened(&state, &login, &origin).await?;
            let (user, password_hash) = (known.user.id, known.password_hash.as_str());
            let known = factor::Known { user, login: &login, password_hash };
            factor::after_password(&state, &session, known).await
        }
        // It counts as failed since it began.
        None => refuse(
            StatusCode::UNPROCESSABLE_ENTITY,
            "Name and password do not belong together. The owner can make you a new account.",
        ),
    }
}

/// Counts a try to sign in, for every server and for the owner.
async fn note(
    state: &web::Data<AppState>,
    login: &str,
    address: &str,
    tried: Tried,
) -> Result<(), PageError> {
    let (login, address) = (login.to_owned(), address.to_owned());
    with_store(state, move |store| store.note_sign_in(&login, &address, tried)).await
}

/// Says that a try which was begun was right.
async fn opened(state: &web::Data<AppState>, login: &str, address: &str) -> Result<(), PageError> {
    let (login, address) = (login.to_owned(), address.to_owned());
    with_store(state, move |store| store.sign_in_opened(&login, &address)).await
}

#[post("/sign-out")]
async fn sign_out(
    state: web::Data<AppState>,
    session: Session,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    session::end(&state, &session).await?;
    Ok(see_other("/sign-in"))
}

fn account_errors(login: &str, name: &str, password: &str) -> Vec<&'static str> {
    let mut errors = Vec::new();
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_' | '@');
    if login.is_empty() || login.len() > 80 || !login.chars().all(plain) {
        errors.push("The sign-in name takes letters, digits and . - _ @, up to 80.");
    }
    if name.is_empty() || name.chars().count() > 80 || name.chars().any(char::is_control) {
        errors.push("Give a name to be shown, up to 80 characters on one line.");
    }
    errors.extend(password_errors(password, &[login, name]));
    errors
}

/// The same off the event loop, when its turn has come: estimating takes long for some passwords.
async fn checked_account(login: &str, name: &str, password: &str) -> Result<Vec<&'static str>, PageError> {
    let (login, name, password) = (login.to_owned(), name.to_owned(), password.to_owned());
    hashing(move || account_errors(&login, &name, &password)).await
}

/// Characters of a password of which the strength is estimated.
const ESTIMATED: usize = 40;

/// What is wrong with a password of somebody who goes by some names.
fn password_errors(password: &str, names: &[&str]) -> Vec<&'static str> {
    if password.chars().count() < MIN_PASSWORD {
        return vec!["The password needs at least twelve characters."];
    }
    if password.len() > 400 {
        return vec!["The password is too long."];
    }
    // The estimator's time grows far faster than the length; forty characters are enough to tell.
    let looked_at: String = password.chars().take(ESTIMATED).collect();
    if zxcvbn(&looked_at, names).score() < Score::Three {
        return vec![
            "The password is easy to guess: take several words that do not belong together, or a longer sentence of your own.",
        ];
    }
    Vec::new()
}

async fn hashed(password: &str) -> Result<String, PageError> {
    let password = password.to_owned();
    hashing(move || hash_password(&password)).await?.map_err(PageError::Session)
}

/// The first visit to an empty installation makes the owner's account.
#[post("/first-owner")]
async fn first_owner(
    state: web::Data<AppState>,
    session: Session,
    request: HttpRequest,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    // Whoever asks: nothing is estimated or hashed where an owner is there already, and never often.
    if with_store(&state, upland_store::Store::user_count).await? > 0 {
        return Ok(see_other("/sign-in"));
    }
    let (login, name) = (fields.get("login").to_lowercase(), fields.get("name").to_owned());
    let refuse = |status, login, name, errors| {
        page_with(status, &FirstPage { csrf: csrf(&session)?, login, name, errors })
    };
    if !state.limits.address(&address_of(&request)) {
        let errors = vec!["Too many attempts from here. Wait a minute, then try again."];
        return refuse(StatusCode::TOO_MANY_REQUESTS, login, name, errors);
    }
    let mut errors = checked_account(&login, &name, fields.get("password")).await?;
    if fields.get("password") != fields.get("again") {
        errors.push("The two passwords differ.");
    }
    if !errors.is_empty() {
        return refuse(StatusCode::UNPROCESSABLE_ENTITY, login, name, errors);
    }
    let hash = hashed(fields.get("password")).await?;
    let owner = with_store(&state, move |store| store.create_first_owner(&login, &name, &hash)).await?;
    match owner {
        Some(owner) => {
            session::begin(&state, &session, owner.id).await?;
            Ok(see_other("/"))
        }
        None => Ok(see_other("/sign-in")),
    }
}

/// Somebody on the page of people.
struct PersonLine {
    user: User,
    /// What they see, in words.
    sees: String,
    /// They sign in with a second factor.
    factor: bool,
}

#[derive(Template)]
#[template(path = "chapters/accounts/people.html")]
struct PeoplePage {
    frame: Frame,
    people: Vec<PersonLine>,
    login: String,
    name: String,
    errors: Vec<&'static str>,
}

async fn people(
    state: &web::Data<AppState>,
    who: &SignedIn,
    status: StatusCode,
    typed: (String, String),
    errors: Vec<&'static str>,
) -> Result<HttpResponse, PageError> {
    let (people, restricted, with_factor) =
        read(state, |snapshot| Ok((snapshot.users()?, snapshot.restricted()?, snapshot.with_factor()?)))
            .await?;
    let people = people
        .into_iter()
        .map(|user| PersonLine {
            sees: sites::sees(&user, &restricted),
            factor: with_factor.contains(&user.id),
            user,
        })
        .collect();
    let frame = Frame::new(who, "People")?;
    page_with(status, &PeoplePage { frame, people, login: typed.0, name: typed.1, errors })
}

#[get("/people")]
async fn people_page(state: web::Data<AppState>, Owner(who): Owner) -> Result<HttpResponse, PageError> {
    people(&state, &who, StatusCode::OK, (String::new(), String::new()), Vec::new()).await
}

#[post("/people")]
async fn add_person(
    state: web::Data<AppState>,
    Owner(who): Owner,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (login, name) = (fields.get("login").to_lowercase(), fields.get("name").to_owned());
    let mut errors = checked_account(&login, &name, fields.get("password")).await?;
    let role = Role::from_code(fields.get("role"));
    if role.is_none() {
        errors.push("Choose a role.");
    }
    if let (Some(role), true) = (role, errors.is_empty()) {
        let hash = hashed(fields.get("password")).await?;
        let (new_login, new_name, actor) = (login.clone(), name.clone(), who.user.id);
        let made = with_store(&state, move |store| {
            // A reader sees what was given, and nothing was yet.
            let sees: Option<&[i64]> = role.begins_without_sites().then_some(&[]);
            store.create_user_seeing(&new_login, &new_name, &hash, role, sees, Some(actor))
        });
        if let Some(made) = made.await? {
            flash(&who.session, format!("{name} may sign in now."), None)?;
            let next = if role.begins_without_sites() {
                format!("/people/{}/sites", made.id)
            } else {
                "/people".to_owned()
            };
            return Ok(see_other(&next));
        }
        errors.push("This sign-in name is taken.");
    }
    people(&state, &who, StatusCode::UNPROCESSABLE_ENTITY, (login, name), errors).await
}

#[post("/people/{id}/role")]
async fn change_role(
    state: web::Data<AppState>,
    Owner(who): Owner,
    id: web::Path<i64>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let role = Role::from_code(fields.get("role"))
        .ok_or_else(|| PageError::BadRequest("There is no such role.".into()))?;
    let actor = who.user.id;
    let text = match with_store(&state, move |store| store.set_role(*id, role, actor)).await? {
        RoleChange::NoSuchAccount => return Err(PageError::NotFound),
        RoleChange::Done => "The role is changed.",
        RoleChange::Unchanged => "That is the role already.",
        RoleChange::LastOwner => "There must be an owner; the role stays as it is.",
    };
    flash(&who.session, text, None)?;
    Ok(see_other("/people"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn passwords_are_salted_and_verified() {
        let (a, b) = (hash_password("larkrigg slope").unwrap(), hash_password("larkrigg slope").unwrap());
        assert_ne!(a, b);
        assert!(a.starts_with("$argon2id$"));
        assert!(verify("larkrigg slope", &a) && !verify("larkrigg slop", &a) && !verify("x", "no hash"));
    }

    #[test]
    fn a_password_is_long_and_hard_to_guess() {
        let wrong = |password: &str| !password_errors(password, &["isla", "Isla of the Slope"]).is_empty();
        for easy in [
            "short-one",
            "passwordpassword",
            "123456789012",
            "isla of the slope",
            "aaaaaaaaaaaaaaa",
            &"x".repeat(401),
        ] {
            assert!(wrong(easy), "{easy}");
        }
        for hard in ["larkrigg-demo", "heather-over-wet-slate", "Jk4$vPq9!wZx"] {
            assert!(!wrong(hard), "{hard}");
        }
    }

    #[test]
    fn account_fields_are_checked() {
        assert_eq!(account_errors("isla", "Isla", "heather-over-wet-slate"), Vec::<&str>::new());
        assert_eq!(account_errors("is la", "", "short").len(), 3);
    }
}
