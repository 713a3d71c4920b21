//! Across sites: the list of sites with their surveys, the week's calls, and what needs attention.

mod calls;
mod mail;
mod many;
mod notices;
mod route;
mod site_standing;
mod sites;
mod standing;
mod work;

#[cfg(test)]
pub(crate) use work::{changes, round_for_tests};

pub(crate) use mail::mail;
pub(crate) use work::work_on;

use actix_web::web;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .configure(sites::routes)
        .configure(calls::routes)
        .configure(notices::routes)
        .configure(many::routes)
        .configure(route::routes);
}
