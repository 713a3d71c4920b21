//! Pages and HTTP interface. A chapter is a folder: handlers, view models and templates together.
//! A view model is a plain struct built by a function that a test can call without a server.

mod api;
mod chapters;
#[cfg(test)]
mod fixture;
#[cfg(test)]
mod one_truth;
mod page;
mod server;
mod site;
pub mod worker;

pub use chapters::accounts::{hash_password, link_for};
pub use page::{cause_words, tuning_words};
pub use server::fetching::Reach;
pub use server::keys::Keys;
pub use server::mailer::Mailer;
pub use server::state::{AppState, BringDays, Configuration};

use actix_session::SessionMiddleware;
use actix_session::config::PersistentSession;
use actix_session::storage::CookieSessionStore;
use actix_web::cookie::{Key, SameSite, time::Duration};
use actix_web::{App, HttpServer, middleware, web};
use std::net::TcpListener;
use upland_core::advice::findings::Finding;
use upland_core::controller::schedule::Settings;
use upland_core::installation::Installation;
use upland_core::site::UnitSystem;

/// How a server runs.
pub struct ServerConfig {
    /// The socket it serves on.
    pub listener: TcpListener,
    /// Threads that serve.
    pub workers: usize,
    /// Background work done at once in this process; none where workers run by themselves.
    pub at_once: usize,
}

/// A finding as a sentence, metric, with the names of the controller it is about.
#[must_use]
pub fn finding_text(installation: &Installation, settings: &Settings, finding: &Finding) -> String {
    let units = UnitSystem::Metric;
    let words = page::program_words::Names { installation, settings, units }.finding(finding);
    format!("{}: {}", words.place, words.text)
}

fn routes(config: &mut web::ServiceConfig) {
    config
        .app_data(web::FormConfig::default().limit(512 * 1024))
        .app_data(web::PathConfig::default().error_handler(|_, _| server::error::PageError::NotFound.into()))
        .app_data(web::QueryConfig::default().error_handler(|error, _| {
            server::error::PageError::BadRequest(format!("The address cannot be read: {error}.")).into()
        }))
        .service(server::assets::worker)
        .service(server::assets::serve)
        .service(server::health)
        .service(server::ready)
        .service(server::metrics::metrics_page)
        .configure(chapters::about::routes)
        .configure(chapters::accounts::routes)
        .configure(chapters::office::routes)
        .configure(chapters::offline::routes)
        .configure(chapters::owner::routes)
        .configure(chapters::round::routes)
        .configure(chapters::zones::routes)
        .configure(chapters::photos::routes)
        .configure(chapters::library::routes)
        .configure(chapters::programs::routes)
        .configure(chapters::weather::routes)
        .configure(chapters::budget::routes)
        .configure(chapters::trial::routes)
        .configure(chapters::tuning::routes)
        .configure(chapters::logbook::routes)
        .configure(chapters::sensors::routes)
        .configure(api::routes)
        .configure(chapters::today::routes)
        .service(server::moved::controllers)
        .default_service(web::to(server::error::not_found));
}

/// Serves until it is told to stop.
///
/// # Errors
/// When the socket cannot be used or the database does not give the cookie key.
pub async fn serve(state: AppState, config: ServerConfig) -> std::io::Result<()> {
    let key = state.cookie_key().map_err(std::io::Error::other)?;
    let behind_tls = state.configuration.behind_tls;
    server::metrics::begin();
    let state = web::Data::new(state);
    let working = match config.at_once {
        0 => None,
        at_once => Some(worker::start(state.clone().into_inner(), worker::Pace::of(at_once))?),
    };
    let served = HttpServer::new(move || {
        let session = SessionMiddleware::builder(CookieSessionStore::default(), Key::from(&key))
            .cookie_name("upland".into())
            .cookie_http_only(true)
            .cookie_same_site(SameSite::Lax)
            .cookie_secure(behind_tls)
            .session_lifecycle(PersistentSession::default().session_ttl(Duration::days(30)))
            .build();
        App::new()
            .app_data(state.clone())
            .wrap(middleware::from_fn(server::sent_entries::once))
            .wrap(session)
            .wrap(middleware::from_fn(server::guard::guard))
            .wrap(middleware::Compress::default())
            .wrap(middleware::from_fn(server::metrics::measured))
            .wrap(tracing_actix_web::TracingLogger::<server::trace::RequestSpan>::new())
            .configure(routes)
    })
    // A page goes out in a few small writes; waiting to join them costs 40 ms on every request.
    .on_connect(|connection, _| {
        if let Some(stream) = connection.downcast_ref::<actix_web::rt::net::TcpStream>() {
            let _ = stream.set_nodelay(true);
        }
    })
    .workers(config.workers)
    .shutdown_timeout(5)
    .listen(config.listener)?
    .run()
    .await;
    if let Some(working) = working {
        // What was begun ends before the program does.
        web::block(move || working.stop()).await.map_err(std::io::Error::other)?;
    }
    served
}
