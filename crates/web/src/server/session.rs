//! Who asks: the session, its form token, and what waits to be said after a redirect.

use crate::server::clock;
use crate::server::digest::first_bytes;
use crate::server::error::PageError;
use crate::server::request_locale;
use crate::server::state::{AppState, with_store};
use actix_session::{Session, SessionExt};
use actix_web::dev::Payload;
use actix_web::{FromRequest, HttpMessage, HttpRequest, web};
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::future::Future;
use std::pin::Pin;
use upland_formats::typed::{self, Read};
use upland_store::accounts::{Capability, SiteStamp, User};
use upland_store::scope::Scope;
use upland_store::sign_ins;

/// A session lasts this long; the cookie as well.
pub(crate) const LENGTH: SignedDuration = SignedDuration::from_hours(30 * 24);

const TOKEN: &str = "token";
const CSRF: &str = "csrf";
const FLASH: &str = "flash";
/// Survives signing out.
const KNOWN: &str = "known";

type Extracted<T> = Pin<Box<dyn Future<Output = Result<T, PageError>>>>;

pub(crate) fn random_hex() -> String {
    hex::encode(rand::random::<[u8; 32]>())
}

pub(crate) fn hash(token: &str) -> Vec<u8> {
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
    with_store(state, move |store| store.create_session(&hashed, user_id, LENGTH)).await?;
    session.renew();
    // The form token stays: after a session that ran out, a form that is still open can be sent
    // once its writer has signed in again.
    session.insert(TOKEN, token)?;
    Ok(())
}

/// The devices that a browser is, by the name it signed in under: first the hash of the name, then the device.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct KnownAs(Vec<KnownName>);

#[derive(Debug, Clone, Serialize, Deserialize)]
struct KnownName {
    login: String,
    device: String,
}

/// Names that a browser is known under at most.
const MOST_KNOWN: usize = 4;

fn login_key(login: &str) -> String {
    hex::encode(first_bytes::<8>(&hash(login)))
}

/// Where a try to sign in comes from: the device, where it has signed in under this name before, else an address.
pub(crate) fn origin_of(session: &Session, login: &str, address: &str) -> String {
    let known = session.get::<KnownAs>(KNOWN).ok().flatten().unwrap_or_default();
    let own = known.0.iter().find(|name| name.login == login_key(login));
    own.map_or_else(|| address.to_owned(), |own| sign_ins::known_device(&own.device))
}

/// Remembers that this browser has signed in under a name.
pub(crate) fn remember_device(session: &Session, login: &str) -> Result<(), PageError> {
    let mut known = session.get::<KnownAs>(KNOWN)?.unwrap_or_default();
    let login = login_key(login);
    if !known.0.iter().any(|name| name.login == login) {
        let device = hex::encode(rand::random::<[u8; 8]>());
        known.0.insert(0, KnownName { login, device });
        known.0.truncate(MOST_KNOWN);
        session.insert(KNOWN, known)?;
    }
    Ok(())
}

/// The hash of the token of a session; empty where nobody is signed in.
pub(crate) fn own_hash(session: &Session) -> Result<Vec<u8>, PageError> {
    Ok(session.get::<String>(TOKEN)?.map_or(Vec::new(), |token| hash(&token)))
}

/// Ends the session on the server and forgets all of the cookie but that the browser is known.
pub(crate) async fn end(state: &web::Data<AppState>, session: &Session) -> Result<(), PageError> {
    if let Some(token) = session.get::<String>(TOKEN)? {
        let hashed = hash(&token);
        with_store(state, move |store| store.end_session(&hashed)).await?;
    }
    let known = session.get::<KnownAs>(KNOWN)?;
    session.clear();
    session.renew();
    // Somebody who fails on purpose must not keep this browser out of its own account later.
    if let Some(known) = known {
        session.insert(KNOWN, known)?;
    }
    Ok(())
}

/// Letters that are said on the next page at most.
const LONGEST_FLASH: usize = 500;

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
    let mut text: String = text.into();
    // A cookie holds four kilobytes, and what does not fit would fail a request that was stored already.
    if let Some((end, _)) = text.char_indices().nth(LONGEST_FLASH) {
        text.truncate(end);
        text.push('…');
    }
    Ok(session.insert(FLASH, Flash { text, undo })?)
}

/// A key that a phone made, or one of this request.
pub(crate) fn client_key(text: &str) -> Result<String, PageError> {
    if text.is_empty() {
        return Ok(random_hex());
    }
    let good = (16..=80).contains(&text.len()) && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '-');
    good.then(|| text.to_owned()).ok_or_else(|| {
        PageError::BadRequest("The entry has no usable key. Reload the page and enter it again.".into())
    })
}

/// Somebody signed in, of whatever role.
#[derive(Clone)]
pub(crate) struct SignedIn {
    pub user: User,
    /// The sites that the person sees.
    pub scope: Scope,
    pub session: Session,
    /// What the application's clock shows, to the minute.
    pub now: Timestamp,
    /// Whether that is another time than the real one: the clock of a demo.
    pub demo_clock: bool,
}

impl SignedIn {
    pub fn may_edit(&self) -> bool {
        self.user.role.may(Capability::ChangeSites)
    }

