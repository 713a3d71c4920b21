//! The second factor: codes of six digits that a telephone makes of a shared secret (RFC 6238), and spare codes.

use super::{SignInPage, not_own, opened};
use crate::page::frame::Frame;
use crate::page::qr::qr;
use crate::server::error::{PageError, page, page_with, see_other};
use crate::server::keys::KeyFault;
use crate::server::session::{self, Fields, Owner, SignedIn, csrf, flash};
use crate::server::state::{AppState, read, with_store};
use crate::server::visitor::address_of;
use actix_session::Session;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use askama::Template;
use serde::{Deserialize, Serialize};
use totp_rs::{Algorithm, TOTP};

/// Digits of a code, and seconds that one stands for: what every application for codes takes.
const DIGITS: usize = 6;
const STEP_S: u64 = 30;
/// Codes of so many steps before and after count: clocks of telephones go a little wrong.
const SKEW: i64 = 1;
/// Bytes of a secret: those of the hash (RFC 4226, section 4).
const SECRET_BYTES: usize = 20;
/// Spare codes that are handed out.
const SPARE: usize = 8;
/// How long the code may be waited for after the password, seconds.
const PATIENCE_S: i64 = 300;
/// Where the session keeps who still owes a code.
const OWING: &str = "owing";

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(code_page)
        .service(with_code)
        .service(factor_page)
        .service(begin)
        .service(confirm)
        .service(leave)
        .service(reset);
}

/// Seconds since 1970, by real time: a telephone knows no clock of a demo.
fn real_s() -> i64 {
    crate::server::clock::exactly(None).as_second()
}

fn totp(secret: Vec<u8>, login: &str) -> Result<TOTP, PageError> {
    let name = "Upland Almanac".to_owned();
    TOTP::new(Algorithm::SHA1, DIGITS, 0, STEP_S, secret, Some(name), login.replace(':', "_"))
        .map_err(|error| PageError::Session(error.to_string()))
}

/// A secret that cannot be used is the installation's fault; the log says which.
fn unusable(fault: KeyFault) -> PageError {
    PageError::Session(fault.words().to_owned())
}

/// The step of which a text is the code, if it is one of those that count at an instant.
fn step_of(totp: &TOTP, code: &str, at_s: i64) -> Option<i64> {
    let digits: String = code.chars().filter(char::is_ascii_digit).collect();
    let step_s = i64::try_from(STEP_S).ok()?;
    let now = at_s.div_euclid(step_s);
    (now - SKEW..=now + SKEW).find(|step| {
        let begins = u64::try_from(step * step_s).unwrap_or(0);
        digits.len() == DIGITS && totp.generate(begins) == digits
    })
}

/// A spare code as it is kept: typed with or without its dash.
fn spare_hash(code: &str) -> Vec<u8> {
    let plain: String = code.chars().filter(char::is_ascii_alphanumeric).collect();
    session::hash(&plain.to_lowercase())
}

/// Somebody whose password was right and whose code is waited for.
#[derive(Serialize, Deserialize)]
struct Owing {
    user: i64,
    login: String,
    since_s: i64,
    /// The hash of the password's hash: another password, or an account that was deactivated, ends the wait.
    password: Vec<u8>,
}

/// Somebody whose password was right.
pub(super) struct Known<'a> {
    pub user: i64,
    pub login: &'a str,
    pub password_hash: &'a str,
}

/// After the right password: signs in, or asks for the code first.
pub(super) async fn after_password(
    state: &web::Data<AppState>,
    session: &Session,
    known: Known<'_>,
) -> Result<HttpResponse, PageError> {
    let Known { user, login, password_hash } = known;
    let factor = read(state, move |snapshot| snapshot.factor(user)).await?;
    if factor.is_some_and(|factor| factor.secret.is_some()) {
        let password = session::hash(password_hash);
        session.insert(OWING, Owing { user, login: login.to_owned(), since_s: real_s(), password })?;
        return Ok(see_other("/sign-in/code"));
    }
    tracing::info!(user, "signed in");
    session::remember_device(session, login)?;
    session::begin(state, session, user).await?;
    Ok(see_other("/"))
}

fn owing(session: &Session) -> Result<Option<Owing>, PageError> {
    let owing = session.get::<Owing>(OWING)?;
    Ok(owing.filter(|owing| (0..PATIENCE_S).contains(&(real_s() - owing.since_s))))
}

