//! A controller card as a form: every limit in trade units.

use crate::page::forms::{Field, FieldError, FieldGroup, Form};
use crate::page::quantities::plain;
use crate::server::session::Fields;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::controller::{
    AskedInput, Card, Choice, Computing, DayModes, Input, Overlap, PercentageScope, PercentageTarget,
    Rounding, SensorPort,
};
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::time::Seconds;
use upland_formats::typed;

fn scope(value: PercentageScope) -> &'static str {
    match value {
        PercentageScope::Controller => "one for the whole controller",
        PercentageScope::Program => "one for each program",
        PercentageScope::Month => "one for each month",
    }
}

fn target(value: PercentageTarget) -> &'static str {
    match value {
        PercentageTarget::Total => "to the whole run time",
        PercentageTarget::Cycle => "to each cycle",
    }
}

fn rounding(value: Rounding) -> &'static str {
    match value {
        Rounding::Nearest => "to the nearest",
        Rounding::Down => "down",
        Rounding::Up => "up",
    }
}

fn overlap(value: Overlap) -> &'static str {
    match value {
        Overlap::Queue => "wait for each other",
        Overlap::Concurrent => "run together",
    }
}

fn yes(value: bool) -> String {
    if value { "yes" } else { "no" }.to_owned()
}

/// Names of the fields that count ports, by kind.
const PORTS: [(SensorPort, &str, &str); 5] = [
    (SensorPort::HoldSwitch, "ports_hold", "Ports for a switch that prevents watering"),
    (SensorPort::SoilProbe, "ports_soil", "Ports for a soil probe"),
    (SensorPort::FlowMeter, "ports_flow", "Ports for a flow meter"),
    (SensorPort::Weather, "ports_weather", "Ports for a weather or ET sensor"),
    (SensorPort::TwoWire, "ports_two_wire", "Sensors on the two-wire path"),
];

/// The texts of a card's fields.
pub(crate) fn texts(card: &Card) -> BTreeMap<String, String> {
    let mut texts: BTreeMap<String, String> = [
        ("name", card.name.clone()),
        ("stations", card.stations.to_string()),
        ("programs", card.programs.to_string()),
        ("starts_per_program", card.starts_per_program.to_string()),
        ("start_step_min", card.start_step_min.to_string()),
        ("run_step_s", card.run_step.s().to_string()),
        ("longest_run_s", (card.longest_run.s() / 60).to_string()),
        ("weekdays", yes(card.day_modes.weekdays)),
        ("parity", yes(card.day_modes.parity)),
        ("longest_interval", card.day_modes.longest_interval.to_string()),
        ("never_days", yes(card.day_modes.never_days)),
        ("percentage_min", card.percentage_min.percent().to_string()),
        ("percentage_max", card.percentage_max.percent().to_string()),
        ("percentage_step", card.percentage_step.percent().to_string()),
        ("percentage_scope", card.percentage_scope.code().to_owned()),
        ("percentage_target", card.percentage_target.code().to_owned()),
        ("rounding", card.rounding.code().to_owned()),
        ("rounding_step_s", card.rounding_step.s().to_string()),
        ("cycle_and_soak", yes(card.cycle_and_soak)),
        ("overlap", card.overlap.code().to_owned()),
        ("longest_delay_s", card.longest_delay.s().to_string()),
        ("longest_overlap_s", card.longest_overlap.s().to_string()),
        ("longest_rain_delay_days", card.longest_rain_delay_days.to_string()),
        ("omit_hours", yes(card.omit_hours)),
        ("loops", yes(card.loops)),
        ("lighting", yes(card.lighting)),
        ("sensor_override", yes(card.sensor_override)),
        ("master_valve", yes(card.master_valve)),
        ("pump_start", yes(card.pump_start)),
        ("daily_run_times", yes(card.daily_run_times)),
        ("computing", card.computing.as_ref().map_or(String::new(), computing_lines)),
        ("transformer_ma", card.transformer_ma.map_or(String::new(), |ma| ma.to_string())),
        ("longest_master_lead_s", card.longest_master_lead.s().to_string()),
        ("decoder_inputs", card.decoder_inputs.to_string()),
        ("backup_battery_months", card.backup_battery_months.to_string()),
    ]
    .into_iter()
    .map(|(k, v)| (k.to_owned(), v))
    .collect();
    for (kind, name, _) in PORTS {
        let count = card.sensor_ports.iter().filter(|p| **p == kind).count();
        texts.insert(name.to_owned(), count.to_string());
    }
    texts
}

