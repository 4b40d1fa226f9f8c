//! Locks a mutex even after a panic in another thread.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// Locks a shared value, also after another thread panicked with it: every change leaves it consistent at each step.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
