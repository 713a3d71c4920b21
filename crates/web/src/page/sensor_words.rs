//! What sensors say, ask for and are judged by, as sentences.

use crate::page::dates::DateFormat;
use crate::page::quantities::{depth, in_words, length, plain, temperature};
use crate::page::units::{SIGNED_PERCENT, Units};
use crate::site::snapshot::SiteSnapshot;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use upland_core::account::running::Holder;
use upland_core::advice::sensor_choice::{Conflict, Pays};
use upland_core::controller::SensorPort;
use upland_core::controller::schedule::Rest;
use upland_core::quantity::units::{Celsius, Metres, MetresPerSecond, Millimetres};
use upland_core::sensors::SettingFault;
use upland_core::sensors::calibration::{FEWEST, Failure, REST_HOURS};
use upland_core::sensors::placement::{Criterion, Judged, Verdict};
use upland_core::sensors::state::{Cause, ProbeDecides, STALE_HOURS, Says, et_percentage, probe_decides};
use upland_core::sensors::wiring::{DecoderInput, Join, Refusal, WiringStep};
use upland_core::sensors::{Channel, Link, Sense, Sensor, SensorCard};
use upland_core::site::UnitSystem;
use upland_store::sensors::SensorRecord;

/// "Thu 16 Jul, 04:20".
pub(crate) fn moment(at: Timestamp, tz: &TimeZone) -> String {
    at.to_zoned(tz.clone()).formatted("%a %-d %b, %H:%M")
}

pub(crate) fn wind(units: UnitSystem, value: MetresPerSecond) -> String {
    match units {
        UnitSystem::Metric => format!("{} m/s", plain(value.m_per_s(), 1)),
        UnitSystem::UsCustomary => format!("{} mph", plain(value.mph(), 0)),
    }
}

pub(crate) fn cause(units: UnitSystem, cause: Cause) -> String {
    match cause {
        Cause::Rain { fallen_mm, .. } => format!("{} of rain", depth(units, Millimetres::from_mm(fallen_mm))),
        Cause::Frost { read_c } => format!("{} in the air", temperature(units, Celsius::from_c(read_c))),
        Cause::Wind { read_m_s } => {
            format!("wind of {}", wind(units, MetresPerSecond::from_m_per_s(read_m_s)))
        }
        Cause::WetSoil { read_pct } => format!("soil at {} %", plain(read_pct, 1)),
        Cause::Contact => "its contact is open".to_owned(),
    }
}

/// Who holds a run, why and until when, each in turn; sensors by their names in the order of their controller.
pub(crate) fn holders(units: UnitSystem, held_by: &[Holder], sensors: &[&str], tz: &TimeZone) -> String {
    let one = |holder: &Holder| match holder {
        Holder::Sensor { sensor, hold } => {
            let name = sensors.get(*sensor).copied().unwrap_or("a sensor");
            let until = hold.until.map_or(String::new(), |at| format!(", until {}", moment(at, tz)));
            format!("{name} ({}{until})", cause(units, hold.cause))
        }
        Holder::Rest(Rest::RainDelay { until }) => {
            format!("rain delay until {}", until.formatted("%a %-d %b"))
        }
        Holder::Rest(Rest::OffSeason { until: Some(until) }) => {
            format!("off-season until {}", until.formatted("%-d %b"))
        }
        Holder::Rest(Rest::OmittedDate) => "omitted date".to_owned(),
        Holder::Rest(Rest::OffSeason { until: None }) => "off-season all year".to_owned(),
    };
    held_by.iter().map(one).collect::<Vec<_>>().join("; ")
}

/// What a sensor says, in a line and its because.
pub(crate) fn says(units: UnitSystem, said: &Says, tz: &TimeZone) -> (String, String) {
    match said {
        Says::Holds { hold, earliest } => (
            match earliest {
                Some(until) => format!("Prevents watering until {} at the earliest", moment(*until, tz)),
                None => "Holds".to_owned(),
            },
            format!("since {}: {}", moment(hold.from, tz), cause(units, hold.cause)),
        ),
        Says::Free { since: Some(since) } => {
            ("Allows watering".to_owned(), format!("since {}", moment(*since, tz)))
        }
        Says::Free { since: None } => ("Allows watering".to_owned(), "none prevented lately".to_owned()),
        Says::Silent { last: Some(last) } => {
            ("Silent".to_owned(), format!("last heard {}", moment(*last, tz)))
        }
        Says::Silent { last: None } => {
            ("No readings yet".to_owned(), "and the record has none for it".to_owned())
        }
    }
}

