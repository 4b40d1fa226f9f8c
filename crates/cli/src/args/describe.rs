//! Options of `describe`.

use bibliotax_app::describe::{self, Report, Request};
use bibliotax_app::failure::Failure;

use crate::exit_status::Exit;
use crate::render::describe as render;
use crate::run::Run;

/// Tell all that is known of a package
///
/// What it is, whether it fits the project's targets, what it needs and brings, its releases, and the line to declare
/// it with. Without a version of the newest release that fits, or the newest there is.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax describe soil-curve\n  bibliotax describe soil-curve 1.7.0\n  bibliotax describe soil-curve --releases"
)]
pub struct Describe {
    /// The package
    #[arg(value_name = "PACKAGE")]
    package: String,
    /// One of its versions
    #[arg(value_name = "VERSION")]
    version: Option<String>,
    /// List all releases
    #[arg(long)]
    releases: bool,
}

impl Describe {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request { package: self.package.clone(), version: self.version.clone() };
        match run.working(|context| describe::report(&request, context))? {
            Report::Ambiguous { sources, failure } => {
                render::sources::show(run.ui, &sources);
                return Err(failure);
            }
            Report::Capability { name, providers } => render::show_capability(run.ui, &name, &providers),
            Report::Package(described) => render::show(run.ui, &described, self.releases),
        }
        Ok(Exit::Done)
    }
}
