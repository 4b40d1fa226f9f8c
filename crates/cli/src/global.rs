//! The options that every command has.

use std::path::PathBuf;

use bibliotax_core::manifest::UseColor;
use clap::{Args, ValueEnum};

/// Options that every command has.
#[derive(Debug, Clone, Args)]
pub struct Global {
    /// Run as if started in this folder
    #[arg(long, global = true, value_name = "DIR", hide = true)]
    pub directory: Option<PathBuf>,
    /// Print results as text, as `json`, or in another format that the command has
    #[arg(long, global = true, value_name = "FORM", default_value = "text", hide = true)]
    pub format: Format,
    /// Use colours: where the output is a terminal, always, or never
    #[arg(long, global = true, value_name = "WHEN", hide = true)]
    pub color: Option<Color>,
    /// Don't use a pager for long output
    #[arg(long, global = true, hide = true)]
    pub no_pager: bool,
    /// Print only errors and requested values
    #[arg(long, short, global = true, conflicts_with = "verbose", hide = true)]
    pub quiet: bool,
    /// Show what is done; twice: each request, too
    #[arg(long, short, global = true, action = clap::ArgAction::Count, hide = true)]
    pub verbose: u8,
    /// Show the help of a command
    #[arg(long, short, global = true, action = clap::ArgAction::HelpShort, hide = true)]
    pub help: Option<bool>,
}

/// Where colours are used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Color {
    Auto,
    Always,
    Never,
}

impl From<UseColor> for Color {
    fn from(color: UseColor) -> Self {
        match color {
            UseColor::Auto => Self::Auto,
            UseColor::Always => Self::Always,
            UseColor::Never => Self::Never,
        }
    }
}

impl From<Color> for anstream::ColorChoice {
    fn from(color: Color) -> Self {
        match color {
            Color::Auto => Self::Auto,
            Color::Always => Self::Always,
            Color::Never => Self::Never,
        }
    }
}

/// How results are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    Text,
    Json,
    Markdown,
    Svg,
    Dot,
    Mermaid,
    Sarif,
    Csv,
}

impl Format {
    /// Its name on the command line.
    pub fn name(self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Json => "json",
            Self::Markdown => "markdown",
            Self::Svg => "svg",
            Self::Dot => "dot",
            Self::Mermaid => "mermaid",
            Self::Sarif => "sarif",
            Self::Csv => "csv",
        }
    }
}
