//! Who reads: the person of a token, what that may read, and where the facts stand. No session of a browser counts here.

use super::error::ApiError;
use crate::server::clock;
use crate::server::request_locale;
use crate::server::session::{Asking, SignedIn, hash};
use crate::server::state::{AppState, with_store};
use crate::server::visitor::address_of;
use crate::site::context::{AllSites, AtSite};
use actix_session::SessionExt;
use actix_web::{HttpRequest, web};
use serde::de::DeserializeOwned;
use std::str::FromStr;
use upland_store::api_tokens::ReadScope;

/// The token of a request; empty when there is none.
pub(super) fn bearer(request: &HttpRequest) -> &str {
    let sent = request.headers().get("authorization").and_then(|value| value.to_str().ok());
    sent.and_then(|value| value.strip_prefix("Bearer ")).map(str::trim).unwrap_or_default()
}

/// Who reads by the token of a request, about which site.
async fn asking(request: &HttpRequest, scope: ReadScope, site_id: Option<i64>) -> Result<Asking, ApiError> {
    let state = request.app_data::<web::Data<AppState>>().ok_or(ApiError::Failed)?.clone();
    let token = bearer(request);
    if token.is_empty() {
        return Err(ApiError::NoToken);
    }
    let hashed = hash(token);
    if !state.limits.reads(&hashed) {
        return Err(ApiError::TooOften);
    }
    let sent = with_store(&state, move |store| store.sent_token(&hashed, site_id)).await?;
    let Some(sent) = sent else {
        let may_guess = state.limits.guess(&address_of(request));
        return Err(if may_guess { ApiError::UnknownToken } else { ApiError::TooManyGuesses });
    };
    let asked = sent.asked.ok_or(ApiError::Revoked)?;
    if !sent.scopes.contains(&scope) {
        return Err(ApiError::OutOfScope(scope));
    }
    state.heard_clock(asked.clock_ahead);
    request_locale::answer_in(asked.user.habit);
    let who = SignedIn {
        user: asked.user,
        scope: asked.scope,
        session: request.get_session(),
        now: clock::now(asked.clock_ahead),
        demo_clock: asked.clock_ahead.is_some(),
    };
    Ok(Asking { state, who, site: asked.site, everywhere: asked.everywhere })
}

/// The site of an address, read by a token.
pub(super) async fn at_site(request: &HttpRequest, scope: ReadScope) -> Result<AtSite, ApiError> {
    // Who may not read at all is not told what is there.
    let site_id = in_address(request, "id").unwrap_or_default();
    Ok(AtSite::of_asking(asking(request, scope, Some(site_id)).await?).await?)
}

/// A number of the address; nothing has one that cannot be read.
pub(super) fn in_address<T: FromStr>(request: &HttpRequest, name: &str) -> Option<T> {
    request.match_info().get(name)?.parse().ok()
}

/// What is asked for behind the address.
pub(super) fn query<T: DeserializeOwned>(request: &HttpRequest) -> Result<T, ApiError> {
    let read = web::Query::<T>::from_query(request.query_string());
    read.map(web::Query::into_inner).map_err(|error| {
        let words = format!("the address cannot be read: {error}; /api/v1/openapi.json says what it takes");
        ApiError::Unreadable(words)
    })
}

/// All sites of the token's person.
pub(super) async fn all_sites(request: &HttpRequest, scope: ReadScope) -> Result<AllSites, ApiError> {
    Ok(AllSites::of_asking(asking(request, scope, None).await?))
}
