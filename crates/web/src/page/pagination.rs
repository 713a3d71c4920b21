//! A long list in pages.

use crate::server::error::PageError;

/// Lines of a page.
pub(crate) const LINES: i64 = 100;

/// Which page of a list is shown, and where the others are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Pages {
    pub previous: Option<String>,
    pub next: Option<String>,
    /// "101 to 200 of 420".
    pub words: String,
    /// Where the page begins in the list.
    pub from: i64,
}

/// The page that an address asks for, from one on.
pub(crate) fn asked_page(text: Option<&str>) -> Result<i64, PageError> {
    let Some(text) = text.filter(|text| !text.is_empty()) else { return Ok(1) };
    let number = text.parse().ok().filter(|number| (1..=1_000_000).contains(number));
    number.ok_or_else(|| PageError::BadRequest("A page has a number, from 1 on.".to_owned()))
}

impl Pages {
    /// A page of a list of so many lines; one beyond its end is the last.
    pub fn of(total: i64, asked: i64, href: impl Fn(i64) -> String) -> Self {
        let last = ((total + LINES - 1) / LINES).max(1);
        let number = asked.clamp(1, last);
        let from = (number - 1) * LINES;
        Self {
            previous: (number > 1).then(|| href(number - 1)),
            next: (number < last).then(|| href(number + 1)),
            words: format!("{} to {} of {total}", (from + 1).min(total), (from + LINES).min(total)),
            from,
        }
    }

    /// Whether there is more than one page.
    pub fn several(&self) -> bool {
        self.previous.is_some() || self.next.is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_ends_where_it_ends() {
        let page = |total, asked| Pages::of(total, asked, |n| format!("?page={n}"));
        assert!(!page(0, 1).several() && !page(100, 1).several());
        assert_eq!(page(0, 1).words, "0 to 0 of 0");
        let last = page(101, 9);
        assert_eq!((last.words.as_str(), last.next, last.from), ("101 to 101 of 101", None, 100));
        let middle = page(250, 2);
        assert_eq!(middle.previous.as_deref(), Some("?page=1"));
        assert_eq!((middle.next.as_deref(), middle.words.as_str()), (Some("?page=3"), "101 to 200 of 250"));
        assert!(asked_page(Some("0")).is_err() && asked_page(Some("two")).is_err());
        assert_eq!((asked_page(None).ok(), asked_page(Some("7")).ok()), (Some(1), Some(7)));
    }
}
