//! Who asks: the session, its form token, and what waits to be said after a redirect.

use crate::server::error::PageError;
use crate::server::state::{AppState, db};
use actix_session::{Session, SessionExt};
use actix_web::dev::Payload;
use actix_web::{FromRequest, HttpRequest, web};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::future::Future;
use std::pin::Pin;
use upland_store::accounts::{Role, User};

/// A session lasts this long; the cookie as well.
pub(crate) const LENGTH: SignedDuration = SignedDuration::from_hours(30 * 24);

const TOKEN: &str = "token";
const CSRF: &str = "csrf";
const FLASH: &str = "flash";

type Extracted<T> = Pin<Box<dyn Future<Output = Result<T, PageError>>>>;

pub(crate) fn random_hex() -> String {
    hex::encode(rand::random::<[u8; 32]>())
}

fn hash(token: &str) -> Vec<u8> {
    Sha256::digest(token.as_bytes()).to_vec()
}

/// The form token of a session, made when first asked for.
pub(crate) fn csrf(session: &Session) -> Result<String, PageError> {
    if let Some(token) = session.get::<String>(CSRF)? {
        return Ok(token);
    }
    let token = random_hex();
    session.insert(CSRF, &token)?;
    Ok(token)
}

/// Compares a form's token with the session's.
pub(crate) fn check_csrf(session: &Session, sent: &str) -> Result<(), PageError> {
    match session.get::<String>(CSRF)? {
        // Hashing first makes the comparison independent of where the two differ.
        Some(token) if hash(&token) == hash(sent) => Ok(()),
        _ => Err(PageError::Csrf),
    }
}

/// Starts a session for a person whose password was right.
pub(crate) async fn begin(
    state: &web::Data<AppState>,
    session: &Session,
    user_id: i64,
) -> Result<(), PageError> {
    let token = random_hex();
    let hashed = hash(&token);
    db(state, move |store| store.create_session(&hashed, user_id, Timestamp::now(), LENGTH)).await?;
    session.renew();
    // The form token stays: after a session that ran out, a form that is still open can be sent
    // once its writer has signed in again.
    session.insert(TOKEN, token)?;
    Ok(())
}

/// Ends the session on the server and forgets the cookie.
pub(crate) async fn end(state: &web::Data<AppState>, session: &Session) -> Result<(), PageError> {
    if let Some(token) = session.get::<String>(TOKEN)? {
        let hashed = hash(&token);
        db(state, move |store| store.end_session(&hashed)).await?;
    }
    session.purge();
    Ok(())
}

/// Something to say on the next page, with a way back when there is one.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Flash {
    pub text: String,
    /// Address of a form that takes the step back.
    pub undo: Option<String>,
}

pub(crate) fn flash(
    session: &Session,
    text: impl Into<String>,
    undo: Option<String>,
) -> Result<(), PageError> {
    Ok(session.insert(FLASH, Flash { text: text.into(), undo })?)
}

/// Somebody signed in, of whatever role.
pub(crate) struct SignedIn {
    pub user: User,
    pub session: Session,
}

impl SignedIn {
    pub fn may_edit(&self) -> bool {
        self.user.role >= Role::Technician
    }

    pub fn csrf(&self) -> Result<String, PageError> {
        csrf(&self.session)
    }

    pub fn take_flash(&self) -> Option<Flash> {
        self.session.remove_as::<Flash>(FLASH).and_then(Result::ok)
    }
}

async fn signed_in(state: Option<web::Data<AppState>>, session: Session) -> Result<SignedIn, PageError> {
    let state = state.ok_or(PageError::NotFound)?;
    let Some(token) = session.get::<String>(TOKEN)? else { return Err(PageError::SignIn) };
    let hashed = hash(&token);
    let user = db(&state, move |store| store.session_user(&hashed, Timestamp::now())).await?;
    match user {
        Some(user) => Ok(SignedIn { user, session }),
        None => Err(PageError::SignIn),
    }
}

impl FromRequest for SignedIn {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let state = request.app_data::<web::Data<AppState>>().cloned();
        let session = request.get_session();
        Box::pin(signed_in(state, session))
    }
}

/// Somebody signed in whose role is this or a higher one.
fn at_least(role: Role, request: &HttpRequest, payload: &mut Payload) -> Extracted<SignedIn> {
    let who = SignedIn::from_request(request, payload);
    Box::pin(async move {
        let who = who.await?;
        if who.user.role >= role { Ok(who) } else { Err(PageError::Forbidden) }
    })
}

/// Somebody who may change sites: a technician or the owner.
pub(crate) struct Editor(pub SignedIn);

impl FromRequest for Editor {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let who = at_least(Role::Technician, request, payload);
        Box::pin(async move { who.await.map(Self) })
    }
}

/// The owner.
pub(crate) struct Owner(pub SignedIn);

impl FromRequest for Owner {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let who = at_least(Role::Owner, request, payload);
        Box::pin(async move { who.await.map(Self) })
    }
}

/// The fields of a sent form whose token was right. Values are trimmed.
#[derive(Debug, Clone, Default)]
pub(crate) struct Fields(pub BTreeMap<String, String>);

impl Fields {
    pub fn get(&self, name: &str) -> &str {
        self.0.get(name).map_or("", String::as_str)
    }
}

impl FromRequest for Fields {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let session = request.get_session();
        let form = web::Form::<Vec<(String, String)>>::from_request(request, payload);
        Box::pin(async move {
            let form = form.await.map_err(|error| PageError::BadRequest(error.to_string()))?;
            let fields: BTreeMap<String, String> =
                form.into_inner().into_iter().map(|(k, v)| (k, v.trim().to_owned())).collect();
            check_csrf(&session, fields.get(CSRF).map_or("", String::as_str))?;
            Ok(Self(fields))
        })
    }
}