#[derive(Template)]
#[template(path = "chapters/accounts/code.html")]
struct CodePage {
    csrf: String,
    error: Option<&'static str>,
}

#[get("/sign-in/code")]
async fn code_page(session: Session) -> Result<HttpResponse, PageError> {
    match owing(&session)? {
        Some(_) => page(&CodePage { csrf: csrf(&session)?, error: None }),
        None => Ok(see_other("/sign-in")),
    }
}

#[post("/sign-in/code")]
async fn with_code(
    state: web::Data<AppState>,
    session: Session,
    request: HttpRequest,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let Some(owing) = owing(&session)? else {
        let error = Some("The code took too long. Sign in once more.");
        let page = SignInPage { csrf: csrf(&session)?, login: String::new(), error };
        return page_with(StatusCode::UNPROCESSABLE_ENTITY, &page);
    };
    let origin = session::origin_of(&session, &owing.login, &address_of(&request));
    let (login, from) = (owing.login.clone(), origin.clone());
    let still = with_store(&state, move |store| store.credentials(&login)).await?;
    let still = still.is_some_and(|known| {
        known.user.id == owing.user && session::hash(&known.password_hash) == owing.password
    });
    if !still {
        session.remove(OWING);
        return Ok(see_other("/sign-in"));
    }
    let login = owing.login.clone();
    if !with_store(&state, move |store| store.begin_sign_in(&login, &from)).await? {
        let error = Some("Too many attempts that failed. Wait a few minutes, then try again.");
        return page_with(StatusCode::TOO_MANY_REQUESTS, &CodePage { csrf: csrf(&session)?, error });
    }
    let (user, typed) = (owing.user, fields.get("code").to_owned());
    let factor = read(&state, move |snapshot| snapshot.factor(user)).await?;
    let rests = factor.and_then(|factor| factor.secret).ok_or(PageError::SignIn)?;
    let secret = state.keys.open(user, &rests).map_err(unusable)?;
    let step = step_of(&totp(secret, &owing.login)?, &typed, real_s());
    let is_right = with_store(&state, move |store| match step {
        Some(step) => store.use_step(user, step),
        None => store.use_spare(user, &spare_hash(&typed)),
    });
    if !is_right.await? {
        let error = Some("This is no code of now, or it was used. Take the next one, or a spare code.");
        return page_with(StatusCode::UNPROCESSABLE_ENTITY, &CodePage { csrf: csrf(&session)?, error });
    }
    session.remove(OWING);
    tracing::info!(user, "signed in with a code");
    opened(&state, &owing.login, &origin).await?;
    session::remember_device(&session, &owing.login)?;
    session::begin(&state, &session, user).await?;
    Ok(see_other("/"))
}

#[derive(Template)]
#[template(path = "chapters/accounts/factor.html")]
struct FactorPage {
    frame: Frame,
    on: bool,
    /// Spare codes that are left.
    left: i64,
    /// The secret as a drawing and as letters, while it waits for its first code.
    pending: Option<(String, String)>,
    /// Spare codes, shown this once.
    spare: Vec<String>,
    error: Option<&'static str>,
}

async fn draw(
    state: &web::Data<AppState>,
    who: &SignedIn,
    status: StatusCode,
    error: Option<&'static str>,
    spare: Vec<String>,
) -> Result<HttpResponse, PageError> {
    let id = who.user.id;
    let factor = read(state, move |snapshot| snapshot.factor(id)).await?.ok_or(PageError::NotFound)?;
    let pending = match factor.pending {
        Some(rests) => {
            let secret = state.keys.open(id, &rests).map_err(unusable)?;
            let totp = totp(secret, &who.user.login)?;
            Some((qr(&totp.get_url())?, totp.get_secret_base32()))
        }
        None => None,
    };
    let (on, left) = (factor.secret.is_some(), factor.spare);
    page_with(
        status,
        &FactorPage { frame: Frame::new(who, "Second factor")?, on, left, pending, spare, error },
    )
}

#[get("/me/factor")]
async fn factor_page(state: web::Data<AppState>, who: SignedIn) -> Result<HttpResponse, PageError> {
    draw(&state, &who, StatusCode::OK, None, Vec::new()).await
}

