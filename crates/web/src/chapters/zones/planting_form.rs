//! The planting part of the zone form: coefficient builder, mixed plants, grow-in, wean-off, trim,
//! and the rate from flow or emitters.

use crate::page::dates::typed_date;
use crate::page::forms::{Field, FieldGroup, FieldKind, Reader};
use crate::page::units::{NO_UNIT, PERCENT, SIGNED_PERCENT, Shown, Units};
use crate::server::session::Fields;
use jiff::civil::Date;
use upland_core::codes::Coded;
use upland_core::ground::application::{rate_from_emitters, rate_from_flow};
use upland_core::ground::plant::PlantKind;
use upland_core::ground::planting::{
    Density, GrowIn, MixedRule, OtherPlants, OwnCoefficient, Planting, PlantingValue, RateBasis, Trim,
    WeanOff,
};
use upland_core::quantity::bounds::{self, Bound};
use upland_core::quantity::month::ByMonth;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{LitresPerMinute, Metres, MillimetresPerHour, SquareMetres};
use upland_core::site::Zone;
use upland_formats::typed::number;

const WEEKS: Shown = Shown::of("weeks", 1.0);

/// Other plants that the form has room for.
const OTHERS: [(&str, &str); 2] = [("other1", "other1_share"), ("other2", "other2_share")];

/// What was typed before, as metric numbers by field, so that an untouched text is not rounded.
fn metric(zone: &Zone, name: &str) -> Option<f64> {
    let p = &zone.planting;
    let landscape = |take: fn(f64, f64) -> f64| match zone.own_coefficient {
        Some(OwnCoefficient::Landscape { species, density }) => Some(take(species, density)),
        _ => None,
    };
    match (name, p.rate_basis) {
        ("coefficient", _) => match zone.own_coefficient {
            Some(OwnCoefficient::Constant(value)) => Some(value),
            _ => None,
        },
        ("species", _) => landscape(|s, _| s),
        ("density", _) => landscape(|_, d| d),
        ("other1_share", _) => p.others.first().map(|o| o.share.fraction()),
        ("other2_share", _) => p.others.get(1).map(|o| o.share.fraction()),
        ("grow_factor", _) => p.grow_in.map(|g| g.factor),
        ("grow_root", _) => p.grow_in.map(|g| g.root_depth.m()),
        ("wean_weeks", _) => p.wean_off.map(|w| f64::from(w.weeks)),
        ("wean_start", _) => p.wean_off.map(|w| w.start.percent()),
        ("trim", _) => p.trim.as_ref().map(|t| t.percent),
        ("zone_flow", RateBasis::FlowAndArea { flow_l_per_min, .. }) => Some(flow_l_per_min),
        ("emitter_flow", RateBasis::Emitters { flow_l_per_h, .. }) => Some(flow_l_per_h),
        ("emitter_along", RateBasis::Emitters { along_m, .. }) => Some(along_m),
        ("emitter_rows", RateBasis::Emitters { rows_m, .. }) => Some(rows_m),
        _ => None,
    }
}

/// Numeric fields with their unit and range.
fn numbers(u: &Units) -> [(&'static str, Shown, &'static Bound); 14] {
    [
        ("coefficient", NO_UNIT, &bounds::PLANT_COEFFICIENT),
        ("species", NO_UNIT, &bounds::SPECIES_FACTOR),
        ("density", NO_UNIT, &bounds::DENSITY_FACTOR),
        ("other1_share", PERCENT, &bounds::PLANT_SHARE),
        ("other2_share", PERCENT, &bounds::PLANT_SHARE),
        ("grow_factor", NO_UNIT, &bounds::GROW_IN_FACTOR),
        ("grow_root", u.short, &bounds::ROOT_DEPTH),
        ("wean_weeks", WEEKS, &bounds::WEAN_OFF_WEEKS),
        ("wean_start", SIGNED_PERCENT, &bounds::WEAN_OFF_START),
        ("trim", SIGNED_PERCENT, &bounds::TRIM),
        ("zone_flow", u.flow, &bounds::ZONE_FLOW),
        ("emitter_flow", u.emitter, &bounds::EMITTER_FLOW),
        ("emitter_along", u.short, &bounds::SPACING),
        ("emitter_rows", u.short, &bounds::SPACING),
    ]
}

