//! Wiring: from the ports of a controller and the chosen sensors to terminals, or the reason there are none
//! and what would do instead.
//!
//! Rules (common practice): a hold port wants a contact that opens to hold, and several of them in
//! series act as one; probes, meters and weather units each want a port of their kind; a decoder on
//! the two-wire path takes any unit under an address of its own, a meter on its polarised input;
//! where every port is taken, a contact that opens can break the common wire of the valves.

use super::{Link, PowerSupply, Sense, SensorCard, Signal};
use crate::controller::{SensorPlaces, SensorPort};

/// Which input of a decoder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DecoderInput {
    /// For contacts and data; polarity does not matter.
    Plain,
    /// For pulses of a meter: plus and minus are told apart.
    Polarised,
}

/// How a sensor is joined to its controller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Join {
    /// On a port of its own, by index.
    OwnPort(usize),
    /// In series with other contacts on a port.
    InSeries(usize),
    /// Through a decoder on the two-wire path.
    Decoder {
        /// The port of the path.
        port: usize,
        /// Its address, from 1, unique on the controller.
        address: u8,
        /// Which of its inputs, from 1.
        number: u8,
        /// Its input.
        input: DecoderInput,
    },
    /// In the common wire of the valves: it stops every zone on that common, and manual runs too.
    /// Only where valves close without current.
    ValveCommon,
}

/// Why a sensor cannot be joined.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// Its contact closes to hold; hold ports and valve commons want one that opens.
    WrongContact,
    /// No port of its kind is left and there is no two-wire path.
    NoPort(SensorPort),
}

/// The port that a unit wants.
#[must_use]
pub fn wanted_port(card: &SensorCard) -> SensorPort {
    if card.is_contact() {
        SensorPort::HoldSwitch
    } else if card.senses(Sense::Flow) {
        SensorPort::FlowMeter
    } else if card.senses(Sense::SoilMoisture) {
        SensorPort::SoilProbe
    } else {
        SensorPort::Weather
    }
}

fn input_of(card: &SensorCard) -> DecoderInput {
    if card.senses(Sense::Flow) || card.signal == Signal::Pulse {
        DecoderInput::Polarised
    } else {
        DecoderInput::Plain
    }
}

/// Joins sensors to the ports of a controller, in the order of the sensors. Numbers and pulses choose first,
/// since contacts can share. A decoder has so many inputs under one address, at most one of them polarised.
#[must_use]
// Long: one kind of connection after another.
pub fn assign(places: SensorPlaces<'_>, cards: &[&SensorCard]) -> Vec<Result<Join, Refusal>> {
    let SensorPlaces { ports, decoder_inputs: inputs } = places;
    let mut taken = vec![false; ports.len()];
    let mut decoders: Vec<(u8, bool)> = Vec::new();
    let mut free = |kind: SensorPort, taken: &mut Vec<bool>| {
        let index = ports.iter().zip(taken.iter()).position(|(p, t)| *p == kind && !*t)?;
        if let Some(slot) = taken.get_mut(index) {
            *slot = true;
        }
        Some(index)
    };
    let mut joins: Vec<Option<Result<Join, Refusal>>> = vec![None; cards.len()];
    let mut decoder =
        |card: &SensorCard,
         taken: &mut Vec<bool>,
         free: &mut dyn FnMut(SensorPort, &mut Vec<bool>) -> Option<usize>| {
            let port = free(SensorPort::TwoWire, taken)?;
            let input = input_of(card);
            let polarised = input == DecoderInput::Polarised;
            let room = |(used, has): &(u8, bool)| *used < inputs && !(polarised && *has);
            let index = decoders.iter().position(room).unwrap_or(decoders.len());
            if index == decoders.len() {
                decoders.push((0, false));
            }
            let (used, has) = decoders.get_mut(index)?;
            (*used, *has) = (*used + 1, *has || polarised);
            let address = u8::try_from(index + 1).unwrap_or(u8::MAX);
            Some(Join::Decoder { port, address, number: *used, input })
        };
    for (slot, card) in joins.iter_mut().zip(cards).filter(|(_, c)| !c.is_contact()) {
        let wanted = wanted_port(card);
        let own = free(wanted, &mut taken).map(Join::OwnPort);
        let join = own.or_else(|| decoder(card, &mut taken, &mut free));
        *slot = Some(join.ok_or(Refusal::NoPort(wanted)));
    }
    // A contact that closes to hold can only use a decoder, so it comes before those that can share.
    for (slot, card) in joins.iter_mut().zip(cards).filter(|(_, c)| c.signal == Signal::NormallyOpen) {
        *slot = Some(decoder(card, &mut taken, &mut free).ok_or(Refusal::WrongContact));
    }
    // The others: a port each while there are any, then a decoder, then in series, then the common.
    for (slot, card) in joins.iter_mut().zip(cards).filter(|(_, c)| c.signal == Signal::NormallyClosed) {
        let own = free(SensorPort::HoldSwitch, &mut taken).map(Join::OwnPort);
        let join = own.or_else(|| decoder(card, &mut taken, &mut free));
        let shared = || {
            ports.iter().position(|p| *p == SensorPort::HoldSwitch).map_or(Join::ValveCommon, Join::InSeries)
        };
        *slot = Some(Ok(join.unwrap_or_else(shared)));
    }
    let mut out: Vec<_> = joins.into_iter().map(|j| j.unwrap_or(Err(Refusal::WrongContact))).collect();
    // Whoever shares a port is in series, the first one too.
    let series: Vec<usize> =
        out.iter().filter_map(|j| if let Ok(Join::InSeries(p)) = j { Some(*p) } else { None }).collect();
    for join in &mut out {
        if let Ok(Join::OwnPort(port)) = *join
            && series.contains(&port)
        {
            *join = Ok(Join::InSeries(port));
        }
    }
    out
}

