//! The options of every command that resolves.

use std::time::Duration;

use bibliotax_app::search_options::SearchOptions;
use bibliotax_core::name::PackageName;

/// How long a search may take, and how it is told.
#[derive(Debug, Clone, clap::Args)]
pub struct SearchArgs {
    /// Give up resolving after so many seconds
    #[arg(long, value_name = "SECONDS", default_value_t = SearchOptions::default().effort.as_secs())]
    effort: u64,
    /// Tell a long conflict with all its sentences
    #[arg(long)]
    pub long: bool,
    /// Accept that a registry changed what it had published of this package; may be given several times
    #[arg(long, value_name = "PACKAGE")]
    accept_changed: Vec<PackageName>,
}

impl SearchArgs {
    /// The options.
    pub fn options(&self) -> SearchOptions {
        SearchOptions {
            effort: Duration::from_secs(self.effort),
            in_full: self.long,
            accept_changed: self.accept_changed.clone(),
        }
    }
}
