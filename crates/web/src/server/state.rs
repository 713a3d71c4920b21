//! What every handler shares: the database, what was computed from it, and the limits.

use crate::server::cache::Cache;
use crate::server::error::PageError;
use crate::server::limits::Limits;
use crate::server::stand_ins::StandIns;
use actix_web::web;
use upland_store::{Snapshot, Store, StoreError};

/// What every handler shares.
pub struct AppState {
    pub(crate) store: Store,
    pub(crate) cache: Cache,
    pub(crate) limits: Limits,
    pub(crate) stand_ins: StandIns,
}

impl AppState {
    /// State over a store.
    #[must_use]
    pub fn new(store: Store) -> Self {
        Self { store, cache: Cache::default(), limits: Limits::default(), stand_ins: StandIns::default() }
    }

    /// The same, with stand-ins for devices offered on the pages of sensors; they post to this address.
    #[must_use]
    pub fn with_stand_ins(mut self, url: String) -> Self {
        self.stand_ins.url = Some(url);
        self
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
    Ok(web::block(move || state.store.read(work)).await??)
}

/// Asks the store for something that is no fact of a site, off the server's event loop.
pub(crate) async fn with_store<T: Send + 'static>(
    state: &web::Data<AppState>,
    work: impl FnOnce(&Store) -> Result<T, StoreError> + Send + 'static,
) -> Result<T, PageError> {
    let state = state.clone();
    Ok(web::block(move || work(&state.store)).await??)
}
