//! The options of every command that resolves.

use std::time::Duration;

use bibliotax_app::search_options::SearchOptions;
use bibliotax_core::name::PackageName;

use super::offline::OfflineArgs;
use crate::run::Run;

/// How long resolving may take, and how conflicts are shown.
#[derive(Debug, Clone, clap::Args)]
pub struct SearchArgs {
    #[command(flatten)]
    network: OfflineArgs,
    /// Stop resolving after so many seconds
    #[arg(long, value_name = "SECONDS", default_value_t = SearchOptions::default().effort.as_secs())]
    effort: u64,
    /// Show all sentences of a long conflict
    #[arg(long)]
    pub long: bool,
    /// Accept that a registry changed published data of this package
    #[arg(long, value_name = "PACKAGE", value_delimiter = ',')]
    accept_changed: Vec<PackageName>,
}

impl SearchArgs {
    /// What the command runs with, without a network where that is asked for.
    pub fn run<'r>(&self, run: &Run<'r>) -> Run<'r> {
        run.offline_if(self.network.offline)
    }

    /// The options.
    pub fn options(&self) -> SearchOptions {
        SearchOptions {
            effort: Duration::from_secs(self.effort),
            in_full: self.long,
            accept_changed: self.accept_changed.clone(),
            asks_anew: false,
        }
    }
}
