//! What many sites share: controller cards and watering ordinances.

mod cards;
mod ordinance_form;
mod ordinances;

use crate::page::forms;
use crate::page::forms::base_version;
use crate::server::error::{PageError, see_other};
use crate::server::session::{Fields, SignedIn, flash};
use crate::server::state::{AppState, read, with_store};
use actix_web::{HttpResponse, web};
use std::collections::BTreeMap;
use upland_store::Saved;
use upland_store::library::{Entry, Shared};

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.configure(cards::routes).configure(ordinances::routes);
}

/// An entry, or the page that says there is none.
async fn entry<T: Shared + Send + 'static>(
    state: &web::Data<AppState>,
    id: i64,
) -> Result<Entry<T>, PageError> {
    read(state, move |snapshot| snapshot.library_entry(id)).await?.ok_or(PageError::NotFound)
}

/// What became of a save.
enum Kept<T> {
    Saved,
    /// It stood so already, as this version.
    Unchanged(i32),
    /// Somebody saved in between: their entry, both edits put together, and the names of the
    /// fields that both changed.
    Merged(Box<Entry<T>>, BTreeMap<String, String>, Vec<String>),
}

/// Saves an entry, or puts it together with what somebody else saved.
async fn keep<T: Shared + Send + Sync + 'static>(
    state: &web::Data<AppState>,
    who: &SignedIn,
    id: i64,
    item: T,
    fields: &Fields,
    texts: fn(&T) -> BTreeMap<String, String>,
) -> Result<Kept<T>, PageError> {
    let (base, user) = (base_version(fields)?, who.user.id);
    match with_store(state, move |store| store.save_library_entry(id, base, &item, user)).await? {
        None => Err(PageError::NotFound),
        Some(Saved::As(_)) => Ok(Kept::Saved),
        Some(Saved::Unchanged(version)) => Ok(Kept::Unchanged(version)),
        Some(Saved::Conflict(theirs)) => {
            let before = read(state, move |snapshot| snapshot.library_version::<T>(id, base)).await?;
            let started = before.as_ref().map(texts).unwrap_or_default();
            let (merged, both) = forms::three_way(&started, &fields.shown(), &texts(&theirs.item));
            Ok(Kept::Merged(theirs, merged, both))
        }
    }
}

/// Takes an entry off the list or puts it back, says so, and goes back to the list.
async fn shelve<T: Shared + 'static>(
    state: &web::Data<AppState>,
    who: &SignedIn,
    list: &str,
    id: i64,
    removed: bool,
    text: String,
) -> Result<HttpResponse, PageError> {
    let (at, user) = (removed.then_some(who.now), who.user.id);
    if !with_store(state, move |store| store.set_library_entry_removed::<T>(id, at, user)).await? {
        return Err(PageError::NotFound);
    }
    flash(&who.session, text, removed.then(|| format!("{list}/{id}/restore")))?;
    Ok(see_other(list))
}
