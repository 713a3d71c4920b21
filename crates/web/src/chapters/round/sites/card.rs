//! The card of a site: its fields in the survey, and the page that a technician opens at the gate.

use crate::page::dates::{DateFormat, typed_date};
use crate::page::forms::{Field, FieldGroup, Reader};
use crate::page::frame::{Chapter, Frame};
use crate::server::error::{PageError, page};
use crate::site::context::AtSite;
use actix_web::{HttpResponse, get};
use askama::Template;
use jiff::civil::Date;
use upland_core::site::card::{Contact, SiteCard, read_contacts};
use upland_formats::site_card::faults;

pub(super) fn texts(card: &SiteCard) -> Vec<(&'static str, String)> {
    let contact = |own: &Contact| match own.name.as_str() {
        "" => own.telephone.clone(),
        name => format!("{name}, {}", own.telephone),
    };
    vec![
        ("customer", card.customer.clone()),
        ("contacts", card.contacts.iter().map(contact).collect::<Vec<_>>().join("\n")),
        ("street", card.street.clone()),
        ("locality", card.locality.clone()),
        ("access", card.access.clone()),
        ("tags", card.tags.join(", ")),
        ("backflow_tested", card.backflow_tested.map_or(String::new(), typed_date)),
        ("backflow_number", card.backflow_number.clone()),
        ("water_supplier", card.water_supplier.clone()),
        ("meter_number", card.meter_number.clone()),
        ("notes", card.notes.clone()),
    ]
}

pub(super) fn customer() -> FieldGroup {
    FieldGroup {
        folded: false,
        legend: "Customer",
        fields: vec![
            Field::text("customer", "Customer"),
            Field::lines("contacts", "Contacts")
                .help("One a line: name, then telephone, such as Ines, 555 0142."),
            Field::text("street", "Street and number"),
            Field::text("locality", "Town or quarter"),
            Field::text("tags", "Tags").help("Words to find and group sites by, with commas between."),
            Field::lines("notes", "Notes for the crew"),
        ],
    }
}

pub(super) fn access() -> FieldGroup {
    FieldGroup::folded(
        "Access and water supply: gate code, backflow preventer, meter",
        vec![
            Field::lines("access", "Access")
                .help("Gate code, key, dog. Shown behind one press; in no list, file or printed sheet."),
            Field::date("backflow_tested", "Backflow preventer tested on"),
            Field::text("backflow_number", "Number of the backflow preventer"),
            Field::text("water_supplier", "Water supplier"),
            Field::text("meter_number", "Number of the water meter"),
        ],
    )
}

/// Reads the fields of the card; what is wrong is said at its field.
pub(super) fn read(reader: &mut Reader<'_>, today: Date) -> SiteCard {
    let text = |reader: &Reader<'_>, name: &str| reader.typed(name).replace('\r', "").trim().to_owned();
    let contacts = read_contacts(&text(reader, "contacts")).unwrap_or_else(|wrong| {
        let wrong = wrong.join("\", \"");
        reader
            .say("contacts", format!("\"{wrong}\" has no number to dial. Write a line as: Ines, 555 0142."));
        Vec::new()
    });
    let tags = text(reader, "tags");
    let card = SiteCard {
        customer: text(reader, "customer"),
        contacts,
        street: text(reader, "street"),
        locality: text(reader, "locality"),
        access: text(reader, "access"),
        tags: tags.split(',').map(|tag| tag.trim().to_owned()).filter(|tag| !tag.is_empty()).collect(),
        backflow_tested: reader.optional_date("backflow_tested", today),
        backflow_number: text(reader, "backflow_number"),
        water_supplier: text(reader, "water_supplier"),
        meter_number: text(reader, "meter_number"),
        notes: text(reader, "notes"),
    };
    for (name, fault) in faults(&card) {
        reader.say(name, format!("This {fault}."));
    }
    card
}

#[derive(Template)]
#[template(path = "chapters/round/sites/card.html")]
struct CardPage {
    frame: Frame,
    site_id: i64,
    name: String,
    card: SiteCard,
    /// When the backflow preventer was tested, in the reader's dates.
    tested: String,
    /// For the telephone's own map and navigation.
    geo: String,
    controllers: Vec<(u8, String)>,
    /// The photographs of the site: gate, shut-off valve, meter.
    photos: String,
}

#[get("/sites/{id}/card")]
pub(super) async fn card_page(here: AtSite) -> Result<HttpResponse, PageError> {
    let site = &here.records.site.site;
    page(&CardPage {
        frame: Frame::of_site(&here, format!("{}: customer and access", site.name), Chapter::Site)?,
        site_id: here.id(),
        name: site.name.clone(),
        tested: site.card.backflow_tested.map_or(String::new(), |on| on.formatted("%-d %b %Y")),
        geo: format!("geo:{:.5},{:.5}", site.latitude_deg, site.longitude_deg),
        controllers: here.records.controller_names(),
        photos: crate::page::photographs::photographs(&here, upland_store::photos::PhotoOf::Site).await?,
        card: site.card.clone(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::server::session::Fields;
    use jiff::civil::date;

    const DAY: Date = date(2026, 7, 14);

    fn typed(pairs: &[(&str, &str)]) -> (SiteCard, Vec<&'static str>) {
        let fields = Fields(pairs.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect());
        let mut reader = Reader::new(&fields);
        let card = read(&mut reader, DAY);
        (card, reader.errors.into_iter().map(|(name, _)| name).collect())
    }

    #[test]
    fn a_card_survives_its_form() {
        let (card, wrong) = typed(&[
            ("customer", "Ines and Tomas"),
            ("contacts", "Ines, 555 0142\r\n+1 555 010 0143"),
            ("tags", "weekly, , turf "),
            ("backflow_tested", "3 May 2026"),
            ("access", "Gate 4711#\nThe dog is old."),
        ]);
        assert_eq!(wrong, [""; 0]);
        assert_eq!((card.contacts.len(), card.tags.len()), (2, 2));
        assert_eq!(card.backflow_tested, Some(date(2026, 5, 3)));
        let again: Vec<(&str, String)> = texts(&card);
        let again: Vec<(&str, &str)> = again.iter().map(|(k, v)| (*k, v.as_str())).collect();
        assert_eq!(typed(&again).0, card);
        assert_eq!(typed(&[]), (SiteCard::default(), vec![]));
    }

    #[test]
    fn what_cannot_be_dialled_or_is_too_long_is_said_at_its_field() {
        let long = "x".repeat(121);
        let (_, wrong) = typed(&[("contacts", "Ines"), ("street", &long), ("backflow_tested", "31 April")]);
        assert_eq!(wrong, ["contacts", "backflow_tested", "street"]);
    }
}
