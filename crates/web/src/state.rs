//! What every handler shares.

use crate::budget::Figures;
use crate::calls::{Call, Key as CallKey};
use crate::error::PageError;
use crate::sensors::StandIns;
use actix_web::web;
use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter};
use jiff::civil::Date;
use moka::sync::Cache;
use std::num::NonZeroU32;
use std::sync::Arc;
use upland_core::weather::climate::Climate;
use upland_store::controllers::BoxStamp;
use upland_store::sites::SiteRecord;
use upland_store::{Store, StoreError};

/// Memory for computed climates, in recorded days: about a quarter of a kilobyte each.
const CACHED_DAYS: u64 = 1_000_000;
/// Sites and boxes of which small results are kept.
const CACHED_SITES: u64 = 20_000;
/// Boxes of which the budget is kept: some tens of kilobytes each.
const CACHED_FIGURES: u64 = 1_000;
/// Sign-in attempts for one name from one address: a burst, then one every twelve seconds.
const ATTEMPT_BURST: NonZeroU32 = NonZeroU32::MIN.saturating_add(5);
const ATTEMPTS_PER_MINUTE: NonZeroU32 = NonZeroU32::MIN.saturating_add(4);

/// Attempts from one address, whatever the names: each costs a password hash.
const ADDRESS_ATTEMPTS_PER_MINUTE: NonZeroU32 = NonZeroU32::MIN.saturating_add(59);
/// Posts of one device a second, and in a burst: many times what a device with something to say needs.
const POSTS_PER_SECOND: NonZeroU32 = NonZeroU32::MIN.saturating_add(19);
const POST_BURST: NonZeroU32 = NonZeroU32::MIN.saturating_add(99);
/// Names remembered by the limiter before the idle ones are dropped.
const REMEMBERED_ATTEMPTS: usize = 10_000;

/// What every handler shares.
pub struct AppState {
    store: Store,
    /// Climates by site, weather version and site version; a value that can be thrown away.
    climates: Cache<(i64, i64, i32), Arc<Climate>>,
    /// Last recorded days by the same key, for lists over many sites.
    last_days: Cache<(i64, i64, i32), Option<Date>>,
    /// The week's calls of a box by everything they follow from.
    calls: Cache<CallKey, Arc<Vec<Call>>>,
    /// Figures of a box's budget by box and rain rule, with the facts they follow from.
    pub(crate) figures: Cache<(i64, &'static str), Arc<Figures>>,
    /// Simulated devices that run in this process.
    pub(crate) stand_ins: StandIns,
    attempts: DefaultKeyedRateLimiter<String>,
    address_attempts: DefaultKeyedRateLimiter<String>,
    /// Posts of devices by the hash of their token.
    posts: DefaultKeyedRateLimiter<Vec<u8>>,
}

impl AppState {
    /// State over a store.
    #[must_use]
    pub fn new(store: Store) -> Self {
        Self {
            store,
            climates: Cache::builder()
                .weigher(|_, climate: &Arc<Climate>| u32::try_from(climate.len() + 400).unwrap_or(u32::MAX))
                .max_capacity(CACHED_DAYS)
                .build(),
            last_days: Cache::new(CACHED_SITES),
            calls: Cache::new(CACHED_SITES),
            figures: Cache::new(CACHED_FIGURES),
            stand_ins: StandIns::default(),
            attempts: RateLimiter::keyed(Quota::per_minute(ATTEMPTS_PER_MINUTE).allow_burst(ATTEMPT_BURST)),
            address_attempts: RateLimiter::keyed(Quota::per_minute(ADDRESS_ATTEMPTS_PER_MINUTE)),
            posts: RateLimiter::keyed(Quota::per_second(POSTS_PER_SECOND).allow_burst(POST_BURST)),
        }
    }

    /// The same, with stand-ins for devices offered on the pages of sensors; they post to this address.
    #[must_use]
    pub fn with_stand_ins(mut self, url: String) -> Self {
        self.stand_ins.url = url;
        self
    }

