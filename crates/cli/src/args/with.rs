//! Options of `with`.

use std::ffi::OsString;
use std::process::Command;

use bibliotax_app::failure::Failure;
use bibliotax_app::programs::exec;
use bibliotax_app::workspace::WorkspaceFolder;

use super::projects::ProjectArgs;
use super::shelf::ShelfArgs;
use crate::exit_status::Exit;
use crate::run::Run;

/// Run a program with the packages in its environment
///
/// The shelf is brought up to date first. The program finds paths in variables such as `BIBLIOTAX_ROLE_INCLUDE`, and the programs of
/// direct dependencies at the end of its PATH. It runs in the current folder, and its exit status is passed on.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax with -- make\n  bibliotax with -- sh -c 'cc -I \"$BIBLIOTAX_ROLE_INCLUDE\" -c main.c'"
)]
pub struct With {
    #[command(flatten)]
    projects: ProjectArgs,
    #[command(flatten)]
    shelf: ShelfArgs,
    /// Pass the tokens for registries on, in BIBLIOTAX_TOKENS
    #[arg(long)]
    tokens: bool,
    /// The program and its arguments
    #[arg(last = true, required = true, value_name = "COMMAND")]
    command: Vec<OsString>,
}

impl With {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.shelf.network.offline);
        let workspace = WorkspaceFolder::without_lock(run.folder())?;
        let [program, arguments @ ..] = self.command.as_slice() else {
            return Err(Failure::new("defect", "a command line without a command was let through"));
        };
        let mut command = Command::new(program);
        command.args(arguments).current_dir(run.folder());
        let projects = self.projects.words();
        let variables = self.shelf.prepare(&workspace, &[projects.one(&workspace)?], run)?;
        variables.iter().for_each(|variables| variables.put_into(&mut command, self.tokens));
        exec(&mut command).map(Exit::Passed)
    }
}
