//! `simulate`: a season of a site's weather through one way of watering beside another, as JSON; and the six virtual
//! zones of the protocol.

use super::at_work::{at_work, climate, site, weather_notes};
use super::replay::of_longitude;
use super::weather::{self, Options};
use super::{Failure, check_span, print, print_json, print_notes, read_input};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use serde::Serialize;
use std::io::Write as _;
use std::sync::Arc;
use upland_core::account::site_account::AccountInputs;
use upland_core::account::zone::AccountHour;
use upland_core::advice::planner::{Binding, Strategy};
use upland_core::codes::Coded;
use upland_core::quantity::bounds::{self, Bound};
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::units::Metres;
use upland_core::site::SurveyedZone;
use upland_core::trial::protocol::{self, Miss, MissKind, NoReport, Report};
use upland_core::trial::{
    Bill, Named, NoSample, Pump, Refusal, Sample, Tariff, TrialWay, pick, run as try_way,
};
use upland_core::weather::Station;
use upland_formats::trial_json::{self, round};
use upland_formats::{trial_file, way_file};

#[derive(clap::Args)]
#[command(
    after_help = "Ways: as-set, as-advised, no-sensors, leave, monthly, weekly, et-sensor, daily-balance, or a file (see\n\
`schema way`). Without --way every named way that the controllers hold is tried. Output: JSON; lengths are millimetres over\n\
the zone, adequacy = what plants got of what they asked for, excess = watering that ran off or drained over what was\n\
applied. With --protocol the weather runs over six virtual zones instead of a site, and the shares are the protocol's\n\
own. Exit 1 for a wrong file or a way that cannot be tried, 2 for wrong usage."
)]
pub struct Args {
    /// The site file (JSON; see the schema command); left out with --protocol.
    #[arg(required_unless_present_any = ["protocol", "trial"], conflicts_with_all = ["protocol", "trial"])]
    site: Option<String>,
    /// Weather of any format that this program reads, or - for standard input.
    #[arg(required_unless_present_any = ["protocol", "trial"], conflicts_with_all = ["protocol", "trial"])]
    weather: Option<String>,
    #[command(flatten)]
    options: Options,
    /// A comparison with everything that went in (JSON; see `schema comparison`): it comes to the very same again.
    #[arg(long = "comparison", alias = "trial", value_name = "FILE", conflicts_with_all = ["protocol", "from", "to", "sample", "ways", "price", "pump", "log"])]
    trial: Option<String>,
    /// The six virtual zones on this weather, with --latitude, --longitude and --elevation.
    #[arg(long, value_name = "WEATHER", requires_all = ["latitude", "longitude", "elevation"])]
    protocol: Option<String>,
    /// Latitude, degrees, north positive.
    #[arg(long, allow_negative_numbers = true)]
    latitude: Option<f64>,
    /// Longitude, degrees, east positive.
    #[arg(long, allow_negative_numbers = true)]
    longitude: Option<f64>,
    /// Elevation, m.
    #[arg(long, allow_negative_numbers = true)]
    elevation: Option<f64>,
    /// First day, YYYY-MM-DD; the record's first when left out.
    #[arg(long)]
    from: Option<Date>,
    /// Last day, included; the record's last when left out.
    #[arg(long)]
    to: Option<Date>,
    /// A year picked or put together from the record instead of days: typical, driest, wettest, or generated:SEED.
    #[arg(long, value_parser = sample, conflicts_with_all = ["from", "to", "protocol"])]
    sample: Option<Sample>,
    /// A named way or the file of one; may be given several times.
    #[arg(long = "way")]
    ways: Vec<String>,
    /// Price of a cubic metre of water, or steps such as 100:1.2,500:1.8,2.5 (up to 100 m³ at 1.2, ...).
    #[arg(long, value_parser = tariff)]
    price: Option<Tariff>,
    /// What a bill is of, for the steps of the price: month, two_months, quarter, year or all_days.
    #[arg(long, value_parser = bill, requires = "price", default_value = "month")]
    bill: Bill,
    /// What the pump takes and the price of a kilowatt-hour, such as 4:0.31; with --price.
    #[arg(long, value_parser = pump, requires = "price")]
    pump: Option<Pump>,
    /// A CSV file of every hour: way, time, zone, rain, applied, runoff, drainage, et, depletion.
    #[arg(long)]
    trace: Option<std::path::PathBuf>,
    /// Earlier settings, and bypasses (JSON; see `schema log`).
    #[arg(long)]
    log: Option<String>,
}

