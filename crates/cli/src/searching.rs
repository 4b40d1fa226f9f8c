//! The options of every command that resolves.

use std::time::Duration;

use bibliotax_core::name::PackageName;

/// How long a search may take, and how it is told.
#[derive(Debug, Clone, clap::Args)]
pub struct Searching {
    /// Give up resolving after so many seconds
    #[arg(long, value_name = "SECONDS", default_value_t = Searching::default().effort)]
    effort: u64,
    /// Tell a long conflict with all its sentences
    #[arg(long)]
    pub long: bool,
    /// Accept that a registry changed what it had published of this package; may be given several times
    #[arg(long, value_name = "PACKAGE")]
    pub accept_changed: Vec<PackageName>,
}

impl Default for Searching {
    fn default() -> Self {
        Self { effort: 30, long: false, accept_changed: Vec::new() }
    }
}

impl Searching {
    /// How long a search may take.
    pub fn effort(&self) -> Duration {
        Duration::from_secs(self.effort)
    }
}
