//! Which sensors pay on a site, from its own record, its zones and its controller; and which conflict.

use crate::account::sensed::{RecordedNight, as_read, nights, stands};
use crate::controller::schedule::Settings;
use crate::ground::application::HeadType;
use crate::ground::plant::Sky;
use crate::installation::Installation;
use crate::quantity::span::DateSpan;
use crate::quantity::units::Litres;
use crate::sensors::state::rain_holds;
use crate::sensors::{
    COMMON_FREEZE_POINT, COMMON_RAIN_THRESHOLD, COMMON_WIND, Channel, HALF_OPEN_VENT, Release, Sense, Sensor,
    SensorCard, mapping,
};
use crate::weather::climate::Climate;

/// Share of a day's mean wind that a day must reach to count as windy: gusts and afternoons are about
/// one and a half times the mean (our stated default).
const GUST_FACTOR: f64 = 1.5;
/// Held nights a year from which a sensor pays.
const PAYS_FROM: f64 = 10.0;
/// Held nights a year from which it may pay.
const MAY_PAY_FROM: f64 = 3.0;
/// Zones from which a flow meter pays for finding what breaks (our stated default).
const MANY_ZONES: usize = 8;

/// Whether a sensor pays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Pays {
    /// It does.
    Yes,
    /// It may.
    Perhaps,
    /// It does not.
    No,
}

/// What a sense is worth here.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Advice {
    /// Which.
    pub sense: Sense,
    /// Whether it pays.
    pub pays: Pays,
    /// Nights a year that it would hold, or days that would scale; `None` where no record says.
    pub nights_a_year: Option<f64>,
    /// Water a year that it would keep, as the controller is set.
    pub litres_a_year: Option<f64>,
    /// Zones that it can speak for.
    pub zones: usize,
}

/// Things that do not go together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Conflict {
    /// Every zone is under a roof: rain never reaches them.
    RainButAllRoofed,
    /// Every zone is drip: nothing drifts.
    WindButAllDrip,
    /// A hold and a percentage that counts rain take the same rain twice.
    RainTwice,
    /// The controller takes no data for a percentage.
    EtWithoutPort,
    /// Two rain sensors on one controller hold for each other.
    TwoOfOne(Sense),
}

/// Nights a year that some condition holds, and litres a year of those in the season: outside it a well-set season
/// waters little or nothing, so that nothing is saved.
fn a_year(nights: &[RecordedNight], years: f64, held: impl Fn(&RecordedNight) -> bool) -> (f64, f64) {
    let chosen = nights.iter().filter(|n| held(n));
    let (count, litres) =
        chosen.fold((0.0, Litres::ZERO), |(c, l), n| (c + 1.0, if n.summer { l + n.scheduled } else { l }));
    (count / years, litres.l() / years)
}

/// What each sense is worth on a controller, from a span of the record.
#[must_use]
pub fn advise(
    installation: &Installation,
    settings: &Settings,
    climate: &Climate,
    span: Option<DateSpan>,
) -> Vec<Advice> {
    let zones = &installation.zones;
    let speaks_for =
        |sense| zones.iter().filter(|z| mapping::proposed(sense, &z.zone, Some(z.zone.number)).holds).count();
    let mut out: Vec<Advice> = Sense::ALL
        .into_iter()
        .map(|sense| {
            let count = speaks_for(sense);
            let plain = |pays| Advice { sense, pays, nights_a_year: None, litres_a_year: None, zones: count };
            if count == 0 {
                return plain(Pays::No);
            }
            match (sense, span) {
                (Sense::Rain | Sense::Freeze | Sense::Wind, Some(span)) => {
                    from_record(installation, settings, climate, sense, span, plain(Pays::No))
                }
                (Sense::Rain | Sense::Freeze | Sense::Wind, None) => plain(Pays::Perhaps),
                (Sense::SoilMoisture, _) => {
                    // A probe pays where rain and weather say least: under roofs, and where one zone stands
                    // for many.
                    let roofed = zones.iter().filter(|z| z.zone.sky != Sky::Open).count();
                    let pays = if roofed > 0 { Pays::Yes } else { Pays::Perhaps };
                    Advice { zones: roofed.max(1), ..plain(pays) }
                }
                (Sense::Flow, _) if zones.len() >= MANY_ZONES => plain(Pays::Yes),
                (Sense::Flow, _) => plain(Pays::Perhaps),
                (Sense::Et, _) => {
                    plain(if installation.card.takes_percentages() { Pays::Yes } else { Pays::No })
                }
            }
        })
        .collect();
    out.sort_by_key(|a| a.pays);
    out
}

/// Whether so many held nights a year are worth a sensor.
fn verdict(nights: f64) -> Pays {
    if nights >= PAYS_FROM {
        Pays::Yes
    } else if nights >= MAY_PAY_FROM {
        Pays::Perhaps
    } else {
        Pays::No
    }
}

