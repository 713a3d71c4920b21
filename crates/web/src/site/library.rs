//! What the library offers to a site: cards to choose from, and the law it keeps.

use crate::server::error::PageError;
use crate::server::state::{AppState, read};
use actix_web::web;
use upland_core::controller::{Card, generic};
use upland_store::library::Entry;

/// Own cards are chosen by this and their identity.
pub(crate) const OWN: &str = "own-";

/// Every card by the short name it is chosen by, the library's own first.
pub(crate) fn card_choices(own: &[Entry<Card>]) -> Vec<(String, String)> {
    let own = own.iter().map(|entry| (format!("{OWN}{}", entry.id), entry.item.name.clone()));
    own.chain(generic().into_iter().map(|(code, card)| (code.to_owned(), card.name))).collect()
}

/// The card that was chosen, if there is such a one.
pub(crate) async fn card_by_choice(
    state: &web::Data<AppState>,
    code: &str,
) -> Result<Option<Card>, PageError> {
    if let Some(id) = code.strip_prefix(OWN).and_then(|id| id.parse::<i64>().ok()) {
        let entry = read(state, move |snapshot| snapshot.library_entry::<Card>(id)).await?;
        return Ok(entry.map(|e| e.item));
    }
    Ok(generic().into_iter().find(|(known, _)| *known == code).map(|(_, card)| card))
}
