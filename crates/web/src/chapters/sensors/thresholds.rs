//! Each rain threshold on the record of the site, and its last year as a strip.

use crate::page::dates::DateFormat;
use crate::page::quantities::{plain, rain_threshold, volume};
use crate::page::sensor_words::{cause, moment};
use crate::site::snapshot::SiteSnapshot;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use upland_core::account::sensed::{as_read, nights};
use upland_core::advice::rain_replay::{
    AdvisedThreshold, Because, ThresholdResult, advised, steps, thresholds,
};
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::time::midnight;
use upland_core::quantity::units::Millimetres;
use upland_core::sensors::state::{Hold, rain_holds};
use upland_core::sensors::{Channel, Readings, Sense};
use upland_core::site::UnitSystem;
use upland_store::sensors::SensorRecord;

pub(super) struct ThresholdRow {
    pub threshold: String,
    pub mm: String,
    pub trips: u32,
    pub held: u32,
    pub in_need: u32,
    pub out_of_season: u32,
    pub kept: String,
    pub set: bool,
    /// Why it is the one to choose; empty for the others.
    pub because: String,
}

/// A span of the year as a strip shows it.
pub(super) struct Span {
    pub x: String,
    pub width: String,
    pub title: String,
}

/// The thresholds of a rain sensor on the record, and its last year.
#[derive(Default)]
pub(super) struct Replayed {
    pub rows: Vec<ThresholdRow>,
    pub words: String,
    pub spans: Vec<Span>,
    pub months: Vec<Span>,
}

/// Days of the record that thresholds are tried on, and days of the strip.
const TRIED_DAYS: i32 = 730;
const STRIP_DAYS: i32 = 365;

/// The last year of the record for a sensor of rain, at every threshold.
pub(super) fn replayed(snapshot: &SiteSnapshot, record: &SensorRecord) -> Replayed {
    let (Some(own), Some(DateSpan { first, last })) =
        (snapshot.site_controller(record.sensor.controller_number), snapshot.climate.span())
    else {
        return Replayed::default();
    };
    if !record.sensor.card.senses(Sense::Rain) {
        return Replayed::default();
    }
    let to = last.min(snapshot.today());
    let from = first.max(to.checked_sub((TRIED_DAYS - 1).days()).unwrap_or(first));
    let installation = snapshot.installation(own);
    let settings = own.settings_or_clean();
    let (card, map) = (&record.sensor.card, &record.sensor.map);
    let all = nights(&installation, &settings, &snapshot.climate, card, map, from, to);
    let read = as_read(&snapshot.climate, snapshot.records.site.site.longitude_deg, from, to, &snapshot.tz);
    let none = Readings::default();
    let rain = read.channels.get(&Channel::Rain).unwrap_or(&none);
    let set = record.sensor.setting;
    let results = thresholds(&steps(card), set.release, rain, &read.drying, &all);
    let begin = to.checked_sub((STRIP_DAYS - 1).days()).unwrap_or(from).max(from);
    let (zero, end) = (midnight(begin, &snapshot.tz), midnight(to.tomorrow().unwrap_or(to), &snapshot.tz));
    let holds = rain_holds(set.rain_threshold, set.release, rain, &read.drying, end);
    let (spans, months) = strip(snapshot, &holds, begin, to, zero, end);
    #[allow(clippy::cast_precision_loss, reason = "nights of some years")]
    let years = all.len() as f64 / 365.25;
    let season = all.iter().filter(|n| n.summer).count();
    Replayed {
        rows: threshold_rows(snapshot.units(), &results, set.rain_threshold, years),
        words: format!(
            "{season} of {} nights from {} to {} lie in the season, the months with the greater demand; water is saved on them alone, as the controller is set now. A night is wrongly skipped when a zone had reached its refill point, rain counted.",
            all.len(),
            from.formatted("%-d %b %Y"),
            to.formatted("%-d %b %Y")
        ),
        spans,
        months,
    }
}

fn threshold_rows(
    units: UnitSystem,
    results: &[ThresholdResult],
    set: Millimetres,
    years: f64,
) -> Vec<ThresholdRow> {
    let best = advised(results, years);
    let row = |r: &ThresholdResult| ThresholdRow {
        threshold: rain_threshold(units, r.threshold),
        mm: plain(r.threshold.mm(), 2),
        trips: r.trips(),
        held: r.held,
        in_need: r.held_in_need,
        out_of_season: r.held_out_of_season,
        kept: volume(units, r.kept),
        set: (r.threshold.mm() - set.mm()).abs() < 1e-9,
        because: best.filter(|b| b.result == r).map(|b| because(&b, units)).unwrap_or_default(),
    };
    results.iter().map(row).collect()
}

/// Why a threshold is the one to choose.
fn because(advised: &AdvisedThreshold<'_>, units: UnitSystem) -> String {
    match advised.because {
        Because::CommonPractice => "the usual half inch: no other step does clearly better".to_owned(),
        Because::FewerInNeed { nights } => {
            format!("{nights} nights less against need than the usual half inch, and nearly as much kept")
        }
        Because::KeepsMore { water } => format!(
            "saves {} more in the season than the usual half inch, with no more wrongly skipped nights",
            volume(units, water)
        ),
        Because::LeastInNeed => "has the fewest wrongly skipped nights".to_owned(),
    }
}

/// The holds between two instants and the months, as the strip shows them.
fn strip(
    snapshot: &SiteSnapshot,
    holds: &[Hold],
    begin: Date,
    to: Date,
    zero: Timestamp,
    end: Timestamp,
) -> (Vec<Span>, Vec<Span>) {
    let width = end.duration_since(zero).as_secs_f64().max(1.0);
    let x = |at: Timestamp| (100.0 * at.duration_since(zero).as_secs_f64() / width).clamp(0.0, 100.0);
    let shown = holds.iter().filter(|h| h.until.unwrap_or(end) > zero);
    let spans = shown.map(|h| {
        let (a, b) = (x(h.from), x(h.until.unwrap_or(end)));
        Span {
            x: format!("{a:.2}%"),
            width: format!("{:.2}%", (b - a).max(0.2)),
            title: format!("{}: {}", moment(h.from, &snapshot.tz), cause(snapshot.units(), h.cause)),
        }
    });
    let days = begin.series(1.day()).take_while(|date| *date <= to);
    let months = days.filter(|date| date.day() == 1).map(|date| Span {
        x: format!("{:.2}%", x(midnight(date, &snapshot.tz))),
        width: String::new(),
        title: date.formatted("%b"),
    });
    (spans.collect(), months.collect())
}
