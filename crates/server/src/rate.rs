//! Rate limits per client: a token bucket.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Most clients that are kept in mind; the fullest buckets are forgotten first, for they say nothing.
const MAX_CLIENTS: usize = 10_000;

/// How much a client may ask.
#[derive(Debug, Clone, Copy)]
pub struct Rate {
    /// Requests a second, in the long run.
    pub steady: f64,
    /// Requests at once.
    pub burst: f64,
}

/// What is left for each client.
#[derive(Debug)]
pub struct Buckets {
    rate: Rate,
    left: Mutex<HashMap<String, (f64, Instant)>>,
}

impl Buckets {
    /// Full buckets for everybody.
    pub fn new(rate: Rate) -> Self {
        Self { rate, left: Mutex::default() }
    }

    /// Takes one request from a client's bucket; how long to wait where it is empty.
    pub fn take(&self, client: &str, now: Instant) -> Result<(), Duration> {
        let mut left = self.left.lock().unwrap_or_else(PoisonError::into_inner);
        let Rate { steady, burst } = self.rate;
        let filled = |(left, since): &(f64, Instant)| {
            (left + now.duration_since(*since).as_secs_f64() * steady).min(burst)
        };
        if left.len() >= MAX_CLIENTS && !left.contains_key(client) {
            left.retain(|_, bucket| filled(bucket) < burst);
        }
        let there = left.get(client).map_or(burst, filled);
        if there < 1.0 {
            return Err(Duration::from_secs_f64((1.0 - there) / steady));
        }
        left.insert(client.to_owned(), (there - 1.0, now));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bucket_empties_and_fills_again_for_each_client_by_itself() {
        let buckets = Buckets::new(Rate { steady: 2.0, burst: 3.0 });
        let now = Instant::now();
        let taken = (0..5).filter(|_| buckets.take("one", now).is_ok()).count();
        assert_eq!(taken, 3);
        assert!(buckets.take("other", now).is_ok());
        let wait = buckets.take("one", now).unwrap_err();
        assert!(wait > Duration::from_millis(400) && wait <= Duration::from_millis(500), "{wait:?}");
        assert!(buckets.take("one", now + wait).is_ok());
    }
}
