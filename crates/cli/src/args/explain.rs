//! Options of `explain`.

use bibliotax_app::explain::{self, Answer, Request};
use bibliotax_app::failure::Failure;
use bibliotax_app::workspace::WorkspaceFolder;

use super::projects::{ProjectFilterArgs, TargetFilterArgs};
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Explain why a package is locked at its version, or can't be at another
///
/// Without a range: shows the shortest paths from the project to the package, and what holds newer releases back. With a range:
/// shows why the package can't have a version in it, and ways out; or what would change if it did.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax explain dew-point\n  bibliotax explain dew-point 2")]
pub struct Explain {
    /// The package, and the range to ask about
    #[arg(required = true, value_name = "PACKAGE [RANGE]")]
    words: Vec<String>,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
    #[command(flatten)]
    search: SearchArgs,
}

impl Explain {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &self.search.run(run);
        let request = Request::new(
            &self.words,
            self.projects.words(),
            self.targets.targets.clone(),
            self.search.options(),
        )?;
        let workspace = WorkspaceFolder::find(run.folder())?;
        let report = run.working(|context| explain::report(&workspace, &request, context))?;
        render::explain::show(run.ui, &report.answer, workspace.needed_lock()?, self.search.long);
        render::warnings(run.ui, &report.warnings);
        let is_possible = !matches!(report.answer, Answer::NotPossible(_));
        Ok(if is_possible { Exit::Done } else { Exit::of_code("resolve.conflict") })
    }
}
