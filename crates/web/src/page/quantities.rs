//! Numbers as a reader sees them: rounded, with their unit, metric or US customary.

use jiff::Zoned;
use jiff::civil::Date;
use upland_core::explain::Quantity;
use upland_core::ground::application::Cycles;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{
    Celsius, Litres, LitresPerMinute, Metres, Millimetres, MillimetresPerHour, SquareMetres,
};
use upland_core::site::UnitSystem;

/// A number with up to `digits` decimals and no trailing zeros.
pub(crate) fn plain(value: f64, digits: usize) -> String {
    let text = format!("{value:.digits$}");
    let text = if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
    if text == "-0" { "0".to_owned() } else { text.to_owned() }
}

/// A number with thin groups of thousands.
fn grouped(value: f64) -> String {
    let digits = format!("{value:.0}");
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
    if us(units) { format!("{:.2} in", value.inches()) } else { format!("{:.1} mm", value.mm()) }
}

pub(crate) fn rate(units: UnitSystem, value: MillimetresPerHour) -> String {
    if us(units) {
        format!("{:.2} in/h", value.inches_per_hour())
    } else {
        format!("{:.1} mm/h", value.mm_per_hour())
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
        format!("{:.1} m³", value.l() / 1000.0)
    } else {
        format!("{} L", grouped(value.l()))
    }
}

pub(crate) fn flow(units: UnitSystem, value: LitresPerMinute) -> String {
    if us(units) {
        format!("{} gpm", plain(value.us_gpm(), 1))
    } else {
        format!("{} L/min", plain(value.l_per_min(), 0))
    }
}

pub(crate) fn temperature(units: UnitSystem, value: Celsius) -> String {
    if us(units) { format!("{:.0} °F", value.f()) } else { format!("{:.1} °C", value.c()) }
}

/// Any quantity of an explanation.
pub(crate) fn quantity(units: UnitSystem, value: Quantity) -> String {
    match value {
        Quantity::Depth(v) => depth(units, v),
        Quantity::Rate(v) => rate(units, v),
        Quantity::WaterHolding(mm_per_m) => {
            // 1 mm/m is 0.012 in/ft.
            if us(units) { format!("{:.2} in/ft", mm_per_m * 0.012) } else { format!("{mm_per_m:.0} mm/m") }
        }
        Quantity::Length(v) => length(units, v),
        Quantity::Temperature(v) => temperature(units, v),
        Quantity::Radiation(v) => {
            if us(units) {
                format!("{:.0} langleys", v.langleys())
            } else {
                format!("{:.1} MJ/m²", v.mj_per_m2())
            }
        }
        Quantity::Wind(v) => {
            if us(units) {
                format!("{:.1} mph", v.mph())
            } else {
                format!("{:.1} m/s", v.m_per_s())
            }
        }
        Quantity::Pressure(v) => format!("{:.2} kPa", v.kpa()),
        Quantity::Time(v) => format!("{:.1} min", v.min_value()),
        Quantity::Ratio(v) => plain(v, 3),
        Quantity::Percent(v) => format!("{} %", plain(v, 1)),
        Quantity::Count(v) => v.to_string(),
    }
}

/// "Tue 14 Jul".
pub(crate) fn short_date(date: Date) -> String {
    date.strftime("%a %-d %b").to_string()
}

/// "Tuesday 14 July 2026".
pub(crate) fn long_date(date: Date) -> String {
    date.strftime("%A %-d %B %Y").to_string()
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
    at.map_or(String::new(), |t| t.strftime("%H:%M").to_string())
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_are_read_as_the_trade_writes_them() {
        use UnitSystem::{Metric, UsCustomary};
        assert_eq!(depth(Metric, Millimetres::from_mm(9.44)), "9.4 mm");
        assert_eq!(depth(UsCustomary, Millimetres::from_inches(0.5)), "0.50 in");
        assert_eq!(volume(Metric, Litres::from_l(14_200.0)), "14.2 m³");
        assert_eq!(length(Metric, Metres::from_m(1040.0)), "1\u{202f}040 m");
        assert_eq!(length(UsCustomary, Metres::from_inches(6.0)), "6 in");
        assert_eq!(temperature(UsCustomary, Celsius::from_c(0.0)), "32 °F");
        assert_eq!(plain(-0.001, 2), "0");
        assert_eq!(in_words_capital(3), "Three");
    }
}
