//! A signal that an answer isn't wanted any more.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Tells a search in another thread that nobody waits for it any more. Its copies are the same signal.
#[derive(Debug, Clone, Default)]
pub struct Stop(Arc<AtomicBool>);

impl Stop {
    /// Asks for an end.
    pub fn stop(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether the work has to stop.
    pub fn is_stopped(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}
