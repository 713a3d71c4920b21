//! A controller as installed: its card, the zones wired to it with what they need, the hours, the law
//! and the supply. Checks, planner and drawings all start from it.

pub mod key_in;
pub mod manual;

use crate::controller::Card;
use crate::controller::ordinance::{Law, Subject};
use crate::controller::schedule::{Days, ScheduledRun, Settings, runs_on};
use crate::controller::windows::Windows;
use crate::ground::application::run_time;
use crate::ground::balance::RootZone;
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Share;
use crate::quantity::span::{MinuteSpan, TimeSpan};
use crate::quantity::time::{Hours, MINUTES_A_DAY, MinuteOfDay, Seconds};
use crate::quantity::units::{Litres, LitresPerMinute, Millimetres, Minutes};
use crate::sensors::mapping::tie;
use crate::site::windows::WaterWindows;
use crate::site::{ResolvedZone, Site, Zone};
use crate::weather::climate::Climate;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::BTreeSet;

/// Share of its need below which a zone is short, and above which it is drowned (our stated bounds).
pub const NEED_SHARES: (Share, Share) = (Share::from_fraction(0.7), Share::from_fraction(1.3));
/// Less need than this a week is no need, minutes: nothing is divided by it.
const LEAST_NEED_MIN: f64 = 0.5;
/// Days ahead over which demand is averaged for a schedule.
pub const DEMAND_DAYS: i32 = 14;

/// A zone on its station.
#[derive(Debug, Clone, PartialEq)]
pub struct WiredZone {
    /// The survey.
    pub zone: Zone,
    /// With its defaults.
    pub resolved: ResolvedZone,
    /// What it takes, if its area is known.
    pub flow: Option<LitresPerMinute>,
    /// What its plants are expected to use in a day, without rain.
    pub demand: Millimetres,
    /// Mean factor from ET0 to that demand.
    pub factor: f64,
    /// Its soil store then; a grow-in makes it smaller.
    pub root_zone: RootZone,
}

/// Waterings a day for a root zone that bears so many days between two.
#[must_use]
pub fn waterings_a_day(bears_days: f64) -> u32 {
    if bears_days <= 0.0 {
        return 1;
    }
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "saturates")]
    let waterings = (1.0 / bears_days).ceil() as u32;
    waterings.max(1)
}

impl WiredZone {
    /// Run time that replaces a net depth, before rounding.
    #[must_use]
    pub fn minutes_for(&self, net: Millimetres) -> Minutes {
        run_time(net, self.resolved.rate.value, self.resolved.multiplier)
    }

    /// Net depth that a run time brings.
    #[must_use]
    pub fn net_of(&self, minutes: Minutes) -> Millimetres {
        self.resolved.net_of(minutes)
    }

    /// Days until a full root zone has reached its refill point.
    #[must_use]
    pub fn days_to_refill(&self) -> f64 {
        let raw = self.root_zone.readily_available().mm();
        if self.demand.mm() > 0.0 { raw / self.demand.mm() } else { f64::INFINITY }
    }

    /// Whether its plants need water that a run could bring.
    #[must_use]
    pub fn needs_water(&self) -> bool {
        self.minutes_for(self.demand * 7.0).min_value() >= LEAST_NEED_MIN
    }

    /// Max cycle time, whole minutes of it and at least one; `None` when the soil takes all of it in.
    #[must_use]
    pub fn longest_cycle(&self) -> Option<Seconds> {
        let whole = |m: Minutes| Seconds::of(Minutes::from_min(m.min_value().floor().max(1.0)), f64::round);
        self.resolved.cycle_limit.longest.map(whole)
    }

    /// Least soak, up to a whole minute.
    #[must_use]
    pub fn soak(&self) -> Seconds {
        Seconds::of(Minutes::from_min(self.resolved.cycle_limit.soak.min_value().ceil()), f64::round)
    }
}

/// Water that something else takes from the same supply: a run of another controller.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Elsewhere {
    /// When it begins.
    pub from: Timestamp,
    /// When it ends.
    pub until: Timestamp,
    /// What it takes.
    pub flow: LitresPerMinute,
}