fn tariff(text: &str) -> Result<Tariff, String> {
    let wrong = || "a price, or steps such as 100:1.2,500:1.8,2.5".to_owned();
    let number =
        |text: &str| text.parse::<f64>().ok().filter(|n| n.is_finite() && *n >= 0.0).ok_or_else(wrong);
    let step = |step: &str| match step.split_once(':') {
        Some((until, price)) => Ok((number(until)?, number(price)?)),
        None => Ok((f64::INFINITY, number(step)?)),
    };
    let steps: Vec<(f64, f64)> = text.split(',').map(step).collect::<Result<_, String>>()?;
    trial_file::check_steps(&steps)?;
    Ok(Tariff { steps, ..Tariff::default() })
}

fn bill(text: &str) -> Result<Bill, String> {
    Bill::from_code(text).ok_or_else(|| "month, two_months, quarter, year or all_days".to_owned())
}

fn pump(text: &str) -> Result<Pump, String> {
    let wrong = || "kilowatts and a price, such as 4:0.31".to_owned();
    let (kilowatts, price) = text.split_once(':').ok_or_else(wrong)?;
    let number = |text: &str, bound: &Bound| {
        let value = text.parse::<f64>().map_err(|_| wrong())?;
        bound.check(value).map_err(|error| error.to_string())
    };
    Ok(Pump { kilowatts: number(kilowatts, &bounds::PUMP_KILOWATTS)?, price: number(price, &bounds::PRICE)? })
}

fn sample(text: &str) -> Result<Sample, String> {
    let wrong = || "typical, driest, wettest, or generated:SEED with a whole number".to_owned();
    match (text, text.split_once(':')) {
        ("typical", _) => Ok(Sample::Typical),
        ("driest", _) => Ok(Sample::Driest),
        ("wettest", _) => Ok(Sample::Wettest),
        (_, Some(("generated", seed))) => seed.parse().map(Sample::Generated).map_err(|_| wrong()),
        _ => Err(wrong()),
    }
}

/// Why a record has no such weather.
fn no_sample(why: NoSample) -> Failure {
    Failure::Failed(match why {
        NoSample::NoWholeYear => {
            "no whole year is recorded, so none is driest or wettest; give --from and --to".into()
        }
        NoSample::NoTwoYears => {
            "a typical year needs every month whole in two years at least; give --from and --to".into()
        }
        NoSample::TooFewDays => {
            "a generated year needs about ten months of days on end to draw from; give --from and --to".into()
        }
    })
}

/// Why a way cannot be tried, and what to do.
fn refused(name: &str, refusals: &[Refusal]) -> String {
    let one = |refusal: &Refusal| match refusal {
        Refusal::Unset { controller_number } => {
            format!(
                "controller {controller_number} has no settings; give them in the site file, or try as-advised"
            )
        }
        Refusal::NoController { controller_number } => format!("there is no controller {controller_number}"),
        Refusal::CannotHold { controller_number, message } => {
            format!("controller {controller_number} cannot be set like this: {message}")
        }
        Refusal::NoPlan { controller_number, binding } => {
            let why = match binding {
                Binding::Window { needed_minutes, have_minutes, .. } => {
                    format!("a night needs {needed_minutes} min and has {have_minutes}")
                }
                other => format!("{other:?}"),
            };
            format!(
                "the planner finds no plan for controller {controller_number}: {why}; see the plan command"
            )
        }
        Refusal::NoSensor { name } => format!("no sensor is called {name:?}"),
        Refusal::NoPort { controller_number } => {
            format!(
                "controller {controller_number} takes no percentage from a sensor; its type has no port for it"
            )
        }
        Refusal::NoWeather => "the weather has no day in the span; choose other days".to_owned(),
    };
    let all: Vec<String> = refusals.iter().map(one).collect();
    format!("{name}: {}", all.join("; "))
}

/// The ways that were asked for; without any, every named one.
fn ways(args: &Args, facts: &AccountInputs) -> Result<Vec<TrialWay>, Failure> {
    if args.ways.is_empty() {
        return Ok(Named::TABLE.iter().map(|(named, code)| named.way(code)).collect());
    }
    let one = |text: &String| match Named::from_code(text) {
        Some(named) => Ok(named.way(text)),
        None => way_file::read(&read_input(text)?, facts).map_err(|p| Failure::problems(&p)),
    };
    args.ways.iter().map(one).collect()
}

