//! Answers that a browser keeps as a file.

/// A header that makes a browser keep the body as a file. The name keeps letters, digits and dashes.
pub(crate) fn attachment(name: &str, ending: &str) -> (&'static str, String) {
    let safe: String =
        name.to_lowercase().chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    ("content-disposition", format!("attachment; filename=\"{safe}.{ending}\""))
}
