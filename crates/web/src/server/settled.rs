//! Which readings pages follow. What a site's pages show is computed anew with every reading; where devices post many
//! times a second that would be all that is done, and it follows them every two seconds instead.

use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter};
use std::collections::BTreeMap;
use std::num::NonZeroU32;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;
use upland_store::accounts::SiteStamp;

/// Where readings stream they are followed this often.
const EVERY: Duration = Duration::from_secs(2);
/// Times that they are followed at once before they count as a stream.
const BURST: NonZeroU32 = match NonZeroU32::new(10) {
    Some(burst) => burst,
    None => NonZeroU32::MIN,
};

/// The readings that this process follows, by site.
pub(crate) struct Settled {
    followed: Mutex<BTreeMap<i64, SiteStamp>>,
    often: DefaultKeyedRateLimiter<i64>,
}

impl Default for Settled {
    fn default() -> Self {
        let quota = Quota::with_period(EVERY).unwrap_or(Quota::per_second(BURST)).allow_burst(BURST);
        Self { followed: Mutex::default(), often: RateLimiter::keyed(quota) }
    }
}

impl Settled {
    /// A stamp with the readings that are followed now; the facts of the site are always those that stand.
    pub fn of(&self, stamp: SiteStamp) -> SiteStamp {
        let id = stamp.id.number();
        let mut all = self.followed.lock().unwrap_or_else(PoisonError::into_inner);
        match all.get(&id) {
            Some(known) if known.readings == stamp.readings => stamp,
            Some(known) if self.often.check_key(&id).is_err() => {
                SiteStamp { readings: known.readings, last_reading: known.last_reading, ..stamp }
            }
            _ => {
                all.insert(id, stamp);
                stamp
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture::key;

    #[test]
    fn single_readings_are_followed_at_once_and_a_stream_is_not() {
        let settled = Settled::default();
        let stamp = |revision, readings| SiteStamp { id: key(1), revision, readings, last_reading: None };
        for readings in 0..10 {
            assert_eq!(settled.of(stamp(1, readings)).readings, readings);
        }
        let held =
            (10..1000).map(|readings| settled.of(stamp(2, readings))).filter(|s| s.readings < 12).count();
        assert!(held > 900, "{held} of a stream");
        assert_eq!(settled.of(stamp(3, 2000)).revision, 3, "what people change is seen at once");
        let other = SiteStamp { id: key(2), ..stamp(1, 7) };
        assert_eq!(settled.of(other).readings, 7, "each site by itself");
    }
}
