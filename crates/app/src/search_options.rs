//! The options of every use case that resolves.

use std::time::Duration;

use bibliotax_core::name::PackageName;

/// How problems are solved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SearchOptions {
    /// How long a search may take.
    pub effort: Duration,
    /// Whether a long conflict is shown with all its sentences.
    pub in_full: bool,
    /// The packages of which it is accepted that a registry changed what it had published.
    pub accept_changed: Vec<PackageName>,
    /// Whether feeds of advisories are asked for again that were a while ago.
    pub asks_anew: bool,
}

impl Default for SearchOptions {
    fn default() -> Self {
        Self { effort: Duration::from_secs(30), in_full: false, accept_changed: Vec::new(), asks_anew: false }
    }
}
