//! A site with its zones and boxes.

use crate::server::error::PageError;
use crate::server::state::{AppState, db};
use actix_web::web;
use upland_store::controllers::ControllerRecord;
use upland_store::settings::SettingsRecord;
use upland_store::sites::SiteRecord;
use upland_store::zones::ZoneRecord;

/// A box with what it is set to, if that was ever entered.
pub(crate) struct SiteBox {
    pub record: ControllerRecord,
    pub settings: Option<SettingsRecord>,
}

impl SiteBox {
    pub fn number(&self) -> u8 {
        self.record.controller.number
    }
}

/// A site with its zones and boxes.
pub(crate) struct Loaded {
    pub site: SiteRecord,
    pub zones: Vec<ZoneRecord>,
    pub boxes: Vec<SiteBox>,
}

impl Loaded {
    /// Numbers and places of the boxes, for lists.
    pub fn box_names(&self) -> Vec<(u8, String)> {
        self.boxes.iter().map(|b| (b.number(), b.record.controller.place.clone())).collect()
    }
}

/// A site, or the page that says there is none.
pub(crate) async fn load(state: &web::Data<AppState>, id: i64) -> Result<Loaded, PageError> {
    db(state, move |store| {
        let Some(site) = store.site(id)? else { return Ok(None) };
        let mut settings = store.settings_of_site(id)?;
        let boxes = store.controllers(id)?.into_iter();
        let boxes = boxes.map(|record| SiteBox { settings: settings.remove(&record.id), record }).collect();
        Ok(Some(Loaded { site, zones: store.zones(id)?, boxes }))
    })
    .await?
    .ok_or(PageError::NotFound)
}
