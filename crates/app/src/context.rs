//! Where a use case runs: environment, folder, listener.

use std::path::Path;

use bibliotax_core::progress::ProgressListener;

use crate::environment::Environment;

/// Where and how a use case runs.
#[derive(Clone, Copy)]
pub struct Context<'c> {
    /// What the machine and the person say.
    pub environment: &'c Environment,
    /// The folder in which it runs.
    pub folder: &'c Path,
    /// Hears of progress.
    pub listener: &'c dyn ProgressListener,
}
