//! Options of `manual`.

use std::path::{Path, PathBuf};

use bibliotax_app::failure::Failure;
use bibliotax_disk::error::At;
use bibliotax_disk::write::{make_folder, write_whole};
use bibliotax_present::words::count;
use clap::{Command, CommandFactory};

use super::Arguments;
use crate::exit_status::Exit;
use crate::json;
use crate::run::Run;

/// Write manual pages for `man`, one for each command
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax manual ~/.local/share/man/man1")]
pub struct Manual {
    /// The folder to write them to
    folder: PathBuf,
}

impl Manual {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let folder = run.folder().join(&self.folder);
        make_folder(&folder)?;
        let mut command = Arguments::command();
        command.build();
        let mut written = Vec::new();
        write_pages(&command, "bibliotax", &folder, &mut written)?;
        run.ui.say(format!("wrote {} to {}", count(written.len(), "page"), self.folder.display()));
        run.ui.report(|| json::machine::Manual { folder: self.folder.display().to_string(), pages: written });
        Ok(Exit::Done)
    }
}

/// Writes the page of a command, named after all commands above it, and those of the commands below it.
fn write_pages(
    command: &Command,
    name: &str,
    folder: &Path,
    written: &mut Vec<String>,
) -> Result<(), Failure> {
    let file = format!("{name}.1");
    let path = folder.join(&file);
    let mut page = Vec::new();
    clap_mangen::Man::new(command.clone().name(name.to_owned())).render(&mut page).at("write", &path)?;
    write_whole(&path, &page)?;
    written.push(file);
    for sub in command.get_subcommands() {
        write_pages(sub, &format!("{name}-{}", sub.get_name()), folder, written)?;
    }
    Ok(())
}