/// The groups of fields of a card.
// Long: a list of fields.
pub(crate) fn groups() -> Vec<FieldGroup> {
    let number = |name, label, unit| Field::number(name, label, unit);
    vec![
        FieldGroup {
            folded: false,
            legend: "What it can be set to",
            fields: vec![
                Field::text("name", "Name of the controller type").help("What kind of controller it is, not where it is installed."),
                number("stations", "Stations", ""),
                number("programs", "Programs", ""),
                number("starts_per_program", "Starts per program", ""),
                number("start_step_min", "Starts are set in steps of", "min"),
                number("run_step_s", "Run times are set in steps of", "s"),
                number("longest_run_s", "Longest run time", "min"),
                Field::yes_no("cycle_and_soak", "Cycle and soak built in")
                    .help("Otherwise cycles are made from several starts."),
                Field::choice::<Overlap>("overlap", "Overlapping programs", overlap),
                Field::yes_no("daily_run_times", "Takes new run times every day")
                    .help("Those it is set to are then its fallback."),
                Field::lines("computing", "What it asks of each zone")
                    .help("For a controller that works out its own minutes: a line each, such as rate: spray 40, rotor 15. Rate in mm/h; plants, sun and maturity as factors; soil in mm a metre; slope, refill and trim in percent. Without choices a number is programmed. The line efficiency: 75 says how even it takes the heads to be."),
            ],
        },
        FieldGroup {
            folded: false,
            legend: "Days and hours",
            fields: vec![
                Field::yes_no("weekdays", "Days of the week"),
                Field::yes_no("parity", "Odd and even dates"),
                number("longest_interval", "Longest interval", "days")
                    .help("Every n-th day; 0 when it has none."),
                Field::yes_no("never_days", "Days on which nothing ever runs"),
                Field::yes_no("omit_hours", "Omit times"),
                number("longest_rain_delay_days", "Longest rain delay", "days"),
            ],
        },
        FieldGroup {
            folded: false,
            legend: "Percentage",
            fields: vec![
                Field::choice::<PercentageScope>("percentage_scope", "There is", scope),
                number("percentage_min", "Lowest", "%"),
                number("percentage_max", "Highest", "%"),
                number("percentage_step", "In steps of", "%"),
                Field::choice::<PercentageTarget>("percentage_target", "It applies", target),
                Field::choice::<Rounding>("rounding", "The result is rounded", rounding),
                number("rounding_step_s", "To steps of", "s"),
            ],
        },
        FieldGroup {
            folded: false,
            legend: "Stations and sensors",
            fields: vec![
                number("longest_delay_s", "Longest station delay", "s"),
                number("longest_overlap_s", "Longest overlap of stations", "s"),
                Field::yes_no("master_valve", "Master valve by station"),
                number("longest_master_lead_s", "Longest lead and lag of the master valve", "s"),
                number("transformer_ma", "Its transformer gives", "mA").help("Written on it; empty where it is not known."),
                Field::yes_no("pump_start", "Pump start by station"),
                Field::yes_no("lighting", "Lighting stations"),
                Field::yes_no("loops", "Programs that repeat until an end time"),
                Field::yes_no("sensor_override", "Stations can ignore the sensors"),
                number("ports_hold", PORTS[0].2, ""),
                number("ports_soil", PORTS[1].2, ""),
                number("ports_flow", PORTS[2].2, ""),
                number("ports_weather", PORTS[3].2, ""),
                number("ports_two_wire", PORTS[4].2, ""),
                number("decoder_inputs", "Inputs of a sensor decoder", "")
                    .help("Under its one address; one of them takes a meter."),
                number("backup_battery_months", "Backup battery changed every", "months")
                    .help("0 when it has none. It keeps clock and programs through a power cut."),
            ],
        },
    ]
}

/// The form of a card by itself.
pub(crate) fn form(texts: &BTreeMap<String, String>, errors: &[FieldError]) -> Form {
    Form { groups: groups() }.filled(texts, errors)
}

struct FormReader<'a> {
    fields: &'a Fields,
    errors: Vec<FieldError>,
}

