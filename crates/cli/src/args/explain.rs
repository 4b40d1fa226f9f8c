//! Options of `explain`.

use bibliotax_app::explain::{self, Answer, Request};
use bibliotax_app::failure::Failure;
use bibliotax_app::workspace::WorkspaceFolder;

use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Tell why a package is here at its version, or why it can't be another
///
/// Without a range: the shortest ways from the project to the package, and what keeps newer releases out.
/// With one: why the package can't be in it, with ways out; or that it could be, and what would move.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax explain dew-point\n  bibliotax explain dew-point 2")]
pub struct Explain {
    /// The package, and the range to ask about if there is one
    #[arg(required = true, value_name = "PACKAGE [RANGE]")]
    words: Vec<String>,
    #[command(flatten)]
    search: SearchArgs,
}

impl Explain {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request::new(&self.words, self.search.options())?;
        let workspace = WorkspaceFolder::find(run.folder())?;
        let report = run.working(|context| explain::report(&workspace, &request, context))?;
        render::explain::show(run.ui, &report.answer, workspace.needed_lock()?, self.search.long);
        render::warnings(run.ui, &report.warnings);
        let is_possible = !matches!(report.answer, Answer::NotPossible(_));
        Ok(if is_possible { Exit::Done } else { Exit::of_code("resolve.conflict") })
    }
}
