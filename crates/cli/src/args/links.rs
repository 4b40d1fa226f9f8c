//! Options of `links`.

use bibliotax_app::failure::Failure;
use bibliotax_app::links::{self, Request};
use bibliotax_app::workspace::WorkspaceFolder;

use super::projects::{ProjectFilterArgs, TargetFilterArgs};
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// List the files for build tools, with the line that each tool needs
///
/// `[links] for = ["make", "cmake"]` in the manifest says for which tools files are made: make, cmake, meson, pkg-config, compile-flags,
/// python-path, import-map, node-path, class-path, shell and vscode. Templates in `links/` make files for other tools.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax links\n  bibliotax links cmake --target hand-unit")]
pub struct Links {
    /// Only for this tool
    #[arg(value_name = "TOOL")]
    tools: Vec<String>,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
}

impl Links {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request {
            tools: self.tools.clone(),
            projects: self.projects.words(),
            targets: self.targets.targets.clone(),
        };
        let report = links::list(&request, &WorkspaceFolder::find(run.folder())?)?;
        render::links::show(run.ui, &report);
        Ok(Exit::Done)
    }
}
