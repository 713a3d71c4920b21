//! Numbers with units: what is typed in one is read in the unit of its field.

use super::{Read, Reading, Refusal, number, refused, trimmed};
use upland_core::quantity::units::{L_PER_US_GALLON, M_PER_FOOT, M_S_PER_MPH, MM_PER_INCH};

/// What a unit measures.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Dimension {
    Length,
    Rate,
    DepthADay,
    Area,
    Volume,
    Flow,
    Temperature,
    Speed,
    Percent,
    Angle,
    Current,
    Hours,
    Days,
}

impl Dimension {
    fn label(self) -> &'static str {
        match self {
            Self::Length => "a length",
            Self::Rate => "a rate",
            Self::DepthADay => "a depth a day",
            Self::Area => "an area",
            Self::Volume => "a volume",
            Self::Flow => "a flow",
            Self::Temperature => "a temperature",
            Self::Speed => "a speed",
            Self::Percent => "a percentage",
            Self::Angle => "an angle",
            Self::Current => "a current",
            Self::Hours | Self::Days => "a length of time",
        }
    }
}

/// A unit: its names, small; what it measures; one of it in the base unit; where its zero lies in its own degrees.
struct Unit {
    names: &'static [&'static str],
    of: Dimension,
    one: f64,
    zero: f64,
}

const fn unit(of: Dimension, one: f64, names: &'static [&'static str]) -> Unit {
    Unit { names, of, one, zero: 0.0 }
}

/// Every unit that is read. Base units: m, mm/h, mm a day, m², L, L/min, °C, m/s, %, °, A, h, days.
static UNITS: &[Unit] = &[
    unit(Dimension::Length, 0.001, &["mm", "millimetres", "millimeters"]),
    unit(Dimension::Length, 0.01, &["cm", "centimetres", "centimeters"]),
    unit(Dimension::Length, 1.0, &["m", "metre", "metres", "meter", "meters"]),
    unit(Dimension::Length, 1000.0, &["km"]),
    unit(Dimension::Length, MM_PER_INCH / 1000.0, &["in", "inch", "inches", "\"", "″", "in."]),
    unit(Dimension::Length, M_PER_FOOT, &["ft", "foot", "feet", "'", "′", "ft."]),
    unit(Dimension::Length, M_PER_FOOT * 3.0, &["yd", "yard", "yards"]),
    unit(Dimension::Length, M_PER_FOOT * 5280.0, &["mi", "mile", "miles"]),
    unit(Dimension::Rate, 1.0, &["mm/h", "mm/hr", "mm per hour", "mm an hour"]),
    unit(Dimension::Rate, 10.0, &["cm/h"]),
    unit(
        Dimension::Rate,
        MM_PER_INCH,
        &["in/h", "in/hr", "iph", "inches per hour", "inches an hour", "in per hour"],
    ),
    unit(Dimension::DepthADay, 1.0, &["mm a day", "mm/d", "mm/day", "mm in a day"]),
    unit(Dimension::DepthADay, MM_PER_INCH, &["in a day", "in/d", "in/day", "in in a day"]),
    unit(Dimension::Area, 0.0001, &["cm²", "cm2", "sq cm"]),
    unit(Dimension::Area, M_PER_FOOT * M_PER_FOOT / 144.0, &["in²", "in2", "sq in"]),
    unit(Dimension::Area, 1.0, &["m²", "m2", "sq m", "sqm"]),
    unit(Dimension::Area, M_PER_FOOT * M_PER_FOOT, &["ft²", "ft2", "sq ft", "sqft", "square feet"]),
    unit(Dimension::Area, 10_000.0, &["ha"]),
    unit(Dimension::Area, M_PER_FOOT * M_PER_FOOT * 43_560.0, &["ac", "acre", "acres"]),
    unit(Dimension::Volume, 1.0, &["l", "litre", "litres", "liter", "liters"]),
    unit(Dimension::Volume, 0.001, &["ml"]),
    unit(Dimension::Volume, 1000.0, &["m³", "m3"]),
    unit(Dimension::Volume, L_PER_US_GALLON, &["gal", "gallon", "gallons"]),
    unit(Dimension::Volume, L_PER_US_GALLON / 128.0, &["fl oz", "oz"]),
    unit(Dimension::Volume, M_PER_FOOT * M_PER_FOOT * M_PER_FOOT * 1000.0, &["ft³", "ft3", "cu ft"]),
    unit(Dimension::Volume, M_PER_FOOT * M_PER_FOOT * M_PER_FOOT * 100_000.0, &["ccf", "hcf"]),
    unit(Dimension::Flow, 1.0, &["l/min", "lpm", "l/m"]),
    unit(Dimension::Flow, 60.0, &["l/s", "lps"]),
    unit(Dimension::Flow, 1.0 / 60.0, &["l/h", "l/hr", "lph"]),
    unit(Dimension::Flow, 1000.0 / 60.0, &["m³/h", "m3/h"]),
    unit(Dimension::Flow, L_PER_US_GALLON, &["gpm", "gal/min"]),
    unit(Dimension::Flow, L_PER_US_GALLON / 60.0, &["gph", "gal/h", "gal/hr"]),
    unit(Dimension::Temperature, 1.0, &["°c", "c", "celsius", "deg c", "degrees c"]),
    Unit {
        names: &["°f", "f", "fahrenheit", "deg f", "degrees f"],
        of: Dimension::Temperature,
        one: 5.0 / 9.0,
        zero: 32.0,
    },
    unit(Dimension::Speed, 1.0, &["m/s", "mps"]),
    unit(Dimension::Speed, 1.0 / 3.6, &["km/h", "kmh", "kph"]),
    unit(Dimension::Speed, M_S_PER_MPH, &["mph", "miles per hour"]),
    unit(Dimension::Speed, 1852.0 / 3600.0, &["kn", "kt", "knots"]),
    unit(Dimension::Percent, 1.0, &["%", "percent", "per cent", "pct", "% by volume"]),
    unit(Dimension::Angle, 1.0, &["°", "deg", "degree", "degrees"]),
    unit(Dimension::Current, 1.0, &["a", "amp", "amps"]),
    unit(Dimension::Current, 0.001, &["ma"]),
    unit(Dimension::Hours, 1.0, &["h", "hr", "hrs", "hour", "hours"]),
    unit(Dimension::Hours, 1.0 / 3600.0, &["s", "sec", "second", "seconds"]),
    unit(Dimension::Hours, 1.0 / 60.0, &["min", "mins", "minute", "minutes"]),
    unit(Dimension::Days, 1.0, &["d", "day", "days"]),
    unit(Dimension::Days, 7.0, &["weeks", "week", "wk", "w"]),
];