pub(super) fn texts(zone: &Zone, u: &Units) -> Vec<(&'static str, String)> {
    let p = &zone.planting;
    let date = |d: Option<Date>| d.map_or(String::new(), typed_date);
    let mut out: Vec<(&'static str, String)> =
        numbers(u).into_iter().map(|(name, shown, _)| (name, shown.text(metric(zone, name)))).collect();
    let monthly = match zone.own_coefficient {
        Some(OwnCoefficient::Monthly(values)) => {
            values.map(|v| crate::page::quantities::plain(v, 3)).as_slice().join(" ")
        }
        _ => String::new(),
    };
    out.extend([
        ("monthly", monthly),
        ("mixed", p.mixed.code().to_owned()),
        ("value", p.value.code().to_owned()),
        ("other1", p.others.first().map_or(String::new(), |o| o.plant.code().to_owned())),
        ("other2", p.others.get(1).map_or(String::new(), |o| o.plant.code().to_owned())),
        ("grow_from", date(p.grow_in.map(|g| g.from))),
        ("grow_until", date(p.grow_in.map(|g| g.until))),
        ("wean_from", date(p.wean_off.map(|w| w.from))),
        ("trim_reason", p.trim.as_ref().map_or(String::new(), |t| t.reason.clone())),
    ]);
    out
}

fn optional_choice<T: Coded>(
    name: &'static str,
    label: &'static str,
    none: &str,
    words: fn(T) -> &'static str,
) -> Field {
    let mut field = Field::choice::<T>(name, label, words);
    if let FieldKind::Choice(options) = &mut field.kind {
        options.insert(0, (String::new(), none.to_owned()));
    }
    field
}

// Long: one field after another.
pub(super) fn groups(u: &Units) -> Vec<FieldGroup> {
    let unit = |name: &str| numbers(u).into_iter().find(|(n, ..)| *n == name).map_or("", |(_, s, _)| s.unit);
    let number = |name: &'static str, label| Field::number(name, label, unit(name));
    let other =
        |name, label| optional_choice::<PlantKind>(name, label, "no other plants", |p| p.defaults().label);
    vec![
        FieldGroup {
            folded: true,
            legend: "Coefficient builder",
            fields: vec![
                number("coefficient", "One number all year").help("Sun and shade are in it. Use one of the three ways, or none: then the plants' own curve is used."),
                Field::text("monthly", "Twelve numbers, January first").help("Separated by spaces; sun and shade are in them."),
                number("species", "Species factor").help("Very low below 0.1, low to 0.3, moderate to 0.6, high to 0.9."),
                number("density", "Density factor").help("Sparse 0.7, average 1.0, dense 1.2. Species × density × the sun of this zone."),
            ],
        },
        FieldGroup {
            folded: true,
            legend: "Mixed plants on this valve, value of the planting",
            fields: vec![
                other("other1", "Also grows here"),
                number("other1_share", "Its share of the area"),
                other("other2", "And"),
                number("other2_share", "Its share of the area"),
                Field::choice::<MixedRule>("mixed", "Watered", MixedRule::label).help("For the thirstiest nobody dries; by area the thirstiest go short."),
                Field::choice::<PlantingValue>("value", "Value of the planting", PlantingValue::label).help("Where zones share a percentage, a costly planting counts more than its area."),
            ],
        },
        FieldGroup {
            folded: true,
            legend: "Dated: grow-in and wean-off",
            fields: vec![
                Field::date("grow_from", "Grow-in from"),
                Field::date("grow_until", "until").help("It ends by itself."),
                number("grow_factor", "Extra factor").default("1.2"),
                number("grow_root", "Depth of young roots"),
                Field::date("wean_from", "Wean-off from"),
                number("wean_weeks", "over").default("6"),
                number("wean_start", "First percentage").help("What the plants got so far, of their computed need; it steps to 100 % week by week."),
            ],
        },
        FieldGroup {
            folded: true,
            legend: "Trim for exposure",
            fields: vec![
                number("trim", "Trim").help("Signed: -10 for a damp hollow, 10 for a windy crest. It is not the budget."),
                Field::text("trim_reason", "Why"),
            ],
        },
        FieldGroup {
            folded: true,
            legend: "Rate from the meter or from emitters",
            fields: vec![
                number("zone_flow", "Flow of this zone").help("Read at the meter while it runs alone. With the area it gives the rate; leave it out to type the rate yourself."),
                number("emitter_flow", "Flow of one emitter"),
                number("emitter_along", "Emitters apart"),
                number("emitter_rows", "Lines apart"),
            ],
        },
    ]
}

/// What the form says about planting and rate.
pub(super) struct Read {
    pub own: Option<OwnCoefficient>,
    pub planting: Planting,
    /// The rate that flow or emitters give.
    pub rate: Option<MillimetresPerHour>,
}

// Long: one field after another.
/// Reads the planting part. `area` is the area as read; `rate` says whether a rate was typed.
pub(super) fn read(
    fields: &Fields,
    reader: &mut Reader,
    u: &Units,
    today: Date,
    before: Option<&Zone>,
    area: Option<f64>,
) -> Read {
    let mut number = |name: &'static str, reader: &mut Reader| {
        let (_, shown, bound) = numbers(u).into_iter().find(|(n, ..)| *n == name)?;
        reader.optional(name, shown, bound, before.and_then(|z| metric(z, name)))
    };
    let constant = number("coefficient", reader);
    let (species, density) = (number("species", reader), number("density", reader));
    let monthly = monthly(fields, reader);
    let landscape = match (species, density) {
        (Some(species), density) => {
            Some(OwnCoefficient::Landscape { species, density: density.unwrap_or(Density::Average.factor()) })
        }
        (None, Some(_)) => {
            reader.say("species", "A density factor alone is no coefficient; give the species factor too.");
            None
        }
        (None, None) => None,
    };
    let ways = [constant.map(OwnCoefficient::Constant), monthly, landscape];
    if ways.iter().flatten().count() > 1 {
        reader.say("coefficient", "Use one way: one number, twelve numbers, or species and density.");
    }
    let others = others(fields, reader, &mut number);
    let mixed =
        if fields.get("mixed").is_empty() { Some(MixedRule::default()) } else { reader.choice("mixed") };
    let value = match fields.get("value") {
        "" => Some(before.map_or(PlantingValue::default(), |zone| zone.planting.value)),
        _ => reader.choice("value"),
    };
    let grow_in = grow_in(reader, today, &mut number);
    let wean_off = wean_off(reader, today, &mut number);
    let trim = number("trim", reader).and_then(|percent| {
        let reason = fields.get("trim_reason").trim().to_owned();
        if reason.is_empty() {
            reader.say("trim_reason", "Say why: a later reader must know whether it still applies.");
            return None;
        }
        Some(Trim { percent, reason: reason.chars().take(upland_formats::MAX_NAME).collect() })
    });
    let (rate_basis, rate) = rate(reader, area, before, &mut number);
    Read {
        own: ways.into_iter().flatten().next(),
        planting: Planting {
            others,
            mixed: mixed.unwrap_or_default(),
            grow_in,
            wean_off,
            trim,
            rate_basis,
            value: value.unwrap_or_default(),
        },
        rate,
    }
}