/// A controller as installed.
#[derive(Debug, Clone, PartialEq)]
pub struct Installation {
    /// What the controller can hold.
    pub card: Card,
    /// Its number at the site.
    pub controller_number: u8,
    /// Its zones, in the order of their stations.
    pub zones: Vec<WiredZone>,
    /// When watering may run.
    pub windows: WaterWindows,
    /// The date for which it stands: a zone may grow in then.
    pub on: Date,
    /// What the supply gives, if known.
    pub supply: Option<LitresPerMinute>,
    /// What other controllers take of it, in order of time; empty when there is none.
    pub elsewhere: Vec<Elsewhere>,
    /// What must be kept to.
    pub law: Law,
    /// Its sensors.
    pub sensors: Vec<crate::sensors::Sensor>,
    /// Time zone of the clock in the controller.
    pub tz: TimeZone,
    /// Latitude, degrees.
    pub latitude_deg: f64,
    /// Longitude, degrees.
    pub longitude_deg: f64,
    /// Expected daily ET0 of each month, January first.
    pub monthly_et0: ByMonth<Millimetres>,
}

/// A controller of a site by its type.
#[derive(Debug, Clone, Copy)]
pub struct InstalledCard<'a> {
    /// What it can hold.
    pub card: &'a Card,
    /// Its number at the site, from 1.
    pub number: u8,
}

impl Installation {
    /// Puts a controller together. Demand is the mean over the [`DEMAND_DAYS`] from a date of expected ET0
    /// times each zone's demand factor of the day; rain is left to sensors and the daily balance.
    #[must_use]
    pub fn new(
        site: &Site,
        installed: InstalledCard<'_>,
        zones: &[Zone],
        law: Law,
        climate: &Climate,
        from: Date,
        tz: &TimeZone,
    ) -> Self {
        let InstalledCard { card, number: controller_number } = installed;
        let days: Vec<(Date, Millimetres)> = (0..DEMAND_DAYS)
            .filter_map(|k| from.checked_add(k.days()).ok())
            .map(|date| (date, climate.expected_et0_as_of(date, from.yesterday().unwrap_or(from)).0))
            .collect();
        let mut wired: Vec<WiredZone> = zones
            .iter()
            .filter(|zone| zone.controller_number == controller_number)
            .map(|zone| {
                let resolved = zone.resolve(site.latitude_deg);
                let factors = days.iter().map(|(date, _)| resolved.demand_factor_on(*date));
                WiredZone {
                    root_zone: resolved.root_zone_on(from),
                    factor: factors.sum::<f64>() / f64::from(DEMAND_DAYS),
                    flow: zone.area.map(|area| resolved.rate.value.flow_over(area)),
                    demand: days
                        .iter()
                        .map(|(date, et0)| *et0 * resolved.demand_factor_on(*date))
                        .sum::<Millimetres>()
                        * (1.0 / f64::from(DEMAND_DAYS)),
                    zone: zone.clone(),
                    resolved,
                }
            })
            .collect();
        wired.sort_by_key(|w| w.zone.number);
        Self {
            card: card.clone(),
            controller_number,
            zones: wired,
            windows: site.windows,
            on: from,
            supply: site.supply,
            elsewhere: Vec::new(),
            law,
            sensors: Vec::new(),
            tz: tz.clone(),
            latitude_deg: site.latitude_deg,
            longitude_deg: site.longitude_deg,
            monthly_et0: climate.monthly_expected_et0(from.year()),
        }
    }

    /// The same controller in a month that begins on a date: what its plants use over the days of that month at its
    /// expected ET0.
    #[must_use]
    pub fn in_month(&self, first: Date) -> Self {
        let et0 = *self.monthly_et0.of(Month::of(first));
        let days = i32::from(first.days_in_month());
        let dates = || (0..days).filter_map(|k| first.checked_add(k.days()).ok());
        let mut there = Self { on: first, ..self.clone() };
        for zone in &mut there.zones {
            zone.factor =
                dates().map(|date| zone.resolved.demand_factor_on(date)).sum::<f64>() / f64::from(days);
            zone.demand = et0 * zone.factor;
            zone.root_zone = zone.resolved.root_zone_on(first);
        }
        there
    }

    /// Its zones in the order of their stations.
    #[must_use]
    pub fn zones_by_station(&self) -> Vec<&WiredZone> {
        let mut zones: Vec<_> = self.zones.iter().collect();
        zones.sort_by_key(|zone| zone.zone.number);
        zones
    }

    /// The zone on a station.
    #[must_use]
    pub fn zone(&self, station: u16) -> Option<&WiredZone> {
        let at = self.zones.binary_search_by_key(&station, |z| z.zone.number).ok()?;
        self.zones.get(at)
    }

