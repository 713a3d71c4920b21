//! A trial with everything that went in, as one JSON file: the site, its weather, what its probes read, the ways and
//! the tariff. Run again it comes to the very same. Its JSON Schema is published as `docs/trial-v1.schema.json`.

use crate::json::{Checker, Code, PathProblem, parse, pretty, schema_of};
use crate::log_file::LogFile;
use crate::site_file::{self, SiteFile};
use crate::{normals, way_file};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::account::site_account::AccountInputs;
use upland_core::quantity::bounds;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::units::Millimetres;
use upland_core::sensors::{Reading, Readings};
use upland_core::trial::{Bill, NoSample, Origin, Pump, Sample, Tariff, TrialWay, pick};
use upland_core::weather::DayWeather;
use upland_core::weather::climate::{Climate, RainHours, TypedNormals};
use upland_core::weather::record::{RawDay, VARIABLES};

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-trial";
/// The version this module reads and writes.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes: thirty years of days, and more.
pub const MAX_BYTES: usize = 16 * 1024 * 1024;
/// Most ways of a trial.
pub const MAX_WAYS: usize = 40;
/// Most days of a trial: three years.
pub const MAX_DAYS: i32 = 3 * 366;
/// Most steps of a price.
pub const MAX_STEPS: usize = 12;

/// The weather of a trial.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct TrialWeather {
    /// The number under which the site's weather stood.
    pub revision: i64,
    /// Its days, in order, wind at 2 m.
    pub days: Vec<DayWeather>,
    /// Rain of days without temperatures.
    pub rain_alone: BTreeMap<Date, Millimetres>,
    /// The hours in which rain was recorded.
    pub rain_hours: RainHours,
    /// Typed normals.
    pub normals: Option<TypedNormals>,
}

impl TrialWeather {
    /// What went into a climate.
    #[must_use]
    pub fn of(climate: &Climate, revision: i64) -> Self {
        let Some(DateSpan { first, last }) = climate.span() else {
            return Self { revision, normals: climate.typed(), ..Self::default() };
        };
        Self {
            revision,
            days: climate.range(first, last).map(|(_, day)| day.weather).collect(),
            rain_alone: climate.rain_alone().clone(),
            rain_hours: climate.all_rain_hours().clone(),
            normals: climate.typed(),
        }
    }
}

/// A trial with everything that went in.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialFile {
    /// Its name.
    pub name: String,
    /// The site, with the settings that were in force at the end of the days.
    pub site: SiteFile,
    /// Its weather.
    pub weather: TrialWeather,
    /// What probes in the soil read, by controller and name.
    pub probes: BTreeMap<(u8, String), Vec<Reading>>,
    /// Which weather is tried.
    pub sample: Sample,
    /// What water and pump cost, if that was said.
    pub tariff: Option<Tariff>,
    /// The ways.
    pub ways: Vec<TrialWay>,
}

/// A trial ready to be run.
#[derive(Debug, Clone)]
pub struct Ready {
    /// The facts, under the weather that was picked.
    pub facts: AccountInputs,
    /// First and last day.
    pub span: DateSpan,
    /// Where the days come from.
    pub origin: Origin,
}

impl TrialFile {
    /// Puts everything together.
    ///
    /// # Errors
    /// When the record is too short for the weather that is asked for.
    pub fn ready(&self) -> Result<Ready, NoSample> {
        let station = self.site.site.station().at_two_metres();
        let climate = Climate::from_record(&self.weather.days, station)
            .with_rain_hours(self.weather.rain_hours.clone())
            .with_typed(self.weather.normals)
            .with_rain_alone(self.weather.rain_alone.clone());
        self.ready_on(&Arc::new(climate))
    }

