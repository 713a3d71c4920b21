//! The account against conservation, against the balance by the day, and at its edges.

use super::evidence::{Evidence, FieldReading, Watering};
use super::nights::{Barred, NightRules, ZoneNight, nights};
use super::sky::SkyHours;
use super::zone::{AccountDay, AccountHour, ZoneFacts, account};
use crate::controller::ordinance::Law;
use crate::ground::application::HeadType;
use crate::ground::balance::DayWater;
use crate::ground::plant::{PlantKind, Sky};
use crate::ground::soil::Texture;
use crate::quantity::ratio::Share;
use crate::quantity::span::DateSpan;
use crate::quantity::time::{Hours, midnight};
use crate::quantity::units::{Celsius, Metres, Millimetres};
use crate::site::windows::WaterWindows;
use crate::site::{Zone, samples::lawn};
use crate::weather::climate::Climate;
use crate::weather::forecast::Foretold;
use crate::weather::{DayWeather, Station};
use jiff::civil::{Date, date, time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use proptest::prelude::*;

static UTC: TimeZone = TimeZone::UTC;
const FIRST: Date = date(2026, 6, 1);

fn station() -> Station {
    Station {
        latitude_deg: 46.0,
        longitude_deg: 8.0,
        elevation: Metres::from_m(1000.0),
        wind_height: Metres::from_m(2.0),
    }
}

/// A record from the first of June with so much rain each day, between eleven and twenty-five degrees.
fn climate(rain: &[f64]) -> Climate {
    colder(rain, 0.0)
}

fn colder(rain: &[f64], by: f64) -> Climate {
    let day = |(i, mm): (usize, &f64)| {
        let on = FIRST + i64::try_from(i).unwrap().days();
        let (min, max) = (Celsius::from_c(11.0 - by), Celsius::from_c(25.0 - by));
        let mut day = DayWeather::from_temperatures(on, min, max);
        day.rain = Some(Millimetres::from_mm(*mm));
        day
    };
    Climate::from_record(&rain.iter().enumerate().map(day).collect::<Vec<_>>(), station())
}

fn sky(climate: &Climate) -> SkyHours {
    let DateSpan { first, last } = climate.span().unwrap();
    SkyHours::of(climate, 8.0, &TimeZone::UTC, first, midnight(last + 1.day(), &TimeZone::UTC))
}

fn at(hour: f64) -> Timestamp {
    midnight(FIRST, &TimeZone::UTC) + SignedDuration::from_secs((hour * 3600.0) as i64)
}

fn run(from: f64, minutes: f64) -> Watering {
    Watering::plain(at(from), at(from + minutes / 60.0))
}

fn rules<'a>(climate: &'a Climate, law: &'a Law) -> NightRules<'a> {
    NightRules {
        shut: &|_| crate::account::nights::Shut::default(),
        law,
        windows: WaterWindows::only(Hours { from: time(2, 0, 0, 0), until: time(6, 0, 0, 0) }),
        tz: &UTC,
        climate,
        freeze_at: Celsius::from_c(3.0),
        heeds_frost: true,
        rests: &|_| None,
    }
}

/// The days of a zone with these runs and readings, and its hours.
fn known(
    zone: &Zone,
    sky: &SkyHours,
    runs: &[Watering],
    readings: &[FieldReading],
) -> (Vec<AccountDay>, Vec<AccountHour>) {
    let resolved = zone.resolve(46.0);
    let evidence = vec![Evidence::AsSet; sky.days().len()];
    let facts = ZoneFacts { runs, evidence: &evidence, readings, ..ZoneFacts::of(zone, &resolved) };
    let mut hours = Vec::new();
    let (days, _) = account(&facts, sky, |hour| hours.push(*hour));
    (days, hours)
}

/// The days of a zone that is watered as advised.
fn advised(zone: &Zone, climate: &Climate) -> Vec<AccountDay> {
    let (sky, resolved, law) = (sky(climate), zone.resolve(46.0), Law::default());
    let nights = nights(&rules(climate, &law), zone, &sky);
    let facts = ZoneFacts { nights: &nights, ..ZoneFacts::of(zone, &resolved) };
    account(&facts, &sky, |_| ()).0
}

#[test]
fn what_the_soil_cannot_take_in_runs_off() {
    // Spray at 31.75 mm/h on clay at 14 %: intake 2.54 mm/h, and 2.54 mm may stand. In an hour 5.08 mm go in,
    // in the minutes to fill the surface and after.
    let mut zone = lawn(1);
    (zone.soil, zone.slope_pct) = (Texture::Clay, Some(14.0));
    let sky = sky(&climate(&[0.0]));
    let (_, hours) = known(&zone, &sky, &[run(2.0, 60.0)], &[]);
    let water = hours[2].water;
    assert!((water.applied.mm() - 31.75).abs() < 1e-9);
    assert!((water.applied_in.mm() - 5.08).abs() < 1e-9, "{water:?}");
    assert!((water.runoff.mm() - 26.67).abs() < 1e-9 && water.applied_off == water.runoff);
    // Four cycles of five minutes with an hour to soak lose nothing.
    let cycles: Vec<_> = (0..4).map(|k| run(2.0 + 1.1 * f64::from(k), 5.0)).collect();
    let (days, _) = known(&zone, &sky, &cycles, &[]);
    assert!(days[0].water.runoff.mm() < 1e-9 && (days[0].water.applied.mm() - 31.75 / 3.0).abs() < 1e-9);
}

#[test]
fn rain_of_six_hours_goes_in_as_far_as_intake_and_surface_allow() {
    // Clay on the level: 2.54 mm/h for six hours and 5.08 mm that may stand: 20.32 mm of 60.
    let mut zone = lawn(1);
    zone.soil = Texture::Clay;
    let (days, _) = known(&zone, &sky(&climate(&[60.0, 0.0])), &[], &[]);
    assert!((days[0].water.rain_in.mm() - 20.32).abs() < 1e-9, "{:?}", days[0].water);
    assert!((days[0].water.runoff.mm() - 39.68).abs() < 1e-9);
    zone.sky = Sky::UnderGlass;
    let (glass, _) = known(&zone, &sky(&climate(&[60.0, 0.0])), &[], &[]);
    assert_eq!((glass[0].water.rain, glass[0].gauge.mm()), (Millimetres::ZERO, 60.0), "none reaches it");
}

#[test]
fn ks_is_taken_after_the_nights_watering() {
    // A month without water leaves the lawn dry; a run at four brings it back before the day asks anything.
    let zone = lawn(1);
    let sky = sky(&climate(&[0.0; 30]));
    let last = 24.0 * 29.0;
    let (dry, _) = known(&zone, &sky, &[], &[]);
    assert!(dry[29].water.stress_coefficient() < 0.5 && dry[29].short);
    let (wet, _) = known(&zone, &sky, &[run(last + 0.5, 60.0), run(last + 2.5, 60.0)], &[]);
    assert_eq!(wet[29].water.stress_coefficient(), 1.0, "the day after a night's watering is not short");
    assert!(!wet[29].short && wet[28].short);
}

#[test]
fn a_reading_sets_the_depletion_at_its_hour_and_what_was_computed_is_kept() {
    let zone = lawn(1);
    let sky = sky(&climate(&[0.0; 5]));
    let reading = FieldReading {
        at: at(24.0 * 2.0 + 14.2),
        available_share: Share::from_fraction(0.5),
        reason: "probe".into(),
    };
    let (days, hours) = known(&zone, &sky, &[], std::slice::from_ref(&reading));
    let (plain, before) = known(&zone, &sky, &[], &[]);
    assert_eq!(days[1], plain[1]);
    let hour = 48 + 13;
    assert_eq!(hours[hour].reset_from, Some(before[hour].water.depletion), "the hour that ends at two");
    assert!((hours[hour].water.depletion.mm() - 12.75).abs() < 1e-9, "half of 25.5 mm");
    assert_eq!(days[2].reset_from, hours[hour].reset_from);
    assert!(days[2].water.depletion > Millimetres::from_mm(12.75), "the afternoon goes on from there");
    let early = FieldReading { at: at(-30.0), ..reading };
    assert_eq!(known(&zone, &sky, &[], &[early]).0, plain, "one from before says nothing");
}

#[test]
fn watering_as_advised_keeps_a_lawn_from_going_short() {
    let days = advised(&lawn(1), &climate(&[0.0; 40]));
    assert!(days.iter().all(|d| !d.short), "never past its refill point");
    let runs = days.iter().filter(|d| d.water.applied.mm() > 0.0).count();
    assert!((8..=20).contains(&runs), "every second to fourth night: {runs}");
    assert!(days.iter().all(|d| d.evidence == Evidence::AsAdvised));
}

#[test]
fn a_frosty_morning_or_frozen_ground_bars_the_night_but_not_under_glass() {
    let law = Law::default();
    let barred = |by: f64, sky: Sky| {
        let climate = colder(&[0.0], by);
        let zone = Zone { sky, ..lawn(1) };
        super::nights::night_of(&rules(&climate, &law), &zone, FIRST).barred
    };
    assert_eq!(barred(7.0, Sky::Open), None, "four degrees");
    assert!(matches!(barred(8.0, Sky::Open), Some(Barred::Frost { expected, .. }) if expected.c() == 3.0));
    assert!(matches!(barred(18.0, Sky::Open), Some(Barred::Frozen { mean }) if mean.c() == 0.0));
    assert_eq!(barred(18.0, Sky::UnderGlass), None);
}

#[test]
fn what_was_foretold_of_the_morning_decides_over_the_morning_before() {
    let law = Law::default();
    let tomorrow = FIRST + 1.day();
    let barred = |by: f64, ahead: Option<f64>| {
        let weather = DayWeather::from_temperatures(tomorrow, Celsius::from_c(9.0), Celsius::from_c(20.0));
        let said = Foretold { weather, lowest_ahead: ahead.map(Celsius::from_c) };
        let climate = colder(&[0.0], by).with_forecast(&[said]);
        super::nights::night_of(&rules(&climate, &law), &lawn(1), FIRST).barred
    };
    let frost = |barred: Option<Barred>| match barred {
        Some(Barred::Frost { expected, foretold, .. }) => Some((expected.c(), foretold)),
        _ => None,
    };
    assert_eq!(frost(barred(8.0, None)), Some((3.0, false)), "nothing was said before the day began");
    assert_eq!(barred(8.0, Some(3.1)), None, "a mild night after a cold one");
    assert_eq!(frost(barred(0.0, Some(3.0))), Some((3.0, true)), "the set point itself bars");
    assert_eq!(frost(barred(0.0, Some(-4.0))), Some((-4.0, true)), "a cold night after a mild one");
    assert!(matches!(barred(18.0, Some(9.0)), Some(Barred::Frozen { .. })), "frozen ground stays frozen");
}

#[test]
fn a_weekly_count_bars_the_days_beyond_it() {
    let climate = climate(&[0.0; 28]);
    let (zone, sky) = (lawn(1), sky(&climate));
    let (resolved, law) = (zone.resolve(46.0), Law::default());
    let once: Vec<ZoneNight> = nights(&rules(&climate, &law), &zone, &sky)
        .into_iter()
        .map(|night| ZoneNight { most_a_week: 1, ..night })
        .collect();
    let facts = ZoneFacts { nights: &once, ..ZoneFacts::of(&zone, &resolved) };
    let (days, _) = account(&facts, &sky, |_| ());
    // 1 June 2026 is a Monday.
    for week in days.chunks(7) {
        assert!(week.iter().filter(|d| d.water.applied.mm() > 0.0).count() <= 1);
    }
    assert!(days.iter().any(|d| d.short));
}

#[test]
fn a_grow_in_that_begins_neither_makes_nor_loses_water() {
    use crate::ground::planting::GrowIn;
    let mut zone = lawn(1);
    zone.planting.grow_in = Some(GrowIn {
        from: FIRST + 10.days(),
        until: FIRST + 20.days(),
        factor: 1.2,
        root_depth: Metres::from_m(0.05),
    });
    let (days, hours) = known(&zone, &sky(&climate(&[0.0; 30])), &[], &[]);
    conserved(&hours);
    assert!(days[11].refill_at < days[9].refill_at);
}

#[test]
fn sentence_9_a_grow_in_on_dry_ground_cuts_the_depletion_to_the_new_store() {
    use crate::ground::planting::GrowIn;
    let mut zone = lawn(1);
    let from = FIRST + 25.days();
    zone.planting.grow_in =
        Some(GrowIn { from, until: FIRST + 29.days(), factor: 1.2, root_depth: Metres::from_m(0.05) });
    // Nobody waters: by then more is missing than five centimetres of soil hold.
    let (days, hours) = known(&zone, &sky(&climate(&[0.0; 40])), &[], &[]);
    conserved(&hours);
    let store = zone.resolve(46.0).root_zone_on(from).total_available;
    let day = |on: Date| days.iter().find(|d| d.date == on).unwrap();
    let before = day(from - 1.day()).water.depletion;
    assert!(before > store, "{before:?} of {store:?}");
    assert!((day(from).water.root_cut - (before - store)).mm().abs() < 1e-9);
    assert!(day(from).water.depletion <= store);
}

/// In every hour: depletion before - what went in + ET + drainage is the depletion after, and what came is what
/// went in and what ran off.
fn conserved(hours: &[AccountHour]) {
    let mut before = 0.0;
    for hour in hours {
        let w = hour.water;
        let after =
            before - w.rain_in.mm() - w.applied_in.mm() + w.et.mm() + w.drainage.mm() - w.root_cut.mm();
        if hour.reset_from.is_none() {
            assert!((after - w.depletion.mm()).abs() < 1e-9, "{hour:?} after {before}");
        }
        let off = w.rain.mm() + w.applied.mm() - w.rain_in.mm() - w.applied_in.mm() - w.runoff.mm();
        assert!(off.abs() < 1e-9, "{hour:?}");
        assert!(
            w.applied_off.mm() <= w.runoff.mm() + 1e-9 && w.applied_drained.mm() <= w.drainage.mm() + 1e-9
        );
        assert!(w.et.mm() <= w.demand.mm() + 1e-12 && w.depletion.mm() >= 0.0);
        before = w.depletion.mm();
    }
}

fn any_zone() -> impl Strategy<Value = Zone> {
    (
        prop::sample::select(Texture::ALL.to_vec()),
        prop::sample::select(vec![PlantKind::CoolSeasonTurf, PlantKind::LowDemand, PlantKind::Vegetables]),
        prop::sample::select(vec![HeadType::Spray, HeadType::Rotor, HeadType::Drip]),
        prop::sample::select(Sky::ALL.to_vec()),
        0.0..25.0_f64,
        0.3..1.0_f64,
    )
        .prop_map(|(soil, plant, head, sky, slope, uniformity)| Zone {
            soil,
            plant,
            head,
            sky,
            slope_pct: Some(slope),
            uniformity: Some(Share::from_fraction(uniformity)),
            ..lawn(1)
        })
}

// Long: a table read, a season run, three kinds of day compared.
#[test]
fn a_season_agrees_with_pyfao56_where_the_models_meet() {
    // Sand of 0.6 m, half of it allowable; 8 mm/h of even watering from midnight, which sand takes in.
    let zone = Zone {
        soil: Texture::Sand,
        root_depth: Some(Metres::from_m(0.6)),
        allowable_depletion: Some(Share::from_fraction(0.5)),
        precipitation_rate: Some(crate::quantity::units::MillimetresPerHour::from_mm_per_hour(8.0)),
        uniformity: Some(Share::WHOLE),
        own_coefficient: Some(crate::ground::planting::OwnCoefficient::Constant(1.0)),
        ..lawn(1)
    };
    let rows: Vec<Vec<f64>> = include_str!("../../tests/data/pyfao56.csv")
        .lines()
        .filter(|line| line.starts_with(|c: char| c.is_ascii_digit()))
        .map(|line| line.split(',').map(|n| n.parse().unwrap()).collect())
        .collect();
    let mm = Millimetres::from_mm;
    let days: Vec<_> = rows.iter().map(|row| (mm(row[1]), mm(row[0]))).collect();
    let sky = SkyHours::from_days(&days, FIRST, station());
    let midnight_of = |k: usize| at(24.0 * k as f64);
    let runs: Vec<Watering> = (0..)
        .zip(&rows)
        .filter(|(_, row)| row[2] > 0.0)
        .map(|(k, row)| run(24.0 * f64::from(k), row[2] / 8.0 * 60.0))
        .collect();
    // Every day begins where the library's does, so that differences do not add up.
    let total = 36.0;
    let readings: Vec<FieldReading> = (1..)
        .zip(&rows)
        .map(|(k, row)| FieldReading {
            at: midnight_of(k),
            available_share: Share::from_fraction(1.0 - row[6] / total),
            reason: String::new(),
        })
        .collect();
    let (found, hours) = known(&zone, &sky, &runs, &readings);
    assert!((zone.resolve(46.0).root_zone.total_available.mm() - total).abs() < 1e-9);
    let (mut alike, mut wet, mut dry) = (0, 0, 0);
    // The first day begins full here and at 20 mm there.
    for (k, (day, row)) in found.iter().zip(&rows).enumerate().skip(1) {
        let [demand, rain, irrigation, ks, eta, drainage, depletion] = row[..] else { panic!("{row:?}") };
        let own = day.reset_from.map_or(day.water.depletion.mm(), Millimetres::mm);
        let gap = (own - depletion).abs();
        let drained = drainage.max(day.water.drainage.mm());
        if ks == 1.0 && !day.short && drained < 1e-9 {
            alike += 1;
            assert!(gap < 1e-6, "day {k}: {own} against {depletion}");
            assert!((day.water.et.mm() - eta).abs() < 1e-6);
        } else if drained > 0.0 && ks == 1.0 {
            wet += 1;
            // By the hour, rain of before noon has drained before the afternoon asks.
            assert!(gap <= demand + 1e-9 && day.water.drainage.mm() >= drainage - 1e-6, "day {k}: {gap}");
        } else if rain + irrigation == 0.0 {
            dry += 1;
            // Ks falls through the hours, where it stands at the morning's value there.
            assert!(gap <= demand * demand / (total - 18.0) + 0.02, "day {k}: {gap}");
            assert!(day.water.et.mm() <= eta + 1e-6);
        }
    }
    assert_eq!(hours.len(), rows.len() * 24);
    assert!(alike >= 40 && wet >= 10 && dry >= 20, "{alike} {wet} {dry} of {}", rows.len());
}

proptest! {
    #[test]
    fn every_hour_conserves_water(
        zone in any_zone(),
        rain in proptest::collection::vec(prop_oneof![3 => Just(0.0), 1 => 0.0..70.0_f64], 20),
        runs in proptest::collection::vec((0.0..470.0_f64, 1.0..240.0_f64), 0..30),
        read in proptest::option::of((0.0..480.0_f64, 0.0..1.0_f64)),
    ) {
        let climate = climate(&rain);
        let spans = runs.iter().map(|(from, minutes)| run(*from, *minutes)).collect();
        let readings: Vec<_> = read.iter().map(|(hour, share)| FieldReading {
            at: at(*hour), available_share: Share::from_fraction(*share), reason: String::new(),
        }).collect();
        let (days, hours) = known(&zone, &sky(&climate), &super::evidence::joined(spans), &readings);
        conserved(&hours);
        for day in &days {
            let own = hours.iter().filter(|h| h.date == day.date);
            let sum: f64 = own.map(|h| h.water.et.mm()).sum();
            prop_assert!((sum - day.water.et.mm()).abs() < 1e-9);
        }
    }

    #[test]
    fn with_constant_hours_it_agrees_with_the_balance_by_the_day(
        zone in any_zone(), rain in proptest::collection::vec(prop_oneof![2 => Just(0.0), 1 => 0.0..8.0_f64], 25),
    ) {
        let zone = Zone { sky: Sky::Open, ..zone };
        let (climate, resolved) = (climate(&rain), zone.resolve(46.0));
        let until = midnight(FIRST + 25.days(), &TimeZone::UTC);
        let even = SkyHours::even(&climate, &TimeZone::UTC, FIRST, until);
        let (days, _) = known(&zone, &even, &[], &[]);
        let mut depletion = Millimetres::ZERO;
        for (day, rain) in days.iter().zip(&rain) {
            let root_zone = resolved.root_zone_on(day.date);
            let demand = day.et0 * resolved.demand_factor_on(day.date);
            // A drizzle is intercepted (FAO-56 ch. 8).
            let rain = if *rain < 0.2 * day.et0.mm() { &0.0 } else { rain };
            let water = DayWater { demand, rain: Millimetres::from_mm(*rain), irrigation: Millimetres::ZERO };
            let daily = root_zone.day(depletion, water);
            let gap = (daily.depletion.mm() - day.water.depletion.mm()).abs();
            // A day of rain on a full root zone ends an hour of demand apart: by the hour, rain of before noon has
            // drained before the afternoon asks. On a dry day Ks falls through the hours where the day's own
            // stands still; rain on a dry root zone raises it at once, where the balance by the day waits for
            // the morning, so that such days are not compared.
            let hour = demand.mm() / 24.0;
            let ratio = demand.mm() / root_zone.total_available.mm();
            let falling = if day.short { demand.mm() * ratio } else { 0.0 };
            if *rain == 0.0 || daily.stress_coefficient == 1.0 && !day.short {
                prop_assert!(gap <= hour + falling + 1e-9, "{gap} on {} of {demand:?}", day.date);
            }
            if *rain == 0.0 && !day.short {
                prop_assert!(gap <= 1e-9, "{gap}: to the last digit on a dry day without stress");
            }
            // The next day starts from the account's own, so that differences do not add up.
            depletion = day.water.depletion;
        }
    }
}