/// The same for a sensor of the list: one that sets a percentage scales, it never stops.
pub(crate) fn says_of(snapshot: &SiteSnapshot, record: &SensorRecord, said: &Says) -> (String, String) {
    if record.sensor.card.only_scales() && snapshot.joined(record).is_none() {
        return ("Sets nothing".to_owned(), "it cannot be joined to its controller".to_owned());
    }
    if let Some(until) = snapshot.bypassed(record.id).filter(|_| record.sensor.card.only_scales()) {
        let until = moment(until, &snapshot.tz);
        return (
            "Sets nothing".to_owned(),
            format!("on bypass until {until}; the controller's own percentage counts"),
        );
    }
    if record.sensor.card.only_scales() && matches!(said, Says::Free { .. }) {
        let tonight = percentage(snapshot, record).unwrap_or_default();
        return ("Scales run times".to_owned(), tonight);
    }
    let (line, because) = says(snapshot.units(), said, &snapshot.tz);
    match probe_decides(&record.sensor, snapshot.readings(record.id)) {
        Some(who) => {
            (line, format!("{because}; {}", probe_rule(who, record.sensor.setting.soil_threshold_pct)))
        }
        None => (line, because),
    }
}

/// Who decides for a soil-moisture sensor and for how long, as the end of a sentence.
fn probe_rule(who: ProbeDecides, threshold_pct: Option<f64>) -> String {
    match who {
        ProbeDecides::Relay => {
            "its relay decides, and each state that it reports counts until the next one".into()
        }
        ProbeDecides::Readings => format!(
            "its last reading decides at the start of the day's first run: at {} % or more the whole day's watering is skipped; a reading counts for {STALE_HOURS} h, and without one watering runs",
            plain(threshold_pct.unwrap_or_default(), 1)
        ),
        ProbeDecides::Nobody => "it has no threshold yet, so it prevents no watering: calibrate it".into(),
    }
}

/// What a setting cannot be, in the units of a site.
pub(crate) fn setting_fault(units: UnitSystem, fault: &SettingFault) -> String {
    let u = Units::of(units);
    let shown = match fault.field {
        "rain_threshold" => u.depth,
        "freeze_at" => u.temperature,
        "wind_above" => u.wind,
        _ => SIGNED_PERCENT,
    };
    match fault.outside {
        Some((value, low, high)) => {
            let [value, low, high] = [value, low, high].map(|v| plain(shown.shown(v), 2));
            let unit = shown.unit;
            format!("{value} {unit} cannot be set on it; it takes {low} to {high} {unit}.")
        }
        None => format!("{}.", crate::page::quantities::capital(&fault.message)),
    }
}

pub(crate) fn port(port: SensorPort) -> &'static str {
    match port {
        SensorPort::HoldSwitch => "sensor switch",
        SensorPort::SoilProbe => "soil probe",
        SensorPort::FlowMeter => "flow meter",
        SensorPort::Weather => "weather",
        SensorPort::TwoWire => "two-wire path",
    }
}

pub(crate) fn refusal(refusal: Refusal) -> &'static str {
    match refusal {
        Refusal::WrongContact => {
            "its contact closes to prevent watering, and the controller needs one that opens; choose the normally closed kind, or put a changeover relay between"
        }
        Refusal::NoPort(SensorPort::SoilProbe) => {
            "no soil-probe port is free; a probe with a relay can share the sensor port or break the valve common"
        }
        Refusal::NoPort(SensorPort::FlowMeter) => {
            "no flow-meter port and no two-wire path is free; a controller with one, or reading the meter by hand, would do"
        }
        Refusal::NoPort(SensorPort::Weather) => {
            "no weather port and no two-wire path is free; set its percentage manually each week from the weekly list, or use a switch"
        }
        Refusal::NoPort(_) => "no port of its kind is free",
    }
}

