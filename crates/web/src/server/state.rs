//! What every handler shares: the database, what was computed from it, and the limits.

use crate::server::cache::Cache;
use crate::server::error::PageError;
use crate::server::fetching::Reach;
use crate::server::keys::Keys;
use crate::server::limits::Limits;
use crate::server::mailer::Mailer;
use crate::server::request_locale::asked;
use crate::server::settled::Settled;
use crate::server::simulators::StandIns;
use crate::server::turns::Turns;
use actix_web::{HttpRequest, web};
use jiff::{SignedDuration, Timestamp};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use upland_store::{Snapshot, Store, StoreError};

/// What every handler shares.
pub struct AppState {
    pub(crate) store: Store,
    pub(crate) cache: Cache,
    pub(crate) limits: Limits,
    pub(crate) settled: Settled,
    /// Saved comparisons are run again one at a time for each site.
    pub(crate) trials: Turns,
    pub(crate) stand_ins: StandIns,
    /// Seconds by which the application's clock is ahead, as this process last heard.
    pub(crate) clock_ahead: Arc<AtomicI64>,
    /// Brings the days that passed in a demo.
    pub(crate) bring_days: Option<BringDays>,
    /// What whoever runs the process set.
    pub(crate) configuration: Configuration,
    /// What sends mails; without it none goes out.
    pub(crate) mailer: Option<Mailer>,
    /// Where weather services may be asked.
    pub(crate) reach: Reach,
    /// Under which second factors rest in the database.
    pub(crate) keys: Keys,
}

/// What whoever runs the process set, read once when it starts.
#[derive(Debug, Clone, Default)]
pub struct Configuration {
    /// Where the source of this installation is, as its licence asks.
    pub source_url: Option<String>,
    /// Under which browsers reach it, such as `https://almanac.example`; never taken from what a request says.
    pub public_url: Option<String>,
    /// Browsers reach it over TLS: cookies are marked secure.
    pub behind_tls: bool,
    /// What a scraper must bring to be told what was counted; without it nobody is.
    pub metrics_token: Option<String>,
    /// Proxies that say for whom they speak.
    pub trusted_proxies: Vec<std::net::IpAddr>,
    /// The folder that photographs are kept in; without it they are kept in the database.
    pub photo_folder: Option<PathBuf>,
}

/// Brings the weather of the days that passed on the clock of a demo, until an instant.
pub type BringDays = fn(&Store, Timestamp) -> Result<(), StoreError>;

impl AppState {
    /// State over a store.
    #[must_use]
    pub fn new(store: Store) -> Self {
        Self {
            store,
            cache: Cache::default(),
            limits: Limits::default(),
            settled: Settled::default(),
            trials: Turns::default(),
            stand_ins: StandIns::default(),
            clock_ahead: Arc::default(),
            bring_days: None,
            configuration: Configuration::default(),
            mailer: None,
            reach: Reach::default(),
            keys: Keys::default(),
        }
    }

    /// The same where the demo is: stand-ins for devices are offered on the pages of sensors and post to this
    /// address, and days that pass bring their weather.
    #[must_use]
    pub fn with_demo(mut self, url: String, bring_days: BringDays) -> Self {
        self.stand_ins.url = Some(url);
        self.bring_days = Some(bring_days);
        self
    }

    /// The same as whoever runs the process set it up.
    #[must_use]
    pub fn with_configuration(mut self, configuration: Configuration) -> Self {
        self.configuration = configuration;
        self
    }

    /// The same with what sends mails.
    #[must_use]
    pub fn with_mailer(mut self, mailer: Option<Mailer>) -> Self {
        self.mailer = mailer;
        self
    }

    /// The same with the keys under which second factors rest in the database.
    #[must_use]
    pub fn with_keys(mut self, keys: Keys) -> Self {
        self.keys = keys;
        self
    }

    /// The same with where weather services may be asked.
    #[must_use]
    pub fn with_reach(mut self, reach: Reach) -> Self {
        self.reach = reach;
        self
    }

    /// An address as a reader's device can open it: under the public name of the installation, else under the one that
    /// was asked for.
    pub(crate) fn address(&self, request: &HttpRequest, path: &str) -> String {
        match self.configuration.public_url.as_deref() {
            Some(public) => format!("{}{path}", public.trim_end_matches('/')),
            None => {
                let (scheme, host) = self.asked_under(request);
                format!("{scheme}://{host}{path}")
            }
        }
    }

    /// The scheme and machine that a request asked for. Anybody can send the headers of a proxy, so they count only from
    /// one that the settings name.
    fn asked_under(&self, request: &HttpRequest) -> (String, String) {
        let peer = request.peer_addr().map(|peer| peer.ip());
        let text = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok());
        let by_proxy = peer.is_some_and(|peer| self.configuration.trusted_proxies.contains(&peer));
        let said = |name: &str| text(name).filter(|_| by_proxy);
        let scheme = match said("x-forwarded-proto") {
            Some("https") => "https",
            Some("http") => "http",
            _ if self.configuration.behind_tls => "https",
            _ => "http",
        };
        let host = said("x-forwarded-host").or_else(|| text("host")).unwrap_or_default();
        let is_plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | ':' | '[' | ']');
        let host = if !host.is_empty() && host.chars().all(is_plain) { host } else { "localhost" };
        (scheme.to_owned(), host.to_owned())
    }

    /// What the application's clock shows exactly.
    pub(crate) fn exactly_now(&self) -> Timestamp {
        let ahead = SignedDuration::from_secs(self.clock_ahead.load(Ordering::Relaxed));
        crate::server::clock::exactly(Some(ahead))
    }

    /// Hears by how much the clock is ahead.
    pub(crate) fn heard_clock(&self, ahead: Option<SignedDuration>) {
        self.clock_ahead.store(ahead.map_or(0, |a| a.as_secs()), Ordering::Relaxed);
    }

    /// The key of the session cookie, shared by every server on the database.
    pub(crate) fn cookie_key(&self) -> Result<Vec<u8>, StoreError> {
        self.store.secret("cookie_key", || rand::random::<[u8; 64]>().to_vec())
    }
}

/// Reads the database at one instant, off the server's event loop.
pub(crate) async fn read<T: Send + 'static>(
    state: &web::Data<AppState>,
    work: impl FnOnce(&mut Snapshot<'_>) -> Result<T, StoreError> + Send + 'static,
) -> Result<T, PageError> {
    let state = state.clone();
    asked(move || state.store.read(work)).await
}

/// Asks the store for something that is no fact of a site, off the server's event loop.
pub(crate) async fn with_store<T: Send + 'static>(
    state: &web::Data<AppState>,
    work: impl FnOnce(&Store) -> Result<T, StoreError> + Send + 'static,
) -> Result<T, PageError> {
    let state = state.clone();
    asked(move || work(&state.store)).await
}
