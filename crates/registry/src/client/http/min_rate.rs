//! A minimum rate for bodies, so that a slow server cannot hold a command for as long as it likes.

use std::fmt;
use std::io::{self, Read};
use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::client::pending_hosts::PendingHosts;

/// Fewest bytes in a second, over a whole window.
const MIN_RATE: u64 = 1 << 10;

/// A body that is watched. Only the time spent waiting for it counts, not what is done with it.
pub struct MinRateReader<R> {
    inner: R,
    window: Duration,
    waited: Duration,
    came: u64,
    waits: PendingHosts,
    /// Who sends it.
    subject: Arc<str>,
}

/// That a body came too slowly.
#[derive(Debug)]
pub struct TooSlow;

impl TooSlow {
    /// Whether this is why reading failed.
    pub fn is(error: &io::Error) -> bool {
        error.get_ref().is_some_and(<dyn std::error::Error + Send + Sync>::is::<Self>)
    }
}

/// Whether reading failed because nothing came for too long.
pub fn is_timeout(error: &io::Error) -> bool {
    let inner = error.get_ref().and_then(<dyn std::error::Error + Send + Sync>::downcast_ref);
    error.kind() == io::ErrorKind::TimedOut || inner.is_some_and(reqwest::Error::is_timeout)
}

impl fmt::Display for TooSlow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("it sends less than 1 KiB a second")
    }
}

impl std::error::Error for TooSlow {}

impl<R> MinRateReader<R> {
    /// A body that is looked at each time that it was waited for this long.
    pub fn new(inner: R, window: Duration, waits: &PendingHosts, subject: &Arc<str>) -> Self {
        let (waits, subject) = (waits.clone(), Arc::clone(subject));
        Self { inner, window, waited: Duration::ZERO, came: 0, waits, subject }
    }
}

impl<R: Read> Read for MinRateReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let begun = Instant::now();
        let wait = self.waits.begin(&self.subject);
        let read = self.inner.read(buffer)?;
        drop(wait);
        self.waited += begun.elapsed();
        self.came += read as u64;
        if read > 0 && self.waited >= self.window {
            let least = u128::from(MIN_RATE) * self.waited.as_millis() / 1000;
            if u128::from(self.came) < least {
                return Err(io::Error::new(io::ErrorKind::TimedOut, TooSlow));
            }
            (self.waited, self.came) = (Duration::ZERO, 0);
        }
        Ok(read)
    }
}