/// How a sensor is joined, with what follows from it.
pub(crate) fn join(join: Join, ports: &[SensorPort]) -> String {
    let name = |index: usize| ports.get(index).map_or("", |p| port(*p));
    match join {
        Join::OwnPort(p) => format!("on port {} ({}), alone", p + 1, name(p)),
        Join::InSeries(p) => format!(
            "on port {} ({}), in series: either one opens the loop, the controller cannot tell which, and a bypass there bypasses both",
            p + 1,
            name(p)
        ),
        Join::Decoder { port: p, address, number, input } => format!(
            "by the decoder with address {address}, {} input {number}, as sensor {} of the {}",
            if input == DecoderInput::Polarised { "polarised" } else { "plain" },
            p + 1,
            name(p)
        ),
        Join::ValveCommon => "in the common wire of the valves: it stops every zone on that common, manual runs too. Only where valves close without current; a latching valve stays as it is".to_owned(),
    }
}

/// What a pulse of a meter stands for, with as many pulses as make one of the unit.
pub(crate) fn constant(units: UnitSystem, litres: f64) -> String {
    let shown = Units::of(units).volume;
    let one = shown.shown(litres);
    format!("{} {}, {} pulses {}", plain(one, 4), shown.unit, plain(1.0 / one, 3), per(shown.unit))
}

fn per(unit: &str) -> &'static str {
    if unit == "gal" { "a gallon" } else { "a litre" }
}

/// A step: what to do, what success looks like, what failure looks like, and the caution.
pub(crate) struct StepWords {
    pub text: String,
    pub good: &'static str,
    pub bad: &'static str,
    pub caution: &'static str,
}

// Long: one text for each step of the wiring.
pub(crate) fn step(step: WiringStep, sensor: &Sensor, units: UnitSystem) -> StepWords {
    let card = &sensor.card;
    let words = |text: String, good, bad, caution| StepWords { text, good, bad, caution };
    match step {
        WiringStep::LinkRadio => words(
            "Link sensor and receiver on the bench, battery in, before anybody climbs.".into(),
            "The receiver shows that it hears the sensor.",
            "No link: new battery, closer together, link again; a sensor that does not link here will not link on a roof.",
            "",
        ),
        WiringStep::PowerOff => words(
            "Switch the controller off at its plug or breaker, and wait until its display is dark.".into(),
            "The display is dark, nothing hums.",
            "It stays lit: another feed or a battery; do not open it.",
            "Low-voltage side only. Mains wiring is work for a licensed electrician.",
        ),
        WiringStep::RemoveJumper(p) => words(
            format!("Take the jumper out of port {}. While it is in, the sensor is ignored.", p + 1),
            "Both terminals are empty.",
            "No jumper there: look for a bypass switch on the front and in the settings.",
            "",
        ),
        WiringStep::LayWire => words(
            format!(
                "Lay the wire, {} at most, away from mains, with a loop to spare at both ends.",
                length(units, card.wire_longest)
            ),
            "The loop measures closed for a normally closed contact.",
            "It measures open: a break in the wire; find it before you connect.",
            "Have buried services located before you dig.",
        ),
        WiringStep::Connect { port: p, polarised } => words(
            if polarised {
                format!("Connect to port {}: plus to plus, minus to minus.", p + 1)
            } else {
                format!("Connect the two wires to port {}; their order does not matter.", p + 1)
            },
            "Each wire stays fast when you pull at it.",
            "Bare copper touches its neighbour: shorten it.",
            "",
        ),
        WiringStep::ConnectInSeries(p) => words(
            format!(
                "One wire of the first contact to port {0}, its other wire to the next contact, and that one's back to port {0}.",
                p + 1
            ),
            "The loop measures closed with all contacts at rest.",
            "It measures open: one contact is open, or a joint is bad.",
            "",
        ),
        WiringStep::ConnectDecoder { address, number, input, .. } => words(
            format!(
                "Connect the decoder to the two-wire path, set its address to {address}, and the sensor to its input {number}, {}{}.",
                if input == DecoderInput::Polarised { "polarised" } else { "plain" },
                if input == DecoderInput::Polarised { ": plus to plus" } else { "" }
            ),
            "The controller finds the address.",
            "It does not: two devices on one address, or the path is broken behind the last one found.",
            "",
        ),
        WiringStep::BreakCommon => words(
            "Take the common wire of the valves off its terminal; the contact goes between the two.".into(),
            "With the contact closed a zone started manually runs; with it open none does.",
            "Zones run with the contact open: latching valves, or a second common.",
            "Manual runs are prevented too. Not for latching valves.",
        ),
        WiringStep::SetThreshold => words(
            "Set it as on its page: threshold, and vent where it has one.".into(),
            "Its setting is the one on this page.",
            "Another value: write down here what it is set to.",
            "",
        ),
        WiringStep::PowerOn => words(
            "Close the controller and switch it on.".into(),
            "Clock and programs are there.",
            "Clock blinks: set it, and change the backup battery.",
            "",
        ),
        WiringStep::TellController => words(
            match sensor.litres_per_pulse() {
                Some(litres) => format!(
                    "Tell the controller that it has the meter, and enter its constant: one pulse is {}.",
                    constant(units, litres)
                ),
                None => "Tell the controller that it has the sensor, and that it is not on bypass.".into(),
            },
            "The controller shows the sensor as active.",
            "It shows bypass: a switch, or the jumper again.",
            "",
        ),
        WiringStep::Mount => words(
            "Mount it where the placement check agrees.".into(),
            mounted(card),
            badly_mounted(card),
            if card.senses(Sense::SoilMoisture) || card.senses(Sense::Flow) {
                "Have buried services located before you dig. Backflow devices are work for those licensed for them."
            } else {
                "Ladder: three points of contact, somebody at its foot, never in wind or ice."
            },
        ),
        WiringStep::TripTest => {
            let (good, bad) = test_of(card);
            words(trip(card).into(), good, bad, "")
        }
        WiringStep::LogIt => {
            words("Write it down here: date, threshold, battery. Reminders start from it.".into(), "", "", "")
        }
    }
}

