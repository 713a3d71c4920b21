//! The log of requests: who asked for what, without what an address keeps secret.

use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use tracing::Span;
use tracing::field::Empty;
use tracing_actix_web::{DefaultRootSpanBuilder, RootSpanBuilder};

/// Beginnings of addresses that go on with a secret.
const SECRET: [&str; 3] = ["/password/", "/calendar/", "/o/"];

/// An address as it may be written down.
fn written(path: &str) -> &str {
    let cut = path.char_indices().nth(WRITTEN).map_or(path, |(end, _)| path.get(..end).unwrap_or_default());
    SECRET.into_iter().find(|begins| path.starts_with(begins)).unwrap_or(cut)
}

/// Characters of an address that are written down.
const WRITTEN: usize = 200;

/// A method by its name; one that HTTP does not have is "other", whatever was sent.
pub(crate) fn method_name(method: &Method) -> &'static str {
    match *method {
        Method::GET => "GET",
        Method::HEAD => "HEAD",
        Method::POST => "POST",
        Method::PUT => "PUT",
        Method::DELETE => "DELETE",
        Method::OPTIONS => "OPTIONS",
        Method::PATCH => "PATCH",
        Method::CONNECT => "CONNECT",
        Method::TRACE => "TRACE",
        _ => "other",
    }
}

/// A span for each request.
pub(crate) struct RequestSpan;

impl RootSpanBuilder for RequestSpan {
    fn on_request_start(request: &ServiceRequest) -> Span {
        tracing::info_span!(
            "request",
            method = method_name(request.method()),
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
    use super::{WRITTEN, method_name, written};
    use actix_web::http::Method;

    #[test]
    fn sentence_1_neither_a_method_nor_an_address_fills_the_log() {
        let made_up = Method::from_bytes(&[b'A'; 60_000]).unwrap();
        assert_eq!((method_name(&made_up), method_name(&Method::PATCH)), ("other", "PATCH"));
        assert_eq!(written(&format!("/{}", "ä".repeat(50_000))).chars().count(), WRITTEN);
    }

    #[test]
    fn what_an_address_keeps_secret_is_not_written_down() {
        assert_eq!(written("/password/0123abcd"), "/password/");
        assert_eq!(written("/calendar/0123abcd.ics"), "/calendar/");
        assert_eq!(written("/o/0123abcd/handover"), "/o/");
        assert_eq!(written("/ordinances"), "/ordinances");
        assert_eq!(written("/sites/1/today"), "/sites/1/today");
    }
}
