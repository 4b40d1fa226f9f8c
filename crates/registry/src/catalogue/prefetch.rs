//! Fetches packages before the resolver asks for them, in a few threads that guess what comes next.
//!
//! The answer for a package is the same whether or not it was prefetched, and in any order in which
//! the threads came to it. What failed ahead is looked up again when it is asked for, so that only what matters is
//! an error.

use std::collections::{HashMap, VecDeque};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, OnceLock, PoisonError};
use std::thread;

use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::Listing;

/// Most threads that look up; more wait for one disk.
const MAX_FETCHERS: usize = 16;

/// What is known of packages, and who looks up more.
pub struct Prefetcher {
    shared: Arc<Shared>,
    fetchers: usize,
    started: OnceLock<()>,
}

#[derive(Default)]
struct Shared {
    state: Mutex<State>,
    /// Told whenever something becomes known or wanted, or all is over.
    changed: Condvar,
}

#[derive(Default)]
struct State {
    packages: HashMap<PackageName, Slot>,
    wanted: VecDeque<PackageName>,
    is_over: bool,
}

enum Slot {
    Wanted,
    InWork,
    Known(Option<Arc<Listing>>),
}

impl Default for Prefetcher {
    fn default() -> Self {
        // The thread that asks is busy with answers most of the time, so it doesn't count.
        Self::new(thread::available_parallelism().map_or(0, |cores| cores.get().min(MAX_FETCHERS)))
    }
}

impl Prefetcher {
    /// So many threads, which start when something is expected.
    pub fn new(fetchers: usize) -> Self {
        Self { shared: Arc::default(), fetchers, started: OnceLock::new() }
    }

    /// What is known of a package: looked up here, unless some thread has done that or is at it.
    pub fn get<E>(
        &self,
        package: &PackageName,
        look_up: impl FnOnce(&PackageName) -> Result<Option<Arc<Listing>>, E>,
    ) -> Result<Option<Arc<Listing>>, E> {
        let mut state = self.shared.lock();
        loop {
            match state.packages.get(package) {
                Some(Slot::Known(listing)) => return Ok(listing.clone()),
                Some(Slot::InWork) => state = self.shared.wait(state),
                Some(Slot::Wanted) | None => break,
            }
        }
        state.packages.insert(package.clone(), Slot::InWork);
        drop(state);
        let found = look_up(package);
        self.shared.know(package, found.as_ref().ok().cloned());
        found
    }

    /// Looks packages up in the background, and what the newest release of each needs.
    pub fn prefetch(
        &self,
        packages: &[PackageName],
        look_up: impl Fn(&PackageName) -> Option<Option<Arc<Listing>>> + Send + Sync + 'static,
    ) {
        if self.fetchers == 0 {
            return;
        }
        self.shared.want(packages.iter());
        self.started.get_or_init(|| {
            let look_up = Arc::new(look_up);
            for _ in 0..self.fetchers {
                let (shared, look_up) = (Arc::clone(&self.shared), Arc::clone(&look_up));
                thread::spawn(move || shared.work(|package| look_up(package)));
            }
        });
    }
}

impl Drop for Prefetcher {
    fn drop(&mut self) {
        let mut state = self.shared.lock();
        state.is_over = true;
        let packages = std::mem::take(&mut state.packages);
        drop(state);
        self.shared.changed.notify_all();
        // Giving back thousands of histories piece by piece takes a while that nobody has to wait for.
        let _ = thread::Builder::new().spawn(move || drop(packages));
    }
}

impl Shared {
    fn lock(&self) -> MutexGuard<'_, State> {
        // A panic elsewhere can't leave the state half-changed: each change is one insertion.
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn wait<'s>(&self, state: MutexGuard<'s, State>) -> MutexGuard<'s, State> {
        self.changed.wait(state).unwrap_or_else(PoisonError::into_inner)
    }

    fn want<'p>(&self, packages: impl Iterator<Item = &'p PackageName>) {
        let mut state = self.lock();
        for package in packages {
            if !state.packages.contains_key(package) {
                state.packages.insert(package.clone(), Slot::Wanted);
                state.wanted.push_back(package.clone());
            }
        }
        drop(state);
        self.changed.notify_all();
    }

    /// Notes what was found of a package; `None` where looking it up failed.
    fn know(&self, package: &PackageName, found: Option<Option<Arc<Listing>>>) {
        let mut state = self.lock();
        match found {
            Some(listing) => state.packages.insert(package.clone(), Slot::Known(listing)),
            None => state.packages.remove(package),
        };
        drop(state);
        self.changed.notify_all();
    }

    fn work(&self, look_up: impl Fn(&PackageName) -> Option<Option<Arc<Listing>>>) {
        while let Some(package) = self.next() {
            // A caller that asks for it meets the same panic; here it would leave them waiting.
            let found = catch_unwind(AssertUnwindSafe(|| look_up(&package))).ok().flatten();
            let listing = found.clone().flatten();
            self.know(&package, found);
            let newest = listing.as_ref().and_then(|listing| listing.history.releases().last());
            let needs = newest.into_iter().flat_map(|release| release.entry.running_needs());
            self.want(needs.map(|need| &need.name));
        }
    }

    /// The next package to look up; `None` when all is over.
    fn next(&self) -> Option<PackageName> {
        let mut state = self.lock();
        loop {
            if state.is_over {
                return None;
            }
            while let Some(package) = state.wanted.pop_front() {
                if let Some(slot @ Slot::Wanted) = state.packages.get_mut(&package) {
                    *slot = Slot::InWork;
                    return Some(package);
                }
            }
            state = self.wait(state);
        }
    }
}
