//! What a trial is asked for: which weather, at what price, and what of the answer is opened.

use crate::page::quantities::{plain, short_date};
use crate::server::error::PageError;
use crate::server::reader::habit;
use crate::server::session::Fields;
use crate::site::context::AtSite;
use actix_web::web;
use jiff::ToSpan;
use jiff::civil::Date;
use upland_core::quantity::bounds::{self, Bound};
use upland_core::quantity::month::Month;
use upland_core::trial::{NoSample, Origin, Pump, Sample, Tariff};
use upland_core::weather::climate::Climate;
use upland_formats::trial_file::{MAX_DAYS, check_steps};
use upland_formats::typed;

/// What the page is asked for, as it was typed.
#[derive(serde::Deserialize, Clone, Default)]
pub(super) struct Query {
    /// days, typical, driest, wettest or generated.
    pub weather: Option<String>,
    pub from: Option<String>,
    pub to: Option<String>,
    pub seed: Option<String>,
    /// Price of a cubic metre, or steps.
    pub price: Option<String>,
    /// Kilowatts of the pump, and the price of a kilowatt-hour.
    pub kw: Option<String>,
    pub kwh: Option<String>,
    /// The way that is opened.
    pub way: Option<String>,
    /// The zone that is opened: box-station.
    pub zone: Option<String>,
    /// The day that is opened.
    pub day: Option<String>,
}

/// What is tried.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Asked {
    pub sample: Sample,
    pub tariff: Option<Tariff>,
}

/// The trial that a form was shown beside, as its address asked for it.
pub(super) fn asked_beside(fields: &Fields) -> Result<Query, PageError> {
    let query = web::Query::from_query(fields.get("same"));
    query.map(web::Query::into_inner).map_err(|error| PageError::BadRequest(error.to_string()))
}

/// The kinds of weather: their word in addresses, and on the page.
pub(super) const WEATHERS: [(&str, &str); 5] = [
    ("days", "these days"),
    ("typical", "a typical year"),
    ("driest", "the driest year"),
    ("wettest", "the wettest year"),
    ("generated", "a generated year"),
];

fn text(value: Option<&String>) -> Option<&str> {
    value.map(|t| t.trim()).filter(|t| !t.is_empty())
}

/// A day of the form, or what is wrong with it.
fn day(asked: Option<&String>, (other, today): (Date, Date), what: &str, errors: &mut Vec<String>) -> Date {
    match text(asked).map(|text| typed::date(text, today, habit())) {
        None => other,
        Some(Ok(date)) => date,
        Some(Err(refusal)) => {
            errors.push(format!("{what}: {refusal}"));
            other
        }
    }
}

fn number(asked: Option<&String>, bound: &Bound, errors: &mut Vec<String>) -> Option<f64> {
    let value = typed::quantity(text(asked)?, bound.unit);
    match value.map(|v| bound.check(v)) {
        Ok(Ok(value)) => Some(value),
        Ok(Err(error)) => {
            errors.push(format!("{error}."));
            None
        }
        Err(refusal) => {
            errors.push(format!("{}: {refusal}", bound.name));
            None
        }
    }
}

/// A price, or steps such as `100: 1.2, 500: 1.8, 2.5`: up to 100 m³ at 1.2 each, and so on.
fn steps(asked: Option<&String>, errors: &mut Vec<String>) -> Option<Vec<(f64, f64)>> {
    let asked = text(asked)?;
    let one = |step: &str| match step.split_once(':') {
        Some((until, price)) => Some((typed::number(until).ok()?, typed::number(price).ok()?)),
        None => Some((f64::INFINITY, typed::number(step).ok()?)),
    };
    // A price alone may be written with a comma.
    let whole = typed::number(asked).ok().map(|price| vec![(f64::INFINITY, price)]);
    let read = whole.or_else(|| asked.split(',').map(one).collect());
    let fault = match &read {
        Some(steps) => check_steps(steps).err(),
        None => Some("a number, or steps such as 100: 1.2, 500: 1.8, 2.5".to_owned()),
    };
    if let Some(fault) = fault {
        errors.push(format!("Price of a cubic metre: {fault}."));
        return None;
    }
    read
}

/// What is asked, by default the last year of the record; with what cannot be read or tried.
pub(super) fn read(here: &AtSite, query: &Query) -> (Asked, Vec<String>) {
    read_on(&here.facts.climate, here.moment(None).date, query)
}

