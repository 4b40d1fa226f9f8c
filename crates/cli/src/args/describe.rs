//! Options of `describe`.

use bibliotax_app::describe::{self, Report, Request};
use bibliotax_app::failure::Failure;

use super::offline::OfflineArgs;
use super::projects::{ProjectFilterArgs, TargetFilterArgs};
use super::registries::RegistryFilterArgs;
use crate::exit_status::Exit;
use crate::render::describe as render;
use crate::run::Run;

/// Show everything about a package
///
/// Shows what it is, whether it fits the project's targets, its dependencies, files and releases, and the line that declares it.
/// By default for the newest release that fits, else for the newest.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax describe soil-curve\n  bibliotax describe soil-curve 1.7.0\n  bibliotax describe soil-curve --releases"
)]
pub struct Describe {
    /// The package
    #[arg(value_name = "PACKAGE")]
    package: String,
    /// The version [default: the newest that fits]
    #[arg(value_name = "VERSION")]
    version: Option<String>,
    /// List all releases
    #[arg(long)]
    releases: bool,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
    #[command(flatten)]
    registries: RegistryFilterArgs,
    #[command(flatten)]
    network: OfflineArgs,
}

impl Describe {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.network.offline);
        let request = Request {
            package: self.package.clone(),
            registries: self.registries.registries.clone(),
            projects: self.projects.words(),
            targets: self.targets.targets.clone(),
            version: self.version.clone(),
        };
        match run.working(|context| describe::report(&request, context))? {
            Report::Ambiguous { sources, failure } => {
                render::sources::show(run.ui, &sources);
                return Err(failure);
            }
            Report::Capability { name, providers } => render::show_capability(run.ui, &name, &providers),
            Report::Package(described) => {
                render::show(run.ui, &described, self.releases, run.environment.now);
            }
        }
        Ok(Exit::Done)
    }
}