pub fn run(args: &Args) -> Result<(), Failure> {
    if let Some(path) = &args.protocol {
        return of_protocol(args, path);
    }
    if let Some(path) = &args.trial {
        let trial = trial_file::read(&read_input(path)?).map_err(|p| Failure::problems(&p))?;
        let ready = trial.ready().map_err(no_sample)?;
        let (facts, span) = (&ready.facts, ready.span);
        return try_all(args, facts, span, &trial.ways, trial.tariff.as_ref());
    }
    let (Some(site_path), Some(weather_path)) = (&args.site, &args.weather) else {
        return Err(Failure::Usage("give a site file and a weather file, --comparison or --protocol".into()));
    };
    let read = site(site_path)?;
    let climate = climate(weather_path, &args.options, &read.0, &read.1)?;
    let Some(DateSpan { first, last }) = climate.span() else {
        return Err(Failure::Failed(format!("{weather_path}: no day counts, so nothing can be tried")));
    };
    let days = Sample::Days(DateSpan::new(args.from.unwrap_or(first), args.to.unwrap_or(last)));
    let picked = pick(args.sample.unwrap_or(days), &Arc::new(climate), &read.1).map_err(no_sample)?;
    let span = picked.span;
    check_span(span.first, span.last)?;
    weather_notes(&picked.climate, span.first, span.last);
    let facts = at_work(read.0, read.1, picked.climate, args.log.as_deref(), span.last)?;
    let tariff =
        args.price.as_ref().map(|tariff| Tariff { pump: args.pump, bill: args.bill, ..tariff.clone() });
    try_all(args, &facts, span, &ways(args, &facts)?, tariff.as_ref())
}

/// Runs ways and prints what they come to.
fn try_all(
    args: &Args,
    facts: &AccountInputs,
    span: DateSpan,
    ways: &[TrialWay],
    tariff: Option<&Tariff>,
) -> Result<(), Failure> {
    let mut trace = args.trace.as_deref().map(Trace::open).transpose()?;
    let mut rows = Vec::new();
    // A named way that nobody asked for is left out, and said.
    let all = args.ways.is_empty() && args.trial.is_none();
    for way in ways {
        let each = |place: usize, hour: &AccountHour| {
            if let Some(trace) = &mut trace {
                trace.hour(&way.name, facts, place, hour);
            }
        };
        match try_way(way, facts, span, tariff, each) {
            Ok(result) => rows.push(result),
            Err(refusals) if all => print_notes(&[refused(&way.name, &refusals)]),
            Err(refusals) => return Err(Failure::Failed(refused(&way.name, &refusals))),
        }
    }
    if rows.is_empty() {
        return Err(Failure::Failed("no option can be calculated".into()));
    }
    if let Some(trace) = trace {
        trace.close()?;
    }
    print(&trial_json::write(span.first, span.last, &rows))
}

/// Every hour of every way as CSV.
struct Trace {
    file: std::io::BufWriter<std::fs::File>,
    broken: Option<std::io::Error>,
}

impl Trace {
    fn open(path: &std::path::Path) -> Result<Self, Failure> {
        let failed = |error| Failure::Failed(format!("{}: {error}", path.display()));
        let file = std::fs::File::create(path).map_err(failed)?;
        let mut trace = Self { file: std::io::BufWriter::new(file), broken: None };
        trace.line(format_args!(
            "way,time,zone,rain_mm,rain_in_mm,applied_mm,applied_in_mm,runoff_mm,drainage_mm,et_mm,depletion_mm"
        ));
        Ok(trace)
    }

    fn line(&mut self, line: std::fmt::Arguments<'_>) {
        if self.broken.is_none() {
            self.broken = writeln!(self.file, "{line}").err();
        }
    }

