//! The interface for devices and other software, versioned: devices post readings by their own tokens, other software reads
//! by tokens of people. Its description as OpenAPI is made from the types that are answered.

mod account;
mod description;
mod error;
mod lists;
mod night;
mod readings;
mod sites;
#[cfg(test)]
mod tests;
mod token;

use crate::api::error::ApiError;
use actix_web::http::header;
use actix_web::{HttpResponse, ResponseError, web};

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .configure(readings::routes)
        .configure(description::routes)
        .configure(sites::routes)
        .configure(night::routes)
        .configure(account::routes)
        .configure(lists::routes)
        // What no handler above took: another method of an address there is, or no address at all.
        .service(web::resource("/api/{path:.*}").to(nothing_else));
}

/// What answers every request to the interface that no handler takes.
async fn nothing_else(request: actix_web::HttpRequest) -> HttpResponse {
    let path = request.path();
    let Some(allowed) = description::method_of(path) else { return ApiError::NoSuchAddress.error_response() };
    let mut answer = ApiError::OtherMethod(allowed).error_response();
    answer.headers_mut().insert(header::ALLOW, header::HeaderValue::from_static(allowed));
    answer
}
