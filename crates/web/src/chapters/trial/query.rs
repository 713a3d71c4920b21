//! What a trial is asked for: which weather, at what price, and what of the answer is opened.

use crate::page::quantities::{counted, short_date};
use crate::server::error::PageError;
use crate::server::request_locale::habit;
use crate::server::session::Fields;
use crate::site::context::AtSite;
use actix_web::web;
use jiff::ToSpan;
use jiff::civil::Date;
use upland_core::codes::Coded;
use upland_core::quantity::bounds::{self, Bound};
use upland_core::quantity::month::Month;
use upland_core::quantity::span::DateSpan;
use upland_core::trial::{Bill, NoSample, Origin, Pump, Sample, Tariff};
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
    /// What a bill is of.
    pub bill: Option<String>,
    /// Kilowatts of the pump, and the price of a kilowatt-hour.
    pub kw: Option<String>,
    pub kwh: Option<String>,
    /// The way that is opened.
    pub way: Option<String>,
    /// The zone that is opened: controller-station.
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
fn day(asked: Option<&String>, other: Date, today: Date, what: &str, errors: &mut Vec<String>) -> Date {
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

/// Steps as they are typed, one by one. They are parted by `;`, or by a comma where it cannot be a decimal sign.
fn parted(text: &str) -> Result<Vec<&str>, String> {
    if text.contains(';') {
        return Ok(text.split(';').collect());
    }
    let is_digit = |letter: Option<char>| letter.is_some_and(|l| l.is_ascii_digit());
    let between_digits = |(at, _): (usize, &str)| {
        let (before, after) = text.split_at(at);
        is_digit(before.chars().next_back()) && is_digit(after.chars().nth(1))
    };
    if !text.contains('.') && text.match_indices(',').any(between_digits) {
        return Err(
            "is its comma a decimal sign, or does it part two steps? Part them by ; as in 100: 1,20; 2,50"
                .into(),
        );
    }
    Ok(text.split(',').collect())
}

/// A price, or steps such as `100: 1.2; 500: 1.8; 2.5`: up to 100 m³ at 1.2 each, and so on.
fn steps(asked: Option<&String>, errors: &mut Vec<String>) -> Option<Vec<(f64, f64)>> {
    let asked = text(asked)?;
    let one = |step: &str| match step.split_once(':') {
        Some((until, price)) => Some((typed::number(until).ok()?, typed::number(price).ok()?)),
        None => Some((f64::INFINITY, typed::number(step).ok()?)),
    };
    // A price alone may be written with a comma.
    let whole = typed::number(asked).ok().map(|price| vec![(f64::INFINITY, price)]);
    let read = whole.map_or_else(
        || {
            let read: Option<Vec<_>> = parted(asked)?.into_iter().map(one).collect();
            read.ok_or_else(|| "a number, or steps such as 100: 1.2; 500: 1.8; 2.5".to_owned())
        },
        Ok,
    );
    read.and_then(|steps| check_steps(&steps).map(|()| steps))
        .map_err(|fault| errors.push(format!("Price of a cubic metre: {fault}.")))
        .ok()
}

/// What is asked, by default the last year of the record; with what cannot be read or tried.
pub(super) fn read(here: &AtSite, query: &Query) -> (Asked, Vec<String>) {
    read_on(&here.records.climate, here.moment(None).date, query)
}

/// The same on the climate of a site and its day.
pub(super) fn read_on(climate: &Climate, today: Date, query: &Query) -> (Asked, Vec<String>) {
    let mut errors = Vec::new();
    let DateSpan { first, last } = climate.span().unwrap_or(DateSpan::new(today, today));
    let to = last.min(today);
    let year_before = to.checked_sub(364.days()).unwrap_or(to).max(first);
    let from = day(query.from.as_ref(), year_before, today, "First day", &mut errors);
    let to = day(query.to.as_ref(), to, today, "Last day", &mut errors);
    let sample = match text(query.weather.as_ref()).unwrap_or("days") {
        "days" => {
            let days = (to - from).get_days();
            if days < 0 {
                errors.push("The last day lies before the first.".into());
            } else if days >= MAX_DAYS {
                errors.push("At most three years are tried at once; choose fewer days.".into());
            }
            Sample::Days(DateSpan::new(from, to))
        }
        "typical" => Sample::Typical,
        "driest" => Sample::Driest,
        "wettest" => Sample::Wettest,
        "generated" => match text(query.seed.as_ref()).unwrap_or("1").parse() {
            Ok(seed) => Sample::Generated(seed),
            Err(_) => {
                errors.push("The seed of a generated year is a whole number, 0 or more.".into());
                Sample::Generated(1)
            }
        },
        _ => {
            errors.push("Choose the weather from the list.".into());
            Sample::Days(DateSpan::new(from, to))
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
    let bill = match text(query.bill.as_ref()) {
        None => Bill::default(),
        Some(code) => Bill::from_code(code).unwrap_or_else(|| {
            errors.push("Choose from the list what a bill is of.".into());
            Bill::default()
        }),
    };
    let tariff = (steps.is_some() || pump.is_some()).then(|| Tariff {
        steps: steps.unwrap_or_else(|| Tariff::plain(0.0).steps),
        pump,
        bill,
    });
    (Asked { sample, tariff }, errors)
}

impl Asked {
    /// The same question as an address asks it.
    pub fn query(&self) -> String {
        let weather = match self.sample {
            Sample::Days(DateSpan { first: from, last: to }) => format!("weather=days&from={from}&to={to}"),
            Sample::Typical => "weather=typical".into(),
            Sample::Driest => "weather=driest".into(),
            Sample::Wettest => "weather=wettest".into(),
            Sample::Generated(seed) => format!("weather=generated&seed={seed}"),
        };
        let Some(tariff) = &self.tariff else { return weather };
        let price = format!("{weather}&price={}&bill={}", price_text(tariff), tariff.bill.code());
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
    tariff.steps.iter().map(step).collect::<Vec<_>>().join(";")
}

/// Where the days come from, in words.
pub(super) fn origin(origin: &Origin, from: Date, to: Date) -> String {
    let days = counted((to - from).get_days() + 1, "day");
    match origin {
        Origin::Record => format!("{days} of the site's own weather"),
        Origin::OneOf(1) => {
            format!("{days} from {}, the one whole year that is recorded", short_date(from))
        }
        Origin::OneOf(years) => {
            format!("{days} from {} {}, of {years} whole years recorded", short_date(from), from.year())
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
pub(super) fn gaps(climate: &Climate, from: Date, to: Date) -> Option<String> {
    let dates = || from.series(1.day()).take_while(|date| *date <= to);
    let missing: Vec<Date> = dates().filter(|date| climate.day(*date).is_none()).collect();
    let dry = climate.days_without_rain_record(from, to);
    let mut told = Vec::new();
    if let (Some(first), Some(last)) = (missing.first(), missing.last()) {
        told.push(match missing.len() {
            1 => format!("One day, {}, was not recorded: the expected demand is used for it, without rain.", short_date(*first)),
            n => format!(
                "{n} days between {} and {} {} were not recorded: the expected demand is used for them, without rain.",
                short_date(*first),
                short_date(*last),
                last.year()
            ),
        });
    }
    if dry > 0 {
        told.push(format!("On {} no rain was recorded, and none is counted.", counted(dry, "day")));
    }
    (!told.is_empty()).then(|| told.join(" "))
}

/// The weather in a few words, for a reason.
pub(super) fn short(asked: &Asked) -> String {
    match asked.sample {
        Sample::Days(DateSpan { first: from, last: to }) => format!("{from} to {to}"),
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

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use upland_core::quantity::units::{Celsius, Millimetres};
    use upland_core::weather::DayWeather;

    const TODAY: Date = Date::constant(2026, 7, 14);

    /// Two years of days that end a month before today, one of them without temperatures and two without rain.
    fn climate() -> Climate {
        let site = crate::fixture::decided(upland_core::site::UnitSystem::Metric).records.site.site.clone();
        let dates = date(2024, 6, 15).series(1.day()).take_while(|d| *d < date(2026, 6, 15));
        let days = dates.filter(|d| *d != date(2026, 5, 3)).map(|d| {
            let mut day = DayWeather::from_temperatures(d, Celsius::from_c(9.0), Celsius::from_c(21.0));
            day.rain =
                (d.year() != 2026 || d.month() != 5 || d.day() > 5).then_some(Millimetres::from_mm(2.0));
            day
        });
        Climate::from_record(&days.collect::<Vec<_>>(), site.station())
    }

    /// A query as an address asks it.
    fn query(text: &str) -> Query {
        web::Query::<Query>::from_query(text).unwrap().into_inner()
    }

    fn asked(text: &str) -> (Asked, Vec<String>) {
        read_on(&climate(), TODAY, &query(text))
    }

    fn refused(text: &str) -> String {
        let (_, errors) = asked(text);
        assert_eq!(errors.len(), 1, "{text}: {errors:?}");
        errors.into_iter().next().unwrap()
    }

    fn price(text: &str) -> Vec<(f64, f64)> {
        let mut errors = Vec::new();
        let steps = steps(Some(&text.to_owned()), &mut errors);
        assert_eq!(errors, Vec::<String>::new(), "{text}");
        steps.unwrap()
    }

    #[test]
    fn nothing_asked_is_the_last_recorded_year_without_prices() {
        let whole =
            Asked { sample: Sample::Days(DateSpan::new(date(2025, 6, 15), date(2026, 6, 14))), tariff: None };
        assert_eq!(asked(""), (whole.clone(), vec![]));
        assert_eq!(asked("weather=&price=+&kw=&from="), (whole, vec![]), "emptied fields ask for nothing");
        // A site of a week's record, and one of none.
        let site = crate::fixture::decided(upland_core::site::UnitSystem::Metric).records.site.site.clone();
        let week: Vec<DayWeather> = (0..7)
            .map(|k| {
                DayWeather::from_temperatures(
                    date(2026, 7, 1) + k.days(),
                    Celsius::from_c(9.0),
                    Celsius::from_c(21.0),
                )
            })
            .collect();
        let short = Climate::from_record(&week, site.station());
        let (days, errors) = read_on(&short, TODAY, &Query::default());
        assert_eq!(
            (days.sample, errors),
            (Sample::Days(DateSpan::new(date(2026, 7, 1), date(2026, 7, 7))), vec![])
        );
        let none = Climate::from_record(&[], site.station());
        assert_eq!(
            read_on(&none, TODAY, &Query::default()).0.sample,
            Sample::Days(DateSpan::new(TODAY, TODAY))
        );
    }

    #[test]
    fn an_address_asks_again_for_the_very_same() {
        let all = [
            "weather=days&from=2026-05-01&to=2026-05-01",
            "weather=typical&price=1,20",
            "weather=driest&price=100:1.2;500:1.8;2.5",
            "weather=wettest&kw=4&kwh=0.3",
            "weather=generated&seed=18446744073709551615&price=100:1&kw=0.5&kwh=0.25",
        ];
        for text in all {
            let (first, errors) = asked(text);
            assert_eq!(errors, Vec::<String>::new(), "{text}");
            assert_eq!(asked(&first.query()), (first.clone(), vec![]), "{text} as {}", first.query());
        }
    }

    #[test]
    fn a_comma_is_a_decimal_sign_or_parts_steps_and_is_asked_about_where_it_may_be_both() {
        let all = |price: f64| vec![(f64::INFINITY, price)];
        assert_eq!(price("1.2"), all(1.2));
        assert_eq!(price("1,2"), all(1.2));
        assert_eq!(price("0"), all(0.0));
        let two = vec![(100.0, 1.2), (f64::INFINITY, 2.5)];
        for text in ["100:1.2,2.5", "100: 1.2, 2.5", "100: 1.2; 2.5", "100: 1,20; 2,50", " 100 :1.2 ;2.5 "] {
            assert_eq!(price(text), two, "{text}");
        }
        assert_eq!(price("100: 1, 2"), [(100.0, 1.0), (f64::INFINITY, 2.0)]);
        assert_eq!(price("100: 1; 500: 2"), [(100.0, 1.0), (500.0, 2.0)], "the last holds beyond");
        for text in ["100: 1,20", "100:1,500:2,3", "100: 1,20, 2,50"] {
            let told = refused(&format!("price={text}"));
            assert!(
                told.contains("is its comma a decimal sign") && told.contains("100: 1,20; 2,50"),
                "{told}"
            );
        }
    }

    #[test]
    fn what_cannot_be_tried_is_told_once_and_says_what_to_do() {
        for (text, words) in [
            ("from=2026-06-02&to=2026-06-01", "lies before the first"),
            ("from=2022-01-01&to=2026-01-01", "choose fewer days"),
            ("from=soon", "First day: "),
            ("to=2026-02-30", "Last day: "),
            ("weather=rainy", "from the list"),
            ("weather=generated&seed=-1", "a whole number, 0 or more"),
            ("weather=generated&seed=1.5", "a whole number, 0 or more"),
            ("price=much", "a number, or steps such as"),
            ("price=100:1;50:2", "the steps must rise"),
            ("price=100:1;100:2", "the steps must rise"),
            ("price=0:1;2", "ends at a number of cubic metres"),
            ("price=-1", "a price lies between"),
            ("price=1;", "a number, or steps such as"),
            ("kw=4", "give both"),
            ("kwh=0.3", "give both"),
        ] {
            let told = refused(text);
            assert!(told.contains(words), "{text}: {told}");
        }
        // Three years to the day, and a day more.
        let from = TODAY.checked_sub((MAX_DAYS - 1).days()).unwrap();
        assert_eq!(asked(&format!("from={from}&to={TODAY}")).1, Vec::<String>::new());
        assert!(refused(&format!("from={}&to={TODAY}", from.yesterday().unwrap())).contains("three years"));
    }

    #[test]
    fn gaps_are_counted_where_they_lie_in_the_days_and_not_beside_them() {
        let climate = climate();
        let told = |from, to| gaps(&climate, from, to);
        assert_eq!(told(date(2026, 5, 6), date(2026, 6, 14)), None);
        let one = told(date(2026, 5, 3), date(2026, 5, 3)).unwrap();
        assert!(one.starts_with("One day, Sun 3 May, was not recorded"), "{one}");
        let some = told(date(2026, 5, 1), date(2026, 6, 16)).unwrap();
        assert!(some.starts_with("3 days between Sun 3 May and Tue 16 Jun 2026 were not recorded"), "{some}");
        assert!(some.ends_with("On 4 days no rain was recorded, and none is counted."), "{some}");
    }
}
