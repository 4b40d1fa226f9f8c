//! One file for each command: its arguments, and what it does with the pieces of the other crates.

pub mod demo;
pub mod drop;
pub mod init;
pub mod install;
pub mod need;
pub mod publish;
pub mod registry;
pub mod resolve;
mod settle;
pub mod verify;

use std::path::PathBuf;

use crate::args::{Arguments, Command};
use crate::codes::Exit;
use crate::failure::Failure;
use crate::ui::Ui;

/// Runs the command that was asked for.
pub fn run(args: &Arguments, ui: &Ui) -> Result<Exit, Failure> {
    let here = working_folder(args)?;
    match &args.command {
        Command::Init(command) => command.run(&here, ui),
        Command::Need(command) => command.run(&here, ui),
        Command::Drop(command) => command.run(&here, ui),
        Command::Resolve(command) => command.run(&here, ui),
        Command::Install(command) => command.run(&here, ui),
        Command::Verify(command) => command.run(&here, ui),
        Command::Publish(command) => command.run(&here, ui),
        Command::Registry(command) => command.run(&here, ui),
        Command::Demo(command) => command.run(&here, ui),
    }
}

fn working_folder(args: &Arguments) -> Result<PathBuf, Failure> {
    let missing = |folder: &std::path::Path| {
        Failure::new("disk.missing", format!("there is no folder {}", folder.display()))
            .mend("check the path")
    };
    let current = std::env::current_dir().map_err(|_| missing(std::path::Path::new(".")))?;
    let Some(folder) = &args.global.directory else { return Ok(current) };
    let folder = current.join(folder);
    if folder.is_dir() { Ok(folder) } else { Err(missing(&folder)) }
}