    pub fn csrf(&self) -> Result<String, PageError> {
        csrf(&self.session)
    }

    pub fn take_flash(&self) -> Option<Flash> {
        self.session.remove_as::<Flash>(FLASH).and_then(Result::ok)
    }
}

/// Who asks, and where the facts of the site in the address stand. Every page begins with it; the database is
/// asked once a request, however many extractors need the answer.
#[derive(Clone)]
pub(crate) struct Asking {
    pub state: web::Data<AppState>,
    pub who: SignedIn,
    pub site: Option<SiteStamp>,
    /// Where the facts of all sites stand; `None` when the address names a site.
    pub everywhere: Option<i64>,
}

async fn ask(
    state: Option<web::Data<AppState>>,
    session: Session,
    site_id: Option<i64>,
) -> Result<Asking, PageError> {
    let state = state.ok_or(PageError::NotFound)?;
    let Some(token) = session.get::<String>(TOKEN)? else { return Err(PageError::SignIn) };
    let hashed = hash(&token);
    let asked = with_store(&state, move |store| store.asked(&hashed, site_id)).await?;
    let Some(asked) = asked else { return Err(PageError::SignIn) };
    state.heard_clock(asked.clock_ahead);
    request_locale::answer_in(asked.user.habit);
    let now = clock::now(asked.clock_ahead);
    let who = SignedIn {
        user: asked.user,
        scope: asked.scope,
        session,
        now,
        demo_clock: asked.clock_ahead.is_some(),
    };
    Ok(Asking { state, who, site: asked.site, everywhere: asked.everywhere })
}

impl FromRequest for Asking {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        if let Some(known) = request.extensions().get::<Self>() {
            let known = known.clone();
            return Box::pin(async move { Ok(known) });
        }
        let state = request.app_data::<web::Data<AppState>>().cloned();
        let session = request.get_session();
        let of_site = request.path().starts_with("/sites/");
        let site_id = request.match_info().get("id").filter(|_| of_site).and_then(|id| id.parse().ok());
        let request = request.clone();
        Box::pin(async move {
            let asking = ask(state, session, site_id).await?;
            request.extensions_mut().insert(asking.clone());
            Ok(asking)
        })
    }
}

impl FromRequest for SignedIn {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let asking = Asking::from_request(request, payload);
        Box::pin(async move { Ok(asking.await?.who) })
    }
}

/// Somebody signed in whose role may do something.
fn who_may(capability: Capability, request: &HttpRequest, payload: &mut Payload) -> Extracted<SignedIn> {
    let who = SignedIn::from_request(request, payload);
    Box::pin(async move {
        let who = who.await?;
        if who.user.role.may(capability) { Ok(who) } else { Err(PageError::Forbidden) }
    })
}

/// Somebody who may change sites.
pub(crate) struct Editor(pub SignedIn);

impl FromRequest for Editor {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let who = who_may(Capability::ChangeSites, request, payload);
        Box::pin(async move { who.await.map(Self) })
    }
}

/// Somebody who may manage accounts: the owner.
pub(crate) struct Owner(pub SignedIn);

impl FromRequest for Owner {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let who = who_may(Capability::ManageAccounts, request, payload);
        Box::pin(async move { who.await.map(Self) })
    }
}

/// The fields of a sent form whose token was right. Values are trimmed, but for passwords.
#[derive(Debug, Clone, Default)]
pub(crate) struct Fields(pub BTreeMap<String, String>);

impl Fields {
    /// What was typed, without what the form carries for itself.
    pub fn shown(&self) -> BTreeMap<String, String> {
        let own = |name: &str| matches!(name, CSRF | "base_version" | "units" | "then");
        self.0.iter().filter(|(name, _)| !own(name)).map(|(k, v)| (k.clone(), v.clone())).collect()
    }

    /// A typed day; without a year it is the nearest to today.
    pub fn date(&self, name: &str, today: Date) -> Read<Date> {
        typed::date(self.get(name), today, request_locale::habit())
    }

    pub fn get(&self, name: &str) -> &str {
        self.0.get(name).map_or("", String::as_str)
    }
}

/// Fields in which spaces at the ends are meant.
const PASSWORDS: [&str; 3] = ["password", "again", "now"];

fn trimmed<'a>(name: &str, value: &'a str) -> &'a str {
    if PASSWORDS.contains(&name) { value } else { value.trim() }
}

impl FromRequest for Fields {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let session = request.get_session();
        let form = web::Form::<Vec<(String, String)>>::from_request(request, payload);
        Box::pin(async move {
            let form = form.await.map_err(|error| PageError::BadRequest(error.to_string()))?;
            let fields: BTreeMap<String, String> = form
                .into_inner()
                .into_iter()
                .map(|(k, v)| {
                    let v = trimmed(&k, &v).to_owned();
                    (k, v)
                })
                .collect();
            check_csrf(&session, fields.get(CSRF).map_or("", String::as_str))?;
            if fields.values().any(|value| value.contains('\0')) {
                return Err(PageError::BadRequest(
                    "A field has a character that cannot be stored (NUL). Type it again without.".into(),
                ));
            }
            Ok(Self(fields))
        })
    }
}