fn find(name: &str) -> Option<&'static Unit> {
    UNITS.iter().find(|u| u.names.contains(&name))
}

/// What may be typed instead of a number's unit in the field's own dimension.
fn choices(own: &Unit) -> String {
    let names = UNITS.iter().filter(|u| u.of == own.of).filter_map(|u| u.names.first());
    // Litres, degrees and amperes are written with a capital.
    let written = names.map(|name| match *name {
        "l" => "L".to_owned(),
        "ml" => "mL".to_owned(),
        "a" => "A".to_owned(),
        "ma" => "mA".to_owned(),
        name if name.starts_with("l/") => name.replacen('l', "L", 1),
        name if name.starts_with('°') => name.to_uppercase(),
        name => name.to_owned(),
    });
    written.collect::<Vec<_>>().join(", ")
}

/// A text as numbers, each with the unit behind it.
fn parts(typed: &str) -> Option<Vec<(&str, &str)>> {
    let of_unit = |c: char| c.is_alphabetic() && !"½¼¾⅛⅜⅝⅞⅓⅔".contains(c) || "°%\"'″′²³".contains(c);
    let mut found = Vec::new();
    let mut rest = typed.trim();
    while !rest.is_empty() {
        let end = rest.find(of_unit).unwrap_or(rest.len());
        let (value, after) = rest.split_at(end);
        // A unit goes on over spaces and strokes until the next digit: "in per hour", "gal/min", "m2".
        let mut end = after.len();
        let mut before = ' ';
        for (at, c) in after.char_indices() {
            let exponent = matches!(c, '2' | '3') && matches!(before, 'm' | 't' | 'n');
            if (c.is_ascii_digit() && !exponent) || c == '-' || c == '½' {
                end = at;
                break;
            }
            before = c;
        }
        let (name, after) = after.split_at(end);
        found.push((value.trim(), name.trim()));
        rest = after.trim_start();
        if found.len() > 3 {
            return None;
        }
    }
    Some(found)
}