/// A step at the controller or at the sensor, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WiringStep {
    /// Power off before the controller is opened.
    PowerOff,
    /// Take the jumper out of a port; the sensor is ignored while it is in.
    RemoveJumper(usize),
    /// Link sensor and receiver on the bench, before anybody climbs.
    LinkRadio,
    /// Lay the wire in the open, away from mains.
    LayWire,
    /// Connect to a port.
    Connect {
        /// The port.
        port: usize,
        /// Plus and minus must be kept apart.
        polarised: bool,
    },
    /// Connect in series with the others on a port.
    ConnectInSeries(usize),
    /// Connect a decoder and give it its address.
    ConnectDecoder {
        /// The port of the two-wire path.
        port: usize,
        /// Its address.
        address: u8,
        /// Which of its inputs.
        number: u8,
        /// What kind that is.
        input: DecoderInput,
    },
    /// Open the common wire of the valves and put the contact in.
    BreakCommon,
    /// Set the sensor's threshold.
    SetThreshold,
    /// Power on again.
    PowerOn,
    /// Tell the controller that a sensor is there, and that it is not on bypass.
    TellController,
    /// Mount it where the placement check agrees.
    Mount,
    /// Trip it and see the controller hold.
    TripTest,
    /// Write it down: date, threshold, battery.
    LogIt,
}

