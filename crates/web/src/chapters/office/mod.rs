//! The office: what the owner of an installation looks after, beside its people.

mod audit;
mod jobs;

use actix_web::web;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.configure(audit::routes).configure(jobs::routes);
}
