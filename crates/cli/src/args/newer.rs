//! Options of `newer`.

use bibliotax_app::failure::Failure;
use bibliotax_app::newer::{self, Request};
use bibliotax_app::workspace::WorkspaceFolder;

use super::projects::{ProjectFilterArgs, TargetFilterArgs};
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// List available updates, and what holds them back
///
/// For each locked package: what `bibliotax update` would use, what newer releases there are and which packages hold them back,
/// what changed, and whether the locked release is deprecated or withdrawn. Writes nothing.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax newer\n  bibliotax newer --direct")]
pub struct Newer {
    /// Packages to check [default: all locked ones]
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Only direct dependencies
    #[arg(long)]
    direct: bool,
    /// Also ask upstream, where cards say that releases appear
    #[arg(long)]
    upstream: bool,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
    #[command(flatten)]
    search: SearchArgs,
}

impl Newer {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &self.search.run(run);
        let request = Request {
            packages: self.packages.clone(),
            is_direct: self.direct,
            projects: self.projects.words(),
            targets: self.targets.targets.clone(),
            asks_upstream: self.upstream,
            options: self.search.options(),
        };
        let workspace = WorkspaceFolder::find(run.folder())?;
        let report = run.working(|context| newer::report(&workspace, &request, context))?;
        render::newer::show(run.ui, &report);
        Ok(Exit::Done)
    }
}
