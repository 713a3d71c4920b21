//! Programs: a controller with its settings, what they do, what is wrong with them, and what they should be.

mod asked;
mod calendar;
mod controllers;
mod editor;
mod entry;
mod history;
mod law;
mod manual;
mod manual_log;
mod plan;
mod settings_form;
mod settings_words;
mod sheet;
mod sheet_week;
mod timeline;
mod upkeep;
mod view;
mod walk;
use crate::page::frame::{Chapter, Frame};
pub(crate) use crate::page::program_words::Names;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use crate::site::controller_snapshot::ControllerSnapshot;
use actix_web::web;
use upland_core::controller::schedule::Settings;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .configure(controllers::routes)
        .configure(editor::routes)
        .configure(plan::routes)
        .configure(history::routes)
        .configure(law::routes)
        .configure(sheet::routes)
        .configure(walk::routes)
        .configure(calendar::routes)
        .configure(manual::routes)
        .configure(manual_log::routes);
}

/// What every page of a controller shows around its content.
pub(super) trait ControllerPage {
    /// A controller and its settings, as sentences name them.
    fn names<'a>(&'a self, settings: &'a Settings) -> Names<'a>;

    /// The frame around a page of the controller, with the tabs of its pages.
    fn frame(&self, here: &AtSite, title: &str) -> Result<Frame, PageError>;

    /// The head of a page of the controller.
    fn head(&self, tab: Tab) -> Result<ControllerHead, PageError>;
}

impl ControllerPage for ControllerSnapshot {
    fn names<'a>(&'a self, settings: &'a Settings) -> Names<'a> {
        Names { installation: &self.installation, settings, units: self.units() }
    }

    fn frame(&self, here: &AtSite, title: &str) -> Result<Frame, PageError> {
        let place = &self.controller()?.place;
        let mut frame = Frame::of_site(here, format!("{place}: {title}"), Chapter::Programs)?;
        frame.here = self.path();
        Ok(frame)
    }

    fn head(&self, tab: Tab) -> Result<ControllerHead, PageError> {
        let controller = self.controller()?;
        Ok(ControllerHead {
            site_id: self.records.site.id.number(),
            path: self.path(),
            place: controller.place.clone(),
            card: controller.card.name.clone(),
            controllers: self.records.controller_names(),
            number: controller.number,
            tab,
        })
    }
}

/// Pages of a controller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tab {
    Settings,
    Plan,
    Sheet,
    Manual,
    History,
    Law,
    Controller,
}

/// What stands above every page of a controller.
pub(crate) struct ControllerHead {
    pub site_id: i64,
    pub path: String,
    pub place: String,
    pub card: String,
    pub controllers: Vec<(u8, String)>,
    pub number: u8,
    tab: Tab,
}

impl ControllerHead {
    /// Address, name and whether it is the current one.
    pub fn tabs(&self) -> Vec<(String, &'static str, bool)> {
        [
            ("", "Settings", Tab::Settings),
            ("/plan", "Plan", Tab::Plan),
            ("/sheet", "Controller sheet", Tab::Sheet),
            ("/manual", "Manual run", Tab::Manual),
            ("/history", "Versions", Tab::History),
            ("/law", "Restrictions", Tab::Law),
            ("/card", "Controller", Tab::Controller),
        ]
        .into_iter()
        .map(|(end, name, tab)| (format!("{}{end}", self.path), name, tab == self.tab))
        .collect()
    }
}