impl FormReader<'_> {
    fn number<T: TryFrom<u32> + Default>(&mut self, name: &'static str) -> T {
        self.whole(name, "")
    }

    /// A whole number of a unit.
    fn whole<T: TryFrom<u32> + Default>(&mut self, name: &'static str, unit: &str) -> T {
        let read = typed::quantity(self.fields.get(name).trim_end_matches('%'), unit).ok();
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "checked by the filter")]
        let read = read
            .filter(|v| (0.0..=1e6).contains(v) && (v - v.round()).abs() < 1e-6)
            .map(|v| v.round() as u32);
        read.and_then(|v| T::try_from(v).ok()).unwrap_or_else(|| {
            self.errors.push((name, "A whole number, please; the usual ones are well below 10 000.".into()));
            T::default()
        })
    }

    /// A length in seconds; "2 min" is 120.
    fn seconds(&mut self, name: &'static str) -> Seconds {
        self.whole::<u32>(name, "s").into()
    }

    fn choice<T: Coded>(&mut self, name: &'static str) -> Option<T> {
        let found = T::from_code(self.fields.get(name));
        if found.is_none() {
            self.errors.push((name, "Choose one from the list.".into()));
        }
        found
    }

    fn yes(&mut self, name: &'static str) -> bool {
        match self.fields.get(name) {
            "yes" => true,
            "no" => false,
            _ => {
                self.errors.push((name, "Choose yes or no.".into()));
                false
            }
        }
    }
}

/// What a controller asks, as lines.
fn computing_lines(computing: &Computing) -> String {
    let line = |asked: &AskedInput| {
        let choices = asked.choices.iter().map(|c| format!("{} {}", c.name, plain(c.value, 4)));
        format!("{}: {}", asked.input.code(), choices.collect::<Vec<_>>().join(", ")).trim_end().to_owned()
    };
    let lines = computing.asks.iter().map(line);
    lines
        .chain([format!("efficiency: {}", plain(computing.efficiency.percent(), 2))])
        .collect::<Vec<_>>()
        .join("\n")
}

/// What a controller asks, from lines; nothing where there are none.
fn computing(text: &str) -> Result<Option<Computing>, String> {
    let mut computing = Computing { asks: Vec::new(), efficiency: Share::from_fraction(0.75) };
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
    let mut any = false;
    for (i, line) in lines.enumerate() {
        any = true;
        let (name, rest) = line.split_once(':').unwrap_or((line, ""));
        let fault = |what: &str| format!("Line {}: \"{line}\" {what}", i + 1);
        if name.trim() == "efficiency" {
            let share = typed::quantity(rest, "%").map_err(|refusal| fault(&refusal.to_string()))?;
            computing.efficiency = Share::from_percent(share);
            continue;
        }
        let known: Vec<&str> = Input::TABLE.iter().map(|(_, code)| *code).collect();
        let input = Input::from_code(name.trim())
            .ok_or_else(|| fault(&format!("does not begin with one of {}.", known.join(", "))))?;
        let choices = rest.split(',').map(str::trim).filter(|choice| !choice.is_empty()).map(|choice| {
            let (name, value) =
                choice.rsplit_once(' ').ok_or_else(|| fault("has a choice without its number."))?;
            let value = typed::number(value).map_err(|refusal| fault(&refusal.to_string()))?;
            Ok(Choice { name: name.trim().to_owned(), value })
        });
        computing.asks.push(AskedInput { input, choices: choices.collect::<Result<_, String>>()? });
    }
    Ok(any.then_some(computing))
}