/// What a sensor of the sky would have held on the record.
fn from_record(
    installation: &Installation,
    settings: &Settings,
    climate: &Climate,
    sense: Sense,
    span: DateSpan,
    advice: Advice,
) -> Advice {
    #[allow(clippy::cast_precision_loss, reason = "days of a record")]
    let days = span.count() as f64;
    let years = days / 365.25;
    let card = lone(sense);
    let all =
        nights(installation, settings, climate, &card, &mapping::Chosen::default(), span.first, span.last);
    let runs = RecordedNight::runs;
    let (nights, litres) = match sense {
        Sense::Rain => {
            let read = as_read(climate, installation.longitude_deg, span.first, span.last, &installation.tz);
            let rain = read.channels.get(&Channel::Rain).cloned().unwrap_or_default();
            let end = all.iter().map(|n| n.at).max().unwrap_or_default();
            let set = (COMMON_RAIN_THRESHOLD, Release::DriesOut { vent: HALF_OPEN_VENT });
            let holds = rain_holds(set.0, set.1, &rain, &read.drying, end);
            a_year(&all, years, |n| n.summer && stands(&holds, n.at) && runs(n))
        }
        // Ice is a danger in any month, so that every night counts that would have run.
        Sense::Freeze => a_year(&all, years, |n| {
            // The night after this evening has its lowest in the morning that follows.
            let cold = n.date.tomorrow().ok().and_then(|d| climate.day(d));
            cold.is_some_and(|d| d.weather.temperature_min.c() <= COMMON_FREEZE_POINT.c()) && runs(n)
        }),
        _ => a_year(&all, years, |n| {
            let wind = climate.day(n.date).and_then(|d| d.weather.wind);
            wind.is_some_and(|w| w.m_per_s() * GUST_FACTOR > COMMON_WIND.m_per_s()) && n.summer && runs(n)
        }),
    };
    Advice {
        pays: verdict(nights),
        nights_a_year: Some(nights),
        litres_a_year: all.iter().any(|n| n.scheduled.l() > 0.0).then_some(litres),
        ..advice
    }
}

/// A card that senses one thing, for asking about it.
fn lone(sense: Sense) -> SensorCard {
    let cards = crate::sensors::generic();
    let found = cards.iter().find(|(_, c)| c.senses == [sense]).or(cards.first());
    found.map_or_else(
        || SensorCard {
            bypass_keeps_percentage: false,
            name: String::new(),
            senses: vec![sense],
            signal: crate::sensors::Signal::NormallyClosed,
            supply: crate::sensors::PowerSupply::None,
            link: crate::sensors::Link::Wire,
            wire_supplied: crate::quantity::units::Metres::ZERO,
            wire_longest: crate::quantity::units::Metres::ZERO,
            radio_walls: crate::quantity::units::Metres::ZERO,
            radio_open: crate::quantity::units::Metres::ZERO,
            rain_range: None,
            rain_steps: Vec::new(),
            vent: false,
            freeze_range: None,
            wind_range: None,
            soil_range_pct: None,
            per_pulse: None,
            upkeep: Vec::new(),
        },
        |(_, card)| card.clone(),
    )
}

