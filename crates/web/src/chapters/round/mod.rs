//! Across sites: the list of sites with their surveys, and the week's calls.

mod calls;
mod sites;

use actix_web::web;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.configure(sites::routes).configure(calls::routes);
}
