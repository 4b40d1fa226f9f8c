//! Retries of requests that may succeed later.

use std::cell::Cell;
use std::rc::Rc;
use std::thread;
use std::time::{Duration, Instant};

use backon::{BlockingRetryable, ExponentialBuilder};

use super::request_error::RequestError;
use crate::model::jitter::with_jitter;

/// How often a request is tried that may be tried again.
const MAX_TRIES: usize = 5;

/// What is waited before the second try; doubled for each further one.
const FIRST_RETRY_DELAY: Duration = Duration::from_millis(150);

/// Longest wait that a server can ask for; a longer one is an error instead.
const MAX_RETRY_DELAY: Duration = Duration::from_secs(20);

/// Tries until it works, is refused for good, or was tried often enough; where nothing was heard for half of `silence`, no more.
pub fn retry<T>(silence: Duration, attempt: impl Fn() -> Result<T, RequestError>) -> Result<T, RequestError> {
    let (unanswered, asked_for) = (Cell::new(Duration::ZERO), Rc::new(Cell::new(None)));
    let wish = asked_for.clone();
    let timed = || {
        let begun = Instant::now();
        attempt().inspect_err(|error| {
            let silent = if error.is_silence { begun.elapsed() } else { Duration::ZERO };
            unanswered.set(unanswered.get() + silent);
            asked_for.set(error.wait);
        })
    };
    let may_help = |error: &RequestError| {
        let is_soon = error.wait.is_none_or(|wait| wait <= MAX_RETRY_DELAY);
        error.is_passing && is_soon && unanswered.get() <= silence / 2
    };
    let backoff = ExponentialBuilder::default().with_min_delay(FIRST_RETRY_DELAY).with_factor(2.0);
    let backoff = backoff.with_max_times(MAX_TRIES - 1);
    // A server may say itself when to ask again.
    let sleep = move |wait| thread::sleep(wish.take().unwrap_or_else(|| with_jitter(wait)));
    timed.retry(backoff).when(may_help).sleep(sleep).call()
}
