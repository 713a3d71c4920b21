//! What many sites share: controller cards and watering ordinances.

pub(crate) mod card_form;
mod cards;
pub(crate) mod ordinance_form;
mod ordinances;

pub(crate) use ordinances::{exempt_words, rule_words};

use crate::error::{PageError, see_other};
use crate::forms;
use crate::session::{Fields, SignedIn, flash};
use crate::sites::base_version;
use crate::state::{AppState, db};
use actix_web::{HttpResponse, web};
use jiff::Timestamp;
use std::collections::BTreeMap;
use upland_core::controller::ordinance::Law;
use upland_core::controller::{Card, generic};
use upland_store::Saved;
use upland_store::library::{Entry, Shared};

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.configure(cards::routes).configure(ordinances::routes);
}

/// Own cards are chosen by this and their identity.
const OWN: &str = "own-";

/// Every card by the short name it is chosen by.
pub(crate) async fn card_choices(state: &web::Data<AppState>) -> Result<Vec<(String, String)>, PageError> {
    let own: Vec<Entry<Card>> = db(state, upland_store::Store::library).await?;
    let own = own.into_iter().map(|entry| (format!("{OWN}{}", entry.id), entry.item.name));
    Ok(own.chain(generic().into_iter().map(|(code, card)| (code.to_owned(), card.name))).collect())
}

/// The card that was chosen, if there is such a one.
pub(crate) async fn card_by_choice(
    state: &web::Data<AppState>,
    code: &str,
) -> Result<Option<Card>, PageError> {
    if let Some(id) = code.strip_prefix(OWN).and_then(|id| id.parse::<i64>().ok()) {
        let entry = db(state, move |store| store.library_entry::<Card>(id)).await?;
        return Ok(entry.map(|e| e.item));
    }
    Ok(generic().into_iter().find(|(known, _)| *known == code).map(|(_, card)| card))
}

/// What a site must keep to.
pub(crate) async fn law(state: &web::Data<AppState>, site_id: i64) -> Result<Law, PageError> {
    let applied = db(state, move |store| store.ordinances(site_id)).await?;
    Ok(Law { applied: applied.into_iter().map(|o| o.applied).collect() })
}

/// What was typed, without what the form carries for itself.
fn sent(fields: &Fields) -> BTreeMap<String, String> {
    let own = |name: &str| name == "csrf" || name == "base_version";
    fields.0.iter().filter(|(k, _)| !own(k)).map(|(k, v)| (k.clone(), v.clone())).collect()
}

/// An entry, or the page that says there is none.
async fn entry<T: Shared + Send + 'static>(
    state: &web::Data<AppState>,
    id: i64,
) -> Result<Entry<T>, PageError> {
    db(state, move |store| store.library_entry(id)).await?.ok_or(PageError::NotFound)
}

/// What became of a save.
enum Kept<T> {
    Saved,
    /// Somebody saved in between: their entry, both edits put together, and the names of the
    /// fields that both changed.
    Merged(Box<Entry<T>>, BTreeMap<String, String>, Vec<String>),
}

/// Saves an entry, or puts it together with what somebody else saved.
async fn keep<T: Shared + Send + Sync + 'static>(
    state: &web::Data<AppState>,
    who: &SignedIn,
    id: i64,
    (item, fields): (T, &Fields),
    texts: fn(&T) -> BTreeMap<String, String>,
) -> Result<Kept<T>, PageError> {
    let (base, user) = (base_version(fields)?, who.user.id);
    match db(state, move |store| store.save_library_entry(id, base, &item, user)).await? {
        None => Err(PageError::NotFound),
        Some(Saved::As(_)) => Ok(Kept::Saved),
        Some(Saved::Conflict(theirs)) => {
            let before = db(state, move |store| store.library_version::<T>(id, base)).await?;
            let started = before.as_ref().map(texts).unwrap_or_default();
            let (merged, both) = forms::three_way(&started, &sent(fields), &texts(&theirs.item));
            Ok(Kept::Merged(theirs, merged, both))
        }
    }
}

/// Takes an entry off the list or puts it back, says so, and goes back to the list.
async fn shelve(
    state: &web::Data<AppState>,
    who: &SignedIn,
    (list, id): (&str, i64),
    removed: bool,
    text: String,
) -> Result<HttpResponse, PageError> {
    let at = removed.then(Timestamp::now);
    db(state, move |store| store.set_library_entry_removed(id, at)).await?;
    flash(&who.session, text, removed.then(|| format!("{list}/{id}/restore")))?;
    Ok(see_other(list))
}
