//! Options of commands that look packages up, inside and outside of a project.

use super::offline::OfflineArgs;
use super::projects::{ProjectFilterArgs, TargetFilterArgs};

/// What packages are looked up for, and where.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct LookupArgs {
    #[command(flatten)]
    pub projects: ProjectFilterArgs,
    #[command(flatten)]
    pub targets: TargetFilterArgs,
    /// Look only in this registry: a declared name, a folder or a URL. Also outside of a project
    #[arg(long = "registry", value_name = "REGISTRY", value_delimiter = ',')]
    pub registries: Vec<String>,
    #[command(flatten)]
    pub network: OfflineArgs,
}
