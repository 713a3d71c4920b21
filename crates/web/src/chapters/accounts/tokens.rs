//! Tokens by which other software reads in one's name: what each may read, when it was last used, and its end.

use crate::page::dates::DateFormat;
use crate::page::frame::Frame;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, SignedIn, flash, hash, random_hex};
use crate::server::state::{AppState, read, with_store};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::tz::TimeZone;
use upland_store::api_tokens::{ApiToken, ReadScope};

/// Longest name, characters.
const LONGEST: usize = 80;
/// Tokens of a person that open something.
const MOST: usize = 20;
/// Where a token that was just made waits to be shown once.
const SHOWN_ONCE: &str = "api_token";

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(tokens_page).service(make).service(revoke);
}

struct TokenLine {
    id: i64,
    name: String,
    reads: String,
    used: String,
    revoked: bool,
}

struct ScopeTick {
    code: &'static str,
    words: &'static str,
    ticked: bool,
}

#[derive(Template)]
#[template(path = "chapters/accounts/tokens.html")]
struct TokensPage {
    frame: Frame,
    tokens: Vec<TokenLine>,
    scopes: Vec<ScopeTick>,
    name: String,
    errors: Vec<String>,
    /// The one that was just made.
    new_token: Option<String>,
}

const fn words(scope: ReadScope) -> &'static str {
    match scope {
        ReadScope::Sites => "the sites, with their cards and surveys, without access notes",
        ReadScope::Settings => "what controllers are set to",
        ReadScope::Nights => "nights, the weekly list and notices",
        ReadScope::Account => "the water of each zone, day by day",
    }
}

fn line(token: ApiToken) -> TokenLine {
    let hour = |at: jiff::Timestamp| at.to_zoned(TimeZone::UTC).formatted("%-d %b %Y, %H:%M");
    let codes: Vec<&str> = token.scopes.iter().map(|scope| scope.code()).collect();
    TokenLine {
        id: token.id,
        name: token.name,
        reads: codes.join(", "),
        used: match token.used_at {
            Some(at) => format!("last used {}, to the hour, universal time", hour(at)),
            None => "never used".to_owned(),
        },
        revoked: token.revoked_at.is_some(),
    }
}

fn ticked(fields: &Fields) -> Vec<ReadScope> {
    ReadScope::ALL.into_iter().filter(|scope| fields.get(scope.code()) == "yes").collect()
}

async fn draw(
    state: &web::Data<AppState>,
    who: &SignedIn,
    new_token: Option<String>,
    refused: Option<(&Fields, Vec<String>)>,
) -> Result<HttpResponse, PageError> {
    let id = who.user.id;
    let tokens = read(state, move |snapshot| snapshot.api_tokens(id)).await?;
    let status = if refused.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let chosen = refused
        .as_ref()
        .map_or_else(|| vec![ReadScope::Sites, ReadScope::Nights], |(typed, _)| ticked(typed));
    let tick = |scope: ReadScope| ScopeTick {
        code: scope.code(),
        words: words(scope),
        ticked: chosen.contains(&scope),
    };
    page_with(
        status,
        &TokensPage {
            frame: Frame::new(who, "Tokens for other software")?,
            tokens: tokens.into_iter().map(line).collect(),
            scopes: ReadScope::ALL.into_iter().map(tick).collect(),
            name: refused.as_ref().map_or(String::new(), |(typed, _)| typed.get("name").to_owned()),
            errors: refused.map(|(_, errors)| errors).unwrap_or_default(),
            new_token,
        },
    )
}

#[get("/me/tokens")]
async fn tokens_page(state: web::Data<AppState>, who: SignedIn) -> Result<HttpResponse, PageError> {
    let new_token = who.session.remove_as::<String>(SHOWN_ONCE).and_then(Result::ok);
    draw(&state, &who, new_token, None).await
}

/// What is wrong about a token that is asked for.
fn faults(name: &str, scopes: &[ReadScope]) -> Vec<String> {
    let mut faults = Vec::new();
    if name.is_empty() || name.chars().count() > LONGEST {
        faults.push(format!("Name the software that will use it, in at most {LONGEST} letters."));
    }
    if scopes.is_empty() {
        faults.push("Tick what it may read.".to_owned());
    }
    faults
}

#[post("/me/tokens")]
async fn make(state: web::Data<AppState>, who: SignedIn, fields: Fields) -> Result<HttpResponse, PageError> {
    let (name, scopes) = (fields.get("name").to_owned(), ticked(&fields));
    let mut errors = faults(&name, &scopes);
    let id = who.user.id;
    let known = read(&state, move |snapshot| snapshot.api_tokens(id)).await?;
    if known.iter().filter(|token| token.revoked_at.is_none()).count() >= MOST {
        errors.push(format!("You have {MOST} tokens already. Revoke one that is not used any more."));
    }
    if !errors.is_empty() {
        return draw(&state, &who, None, Some((&fields, errors))).await;
    }
    let token = random_hex();
    let hashed = hash(&token);
    with_store(&state, move |store| store.make_api_token(id, &name, &scopes, &hashed)).await?;
    who.session.insert(SHOWN_ONCE, token)?;
    Ok(see_other("/me/tokens"))
}

#[post("/me/tokens/{api_token}/revoke")]
async fn revoke(
    state: web::Data<AppState>,
    who: SignedIn,
    token: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (user, id) = (who.user.id, *token);
    if !with_store(&state, move |store| store.revoke_api_token(user, id)).await? {
        return Err(PageError::NotFound);
    }
    flash(&who.session, "The token opens nothing any more. Make a new one where it is still needed.", None)?;
    Ok(see_other("/me/tokens"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_has_a_name_and_reads_something() {
        assert!(faults("Office screen", &[ReadScope::Nights]).is_empty());
        assert_eq!(faults("", &[]).len(), 2);
        assert_eq!(faults(&"x".repeat(81), &[ReadScope::Nights]).len(), 1);
        let typed = [("sites", "yes"), ("nights", "no"), ("elsewhere", "yes")];
        let fields = Fields(typed.into_iter().map(|(k, v)| (k.to_owned(), v.to_owned())).collect());
        assert_eq!(ticked(&fields), [ReadScope::Sites]);
    }

    #[test]
    fn a_line_says_what_a_token_reads_and_when_it_was_used() {
        let at: jiff::Timestamp = "2026-07-14T18:00:00Z".parse().unwrap();
        let token = ApiToken {
            id: 1,
            name: "Office screen".into(),
            scopes: vec![ReadScope::Sites, ReadScope::Nights],
            made_at: at,
            used_at: Some(at),
            revoked_at: None,
        };
        let shown = line(token.clone());
        assert_eq!((shown.reads.as_str(), shown.revoked), ("sites, nights", false));
        assert_eq!(shown.used, "last used 14 Jul 2026, 18:00, to the hour, universal time");
        let ended = line(ApiToken { used_at: None, revoked_at: Some(at), ..token });
        assert_eq!((ended.used.as_str(), ended.revoked), ("never used", true));
    }
}
