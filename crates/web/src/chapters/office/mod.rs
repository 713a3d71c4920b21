//! The office: what the owner of an installation looks after, beside its people.

mod jobs;

use actix_web::web;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.configure(jobs::routes);
}