/// What does not go together among the sensors of a controller.
#[must_use]
pub fn conflicts(installation: &Installation, sensors: &[&Sensor]) -> Vec<Conflict> {
    let mut out = Vec::new();
    let has = |sense| sensors.iter().filter(|s| s.card.senses(sense)).count();
    let zones = &installation.zones;
    if has(Sense::Rain) > 0 && !zones.is_empty() && zones.iter().all(|z| z.zone.sky != Sky::Open) {
        out.push(Conflict::RainButAllRoofed);
    }
    if has(Sense::Wind) > 0 && !zones.is_empty() && zones.iter().all(|z| z.zone.head == HeadType::Drip) {
        out.push(Conflict::WindButAllDrip);
    }
    // One unit that does both knows of its own rain; two units do not.
    if sensors.iter().any(|s| s.card.senses(Sense::Et) && !s.card.senses(Sense::Rain)) && has(Sense::Rain) > 0
    {
        out.push(Conflict::RainTwice);
    }
    if has(Sense::Et) > 0 && !installation.card.takes_percentages() {
        out.push(Conflict::EtWithoutPort);
    }
    for sense in [Sense::Rain, Sense::Freeze, Sense::Wind] {
        if has(sense) > 1 {
            out.push(Conflict::TwoOfOne(sense));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::ordinance::Law;
    use crate::controller::schedule::Days;
    use crate::installation::samples;
    use crate::quantity::time::Seconds;
    use crate::quantity::units::{Celsius, MetresPerSecond, Millimetres};
    use crate::sensors::generic;
    use crate::weather::DayWeather;
    use jiff::ToSpan;
    use jiff::civil::{date, time};
    use jiff::tz::TimeZone;

    const YEAR: DateSpan = DateSpan::new(date(2025, 1, 1), date(2025, 12, 31));

    /// A year with 20 mm every twentieth day, frost in April and a windy May.
    fn climate() -> Climate {
        let days: Vec<DayWeather> = (0..365)
            .map(|i| {
                let on = YEAR.first + i.days();
                let cold = on.month() == 4;
                let mut day = DayWeather::from_temperatures(
                    on,
                    Celsius::from_c(if cold { 1.0 } else { 9.0 }),
                    Celsius::from_c(22.0),
                );
                day.rain = Some(Millimetres::from_mm(if i % 20 == 0 { 20.0 } else { 0.0 }));
                day.wind = Some(MetresPerSecond::from_m_per_s(if on.month() == 5 { 4.5 } else { 1.5 }));
                day
            })
            .collect();
        Climate::from_record(&days, samples::site().station())
    }

    fn bench(change: impl FnOnce(&mut Vec<crate::site::Zone>)) -> (Installation, Settings, Climate) {
        let climate = climate();
        let mut zones = samples::zones();
        change(&mut zones);
        let card = crate::controller::twelve_stations();
        let installation = Installation::new(
            &samples::site(),
            crate::installation::InstalledCard { card: &card, number: 1 },
            &zones,
            Law::default(),
            &climate,
            YEAR.first,
            &TimeZone::UTC,
        );
        let mut settings = Settings::clean(&card);
        settings.programs[0].active = true;
        settings.programs[0].days = Days::Weekdays([true; 7]);
        settings.programs[0].starts = vec![time(2, 0, 0, 0)];
        settings.set_run_time(0, 1, Seconds::from_s(600));
        (installation, settings, climate)
    }

    #[test]
    fn the_record_says_which_sensors_pay() {
        let (installation, settings, climate) = bench(|_| {});
        let all = advise(&installation, &settings, &climate, Some(YEAR));
        let of = |sense| *all.iter().find(|a| a.sense == sense).unwrap();
        let rain = of(Sense::Rain);
        // 20 mm every 20th day: nine or ten times in the half year of greater demand, a hold of three nights or four each.
        assert!(rain.pays == Pays::Yes && (rain.nights_a_year.unwrap() - 31.0).abs() < 1.5, "{rain:?}");
        // 52.9 L/min for ten minutes a night.
        assert!((rain.litres_a_year.unwrap() / rain.nights_a_year.unwrap() - 529.2).abs() < 1.0, "{rain:?}");
        assert!((of(Sense::Freeze).nights_a_year.unwrap() - 30.0).abs() < 1.5);
        assert!((of(Sense::Wind).nights_a_year.unwrap() - 31.0).abs() < 1.5);
        assert_eq!((of(Sense::Et).pays, of(Sense::Flow).pays), (Pays::No, Pays::Perhaps));
        assert!(advise(&installation, &settings, &climate, None).iter().all(|a| a.nights_a_year.is_none()));
    }

    #[test]
    fn under_glass_only_a_probe_and_a_meter_speak() {
        let (installation, settings, climate) =
            bench(|zones| zones.iter_mut().for_each(|z| z.sky = Sky::UnderGlass));
        let all = advise(&installation, &settings, &climate, Some(YEAR));
        let of = |sense| *all.iter().find(|a| a.sense == sense).unwrap();
        assert_eq!((of(Sense::Rain).pays, of(Sense::Rain).zones), (Pays::No, 0));
        assert_eq!((of(Sense::SoilMoisture).pays, of(Sense::SoilMoisture).zones), (Pays::Yes, 4));
    }

    #[test]
    fn what_does_not_go_together_is_named() {
        let (mut installation, ..) = bench(|zones| {
            for zone in zones {
                (zone.sky, zone.head) = (Sky::UnderEaves, HeadType::Drip);
            }
        });
        let sensor =
            |code: &str| Sensor::of_card(generic().into_iter().find(|(c, _)| *c == code).unwrap().1, 1);
        let all =
            [sensor("rain_switch"), sensor("tipping_bucket"), sensor("wind_switch"), sensor("et_sensor")];
        let found = conflicts(&installation, &all.iter().collect::<Vec<_>>());
        assert_eq!(
            found,
            [
                Conflict::RainButAllRoofed,
                Conflict::WindButAllDrip,
                Conflict::RainTwice,
                Conflict::EtWithoutPort,
                Conflict::TwoOfOne(Sense::Rain)
            ]
        );
        installation.card.sensor_ports.push(crate::controller::SensorPort::Weather);
        assert_eq!(
            conflicts(&installation, &[&sensor("weather_station")]),
            [Conflict::RainButAllRoofed, Conflict::WindButAllDrip]
        );
    }
}
