//! Random waits, so that many clients that failed together do not retry together.

use std::time::Duration;

use ring::rand::{SecureRandom, SystemRandom};

/// A time between none and all of this one.
pub fn share_of(whole: Duration) -> Duration {
    let mut random = [0; 1];
    // Without random numbers it is the whole time.
    let share = SystemRandom::new().fill(&mut random).map_or(255, |()| u32::from(random[0]));
    whole * share / 255
}

/// A time between half and all of this one.
pub fn with_jitter(wait: Duration) -> Duration {
    wait / 2 + share_of(wait / 2)
}