/// What a good mount looks like, by where a unit belongs: in the soil, in the pipe or in the open.
fn mounted(card: &SensorCard) -> &'static str {
    if card.senses(Sense::SoilMoisture) {
        "In undisturbed soil in the middle of the roots, firm against it all round, its depth noted."
    } else if card.senses(Sense::Flow) {
        "Its arrow points downstream, straight pipe on both sides, full of water, no air trapped."
    } else {
        "Level, firm, open sky, out of every spray path."
    }
}

fn badly_mounted(card: &SensorCard) -> &'static str {
    if card.senses(Sense::SoilMoisture) {
        "With air or loose fill around it, it reads too dry; in a low spot it reads too wet."
    } else if card.senses(Sense::Flow) {
        "Behind an elbow or a half-shut valve it counts wrong; backwards it counts nothing."
    } else {
        "Under an eave or in a spray path it never or always trips."
    }
}

/// What a test shows where all is well, and what to look at where not, by what the sensor does.
fn test_of(card: &SensorCard) -> (&'static str, &'static str) {
    match card.senses.first() {
        Some(Sense::Et) => (
            "The controller shows the sensor's percentage, and it follows: run times of tonight change, days and starts do not.",
            "The percentage stays at 100 or is missing: wrong port, no link, the controller still on its own percentage.",
        ),
        Some(Sense::Flow) => (
            "The meter counts while the zone runs and stops when the zone ends; the flow is near the learned one.",
            "It counts nothing: polarity, direction of flow, or the constant entered for another pipe size.",
        ),
        Some(Sense::SoilMoisture) => (
            "Dry in the hand it allows watering; in a glass of water it skips the next window.",
            "It skips when dry or allows when wet: contacts swapped, threshold at the wrong end, bypass left in.",
        ),
        _ => (
            "Within a minute the controller shows that the sensor prevents watering, and a zone that obeys the sensor does not start.",
            "Nothing shows: jumper, bypass, wrong port, wrong contact, broken wire, in that order.",
        ),
    }
}

fn trip(card: &SensorCard) -> &'static str {
    match card.senses.first() {
        Some(Sense::Rain) => {
            "Operate it by hand as its maker says, or pour water into it, for half a minute."
        }
        Some(Sense::Freeze) => "Hold a bag of ice to it until it reads the set point.",
        Some(Sense::Wind) => "Turn it by hand faster than the set point.",
        Some(Sense::SoilMoisture) => {
            "Hold it dry in the air, look at the controller; then put it into a glass of water and look again."
        }
        Some(Sense::Flow) => {
            "Run one zone by hand; read the meter before and after, and the flow the controller shows."
        }
        _ => "Shade it for an hour, or set its trim, and see tonight's percentage move.",
    }
}

