//! What a technician must know of a property beside its watering: whose it is, how one gets in, where its water comes
//! from. Nothing is computed from it.

use jiff::civil::Date;

/// Most contacts of a site.
pub const MOST_CONTACTS: usize = 10;
/// Most tags of a site.
pub const MOST_TAGS: usize = 20;
/// Longest line of a card, letters.
pub const LONGEST_LINE: usize = 120;
/// Longest notes of a card, letters.
pub const LONGEST_NOTES: usize = 2000;

/// The card of a site. Empty texts are not known.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SiteCard {
    /// Who is served.
    pub customer: String,
    /// People who are called.
    pub contacts: Vec<Contact>,
    /// Street and number.
    pub street: String,
    /// Town or quarter.
    pub locality: String,
    /// How one gets in: gate code, dog, key. Shown behind one press, in no list, and in no file unless asked for.
    pub access: String,
    /// Words that sites are found and grouped by.
    pub tags: Vec<String>,
    /// When the backflow preventer was last tested.
    pub backflow_tested: Option<Date>,
    /// The number of the backflow preventer.
    pub backflow_number: String,
    /// Who supplies the water.
    pub water_supplier: String,
    /// The number of the water meter.
    pub meter_number: String,
    /// Notes for the crew.
    pub notes: String,
}

/// Somebody who is called about a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Contact {
    /// Name, and what the person is there.
    pub name: String,
    /// Telephone number as it is dialled: digits, spaces, hyphens, dots, brackets, a leading plus.
    pub telephone: String,
}

impl Contact {
    /// The number as a telephone takes it: a leading plus and digits.
    #[must_use]
    pub fn dialled(&self) -> String {
        let plus = if self.telephone.trim_start().starts_with('+') { "+" } else { "" };
        format!("{plus}{}", self.telephone.chars().filter(char::is_ascii_digit).collect::<String>())
    }

    /// Whether a text can be dialled: at least three digits, and nothing but what telephone numbers are written with.
    #[must_use]
    pub fn can_be_dialled(text: &str) -> bool {
        text.chars().filter(char::is_ascii_digit).count() >= 3
            && text.chars().all(|c| c.is_ascii_digit() || " +-().x/".contains(c))
    }
}

/// Reads contacts as they are typed, one a line: name, then the number. Returns the lines that are not understood.
///
/// # Errors
/// The lines without a number that can be dialled.
pub fn read_contacts(text: &str) -> Result<Vec<Contact>, Vec<String>> {
    let (mut contacts, mut wrong) = (Vec::new(), Vec::new());
    for line in text.lines().map(str::trim).filter(|line| !line.is_empty()) {
        // The number is the last part that can be dialled: "Ines, caretaker, 555 0142" or "Ines 555-0142".
        let digit = |c: char| c.is_ascii_digit() || c == '+' || c == '(';
        let (name, number) = match line.rsplit_once(',') {
            Some((name, number)) if Contact::can_be_dialled(number.trim()) => (name, number),
            _ => line.find(digit).map_or((line, ""), |at| line.split_at(at)),
        };
        let (name, number) = (name.trim().trim_end_matches([',', ':']).trim(), number.trim());
        if Contact::can_be_dialled(number) {
            contacts.push(Contact { name: name.to_owned(), telephone: number.to_owned() });
        } else {
            wrong.push(line.to_owned());
        }
    }
    if wrong.is_empty() { Ok(contacts) } else { Err(wrong) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contacts_are_read_as_people_write_them() {
        let read = read_contacts("Ines, caretaker, 555 0142\n\nTomas 555-0143\n+1 (555) 010-0144").unwrap();
        let said: Vec<_> = read.iter().map(|c| (c.name.as_str(), c.dialled())).collect();
        assert_eq!(
            said,
            [("Ines, caretaker", "5550142".into()), ("Tomas", "5550143".into()), ("", "+15550100144".into())]
        );
        assert_eq!(read_contacts("Ines\nTomas, 12"), Err(vec!["Ines".to_owned(), "Tomas, 12".to_owned()]));
        assert_eq!(read_contacts("  \n"), Ok(Vec::new()));
    }
}
