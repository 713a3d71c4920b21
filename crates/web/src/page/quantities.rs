//! Numbers as a reader sees them: rounded, with their unit, metric or US customary.

use crate::page::dates::DateFormat;
use jiff::Zoned;
use jiff::civil::Date;
use upland_core::explain::Quantity;
use upland_core::ground::application::Cycles;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{
    Celsius, Litres, LitresPerMinute, Metres, Millimetres, MillimetresPerHour, SquareMetres,
};
use upland_core::sensors::INCH_ROUNDING;
use upland_core::site::UnitSystem;

/// Conventional inch of mercury (NIST SP 811).
const KPA_PER_INHG: f64 = 3.386_389;

/// A number with up to `digits` decimals and no trailing zeros.
pub(crate) fn plain(value: f64, digits: usize) -> String {
    let text = fixed(value, digits);
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

/// A number with just so many decimals; what rounds to nothing has no sign.
fn fixed(value: f64, digits: usize) -> String {
    let text = format!("{value:.digits$}");
    match text.strip_prefix('-') {
        Some(bare) if bare.chars().all(|c| matches!(c, '0' | '.')) => bare.to_owned(),
        _ => text,
    }
}

/// A number with thin groups of thousands.
fn grouped(value: f64) -> String {
    let digits = fixed(value, 0);
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) && c.is_ascii_digit() {
            out.push('\u{202f}');
        }
        out.push(c);
    }
    out
}

fn us(units: UnitSystem) -> bool {
    units == UnitSystem::UsCustomary
}

pub(crate) fn depth(units: UnitSystem, value: Millimetres) -> String {
    if us(units) {
        format!("{} in", fixed(value.inches(), 2))
    } else {
        format!("{} mm", fixed(value.mm(), 1))
    }
}

/// A fraction of an inch as rain thresholds are sold.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct InchFraction {
    pub inches: f64,
    pub words: &'static str,
}

/// The fraction of an inch that a rain threshold in millimetres is sold as: 12 mm is 1/2. `None` where none is near.
pub(crate) fn inch_fraction(value: Millimetres) -> Option<InchFraction> {
    let eighths = ["1/8", "1/4", "3/8", "1/2", "5/8", "3/4", "7/8", "1"];
    let all =
        (1..).zip(eighths).map(|(eighth, words)| InchFraction { inches: f64::from(eighth) / 8.0, words });
    let off = |fraction: &InchFraction| (fraction.inches - value.inches()).abs();
    let near = all.min_by(|a, b| off(a).total_cmp(&off(b)))?;
    (off(&near) <= INCH_ROUNDING * near.inches).then_some(near)
}

/// A rain threshold as a switch of the site's units has it on its dial.
pub(crate) fn rain_threshold(units: UnitSystem, value: Millimetres) -> String {
    match inch_fraction(value).filter(|_| us(units)) {
        Some(fraction) => format!("{} in", fraction.words),
        None => depth(units, value),
    }
}

pub(crate) fn rate(units: UnitSystem, value: MillimetresPerHour) -> String {
    if us(units) {
        format!("{} in/h", fixed(value.inches_per_hour(), 2))
    } else {
        format!("{} mm/h", fixed(value.mm_per_hour(), 1))
    }
}

pub(crate) fn length(units: UnitSystem, value: Metres) -> String {
    if us(units) {
        if value.feet() < 10.0 {
            format!("{} in", plain(value.inches(), 1))
        } else {
            format!("{} ft", grouped(value.feet()))
        }
    } else if value.m() < 10.0 {
        format!("{} m", plain(value.m(), 2))
    } else {
        format!("{} m", grouped(value.m()))
    }
}

pub(crate) fn area(units: UnitSystem, value: SquareMetres) -> String {
    if us(units) {
        format!("{} ft²", grouped(value.square_feet()))
    } else {
        format!("{} m²", grouped(value.m2()))
    }
}