type Number<'a> = dyn FnMut(&'static str, &mut Reader) -> Option<f64> + 'a;

fn monthly(fields: &Fields, reader: &mut Reader) -> Option<OwnCoefficient> {
    let text = fields.get("monthly");
    if text.is_empty() {
        return None;
    }
    let values: Vec<Option<f64>> =
        text.split_whitespace().map(|w| number(w.trim_end_matches(',')).ok()).collect();
    let good: Vec<f64> =
        values.iter().flatten().copied().filter(|v| bounds::PLANT_COEFFICIENT.check(*v).is_ok()).collect();
    match <[f64; 12]>::try_from(good) {
        Ok(values) if text.split_whitespace().count() == 12 => {
            Some(OwnCoefficient::Monthly(ByMonth::new(values)))
        }
        _ => {
            reader.say("monthly", "Twelve numbers between 0.05 and 1.6, January first, separated by spaces.");
            None
        }
    }
}

fn grow_in(reader: &mut Reader, today: Date, number: &mut Number) -> Option<GrowIn> {
    let (from, until) = (reader.optional_date("grow_from", today), reader.optional_date("grow_until", today));
    let (factor, root) = (number("grow_factor", reader), number("grow_root", reader));
    match (from, until) {
        (Some(from), Some(until)) if until >= from => {
            let Some(root) = root else {
                if !reader.errors.iter().any(|(n, _)| *n == "grow_root") {
                    reader.say(
                        "grow_root",
                        "Say how deep the young roots reach; the refill point moves with it.",
                    );
                }
                return None;
            };
            Some(GrowIn { from, until, factor: factor.unwrap_or(1.2), root_depth: Metres::from_m(root) })
        }
        (Some(_), Some(_)) => {
            reader.say("grow_until", "It ends before it begins.");
            None
        }
        (None, None) => None,
        (Some(_), None) => {
            reader.say("grow_until", "Give its last day: it ends by itself.");
            None
        }
        (None, Some(_)) => {
            reader.say("grow_from", "Give its first day.");
            None
        }
    }
}

