use super::description::{DESCRIPTION, method_of};
use super::{account, night, sites};
use crate::fixture;
use jiff::civil::date;
use upland_core::account::site_account::EvidencePolicy;
use upland_core::codes::Coded;
use upland_core::quantity::units::Millimetres;
use upland_core::sensors::Channel;
use upland_core::site::UnitSystem;
use upland_store::api_tokens::ReadScope;
use upland_store::rounds::{SiteRow, SiteStanding, ZoneMark};

#[test]
fn the_description_names_every_channel_answer_and_scope() {
    let text = DESCRIPTION.to_string();
    for (_, code) in Channel::TABLE {
        assert!(text.contains(code), "{code}");
    }
    for scope in ReadScope::ALL {
        assert!(text.contains(&format!("[\"{}\"]", scope.code())), "{}", scope.code());
    }
    let readings = &DESCRIPTION["paths"]["/api/v1/readings"]["post"]["responses"];
    for status in ["200", "400", "401", "403", "413", "415", "422", "429", "503"] {
        assert!(readings[status].is_object(), "{status}");
    }
    // Every reference leads to a schema.
    for name in text.split("#/components/schemas/").skip(1) {
        let name = name.split('"').next().unwrap();
        assert!(DESCRIPTION["components"]["schemas"][name].is_object(), "{name}");
    }
}

#[test]
fn an_address_is_known_by_its_shape() {
    assert_eq!(method_of("/api/v1/readings"), Some("POST"));
    assert_eq!(method_of("/api/v1/sites/12/night"), Some("GET"));
    assert_eq!(method_of("/api/v1/openapi.json"), Some("GET"));
    for unknown in ["/api/v1/sites/12/nights", "/api/v2/sites", "/api/v1/sites/12/night/"] {
        assert_eq!(method_of(unknown), None, "{unknown}");
    }
}

#[test]
fn a_site_without_a_round_or_a_percentage_says_null_and_not_a_number() {
    let row = SiteRow {
        id: fixture::key(3),
        name: "Larkrigg".into(),
        customer: String::new(),
        locality: String::new(),
        tags: vec![],
        units: UnitSystem::Metric,
        assigned: Some((2, "Bram".into())),
        at: None,
        standing: SiteStanding {
            zones: vec![ZoneMark::Dry, ZoneMark::Wet],
            rain: vec![Millimetres::from_mm(f64::NAN), Millimetres::from_mm(2.5)],
            ..SiteStanding::default()
        },
        notices: [1, 2, 3],
        off: -1,
        controllers: 1,
    };
    let told = |row: SiteRow| serde_json::to_value(sites::line(row)).unwrap();
    assert!(told(row.clone()).get("round").is_none());
    let worked_out = SiteRow { at: Some("2026-07-14T20:00:00Z".parse().unwrap()), ..row };
    let round = &told(worked_out)["round"];
    assert_eq!(round["rain_mm"].to_string(), "[null,2.5]");
    assert_eq!(round["percentage_off"], serde_json::Value::Null);
    assert_eq!(
        (round["zones"].to_string(), round["notices"]["tasks"].to_string()),
        ("[\"dry\",\"wet\"]".into(), "3".into())
    );
}

#[test]
fn the_account_of_a_span_is_the_account_of_the_site() {
    let site = fixture::at_work(&fixture::told(UnitSystem::Metric), false);
    let today = site.today();
    let own = site.account();
    let told = account::of_days(&site, date(today.year(), today.month(), 1), today, EvidencePolicy::Best);
    for (zone, known) in told.zones.iter().zip(&own.zones) {
        let last = known.days.last().unwrap();
        let said = zone.days.last().unwrap();
        assert_eq!((said.date, zone.station), (last.date, known.station));
        assert!((said.depletion_mm - last.water.depletion.mm()).abs() < 0.001);
    }
    // As advised, the soil is kept fuller than a controller without settings keeps it.
    let advised = account::of_days(&site, today, today, EvidencePolicy::AsAdvised);
    assert!(advised.zones.iter().all(|zone| zone.days.len() == 1));
    let night = night::of_site(&site);
    assert_eq!(night.date, today);
    let (zones, decided) = (&night.controllers[0].zones, site.night(1));
    assert_eq!(zones.len(), decided.zones.len());
}