/// A number in the unit of its field. The text may carry another unit of the same kind ("36 F" where degrees Celsius
/// stand, "1/2 in" where millimetres stand, "5 ft 6 in"); a bare number is in the field's own.
///
/// # Errors
/// What cannot be read, a unit of another kind, and a number that can be read in two ways.
// Long: one text is looked at from several sides.
pub fn quantity(text: &str, unit_of_field: &str) -> Read<f64> {
    let own_name = unit_of_field.to_lowercase();
    let own = find(&own_name);
    let typed = trimmed(text);
    // "45.5 N", "30 W": a hemisphere is a sign.
    if own.is_some_and(|own| own.of == Dimension::Angle)
        && let Some((bare, sign)) = typed.as_deref().and_then(|t| {
            let side = t.strip_suffix(['n', 'e']).map(|bare| (bare, 1.0));
            side.or_else(|| t.strip_suffix(['s', 'w']).map(|bare| (bare, -1.0)))
        })
    {
        let value = quantity(bare, unit_of_field).or_else(|_| refused(text, &takes(unit_of_field)))?;
        return if value >= 0.0 { Ok(sign * value) } else { refused(text, &takes(unit_of_field)) };
    }
    let Some(typed) = typed else { return refused(text, &takes(unit_of_field)) };
    // A unit that only this field has: the number, or the number with it.
    let bare = typed.strip_suffix(own_name.as_str()).filter(|_| !own_name.is_empty()).unwrap_or(&typed);
    if let Ok(value) = number(bare) {
        return Ok(value);
    }
    let Some(own) = own else {
        return number(bare).map_err(|refusal| told(refusal, text, &takes(unit_of_field)));
    };
    let Some(parts) = parts(&typed) else { return refused(text, &takes(unit_of_field)) };
    let mut sum = 0.0;
    let count = parts.len();
    for (value, name) in parts {
        let half = match value {
            // "half an inch"
            "" => name.strip_prefix("half").map(|rest| rest.trim_start_matches([' ', 'a', 'n']).trim_start()),
            _ => None,
        };
        let (value, name) = match half {
            Some(rest) => (0.5, inch(rest)),
            None => (number(value).map_err(|refusal| told(refusal, text, &takes(unit_of_field)))?, name),
        };
        let unit = match name {
            "" if count == 1 => own,
            // Degrees of a temperature are those of the field.
            "°" | "deg" | "degrees" if own.of == Dimension::Temperature => own,
            name => match find(name) {
                Some(unit) if unit.of == own.of => unit,
                Some(unit) => {
                    let (is, wants) = (unit.of.label(), own.of.label());
                    let shown = text.trim();
                    return Err(Refusal::Unreadable(format!(
                        "\"{shown}\" is {is}; this takes {wants}, in {}.",
                        choices(own)
                    )));
                }
                None => {
                    return Err(Refusal::Unreadable(format!(
                        "\"{name}\" is no unit that is known here; write {}.",
                        choices(own)
                    )));
                }
            },
        };
        sum += (value - unit.zero) * unit.one;
    }
    Ok(sum / own.one + own.zero)
}

/// "inch" after "half an": the article's letters may have been taken with it.
fn inch(rest: &str) -> &str {
    match rest {
        "ch" | "inch" => "in",
        // Half of what, nobody said.
        "" => "half",
        rest => rest,
    }
}

fn takes(unit: &str) -> String {
    if unit.is_empty() {
        "a number; write 12, 12.5 or 1/2".into()
    } else {
        format!("a number of {unit}; write 12, 12.5 or 1/2")
    }
}

/// The refusal of a number, in the words of its field.
fn told(refusal: Refusal, text: &str, takes: &str) -> Refusal {
    match refusal {
        Refusal::TwoWays(typed, readings) => {
            let tail = text.trim().strip_prefix(typed.trim()).unwrap_or("").trim().to_owned();
            let with = |r: Reading| {
                let text = if tail.is_empty() { r.text } else { format!("{} {tail}", r.text) };
                Reading { means: text.clone(), text }
            };
            Refusal::TwoWays(text.trim().to_owned(), readings.map(with))
        }
        Refusal::Unreadable(_) => match refused::<()>(text, takes) {
            Err(refusal) => refusal,
            Ok(()) => Refusal::Unreadable(String::new()),
        },
    }
}

/// The slope of ground in percent: "12", "12 %", "7°", "1 in 4", "1:4".
///
/// # Errors
/// What cannot be read; slopes of 90 degrees and more.
pub fn slope_percent(text: &str) -> Read<f64> {
    const TAKES: &str = "a slope; write 12 %, 7° or 1 in 4";
    let Some(typed) = trimmed(text) else { return refused(text, TAKES) };
    for between in [" in ", ":"] {
        if let Some((first, second)) = typed.split_once(between) {
            let both = number(first).ok().zip(number(second).ok()).filter(|(a, b)| *a > 0.0 && *b > 0.0);
            // Between a colon some write the run first, 3:1, and some the rise, 1:4: ground is no steeper than 1:1.
            let share = both.map(|(a, b)| if between == ":" { a.min(b) / a.max(b) } else { a / b });
            return share.map_or_else(|| refused(text, TAKES), |share| Ok(100.0 * share));
        }
    }
    let degrees = ["degrees", "degree", "deg", "°"].into_iter().find_map(|e| typed.strip_suffix(e));
    match degrees {
        Some(degrees) => match number(degrees) {
            Ok(value) if (0.0..90.0).contains(&value) => Ok(100.0 * value.to_radians().tan()),
            _ => refused(text, TAKES),
        },
        None => quantity(&typed, "%").or_else(|_| refused(text, TAKES)),
    }
}