/// The same on the climate of a site and its day.
pub(super) fn read_on(climate: &Climate, today: Date, query: &Query) -> (Asked, Vec<String>) {
    let mut errors = Vec::new();
    let (first, last) = climate.span().unwrap_or((today, today));
    let to = last.min(today);
    let year_before = to.checked_sub(364.days()).unwrap_or(to).max(first);
    let from = day(query.from.as_ref(), (year_before, today), "First day", &mut errors);
    let to = day(query.to.as_ref(), (to, today), "Last day", &mut errors);
    let sample = match text(query.weather.as_ref()).unwrap_or("days") {
        "days" => {
            let days = (to - from).get_days();
            if days < 0 {
                errors.push("The last day lies before the first.".into());
            } else if days >= MAX_DAYS {
                errors.push("At most three years are tried at once; choose fewer days.".into());
            }
            Sample::Days(from, to)
        }
        "typical" => Sample::Typical,
        "driest" => Sample::Driest,
        "wettest" => Sample::Wettest,
        "generated" => match text(query.seed.as_ref()).unwrap_or("1").parse() {
            Ok(seed) => Sample::Generated(seed),
            Err(_) => {
                errors.push("The seed of a generated year is a whole number, nought or more.".into());
                Sample::Generated(1)
            }
        },
        _ => {
            errors.push("Choose the weather from the list.".into());
            Sample::Days(from, to)
        }
    };
    let steps = steps(query.price.as_ref(), &mut errors);
    let kilowatts = number(query.kw.as_ref(), &bounds::PUMP_KILOWATTS, &mut errors);
    let price = number(query.kwh.as_ref(), &bounds::PRICE, &mut errors);
    let pump = match (kilowatts, price) {
        (Some(kilowatts), Some(price)) => Some(Pump { kilowatts, price }),
        (None, None) => None,
        _ => {
            errors.push("A pump costs its kilowatts times the price of a kilowatt-hour: give both.".into());
            None
        }
    };
    let tariff = (steps.is_some() || pump.is_some())
        .then(|| Tariff { steps: steps.unwrap_or_else(|| Tariff::plain(0.0).steps), pump });
    (Asked { sample, tariff }, errors)
}

impl Asked {
    /// The same question as an address asks it.
    pub fn query(&self) -> String {
        let weather = match self.sample {
            Sample::Days(from, to) => format!("weather=days&from={from}&to={to}"),
            Sample::Typical => "weather=typical".into(),
            Sample::Driest => "weather=driest".into(),
            Sample::Wettest => "weather=wettest".into(),
            Sample::Generated(seed) => format!("weather=generated&seed={seed}"),
        };
        let Some(tariff) = &self.tariff else { return weather };
        let price = format!("{weather}&price={}", price_text(tariff));
        match tariff.pump {
            Some(pump) => format!("{price}&kw={}&kwh={}", pump.kilowatts, pump.price),
            None => price,
        }
    }
}

/// A tariff as it is typed.
pub(super) fn price_text(tariff: &Tariff) -> String {
    let step = |(until, price): &(f64, f64)| {
        if until.is_finite() { format!("{until}:{price}") } else { price.to_string() }
    };
    tariff.steps.iter().map(step).collect::<Vec<_>>().join(",")
}

/// Where the days come from, in words.
pub(super) fn origin(origin: &Origin, (from, to): (Date, Date)) -> String {
    let days = plain(f64::from((to - from).get_days() + 1), 0);
    match origin {
        Origin::Record => format!("{days} days of the site's own weather"),
        Origin::OneOf(1) => {
            format!("{days} days from {}, the one whole year that is recorded", short_date(from))
        }
        Origin::OneOf(years) => {
            format!("{days} days from {} {}, of {years} whole years recorded", short_date(from), from.year())
        }
        Origin::Months(months) => {
            let of =
                |(month, year): (&i8, &i16)| Some(format!("{} {year}", Month::from_number(*month)?.short()));
            let months: Vec<String> = months.iter().filter_map(of).collect();
            format!("A year of the most ordinary months of the record ({})", months.join(", "))
        }
        Origin::Drawn(seed) => {
            format!("A year of days drawn from the record, each after one like it, by the seed {seed}")
        }
    }
}

/// Days of a trial that nobody recorded, and what stands in for them; `None` when every day is known.
pub(super) fn gaps(climate: &Climate, (from, to): (Date, Date)) -> Option<String> {
    let dates = || from.series(1.day()).take_while(|date| *date <= to);
    let missing: Vec<Date> = dates().filter(|date| climate.day(*date).is_none()).collect();
    let dry = climate.days_without_rain_record(from, to);
    let mut told = Vec::new();
    if let (Some(first), Some(last)) = (missing.first(), missing.last()) {
        told.push(match missing.len() {
            1 => format!("One day, {}, was not recorded: what is expected stands in for it, without rain.", short_date(*first)),
            n => format!(
                "{n} days between {} and {} {} were not recorded: what is expected stands in for them, without rain.",
                short_date(*first),
                short_date(*last),
                last.year()
            ),
        });
    }
    if dry > 0 {
        told.push(format!("On {dry} days no rain was recorded, and none is counted."));
    }
    (!told.is_empty()).then(|| told.join(" "))
}

/// The weather in a few words, for a reason.
pub(super) fn short(asked: &Asked) -> String {
    match asked.sample {
        Sample::Days(from, to) => format!("{from} to {to}"),
        Sample::Typical => "a typical year".into(),
        Sample::Driest => "the driest year".into(),
        Sample::Wettest => "the wettest year".into(),
        Sample::Generated(seed) => format!("a year generated by {seed}"),
    }
}

/// Why there is no such weather, and what to do.
pub(super) fn no_sample(why: NoSample) -> String {
    match why {
        NoSample::NoWholeYear => {
            "No whole year is recorded, so none is the driest or the wettest. Bring more weather, or choose days.".into()
        }
        NoSample::NoTwoYears => {
            "A typical year needs every month whole in two years at least. Bring more weather, or choose days.".into()
        }
        NoSample::TooFewDays => {
            "A generated year is drawn from ten months of days on end at least. Bring more weather, or choose days.".into()
        }
    }
}
