//! How often somebody may try: sign-ins, and posts of devices.

use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter};
use std::hash::Hash;
use std::num::NonZeroU32;

const fn per(count: u32) -> NonZeroU32 {
    match NonZeroU32::new(count) {
        Some(count) => count,
        None => NonZeroU32::MIN,
    }
}

/// Sign-in attempts for one name from one address: a burst, then one every twelve seconds.
const ATTEMPT_BURST: NonZeroU32 = per(6);
const ATTEMPTS_PER_MINUTE: NonZeroU32 = per(5);
/// Attempts from one address, whatever the names: each costs a password hash.
const ADDRESS_ATTEMPTS_PER_MINUTE: NonZeroU32 = per(60);
/// Posts of one device a second, and in a burst: many times what a device with something to say needs.
const POSTS_PER_SECOND: NonZeroU32 = per(20);
const POST_BURST: NonZeroU32 = per(100);
/// Names remembered by a limiter before the idle ones are dropped.
const REMEMBERED: usize = 10_000;

/// The limits of this process.
pub(crate) struct Limits {
    attempts: DefaultKeyedRateLimiter<String>,
    address_attempts: DefaultKeyedRateLimiter<String>,
    /// Posts of devices by the hash of their token.
    posts: DefaultKeyedRateLimiter<Vec<u8>>,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            attempts: RateLimiter::keyed(Quota::per_minute(ATTEMPTS_PER_MINUTE).allow_burst(ATTEMPT_BURST)),
            address_attempts: RateLimiter::keyed(Quota::per_minute(ADDRESS_ATTEMPTS_PER_MINUTE)),
            posts: RateLimiter::keyed(Quota::per_second(POSTS_PER_SECOND).allow_burst(POST_BURST)),
        }
    }
}

fn allows<K: Hash + Eq + Clone>(limiter: &DefaultKeyedRateLimiter<K>, key: &K) -> bool {
    if limiter.len() > REMEMBERED {
        limiter.retain_recent();
    }
    limiter.check_key(key).is_ok()
}

impl Limits {
    /// Whether another sign-in attempt for a name from an address is allowed now.
    pub fn attempt(&self, address: &str, login: &str) -> bool {
        allows(&self.address_attempts, &address.to_owned())
            && allows(&self.attempts, &format!("{address} {login}"))
    }

    /// Whether another refused attempt from an address is worth writing down: a flood of them is not.
    pub fn written(&self, address: &str) -> bool {
        allows(&self.attempts, &format!("refused {address}"))
    }

    /// Whether a device's token may post again now.
    pub fn post(&self, token_hash: &[u8]) -> bool {
        allows(&self.posts, &token_hash.to_vec())
    }

    /// Whether an address may try another unknown token: guessing is slowed down, and not written down.
    pub fn guess(&self, address: &str) -> bool {
        allows(&self.address_attempts, &format!("token {address}"))
    }
}