    /// Whether no contact of the controller should hold a station: only then may it ignore them.
    #[must_use]
    pub fn no_contact_holds(&self, station: u16) -> bool {
        self.zone(station).is_some_and(|zone| {
            self.sensors
                .iter()
                .filter(|s| s.card.is_contact())
                .all(|s| !tie(&s.card, &s.map, &zone.zone, s.placement.probe_station, false).holds)
        })
    }

    /// A station as a restriction sees it.
    #[must_use]
    pub fn subject(&self, station: u16) -> Subject {
        let head = self.zone(station).map(|own| own.zone.head);
        Subject { controller_number: self.controller_number, station, head }
    }

    /// The windows of a station on the date for which the controller stands; those of the site where no zone is wired.
    #[must_use]
    pub fn windows_of(&self, station: u16) -> Windows {
        self.windows_on(station, self.on)
    }

    /// The windows of a station in the night that begins on an evening: a zone may have grown in by then.
    #[must_use]
    pub fn windows_on(&self, station: u16, evening: Date) -> Windows {
        let own = self.zone(station).map(|own| self.windows.of(&own.zone, evening));
        own.unwrap_or_else(|| self.windows.of_site())
    }

    /// From the first opening of a window of an ordinary night to the last end: the hours in which a plan is looked
    /// for. That of the site alone where no zone has its own. Minutes from midnight before the evening.
    #[must_use]
    pub fn hull_minutes(&self) -> MinuteSpan {
        let zones = self.zones.iter().map(|zone| self.windows.of(&zone.zone, self.on));
        let all = zones.chain([self.windows.of_site()]).flat_map(Windows::minutes);
        let around = |a: MinuteSpan, b: MinuteSpan| MinuteSpan::new(a.from.min(b.from), a.until.max(b.until));
        let MinuteSpan { from, until } = all.reduce(around).unwrap_or(MinuteSpan::new(0, MINUTES_A_DAY));
        MinuteSpan::new(from, until.min(from + MINUTES_A_DAY))
    }

    /// The same by the clock.
    #[must_use]
    pub fn hull(&self) -> Hours {
        let MinuteSpan { from, until } = self.hull_minutes();
        let clock = |minutes| MinuteOfDay::after_midnight(minutes).time();
        Hours { from: clock(from), until: clock(until) }
    }

    /// The windows of a station in each of the nights around some dates, by their evenings.
    #[must_use]
    pub fn windows_around(&self, station: u16, from: Date, to: Date) -> Vec<(Date, Windows)> {
        // A window of the next day that goes on past midnight ends two days after its evening.
        let mut evening = from.checked_sub(2.days()).unwrap_or(from);
        let last = to.checked_add(1.day()).unwrap_or(to);
        let mut out = Vec::new();
        while evening <= last {
            out.push((evening, self.windows_on(station, evening)));
            let Ok(next) = evening.tomorrow() else { break };
            evening = next;
        }
        out
    }

    /// The open spans of the windows of some nights, in order.
    #[must_use]
    pub fn open_spans(&self, nights: &[(Date, Windows)]) -> Vec<TimeSpan> {
        let mut out: Vec<_> =
            nights.iter().flat_map(|(evening, windows)| windows.spans(*evening, &self.tz)).collect();
        out.sort_unstable();
        out
    }

    /// What some settings of this controller take from the supply, as another controller sees it.
    #[must_use]
    pub fn draws(&self, settings: &Settings, from: Date, to: Date) -> Vec<Elsewhere> {
        crate::controller::schedule::expand(settings, &self.card, &self.tz, from, to)
            .into_iter()
            .filter_map(|run| {
                let flow = self.zone(run.station)?.flow?;
                (!settings.station(run.station).lighting).then_some(Elsewhere {
                    from: run.start,
                    until: run.end,
                    flow,
                })
            })
            .collect()
    }

    /// Water of some runs, as far as areas are known; `None` when none is.
    #[must_use]
    pub fn volume<'a>(&self, runs: impl Iterator<Item = &'a ScheduledRun>) -> Option<Litres> {
        let mut total = None;
        for run in runs {
            let Some(flow) = self.zone(run.station).and_then(|z| z.flow) else { continue };
            total = Some(total.unwrap_or(Litres::ZERO) + flow.for_time(run.length().minutes()));
        }
        total
    }
}

