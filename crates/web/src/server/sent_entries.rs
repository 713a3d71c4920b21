//! Entries that a phone kept while there was no network, and sends with a key of its own: each is applied once, and
//! answered in a few words that its script reads instead of a page.

use crate::server::error::PageError;
use crate::server::session::{Asking, Fields, SignedIn};
use crate::server::state::{AppState, with_store};
use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::StatusCode;
use actix_web::http::header::LOCATION;
use actix_web::middleware::Next;
use actix_web::{HttpMessage, HttpResponse, web};
use jiff::Timestamp;
use serde_json::{Value, json};
use upland_store::phone::SentBefore;

/// The header with the key of an entry.
const KEY: &str = "x-entry-key";

/// Oldest entry whose own time counts, hours: an older clock is not believed.
const OLDEST_H: i64 = 48;

/// When something was entered: what a phone kept has a time of its own, as far as its clock can be believed; else now.
pub(crate) fn entered_at(fields: &Fields, now: Timestamp) -> Timestamp {
    let own: Option<Timestamp> = fields.get("at").parse().ok();
    own.filter(|at| *at <= now && now.duration_since(*at).as_hours() < OLDEST_H).unwrap_or(now)
}

/// An entry that was begun when a server stopped: whether it was applied can only be seen.
const MAYBE: &str =
    "It may have been applied already. Look at the page; discard the entry here if it is there.";

/// The answer to an entry that was not applied because of an error: whether it may be sent again as it is, and why.
fn refusal(error: &PageError, status: StatusCode) -> Value {
    let again = status.is_server_error()
        || matches!(
            error,
            PageError::SignIn | PageError::SignedOut | PageError::Csrf | PageError::TooOften(_)
        );
    json!({ "kept": false, "again": again, "text": error.to_string(), "more": [] })
}

/// Applies an entry once; what is no entry passes.
pub(crate) async fn once(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let key = request.headers().get(KEY).and_then(|value| value.to_str().ok());
    let key =
        key.filter(|key| key.len() == 32 && key.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f')));
    let key = key.map(str::to_owned);
    let (Some(key), Some(state)) = (key, request.app_data::<web::Data<AppState>>().cloned()) else {
        return Ok(next.call(request).await?.map_into_left_body());
    };
    let who = request.extract::<SignedIn>().await;
    // Asked before the address was matched, so that it knows no site; the handler asks anew.
    request.extensions_mut().remove::<Asking>();
    let begun = match who {
        Ok(who) => {
            let (key, user) = (key.clone(), who.user.id);
            with_store(&state, move |store| store.begin_sent_entry(&key, user)).await
        }
        Err(error) => Err(error),
    };
    let told = match begun {
        Ok(SentBefore::New) => None,
        Ok(SentBefore::Applied) => {
            Some((StatusCode::OK, json!({ "kept": true, "text": "It was here already.", "more": [] })))
        }
        Ok(SentBefore::Running) => Some((
            StatusCode::CONFLICT,
            json!({ "kept": false, "again": true, "text": "It is being applied.", "more": [] }),
        )),
        Ok(SentBefore::Unknown) => {
            Some((StatusCode::CONFLICT, json!({ "kept": false, "text": MAYBE, "more": [] })))
        }
        Err(error) => {
            let status = actix_web::ResponseError::status_code(&error);
            Some((status, refusal(&error, status)))
        }
    };
    if let Some((status, body)) = told {
        let (request, _) = request.into_parts();
        let answer = HttpResponse::build(status).json(body);
        return Ok(ServiceResponse::new(request, answer).map_into_right_body());
    }
    let response = next.call(request).await?;
    let status = response.status();
    let is_applied = status.is_success() || status.is_redirection();
    with_store(&state, move |store| store.end_sent_entry(&key, is_applied)).await?;
    let location = response.headers().get(LOCATION).and_then(|to| to.to_str().ok()).map(str::to_owned);
    let body = match (response.response().error().and_then(|error| error.as_error::<PageError>()), location) {
        (Some(error), _) => refusal(error, status),
        (None, Some(to)) => json!({ "kept": true, "to": to, "text": "Kept.", "more": [] }),
        // It answers for itself: in words for a script, or with a page that says what is wrong at its fields.
        (None, None) => return Ok(response.map_into_left_body()),
    };
    let status = if status.is_redirection() { StatusCode::OK } else { status };
    let (request, _) = response.into_parts();
    let answer = HttpResponse::build(status).json(body);
    Ok(ServiceResponse::new(request, answer).map_into_right_body())
}
