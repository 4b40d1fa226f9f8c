//! Mutexes that a panicking thread doesn't take with it.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// What a mutex guards. Each change of it is one step, so a thread that panicked left it whole.
pub fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