/// What a zone gets against what it needs.
#[derive(Debug, Clone, PartialEq)]
pub struct Given {
    /// Station.
    pub station: u16,
    /// Minutes a week as set.
    pub minutes_a_week: f64,
    /// Net depth of them a week.
    pub net_a_week: Millimetres,
    /// Need a week, without rain.
    pub need_a_week: Millimetres,
    /// Minutes a week that would cover the need.
    pub minutes_needed: f64,
    /// Longest wait between two days on which it runs, days; `None` when it never runs.
    pub longest_gap_days: Option<i32>,
}

impl Given {
    /// Whether its plants need water that a run could bring.
    #[must_use]
    pub fn is_needed(&self) -> bool {
        self.minutes_needed >= LEAST_NEED_MIN
    }
}

/// How much a run of a program counts in a mean of some weeks. Every 12th day falls into four weeks twice or three
/// times, by the day the weeks begin on, and is 2.33 times of them in the mean.
fn weight(settings: &Settings, runs: &[ScheduledRun], program: usize, weeks: f64) -> f64 {
    let Some(Days::EveryNth { interval, first }) = settings.programs.get(program).map(|p| p.days) else {
        return 1.0;
    };
    let dates: BTreeSet<Date> = runs.iter().filter(|r| r.program == program).map(|r| r.date).collect();
    // After so many days the weekdays of a rhythm come again.
    let span = 7 * i64::from(interval.max(1));
    let on = (0..span)
        .filter_map(|k| first.checked_add(k.days()).ok())
        .filter(|date| runs_on(Days::EveryNth { interval, first }, settings.never_days, *date));
    #[allow(clippy::cast_precision_loss, reason = "days of some weeks")]
    let (counted, mean) = (dates.len() as f64, on.count() as f64 * 7.0 * weeks / span as f64);
    // Further apart, something else than the day the weeks begin on keeps them.
    if counted > 0.0 && (counted - mean).abs() < 1.0 { mean / counted } else { 1.0 }
}

/// What each zone of a controller gets a week from some runs, over whole weeks. A rhythm of every so many days counts by its
/// mean, so that it does not matter on which of its days the weeks begin.
#[must_use]
pub fn given(
    installation: &Installation,
    settings: &Settings,
    runs: &[ScheduledRun],
    weeks: u16,
) -> Vec<Given> {
    let weeks = f64::from(weeks.max(1));
    let weights: Vec<f64> = (0..settings.programs.len()).map(|p| weight(settings, runs, p, weeks)).collect();
    installation
        .zones
        .iter()
        .map(|zone| {
            let station = zone.zone.number;
            let own = runs.iter().filter(|r| r.station == station && !settings.station(station).lighting);
            let mut dates: Vec<Date> = own.clone().map(|r| r.date).collect();
            dates.dedup();
            let weighted = |r: &ScheduledRun| {
                r.length().minutes().min_value() * weights.get(r.program).copied().unwrap_or(1.0)
            };
            let minutes = own.map(weighted).sum::<f64>() / weeks;
            let need = zone.demand * 7.0;
            Given {
                station,
                minutes_a_week: minutes,
                net_a_week: zone.net_of(Minutes::from_min(minutes)),
                need_a_week: need,
                minutes_needed: zone.minutes_for(need).min_value(),
                longest_gap_days: (!dates.is_empty()).then(|| {
                    dates
                        .windows(2)
                        .filter_map(|p| Some((*p.get(1)? - *p.first()?).get_days()))
                        .max()
                        .unwrap_or(7)
                }),
            }
        })
        .collect()
}

#[cfg(test)]
pub(crate) mod samples {
    //! A controller for tests in other modules: three turf zones and a drip bed.
    use super::*;
    use crate::controller::twelve_stations;
    use crate::ground::application::HeadType;
    use crate::ground::plant::PlantKind;
    use crate::quantity::units::{Metres, SquareMetres};
    use crate::site::{UnitSystem, samples::lawn};
    use jiff::civil::{date, time};

    pub(crate) fn site() -> Site {
        Site {
            name: "Test slope".into(),
            latitude_deg: 46.0,
            longitude_deg: 0.0,
            elevation: Metres::from_m(1040.0),
            wind_height: Metres::from_m(2.0),
            time_zone: "Etc/UTC".into(),
            units: UnitSystem::Metric,
            windows: WaterWindows::only(Hours { from: time(22, 0, 0, 0), until: time(5, 0, 0, 0) }),
            supply: Some(LitresPerMinute::from_l_per_min(90.0)),
            drizzle: Default::default(),
            card: Default::default(),
        }
    }