pub(crate) fn volume(units: UnitSystem, value: Litres) -> String {
    if us(units) {
        format!("{} gal", grouped(value.us_gallons()))
    } else if value.l() >= 1000.0 {
        format!("{} m³", fixed(value.l() / 1000.0, 1))
    } else {
        format!("{} L", grouped(value.l()))
    }
}

pub(crate) fn flow(units: UnitSystem, value: LitresPerMinute) -> String {
    if us(units) {
        format!("{} gpm", plain(value.us_gpm(), 1))
    } else {
        // A drip line gives less than a litre a minute.
        let digits = if value.l_per_min() < 10.0 { 1 } else { 0 };
        format!("{} L/min", plain(value.l_per_min(), digits))
    }
}

pub(crate) fn temperature(units: UnitSystem, value: Celsius) -> String {
    if us(units) { format!("{} °F", fixed(value.f(), 0)) } else { format!("{} °C", fixed(value.c(), 1)) }
}

/// Any quantity of an explanation.
pub(crate) fn quantity(units: UnitSystem, value: Quantity) -> String {
    match value {
        Quantity::Depth(v) => depth(units, v),
        Quantity::Rate(v) => rate(units, v),
        Quantity::WaterHolding(mm_per_m) => {
            // 1 mm/m is 0.012 in/ft.
            if us(units) {
                format!("{} in/ft", fixed(mm_per_m * 0.012, 2))
            } else {
                format!("{mm_per_m:.0} mm/m")
            }
        }
        Quantity::Length(v) => length(units, v),
        Quantity::Temperature(v) => temperature(units, v),
        Quantity::Radiation(v) => {
            if us(units) {
                format!("{} langleys", fixed(v.langleys(), 0))
            } else {
                format!("{} MJ/m²", fixed(v.mj_per_m2(), 1))
            }
        }
        Quantity::Wind(v) => {
            if us(units) {
                format!("{} mph", fixed(v.mph(), 1))
            } else {
                format!("{} m/s", fixed(v.m_per_s(), 1))
            }
        }
        Quantity::Pressure(v) => {
            if us(units) {
                format!("{} inHg", fixed(v.kpa() / KPA_PER_INHG, 3))
            } else {
                format!("{} kPa", fixed(v.kpa(), 2))
            }
        }
        Quantity::Time(v) => format!("{} min", fixed(v.min_value(), 1)),
        Quantity::Ratio(v) => plain(v, 3),
        Quantity::Percent(v) => format!("{} %", plain(v, 1)),
        Quantity::Count(v) => v.to_string(),
    }
}

/// "Tue 14 Jul".
pub(crate) fn short_date(date: Date) -> String {
    date.formatted("%a %-d %b")
}

/// "Tuesday 14 July 2026".
pub(crate) fn long_date(date: Date) -> String {
    date.formatted("%A %-d %B %Y")
}

/// A small number in words, as a sentence begins with it.
pub(crate) fn in_words(count: usize) -> String {
    const WORDS: [&str; 13] = [
        "no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven",
        "twelve",
    ];
    WORDS.get(count).map_or_else(|| count.to_string(), |w| (*w).to_owned())
}

/// The same with a capital.
pub(crate) fn in_words_capital(count: usize) -> String {
    capital(&in_words(count))
}

/// A text with its first letter as a capital.
pub(crate) fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().collect::<String>() + letters.as_str())
}

/// "01:12", or nothing.
pub(crate) fn clock(at: Option<&Zoned>) -> String {
    at.map_or(String::new(), |t| t.formatted("%H:%M"))
}

/// "11 min" or "2 × 11 min".
pub(crate) fn cycles(cycles: Cycles) -> String {
    if cycles.count == 1 {
        format!("{} min", cycles.minutes_each)
    } else {
        format!("{} × {} min", cycles.count, cycles.minutes_each)
    }
}

