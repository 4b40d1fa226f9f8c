//! Options of `describe`.

use bibliotax_app::describe::{self, Report, Request};
use bibliotax_app::failure::Failure;

use super::lookup::LookupArgs;
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
    lookup: LookupArgs,
}

impl Describe {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.lookup.network.offline);
        let request = Request {
            package: self.package.clone(),
            registries: self.lookup.registries.clone(),
            projects: self.lookup.projects.words(),
            targets: self.lookup.targets.targets.clone(),
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