    /// The same on a climate that was computed from the weather already.
    ///
    /// # Errors
    /// As [`Self::ready`].
    pub fn ready_on(&self, climate: &Arc<Climate>) -> Result<Ready, NoSample> {
        // The name was checked when the site was read.
        let tz = TimeZone::get(&self.site.site.time_zone).unwrap_or(TimeZone::UTC);
        let picked = pick(self.sample, climate, &tz)?;
        let mut facts = self.site.facts(tz, picked.climate, LogFile::default(), picked.span.last);
        for own in &mut facts.controllers {
            for sensor in &mut own.sensors {
                let probe = self.probes.get(&(own.number, sensor.sensor.name.clone()));
                sensor.probe = probe.map_or_else(Readings::default, |all| Readings::new(all.clone()));
            }
        }
        Ok(Ready { facts, span: picked.span, origin: picked.origin })
    }
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(
    title = "Upland Almanac comparison",
    description = "A comparison of ways of watering with everything that went in, version 1. Run again it comes to the same."
)]
struct FileDto {
    /// Always "upland-almanac-trial".
    #[schemars(schema_with = "format_schema")]
    format: String,
    /// Always 1.
    #[schemars(schema_with = "version_schema")]
    version: u32,
    name: String,
    /// A site as in site-v1.
    site: Value,
    weather: WeatherDto,
    /// What probes in the soil read.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    probes: Vec<ProbeDto>,
    sample: SampleDto,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    tariff: Option<TariffDto>,
    /// Ways as in way-v1.
    ways: Vec<Value>,
}