/// "65 %".
pub(crate) fn share(value: Share) -> String {
    format!("{} %", plain(value.percent(), 0))
}

/// "52 min" or "3 h 20 min".
pub(crate) fn span(minutes: f64) -> String {
    let whole = minutes.round();
    let (hours, rest) = ((whole / 60.0).floor(), whole % 60.0);
    if hours >= 1.0 && rest > 0.0 {
        format!("{} h {} min", plain(hours, 0), plain(rest, 0))
    } else if hours >= 1.0 {
        format!("{} h", plain(hours, 0))
    } else {
        format!("{} min", plain(whole, 0))
    }
}

/// So many of a thing: "one" is its word for one.
pub(crate) fn counted(n: impl TryInto<usize>, one: &str) -> String {
    let n = n.try_into().unwrap_or_default();
    let ending = match n {
        1 => "",
        _ if one.ends_with('x') => "es",
        _ => "s",
    };
    format!("{n} {one}{ending}")
}

/// A wait: hours as hours, from two days on as days.
pub(crate) fn wait(minutes: f64) -> String {
    let days = minutes / 1440.0;
    if days < 2.0 { span(minutes) } else { format!("{} days", plain(days, 0)) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_are_read_as_the_trade_writes_them() {
        use UnitSystem::{Metric, UsCustomary};
        assert_eq!(depth(Metric, Millimetres::from_mm(9.44)), "9.4 mm");
        assert_eq!(depth(UsCustomary, Millimetres::from_inches(0.5)), "0.50 in");
        assert_eq!(volume(Metric, Litres::from_l(14_200.0)), "14.2 m³");
        let litres = |l| flow(Metric, LitresPerMinute::from_l_per_min(l));
        assert_eq!(
            (litres(0.42), litres(9.96), litres(12.6)),
            ("0.4 L/min".into(), "10 L/min".into(), "13 L/min".into())
        );
        assert_eq!(flow(UsCustomary, LitresPerMinute::from_l_per_min(0.42)), "0.1 gpm");
        assert_eq!(length(Metric, Metres::from_m(1040.0)), "1\u{202f}040 m");
        assert_eq!(length(UsCustomary, Metres::from_inches(6.0)), "6 in");
        assert_eq!(temperature(UsCustomary, Celsius::from_c(0.0)), "32 °F");
        assert_eq!(
            (plain(-0.001, 2), plain(-10.0, 0), plain(10.50, 2)),
            ("0".into(), "-10".into(), "10.5".into())
        );
        assert_eq!(
            (share(Share::from_fraction(0.655)), share(Share::WHOLE)),
            ("66 %".into(), "100 %".into())
        );
    }

    #[test]
    fn what_rounds_to_nothing_has_no_sign() {
        use UnitSystem::{Metric, UsCustomary};
        assert_eq!(depth(Metric, Millimetres::from_mm(-0.04)), "0.0 mm");
        assert_eq!(depth(Metric, Millimetres::from_mm(-0.06)), "-0.1 mm");
        assert_eq!(depth(UsCustomary, Millimetres::from_mm(-0.0)), "0.00 in");
        assert_eq!(temperature(Metric, Celsius::from_c(-0.04)), "0.0 °C");
        assert_eq!(volume(Metric, Litres::from_l(-0.4)), "0 L");
        assert_eq!(span(0.4), "0 min");
        assert_eq!(span(90.0), "1 h 30 min");
        assert_eq!(
            (wait(90.0), wait(2879.0), wait(2880.0)),
            ("1 h 30 min".into(), "47 h 59 min".into(), "2 days".into())
        );
        assert_eq!(wait(954.0 * 60.0), "40 days");
        assert_eq!(
            (counted(1, "controller"), counted(2, "controller"), counted(0, "zone")),
            ("1 controller".into(), "2 controllers".into(), "0 zones".into())
        );
        assert_eq!(in_words_capital(3), "Three");
    }
}
