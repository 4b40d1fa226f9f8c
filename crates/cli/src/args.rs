//! The command line as plain values. Nothing here looks at files, the terminal or the environment.

use clap::{CommandFactory, FromArgMatches, Parser};

use crate::commands::Command;
use crate::global::Global;
use crate::help;

/// Declares, resolves, installs and keeps a team's third-party packages, for any language.
#[derive(Debug, Parser)]
#[command(name = "bibliotax", version, disable_help_subcommand = true, max_term_width = 100)]
pub struct Arguments {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
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
