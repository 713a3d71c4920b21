//! What a new site still lacks, as steps in the order of the work, each with what it is worth.

use crate::server::address;
use crate::site::records::SiteRecords;

/// A step of setting a site up.
pub(crate) struct SetupStep {
    pub name: &'static str,
    /// What is not known without it.
    pub worth: String,
    pub action: &'static str,
    pub href: String,
    pub done: bool,
    /// The first that is not done.
    pub next: bool,
}

// Long: a list of steps.
/// The steps of a site; none once zones, weather and the settings of a controller are there.
pub(crate) fn steps(records: &SiteRecords) -> Vec<SetupStep> {
    let site = records.site.id.number();
    let root = address::site_root(site);
    let zones = records.zones.len();
    let rated = records.zones.iter().filter(|z| z.zone.precipitation_rate.is_some()).count();
    let controller = records.controllers.first();
    let (weather, settings) =
        (records.last_recorded().is_some(), records.controllers.iter().any(|own| own.settings.is_some()));
    if zones > 0 && weather && settings {
        return Vec::new();
    }
    let step = |name, worth: &str, action, href: String, done| SetupStep {
        name,
        worth: worth.to_owned(),
        action,
        href,
        done,
        next: false,
    };
    let mut steps = vec![
        step(
            "Place, units and clock",
            "Sun, frost weeks and time of day follow from them.",
            "Check the site",
            format!("{root}/edit"),
            true,
        ),
        step(
            "Zones",
            "Plants, soil, sun and heads say what each zone requires. A name, plants, soil and heads are enough to begin with.",
            if zones == 0 { "Add zones" } else { "Add more zones" },
            format!("{root}/zones/many"),
            zones > 0,
        ),
        step(
            "Weather",
            "Without a record the usual ET of the latitude and no rain are used, so every deficit is an estimate.",
            "Add weather",
            address::weather(site),
            weather,
        ),
        step(
            "Controller as found",
            "Without its settings tonight's runs are not known, and nothing can be compared with what zones require.",
            if controller.is_none() { "Add the controller" } else { "Enter what it is set to" },
            controller.map_or(format!("{root}/controllers/new"), |own| {
                address::site_controller(site, own.number())
            }),
            settings,
        ),
        step(
            "Sensors",
            "Without a rain sensor the controller waters after rain; without a freeze sensor in frost.",
            "Add a sensor",
            address::sensors(site),
            !records.sensors.is_empty(),
        ),
        step(
            "Catch-can tests",
            "Without them run times rest on the usual rate of the heads.",
            "Measure a zone",
            address::zones(site),
            zones > 0 && rated == zones,
        ),
        step(
            "Plan and controller sheet",
            "A plan fits all zones into the water window; the sheet stays in the controller's door.",
            "Plan the programs",
            controller.map_or(address::programs(site), |own| {
                format!("{}/plan", address::site_controller(site, own.number()))
            }),
            false,
        ),
    ];
    if let Some(next) = steps.iter_mut().find(|step| !step.done) {
        next.next = true;
    }
    steps
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::site::UnitSystem;

    #[test]
    fn a_new_site_is_told_the_next_step_and_a_working_one_nothing() {
        let whole = fixture::controller_snapshot();
        assert!(steps(&whole.records).is_empty(), "zones, weather and settings are there");
        let mut records = std::sync::Arc::into_inner(fixture::decided(UnitSystem::Metric).records).unwrap();
        let told = steps(&records);
        let next: Vec<&str> = told.iter().filter(|s| s.next).map(|s| s.name).collect();
        assert_eq!(next, ["Controller as found"], "nobody entered what it is set to");
        records.zones.clear();
        let told = steps(&records);
        assert_eq!(told.iter().find(|s| s.next).unwrap().name, "Zones", "the first that lacks comes first");
        assert!(told.iter().all(|s| s.href.starts_with("/sites/") && !s.worth.is_empty()));
    }
}
