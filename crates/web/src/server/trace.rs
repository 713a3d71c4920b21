//! The log of requests: who asked for what, without what an address keeps secret.

use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use tracing::Span;
use tracing::field::Empty;
use tracing_actix_web::{DefaultRootSpanBuilder, RootSpanBuilder};

/// Beginnings of addresses that go on with a secret.
const SECRET: [&str; 2] = ["/password/", "/calendar/"];

/// An address as it may be written down.
fn written(path: &str) -> &str {
    SECRET.into_iter().find(|begins| path.starts_with(begins)).unwrap_or(path)
}

/// A span for each request.
pub(crate) struct RequestSpan;

impl RootSpanBuilder for RequestSpan {
    fn on_request_start(request: &ServiceRequest) -> Span {
        tracing::info_span!(
            "request",
            method = %request.method(),
            path = written(request.path()),
            http.status_code = Empty,
            exception.message = Empty,
            exception.details = Empty,
        )
    }

    fn on_request_end<B: MessageBody>(span: Span, outcome: &Result<ServiceResponse<B>, actix_web::Error>) {
        DefaultRootSpanBuilder::on_request_end(span, outcome);
    }
}

#[cfg(test)]
mod tests {
    use super::written;

    #[test]
    fn what_an_address_keeps_secret_is_not_written_down() {
        assert_eq!(written("/password/0123abcd"), "/password/");
        assert_eq!(written("/calendar/0123abcd.ics"), "/calendar/");
        assert_eq!(written("/sites/1/today"), "/sites/1/today");
    }
}
