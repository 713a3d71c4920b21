//! Failures as JSON: each says what happened and what to do, and carries a true status.

use crate::server::error::PageError;
use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderValue, WWW_AUTHENTICATE};
use actix_web::{HttpResponse, ResponseError};
use upland_formats::api::Problem;
use upland_store::StoreError;
use upland_store::api_tokens::ReadScope;

/// A request that cannot be answered.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ApiError {
    #[error("send a token as: Authorization: Bearer TOKEN; make one on the page of your settings")]
    NoToken,
    #[error("this token is not known; make one on the page of your settings")]
    UnknownToken,
    #[error("this token was revoked, or its person may not sign in any more; make a new one")]
    Revoked,
    #[error("this token may not read {}; make one that may", .0.code())]
    OutOfScope(ReadScope),
    #[error("too many requests of this token; ask less often")]
    TooOften,
    #[error("too many requests with unknown tokens from this address")]
    TooManyGuesses,
    #[error("there is no such address; /api/v1/openapi.json lists all")]
    NoSuchAddress,
    #[error("this address answers {0} alone")]
    OtherMethod(&'static str),
    #[error("{0}")]
    NotThere(&'static str),
    #[error("{0}")]
    Unreadable(String),
    #[error("not answered now; ask again in a moment")]
    Busy,
    #[error("something failed here; the log of the server has the cause")]
    Failed,
}

impl From<PageError> for ApiError {
    fn from(error: PageError) -> Self {
        match error {
            PageError::NotFound => {
                Self::NotThere("there is nothing of this number that the token's person sees")
            }
            PageError::BadRequest(words) => Self::Unreadable(words),
            PageError::Unanswered | PageError::Store(StoreError::Unreachable(_)) => Self::Busy,
            other => {
                tracing::error!(error = %other, "request failed");
                Self::Failed
            }
        }
    }
}

impl ResponseError for ApiError {
    fn status_code(&self) -> StatusCode {
        match self {
            Self::NoToken | Self::UnknownToken => StatusCode::UNAUTHORIZED,
            Self::Revoked | Self::OutOfScope(_) => StatusCode::FORBIDDEN,
            Self::TooOften | Self::TooManyGuesses => StatusCode::TOO_MANY_REQUESTS,
            Self::NoSuchAddress | Self::NotThere(_) => StatusCode::NOT_FOUND,
            Self::OtherMethod(_) => StatusCode::METHOD_NOT_ALLOWED,
            Self::Unreadable(_) => StatusCode::BAD_REQUEST,
            Self::Busy => StatusCode::SERVICE_UNAVAILABLE,
            Self::Failed => StatusCode::INTERNAL_SERVER_ERROR,
        }
    }

    fn error_response(&self) -> HttpResponse {
        let mut answer = problem(self.status_code(), &self.to_string());
        if self.status_code() == StatusCode::UNAUTHORIZED {
            answer.headers_mut().insert(WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        answer
    }
}

/// A status with its words.
pub(super) fn problem(status: StatusCode, message: &str) -> HttpResponse {
    HttpResponse::build(status).json(Problem { error: message.to_owned() })
}