/// Reads a card; every limit that no controller could have is told at its field.
// Long: a list of fields.
pub(crate) fn read(fields: &Fields) -> Result<Card, Vec<FieldError>> {
    let mut take = FormReader { fields, errors: Vec::new() };
    let mut sensor_ports = Vec::new();
    for (kind, name, _) in PORTS {
        let count: u8 = take.number(name);
        sensor_ports.extend(std::iter::repeat_n(kind, usize::from(count)));
    }
    let longest_run_min = take.seconds("longest_run_s");
    let card = Card {
        name: fields.get("name").to_owned(),
        stations: take.number("stations"),
        programs: take.number("programs"),
        starts_per_program: take.number("starts_per_program"),
        start_step_min: take.number("start_step_min"),
        run_step: take.seconds("run_step_s"),
        longest_run: longest_run_min * 60,
        day_modes: DayModes {
            weekdays: take.yes("weekdays"),
            parity: take.yes("parity"),
            longest_interval: take.number("longest_interval"),
            never_days: take.yes("never_days"),
        },
        percentage_min: Percentage::from_percent(take.number("percentage_min")),
        percentage_max: Percentage::from_percent(take.number("percentage_max")),
        percentage_step: Percentage::from_percent(take.number("percentage_step")),
        percentage_scope: take.choice("percentage_scope").unwrap_or(PercentageScope::Controller),
        percentage_target: take.choice("percentage_target").unwrap_or(PercentageTarget::Total),
        rounding: take.choice("rounding").unwrap_or(Rounding::Nearest),
        rounding_step: take.seconds("rounding_step_s"),
        cycle_and_soak: take.yes("cycle_and_soak"),
        overlap: take.choice("overlap").unwrap_or(Overlap::Queue),
        longest_delay: take.seconds("longest_delay_s"),
        longest_overlap: take.seconds("longest_overlap_s"),
        longest_rain_delay_days: take.number("longest_rain_delay_days"),
        omit_hours: take.yes("omit_hours"),
        loops: take.yes("loops"),
        lighting: take.yes("lighting"),
        sensor_ports,
        sensor_override: take.yes("sensor_override"),
        master_valve: take.yes("master_valve"),
        pump_start: take.yes("pump_start"),
        daily_run_times: take.yes("daily_run_times"),
        computing: match computing(fields.get("computing")) {
            Ok(computing) => computing,
            Err(message) => {
                take.errors.push(("computing", message));
                None
            }
        },
        transformer_ma: Some(fields.get("transformer_ma"))
            .filter(|text| !text.is_empty())
            .map(|_| take.whole("transformer_ma", "mA")),
        longest_master_lead: take.seconds("longest_master_lead_s"),
        decoder_inputs: take.number("decoder_inputs"),
        backup_battery_months: take.number("backup_battery_months"),
    };
    let mut errors = take.errors;
    if errors.is_empty() {
        for fault in card.check() {
            // The list of modes and of ports stands in several fields; the first one says it.
            let name = match fault.field {
                "day_modes" => "weekdays",
                "sensor_ports" => "ports_hold",
                other => other,
            };
            errors.push((name, format!("{}.", crate::page::quantities::capital(&fault.message))));
        }
    }
    if errors.is_empty() { Ok(card) } else { Err(errors) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::controller::generic;

    #[test]
    fn every_generic_card_survives_its_form() {
        for (code, card) in generic() {
            let read = read(&Fields(texts(&card))).unwrap();
            let mut expected = card;
            expected.sensor_ports.sort_by_key(|p| SensorPort::TABLE.iter().position(|(k, _)| k == p));
            assert_eq!(read, expected, "{code}");
        }
    }

    #[test]
    fn what_a_controller_asks_is_told_line_by_line() {
        let asks = computing("rate: spray 40, wide rotor 15\ntrim\nefficiency: 80 %").unwrap().unwrap();
        assert_eq!((asks.asks.len(), asks.asks[0].choices[1].name.as_str()), (2, "wide rotor"));
        assert!((asks.efficiency.percent() - 80.0).abs() < 1e-9);
        assert_eq!(computing(&computing_lines(&asks)), Ok(Some(asks)));
        assert_eq!(computing("  \n"), Ok(None));
        for (text, says) in [
            ("colour: red 1", "Line 1: \"colour: red 1\" does not begin with one of rate, plants"),
            ("rate: spray", "without its number"),
            ("rate: spray fast", "is not a number"),
        ] {
            let said = computing(text).unwrap_err();
            assert!(said.contains(says), "{said}");
        }
    }

    #[test]
    fn an_impossible_card_is_told_at_its_fields() {
        let mut texts = texts(&generic().remove(0).1);
        for (name, value) in [
            ("stations", "0"),
            ("start_step_min", "7"),
            ("weekdays", "no"),
            ("parity", "no"),
            ("longest_interval", "0"),
        ] {
            texts.insert(name.into(), value.into());
        }
        let errors = read(&Fields(texts.clone())).unwrap_err();
        assert_eq!(
            errors.iter().map(|(n, _)| *n).collect::<Vec<_>>(),
            ["stations", "start_step_min", "weekdays"]
        );
        texts.insert("programs".into(), "many".into());
        assert_eq!(read(&Fields(texts)).unwrap_err()[0].0, "programs");
    }
}
