//! `with`: any command, with the links' paths in its environment.

use std::ffi::OsString;
use std::path::Path;
use std::process::Command;

use super::install::Install;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::Project;
use crate::running::{Surroundings, become_it, target_here};
use crate::ui::Ui;

/// Run a command with the paths of the packages in its environment
///
/// The shelf is made right first, without a word where it is. The command finds `BIBLIOTAX_ROLE_INCLUDE` and the like, and
/// the packages' programs on its PATH; it runs in the folder where it is asked for, and ends as it ends.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax with -- make\n  bibliotax with -- sh -c 'cc -I \"$BIBLIOTAX_ROLE_INCLUDE\" -c main.c'"
)]
pub struct With {
    /// The target whose packages are meant
    #[arg(long, value_name = "TARGET")]
    target: Option<String>,
    /// Fail unless the lock is right already; write nothing but the shelf
    #[arg(long)]
    sealed: bool,
    /// Ask nobody over a network
    #[arg(long)]
    offline: bool,
    /// The command and its arguments
    #[arg(last = true, required = true, value_name = "COMMAND")]
    command: Vec<OsString>,
}

impl With {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        Install::before(self.sealed, self.offline).make_right(here, &ui.aside())?;
        let project = Project::without_lock(here)?;
        let target = target_here(&project, self.target.as_deref())?;
        let [program, arguments @ ..] = self.command.as_slice() else {
            return Err(Failure::new("defect", "a command line without a command was let through"));
        };
        let mut command = Command::new(program);
        command.args(arguments).current_dir(here);
        Surroundings::of(&project, target.as_deref())?.put_into(&mut command);
        become_it(&mut command)
    }
}
