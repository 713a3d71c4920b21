//! What the weather chart draws, as JSON, and the record of a source as CSV.

use crate::page::units::{Shown, Units};
use crate::server::download::attachment;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use actix_web::{HttpResponse, get, web};
use jiff::ToSpan;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use upland_core::codes::Coded;
use upland_core::weather::record::{
    CombinedRecord, HourVariable, JudgedDay, Standing, Variable, VariableGroup, examine_hours,
};
use upland_formats::raw_csv;

/// Most days that are drawn, the last ones: a record of thirty years fits, and no wild date makes an endless series.
const MOST_DAYS: i64 = 31 * 366;
/// Longest span of hours drawn, days.
const MOST_HOUR_DAYS: i32 = 62;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(series_json).service(source_csv);
}

#[derive(serde::Deserialize)]
struct Query {
    source: i64,
    variable: String,
    /// With both ends, hours of the span when the source has them.
    from: Option<Date>,
    to: Option<Date>,
}

/// The values of a source by what they are worth, day by day; gaps are `null`.
#[derive(serde::Serialize, Default)]
struct Series {
    unit: &'static str,
    hourly: bool,
    /// Seconds since 1970 UTC of each day's midnight, or of each hour.
    at: Vec<i64>,
    /// Counts.
    good: Vec<Option<f64>>,
    /// Counts, though a rule doubts it, or a person says so.
    doubtful: Vec<Option<f64>>,
    /// Does not count.
    rejected: Vec<Option<f64>>,
    /// Stands in from another source.
    filled: Vec<Option<f64>>,
}

impl Series {
    /// The same in the unit of the site.
    fn shown(mut self, shown: Shown) -> Self {
        self.unit = shown.unit;
        for all in [&mut self.good, &mut self.doubtful, &mut self.rejected, &mut self.filled] {
            for value in all.iter_mut().flatten() {
                *value = shown.shown(*value);
            }
        }
        self
    }

    fn push(&mut self, at: i64, value: Option<f64>, standing: Standing) {
        self.at.push(at);
        let when = |yes: bool| value.filter(|_| yes);
        self.good.push(when(standing == Standing::Good));
        self.doubtful.push(when(matches!(standing, Standing::Doubtful(_) | Standing::Kept)));
        self.rejected.push(when(!standing.counts()));
        self.filled.push(None);
    }
}

fn group_of(variable: Variable) -> VariableGroup {
    VariableGroup::ALL
        .into_iter()
        .find(|g| g.variables().contains(&variable))
        .unwrap_or(VariableGroup::Temperature)
}

fn midnight(date: Date) -> i64 {
    upland_core::quantity::time::midnight(date, &TimeZone::UTC).as_second()
}

/// Days of one source, with what stands in on days where it has nothing.
fn days_series(
    days: &[JudgedDay],
    variable: Variable,
    others: &[(usize, &[JudgedDay])],
    combined: &CombinedRecord,
) -> Series {
    let mut series = Series { unit: variable.unit(), ..Series::default() };
    let group = group_of(variable) as usize;
    let mut dates: std::collections::BTreeSet<Date> = days.iter().map(|d| d.raw.date).collect();
    dates.extend(combined.from.keys());
    let (Some(first), Some(last)) = (dates.first().copied(), dates.last().copied()) else { return series };
    let mut date = first.max(last.saturating_sub(MOST_DAYS.days()));
    while date <= last {
        let own = days.binary_search_by_key(&date, |d| d.raw.date).ok().and_then(|i| days.get(i));
        match own {
            Some(day) => series.push(midnight(date), day.raw.get(variable), day.standing(variable)),
            None => series.push(midnight(date), None, Standing::Missing),
        }
        // What counts that day, when it is another source's.
        let from = combined.from.get(&date).and_then(|g| g.get(group).copied().flatten());
        let stand_in = from.and_then(|source| {
            let (_, theirs) = others.iter().find(|(i, _)| *i == source)?;
            let at = theirs.binary_search_by_key(&date, |d| d.raw.date).ok()?;
            theirs.get(at)?.counted(variable)
        });
        if let Some(slot) = series.filled.last_mut() {
            *slot = stand_in;
        }
        let Ok(next) = date.tomorrow() else { break };
        date = next;
    }
    series
}

fn hour_variable(variable: Variable) -> Option<HourVariable> {
    Some(match variable {
        Variable::TemperatureMin | Variable::TemperatureMax => HourVariable::Temperature,
        Variable::DewPoint => HourVariable::DewPoint,
        Variable::HumidityMin | Variable::HumidityMax => HourVariable::Humidity,
        Variable::Solar => HourVariable::Solar,
        Variable::Wind => HourVariable::Wind,
        Variable::Rain => HourVariable::Rain,
        Variable::VapourPressure => return None,
    })
}

