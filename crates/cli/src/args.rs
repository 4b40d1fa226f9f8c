//! The command line as plain values. Nothing here looks at files, the terminal or the environment.

use std::path::PathBuf;

use clap::{Args, CommandFactory, FromArgMatches, Parser, Subcommand, ValueEnum};

use crate::{commands, help};

/// Declares, resolves, installs and keeps a team's third-party packages, for any language.
#[derive(Debug, Parser)]
#[command(name = "bibliotax", version, disable_help_subcommand = true, max_term_width = 100)]
pub struct Arguments {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

/// Options that every command has.
#[derive(Debug, Clone, Args)]
pub struct Global {
    /// Run as if in this folder
    #[arg(long, global = true, value_name = "DIR", help_heading = "Options of every command")]
    pub directory: Option<PathBuf>,
    /// Print results as text for people or as JSON for programs
    #[arg(
        long,
        global = true,
        value_name = "FORM",
        default_value = "text",
        help_heading = "Options of every command"
    )]
    pub format: Format,
    /// Print nothing but errors and what was asked for
    #[arg(long, short, global = true, conflicts_with = "verbose", help_heading = "Options of every command")]
    pub quiet: bool,
    /// Tell what is being done
    #[arg(long, short, global = true, action = clap::ArgAction::Count, help_heading = "Options of every command")]
    pub verbose: u8,
}

/// How results are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    Text,
    Json,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    Init(commands::init::Init),
    Need(commands::need::Need),
    Drop(commands::drop::Drop),
    Resolve(commands::resolve::Resolve),
    Install(commands::install::Install),
    Verify(commands::verify::Verify),
    Publish(commands::publish::Publish),
    Registry(commands::registry::Registry),
    Demo(commands::demo::Demo),
}

/// The command line of this process; ends it where only help was asked for or the words are wrong.
pub fn parse() -> Arguments {
    let matches = help::grouped(Arguments::command()).get_matches();
    Arguments::from_arg_matches(&matches).unwrap_or_else(|error| error.exit())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_sound() {
        help::grouped(Arguments::command()).debug_assert();
    }
}
