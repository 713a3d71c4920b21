//! Programs: a box with its settings, what they do, what is wrong with them, and what they should be.

mod asked;
mod boxes;
mod calendar;
mod editor;
mod entry;
mod history;
mod law;
mod manual;
mod plan;
mod settings_form;
mod sheet;
mod timeline;
mod upkeep;
mod view;
mod walk;
use crate::page::frame::{Chapter, Frame};
pub(crate) use crate::page::program_words::Names;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use crate::site::workbench::Workbench;
use actix_web::web;
use upland_core::controller::schedule::Settings;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .configure(boxes::routes)
        .configure(editor::routes)
        .configure(plan::routes)
        .configure(history::routes)
        .configure(law::routes)
        .configure(sheet::routes)
        .configure(walk::routes)
        .configure(calendar::routes)
        .configure(manual::routes);
}

/// What every page of a box shows around its content.
pub(super) trait BoxPage {
    /// A box and its settings, as sentences name them.
    fn names<'a>(&'a self, settings: &'a Settings) -> Names<'a>;

    /// The frame around a page of the box, with the tabs of its pages.
    fn frame(&self, here: &AtSite, title: &str) -> Result<Frame, PageError>;

    /// The head of a page of the box.
    fn head(&self, tab: Tab) -> Result<BoxHead, PageError>;
}

impl BoxPage for Workbench {
    fn names<'a>(&'a self, settings: &'a Settings) -> Names<'a> {
        Names { installation: &self.installation, settings, units: self.units() }
    }

    fn frame(&self, here: &AtSite, title: &str) -> Result<Frame, PageError> {
        let place = &self.controller()?.place;
        let mut frame = Frame::of_site(here, format!("{place}: {title}"), Chapter::Programs)?;
        frame.here = self.path();
        Ok(frame)
    }

    fn head(&self, tab: Tab) -> Result<BoxHead, PageError> {
        let controller = self.controller()?;
        Ok(BoxHead {
            site_id: self.loaded.site.id.number(),
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
