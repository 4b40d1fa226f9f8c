//! Random waits, so that many clients that failed together do not retry together.

use std::time::Duration;

/// A time between none and all of this one.
pub fn share_of(whole: Duration) -> Duration {
    whole.mul_f64(fastrand::f64())
}

/// A time between half and all of this one.
pub fn with_jitter(wait: Duration) -> Duration {
    wait / 2 + share_of(wait / 2)
}
