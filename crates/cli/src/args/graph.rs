//! Options of `graph`.

use bibliotax_app::failure::Failure;
use bibliotax_app::graph::{Request, Shown};
use bibliotax_app::resolving::known_warnings;
use bibliotax_app::workspace::WorkspaceFolder;
use bibliotax_present::graph as drawn;

use super::projects::{LeaveOutArgs, ProjectArgs, TargetFilterArgs};
use crate::exit_status::Exit;
use crate::global::Format;
use crate::json::graph::DependencyGraph;
use crate::render;
use crate::run::Run;

/// Show the dependency graph
///
/// Each package is listed below what needs it; its own dependencies are listed once, where it is nearest to a project. Reads only
/// the lock.
///
/// `--format svg` draws a picture; `--format dot` and `--format mermaid` write the graph for other programs.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax graph\n  bibliotax graph --to dew-point\n  bibliotax graph --in hand-unit --leave-out test --depth 2\n  bibliotax graph --format svg > packages.svg"
)]
pub struct Graph {
    /// Show only the paths to this package
    #[arg(long, value_name = "PACKAGE")]
    to: Option<String>,
    /// Show only so many levels below a project
    #[arg(long, value_name = "STEPS")]
    depth: Option<usize>,
    #[command(flatten)]
    projects: ProjectArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
    #[command(flatten)]
    leave_out: LeaveOutArgs,
}

impl Graph {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let (ui, workspace) = (run.ui, WorkspaceFolder::find(run.folder())?);
        let request = Request {
            to: self.to.clone(),
            depth: self.depth,
            projects: self.projects.words(),
            targets: self.targets.targets.clone(),
            without: self.leave_out.purposes.clone(),
        };
        let shown = Shown::of(&workspace, &request)?;
        if !workspace.is_locked() {
            ui.warn("manifests changed since the lock was written; this shows the lock");
        }
        let graph = shown.graph();
        match ui.format() {
            Format::Dot => ui.answer_as_is(drawn::dot(&graph).trim_end()),
            Format::Mermaid => ui.answer_as_is(drawn::mermaid(&graph).trim_end()),
            Format::Svg => ui.answer_as_is(drawn::svg(&graph).trim_end()),
            Format::Text | Format::Json | Format::Markdown | Format::Sarif | Format::Csv => {
                render::graph::show(ui, &graph);
            }
        }
        render::warnings(ui, &known_warnings(&workspace, shown.lock(), &run.environment));
        ui.report(|| DependencyGraph::from(&graph));
        Ok(Exit::Done)
    }
}
