//! The command line as plain values. Nothing here looks at files, the terminal or the environment.

use std::ffi::OsString;

use bibliotax_core::shown::escaped;
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

/// The command line of this process; what to show where only help was asked for or the words are wrong.
pub fn parse() -> Result<Arguments, clap::Error> {
    let words: Vec<OsString> = std::env::args_os().collect();
    parsed(&words).map_err(|error| {
        // A script may have passed on what it was told: the message shows the words without what a terminal would act on.
        let shown: Vec<OsString> =
            words.iter().map(|word| escaped(&word.to_string_lossy()).into_owned().into()).collect();
        parsed(&shown).err().unwrap_or(error)
    })
}

fn parsed(words: &[OsString]) -> Result<Arguments, clap::Error> {
    let matches = help::grouped(Arguments::command()).try_get_matches_from(words)?;
    Arguments::from_arg_matches(&matches)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_sound() {
        help::grouped(Arguments::command()).debug_assert();
    }
}
