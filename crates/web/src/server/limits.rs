//! How often somebody may try: sign-ins, and posts of devices.

use crate::server::digest::first_bytes;
use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter};
use sha2::{Digest, Sha256};
use std::num::NonZeroU32;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

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
/// Requests of other software by one token a second, and in a burst: a program that walks hundreds of sites once an hour.
const READS_PER_SECOND: NonZeroU32 = per(20);
const READ_BURST: NonZeroU32 = per(200);
/// Keys remembered by a limiter before the idle ones are dropped.
const REMEMBERED: usize = 10_000;
/// Keys beyond which an unknown one is refused: by then somebody makes them up faster than they age.
const MOST_REMEMBERED: usize = 50_000;
/// How often a limiter is gone through for idle keys.
const AGED_EVERY: Duration = Duration::from_secs(1);

/// What a limiter counts by: a digest, so that a key takes the same room whatever somebody sends.
type Key = [u8; 16];

fn key(parts: &[&str]) -> Key {
    first_bytes(&Sha256::digest(parts.join("\n")))
}

/// A limiter by key, of bounded size.
struct Keyed {
    limiter: DefaultKeyedRateLimiter<Key>,
    aged: Mutex<Instant>,
}

impl Keyed {
    fn new(quota: Quota) -> Self {
        Self { limiter: RateLimiter::keyed(quota), aged: Mutex::new(Instant::now()) }
    }

    fn allows(&self, key: Key) -> bool {
        if self.limiter.len() > REMEMBERED {
            let mut aged = self.aged.lock().unwrap_or_else(PoisonError::into_inner);
            if aged.elapsed() >= AGED_EVERY {
                self.limiter.retain_recent();
                self.limiter.shrink_to_fit();
                *aged = Instant::now();
            }
        }
        self.limiter.len() < MOST_REMEMBERED && self.limiter.check_key(&key).is_ok()
    }
}

/// The limits of this process.
pub(crate) struct Limits {
    attempts: Keyed,
    addresses: Keyed,
    /// Posts of devices by the hash of their token.
    posts: Keyed,
    /// Requests of other software by the hash of its token.
    reads: Keyed,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            attempts: Keyed::new(Quota::per_minute(ATTEMPTS_PER_MINUTE).allow_burst(ATTEMPT_BURST)),
            addresses: Keyed::new(Quota::per_minute(ADDRESS_ATTEMPTS_PER_MINUTE)),
            posts: Keyed::new(Quota::per_second(POSTS_PER_SECOND).allow_burst(POST_BURST)),
            reads: Keyed::new(Quota::per_second(READS_PER_SECOND).allow_burst(READ_BURST)),
        }
    }
}

impl Limits {
    /// Whether an address may try to sign in again now, whatever the names; failures of a name are counted in the
    /// database.
    pub fn address(&self, address: &str) -> bool {
        self.addresses.allows(key(&["sign in", address]))
    }

    /// Whether somebody who is signed in may type their own password again now.
    pub fn own_password(&self, user: i64) -> bool {
        self.attempts.allows(key(&["own password", &user.to_string()]))
    }

    /// Whether another refused attempt from an address is worth writing down: a flood of them is not.
    pub fn written(&self, address: &str) -> bool {
        self.attempts.allows(key(&["refused", address]))
    }

    /// Whether a device's token may post again now.
    pub fn post(&self, token_hash: &[u8]) -> bool {
        // It is a digest already.
        self.posts.allows(first_bytes(token_hash))
    }

    /// Whether other software may read by a token again now.
    pub fn reads(&self, token_hash: &[u8]) -> bool {
        // It is a digest already.
        self.reads.allows(first_bytes(token_hash))
    }

    /// Whether an address may try another unknown token: guessing is slowed down, and not written down.
    pub fn guess(&self, address: &str) -> bool {
        self.addresses.allows(key(&["token", address]))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentence_1_a_key_takes_the_same_room_whatever_is_sent_and_their_number_is_bounded() {
        let keyed = Keyed::new(Quota::per_minute(per(1)));
        let long = "x".repeat(500_000);
        assert_eq!(size_of_val(&key(&[&long])), 16);
        assert_ne!(key(&["a", "b"]), key(&["ab", ""]));
        for n in 0..2 * MOST_REMEMBERED {
            keyed.allows(key(&[&n.to_string()]));
        }
        assert!(keyed.limiter.len() <= MOST_REMEMBERED);
        assert!(!keyed.allows(key(&["a new one"])), "made up faster than they age");
    }

    #[test]
    fn sentence_3_one_person_does_not_use_up_the_tries_of_another() {
        let limits = Limits::default();
        while limits.own_password(1) {}
        assert!(limits.own_password(2));
        while limits.address("192.0.2.1") {}
        assert!(limits.address("192.0.2.2"));
    }
}