/// What else grows on the valve.
fn others(fields: &Fields, reader: &mut Reader, number: &mut Number) -> Vec<OtherPlants> {
    let mut others = Vec::new();
    for (name, share_name) in OTHERS {
        let share = number(share_name, reader).map(Share::from_fraction);
        match (PlantKind::from_code(fields.get(name)), share) {
            (Some(plant), Some(share)) => others.push(OtherPlants { plant, share }),
            (Some(_), None) => reader.say(share_name, "Give its share of the area."),
            (None, Some(_)) => reader.say(name, "Choose what grows on that share."),
            (None, None) => {}
        }
    }
    if others.iter().map(|o| o.share.fraction()).sum::<f64>() > bounds::PLANT_SHARE.max {
        reader.say("other2_share", "Together they leave nothing for the zone's own plants.");
    }
    others
}

fn wean_off(reader: &mut Reader, today: Date, number: &mut Number) -> Option<WeanOff> {
    let from = reader.optional_date("wean_from", today);
    let (weeks, start) = (number("wean_weeks", reader), number("wean_start", reader));
    match (from, start) {
        (Some(from), Some(start)) => {
            #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded to 26")]
            let weeks = weeks.unwrap_or(6.0).round() as u8;
            Some(WeanOff { from, weeks, start: Share::from_percent(start) })
        }
        (Some(_), None) => {
            if !reader.errors.iter().any(|(n, _)| *n == "wean_start") {
                reader.say("wean_start", "Give the percentage that the plants got so far.");
            }
            None
        }
        (None, Some(_)) => {
            reader.say("wean_from", "Give its first day.");
            None
        }
        (None, None) => None,
    }
}

