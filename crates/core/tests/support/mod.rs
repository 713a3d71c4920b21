//! What the property tests share.

use proptest::test_runner::{Config, FileFailurePersistence};

/// So many cases, or those that `UPLAND_CASES` asks for; what fails is kept in a file and tried first from then on.
pub fn cases(count: u32, kept: &'static str) -> Config {
    let asked = std::env::var("UPLAND_CASES").ok().and_then(|n| n.parse().ok());
    Config {
        failure_persistence: Some(Box::new(FileFailurePersistence::Direct(kept))),
        ..Config::with_cases(asked.unwrap_or(count))
    }
}
