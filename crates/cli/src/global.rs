//! The options that every command has.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

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
