//! The frame around every page, and the pages that belong to no chapter.

use crate::page::dates::DateFormat;
use crate::server::address;
use crate::server::assets;
use crate::server::error::PageError;
use crate::server::session::{Flash, SignedIn};
use crate::site::context::AtSite;
use crate::site::records::SiteRecords;
use jiff::civil::Date;
use upland_core::site::UnitSystem;
use upland_core::weather::climate::{Climate, ExpectedFrom};
use upland_formats::typed::{Clock, DateOrder};
use upland_store::accounts::Capability;

/// The chapters of a site, in the order of the work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Chapter {
    Today,
    Zones,
    Programs,
    Sensors,
    Weather,
    Budget,
    Trial,
    Tuning,
    Logbook,
    Site,
}

/// A chapter as the bar shows it.
pub(crate) struct ChapterLink {
    pub key: usize,
    pub name: &'static str,
    pub href: String,
    pub current: bool,
    /// What is open in it, in two words.
    pub open: Option<String>,
}

/// The site part of a frame.
pub(crate) struct SiteFrame {
    pub id: i64,
    pub name: String,
    pub metric: bool,
    pub chapters: Vec<ChapterLink>,
}

/// What every page shows around its content.
pub(crate) struct Frame {
    pub title: String,
    pub assets: &'static str,
    pub csrf: String,
    pub user_name: String,
    pub user_id: i64,
    pub may_edit: bool,
    pub is_owner: bool,
    pub flash: Option<Flash>,
    pub site: Option<SiteFrame>,
    /// Address of this page, to come back to after a switch.
    pub here: String,
    /// The last day of a weather record that ended a while ago: the page is about its evening.
    pub record_ended: Option<String>,
    /// Where ET0 comes from at a site without a weather record.
    pub et0_from: Option<&'static str>,
    /// The day at the site, for fields that say "in 4 days".
    pub today: Date,
    /// How many hours the reader's clock has.
    pub hours: u8,
    /// What the reader writes first of a date: "day" or "month".
    pub dates: &'static str,
    /// What the clock of a demo shows.
    pub demo_clock: Option<String>,
}

/// Where ET0 of a day comes from at a site without a weather record; `None` where there is a record.
fn et0_source(climate: &Climate, day: Date) -> Option<&'static str> {
    if climate.span().is_some() {
        return None;
    }
    Some(match climate.expected_et0(day).1 {
        ExpectedFrom::Forecast => {
            "No weather is recorded here: ET0 of the next days is from the forecast, beyond it from normals or an estimate."
        }
        ExpectedFrom::Normals | ExpectedFrom::TypedNormals => {
            "No weather is recorded here: ET0 is from the monthly normals that were typed, and no rain is counted as fallen."
        }
        ExpectedFrom::RoughEstimate => {
            "No weather is recorded here: ET0 is a rough estimate from latitude and elevation, without rain."
        }
    })
}

impl Frame {
    /// A frame without a site.
    pub fn new(who: &SignedIn, title: impl Into<String>) -> Result<Self, PageError> {
        Ok(Self {
            title: title.into(),
            assets: &assets::VERSION,
            csrf: who.csrf()?,
            user_name: who.user.display_name.clone(),
            user_id: who.user.id,
            may_edit: who.may_edit(),
            is_owner: who.user.role.may(Capability::ManageAccounts),
            flash: who.take_flash(),
            site: None,
            here: "/".into(),
            record_ended: None,
            et0_from: None,
            hours: if who.user.habit.clock == Clock::Hours12 { 12 } else { 24 },
            dates: if who.user.habit.dates == DateOrder::MonthFirst { "month" } else { "day" },
            today: who.now.to_zoned(jiff::tz::TimeZone::UTC).date(),
            demo_clock: who.demo_clock.then(|| who.now.formatted("%-d %B %Y, %H:%M UTC")),
        })
    }

    /// How much time an owner can let pass on the clock of a demo: address and words.
    pub fn passing(&self) -> [(&'static str, &'static str); 2] {
        [("/clock/day", "Let a day pass"), ("/clock/week", "Let a week pass")]
    }

    /// A frame around a chapter of a site.
    pub fn of_site(here: &AtSite, title: impl Into<String>, chapter: Chapter) -> Result<Self, PageError> {
        let mut frame = Self::new(&here.who, title)?;
        frame.today = here.today();
        frame.record_ended = here.moment(None).record_ended.map(|last| last.formatted("%-d %B %Y"));
        let shown = here.now().to_zoned(here.records.tz.clone()).formatted("%A %-d %B %Y, %H:%M");
        frame.demo_clock = here.who.demo_clock.then_some(shown);
        frame.of_facts(&here.records, chapter);
        Ok(frame)
    }

    /// Adds the chapters of a site.
    pub fn of_facts(&mut self, facts: &SiteRecords, chapter: Chapter) {
        let frame = self;
        let SiteRecords { site, zones, controllers, .. } = facts;
        let unmeasured = zones.iter().filter(|z| z.zone.precipitation_rate.is_none()).count();
        let link = |key, of, name, path: &str, open| ChapterLink {
            key,
            name,
            href: format!("{}/{path}", address::site_root(site.id.number())),
            current: chapter == of,
            open,
        };
        let zones_open = if zones.is_empty() {
            Some("none yet".to_owned())
        } else {
            (unmeasured > 0).then(|| format!("{unmeasured} unmeasured"))
        };
        frame.et0_from = et0_source(&facts.climate, frame.today);
        let unset = controllers.iter().filter(|b| b.settings.is_none()).count();
        let programs_open = if controllers.is_empty() {
            Some("no controller".to_owned())
        } else {
            (unset > 0).then(|| format!("{unset} not entered"))
        };
        let weather_open = (site.weather_version == 0).then(|| "none yet".to_owned());
        frame.site = Some(SiteFrame {
            id: site.id.number(),
            name: site.site.name.clone(),
            metric: site.site.units == UnitSystem::Metric,
            chapters: vec![
                link(1, Chapter::Today, "Today", "today", None),
                link(2, Chapter::Zones, "Zones", "zones", zones_open),
                link(3, Chapter::Programs, "Programs", "programs", programs_open),
                link(4, Chapter::Sensors, "Sensors", "sensors", None),
                link(5, Chapter::Budget, "Budget", "budget", None),
                link(6, Chapter::Trial, "Compare", "trial", None),
                link(7, Chapter::Tuning, "Tuning", "tuning", None),
                link(8, Chapter::Logbook, "Logbook", "logbook", None),
                link(9, Chapter::Weather, "Weather", "weather", weather_open),
                link(0, Chapter::Site, "Site", "edit", None),
            ],
        });
        frame.here = frame
            .site
            .as_ref()
            .and_then(|s| s.chapters.iter().find(|c| c.current))
            .map_or_else(|| "/".to_owned(), |c| c.href.clone());
    }
}
