//! Failures as pages: each says what happened and what to do next, and carries a true status.

use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderValue, LOCATION};
use actix_web::{HttpResponse, ResponseError};
use askama::Template;
use upland_store::StoreError;

#[derive(Template)]
#[template(path = "server/error.html")]
struct ErrorPage<'a> {
    title: &'a str,
    message: &'a str,
}

/// A request that cannot be answered with its page.
#[derive(Debug, thiserror::Error)]
pub(crate) enum PageError {
    #[error("there is no such page")]
    NotFound,
    #[error("sign in first")]
    SignIn,
    #[error("the session ended while a form was open")]
    SignedOut,
    #[error("this account may look but not change")]
    Forbidden,
    #[error("the form was not sent from a page of this session")]
    Csrf,
    #[error("{0}")]
    BadRequest(String),
    #[error("{0}")]
    TooOften(String),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("the page could not be drawn: {0}")]
    Render(#[from] askama::Error),
    #[error("the database did not answer in time")]
    Unanswered,
    #[error("the work was broken off: {0}")]
    Blocking(#[from] actix_web::error::BlockingError),
    #[error("the session could not be read: {0}")]
    Session(String),
}

impl From<actix_session::SessionGetError> for PageError {
    fn from(error: actix_session::SessionGetError) -> Self {
        Self::Session(error.to_string())
    }
}

impl From<actix_session::SessionInsertError> for PageError {
    fn from(error: actix_session::SessionInsertError) -> Self {
        Self::Session(error.to_string())
    }
}

impl ResponseError for PageError {
    fn status_code(&self) -> StatusCode {
        match self {
            Self::NotFound => StatusCode::NOT_FOUND,
            Self::SignIn => StatusCode::SEE_OTHER,
            Self::SignedOut => StatusCode::UNAUTHORIZED,
            Self::Forbidden | Self::Csrf => StatusCode::FORBIDDEN,
            Self::BadRequest(_) => StatusCode::BAD_REQUEST,
            Self::TooOften(_) => StatusCode::TOO_MANY_REQUESTS,
            Self::Store(StoreError::Unreachable(_) | StoreError::DiskFull(_)) | Self::Unanswered => {
                StatusCode::SERVICE_UNAVAILABLE
            }
            Self::Store(StoreError::Taken(_) | StoreError::Full(..)) => StatusCode::CONFLICT,
            Self::Store(_) | Self::Render(_) | Self::Blocking(_) | Self::Session(_) => {
                StatusCode::INTERNAL_SERVER_ERROR
            }
        }
    }

    fn error_response(&self) -> HttpResponse {
        if matches!(self, Self::SignIn) {
            return HttpResponse::SeeOther().insert_header(("location", "/sign-in")).finish();
        }
        let (title, message) = match self {
            Self::NotFound => (
                "There is no such page",
                "The address is wrong, or what it showed was removed. Start again from the list of sites.",
            ),
            Self::SignedOut => (
                "You were signed out",
                "Nothing was stored yet. Sign in again in another tab, then come back here with the browser's back button and send the form once more; what you typed is still in it.",
            ),
            Self::Forbidden => (
                "This account may not do that",
                "Ask the owner of this installation for the role that the step needs.",
            ),
            Self::Csrf => (
                "The form was not accepted",
                "The page was open since before you signed in, or the form came from elsewhere. Go back, reload the page and send it again; the browser keeps what you typed.",
            ),
            Self::BadRequest(message) => ("The request could not be read", message.as_str()),
            Self::TooOften(message) => ("Too many in a short time", message.as_str()),
            Self::Store(StoreError::Unreachable(_)) => (
                "The database does not answer",
                "Nothing was stored. Try again in a moment; if it stays so, look at the server's log.",
            ),
            Self::Store(StoreError::DiskFull(_)) => (
                "The disk of the database is full",
                "Nothing was stored. Pages can be read, but nothing can be saved until whoever runs this server frees some disk space. Go back: the browser keeps what you typed.",
            ),
            Self::Unanswered => (
                "The database does not answer",
                "It was waited for three seconds. If you sent something, it is not known whether it was stored: look at the page again in a moment before you send it once more.",
            ),
            Self::Store(StoreError::Taken(what)) => {
                let message =
                    format!("Another {what} by now, so nothing was stored. Go back and choose another.");
                return self.answer("It is taken", &message);
            }
            Self::Store(StoreError::Full(what, most)) => {
                let message = format!(
                    "There are {most} {what} already, and no more at once, so nothing was stored. Take one off the list first."
                );
                return self.answer("The list is full", &message);
            }
            // A database that dies at the commit may have stored all of it.
            _ => (
                "Something failed here",
                "If you sent something, it is not known whether it was stored: look at the page again before you send it once more. The server's log has the cause.",
            ),
        };
        if self.status_code().is_server_error() {
            tracing::error!(error = %self, "request failed");
        }
        self.answer(title, message)
    }
}

impl PageError {
    fn answer(&self, title: &str, message: &str) -> HttpResponse {
        let body = ErrorPage { title, message }.render().unwrap_or_else(|_| message.to_owned());
        HttpResponse::build(self.status_code()).content_type("text/html; charset=utf-8").body(body)
    }
}

/// Answer for an address that no route knows.
pub(crate) async fn not_found() -> Result<HttpResponse, PageError> {
    Err(PageError::NotFound)
}

/// A page as a response.
pub(crate) fn page(template: &impl Template) -> Result<HttpResponse, PageError> {
    page_with(StatusCode::OK, template)
}

/// A page with another status, such as a form that was refused.
pub(crate) fn page_with(status: StatusCode, template: &impl Template) -> Result<HttpResponse, PageError> {
    Ok(HttpResponse::build(status).content_type("text/html; charset=utf-8").body(template.render()?))
}

/// After a change: to the page that shows it.
pub(crate) fn see_other(location: &str) -> HttpResponse {
    // What a header cannot hold leads to the start instead of failing.
    let location = HeaderValue::from_str(location).unwrap_or(HeaderValue::from_static("/"));
    HttpResponse::SeeOther().insert_header((LOCATION, location)).finish()
}