    /// The key of the session cookie, shared by every server on the database.
    pub(crate) fn cookie_key(&self) -> Result<Vec<u8>, StoreError> {
        self.store.secret("cookie_key", || rand::random::<[u8; 64]>().to_vec())
    }

    /// Whether another sign-in attempt for a name from an address is allowed now.
    pub(crate) fn attempt_allowed(&self, address: &str, login: &str) -> bool {
        for limiter in [&self.attempts, &self.address_attempts] {
            if limiter.len() > REMEMBERED_ATTEMPTS {
                limiter.retain_recent();
            }
        }
        self.address_attempts.check_key(&address.to_owned()).is_ok()
            && self.attempts.check_key(&format!("{address} {login}")).is_ok()
    }

    /// Whether a device's token may post again now.
    pub(crate) fn post_allowed(&self, token_hash: &[u8]) -> bool {
        if self.posts.len() > REMEMBERED_ATTEMPTS {
            self.posts.retain_recent();
        }
        self.posts.check_key(&token_hash.to_vec()).is_ok()
    }

    /// Whether an address may try another unknown token: guessing is slowed down, and not written down.
    pub(crate) fn guess_allowed(&self, address: &str) -> bool {
        self.address_attempts.check_key(&format!("token {address}")).is_ok()
    }

    /// The computed climate of a site.
    pub(crate) fn climate(&self, site: &SiteRecord) -> Result<Arc<Climate>, StoreError> {
        let key = (site.id, site.weather_version, site.version);
        if let Some(climate) = self.climates.get(&key) {
            return Ok(climate);
        }
        let weather = self.store.site_weather(site.id, &site.site)?;
        let days = weather.woven(&site.site).days;
        // Woven wind stands at 2 m, whatever the heights of its sources.
        let station = site.site.station().at_two_metres();
        let climate = Arc::new(Climate::from_record(&days, station).with_typed(weather.normals));
        self.climates.insert(key, Arc::clone(&climate));
        // Lists over many sites ask the database for this instead of every day of every record.
        self.store.keep_brief(site.id, (site.weather_version, site.version), &climate.brief())?;
        Ok(climate)
    }
}

impl AppState {
    /// The last recorded day of a site, when it is known for these versions; of `Some(None)` there is
    /// no weather.
    pub(crate) fn last_day(&self, stamp: &BoxStamp) -> Option<Option<Date>> {
        self.last_days.get(&(stamp.site_id, stamp.weather_version, stamp.site_version))
    }

    /// Remembers it.
    pub(crate) fn keep_last_day(&self, stamp: &BoxStamp, last: Option<Date>) {
        self.last_days.insert((stamp.site_id, stamp.weather_version, stamp.site_version), last);
    }

    /// The calls of a box, when they were computed from the same facts before.
    pub(crate) fn calls(&self, key: &CallKey) -> Option<Arc<Vec<Call>>> {
        self.calls.get(key)
    }

    /// Keeps the calls of a box.
    pub(crate) fn keep_calls(&self, key: CallKey, calls: Arc<Vec<Call>>) {
        self.calls.insert(key, calls);
    }
}

/// Runs database work off the server's event loop.
pub(crate) async fn db<T: Send + 'static>(
    state: &web::Data<AppState>,
    work: impl FnOnce(&Store) -> Result<T, StoreError> + Send + 'static,
) -> Result<T, PageError> {
    let state = state.clone();
    Ok(web::block(move || work(&state.store)).await??)
}

/// As [`db`], for work that also needs the cached climates.
pub(crate) async fn db_with_climates<T: Send + 'static>(
    state: &web::Data<AppState>,
    work: impl FnOnce(&AppState, &Store) -> Result<T, StoreError> + Send + 'static,
) -> Result<T, PageError> {
    let state = state.clone();
    Ok(web::block(move || work(&state, &state.store)).await??)
}
