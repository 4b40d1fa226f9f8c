//! Locks a mutex even after a panic in another thread.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// Locks what is shared, also after another thread panicked with it: whoever changes it leaves it whole at every step.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