fn rate(
    reader: &mut Reader,
    area: Option<f64>,
    before: Option<&Zone>,
    number: &mut Number,
) -> (RateBasis, Option<MillimetresPerHour>) {
    let flow = number("zone_flow", reader);
    let emitter =
        (number("emitter_flow", reader), number("emitter_along", reader), number("emitter_rows", reader));
    let mut checked = |field, basis, rate: MillimetresPerHour| {
        if let Err(error) = bounds::PRECIPITATION_RATE.check(rate.mm_per_hour()) {
            reader.say(field, format!("This gives a rate that no head has. {error}."));
            return (RateBasis::Typed, None);
        }
        (basis, Some(rate))
    };
    match (flow, emitter, area) {
        (Some(_), (Some(_), ..), _) => {
            reader.say("emitter_flow", "Use the meter or the emitters, not both.");
            (RateBasis::Typed, None)
        }
        (Some(_), _, None) => {
            reader.say("area", "The area is needed to turn flow into a rate.");
            (RateBasis::Typed, None)
        }
        (Some(flow_l_per_min), _, Some(area_m2)) => {
            let rate = rate_from_flow(
                LitresPerMinute::from_l_per_min(flow_l_per_min),
                SquareMetres::from_m2(area_m2),
            );
            checked("zone_flow", RateBasis::FlowAndArea { flow_l_per_min, area_m2 }, rate)
        }
        (None, (Some(flow_l_per_h), Some(along_m), Some(rows_m)), _) => {
            let rate = rate_from_emitters(flow_l_per_h, along_m, rows_m);
            checked("emitter_flow", RateBasis::Emitters { flow_l_per_h, along_m, rows_m }, rate)
        }
        (None, (None, None, None), _) => match before.map(|z| z.planting.rate_basis) {
            Some(cans @ RateBasis::CatchCans { .. }) => (cans, None),
            _ => (RateBasis::Typed, None),
        },
        (None, _, _) => {
            reader.say("emitter_flow", "Flow and both spacings are needed.");
            (RateBasis::Typed, None)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::survey;
    use super::*;
    use upland_core::site::UnitSystem;

    const TODAY: Date = Date::constant(2026, 7, 14);

    fn zone() -> Zone {
        let mut zone = crate::fixture::decided(UnitSystem::Metric).records.zones[0].zone.clone();
        zone.own_coefficient = Some(OwnCoefficient::Landscape { species: 0.55, density: 1.15 });
        zone.planting = Planting {
            others: vec![OtherPlants { plant: PlantKind::Trees, share: Share::from_fraction(0.3) }],
            mixed: MixedRule::AreaWeighted,
            grow_in: Some(GrowIn {
                from: jiff::civil::date(2026, 4, 1),
                until: jiff::civil::date(2026, 5, 31),
                factor: 1.25,
                root_depth: Metres::from_m(0.06),
            }),
            wean_off: Some(WeanOff {
                from: jiff::civil::date(2026, 6, 1),
                weeks: 5,
                start: Share::from_percent(140.0),
            }),
            trim: Some(Trim { percent: -10.0, reason: "hollow".into() }),
            value: PlantingValue::High,
            rate_basis: RateBasis::Emitters { flow_l_per_h: 2.3, along_m: 0.3, rows_m: 0.45 },
        };
        zone.precipitation_rate = Some(rate_from_emitters(2.3, 0.3, 0.45));
        zone
    }

    fn stations() -> survey::Stations {
        survey::Stations::for_tests(&[1], &[])
    }

    #[test]
    fn a_planting_sent_back_untouched_changes_nothing_in_either_unit_system() {
        for system in [UnitSystem::Metric, UnitSystem::UsCustomary] {
            let fields = Fields(survey::texts(&zone(), system));
            assert_eq!(survey::read(&fields, system, Some(&zone()), &stations(), TODAY), Ok(zone()));
        }
    }

    #[test]
    fn half_answers_are_told_at_the_field_that_is_missing() {
        let mut bare = zone();
        (bare.own_coefficient, bare.planting) = (None, Planting::default());
        let errors = |changes: &[(&str, &str)]| -> Vec<&'static str> {
            let mut texts = survey::texts(&bare, UnitSystem::Metric);
            for (name, value) in changes {
                texts.insert((*name).to_owned(), (*value).to_owned());
            }
            survey::read(&Fields(texts), UnitSystem::Metric, Some(&bare), &stations(), TODAY)
                .err()
                .unwrap_or_default()
                .into_iter()
                .map(|(name, _)| name)
                .collect()
        };
        assert_eq!(errors(&[("coefficient", "0.6"), ("species", "0.5")]), ["coefficient"]);
        assert_eq!(errors(&[("density", "1.2")]), ["species"]);
        assert_eq!(errors(&[("monthly", "0.5 0.5 0.5")]), ["monthly"]);
        assert_eq!(errors(&[("other1", "trees")]), ["other1_share"]);
        assert_eq!(errors(&[("grow_from", "2026-05-01")]), ["grow_until"]);
        assert_eq!(
            errors(&[("grow_from", "2026-05-01"), ("grow_until", "2026-04-01"), ("grow_root", "5")]),
            ["grow_until"]
        );
        assert_eq!(errors(&[("wean_from", "2026-05-01")]), ["wean_start"]);
        assert_eq!(errors(&[("trim", "10")]), ["trim_reason"]);
        assert_eq!(errors(&[("zone_flow", "20"), ("area", "")]), ["area"]);
        assert_eq!(errors(&[("emitter_flow", "2")]), ["emitter_flow"]);
        assert_eq!(errors(&[("wean_from", "whenever")]), ["wean_from"]);
        assert_eq!(errors(&[("zone_flow", "2000"), ("area", "1")]), ["zone_flow"], "no head has such a rate");
    }

    #[test]
    fn flow_and_area_give_the_rate() {
        let mut bare = zone();
        (bare.own_coefficient, bare.planting) = (None, Planting::default());
        let mut texts = survey::texts(&bare, UnitSystem::Metric);
        for (name, value) in [("zone_flow", "30"), ("area", "120"), ("rate", "")] {
            texts.insert(name.to_owned(), value.to_owned());
        }
        let read = survey::read(&Fields(texts), UnitSystem::Metric, Some(&bare), &stations(), TODAY).unwrap();
        assert_eq!(read.precipitation_rate.map(|r| r.mm_per_hour()), Some(15.0));
        assert_eq!(read.planting.rate_basis, RateBasis::FlowAndArea { flow_l_per_min: 30.0, area_m2: 120.0 });
    }
}
