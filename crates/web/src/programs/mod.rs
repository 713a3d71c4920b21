//! Programs: a box with its settings, what they do, what is wrong with them, and what they should be.

mod boxes;
mod calendar;
mod editor;
mod history;
mod law;
mod manual;
mod plan;
mod sheet;
mod texts;
mod timeline;
mod view;
pub(crate) mod words;

use crate::error::PageError;
use crate::pages::{Chapter, Frame};
use crate::sensors::Room;
use crate::session::SignedIn;
use crate::sites::{Loaded, SiteBox, load};
use crate::state::{AppState, db_with_climates};
use crate::today::choose_date;
use actix_web::web;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use upland_core::advice::findings::WEEKS;
use upland_core::controller::ordinance::Law;
use upland_core::controller::schedule::Settings;
use upland_core::installation::Installation;
use upland_core::site::{Controller, UnitSystem};
use upland_store::settings::SettingsRecord;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .configure(boxes::routes)
        .configure(editor::routes)
        .configure(plan::routes)
        .configure(history::routes)
        .configure(law::routes)
        .configure(sheet::routes)
        .configure(calendar::routes)
        .configure(manual::routes);
}

/// A box of a site with everything its pages are computed from.
pub(crate) struct Workbench {
    pub loaded: Loaded,
    /// Position of the box in `loaded.boxes`.
    index: usize,
    pub installation: Installation,
    pub climate: std::sync::Arc<upland_core::weather::climate::Climate>,
    /// Its sensors with what they say.
    pub watches: Vec<crate::sensors::Watch>,
    /// The day that pages begin on: today, or the last recorded day of an old record.
    pub today: Date,
}

impl Workbench {
    #[cfg(test)]
    pub fn for_tests(loaded: Loaded, installation: Installation, today: Date) -> Self {
        let station = loaded.site.site.station();
        let climate = std::sync::Arc::new(upland_core::weather::climate::Climate::from_record(&[], station));
        Self { loaded, index: 0, installation, climate, watches: Vec::new(), today }
    }

    pub fn site_box(&self) -> Result<&SiteBox, PageError> {
        self.loaded.boxes.get(self.index).ok_or(PageError::NotFound)
    }

    pub fn controller(&self) -> Result<&Controller, PageError> {
        Ok(&self.site_box()?.record.controller)
    }

    pub fn saved(&self) -> Option<&SettingsRecord> {
        self.loaded.boxes.get(self.index).and_then(|b| b.settings.as_ref())
    }

    /// The settings as they stand, or a clean box.
    pub fn settings(&self) -> Settings {
        self.saved().map_or_else(|| Settings::clean(&self.installation.card), |s| s.settings.clone())
    }

    pub fn units(&self) -> UnitSystem {
        self.loaded.site.site.units
    }

    /// Address of the box's pages.
    pub fn path(&self) -> String {
        format!("/sites/{}/boxes/{}", self.loaded.site.id, self.installation.box_number)
    }

    pub fn names<'a>(&'a self, settings: &'a Settings) -> words::Names<'a> {
        words::Names { installation: &self.installation, settings, units: self.units() }
    }

    /// The frame around a page of the box, with the tabs of its pages.
    pub fn frame(&self, who: &SignedIn, title: &str) -> Result<Frame, PageError> {
        let place = &self.controller()?.place;
        let mut frame = Frame::of_site(who, format!("{place}: {title}"), &self.loaded, Chapter::Programs)?;
        frame.here = self.path();
        Ok(frame)
    }

    /// The head of a page of the box.
    pub fn head(&self, tab: Tab) -> Result<BoxHead, PageError> {
        let controller = self.controller()?;
        Ok(BoxHead {
            site_id: self.loaded.site.id,
            path: self.path(),
            place: controller.place.clone(),
            card: controller.card.name.clone(),
            boxes: self.loaded.box_names(),
            number: controller.number,
            tab,
        })
    }
}

/// Pages of a box.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tab {
    Settings,
    Plan,
    Sheet,
    Manual,
    History,
    Law,
    Box,
}

/// What stands above every page of a box.
pub(crate) struct BoxHead {
    pub site_id: i64,
    pub path: String,
    pub place: String,
    pub card: String,
    pub boxes: Vec<(u8, String)>,
    pub number: u8,
    tab: Tab,
}

impl BoxHead {
    /// Address, name and whether it is the current one.
    pub fn tabs(&self) -> Vec<(String, &'static str, bool)> {
        [
            ("", "Settings", Tab::Settings),
            ("/plan", "Plan", Tab::Plan),
            ("/sheet", "Door sheet", Tab::Sheet),
            ("/manual", "By hand", Tab::Manual),
            ("/history", "Versions", Tab::History),
            ("/law", "Restrictions", Tab::Law),
            ("/card", "Box and card", Tab::Box),
        ]
        .into_iter()
        .map(|(end, name, tab)| (format!("{}{end}", self.path), name, tab == self.tab))
        .collect()
    }
}

/// Opens a box of a site.
pub(crate) async fn open(
    state: &web::Data<AppState>,
    site_id: i64,
    number: u8,
) -> Result<Workbench, PageError> {
    let loaded = load(state, site_id).await?;
    let index = loaded.boxes.iter().position(|b| b.number() == number).ok_or(PageError::NotFound)?;
    db_with_climates(state, move |state, store| {
        let site = &loaded.site;
        let climate = state.climate(site)?;
        let tz = TimeZone::get(&site.site.time_zone).unwrap_or(TimeZone::UTC);
        let (today, _) = choose_date(None, &climate, Timestamp::now().to_zoned(tz.clone()).date());
        let law = Law { applied: store.ordinances(site.id)?.into_iter().map(|o| o.applied).collect() };
        let zones: Vec<_> = loaded.zones.iter().map(|z| z.zone.clone()).collect();
        let card = loaded.boxes.get(index).map(|b| b.record.controller.card.clone());
        let card = card.unwrap_or_else(upland_core::controller::twelve_stations);
        let mut installation =
            Installation::new(&site.site, (&card, number), &zones, law.clone(), &climate, today, &tz);
        // What the other boxes take from the same supply while this one runs.
        let last = today.checked_add((i32::from(WEEKS) * 7).days()).unwrap_or(today);
        for other in loaded.boxes.iter().filter(|b| b.number() != number) {
            let Some(settings) = &other.settings else { continue };
            let of = (&other.record.controller.card, other.number());
            let there = Installation::new(&site.site, of, &zones, law.clone(), &climate, today, &tz);
            installation.elsewhere.extend(there.draws(&settings.settings, today, last));
        }
        installation.elsewhere.sort_by_key(|e| e.from);

        let room = Room::build(state, store, loaded, None)?;
        installation.sensors = room.of_box(number).map(|s| s.sensor.clone()).collect();
        let ahead = room.at + jiff::SignedDuration::from_hours(24 * 7 * i64::from(WEEKS));
        let watches = room.watches(number, ahead);
        Ok(Workbench { loaded: room.loaded, index, installation, climate, watches, today })
    })
    .await
}
