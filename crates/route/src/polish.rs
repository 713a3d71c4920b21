//! Shortens an order stop by stop: what crosses is turned round, what lies better elsewhere is moved. A random search may leave
//! either; nobody who looks at a map would.

use crate::legs::Legs;

/// The ends of a route: places of the legs, or none where it begins or ends at its first or last stop.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Ends {
    pub start: Option<usize>,
    pub end: Option<usize>,
}

/// Less than this is no gain, minutes.
const LEAST_GAIN: f64 = 1e-9;
/// Stops that are moved together at most.
const LONGEST_PIECE: usize = 3;

/// Minutes of an order from start to end.
pub(crate) fn minutes(order: &[usize], ends: Ends, legs: &Legs) -> f64 {
    let stops = order.windows(2).filter_map(|pair| Some(legs.drive(*pair.first()?, *pair.last()?).minutes));
    let into = ends.start.zip(order.first().copied()).map(|(from, to)| legs.drive(from, to).minutes);
    let out = order.last().copied().zip(ends.end).map(|(from, to)| legs.drive(from, to).minutes);
    stops.chain(into).chain(out).sum()
}

/// Every order that differs from one by a turned piece or a moved one.
fn neighbours(order: &[usize]) -> impl Iterator<Item = Vec<usize>> + '_ {
    let count = order.len();
    let turned = (0..count).flat_map(move |from| {
        (from + 2..=count).filter_map(move |until| {
            let mut other = order.to_vec();
            other.get_mut(from..until)?.reverse();
            Some(other)
        })
    });
    let moved = (1..=LONGEST_PIECE).flat_map(move |length| {
        (0..(count + 1).saturating_sub(length)).flat_map(move |from| {
            (0..=count.saturating_sub(length)).filter(move |to| *to != from).flat_map(move |to| {
                [false, true].into_iter().map(move |turn| {
                    let mut other = order.to_vec();
                    let mut piece: Vec<usize> = other.drain(from..from + length).collect();
                    if turn {
                        piece.reverse();
                    }
                    other.splice(to..to, piece);
                    other
                })
            })
        })
    });
    turned.chain(moved)
}

/// An order that no turned or moved piece makes shorter, of those that are allowed.
pub(crate) fn shortened(
    order: Vec<usize>,
    ends: Ends,
    legs: &Legs,
    allowed: impl Fn(&[usize]) -> bool,
) -> Vec<usize> {
    let (mut best, mut length) = (order.clone(), minutes(&order, ends, legs));
    loop {
        let shorter = neighbours(&best)
            .map(|other| (minutes(&other, ends, legs), other))
            .find(|(own, other)| *own < length - LEAST_GAIN && allowed(other));
        match shorter {
            Some((own, other)) => (length, best) = (own, other),
            None => return best,
        }
    }
}

/// From a stop always to the nearest that is left.
pub(crate) fn nearest_next(stops: &[usize], first: usize, legs: &Legs) -> Vec<usize> {
    let mut left: Vec<usize> = stops.iter().copied().filter(|stop| *stop != first).collect();
    let mut order = vec![first];
    let mut at = first;
    while !left.is_empty() {
        let next = (0..left.len()).min_by(|a, b| {
            let to =
                |place: &usize| left.get(*place).map_or(f64::INFINITY, |stop| legs.drive(at, *stop).minutes);
            to(a).total_cmp(&to(b))
        });
        let Some(next) = next else { break };
        at = left.swap_remove(next);
        order.push(at);
    }
    order
}
