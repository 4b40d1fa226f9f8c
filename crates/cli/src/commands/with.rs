//! `with`: any command, with the links' paths in its environment.

use std::ffi::OsString;
use std::path::Path;
use std::process::Command;

use super::on_shelf::OnShelf;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::{In, Project};
use crate::running::become_it;
use crate::ui::Ui;

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
    members: In,
    #[command(flatten)]
    shelf: OnShelf,
    /// Let the command have the tokens for registries in BIBLIOTAX_TOKENS
    #[arg(long)]
    tokens: bool,
    /// The command and its arguments
    #[arg(last = true, required = true, value_name = "COMMAND")]
    command: Vec<OsString>,
}

impl With {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = Project::without_lock(here)?;
        let [program, arguments @ ..] = self.command.as_slice() else {
            return Err(Failure::new("defect", "a command line without a command was let through"));
        };
        let mut command = Command::new(program);
        command.args(arguments).current_dir(here);
        let member = self.members.one(&project)?;
        let surroundings = self.shelf.surroundings(here, &project, &[member], ui)?;
        surroundings.iter().for_each(|surroundings| surroundings.put_into(&mut command, self.tokens));
        become_it(&mut command)
    }
}