/// The record: a day a line.
#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Weather")]
struct WeatherDto {
    /// The number under which it stood at the site.
    revision: i64,
    /// Date, then lowest and highest temperature in °C, dew point in °C, lowest and highest humidity in percent, vapour
    /// pressure in kPa, solar radiation in MJ/m² a day, wind at 2 m in m/s, rain in mm; null where it was not measured.
    #[schemars(with = "Vec<(String, Vec<Option<f64>>)>")]
    days: Vec<(Date, [Option<f64>; VARIABLES])>,
    /// Rain of days without temperatures, mm.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schemars(with = "BTreeMap<String, f64>")]
    rain_alone_mm: BTreeMap<Date, f64>,
    /// Hours in which rain was recorded: begin and mm, by day.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schemars(with = "BTreeMap<String, Vec<(String, f64)>>")]
    rain_hours_mm: BTreeMap<Date, Vec<(Timestamp, f64)>>,
    /// Typed monthly normals.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    normals: Option<Value>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Probe")]
struct ProbeDto {
    /// Number of its controller.
    controller: u8,
    /// Its name.
    name: String,
    /// Instants (RFC 3339) and percent of water by volume.
    #[schemars(with = "Vec<(String, f64)>")]
    readings: Vec<(Timestamp, f64)>,
}

#[derive(Serialize, Deserialize, JsonSchema, Clone)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "Sample")]
enum SampleDto {
    /// Days of the record, YYYY-MM-DD, both included.
    Days { from: String, to: String },
    /// A year of which each month is the most ordinary of its name.
    Typical,
    /// The whole year with the most ET0 less rain.
    Driest,
    /// The one with the least.
    Wettest,
    /// A year of days drawn from the record by a seed.
    Generated { seed: u64 },
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Tariff")]
struct TariffDto {
    /// Cubic metres up to which a price holds (null: without end), and the price of one.
    steps: Vec<(Option<f64>, f64)>,
    /// What a bill is of; the steps begin anew with each. Where left out, all days together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    bill: Option<Code<Bill>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pump: Option<PumpDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Pump")]
struct PumpDto {
    kilowatts: f64,
    /// Price of a kilowatt-hour.
    price: f64,
}

crate::json::head_schemas!();

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    schema_of::<FileDto>()
}

/// Writes a trial.
#[must_use]
pub fn write(trial: &TrialFile) -> String {
    let weather = &trial.weather;
    pretty(&FileDto {
        format: FORMAT.to_owned(),
        version: VERSION,
        name: trial.name.clone(),
        site: site_file::to_value(&trial.site),
        weather: WeatherDto {
            revision: weather.revision,
            days: weather.days.iter().map(RawDay::from).map(|raw| (raw.date, *raw.values())).collect(),
            rain_alone_mm: weather.rain_alone.iter().map(|(date, mm)| (*date, mm.mm())).collect(),
            rain_hours_mm: weather.rain_hours.clone(),
            normals: weather.normals.as_ref().map(normals::to_json),
        },
        probes: trial
            .probes
            .iter()
            .map(|((controller, name), readings)| ProbeDto {
                controller: *controller,
                name: name.clone(),
                readings: readings.iter().map(|r| (r.at, r.value)).collect(),
            })
            .collect(),
        sample: match trial.sample {
            Sample::Days(span) => SampleDto::Days { from: span.first.to_string(), to: span.last.to_string() },
            Sample::Typical => SampleDto::Typical,
            Sample::Driest => SampleDto::Driest,
            Sample::Wettest => SampleDto::Wettest,
            Sample::Generated(seed) => SampleDto::Generated { seed },
        },
        tariff: trial.tariff.as_ref().map(|tariff| TariffDto {
            steps: tariff
                .steps
                .iter()
                .map(|(until, price)| (until.is_finite().then_some(*until), *price))
                .collect(),
            bill: Some(Code(tariff.bill)),
            pump: tariff.pump.map(|pump| PumpDto { kilowatts: pump.kilowatts, price: pump.price }),
        }),
        ways: trial.ways.iter().map(way_file::to_value).collect(),
    })
}

/// Reads a trial.
///
/// # Errors
/// Every problem of the outer file, or of the site, or of the ways, each with its path.
pub fn read(bytes: &[u8]) -> Result<TrialFile, Vec<PathProblem>> {
    let dto: FileDto = parse(bytes, MAX_BYTES)?;
    let within = |at: String, problems: Vec<PathProblem>| {
        problems.into_iter().map(move |p| PathProblem { path: format!("{at}.{}", p.path), ..p })
    };
    let site = site_file::read(dto.site.to_string().as_bytes())
        .map_err(|problems| within("site".into(), problems).collect::<Vec<_>>())?;
    let mut take = Checker::default();
    take.header((&dto.format, FORMAT), (dto.version, VERSION));
    let name = take.name("name", &dto.name);
    let weather = weather(&mut take, &dto.weather);
    let sample = sample(&mut take, &dto.sample);
    let tariff = dto.tariff.as_ref().map(|own| tariff(&mut take, own));
    let probes = dto.probes.into_iter().map(|own| {
        let readings = own.readings.into_iter().map(|(at, value)| Reading { at, value });
        ((own.controller, own.name), readings.collect())
    });
    let probes = probes.collect();
    if dto.ways.is_empty() || dto.ways.len() > MAX_WAYS {
        take.say("ways", format!("has {} entries; a comparison has one to {MAX_WAYS}", dto.ways.len()));
    }
    let mut trial = TrialFile { name, site, weather, probes, sample, tariff, ways: Vec::new() };
    if take.problems.is_empty() {
        // Ways name controllers and sensors of the site.
        let tz = TimeZone::get(&trial.site.site.time_zone).unwrap_or(TimeZone::UTC);
        let climate = Climate::from_record(&[], trial.site.site.station());
        let there = trial.site.facts(tz, climate, LogFile::default(), Date::constant(2026, 1, 1));
        for (at, own) in dto.ways.iter().enumerate() {
            match way_file::read(own.to_string().as_bytes(), &there) {
                Ok(way) => trial.ways.push(way),
                Err(problems) => take.problems.extend(within(format!("ways[{at}]"), problems)),
            }
        }
    }
    take.finish(trial)
}

fn weather(take: &mut Checker, dto: &WeatherDto) -> TrialWeather {
    if !dto.days.iter().zip(dto.days.iter().skip(1)).all(|(a, b)| a.0 < b.0) {
        take.say("weather.days", "must be in order, each day once");
    }
    let mut days = Vec::with_capacity(dto.days.len());
    for (at, (date, values)) in dto.days.iter().enumerate() {
        match RawDay::of(*date, *values).weather() {
            Some(day) => days.push(day),
            None => {
                take.say(&format!("weather.days[{at}]"), "a day needs its lowest and highest temperature");
            }
        }
    }
    let normals = dto.normals.clone().and_then(|own| match normals::from_json(own) {
        Ok(normals) => Some(normals),
        Err(problems) => {
            for problem in problems {
                take.say(&format!("weather.normals.{}", problem.path), problem.message);
            }
            None
        }
    });
    TrialWeather {
        revision: dto.revision,
        days,
        rain_alone: dto.rain_alone_mm.iter().map(|(date, mm)| (*date, Millimetres::from_mm(*mm))).collect(),
        rain_hours: dto.rain_hours_mm.clone(),
        normals,
    }
}

fn sample(take: &mut Checker, dto: &SampleDto) -> Sample {
    match dto {
        SampleDto::Days { from, to } => {
            let (from, to) = (take.date("sample.days.from", from), take.date("sample.days.to", to));
            if take.problems.is_empty() && (to < from || to >= from.saturating_add(MAX_DAYS.days())) {
                take.say("sample.days.to", "must not lie before the first day, nor three years after it");
            }
            Sample::Days(DateSpan::new(from, to))
        }
        SampleDto::Typical => Sample::Typical,
        SampleDto::Driest => Sample::Driest,
        SampleDto::Wettest => Sample::Wettest,
        SampleDto::Generated { seed } => Sample::Generated(*seed),
    }
}

fn tariff(take: &mut Checker, dto: &TariffDto) -> Tariff {
    let steps: Vec<(f64, f64)> =
        dto.steps.iter().map(|(until, price)| (until.unwrap_or(f64::INFINITY), *price)).collect();
    if let Err(message) = check_steps(&steps) {
        take.say("tariff.steps", message);
    }
    let pump = dto.pump.as_ref().map(|own| Pump {
        kilowatts: take.bounded("tariff.pump.kilowatts", &bounds::PUMP_KILOWATTS, own.kilowatts),
        price: take.bounded("tariff.pump.price", &bounds::PRICE, own.price),
    });
    Tariff { steps, pump, bill: dto.bill.as_ref().map_or(Bill::AllDays, |own| own.0) }
}

/// Whether steps of a price can be: they rise, and no price is less than nothing.
///
/// # Errors
/// What is wrong.
pub fn check_steps(steps: &[(f64, f64)]) -> Result<(), String> {
    if steps.len() > MAX_STEPS {
        Err(format!("at most {MAX_STEPS} steps"))
    } else if !steps.iter().all(|(_, price)| bounds::PRICE.check(*price).is_ok()) {
        Err(format!("a price lies between 0 and {}", bounds::PRICE.max))
    } else if !steps.iter().all(|(until, _)| *until > 0.0) {
        Err("a step ends at a number of cubic metres".into())
    } else if steps.iter().zip(steps.iter().skip(1)).all(|(a, b)| a.0 < b.0) {
        Ok(())
    } else {
        Err("the steps must rise".into())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use upland_core::quantity::units::{Celsius, MetresPerSecond};
    use upland_core::trial::{Named, WayResult, run};

    /// The demo's first site through three years of invented days, one of them without temperatures.
    fn trial(sample: Sample) -> TrialFile {
        let bytes = include_bytes!("../../app/src/demo/sites/quarryfoot.json");
        let site = site_file::read(bytes).unwrap();
        let dates = date(2023, 1, 1).series(1.day()).take_while(|d| d.year() < 2026);
        let days = dates.filter(|d| *d != date(2025, 6, 4)).map(|d| {
            let warm = 9.1 * (f64::from(d.day_of_year() - 200) / 365.0 * std::f64::consts::TAU).cos();
            let (min, max) = (Celsius::from_c(6.3 + warm), Celsius::from_c(18.7 + warm));
            let mut day = DayWeather::from_temperatures(d, min, max);
            day.wind = Some(MetresPerSecond::from_m_per_s(1.0 + f64::from(d.day()) / 17.0));
            let rain = if d.day_of_year() % 5 == 0 { 0.1 + f64::from(d.day()) / 3.0 } else { 0.0 };
            day.rain = Some(Millimetres::from_mm(rain));
            day
        });
        let begin: Timestamp = "2025-07-10T13:00:00Z".parse().unwrap();
        TrialFile {
            name: "Dry year".into(),
            site,
            weather: TrialWeather {
                revision: 4,
                days: days.collect(),
                rain_alone: [(date(2025, 6, 4), Millimetres::from_mm(4.4))].into(),
                rain_hours: [(date(2025, 7, 10), vec![(begin, 3.0)])].into(),
                normals: None,
            },
            probes: [((1, "Probe".into()), vec![Reading { at: begin, value: 23.25 }])].into(),
            sample,
            tariff: Some(Tariff {
                steps: vec![(100.0, 1.2), (f64::INFINITY, 2.5)],
                pump: Some(Pump { kilowatts: 3.0, price: 0.31 }),
                bill: Bill::Quarter,
            }),
            ways: [Named::AsSet, Named::Monthly, Named::DailyBalance].map(|n| n.way("a way")).into(),
        }
    }

    fn results(trial: &TrialFile) -> Vec<WayResult> {
        let ready = trial.ready().unwrap();
        let one = |way| run(way, &ready.facts, ready.span, trial.tariff.as_ref(), |_, _| ()).unwrap();
        trial.ways.iter().map(one).collect()
    }

    #[test]
    fn a_trial_survives_its_file_and_comes_to_the_very_same() {
        for sample in [
            Sample::Days(DateSpan::new(date(2025, 4, 1), date(2025, 9, 30))),
            Sample::Typical,
            Sample::Generated(7),
        ] {
            let own = trial(sample);
            let file = write(&own);
            let again = read(file.as_bytes()).unwrap();
            assert_eq!(again.weather, own.weather);
            assert_eq!((&again.tariff, &again.ways, &again.probes), (&own.tariff, &own.ways, &own.probes));
            assert_eq!(results(&again), results(&own), "{sample:?}");
            assert_eq!(write(&again), file, "written again it is the same");
        }
    }

    #[test]
    fn it_fits_its_schema_and_the_published_schema_is_the_one_in_force() {
        let schema: Value = serde_json::from_str(&schema()).unwrap();
        let file: Value = serde_json::from_str(&write(&trial(Sample::Driest))).unwrap();
        let validator = jsonschema::validator_for(&schema).unwrap();
        let wrong: Vec<String> = validator.iter_errors(&file).map(|e| e.to_string()).collect();
        assert!(wrong.is_empty(), "{wrong:?}");
        assert_eq!(include_str!("../../../docs/trial-v1.schema.json"), super::schema());
    }

    #[test]
    fn what_is_wrong_is_told_by_path() {
        let mut file: Value = serde_json::from_str(&write(&trial(Sample::Wettest))).unwrap();
        let problems = |file: &Value| {
            let problems = read(file.to_string().as_bytes()).unwrap_err();
            problems.into_iter().map(|p| p.path).collect::<Vec<_>>()
        };
        file["ways"][1]["percentages"] = serde_json::json!("guessed");
        assert_eq!(problems(&file), ["ways[1].percentages"]);
        file["name"] = "".into();
        file["tariff"]["steps"] = serde_json::json!([[200, 1.0], [100, 2.0]]);
        file["tariff"]["pump"]["kilowatts"] = (-1.0).into();
        file["sample"] = serde_json::json!({ "days": { "from": "2025-05-02", "to": "2025-05-01" } });
        file["weather"]["days"][3][1][0] = Value::Null;
        let all = ["name", "weather.days[3]", "tariff.steps", "tariff.pump.kilowatts"];
        assert_eq!(problems(&file), all);
        file["site"]["zones"][0]["soil"] = "mud".into();
        assert_eq!(problems(&file), ["site.zones[0].soil"]);
        assert!(read(b"[]").is_err() && read(b"").is_err());
    }

    #[test]
    fn a_record_that_is_too_short_is_said() {
        let mut own = trial(Sample::Typical);
        own.weather.days.truncate(200);
        assert_eq!(own.ready().unwrap_err(), NoSample::NoTwoYears);
        let own = TrialFile { weather: TrialWeather::default(), ..own };
        assert!(matches!(own.ready(), Err(NoSample::NoTwoYears)));
    }
}
