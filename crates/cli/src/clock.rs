//! What time it is.

use jiff::Timestamp;

/// Now, in whole seconds, or the time that SOURCE_DATE_EPOCH says (Reproducible Builds specification).
pub fn now() -> Timestamp {
    let given = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|text| text.parse().ok());
    let given = given.and_then(|seconds| Timestamp::from_second(seconds).ok());
    let now = Timestamp::now();
    given.or_else(|| Timestamp::from_second(now.as_second()).ok()).unwrap_or(now)
}
