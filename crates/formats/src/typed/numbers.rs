//! Numbers: decimals with point or comma, groups of thousands, fractions.

use super::{Read, Reading, one_of, refused, trimmed};

const TAKES: &str = "a number; write 12, 12.5 or 1/2";

/// Signs for common fractions.
const SIGNS: [(char, f64); 9] = [
    ('½', 0.5),
    ('¼', 0.25),
    ('¾', 0.75),
    ('⅛', 0.125),
    ('⅜', 0.375),
    ('⅝', 0.625),
    ('⅞', 0.875),
    ('⅓', 1.0 / 3.0),
    ('⅔', 2.0 / 3.0),
];

/// A number: "12", "12.5", "12,5", ".5", "1/2", "3 1/2", "½", "1,250.5".
///
/// # Errors
/// What cannot be read, and "1,250", which is one and a quarter to some and a thousand to others.
pub fn number(text: &str) -> Read<f64> {
    let Some(typed) = trimmed(text) else { return refused(text, TAKES) };
    let (negative, bare) = match typed.strip_prefix(['-', '−', '\u{2013}']) {
        Some(rest) => (true, rest.trim_start()),
        None => (false, typed.strip_prefix('+').unwrap_or(&typed).trim_start()),
    };
    let sign = if negative { -1.0 } else { 1.0 };
    if let Some(value) = with_fraction(bare) {
        return Ok(sign * value);
    }
    let readings = decimals(bare);
    let found = readings.into_iter().map(|(value, text)| {
        let text = if negative { format!("-{text}") } else { text };
        (sign * value, Reading { means: text.clone(), text })
    });
    one_of(text, found.collect(), TAKES)
}

fn digits(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit())
}

/// "1/2", "3 1/2", "3-1/2", "½", "3½".
fn with_fraction(text: &str) -> Option<f64> {
    let mut letters = text.chars();
    if let Some((_, part)) = letters.next_back().and_then(|last| SIGNS.into_iter().find(|(s, _)| *s == last))
    {
        let whole = letters.as_str().trim();
        return if whole.is_empty() {
            Some(part)
        } else {
            digits(whole).then(|| whole.parse::<f64>().ok()).flatten().map(|w| w + part)
        };
    }
    let (above, below) = text.split_once(['/', '⁄'])?;
    let (above, below) = (above.trim(), below.trim());
    let (whole, above) = match above.rsplit_once([' ', '-']) {
        Some((whole, above)) => (whole.trim(), above),
        None => ("0", above),
    };
    let small = |text: &str| (digits(text) && text.len() <= 4).then(|| text.parse::<f64>().ok()).flatten();
    let (whole, above, below) = (small(whole)?, small(above)?, small(below)?);
    (below > 0.0).then(|| whole + above / below)
}

/// Groups of three digits after one to three.
fn grouped(text: &str, by: char) -> Option<String> {
    let mut parts = text.split(by);
    let first = parts.next()?;
    let rest: Vec<&str> = parts.collect();
    let right = digits(first)
        && first.len() <= 3
        && !first.starts_with('0')
        && !rest.is_empty()
        && rest.iter().all(|p| p.len() == 3 && digits(p));
    right.then(|| format!("{first}{}", rest.concat()))
}

/// Every way in which a text is a decimal number, with a text for each that has no other.
fn decimals(text: &str) -> Vec<(f64, String)> {
    // Groups as the almanac prints them.
    let text: String = text.chars().filter(|c| !matches!(c, '\u{202f}' | '\u{a0}')).collect();
    let plain = |whole: &str, part: Option<&str>| -> Option<(f64, String)> {
        let right = match part {
            None => digits(whole),
            Some(part) => (whole.is_empty() || digits(whole)) && digits(part),
        };
        let whole = if whole.is_empty() { "0" } else { whole };
        let text = part.map_or_else(|| whole.to_owned(), |part| format!("{whole}.{part}"));
        right.then(|| text.parse::<f64>().ok()).flatten().filter(|v| v.is_finite()).map(|v| (v, text))
    };
    let mut found = Vec::new();
    match (text.rfind('.'), text.rfind(',')) {
        (None, None) => found.extend(plain(&text, None)),
        (Some(at), None) if text.matches('.').count() == 1 => {
            let (whole, part) = text.split_at(at);
            found.extend(plain(whole, part.get(1..)));
        }
        (None, Some(at)) => {
            if text.matches(',').count() == 1 {
                let (whole, part) = text.split_at(at);
                found.extend(plain(whole, part.get(1..)));
            }
            found.extend(grouped(&text, ',').and_then(|all| plain(&all, None)));
        }
        (Some(point), Some(comma)) => {
            let (by, at) = if point > comma { (',', point) } else { ('.', comma) };
            let (whole, part) = text.split_at(at);
            found.extend(grouped(whole, by).and_then(|all| plain(&all, part.get(1..))));
        }
        _ => found.extend(grouped(&text, '.').and_then(|all| plain(&all, None))),
    }
    found
}
