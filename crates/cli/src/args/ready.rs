//! Options of `ready`.

use bibliotax_app::failure::Failure;
use bibliotax_app::ready;

use super::offline::OfflineArgs;
use super::projects::ProjectFilterArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Check that this machine is ready for the project
///
/// Looks for the programs that manifests and locked packages require and checks their versions, compares the machine with the
/// targets, and opens registries and store. Exits with status 1 if there is a problem.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax ready\n  bibliotax ready --target hand-unit")]
pub struct Ready {
    /// Require that this machine can be this target
    #[arg(long, value_name = "TARGET")]
    target: Option<String>,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    network: OfflineArgs,
}

impl Ready {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.network.offline);
        let projects = self.projects.words();
        let report = run.working(|context| ready::report(self.target.as_deref(), &projects, context))?;
        Ok(if render::ready::show(run.ui, &report) == 0 { Exit::Done } else { Exit::Differs })
    }
}
