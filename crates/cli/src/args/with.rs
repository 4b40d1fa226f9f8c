//! Options of `with`.

use std::ffi::OsString;
use std::process::Command;

use bibliotax_app::failure::Failure;
use bibliotax_app::programs::exec;
use bibliotax_app::workspace::WorkspaceFolder;

use super::members::MemberArgs;
use super::shelf::ShelfArgs;
use crate::exit_status::Exit;
use crate::run::Run;

/// Run a command with the paths of the packages in its environment
///
/// The shelf is made right first, without a word where it is. The command finds `BIBLIOTAX_ROLE_INCLUDE` and the like, and
/// on its PATH, after the system's, the programs of the packages that the project itself needs. It runs in the folder
/// where it is asked for, and ends as it ends.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax with -- make\n  bibliotax with -- sh -c 'cc -I \"$BIBLIOTAX_ROLE_INCLUDE\" -c main.c'"
)]
pub struct With {
    #[command(flatten)]
    members: MemberArgs,
    #[command(flatten)]
    shelf: ShelfArgs,
    /// Let the command have the tokens for registries in BIBLIOTAX_TOKENS
    #[arg(long)]
    tokens: bool,
    /// The command and its arguments
    #[arg(last = true, required = true, value_name = "COMMAND")]
    command: Vec<OsString>,
}

impl With {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.shelf.offline);
        let workspace = WorkspaceFolder::without_lock(run.folder())?;
        let [program, arguments @ ..] = self.command.as_slice() else {
            return Err(Failure::new("defect", "a command line without a command was let through"));
        };
        let mut command = Command::new(program);
        command.args(arguments).current_dir(run.folder());
        let members = self.members.words();
        let variables = self.shelf.prepare(&workspace, &[members.one(&workspace)?], run)?;
        variables.iter().for_each(|variables| variables.put_into(&mut command, self.tokens));
        exec(&mut command).map(Exit::Passed)
    }
}
