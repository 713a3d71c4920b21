//! `replay`: a rain switch at each step of its card on a weather file, as JSON.

use super::weather::{self, Options};
use super::{Failure, bounded, print_json, print_notes, read_input};
use jiff::tz::{Offset, TimeZone};
use jiff::{Timestamp, ToSpan};
use serde::Serialize;
use upland_core::account::sensed::{as_read, stands};
use upland_core::advice::rain_replay::steps;
use upland_core::quantity::bounds;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::time::midnight;
use upland_core::quantity::units::Metres;
use upland_core::sensors::state::{Cause, Hold, rain_holds};
use upland_core::sensors::{Channel, Readings, Sense};
use upland_core::weather::Station;
use upland_formats::sensor_file;

#[derive(clap::Args)]
#[command(
    after_help = "Output: JSON. For each step: how often it trips, on how many midnights it holds, and every hold with the\n\
first rain of its event and the rain until it tripped. Days are those of the time zone; without one, of the sun."
)]
pub struct Args {
    /// The sensor file (JSON; see `schema sensor`).
    sensor: String,
    /// Weather of any format that this program reads.
    weather: String,
    #[command(flatten)]
    options: Options,
    /// Degrees, north positive.
    #[arg(long, value_parser = |t: &str| bounded(t, &bounds::LATITUDE), allow_negative_numbers = true)]
    latitude: f64,
    /// Degrees, east positive.
    #[arg(long, value_parser = |t: &str| bounded(t, &bounds::LONGITUDE), allow_negative_numbers = true)]
    longitude: f64,
    /// Metres above the sea.
    #[arg(long, value_parser = |t: &str| bounded(t, &bounds::ELEVATION), allow_negative_numbers = true)]
    elevation: f64,
    /// IANA name of the time zone.
    #[arg(long)]
    time_zone: Option<String>,
}

#[derive(Serialize)]
struct Output {
    thresholds: Vec<Step>,
}

#[derive(Serialize)]
struct Step {
    threshold_mm: f64,
    trips: usize,
    nights_held: usize,
    holds: Vec<HoldRow>,
}

#[derive(Serialize)]
struct HoldRow {
    event_from: Option<String>,
    from: String,
    until: Option<String>,
    rain_mm: Option<f64>,
}

/// The zone of whole hours nearest to the sun's time.
pub(super) fn of_longitude(longitude_deg: f64) -> TimeZone {
    #[allow(clippy::cast_possible_truncation, reason = "twelve hours at most")]
    let hours = (longitude_deg / 15.0).round() as i8;
    Offset::from_hours(hours).map_or(TimeZone::UTC, TimeZone::fixed)
}

pub fn run(args: &Args) -> Result<(), Failure> {
    let sensor = sensor_file::read(&read_input(&args.sensor)?).map_err(|p| Failure::problems(&p))?;
    if !sensor.card.senses(Sense::Rain) {
        return Err(Failure::Failed(format!("{}: it does not sense rain; give a rain switch", args.sensor)));
    }
    let tz = match &args.time_zone {
        Some(name) => TimeZone::get(name).map_err(|e| Failure::Usage(format!("--time-zone: {e}")))?,
        None => of_longitude(args.longitude),
    };
    let station = Station {
        latitude_deg: args.latitude,
        longitude_deg: args.longitude,
        elevation: Metres::from_m(args.elevation),
        wind_height: Metres::from_m(2.0),
    };
    let record = weather::read(&args.weather, &args.options, &station, &tz)?;
    let climate = weather::climate(&record, station);
    let Some(DateSpan { first, last }) = climate.span() else {
        return Err(Failure::Failed(format!("{}: no day counts, so nothing can be replayed", args.weather)));
    };
    let without = climate.days_without_rain_record(first, last);
    if without > 0 {
        print_notes(&[format!("{without} days have no rain recorded; the switch sees none on them")]);
    }
    let read = as_read(&climate, args.longitude, first, last, &tz);
    let none = Readings::default();
    let rain = read.channels.get(&Channel::Rain).unwrap_or(&none);
    let end = midnight(last.tomorrow().unwrap_or(last), &tz);
    let nights: Vec<Timestamp> =
        first.series(1.day()).take_while(|d| *d <= last).map(|d| midnight(d + 1.day(), &tz)).collect();
    let clock = |at: Timestamp| at.to_zoned(tz.clone()).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string();
    let row = |hold: &Hold| {
        let (since, fallen) = match hold.cause {
            Cause::Rain { fallen_mm, since } => (Some(since), Some(fallen_mm)),
            _ => (None, None),
        };
        HoldRow {
            event_from: since.map(clock),
            from: clock(hold.from),
            until: hold.until.map(clock),
            rain_mm: fallen.map(|mm| (mm * 100.0).round() / 100.0),
        }
    };
    let step = |threshold: &upland_core::quantity::units::Millimetres| {
        let holds = rain_holds(*threshold, sensor.setting.release, rain, &read.drying, end);
        Step {
            threshold_mm: threshold.mm(),
            trips: holds.len(),
            nights_held: nights.iter().filter(|at| stands(&holds, **at)).count(),
            holds: holds.iter().map(row).collect(),
        }
    };
    let output = Output { thresholds: steps(&sensor.card).iter().map(step).collect() };
    print_json(&output)
}
