//! Headers on every answer, and the refusal of forms from other origins.

use crate::server::error::PageError;
use crate::server::state::AppState;
use crate::server::trace::method_name;
use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::{
    CACHE_CONTROL, HOST, HeaderMap, HeaderName, HeaderValue, ORIGIN, STRICT_TRANSPORT_SECURITY,
};
use actix_web::middleware::Next;
use actix_web::{HttpResponse, web};

/// Everything from this server only; no inline script or style anywhere.
const CONTENT_POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; \
    font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

const HEADERS: [(&str, &str); 5] = [
    ("content-security-policy", CONTENT_POLICY),
    ("x-content-type-options", "nosniff"),
    ("referrer-policy", "same-origin"),
    ("cross-origin-opener-policy", "same-origin"),
    ("permissions-policy", "geolocation=(self), camera=(), microphone=()"),
];

/// Whether the browser says that a changing request comes from another origin. The token in each
/// form is the first guard, this the second.
fn cross_origin(headers: &HeaderMap) -> bool {
    let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok());
    if let Some(site) = text("sec-fetch-site") {
        return !matches!(site, "same-origin" | "none");
    }
    match (text(ORIGIN.as_str()), text(HOST.as_str())) {
        (Some(origin), Some(host)) => origin.split_once("://").map(|(_, h)| h) != Some(host),
        _ => false,
    }
}

pub(crate) async fn guard(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let behind_tls =
        request.app_data::<web::Data<AppState>>().is_some_and(|state| state.configuration.behind_tls);
    if *request.method() == Method::HEAD {
        // Answered as the page would be; the body stays here.
        request.head_mut().method = Method::GET;
    }
    let changing = !matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    let own_step = matches!(request.path(), "/sign-in" | "/sign-out" | "/first-owner");
    if changing {
        crate::server::body_timeout::bound(&mut request);
    }
    // The devices' interface answers for itself, with the methods of each of its addresses.
    let is_made_up = method_name(request.method()) == "other" && !request.path().starts_with("/api/");
    let mut response = if is_made_up {
        let (request, _) = request.into_parts();
        let refused = HttpResponse::MethodNotAllowed().insert_header(("allow", "GET, HEAD, POST")).finish();
        ServiceResponse::new(request, refused).map_into_right_body()
    } else if request.path().contains('\0') || request.uri().path().contains("%00") {
        // No address of ours holds it, and the database takes none.
        let (request, _) = request.into_parts();
        ServiceResponse::from_err(PageError::NotFound, request).map_into_right_body()
    } else if changing && cross_origin(request.headers()) {
        let (request, _) = request.into_parts();
        ServiceResponse::from_err(PageError::Csrf, request).map_into_right_body()
    } else {
        let response = crate::server::request_locale::for_a_reader(next.call(request)).await?;
        let to_sign_in =
            response.headers().get("location").is_some_and(|location| location.as_bytes() == b"/sign-in");
        if changing && to_sign_in && !own_step {
            // A redirect would throw away the form that was just sent.
            let (request, _) = response.into_parts();
            ServiceResponse::from_err(PageError::SignedOut, request).map_into_right_body()
        } else {
            response.map_into_left_body()
        }
    };
    for (name, value) in HEADERS {
        response.headers_mut().insert(HeaderName::from_static(name), HeaderValue::from_static(value));
    }
    // What is not said to be for everybody is for who asked alone, and a browser need not keep it.
    if !response.headers().contains_key(CACHE_CONTROL) {
        response.headers_mut().insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    if behind_tls {
        let once = HeaderValue::from_static("max-age=31536000");
        response.headers_mut().insert(STRICT_TRANSPORT_SECURITY, once);
    }
    Ok(response)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(pairs: &[(&'static str, &'static str)]) -> HeaderMap {
        pairs.iter().map(|(n, v)| (HeaderName::from_static(n), HeaderValue::from_static(v))).collect()
    }

    #[test]
    fn forms_from_elsewhere_are_refused() {
        assert!(cross_origin(&headers(&[("sec-fetch-site", "cross-site")])));
        assert!(cross_origin(&headers(&[("sec-fetch-site", "same-site")])));
        assert!(!cross_origin(&headers(&[("sec-fetch-site", "same-origin")])));
        assert!(cross_origin(&headers(&[("origin", "http://elsewhere"), ("host", "127.0.0.1:8080")])));
        assert!(!cross_origin(&headers(&[("origin", "http://127.0.0.1:8080"), ("host", "127.0.0.1:8080")])));
    }

    #[test]
    fn the_policy_allows_nothing_inline() {
        assert!(!CONTENT_POLICY.contains("unsafe"));
    }
}