#[post("/me/factor")]
async fn begin(state: web::Data<AppState>, who: SignedIn, fields: Fields) -> Result<HttpResponse, PageError> {
    if let Some((status, words)) = not_own(&state, &who, fields.get("now")).await? {
        return draw(&state, &who, status, Some(words), Vec::new()).await;
    }
    let id = who.user.id;
    let secret = state.keys.seal(id, &rand::random::<[u8; SECRET_BYTES]>()).map_err(unusable)?;
    with_store(&state, move |store| store.begin_factor(id, &secret)).await?;
    Ok(see_other("/me/factor"))
}

#[post("/me/factor/confirm")]
async fn confirm(
    state: web::Data<AppState>,
    who: SignedIn,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = who.user.id;
    let factor = read(&state, move |snapshot| snapshot.factor(id)).await?;
    let Some(rests) = factor.and_then(|factor| factor.pending) else { return Ok(see_other("/me/factor")) };
    let secret = state.keys.open(id, &rests).map_err(unusable)?;
    let Some(step) = step_of(&totp(secret, &who.user.login)?, fields.get("code"), real_s()) else {
        let error =
            Some("This is no code of now. Look at the clock of the telephone, and type the next one.");
        return draw(&state, &who, StatusCode::UNPROCESSABLE_ENTITY, error, Vec::new()).await;
    };
    let spare: Vec<String> = (0..SPARE)
        .map(|_| {
            let text = hex::encode(rand::random::<[u8; 5]>());
            let (a, b) = text.split_at(5);
            format!("{a}-{b}")
        })
        .collect();
    let hashes: Vec<Vec<u8>> = spare.iter().map(|code| spare_hash(code)).collect();
    if !with_store(&state, move |store| store.confirm_factor(id, &rests, step, &hashes)).await? {
        return Ok(see_other("/me/factor"));
    }
    draw(&state, &who, StatusCode::OK, None, spare).await
}

#[post("/me/factor/leave")]
async fn leave(state: web::Data<AppState>, who: SignedIn, fields: Fields) -> Result<HttpResponse, PageError> {
    if let Some((status, words)) = not_own(&state, &who, fields.get("now")).await? {
        return draw(&state, &who, status, Some(words), Vec::new()).await;
    }
    let id = who.user.id;
    with_store(&state, move |store| store.drop_factor(id, id)).await?;
    flash(&who.session, "You sign in with the password alone again.", None)?;
    Ok(see_other("/me"))
}

/// The owner takes the factor of somebody whose telephone and spare codes are lost.
#[post("/people/{id}/factor")]
async fn reset(
    state: web::Data<AppState>,
    Owner(who): Owner,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (id, actor) = (*id, who.user.id);
    let said = match with_store(&state, move |store| store.drop_factor(id, actor)).await? {
        true => {
            "The second factor is taken away; hand over a link for a new password as well if the telephone was stolen."
        }
        false => "There was no second factor.",
    };
    flash(&who.session, said, None)?;
    Ok(see_other("/people"))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// RFC 6238, appendix B: the secret "12345678901234567890" and its codes by SHA-1, of which the last six digits are taken.
    #[test]
    fn codes_are_those_of_the_standard_and_count_one_step_to_either_side() {
        let totp = totp(b"12345678901234567890".to_vec(), "isla").unwrap();
        for (at, code) in
            [(59, "287082"), (1_111_111_109, "081804"), (1_234_567_890, "005924"), (2_000_000_000, "279037")]
        {
            let step = at / 30;
            for near in [at - 30, at, at + 30] {
                assert_eq!(step_of(&totp, code, near), Some(step), "{at} at {near}");
            }
            assert_eq!(step_of(&totp, code, at + 90), None);
            assert_eq!(
                step_of(&totp, &format!("{} {}", &code[..3], &code[3..]), at),
                Some(step),
                "as telephones show it"
            );
        }
        for wrong in ["", "28708", "2870820", "ABCDEF", "０２８７０８"] {
            assert_eq!(step_of(&totp, wrong, 59), None, "{wrong}");
        }
    }

    #[test]
    fn a_spare_code_is_read_as_people_type_it_and_the_address_names_the_program() {
        assert_eq!(spare_hash("ab12c-d34ef"), spare_hash(" AB12C D34EF "));
        assert_ne!(spare_hash("ab12c-d34ef"), spare_hash("ab12c-d34ee"));
        let url = totp(vec![7; SECRET_BYTES], "is:la").unwrap().get_url();
        assert!(url.starts_with("otpauth://totp/Upland%20Almanac:is_la?secret="), "{url}");
    }
}