    fn hour(&mut self, way: &str, facts: &AccountInputs, place: usize, hour: &AccountHour) {
        let Some(SurveyedZone { zone, .. }) = facts.zones.get(place) else { return };
        let at = hour.from.to_zoned(facts.tz.clone()).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string();
        let w = &hour.water;
        self.line(format_args!(
            "{way},{at},{}-{},{:.6},{:.6},{:.6},{:.6},{:.6},{:.6},{:.6},{:.6}",
            zone.controller_number,
            zone.number,
            w.rain.mm(),
            w.rain_in.mm(),
            w.applied.mm(),
            w.applied_in.mm(),
            w.runoff.mm(),
            w.drainage.mm(),
            w.et.mm(),
            w.depletion.mm()
        ));
    }

    fn close(mut self) -> Result<(), Failure> {
        let flushed = self.file.flush();
        match self.broken.or(flushed.err()) {
            Some(error) => Err(Failure::Failed(format!("the trace: {error}"))),
            None => Ok(()),
        }
    }
}

#[derive(Serialize)]
struct ReportRow {
    from: String,
    to: String,
    rain_mm: f64,
    et0_mm: f64,
    ways: Vec<ReportWay>,
}

#[derive(Serialize)]
struct ReportWay {
    name: String,
    zones: Vec<ReportZone>,
    adequacy: f64,
    excess: f64,
}

#[derive(Serialize)]
struct ReportZone {
    number: u16,
    adequacy: f64,
    excess: f64,
    misses: Vec<String>,
}

fn of_protocol(args: &Args, path: &str) -> Result<(), Failure> {
    let (Some(latitude_deg), Some(longitude), Some(elevation)) =
        (args.latitude, args.longitude, args.elevation)
    else {
        return Err(Failure::Usage("--protocol needs --latitude, --longitude and --elevation".into()));
    };
    let station = Station {
        latitude_deg,
        longitude_deg: longitude,
        elevation: Metres::from_m(elevation),
        wind_height: Metres::from_m(2.0),
    };
    let tz = of_longitude(longitude);
    let record = weather::read(path, &args.options, &station, &tz)?;
    let facts = protocol::facts(weather::climate(&record, station), station, longitude, &tz);
    let span = facts.climate.span();
    let asked = (args.from.is_some() || args.to.is_some()).then_some(span).flatten();
    let period =
        asked.map(|record| DateSpan::new(args.from.unwrap_or(record.first), args.to.unwrap_or(record.last)));
    if let Some(DateSpan { first, last }) = period {
        check_span(first, last)?;
    }
    let report = protocol::report(&facts, period, Strategy::TABLE).map_err(|why| match why {
        NoReport::NoPeriod => Failure::Failed(format!(
            "{path}: {} have at least 10.2 mm (0.40 in) of rain and 63.5 mm (2.50 in) of ET0, and no gap; give other \
             weather or other days",
            if period.is_some() { "the days asked for do not" } else { "no thirty days on end" }
        )),
        NoReport::Refused(refusals) => Failure::Failed(refused("daily-balance", &refusals)),
    })?;
    print_json(&report_row(&report, &facts.tz))
}

fn report_row(report: &Report, tz: &TimeZone) -> ReportRow {
    let zone = |zone: &protocol::ZoneReport| ReportZone {
        number: zone.number,
        adequacy: round(zone.adequacy.fraction()),
        excess: round(zone.excess.fraction()),
        misses: zone.misses.iter().map(|miss| missed(miss, tz)).collect(),
    };
    let way = |way: &protocol::WayReport| ReportWay {
        name: way.name.clone(),
        zones: way.zones.iter().map(zone).collect(),
        adequacy: round(way.adequacy.fraction()),
        excess: round(way.excess.fraction()),
    };
    ReportRow {
        from: report.period.first.to_string(),
        to: report.period.last.to_string(),
        rain_mm: round(report.weather.0.mm()),
        et0_mm: round(report.weather.1.mm()),
        ways: report.ways.iter().map(way).collect(),
    }
}

/// A miss in words, with its hour.
fn missed(miss: &Miss, tz: &TimeZone) -> String {
    let at = miss.at.to_zoned(tz.clone()).strftime("%Y-%m-%dT%H:%M").to_string();
    let what = match miss.kind {
        MissKind::Short => "plants were short of",
        MissKind::RanOff => "watering that ran off:",
        MissKind::Drained => "watering that drained:",
    };
    let (depletion, refill) = miss.depletion;
    format!(
        "{at} and after: {what} {:.2} mm; {:.1} mm below full, refill at {:.1}",
        miss.amount.mm(),
        depletion.mm(),
        refill.mm()
    )
}