/// The steps that join a sensor, in order: power off first, the radio linked before it is mounted,
/// the trip test last but for writing it down.
#[must_use]
pub fn steps(card: &SensorCard, join: Join) -> Vec<WiringStep> {
    let mut steps = Vec::new();
    if card.link == Link::Radio {
        steps.push(WiringStep::LinkRadio);
    }
    steps.push(WiringStep::PowerOff);
    if let Join::OwnPort(port) | Join::InSeries(port) = join
        && card.is_contact()
    {
        steps.push(WiringStep::RemoveJumper(port));
    }
    if card.link == Link::Wire {
        steps.push(WiringStep::LayWire);
    }
    steps.push(match join {
        Join::OwnPort(port) => WiringStep::Connect {
            port,
            polarised: !card.is_contact() || card.supply == PowerSupply::FromController,
        },
        Join::InSeries(port) => WiringStep::ConnectInSeries(port),
        Join::Decoder { port, address, number, input } => {
            WiringStep::ConnectDecoder { port, address, number, input }
        }
        Join::ValveCommon => WiringStep::BreakCommon,
    });
    steps.push(WiringStep::SetThreshold);
    steps.push(WiringStep::PowerOn);
    if join != Join::ValveCommon {
        steps.push(WiringStep::TellController);
    }
    steps.push(WiringStep::Mount);
    steps.push(WiringStep::TripTest);
    steps.push(WiringStep::LogIt);
    steps
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sensors::generic;

    fn card(code: &str) -> SensorCard {
        generic().into_iter().find(|(c, _)| *c == code).unwrap().1
    }

    /// The cards of the exhaustive test: one of every way of speaking.
    fn kinds() -> Vec<SensorCard> {
        let mut normally_open = card("rain_switch");
        normally_open.signal = Signal::NormallyOpen;
        vec![
            card("rain_switch"),
            card("soil_relay"),
            normally_open,
            card("soil_probe"),
            card("flow_meter"),
            card("et_sensor"),
            card("tipping_bucket"),
        ]
    }

    const PORTS: [SensorPort; 5] = [
        SensorPort::HoldSwitch,
        SensorPort::SoilProbe,
        SensorPort::FlowMeter,
        SensorPort::Weather,
        SensorPort::TwoWire,
    ];

    /// Every list of up to `most` items out of some.
    fn lists(items: usize, most: usize) -> Vec<Vec<usize>> {
        let mut all = vec![Vec::new()];
        let mut last = all.clone();
        for _ in 0..most {
            last = last.iter().flat_map(|l| (0..items).map(move |i| [l.clone(), vec![i]].concat())).collect();
            all.extend(last.clone());
        }
        all
    }

    /// The rules, said once more and independently: whether a join may be.
    fn allowed(ports: &[SensorPort], card: &SensorCard, join: Join) -> bool {
        let opens = card.signal == Signal::NormallyClosed;
        match join {
            Join::OwnPort(p) => match ports[p] {
                SensorPort::HoldSwitch => opens,
                SensorPort::SoilProbe => card.signal == Signal::Data && card.senses == [Sense::SoilMoisture],
                SensorPort::FlowMeter => card.senses == [Sense::Flow],
                SensorPort::Weather => {
                    !card.is_contact() && !card.senses(Sense::Flow) && !card.senses(Sense::SoilMoisture)
                }
                SensorPort::TwoWire => false,
            },
            Join::InSeries(p) => ports[p] == SensorPort::HoldSwitch && opens,
            Join::Decoder { port, input, .. } => {
                ports[port] == SensorPort::TwoWire
                    && (input == DecoderInput::Polarised) == (card.signal == Signal::Pulse)
            }
            Join::ValveCommon => opens && !ports.contains(&SensorPort::HoldSwitch),
        }
    }

    /// Most sensors that any assignment can join, by trying every one.
    fn most(ports: &[SensorPort], cards: &[&SensorCard], taken: &mut Vec<bool>) -> usize {
        let Some((card, rest)) = cards.split_first() else { return 0 };
        let mut best = most(ports, rest, taken);
        for p in 0..ports.len() {
            if taken[p] {
                continue;
            }
            let join = if ports[p] == SensorPort::TwoWire {
                Join::Decoder { port: p, address: 1, number: 1, input: input_of(card) }
            } else {
                Join::OwnPort(p)
            };
            if allowed(ports, card, join) {
                taken[p] = true;
                best = best.max(1 + most(ports, rest, taken));
                taken[p] = false;
            }
        }
        // A contact that opens can always share a port or break the common.
        if card.signal == Signal::NormallyClosed {
            best = best.max(1 + most(ports, rest, taken));
        }
        best
    }

    #[test]
    fn every_small_case_keeps_the_rules_and_joins_as_many_as_can_be() {
        let kinds = kinds();
        let mut cases = 0;
        for port_list in lists(PORTS.len(), 3) {
            let ports: Vec<SensorPort> = port_list.iter().map(|i| PORTS[*i]).collect();
            for (inputs, card_list) in
                lists(kinds.len(), 3).into_iter().flat_map(|l| [(1, l.clone()), (2, l)])
            {
                let cards: Vec<&SensorCard> = card_list.iter().map(|i| &kinds[*i]).collect();
                let joins = assign(SensorPlaces { ports: &ports, decoder_inputs: inputs }, &cards);
                assert_eq!(joins.len(), cards.len());
                let mut own = Vec::new();
                let mut series = Vec::new();
                let mut addresses = Vec::new();
                let mut polarised = Vec::new();
                for (card, join) in cards.iter().zip(&joins) {
                    let Ok(join) = join else { continue };
                    assert!(allowed(&ports, card, *join), "{ports:?} {joins:?}");
                    match join {
                        Join::OwnPort(p) => own.push(*p),
                        Join::InSeries(p) => series.push(*p),
                        Join::Decoder { port, address, number, input } => {
                            own.push(*port);
                            assert!((1..=inputs).contains(number), "{joins:?}");
                            addresses.push((*address, *number));
                            if *input == DecoderInput::Polarised {
                                polarised.push(*address);
                            }
                        }
                        Join::ValveCommon => {}
                    }
                }
                let places = addresses.iter().map(|(a, n)| usize::from(*a) * 100 + usize::from(*n));
                let meters = polarised.iter().map(|a| usize::from(*a));
                for list in [&mut own, &mut places.collect(), &mut meters.collect()] {
                    let before = list.len();
                    list.sort_unstable();
                    list.dedup();
                    assert_eq!(list.len(), before, "nothing is given twice: {ports:?} {joins:?}");
                }
                assert!(
                    series.iter().all(|p| !own.contains(p) && series.iter().filter(|q| *q == p).count() > 1),
                    "{joins:?}"
                );
                let joined = joins.iter().filter(|j| j.is_ok()).count();
                assert_eq!(
                    joined,
                    most(&ports, &cards, &mut vec![false; ports.len()]),
                    "{ports:?} {cards:?}"
                );
                cases += 1;
            }
        }
        assert_eq!(cases, 2 * 156 * 400);
    }

    #[test]
    fn two_closed_switches_share_the_one_port_in_series() {
        let (rain, relay) = (card("rain_switch"), card("soil_relay"));
        assert_eq!(
            assign(SensorPlaces { ports: &[SensorPort::HoldSwitch], decoder_inputs: 1 }, &[&rain, &relay]),
            [Ok(Join::InSeries(0)), Ok(Join::InSeries(0))]
        );
        assert_eq!(
            assign(SensorPlaces { ports: &[], decoder_inputs: 1 }, &[&relay]),
            [Ok(Join::ValveCommon)]
        );
        assert_eq!(
            assign(SensorPlaces { ports: &[], decoder_inputs: 1 }, &[&card("soil_probe")]),
            [Err(Refusal::NoPort(SensorPort::SoilProbe))]
        );
        let mut open = rain;
        open.signal = Signal::NormallyOpen;
        assert_eq!(
            assign(SensorPlaces { ports: &[SensorPort::HoldSwitch], decoder_inputs: 1 }, &[&open]),
            [Err(Refusal::WrongContact)]
        );
    }

    #[test]
    fn a_meter_on_the_two_wire_path_takes_the_polarised_input() {
        let (rain, meter) = (card("rain_switch"), card("flow_meter"));
        let path = [SensorPort::TwoWire; 4];
        let joined = |port, address, number, input| Ok(Join::Decoder { port, address, number, input });
        let joins = assign(SensorPlaces { ports: &path, decoder_inputs: 1 }, &[&rain, &meter]);
        assert_eq!(joins[1], joined(0, 1, 1, DecoderInput::Polarised));
        assert_eq!(joins[0], joined(1, 2, 1, DecoderInput::Plain));
        // With two inputs the switch shares the decoder of the meter; a second meter wants one of its own.
        let joins = assign(SensorPlaces { ports: &path, decoder_inputs: 2 }, &[&rain, &meter, &meter, &rain]);
        assert_eq!(joins[1], joined(0, 1, 1, DecoderInput::Polarised));
        assert_eq!(joins[2], joined(1, 2, 1, DecoderInput::Polarised));
        assert_eq!(joins[0], joined(2, 1, 2, DecoderInput::Plain));
        assert_eq!(joins[3], joined(3, 2, 2, DecoderInput::Plain));
    }

    #[test]
    fn power_goes_off_before_a_terminal_and_radio_is_linked_before_it_is_mounted() {
        for (code, card) in generic() {
            for join in [
                Join::OwnPort(0),
                Join::InSeries(0),
                Join::ValveCommon,
                Join::Decoder { port: 0, address: 1, number: 1, input: DecoderInput::Plain },
            ] {
                let steps = steps(&card, join);
                let at = |wanted: fn(&WiringStep) -> bool| steps.iter().position(wanted);
                let off = at(|s| *s == WiringStep::PowerOff).unwrap();
                let touch = at(|s| {
                    matches!(
                        s,
                        WiringStep::RemoveJumper(_)
                            | WiringStep::Connect { .. }
                            | WiringStep::ConnectInSeries(_)
                            | WiringStep::ConnectDecoder { .. }
                            | WiringStep::BreakCommon
                    )
                })
                .unwrap();
                let on = at(|s| *s == WiringStep::PowerOn).unwrap();
                assert!(off < touch && touch < on, "{code}");
                let mount = at(|s| *s == WiringStep::Mount).unwrap();
                assert_eq!(
                    card.link == Link::Radio,
                    at(|s| *s == WiringStep::LinkRadio).is_some_and(|link| link < mount),
                    "{code}"
                );
                assert_eq!(steps[steps.len() - 2..], [WiringStep::TripTest, WiringStep::LogIt]);
            }
        }
    }
}