pub(crate) fn verdict(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Fails => "will not work there",
        Verdict::Doubtful => "could be better",
        Verdict::Unknown => "not looked at",
        Verdict::Good => "good",
    }
}

pub(crate) fn criterion(criterion: Criterion) -> &'static str {
    match criterion {
        Criterion::OpenSky => "open sky above it",
        Criterion::Clearance => "clear of higher obstacles",
        Criterion::Sun => "sun, so that it dries as the zones do",
        Criterion::Spray => "out of every spray path",
        Criterion::Height => "height",
        Criterion::Reach => "within reach of the controller",
        Criterion::DecoderReach => "within reach of its decoder on the two-wire path",
        Criterion::Shield => "radiation shield",
        Criterion::Screen => "screen and bird spikes",
        Criterion::StraightPipe => "straight pipe on both sides",
        Criterion::RootZone => "in the root zone",
        Criterion::SameExposure => "feels what its zones feel",
    }
}

/// What was found against what is wanted.
pub(crate) fn found(units: UnitSystem, judged: &Judged) -> String {
    let metres = |m: f64| length(units, Metres::from_m(m));
    match (judged.criterion, judged.found, judged.wanted) {
        (Criterion::Clearance, Some(f), _) => {
            format!("{} times as far as it is higher; twice at least, four times is good", plain(f, 1))
        }
        (Criterion::Sun, Some(f), Some(w)) => format!("{} h a day; {} h are good", plain(f, 1), plain(w, 0)),
        (Criterion::StraightPipe, Some(f), _) => {
            format!("{} % of ten diameters before and five after", plain(100.0 * f.min(1.0), 0))
        }
        (Criterion::Reach | Criterion::DecoderReach, Some(f), Some(w)) => {
            format!("{}; it reaches {}", metres(f), metres(w))
        }
        (_, Some(f), Some(w)) => format!("{}; {} wanted", metres(f), metres(w)),
        (Criterion::Reach | Criterion::DecoderReach, None, Some(w)) => format!("reaches {}", metres(w)),
        _ => String::new(),
    }
}

/// What to do about a criterion.
pub(crate) fn remedy(criterion: Criterion, card: &SensorCard) -> &'static str {
    match criterion {
        Criterion::OpenSky => {
            "Move it out from under eave, branch or wire: a sensor that never gets wet never prevents watering."
        }
        Criterion::Clearance => "Move it away, twice as far as the other is higher, or put it higher.",
        Criterion::Sun => {
            "Move it into the sun that the zones have; in shade it prevents watering for days too long."
        }
        Criterion::Spray => "Move it out of the throw, or it prevents watering after each run.",
        Criterion::Height => {
            "Put it at its height: above hands and splash, a thermometer between 1.25 and 2 m."
        }
        Criterion::Reach if card.link == Link::Radio => "Bring it nearer, or put fewer walls between.",
        Criterion::DecoderReach => "Put a decoder nearer to it; the path itself may be longer.",
        Criterion::Reach => "Use the wire that its maker allows, or a radio one.",
        Criterion::Shield => "Give it a shield; in the sun it reads the sun.",
        Criterion::Screen => "Add screen and spikes; leaves and birds make it count wrong.",
        Criterion::StraightPipe => "Ten diameters of straight pipe before it, five after.",
        Criterion::RootZone => "Put it into the middle of the roots of a zone that is typical of the others.",
        Criterion::SameExposure => {
            "No zone that obeys it is open to the sky; it would represent none of them."
        }
    }
}

pub(crate) fn pays(pays: Pays) -> &'static str {
    match pays {
        Pays::Yes => "pays",
        Pays::Perhaps => "may pay",
        Pays::No => "does not pay",
    }
}

pub(crate) fn conflict(conflict: Conflict) -> String {
    match conflict {
        Conflict::RainButAllRoofed => "Every zone is under a roof: a rain sensor would only stop what no rain reaches.".into(),
        Conflict::WindButAllDrip => "Every zone is drip: wind carries nothing off.".into(),
        Conflict::RainTwice => "A rain sensor and a percentage from another unit count the same rain twice; keep the rain sensor and leave rain out of the percentage.".into(),
        Conflict::EtWithoutPort => "The controller takes no percentage from outside; set it manually from the weekly list.".into(),
        Conflict::TwoOfOne(sense) => format!("Two units sense {}: each prevents watering for the other.", sense.label()),
    }
}