    pub(crate) fn zones() -> Vec<Zone> {
        let mut zones: Vec<Zone> = (1..=4).map(lawn).collect();
        for zone in &mut zones {
            zone.area = Some(SquareMetres::from_m2(100.0));
        }
        // Spray on loam, nearly level: at most 25 min before runoff.
        if let Some(bed) = zones.last_mut() {
            bed.name = "Heather".into();
            bed.head = HeadType::Drip;
            bed.plant = PlantKind::LowDemand;
        }
        zones
    }

    pub(crate) fn installation() -> Installation {
        let climate = Climate::from_record(&[], site().station());
        let from = date(2026, 7, 13);
        Installation::new(
            &site(),
            InstalledCard { card: &twelve_stations(), number: 1 },
            &zones(),
            Law::default(),
            &climate,
            from,
            &TimeZone::UTC,
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::schedule::expand;
    use crate::controller::twelve_stations;
    use jiff::civil::{date, time};

    #[test]
    fn what_a_zone_gets_is_told_against_its_need() {
        let installation = samples::installation();
        let zone = &installation.zones[0];
        let mut settings = Settings::clean(&twelve_stations());
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(2, 0, 0, 0)];
        let need = zone.minutes_for(zone.demand * 7.0).min_value();
        settings.set_run_time(0, 1, Seconds::from_s(60 * 14));
        let runs =
            expand(&settings, &installation.card, &TimeZone::UTC, date(2026, 7, 13), date(2026, 7, 26));
        let given = given(&installation, &settings, &runs, 2);
        assert_eq!(given[0].minutes_a_week, 98.0, "14 min on 7 days");
        assert!((given[0].minutes_needed - need).abs() < 1e-9);
        assert_eq!((given[0].longest_gap_days, given[1].longest_gap_days), (Some(1), None));
        // 31.75 mm/h for 98 min is 51.9 mm gross; a uniformity of 0.6 takes a quarter and a bit off.
        assert!((given[0].net_a_week.mm() - 51.858 * 0.76).abs() < 0.01, "{:?}", given[0].net_a_week);
    }

    #[test]
    fn every_twelfth_day_gives_the_same_a_week_on_whichever_of_its_days_the_weeks_begin() {
        let installation = samples::installation();
        let mut settings = Settings::clean(&twelve_stations());
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(2, 0, 0, 0)];
        settings.set_run_time(0, 1, Seconds::from_s(60 * 60));
        let minutes = |settings: &Settings| {
            let (from, to) = (date(2026, 7, 13), date(2026, 8, 9));
            let runs = expand(settings, &installation.card, &TimeZone::UTC, from, to);
            given(&installation, settings, &runs, 4)[0].minutes_a_week
        };
        for first in 1..=12 {
            settings.programs[0].days = Days::EveryNth { interval: 12, first: date(2026, 7, first) };
            assert!((minutes(&settings) - 7.0 / 12.0 * 60.0).abs() < 1e-9, "{first}: {}", minutes(&settings));
        }
        // Of twelve weeks of a rhythm one of its seven dates is a Monday.
        settings.never_days[0] = true;
        assert!((minutes(&settings) - 0.5 * 60.0).abs() < 1e-9, "{}", minutes(&settings));
        // Once in a long while is not twice in four weeks: what begins later stands as it comes.
        settings.never_days[0] = false;
        settings.programs[0].days = Days::EveryNth { interval: 2, first: date(2026, 8, 8) };
        assert_eq!(minutes(&settings), 15.0, "one run in four weeks");
    }

    #[test]
    fn volume_counts_known_areas_only() {
        let mut installation = samples::installation();
        let mut settings = Settings::clean(&twelve_stations());
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(2, 0, 0, 0)];
        settings.set_run_time(0, 1, Seconds::from_s(600));
        let runs =
            expand(&settings, &installation.card, &TimeZone::UTC, date(2026, 7, 13), date(2026, 7, 13));
        // 31.75 mm/h on 100 m² is 52.9 L/min.
        assert!((installation.volume(runs.iter()).unwrap().l() - 529.17).abs() < 0.01);
        installation.zones[0].flow = None;
        assert_eq!(installation.volume(runs.iter()), None);
    }
}
