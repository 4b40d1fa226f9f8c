//! The hosts that this process waits for, to show them to a person.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

/// The hosts that this process waits for.
#[derive(Clone, Default)]
pub struct PendingHosts {
    shared: Arc<Shared>,
}

#[derive(Default)]
struct Shared {
    open: Mutex<Open>,
    /// What is done once, before the first wait begins.
    before_first: Option<fn(PendingHosts)>,
    has_begun: OnceLock<()>,
    /// Hears of each request that is over, where somebody wants to.
    on_request: OnceLock<fn(&Request<'_>)>,
    /// How many requests are over.
    answers: AtomicU64,
}

/// A request that is over.
#[derive(Debug, Clone, Copy)]
pub struct Request<'r> {
    /// What was asked: a method and a URL.
    pub asked: &'r str,
    /// What came of it: a status or an error.
    pub answer: &'r str,
    /// How long it took.
    pub took: Duration,
}

#[derive(Default)]
struct Open {
    number: u64,
    waits: BTreeMap<u64, (Arc<str>, Instant)>,
}

/// A wait, which is over when this goes.
pub struct Wait {
    waits: PendingHosts,
    number: u64,
}

impl PendingHosts {
    /// Nobody yet; `before_first` begins to watch before the first wait does.
    pub fn watched_by(before_first: fn(Self)) -> Self {
        Self { shared: Arc::new(Shared { before_first: Some(before_first), ..Shared::default() }) }
    }

    /// From now on, `on_request` hears of each request that is over.
    pub fn show_requests(&self, on_request: fn(&Request<'_>)) {
        self.shared.on_request.get_or_init(|| on_request);
    }

    /// What hears of requests, if anything does: only then is it worth to put them into words.
    pub(crate) fn on_request(&self) -> Option<fn(&Request<'_>)> {
        self.shared.on_request.get().copied()
    }

    /// Counts a request that is over.
    pub(crate) fn count(&self) {
        self.shared.answers.fetch_add(1, Ordering::Relaxed);
    }

    /// How many requests are over.
    pub fn answers(&self) -> u64 {
        self.shared.answers.load(Ordering::Relaxed)
    }

    /// The host that it has waited for longest.
    pub fn longest(&self) -> Option<Arc<str>> {
        let open = self.open();
        let longest = open.waits.values().min_by_key(|(_, since)| *since);
        longest.map(|(subject, _)| Arc::clone(subject))
    }

    /// Begins to wait for somebody.
    pub(crate) fn begin(&self, subject: &Arc<str>) -> Wait {
        self.shared.has_begun.get_or_init(|| {
            if let Some(before_first) = self.shared.before_first {
                before_first(self.clone());
            }
        });
        let mut open = self.open();
        open.number += 1;
        let number = open.number;
        open.waits.insert(number, (Arc::clone(subject), Instant::now()));
        Wait { waits: self.clone(), number }
    }

    /// The hosts that it has waited for at least this long, each once.
    pub fn longer_than(&self, least: Duration) -> Vec<Arc<str>> {
        let open = self.open();
        let long = open.waits.values().filter(|(_, since)| since.elapsed() >= least);
        let mut subject: Vec<Arc<str>> = long.map(|(subject, _)| Arc::clone(subject)).collect();
        subject.sort();
        subject.dedup();
        subject
    }

    fn open(&self) -> MutexGuard<'_, Open> {
        self.shared.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl fmt::Debug for PendingHosts {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.longer_than(Duration::ZERO)).finish()
    }
}

impl Drop for Wait {
    fn drop(&mut self) {
        self.waits.open().waits.remove(&self.number);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_is_waited_for_is_known_until_the_wait_is_over() {
        let (waits, moss, dew) = (PendingHosts::default(), Arc::from("moss"), Arc::from("dew"));
        let held = [waits.begin(&moss), waits.begin(&dew), waits.begin(&moss)];
        assert_eq!(waits.longer_than(Duration::ZERO), [Arc::clone(&dew), Arc::clone(&moss)]);
        assert!(waits.longer_than(Duration::from_secs(60)).is_empty());
        assert_eq!(waits.longest(), Some(moss));
        drop(held);
        assert!(waits.longer_than(Duration::ZERO).is_empty());
    }
}
