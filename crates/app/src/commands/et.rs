//! `et`: reference evapotranspiration of a weather file.

use super::weather;
use super::{Failure, bounded, print, print_notes, read_input};
use jiff::tz::TimeZone;
use upland_core::quantity::bounds;
use upland_core::quantity::units::{Celsius, MegajoulesPerSquareMetre, Metres, MetresPerSecond, Millimetres};
use upland_core::weather::record::{HourVariable, RawHour};
use upland_core::weather::reference_et::{Method, daily, daily_with, hourly_series};
use upland_core::weather::{DayWeather, HourHumidity, HourWeather, Station};
use upland_formats::{daily_csv, hourly_csv};

#[derive(clap::Args)]
#[command(
    after_help = "Daily input columns: date, tmin_c, tmax_c and any of dew_point_c, rh_min_pct, rh_max_pct,\n\
vapour_pressure_kpa, solar_mj_m2, wind_m_s, rain_mm (or tmin_f, tmax_f, rain_in, wind_mph, ...).\n\
Hourly input columns: time (ISO 8601 with offset, stamped at the START of the hour), temp_c,\n\
rh_pct or dew_point_c, solar_w_m2, wind_m_s, optional rain_mm.\n\
Output: date or time, et0_mm, method. Exit 1 for a wrong file, 2 for wrong usage."
)]
pub struct Args {
    /// Latitude, degrees, north positive.
    #[arg(long, allow_negative_numbers = true, value_parser = |s: &str| bounded(s, &bounds::LATITUDE))]
    latitude: f64,
    /// Elevation, metres.
    #[arg(long, allow_negative_numbers = true, value_parser = |s: &str| bounded(s, &bounds::ELEVATION))]
    elevation: f64,
    /// Longitude, degrees, east positive; needed with --hourly.
    #[arg(long, allow_negative_numbers = true, value_parser = |s: &str| bounded(s, &bounds::LONGITUDE))]
    longitude: Option<f64>,
    /// Height of the wind sensor, metres.
    #[arg(long, default_value = "2", value_parser = |s: &str| bounded(s, &bounds::WIND_HEIGHT))]
    wind_height: f64,
    /// The file has hours, not days.
    #[arg(long, requires = "longitude")]
    hourly: bool,
    /// The file is of another format: EPW, GHCN-Daily CSV, or a table read with --mapping. Values
    /// that a rule rejects are left out; hours become days unless --hourly is given.
    #[arg(long)]
    any: bool,
    #[command(flatten)]
    options: weather::Options,
    /// IANA time zone of stamps that carry no offset.
    #[arg(long, default_value = "UTC")]
    time_zone: String,
    /// Take this equation for every day, filling what it needs; left out, each day takes
    /// Penman-Monteith when more than temperatures were measured, else Hargreaves-Samani.
    #[arg(long, value_enum, conflicts_with = "hourly")]
    method: Option<MethodArg>,
    /// The weather file, or - for standard input.
    file: String,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum MethodArg {
    PenmanMonteith,
    Hargreaves,
}

impl From<MethodArg> for Method {
    fn from(arg: MethodArg) -> Self {
        match arg {
            MethodArg::PenmanMonteith => Self::PenmanMonteith,
            MethodArg::Hargreaves => Self::HargreavesSamani,
        }
    }
}

pub fn run(args: &Args) -> Result<(), Failure> {
    let station = Station {
        latitude_deg: args.latitude,
        longitude_deg: args.longitude.unwrap_or(0.0),
        elevation: Metres::from_m(args.elevation),
        wind_height: Metres::from_m(args.wind_height),
    };
    if args.any {
        return of_any(args, &station);
    }
    let bytes = read_input(&args.file)?;
    if args.hourly {
        let file = hourly_csv::read(&bytes).map_err(|p| Failure::problems(&p))?;
        let hours: Vec<_> = file.hours.iter().map(|(_, hour)| *hour).collect();
        print_notes(&file.notes);
        return print(&hourly_csv::write_et(&file.hours, &hourly_series(&hours, &station)));
    }
    let file = daily_csv::read(&bytes, &station).map_err(|p| Failure::problems(&p))?;
    print_notes(&file.notes);
    print_days(args, &file.days, &station)
}

/// A file of another format.
fn of_any(args: &Args, station: &Station) -> Result<(), Failure> {
    let tz =
        TimeZone::get(&args.time_zone).map_err(|error| Failure::Usage(format!("--time-zone: {error}")))?;
    let file = weather::read(&args.file, &args.options, station, &tz)?;
    if !args.hourly {
        return print_days(args, &weather::counted(&file, station), station);
    }
    let hours: Vec<(String, HourWeather)> = file.hours.iter().filter_map(whole_hour).collect();
    if hours.len() < file.hours.len() {
        print_notes(&[format!(
            "{} hours lack temperature, humidity, radiation or wind and have no ET0",
            file.hours.len() - hours.len()
        )]);
    }
    if hours.is_empty() {
        return Err(Failure::Failed("no hour has temperature, humidity, radiation and wind".into()));
    }
    let values: Vec<_> = hours.iter().map(|(_, hour)| *hour).collect();
    print(&hourly_csv::write_et(&hours, &hourly_series(&values, station)))
}

/// An hour that has all that hourly ET0 needs, with its start as text.
fn whole_hour(hour: &RawHour) -> Option<(String, HourWeather)> {
    let humidity = match (hour.get(HourVariable::DewPoint), hour.get(HourVariable::Humidity)) {
        (Some(dew), _) => HourHumidity::DewPoint(Celsius::from_c(dew)),
        (None, Some(pct)) => HourHumidity::RelativePct(pct.min(100.0)),
        (None, None) => return None,
    };
    Some((
        hour.start.to_string(),
        HourWeather {
            start: hour.start,
            local_date: hour.local_date,
            temperature: Celsius::from_c(hour.get(HourVariable::Temperature)?),
            humidity,
            solar: MegajoulesPerSquareMetre::from_mj_per_m2(hour.get(HourVariable::Solar)?),
            wind: MetresPerSecond::from_m_per_s(hour.get(HourVariable::Wind)?),
            rain: hour.get(HourVariable::Rain).map(Millimetres::from_mm),
        },
    ))
}

fn print_days(args: &Args, days: &[DayWeather], station: &Station) -> Result<(), Failure> {
    let rows: Vec<_> = days
        .iter()
        .map(|day| {
            let et = match args.method {
                Some(method) => daily_with(method.into(), day, station),
                None => daily(day, station),
            };
            (day.date, et.et0.mm(), et.label())
        })
        .collect();
    print(&daily_csv::write_et(rows.iter().map(|(date, et0, label)| (*date, *et0, label.as_str()))))
}