#[get("/sites/{id}/weather/series.json")]
async fn series_json(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let site = here.records.site.clone();
    let variable = Variable::from_code(&query.variable)
        .ok_or_else(|| PageError::BadRequest("There is no such variable.".into()))?;
    let (source, span) = (query.source, query.from.zip(query.to));
    let drawn = here
        .read(move |snapshot| {
            let weather = snapshot.site_weather(of_site, &site.site)?;
            let Some(at) = weather.sources.iter().position(|s| s.id == source) else { return Ok(None) };
            let hours = match (span, hour_variable(variable)) {
                (Some((from, to)), Some(_)) if to >= from && (to - from).get_days() <= MOST_HOUR_DAYS => {
                    snapshot.raw_hours(source, from, to)?
                }
                _ => Vec::new(),
            };
            if let (Some(hourly), false) = (hour_variable(variable), hours.is_empty()) {
                let station =
                    weather.sources.get(at).map(|s| s.station(&site.site)).unwrap_or(site.site.station());
                let flags = examine_hours(&hours, &station);
                let mut series = Series { unit: variable.unit(), hourly: true, ..Series::default() };
                for (i, hour) in hours.iter().enumerate() {
                    let flag = flags.iter().find(|f| f.index == i && f.variable == hourly);
                    let standing = match flag {
                        Some(f) if f.rule.rejects() => Standing::Discarded,
                        Some(_) => Standing::Kept,
                        None => Standing::Good,
                    };
                    series.push(hour.start.as_second(), hour.get(hourly), standing);
                }
                return Ok(Some(series));
            }
            let combined = weather.combined(&site.site);
            let others: Vec<(usize, &[JudgedDay])> = weather
                .days
                .iter()
                .enumerate()
                .filter(|(i, _)| *i != at)
                .map(|(i, d)| (i, d.as_slice()))
                .collect();
            Ok(weather.days.get(at).map(|days| days_series(days, variable, &others, &combined)))
        })
        .await?
        .ok_or(PageError::NotFound)?;
    let drawn = drawn.shown(Units::of(here.records.units()).of_variable(variable));
    Ok(HttpResponse::Ok().json(drawn))
}

/// A source as it came, with what each value is worth.
#[get("/sites/{id}/weather/sources/{source}.csv")]
async fn source_csv(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let (_, source) = *path;
    let site = here.records.site.clone();
    let (name, body) = here
        .read(move |snapshot| {
            let weather = snapshot.site_weather(of_site, &site.site)?;
            let found = weather.sources.iter().zip(&weather.days).find(|(s, _)| s.id == source);
            Ok(found.map(|(s, days)| (s.name.clone(), raw_csv::write(days))))
        })
        .await?
        .ok_or(PageError::NotFound)?;
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment(&name, "csv"))
        .body(body))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use upland_core::quantity::units::Metres;
    use upland_core::weather::Station;
    use upland_core::weather::record::{Overrule, RawDay, Source, combine, judge};

    #[test]
    fn each_value_is_drawn_by_what_it_is_worth_and_gaps_by_what_stands_in() {
        let day = |d: i8, t: f64| {
            RawDay::new(date(2026, 7, d))
                .with(Variable::TemperatureMin, t - 9.0)
                .with(Variable::TemperatureMax, t)
        };
        let said = Overrule {
            date: date(2026, 7, 2),
            variable: Variable::TemperatureMax,
            keep: false,
            reason: "x".into(),
        };
        let own = judge(&[day(1, 20.0), day(2, 40.0), day(4, 22.0)], &[], &[said]);
        let far = judge(&[day(2, 18.0), day(3, 19.0)], &[], &[]);
        let station = Station {
            latitude_deg: 46.0,
            longitude_deg: 8.0,
            elevation: Metres::from_m(1000.0),
            wind_height: Metres::from_m(2.0),
        };
        let sources = [Source { station, days: &own }, Source { station, days: &far }];
        let combined = combine(&sources, &core::array::from_fn(|_| vec![0, 1]));
        let series = days_series(&own, Variable::TemperatureMax, &[(1, &far)], &combined);
        assert_eq!(series.good, [Some(20.0), None, None, Some(22.0)]);
        assert_eq!(series.rejected, [None, Some(40.0), None, None]);
        assert_eq!(series.filled, [None, Some(18.0), Some(19.0), None]);
        assert_eq!(series.at[1] - series.at[0], 86_400);
        // A record that begins in another century is drawn by its last years.
        let wild = judge(
            &[RawDay::new(date(1901, 1, 1)).with(Variable::TemperatureMax, 3.0), day(4, 22.0)],
            &[],
            &[],
        );
        let sources = [Source { station, days: &wild }];
        let combined = combine(&sources, &core::array::from_fn(|_| vec![0]));
        let series = days_series(&wild, Variable::TemperatureMax, &[], &combined);
        assert_eq!(i64::try_from(series.at.len()).unwrap(), MOST_DAYS + 1);
        assert_eq!(series.good.last(), Some(&Some(22.0)));
    }
}