/// Why a calibration run says nothing, and what to do.
pub(crate) fn failure(failure: &Failure, tz: &TimeZone) -> (String, &'static str) {
    match failure {
        Failure::TooFew { readings } => (
            format!("Only {readings} readings; a run needs {} at least.", in_words(FEWEST)),
            "Read it every few hours for a day, or let its device post.",
        ),
        Failure::TooShort { hours } => {
            (format!("The trace ends after {} hours.", plain(*hours, 1)), "Go on until 24 hours are full.")
        }
        Failure::Gap { from, until } => (
            format!("Nothing was read from {} to {}.", moment(*from, tz), moment(*until, tz)),
            "What happened in a gap of over four hours cannot be known; run it again.",
        ),
        Failure::Water { at, rise } => (
            format!("Water came: the reading rose by {} points at {}.", plain(*rise, 1), moment(*at, tz)),
            "Switch the zone off for the day, choose a day without rain, and saturate again.",
        ),
        Failure::NeverSaturated { first_pct, fall } => (
            format!(
                "It began at {} % and fell by {} points only: the soil was not saturated.",
                plain(*first_pct, 1),
                plain(*fall, 1)
            ),
            "Soak until water ponds for a moment, let it go in, soak again, then begin.",
        ),
        Failure::StillFalling { fall, rest_pct } => (
            format!(
                "It still falls: {} points in the last {} hours, towards {} %.",
                plain(*fall, 1),
                plain(REST_HOURS, 0),
                plain(*rest_pct, 0)
            ),
            "Look for a valve that leaks or water that ponds below. In heavy clay read it by hand once it has stopped falling, and type that as the threshold.",
        ),
        Failure::Noisy { noise } => (
            format!("The readings scatter by {} points.", plain(*noise, 1)),
            "Press the soil to the probe, look at the connection and at mains wiring beside its wire.",
        ),
        Failure::OutOfSoil { at, read_pct } => (
            format!(
                "It read {} % at {}: the probe is in air, or came out.",
                plain(*read_pct, 1),
                moment(*at, tz)
            ),
            "Set it again in firm, undisturbed soil and wait a day for it to settle.",
        ),
    }
}

/// The percentage that an ET unit sets tonight, in words.
pub(crate) fn percentage(snapshot: &SiteSnapshot, record: &SensorRecord) -> Option<String> {
    let (sensor, units) = (&record.sensor, snapshot.units());
    if !sensor.card.senses(Sense::Et) {
        return None;
    }
    let own = snapshot.own(record.id);
    let heard: Vec<(Date, Millimetres)> = own
        .and_then(|r| r.get(&Channel::Et))
        .map(|r| {
            r.as_slice()
                .iter()
                .map(|r| (r.at.to_zoned(snapshot.tz.clone()).date(), Millimetres::from_mm(r.value)))
                .collect()
        })
        .unwrap_or_default();
    let from_record = heard.is_empty();
    let recorded = snapshot
        .climate
        .range(snapshot.today().checked_sub(20.days()).unwrap_or(snapshot.today()), snapshot.today());
    let days: Vec<(Date, Millimetres)> =
        if from_record { recorded.map(|(d, day)| (*d, day.et.et0)).collect() } else { heard };
    Some(match et_percentage(&sensor.setting, days.into_iter(), snapshot.today()) {
        Some(p) => format!(
            "Tonight {} %: mean of {} {} {} ÷ {} for 100 %{}{}. It changes run times only, never days or starts.",
            plain(p.percentage, 0),
            p.days,
            if p.days == 1 { "day" } else { "days" },
            depth(units, p.mean),
            depth(units, sensor.setting.et_full),
            if sensor.setting.et_trim_pct == 0.0 {
                String::new()
            } else {
                format!(", trim {} %", plain(sensor.setting.et_trim_pct, 1))
            },
            if from_record { ", from the site's record" } else { "" }
        ),
        None => {
            "No percentage tonight: fewer than half of its days were read; the controller keeps the last one."
                .into()
        }
    })
}

#[cfg(test)]
mod tests;
