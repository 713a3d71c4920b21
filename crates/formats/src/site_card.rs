//! The card of a site as JSON: in the site file, and as it is stored.

use crate::json::Checker;
use jiff::civil::Date;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use upland_core::site::card::{Contact, LONGEST_LINE, LONGEST_NOTES, MOST_CONTACTS, MOST_TAGS, SiteCard};

/// Customer, contacts, address and access of a site. What is left out is not known.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "SiteCard")]
pub struct SiteCardDto {
    #[serde(skip_serializing_if = "String::is_empty")]
    customer: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    contacts: Vec<ContactDto>,
    #[serde(skip_serializing_if = "String::is_empty")]
    street: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    locality: String,
    /// Gate code and the like; written only where it was asked for.
    #[serde(skip_serializing_if = "String::is_empty")]
    access: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    tags: Vec<String>,
    /// When the backflow preventer was last tested.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<String>")]
    backflow_tested: Option<Date>,
    #[serde(skip_serializing_if = "String::is_empty")]
    backflow_number: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    water_supplier: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    meter_number: String,
    /// Notes for the crew.
    #[serde(skip_serializing_if = "String::is_empty")]
    notes: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Contact")]
struct ContactDto {
    #[serde(default)]
    name: String,
    telephone: String,
}

impl From<&SiteCard> for SiteCardDto {
    fn from(card: &SiteCard) -> Self {
        let card = card.clone();
        let contact = |own: Contact| ContactDto { name: own.name, telephone: own.telephone };
        Self {
            customer: card.customer,
            contacts: card.contacts.into_iter().map(contact).collect(),
            street: card.street,
            locality: card.locality,
            access: card.access,
            tags: card.tags,
            backflow_tested: card.backflow_tested,
            backflow_number: card.backflow_number,
            water_supplier: card.water_supplier,
            meter_number: card.meter_number,
            notes: card.notes,
        }
    }
}

impl From<SiteCardDto> for SiteCard {
    fn from(card: SiteCardDto) -> Self {
        let contact = |own: ContactDto| Contact { name: own.name, telephone: own.telephone };
        Self {
            customer: card.customer,
            contacts: card.contacts.into_iter().map(contact).collect(),
            street: card.street,
            locality: card.locality,
            access: card.access,
            tags: card.tags,
            backflow_tested: card.backflow_tested,
            backflow_number: card.backflow_number,
            water_supplier: card.water_supplier,
            meter_number: card.meter_number,
            notes: card.notes,
        }
    }
}

/// The card as it is stored, access notes too.
#[must_use]
pub fn to_value(card: &SiteCard) -> serde_json::Value {
    serde_json::to_value(SiteCardDto::from(card)).unwrap_or_default()
}

/// The card as it was stored.
///
/// # Errors
/// When what is stored is no card.
pub fn from_value(value: serde_json::Value) -> Result<SiteCard, serde_json::Error> {
    serde_json::from_value::<SiteCardDto>(value).map(Into::into)
}

/// What is wrong with a card, by the name of its field.
#[must_use]
pub fn faults(card: &SiteCard) -> Vec<(&'static str, String)> {
    let mut faults = Vec::new();
    let lines = [
        ("customer", &card.customer),
        ("street", &card.street),
        ("locality", &card.locality),
        ("backflow_number", &card.backflow_number),
        ("water_supplier", &card.water_supplier),
        ("meter_number", &card.meter_number),
    ];
    let too_long = |text: &str, most: usize| text.chars().count() > most;
    for (name, text) in lines {
        if too_long(text, LONGEST_LINE) {
            faults.push((name, format!("has more than {LONGEST_LINE} letters")));
        }
    }
    for (name, text) in [("access", &card.access), ("notes", &card.notes)] {
        if too_long(text, LONGEST_NOTES) {
            faults.push((name, format!("has more than {LONGEST_NOTES} letters")));
        }
    }
    if card.contacts.len() > MOST_CONTACTS {
        faults.push(("contacts", format!("are more than {MOST_CONTACTS}")));
    }
    for own in &card.contacts {
        if too_long(&own.name, LONGEST_LINE) || !Contact::can_be_dialled(&own.telephone) {
            faults
                .push(("contacts", format!("\"{}\" cannot be dialled; write it as 555 0142", own.telephone)));
        }
    }
    if card.tags.len() > MOST_TAGS || card.tags.iter().any(|tag| tag.is_empty() || too_long(tag, 40)) {
        faults.push(("tags", format!("are at most {MOST_TAGS} words of at most 40 letters")));
    }
    faults
}

/// Reads the card of a site file.
pub(crate) fn take_card(take: &mut Checker, dto: Option<SiteCardDto>) -> SiteCard {
    let card: SiteCard = dto.map(Into::into).unwrap_or_default();
    for (name, fault) in faults(&card) {
        take.say(&format!("card.{name}"), fault);
    }
    card
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    fn card() -> SiteCard {
        SiteCard {
            customer: "Ines".into(),
            contacts: vec![Contact { name: "Ines".into(), telephone: "555 0142".into() }],
            access: "Gate 4711#".into(),
            tags: vec!["weekly".into()],
            backflow_tested: Some(date(2026, 5, 3)),
            ..SiteCard::default()
        }
    }

    #[test]
    fn a_card_survives_and_an_empty_one_is_an_empty_object() {
        assert_eq!(from_value(to_value(&card())).unwrap(), card());
        assert_eq!(to_value(&SiteCard::default()), serde_json::json!({}));
        assert!(from_value(serde_json::json!({ "gate": "4711" })).is_err());
    }

    #[test]
    fn what_is_wrong_with_a_card_is_said_by_its_path() {
        let wrong = SiteCard {
            contacts: vec![Contact { name: String::new(), telephone: "ask".into() }],
            tags: vec![String::new()],
            notes: "x".repeat(LONGEST_NOTES + 1),
            ..card()
        };
        let names: Vec<_> = faults(&wrong).into_iter().map(|(name, _)| name).collect();
        assert_eq!(names, ["notes", "contacts", "tags"]);
        assert!(faults(&card()).is_empty());
    }
}
