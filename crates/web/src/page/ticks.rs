//! A tick that counts, as a button: who did it and when, or that it is not done yet.

use crate::page::dates::DateFormat;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::sync::Arc;
use upland_core::quantity::time::monday_of;
use upland_store::ticks::{TickRecord, What};

/// A tick as a button.
pub(crate) struct TickMark {
    /// Where it is sent.
    pub action: String,
    pub what: &'static str,
    pub about: i64,
    pub number: i32,
    /// "Programmed", "Called".
    pub label: String,
    /// Who and when, once it is done.
    pub done: Option<String>,
    /// Where one comes back to.
    pub back: String,
}

impl TickMark {
    pub fn of(
        site: i64,
        what: What,
        about: i64,
        number: i32,
        known: &[TickRecord],
        tz: &TimeZone,
        back: String,
    ) -> Self {
        let own = known
            .iter()
            .find(|t| (t.site_id.number(), t.what, t.about, t.number) == (site, what, about, number));
        Self {
            action: format!("{}/ticks", address::site_root(site)),
            what: what.code(),
            about,
            number,
            label: crate::page::quantities::capital(what.label()),
            done: own
                .map(|t| format!("{}, {}", t.said_by, t.at.to_zoned(tz.clone()).formatted("%-d %b %H:%M"))),
            back,
        }
    }
}

/// A list of steps with ticks: what is ticked stands on the server, for everybody who works on the list.
pub(crate) struct StepList {
    /// Its name: it belongs to a controller, and to a version or a day.
    pub key: String,
    /// Where a tick is sent; empty for who may not tick: then ticks stay on the device.
    pub steps: String,
    /// The ticked steps, with spaces between them.
    pub ticked: String,
    /// Who ticked the last one, and when.
    pub last: Option<String>,
}

impl StepList {
    pub async fn of(here: &AtSite, key: String) -> Result<Self, PageError> {
        let (site, list) = (here.site_key(), key.clone());
        let known = here.read(move |snapshot| snapshot.step_ticks(site, &list)).await?;
        let last = known.last().map(|tick| {
            let at = tick.ticked_at.to_zoned(here.records.tz.clone());
            format!("{}, {}", tick.ticked_by, at.formatted("%-d %b %H:%M"))
        });
        let root = address::site_root(here.id());
        Ok(Self {
            key,
            steps: if here.who.may_edit() { format!("{root}/steps") } else { String::new() },
            ticked: known.iter().map(|tick| tick.step.as_str()).collect::<Vec<_>>().join(" "),
            last,
        })
    }
}

/// A day as ticks are numbered: days from 1970.
pub(crate) fn day_number(day: Date) -> i32 {
    (day - Date::constant(1970, 1, 1)).get_days()
}

/// The day of such a number.
pub(crate) fn day_of(number: i32) -> Option<Date> {
    Date::constant(1970, 1, 1).checked_add(jiff::Span::new().try_days(number).ok()?).ok()
}

/// The week of a call, as its tick is numbered: that of its Monday.
pub(crate) fn week_number(day: Date) -> i32 {
    day_number(monday_of(day))
}

questions! {
    facts OfSite {} -> Vec<TickRecord>;
}

/// The ticks of a site that stand, read once for a revision of it.
pub(crate) async fn ticks_of(here: &AtSite) -> Result<Arc<Vec<TickRecord>>, PageError> {
    let of_site = here.site_key();
    here.more(OfSite {}, 3, move |snapshot| snapshot.ticks(of_site)).await
}
